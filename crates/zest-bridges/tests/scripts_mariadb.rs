//! The scripts with which MariaDB's authors try it.

use std::collections::BTreeMap;
use std::time::Duration;

use mysql::prelude::Queryable;
use mysql::{Conn, OptsBuilder};
use zest_bridges::mariadb::Session;
use zest_ledger::mariadb::quoted;
use zest_ledger::{Engine, Question};
use zest_testkit::servers::{self, Server};

use crate::mariadb::{refusal, target};
use crate::scripts::{Came, Compared, first_word, scripts};
use crate::support::engine_of;

/// One step of a script.
#[derive(Debug)]
enum Step {
    Connect { name: String, user: String, password: String, database: String },
    Connection(String),
    Disconnect(String),
    Sql(String),
}

/// The words that begin a statement; what else begins a line is a command to the program that carries scripts out.
const STATEMENTS: &[&str] = &[
    "alter",
    "analyze",
    "begin",
    "binlog",
    "cache",
    "call",
    "check",
    "checksum",
    "commit",
    "create",
    "deallocate",
    "delete",
    "desc",
    "describe",
    "do",
    "drop",
    "execute",
    "explain",
    "flush",
    "grant",
    "help",
    "insert",
    "load",
    "optimize",
    "prepare",
    "purge",
    "rename",
    "repair",
    "replace",
    "revoke",
    "rollback",
    "savepoint",
    "select",
    "set",
    "show",
    "signal",
    "table",
    "truncate",
    "unlock",
    "update",
    "use",
    "values",
    "with",
    "",
];

/// Takes a script apart. What stands in a condition or a loop is carried out once.
fn steps(text: &str) -> Vec<Step> {
    let mut out = Vec::new();
    let mut delimiter = ";".to_owned();
    let mut rest = text.trim_start();
    while !rest.is_empty() {
        let line = rest.split('\n').next().unwrap_or("");
        let after_line = &rest[line.len()..];
        if line.starts_with('#') {
            rest = after_line.trim_start();
            continue;
        }
        let (command, mut after) = match line.strip_prefix("--") {
            Some(command) => (command.trim(), after_line),
            None => {
                let end = end_of(rest, &delimiter);
                (rest[..end].trim(), rest.get(end + delimiter.len()..).unwrap_or(""))
            }
        };
        let word = command.split(|c: char| !(c.is_alphanumeric() || c == '_')).next().unwrap_or("").to_lowercase();
        let arguments = command[word.len()..].trim().trim_end_matches(';').trim();
        match word.as_str() {
            "delimiter" => {
                // `delimiter |;` ends with the old one.
                let new = arguments.strip_suffix(&delimiter).filter(|new| !new.is_empty()).unwrap_or(arguments).trim();
                delimiter = if new.is_empty() { ";".to_owned() } else { new.to_owned() };
            }
            "connect" => {
                let inner = arguments.trim_start_matches('(').trim_end_matches(')');
                let parts: Vec<&str> = inner.split(',').map(|part| part.trim().trim_matches(['\'', '"'])).collect();
                let part = |n: usize| parts.get(n).copied().filter(|part| *part != "*NO-ONE*").unwrap_or("").to_owned();
                out.push(Step::Connect { name: part(0), user: part(2), password: part(3), database: part(4) });
            }
            "connection" => out.push(Step::Connection(arguments.to_owned())),
            "disconnect" | "dirty_close" => out.push(Step::Disconnect(arguments.to_owned())),
            "eval" | "evalp" | "send" | "send_eval" | "query_vertical" | "query_horizontal" => out.push(Step::Sql(arguments.to_owned())),
            "write_file" | "append_file" | "perl" => after = after.find("\nEOF").map_or("", |n| &after[n + 4..]),
            "if" | "while" => after = after_line,
            "" if command.starts_with(['{', '}']) => after = after_line,
            word if STATEMENTS.contains(&word) => out.push(Step::Sql(command.to_owned())),
            _ => {}
        }
        rest = after.trim_start();
    }
    // A variable of the script stands in it.
    out.into_iter().filter(|step| !matches!(step, Step::Sql(sql) if sql.is_empty() || sql.contains('$'))).collect()
}

/// Where a command ends: at the delimiter outside of quotes and comments.
fn end_of(text: &str, delimiter: &str) -> usize {
    let bytes = text.as_bytes();
    let (mut at, mut quote) = (0, None);
    while at < bytes.len() {
        let byte = bytes[at];
        match quote {
            Some(_) if byte == b'\\' => at += 1,
            Some(mark) if byte == mark => quote = None,
            Some(_) => {}
            None if bytes[at..].starts_with(delimiter.as_bytes()) => return at,
            None if matches!(byte, b'\'' | b'"' | b'`') => quote = Some(byte),
            None if ["\n#", "-- ", "\n--"].iter().any(|mark| bytes[at..].starts_with(mark.as_bytes())) => {
                at += 1;
                while at < bytes.len() && bytes[at] != b'\n' {
                    at += 1;
                }
                continue;
            }
            None => {}
        }
        at += 1;
    }
    text.len()
}

/// A session of a script. A new one is opened for each statement, so that nobody's rights are older than the answer, unless it holds
/// something that would be gone.
struct Connected {
    user: String,
    password: String,
    database: Option<String>,
    role: Option<String>,
    has_state: bool,
    conn: Option<Conn>,
}

impl Connected {
    fn of(user: &str, password: &str, database: &str) -> Self {
        let database = Some(if database.is_empty() { "test" } else { database }.to_owned());
        Self { user: user.to_owned(), password: password.to_owned(), database, role: None, has_state: false, conn: None }
    }

    fn open(&mut self, server: &Server) -> Option<()> {
        if self.conn.is_some() && (self.user == "root" || self.has_state) {
            return Some(());
        }
        let mut conn = sign_in(server, &self.user, &self.password).ok()?;
        let _ = conn.query_drop("SET max_statement_time=5, lock_wait_timeout=3, innodb_lock_wait_timeout=3");
        let uses = |conn: &mut Conn, database: &String| conn.query_drop(format!("USE {}", quoted(database))).is_ok();
        self.database = self.database.take().filter(|database| uses(&mut conn, database));
        self.role = self.role.take().filter(|role| conn.query_drop(format!("SET ROLE {role}")).is_ok());
        self.conn = Some(conn);
        Some(())
    }

    /// Carries a statement out, and keeps what it leaves behind.
    fn run(&mut self, sql: &str) -> Came {
        let came = self.conn.as_mut().map_or(Ok(()), |conn| carried_out(conn, sql));
        let lower = sql.to_lowercase();
        if let Err(e) = came {
            let said = e.to_string();
            if refusal(&e).is_some_and(|(code, _)| code != 1141) {
                return Came::Refused(said);
            }
            // It took too long.
            if !matches!(e, mysql::Error::MySqlError(_)) {
                (self.conn, self.has_state) = (None, false);
            }
            return Came::Failed(said);
        }
        if let Some(database) = lower.strip_prefix("use ") {
            self.database = Some(sql[sql.len() - database.len()..].trim().trim_matches('`').to_owned());
        }
        if let Some(role) = lower.strip_prefix("set role ") {
            self.role = Some(sql[sql.len() - role.len()..].trim().to_owned()).filter(|role| !role.eq_ignore_ascii_case("none"));
        }
        let sets = lower.starts_with("set ") && !lower.starts_with("set role");
        self.has_state |= sets || lower.contains("temporary") || ["prepare", "begin"].contains(&first_word(&lower));
        Came::Done
    }

    /// A statement as it is asked, behind what this session did before.
    fn question(&self, sql: &str) -> Question {
        let mut text = self.database.as_ref().map_or_else(String::new, |database| format!("use {}; ", quoted(database)));
        if let Some(role) = &self.role {
            text += &format!("set role {role}; ");
        }
        let mut question = Question::statement(&self.user, "it", &(text + sql));
        question.session.local = true;
        question
    }
}

fn sign_in(server: &Server, user: &str, password: &str) -> Result<Conn, mysql::Error> {
    Conn::new(
        OptsBuilder::new()
            .user(Some(user))
            .pass(Some(password).filter(|password| !password.is_empty()))
            .prefer_socket(false)
            .read_timeout(Some(Duration::from_secs(8)))
            .socket(Some(server.folder.join("socket").display().to_string())),
    )
}

fn carried_out(conn: &mut Conn, sql: &str) -> Result<(), mysql::Error> {
    let mut rows = conn.query_iter(sql)?;
    while let Some(set) = rows.iter() {
        for row in set {
            row?;
        }
    }
    Ok(())
}

/// Reads the server as it stands.
fn read(server: &Server) -> Result<Engine, String> {
    let state = Session::open(&target(server)).and_then(|mut session| session.read()).map_err(|e| e.to_string())?;
    engine_of(&state.document("it", None))
}

/// Who tries, one after the other, what the scripts do as the superuser, before that one does it; and what gives them their rights.
const LESSER: [(&str, &str); 8] = [
    ("lesser_1", "GRANT ALL ON `%`.* TO lesser_1@localhost"),
    ("lesser_2", "GRANT SELECT, INSERT, CREATE ON *.* TO lesser_2@localhost"),
    ("lesser_3", "GRANT SELECT, SHOW VIEW, CREATE VIEW, CREATE ROUTINE, EXECUTE ON test.* TO lesser_3@localhost"),
    (
        "lesser_4",
        "GRANT INSERT, UPDATE, DELETE, DROP, ALTER, INDEX, TRIGGER ON test.* TO lesser_4@localhost; GRANT SELECT ON `mysqltest%`.* TO lesser_4@localhost",
    ),
    ("lesser_5", ""),
    (
        "lesser_6",
        "GRANT CREATE USER, RELOAD, PROCESS, SHOW DATABASES ON *.* TO lesser_6@localhost; GRANT UPDATE, SELECT ON mysql.* TO lesser_6@localhost",
    ),
    ("lesser_7", "GRANT SELECT, INSERT, UPDATE, DELETE, EXECUTE ON *.* TO lesser_7@localhost WITH GRANT OPTION"),
    (
        "lesser_8",
        "GRANT CREATE, ALTER, REFERENCES, CREATE TEMPORARY TABLES, LOCK TABLES, EVENT, DELETE HISTORY ON `%`.* TO lesser_8@localhost",
    ),
];

fn is_left_out(lower: &str) -> bool {
    let first = first_word(lower);
    ["shutdown", "kill", "install", "uninstall", "backup", "lock", "xa", "handler", "change", "start", "stop", "reset"].contains(&first)
        || ["set global", "set @@global", "flush tables"].iter().any(|start| lower.starts_with(start))
        || ["sleep(", "get_lock"].iter().any(|part| lower.contains(part))
}

/// Carries a script out and compares what comes of its statements with what we say.
fn replay(server: &Server, name: &str, text: &str, compared: &mut Compared) {
    let mut connections = BTreeMap::from([("default".to_owned(), Connected::of("root", "", "test"))]);
    let mut current = "default".to_owned();
    let mut engine: Option<Engine> = None;
    for (number, step) in steps(text).into_iter().enumerate() {
        let sql = match step {
            Step::Connect { name, user, password, database } => {
                connections.insert(name.clone(), Connected::of(&user, &password, &database));
                current = name;
                continue;
            }
            Step::Connection(name) => {
                current = name;
                continue;
            }
            Step::Disconnect(name) => {
                connections.remove(&name);
                continue;
            }
            Step::Sql(sql) => sql,
        };
        let lower = sql.to_lowercase();
        let Some(connected) = connections.get_mut(&current).filter(|_| !is_left_out(&lower)) else { continue };
        if connected.open(server).is_none() {
            continue;
        }
        let reads = ["select", "show", "explain", "describe", "desc", "use"].contains(&first_word(&lower)) && !lower.contains(" into ");
        let mut lesser = Connected::of(LESSER[number % LESSER.len()].0, "", connected.database.as_deref().unwrap_or("test"));
        let is_root = connected.user == "root";
        let trying = if !is_root {
            Some(&mut *connected)
        } else if connected.database.is_none()
            || ["set", "use", "begin", "commit", "rollback", "prepare", "execute", "deallocate", "unlock"].contains(&first_word(&lower))
        {
            None
        } else {
            // Who may not open the database would run it in none.
            lesser.open(server).filter(|()| lesser.database.is_some()).map(|()| &mut lesser)
        };
        if let Some(trying) = trying {
            if engine.is_none() {
                engine = read(server).map_err(|error| compared.unread(&error)).ok();
            }
            let question = trying.question(&sql);
            let answer = engine.as_ref().map(|engine| engine.explain(&question));
            let came = trying.run(&sql);
            let is_done = matches!(came, Came::Done);
            if !matches!(came, Came::Refused(_)) && !reads {
                engine = None;
            }
            if let Some(answer) = answer {
                compared.add(&format!("{name}: {}: {}", question.user, question.line), &answer, came);
            }
            if !is_root || is_done {
                continue;
            }
        }
        if !matches!(connected.run(&sql), Came::Refused(_)) && !reads {
            engine = None;
        }
    }
}

/// What is known to differ, and why.
const KNOWN: [(&str, &str); 2] = [
    ("in tmp\n", "the table is a temporary one of the session"),
    ("from none\n", "there is no role of this name, which the server says first"),
];

#[test]
fn scripts_of_its_authors_have_mariadbs_verdict() {
    let scripts = scripts("mariadb");
    let mut compared = Compared::default();
    for (name, text) in &scripts {
        let Some(server) = servers::wanted(|| servers::mariadb_with(&["--log-bin-trust-function-creators=1"])) else { return };
        let mut root = sign_in(&server, "root", "").expect("root may");
        root.query_drop("CREATE DATABASE test").expect("root may");
        for (user, rights) in LESSER {
            root.query_drop(format!("CREATE USER {user}@localhost")).expect("root may");
            for grant in rights.split("; ").filter(|grant| !grant.is_empty()) {
                root.query_drop(grant).expect("root may");
            }
        }
        replay(&server, name, text, &mut compared);
        compared.tell("MariaDB");
    }
    compared.none_differs(&KNOWN);
}
