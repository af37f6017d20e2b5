//! Private servers that hold what a ledger says and no rows: questions are put to them under each identity.
//!
//! A server is started from the installed packages, given schema and rights of a state, and read back: only one on which nothing differs is
//! used. Nothing on it is anybody's, and it is gone at the end. Statements that reach files or programs are not put to it.

use std::collections::BTreeMap;
use std::net::{IpAddr, Ipv4Addr, SocketAddr};

use ::mysql::prelude::Queryable;
use ::postgres::error::SqlState;
use ::postgres::{Client, NoTls};
use zest_ledger::mariadb::AccountName;
use zest_ledger::{mariadb, postgresql};
use zest_servers::Server;

use crate::BridgeError;

/// What a server said to an attempt.
///
/// # Example
/// ```
/// use zest_bridges::private::Said;
/// let refuses = |said: &Said| matches!(said, Said::Refused(_));
/// assert!(refuses(&Said::Refused("permission denied for table price (42501)".to_owned())));
/// assert!(!refuses(&Said::Allowed) && !refuses(&Said::Otherwise("division by zero (22012)".to_owned())));
/// ```
#[derive(Clone, Debug, PartialEq, Eq)]
#[non_exhaustive]
pub enum Said {
    /// It was carried out, and taken back.
    Allowed,
    /// Refused for want of a right, in the server's words.
    Refused(String),
    /// Not carried out for another reason, in the server's words.
    Otherwise(String),
}

/// What a MariaDB server said with an error.
pub(crate) fn said(error: &::mysql::Error) -> Said {
    match error {
        ::mysql::Error::MySqlError(e)
            if matches!(e.code, 1044 | 1045 | 1142 | 1143 | 1227 | 1345 | 1356 | 1370 | 1410 | 1698 | 1959 | 4151) =>
        {
            Said::Refused(format!("{} ({})", e.message, e.code))
        }
        other => Said::Otherwise(other.to_string()),
    }
}

fn not_to_be_had(reason: String) -> BridgeError {
    BridgeError::Connect { target: "a private server".to_owned(), reason }
}

fn not_the_same(lines: &[String]) -> BridgeError {
    BridgeError::Refused(format!("the private server does not hold what the ledger says:\n  {}", lines.join("\n  ")))
}

/// Words that a statement or a routine reaches files, programs or other servers by.
const REACHES_OUT: &[&str] = &[
    "program",
    "lo_export",
    "lo_import",
    "pg_read",
    "pg_ls",
    "pg_file",
    "dblink",
    "outfile",
    "dumpfile",
    "infile",
    "load_file",
    "soname",
    "copy",
    "pg_terminate",
    "kill",
    "shutdown",
];

pub(crate) fn reaches_out(text: &str) -> bool {
    let folded = text.to_lowercase();
    REACHES_OUT.iter().any(|word| folded.contains(word))
}

/// A private PostgreSQL 15.
///
/// # Example
/// ```no_run
/// use zest_bridges::private::Postgresql;
/// use zest_ledger::{Ledger, postgresql::state_of};
/// let estate = Ledger::new().document("fares.toml", &std::fs::read_to_string("fares.toml")?).estate()?;
/// let state = state_of(&estate, "ticketing", None).ok_or("no such server")?;
/// let said = Postgresql::start(&state)?.attempt("purser-1", None, "delete from fares.price")?;
/// println!("{said:?}");
/// # Ok::<(), Box<dyn std::error::Error>>(())
/// ```
#[allow(missing_debug_implementations, reason = "the client has none")]
pub struct Postgresql {
    // Sessions end before the server does.
    sessions: BTreeMap<String, Client>,
    admin: crate::postgresql::Session,
    database: String,
    is_closed: bool,
    server: Server,
}

impl Postgresql {
    /// Starts a server, makes on it what a state says, and reads it back.
    ///
    /// # Errors
    /// When the package is not installed, when the state cannot be made with statements, or differs when it is read back.
    pub fn start(state: &postgresql::State) -> Result<Self, BridgeError> {
        let fresh = postgresql::State::fresh(&state.database, postgresql::BOOTSTRAP);
        let cannot = fresh.cannot_write(state);
        if !cannot.is_empty() {
            return Err(not_the_same(&cannot));
        }
        // Over its socket alone, which only its own user reaches.
        let server = zest_servers::postgresql_with(&["listen_addresses="]).map_err(not_to_be_had)?;
        let session = |database: &str| {
            crate::postgresql::Session::open(&crate::postgresql::Target {
                host: server.folder.display().to_string(),
                port: server.port,
                user: postgresql::BOOTSTRAP.to_owned(),
                database: database.to_owned(),
                password: None,
                encryption: crate::Encryption::default(),
            })
        };
        let mut first = session("template1")?;
        let make = format!("CREATE DATABASE {} TEMPLATE template0", postgresql::quoted(&state.database));
        first.client().batch_execute(&make).map_err(|e| not_to_be_had(e.to_string()))?;
        let mut admin = session(&state.database)?;
        let steps = admin.read()?.steps_to(state, postgresql::BOOTSTRAP);
        admin.run(&steps)?;
        let drift: Vec<String> = admin.read()?.drift(state).iter().map(|difference| difference.what.clone()).collect();
        if !drift.is_empty() {
            return Err(not_the_same(&drift));
        }
        let bodies = state.objects.values().filter_map(|object| object.body.as_deref());
        let is_closed = bodies.into_iter().any(reaches_out);
        Ok(Self { sessions: BTreeMap::new(), admin, database: state.database.clone(), is_closed, server })
    }

    /// Returns the session of the server's first account, to ask what roles hold.
    pub const fn session(&mut self) -> &mut crate::postgresql::Session {
        &mut self.admin
    }

    /// Puts a statement to the server in a session of an account, in a transaction that is taken back; nothing where it may reach out.
    ///
    /// # Errors
    /// When no session can be opened.
    pub fn attempt(&mut self, account: &str, role: Option<&str>, statement: &str) -> Result<Option<Said>, BridgeError> {
        // What ends the transaction, or goes on in another one, is not taken back.
        let folded = statement.to_lowercase();
        let ends = ["commit", "rollback", "abort", "prepare transaction", "end;"].iter().any(|word| folded.contains(word))
            || folded.trim() == "end";
        if self.is_closed || ends || reaches_out(statement) {
            return Ok(None);
        }
        if !self.sessions.contains_key(account) {
            let mut config = Client::configure();
            config.host(&self.server.folder.display().to_string()).port(self.server.port).user(account).dbname(&self.database);
            match config.connect(NoTls) {
                Ok(client) => _ = self.sessions.insert(account.to_owned(), client),
                Err(error) => {
                    return Ok(Some(Said::Refused(error.as_db_error().map_or_else(|| error.to_string(), |e| e.message().to_owned()))));
                }
            }
        }
        let Some(client) = self.sessions.get_mut(account) else { return Ok(None) };
        let begin = role.map_or_else(|| "BEGIN".to_owned(), |role| format!("BEGIN; SET ROLE {}", postgresql::quoted(role)));
        let lost = |e: ::postgres::Error| BridgeError::Read { what: "an attempt", reason: e.to_string() };
        client.batch_execute(&begin).map_err(lost)?;
        let came = client.batch_execute(statement);
        let after = client.batch_execute("ROLLBACK; RESET SESSION AUTHORIZATION; RESET ROLE; RESET ALL");
        let Err(error) = came else { return after.map_err(lost).map(|()| Some(Said::Allowed)) };
        let Some(error) = error.as_db_error() else { return Ok(Some(Said::Otherwise(error.to_string()))) };
        let text = format!("{} ({})", error.message(), error.code().code());
        Ok(Some(if *error.code() == SqlState::INSUFFICIENT_PRIVILEGE { Said::Refused(text) } else { Said::Otherwise(text) }))
    }
}

/// A private MariaDB 10.11, on which every account has an origin of its own on this machine.
///
/// # Example
/// ```no_run
/// use zest_bridges::private::Mariadb;
/// use zest_ledger::{Ledger, mariadb::{AccountName, state_of}};
/// let estate = Ledger::new().document("club.toml", &std::fs::read_to_string("club.toml")?).estate()?;
/// let state = state_of(&estate, "loyalty", None).ok_or("no such server")?;
/// let purser = AccountName::new("purser-3", "192.0.2.%");
/// println!("{:?}", Mariadb::start(&state)?.attempt(&purser, None, "delete from club.member")?);
/// # Ok::<(), Box<dyn std::error::Error>>(())
/// ```
#[allow(missing_debug_implementations, reason = "the client has none")]
pub struct Mariadb {
    origins: BTreeMap<AccountName, IpAddr>,
    is_closed: bool,
    admin: crate::mariadb::Session,
    state: mariadb::State,
    server: Server,
}

impl Mariadb {
    /// Starts a server, makes on it what a state says, and reads it back. Accounts come from other origins than in the ledger, where nobody
    /// could be: which account a session is given is not tried.
    ///
    /// # Errors
    /// When the package is not installed, when the state cannot be made with statements, or differs when it is read back.
    pub fn start(state: &mariadb::State) -> Result<Self, BridgeError> {
        let root = AccountName::new("root", "localhost");
        let mut origins = BTreeMap::new();
        for (number, account) in (0_u16..).zip(state.accounts.keys().filter(|account| **account != root)) {
            let [high, low] = number.to_be_bytes();
            origins.insert(account.clone(), IpAddr::V4(Ipv4Addr::new(127, 90, high, low)));
        }
        let mut moved = state.renamed(|account| match origins.get(account) {
            Some(origin) => AccountName::new(&account.user, &origin.to_string()),
            None => account.clone(),
        });
        // Credentials are set anew on it.
        moved.accounts.values_mut().for_each(|account| account.credential_due = None);
        let fresh = mariadb::State::fresh();
        let cannot = fresh.cannot_write(&moved);
        if !cannot.is_empty() {
            return Err(not_the_same(&cannot));
        }
        let server = zest_servers::mariadb().map_err(not_to_be_had)?;
        let socket = server.folder.join("socket").display().to_string();
        let target = crate::mariadb::Target {
            host: socket,
            port: 0,
            user: "root".to_owned(),
            password: None,
            encryption: crate::Encryption::default(),
        };
        let mut admin = crate::mariadb::Session::open(&target)?;
        let failed = |e: ::mysql::Error| not_to_be_had(e.to_string());
        // The server's own set-up makes more accounts than one.
        for account in admin.read()?.accounts.keys().filter(|account| **account != root) {
            admin.client().query_drop(format!("DROP USER {}", account.sql())).map_err(failed)?;
        }
        let steps = admin.read()?.steps_to(&moved, &root);
        admin.run(&steps)?;
        let drift: Vec<String> = admin.read()?.drift(&moved).iter().map(|difference| difference.what.clone()).collect();
        if !drift.is_empty() {
            return Err(not_the_same(&drift));
        }
        for account in moved.accounts.keys().filter(|account| **account != root) {
            admin.client().query_drop(format!("ALTER USER {} IDENTIFIED BY ''", account.sql())).map_err(failed)?;
        }
        admin.client().query_drop("FLUSH PRIVILEGES").map_err(failed)?;
        let is_closed = moved.objects.values().filter_map(|object| object.body.as_deref()).any(reaches_out);
        Ok(Self { origins, is_closed, admin, state: moved, server })
    }

    /// Puts a statement to the server in a session of an account; nothing where it may reach out, or would change more than rows, which
    /// this server does not take back.
    ///
    /// # Errors
    /// When no session can be opened.
    pub fn attempt(&mut self, account: &AccountName, role: Option<&str>, statement: &str) -> Result<Option<Said>, BridgeError> {
        let begin = statement.trim_start().to_lowercase();
        let is_plain = [
            "select", "insert", "update", "delete", "replace", "with", "show", "explain", "table", "values", "do", "desc", "use",
            "set role",
        ]
        .iter()
        .any(|word| begin.starts_with(word));
        if !is_plain || self.is_closed || reaches_out(statement) {
            return Ok(None);
        }
        let options = ::mysql::OptsBuilder::new().user(Some(&account.user)).prefer_socket(false);
        let options = match self.origins.get(account) {
            Some(origin) => {
                let from = Some(SocketAddr::new(*origin, 0));
                options.ip_or_hostname(Some("127.0.0.1")).tcp_port(self.server.port).bind_address(from)
            }
            // The first account stays where it was.
            None => options.socket(Some(self.server.folder.join("socket").display().to_string())),
        };
        let mut conn = match ::mysql::Conn::new(options) {
            Ok(conn) => conn,
            Err(error) => return Ok(Some(said(&error))),
        };
        let role = role.map_or_else(|| "SELECT 1".to_owned(), |role| format!("SET ROLE {}", mariadb::quoted(role)));
        if let Err(error) = conn.query_drop(role).and_then(|()| conn.query_drop("START TRANSACTION")) {
            return Ok(Some(said(&error)));
        }
        let came = conn.query_iter(statement).and_then(|mut rows| rows.try_for_each(|row| row.map(drop)));
        let _ = conn.query_drop("ROLLBACK");
        Ok(Some(came.map_or_else(|error| said(&error), |()| Said::Allowed)))
    }

    /// Returns the server as it is read now; it still holds what it was made with, unless something went wrong.
    ///
    /// # Errors
    /// When the server refuses a query, or holds something else by now.
    ///
    /// # Example
    /// ```no_run
    /// use zest_bridges::private::Mariadb;
    /// use zest_ledger::{Ledger, mariadb::{AccountName, state_of}};
    /// let estate = Ledger::new().document("club.toml", &std::fs::read_to_string("club.toml")?).estate()?;
    /// let mut server = Mariadb::start(&state_of(&estate, "loyalty", None).ok_or("no such server")?)?;
    /// server.attempt(&AccountName::new("desk", "%"), None, "delete from club.member")?;
    /// server.is_as_it_was()?;
    /// # Ok::<(), Box<dyn std::error::Error>>(())
    /// ```
    pub fn is_as_it_was(&mut self) -> Result<(), BridgeError> {
        let drift: Vec<String> = self.admin.read()?.drift(&self.state).iter().map(|difference| difference.what.clone()).collect();
        if drift.is_empty() { Ok(()) } else { Err(not_the_same(&drift)) }
    }
}
