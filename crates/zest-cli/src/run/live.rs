//! Sessions on live database servers.

use std::collections::BTreeMap;
use std::fmt::Write as _;
use std::io::BufRead;

use anyhow::{Context, Result, bail};
use serde::{Serialize, Serializer};
use zest_bridges::{BridgeError, Certificates, Encryption, mariadb, postgresql};
use zest_ledger::drift::{Drift, Side, Step};
use zest_ledger::entry::{Kind, System};
use zest_ledger::source::visible;

use super::server::{State, estate};
use crate::args::{Read, RollOut, ServerArgs};
use crate::exit::Exit;
use crate::format::{Format, data};
use crate::out::{complain, flush, put, say};
use crate::render::style::{BAD, FAINT, GOOD, HEAD, counted, hanging};
use crate::render::table::{Table, words};
use crate::unknown::Unknown;

/// How a session is to be encrypted.
fn encryption(args: &ServerArgs) -> Encryption {
    let client = args.certificate.clone().zip(args.key.clone());
    match (&args.trusted, client) {
        _ if args.without_encryption => Encryption::Never,
        (None, None) => Encryption::BeyondThisMachine,
        (roots, client) => Encryption::Always(Certificates { roots: roots.clone(), client }),
    }
}

/// A session on a server of some kind.
pub(super) enum Session {
    Postgresql(Box<postgresql::Session>),
    Mariadb(Box<mariadb::Session>),
}

impl Session {
    pub(super) fn open(system: &System, args: &ServerArgs) -> Result<Self> {
        let written = system.address.as_ref().map(|a| a.value.clone());
        let place = args.server.clone().or(written).context("the ledger has no address for it: add one, or state `--server`")?;
        let password = if args.ask_credential {
            let shown = format!("credential of {} on {}: ", visible(args.login.as_deref().unwrap_or("the first account")), visible(&place));
            Some(rpassword::prompt_password(shown).context("asking for the credential at the terminal")?)
        } else {
            None
        };
        let encryption = encryption(args);
        match system.kind() {
            Kind::POSTGRESQL => {
                let (host, port) = split(&place, 5432)?;
                let database = system.database.as_ref().map_or(&system.id.value, |d| &d.value).clone();
                let target = postgresql::Target {
                    host,
                    port,
                    user: args.login.clone().unwrap_or_else(|| "postgres".to_owned()),
                    database,
                    password,
                    encryption,
                };
                Ok(Self::Postgresql(Box::new(postgresql::Session::open(&target)?)))
            }
            Kind::MARIADB => {
                let (host, port) = if place.starts_with('/') { (place, 0) } else { split(&place, 3306)? };
                let user = args.login.clone().unwrap_or_else(|| "root".to_owned());
                Ok(Self::Mariadb(Box::new(mariadb::Session::open(&mariadb::Target { host, port, user, password, encryption })?)))
            }
            other => bail!("`{}` is of the kind `{}`; only database servers are read", visible(&system.id.value), other.word()),
        }
    }

    fn read(&mut self) -> Result<State, BridgeError> {
        match self {
            Self::Postgresql(session) => session.read().map(State::Postgresql),
            Self::Mariadb(session) => session.read().map(State::Mariadb),
        }
    }

    fn run(&mut self, steps: &[Step]) -> Result<(), BridgeError> {
        match self {
            Self::Postgresql(session) => session.run(steps),
            Self::Mariadb(session) => session.run(steps),
        }
    }

    pub(super) fn target(&self) -> String {
        match self {
            Self::Postgresql(session) => visible(session.target()),
            Self::Mariadb(session) => visible(session.target()),
        }
    }

    /// Returns as whom statements are carried out.
    fn by(&mut self, args: &ServerArgs) -> Result<String, BridgeError> {
        match self {
            Self::Postgresql(_) => Ok(args.login.clone().unwrap_or_else(|| "postgres".to_owned())),
            Self::Mariadb(session) => Ok(session.account()?.to_string()),
        }
    }
}

/// Splits a place into host and port; a path is the folder of a socket, with the port behind it.
fn split(place: &str, standard: u16) -> Result<(String, u16)> {
    if let Some(inner) = place.strip_prefix('[') {
        let (host, rest) = inner.split_once(']').context("an IPv6 address ends with `]`")?;
        let port = rest.strip_prefix(':').map_or(Ok(standard), str::parse).context("a port is a number")?;
        return Ok((host.to_owned(), port));
    }
    match place.rsplit_once(':') {
        Some((host, port)) if !host.contains(':') => Ok((host.to_owned(), port.parse().context("a port is a number")?)),
        _ => Ok((place.to_owned(), standard)),
    }
}

pub(crate) fn read(args: &Read) -> Result<Exit> {
    if !args.drift && args.format.format != Format::Text {
        return Err(Unknown("what is read is a document of a ledger: state `--format` with `--drift`".to_owned()).into());
    }
    let estate = match estate(&args.ledger.ledger) {
        Ok(estate) => estate,
        Err(exit) => return Ok(exit),
    };
    let system = crate::unknown::system(&estate, &args.system)?;
    let mut session = match Session::open(system, &args.server) {
        Ok(session) => session,
        Err(error) => return unreachable(&error),
    };
    let found = match session.read() {
        Ok(found) => found,
        Err(error) => return unreachable(&error.into()),
    };
    if !args.drift {
        put!("{}", found.document(&args.system, system.address.as_ref().map(|a| a.value.as_str())));
        flush()?;
        let notes = found.not_modelled();
        if !notes.is_empty() {
            let (count, shown) = (counted(notes.len(), "thing"), visible(&args.system));
            complain!("zest: {count} of `{shown}` stand under `not-modelled`: whatever looks at them is not decided");
            for note in notes {
                complain!("  {}", visible(&note));
            }
        }
        return Ok(Exit::Allowed);
    }
    let drifted = Drifted::of(&args.system, &session, &found, &State::of(&estate, &args.system, args.moment.moment())?);
    args.format.format.print(|| data(&drifted), || drifted.in_rows(), || put!("{}", drifted.render()));
    Ok(drifted.exit())
}

pub(super) fn unreachable(error: &anyhow::Error) -> Result<Exit> {
    complain!("zest: {}", visible(&format!("{error:#}")).replace("\\u{a}", "\n"));
    Ok(Exit::Unreachable)
}

/// Reads, plans, waits for confirmation, carries out, and reads back.
pub(crate) fn roll_out(args: &RollOut) -> Result<Exit> {
    let estate = match estate(&args.ledger.ledger) {
        Ok(estate) => estate,
        Err(exit) => return Ok(exit),
    };
    let system = crate::unknown::system(&estate, &args.system)?;
    let at = args.moment.moment();
    let wanted = State::of(&estate, &args.system, at)?;
    let mut session = match Session::open(system, &args.server) {
        Ok(session) => session,
        Err(error) => return unreachable(&error),
    };
    let now = match session.read() {
        Ok(found) => found,
        Err(error) => return unreachable(&error.into()),
    };
    let login = &match session.by(&args.server) {
        Ok(login) => login,
        Err(error) => return unreachable(&error.into()),
    };
    let steps = now.steps_to(&wanted, login);
    let shown = visible(&args.system);
    if steps.is_empty() {
        say!("{shown} on {}: 0 statements, nothing to do", session.target());
        return prove(&mut session, &wanted, args);
    }
    if let Some(why) = now.cannot_write(&wanted).or_else(|| now.lock_out(&wanted, login, at)) {
        complain!("zest: nothing was changed: {why}");
        return Ok(Exit::Denied);
    }
    for line in now.left_alone(&wanted) {
        complain!("zest: left as it is, no statement changes it: {line}");
    }
    let count = steps.len();
    match args.yes {
        Some(expected) if expected == count => {}
        Some(expected) => {
            complain!("zest: nothing was changed: {count} statements are needed, and {expected} were expected; look at `zest emit`");
            return Ok(Exit::Denied);
        }
        None => {
            put!("{}", now.script(&steps, login));
            put!("\n{shown} on {}: {}. Type the number to go on: ", session.target(), counted(count, "statement"));
            flush()?;
            let mut line = String::new();
            std::io::stdin().lock().read_line(&mut line).context("reading the confirmation")?;
            if line.trim() != count.to_string() {
                complain!("zest: nothing was changed: not confirmed");
                return Ok(Exit::Denied);
            }
        }
    }
    // What cannot be told is not done.
    flush()?;
    if let Err(error) = session.run(&steps) {
        return unreachable(&error.into());
    }
    say!("{shown} on {}: {} carried out", session.target(), counted(count, "statement"));
    prove(&mut session, &wanted, args)
}

/// Reads back and compares.
fn prove(session: &mut Session, wanted: &State, args: &RollOut) -> Result<Exit> {
    let found = match session.read() {
        Ok(found) => found,
        Err(error) => return unreachable(&error.into()),
    };
    let drifted = Drifted::of(&args.system, session, &found, wanted);
    put!("{}", drifted.render());
    Ok(drifted.exit())
}

/// The version of the form in which programs read a drift.
const DRIFTED: &str = "zest-drift-1";

/// How a server and a ledger differ.
#[derive(Serialize)]
#[serde(rename_all = "kebab-case")]
struct Drifted<'d> {
    format: &'static str,
    system: &'d str,
    server: String,
    #[serde(serialize_with = "by_side")]
    drift: Vec<Drift>,
}

/// Writes what stands on each side alone.
fn by_side<S: Serializer>(drift: &[Drift], serializer: S) -> std::result::Result<S::Ok, S::Error> {
    serializer.collect_seq(drift.iter().map(|Drift { side, what }| BTreeMap::from([("on", word(*side)), ("what", what)])))
}

const fn word(side: Side) -> &'static str {
    match side {
        Side::Server => "server",
        Side::Ledger => "ledger",
    }
}

impl<'d> Drifted<'d> {
    fn of(system: &'d str, session: &Session, found: &State, wanted: &State) -> Self {
        let drift = match (found, wanted) {
            (State::Postgresql(found), State::Postgresql(wanted)) => found.drift(wanted),
            (State::Mariadb(found), State::Mariadb(wanted)) => found.drift(wanted),
            (State::Postgresql(_), State::Mariadb(_)) | (State::Mariadb(_), State::Postgresql(_)) => Vec::new(),
        };
        Self { format: DRIFTED, system, server: session.target(), drift }
    }

    const fn exit(&self) -> Exit {
        if self.drift.is_empty() { Exit::Allowed } else { Exit::Denied }
    }

    /// Lists what differs, the server's side first.
    fn render(&self) -> String {
        let Self { format: _, system, server, drift } = self;
        let mut out = String::new();
        if drift.is_empty() {
            let _ = writeln!(out, "{GOOD}no difference{GOOD:#}: {} and the ledger agree ({server})", visible(system));
            return out;
        }
        let _ = writeln!(out, "{HEAD}{}{HEAD:#} and the ledger differ {FAINT}({server}){FAINT:#}\n", visible(system));
        for (side, head, style) in
            [(Side::Server, "more on the server than in the ledger", GOOD), (Side::Ledger, "less on the server than in the ledger", BAD)]
        {
            let some: Vec<&Drift> = drift.iter().filter(|d| d.side == side).collect();
            if some.is_empty() {
                continue;
            }
            let _ = writeln!(out, "{HEAD}{head}{HEAD:#} ({})", some.len());
            for drift in some {
                // As in the difference of two texts, from the ledger to the server.
                let mark = if side == Side::Server { "+" } else { "-" };
                let _ = writeln!(out, "  {style}{mark}{style:#} {}", hanging("    ", &visible(&drift.what)));
            }
            out.push('\n');
        }
        out
    }

    fn in_rows(&self) -> Table {
        let Self { format: _, system, server, drift } = self;
        let caption = match drift.len() {
            0 => format!("no difference: `{system}` and the ledger agree ({server})"),
            count => format!("`{system}` and the ledger differ in {count} ({server})"),
        };
        let mut table = Table::new(caption, [words("only on"), words("what")]);
        for Drift { side, what } in drift {
            table.row([word(*side).into(), what.into()]);
        }
        table
    }
}
