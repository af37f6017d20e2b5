//! The command line. Completions and manual pages are made from these definitions.

use std::net::IpAddr;
use std::path::PathBuf;

use clap::{Args, Parser, Subcommand, ValueEnum};
use jiff::Timestamp;
use zest_ledger::ask::{Act, Central, Proven, Session};
use zest_ledger::entry::{Channel, Proof};

use crate::exit::Exit;

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
    /// List what a user may do on each system, and through what
    Effective(EffectiveArgs),
    /// Who am I: who a session is, link by link, with which roles, proofs and end
    Session(SessionCommand),
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
    #[command(flatten)]
    pub(crate) session: SessionArgs,
    #[command(flatten)]
    pub(crate) ledger: LedgerArg,
}

#[derive(Debug, Args)]
pub(crate) struct EffectiveArgs {
    /// The user
    pub(crate) user: String,
    /// Only this system
    #[arg(long, value_name = "SYSTEM")]
    pub(crate) on: Option<String>,
    #[command(flatten)]
    pub(crate) session: SessionArgs,
    #[command(flatten)]
    pub(crate) ledger: LedgerArg,
    #[command(flatten)]
    pub(crate) format: FormatArg,
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

/// For which moment grants that end are rolled out.
#[derive(Debug, Args)]
pub(crate) struct MomentArg {
    /// Grants that have ended at this moment are left out; now, unless stated
    #[arg(long, value_name = "MOMENT", value_parser = parse_moment)]
    pub(crate) at: Option<Timestamp>,
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
    pub(crate) session: SessionArgs,
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
    #[arg(long, value_name = "OBLIGATION")]
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
    /// The moment for what has expired, with its offset
    #[arg(long, value_name = "MOMENT", value_parser = parse_moment)]
    pub(crate) at: Option<Timestamp>,
    /// Exit with 1 from this severity on
    #[arg(long, value_enum, default_value_t)]
    pub(crate) fail_on: FailOn,
    /// Say what a code means instead, such as ZL0601
    #[arg(long, value_name = "CODE")]
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

/// How to print.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, ValueEnum)]
pub(crate) enum Format {
    /// For people
    #[default]
    Text,
    /// For programs
    Json,
}

#[derive(Debug, Args)]
#[command(next_help_heading = "Input and output")]
pub(crate) struct FormatArg {
    /// For people or for programs
    #[arg(long, value_enum, default_value_t)]
    pub(crate) format: Format,
}

/// What is known about the session. What is not stated is not assumed.
#[derive(Debug, Args)]
#[command(next_help_heading = "The session")]
pub(crate) struct SessionArgs {
    /// The moment, with its offset: 2026-11-25T09:00:00+01:00
    #[arg(long, value_name = "MOMENT", value_parser = parse_moment)]
    pub(crate) at: Option<Timestamp>,
    /// The address the session comes from
    #[arg(long, value_name = "ADDRESS")]
    pub(crate) from: Option<IpAddr>,
    /// The session comes over a database server's own socket
    #[arg(long, conflicts_with = "from")]
    pub(crate) local: bool,
    /// The channel it comes through
    #[arg(long, value_name = "CHANNEL", value_parser = parse_channel)]
    pub(crate) by: Option<Channel>,
    /// A proof of identity and its age: `one-time-code`, `key=2h`, on another channel `key="2h by web"`; `none` for none
    #[arg(long, value_name = "PROOF[=AGE]", value_parser = parse_proof)]
    pub(crate) proof: Vec<StatedProof>,
    /// The account to use: a local one where the local source answers, or one of a database server
    #[arg(long, value_name = "LOGIN")]
    pub(crate) account: Option<String>,
    /// A role that is active, on a database server, a cloud or in an application; `none` for none
    #[arg(long, value_name = "ROLE")]
    pub(crate) role: Vec<String>,
    /// As whom the session acts, link by link: `user:ID`, `role:ID@MOMENT`, `account:HOST/LOGIN LINE`, `shell:HOST/LOGIN`
    #[arg(long, value_name = "LINK")]
    pub(crate) acting: Vec<Act>,
    /// An attribute that the session states, such as `ticket=LF-7`
    #[arg(long, value_name = "NAME=VALUE", value_parser = parse_attribute)]
    pub(crate) attribute: Vec<(String, String)>,
    /// The first moment at which the session is over
    #[arg(long, value_name = "MOMENT", value_parser = parse_moment)]
    pub(crate) expires: Option<Timestamp>,
    /// The central identity source cannot be reached
    #[arg(long)]
    pub(crate) central_down: bool,
    /// The user has confirmed
    #[arg(long)]
    pub(crate) confirmed: bool,
    /// The second person who agreed
    #[arg(long, value_name = "USER")]
    pub(crate) approved_by: Option<String>,
    /// A proof of identity that the second person gave, and its age
    #[arg(long, value_name = "PROOF[=AGE]", value_parser = parse_proof, requires = "approved_by")]
    pub(crate) approver_proof: Vec<StatedProof>,
}

impl SessionArgs {
    pub(crate) fn session(&self) -> Session {
        let mut session = Session::default();
        session.at = self.at;
        session.origin = self.from;
        session.local = self.local;
        session.channel = self.by;
        if !self.proof.is_empty() {
            session.proofs = Some(self.proof.iter().filter_map(|p| p.0).collect());
        }
        session.account.clone_from(&self.account);
        if !self.role.is_empty() {
            session.active_role = Some(self.role.join(", "));
            session.active_roles = Some(self.role.iter().filter(|r| *r != "none").cloned().collect());
        }
        session.acting.clone_from(&self.acting);
        session.attributes.clone_from(&self.attribute);
        session.expires = self.expires;
        session.central = if self.central_down { Central::Down } else { Central::Up };
        session.confirmed = self.confirmed;
        session.approved_by.clone_from(&self.approved_by);
        if !self.approver_proof.is_empty() {
            session.approver_proofs = Some(self.approver_proof.iter().filter_map(|p| p.0).collect());
        }
        session
    }
}

/// A proof that was stated; none for `none`.
#[derive(Clone, Copy, Debug)]
pub(crate) struct StatedProof(pub(crate) Option<Proven>);

#[derive(Debug, Args)]
pub(crate) struct Ask {
    /// The user, by the name given at sign-in
    #[arg(required_unless_present = "batch")]
    pub(crate) user: Option<String>,
    /// The line as it would be typed; on a database server a privilege: `select on table fares.price`; on a cloud or in an
    /// application an action: `records.read on lanternsound/fares`, `GET /records`
    #[arg(required_unless_present_any = ["batch", "sql"], value_name = "LINE")]
    pub(crate) line: Vec<String>,
    /// A statement, instead of a line
    #[arg(long, value_name = "STATEMENT", conflicts_with = "line")]
    pub(crate) sql: Option<String>,
    /// The system; several with commas between, `all`, `kind=cloud`, or LABEL=VALUE
    #[arg(long, value_name = "SYSTEM", required_unless_present = "batch")]
    pub(crate) on: Option<String>,
    /// The current level; the start of the band unless stated
    #[arg(long, value_name = "0-15", value_parser = clap::value_parser!(u8).range(0..=15))]
    pub(crate) level: Option<u8>,
    /// The current mode; the start mode unless stated
    #[arg(long, value_name = "MODE")]
    pub(crate) mode: Option<String>,
    /// Read questions as JSON Lines from standard input and write answers as JSON Lines
    #[arg(long, conflicts_with_all = ["user", "line", "sql", "on", "level", "mode"])]
    pub(crate) batch: bool,
    #[command(flatten)]
    pub(crate) session: SessionArgs,
    #[command(flatten)]
    pub(crate) ledger: LedgerArg,
    #[command(flatten)]
    pub(crate) format: FormatArg,
}

fn parse_moment(text: &str) -> Result<Timestamp, String> {
    text.parse()
        .map_err(|_| "expected a date and time with its offset, such as 2026-11-25T09:00:00+01:00 or 2026-11-25T08:00:00Z".to_owned())
}

fn parse_channel(text: &str) -> Result<Channel, String> {
    Channel::from_word(text).ok_or_else(|| format!("expected one of {}", Channel::WORDS.join(", ")))
}

fn parse_proof(text: &str) -> Result<StatedProof, String> {
    if text == "none" {
        return Ok(StatedProof(None));
    }
    let (name, age) = text.split_once('=').unwrap_or((text, "0s"));
    let proof = Proof::from_word(name).ok_or_else(|| format!("expected one of {}, none", Proof::WORDS.join(", ")))?;
    Proven::parse(proof, age).map(|proven| StatedProof(Some(proven)))
}

fn parse_attribute(text: &str) -> Result<(String, String), String> {
    let (name, value) = text.split_once('=').filter(|(name, _)| !name.is_empty()).ok_or("expected NAME=VALUE, such as ticket=LF-7")?;
    Ok((name.to_owned(), value.to_owned()))
}
