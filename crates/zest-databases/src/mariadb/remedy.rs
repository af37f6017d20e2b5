//! What could be changed about a refusal: another origin or active role, a membership, a grant.

use super::need::As;
use super::{AccountName, Holder, Mariadb, Need, Privilege, Privileges, Scope, Server};
use crate::database::remedy::{PROPOSED, as_nearest, join, through_each, use_account};
use crate::database::{On, entered, refusing};
use zest_engine::rules::Site;
use zest_engine::trace::Trace;
use zest_engine::ways::{Way, way, with_time};
use zest_model::ask::{Answer, Change, Refusal, Width};
use zest_model::source::visible;
use zest_words::nearest;

/// Ways on from one refusal.
pub(super) fn ways(site: Site<'_>, server: &Server, answer: &Answer, refusal: Refusal) -> Vec<Way> {
    let question = &answer.question;
    let state = server.at(question.session.at);
    let names = || server.accounts.list.iter().filter_map(|(a, p)| Some((AccountName::parse(a)?, *p)));
    let login = |user: &str| names().any(|(a, _)| a.user == user).then(|| user.to_owned());
    let is_anonymous = answer.account.as_ref().is_some_and(|a| a.starts_with('@'));
    match refusal {
        Refusal::UnknownUser => as_nearest(site, &server.accounts, &question.user),
        Refusal::NoAccount => {
            let is_weak = |a: &AccountName| !a.user.is_empty() && a.user != "root";
            names()
                .filter(|(a, _)| is_weak(a))
                .take(PROPOSED)
                .map(|(a, place)| use_account(site, &server.accounts, &a.to_string(), &a.user, &question.user, place))
                .collect()
        }
        Refusal::SeveralAccounts => through_each(&server.accounts),
        // Nothing is given to an anonymous account: the person's own ones are reached from other origins.
        refusal if matches!(refusal, Refusal::NotStated | Refusal::OriginNotAdmitted) || is_anonymous => {
            let user = question.session.account.as_deref().map_or_else(|| login(&question.user), |a| Some(super::login_of(a)));
            let fits = |a: &AccountName| user.as_ref().is_none_or(|u| a.user == *u);
            let mut ways: Vec<Way> = names()
                .filter(|(a, _)| fits(a))
                .filter_map(|(a, _)| address_in(&a.host))
                .map(|address| way(Change::Origin(address), format!("from an address such as {address}"), None))
                .collect();
            let last = server.timed.iter().map(|t| t.value).max();
            ways.extend(last.and_then(|last| with_time(None, Some(last), answer.now)));
            ways
        }
        Refusal::AccountLocked | Refusal::AccountWithoutCredential | Refusal::CredentialMustChange => Vec::new(),
        Refusal::UnknownRole | Refusal::RoleNotGranted | Refusal::RolesActiveTogether => {
            let active = question.session.one_role().ok().flatten().flatten().unwrap_or("");
            let mut ways = vec![way(Change::ActiveRole("none".to_owned()), "without an active role", None)];
            let near = nearest(active, state.roles.iter().map(String::as_str)).filter(|n| *n != active);
            ways.extend(near.map(|n| way(Change::ActiveRole(n.to_owned()), format!("with `{}` active", visible(n)), None)));
            if let (Refusal::RoleNotGranted, Some(account)) = (refusal, &answer.account) {
                ways.push(join(site, account, active, None));
            }
            ways
        }
        _ => {
            let mut trace = Trace::silent();
            let Ok(view) = entered(site, question, server, &state, &mut trace) else { return Vec::new() };
            let Some(need) = refusing::<Mariadb>(&state, question, &view) else { return Vec::new() };
            let mut ways = Vec::new();
            let mut roles: Vec<&String> = state.roles.iter().collect();
            // Roles that bring fewer rights first.
            roles.sort_by_key(|r| state.held_by(&Holder::Role((*r).clone())).count());
            let with = |role: &str| super::View::new(&state, view.account(), super::Origin::Local, Some(role));
            let brings = |role: &&&String| need.outcome(&state, &with(role)).refusal.is_none();
            let mine = |role: &&&String| view.may_activate(role);
            // A role that brings something everywhere is there to administer the server.
            let own = super::View::new(&state, view.account(), super::Origin::Local, None).global().0;
            for role in roles.iter().filter(mine).filter(brings).take(PROPOSED) {
                let as_role = way(Change::ActiveRole((*role).clone()), format!("once `{}` is the active role", visible(role)), None);
                ways.push(as_role.of_width_if(Width::WiderThanNeeded, with(role).global().0 != own));
            }
            let first = |any: &Privileges| any.iter().next().map_or_else(Privileges::default, Privilege::only);
            let (on, privileges, columns, regrant) = match &need {
                Need::Table { by: As::Caller, object, privilege, on } => {
                    let columns = if let On::Columns(list) = on { list.clone() } else { Vec::new() };
                    (object.to_string(), privilege.only(), columns, false)
                }
                Need::Shown { tables } => {
                    let Some((object, on)) = tables.first() else { return ways };
                    let columns = if let On::Columns(list) = on { list.clone() } else { Vec::new() };
                    (object.to_string(), Privilege::Select.only(), columns, false)
                }
                Need::Database { database, any } => (Scope::database(database).to_string(), first(any), Vec::new(), false),
                Need::Routine { by: As::Caller, object, privilege } => (object.to_string(), privilege.only(), Vec::new(), false),
                Need::PassOn { scope, privileges, columns } => (scope.to_string(), *privileges, columns.clone(), true),
                Need::Accounts { or_makes_accounts: true, .. } => {
                    (Scope::Everything.to_string(), Privilege::CreateUser.only(), Vec::new(), false)
                }
                Need::Accounts { privileges, .. } => (Scope::database("mysql").to_string(), *privileges, Vec::new(), false),
                Need::Global { any } => (Scope::Everything.to_string(), first(any), Vec::new(), false),
                Need::Definer { .. } => (Scope::Everything.to_string(), Privilege::SetUser.only(), Vec::new(), false),
                Need::Table { .. }
                | Need::Routine { .. }
                | Need::Activate { .. }
                | Need::Admin { .. }
                | Need::Membership { .. }
                | Need::Open { .. }
                | Need::Listed { .. }
                | Need::AnyOn { .. }
                | Need::OwnTable { .. }
                | Need::Proxy { .. }
                | Need::HoldsRole { .. }
                | Need::InRole { .. }
                | Need::InName { .. }
                | Need::Perhaps { .. } => return ways,
            };
            let list: Vec<&str> = privileges.iter().map(Privilege::word).collect();
            if list.is_empty() {
                return ways;
            }
            let to = view.role().map_or_else(|| view.account().to_string(), str::to_owned);
            let on_columns = if columns.is_empty() {
                String::new()
            } else {
                format!(" ({})", columns.iter().map(|c| visible(c)).collect::<Vec<_>>().join(", "))
            };
            let option = if regrant { ", with the right to pass it on" } else { "" };
            let text = format!("if `{}` were granted {}{on_columns} on {}{option}", visible(&to), list.join(", "), visible(&on));
            let change = Change::Grant {
                system: site.entry().id.value.clone(),
                privileges: list.into_iter().map(str::to_owned).collect(),
                columns,
                on,
                to,
                regrant,
            };
            let administers = matches!(need, Need::Global { .. } | Need::Accounts { .. } | Need::Definer { .. });
            ways.push(way(change, text, None).of_width_if(Width::WiderThanNeeded, administers));
            ways
        }
    }
}

/// Returns an address that an origin pattern admits, if one can be read off it.
fn address_in(pattern: &str) -> Option<std::net::IpAddr> {
    if pattern == "%" {
        return Some(std::net::IpAddr::from([192, 0, 2, 77]));
    }
    let text = pattern.split('/').next().unwrap_or(pattern).replace(['%', '_'], "7");
    text.parse().ok()
}
