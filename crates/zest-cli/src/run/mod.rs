//! One module a command: from arguments to an exit status.

pub(crate) mod alike;
pub(crate) mod ask;
pub(crate) mod compare;
mod console;
pub(crate) mod demo;
pub(crate) mod effective;
pub(crate) mod expectations;
pub(crate) mod findings;
mod line;
#[cfg(feature = "live")]
mod live;
pub(crate) mod obligations;
mod opened;
pub(crate) mod privileges;
pub(crate) mod promises;
pub(crate) mod ready;
pub(crate) mod rehearse;
mod selection;
pub(crate) mod server;
pub(crate) mod session;
pub(crate) mod shell;
mod sought;
mod statements;
#[cfg(feature = "live")]
mod trial;
mod turned;
mod verdicts;
pub(crate) mod visible;
pub(crate) mod ways;
pub(crate) mod who;

use std::path::{Path, PathBuf};

use zest_ledger::estate::Estate;
use zest_ledger::finding::Findings;
use zest_ledger::{Engine, Validated};

use crate::exit::Exit;
use crate::out::{complain, complain_of};
use crate::{folder, progress, render, revision};

/// Compiles an estate, and says so where it takes long.
pub(crate) fn compiled(estate: Estate) -> Result<Engine, Findings> {
    progress::during("compiling the ledger", || Engine::compile(estate))
}

/// Reads and compiles a ledger, or prints what stops that.
///
/// The engine is kept until the program ends: nobody waits for it to be taken apart, which takes a second where it is large.
pub(crate) fn engine(folder: &Path) -> Result<&'static Engine, Exit> {
    engine_with(folder, &[])
}

/// Reads and compiles a ledger with documents beside it, or prints what stops that.
pub(crate) fn engine_with(folder: &Path, beside: &[PathBuf]) -> Result<&'static Engine, Exit> {
    kept(folder::engine(folder, beside), &folder.display().to_string())
}

/// Reads a ledger as it was, in another folder or at a revision of its own; nothing where neither is stated.
pub(crate) fn as_it_was(now: &Path, was: Option<&Path>, was_at: Option<&str>) -> anyhow::Result<Option<Result<&'static Engine, Exit>>> {
    Ok(match (was, was_at) {
        (_, Some(at)) => Some(engine_of(revision::read(now, at)?, &format!("{} at {at}", now.display()))),
        (Some(folder), None) => Some(engine(folder)),
        (None, None) => None,
    })
}

/// Compiles a ledger that was read, or prints what stops that; `name` says which it is.
pub(crate) fn engine_of(validated: Validated, name: &str) -> Result<&'static Engine, Exit> {
    kept(validated.estate.ok_or(validated.findings).and_then(compiled), name)
}

/// Keeps an engine until the program ends, or prints what stops that.
fn kept(engine: Result<Engine, Findings>, name: &str) -> Result<&'static Engine, Exit> {
    let stopped = match engine {
        Ok(engine) => return Ok(Box::leak(Box::new(engine))),
        Err(findings) => findings,
    };
    complain_of!("{}", render::findings::render(&stopped));
    complain!("the ledger in `{name}` has errors, so no question about it is answered");
    Err(Exit::Unreadable)
}
