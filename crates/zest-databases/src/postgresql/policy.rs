//! Row security: whom it binds, which policies speak, and whether they let new rows in whatever the rows are.
//!
//! As `get_row_security_policies` of the server does it (chapter 5.8 of its manual): policies that permit are added up, those
//! that restrict take away, and where none permits, no row passes.

use zest_model::entry::PolicyFor;

use super::catalog::Catalog;
use super::state::{Object, Policy};

/// Which condition of a policy is looked at.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) enum Part {
    /// That of rows that are there.
    Using,
    /// That of new rows.
    Check,
}

/// What policies do with rows.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) enum Lets {
    /// All rows pass.
    All,
    /// None does.
    None,
    /// It depends on the rows.
    Some,
}

impl Policy {
    /// Returns the condition for a part; policies that have none say nothing there.
    pub(crate) fn condition(&self, part: Part) -> Option<&str> {
        let Self { acts: _, to: _, using, check, restrictive: _ } = self;
        match part {
            Part::Using => using.as_deref(),
            Part::Check => check.as_deref().or(using.as_deref()),
        }
    }
}

/// Returns whether row security binds a role at a table.
pub(crate) fn binds(catalog: &Catalog, role: &str, entry: &Object) -> bool {
    let state = catalog.state();
    let passes = state.roles.get(role).is_some_and(|r| r.superuser || r.bypass_row_security);
    let owns = || catalog.role(role).zip(catalog.role(&entry.owner)).is_some_and(|(role, owner)| catalog.has_role(role, owner));
    entry.row_security && !passes && (entry.row_security_for_owner || !owns())
}

/// Returns the conditions that are looked at for a role: of those that permit, and, where there are any, of those that restrict.
pub(crate) fn conditions<'p>(
    catalog: &Catalog,
    role: &str,
    entry: &'p Object,
    acts: PolicyFor,
    part: Part,
) -> (Vec<&'p str>, Vec<&'p str>) {
    let speaks = |policy: &&Policy| {
        let is_member = |of: &String| catalog.role(role).zip(catalog.role(of)).is_some_and(|(role, of)| catalog.has_role(role, of));
        (policy.acts == PolicyFor::All || policy.acts == acts) && (policy.to.is_empty() || policy.to.iter().any(is_member))
    };
    let all = || entry.policies.iter().flat_map(|policies| policies.values()).filter(speaks);
    let of = |restrictive: bool| all().filter(|p| p.restrictive == restrictive).filter_map(|p| p.condition(part)).collect::<Vec<_>>();
    let permitting = of(false);
    let restricting = if permitting.is_empty() { Vec::new() } else { of(true) };
    (permitting, restricting)
}

/// Returns what the policies do with rows.
pub(crate) fn lets(catalog: &Catalog, role: &str, entry: &Object, acts: PolicyFor, part: Part) -> Lets {
    let (permitting, restricting) = conditions(catalog, role, entry, acts, part);
    if permitting.iter().any(|c| is(c, "true")) && restricting.iter().all(|c| is(c, "true")) {
        Lets::All
    } else if permitting.iter().all(|c| is(c, "false")) || restricting.iter().any(|c| is(c, "false")) {
        Lets::None
    } else {
        Lets::Some
    }
}

fn is(condition: &str, word: &str) -> bool {
    condition.trim().trim_matches(['(', ')']).eq_ignore_ascii_case(word)
}
