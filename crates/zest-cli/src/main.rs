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
        Command::Demo(args) => run::demo::run(args),
        Command::Ask(args) => run::ask::run(args),
        Command::Rehearse(args) => run::rehearse::run(args),
        Command::Effective(args) => run::effective::run(args),
        Command::Session(args) => run::session::run(args),
        Command::Ready(args) => run::ready::run(args),
        Command::Obligations(args) => run::obligations::run(args),
        Command::Findings(args) => run::findings::run(args),
        Command::Emit(args) => run::server::emit(args),
        Command::Read(args) => run::server::read(args),
        Command::RollOut(args) => run::server::roll_out(args),
        Command::Privileges(args) => run::privileges::run(args),
        Command::Schema => {
            anstream::println!("{:#}", zest_ledger::json_schema());
            Ok(Exit::Allowed)
        }
        Command::Completions { shell } => run::shell::completions(*shell),
        Command::Manual { folder } => run::shell::manual(folder),
    };
    match done {
        Ok(exit) => exit.into(),
        Err(error) => {
            anstream::eprintln!("zest: {error:#}");
            Exit::Unreadable.into()
        }
    }
}
