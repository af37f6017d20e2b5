//! Colours, and wrapping at the terminal's width. Colours vanish where the output is not a terminal.

use std::io::IsTerminal as _;
use std::sync::OnceLock;

use anstyle::{AnsiColor, Style};
use zest_ledger::review::Turn;
use zest_ledger::source::Location;

pub(crate) const GOOD: Style = AnsiColor::Green.on_default().bold();
pub(crate) const BAD: Style = AnsiColor::Red.on_default().bold();
pub(crate) const WAIT: Style = AnsiColor::Yellow.on_default().bold();
pub(crate) const PLACE: Style = AnsiColor::Cyan.on_default();
pub(crate) const FAINT: Style = Style::new().dimmed();
pub(crate) const HEAD: Style = Style::new().bold();

/// The width that plain output keeps to, and that a narrow terminal gets.
const NARROW: usize = 80;
/// Longer lines are hard to read.
const WIDE: usize = 120;

/// Returns the width of lines: that of the terminal within bounds, the same for whatever is not one.
pub(crate) fn width() -> usize {
    static FOUND: OnceLock<usize> = OnceLock::new();
    *FOUND.get_or_init(|| {
        let of_terminal = if std::io::stdout().is_terminal() { terminal_size::terminal_size() } else { None };
        of_terminal.map_or(NARROW, |(terminal_size::Width(columns), _)| usize::from(columns).clamp(NARROW, WIDE))
    })
}

/// Breaks a text into lines of at most `width` characters at blanks; longer words stand alone.
pub(crate) fn wrap(text: &str, width: usize) -> Vec<String> {
    let mut lines = vec![String::new()];
    for word in text.split(' ') {
        let line = lines.last_mut().expect("there is always a last line");
        if line.is_empty() {
            line.push_str(word);
        } else if line.chars().count() + 1 + word.chars().count() <= width {
            line.push(' ');
            line.push_str(word);
        } else {
            lines.push(word.to_owned());
        }
    }
    lines
}

/// Writes a text after a first column, later lines indented to stand below it.
pub(crate) fn hanging(first: &str, text: &str) -> String {
    let indent = first.chars().count();
    wrap(text, width().saturating_sub(indent)).join(&format!("\n{}", " ".repeat(indent)))
}

/// Writes a text after a first column, and the place it rests on behind it where that fits, else below.
pub(crate) fn with_place(first: &str, text: &str, place: Option<&str>) -> String {
    let indent = first.chars().count();
    let mut lines = wrap(text, width().saturating_sub(indent));
    if let Some(place) = place {
        let last = lines.last_mut().expect("there is always a last line");
        let shown = format!("{PLACE}{place}{PLACE:#}");
        if indent + last.chars().count() + 2 + place.chars().count() <= width() {
            last.push_str("  ");
            last.push_str(&shown);
        } else {
            lines.push(shown);
        }
    }
    lines.join(&format!("\n{}", " ".repeat(indent)))
}

/// Writes the place that a text rests on behind it, in brackets; nothing where there is none.
pub(crate) fn at(place: Option<&Location>) -> String {
    place.map_or(String::new(), |place| format!(" ({place})"))
}

/// Writes a number of things: "1 statement", "2 statements".
pub(crate) fn counted(count: usize, what: &str) -> String {
    if count == 1 { format!("1 {what}") } else { format!("{count} {what}s") }
}

/// Says how many of what is recorded turned since an earlier ledger, of which it is known how each stood then and stands now; nothing where
/// that was not asked.
pub(crate) fn since_then(stood: impl Iterator<Item = Option<(bool, bool)>>) -> String {
    let stood: Vec<(bool, bool)> = stood.flatten().collect();
    if stood.is_empty() {
        return String::new();
    }
    let turned = |before: bool| stood.iter().filter(|(then, now)| *then == before && *now != before).count();
    format!("; since then {} turned, and {} turned to what they must be", turned(true), turned(false))
}

/// Says which change turned something.
pub(crate) fn turned_by(turn: &Turn) -> String {
    let errors = if turn.has_errors { ", in which the ledger has errors" } else { "" };
    match &turn.revision {
        Some(revision) => format!("turned by {} {}{errors}", revision.get(..12).unwrap_or(revision), turn.subject),
        None => "turned by what is in no revision yet".to_owned(),
    }
}
