//! JSON in which no key stands twice: where one does, the last would win without a word.

use std::fmt;

use serde::de::{Deserialize, Deserializer, Error, MapAccess, SeqAccess, Visitor};
use serde_json::{Map, Value};

/// Reads a text as JSON.
///
/// # Errors
/// Where it cannot be read, and for a key that stands twice in one object: which, with line and column.
pub fn parse(text: &str) -> Result<Value, serde_json::Error> {
    let Unique(value) = serde_json::from_str(text)?;
    Ok(value)
}

/// A value in which no key stands twice.
#[derive(Debug)]
pub struct Unique(pub Value);

impl<'de> Deserialize<'de> for Unique {
    fn deserialize<D: Deserializer<'de>>(deserializer: D) -> Result<Self, D::Error> {
        deserializer.deserialize_any(Any).map(Self)
    }
}

struct Any;

impl<'de> Visitor<'de> for Any {
    type Value = Value;

    fn expecting(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str("a value")
    }

    fn visit_bool<E>(self, value: bool) -> Result<Value, E> {
        Ok(value.into())
    }

    fn visit_i64<E>(self, value: i64) -> Result<Value, E> {
        Ok(value.into())
    }

    fn visit_u64<E>(self, value: u64) -> Result<Value, E> {
        Ok(value.into())
    }

    fn visit_f64<E>(self, value: f64) -> Result<Value, E> {
        Ok(value.into())
    }

    fn visit_str<E>(self, value: &str) -> Result<Value, E> {
        Ok(value.into())
    }

    fn visit_string<E>(self, value: String) -> Result<Value, E> {
        Ok(value.into())
    }

    fn visit_unit<E>(self) -> Result<Value, E> {
        Ok(Value::Null)
    }

    fn visit_seq<A: SeqAccess<'de>>(self, mut items: A) -> Result<Value, A::Error> {
        let mut list = Vec::new();
        while let Some(Unique(value)) = items.next_element()? {
            list.push(value);
        }
        Ok(Value::Array(list))
    }

    fn visit_map<A: MapAccess<'de>>(self, mut members: A) -> Result<Value, A::Error> {
        let mut object = Map::new();
        while let Some(key) = members.next_key::<String>()? {
            if object.contains_key(&key) {
                return Err(A::Error::custom(format_args!("the key `{}` stands twice", crate::source::visible(&key))));
            }
            let Unique(value) = members.next_value()?;
            object.insert(key, value);
        }
        Ok(Value::Object(object))
    }
}
