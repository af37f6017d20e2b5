//! Lines of commands: reading them, patterns over them, and ordered lists of patterns as one automaton.
//!
//! Useful alone: nothing here knows a ledger.

pub mod alphabet;
pub mod automaton;
pub mod line;
pub mod pattern;
mod slots;
pub mod tree;

pub use line::{LineError, MAX_LINE_BYTES, MAX_LINE_WORDS, read_line};
pub use pattern::{Pattern, PatternError, Slot, WordPattern};
