//! A million people, a hundred thousand roles and ten million grants over all kinds of system: what loading, compiling and a decision
//! cost, in time and in memory.
//!
//! `ZEST_SHARE=100` measures a hundredth of it, `ZEST_KIND=network-device` the decisions of one kind alone. The floor of a decision is that of `ledger.rs`: two look-ups of names in a hash map and
//! a walk over the bytes of the line, here over the whole company's names. See `docs/performance.md`.

#![allow(clippy::disallowed_macros, clippy::disallowed_methods, clippy::disallowed_types, reason = "only the core itself must be pure")]

use std::collections::BTreeMap;
use std::hint::black_box;
use std::time::Instant;

use rustc_hash::FxHashMap;
use zest_ledger::ask::Verdict;
use zest_ledger::{Engine, Ledger, Question};
use zest_testkit::company::{Company, MILLION};
use zest_testkit::turns::side_by_side;

/// The most memory that this process has had, and what it has now, in MiB, as the kernel counts it.
fn memory() -> (usize, usize) {
    let status = std::fs::read_to_string("/proc/self/status").unwrap_or_default();
    let of = |key: &str| {
        let line = status.lines().find(|line| line.starts_with(key));
        line.and_then(|line| line.split_whitespace().nth(1)).and_then(|kib| kib.parse::<usize>().ok()).unwrap_or_default() / 1024
    };
    (of("VmHWM:"), of("VmRSS:"))
}

fn main() {
    // `cargo test --benches` asks whether it runs at all, and cargo says so.
    let test = std::env::args().any(|argument| argument == "--test");
    let share = std::env::var("ZEST_SHARE").ok().and_then(|text| text.parse().ok()).unwrap_or(if test { 1_000 } else { 1 });
    let Company { users, roles, grants, seed } = MILLION;
    let company = Company { users: users / share, roles: roles / share, grants: grants / share, seed };
    println!("{company:?}");
    let (mut reading, mut bytes, mut files) = (0.0, 0, 0);
    let mut ledger = Ledger::new();
    for (name, text) in company.documents() {
        let start = Instant::now();
        ledger = ledger.document(&name, &text);
        reading += start.elapsed().as_secs_f64();
        bytes += text.len();
        files += 1;
    }
    let (most, now) = memory();
    println!("read           {reading:>6.1} s   {files} documents, {:.0} MB; {now} MiB, at most {most} MiB", bytes as f64 / 1e6);
    let start = Instant::now();
    let estate = ledger.estate().unwrap_or_else(|findings| panic!("{findings}"));
    let checked = start.elapsed().as_secs_f64();
    let (most, now) = memory();
    println!("checked        {checked:>6.1} s   {now} MiB, at most {most} MiB");
    let start = Instant::now();
    let engine = Engine::compile(estate).unwrap_or_else(|findings| panic!("{findings}"));
    let compiled = start.elapsed().as_secs_f64();
    let (most, now) = memory();
    println!("compiled       {compiled:>6.1} s   {now} MiB, at most {most} MiB");
    println!("load and compile {:>4.1} s   (less than 60 is wanted, and 6144 MiB)", reading + checked + compiled);
    let mut kinds: BTreeMap<&str, Vec<Question>> = BTreeMap::new();
    for (kind, question, allowed) in company.questions() {
        assert_eq!(engine.decide(&question).verdict == Verdict::Allowed, allowed, "{question:?}");
        kinds.entry(kind).or_default().push(question);
    }
    let names: FxHashMap<String, usize> = (0..company.users).map(|u| (format!("u{u}"), u)).collect();
    let systems: Vec<String> = engine.estate().systems().iter().map(|system| system.id.value.clone()).collect();
    let systems: FxHashMap<String, usize> = systems.into_iter().enumerate().map(|(turn, system)| (system, turn)).collect();
    let only = std::env::var("ZEST_KIND").ok();
    for (kind, questions) in kinds.iter().filter(|(kind, _)| only.as_ref().is_none_or(|only| only == *kind)) {
        let floor = |turn: usize| {
            let question: &Question = black_box(&questions[turn]);
            let walked = question.line.bytes().fold(0_u8, |sum, byte| black_box(sum ^ byte));
            black_box((names.get(&question.user), systems.get(&question.system), walked));
        };
        let decide = |turn: usize| _ = black_box(engine.decide(black_box(&questions[turn])));
        let (ours, floor, ratio) = side_by_side(questions.len(), decide, floor);
        println!("{kind:<15} {ours:>6.0} ns a decision, floor {floor:>4.0} ns, ratio {ratio:>5.1}");
    }
}
