//! Random MariaDB estates.

use fastrand::Rng;
use zest_ledger::mariadb::{
    Account, AccountName, Class, Event, GrantChange, Holder, Level, Object, ObjectName, Privilege, Privileges, Scope, State, Trigger,
    quoted,
};

use super::ODD;

/// How large an estate is.
#[derive(Clone, Copy, Debug)]
pub struct Size {
    /// Logins; each has one to three accounts.
    pub logins: usize,
    /// Roles.
    pub roles: usize,
    /// Tables, over a handful of databases.
    pub tables: usize,
    /// GRANT and REVOKE statements.
    pub grants: usize,
}

/// Origin patterns that fit the loopback addresses of the tests, and some that do not.
const HOSTS: &[&str] = &[
    "127.0.0.1",
    "127.0.0.2",
    "127.0.1.1",
    "127.0.0.%",
    "127.0.%",
    "%",
    "localhost",
    "127.0.0._",
    "127.0.0.0/255.255.255.0",
    "192.0.2.%",
    "127.%.1",
];

fn pick<'a, T>(rng: &mut Rng, list: &'a [T]) -> &'a T {
    &list[rng.usize(..list.len())]
}

/// Makes an estate.
#[must_use]
pub fn estate(rng: &mut Rng, size: Size) -> State {
    let mut state = State::fresh();
    let root = Holder::Account(AccountName::new("root", "localhost"));
    let mut roles = Vec::new();
    for i in 0..size.roles {
        let name = if rng.u8(..5) == 0 { format!("{} {i}", pick(rng, ODD)) } else { format!("role_{i}") };
        state.roles.insert(name.clone());
        state.memberships.insert((root.clone(), name.clone()), true);
        for other in &roles {
            if rng.u8(..4) == 0 {
                state.memberships.insert((Holder::Role(name.clone()), String::clone(other)), rng.u8(..4) == 0);
            }
        }
        roles.push(name);
    }
    let mut logins: Vec<String> =
        (0..size.logins).map(|i| if rng.u8(..6) == 0 { format!("{} {i}", pick(rng, ODD)) } else { format!("login_{i}") }).collect();
    if rng.bool() {
        logins.push(String::new());
    }
    for login in &logins {
        // An address and a network are equally special, and which of the two the server takes is chance.
        let by_network = rng.u8(..4) == 0;
        for _ in 0..1 + rng.usize(..3) {
            let hosts: Vec<&str> =
                HOSTS.iter().copied().filter(|h| if by_network { h.contains(['%', '/', '_']) } else { !h.contains('/') }).collect();
            let name = AccountName::new(login, hosts[rng.usize(..hosts.len())]);
            let holder = Holder::Account(name.clone());
            let mut account = Account { locked: rng.u8(..20) == 0, ..Account::default() };
            for role in &roles {
                // An anonymous account cannot hold roles.
                if !login.is_empty() && rng.u8(..3) == 0 {
                    state.memberships.insert((holder.clone(), role.clone()), rng.u8(..4) == 0);
                    if account.default_role.is_none() && rng.bool() {
                        account.default_role = Some(role.clone());
                    }
                }
            }
            if rng.u8(..6) == 0 {
                account.limits.insert((*pick(rng, &["queries", "updates", "connections", "sessions"])).to_owned(), 100_000 + rng.u32(..9));
            }
            state.accounts.entry(name).or_insert(account);
        }
    }
    let databases: Vec<String> =
        ["loyalty", "loyal_club", "loyalXclub", "Piers"].iter().take(2 + rng.usize(..3)).map(|s| (*s).to_owned()).collect();
    state.databases.extend(databases.iter().cloned());
    for i in 0..size.tables {
        let name = if rng.u8(..8) == 0 { format!("odd {i} tab'le") } else { format!("table_{i}") };
        let columns = [("id", "int(11)"), ("points", "int(11)"), ("Odd Name", "text")].iter().take(1 + rng.usize(..3));
        let columns = columns.map(|(n, t)| ((*n).to_owned(), (*t).to_owned())).collect();
        state.objects.insert(ObjectName::new(Class::Table, pick(rng, &databases).as_str(), &name), Object { columns, ..Object::default() });
    }
    let tables: Vec<ObjectName> = state.objects.keys().cloned().collect();
    let accounts: Vec<AccountName> = state.accounts.keys().filter(|a| !a.user.is_empty()).cloned().collect();
    for i in 0..size.tables / 4 {
        let base = pick(rng, &tables).clone();
        let view = Object {
            definer: Some(pick(rng, &accounts).clone()),
            runs_as_owner: rng.bool(),
            columns: vec![("id".to_owned(), String::new())],
            query: Some(format!("SELECT `id` FROM {}", base.sql())),
            ..Object::default()
        };
        state.objects.insert(ObjectName::new(Class::View, pick(rng, &databases).as_str(), &format!("view_{i}")), view);
        let over = ObjectName::new(Class::View, pick(rng, &databases).as_str(), &format!("over_{i}"));
        let below = state.objects.keys().rfind(|name| name.class == Class::View).cloned().unwrap_or_else(|| base.clone());
        let outer = Object {
            definer: Some(pick(rng, &accounts).clone()),
            runs_as_owner: rng.bool(),
            columns: vec![("id".to_owned(), String::new())],
            query: Some(format!("SELECT `id` FROM {}", below.sql())),
            ..Object::default()
        };
        state.objects.insert(over, outer);
        let definer = if rng.bool() { AccountName::new("root", "localhost") } else { pick(rng, &accounts).clone() };
        let counted = format!("SELECT count(*) FROM {}", pick(rng, &tables).sql());
        let routine = Object {
            definer: Some(definer),
            runs_as_owner: rng.bool(),
            parameters: Some(String::new()),
            returns: Some("int(11)".to_owned()),
            body: Some(if rng.bool() { "RETURN 1".to_owned() } else { format!("RETURN ({counted})") }),
            ..Object::default()
        };
        state.objects.insert(ObjectName::new(Class::Function, pick(rng, &databases).as_str(), &format!("function_{i}")), routine.clone());
        let body = Some(match rng.u8(..4) {
            0 => "BEGIN END".to_owned(),
            1 => format!("BEGIN DECLARE n int DEFAULT 0; WHILE n < 1 DO SET n = n + 1; END WHILE; SELECT ({counted}) INTO n; END"),
            2 => format!("BEGIN IF ({counted}) > 900 THEN SELECT 1; ELSE BEGIN DECLARE id int; SELECT id; END; END IF; END"),
            _ => counted,
        });
        state.objects.insert(
            ObjectName::new(Class::Procedure, pick(rng, &databases).as_str(), &format!("procedure_{i}")),
            Object { returns: None, body, ..routine },
        );
    }
    for (i, table) in tables.iter().enumerate() {
        if rng.u8(..4) == 0 {
            let other = pick(rng, &tables);
            let trigger = random_trigger(rng, &state, table, other, &accounts);
            if let Some(entry) = state.objects.get_mut(table) {
                let first = format!("tells_{i}");
                entry.triggers.insert(first.clone(), trigger.clone());
                if rng.bool() {
                    entry.triggers.insert(format!("also tells {i}"), Trigger { follows: Some(first), ..trigger });
                }
            }
        }
    }
    for _ in 0..size.grants {
        let change = random_change(rng, &state);
        state.change(&change);
    }
    state
}

/// Makes a trigger that looks at its row, and at another table or not.
fn random_trigger(rng: &mut Rng, state: &State, table: &ObjectName, other: &ObjectName, accounts: &[AccountName]) -> Trigger {
    let root = AccountName::new("root", "localhost");
    let definer = if accounts.is_empty() || rng.bool() { root } else { pick(rng, accounts).clone() };
    let event = *pick(rng, &[Event::Insert, Event::Update, Event::Delete]);
    let row = if event == Event::Delete { "OLD" } else { "NEW" };
    let column = state.objects[table].columns.first().map_or_else(String::new, |(column, _)| quoted(column));
    let is_before = rng.bool();
    let body = match rng.u8(..4) {
        0 if is_before && event != Event::Delete => format!("SET NEW.{column} = NEW.{column}"),
        1 => format!("BEGIN DECLARE n int; SELECT count(*) INTO n FROM {}; END", other.sql()),
        2 => format!("BEGIN IF {row}.{column} > 900 THEN SET @n = (SELECT count(*) FROM {}); END IF; END", other.sql()),
        _ => format!("SET @n = {row}.{column}"),
    };
    Trigger { definer, is_before, event, follows: None, body }
}

fn some_of(rng: &mut Rng, all: Privileges) -> Privileges {
    let list: Vec<Privilege> = all.iter().collect();
    (0..1 + rng.usize(..4)).map(|_| *pick(rng, &list)).collect()
}

/// Makes a GRANT or REVOKE.
#[must_use]
pub fn random_change(rng: &mut Rng, state: &State) -> GrantChange {
    let accounts: Vec<&AccountName> = state.accounts.keys().filter(|a| a.user != "root").collect();
    let roles: Vec<&String> = state.roles.iter().collect();
    let holder = match rng.u8(..10) {
        0 => Holder::Public,
        1..=3 if !roles.is_empty() => Holder::Role((*pick(rng, &roles)).clone()),
        _ if !accounts.is_empty() => Holder::Account((*pick(rng, &accounts)).clone()),
        _ => Holder::Public,
    };
    let objects: Vec<(&ObjectName, &Object)> = state.objects.iter().collect();
    let databases: Vec<&String> = state.databases.iter().collect();
    let (name, object) = pick(rng, &objects);
    let everyday: Privileges =
        [Privilege::Select, Privilege::Insert, Privilege::Update, Privilege::Delete, Privilege::Create, Privilege::Drop]
            .into_iter()
            .collect();
    let (scope, level, mut columns) = match rng.u8(..10) {
        0 => (Scope::Everything, Level::Global, Vec::new()),
        1..=3 => {
            let scope = match rng.u8(..5) {
                0 => Scope::Databases("loyal%".to_owned()),
                1 => Scope::Databases("loyal_club".to_owned()),
                2 => Scope::Databases("%".to_owned()),
                _ => Scope::database(databases[rng.usize(..databases.len())]),
            };
            (scope, Level::Database, Vec::new())
        }
        // On columns of views the server looks at the definer as well, who may lack rights here.
        4 | 5 if name.class == Class::Table => (Scope::of(name), Level::Column, vec![pick(rng, &object.columns).0.clone()]),
        // The server writes names outside ASCII wrongly into its table of grants on routines (10.11.19).
        _ if name.class.is_routine() && !holder.to_string().is_ascii() => (Scope::Everything, Level::Global, Vec::new()),
        _ if name.class.is_routine() => (Scope::of(name), Level::Routine, Vec::new()),
        _ => (Scope::of(name), Level::Table, Vec::new()),
    };
    let mut privileges = if level == Level::Column { some_of(rng, Level::Column.applicable()) } else { some_of(rng, level.applicable()) };
    if matches!(level, Level::Database | Level::Table) && rng.bool() {
        privileges = some_of(rng, everyday);
    }
    if level == Level::Global {
        privileges = some_of(rng, Level::Database.applicable());
        if rng.bool() {
            privileges = Privilege::ShowDatabases.only();
        }
    }
    // PUBLIC and roles take no grant option here: the server keeps it, but nobody can use it without a session.
    if holder == Holder::Public {
        privileges = privileges.without(Privilege::GrantOption.only());
    }
    if privileges.is_empty() {
        privileges = Privilege::Select.only();
        if level == Level::Routine {
            privileges = Privilege::Execute.only();
            columns.clear();
        }
    }
    GrantChange { scope, columns, privileges, holder, revoke: rng.u8(..5) == 0, place: None }
}
