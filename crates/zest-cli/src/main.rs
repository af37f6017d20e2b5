//! `zest`: the command line over the ledger library.

mod args;
mod cores;
mod exit;
mod folder;
mod format;
mod out;
mod progress;
mod render;
mod revision;
mod run;
mod unknown;
mod whole;

use std::process::ExitCode;

use clap::Parser;
use clap::error::{ContextKind, ContextValue, ErrorKind};

use args::{Command, Zest};
use exit::Exit;
use out::{NotWritten, complain, put, say};
use unknown::Unknown;

fn main() -> ExitCode {
    let exit = match Zest::try_parse() {
        Ok(zest) => carry_out(&zest.command).unwrap_or_else(|error| failed(&error)),
        Err(error) => unparsed(&error),
    };
    match out::flush() {
        Ok(()) => exit.into(),
        Err(error) => failed(&error.into()).into(),
    }
}

fn carry_out(command: &Command) -> anyhow::Result<Exit> {
    match command {
        Command::Demo(args) => run::demo::run(args),
        Command::Ask(args) => run::ask::run(args),
        Command::Rehearse(args) => run::rehearse::run(args),
        Command::Effective(args) => run::effective::run(args),
        Command::Who(args) => run::who::run(args),
        Command::Compare(args) => run::compare::run(args),
        Command::Alike(args) => run::alike::run(args),
        Command::Expectations(args) => run::expectations::run(args),
        Command::Promises(args) => run::promises::run(args),
        Command::Ways(args) => run::ways::run(args),
        Command::Session(args) => run::session::run(args),
        Command::Visible(args) => run::visible::run(args),
        Command::Ready(args) => run::ready::run(args),
        Command::Obligations(args) => run::obligations::run(args),
        Command::Findings(args) => run::findings::run(args),
        Command::Emit(args) => run::server::emit(args),
        Command::Read(args) => run::server::read(args),
        Command::RollOut(args) => run::server::roll_out(args),
        Command::Trial(args) => run::server::trial(args),
        Command::Privileges(args) => run::privileges::run(args),
        Command::Schema => {
            say!("{:#}", zest_ledger::json_schema());
            Ok(Exit::Allowed)
        }
        Command::Completions { shell } => run::shell::completions(*shell),
        Command::Manual { folder } => run::shell::manual(folder),
    }
}

/// Says what went wrong, after what was printed before it.
fn failed(error: &anyhow::Error) -> Exit {
    // OK because a second failure to write says nothing new.
    let _ = out::flush();
    match (error.downcast_ref::<NotWritten>(), error.downcast_ref::<Unknown>()) {
        (Some(not_written), _) => {
            if !not_written.is_closed() {
                complain!("zest: {not_written}");
            }
            Exit::NotWritten
        }
        (_, Some(unknown)) => {
            complain!("zest: {unknown}");
            Exit::Unknown
        }
        _ => {
            complain!("zest: {error:#}");
            Exit::Unreadable
        }
    }
}

/// Prints help, or what is wrong with the command line. Status 0 means "allowed" to whoever asks: help that comes while
/// there is more on the line answers no question.
fn unparsed(error: &clap::Error) -> Exit {
    match error.kind() {
        ErrorKind::DisplayHelp | ErrorKind::DisplayVersion => {
            put!("{}", error.render().ansi());
            let given: Vec<String> = std::env::args().skip(1).collect();
            let asks = given.iter().any(|word| word == "ask");
            let is_last = given.last().is_some_and(|word| matches!(word.as_str(), "-h" | "--help" | "-V" | "--version"));
            if asks && !is_last && given.first().is_some_and(|word| word != "help") { Exit::Unknown } else { Exit::Allowed }
        }
        _ => {
            out::complain_of!("{}", error.render().ansi());
            if let Some(option) = in_the_line(error) {
                complain!(
                    "\n`{option}` stands behind the first word of the line, and so is part of it: options of ours stand before the line"
                );
            }
            Exit::Unknown
        }
    }
}

/// Returns an option that is missing though it was given: a line takes all that stands behind its first word.
fn in_the_line(error: &clap::Error) -> Option<String> {
    let missing = match error.get(ContextKind::InvalidArg)? {
        ContextValue::Strings(missing) if error.kind() == ErrorKind::MissingRequiredArgument => missing,
        _ => return None,
    };
    let mut options = missing.iter().filter_map(|usage| usage.split(' ').next()).filter(|word| word.starts_with("--"));
    let is_given =
        |option: &&str| std::env::args().any(|word| word.strip_prefix(option).is_some_and(|r| r.is_empty() || r.starts_with('=')));
    options.find(is_given).map(str::to_owned)
}
