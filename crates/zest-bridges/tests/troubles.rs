//! Servers that are down, refuse, hide, change under our hands, or are not what we know: a clear error each time, and
//! nothing half-applied where the server can help it.

use std::io::{Read, Write};
use std::net::TcpListener;

use mysql::prelude::Queryable;
use zest_bridges::{BridgeError, mariadb, postgresql};
use zest_ledger::drift::Step;
use zest_ledger::mariadb::AccountName;
use zest_ledger::postgresql::{Class, Grantee, ObjectName, Privilege, quoted};
use zest_testkit::servers;

use crate::mariadb::{open as open_mariadb, root};
use crate::postgresql::{open as open_postgresql, sql};

fn free_port() -> u16 {
    TcpListener::bind("127.0.0.1:0").and_then(|l| l.local_addr()).expect("a port").port()
}

fn as_role(port: u16, user: &str, password: Option<&str>) -> postgresql::Target {
    let (host, user) = ("127.0.0.1".to_owned(), user.to_owned());
    postgresql::Target {
        host,
        port,
        user,
        database: "postgres".to_owned(),
        password: password.map(str::to_owned),
        encryption: zest_bridges::Encryption::default(),
    }
}

fn as_login(port: u16, user: &str, password: Option<&str>) -> mariadb::Target {
    mariadb::Target {
        host: "127.0.0.1".to_owned(),
        port,
        user: user.to_owned(),
        password: password.map(str::to_owned),
        encryption: zest_bridges::Encryption::default(),
    }
}

/// Sign-in as the error of a session that must not open.
fn refused<S>(opened: Result<S, BridgeError>) -> String {
    match opened {
        Ok(_) => panic!("the session was opened"),
        Err(error) => error.to_string(),
    }
}

#[test]
fn a_server_that_is_down_is_named_with_its_port() {
    let port = free_port();
    let said = refused(postgresql::Session::open(&as_role(port, "postgres", None)));
    assert!(said.starts_with(&format!("cannot open a session on 127.0.0.1:{port}/postgres: ")) && said.contains("refused"), "{said}");
    let said = refused(mariadb::Session::open(&as_login(port, "root", None)));
    assert!(said.starts_with(&format!("cannot open a session on 127.0.0.1:{port}: ")) && said.contains("refused"), "{said}");
}

#[test]
fn a_server_that_hangs_up_or_talks_of_something_else_is_an_error() {
    for answer in [&b""[..], b"220 mail.lanternsound.example ready\r\n", b"HTTP/1.1 400 Bad Request\r\n\r\n"] {
        let listener = TcpListener::bind("127.0.0.1:0").expect("a port");
        let port = listener.local_addr().expect("an address").port();
        let talker = std::thread::spawn(move || {
            for _ in 0..2 {
                let (mut peer, _) = listener.accept().expect("somebody calls");
                // The other side may be gone already; that is what is tested.
                let _ = peer.write_all(answer);
                let _ = peer.shutdown(std::net::Shutdown::Both);
            }
        });
        let said = refused(postgresql::Session::open(&as_role(port, "postgres", None)));
        assert!(said.contains("cannot open a session"), "{said}");
        let said = refused(mariadb::Session::open(&as_login(port, "root", None)));
        assert!(said.contains("cannot open a session"), "{said}");
        talker.join().expect("it ends");
    }
}

/// A server that lets everybody in and says that it is another version.
fn pretender(version: &'static str) -> u16 {
    let listener = TcpListener::bind("127.0.0.1:0").expect("a port");
    let port = listener.local_addr().expect("an address").port();
    std::thread::spawn(move || {
        let (mut peer, _) = listener.accept().expect("somebody calls");
        let mut length = [0_u8; 4];
        peer.read_exact(&mut length).expect("a start-up message");
        let mut rest = vec![0_u8; u32::from_be_bytes(length) as usize - 4];
        peer.read_exact(&mut rest).expect("the rest of it");
        let message = |kind: u8, body: &[u8]| [&[kind], &(body.len() as u32 + 4).to_be_bytes()[..], body].concat();
        let ready = message(b'Z', b"I");
        peer.write_all(&[message(b'R', &0_u32.to_be_bytes()), ready.clone()].concat()).expect("it listens");
        let mut query = [0_u8; 512];
        let _ = peer.read(&mut query).expect("a query");
        let column = [b"server_version_num\0".as_slice(), &[0; 6], &25_u32.to_be_bytes(), &[0xff, 0xff, 0, 0, 0, 0, 0, 0]].concat();
        let row = [&1_u16.to_be_bytes()[..], &(version.len() as u32).to_be_bytes(), version.as_bytes()].concat();
        let described = message(b'T', &[&1_u16.to_be_bytes()[..], &column].concat());
        peer.write_all(&[described, message(b'D', &row), message(b'C', b"SHOW\0"), ready].concat()).expect("it listens");
        let _ = peer.read(&mut query);
    });
    port
}

#[test]
fn a_version_whose_rules_are_not_known_is_not_read() {
    for version in ["160002", "140011", "90624", "garbage"] {
        let said = refused(postgresql::Session::open(&as_role(pretender(version), "postgres", None)));
        assert!(said.contains(&format!("version number {version}")) && said.contains("PostgreSQL 15"), "{said}");
    }
    if servers::wanted(servers::mariadb).is_none() {
        return;
    }
    let server = servers::mariadb_with(&["--version=10.6.21-MariaDB"]).expect("it starts");
    let said = refused(mariadb::Session::open(&as_login(server.port, "root", None)));
    assert!(said.contains("10.6.21-MariaDB") && said.contains("MariaDB 10.11") || said.contains("Access denied"), "{said}");
    let socket =
        mariadb::Target { host: server.folder.join("socket").display().to_string(), user: "root".to_owned(), ..Default::default() };
    let said = refused(mariadb::Session::open(&socket));
    assert!(said.contains("10.6.21-MariaDB; this program knows the rules of MariaDB 10.11"), "{said}");
}

#[test]
fn a_wrong_credential_is_the_servers_own_words() {
    if let Some(server) = servers::wanted(servers::postgresql) {
        let mut admin = open_postgresql(&server, "postgres");
        sql(&mut admin, "CREATE ROLE \"tariff-1\" LOGIN PASSWORD 'grey heron'");
        let rules = server.folder.join("data/pg_hba.conf");
        let before = std::fs::read_to_string(&rules).expect("it can be read");
        std::fs::write(&rules, format!("host all \"tariff-1\" 127.0.0.1/32 scram-sha-256\n{before}")).expect("it can be written");
        sql(&mut admin, "SELECT pg_reload_conf()");
        // The server reads its rules in its own time; without a credential it lets nobody in once it has.
        let start = std::time::Instant::now();
        while postgresql::Session::open(&as_role(server.port, "tariff-1", None)).is_ok() {
            assert!(start.elapsed().as_secs() < 30, "the server does not read its rules");
            std::thread::yield_now();
        }
        for (password, words) in [(Some("blue heron"), "28P01"), (None, "password missing"), (Some(""), "28P01")] {
            let said = refused(postgresql::Session::open(&as_role(server.port, "tariff-1", password)));
            assert!(said.contains(words) && !said.contains("heron"), "{said}");
        }
        postgresql::Session::open(&as_role(server.port, "tariff-1", Some("grey heron"))).expect("the right one opens");
        let said = refused(postgresql::Session::open(&as_role(server.port, "nobody", None)));
        assert!(said.contains("28000") && said.contains("nobody"), "{said}");
    }
    if let Some(server) = servers::wanted(servers::mariadb) {
        let mut admin = open_mariadb(&server);
        admin.client().query_drop("CREATE USER 'tariff-1'@'127.0.0.1' IDENTIFIED BY 'grey heron'").expect("made");
        for password in [Some("blue heron"), None] {
            let said = refused(mariadb::Session::open(&as_login(server.port, "tariff-1", password)));
            assert!(said.contains("1045") && !said.contains("heron"), "{said}");
        }
        mariadb::Session::open(&as_login(server.port, "tariff-1", Some("grey heron"))).expect("the right one opens");
    }
}

#[test]
fn an_ordinary_reader_of_postgresql_reads_what_the_superuser_reads() {
    let Some(server) = servers::wanted(servers::postgresql) else { return };
    let mut admin = open_postgresql(&server, "postgres");
    sql(
        &mut admin,
        "CREATE ROLE \"auditor-1\" LOGIN; CREATE ROLE keeper LOGIN PASSWORD 'grey heron'; CREATE SCHEMA shut AUTHORIZATION keeper;
         CREATE TABLE shut.note (id integer, text text); GRANT SELECT (id) ON shut.note TO keeper WITH GRANT OPTION;
         CREATE VIEW shut.ids AS SELECT id FROM shut.note; CREATE FUNCTION shut.one() RETURNS integer LANGUAGE sql AS 'select 1'",
    );
    let mut reader = postgresql::Session::open(&as_role(server.port, "auditor-1", None)).expect("it opens");
    let (theirs, ours) = (admin.read().expect("reads"), reader.read().expect("reads"));
    assert!(ours.objects.contains_key(&ObjectName::new(Class::Table, &["shut", "note"])));
    assert!(ours.drift(&theirs).is_empty(), "{:?}", ours.drift(&theirs));
    let document = ours.document("ticketing", None);
    assert!(!document.contains("heron") && !document.contains("SCRAM"), "no secret is read:\n{document}");
}

#[test]
fn a_reader_of_mariadb_who_would_not_see_everything_is_told_which_right_is_missing() {
    let Some(server) = servers::wanted(servers::mariadb) else { return };
    let mut admin = open_mariadb(&server);
    for statement in [
        "CREATE USER 'auditor-1'@'127.0.0.1' IDENTIFIED BY ''",
        "CREATE USER 'keeper'@'%' IDENTIFIED BY 'grey heron'",
        "CREATE DATABASE club",
        "CREATE TABLE club.member (id int, name varchar(80))",
        "CREATE VIEW club.ids AS SELECT id FROM club.member",
    ] {
        admin.client().query_drop(statement).expect("made");
    }
    let read = |server: &servers::Server| mariadb::Session::open(&as_login(server.port, "auditor-1", None)).expect("it opens").read();
    let said = refused(read(&server));
    assert!(said.starts_with("reading accounts: ") && said.contains("1142"), "{said}");
    for (grant, missing) in [
        ("GRANT SELECT ON mysql.* TO 'auditor-1'@'127.0.0.1'", "select, show view"),
        ("GRANT SELECT ON *.* TO 'auditor-1'@'127.0.0.1'", "does not hold show view"),
        ("GRANT SHOW VIEW ON *.* TO 'auditor-1'@'127.0.0.1'", "does not hold trigger"),
    ] {
        admin.client().query_drop(grant).expect("granted");
        let said = refused(read(&server));
        assert!(said.contains(missing) && said.contains("GRANT SELECT, SHOW VIEW, TRIGGER ON *.* TO 'auditor-1'@'127.0.0.1'"), "{said}");
    }
    admin.client().query_drop("GRANT TRIGGER ON *.* TO 'auditor-1'@'127.0.0.1'").expect("granted");
    let (ours, theirs) = (read(&server).expect("reads"), admin.read().expect("reads"));
    assert!(ours.drift(&theirs).is_empty(), "{:?}", ours.drift(&theirs));
    assert_eq!(ours.objects.len(), 2);
    let document = ours.document("loyalty", None);
    assert!(!document.contains("heron") && !document.contains('*'), "no secret is read:\n{document}");
}

#[test]
fn what_vanishes_between_reading_and_rolling_out_stops_it_and_leaves_nothing_behind() {
    let Some(server) = servers::wanted(servers::postgresql) else { return };
    let mut session = open_postgresql(&server, "postgres");
    sql(&mut session, "CREATE ROLE purser; CREATE TABLE price (id integer); CREATE TABLE zone (id integer)");
    let now = session.read().expect("reads");
    let mut wanted = now.clone();
    for table in ["price", "zone"] {
        let object = wanted.objects.get_mut(&ObjectName::new(Class::Table, &["public", table])).expect("it is there");
        let held = zest_ledger::postgresql::Held { privileges: Privilege::Select.only(), ..Default::default() };
        object.acl.insert(Grantee::Role("purser".to_owned()), "postgres", held);
    }
    let steps = now.steps_to(&wanted, "postgres");
    assert_eq!(steps.len(), 2, "{steps:?}");
    let mut other = open_postgresql(&server, "postgres");
    sql(&mut other, "DROP TABLE zone");
    let said = session.run(&steps).expect_err("the table is gone").to_string();
    assert!(said.contains("statement 2 of 2 failed") && said.contains("42P01") && said.contains("everything was rolled back"), "{said}");
    let left = session.read().expect("the session is still good");
    let price = &left.objects[&ObjectName::new(Class::Table, &["public", "price"])];
    assert_eq!(price.acl.iter().count(), 1, "the first statement is not left behind either: {:?}", price.acl);
    assert!(left.drift(&wanted).iter().any(|d| d.what.contains("zone")), "comparing shows it");
}

#[test]
fn where_the_server_cannot_take_back_the_error_says_what_was_done() {
    let Some(server) = servers::wanted(servers::mariadb) else { return };
    let mut session = open_mariadb(&server);
    let step = |text: &str| Step { sql: text.to_owned() };
    let steps = [
        step("CREATE DATABASE club"),
        step("CREATE ROLE pursers"),
        step("GRANT SELECT ON club.member TO pursers"),
        step("CREATE ROLE late"),
    ];
    let said = session.run(&steps).expect_err("the table is not there").to_string();
    assert!(said.contains("statement 3 of 4 failed") && said.contains("1146"), "{said}");
    assert!(
        said.contains("the 2 statements before it were carried out and stay:\n  CREATE DATABASE club\n  CREATE ROLE pursers"),
        "{said}"
    );
    let left = session.read().expect("reads");
    assert!(left.databases.contains("club") && left.roles.contains("pursers") && !left.roles.contains("late"));
}

#[test]
fn nobody_locks_everybody_or_himself_out() {
    let Some(server) = servers::wanted(servers::postgresql) else { return };
    let mut session = open_postgresql(&server, "postgres");
    sql(&mut session, "CREATE ROLE \"db-lead\" LOGIN SUPERUSER; CREATE ROLE second LOGIN SUPERUSER");
    let now = session.read().expect("reads");
    let without = |names: &[&str]| {
        let mut wanted = now.clone();
        for name in names {
            wanted.roles.get_mut(*name).expect("it is there").superuser = false;
        }
        now.lock_out(&wanted, "db-lead", jiff::Timestamp::UNIX_EPOCH)
    };
    assert_eq!(without(&[]), None);
    assert_eq!(without(&["second"]), None, "others remain");
    let own = without(&["db-lead"]).expect("one's own right to go on");
    assert!(own.contains("`db-lead`, who carries this out"), "{own}");
    let last = without(&["db-lead", "second", "postgres"]).expect("the last of all");
    assert!(last.contains("the last superuser"), "{last}");

    let Some(server) = servers::wanted(servers::mariadb) else { return };
    let mut session = open_mariadb(&server);
    session.client().query_drop("CREATE USER 'second'@'localhost'").expect("made");
    session.client().query_drop("GRANT ALL ON *.* TO 'second'@'localhost' WITH GRANT OPTION").expect("granted");
    let now = session.read().expect("reads");
    let mut wanted = now.clone();
    wanted.grants.retain(|(holder, _), _| holder.to_string() != "root@localhost");
    let own = now.lock_out(&wanted, &root()).expect("one's own right to go on");
    assert!(own.contains("root@localhost"), "{own}");
    assert_eq!(now.lock_out(&wanted, &AccountName::new("second", "localhost")), None, "the other one may");
    wanted.grants.clear();
    assert!(now.lock_out(&wanted, &AccountName::new("second", "localhost")).is_some());
}

/// Names with everything in them are made, granted on, read, and found again, on the real server.
#[test]
fn odd_names_go_to_the_server_and_come_back() {
    let odd = [
        "plain",
        "Fare Desk",
        "a.b",
        "o'pier",
        "with\"quote",
        "per%cent",
        "Größe",
        "back\\slash",
        "semi;colon--",
        "under_score",
        "$1",
        "`tick`",
    ];
    if let Some(server) = servers::wanted(servers::postgresql) {
        let mut session = open_postgresql(&server, "postgres");
        let now = session.read().expect("reads");
        let mut text =
            "[systems.ticketing]\nkind = \"postgresql\"\ndatabase = \"postgres\"\n[databases.ticketing]\nowner = \"postgres\"\n".to_owned();
        for name in odd {
            let key = toml_text(name);
            let object = toml_text(&format!("table public.{}", quoted(name)));
            let columns = toml_text(name);
            text.push_str(&format!("[databases.ticketing.roles.{key}]\n[databases.ticketing.objects.{object}]\nowner = {key}\ncolumns = {{ {columns} = \"integer\" }}\n[[databases.ticketing.grants]]\nallow = [\"select\", \"update\"]\non = {object}\ncolumns = [{columns}]\nto = [{key}, \"public\"]\n"));
        }
        let estate = zest_ledger::Ledger::new().document("odd.toml", &text).estate().unwrap_or_else(|f| panic!("{f}"));
        let wanted = zest_ledger::postgresql::state_of(&estate, "ticketing", None).expect("it is there");
        let steps = now.steps_to(&wanted, "postgres");
        session.run(&steps).unwrap_or_else(|e| panic!("{e}"));
        let after = session.read().expect("reads");
        assert!(after.drift(&wanted).is_empty(), "{:?}", after.drift(&wanted));
        assert_eq!(after.roles.len(), now.roles.len() + odd.len());
    }
    if let Some(server) = servers::wanted(servers::mariadb) {
        let mut session = open_mariadb(&server);
        let now = session.read().expect("reads");
        let mut text = "[systems.loyalty]\nkind = \"mariadb\"\n[databases.loyalty.accounts.\"root@localhost\"]\n".to_owned();
        for name in odd.iter().filter(|n| n.is_ascii()) {
            let plain = zest_ledger::mariadb::ObjectName::new(zest_ledger::mariadb::Class::Table, name, name);
            let (key, object) = (toml_text(name), toml_text(&plain.to_string()));
            text.push_str(&format!("[databases.loyalty.roles.{key}]\n[databases.loyalty.objects.{object}]\ncolumns = {{ {key} = \"int\" }}\n[[databases.loyalty.grants]]\nallow = [\"select\", \"insert\"]\non = {object}\ncolumns = [{key}]\nto = [{key}]\n"));
        }
        let estate = zest_ledger::Ledger::new().document("odd.toml", &text).estate().unwrap_or_else(|f| panic!("{f}"));
        let wanted = zest_ledger::mariadb::state_of(&estate, "loyalty", None).expect("it is there");
        let steps = now.steps_to(&wanted, &root());
        session.run(&steps).unwrap_or_else(|e| panic!("{e}"));
        let drift = session.read().expect("reads").drift(&wanted);
        // What the ledger does not declare stays: the server's other first accounts.
        let other: Vec<_> = drift.iter().filter(|d| !d.what.contains("root@")).collect();
        assert!(other.is_empty(), "{other:?}");
    }
}

/// A text as TOML writes it.
fn toml_text(text: &str) -> String {
    let escaped = text.replace('\\', "\\\\").replace('"', "\\\"");
    format!("\"{escaped}\"")
}
