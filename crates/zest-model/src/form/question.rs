//! Questions as JSON: read with reasons, and written as they are read.

use std::fmt;

use serde::de::Error as _;
use serde::ser::SerializeMap as _;
use serde::{Deserialize, Deserializer, Serialize, Serializer};
use serde_json::{Map, Value, json};

use super::{FORMAT, is_known};
use crate::ask::{Fact, Form, Question, Session};
use crate::source::visible;
use crate::text::unique::{self, Unique};
use zest_words::nearest;

/// The keys of a question that say who, where and what; the others are those of its facts.
pub(super) const OWN_KEYS: [&str; 5] = ["format", "user", "on", "line", "sql"];
/// The active role in one word, for a database session.
pub(super) const ROLE: &str = "role";

/// Why a question in JSON cannot be read.
///
/// # Example
/// ```
/// use zest_ledger::json::parse_question;
/// let error = parse_question(r#"{"user": "watch-1", "line": "show paths"}"#).expect_err("no system is named");
/// assert!(error.to_string().contains("`on`"), "{error}");
/// ```
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct QuestionError(String);

impl fmt::Display for QuestionError {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(&self.0)
    }
}

impl std::error::Error for QuestionError {}

/// Reads a question from a JSON object.
///
/// | key | value |
/// |---|---|
/// | `format` | 1, the version of this form; it may be left out |
/// | `user`, `on`, `line` | texts; these three are needed |
/// | `sql` | a statement, in the place of `line` |
/// | `roles` | a list: the roles that are active; empty for none. `role` in its place: one of them, `"none"` for none |
/// | `acting` | a list of links, such as `["user:batch", "role:night-operator@2026-11-25T22:00:00Z"]` |
/// | `attributes` | an object from attribute of the session to value |
/// | `expires` | the first moment at which the session is over |
/// | `at` | a moment such as `"2026-11-25T08:00:00Z"` |
/// | `from` | an address |
/// | `by` | `"terminal"`, `"web"` or `"api"` |
/// | `proofs` | an object from proof to age, such as `{"password": "0s"}`, on another channel `"5m by web"`; or a list, such as `["key=1h", "key=5m by web"]`; empty says that there was none |
/// | `approver-proofs` | as `proofs`, of the second person |
/// | `level` | a whole number from 0 to 15 |
/// | `mode`, `account`, `approved-by` | texts |
/// | `central` | `"up"` or `"down"` |
/// | `local` | `true` for a session over a database server's own socket |
/// | `confirmed` | `true` or `false` |
///
/// A key that stands twice is an error, as is a fact that contradicts another.
///
/// # Errors
/// What is wrong, with the key that it is about.
///
/// # Example
/// ```
/// let question = zest_ledger::json::parse_question(r#"{"user":"watch-1","on":"sw-1","line":"show log","level":7}"#)?;
/// assert_eq!(question.session.level, Some(7));
/// assert!(zest_ledger::json::parse_question(r#"{"user":"watch-1","lin":"show log"}"#).is_err());
/// # Ok::<(), zest_ledger::json::QuestionError>(())
/// ```
pub fn parse_question(text: &str) -> Result<Question, QuestionError> {
    parse_question_in(text, &Session::default())
}

/// Reads a question; what it does not state of its session is taken from `otherwise`.
///
/// A question that says where its session comes from says all of it: an address takes the place of the server's own socket,
/// and the reverse. Proofs of a second person belong to the second person they are stated with.
///
/// # Errors
/// What is wrong, with the key that it is about.
///
/// # Example
/// ```
/// use zest_ledger::{ask::Session, json};
/// let mut night = Session::default();
/// night.confirmed = true;
/// let question = json::parse_question_in(r#"{"user":"watch-1","on":"sw-1","line":"show log"}"#, &night)?;
/// assert!(question.session.confirmed);
/// # Ok::<(), json::QuestionError>(())
/// ```
pub fn parse_question_in(text: &str, otherwise: &Session) -> Result<Question, QuestionError> {
    read(unique::parse(text).map_err(|e| QuestionError(format!("not a JSON object: {e}")))?, otherwise)
}

fn read(value: Value, otherwise: &Session) -> Result<Question, QuestionError> {
    let Value::Object(object) = value else { return Err(QuestionError("expected a JSON object with `user`, `on` and `line`".to_owned())) };
    let keys = || OWN_KEYS.into_iter().chain([ROLE]).chain(Fact::ALL.into_iter().map(Fact::key));
    if let Some(unknown) = object.keys().find(|k| !keys().any(|known| known == k.as_str())) {
        let near = nearest(unknown, keys())
            .map_or_else(|| format!("the keys are {}", keys().collect::<Vec<_>>().join(", ")), |n| format!("did you mean `{n}`?"));
        return Err(QuestionError(format!("a question has no key `{}`; {near}", visible(unknown))));
    }
    is_known(object.get("format")).map_err(QuestionError)?;
    let mut session = Session::default();
    let mut stated: Vec<Fact> = Vec::new();
    let role = object.get(ROLE).filter(|role| !role.is_null());
    let of_facts = object.iter().filter(|(_, value)| !value.is_null());
    let mut given: Vec<(Fact, &Value)> =
        of_facts.filter_map(|(key, value)| Some((Fact::ALL.into_iter().find(|fact| fact.key() == key)?, value))).collect();
    if let Some(role) = role {
        if given.iter().any(|(fact, _)| *fact == Fact::Roles) {
            return Err(QuestionError("`role` and `roles` are given at once".to_owned()));
        }
        given.push((Fact::Roles, role));
    }
    given.sort_by_key(|(fact, _)| Fact::ALL.into_iter().position(|known| known == *fact));
    for (fact, value) in given {
        let texts = match role {
            Some(role) if fact == Fact::Roles => {
                vec![role.as_str().ok_or_else(|| QuestionError("`role` is not a text".to_owned()))?.to_owned()]
            }
            _ => texts_of(fact, value)?,
        };
        stated.push(fact);
        for text in texts {
            session.state(fact, &text).map_err(|e| QuestionError(format!("`{}`: {e}", fact.key())))?;
        }
    }
    if let Some(why) = session.contradiction() {
        return Err(QuestionError(why.to_owned()));
    }
    for fact in Fact::ALL {
        let is_said = stated.contains(&fact)
            || matches!(fact, Fact::Origin | Fact::Local) && (session.local || session.origin.is_some())
            || fact == Fact::ApproverProofs && stated.contains(&Fact::ApprovedBy);
        if !is_said {
            session.take(fact, otherwise);
        }
    }
    let needed = |key: &str| text_of(&object, key)?.ok_or_else(|| QuestionError(format!("the key `{key}` is missing")));
    let (user, on) = (needed("user")?, needed("on")?);
    match text_of(&object, "sql")? {
        Some(_) if object.contains_key("line") => Err(QuestionError("`line` and `sql` are given at once".to_owned())),
        Some(sql) => Ok(Question { session, ..Question::statement(&user, &on, &sql) }),
        None => Ok(Question::in_session(&user, &on, &needed("line")?, session)),
    }
}

fn text_of(object: &Map<String, Value>, key: &str) -> Result<Option<String>, QuestionError> {
    match object.get(key) {
        None | Some(Value::Null) => Ok(None),
        Some(Value::String(text)) => Ok(Some(text.clone())),
        Some(_) => Err(QuestionError(format!("`{key}` is not a text"))),
    }
}

/// Returns the texts that state a fact, of its JSON value; none for one that says that nothing holds.
fn texts_of(fact: Fact, value: &Value) -> Result<Vec<String>, QuestionError> {
    let key = fact.key();
    let wrong = |expected: &str| QuestionError(format!("`{key}` is not {expected}"));
    let text = |value: &Value, expected: &str| value.as_str().map(str::to_owned).ok_or_else(|| wrong(expected));
    let list = |items: &[Value], expected: &str| -> Result<Vec<String>, QuestionError> {
        if items.is_empty() && fact != Fact::Acting {
            return Ok(vec!["none".to_owned()]);
        }
        items.iter().map(|item| text(item, expected)).collect()
    };
    match fact {
        Fact::At | Fact::Origin | Fact::Channel | Fact::Mode | Fact::Account | Fact::Expires | Fact::ApprovedBy => {
            Ok(vec![text(value, "a text")?])
        }
        Fact::Local | Fact::Confirmed => match value.as_bool() {
            Some(holds) => Ok(if holds { vec![String::new()] } else { Vec::new() }),
            None => Err(wrong("true or false")),
        },
        Fact::Central => match value.as_str() {
            Some("up") => Ok(Vec::new()),
            Some("down") => Ok(vec![String::new()]),
            _ => Err(wrong("\"up\" or \"down\"")),
        },
        Fact::Level => Ok(vec![value.as_u64().ok_or_else(|| wrong("a whole number from 0 to 15"))?.to_string()]),
        Fact::Roles | Fact::Acting => match value {
            Value::Array(items) => list(items, "a list of texts"),
            _ => Err(wrong("a list of texts")),
        },
        Fact::Proofs | Fact::ApproverProofs => {
            let expected = "an object from proof to age, such as {\"password\": \"10m\"}, or a list such as [\"key=1h\"]";
            match value {
                Value::Array(items) => list(items, expected),
                Value::Object(given) if given.is_empty() => Ok(vec!["none".to_owned()]),
                Value::Object(given) => given.iter().map(|(name, age)| Ok(format!("{name}={}", text(age, expected)?))).collect(),
                _ => Err(wrong(expected)),
            }
        }
        Fact::Attributes => {
            let expected = "an object from name to text";
            let Value::Object(given) = value else { return Err(wrong(expected)) };
            let one = |(name, value): (&String, &Value)| {
                if name.contains('=') {
                    return Err(QuestionError(format!("`{key}`: the name `{}` holds a `=`", visible(name))));
                }
                Ok(format!("{name}={}", text(value, expected)?))
            };
            given.iter().map(one).collect()
        }
    }
}

/// The JSON value of a fact, as [`texts_of`] reads it.
fn told(fact: Fact, texts: &[String]) -> Value {
    let is_none = texts == ["none"];
    let pairs = |texts: &[String]| -> Map<String, Value> {
        texts.iter().filter_map(|t| t.split_once('=')).map(|(k, v)| (k.to_owned(), json!(v))).collect()
    };
    let first = || texts.first().map_or(Value::Null, |t| json!(t));
    match fact {
        Fact::At | Fact::Origin | Fact::Channel | Fact::Mode | Fact::Account | Fact::Expires | Fact::ApprovedBy => first(),
        Fact::Local | Fact::Confirmed => json!(true),
        Fact::Central => json!("down"),
        Fact::Level => texts.first().and_then(|t| t.parse::<u8>().ok()).map_or(Value::Null, |l| json!(l)),
        Fact::Roles if is_none => json!([]),
        Fact::Roles | Fact::Acting => json!(texts),
        Fact::Proofs | Fact::ApproverProofs if is_none => json!({}),
        Fact::Proofs | Fact::ApproverProofs => {
            // An object holds one age of each proof; where there are several, a list holds them all.
            let object = pairs(texts);
            if object.len() == texts.len() { Value::Object(object) } else { json!(texts) }
        }
        Fact::Attributes => Value::Object(pairs(texts)),
    }
}

/// A question inside of something that says its format.
pub(super) struct Inner<'q>(pub(super) &'q Question);

impl Serialize for Inner<'_> {
    fn serialize<S: Serializer>(&self, serializer: S) -> Result<S::Ok, S::Error> {
        written(self.0, None, serializer)
    }
}

/// Written as [`parse_question`] reads it; facts that are not stated are left out.
impl Serialize for Question {
    fn serialize<S: Serializer>(&self, serializer: S) -> Result<S::Ok, S::Error> {
        written(self, Some(FORMAT), serializer)
    }
}

fn written<S: Serializer>(question: &Question, format: Option<u32>, serializer: S) -> Result<S::Ok, S::Error> {
    let Question { user, system, line, form, session, more: _ } = question;
    let mut map = serializer.serialize_map(None)?;
    if let Some(format) = format {
        map.serialize_entry("format", &format)?;
    }
    map.serialize_entry("user", user)?;
    map.serialize_entry("on", system)?;
    map.serialize_entry(if *form == Form::Statement { "sql" } else { "line" }, line)?;
    for (fact, texts) in session.stated() {
        map.serialize_entry(fact.key(), &told(fact, &texts))?;
    }
    map.end()
}

impl<'de> Deserialize<'de> for Question {
    fn deserialize<D: Deserializer<'de>>(deserializer: D) -> Result<Self, D::Error> {
        let Unique(value) = Unique::deserialize(deserializer)?;
        read(value, &Session::default()).map_err(D::Error::custom)
    }
}
