//! Conditions with three outcomes: they hold, they fail, or the question does not say enough.

use std::net::IpAddr;

use ipnet::IpNet;
use jiff::civil::{DateTime, Time, Weekday};
use jiff::tz::TimeZone;
use jiff::{SignedDuration, Timestamp};
use smallvec::SmallVec;

use super::comparison::Comparison;
use crate::ask::{Proven, Session};
use crate::entry::{Channel, Proof, When};
use crate::finding::{Code, Finding};
use crate::source::{At, Place};

/// Which part of a condition is meant.
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
#[derive(Clone, Debug, Default)]
pub struct Conditions {
    pub(crate) from: Option<(Timestamp, Place)>,
    pub(crate) until: Option<(Timestamp, Place)>,
    pub(crate) origin: Option<(Networks, Place)>,
    pub(crate) hours: Option<(Hours, Place)>,
    pub(crate) days: Option<(Vec<Weekday>, Place)>,
    pub(crate) zone: Option<TimeZone>,
    pub(crate) channel: Option<(Vec<Channel>, Place)>,
    pub(crate) proof: Option<ProofNeed>,
    pub(crate) compare: Vec<At<Comparison>>,
    /// As written, to be shown; none where nothing but a validity is given.
    pub(crate) written: Option<Box<When>>,
}

/// A proof that must have been given, one of several, and how long ago.
#[derive(Clone, Debug)]
pub(crate) struct ProofNeed {
    pub(crate) accepted: Vec<Proof>,
    /// At most so long ago, inclusive.
    pub(crate) age: Option<SignedDuration>,
    /// Longer ago than this.
    pub(crate) older: Option<SignedDuration>,
    pub(crate) place: Place,
}

type Attributes = [(At<String>, At<String>)];

/// What a condition may look at besides the session: where something is not known here, a condition on it is not either.
#[derive(Clone, Copy, Debug)]
pub(crate) struct Facts<'a> {
    pub(crate) session: &'a Session,
    /// The id and the attributes of the user.
    pub(crate) user: Option<(&'a str, &'a Attributes)>,
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

/// The parts of a condition that are given.
pub(crate) type Parts = smallvec::IntoIter<[(Part, Outcome, Place); 4]>;

impl Conditions {
    /// Returns whether there is none.
    pub(crate) const fn is_empty(&self) -> bool {
        self.from.is_none()
            && self.until.is_none()
            && self.origin.is_none()
            && self.hours.is_none()
            && self.days.is_none()
            && self.channel.is_none()
            && self.proof.is_none()
            && self.compare.is_empty()
    }

    /// Returns a finding where hours run over midnight beside days: the night belongs to the day on which it begins.
    pub(crate) fn night_of_day(&self) -> Option<Finding> {
        let (Some((hours, place)), Some((_, days))) = (&self.hours, &self.days) else { return None };
        hours.is_over_midnight().then(|| {
            Finding::new(Code::NightOfDay, "the hours run over midnight, and what is after it counts for the day before")
                .at(*place, "the night belongs to the day on which it begins")
                .also(*days, "these days")
                .help("with days = [\"fri\"] and hours = \"22:00-06:00\" it holds from Friday 22:00 to Saturday 06:00")
        })
    }

    /// Returns the outcome of each part that is given, with the place where it is written.
    pub(crate) fn parts<'a>(&self, facts: impl Into<Facts<'a>>) -> Parts {
        self.parts_of(&facts.into())
    }

    /// A list and not a chain of iterators: it is asked for in many places, and each would be compiled anew.
    #[inline(never)]
    fn parts_of(&self, facts: &Facts<'_>) -> Parts {
        let session = facts.session;
        let mut parts: SmallVec<[(Part, Outcome, Place); 4]> = SmallVec::new();
        let mut add = |part, holds: Option<bool>, place| {
            let outcome = match holds {
                None => Outcome::Unknown,
                Some(true) => Outcome::Holds,
                Some(false) => Outcome::Fails,
            };
            parts.push((part, outcome, place));
        };
        let civil = || {
            let zone = self.zone.clone().unwrap_or(TimeZone::UTC);
            session.at.map(|at| at.to_zoned_datetime(zone).datetime())
        };
        if let Some((from, place)) = self.from {
            add(Part::Validity, session.at.map(|at| at >= from), place);
        }
        if let Some((until, place)) = self.until {
            add(Part::Validity, session.at.map(|at| at < until), place);
        }
        if let Some((nets, place)) = &self.origin {
            let found = session.origin.map(|address| nets.find(address));
            add(Part::Origin, found.map(|f| f.is_some()), found.flatten().unwrap_or(*place));
        }
        if let Some((hours, place)) = &self.hours {
            add(Part::Hours, civil().map(|t| hours.contain(t.time())), *place);
        }
        if let Some((days, place)) = &self.days {
            // A night belongs to the day on which it starts.
            let runs_over =
                |time: Time| self.hours.as_ref().is_some_and(|(h, _)| h.is_over_midnight() && h.until.is_some_and(|u| time < u));
            let day = |t: DateTime| if runs_over(t.time()) { t.weekday().previous() } else { t.weekday() };
            add(Part::Days, civil().map(|t| days.contains(&day(t))), *place);
        }
        if let Some((list, place)) = &self.channel {
            add(Part::Channel, session.channel.map(|c| list.contains(&c)), *place);
        }
        parts.extend(self.proof.as_ref().map(|need| (Part::Proof, need.outcome(facts), need.place)));
        parts.extend(self.compare.iter().map(|c| (Part::Attributes, c.value.outcome(facts), c.place)));
        parts.into_iter()
    }

    /// Returns the outcome of all parts together: one that fails outweighs one that is not known.
    pub(crate) fn outcome<'a>(&self, facts: impl Into<Facts<'a>>) -> Outcome {
        if self.is_empty() {
            return Outcome::Holds;
        }
        let mut outcome = Outcome::Holds;
        for (_, part, _) in self.parts(facts) {
            match part {
                Outcome::Fails => return Outcome::Fails,
                Outcome::Unknown => outcome = Outcome::Unknown,
                Outcome::Holds => {}
            }
        }
        outcome
    }
}
