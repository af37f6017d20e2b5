//! What can go wrong between us and a server.

/// A bridge could not do its work.
///
/// # Example
/// ```
/// use zest_bridges::{BridgeError, mariadb::{Session, Target}};
/// let nowhere = Target { host: "/run/lanternsound/no.sock".into(), user: "auditor".into(), ..Target::default() };
/// let error = Session::open(&nowhere).err().expect("nobody listens there");
/// assert!(matches!(error, BridgeError::Connect { .. }));
/// assert!(error.to_string().starts_with("cannot open a session on /run/lanternsound/no.sock: "));
/// ```
#[derive(Debug, thiserror::Error)]
#[non_exhaustive]
pub enum BridgeError {
    /// The server cannot be reached, or refuses the session.
    #[error("cannot open a session on {target}: {reason}")]
    Connect {
        /// The server.
        target: String,
        /// Its own words.
        reason: String,
    },
    /// The server is of a version whose rules are not known.
    #[error("{target} is {found}; this program knows the rules of {known}")]
    Version {
        /// The server.
        target: String,
        /// Its version.
        found: String,
        /// The known one.
        known: &'static str,
    },
    /// The server refused a query of the reader.
    #[error("reading {what}: {reason}")]
    Read {
        /// What was being read.
        what: &'static str,
        /// The server's own words.
        reason: String,
    },
    /// A statement of a roll-out failed.
    #[error("statement {number} of {of} failed: {reason}\n  {sql}\n{state}")]
    Statement {
        /// Its number, from 1.
        number: usize,
        /// How many there were.
        of: usize,
        /// The statement.
        sql: String,
        /// The server's own words.
        reason: String,
        /// What was done before, and what of it holds.
        state: String,
    },
    /// The roll-out was not begun.
    #[error("nothing was changed: {0}")]
    Refused(String),
}
