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

/// Lists what stands on one side only: what the server alone has, then what the ledger alone has.
pub(crate) fn on_one_side<'a>(server: &'a [String], ledger: &'a [String]) -> impl Iterator<Item = (Side, &'a String)> {
    let only =
        |side: Side, one: &'a [String], other: &'a [String]| one.iter().filter(|part| !other.contains(part)).map(move |part| (side, part));
    only(Side::Server, server, ledger).chain(only(Side::Ledger, ledger, server))
}

/// Tells what differs in an object's definition.
pub(crate) fn left_alone(name: &str, server: &[String], ledger: &[String]) -> Vec<String> {
    let told = |(side, part): (Side, &String)| match side {
        Side::Server => format!("{name}: the server has {part}"),
        Side::Ledger => format!("{name}: the ledger has {part}"),
    };
    on_one_side(server, ledger).map(told).collect()
}
