//! Views that read, and routines and triggers that run, with the rights of their definer.

use super::name::{AccountName, Class, ObjectName};
use super::need::{As, Need};
use super::state::{Object, State, View};
use super::{evaluate, name, statement};
use crate::database::not_modelled::sort_of;
use crate::database::through::{self, Thing, Used, covers, listed, statements};
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
    let database = evaluate::only_database(state);
    statements(things(state), |statement| statement::needs(state, database, statement), is_it)
}

/// Returns of each view, routine and table that does something in a definer's name what is refused in it.
pub(crate) fn come_to(state: &State) -> Vec<(String, String)> {
    let nobody = View::of_definer(state, &AccountName::new("", ""));
    let says = |need: &Need| {
        let is_in_name = match need.itself() {
            Need::Table { by, .. } | Need::Routine { by, .. } | Need::InName { by, .. } => *by != As::Caller,
            _ => false,
        };
        let outcome = is_in_name.then(|| need.outcome(state, &nobody));
        outcome.filter(|outcome| !outcome.passes()).map(|outcome| outcome.text).into_iter().collect()
    };
    let database = evaluate::only_database(state);
    through::come_to(things(state), |statement| statement::needs(state, database, statement), says)
}

fn things(state: &State) -> impl Iterator<Item = (&ObjectName, Thing)> {
    state.objects.iter().filter_map(|(name, of)| Some((name, thing(name, of)?)))
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
