//! What a user may do on each system, through what: the set of rights, told line by line.

use std::collections::BTreeMap;

use rustc_hash::FxHashMap;

use super::through::Through;
use super::together::{in_few_words, of_one_name, with_all_below};
use zest_engine::Engine;
use zest_engine::classes::Classes;
use zest_engine::links::UserId;
use zest_engine::rights::{Action, Best, Line, Membership, Rights, Side, Within, rights};
use zest_engine::rules::{Combining, Site};
use zest_model::ask::{Act, Answer, Central, Form, Gate, GateOutcome, Question, Session, Stage};
use zest_model::listing::{BestSession, Cause, Effective, Right};
use zest_model::source::{Location, visible};

/// Returns what a user may do on each system, or on one of them, in sessions of which some facts are stated; nothing for an unknown
/// user. Systems where it is the same stand together.
///
/// # Example
/// ```
/// use zest_ledger::{Engine, Ledger, ask::Session, review::effective};
/// let estate = Ledger::new().document("demo.toml", r#"
/// [users.watch-1]
/// proofs = ["password"]
/// [vocabularies.corvane-os]
/// commands = [{ line = "show release" }, { line = "show log", level = 7 }]
/// [systems.sw-1]
/// kind = "network-device"
/// vocabulary = "corvane-os"
/// no-command-set = "everything"
/// [roles.reader]
/// band = { start = 1, ceiling = 1 }
/// [[assignments]]
/// to = ["user:watch-1"]
/// roles = ["reader"]
/// on = { all = true }
/// "#).estate()?;
/// let listed = effective(&Engine::compile(estate)?, "watch-1", None, &Session::default()).expect("the user is known");
/// assert_eq!(listed[0].rights[0].actions, ["show release"]);
/// # Ok::<(), zest_ledger::finding::Findings>(())
/// ```
#[must_use]
pub fn effective(engine: &Engine, user: &str, system: Option<&str>, session: &Session) -> Option<Vec<Effective>> {
    each_system(engine, user, system, |side| {
        let set = rights(&[side], &Within { stated: session.clone(), ..Within::default() }).pop()?;
        Some(on_system(engine, &set, session))
    })
}

/// Returns what a user may do on each system, or on one of them, in the one session in which that is most, of those of which some facts
/// are stated; nothing for an unknown user. Systems where it is the same stand together.
///
/// # Example
/// ```
/// use zest_ledger::{Engine, Ledger, ask::Session, review::best};
/// let estate = Ledger::new().document("rota.toml", r#"
/// users.mate-1.proofs = ["password"]
/// systems.rota.kind = "application"
/// [applications.rota]
/// types.shift.rights = ["plan"]
/// objects."shift/early" = {}
/// grants = [{ allow = ["plan"], on = "shift/*", to = ["user:mate-1"], when = { channel = ["web"] } }]
/// "#).estate()?;
/// let listed = best(&Engine::compile(estate)?, "mate-1", None, &Session::default()).expect("the user is known");
/// assert_eq!((listed[0].sessions.as_str(), listed[0].best.as_ref().expect("something may be done").allowed), ("with password, by web", 2));
/// assert_eq!(listed[0].rights[0].when, "");
/// # Ok::<(), zest_ledger::finding::Findings>(())
/// ```
#[must_use]
pub fn best(engine: &Engine, user: &str, system: Option<&str>, session: &Session) -> Option<Vec<Effective>> {
    each_system(engine, user, system, |side| {
        let all = rights(&[side], &Within { stated: session.clone(), ..Within::default() }).pop()?;
        let Some(best) = all.best() else { return Some(on_system(engine, &all, session)) };
        let Best { opening, session, allowed, after, is_proved, rights } = best;
        let mut told = on_system(engine, &rights, &session);
        // OK because something is allowed in it.
        let example = Question { session, ..told.rights.first()?.example.clone() };
        told.best = Some(BestSession { starts: starts(&all, &[opening]), allowed, after, is_proved, example, more: zest_model::More });
        Some(told)
    })
}

/// Lists each system, or one of them, on which there is something to say of a user.
fn each_system(engine: &Engine, user: &str, system: Option<&str>, on: impl Fn(Side<'_>) -> Option<Effective>) -> Option<Vec<Effective>> {
    let id = engine.find_user(user, false)?;
    let wanted: Vec<Site<'_>> = match system {
        Some(name) => engine.site(name).into_iter().collect(),
        None => {
            // Where a database server has no account of somebody there is nothing to list; elsewhere that is worth saying.
            let concerns = |site: &Site<'_>| site.kind().combining() != Combining::NotLookedAt || site.kind().concerns(*site, id);
            engine.all_sites().filter(concerns).collect()
        }
    };
    let mut list: Vec<Effective> = Vec::new();
    wanted.into_iter().filter_map(|site| on(Side { site, user: id })).for_each(|found| add(&mut list, found));
    Some(list)
}

/// What is looked for on a system.
///
/// # Example
/// ```
/// use zest_ledger::{Ledger, ask::Session, review::{Sought, means}};
/// # let text = r#"
/// # users.mate-1.proofs = ["password"]
/// # users.mate-2.proofs = ["password"]
/// # systems.rota.kind = "application"
/// # [applications.rota]
/// # types.shift.rights = ["plan"]
/// # objects."shift/early" = {}
/// # grants = [{ allow = ["plan"], on = "shift/*", to = ["user:mate-1"] }]
/// # "#;
/// # let engine = Ledger::new().document("rota.toml", text).engine(1)?;
/// let count = |sought| means(&engine, "mate-1", &["rota"], sought, &Session::default()).len();
/// assert_eq!((count(Sought::Line("plan on shift/early")), count(Sought::Like("plan on **")), count(Sought::Line("plan on shift/late"))), (1, 1, 0));
/// # Ok::<(), zest_ledger::finding::Findings>(())
/// ```
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Sought<'a> {
    /// A line: a command, an operation on a resource, a privilege on an object.
    Line(&'a str),
    /// An SQL statement.
    Statement(&'a str),
    /// All actions that a pattern takes, as the kind of a system writes it: a rule on devices and hosts (`show log ...`), an operation on
    /// a path on clouds and in applications (`hulls.* on lanternsound/**`), a privilege on databases (`select on table fares.*`).
    Like(&'a str),
}

/// Returns by what somebody may do what is looked for, on some systems; nothing where that is nothing, or for an unknown user.
///
/// Asked of everybody, it says who may.
///
/// # Example
/// ```
/// use zest_ledger::{Engine, Ledger, ask::Session, review::{Sought, means}};
/// let estate = Ledger::new().document("rota.toml", r#"
/// [users.mate-1]
/// proofs = ["password"]
/// [users.mate-2]
/// proofs = ["password"]
/// [systems.rota]
/// kind = "application"
/// [applications.rota]
/// types.shift.rights = ["plan"]
/// objects."shift/early" = {}
/// grants = [{ allow = ["plan"], on = "shift/*", to = ["user:mate-1"] }]
/// "#).estate()?;
/// let engine = Engine::compile(estate)?;
/// let may = |user: &str| !means(&engine, user, &["rota"], Sought::Like("plan on **"), &Session::default()).is_empty();
/// assert_eq!((may("mate-1"), may("mate-2")), (true, false));
/// # Ok::<(), zest_ledger::finding::Findings>(())
/// ```
#[must_use]
pub fn means(engine: &Engine, user: &str, systems: &[&str], sought: Sought<'_>, session: &Session) -> Vec<Effective> {
    let Some(id) = engine.find_user(user, false) else { return Vec::new() };
    let mut list: Vec<Effective> = Vec::new();
    for site in systems.iter().filter_map(|name| engine.site(name)) {
        let side = Side { site, user: id };
        let actions = sought_on(&side, sought, None);
        if actions.is_empty() {
            continue;
        }
        let Some(set) = rights(&[side], &Within { stated: session.clone(), actions, ..Within::default() }).pop() else { continue };
        let found = on_system(engine, &set, session);
        if found.rights.is_empty() {
            continue;
        }
        add(&mut list, found);
    }
    list
}

/// Returns the actions that are looked for on a system; those that a pattern takes are kept with classes of people, if there are any.
pub(crate) fn sought_on(side: &Side<'_>, sought: Sought<'_>, classes: Option<&Classes<'_>>) -> Vec<Action> {
    let mut actions = match sought {
        Sought::Line(line) => vec![Action::alone(line, Form::Line)],
        Sought::Statement(sql) => vec![Action::alone(sql, Form::Statement)],
        // Systems of other kinds may read it.
        Sought::Like(pattern) => match classes {
            Some(classes) => classes.like(side, pattern).as_ref().clone().unwrap_or_default(),
            None => side.site.kind().like(&[*side], pattern).unwrap_or_default(),
        },
    };
    // What came before may have been left out.
    actions.iter_mut().for_each(|action| action.like = None);
    actions
}

/// Says why a pattern cannot be looked for, if no system of some can read it.
///
/// # Errors
/// What the first of them expects instead.
///
/// # Example
/// ```
/// use zest_ledger::{Ledger, review::readable};
/// # let text = r#"
/// # users.mate-1.proofs = ["password"]
/// # users.mate-2.proofs = ["password"]
/// # systems.rota.kind = "application"
/// # [applications.rota]
/// # types.shift.rights = ["plan"]
/// # objects."shift/early" = {}
/// # grants = [{ allow = ["plan"], on = "shift/*", to = ["user:mate-1"] }]
/// # "#;
/// # let engine = Ledger::new().document("rota.toml", text).engine(1)?;
/// assert!(readable(&engine, &["rota"], "plan on shift/*").is_ok());
/// let why = readable(&engine, &["rota"], "plan shift/*").expect_err("an application reads rights on objects");
/// assert!(!why.is_empty());
/// # Ok::<(), zest_ledger::finding::Findings>(())
/// ```
pub fn readable(engine: &Engine, systems: &[&str], pattern: &str) -> Result<(), String> {
    let mut first = None;
    for site in systems.iter().filter_map(|name| engine.site(name)) {
        let Some(user) = (!engine.estate().users().is_empty()).then(|| UserId::new(0)) else { return Ok(()) };
        match site.kind().like(&[Side { site, user }], pattern) {
            Ok(_) => return Ok(()),
            Err(why) => drop(first.get_or_insert(why)),
        }
    }
    first.map_or(Ok(()), Err)
}

/// Adds what is listed of a system; systems of which the same is listed stand together.
pub(super) fn add(list: &mut Vec<Effective>, found: Effective) {
    match list.iter_mut().find(|known| known.user == found.user && is_same(known, &found)) {
        Some(known) => known.systems.extend(found.systems),
        None => list.push(found),
    }
}

/// Returns whether the same is listed twice, line by line, whoever and wherever.
pub(super) fn is_same(one: &Effective, other: &Effective) -> bool {
    one.is_like(other) && one.rights.iter().zip(&other.rights).all(|(a, b)| a.lines == b.lines)
}

pub(super) fn on_system(engine: &Engine, set: &Rights, session: &Session) -> Effective {
    let lines = set.lines();
    let refused = if lines.is_empty() { why_nothing(engine, set, session) } else { None };
    Effective {
        user: set.user.clone(),
        systems: vec![set.system.clone()],
        sessions: set.entry_words(),
        refused,
        left_out: set.left_out(),
        best: None,
        rights: told(engine, set, &lines),
        more: zest_model::More,
    }
}

/// Says why nothing may be done: why no session is opened, if that is it.
fn why_nothing(engine: &Engine, set: &Rights, session: &Session) -> Option<Cause> {
    let answer = engine.sign_in(&Question::in_session(&set.user, &set.system, "", session.clone()));
    let gate = answer.first_refusal()?;
    Some(Cause { text: gate.text.clone(), place: gate.location.clone() })
}

/// Names that stand for several.
type Collections = [(String, Vec<String>)];

/// On what a right rests.
#[derive(Clone, Debug, PartialEq, Eq, Hash)]
struct Ground {
    place: Option<(String, u32, u32)>,
    after: Vec<String>,
    /// The texts of what the session stands on.
    standing: Vec<String>,
}

/// What was told of an action.
struct Told {
    ground: Ground,
    text: String,
    place: Option<Location>,
    standing: Vec<Cause>,
}

/// Returns what gives an action: the rule that decided, or else the last gate that let it pass.
fn ground(engine: &Engine, answer: &Answer) -> Told {
    let estate = engine.estate();
    let of_rule =
        answer.rule.map(|rule| estate.sources().locate(estate.set_links()[rule.set.index()].rules[rule.index as usize].text.place));
    let permits = |gate: &&Gate| gate.stage == Stage::Permission && gate.outcome == GateOutcome::Passes && !gate.is_remark();
    let by_rule = |gate: &&Gate| of_rule.is_some() && gate.location == of_rule;
    let gates = || answer.gates.iter().rev().filter(permits);
    let gate = gates().find(by_rule).or_else(|| gates().next());
    let place = gate.and_then(|gate| gate.location.clone());
    let after = answer.gates.iter().filter(|gate| gate.outcome == GateOutcome::Asks).map(|gate| gate.text.clone()).collect();
    let at = place.as_ref().map(|l| (l.file.clone(), l.line, l.column));
    let stands = answer.gates.iter().filter(|gate| gate.stage == Stage::Standing && gate.outcome == GateOutcome::Passes);
    let standing: Vec<Cause> = stands.map(|gate| Cause { text: gate.text.clone(), place: gate.location.clone() }).collect();
    let texts = standing.iter().map(|cause| cause.text.clone()).collect();
    Told {
        standing,
        ground: Ground { place: at, after, standing: texts },
        text: gate.map_or_else(String::new, |gate| gate.text.clone()),
        place,
    }
}

/// Actions of one line that rest on one ground.
struct Group {
    openings: Vec<usize>,
    told: Told,
    through: Through,
    /// The actions by what they are on, in order.
    on: Vec<(String, Vec<usize>)>,
}

pub(super) fn told(engine: &Engine, set: &Rights, lines: &[Line]) -> Vec<Right> {
    let mut list = Vec::new();
    let collections = engine.site(&set.system).map_or_else(Vec::new, |site| site.kind().collections(site));
    for line in lines {
        let mut groups: Vec<Group> = Vec::new();
        let mut known: FxHashMap<(Vec<usize>, Ground), usize> = FxHashMap::default();
        // What gives it may differ from opening to opening; levels and modes alone make no difference.
        let alike = set.grouped(&line.openings, |session| Session { level: None, mode: None, ..session.clone() });
        for &action in &line.actions {
            let mut grounds: Vec<(Told, Vec<usize>)> = Vec::new();
            for (_, openings) in &alike {
                let told = ground(engine, &engine.explain(&set.asked(line, openings[0], action)));
                match grounds.iter_mut().find(|(known, _)| known.ground == told.ground) {
                    Some((_, known)) => known.extend(openings),
                    None => grounds.push((told, openings.clone())),
                }
            }
            for (told, openings) in grounds {
                let text = told.text.clone();
                let under = &set.actions()[action].under;
                let at = *known.entry((openings.clone(), told.ground.clone())).or_insert_with(|| {
                    groups.push(Group { openings, told, through: Through::of(&text), on: Vec::new() });
                    groups.len() - 1
                });
                let group = &mut groups[at];
                group.through.and(&text);
                match group.on.iter_mut().find(|(known, _)| known == under) {
                    Some((_, actions)) => actions.push(action),
                    None => group.on.push((under.clone(), vec![action])),
                }
            }
        }
        list.extend(groups.iter().flat_map(|group| rights_of(set, lines, line, group, &collections)));
    }
    list
}

/// Tells the actions of a group: what the same actions are on stands together.
fn rights_of(set: &Rights, lines: &[Line], line: &Line, group: &Group, collections: &Collections) -> Vec<Right> {
    let named = group.on.iter().map(|(on, actions)| {
        let mut names: Vec<&str> = actions.iter().map(|&action| set.actions()[action].name.as_str()).collect();
        names.dedup();
        (names, (on.as_str(), actions.as_slice()))
    });
    let one = |(names, under): (Vec<&str>, Vec<(&str, &[usize])>)| {
        let actions: Vec<usize> = under.iter().flat_map(|(_, actions)| actions.iter().copied()).collect();
        let on: Vec<&str> = under.iter().map(|(on, _)| *on).filter(|on| !on.is_empty()).collect();
        let is_all = actions.len() > 1 && actions.len() == set.actions().len();
        Right {
            allowed: line.membership,
            on: if is_all { Vec::new() } else { with_all_below(set.actions(), names[0], &on) },
            actions: if is_all { vec!["anything".to_owned()] } else { in_few_words(&names, under[0].0, set.actions(), collections) },
            except: except(set, lines, line, &actions),
            lines: actions.iter().map(|&action| set.actions()[action].line.clone()).collect(),
            starts: starts(set, &group.openings),
            when: line.when.clone(),
            after: group.told.ground.after.clone(),
            standing: group.told.standing.clone(),
            through: group.through.told(),
            place: group.told.place.clone(),
            example: set.asked(line, group.openings[0], actions[0]),
            more: zest_model::More,
        }
    };
    of_one_name(named).into_iter().map(one).collect()
}

/// Returns lines that are called as some actions are and are not allowed where they are: the shortest of each name.
fn except(set: &Rights, lines: &[Line], line: &Line, actions: &[usize]) -> Vec<String> {
    let mut found: BTreeMap<&str, &str> = BTreeMap::new();
    let is_allowed = |action: usize| {
        let mut others = lines.iter().filter(|other| other.membership == Membership::Allowed || other.membership == line.membership);
        others.any(|other| other.actions.contains(&action) && line.openings.iter().any(|opening| other.openings.contains(opening)))
    };
    for &action in actions {
        let of = &set.actions()[action];
        let same = set.actions().iter().enumerate().filter(|(_, other)| other.name == of.name && other.under == of.under);
        for (_, other) in same.filter(|(number, _)| !is_allowed(*number)) {
            let shortest = found.entry(&of.name).or_insert(&other.line);
            if other.line.len() < shortest.len() {
                *shortest = &other.line;
            }
        }
    }
    found.into_values().map(str::to_owned).collect()
}

/// Says how sessions start that are meant; nothing where all are that can be opened.
fn starts(set: &Rights, openings: &[usize]) -> Vec<String> {
    // As whom and on which account first: within one of these, roles, levels and modes.
    let all: Vec<usize> = (0..set.openings().len()).collect();
    let identities = set.grouped(&all, |session| Session { level: None, mode: None, active_roles: None, ..session.clone() });
    let is_one = identities.len() == 1;
    let sessions = |list: &[usize]| -> Vec<&Session> { list.iter().map(|&opening| &set.openings()[opening].session).collect() };
    let mut list = Vec::new();
    let mut is_everywhere = true;
    for (who, possible) in identities {
        let here: Vec<usize> = openings.iter().copied().filter(|opening| possible.contains(opening)).collect();
        let is_whole = here.len() == possible.len();
        is_everywhere &= is_whole;
        let inner = if is_whole { Some(String::new()) } else { within(&sessions(&here), &sessions(&possible)) };
        let Some(inner) = inner else { continue };
        let mut words: Vec<String> = Some(inner).into_iter().filter(|inner| !inner.is_empty()).collect();
        words.extend(told_identity(&who).or_else(|| (!is_one && words.is_empty()).then(|| "in their own name".to_owned())));
        list.push(words.join(", "));
    }
    if is_everywhere { Vec::new() } else { list }
}

/// Says as whom a session starts; nothing for oneself.
fn told_identity(session: &Session) -> Option<String> {
    let mut words: Vec<String> = session.account.iter().map(|account| format!("with account {}", visible(account))).collect();
    words.extend(session.acting.iter().map(Act::to_string));
    if session.central == Central::Down {
        words.push("while the central source is down".to_owned());
    }
    (!words.is_empty()).then(|| words.join(", "))
}

/// Says which of the sessions of one identity are meant: by their roles, or by mode and level. Nothing where none is.
fn within(here: &[&Session], possible: &[&Session]) -> Option<String> {
    if here.is_empty() {
        return None;
    }
    if possible.iter().any(|session| session.active_roles.is_some()) {
        let missing: Vec<&Session> = possible.iter().copied().filter(|session| !here.contains(session)).collect();
        let is_default = here.iter().any(|session| session.active_roles.is_none());
        return Some(if is_default && missing.len() < here.len() { format!("not {}", with_roles(&missing)) } else { with_roles(here) });
    }
    let mut modes: Vec<(Option<&str>, Vec<u8>)> = Vec::new();
    for session in here {
        match modes.iter_mut().find(|(mode, _)| *mode == session.mode.as_deref()) {
            Some((_, levels)) => levels.extend(session.level),
            None => modes.push((session.mode.as_deref(), Vec::from_iter(session.level))),
        }
    }
    let told: Vec<String> = modes.iter().map(|(mode, levels)| at_levels(*mode, levels)).collect();
    Some(told.join(" or "))
}

/// Says which roles are active in some sessions.
fn with_roles(sessions: &[&Session]) -> String {
    let (mut words, mut roles): (Vec<String>, Vec<String>) = (Vec::new(), Vec::new());
    for session in sessions {
        match session.active_roles.as_deref() {
            None => words.push("as it starts by itself".to_owned()),
            Some([]) => words.push("with no role active".to_owned()),
            Some(several) => roles.push(several.iter().map(|role| visible(role)).collect::<Vec<_>>().join(" and ")),
        }
    }
    words.extend((!roles.is_empty()).then(|| format!("with role {} active", roles.join(" or "))));
    words.join(" or ")
}

/// Says a mode and levels.
fn at_levels(mode: Option<&str>, levels: &[u8]) -> String {
    let mut levels = levels.to_vec();
    levels.sort_unstable();
    let levels = match levels.as_slice() {
        [] => String::new(),
        [one] => format!("at level {one}"),
        [first, .., last] if usize::from(last - first) + 1 == levels.len() => format!("at levels {first}-{last}"),
        several => format!("at levels {}", several.iter().map(u8::to_string).collect::<Vec<_>>().join(", ")),
    };
    let mode = mode.map(|mode| format!("in mode {}", visible(mode)));
    let words: Vec<String> = Some(levels).into_iter().filter(|l| !l.is_empty()).chain(mode).collect();
    if words.is_empty() { "as it starts by itself".to_owned() } else { words.join(", ") }
}
