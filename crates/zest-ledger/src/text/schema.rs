//! The JSON Schema of the ledger format, for editors.

use serde_json::{Map, Value, json};

use super::format::DOCUMENT;
use super::shape::{Shape, TableShape};
use crate::entry::Kind;

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
    object
}

fn value(shape: &Shape) -> Value {
    match shape {
        Shape::Text | Shape::Length => json!({ "type": "string" }),
        Shape::Flag => json!({ "type": "boolean" }),
        Shape::Whole(low, high) if *high == i64::MAX => json!({ "type": "integer", "minimum": low }),
        Shape::Whole(low, high) => json!({ "type": "integer", "minimum": low, "maximum": high }),
        // Editors hand TOML dates to a schema as text.
        Shape::Moment => json!({ "type": "string", "anyOf": [{ "format": "date-time" }, { "format": "date" }] }),
        Shape::Kind => json!({ "enum": Kind::WORDS }),
        Shape::Words(words) => json!({ "enum": words }),
        Shape::List(item) => json!({ "type": "array", "items": value(item) }),
        Shape::Table(inner) => table(inner),
        Shape::Map(item) => {
            json!({ "type": "object", "propertyNames": { "minLength": 1, "maxLength": 256 }, "additionalProperties": value(item) })
        }
        Shape::Either(shapes) => json!({ "anyOf": shapes.iter().map(value).collect::<Vec<_>>() }),
    }
}
