//! Names of database objects, as a ledger writes them: a class and a name, `table fares.price`.

use std::fmt;

use super::privilege::Class;
use crate::database::name::parts;

/// An object: its class and the parts of its name.
///
/// Parts are taken as they are, without folding to lower case. A part with a dot, a blank, a quote or a bracket in
/// it is written in double quotes, with quotes inside doubled, as in SQL. Routines carry their argument types.
///
/// # Example
/// ```
/// use zest_ledger::postgresql::{Class, ObjectName};
/// let name = ObjectName::parse("function fares.reprice(integer, text)").expect("it is one");
/// assert_eq!((name.class, name.schema(), name.arguments.as_deref()), (Class::Function, Some("fares"), Some("integer, text")));
/// assert_eq!(name.to_string(), "function fares.reprice(integer, text)");
/// assert_eq!(name.sql(), "\"fares\".\"reprice\"(integer, text)");
/// assert!(ObjectName::parse("tabel fares.price").is_none());
/// ```
#[derive(Clone, Debug, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub struct ObjectName {
    /// The class.
    pub class: Class,
    /// One part for a schema, language or server, two for what lives in a schema, none for the database.
    pub parts: Vec<String>,
    /// The argument types of a routine, as the server prints them.
    pub arguments: Option<String>,
}

impl ObjectName {
    /// Makes a name of its parts.
    #[must_use]
    pub fn new(class: Class, parts: &[&str]) -> Self {
        Self { class, parts: parts.iter().map(|p| (*p).to_owned()).collect(), arguments: None }
    }

    /// Names the database itself.
    #[must_use]
    pub const fn database() -> Self {
        Self { class: Class::Database, parts: Vec::new(), arguments: None }
    }

    /// Reads a name as a ledger writes it.
    #[must_use]
    pub fn parse(text: &str) -> Option<Self> {
        // The server's own spelling is taken as well.
        let text = text.trim();
        let text = &text
            .strip_prefix("materialized view")
            .map_or_else(|| text.to_owned(), |rest| format!("{}{rest}", Class::MaterialisedView.word()));
        let mut classes: Vec<Class> = Class::ALL.to_vec();
        classes.sort_by_key(|c| std::cmp::Reverse(c.word().len()));
        let (class, rest) = classes.into_iter().find_map(|c| {
            let rest = text.strip_prefix(c.word())?;
            (rest.is_empty() || rest.starts_with(' ')).then_some((c, rest.trim()))
        })?;
        let (parts, rest) = parts(rest)?;
        let arguments = match rest.trim() {
            "" => None,
            list => Some(list.strip_prefix('(')?.strip_suffix(')')?.trim().to_owned()),
        };
        let wanted = match class {
            Class::Database => 0,
            _ if class.is_in_schema() => 2,
            _ => 1,
        };
        (parts.len() == wanted && arguments.is_some() == class.is_routine()).then_some(Self { class, parts, arguments })
    }

    /// Returns the schema the object lives in; a schema itself lives in none.
    #[must_use]
    pub fn schema(&self) -> Option<&str> {
        if self.class.is_in_schema() { self.parts.first().map(String::as_str) } else { None }
    }

    /// Returns the last part of the name.
    ///
    /// # Example
    /// ```
    /// use zest_ledger::postgresql::ObjectName;
    /// assert_eq!(ObjectName::parse("table fares.price").expect("it is a name").last(), "price");
    /// ```
    #[must_use]
    pub fn last(&self) -> &str {
        self.parts.last().map_or("", String::as_str)
    }

    /// Returns the name as SQL, every part in quotes.
    #[must_use]
    pub fn sql(&self) -> String {
        let name = self.parts.iter().map(|p| quoted(p)).collect::<Vec<_>>().join(".");
        self.arguments.as_ref().map_or_else(|| name.clone(), |arguments| format!("{name}({arguments})"))
    }

    /// Returns the name without its class.
    #[must_use]
    pub fn plain(&self) -> String {
        let name = self.parts.iter().map(|p| written(p)).collect::<Vec<_>>().join(".");
        self.arguments.as_ref().map_or_else(|| name.clone(), |arguments| format!("{name}({arguments})"))
    }
}

impl fmt::Display for ObjectName {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(self.class.word())?;
        if self.parts.is_empty() { Ok(()) } else { write!(f, " {}", self.plain()) }
    }
}

/// Quotes an identifier for SQL: safe whatever it holds.
///
/// # Example
/// ```
/// assert_eq!(zest_ledger::postgresql::quoted("pier\"s"), "\"pier\"\"s\"");
/// ```
#[must_use]
pub fn quoted(name: &str) -> String {
    format!("\"{}\"", name.replace('"', "\"\""))
}

/// Quotes a text for SQL.
///
/// # Example
/// ```
/// use zest_ledger::postgresql::literal;
/// assert_eq!(literal("pier's"), "'pier''s'");
/// assert_eq!(literal("pier\\s"), "E'pier\\\\s'", "every setting of the server reads it alike");
/// ```
#[must_use]
pub fn literal(text: &str) -> String {
    let quoted = format!("'{}'", text.replace('\'', "''"));
    // With a backslash in it, the escape form is the only one that every setting of the server reads alike.
    if text.contains('\\') { format!("E{}", quoted.replace('\\', "\\\\")) } else { quoted }
}

fn written(part: &str) -> String {
    let is_plain = !part.is_empty() && !part.chars().any(|c| matches!(c, '.' | '"' | '(' | ')' | ',' | '@' | '*') || c.is_whitespace());
    if is_plain { part.to_owned() } else { quoted(part) }
}
