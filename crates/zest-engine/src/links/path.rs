//! Paths of resources and patterns over them: `lanternsound/*/tickets`, `ramp/selkie-*`, `lanternsound/**`.

use zest_command::{Slot, WordPattern};

/// One part of a pattern.
#[derive(Clone, Debug, PartialEq, Eq)]
enum Part {
    Fixed(Box<str>),
    Any,
    /// A word with one `*` in it.
    Affix(WordPattern),
}

/// A part of a path that stands for all that is not named.
pub const SOMETHING: &str = "something-else";

impl Part {
    /// Returns a word that both take, if there is one.
    fn and(&self, other: &Self) -> Option<String> {
        let affix = |pattern: &WordPattern| match pattern {
            WordPattern::Slot(Slot::Affix(start, end)) => Some((start.clone(), end.clone())),
            WordPattern::Fixed(_) | WordPattern::Slot(_) => None,
        };
        match (self, other) {
            (Self::Fixed(one), Self::Fixed(other)) => (one == other).then(|| one.to_string()),
            (Self::Fixed(fixed), Self::Any) | (Self::Any, Self::Fixed(fixed)) => Some(fixed.to_string()),
            (Self::Fixed(fixed), Self::Affix(pattern)) | (Self::Affix(pattern), Self::Fixed(fixed)) => {
                pattern.matches(fixed).then(|| fixed.to_string())
            }
            (Self::Any, Self::Any) => Some(SOMETHING.to_owned()),
            (Self::Any, Self::Affix(pattern)) | (Self::Affix(pattern), Self::Any) => {
                affix(pattern).map(|(start, end)| format!("{start}{SOMETHING}{end}"))
            }
            (Self::Affix(one), Self::Affix(other)) => {
                let ((start, end), (its_start, its_end)) = (affix(one)?, affix(other)?);
                let start = if start.len() > its_start.len() { start } else { its_start };
                let end = if end.len() > its_end.len() { end } else { its_end };
                Some(format!("{start}{SOMETHING}{end}")).filter(|word| one.matches(word) && other.matches(word))
            }
        }
    }
}

/// A pattern over paths.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(crate) struct PathPattern {
    /// Its parts up to the first `*`: every path it covers is this one, or is below it.
    beginning: Box<str>,
    /// The others.
    rest: Box<[Part]>,
    /// Whether all that is below is covered as well.
    is_open: bool,
}

/// Says why a text is no path, if it is none.
pub(crate) fn bad_path(path: &str) -> Option<&'static str> {
    // Most are letters of ASCII and `/`, of which only the parts need to be looked at.
    let is_simple = |byte: u8| byte.is_ascii_alphanumeric() || matches!(byte, b'-' | b'_' | b'/');
    if !path.is_empty() && path.bytes().all(is_simple) {
        let is_empty = path.starts_with('/') || path.ends_with('/') || path.as_bytes().windows(2).any(|two| two == b"//");
        return is_empty.then_some("a part between two `/` is empty");
    }
    if path.is_empty() {
        Some("it is empty")
    } else if path.split('/').any(str::is_empty) {
        Some("a part between two `/` is empty")
    } else if path.split('/').any(|p| p == "." || p == "..") {
        Some("a part is `.` or `..`")
    } else if path.split('/').any(|p| p.trim() != p) {
        Some("a part begins or ends with a blank")
    } else if path.contains('*') {
        Some("a path has no `*`")
    } else if path.chars().any(zest_words::is_hidden) {
        Some("it holds control or invisible characters")
    } else {
        None
    }
}

impl PathPattern {
    /// Reads a pattern; `inherits` has it cover what is below, as containers of a cloud do.
    pub(crate) fn parse(text: &str, inherits: bool) -> Result<Self, &'static str> {
        let (body, is_open) = match text.strip_suffix("**") {
            Some("") => ("", true),
            Some(body) => (body.strip_suffix('/').ok_or("`**` stands alone behind a `/`")?, true),
            None => (text, false),
        };
        let mut parts = Vec::new();
        for part in body.split('/').filter(|_| !(body.is_empty() && is_open)) {
            parts.push(match part.split_once('*') {
                _ if part.is_empty() => return Err("a part between two `/` is empty"),
                None if matches!(part, "." | "..") => return Err("a part is `.` or `..`"),
                None => Part::Fixed(part.into()),
                Some(("", "")) => Part::Any,
                Some((_, rest)) if rest.contains('*') => return Err("one `*` a part, and `**` only at the end"),
                Some((start, end)) => Part::Affix(WordPattern::Slot(Slot::Affix(start.to_owned(), end.to_owned()))),
            });
        }
        let fixed: Vec<&str> = parts.iter().map_while(|p| if let Part::Fixed(text) = p { Some(&**text) } else { None }).collect();
        Ok(Self { beginning: fixed.join("/").into(), rest: parts[fixed.len()..].into(), is_open: is_open || inherits })
    }

    /// Returns whether it covers a path. A path has no more than the parts it is made of: it is never re-joined.
    pub(crate) fn covers(&self, path: &str) -> bool {
        let rest = if self.beginning.is_empty() {
            Some(path)
        } else {
            match path.strip_prefix(&*self.beginning) {
                None => return false,
                Some("") => None,
                Some(rest) => match rest.strip_prefix('/') {
                    Some(rest) => Some(rest),
                    None => return false,
                },
            }
        };
        let mut rest = rest.into_iter().flat_map(|rest| rest.split('/'));
        for part in &self.rest {
            let Some(word) = rest.next() else { return false };
            let fits = match part {
                Part::Fixed(fixed) => **fixed == *word,
                Part::Any => true,
                Part::Affix(pattern) => pattern.matches(word),
            };
            if !fits {
                return false;
            }
        }
        self.is_open || rest.next().is_none()
    }

    /// Returns a path that both cover, if there is one: as short as may be, with what neither names in the place of a `*`.
    pub(crate) fn and(&self, other: &Self) -> Option<String> {
        let parts = |pattern: &Self| -> Vec<Part> {
            let fixed = pattern.beginning.split('/').filter(|part| !part.is_empty()).map(|part| Part::Fixed(part.into()));
            fixed.chain(pattern.rest.iter().cloned()).collect()
        };
        let (mine, theirs) = (parts(self), parts(other));
        let mut words: Vec<String> = Vec::new();
        for at in 0..mine.len().max(theirs.len()) {
            words.push(match (mine.get(at), theirs.get(at)) {
                (Some(one), Some(other)) => one.and(other)?,
                (Some(one), None) if other.is_open => one.and(&Part::Any)?,
                (None, Some(other)) if self.is_open => other.and(&Part::Any)?,
                _ => return None,
            });
        }
        let path = if words.is_empty() { SOMETHING.to_owned() } else { words.join("/") };
        (self.covers(&path) && other.covers(&path)).then_some(path)
    }

    /// Returns the path, if the pattern has no `*`.
    pub(crate) fn literal(&self) -> Option<&str> {
        self.fixed().map(|(path, _)| path).filter(|path| !path.is_empty())
    }

    /// Returns the path, if the pattern has no `*` but one for all that is below, and whether that is covered as well.
    pub(crate) fn fixed(&self) -> Option<(&str, bool)> {
        self.rest.is_empty().then_some((&self.beginning, self.is_open))
    }

    /// Returns the path that every path it covers is, or is below: its parts up to the first `*`. It may be empty.
    pub(crate) fn beginning(&self) -> &str {
        &self.beginning
    }

    /// Returns the first part, if it is a fixed one.
    pub(crate) fn head(&self) -> Option<&str> {
        self.beginning.split('/').next().filter(|head| !head.is_empty())
    }

    /// Returns whether it covers every path.
    pub(crate) fn is_everything(&self) -> bool {
        self.is_open && self.beginning.is_empty() && self.rest.is_empty()
    }
}

/// Returns whether a path is a container or below it.
pub(crate) fn is_within(path: &str, container: &str) -> bool {
    path.strip_prefix(container).is_some_and(|rest| rest.is_empty() || rest.starts_with('/'))
}
