//! Exit statuses, the same for every command. Scripts rely on them.

use std::process::ExitCode;

/// How a run ended.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) enum Exit {
    /// Allowed; or, for commands that do not ask, done.
    Allowed,
    /// Denied; or there are findings that count.
    Denied,
    /// The command line cannot be read, or names what is not there.
    Unknown,
    /// The ledger or the input cannot be read, or its errors stop answers.
    Unreadable,
    /// There was nothing to do: no question, no object.
    Nothing,
    /// A server could not be reached, or refused.
    #[cfg_attr(not(feature = "live"), expect(dead_code, reason = "only sessions on servers end so"))]
    Unreachable,
    /// Allowed after obligations.
    AllowedAfter,
    /// The output could not be written.
    NotWritten,
}

impl Exit {
    /// All statuses with their meaning, as the help shows them.
    pub(crate) const TABLE: &'static str = "\
Exit status:
  0  allowed; or done
  1  denied; or there are findings
  2  the command line cannot be read, or names a system, role, mode, code or kind that is not there
  3  the ledger or the input cannot be read
  4  nothing was checked
  5  a server cannot be reached, or refuses
  6  allowed after obligations
  7  the output cannot be written";

    const fn status(self) -> u8 {
        match self {
            Self::Allowed => 0,
            Self::Denied => 1,
            Self::Unknown => 2,
            Self::Unreadable => 3,
            Self::Nothing => 4,
            Self::Unreachable => 5,
            Self::AllowedAfter => 6,
            Self::NotWritten => 7,
        }
    }
}

impl From<Exit> for ExitCode {
    fn from(exit: Exit) -> Self {
        Self::from(exit.status())
    }
}
