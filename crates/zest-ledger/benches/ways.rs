//! Ways over many people, at three sizes: who could come to root on a host, and what falls with one of the help desk.
//!
//! The floor is asking one question of each person, measured in the same run; growth is told as an exponent: 1 is linear. See
//! `docs/performance.md`.

#![allow(clippy::disallowed_macros, clippy::disallowed_methods, clippy::disallowed_types, reason = "only the core itself must be pure")]

use std::hint::black_box;
use std::sync::atomic::{AtomicUsize, Ordering};

use zest_ledger::ask::Session;
use zest_ledger::review::Sought;
use zest_ledger::ways::{Acts, Aim, Ways};
use zest_ledger::{Engine, Ledger, Question};
use zest_testkit::sized;
use zest_testkit::turns::{growth, median};

fn main() {
    // `cargo test --benches` asks whether it runs at all, and cargo says so.
    let test = std::env::args().any(|argument| argument == "--test");
    let root = Session { acting: vec!["account:root".parse().expect("a link")], ..Session::default() };
    let plain = Session::default();
    // What is come to, in which estate, and the question that is asked of everybody beside it.
    type Case<'c> = (&'c str, fn(usize) -> String, [usize; 3], Aim<'c>, (&'c str, &'c str));
    let people = [1_000, 10_000, 100_000];
    let cases: [Case<'_>; 3] = [
        (
            "root on a host",
            sized::administered,
            people,
            Aim::Do(Sought::Line("/bin/bash"), &["runner"], &root),
            ("rota", "plan on shift/s1"),
        ),
        (
            "a table of PostgreSQL",
            sized::served,
            people,
            Aim::Do(Sought::Line("delete on table public.price"), &["fares"], &plain),
            ("fares", "select on table public.log"),
        ),
        (
            "a table of MariaDB",
            sized::served,
            people,
            Aim::Do(Sought::Line("delete on table points.member"), &["points"], &plain),
            ("points", "select on table points.member"),
        ),
    ];
    for (name, ledger, sizes, aim, (system, line)) in cases {
        let mut rows: Vec<(usize, [f64; 2])> = Vec::new();
        for &users in if test { &sizes[..1] } else { &sizes[..] } {
            let estate = Ledger::new().document("crowd.toml", &ledger(users)).estate().unwrap_or_else(|findings| panic!("{findings}"));
            let engine = Engine::compile(estate).unwrap_or_else(|findings| panic!("{findings}"));
            let names: Vec<String> = (0..users).map(|user| format!("user-{user}")).collect();
            let asked = median(3, || {
                for name in &names {
                    black_box(engine.decide(&Question::new(name, system, line)));
                }
            });
            let mut counts = (0, 0, false);
            let found = median(3, || {
                let acts = Acts::of(&engine, &[aim]);
                let setting_out = acts.candidates(Some(aim));
                counts = (setting_out.len(), 0, false);
                // On two threads, each with the next who was not looked at, as the program shares the work.
                let next = AtomicUsize::new(0);
                let look = || {
                    let mut came = (0, false);
                    while let Some(user) = setting_out.get(next.fetch_add(1, Ordering::Relaxed)) {
                        let mut ways = Ways::of(&acts, user).expect("the user is known");
                        came.0 += usize::from(ways.to(aim).is_some());
                        came.1 |= ways.is_cut_short;
                    }
                    came
                };
                std::thread::scope(|scope| {
                    let other = scope.spawn(look);
                    for came in [look(), other.join().expect("it does not panic")] {
                        counts = (counts.0, counts.1 + came.0, counts.2 | came.1);
                    }
                });
            });
            println!(
                "{name}: {users:>8} people, {:>5} looked at, {:>5} come to it{}: asking everybody {:>8.1} ms; ways {:>8.1} ms ({:.1} times)",
                counts.0,
                counts.1,
                if counts.2 { ", at least" } else { "" },
                asked * 1e3,
                found * 1e3,
                found / asked
            );
            rows.push((users, [asked, found]));
        }
        growth(["asking everybody", "ways"], &rows).iter().for_each(|line| println!("{line}"));
    }
}
