//! Random questions on the demo ledger, with every fact of a session stated in a good part of them.

use fastrand::Rng;
use zest_ledger::Question;
use zest_ledger::ask::{Fact, Session};
use zest_ledger::entry::Kind;

/// Who, where, what, and the facts with which it is allowed.
struct Start {
    user: &'static str,
    system: &'static str,
    kind: Kind,
    line: &'static str,
    facts: &'static [(Fact, &'static str)],
}

const STARTS: &[Start] = &[
    Start { user: "net-1", system: "sw-selkie-1", kind: Kind::NETWORK_DEVICE, line: "show time", facts: &[(Fact::Origin, "192.0.2.70")] },
    Start { user: "net-lead", system: "sw-selkie-1", kind: Kind::NETWORK_DEVICE, line: "restart", facts: &[(Fact::Proofs, "key=7h")] },
    Start {
        user: "net-1",
        system: "sw-selkie-1",
        kind: Kind::NETWORK_DEVICE,
        line: "restart",
        facts: &[
            (Fact::Origin, "192.0.2.70"),
            (Fact::Level, "15"),
            (Fact::Confirmed, ""),
            (Fact::ApprovedBy, "net-lead"),
            (Fact::ApproverProofs, "key=1h"),
        ],
    },
    Start { user: "tariff-1", system: "ticketing", kind: Kind::POSTGRESQL, line: "select on table fares.price", facts: &[] },
    Start {
        user: "tariff-1",
        system: "loyalty",
        kind: Kind::MARIADB,
        line: "select (name) on table club.member",
        facts: &[(Fact::Origin, "198.51.100.9"), (Fact::Roles, "member-reader")],
    },
    Start {
        user: "net-1",
        system: "skyquay",
        kind: Kind::CLOUD,
        line: "hulls.stop on lanternsound/production/ticketing",
        facts: &[(Fact::Proofs, "one-time-code=5m"), (Fact::Acting, "role:quay-keeper"), (Fact::Attributes, "ticket=LF-7")],
    },
    Start {
        user: "watch-lead",
        system: "rostering",
        kind: Kind::APPLICATION,
        line: "publish on rota/watch",
        facts: &[(Fact::Channel, "web"), (Fact::Proofs, "password=0s"), (Fact::Roles, "early-shift"), (Fact::Confirmed, "")],
    },
    Start {
        user: "watch-1",
        system: "linkspan",
        kind: Kind::APPLICATION,
        line: "release-lock on ramp/selkie-1",
        facts: &[(Fact::Proofs, "password=2m"), (Fact::ApprovedBy, "watch-lead"), (Fact::ApproverProofs, "password=1m")],
    },
    Start {
        user: "watch-2",
        system: "kiosk-selkie",
        kind: Kind::HOST,
        line: "/opt/kiosk/bin/screen show",
        facts: &[(Fact::Acting, "account:kiosk")],
    },
];

const USERS: [&str; 6] = ["net-1", "net-lead", "watch-1", "tariff-1", "nobody", "Watch-1"];
const LINES: [&str; 6] = [
    "show log",
    "select on table fares.price",
    "hulls.stop on lanternsound",
    "view on ramp/selkie-1",
    "/bin/true a  b",
    "x --level 7 -- y",
];

/// Returns texts that may state a fact.
const fn texts(fact: Fact) -> &'static [&'static str] {
    match fact {
        Fact::At => &["2026-11-25T08:00:00Z", "2026-11-25T23:30:00Z", "2027-04-01T00:00:00Z"],
        Fact::Origin => &["192.0.2.70", "192.0.2.10", "198.51.100.9", "2001:db8::7", "203.0.113.9"],
        Fact::Channel => &["terminal", "web", "api"],
        Fact::Proofs | Fact::ApproverProofs => &["password=0s", "one-time-code=2m", "key=7h", "password=1m by web", "none"],
        Fact::Level => &["0", "1", "7", "15"],
        Fact::Mode => &["deck", "settings", "dek"],
        Fact::Account => &["harbour-emergency", "tariff-1", "tariff-1@198.51.100.%", "watch-2", "kiosk"],
        Fact::Roles => &["member-reader", "early-shift", "fare-reader", "none", "nowhere"],
        Fact::Acting => &["role:quay-keeper", "user:purser-1", "account:kiosk", "shell:batch", "role:quay-keeper@2026-11-25T07:30:00Z"],
        Fact::Attributes => &["ticket=LF-7", "reason=yearly audit", "amount=1=2", "pier="],
        Fact::Expires => &["2026-11-25T20:00:00Z", "2027-06-01T00:00:00Z"],
        Fact::ApprovedBy => &["net-lead", "watch-lead", "net-2", "nobody"],
        _ => &[""],
    }
}

/// How often a fact is stated that the question need not have, in a hundred.
const fn often(fact: Fact) -> usize {
    match fact {
        Fact::Level | Fact::Mode => 30,
        Fact::Local => 75,
        Fact::Account => 35,
        Fact::Roles | Fact::Attributes | Fact::ApprovedBy | Fact::Channel | Fact::Confirmed => 15,
        Fact::At | Fact::Expires => 25,
        _ => 9,
    }
}

/// Makes random questions.
#[derive(Debug)]
pub struct Facts(Rng);

impl Facts {
    /// Starts with a seed.
    #[must_use]
    pub fn new(seed: u64) -> Self {
        Self(Rng::with_seed(seed))
    }

    fn chance(&mut self, in_a_hundred: usize) -> bool {
        self.0.usize(0..100) < in_a_hundred
    }

    fn pick<'a, T: ?Sized>(&mut self, list: &[&'a T]) -> &'a T {
        list[self.0.usize(0..list.len())]
    }

    /// Makes a question that can be put as options, in a batch and as JSON.
    pub fn question(&mut self) -> Question {
        let start = &STARTS[self.0.usize(0..STARTS.len())];
        let user = if self.chance(5) { self.pick(&USERS) } else { start.user };
        let line = if self.chance(5) { self.pick(&LINES) } else { start.line };
        let system = if self.chance(2) { "nowhere" } else { start.system };
        let mut session = Session::default();
        for fact in Fact::ALL {
            let needed: Vec<&str> = start.facts.iter().filter(|(f, _)| *f == fact).map(|&(_, text)| text).collect();
            let is_kept = !needed.is_empty() && self.chance(93);
            let heard = zest_ledger::hears(start.kind, fact);
            let is_added = self.chance(if heard { often(fact) } else { 1 });
            let mut stated: Vec<&str> = if is_kept { needed } else { Vec::new() };
            if is_added && (stated.is_empty() || self.chance(20)) {
                stated.push(self.pick(texts(fact)));
            }
            for text in stated {
                // OK because what contradicts what was stated before is simply left out.
                let mut more = session.clone();
                if more.state(fact, text).is_ok() && (more.contradiction().is_none() || fact == Fact::ApproverProofs) {
                    session = more;
                }
            }
        }
        if session.contradiction().is_some() {
            session.approver_proofs = None;
        }
        Question::in_session(user, system, line, session)
    }
}
