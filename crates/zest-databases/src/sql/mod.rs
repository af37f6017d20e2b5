//! SQL statements: which relations, columns, sequences and routines a statement touches, and how.
//!
//! Parsing is `sqlparser`'s work. What is found here is the same for every database server; what a server checks for
//! it, and in which order, is the matter of its kind. Whatever is not known for sure is reported as undecided.

mod comments;
#[cfg(feature = "postgresql")]
mod condition;
mod footprint;
mod several;
mod touches;
#[cfg(feature = "postgresql")]
mod wording;
mod words;

#[cfg(feature = "mariadb")]
pub(crate) use comments::carried_out;
#[cfg(feature = "postgresql")]
pub(crate) use condition::{AllOf, Condition};
pub(crate) use footprint::{Call, Columns, Dialect, Names, Relation, Use, Verb, one, table_name, with_statements};
#[cfg(feature = "postgresql")]
pub(crate) use footprint::{SYSTEM_COLUMNS, UNNAMED, WORDS_FOR_VALUES, fold};
pub(crate) use several::several;
pub(crate) use touches::Touches;
#[cfg(feature = "postgresql")]
pub(crate) use wording::{in_one_wording, is_expression};
pub(crate) use words::Words;

/// Says why a text is not one statement that reads or changes rows.
pub(crate) fn is_about_rows(dialect: Dialect, text: &str) -> Result<(), String> {
    let begins = ["select", "insert", "update", "delete", "replace", "merge", "values", "table", "with"];
    let first = text.trim_start().split(|c: char| !c.is_ascii_alphabetic()).next().unwrap_or_default().to_lowercase();
    if !begins.contains(&first.as_str()) {
        return Err("it is no statement that reads or changes rows".to_owned());
    }
    if text.trim_end().trim_end_matches(';').contains(';') && several(dialect, text).is_some() {
        return Err("it is several statements".to_owned());
    }
    Ok(())
}
