//! Promises: what is said of everybody is proved exactly if asking everybody finds no example against it.

use std::collections::{BTreeMap, BTreeSet};

use zest_ledger::ask::{Form, Question, Session, Verdict};
use zest_ledger::command::{Pattern, read_line};
use zest_ledger::entry::{Kind, Promise};
use zest_ledger::promise::{Standing, promises, standing_in};
use zest_ledger::review::Classes;
use zest_ledger::{Engine, Ledger};
use zest_testkit::{questions, seed};

use crate::support::{engine, plain, random, random_with_twins};

const LEDGER: &str = r#"
[users.mate-1]
proofs = ["password", "one-time-code"]
[users.mate-2]
proofs = ["password"]
[users.guest]
proofs = ["password"]
[users.ghost]
[groups.mates]
members = ["user:mate-1", "user:mate-2"]
[groups.nobody]
[vocabularies.make]
commands = [
  { line = "show log" },
  { line = "show port {port: word}" },
  { line = "leave", level = 0, does = "leave-session" },
  { line = "elevate {level: 0-15}", level = 0, does = "elevate" },
  { line = "zero tally", level = 7 },
]
[command-sets.looks]
rules = ["deny show port p-9", "allow show ...", "allow elevate {1-7}", "allow leave"]
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
[systems.rota]
kind = "application"
[applications.rota]
types.shift.rights = ["plan", "drop", "swap", "close"]
objects."shift/early" = {}
objects."shift/late" = {}
grants = [
  { allow = ["plan"], on = "shift/*", to = ["group:mates"] },
  { allow = ["drop"], on = "shift/late", to = ["user:mate-1"], when = { proof = ["one-time-code"], proof-age = "1h" } },
  { allow = ["swap"], on = "shift/*", to = ["user:mate-2"], after = { confirm = true } },
  { allow = ["close"], on = "shift/*", to = ["user:mate-2"], after = { second-person = ["group:nobody"] } },
]
[systems.db]
kind = "postgresql"
database = "db"
[databases.db]
owner = "keeper"
roles = { keeper = {} }
accounts = { guest = {}, robot = {} }
objects = { "table public.t" = { owner = "keeper", columns = { id = "integer" } } }
grants = [{ allow = ["select"], on = "table public.t", to = ["robot"] }]
"#;

#[test]
fn nothing_of_a_promise_is_left_out_without_a_word() {
    for (row, part) in [
        ("never = [\"zero ...\"]\nalways = [\"zero tally\"]", "`never` and `always` are several promises"),
        ("never = [\"zero ...\"]\nmay = [\"zero tally\"]", "`never` and `may` are several"),
        ("may = [\"show log\"]\neach-right-of = [\"looker\"]", "`may` and `each-right-of` are several"),
        ("no-way = [\"zero ...\"]\nnever-both = [\"show ...\", \"leave\"]", "several promises"),
        ("never = [\"zero ...\"]\nat-most = 0", "`at-most` goes with `may` or `each-right-of`"),
        ("always = [\"leave\"]\nat-least = 2", "`at-least` goes with"),
        ("may = [\"show log\"]\nalso-may = [\"zero ...\"]", "`also-may` goes with `whoever-may`"),
        ("whoever-may = [\"show log\"]", "`whoever-may` needs `also-may`"),
        ("may = [\"show log\"]\nlonger-than-days = 3", "`longer-than-days` goes with `never`"),
        ("no-way = [\"zero ...\"]\nlonger-than-days = 3", "`longer-than-days` goes with `never`"),
    ] {
        let with = engine(&format!("{LEDGER}\n[[promises]]\n{row}\non = [\"sw\"]\n"));
        let found = promises(&with, "2026-11-28T12:00:00Z".parse().expect("a moment")).pop().expect("a promise");
        assert_eq!(found.standing, Standing::SaysNothing, "{row}: {found:#?}");
        assert!(found.why.iter().any(|why| why.contains(part)), "{row}: {:#?}", found.why);
    }
}

#[test]
fn nothing_is_held_for_longer_than_promised() {
    use Standing::{Proved, Refuted, SaysNothing};
    // The moment of the review is 2026-11-28T12:00:00Z.
    for (until, row, standing) in [
        ("until = 2026-12-20", "longer-than-days = 30", Proved),
        ("until = 2026-12-28T12:00:00Z", "longer-than-days = 30", Proved),
        ("until = 2026-12-28T12:00:01Z", "longer-than-days = 30", Refuted),
        ("until = 2027-02-01", "longer-than-days = 30", Refuted),
        ("until = 2026-11-01", "longer-than-days = 0", Proved),
        ("", "longer-than-days = 36500", Refuted),
        // What begins later is held then.
        ("from = 2027-03-01, until = 2027-03-02", "longer-than-days = 30", Refuted),
        ("until = 2027-02-01, when = { hours = \"22:00-23:00\" }", "longer-than-days = 30", Refuted),
        ("until = 2026-12-20, when = { hours = \"22:00-23:00\" }", "longer-than-days = 30", Proved),
        ("until = 2026-12-20", "longer-than-days = 30\nunless = { proof = [\"password\"] }", SaysNothing),
    ] {
        let ends = if until.is_empty() { String::new() } else { format!(", {until}") };
        let text = format!(
            "[users.mate-1]\nproofs = [\"password\"]\n[systems.rota]\nkind = \"application\"\n[applications.rota]\n\
             types.shift.rights = [\"plan\"]\nobjects.\"shift/early\" = {{}}\n\
             grants = [{{ allow = [\"plan\"], on = \"shift/*\", to = [\"user:mate-1\"]{ends} }}]\n\
             [[promises]]\nnever = [\"plan on **\"]\n{row}\n"
        );
        let engine = engine(&text);
        let found = promises(&engine, "2026-11-28T12:00:00Z".parse().expect("a moment")).pop().expect("a promise");
        assert_eq!(found.standing, standing, "{until}, {row}: {found:#?}");
        for witness in &found.witnesses {
            assert_eq!(engine.decide(&witness.question).verdict, Verdict::Allowed, "{until}: {witness:#?}");
            let limit: jiff::Timestamp = "2026-12-28T12:00:00Z".parse().expect("a moment");
            assert!(witness.question.session.at.is_none_or(|at| at >= limit), "{until}: {witness:#?}");
        }
        assert!(found.says.contains("for longer than"), "{}", found.says);
    }
}

#[test]
fn each_sort_of_promise_is_proved_or_refuted() {
    use Standing::{Proved, Refuted, SaysNothing};
    for (row, standing, part) in [
        (r#"never = ["zero ..."], on = ["sw"]"#, Proved, ""),
        (r#"never = ["show ..."], on = ["sw"]"#, Refuted, "show log"),
        (r#"each-right-of = ["looker"], on = ["sw"], at-least = 2, at-most = 2"#, Proved, ""),
        (r#"each-right-of = ["looker"], on = ["sw"], at-most = 1"#, Refuted, "2 may, and at most 1 must"),
        (r#"each-right-of = ["looker"], on = ["sw"], at-least = 3"#, Refuted, "`show log` on sw: 2 may, and 3 must"),
        (r#"each-right-of = ["looker"], on = ["sw"], of = ["user:mate-1"]"#, Proved, ""),
        (r#"each-right-of = ["looker"], on = ["sw"], of = ["user:guest"]"#, Refuted, "0 may, and 1 must"),
        (r#"each-right-of = ["looker"], on = ["rota"]"#, SaysNothing, "give nothing"),
        (r#"each-right-of = ["locker"]"#, SaysNothing, "locker"),
        (r#"never = ["show ..."], on = ["sw"], but = ["group:mates"]"#, Proved, ""),
        (r#"never = ["show ..."], on = ["sw"], of = ["user:guest"]"#, Proved, ""),
        // One word of a placeholder is not all of them.
        (r#"never = ["show port p-9"], on = ["sw"]"#, Proved, ""),
        (r#"never = ["show port p-8"], on = ["sw"]"#, Refuted, "show port p-8"),
        (r#"never = ["show port p-*"], on = ["sw"]"#, Refuted, "show port p-"),
        (r#"never = ["elevate {8-15}"], on = ["sw"]"#, Proved, ""),
        (r#"never = ["elevate {7-15}"], on = ["sw"]"#, Refuted, "elevate 7"),
        (r#"never = ["drop on shift/early"], on = ["rota"]"#, Proved, ""),
        (r#"never = ["drop on shift/*"], on = ["rota"]"#, Refuted, "drop on shift/late"),
        (r#"never = ["drop on shift/*"], on = ["rota"], unless = { proof = ["one-time-code"], proof-age = "1h" }"#, Proved, ""),
        (r#"never = ["drop on shift/*"], on = ["rota"], unless = { proof = ["one-time-code"], proof-age = "30m" }"#, Refuted, "drop on"),
        (r#"never = ["drop on **"], on = ["rota"], session = { proofs = ["password"] }"#, Proved, ""),
        // What is allowed after obligations may be done; where nobody can discharge them it may not.
        (r#"never = ["swap on **"], on = ["rota"]"#, Refuted, "swap on"),
        (r#"never = ["close on **"], on = ["rota"]"#, Proved, ""),
        // An account that no user stands behind is somebody as well.
        (r#"never = ["select on table *"], on = ["db"]"#, Refuted, "select on table public.t"),
        (r#"never = ["select on table *"], on = ["db"], of = ["user:guest", "group:mates"]"#, Proved, ""),
        (r#"never = ["delete on table *"], on = ["db"]"#, Proved, ""),
        (r#"never = ["zero ..."]"#, Proved, ""),
        (r#"never = ["fly ..."], on = ["sw"]"#, SaysNothing, "takes nothing"),
        (r#"never = ["fly on shift/*"], on = ["rota"]"#, SaysNothing, "takes nothing"),
        (r#"never = ["drop"], on = ["rota"]"#, SaysNothing, "expected an operation on a path"),
        (r#"never = ["show {"], on = ["sw"]"#, SaysNothing, "can be read on none"),
        (r#"never = ["zero ..."], of = ["group:nobody"]"#, SaysNothing, "has no members"),
        (r#"never = ["zero ..."], of = ["user:mate-1"], but = ["group:mates"]"#, SaysNothing, "speaks of nobody"),
        (r#"never = ["zero ..."], on = ["sv"]"#, SaysNothing, "no system is named `sv`"),
        (r#"never = ["plan on **"], on = ["rota"], session = { level = 7 }"#, SaysNothing, "does not look at the fact `level`"),
        (r#"never = ["zero ..."], session = "day""#, SaysNothing, "no session is named `day`"),
        (r#"never-both = ["drop on **", "swap on **"], on = ["rota"]"#, Proved, ""),
        (r#"never-both = ["plan on **", "swap on **"], on = ["rota"]"#, Refuted, "mate-2"),
        (r#"never-both = ["plan on **"], on = ["rota"]"#, SaysNothing, "two patterns at least"),
        (r#"never-both = ["show ...", "plan on **"]"#, Refuted, "mate-1"),
        (r#"always = ["leave", "show log"], on = ["sw"]"#, Proved, ""),
        (r#"always = ["leave"], on = ["sw"], of = ["user:guest"]"#, SaysNothing, "can open a session"),
        (r#"always = ["zero tally"], on = ["sw"], of = ["group:mates"]"#, Refuted, "zero tally"),
        (r#"always = ["plan on shift/early"], on = ["rota"], of = ["group:mates"]"#, Proved, ""),
        (r#"always = ["plan on shift/early"], on = ["rota"]"#, Refuted, "guest"),
        (r#"always = ["drop on shift/late"], on = ["rota"], of = ["user:mate-1"]"#, Refuted, "drop on shift/late"),
        (
            r#"always = ["drop on shift/late"], on = ["rota"], of = ["user:mate-1"], session = { proofs = ["one-time-code=5m"] }"#,
            Proved,
            "",
        ),
        (r#"whoever-may = ["drop on **"], also-may = ["plan on **"], on = ["rota"]"#, Proved, ""),
        (r#"whoever-may = ["plan on **"], also-may = ["drop on **"], on = ["rota"]"#, Refuted, "mate-2"),
        (r#"may = ["show log"], at-least = 2, on = ["sw"]"#, Proved, ""),
        (r#"may = ["show log"], at-least = 3, on = ["sw"]"#, Refuted, "on sw 2 may, and 3 must"),
        (r#"may = ["show log"], at-most = 1, on = ["sw"]"#, Refuted, "at most 1"),
        (r#"may = ["drop on **"], on = ["rota"]"#, Proved, ""),
        (r#"may = ["zero ..."], on = ["sw"]"#, Refuted, "on sw 0 may, and 1 must"),
        (
            r#"never = ["plan on **"], on = ["rota"], exceptions = [{ who = ["group:mates"], because = "they plan", until = 2030-01-01 }]"#,
            Proved,
            "",
        ),
        (
            r#"never = ["plan on **"], on = ["rota"], exceptions = [{ who = ["group:mates"], because = "they planned", until = 2020-01-01 }]"#,
            Refuted,
            "plan on",
        ),
    ] {
        let engine = engine(&format!("promises = [{{ {row} }}]{LEDGER}"));
        let found = promises(&engine, "2026-11-28T12:00:00Z".parse().expect("a moment"));
        let told = format!("{found:#?}");
        assert_eq!(found[0].standing, standing, "{row}\n{told}");
        assert!(told.contains(part), "{row}: `{part}` is not in\n{told}");
        for witness in found[0].witnesses.iter().filter(|witness| !witness.question.user.starts_with("account:")) {
            let verdict = engine.decide(&witness.question).verdict;
            assert_eq!(verdict, witness.verdict, "{row}");
            assert_eq!(verdict == Verdict::Denied, row.starts_with("always"), "{row}\n{told}");
        }
    }
    // Two things to say at once, or none, are an error of the document.
    for row in [r#"never = ["x"], always = ["x"]"#, r#"of = ["user:mate-1"]"#, r#"whoever-may = ["x"]"#] {
        let text = format!("promises = [{{ {row} }}]{LEDGER}");
        let validated = Ledger::new().document("x.toml", &text).validate();
        let says = validated.estate.map(|estate| promises(&Engine::compile(estate).expect("it compiles"), jiff::Timestamp::UNIX_EPOCH));
        assert!(says.is_none_or(|found| found[0].standing == SaysNothing), "{row}");
    }
}

/// What lies beyond a limit leaves a promise not proved, and never proved; an example refutes it all the same.
/// What is beyond a limit for those who always are there is beyond it for those who are there for a while.
#[test]
fn a_limit_is_not_lost_with_those_who_are_there_for_a_while() {
    const SKY: &str = r#"
users.always.proofs = ["password"]
users.brief = { proofs = ["password"], until = 2027-01-01 }
groups.both.members = ["user:always", "user:brief"]
[systems.sky]
kind = "cloud"
[clouds.sky]
operations = { "hull.read" = { reads = true }, "hull.stop" = {} }
resources = { line = {} }
grants = [{ allow = ["assume"], on = "role/*", to = ["group:both", "role:first"] }]
[roles.first]
assumable = { by = ["group:both"] }
[roles.second]
assumable = { by = ["role:first"] }
"#;
    for (who, key) in [("always", "never"), ("brief", "never"), ("always", "no-way"), ("brief", "no-way")] {
        let row = format!("[[promises]]\nof = [\"user:{who}\"]\n{key} = [\"hull.stop on **\"]\n");
        let found = promises(&engine(&format!("{SKY}{row}")), "2026-11-28T12:00:00Z".parse().expect("a moment"));
        assert_eq!(found[0].standing, Standing::NotProved, "{who}: {found:#?}");
        assert!(found[0].why[0].contains("chains of more than two links"), "{found:#?}");
    }
}

/// Whoever uses an account that no user stands behind sets out as well.
#[test]
fn no_way_leads_from_an_account_of_nobody_either() {
    let select = "no-way = [\"select on table public.t\"]\non = [\"db\"]";
    for (account, standing, part) in [
        ("robot = {}", Standing::Refuted, "account:db/robot > select on table public.t on db"),
        ("robot = {}, idle = {}", Standing::Refuted, "account:db/robot"),
        ("idle = {}", Standing::Proved, ""),
        ("maker = { may = [\"create-role\"] }", Standing::Refuted, "account:db/maker > GRANT \"keeper\" TO \"maker\" on db > select"),
    ] {
        let ledger = LEDGER.replacen("accounts = { guest = {}, robot = {} }", &format!("accounts = {{ guest = {{}}, {account} }}"), 1);
        let ledger = if account.contains("robot") { ledger } else { ledger.replacen("to = [\"robot\"]", "to = [\"keeper\"]", 1) };
        let found = promises(&engine(&format!("{ledger}[[promises]]\n{select}\n")), "2026-11-28T12:00:00Z".parse().expect("a moment"));
        assert_eq!(found[0].standing, standing, "{account}: {found:#?}");
        assert!(part.is_empty() || found[0].witnesses.iter().any(|witness| witness.why.contains(part)), "{account}: {found:#?}");
    }
}

#[test]
fn what_was_not_looked_at_proves_nothing() {
    let roles: String = ["a", "b", "c"]
        .iter()
        .zip(["user:mate-1", "role:a", "role:b"])
        .map(|(role, by)| {
            format!("[roles.{role}]\nassumable = {{ by = [\"{by}\"] }}\ngrants = [{{ allow = [\"assume\"], on = \"role/*\" }}]\n")
        })
        .collect();
    let cloud = "[systems.sky]\nkind = \"cloud\"\n[clouds.sky]\noperations = { \"hulls.stop\" = {}, \"hulls.look\" = { reads = true } }\n\
                 resources = { yard = {} }\ngrants = [{ allow = [\"assume\"], on = \"role/a\", to = [\"user:mate-1\"] }, \
                 { allow = [\"hulls.stop\"], on = \"yard\", to = [\"role:c\"] }, { allow = [\"hulls.look\"], on = \"yard\", to = [\"role:a\"] }]\n";
    for (row, standing) in [
        (r#"never = ["hulls.stop on **"], on = ["sky"]"#, Standing::NotProved),
        (r#"never = ["hulls.look on **"], on = ["sky"]"#, Standing::Refuted),
        // A chain that is stated is looked at, however long it is.
        (r#"never = ["hulls.stop on **"], on = ["sky"], session = { acting = ["role:a", "role:b", "role:c"] }"#, Standing::Refuted),
        (r#"never = ["hulls.stop on **"], on = ["sky"], session = { acting = ["role:a", "role:b"] }"#, Standing::Proved),
        (r#"never = ["hulls.stop on **"], on = ["sky"], of = ["user:mate-2"]"#, Standing::Proved),
    ] {
        let engine = engine(&format!("promises = [{{ {row} }}]{LEDGER}{cloud}{roles}"));
        let found = promises(&engine, jiff::Timestamp::UNIX_EPOCH);
        assert_eq!(found[0].standing, standing, "{row}\n{found:#?}");
        assert!(standing != Standing::NotProved || found[0].why[0].contains("chains of more than two links"), "{found:#?}");
    }
}

/// Returns whether a pattern takes a line, as the kind of its system reads it.
fn takes(pattern: &str, question: &Question, engine: &Engine) -> bool {
    let glob = |pattern: &str, text: &str| match pattern.split_once('*') {
        None => pattern == text,
        Some((begin, end)) => text.len() >= begin.len() + end.len() && text.starts_with(begin) && text.ends_with(end),
    };
    match engine.site(&question.system).map(|site| site.entry().kind()) {
        Some(Kind::NETWORK_DEVICE | Kind::HOST) => {
            let (Ok(read), Ok(words)) = (Pattern::parse(pattern), read_line(&question.line)) else { return false };
            read.matches(&words)
        }
        Some(Kind::CLOUD | Kind::APPLICATION) => {
            let (Some((operation, on)), Some((name, path))) = (pattern.split_once(" on "), question.line.split_once(" on ")) else {
                return false;
            };
            glob(operation, name)
                && (on == "**"
                    || on == path
                    || on.strip_suffix("/**").is_some_and(|above| path == above || path.starts_with(&format!("{above}/"))))
        }
        _ => glob(pattern, &question.line),
    }
}

/// A promise is refuted by an example that is allowed, and where it is proved nobody who is asked is allowed anything against it.
#[test]
fn promises_agree_with_asking_everybody() {
    let first = seed(24_000);
    println!("first seed {first}");
    let now = "2026-11-28T12:00:00Z".parse().expect("a moment");
    let (mut proved, mut refuted, mut open, mut asked, mut nothing) = (0, 0, 0, 0, 0);
    for round in 0..questions(30_000).div_ceil(15) as u64 {
        let seed = first + round;
        // People who are alike are looked at once.
        let made = if round % 2 == 0 { random(seed) } else { random_with_twins(seed) };
        let Some((mut source, engine)) = made else { continue };
        let many: Vec<Question> = (0..250).map(|_| plain(source.question())).filter(|q| q.form == Form::Line).collect();
        let in_full: Vec<Question> = many.iter().map(|question| written_in_full(&engine, question)).collect();
        let mut patterns: Vec<(String, String)> = Vec::new();
        for question in many.iter().take(6) {
            patterns.extend(pattern_of(&engine, question).map(|pattern| (question.system.clone(), pattern)));
        }
        let ledger =
            patterns.iter().fold(Ledger::from(engine.estate()), |ledger, (on, pattern)| ledger.promise(Promise::never(pattern).on(on)));
        let Ok(estate) = ledger.estate() else { continue };
        let with = Engine::compile(estate).expect("it compiles");
        for (found, (on, pattern)) in promises(&with, now).iter().zip(&patterns) {
            match found.standing {
                Standing::Refuted => {
                    refuted += 1;
                    for witness in found.witnesses.iter().filter(|witness| !witness.question.user.starts_with("account:")) {
                        let verdict = engine.decide(&witness.question).verdict;
                        assert!(
                            verdict != Verdict::Denied && takes(pattern, &witness.question, &engine),
                            "seed {seed}: {pattern} on {on}\n{witness:#?}"
                        );
                    }
                }
                Standing::Proved => {
                    proved += 1;
                    for (question, written) in many.iter().zip(&in_full).filter(|(q, _)| q.system == *on && is_meant(&q.session)) {
                        if takes(pattern, written, &engine) {
                            asked += 1;
                            let verdict = engine.decide(question).verdict;
                            assert_eq!(verdict, Verdict::Denied, "seed {seed}: {pattern} on {on} is proved\n{question:#?}");
                        }
                    }
                }
                Standing::NotProved => open += 1,
                Standing::SaysNothing => nothing += 1,
            }
        }
    }
    println!("{proved} proved ({asked} questions asked), {refuted} refuted, {open} not proved, {nothing} say nothing");
    assert!(proved > 100 && refuted > 100 && asked > 300);
}

/// Whether a session is one of those that sets tell of.
fn is_meant(session: &Session) -> bool {
    session.acting.len() < 2 && session.active_roles.as_ref().is_none_or(|roles| roles.len() < 2)
}

/// What other promises say of everybody agrees with asking: who is found by asking may not be missing where one is proved, and who is shown
/// as an example may what is said of them.
#[test]
fn promises_of_other_sorts_agree_with_asking_everybody() {
    let first = seed(27_000);
    println!("first seed {first}");
    let now = "2026-11-28T12:00:00Z".parse().expect("a moment");
    let mut standings: BTreeMap<(&str, &str), usize> = BTreeMap::new();
    for round in 0..questions(1_500).div_ceil(15) as u64 {
        let seed = first + round;
        let made = if round % 2 == 0 { random(seed) } else { random_with_twins(seed) };
        let Some((mut source, engine)) = made else { continue };
        let many: Vec<Question> = (0..400).map(|_| plain(source.question())).filter(|q| q.form == Form::Line).collect();
        let mut rows: Vec<(&str, &Question, String, String)> = Vec::new();
        for (number, question) in many.iter().take(15).enumerate() {
            let Some(other) = many.iter().skip(number + 1).find(|other| other.system == question.system) else { continue };
            let (Some(one), Some(two)) = (pattern_of(&engine, question), pattern_of(&engine, other)) else { continue };
            let sort = ["never-both", "whoever-may", "at-least", "at-most", "always"][number % 5];
            rows.push((sort, question, one, two));
        }
        let texts = rows.iter().map(|(sort, question, one, two)| {
            let said = match *sort {
                "never-both" => format!("never-both = [{one:?}, {two:?}]"),
                "whoever-may" => format!("whoever-may = [{one:?}]\nalso-may = [{two:?}]"),
                "at-least" => format!("may = [{one:?}]\nat-least = 2"),
                "at-most" => format!("may = [{one:?}]\nat-most = 1"),
                _ => format!("always = [{:?}]", question.line),
            };
            format!("[[promises]]\n{said}\non = [{:?}]\n", question.system)
        });
        let text: String = texts.collect();
        let Ok(estate) = Ledger::from(engine.estate()).document("promises.toml", &text).estate() else { continue };
        let with = Engine::compile(estate).expect("it compiles");
        let in_full: Vec<Question> = many.iter().map(|question| written_in_full(&engine, question)).collect();
        for (found, (sort, of, one, two)) in promises(&with, now).iter().zip(&rows) {
            let told = || format!("seed {seed}: {sort} of {one} and {two} on {}\n{found:#?}", of.system);
            let asked: Vec<(&Question, &Question)> =
                many.iter().zip(&in_full).filter(|(q, _)| q.system == of.system && is_meant(&q.session)).collect();
            let taken = |pattern: &str, question: &Question| takes(pattern, &written_in_full(&engine, question), &engine);
            let is_allowed = |question: &Question| engine.decide(question).verdict != Verdict::Denied;
            let may = |pattern: &str| -> BTreeSet<&str> {
                let taken = asked.iter().filter(|(q, written)| takes(pattern, written, &engine) && is_allowed(q));
                taken.map(|(q, _)| q.user.as_str()).collect()
            };
            let shown = || found.witnesses.iter().map(|witness| &witness.question).filter(|q| !q.user.starts_with("account:"));
            let standing = match found.standing {
                Standing::Proved => "proved",
                Standing::Refuted => "refuted",
                Standing::NotProved => "not proved",
                Standing::SaysNothing => "says nothing",
            };
            *standings.entry((sort, standing)).or_default() += 1;
            match (*sort, found.standing) {
                (_, Standing::NotProved | Standing::SaysNothing) => {}
                ("never-both", Standing::Proved) => assert!(may(one).is_disjoint(&may(two)), "{}", told()),
                ("never-both", Standing::Refuted) => {
                    assert!(shown().all(|q| is_allowed(q) && (taken(one, q) || taken(two, q))), "{}", told());
                }
                ("whoever-may", Standing::Refuted) => {
                    let also = may(two);
                    assert!(shown().all(|q| is_allowed(q) && taken(one, q) && !also.contains(q.user.as_str())), "{}", told());
                }
                // That somebody may not the other thing is nothing that asking can show.
                ("whoever-may", Standing::Proved) => {}
                ("at-least", Standing::Refuted) => assert!(may(one).len() < 2, "{}", told()),
                ("at-least", Standing::Proved) => {}
                ("at-most", Standing::Proved) => assert!(may(one).len() < 2, "{}", told()),
                ("at-most", Standing::Refuted) => assert!(shown().all(|q| is_allowed(q) && taken(one, q)), "{}", told()),
                (_, Standing::Proved) => {
                    let starts_by_itself = |session: &Session| {
                        let Session { level, mode, account, acting, active_roles, .. } = session;
                        level.is_none() && mode.is_none() && account.is_none() && acting.is_empty() && active_roles.is_none()
                    };
                    for (question, _) in asked.iter().filter(|(q, _)| starts_by_itself(&q.session)) {
                        let question = Question { line: of.line.clone(), ..(*question).clone() };
                        let is_open = engine.sign_in(&question).verdict != Verdict::Denied;
                        assert!(!is_open || is_allowed(&question), "{}\n{question:#?}", told());
                    }
                }
                (_, Standing::Refuted) => assert!(shown().all(|q| !is_allowed(q)), "{}", told()),
            }
        }
    }
    println!("{standings:?}");
    for sort in ["never-both", "whoever-may", "at-least", "at-most", "always"] {
        assert!(standings.contains_key(&(sort, "proved")) && standings.contains_key(&(sort, "refuted")), "{sort}: {standings:?}");
    }
}

/// What a promise of an earlier ledger says in a later one is what it would say if it were written there.
#[test]
fn a_promise_stands_in_another_ledger_as_if_it_were_written_there() {
    let first = seed(28_000);
    println!("first seed {first}");
    let now = "2026-11-28T12:00:00Z".parse().expect("a moment");
    let (mut others, mut all) = (0, 0);
    for seed in first..first + 20 {
        let (Some((mut source, engine)), Some((_, there))) = (random(seed), random(seed + 1)) else { continue };
        let questions = (0..60).map(|_| plain(source.question())).filter(|q| q.form == Form::Line);
        let rows =
            questions.filter_map(|q| Some(format!("[[promises]]\nnever = [{:?}]\non = [{:?}]\n", pattern_of(&engine, &q)?, q.system)));
        let text: String = rows.take(10).collect();
        let with = |engine: &Engine| -> Option<Engine> {
            let estate = Ledger::from(engine.estate()).document("promises.toml", &text).estate().ok()?;
            Some(Engine::compile(estate).expect("it compiles"))
        };
        let (Some(now_written), Some(then_written)) = (with(&engine), with(&there)) else { continue };
        let classes = Classes::of(&there);
        for (number, (here, then)) in promises(&now_written, now).iter().zip(promises(&then_written, now)).enumerate() {
            assert_eq!(standing_in((&there, &classes), &now_written, number, now), then.standing, "seed {seed}: {then:#?}");
            all += 1;
            others += usize::from(here.standing != then.standing);
        }
    }
    println!("{others} of {all} promises stand otherwise in the other ledger");
    assert!(others > 10);
}

/// The question with its line written in full.
fn written_in_full(engine: &Engine, question: &Question) -> Question {
    let line = engine.explain(question).full_line.unwrap_or_else(|| question.line.clone());
    Question { line, ..question.clone() }
}

/// A pattern that takes what a question asks, and more.
fn pattern_of(engine: &Engine, question: &Question) -> Option<String> {
    match engine.site(&question.system).map(|site| site.entry().kind()) {
        Some(Kind::NETWORK_DEVICE | Kind::HOST) => question.line.split(' ').next().map(|word| format!("{word} ...")),
        Some(Kind::CLOUD | Kind::APPLICATION) => question.line.split_once(" on ").map(|(name, path)| {
            let above = path.split('/').next().unwrap_or(path);
            if question.user.len().is_multiple_of(2) { format!("{name} on {path}") } else { format!("{name} on {above}/**") }
        }),
        _ => question.line.split_once(" on ").filter(|(name, _)| !name.contains('(')).map(|(name, _)| format!("{name} on *")),
    }
}
