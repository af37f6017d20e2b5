//! Data to text. Nothing here decides anything.

pub(crate) mod answer;
pub(crate) mod findings;
pub(crate) mod style;
