//! What is found, and what is told of who is ready, held against the sets of rights.

use std::collections::BTreeMap;

use zest_ledger::Engine;
use zest_ledger::ask::{Central, Question, Session};
use zest_ledger::entry::{IdentitySource, Kind};
use zest_ledger::expectation::parts;
use zest_ledger::finding::{Code, Finding};
use zest_ledger::review::{Between, hygiene, readiness};
use zest_ledger::rights::{Membership, Rights, Within};
use zest_testkit::{questions, seed};

use crate::support::{engine, plain, random};

/// Returns everybody's sets on all systems.
fn sets(engine: &Engine) -> Vec<Rights> {
    let estate = engine.estate();
    let pairs = estate.users().iter().flat_map(|user| estate.systems().iter().map(move |system| (&user.id.value, &system.id.value)));
    pairs.filter_map(|(user, system)| engine.rights(user, system, &Within::default())).collect()
}

/// Returns all that is allowed: a question for each opening and action.
fn allowed(set: &Rights) -> Vec<Question> {
    let is_allowed = |membership| matches!(membership, Membership::Allowed | Membership::After);
    let mut list = Vec::new();
    for line in set.lines().iter().filter(|line| is_allowed(line.membership)) {
        for &opening in &line.openings {
            list.extend(line.actions.iter().map(|&action| set.asked(line, opening, action)));
        }
    }
    list
}

fn is_at_top(question: &Question, system: &str, central: Central) -> bool {
    question.system == system && question.session.level == Some(15) && question.session.central == central
}

fn is_own_credential(question: &Question) -> bool {
    question.line == format!("change-credential on user/{}", question.user)
}

/// Returns a question that is allowed though a finding says that nothing like it is.
fn against<'q>(engine: &Engine, finding: &Finding, may: &'q [Question]) -> Option<Option<&'q Question>> {
    let names: Vec<&str> = finding.message.split('`').skip(1).step_by(2).collect();
    let is_of_account = |q: &Question| q.system == names[1] && q.session.account.as_deref() == Some(names[0]);
    let is_central = |q: &Question| q.session.central == Central::Up && q.session.account.is_none();
    let is_service =
        |q: &Question| engine.site(&q.system).is_some_and(|site| [Kind::CLOUD, Kind::APPLICATION].contains(&site.entry().kind()));
    let find = |is: &dyn Fn(&Question) -> bool| Some(may.iter().find(|question| is(question)));
    match finding.code {
        Code::UserWithoutAssignment => find(&|q| q.user == names[0] && !is_own_credential(q)),
        Code::UserWithoutProof => find(&|q| q.user == names[0] && is_service(q)),
        Code::NobodyReachesTop => find(&|q| is_at_top(q, names[0], Central::Up)),
        Code::NoEmergencyAccount => find(&|q| is_at_top(q, names[0], Central::Down)),
        Code::SystemUncovered => find(&|q| q.system == names[0] && is_central(q)),
        Code::AccountForNobody | Code::AccountWithoutCredential | Code::AccountNeverUsed => find(&is_of_account),
        Code::OutageLocksOut => find(&|q| q.system == names[0] && q.session.central == Central::Down),
        Code::NobodySignsIn => find(&|q| q.system == names[0]),
        _ => None,
    }
}

/// Holds the findings of an estate against what is allowed in it: what is called without effect changes nothing for anybody when it is
/// taken out, what it is said that nobody may is allowed to nobody, and where nobody comes to the top of a device it is found.
fn holds(engine: &Engine, seed: u64, counts: &mut BTreeMap<&'static str, usize>) {
    let (parts, sets) = (parts(engine), sets(engine));
    let may: Vec<Question> = sets.iter().flat_map(allowed).collect();
    let found = hygiene(engine, None);
    for finding in found.list() {
        if let Some(question) = against(engine, finding, &may) {
            *counts.entry(finding.code.slug()).or_default() += 1;
            assert_eq!(question, None, "seed {seed}: {}", finding.message);
        }
        let is_without_effect = [
            Code::RuleHidden,
            Code::AssignmentHidden,
            Code::Repeated,
            Code::ConditionPassedBy,
            Code::RuleMatchesNoCommand,
            Code::RuleLevelUnreachable,
            Code::AssignmentCoversNothing,
        ];
        if is_without_effect.contains(&finding.code) {
            let place = finding.primary.as_ref().map(|label| engine.estate().sources().locate(label.place));
            // Entries that were built by one line of code cannot be told apart.
            let there: Vec<_> =
                parts.iter().filter(|part| Some(part.location(engine)) == place && !part.what().contains("condition")).collect();
            let [part] = there.as_slice() else { continue };
            let without = part.taken_out(engine).expect("without it, it is a ledger");
            *counts.entry(finding.code.slug()).or_default() += 1;
            let changed = Between::new(engine, &without, &Session::default(), |_| true).all();
            assert_eq!(changed, [], "seed {seed}: {}", finding.message);
        }
    }
    let has = |code, name: &str| found.list().iter().any(|f| f.code == code && f.message.contains(&format!("`{name}`")));
    for device in engine.estate().systems().iter().filter(|system| system.kind() == Kind::NETWORK_DEVICE) {
        let name = &device.id.value;
        let codes = [&[Code::NobodyReachesTop, Code::SystemUncovered][..], &[Code::NoEmergencyAccount]];
        for (central, codes) in [Central::Up, Central::Down].into_iter().zip(codes) {
            // Who asks no central source hears nothing of it; where all commands wait for it, it does not help to come there.
            if central == Central::Down && (!device.sources().contains(&IdentitySource::Central) || has(Code::OutageLocksOut, name)) {
                continue;
            }
            let is_found = codes.iter().any(|code| has(*code, name));
            // Somebody may come there, and be allowed nothing.
            let comes = |set: &Rights| set.system == *name && set.can_open(|s| s.level == Some(15) && s.central == central);
            assert_eq!(is_found, !sets.iter().any(comes), "seed {seed}: {codes:?} of {name}\n{found}");
        }
    }
}

fn findings_hold(first: u64, wanted: usize, source: impl Fn(u64) -> Option<Engine>) {
    println!("first seed {first}");
    let mut counts = BTreeMap::new();
    for seed in (first..).take(wanted.div_ceil(10)) {
        source(seed).iter().for_each(|engine| holds(engine, seed, &mut counts));
    }
    println!("{counts:#?}");
    assert!(counts.values().sum::<usize>() > 20 && counts.len() >= 2, "{counts:?}");
}

#[test]
fn what_is_found_in_estates_agrees_with_what_is_allowed() {
    findings_hold(seed(43_000), questions(120), |seed| Some(random(seed)?.1));
}

#[test]
fn what_is_found_on_devices_agrees_with_what_is_allowed() {
    findings_hold(seed(47_000), questions(120), |seed| {
        let estate = zest_testkit::random::Source::new(seed).ledger().estate().expect("a valid ledger");
        Some(Engine::compile(estate).expect("a random ledger compiles"))
    });
}

#[test]
fn what_is_found_on_clouds_and_in_applications_agrees_with_what_is_allowed() {
    findings_hold(seed(48_000), questions(120), |seed| {
        let estate = zest_testkit::clouds::random::Source::new(seed).ledger().estate().expect("a valid ledger");
        Some(Engine::compile(estate).expect("a random ledger compiles"))
    });
}

/// Whoever may do something at a moment is ready but for what is asked of the credential on paper; whoever may not is told why.
#[test]
fn whoever_is_ready_may_do_something_and_nobody_else_is() {
    let first = seed(44_000);
    println!("first seed {first}");
    let mut counts: BTreeMap<(bool, bool), usize> = BTreeMap::new();
    let at = "2026-11-27T06:10:00Z".parse().expect("a moment");
    for seed in (first..).take(questions(120).div_ceil(10)) {
        let Some((mut source, engine)) = random(seed) else { continue };
        for user in engine.estate().users() {
            for system in engine.estate().systems().iter() {
                let (name, on) = (&user.id.value, &system.id.value);
                let ready = readiness(&engine, name, Some(on), Some(at)).expect("both are known").remove(0);
                let within = Within { stated: Session { at: Some(at), ..Session::default() }, ..Within::default() };
                let set = engine.rights(name, on, &within).expect("both are known");
                let own = format!("change-credential on user/{name}");
                let may = (0..set.actions().len()).any(|action| set.actions()[action].line != own && set.example_for(action).is_some());
                let must_change = "the credential must be changed first: until then nothing else can be done";
                // Whoever may change the credential and nothing else is told just that.
                let is_kept = ready.missing.iter().any(|cause| cause.text != must_change);
                assert!(!(may && is_kept), "seed {seed}: {ready:#?}");
                assert!(may || !ready.missing.is_empty(), "seed {seed}: {name} may do nothing on {on}");
                *counts.entry((may, ready.missing.is_empty())).or_default() += 1;
                // Through no channel that is not called open is a session opened.
                for opening in &ready.channels {
                    let mut question = Question::new(name, on, "").at(at);
                    question.session.channel = Some(opening.channel);
                    let asked = plain(source.question());
                    question.session.origin = asked.session.origin;
                    question.session.proofs = asked.session.proofs;
                    let opens = engine.sign_in(&question).refusal.is_none();
                    assert!(opening.is_open || !opens, "seed {seed}: {opening:?} {question:#?}");
                }
            }
        }
    }
    println!("{counts:?}");
    assert!(counts.len() >= 2, "{counts:?}");
}

/// What keeps somebody from a system is said of that system: what is not looked at there is not.
#[test]
fn only_what_is_in_the_way_is_missing() {
    let ledger = engine(
        r#"
        [users.clerk-1]
        [users.clerk-2]
        proofs = ["password"]
        must-change-credential = true
        [users.clerk-3]
        proofs = ["password"]
        [users.clerk-4]
        proofs = ["password"]
        channels = ["terminal"]
        [groups.yard]
        members = ["user:clerk-4"]
        owners = ["user:clerk-3"]
        [vocabularies.make]
        commands = [{ line = "leave", does = "leave-session" }, { line = "change passphrase", does = "change-credential" }, { line = "show log" }]
        [command-sets.looks]
        rules = ["allow ..."]
        [roles.looker]
        band = { start = 1, ceiling = 1 }
        commands = ["looks"]
        [[assignments]]
        to = ["user:clerk-2"]
        roles = ["looker"]
        on = { systems = ["sw"] }
        [[assignments]]
        to = ["user:clerk-3"]
        roles = ["looker"]
        on = { systems = ["sw"] }
        until = 2026-06-30T00:00:00Z
        [systems.sw]
        kind = "network-device"
        vocabulary = "make"
        no-command-set = "nothing"
        authorisation = { levels = "all", configuration = true }
        accounts.desk = { band = { start = 1, ceiling = 1 }, used-by = ["user:clerk-1"] }
        accounts.yard = { band = { start = 1, ceiling = 1 }, used-by = ["group:yard"], locked = true, origin = ["192.0.2.0/24"] }
        [systems.rota]
        kind = "application"
        accepts = { web = ["password"] }
        [applications.rota]
        types.shift.rights = ["plan"]
        objects."shift/early" = {}
        grants = [{ allow = ["plan"], on = "shift/*", to = ["group:yard"] }]
        [systems.till]
        kind = "mariadb"
        [databases.till.objects]
        "table shop.fares" = { columns = { id = "int" } }
        [databases.till.accounts]
        "clerk-1@%" = {}
        "clerk-2@%" = {}
        "clerk-3@%" = {}
        [[databases.till.grants]]
        allow = ["select"]
        on = "table shop.fares"
        to = ["clerk-1@%", "clerk-2@%"]
        "#,
    );
    let must_change = "the credential must be changed first: until then nothing else can be done";
    for (user, system, at, missing) in [
        ("clerk-1", "till", "2026-01-01T00:00:00Z", vec![]),
        ("clerk-2", "till", "2026-01-01T00:00:00Z", vec![]),
        ("clerk-3", "till", "2026-01-01T00:00:00Z", vec!["sessions can be opened on `till`, and nothing is allowed in any of them"]),
        ("clerk-2", "sw", "2026-01-01T00:00:00Z", vec![must_change]),
        ("clerk-3", "sw", "2026-01-01T00:00:00Z", vec![]),
        ("clerk-3", "sw", "2026-07-01T00:00:00Z", vec!["the assignment is not valid at this moment, until 2026-06-30T00:00:00Z"]),
        ("clerk-1", "sw", "2026-07-01T00:00:00Z", vec![]),
        ("clerk-4", "sw", "2026-07-01T00:00:00Z", vec!["no assignment covers `clerk-4` on `sw`", "the account `yard` is locked"]),
        ("clerk-4", "rota", "2026-07-01T00:00:00Z", vec!["`rota` takes sessions by web only, not by terminal"]),
    ] {
        let ready = readiness(&ledger, user, Some(system), Some(at.parse().expect("a moment"))).expect("both are known");
        let found: Vec<&str> = ready[0].missing.iter().map(|cause| cause.text.as_str()).collect();
        assert_eq!(found, missing, "{user} on {system} at {at}");
    }
}
