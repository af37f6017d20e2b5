//! Where an entry is written: documents, spans of text, and lines and columns.

use std::fmt;
use std::ops::Range;
use std::panic::Location as CodeLocation;
use std::sync::atomic::{AtomicU32, Ordering};
use std::sync::{Arc, OnceLock};

use serde::{Deserialize, Serialize};

pub use zest_words::visible;

/// The number of a document, among those of all ledgers of the process: later ones have higher numbers.
///
/// # Example
/// ```
/// use zest_ledger::source::SourceMap;
/// let mut sources = SourceMap::default();
/// let id = sources.add("people.toml", "[users.watch-1]").expect("it is short");
/// assert_eq!(sources.name(id), "people.toml");
/// ```
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub struct SourceId(u32);

/// A stretch of a document, in bytes, end exclusive.
///
/// # Example
/// ```
/// use zest_ledger::source::{SourceMap, Span};
/// let mut sources = SourceMap::default();
/// let source = sources.add("people.toml", "[users.watch-1]").expect("it is short");
/// assert_eq!(sources.slice(Span { source, start: 1, end: 6 }), "users");
/// ```
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub struct Span {
    /// The document.
    pub source: SourceId,
    /// First byte.
    pub start: u32,
    /// One past the last byte.
    pub end: u32,
}

/// Where an entry was written: in a document, or in a program that built the ledger in code.
///
/// # Example
/// ```
/// use zest_ledger::{Ledger, source::Place};
/// let estate = Ledger::new().document("people.toml", "[users.watch-1]\n[systems.rota]\nkind = 'application'\n").estate()?;
/// assert!(matches!(estate.users()[0].id.place, Place::Text(_)));
/// # Ok::<(), zest_ledger::finding::Findings>(())
/// ```
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub enum Place {
    /// In the text of a document.
    Text(Span),
    /// In a Rust source file, where a builder was called.
    Code(&'static CodeLocation<'static>),
}

impl Place {
    /// Returns the place of the caller, for entries that are built in code.
    ///
    /// # Example
    /// ```
    /// use zest_ledger::source::Place;
    /// assert!(matches!(Place::here(), Place::Code(at) if at.file().ends_with(".rs")));
    /// ```
    #[track_caller]
    #[must_use]
    pub fn here() -> Self {
        Self::Code(CodeLocation::caller())
    }
}

/// A value together with the place where it was written.
///
/// # Example
/// ```
/// use zest_ledger::source::At;
/// let level = At::here(7_u8);
/// assert_eq!(level.value, 7);
/// ```
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct At<T> {
    /// The value.
    pub value: T,
    /// Where it stands.
    pub place: Place,
}

impl<T> At<T> {
    /// Binds a value to a place.
    ///
    /// # Example
    /// ```
    /// use zest_ledger::source::{At, Place};
    /// assert_eq!(At::new(7_u8, Place::here()).value, 7);
    /// ```
    pub const fn new(value: T, place: Place) -> Self {
        Self { value, place }
    }

    /// Binds a value to the caller's line of code.
    ///
    /// # Example
    /// ```
    /// use zest_ledger::source::{At, Place};
    /// assert!(matches!(At::here("watch-1").place, Place::Code(_)));
    /// ```
    #[track_caller]
    pub fn here(value: T) -> Self {
        Self::new(value, Place::here())
    }
}

/// A file, line and column, ready to print as `file:line`.
///
/// # Example
/// ```
/// use zest_ledger::source::Location;
/// let at = Location { file: "people.toml".to_owned(), line: 3, column: 1 };
/// assert_eq!(at.to_string(), "people.toml:3");
/// ```
#[derive(Clone, Debug, PartialEq, Eq, Hash, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(deny_unknown_fields)]
pub struct Location {
    /// The document's name as given, with control characters made visible.
    pub file: String,
    /// Line, from 1.
    pub line: u32,
    /// Column in characters, from 1.
    pub column: u32,
}

impl fmt::Display for Location {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "{}:{}", self.file, self.line)
    }
}

#[derive(Debug)]
struct Source {
    name: String,
    text: String,
    /// Made when somebody asks for a line: most documents of a large ledger are never cited.
    line_starts: OnceLock<Vec<u32>>,
}

impl Source {
    fn line_starts(&self) -> &[u32] {
        self.line_starts.get_or_init(|| {
            let breaks = self.text.bytes().enumerate().filter(|&(_, b)| b == b'\n');
            std::iter::once(0).chain(breaks.map(|(i, _)| i as u32 + 1)).collect()
        })
    }
}

/// All documents of a ledger: names, texts, and the way from an offset to a line.
///
/// # Example
/// ```
/// use zest_ledger::source::{Place, SourceMap, Span};
/// let mut sources = SourceMap::default();
/// let source = sources.add("people.toml", "[users.a]\n[users.b]").expect("it is short");
/// let at = sources.locate(Place::Text(Span { source, start: 17, end: 18 }));
/// assert_eq!((at.line, at.column), (2, 8));
/// ```
#[derive(Clone, Debug, Default)]
pub struct SourceMap {
    /// In the order of their numbers.
    sources: Vec<(SourceId, Arc<Source>)>,
}

/// The number of the next document, of whatever ledger: an entry that moves to another one never cites a document of that one.
static NEXT: AtomicU32 = AtomicU32::new(0);

impl SourceMap {
    fn get(&self, id: SourceId) -> Option<&Source> {
        let index = self.sources.binary_search_by_key(&id, |(id, _)| *id).ok()?;
        Some(&self.sources[index].1)
    }

    /// Takes over the documents of another ledger, so that what is written in them keeps its places here.
    ///
    /// # Example
    /// ```
    /// use zest_ledger::source::SourceMap;
    /// let (mut one, mut other) = (SourceMap::default(), SourceMap::default());
    /// let id = other.add("roles.toml", "[roles.reader]").expect("it is short");
    /// one.take_over(&other);
    /// assert_eq!(one.name(id), "roles.toml");
    /// ```
    pub fn take_over(&mut self, other: &Self) {
        self.sources.extend(other.sources.iter().cloned());
        self.sources.sort_by_key(|(id, _)| *id);
        self.sources.dedup_by_key(|(id, _)| *id);
    }

    /// Adds a document and returns its number. Texts of 4 GiB and more are not accepted.
    ///
    /// # Example
    /// ```
    /// use zest_ledger::source::SourceMap;
    /// let mut sources = SourceMap::default();
    /// let id = sources.add("people.toml", "[users.watch-1]").expect("it is short");
    /// assert_eq!(sources.text(id), "[users.watch-1]");
    /// ```
    pub fn add(&mut self, name: &str, text: &str) -> Option<SourceId> {
        u32::try_from(text.len()).ok()?;
        let id = SourceId(NEXT.fetch_update(Ordering::Relaxed, Ordering::Relaxed, |next| next.checked_add(1)).ok()?);
        self.sources.push((id, Arc::new(Source { name: visible(name), text: text.to_owned(), line_starts: OnceLock::new() })));
        Some(id)
    }

    /// Returns the name of a document, safe to print.
    ///
    /// # Example
    /// ```
    /// use zest_ledger::source::SourceMap;
    /// let mut sources = SourceMap::default();
    /// let id = sources.add("people\n.toml", "").expect("it is short");
    /// assert!(!sources.name(id).contains('\n'));
    /// ```
    #[must_use]
    pub fn name(&self, id: SourceId) -> &str {
        self.get(id).map_or("?", |s| s.name.as_str())
    }

    /// Returns the text of a document.
    ///
    /// # Example
    /// ```
    /// use zest_ledger::source::SourceMap;
    /// let (mut sources, elsewhere) = (SourceMap::default(), SourceMap::default());
    /// let id = sources.add("people.toml", "[users.watch-1]").expect("it is short");
    /// assert_eq!((sources.text(id), elsewhere.text(id)), ("[users.watch-1]", ""));
    /// ```
    #[must_use]
    pub fn text(&self, id: SourceId) -> &str {
        self.get(id).map_or("", |s| s.text.as_str())
    }

    /// Returns the text of the first document of a name, as [`name`](Self::name) gives it.
    ///
    /// # Example
    /// ```
    /// use zest_ledger::source::SourceMap;
    /// let mut sources = SourceMap::default();
    /// sources.add("people.toml", "[users.watch-1]");
    /// assert_eq!(sources.text_of("people.toml"), Some("[users.watch-1]"));
    /// assert_eq!(sources.text_of("roles.toml"), None);
    /// ```
    #[must_use]
    pub fn text_of(&self, name: &str) -> Option<&str> {
        self.sources.iter().find(|(_, source)| source.name == name).map(|(_, source)| source.text.as_str())
    }

    /// Returns the number and the name of every document.
    #[doc(hidden)]
    pub fn names(&self) -> impl Iterator<Item = (SourceId, &str)> {
        self.sources.iter().map(|(id, source)| (*id, source.name.as_str()))
    }

    /// Returns how many documents there are.
    ///
    /// # Example
    /// ```
    /// use zest_ledger::source::SourceMap;
    /// let mut sources = SourceMap::default();
    /// sources.add("people.toml", "[users.watch-1]");
    /// assert_eq!(sources.len(), 1);
    /// ```
    #[must_use]
    pub fn len(&self) -> usize {
        self.sources.len()
    }

    /// Returns whether there is no document.
    ///
    /// # Example
    /// ```
    /// assert!(zest_ledger::source::SourceMap::default().is_empty());
    /// ```
    #[must_use]
    pub fn is_empty(&self) -> bool {
        self.sources.is_empty()
    }

    /// Returns the text a span covers, or nothing if it does not fit the document.
    ///
    /// # Example
    /// ```
    /// use zest_ledger::source::{SourceMap, Span};
    /// let mut sources = SourceMap::default();
    /// let source = sources.add("people.toml", "[users.watch-1]").expect("it is short");
    /// assert_eq!(sources.slice(Span { source, start: 7, end: 14 }), "watch-1");
    /// assert_eq!(sources.slice(Span { source, start: 7, end: 90 }), "");
    /// ```
    #[must_use]
    pub fn slice(&self, span: Span) -> &str {
        self.text(span.source).get(span.start as usize..span.end as usize).unwrap_or("")
    }

    /// Returns the bytes of the line in which a span starts, without its line break.
    ///
    /// # Example
    /// ```
    /// use zest_ledger::source::{SourceMap, Span};
    /// let mut sources = SourceMap::default();
    /// let source = sources.add("people.toml", "[users.a]\n[users.b]\n").expect("it is short");
    /// assert_eq!(sources.line_range(Span { source, start: 12, end: 13 }), 10..19);
    /// ```
    #[must_use]
    pub fn line_range(&self, span: Span) -> Range<usize> {
        let Some(source) = self.get(span.source) else { return 0..0 };
        let line = source.line_starts().partition_point(|&s| s <= span.start).saturating_sub(1);
        let start = source.line_starts().get(line).map_or(0, |&s| s as usize);
        let end = source.line_starts().get(line + 1).map_or(source.text.len(), |&s| s as usize - 1);
        start..end.max(start)
    }

    /// Finds what [`locate`](Self::locate) returned; nothing for a line that a document does not have.
    #[doc(hidden)]
    pub fn spot(&self, at: &Location) -> Option<Spot> {
        let Some((id, source)) = self.sources.iter().find(|(_, source)| source.name == at.file) else {
            return Some(Spot::Code(at.clone()));
        };
        let start = *source.line_starts().get((at.line as usize).checked_sub(1)?)? as usize;
        let before: usize = source.text.get(start..)?.chars().take((at.column as usize).checked_sub(1)?).map(char::len_utf8).sum();
        Some(Spot::Text(*id, (start + before) as u32))
    }

    /// Returns whether a place is in one of these documents, or in a program.
    #[doc(hidden)]
    #[must_use]
    pub fn has(&self, place: Place) -> bool {
        match place {
            Place::Code(_) => true,
            Place::Text(span) => self.get(span.source).is_some(),
        }
    }

    /// Returns file, line and column of a place.
    ///
    /// # Example
    /// ```
    /// use zest_ledger::Ledger;
    /// let estate = Ledger::new().document("people.toml", "\n[users.watch-1]\n[systems.rota]\nkind = 'application'\n").estate()?;
    /// assert_eq!(estate.sources().locate(estate.users()[0].id.place).to_string(), "people.toml:2");
    /// # Ok::<(), zest_ledger::finding::Findings>(())
    /// ```
    #[must_use]
    pub fn locate(&self, place: Place) -> Location {
        match place {
            Place::Code(at) => Location { file: visible(at.file()), line: at.line(), column: at.column() },
            Place::Text(span) => {
                let Some(source) = self.get(span.source) else {
                    return Location { file: "?".to_owned(), line: 0, column: 0 };
                };
                let line = source.line_starts().partition_point(|&s| s <= span.start);
                let start = self.line_range(span).start;
                let column = source.text.get(start..span.start as usize).map_or(0, |s| s.chars().count());
                Location { file: source.name.clone(), line: line as u32, column: column as u32 + 1 }
            }
        }
    }
}

/// A location, found again: the start of whatever is written there.
///
/// # Example
/// ```
/// use zest_ledger::source::{Place, SourceMap, Span, Spot};
/// let mut sources = SourceMap::default();
/// let source = sources.add("people.toml", "[users.a]").expect("it is short");
/// let place = Place::Text(Span { source, start: 7, end: 8 });
/// assert!(matches!(sources.spot(&sources.locate(place)), Some(Spot::Text(id, 7)) if id == source));
/// ```
#[derive(Clone, Debug)]
pub enum Spot {
    /// In a document, at a byte.
    Text(SourceId, u32),
    /// In a program.
    Code(Location),
}

impl Spot {
    /// Returns whether a place begins there.
    ///
    /// # Example
    /// ```
    /// use zest_ledger::source::{Place, SourceMap, Span};
    /// let mut sources = SourceMap::default();
    /// let source = sources.add("people.toml", "[users.a]").expect("it is short");
    /// let place = Place::Text(Span { source, start: 7, end: 8 });
    /// assert!(sources.spot(&sources.locate(place)).expect("there is such a line").is(place));
    /// ```
    pub fn is(&self, place: Place) -> bool {
        match (self, place) {
            (Self::Text(source, start), Place::Text(span)) => span.source == *source && span.start == *start,
            (Self::Code(at), Place::Code(code)) => code.line() == at.line && code.column() == at.column && visible(code.file()) == at.file,
            (Self::Text(..), Place::Code(_)) | (Self::Code(_), Place::Text(_)) => false,
        }
    }
}
