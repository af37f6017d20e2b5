//! Entry and standing: who is asked, whether the session can be opened, and what it then has.

use smallvec::SmallVec;

use super::{Device, Origin, Standpoint};
use crate::engine::conditions;
use crate::engine::duties;
use crate::engine::entry::{find_user, identity, not_stated, person, through};
use crate::engine::rights::Look;
use crate::engine::trace::{Stop, Trace, Understood};
use crate::engine::{Candidate, Engine, LevelBand, Standing};
use crate::links::{Outcome, SystemId, UserId};
use zest_model::ask::{Central, Question, Refusal, Session, Stage};
use zest_model::entry::{Credential, IdentitySource};
use zest_model::source::visible;
use zest_words::nearest;

/// A session of a local account has no command sets.
static LOCAL: Standing = Standing { band: None, sets: SmallVec::new_const(), roles: Vec::new(), is_local: true };

/// Opens the session, or refuses; with an explaining trace it goes on as far as that makes sense.
pub(crate) fn open<'e>(engine: &'e Engine, question: &Question, system: SystemId, trace: &mut Trace) -> Result<Standpoint<'e>, Stop> {
    let session = &question.session;
    let device = Device::of(engine, system).ok_or(Stop)?;
    let user = find_user(engine, question, device.ignores_case, trace)?;
    person(engine, session, user, trace)?;
    let (standing, from, band) = match source(engine, session, (system, device), user, trace)? {
        Source::Central => {
            identity(engine, session, user, trace)?;
            if !engine.estate.separations.is_empty() {
                duties::held_apart(engine, user, session, trace)?;
            }
            assigned(engine, session, system, user, trace)?
        }
        Source::Account(index) => {
            let band = account(engine, session, (system, device), user, index, trace)?;
            match device.standing(engine, Origin::Account(index)) {
                Some(standing) => (standing, Some(Origin::Account(index)), band),
                None => (&LOCAL, None, band),
            }
        }
    };
    let level = session.level.unwrap_or(band.start);
    trace.understood(|| Understood::Level(level));
    let standpoint = Standpoint { system, device, user, standing, from, band, level };
    stated_level(engine, question, &standpoint, trace)?;
    Ok(standpoint)
}

enum Source {
    Central,
    Account(usize),
}

/// Asks the identity sources in order: the central one answers for good when it is up, the local one when it has
/// an account for the user.
fn source(
    engine: &Engine,
    session: &Session,
    (system, device): (SystemId, &Device),
    user: UserId,
    trace: &mut Trace,
) -> Result<Source, Stop> {
    // What is written of a system or a user lies far from what a decision reads: it is fetched where it is told.
    let written = || engine.estate.system(system);
    let order_place = || written().identity_sources.as_ref().map(|s| s.place);
    let mut central_was_down = false;
    for source in &device.sources {
        match source {
            IdentitySource::Central if session.central == Central::Up => {
                if let Some(login) = session.account.as_ref().filter(|login| **login != engine.estate.user(user).id.value) {
                    trace.refuse(Stage::Entry, Refusal::AccountNotAsked, || {
                        (format!("the central source answers and does not know the local account `{}`", visible(login)), order_place())
                    })?;
                }
                return Ok(Source::Central);
            }
            IdentitySource::Central => {
                central_was_down = true;
                trace.pass(Stage::Entry, || ("the central source is down; the next source is asked".to_owned(), order_place()));
            }
            IdentitySource::Local => match find_account(engine, session, (system, device), user) {
                Meant::One(index) => return Ok(Source::Account(index)),
                Meant::Several => {
                    trace.refuse(Stage::Entry, Refusal::SeveralAccounts, || {
                        let usable = usable_accounts(engine, (system, device), user);
                        let list: Vec<String> = usable.map(|i| format!("`{}`", visible(&written().accounts[i].login.value))).collect();
                        let who = visible(&engine.estate.user(user).id.value);
                        (format!("`{who}` may use {}; name one", list.join(", ")), Some(written().id.place))
                    })?;
                    return Err(Stop);
                }
                Meant::Nobodys => {}
            },
        }
    }
    let shown = visible(&engine.estate.user(user).id.value);
    let wanted = session.account.as_ref().map_or_else(|| format!("`{shown}`"), |login| format!("`{shown}` as `{}`", visible(login)));
    let (code, text) = if central_was_down {
        (Refusal::CentralDownNoAccount, format!("the central source is down, and no local account of this device admits {wanted}"))
    } else {
        (Refusal::NoLocalAccount, format!("only local accounts may sign in here, and none admits {wanted}"))
    };
    trace.refuse(Stage::Entry, code, || (text, order_place().or(Some(written().id.place))))?;
    Err(Stop)
}

/// Which account of a device is meant.
pub(super) enum Meant {
    One(usize),
    /// Several would do, and none is named.
    Several,
    /// None is there for this person.
    Nobodys,
}

/// Finds the account a user may use: the one that is named, or else the one of the user's name, or else the only one that is not locked and
/// has a credential, or else the first that lets nobody in.
pub(super) fn find_account(engine: &Engine, session: &Session, (system, device): (SystemId, &Device), user: UserId) -> Meant {
    let accounts = &engine.estate.system(system).accounts;
    let name = &engine.estate.user(user).id.value;
    let of = |login: &str| (0..accounts.len()).find(|&i| device.is_same_name(&accounts[i].login.value, login));
    let may_use = |&i: &usize| may_use(engine, (system, device), user, i);
    if let Some(login) = &session.account {
        return of(login).filter(may_use).map_or(Meant::Nobodys, Meant::One);
    }
    if let Some(own) = of(name) {
        return Meant::One(own);
    }
    let mut usable = usable_accounts(engine, (system, device), user);
    match (usable.next(), usable.next()) {
        (Some(_), Some(_)) => Meant::Several,
        (Some(one), None) => Meant::One(one),
        (None, _) => (0..accounts.len()).find(may_use).map_or(Meant::Nobodys, Meant::One),
    }
}

/// Whether an account is the user's own or lent to them.
pub(super) fn may_use(engine: &Engine, (system, device): (SystemId, &Device), user: UserId, account: usize) -> bool {
    let login = &engine.estate.system(system).accounts[account].login.value;
    device.is_same_name(login, &engine.estate.user(user).id.value)
        || device.links.accounts[account].used_by.iter().any(|&(party, _)| engine.membership.belongs(user, party))
}

/// The accounts that a user may use, which are not locked and have a credential.
pub(super) fn usable_accounts<'e>(
    engine: &'e Engine,
    (system, device): (SystemId, &'e Device),
    user: UserId,
) -> impl Iterator<Item = usize> + 'e {
    let accounts = &engine.estate.system(system).accounts;
    (0..accounts.len()).filter(move |&i| {
        let is_locked = accounts[i].locked.as_ref().is_some_and(|l| l.value);
        let has_credential = accounts[i].credential.as_ref().is_none_or(|c| c.value == Credential::Set);
        !is_locked && has_credential && may_use(engine, (system, device), user, i)
    })
}

type Opened<'e> = (&'e Standing, Option<Origin>, LevelBand);

/// Finds the first assignment that applies. Where one cannot be known, no later one is tried: it might be the one.
fn assigned<'e>(engine: &'e Engine, session: &Session, system: SystemId, user: UserId, trace: &mut Trace) -> Result<Opened<'e>, Stop> {
    let mut failed: Option<Candidate> = None;
    let mut chosen = None;
    for candidate in engine.candidates(user, system) {
        let id = candidate.assignment;
        let outcome = if candidate.is_firm {
            Outcome::Holds
        } else {
            engine.estate.assignments[id.index()].conditions.outcome(engine.facts(session, user, system))
        };
        if outcome != Outcome::Fails {
            chosen = Some((candidate, outcome));
            break;
        }
        failed = failed.or(Some(candidate));
    }
    let Some((candidate, outcome)) = chosen.or(failed.map(|c| (c, Outcome::Fails))) else {
        trace.refuse(Stage::Standing, Refusal::NoAssignment, || {
            let who = visible(&engine.estate.user(user).id.value);
            let text = format!("no assignment covers `{who}` on `{}`", visible(&engine.estate.system(system).id.value));
            (text, Some(engine.estate.user(user).id.place))
        })?;
        return Err(Stop);
    };
    let id = candidate.assignment;
    let (number, standing) = engine.standing(id);
    let links = || &engine.estate.assignments[id.index()];
    trace.pass(Stage::Standing, || (through(engine, user, id), Some(links().entry.place)));
    let Some(band) = standing.band else {
        trace.refuse(Stage::Entry, Refusal::NoBand, || {
            (
                "the roles of the assignment give no band, so no session can be opened".to_owned(),
                links().entry.roles.first().map(|r| r.place),
            )
        })?;
        return Err(Stop);
    };
    trace.pass(Stage::Standing, || {
        (format!("the band starts at level {} and its ceiling is {}", band.start, band.ceiling), Some(band.ceiling_place))
    });
    if outcome != Outcome::Holds || trace.explains() {
        conditions::check(&links().conditions, &engine.facts(session, user, system), "the assignment", trace)?;
    }
    Ok((standing, Some(Origin::Assignment(number)), band))
}

/// Opens a session of a local account.
fn account(
    engine: &Engine,
    session: &Session,
    (system, device): (SystemId, &Device),
    user: UserId,
    index: usize,
    trace: &mut Trace,
) -> Result<LevelBand, Stop> {
    let entry = &engine.estate.system(system).accounts[index];
    let links = &device.links.accounts[index];
    let shown = || visible(&entry.login.value);
    trace.understood(|| Understood::Account(entry.login.value.clone()));
    trace.pass(Stage::Entry, || {
        let who = visible(&engine.estate.user(user).id.value);
        let place =
            links.used_by.iter().find(|&&(party, _)| engine.membership.belongs(user, party)).map_or(entry.login.place, |&(_, place)| place);
        (format!("`{who}` signs in with the local account `{}`", shown()), Some(place))
    });
    if let Some(locked) = entry.locked.as_ref().filter(|l| l.value) {
        trace.refuse(Stage::Entry, Refusal::AccountLocked, || (format!("the account `{}` is locked", shown()), Some(locked.place)))?;
    }
    if let Some(credential) = entry.credential.as_ref().filter(|c| c.value != Credential::Set) {
        trace.refuse(Stage::Entry, Refusal::AccountWithoutCredential, || {
            (format!("the credential of account `{}` is {}", shown(), credential.value.word()), Some(credential.place))
        })?;
    }
    if let Some(origins) = &links.origin {
        let place = entry.origin.iter().flatten().next().map_or(entry.login.place, |o| o.place);
        session.ear.looked(|| Look::Networks(origins.list()));
        match session.origin {
            None => not_stated(trace, "the origin", place)?,
            Some(address) => match origins.find(address) {
                Some(place) => trace.pass(Stage::Entry, || (format!("the account is admitted from {address}"), Some(place))),
                None => trace.refuse(Stage::Entry, Refusal::OriginNotAdmitted, || {
                    let list: Vec<String> = entry.origin.iter().flatten().map(|o| visible(&o.value)).collect();
                    (format!("the account `{}` is admitted from {} only, not from {address}", shown(), list.join(", ")), Some(place))
                })?,
            },
        }
    }
    let Some(band) = entry.band.as_ref().map(LevelBand::read) else {
        trace.refuse(Stage::Entry, Refusal::NoBand, || {
            (format!("the account `{}` has no band, so no session can be opened", shown()), Some(entry.login.place))
        })?;
        return Err(Stop);
    };
    trace.pass(Stage::Standing, || {
        (format!("the account's band starts at level {} and its ceiling is {}", band.start, band.ceiling), Some(band.ceiling_place))
    });
    Ok(band)
}

/// Checks a level or mode that the question states: it must be one that the session could have come to.
fn stated_level(engine: &Engine, question: &Question, at: &Standpoint<'_>, trace: &mut Trace) -> Result<(), Stop> {
    let session = &question.session;
    let vocabulary = at.device.vocabulary(engine);
    let mode = match &session.mode {
        None => vocabulary.start_mode,
        Some(name) => match vocabulary.mode(name) {
            Some(mode) => mode,
            None => {
                trace.refuse(Stage::Standing, Refusal::UnknownMode, || {
                    let near = nearest(name, vocabulary.modes.iter().map(String::as_str))
                        .map_or(String::new(), |n| format!("; did you mean `{n}`?"));
                    let place = engine.estate.system(at.system).vocabulary.as_ref().map(|v| v.place);
                    (format!("the device has no mode `{}`{near}", visible(name)), place)
                })?;
                return Err(Stop);
            }
        },
    };
    if at.level > at.band.ceiling {
        return trace.refuse(Stage::Standing, Refusal::LevelAboveCeiling, || {
            (format!("the session cannot be at level {}: its ceiling is {}", at.level, at.band.ceiling), Some(at.band.ceiling_place))
        });
    }
    if at.level == at.band.start && mode == vocabulary.start_mode {
        return Ok(());
    }
    let is_shut = at.standing.is_local && session.central == Central::Down;
    let reach = match at.from.filter(|_| !(is_shut && at.device.nothing_when_down)) {
        Some(from) => at.device.reach(engine, from),
        None => at.device.reach_of_account(engine, at.band, session.central),
    };
    if !reach.has_level(at.level) {
        trace.refuse(Stage::Standing, Refusal::LevelNotReached, || {
            (format!("no permitted elevation leads from level {} to level {}", at.band.start, at.level), Some(at.band.start_place))
        })?;
    } else if !reach.has(mode, at.level) {
        trace.refuse(Stage::Standing, Refusal::ModeNotReached, || {
            let name = visible(&vocabulary.modes[mode.index()]);
            (format!("no permitted command leads into the mode `{name}` at level {}", at.level), Some(at.band.start_place))
        })?;
    }
    // What the lines that lead there want done first counts for whoever is there.
    for owed in reach.owed(mode, at.level) {
        if let Some(duties) = &engine.estate.sets[owed.set.index()].rules[owed.rule as usize].after {
            let mut raising = Question { line: owed.line.clone(), ..question.clone() };
            (raising.session.level, raising.session.mode) = (None, None);
            crate::engine::obligations::check(at.site(engine), at.user, &raising, duties, trace)?;
        }
    }
    Ok(())
}
