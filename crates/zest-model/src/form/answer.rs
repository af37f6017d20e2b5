//! Answers and remedies as JSON.

use std::borrow::Cow;

use serde::de::Error as _;
use serde::{Deserialize, Deserializer, Serialize, Serializer};

use super::Format;
use super::question::Inner;
use crate::ask::{Answer, Change, Gate, GateOutcome, Question, Refusal, Remedy, Stage, Step, Verdict, Width};
use crate::more::More;
use crate::source::Location;

/// An answer as it is written.
#[derive(Serialize)]
#[serde(rename_all = "kebab-case")]
struct Told<'a> {
    format: Format,
    question: Inner<'a>,
    verdict: Verdict,
    stage: Option<Stage>,
    code: Option<Refusal>,
    full_line: Option<&'a str>,
    level: Option<u8>,
    account: Option<&'a str>,
    object: Option<&'a str>,
    grounds: Vec<Ground<'a>>,
    #[serde(skip_serializing_if = "Option::is_none")]
    remedies: Option<Vec<ToldRemedy<'a>>>,
    #[serde(skip_serializing_if = "Option::is_none")]
    able: Option<&'a [String]>,
}

/// An answer with its grounds and remedies.
#[derive(Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema), schemars(rename = "Answer"))]
#[serde(rename_all = "kebab-case", deny_unknown_fields)]
pub(super) struct Read {
    #[expect(dead_code, reason = "reading it is the check")]
    format: Format,
    question: Question,
    verdict: Verdict,
    stage: Option<Stage>,
    code: Option<Refusal>,
    full_line: Option<String>,
    level: Option<u8>,
    account: Option<String>,
    object: Option<String>,
    grounds: Vec<Ground<'static>>,
    #[serde(default)]
    remedies: Option<Vec<ReadRemedy>>,
    #[serde(default)]
    able: Option<Vec<String>>,
}

/// A reason with the entry it rests on.
#[derive(Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(rename_all = "kebab-case", deny_unknown_fields)]
pub(super) struct Ground<'a> {
    stage: Stage,
    outcome: Outcome,
    /// The code of a refusal.
    code: Option<Refusal>,
    text: Cow<'a, str>,
    place: Option<Cow<'a, Location>>,
}

#[derive(Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(rename_all = "kebab-case")]
enum Outcome {
    Passes,
    Refuses,
    Asks,
}

/// A remedy inside of an answer, as it is written.
#[derive(Serialize)]
#[serde(rename_all = "kebab-case")]
struct ToldRemedy<'a> {
    verdict: Verdict,
    width: Width,
    steps: Vec<ToldStep<'a>>,
}

#[derive(Serialize)]
#[serde(rename_all = "kebab-case")]
struct ToldStep<'a> {
    change_of: ChangeOf,
    text: &'a str,
    place: Option<&'a Location>,
    change: super::change::Inner<'a>,
}

/// A smallest change, or a few together, that turns a refusal round.
#[derive(Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema), schemars(rename = "Remedy"))]
#[serde(rename_all = "kebab-case", deny_unknown_fields)]
pub(super) struct ReadRemedy {
    #[expect(dead_code, reason = "reading it is the check")]
    #[serde(default)]
    format: Format,
    verdict: Verdict,
    width: Width,
    steps: Vec<ReadStep>,
    /// What it writes into the documents, where that was asked for; it is told and not read back.
    #[expect(dead_code, reason = "it follows from the changes and the ledger")]
    #[serde(default)]
    writes: Option<serde_json::Value>,
}

/// One change of a remedy, in data and as a clause.
#[derive(Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema), schemars(rename = "Step"))]
#[serde(rename_all = "kebab-case", deny_unknown_fields)]
struct ReadStep {
    change_of: ChangeOf,
    text: String,
    place: Option<Location>,
    change: Change,
}

/// What a change is of.
#[derive(Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(rename_all = "kebab-case")]
enum ChangeOf {
    Session,
    Ledger,
}

impl ChangeOf {
    const fn of(change: &Change) -> Self {
        if change.is_of_session() { Self::Session } else { Self::Ledger }
    }
}

impl<'a> Ground<'a> {
    fn of(gate: &'a Gate) -> Self {
        let Gate { stage, outcome, text, location, more: _ } = gate;
        let (outcome, code) = match *outcome {
            GateOutcome::Passes => (Outcome::Passes, None),
            GateOutcome::Refuses(code) => (Outcome::Refuses, Some(code)),
            GateOutcome::Asks => (Outcome::Asks, None),
        };
        Self { stage: *stage, outcome, code, text: Cow::Borrowed(text), place: location.as_ref().map(Cow::Borrowed) }
    }

    fn gate(self) -> Result<Gate, &'static str> {
        let Self { stage, outcome, code, text, place } = self;
        let outcome = match (outcome, code) {
            (Outcome::Passes, None) => GateOutcome::Passes,
            (Outcome::Refuses, Some(code)) => GateOutcome::Refuses(code),
            (Outcome::Asks, None) => GateOutcome::Asks,
            (Outcome::Refuses, None) => return Err("a ground that refuses has a `code`"),
            (Outcome::Passes | Outcome::Asks, Some(_)) => return Err("only a ground that refuses has a `code`"),
        };
        Ok(Gate { stage, outcome, text: text.into_owned(), location: place.map(Cow::into_owned), more: More })
    }
}

impl<'a> ToldRemedy<'a> {
    fn of(remedy: &'a Remedy) -> Self {
        let Remedy { steps, verdict, width, more: _ } = remedy;
        let step = |step: &'a Step| {
            let Step { change, text, location, more: _ } = step;
            ToldStep { change_of: ChangeOf::of(change), text, place: location.as_ref(), change: super::change::Inner(change) }
        };
        Self { verdict: *verdict, width: *width, steps: steps.iter().map(step).collect() }
    }
}

impl ReadRemedy {
    fn remedy(self) -> Result<Remedy, &'static str> {
        let Self { format: _, verdict, width, steps, writes: _ } = self;
        let step = |step: ReadStep| {
            let ReadStep { change_of, text, place, change } = step;
            if change_of != ChangeOf::of(&change) {
                return Err("`change-of` does not fit the change");
            }
            Ok(Step { change, text, location: place, more: More })
        };
        Ok(Remedy { steps: steps.into_iter().map(step).collect::<Result<_, _>>()?, verdict, width, more: More })
    }
}

/// The rule is left out: its number is one of the engine that was asked. `remedies` and `able` are there where they were looked for.
impl Serialize for Answer {
    fn serialize<S: Serializer>(&self, serializer: S) -> Result<S::Ok, S::Error> {
        let Self { question, verdict, refusal, rule: _, gates, full_line, level, account, object, remedies, able, sought, now: _, more: _ } =
            self;
        let told = Told {
            format: Format,
            question: Inner(question),
            verdict: *verdict,
            stage: refusal.map(Refusal::stage),
            code: *refusal,
            full_line: full_line.as_deref(),
            level: *level,
            account: account.as_deref(),
            object: object.as_deref(),
            grounds: gates.iter().map(Ground::of).collect(),
            remedies: sought.then(|| remedies.iter().map(ToldRemedy::of).collect()),
            able: sought.then_some(able),
        };
        told.serialize(serializer)
    }
}

impl<'de> Deserialize<'de> for Answer {
    fn deserialize<D: Deserializer<'de>>(deserializer: D) -> Result<Self, D::Error> {
        let Read { format: _, question, verdict, stage, code, full_line, level, account, object, grounds, remedies, able } =
            Read::deserialize(deserializer)?;
        if stage != code.map(Refusal::stage) || (verdict == Verdict::Denied) != code.is_some() {
            return Err(D::Error::custom("`verdict`, `stage` and `code` do not fit each other"));
        }
        let gates = grounds.into_iter().map(Ground::gate).collect::<Result<_, _>>().map_err(D::Error::custom)?;
        let sought = remedies.is_some();
        let remedies = remedies.unwrap_or_default().into_iter().map(ReadRemedy::remedy).collect::<Result<_, _>>();
        Ok(Self {
            question,
            verdict,
            refusal: code,
            rule: None,
            gates,
            full_line,
            level,
            account,
            object,
            remedies: remedies.map_err(D::Error::custom)?,
            able: able.unwrap_or_default(),
            sought,
            now: None,
            more: More,
        })
    }
}

impl Serialize for Remedy {
    fn serialize<S: Serializer>(&self, serializer: S) -> Result<S::Ok, S::Error> {
        #[derive(Serialize)]
        struct Outer<'a> {
            format: Format,
            #[serde(flatten)]
            remedy: ToldRemedy<'a>,
        }
        Outer { format: Format, remedy: ToldRemedy::of(self) }.serialize(serializer)
    }
}

impl<'de> Deserialize<'de> for Remedy {
    fn deserialize<D: Deserializer<'de>>(deserializer: D) -> Result<Self, D::Error> {
        ReadRemedy::deserialize(deserializer)?.remedy().map_err(D::Error::custom)
    }
}
