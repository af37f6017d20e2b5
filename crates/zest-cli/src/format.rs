//! The forms in which the program prints: every command that lists or answers something has all of them, and one place prints it. A
//! form for programs is made of the command's data, and a table of its rows, so that a new form is there in all commands at once.

use clap::ValueEnum;
use serde::Serialize;
use serde_json::Value;

use crate::out::{complain, put, say};
use crate::render::table::Table;

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
    /// For a spreadsheet: comma-separated values, a line for each single thing
    Csv,
    /// For a ticket or a pull request
    Markdown,
}

impl Format {
    /// Prints what a command found: `text` prints it for people, `data` is what programs read, `table` the same in rows.
    pub(crate) fn print(self, data: impl FnOnce() -> Value, table: impl FnOnce() -> Table, text: impl FnOnce()) {
        match self {
            Self::Text => text(),
            Self::Json => say!("{:#}", data()),
            Self::Csv => {
                let table = table();
                put!("{}", table.values());
                table.remarks().iter().for_each(|remark| complain!("zest: {}", zest_ledger::source::visible(remark)));
            }
            Self::Markdown => put!("{}", table().markdown()),
        }
    }

    /// Returns whether remarks belong to the standard error, since what is printed is read by programs or pasted elsewhere.
    pub(crate) const fn is_data(self) -> bool {
        match self {
            Self::Text => false,
            Self::Json | Self::Csv | Self::Markdown => true,
        }
    }
}
