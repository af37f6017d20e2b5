//! Command lines: reading them, patterns over them, vocabularies, and command sets as automata.

pub(crate) mod alphabet;
pub(crate) mod automaton;
pub(crate) mod line;
pub(crate) mod pattern;
pub(crate) mod vocabulary;

pub use line::{LineError, MAX_LINE_BYTES, MAX_LINE_WORDS, read_line};
pub use pattern::{Pattern, PatternError, Slot, WordPattern};
