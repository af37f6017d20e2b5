//! Worst shapes of what a person may write: each ends, with an answer or with the limit that it met.
//!
//! Sizes are such that work which grows with the square of them would not end within the time of a test run.

use zest_ledger::ask::{Refusal, Session};
use zest_ledger::entry::Kind;
use zest_ledger::finding::Code;
use zest_ledger::review::{effective, hygiene};
use zest_ledger::{Engine, HostConfiguration, Ledger, Question, Untold, host_configuration};
use zest_testkit::shapes;

fn engine(text: &str) -> Engine {
    let estate = Ledger::new().document("shape.toml", text).estate().unwrap_or_else(|f| panic!("{f}"));
    Engine::compile(estate).unwrap_or_else(|f| panic!("{f}"))
}

#[test]
fn columns_that_double_meet_the_limit_of_a_select_list() {
    let engine = engine(&shapes::doubling_views(2));
    let question = Question::statement("watch-1", "d", &shapes::doubling_expressions("public.t", 22));
    let answer = engine.explain(&question);
    assert!(answer.refusal.is_some());
    let few = Question::statement("watch-1", "d", &shapes::doubling_expressions("public.t", 3));
    assert_eq!(engine.decide(&few).refusal, Some(Refusal::NoPrivilege));
    // With every privilege, what is left is the limit itself.
    let question = Question { user: "postgres".to_owned(), ..question };
    let answer = engine.explain(&question);
    assert_eq!(answer.refusal, Some(Refusal::NotDecided), "{:?}", answer.gates);
    assert!(answer.gates.iter().any(|g| g.text.contains("more than 4096 columns")), "{:?}", answer.gates);
}

#[test]
fn views_that_double_are_read_once() {
    let engine = engine(&shapes::doubling_views(24));
    let asks = |user: &str| engine.decide(&Question::statement(user, "d", "SELECT id FROM public.v23")).refusal;
    assert_eq!((asks("watch-1"), asks("postgres")), (Some(Refusal::NoPrivilege), None));
}

#[test]
fn many_ranges_meet_the_limit_of_a_command_set() {
    let estate = Ledger::new().document("shape.toml", &shapes::ranges(1000)).estate().expect("valid");
    let findings = Engine::compile(estate).expect_err("it is too large");
    assert!(findings.to_string().contains("needs more than 200000 states, or 20000000 steps"), "{findings}");
    let some = engine(&shapes::ranges(40));
    assert_eq!(some.decide(&Question::new("watch-1", "sw", "show 1 1")).refusal, Some(Refusal::NotPermitted));
}

#[test]
fn beginnings_that_hide_each_other_are_all_found() {
    let engine = engine(&shapes::beginnings(3000));
    assert_eq!(engine.decide(&Question::new("watch-1", "sw", "show x77y")).refusal, None);
    let all = hygiene(&engine, None);
    let findings = all.to_string();
    // All with two digits or more begin with one of the ten with one digit, but `x0*` hides no other.
    assert_eq!(findings.matches("never decides").count(), 2990, "{}", &findings[..2000]);
    let helps = all.list().iter().filter_map(|f| f.help.as_ref());
    assert_eq!(helps.filter(|h| h.contains("300 such rules stand before it")).count(), 2690);
}

#[test]
fn denies_that_begin_alike_are_each_told_a_line_that_passes() {
    let all = hygiene(&engine(&shapes::narrow_denies(2000)), None);
    let told = all.list().iter().filter(|f| f.code == Code::DenyTooNarrow).map(|f| f.message.as_str());
    // What passes is the same for all of them; a deny that an earlier one hides is told as well.
    assert_eq!(told.filter(|message| message.ends_with("lets `show something` pass")).count(), 2000);
}

#[test]
fn beginnings_behind_any_word_are_told_apart_or_are_too_many() {
    let some = engine(&shapes::beginnings_behind_any_word(3000, ""));
    assert_eq!(some.decide(&Question::new("watch-1", "sw", "show a x77y")).refusal, None);
    assert_eq!(some.decide(&Question::new("watch-1", "sw", "show a y77y")).refusal, Some(Refusal::NotPermitted));
    assert!(hygiene(&some, None).list().iter().any(|f| f.code == Code::RuleHidden));
    for (text, limit) in [
        (shapes::beginnings_behind_any_word(8000, "{word} ..."), "needs more than 200000 states, or 20000000 steps"),
        (shapes::ends(8000), "an automaton of more than 32 MiB, or 50 million steps"),
    ] {
        let estate = Ledger::new().document("shape.toml", &text).estate().expect("valid");
        let findings = Engine::compile(estate).expect_err("it is too large");
        assert!(findings.to_string().contains(limit), "{findings}");
    }
}

#[test]
fn lattices_of_roles_are_gone_through_once() {
    for (kind, account) in [("postgresql", "watch-1"), ("mariadb", "watch-1@%")] {
        let engine = engine(&shapes::lattice(kind, account, 100, 5));
        let mut question = Question::new("watch-1", "d", "select on table a.t").from("192.0.2.1".parse().expect("an address"));
        let expected = if kind == "mariadb" { Refusal::NoPrivilege } else { Refusal::SchemaShut };
        assert_eq!(engine.ask(&question).refusal, Some(expected), "{kind}");
        question.session.active_roles = Some(vec!["r4-7".to_owned()]);
        assert_eq!(engine.decide(&question).refusal.is_none(), kind == "mariadb", "{kind}");
        let held = effective(&engine, "watch-1", None, &question.session).expect("known");
        assert!(held.iter().any(|listed| !listed.rights.is_empty()), "{kind}: {held:?}");
        assert!(!hygiene(&engine, None).list().is_empty(), "{kind}");
    }
}

#[test]
fn a_lattice_that_closes_circles_is_refused_with_each_of_them() {
    for (kind, account) in [("postgresql", "watch-1"), ("mariadb", "watch-1@%")] {
        let text = shapes::lattice(kind, account, 40, 4).replace("r0-0 = { member-of = [] }", "r0-0 = { member-of = [\"r3-0\"] }");
        let findings = Ledger::new().document("shape.toml", &text).estate().expect_err("it leads back");
        assert!(findings.to_string().contains("are members of each other"), "{kind}: {findings}");
    }
}

#[test]
fn many_assignments_of_everybody_are_looked_at_once() {
    let engine = engine(&shapes::assignments(500, 400, 800));
    assert_eq!(engine.decide(&Question::new("u7", "sw3", "show a")).refusal, None);
    assert!(!hygiene(&engine, None).list().is_empty());
    let listed = effective(&engine, "u7", None, &Session::default()).expect("known");
    assert_eq!(listed.iter().map(|listed| listed.systems.len()).sum::<usize>(), 400);
}

#[test]
fn a_host_with_more_rules_than_could_be_read_is_not_told() {
    let some = engine(&shapes::all_to_all(40));
    let at = "2026-11-25T08:00:00Z".parse().expect("a moment");
    assert!(matches!(host_configuration(&some, "h", at), Ok(HostConfiguration { .. })));
    let all = engine(&shapes::all_to_all(400));
    assert_eq!(host_configuration(&all, "h", at).err(), Some(Untold::TooMany { most: 100_000 }));
    assert_eq!(all.estate().entries().systems[0].kind(), Kind::HOST);
}
