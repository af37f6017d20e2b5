//! What prepared questions cost: nothing is allocated, and threads do not wait for each other.

#![allow(clippy::disallowed_macros, clippy::disallowed_methods, clippy::disallowed_types, reason = "only the core itself must be pure")]

use std::collections::BTreeMap;

use zest_ledger::ask::{Act, Decision, Form, Session};
use zest_ledger::entry::{Channel, Proof};
use zest_ledger::{Engine, Ledger, Prepared, Question};

fn demo() -> Engine {
    let folder = std::path::Path::new(env!("CARGO_MANIFEST_DIR")).join("../zest-cli/demo/lanternsound");
    let mut files: Vec<_> = std::fs::read_dir(folder).expect("the demo").flatten().map(|entry| entry.path()).collect();
    files.sort();
    let mut ledger = Ledger::new();
    for file in files {
        let (name, text) =
            (file.file_name().expect("a name").to_string_lossy().into_owned(), std::fs::read_to_string(&file).expect("text"));
        ledger = if name.ends_with(".json") { ledger.interface(&name, &text) } else { ledger.document(&name, &text) };
    }
    Engine::compile(ledger.estate().expect("valid")).expect("compiles")
}

/// Lines of every kind of system: allowed to some, denied to others.
const LINES: &[(&str, &[&str])] = &[
    ("sw-selkie-1", &["sh paths", "show log", "elevate 7", "restart", "name pier-one", "nonsense"]),
    ("rt-ember", &["show release", "restart"]),
    ("kiosk-selkie", &["/usr/bin/id", "/opt/kiosk/bin/screen restart", "PATH=/x /opt/kiosk/bin/screen show"]),
    ("batch-runner", &["/opt/batch/bin/tides selkie today", "/opt/batch/bin/tides --purge x"]),
    ("ticketing", &["select on table fares.price", "insert on table sales.refund", "pass on select on table fares.price"]),
    ("loyalty", &["insert on table club.voucher", "select on table club.member"]),
    (
        "skyquay",
        &["records.read on lanternsound/production", "hulls.start on lanternsound/production", "GET /v1/production/ticketing/hulls"],
    ),
    ("rostering", &["plan on rota/pursers", "publish on rota/watch", "view on rota/watch"]),
    ("linkspan", &["lower on ramp/selkie-1", "sound on siren/selkie"]),
];

const STATEMENTS: &[(&str, &[&str])] = &[
    ("ticketing", &["SELECT id FROM fares.price", "SELECT * FROM reports.revenue", "UPDATE fares.price SET amount = 2 WHERE id = 1"]),
    ("loyalty", &["SELECT name FROM club.member", "SELECT * FROM club.balance", "CALL club.take_points(1, 2)"]),
];

const USERS: [&str; 16] = [
    "watch-1",
    "watch-2",
    "watch-lead",
    "net-1",
    "net-2",
    "net-lead",
    "net-3",
    "purser-1",
    "purser-2",
    "purser-3",
    "tech-1",
    "tariff-1",
    "auditor-1",
    "dispatcher-1",
    "db-lead",
    "nobody-1",
];

fn sessions() -> Vec<Session> {
    let act = |text: &str| text.parse::<Act>().expect("a link");
    let bare = Session { at: Some("2026-11-25T08:00:00Z".parse().expect("a moment")), ..Session::default() };
    let from = |text: &str| Some(text.parse().expect("an address"));
    let proven = |proof| Some(vec![zest_ledger::ask::Proven::new(proof, jiff::SignedDuration::from_secs(60))]);
    vec![
        Session::default(),
        bare.clone(),
        Session { origin: from("192.0.2.10"), ..bare.clone() },
        Session { origin: from("198.51.100.9"), level: Some(15), ..bare.clone() },
        Session { origin: from("192.0.2.70"), proofs: proven(Proof::OneTimeCode), channel: Some(Channel::Web), ..bare.clone() },
        Session { local: true, ..bare.clone() },
        Session { active_roles: Some(vec!["purser".to_owned()]), ..bare.clone() },
        Session { origin: from("198.51.100.9"), active_roles: Some(Vec::new()), ..bare.clone() },
        Session { proofs: proven(Proof::OneTimeCode), acting: vec![act("role:quay-keeper")], ..bare.clone() },
        Session { acting: vec![act("account:kiosk")], ..bare.clone() },
        Session { origin: from("192.0.2.70"), acting: vec![act("account:batch")], ..bare.clone() },
        Session { channel: Some(Channel::Web), acting: vec![act("user:purser-1")], ..bare },
    ]
}

/// Every prepared question of the demo, each with its questions for all users in all sessions.
fn prepared(engine: &Engine) -> Vec<(Prepared<'_>, Vec<Question>)> {
    let of = |form: Form, list: &'static [(&str, &[&str])]| {
        list.iter().flat_map(move |(system, lines)| lines.iter().map(move |line| Question { form, ..Question::new("", system, line) }))
    };
    let prepare = |question: Question| {
        let prepared = engine.prepare(&question);
        let all = USERS.iter().flat_map(|user| sessions().into_iter().map(|session| prepared.question(user, session))).collect();
        (prepared, all)
    };
    of(Form::Line, LINES).chain(of(Form::Statement, STATEMENTS)).map(prepare).collect()
}

#[test]
fn a_prepared_question_allocates_nothing_and_is_answered_as_any_other() {
    let engine = demo();
    let mut counts: BTreeMap<String, (usize, usize)> = BTreeMap::new();
    for (prepared, questions) in prepared(&engine) {
        for question in &questions {
            let expected = engine.decide(question);
            // Once to learn, once as learned; and as somebody learned it who has the same account.
            assert_eq!((prepared.decide(question), prepared.decide(question)), (expected, expected), "{question:?}");
            let mut came: Option<Decision> = None;
            let counted = allocation_counter::measure(|| came = Some(prepared.decide(question)));
            assert_eq!(counted.count_total, 0, "{question:?}: {expected:?}");
            let (all, allowed) = counts.entry(question.system.clone()).or_default();
            *all += 1;
            *allowed += usize::from(expected.refusal.is_none());
        }
    }
    println!("no allocation; of each system, how many questions, and how many of them allowed: {counts:?}");
    assert!(counts.len() == LINES.len() && counts.values().all(|(all, allowed)| *allowed > 4 && allowed < all), "{counts:?}");
}

#[test]
fn a_question_about_something_else_is_answered_as_any_other() {
    let engine = demo();
    let reads = engine.prepare(&Question::statement("", "ticketing", "SELECT id FROM fares.price"));
    for question in [
        Question::statement("purser-1", "ticketing", "DELETE FROM fares.price"),
        Question::new("purser-1", "ticketing", "SELECT id FROM fares.price"),
        Question::statement("purser-1", "loyalty", "SELECT id FROM fares.price"),
        Question::statement("purser-1", "nowhere", "SELECT id FROM fares.price"),
    ] {
        let _ = reads.decide(&Question { line: "SELECT id FROM fares.price".to_owned(), ..question.clone() });
        assert_eq!(reads.decide(&question), engine.decide(&question), "{question:?}");
    }
    assert_eq!(engine.prepare(&Question::new("", "nowhere", "x")).decide(&Question::new("a", "nowhere", "x")).verdict.word(), "denied");
}
