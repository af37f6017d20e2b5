//! What a session holds on a MariaDB server, and what is odd about one.

use std::collections::{BTreeMap, BTreeSet};

use jiff::Timestamp;
use rustc_hash::FxHashSet;

use super::{AccountName, Holder, Scope, Server, open_as};
use crate::database::entered;
use crate::database::review::{no_use, nobody_uses, over, refusal, without};
use zest_engine::Engine;
use zest_engine::entry::person;
use zest_engine::links::UserId;
use zest_engine::rules::{Site, sign_in};
use zest_engine::trace::Trace;
use zest_model::ask::{Question, Session};
use zest_model::finding::{Code, Finding};
use zest_model::listing::{DataRight, Effective, OnDatabase};
use zest_model::source::{Place, visible};

/// Returns what a session of a user holds; where the account depends on an origin that is not stated, what each account of the
/// user and its roles hold by themselves.
pub(super) fn effective(site: Site<'_>, server: &Server, user: UserId, session: &Session) -> Effective {
    let engine = site.engine();
    let nothing = Effective::nothing(&site.entry().id.value);
    let question = Question::in_session(&engine.estate().user(user).id.value, &site.entry().id.value, "", session.clone());
    let state = server.at(session.at);
    let mut trace = Trace::explaining();
    if session.origin.is_none() && !session.local {
        // What stands in the way of the person stands in the way of every account.
        let _ = person(engine, session, user, &mut trace);
        if let Some(refused) = refusal(&trace.into_answer(&question, engine)) {
            return Effective { refused: Some(refused), ..nothing };
        }
        let each = server.accounts.of(site, user).filter_map(|name| {
            let account = AccountName::parse(name)?;
            let mut trace = Trace::explaining();
            let opened = open_as(&question, server, &state, &account.user, (account.clone(), None), &mut trace);
            let refused = refusal(&trace.into_answer(&question, engine));
            Some(match opened {
                Ok(view) if refused.is_none() => in_view(engine, &state, &view),
                _ => OnDatabase { account: name.to_owned(), refused, ..OnDatabase::default() },
            })
        });
        return Effective { database: each.collect(), ..nothing };
    }
    sign_in(engine, &question, &mut trace);
    if let Some(refused) = refusal(&trace.into_answer(&question, engine)) {
        return Effective { refused: Some(refused), ..nothing };
    }
    match entered(site, &question, server, &state, &mut Trace::silent()) {
        Ok(view) => Effective { database: vec![in_view(engine, &state, &view)], ..nothing },
        Err(_) => nothing,
    }
}

/// Adds what is odd about MariaDB servers.
pub(super) fn review(engine: &Engine, at: Option<Timestamp>, findings: &mut Vec<Finding>) {
    for (_, server) in engine.states::<Server>() {
        oddities(engine, server, findings);
        over(server.parts(), at, findings);
    }
}

fn in_view(engine: &Engine, state: &super::State, view: &super::View<'_>) -> OnDatabase {
    let held = of_view(engine, state, view);
    let mut once_active = Vec::new();
    let graph = state.graph();
    for role in state.roles.iter().filter(|r| view.role() != Some(r) && view.may_activate(r)) {
        let more = without(of_view(engine, state, &view.with_role_of(role, &graph)), &held);
        if !more.is_empty() {
            once_active.push((role.clone(), more));
        }
    }
    OnDatabase {
        account: view.account().to_string(),
        refused: None,
        role: view.role().map(str::to_owned),
        held,
        once_active,
        more: zest_model::More,
    }
}

/// What a MariaDB session holds, grant by grant; of several that compete only the one that counts.
fn of_view(engine: &Engine, state: &super::State, view: &super::View<'_>) -> Vec<DataRight> {
    let mut sources: BTreeMap<(Scope, Holder), Option<Place>> = BTreeMap::new();
    let mut note = |list: Vec<(super::Privileges, super::Source)>| {
        for (_, source) in list {
            sources.insert((source.scope, source.holder), source.place);
        }
    };
    note(view.global().1);
    state.databases.iter().for_each(|d| note(view.database(d).1));
    for object in state.objects.keys() {
        if object.class.is_routine() {
            note(view.routine(&Scope::of(object)).1)
        } else {
            note(view.table(&object.database, &object.name).1)
        }
    }
    sources
        .into_iter()
        .filter_map(|((scope, holder), place)| {
            let held = state.grants.get(&(holder.clone(), scope.clone()))?;
            let may_pass_on = held.privileges.contains(super::Privilege::GrantOption);
            let plain = held.privileges.iter().filter(|p| *p != super::Privilege::GrantOption);
            let mut words: Vec<String> = plain.map(|p| p.word().to_owned()).collect();
            let mut by_privilege: BTreeMap<&str, Vec<String>> = BTreeMap::new();
            for (column, privileges) in &held.columns {
                privileges.iter().for_each(|p| by_privilege.entry(p.word()).or_default().push(visible(column)));
            }
            words.extend(by_privilege.into_iter().map(|(word, columns)| format!("{word} ({})", columns.join(", "))));
            let all = super::Level::Global.applicable() == held.privileges;
            let through = match &holder {
                Holder::Public => "PUBLIC".to_owned(),
                Holder::Role(role) => format!("`{}`", visible(role)),
                Holder::Account(account) if account == view.account() => "its own grant".to_owned(),
                Holder::Account(account) => format!("the grant of `{}`", visible(&account.to_string())),
            };
            let within = match &scope {
                Scope::Table(database, name) => Some((visible(database), format!("table {}", visible(name)))),
                Scope::Function(database, name) => Some((visible(database), format!("function {}", visible(name)))),
                Scope::Procedure(database, name) => Some((visible(database), format!("procedure {}", visible(name)))),
                _ => None,
            };
            Some(DataRight {
                on: visible(&scope.to_string()),
                within,
                privileges: if all { vec!["all".to_owned()] } else { words },
                may_pass_on,
                through,
                location: place.map(|p| engine.estate().sources().locate(p)),
                more: zest_model::More,
            })
        })
        .collect()
}

fn oddities(engine: &Engine, server: &Server, findings: &mut Vec<Finding>) {
    let state = server.at(Some(Timestamp::MIN));
    let place = |holder: &Holder| server.places.holders.get(holder).copied();
    for ((holder, scope), held) in &state.grants {
        let Some(at) = held.place else { continue };
        let (shown, on) = (visible(&holder.to_string()), visible(&scope.to_string()));
        let what = if held.privileges.is_empty() { "privileges on columns".to_owned() } else { held.privileges.to_string() };
        match holder {
            Holder::Public => findings.push(
                Finding::new(Code::PublicGrant, format!("everybody holds {what} on `{on}`, also accounts that are made later"))
                    .at(at, "granted to PUBLIC")
                    .help("grant it to the roles that need it, and revoke it from `public`"),
            ),
            Holder::Account(_) => findings.push(
                Finding::new(Code::GrantToAccount, format!("the account `{shown}` holds {what} on `{on}` by itself"))
                    .at(at, "granted to an account, and not to a role")
                    .help("grant it to a role and make the account a member"),
            ),
            Holder::Role(_) => {}
        }
        let wide = state.held_by(holder).find(|((_, s), other)| {
            let is_wider = match (s, scope) {
                (Scope::Everything, s) => *s != Scope::Everything,
                (Scope::Databases(p), Scope::Table(d, _) | Scope::Function(d, _) | Scope::Procedure(d, _)) => super::matches(d, p),
                _ => false,
            };
            is_wider && !held.privileges.is_empty() && held.privileges.without(other.privileges).is_empty()
        });
        if let Some(((_, wider), other)) = wide {
            let finding = Finding::new(
                Code::BroadBesideNarrow,
                format!("`{shown}` holds all of this on `{}` already, so the grant on `{on}` narrows nothing", visible(&wider.to_string())),
            )
            .at(at, "the narrow grant")
            .help("revoke the broad grant, or take the narrow one out");
            findings.push(match other.place {
                Some(place) => finding.also(place, "the broad grant"),
                None => finding,
            });
        }
    }
    for (name, account) in &state.accounts {
        let holder = Holder::Account(name.clone());
        let Some(at) = place(&holder) else { continue };
        let shown = visible(&name.to_string());
        if name.host == "%" {
            findings.push(
                Finding::new(Code::AnyOrigin, format!("the account `{shown}` is admitted from anywhere"))
                    .at(at, "any origin")
                    .help("name the networks it comes from: \"login@192.0.2.%\""),
            );
        }
        if name.user.is_empty() {
            let hidden: Vec<&AccountName> = state
                .accounts
                .keys()
                .filter(|a| !a.user.is_empty() && super::rank(&name.host) < super::rank(&a.host) && overlap(&name.host, &a.host))
                .collect();
            let mut finding = Finding::new(Code::AnonymousAccount, format!("the anonymous account `{shown}` lets unknown names in"))
                .at(at, "no name is needed")
                .help("take it out; accounts with names and origins of their own are enough");
            if let Some(first) = hidden.first() {
                let names = hidden.iter().take(4).map(|a| format!("`{}`", visible(&a.to_string()))).collect::<Vec<_>>().join(", ");
                finding.message = format!("the anonymous account `{shown}` lets unknown names in, and takes sessions from {names}");
                if let Some(place) = place(&Holder::Account((*first).clone())) {
                    finding = finding.also(place, "sessions of this name get the anonymous account where both origins fit");
                }
            }
            findings.push(finding);
            continue;
        }
        let roles: Vec<&String> = state.granted_to(&holder).collect();
        if account.default_role.is_none() && !roles.is_empty() && name.user != "root" {
            let list = roles.iter().map(|r| format!("`{}`", visible(r))).collect::<Vec<_>>().join(", ");
            findings.push(
                Finding::new(Code::NoDefaultRole, format!("no role is active when `{shown}` signs in, though it was granted {list}"))
                    .at(at, "the roles bring nothing until one is made active")
                    .help("add `default-role`, or make sure that its users say SET ROLE"),
            );
        }
        let all = state.grants.get(&(holder, Scope::Everything)).is_some_and(|h| h.privileges == super::Level::Global.applicable());
        nobody_uses(engine, &name.to_string(), &name.user, !server.accounts.used_by(&name.to_string()).is_empty(), all, at, findings);
    }
    let root = Holder::Account(AccountName::new("root", "localhost"));
    let used: FxHashSet<&String> = state.memberships.keys().filter(|(m, _)| *m != root).map(|(_, role)| role).collect();
    let granted: BTreeSet<&Holder> = state.grants.keys().map(|(holder, _)| holder).collect();
    for role in &state.roles {
        let holder = Holder::Role(role.clone());
        let Some(at) = place(&holder) else { continue };
        let holds = granted.contains(&holder) || state.granted_to(&holder).next().is_some();
        let used = used.contains(role);
        no_use(!holds, !used, &visible(role), at, findings);
    }
}

/// Whether two origin patterns can fit one address; patterns that share their beginning are taken to.
fn overlap(one: &str, other: &str) -> bool {
    let head = |p: &str| p.split(['%', '_']).next().unwrap_or("").to_owned();
    let (a, b) = (head(one), head(other));
    other == "%" || one == "%" || a.starts_with(&b) || b.starts_with(&a)
}
