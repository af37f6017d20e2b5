//! The form in which questions, answers, remedies, changes and findings are written for programs: `serde`, with a version.
//!
//! Keys are never renamed within a version. What a later version writes is refused by name, and never half read.

mod answer;
mod change;
mod finding;
mod listing;
mod question;
#[cfg(feature = "schema")]
mod schema;

use std::fmt;

use serde::de::Error as _;
use serde::{Deserialize, Deserializer, Serialize, Serializer};
use serde_json::Value;

use crate::source::visible;
pub use finding::{Defect, Defects, Remark};
pub use listing::{
    Alike, Comparison, Coverage, EffectiveRights, Expectations, Holders, Obligations, Opened, Promises, Ready, Session, Visible, WaysFound,
};
pub use question::{QuestionError, parse_question, parse_question_in};
#[cfg(feature = "schema")]
pub use schema::schemas;

/// The version of the form; it is written under `format`.
///
/// # Example
/// ```
/// use zest_ledger::json::{EffectiveRights, FORMAT};
/// let text = serde_json::to_string(&EffectiveRights::from(Vec::new())).expect("it can be written");
/// assert!(text.contains(&format!(r#""format":{FORMAT}"#)));
/// ```
pub const FORMAT: u32 = 1;

/// Checks the version under `format` of a form that may leave it out.
fn is_known(format: Option<&Value>) -> Result<(), String> {
    match format.filter(|format| format.as_u64() != Some(u64::from(FORMAT))) {
        None => Ok(()),
        Some(other) => Err(another(&visible(&other.to_string()))),
    }
}

fn another(format: &dyn fmt::Display) -> String {
    format!("`format` is {format}, and this version reads format {FORMAT}")
}

/// The version under `format`: the one that is known here, or an error.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
struct Format;

impl Serialize for Format {
    fn serialize<S: Serializer>(&self, serializer: S) -> Result<S::Ok, S::Error> {
        serializer.serialize_u32(FORMAT)
    }
}

impl<'de> Deserialize<'de> for Format {
    fn deserialize<D: Deserializer<'de>>(deserializer: D) -> Result<Self, D::Error> {
        match u32::deserialize(deserializer)? {
            FORMAT => Ok(Self),
            other => Err(D::Error::custom(another(&other))),
        }
    }
}
