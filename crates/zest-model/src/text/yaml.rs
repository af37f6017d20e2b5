//! YAML told in JSON, with the place of each value, so that one reader serves both forms of a document.

#[cfg(feature = "yaml")]
pub(super) use super::teller::told;

/// A document in JSON, and where its values stand in the YAML it was made from.
#[derive(Debug)]
pub(super) struct Told {
    pub(super) json: String,
    /// Where a value begins, in JSON and in YAML, in order.
    pub(super) places: Vec<(usize, usize)>,
}

/// Why YAML cannot be told, and at which byte.
#[derive(Debug)]
pub(super) struct Untold {
    pub(super) why: String,
    pub(super) at: usize,
}

impl Told {
    /// Returns where the value that begins at a byte of the JSON, or holds it, stands in the YAML.
    pub(super) fn origin(&self, at: usize) -> usize {
        let after = self.places.partition_point(|&(json, _)| json <= at);
        after.checked_sub(1).map_or(0, |i| self.places[i].1)
    }
}

/// Tells nothing: this build reads no YAML.
#[cfg(not(feature = "yaml"))]
pub(super) fn told(_: &str) -> Result<Told, Untold> {
    Err(Untold { why: "this program was built without the feature `yaml`".to_owned(), at: 0 })
}
