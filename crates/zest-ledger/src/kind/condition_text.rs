//! Conditions in words: what they want, and how they came out.

use std::fmt::Write as _;

use super::trace::{Stop, Trace};
use crate::ask::{Refusal, Stage};
use crate::estate::{Conditions, Facts, Outcome, Part};
use crate::source::{At, Place, visible};

/// Returns the code of a part that fails.
pub(crate) const fn refusal_of(part: Part) -> Refusal {
    match part {
        Part::Validity => Refusal::AssignmentNotValid,
        Part::Origin => Refusal::OriginOutside,
        Part::Hours => Refusal::OutsideHours,
        Part::Days => Refusal::OutsideDays,
        Part::Channel => Refusal::ChannelOutside,
        Part::Proof => Refusal::ProofMissing,
        Part::Attributes => Refusal::AttributesDiffer,
    }
}

fn list(texts: &[At<String>], glue: &str) -> String {
    texts.iter().map(|t| visible(&t.value)).collect::<Vec<_>>().join(glue)
}

fn proof(conditions: &Conditions) -> String {
    conditions.proof.iter().flat_map(|p| &p.accepted).map(|p| p.word()).collect::<Vec<_>>().join(" or ")
}

fn age(conditions: &Conditions, within: &str) -> String {
    let Some(need) = &conditions.proof else { return String::new() };
    let age = need.age.map_or(String::new(), |a| format!(" {within} {a:#}"));
    let older = need.older.map_or(String::new(), |a| format!(" longer ago than {a:#}"));
    age + &older
}

/// The comparison that is written at a place.
fn comparison(conditions: &Conditions, place: Place) -> String {
    conditions.compare.iter().find(|c| c.place == place).map_or(String::new(), |c| visible(&c.value.to_string()))
}

/// Says how a known part came out; `what` is the entry, as in "the assignment".
pub(crate) fn outcome(conditions: &Conditions, facts: &Facts<'_>, what: &str, (part, place): (Part, Place), holds: bool) -> String {
    let Some(when) = conditions.written.as_deref() else { return validity(conditions, what, holds) };
    let session = facts.session;
    let zone = when.zone.as_ref().map_or("UTC", |z| z.value.as_str());
    let clock = || {
        let zone = conditions.zone.clone().unwrap_or(jiff::tz::TimeZone::UTC);
        session.at.map_or(String::new(), |at| at.to_zoned_datetime(zone).strftime("%a %H:%M").to_string())
    };
    let not = if holds { "" } else { "not " };
    match part {
        Part::Validity => validity(conditions, what, holds),
        Part::Origin => format!("{} is {not}within {}", session.origin.map_or(String::new(), |o| o.to_string()), list(&when.origin, ", ")),
        Part::Hours => {
            let hours = when.hours.as_ref().map_or("", |h| h.value.as_str());
            format!("{} is {not}within {} {}", clock(), visible(hours), visible(zone))
        }
        Part::Days => format!("{} ({}) is {not}one of {}", clock(), visible(zone), list(&when.days, ", ")),
        Part::Channel => {
            let wanted: Vec<&str> = when.channel.iter().map(|c| c.value.word()).collect();
            format!("the channel {} is {not}{}", session.channel.map_or("", |c| c.word()), wanted.join(" or "))
        }
        Part::Proof => {
            let verb = if holds { "was given" } else { "was not given" };
            let elsewhere = elsewhere(facts).filter(|_| !holds).unwrap_or_default();
            format!("{} {verb}{}{elsewhere}", proof(conditions), age(conditions, "within the last"))
        }
        Part::Attributes => format!("{} {}", comparison(conditions, place), if holds { "holds" } else { "does not hold" }),
    }
}

/// Says that a proof that was stated was given on a channel from which it does not carry over, if one was.
pub(crate) fn elsewhere(facts: &Facts<'_>) -> Option<String> {
    let given = facts.session.proofs.iter().flatten();
    let channel = given.filter(|p| facts.counts(p) != Some(true)).find_map(|p| p.channel)?;
    Some(format!("; a proof given by {} does not count here", channel.word()))
}

fn validity(conditions: &Conditions, what: &str, holds: bool) -> String {
    if holds {
        return format!("{what} is valid at this moment");
    }
    let mut text = format!("{what} is not valid at this moment");
    if let Some((from, _)) = conditions.from {
        let _ = write!(text, ", from {from}");
    }
    if let Some((until, _)) = conditions.until {
        let _ = write!(text, ", until {until}");
    }
    text
}

/// Says what a part wants.
pub(crate) fn words(conditions: &Conditions, (part, place): (Part, Place)) -> String {
    let when = conditions.written.as_deref();
    let zone = visible(when.and_then(|w| w.zone.as_ref()).map_or("UTC", |z| z.value.as_str()));
    match (part, when) {
        (Part::Validity, _) | (_, None) => {
            let from = conditions.from.map(|(at, _)| format!("from {at}"));
            let until = conditions.until.map(|(at, _)| format!("until {at}"));
            from.into_iter().chain(until).collect::<Vec<_>>().join(" ")
        }
        (Part::Origin, Some(when)) => format!("from {}", list(&when.origin, " or ")),
        (Part::Hours, Some(when)) => format!("{} {zone}", visible(when.hours.as_ref().map_or("", |h| h.value.as_str()))),
        (Part::Days, Some(when)) => format!("on {} ({zone})", list(&when.days, " or ")),
        (Part::Channel, Some(when)) => format!("by {}", when.channel.iter().map(|c| c.value.word()).collect::<Vec<_>>().join(" or ")),
        (Part::Proof, Some(_)) => format!("with {}{}", proof(conditions), age(conditions, "within")),
        (Part::Attributes, Some(_)) => comparison(conditions, place),
    }
}

/// Says what the question must state for a part that is not known.
pub(crate) fn missing(conditions: &Conditions, facts: &Facts<'_>, (part, place): (Part, Place)) -> String {
    match part {
        Part::Attributes => {
            let unknown = conditions.compare.iter().find(|c| c.place == place).and_then(|c| c.value.unknown(facts));
            unknown.map_or_else(|| "numbers on both sides of a comparison".to_owned(), |o| format!("`{}`", visible(&o.to_string())))
        }
        _ => format!("the {}", part.fact()),
    }
}

/// Says what all parts want, for a list.
pub(crate) fn all_words(conditions: &Conditions, facts: &Facts<'_>) -> Vec<String> {
    let mut list: Vec<String> = conditions
        .parts(*facts)
        .filter(|&(_, o, _)| o != Outcome::Holds)
        .map(|(part, _, place)| words(conditions, (part, place)))
        .collect();
    list.dedup();
    list
}

/// Checks every part of conditions; `what` says whose they are, as in "the assignment".
pub(crate) fn check(conditions: &Conditions, facts: &Facts<'_>, what: &str, trace: &mut Trace) -> Result<(), Stop> {
    let whole = conditions.outcome(*facts);
    for (part, found, place) in conditions.parts(*facts) {
        let text = |holds| outcome(conditions, facts, what, (part, place), holds);
        match found {
            Outcome::Holds => trace.pass(Stage::Conditions, || (text(true), Some(place))),
            Outcome::Fails => trace.refuse(Stage::Conditions, refusal_of(part), || (text(false), Some(place)))?,
            Outcome::Unknown if whole == Outcome::Unknown => {
                let missing = || missing(conditions, facts, (part, place));
                trace.refuse(Stage::Conditions, Refusal::NotStated, || {
                    (format!("the question does not state {}, and {what} depends on it", missing()), Some(place))
                })?;
            }
            Outcome::Unknown => {}
        }
    }
    Ok(())
}
