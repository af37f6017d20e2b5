//! Hosts: accounts with shells, who may run what as which account, and jobs.

use jiff::{SignedDuration, Timestamp};

use super::builders;
use crate::shape::{NETWORKS, PARTIES, RUNNERS, Shape, TEXTS};
use crate::source::{At, Place};
use crate::written::table;

table! {
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
    Host {
        /// The system it is on.
        system: At<String>,
    }, HOST: "a host", "What one host holds. May be spread over documents.", &[];

    /// Accounts.
    accounts: Vec<HostAccount> = "accounts", Shape::Map(&Shape::Table(&HOST_ACCOUNT)), "accounts, by login";
    /// Who may run what as which account, in order: the first rule that matches a line decides.
    run_as: Vec<RunAs> = "run-as", Shape::List(&Shape::Table(&RUN_AS)), "who may run what as which account; the first rule that matches a line decides";
    /// Jobs that run by themselves.
    jobs: Vec<Job> = "jobs", Shape::Map(&Shape::Table(&JOB)), "jobs that run by themselves, by name";
    /// Folders and files, and who may write there beside whoever administers the host: whatever runs from there runs what they wrote.
    writable_by: Vec<(At<String>, Vec<At<String>>)> = "writable-by", Shape::Map(&PARTIES), "who may write to folders and files: \"/opt/tides\" = [\"group:ID\"]";
    /// Directories that lead to others: `/bin` to `/usr/bin`.
    links: Vec<(At<String>, At<String>)> = "links", Shape::Map(&Shape::Text), "directories that lead to others: \"/bin\" = \"/usr/bin\"";
    /// Variables that may be handed over to whatever runs as another account.
    keep_environment: Vec<At<String>> = "keep-environment", TEXTS, "variables that may be handed over to whatever runs as another account";
    /// How long a proof of identity is good for running as another account; for one line only unless stated.
    proof_lasts: Option<At<SignedDuration>> = "proof-lasts", Shape::Length, "how long a proof is good for running as another account, in whole minutes; for one line unless stated";
}

impl Host {
    /// Makes an empty one for a system.
    #[track_caller]
    #[must_use]
    pub fn new(system: &str) -> Self {
        Self::at(At::here(system.to_owned()))
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

table! {
    /// An account of a host.
    ///
    /// # Example
    /// ```
    /// use zest_ledger::entry::HostAccount;
    /// let batch = HostAccount::new("batch").shell("/usr/sbin/nologin").used_by("group:crew").locked(false).commands("jobs");
    /// assert_eq!(batch.shell_path(), "/usr/sbin/nologin");
    /// assert_eq!(HostAccount::new("watch-1").shell_path(), HostAccount::DEFAULT_SHELL);
    /// ```
    HostAccount {
        /// The login.
        login: At<String>,
    }, HOST_ACCOUNT: "an account of a host", "An account of a host.", &[];

    /// A free remark.
    remark: Option<At<String>> = "remark", Shape::Text, "a free remark";
    /// The login shell; `/bin/bash` unless stated.
    shell: Option<At<String>> = "shell", Shape::Text, "the login shell; /bin/bash unless stated";
    /// Who may use it besides the user of the same name: `user:ID` or `group:ID`.
    used_by: Vec<At<String>> = "used-by", PARTIES, "who may use it besides the user of the same name: \"user:ID\" or \"group:ID\"";
    /// Origins it is admitted from; any unless stated.
    origin: Option<Vec<At<String>>> = "origin", NETWORKS, "where it is admitted from: addresses, networks, \"origin:ID\"; anywhere unless stated";
    /// Whether it is locked.
    locked: Option<At<bool>> = "locked", Shape::Flag, "whether it is locked";
    /// First moment at which nobody can sign in with it any more.
    until: Option<At<Timestamp>> = "until", Shape::Moment, "end of validity: a date is good through its last moment, UTC";
    /// Command sets: only their lines may be run as the account, and nobody signs in with it.
    commands: Vec<At<String>> = "commands", TEXTS, "command sets: only their lines may be run as the account, by whoever uses it, and nobody signs in with it";
    /// Command sets of one user or group on this account; they come before those of everybody.
    commands_of: Vec<(At<String>, Vec<At<String>>)> = "commands-of", Shape::Map(&TEXTS), "command sets of one user or group on this account; they come before `commands`";
    /// Whether identity must be proven to run those lines; yes unless stated.
    proof: Option<At<bool>> = "proof", Shape::Flag, "whether identity must be proven to run those lines; true unless stated";
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

table! {
    /// Who may run what as which account.
    ///
    /// # Example
    /// ```
    /// use zest_ledger::entry::{Host, RunAs};
    /// let rule = RunAs::new(&["group:crew"], &["batch"], &["jobs"]).without_proof();
    /// let host = Host::new("runner").run_as(rule).keep_environment("TZ");
    /// assert_eq!(host.run_as[0].by[0].value, "group:crew");
    /// ```
    RunAs {
        /// Where it is written.
        place: Place,
    }, RUN_AS: "a rule of running as another account", "Who may run what as which account.", &[];

    /// Who, from their own account: `user:ID`, `group:ID` or `account:LOGIN`.
    by: Vec<At<String>> = required "by", RUNNERS, "who, from their own account: \"user:ID\", \"group:ID\" or \"account:LOGIN\"";
    /// As which accounts.
    target: Vec<At<String>> = required "as", TEXTS, "as which accounts";
    /// Command sets whose lines may be run.
    commands: Vec<At<String>> = required "commands", TEXTS, "command sets whose lines may be run; a line begins with the full path of a program";
    /// Whether identity must be proven first; yes unless stated.
    proof: Option<At<bool>> = "proof", Shape::Flag, "whether identity must be proven first; true unless stated";
    /// Whether any variable may be handed over; no unless stated.
    any_environment: Option<At<bool>> = "any-environment", Shape::Flag, "whether any variable may be handed over; false unless stated";
    /// Why it is there.
    because: Option<At<String>> = "because", Shape::Text, "why the entry is there";
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

    /// Says that identity need not be proven.
    #[track_caller]
    #[must_use]
    pub fn without_proof(mut self) -> Self {
        self.proof = Some(At::here(false));
        self
    }
}

table! {
    /// A job that runs by itself.
    ///
    /// # Example
    /// ```
    /// use zest_ledger::Ledger;
    /// let text = r#"
    /// users.op-1.proofs = ["key"]
    /// [systems.runner]
    /// kind = "host"
    /// no-command-set = "nothing"
    /// [hosts.runner]
    /// accounts = { batch = {} }
    /// jobs.nightly = { runs-as = "batch", line = "/usr/local/bin/nightly", edited-by = ["user:op-1"] }
    /// "#;
    /// let estate = Ledger::new().document("runner.toml", text).estate()?;
    /// let job = &estate.entries().hosts[0].jobs[0];
    /// assert_eq!((job.name.value.as_str(), job.edited_by[0].value.as_str()), ("nightly", "user:op-1"));
    /// # Ok::<(), zest_ledger::finding::Findings>(())
    /// ```
    Job {
        /// The name.
        name: At<String>,
    }, JOB: "a job", "A job that runs by itself.", &[];

    /// The account it runs as.
    runs_as: Option<At<String>> = required "runs-as", Shape::Text, "the account it runs as";
    /// The line it runs.
    line: Option<At<String>> = "line", Shape::Text, "the line it runs";
    /// Who may edit what it runs: `user:ID` or `group:ID`.
    edited_by: Vec<At<String>> = "edited-by", PARTIES, "who may edit what it runs: \"user:ID\" or \"group:ID\"";
}

impl Job {}
