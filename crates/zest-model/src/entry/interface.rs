//! Operations of an OpenAPI document.

use crate::source::Place;

/// The operations that one document describes.
#[derive(Debug)]
pub struct Interface {
    /// The document's name in the ledger.
    pub name: String,
    pub operations: Vec<Described>,
}

crate::same::fields!(Interface { name, operations });

/// One operation of a document.
#[derive(Clone, Debug)]
pub struct Described {
    /// Its `operationId`, or else method and path: `GET /records`.
    pub name: String,
    /// In upper case.
    pub method: String,
    /// The path with its templates: `/records/{record}`.
    pub path: String,
    pub tags: Vec<String>,
    pub place: Place,
}

crate::same::fields!(Described { name, method, path, tags, place });

impl Described {
    /// Returns whether its method is safe (RFC 9110, section 9.2.1).
    pub fn reads(&self) -> bool {
        matches!(self.method.as_str(), "GET" | "HEAD" | "OPTIONS" | "TRACE")
    }
}
