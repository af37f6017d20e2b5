//! What stands in a struct that may get more fields.

/// Stands in every struct that may get more fields: a program outside does not name all fields of such a struct, and ours do.
///
/// `#[non_exhaustive]` would hold for our own crates as well, and a field that nobody reads would compile.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub struct More;
