//! Random clouds and questions. The same seed makes the same ones.

use fastrand::Rng;
use jiff::{SignedDuration, Timestamp};
use zest_ledger::ask::Act;
use zest_ledger::entry::{
    Assignment, Assumable, Ceiling, Channel, Grant, Group, Kind, Obligations, On, Proof, Resource, Role, Service, System, User, When,
};
use zest_ledger::source::At;
use zest_ledger::{Ledger, Question};

/// Names of users, groups and roles: a few, so that they meet.
const USERS: [&str; 5] = ["u0", "u1", "u2", "u3", "u4"];
const GROUPS: [&str; 4] = ["g0", "g1", "g2", "g3"];
const ROLES: [&str; 4] = ["r0", "r1", "r2", "r3"];
const OPERATIONS: [(&str, bool); 6] =
    [("disk.read", true), ("disk.write", false), ("disk.wipe", false), ("key.read", true), ("key.turn", false), ("code.give", false)];
const NAMES: [&str; 8] = ["all", "read", "write", "disk.*", "disk.read", "key.turn", "pair", "assume"];
const PATHS: [&str; 6] = ["a", "a/b", "a/b/c", "a/d", "e", "e/f"];
const PATTERNS: [&str; 9] = ["**", "a", "a/*", "a/b", "a/b/c", "a/**", "e", "*/b", "role/*"];
const COLOURS: [&str; 2] = ["red", "blue"];
/// The moment around which everything happens.
const NOW: i64 = 1_795_766_400;

/// A source of random clouds and questions.
#[derive(Debug)]
pub struct Source {
    rng: Rng,
}

impl Source {
    /// Makes a source from a seed.
    #[must_use]
    pub fn new(seed: u64) -> Self {
        Self { rng: Rng::with_seed(seed) }
    }

    fn pick<'a>(&mut self, list: &[&'a str]) -> &'a str {
        list[self.rng.usize(..list.len())]
    }

    fn one_in(&mut self, n: u32) -> bool {
        self.rng.u32(..n) == 0
    }

    fn moment(&mut self) -> Timestamp {
        Timestamp::from_second(NOW + self.rng.i64(-3..4) * 1800).expect("within range")
    }

    fn holder(&mut self) -> String {
        match self.rng.u32(..5) {
            0 | 1 => format!("group:{}", self.pick(&GROUPS)),
            2 => format!("role:{}", self.pick(&ROLES)),
            _ => format!("user:{}", self.pick(&USERS)),
        }
    }

    fn party(&mut self) -> String {
        if self.rng.bool() { format!("group:{}", self.pick(&GROUPS)) } else { format!("user:{}", self.pick(&USERS)) }
    }

    fn when(&mut self) -> When {
        let mut when = When::new();
        match self.rng.u32(..16) {
            0 | 1 => {
                when = when.proof(Proof::OneTimeCode);
                if self.rng.bool() {
                    when = when.proof_age(SignedDuration::from_mins(30));
                }
            }
            2 => when = when.channel(Channel::Web),
            3 => when = when.compare("user.colour = resource.colour"),
            4 => when = when.compare("session.ticket = 'yes'"),
            5 => when = when.origin("192.0.2.0/25").compare("user.colour != 'red'"),
            6 => when = when.proof(Proof::Password).proof_older(SignedDuration::from_mins(30)),
            _ => {}
        }
        when
    }

    fn after(&mut self) -> Obligations {
        match self.rng.u32(..10) {
            0 => Obligations::confirm(),
            1 => Obligations::second_person("anyone"),
            2 => Obligations::second_person(&self.party()),
            3 => {
                let mut after = Obligations::confirm();
                after.prove_again = Some(At::here(SignedDuration::from_mins(10)));
                after
            }
            _ => Obligations::default(),
        }
    }

    fn grant(&mut self, of_role: bool) -> Grant {
        let mut names = vec![self.pick(&NAMES)];
        if self.rng.bool() {
            names.push(self.pick(&NAMES));
        }
        let mut grant = if self.one_in(7) { Grant::deny(&names) } else { Grant::allow(&names) };
        if self.one_in(3) {
            let except = self.pick(&["disk.read", "code.give", "key.*"]);
            grant = grant.except(&[except]);
        }
        if !of_role || self.rng.bool() {
            grant = grant.on(self.pick(&PATTERNS));
        }
        if self.one_in(4) {
            grant = grant.except_on(self.pick(&PATTERNS));
        }
        if !of_role {
            grant = grant.to(&self.holder());
            if self.rng.bool() {
                grant = grant.to(&self.holder());
            }
        }
        grant = grant.when(self.when());
        if self.one_in(3) {
            grant = grant.lifted_by(self.when());
        }
        if self.one_in(6) {
            grant = grant.valid_until(self.moment());
        }
        grant.after(self.after())
    }

    /// Makes a ledger of one cloud, `sky`.
    pub fn ledger(&mut self) -> Ledger {
        let mut ledger = Ledger::new();
        for id in USERS {
            let mut user = User::new(id);
            if !self.one_in(25) {
                user = user.proof(Proof::Password).proof(Proof::OneTimeCode);
            }
            if self.one_in(30) {
                user = user.disabled(true);
            }
            if self.one_in(30) {
                user = user.must_change_credential(true);
            }
            if self.rng.bool() {
                user = user.attribute("colour", self.pick(&COLOURS));
            }
            ledger = ledger.user(user);
        }
        for (i, id) in GROUPS.iter().enumerate() {
            let mut group = Group::new(id);
            for _ in 0..self.rng.u32(..3) {
                group = group.member(&format!("user:{}", self.pick(&USERS)));
            }
            if i > 0 && self.rng.bool() {
                group = group.member(&format!("group:{}", GROUPS[self.rng.usize(..i)]));
            }
            ledger = ledger.group(group);
        }
        for (i, id) in ROLES.iter().enumerate() {
            let mut role = Role::new(id);
            for _ in 0..self.rng.u32(..3) {
                role = role.grant(self.grant(true));
            }
            for _ in 0..[0, 0, 1, 2][self.rng.usize(..4)].min(i) {
                role = role.includes(ROLES[self.rng.usize(..i)]);
            }
            if self.rng.bool() {
                let mut assumable = Assumable { when: self.when(), ..Assumable::default() };
                for _ in 0..=self.rng.u32(..3) {
                    let holder = self.holder();
                    assumable.by.push(At::here(holder));
                }
                if self.rng.bool() {
                    assumable.longest = Some(At::here(SignedDuration::from_mins(30)));
                }
                if self.rng.bool() {
                    assumable.may_state.push(At::here("shift".to_owned()));
                }
                role = role.assumable(assumable);
            }
            ledger = ledger.role(role);
        }
        for _ in 0..self.rng.u32(..3) {
            let mut on = On::systems(&["sky"]);
            if self.rng.bool() {
                on.at = Some(At::here(self.pick(&PATHS).to_owned()));
            }
            let mut assignment = Assignment::new(on).to(&self.party()).role(self.pick(&ROLES)).when(self.when());
            if self.one_in(4) {
                assignment = assignment.role(self.pick(&ROLES));
            }
            ledger = ledger.assignment(assignment);
        }
        // A colour somewhere, so that comparisons are not of what nothing has.
        let mut service = Service::new("sky").session_attribute("ticket").resource(Resource::new("z").attribute("colour", "red"));
        for (name, reads) in OPERATIONS {
            service = service.operation(name);
            if let Some(operation) = service.operations.last_mut() {
                operation.reads = Some(At::here(reads));
            }
        }
        service
            .operation_groups
            .push((At::here("pair".to_owned()), vec![At::here("disk.write".to_owned()), At::here("key.read".to_owned())]));
        for path in PATHS {
            let mut resource = Resource::new(path);
            if self.rng.bool() {
                resource = resource.attribute("colour", self.pick(&COLOURS));
            }
            if self.one_in(6) {
                resource = resource.after(self.after());
            }
            service = service.resource(resource);
        }
        for _ in 0..self.rng.u32(3..10) {
            service = service.grant(self.grant(false));
        }
        for _ in 0..self.rng.u32(..4) {
            let holder = self.holder();
            let after = self.after();
            service = service.grant(Grant::allow(&["assume"]).on("role/*").to(&holder).after(after));
        }
        for _ in 0..[0, 0, 1, 2][self.rng.usize(..4)] {
            let names = [self.pick(&NAMES), self.pick(&NAMES)];
            let mut ceiling = Ceiling::allow(&names);
            if self.rng.bool() {
                ceiling = ceiling.of(&self.holder());
            }
            if self.rng.bool() {
                ceiling = ceiling.within(self.pick(&PATHS));
            }
            ceiling.when = self.when();
            service = service.ceiling(ceiling);
        }
        for _ in 0..self.rng.u32(..3) {
            let (target, by) = (self.pick(&USERS), self.party());
            if by != format!("user:{target}") {
                service = service.acting(&format!("user:{target}"), &[&by]);
            }
        }
        if self.one_in(4) {
            service.proofs_cover.push((At::here(Channel::Web), vec![At::here(Channel::Api)]));
        }
        ledger = ledger.user(User::new("tinted").proof(Proof::Key).attribute("colour", "blue"));
        let mut system = System::of_kind("sky", Kind::CLOUD);
        system = system.label("stage", "test");
        ledger.system(system).service(service)
    }

    /// Makes a question about such a cloud.
    pub fn question(&mut self) -> Question {
        let operation = if self.one_in(20) { "disk.raed" } else { OPERATIONS[self.rng.usize(..OPERATIONS.len())].0 };
        let path = if self.one_in(20) { "y/none" } else { self.pick(&["a", "a/b", "a/b/c", "a/d", "e", "e/f", "a/b/new", "e/f/g/h"]) };
        let user = self.pick(&USERS);
        let mut question = Question::new(user, "sky", &format!("{operation} on {path}"));
        if !self.one_in(4) {
            question = question.at(Timestamp::from_second(NOW).expect("within range"));
        }
        if self.rng.bool() {
            question = question.channel([Channel::Web, Channel::Api][self.rng.usize(..2)]);
        }
        if self.rng.bool() {
            question = question.from(["192.0.2.9", "192.0.2.200"][self.rng.usize(..2)].parse().expect("an address"));
        }
        match self.rng.u32(2..20) {
            2 => question.session.proofs = Some(Vec::new()),
            3 | 8 | 9 => question = question.proof(Proof::Password, SignedDuration::from_mins(40)),
            4 => question = question.proof(Proof::OneTimeCode, SignedDuration::from_mins(29)),
            5 => question = question.proof_on(Channel::Web, Proof::OneTimeCode, SignedDuration::from_mins(5)),
            6 => {
                question =
                    question.proof(Proof::Password, SignedDuration::from_mins(40)).proof(Proof::OneTimeCode, SignedDuration::from_mins(31));
            }
            7 | 10 | 11 | 12 | 13 => {
                question = question.proof(Proof::Password, SignedDuration::from_mins(5)).proof(Proof::OneTimeCode, SignedDuration::ZERO)
            }
            _ => {}
        }
        if self.one_in(3) {
            question = question.attribute("ticket", self.pick(&["yes", "no"]));
        }
        if self.one_in(40) {
            question = question.attribute("shift", "night");
        }
        for _ in 0..[0, 0, 0, 0, 1, 1, 2][self.rng.usize(..7)] {
            let act = if self.one_in(5) {
                Act::User(self.pick(&USERS).to_owned())
            } else {
                let since = if self.one_in(3) { Some(self.moment()) } else { None };
                Act::Role { name: self.pick(&ROLES).to_owned(), since }
            };
            question = question.acting(act);
        }
        if self.one_in(25) {
            question = question.expires(self.moment());
        }
        if self.one_in(15) {
            let active = self.pick(&ROLES);
            question = question.active_roles(&[active]);
        }
        if self.rng.bool() {
            question = question.confirmed();
        }
        if self.one_in(3) {
            question = question.approved_by(self.pick(&USERS));
            if self.rng.bool() {
                question = question.approver_proof(Proof::OneTimeCode, SignedDuration::ZERO);
            }
        }
        question
    }
}
