//! Statements that make objects, in an order in which each finds what it is made of.

use super::object::{ObjectName, literal, quoted};
use super::privilege::Class;
use super::state::{Object, Policy};
use crate::database::order::{self, MadeOf};
use crate::sql::{Dialect, several};

/// Brings objects into an order in which each finds what it is made of: classes as they are declared, what reads or calls others behind.
pub(super) fn in_order<'a>(mut objects: Vec<(&'a ObjectName, &'a Object)>) -> Vec<(&'a ObjectName, &'a Object)> {
    let has_parsed = |object: &Object| object.body.as_deref().is_some_and(is_parsed);
    let rank = |class: Class, object: &Object| match class {
        Class::View | Class::MaterialisedView => 2,
        Class::Function | Class::Procedure if has_parsed(object) => 2,
        Class::Function | Class::Procedure => 1,
        _ => 0,
    };
    objects.sort_by_key(|(name, object)| (rank(name.class, object), name.class));
    let made_of: Vec<MadeOf<'_>> =
        objects.iter().map(|(name, object)| (name.last(), made_of(name, object), added_later(name, object))).collect();
    order::in_order(&made_of).into_iter().map(|at| objects[at]).collect()
}

/// The texts that name what an object is made of.
fn made_of<'a>(name: &'a ObjectName, object: &'a Object) -> Vec<&'a str> {
    let Object { query, body, domain_of, columns, parameters, returns, .. } = object;
    let body = body.iter().filter(|body| is_parsed(body));
    let texts = query.iter().chain(body).chain(domain_of).chain(parameters).chain(returns).chain(&name.arguments);
    texts.map(String::as_str).chain(columns.iter().map(|column| column.data_type.as_str())).collect()
}

/// The checks of a domain are made with it where they can be.
fn added_later<'a>(name: &ObjectName, object: &'a Object) -> Vec<&'a str> {
    object.checks.values().filter(|_| name.class == Class::Type).map(String::as_str).collect()
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
            let invoker = (!object.runs_as_owner).then(|| "security_invoker=true".to_owned());
            let options: Vec<String> = invoker.into_iter().chain(object.settings.iter().cloned()).collect();
            let options = if options.is_empty() { String::new() } else { format!(" WITH ({})", options.join(", ")) };
            format!("CREATE VIEW {sql}{options} AS {}", query())
        }
        Class::MaterialisedView => format!("CREATE MATERIALIZED VIEW {sql} AS {} WITH NO DATA", query()),
        Class::Function => {
            let returns = object.returns.as_deref().unwrap_or("void");
            format!("CREATE FUNCTION {} RETURNS {returns} LANGUAGE {}{security}{} {}", routine(), language(), settings(), body())
        }
        Class::Procedure => format!("CREATE PROCEDURE {} LANGUAGE {}{security}{} {}", routine(), language(), settings(), body()),
    }
}
