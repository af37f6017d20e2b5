//! How a ledger and a server differ, and the statements that make the server agree.

/// On which side something stands that the other has not.
///
/// # Example
/// ```
/// use zest_ledger::{Ledger, drift::Side, mariadb::{State, state_of}};
/// # let text = r#"
/// # [systems.loyalty]
/// # kind = "mariadb"
/// # [databases.loyalty.accounts]
/// # "desk@localhost" = {}
/// # "#;
/// # let wanted = state_of(&Ledger::new().document("loyalty.toml", text).estate()?, "loyalty", None).expect("it is declared");
/// assert!(State::fresh().drift(&wanted).iter().any(|drift| drift.side == Side::Ledger));
/// # Ok::<(), zest_ledger::finding::Findings>(())
/// ```
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub enum Side {
    /// The server has it.
    Server,
    /// The ledger has it.
    Ledger,
}

/// Something that stands on one side only.
///
/// # Example
/// ```
/// use zest_ledger::{Ledger, mariadb::{State, state_of}};
/// # let text = r#"
/// # [systems.loyalty]
/// # kind = "mariadb"
/// # [databases.loyalty.accounts]
/// # "desk@localhost" = {}
/// # "#;
/// # let wanted = state_of(&Ledger::new().document("loyalty.toml", text).estate()?, "loyalty", None).expect("it is declared");
/// assert!(State::fresh().drift(&wanted).iter().any(|drift| drift.what.contains("desk")));
/// # Ok::<(), zest_ledger::finding::Findings>(())
/// ```
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Drift {
    /// The side that has it.
    pub side: Side,
    /// What it is, in a line.
    pub what: String,
}

/// One statement of a roll-out.
///
/// # Example
/// ```
/// use zest_ledger::{Ledger, postgresql::{State, state_of}};
/// let text = "systems.fares.kind = 'postgresql'\ndatabases.fares.accounts.clerk-1 = {}\n";
/// let wanted = state_of(&Ledger::new().document("fares.toml", text).estate()?, "fares", None).expect("it is declared");
/// assert!(State::fresh("fares", "postgres").steps_to(&wanted, "postgres").iter().any(|step| step.sql.starts_with("CREATE ROLE")));
/// # Ok::<(), zest_ledger::finding::Findings>(())
/// ```
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
