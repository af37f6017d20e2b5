//! `zest emit`, `zest read`, `zest roll-out`: between a ledger and database servers.

use std::fmt::Write as _;
use std::path::Path;

use anyhow::{Context, Result, bail};
use jiff::Timestamp;
use zest_ledger::drift::Step;
use zest_ledger::entry::Kind;
use zest_ledger::estate::Estate;
use zest_ledger::source::visible;
use zest_ledger::{host_configuration, mariadb, postgresql};

use crate::args::{Emit, Part};
#[cfg(not(feature = "live"))]
use crate::args::{Read, RollOut, Trial};
use crate::exit::Exit;
use crate::out::{complain, complain_of, put, say};
use crate::render::style::counted;
use crate::{folder, progress, unknown};

#[cfg(feature = "live")]
pub(crate) use super::live::{read, roll_out};
#[cfg(feature = "live")]
pub(crate) use super::trial::run as trial;

/// What a server has or shall have, by its kind.
pub(crate) enum State {
    Postgresql(postgresql::State),
    Mariadb(mariadb::State),
}

impl State {
    /// Takes what a ledger wants of a system at a moment: now, where none is stated.
    pub(crate) fn of(estate: &Estate, system: &str, at: Timestamp) -> Result<Self> {
        let at = Some(at);
        let entry = unknown::system(estate, system)?;
        match entry.kind() {
            Kind::POSTGRESQL => postgresql::state_of(estate, system, at).map(Self::Postgresql).context("the ledger says nothing of it"),
            Kind::MARIADB => mariadb::state_of(estate, system, at).map(Self::Mariadb).context("the ledger says nothing of it"),
            other => bail!("`{}` is of the kind `{}`; statements are for database servers", visible(system), other.word()),
        }
    }

    fn fresh(&self) -> Self {
        match self {
            Self::Postgresql(state) => Self::Postgresql(postgresql::State::fresh(&state.database, postgresql::BOOTSTRAP)),
            Self::Mariadb(_) => Self::Mariadb(mariadb::State::fresh()),
        }
    }

    /// Returns the statements that lead from here to `ledger`, run by `by`.
    pub(crate) fn steps_to(&self, ledger: &Self, by: &str) -> Vec<Step> {
        match (self, ledger) {
            (Self::Postgresql(a), Self::Postgresql(b)) => a.steps_to(b, by),
            (Self::Mariadb(a), Self::Mariadb(b)) => a.steps_to(b, &account(by)),
            _ => Vec::new(),
        }
    }

    pub(crate) fn script(&self, steps: &[Step], by: &str) -> String {
        match self {
            Self::Postgresql(_) => postgresql::script(steps, by),
            Self::Mariadb(_) => mariadb::script(steps),
        }
    }

    /// Lists what is only named, by object.
    #[cfg(feature = "live")]
    pub(crate) fn not_modelled(&self) -> Vec<String> {
        fn all<'a, K: std::fmt::Display + 'a>(list: impl Iterator<Item = (K, &'a std::collections::BTreeSet<String>)> + 'a) -> Vec<String> {
            list.flat_map(|(name, notes)| notes.iter().map(move |n| format!("{name}: {n}")).collect::<Vec<_>>()).collect()
        }
        let (server, of_accounts, of_objects) = match self {
            Self::Postgresql(s) => (
                &s.not_modelled,
                all(s.roles.iter().map(|(n, r)| (n, &r.not_modelled))),
                all(s.objects.iter().map(|(n, o)| (n, &o.not_modelled))),
            ),
            Self::Mariadb(s) => (
                &s.not_modelled,
                all(s.accounts.iter().map(|(n, a)| (n, &a.not_modelled))),
                all(s.objects.iter().map(|(n, o)| (n, &o.not_modelled))),
            ),
        };
        server.iter().map(|n| format!("the server: {n}")).chain(of_accounts).chain(of_objects).collect()
    }

    #[cfg(feature = "live")]
    pub(crate) fn document(&self, id: &str, address: Option<&str>) -> String {
        match self {
            Self::Postgresql(state) => state.document(id, address),
            Self::Mariadb(state) => state.document(id, address),
        }
    }

    /// Says what of `ledger` cannot be written as statements for a server in this state.
    pub(crate) fn cannot_write(&self, ledger: &Self) -> Option<String> {
        let list = match (self, ledger) {
            (Self::Postgresql(a), Self::Postgresql(b)) => a.cannot_write(b),
            (Self::Mariadb(a), Self::Mariadb(b)) => a.cannot_write(b),
            _ => Vec::new(),
        };
        let lines: Vec<String> = list.iter().map(|l| format!("\n  {}", visible(l))).collect();
        (!lines.is_empty()).then(|| {
            format!("these cannot be made with statements; make them on the server first, or complete the ledger:{}", lines.concat())
        })
    }

    /// Lists what differs and is not led to what the ledger says by any statement.
    pub(crate) fn left_alone(&self, ledger: &Self) -> Vec<String> {
        let list = match (self, ledger) {
            (Self::Postgresql(a), Self::Postgresql(b)) => a.left_alone(b),
            (Self::Mariadb(a), Self::Mariadb(b)) => a.left_alone(b),
            _ => Vec::new(),
        };
        list.iter().map(|line| visible(line)).collect()
    }

    /// Says why going to `ledger` as `by` would lock somebody out.
    pub(crate) fn lock_out(&self, ledger: &Self, by: &str, at: Timestamp) -> Option<String> {
        match (self, ledger) {
            (Self::Postgresql(a), Self::Postgresql(b)) => a.lock_out(b, by, at),
            (Self::Mariadb(a), Self::Mariadb(b)) => a.lock_out(b, &account(by)),
            _ => None,
        }
    }
}

/// Reads who carries statements out on a MariaDB server.
fn account(by: &str) -> mariadb::AccountName {
    mariadb::AccountName::parse(by).unwrap_or_else(|| mariadb::AccountName::new("root", "localhost"))
}

/// Reads the ledger, or prints its findings.
pub(crate) fn estate(path: &Path) -> Result<Estate, Exit> {
    let validated = folder::read(path);
    validated.estate.ok_or_else(|| {
        complain_of!("{}", crate::render::findings::render(&validated.findings));
        Exit::Unreadable
    })
}

pub(crate) fn emit(args: &Emit) -> Result<Exit> {
    let estate = match estate(&args.ledger.ledger) {
        Ok(estate) => estate,
        Err(exit) => return Ok(exit),
    };
    if unknown::system(&estate, &args.system)?.kind() == Kind::HOST {
        return emit_host(estate, args);
    }
    let at = args.moment.moment();
    let wanted = State::of(&estate, &args.system, at)?;
    let (now, since) = match &args.since {
        None => (wanted.fresh(), "a fresh server".to_owned()),
        Some(file) => {
            let read = match self::estate(file) {
                Ok(estate) => estate,
                Err(exit) => return Ok(exit),
            };
            (State::of(&read, &args.system, at)?, file.display().to_string())
        }
    };
    let stops = || now.cannot_write(&wanted).or_else(|| now.lock_out(&wanted, postgresql::BOOTSTRAP, at));
    if let Some(why) = progress::during("looking for lock-outs", stops) {
        complain!("zest: nothing is written for `{}`, at {at}: {why}", visible(&args.system));
        return Ok(Exit::Denied);
    }
    let steps = progress::during("finding the statements", || now.steps_to(&wanted, postgresql::BOOTSTRAP));
    let mut out = String::new();
    let (count, system, ledger) = (counted(steps.len(), "statement"), visible(&args.system), args.ledger.shown());
    let _ = writeln!(out, "-- {system}: {count}, from {} to the ledger {ledger}, at {at}", visible(&since));
    if let State::Postgresql(state) = &wanted {
        let _ = writeln!(out, "-- In the database `{}`, which is there already.", visible(&state.database));
    }
    if let State::Mariadb(_) = &wanted {
        for (end, account) in mariadb::ends_of(&estate, &args.system, at) {
            let _ = writeln!(
                out,
                "-- Too wide from {end} on: who uses {} is good until then; roll out again at that moment.",
                visible(&account)
            );
        }
    }
    for line in now.left_alone(&wanted) {
        let _ = writeln!(out, "-- Left as it is, no statement here changes it: {line}");
    }
    if !steps.is_empty() {
        out.push_str(&wanted.script(&steps, postgresql::BOOTSTRAP));
    }
    put!("{out}");
    Ok(Exit::Allowed)
}

/// Prints one of the files that tell a host the ledger's rules.
fn emit_host(estate: Estate, args: &Emit) -> Result<Exit> {
    let engine = match super::compiled(estate) {
        Ok(engine) => engine,
        Err(findings) => {
            complain_of!("{}", crate::render::findings::render(&findings));
            return Ok(Exit::Unreadable);
        }
    };
    let at = args.moment.moment();
    let told = match progress::during("writing the rules", || host_configuration(&engine, &args.system, at)) {
        Ok(told) => told,
        Err(why) => {
            complain!("zest: nothing is written for `{}`, at {at}: {why}", visible(&args.system));
            return Ok(Exit::Denied);
        }
    };
    match args.part {
        Part::RunAs => put!("{}", told.run_as),
        Part::SignIn => {
            put!("{}", told.sign_in);
            for (account, users) in told.keys_of {
                let users: Vec<String> = users.iter().map(|u| visible(u)).collect();
                say!("# {}: keys of {}", visible(&account), users.join(", "));
            }
        }
    }
    Ok(Exit::Allowed)
}

#[cfg(not(feature = "live"))]
const WITHOUT: &str =
    "this program was built without the clients of database servers; build it with `cargo build --release --features live`";

#[cfg(not(feature = "live"))]
pub(crate) fn read(_: &Read) -> Result<Exit> {
    bail!(WITHOUT)
}

#[cfg(not(feature = "live"))]
pub(crate) fn roll_out(_: &RollOut) -> Result<Exit> {
    bail!(WITHOUT)
}

#[cfg(not(feature = "live"))]
pub(crate) fn trial(_: &Trial) -> Result<Exit> {
    bail!(WITHOUT)
}
