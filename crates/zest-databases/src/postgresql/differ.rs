//! For whom anything differs between what two servers hold, as far as privileges, ownership and single acts go: statements go further, into
//! what views, routines and triggers do in somebody else's name.

use std::collections::BTreeSet;

use super::acl::{Acl, Grantee};
use super::object::ObjectName;
use super::privilege::Class;
use super::state::{Column, Object, PREDEFINED, Role, State, everywhere};
use crate::database::differ::add_members;

/// Returns the roles and accounts for which anything can differ; nothing where it may be anybody.
pub(super) fn differ(before: &State, after: &State) -> Option<BTreeSet<String>> {
    let State { database, roles, objects, defaults, settings, not_modelled } = before;
    let is_same =
        *database == after.database && *defaults == after.defaults && *settings == after.settings && *not_modelled == after.not_modelled;
    is_same.then_some(())?;
    let mut search = Search { sides: [before, after], found: BTreeSet::new() };
    for name in roles.keys().chain(after.roles.keys()).collect::<BTreeSet<_>>() {
        search.role(name, roles.get(name), after.roles.get(name))?;
    }
    for name in objects.keys().chain(after.objects.keys()).collect::<BTreeSet<_>>() {
        search.object(name, objects.get(name), after.objects.get(name))?;
    }
    Some(search.with_members())
}

/// Two servers, and the roles for which something was found to differ so far.
struct Search<'s> {
    sides: [&'s State; 2],
    found: BTreeSet<String>,
}

impl<'s> Search<'s> {
    fn add(&mut self, role: &str) {
        self.found.insert(role.to_owned());
    }

    fn roles_with(&mut self, has: impl Fn(&Role) -> bool) {
        let having = self.sides.into_iter().flat_map(|state| &state.roles).filter(|(_, role)| has(role));
        self.found.extend(having.map(|(name, _)| name.clone()));
    }

    /// A role: whoever may become it, and, where it is there in one of them alone, whoever may give away all roles. Superusers own what nobody
    /// else does, and conditions are read as by them.
    fn role(&mut self, name: &str, before: Option<&Role>, after: Option<&Role>) -> Option<()> {
        let is_superuser = |role: Option<&Role>| role.is_some_and(|role| role.superuser);
        if before == after {
            return Some(());
        }
        if is_superuser(before) != is_superuser(after) {
            return None;
        }
        self.add(name);
        if before.is_none() || after.is_none() {
            self.roles_with(|role| role.create_role);
        }
        Some(())
    }

    fn object(&mut self, name: &ObjectName, before: Option<&Object>, after: Option<&Object>) -> Option<()> {
        if before == after {
            return Some(());
        }
        if let (Some(before), Some(after)) = (before, after)
            && without_lists(before) == without_lists(after)
        {
            self.list(&before.acl, &after.acl)?;
            return before.columns.iter().zip(&after.columns).try_for_each(|(one, other)| self.list(&one.acl, &other.acl));
        }
        // Conditions of policies may call or read anything; what is read by its name may be another thing now.
        let is_relation = match name.class {
            Class::Table | Class::View | Class::MaterialisedView | Class::Sequence => true,
            Class::Database | Class::Schema | Class::Function | Class::Procedure | Class::Type | Class::Language => false,
            Class::Wrapper | Class::Server => false,
        };
        let has_policies = |state: &State| state.objects.iter().any(|(other, entry)| other != name && entry.row_security);
        if !is_relation || self.sides.into_iter().any(has_policies) {
            return None;
        }
        // Whoever holds anything on it: others are refused whatever it is.
        for Object { owner, acl, columns, .. } in before.into_iter().chain(after) {
            self.add(owner);
            self.list(acl, &Acl::default())?;
            columns.iter().try_for_each(|column| self.list(&column.acl, &Acl::default()))?;
        }
        let anywhere = name.class.applicable().iter().flat_map(|privilege| everywhere(name.class, privilege));
        anywhere.for_each(|role| self.add(role));
        Some(())
    }

    /// Those to whom two lists give something different.
    fn list(&mut self, before: &Acl, after: &Acl) -> Option<()> {
        for (one, other) in [(before, after), (after, before)] {
            for (key, held) in &one.0 {
                match &key.0 {
                    _ if other.0.get(key).is_some_and(|other| held.is_as_much_as(other)) => {}
                    Grantee::Public => return None,
                    Grantee::Role(role) => self.add(role),
                }
            }
        }
        Some(())
    }

    /// Adds whoever may become one of those that were found: members, and superusers, who may become any.
    fn with_members(mut self) -> BTreeSet<String> {
        if self.found.is_empty() {
            return self.found;
        }
        self.roles_with(|role| role.superuser);
        let of_state = |state: &'s State| {
            let names = state.roles.keys().map(String::as_str).chain(PREDEFINED.iter().map(|(name, _)| *name));
            names.flat_map(|name| state.parents_of(name, false).map(|parent| (name.to_owned(), parent.to_owned())))
        };
        add_members(&mut self.found, self.sides.into_iter().flat_map(of_state));
        self.found
    }
}

/// Returns an object but for what is held on it and its columns.
fn without_lists(object: &Object) -> Object {
    let columns = object.columns.iter().map(|column| Column { acl: Acl::default(), ..column.clone() }).collect();
    Object { acl: Acl::default(), columns, ..object.clone() }
}
