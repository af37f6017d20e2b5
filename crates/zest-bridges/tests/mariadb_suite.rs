//! The suite of statements on MariaDB, on the demo's loyalty server with all that it has not got.
//!
//! What the server carries out there cannot be rolled back, so accounts and objects are put back after each statement that changes them.

use std::net::IpAddr;

use mysql::prelude::Queryable;
use mysql::{Conn, Row};
use zest_ledger::ask::Session;
use zest_ledger::mariadb::{Origin, quoted, state_of};
use zest_ledger::{Engine, Ledger, Prepared, Question};
use zest_testkit::servers::{self, Server};

use crate::mariadb::{clean, connect, open, refusal, root};
use crate::mariadb_statements::moved;
use crate::suites::{Compared, Record, Said, Written, suite};

/// Logins, where they come from, and the role they make active.
const IDENTITIES: &[(&str, &str, Option<&str>)] = &[
    ("chief", "127.0.9.1", None),
    ("keeper", "127.0.9.1", None),
    ("builder", "127.0.9.1", None),
    ("clerk", "127.0.9.1", None),
    ("clerk", "127.0.9.1", Some("handy")),
    ("nobody", "127.0.9.1", None),
    ("db-lead", "127.0.5.9", Some("member-admin")),
    ("pier-desk", "127.0.7.4", None),
    ("tariff-1", "127.0.5.3", None),
    ("tariff-1", "127.0.5.3", Some("campaign")),
    ("auditor-1", "127.0.5.20", None),
    ("loyalty-app", "127.0.5.8", None),
    ("purser-3", "127.0.6.2", None),
];

/// The tables in which the server keeps accounts and rights.
const RIGHTS: &[&str] = &["global_priv", "db", "tables_priv", "columns_priv", "procs_priv", "roles_mapping", "proxies_priv"];

/// How a server is put back to what it was.
struct Kept {
    admin: Conn,
    /// The statements that make all objects, each with its database.
    objects: Vec<(String, String)>,
}

fn run(conn: &mut Conn, text: &str) {
    conn.query_drop(text).unwrap_or_else(|e| panic!("{text}: {e}"));
}

impl Kept {
    fn of(server: &Server) -> Self {
        let mut admin = connect(server, "root", &Origin::Local).expect("root may");
        run(&mut admin, "CREATE DATABASE kept");
        for table in RIGHTS {
            run(&mut admin, &format!("CREATE TABLE kept.{table} AS SELECT * FROM mysql.{table}"));
        }
        let mut objects = Vec::new();
        let databases = ["club", "club_archive", "campaigns"];
        databases.iter().for_each(|name| objects.push((String::from(*name), format!("CREATE DATABASE {name}"))));
        let list = "'club', 'club_archive', 'campaigns'";
        let order = "FIELD(table_type, 'SEQUENCE', 'BASE TABLE', 'VIEW'), table_name IN ('deep', 'in_deep')";
        let tables: Vec<(String, String, String)> = admin
            .query(format!(
                "SELECT table_schema, table_name, table_type FROM information_schema.tables WHERE table_schema IN ({list}) ORDER BY {order}"
            ))
            .expect("root may");
        let routines: Vec<(String, String, String)> = admin
            .query(format!(
                "SELECT routine_schema, routine_name, routine_type FROM information_schema.routines WHERE routine_schema IN ({list})"
            ))
            .expect("root may");
        let triggers: Vec<(String, String, String)> = admin
            .query(format!(
                "SELECT trigger_schema, trigger_name, 'TRIGGER' FROM information_schema.triggers WHERE trigger_schema IN ({list})"
            ))
            .expect("root may");
        for (database, name, sort) in tables.into_iter().chain(routines).chain(triggers) {
            let (word, column) = match sort.as_str() {
                "VIEW" => ("VIEW", 1),
                "SEQUENCE" => ("SEQUENCE", 1),
                "PROCEDURE" => ("PROCEDURE", 2),
                "FUNCTION" => ("FUNCTION", 2),
                "TRIGGER" => ("TRIGGER", 2),
                _ => ("TABLE", 1),
            };
            let row: Row =
                admin.query_first(format!("SHOW CREATE {word} {database}.{}", quoted(&name))).expect("root may").expect("it is there");
            objects.push((database.clone(), format!("USE {database}")));
            objects.push((database, row.get(column).expect("its text")));
        }
        Self { admin, objects }
    }

    fn rights(&mut self) {
        let anew = |table| format!("DELETE FROM mysql.{table}; INSERT INTO mysql.{table} SELECT * FROM kept.{table}; ");
        let all: String = RIGHTS.iter().map(anew).collect();
        run(&mut self.admin, &(all + "FLUSH PRIVILEGES"));
    }

    /// Puts back the databases that a text names; all of them if that is none.
    fn objects(&mut self, text: &str) {
        let all = ["club", "club_archive", "campaigns", "novel"];
        let named: Vec<&str> = all.into_iter().filter(|name| text.contains(name)).collect();
        let changed = if named.is_empty() { all.to_vec() } else { named };
        let gone = changed.iter().map(|name| format!("DROP DATABASE IF EXISTS {name}"));
        let of_changed = self.objects.iter().filter(|(database, _)| changed.contains(&database.as_str()));
        // All at once: one trip to the server.
        let steps: Vec<String> = gone.chain(of_changed.map(|(_, text)| text.clone())).collect();
        run(&mut self.admin, &steps.join(";\n"));
    }

    /// Puts back what a statement may have changed.
    fn after(&mut self, statement: &str, said: &Said) {
        let text = statement.to_lowercase();
        // One that fails leaves nothing behind, unless it does several things.
        let does_one =
            !text.contains("; ") && !text.contains(" or replace ") && ["create ", "alter "].iter().any(|verb| text.starts_with(verb));
        match said {
            Said::Allowed(None) => {}
            Said::Allowed(Some(_)) if !does_one => {}
            Said::Allowed(Some(_)) | Said::Refused(_) | Said::Nothing(_) => return,
        }
        let of_accounts = ["user", "role", "default role", "password"].iter().any(|word| {
            ["create ", "create or replace ", "alter ", "drop ", "rename ", "set "]
                .iter()
                .any(|verb| text.starts_with(&format!("{verb}{word}")))
        });
        let is_grant = text.starts_with("grant ") || text.starts_with("revoke ") || text.contains(" mysql.");
        let changing = ["create ", "alter ", "drop ", "rename ", "truncate ", "call club.makes"];
        let of_objects = changing.iter().any(|verb| text.starts_with(verb)) && !of_accounts;
        if of_objects {
            self.objects(&text);
        }
        if of_accounts || is_grant || of_objects && (text.contains("procedure") || text.contains("function") || text.contains("routine")) {
            self.rights();
        }
    }
}

/// Attempts a statement in a session of its own.
fn attempt(server: &Server, (login, address, role): (&str, IpAddr, Option<&str>), statement: &str) -> Said {
    let mut conn = connect(server, login, &Origin::Address(address)).unwrap_or_else(|e| panic!("{login}: {e}"));
    if let Some(role) = role {
        run(&mut conn, &format!("SET ROLE {}", quoted(role)));
    }
    let parts: Vec<&str> = if statement.contains("begin") { vec![statement] } else { statement.split("; ").collect() };
    let came = parts.into_iter().try_for_each(|one| {
        let mut rows = conn.query_iter(one)?;
        rows.try_for_each(|row| row.map(drop))
    });
    let Err(error) = came else { return Said::Allowed(None) };
    // That there is no such grant to take back is no refusal.
    if let Some((code, text)) = refusal(&error).filter(|(code, _)| *code != 1141) {
        return Said::Refused(format!("{text} ({code})"));
    }
    let mysql::Error::MySqlError(server) = &error else { return Said::Allowed(Some(error.to_string())) };
    let text = format!("{} ({})", server.message, server.code);
    // No statement of this server; not in this state of it; a thread that is not there; no database to look in.
    if matches!(server.code, 1064 | 1235 | 1094 | 1046) { Said::Nothing(text) } else { Said::Allowed(Some(text)) }
}

#[test]
fn each_form_of_the_manual_has_the_servers_verdict() {
    let Some(server) = servers::wanted(|| servers::mariadb_with(&["--default-storage-engine=Aria"])) else { return };
    let estate = moved().estate().unwrap_or_else(|f| panic!("{f}"));
    let ledger = state_of(&estate, "loyalty", None).expect("the demo has it");
    let mut session = open(&server);
    clean(&mut session);
    let steps = session.read().expect("reads").steps_to(&ledger, &root());
    session.run(&steps).unwrap_or_else(|e| panic!("{e}"));
    for line in include_str!("statements/mariadb-estate.sql").lines().filter(|line| !line.starts_with("--")) {
        run(session.client(), line);
    }
    for account in session.read().expect("reads").accounts.keys() {
        run(session.client(), &format!("SET PASSWORD FOR {} = ''", account.sql()));
    }
    run(session.client(), "FLUSH PRIVILEGES");
    let read = session.read().expect("reads");
    let document = read.document("loyalty", None);
    let estate = Ledger::new().document("read.toml", &document).estate().unwrap_or_else(|f| panic!("{f}\n{document}"));
    // What was read and is untouched is no drift, and leaves nothing to do.
    let kept = state_of(&estate, "loyalty", None).expect("it was read");
    assert_eq!((read.drift(&kept), read.steps_to(&kept, &root())), (Vec::new(), Vec::new()));
    let engine = Engine::compile(estate).unwrap_or_else(|f| panic!("{f}"));
    let mut kept = Kept::of(&server);
    let all: Vec<Written> = suite(include_str!("statements/mariadb.txt"));
    let mut compared = Compared::by_forms(include_str!("statements/mariadb-forms.txt"));
    let prepared: Vec<Prepared<'_>> = all.iter().map(|one| engine.prepare(&Question::statement("", "loyalty", &one.sql))).collect();
    let mut record = Record::of("crates/zest-bridges/tests/statements/mariadb-said.txt", &all);
    for (identity, (login, from, role)) in IDENTITIES.iter().enumerate() {
        let address: IpAddr = from.parse().expect("an address");
        let who = format!("{login}{}", role.map_or(String::new(), |r| format!(" as {r}")));
        for (number, (statement, prepared)) in all.iter().zip(&prepared).enumerate() {
            let question = prepared.question(login, Session::default()).from(address);
            let question = role.map_or(question.clone(), |role| question.active_role(role));
            let decision = prepared.decide(&question);
            let said = record.said((number, identity), decision, || {
                let said = attempt(&server, (login, address, *role), &statement.sql);
                kept.after(&statement.sql, &said);
                said
            });
            compared.add(&who, statement, decision, || engine.explain(&question), &said);
        }
    }
    compared.concludes("MariaDB 10.11", ("docs/statements-on-mariadb.md", &record), all.len(), IDENTITIES.len());
}
