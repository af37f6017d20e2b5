//! Reads a typed line into words.

use std::fmt;

use smallvec::SmallVec;

use zest_words::is_hidden;

/// The longest line that is read, in bytes.
///
/// # Example
/// ```
/// use zest_ledger::command::{LineError, MAX_LINE_BYTES, read_line};
/// assert!(read_line(&"x".repeat(MAX_LINE_BYTES)).is_ok());
/// assert_eq!(read_line(&"x".repeat(MAX_LINE_BYTES + 1)), Err(LineError::TooLong));
/// ```
pub const MAX_LINE_BYTES: usize = 4096;
/// The most words a line may have.
///
/// # Example
/// ```
/// use zest_ledger::command::{LineError, MAX_LINE_WORDS, read_line};
/// assert!(read_line(&"x ".repeat(MAX_LINE_WORDS)).is_ok());
/// assert_eq!(read_line(&"x ".repeat(MAX_LINE_WORDS + 1)), Err(LineError::TooLong));
/// ```
pub const MAX_LINE_WORDS: usize = 256;

/// The words of a line, borrowed from its text.
pub(crate) type Words<'t> = SmallVec<[&'t str; 8]>;

/// Why a line cannot be read. Such a line is never allowed.
///
/// # Example
/// ```
/// use zest_ledger::command::{LineError, read_line};
/// assert_eq!(read_line("  "), Err(LineError::Empty));
/// assert_eq!(read_line("show \"log"), Err(LineError::Quote));
/// ```
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
    /// An address is written with leading zeros, which some systems read as octal.
    Address,
}

impl fmt::Display for LineError {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(match self {
            Self::Empty => "there is no word in it",
            Self::TooLong => "it is longer than 4096 bytes or 256 words",
            Self::ControlCharacter => "it holds a control or invisible character",
            Self::Quote => "a quote is not closed, stands inside a word, or encloses nothing",
            Self::Address => {
                "an address is written with leading zeros or in hexadecimal, and it is not plain which one a system would read"
            }
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
/// assert_eq!(read_line("show  path to")?.as_slice(), ["show", "path", "to"]);
/// assert_eq!(read_line("describe \"pier two\"")?.as_slice(), ["describe", "pier two"]);
/// assert!(read_line("show \u{7}").is_err());
/// # Ok::<(), zest_ledger::command::LineError>(())
/// ```
pub fn read_line(text: &str) -> Result<SmallVec<[&str; 8]>, LineError> {
    let mut words = Words::new();
    let has_dots = read(text, 1, &mut words)?;
    if has_dots && words.iter().any(|word| is_odd_address(word)) { Err(LineError::Address) } else { Ok(words) }
}

/// Returns whether a word is an IPv4 address, alone or with a prefix length, in a form that systems read differently: some take
/// `016` for fourteen (RFC 6943, section 3.1.1).
fn is_odd_address(word: &str) -> bool {
    let (address, length) = word.split_once('/').map_or((word, None), |(address, length)| (address, Some(length)));
    let is_number = |part: &str| match part.strip_prefix("0x").or_else(|| part.strip_prefix("0X")) {
        Some(hex) => !hex.is_empty() && hex.bytes().all(|b| b.is_ascii_hexdigit()),
        None => !part.is_empty() && part.bytes().all(|b| b.is_ascii_digit()),
    };
    let is_odd = |part: &str| part.len() > 1 && part.starts_with('0');
    address.split('.').count() == 4
        && address.split('.').all(is_number)
        && length.is_none_or(is_number)
        && (address.split('.').any(is_odd) || length.is_some_and(is_odd))
}

/// Reads the arguments of a program, of which one in quotes may be empty.
pub fn read_arguments(text: &str) -> Result<Words<'_>, LineError> {
    let mut words = Words::new();
    read(text, 0, &mut words)?;
    Ok(words)
}

/// Reads into a list that is there: one that is handed back is copied on the way. Says whether there may be a dot in a word.
fn read<'t>(text: &'t str, shortest_quoted: usize, words: &mut Words<'t>) -> Result<bool, LineError> {
    if text.len() > MAX_LINE_BYTES {
        return Err(LineError::TooLong);
    }
    let bytes = text.as_bytes();
    // What all bytes of the line are together.
    let mut seen = 0;
    let mut at = 0;
    while let Some(&first) = bytes.get(at) {
        if BYTES[first as usize] & BLANK != 0 {
            at += 1;
            continue;
        }
        if words.len() == MAX_LINE_WORDS {
            return Err(LineError::TooLong);
        }
        let mut end = at;
        let mut last = 0;
        while let Some(&byte) = bytes.get(end) {
            last = BYTES[byte as usize];
            if last & (BLANK | ODD) != 0 {
                break;
            }
            seen |= last;
            end += 1;
        }
        // OK because a word begins and ends beside ASCII bytes or at the ends of the text.
        if last & ODD == 0 {
            words.push(&text[at..end]);
            at = end;
        } else {
            let (start, end, next) = odd_word(text, at, shortest_quoted)?;
            words.push(&text[start..end]);
            seen |= DOT;
            at = next;
        }
    }
    if words.is_empty() { Err(LineError::Empty) } else { Ok(seen & DOT != 0) }
}

/// A blank or a tab.
const BLANK: u8 = 1;
/// No letter, digit or sign of ASCII, or a quote: it needs a closer look.
const ODD: u8 = 2;
/// A dot, as addresses have.
const DOT: u8 = 4;

/// What each byte is; most are nothing of this.
static BYTES: [u8; 256] = {
    let mut bytes = [ODD; 256];
    let mut byte = b'!';
    while byte <= b'~' {
        bytes[byte as usize] = if byte == b'"' { ODD } else { 0 };
        byte += 1;
    }
    bytes[b'.' as usize] = DOT;
    bytes[b' ' as usize] = BLANK;
    bytes[b'\t' as usize] = BLANK;
    bytes
};

/// Reads a word that is quoted or holds other characters: where it starts, ends, and where to go on.
fn odd_word(text: &str, at: usize, shortest_quoted: usize) -> Result<(usize, usize, usize), LineError> {
    let rest = &text[at..];
    let (start, end, next) = if let Some(inner) = rest.strip_prefix('"') {
        let length = inner.find('"').filter(|&length| length >= shortest_quoted).ok_or(LineError::Quote)?;
        (at + 1, at + 1 + length, at + length + 2)
    } else {
        let length = rest.find([' ', '\t']).unwrap_or(rest.len());
        (at, at + length, at + length)
    };
    let word = &text[start..end];
    if word.contains('"') || !(text[next..].is_empty() || text[next..].starts_with([' ', '\t'])) {
        return Err(LineError::Quote);
    }
    if word.chars().any(is_hidden) { Err(LineError::ControlCharacter) } else { Ok((start, end, next)) }
}

/// Writes words as a line that reads back to the same words.
pub fn join<'w>(words: impl IntoIterator<Item = &'w str>) -> String {
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
