//! The engine of Zest Ledger: people, groups, roles, assignments, conditions and a list of systems; changes as layers; and the
//! kinds network device, cloud, application and host.
//!
//! Users take it through `zest-ledger`, which says what of it is kept stable.

mod engine;
pub mod kind;
pub mod links;
pub mod vocabulary;

pub use engine::{
    Before, Candidate, Declared, Engine, Estate, Rows, classes, conditions, duties, entry, missing, named, obligations, prepared, remedies,
    rights, rules, trace, ways,
};
