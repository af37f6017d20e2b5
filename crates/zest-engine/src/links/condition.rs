//! Conditions with three outcomes: they hold, they fail, or the question does not say enough.
//!
//! Conditions are a list of variants. Each says here how it is read, how it comes out, what it is called, what it misses and what
//! would make it hold; how it is written is in [`When`]. A new condition is a key there and a variant here.

use std::collections::BTreeSet;
use std::net::IpAddr;
use std::sync::Arc;

use ipnet::IpNet;
use jiff::civil::{DateTime, Time, Weekday};
use jiff::tz::TimeZone;
use jiff::{SignedDuration, Timestamp};
use smallvec::SmallVec;

use super::Resolver;
use super::comparison::{Comparison, Operand};
use zest_model::ask::{Change, Proven, Refusal, Session};
use zest_model::entry::{Channel, Proof, User, When};
use zest_model::finding::{Code, Finding};
use zest_model::source::{At, Place, visible};
use zest_words::nearest;

/// Which part of a condition is meant.
///
/// # Example
/// ```
/// use zest_ledger::estate::Part;
/// assert_eq!((Part::Hours.fact(), Part::Days.fact(), Part::Proof.fact()), ("time", "time", "proofs of identity"));
/// ```
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub enum Part {
    /// The validity of the entry itself.
    Validity,
    /// The network the session comes from.
    Origin,
    /// Time of day.
    Hours,
    /// Day of the week.
    Days,
    /// The channel the session comes through.
    Channel,
    /// A proof of identity and its age.
    Proof,
    /// A comparison of attributes.
    Attributes,
}

impl Part {
    /// Returns what a question must state for the part to be known.
    #[must_use]
    pub const fn fact(self) -> &'static str {
        match self {
            Self::Validity | Self::Hours | Self::Days => "time",
            Self::Origin => "origin",
            Self::Channel => "channel",
            Self::Proof => "proofs of identity",
            Self::Attributes => "attributes",
        }
    }
}

/// How a condition comes out.
///
/// # Example
/// ```
/// use zest_ledger::estate::Outcome;
/// // What is not stated never allows.
/// let allows = |outcome: Outcome| outcome == Outcome::Holds;
/// assert!(allows(Outcome::Holds) && !allows(Outcome::Fails) && !allows(Outcome::Unknown));
/// ```
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Outcome {
    /// It holds.
    Holds,
    /// It does not hold.
    Fails,
    /// The question does not state what it depends on. This never allows.
    Unknown,
}

/// Networks with the place where each is written.
#[derive(Clone, Debug, Default)]
pub(crate) struct Networks(pub(crate) Vec<(IpNet, Place)>);

impl Networks {
    /// Returns the place of the first network that holds an address. An IPv4-mapped address counts as IPv4.
    pub(crate) fn find(&self, address: IpAddr) -> Option<Place> {
        let address = address.to_canonical();
        self.0.iter().find(|(net, _)| net.contains(&address)).map(|&(_, place)| place)
    }

    /// Returns the networks.
    pub(crate) fn list(&self) -> Vec<IpNet> {
        self.0.iter().map(|&(net, _)| net).collect()
    }

    /// Returns an address of the first network.
    pub(crate) fn first(&self) -> Option<IpAddr> {
        let (net, _) = self.0.first()?;
        net.hosts().next().or(Some(net.addr()))
    }
}

/// A time of day, end exclusive; over midnight when the end is not after the start.
#[derive(Clone, Copy, Debug)]
pub(crate) struct Hours {
    pub(crate) from: Time,
    /// `None` is midnight at the end of the day.
    pub(crate) until: Option<Time>,
}

impl Hours {
    /// Returns whether they run over midnight.
    pub(crate) fn is_over_midnight(self) -> bool {
        self.until.is_some_and(|until| self.from >= until)
    }

    fn contain(self, time: Time) -> bool {
        match self.until {
            None => time >= self.from,
            Some(until) if self.from < until => (self.from..until).contains(&time),
            Some(until) => time >= self.from || time < until,
        }
    }

    /// Reads `HH:MM-HH:MM`; `24:00` is the end of the day.
    pub(crate) fn parse(text: &str) -> Option<Self> {
        let (from, until) = text.split_once('-')?;
        let time = |text: &str| {
            let (hour, minute) = text.trim().split_once(':')?;
            if hour.len() != 2 || minute.len() != 2 {
                return None;
            }
            Time::new(hour.parse().ok()?, minute.parse().ok()?, 0, 0).ok()
        };
        let until = if until.trim() == "24:00" { None } else { Some(time(until)?) };
        Some(Self { from: time(from)?, until })
    }
}

/// Conditions of an entry, all of which must hold.
///
/// # Example
/// ```
/// use zest_ledger::kind::Conditions;
/// assert!(Conditions::default().until().is_none(), "without conditions it never ends");
/// ```
#[derive(Clone, Debug, Default)]
pub struct Conditions(Vec<At<Condition>>);

/// One condition.
#[derive(Clone, Debug)]
pub(crate) enum Condition {
    /// The entry is valid from a moment on, or until one; with both bounds, to be told.
    Validity { begins: bool, from: Option<Timestamp>, until: Option<Timestamp> },
    /// The session comes from one of these networks.
    Origin { networks: Networks, written: Vec<String> },
    /// The time of day.
    Hours { hours: Hours, zone: Zone, written: String },
    /// The day of the week; a night belongs to the day on which it starts.
    Days { days: Vec<Weekday>, night: Option<Hours>, zone: Zone, written: Vec<String> },
    /// The channel the session comes through.
    Channel(Vec<Channel>),
    /// A proof of identity and its age.
    Proof(ProofNeed),
    /// A comparison of attributes.
    Compare(Comparison),
}

/// A zone, and how it is called.
#[derive(Clone, Debug)]
pub(crate) struct Zone {
    pub(crate) zone: TimeZone,
    pub(crate) name: String,
}

/// A proof that must have been given, one of several, and how long ago.
#[derive(Clone, Debug)]
pub(crate) struct ProofNeed {
    pub(crate) accepted: Vec<Proof>,
    /// At most so long ago, inclusive.
    pub(crate) age: Option<SignedDuration>,
    /// Longer ago than this.
    pub(crate) older: Option<SignedDuration>,
}

type Attributes = [(At<String>, At<String>)];

/// What a condition may look at besides the session: where something is not known here, a condition on it is not either.
#[derive(Clone, Copy, Debug)]
pub(crate) struct Facts<'a> {
    pub(crate) session: &'a Session,
    /// The user as a ledger keeps it: most conditions do not look at it, and then it is not fetched.
    pub(crate) user: Option<&'a Arc<User>>,
    /// The path of the resource, and its attributes if it is declared.
    pub(crate) resource: Option<(&'a str, Option<&'a Attributes>)>,
    /// The labels of the system.
    pub(crate) labels: &'a Attributes,
    /// The channels on which a proof given on a channel counts besides its own.
    pub(crate) covers: &'a [(At<Channel>, Vec<At<Channel>>)],
}

impl<'a> From<&'a Session> for Facts<'a> {
    fn from(session: &'a Session) -> Self {
        Self { session, user: None, resource: None, labels: &[], covers: &[] }
    }
}

impl Facts<'_> {
    /// A proof counts on the channel on which it was given, and on those that the system says it covers. Nothing where
    /// the question does not state the channel.
    pub(crate) fn counts(&self, proven: &Proven) -> Option<bool> {
        let Some(on) = proven.channel else { return Some(true) };
        let here = self.session.channel?;
        Some(on == here || self.covers.iter().any(|(from, to)| from.value == on && to.iter().any(|c| c.value == here)))
    }

    /// The proofs that were stated and are known to count here.
    pub(crate) fn counting(&self) -> impl Iterator<Item = &Proven> {
        self.session.proofs.iter().flatten().filter(|p| self.counts(p) == Some(true))
    }
}

impl Facts<'_> {
    /// Says that a proof that was stated was given on a channel from which it does not carry over, if one was.
    pub(crate) fn elsewhere(&self) -> Option<String> {
        let given = self.session.proofs.iter().flatten();
        let channel = given.filter(|p| self.counts(p) != Some(true)).find_map(|p| p.channel)?;
        Some(format!("; a proof given by {} does not count here", channel.word()))
    }
}

impl ProofNeed {
    fn outcome(&self, facts: &Facts<'_>) -> Outcome {
        let Some(given) = &facts.session.proofs else { return Outcome::Unknown };
        let counts = |fits: &dyn Fn(&Proven) -> bool| {
            let some = || given.iter().filter(|p| self.accepted.contains(&p.proof) && fits(p)).map(|p| facts.counts(p));
            if some().any(|c| c == Some(true)) { Some(true) } else { some().all(|c| c.is_some()).then_some(false) }
        };
        // Of several proofs the youngest says how old identity is.
        let is_young = |p: &Proven| self.older.is_some_and(|older| p.age <= older);
        let young = counts(&is_young);
        let fit = counts(&|p| self.age.is_none_or(|age| p.age <= age) && !is_young(p));
        match (young, fit) {
            (Some(true), _) | (_, Some(false)) => Outcome::Fails,
            (Some(false), Some(true)) => Outcome::Holds,
            _ => Outcome::Unknown,
        }
    }
}

/// A condition as it comes out.
#[derive(Clone, Debug)]
pub(crate) struct Judged<'c> {
    pub(crate) condition: &'c Condition,
    pub(crate) outcome: Outcome,
    pub(crate) place: Place,
}

/// The conditions of an entry as they come out.
pub(crate) type Parts<'c> = smallvec::IntoIter<[Judged<'c>; 4]>;

/// One condition: what it is, how it comes out, and how that is told
impl Condition {
    /// Returns which part of a condition it is.
    pub(crate) const fn part(&self) -> Part {
        match self {
            Self::Validity { .. } => Part::Validity,
            Self::Origin { .. } => Part::Origin,
            Self::Hours { .. } => Part::Hours,
            Self::Days { .. } => Part::Days,
            Self::Channel(_) => Part::Channel,
            Self::Proof(_) => Part::Proof,
            Self::Compare(_) => Part::Attributes,
        }
    }

    /// Returns the code of the refusal where it fails.
    pub(crate) const fn refusal(&self) -> Refusal {
        match self {
            Self::Validity { .. } => Refusal::AssignmentNotValid,
            Self::Origin { .. } => Refusal::OriginOutside,
            Self::Hours { .. } => Refusal::OutsideHours,
            Self::Days { .. } => Refusal::OutsideDays,
            Self::Channel(_) => Refusal::ChannelOutside,
            Self::Proof(_) => Refusal::ProofMissing,
            Self::Compare(_) => Refusal::AttributesDiffer,
        }
    }

    /// Returns how it comes out, and a place that says so better than its own.
    fn outcome(&self, facts: &Facts<'_>) -> (Outcome, Option<Place>) {
        let session = facts.session;
        match self {
            // How it comes out hangs on what else is compared with: that is filled in.
            Self::Compare(comparison) => {
                if session.ear.listens()
                    && let Some(filled) = comparison.of_session(facts)
                {
                    session.ear.looked(|| Self::Compare(filled));
                }
            }
            condition => session.ear.looked_at(condition),
        }
        let known = |holds: Option<bool>| match holds {
            None => Outcome::Unknown,
            Some(true) => Outcome::Holds,
            Some(false) => Outcome::Fails,
        };
        let outcome = match self {
            Self::Validity { begins: true, from, .. } => known(session.at.map(|at| from.is_none_or(|from| at >= from))),
            Self::Validity { begins: false, until, .. } => known(session.at.map(|at| until.is_none_or(|until| at < until))),
            Self::Origin { networks, .. } => {
                let found = session.origin.map(|address| networks.find(address));
                return (known(found.map(|f| f.is_some())), found.flatten());
            }
            Self::Hours { hours, zone, .. } => known(zone.civil(session).map(|t| hours.contain(t.time()))),
            Self::Days { days, night, zone, .. } => {
                let runs_over = |time: Time| night.is_some_and(|h| h.until.is_some_and(|u| time < u));
                let day = |t: DateTime| if runs_over(t.time()) { t.weekday().previous() } else { t.weekday() };
                known(zone.civil(session).map(|t| days.contains(&day(t))))
            }
            Self::Channel(list) => known(session.channel.map(|c| list.contains(&c))),
            Self::Proof(need) => need.outcome(facts),
            Self::Compare(comparison) => comparison.outcome(facts),
        };
        (outcome, None)
    }

    /// Returns how it comes out in a session, where nothing else is looked at.
    pub(crate) fn in_session(&self, session: &Session) -> Outcome {
        self.outcome(&Facts::from(session)).0
    }

    /// Returns what tells it from every condition that comes out otherwise in some session.
    pub(crate) fn meaning(&self) -> String {
        match self {
            Self::Validity { begins: true, from, .. } => format!("from {from:?}"),
            Self::Validity { begins: false, until, .. } => format!("until {until:?}"),
            Self::Origin { networks, .. } => {
                let mut list: Vec<String> = networks.0.iter().map(|(net, _)| net.to_string()).collect();
                list.sort();
                list.dedup();
                format!("origin {}", list.join(" "))
            }
            Self::Hours { hours, zone, .. } => format!("hours {:?}-{:?} {}", hours.from, hours.until, zone.name),
            Self::Days { days, night, zone, .. } => {
                let night = night.and_then(|hours| hours.until);
                format!("days {:?} {night:?} {}", days.iter().map(|day| day.to_monday_zero_offset()).collect::<BTreeSet<_>>(), zone.name)
            }
            Self::Channel(list) => format!("channel {:?}", list.iter().map(|c| c.word()).collect::<BTreeSet<_>>()),
            Self::Proof(ProofNeed { accepted, age, older }) => {
                format!("proof {:?} {age:?} {older:?}", accepted.iter().map(|p| p.word()).collect::<BTreeSet<_>>())
            }
            Self::Compare(comparison) => format!("compare {comparison}"),
        }
    }

    /// Says how it came out, where that is known; `what` is the entry, as in "the assignment".
    pub(crate) fn told(&self, facts: &Facts<'_>, what: &str, holds: bool) -> String {
        let session = facts.session;
        let not = if holds { "" } else { "not " };
        match self {
            Self::Validity { .. } if holds => format!("{what} is valid at this moment"),
            Self::Validity { from, until, .. } => {
                let from = from.map_or(String::new(), |from| format!(", from {from}"));
                let until = until.map_or(String::new(), |until| format!(", until {until}"));
                format!("{what} is not valid at this moment{from}{until}")
            }
            Self::Origin { written, .. } => {
                format!("{} is {not}within {}", session.origin.map_or(String::new(), |o| o.to_string()), written.join(", "))
            }
            Self::Hours { zone, written, .. } => format!("{} is {not}within {written} {}", zone.clock(session), zone.name),
            Self::Days { zone, written, .. } => {
                format!("{} ({}) is {not}one of {}", zone.clock(session), zone.name, written.join(", "))
            }
            Self::Channel(list) => {
                let wanted: Vec<&str> = list.iter().map(|c| c.word()).collect();
                format!("the channel {} is {not}{}", session.channel.map_or("", |c| c.word()), wanted.join(" or "))
            }
            Self::Proof(need) => {
                let verb = if holds { "was given" } else { "was not given" };
                let elsewhere = facts.elsewhere().filter(|_| !holds).unwrap_or_default();
                format!("{} {verb}{}{elsewhere}", need.proofs(), need.ages("within the last"))
            }
            Self::Compare(comparison) => {
                format!("{} {}", visible(&comparison.to_string()), if holds { "holds" } else { "does not hold" })
            }
        }
    }

    /// Says what it wants.
    pub(crate) fn words(&self) -> String {
        match self {
            Self::Validity { from, until, .. } => {
                let from = from.map(|at| format!("from {at}"));
                let until = until.map(|at| format!("until {at}"));
                from.into_iter().chain(until).collect::<Vec<_>>().join(" ")
            }
            Self::Origin { written, .. } => format!("from {}", written.join(" or ")),
            Self::Hours { zone, written, .. } => format!("{written} {}", zone.name),
            Self::Days { zone, written, .. } => format!("on {} ({})", written.join(" or "), zone.name),
            Self::Channel(list) => format!("by {}", list.iter().map(|c| c.word()).collect::<Vec<_>>().join(" or ")),
            Self::Proof(need) => format!("with {}{}", need.proofs(), need.ages("within")),
            Self::Compare(comparison) => visible(&comparison.to_string()),
        }
    }

    /// Says what the question must state where it is not known.
    pub(crate) fn missing(&self, facts: &Facts<'_>) -> String {
        match self {
            Self::Compare(comparison) => comparison
                .unknown(facts)
                .map_or_else(|| "numbers on both sides of a comparison".to_owned(), |o| format!("`{}`", visible(&o.to_string()))),
            Self::Validity { .. } | Self::Origin { .. } | Self::Hours { .. } | Self::Days { .. } | Self::Channel(_) | Self::Proof(_) => {
                format!("the {}", self.part().fact())
            }
        }
    }

    /// Returns changes of the session that would make it hold, each with its clause, for somebody with these proofs.
    pub(crate) fn remedies(
        &self,
        all: &Conditions,
        facts: &Facts<'_>,
        proofs: &[At<Proof>],
        now: Option<Timestamp>,
    ) -> Vec<(Change, String)> {
        let found = match self {
            Self::Validity { .. } | Self::Hours { .. } | Self::Days { .. } => {
                all.moment(facts.session, now).map(|(at, text)| (Change::Moment(at), text))
            }
            Self::Origin { networks, .. } => networks.first().map(|a| (Change::Origin(a), format!("from {a}"))),
            Self::Channel(list) => list.first().map(|&c| (Change::Channel(c), format!("through the channel {}", c.word()))),
            Self::Proof(need) => {
                let has = |p: &&Proof| proofs.iter().any(|own| own.value == **p);
                let given = |p: &Proof| (Change::Proof(*p), format!("with a {} given just before", p.word()));
                return need.accepted.iter().filter(has).map(given).collect();
            }
            Self::Compare(comparison) => comparison.session_value(facts).map(|(name, value)| {
                let text = format!("with the attribute `{}` stated as `{}`", visible(name), visible(value));
                (Change::Attribute { name: name.to_owned(), value: value.to_owned() }, text)
            }),
        };
        found.into_iter().collect()
    }
}

impl Zone {
    fn civil(&self, session: &Session) -> Option<DateTime> {
        session.at.map(|at| at.to_zoned_datetime(self.zone.clone()).datetime())
    }

    fn clock(&self, session: &Session) -> String {
        session.at.map_or(String::new(), |at| at.to_zoned_datetime(self.zone.clone()).strftime("%a %H:%M").to_string())
    }
}

impl ProofNeed {
    fn proofs(&self) -> String {
        self.accepted.iter().map(|p| p.word()).collect::<Vec<_>>().join(" or ")
    }

    fn ages(&self, within: &str) -> String {
        let age = self.age.map_or(String::new(), |a| format!(" {within} {a:#}"));
        let older = self.older.map_or(String::new(), |a| format!(" longer ago than {a:#}"));
        age + &older
    }
}

/// All conditions of an entry
impl Conditions {
    /// Returns whether there is none.
    #[doc(hidden)]
    pub const fn is_empty(&self) -> bool {
        self.0.is_empty()
    }

    /// Returns each condition as it comes out, in the order in which they are told.
    pub(crate) fn parts<'a>(&self, facts: impl Into<Facts<'a>>) -> Parts<'_> {
        self.parts_of(&facts.into())
    }

    /// A list and not a chain of iterators: it is asked for in many places, and each would be compiled anew.
    #[inline(never)]
    fn parts_of(&self, facts: &Facts<'_>) -> Parts<'_> {
        let judge = |condition: &'_ At<Condition>| {
            let (outcome, place) = condition.value.outcome(facts);
            (outcome, place.unwrap_or(condition.place))
        };
        let parts: SmallVec<[Judged<'_>; 4]> = self
            .0
            .iter()
            .map(|condition| {
                let (outcome, place) = judge(condition);
                Judged { condition: &condition.value, outcome, place }
            })
            .collect();
        parts.into_iter()
    }

    /// Returns the outcome of all together: one that fails outweighs one that is not known.
    pub(crate) fn outcome<'a>(&self, facts: impl Into<Facts<'a>>) -> Outcome {
        let facts = facts.into();
        let mut outcome = Outcome::Holds;
        for condition in &self.0 {
            match condition.value.outcome(&facts).0 {
                Outcome::Fails => return Outcome::Fails,
                Outcome::Unknown => outcome = Outcome::Unknown,
                Outcome::Holds => {}
            }
        }
        outcome
    }

    /// Says what all want that do not hold, for a list.
    pub(crate) fn open_words(&self, facts: &Facts<'_>) -> Vec<String> {
        let mut list: Vec<String> = self.parts(*facts).filter(|p| p.outcome != Outcome::Holds).map(|p| p.condition.words()).collect();
        list.dedup();
        list
    }

    /// Returns whether it is known that the entry is over, or has not begun.
    pub(crate) fn is_over(&self, session: &Session) -> bool {
        let of_validity = self.0.iter().map(|c| &c.value).filter(|c| c.part() == Part::Validity);
        of_validity.map(|c| c.in_session(session)).any(|outcome| outcome == Outcome::Fails)
    }

    /// Returns the end of validity, and where it is written.
    #[doc(hidden)]
    pub fn until(&self) -> Option<(Timestamp, Place)> {
        self.bound(false)
    }

    /// Returns the place of the end of validity, or else of its start.
    pub(crate) fn validity(&self) -> Option<Place> {
        self.bound(false).or_else(|| self.bound(true)).map(|(_, place)| place)
    }

    fn bound(&self, wanted: bool) -> Option<(Timestamp, Place)> {
        self.0.iter().find_map(|c| match c.value {
            Condition::Validity { begins, from, until } if begins == wanted => Some((if wanted { from? } else { until? }, c.place)),
            _ => None,
        })
    }

    /// Returns the proof of identity that is wanted, and where that is written.
    pub(crate) fn proof(&self) -> Option<(&ProofNeed, Place)> {
        self.0.iter().find_map(|c| if let Condition::Proof(need) = &c.value { Some((need, c.place)) } else { None })
    }

    /// Returns a finding where hours run over midnight beside days: the night belongs to the day on which it begins.
    #[doc(hidden)]
    pub fn night_of_day(&self) -> Option<Finding> {
        let hours = self.0.iter().find(|c| matches!(&c.value, Condition::Hours { hours, .. } if hours.is_over_midnight()))?;
        let days = self.0.iter().find(|c| matches!(c.value, Condition::Days { .. }))?;
        Some(
            Finding::new(Code::NightOfDay, "the hours run over midnight, and what is after it counts for the day before")
                .at(hours.place, "the night belongs to the day on which it begins")
                .also(days.place, "these days")
                .help("with days = [\"fri\"] and hours = \"22:00-06:00\" it holds from Friday 22:00 to Saturday 06:00"),
        )
    }

    /// Finds the next moment at which everything about time holds, in steps of a quarter of an hour.
    fn moment(&self, session: &Session, now: Option<Timestamp>) -> Option<(Timestamp, String)> {
        const STEP: i64 = 15 * 60;
        // Where no time is stated, any week will do: the one that begins 2026-01-05.
        let stated = session.at.or(now).unwrap_or(Timestamp::from_second(1_767_571_200).ok()?);
        let start = self.bound(true).map_or(stated, |(from, _)| from.max(stated));
        let aligned = (start.as_second() + STEP - 1).div_euclid(STEP) * STEP;
        let zone = self.0.iter().find_map(|c| match &c.value {
            Condition::Hours { zone, .. } | Condition::Days { zone, .. } => Some(zone.zone.clone()),
            _ => None,
        });
        let zone = zone.unwrap_or(TimeZone::UTC);
        let stated_at = session.at;
        let mut session = session.clone();
        let is_of_time = |part| matches!(part, Part::Hours | Part::Days | Part::Validity);
        (0..8 * 24 * 4).find_map(|n| {
            let at = Timestamp::from_second(aligned + n * STEP).ok()?;
            session.at = Some(at);
            let holds = self.parts(&session).all(|p| !is_of_time(p.condition.part()) || p.outcome == Outcome::Holds);
            holds.then(|| {
                let told = match stated_at {
                    Some(_) => format!("at {}", at.to_zoned_datetime(zone.clone()).strftime("%a %Y-%m-%d %H:%M %:Q")),
                    // Any moment will do that they admit.
                    None => {
                        let of_time = self.0.iter().map(|c| &c.value).filter(|c| is_of_time(c.part()));
                        let mut words: Vec<String> = of_time.map(Condition::words).collect();
                        words.dedup();
                        format!("with the time stated, {}", words.join(", "))
                    }
                };
                (at, told)
            })
        })
    }
}

/// From what is written to conditions
impl Resolver<'_> {
    /// Reads conditions, with bounds of validity.
    pub fn conditions(&mut self, when: &When, from: Option<&At<Timestamp>>, until: Option<&At<Timestamp>>) -> Conditions {
        // Each key by name: one that nobody reads does not compile, and cannot hold by being forgotten.
        let When { origin, hours, days, zone, channel, proof, proof_age, proof_older, compare, more: _ } = when;
        let mut list: Vec<At<Condition>> = Vec::new();
        let (start, end) = (from.map(|m| m.value), until.map(|m| m.value));
        for (bound, begins) in [(from, true), (until, false)] {
            list.extend(bound.map(|at| At::new(Condition::Validity { begins, from: start, until: end }, at.place)));
        }
        let texts = |list: &[At<String>]| list.iter().map(|t| visible(&t.value)).collect::<Vec<_>>();
        if let Some(first) = origin.first() {
            list.push(At::new(Condition::Origin { networks: self.origins(origin), written: texts(origin) }, first.place));
        }
        let zone = self.zone(zone.as_ref());
        let window = hours.as_ref().and_then(|text| self.hours(text));
        if let (Some(hours), Some(text)) = (window, hours) {
            list.push(At::new(Condition::Hours { hours, zone: zone.clone(), written: visible(&text.value) }, text.place));
        }
        if let Some(first) = days.first() {
            let named = days.iter().filter_map(|d| self.weekday(d)).collect();
            let night = window.filter(|h| h.is_over_midnight());
            list.push(At::new(Condition::Days { days: named, night, zone, written: texts(days) }, first.place));
        }
        if let Some(first) = channel.first() {
            list.push(At::new(Condition::Channel(channel.iter().map(|c| c.value).collect()), first.place));
        }
        list.extend(self.proof(proof, proof_age.as_ref(), proof_older.as_ref()));
        let mut compared: Vec<At<Comparison>> = Vec::new();
        for text in compare {
            match Comparison::parse(&text.value) {
                Ok(comparison) => {
                    self.attributes_are_known(&comparison, text);
                    compared.push(At::new(comparison, text.place));
                }
                Err(help) => self.report(
                    Finding::new(Code::BadComparison, format!("`{}` does not compare attributes", visible(&text.value)))
                        .at(text.place, "cannot be read")
                        .help(help),
                ),
            }
        }
        if let Some((one, other)) = Comparison::contradiction(&compared) {
            self.report(
                Finding::new(Code::ImpossibleCondition, "these comparisons never hold together")
                    .at(other, "contradicts the other")
                    .also(one, "the other")
                    .help("take one of them out, or write two grants"),
            );
        }
        list.extend(compared.into_iter().map(|c| At::new(Condition::Compare(c.value), c.place)));
        Conditions(list)
    }

    fn zone(&mut self, written: Option<&At<String>>) -> Zone {
        let name = written.map_or_else(|| "UTC".to_owned(), |zone| visible(&zone.value));
        let zone = written.map(|text| {
            TimeZone::get(&text.value).unwrap_or_else(|_| {
                self.bad_value(text, "a time zone", "write an IANA name such as \"Europe/Oslo\" or \"UTC\"");
                TimeZone::UTC
            })
        });
        Zone { zone: zone.unwrap_or(TimeZone::UTC), name }
    }

    fn hours(&mut self, text: &At<String>) -> Option<Hours> {
        match Hours::parse(&text.value) {
            Some(hours) if Some(hours.from) != hours.until => return Some(hours),
            Some(_) => self.report(
                Finding::new(Code::EmptyWindow, format!("the hours `{}` are empty", visible(&text.value)))
                    .at(text.place, "start and end are the same")
                    .help("for the whole day leave `hours` out, or write \"00:00-24:00\""),
            ),
            None => self.bad_value(text, "a time window", "write it like \"06:00-22:00\"; over midnight like \"22:00-06:00\""),
        }
        None
    }

    fn proof(
        &mut self,
        proofs: &[At<Proof>],
        age: Option<&At<SignedDuration>>,
        older: Option<&At<SignedDuration>>,
    ) -> Option<At<Condition>> {
        let Some(proof) = proofs.first() else {
            if let Some(length) = age.or(older) {
                let key = if age.is_some() { "proof-age" } else { "proof-older" };
                self.report(
                    Finding::new(Code::MissingKey, format!("`{key}` is given without `proof`"))
                        .at(length.place, "the age of which proof?")
                        .help("add `proof = [\"one-time-code\"]` or whichever is meant"),
                );
            }
            return None;
        };
        let (age, older) = (age.map(|a| a.value), older.map(|a| a.value));
        if let (Some(age), Some(older)) = (age, older)
            && older >= age
        {
            self.report(
                Finding::new(Code::ImpossibleCondition, format!("no proof is older than {older:#} and at most {age:#} old"))
                    .at(proof.place, "can never hold")
                    .help("leave one of the two out, or swap them"),
            );
        }
        let accepted = proofs.iter().map(|p| p.value).collect();
        Some(At::new(Condition::Proof(ProofNeed { accepted, age, older }), proof.place))
    }

    fn weekday(&mut self, text: &At<String>) -> Option<Weekday> {
        Some(match text.value.as_str() {
            "mon" => Weekday::Monday,
            "tue" => Weekday::Tuesday,
            "wed" => Weekday::Wednesday,
            "thu" => Weekday::Thursday,
            "fri" => Weekday::Friday,
            "sat" => Weekday::Saturday,
            "sun" => Weekday::Sunday,
            _ => {
                self.bad_value(text, "a day of the week", "write `mon`, `tue`, `wed`, `thu`, `fri`, `sat` or `sun`");
                return None;
            }
        })
    }

    /// Reports an attribute that nothing in the ledger has: it could never be known.
    fn attributes_are_known(&mut self, comparison: &Comparison, text: &At<String>) {
        for operand in [&comparison.left, &comparison.right] {
            let Operand::Attribute(scope, name) = operand else { continue };
            let known = self.names.attributes.get(scope.word());
            if known.is_some_and(|k| k.contains_key(name.as_str())) {
                continue;
            }
            let near = known.and_then(|k| nearest(name, k.keys().map(|k| &**k)));
            let label = near.map_or_else(|| "nothing in the ledger has it".to_owned(), |n| format!("did you mean `{}.{n}`?", scope.word()));
            let message = format!("no {} has an attribute `{}`", scope.word(), visible(name));
            self.findings.push(Finding::new(Code::UnknownAttribute, message).at(text.place, label).help(scope.help()));
        }
    }
}
