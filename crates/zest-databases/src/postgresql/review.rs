//! What a session holds on a PostgreSQL server, and what is odd about one.

use std::collections::{BTreeMap, BTreeSet};

use jiff::Timestamp;
use rustc_hash::FxHashSet;

use super::{Class, Grantee, ObjectName, Privilege, Role, Server, Want, state_of};
use crate::database::review::{no_use, nobody_uses, over};
use zest_engine::Engine;
use zest_model::finding::{Code, Finding};
use zest_model::source::visible;

/// Adds what is odd about PostgreSQL servers.
pub(super) fn review(engine: &Engine, at: Option<Timestamp>, findings: &mut Vec<Finding>) {
    for (id, server) in engine.states::<Server>() {
        let system = engine.estate().system(id);
        oddities(engine, server, findings);
        let state = state_of(engine.estate(), &system.id.value, at);
        // Whoever may become a superuser by SET ROLE mends things as well.
        let may_mend = |s: &super::State| {
            let is_valid = |role: &Role| role.valid_until.is_none_or(|end| at.is_none_or(|at| at < end));
            let logins = s.roles.iter().filter(|(_, role)| role.login && is_valid(role)).map(|(name, _)| name.as_str());
            s.open_to(logins).into_iter().any(|role| s.is_superuser(role))
        };
        if state.is_some_and(|s| !may_mend(&s)) {
            findings.push(
                Finding::new(Code::NoSuperuser, format!("no superuser of `{}` can sign in", visible(&system.id.value)))
                    .at(system.id.place, "nobody could mend anything here")
                    .help("let one account with the switch `superuser` sign in, and no end lie in the past"),
            );
        }
        over(server.parts(), at, findings);
    }
}

fn oddities(engine: &Engine, server: &Server, findings: &mut Vec<Finding>) {
    let catalog = server.at(Some(Timestamp::MIN));
    let state = catalog.state();
    let place = |role: &str| server.places.roles.get(role).copied();
    for (name, object) in &state.objects {
        let shown = visible(&name.to_string());
        let lists = std::iter::once((None, &object.acl)).chain(object.columns.iter().map(|c| (Some(&c.name), &c.acl)));
        for (column, acl) in lists {
            for (grantee, _, held) in acl.iter() {
                let Some(at) = held.place else { continue };
                match grantee {
                    Grantee::Public => findings.push(
                        Finding::new(
                            Code::PublicGrant,
                            format!("everybody holds {} on `{shown}`, also roles that are made later", held.privileges),
                        )
                        .at(at, "granted to PUBLIC")
                        .help("grant it to the roles that need it, and revoke it from `public`"),
                    ),
                    // An account that does not inherit can open its first session by a grant of its own only.
                    Grantee::Role(role)
                        if state.roles.get(role).is_some_and(|r| r.login && (r.inherit || name.class != Class::Database)) =>
                    {
                        findings.push(
                            Finding::new(
                                Code::GrantToAccount,
                                format!("the account `{}` holds {} on `{shown}` by itself", visible(role), held.privileges),
                            )
                            .at(at, "granted to an account, and not to a role")
                            .help("grant it to a role and make the account a member: then leaving the role is enough"),
                        )
                    }
                    Grantee::Role(_) => {}
                }
                if let (Some(column), Grantee::Role(role)) = (column, grantee) {
                    let wide = object.acl.iter().find(|(g, _, h)| *g == grantee && !h.privileges.and(held.privileges).is_empty());
                    if let Some((_, _, wide)) = wide {
                        let finding = Finding::new(
                            Code::BroadBesideNarrow,
                            format!(
                                "`{}` holds {} on the whole `{shown}`, so a grant of that on column `{}` narrows nothing",
                                visible(role),
                                wide.privileges.and(held.privileges),
                                visible(column)
                            ),
                        )
                        .at(at, "the narrow grant")
                        .help("revoke the privilege on the table, and grant the columns again");
                        findings.push(match wide.place {
                            Some(place) => finding.also(place, "the broad grant"),
                            None => finding,
                        });
                    }
                }
            }
        }
    }
    let owns = |role: &str| state.objects.values().any(|o| o.owner == role);
    let granted: BTreeSet<&str> = state
        .objects
        .values()
        .flat_map(|o| o.acl.iter().chain(o.columns.iter().flat_map(|c| c.acl.iter())))
        .filter_map(|(g, _, _)| if let Grantee::Role(r) = g { Some(r.as_str()) } else { None })
        .chain(
            state
                .defaults
                .values()
                .flat_map(|a| a.iter())
                .filter_map(|(g, _, _)| if let Grantee::Role(r) = g { Some(r.as_str()) } else { None }),
        )
        .collect();
    let policies = state.objects.values().filter_map(|object| object.policies.as_ref()).flat_map(BTreeMap::values);
    let in_policies: BTreeSet<&String> = policies.flat_map(|policy| &policy.to).collect();
    for (name, role) in &state.roles {
        let Some(at) = place(name) else { continue };
        let shown = visible(name);
        if role.login {
            let number = catalog.role(name);
            let database = catalog.object(&ObjectName::database());
            if !number.zip(database).is_some_and(|(r, d)| catalog.holds(r, d, Privilege::Connect, Want::Privilege)) {
                findings.push(
                    Finding::new(
                        Code::CannotConnect,
                        format!("the account `{shown}` cannot open a session: it does not hold connect on the database"),
                    )
                    .at(at, "no way to connect")
                    .help("grant `connect` on \"database\" to one of its roles"),
                );
            }
            nobody_uses(engine, name, name, !server.accounts.used_by(name).is_empty(), role.superuser, at, findings);
        } else {
            let is_empty = !granted.contains(name.as_str())
                && !owns(name)
                && role.member_of.is_empty()
                && !is_more(role)
                && !in_policies.contains(name);
            no_use(is_empty, !state.roles.values().any(|r| r.member_of.contains_key(name)) && !owns(name), &shown, at, findings);
        }
    }
    shut_schemas(&catalog, findings);
}

/// Whether a role lets whoever becomes it do more than its privileges say.
fn is_more(role: &Role) -> bool {
    let Role { superuser, create_role, create_database, bypass_row_security, .. } = role;
    *superuser || *create_role || *create_database || *bypass_row_security
}

/// A right on an object is worth nothing to who may not look into its schema.
///
/// It is used by whoever inherits it and may look there, in a session of their own or one that another becomes by SET ROLE. What a view
/// reads, it reads with the rights of its owner, and looks into no schema for it.
fn shut_schemas(catalog: &super::Catalog, findings: &mut Vec<Finding>) {
    let state = catalog.state();
    let mut seen = BTreeSet::new();
    let mut reached_of: BTreeMap<ObjectName, FxHashSet<&str>> = BTreeMap::new();
    let actors = state.open_to(state.roles.iter().filter(|(_, role)| role.login).map(|(name, _)| name.as_str()));
    let of_views = state.objects.values().filter(|object| object.query.is_some());
    let owners: BTreeSet<&str> = of_views.map(|view| view.owner.as_str()).collect();
    for (name, object) in &state.objects {
        let Some(schema) = name.schema().map(|s| ObjectName::new(Class::Schema, &[s])) else { continue };
        let Some(at_schema) = catalog.object(&schema) else { continue };
        for (grantee, _, held) in object.acl.iter() {
            let (Grantee::Role(role), Some(place)) = (grantee, held.place) else { continue };
            let opens = |r: &str| catalog.role(r).is_some_and(|n| catalog.holds(n, at_schema, Privilege::Usage, Want::Privilege));
            let mut reached = || {
                let inside =
                    || actors.iter().copied().filter(|actor| !state.is_superuser(actor) && opens(actor)).chain(owners.iter().copied());
                reached_of.entry(schema.clone()).or_insert_with(|| state.inherited_by(inside())).contains(role.as_str())
            };
            if !opens(role) && !reached() && seen.insert((role.clone(), schema.clone())) {
                findings.push(
                    Finding::new(
                        Code::SchemaShut,
                        format!(
                            "`{}` holds {} on `{}` but may not look into `{}`",
                            visible(role),
                            held.privileges,
                            visible(&name.to_string()),
                            visible(&schema.to_string())
                        ),
                    )
                    .at(place, "this grant cannot be used")
                    .help(format!("grant `usage` on \"{}\" to it as well", visible(&schema.to_string()))),
                );
            }
        }
    }
}
