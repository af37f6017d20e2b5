//! Names where upper and lower case are not told apart.

use std::hash::{Hash as _, Hasher};

/// Returns whether two names are the same but for upper and lower case.
///
/// # Example
/// ```
/// use zest_words::same_but_for_case;
/// assert!(same_but_for_case("Watch-1", "watch-1") && same_but_for_case("ÅSE", "åse"));
/// assert!(!same_but_for_case("watch-1", "watch-2"));
/// ```
#[must_use]
pub fn same_but_for_case(a: &str, b: &str) -> bool {
    if a.is_ascii() && b.is_ascii() { a.eq_ignore_ascii_case(b) } else { a.to_lowercase() == b.to_lowercase() }
}

/// Hashes a name so that names which are [the same but for case](same_but_for_case) come out alike.
pub fn hash_without_case(name: &str, hasher: &mut impl Hasher) {
    if name.is_ascii() {
        name.bytes().for_each(|byte| byte.to_ascii_lowercase().hash(hasher));
    } else {
        name.to_lowercase().bytes().for_each(|byte| byte.hash(hasher));
    }
}
