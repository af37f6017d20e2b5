//! Ways over many people, at three sizes: who could come to root on a host, and what falls with one of the help desk.
//!
//! The floor is asking one question of each person, measured in the same run; growth is told as an exponent: 1 is linear. See
//! `docs/performance.md`.

#![allow(clippy::disallowed_macros, clippy::disallowed_methods, clippy::disallowed_types, reason = "only the core itself must be pure")]

use std::hint::black_box;

use zest_ledger::ask::Session;
use zest_ledger::review::Sought;
use zest_ledger::ways::{Acts, Aim, Ways};
use zest_ledger::{Engine, Ledger, Question};
use zest_testkit::sized;
use zest_testkit::turns::{growth, median};

fn main() {
    // `cargo test --benches` asks whether it runs at all, and cargo says so.
    let test = std::env::args().any(|argument| argument == "--test");
    let sizes: &[usize] = if test { &[1_000] } else { &[1_000, 10_000, 100_000] };
    let root = Session { acting: vec!["account:root".parse().expect("a link")], ..Session::default() };
    let aim = Aim::Do(Sought::Line("/bin/bash"), &["runner"], &root);
    let mut rows: Vec<(usize, [f64; 2])> = Vec::new();
    for &users in sizes {
        let estate =
            Ledger::new().document("crowd.toml", &sized::administered(users)).estate().unwrap_or_else(|findings| panic!("{findings}"));
        let engine = Engine::compile(estate).unwrap_or_else(|findings| panic!("{findings}"));
        let names: Vec<String> = (0..users).map(|user| format!("user-{user}")).collect();
        let asked = median(3, || {
            for name in &names {
                black_box(engine.decide(&Question::new(name, "rota", "plan on shift/s1")));
            }
        });
        let mut counts = (0, 0);
        let root = median(3, || {
            let acts = Acts::of(&engine, &[aim]);
            let setting_out = acts.candidates(Some(aim));
            let there = setting_out.iter().filter(|user| Ways::of(&acts, user).is_some_and(|mut ways| ways.to(aim).is_some())).count();
            counts = (setting_out.len(), there);
        });
        println!(
            "{users:>8} people, {:>5} looked at, {:>5} come to root: asking everybody {:>8.1} ms; ways {:>8.1} ms ({:.1} times)",
            counts.0,
            counts.1,
            asked * 1e3,
            root * 1e3,
            root / asked
        );
        rows.push((users, [asked, root]));
    }
    growth(["asking everybody", "ways"], &rows).iter().for_each(|line| println!("{line}"));
}
