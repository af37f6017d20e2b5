//! `zest`: the command line over the ledger library.

mod args;
mod exit;
mod folder;
mod render;
mod run;

use std::process::ExitCode;

use clap::Parser;

use args::{Command, Zest};
use exit::Exit;

fn main() -> ExitCode {
    let zest = Zest::parse();
    let done = match &zest.command {
        Command::Ask(args) => run::ask::run(args),
    };
    match done {
        Ok(exit) => exit.into(),
        Err(error) => {
            anstream::eprintln!("zest: {error:#}");
            Exit::Unreadable.into()
        }
    }
}
