//! Patterns over command lines, as an administrator writes them.
//!
//! | written | matches |
//! |---|---|
//! | `show` | that word |
//! | `"pier two"` | that word, with the blank in it |
//! | `pier-*` | a word with this beginning; one `*` a word, anywhere in it |
//! | `{word}` | any one word |
//! | `{number}` | a whole number |
//! | `{1-7}` | a whole number in the range, both ends included |
//! | `{address}` | an IPv4 or IPv6 address |
//! | `{network}` | an address with a prefix length |
//! | `{on\|off}` | one of these words |
//! | `{level: 1-7}` | the same as `{1-7}`, with a name for the reader |
//! | `...` | whatever follows, also nothing; only at the end |

use std::borrow::Cow;
use std::fmt;
use std::net::{IpAddr, Ipv6Addr};
use std::ops::Range;

use crate::line::{MAX_LINE_WORDS, join};
use zest_words::{canonical_network, is_hidden, parse_network, visible};

/// What one word of a pattern matches when it is not a fixed word.
///
/// # Example
/// ```
/// use zest_ledger::command::{Pattern, Slot, WordPattern};
/// assert_eq!(Pattern::parse("elevate {1-7}")?.words()[1], WordPattern::Slot(Slot::Range(1, 7)));
/// # Ok::<(), zest_ledger::command::PatternError>(())
/// ```
#[derive(Clone, Debug, PartialEq, Eq, Hash)]
pub enum Slot {
    /// Any one word.
    Word,
    /// A whole number without sign, of at most 18 digits.
    Number,
    /// A whole number in a range, both ends included.
    Range(u64, u64),
    /// An IPv4 or IPv6 address.
    Address,
    /// An address with a prefix length.
    Network,
    /// A word with this beginning and this end, and anything between.
    Affix(String, String),
}

/// One word of a pattern.
///
/// # Example
/// ```
/// use zest_ledger::command::{Pattern, WordPattern};
/// let pattern = Pattern::parse("port {on|off}")?;
/// assert_eq!(pattern.words()[1], WordPattern::Fixed(vec!["on".to_owned(), "off".to_owned()]));
/// # Ok::<(), zest_ledger::command::PatternError>(())
/// ```
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum WordPattern {
    /// One of these fixed words; mostly just one.
    Fixed(Vec<String>),
    /// A word of a certain form.
    Slot(Slot),
}

/// A pattern over the words of a line. It matches exactly what it says: no longer line, no shorter one.
///
/// # Example
/// ```
/// use zest_ledger::command::Pattern;
/// let pattern = Pattern::parse("elevate {level: 1-7}")?;
/// assert!(pattern.matches(&["elevate", "7"]));
/// assert!(!pattern.matches(&["elevate"]));
/// # Ok::<(), zest_ledger::command::PatternError>(())
/// ```
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Pattern {
    words: Vec<WordPattern>,
    is_open: bool,
}

/// Why a pattern cannot be read, and where in it.
///
/// # Example
/// ```
/// use zest_ledger::command::Pattern;
/// let error = Pattern::parse("show {log").expect_err("the brace stays open");
/// assert_eq!(error.span, 5..9);
/// ```
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct PatternError {
    /// The part that cannot be read, in bytes of the pattern.
    pub span: Range<usize>,
    /// What is wrong.
    pub message: String,
    /// What to write instead.
    pub help: String,
}

impl fmt::Display for PatternError {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "{} ({})", self.message, self.help)
    }
}

impl std::error::Error for PatternError {}

impl PatternError {
    fn new(span: Range<usize>, message: impl Into<String>, help: impl Into<String>) -> Self {
        Self { span, message: message.into(), help: help.into() }
    }
}

impl Pattern {
    /// Reads a pattern.
    ///
    /// # Errors
    /// The part that cannot be read, what is wrong with it and what to write instead.
    ///
    /// # Example
    /// ```
    /// use zest_ledger::command::Pattern;
    /// assert!(Pattern::parse("show log ...").is_ok());
    /// assert!(Pattern::parse("show ... log").is_err(), "`...` stands at the end only");
    /// ```
    pub fn parse(text: &str) -> Result<Self, PatternError> {
        if let Some((at, c)) = text.char_indices().find(|&(_, c)| is_hidden(c) && c != '\t') {
            return Err(PatternError::new(at..at + c.len_utf8(), "a control or invisible character stands in it", "remove it"));
        }
        let mut words = Vec::new();
        let mut is_open = false;
        let mut rest = text;
        loop {
            rest = rest.trim_start_matches([' ', '\t']);
            if rest.is_empty() {
                break;
            }
            let start = text.len() - rest.len();
            if is_open {
                return Err(PatternError::new(start..text.len(), "`...` is not the last word", "write `{word}` for one word of any kind"));
            }
            if words.len() == MAX_LINE_WORDS {
                return Err(PatternError::new(start..text.len(), "it has more than 256 words", "shorten it with `...`"));
            }
            let length = word_length(rest).map_err(|message| {
                PatternError::new(start..text.len(), message, "close it; quotes and braces may not stand inside a word")
            })?;
            let (word, after) = rest.split_at(length);
            rest = after;
            if word == "..." {
                is_open = true;
            } else {
                words.push(parse_word(word, start)?);
            }
        }
        if words.is_empty() && !is_open {
            return Err(PatternError::new(0..text.len(), "it is empty", "write at least one word, or `...` for every line"));
        }
        Ok(Self { words, is_open })
    }

    /// Makes a pattern of words, with nothing behind them.
    ///
    /// # Example
    /// ```
    /// use zest_ledger::command::{Pattern, Slot, WordPattern};
    /// assert_eq!(Pattern::of(vec![WordPattern::Slot(Slot::Word)]).to_string(), "{word}");
    /// ```
    pub const fn of(words: Vec<WordPattern>) -> Self {
        Self { words, is_open: false }
    }

    /// Makes the pattern of these words and no others.
    ///
    /// # Example
    /// ```
    /// use zest_ledger::command::Pattern;
    /// let pattern = Pattern::literal(["show", "pier*"]);
    /// assert!(pattern.matches(&["show", "pier*"]) && !pattern.matches(&["show", "pier-2"]));
    /// ```
    pub fn literal<'w>(words: impl IntoIterator<Item = &'w str>) -> Self {
        Self { words: words.into_iter().map(|w| WordPattern::Fixed(vec![w.to_owned()])).collect(), is_open: false }
    }

    /// Returns the words.
    ///
    /// # Example
    /// ```
    /// assert_eq!(zest_ledger::command::Pattern::parse("show log ...")?.words().len(), 2);
    /// # Ok::<(), zest_ledger::command::PatternError>(())
    /// ```
    #[must_use]
    pub fn words(&self) -> &[WordPattern] {
        &self.words
    }

    /// Returns whether it ends in `...`.
    ///
    /// # Example
    /// ```
    /// use zest_ledger::command::Pattern;
    /// assert!(Pattern::parse("show ...")?.is_open() && !Pattern::parse("show")?.is_open());
    /// # Ok::<(), zest_ledger::command::PatternError>(())
    /// ```
    #[must_use]
    pub const fn is_open(&self) -> bool {
        self.is_open
    }

    /// Returns whether it matches a line of canonical words.
    ///
    /// This is the plain definition that the automata are tested against; it compares word by word.
    ///
    /// # Example
    /// ```
    /// use zest_ledger::command::Pattern;
    /// let pattern = Pattern::parse("show log ...")?;
    /// assert!(pattern.matches(&["show", "log"]) && pattern.matches(&["show", "log", "last"]));
    /// assert!(!pattern.matches(&["show"]), "no shorter line");
    /// # Ok::<(), zest_ledger::command::PatternError>(())
    /// ```
    #[must_use]
    pub fn matches(&self, line: &[&str]) -> bool {
        let long_enough = if self.is_open { line.len() >= self.words.len() } else { line.len() == self.words.len() };
        long_enough && self.words.iter().zip(line).all(|(pattern, word)| pattern.matches(word))
    }
}

impl fmt::Display for Pattern {
    /// Writes the pattern so that it reads back to the same.
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        for (i, word) in self.words.iter().enumerate() {
            if i > 0 {
                f.write_str(" ")?;
            }
            match word {
                WordPattern::Fixed(one) if one.len() == 1 => {
                    let plain = !one[0].contains(['{', '}', '*']) && !one[0].starts_with("...");
                    if plain { f.write_str(&join([one[0].as_str()]))? } else { write!(f, "\"{}\"", one[0])? }
                }
                WordPattern::Fixed(many) => write!(f, "{{{}}}", many.join("|"))?,
                WordPattern::Slot(slot) => write!(f, "{slot}")?,
            }
        }
        if self.is_open {
            f.write_str(if self.words.is_empty() { "..." } else { " ..." })?;
        }
        Ok(())
    }
}

impl WordPattern {
    /// Returns whether it matches a canonical word.
    ///
    /// # Example
    /// ```
    /// use zest_ledger::command::WordPattern;
    /// assert!(WordPattern::Fixed(vec!["on".to_owned(), "off".to_owned()]).matches("off"));
    /// ```
    #[must_use]
    pub fn matches(&self, word: &str) -> bool {
        match self {
            Self::Fixed(words) => words.iter().any(|w| w == word),
            Self::Slot(slot) => slot.matches(word),
        }
    }
}

impl Slot {
    /// Returns whether it matches a canonical word.
    ///
    /// # Example
    /// ```
    /// use zest_ledger::command::Slot;
    /// assert!(Slot::Range(1, 7).matches("7") && !Slot::Range(1, 7).matches("07"), "only the canonical form");
    /// ```
    #[must_use]
    pub fn matches(&self, word: &str) -> bool {
        match self {
            Self::Word => !word.is_empty(),
            Self::Number => canonical_number(word).is_some_and(|n| n == word),
            Self::Range(low, high) => {
                canonical_number(word).is_some_and(|n| n == word) && word.parse().is_ok_and(|n: u64| (*low..=*high).contains(&n))
            }
            Self::Address => word.parse::<IpAddr>().is_ok_and(|a| a.to_string() == word),
            Self::Network => parse_network(word).is_some_and(|n| n.to_string() == word),
            Self::Affix(start, end) => {
                word.len() >= start.len() + end.len() && word.starts_with(start.as_str()) && word.ends_with(end.as_str())
            }
        }
    }

    /// Returns the canonical form of a typed word if the slot takes it: numbers without leading zeros.
    ///
    /// # Example
    /// ```
    /// use zest_ledger::command::Slot;
    /// assert_eq!(Slot::Number.canonical("007").as_deref(), Some("7"));
    /// assert_eq!(Slot::Address.canonical("2001:DB8::0001").as_deref(), Some("2001:db8::1"));
    /// ```
    pub fn canonical<'w>(&self, word: &'w str) -> Option<Cow<'w, str>> {
        let form = match self {
            Self::Number | Self::Range(..) => Cow::Borrowed(canonical_number(word)?),
            _ => canonical_word(word),
        };
        self.matches(&form).then_some(form)
    }

    /// Returns whether its words are numbers.
    ///
    /// # Example
    /// ```
    /// use zest_ledger::command::Slot;
    /// assert!(Slot::Range(1, 7).is_number() && !Slot::Word.is_number());
    /// ```
    pub const fn is_number(&self) -> bool {
        matches!(self, Self::Number | Self::Range(..))
    }
}

impl fmt::Display for Slot {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Self::Word => f.write_str("{word}"),
            Self::Number => f.write_str("{number}"),
            Self::Range(low, high) => write!(f, "{{{low}-{high}}}"),
            Self::Address => f.write_str("{address}"),
            Self::Network => f.write_str("{network}"),
            Self::Affix(start, end) => write!(f, "{start}*{end}"),
        }
    }
}

/// Returns the form in which words are compared: addresses and networks as RFC 5952 writes them, an IPv4-mapped one as IPv4, a
/// network by its first address, as in conditions.
pub fn canonical_word(word: &str) -> Cow<'_, str> {
    // OK because only IPv6 has several spellings for one address, and each of them holds a colon; a network holds a slash.
    if !word.bytes().any(|b| matches!(b, b':' | b'/')) {
        return Cow::Borrowed(word);
    }
    let form = if let Ok(address) = word.parse::<Ipv6Addr>() {
        address.to_canonical().to_string()
    } else if let Some(network) = parse_network(word) {
        canonical_network(network).to_string()
    } else {
        return Cow::Borrowed(word);
    };
    if form == word { Cow::Borrowed(word) } else { Cow::Owned(form) }
}

/// Returns a number without its leading zeros.
fn canonical_number(word: &str) -> Option<&str> {
    if word.is_empty() || !word.bytes().all(|b| b.is_ascii_digit()) {
        return None;
    }
    let short = word.trim_start_matches('0');
    let short = if short.is_empty() { &word[word.len() - 1..] } else { short };
    (short.len() <= 18).then_some(short)
}

/// Returns how many bytes the first word of `rest` has.
fn word_length(rest: &str) -> Result<usize, &'static str> {
    let blank = |c: char| c == ' ' || c == '\t';
    let closed = |open: char, close: char, message| {
        let inner = rest.strip_prefix(open)?;
        let Some(end) = inner.find(close) else { return Some(Err(message)) };
        let after = &inner[end + 1..];
        let ends_here = after.is_empty() || after.starts_with(blank);
        Some(if ends_here { Ok(end + 2) } else { Err("something follows a closing quote or brace without a blank") })
    };
    if let Some(length) = closed('"', '"', "a quote is not closed").or_else(|| closed('{', '}', "a brace is not closed")) {
        return length;
    }
    let length = rest.find(blank).unwrap_or(rest.len());
    if rest[..length].contains(['"', '{', '}']) {
        return Err("a quote or a brace stands inside a word");
    }
    Ok(length)
}

fn parse_word(word: &str, start: usize) -> Result<WordPattern, PatternError> {
    let span = start..start + word.len();
    let fixed = |w: &str| WordPattern::Fixed(vec![canonical_word(w).into_owned()]);
    if let Some(inner) = word.strip_prefix('"').and_then(|w| w.strip_suffix('"')) {
        return if inner.is_empty() {
            Err(PatternError::new(span, "a quoted word is empty", "write the word between the quotes"))
        } else {
            Ok(fixed(inner))
        };
    }
    if let Some(inner) = word.strip_prefix('{').and_then(|w| w.strip_suffix('}')) {
        return parse_placeholder(inner, span);
    }
    if word.starts_with("...") {
        return Err(PatternError::new(span, "`...` stands for whole words", "put a blank before and after it"));
    }
    match word.split_once('*') {
        None => Ok(fixed(word)),
        Some(("", "")) => Err(PatternError::new(
            span,
            "`*` alone could mean a word or the rest",
            "write `{word}` for one word, `...` for the rest of the line",
        )),
        Some((_, end)) if end.contains('*') => {
            Err(PatternError::new(span, "a word has more than one `*`", "keep one `*`, or write several rules"))
        }
        Some((begin, end)) => Ok(WordPattern::Slot(Slot::Affix(begin.to_owned(), end.to_owned()))),
    }
}

fn parse_placeholder(inner: &str, span: Range<usize>) -> Result<WordPattern, PatternError> {
    // A name may stand before a colon; alternatives may hold colons themselves, so there a blank must follow it.
    let after_name = inner.split_once(": ").or_else(|| inner.split_once(':').filter(|_| !inner.contains('|')));
    let form = after_name.map_or(inner, |(_, form)| form).trim();
    let slot = match form {
        "word" => Slot::Word,
        "number" => Slot::Number,
        "address" => Slot::Address,
        "network" => Slot::Network,
        _ if form.contains('|') => {
            let words: Vec<String> = form.split('|').map(|w| canonical_word(w.trim()).into_owned()).collect();
            if words.iter().any(|w| w.is_empty() || w.contains([' ', '\t', '*', '"'])) {
                return Err(PatternError::new(span, "an alternative is empty or not a single plain word", "write it like `{on|off}`"));
            }
            return Ok(WordPattern::Fixed(words));
        }
        _ => {
            let ends =
                form.split_once('-').and_then(|(low, high)| Some((low.trim().parse::<u64>().ok()?, high.trim().parse::<u64>().ok()?)));
            match ends {
                Some((low, high)) if low <= high && high < 1_000_000_000_000_000_000 => Slot::Range(low, high),
                Some(_) => return Err(PatternError::new(span, "the range is empty or too large", "write the lower end first: `{1-7}`")),
                None => {
                    return Err(PatternError::new(
                        span,
                        format!("`{{{}}}` is not a placeholder", visible(inner)),
                        "placeholders are {word}, {number}, {1-7}, {address}, {network}, {on|off}; `...` is the rest of the line",
                    ));
                }
            }
        }
    };
    Ok(WordPattern::Slot(slot))
}
