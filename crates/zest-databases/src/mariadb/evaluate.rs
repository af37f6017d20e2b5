//! From a question to an answer: the server finds the account by login and origin, a role is active or not, and each
//! check of the server is made.

use std::collections::BTreeSet;
use std::net::IpAddr;
use std::sync::{Arc, LazyLock};

use super::Server;
use super::name::{AccountName, Class, Holder, ObjectName, Scope, rank};
use super::need::{As, Need};
use super::privilege::{Level, Privilege};
use super::state::{Account, Origin, State, View, admits};
use super::statement::needs;
use crate::database::not_modelled::{NAMES_NOT_RESOLVED, Touch, looked_at};
use crate::database::{ADMIN_OPTION, Needs, On, asked, one_role, uses};
use zest_engine::rights::Look;
use zest_engine::trace::{Stop, Trace};
use zest_model::ask::{Form, Question, Refusal, Stage};
use zest_model::source::{Place, visible};
use zest_words::nearest_hint;

/// Returns where an account is written.
fn place_of(server: &Server, account: &AccountName) -> Option<Place> {
    server.places.holders.get(&Holder::Account(account.clone())).copied()
}

/// Returns where that is written which a check is about.
pub(super) fn place(server: &Server, need: &Need, view: &View<'_>) -> Option<Place> {
    match need {
        Need::InRole { need, .. } | Need::InName { need, .. } | Need::Perhaps { need, .. } => place(server, need, view),
        Need::Table { object, .. } | Need::Routine { object, .. } | Need::AnyOn { object, .. } => {
            server.places.objects.get(object).copied()
        }
        Need::Shown { tables } => tables.first().and_then(|(object, _)| server.places.objects.get(object).copied()),
        Need::Activate { role } | Need::Admin { role } | Need::Membership { role, .. } | Need::HoldsRole { role, .. } => {
            server.places.holders.get(&Holder::Role(role.clone())).copied()
        }
        Need::Database { .. }
        | Need::Global { .. }
        | Need::PassOn { .. }
        | Need::Open { .. }
        | Need::Accounts { .. }
        | Need::Listed { .. }
        | Need::OwnTable { .. }
        | Need::Definer { .. }
        | Need::Proxy { .. } => place_of(server, view.account()),
    }
}

/// Returns the login of an account's name.
pub(crate) fn login_of(account: &str) -> String {
    AccountName::parse(account).map_or_else(|| account.to_owned(), |a| a.user)
}

/// Finds the account as the server does, and makes the role active.
pub(crate) fn open<'s>(
    question: &Question,
    server: &Server,
    state: &'s State,
    found: &[usize],
    trace: &mut Trace,
) -> Result<View<'s>, Stop> {
    let found = server.accounts.names(found);
    let mut logins: Vec<String> = found.iter().map(|a| login_of(a)).collect();
    logins.sort();
    logins.dedup();
    let [login] = logins.as_slice() else {
        let names = found.iter().map(|a| format!("`{}`", visible(a))).collect::<Vec<_>>().join(", ");
        trace.refuse(Stage::Entry, Refusal::SeveralAccounts, || {
            (format!("`{}` may use {names}: name one", visible(&question.user)), None)
        })?;
        return Err(Stop);
    };
    let (account, origin) = found_account(question, server, state, login, &found, trace)?;
    open_as(question, server, state, login, (account, Some(origin)), trace)
}

/// Opens a session of an account that was found; without an origin, as the account alone.
pub(crate) fn open_as<'s>(
    question: &Question,
    server: &Server,
    state: &'s State,
    login: &str,
    (account, origin): (AccountName, Option<Origin>),
    trace: &mut Trace,
) -> Result<View<'s>, Stop> {
    uses(trace, question, || account.to_string(), &server.accounts);
    // Nobody reads them where nothing is explained.
    let (shown, place) = if trace.explains() { (visible(&account.to_string()), place_of(server, &account)) } else { (String::new(), None) };
    let unknown = Account::default();
    let entry = state.accounts.get(&account).unwrap_or(&unknown);
    if account.user.is_empty() && !login.is_empty() {
        trace.pass(Stage::Entry, || {
            (format!("the server takes the anonymous account `{shown}` for `{}`: its origin fits better than that of any account of this name", visible(login)), place)
        });
    }
    if entry.locked {
        trace.refuse(Stage::Entry, Refusal::AccountLocked, || (format!("`{shown}` is locked"), place))?;
    }
    if let Some(&place) = server.places.without_credential.get(&account) {
        trace.refuse(Stage::Entry, Refusal::AccountWithoutCredential, || (format!("`{shown}` has no credential"), Some(place)))?;
    }
    if let Some(note) = looked_at(&entry.not_modelled, Touch::SignIn) {
        trace.refuse(Stage::Entry, Refusal::NotDecided, || (format!("`{shown}` has {note}, which is not modelled"), place))?;
    }
    if !matches!(origin, Some(Origin::Local))
        && let Some(note) = looked_at(&state.not_modelled, Touch::SignIn)
    {
        trace.refuse(Stage::Entry, Refusal::NotDecided, || {
            (format!("the server has {note}, which is not modelled: whether the session is encrypted is not stated"), place)
        })?;
    }
    if entry.expired {
        trace.refuse(Stage::Standing, Refusal::CredentialMustChange, || {
            (format!("the credential of `{shown}` is expired: the server carries out nothing but its change"), place)
        })?;
    }
    if let Some(due) = entry.credential_due {
        question.session.ear.looked(|| Look::Moment(due));
        match question.session.at {
            Some(at) if at >= due => trace.refuse(Stage::Standing, Refusal::CredentialMustChange, || {
                (format!("the credential of `{shown}` was to be changed by {due}: the server carries out nothing but its change"), place)
            })?,
            Some(_) => {}
            None => trace.refuse(Stage::Conditions, Refusal::NotStated, || {
                (format!("the question does not state the time, and the credential of `{shown}` must be changed by {due}"), place)
            })?,
        }
    }
    let stated = one_role(question, trace)?;
    let with_role = |role: Option<&str>| match &origin {
        Some(origin) => View::new(state, &account, origin.clone(), role),
        None => role.map_or_else(|| View::of_definer(state, &account), |r| View::of_definer(state, &account).with_role(r)),
    };
    let plain = with_role(None);
    let role = match stated {
        Some(role) => role.map(str::to_owned),
        // One that was not granted, or no more, the server passes over.
        None => entry.default_role.clone().filter(|role| plain.may_activate(role)),
    };
    let Some(role) = role else {
        trace.pass(Stage::Standing, || {
            let held = state.granted_to(&Holder::Account(account.clone())).next().is_some();
            let note = match &entry.default_role {
                Some(role) if stated.is_none() => format!("; its default role `{}` was not granted to it", visible(role)),
                _ if held => "; the roles it was granted bring nothing until one is made active".to_owned(),
                _ => String::new(),
            };
            (format!("no role is active{note}"), place)
        });
        return Ok(plain);
    };
    if !state.roles.contains(&role) {
        trace.refuse(Stage::Standing, Refusal::UnknownRole, || {
            let near = nearest_hint(&role, state.roles.iter().map(String::as_str));
            (format!("no role is named `{}`{near}", visible(&role)), None)
        })?;
        return Err(Stop);
    }
    if plain.only_by_public(&role) {
        trace.refuse(Stage::Standing, Refusal::NotDecided, || {
            (format!("`{}` was granted to PUBLIC only: whether the server makes it active is not known", visible(&role)), place)
        })?;
    } else if plain.may_activate(&role) {
        let how = if stated.is_some() { "is made active" } else { "is active as its default role" };
        let member = server.places.memberships.get(&(Holder::Account(account.clone()), role.clone())).copied();
        trace.pass(Stage::Standing, || (format!("`{}` {how}", visible(&role)), member.or(place)));
    } else {
        trace.refuse(Stage::Standing, Refusal::RoleNotGranted, || {
            (format!("`{}` was not granted to `{shown}` itself, and only such roles can be made active", visible(&role)), place)
        })?;
    }
    Ok(with_role(Some(&role)))
}

fn found_account(
    question: &Question,
    server: &Server,
    state: &State,
    login: &str,
    found: &[String],
    trace: &mut Trace,
) -> Result<(AccountName, Origin), Stop> {
    looked_at_origin(state, login, question);
    let origin = if question.session.local { Some(Origin::Local) } else { question.session.origin.map(Origin::Address) };
    let Some(origin) = origin else {
        // One account for every address, and no anonymous one before it: then the address does not matter.
        let rivals: Vec<&AccountName> = of_login(state, login).collect();
        if let [one] = rivals.as_slice()
            && one.host == "%"
        {
            return Ok(((*one).clone(), Origin::Address(IpAddr::from([0, 0, 0, 0]))));
        }
        let place = found.first().and_then(|a| AccountName::parse(a)).and_then(|a| place_of(server, &a));
        trace.refuse(Stage::Conditions, Refusal::NotStated, || {
            (
                format!("the question does not state where the session comes from, and the account of `{}` depends on it", visible(login)),
                place,
            )
        })?;
        return Err(Stop);
    };
    match state.account_for(login, &origin) {
        Some(account) => {
            if let Some(rival) = named_before(state, login, &origin, account) {
                trace.refuse(Stage::Conditions, Refusal::NotDecided, || {
                    (
                        format!(
                            "`{}` comes before `{}` where the address has that name, and names are not looked up here; \
                             `not-modelled = [\"{NAMES_NOT_RESOLVED}\"]` says that the server does not either",
                            visible(&rival.to_string()),
                            visible(&account.to_string())
                        ),
                        place_of(server, rival),
                    )
                })?;
            }
            Ok((account.clone(), origin))
        }
        None => {
            let place = found.first().and_then(|a| AccountName::parse(a)).and_then(|a| place_of(server, &a));
            let from = if question.session.local {
                "over the server's own socket".to_owned()
            } else {
                question.session.origin.map_or_else(String::new, |o| format!("from {o}"))
            };
            trace.refuse(Stage::Entry, Refusal::OriginNotAdmitted, || {
                let names = found.iter().map(|a| format!("`{}`", visible(a))).collect::<Vec<_>>().join(", ");
                (format!("no account of `{}` admits sessions {from}; there are {names}", visible(login)), place)
            })?;
            Err(Stop)
        }
    }
}

/// Tells that it is looked at which host patterns of a login and of anonymous accounts the origin fits, also where nothing is left of them but
/// what was granted, and whether it is the server's own machine.
fn looked_at_origin(state: &State, login: &str, question: &Question) {
    let ear = &question.session.ear;
    if !ear.listens() {
        return;
    }
    let granted = ["", login].into_iter().flat_map(|login| state.held_by_login(login)).map(|(account, ..)| account);
    let hosts: BTreeSet<&str> = of_login(state, login).chain(granted).map(|account| account.host.as_str()).collect();
    for host in hosts {
        let pattern: Arc<str> = Arc::from(host);
        let examples = {
            let pattern = Arc::clone(&pattern);
            move || examples(&pattern)
        };
        let fits = move |origin: Option<IpAddr>, local: bool| {
            let origin = if local { Some(Origin::Local) } else { origin.map(Origin::Address) };
            origin.map(|origin| admits(&pattern, &origin))
        };
        ear.looked(|| Look::Origin { rule: format!("host `{}`", visible(host)), examples: Arc::new(examples), fits: Arc::new(fits) });
    }
    ear.looked_at(&*LOOPBACK);
}

/// Whether the address is one that has the name `localhost`, as no other has.
static LOOPBACK: LazyLock<Look> =
    LazyLock::new(|| Look::Networks(["127.0.0.0/8", "::1/128"].iter().filter_map(|net| net.parse().ok()).collect()));

/// Returns addresses that a host pattern fits, and others beside them.
fn examples(host: &str) -> Vec<IpAddr> {
    let filled = |with: &str| host.replace('%', with).replace('_', "1");
    let address = host.split_once('/').map_or(host, |(net, _)| net);
    let wild: &[&str] = if host.contains(['%', '_']) { &["1", "0.1", "0.0.1", "192.0.2.1", "1:1", ""] } else { &[""] };
    wild.iter().map(|with| filled(with)).chain([address.to_owned()]).filter_map(|text| text.parse().ok()).collect()
}

/// Returns an account of a host's name that the server would take before `account`, if the address had that name.
fn named_before<'s>(state: &'s State, login: &str, origin: &Origin, account: &AccountName) -> Option<&'s AccountName> {
    let Origin::Address(address) = origin else { return None };
    if state.not_modelled.contains(NAMES_NOT_RESOLVED) {
        return None;
    }
    let is_name = |host: &str| {
        let is_address = host.chars().all(|c| c.is_ascii_hexdigit() || matches!(c, '.' | ':' | '/' | '%' | '_'));
        !is_address && (address.to_canonical().is_loopback() || !host.eq_ignore_ascii_case("localhost"))
    };
    of_login(state, login).find(|a| is_name(&a.host) && rank(&a.host) <= rank(&account.host))
}

/// The accounts that may be meant by a login: the anonymous ones, and those of its name.
fn of_login<'s>(state: &'s State, login: &str) -> impl Iterator<Item = &'s AccountName> + use<'s> {
    let named = (!login.is_empty()).then(|| state.accounts_of(login));
    state.accounts_of("").chain(named.into_iter().flatten())
}

/// Returns the database that bare names mean; none where there are several.
pub(crate) fn only_database(state: &State) -> Option<&str> {
    let mut databases = state.databases.iter();
    databases.next().filter(|_| databases.next().is_none()).map(String::as_str)
}

/// The one right on an account: to sign in as oneself, and be somebody else.
pub(crate) const PROXY: &str = "proxy";

/// Returns the checks that the server makes, in order.
pub(crate) fn wanted(state: &State, question: &Question) -> Result<Needs<Need>, (Refusal, String)> {
    if question.form == Form::Statement {
        return needs(state, only_database(state), &question.line);
    }
    let Some(asked) = asked(&question.line) else {
        return Err((
            Refusal::StatementUnreadable,
            "expected a privilege and an object, such as `select on table loyalty.member`; a statement is asked with `--sql`".to_owned(),
        ));
    };
    if asked.privilege == ADMIN_OPTION {
        let role = asked.administered(|name| state.roles.contains(name), state.roles.iter())?;
        return Ok(vec![Need::Admin { role }].into());
    }
    let object = Class::ALL.iter().find_map(|c| {
        let name = ObjectName::parse(&format!("{} {}", c.word(), asked.on))?;
        state.objects.contains_key(&name).then_some(name)
    });
    let scope = Scope::parse(&asked.on).or_else(|| object.as_ref().map(Scope::of));
    let unknown = || {
        let names: Vec<String> = state
            .objects
            .keys()
            .flat_map(|n| [n.to_string(), n.plain()])
            .chain(state.databases.iter().map(|d| Scope::database(d).to_string()))
            .collect();
        let near = nearest_hint(&asked.on, names.iter().map(String::as_str));
        (Refusal::UnknownObject, format!("`{}` is not in the inventory of this server{near}", visible(&asked.on)))
    };
    let Some(scope) = scope else { return Err(unknown()) };
    if let Scope::Proxy(of) = &scope {
        if asked.privilege != PROXY || !asked.columns.is_empty() {
            let why = format!("`{}` is not a privilege on an account; there is `{PROXY}` alone", visible(&asked.privilege));
            return Err((Refusal::PrivilegeMisapplied, why));
        }
        return Ok(vec![Need::Proxy { of: of.clone(), to_pass_on: asked.pass_on }].into());
    }
    let level = if asked.columns.is_empty() { super::document::level_of(&scope) } else { Level::Column };
    let Some(privilege) = Privilege::from_word(&asked.privilege).filter(|p| level.applicable().contains(*p)) else {
        return Err((
            Refusal::PrivilegeMisapplied,
            format!("`{}` is not a privilege there; these are: {}", visible(&asked.privilege), level.applicable()),
        ));
    };
    if asked.pass_on {
        return Ok(vec![Need::PassOn { scope, privileges: privilege.only(), columns: asked.columns }].into());
    }
    Ok(vec![match &scope {
        Scope::Proxy(of) => Need::Proxy { of: of.clone(), to_pass_on: asked.pass_on },
        Scope::Everything => Need::Global { any: privilege.only() },
        Scope::Databases(_) => {
            let name = asked.on.trim_start_matches("database ").trim().trim_matches('"').to_owned();
            if !state.databases.contains(&name) {
                return Err(unknown());
            }
            Need::Database { database: name, any: privilege.only() }
        }
        Scope::Table(database, name) => {
            let object = super::need::object_in(state, database, name, &[Class::Table, Class::View]).ok_or_else(unknown)?;
            let on = if asked.columns.is_empty() { On::Object } else { On::Columns(asked.columns) };
            Need::Table { by: As::Caller, object, privilege, on }
        }
        Scope::Function(database, name) => {
            Need::Routine { by: As::Caller, object: ObjectName::new(Class::Function, database, name), privilege }
        }
        Scope::Procedure(database, name) => {
            Need::Routine { by: As::Caller, object: ObjectName::new(Class::Procedure, database, name), privilege }
        }
    }]
    .into())
}
