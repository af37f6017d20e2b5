//! Colours, and wrapping at the terminal's width. Colours vanish where the output is not a terminal.

use anstyle::{AnsiColor, Style};

pub(crate) const GOOD: Style = AnsiColor::Green.on_default().bold();
pub(crate) const BAD: Style = AnsiColor::Red.on_default().bold();
pub(crate) const WAIT: Style = AnsiColor::Yellow.on_default().bold();
pub(crate) const PLACE: Style = AnsiColor::Cyan.on_default();
pub(crate) const FAINT: Style = Style::new().dimmed();
pub(crate) const HEAD: Style = Style::new().bold();

/// The width that plain output keeps to.
pub(crate) const WIDTH: usize = 80;

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
    wrap(text, WIDTH.saturating_sub(indent)).join(&format!("\n{}", " ".repeat(indent)))
}

/// Writes a text after a first column, and the place it rests on behind it where that fits, else below.
pub(crate) fn with_place(first: &str, text: &str, place: Option<&str>) -> String {
    let indent = first.chars().count();
    let mut lines = wrap(text, WIDTH.saturating_sub(indent));
    if let Some(place) = place {
        let last = lines.last_mut().expect("there is always a last line");
        let shown = format!("{PLACE}{place}{PLACE:#}");
        if indent + last.chars().count() + 2 + place.chars().count() <= WIDTH {
            last.push_str("  ");
            last.push_str(&shown);
        } else {
            lines.push(shown);
        }
    }
    lines.join(&format!("\n{}", " ".repeat(indent)))
}
