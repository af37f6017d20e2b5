//! What a decision looks at in a session, and how it comes out: a cut tells sessions apart.

use std::fmt;
use std::net::IpAddr;
use std::sync::Arc;

use ipnet::IpNet;
use jiff::{SignedDuration, Timestamp};

use super::axis::AxisName;
use crate::links::{Condition, Outcome};
use zest_model::ask::Session;
use zest_model::entry::{Channel, Proof};

/// Says whether an origin, or the server's own socket, fits; nothing where neither is stated.
///
/// # Example
/// ```
/// use zest_ledger::kind::Fits;
/// let on_board: &Fits = &|origin, is_local| if is_local { Some(false) } else { origin.map(|address| address.is_ipv6()) };
/// assert_eq!((on_board("2001:db8::1".parse().ok(), false), on_board(None, false)), (Some(true), None));
/// ```
pub type Fits = dyn Fn(Option<IpAddr>, bool) -> Option<bool> + Send + Sync;

/// Makes addresses on either side of a rule about origins.
///
/// # Example
/// ```
/// use zest_ledger::kind::Examples;
/// let on_board: &Examples = &|| ["2001:db8::1", "192.0.2.1"].iter().filter_map(|text| text.parse().ok()).collect();
/// assert_eq!(on_board().len(), 2);
/// ```
pub type Examples = dyn Fn() -> Vec<IpAddr> + Send + Sync;

/// What the rules of a system look at in a session besides conditions. Whoever reads a fact of a session that changes from moment to
/// moment, from place to place or from proof to proof says so, or a listing takes all sessions for alike.
///
/// # Example
/// ```
/// use zest_ledger::{entry::Proof, kind::Look};
/// let looks = [Look::Channel, Look::Some(vec![Proof::OneTimeCode])];
/// assert_ne!(format!("{:?}", looks[0]), format!("{:?}", looks[1]));
/// ```
#[derive(Clone)]
pub enum Look {
    /// Whether a moment has come.
    Moment(Timestamp),
    /// The channel.
    Channel,
    /// Whether proofs are stated, whether there are any, and whether each is one of these.
    Every(Vec<Proof>),
    /// Whether one of these proofs was given.
    Some(Vec<Proof>),
    /// Whether a session is opened with a password: that is so where no proof is stated.
    Password,
    /// Whether a proof, of this sort if one is named, was given so long ago at most.
    Age(Option<Proof>, SignedDuration),
    /// Whether the session comes from one of these networks.
    Networks(Vec<IpNet>),
    /// Whether an attribute is stated.
    Stated(String),
    /// Whether the origin fits a rule of the system's own.
    Origin {
        /// The rule in words, which are those of no other rule.
        rule: String,
        /// Makes addresses that tell it from other rules, once for each rule that is new.
        examples: Arc<Examples>,
        /// The rule.
        fits: Arc<Fits>,
    },
}

impl fmt::Debug for Look {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(&self.meaning())
    }
}

impl Look {
    /// Returns whether another one is written alike, which tells it from others at less cost than its meaning does.
    pub(super) fn is_like(&self, other: &Self) -> bool {
        match self {
            Self::Moment(moment) => matches!(other, Self::Moment(theirs) if theirs == moment),
            Self::Channel => matches!(other, Self::Channel),
            Self::Every(list) => matches!(other, Self::Every(theirs) if theirs == list),
            Self::Some(list) => matches!(other, Self::Some(theirs) if theirs == list),
            Self::Password => matches!(other, Self::Password),
            Self::Age(proof, age) => matches!(other, Self::Age(theirs, than) if (theirs, than) == (proof, age)),
            Self::Networks(list) => matches!(other, Self::Networks(theirs) if theirs == list),
            Self::Stated(name) => matches!(other, Self::Stated(theirs) if theirs == name),
            Self::Origin { rule, examples: _, fits: _ } => matches!(other, Self::Origin { rule: theirs, .. } if theirs == rule),
        }
    }

    fn meaning(&self) -> String {
        let words = |list: &[Proof]| {
            let mut words: Vec<&str> = list.iter().map(|p| p.word()).collect();
            words.sort_unstable();
            words.join(" ")
        };
        match self {
            Self::Moment(moment) => format!("moment {moment}"),
            Self::Channel => "the channel".to_owned(),
            Self::Every(list) => format!("every proof of {}", words(list)),
            Self::Some(list) => format!("some proof of {}", words(list)),
            Self::Password => "by password".to_owned(),
            Self::Age(proof, age) => format!("age {:?} {age:?}", proof.map(Proof::word)),
            Self::Networks(list) => {
                let mut list: Vec<String> = list.iter().map(ToString::to_string).collect();
                list.sort();
                format!("networks {}", list.join(" "))
            }
            Self::Stated(name) => format!("stated {name}"),
            Self::Origin { rule, .. } => format!("origin rule {rule}"),
        }
    }
}

/// What tells sessions apart.
#[derive(Clone, Debug)]
pub(super) enum Test {
    Condition(Condition),
    Look(Look),
}

/// A test, and the fact that it is about.
#[derive(Clone, Debug)]
pub(super) struct Cut {
    /// What tells it from every test that comes out otherwise.
    pub(super) meaning: String,
    pub(super) axis: AxisName,
    pub(super) test: Test,
}

/// How a cut comes out; each has codes of its own.
pub(super) type Code = u32;

/// It holds.
pub(super) const HOLDS: Code = 0;
/// It does not.
pub(super) const FAILS: Code = 1;
/// The fact is not stated.
pub(super) const NOT_STATED: Code = 2;
/// The fact is stated, and does not say whether it holds.
const NOT_KNOWN: Code = 3;
/// No proof was given at all.
const NONE_GIVEN: Code = 4;

const fn code(holds: Option<bool>) -> Code {
    match holds {
        None => NOT_STATED,
        Some(true) => HOLDS,
        Some(false) => FAILS,
    }
}

impl Cut {
    pub(super) fn of_condition(condition: &Condition) -> Self {
        let axis = match condition {
            Condition::Validity { .. } | Condition::Hours { .. } | Condition::Days { .. } => AxisName::At,
            Condition::Origin { .. } => AxisName::Origin,
            Condition::Channel(_) => AxisName::Channel,
            Condition::Proof(_) => AxisName::Proofs,
            Condition::Compare(comparison) => {
                let mut names: Vec<String> = comparison.stated().map(str::to_owned).collect();
                names.sort();
                names.dedup();
                AxisName::Attributes(names)
            }
        };
        Self { meaning: condition.meaning(), axis, test: Test::Condition(condition.clone()) }
    }

    pub(super) fn of_look(look: &Look) -> Self {
        let axis = match look {
            Look::Moment(_) => AxisName::At,
            Look::Channel => AxisName::Channel,
            Look::Every(_) | Look::Some(_) | Look::Password | Look::Age(..) => AxisName::Proofs,
            Look::Networks(_) | Look::Origin { .. } => AxisName::Origin,
            Look::Stated(name) => AxisName::Attributes(vec![name.clone()]),
        };
        Self { meaning: look.meaning(), axis, test: Test::Look(look.clone()) }
    }

    /// Returns how it comes out in a session.
    pub(super) fn outcome(&self, session: &Session) -> Code {
        let proofs = session.proofs.as_deref();
        match &self.test {
            Test::Condition(condition) => match condition.in_session(session) {
                Outcome::Holds => HOLDS,
                Outcome::Fails => FAILS,
                Outcome::Unknown => match condition {
                    Condition::Compare(comparison)
                        if comparison.stated().all(|name| session.attributes.iter().any(|(known, _)| known == name)) =>
                    {
                        NOT_KNOWN
                    }
                    _ => NOT_STATED,
                },
            },
            Test::Look(Look::Moment(moment)) => code(session.at.map(|at| at >= *moment)),
            Test::Look(Look::Channel) => match session.channel {
                None => NOT_STATED,
                Some(channel) => 8 + channel as Code,
            },
            Test::Look(Look::Every(list)) => match proofs {
                Some([]) => NONE_GIVEN,
                given => code(given.map(|given| given.iter().all(|p| list.contains(&p.proof)))),
            },
            Test::Look(Look::Some(list)) => code(proofs.map(|given| given.iter().any(|p| list.contains(&p.proof)))),
            Test::Look(Look::Password) => {
                code(Some(proofs.is_none_or(|given| given.is_empty() || given.iter().any(|p| p.proof == Proof::Password))))
            }
            Test::Look(Look::Age(proof, age)) => {
                code(proofs.map(|given| given.iter().any(|p| proof.is_none_or(|proof| p.proof == proof) && p.age <= *age)))
            }
            Test::Look(Look::Networks(list)) => {
                code(session.origin.map(|origin| list.iter().any(|net| net.contains(&origin.to_canonical()))))
            }
            Test::Look(Look::Stated(name)) => code(Some(session.attributes.iter().any(|(stated, _)| stated == name))),
            Test::Look(Look::Origin { fits, .. }) => code(fits(session.origin, session.local)),
        }
    }

    /// Says what it means that it comes out so; nothing where that is no more than that a fact is or is not stated.
    pub(super) fn words(&self, code: Code) -> Option<String> {
        let either = |holds: String, fails: String| match code {
            HOLDS => Some(holds),
            FAILS => Some(fails),
            _ => None,
        };
        let list = |list: &[Proof]| list.iter().map(|p| p.word()).collect::<Vec<_>>().join(" or ");
        match &self.test {
            Test::Condition(condition) => either(condition.words(), format!("not {}", condition.words())),
            Test::Look(Look::Moment(moment)) => either(format!("from {moment} on"), format!("before {moment}")),
            Test::Look(Look::Channel) => {
                let channels = [Channel::Terminal, Channel::Web, Channel::Api];
                channels.into_iter().find(|c| 8 + *c as Code == code).map(|c| format!("by {}", c.word()))
            }
            Test::Look(Look::Every(of)) => either(format!("with {}", list(of)), format!("with another proof than {}", list(of))),
            Test::Look(Look::Some(of)) => either(format!("with {}", list(of)), format!("without {}", list(of))),
            Test::Look(Look::Password) => either("by password".to_owned(), "without a password".to_owned()),
            Test::Look(Look::Age(proof, age)) => {
                let what = proof.map_or("a proof", Proof::word);
                let how = if age.is_zero() { "given just now".to_owned() } else { format!("within {age:#}") };
                either(format!("with {what} {how}"), format!("without {what} {how}"))
            }
            Test::Look(Look::Networks(networks)) => {
                let networks = networks.iter().map(ToString::to_string).collect::<Vec<_>>().join(" or ");
                either(format!("from {networks}"), format!("not from {networks}"))
            }
            Test::Look(Look::Stated(name)) => either(format!("with `{name}` stated"), format!("without `{name}`")),
            Test::Look(Look::Origin { rule, .. }) => either(format!("from {rule}"), format!("not from {rule}")),
        }
    }
}
