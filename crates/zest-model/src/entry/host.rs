//! Hosts: accounts with shells, who may run what as which account, and jobs.

use jiff::{SignedDuration, Timestamp};

use super::builders;
use crate::source::{At, Place};

/// What one host holds; a ledger may spread it over documents, and the parts are put together.
///
/// # Example
/// ```
/// use zest_ledger::entry::{Host, HostAccount, RunAs};
/// let host = Host::new("runner")
///     .account(HostAccount::new("op-1"))
///     .account(HostAccount::new("batch").shell("/usr/sbin/nologin"))
///     .run_as(RunAs::new(&["user:op-1"], &["batch"], &["nightly"]).without_proof());
/// assert_eq!(host.accounts.len(), 2);
/// ```
#[derive(Clone, Debug)]
#[non_exhaustive]
pub struct Host {
    /// The system it is on.
    pub system: At<String>,
    /// Accounts.
    pub accounts: Vec<HostAccount>,
    /// Who may run what as which account, in order: the first rule that matches a line decides.
    pub run_as: Vec<RunAs>,
    /// Jobs that run by themselves.
    pub jobs: Vec<Job>,
    /// Directories that lead to others: `/bin` to `/usr/bin`.
    pub links: Vec<(At<String>, At<String>)>,
    /// Variables that may be handed over to whatever runs as another account.
    pub keep_environment: Vec<At<String>>,
    /// How long a proof of identity is good for running as another account; for one line only unless stated.
    pub proof_lasts: Option<At<SignedDuration>>,
}

impl Host {
    /// Makes an empty one for a system.
    #[track_caller]
    #[must_use]
    pub fn new(system: &str) -> Self {
        Self::at(At::here(system.to_owned()))
    }

    pub(crate) const fn at(system: At<String>) -> Self {
        Self {
            system,
            accounts: Vec::new(),
            run_as: Vec::new(),
            jobs: Vec::new(),
            links: Vec::new(),
            keep_environment: Vec::new(),
            proof_lasts: None,
        }
    }

    /// Adds an account.
    #[must_use]
    pub fn account(mut self, account: HostAccount) -> Self {
        self.accounts.push(account);
        self
    }

    /// Adds a rule of running as another account.
    #[must_use]
    pub fn run_as(mut self, rule: RunAs) -> Self {
        self.run_as.push(rule);
        self
    }

    builders! {
        /// Lets a variable be handed over.
        keep_environment(name: &str) => keep_environment adds name.to_owned();
    }
}

/// An account of a host.
#[derive(Clone, Debug)]
#[non_exhaustive]
pub struct HostAccount {
    /// The login.
    pub login: At<String>,
    /// A free remark.
    pub remark: Option<At<String>>,
    /// The login shell; `/bin/bash` unless stated.
    pub shell: Option<At<String>>,
    /// Who may use it besides the user of the same name: `user:ID` or `group:ID`.
    pub used_by: Vec<At<String>>,
    /// Origins it is admitted from; any unless stated.
    pub origin: Option<Vec<At<String>>>,
    /// Whether it is locked.
    pub locked: Option<At<bool>>,
    /// First moment at which nobody can sign in with it any more.
    pub until: Option<At<Timestamp>>,
    /// Command sets: only their lines may be run as the account, and nobody signs in with it.
    pub commands: Vec<At<String>>,
    /// Command sets of one user or group on this account; they come before those of everybody.
    pub commands_of: Vec<(At<String>, Vec<At<String>>)>,
    /// Whether identity must be proven to run those lines; yes unless stated.
    pub proof: Option<At<bool>>,
}

impl HostAccount {
    /// The login shell of an account that states none.
    pub const DEFAULT_SHELL: &str = "/bin/bash";

    /// Makes an account.
    #[track_caller]
    #[must_use]
    pub fn new(login: &str) -> Self {
        Self::at(At::here(login.to_owned()))
    }

    pub(crate) const fn at(login: At<String>) -> Self {
        Self {
            login,
            remark: None,
            shell: None,
            used_by: Vec::new(),
            origin: None,
            locked: None,
            until: None,
            commands: Vec::new(),
            commands_of: Vec::new(),
            proof: None,
        }
    }

    /// Returns the login shell.
    #[must_use]
    pub fn shell_path(&self) -> &str {
        self.shell.as_ref().map_or(Self::DEFAULT_SHELL, |s| &s.value)
    }

    builders! {
        /// Sets the login shell.
        shell(path: &str) => shell sets path.to_owned();
        /// Adds somebody who may use it: `user:ID` or `group:ID`.
        used_by(reference: &str) => used_by adds reference.to_owned();
        /// Locks or unlocks it.
        locked(yes: bool) => locked sets yes;
        /// Adds a command set to which the account is limited.
        commands(set: &str) => commands adds set.to_owned();
    }
}

/// Who may run what as which account.
#[derive(Clone, Debug)]
#[non_exhaustive]
pub struct RunAs {
    /// Where it is written.
    pub place: Place,
    /// Who, from their own account: `user:ID`, `group:ID` or `account:LOGIN`.
    pub by: Vec<At<String>>,
    /// As which accounts.
    pub target: Vec<At<String>>,
    /// Command sets whose lines may be run.
    pub commands: Vec<At<String>>,
    /// Whether identity must be proven first; yes unless stated.
    pub proof: Option<At<bool>>,
    /// Whether any variable may be handed over; no unless stated.
    pub any_environment: Option<At<bool>>,
    /// Why it is there.
    pub because: Option<At<String>>,
}

impl RunAs {
    /// Makes a rule.
    #[track_caller]
    #[must_use]
    pub fn new(by: &[&str], target: &[&str], commands: &[&str]) -> Self {
        let mut rule = Self::at(Place::here());
        for (list, texts) in [(&mut rule.by, by), (&mut rule.target, target), (&mut rule.commands, commands)] {
            for text in texts {
                list.push(At::here((*text).to_owned()));
            }
        }
        rule
    }

    pub(crate) const fn at(place: Place) -> Self {
        Self { place, by: Vec::new(), target: Vec::new(), commands: Vec::new(), proof: None, any_environment: None, because: None }
    }

    /// Says that identity need not be proven.
    #[track_caller]
    #[must_use]
    pub fn without_proof(mut self) -> Self {
        self.proof = Some(At::here(false));
        self
    }
}

/// A job that runs by itself.
#[derive(Clone, Debug)]
#[non_exhaustive]
pub struct Job {
    /// The name.
    pub name: At<String>,
    /// The account it runs as.
    pub runs_as: Option<At<String>>,
    /// The line it runs.
    pub line: Option<At<String>>,
    /// Who may edit what it runs: `user:ID` or `group:ID`.
    pub edited_by: Vec<At<String>>,
}

impl Job {
    pub(crate) const fn at(name: At<String>) -> Self {
        Self { name, runs_as: None, line: None, edited_by: Vec::new() }
    }
}
