//! JSON Schemas of what is written, from the types that write it.

use std::borrow::Cow;

use schemars::transform::RecursiveTransform;
use schemars::{JsonSchema, Schema, SchemaGenerator, generate::SchemaSettings, json_schema};
use serde_json::{Map, Value, json};

use super::answer::{Read, ReadRemedy};
use super::question::{OWN_KEYS, ROLE};
use super::{
    Alike, Comparison, Defects, EffectiveRights, Expectations, FORMAT, Format, Holders, Obligations, Opened, Promises, Ready, Session,
    Visible, WaysFound,
};
use crate::ask::{Change, Fact, Question};
use crate::entry::Channel;

/// Returns the JSON Schema of each form with its name: `question`, `answer`, `remedy`, `change`, `findings`, `effective`, `who`,
/// `compare`, `alike`, `expectations`, `promises`, `ways`, `visible`, `opened`, `session`, `ready`, `obligations`.
///
/// # Example
/// ```
/// let schemas = zest_ledger::json::schemas();
/// assert_eq!(schemas.map(|(name, _)| name), ["question", "answer", "remedy", "change", "findings", "effective", "who", "compare", "alike", "expectations", "promises", "ways", "visible", "opened", "session", "ready", "obligations"]);
/// ```
#[must_use]
pub fn schemas() -> [(&'static str, Value); 17] {
    fn of<T: JsonSchema>() -> Value {
        SchemaSettings::draft2020_12()
            .with_transform(RecursiveTransform(without_example))
            .into_generator()
            .into_root_schema_for::<T>()
            .to_value()
    }
    [
        ("question", of::<Question>()),
        ("answer", of::<Read>()),
        ("remedy", of::<ReadRemedy>()),
        ("change", of::<Change>()),
        ("findings", of::<Defects>()),
        ("effective", of::<EffectiveRights>()),
        ("who", of::<Holders>()),
        ("compare", of::<Comparison>()),
        ("alike", of::<Alike>()),
        ("expectations", of::<Expectations>()),
        ("promises", of::<Promises>()),
        ("ways", of::<WaysFound>()),
        ("visible", of::<Visible>()),
        ("opened", of::<Opened>()),
        ("session", of::<Session>()),
        ("ready", of::<Ready>()),
        ("obligations", of::<Obligations>()),
    ]
}

/// Takes out of a description what is for readers of Rust.
fn without_example(schema: &mut Schema) {
    if let Some(Value::String(description)) = schema.get_mut("description")
        && let Some(at) = description.find("\n\n# ")
    {
        description.truncate(at);
    }
}

impl JsonSchema for Format {
    fn schema_name() -> Cow<'static, str> {
        "Format".into()
    }

    fn json_schema(_: &mut SchemaGenerator) -> Schema {
        json_schema!({ "description": "The version of the form.", "const": FORMAT })
    }
}

impl JsonSchema for Question {
    fn schema_name() -> Cow<'static, str> {
        "Question".into()
    }

    fn json_schema(_: &mut SchemaGenerator) -> Schema {
        let mut properties: Map<String, Value> = Map::new();
        for key in OWN_KEYS {
            properties.insert(key.to_owned(), if key == "format" { json!({ "const": FORMAT }) } else { json!({ "type": "string" }) });
        }
        properties.insert(ROLE.to_owned(), json!({ "type": "string" }));
        for fact in Fact::ALL {
            properties.insert(fact.key().to_owned(), of_fact(fact));
        }
        let either = [json!({ "required": ["line"] }), json!({ "required": ["sql"] })];
        json_schema!({
            "description": "Who asks, about which system, what, and what is known of the session.",
            "type": "object", "properties": properties, "required": ["user", "on"], "oneOf": either, "additionalProperties": false,
        })
    }
}

/// The value of a fact, as a question is read; null for one that is not stated.
fn of_fact(fact: Fact) -> Value {
    let texts = json!({ "type": "array", "items": { "type": "string" } });
    let ages = json!({ "type": "object", "additionalProperties": { "type": "string" } });
    let value = match fact {
        Fact::At | Fact::Expires | Fact::Origin | Fact::Mode | Fact::Account | Fact::ApprovedBy => json!({ "type": "string" }),
        Fact::Channel => json!({ "enum": Channel::WORDS }),
        Fact::Local | Fact::Confirmed => json!({ "type": "boolean" }),
        Fact::Central => json!({ "enum": ["up", "down"] }),
        Fact::Level => json!({ "type": "integer", "minimum": 0, "maximum": 15 }),
        Fact::Roles | Fact::Acting => texts,
        Fact::Proofs | Fact::ApproverProofs => json!({ "anyOf": [texts, ages] }),
        Fact::Attributes => ages,
    };
    json!({ "anyOf": [value, { "type": "null" }] })
}

impl JsonSchema for Change {
    fn schema_name() -> Cow<'static, str> {
        "Change".into()
    }

    fn json_schema(_: &mut SchemaGenerator) -> Schema {
        let one = |(word, about, fields): (&str, &str, Vec<(&str, Value)>)| {
            let mut properties = Map::new();
            properties.insert("format".to_owned(), json!({ "const": FORMAT }));
            properties.insert("change".to_owned(), json!({ "const": word }));
            let required: Vec<&str> = std::iter::once("change").chain(fields.iter().map(|(key, _)| *key)).collect();
            properties.extend(fields.iter().map(|(key, schema)| ((*key).to_owned(), schema.clone())));
            json!({
                "description": about.trim(), "type": "object", "properties": properties, "required": required, "additionalProperties": false,
            })
        };
        let all: Vec<Value> = Self::shapes().into_iter().map(one).collect();
        json_schema!({ "description": "One change of a session or of a ledger.", "oneOf": all })
    }
}
