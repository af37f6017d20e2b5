//! Random PostgreSQL estates.

use fastrand::Rng;
use zest_ledger::postgresql::{Class, Column, DefaultKey, GrantChange, Grantee, Object, ObjectName, Privilege, Privileges, Role, State};

pub use super::along::statements;
use super::{ODD, along};

/// How large an estate is.
#[derive(Clone, Copy, Debug)]
pub struct Size {
    /// Roles, about a third of them with login.
    pub roles: usize,
    /// Tables; views, sequences, routines and types come in proportion.
    pub tables: usize,
    /// GRANT and REVOKE statements.
    pub grants: usize,
}

pub(super) fn pick<'a, T>(rng: &mut Rng, list: &'a [T]) -> &'a T {
    &list[rng.usize(..list.len())]
}

/// Makes an estate; `tag` keeps its role names apart from those of others on the same server.
#[must_use]
pub fn estate(rng: &mut Rng, database: &str, tag: &str, size: Size) -> State {
    let mut state = State::fresh(database, "postgres");
    let mut roles: Vec<String> = Vec::new();
    for i in 0..size.roles {
        let name = if rng.u8(..5) == 0 { format!("{} {tag}{i}", pick(rng, ODD)) } else { format!("{tag}role_{i}") };
        let mut role = Role {
            superuser: rng.u8(..25) == 0,
            inherit: rng.u8(..5) != 0,
            login: rng.u8(..3) != 0,
            create_role: rng.u8(..15) == 0,
            create_database: rng.u8(..15) == 0,
            connection_limit: if rng.u8(..8) == 0 { rng.i32(0..5) } else { -1 },
            ..Role::default()
        };
        for other in &roles {
            if rng.usize(..roles.len() + 2) < 2 {
                role.member_of.insert(other.clone(), rng.bool());
            }
        }
        for predefined in ["pg_read_all_data", "pg_write_all_data", "pg_monitor", "pg_database_owner"] {
            if predefined != "pg_database_owner" && rng.u8(..20) == 0 {
                role.member_of.insert(predefined.to_owned(), rng.u8(..4) == 0);
            }
        }
        state.roles.insert(name.clone(), role);
        roles.push(name);
    }
    if rng.bool() {
        let owner = pick(rng, &roles).clone();
        state.set_owner(&ObjectName::database(), &owner);
    }
    objects(rng, &mut state, &roles, size);
    along::what_runs_along(rng, &mut state, &roles);
    for _ in 0..size.grants {
        let change = random_change(rng, &state, &roles);
        let _ = state.change(&change);
    }
    for _ in 0..rng.usize(..4) {
        let class = *pick(rng, &[Class::Table, Class::Sequence, Class::Function, Class::Type, Class::Schema]);
        let schemas: Vec<String> = state.objects.keys().filter(|n| n.class == Class::Schema).map(|n| n.last().to_owned()).collect();
        let schema = (class != Class::Schema && rng.bool()).then(|| pick(rng, &schemas).clone());
        let revoke = schema.is_none() && rng.u8(..3) == 0;
        let key = DefaultKey { creator: pick(rng, &roles).clone(), schema, class };
        let grantee = random_grantee(rng, &roles);
        let _ = state.change_default(key, some_of(rng, class.applicable()), &grantee, rng.u8(..4) == 0, revoke, None);
    }
    state
}

fn objects(rng: &mut Rng, state: &mut State, roles: &[String], size: Size) {
    let mut schemas = vec!["public".to_owned()];
    for i in 0..1 + size.tables / 6 {
        let name = if rng.u8(..4) == 0 { format!("{} {i}", pick(rng, ODD)) } else { format!("space_{i}") };
        add(rng, state, roles, ObjectName::new(Class::Schema, &[&name]), Object::default());
        schemas.push(name);
    }
    let mut tables = Vec::new();
    for i in 0..size.tables {
        let name = if rng.u8(..6) == 0 { format!("{} {i}", pick(rng, ODD)) } else { format!("table_{i}") };
        let columns = ["id", "amount", "Odd Name"].iter().take(1 + rng.usize(..3));
        let columns = columns.map(|c| Column { name: (*c).to_owned(), data_type: "integer".to_owned(), ..Column::default() }).collect();
        let name = ObjectName::new(Class::Table, &[pick(rng, &schemas).as_str(), &name]);
        add(rng, state, roles, name.clone(), Object { columns, ..Object::default() });
        tables.push(name);
    }
    views(rng, state, roles, (&tables, &schemas), size);
    for i in 0..1 + size.tables / 4 {
        let name = ObjectName::new(Class::Sequence, &[pick(rng, &schemas).as_str(), &format!("number_{i}")]);
        add(rng, state, roles, name, Object::default());
        let kind = Object { values: vec!["calm".to_owned(), "o'wind".to_owned()], ..Object::default() };
        let name = ObjectName::new(Class::Type, &[pick(rng, &schemas).as_str(), &format!("type_{i}")]);
        add(rng, state, roles, name, kind);
        let mut name = ObjectName::new(Class::Function, &[pick(rng, &schemas).as_str(), &format!("function_{i}")]);
        name.arguments = Some((*pick(rng, &["", "integer", "integer, text"])).to_owned());
        let body = Object {
            returns: Some("integer".to_owned()),
            language: Some("sql".to_owned()),
            body: Some("select 1".to_owned()),
            runs_as_owner: rng.bool(),
            ..Object::default()
        };
        add(rng, state, roles, name, body);
        let mut name = ObjectName::new(Class::Procedure, &[pick(rng, &schemas).as_str(), &format!("procedure_{i}")]);
        name.arguments = Some(String::new());
        let body =
            Object { language: Some("sql".to_owned()), body: Some("select 1".to_owned()), runs_as_owner: rng.bool(), ..Object::default() };
        add(rng, state, roles, name, body);
    }
    add(rng, state, roles, ObjectName::new(Class::Wrapper, &["quay_wrapper"]), Object::default());
    let server = Object { language: Some("quay_wrapper".to_owned()), ..Object::default() };
    add(rng, state, roles, ObjectName::new(Class::Server, &["quay_server"]), server);
}

/// Adds views over tables and over each other, with conditions, checks of new rows and columns that read elsewhere.
fn views(rng: &mut Rng, state: &mut State, roles: &[String], (tables, schemas): (&[ObjectName], &[String]), size: Size) {
    let mut bases = tables.to_vec();
    for i in 0..size.tables / 2 {
        let base = if rng.bool() { pick(rng, &bases[tables.len() - 1..]) } else { pick(rng, tables) }.clone();
        let other = if rng.u8(..3) == 0 { base.clone() } else { pick(rng, &bases).clone() };
        let class = if rng.u8(..5) == 0 { Class::MaterialisedView } else { Class::View };
        let name = ObjectName::new(class, &[pick(rng, schemas).as_str(), &format!("view_{i}")]);
        let (base, other) = (base.sql(), other.sql());
        let mut columns = vec![Column { name: "id".to_owned(), ..Column::default() }];
        let second = match rng.u8(..4) {
            0 => format!(", (SELECT max(o.id) FROM {other} o) AS n"),
            1 => ", b.id + 1 AS n".to_owned(),
            _ => String::new(),
        };
        columns.extend((!second.is_empty()).then(|| Column { name: "n".to_owned(), ..Column::default() }));
        let condition = match rng.u8(..5) {
            0 => " WHERE b.id > 0".to_owned(),
            1 => format!(" WHERE EXISTS (SELECT FROM {other})"),
            2 => format!(" WHERE b.id IN (SELECT o.id FROM {other} o WHERE o.id > b.id)"),
            _ => String::new(),
        };
        let check = match rng.u8(..3) {
            _ if class != Class::View => "",
            0 => " WITH LOCAL CHECK OPTION",
            1 => " WITH CASCADED CHECK OPTION",
            _ => "",
        };
        let query = Some(format!("SELECT b.id{second} FROM {base} b{condition}{check}"));
        let settings = if class == Class::View && rng.u8(..5) == 0 { vec!["security_barrier=true".to_owned()] } else { Vec::new() };
        let runs_as_owner = class == Class::View && rng.u8(..3) != 0;
        add(rng, state, roles, name.clone(), Object { columns, query, settings, runs_as_owner, ..Object::default() });
        if class == Class::View {
            bases.push(name);
        }
    }
}

pub(super) fn add(rng: &mut Rng, state: &mut State, roles: &[String], name: ObjectName, mut object: Object) {
    let may_own = |role: &String| name.class != Class::Wrapper || state.is_superuser(role);
    let candidates: Vec<&String> = roles.iter().filter(|r| may_own(r)).collect();
    object.owner = if candidates.is_empty() || rng.u8(..6) == 0 { "postgres".to_owned() } else { (*pick(rng, &candidates)).clone() };
    object.acl = zest_ledger::postgresql::Acl::default_for(name.class, &object.owner);
    state.objects.insert(name, object);
}

fn some_of(rng: &mut Rng, all: Privileges) -> Privileges {
    let list: Vec<Privilege> = all.iter().collect();
    if rng.u8(..5) == 0 {
        return all;
    }
    (0..1 + rng.usize(..3)).map(|_| *pick(rng, &list)).collect()
}

fn random_grantee(rng: &mut Rng, roles: &[String]) -> Grantee {
    if rng.u8(..8) == 0 { Grantee::Public } else { Grantee::Role(pick(rng, roles).clone()) }
}

/// Makes a GRANT or REVOKE that somebody may or may not be entitled to.
#[must_use]
pub fn random_change(rng: &mut Rng, state: &State, roles: &[String]) -> GrantChange {
    let names: Vec<&ObjectName> = state.objects.keys().collect();
    let object = (*pick(rng, &names)).clone();
    let entry = &state.objects[&object];
    let of_column = object.class.has_columns() && !entry.columns.is_empty() && rng.u8(..4) == 0;
    let on_columns = [Privilege::Select, Privilege::Insert, Privilege::Update, Privilege::References].into_iter().collect();
    let revoke = rng.u8(..4) == 0;
    // Those who hold something make better grantors than anybody.
    let holders: Vec<String> = entry
        .acl
        .iter()
        .filter_map(|(g, _, h)| if let Grantee::Role(r) = g { (!h.options.is_empty()).then(|| r.clone()) } else { None })
        .collect();
    let by = match rng.u8(..4) {
        0 | 1 => None,
        2 if !holders.is_empty() => Some(pick(rng, &holders).clone()),
        _ => Some(pick(rng, roles).clone()),
    };
    GrantChange {
        columns: if of_column { vec![pick(rng, &entry.columns).name.clone()] } else { Vec::new() },
        privileges: some_of(rng, if of_column { on_columns } else { object.class.applicable() }),
        object,
        grantee: random_grantee(rng, roles),
        regrant: rng.u8(..3) == 0,
        by,
        revoke,
        cascade: revoke && rng.bool(),
        place: None,
    }
}
