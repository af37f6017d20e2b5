//! Laws of clouds, tried on random ones: a deny never allows, a ceiling never adds, order does not matter.

use zest_ledger::ask::Verdict;
use zest_ledger::entry::{Ceiling, Grant, Service, When};
use zest_ledger::source::At;
use zest_ledger::{Engine, Ledger, Question};
use zest_testkit::clouds::random::Source;

const LEDGERS: u64 = 150;
const QUESTIONS: usize = 40;

/// The same cloud, with its grants and ceilings changed.
fn changed(engine: &Engine, change: impl Fn(&mut Service)) -> Engine {
    let estate = engine.estate();
    let mut ledger = Ledger::new();
    for user in estate.users() {
        ledger = ledger.user((**user).clone());
    }
    for group in estate.groups() {
        ledger = ledger.group((**group).clone());
    }
    for role in estate.roles() {
        ledger = ledger.role((**role).clone());
    }
    for assignment in estate.assignments() {
        ledger = ledger.assignment((**assignment).clone());
    }
    for system in estate.systems() {
        ledger = ledger.system((**system).clone());
    }
    for service in estate.services() {
        let mut service = (**service).clone();
        change(&mut service);
        ledger = ledger.service(service);
    }
    Engine::compile(ledger.estate().unwrap_or_else(|f| panic!("{f}"))).expect("it compiles")
}

/// Asks random questions of a cloud and of the same cloud changed.
fn compare(law: &str, change: impl Fn(&mut Service), holds: impl Fn(Verdict, Verdict) -> bool) {
    let first: u64 = std::env::var("ZEST_SEED").ok().and_then(|n| n.parse().ok()).unwrap_or(71);
    println!("{law}: first seed {first} (ZEST_SEED)");
    let mut differences = 0;
    for seed in first..first + LEDGERS {
        let mut source = Source::new(seed);
        let before = Engine::compile(source.ledger().estate().unwrap_or_else(|f| panic!("seed {seed}\n{f}"))).expect("it compiles");
        let after = changed(&before, &change);
        for _ in 0..QUESTIONS {
            let question: Question = source.question();
            let (one, other) = (before.decide(&question).verdict, after.decide(&question).verdict);
            assert!(holds(one, other), "seed {seed}: {law}: {one:?} became {other:?}\n{question:#?}");
            differences += u32::from(one != other);
        }
    }
    println!("  {differences} answers changed");
}

/// From most to least: a law may only lead down.
fn is_no_more(one: Verdict, other: Verdict) -> bool {
    let rank = |v| match v {
        Verdict::Allowed => 2,
        Verdict::AllowedAfter => 1,
        Verdict::Denied => 0,
    };
    rank(other) <= rank(one)
}

#[test]
fn adding_a_deny_never_turns_denied_into_allowed() {
    let deny = || Grant::deny(&["disk.*"]).on("a").to("group:g1").to("user:u2").to("role:r1");
    compare("a deny", |s| s.grants.push(deny()), is_no_more);
    let conditional = || deny().when(When::new().compare("user.colour = resource.colour"));
    compare("a conditional deny", |s| s.grants.push(conditional()), is_no_more);
}

#[test]
fn adding_an_allow_never_takes_anything_away() {
    let allow = || Grant::allow(&["all"]).on("a/b").to("group:g1").to("user:u0");
    compare("an allow", |s| s.grants.push(allow()), |one, other| is_no_more(other, one));
}

#[test]
fn a_ceiling_never_adds() {
    compare("a ceiling", |s| s.ceilings.push(Ceiling::allow(&["read"]).within("a")), is_no_more);
    compare("a ceiling of everybody and everything", |s| s.ceilings.push(Ceiling::allow(&["all", "assume"])), |one, other| one == other);
}

#[test]
fn the_order_of_grants_and_ceilings_does_not_matter() {
    compare(
        "order",
        |s| {
            s.grants.reverse();
            s.ceilings.reverse();
            s.acting.reverse();
        },
        |one, other| one == other,
    );
}

#[test]
fn leaving_an_operation_out_of_a_deny_only_gives() {
    compare(
        "an exception",
        |s| {
            for grant in s.grants.iter_mut().filter(|g| !g.deny.is_empty()) {
                grant.except.push(At::here("disk.write".to_owned()));
            }
        },
        |one, other| is_no_more(other, one),
    );
}
