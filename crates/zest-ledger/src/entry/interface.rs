//! Operations of an OpenAPI document.

use crate::source::Place;

/// The operations that one document describes.
#[derive(Debug)]
pub(crate) struct Interface {
    /// The document's name in the ledger.
    pub(crate) name: String,
    pub(crate) operations: Vec<Described>,
}

/// One operation of a document.
#[derive(Clone, Debug)]
pub(crate) struct Described {
    /// Its `operationId`, or else method and path: `GET /records`.
    pub(crate) name: String,
    /// In upper case.
    pub(crate) method: String,
    /// The path with its templates: `/records/{record}`.
    pub(crate) path: String,
    pub(crate) tags: Vec<String>,
    pub(crate) place: Place,
}

impl Described {
    /// Returns whether its method is safe (RFC 9110, section 9.2.1).
    pub(crate) fn reads(&self) -> bool {
        matches!(self.method.as_str(), "GET" | "HEAD" | "OPTIONS" | "TRACE")
    }
}
