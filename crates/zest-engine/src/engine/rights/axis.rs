//! One fact of a session, and the classes of its values that cuts can tell apart.

use std::collections::BTreeSet;
use std::net::IpAddr;

use ipnet::IpNet;
use jiff::civil::Time;
use jiff::tz::TimeZone;
use jiff::{SignedDuration, Timestamp, ToSpan as _};

use super::look::{Code, Cut, Look, Test};
use crate::links::Condition;
use zest_model::ask::{Proven, Session};
use zest_model::entry::{Channel, Proof};

/// Which fact of a session.
#[derive(Clone, Debug, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub(super) enum AxisName {
    At,
    Origin,
    Channel,
    Proofs,
    /// Attributes of the session, by name: one, or two that are compared with each other.
    Attributes(Vec<String>),
}

/// A value of a fact. Not to be stated is one.
#[derive(Clone, Debug, PartialEq)]
pub(super) enum Value {
    At(Option<Timestamp>),
    Origin(Option<IpAddr>),
    Local,
    Channel(Option<Channel>),
    Proofs(Option<Vec<Proven>>),
    Attributes(Vec<(String, String)>),
}

impl Value {
    pub(super) fn state(&self, session: &mut Session) {
        match self {
            Self::At(at) => session.at = *at,
            Self::Origin(origin) => session.origin = *origin,
            Self::Local => session.local = true,
            Self::Channel(channel) => session.channel = *channel,
            Self::Proofs(proofs) => session.proofs.clone_from(proofs),
            Self::Attributes(list) => session.attributes.extend(list.iter().cloned()),
        }
    }
}

/// A class of values that all cuts take for alike.
#[derive(Clone, Debug)]
pub(super) struct Atom {
    /// One of them.
    pub(super) value: Value,
    /// How each cut of the axis comes out.
    pub(super) codes: Vec<Code>,
}

/// A fact with its cuts, and the classes that these make.
#[derive(Clone, Debug)]
pub(super) struct Axis {
    pub(super) name: AxisName,
    /// The numbers of its cuts.
    pub(super) cuts: Vec<usize>,
    pub(super) atoms: Vec<Atom>,
    /// Whether there are too many values to try each.
    pub(super) is_cut_short: bool,
}

/// How many values of a fact are tried.
const MAX_VALUES: usize = 20_000;

/// What is known beforehand about the sessions that are looked at.
#[derive(Clone, Debug)]
pub(super) struct Ground {
    /// The proofs that may be given.
    pub(super) proofs: Vec<Proof>,
    /// The first moment.
    pub(super) start: Timestamp,
    /// Facts that are stated: other values of theirs are not looked at.
    pub(super) stated: Session,
}

impl Axis {
    /// Makes an axis that nothing cuts.
    pub(super) const fn new(name: AxisName) -> Self {
        Self { name, cuts: Vec::new(), atoms: Vec::new(), is_cut_short: false }
    }

    /// Finds the classes anew.
    pub(super) fn divide(&mut self, cuts: &[Cut], ground: &Ground) {
        let mine: Vec<&Cut> = self.cuts.iter().map(|&cut| &cuts[cut]).collect();
        let mut values = values(&self.name, &mine, ground);
        self.is_cut_short = values.len() > MAX_VALUES;
        values.truncate(MAX_VALUES);
        let mut seen = BTreeSet::new();
        self.atoms.clear();
        for value in values {
            let mut session = Session::default();
            value.state(&mut session);
            let codes: Vec<Code> = mine.iter().map(|cut| cut.outcome(&session)).collect();
            if seen.insert(codes.clone()) {
                self.atoms.push(Atom { value, codes });
            }
        }
    }

    /// Returns the class that a session is in; nothing where none of those that were found is its.
    pub(super) fn class(&self, cuts: &[Cut], session: &Session) -> Option<usize> {
        let codes: Vec<Code> = self.cuts.iter().map(|&cut| cuts[cut].outcome(session)).collect();
        self.atoms.iter().position(|atom| atom.codes == codes)
    }

    /// Returns how one of its cuts comes out for a class.
    pub(super) fn code(&self, atom: usize, cut: usize) -> Code {
        self.cuts.iter().position(|c| *c == cut).map_or(super::look::HOLDS, |at| self.atoms[atom].codes[at])
    }
}

/// Returns values of a fact among which there is one of every class, the one that is not stated first.
fn values(name: &AxisName, cuts: &[&Cut], ground: &Ground) -> Vec<Value> {
    let stated = &ground.stated;
    match name {
        AxisName::At if stated.at.is_some() => vec![Value::At(stated.at)],
        AxisName::Origin if stated.local => vec![Value::Local],
        AxisName::Origin if stated.origin.is_some() => vec![Value::Origin(stated.origin)],
        AxisName::Channel if stated.channel.is_some() => vec![Value::Channel(stated.channel)],
        AxisName::Proofs if stated.proofs.is_some() => vec![Value::Proofs(stated.proofs.clone())],
        AxisName::Attributes(_) if !stated.attributes.is_empty() => vec![Value::Attributes(Vec::new())],
        AxisName::At => moments(cuts, ground.start).into_iter().map(Value::At).collect(),
        AxisName::Origin => origins(cuts),
        AxisName::Channel => {
            [None, Some(Channel::Terminal), Some(Channel::Web), Some(Channel::Api)].into_iter().map(Value::Channel).collect()
        }
        AxisName::Proofs => proofs(cuts, ground),
        AxisName::Attributes(names) => attributes(names, cuts),
    }
}

/// Moments: each bound and the moment before it; and where hours or days count, each edge of a week behind each bound, in summer and in
/// winter, so that every combination of windows that occurs is there.
fn moments(cuts: &[&Cut], start: Timestamp) -> Vec<Option<Timestamp>> {
    const SECOND: SignedDuration = SignedDuration::from_secs(1);
    let mut bounds: BTreeSet<Timestamp> = BTreeSet::new();
    let mut zones: Vec<(TimeZone, &str)> = Vec::new();
    let mut edges: BTreeSet<Time> = BTreeSet::new();
    for cut in cuts {
        match &cut.test {
            Test::Look(Look::Moment(moment)) => drop(bounds.insert(*moment)),
            Test::Condition(Condition::Validity { from, until, .. }) => bounds.extend(from.iter().chain(until)),
            Test::Condition(Condition::Hours { hours, zone, .. }) => {
                edges.insert(hours.from);
                edges.extend(hours.until);
                zones.push((zone.zone.clone(), &zone.name));
            }
            Test::Condition(Condition::Days { night, zone, .. }) => {
                edges.insert(Time::midnight());
                edges.extend(night.and_then(|hours| hours.until));
                zones.push((zone.zone.clone(), &zone.name));
            }
            Test::Condition(_) | Test::Look(_) => {}
        }
    }
    zones.sort_by(|a, b| a.1.cmp(b.1));
    zones.dedup_by(|a, b| a.1 == b.1);
    let mut all: BTreeSet<Timestamp> = BTreeSet::from([start]);
    for bound in &bounds {
        all.extend([*bound].into_iter().chain(bound.checked_sub(SECOND)));
    }
    // Where there are several zones, what is midday here may be night there, and for some weeks of the year an hour more or less.
    let seasons: Vec<i64> = if zones.len() > 1 { (0..27).map(|n| n * 14).collect() } else { vec![0, 182] };
    for (zone, _) in &zones {
        let from = std::iter::once(start).chain(bounds.iter().copied());
        for (n, from) in from.enumerate() {
            let day = from.to_zoned_datetime(zone.clone()).date();
            let later: &[i64] = if n == 0 { &seasons } else { &seasons[..1] };
            for day in later.iter().flat_map(|later| (0..9).map(move |d| later + d)).filter_map(|days| day.checked_add(days.days()).ok()) {
                for edge in &edges {
                    if let Ok(at) = zone.to_timestamp(day.to_datetime(*edge)) {
                        all.extend([at].into_iter().chain(at.checked_sub(SECOND)));
                    }
                }
                if all.len() > MAX_VALUES {
                    break;
                }
            }
        }
    }
    std::iter::once(None).chain(all.into_iter().map(Some)).collect()
}

/// Origins: the ends of each network and their neighbours on both sides, since where networks lie in each other, what is left of the
/// wider one begins at its start or behind one of the others.
fn origins(cuts: &[&Cut]) -> Vec<Value> {
    let mut all: Vec<IpAddr> = Vec::new();
    let mut has_local = false;
    let mut around = |net: IpNet| {
        // One that a host can have comes first: it is shown as an example.
        all.extend(net.hosts().next());
        let ends = [net.network(), net.broadcast()];
        all.extend(ends.into_iter().chain(before(net.network())).chain(after(net.broadcast())));
    };
    for cut in cuts {
        match &cut.test {
            Test::Condition(Condition::Origin { networks, .. }) => networks.list().into_iter().for_each(&mut around),
            Test::Look(Look::Networks(networks)) => networks.iter().copied().for_each(&mut around),
            Test::Look(Look::Origin { examples, .. }) => {
                has_local = true;
                examples().into_iter().map(IpNet::from).for_each(&mut around);
            }
            Test::Condition(_) | Test::Look(_) => {}
        }
    }
    // Some that are named nowhere, from networks that are reserved for documents.
    all.extend(["203.0.113.77", "198.51.100.77", "2001:db8:7::77"].iter().filter_map(|text| text.parse::<IpAddr>().ok()));
    let mut list = vec![Value::Origin(None)];
    list.extend(has_local.then_some(Value::Local));
    list.extend(all.into_iter().map(|address| Value::Origin(Some(address.to_canonical()))));
    list
}

fn before(address: IpAddr) -> Option<IpAddr> {
    match address {
        IpAddr::V4(v4) => u32::from(v4).checked_sub(1).map(|n| IpAddr::V4(n.into())),
        IpAddr::V6(v6) => u128::from(v6).checked_sub(1).map(|n| IpAddr::V6(n.into())),
    }
}

fn after(address: IpAddr) -> Option<IpAddr> {
    match address {
        IpAddr::V4(v4) => u32::from(v4).checked_add(1).map(|n| IpAddr::V4(n.into())),
        IpAddr::V6(v6) => u128::from(v6).checked_add(1).map(|n| IpAddr::V6(n.into())),
    }
}

/// Proofs: each that may be given, or not, at each age that counts; and one that may not be given.
fn proofs(cuts: &[&Cut], ground: &Ground) -> Vec<Value> {
    let mut ages: BTreeSet<SignedDuration> = BTreeSet::new();
    let mut named: Vec<Proof> = Vec::new();
    for cut in cuts {
        match &cut.test {
            Test::Condition(Condition::Proof(need)) => {
                ages.extend(need.age.iter().chain(&need.older));
                named.extend(&need.accepted);
            }
            Test::Look(Look::Age(proof, age)) => {
                ages.insert(*age);
                named.extend(*proof);
            }
            Test::Look(Look::Every(list) | Look::Some(list)) => named.extend(list),
            Test::Look(Look::Password) => named.push(Proof::Password),
            Test::Condition(_) | Test::Look(_) => {}
        }
    }
    let one = SignedDuration::from_secs(1);
    let mut at: Vec<SignedDuration> = ages.iter().copied().chain(ages.last().map(|last| last.saturating_add(one))).collect();
    if at.is_empty() {
        at.push(SignedDuration::ZERO);
    }
    let mut given: Vec<Vec<Proven>> = vec![Vec::new()];
    for &proof in &ground.proofs {
        let with = given.iter().flat_map(|list| {
            at.iter().map(move |&age| {
                let mut list = list.clone();
                list.push(Proven::new(proof, age));
                list
            })
        });
        let mut with: Vec<Vec<Proven>> = with.take(MAX_VALUES).collect();
        given.append(&mut with);
    }
    // Of those that may not be given, each that is named anywhere stands for itself, and one for all others.
    let foreign = |proof: &Proof| !ground.proofs.contains(proof);
    let others = Proof::WORDS.iter().filter_map(|word| Proof::from_word(word)).filter(|proof| !named.contains(proof)).filter(foreign);
    let mut strange: Vec<Proof> = others.take(1).collect();
    strange.extend(named.iter().copied().filter(foreign));
    strange.sort_unstable_by_key(|p| p.word());
    strange.dedup();
    let strange: Vec<Proven> = strange.iter().flat_map(|&proof| at.iter().map(move |&age| Proven::new(proof, age))).collect();
    let with: Vec<Vec<Proven>> = given
        .iter()
        .flat_map(|list| strange.iter().map(move |&proven| list.iter().copied().chain([proven]).collect()))
        .take(MAX_VALUES)
        .collect();
    let stated = given.into_iter().chain(with).map(|list| Value::Proofs(Some(list)));
    std::iter::once(Value::Proofs(None)).chain(stated).collect()
}

/// Attributes: not stated, what each is compared with and its neighbours, and something else; of two, each with each.
fn attributes(names: &[String], cuts: &[&Cut]) -> Vec<Value> {
    let mut texts: Vec<String> = Vec::new();
    for cut in cuts {
        let Test::Condition(Condition::Compare(comparison)) = &cut.test else { continue };
        for literal in comparison.literals() {
            texts.push(literal.to_owned());
            if let Ok(number) = literal.parse::<i64>() {
                texts.extend([number.checked_sub(1), number.checked_add(1)].into_iter().flatten().map(|n| n.to_string()));
            }
        }
    }
    texts.extend(["something-else".to_owned(), "another-thing".to_owned(), "1".to_owned(), "2".to_owned()]);
    texts.sort();
    texts.dedup();
    let mut list: Vec<Vec<(String, String)>> = vec![Vec::new()];
    for name in names {
        let with: Vec<_> = list
            .iter()
            .flat_map(|stated| texts.iter().map(move |text| stated.iter().cloned().chain([(name.clone(), text.clone())]).collect()))
            .take(MAX_VALUES)
            .collect();
        list.extend(with);
    }
    list.into_iter().map(Value::Attributes).collect()
}
