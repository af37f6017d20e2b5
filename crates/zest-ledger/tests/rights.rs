//! The set of what is allowed, against the answers: every session and every line of random estates of all kinds.

use std::collections::BTreeMap;

use fastrand::Rng;
use zest_ledger::Engine;
use zest_ledger::ask::{Central, Fact, Form, Question, Refusal, Session, Verdict};
use zest_ledger::rights::{Action, Membership, Rights, Side, Within, rights};
use zest_testkit::{clouds, questions, random, seed};

use crate::support::{self, plain};

/// What a set should say of a question, by asking it.
fn asked(engine: &Engine, question: &Question) -> Membership {
    let decision = engine.decide(question);
    match (decision.verdict, decision.refusal) {
        (Verdict::Allowed, _) => Membership::Allowed,
        (Verdict::AllowedAfter, _) => Membership::After,
        (Verdict::Denied, Some(Refusal::NotDecided)) => Membership::NotDecided,
        (Verdict::Denied, _) => Membership::Denied,
    }
}

/// The set of one line alone.
fn of_line(engine: &Engine, question: &Question) -> Option<Rights> {
    let action = Action { line: question.line.clone(), form: question.form, name: String::new(), under: String::new(), like: None };
    engine.rights(&question.user, &question.system, &Within { actions: vec![action], ..Within::default() })
}

/// Compares what the set of a line says of a session with what is answered, and returns it.
fn agrees(engine: &Engine, question: &Question, seed: u64) -> Option<Membership> {
    let question = plain(question.clone());
    let set = of_line(engine, &question)?;
    let (is, should) = (set.membership(&question.session, 0), asked(engine, &question));
    let is_outside = is == Membership::NotHere && !set.openings().iter().any(|o| o.session == Session::default());
    if is == Membership::NotHere {
        assert!(
            should == Membership::Denied || !question.session.acting.is_empty() || question.session.active_roles.is_some(),
            "seed {seed}: the set says nothing of a session that is {should:?} ({is_outside})\n{question:#?}\n{:#?}",
            engine.explain(&question).gates
        );
    } else {
        assert_eq!(is, should, "seed {seed} (set left, answer right)\n{question:#?}\n{:#?}", engine.explain(&question).gates);
    }
    Some(is)
}

fn tell(what: &str, counts: &BTreeMap<String, usize>) {
    println!("{what}: {counts:?}");
    for needed in ["Allowed", "After", "Denied"] {
        assert!(counts.contains_key(needed), "{what}: nothing came to {needed}, so nothing was compared there");
    }
    let all: usize = counts.values().sum();
    assert!(counts.get("NotHere").copied().unwrap_or(0) * 5 < all, "{what}: too much is outside of the sets");
}

/// An engine, and a source of questions for it.
type Asking = (Engine, Box<dyn FnMut() -> Question>);

/// Compares sets with answers over so many questions, 40 to each engine of a source.
fn every_session(what: &str, first: u64, wanted: usize, source: impl Fn(u64) -> Option<Asking>) {
    println!("first seed {first}");
    let mut counts: BTreeMap<String, usize> = BTreeMap::new();
    for seed in (first..).take(wanted.div_ceil(40)) {
        let Some((engine, mut question)) = source(seed) else { continue };
        for _ in 0..40 {
            if let Some(is) = agrees(&engine, &question(), seed) {
                *counts.entry(format!("{is:?}")).or_default() += 1;
            }
        }
    }
    tell(what, &counts);
}

#[test]
fn a_set_says_of_every_session_what_is_answered() {
    every_session("estates of all kinds", seed(13_000), questions(4_000), |seed| {
        let (mut source, engine) = support::random(seed)?;
        Some((engine, Box::new(move || source.question())))
    });
}

#[test]
fn a_set_says_of_every_session_on_devices_what_is_answered() {
    every_session("devices", seed(14_000), questions(2_000), |seed| {
        let mut source = random::Source::new(seed);
        let engine = Engine::compile(source.ledger().estate().expect("a valid ledger")).expect("a random ledger compiles");
        Some((engine, Box::new(move || source.question())))
    });
}

#[test]
fn a_set_says_of_every_session_on_clouds_and_in_applications_what_is_answered() {
    every_session("clouds and applications", seed(15_000), questions(2_000), |seed| {
        let mut source = clouds::random::Source::new(seed);
        let engine = Engine::compile(source.ledger().estate().expect("a valid ledger")).expect("a random ledger compiles");
        Some((engine, Box::new(move || source.question())))
    });
}

/// On a device that asks no central source at sign-in, and yet for commands, a set says what holds while that source is down.
#[test]
fn a_set_tells_sessions_apart_by_a_central_source_that_only_commands_wait_for() {
    let text = "
[users.watch-1]
proofs = ['password']
[vocabularies.v]
commands = [{ line = 'show paths', level = 1 }, { line = 'leave', level = 0, does = 'leave-session' }]
[systems.sw]
kind = 'network-device'
vocabulary = 'v'
identity-sources = ['local']
when-central-down = 'nothing'
no-command-set = 'everything'
authorisation = { levels = 'all', configuration = true }
[systems.sw.accounts.rescue]
used-by = ['user:watch-1']
band = { start = 1, ceiling = 15 }
";
    let engine = Engine::compile(zest_ledger::Ledger::new().document("sw.toml", text).estate().expect("valid")).expect("compiles");
    let up = Question::new("watch-1", "sw", "show paths");
    let down = up.clone().central_down();
    let set = of_line(&engine, &up).expect("a set");
    for (question, wanted) in [(up, Membership::Allowed), (down, Membership::Denied)] {
        assert_eq!((set.membership(&question.session, 0), asked(&engine, &question)), (wanted, wanted), "{:?}", question.session.central);
    }
}

/// The line of a question is one of those that are listed, or there is one that is allowed in the same sessions.
#[test]
fn for_every_line_there_is_one_in_the_list_that_is_allowed_in_the_same_sessions() {
    let first = seed(16_000);
    println!("first seed {first}");
    let mut compared = 0;
    for round in 0..questions(1_200).div_ceil(12) as u64 {
        let seed = first + round;
        let Some((mut source, engine)) = support::random(seed) else { continue };
        for _ in 0..12 {
            let question = plain(source.question());
            let (Some(site), Some(user)) = (engine.site(&question.system), engine.find_user(&question.user, false)) else { continue };
            let side = Side { site, user };
            let mut actions = site.kind().actions(&[side]);
            let listed = actions.len();
            actions.push(Action { line: question.line.clone(), form: Form::Line, name: String::new(), under: String::new(), like: None });
            let Some(set) = rights(&[side], &Within { actions, ..Within::default() }).pop() else { continue };
            if set.is_never(listed) {
                continue;
            }
            compared += 1;
            assert!(
                (0..listed).any(|action| set.is_alike(action, listed)),
                "seed {seed}: no line in the list is allowed in the same sessions\n{question:#?}\n{:#?}",
                set.actions()
            );
        }
    }
    println!("{compared} lines were found in a list");
    assert!(compared > 100, "too few lines are ever allowed");
}

/// Unions, differences and what else sets can do, over two users of one system.
#[test]
fn sets_are_sets() {
    let first = seed(17_000);
    println!("first seed {first}");
    let mut rng = Rng::with_seed(first);
    let (mut examples, mut differ) = (0, 0);
    for round in 0..questions(600).div_ceil(6) as u64 {
        let seed = first + round;
        let Some((_, engine)) = support::random(seed) else { continue };
        for _ in 0..6 {
            let system = zest_testkit::estates::SYSTEMS[rng.usize(..zest_testkit::estates::SYSTEMS.len())];
            let Some(site) = engine.site(system) else { continue };
            let sides: Vec<Side<'_>> =
                (0..2).filter_map(|_| Some(Side { site, user: engine.find_user(&format!("user-{}", rng.usize(..6)), false)? })).collect();
            let sets = rights(&sides, &Within::default());
            let [one, other] = sets.as_slice() else { continue };
            let (only, both, all) = (one.minus(other), one.and(other), one.or(other));
            assert!(only.is_within(one) && both.is_within(one) && one.is_within(&all) && other.is_within(&all), "seed {seed}: {system}");
            assert!(only.and(other).is_empty(), "seed {seed}: {system}: what is only here is there as well");
            let again = only.or(&both);
            assert!(again.is_within(one) && one.is_within(&again), "seed {seed}: {system}: a set is its parts");
            assert_eq!(
                one.is_within(other) && other.is_within(one),
                only.is_empty() && other.minus(one).is_empty(),
                "seed {seed}: {system}"
            );
            differ += usize::from(!only.is_empty());
            for set in [one, &only] {
                let Some((membership, question)) = set.example() else { continue };
                assert_eq!(membership, asked(&engine, &question), "seed {seed}: the example is asked\n{question:#?}");
                examples += 1;
            }
            if let Some((membership, question)) = only.example() {
                let there = Question { user: other.user.clone(), ..question };
                assert_ne!(membership, asked(&engine, &there), "seed {seed}: what is only here is not so there\n{there:#?}");
            }
        }
    }
    println!("{examples} examples were asked, {differ} differences looked into");
    assert!(examples > 50 && differ > 20);
}

/// Any combination of classes, in any opening, for any action: the set says what is answered.
#[test]
fn a_set_says_of_every_combination_of_classes_what_is_answered() {
    let first = seed(21_000);
    println!("first seed {first}");
    let mut rng = Rng::with_seed(first);
    let mut counts: BTreeMap<String, usize> = BTreeMap::new();
    for round in 0..questions(6_000).div_ceil(200) as u64 {
        let seed = first + round;
        let Some((_, engine)) = support::random(seed) else { continue };
        for _ in 0..10 {
            let system = zest_testkit::estates::SYSTEMS[rng.usize(..zest_testkit::estates::SYSTEMS.len())];
            let Some(set) = engine.rights(&format!("user-{}", rng.usize(..6)), system, &Within::default()) else { continue };
            for _ in 0..20 {
                let Some((question, action)) = set.any(|count| rng.usize(..count)) else { continue };
                let (is, should) = (set.membership(&question.session, action), asked(&engine, &question));
                assert_eq!(is, should, "seed {seed} (set left, answer right)\n{question:#?}\n{:#?}", engine.explain(&question).gates);
                *counts.entry(format!("{is:?}")).or_default() += 1;
            }
        }
    }
    tell("combinations of classes", &counts);
}

/// A random estate of all kinds, and a random cloud.
fn estates(seed: u64) -> impl Iterator<Item = Engine> {
    let cloud = clouds::random::Source::new(seed).ledger().estate().ok().and_then(|estate| Engine::compile(estate).ok());
    support::random(seed).map(|(_, engine)| engine).into_iter().chain(cloud)
}

/// Of what a set of somebody holds hardly anything is not told: neither parts that were not tried, nor ways for a session to start that were
/// not looked at. (What the rules do not decide is another matter, and so are chains that a question states and no set holds.)
#[test]
fn hardly_any_part_of_a_set_is_not_decided_here() {
    let first = seed(22_000);
    println!("first seed {first}");
    let (mut told, mut untold, mut limited, mut sets) = (0, 0, BTreeMap::<String, usize>::new(), 0);
    for seed in (first..).take(questions(1_000).div_ceil(100)) {
        for engine in estates(seed) {
            for user in engine.estate().users() {
                for system in engine.estate().systems().iter() {
                    let set = engine.rights(&user.id.value, &system.id.value, &Within::default()).expect("both are known");
                    let not_here = set.lines().iter().filter(|line| line.membership == Membership::NotHere).count();
                    untold += set.left_out() + not_here;
                    told += set.openings().len() + set.shut().len() + set.lines().len() - not_here;
                    sets += 1;
                    set.limits().into_iter().for_each(|limit| *limited.entry(limit).or_default() += 1);
                }
            }
        }
    }
    println!("{untold} parts are not told beside {told} that are, of {sets} sets; limits: {limited:#?}");
    // What lies beyond a limit has no parts: it counts as one.
    let untold = untold + limited.values().sum::<usize>();
    assert!(told > 1_000 && untold * 100 <= told, "{untold} beside {told}");
}

/// How many actions of a set are allowed in a session, at once or after obligations, and how many at once, by asking each.
fn so_many(engine: &Engine, set: &Rights, session: &Session) -> (usize, usize) {
    let ask = |action: &Action| {
        let question = Question::in_session(&set.user, &set.system, &action.line, session.clone());
        asked(engine, &Question { form: action.form, ..question })
    };
    let found: Vec<Membership> = set.actions().iter().map(ask).collect();
    let count = |wanted: &[Membership]| found.iter().filter(|membership| wanted.contains(membership)).count();
    (count(&[Membership::Allowed, Membership::After]), count(&[Membership::Allowed]))
}

/// As much is allowed in the best session as is told of it, by asking; in no other is it more; and without a fact that is stated of it
/// beside how it starts it is less.
fn best_is_best(engine: &Engine, set: &Rights, rng: &mut Rng, counts: &mut BTreeMap<&'static str, usize>) {
    let mut add = |what| *counts.entry(what).or_default() += 1;
    let of = |session: &Session| so_many(engine, set, session);
    let Some(best) = set.best() else {
        for _ in 0..20 {
            let Some((question, _)) = set.any(|count| rng.usize(..count)) else { return };
            assert!(question.session.central == Central::Down || of(&question.session) == (0, 0), "{question:#?}");
        }
        return add("nothing");
    };
    let told = (best.allowed + best.after, best.allowed);
    assert_eq!(of(&best.session), told, "{} on {}\n{:#?}", set.user, set.system, best.session);
    for fact in [Fact::At, Fact::Origin, Fact::Local, Fact::Channel, Fact::Proofs, Fact::Attributes] {
        let mut without = best.session.clone();
        without.take(fact, &Session::default());
        if without != best.session {
            assert!(of(&without) < told, "{} on {}: {fact:?} makes no difference\n{:#?}", set.user, set.system, best.session);
            add("needed");
        }
    }
    for _ in 0..20 {
        let Some((question, _)) = set.any(|count| rng.usize(..count)) else { continue };
        if question.session.central == Central::Up {
            let other = of(&question.session);
            assert!(other <= told || !best.is_proved, "{other:?} is more than {told:?}\n{:#?}\n{question:#?}", best.session);
            add(if other < told { "less" } else { "as much" });
        }
    }
    // What is listed of it is all that, in any of the sessions that its words mean.
    let listed: usize = (0..set.actions().len()).filter(|&action| best.rights.example_for(action).is_some()).count();
    assert_eq!(listed, told.0, "{} on {}\n{:#?}", set.user, set.system, best.session);
    for action in 0..set.actions().len() {
        let Some((membership, example)) = best.rights.example_for(action) else { continue };
        assert_eq!(set.membership(&example.session, action), membership, "{} on {}\n{example:#?}", set.user, set.system);
    }
    add(if best.is_proved { "proved" } else { "not proved" });
}

/// Of everybody on every kind: see [`best_is_best`].
#[test]
fn in_no_session_is_more_allowed_than_in_the_best() {
    let first = seed(23_000);
    println!("first seed {first}");
    let mut rng = Rng::with_seed(first);
    let mut counts: BTreeMap<&'static str, usize> = BTreeMap::new();
    for seed in (first..).take(questions(1_000).div_ceil(50)) {
        for engine in estates(seed) {
            let names = |list: Vec<String>, rng: &mut Rng| list[rng.usize(..list.len())].clone();
            for _ in 0..10 {
                let user = names(engine.estate().users().iter().map(|user| user.id.value.clone()).collect(), &mut rng);
                let system = names(engine.estate().systems().iter().map(|system| system.id.value.clone()).collect(), &mut rng);
                let Some(set) = engine.rights(&user, &system, &Within::default()) else { continue };
                best_is_best(&engine, &set, &mut rng, &mut counts);
            }
        }
    }
    println!("{counts:?}");
    for needed in ["needed", "less", "as much", "proved", "nothing"] {
        assert!(counts.get(needed).is_some_and(|count| *count > 5), "{needed}: {counts:?}");
    }
}

#[path = "../examples/key_cabinet.rs"]
#[expect(dead_code, reason = "its program is run as an example")]
mod key_cabinet;

/// A kind from outside has sets by the same rules: nothing of it is written for them.
#[test]
fn a_kind_from_outside_has_sets_as_well() {
    let engine = key_cabinet::engine().expect("the example is valid");
    let mut rng = Rng::with_seed(seed(22_000));
    let mut counts: BTreeMap<String, usize> = BTreeMap::new();
    for user in ["mate-1", "mate-2", "purser-1"] {
        let set = engine.rights(user, "pier-keys", &Within::default()).expect("both are known");
        for _ in 0..200 {
            let (question, action) = set.any(|count| rng.usize(..count)).expect("there are slots");
            let (is, should) = (set.membership(&question.session, action), asked(&engine, &question));
            assert_eq!(is, should, "{question:#?}");
            *counts.entry(format!("{is:?}")).or_default() += 1;
        }
    }
    println!("{counts:?}");
    assert!(counts.contains_key("After") && counts.contains_key("Denied"), "{counts:?}");
}

/// Sets that were not made side by side have other classes: to compare them is stopped, and tells nothing that is wrong.
#[test]
#[should_panic(expected = "sets are made side by side to be compared")]
fn sets_of_other_classes_are_not_compared() {
    let engine = key_cabinet::engine().expect("the example is valid");
    let of = |user| engine.rights(user, "pier-keys", &Within::default()).expect("both are known");
    let _ = of("mate-1").is_within(&of("mate-2"));
}
