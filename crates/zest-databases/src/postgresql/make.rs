//! Statements that make objects, in an order in which each finds what it is made of.

use std::collections::{BTreeSet, HashMap};

use super::object::{ObjectName, literal, quoted};
use super::privilege::Class;
use super::state::{Object, Policy};
use crate::sql::{Dialect, several};

/// Brings objects into an order in which each finds what it is made of: classes as they are declared, and what reads or calls others
/// behind them. Names are looked for as words; who waits in a circle comes as if it did not wait.
pub(super) fn in_order<'a>(mut objects: Vec<(&'a ObjectName, &'a Object)>) -> Vec<(&'a ObjectName, &'a Object)> {
    let has_parsed = |object: &Object| object.body.as_deref().is_some_and(is_parsed);
    let rank = |class: Class, object: &Object| match class {
        Class::View | Class::MaterialisedView => 2,
        Class::Function | Class::Procedure if has_parsed(object) => 2,
        Class::Function | Class::Procedure => 1,
        _ => 0,
    };
    objects.sort_by_key(|(name, object)| (rank(name.class, object), name.class));
    // Who waits for nobody but whom the order brings first anyway need not be looked for.
    let is_waited_for =
        |name: &ObjectName| matches!(name.class, Class::View | Class::MaterialisedView | Class::Type) || name.class.is_routine();
    let (mut plain, mut odd): (HashMap<&str, Vec<usize>>, Vec<usize>) = (HashMap::new(), Vec::new());
    for (at, (name, _)) in objects.iter().enumerate().filter(|(_, (name, _))| is_waited_for(name)) {
        match name.last().chars().all(is_of_word) {
            true => plain.entry(name.last()).or_default().push(at),
            false => odd.push(at),
        }
    }
    let mut waits_for: Vec<usize> = vec![0; objects.len()];
    let mut waiters: Vec<Vec<usize>> = vec![Vec::new(); objects.len()];
    for (at, (name, object)) in objects.iter().enumerate() {
        let texts = made_of(name, object);
        let words = texts.iter().flat_map(|text| text.split(|c| !is_of_word(c)));
        let named = words.filter_map(|word| plain.get(word)).flatten().copied();
        let oddly = odd.iter().copied().filter(|other| texts.iter().any(|text| text.contains(objects[*other].0.last())));
        let others: BTreeSet<usize> = named.chain(oddly).filter(|other| *other != at).collect();
        waits_for[at] = others.len();
        others.into_iter().for_each(|other| waiters[other].push(at));
    }
    let mut left: BTreeSet<usize> = (0..objects.len()).collect();
    let mut ready: BTreeSet<usize> = left.iter().copied().filter(|at| waits_for[*at] == 0).collect();
    let mut ordered = Vec::with_capacity(objects.len());
    while let Some(next) = ready.pop_first().or_else(|| left.first().copied()) {
        left.remove(&next);
        ordered.push(objects[next]);
        for waiter in waiters[next].iter().copied().filter(|waiter| left.contains(waiter)) {
            waits_for[waiter] -= 1;
            if waits_for[waiter] == 0 {
                ready.insert(waiter);
            }
        }
    }
    ordered
}

const fn is_of_word(c: char) -> bool {
    c.is_ascii_alphanumeric() || c == '_' || !c.is_ascii()
}

/// The texts that name what an object is made of.
fn made_of<'a>(name: &'a ObjectName, object: &'a Object) -> Vec<&'a str> {
    let Object { query, body, domain_of, columns, checks, parameters, returns, .. } = object;
    let body = body.iter().filter(|body| is_parsed(body));
    let checks = checks.values().filter(|_| name.class == Class::Type);
    let texts = query.iter().chain(body).chain(domain_of).chain(checks).chain(parameters).chain(returns).chain(&name.arguments);
    texts.map(String::as_str).chain(columns.iter().map(|column| column.data_type.as_str())).collect()
}

/// Writes a policy as a statement.
pub(super) fn policy_sql(name: &str, table: &str, policy: &Policy) -> String {
    let Policy { acts, to, using, check, restrictive } = policy;
    let how = if *restrictive { " AS RESTRICTIVE" } else { "" };
    let to = if to.is_empty() { "PUBLIC".to_owned() } else { to.iter().map(|role| quoted(role)).collect::<Vec<_>>().join(", ") };
    let using = using.as_ref().map_or(String::new(), |using| format!(" USING ({using})"));
    let check = check.as_ref().map_or(String::new(), |check| format!(" WITH CHECK ({check})"));
    format!("CREATE POLICY {} ON {table}{how} FOR {} TO {to}{using}{check}", quoted(name), acts.word().to_uppercase())
}

/// Writes a setting as the end of an ALTER: `SET name TO value`. A list keeps its quotes.
pub(super) fn setting_sql(setting: &str) -> String {
    let (name, value) = setting.split_once('=').unwrap_or((setting, ""));
    // The server keeps these as lists of names, each quoted where it needs it.
    let is_list = ["search_path", "temp_tablespaces", "session_preload_libraries", "local_preload_libraries"].contains(&name.trim());
    // An empty name is kept, but cannot be written as one.
    let item = |item: &str| if item.trim() == "\"\"" { "''".to_owned() } else { item.to_owned() };
    let value = match is_list && !value.trim().is_empty() {
        true => value.split(',').map(item).collect::<Vec<_>>().join(","),
        false => literal(value),
    };
    format!("SET {} TO {value}", quoted(name.trim()))
}

/// Whether a body was parsed by the server when the routine was made: it stands in the statement as it is.
pub(super) fn is_parsed(body: &str) -> bool {
    body.starts_with("BEGIN ATOMIC") || body.starts_with("RETURN ")
}

/// Writes what runs along with an object that was just made.
pub(super) fn along(name: &ObjectName, object: &Object) -> Vec<String> {
    let sql = name.sql();
    let check = |(check, condition): (&String, &String)| format!("ALTER TABLE {sql} ADD CONSTRAINT {} CHECK ({condition})", quoted(check));
    // Those of a domain are made with it: it cannot be changed any more where a row of it is a column.
    let mut list: Vec<String> = object.checks.iter().filter(|_| name.class != Class::Type).map(check).collect();
    for written in object.triggers.values().chain(object.rules.values()) {
        match several(Dialect::Postgresql, written) {
            Some(parts) => list.extend(parts.into_iter().map(str::to_owned)),
            None => list.push(written.trim_end().trim_end_matches(';').to_owned()),
        }
    }
    list
}

pub(super) fn create(name: &ObjectName, object: &Object) -> String {
    let sql = name.sql();
    let body = || match object.body.as_deref().unwrap_or("") {
        body if is_parsed(body) => body.to_owned(),
        body => format!("AS {}", literal(body)),
    };
    let routine = || match &object.parameters {
        Some(parameters) => format!("{}({parameters})", ObjectName { arguments: None, ..name.clone() }.sql()),
        None => sql.clone(),
    };
    let settings = || object.settings.iter().map(|setting| format!(" {}", setting_sql(setting))).collect::<String>();
    let language = || quoted(object.language.as_deref().unwrap_or("sql"));
    let security = if object.runs_as_owner { " SECURITY DEFINER" } else { "" };
    let query = || object.query.as_deref().unwrap_or("").trim().trim_end_matches(';').to_owned();
    match name.class {
        Class::Database => format!("CREATE DATABASE {sql}"),
        Class::Language => format!("CREATE LANGUAGE {sql}"),
        Class::Wrapper => format!("CREATE FOREIGN DATA WRAPPER {sql}"),
        Class::Server => format!("CREATE SERVER {sql} FOREIGN DATA WRAPPER {}", quoted(object.language.as_deref().unwrap_or(""))),
        Class::Schema => format!("CREATE SCHEMA {sql}"),
        Class::Type if object.domain_of.is_some() => {
            let check = |(check, condition): (&String, &String)| format!(" CONSTRAINT {} CHECK ({condition})", quoted(check));
            let checks = object.checks.iter().map(check).collect::<String>();
            format!("CREATE DOMAIN {sql} AS {}{checks}", object.domain_of.as_deref().unwrap_or(""))
        }
        Class::Type if !object.columns.is_empty() => {
            let columns = object.columns.iter().map(|c| format!("{} {}", quoted(&c.name), c.data_type));
            format!("CREATE TYPE {sql} AS ({})", columns.collect::<Vec<_>>().join(", "))
        }
        Class::Type => {
            let values = object.values.iter().map(|v| literal(v)).collect::<Vec<_>>().join(", ");
            format!("CREATE TYPE {sql} AS ENUM ({values})")
        }
        Class::Sequence => format!("CREATE SEQUENCE {sql}"),
        Class::Table => {
            let column = |c: &super::Column| {
                let default = c.default.as_ref().map_or(String::new(), |d| format!(" DEFAULT {d}"));
                format!("{} {}{default}", quoted(&c.name), c.data_type)
            };
            format!("CREATE TABLE {sql} ({})", object.columns.iter().map(column).collect::<Vec<_>>().join(", "))
        }
        Class::View => {
            let invoker = if object.runs_as_owner { "" } else { " WITH (security_invoker = true)" };
            format!("CREATE VIEW {sql}{invoker} AS {}", query())
        }
        Class::MaterialisedView => format!("CREATE MATERIALIZED VIEW {sql} AS {} WITH NO DATA", query()),
        Class::Function => {
            let returns = object.returns.as_deref().unwrap_or("void");
            format!("CREATE FUNCTION {} RETURNS {returns} LANGUAGE {}{security}{} {}", routine(), language(), settings(), body())
        }
        Class::Procedure => format!("CREATE PROCEDURE {} LANGUAGE {}{security}{} {}", routine(), language(), settings(), body()),
    }
}
