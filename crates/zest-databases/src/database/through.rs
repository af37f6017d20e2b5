//! Views, routines, triggers and rules that do something in the name of somebody else, and the statements by which they are used.

use std::collections::BTreeSet;
use std::fmt::Display;

use zest_model::ask::Refusal;

use super::{Needs, On};

/// Returns those of the statements that use some things of which a check is what is looked for, or of which not all is known; each with
/// the thing that does it.
pub(crate) fn statements<T: Display, N>(
    things: impl Iterator<Item = (T, Thing)>,
    needs: impl Fn(&str) -> Result<Needs<N>, (Refusal, String)>,
    is_it: impl Fn(&N) -> bool,
) -> Vec<(String, String)> {
    let each = things.flat_map(|(name, thing)| {
        let name = name.to_string();
        thing.statements().into_iter().map(move |statement| (statement, name.clone()))
    });
    let does = |statement: &str| match needs(statement) {
        Ok(needs) => needs.list.iter().any(&is_it) || !needs.undecided.is_empty(),
        // What is refused whoever asks does nothing.
        Err((code, _)) => matches!(code, Refusal::NotDecided | Refusal::StatementUnreadable),
    };
    each.filter(|(statement, _)| does(statement)).collect()
}

/// Returns of each of some things what its statements come to in the name of somebody else, as a text to be compared: what a check says
/// that is made in such a name, and what is not known.
pub(crate) fn come_to<T: Display, N>(
    things: impl Iterator<Item = (T, Thing)>,
    needs: impl Fn(&str) -> Result<Needs<N>, (Refusal, String)>,
    says: impl Fn(&N) -> Vec<String>,
) -> Vec<(String, String)> {
    let of = |thing: Thing| {
        let mut said: BTreeSet<String> = BTreeSet::new();
        for statement in thing.statements() {
            match needs(&statement) {
                Ok(Needs { list, begins: _, undecided, notes }) => {
                    said.extend(list.iter().flat_map(&says));
                    said.extend(undecided.into_iter().chain(notes));
                }
                Err((_, why)) => drop(said.insert(why)),
            }
        }
        said.into_iter().collect::<Vec<_>>().join("\n")
    };
    things.map(|(name, thing)| (name.to_string(), of(thing))).collect()
}

/// A view, routine or table as statements name it.
pub(crate) struct Thing {
    /// Its name, quoted, without arguments.
    pub(crate) name: String,
    pub(crate) used: Used,
}

/// How it is used.
pub(crate) enum Used {
    /// A view, or a table whose triggers or rules run as somebody else, with its columns, quoted.
    Rows(Vec<String>),
    /// A function, with something for each argument, in one form or several.
    Function(Vec<Vec<String>>),
    /// A procedure, the same.
    Procedure(Vec<Vec<String>>),
}

impl Thing {
    /// Returns the statements that use it. What runs along with one act may do another, so all are tried, whatever is looked for.
    fn statements(&self) -> Vec<String> {
        let Self { name, used } = self;
        let mut list: Vec<String> = match used {
            Used::Function(forms) => forms.iter().map(|arguments| format!("SELECT {name}({})", arguments.join(", "))).collect(),
            Used::Procedure(forms) => forms.iter().map(|arguments| format!("CALL {name}({})", arguments.join(", "))).collect(),
            Used::Rows(columns) => {
                // Of a table whose columns are not written any could be meant.
                let some = ["anything".to_owned()];
                let columns = if columns.is_empty() { &some[..] } else { columns };
                let whole = [format!("SELECT * FROM {name}"), format!("DELETE FROM {name}"), format!("TRUNCATE TABLE {name}")];
                let updates = columns.iter().map(|column| format!("UPDATE {name} SET {column} = NULL"));
                let inserts = columns.iter().map(|column| format!("INSERT INTO {name} ({column}) VALUES (NULL)"));
                whole.into_iter().chain(updates).chain(inserts).collect()
            }
        };
        list.dedup();
        list
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
