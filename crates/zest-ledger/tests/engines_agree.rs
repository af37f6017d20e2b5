//! The plain evaluator and the engine give the same verdict, the same first refusal and the same deciding rule.

use std::collections::BTreeMap;

use zest_ledger::Engine;
use zest_ledger::ask::Refusal;
use zest_testkit::clouds;
use zest_testkit::naive::{self, Said};
use zest_testkit::random::Source;

/// How many questions are asked: `ZEST_QUESTIONS`, or enough for every run.
fn questions() -> u64 {
    std::env::var("ZEST_QUESTIONS").ok().and_then(|n| n.parse().ok()).unwrap_or(8_000)
}

/// The first seed: `ZEST_SEED`, or always the same one.
fn seed() -> u64 {
    std::env::var("ZEST_SEED").ok().and_then(|n| n.parse().ok()).unwrap_or(20_261_125)
}

#[test]
fn engine_says_what_the_plain_evaluator_says() {
    const PER_LEDGER: u64 = 100;
    let mut counts: BTreeMap<String, u64> = BTreeMap::new();
    for round in 0..questions().div_ceil(PER_LEDGER) {
        let seed = seed() + round;
        let mut source = Source::new(seed);
        let estate = source.ledger().estate().unwrap_or_else(|f| panic!("seed {seed}: the random ledger is not valid\n{f}"));
        let engine = Engine::compile(estate).unwrap_or_else(|f| panic!("seed {seed}: the random ledger does not compile\n{f}"));
        for _ in 0..PER_LEDGER {
            let question = source.question();
            let plain = naive::answer(engine.estate(), &question);
            let decision = engine.decide(&question);
            let rule = decision.rule.map(|r| (engine.estate().command_sets()[r.set.index()].id.value.clone(), r.index as usize));
            let said = Said { verdict: decision.verdict, refusal: decision.refusal, rule };
            assert_eq!(said, plain, "seed {seed} (engine left, plain evaluator right)\n{question:#?}");
            let explained = engine.explain(&question);
            assert_eq!(
                (explained.verdict, explained.refusal),
                (decision.verdict, decision.refusal),
                "seed {seed}: explaining changed the answer\n{question:#?}"
            );
            *counts.entry(plain.refusal.map_or_else(|| plain.verdict.word().to_owned(), |r| r.code().to_owned())).or_default() += 1;
        }
    }
    println!("first seed {}; answers compared: {counts:#?}", seed());
    for needed in [
        "allowed",
        "allowed after obligations",
        "denied-by-rule",
        "not-permitted",
        "level-too-low",
        "above-ceiling",
        "not-stated",
        "outside-hours",
    ] {
        assert!(counts.contains_key(needed), "the random questions never came to `{needed}`, so nothing was compared there");
    }
}

#[test]
fn on_clouds_too() {
    const PER_LEDGER: u64 = 50;
    let mut counts: BTreeMap<&str, u64> = BTreeMap::new();
    let mut asked = 0;
    for round in 0..questions().div_ceil(PER_LEDGER) {
        let seed = seed() + round;
        let mut source = clouds::random::Source::new(seed);
        // A ledger in which a condition contradicts itself is no ledger; another is made.
        let estate = source.ledger().estate().unwrap_or_else(|f| panic!("seed {seed}: the random cloud is not valid\n{f}"));
        let engine = Engine::compile(estate).unwrap_or_else(|f| panic!("seed {seed}: the random cloud does not compile\n{f}"));
        for _ in 0..PER_LEDGER {
            let question = source.question();
            let plain = clouds::naive::answer(engine.estate(), &question);
            let decision = engine.decide(&question);
            assert_eq!(
                decision.verdict, plain.verdict,
                "seed {seed} (engine left, plain evaluator right: {plain:?})\n{question:#?}\n{decision:?}"
            );
            if let Some(refusal) = decision.refusal {
                assert!(plain.refusals.contains(&refusal), "seed {seed}: {refusal:?} is not one of {:?}\n{question:#?}", plain.refusals);
            }
            let explained = engine.explain(&question);
            assert_eq!(
                (explained.verdict, explained.refusal),
                (decision.verdict, decision.refusal),
                "seed {seed}: explaining changed the answer\n{question:#?}"
            );
            *counts.entry(decision.refusal.map_or_else(|| decision.verdict.word(), Refusal::code)).or_default() += 1;
            asked += 1;
        }
    }
    println!("first seed {}; {asked} answers about clouds compared: {counts:#?}", seed());
    for needed in [
        "allowed",
        "allowed after obligations",
        "denied-by-grant",
        "not-stated",
        "cut-by-ceiling",
        "not-granted",
        "may-not-assume",
        "role-does-not-admit",
        "may-not-act-as",
        "same-person",
        "not-entitled",
        "assumption-expired",
        "session-expired",
    ] {
        assert!(counts.contains_key(needed), "the random questions never came to `{needed}`, so nothing was compared there");
    }
}
