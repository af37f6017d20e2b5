//! Random but realistic database estates.

pub mod administered;
mod along;
pub mod mariadb;
pub mod postgresql;

/// Names with everything in them that quoting must survive.
pub(crate) const ODD: &[&str] =
    &["Fare Desk", "o'pier", "a.b", "per%cent", "under_score", "Größe", "with\"quote", "UPPER", "select", "bäck\\slash"];
