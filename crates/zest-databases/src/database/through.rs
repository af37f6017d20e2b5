//! Views and routines that do something in the name of somebody else, and the statements by which they are used.

use super::On;

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
    pub(crate) fn statements(&self, privilege: &str) -> Vec<String> {
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
