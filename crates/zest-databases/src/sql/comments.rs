//! Comments that MariaDB carries out: `/*! … */`, with a version or not, and `/*M! … */`.

use std::borrow::Cow;

/// The versions that version 10.11 is sure to carry out, and those that it is sure to pass over: between them it depends on the release.
const FROM: u32 = 101_100;
const BELOW: u32 = 101_200;
/// Versions of another server that this one passes over, unless the comment is for it alone.
const OF_OTHERS: std::ops::RangeInclusive<u32> = 50_700..=50_999;

/// Returns a text with the comments that the server carries out taken out of their signs, and those that it passes over left out.
///
/// # Errors
/// Where that depends on the release, or a comment does not end.
pub(crate) fn carried_out(text: &str) -> Result<Cow<'_, str>, String> {
    if !["/*!", "/*M!", "/*m!"].iter().any(|mark| text.contains(mark)) {
        return Ok(Cow::Borrowed(text));
    }
    let mut out = String::new();
    let mut rest = text;
    let mut depth = 0_usize;
    while let Some(first) = rest.chars().next() {
        let taken = match first {
            '\'' | '"' | '`' => quoted(rest, first),
            '#' => line(rest),
            '-' if rest.starts_with("--") && rest[2..].chars().next().is_none_or(|c| c.is_whitespace() || c.is_control()) => line(rest),
            '*' if depth > 0 && rest.starts_with("*/") => {
                depth -= 1;
                out.push(' ');
                rest = &rest[2..];
                continue;
            }
            '/' if rest.starts_with("/*") => {
                let behind = rest[2..].strip_prefix(['M', 'm']).filter(|behind| behind.starts_with('!'));
                match behind.or(Some(&rest[2..])).and_then(|behind| behind.strip_prefix('!')) {
                    Some(inner) => {
                        let digits = inner.chars().take_while(char::is_ascii_digit).count();
                        let count = if digits >= 6 { 6 } else { digits };
                        let version: Option<u32> = (count >= 5).then(|| inner[..count].parse().ok()).flatten();
                        let inner = if version.is_some() { &inner[count..] } else { inner };
                        match version {
                            Some(version) if version > FROM && version < BELOW => {
                                return Err(format!(
                                    "whether the server carries out a comment for version {version} depends on its release"
                                ));
                            }
                            Some(version) if version >= BELOW || behind.is_none() && OF_OTHERS.contains(&version) => {
                                let end = inner.find("*/").ok_or("a comment does not end")?;
                                if inner[..end].contains("/*") {
                                    return Err("a comment in a comment that the server passes over".to_owned());
                                }
                                rest = &inner[end + 2..];
                            }
                            Some(_) | None => {
                                depth += 1;
                                rest = inner;
                            }
                        }
                        out.push(' ');
                        continue;
                    }
                    None => rest[2..].find("*/").map_or(rest.len(), |end| end + 4),
                }
            }
            other => other.len_utf8(),
        };
        out.push_str(&rest[..taken]);
        rest = &rest[taken..];
    }
    if depth > 0 { Err("a comment does not end".to_owned()) } else { Ok(Cow::Owned(out)) }
}

/// The length of a text in quotes, with its quotes.
fn quoted(rest: &str, quote: char) -> usize {
    let mut escaped = false;
    for (at, c) in rest.char_indices().skip(1) {
        match c {
            _ if escaped => escaped = false,
            '\\' if quote != '`' => escaped = true,
            c if c == quote => return at + c.len_utf8(),
            _ => {}
        }
    }
    rest.len()
}

fn line(rest: &str) -> usize {
    rest.find('\n').map_or(rest.len(), |end| end + 1)
}
