//! The JSON Schema of the ledger format, for editors.

use serde_json::{Map, Value, json};

use super::format::DOCUMENT;
use crate::entry::Kind;
use crate::shape::{Among, Shape, TableShape};

/// Returns the JSON Schema (draft 2020-12) of a ledger document.
///
/// It is made from the same description that checks documents, so the two cannot drift apart.
///
/// # Example
/// ```
/// let schema = zest_ledger::json_schema();
/// assert_eq!(schema["properties"]["users"]["type"], "object");
/// ```
#[must_use]
pub fn json_schema() -> Value {
    let mut schema = table(&DOCUMENT);
    let head = json!({
        "$schema": "https://json-schema.org/draft/2020-12/schema",
        "title": "Zest Ledger document, format 1",
    });
    if let (Value::Object(head), Value::Object(body)) = (head, &mut schema) {
        let mut whole = head;
        whole.append(body);
        return Value::Object(whole);
    }
    schema
}

/// A name begins and ends with no blank, and has no control character.
const NAME: &str = "^[^\\s\\x00-\\x1f\\x7f]([^\\x00-\\x1f\\x7f]*[^\\s\\x00-\\x1f\\x7f])?$";

fn table(shape: &TableShape) -> Value {
    let properties: Map<String, Value> = shape
        .keys
        .iter()
        .map(|key| {
            let mut value = value(&key.shape);
            if let Value::Object(fields) = &mut value {
                fields.insert("description".to_owned(), key.about.into());
            }
            (key.name.to_owned(), value)
        })
        .collect();
    let required: Vec<&str> = shape.keys.iter().filter(|k| k.required).map(|k| k.name).collect();
    let mut object = json!({
        "type": "object",
        "description": shape.about,
        "properties": properties,
        "additionalProperties": false,
    });
    if !required.is_empty() {
        object["required"] = json!(required);
    }
    let rules: Vec<Value> = shape.rules.iter().map(among).collect();
    if !rules.is_empty() {
        object["allOf"] = json!(rules);
    }
    object
}

fn among(rule: &Among) -> Value {
    let has = |keys: &[&str]| -> Vec<Value> { keys.iter().map(|key| json!({ "required": [key] })).collect() };
    match rule {
        Among::One(keys) => json!({ "oneOf": has(keys) }),
        Among::Some(keys) => json!({ "anyOf": has(keys) }),
        Among::With(key, other) => json!({ "dependentRequired": { *key: [other] } }),
        Among::Where(key, value, needed) => {
            json!({ "if": { "properties": { *key: { "const": value } }, "required": [key] }, "then": { "required": needed } })
        }
    }
}

fn value(shape: &Shape) -> Value {
    match shape {
        Shape::Text => json!({ "type": "string" }),
        Shape::Form(form) => json!({ "type": "string", "pattern": form }),
        // `10m`, `1h 30m`, `PT1H`: a number with a unit somewhere, and no sign before it.
        Shape::Length => json!({ "type": "string", "pattern": "^\\s*(P|[0-9]).*[a-zA-Zµ]" }),
        Shape::Flag => json!({ "type": "boolean" }),
        Shape::Whole(low, high) if *high == i64::MAX => json!({ "type": "integer", "minimum": low }),
        Shape::Whole(low, high) => json!({ "type": "integer", "minimum": low, "maximum": high }),
        // Editors hand TOML dates to a schema as text.
        Shape::Moment => json!({
            "type": "string",
            "pattern": "^[0-9]{4}-(0[1-9]|1[0-2])-(0[1-9]|[12][0-9]|3[01])([Tt ][0-9]{2}:[0-9]{2}(:[0-9]{2}([.][0-9]+)?)?([Zz]|[+-][0-9]{2}:[0-9]{2}))?$",
        }),
        Shape::Kind => json!({ "enum": Kind::WORDS }),
        Shape::Words(words) => json!({ "enum": words }),
        Shape::List(item) => json!({ "type": "array", "items": value(item) }),
        Shape::Table(inner) => table(inner),
        Shape::Map(item) => {
            json!({ "type": "object", "propertyNames": { "minLength": 1, "maxLength": 256, "pattern": NAME }, "additionalProperties": value(item) })
        }
        Shape::Either(shapes) => json!({ "anyOf": shapes.iter().map(value).collect::<Vec<_>>() }),
    }
}
