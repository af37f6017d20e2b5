//! The scripts with which PostgreSQL's authors try it.

use std::sync::{Arc, Mutex};

use postgres::{Client, NoTls, SimpleQueryMessage};
use zest_ledger::{Engine, Question};
use zest_testkit::servers::{self, Server};

use crate::postgresql::{open, refuses};
use crate::scripts::{Came, Compared, first_word, scripts};
use crate::support::engine_of;

/// Splits as the terminal client of the server does; what is sent to that client alone is left out.
fn statements(text: &str) -> Vec<String> {
    let mut out = Vec::new();
    let mut current = String::new();
    let mut is_in_body = false;
    let mut at = 0;
    while let Some(c) = text[at..].chars().next() {
        let rest = &text[at..];
        let ends_with = |word: &str| current.to_lowercase().trim_end().ends_with(word);
        let length = if rest.starts_with("--") {
            rest.find('\n').unwrap_or(rest.len())
        } else if rest.starts_with("/*") {
            rest.find("*/").map_or(rest.len(), |n| n + 2)
        } else if c == '\'' || c == '"' {
            let escapes = c == '\'' && current.ends_with(['E', 'e']);
            let bytes = rest.as_bytes();
            let mut n = 1;
            while n < bytes.len() && bytes[n] != c as u8 {
                n += 1 + usize::from(escapes && bytes[n] == b'\\');
            }
            let length = (n + 1).min(rest.len());
            current.push_str(&rest[..length]);
            length
        } else if let Some(tag) = dollars(rest).filter(|_| !current.ends_with(char::is_alphanumeric)) {
            let length = rest[tag.len()..].find(tag).map_or(rest.len(), |n| n + 2 * tag.len());
            current.push_str(&rest[..length]);
            length
        } else if c == '\\' {
            if rest.starts_with("\\g") && !current.trim().is_empty() {
                out.push(current.trim().to_owned());
            }
            current.clear();
            rest.find('\n').unwrap_or(rest.len())
        } else if c == ';' && (!is_in_body || ends_with("end")) {
            let one = std::mem::take(&mut current).trim().to_owned();
            is_in_body = false;
            let lower = one.to_lowercase();
            if lower.starts_with("copy") && lower.contains("stdin") {
                rest.find("\n\\.").map_or(1, |n| n + 3)
            } else {
                if !one.is_empty() {
                    out.push(one);
                }
                1
            }
        } else {
            is_in_body |= c.is_whitespace() && ends_with("begin atomic");
            current.push(c);
            c.len_utf8()
        };
        at += length.max(1);
    }
    out
}

/// The mark with which text in dollars begins and ends.
fn dollars(text: &str) -> Option<&str> {
    let tag = &text[..text.strip_prefix('$')?.find('$')? + 2];
    tag[1..tag.len() - 1].chars().all(|c| c.is_alphanumeric() || c == '_').then_some(tag)
}

/// The session of a script.
struct Replay<'a> {
    server: &'a Server,
    client: Client,
    admin: Client,
    warnings: Arc<Mutex<Vec<String>>>,
    engine: Option<Engine>,
    /// Whether a transaction is open, and has changed what an answer rests on.
    is_in_block: bool,
    has_changed: bool,
}

fn connected(server: &Server, warnings: &Arc<Mutex<Vec<String>>>) -> Client {
    let kept = Arc::clone(warnings);
    let mut config = Client::configure();
    config.host("127.0.0.1").port(server.port).user("postgres").dbname("regression").application_name("scripts");
    config.options("-c statement_timeout=8000 -c lock_timeout=2000");
    config.notice_callback(move |notice| {
        if notice.severity() == "WARNING" {
            kept.lock().expect("nobody panics with it").push(notice.message().to_owned());
        }
    });
    config.connect(NoTls).expect("it may sign in")
}

/// Who tries, one after the other, what the scripts do as the superuser, before that one does it; and what gives them their rights.
const LESSER: [(&str, &str); 8] = [
    ("lesser_1", ""),
    ("lesser_2", "GRANT pg_read_all_data TO lesser_2; GRANT CREATE ON SCHEMA public TO lesser_2"),
    ("lesser_3", "GRANT pg_read_all_data, pg_write_all_data TO lesser_3"),
    ("lesser_4", "GRANT CREATE ON SCHEMA public TO lesser_4; GRANT CREATE, TEMPORARY ON DATABASE regression TO lesser_4 WITH GRANT OPTION"),
    (
        "lesser_5",
        "ALTER DEFAULT PRIVILEGES GRANT SELECT, INSERT, REFERENCES, TRIGGER ON TABLES TO lesser_5; ALTER DEFAULT PRIVILEGES FOR ROLE lesser_4 GRANT ALL ON TABLES TO lesser_5",
    ),
    ("lesser_6", "ALTER ROLE lesser_6 CREATEROLE CREATEDB; GRANT lesser_4 TO lesser_6"),
    ("lesser_7", "ALTER DATABASE regression OWNER TO lesser_7; GRANT pg_monitor TO lesser_7 WITH ADMIN OPTION"),
    (
        "lesser_8",
        "ALTER ROLE lesser_8 NOINHERIT; GRANT lesser_4, lesser_5 TO lesser_8; GRANT UPDATE, DELETE ON ALL TABLES IN SCHEMA public TO lesser_8",
    ),
];

/// Words of statements that change nothing that an answer rests on.
const OF_ROWS: &[&str] = &[
    "analyze",
    "begin",
    "close",
    "commit",
    "copy",
    "declare",
    "delete",
    "end",
    "explain",
    "fetch",
    "insert",
    "merge",
    "reset",
    "rollback",
    "savepoint",
    "select",
    "set",
    "show",
    "start",
    "table",
    "update",
    "values",
    "with",
];

/// Words of statements about the session, which are not asked.
const OF_SESSION: &[&str] = &[
    "abort",
    "begin",
    "close",
    "commit",
    "deallocate",
    "declare",
    "discard",
    "end",
    "execute",
    "fetch",
    "lock",
    "move",
    "prepare",
    "release",
    "reset",
    "rollback",
    "savepoint",
    "set",
    "start",
];

impl Replay<'_> {
    fn shown(&mut self, sql: &str) -> Option<String> {
        let rows = self.client.simple_query(sql).ok()?;
        rows.into_iter().find_map(|row| match row {
            SimpleQueryMessage::Row(row) => row.get(0).map(str::to_owned),
            _ => None,
        })
    }

    /// Reads the server as it stands; everybody may sign in, so that everybody can be asked about.
    fn read(&mut self) -> Result<Engine, String> {
        let roles = "SELECT quote_ident(rolname) FROM pg_roles WHERE oid >= 16384 AND NOT rolcanlogin";
        for row in self.admin.query(roles, &[]).map_err(|e| format!("{e:?}"))? {
            let _ = self.admin.batch_execute(&format!("ALTER ROLE {} LOGIN", row.get::<_, String>(0)));
        }
        let state = open(self.server, "regression").read().map_err(|e| e.to_string())?;
        engine_of(&state.document("it", None))
    }

    /// Runs a statement as whoever the session is now, asked before if that is no superuser. Returns whether it was done.
    fn run(&mut self, name: &str, sql: &str, is_asked: bool, compared: &mut Compared) -> bool {
        let lower = sql.to_lowercase();
        let mut asked = None;
        let state = self.shown(
            "SELECT concat_ws(E'\\n', session_user, current_user, current_setting('is_superuser'),
               (SELECT string_agg(relname, E'\\n') FROM pg_class WHERE relnamespace = pg_my_temp_schema()))",
        );
        if let Some(state) = state.filter(|_| is_asked && !(self.is_in_block && self.has_changed)) {
            let parts: Vec<&str> = state.split('\n').collect();
            // A variable of the client stands in some, and some are about what only this session has.
            let is_left_out = OF_SESSION.contains(&first_word(&lower))
                || [":'", ":\"", " :"].iter().any(|mark| sql.contains(mark))
                || parts[3..].iter().any(|temporary| lower.contains(temporary));
            if parts[2] == "off" && !is_left_out {
                if self.engine.is_none() {
                    self.engine = self.read().map_err(|error| compared.unread(&error)).ok();
                }
                let path = self.shown("SHOW search_path").filter(|path| !path.is_empty()).unwrap_or_else(|| "''".to_owned());
                let is_off = self.shown("SHOW row_security").is_some_and(|value| value == "off");
                let off = if is_off { "set row_security = off; " } else { "" };
                let text = format!("set search_path = {path}; {off}{sql}");
                let question = Question::statement(parts[0], "it", &text);
                let question = if parts[0] == parts[1] { question } else { question.active_role(parts[1]) };
                let answer = self.engine.as_ref().map(|engine| engine.explain(&question.at(jiff::Timestamp::now())));
                asked = answer.zip(Some(format!("{name}: {} as {}: {text}", parts[0], parts[1])));
            }
        }
        self.warnings.lock().expect("nobody panics with it").clear();
        let came = self.client.batch_execute(sql);
        if !OF_ROWS.contains(&first_word(&lower)) || lower.contains(" into ") {
            self.engine = None;
            self.has_changed |= self.is_in_block;
        }
        if came.is_ok() && (lower.starts_with("begin") || lower.starts_with("start transaction")) {
            (self.is_in_block, self.has_changed) = (true, false);
        } else if ["commit", "end", "abort", "rollback"].contains(&first_word(&lower)) && !lower.contains(" to ") {
            if self.has_changed {
                self.engine = None;
            }
            (self.is_in_block, self.has_changed) = (false, false);
        }
        let nothing = ["no privileges were granted", "no privileges could be revoked", "skipping "];
        let warned = self
            .warnings
            .lock()
            .expect("nobody panics with it")
            .iter()
            .find(|warning| nothing.iter().any(|n| warning.starts_with(n)))
            .cloned();
        let is_done = came.is_ok();
        if let Some((answer, what)) = asked {
            let came = match came {
                Ok(()) => warned.map_or(Came::Done, Came::Refused),
                Err(error) => match error.as_db_error() {
                    Some(e) if refuses(e) => Came::Refused(e.message().to_owned()),
                    // What is wrong with rows beside each other comes after all rights.
                    Some(e) if ["23503", "23505"].contains(&e.code().code()) => Came::Done,
                    Some(e) => Came::Failed(e.message().to_owned()),
                    None => Came::Failed(error.to_string()),
                },
            };
            compared.add(&what, &answer, came);
        }
        is_done
    }

    /// Has a lesser identity try a statement of the superuser. Returns whether it was done.
    fn tried(&mut self, number: usize, name: &str, sql: &str, compared: &mut Compared) -> bool {
        if OF_SESSION.contains(&first_word(&sql.to_lowercase())) {
            return false;
        }
        let in_block = self.is_in_block;
        if in_block && self.client.batch_execute("SAVEPOINT lesser").is_err() {
            return false;
        }
        let who = LESSER[number % LESSER.len()].0;
        let is_done = self.client.batch_execute(&format!("SET SESSION AUTHORIZATION {who}")).is_ok() && self.run(name, sql, true, compared);
        if in_block {
            let end = if is_done { "RELEASE lesser" } else { "ROLLBACK TO lesser" };
            let _ = self.client.batch_execute(end);
        }
        let _ = self.client.batch_execute("RESET SESSION AUTHORIZATION");
        is_done
    }

    fn replay(&mut self, name: &str, text: &str, compared: &mut Compared) {
        for (number, sql) in statements(text).into_iter().enumerate() {
            // A warning may be all that is told of a refusal.
            if sql.to_lowercase().starts_with("set client_min_messages") {
                continue;
            }
            if self.client.is_closed() {
                self.client = connected(self.server, &self.warnings);
                (self.is_in_block, self.has_changed) = (false, false);
            }
            let is_super = self.shown("SELECT session_user = 'postgres' AND current_user = 'postgres'").is_some_and(|is| is == "t");
            let is_done = is_super && self.tried(number, name, &sql, compared);
            if !is_done && !self.client.is_closed() {
                self.run(name, &sql, !is_super, compared);
            }
        }
    }
}

/// What is known to differ, and why.
const KNOWN: [(&str, &str); 2] = [
    ("INSERT INTO ruletest1", "the session is one of a replica, in which rules are others"),
    ("pg_stat_reset_shared(NULL)", "a strict function of nothing is not called, and not looked at"),
];

#[test]
fn scripts_of_its_authors_have_postgresqls_verdict() {
    let mut scripts = scripts("postgresql");
    let setup = scripts.iter().position(|(name, _)| name == "test_setup.sql").map(|at| scripts.remove(at).1);
    let Some(server) = servers::wanted(servers::postgresql) else { return };
    let mut compared = Compared::default();
    for (name, text) in &scripts {
        let mut first = open(&server, "postgres");
        first.client().batch_execute("CREATE DATABASE regression TEMPLATE template0").expect("made");
        let warnings: Arc<Mutex<Vec<String>>> = Arc::default();
        let (client, mut admin) = (connected(&server, &warnings), connected(&server, &Arc::default()));
        for sql in setup.iter().flat_map(|setup| statements(setup)) {
            let _ = admin.batch_execute(&sql);
        }
        for (who, _) in LESSER {
            admin.batch_execute(&format!("CREATE ROLE {who} LOGIN")).expect("made");
        }
        for (who, rights) in LESSER {
            admin.batch_execute(rights).unwrap_or_else(|e| panic!("{who}: {e}"));
        }
        let mut replay = Replay { server: &server, client, admin, warnings, engine: None, is_in_block: false, has_changed: false };
        replay.replay(name, text, &mut compared);
        drop(replay);
        let _ = first.client().batch_execute("DROP DATABASE regression WITH (FORCE)");
        // Some own what others were granted, so that not all can go at once.
        for _ in 0..4 {
            for row in first.client().query("SELECT quote_ident(rolname) FROM pg_roles WHERE oid >= 16384", &[]).expect("it reads") {
                let role = row.get::<_, String>(0);
                let _ = first.client().batch_execute(&format!("DROP OWNED BY {role} CASCADE"));
                let _ = first.client().batch_execute(&format!("DROP ROLE {role}"));
            }
        }
        compared.tell("PostgreSQL");
    }
    compared.none_differs(&KNOWN);
}
