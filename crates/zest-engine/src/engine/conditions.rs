//! Conditions at the gates: each as it comes out.

use super::trace::{Stop, Trace};
use crate::links::{Conditions, Facts, Outcome};
use zest_model::ask::{Refusal, Stage};

/// Checks every condition; `what` says whose they are, as in "the assignment".
pub(crate) fn check(conditions: &Conditions, facts: &Facts<'_>, what: &str, trace: &mut Trace) -> Result<(), Stop> {
    let whole = conditions.outcome(*facts);
    for part in conditions.parts(*facts) {
        let (condition, place) = (part.condition, Some(part.place));
        match part.outcome {
            Outcome::Holds => trace.pass(Stage::Conditions, || (condition.told(facts, what, true), place)),
            Outcome::Fails => trace.refuse(Stage::Conditions, condition.refusal(), || (condition.told(facts, what, false), place))?,
            Outcome::Unknown if whole == Outcome::Unknown => {
                trace.refuse(Stage::Conditions, Refusal::NotStated, || {
                    (format!("the question does not state {}, and {what} depends on it", condition.missing(facts)), place)
                })?;
            }
            Outcome::Unknown => {}
        }
    }
    Ok(())
}
