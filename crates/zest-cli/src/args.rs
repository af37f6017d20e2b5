//! The command line. Completions and manual pages are made from these definitions.

use std::path::PathBuf;

use clap::{Arg, ArgAction, ArgMatches, Args, FromArgMatches, Parser, Subcommand, ValueEnum};
use jiff::Timestamp;
use zest_ledger::ask::{Fact, FactForm, Session};

use crate::exit::Exit;
use crate::format::Format;

/// Asks whether a user's action would be allowed, and why, from a ledger of text files.
#[derive(Debug, Parser)]
#[command(name = "zest", version, after_help = Exit::TABLE, arg_required_else_help = true)]
pub(crate) struct Zest {
    #[command(subcommand)]
    pub(crate) command: Command,
}

#[derive(Debug, Subcommand)]
pub(crate) enum Command {
    /// Take the tour: real questions on the demo ledger
    Demo(Demo),
    /// Ask one question: may this user run this line on that system?
    Ask(Ask),
    /// Become a user on a device, host, cloud or in an application: type lines, see what would happen
    Rehearse(Rehearse),
    /// List what a user, group, role or account may do on each system, and through what
    Effective(EffectiveArgs),
    /// List who may do something, through what and in which sessions
    #[command(long_about = WHO)]
    Who(WhoArgs),
    /// Compare a ledger with what it was: who gained and who lost what, where
    #[command(long_about = COMPARE)]
    Compare(CompareArgs),
    /// Say whether two users, groups, roles or command sets may the same, and what only one of them may
    #[command(long_about = ALIKE)]
    Alike(AlikeArgs),
    /// Ask recorded questions again, and say which have another answer than they must
    #[command(long_about = EXPECTATIONS)]
    Expectations(ExpectationsArgs),
    /// Prove what must hold of everybody, or show by an example that it does not
    #[command(long_about = PROMISES)]
    Promises(PromisesArgs),
    /// Find by which acts somebody could come to more than was given, shortest first
    #[command(long_about = WAYS)]
    Ways(WaysArgs),
    /// Who am I: who a session is, link by link, with which roles, proofs and end
    Session(SessionCommand),
    /// What a listing would show in a session: databases and tables, containers and resources, the lines at a question mark
    Visible(SessionCommand),
    /// Can this person start at all, and what is missing, all of it
    Ready(Ready),
    /// List objects and what must be done before a right on them takes effect; edit many at once
    Obligations(Obligations),
    /// List what is wrong or odd in a ledger
    Findings(FindingsArgs),
    /// Print the statements or files that bring a database server or a host to what the ledger says
    Emit(Emit),
    /// Read a live database server: as a ledger document, or what differs from the ledger
    Read(Read),
    /// Carry out on a live database server what `emit` prints, and prove it by reading back
    RollOut(RollOut),
    /// Put questions to a private database server that holds what the ledger says, and compare its answers with ours
    #[command(long_about = TRIAL)]
    Trial(Trial),
    /// List the privileges of a kind of database server: name, what each applies to, what it implies
    Privileges(PrivilegesArgs),
    /// Print the JSON Schema of ledger documents, for editors
    Schema,
    /// Print completions for a shell
    Completions {
        /// The shell
        shell: clap_complete::Shell,
    },
    /// Write manual pages into a folder
    Manual {
        /// The folder; made if it is not there
        folder: PathBuf,
    },
}

#[derive(Debug, Args)]
pub(crate) struct Demo {
    /// Write the demo ledgers into a new folder to play with, instead of taking the tour
    #[arg(long, value_name = "FOLDER")]
    pub(crate) into: Option<PathBuf>,
}

#[derive(Debug, Args)]
#[command(after_help = "\
Without a terminal, lines are read from standard input and a transcript is printed.
In a rehearsal:  ?  lists what is permitted here;  :help  lists the tool's own words,
such as  :quit  (the way out of the tool itself) and  :allow PATTERN  (a rule on trial).")]
pub(crate) struct Rehearse {
    /// The user to become
    pub(crate) user: String,
    /// The system
    #[arg(long, value_name = "SYSTEM")]
    pub(crate) on: String,
    /// Stop at the first refusal, with exit status 1
    #[arg(long)]
    pub(crate) strict: bool,
    /// Append what was typed and answered to this document, as an expectation of several steps
    #[arg(long, value_name = "FILE")]
    pub(crate) record: Option<PathBuf>,
    #[command(flatten)]
    pub(crate) session: SessionArgs<false>,
    #[command(flatten)]
    pub(crate) ledger: LedgerArg,
}

#[derive(Debug, Args)]
pub(crate) struct EffectiveArgs {
    /// The user; or `group:ID`, `role:ID`, `role:SYSTEM/ROLE`, `command-set:ID`, `account:SYSTEM/LOGIN`: what somebody has who has nothing else
    #[arg(value_name = "SUBJECT")]
    pub(crate) subject: String,
    /// Only this system
    #[arg(long, value_name = "SYSTEM")]
    pub(crate) on: Option<String>,
    /// Only what may be done in one session on each system: the one in which that is most, with what it needs
    #[arg(long)]
    pub(crate) best: bool,
    #[command(flatten)]
    pub(crate) session: SessionArgs<false>,
    #[command(flatten)]
    pub(crate) ledger: LedgerArg,
    #[command(flatten)]
    pub(crate) format: FormatArg,
}

const COMPARE: &str = "\
Compare a ledger with what it was: who gained and who lost what, where, each with an example that was asked of both.

Not lines of text are compared but rights: every session and every action that either ledger can tell apart. What the ledger was is another \
folder (--was), or the same folder at a revision of git (--was-at). A right whose obligations or conditions changed is lost as it was, and gained \
as it is. What changed and no right tells of, such as the query of a view or what a job runs, is named behind them.";

/// What a comparison stops a pipeline for.
#[derive(Clone, Copy, Debug, PartialEq, Eq, clap::ValueEnum)]
pub(crate) enum MovedRights {
    /// Somebody gained something
    Gained,
    /// Somebody lost something
    Lost,
    /// Anything is different
    Any,
}

#[derive(Debug, Args)]
pub(crate) struct CompareArgs {
    /// The folder with the ledger as it was
    #[arg(long, value_name = "FOLDER", required_unless_present_any = ["was_at", "then"], conflicts_with = "was_at")]
    pub(crate) was: Option<PathBuf>,
    /// The revision at which the ledger was so: a branch, a tag, `HEAD~1`
    #[arg(long, value_name = "REVISION")]
    pub(crate) was_at: Option<String>,
    /// The revision of the ledger that is compared; as the folder is now unless stated
    #[arg(long, value_name = "REVISION")]
    pub(crate) is_at: Option<String>,
    /// Compare the ledger as it stands now with how it stands at a later moment: what is over by then, and what will have begun
    #[arg(long, value_name = "TIME", value_parser = parse_moment, conflicts_with_all = ["was", "was_at"])]
    pub(crate) then: Option<Timestamp>,
    /// The moment that counts as now
    #[arg(long, value_name = "TIME", value_parser = parse_moment, requires = "then")]
    pub(crate) now: Option<Timestamp>,
    /// Only this user
    #[arg(long, value_name = "USER")]
    pub(crate) of: Option<String>,
    /// End with 1 if somebody gained, or lost, something
    #[arg(long, value_enum, value_name = "WHAT")]
    pub(crate) fail_on: Option<MovedRights>,
    #[command(flatten)]
    pub(crate) session: SessionArgs<false>,
    #[command(flatten)]
    pub(crate) ledger: LedgerArg,
    #[command(flatten)]
    pub(crate) format: FormatArg,
}

const ALIKE: &str = "\
Say whether two users, groups, roles or command sets may the same, and what only one of them may.

For what is not a user somebody stands in who has just that, and every way to prove identity. Exit status 1 means that they are not alike.";

#[derive(Debug, Args)]
pub(crate) struct AlikeArgs {
    /// A user, or `group:ID`, `role:ID`, `role:SYSTEM/ROLE`, `command-set:ID`, `account:SYSTEM/LOGIN`
    #[arg(value_name = "SUBJECT")]
    pub(crate) one: String,
    /// The other
    #[arg(value_name = "SUBJECT")]
    pub(crate) other: String,
    /// Only on these systems: an id, ids with commas between, `all`, `kind=cloud` or LABEL=VALUE
    #[arg(long, value_name = "SYSTEMS", default_value = "all")]
    pub(crate) on: String,
    #[command(flatten)]
    pub(crate) session: SessionArgs<false>,
    #[command(flatten)]
    pub(crate) ledger: LedgerArg,
    #[command(flatten)]
    pub(crate) format: FormatArg,
}

/// An earlier ledger, to say what has turned since.
#[derive(Debug, Args)]
pub(crate) struct EarlierArgs {
    /// Say which of them held in the ledger as it was: in this folder
    #[arg(long, value_name = "FOLDER", conflicts_with = "was_at")]
    pub(crate) was: Option<PathBuf>,
    /// Say which of them held in the ledger as it was: at this revision of git
    #[arg(long, value_name = "REVISION")]
    pub(crate) was_at: Option<String>,
    /// Find by halving which change turned each that held at this revision of git and does not now; along the first parents
    #[arg(long, value_name = "REVISION", conflicts_with_all = ["was", "was_at"])]
    pub(crate) turned_since: Option<String>,
}

impl EarlierArgs {
    /// Returns at which revision the earlier ledger is looked at.
    pub(crate) fn revision(&self) -> Option<&str> {
        self.was_at.as_deref().or(self.turned_since.as_deref())
    }
}

const EXPECTATIONS: &str = "\
Ask recorded questions again, and say which have another answer than they must.

They stand under [[expectations]] in the ledger's documents, or in documents beside it (--document). `zest ask --record FILE` writes one from \
an answer. Exit status 1 means that one does not hold, 3 that one cannot be asked, 4 that there is none.";

#[derive(Debug, Args)]
pub(crate) struct ExpectationsArgs {
    /// Also those in this document, which is no part of the ledger's folder; may be repeated
    #[arg(long, value_name = "FILE")]
    pub(crate) document: Vec<PathBuf>,
    #[command(flatten)]
    pub(crate) earlier: EarlierArgs,
    /// List the ones that hold as well
    #[arg(long)]
    pub(crate) all: bool,
    /// Say on which rules, grants, assignments and conditions no expectation depends: nothing would be noticed if they were gone
    #[arg(long)]
    pub(crate) coverage: bool,
    /// Propose rows for those: for each a question that it decides, and the nearest that it does not, as TOML to be read and appended to a
    /// document; none of the questions that decide something can be left out
    #[arg(long, conflicts_with_all = ["coverage", "was", "was_at", "turned_since", "all", "format"])]
    pub(crate) propose: bool,
    #[command(flatten)]
    pub(crate) ledger: LedgerArg,
    #[command(flatten)]
    pub(crate) format: FormatArg,
}

const PROMISES: &str = "\
Prove what must hold of everybody, or show by an example that it does not.

Promises stand under [[promises]] in the ledger's documents, or in documents beside it (--document). Each is proved over everybody, every \
session and every action, refuted by smallest examples, or not proved, where something was not read or there was too much to look at. Exit \
status 1 means that one is refuted or not proved, 3 that one says nothing, 4 that there is none.";

#[derive(Debug, Args)]
pub(crate) struct PromisesArgs {
    /// Also those in this document, which is no part of the ledger's folder; may be repeated
    #[arg(long, value_name = "FILE")]
    pub(crate) document: Vec<PathBuf>,
    #[command(flatten)]
    pub(crate) earlier: EarlierArgs,
    #[command(flatten)]
    pub(crate) moment: MomentArg,
    #[command(flatten)]
    pub(crate) ledger: LedgerArg,
    #[command(flatten)]
    pub(crate) format: FormatArg,
}

const WAYS: &str = "\
Find by which acts somebody could come to more than was given, shortest first.

An act is something that somebody may do and that gives more: reset a credential, change the members of a group or own it, edit a job of a host, \
pass a role of a database server on. Acting as another, assumed roles and running as an account are looked at on the way. Each step is a question \
that is allowed in the ledger as the steps before left it. Without --of everybody is looked at; without anything to get at, all that somebody \
could come to is listed. Exit status 0 means that there is a way, 1 that there is none.";

#[derive(Debug, Args)]
pub(crate) struct WaysArgs {
    /// Only from this user
    #[arg(long, value_name = "USER", required_unless_present_any = ["to", "line", "like", "sql"])]
    pub(crate) of: Option<String>,
    /// Get at somebody, or into a group: `user:ID`, `group:ID`
    #[arg(long, value_name = "AIM", conflicts_with_all = ["line", "like", "sql", "on"])]
    pub(crate) to: Option<String>,
    /// Get at something on these systems: an id, ids with commas between, `all`, `kind=cloud` or LABEL=VALUE
    #[arg(long, value_name = "SYSTEMS")]
    pub(crate) on: Option<String>,
    /// A statement, instead of a line
    #[arg(long, value_name = "STATEMENT", conflicts_with_all = ["like", "line"], requires = "on")]
    pub(crate) sql: Option<String>,
    /// Anything that this takes, instead of a line: `show settings ...`, `hulls.* on lanternsound/**`
    #[arg(long, value_name = "PATTERN", conflicts_with = "line", requires = "on")]
    pub(crate) like: Option<String>,
    /// Say which single entry, taken out, leaves fewest ways
    #[arg(long)]
    pub(crate) cuts: bool,
    /// Tell each way in one line
    #[arg(long)]
    pub(crate) brief: bool,
    /// Draw the ways into this file, as SVG
    #[arg(long, value_name = "FILE")]
    pub(crate) draw: Option<PathBuf>,
    #[command(flatten)]
    pub(crate) session: SessionArgs<true>,
    #[command(flatten)]
    pub(crate) ledger: LedgerArg,
    #[command(flatten)]
    pub(crate) format: FormatArg,
    /// What somebody could come to do, as it would be typed or asked; options of ours stand before it
    #[arg(value_name = "LINE", trailing_var_arg = true, requires = "on")]
    pub(crate) line: Vec<String>,
}

const WHO: &str = "\
List who may do something, through what and in which sessions.

What is looked for is a line as it is typed, an operation on a resource, a privilege on an object, a statement (--sql), or every action that \
a pattern takes (--like), written as the rules of a command set are, or as grants write paths. Everybody is looked at, in every session that the ledger can tell apart; options of the \
session leave only those in which the stated facts hold.";

#[derive(Debug, Args)]
pub(crate) struct WhoArgs {
    /// On which systems: an id, ids with commas between, `all`, `kind=cloud` or LABEL=VALUE
    #[arg(long, value_name = "SYSTEMS")]
    pub(crate) on: String,
    /// Only people whose path is this one or below it, such as `shore/network`
    #[arg(long, value_name = "PATH")]
    pub(crate) path: Option<String>,
    /// A statement, instead of a line
    #[arg(long, value_name = "STATEMENT", conflicts_with_all = ["like", "line"])]
    pub(crate) sql: Option<String>,
    /// Every action that this takes, instead of a line: `show log ...`, `hulls.* on lanternsound/**`, `select on table fares.*`
    #[arg(long, value_name = "PATTERN", conflicts_with = "line")]
    pub(crate) like: Option<String>,
    #[command(flatten)]
    pub(crate) session: SessionArgs<true>,
    #[command(flatten)]
    pub(crate) ledger: LedgerArg,
    #[command(flatten)]
    pub(crate) format: FormatArg,
    /// What is looked for, as it would be typed or asked; options of ours stand before it
    #[arg(required_unless_present_any = ["sql", "like"], value_name = "LINE", trailing_var_arg = true)]
    pub(crate) line: Vec<String>,
}

#[derive(Debug, Args)]
pub(crate) struct Emit {
    /// The database server or host, by its id in the ledger
    pub(crate) system: String,
    /// For a host: the file for `sudo` (run-as) or for OpenSSH (sign-in)
    #[arg(long, value_enum, default_value_t)]
    pub(crate) part: Part,
    /// Only what differs from this document, which `zest read` wrote; from a fresh server unless stated
    #[arg(long, value_name = "FILE")]
    pub(crate) since: Option<PathBuf>,
    #[command(flatten)]
    pub(crate) moment: MomentArg,
    #[command(flatten)]
    pub(crate) ledger: LedgerArg,
}

#[derive(Debug, Args)]
pub(crate) struct Read {
    /// The database server, by its id in the ledger
    pub(crate) system: String,
    /// List what the server has that the ledger has not, and the reverse; exit with 1 if there is anything
    #[arg(long)]
    pub(crate) drift: bool,
    #[command(flatten)]
    pub(crate) server: ServerArgs,
    #[command(flatten)]
    pub(crate) moment: MomentArg,
    #[command(flatten)]
    pub(crate) ledger: LedgerArg,
    #[command(flatten)]
    pub(crate) format: FormatArg,
}

#[derive(Debug, Args)]
pub(crate) struct RollOut {
    /// The database server, by its id in the ledger
    pub(crate) system: String,
    /// Go on without asking, if there are exactly this many statements
    #[arg(long, value_name = "COUNT")]
    pub(crate) yes: Option<usize>,
    #[command(flatten)]
    pub(crate) server: ServerArgs,
    #[command(flatten)]
    pub(crate) moment: MomentArg,
    #[command(flatten)]
    pub(crate) ledger: LedgerArg,
}

const TRIAL: &str = "\
Put questions to a private database server that holds what the ledger says, and compare its answers with ours

A server is started from the packages installed on this machine, given schema and rights of the ledger, and read back; it holds no rows and \
no secrets, and is gone at the end. Without --sql and --questions, every privilege is tried (PostgreSQL), or statements that read and change \
every table (MariaDB), for every account and each role that it may make active. What would reach files, programs or other servers is not put \
to it. Exit status 1 means that something disagrees.";

#[derive(Debug, Args)]
pub(crate) struct Trial {
    /// The database server, by its id in the ledger
    pub(crate) system: String,
    /// Only this account; may be repeated
    #[arg(long, value_name = "ACCOUNT")]
    pub(crate) account: Vec<String>,
    /// Put this statement to the server, for each account; may be repeated
    #[arg(long, value_name = "STATEMENT")]
    pub(crate) sql: Vec<String>,
    /// Put recorded questions to the server: one a line, as `ask --batch` takes them
    #[arg(long, value_name = "FILE")]
    pub(crate) questions: Option<PathBuf>,
    /// Put them to the server itself instead of a private one. Nothing is changed there: statements about rows are put as EXPLAIN, one by one,
    /// with limits on time, and none that could run a routine. PostgreSQL wants a superuser; on MariaDB the account that signs in is
    /// asked about alone
    #[arg(long)]
    pub(crate) live: bool,
    #[command(flatten)]
    pub(crate) server: ServerArgs,
    #[command(flatten)]
    pub(crate) moment: MomentArg,
    #[command(flatten)]
    pub(crate) ledger: LedgerArg,
    #[command(flatten)]
    pub(crate) format: FormatArg,
}

impl Trial {
    /// Returns whether an account is among those that are tried.
    #[cfg(feature = "live")]
    pub(crate) fn takes(&self, account: &str) -> bool {
        self.account.is_empty() || self.account.iter().any(|named| named == account)
    }
}

/// For which moment something is rolled out.
#[derive(Debug, Args)]
pub(crate) struct MomentArg {
    /// The moment for which it is: what has ended by then, and people who are gone, are left out; now, unless stated
    #[arg(long, value_name = "MOMENT", value_parser = parse_moment)]
    pub(crate) at: Option<Timestamp>,
}

impl MomentArg {
    pub(crate) fn moment(&self) -> Timestamp {
        // Nobody writes the parts of a second down again.
        self.at.unwrap_or_else(|| Timestamp::from_second(Timestamp::now().as_second()).unwrap_or(Timestamp::MIN))
    }
}

/// How a live server is reached. Credentials are never taken here.
#[derive(Debug, Args)]
#[command(next_help_heading = "The server")]
pub(crate) struct ServerArgs {
    /// Host name or address, with `:PORT`; or the path of a socket; the address in the ledger unless stated
    #[arg(long, value_name = "WHERE")]
    pub(crate) server: Option<String>,
    /// The account to sign in with; the server's first one unless stated
    #[arg(long, value_name = "LOGIN")]
    pub(crate) login: Option<String>,
    /// Ask for the account's credential at the terminal
    #[arg(long)]
    pub(crate) ask_credential: bool,
    /// A file of certificates (PEM) that the server's is verified with, instead of the system's; the session is encrypted in any case
    #[arg(long, value_name = "FILE", conflicts_with = "without_encryption")]
    pub(crate) trusted: Option<PathBuf>,
    /// Our own certificate (PEM), where the server wants one
    #[arg(long, value_name = "FILE", requires = "key", conflicts_with = "without_encryption")]
    pub(crate) certificate: Option<PathBuf>,
    /// The key of our own certificate (PEM)
    #[arg(long, value_name = "FILE", requires = "certificate")]
    pub(crate) key: Option<PathBuf>,
    /// Talk to the server without encryption: only where the way to it is protected otherwise. Sockets and loopback addresses are never
    /// encrypted unless certificates are stated
    #[arg(long)]
    pub(crate) without_encryption: bool,
}

impl ServerArgs {
    /// Returns an option that is stated.
    #[cfg(feature = "live")]
    pub(crate) fn stated(&self) -> Option<&'static str> {
        let Self { server, login, ask_credential, trusted, certificate, key, without_encryption } = self;
        [
            ("--server", server.is_some()),
            ("--login", login.is_some()),
            ("--ask-credential", *ask_credential),
            ("--trusted", trusted.is_some()),
            ("--certificate", certificate.is_some()),
            ("--key", key.is_some()),
            ("--without-encryption", *without_encryption),
        ]
        .into_iter()
        .find_map(|(option, is_stated)| is_stated.then_some(option))
    }
}

/// Which file of a host.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, ValueEnum)]
pub(crate) enum Part {
    /// Who may run what as which account
    #[default]
    RunAs,
    /// Which accounts can be signed in with
    SignIn,
}

#[derive(Debug, Args)]
pub(crate) struct SessionCommand {
    /// The user, by the name given at sign-in
    pub(crate) user: String,
    /// The system
    #[arg(long, value_name = "SYSTEM")]
    pub(crate) on: String,
    #[command(flatten)]
    pub(crate) session: SessionArgs<false>,
    #[command(flatten)]
    pub(crate) ledger: LedgerArg,
    #[command(flatten)]
    pub(crate) format: FormatArg,
}

#[derive(Debug, Args)]
pub(crate) struct Ready {
    /// The user
    pub(crate) user: String,
    /// Only this system; each that is meant for the user unless stated
    #[arg(long, value_name = "SYSTEM")]
    pub(crate) on: Option<String>,
    /// The moment, with its offset
    #[arg(long, value_name = "MOMENT", value_parser = parse_moment)]
    pub(crate) at: Option<Timestamp>,
    #[command(flatten)]
    pub(crate) ledger: LedgerArg,
    #[command(flatten)]
    pub(crate) format: FormatArg,
}

#[derive(Debug, Args)]
#[command(after_help = "Without --set the table is shown; with it the change is shown, and with --write and --expect COUNT it is made.")]
pub(crate) struct Obligations {
    /// The application or cloud
    pub(crate) system: String,
    /// Only objects of this type
    #[arg(long, value_name = "TYPE")]
    pub(crate) of_type: Option<String>,
    /// Only objects with this attribute
    #[arg(long, value_name = "NAME=VALUE", value_parser = parse_attribute)]
    pub(crate) r#where: Vec<(String, String)>,
    /// Only this object, by name or path
    #[arg(long, value_name = "OBJECT")]
    pub(crate) object: Vec<String>,
    /// Set an obligation of the objects themselves: confirm, prove-again=AGE, second-person=PARTY,PARTY, none
    #[arg(long, value_name = "OBLIGATION", conflicts_with = "format")]
    pub(crate) set: Vec<String>,
    /// Write the change into the ledger's documents
    #[arg(long, requires = "set")]
    pub(crate) write: bool,
    /// How many objects are expected to change
    #[arg(long, value_name = "COUNT", requires = "write")]
    pub(crate) expect: Option<usize>,
    #[command(flatten)]
    pub(crate) ledger: LedgerArg,
    #[command(flatten)]
    pub(crate) format: FormatArg,
}

#[derive(Debug, Args)]
pub(crate) struct FindingsArgs {
    /// The moment for what has expired and who is gone, with its offset; now, unless stated
    #[arg(long, value_name = "MOMENT", value_parser = parse_moment)]
    pub(crate) at: Option<Timestamp>,
    /// Exit with 1 from this severity on
    #[arg(long, value_enum, default_value_t)]
    pub(crate) fail_on: FailOn,
    /// Say what a code means instead, such as ZL0601
    #[arg(long, value_name = "CODE", conflicts_with_all = ["at", "fail_on", "format"])]
    pub(crate) about: Option<String>,
    #[command(flatten)]
    pub(crate) ledger: LedgerArg,
    #[command(flatten)]
    pub(crate) format: FormatArg,
}

#[derive(Debug, Args)]
pub(crate) struct PrivilegesArgs {
    /// The kind of server
    #[arg(value_enum)]
    pub(crate) kind: Server,
    #[command(flatten)]
    pub(crate) format: FormatArg,
}

/// A kind of database server.
#[derive(Clone, Copy, Debug, PartialEq, Eq, ValueEnum)]
pub(crate) enum Server {
    /// PostgreSQL 15
    Postgresql,
    /// MariaDB 10.11
    Mariadb,
}

/// From which severity on findings count for the exit status.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, ValueEnum)]
pub(crate) enum FailOn {
    /// Errors only
    Error,
    /// Warnings and errors
    #[default]
    Warning,
    /// All
    Note,
}

/// Where the ledger is.
#[derive(Debug, Args)]
#[command(next_help_heading = "Input and output")]
pub(crate) struct LedgerArg {
    /// The ledger's folder
    #[arg(long, short, value_name = "FOLDER", default_value = ".")]
    pub(crate) ledger: PathBuf,
}

impl LedgerArg {
    /// Returns the folder as answers name it.
    pub(crate) fn shown(&self) -> String {
        zest_ledger::source::visible(&self.ledger.display().to_string())
    }
}

#[derive(Debug, Args)]
#[command(next_help_heading = "Input and output")]
pub(crate) struct FormatArg {
    /// For people, for programs, for a spreadsheet, or for a ticket
    #[arg(long, value_enum, default_value_t)]
    pub(crate) format: Format,
}

/// What is known about the session, as its facts are listed in the library; with `LINE`, also what belongs to one line: the
/// level and the mode, which a session that goes on keeps itself. What is not stated is not assumed.
#[derive(Clone, Debug, Default)]
pub(crate) struct SessionArgs<const LINE: bool>(pub(crate) Session);

impl<const LINE: bool> SessionArgs<LINE> {
    fn facts() -> impl Iterator<Item = Fact> {
        Fact::ALL.into_iter().filter(|fact| LINE || !matches!(fact, Fact::Level | Fact::Mode))
    }

    fn arg(fact: Fact) -> Arg {
        let name = fact.option();
        let arg = Arg::new(name).long(name).help(fact.about()).help_heading("The session");
        // Each text is read twice: alone, so that a mistake is reported at its option, and then with the others.
        let read = move |text: &str| Session::default().state(fact, text).map(|()| text.to_owned());
        let arg = match fact.form() {
            FactForm::Flag => arg.action(ArgAction::SetTrue),
            FactForm::One(value) => arg.value_name(value).value_parser(read),
            FactForm::Many(value) => arg.value_name(value).action(ArgAction::Append).value_parser(read),
        };
        match fact {
            Fact::Local => arg.conflicts_with(Fact::Origin.option()),
            Fact::ApproverProofs => arg.requires(Fact::ApprovedBy.option()),
            _ => arg,
        }
    }

    fn read(matches: &ArgMatches) -> Result<Session, clap::Error> {
        let mut session = Session::default();
        for fact in Self::facts() {
            let name = fact.option();
            let texts: Vec<String> = match fact.form() {
                FactForm::Flag => {
                    if matches.get_flag(name) {
                        vec![String::new()]
                    } else {
                        Vec::new()
                    }
                }
                FactForm::One(_) | FactForm::Many(_) => matches.get_many(name).into_iter().flatten().cloned().collect(),
            };
            for text in texts {
                session
                    .state(fact, &text)
                    .map_err(|why| clap::Error::raw(clap::error::ErrorKind::ValueValidation, format!("`--{name}`: {why}\n")))?;
            }
        }
        Ok(session)
    }
}

impl<const LINE: bool> FromArgMatches for SessionArgs<LINE> {
    fn from_arg_matches(matches: &ArgMatches) -> Result<Self, clap::Error> {
        Self::read(matches).map(Self)
    }

    fn update_from_arg_matches(&mut self, matches: &ArgMatches) -> Result<(), clap::Error> {
        self.0 = Self::read(matches)?;
        Ok(())
    }
}

impl<const LINE: bool> Args for SessionArgs<LINE> {
    fn augment_args(command: clap::Command) -> clap::Command {
        Self::facts().fold(command, |command, fact| command.arg(Self::arg(fact)))
    }

    fn augment_args_for_update(command: clap::Command) -> clap::Command {
        Self::augment_args(command)
    }
}

#[derive(Debug, Args)]
#[command(after_help = "\
Options of ours stand before the line; from its first word on everything belongs to the line:
  zest ask watch-1 --on sw-selkie-1 --level 7 show log last 20
A line that holds a word spelled like an option of ours has `--` before it:
  zest ask watch-2 --on kiosk-selkie --acting account:kiosk -- /opt/kiosk/bin/screen --page 3")]
pub(crate) struct Ask {
    /// The user, by the name given at sign-in
    #[arg(required_unless_present = "batch")]
    pub(crate) user: Option<String>,
    /// The line as it would be typed; on a database server a privilege: `select on table fares.price`; on a cloud or in an
    /// application an action: `records.read on lanternsound/fares`, `GET /records`
    #[arg(required_unless_present_any = ["batch", "sql"], value_name = "LINE", trailing_var_arg = true)]
    pub(crate) line: Vec<String>,
    /// A statement, instead of a line
    #[arg(long, value_name = "STATEMENT", conflicts_with = "line")]
    pub(crate) sql: Option<String>,
    /// The system; several with commas between, `all`, `kind=cloud`, or LABEL=VALUE
    #[arg(long, value_name = "SYSTEM", required_unless_present = "batch")]
    pub(crate) on: Option<String>,
    /// Read questions as JSON Lines from standard input and write answers as JSON Lines; facts of the session that are
    /// stated here hold for every question that does not state its own
    #[arg(long, conflicts_with_all = ["user", "line", "sql", "on"])]
    pub(crate) batch: bool,
    /// Look for remedies of every refusal of a batch, which takes a thousand times as long
    #[arg(long, conflicts_with_all = ["user", "line", "sql", "on"], requires = "batch")]
    pub(crate) remedies: bool,
    /// Write only the verdict of each question of a batch, and the code of a refusal
    #[arg(long, conflicts_with_all = ["user", "line", "sql", "on", "remedies", "paste"], requires = "batch")]
    pub(crate) verdicts: bool,
    /// With each remedy that changes the ledger, the text to paste, and where
    #[arg(long)]
    pub(crate) paste: bool,
    /// With each remedy that changes the ledger, what it would open beside what was asked, and to whom
    #[arg(long, conflicts_with = "batch")]
    pub(crate) opens: bool,
    /// Append the question and its answer to this document, as an expectation that `zest expectations` asks again
    #[arg(long, value_name = "FILE", conflicts_with = "batch")]
    pub(crate) record: Option<PathBuf>,
    #[command(flatten)]
    pub(crate) opened: OpenedArgs,
    #[command(flatten)]
    pub(crate) session: SessionArgs<true>,
    #[command(flatten)]
    pub(crate) ledger: LedgerArg,
    #[command(flatten)]
    pub(crate) format: FormatArg,
}

/// A session that was opened earlier, when the ledger was another.
#[derive(Debug, Args)]
#[command(next_help_heading = "A session that is open already")]
#[group(skip)]
pub(crate) struct OpenedArgs {
    /// Ask about a session that was opened at this moment and is still open; what the ledger was then says the last revision of git before
    /// it, unless it is stated
    #[arg(long, value_name = "TIME", value_parser = parse_moment, conflicts_with_all = ["batch", "paste", "opens", "record"])]
    pub(crate) opened: Option<Timestamp>,
    /// Ask about a session that was opened when the ledger was so: in this folder
    #[arg(long, value_name = "FOLDER", conflicts_with_all = ["was_at", "batch", "paste", "opens", "record"])]
    pub(crate) was: Option<PathBuf>,
    /// Ask about a session that was opened when the ledger was so: at this revision of git
    #[arg(long, value_name = "REVISION", conflicts_with_all = ["batch", "paste", "opens", "record"])]
    pub(crate) was_at: Option<String>,
}

fn parse_moment(text: &str) -> Result<Timestamp, String> {
    let mut session = Session::default();
    session.state(Fact::At, text).map_err(|why| why.to_string())?;
    session.at.ok_or_else(|| "expected a moment".to_owned())
}

fn parse_attribute(text: &str) -> Result<(String, String), String> {
    let mut session = Session::default();
    session.state(Fact::Attributes, text).map_err(|why| why.to_string())?;
    session.attributes.pop().ok_or_else(|| "expected NAME=VALUE".to_owned())
}
