//! Completions and manual pages, from the same definitions as the command line.

use std::fs;
use std::path::Path;

use anyhow::{Context, Result};
use clap::CommandFactory;

use crate::args::Zest;
use crate::exit::Exit;
use crate::out::put;

pub(crate) fn completions(shell: clap_complete::Shell) -> Result<Exit> {
    let mut text = Vec::new();
    clap_complete::generate(shell, &mut Zest::command(), "zest", &mut text);
    put!("{}", String::from_utf8_lossy(&text));
    Ok(Exit::Allowed)
}

pub(crate) fn manual(folder: &Path) -> Result<Exit> {
    fs::create_dir_all(folder).with_context(|| format!("making the folder {}", folder.display()))?;
    let mut zest = Zest::command();
    zest.build();
    page(&zest, "zest", folder)?;
    for command in zest.get_subcommands().filter(|c| c.get_name() != "help") {
        page(command, &format!("zest-{}", command.get_name()), folder)?;
    }
    Ok(Exit::Allowed)
}

fn page(command: &clap::Command, name: &str, folder: &Path) -> Result<()> {
    let mut text = Vec::new();
    clap_mangen::Man::new(command.clone().display_name(name)).title(name).render(&mut text)?;
    let path = folder.join(format!("{name}.1"));
    fs::write(&path, text).with_context(|| format!("writing {}", path.display()))
}
