//! MariaDB 10.11: reading a server's own tables, and carrying out the steps of a roll-out one by one.

use jiff::Timestamp;
use mysql::prelude::Queryable;
use mysql::{ClientIdentity, Conn, OptsBuilder, Row, SslOpts};
use zest_ledger::drift::Step;
use zest_ledger::mariadb::{
    Account, AccountName, Class, Event, Held, Holder, Object, ObjectName, Privilege, Privileges, Scope, State, Trigger,
};

use crate::encryption::HINT;
use crate::{BridgeError, Encryption};

/// Where a server listens, and as whom to read.
///
/// # Example
/// ```
/// use zest_bridges::mariadb::Target;
/// let target = Target {
///     host: "192.0.2.30".into(),
///     port: 3306,
///     user: "auditor".into(),
///     password: std::env::var("AUDITOR_CREDENTIAL").ok(),
///     ..Target::default()
/// };
/// assert!(target.encryption.covers(&target.host), "it leaves this machine");
/// ```
#[derive(Clone, Debug, Default)]
pub struct Target {
    /// Host name, address, or the path of a socket.
    pub host: String,
    /// The port.
    pub port: u16,
    /// The login.
    pub user: String,
    /// The credential, if the server asks for one; never kept.
    pub password: Option<String>,
    /// Whether the session is encrypted.
    pub encryption: Encryption,
}

/// A session on a server.
///
/// # Example
/// ```no_run
/// use zest_bridges::mariadb::{Session, Target};
/// let target = Target { host: "/run/mysqld/mysqld.sock".into(), port: 3306, user: "auditor".into(), ..Target::default() };
/// let mut session = Session::open(&target)?;
/// println!("# as read from {}", session.target());
/// let state = session.read()?;
/// println!("{}", state.document("loyalty", None));
/// # Ok::<(), zest_bridges::BridgeError>(())
/// ```
#[allow(missing_debug_implementations, reason = "the client has none")]
pub struct Session {
    client: Conn,
    target: String,
}

impl Session {
    /// Opens a session.
    ///
    /// # Errors
    /// When the server is down, refuses the credential, or is not version 10.11.
    pub fn open(target: &Target) -> Result<Self, BridgeError> {
        let is_socket = target.host.starts_with('/');
        let shown = if is_socket { target.host.clone() } else { format!("{}:{}", target.host, target.port) };
        let mut options = OptsBuilder::new()
            .user(Some(&target.user))
            .pass(target.password.as_ref())
            .prefer_socket(false)
            .tcp_connect_timeout(Some(std::time::Duration::from_secs(10)));
        options =
            if is_socket { options.socket(Some(&target.host)) } else { options.ip_or_hostname(Some(&target.host)).tcp_port(target.port) };
        let fail = |reason: String| BridgeError::Connect { target: shown.clone(), reason };
        let certificates = target.encryption.with(&target.host);
        if let Some(certificates) = &certificates {
            let roots = certificates.roots().map_err(fail)?;
            let client = certificates.client.clone().map(|(certificate, key)| ClientIdentity::new(certificate, key));
            options = options.ssl_opts(Some(SslOpts::default().with_root_cert_path(Some(roots)).with_client_identity(client)));
        }
        let client = Conn::new(options).map_err(|e| match &e {
            mysql::Error::MySqlError(_) => fail(words(&e)),
            _ if certificates.is_some() => fail(format!("{} ({HINT})", words(&e))),
            _ => fail(words(&e)),
        })?;
        let mut session = Self { client, target: shown };
        let version: String = session.rows("the version", "SELECT VERSION()")?.first().and_then(|r| r.get(0)).unwrap_or_default();
        if !(version.starts_with("10.11.") && version.contains("MariaDB")) {
            return Err(BridgeError::Version { target: session.target, found: version, known: "MariaDB 10.11" });
        }
        Ok(session)
    }

    /// Returns the server as errors name it.
    #[must_use]
    pub fn target(&self) -> &str {
        &self.target
    }

    /// Returns the client, for statements of one's own.
    ///
    /// # Example
    /// ```no_run
    /// use mysql::prelude::Queryable;
    /// use zest_bridges::mariadb::{Session, Target};
    /// let target = Target { host: "/run/mysqld/mysqld.sock".into(), user: "root".into(), ..Target::default() };
    /// let mut session = Session::open(&target)?;
    /// println!("{} sessions", session.client().query_iter("SHOW PROCESSLIST")?.count());
    /// # Ok::<(), Box<dyn std::error::Error>>(())
    /// ```
    pub const fn client(&mut self) -> &mut Conn {
        &mut self.client
    }

    fn rows(&mut self, what: &'static str, sql: &str) -> Result<Vec<Row>, BridgeError> {
        self.client.query(sql).map_err(|e| BridgeError::Read { what, reason: words(&e) })
    }

    /// Returns the account that the session was given.
    ///
    /// # Errors
    /// When the server refuses the query.
    pub fn account(&mut self) -> Result<AccountName, BridgeError> {
        let text: String = self.rows("the account", "SELECT CURRENT_USER()")?.first().and_then(|r| r.get(0)).unwrap_or_default();
        AccountName::parse(&text).ok_or(BridgeError::Read { what: "the account", reason: text })
    }

    /// Reads everything the model knows; the reader needs SELECT, SHOW VIEW and TRIGGER on everything, since the server hides
    /// tables and the queries of views from those who hold less. Credentials are never among what is read.
    ///
    /// # Errors
    /// When the server refuses a query, or would hide something from the reader.
    pub fn read(&mut self) -> Result<State, BridgeError> {
        let mut state = State::default();
        let mut roles = Vec::new();
        for row in self.rows("accounts", ACCOUNTS)? {
            let (user, host): (String, String) = (text(&row, 0), text(&row, 1));
            let access = Privileges::from_mask(number(&row, 2).unwrap_or(0));
            let holder = if flag(&row, 3) {
                if user == "PUBLIC" {
                    state.has_public = true;
                    Holder::Public
                } else {
                    roles.push(user.clone());
                    Holder::Role(user)
                }
            } else {
                let name = AccountName::new(&user, &host);
                let mut account = Account {
                    locked: flag(&row, 4),
                    expired: flag(&row, 5),
                    default_role: maybe(&row, 6).filter(|r| !r.is_empty()),
                    ..Account::default()
                };
                for (i, limit) in ["queries", "updates", "connections", "sessions"].into_iter().enumerate() {
                    match number::<i128>(&row, 7 + i).unwrap_or(0) {
                        0 => {}
                        // Then only those sign in who are exempt from limits.
                        many => match u32::try_from(many) {
                            Ok(many) => _ = account.limits.insert(limit.to_owned(), many),
                            Err(_) => _ = account.not_modelled.insert(format!("requirement of a limit of {many} {limit}")),
                        },
                    }
                }
                match text(&row, 11).as_str() {
                    "" | "0" => {}
                    "1" => _ = account.not_modelled.insert("requirement ssl".to_owned()),
                    "2" => _ = account.not_modelled.insert("requirement x509".to_owned()),
                    _ => _ = account.not_modelled.insert("requirement of a certificate".to_owned()),
                }
                let plugin = text(&row, 12);
                let is_by_password = matches!(plugin.as_str(), "" | "mysql_native_password" | "mysql_old_password" | "ed25519");
                if !is_by_password {
                    account.not_modelled.insert(format!("plugin {plugin}"));
                }
                let days = number::<i64>(&row, 14).unwrap_or(0);
                // Without a password nothing is due; nor can somebody sign in with one that no text comes to.
                if days > 0 && is_by_password && !account.expired && text(&row, 16) != "invalid" {
                    let changed = number::<i64>(&row, 13).unwrap_or(0);
                    account.credential_due = Timestamp::from_second(changed.saturating_add(days.saturating_mul(24 * 60 * 60))).ok();
                    if flag(&row, 15) {
                        account.not_modelled.insert("plugin beside a password that is to be changed".to_owned());
                    }
                }
                state.accounts.insert(name.clone(), account);
                Holder::Account(name)
            };
            if !access.is_empty() {
                state.grants.insert((holder, Scope::Everything), Held { privileges: access, ..Held::default() });
            }
        }
        state.roles = roles.into_iter().collect();
        // A role that was dropped stays the default one of accounts, and brings nothing.
        let State { accounts, roles, .. } = &mut state;
        accounts.values_mut().for_each(|account| account.default_role = account.default_role.take().filter(|role| roles.contains(role)));
        // The account for routines that the server itself keeps cannot sign in.
        state.accounts.remove(&AccountName::new("mariadb.sys", "localhost"));
        state.grants.retain(|(h, _), _| *h != Holder::Account(AccountName::new("mariadb.sys", "localhost")));
        self.sees_everything(&state)?;
        let known = state.clone();
        let holder = |user: String, host: String| holder_of(&known, user, &host);
        for row in self.rows("memberships", "SELECT CONVERT(User USING utf8mb4), CONVERT(Host USING utf8mb4), CONVERT(Role USING utf8mb4), Admin_option FROM mysql.roles_mapping")? {
            // Nor does the server look at a membership of a role that is gone.
            let Some(member) = holder(text(&row, 0), text(&row, 1)).filter(|_| known.roles.contains(&text(&row, 2))) else { continue };
            state.memberships.insert((member, text(&row, 2)), text(&row, 3) == "Y");
        }
        for row in self.rows("databases", "SELECT schema_name FROM information_schema.schemata WHERE schema_name NOT IN ('mysql', 'information_schema', 'performance_schema', 'sys')")? {
            state.databases.insert(text(&row, 0));
        }
        self.objects(&mut state)?;
        for row in self.rows("grants on databases", DATABASES)? {
            let Some(who) = holder(text(&row, 0), text(&row, 1)) else { continue };
            let mut privileges = Privileges::NONE;
            for (i, privilege) in DATABASE_COLUMNS.iter().enumerate() {
                if text(&row, 3 + i) == "Y" {
                    privileges = privileges.or(privilege.only());
                }
            }
            state.grants.insert((who, Scope::Databases(text(&row, 2))), Held { privileges, ..Held::default() });
        }
        for row in self.rows("grants on tables", "SELECT CONVERT(User USING utf8mb4), CONVERT(Host USING utf8mb4), CONVERT(Db USING utf8mb4), CONVERT(Table_name USING utf8mb4), CONVERT(Table_priv USING utf8mb4) FROM mysql.tables_priv")? {
            let Some(who) = holder(text(&row, 0), text(&row, 1)) else { continue };
            let held = state.grants.entry((who, Scope::Table(text(&row, 2), text(&row, 3)))).or_default();
            held.privileges = set(&text(&row, 4));
        }
        for row in self.rows("grants on columns", "SELECT CONVERT(User USING utf8mb4), CONVERT(Host USING utf8mb4), CONVERT(Db USING utf8mb4), CONVERT(Table_name USING utf8mb4), CONVERT(Column_name USING utf8mb4), CONVERT(Column_priv USING utf8mb4) FROM mysql.columns_priv")? {
            let Some(who) = holder(text(&row, 0), text(&row, 1)) else { continue };
            let held = state.grants.entry((who, Scope::Table(text(&row, 2), text(&row, 3)))).or_default();
            held.columns.insert(text(&row, 4), set(&text(&row, 5)));
        }
        for row in self.rows("grants on routines", "SELECT CONVERT(User USING utf8mb4), CONVERT(Host USING utf8mb4), CONVERT(Db USING utf8mb4), CONVERT(Routine_name USING utf8mb4), CONVERT(Routine_type USING utf8mb4), CONVERT(Proc_priv USING utf8mb4) FROM mysql.procs_priv")? {
            let Some(who) = holder(text(&row, 0), text(&row, 1)) else { continue };
            let (database, name) = (text(&row, 2), text(&row, 3));
            let scope = if text(&row, 4) == "FUNCTION" { Scope::Function(database, name) } else { Scope::Procedure(database, name) };
            state.grants.insert((who, scope), Held { privileges: set(&text(&row, 5)), ..Held::default() });
        }
        for row in self.rows("proxies", "SELECT CONVERT(User USING utf8mb4), CONVERT(Host USING utf8mb4), CONVERT(Proxied_user USING utf8mb4), CONVERT(Proxied_host USING utf8mb4), With_grant FROM mysql.proxies_priv")? {
            let Some(who) = holder(text(&row, 0), text(&row, 1)) else { continue };
            // The first account of a fresh server may be everybody; that row names nobody and cannot be taken back.
            if text(&row, 3).is_empty() {
                continue;
            }
            let privileges = if flag(&row, 4) { Privilege::GrantOption.only() } else { Privileges::NONE };
            state.grants.insert((who, Scope::Proxy(AccountName::new(&text(&row, 2), &text(&row, 3)))), Held { privileges, ..Held::default() });
        }
        self.settings(&mut state)?;
        Self::grants_as_objects(&mut state);
        // Grants in the server's own databases are the server's matter.
        let notes: Vec<String> = (state.grants.keys())
            .filter_map(|(_, scope)| match scope {
                Scope::Table(database, _) if is_own(database) => Some(format!("own tables of {}", database.to_lowercase())),
                _ => None,
            })
            .collect();
        state.not_modelled.extend(notes);
        state
            .grants
            .retain(|(_, scope), _| !matches!(scope, Scope::Table(d, _) | Scope::Function(d, _) | Scope::Procedure(d, _) if is_own(d)));
        Ok(state)
    }

    /// What holds for whole sessions.
    fn settings(&mut self, state: &mut State) -> Result<(), BridgeError> {
        let sql = "SELECT @@global.skip_name_resolve, @@global.read_only, @@global.sql_mode, @@global.init_connect,
            @@global.log_bin AND NOT @@global.log_bin_trust_function_creators, @@global.tx_read_only, @@global.max_user_connections < 0,
            @@global.require_secure_transport";
        for row in self.rows("settings", sql)? {
            let mut note = |text: &str| _ = state.not_modelled.insert(text.to_owned());
            if flag(&row, 0) {
                note("names are not resolved");
            }
            if flag(&row, 1) {
                note("read-only server");
            }
            if flag(&row, 5) {
                note("setting tx_read_only");
            }
            if flag(&row, 6) {
                note("setting max_user_connections, by which nobody signs in");
            }
            if flag(&row, 7) {
                note(SECURE_TRANSPORT);
            }
            if !text(&row, 3).is_empty() {
                note("setting init_connect");
            }
            if flag(&row, 4) {
                note("binlog without trust in who makes functions");
            }
            let modes = text(&row, 2);
            modes.split(',').filter(|mode| READ_OTHERWISE.contains(mode)).for_each(|mode| note(&format!("setting sql_mode {mode}")));
        }
        Ok(())
    }

    /// A routine's name in a grant is the routine's, whatever its case; grants on columns outlive them.
    fn grants_as_objects(state: &mut State) {
        let grants = std::mem::take(&mut state.grants);
        for ((holder, scope), held) in grants {
            let routine = |class: Class, database: &str, name: &str| {
                let fits = |n: &&ObjectName| n.class == class && n.database == database && n.name.eq_ignore_ascii_case(name);
                state.objects.keys().find(fits).map(Scope::of)
            };
            let found = match &scope {
                Scope::Everything | Scope::Databases(_) | Scope::Proxy(_) => None,
                Scope::Table(database, name) => {
                    for class in [Class::Table, Class::View] {
                        if let Some(object) = state.objects.get_mut(&ObjectName::new(class, database, name)) {
                            let gone = held.columns.keys().filter(|c| !object.columns.iter().any(|(known, _)| known == *c));
                            let notes: Vec<String> = gone.map(|c| format!("gone column {c}")).collect();
                            object.not_modelled.extend(notes);
                        }
                    }
                    None
                }
                Scope::Function(database, name) => routine(Class::Function, database, name),
                Scope::Procedure(database, name) => routine(Class::Procedure, database, name),
            };
            state.grants.insert((holder, found.unwrap_or(scope)), held);
        }
    }

    fn sees_everything(&mut self, state: &State) -> Result<(), BridgeError> {
        let account = self.account()?;
        let held = state.grants.get(&(Holder::Account(account.clone()), Scope::Everything)).map_or(Privileges::NONE, |h| h.privileges);
        let missing = [Privilege::Select, Privilege::ShowView, Privilege::Trigger].into_iter().collect::<Privileges>().without(held);
        if missing.is_empty() {
            return Ok(());
        }
        let reason = format!(
            "{account} does not hold {missing} on everything, and the server hides what it may not see: GRANT SELECT, SHOW VIEW, TRIGGER ON *.* TO {}",
            account.sql()
        );
        Err(BridgeError::Read { what: "tables and views", reason })
    }

    fn objects(&mut self, state: &mut State) -> Result<(), BridgeError> {
        for row in self.rows("tables and views", TABLES)? {
            let class = if text(&row, 2) == "VIEW" { Class::View } else { Class::Table };
            let mut object = Object::default();
            if class == Class::View {
                object.definer = maybe(&row, 3).and_then(|d| AccountName::parse(&d));
                object.runs_as_owner = maybe(&row, 4).is_none_or(|s| s == "DEFINER");
                object.query = maybe(&row, 5);
            }
            if text(&row, 2) == "SEQUENCE" {
                object.not_modelled.insert("sequence".to_owned());
            }
            state.objects.insert(ObjectName::new(class, &text(&row, 0), &text(&row, 1)), object);
        }
        for row in self.rows("columns", COLUMNS)? {
            for class in [Class::Table, Class::View] {
                if let Some(object) = state.objects.get_mut(&ObjectName::new(class, &text(&row, 0), &text(&row, 1))) {
                    let kind = if class == Class::Table { text(&row, 3) } else { String::new() };
                    object.columns.push((text(&row, 2), kind));
                }
            }
        }
        // Sequences have rights of their own, which are looked at where one is counted on.
        for row in self.rows("defaults", DEFAULTS)? {
            if let Some(object) = state.objects.get_mut(&ObjectName::new(Class::Table, &text(&row, 0), &text(&row, 1))) {
                object.not_modelled.insert(format!("default of {}", text(&row, 2)));
            }
        }
        let mut before: Option<((ObjectName, String, String), String)> = None;
        for row in self.rows("triggers", TRIGGERS)? {
            let name = ObjectName::new(Class::Table, &text(&row, 0), &text(&row, 1));
            let (trigger, event) = (text(&row, 2), text(&row, 3));
            // The server gives the definer without quotes; the last `@` stands before the host.
            let definer = AccountName::parse(&text(&row, 6)).filter(|definer| state.accounts.contains_key(definer));
            let Some(object) = state.objects.get_mut(&name) else { continue };
            let group = (name, text(&row, 4), event.clone());
            let follows = before.take().filter(|(other, _)| *other == group).map(|(_, trigger)| trigger);
            before = Some((group, trigger.clone()));
            match (definer, Event::from_word(&event), mode_that_reads_otherwise(&text(&row, 7))) {
                (Some(definer), Some(event), None) => {
                    let is_before = text(&row, 4) == "BEFORE";
                    object.triggers.insert(trigger, Trigger { definer, is_before, event, follows, body: text(&row, 5) });
                }
                _ => _ = object.not_modelled.insert(format!("trigger {trigger} on {}", event.to_lowercase())),
            }
        }
        for row in self.rows("routines", ROUTINES)? {
            let class = if text(&row, 2) == "FUNCTION" { Class::Function } else { Class::Procedure };
            let object = Object {
                definer: AccountName::parse(&text(&row, 3)),
                runs_as_owner: text(&row, 4) == "DEFINER",
                parameters: Some(text(&row, 5)),
                returns: maybe(&row, 6).filter(|r| !r.is_empty()),
                body: Some(text(&row, 7)),
                not_modelled: mode_that_reads_otherwise(&text(&row, 8)).map(|mode| format!("body under {mode}")).into_iter().collect(),
                ..Object::default()
            };
            state.objects.insert(ObjectName::new(class, &text(&row, 0), &text(&row, 1)), object);
        }
        // A definer that is a role, or gone, is only named.
        let accounts: Vec<AccountName> = state.accounts.keys().cloned().collect();
        for (_, object) in state.objects.iter_mut().filter(|(n, _)| n.class != Class::Table) {
            if object.definer.as_ref().is_none_or(|d| !accounts.contains(d)) {
                let shown = object.definer.take().map_or_else(|| "that is a role".to_owned(), |d| format!("{d}, who is gone"));
                object.not_modelled.insert(format!("definer {shown}"));
            }
        }
        Ok(())
    }

    /// Carries out steps one by one and stops at the first error: the server cannot take such statements back.
    ///
    /// # Errors
    /// The statement that failed, in the server's words, and what was done before it.
    ///
    /// # Example
    /// ```no_run
    /// use zest_bridges::mariadb::{Session, Target};
    /// use zest_ledger::{Ledger, mariadb};
    /// let estate = Ledger::new().document("servers.toml", &std::fs::read_to_string("servers.toml")?).estate()?;
    /// let wanted = mariadb::state_of(&estate, "ticketing", None).ok_or("no such server")?;
    /// let target = Target { host: "/run/mysqld/mysqld.sock".into(), user: "root".into(), ..Target::default() };
    /// let mut session = Session::open(&target)?;
    /// let steps = session.read()?.steps_to(&wanted, &mariadb::AccountName::new("root", "localhost"));
    /// session.run(&steps)?;
    /// # Ok::<(), Box<dyn std::error::Error>>(())
    /// ```
    pub fn run(&mut self, steps: &[Step]) -> Result<(), BridgeError> {
        for (i, step) in steps.iter().enumerate() {
            self.client.query_drop(&step.sql).map_err(|e| {
                let done: Vec<&str> = steps[..i].iter().map(|s| s.sql.as_str()).collect();
                let state = if done.is_empty() {
                    "nothing was changed".to_owned()
                } else {
                    format!("the {i} statements before it were carried out and stay:\n  {}", done.join("\n  "))
                };
                BridgeError::Statement { number: i + 1, of: steps.len(), sql: step.sql.clone(), reason: words(&e), state }
            })?;
        }
        Ok(())
    }
}

/// What a server says on which sessions are encrypted, but for those over its own socket.
const SECURE_TRANSPORT: &str = "requirement secure transport";

/// Modes under which a text is read otherwise.
const READ_OTHERWISE: &[&str] =
    &["ANSI_QUOTES", "NO_BACKSLASH_ESCAPES", "ORACLE", "PIPES_AS_CONCAT", "IGNORE_SPACE", "ANSI", "DB2", "MSSQL", "MAXDB", "POSTGRESQL"];

/// Returns the mode under which a body was made and is read, whatever the server's is, if it is one that reads texts otherwise.
fn mode_that_reads_otherwise(modes: &str) -> Option<&str> {
    modes.split(',').find(|mode| READ_OTHERWISE.contains(mode))
}

fn words(error: &mysql::Error) -> String {
    match error {
        mysql::Error::MySqlError(e) => format!("{} ({})", e.message, e.code),
        other => other.to_string(),
    }
}

fn holder_of(state: &State, user: String, host: &str) -> Option<Holder> {
    if host.is_empty() {
        return Some(if user == "PUBLIC" { Holder::Public } else { Holder::Role(user) });
    }
    let name = AccountName::new(&user, host);
    state.accounts.contains_key(&name).then_some(Holder::Account(name))
}

fn is_own(database: &str) -> bool {
    matches!(database, "mysql" | "information_schema" | "performance_schema" | "sys")
}

fn text(row: &Row, at: usize) -> String {
    maybe(row, at).unwrap_or_default()
}

fn maybe(row: &Row, at: usize) -> Option<String> {
    match row.as_ref(at)? {
        mysql::Value::Bytes(bytes) => Some(String::from_utf8_lossy(bytes).into_owned()),
        mysql::Value::NULL => None,
        mysql::Value::Int(n) => Some(n.to_string()),
        mysql::Value::UInt(n) => Some(n.to_string()),
        _ => None,
    }
}

fn number<N: std::str::FromStr>(row: &Row, at: usize) -> Option<N> {
    maybe(row, at)?.parse().ok()
}

fn flag(row: &Row, at: usize) -> bool {
    matches!(text(row, at).as_str(), "1" | "Y" | "true")
}

/// Reads a set as the server's tables keep it: `Select,Insert,Grant`.
fn set(list: &str) -> Privileges {
    list.split(',')
        .filter_map(|word| match word.trim().to_lowercase().as_str() {
            "grant" => Some(Privilege::GrantOption),
            "delete versioning rows" | "delete history" => Some(Privilege::DeleteHistory),
            "create view" => Some(Privilege::CreateView),
            "show view" => Some(Privilege::ShowView),
            other => Privilege::from_word(other),
        })
        .collect()
}

const DATABASE_COLUMNS: &[Privilege] = &[
    Privilege::Select,
    Privilege::Insert,
    Privilege::Update,
    Privilege::Delete,
    Privilege::Create,
    Privilege::Drop,
    Privilege::GrantOption,
    Privilege::References,
    Privilege::Index,
    Privilege::Alter,
    Privilege::CreateTemporaryTables,
    Privilege::LockTables,
    Privilege::CreateView,
    Privilege::ShowView,
    Privilege::CreateRoutine,
    Privilege::AlterRoutine,
    Privilege::Execute,
    Privilege::Event,
    Privilege::Trigger,
    Privilege::DeleteHistory,
];

const ACCOUNTS: &str = "
SELECT CONVERT(User USING utf8mb4), CONVERT(Host USING utf8mb4), CAST(COALESCE(JSON_VALUE(Priv, '$.access'), 0) AS UNSIGNED),
       COALESCE(JSON_VALUE(Priv, '$.is_role'), 0), COALESCE(JSON_VALUE(Priv, '$.account_locked'), 0),
       COALESCE(JSON_VALUE(Priv, '$.password_last_changed') = '0', 0), JSON_VALUE(Priv, '$.default_role'),
       JSON_VALUE(Priv, '$.max_questions'), JSON_VALUE(Priv, '$.max_updates'), JSON_VALUE(Priv, '$.max_connections'),
       JSON_VALUE(Priv, '$.max_user_connections'),
       COALESCE(JSON_VALUE(Priv, '$.ssl_type'), '0'), COALESCE(JSON_VALUE(Priv, '$.plugin'), ''),
       CAST(COALESCE(JSON_VALUE(Priv, '$.password_last_changed'), 0) AS SIGNED),
       CAST(COALESCE(NULLIF(JSON_VALUE(Priv, '$.password_lifetime'), '-1'), @@global.default_password_lifetime) AS SIGNED),
       JSON_EXISTS(Priv, '$.auth_or'), COALESCE(JSON_VALUE(Priv, '$.authentication_string'), '')
FROM mysql.global_priv";

const DATABASES: &str = "
SELECT CONVERT(User USING utf8mb4), CONVERT(Host USING utf8mb4), CONVERT(Db USING utf8mb4), Select_priv, Insert_priv, Update_priv,
       Delete_priv, Create_priv, Drop_priv, Grant_priv, References_priv, Index_priv, Alter_priv, Create_tmp_table_priv, Lock_tables_priv,
       Create_view_priv, Show_view_priv, Create_routine_priv, Alter_routine_priv, Execute_priv, Event_priv, Trigger_priv,
       Delete_history_priv
FROM mysql.db";

const TABLES: &str = "
SELECT t.table_schema, t.table_name, t.table_type, v.definer, v.security_type, v.view_definition
FROM information_schema.tables t LEFT JOIN information_schema.views v ON v.table_schema = t.table_schema AND v.table_name = t.table_name
WHERE t.table_schema NOT IN ('mysql', 'information_schema', 'performance_schema', 'sys')";

const COLUMNS: &str = "
SELECT table_schema, table_name, column_name, column_type FROM information_schema.columns
WHERE table_schema NOT IN ('mysql', 'information_schema', 'performance_schema', 'sys') ORDER BY table_schema, table_name, ordinal_position";

const DEFAULTS: &str = "
SELECT table_schema, table_name, column_name FROM information_schema.columns
WHERE table_schema NOT IN ('mysql', 'information_schema', 'performance_schema', 'sys') AND column_default REGEXP '(nextval|lastval|setval)[(]'";

const ROUTINES: &str = "
SELECT CONVERT(db USING utf8mb4), CONVERT(name USING utf8mb4), CONVERT(type USING utf8mb4), CONVERT(definer USING utf8mb4),
       CONVERT(security_type USING utf8mb4), CONVERT(param_list USING utf8mb4), CONVERT(returns USING utf8mb4), CONVERT(body USING utf8mb4), sql_mode
FROM mysql.proc WHERE db NOT IN ('mysql', 'information_schema', 'performance_schema', 'sys')";

const TRIGGERS: &str = "
SELECT event_object_schema, event_object_table, trigger_name, event_manipulation, action_timing, action_statement, definer, sql_mode
FROM information_schema.triggers ORDER BY event_object_schema, event_object_table, action_timing, event_manipulation, action_order";
