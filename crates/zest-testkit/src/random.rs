//! Random but realistic ledgers and questions. The same seed makes the same ledger and questions.

use fastrand::Rng;
use jiff::{SignedDuration, Timestamp};
use zest_ledger::entry::{
    Account, Assignment, Authorisation, AuthorisedLevels, BareElevation, Channel, Command, CommandSet, Credential, Does, Group,
    IdentitySource, Obligations, On, Otherwise, Proof, Role, System, Unrestricted, User, Vocabulary, When, WhenCentralDown,
};
use zest_ledger::source::At;
use zest_ledger::{Ledger, Question};

const PROOFS: [Proof; 3] = [Proof::Password, Proof::Key, Proof::OneTimeCode];
const CHANNELS: [Channel; 2] = [Channel::Terminal, Channel::Web];
const NETWORKS: [&str; 3] = ["192.0.2.0/25", "192.0.2.128/25", "2001:db8::/64"];
const LINES: [&str; 14] = [
    "show release",
    "show paths",
    "show path to {address}",
    "show port {name: word} tally",
    "show port {slot: 0-7} tally",
    "show log",
    "show log last {number}",
    "ping {address}",
    "ping {address} count {1-100}",
    "set vlan {1-4094} {on|off}",
    "describe ...",
    "zero tally",
    "zero tally {word}",
    "restart",
];
const WORDS: [&str; 22] = [
    "show",
    "sh",
    "version",
    "ip",
    "route",
    "interface",
    "tally",
    "log",
    "last",
    "ping",
    "count",
    "set",
    "vlan",
    "on",
    "off",
    "describe",
    "clear",
    "restart",
    "elevate",
    "leave",
    "192.0.2.7",
    "7",
];

/// A source of random ledgers and questions.
#[derive(Debug)]
pub struct Source {
    rng: Rng,
}

impl Source {
    /// Makes a source; print the seed with every failure.
    #[must_use]
    pub fn new(seed: u64) -> Self {
        Self { rng: Rng::with_seed(seed) }
    }

    fn chance(&mut self, percent: u8) -> bool {
        self.rng.u8(0..100) < percent
    }

    fn pick<'t, T: ?Sized>(&mut self, list: &[&'t T]) -> &'t T {
        list[self.rng.usize(0..list.len())]
    }

    fn one<T: Copy>(&mut self, list: &[T]) -> T {
        list[self.rng.usize(0..list.len())]
    }

    /// Makes a valid ledger.
    pub fn ledger(&mut self) -> Ledger {
        let mut ledger = Ledger::new().vocabulary(self.vocabulary());
        for i in 0..8 {
            ledger = ledger.user(self.user(i));
        }
        for i in 0..5 {
            let mut group = Group::new(&format!("group-{i}"));
            for user in 0..8 {
                if self.chance(40) {
                    group = group.member(&format!("user:user-{user}"));
                }
            }
            if i > 0 && self.chance(50) {
                group = group.member(&format!("group:group-{}", self.rng.usize(0..i)));
            }
            ledger = ledger.group(group);
        }
        for i in 0..5 {
            ledger = ledger.command_set(self.command_set(i));
        }
        for i in 0..5 {
            ledger = ledger.role(self.role(i));
        }
        for i in 0..4 {
            ledger = ledger.system(self.system(i));
        }
        for _ in 0..self.rng.usize(6..14) {
            ledger = ledger.assignment(self.assignment());
        }
        ledger
    }

    fn vocabulary(&mut self) -> Vocabulary {
        let bare = self.one(&[BareElevation::Fifteen, BareElevation::Ceiling, BareElevation::Refused]);
        let mut vocabulary = Vocabulary::new("make")
            .mode("deck")
            .configuration_mode("settings")
            .bare_elevation(bare)
            .command(Command::new("leave").level(0).does(Does::LeaveSession))
            .command(Command::new("show level").level(7).does(Does::ShowLevel))
            .command(Command::new("elevate").level(0).does(Does::Elevate))
            .command(Command::new("elevate {level: 0-15}").level(0).does(Does::Elevate))
            .command(Command::new("change passphrase").level(0).does(Does::ChangeCredential))
            .command(Command::new("edit settings").level(self.one(&[1, 7, 15])).enters("settings"))
            .command(Command::new("name {word}").mode("settings").level(self.one(&[1, 15])))
            .command(Command::new("back").mode("settings").level(0).does(Does::LeaveMode));
        for line in LINES {
            if self.chance(80) {
                vocabulary = vocabulary.command(Command::new(line).level(self.one(&[0, 1, 1, 1, 7, 15])));
            }
        }
        vocabulary
    }

    fn user(&mut self, i: usize) -> User {
        let mut user = User::new(&format!("user-{i}"));
        for proof in PROOFS {
            if self.chance(85) {
                user = user.proof(proof);
            }
        }
        if self.chance(15) {
            user = user.channels(&[self.one(&CHANNELS)]);
        }
        if self.chance(3) {
            user = user.disabled(true);
        }
        if self.chance(5) {
            user = user.must_change_credential(true);
        }
        if self.chance(10) {
            user = user.valid_until(moment(self.rng.i64(0..14)));
        }
        user
    }

    fn pattern(&mut self) -> String {
        if self.chance(15) {
            return self
                .pick(&["...", "{word} ...", "elevate ...", "elevate {1-7}", "elevate {level: 8-15}", "edit settings", "leave"])
                .to_owned();
        }
        let line = self.one(&LINES);
        let mut words: Vec<String> = Vec::new();
        let mut rest = line;
        while !rest.is_empty() {
            let end =
                if rest.starts_with('{') { rest.find('}').map_or(rest.len(), |e| e + 1) } else { rest.find(' ').unwrap_or(rest.len()) };
            words.push(rest[..end].to_owned());
            rest = rest[end..].trim_start();
        }
        for word in &mut words {
            if self.chance(12) {
                *word = self
                    .pick(&["{word}", "{number}", "{1-50}", "{address}", "s*", "*s", "{show|ping}", "7", "192.0.2.7", "eth*"])
                    .to_owned();
            }
        }
        words.retain(|w| w != "...");
        if self.chance(35) {
            let keep = self.rng.usize(1..=words.len());
            words.truncate(keep);
            words.push("...".to_owned());
        }
        words.join(" ")
    }

    fn command_set(&mut self, i: usize) -> CommandSet {
        let mut set = CommandSet::new(&format!("set-{i}"));
        for _ in 0..self.rng.usize(1..9) {
            let pattern = self.pattern();
            if i > 0 && self.chance(12) {
                set = set.include(&format!("set-{}", self.rng.usize(0..i)));
            } else if self.chance(30) {
                set = set.deny(&pattern);
            } else {
                set = set.allow(&pattern);
                if self.chance(10) {
                    let confirm = Obligations { confirm: Some(At::here(true)), ..Obligations::default() };
                    set.rules.last_mut().expect("a rule was just added").after = Some(Box::new(confirm));
                }
            }
        }
        if self.chance(20) {
            set = set.otherwise(self.one(&[Otherwise::Allow, Otherwise::Deny]));
        }
        set
    }

    fn role(&mut self, i: usize) -> Role {
        let mut role = Role::new(&format!("role-{i}"));
        if self.chance(85) {
            let start = self.one(&[1, 1, 1, 7, 15]);
            role = role.band(start, self.rng.u8(start..=15));
        }
        for _ in 0..self.rng.usize(0..3) {
            role = role.commands(&format!("set-{}", self.rng.usize(0..5)));
        }
        if i > 0 && self.chance(30) {
            role = role.includes(&format!("role-{}", self.rng.usize(0..i)));
        }
        role
    }

    fn system(&mut self, i: usize) -> System {
        let unrestricted = self.one(&[Unrestricted::Everything, Unrestricted::Nothing]);
        let mut system = System::network_device(&format!("system-{i}"), "make", unrestricted)
            .label("class", self.pick(&["switch", "router"]))
            .within(self.pick(&["shore/north", "shore/south", "sea"]));
        if self.chance(85) {
            let levels = if self.chance(70) { AuthorisedLevels::All } else { AuthorisedLevels::Listed(vec![1, 15]) };
            system = system.authorisation(Authorisation { levels, configuration: self.chance(70) });
        }
        if self.chance(20) {
            system = system.identity_sources(self.one(&[
                &[IdentitySource::Local][..],
                &[IdentitySource::Central],
                &[IdentitySource::Local, IdentitySource::Central],
            ]));
        }
        if self.chance(30) {
            system = system.when_central_down(WhenCentralDown::Nothing);
        }
        if self.chance(30) {
            system = system.own_level("leave", self.one(&[0, 1, 7]));
        }
        for n in 0..self.rng.usize(0..3) {
            let login = if self.chance(30) { format!("user-{}", self.rng.usize(0..8)) } else { format!("emergency-{n}") };
            if system.accounts.iter().any(|a| a.login.value == login) {
                continue;
            }
            let mut account = Account::new(&login).used_by(&format!("group:group-{}", self.rng.usize(0..5)));
            if self.chance(90) {
                account = account.band(self.one(&[1, 15]), 15);
            }
            if self.chance(40) {
                account = account.origins(&[self.one(&NETWORKS)]);
            }
            if self.chance(10) {
                account = account.locked(true);
            }
            if self.chance(10) {
                account = account.credential(Credential::Missing);
            }
            system = system.account(account);
        }
        system
    }

    fn assignment(&mut self) -> Assignment {
        let on = match self.rng.u8(0..4) {
            0 => On::all(),
            1 => On::systems(&[&format!("system-{}", self.rng.usize(0..4))]),
            2 => On::label("class", self.pick(&["switch", "router"])),
            _ => On::within(self.pick(&["shore", "sea", "shore/north"])),
        };
        let mut assignment = Assignment::new(on).role(&format!("role-{}", self.rng.usize(0..5)));
        for _ in 0..self.rng.usize(1..3) {
            let (kind, i) = if self.chance(70) { ("group", self.rng.usize(0..5)) } else { ("user", self.rng.usize(0..8)) };
            assignment = assignment.to(&format!("{kind}:{kind}-{i}"));
        }
        if self.chance(30) {
            assignment = assignment.role(&format!("role-{}", self.rng.usize(0..5)));
        }
        if self.chance(20) {
            assignment = assignment.rank(self.one(&[10, 100, 200]));
        }
        if self.chance(10) {
            assignment = assignment.valid_until(moment(self.rng.i64(0..14)));
        }
        let mut when = When::new();
        if self.chance(25) {
            when = when.origin(self.one(&NETWORKS));
        }
        if self.chance(20) {
            when = when.hours(self.pick(&["06:00-22:00", "22:00-06:00"]), self.pick(&["UTC", "Europe/Oslo"]));
        }
        if self.chance(10) {
            when = when.channel(self.one(&CHANNELS));
        }
        if self.chance(15) {
            when = when.proof(self.one(&PROOFS)).proof_age(SignedDuration::from_mins(60));
        }
        assignment.when(when)
    }

    fn word(&mut self) -> String {
        if self.chance(75) {
            self.one(&WORDS).to_owned()
        } else {
            self.pick(&["007", "50", "51", "eth1", "x", "2001:DB8::1", "0", "s", "\"a b\""]).to_owned()
        }
    }

    /// Makes a line: mostly one that some command may mean, sometimes anything.
    fn line(&mut self) -> String {
        if self.chance(25) {
            return match self.rng.u8(0..6) {
                0 => "elevate".to_owned(),
                1 | 2 => format!("elevate {}", self.rng.u8(0..17)),
                3 => "edit set".to_owned(),
                4 => "name x".to_owned(),
                _ => "leave".to_owned(),
            };
        }
        if self.chance(15) {
            return (0..self.rng.usize(0..5)).map(|_| self.word()).collect::<Vec<_>>().join(" ");
        }
        let pattern = zest_ledger::command::Pattern::parse(self.one(&LINES)).expect("these lines can be read");
        let mut words: Vec<String> = Vec::new();
        for word in pattern.words() {
            words.push(match word {
                zest_ledger::command::WordPattern::Fixed(keywords) => {
                    let keyword = &keywords[self.rng.usize(0..keywords.len())];
                    if self.chance(20) { keyword[..self.rng.usize(1..=keyword.len())].to_owned() } else { keyword.clone() }
                }
                zest_ledger::command::WordPattern::Slot(_) => self.word(),
            });
        }
        if pattern.is_open() || self.chance(5) {
            words.push(self.word());
        }
        words.join(" ")
    }

    /// Makes a question about a ledger of this source.
    pub fn question(&mut self) -> Question {
        let user = if self.chance(97) { format!("user-{}", self.rng.usize(0..8)) } else { self.pick(&["User-1", "nobody"]).to_owned() };
        let system = if self.chance(98) { format!("system-{}", self.rng.usize(0..4)) } else { "nowhere".to_owned() };
        let mut question = Question::new(&user, &system, &self.line());
        if self.chance(85) {
            question = question.at(moment(self.rng.i64(0..14)));
        }
        if self.chance(85) {
            question =
                question.from(self.pick(&["192.0.2.7", "192.0.2.200", "2001:db8::7", "203.0.113.9"]).parse().expect("these are addresses"));
        }
        if self.chance(80) {
            question = question.channel(self.one(&CHANNELS));
        }
        if self.chance(70) {
            question = question.proof(self.one(&PROOFS), SignedDuration::from_mins(self.one(&[0, 30, 60, 61, 600])));
        } else if self.chance(10) {
            question.session.proofs = Some(Vec::new());
        }
        if self.chance(40) {
            question = question.level(self.one(&[0, 1, 5, 7, 15]));
        }
        if self.chance(12) {
            question = question.mode(self.pick(&["deck", "settings", "nomode"]));
        }
        if self.chance(15) {
            question = question.central_down();
        }
        if self.chance(30) {
            question = question.confirmed();
        }
        question
    }
}

/// A moment of the week of 2026-11-23, in steps of 13 hours.
fn moment(step: i64) -> Timestamp {
    Timestamp::from_second(1_795_392_000 + step * 13 * 3600).expect("the moment is within range")
}
