//! What could be changed about a refusal: another active role, a membership, a grant.

use super::acl::{Acl, Grantee};
use super::state::PREDEFINED;
use super::{Catalog, Demand, Need, ObjectName, Postgresql, Privilege, Privileges, Server, Want};
use crate::database::remedy::{PROPOSED, as_nearest, join, through_each, use_account};
use crate::database::{On, entered, refusing};
use zest_engine::rules::Site;
use zest_engine::trace::Trace;
use zest_engine::ways::{Way, way, with_time};
use zest_model::ask::{Answer, Change, Refusal, Width};
use zest_model::entry::DatabaseRole;
use zest_model::source::visible;
use zest_words::nearest;

/// How many objects of the same schema are looked at for the role through which somebody has the rest.
const SIBLINGS: usize = 1000;

/// Ways on from one refusal.
pub(super) fn ways(site: Site<'_>, server: &Server, answer: &Answer, refusal: Refusal) -> Vec<Way> {
    let question = &answer.question;
    let catalog = server.at(question.session.at);
    let state = catalog.state();
    let is_weak = |role: &str| !state.is_superuser(role);
    match refusal {
        Refusal::UnknownUser => as_nearest(site, &server.accounts, &question.user),
        Refusal::NoAccount => {
            let weak = server.accounts.list.iter().filter(|(a, _)| is_weak(a) && question.session.account.as_ref().is_none_or(|n| n == a));
            weak.take(PROPOSED).map(|(a, place)| use_account(site, &server.accounts, a, a, &question.user, *place)).collect()
        }
        Refusal::SeveralAccounts => through_each(&server.accounts),
        Refusal::NotStated => {
            let last = server.timed.iter().map(|t| t.value).max();
            with_time(None, last, answer.now).into_iter().collect()
        }
        Refusal::CredentialExpired => {
            let of_this = site.engine().estate().entries().databases.iter().filter(|d| d.system.value == site.entry().id.value);
            let is_it = |a: &&DatabaseRole| Some(&a.name.value) == answer.account.as_ref();
            let until = of_this.flat_map(|d| &d.accounts).find(is_it).and_then(|a| a.until.as_ref());
            let good = until.map(|until| {
                let change = Change::Prolong { at: site.locate(until.place) };
                way(change, "if the password of the account were good at that time", Some(until.place))
            });
            good.into_iter().collect()
        }
        Refusal::UnknownRole | Refusal::RoleNotGranted | Refusal::RolesActiveTogether => {
            let mut ways = vec![way(Change::ActiveRole("none".to_owned()), "without an active role", None)];
            let active = question.session.one_role().ok().flatten().flatten().unwrap_or("");
            let near = nearest(active, state.roles.keys().map(String::as_str)).filter(|n| *n != active);
            ways.extend(near.map(|n| way(Change::ActiveRole(n.to_owned()), format!("with `{}` active", visible(n)), None)));
            if let (Refusal::RoleNotGranted, Some(account), true) = (refusal, &answer.account, is_weak(active)) {
                ways.push(join(site, account, active, server.places.roles.get(account).copied()));
            }
            ways
        }
        _ => {
            let mut trace = Trace::silent();
            let Ok(standing) = entered(site, question, server, &catalog, &mut trace) else {
                return connect(site, answer, refusal);
            };
            let Some(need) = refusing::<Postgresql>(&catalog, question, &standing) else { return Vec::new() };
            let mut ways = Vec::new();
            // Roles that could be made active, and hold what is wanted.
            let candidates: Vec<&String> =
                state.roles.keys().filter(|r| **r != standing.role && is_weak(r) && need.passes_for(r, &catalog)).collect();
            if question.session.active_roles.is_some() {
                ways.push(way(Change::ActiveRole("none".to_owned()), "without an active role", None));
            }
            let owned = |r: &String| state.objects.values().filter(|o| o.owner == *r).count();
            let governs = |r: &String| {
                owned(r) > 0
                    || PREDEFINED.iter().any(|(name, _)| name == r)
                    || state.roles.get(r).is_some_and(|r| r.create_role || r.create_database || r.replication || r.bypass_row_security)
            };
            let within = state.open_to(std::iter::once(standing.account.as_str()));
            let is_superuser = state.is_superuser(&standing.account);
            let may_become = |r: &str| is_superuser || within.contains(r);
            let is_own = |r: &&String| **r == standing.account;
            let mut open: Vec<&String> = candidates.iter().copied().filter(|r| may_become(r)).collect();
            open.sort_by_key(|r| governs(r));
            ways.extend(open.iter().take(PROPOSED).map(|r| {
                let as_role = way(Change::ActiveRole((*r).clone()), format!("once `{}` is the active role", visible(r)), None);
                as_role.of_width_if(Width::WiderThanNeeded, governs(r) && !is_own(r))
            }));
            // Memberships that would bring it; roles without login first.
            let mut groups: Vec<&String> = candidates.iter().copied().filter(|r| !state.roles.get(*r).is_some_and(|x| x.login)).collect();
            groups.retain(|r| !may_become(r));
            // Those that own things would bring far more than what is wanted.
            groups.sort_by_key(|r| (governs(r), owned(r)));
            let member = |r: &String| {
                let joins = join(site, &standing.role, r, server.places.roles.get(&standing.role).copied());
                joins.of_width_if(Width::WiderThanNeeded, governs(r))
            };
            ways.extend(grant(site, &need, &through(&catalog, &need)));
            ways.extend(groups.into_iter().take(PROPOSED).map(member));
            ways
        }
    }
}

fn connect(site: Site<'_>, answer: &Answer, refusal: Refusal) -> Vec<Way> {
    match (&answer.account, refusal) {
        (Some(account), Refusal::ConnectClosed) => {
            let need = Need::privilege(account, &ObjectName::database(), Privilege::Connect, On::Object);
            grant(site, &need, account).into_iter().collect()
        }
        _ => Vec::new(),
    }
}

/// Whom to grant what is missing: the role through which somebody has the rest on the object, or else in its schema, the nearest
/// one first; else the one who lacks it. A role that only reads there is not made one that writes: others have it in order to read.
fn through(catalog: &Catalog, need: &Need) -> String {
    let Need::Object { role, object, demand } = need else { return String::new() };
    let state = catalog.state();
    let writes =
        |privileges: Privileges| privileges.iter().any(|p| !matches!(p, Privilege::Select | Privilege::Usage | Privilege::Execute));
    let is_write = matches!(demand, Demand::Privilege { any, .. } if writes(*any));
    let groups: Vec<String> = state.roles_of(role, true).into_iter().filter(|r| r != role && !state.is_superuser(r)).collect();
    let holds = |name: &ObjectName, group: &String| {
        let lists = state.objects.get(name).into_iter().flat_map(|o| std::iter::once(&o.acl).chain(o.columns.iter().map(|c| &c.acl)));
        let is_it = |grantee: &Grantee| matches!(grantee, Grantee::Role(r) if r == group);
        lists.flat_map(Acl::iter).any(|(grantee, _, held)| is_it(grantee) && (!is_write || writes(held.privileges)))
    };
    let on_it = groups.iter().find(|group| holds(object, group));
    let beside = || {
        let schema = object.schema()?;
        let of_schema = |name: &&ObjectName| name.class == object.class && name.schema() == Some(schema);
        let siblings: Vec<&ObjectName> = state.objects.keys().filter(of_schema).take(SIBLINGS).collect();
        groups.iter().find(|group| siblings.iter().any(|name| holds(name, group)))
    };
    on_it.or_else(beside).unwrap_or(role).clone()
}

fn grant(site: Site<'_>, need: &Need, to: &str) -> Option<Way> {
    let Need::Object { object, demand: Demand::Privilege { any, on, want }, .. } = need else { return None };
    let privilege = any.iter().next()?;
    let columns: Vec<String> = if let On::Columns(list) = on { list.clone() } else { Vec::new() };
    let regrant = *want == Want::GrantOption;
    let on_columns = if columns.is_empty() {
        String::new()
    } else {
        format!(" ({})", columns.iter().map(|c| visible(c)).collect::<Vec<_>>().join(", "))
    };
    let option = if regrant { ", with the right to pass it on" } else { "" };
    let text = format!("if `{}` were granted {}{on_columns} on {}{option}", visible(to), privilege.word(), visible(&object.to_string()));
    let change = Change::Grant {
        system: site.entry().id.value.clone(),
        privileges: vec![privilege.word().to_owned()],
        columns,
        on: object.to_string(),
        to: to.to_owned(),
        regrant,
    };
    Some(way(change, text, None))
}
