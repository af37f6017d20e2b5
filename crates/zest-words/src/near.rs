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
    let letters = letters(&folded);
    candidates
        .filter(|c| c.len().abs_diff(word.len()) <= limit * 4 && may_be_near(&letters, c, limit))
        .map(|c| (strsim::osa_distance(&folded, &c.to_lowercase()), c))
        .filter(|&(d, _)| d <= limit)
        .min_by_key(|&(d, c)| (d, c.len(), c))
        .map(|(_, c)| c)
}

/// Counts letters, where all are in ASCII.
fn letters(word: &str) -> Option<[i16; 128]> {
    let mut counts = [0; 128];
    word.bytes().try_for_each(|byte| {
        *counts.get_mut(usize::from(byte.to_ascii_lowercase()))? += 1;
        Some(())
    })?;
    Some(counts)
}

/// Rules out most of the words that are too far: each change adds at most one letter and takes at most one away.
fn may_be_near(letters: &Option<[i16; 128]>, candidate: &str, limit: usize) -> bool {
    let Some(mut left) = *letters else { return true };
    let mut foreign = 0;
    for byte in candidate.bytes() {
        let Some(count) = left.get_mut(usize::from(byte.to_ascii_lowercase())) else { return true };
        *count -= 1;
        foreign += usize::from(*count < 0);
        if foreign > limit {
            return false;
        }
    }
    left.iter().filter(|count| **count > 0).map(|count| *count as usize).sum::<usize>() <= limit
}

/// Returns "; the nearest is `x`" for the candidate nearest to `word`, or nothing.
pub fn nearest_hint<'a>(word: &str, candidates: impl Iterator<Item = &'a str>) -> String {
    nearest(word, candidates).map_or(String::new(), |n| format!("; the nearest is `{}`", visible(n)))
}
