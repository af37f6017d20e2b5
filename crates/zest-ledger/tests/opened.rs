//! Sessions that were opened before a change of the ledger and are open still: what each kind of system lets them do.

use zest_ledger::ask::{Refusal, Verdict};
use zest_ledger::{Before, Engine, Ledger, Question};

fn engine(name: &str, text: &str) -> Engine {
    Ledger::new().document(name, text).engine(1).unwrap_or_else(|findings| panic!("{findings}\n{text}"))
}

/// A word for each answer.
fn word(answer: &zest_ledger::ask::Answer) -> &'static str {
    match (answer.verdict, answer.refusal) {
        (Verdict::Allowed, _) => "allowed",
        (Verdict::AllowedAfter, _) => "waits",
        (Verdict::Denied, Some(code)) => code.code(),
        (Verdict::Denied, None) => "denied without a code",
    }
}

const DEVICE: &str = r#"
users.watch-1 = { proofs = ["password"] }
[vocabularies.corvane-os]
commands = [{ line = "show release" }, { line = "show paths", level = 7 }, { line = "elevate {level:1-15}", does = "elevate" }]
[systems.sw-1]
kind = "network-device"
vocabulary = "corvane-os"
no-command-set = "nothing"
authorisation = { levels = [1, 7], configuration = false }
[command-sets.look]
rules = ["allow show ...", "allow elevate {level:1-15}"]
[roles.looker]
band = { start = 1, ceiling = 7 }
commands = ["look"]
[[assignments]]
to = ["user:watch-1"]
roles = ["looker"]
on = { systems = ["sw-1"] }
"#;

const ROTA: &str = r#"
users.watch-1 = { proofs = ["password"] }
[systems.rota]
kind = "application"
[applications.rota]
types.shift.rights = ["plan", "look"]
objects."shift/early" = {}
grants = [{ allow = ["plan"], on = "shift/*", to = ["user:watch-1"] }]
"#;

const HOST: &str = r#"
users.watch-1 = { proofs = ["password"] }
[systems.box]
kind = "host"
no-command-set = "everything"
[hosts.box.accounts]
watch-1 = {}
"#;

const FARES: &str = r#"
users.watch-1 = { proofs = ["password"] }
[systems.fares]
kind = "postgresql"
[databases.fares]
accounts.watch-1 = { member-of = ["clerk"], settings = ["search_path=tariff"] }
roles.clerk = {}
objects."schema tariff" = {}
objects."table tariff.price" = { columns = { id = "int" } }
grants = [
  { allow = ["usage"], on = "schema tariff", to = ["clerk"] },
  { allow = ["select"], on = "table tariff.price", to = ["clerk"] },
]
"#;

const POINTS: &str = r#"
users.watch-1 = { proofs = ["password"] }
[systems.points]
kind = "mariadb"
[databases.points]
accounts."watch-1@%" = { member-of = ["desk"], default-role = "desk" }
roles.desk = {}
objects."table club.member" = { columns = { id = "int" } }
grants = [
  { allow = ["select"], on = "everything", to = ["desk"] },
  { allow = ["insert"], on = "table club.member", to = ["desk"] },
  { allow = ["delete"], on = "database club", to = ["watch-1@%"] },
]
"#;

/// The ledger when the session was opened, what was changed since, the system and what is asked, and the answers: for the open session,
/// and for a new one.
#[test]
fn each_kind_keeps_what_its_sessions_keep() {
    let select = "select id from price";
    // Lines at the start level are not authorised centrally.
    let quiet = DEVICE.replacen("levels = [1, 7]", "levels = [7]", 1);
    for (text, from, to, on, line, opened, anew) in [
        // Nothing changed.
        (DEVICE, "", "", "sw-1", "show release", "allowed", "allowed"),
        (ROTA, "", "", "rota", "plan on shift/early", "allowed", "allowed"),
        (FARES, "", "", "fares", select, "allowed", "allowed"),
        (POINTS, "", "", "points", "select id from club.member", "allowed", "allowed"),
        // The band is kept; what the device and the central source look at is not.
        (DEVICE, "ceiling = 7", "ceiling = 1", "sw-1", "elevate 7", "allowed", "above-ceiling"),
        (DEVICE, "ceiling = 7", "ceiling = 15", "sw-1", "elevate 15", "above-ceiling", "allowed"),
        (DEVICE, "allow show ...", "allow show paths", "sw-1", "show release", "not-permitted", "not-permitted"),
        (DEVICE, "\"allow elevate", "\"allow save\", \"allow elevate", "sw-1", "show release", "allowed", "allowed"),
        (DEVICE, "line = \"show release\"", "line = \"show release\", level = 7", "sw-1", "show release", "level-too-low", "level-too-low"),
        // Who is gone types nothing of which the central source is asked, and goes on where it is not.
        (DEVICE, "{ proofs", "{ disabled = true, proofs", "sw-1", "show release", "user-disabled", "user-disabled"),
        (DEVICE, "to = [\"user:watch-1\"]", "to = []", "sw-1", "show release", "no-assignment", "no-assignment"),
        (&quiet, "{ proofs", "{ disabled = true, proofs", "sw-1", "show release", "allowed", "user-disabled"),
        (
            &quiet,
            "{ proofs",
            "{ must-change-credential = true, proofs",
            "sw-1",
            "show release",
            "credential-must-change",
            "credential-must-change",
        ),
        // An application looks at each request.
        (ROTA, "{ proofs", "{ disabled = true, proofs", "rota", "plan on shift/early", "user-disabled", "user-disabled"),
        (ROTA, "allow = [\"plan\"]", "allow = [\"look\"]", "rota", "plan on shift/early", "not-granted", "not-granted"),
        // Nobody has found out of hosts.
        (HOST, "", "", "box", "uptime", "not-decided", "allowed"),
        // PostgreSQL: settings and sign-in are kept, memberships and grants are not.
        (FARES, "search_path=tariff", "search_path=public", "fares", select, "allowed", "not-decided"),
        (FARES, "member-of = [\"clerk\"]", "member-of = []", "fares", select, "schema-shut", "schema-shut"),
        (FARES, "{ proofs", "{ disabled = true, proofs", "fares", select, "allowed", "user-disabled"),
        (FARES, "accounts.watch-1 = {", "accounts.watch-1 = { connection-limit = 0,", "fares", select, "allowed", "no-login"),
        (FARES, "accounts.watch-1 =", "accounts.watch-2 =", "fares", select, "not-decided", "no-account"),
        // MariaDB: what is held on everything, and the active role, are kept; what is held on a table is not.
        (
            POINTS,
            "member-of = [\"desk\"], default-role = \"desk\"",
            "locked = true",
            "points",
            "select id from club.member",
            "allowed",
            "account-locked",
        ),
        (
            POINTS,
            "{ allow = [\"select\"], on = \"everything\", to = [\"desk\"] },",
            "",
            "points",
            "select id from club.member",
            "allowed",
            "no-privilege",
        ),
        (
            POINTS,
            "{ allow = [\"insert\"], on = \"table club.member\", to = [\"desk\"] },",
            "",
            "points",
            "insert into club.member (id) values (1)",
            "no-privilege",
            "no-privilege",
        ),
        (
            POINTS,
            "{ allow = [\"delete\"], on = \"database club\", to = [\"watch-1@%\"] },",
            "",
            "points",
            "delete from club.member",
            "not-decided",
            "no-privilege",
        ),
        (POINTS, "roles.desk", "roles.counter", "points", "select id from club.member", "not-decided", "no-privilege"),
    ] {
        let before = engine("rota.toml", text);
        let mut changed = text.replacen(from, to, 1);
        if to == "roles.counter" {
            changed = changed.replace("\"desk\"", "\"counter\"").replace("[\"counter\"], default-role = \"counter\"", "[]");
        }
        let after = engine("rota.toml", &changed);
        let is_sql = ["fares", "points"].contains(&on);
        let question = if is_sql { Question::statement("watch-1", on, line) } else { Question::new("watch-1", on, line) };
        let answer = after.ask_opened(&Before::new(&before), &question);
        let new = after.explain(&question);
        assert_eq!((word(&answer), word(&new)), (opened, anew), "{on}: {line}, with {to}: {answer:#?}");
    }
}

/// Where nothing was changed, a session that is open is answered as a new one, whatever is asked; but where that is not known.
#[test]
fn without_a_change_an_open_session_is_answered_as_a_new_one() {
    let first = zest_testkit::seed(9_000);
    println!("first seed {first}");
    let (mut known, mut not_known) = (0, 0);
    for seed in (first..).take(zest_testkit::questions(4_000).div_ceil(50)) {
        let mut source = zest_testkit::estates::Source::new(seed);
        let text = source.ledger();
        let Ok(engine) = Ledger::new().document("random.toml", &text).engine(1) else { continue };
        for _ in 0..50 {
            let question = source.question();
            let before = Before { at: question.session.at, ..Before::new(&engine) };
            let (opened, new) = (engine.ask_opened(&before, &question), engine.explain(&question));
            if opened.refusal == Some(Refusal::NotDecided) {
                not_known += 1;
                continue;
            }
            known += 1;
            assert_eq!((opened.verdict, opened.refusal), (new.verdict, new.refusal), "seed {seed}: {question:?}\n{text}");
        }
    }
    println!("{known} known, {not_known} not");
    assert!(known > 1_000, "{known}");
}

/// What a session keeps is cited where it was written then, in documents that are told from those of now.
#[test]
fn what_is_kept_is_cited_where_it_was_written() {
    let (before, after) = (
        engine("points.toml", POINTS),
        engine(
            "points.toml",
            &format!("# One line more.\n{}", POINTS.replacen("{ allow = [\"select\"], on = \"everything\", to = [\"desk\"] },", "", 1)),
        ),
    );
    let question = Question::statement("watch-1", "points", "select id from club.member");
    let answer = after.ask_opened(&Before { label: "last-week/", ..Before::new(&before) }, &question);
    let places: Vec<String> = answer.gates.iter().filter_map(|gate| gate.location.as_ref()).map(ToString::to_string).collect();
    assert_eq!(places, ["last-week/points.toml:6", "last-week/points.toml:6", "last-week/points.toml:10"], "{answer:#?}");
    let kept = answer.gates.last().map(|gate| gate.text.as_str()).unwrap_or_default();
    assert!(kept.ends_with("granted on everything, as it was when the session was opened"), "{kept}");
}

/// Of these sessions nothing is answered but that it is not known.
#[test]
fn what_is_not_known_of_an_open_session_is_not_decided() {
    let device = engine("a.toml", DEVICE);
    let other = engine("a.toml", &ROTA.replace("rota", "sw-1"));
    let points = engine("a.toml", POINTS);
    let line = |on: &str, line: &str| Question::new("watch-1", on, line);
    let mut down = line("sw-1", "show release");
    down.session.central = zest_ledger::ask::Central::Down;
    let mut ended = POINTS.replacen("on = \"everything\",", "on = \"everything\", until = 2027-01-01,", 1);
    ended = ended.replacen("insert", "select", 1);
    let ended = engine("a.toml", &ended);
    let select = Question::statement("watch-1", "points", "select id from club.member");
    for (what, now, then, question, refusal) in [
        ("another kind", &device, &other, &line("sw-1", "show release"), Refusal::NotDecided),
        ("a system that was not there", &device, &points, &line("sw-1", "show release"), Refusal::UnknownSystem),
        ("while the central source is down", &device, &device, &down, Refusal::NotDecided),
        ("a grant that ends, and no moment", &points, &ended, &select, Refusal::NotStated),
    ] {
        let answer = now.ask_opened(&Before::new(then), question);
        assert_eq!(answer.refusal, Some(refusal), "{what}: {answer:#?}");
    }
    let at: jiff::Timestamp = "2026-12-01T00:00:00Z".parse().expect("a moment");
    let mut earlier = line("rota", "plan on shift/early");
    earlier.session.at = Some(at - jiff::SignedDuration::from_secs(1));
    let rota = engine("a.toml", ROTA);
    let answer = rota.ask_opened(&Before::new(&rota).at(at), &earlier);
    assert_eq!(answer.refusal, Some(Refusal::NotDecided), "opened after it acts: {answer:#?}");
    let answer = points.ask_opened(&Before::new(&ended).at(at), &select);
    assert_eq!(answer.verdict, Verdict::Allowed, "{answer:#?}");
}
