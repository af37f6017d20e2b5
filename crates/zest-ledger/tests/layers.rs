//! Changes as layers: an engine with changes applied is the engine of the changed text.

use std::sync::Arc;

use zest_ledger::ask::{Answer, Change, Conflict, Verdict};
use zest_ledger::source::At;
use zest_ledger::{Engine, Ledger, Question, Rows};
use zest_testkit::edits::Ways;
use zest_testkit::estates::Source;
use zest_testkit::{questions, seed};

const NAME: &str = "estate.toml";

fn compiled(text: &str) -> Engine {
    let estate = Ledger::new().document(NAME, text).estate().unwrap_or_else(|findings| panic!("{findings}\n{text}"));
    Engine::compile(estate).unwrap_or_else(|findings| panic!("{findings}\n{text}"))
}

/// Returns whether two ways name the same entry and key. What a change adds stands, as far as anybody can tell before it is written,
/// at the entry to which it is added.
fn is_same(with: &str, read: &str) -> bool {
    // A rule that comes first moves those behind it on.
    let set =
        |way: &str| way.split_once(".rules.").map(|(set, rule)| (set.to_owned(), rule.split_once('.').map(|(_, key)| key.to_owned())));
    with == read
        || set(with).is_some_and(|with| set(read) == Some(with))
        || read.strip_prefix(with).is_some_and(|rest| rest.starts_with('.'))
}

fn compare(with: (&Answer, &str, &Ways), read: (&Answer, &str, &Ways), about: &str) {
    let ((one, old, old_ways), (other, new, new_ways)) = (with, read);
    let bare = |a: &Answer| a.gates.iter().map(|g| (g.stage, g.outcome, g.text.clone())).collect::<Vec<_>>();
    assert_eq!((one.verdict, one.refusal, bare(one)), (other.verdict, other.refusal, bare(other)), "{about}: {:?}", one.question);
    for (a, b) in one.gates.iter().zip(&other.gates) {
        match (&a.location, &b.location) {
            (None, None) => {}
            (Some(a), Some(b)) => {
                let (a, b) = (old_ways.at(old, a.line, a.column), new_ways.at(new, b.line, b.column));
                assert!(
                    is_same(a, b),
                    "{about}: a gate is written at `{a}` with the change, and at `{b}` once it is read: {:?}",
                    one.question
                );
            }
            (a, b) => panic!("{about}: {a:?} is not {b:?}: {:?}", one.question),
        }
    }
}

#[test]
fn an_engine_with_a_change_is_the_engine_of_the_changed_text() {
    let (first, wanted) = (seed(1), questions(150));
    let (mut applied, mut differ) = (0, 0);
    let mut sorts = std::collections::BTreeMap::<&str, usize>::new();
    for seed in first.. {
        let mut source = Source::new(seed);
        let text = source.ledger();
        let engine = compiled(&text);
        let ways = Ways::of(&text);
        for _ in 0..12 {
            let changes: Vec<Change> = (0..if seed % 3 == 0 { 2 } else { 1 }).map(|_| source.change()).collect();
            let about = format!("seed {seed}, {changes:?}");
            let (changed, edits) = match (engine.with(&changes), engine.edits(&changes)) {
                (Ok(changed), Ok(edits)) => (changed, edits),
                (Err(Conflict::Already(..) | Conflict::Unknown(_)), Err(_)) => continue,
                (Err(Conflict::Invalid(_)), Ok(edits)) => {
                    let new = edits.iter().try_fold(text.clone(), |text, edit| edit.carried_out(&text)).expect("it can be written");
                    let estate = Ledger::new().document(NAME, &new).estate();
                    assert!(estate.and_then(Engine::compile).is_err(), "{about}: only the layer is refused");
                    continue;
                }
                (changed, edits) => panic!("{about}: {:?}, {edits:?}", changed.err()),
            };
            let new = edits
                .iter()
                .try_fold(text.clone(), |text, edit| edit.carried_out(&text))
                .unwrap_or_else(|e| panic!("{about}: {e}\n{text}"));
            let read = compiled(&new);
            let new_ways = Ways::of(&new);
            for _ in 0..12 {
                let question = source.question();
                compare((&changed.explain(&question), &text, &ways), (&read.explain(&question), &new, &new_ways), &about);
                assert_eq!(changed.decide(&question), read.decide(&question), "{about}");
                differ += usize::from(changed.decide(&question).verdict != engine.decide(&question).verdict);
            }
            changes.iter().for_each(|c| *sorts.entry(c.word()).or_default() += 1);
            applied += 1;
        }
        if applied >= wanted {
            break;
        }
    }
    println!("{applied} changes, from seed {first}; {differ} answers are others than before: {sorts:?}");
    assert!(differ * 100 > applied, "only {differ} answers are others than before");
}

#[test]
fn a_remedy_of_the_ledger_turns_the_full_ledger_round() {
    let (first, wanted) = (seed(1), questions(20));
    let (mut refusals, mut with_remedy, mut tried) = (0, 0, 0);
    for seed in first..first + wanted as u64 {
        let mut source = Source::new(seed);
        let text = source.ledger();
        let engine = compiled(&text);
        for _ in 0..8 {
            let question = source.question();
            let answer = engine.ask(&question);
            if answer.verdict != Verdict::Denied {
                continue;
            }
            refusals += 1;
            with_remedy += usize::from(!answer.remedies.is_empty());
            for remedy in answer.remedies.iter().filter(|r| r.steps.iter().any(|s| !s.change.is_of_session())) {
                let changes: Vec<Change> = remedy.steps.iter().map(|s| s.change.clone()).collect();
                let edits = engine.edits(&changes).unwrap_or_else(|e| panic!("seed {seed}: {e}"));
                let new = edits
                    .iter()
                    .try_fold(text.clone(), |text, edit| edit.carried_out(&text))
                    .unwrap_or_else(|e| panic!("seed {seed}: {e}"));
                let mut asked: Question = question.clone();
                changes.iter().for_each(|change| change.apply(&mut asked));
                assert_eq!(compiled(&new).decide(&asked).verdict, remedy.verdict, "seed {seed}: {changes:?} for {question:?}");
                tried += 1;
            }
        }
    }
    println!("{refusals} refusals, {with_remedy} with a remedy, {tried} remedies of the ledger written and read, from seed {first}");
    assert!(tried * 4 > refusals, "only {tried} remedies of the ledger for {refusals} refusals");
}

#[test]
fn a_change_is_the_same_after_a_trip_through_json() {
    let mut source = Source::new(7);
    for _ in 0..200 {
        let change = source.change();
        let text = serde_json::to_string(&change).expect("it can be written");
        assert_eq!(serde_json::from_str::<Change>(&text).expect("it can be read"), change);
    }
    let wrong = |text: &str| serde_json::from_str::<Change>(text).map_err(|e| e.to_string()).expect_err(text);
    assert!(wrong(r#"{"change": "join-grup"}"#).contains("join-group"));
    assert!(wrong(r#"{"change": "join-group", "group": "g"}"#).contains("`user`"));
    assert!(wrong(r#"{"change": "join-group", "group": "g", "user": "u", "owner": true}"#).contains("no key `owner`"));
    assert!(wrong("[]").contains("`change`"));
}

#[test]
fn an_engine_with_other_rows_is_the_engine_of_these_entries() {
    let first = seed(31_000);
    let (mut changed, mut asked, mut other) = (0, 0, 0);
    for seed in first..first + questions(6_000).div_ceil(25) as u64 {
        let mut source = Source::new(seed);
        let engine = compiled(&source.ledger());
        let mut rng = fastrand::Rng::with_seed(seed);
        let mut entries = engine.estate().entries().clone();
        let mut rows = Rows::default();
        let anybody = |place| At::new(format!("user:user-{}", seed % 4), place);
        let system_of = |name: &str| engine.estate().systems().iter().position(|system| system.id.value == *name).expect("it is there");
        for _ in 0..=rng.usize(..3) {
            match rng.u32(..6) {
                0 => {
                    let row = rng.usize(..entries.groups.len());
                    let mut group = (*entries.groups[row]).clone();
                    group.members.push(anybody(group.id.place));
                    entries.groups.set(row, Arc::new(group));
                    rows.groups.insert(row);
                }
                1 => {
                    let row = rng.usize(..entries.command_sets.len());
                    let mut set = (*entries.command_sets[row]).clone();
                    set.rules.reverse();
                    entries.command_sets.set(row, Arc::new(set));
                    rows.sets.insert(row);
                }
                2 => {
                    let row = rng.usize(..entries.roles.len());
                    let (mut role, from) = ((*entries.roles[row]).clone(), (*entries.roles[rng.usize(..entries.roles.len())]).clone());
                    (role.grants, role.commands, role.band, role.includes) = (from.grants, from.commands, from.band, Vec::new());
                    entries.roles.set(row, Arc::new(role));
                    rows.roles.insert(row);
                }
                3 if !entries.hosts.is_empty() => {
                    let row = rng.usize(..entries.hosts.len());
                    let mut host = (*entries.hosts[row]).clone();
                    host.run_as.reverse();
                    host.run_as.iter_mut().for_each(|rule| rule.by.push(anybody(rule.place)));
                    rows.systems.insert(system_of(&host.system.value), Vec::new());
                    entries.hosts.set(row, Arc::new(host));
                }
                4 if !entries.services.is_empty() => {
                    let row = rng.usize(..entries.services.len());
                    let mut service = (*entries.services[row]).clone();
                    service.grants.truncate(2);
                    service.grants.iter_mut().for_each(|grant| grant.to.push(anybody(grant.place)));
                    rows.systems.insert(system_of(&service.system.value), Vec::new());
                    entries.services.set(row, Arc::new(service));
                }
                _ if !entries.databases.is_empty() => {
                    let row = rng.usize(..entries.databases.len());
                    let mut database = (*entries.databases[row]).clone();
                    database.grants.truncate(3);
                    database.accounts.iter_mut().for_each(|account| account.used_by.push(anybody(account.name.place)));
                    rows.systems.insert(system_of(&database.system.value), Vec::new());
                    entries.databases.set(row, Arc::new(database));
                }
                _ => {}
            }
        }
        let whole = engine.with_entries(entries.clone());
        let Ok(whole) = whole else {
            assert!(engine.with_rows(entries, rows).is_err(), "seed {seed}: only the whole is refused");
            continue;
        };
        let with = engine.with_rows(entries, rows).unwrap_or_else(|why| panic!("seed {seed}: {why}"));
        changed += 1;
        for _ in 0..25 {
            let question = source.question();
            asked += 1;
            let (one, two) = (with.explain(&question), whole.explain(&question));
            assert_eq!(one, two, "seed {seed}");
            other += usize::from(one.verdict != engine.decide(&question).verdict);
        }
    }
    println!("{changed} ledgers with other rows, {asked} questions, {other} with another answer than before");
    assert!(changed > 20 && other > 5);
}
