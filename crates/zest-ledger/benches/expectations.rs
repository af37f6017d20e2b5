//! Recorded questions asked again, at three sizes.
//!
//! The floor is deciding the same questions, measured in the same run; growth is told as an exponent: 1 is linear. See
//! `docs/performance.md`.

#![allow(clippy::disallowed_macros, clippy::disallowed_methods, clippy::disallowed_types, reason = "only the core itself must be pure")]

use std::fmt::Write as _;
use std::hint::black_box;

use zest_ledger::ask::Verdict;
use zest_ledger::expectation::expectations;
use zest_ledger::{Engine, Ledger, Question};
use zest_testkit::sized;
use zest_testkit::turns::{growth, median};

/// How many people there are.
const USERS: usize = 1_000;

fn main() {
    // `cargo test --benches` asks whether it runs at all, and cargo says so.
    let test = std::env::args().any(|argument| argument == "--test");
    let sizes: &[usize] = if test { &[100] } else { &[1_000, 10_000, 100_000] };
    let people = Engine::compile(Ledger::new().document("crowd.toml", &sized::crowd(USERS)).estate().unwrap_or_else(|f| panic!("{f}")))
        .unwrap_or_else(|findings| panic!("{findings}"));
    let mut rows: Vec<(usize, [f64; 2])> = Vec::new();
    for &count in sizes {
        let questions: Vec<Question> = (0..count)
            .map(|row| Question::new(&format!("user-{}", row % USERS), "rota", &format!("plan on shift/s{}", row / USERS % 100)))
            .collect();
        let mut text = String::new();
        for question in &questions {
            // What is recorded is what is so.
            let answer = if people.decide(question).verdict == Verdict::Allowed { "allowed" } else { "denied" };
            let _ = write!(
                text,
                "[[expectations]]\nwho = [\"user:{}\"]\non = [\"rota\"]\nlines = [\"{}\"]\nanswer = \"{answer}\"\n",
                question.user, question.line
            );
        }
        let ledger = Ledger::new().document("crowd.toml", &sized::crowd(USERS)).document("expected.toml", &text);
        let engine = Engine::compile(ledger.estate().unwrap_or_else(|f| panic!("{f}"))).unwrap_or_else(|f| panic!("{f}"));
        let decided = median(3, || {
            for question in &questions {
                black_box(engine.decide(question));
            }
        });
        let asked = median(3, || {
            let found = expectations(&engine);
            assert!(found.outcomes.len() == count && found.outcomes.iter().all(|outcome| outcome.holds), "all are as recorded");
        });
        println!(
            "{count:>8} expectations: deciding {:>8.1} ms; asked again {:>8.1} ms ({:.1} times)",
            decided * 1e3,
            asked * 1e3,
            asked / decided
        );
        rows.push((count, [decided, asked]));
    }
    growth(["deciding", "asking again"], &rows).iter().for_each(|line| println!("{line}"));
}
