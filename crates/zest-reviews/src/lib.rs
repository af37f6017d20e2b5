//! The rules of an engine seen from other sides than one question: effective permissions, readiness, sessions, findings, and
//! rehearsals.
//!
//! Users take it through `zest-ledger`, which says what of it is kept stable.

pub mod expectation;
pub mod promise;
pub mod rehearsal;
pub mod review;
mod row;
pub mod ways;
