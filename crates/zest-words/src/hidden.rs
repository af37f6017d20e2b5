//! Characters that nobody sees, and names that look alike.

/// Makes control and direction-changing characters visible, so that a name can never move the cursor.
///
/// # Example
/// ```
/// assert_eq!(zest_words::visible("a\u{1b}[2Jb"), "a\\u{1b}[2Jb");
/// ```
#[must_use]
pub fn visible(text: &str) -> String {
    if !text.chars().any(is_hidden) {
        return text.to_owned();
    }
    text.chars().fold(String::with_capacity(text.len() + 8), |mut out, c| {
        if is_hidden(c) {
            out.extend(c.escape_unicode())
        } else {
            out.push(c)
        }
        out
    })
}

/// Returns whether a character could disturb a terminal, reorder what is read, or stand in a text without being seen: control and
/// format characters, line separators, what belongs to no script yet, and what Unicode says may be left out of view
/// (UAX #44, `Default_Ignorable_Code_Point`).
pub fn is_hidden(c: char) -> bool {
    // OK because in ASCII only control characters are hidden, and nearly everything is ASCII.
    if c.is_ascii() {
        return c.is_control();
    }
    use unicode_properties::{GeneralCategory as Of, UnicodeGeneralCategory};
    let is_ignorable = matches!(c,
        '\u{34f}' | '\u{115f}' | '\u{1160}' | '\u{17b4}' | '\u{17b5}' | '\u{180b}'..='\u{180f}' | '\u{2065}' | '\u{2800}' | '\u{3164}'
        | '\u{fe00}'..='\u{fe0f}' | '\u{ffa0}' | '\u{fff0}'..='\u{fff8}' | '\u{e0000}'..='\u{e0fff}');
    let category = c.general_category();
    is_ignorable
        || matches!(
            category,
            Of::Control | Of::Format | Of::LineSeparator | Of::ParagraphSeparator | Of::PrivateUse | Of::Surrogate | Of::Unassigned
        )
}

/// Returns a text that is the same for all texts that look alike (UTS #39, section 4): a Cyrillic and a Latin `a`, `rn` and `m`.
pub fn skeleton(text: &str) -> String {
    unicode_security::skeleton(text).collect()
}
