//! Who may do something, and what changed between two ledgers: held against asking each question by itself.

use std::collections::BTreeSet;

use zest_ledger::ask::{Form, Question, Session, Verdict};
use zest_ledger::command::{Pattern, read_line};
use zest_ledger::entry::{Channel, Kind};
use zest_ledger::review::{
    Between, Difference, Effective, Membership, Right, Sought, Subject, Touched, Who, as_of, beside, compare, effective, means, opens,
    visible,
};
use zest_ledger::{Engine, Ledger};
use zest_testkit::estates::Source;
use zest_testkit::{questions, seed};

use crate::support::{engine, plain, random, random_with_many_twins, random_with_twins};

const ROTA: &str = r#"
[users.mate-1]
proofs = ["password"]
path = "vessels/mates"
[users.mate-2]
proofs = ["password"]
[groups.mates]
members = ["user:mate-1", "user:mate-2"]
[systems.rota]
kind = "application"
[applications.rota]
types.shift.rights = ["plan", "look", "drop"]
objects."shift/early" = {}
objects."shift/late" = {}
"#;

#[test]
fn who_may_is_told_by_line_and_by_pattern() {
    let engine = engine(&format!(
        "{ROTA}grants = [{{ allow = [\"plan\"], on = \"shift/early\", to = [\"user:mate-1\"] }}, {{ allow = [\"look\"], on = \"shift/*\", to = [\"group:mates\"] }}]\n"
    ));
    let who = |sought: Sought<'_>| -> Vec<(String, Vec<String>)> {
        let of = |user: &str| means(&engine, user, &["rota"], sought, &Session::default());
        let lines = |user: &str| of(user).iter().flat_map(|one| &one.rights).flat_map(|right| right.lines.clone()).collect();
        ["mate-1", "mate-2"]
            .map(|user| (user.to_owned(), lines(user)))
            .into_iter()
            .filter(|(_, lines): &(_, Vec<String>)| !lines.is_empty())
            .collect()
    };
    for (sought, expected) in [
        (Sought::Line("plan on shift/early"), vec![("mate-1", vec!["plan on shift/early"])]),
        (Sought::Line("drop on shift/early"), vec![]),
        (Sought::Like("plan on **"), vec![("mate-1", vec!["plan on shift/early"])]),
        (
            Sought::Like("look on **"),
            vec![
                ("mate-1", vec!["look on shift/early", "look on shift/late"]),
                ("mate-2", vec!["look on shift/early", "look on shift/late"]),
            ],
        ),
        (
            Sought::Like("*"),
            vec![
                ("mate-1", vec!["plan on shift/early", "look on shift/early", "look on shift/late", "change-credential on user/mate-1"]),
                ("mate-2", vec!["look on shift/early", "look on shift/late", "change-credential on user/mate-2"]),
            ],
        ),
        (Sought::Like("nothing on shift/*"), vec![]),
        (Sought::Like("plan on shift/e*"), vec![("mate-1", vec!["plan on shift/early"])]),
        (Sought::Like("plan on shift/l*"), vec![]),
    ] {
        let found: Vec<(String, BTreeSet<String>)> =
            who(sought).into_iter().map(|(user, lines)| (user, lines.into_iter().collect())).collect();
        let expected: Vec<(String, BTreeSet<String>)> =
            expected.into_iter().map(|(user, lines)| (user.to_owned(), lines.into_iter().map(str::to_owned).collect())).collect();
        assert_eq!(found, expected, "{sought:?}");
    }
}

/// Whoever is allowed a line in some session is among those who may, and whoever may is allowed it as the example says.
#[test]
fn who_may_agrees_with_asking_everybody() {
    let first = seed(19_000);
    println!("first seed {first}");
    let (mut found, mut nobody) = (0, 0);
    for round in 0..questions(20_000).div_ceil(10) as u64 {
        let seed = first + round;
        let Some((mut source, engine)) = random(seed) else { continue };
        for _ in 0..10 {
            let question = plain(source.question());
            let listed = means(&engine, &question.user, &[&question.system], Sought::Line(&question.line), &Session::default());
            let rights: Vec<_> = listed.iter().flat_map(|one| &one.rights).collect();
            let verdict = engine.decide(&question).verdict;
            if verdict != Verdict::Denied {
                assert!(!rights.is_empty(), "seed {seed}: it is allowed, and nothing is listed\n{question:#?}");
            }
            nobody += usize::from(rights.is_empty());
            for right in rights {
                let answer = engine.decide(&right.example).verdict;
                let is = if answer == Verdict::Allowed { Membership::Allowed } else { Membership::After };
                assert!(right.allowed == is || right.allowed == Membership::NotDecided, "seed {seed}: {right:#?}");
                found += 1;
            }
        }
    }
    println!("{found} means were asked, {nobody} lines are for nobody");
    assert!(found > 200 && nobody > 100);
}

/// Returns patterns that take a line, as the kind of its system writes them.
fn patterns_of(question: &Question, engine: &Engine) -> Vec<String> {
    let begun = |word: &str| word.chars().next().filter(char::is_ascii_alphanumeric).map(|first| format!("{first}*"));
    match engine.site(&question.system).map(|site| site.entry().kind()) {
        Some(Kind::CLOUD | Kind::APPLICATION) => {
            let Some((operation, path)) = question.line.split_once(" on ") else { return Vec::new() };
            let above = path
                .rsplit_once('/')
                .map(|(above, last)| [format!("{above}/**"), format!("{above}/{}", begun(last).unwrap_or("*".into()))]);
            let on = above.into_iter().flatten().chain([path.to_owned(), "**".to_owned()]);
            on.flat_map(|on| [format!("{operation} on {on}"), format!("* on {on}")]).collect()
        }
        Some(Kind::POSTGRESQL | Kind::MARIADB) => {
            let Some((privilege, on)) = question.line.split_once(" on ") else { return Vec::new() };
            if privilege.contains('(') {
                vec![question.line.clone()]
            } else {
                vec![question.line.clone(), format!("* on {on}"), format!("{privilege} on *")]
            }
        }
        _ => {
            let words: Vec<&str> = question.line.split(' ').collect();
            let is_plain = words.iter().all(|word| word.chars().all(|c| c.is_ascii_alphanumeric() || "-./:".contains(c)));
            let Some((last, before)) = words.split_last().filter(|_| is_plain) else { return Vec::new() };
            let mut list = vec![format!("{} ...", words[0]), "...".to_owned(), words.join(" ")];
            list.extend(begun(last).filter(|_| !before.is_empty()).map(|last| format!("{} {last}", before.join(" "))));
            list
        }
    }
}

/// Whoever is allowed a line is among those who may what a pattern takes, if it takes that line; and whatever is listed, it takes.
#[test]
fn who_may_what_a_pattern_takes_agrees_with_asking() {
    let first = seed(23_000);
    println!("first seed {first}");
    let (mut found, mut allowed) = (0, 0);
    for round in 0..questions(1_500).div_ceil(30) as u64 {
        let seed = first + round;
        let Some((mut source, engine)) = random(seed) else { continue };
        for _ in 0..30 {
            let question = plain(source.question());
            // Lines of a device are looked for in full words.
            let full = engine.explain(&question).full_line.unwrap_or_else(|| question.line.clone());
            let written = Question { line: full, ..question.clone() };
            if question.form != Form::Line || engine.decide(&written).verdict == Verdict::Denied {
                continue;
            }
            allowed += 1;
            for pattern in patterns_of(&written, &engine) {
                let listed = means(&engine, &question.user, &[&question.system], Sought::Like(&pattern), &Session::default());
                let rights: Vec<_> = listed.iter().flat_map(|one| &one.rights).collect();
                assert!(!rights.is_empty(), "seed {seed}: nothing is like `{pattern}`\n{written:#?}");
                if let Ok(read) = Pattern::parse(&pattern)
                    && engine.site(&question.system).is_some_and(|site| [Kind::NETWORK_DEVICE, Kind::HOST].contains(&site.entry().kind()))
                {
                    for line in rights.iter().flat_map(|right| &right.lines) {
                        let words = read_line(line).expect("it can be read");
                        assert!(read.matches(&words), "seed {seed}: `{line}` is not like `{pattern}`");
                    }
                }
                found += rights.len();
            }
        }
    }
    println!("{found} rights were found by patterns of {allowed} lines");
    assert!(allowed > 40 && found > 300);
}

/// People whom a system cannot tell apart are looked at once: what is told of them is what is told of each who is looked at alone.
#[test]
fn who_may_is_told_of_everybody_as_of_each_alone() {
    let first = seed(25_000);
    println!("first seed {first}");
    let (mut told, mut alone, mut together) = (0, 0, 0);
    for round in 0..questions(1_500).div_ceil(150) as u64 {
        let seed = first + round;
        let Some((mut source, engine)) = random_with_twins(seed) else { continue };
        for _ in 0..10 {
            let question = plain(source.question());
            let patterns = patterns_of(&question, &engine);
            let of_credentials = ["* on user/user-1", "change-credential on user/u*", "change-credential on **"];
            let patterns: Vec<&str> = patterns.iter().map(String::as_str).chain(of_credentials).collect();
            let sought = std::iter::once(Sought::Line(&question.line)).chain(patterns.into_iter().map(Sought::Like));
            for sought in sought {
                for session in [Session::default(), Session { acting: question.session.acting.clone(), ..Session::default() }] {
                    let who = Who::new(&engine, &[&question.system], sought, &session);
                    together += engine.estate().users().len() - who.parts().len();
                    let found = who.all();
                    for user in engine.estate().users().iter().map(|user| &user.id.value) {
                        let of_each = means(&engine, user, &[&question.system], sought, &session);
                        let lines = |list: &[&Effective]| -> Vec<(Vec<String>, String, Membership, Vec<String>)> {
                            let one = |right: &Right| (right.lines.clone(), right.when.clone(), right.allowed, right.starts.clone());
                            list.iter().flat_map(|listed| &listed.rights).map(one).collect()
                        };
                        let of_all: Vec<&Effective> = found.iter().filter(|one| one.user == *user).collect();
                        assert_eq!(
                            lines(&of_all),
                            lines(&of_each.iter().collect::<Vec<_>>()),
                            "seed {seed}: {user} on {}: {sought:?} {session:?}",
                            question.system
                        );
                        for right in of_all.iter().flat_map(|listed| &listed.rights) {
                            let is = match engine.decide(&right.example).verdict {
                                Verdict::Allowed => Membership::Allowed,
                                _ => Membership::After,
                            };
                            assert!(right.allowed == is || right.allowed == Membership::NotDecided, "seed {seed}: {right:#?}");
                        }
                        (told, alone) = (told + of_all.len(), alone + usize::from(of_all.is_empty()));
                    }
                }
            }
        }
    }
    println!("{told} listings, nothing for {alone}; {together} people were not looked at by themselves");
    assert!(told > 300 && together > 500);
}

/// What tells two people apart who are written alike: each is told of as if looked at alone.
#[test]
fn what_tells_people_apart_is_not_overlooked() {
    const PEOPLE: &str = r#"
users.a.proofs = ["password"]
users.b.proofs = ["password"]
users.c = { proofs = ["password"], until = 2027-01-01 }
groups.both.members = ["user:a", "user:b", "user:c"]
groups.some.members = ["user:b"]
"#;
    const ROTA: &str = r#"
[systems.rota]
kind = "application"
[applications.rota]
types.shift = { rights = ["plan", "approve"], second-person-right = "approve", after = { second-person = ["anyone"] } }
types.berth.rights = ["plan", "approve"]
objects."shift/early" = {}
objects."berth/a" = { attributes = { owner = "a" } }
"#;
    const SKY: &str = r#"
[systems.sky]
kind = "cloud"
[clouds.sky]
operations = { "hull.read" = { reads = true }, "hull.stop" = {} }
resources = { line = {}, "line/a" = {} }
"#;
    let both =
        |grants: &str| format!("{PEOPLE}{ROTA}grants = [\n{{ allow = [\"plan\"], on = \"**\", to = [\"group:both\"] }},\n{grants}\n]\n");
    let sky = |rest: &str| format!("{PEOPLE}{SKY}{rest}");
    let all = "[[clouds.sky.grants]]\nallow = [\"all\"]\non = \"**\"\nto = [\"group:both\"]\n";
    let mut apart = 0;
    for (what, text, line) in [
        // Whoever holds the right of the second person alone has nobody to agree.
        ("the right of the second person", both("{ allow = [\"approve\"], on = \"**\", to = [\"group:some\"] }"), "plan on shift/early"),
        (
            "a second person",
            both("").replacen("to = [\"group:both\"] }", "to = [\"group:both\"], after = { second-person = [\"group:some\"] } }", 1),
            "plan on berth/a",
        ),
        ("a grant", both("{ allow = [\"approve\"], on = \"**\", to = [\"user:a\"] }"), "approve on berth/a"),
        ("a group", both("{ allow = [\"approve\"], on = \"**\", to = [\"group:some\"] }"), "approve on berth/a"),
        (
            "the id",
            both("{ allow = [\"approve\"], on = \"berth/*\", to = [\"group:both\"], when = { compare = [\"user.id = resource.owner\"] } }"),
            "approve on berth/a",
        ),
        ("the own credential", both(""), "change-credential on user/a"),
        (
            "a credential that must be changed",
            both("").replacen("users.a.proofs", "users.a.must-change-credential = true\nusers.a.proofs", 1),
            "plan on berth/a",
        ),
        (
            "an attribute",
            sky(&format!("{all}when = {{ compare = [\"user.colour = 'red'\"] }}\n")).replacen(
                "users.b.proofs",
                "users.b.attributes.colour = \"red\"\nusers.b.proofs",
                1,
            ),
            "hull.stop on line/a",
        ),
        (
            "a deny",
            sky(&format!("{all}[[clouds.sky.grants]]\ndeny = [\"hull.stop\"]\non = \"line/**\"\nto = [\"group:some\"]\n")),
            "hull.stop on line/a",
        ),
        (
            "a ceiling",
            sky(&format!("{all}[[clouds.sky.ceilings]]\nallow = [\"hull.read\"]\nof = [\"group:some\"]\n")),
            "hull.stop on line/a",
        ),
        (
            "a role that is assumed",
            sky(
                "[roles.keeper]\ngrants = [{ allow = [\"hull.stop\"], on = \"line/**\" }]\nassumable = { by = [\"group:both\"] }\n[[clouds.sky.grants]]\nallow = [\"assume\"]\non = \"role/keeper\"\nto = [\"group:some\"]\n",
            ),
            "hull.stop on line/a",
        ),
        (
            "whom a role admits",
            sky(
                "[roles.keeper]\ngrants = [{ allow = [\"hull.stop\"], on = \"line/**\" }]\nassumable = { by = [\"group:some\"] }\n[[clouds.sky.grants]]\nallow = [\"assume\"]\non = \"role/keeper\"\nto = [\"group:both\"]\n",
            ),
            "hull.stop on line/a",
        ),
        (
            "an end",
            sky(all).replacen(
                "groups.both",
                "users.d = { proofs = [\"password\"], disabled = true }\ngroups.more.members = [\"user:d\"]\ngroups.both",
                1,
            ),
            "hull.stop on line/a",
        ),
        (
            "an account that is named otherwise",
            format!(
                "{PEOPLE}[systems.box]\nkind = \"host\"\nno-command-set = \"everything\"\n[hosts.box.accounts]\nb = {{}}\ndesk = {{ used-by = [\"user:c\"] }}\n"
            ),
            "/bin/true",
        ),
        (
            "separated duties",
            format!(
                "{PEOPLE}{ROTA}[roles.one]\ngrants = [{{ allow = [\"plan\"], on = \"berth/*\" }}]\n[roles.other]\n[separations.two]\nroles = [\"one\", \"other\"]\n[[assignments]]\nto = [\"group:both\"]\nroles = [\"one\"]\non = {{ systems = [\"rota\"] }}\n[systems.else]\nkind = \"application\"\n[[assignments]]\nto = [\"group:some\"]\nroles = [\"other\"]\non = {{ systems = [\"else\"] }}\n"
            ),
            "plan on berth/a",
        ),
    ] {
        let engine = engine(&text);
        let system = engine.estate().systems().first().expect("a system").id.value.clone();
        for session in [Session::default(), Session { channel: Some(Channel::Web), ..Session::default() }] {
            for sought in [Sought::Line(line), Sought::Like("*")] {
                let told = |list: &[&Effective]| -> Vec<(Vec<String>, String, Membership)> {
                    let rights = list.iter().flat_map(|listed| &listed.rights);
                    rights.map(|right| (right.lines.clone(), right.when.clone(), right.allowed)).collect()
                };
                let found = Who::new(&engine, &[&system], sought, &session).all();
                let of = |user: &str| told(&found.iter().filter(|one| one.user == user).collect::<Vec<_>>());
                for user in engine.estate().users().iter().map(|user| &user.id.value) {
                    let alone = means(&engine, user, &[&system], sought, &session);
                    assert_eq!(of(user), told(&alone.iter().collect::<Vec<_>>()), "{what}: {user}: {sought:?}");
                }
                apart += usize::from(of("a") != of("b") || of("a") != of("c"));
            }
        }
    }
    assert!(apart > 30, "{apart}");
}

/// People with accounts of their own on a database server: together where nothing but the names tells the accounts apart, and told of as
/// if looked at alone in any case.
#[test]
fn accounts_that_nothing_tells_apart_are_looked_at_once() {
    const FARES: &str = r#"
users.kai.proofs = ["password"]
users.lou.proofs = ["password"]
users.max.proofs = ["password"]
systems.fares.kind = "postgresql"
[databases.fares.roles]
reader = {}
[databases.fares.accounts]
kai = { member-of = ["reader"] }
lou = { member-of = ["reader"] }
max = { member-of = ["reader"] }
[databases.fares.objects]
"schema public" = {}
"table public.t" = { columns = { id = "int" } }
[[databases.fares.grants]]
allow = ["select"]
on = "table public.t"
to = ["reader"]
"#;
    const POINTS: &str = r#"
users.kai.proofs = ["password"]
users.lou.proofs = ["password"]
users.max.proofs = ["password"]
systems.points.kind = "mariadb"
[databases.points.roles]
desk = {}
[databases.points.accounts]
"kai@%" = { member-of = ["desk"], default-role = "desk" }
"lou@%" = { member-of = ["desk"], default-role = "desk" }
"max@%" = { member-of = ["desk"], default-role = "desk" }
[databases.points.objects]
"database points" = {}
"table points.t" = { columns = { id = "int" } }
[[databases.points.grants]]
allow = ["select"]
on = "table points.t"
to = ["desk"]
"#;
    let fares = |more: &str| format!("{FARES}{more}");
    let points = |more: &str| format!("{POINTS}{more}");
    let without = |text: String, from: &str, to: &str| {
        assert!(text.contains(from), "{from}");
        text.replacen(from, to, 1)
    };
    // The same people, each with a name of two words.
    let dotted = |text: String| {
        ["kai", "lou", "max"].iter().fold(text, |text, name| {
            let text = text
                .replace(&format!("users.{name}."), &format!("users.\"{name}.berg\"."))
                .replace(&format!("\"{name}@"), &format!("\"{name}.berg@"));
            text.replace(&format!("\n{name} = "), &format!("\n\"{name}.berg\" = "))
        })
    };
    // What it is, the ledger, and how many are looked at by themselves: of three people, or of four.
    for (what, text, parts) in [
        ("nothing", fares(""), 1),
        ("nothing on MariaDB", points(""), 1),
        ("a grant by name", fares("[[databases.fares.grants]]\nallow = ['insert']\non = 'table public.t'\nto = ['kai']\n"), 2),
        (
            "a grant by name on MariaDB",
            points("[[databases.points.grants]]\nallow = ['insert']\non = 'table points.t'\nto = ['kai@%']\n"),
            2,
        ),
        (
            "a schema of the own name",
            without(fares(""), "[[data", "'schema kai' = {}\n'table kai.t' = { columns = { id = 'int' } }\n[[data"),
            2,
        ),
        ("who owns something", without(fares(""), "\"table public.t\" = {", "\"table public.t\" = { owner = 'lou',"), 2),
        ("a membership", without(fares(""), "lou = { member-of = [\"reader\"] }", "lou = {}"), 2),
        ("a switch", without(fares(""), "lou = {", "lou = { inherit = false,"), 2),
        ("a setting", without(fares(""), "lou = {", "lou = { settings = ['search_path = fares'],"), 2),
        ("to whom it is lent", without(fares(""), "lou = {", "lou = { used-by = ['user:max'],"), 3),
        (
            "a view that asks",
            without(fares(""), "[[data", "'view public.own' = { query = 'SELECT id FROM public.t WHERE CURRENT_USER = user' }\n[[data"),
            3,
        ),
        (
            "an account of the name on another server",
            fares("[systems.points]\nkind = 'mariadb'\n[databases.points.accounts]\n'kai@%' = {}\n"),
            1,
        ),
        (
            "an account of the name on a host",
            fares("[systems.box]\nkind = 'host'\nno-command-set = 'nothing'\n[hosts.box.accounts]\nkai = {}\n"),
            2,
        ),
        ("who has none", fares("[users.zed]\nproofs = ['password']\n"), 2),
        ("two origins", without(points(""), "\"lou@%\"", "\"lou@192.0.2.%\" = {}\n\"lou@%\""), 2),
        ("another origin", without(points(""), "\"lou@%\"", "\"lou@192.0.2.%\""), 2),
        ("no default role", without(points(""), "default-role = \"desk\"", "remark = 'none'"), 2),
        ("upper case", without(points(""), "\"lou@%\"", "\"LOU@%\""), 2),
        ("a proof", without(fares(""), "users.lou.proofs = [\"password\"]", "users.lou.proofs = [\"key\"]"), 2),
        ("names of two words", dotted(fares("")), 1),
        ("names of two words on MariaDB", dotted(points("")), 1),
        ("one word of a name", dotted(without(fares(""), "[[data", "'schema kai' = {}\n[[data")), 1),
        ("a schema of a name of two words", dotted(without(fares(""), "[[data", "'schema \"kai.berg\"' = {}\n[[data")), 2),
        ("a schema in capitals", without(fares(""), "[[data", "'schema \"KAI\"' = {}\n[[data"), 2),
        (
            "a view that tells a name of two words",
            dotted(without(
                fares(""),
                "[[data",
                "'view public.v' = { query = \"SELECT id FROM public.t WHERE 'kai.berg' = 'b'\" }\n[[data",
            )),
            2,
        ),
    ] {
        let engine = engine(&text);
        let system = engine.estate().systems().first().expect("a system").id.value.clone();
        let table = if system == "fares" { "public.t" } else { "points.t" };
        let line = format!("select on table {table}");
        let statement = format!("select id from {}", if system == "fares" { "t" } else { table });
        for sought in [Sought::Line(&line), Sought::Statement(&statement), Sought::Like("*")] {
            let who = Who::new(&engine, &[&system], sought, &Session::default());
            assert_eq!(who.parts().len(), parts, "{what}: {sought:?}");
            let found = who.all();
            for user in engine.estate().users().iter().map(|user| &user.id.value) {
                let told: Vec<&Effective> = found.iter().filter(|one| one.user == *user).collect();
                let alone = means(&engine, user, &[&system], sought, &Session::default());
                assert_eq!(format!("{told:?}"), format!("{:?}", alone.iter().collect::<Vec<_>>()), "{what}: {user}: {sought:?}");
            }
        }
        // Whoever is named in what is asked stands alone.
        let max = if engine.estate().users().iter().any(|user| user.id.value == "max.berg") { "\"max.berg\"" } else { "max" };
        let naming = format!("grant select on public.t to {max}");
        let named = Who::new(&engine, &[&system], Sought::Statement(&naming), &Session::default());
        assert!(named.parts().len() >= parts.max(2), "{what}");
    }
}

/// Whatever else a remedy allows whoever asked is among what it opens, and whoever else may do the same is named.
#[test]
fn what_a_remedy_opens_agrees_with_asking() {
    let first = seed(26_000);
    println!("first seed {first}");
    let (mut remedies, mut more, mut others) = (0, 0, 0);
    for round in 0..questions(80).div_ceil(20) as u64 {
        let seed = first + round;
        let Some((mut source, engine)) = random(seed) else { continue };
        let asked: Vec<Question> = (0..300).map(|_| plain(source.question())).collect();
        for question in asked.iter().take(20) {
            let answer = engine.ask(question);
            for remedy in &answer.remedies {
                let Some(opened) = opens(&engine, &answer, remedy) else { continue };
                remedies += 1;
                let changes: Vec<_> = remedy.steps.iter().map(|step| step.change.clone()).collect();
                let after = engine.with(&changes).expect("it was tried");
                let turns = |q: &Question| engine.decide(q).verdict == Verdict::Denied && after.decide(q).verdict != Verdict::Denied;
                let full = answer.full_line.as_ref().unwrap_or(&question.line);
                for other in asked.iter().filter(|other| other.user == question.user && other.form == Form::Line && turns(other)) {
                    let line = engine.explain(other).full_line.unwrap_or_else(|| other.line.clone());
                    let on = |line: &str| line.split_once(" on ").map(|(_, on)| on.to_owned());
                    // The same, or a column of the same.
                    let is_same =
                        line == *full || other.line == question.line || on(&other.line).is_some() && on(&other.line) == on(&question.line);
                    if other.system == question.system && is_same {
                        continue;
                    }
                    more += 1;
                    let is_elsewhere = |line: &String| line.ends_with(&format!("({})", other.system));
                    let is_told =
                        opened.lines.iter().any(|line| other.system == question.system && !line.ends_with(')') || is_elsewhere(line));
                    assert!(
                        is_told || opened.lines.iter().any(|line| line.contains('(')),
                        "seed {seed}: {remedy:?} opens {opened:?}\n{other:#?}"
                    );
                }
                let mut applied = question.clone();
                changes.iter().filter(|change| change.is_of_session()).for_each(|change| change.apply(&mut applied));
                for user in engine.estate().users().iter().map(|user| &user.id.value).filter(|user| **user != question.user) {
                    let is_named = opened.people.contains(user);
                    assert_eq!(
                        turns(&Question { user: user.clone(), ..applied.clone() }),
                        is_named,
                        "seed {seed}: {remedy:?} opens {opened:?}"
                    );
                    others += usize::from(is_named);
                }
            }
        }
    }
    println!("{remedies} remedies, {more} more answers turned, {others} others may the same");
    assert!(remedies > 30 && more > 5 && others > 5);
}

fn gained(list: &[Difference]) -> Vec<&str> {
    list.iter().flat_map(|one| &one.gained).flat_map(|moved| moved.right.lines.iter().map(String::as_str)).collect()
}

fn lost(list: &[Difference]) -> Vec<&str> {
    list.iter().flat_map(|one| &one.lost).flat_map(|moved| moved.right.lines.iter().map(String::as_str)).collect()
}

#[test]
fn what_changed_is_told_as_rights() {
    let of = |grants: &str| engine(&format!("{ROTA}grants = [{grants}]\n"));
    let plan = "{ allow = [\"plan\"], on = \"shift/early\", to = [\"user:mate-1\"] }";
    for (name, was, is, expected_gained, expected_lost) in [
        ("nothing", plan.to_owned(), plan.to_owned(), vec![], vec![]),
        ("written otherwise", plan.to_owned(), plan.replace("user:mate-1", "group:mates").replace("] }", "] }, ") + "", vec![], vec![]),
        (
            "a grant more",
            plan.to_owned(),
            format!("{plan}, {{ allow = [\"drop\"], on = \"shift/late\", to = [\"user:mate-1\"] }}"),
            vec!["drop on shift/late"],
            vec![],
        ),
        ("a grant less", plan.to_owned(), String::new(), vec![], vec!["plan on shift/early"]),
        (
            "an obligation",
            plan.to_owned(),
            plan.replace(" }", ", after = { confirm = true } }"),
            vec!["plan on shift/early"],
            vec!["plan on shift/early"],
        ),
        (
            "a condition",
            plan.to_owned(),
            plan.replace(" }", ", when = { origin = [\"192.0.2.0/24\"] } }"),
            vec![],
            vec!["plan on shift/early"],
        ),
    ] {
        let (before, after) = (of(&was), of(&is));
        let changed = compare(&before, &after, "mate-1", &Session::default());
        assert_eq!((gained(&changed), lost(&changed)), (expected_gained, expected_lost), "{name}: {changed:#?}");
        let back = compare(&after, &before, "mate-1", &Session::default());
        assert_eq!((gained(&back), lost(&back)), (lost(&changed), gained(&changed)), "{name}, the other way");
    }
    // Who is new gains all, and who is gone loses all.
    let (without, with) = (of(plan).clone(), engine(&format!("{ROTA}grants = [{plan}]\n[users.mate-3]\nproofs = [\"password\"]\n")));
    assert_eq!(gained(&compare(&without, &with, "mate-3", &Session::default())), ["change-credential on user/mate-3"]);
    assert_eq!(lost(&compare(&with, &without, "mate-3", &Session::default())), ["change-credential on user/mate-3"]);
}

/// Wherever a change of the ledger turns an answer, the comparison says so of that user and system; and each example is allowed on
/// one side, and on the other not, or not so.
#[test]
fn what_changed_agrees_with_asking_both() {
    let first = seed(20_000);
    println!("first seed {first}");
    let (mut examples, mut turned) = (0, 0);
    for round in 0..questions(20_000).div_ceil(10) as u64 {
        let seed = first + round;
        let Some((mut source, before)) = random(seed) else { continue };
        let changes: Vec<_> = (0..3).map(|_| source.change()).collect();
        let Ok(after) = before.with(&changes) else { continue };
        let asked: Vec<Question> = (0..200).map(|_| plain(source.question())).collect();
        if let Some(user) = fastrand::Rng::with_seed(seed).choice(before.estate().users()) {
            let name = &user.id.value;
            let changed = compare(&before, &after, name, &Session::default());
            for one in &changed {
                for (moved, here, there) in
                    one.gained.iter().map(|m| (m, &after, &before)).chain(one.lost.iter().map(|m| (m, &before, &after)))
                {
                    let (is, was) = (here.decide(&moved.right.example), there.decide(&moved.right.example));
                    assert_ne!(is.verdict, was.verdict, "seed {seed}: {changes:?}\n{moved:#?}");
                    assert_eq!(was.verdict, moved.elsewhere, "seed {seed}");
                    examples += 1;
                }
            }
            for question in asked.iter().filter(|question| question.user == *name) {
                if before.decide(question).verdict != after.decide(question).verdict {
                    turned += 1;
                    let is_told = changed.iter().any(|one| one.systems.contains(&question.system));
                    assert!(is_told, "seed {seed}: {changes:?} turns this, and nothing is told of it\n{question:#?}");
                }
            }
        }
    }
    println!("{examples} examples were asked, {turned} answers turned");
    assert!(examples > 40 && turned > 20);
}

/// Looked at together, what changed for everybody is what changed for each.
#[test]
fn what_changed_for_everybody_is_what_changed_for_each() {
    let first = seed(24_000);
    println!("first seed {first}");
    let (mut together, mut differences) = (0, 0);
    for seed in (first..).take(questions(120).div_ceil(20)) {
        let made = if seed % 4 == 0 { random_with_many_twins(seed) } else { random_with_twins(seed) };
        let Some((mut source, before)) = made else { continue };
        let changes: Vec<_> = (0..2).map(|_| source.change()).collect();
        let Ok(after) = before.with(&changes) else { continue };
        let (was, is) = if seed % 2 == 0 { (&before, &after) } else { (&after, &before) };
        let between = Between::new(was, is, &Session::default(), &Touched::everything());
        let one_by_one: Vec<_> = between.people().iter().flat_map(|user| compare(was, is, user, &Session::default())).collect();
        assert_eq!(between.all(), one_by_one, "seed {seed}: {changes:?}");
        let systems: BTreeSet<&str> = [was, is].iter().flat_map(|e| e.estate().systems().iter()).map(|s| s.id.value.as_str()).collect();
        together += between.people().len() * systems.len() - between.parts().len();
        differences += one_by_one.len();
    }
    println!("{differences} differences; {together} times somebody was looked at with another");
    assert!(together > 30 && differences > 5);
}

/// Of people who are alike each is told by the own name, and by the own line where that is why.
#[test]
fn whoever_is_like_another_is_told_of_by_the_own_name_and_line() {
    const SW: &str = "vocabularies.make.commands = [{ line = \"show log\" }, { line = \"leave\", level = 0, does = \"leave-session\" }]\nsystems.sw = { kind = \"network-device\", vocabulary = \"make\", no-command-set = \"everything\" }\nroles.reader.band = { start = 1, ceiling = 7 }\n";
    const READ: &str = "assignments = [{ to = [\"group:hands\"], roles = [\"reader\"], on = { all = true } }]\n";
    const BY_WEB: &str =
        "assignments = [{ to = [\"group:hands\"], roles = [\"reader\"], on = { all = true }, when = { channel = [\"web\"] } }]\n";
    let names: Vec<String> = (1..=12).map(|number| format!("hand-{number}")).collect();
    let members: Vec<String> = names.iter().map(|name| format!("\"user:{name}\"")).collect();
    let of = |given: &str, more: &str| {
        let people: String = names.iter().map(|name| format!("[users.{name}]\nproofs = [\"password\"]\n{more}")).collect();
        engine(&format!("{SW}{given}[groups.hands]\nmembers = [{}]\n{people}", members.join(", ")))
    };
    let before = of(READ, "");
    for after in [of("", ""), of(BY_WEB, ""), of(READ, "disabled = true\n"), of(READ, "until = 2026-05-04T08:00:00Z\n")] {
        for (was, is) in [(&before, &after), (&after, &before)] {
            let between = Between::new(was, is, &Session::default(), &Touched::everything());
            assert!(between.parts().len() < between.people().len(), "some are alike");
            let told = between.all();
            let each: Vec<_> = between.people().iter().flat_map(|user| compare(was, is, user, &Session::default())).collect();
            assert!(told.len() >= 12);
            assert_eq!(told, each);
        }
    }
}

/// What names who does it, as the change of one's own credential, is told of each by the own name: also of people who are alike.
#[test]
fn whoever_is_like_another_changes_the_own_credential() {
    let people: String = ["mate-1", "mate-2", "mate-3"].map(|name| format!("users.{name}.proofs = ['password']\n")).concat();
    let system = |name: &str| format!("systems.{name}.kind = 'application'\napplications.{name}.types.shift.rights = ['plan']\n");
    let (ramps, rota) = (people + &system("ramps"), system("rota"));
    let of = |text: &str| Ledger::new().document("rota.toml", text).engine(1).expect("compiles");
    let (none, all) = (of(&ramps), of(&[ramps.as_str(), &rota].concat()));
    for (was, is) in [(&none, &all), (&all, &none)] {
        let between = Between::new(was, is, &Session::default(), &Touched::everything());
        assert_eq!(between.parts().len(), 2);
        let told = between.all();
        let lines = told.iter().flat_map(|one| one.gained.iter().chain(&one.lost)).flat_map(|moved| moved.right.lines.clone());
        let own = ["mate-1", "mate-2", "mate-3"].map(|name| format!("change-credential on user/{name}"));
        assert_eq!(lines.collect::<Vec<_>>(), own);
        assert_eq!(told, between.people().iter().flat_map(|user| compare(was, is, user, &Session::default())).collect::<Vec<_>>());
    }
}

/// Whatever one of two is allowed and the other is not is told of the system; each example is allowed to one of them, and to the other
/// not, or not so. One in three systems of each ledger is looked at.
#[test]
fn what_only_one_of_two_may_agrees_with_asking_both() {
    let first = seed(21_000);
    println!("first seed {first}");
    let (mut examples, mut apart, mut alike) = (0, 0, 0);
    for round in 0..questions(20_000).div_ceil(10) as u64 {
        let seed = first + round;
        let Some((mut source, engine)) = random(seed) else { continue };
        let mut rng = fastrand::Rng::with_seed(seed);
        let mut systems: Vec<&str> = engine.all_sites().map(|site| site.entry().id.value.as_str()).collect();
        rng.shuffle(&mut systems);
        systems.truncate(systems.len().div_ceil(3));
        let users: Vec<&str> = engine.estate().users().iter().map(|user| user.id.value.as_str()).collect();
        let of = |user: &str| Subject::User(user.to_owned()).stand_in(&engine, &Session::default()).expect("a user is there");
        let is_meant = |q: &Question| q.session.account.is_none() && systems.contains(&q.system.as_str());
        let asked: Vec<Question> = (0..100).map(|_| plain(source.question())).filter(is_meant).collect();
        if let Some(&[one, other]) = rng.choice(users.windows(2)) {
            let found = beside(&engine, &of(one), &of(other), |system| systems.contains(&system)).expect("both can be looked at");
            let may = |user: &str, question: &Question| engine.decide(&Question { user: user.to_owned(), ..question.clone() });
            for difference in &found {
                for (moved, mine, theirs) in
                    difference.gained.iter().map(|moved| (moved, other, one)).chain(difference.lost.iter().map(|moved| (moved, one, other)))
                {
                    let (is, was) = (may(mine, &moved.right.example), may(theirs, &moved.right.example));
                    assert!(is != was, "seed {seed}: {one} beside {other}\n{moved:#?}");
                    assert_eq!(was.verdict, moved.elsewhere, "seed {seed}");
                    examples += 1;
                }
            }
            for question in &asked {
                // A line that is about oneself is another for everybody.
                if question.line.contains("user/") || may(one, question).verdict == may(other, question).verdict {
                    continue;
                }
                apart += 1;
                let is_told = found.iter().any(|difference| difference.systems.contains(&question.system));
                assert!(is_told, "seed {seed}: nothing is told of {one} beside {other}\n{question:#?}");
            }
            alike += usize::from(found.is_empty());
        }
    }
    println!("{examples} examples were asked, {apart} answers differ, {alike} pairs are alike");
    assert!(examples > 100 && apart > 100);
}

/// Who stands in for a group, a role, a command set or an account has just that.
#[test]
fn whoever_stands_in_has_just_what_is_asked_about() {
    const LEDGER: &str = r#"
[users.mate-1]
proofs = ["password"]
[groups.mates]
members = ["group:crew"]
[groups.crew]
members = ["user:mate-1"]
[vocabularies.make]
commands = [{ line = "show log" }, { line = "show level", does = "show-level" }, { line = "zero tally", level = 9 }]
[command-sets.looks]
rules = ["allow show ..."]
[command-sets.all-of-it]
rules = ["allow show ...", "allow zero ..."]
[command-sets.the-same]
rules = ["allow show log", "allow show level", "allow zero tally"]
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
on = { all = true }
[systems.rota]
kind = "application"
[applications.rota]
types.shift.rights = ["plan", "drop"]
objects."shift/early" = {}
grants = [
  { allow = ["plan"], on = "shift/*", to = ["group:mates"] },
  { allow = ["drop"], on = "shift/*", to = ["group:crew"] },
]
[systems.db]
kind = "postgresql"
database = "db"
[databases.db]
owner = "keeper"
roles = { keeper = {}, teller = {}, chief = { member-of = ["teller"] }, idle = {}, mighty = { may = ["superuser"] }, maker = { may = ["create-role"] } }
accounts = { mate-1 = {}, robot = {} }
objects = { "table public.t" = { owner = "keeper", columns = { id = "integer" } } }
grants = [{ allow = ["select"], on = "table public.t", to = ["robot"] }, { allow = ["insert"], on = "table public.t", to = ["teller"] }]
[systems.points]
kind = "mariadb"
[databases.points]
roles = { teller = {}, chief = { member-of = ["teller"] }, "whose name is one of many more letters than others are in here" = {}, spare = {} }
objects = { "table p.t" = { columns = { id = "int" } } }
grants = [{ allow = ["insert"], on = "table p.t", to = ["teller", "whose name is one of many more letters than others are in here"] }]
[roles."db/looker"]
band = { start = 1, ceiling = 1 }
"#;
    let engine = engine(LEDGER);
    let lines = |subject: &str, on: &str| -> BTreeSet<String> {
        let who = Subject::parse(&engine, subject).and_then(|who| who.stand_in(&engine, &Session::default())).expect("it is there");
        let listed = effective(who.engine(&engine), &who.user, Some(on), &who.session).expect("they are there");
        assert!(listed.iter().all(|one| one.user == subject), "{listed:#?}");
        let at = listed
            .iter()
            .flat_map(|one| &one.rights)
            .flat_map(|right| right.place.iter().chain(right.standing.iter().flat_map(|c| &c.place)));
        assert!(at.clone().all(|place| place.file == "ledger.toml"), "{subject}: {:?}", at.collect::<Vec<_>>());
        listed.iter().flat_map(|one| &one.rights).flat_map(|right| right.lines.iter().cloned()).collect()
    };
    for (subject, on, expected) in [
        ("group:mates", "sw", vec!["show level", "show log"]),
        ("group:mates", "rota", vec!["change-credential on user/group:mates", "plan on shift/early"]),
        ("group:crew", "rota", vec!["change-credential on user/group:crew", "drop on shift/early", "plan on shift/early"]),
        ("role:looker", "sw", vec!["show level", "show log"]),
        ("role:looker", "rota", vec!["change-credential on user/role:looker"]),
        ("command-set:all-of-it", "sw", vec!["show level", "show log", "zero tally"]),
        ("account:db/robot", "db", vec!["select on table public.t"]),
        ("role:db/teller", "db", vec!["insert on table public.t"]),
        ("role:db/chief", "db", vec!["insert on table public.t"]),
        ("role:points/chief", "points", vec!["insert on table p.t"]),
        ("role:points/whose name is one of many more letters than others are in here", "points", vec!["insert on table p.t"]),
        ("role:db/looker", "db", vec![]), // A role of the ledger is meant first.
    ] {
        let found: BTreeSet<String> = lines(subject, on)
            .into_iter()
            // What the server gives to PUBLIC by itself is beside the point.
            .filter(|line| !["db", "points"].contains(&on) || line.ends_with(".t"))
            .collect();
        let expected: BTreeSet<String> = expected.into_iter().map(str::to_owned).collect();
        assert_eq!(found, expected, "{subject} on {on}");
    }
    let apart = |one: &str, other: &str| -> Vec<&'static str> {
        let stand =
            |text: &str| Subject::parse(&engine, text).and_then(|who| who.stand_in(&engine, &Session::default())).expect("it is there");
        let is_meant = |system: &str| {
            system == "sw" || system == "rota" && one.starts_with("role") || ["db", "points"].contains(&system) && one.contains('/')
        };
        let found = beside(&engine, &stand(one), &stand(other), is_meant).expect("both can be looked at");
        let some = |list: &dyn Fn(&Difference) -> bool, word| found.iter().any(list).then_some(word);
        let more = some(&|one: &Difference| !one.lost.is_empty(), "the one may more");
        more.into_iter().chain(some(&|one: &Difference| !one.gained.is_empty(), "the other may more")).collect()
    };
    assert_eq!(apart("group:mates", "group:crew"), Vec::<&str>::new(), "on the device");
    assert_eq!(apart("command-set:looks", "command-set:all-of-it"), ["the other may more"]);
    assert_eq!(apart("command-set:all-of-it", "command-set:looks"), ["the one may more"]);
    assert_eq!(apart("command-set:all-of-it", "command-set:the-same"), Vec::<&str>::new());
    assert_eq!(apart("role:looker", "command-set:looks"), ["the one may more", "the other may more"], "another level is another session");
    assert_eq!(apart("role:db/teller", "role:db/chief"), Vec::<&str>::new(), "a name alone is no difference");
    assert_eq!(apart("role:db/teller", "role:db/keeper"), ["the other may more"], "the owner");
    assert_eq!(apart("role:db/idle", "role:db/mighty"), ["the other may more"], "once it is active");
    assert_eq!(apart("role:db/maker", "role:db/idle"), ["the one may more"], "by a switch, which no privilege tells");
    assert_eq!(apart("role:points/teller", "role:points/chief"), Vec::<&str>::new());
    assert_eq!(apart("role:points/teller", "role:points/spare"), ["the one may more"]);
    for (text, part) in [
        ("group:mate", "no group is named `mate`; did you mean `mates`?"),
        ("role:", "no role is named"),
        ("user:mate-2", "no user is named `mate-2`; did you mean `mate-1`?"),
        ("mate-2", "no user is named `mate-2`"),
        ("fleet:x", "`fleet:x` is nobody whose rights could be looked at"),
        ("account:robot", "is nobody whose rights"),
        ("account:nowhere/robot", "no system is named `nowhere`"),
        ("account:db/nobody", "nobody can stand in"),
        ("role:db/tellr", "no role of a database server is named `tellr`; did you mean `teller`?"),
        ("role:rota/teller", "no role is named `rota/teller`"),
    ] {
        let why = Subject::parse(&engine, text).and_then(|who| who.stand_in(&engine, &Session::default())).map(|_| ()).expect_err(text);
        assert!(why.to_string().contains(part), "{text}: {why}");
    }
}

/// What is shown is what something may be done on, in that very session, and nothing else that is declared.
#[test]
fn what_is_shown_is_what_something_may_be_done_on() {
    let text = format!(
        "{ROTA}objects.\"berth/one\" = {{}}\ntypes.berth.rights = [\"look\"]\ngrants = [{{ allow = [\"plan\"], on = \"shift/early\", to = [\"user:mate-1\"] }}, {{ allow = [\"look\"], on = \"berth/*\", to = [\"group:mates\"], when = {{ channel = [\"web\"] }} }}]\n"
    );
    let engine = engine(&text);
    let by = |channel| Session { channel, ..Session::default() };
    for (user, session, expected) in [
        ("mate-1", by(None), vec!["shift/early"]),
        ("mate-1", by(Some(Channel::Web)), vec!["berth/one", "shift/early"]),
        ("mate-2", by(None), vec![]),
        ("mate-2", by(Some(Channel::Web)), vec!["berth/one"]),
        ("mate-2", by(Some(Channel::Api)), vec![]),
    ] {
        let seen = visible(&engine, &Question::in_session(user, "rota", "", session));
        assert_eq!((seen.refused, seen.shown), (None, expected.into_iter().map(str::to_owned).collect()), "{user}");
    }
    assert!(visible(&engine, &Question::new("nobody", "rota", "")).refused.is_some());
    let first = seed(27_000);
    println!("first seed {first}");
    let (mut shown, mut shut) = (0, 0);
    for round in 0..questions(20_000).div_ceil(10) as u64 {
        let Some((mut source, engine)) = random(first + round) else { continue };
        for _ in 0..20 {
            let question = plain(source.question());
            let seen = visible(&engine, &question);
            let asked = engine.sign_in(&question);
            assert_eq!(seen.refused.is_some(), asked.first_refusal().is_some(), "seed {}: {question:#?}", first + round);
            shut += usize::from(seen.refused.is_some());
            let kind = engine.site(&question.system).map(|site| site.entry().kind());
            if let (Some(Kind::CLOUD | Kind::APPLICATION), Some((_, path))) = (kind, question.line.split_once(" on "))
                && engine.decide(&question).verdict != Verdict::Denied
                && engine.estate().services().iter().flat_map(|service| &service.resources).any(|resource| resource.path.value == path)
            {
                assert!(seen.shown.iter().any(|name| name == path), "seed {}: {path} is not shown\n{question:#?}", first + round);
            }
            shown += seen.shown.len();
        }
    }
    println!("{shown} things shown, {shut} sessions cannot be opened");
    assert!(shown > 300 && shut > 20);
}

#[test]
fn a_ledger_as_it_stands_at_a_moment_answers_as_at_that_moment() {
    let first = seed(33_000);
    println!("first seed {first}");
    let (mut asked, mut bounded) = (0, 0);
    for seed in first..first + questions(6_000).div_ceil(40) as u64 {
        let mut source = Source::new(seed);
        let text = source.ledger();
        let engine = engine(&text);
        let mut rng = fastrand::Rng::with_seed(seed);
        let at = jiff::Timestamp::from_second(1_795_766_400 + rng.i64(-4..5) * 1800 + rng.i64(-1..2)).expect("a moment");
        let Ok(then) = as_of(&engine, at) else { continue };
        for _ in 0..40 {
            let mut question = source.question();
            question.session.at = Some(at);
            asked += 1;
            let (one, two) = (engine.decide(&question), then.decide(&question));
            assert_eq!(one.verdict, two.verdict, "seed {seed}: {question:?}, {:?} and {:?}\n{text}", one.refusal, two.refusal);
            // What was bounded is not any more.
            question.session.at = None;
            bounded += usize::from(engine.decide(&question).verdict != then.decide(&question).verdict);
        }
    }
    println!("{asked} questions; without a moment {bounded} are answered otherwise");
    assert!(asked > 1_000 && bounded > 0);
}
