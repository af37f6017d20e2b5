//! The forms in which the program prints: every command that takes `--format` says here what it has, and one place prints it. A
//! form for programs is made of the command's data, so that it is there in all commands at once.

use clap::ValueEnum;
use serde::Serialize;
use serde_json::Value;
use zest_ledger::review::Effective;

use crate::out::{put, say};
use crate::render::table;

/// Returns what has a form for programs, to print it or to add to it.
pub(crate) fn data(value: &impl Serialize) -> Value {
    serde_json::to_value(value).expect("keys are texts, and nothing else can fail")
}

/// Adds the same to a text, as one line without its end.
pub(crate) fn add(value: &impl Serialize, text: &mut Vec<u8>) {
    serde_json::to_writer(text, value).expect("keys are texts, and nothing else can fail");
}

/// How to print.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, ValueEnum)]
pub(crate) enum Format {
    /// For people
    #[default]
    Text,
    /// For programs
    Json,
}

/// How to print a list of rights.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, ValueEnum)]
pub(crate) enum Listing {
    /// For people
    #[default]
    Text,
    /// For programs
    Json,
    /// For a spreadsheet: one line for each person, system and action
    Csv,
}

impl Listing {
    /// Prints rights: `text` prints them for people, `data` is what programs read.
    pub(crate) fn print(self, rights: &[Effective], data: impl FnOnce() -> Value, text: impl FnOnce()) {
        match self {
            Self::Text => Format::Text.print(data, text),
            Self::Json => Format::Json.print(data, text),
            Self::Csv => put!("{}", table::of(rights)),
        }
    }
}

impl Format {
    /// Prints what a command found: `text` prints it for people, `data` is what programs read.
    pub(crate) fn print(self, data: impl FnOnce() -> Value, text: impl FnOnce()) {
        match self {
            Self::Text => text(),
            Self::Json => say!("{:#}", data()),
        }
    }

    /// Returns whether programs read it, so that remarks belong to the standard error.
    pub(crate) const fn is_data(self) -> bool {
        match self {
            Self::Text => false,
            Self::Json => true,
        }
    }
}
