//! What is found, and what is told of who is ready, held against the sets of rights.

use std::collections::{BTreeMap, BTreeSet};

use zest_ledger::ask::{Act, Central, Gate, GateOutcome, Proven, Question, Refusal, Session, Stage, Verdict};
use zest_ledger::entry::{Channel, Does, IdentitySource, Kind, Proof};
use zest_ledger::expectation::parts;
use zest_ledger::finding::{Code, Finding, Findings};
use zest_ledger::review::{Between, Touched, hygiene, readiness};
use zest_ledger::rights::{Membership, Rights, Within};
use zest_ledger::source::Location;
use zest_ledger::{Engine, mariadb, postgresql};
use zest_testkit::{databases, questions, seed};

use crate::support::{engine, plain, random, served};

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
        Code::AssumptionHalf => {
            let role = names.iter().find_map(|name| name.strip_prefix("role/")).expect("a path of a role is named");
            find(&|q| q.session.acting.iter().any(|act| matches!(act, Act::Role { name, .. } if name == role)))
        }
        Code::DisabledUserKept => find(&|q| q.user == names[0]),
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
        // A role that is kept apart from others is held all the same.
        let is_apart = finding.secondary.iter().any(|label| label.text.ends_with("which is kept apart here"));
        if is_without_effect.contains(&finding.code) && !is_apart {
            let place = finding.primary.as_ref().map(|label| engine.estate().sources().locate(label.place));
            // Entries that were built by one line of code cannot be told apart.
            let there: Vec<_> =
                parts.iter().filter(|part| Some(part.location(engine)) == place && !part.what().contains("condition")).collect();
            let [part] = there.as_slice() else { continue };
            let without = part.taken_out(engine).expect("without it, it is a ledger");
            *counts.entry(finding.code.slug()).or_default() += 1;
            let changed = Between::new(engine, &without, &Session::default(), &Touched::everything()).all();
            assert_eq!(changed, [], "seed {seed}: {}", finding.message);
        }
    }
    without_what_is_not_used(engine, &found, seed, counts);
    without_what_is_over(engine, seed, counts);
    with_a_second_person(engine, &found, &sets, seed, counts);
    for (does, code) in [(Does::LeaveSession, Code::CannotLeave), (Does::ShowLevel, Code::CannotShowLevel)] {
        *counts.entry(code.slug()).or_default() += whoever_cannot_is_found(engine, &may, &found, (does, code), seed);
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

/// A role that nobody is given, and a command set that nothing names, change nothing for anybody when they are taken out.
fn without_what_is_not_used(engine: &Engine, found: &Findings, seed: u64, counts: &mut BTreeMap<&'static str, usize>) {
    let unused = |code: Code| -> BTreeSet<&str> {
        let of_code = found.list().iter().filter(|finding| finding.code == code);
        of_code.filter_map(|finding| finding.message.split('`').nth(1)).collect()
    };
    let (roles, sets) = (unused(Code::RoleUnassigned), unused(Code::CommandSetUnused));
    if roles.is_empty() && sets.is_empty() {
        return;
    }
    let mut entries = engine.estate().entries().clone();
    entries.roles = entries.roles.iter().filter(|role| !roles.contains(role.id.value.as_str())).cloned().collect();
    entries.command_sets = entries.command_sets.iter().filter(|set| !sets.contains(set.id.value.as_str())).cloned().collect();
    // What a grant or a separation names is named all the same.
    let Ok(without) = engine.with_entries(entries) else { return };
    assert_eq!(Between::new(engine, &without, &Session::default(), &Touched::everything()).all(), [], "seed {seed}: {roles:?} {sets:?}");
    *counts.entry(Code::RoleUnassigned.slug()).or_default() += roles.len();
    *counts.entry(Code::CommandSetUnused.slug()).or_default() += sets.len();
}

/// What is over at a moment changes nothing for anybody from then on when it is taken out.
fn without_what_is_over(engine: &Engine, seed: u64, counts: &mut BTreeMap<&'static str, usize>) {
    let at = "2030-11-27T06:10:00Z".parse().expect("a moment");
    let found = hygiene(engine, Some(at));
    let sources = engine.estate().sources();
    let places: BTreeSet<String> = found
        .list()
        .iter()
        .filter(|finding| finding.code == Code::Expired)
        .filter_map(|finding| Some(sources.locate(finding.primary.as_ref()?.place).to_string()))
        .collect();
    for part in parts(engine).iter().filter(|part| places.contains(&part.location(engine).to_string())) {
        let Some(without) = part.taken_out(engine) else { continue };
        let stated = Session { at: Some(at), ..Session::default() };
        assert_eq!(Between::new(engine, &without, &stated, &Touched::everything()).all(), [], "seed {seed}: {}", part.what());
        *counts.entry(Code::Expired.slug()).or_default() += 1;
    }
}

/// Where it is found that nobody can agree to something, nobody can: whoever it is asked of is told so.
fn with_a_second_person(engine: &Engine, found: &Findings, sets: &[Rights], seed: u64, counts: &mut BTreeMap<&'static str, usize>) {
    let sources = engine.estate().sources();
    let places: Vec<Location> = found
        .list()
        .iter()
        .filter(|finding| finding.code == Code::NoSecondPerson)
        .filter_map(|finding| Some(sources.locate(finding.primary.as_ref()?.place)))
        // Entries that were built by one line of code cannot be told apart.
        .filter(|place| place.file.ends_with(".toml"))
        .collect();
    if places.is_empty() {
        return;
    }
    for set in sets {
        for opened in set.openings().iter().filter_map(|opening| set.opened(&opening.session)) {
            for action in set.actions().iter().filter(|action| action.like.is_none()) {
                let question = Question { line: action.line.clone(), form: action.form, ..opened.clone() };
                let answer = engine.explain(&question);
                let asks = |gate: &&Gate| gate.stage == Stage::Obligations && gate.location.as_ref().is_some_and(|at| places.contains(at));
                for gate in answer.gates.iter().filter(asks) {
                    let refuses = gate.outcome == GateOutcome::Refuses(Refusal::NobodyCan);
                    assert!(refuses, "seed {seed}: {gate:#?} {question:#?}\n{found}");
                    *counts.entry(Code::NoSecondPerson.slug()).or_default() += 1;
                }
            }
        }
    }
}

/// Whoever may do something on a device, and cannot leave the session or see its level there, at no level that they come to, is told of.
fn whoever_cannot_is_found(engine: &Engine, may: &[Question], found: &Findings, (does, code): (Does, Code), seed: u64) -> usize {
    // Random devices speak one vocabulary; of a line that it has not nobody is told.
    let commands = engine.estate().vocabularies().iter().flat_map(|vocabulary| &vocabulary.commands);
    let Some(line) = commands.into_iter().find(|c| c.does.as_ref().is_some_and(|it| it.value == does)).map(|c| c.line.value.as_str())
    else {
        return 0;
    };
    let is_device = |q: &Question| engine.site(&q.system).is_some_and(|site| site.entry().kind() == Kind::NETWORK_DEVICE);
    let must_change = |q: &Question| {
        let user = engine.estate().users().iter().find(|user| user.id.value == q.user).expect("they are there");
        user.must_change_credential.as_ref().is_some_and(|must| must.value)
    };
    // Local accounts are looked at by themselves.
    let is_plain = |q: &&Question| q.session.central == Central::Up && q.session.account.is_none() && q.session.mode.is_none();
    let at_each_level = |q: &Question| {
        let at_level = |level| Session { level: Some(level), ..q.session.clone() };
        (0..=15).map(|level| engine.decide(&Question::in_session(&q.user, &q.system, line, at_level(level)))).collect::<Vec<_>>()
    };
    let on_devices = may.iter().filter(is_plain).filter(|q| is_device(q) && !must_change(q));
    let of: BTreeMap<String, &Question> =
        on_devices.map(|q| (format!("{} on {}: {:?}", q.user, q.system, Session { level: None, ..q.session.clone() }), q)).collect();
    let each = of.iter().map(|(session, question)| (session, at_each_level(question)));
    let stuck: Vec<_> = each
        .filter(|(_, came)| came.iter().all(|decision| decision.verdict == Verdict::Denied))
        // Who is the only one that may agree to it, nobody can agree for: the finding is about the sets, not about who is there.
        .filter(|(_, came)| came.iter().all(|decision| decision.refusal != Some(Refusal::NobodyCan)))
        .map(|(session, came)| (session, came.iter().filter_map(|decision| decision.refusal).collect::<BTreeSet<_>>()))
        .collect();
    let is_found = found.list().iter().any(|finding| finding.code == code);
    assert!(stuck.is_empty() || is_found, "seed {seed}, {code:?}: {stuck:#?}\n{found}");
    stuck.len()
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

/// Returns what is allowed on an object in sessions that may look into its schema.
fn used<'s>(sets: impl Iterator<Item = &'s Rights>, object: &str, schema: &str) -> BTreeSet<String> {
    let looks = format!("usage on {schema}");
    let of_set = |set: &Rights| {
        let may = allowed(set);
        let session = |question: &Question| format!("{} {:?}", question.user, question.session);
        let inside: BTreeSet<String> = may.iter().filter(|question| question.line == looks).map(session).collect();
        let is_on = |question: &&Question| {
            question.line.split_once(" on ").is_some_and(|(_, on)| on == object || on.starts_with(&format!("{object} ")))
        };
        let used: Vec<String> =
            may.iter().filter(is_on).filter(|q| inside.contains(&session(q))).map(|q| format!("{}: {}", session(q), q.line)).collect();
        used
    };
    sets.flat_map(of_set).collect()
}

/// Holds the findings of a database server against what is allowed there.
fn holds_on_server((engine, read): (Engine, Findings), seed: u64, counts: &mut BTreeMap<&'static str, usize>) {
    let engine = &engine;
    let found = read.merged(hygiene(engine, None));
    let (parts, sets) = (parts(engine), sets(engine));
    let mut is_revoke_seen = false;
    for finding in found.list() {
        let names: Vec<&str> = finding.message.split('`').skip(1).step_by(2).collect();
        let place = finding.primary.as_ref().map(|label| engine.estate().sources().locate(label.place));
        let there: Vec<_> = parts.iter().filter(|part| Some(part.location(engine)) == place).collect();
        let without = || match there.as_slice() {
            [part] => part.taken_out(engine),
            _ => None,
        };
        match finding.code {
            Code::BroadBesideNarrow | Code::RevokeWithoutEffect => {
                // Of many revokes one is enough.
                if finding.code == Code::RevokeWithoutEffect && std::mem::replace(&mut is_revoke_seen, true) {
                    continue;
                }
                let Some(without) = without() else { continue };
                let changed = Between::new(engine, &without, &Session::default(), &Touched::everything()).all();
                // On PostgreSQL only what is held on the whole of it.
                let of = finding.message.split_once(" holds ").and_then(|(_, after)| after.split_once(" on the whole "));
                let is_said = |line: &String| of.is_none_or(|(held, _)| held.split(", ").any(|p| line.starts_with(&format!("{p} ("))));
                let lines = changed.iter().flat_map(|one| one.gained.iter().chain(&one.lost)).flat_map(|moved| &moved.right.lines);
                assert_eq!(
                    lines.filter(|line| is_said(line)).collect::<Vec<_>>(),
                    Vec::<&String>::new(),
                    "seed {seed}: {}",
                    finding.message
                );
            }
            Code::SchemaShut => {
                let Some(without) = without() else { continue };
                // Superusers become whatever role there is, and have it all before.
                let state = postgresql::state_of(engine.estate(), "ticketing", None).expect("it is declared");
                let is_bound = |set: &&Rights| !state.is_superuser(&set.user);
                let of = |list: &[Rights]| used(list.iter().filter(is_bound), names[1], names[2]);
                let (all, left) = (of(&sets), of(&self::sets(&without)));
                let gone: Vec<&String> = all.symmetric_difference(&left).collect();
                assert_eq!(gone, Vec::<&String>::new(), "seed {seed}: {}", finding.message);
            }
            Code::CannotConnect => {
                let comes = sets.iter().find(|set| set.user == names[0] && set.can_open(|_| true));
                assert!(comes.is_none(), "seed {seed}: {}", finding.message);
            }
            _ => continue,
        }
        *counts.entry(finding.code.slug()).or_default() += 1;
    }
}

/// Writes revokes of what some hold, and of what they do not.
fn revokes(rng: &mut fastrand::Rng, database: &str, objects: &[String], holders: &[String], privileges: &[&str]) -> String {
    let mut one = || {
        let (object, holder) = (rng.choice(objects)?, rng.choice(holders)?);
        let privilege = rng.choice(privileges)?;
        Some(format!("[[databases.{database}.grants]]\nrevoke = [{privilege:?}]\non = {object:?}\nfrom = [{holder:?}]\n"))
    };
    (0..6).filter_map(|_| one()).collect()
}

#[test]
fn what_is_found_on_database_servers_agrees_with_what_is_allowed() {
    let first = seed(52_000);
    println!("first seed {first}");
    let mut counts = BTreeMap::new();
    for seed in (first..).take(questions(100).div_ceil(10)) {
        let mut rng = fastrand::Rng::with_seed(seed);
        let size = databases::postgresql::Size { roles: 7, tables: 4, grants: 30 };
        let mut state = databases::postgresql::estate(&mut rng, "ticketing", "", size);
        let database = postgresql::ObjectName::database();
        if let Some(object) = state.objects.get_mut(&database).filter(|_| rng.bool()) {
            object.acl = postgresql::Acl::default();
        }
        let people = state.roles.iter().filter(|(_, role)| role.login).map(|(name, _)| name.clone());
        let tables: Vec<String> = state.objects.keys().map(ToString::to_string).filter(|name| name.starts_with("table ")).collect();
        let roles: Vec<String> = state.roles.keys().cloned().chain(["public".to_owned()]).collect();
        let more = revokes(&mut rng, "ticketing", &tables, &roles, &["select", "insert", "update", "delete"]);
        served(&(state.document("ticketing", None) + &more), people)
            .into_iter()
            .for_each(|server| holds_on_server(server, seed, &mut counts));
        let size = databases::mariadb::Size { logins: 3, roles: 3, tables: 4, grants: 30 };
        let state = databases::mariadb::estate(&mut rng, size);
        let people = state.accounts.keys().filter(|account| !account.user.is_empty()).map(|account| account.user.clone());
        let of_holder =
            |holder: &mariadb::Holder| if *holder == mariadb::Holder::Public { "public".to_owned() } else { holder.to_string() };
        let tables = state.grants.keys().filter(|(_, scope)| matches!(scope, mariadb::Scope::Table(..) | mariadb::Scope::Databases(_)));
        let (holders, scopes): (Vec<String>, Vec<String>) = tables.map(|(holder, scope)| (of_holder(holder), scope.to_string())).unzip();
        let more = revokes(&mut rng, "loyalty", &scopes, &holders, &["select", "insert", "update", "delete"]);
        served(&(state.document("loyalty", None) + &more), people)
            .into_iter()
            .for_each(|server| holds_on_server(server, seed, &mut counts));
    }
    println!("{counts:#?}");
    assert_eq!(counts.len(), 4, "{counts:?}");
}

/// A broad grant makes a narrow one needless only where no other grant can take the place of either.
#[test]
fn a_broad_grant_beside_a_narrow_one_is_found_where_nothing_stands_between_them() {
    let granted =
        |what: &str, on: &str, to: &str| format!("[[databases.points.grants]]\nallow = [\"{what}\"]\non = \"{on}\"\nto = [\"{to}\"]\n");
    let narrow = granted("select", "table points.member", "clerk@%");
    let of_role = granted("select", "table points.member", "reader");
    for (is_found, of, more) in [
        (true, &narrow, granted("select", "databases p*", "clerk@%")),
        (true, &narrow, granted("select", "everything", "clerk@%")),
        (true, &narrow, granted("select", "databases p*", "clerk@%") + &granted("insert", "databases q*", "clerk@%")),
        // The server takes the row of `points` alone, and that one says nothing of reading.
        (false, &narrow, granted("select", "databases p*", "clerk@%") + &granted("insert", "database points", "clerk@%")),
        (false, &narrow, granted("select", "databases p*", "clerk@%") + &granted("insert", "databases p*", "clerk@192.0.2.%")),
        (false, &narrow, granted("select", "databases p*", "clerk@%") + &granted("insert", "databases p*", "@192.0.2.%")),
        // A session from there has the narrow grant, and not what the other account holds on everything.
        (false, &narrow, granted("select", "everything", "clerk@%") + "[databases.points.accounts.\"clerk@192.0.2.%\"]\n"),
        (false, &narrow, granted("insert", "databases p*", "clerk@%")),
        (true, &of_role, granted("select", "databases p*", "reader") + &granted("insert", "databases p*", "writer")),
        // Whoever has both roles as one has the row of `points` alone.
        (false, &of_role, granted("select", "databases p*", "reader") + &granted("insert", "database points", "writer")),
    ] {
        let text = format!(
            "[systems.points]\nkind = \"mariadb\"\n[databases.points]\nobjects.\"table points.member\" = {{ columns = {{ id = \"int\" }} }}\n\
             [databases.points.roles]\nreader = {{}}\nwriter = {{ member-of = [\"reader\"] }}\n\
             [databases.points.accounts]\n\"clerk@%\" = {{ member-of = [\"writer\"] }}\n{}{of}{more}",
            if more.contains("@192") && !more.contains("accounts") { "\"clerk@192.0.2.%\" = {}\n\"@192.0.2.%\" = {}\n" } else { "" }
        );
        let found = hygiene(&engine(&text), None);
        let is = found.list().iter().any(|finding| finding.code == Code::BroadBesideNarrow);
        assert_eq!(is, is_found, "{of}{more}{found}");
    }
}

/// On PostgreSQL a grant is used by whoever inherits it and may look into the schema, and by the owner of a view; whoever becomes a
/// superuser mends things; and a role is not empty that may make roles, or that a policy names.
#[test]
fn what_is_said_of_a_role_holds_of_whoever_becomes_it() {
    let shut = (Code::SchemaShut, "`reader` holds");
    let may_look = "[[databases.db.grants]]\nallow = [\"usage\"]\non = \"schema fares\"\nto = [\"desk\"]\n";
    let (empty, nobody) = ((Code::EmptyDatabaseRole, "`spare`"), (Code::NoSuperuser, "no superuser"));
    let view = "[databases.db.objects.\"view public.short\"]\nowner = \"reader\"\nquery = \"select id from fares.price\"\ncolumns = { id = \"integer\" }\n";
    let policy = "[databases.db.objects.\"table public.log\"]\nowner = \"postgres\"\ncolumns = { id = \"integer\" }\nrow-security = true\n\
                  policies.all = { for = \"select\", to = [\"spare\"], using = \"true\" }\n";
    for ((code, words), is_found, more) in [
        (shut, true, String::new()),
        (shut, false, may_look.replace("desk", "reader")),
        // `desk` has the right of `reader`, and looks into the schema by its own.
        (shut, false, format!("{may_look}[databases.db.roles.desk]\nmember-of = [\"reader\"]\n[databases.db.accounts.clerk]\ninherit = false\nmember-of = [\"desk\"]\n")),
        // Nobody comes to `desk`.
        (shut, true, format!("{may_look}[databases.db.roles.desk]\nmember-of = [\"reader\"]\n")),
        // Whoever becomes `reader` looks as `reader`.
        (shut, true, format!("{may_look}[databases.db.roles.desk]\ninherit = false\nmember-of = [\"reader\"]\n[databases.db.accounts.clerk]\nmember-of = [\"desk\"]\n")),
        (shut, false, view.to_owned()),
        (empty, true, "[databases.db.roles.spare]\n".to_owned()),
        (empty, false, "[databases.db.roles.spare]\nmay = [\"create-role\"]\n".to_owned()),
        (empty, false, format!("[databases.db.roles.spare]\n{policy}")),
        (nobody, true, "[databases.db.accounts.postgres]\nmay = [\"superuser\"]\nuntil = 2026-01-01\n".to_owned()),
        (
            nobody,
            false,
            "[databases.db.accounts.postgres]\nmay = [\"superuser\"]\nuntil = 2026-01-01\n[databases.db.roles.chief]\nmay = [\"superuser\"]\n\
             [databases.db.accounts.clerk]\nmember-of = [\"chief\"]\n"
                .to_owned(),
        ),
    ] {
        let text = format!(
            "[systems.db]\nkind = \"postgresql\"\n[databases.db]\n[databases.db.roles.reader]\n\
             [databases.db.objects]\n\"schema fares\" = {{ owner = \"postgres\" }}\n\
             \"table fares.price\" = {{ owner = \"postgres\", columns = {{ id = \"integer\" }} }}\n\
             [[databases.db.grants]]\nallow = [\"select\"]\non = \"table fares.price\"\nto = [\"reader\"]\n{more}"
        );
        let found = hygiene(&engine(&text), Some("2026-11-27T06:10:00Z".parse().expect("a moment")));
        let is = found.list().iter().any(|finding| finding.code == code && finding.message.contains(words));
        assert_eq!(is, is_found, "{more}{found}");
    }
}

/// Why a session cannot be left: the sets do not permit it, or the line wants a level that nobody comes to, also without any set.
#[test]
fn what_keeps_somebody_in_a_session_is_named() {
    let wants = "`leave` wants level 7, and these sessions do not come to it";
    for (role, system, label) in [
        ("band = { start = 1, ceiling = 1 }", "no-command-set = 'everything'", Some(wants)),
        ("band = { start = 1, ceiling = 1 }\ncommands = ['all']", "no-command-set = 'nothing'", Some(wants)),
        ("band = { start = 7, ceiling = 7 }", "no-command-set = 'everything'", None),
        ("band = { start = 7, ceiling = 7 }\ncommands = ['looks']", "no-command-set = 'nothing'", Some("`leave` is not permitted")),
        // Who may nothing at all has no session that is worth the word.
        ("band = { start = 1, ceiling = 1 }", "no-command-set = 'nothing'", None),
    ] {
        let found = hygiene(
            &engine(&format!(
                "users.mate-1.proofs = ['password']\n\
                 vocabularies.make.commands = [{{ line = 'show log', level = 0 }}, {{ line = 'leave', level = 7, does = 'leave-session' }}]\n\
                 command-sets.all.rules = ['allow ...']\ncommand-sets.looks.rules = ['allow show ...']\n\
                 [systems.sw]\nkind = 'network-device'\nvocabulary = 'make'\n{system}\n\
                 authorisation = {{ levels = 'all', configuration = true }}\n\
                 [roles.looker]\n{role}\n[[assignments]]\nto = ['user:mate-1']\nroles = ['looker']\non = {{ systems = ['sw'] }}\n"
            )),
            None,
        );
        let stuck = found.list().iter().find(|finding| finding.code == Code::CannotLeave);
        let told = stuck.and_then(|finding| finding.primary.as_ref()).map(|label| label.text.as_str());
        assert_eq!(told, label, "{role} {system}\n{found}");
    }
}

/// Nobody can agree where none of those named may do the same, whichever entry asks for it; of people who may on some objects alone nothing
/// is said.
#[test]
fn a_second_person_whom_nobody_can_be_is_found() {
    let people = "users.mate-1.proofs = ['password']\nusers.mate-2.proofs = ['password']\nusers.gone-1 = { disabled = true }\n\
                  [groups.leads]\nmembers = ['user:mate-2', 'user:gone-1']\n[groups.empty]\n[groups.gone]\nmembers = ['user:gone-1']\n";
    let grant = |allow: &str, to: &str, more: &str| format!("{{ allow = ['{allow}'], on = 'shift/*', to = ['{to}'] {more} }}, ");
    let rota = |types: &str, grants: &str| {
        format!("[systems.rota]\nkind = 'application'\n[applications.rota]\n{types}\nobjects.'shift/early' = {{}}\ngrants = [{grants}]\n")
    };
    let plain = "types.shift.rights = ['plan', 'agree']";
    let wants = |whom: &str| format!(", after = {{ second-person = ['{whom}'] }}");
    let sky = |grants: &str| {
        format!("[systems.sky]\nkind = 'cloud'\n[clouds.sky]\noperations.'rack.read' = {{}}\nresources.deck = {{}}\ngrants = [{grants}]\n")
    };
    let on_deck = |to: &str, more: &str| format!("{{ allow = ['rack.read'], on = 'deck/**', to = ['{to}'] {more} }}, ");
    let of_role = |sky: &str, more: &str| {
        let grant = "{ allow = ['rack.read'], on = 'deck/**', after = { second-person = ['group:leads'] } }";
        format!("{sky}[roles.reader]\ngrants = [{grant}]\n{more}")
    };
    let device = |whom: &str, more: &str| {
        format!(
            "[vocabularies.make]\ncommands = [{{ line = 'show log', level = 0 }}]\n\
             [command-sets.looks]\nrules = [{{ allow = 'show ...', after = {{ second-person = ['{whom}'] }} }}]\n\
             [systems.sw]\nkind = 'network-device'\nvocabulary = 'make'\nno-command-set = 'nothing'\n\
             authorisation = {{ levels = 'all', configuration = true }}\n{more}\n\
             [roles.looker]\nband = {{ start = 1, ceiling = 1 }}\ncommands = ['looks']\n\
             [[assignments]]\nto = ['user:mate-1']\nroles = ['looker']\non = {{ systems = ['sw'] }}\n"
        )
    };
    for (is_found, text) in [
        (true, rota(plain, &grant("plan", "user:mate-1", &wants("group:empty")))),
        (true, rota(plain, &grant("plan", "user:mate-1", &wants("group:leads")))),
        (true, rota(plain, &(grant("plan", "user:mate-1", &wants("group:gone")) + &grant("plan", "group:gone", "")))),
        (false, rota(plain, &grant("plan", "user:mate-1", &wants("anyone")))),
        (false, rota(plain, &(grant("plan", "user:mate-1", &wants("group:leads")) + &grant("plan", "group:leads", "")))),
        // Who holds another right may not agree, unless that is the one that is wanted.
        (true, rota(plain, &(grant("plan", "user:mate-1", &wants("group:leads")) + &grant("agree", "group:leads", "")))),
        (
            false,
            rota(
                "types.shift = { rights = ['plan', 'agree'], second-person-right = 'agree' }",
                &(grant("plan", "user:mate-1", &wants("group:leads")) + &grant("agree", "group:leads", "")),
            ),
        ),
        (true, sky(&on_deck("user:mate-1", &wants("group:leads")))),
        (false, sky(&(on_deck("user:mate-1", &wants("group:leads")) + &on_deck("group:leads", "")))),
        (true, sky(&on_deck("user:mate-1", "")).replace("deck = {}", "deck.after = { second-person = ['group:leads'] }")),
        // Of what nobody is given there nothing is said.
        (false, of_role(&sky(""), "")),
        (true, of_role(&sky(""), "[[assignments]]\nto = ['user:mate-1']\nroles = ['reader']\non = { all = true }\n")),
        (true, of_role(&sky(""), "[roles.reader.assumable]\nby = ['user:mate-1']\n")),
        (false, of_role(&sky(""), "[[assignments]]\nto = ['user:mate-1', 'group:leads']\nroles = ['reader']\non = { all = true }\n")),
        (true, device("group:empty", "")),
        (true, device("group:leads", "")),
        (false, device("user:mate-1", "")),
        (false, device("group:leads", "accounts.desk = { band = { start = 1, ceiling = 1 }, used-by = ['group:leads'] }")),
        (true, device("group:gone", "accounts.desk = { band = { start = 1, ceiling = 1 }, used-by = ['group:gone'] }")),
    ] {
        let found = hygiene(&engine(&format!("{people}{text}")), None);
        let is = found.list().iter().any(|finding| finding.code == Code::NoSecondPerson);
        assert_eq!(is, is_found, "{text}{found}");
    }
}

/// An assignment that decides nothing gives its roles all the same, and so it is said where they are kept apart.
#[test]
fn an_assignment_that_does_nothing_may_keep_somebody_from_something() {
    let text = "users.mate-1.proofs = ['password']\nvocabularies.make.commands = [{ line = 'show log', level = 0 }]\n\
                systems.sw = { kind = 'network-device', vocabulary = 'make', no-command-set = 'everything', labels = { class = 'switch' } }\n\
                roles.one.band = { start = 1, ceiling = 1 }\nroles.two.band = { start = 1, ceiling = 1 }\n\
                [[assignments]]\nto = ['user:mate-1']\nroles = ['one']\non = { systems = ['sw'] }\n\
                [[assignments]]\nto = ['user:mate-1']\nroles = ['two']\n";
    for (on, code) in
        [("{ systems = ['sw'] }", Code::AssignmentHidden), ("{ labels = { class = 'router' } }", Code::AssignmentCoversNothing)]
    {
        for (apart, is_said) in [("", false), ("[separations.apart]\nroles = ['one', 'two']\nnever = 'held'\n", true)] {
            let engine = engine(&format!("{text}on = {on}\n{apart}"));
            let found = hygiene(&engine, None);
            let finding = found.list().iter().find(|finding| finding.code == code).expect("it is found");
            let is = finding.secondary.iter().any(|label| label.text == "whom it names holds `two` all the same, which is kept apart here");
            assert_eq!(is, is_said, "{found}");
            let question = Question::new("mate-1", "sw", "show log");
            assert_eq!(engine.decide(&question).refusal, is_said.then_some(Refusal::DutiesNotSeparated));
        }
    }
}

/// A deny is passed by a spelling that is let through, and by none that another rule catches.
#[test]
fn a_deny_that_is_passed_is_found_where_a_line_passes_it() {
    for (rules, passed) in [
        (r#""deny /opt/b {word}", "allow /opt/b ...""#, Some("/opt/b ../x")),
        (r#""deny /opt/b /srv/*.txt", "allow /opt/b ...""#, Some("/opt/b /srv/../x.txt")),
        (r#""deny /opt/b {number} {word}", "allow /opt/b ...""#, Some("/opt/b 7 ../x")),
        (r#""deny /opt/b {word} ...", "allow /opt/b ...""#, Some("/opt/b ../x")),
        // What catches it before, what catches it between, and where nothing lets it through.
        (r#""deny /opt/b ...", "deny /opt/b {word}", "allow /opt/b ...""#, None),
        (r#""deny /opt/b {word}", "deny /opt/b ...", "allow /opt/b ...""#, None),
        (r#""deny /opt/b {word}", "allow /opt/c ...""#, None),
        (r#""deny /opt/b {word}", "allow /opt/b {word} ...""#, None),
        (r#""deny /opt/b {number}", "allow /opt/b ...""#, None),
        (r#""allow /opt/b ...", "deny /opt/b {word}""#, None),
    ] {
        let engine = engine(&format!(
            "users.lead-1.proofs = [\"password\"]\ncommand-sets.most.rules = [{rules}]\nsystems.box = {{ kind = \"host\", no-command-set = \"nothing\" }}\nhosts.box.accounts = {{ lead-1 = {{}}, batch = {{}} }}\nhosts.box.run-as = [{{ by = [\"user:lead-1\"], as = [\"batch\"], commands = [\"most\"], proof = false }}]\n"
        ));
        let found = hygiene(&engine, None);
        let lines: Vec<&str> = found
            .list()
            .iter()
            .filter(|finding| finding.code == Code::DenyPassed)
            .filter_map(|finding| finding.message.split_once("does not catch `")?.1.strip_suffix('`'))
            .collect();
        assert_eq!(lines, passed.into_iter().collect::<Vec<_>>(), "{rules}");
        for line in lines {
            let asked = Question::new("lead-1", "box", line).acting("account:batch".parse().expect("an act"));
            assert_eq!(engine.decide(&asked).verdict, Verdict::Allowed, "{rules}: {line}");
        }
    }
}

/// A deny until identity is proven shuts everybody out only where it holds in every session and on everything.
#[test]
fn a_proof_that_cannot_be_obtained_is_found_where_it_cannot() {
    let deny = |more: &str| {
        format!(
            "users.lead-1.proofs = [\"password\", \"one-time-code\"]\nsystems.sky.kind = \"cloud\"\nclouds.sky.operations = {{ \"records.read\" = {{}}, \"codes.confirm\" = {{}} }}\nclouds.sky.resources = {{ line = {{}}, \"line/desk\" = {{}}, quay = {{}} }}\nclouds.sky.obtains.one-time-code = [\"codes.confirm\"]\nclouds.sky.grants = [{{ allow = [\"all\"], on = \"**\", to = [\"user:lead-1\"] }}, {{ to = [\"user:lead-1\"], lifted-by = {{ proof = [\"one-time-code\"], proof-age = \"1h\" }}, {more} }}]\n"
        )
    };
    for (more, is_found) in [
        (r#"deny = ["all"], on = "**""#, true),
        (r#"deny = ["all"], on = ["line", "quay"]"#, true),
        (r#"deny = ["all"], except = ["codes.confirm"], on = "**""#, false),
        (r#"deny = ["all"], on = "line""#, false),
        (r#"deny = ["all"], on = "**", except-on = "line/desk""#, false),
        (r#"deny = ["all"], on = "**", when = { channel = ["web"] }"#, false),
    ] {
        let engine = engine(&deny(more));
        let found = hygiene(&engine, None).list().iter().any(|finding| finding.code == Code::ProofUnobtainable);
        let password = vec![Proven::new(Proof::Password, jiff::SignedDuration::ZERO)];
        let sessions = [None, Some(Channel::Web), Some(Channel::Terminal)];
        let mut asked = ["line", "line/desk", "quay"].iter().flat_map(|path| {
            sessions.map(|channel| {
                let session = Session { channel, proofs: Some(password.clone()), ..Session::default() };
                Question::in_session("lead-1", "sky", &format!("codes.confirm on {path}"), session)
            })
        });
        let can = asked.any(|question| engine.decide(&question).verdict == Verdict::Allowed);
        assert_eq!((found, can), (is_found, !is_found), "{more}");
    }
}

/// A reset is a way up only where it is really allowed, and whose credential it is really may more.
#[test]
fn a_way_up_by_a_reset_is_found_where_it_is_one() {
    let reset = |to: &str| format!("{{ allow = [\"reset-credential\"], on = \"user/*\", to = [\"{to}\"] }}");
    let read = |verb: &str, to: &str| format!("{{ {verb} = [\"records.read\"], on = \"line\", to = [\"{to}\"] }}");
    let (desk, lead) = (reset("user:desk-1"), read("allow", "user:lead-1"));
    let of_role = |on: &str| {
        format!("roles.helper = {{}}\nassignments = [{{ to = [\"group:desk\"], roles = [\"helper\"], on = {{ systems = [\"{on}\"] }} }}]\n")
    };
    for (is_found, grants, more) in [
        (true, vec![desk.clone(), lead.clone()], String::new()),
        (false, vec![desk.replace("to =", "except-on = \"user/lead-1\", to ="), lead.clone()], String::new()),
        (false, vec![desk.clone(), lead.clone(), desk.replace("allow", "deny")], String::new()),
        (false, vec![desk.clone(), lead.clone(), read("deny", "user:lead-1")], String::new()),
        (
            true,
            vec![desk.clone(), lead.clone(), read("allow", "user:desk-1").replace("allow =", "when = { channel = [\"web\"] }, allow =")],
            String::new(),
        ),
        (false, vec![desk.clone(), lead.clone(), read("allow", "user:desk-1")], String::new()),
        (false, vec![desk.clone(), lead.clone()], "users.desk-1.disabled = true\n".to_owned()),
        (false, vec![desk.clone(), lead.clone()], "users.lead-1.disabled = true\n".to_owned()),
        (true, vec![reset("group:desk"), lead.clone()], String::new()),
        (true, vec![reset("role:helper"), lead.clone()], of_role("sky")),
        (false, vec![reset("role:helper"), lead.clone()], of_role("far")),
    ] {
        let engine = engine(&format!(
            "users.desk-1.proofs = [\"password\"]\nusers.lead-1.proofs = [\"password\"]\ngroups.desk.members = [\"user:desk-1\"]\nsystems.sky.kind = \"cloud\"\nsystems.far.kind = \"cloud\"\nclouds.sky.operations.\"records.read\" = {{}}\nclouds.sky.resources.line = {{}}\n{more}clouds.sky.grants = [{}]\n",
            grants.join(", ")
        ));
        let found = hygiene(&engine, None).list().iter().any(|finding| finding.code == Code::ResetUpwards);
        let may = |who: &str, line: &str, channel| {
            let session =
                Session { channel, proofs: Some(vec![Proven::new(Proof::Password, jiff::SignedDuration::ZERO)]), ..Session::default() };
            engine.decide(&Question::in_session(who, "sky", line, session)).verdict == Verdict::Allowed
        };
        let gains = [None, Some(Channel::Web), Some(Channel::Terminal)]
            .into_iter()
            .any(|channel| may("lead-1", "records.read on line", channel) && !may("desk-1", "records.read on line", channel));
        assert_eq!((found, may("desk-1", "reset-credential on user/lead-1", None) && gains), (is_found, is_found), "{grants:?} {more}");
    }
}
