//! Paths of resources and patterns over them: `lanternsound/*/tickets`, `ramp/selkie-*`, `lanternsound/**`.

use zest_command::{Slot, WordPattern};

/// One part of a pattern.
#[derive(Clone, Debug, PartialEq, Eq)]
enum Part {
    Fixed(String),
    Any,
    /// A word with one `*` in it.
    Affix(WordPattern),
}

/// A pattern over paths.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(crate) struct PathPattern {
    parts: Vec<Part>,
    /// Whether all that is below is covered as well.
    is_open: bool,
}

/// Says why a text is no path, if it is none.
pub(crate) fn bad_path(path: &str) -> Option<&'static str> {
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
                None => Part::Fixed(part.to_owned()),
                Some(("", "")) => Part::Any,
                Some((_, rest)) if rest.contains('*') => return Err("one `*` a part, and `**` only at the end"),
                Some((start, end)) => Part::Affix(WordPattern::Slot(Slot::Affix(start.to_owned(), end.to_owned()))),
            });
        }
        Ok(Self { parts, is_open: is_open || inherits })
    }

    /// Returns whether it covers a path. A path has no more than the parts it is made of: it is never re-joined.
    pub(crate) fn covers(&self, path: &str) -> bool {
        let mut rest = path.split('/');
        for part in &self.parts {
            let Some(word) = rest.next() else { return false };
            let fits = match part {
                Part::Fixed(fixed) => fixed == word,
                Part::Any => true,
                Part::Affix(pattern) => pattern.matches(word),
            };
            if !fits {
                return false;
            }
        }
        self.is_open || rest.next().is_none()
    }

    /// Returns the path, if the pattern has no `*`.
    pub(crate) fn literal(&self) -> Option<String> {
        let parts: Option<Vec<&str>> =
            self.parts.iter().map(|p| if let Part::Fixed(text) = p { Some(text.as_str()) } else { None }).collect();
        parts.filter(|p| !p.is_empty()).map(|p| p.join("/"))
    }

    /// Returns the path that every path it covers is, or is below: its parts up to the first `*`. It may be empty.
    pub(crate) fn beginning(&self) -> String {
        let fixed = self.parts.iter().map_while(|p| if let Part::Fixed(text) = p { Some(text.as_str()) } else { None });
        fixed.collect::<Vec<_>>().join("/")
    }

    /// Returns the first part, if it is a fixed one.
    pub(crate) fn head(&self) -> Option<&str> {
        self.parts.first().and_then(|p| if let Part::Fixed(text) = p { Some(text.as_str()) } else { None })
    }

    /// Returns whether it covers every path.
    pub(crate) fn is_everything(&self) -> bool {
        self.is_open && self.parts.is_empty()
    }
}

/// Returns whether a path is a container or below it.
pub(crate) fn is_within(path: &str, container: &str) -> bool {
    path.strip_prefix(container).is_some_and(|rest| rest.is_empty() || rest.starts_with('/'))
}
