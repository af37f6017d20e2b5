//! What a load and a decision cost, against a floor measured in the same run.
//!
//! The floor of a decision is what it cannot avoid: two look-ups of the names in a hash map and a walk over the
//! bytes of the line. After the measurements the ratios are printed; see `docs/performance.md`.

#![allow(clippy::disallowed_macros, clippy::disallowed_methods, clippy::disallowed_types, reason = "only the core itself must be pure")]

use std::hint::black_box;
use std::path::PathBuf;
use std::time::{Duration, Instant};

use criterion::{BenchmarkId, Criterion, Throughput, criterion_group};
use jiff::SignedDuration;
use rustc_hash::FxHashMap;
use zest_ledger::ask::{Act, Change, Verdict};
use zest_ledger::entry::Proof;
use zest_ledger::estate::Estate;
use zest_ledger::{Engine, Ledger, Prepared, Question};
use zest_testkit::{sized, turns};

const USERS: [usize; 3] = [10, 1_000, 100_000];
const RULES: [usize; 3] = [10, 1_000, 10_000];
/// Users and grants of clouds.
const CLOUDS: [(usize, usize); 3] = [(1_000, 1_000), (10_000, 10_000), (100_000, 100_000)];
/// Users and rules of hosts.
const HOSTS: [(usize, usize); 2] = [(100, 10), (100, 1_000)];
/// How many different questions take turns.
const QUESTIONS: usize = 4_096;

fn estate(text: &str) -> Estate {
    Ledger::new().document("sized.toml", text).estate().expect("the sized ledger is valid")
}

/// Questions whose users and rules are spread over the whole ledger.
fn questions(users: usize, rules: usize) -> Vec<Question> {
    let mut rng = fastrand::Rng::with_seed(1);
    (0..QUESTIONS)
        .map(|_| {
            let user = format!("user-{}", rng.usize(0..users));
            let system = format!("sw-{}", rng.usize(0..20));
            Question::new(&user, &system, &format!("show port pier-{} tally", rng.usize(0..rules)))
        })
        .collect()
}

fn load(c: &mut Criterion) {
    for (name, compiles) in [("parse-and-validate", false), ("compile", true)] {
        let mut group = c.benchmark_group(name);
        group.sample_size(10).warm_up_time(Duration::from_millis(500)).measurement_time(Duration::from_secs(4));
        for users in USERS {
            let text = sized::ledger(users, 1_000);
            group.throughput(Throughput::Elements(users as u64));
            group.bench_with_input(BenchmarkId::new("users", users), &text, |b, text| {
                if compiles {
                    b.iter_batched(|| estate(text), |e| Engine::compile(e).expect("it compiles"), criterion::BatchSize::PerIteration);
                } else {
                    b.iter(|| estate(black_box(text)));
                }
            });
        }
        if compiles {
            for rules in RULES {
                let text = sized::ledger(10, rules);
                group.bench_with_input(BenchmarkId::new("rules", rules), &text, |b, text| {
                    b.iter_batched(|| estate(text), |e| Engine::compile(e).expect("it compiles"), criterion::BatchSize::PerIteration);
                });
            }
        }
        group.finish();
    }
}

fn decide(c: &mut Criterion) {
    let mut group = c.benchmark_group("decide");
    group.warm_up_time(Duration::from_secs(1)).measurement_time(Duration::from_secs(4));
    let sizes = USERS.map(|u| (u, 1_000)).into_iter().chain([(100, 10), (100, 10_000)]);
    for (users, rules) in sizes {
        let engine = Engine::compile(estate(&sized::ledger(users, rules))).expect("it compiles");
        let questions = questions(users, rules);
        two_thirds(&engine, &questions);
        let id = format!("{users}-users-{rules}-rules");
        let mut turn = 0;
        group.bench_function(BenchmarkId::new("engine", &id), |b| {
            b.iter(|| {
                turn = (turn + 1) % QUESTIONS;
                engine.decide(black_box(&questions[turn]))
            });
        });
        let names: FxHashMap<String, usize> = (0..users).map(|u| (format!("user-{u}"), u)).collect();
        let systems: FxHashMap<String, usize> = (0..20).map(|s| (format!("sw-{s}"), s)).collect();
        group.bench_function(BenchmarkId::new("floor", &id), |b| {
            b.iter(|| {
                turn = (turn + 1) % QUESTIONS;
                let question = black_box(&questions[turn]);
                let walked = question.line.bytes().fold(0_u8, |sum, byte| black_box(sum ^ byte));
                (names.get(&question.user), systems.get(&question.system), walked)
            });
        });
    }
    group.finish();
}

criterion_group!(benches, load, decide, services, change, refused);

fn main() {
    benches();
    Criterion::default().configure_from_args().final_summary();
    ratios();
}

/// Questions of people about machines in their own container, a third of them about one that is not theirs.
fn cloud_questions(users: usize, grants: usize) -> Vec<Question> {
    let mut rng = fastrand::Rng::with_seed(2);
    let groups = users.div_ceil(50);
    (0..QUESTIONS)
        .map(|turn| {
            let user = rng.usize(0..users);
            let container = sized::container(user / 50, rng.usize(0..grants / groups));
            let place = if turn % 3 == 0 { "elsewhere".to_owned() } else { format!("c{container}") };
            let question = Question::new(&format!("user-{user}"), "sky", &format!("hull.stop on line/{place}/hull"));
            question.proof(Proof::OneTimeCode, SignedDuration::from_mins(5))
        })
        .collect()
}

fn host_questions(users: usize, rules: usize) -> Vec<Question> {
    let mut rng = fastrand::Rng::with_seed(3);
    let as_batch: Act = "account:batch".parse().expect("a link");
    (0..QUESTIONS)
        .map(|_| {
            let line = format!("/opt/jobs/run pier-{} now", rng.usize(0..rules));
            Question::new(&format!("user-{}", rng.usize(0..users)), "box", &line).acting(as_batch.clone())
        })
        .collect()
}

/// Checks that about two thirds of some questions are allowed, as their ledger means it.
fn two_thirds(engine: &Engine, questions: &[Question]) {
    let allowed = questions.iter().filter(|q| engine.decide(q).verdict == Verdict::Allowed).count();
    assert!((QUESTIONS / 2..QUESTIONS * 3 / 4).contains(&allowed), "about two thirds are allowed, not {allowed} of {QUESTIONS}");
}

fn services(c: &mut Criterion) {
    let mut group = c.benchmark_group("decide");
    group.warm_up_time(Duration::from_secs(1)).measurement_time(Duration::from_secs(3));
    let mut measure = |id: String, text: &str, questions: &[Question]| {
        let engine = Engine::compile(estate(text)).expect("it compiles");
        two_thirds(&engine, questions);
        let mut turn = 0;
        group.bench_function(id, |b| {
            b.iter(|| {
                turn = (turn + 1) % QUESTIONS;
                engine.decide(black_box(&questions[turn]))
            });
        });
    };
    for (users, grants) in CLOUDS {
        measure(format!("cloud/{users}-users-{grants}-grants"), &sized::cloud(users, grants), &cloud_questions(users, grants));
    }
    for (users, rules) in HOSTS {
        measure(format!("host/{users}-users-{rules}-rules"), &sized::host(users, rules), &host_questions(users, rules));
    }
    group.finish();
}

/// A user is switched on, or joins a group, on an engine of 100,000 users: what a preview or a remedy costs before it is asked.
fn change(c: &mut Criterion) {
    let mut group = c.benchmark_group("change");
    group.sample_size(20).warm_up_time(Duration::from_millis(500)).measurement_time(Duration::from_secs(3));
    let text = format!("{}[users.newcomer]\nproofs = [\"password\"]\ndisabled = true\n", sized::ledger(100_000, 1_000));
    let engine = Engine::compile(estate(&text)).expect("it compiles");
    let on = [Change::Enable { user: "newcomer".to_owned() }];
    let joins = [Change::JoinGroup { group: "group-7".to_owned(), user: "newcomer".to_owned() }];
    for (name, changes) in [("switched-on", &on), ("joins-a-group", &joins)] {
        group.bench_function(name, |b| b.iter(|| engine.with(black_box(changes)).expect("it collides with nothing")));
    }
    group.finish();
}

/// A refusal with its reasons and its remedies, at 100,000 users, on each kind of system.
fn refused(c: &mut Criterion) {
    let mut group = c.benchmark_group("refused");
    group.sample_size(20).warm_up_time(Duration::from_millis(500)).measurement_time(Duration::from_secs(3));
    let as_batch: Act = "account:batch".parse().expect("a link");
    let databases = sized::databases(100_000);
    let asked = [
        ("network-device", sized::ledger(100_000, 100), Question::new("user-9", "sw-1", "show port pier-0 tally")),
        ("cloud", sized::cloud(100_000, 100_000), Question::new("user-9", "sky", "hull.stop on line/elsewhere/hull")),
        ("host", sized::host(100_000, 100), Question::new("user-9", "box", "/opt/jobs/run pier-0 now").acting(as_batch)),
        ("postgresql", databases.clone(), Question::new("user-60", "fares", "select on fares.price")),
        (
            "mariadb",
            databases,
            Question::new("user-60", "points", "select on points.member").from("192.0.2.7".parse().expect("an address")),
        ),
    ];
    for (kind, text, question) in asked {
        let engine = Engine::compile(estate(&text)).expect("it compiles");
        let answer = engine.ask(&question);
        assert!(
            answer.refusal.is_some() && !answer.remedies.is_empty(),
            "{kind}: {:?}, {} remedies",
            answer.refusal,
            answer.remedies.len()
        );
        group.bench_function(BenchmarkId::new("ask", kind), |b| b.iter(|| engine.ask(black_box(&question))));
        group.bench_function(BenchmarkId::new("decide", kind), |b| b.iter(|| engine.decide(black_box(&question))));
    }
    group.finish();
}

/// Prepared questions of 100,000 users against the same without preparation, on every kind; and two threads against one.
fn prepared(row: impl Fn(&str, (f64, f64, f64), &str)) {
    let databases = Engine::compile(estate(&sized::databases(100_000))).expect("it compiles");
    let device = Engine::compile(estate(&sized::ledger(100_000, 1_000))).expect("it compiles");
    let cloud = Engine::compile(estate(&sized::cloud(100_000, 1_000))).expect("it compiles");
    let host = Engine::compile(estate(&sized::host(100, 1_000))).expect("it compiles");
    let from = "192.0.2.7".parse().expect("an address");
    let batch: Act = "account:batch".parse().expect("a link");
    let asked = [
        ("a privilege, PostgreSQL", &databases, Question::new("", "fares", "select on table fares.price")),
        ("a privilege, MariaDB", &databases, Question::new("", "points", "select on table points.member").from(from)),
        ("a statement, PostgreSQL", &databases, Question::statement("", "fares", "SELECT zone FROM fares.price WHERE zone > 3")),
        ("a statement, MariaDB", &databases, Question::statement("", "points", "SELECT score FROM points.member").from(from)),
        ("a line, a device", &device, Question::new("", "sw-1", "show port pier-7 tally")),
        ("an operation, a cloud", &cloud, Question::new("", "sky", "hull.read on line/project-7/hull")),
        ("a line, a host with 1,000 rules", &host, Question::new("", "box", "/opt/jobs/run pier-7 now").acting(batch)),
    ];
    let mut rng = fastrand::Rng::with_seed(2);
    for (name, engine, template) in asked {
        let users = engine.estate().entries().users.len();
        let ask = |_| Question { user: format!("user-{}", rng.usize(0..users)), ..template.clone() };
        let questions: Vec<Question> = (0..QUESTIONS).map(ask).collect();
        let ready = engine.prepare(&template);
        let bare = |t: usize| {
            black_box(engine.decide(black_box(&questions[t])));
        };
        let quick = |t: usize| {
            black_box(ready.decide(black_box(&questions[t])));
        };
        let (one, other, ratio) = side_by_side(bare, quick);
        row(&format!("not prepared / prepared, {name}"), (one, other, ratio), "more the better");
    }
    // Twice the questions on two threads, each with its copy, against once on one.
    let template = Question::statement("", "fares", "SELECT zone FROM fares.price WHERE zone > 3");
    let questions: Vec<Question> = (0..QUESTIONS).map(|u| Question { user: format!("user-{u}"), ..template.clone() }).collect();
    let ready = databases.prepare(&template);
    let all = |ready: &Prepared<'_>| {
        let start = Instant::now();
        for _ in 0..50 {
            questions.iter().for_each(|question| {
                black_box(ready.decide(black_box(question)));
            });
        }
        start.elapsed().as_secs_f64() * 1e9
    };
    let turn = || {
        let one = all(&ready);
        let start = Instant::now();
        std::thread::scope(|scope| (0..2).for_each(|_| _ = scope.spawn(|| all(&ready.clone()))));
        (2.0 * one, start.elapsed().as_secs_f64() * 1e9)
    };
    let mut turns: Vec<(f64, f64)> = (0..15).map(|_| turn()).collect();
    turns.sort_by(|a, b| (a.0 / a.1).total_cmp(&(b.0 / b.1)));
    let (one, two) = turns[turns.len() / 2];
    row("twice on one thread / on two threads", (one, two, one / two), "2; 1.8 at least is wanted");
}

/// Reads what criterion measured, in nanoseconds.
fn measured(path: &str) -> Option<f64> {
    let target =
        std::env::var_os("CARGO_TARGET_DIR").map_or_else(|| PathBuf::from(env!("CARGO_MANIFEST_DIR")).join("../../target"), PathBuf::from);
    let text = std::fs::read_to_string(target.join("criterion").join(path).join("new/estimates.json")).ok()?;
    let value: serde_json::Value = serde_json::from_str(&text).ok()?;
    value["median"]["point_estimate"].as_f64()
}

fn side_by_side(one: impl FnMut(usize), other: impl FnMut(usize)) -> (f64, f64, f64) {
    turns::side_by_side(QUESTIONS, one, other)
}

fn ratios() {
    let row = |name: &str, (one, other, ratio): (f64, f64, f64), limit: &str| {
        println!("{name:<56} {one:>11.0} ns {other:>11.0} ns  ratio {ratio:>5.2}  (at most {limit})");
    };
    println!("\nratios, each pair measured in turns");
    let sized = |users, rules| (Engine::compile(estate(&sized::ledger(users, rules))).expect("it compiles"), questions(users, rules));
    let decide = |engine: &Engine, questions: &[Question], turn: usize| {
        black_box(engine.decide(black_box(&questions[turn])));
    };
    let names: FxHashMap<String, usize> = (0..100_000).map(|u| (format!("user-{u}"), u)).collect();
    let systems: FxHashMap<String, usize> = (0..20).map(|s| (format!("sw-{s}"), s)).collect();
    let (engine, asked) = sized(100_000, 1_000);
    let floor = |turn: usize| {
        let question = black_box(&asked[turn]);
        let walked = question.line.bytes().fold(0_u8, |sum, byte| black_box(sum ^ byte));
        black_box((names.get(&question.user), systems.get(&question.system), walked));
    };
    row("decide, 100,000 users and 1,000 rules / floor", side_by_side(|t| decide(&engine, &asked, t), floor), "5");
    let ((many, of_many), (few, of_few)) = (sized(100, 10_000), sized(100, 10));
    row("decide, 10,000 rules / 10 rules", side_by_side(|t| decide(&many, &of_many, t), |t| decide(&few, &of_few, t)), "3");
    let cloud =
        |(users, grants)| (Engine::compile(estate(&sized::cloud(users, grants))).expect("it compiles"), cloud_questions(users, grants));
    let ((large, of_large), (small, of_small)) = (cloud(CLOUDS[2]), cloud(CLOUDS[0]));
    let floor = |turn: usize| {
        let question = black_box(&of_large[turn]);
        let walked = question.line.bytes().fold(0_u8, |sum, byte| black_box(sum ^ byte));
        black_box((names.get(&question.user), systems.get(&question.system), walked));
    };
    row("decide on a cloud, 100,000 users and grants / floor", side_by_side(|t| decide(&large, &of_large, t), floor), "5");
    let turns = side_by_side(|t| decide(&large, &of_large, t), |t| decide(&small, &of_small, t));
    row("decide on a cloud, 100,000 users and grants / 1,000", turns, "3");
    let host = |(users, rules)| (Engine::compile(estate(&sized::host(users, rules))).expect("it compiles"), host_questions(users, rules));
    let ((few, of_few), (many, of_many)) = (host(HOSTS[0]), host(HOSTS[1]));
    let turns = side_by_side(|t| decide(&many, &of_many, t), |t| decide(&few, &of_few, t));
    row("decide on a host, 1,000 rules of an account / 10", turns, "3");
    prepared(row);
    let load = |users: usize| Some(measured(&format!("parse-and-validate/users/{users}"))? + measured(&format!("compile/users/{users}"))?);
    match (load(100_000), load(1_000)) {
        (Some(large), Some(small)) => {
            // A hundred times the users: the root of the ratio is what ten times the users cost.
            row("load and compile, each tenfold from 1,000 to 100,000 users", (large, small, (large / small).sqrt()), "13");
        }
        _ => println!("load and compile were not measured in this run"),
    }
    for kind in ["network-device", "cloud", "host", "postgresql", "mariadb"] {
        if let (Some(ask), Some(decide)) = (measured(&format!("refused/ask/{kind}")), measured(&format!("refused/decide/{kind}"))) {
            row(&format!("refused with remedies, {kind} / a decision"), (ask, decide, ask / decide), "5,000");
        }
    }
    let compiled = measured("compile/users/100000");
    for name in ["switched-on", "joins-a-group"] {
        if let (Some(change), Some(compile)) = (measured(&format!("change/{name}")), compiled) {
            row(&format!("compile / a user {name}, 100,000 users"), (compile, change, compile / change), "more the better; 100 is wanted");
        }
    }
}
