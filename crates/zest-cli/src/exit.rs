//! Exit statuses, the same for every command. Scripts rely on them.

use std::process::ExitCode;

/// How a run ended.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) enum Exit {
    /// Allowed; or, for commands that do not ask, done.
    Allowed,
    /// Denied; or there are findings that count.
    Denied,
    /// The ledger or the input cannot be read, or its errors stop answers.
    Unreadable,
    /// There was nothing to do: no question, no such user.
    Nothing,
    /// A server could not be reached, or refused.
    #[cfg_attr(not(feature = "live"), expect(dead_code, reason = "only sessions on servers end so"))]
    Unreachable,
    /// Allowed after obligations.
    AllowedAfter,
}

impl Exit {
    /// All statuses with their meaning, as the help shows them. 2 is given by the argument parser.
    pub(crate) const TABLE: &'static str = "\
Exit status:
  0  allowed; or done
  1  denied; or there are findings
  2  the command line cannot be read
  3  the ledger or the input cannot be read
  4  nothing was checked
  5  a server cannot be reached, or refuses
  6  allowed after obligations";

    const fn status(self) -> u8 {
        match self {
            Self::Allowed => 0,
            Self::Denied => 1,
            Self::Unreadable => 3,
            Self::Nothing => 4,
            Self::Unreachable => 5,
            Self::AllowedAfter => 6,
        }
    }
}

impl From<Exit> for ExitCode {
    fn from(exit: Exit) -> Self {
        Self::from(exit.status())
    }
}
