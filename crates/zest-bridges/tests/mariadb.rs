//! MariaDB 10.11 is the judge: everything is emitted, applied, read back, and tried in real sessions from several origins.

use std::net::{IpAddr, SocketAddr};

use fastrand::Rng;
use mysql::prelude::Queryable;
use mysql::{Conn, OptsBuilder};
use zest_bridges::mariadb::{Session, Target};
use zest_ledger::ask::Stage;
use zest_ledger::mariadb::{
    AccountName, Class, GrantChange, Holder, Object, ObjectName, Origin, Said, State, View, literal, quoted, say, script,
};
use zest_ledger::review::Sought;
use zest_ledger::ways::Aim;
use zest_ledger::{Engine, Ledger, Question};
use zest_testkit::databases::mariadb::{Size, estate, random_change};
use zest_testkit::servers::{self, Server};

use crate::support::{Counts, estates, seed, wanted_checks, way_to};

/// The superuser, over the server's own socket.
pub(crate) fn target(server: &Server) -> Target {
    Target {
        host: server.folder.join("socket").display().to_string(),
        port: 0,
        user: "root".to_owned(),
        password: None,
        encryption: zest_bridges::Encryption::default(),
    }
}

pub(crate) fn open(server: &Server) -> Session {
    Session::open(&target(server)).expect("the server of the test answers")
}

pub(crate) fn root() -> AccountName {
    AccountName::new("root", "localhost")
}

/// Takes everything away that a fresh server does not have.
pub(crate) fn clean(session: &mut Session) {
    let state = session.read().expect("reads");
    for database in &state.databases {
        session.client().query_drop(format!("DROP DATABASE {}", quoted(database))).expect("it can be dropped");
    }
    for account in state.accounts.keys().filter(|a| **a != root()) {
        session.client().query_drop(format!("DROP USER {}", account.sql())).expect("it can be dropped");
    }
    for role in &state.roles {
        session.client().query_drop(format!("DROP ROLE {}", quoted(role))).expect("it can be dropped");
    }
    // What PUBLIC holds stays behind; it is taken back grant by grant.
    let left = session.read().expect("reads");
    for step in left.steps_to(&State::fresh(), &root()) {
        session.client().query_drop(&step.sql).unwrap_or_else(|e| panic!("{}: {e}", step.sql));
    }
}

/// Opens an ordinary session, over the socket or from an address; the text is the server's refusal.
pub(crate) fn connect(server: &Server, login: &str, origin: &Origin) -> Result<Conn, String> {
    // What is stated is not asked for: a trip to the server less.
    let options = OptsBuilder::new().user(Some(login)).prefer_socket(false).max_allowed_packet(Some(1 << 24));
    let options = match origin {
        Origin::Local => options.socket(Some(server.folder.join("socket").display().to_string())),
        Origin::Address(address) => {
            let bind = SocketAddr::new(*address, 0);
            options.ip_or_hostname(Some("127.0.0.1")).tcp_port(server.port).bind_address(Some(bind))
        }
    };
    Conn::new(options).map_err(|e| e.to_string())
}

pub(crate) fn origins() -> Vec<Origin> {
    let address = |text: &str| Origin::Address(text.parse::<IpAddr>().expect("an address"));
    vec![Origin::Local, address("127.0.0.1"), address("127.0.0.2"), address("127.0.1.1")]
}

/// Whether an error is a refusal, and the object that it names.
pub(crate) fn refusal(error: &mysql::Error) -> Option<(u16, String)> {
    match error {
        mysql::Error::MySqlError(e)
            if matches!(e.code, 1044 | 1045 | 1141 | 1142 | 1143 | 1227 | 1345 | 1356 | 1370 | 1410 | 1698 | 1959 | 1961 | 4151) =>
        {
            Some((e.code, e.message.clone()))
        }
        _ => None,
    }
}

/// Statements that do no harm, whatever they are allowed to do.
pub(crate) fn statements(name: &ObjectName, columns: &[(String, String)]) -> Vec<(&'static str, String)> {
    let table = name.sql();
    match name.class {
        Class::Function => vec![("SELECT of a function", format!("SELECT {table}()"))],
        Class::Procedure => vec![("CALL", format!("CALL {table}()"))],
        Class::View => vec![("SELECT through a view", format!("SELECT `id` FROM {table}"))],
        Class::Table => {
            let (first, last) = (quoted(&columns[0].0), quoted(&columns[columns.len() - 1].0));
            let mut list = vec![
                ("SELECT *", format!("SELECT * FROM {table}")),
                ("SELECT count(*)", format!("SELECT count(*) FROM {table}")),
                ("INSERT of columns", format!("INSERT INTO {table} ({last}) VALUES (NULL)")),
                ("INSERT", format!("INSERT INTO {table} SELECT {}", vec!["NULL"; columns.len()].join(", "))),
                ("UPDATE", format!("UPDATE {table} SET {first} = NULL")),
                ("UPDATE that reads", format!("UPDATE {table} SET {first} = NULL WHERE {last} = 1")),
                ("DELETE", format!("DELETE FROM {table}")),
                ("DELETE that reads", format!("DELETE FROM {table} WHERE {last} = 1")),
                ("REPLACE", format!("REPLACE INTO {table} ({first}) VALUES (NULL)")),
                ("INSERT with UPDATE", format!("INSERT INTO {table} ({first}) VALUES (NULL) ON DUPLICATE KEY UPDATE {last} = NULL")),
                ("CREATE TABLE", format!("CREATE TABLE {table} (id int)")),
                ("TRUNCATE", format!("TRUNCATE TABLE {table}")),
            ];
            list.extend(columns.iter().map(|(c, _)| ("SELECT of a column", format!("SELECT {} FROM {table}", quoted(c)))));
            list
        }
    }
}

/// Tries everything in real sessions.
fn compare(server: &Server, state: &State, rng: &mut Rng, counts: &mut Counts) -> Result<(), String> {
    // Some GRANTs to roles reach the roles above only once the server reads its tables anew, as at a start.
    connect(server, "root", &Origin::Local)?.query_drop("FLUSH PRIVILEGES").map_err(|e| e.to_string())?;
    let mut logins: Vec<String> = state.accounts.keys().map(|a| a.user.clone()).filter(|u| u != "root").collect();
    logins.push("a stranger".to_owned());
    logins.dedup();
    for login in &logins {
        for origin in &origins() {
            let ours = state.account_for(login, origin);
            let locked = ours.is_some_and(|a| state.accounts[a].locked);
            let expired = ours.is_some_and(|a| state.accounts[a].expired);
            let mut conn = match (connect(server, login, origin), ours) {
                (Err(_), None) => {
                    counts.add("sign-in, refused", 1);
                    continue;
                }
                (Err(_), Some(_)) if locked => {
                    counts.add("sign-in, refused", 1);
                    continue;
                }
                (Err(e), ours) => return Err(format!("`{login}` from {origin:?}: the server refuses ({e}), we find {ours:?}")),
                (Ok(mut conn), ours) => {
                    if expired {
                        continue;
                    }
                    let theirs: String = conn.query_first("SELECT CURRENT_USER()").map_err(|e| e.to_string())?.unwrap_or_default();
                    if ours.is_none_or(|a| a.to_string() != theirs) || locked {
                        return Err(format!("`{login}` from {origin:?}: the server takes {theirs}, we find {ours:?}, locked {locked}"));
                    }
                    counts.add("sign-in, account", 1);
                    conn
                }
            };
            let Some(account) = ours else { continue };
            let theirs: Option<String> = conn.query_first("SELECT CURRENT_ROLE()").map_err(|e| e.to_string())?.unwrap_or_default();
            if theirs != state.accounts[account].default_role {
                return Err(format!("{account}: default role {theirs:?}, we say {:?}", state.accounts[account].default_role));
            }
            let mut roles: Vec<Option<&String>> = vec![None];
            roles.extend(state.roles.iter().map(Some));
            rng.shuffle(&mut roles[1..]);
            roles.truncate(3);
            for role in roles {
                let words = role.map_or("NONE".to_owned(), |r| quoted(r));
                let set = conn.query_drop(format!("SET ROLE {words}"));
                let may = role.is_none_or(|r| View::new(state, account, origin.clone(), None).may_activate(r));
                if set.is_ok() != may {
                    return Err(format!("{account}: SET ROLE {words}: the server {set:?}, we say {may}"));
                }
                counts.add("SET ROLE", 1);
                if !may {
                    continue;
                }
                let view = View::new(state, account, origin.clone(), role.map(String::as_str));
                one_session(&mut conn, state, &view, counts).map_err(|e| format!("{account} from {origin:?}, role {words}: {e}"))?;
            }
        }
    }
    Ok(())
}

fn one_session(conn: &mut Conn, state: &State, view: &View<'_>, counts: &mut Counts) -> Result<(), String> {
    let listed: Vec<String> = conn.query("SHOW DATABASES").map_err(|e| e.to_string())?;
    // Where the server goes by the order in its memory, we must not say more than it; less we may.
    let by_chance = view.is_left_to_chance();
    for database in &state.databases {
        let used = conn.query_drop(format!("USE {}", quoted(database))).is_ok();
        if used != view.opens_database(database) && !(by_chance && used) {
            return Err(format!("USE {database}: the server {used}, we {}", !used));
        }
        counts.add("USE", 1);
        let (theirs, ours) = (listed.contains(database), view.sees_database(database));
        if by_chance && theirs && !ours {
            continue;
        }
        if theirs != ours {
            return Err(format!("database {database} listed: the server {theirs}, we {ours}"));
        }
        counts.add("visible databases", 1);
        if ours {
            let shown = conn.query::<String, _>(format!("SHOW TABLES IN {}", quoted(database)));
            if by_chance && shown.is_ok() && !view.lists_tables(database) {
                continue;
            }
            if shown.is_ok() != view.lists_tables(database) {
                return Err(format!("tables of {database}: the server {shown:?}, we {}", view.lists_tables(database)));
            }
            let Ok(tables) = shown else { continue };
            for name in state.objects.keys().filter(|n| !n.class.is_routine() && n.database == *database) {
                let (theirs, ours) = (tables.contains(&name.name), view.sees_table(database, &name.name));
                if by_chance && theirs && !ours {
                    continue;
                }
                if theirs != ours {
                    return Err(format!("{name} listed: the server {theirs}, we {ours}"));
                }
                counts.add("visible tables", 1);
            }
        }
    }
    // A routine of the default database need not have it opened for whom it runs as; every other one must.
    conn.query_drop("USE information_schema").map_err(|e| e.to_string())?;
    for (name, object) in &state.objects {
        for (kind, sql) in statements(name, &object.columns) {
            let _ = conn.query_drop("START TRANSACTION");
            // A refusal may come only with the rows: a function runs while they are sent.
            let theirs = conn.query_iter(&sql).and_then(|mut rows| rows.try_for_each(|row| row.map(drop)));
            let refused = theirs.as_ref().err().and_then(refusal);
            let _ = conn.query_drop("ROLLBACK");
            match say(state, view, None, &sql) {
                // There may be rows for a trigger or not.
                Said::NotDecided(why) if why.starts_with("whether the server comes to this for") => counts.add("left open", 1),
                Said::NotDecided(why) => return Err(format!("{sql}: not decided: {why}")),
                Said::Allowed if refused.is_some() => return Err(format!("{sql}: the server says {refused:?}, we allow")),
                Said::Refused(..) if by_chance && refused.is_none() => {}
                Said::Refused(why, _) if refused.is_none() => return Err(format!("{sql}: the server carries it out, we say {why}")),
                _ => counts.add(kind, 1),
            }
        }
    }
    Ok(())
}

/// Rolls an estate out, reads it back, compares, and rolls out again.
pub(crate) fn round(session: &mut Session, wanted: &State, counts: &mut Counts) -> Result<State, String> {
    let before = session.read().map_err(|e| e.to_string())?;
    let steps = before.steps_to(wanted, &root());
    session.run(&steps).map_err(|e| e.to_string())?;
    let after = session.read().map_err(|e| e.to_string())?;
    if let Some(drift) = after.drift(wanted).first() {
        return Err(format!("after rolling out, {:?} only: {}", drift.side, drift.what));
    }
    if let Some(step) = after.steps_to(wanted, &root()).first() {
        return Err(format!("emitting again is not empty: {}", step.sql));
    }
    let document = after.document("loyalty", None);
    let estate = Ledger::new().document("read.toml", &document).estate().map_err(|f| format!("{f}\n{document}"))?;
    let again = zest_ledger::mariadb::state_of(&estate, "loyalty", None).ok_or("the system is not there")?;
    if let Some(drift) = again.drift(&after).first() {
        return Err(format!("in the document (as server) and read: {:?} only: {}\n{document}", drift.side, drift.what));
    }
    counts.add("estates emitted, read back, emitted again", 1);
    // A rolled-out account has no credential; the tests sign in with an empty one.
    for account in after.accounts.keys() {
        session.client().query_drop(format!("SET PASSWORD FOR {} = ''", account.sql())).map_err(|e| format!("{account}: {e}"))?;
    }
    Ok(after)
}

pub(crate) fn same_to_the_byte(first: &State, second: &State) -> Result<(), String> {
    crate::support::same_to_the_byte(&first.document("loyalty", None), &second.document("loyalty", None))
}

/// Lets server and model carry out the same random statements.
fn changes(session: &mut Session, rng: &mut Rng, count: usize, counts: &mut Counts) -> Result<State, String> {
    let mut state = session.read().map_err(|e| e.to_string())?;
    for _ in 0..count {
        let change: GrantChange = random_change(rng, &state);
        let sql = change.sql();
        let before = state.clone();
        let changed = state.change(&change);
        match session.client().query_drop(&sql) {
            Ok(()) => {}
            // The server refuses to take what is not there.
            Err(_) if !changed => state = before,
            Err(e) => return Err(format!("{sql}: the server says {e}, we carried it out")),
        }
        let read = session.read().map_err(|e| e.to_string())?;
        if let Some(drift) = read.drift(&state).first() {
            return Err(format!("{sql}: {:?} only: {}", drift.side, drift.what));
        }
        counts.add("GRANT or REVOKE carried out by both", 1);
    }
    Ok(state)
}

/// Drops a table that nothing else uses, and makes one of its name with fewer columns: what was granted on the old one holds on it.
fn with_old_grants(session: &mut Session, rng: &mut Rng) -> Result<Option<State>, String> {
    let state = session.read().map_err(|e| e.to_string())?;
    let texts = |object: &Object| {
        let triggers = object.triggers.values().map(|trigger| trigger.body.clone());
        object.query.iter().chain(&object.body).cloned().chain(triggers).collect::<Vec<String>>()
    };
    let all: Vec<String> = state.objects.values().flat_map(texts).collect();
    let is_used = |name: &str| all.iter().any(|text| text.contains(name));
    let tables: Vec<_> = (state.objects.iter())
        .filter(|(name, object)| {
            name.class == Class::Table && object.columns.len() > 1 && object.triggers.is_empty() && !is_used(&name.name)
        })
        .collect();
    if tables.is_empty() {
        return Ok(None);
    }
    let (name, object) = tables[rng.usize(..tables.len())];
    let (sql, (column, data_type)) = (name.sql(), &object.columns[0]);
    let made = [format!("DROP TABLE {sql}"), format!("CREATE TABLE {sql} ({} {data_type})", quoted(column))];
    made.iter().try_for_each(|sql| session.client().query_drop(sql)).map_err(|e| e.to_string())?;
    session.read().map(Some).map_err(|e| e.to_string())
}

#[test]
fn the_server_agrees_on_random_estates() {
    let Some(server) = servers::wanted(servers::mariadb) else { return };
    let first = seed("MariaDB estates");
    let mut counts = Counts::default();
    let mut number = 0;
    let mut session = open(&server);
    while counts.total() < wanted_checks() || number < estates() {
        let seed = first + number;
        let size = Size { logins: 4, roles: 4, tables: 6, grants: 50 };
        // What the count needs is compared in full; the rest of the estates make the way there and back.
        let in_full = counts.total() < wanted_checks();
        let mut run = |size: Size, counts: &mut Counts| -> Result<(), String> {
            clean(&mut session);
            let mut rng = Rng::with_seed(seed);
            let wanted = estate(&mut rng, size);
            let told = |e: String, state: &State| format!("{e}\n{}", script(&State::fresh().steps_to(state, &root())));
            let first = round(&mut session, &wanted, counts).map_err(|e| told(e, &wanted))?;
            // What was read makes a fresh server the same, to the byte.
            clean(&mut session);
            let state = round(&mut session, &first, counts).map_err(|e| told(e, &wanted))?;
            same_to_the_byte(&first, &state).map_err(|e| told(e, &wanted))?;
            if !in_full {
                return Ok(());
            }
            compare(&server, &state, &mut rng, counts).map_err(|e| told(e, &state))?;
            let state = changes(&mut session, &mut rng, 10, counts).map_err(|e| told(e, &state))?;
            compare(&server, &state, &mut rng, counts).map_err(|e| told(e, &state))?;
            match with_old_grants(&mut session, &mut rng)? {
                Some(state) => compare(&server, &state, &mut rng, counts).map_err(|e| told(e, &state)),
                None => Ok(()),
            }
        };
        if let Err(error) = run(size, &mut counts) {
            // The smallest estate of this seed that shows it.
            let sizes = (1..=size.logins)
                .flat_map(|logins| (0..=size.roles).flat_map(move |roles| (1..=size.tables).map(move |tables| (logins, roles, tables))));
            let found = sizes
                .map(|(logins, roles, tables)| Size { logins, roles, tables, grants: 4 + logins * tables })
                .find_map(|s| run(s, &mut Counts::default()).err());
            panic!("seed {seed}: {}", found.unwrap_or(error));
        }
        number += 1;
    }
    counts.print("MariaDB");
}

/// The account that the server finds for a login is ours, whatever patterns there are.
#[test]
fn the_server_finds_the_same_account() {
    let Some(server) = servers::wanted(servers::mariadb) else { return };
    let mut session = open(&server);
    let patterns = [
        "127.0.0.1",
        "%",
        "_________",
        "________1",
        "127.0.0._",
        "127.0._._",
        "___.0.0.1",
        "1________",
        "127.0.0.1%",
        "%127.0.0.1",
        "127.0.%.1",
        "127.0.0.%",
        "%.0.0.1",
        "127.0.%",
        "127.%",
        "127%",
        "1%",
        "%1",
        "_%",
        "%_",
        "%0%",
        "%.%.%.%",
        "%.0.%",
        "127._.%",
        "%._._._",
        "_________%",
        "%_________",
        "12%1",
        "1%0%1",
        "12_.0.0.%",
        "127.0.0.0/255.255.255.0",
        "127.0.0.0/255.0.0.0",
        "127.0.0.1/255.255.255.255",
        "localhost",
        "127.0.0.2",
    ];
    let mut state = session.read().expect("reads");
    for pattern in patterns {
        for login in ["ann", ""] {
            session.client().query_drop(format!("CREATE USER {}@{}", literal(login), literal(pattern))).expect("a new account");
            state.accounts.insert(AccountName::new(login, pattern), Default::default());
        }
    }
    let mut found = 0;
    for origin in origins().iter().filter(|o| **o != Origin::Local) {
        let mut state = state.clone();
        let mut dropped = Vec::new();
        while let Some(ours) = state.account_for("ann", origin).cloned() {
            let mut conn =
                connect(&server, "ann", origin).unwrap_or_else(|e| panic!("from {origin:?} we find {ours}, the server says {e}"));
            let theirs: Option<String> = conn.query_first("SELECT CURRENT_USER()").expect("answers");
            assert_eq!(theirs.as_deref(), Some(ours.to_string().as_str()), "from {origin:?}");
            session.client().query_drop(format!("DROP USER {}", ours.sql())).expect("dropped");
            state.accounts.remove(&ours);
            dropped.push(ours);
            found += 1;
        }
        assert!(connect(&server, "ann", origin).is_err(), "we find no account from {origin:?}, the server does");
        for account in dropped {
            session.client().query_drop(format!("CREATE USER {}", account.sql())).expect("made again");
        }
    }
    eprintln!("  {found:>9}  MariaDB: accounts found, from the most specific to the least");
}

/// What an open session notices of a GRANT, and when: as `docs/semantics.md` says.
#[test]
fn a_change_bites_an_open_session_at_its_own_time() {
    let Some(server) = servers::wanted(servers::mariadb) else { return };
    let mut session = open(&server);
    let admin = session.client();
    for sql in [
        "CREATE DATABASE club",
        "CREATE TABLE club.member (id int, name text)",
        "CREATE TABLE club.points (id int)",
        "CREATE USER 'purser'@'127.0.0.1'",
        "GRANT SELECT ON club.points TO 'purser'@'127.0.0.1'",
    ] {
        admin.query_drop(sql).expect(sql);
    }
    let origin = Origin::Address("127.0.0.1".parse().expect("an address"));
    let reads = |conn: &mut Conn| conn.query_drop("SELECT id FROM club.member").is_ok();
    for (level, at_once_elsewhere, at_once_inside) in [("club.member", true, true), ("club.*", true, false), ("*.*", false, false)] {
        let mut elsewhere = connect(&server, "purser", &origin).expect("it signs in");
        let mut inside = connect(&server, "purser", &origin).expect("it signs in");
        inside.query_drop("USE club").expect("it may");
        assert!(!reads(&mut elsewhere) && !reads(&mut inside), "{level}: nothing yet");
        admin.query_drop(format!("GRANT SELECT ON {level} TO 'purser'@'127.0.0.1'")).expect("granted");
        assert_eq!(reads(&mut elsewhere), at_once_elsewhere, "{level}, without a default database");
        assert_eq!(reads(&mut inside), at_once_inside, "{level}, with this database as default");
        inside.query_drop("USE club").expect("it may");
        assert_eq!(reads(&mut inside), at_once_elsewhere, "{level}, once the database is opened again");
        assert!(reads(&mut connect(&server, "purser", &origin).expect("it signs in")), "{level}: a new session has it");
        admin.query_drop(format!("REVOKE SELECT ON {level} FROM 'purser'@'127.0.0.1'")).expect("revoked");
    }
}

/// A default role stays written when its membership is taken away, or the role itself: it is read, loads, and is active when the server
/// says so.
#[test]
fn a_default_role_that_is_not_granted_any_more_is_passed_over() {
    let Some(server) = servers::wanted(servers::mariadb) else { return };
    let mut session = open(&server);
    let origin = Origin::Address("127.0.0.1".parse().expect("an address"));
    for (sql, active) in [
        (
            "CREATE ROLE crew, CREATE USER steward, CREATE USER steward@127.0.0.1, GRANT crew TO steward, GRANT crew TO steward@127.0.0.1",
            None,
        ),
        ("SET DEFAULT ROLE crew FOR steward@127.0.0.1", Some("crew")),
        // The other account of the login has it still.
        ("REVOKE crew FROM steward@127.0.0.1", Some("crew")),
        ("REVOKE crew FROM steward", None),
        ("GRANT crew TO steward@127.0.0.1", Some("crew")),
        ("DROP ROLE crew", None),
    ] {
        sql.split(", ").for_each(|sql| session.client().query_drop(sql).expect(sql));
        let mut conn = connect(&server, "steward", &origin).expect("it signs in");
        let theirs: Option<String> = conn.query_first("SELECT CURRENT_ROLE()").expect("reads").unwrap_or_default();
        assert_eq!(theirs.as_deref(), active, "{sql}: the server");
        let state = session.read().expect("reads");
        let engine = Ledger::new().document("read.toml", &state.document("loyalty", None)).engine(1).expect("it loads");
        let question = Question::statement("steward", "loyalty", "SELECT 1").from("127.0.0.1".parse().expect("an address"));
        let standing = engine.explain(&question).gates.into_iter().find(|gate| gate.stage == Stage::Standing).expect("it is told").text;
        let ours = if active.is_some() { "`crew` is active as its default role" } else { "no role is active" };
        assert!(standing.starts_with(ours), "{sql}: {standing}");
        let again = zest_ledger::mariadb::state_of(engine.estate(), "loyalty", None).expect("it is there");
        assert_eq!(again.drift(&state).len() + again.steps_to(&state, &root()).len(), 0, "{sql}");
    }
}

/// Two roles of which either was granted to the other: the roll-out never makes a circle of them, whichever comes first.
/// How an account is made, how many days ago its credential was set, and the lifetime that the server gives to those without one.
#[test]
fn a_credential_is_to_be_changed_once_its_lifetime_is_over() {
    let Some(server) = servers::wanted(servers::mariadb) else { return };
    let mut session = open(&server);
    let now = jiff::Timestamp::now();
    for (made, days, of_server) in [
        ("PASSWORD EXPIRE INTERVAL 5 DAY", 4, 0),
        ("PASSWORD EXPIRE INTERVAL 5 DAY", 6, 0),
        ("PASSWORD EXPIRE INTERVAL 5 DAY", 6, 30),
        ("PASSWORD EXPIRE INTERVAL 5 DAY", 5, 0),
        ("PASSWORD EXPIRE NEVER", 600, 0),
        ("PASSWORD EXPIRE NEVER", 600, 30),
        ("PASSWORD EXPIRE DEFAULT", 600, 0),
        ("PASSWORD EXPIRE DEFAULT", 29, 30),
        ("PASSWORD EXPIRE DEFAULT", 31, 30),
        ("", 31, 30),
        ("", 31, 0),
        ("PASSWORD EXPIRE", 0, 0),
    ] {
        clean(&mut session);
        let admin = session.client();
        let second = now.as_second() - days * 24 * 60 * 60;
        for sql in [
            format!("CREATE USER 'desk'@'%' {made}"),
            format!(
                "UPDATE mysql.global_priv SET Priv = JSON_SET(Priv, '$.password_last_changed', {second}) WHERE User = 'desk' AND {}",
                days > 0
            ),
            "FLUSH PRIVILEGES".to_owned(),
            format!("SET GLOBAL default_password_lifetime = {of_server}"),
        ] {
            admin.query_drop(&sql).unwrap_or_else(|e| panic!("{sql}: {e}"));
        }
        let origin = Origin::Address("127.0.0.1".parse().expect("an address"));
        let theirs = connect(&server, "desk", &origin).and_then(|mut desk| desk.query_drop("SELECT 1").map_err(|e| e.to_string())).is_ok();
        let document = session.read().expect("it is read").document("walked", None);
        let users = "users.desk.proofs = [\"password\"]\n";
        let estate = Ledger::new().document("db.toml", &format!("{users}{document}")).estate().unwrap_or_else(|f| panic!("{f}"));
        let engine = Engine::compile(estate).expect("it compiles");
        let question = Question::statement("desk", "walked", "select 1").from("127.0.0.1".parse().expect("an address"));
        let ours = engine.ask(&question.clone().at(now)).verdict == zest_ledger::ask::Verdict::Allowed;
        assert_eq!(ours, theirs, "{made}, {days} days ago, {of_server} from the server:\n{document}");
        let is_due = document.lines().any(|line| line.starts_with("\"desk@%\"") && line.contains("credential-due"));
        let refusal = engine.ask(&question).refusal;
        assert_eq!(refusal == Some(zest_ledger::ask::Refusal::NotStated), is_due, "{made}, {days}, {of_server}: {refusal:?}\n{document}");
    }
    session.client().query_drop("SET GLOBAL default_password_lifetime = 0").expect("it is set back");
    clean(&mut session);
}

/// Settings of a whole server, each with what sets it, and whether a session over the server's own socket is bound as well.
#[test]
fn what_holds_for_all_sessions_of_a_server_is_read() {
    let Some(server) = servers::wanted(servers::mariadb) else { return };
    let mut session = open(&server);
    clean(&mut session);
    session.client().query_drop("CREATE USER 'desk'@'%'").expect("it is made");
    let verdict = |session: &mut Session, local: bool| {
        let document = session.read().expect("it is read").document("walked", None);
        let ledger = format!("users.desk.proofs = [\"password\"]\n{document}");
        let estate = Ledger::new().document("db.toml", &ledger).estate().unwrap_or_else(|f| panic!("{f}"));
        let question = Question::statement("desk", "walked", "select 1").at(jiff::Timestamp::now());
        let question = if local { question.local() } else { question.from("127.0.0.1".parse().expect("an address")) };
        Engine::compile(estate).expect("it compiles").ask(&question).refusal
    };
    assert_eq!((verdict(&mut session, true), verdict(&mut session, false)), (None, None), "nothing is set");
    let undecided = Some(zest_ledger::ask::Refusal::NotDecided);
    for (set, back, binds_all) in [
        ("tx_read_only = 1", "tx_read_only = 0", true),
        ("read_only = 1", "read_only = 0", true),
        ("sql_mode = 'ANSI_QUOTES'", "sql_mode = DEFAULT", true),
        ("init_connect = 'SELECT 1'", "init_connect = ''", true),
        ("require_secure_transport = 1", "require_secure_transport = 0", false),
    ] {
        session.client().query_drop(format!("SET GLOBAL {set}")).unwrap_or_else(|e| panic!("{set}: {e}"));
        let found = (verdict(&mut session, true), verdict(&mut session, false));
        assert_eq!(found, (if binds_all { undecided } else { None }, undecided), "{set}");
        session.client().query_drop(format!("SET GLOBAL {back}")).unwrap_or_else(|e| panic!("{back}: {e}"));
    }
    session.client().query_drop("GRANT USAGE ON *.* TO 'desk'@'%' WITH MAX_USER_CONNECTIONS -1").expect("it is granted");
    let origin = Origin::Address("127.0.0.1".parse().expect("an address"));
    assert!(connect(&server, "desk", &origin).is_err(), "nobody signs in with less than no session at once");
    assert_eq!(verdict(&mut session, false), undecided);
    clean(&mut session);
}

#[test]
fn roles_that_change_places_are_rolled_out() {
    let Some(server) = servers::wanted(servers::mariadb) else { return };
    let mut session = open(&server);
    for statement in
        ["CREATE ROLE first", "CREATE ROLE mid", "CREATE ROLE last", "GRANT last TO mid", "GRANT mid TO first WITH ADMIN OPTION"]
    {
        session.client().query_drop(statement).expect("it is made");
    }
    let turned = |name: &String| match name.as_str() {
        "first" => "last".to_owned(),
        "last" => "first".to_owned(),
        other => other.to_owned(),
    };
    for _ in 0..2 {
        let mut wanted = session.read().expect("it is read");
        let places = wanted.memberships.iter().map(|((member, role), admin)| match member {
            Holder::Role(member) => ((Holder::Role(turned(member)), turned(role)), *admin),
            Holder::Account(_) | Holder::Public => ((member.clone(), role.clone()), *admin),
        });
        wanted.memberships = places.collect();
        let steps = session.read().expect("it is read").steps_to(&wanted, &root());
        assert_eq!(steps.len(), 4, "{steps:#?}");
        session.run(&steps).expect("it is rolled out");
        assert!(session.read().expect("it is read").steps_to(&wanted, &root()).is_empty());
    }
}

/// Ways over statements that give more are walked on the server, one by one: refused before it, carried out behind it.
#[test]
fn ways_over_statements_are_walked_on_the_server() {
    const LEDGER: &str = r#"
users.keys.proofs = ["password"]
users.definer.proofs = ["password"]
users.writer.proofs = ["password"]
users.out.proofs = ["password"]
users.sweeper.proofs = ["password"]
users.noter.proofs = ["password"]
[systems.walked]
kind = "mariadb"
[databases.walked.accounts]
"noter@%" = {}
"keys@%" = {}
"definer@%" = {}
"writer@%" = {}
"out@%" = {}
"sweeper@%" = {}
"chief@%" = {}
[databases.walked.objects."procedure harbour.sweep"]
owner = "chief@%"
runs-as = "owner"
parameters = "IN a int, OUT b int"
body = "DELETE FROM harbour.member"
[databases.walked.objects."database harbour"]
[databases.walked.objects."table harbour.member"]
columns = { id = "int(11)" }
[databases.walked.objects."table harbour.note"]
columns = { id = "int(11)" }
triggers = { sweeps = "CREATE DEFINER='chief'@'%' TRIGGER harbour.sweeps BEFORE INSERT ON harbour.note FOR EACH ROW DELETE FROM harbour.member" }
[[databases.walked.grants]]
allow = ["trigger"]
on = "table harbour.note"
to = ["chief@%"]
[[databases.walked.grants]]
allow = ["insert"]
on = "table harbour.note"
to = ["noter@%"]
[[databases.walked.grants]]
allow = ["create user"]
on = "everything"
to = ["keys@%"]
[[databases.walked.grants]]
allow = ["set user"]
on = "everything"
to = ["definer@%"]
[[databases.walked.grants]]
allow = ["create routine"]
on = "database harbour"
to = ["definer@%"]
[[databases.walked.grants]]
allow = ["insert"]
on = "database mysql"
to = ["writer@%"]
[[databases.walked.grants]]
allow = ["delete"]
on = "table harbour.member"
to = ["chief@%"]
[[databases.walked.grants]]
allow = ["execute"]
on = "database harbour"
to = ["chief@%"]
[[databases.walked.grants]]
allow = ["execute"]
on = "procedure harbour.sweep"
to = ["sweeper@%"]
"#;
    let Some(server) = servers::wanted(servers::mariadb) else { return };
    let estate = Ledger::new().document("db.toml", LEDGER).estate().unwrap_or_else(|f| panic!("{f}"));
    let engine = Engine::compile(estate).expect("it compiles");
    let mut session = open(&server);
    clean(&mut session);
    let admin = session.client();
    for sql in [
        "CREATE DATABASE harbour",
        "CREATE TABLE harbour.member (id int)",
        "CREATE TABLE harbour.note (id int)",
        "CREATE USER 'keys'@'%', 'definer'@'%', 'writer'@'%', 'out'@'%', 'sweeper'@'%', 'noter'@'%', 'chief'@'%'",
        "CREATE DEFINER='chief'@'%' TRIGGER harbour.sweeps BEFORE INSERT ON harbour.note FOR EACH ROW DELETE FROM harbour.member",
        "GRANT TRIGGER ON harbour.note TO 'chief'@'%'",
        "GRANT INSERT ON harbour.note TO 'noter'@'%'",
        "CREATE DEFINER='chief'@'%' PROCEDURE harbour.sweep(IN a int, OUT b int) DELETE FROM harbour.member",
        "GRANT EXECUTE ON PROCEDURE harbour.sweep TO 'sweeper'@'%'",
        "GRANT CREATE USER ON *.* TO 'keys'@'%'",
        "GRANT SET USER ON *.* TO 'definer'@'%'",
        "GRANT CREATE ROUTINE ON harbour.* TO 'definer'@'%'",
        "GRANT INSERT ON mysql.* TO 'writer'@'%'",
        "GRANT DELETE ON harbour.member TO 'chief'@'%'",
        "GRANT EXECUTE ON harbour.* TO 'chief'@'%'",
    ] {
        admin.query_drop(sql).unwrap_or_else(|e| panic!("{sql}: {e}"));
    }
    let origin = Origin::Address("127.0.0.1".parse().expect("an address"));
    let connect = |login: &str| connect(&server, login, &origin).expect("it signs in");
    let last = "DELETE FROM harbour.member";
    for (from, through) in [("sweeper", Some("procedure harbour.sweep")), ("noter", Some("harbour.note")), ("out", None)] {
        let plain = zest_ledger::ask::Session::default();
        let aim = Aim::Do(Sought::Line("delete on table harbour.member"), &["walked"], &plain);
        let way = way_to(&engine, from, aim);
        assert!(connect(from).query_drop(last).is_err(), "{from} may not by themselves");
        let step = way.as_ref().map(|way| &way.steps[0]);
        assert_eq!(step.is_some(), through.is_some(), "{from}: {way:#?}");
        let Some((step, through)) = step.zip(through) else { continue };
        assert!(step.gives.ends_with(through), "{way:#?}");
        let statement = &step.question.as_ref().expect("a statement").line;
        connect(from).query_drop(statement).unwrap_or_else(|e| panic!("{statement}: {e}"));
    }
    for (from, expected) in [
        ("keys", Some("ALTER USER 'chief'@'%'")),
        ("definer", Some("CREATE DEFINER='chief'@'%' PROCEDURE")),
        ("writer", Some("INSERT INTO mysql.global_priv")),
        ("out", None),
    ] {
        let plain = zest_ledger::ask::Session::default();
        let aim = Aim::Do(Sought::Statement(last), &["walked"], &plain);
        let way = way_to(&engine, from, aim);
        assert_eq!(way.is_some(), expected.is_some(), "{from}: {way:#?}");
        assert!(connect(from).query_drop(last).is_err(), "{from} may not yet");
        let Some(way) = way else { continue };
        let first = way.steps[0].question.as_ref().map_or("", |question| question.line.as_str());
        assert!(expected.is_some_and(|expected| first.starts_with(expected)), "{way:#?}");
        if from == "writer" {
            // What is written there is a new account that may anything, once the server reads it.
            let all = "INSERT INTO mysql.global_priv VALUES ('%', 'new', '{\"access\":18446744073709551615}')";
            connect(from).query_drop(all).expect("it is carried out");
            session.client().query_drop("FLUSH PRIVILEGES").expect("the server reads them anew");
            connect("new").query_drop(last).expect("the new account may");
            continue;
        }
        connect(from).query_drop(first).unwrap_or_else(|e| panic!("{first}: {e}"));
        if from == "definer" {
            // The routine does as the definer what its text says.
            let erases = first.replace("anything", "erases").replace("SELECT 1", last);
            connect(from).query_drop(&erases).unwrap_or_else(|e| panic!("{erases}: {e}"));
            connect(from).query_drop("CALL harbour.erases()").expect("it is carried out");
        } else {
            let mut options = OptsBuilder::new().user(Some("chief")).pass(Some("set anew")).prefer_socket(false);
            options = options.ip_or_hostname(Some("127.0.0.1")).tcp_port(server.port);
            Conn::new(options).expect("it signs in with what was set").query_drop(last).expect("it may");
        }
    }
    clean(&mut session);
}
