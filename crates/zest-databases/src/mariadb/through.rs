//! Views that read, and routines and triggers that run, with the rights of their definer.

use super::name::{Class, ObjectName};
use super::need::{As, Need};
use super::state::{Object, State};
use super::{evaluate, name, statement};
use crate::database::not_modelled::sort_of;
use crate::database::through::{Thing, Used, covers, listed, statements};
use zest_model::ask::Question;

/// Returns the statements that do, or could do where not all of it was read, what a privilege is for in the name of the definer of a view
/// or routine, each with what that is.
pub(crate) fn through(state: &State, line: &str) -> Vec<(String, String)> {
    let Ok(wanted) = evaluate::wanted(state, &Question::new("", "", line)) else { return Vec::new() };
    let Some(Need::Table { object, privilege, on, .. }) = wanted.list.last() else { return Vec::new() };
    let columns: Vec<String> = state.objects.get(object).into_iter().flat_map(|of| &of.columns).map(|(column, _)| column.clone()).collect();
    let is_it = |need: &Need| match need.itself() {
        Need::Table { by: As::Own(_) | As::Definer(_), object: about, privilege: some, on: checked } => {
            about == object && some == privilege && covers(checked, on, &columns)
        }
        _ => false,
    };
    let things = state.objects.iter().filter_map(|(name, of)| Some((name, thing(name, of)?)));
    let database = evaluate::only_database(state);
    statements(things, |statement| statement::needs(state, database, statement), is_it)
}

/// Returns how something is used that may do more than whoever uses it; nothing where it may not.
fn thing(name: &ObjectName, of: &Object) -> Option<Thing> {
    let count = of.parameters.as_deref().map_or(0, |parameters| listed(parameters).len());
    let columns = || Used::Rows(of.columns.iter().map(|(column, _)| name::quoted(column)).collect());
    // A trigger runs as its definer, also where a view passes a change on to its table.
    let has_trigger = || !of.triggers.is_empty() || of.not_modelled.iter().any(|note| sort_of(note) == "trigger");
    let used = match name.class {
        Class::View if of.runs_as_owner || has_trigger() => columns(),
        Class::Table if has_trigger() => columns(),
        Class::Function if of.runs_as_owner => Used::Function(vec![vec!["NULL".to_owned(); count]]),
        // What comes out of a procedure needs a place.
        Class::Procedure if of.runs_as_owner => Used::Procedure(vec![vec!["@anything".to_owned(); count]]),
        Class::View | Class::Table | Class::Function | Class::Procedure => return None,
    };
    Some(Thing { name: name.sql(), used })
}
