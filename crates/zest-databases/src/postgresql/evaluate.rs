//! From a question to an answer: the session is opened, a role made active, and each check of the server made.

use super::Server;
use super::catalog::{Catalog, Want};
use super::need::{Demand, GivenOption, Need};
use super::object::ObjectName;
use super::policy;
use super::privilege::{Class, Privilege};
use super::statement::{needs, settings};
use super::which_rows::{Rows, looked_at as policies_for};
use crate::database::not_modelled::{Touch, looked_at};
use crate::database::{ADMIN_OPTION, Asked, Needs, On, asked, one_role, uses};
use crate::sql::{Dialect, is_expression};
use zest_engine::rights::Look;
use zest_engine::trace::{Stop, Trace};
use zest_model::ask::{Form, Question, Refusal, Stage};
use zest_model::entry::Proof;
use zest_model::source::{Place, visible};
use zest_words::nearest_hint;

/// The session once it is open.
#[derive(Clone)]
pub(crate) struct Standing {
    pub(crate) account: String,
    pub(crate) role: String,
}

/// Opens the session and makes the stated role active.
pub(crate) fn open(question: &Question, server: &Server, catalog: &Catalog, found: &[usize], trace: &mut Trace) -> Result<Standing, Stop> {
    let found = server.accounts.names(found);
    let [account] = found.as_slice() else {
        let names = found.iter().map(|a| format!("`{}`", visible(a))).collect::<Vec<_>>().join(", ");
        trace.refuse(Stage::Entry, Refusal::SeveralAccounts, || {
            (format!("`{}` may use {names}: name one", visible(&question.user)), None)
        })?;
        return Err(Stop);
    };
    uses(trace, question, || account.clone(), &server.accounts);
    let place = server.places.roles.get(account).copied();
    let state = catalog.state();
    let (Some(role), Some(number)) = (state.roles.get(account), catalog.role(account)) else { return Err(Stop) };
    // Nobody reads it where nothing is explained.
    let shown = if trace.explains() { visible(account) } else { String::new() };
    if !role.login {
        trace.refuse(Stage::Entry, Refusal::NoLogin, || (format!("`{shown}` may not open sessions"), place))?;
    }
    if let Some(note) = looked_at(&role.not_modelled, Touch::SignIn) {
        trace.refuse(Stage::Entry, Refusal::NotDecided, || (format!("`{shown}` has {note}, which is not modelled"), place))?;
    }
    let by_password = question.session.proofs.as_ref().is_none_or(|l| l.is_empty() || l.iter().any(|p| p.proof == Proof::Password));
    if let Some(until) = role.valid_until {
        question.session.ear.looked(|| Look::Password);
        question.session.ear.looked(|| Look::Moment(until));
    }
    if let Some(until) = role.valid_until.filter(|_| by_password) {
        match question.session.at {
            Some(at) if at >= until => {
                trace.refuse(Stage::Entry, Refusal::CredentialExpired, || {
                    (format!("the password of `{shown}` was accepted until {until}"), place)
                })?;
            }
            Some(_) => {}
            None => trace.refuse(Stage::Conditions, Refusal::NotStated, || {
                (format!("the question does not state the time, and the password of `{shown}` ends"), place)
            })?,
        }
    }
    if role.connection_limit == 0 && !role.superuser {
        trace.refuse(Stage::Entry, Refusal::NoLogin, || (format!("`{shown}` may have no session at all (connection-limit = 0)"), place))?;
    }
    let database = catalog.object(&ObjectName::database());
    let connects = database.is_some_and(|d| catalog.holds(number, d, Privilege::Connect, Want::Privilege));
    if connects {
        trace.pass(Stage::Entry, || {
            let connect = Need::privilege(account, &ObjectName::database(), Privilege::Connect, On::Object).outcome(catalog);
            (connect.text, connect.place)
        });
    } else {
        trace.refuse(Stage::Entry, Refusal::ConnectClosed, || {
            (format!("`{shown}` does not hold connect on the database"), server.places.objects.get(&ObjectName::database()).copied())
        })?;
    }
    let Some(active) = one_role(question, trace)?.flatten().filter(|r| *r != account) else {
        return Ok(Standing { account: account.clone(), role: account.clone() });
    };
    if !state.knows_role(active) {
        trace.refuse(Stage::Standing, Refusal::UnknownRole, || {
            let near = nearest_hint(active, state.roles.keys().map(String::as_str));
            (format!("no role is named `{}`{near}", visible(active)), None)
        })?;
        return Err(Stop);
    }
    if state.may_become(account, active) {
        trace.pass(Stage::Standing, || {
            (format!("`{shown}` makes `{}` its active role, whose rights replace its own", visible(active)), place)
        });
    } else {
        trace.refuse(Stage::Standing, Refusal::RoleNotGranted, || {
            (format!("`{shown}` is not a member of `{}` and cannot make it active", visible(active)), place)
        })?;
    }
    Ok(Standing { account: account.clone(), role: active.to_owned() })
}

/// Returns the checks that the server makes, in order, with remarks.
pub(crate) fn wanted(catalog: &Catalog, question: &Question, standing: &Standing) -> Result<Needs<Need>, (Refusal, String)> {
    if question.form == Form::Statement {
        return needs(catalog, &standing.account, &standing.role, &question.line);
    }
    let Some(asked) = asked(&question.line) else {
        return Err((
            Refusal::StatementUnreadable,
            "expected a privilege and an object, such as `select on table fares.price`; a statement is asked with `--sql`".to_owned(),
        ));
    };
    // Whose privilege it is depends on the role that the session is given at its start.
    let of_start = ["setting role".to_owned(), format!("setting role of {}", standing.account)];
    if let Some(note) = of_start.iter().find(|n| catalog.state().not_modelled.contains(*n)) {
        return Err((Refusal::NotDecided, format!("the server has {}, which is not modelled", visible(note))));
    }
    let is_role = |setting: &&String| setting.split('=').next().is_some_and(|name| name.trim() == "role");
    if let Some(setting) = settings::of_start(catalog.state(), &standing.account).find(is_role) {
        return Err((Refusal::NotDecided, format!("the session begins with the setting `{}`, which is not followed", visible(setting))));
    }
    if asked.privilege == ADMIN_OPTION {
        let of = asked.administered(|name| catalog.state().knows_role(name), catalog.state().roles.keys())?;
        return Ok(vec![Need::Admin { role: standing.role.clone(), of }].into());
    }
    // An object may be called like that.
    let is_there = || ObjectName::parse(&asked.on).is_some_and(|name| catalog.object(&name).is_some());
    let (on, rows) = match Rows::read(&asked.on).filter(|_| !is_there()) {
        Some((on, rows)) => (on, Some(rows)),
        None => (&*asked.on, None),
    };
    let object = object_of(catalog, on)?;
    let mut list = Vec::new();
    if let Some(schema) = object.schema() {
        list.push(Need::privilege(&standing.role, &ObjectName::new(Class::Schema, &[schema]), Privilege::Usage, On::Object));
    }
    if asked.privilege == OWNERSHIP {
        if asked.pass_on || rows.is_some() || !asked.columns.is_empty() {
            let why = format!("ownership is asked of a whole object: `{OWNERSHIP} on {}`", visible(&object.to_string()));
            return Err((Refusal::PrivilegeMisapplied, why));
        }
        list.push(Need::owner(&standing.role, &object));
        return Ok(list.into());
    }
    let Some(privilege) = Privilege::from_word(&asked.privilege).filter(|p| object.class.applicable().contains(*p)) else {
        return Err((
            Refusal::PrivilegeMisapplied,
            format!(
                "`{}` is not a privilege on a {}; these are: {}",
                visible(&asked.privilege),
                object.class.word(),
                object.class.applicable()
            ),
        ));
    };
    let known = catalog.state().objects.get(&object).map(|o| o.columns.clone()).unwrap_or_default();
    if let Some(column) = asked.columns.iter().find(|c| !known.iter().any(|k| k.name == **c)) {
        let near = nearest_hint(column, known.iter().map(|c| c.name.as_str()));
        return Err((Refusal::UnknownObject, format!("{} has no column `{}`{near}", visible(&object.to_string()), visible(column))));
    }
    let of_rows = rows.map(|rows| rows_asked(catalog, standing, &asked, &object, privilege, &rows)).transpose()?;
    let want = if asked.pass_on { Want::GrantOption } else { Want::Privilege };
    let on = if asked.columns.is_empty() { On::Object } else { On::Columns(asked.columns) };
    list.push(Need::Object { role: standing.role.clone(), object, demand: Demand::Privilege { any: privilege.only(), on, want } });
    let mut undecided = Vec::new();
    match of_rows {
        Some(Ok(need)) => list.push(need),
        Some(Err(why)) => undecided.push(why),
        None => {}
    }
    Ok(Needs { undecided, ..list.into() })
}

/// What else is asked for like a privilege: whether an object is owned.
pub(crate) const OWNERSHIP: &str = "ownership";

/// Returns what else is needed for rows that are asked for, or what of it is not known.
fn rows_asked(
    catalog: &Catalog,
    standing: &Standing,
    asked: &Asked,
    object: &ObjectName,
    privilege: Privilege,
    rows: &Rows,
) -> Result<Result<Need, String>, (Refusal, String)> {
    let state = catalog.state();
    let name = visible(&object.to_string());
    let is_looked_at = policies_for(privilege).iter().any(|(_, part)| *part == rows.part);
    let Some(entry) = state.objects.get(object).filter(|_| object.class == Class::Table && !asked.pass_on && is_looked_at) else {
        let why =
            "rows are asked for of a table: with `select`, `update` and `delete` those that are there, with `insert` and `update` new ones";
        return Err((Refusal::PrivilegeMisapplied, why.to_owned()));
    };
    // What no policy of the table says must at least be something that can be said of its rows.
    if let Some(condition) = rows.beyond(catalog, entry) {
        let shown = visible(condition);
        if !is_expression(Dialect::Postgresql, condition) {
            return Err((Refusal::StatementUnreadable, format!("`{shown}`, of which rows are asked for, is no condition")));
        }
        let superuser = state.roles.iter().find(|(_, role)| role.superuser).map_or(&entry.owner, |(name, _)| name);
        let read = needs(catalog, superuser, superuser, &format!("SELECT 1 FROM {} WHERE {condition}", object.sql()))?;
        if let Some(why) = read.undecided.into_iter().next() {
            return Err((Refusal::NotDecided, format!("`{shown}`, of which rows are asked for: {why}")));
        }
    }
    let is_row_setting = |setting: &&String| setting.split('=').next().is_some_and(|name| name.trim() == "row_security");
    if let Some(setting) = settings::of_start(state, &standing.account).find(is_row_setting) {
        return Err((Refusal::NotDecided, format!("the session begins with the setting `{setting}`, which is not followed")));
    }
    let why = rows.not_decided(entry).filter(|_| policy::binds(catalog, &standing.role, entry));
    let need = || Need::Rows { role: standing.role.clone(), object: object.clone(), privilege, rows: rows.clone() };
    Ok(why.map_or_else(|| Ok(need()), |why| Err(format!("which rows the policies of {name} let pass: {why}"))))
}

/// Finds an object by its full name, or without its class where that is clear.
pub(crate) fn object_of(catalog: &Catalog, text: &str) -> Result<ObjectName, (Refusal, String)> {
    if let Some(name) = ObjectName::parse(text)
        && catalog.object(&name).is_some()
    {
        return Ok(name);
    }
    let found: Vec<&ObjectName> = catalog.objects().iter().filter(|n| n.plain() == text && n.class != Class::Database).collect();
    match found.as_slice() {
        [one] => Ok((*one).clone()),
        [] => {
            let names: Vec<String> = catalog.objects().iter().flat_map(|n| [n.to_string(), n.plain()]).collect();
            let near = nearest_hint(text, names.iter().map(String::as_str));
            Err((Refusal::UnknownObject, format!("`{}` is not in the inventory of this server{near}", visible(text))))
        }
        several => {
            let list = several.iter().map(|n| format!("`{}`", visible(&n.to_string()))).collect::<Vec<_>>().join(" or ");
            Err((Refusal::UnknownObject, format!("`{}` could be {list}: name the class as well", visible(text))))
        }
    }
}

/// Returns where that is written which a check is about.
pub(super) fn place(server: &Server, need: &Need) -> Option<Place> {
    match need {
        Need::Object { object, .. } | Need::NewRow { object, .. } | Need::Rows { object, .. } => server.places.objects.get(object).copied(),
        Need::Switch { role, .. }
        | Need::Member { role, .. }
        | Need::Admin { role, .. }
        | Need::Membership { role, .. }
        | Need::Option(GivenOption { role, .. })
        | Need::Rights { role, .. }
        | Need::Server { role, .. } => server.places.roles.get(role).copied(),
    }
}
