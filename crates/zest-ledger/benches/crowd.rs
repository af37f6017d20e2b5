//! Questions about everybody, at three sizes: who may one thing, and what nobody may. People whom a system cannot tell apart are looked
//! at once, so that it costs what their classes cost.
//!
//! The floor is asking one question of each person, measured in the same run; growth is told as an exponent: 1 is linear. See
//! `docs/performance.md`.

#![allow(clippy::disallowed_macros, clippy::disallowed_methods, clippy::disallowed_types, reason = "only the core itself must be pure")]

use std::hint::black_box;

use zest_ledger::ask::Session;
use zest_ledger::entry::Promise;
use zest_ledger::promise::promises;
use zest_ledger::review::{Sought, Who};
use zest_ledger::{Engine, Ledger, Question};
use zest_testkit::sized;
use zest_testkit::turns::{growth, median};

fn main() {
    // `cargo test --benches` asks whether it runs at all, and cargo says so.
    let test = std::env::args().any(|argument| argument == "--test");
    let sizes: &[usize] = if test { &[200] } else { &[10_000, 100_000, 1_000_000] };
    let now = "2026-11-28T12:00:00Z".parse().expect("a moment");
    let session = Session::default();
    let mut rows: Vec<(usize, [f64; 4])> = Vec::new();
    for &users in sizes {
        let ledger = Ledger::new().document("crowd.toml", &sized::crowd(users));
        let ledger = ["drop on shift/s1", "look on shift/**", "look on shift/s7"]
            .into_iter()
            .fold(ledger, |ledger, pattern| ledger.promise(Promise::never(pattern).on("rota")));
        let estate = ledger.estate().unwrap_or_else(|findings| panic!("{findings}"));
        let engine = Engine::compile(estate).unwrap_or_else(|findings| panic!("{findings}"));
        let names: Vec<String> = (0..users).map(|user| format!("user-{user}")).collect();
        let asked = median(3, || {
            for name in &names {
                black_box(engine.decide(&Question::new(name, "rota", "plan on shift/s1")));
            }
        });
        let mut counts = (0, 0);
        let who = median(3, || {
            let who = Who::new(&engine, &["rota"], Sought::Line("plan on shift/s1"), &session);
            let held: Vec<_> = who.parts().iter().flat_map(|part| who.held(part)).collect();
            counts = (who.parts().len(), who.people(&held).len());
        });
        let nobody = median(3, || {
            let who = Who::new(&engine, &["rota"], Sought::Line("drop on shift/s1"), &session);
            black_box(who.all());
        });
        let promised = median(1, || drop(black_box(promises(&engine, now))));
        println!(
            "{users:>8} people, {:>6} classes, {:>6} may: asking everybody {:>8.1} ms; who {:>8.1} ms ({:.1} times); who of few {:>8.1} ms; three promises {:>8.1} ms",
            counts.0,
            counts.1,
            asked * 1e3,
            who * 1e3,
            who / asked,
            nobody * 1e3,
            promised * 1e3
        );
        rows.push((users, [asked, who, nobody, promised]));
    }
    growth(["asking everybody", "who", "who of few", "three promises"], &rows).iter().for_each(|line| println!("{line}"));
}
