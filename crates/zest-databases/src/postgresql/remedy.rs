//! What could be changed about a refusal: another active role, a membership, a grant.

use super::{Demand, Need, Postgresql, Server, Want};
use crate::database::remedy::{PROPOSED, as_nearest, join, through_each, use_account};
use crate::database::{On, refusing};
use zest_engine::rules::Site;
use zest_engine::trace::Trace;
use zest_engine::ways::{Way, way};
use zest_model::ask::{Answer, Change, Refusal};
use zest_model::source::visible;
use zest_words::nearest;

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
            weak.take(PROPOSED).map(|(a, place)| Way { place: Some(*place), ..use_account(site, a, &question.user) }).collect()
        }
        Refusal::SeveralAccounts => through_each(&server.accounts),
        Refusal::NotStated => {
            let moments = server.timed.iter().map(|t| t.value);
            let moment = moments.max().and_then(|t| t.checked_sub(jiff::SignedDuration::from_secs(1)).ok());
            moment.map(|t| way(Change::Moment(t), format!("with the time stated, such as {t}"), None)).into_iter().collect()
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
            let Ok(standing) = super::open(site, question, server, &catalog, &mut trace) else {
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
            let open = candidates.iter().filter(|r| state.may_become(&standing.account, r)).take(PROPOSED);
            ways.extend(open.map(|r| way(Change::ActiveRole((*r).clone()), format!("once `{}` is the active role", visible(r)), None)));
            // Memberships that would bring it; roles without login first.
            let mut groups: Vec<&String> = candidates.iter().copied().filter(|r| !state.roles.get(*r).is_some_and(|x| x.login)).collect();
            groups.retain(|r| !state.may_become(&standing.account, r));
            // Those that own things would bring far more than what is wanted: the grant alone comes before them.
            let owned = |r: &String| state.objects.values().filter(|o| o.owner == *r).count();
            groups.sort_by_key(|r| owned(r));
            let member = |r: &String| join(site, &standing.role, r, server.places.roles.get(&standing.role).copied());
            let (owners, others): (Vec<&String>, Vec<&String>) = groups.into_iter().take(PROPOSED).partition(|r| owned(r) > 0);
            ways.extend(others.into_iter().map(member));
            ways.extend(grant(site, &need));
            ways.extend(owners.into_iter().map(member));
            ways
        }
    }
}

fn connect(site: Site<'_>, answer: &Answer, refusal: Refusal) -> Vec<Way> {
    match (&answer.account, refusal) {
        (Some(account), Refusal::ConnectClosed) => {
            let need = Need::privilege(account, &super::ObjectName::database(), super::Privilege::Connect, On::Object);
            grant(site, &need).into_iter().collect()
        }
        _ => Vec::new(),
    }
}

fn grant(site: Site<'_>, need: &Need) -> Option<Way> {
    let Need::Object { role, object, demand: Demand::Privilege { any, on, want } } = need else { return None };
    let privilege = any.iter().next()?;
    let columns: Vec<String> = if let On::Columns(list) = on { list.clone() } else { Vec::new() };
    let regrant = *want == Want::GrantOption;
    let on_columns = if columns.is_empty() {
        String::new()
    } else {
        format!(" ({})", columns.iter().map(|c| visible(c)).collect::<Vec<_>>().join(", "))
    };
    let option = if regrant { ", with the right to pass it on" } else { "" };
    let text = format!("if `{}` were granted {}{on_columns} on {}{option}", visible(role), privilege.word(), visible(&object.to_string()));
    let change = Change::Grant {
        system: site.entry().id.value.clone(),
        privileges: vec![privilege.word().to_owned()],
        columns,
        on: object.to_string(),
        to: role.clone(),
        regrant,
    };
    Some(way(change, text, None))
}
