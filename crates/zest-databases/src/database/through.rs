//! Views and routines that do something in the name of somebody else, and the statements by which they are used.

use std::fmt::Display;

use zest_model::ask::Refusal;

use super::{Needs, On};

/// Returns those of the statements that use some things for a privilege of which a check is what is looked for, or of which not all is
/// known; each with the thing that does it.
pub(crate) fn statements<T: Display, N>(
    things: impl Iterator<Item = (T, Thing)>,
    privilege: &str,
    needs: impl Fn(&str) -> Result<Needs<N>, (Refusal, String)>,
    is_it: impl Fn(&N) -> bool,
) -> Vec<(String, String)> {
    let each = things.flat_map(|(name, thing)| {
        let name = name.to_string();
        thing.statements(privilege).into_iter().map(move |statement| (statement, name.clone()))
    });
    let does = |needs: Needs<N>| needs.list.iter().any(&is_it) || !needs.undecided.is_empty();
    each.filter(|(statement, _)| needs(statement).is_ok_and(does)).collect()
}

/// A view or routine as statements name it.
pub(crate) struct Thing {
    /// Its name, quoted, without arguments.
    pub(crate) name: String,
    pub(crate) used: Used,
}

/// How it is used.
pub(crate) enum Used {
    /// A view, with its columns, quoted.
    View(Vec<String>),
    /// A function, with something for each argument.
    Function(Vec<String>),
    /// A procedure, with something for each argument.
    Procedure(Vec<String>),
}

impl Thing {
    /// Returns the statements that use it for a privilege on whatever is behind it.
    fn statements(&self, privilege: &str) -> Vec<String> {
        let Self { name, used } = self;
        match used {
            Used::Function(arguments) => vec![format!("SELECT {name}({})", arguments.join(", "))],
            Used::Procedure(arguments) => vec![format!("CALL {name}({})", arguments.join(", "))],
            Used::View(columns) => match privilege {
                "select" => vec![format!("SELECT * FROM {name}")],
                "delete" => vec![format!("DELETE FROM {name}")],
                "update" => columns.iter().map(|column| format!("UPDATE {name} SET {column} = NULL")).collect(),
                "insert" => columns.iter().map(|column| format!("INSERT INTO {name} ({column}) VALUES (NULL)")).collect(),
                _ => Vec::new(),
            },
        }
    }
}

/// Returns whether a check behind a view or routine is about all that is wanted of an object with these columns.
pub(crate) fn covers(checked: &On, wanted: &On, columns: &[String]) -> bool {
    match (checked, wanted) {
        (On::Object, _) | (_, On::Some) => true,
        (On::Some, _) => false,
        (On::Columns(some), On::Columns(wanted)) => wanted.iter().all(|column| some.contains(column)),
        // Of a table of which no column is known nobody can say that all are meant.
        (On::Columns(some), On::Object) => !columns.is_empty() && columns.iter().all(|column| some.contains(column)),
    }
}

/// Takes a list apart at the commas that stand in no brackets.
pub(crate) fn listed(text: &str) -> Vec<&str> {
    let mut depth = 0_usize;
    let parts = text.split(|c: char| {
        match c {
            '(' | '[' => depth += 1,
            ')' | ']' => depth = depth.saturating_sub(1),
            _ => {}
        }
        c == ',' && depth == 0
    });
    parts.map(str::trim).filter(|part| !part.is_empty()).collect()
}
