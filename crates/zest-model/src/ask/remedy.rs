//! Remedies: smallest changes that turn a refusal round.

use super::{Change, Verdict};
use crate::source::Location;

/// A smallest change, or a few together, that turns a refusal round.
#[derive(Clone, Debug, PartialEq)]
pub struct Remedy {
    /// The changes, in order; none of them can be left out.
    pub steps: Vec<Step>,
    /// The verdict with the changes applied: allowed, or allowed after obligations.
    pub verdict: Verdict,
    #[doc(hidden)]
    pub more: crate::More,
}

/// One change of a remedy.
#[derive(Clone, Debug, PartialEq)]
pub struct Step {
    /// What to change.
    pub change: Change,
    /// The change as a clause: "at level 7".
    pub text: String,
    /// Where in the ledger a change of the ledger would be made.
    pub location: Option<Location>,
    #[doc(hidden)]
    pub more: crate::More,
}
