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
