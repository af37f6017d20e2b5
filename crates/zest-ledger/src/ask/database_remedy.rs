//! What could be changed about a refusal of a database server: another active role, a membership, a grant.

use super::remedy::{Way, way};
use super::{Answer, Change, Refusal};
use crate::engine::{DatabaseServer, Engine};
use crate::finding::nearest;
use crate::kind::mariadb::{self, AccountName, Holder, Scope};
use crate::kind::postgresql::{self, Demand, Need, On, Want};
use crate::kind::trace::Trace;
use crate::source::visible;

/// How many roles are proposed of each sort.
const PROPOSED: usize = 4;

/// Returns what could be changed about a refusal, for the search to try.
pub(crate) fn ways(engine: &Engine, answer: &Answer, refusal: Refusal, server: &DatabaseServer) -> Vec<Way> {
    match server {
        DatabaseServer::Postgresql(server) => of_postgresql(engine, answer, refusal, server),
        DatabaseServer::Mariadb(server) => of_mariadb(engine, answer, refusal, server),
    }
}

fn use_account(account: &str, user: &str) -> Way {
    let text = format!("if `{}` could use the account `{}` (`used-by`)", visible(user), visible(account));
    way(Change::UseAccount(account.to_owned()), text, None)
}

fn of_postgresql(engine: &Engine, answer: &Answer, refusal: Refusal, server: &postgresql::Server) -> Vec<Way> {
    let question = &answer.question;
    let catalog = server.at(question.session.at);
    let state = catalog.state();
    let is_weak = |role: &str| !state.is_superuser(role);
    match refusal {
        Refusal::UnknownUser => {
            let names = engine.estate.user_ids.keys().map(|k| &**k).chain(server.accounts.list.iter().map(|(a, _)| a.as_str()));
            nearest(&question.user, names)
                .map(|n| way(Change::User(n.to_owned()), format!("as `{}`", visible(n)), None))
                .into_iter()
                .collect()
        }
        Refusal::NoAccount => {
            let weak = server.accounts.list.iter().filter(|(a, _)| is_weak(a) && question.session.account.as_ref().is_none_or(|n| n == a));
            weak.take(PROPOSED).map(|(a, place)| Way { place: Some(*place), ..use_account(a, &question.user) }).collect()
        }
        Refusal::SeveralAccounts => {
            let account = |(a, _): &(String, _)| way(Change::Account(a.clone()), format!("through the account `{}`", visible(a)), None);
            server.accounts.list.iter().map(account).collect()
        }
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
                ways.push(join(account, active, server.places.roles.get(account).copied()));
            }
            ways
        }
        _ => {
            let mut trace = Trace::silent();
            let Some(&system) = engine.estate.system_ids.get(question.system.as_str()) else { return Vec::new() };
            let Ok(standing) = postgresql::open(engine, question, system, server, &catalog, &mut trace) else {
                return connect(answer, refusal);
            };
            let Ok((needs, _)) = postgresql::wanted(&catalog, question, &standing) else { return Vec::new() };
            let Some(need) = needs.iter().find(|n| n.outcome(&catalog).refusal.is_some()) else { return Vec::new() };
            let mut ways = Vec::new();
            // Roles that could be made active, and hold what is wanted.
            let holds = |role: &str| need.of(role).outcome(&catalog).refusal.is_none();
            let candidates: Vec<&String> = state.roles.keys().filter(|r| **r != standing.role && is_weak(r) && holds(r)).collect();
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
            let member = |r: &String| join(&standing.role, r, server.places.roles.get(&standing.role).copied());
            let (owners, others): (Vec<&String>, Vec<&String>) = groups.into_iter().take(PROPOSED).partition(|r| owned(r) > 0);
            ways.extend(others.into_iter().map(member));
            ways.extend(grant(need));
            ways.extend(owners.into_iter().map(member));
            ways
        }
    }
}

fn join(account: &str, role: &str, place: Option<crate::source::Place>) -> Way {
    let text = format!("if `{}` were a member of `{}`", visible(account), visible(role));
    Way { place, ..way(Change::JoinRole { member: account.to_owned(), role: role.to_owned() }, text, None) }
}

fn connect(answer: &Answer, refusal: Refusal) -> Vec<Way> {
    match (&answer.account, refusal) {
        (Some(account), Refusal::ConnectClosed) => {
            let need = Need::privilege(account, &postgresql::ObjectName::database(), postgresql::Privilege::Connect, On::Object);
            grant(&need).into_iter().collect()
        }
        _ => Vec::new(),
    }
}

fn grant(need: &Need) -> Option<Way> {
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
    let change =
        Change::Grant { privileges: vec![privilege.word().to_owned()], columns, on: object.to_string(), to: role.clone(), regrant };
    Some(way(change, text, None))
}

/// Returns an address that an origin pattern admits, if one can be read off it.
fn address_in(pattern: &str) -> Option<std::net::IpAddr> {
    if pattern == "%" {
        return Some(std::net::IpAddr::from([192, 0, 2, 77]));
    }
    let text = pattern.split('/').next().unwrap_or(pattern).replace(['%', '_'], "7");
    text.parse().ok()
}

fn of_mariadb(engine: &Engine, answer: &Answer, refusal: Refusal, server: &mariadb::Server) -> Vec<Way> {
    let question = &answer.question;
    let state = server.at(question.session.at);
    let names = || server.accounts.list.iter().filter_map(|(a, p)| Some((AccountName::parse(a)?, *p)));
    let login = |user: &str| names().any(|(a, _)| a.user == user).then(|| user.to_owned());
    let is_anonymous = answer.account.as_ref().is_some_and(|a| a.starts_with('@'));
    match refusal {
        Refusal::UnknownUser => {
            let known = engine.estate.user_ids.keys().map(|k| &**k).chain(server.accounts.list.iter().map(|(a, _)| a.as_str()));
            nearest(&question.user, known)
                .map(|n| way(Change::User(n.to_owned()), format!("as `{}`", visible(n)), None))
                .into_iter()
                .collect()
        }
        Refusal::NoAccount => {
            let is_weak = |a: &AccountName| !a.user.is_empty() && a.user != "root";
            names()
                .filter(|(a, _)| is_weak(a))
                .take(PROPOSED)
                .map(|(a, place)| Way { place: Some(place), ..use_account(&a.to_string(), &question.user) })
                .collect()
        }
        Refusal::SeveralAccounts => server
            .accounts
            .list
            .iter()
            .map(|(a, _)| way(Change::Account(a.clone()), format!("through the account `{}`", visible(a)), None))
            .collect(),
        // Nothing is given to an anonymous account: the person's own ones are reached from other origins.
        refusal if matches!(refusal, Refusal::NotStated | Refusal::OriginNotAdmitted) || is_anonymous => {
            let user = question.session.account.as_deref().map_or_else(|| login(&question.user), |a| Some(mariadb::login_of(a)));
            let fits = |a: &AccountName| user.as_ref().is_none_or(|u| a.user == *u);
            let mut ways: Vec<Way> = names()
                .filter(|(a, _)| fits(a))
                .filter_map(|(a, _)| address_in(&a.host))
                .map(|address| way(Change::Origin(address), format!("from an address such as {address}"), None))
                .collect();
            let moment = server.timed.iter().map(|t| t.value).max().and_then(|t| t.checked_sub(jiff::SignedDuration::from_secs(1)).ok());
            ways.extend(moment.map(|t| way(Change::Moment(t), format!("with the time stated, such as {t}"), None)));
            ways
        }
        Refusal::AccountLocked | Refusal::AccountWithoutCredential | Refusal::CredentialMustChange => Vec::new(),
        Refusal::UnknownRole | Refusal::RoleNotGranted | Refusal::RolesActiveTogether => {
            let active = question.session.one_role().ok().flatten().flatten().unwrap_or("");
            let mut ways = vec![way(Change::ActiveRole("none".to_owned()), "without an active role", None)];
            let near = nearest(active, state.roles.iter().map(String::as_str)).filter(|n| *n != active);
            ways.extend(near.map(|n| way(Change::ActiveRole(n.to_owned()), format!("with `{}` active", visible(n)), None)));
            if let (Refusal::RoleNotGranted, Some(account)) = (refusal, &answer.account) {
                ways.push(join(account, active, None));
            }
            ways
        }
        _ => {
            let mut trace = Trace::silent();
            let Some(&system) = engine.estate.system_ids.get(question.system.as_str()) else { return Vec::new() };
            let Ok(view) = mariadb::open(engine, question, system, server, &state, &mut trace) else { return Vec::new() };
            let Ok(needs) = mariadb::wanted(&state, server, question) else { return Vec::new() };
            let Some(need) = needs.iter().find(|n| n.outcome(&state, &view).refusal.is_some()) else { return Vec::new() };
            let mut ways = Vec::new();
            let mut roles: Vec<&String> = state.roles.iter().collect();
            // Roles that bring fewer rights first.
            roles.sort_by_key(|r| state.grants.keys().filter(|(h, _)| *h == Holder::Role((*r).clone())).count());
            let with = |role: &str| mariadb::View::new(&state, view.account(), mariadb::Origin::Local, Some(role));
            let brings = |role: &&&String| need.outcome(&state, &with(role)).refusal.is_none();
            let mine = |role: &&&String| view.may_activate(role);
            for role in roles.iter().filter(mine).filter(brings).take(PROPOSED) {
                ways.push(way(Change::ActiveRole((*role).clone()), format!("once `{}` is the active role", visible(role)), None));
            }
            let (on, privilege, columns) = match need {
                mariadb::Need::Table { definer: None, object, privilege, on } => {
                    let columns = if let mariadb::On::Columns(list) = on { list.clone() } else { Vec::new() };
                    (object.to_string(), *privilege, columns)
                }
                mariadb::Need::Database { database, any } => match any.iter().next() {
                    Some(privilege) => (Scope::database(database).to_string(), privilege, Vec::new()),
                    None => return ways,
                },
                mariadb::Need::Routine { definer: None, object, privilege } => (object.to_string(), *privilege, Vec::new()),
                _ => return ways,
            };
            let to = view.role().map_or_else(|| view.account().to_string(), str::to_owned);
            let on_columns = if columns.is_empty() {
                String::new()
            } else {
                format!(" ({})", columns.iter().map(|c| visible(c)).collect::<Vec<_>>().join(", "))
            };
            let text = format!("if `{}` were granted {}{on_columns} on {}", visible(&to), privilege.word(), visible(&on));
            let change = Change::Grant { privileges: vec![privilege.word().to_owned()], columns, on, to, regrant: false };
            ways.push(way(change, text, None));
            ways
        }
    }
}
