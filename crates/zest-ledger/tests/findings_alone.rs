//! What is found on a device, held exactly against the sets of rights, where there is one device and one assignment alone: what is found is
//! so, and what is so is found.

use std::collections::BTreeMap;
use std::sync::Arc;

use zest_ledger::Engine;
use zest_ledger::ask::{Central, Question, Session, Verdict};
use zest_ledger::entry::{Assignment, Band, Does, Kind, On, Role, System, User};
use zest_ledger::estate::{AssignmentId, Table};
use zest_ledger::finding::Code;
use zest_ledger::review::{Between, Difference, Touched, hygiene};
use zest_ledger::rights::{Rights, Within};
use zest_ledger::source::At;
use zest_testkit::{questions, seed};

/// Returns the ledger with one of its assignments, on one of the devices.
fn alone(engine: &Engine, number: usize) -> Option<Engine> {
    let estate = engine.estate();
    let devices: Vec<&str> =
        estate.systems().iter().filter(|system| system.kind() == Kind::NETWORK_DEVICE).map(|system| system.id.value.as_str()).collect();
    let device = *devices.get(number % devices.len().max(1))?;
    let mut entries = estate.entries().clone();
    // Local accounts are looked at by themselves.
    let alone = |system: &Arc<System>| Arc::new(System { accounts: Vec::new(), ..system.as_ref().clone() });
    entries.systems = estate.systems().iter().filter(|system| system.id.value == *device).map(alone).collect();
    let own = Assignment { on: On::systems(&[device]), ..estate.assignments().get(number)?.as_ref().clone() };
    entries.assignments = std::iter::once(Arc::new(own)).collect();
    entries.databases = Table::default();
    entries.services = Table::default();
    entries.hosts = Table::default();
    entries.separations = Table::default();
    entries.expectations = Table::default();
    entries.promises = Table::default();
    entries.meant_ways = Table::default();
    engine.with_entries(entries).ok()
}

/// Returns whether the central source answers for a session.
fn is_central(session: &Session) -> bool {
    session.central == Central::Up && session.account.is_none()
}

/// What is so on the device, by the sets of everybody.
struct Device<'e> {
    engine: &'e Engine,
    name: &'e str,
    sets: Vec<Rights>,
}

impl<'e> Device<'e> {
    fn of(engine: &'e Engine) -> Self {
        let name = engine.estate().systems().get(0).expect("there is one").id.value.as_str();
        // Until the credential is changed nothing else can be done, whatever the sets permit.
        let is_free = |user: &&Arc<User>| !user.must_change_credential.as_ref().is_some_and(|must| must.value);
        let users = engine.estate().users().iter().filter(is_free);
        let sets = users.filter_map(|user| engine.rights(&user.id.value, name, &Within::default())).collect();
        Self { engine, name, sets }
    }

    fn opens(&self, is_meant: impl Fn(&Session) -> bool) -> bool {
        self.sets.iter().any(|set| set.can_open(|session| is_central(session) && is_meant(session)))
    }

    /// Returns sessions of the assignment that somebody comes to, in a mode.
    fn sessions(&self, is_meant: impl Fn(&Session) -> bool) -> Vec<Question> {
        let is_meant = |session: &&Session| is_central(session) && is_meant(session);
        let of =
            |set: &Rights| set.openings().iter().map(|o| &o.session).filter(is_meant).filter_map(|s| set.opened(s)).collect::<Vec<_>>();
        self.sets.iter().flat_map(of).collect()
    }

    /// Returns whether somebody can run a command of a mode, or of the deck, that does something; nothing where there is none, or nobody
    /// comes there.
    fn runs(&self, does: Does, mode: Option<&str>) -> Option<bool> {
        let estate = self.engine.estate();
        let sessions = self.sessions(|session| session.mode.as_deref() == mode);
        let commands: Vec<&str> = estate
            .vocabularies()
            .iter()
            .flat_map(|vocabulary| &vocabulary.commands)
            .filter(|command| mode.map_or(command.modes.is_empty(), |mode| command.modes.iter().any(|of| of.value == mode)))
            .filter(|command| command.does.as_ref().is_some_and(|it| it.value == does))
            .map(|command| command.line.value.as_str())
            .collect();
        if sessions.is_empty() || commands.is_empty() {
            return None;
        }
        let runs = |question: &Question, line: &str| {
            let question = Question { line: line.to_owned(), ..question.clone() };
            self.engine.decide(&question).verdict != Verdict::Denied
        };
        Some(sessions.iter().any(|question| commands.iter().any(|line| runs(question, line))))
    }
}

/// Returns the bands that the roles of the assignment give.
fn bands(engine: &Engine) -> Vec<&Band> {
    let estate = engine.estate();
    let mut names: Vec<&str> = estate.assignments().iter().flat_map(|a| a.roles.iter().map(|role| role.value.as_str())).collect();
    let mut next = 0;
    while let Some(&name) = names.get(next) {
        let included = estate.roles().iter().filter(|role| role.id.value == name).flat_map(|role| &role.includes);
        for role in included.map(|role| role.value.as_str()) {
            if !names.contains(&role) {
                names.push(role);
            }
        }
        next += 1;
    }
    estate.roles().iter().filter(|role| names.contains(&role.id.value.as_str())).filter_map(|role| role.band.as_ref()).collect()
}

/// Returns what anybody gains and loses where each role is another.
fn changed(engine: &Engine, other: impl Fn(&Role) -> Role) -> Vec<Difference> {
    let mut entries = engine.estate().entries().clone();
    entries.roles = entries.roles.iter().map(|role| Arc::new(other(role))).collect();
    let changed = engine.with_entries(entries).expect("it is a ledger as well");
    Between::new(engine, &changed, &Session::default(), &Touched::everything()).all()
}

fn holds(engine: &Engine, seed: u64, counts: &mut BTreeMap<(&'static str, bool), usize>) {
    let found = hygiene(engine, None);
    let device = Device::of(engine);
    let has = |code: Code| found.list().iter().any(|finding| finding.code == code);
    let mut is = |code: Code, so: bool| {
        *counts.entry((code.slug(), so)).or_default() += 1;
        assert_eq!(has(code), so, "seed {seed}, {code:?} on {}\n{found}", device.name);
    };
    let somebody_comes = device.opens(|_| true);
    let standing = engine.standing(AssignmentId::new(0)).1;
    if standing.band.is_none() {
        assert!(!somebody_comes, "seed {seed}: a session without a band\n{found}");
        return is(Code::AssignmentWithoutBand, true);
    }
    is(Code::AssignmentWithoutBand, false);
    if !somebody_comes {
        return;
    }
    // Where command sets are never asked, none of them does anything.
    if !standing.sets().is_empty() && has(Code::CommandSetsNotAsked) {
        let changed = changed(engine, |role| Role { commands: Vec::new(), ..role.clone() });
        assert_eq!(changed, [], "seed {seed}\n{found}");
        is(Code::CommandSetsNotAsked, true);
    }
    if standing.sets().is_empty() || has(Code::CommandSetsNotAsked) {
        return;
    }
    if let [band] = bands(engine).as_slice()
        && band.ceiling.value > band.start.value
        && !has(Code::LevelUnauthorised)
    {
        is(Code::CeilingUnreachable, !device.opens(|session| session.level == Some(band.ceiling.value)));
    }
    for (does, code) in [(Does::LeaveSession, Code::CannotLeave), (Does::ShowLevel, Code::CannotShowLevel)] {
        if let Some(runs) = device.runs(does, None) {
            is(code, !runs);
        }
    }
    if let Some(runs) = device.runs(Does::LeaveMode, Some("settings")) {
        is(Code::CannotLeaveMode, !runs);
    }
    // What a rule permits and the ceiling forbids is permitted where the ceiling is higher.
    if has(Code::ElevationAboveCeiling) {
        is(Code::ElevationAboveCeiling, true);
        let raised = |band: &Band| Band { ceiling: At::here(15), ..band.clone() };
        let changed = changed(engine, |role| Role { band: role.band.as_ref().map(raised), ..role.clone() });
        assert!(!changed.is_empty(), "seed {seed}\n{found}");
    }
}

#[test]
fn what_is_found_of_one_assignment_on_one_device_is_so_and_nothing_else_is() {
    let first = seed(49_000);
    println!("first seed {first}");
    let mut counts = BTreeMap::new();
    for seed in (first..).take(questions(500).div_ceil(10)) {
        let estate = zest_testkit::random::Source::new(seed).ledger().estate().expect("a valid ledger");
        let engine = Engine::compile(estate).expect("a random ledger compiles");
        for number in 0..engine.estate().assignments().len().min(3) {
            alone(&engine, number).iter().for_each(|engine| holds(engine, seed, &mut counts));
        }
    }
    println!("{counts:#?}");
    for code in [Code::CeilingUnreachable, Code::CannotLeave, Code::CannotShowLevel, Code::CannotLeaveMode] {
        for so in [true, false] {
            assert!(counts.contains_key(&(code.slug(), so)), "{code:?} was {so} nowhere: {counts:?}");
        }
    }
}
