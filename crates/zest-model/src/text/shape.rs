//! What a table may hold: one description that checks documents and writes the JSON Schema.

use toml::Spanned;
use toml::de::{DeTable, DeValue};

use crate::finding::{Code, Finding};
use crate::shape::{Shape, TableShape};
use crate::source::{Place, SourceId, Span, visible};
use zest_words::nearest;

fn type_name(value: &DeValue<'_>) -> &'static str {
    match value {
        DeValue::String(_) => "a text",
        DeValue::Integer(_) => "a whole number",
        DeValue::Float(_) => "a number with a fraction",
        DeValue::Boolean(_) => "true or false",
        DeValue::Datetime(_) => "a date or time",
        DeValue::Array(_) => "a list",
        DeValue::Table(_) => "a table",
    }
}

/// Keys that had another name once, each with the one it has now.
const RENAMED: [(&str, &str); 4] =
    [("names", "name-case"), ("unless", "lifted-by"), ("tags", "may-state"), ("privileged-prompt", "raised-prompt")];

/// A table of a document that describes systems of a kind from outside, by the id of the system.
///
/// # Example
/// ```
/// use std::sync::Arc;
/// use zest_ledger::kind::{Key, OutsideTable, Shape, TableShape};
/// static PIER: TableShape = TableShape {
///     noun: "a pier",
///     about: "A pier with its bells.",
///     rules: &[],
///     keys: &[Key::required("bells", Shape::List(&Shape::Text), "the bells, by name")],
/// };
/// let table = OutsideTable { name: "piers", shape: &PIER, read: |row| Arc::new(row.texts("bells")) };
/// assert_eq!((table.name, table.shape.noun), ("piers", "a pier"));
/// ```
#[derive(Clone, Copy, Debug)]
pub struct OutsideTable {
    /// Its name in a document.
    pub name: &'static str,
    /// What each of its rows may hold.
    pub shape: &'static TableShape,
    /// Reads a row that was checked.
    pub read: fn(&mut super::Row<'_, '_, '_>) -> crate::table::Kept,
}

/// Checks values against shapes and collects what does not fit.
#[derive(Debug)]
pub(crate) struct Checker<'f> {
    pub(crate) outside: &'f [OutsideTable],
    pub(crate) kinds: &'f [&'static str],
    pub(crate) source: SourceId,
    pub(crate) findings: &'f mut Vec<Finding>,
}

impl Checker<'_> {
    pub(crate) fn place(&self, span: std::ops::Range<usize>) -> Place {
        Place::Text(Span { source: self.source, start: span.start as u32, end: span.end as u32 })
    }

    pub(crate) fn table(&mut self, table: &DeTable<'_>, header: &std::ops::Range<usize>, shape: &TableShape) {
        for (key, value) in table {
            let name: &str = key.get_ref();
            match shape.keys.iter().find(|k| k.name == name) {
                Some(known) => self.value(known.name, value, &known.shape),
                None => match self.outside.iter().find(|t| t.name == name && std::ptr::eq(shape, &raw const super::format::DOCUMENT)) {
                    Some(table) => self.rows(name, value, table.shape),
                    None => self.unknown_key(key.span(), name, value, shape),
                },
            }
        }
        for key in shape.keys.iter().filter(|k| k.required && !table.contains_key(k.name)) {
            self.findings.push(
                Finding::new(Code::MissingKey, format!("{} needs the key `{}`", shape.noun, key.name))
                    .at(self.place(header.clone()), format!("`{}` is missing", key.name))
                    .help(format!("add `{} = …`: {} ({})", key.name, key.about, key.shape.expected())),
            );
        }
    }

    fn rows(&mut self, name: &str, value: &Spanned<DeValue<'_>>, shape: &'static TableShape) {
        let DeValue::Table(rows) = value.get_ref() else {
            return self.misfit(name, value, &Shape::Map(&Shape::Text));
        };
        for (key, row) in rows {
            self.name(key.get_ref(), key.span());
            self.value(key.get_ref(), row, &Shape::Table(shape));
        }
    }

    fn unknown_key(&mut self, span: std::ops::Range<usize>, name: &str, value: &Spanned<DeValue<'_>>, shape: &TableShape) {
        let shown = visible(name);
        let renamed = RENAMED.iter().find(|(old, new)| *old == name && shape.keys.iter().any(|k| k.name == *new));
        if let Some((_, new)) = renamed {
            self.findings.push(
                Finding::new(Code::RenamedKey, format!("the key `{shown}` of {} is called `{new}` now", shape.noun))
                    .at(self.place(span), format!("write `{new}`"))
                    .help("it means what it meant; only the word is another"),
            );
            return;
        }
        if looks_secret(name) {
            self.findings.push(
                Finding::new(Code::SecretInLedger, format!("`{shown}` looks like a secret, and a ledger never holds one"))
                    .at(self.place(span.start..value.span().end.max(span.end)), "")
                    .help("remove it and change that secret: whoever could read this file may know it"),
            );
            return;
        }
        let mut finding = Finding::new(Code::UnknownKey, format!("{} has no key `{shown}`", shape.noun));
        finding = match nearest(name, shape.keys.iter().map(|k| k.name)) {
            Some(near) => finding.at(self.place(span), format!("did you mean `{near}`?")),
            None => finding.at(self.place(span), "unknown key"),
        };
        let known = shape.keys.iter().map(|k| k.name).collect::<Vec<_>>().join(", ");
        self.findings.push(finding.help(format!("the keys of {} are: {known}", shape.noun)));
    }

    pub(crate) fn value(&mut self, name: &str, value: &Spanned<DeValue<'_>>, shape: &Shape) {
        let span = value.span();
        if span.is_empty() && span.start == 0 {
            return; // What the parser made up after a syntax error that it has reported.
        }
        match (shape, value.get_ref()) {
            (Shape::Table(inner), DeValue::Table(table)) => self.table(table, &span, inner),
            (Shape::Map(inner), DeValue::Table(table)) => {
                for (key, value) in table {
                    self.name(key.get_ref(), key.span());
                    self.value(key.get_ref(), value, inner);
                }
            }
            (Shape::List(inner), DeValue::Array(items)) => {
                for item in items {
                    self.value(name, item, inner);
                }
            }
            (Shape::Either(shapes), found) => match shapes.iter().find(|s| s.fits(found)) {
                Some(inner) => self.value(name, value, inner),
                None => self.misfit(name, value, shape),
            },
            (Shape::Whole(low, high), DeValue::Integer(number)) => {
                let fits =
                    i64::from_str_radix(&number.as_str().replace('_', ""), number.radix()).is_ok_and(|n| (*low..=*high).contains(&n));
                if !fits {
                    self.findings.push(
                        Finding::new(Code::OutOfRange, format!("`{name}` is outside its range"))
                            .at(self.place(span), format!("expected {}", shape.expected())),
                    );
                }
            }
            (Shape::Kind, DeValue::String(word)) if !self.kinds.contains(&word.as_ref()) => {
                let kinds = self.kinds;
                let known = kinds.iter().map(|k| format!("\"{k}\"")).collect::<Vec<_>>();
                self.unknown_word(name, word, span, kinds, &known.join(", "));
            }
            (Shape::Words(words), DeValue::String(word)) if !words.contains(&word.as_ref()) => {
                self.unknown_word(name, word, span, words, &shape.expected());
            }
            (_, found) if shape.fits(found) => {}
            _ => self.misfit(name, value, shape),
        }
    }

    fn unknown_word(&mut self, name: &str, word: &str, span: std::ops::Range<usize>, words: &[&'static str], expected: &str) {
        if name == "credential" {
            self.findings.push(
                Finding::new(Code::SecretInLedger, "`credential` takes a state, never the credential itself")
                    .at(self.place(span), "")
                    .help(format!("write {expected}; if this was a real secret, change it")),
            );
            return;
        }
        let label = match nearest(word, words.iter().copied()) {
            Some(near) => format!("did you mean \"{near}\"?"),
            None => "unknown word".to_owned(),
        };
        self.findings.push(
            Finding::new(Code::UnknownWord, format!("`{name}` cannot be `{}`", visible(word)))
                .at(self.place(span), label)
                .help(format!("write {expected}")),
        );
    }

    fn misfit(&mut self, name: &str, value: &Spanned<DeValue<'_>>, shape: &Shape) {
        let found = type_name(value.get_ref());
        self.findings.push(
            Finding::new(Code::WrongType, format!("`{}` has the wrong type", visible(name)))
                .at(self.place(value.span()), format!("this is {found}"))
                .help(format!("expected {}", shape.expected())),
        );
    }

    /// Checks an id or a name of the user's choice.
    pub(crate) fn name(&mut self, name: &str, span: std::ops::Range<usize>) {
        if let Some(why) = bad_name(name) {
            self.findings.push(
                Finding::new(Code::BadName, format!("`{}` cannot be a name: {why}", visible(name)))
                    .at(self.place(span), why)
                    .help("a name has 1 to 256 bytes, no control characters and no blanks at its ends"),
            );
        }
    }
}

/// Says why a text cannot be an id, if it cannot.
pub fn bad_name(name: &str) -> Option<&'static str> {
    if name.is_empty() {
        Some("it is empty")
    } else if name.len() > 256 {
        Some("it is longer than 256 bytes")
    } else if name.chars().any(zest_words::is_hidden) {
        Some("it holds control or invisible characters")
    } else if name.chars().any(|c| c.is_whitespace() && c != ' ') {
        Some("it holds a blank that is not the ordinary one")
    } else if name.trim() != name {
        Some("it begins or ends with a blank")
    } else {
        None
    }
}

fn looks_secret(key: &str) -> bool {
    let key = key.to_lowercase().replace(['_', ' '], "-");
    ["password", "passwd", "passphrase", "secret", "token", "private-key", "community"].iter().any(|w| key.contains(w))
}
