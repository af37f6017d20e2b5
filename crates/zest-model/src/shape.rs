//! What a table of a document may hold: one description that checks documents, reads them and writes the JSON Schema.

use toml::de::DeValue;

/// What a value may be.
///
/// # Example
/// ```
/// use zest_ledger::kind::{Key, Shape};
/// static NAMES: Shape = Shape::List(&Shape::Text);
/// let _ = Key::new("bells", Shape::Map(&NAMES), "names, by the bell");
/// ```
#[derive(Debug)]
pub enum Shape {
    /// Any text.
    Text,
    /// A text of a form, as a regular expression: editors are told, and who reads it says better what is wrong.
    Form(&'static str),
    /// `true` or `false`.
    Flag,
    /// A whole number, both ends inclusive.
    Whole(i64, i64),
    /// A date, or a date and time with offset.
    Moment,
    /// A length of time such as `10m` or `1h 30m`.
    Length,
    /// The word of a kind that is known.
    Kind,
    /// One of these words.
    Words(&'static [&'static str]),
    /// A list of such values.
    List(&'static Self),
    /// A table with fixed keys.
    Table(&'static TableShape),
    /// A table whose keys are ids or names of the user's choice.
    Map(&'static Self),
    /// One of several.
    Either(&'static [Self]),
}

/// A table with fixed keys.
///
/// # Example
/// ```
/// use zest_ledger::kind::{Key, Shape, TableShape};
/// const PIER: TableShape =
///     TableShape { noun: "a pier", about: "A pier.", rules: &[], keys: &[Key::new("bells", Shape::List(&Shape::Text), "the bells")] };
/// assert_eq!(PIER.noun, "a pier");
/// ```
#[derive(Debug)]
pub struct TableShape {
    /// What the table is, as in "a user".
    pub noun: &'static str,
    /// What it is for.
    pub about: &'static str,
    /// Its keys.
    pub keys: &'static [Key],
    /// What its keys ask of each other: editors are told, and who reads them says better what is wrong.
    pub rules: &'static [Among],
}

/// What the keys of a table ask of each other.
///
/// # Example
/// ```
/// use zest_ledger::kind::Among;
/// // A cabinet opens by a key or a code; who is told of it needs a number to call.
/// const RULES: &[Among] = &[Among::One(&["key", "code"]), Among::With("told", "number")];
/// assert!(matches!(RULES[0], Among::One(keys) if keys.contains(&"code")));
/// ```
#[derive(Debug)]
pub enum Among {
    /// Exactly one of these is there.
    One(&'static [&'static str]),
    /// At least one of these is there.
    Some(&'static [&'static str]),
    /// The first is there only with the second.
    With(&'static str, &'static str),
    /// Where a key has a value, others must be there.
    Where(&'static str, &'static str, &'static [&'static str]),
}

pub(crate) const TEXTS: Shape = Shape::List(&Shape::Text);
/// A privilege level.
pub(crate) const LEVEL: Shape = Shape::Whole(0, 15);

/// A user or a group.
pub(crate) static PARTY: Shape = Shape::Form("^(user|group):.");
pub(crate) const PARTIES: Shape = Shape::List(&PARTY);
static SECOND: Shape = Shape::Form("^((user|group):.|anyone$)");
/// Whoever may be a second person.
pub(crate) const SECONDS: Shape = Shape::List(&SECOND);
static HOLDER: Shape = Shape::Form("^(user|group|role):.");
pub(crate) const HOLDERS: Shape = Shape::List(&HOLDER);
static RUNNER: Shape = Shape::Form("^(user|group|account):.");
pub(crate) const RUNNERS: Shape = Shape::List(&RUNNER);
static NETWORK: Shape = Shape::Form("^\\s*(origin:.+|[0-9a-fA-F:.]*[0-9a-fA-F:](/[0-9]{1,3})?)\\s*$");
/// Addresses, networks and named origins.
pub(crate) const NETWORKS: Shape = Shape::List(&NETWORK);
pub(crate) const HOURS: Shape = Shape::Form("^\\s*([01][0-9]|2[0-3]):[0-5][0-9]\\s*-\\s*(([01][0-9]|2[0-3]):[0-5][0-9]|24:00)\\s*$");

/// A key of a table.
///
/// # Example
/// ```
/// use zest_ledger::kind::{Key, Shape};
/// let _ = [Key::required("bell", Shape::Text, "which one"), Key::new("remark", Shape::Text, "what to know of it")];
/// ```
#[derive(Debug)]
pub struct Key {
    /// Its name.
    pub name: &'static str,
    /// What its value may be.
    pub shape: Shape,
    /// Whether it must be there.
    pub required: bool,
    /// What it is for.
    pub about: &'static str,
}

impl Key {
    /// Makes a key that may be left out.
    #[must_use]
    pub const fn new(name: &'static str, shape: Shape, about: &'static str) -> Self {
        Self { name, shape, required: false, about }
    }

    /// Makes a key that must be there.
    #[must_use]
    pub const fn required(name: &'static str, shape: Shape, about: &'static str) -> Self {
        Self { name, shape, required: true, about }
    }
}

impl Shape {
    /// Says what a value should be, as in "a list of texts".
    pub(crate) fn expected(&self) -> String {
        match self {
            Self::Text | Self::Form(_) => "a text in quotes".to_owned(),
            Self::Flag => "true or false".to_owned(),
            Self::Whole(low, high) => format!("a whole number from {low} to {high}"),
            Self::Moment => "a date, or a date and time with offset".to_owned(),
            Self::Length => "a length of time such as \"10m\" or \"1h 30m\"".to_owned(),
            Self::Kind => "the word of a kind of system".to_owned(),
            Self::Words(words) => match words {
                [one] => format!("\"{one}\""),
                [first @ .., last] => {
                    format!("{} or \"{last}\"", first.iter().map(|w| format!("\"{w}\"")).collect::<Vec<_>>().join(", "))
                }
                [] => "nothing".to_owned(),
            },
            Self::List(Self::Table(table)) => format!("a list of tables, each {}", table.noun),
            Self::List(item) => format!("a list, each item {}", item.expected()),
            Self::Table(table) => format!("a table: {}", table.noun),
            Self::Map(_) => "a table of named entries".to_owned(),
            Self::Either(shapes) => shapes.iter().map(Self::expected).collect::<Vec<_>>().join("; or "),
        }
    }

    pub(crate) fn fits(&self, value: &DeValue<'_>) -> bool {
        match (self, value) {
            (Self::Text | Self::Form(_) | Self::Length | Self::Kind, DeValue::String(_))
            | (Self::Flag, DeValue::Boolean(_))
            | (Self::Whole(..), DeValue::Integer(_))
            | (Self::Moment, DeValue::Datetime(_))
            | (Self::List(_), DeValue::Array(_))
            | (Self::Table(_) | Self::Map(_), DeValue::Table(_)) => true,
            (Self::Words(words), DeValue::String(s)) => words.contains(&s.as_ref()),
            (Self::Either(shapes), _) => shapes.iter().any(|s| s.fits(value)),
            _ => false,
        }
    }
}
