//! How a ledger and a server differ, and the statements that make the server agree.

/// On which side something stands that the other has not.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub enum Side {
    /// The server has it.
    Server,
    /// The ledger has it.
    Ledger,
}

/// Something that stands on one side only.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Drift {
    /// The side that has it.
    pub side: Side,
    /// What it is, in a line.
    pub what: String,
}

/// One statement of a roll-out.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Step {
    /// The statement, in the server's SQL, without its semicolon.
    pub sql: String,
}

/// Tells what differs in an object's definition.
pub(crate) fn left_alone(name: &str, now: &[String], wanted: &[String]) -> Vec<String> {
    let only = |one: &[String], other: &[String]| one.iter().filter(|part| !other.contains(part)).cloned().collect::<Vec<_>>();
    let on_server = only(now, wanted).into_iter().map(|part| format!("{name}: the server has {part}"));
    on_server.chain(only(wanted, now).into_iter().map(|part| format!("{name}: the ledger has {part}"))).collect()
}
