//! Recorded questions: each asked whole, in one session or step by step, and what they cover.

use std::collections::BTreeSet;

use zest_ledger::ask::{Question, Session, Verdict};
use zest_ledger::expectation::{
    Asked, Covered, Proposal, Questions, expectations, fewest, parts, proposed_text, recorded, recorded_steps, rows,
};
use zest_ledger::finding::Code;
use zest_ledger::review::hygiene;
use zest_ledger::{Engine, Ledger};
use zest_testkit::estates::Source;
use zest_testkit::{questions, seed};

use crate::support::{engine, plain};

const LEDGER: &str = r#"
[users.mate-1]
proofs = ["password", "one-time-code"]
[users.mate-2]
proofs = ["password"]
[users.clerk]
proofs = ["password"]
[groups.mates]
members = ["user:mate-1", "user:mate-2"]
[groups.nobody]
[origins.room]
networks = ["192.0.2.0/26"]
[vocabularies.make]
commands = [
  { line = "show log", level = 7 },
  { line = "show level", level = 0, does = "show-level" },
  { line = "elevate {level: 0-15}", level = 0, does = "elevate" },
  { line = "leave", level = 0, does = "leave-session" },
]
[command-sets.looks]
rules = ["allow show ...", "allow elevate {1-7}", "allow leave"]
[systems.sw]
kind = "network-device"
vocabulary = "make"
no-command-set = "nothing"
authorisation = { levels = "all", configuration = true }
[roles.looker]
band = { start = 1, ceiling = 7 }
commands = ["looks"]
[[assignments]]
to = ["group:mates"]
roles = ["looker"]
on = { systems = ["sw"] }
when = { origin = ["origin:room"] }
[systems.rota]
kind = "application"
[applications.rota]
types.shift.rights = ["plan", "drop", "swap"]
objects."shift/early" = {}
grants = [
  { allow = ["plan"], on = "shift/*", to = ["group:mates"] },
  { allow = ["swap"], on = "shift/*", to = ["user:mate-1"], after = { confirm = true } },
]
[systems.db]
kind = "postgresql"
database = "db"
[databases.db]
owner = "keeper"
roles = { keeper = {}, reader = {} }
accounts = { clerk = { member-of = ["reader"], inherit = false } }
objects = { "table public.t" = { owner = "keeper", columns = { id = "integer" }, not-modelled = ["check"] }, "table public.u" = { owner = "keeper", columns = { id = "integer" } } }
grants = [{ allow = ["select", "insert"], on = ["table public.t", "table public.u"], to = ["reader"] }]
[sessions.room]
from = "192.0.2.7"
proofs = ["password=1m"]
"#;

/// Each row, and whether each of its answers is the expected one.
#[test]
fn every_answer_of_a_row_is_held_against_the_expected_one() {
    for (name, row, holds) in [
        ("allowed", r#"who = ["user:mate-1"], on = ["rota"], lines = ["plan on shift/early"], answer = "allowed""#, vec![true]),
        ("denied", r#"who = ["user:mate-1"], on = ["rota"], lines = ["drop on shift/early"], answer = "denied""#, vec![true]),
        (
            "a group is everybody in it",
            r#"who = ["group:mates"], on = ["rota"], lines = ["plan on shift/early", "drop on shift/early"], answer = "allowed""#,
            vec![true, false, true, false],
        ),
        (
            "nobody twice",
            r#"who = ["user:mate-1", "group:mates"], on = ["rota"], lines = ["plan on shift/early"], answer = "allowed""#,
            vec![true, true],
        ),
        (
            "after obligations is not allowed",
            r#"who = ["user:mate-1"], on = ["rota"], lines = ["swap on shift/early"], answer = "allowed""#,
            vec![false],
        ),
        (
            "after obligations",
            r#"who = ["user:mate-1"], on = ["rota"], lines = ["swap on shift/early"], answer = "allowed after obligations""#,
            vec![true],
        ),
        (
            "confirmed",
            r#"who = ["user:mate-1"], on = ["rota"], session = { confirmed = true }, lines = ["swap on shift/early"], answer = "allowed""#,
            vec![true],
        ),
        (
            "a session by its name",
            r#"who = ["group:mates"], on = ["sw"], session = "room", lines = ["show level"], answer = "allowed""#,
            vec![true, true],
        ),
        (
            "without its origin",
            r#"who = ["user:mate-1"], on = ["sw"], lines = ["show level"], answer = "denied", code = "not-stated""#,
            vec![true],
        ),
        (
            "the code",
            r#"who = ["user:mate-1"], on = ["sw"], session = "room", lines = ["show log"], answer = "denied", code = "level-too-low""#,
            vec![true],
        ),
        (
            "another code",
            r#"who = ["user:mate-1"], on = ["sw"], session = "room", lines = ["show log"], answer = "denied", code = "not-permitted""#,
            vec![false],
        ),
        (
            "the ground in words",
            r#"who = ["user:mate-1"], on = ["sw"], session = "room", lines = ["show level"], answer = "allowed", ground = "rule `allow show ...`""#,
            vec![true],
        ),
        (
            "the ground by place",
            r#"who = ["user:mate-1"], on = ["sw"], session = "room", lines = ["show level"], answer = "allowed", ground = "ledger.toml:21""#,
            vec![true],
        ),
        (
            "another ground",
            r#"who = ["user:mate-1"], on = ["sw"], session = "room", lines = ["show level"], answer = "allowed", ground = "group `nobody`""#,
            vec![false],
        ),
        (
            "a ground that does not refuse is none of a refusal",
            r#"who = ["user:mate-1"], on = ["sw"], session = "room", lines = ["show log"], answer = "denied", ground = "rule `allow show ...`""#,
            vec![false],
        ),
        (
            "a statement",
            r#"who = ["user:clerk"], on = ["db"], session = { roles = ["reader"] }, statements = ["select id from t"], lines = ["select on table public.t"], answer = "allowed""#,
            vec![true, true],
        ),
        (
            "what was not read is not denied",
            r#"who = ["user:clerk"], on = ["db"], session = { roles = ["reader"] }, statements = ["insert into t values (1)"], answer = "denied""#,
            vec![false],
        ),
        (
            "and is not decided",
            r#"who = ["user:clerk"], on = ["db"], session = { roles = ["reader"] }, statements = ["insert into t values (1)"], answer = "not decided""#,
            vec![true],
        ),
        ("denied is decided", r#"who = ["user:clerk"], on = ["db"], statements = ["delete from u"], answer = "not decided""#, vec![false]),
        (
            "what a system does not look at denies nothing",
            r#"who = ["user:mate-1"], on = ["rota"], session = { level = 3 }, lines = ["drop on shift/early"], answer = "denied""#,
            vec![false],
        ),
        (
            "steps keep the level",
            r#"who = ["user:mate-1"], on = ["sw"], session = "room", steps = [{ line = "show log", answer = "denied" }, { line = "elevate 7", answer = "allowed" }, { line = "show log", answer = "allowed" }]"#,
            vec![true, true, true],
        ),
        (
            "steps end",
            r#"who = ["user:mate-1"], on = ["sw"], session = "room", steps = [{ line = "leave", answer = "allowed" }, { line = "show level", answer = "denied" }]"#,
            vec![true, false],
        ),
        (
            "steps on a server keep the role",
            r#"who = ["user:clerk"], on = ["db"], steps = [{ line = "select id from t", answer = "denied" }, { line = "set role reader", answer = "allowed" }, { line = "select id from t", answer = "allowed" }]"#,
            vec![true, true, true],
        ),
        (
            "no session, no step",
            r#"who = ["user:mate-1"], on = ["sw"], session = { from = "203.0.113.9" }, steps = [{ line = "show level", answer = "allowed" }, { line = "leave", answer = "denied", code = "origin-outside" }]"#,
            vec![false, true],
        ),
    ] {
        let engine = engine(&format!("expectations = [{{ {row} }}]{LEDGER}"));
        let found = expectations(&engine);
        assert!(found.not_asked.list().is_empty(), "{name}: {}", found.not_asked);
        assert_eq!(found.outcomes.iter().map(|outcome| outcome.holds).collect::<Vec<_>>(), holds, "{name}: {:#?}", found.outcomes);
    }
}

/// A row that cannot be asked is said, and no part of it is asked.
#[test]
fn what_cannot_be_asked_is_said() {
    for (row, part) in [
        (r#"who = ["user:mate-3"], on = ["rota"], lines = ["x"], answer = "denied""#, "no user is named `mate-3`"),
        (r#"who = ["mate-1"], on = ["rota"], lines = ["x"], answer = "denied""#, "`mate-1` does not name a user or a group"),
        (r#"who = ["group:nobody"], on = ["rota"], lines = ["x"], answer = "denied""#, "`group:nobody` has no members, so nobody is meant"),
        (
            r#"who = ["user:mate-1", "group:nobody"], on = ["rota"], lines = ["x"], answer = "denied""#,
            "`group:nobody` has no members, so nobody is meant",
        ),
        (r#"who = ["user:mate-1"], on = ["rata"], lines = ["x"], answer = "denied""#, "no system is named `rata`"),
        (r#"who = ["user:mate-1"], on = ["rota"], session = "rom", lines = ["x"], answer = "denied""#, "no session is named `rom`"),
        (
            r#"who = ["user:mate-1"], on = ["rota"], session = { from = "x" }, lines = ["x"], answer = "denied""#,
            "`from`: expected an address",
        ),
        (
            r#"who = ["user:mate-1"], on = ["rota"], session = { proofs = ["pin"] }, lines = ["x"], answer = "denied""#,
            "`pin` is not one of",
        ),
        (
            r#"who = ["user:mate-1"], on = ["rota"], session = { local = true, from = "192.0.2.1" }, lines = ["x"], answer = "denied""#,
            "comes from no address",
        ),
        (r#"who = ["user:mate-1"], on = ["rota"], lines = ["x"], answer = "denied", code = "no-way""#, "no refusal has the code `no-way`"),
        (
            r#"who = ["user:mate-1"], on = ["rota"], lines = ["x"], answer = "allowed", code = "not-permitted""#,
            "an answer that is allowed has no code",
        ),
        (r#"who = ["user:mate-1"], on = ["rota"], answer = "denied""#, "nothing to be asked"),
        (r#"who = [], on = ["rota"], lines = ["x"], answer = "denied""#, "names nobody"),
        (r#"who = ["user:mate-1"], on = [], lines = ["x"], answer = "denied""#, "no system"),
        (r#"who = ["user:mate-1"], on = ["rota"], lines = ["x"]"#, "which answer is expected"),
        (
            r#"who = ["user:mate-1"], on = ["rota"], steps = [{ line = "x", answer = "denied", code = "no-way" }]"#,
            "no refusal has the code",
        ),
    ] {
        let good = r#"{ who = ["user:mate-1"], on = ["rota"], lines = ["plan on shift/early"], answer = "allowed" }"#;
        let engine = engine(&format!("expectations = [{{ {row} }}, {good}]{LEDGER}"));
        let found = expectations(&engine);
        assert!(found.not_asked.to_string().contains(part), "{row}: `{part}` is not in {}", found.not_asked);
        assert!(found.not_asked.list().iter().all(|finding| finding.code == Code::NotAsked && finding.primary.is_some()), "{row}");
        assert_eq!(found.outcomes.len(), 1, "{row}: only the other row is asked\n{:#?}", found.outcomes);
        assert!(hygiene(&engine, None).list().iter().any(|finding| finding.code == Code::NotAsked), "{row}");
        // It stops no answer about anything else.
        assert_eq!(engine.decide(&Question::new("mate-1", "rota", "plan on shift/early")).verdict, Verdict::Allowed);
    }
    // What no document may hold is an error as everywhere.
    for row in [
        r#"who = ["user:mate-1"], on = ["rota"], lines = ["x"], answer = "maybe""#,
        r#"who = ["user:mate-1"], on = ["rota"], line = "x", answer = "denied""#,
    ] {
        assert!(Ledger::new().document("x.toml", &format!("expectations = [{{ {row} }}]{LEDGER}")).estate().is_err(), "{row}");
    }
    let twice = format!("{LEDGER}[sessions.\"room\"]\n");
    assert!(Ledger::new().document("x.toml", &twice).estate().is_err());
    let elsewhere = Ledger::new().document("x.toml", LEDGER).document("y.toml", "[sessions.room]\n").validate().findings;
    assert!(elsewhere.to_string().contains("ZL0203"), "{elsewhere}");
}

/// Whatever is answered can be written down, and holds when it is asked again; also with every fact of a session.
#[test]
fn an_answer_written_down_is_asked_again_as_it_was() {
    let first = seed(22_000);
    println!("first seed {first}");
    let mut written = 0;
    for round in 0..questions(300).div_ceil(10) as u64 {
        let seed = first + round;
        let mut source = Source::new(seed);
        let text = source.ledger();
        let Ok(estate) = Ledger::new().document("ledger.toml", &text).estate() else { continue };
        let Ok(engine) = Engine::compile(estate) else { continue };
        let asked: Vec<Question> = (0..10).map(|_| source.question()).filter(|q| engine.find_user(&q.user, false).is_some()).collect();
        let answers: Vec<_> =
            asked.iter().map(|question| engine.explain(question)).filter(|a| a.refusal.is_none_or(|r| !r.names_nothing())).collect();
        let rows: String = answers.iter().map(recorded).collect();
        let again = Ledger::new().document("ledger.toml", &text).document("kept.toml", &rows).estate();
        let again = Engine::compile(again.unwrap_or_else(|findings| panic!("seed {seed}: {findings}\n{rows}"))).expect("it compiles");
        let found = expectations(&again);
        assert!(found.not_asked.list().is_empty(), "seed {seed}: {}", found.not_asked);
        let questions: Vec<&Question> = found.outcomes.iter().map(|outcome| &outcome.question).collect();
        let before: Vec<&Question> = answers.iter().map(|answer| &answer.question).collect();
        assert_eq!(questions, before, "seed {seed}: {rows}");
        assert!(found.outcomes.iter().all(|outcome| outcome.holds), "seed {seed}: {:#?}", found.outcomes);
        written += answers.len();
    }
    println!("{written} answers were written down");
    assert!(written > 150);
    let engine = engine(LEDGER);
    let session = Session { origin: Some("192.0.2.7".parse().expect("an address")), ..Session::default() };
    let answers: Vec<_> =
        ["show log", "leave"].map(|line| engine.explain(&Question::in_session("mate-1", "sw", line, session.clone()))).into();
    let row = recorded_steps("mate-1", "sw", &session, &answers);
    let again = Ledger::new().document("ledger.toml", LEDGER).document("kept.toml", &row).estate().expect("it can be read");
    assert!(expectations(&Engine::compile(again).expect("it compiles")).outcomes.iter().all(|outcome| outcome.holds), "{row}");
}

/// A part is covered exactly if some row turns without it, or with it turned round: found out here by editing the text.
#[test]
fn coverage_agrees_with_taking_parts_out_of_the_text() {
    const PARTS: [(&str, &str, &str); 6] = [
        ("rule `allow show ...` of `looks`", "\"allow show ...\", ", ""),
        ("rule `allow elevate {1-7}` of `looks`", "\"allow elevate {1-7}\", ", ""),
        ("rule `allow leave` of `looks`", ", \"allow leave\"", ""),
        ("the condition of the assignment of `looker`", "when = { origin = [\"origin:room\"] }\n", ""),
        ("grant of `plan` of `rota`", "{ allow = [\"plan\"], on = \"shift/*\", to = [\"group:mates\"] },", ""),
        (
            "grant of `select, insert` of `db`",
            "grants = [{ allow = [\"select\", \"insert\"], on = [\"table public.t\", \"table public.u\"], to = [\"reader\"] }]\n[sessions",
            "[sessions",
        ),
    ];
    for row in [
        r#"who = ["user:mate-1"], on = ["sw"], session = "room", lines = ["show level"], answer = "allowed""#,
        r#"who = ["user:mate-1"], on = ["sw"], lines = ["show level"], answer = "denied""#,
        r#"who = ["user:mate-1"], on = ["sw"], session = "room", steps = [{ line = "elevate 7", answer = "allowed" }]"#,
        r#"who = ["user:mate-1"], on = ["sw"], session = "room", lines = ["elevate 8"], answer = "denied""#,
        r#"who = ["user:mate-2"], on = ["rota"], lines = ["plan on shift/early"], answer = "allowed""#,
        r#"who = ["user:clerk"], on = ["db"], session = { roles = ["reader"] }, statements = ["select id from u"], answer = "allowed""#,
        r#"who = ["user:clerk"], on = ["db"], statements = ["select id from u"], answer = "denied""#,
        // What is expected wrongly depends on what makes it wrong.
        r#"who = ["user:mate-2"], on = ["rota"], lines = ["plan on shift/early"], answer = "denied""#,
    ] {
        let text = format!("expectations = [{{ {row} }}]{LEDGER}");
        let here = engine(&text);
        let (asked, _) = rows(&here);
        let all = parts(&here);
        let holds = |engine: &Engine| expectations(engine).outcomes.iter().map(|outcome| outcome.holds).collect::<Vec<_>>();
        for (what, from, to) in PARTS {
            assert!(text.contains(from), "`{from}`");
            let without = engine(&text.replacen(from, to, 1));
            let mut turns = holds(&without) != holds(&here);
            if from.contains("allow ") && what.starts_with("rule") {
                turns |= holds(&engine(&text.replacen(from, &from.replace("allow ", "deny "), 1))) != holds(&here);
            }
            let part = all.iter().find(|part| part.what() == what).unwrap_or_else(|| panic!("no part `{what}`"));
            let covered = part.is_covered_by(&here, &Asked::of(&here, &asked));
            // A grant on an application cannot be turned round, and is then only taken out.
            assert_eq!(covered == Covered::Yes, turns, "{what}: {row}");
        }
    }
    let names: BTreeSet<&str> = PARTS.iter().map(|(what, ..)| *what).collect();
    assert_eq!(names.len(), PARTS.len());
}

/// Returns which parts of a ledger some expectation depends on.
fn covered(engine: &Engine) -> Vec<(String, Covered)> {
    let (asked, _) = rows(engine);
    let asked = Asked::of(engine, &asked);
    parts(engine).iter().map(|part| (part.what().to_owned(), part.is_covered_by(engine, &asked))).collect()
}

/// What is proposed decides the part that it is for, is read back as it is, covers all that can be covered, and none can be left out.
#[test]
fn what_is_proposed_covers_every_part_and_none_can_be_left_out() {
    let first = seed(26_000);
    println!("first seed {first}");
    let (mut kept, mut nothing, mut besides) = (0, 0, 0);
    for round in 0..questions(2_000).div_ceil(250) as u64 {
        let seed = first + round;
        let mut source = Source::new(seed);
        let text = source.ledger();
        let made = |text: &str| Some(Engine::compile(Ledger::new().document("estate.toml", text).estate().ok()?).expect("it compiles"));
        let Some(here) = made(&text) else { continue };
        let questions = Questions::of(&here);
        let all = parts(&here);
        // Some are enough: each looks at everybody on every system.
        let all: Vec<_> = all.iter().step_by(3).collect();
        let mut proposals: Vec<Proposal> = all.iter().map(|part| part.proposed(&questions)).collect();
        let decided: Vec<bool> = proposals.iter().map(|proposal| proposal.decides.is_some()).collect();
        for (part, proposal) in all.iter().zip(&proposals) {
            nothing += usize::from(proposal.decides.is_none());
            if let Some(question) = &proposal.beside {
                besides += 1;
                let verdict = |question| here.decide(question).verdict;
                assert_ne!(
                    verdict(question) == Verdict::Denied,
                    verdict(proposal.decides.as_ref().expect("one that it decides")) == Verdict::Denied,
                    "seed {seed}: {}",
                    part.what()
                );
            }
        }
        // Where none was found, no question that is asked at random turns either.
        let is_meant = |session: &Session| session.acting.len() < 2 && session.active_roles.as_ref().is_none_or(|roles| roles.len() < 2);
        let many: Vec<Question> = (0..150).map(|_| plain(source.question())).filter(|question| is_meant(&question.session)).collect();
        let without_codes =
            |row: String| row.lines().filter(|line| !line.starts_with("code")).map(|line| format!("{line}\n")).collect::<String>();
        let asked: String = many.iter().map(|question| without_codes(recorded(&here.explain(question)))).collect();
        if let Some(with) = made(&format!("{text}{asked}")) {
            let of_all: Vec<Covered> = covered(&with).into_iter().step_by(3).map(|(_, covered)| covered).collect();
            for ((part, is_decided), covered) in all.iter().zip(&decided).zip(of_all) {
                assert!(*is_decided || covered != Covered::Yes, "seed {seed}: nothing was proposed for {}", part.what());
            }
        }
        fewest(&here, &mut proposals);
        kept += proposals.iter().filter(|proposal| proposal.decides.is_some()).count();
        let with = made(&format!("{text}{}", proposed_text(&here, &proposals))).expect("what is proposed can be read");
        assert!(expectations(&with).outcomes.iter().all(|outcome| outcome.holds), "seed {seed}");
        let of_all: Vec<Covered> = covered(&with).into_iter().step_by(3).map(|(_, covered)| covered).collect();
        for ((part, is_decided), covered) in all.iter().zip(&decided).zip(of_all) {
            assert!(!is_decided || covered == Covered::Yes, "seed {seed}: {} is not covered", part.what());
        }
        // Without any of those that decide something, a part is decided by none of the others.
        let deciding: Vec<&Question> = proposals.iter().filter_map(|proposal| proposal.decides.as_ref()).collect();
        for left_out in 0..deciding.len() {
            let rows: String =
                deciding.iter().enumerate().filter(|(row, _)| *row != left_out).map(|(_, q)| recorded(&here.explain(q))).collect();
            let less = made(&format!("{text}{rows}")).expect("it can be read");
            let of_less: Vec<Covered> = covered(&less).into_iter().step_by(3).map(|(_, covered)| covered).collect();
            assert!(decided.iter().zip(of_less).any(|(is, covered)| *is && covered != Covered::Yes), "seed {seed}: row {left_out} can go");
        }
    }
    println!("{kept} rows kept, {besides} beside them, {nothing} parts that nothing depends on");
    assert!(kept > 20 && besides > 20);
}
