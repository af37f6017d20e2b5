//! The plain evaluator and the engine give the same verdict, the same first refusal and the same deciding rule.

use std::collections::BTreeMap;

use zest_ledger::Engine;
use zest_testkit::naive::{self, Said};
use zest_testkit::random::Source;

/// How many questions are asked: `ZEST_QUESTIONS`, or enough for every run.
fn questions() -> u64 {
    std::env::var("ZEST_QUESTIONS").ok().and_then(|n| n.parse().ok()).unwrap_or(20_000)
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
