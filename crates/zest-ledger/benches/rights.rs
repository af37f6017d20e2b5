//! Listings from the set of rights: what one user may do, who may do one thing, what one changed line changed, at three sizes.
//!
//! The floor is one decision, measured in the same run; growth is told as an exponent: 1 is linear. See `docs/performance.md`.

#![allow(clippy::disallowed_macros, clippy::disallowed_methods, clippy::disallowed_types, reason = "only the core itself must be pure")]

use std::hint::black_box;

use zest_ledger::ask::Session;
use zest_ledger::review::{Between, Sought, Touched, compare, effective, means};
use zest_ledger::{Engine, Ledger, Question};
use zest_testkit::sized;
use zest_testkit::turns::{growth, median};

fn engine(text: &str) -> Engine {
    let estate = Ledger::new().document("sized.toml", text).estate().unwrap_or_else(|findings| panic!("{findings}"));
    Engine::compile(estate).unwrap_or_else(|findings| panic!("{findings}"))
}

/// What was measured at one size.
struct Row {
    users: usize,
    times: [f64; 5],
}

fn main() {
    // `cargo test --benches` asks whether it runs at all, and cargo says so.
    let test = std::env::args().any(|argument| argument == "--test");
    let sizes: &[usize] = if test { &[50] } else { &[100, 1_000, 10_000] };
    let session = Session::default();
    for (name, make, system, line) in [
        ("devices", sized::ledger as fn(usize, usize) -> String, "sw-3", "show port pier-1 tally"),
        ("a cloud", sized::cloud, "sky", "hull.read on line/c1/x"),
    ] {
        println!("{name}");
        let mut rows: Vec<Row> = Vec::new();
        for &users in sizes {
            let text = make(users, 100);
            let line = line.to_owned();
            let before = engine(&text);
            let changed = text.replacen("allow show port pier-1 ", "deny  show port pier-1 ", 1).replacen("allow = [", "allow = [ ", 1);
            let after = engine(&changed);
            let question = Question::new("user-7", system, &line);
            let decide = median(5, || (0..1_000).for_each(|_| _ = black_box(before.decide(black_box(&question))))) / 1_000.0;
            let everybody: Vec<String> = (0..users).map(|user| format!("user-{user}")).collect();
            let one = median(5, || drop(black_box(effective(&before, "user-7", Some(system), &session))));
            let who = median(3, || {
                for user in &everybody {
                    black_box(means(&before, user, &[system], Sought::Line(&line), &session));
                }
            });
            let moved = median(3, || drop(black_box(compare(&before, &after, "user-7", &session))));
            let mut parts = 0;
            let all = median(1, || {
                let between = Between::new(&before, &after, &session, &Touched::everything());
                parts = between.parts().len();
                between.parts().iter().for_each(|kin| _ = black_box(between.told(kin)));
            });
            println!(
                "  {users:>6} users: a decision {:>7.2} µs; effective of one {:>8.2} ms; who of one line {:>8.1} ms ({:.1} decisions a user); compare one user {:>7.1} ms; everybody in {parts} parts {:>7.1} ms",
                decide * 1e6,
                one * 1e3,
                who * 1e3,
                who / users as f64 / decide,
                moved * 1e3,
                all * 1e3
            );
            rows.push(Row { users, times: [decide, one, who, moved, all] });
        }
        let rows: Vec<(usize, [f64; 5])> = rows.iter().map(|row| (row.users, row.times)).collect();
        let names = ["decide", "effective of one", "who of one line", "compare one user", "compare everybody"];
        growth(names, &rows).iter().for_each(|line| println!("{line}"));
    }
}
