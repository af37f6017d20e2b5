//! Listings from the set of rights: what one user may do, who may do one thing, what one changed line changed, at three sizes.
//!
//! The floor is one decision, measured in the same run, and for what a changed line can reach the comparison of everybody; growth is told
//! as an exponent: 1 is linear. See `docs/performance.md`.

#![allow(clippy::disallowed_macros, clippy::disallowed_methods, clippy::disallowed_types, reason = "only the core itself must be pure")]

use std::hint::black_box;

use zest_ledger::ask::Session;
use zest_ledger::review::{Between, Sought, Touched, compare, effective, means, touched};
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
    times: [f64; 6],
}

fn main() {
    // `cargo test --benches` asks whether it runs at all, and cargo says so.
    let test = std::env::args().any(|argument| argument == "--test");
    let sizes: &[usize] = if test { &[50] } else { &[100, 1_000, 10_000] };
    let session = Session::default();
    // What one line of a person, of a group and of what is given to a group was, and is.
    type Edit = (&'static str, &'static str, &'static str);
    let person: Edit = ("[users.user-7]\n", "proofs = [\"password\"", "proofs = [\"password\", \"certificate\"");
    let group: Edit = ("[groups.group-1]\n", "members = [\"user:user-50\", ", "members = [");
    // By what channel fifty people come to twenty devices, and that they come to one of these alone.
    let assignment: Edit = ("to = [\"group:group-1\"]\n", "on = { labels", "when = { channel = [\"terminal\"] }\non = { labels");
    let others: Edit = ("to = [\"group:group-1\"]\n", "labels = { class = \"switch\" }", "systems = [\"sw-3\"]");
    let grant: Edit = ("allow = [\"all\"]\non = ", "\"line/c50/**\"", "\"line/c51/**\"");
    for (name, make, system, line, edits) in [
        ("devices", sized::ledger as fn(usize, usize) -> String, "sw-3", "show port pier-1 tally", vec![person, group, assignment, others]),
        ("a cloud", sized::cloud, "sky", "hull.read on line/c1/x", vec![person, group, grant]),
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
            let compared = |before: &Engine, after: &Engine, touched: &Touched| {
                let between = Between::new(before, after, &session, touched);
                between.parts().iter().for_each(|kin| _ = black_box(between.told(kin)));
                between.parts().len()
            };
            let all = median(1, || parts = compared(&before, &after, &Touched::everything()));
            println!(
                "  {users:>6} users: a decision {:>7.2} µs; effective of one {:>8.2} ms; who of one line {:>8.1} ms ({:.1} decisions a user); compare one user {:>7.1} ms; everybody in {parts} parts {:>7.1} ms",
                decide * 1e6,
                one * 1e3,
                who * 1e3,
                who / users as f64 / decide,
                moved * 1e3,
                all * 1e3
            );
            let mut slowest: f64 = 0.0;
            for &(behind, was, is) in &edits {
                let at = text.find(behind).map(|start| start + behind.len()).and_then(|from| Some(from + text[from..].find(was)?));
                let Some(at) = at else { continue };
                let changed = engine(&[&text[..at], is, &text[at + was.len()..]].concat());
                let mut looked_at = 0;
                let time = median(3, || looked_at = compared(&before, &changed, &touched(&before, &changed, &session)));
                println!("         {was} -> {is}: {looked_at} parts {:>7.1} ms, {:.4} of everybody's", time * 1e3, time / all);
                slowest = slowest.max(time);
            }
            rows.push(Row { users, times: [decide, one, who, moved, all, slowest] });
        }
        let rows: Vec<(usize, [f64; 6])> = rows.iter().map(|row| (row.users, row.times)).collect();
        let names =
            ["decide", "effective of one", "who of one line", "compare one user", "compare everybody", "compare where one line reaches"];
        growth(names, &rows).iter().for_each(|line| println!("{line}"));
    }
}
