//! The command line. Completions and manual pages are made from these definitions.

use std::net::IpAddr;
use std::path::PathBuf;

use clap::{Args, Parser, Subcommand, ValueEnum};
use jiff::{SignedDuration, Timestamp};
use zest_ledger::ask::{Central, Proven, Session};
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
    /// Ask one question: may this user run this line on that system?
    Ask(Ask),
}

/// Where the ledger is.
#[derive(Debug, Args)]
pub(crate) struct LedgerArg {
    /// The ledger's folder
    #[arg(long, short, value_name = "FOLDER", default_value = ".")]
    pub(crate) ledger: PathBuf,
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
    /// The channel it comes through
    #[arg(long, value_name = "CHANNEL", value_parser = parse_channel)]
    pub(crate) by: Option<Channel>,
    /// A proof of identity and its age, such as `one-time-code` or `key=2h`; `none` says that there was none
    #[arg(long, value_name = "PROOF[=AGE]", value_parser = parse_proof)]
    pub(crate) proof: Vec<StatedProof>,
    /// The local account to use, where the local source answers
    #[arg(long, value_name = "LOGIN")]
    pub(crate) account: Option<String>,
    /// The central identity source cannot be reached
    #[arg(long)]
    pub(crate) central_down: bool,
    /// The user has confirmed
    #[arg(long)]
    pub(crate) confirmed: bool,
    /// The second person who agreed
    #[arg(long, value_name = "USER")]
    pub(crate) approved_by: Option<String>,
}

impl SessionArgs {
    pub(crate) fn session(&self) -> Session {
        let mut session = Session::default();
        session.at = self.at;
        session.origin = self.from;
        session.channel = self.by;
        if !self.proof.is_empty() {
            session.proofs = Some(self.proof.iter().filter_map(|p| p.0).collect());
        }
        session.account.clone_from(&self.account);
        session.central = if self.central_down { Central::Down } else { Central::Up };
        session.confirmed = self.confirmed;
        session.approved_by.clone_from(&self.approved_by);
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
    /// The line as it would be typed
    #[arg(required_unless_present = "batch", value_name = "LINE")]
    pub(crate) line: Vec<String>,
    /// The system
    #[arg(long, value_name = "SYSTEM", required_unless_present = "batch")]
    pub(crate) on: Option<String>,
    /// The current level; the start of the band unless stated
    #[arg(long, value_name = "0-15", value_parser = clap::value_parser!(u8).range(0..=15))]
    pub(crate) level: Option<u8>,
    /// The current mode; the start mode unless stated
    #[arg(long, value_name = "MODE")]
    pub(crate) mode: Option<String>,
    /// Read questions as JSON Lines from standard input and write answers as JSON Lines
    #[arg(long, conflicts_with_all = ["user", "line", "on", "level", "mode"])]
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
    let age: SignedDuration = age.parse().map_err(|_| "expected an age such as 10m or 2h".to_owned())?;
    if age.is_negative() {
        return Err("an age cannot be negative".to_owned());
    }
    Ok(StatedProof(Some(Proven { proof, age })))
}
