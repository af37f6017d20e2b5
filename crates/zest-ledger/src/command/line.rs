//! Reads a typed line into words.

use std::fmt;

use smallvec::SmallVec;

use crate::source::is_hidden;

/// The longest line that is read, in bytes.
pub const MAX_LINE_BYTES: usize = 4096;
/// The most words a line may have.
pub const MAX_LINE_WORDS: usize = 256;

/// The words of a line, borrowed from its text.
pub(crate) type Words<'t> = SmallVec<[&'t str; 16]>;

/// Why a line cannot be read. Such a line is never allowed.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
#[non_exhaustive]
pub enum LineError {
    /// There is no word in it.
    Empty,
    /// It is longer than [`MAX_LINE_BYTES`] or has more words than [`MAX_LINE_WORDS`].
    TooLong,
    /// It holds a control or invisible character.
    ControlCharacter,
    /// A quote is not closed, stands inside a word, or encloses nothing.
    Quote,
}

impl fmt::Display for LineError {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(match self {
            Self::Empty => "there is no word in it",
            Self::TooLong => "it is longer than 4096 bytes or 256 words",
            Self::ControlCharacter => "it holds a control or invisible character",
            Self::Quote => "a quote is not closed, stands inside a word, or encloses nothing",
        })
    }
}

impl std::error::Error for LineError {}

/// Splits a line into words at blanks and tabs; double quotes keep blanks inside a word.
///
/// # Errors
/// One [`LineError`] for each way in which a line can be unreadable.
///
/// # Example
/// ```
/// use zest_ledger::command::read_line;
/// assert_eq!(read_line("show  ip route")?.as_slice(), ["show", "ip", "route"]);
/// assert_eq!(read_line("describe \"pier two\"")?.as_slice(), ["describe", "pier two"]);
/// assert!(read_line("show \u{7}").is_err());
/// # Ok::<(), zest_ledger::command::LineError>(())
/// ```
pub fn read_line(text: &str) -> Result<SmallVec<[&str; 16]>, LineError> {
    if text.len() > MAX_LINE_BYTES {
        return Err(LineError::TooLong);
    }
    let mut words = Words::new();
    let mut rest = text;
    loop {
        rest = rest.trim_start_matches([' ', '\t']);
        if rest.is_empty() {
            break;
        }
        if words.len() == MAX_LINE_WORDS {
            return Err(LineError::TooLong);
        }
        let word = if let Some(inner) = rest.strip_prefix('"') {
            let end = inner.find('"').ok_or(LineError::Quote)?;
            let (word, after) = (&inner[..end], &inner[end + 1..]);
            if word.is_empty() || !(after.is_empty() || after.starts_with([' ', '\t'])) {
                return Err(LineError::Quote);
            }
            rest = after;
            word
        } else {
            let end = rest.bytes().position(|b| b == b' ' || b == b'\t').unwrap_or(rest.len());
            let word = &rest[..end];
            if word.contains('"') {
                return Err(LineError::Quote);
            }
            rest = &rest[end..];
            word
        };
        let plain = word.bytes().all(|b| (0x20..0x7f).contains(&b));
        if !plain && word.chars().any(is_hidden) {
            return Err(LineError::ControlCharacter);
        }
        words.push(word);
    }
    if words.is_empty() { Err(LineError::Empty) } else { Ok(words) }
}

/// Writes words as a line that reads back to the same words.
pub(crate) fn join<'w>(words: impl IntoIterator<Item = &'w str>) -> String {
    let mut line = String::new();
    for word in words {
        if !line.is_empty() {
            line.push(' ');
        }
        if word.contains([' ', '\t']) || word.is_empty() {
            line.push('"');
            line.push_str(word);
            line.push('"');
        } else {
            line.push_str(word);
        }
    }
    line
}
