//! What the server brings along, as lists beside the rules: read from a fresh server, and held against what is checked in.
//!
//! `ZEST_REWRITE=1` writes the lists.

use std::fmt::Write as _;

use mysql::prelude::Queryable;
use zest_bridges::postgresql::Session;
use zest_ledger::Question;
use zest_ledger::ask::Refusal;
use zest_ledger::mariadb::Origin;
use zest_testkit::servers;

use crate::mariadb::connect;
use crate::postgresql::{open, sql};
use crate::support::engine_of;

/// Roles of the server that can see more than everybody.
const READERS: &[&str] = &["pg_monitor", "pg_read_all_settings", "pg_read_all_stats", "pg_stat_scan_tables", "pg_read_all_data"];

fn rows(session: &mut Session, query: &str) -> Vec<Vec<String>> {
    let messages = session.client().simple_query(query).unwrap_or_else(|e| panic!("{query}: {e}"));
    let row = |message: &postgres::SimpleQueryMessage| match message {
        postgres::SimpleQueryMessage::Row(row) => Some((0..row.len()).map(|i| row.get(i).unwrap_or("").to_owned()).collect()),
        _ => None,
    };
    messages.iter().filter_map(row).collect()
}

fn may(session: &mut Session, role: &str, attempt: &str) -> bool {
    sql(session, &format!("SET ROLE {role}"));
    let came = session.client().batch_execute(attempt);
    sql(session, "RESET ROLE");
    came.is_ok()
}

/// Says who may do what everybody is refused: the readers that may, or a dash.
fn who(session: &mut Session, attempt: &str) -> String {
    if may(session, "nobody", attempt) {
        return "public".to_owned();
    }
    let list: Vec<&str> = READERS.iter().copied().filter(|role| may(session, role, attempt)).collect();
    if list.is_empty() { "-".to_owned() } else { list.join(",") }
}

fn held_against(file: &str, now: &str) {
    let path = std::path::Path::new(env!("CARGO_MANIFEST_DIR")).join("../zest-databases/src").join(file);
    if std::env::var_os("ZEST_REWRITE").is_some() {
        std::fs::write(&path, now).expect("it is written");
    }
    let kept = std::fs::read_to_string(&path).unwrap_or_default();
    let first = kept.lines().zip(now.lines()).find(|(kept, now)| kept != now);
    assert!(kept == now, "{file} is not what the server says now; first: {first:?}");
}

/// What is done to rights on what the server brings along, a statement that looks at it, and one beside it that does not.
const CHANGES: &[(&str, &str, &str)] = &[
    ("GRANT SELECT ON pg_authid TO clerk", "SELECT count(*) FROM pg_authid", "SELECT count(*) FROM pg_class"),
    ("GRANT SELECT (rolpassword) ON pg_authid TO clerk", "SELECT count(rolpassword) FROM pg_authid", "SELECT count(*) FROM pg_roles"),
    ("REVOKE SELECT ON pg_class FROM PUBLIC", "SELECT count(*) FROM pg_class", "SELECT count(*) FROM pg_roles"),
    ("REVOKE SELECT ON pg_shmem_allocations FROM pg_read_all_stats", "SELECT count(*) FROM pg_shmem_allocations", "SELECT 1"),
    ("GRANT EXECUTE ON FUNCTION pg_read_file(text) TO clerk", "SELECT length(pg_read_file('PG_VERSION'))", "SELECT 1"),
    ("GRANT EXECUTE ON FUNCTION pg_read_file(text) TO PUBLIC", "SELECT length(pg_read_file('PG_VERSION'))", "SELECT 1"),
    ("REVOKE EXECUTE ON FUNCTION pg_ls_waldir() FROM pg_monitor", "SELECT count(*) FROM pg_ls_waldir()", "SELECT 1"),
    ("REVOKE EXECUTE ON FUNCTION pg_ls_waldir() FROM pg_monitor", "SELECT count(name) FROM pg_catalog.pg_ls_waldir()", "SELECT 1"),
    (
        "REVOKE USAGE ON SCHEMA information_schema FROM PUBLIC",
        "SELECT count(*) FROM information_schema.tables",
        "SELECT count(*) FROM pg_class",
    ),
];

/// Changed rights on what is built in are named where the server is read: what looks at it is not decided, and all else is.
#[test]
fn changed_rights_on_what_is_built_into_postgresql_are_not_known() {
    let Some(server) = servers::wanted(servers::postgresql) else { return };
    let mut admin = open(&server, "postgres");
    sql(&mut admin, "CREATE ROLE clerk LOGIN; GRANT pg_monitor TO clerk");
    for (number, (change, touches, other)) in CHANGES.iter().enumerate() {
        sql(&mut admin, &format!("CREATE DATABASE changed_{number} TEMPLATE template0"));
        let mut session = open(&server, &format!("changed_{number}"));
        let before = may(&mut session, "clerk", touches);
        sql(&mut session, change);
        let document = session.read().expect("it is read").document("it", None);
        let engine = engine_of(&document).expect("the document can be read");
        let ours = |statement: &str| engine.explain(&Question::statement("clerk", "it", statement)).refusal;
        assert!(may(&mut session, "clerk", touches) != before, "{change}: it matters to the server");
        assert_eq!(ours(touches), Some(Refusal::NotDecided), "{change}: {touches}");
        assert!(may(&mut session, "clerk", other) && ours(other).is_none(), "{change}: {other}");
    }
}

#[test]
fn the_lists_of_what_is_built_into_postgresql_are_the_servers() {
    let Some(server) = servers::wanted(servers::postgresql) else { return };
    let mut session = open(&server, "postgres");
    sql(&mut session, "CREATE ROLE nobody");
    let mut catalogs = String::new();
    let query = "SELECT CASE n.nspname WHEN 'pg_catalog' THEN '' ELSE n.nspname || '.' END || relname, n.nspname || '.' || relname,
                        string_agg(CASE WHEN attacl IS NOT NULL OR NOT EXISTS (SELECT FROM pg_attribute o WHERE o.attrelid = c.oid AND o.attacl IS NOT NULL)
                                   THEN '' ELSE '!' END || attname, ' ' ORDER BY attnum), bool_or(attacl IS NOT NULL)
                 FROM pg_class c JOIN pg_namespace n ON n.oid = relnamespace JOIN pg_attribute a ON attrelid = c.oid AND attnum > 0
                 WHERE n.nspname IN ('pg_catalog', 'information_schema') AND relkind IN ('r', 'v') GROUP BY n.nspname, relname, c.oid
                 ORDER BY n.nspname COLLATE \"C\", relname COLLATE \"C\"";
    for row in rows(&mut session, query) {
        let [name, full, columns, by_column] = row.as_slice() else { panic!("{row:?}") };
        let may = if by_column == "t" { "public".to_owned() } else { who(&mut session, &format!("SELECT * FROM {full} LIMIT 0")) };
        let _ = writeln!(catalogs, "{name} {may} {columns}");
    }
    held_against("postgresql/catalogs.txt", &catalogs);
    let mut settings = String::new();
    for row in rows(&mut session, "SELECT name, context FROM pg_settings ORDER BY name COLLATE \"C\"") {
        let [name, context] = row.as_slice() else { panic!("{row:?}") };
        let shown = who(&mut session, &format!("SHOW {name}"));
        let _ = writeln!(settings, "{} {context} {shown}", name.to_lowercase());
    }
    held_against("postgresql/settings.txt", &settings);
    let mut guarded = String::new();
    let query = "SELECT proname, string_agg(DISTINCT coalesce(r.rolname, '-'), ',' ORDER BY coalesce(r.rolname, '-'))
                 FROM pg_proc p LEFT JOIN LATERAL (SELECT grantee FROM aclexplode(proacl) WHERE grantee <> proowner) x ON true
                      LEFT JOIN pg_roles r ON r.oid = x.grantee
                 WHERE pronamespace = 'pg_catalog'::regnamespace GROUP BY proname
                 HAVING bool_and(proacl IS NOT NULL AND NOT EXISTS (SELECT FROM aclexplode(proacl) WHERE grantee = 0)) ORDER BY proname COLLATE \"C\"";
    for row in rows(&mut session, query) {
        let _ = writeln!(guarded, "{}", row.join(" "));
    }
    held_against("postgresql/functions-guarded.txt", &guarded);
}

/// The privileges that a refusal names, in small letters.
fn named(error: &mysql::Error) -> Option<String> {
    let mysql::Error::MySqlError(error) = error else { return None };
    let list = error.message.strip_prefix("Access denied; you need (at least one of) the ")?.split(" privilege(s)").next()?;
    Some(list.to_lowercase().replace(", ", ","))
}

#[test]
fn the_lists_of_what_is_built_into_mariadb_are_the_servers() {
    let Some(server) = servers::wanted(servers::mariadb) else { return };
    let mut admin = connect(&server, "root", &Origin::Local).expect("root may");
    admin.query_drop("CREATE USER nobody@localhost").expect("root may");
    let mut nobody = connect(&server, "nobody", &Origin::Local).expect("it may sign in");
    let mut settings = String::new();
    let query = "SELECT LOWER(variable_name), variable_scope, read_only FROM information_schema.system_variables ORDER BY 1";
    for (name, scope, read_only) in admin.query::<(String, String, String), _>(query).expect("root may") {
        let mut who = |word: &str, is_there: bool| {
            if !is_there || read_only == "YES" {
                return "-".to_owned();
            }
            // What is checked of a value is not always checked of the default.
            let values = ["DEFAULT".to_owned(), format!("@@{word}.{name}"), "1".to_owned()];
            let refusal = values.iter().find_map(|value| named(&nobody.query_drop(format!("SET {word} {name} = {value}")).err()?));
            refusal.unwrap_or_else(|| "everybody".to_owned())
        };
        let (session, global) = (who("SESSION", scope != "GLOBAL"), who("GLOBAL", scope != "SESSION ONLY"));
        let _ = writeln!(settings, "{name};{session};{global}");
    }
    held_against("mariadb/settings.txt", &settings);
    // The session that set all that would answer otherwise.
    let mut nobody = connect(&server, "nobody", &Origin::Local).expect("it may sign in");
    let mut catalogs = String::new();
    let query = "SELECT table_name, GROUP_CONCAT(column_name ORDER BY ordinal_position SEPARATOR ' ') FROM information_schema.columns
                 WHERE table_schema = 'information_schema' GROUP BY 1 ORDER BY 1";
    for (name, columns) in admin.query::<(String, String), _>(query).expect("root may") {
        let came = nobody.query_drop(format!("SELECT * FROM information_schema.{name} LIMIT 1"));
        let who = came.err().map_or_else(|| "everybody".to_owned(), |error| named(&error).unwrap_or_else(|| panic!("{name}: {error}")));
        let _ = writeln!(catalogs, "{};{who};{}", name.to_lowercase(), columns.to_lowercase());
    }
    // Some that measure are open to everybody.
    let query = query.replace("information_schema'", "performance_schema'");
    for (name, columns) in admin.query::<(String, String), _>(query).expect("root may") {
        if nobody.query_drop(format!("SELECT * FROM performance_schema.{name} LIMIT 1")).is_ok() {
            let _ = writeln!(catalogs, "performance_schema.{};everybody;{}", name.to_lowercase(), columns.to_lowercase());
        }
    }
    held_against("mariadb/catalogs.txt", &catalogs);
}
