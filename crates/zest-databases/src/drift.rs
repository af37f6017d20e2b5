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
