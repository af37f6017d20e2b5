//! Changes as JSON: their word under `change`, and what they are about.

use serde::de::Error as _;
use serde::{Deserialize, Deserializer, Serialize, Serializer};

use super::{FORMAT, is_known};
use crate::ask::Change;
use crate::text::unique::Unique;

/// A change inside of something that says its format.
pub(super) struct Inner<'c>(pub(super) &'c Change);

impl Serialize for Inner<'_> {
    fn serialize<S: Serializer>(&self, serializer: S) -> Result<S::Ok, S::Error> {
        self.0.fields().serialize(serializer)
    }
}

impl Serialize for Change {
    fn serialize<S: Serializer>(&self, serializer: S) -> Result<S::Ok, S::Error> {
        #[derive(Serialize)]
        struct Outer {
            format: u32,
            #[serde(flatten)]
            fields: crate::ask::Fields,
        }
        Outer { format: FORMAT, fields: self.fields() }.serialize(serializer)
    }
}

impl<'de> Deserialize<'de> for Change {
    fn deserialize<D: Deserializer<'de>>(deserializer: D) -> Result<Self, D::Error> {
        let Unique(mut value) = Unique::deserialize(deserializer)?;
        let format = value.as_object_mut().and_then(|object| object.remove("format"));
        is_known(format.as_ref()).map_err(D::Error::custom)?;
        Self::read(&value).map_err(D::Error::custom)
    }
}
