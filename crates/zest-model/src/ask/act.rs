//! The links of an acting chain: as another user, in a role, as an account of a host.

use std::fmt;

use jiff::Timestamp;

use super::FactError;
use crate::source::visible;

/// One link: as whom a session acts from there on.
///
/// # Example
/// ```
/// use zest_ledger::ask::Act;
/// let act: Act = "role:night-operator@2026-11-26T22:00:00Z".parse()?;
/// assert_eq!(act.to_string(), "in role night-operator");
/// assert!("night-operator".parse::<Act>().is_err());
/// # Ok::<(), zest_ledger::ask::FactError>(())
/// ```
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Act {
    /// As another user.
    User(String),
    /// In a role that was assumed.
    Role {
        /// The role.
        name: String,
        /// When it was assumed; at the moment of the question unless stated.
        since: Option<Timestamp>,
    },
    /// As an account of a host.
    Account {
        /// The host; the one that is asked about unless stated.
        host: Option<String>,
        /// The login.
        login: String,
        /// What runs as the account.
        running: Running,
    },
}

/// What runs as an account of a host.
///
/// # Example
/// ```
/// use zest_ledger::ask::{Act, Running};
/// let runs = |text: &str| match text.parse() {
///     Ok(Act::Account { running, .. }) => running,
///     other => panic!("{other:?}"),
/// };
/// assert_eq!(runs("account:batch"), Running::TheLine);
/// assert_eq!(runs("shell:batch"), Running::LoginShell);
/// assert_eq!(runs("account:batch /opt/jobs/run"), Running::Line("/opt/jobs/run".to_owned()));
/// ```
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Running {
    /// The line of the question, and nothing else.
    TheLine,
    /// The account's login shell, in which the line of the question is typed.
    LoginShell,
    /// This line, from which the session goes on elsewhere.
    Line(String),
}

impl std::str::FromStr for Act {
    type Err = FactError;

    /// Reads `user:ID`, `role:ID`, `role:ID@MOMENT`, `account:LOGIN`, `account:HOST/LOGIN LINE` or `shell:HOST/LOGIN`.
    fn from_str(text: &str) -> Result<Self, FactError> {
        Self::read(text).map_err(FactError::new)
    }
}

impl Act {
    fn read(text: &str) -> Result<Self, String> {
        let wrong = || {
            format!(
                "`{}` is not one of user:ID, role:ID, role:ID@MOMENT, account:[HOST/]LOGIN [LINE] and shell:[HOST/]LOGIN",
                visible(text)
            )
        };
        let (kind, rest) = text.split_once(':').filter(|(_, rest)| !rest.is_empty()).ok_or_else(wrong)?;
        let account = |name: &str, running: Running| {
            let (host, login) = name.split_once('/').map_or((None, name), |(host, login)| (Some(host.to_owned()), login));
            Self::Account { host, login: login.to_owned(), running }
        };
        Ok(match kind {
            "user" => Self::User(rest.to_owned()),
            "role" => match rest.split_once('@') {
                Some((name, moment)) => {
                    let since = moment.parse().map_err(|_| format!("`{}` is not a moment with its offset", visible(moment)))?;
                    Self::Role { name: name.to_owned(), since: Some(since) }
                }
                None => Self::Role { name: rest.to_owned(), since: None },
            },
            "account" => match rest.split_once(' ') {
                Some((name, line)) => account(name, Running::Line(line.trim().to_owned())),
                None => account(rest, Running::TheLine),
            },
            "shell" => account(rest, Running::LoginShell),
            _ => return Err(wrong()),
        })
    }
}

impl Act {
    /// Returns as whom, without the preposition: "user batch", "role night-operator", "account batch on runner-1".
    ///
    /// # Example
    /// ```
    /// use zest_ledger::ask::Act;
    /// assert_eq!("account:runner-1/batch".parse::<Act>()?.whom(), "account batch on runner-1");
    /// # Ok::<(), zest_ledger::ask::FactError>(())
    /// ```
    #[must_use]
    pub fn whom(&self) -> String {
        match self {
            Self::User(name) => format!("user {}", visible(name)),
            Self::Role { name, .. } => format!("role {}", visible(name)),
            Self::Account { host: None, login, .. } => format!("account {}", visible(login)),
            Self::Account { host: Some(host), login, .. } => format!("account {} on {}", visible(login), visible(host)),
        }
    }

    /// Returns the text that [`FromStr`](std::str::FromStr) reads.
    #[must_use]
    pub fn written(&self) -> String {
        let on = |host: &Option<String>| host.as_ref().map_or(String::new(), |h| format!("{h}/"));
        match self {
            Self::User(name) => format!("user:{name}"),
            Self::Role { name, since: None } => format!("role:{name}"),
            Self::Role { name, since: Some(at) } => format!("role:{name}@{at}"),
            Self::Account { host, login, running: Running::LoginShell } => format!("shell:{}{login}", on(host)),
            Self::Account { host, login, running: Running::Line(line) } => format!("account:{}{login} {line}", on(host)),
            Self::Account { host, login, running: Running::TheLine } => format!("account:{}{login}", on(host)),
        }
    }
}

impl fmt::Display for Act {
    /// Writes the link for people: "as user batch", "in role night-operator", "as account batch on runner-1".
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let how = if matches!(self, Self::Role { .. }) { "in" } else { "as" };
        write!(f, "{how} {}", self.whom())
    }
}
