//! What runs along with statements on random PostgreSQL estates: policies, rules, triggers, checks, defaults, domains, settings, bodies.

use std::collections::BTreeMap;

use fastrand::Rng;
use zest_ledger::entry::PolicyFor;
use zest_ledger::postgresql::{Class, Object, ObjectName, Policy, State, quoted};

use super::postgresql::{add, pick};

/// Writes a name as the server prints it.
fn shown(name: &str) -> String {
    let is_plain = name.chars().all(|c| c.is_ascii_lowercase() || c.is_ascii_digit() || c == '_') && name != "select";
    if is_plain { name.to_owned() } else { quoted(name) }
}

fn path(name: &ObjectName) -> String {
    format!("{}.{}", shown(name.schema().unwrap_or("public")), shown(name.last()))
}

fn of_class(state: &State, class: Class) -> Vec<ObjectName> {
    state.objects.keys().filter(|name| name.class == class).cloned().collect()
}

/// Adds to the objects that are there what runs along with their use.
pub(super) fn what_runs_along(rng: &mut Rng, state: &mut State, roles: &[String]) {
    let tables = of_class(state, Class::Table);
    let schemas: Vec<String> = of_class(state, Class::Schema).iter().map(|name| name.last().to_owned()).collect();
    bodies(rng, state, &tables, &schemas);
    let calls: Vec<String> = of_class(state, Class::Function)
        .into_iter()
        .filter(|name| name.arguments.as_deref() == Some(""))
        .map(|name| format!("{}()", path(&name)))
        .collect();
    let domains = domains(rng, state, roles, &schemas, &calls);
    let made = ObjectName { arguments: Some(String::new()), ..ObjectName::new(Class::Function, &[pick(rng, &schemas).as_str(), "made"]) };
    let body = Object {
        returns: Some("trigger".to_owned()),
        language: Some("plpgsql".to_owned()),
        body: Some("begin return new; end".to_owned()),
        ..Object::default()
    };
    add(rng, state, roles, made.clone(), body);
    for name in &tables {
        if rng.bool() {
            continue;
        }
        let other = pick(rng, &tables).clone();
        let condition = |rng: &mut Rng| match rng.u8(..6) {
            0 => "true".to_owned(),
            1 => "false".to_owned(),
            2 => "(id > 0)".to_owned(),
            3 if !calls.is_empty() => format!("({} = 1)", pick(rng, &calls)),
            4 if other != *name => format!("(id IN ( SELECT o.id FROM {} o))", path(&other)),
            _ => "(CURRENT_USER = 'nobody'::name)".to_owned(),
        };
        let shown_name = path(name);
        let Some(entry) = state.objects.get_mut(name) else { continue };
        if rng.u8(..3) == 0 {
            entry.row_security = true;
            entry.row_security_for_owner = rng.u8(..3) == 0;
            let policies = (0..rng.usize(..4)).map(|i| (format!("policy {i}"), policy(rng, roles, condition)));
            entry.policies = Some(policies.collect());
        }
        if rng.u8(..4) == 0 {
            let event = *pick(rng, &["INSERT", "DELETE", "UPDATE", "UPDATE OF id", "INSERT OR DELETE"]);
            let function = if rng.bool() { format!("{}()", path(&made)) } else { "suppress_redundant_updates_trigger()".to_owned() };
            let event = if function.starts_with("suppress") { "UPDATE" } else { event };
            let off = if rng.u8(..4) == 0 { format!("; ALTER TABLE {shown_name} DISABLE TRIGGER tells") } else { String::new() };
            let made = format!("CREATE TRIGGER tells BEFORE {event} ON {shown_name} FOR EACH ROW EXECUTE FUNCTION {function}{off}");
            entry.triggers = BTreeMap::from([("tells".to_owned(), made)]);
        }
        if rng.u8(..4) == 0 && other != *name {
            let made = match rng.u8(..4) {
                0 => format!("CREATE RULE acts AS ON DELETE TO {shown_name} DO INSTEAD NOTHING;"),
                1 => format!(
                    "CREATE RULE acts AS ON UPDATE TO {shown_name} DO DELETE FROM {o} WHERE ({l}.id = old.id);",
                    o = path(&other),
                    l = shown(other.last())
                ),
                _ => format!("CREATE RULE acts AS ON INSERT TO {shown_name} DO INSERT INTO {} (id) VALUES (new.id);", path(&other)),
            };
            entry.rules = BTreeMap::from([("acts".to_owned(), made)]);
        }
        if rng.u8(..4) == 0 && !calls.is_empty() {
            entry.checks = BTreeMap::from([("holds".to_owned(), format!("({} > 0)", pick(rng, &calls)))]);
        }
        let Some(column) = entry.columns.get_mut(1) else { continue };
        match rng.u8(..4) {
            0 if !calls.is_empty() => column.default = Some(pick(rng, &calls).clone()),
            1 if !domains.is_empty() => column.data_type = path(pick(rng, &domains)),
            _ => {}
        }
    }
    if rng.u8(..3) == 0 {
        state.settings = vec![format!("search_path={}", shown(pick(rng, &schemas).as_str()))];
    }
    for role in roles {
        if rng.u8(..5) == 0 {
            let setting = *pick(rng, &["search_path=\"$user\", public", "search_path=space_0", "row_security=on"]);
            if let Some(role) = state.roles.get_mut(role) {
                role.settings = vec![setting.to_owned()];
            }
        }
    }
}

fn policy(rng: &mut Rng, roles: &[String], condition: impl Fn(&mut Rng) -> String) -> Policy {
    let acts = *pick(rng, &[PolicyFor::All, PolicyFor::All, PolicyFor::Select, PolicyFor::Insert, PolicyFor::Update, PolicyFor::Delete]);
    let has_check = !matches!(acts, PolicyFor::Select | PolicyFor::Delete);
    Policy {
        acts,
        to: (0..rng.usize(..3)).map(|_| pick(rng, roles).clone()).collect(),
        using: (acts != PolicyFor::Insert).then(|| condition(rng)),
        check: (acts == PolicyFor::Insert || has_check && rng.bool()).then(|| condition(rng)),
        restrictive: rng.u8(..4) == 0,
    }
}

/// Gives some routines a body that reads, a path, or one that is parsed when it is made.
fn bodies(rng: &mut Rng, state: &mut State, tables: &[ObjectName], schemas: &[String]) {
    for name in of_class(state, Class::Function) {
        let Some(entry) = state.objects.get_mut(&name) else { continue };
        let base = pick(rng, tables);
        match rng.u8(..5) {
            0 => entry.body = Some(format!("select count(*)::integer from {}", base.sql())),
            1 => entry.body = Some("RETURN 1".to_owned()),
            2 => {
                let (from, last) = (path(base), shown(base.last()));
                entry.body = Some(format!("BEGIN ATOMIC SELECT {last}.id FROM {from}; END"));
            }
            3 => {
                entry.settings = vec![format!("search_path={}", shown(pick(rng, schemas).as_str()))];
                entry.body = Some(format!("select count(*)::integer from {}", shown(base.last())));
            }
            _ => {}
        }
    }
}

/// Makes domains, each over a number or over the one before it.
fn domains(rng: &mut Rng, state: &mut State, roles: &[String], schemas: &[String], calls: &[String]) -> Vec<ObjectName> {
    let mut list: Vec<ObjectName> = Vec::new();
    for i in 0..rng.usize(..4) {
        let base = list.last().filter(|_| rng.bool()).map_or("integer".to_owned(), path);
        // The server takes a domain for the number that it is made of before it compares.
        let value = if base == "integer" { "VALUE" } else { "(VALUE)::integer" };
        let check = match calls {
            [] => format!("({value} > 0)"),
            calls => format!("(({value} > 0) AND ({} = 1))", pick(rng, calls)),
        };
        let checks = if rng.bool() { BTreeMap::from([("holds".to_owned(), check)]) } else { BTreeMap::new() };
        let name = ObjectName::new(Class::Type, &[pick(rng, schemas).as_str(), &format!("domain_{i}")]);
        add(rng, state, roles, name.clone(), Object { domain_of: Some(base), checks, ..Object::default() });
        list.push(name);
    }
    list
}

/// Statements that use what is there, in most of the ways in which rows are used.
#[must_use]
pub fn statements(state: &State) -> Vec<String> {
    let mut list = Vec::new();
    for (name, object) in &state.objects {
        let sql = name.sql();
        match name.class {
            Class::Table => {
                let Some(first) = object.columns.first() else { continue };
                let (column, value) = (quoted(&first.name), if first.data_type == "integer" { "1" } else { "NULL" });
                list.extend([
                    format!("SELECT {column} FROM {sql}"),
                    format!("SELECT 1 FROM {sql} FOR UPDATE"),
                    format!("INSERT INTO {sql} ({column}) VALUES ({value})"),
                    format!("INSERT INTO {sql} DEFAULT VALUES"),
                    format!("INSERT INTO {sql} ({column}) VALUES ({value}) RETURNING {column}"),
                    format!("INSERT INTO {sql} ({column}) VALUES ({value}) ON CONFLICT DO NOTHING"),
                    format!("UPDATE {sql} SET {column} = {value}"),
                    format!("UPDATE {sql} SET {column} = {value} WHERE {column} IS NOT NULL"),
                    format!("DELETE FROM {sql}"),
                    format!("DELETE FROM {sql} WHERE {column} IS NULL"),
                    format!("TRUNCATE {sql}"),
                ]);
                let operators = state.not_modelled.iter().filter_map(|note| note.strip_prefix("operator ")?.split(' ').next());
                list.extend(operators.map(|sign| format!("SELECT {column} FROM {sql} WHERE {column} {sign} 1")));
                if value == "1" {
                    list.push(format!(
                        "MERGE INTO {sql} t USING (SELECT 7 AS id) s ON s.id = t.{column} WHEN NOT MATCHED THEN INSERT ({column}) VALUES (1)"
                    ));
                }
                if let Some(second) = object.columns.get(1).map(|second| quoted(&second.name)) {
                    list.push(format!("UPDATE {sql} SET {second} = DEFAULT"));
                    list.push(format!("INSERT INTO {sql} ({column}, {second}) VALUES ({value}, NULL)"));
                }
            }
            Class::View => {
                let Some(column) = object.columns.first().map(|first| quoted(&first.name)) else { continue };
                list.extend([
                    format!("SELECT {column} FROM {sql}"),
                    format!("SELECT 1 FROM {sql} FOR UPDATE"),
                    format!("SELECT {column} FROM {sql} a WHERE EXISTS (SELECT * FROM {sql})"),
                    format!("INSERT INTO {sql} ({column}) VALUES (NULL)"),
                    format!("INSERT INTO {sql} ({column}) SELECT 1 RETURNING {column}"),
                    format!("UPDATE {sql} SET {column} = NULL"),
                    format!("UPDATE {sql} SET {column} = NULL WHERE {column} IS NULL"),
                    format!("DELETE FROM {sql}"),
                    format!("DELETE FROM {sql} WHERE {column} IS NULL"),
                    format!("LOCK TABLE {sql} IN SHARE MODE"),
                ]);
            }
            Class::MaterialisedView => list.push(format!("SELECT 1 FROM {sql}")),
            Class::Function if object.returns.as_deref() == Some("integer") => {
                let arguments = match name.arguments.as_deref() {
                    Some("") | None => "",
                    Some("integer") => "1",
                    Some(_) => "1, 'x'",
                };
                let call = ObjectName { arguments: None, ..name.clone() };
                list.push(format!("SELECT {}({arguments})", call.sql()));
            }
            Class::Procedure => list.push(format!("CALL {sql}")),
            Class::Sequence => list.push(format!("SELECT nextval('{}')", sql.replace('\'', "''"))),
            Class::Type if object.domain_of.is_some() => list.push(format!("SELECT 1::{sql}")),
            Class::Function | Class::Type | Class::Schema | Class::Database | Class::Language | Class::Wrapper | Class::Server => {}
        }
    }
    list
}
