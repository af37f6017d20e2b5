//! Data to text. Nothing here decides anything.

pub(crate) mod answer;
pub(crate) mod compare;
pub(crate) mod effective;
pub(crate) mod expectations;
pub(crate) mod findings;
pub(crate) mod people;
pub(crate) mod promises;
pub(crate) mod reasons;
pub(crate) mod rehearsal;
pub(crate) mod style;
pub(crate) mod table;
pub(crate) mod ways;
pub(crate) mod who;
