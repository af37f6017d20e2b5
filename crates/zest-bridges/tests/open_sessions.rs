//! When a change bites a session that was opened before it, on both servers: found out, held against our answers, and written as a page.

use std::fmt::Write as _;

use mysql::prelude::Queryable;
use zest_ledger::ask::{Refusal, Verdict};
use zest_ledger::{Before, Engine, Ledger, Question};
use zest_testkit::pages::same_as_file;
use zest_testkit::servers::{self, Server};

/// When what was taken away is gone.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
enum Bites {
    /// The next statement of the open session is refused.
    Immediately,
    /// Not until it opens the database again (`USE`).
    WithUse,
    /// Not until it makes the role active again (`SET ROLE`).
    WithSetRole,
    /// Sessions that are opened from then on are refused, or what they put is.
    WithSignIn,
}

impl Bites {
    const fn words(self) -> &'static str {
        match self {
            Self::Immediately => "at once",
            Self::WithUse => "when the session opens the database again (`USE`)",
            Self::WithSetRole => "when the session makes the role active again (`SET ROLE`)",
            Self::WithSignIn => "at the next sign-in",
        }
    }
}

/// What is given and opened before, what is taken away, what is tried, and when that is refused.
type Row = (&'static str, &'static str, &'static str, &'static str, &'static str, Bites);

use Bites::{Immediately, WithSetRole, WithSignIn, WithUse};

const ON_POSTGRESQL: &[Row] = &[
    ("a privilege on a table", "GRANT SELECT ON t TO clerk", "", "REVOKE SELECT ON t FROM clerk", "SELECT id FROM t", Immediately),
    (
        "a privilege on a column",
        "GRANT SELECT (id) ON t TO clerk",
        "",
        "REVOKE SELECT (id) ON t FROM clerk",
        "SELECT id FROM t",
        Immediately,
    ),
    (
        "a privilege on a schema",
        "GRANT SELECT ON s.t TO clerk; GRANT USAGE ON SCHEMA s TO clerk",
        "",
        "REVOKE USAGE ON SCHEMA s FROM clerk",
        "SELECT id FROM s.t",
        Immediately,
    ),
    (
        "a privilege on a routine",
        "GRANT EXECUTE ON FUNCTION f() TO clerk",
        "",
        "REVOKE EXECUTE ON FUNCTION f() FROM clerk",
        "SELECT f()",
        Immediately,
    ),
    (
        "TEMPORARY on the database",
        "GRANT TEMPORARY ON DATABASE postgres TO clerk",
        "",
        "REVOKE TEMPORARY ON DATABASE postgres FROM clerk",
        "BEGIN; CREATE TEMP TABLE x (id int); ROLLBACK",
        Immediately,
    ),
    (
        "a membership, whose rights are inherited",
        "GRANT SELECT ON t TO crew; GRANT crew TO clerk",
        "",
        "REVOKE crew FROM clerk",
        "SELECT id FROM t",
        Immediately,
    ),
    (
        "the membership of the active role",
        "GRANT SELECT ON t TO crew; GRANT crew TO clerk",
        "SET ROLE crew",
        "REVOKE crew FROM clerk",
        "SELECT id FROM t",
        WithSetRole,
    ),
    (
        "a privilege of the active role",
        "GRANT SELECT ON t TO crew; GRANT crew TO clerk",
        "SET ROLE crew",
        "REVOKE SELECT ON t FROM crew",
        "SELECT id FROM t",
        Immediately,
    ),
    (
        "the right to become anybody",
        "ALTER ROLE clerk SUPERUSER",
        "",
        "ALTER ROLE clerk NOSUPERUSER",
        "SET SESSION AUTHORIZATION crew; RESET SESSION AUTHORIZATION",
        WithSignIn,
    ),
    ("the switch `superuser`", "ALTER ROLE clerk SUPERUSER", "", "ALTER ROLE clerk NOSUPERUSER", "SELECT id FROM t", Immediately),
    (
        "the switch `create-role`",
        "ALTER ROLE clerk CREATEROLE",
        "",
        "ALTER ROLE clerk NOCREATEROLE",
        "BEGIN; CREATE ROLE made; ROLLBACK",
        Immediately,
    ),
    (
        "the switch `bypass-row-security`",
        "GRANT INSERT ON shut TO clerk; ALTER ROLE clerk BYPASSRLS",
        "",
        "ALTER ROLE clerk NOBYPASSRLS",
        "INSERT INTO shut VALUES (1)",
        Immediately,
    ),
    (
        "a policy",
        "GRANT INSERT ON shut TO clerk; CREATE POLICY p ON shut WITH CHECK (true)",
        "",
        "DROP POLICY p ON shut",
        "INSERT INTO shut VALUES (1)",
        Immediately,
    ),
    ("ownership", "ALTER TABLE t OWNER TO clerk", "", "ALTER TABLE t OWNER TO postgres", "SELECT id FROM t", Immediately),
    ("CONNECT on the database", "", "", "REVOKE CONNECT ON DATABASE postgres FROM PUBLIC", "SELECT 1", WithSignIn),
    ("the right to sign in (`NOLOGIN`)", "", "", "ALTER ROLE clerk NOLOGIN", "SELECT 1", WithSignIn),
    ("sessions at all (`CONNECTION LIMIT 0`)", "", "", "ALTER ROLE clerk CONNECTION LIMIT 0", "SELECT 1", WithSignIn),
    (
        "a setting of the account",
        "GRANT SELECT ON s.t TO clerk; GRANT USAGE ON SCHEMA s TO clerk; ALTER ROLE clerk SET search_path TO s",
        "",
        "ALTER ROLE clerk RESET search_path",
        "SELECT id FROM t",
        WithSignIn,
    ),
    (
        "a setting of the database",
        "GRANT SELECT ON s.t TO clerk; GRANT USAGE ON SCHEMA s TO clerk; ALTER DATABASE postgres SET search_path TO s",
        "",
        "ALTER DATABASE postgres RESET search_path",
        "SELECT id FROM t",
        WithSignIn,
    ),
];

const ON_MARIADB: &[Row] = &[
    (
        "a privilege on a table",
        "GRANT SELECT ON club.t TO clerk",
        "",
        "REVOKE SELECT ON club.t FROM clerk",
        "SELECT id FROM club.t",
        Immediately,
    ),
    (
        "a privilege on a column",
        "GRANT SELECT (id) ON club.t TO clerk",
        "",
        "REVOKE SELECT (id) ON club.t FROM clerk",
        "SELECT id FROM club.t",
        Immediately,
    ),
    (
        "a privilege on a routine",
        "GRANT EXECUTE ON PROCEDURE club.p TO clerk",
        "",
        "REVOKE EXECUTE ON PROCEDURE club.p FROM clerk",
        "CALL club.p()",
        Immediately,
    ),
    (
        "a privilege on a database that is not the default one",
        "GRANT SELECT ON club.* TO clerk",
        "",
        "REVOKE SELECT ON club.* FROM clerk",
        "SELECT id FROM club.t",
        Immediately,
    ),
    (
        "a privilege on the default database",
        "GRANT SELECT ON club.* TO clerk",
        "USE club",
        "REVOKE SELECT ON club.* FROM clerk",
        "SELECT id FROM t",
        WithUse,
    ),
    (
        "a privilege on everything",
        "GRANT SELECT ON *.* TO clerk",
        "",
        "REVOKE SELECT ON *.* FROM clerk",
        "SELECT id FROM club.t",
        WithSignIn,
    ),
    (
        "a privilege of PUBLIC on everything",
        "GRANT SELECT ON *.* TO PUBLIC",
        "",
        "REVOKE SELECT ON *.* FROM PUBLIC",
        "SELECT id FROM club.t",
        WithSignIn,
    ),
    (
        "the membership of the active role",
        "GRANT SELECT ON club.t TO crew; GRANT crew TO clerk",
        "SET ROLE crew",
        "REVOKE crew FROM clerk",
        "SELECT id FROM club.t",
        WithSetRole,
    ),
    (
        "a privilege of the active role on a table",
        "GRANT SELECT ON club.t TO crew; GRANT crew TO clerk",
        "SET ROLE crew",
        "REVOKE SELECT ON club.t FROM crew",
        "SELECT id FROM club.t",
        Immediately,
    ),
    (
        "a privilege of the active role on the default database",
        "GRANT SELECT ON club.* TO crew; GRANT crew TO clerk",
        "SET ROLE crew; USE club",
        "REVOKE SELECT ON club.* FROM crew",
        "SELECT id FROM t",
        WithUse,
    ),
    (
        "a privilege of the active role on everything",
        "GRANT SELECT ON *.* TO crew; GRANT crew TO clerk",
        "SET ROLE crew",
        "REVOKE SELECT ON *.* FROM crew",
        "SELECT id FROM club.t",
        WithSetRole,
    ),
    (
        "the default role",
        "GRANT SELECT ON club.t TO crew; GRANT crew TO clerk; SET DEFAULT ROLE crew FOR clerk",
        "",
        "SET DEFAULT ROLE NONE FOR clerk",
        "SELECT id FROM club.t",
        WithSignIn,
    ),
    ("the right to sign in (`ACCOUNT LOCK`)", "", "", "ALTER USER clerk ACCOUNT LOCK", "SELECT 1", WithSignIn),
    ("the credential", "", "", "ALTER USER clerk IDENTIFIED BY 'another'", "SELECT 1", WithSignIn),
    ("a session without a certificate (`REQUIRE X509`)", "", "", "ALTER USER clerk REQUIRE X509", "SELECT 1", WithSignIn),
    ("the account (`DROP USER`)", "", "", "DROP USER clerk", "SELECT 1", WithSignIn),
];

/// A session; `Err` where it cannot be opened or a statement is refused.
trait Sessions {
    /// Takes everything back that a row before has left, and makes account, role and objects.
    fn fresh(&mut self);
    fn admin(&mut self, statements: &str);
    fn open(&mut self) -> Result<(), String>;
    fn put(&mut self, statements: &str) -> Result<(), String>;
    /// Reads the server into a ledger, as the system `db`.
    fn engine(&mut self) -> Engine;
}

/// Holds against the server what we say of the open session; where it is not known, nothing is allowed.
fn is_said(then: &Engine, now: &Engine, (what, _, opening, _, tried, bites): &Row) {
    let mut question = Question::statement("clerk", "db", tried).from("127.0.0.1".parse().expect("an address"));
    question.session.at = Some(jiff::Timestamp::now());
    question.session.active_roles = opening.contains("SET ROLE").then(|| vec!["crew".to_owned()]);
    let answer = now.ask_opened(&Before { at: question.session.at, ..Before::new(then) }, &question);
    let said = (answer.verdict == Verdict::Allowed, answer.refusal == Some(Refusal::NotDecided));
    // Which database is the default one no question states; what sessions may of an account that is gone, and whether one may still become
    // anybody, is not known.
    let is_known = *bites != WithUse && !["DROP USER", "anybody", "not the default"].iter().any(|words| what.contains(words));
    let wanted = if is_known { (*bites != Immediately, false) } else { (false, true) };
    assert_eq!(said, wanted, "{what}: {answer:#?}");
}

/// Finds out when a row bites.
fn found(sessions: &mut impl Sessions, row: &Row) -> Bites {
    let (what, before, opening, change, tried, _) = row;
    sessions.fresh();
    sessions.admin(before);
    sessions.open().unwrap_or_else(|e| panic!("{what}: {e}"));
    sessions.put(opening).unwrap_or_else(|e| panic!("{what}: {opening}: {e}"));
    sessions.put(tried).unwrap_or_else(|e| panic!("{what}: {tried}: {e}"));
    let then = sessions.engine();
    sessions.admin(change);
    is_said(&then, &sessions.engine(), row);
    if sessions.put(tried).is_err() {
        return Immediately;
    }
    if opening.contains("USE") && (sessions.put("USE club").is_err() || sessions.put(tried).is_err()) {
        return WithUse;
    }
    if opening.contains("SET ROLE") && (sessions.put("SET ROLE NONE; SET ROLE crew").is_err() || sessions.put(tried).is_err()) {
        return WithSetRole;
    }
    assert!(sessions.open().is_err() || sessions.put(tried).is_err(), "{what}: it never bites");
    WithSignIn
}

fn table(sessions: &mut impl Sessions, rows: &[Row]) -> String {
    let mut page = "\n| what is taken away | it is gone | such as |\n|---|---|---|\n".to_owned();
    for row in rows {
        let bites = found(sessions, row);
        assert_eq!(bites, row.5, "{}", row.0);
        let _ = writeln!(page, "| {} | {} | `{}` |", row.0, bites.words(), row.3);
    }
    page
}

struct Postgresql {
    server: Server,
    admin: postgres::Client,
    session: Option<postgres::Client>,
}

impl Postgresql {
    fn client(server: &Server, user: &str) -> Result<postgres::Client, String> {
        let mut config = postgres::Client::configure();
        config.host("127.0.0.1").port(server.port).user(user).dbname("postgres");
        config.connect(postgres::NoTls).map_err(|e| e.to_string())
    }
}

impl Sessions for Postgresql {
    fn fresh(&mut self) {
        self.session = None;
        self.admin(
            "DROP SCHEMA IF EXISTS s CASCADE; DROP TABLE IF EXISTS t, shut; DROP FUNCTION IF EXISTS f(); GRANT CONNECT ON DATABASE postgres TO PUBLIC;
             REVOKE TEMPORARY ON DATABASE postgres FROM PUBLIC;
             DO $$ BEGIN DROP OWNED BY clerk, crew; DROP ROLE clerk, crew; EXCEPTION WHEN undefined_object THEN NULL; END $$;
             CREATE ROLE clerk LOGIN; CREATE ROLE crew; CREATE TABLE t (id int); CREATE SCHEMA s; CREATE TABLE s.t (id int);
             CREATE TABLE shut (id int); ALTER TABLE shut ENABLE ROW LEVEL SECURITY;
             CREATE FUNCTION f() RETURNS int LANGUAGE sql AS 'select 1'; REVOKE EXECUTE ON FUNCTION f() FROM PUBLIC",
        );
    }

    fn admin(&mut self, statements: &str) {
        self.admin.batch_execute(statements).unwrap_or_else(|e| panic!("{statements}: {e:?}"));
    }

    fn open(&mut self) -> Result<(), String> {
        self.session = Some(Self::client(&self.server, "clerk")?);
        Ok(())
    }

    fn put(&mut self, statements: &str) -> Result<(), String> {
        let session = self.session.as_mut().ok_or("there is no session")?;
        let came = session.batch_execute(statements).map_err(|e| format!("{e:?}"));
        let _ = session.batch_execute("ROLLBACK");
        came
    }

    fn engine(&mut self) -> Engine {
        let state = crate::postgresql::open(&self.server, "postgres").read().expect("reads");
        Ledger::new().document("read.toml", &state.document("db", None)).engine(1).expect("it was read")
    }
}

struct Mariadb {
    server: Server,
    admin: mysql::Conn,
    session: Option<mysql::Conn>,
}

impl Sessions for Mariadb {
    fn fresh(&mut self) {
        self.session = None;
        self.admin(
            "DROP DATABASE IF EXISTS club; DROP USER IF EXISTS clerk; DROP ROLE IF EXISTS crew; CREATE DATABASE club; CREATE TABLE club.t (id int); \
             CREATE PROCEDURE club.p() SELECT 1; CREATE USER clerk; CREATE ROLE crew",
        );
    }

    fn admin(&mut self, statements: &str) {
        for statement in statements.split("; ").filter(|statement| !statement.is_empty()) {
            self.admin.query_drop(statement).unwrap_or_else(|e| panic!("{statement}: {e}"));
        }
    }

    fn open(&mut self) -> Result<(), String> {
        let local = zest_ledger::mariadb::Origin::Address(std::net::Ipv4Addr::LOCALHOST.into());
        self.session = Some(crate::mariadb::connect(&self.server, "clerk", &local)?);
        Ok(())
    }

    fn put(&mut self, statements: &str) -> Result<(), String> {
        let session = self.session.as_mut().ok_or("there is no session")?;
        statements
            .split("; ")
            .filter(|statement| !statement.is_empty())
            .try_for_each(|statement| session.query_drop(statement))
            .map_err(|e| e.to_string())
    }

    fn engine(&mut self) -> Engine {
        let state = crate::mariadb::open(&self.server).read().expect("reads");
        Ledger::new().document("read.toml", &state.document("db", None)).engine(1).expect("it was read")
    }
}

#[test]
fn what_is_taken_away_bites_open_sessions_when_the_page_says() {
    let (Some(postgresql), Some(mariadb)) = (servers::wanted(servers::postgresql), servers::wanted(servers::mariadb)) else { return };
    let admin = Postgresql::client(&postgresql, "postgres").expect("the server answers");
    let on_postgresql = table(&mut Postgresql { server: postgresql, admin, session: None }, ON_POSTGRESQL);
    let admin = crate::mariadb::connect(&mariadb, "root", &zest_ledger::mariadb::Origin::Local).expect("the server answers");
    let on_mariadb = table(&mut Mariadb { server: mariadb, admin, session: None }, ON_MARIADB);
    let page = format!(
        "# Sessions that are open already\n\nA change of the ledger, once it is rolled out, reaches sessions that were opened before it sooner or later. Each row was tried on the\n\
         server by a test, which writes this page (`ZEST_REWRITE=1`): a session is opened and does something, the right to it is taken away, and\n\
         it does it again.\n\n\
         Answers of `zest ask` are about a session that is opened at the moment of the question. With `--opened TIME`, `--was FOLDER` or\n\
         `--was-at REVISION` they are about one that was opened earlier, when the ledger was another, and is still open: the same test holds\n\
         these answers against the session. Whoever must be sure that an open session is bound ends it (`pg_terminate_backend`, `KILL`).\n\n\
         Devices keep the band of the sign-in, clouds and applications nothing ([semantics](semantics.md#sessions-that-are-open-already)).\n\n## PostgreSQL 15\n{on_postgresql}\n## MariaDB 10.11\n{on_mariadb}"
    );
    same_as_file("docs/open-sessions.md", &page);
}
