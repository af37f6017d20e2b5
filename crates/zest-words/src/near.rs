//! The name that somebody meant.

use crate::hidden::visible;

/// Returns the candidate nearest to `word`, if one is near enough to be meant.
///
/// # Example
/// ```
/// use zest_words::nearest;
/// assert_eq!(nearest("wacth-1", ["net-1", "watch-1"].into_iter()), Some("watch-1"));
/// ```
#[must_use]
pub fn nearest<'a>(word: &str, candidates: impl Iterator<Item = &'a str>) -> Option<&'a str> {
    // OK because the distance grows with the square of the length: names are at most 256 bytes long.
    if word.len() > 256 {
        return None;
    }
    let limit = (word.chars().count() / 3).clamp(1, 4);
    let folded = word.to_lowercase();
    candidates
        .filter(|c| c.len().abs_diff(word.len()) <= limit * 4)
        .map(|c| (strsim::osa_distance(&folded, &c.to_lowercase()), c))
        .filter(|&(d, _)| d <= limit)
        .min_by_key(|&(d, c)| (d, c.len(), c))
        .map(|(_, c)| c)
}

/// Returns "; the nearest is `x`" for the candidate nearest to `word`, or nothing.
pub fn nearest_hint<'a>(word: &str, candidates: impl Iterator<Item = &'a str>) -> String {
    nearest(word, candidates).map_or(String::new(), |n| format!("; the nearest is `{}`", visible(n)))
}
