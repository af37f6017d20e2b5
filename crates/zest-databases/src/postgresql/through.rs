//! Views that read, and routines, triggers and rules that run, with the rights of their owner.

use super::catalog::{Catalog, Want};
use super::evaluate::Standing;
use super::need::{Demand, Need};
use super::object::{ObjectName, quoted};
use super::privilege::Class;
use super::state::Object;
use super::which_rows::looked_at;
use super::{evaluate, policy, statement};
use crate::database::through::{self, Thing, Used, covers, listed, statements};
use zest_model::ask::Question;

/// Nobody: whatever is checked for another role is checked for somebody else than whoever asks.
const NOBODY: &str = "";

/// Returns the statements that do, or could do where not all of it was read, what a privilege is for in the name of the owner of a view or
/// routine, each with what that is.
pub(crate) fn through(catalog: &Catalog, line: &str) -> Vec<(String, String)> {
    let standing = Standing { account: NOBODY.to_owned(), role: NOBODY.to_owned() };
    let Ok(wanted) = evaluate::wanted(catalog, &Question::new(NOBODY, NOBODY, line), &standing) else { return Vec::new() };
    // What is asked stands behind the way to it.
    let Some(Need::Object { object, demand: Demand::Privilege { any, on, want: Want::Privilege }, .. }) = wanted.list.last() else {
        return Vec::new();
    };
    let Some(privilege) = any.iter().next() else { return Vec::new() };
    let state = catalog.state();
    let columns: Vec<String> = state.objects.get(object).into_iter().flat_map(|of| &of.columns).map(|column| column.name.clone()).collect();
    let is_it = |need: &Need| match need {
        Need::Object { role, object: about, demand: Demand::Privilege { any: some, on: checked, want: Want::Privilege } } => {
            role != NOBODY && about == object && some.contains(privilege) && covers(checked, on, &columns)
        }
        _ => false,
    };
    statements(things(catalog), |statement| statement::needs(catalog, NOBODY, NOBODY, statement), is_it)
}

/// Returns of each view, routine and table that does something in somebody else's name what it comes to in that name: what is refused,
/// and which rows are kept back.
pub(crate) fn come_to(catalog: &Catalog) -> Vec<(String, String)> {
    let state = catalog.state();
    let says = |need: &Need| {
        let mut said = Vec::new();
        // What is checked of nobody is checked of whoever asks.
        if *need == need.of(NOBODY) {
            return said;
        }
        let outcome = need.outcome(catalog);
        said.extend((!outcome.passes()).then_some(outcome.text));
        if let Need::Object { role, object, demand: Demand::Privilege { any, .. } } = need
            && let Some(entry) = state.objects.get(object).filter(|entry| policy::binds(catalog, role, entry))
        {
            for (acts, part) in any.iter().flat_map(looked_at) {
                let (permits, restricts) = policy::conditions(catalog, role, entry, *acts, *part);
                said.push(format!("{object}: {acts:?} {part:?} {permits:?} {restricts:?}"));
            }
        }
        said
    };
    through::come_to(things(catalog), |statement| statement::needs(catalog, NOBODY, NOBODY, statement), says)
}

fn things(catalog: &Catalog) -> impl Iterator<Item = (&ObjectName, Thing)> {
    catalog.state().objects.iter().filter_map(|(name, of)| Some((name, thing(catalog, name, of)?)))
}

/// Returns how something is used that may do more than whoever uses it; nothing where it may not.
fn thing(catalog: &Catalog, name: &ObjectName, of: &Object) -> Option<Thing> {
    let columns = || Used::Rows(of.columns.iter().map(|column| quoted(&column.name)).collect());
    // An argument that is given a type needs the right to its name, and one that is not may fit several routines.
    let arguments = || -> Vec<Vec<String>> {
        let types = name.arguments.as_deref().map(listed).unwrap_or_default();
        let of_a_type = types.iter().map(|of| format!("NULL::{of}")).collect();
        vec![of_a_type, vec!["NULL".to_owned(); types.len()]]
    };
    let used = match name.class {
        Class::View if of.runs_as_owner || statement::runs_as_others(catalog, of) => columns(),
        Class::Table if statement::runs_as_others(catalog, of) => columns(),
        // What a trigger runs nobody can call.
        Class::Function if of.runs_as_owner && !matches!(of.returns.as_deref(), Some("trigger" | "event_trigger")) => {
            Used::Function(arguments())
        }
        Class::Procedure if of.runs_as_owner => Used::Procedure(arguments()),
        Class::View
        | Class::Table
        | Class::Function
        | Class::Procedure
        | Class::MaterialisedView
        | Class::Sequence
        | Class::Schema
        | Class::Database
        | Class::Type
        | Class::Language
        | Class::Wrapper
        | Class::Server => return None,
    };
    Some(Thing { name: ObjectName { arguments: None, ..name.clone() }.sql(), used })
}
