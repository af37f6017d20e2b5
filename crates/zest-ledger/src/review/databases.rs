//! Reviews of database servers: what an account holds, and what is odd.

use std::collections::{BTreeMap, BTreeSet};

use crate::ask::{Answer, GateOutcome, Question, Session};
use crate::engine::{DatabaseServer, Engine};
use crate::estate::{SystemId, UserId};
use crate::finding::{Code, Finding};
use crate::kind::database::Accounts;
use crate::kind::entry::person;
use crate::kind::mariadb::{self, Holder, Scope};
use crate::kind::postgresql::{self, Class, Grantee, ObjectName, Privilege, Want, Way};
use crate::kind::trace::Trace;
use crate::source::{Location, Place, visible};

/// What a session holds on a database server.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
#[non_exhaustive]
pub struct OnDatabase {
    /// The account.
    pub account: String,
    /// Why no session can be opened with it, and where that is written.
    pub refused: Option<(String, Option<Location>)>,
    /// The active role, if one is.
    pub role: Option<String>,
    /// What is held now.
    pub held: Vec<DataRight>,
    /// What each other role would bring once it is active: what it has that is not held now.
    pub once_active: Vec<(String, Vec<DataRight>)>,
}

/// Something held on something.
#[derive(Clone, Debug, PartialEq, Eq)]
#[non_exhaustive]
pub struct DataRight {
    /// On what, as a ledger writes it.
    pub on: String,
    /// The schema or database that it is in and the name there, for listings: `fares` and `table price`.
    pub within: Option<(String, String)>,
    /// The privileges, with their columns: `update (amount)`.
    pub privileges: Vec<String>,
    /// Whether they may be passed on.
    pub may_pass_on: bool,
    /// Through what.
    pub through: String,
    /// Where the grant is written; none for what the server gives by itself.
    pub location: Option<Location>,
}

/// Why no session can be opened, and where that is written.
type Why = (String, Option<Location>);

/// Returns whether a system is a database server on which a user has an account.
pub(crate) fn has_account(engine: &Engine, user: &str, system: SystemId) -> bool {
    let Some(server) = &engine.servers[system.index()] else { return false };
    let Some(id) = engine.find_user(user, false) else { return false };
    let accounts = server.accounts();
    let login = |a: &str| if matches!(server, DatabaseServer::Mariadb(_)) { mariadb::login_of(a) } else { a.to_owned() };
    accounts.list.iter().any(|(a, _)| may_use(engine, id, user, accounts, a, &login(a)))
}

fn may_use(engine: &Engine, id: UserId, user: &str, accounts: &Accounts, account: &str, login: &str) -> bool {
    login == user || accounts.used_by.get(account).is_some_and(|l| l.iter().any(|&(p, _)| engine.membership.belongs(id, p)))
}

/// Returns what a user holds on a database server, or why no session can be opened.
///
/// Where the account depends on an origin that is not stated, there is one entry for each account of the user, with
/// what the account and its roles hold by themselves.
pub(crate) fn on_database(engine: &Engine, user: &str, system: SystemId, session: &Session) -> Option<Result<Vec<OnDatabase>, Why>> {
    let server = engine.servers[system.index()].as_ref()?;
    let question = Question::in_session(user, &engine.estate.system(system).id.value, "", session.clone());
    if let DatabaseServer::Mariadb(server) = server
        && session.origin.is_none()
        && !session.local
    {
        let state = server.at(session.at);
        let id = engine.find_user(user, false)?;
        let mut trace = Trace::explaining();
        // What stands in the way of the person stands in the way of every account.
        let _ = person(engine, session, id, &mut trace);
        if let Some(refused) = refusal(&trace.into_answer(&question, engine)) {
            return Some(Err(refused));
        }
        let names =
            server.accounts.list.iter().map(|(a, _)| a).filter(|a| may_use(engine, id, user, &server.accounts, a, &mariadb::login_of(a)));
        let each = names.filter_map(|name| {
            let account = mariadb::AccountName::parse(name)?;
            let mut trace = Trace::explaining();
            let opened = mariadb::open_as(&question, server, &state, &account.user, (account.clone(), None), &mut trace);
            let refused = refusal(&trace.into_answer(&question, engine));
            Some(match opened {
                Ok(view) if refused.is_none() => in_view(engine, &state, &view),
                _ => OnDatabase { account: name.clone(), refused, ..OnDatabase::default() },
            })
        });
        return Some(Ok(each.collect()));
    }
    let mut trace = Trace::explaining();
    crate::kind::sign_in(engine, &question, &mut trace);
    if let Some(refused) = refusal(&trace.into_answer(&question, engine)) {
        return Some(Err(refused));
    }
    let mut trace = Trace::silent();
    Some(Ok(vec![match server {
        DatabaseServer::Postgresql(server) => {
            let catalog = server.at(session.at);
            let standing = postgresql::open(engine, &question, system, server, &catalog, &mut trace).ok()?;
            let held = of_role(engine, &catalog, &standing.role);
            let mut once_active = Vec::new();
            for role in catalog.state().roles.keys().filter(|r| **r != standing.role && !catalog.state().is_superuser(&standing.account)) {
                if catalog.state().may_become(&standing.account, role) {
                    let more = without(of_role(engine, &catalog, role), &held);
                    if !more.is_empty() {
                        once_active.push((role.clone(), more));
                    }
                }
            }
            let role = (standing.role != standing.account).then_some(standing.role);
            OnDatabase { account: standing.account, refused: None, role, held, once_active }
        }
        DatabaseServer::Mariadb(server) => {
            let state = server.at(session.at);
            let view = mariadb::open(engine, &question, system, server, &state, &mut trace).ok()?;
            in_view(engine, &state, &view)
        }
    }]))
}

fn refusal(answer: &Answer) -> Option<Why> {
    answer.gates.iter().find(|g| matches!(g.outcome, GateOutcome::Refuses(_))).map(|g| (g.text.clone(), g.location.clone()))
}

fn in_view(engine: &Engine, state: &mariadb::State, view: &mariadb::View<'_>) -> OnDatabase {
    let held = of_view(engine, state, view);
    let mut once_active = Vec::new();
    for role in state.roles.iter().filter(|r| view.role() != Some(r) && view.may_activate(r)) {
        let more = without(of_view(engine, state, &view.with_role(role)), &held);
        if !more.is_empty() {
            once_active.push((role.clone(), more));
        }
    }
    OnDatabase { account: view.account().to_string(), refused: None, role: view.role().map(str::to_owned), held, once_active }
}

fn without(rights: Vec<DataRight>, known: &[DataRight]) -> Vec<DataRight> {
    let is_known = |right: &DataRight, word: &String| {
        let whole = word.split(" (").next();
        known.iter().any(|k| {
            k.on == right.on && (k.may_pass_on || !right.may_pass_on) && k.privileges.iter().any(|w| w == word || Some(w.as_str()) == whole)
        })
    };
    let rest =
        rights.into_iter().map(|r| DataRight { privileges: r.privileges.iter().filter(|w| !is_known(&r, w)).cloned().collect(), ..r });
    rest.filter(|r| !r.privileges.is_empty()).collect()
}

/// What a PostgreSQL role holds beyond what the server gives to everybody by itself.
fn of_role(engine: &Engine, catalog: &postgresql::Catalog, role: &str) -> Vec<DataRight> {
    let Some(number) = catalog.role(role) else { return Vec::new() };
    if catalog.state().is_superuser(role) {
        let through = format!("`{}` is a superuser, which passes every check", visible(role));
        let all = vec!["all".to_owned()];
        return vec![DataRight { on: "everything".to_owned(), within: None, privileges: all, may_pass_on: true, through, location: None }];
    }
    let mut rows = Vec::new();
    for object in catalog.objects() {
        let Some(at) = catalog.object(object) else { continue };
        let mut by_way: BTreeMap<(String, Option<Place>, bool), Vec<String>> = BTreeMap::new();
        let mut note = |way: &Way, may_pass_on: bool, word: String| {
            let (through, place) = match way {
                Way::Grant { chain, place: None, .. } if chain.is_empty() => return,
                Way::Superuser => ("superuser".to_owned(), None),
                Way::Owner { chain } => (format!("ownership{}", via(chain)), None),
                Way::Predefined { chain } => (format!("a predefined role{}", via(chain)), None),
                Way::Grant { chain, place, .. } if chain.is_empty() => ("PUBLIC".to_owned(), *place),
                Way::Grant { chain, place, .. } if chain.len() == 1 => ("its own grant".to_owned(), *place),
                Way::Grant { chain, place, .. } => {
                    (chain[1..].iter().map(|r| format!("`{}`", visible(r))).collect::<Vec<_>>().join(" -> "), *place)
                }
            };
            by_way.entry((through, place, may_pass_on)).or_default().push(word);
        };
        let columns: Vec<String> =
            catalog.state().objects.get(object).map(|o| o.columns.iter().map(|c| c.name.clone()).collect()).unwrap_or_default();
        for privilege in object.class.applicable().iter() {
            let may_pass_on = catalog.holds(number, at, privilege, Want::GrantOption);
            match catalog.way(number, at, None, privilege, Want::Privilege) {
                Some(way) => note(&way, may_pass_on, privilege.word().to_owned()),
                None => {
                    let mut some: BTreeMap<String, (Way, Vec<String>)> = BTreeMap::new();
                    for column in &columns {
                        if let Some(way) = catalog.way(number, at, Some(column), privilege, Want::Privilege) {
                            let key = match &way {
                                Way::Grant { chain, place, .. } => format!("{chain:?}{place:?}"),
                                other => format!("{other:?}"),
                            };
                            some.entry(key).or_insert_with(|| (way, Vec::new())).1.push(visible(column));
                        }
                    }
                    for (way, list) in some.values() {
                        note(way, false, format!("{} ({})", privilege.word(), list.join(", ")));
                    }
                }
            }
        }
        let within = object.schema().map(|schema| {
            let bare = ObjectName { parts: object.parts[1..].to_vec(), ..object.clone() };
            (visible(schema), visible(&bare.to_string()))
        });
        for ((through, place, may_pass_on), privileges) in by_way {
            let location = place.map(|p| engine.estate.sources.locate(p));
            rows.push(DataRight { on: visible(&object.to_string()), within: within.clone(), privileges, may_pass_on, through, location });
        }
    }
    rows
}

fn via(chain: &[String]) -> String {
    if chain.len() < 2 {
        String::new()
    } else {
        format!(", through {}", chain[1..].iter().map(|r| format!("`{}`", visible(r))).collect::<Vec<_>>().join(" -> "))
    }
}

/// What a MariaDB session holds, grant by grant; of several that compete only the one that counts.
fn of_view(engine: &Engine, state: &mariadb::State, view: &mariadb::View<'_>) -> Vec<DataRight> {
    let mut sources: BTreeMap<(Scope, Holder), Option<Place>> = BTreeMap::new();
    let mut note = |list: Vec<(mariadb::Privileges, mariadb::Source)>| {
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
            let may_pass_on = held.privileges.contains(mariadb::Privilege::GrantOption);
            let plain = held.privileges.iter().filter(|p| *p != mariadb::Privilege::GrantOption);
            let mut words: Vec<String> = plain.map(|p| p.word().to_owned()).collect();
            let mut by_privilege: BTreeMap<&str, Vec<String>> = BTreeMap::new();
            for (column, privileges) in &held.columns {
                privileges.iter().for_each(|p| by_privilege.entry(p.word()).or_default().push(visible(column)));
            }
            words.extend(by_privilege.into_iter().map(|(word, columns)| format!("{word} ({})", columns.join(", "))));
            let all = mariadb::Level::Global.applicable() == held.privileges;
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
                location: place.map(|p| engine.estate.sources.locate(p)),
            })
        })
        .collect()
}

/// Looks for what is odd on database servers.
pub(crate) fn review(engine: &Engine, at: Option<jiff::Timestamp>, findings: &mut Vec<Finding>) {
    for (i, server) in engine.servers.iter().enumerate() {
        let system = engine.estate.system(SystemId::new(i));
        let place = system.id.place;
        let superusers = match server {
            None => continue,
            Some(DatabaseServer::Postgresql(server)) => {
                of_postgresql(engine, server, findings);
                let state = postgresql::state_of(&engine.estate, &system.id.value, at);
                state.map(|s| {
                    s.roles.values().any(|r| r.superuser && r.login && r.valid_until.is_none_or(|end| at.is_none_or(|at| at < end)))
                })
            }
            Some(DatabaseServer::Mariadb(server)) => {
                of_mariadb(engine, server, findings);
                None
            }
        };
        if superusers == Some(false) {
            findings.push(
                Finding::new(Code::NoSuperuser, format!("no superuser of `{}` can sign in", visible(&system.id.value)))
                    .at(place, "nobody could mend anything here")
                    .help("let one account with the switch `superuser` sign in, and no end lie in the past"),
            );
        }
        let of_accounts = engine.estate.databases().iter().filter(|d| d.system.value == system.id.value).flat_map(|d| &d.accounts);
        for (account, until) in of_accounts.filter_map(|a| Some((a, a.until.as_ref()?))).filter(|(_, u)| at.is_some_and(|at| at >= u.value))
        {
            findings.push(
                Finding::new(Code::Expired, format!("the account `{}` was good until {}", visible(&account.name.value), until.value))
                    .at(until.place, "past")
                    .help("take it out, or extend the date"),
            );
        }
    }
}

fn of_postgresql(engine: &Engine, server: &postgresql::Server, findings: &mut Vec<Finding>) {
    let catalog = server.at(Some(jiff::Timestamp::MIN));
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
                                "`{}` holds {} on the whole `{shown}`, so the grant on column `{}` narrows nothing",
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
            nobody_uses(engine, name, name, server.accounts.used_by.contains_key(name), role.superuser, at, findings);
        } else {
            let is_empty = !granted.contains(name.as_str()) && !owns(name) && role.member_of.is_empty();
            no_use(is_empty, !state.roles.values().any(|r| r.member_of.contains_key(name)) && !owns(name), &shown, at, findings);
        }
    }
    shut_schemas(&catalog, findings);
}

/// A right on an object is worth nothing to who may not look into its schema.
fn shut_schemas(catalog: &postgresql::Catalog, findings: &mut Vec<Finding>) {
    let state = catalog.state();
    let mut seen = BTreeSet::new();
    for (name, object) in &state.objects {
        let Some(schema) = name.schema().map(|s| ObjectName::new(Class::Schema, &[s])) else { continue };
        let Some(at_schema) = catalog.object(&schema) else { continue };
        for (grantee, _, held) in object.acl.iter() {
            let (Grantee::Role(role), Some(place)) = (grantee, held.place) else { continue };
            let opens = |r: &str| catalog.role(r).is_some_and(|n| catalog.holds(n, at_schema, Privilege::Usage, Want::Privilege));
            let reached = || state.roles.iter().any(|(n, r)| r.login && !r.superuser && state.may_become(n, role) && opens(n));
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

fn nobody_uses(engine: &Engine, account: &str, login: &str, used_by: bool, is_strong: bool, at: Place, findings: &mut Vec<Finding>) {
    if !used_by && !engine.estate.user_ids.contains_key(login) {
        findings.push(
            Finding::new(Code::AccountWithoutUser, format!("nobody in the ledger stands behind the account `{}`", visible(account)))
                .at(at, "whose is it?")
                .help("add `used-by = [\"user:ID\"]`, or take the account out"),
        );
    }
    if is_strong && engine.estate.user_ids.contains_key(login) {
        findings.push(
            Finding::new(Code::StrongAccount, format!("`{}` signs in with all rights every day", visible(account)))
                .at(at, "a person's own account")
                .help("keep all rights on an account of their own, and use it when they are needed"),
        );
    }
}

fn no_use(is_empty: bool, is_unused: bool, shown: &str, at: Place, findings: &mut Vec<Finding>) {
    if is_empty {
        findings.push(
            Finding::new(Code::EmptyDatabaseRole, format!("the role `{shown}` holds nothing"))
                .at(at, "no grant, no role, no object")
                .help("grant it something, or take it out"),
        );
    }
    if is_unused {
        findings.push(
            Finding::new(Code::DatabaseRoleUnused, format!("nobody is a member of the role `{shown}`"))
                .at(at, "reaches nobody")
                .help("make somebody a member, or take it out"),
        );
    }
}

fn of_mariadb(engine: &Engine, server: &mariadb::Server, findings: &mut Vec<Finding>) {
    let state = server.at(Some(jiff::Timestamp::MIN));
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
        let wide = state.grants.iter().find(|((h, s), other)| {
            let is_wider = match (s, scope) {
                (Scope::Everything, s) => *s != Scope::Everything,
                (Scope::Databases(p), Scope::Table(d, _) | Scope::Function(d, _) | Scope::Procedure(d, _)) => mariadb::matches(d, p),
                _ => false,
            };
            h == holder && is_wider && !held.privileges.is_empty() && held.privileges.without(other.privileges).is_empty()
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
            let hidden: Vec<&mariadb::AccountName> = state
                .accounts
                .keys()
                .filter(|a| !a.user.is_empty() && mariadb::rank(&name.host) < mariadb::rank(&a.host) && overlap(&name.host, &a.host))
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
        let roles: Vec<&String> = state.memberships.keys().filter(|(m, _)| *m == holder).map(|(_, r)| r).collect();
        if account.default_role.is_none() && !roles.is_empty() && name.user != "root" {
            let list = roles.iter().map(|r| format!("`{}`", visible(r))).collect::<Vec<_>>().join(", ");
            findings.push(
                Finding::new(Code::NoDefaultRole, format!("no role is active when `{shown}` signs in, though it was granted {list}"))
                    .at(at, "the roles bring nothing until one is made active")
                    .help("add `default-role`, or make sure that its users say SET ROLE"),
            );
        }
        let all = state.grants.get(&(holder, Scope::Everything)).is_some_and(|h| h.privileges == mariadb::Level::Global.applicable());
        nobody_uses(engine, &name.to_string(), &name.user, server.accounts.used_by.contains_key(&name.to_string()), all, at, findings);
    }
    for role in &state.roles {
        let holder = Holder::Role(role.clone());
        let Some(at) = place(&holder) else { continue };
        let holds = state.grants.keys().any(|(h, _)| *h == holder) || state.memberships.keys().any(|(m, _)| *m == holder);
        let root = Holder::Account(mariadb::AccountName::new("root", "localhost"));
        let used = state.memberships.keys().any(|(m, r)| r == role && *m != root);
        no_use(!holds, !used, &visible(role), at, findings);
    }
}

/// Whether two origin patterns can fit one address; patterns that share their beginning are taken to.
fn overlap(one: &str, other: &str) -> bool {
    let head = |p: &str| p.split(['%', '_']).next().unwrap_or("").to_owned();
    let (a, b) = (head(one), head(other));
    other == "%" || one == "%" || a.starts_with(&b) || b.starts_with(&a)
}
