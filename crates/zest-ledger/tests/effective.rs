//! Effective permissions: what is listed is what is answered, with what gives it, and nothing beside it.

use std::collections::BTreeMap;

use zest_ledger::ask::{Question, Session, Verdict};
use zest_ledger::json;
use zest_ledger::review::{Effective, Membership, effective};
use zest_testkit::{questions, seed};

use crate::support::{PIER, engine, random};

fn of(user: &str, system: &str) -> Effective {
    effective(&engine(PIER), user, Some(system), &Session::default()).expect("the user is known").remove(0)
}

/// Each right in one line: what, on what, how the session starts, in which sessions, what comes first, what is left out.
fn told(listed: &Effective) -> Vec<String> {
    let line = |right: &zest_ledger::review::Right| {
        let mut text = right.actions.join(", ");
        let mut add = |head: &str, list: &[String]| {
            if !list.is_empty() {
                text += &format!(" {head} {}", list.join(", "));
            }
        };
        add("on", &right.on);
        add("|", &right.starts);
        add("if", &Some(right.when.clone()).into_iter().filter(|when| !when.is_empty()).collect::<Vec<_>>());
        add("first", &right.after);
        add("not", &right.except);
        text
    };
    listed.rights.iter().map(line).collect()
}

fn small(text: &str, user: &str, system: &str) -> Vec<String> {
    told(&effective(&engine(text), user, Some(system), &Session::default()).expect("the user is known")[0])
}

#[test]
fn commands_are_those_that_both_locks_let_through_at_a_level_that_can_be_reached() {
    assert_eq!(
        told(&of("watch-1", "switch")),
        [
            "leave",
            "elevate {level: 0-15} not elevate 0",
            "show level, show paths, show path to {address}",
            "change passphrase",
            "show release | at levels 3-7",
            "show log | at level 7",
        ],
    );
}

#[test]
fn every_right_says_what_gives_it_and_where() {
    let listed = of("watch-1", "switch");
    let release = listed.rights.iter().find(|right| right.actions == ["show release"]).expect("it is listed");
    assert_eq!(release.through, "rule `allow show ...` of command set `trace`");
    let line = 1 + PIER[..PIER.find("\"allow show ...\"").expect("the rule")].matches('\n').count();
    assert_eq!(release.place.as_ref().map(|place| place.line as usize), Some(line));
    assert_eq!(engine(PIER).decide(&release.example).verdict, Verdict::Allowed, "the example is asked");
}

#[test]
fn conditions_are_told_in_words_and_facts_that_are_stated_rule_out() {
    let open = of("limited-1", "switch");
    for part in ["origin:watch-room", "22:00-06:00 Europe/Oslo", "mon or tue", "by terminal", "with password within 1h"] {
        assert!(open.sessions.contains(part), "{part} is not in {}", open.sessions);
    }
    let session = Session { origin: Some("203.0.113.9".parse().expect("an address")), ..Session::default() };
    let elsewhere = effective(&engine(PIER), "limited-1", Some("switch"), &session).expect("known");
    assert!(elsewhere[0].rights.is_empty(), "{:?}", elsewhere[0]);
}

#[test]
fn who_cannot_sign_in_has_nothing() {
    for (user, why) in [("gone-1", "`gone-1` is disabled"), ("bare-1", "`bare-1` has no way to prove identity")] {
        let listed = of(user, "switch");
        assert_eq!(listed.refused.as_ref().map(|cause| cause.text.as_str()), Some(why));
        assert!(listed.rights.is_empty());
    }
}

#[test]
fn local_accounts_are_listed_with_when_they_answer() {
    let switch = of("lead-1", "switch");
    assert!(told(&switch).iter().any(|line| line.contains("while the central source is down")), "{:#?}", told(&switch));
    let island = of("lead-1", "island");
    assert!(!island.rights.is_empty() && island.rights.iter().all(|right| right.starts.iter().all(|start| !start.contains("central"))));
}

/// Where another listing would be made beside the rules, it would list these.
#[test]
fn nothing_is_listed_that_a_question_would_be_refused() {
    let rota = "[users.a]\nproofs = [\"password\"]\n[users.b]\nproofs = [\"password\"]\n[groups.g]\nmembers = [\"user:a\"]\n[systems.sky]\nkind = \"cloud\"\n\
                [clouds.sky]\noperations = { \"hull.read\" = { reads = true }, \"hull.stop\" = {} }\nresources.line = {}\n";
    // A deny defeats an allow, and is not listed beside it.
    let denied = format!(
        "{rota}grants = [{{ allow = [\"hull.read\", \"hull.stop\"], on = \"line\", to = [\"user:a\"] }}, {{ deny = [\"hull.stop\"], on = \"line\", to = [\"group:g\"] }}]\n"
    );
    assert_eq!(small(&denied, "a", "sky"), ["hull.read on line/**", "change-credential on user/a"]);
    // A ceiling limits what a grant gives.
    let cut = format!(
        "{rota}grants = [{{ allow = [\"hull.read\", \"hull.stop\"], on = \"line\", to = [\"user:a\"] }}]\nceilings = [{{ allow = [\"hull.read\"], of = [\"user:a\"] }}]\n"
    );
    assert_eq!(small(&cut, "a", "sky"), ["hull.read on line/**", "change-credential on user/a"]);
    // A credential that must be changed leaves one thing to do.
    let must = denied.replace("[users.a]\n", "[users.a]\nmust-change-credential = true\n");
    assert_eq!(small(&must, "a", "sky"), ["change-credential on user/a"]);
    // Obligations are part of what is listed.
    let after = format!("{rota}grants = [{{ allow = [\"hull.stop\"], on = \"line\", to = [\"user:a\"], after = {{ confirm = true }} }}]\n");
    let listed = small(&after, "a", "sky");
    assert!(listed.contains(&"hull.stop on line/** first the user must confirm".to_owned()), "{listed:?}");
    let listed = effective(&engine(&after), "a", Some("sky"), &Session::default()).expect("known");
    let json = serde_json::to_string(&json::EffectiveRights::from(listed.clone())).expect("it can be written");
    let again: json::EffectiveRights = serde_json::from_str(&json).expect("it can be read");
    assert_eq!(again.effective, listed);
    assert!(json.contains(r#""after":["the user must confirm"]"#) && json.contains(r#""allowed":"after""#), "{json}");
    // Roles that nobody may hold together give nothing.
    let apart = format!(
        "{rota}[roles.one]\ngrants = [{{ allow = [\"hull.read\"], on = \"line\" }}]\n[roles.two]\n[[assignments]]\nto = [\"user:a\"]\nroles = [\"one\", \"two\"]\non = {{ all = true }}\n[separations.both]\nroles = [\"one\", \"two\"]\n"
    );
    assert_eq!(small(&apart, "a", "sky"), Vec::<String>::new());
}

#[test]
fn whoever_edits_a_job_is_told_so() {
    let text = "[users.a]\nproofs = [\"password\"]\n[systems.box]\nkind = \"host\"\nno-command-set = \"nothing\"\n\
                [hosts.box]\njobs.nightly = { runs-as = \"root\", edited-by = [\"user:a\"] }\n[hosts.box.accounts]\na = {}\nroot = {}\n";
    assert_eq!(small(text, "a", "box"), ["edit-job on job/nightly"]);
}

#[test]
fn unknown_names_give_nothing_rather_than_an_empty_list() {
    assert!(effective(&engine(PIER), "nobody", None, &Session::default()).is_none());
    assert_eq!(effective(&engine(PIER), "watch-1", Some("nowhere"), &Session::default()), Some(Vec::new()));
    let all = effective(&engine(PIER), "watch-1", None, &Session::default()).expect("known");
    assert_eq!(all.iter().map(|listed| listed.systems.len()).sum::<usize>(), 3);
}

/// Every line that is listed is asked in the session that is given as its example, and comes to what is listed.
#[test]
fn every_line_that_is_listed_is_answered_so() {
    let first = seed(18_000);
    println!("first seed {first}");
    let mut asked: BTreeMap<Membership, usize> = BTreeMap::new();
    for round in 0..questions(120).div_ceil(10) as u64 {
        let seed = first + round;
        let Some((_, engine)) = random(seed) else { continue };
        for user in engine.estate().users() {
            let listed = effective(&engine, &user.id.value, None, &Session::default()).expect("the user is known");
            for right in listed.iter().flat_map(|listed| &listed.rights) {
                for line in &right.lines {
                    let answer = engine.explain(&Question { line: line.clone(), ..right.example.clone() });
                    let is = match answer.verdict {
                        Verdict::Allowed => Membership::Allowed,
                        Verdict::AllowedAfter => Membership::After,
                        Verdict::Denied => Membership::NotDecided,
                    };
                    assert_eq!(is, right.allowed, "seed {seed}: {line}\n{:#?}\n{:#?}", right.example, answer.gates);
                    *asked.entry(is).or_default() += 1;
                }
            }
        }
    }
    println!("{asked:?}");
    assert!(asked.get(&Membership::Allowed).is_some_and(|n| *n > 300) && asked.contains_key(&Membership::After), "{asked:?}");
}

/// Of several actions it is said through what each is held: words in which their grounds differ are left out, and nothing else.
#[test]
fn through_what_several_actions_are_held_is_said_of_all() {
    let text = r#"
users.boss.proofs = ["password"]
users.clerk.proofs = ["password"]
systems.db.kind = "postgresql"
[databases.db]
owner = "keeper"
accounts = { boss = { may = ["superuser"] }, clerk = { member-of = ["reader"] } }
roles = { keeper = {}, reader = {} }
objects = { "schema s" = { owner = "keeper" }, "table s.t" = { owner = "keeper" }, "table s.u" = { owner = "keeper" } }
grants = [
  { allow = ["usage"], on = "schema s", to = ["reader"] },
  { allow = ["select"], on = "all tables in s", to = ["reader"] },
]
"#;
    let engine = engine(text);
    let through = |user: &str, on: &str| {
        let listed = effective(&engine, user, Some("db"), &Session::default()).expect("the user is known");
        let of = listed[0].rights.iter().filter(|right| right.on.iter().any(|name| name == on));
        of.map(|right| right.through.clone()).collect::<Vec<_>>()
    };
    // Of what can be active in a session, the superuser as such comes first.
    assert_eq!(through("boss", "table s.t")[0], "`boss` is a superuser, which passes every check");
    assert_eq!(through("boss", "table s.t")[1], "`keeper` owns table s.t and so holds …");
    assert_eq!(through("clerk", "table s.t")[0], "through `reader`, given by `keeper`");
}
