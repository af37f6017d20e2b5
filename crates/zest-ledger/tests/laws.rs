//! Laws that hold for every ledger and question, tried on random ones.

use zest_ledger::ask::{Decision, Refusal, Verdict};
use zest_ledger::entry::{CommandSet, Rule, RuleVerb};
use zest_ledger::rehearsal::{Effect, Rehearsal};
use zest_ledger::source::At;
use zest_ledger::{Engine, Ledger, Question, ask::Session};
use zest_testkit::random::Source;

/// The entries of a ledger once more, changed by the callers.
fn rebuilt(engine: &Engine, reversed: bool, mut set: impl FnMut(&mut CommandSet)) -> Engine {
    let estate = engine.estate();
    fn all<T: Clone>(list: &zest_ledger::estate::Table<std::sync::Arc<T>>, reversed: bool) -> Vec<T> {
        let owned = list.iter().map(|entry| T::clone(entry));
        if reversed { owned.rev().collect() } else { owned.collect() }
    }
    let mut ledger = Ledger::new();
    for user in all(estate.users(), reversed) {
        ledger = ledger.user(user);
    }
    for group in all(estate.groups(), reversed) {
        ledger = ledger.group(group);
    }
    for system in all(estate.systems(), reversed) {
        ledger = ledger.system(system);
    }
    for vocabulary in all(estate.vocabularies(), reversed) {
        ledger = ledger.vocabulary(vocabulary);
    }
    for mut entry in all(estate.command_sets(), reversed) {
        set(&mut entry);
        ledger = ledger.command_set(entry);
    }
    for role in all(estate.roles(), reversed) {
        ledger = ledger.role(role);
    }
    // The order of assignments decides, so it stays.
    for assignment in all(estate.assignments(), false) {
        ledger = ledger.assignment(assignment);
    }
    Engine::compile(ledger.estate().expect("it stays valid")).expect("it still compiles")
}

/// Random ledgers with questions; the seed is named when a law is broken.
fn each(rounds: u64, questions: usize, mut law: impl FnMut(u64, &Engine, &[Question])) {
    for seed in 5_000..5_000 + rounds {
        let mut source = Source::new(seed);
        let engine = Engine::compile(source.ledger().estate().expect("random ledgers are valid")).expect("they compile");
        let asked: Vec<Question> = (0..questions).map(|_| source.question()).collect();
        law(seed, &engine, &asked);
    }
}

fn verdict_and_code(decision: Decision) -> (Verdict, Option<Refusal>) {
    (decision.verdict, decision.refusal)
}

#[test]
fn only_the_order_of_assignments_and_rules_matters() {
    each(60, 60, |seed, engine, questions| {
        let turned = rebuilt(engine, true, |_| {});
        for question in questions {
            let (one, other) = (engine.decide(question), turned.decide(question));
            assert_eq!(verdict_and_code(one), verdict_and_code(other), "seed {seed}: {question:?}");
        }
    });
}

#[test]
fn a_deny_at_the_top_never_allows_more() {
    each(60, 60, |seed, engine, questions| {
        let pattern = ["show ...", "elevate ...", "...", "ping {address}", "{word}"][seed as usize % 5];
        let narrower = rebuilt(engine, false, |set| {
            set.rules.insert(0, Rule { verb: RuleVerb::Deny, text: At::here(pattern.to_owned()), after: None, because: None });
        });
        for question in questions {
            let (before, after) = (engine.decide(question), narrower.decide(question));
            let grew = before.verdict == Verdict::Denied && after.verdict != Verdict::Denied;
            assert!(!grew, "seed {seed}: `deny {pattern}` allowed {question:?}");
        }
    });
}

#[test]
fn an_allow_at_the_end_never_allows_less() {
    each(60, 60, |seed, engine, questions| {
        let wider = rebuilt(engine, false, |set| {
            set.rules.push(Rule { verb: RuleVerb::Allow, text: At::here("...".to_owned()), after: None, because: None });
        });
        for question in questions {
            let (before, after) = (engine.decide(question), wider.decide(question));
            // An obligation may go where a set that permitted nothing by rule now does, but no right may.
            let shrank = before.verdict != Verdict::Denied && after.verdict == Verdict::Denied;
            assert!(!shrank, "seed {seed}: `allow ...` at the end refused {question:?}");
        }
    });
}

#[test]
fn full_words_mean_what_the_short_ones_mean() {
    each(60, 80, |seed, engine, questions| {
        for question in questions {
            let Some(full) = engine.explain(question).full_line else { continue };
            let mut spelt = question.clone();
            spelt.line = full;
            assert_eq!(engine.decide(question), engine.decide(&spelt), "seed {seed}: `{}` is not `{}`", question.line, spelt.line);
        }
    });
}

#[test]
fn stating_what_holds_anyway_changes_nothing() {
    each(60, 60, |seed, engine, questions| {
        for question in questions {
            let answer = engine.explain(question);
            let mut stated = question.clone();
            stated.session.level = stated.session.level.or(answer.level);
            stated.session.mode = stated.session.mode.or_else(|| Some("deck".to_owned()));
            assert_eq!(engine.decide(question), engine.decide(&stated), "seed {seed}: {question:?}");
        }
    });
}

#[test]
fn an_approver_never_helps_a_line_that_asks_for_none() {
    each(40, 60, |seed, engine, questions| {
        for question in questions {
            let approved = question.clone().approved_by("user-3");
            assert_eq!(engine.decide(question), engine.decide(&approved), "seed {seed}: {question:?}");
        }
    });
}

#[test]
fn what_the_menu_lists_runs_and_what_it_does_not_list_is_refused() {
    let mut typed = 0;
    each(60, 1, |seed, engine, _| {
        for user in engine.estate().users() {
            let system = &engine.estate().systems()[0].id.value;
            let again = || engine.clone();
            let Ok(session) = Rehearsal::open(again(), &user.id.value, system, Session::default()) else { continue };
            if user.must_change_credential.is_some() {
                continue;
            }
            let menu: Vec<String> = session.menu().into_iter().map(|i| i.line).collect();
            for command in
                engine.estate().vocabularies()[0].commands.iter().filter(|c| c.modes.is_empty() && !c.line.value.contains(['{', '.']))
            {
                let line = &command.line.value;
                let mut session = Rehearsal::open(again(), &user.id.value, system, Session::default()).expect("it opened before");
                let done = session.type_line(line);
                let runs = done.effect != Effect::None || done.answer.verdict == Verdict::AllowedAfter;
                assert_eq!(menu.contains(line), runs, "seed {seed}: `{line}` for {}: {:?}", user.id.value, done.answer.refusal);
                typed += 1;
            }
        }
    });
    assert!(typed > 500, "only {typed} lines were typed");
}
