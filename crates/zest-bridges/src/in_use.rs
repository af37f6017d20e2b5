//! Servers that are in use, asked what they would allow: nothing is changed on them, and no routine of anybody is run.
//!
//! Privileges are asked of the server's own functions. A statement is put to it by `EXPLAIN` alone, by which the server looks at rights and
//! carries nothing out, as one statement, with limits on time and on waiting for locks; on PostgreSQL in a transaction that may only read.
//! What could run a routine while it is planned, as one that is not followed may, is not put to it.

use std::collections::BTreeSet;

use ::mysql::prelude::Queryable;
use ::postgres::error::SqlState;
use zest_ledger::mariadb::AccountName;
use zest_ledger::postgresql::Catalog;
use zest_ledger::{mariadb, postgresql};

use crate::BridgeError;
use crate::private::{Said, reaches_out};

/// What came of a statement.
///
/// # Example
/// ```
/// use zest_bridges::{in_use::Asked, private::Said};
/// let told = |asked: &Asked| match asked {
///     Asked::Said(Said::Allowed) => "it would".to_owned(),
///     Asked::Said(said) => format!("{said:?}"),
///     Asked::NotPut(why) => format!("not asked: {why}"),
///     _ => String::new(),
/// };
/// assert_eq!(told(&Asked::NotPut("it reaches files".to_owned())), "not asked: it reaches files");
/// ```
#[derive(Clone, Debug, PartialEq, Eq)]
#[non_exhaustive]
pub enum Asked {
    /// What the server said.
    Said(Said),
    /// It was not put to it: why.
    NotPut(String),
}

fn not_put(why: impl Into<String>) -> Asked {
    Asked::NotPut(why.into())
}

/// A PostgreSQL 15 that is in use.
///
/// # Example
/// ```no_run
/// use zest_bridges::{in_use::Postgresql, postgresql::{Session, Target}};
/// let target = Target { host: "/run/postgresql".into(), port: 5432, user: "postgres".into(), database: "ticketing".into(), ..Target::default() };
/// let mut server = Postgresql::new(Session::open(&target)?)?;
/// println!("{:?}", server.explain("purser-1", None, "select id from fares.price")?);
/// # Ok::<(), zest_bridges::BridgeError>(())
/// ```
#[allow(missing_debug_implementations, reason = "the client has none")]
pub struct Postgresql {
    session: crate::postgresql::Session,
    /// What the server has, as it was read.
    catalog: Catalog,
}

impl Postgresql {
    /// Takes a session of a superuser, who alone may ask for others, and reads what the server has.
    ///
    /// # Errors
    /// When the server cannot be read, or the session is not a superuser's.
    pub fn new(mut session: crate::postgresql::Session) -> Result<Self, BridgeError> {
        let state = session.read()?;
        let asked = |e: ::postgres::Error| BridgeError::Read { what: "who signed in", reason: e.to_string() };
        let row = session.client().query_one("SELECT session_user::text", &[]).map_err(asked)?;
        let login: String = row.get(0);
        if !state.is_superuser(&login) {
            return Err(BridgeError::Refused(format!("`{login}` is no superuser: nobody else may ask the server as another account")));
        }
        if state.roles.get(&login).is_some_and(|role| !role.settings.is_empty()) {
            return Err(BridgeError::Refused(format!(
                "the sessions of `{login}` begin with settings of their own, which those of others do not have"
            )));
        }
        Ok(Self { session, catalog: Catalog::compile(state) })
    }

    /// Returns the session, to ask what roles hold.
    pub const fn session(&mut self) -> &mut crate::postgresql::Session {
        &mut self.session
    }

    /// Returns whether the server has a role, and an object with a column.
    #[must_use]
    pub fn has(&self, role: &str, object: &postgresql::ObjectName, column: Option<&str>) -> bool {
        let state = self.catalog.state();
        let has_column = |of: &postgresql::Object| column.is_none_or(|column| of.columns.iter().any(|known| known.name == column));
        state.knows_role(role) && state.objects.get(object).is_some_and(has_column)
    }

    /// Asks what an account may do with a role active, which takes the place of its own where it is stated.
    ///
    /// # Errors
    /// When the session is lost.
    pub fn explain(&mut self, account: &str, role: Option<&str>, statement: &str) -> Result<Asked, BridgeError> {
        let state = self.catalog.state();
        let Some(known) = state.roles.get(account) else { return Ok(not_put("the server has no such account")) };
        if !known.settings.is_empty() {
            return Ok(not_put("sessions of the account begin with settings of their own"));
        }
        if reaches_out(statement) {
            return Ok(not_put("it may reach out of the server"));
        }
        if let Err(why) = postgresql::is_harmless_to_explain(&self.catalog, account, role.unwrap_or(account), statement) {
            return Ok(not_put(why));
        }
        let client = self.session.client();
        let lost = |e: ::postgres::Error| BridgeError::Read { what: "an answer", reason: e.to_string() };
        client.batch_execute("BEGIN READ ONLY; SET LOCAL statement_timeout = '5s'; SET LOCAL lock_timeout = '1s'").map_err(lost)?;
        let mut come = client.batch_execute(&format!("SET LOCAL SESSION AUTHORIZATION {}", postgresql::quoted(account)));
        if let (Ok(()), Some(role)) = (&come, role) {
            come = client.batch_execute(&format!("SET LOCAL ROLE {}", postgresql::quoted(role)));
        }
        // Prepared, it is one statement, whatever the text holds.
        let came = come.and_then(|()| client.query(&format!("EXPLAIN (COSTS OFF) {statement}"), &[]).map(drop));
        client.batch_execute("ROLLBACK; RESET SESSION AUTHORIZATION").map_err(lost)?;
        let Err(error) = came else { return Ok(Asked::Said(Said::Allowed)) };
        let Some(error) = error.as_db_error() else { return Ok(Asked::Said(Said::Otherwise(error.to_string()))) };
        let text = format!("{} ({})", error.message(), error.code().code());
        let is_refused = *error.code() == SqlState::INSUFFICIENT_PRIVILEGE;
        Ok(Asked::Said(if is_refused { Said::Refused(text) } else { Said::Otherwise(text) }))
    }
}

/// A MariaDB 10.11 that is in use: it is asked as the account that signed in, whose credential is known.
///
/// # Example
/// ```no_run
/// use zest_bridges::{in_use::Mariadb, mariadb::{Session, Target}};
/// let target = Target { host: "192.0.2.31".into(), port: 3306, user: "purser-3".into(), ..Target::default() };
/// let mut session = Session::open(&target)?;
/// let state = session.read()?;
/// println!("{:?}", Mariadb::new(session)?.explain(&state, None, "select id from club.member"));
/// # Ok::<(), zest_bridges::BridgeError>(())
/// ```
#[allow(missing_debug_implementations, reason = "the client has none")]
pub struct Mariadb {
    session: crate::mariadb::Session,
    account: AccountName,
    /// Views that the account sees.
    views: BTreeSet<(String, String)>,
}

impl Mariadb {
    /// Takes a session.
    ///
    /// # Errors
    /// When the server refuses to say who signed in.
    pub fn new(mut session: crate::mariadb::Session) -> Result<Self, BridgeError> {
        let account = session.account()?;
        let client = session.client();
        let asked = |e: ::mysql::Error| BridgeError::Read { what: "limits and views", reason: e.to_string() };
        client.query_drop("SET SESSION max_statement_time = 5, lock_wait_timeout = 1, innodb_lock_wait_timeout = 1").map_err(asked)?;
        let views = client.query("SELECT table_schema, table_name FROM information_schema.views").map_err(asked)?;
        Ok(Self { session, account, views: views.into_iter().collect() })
    }

    /// Returns the account that signed in.
    #[must_use]
    pub const fn account(&self) -> &AccountName {
        &self.account
    }

    /// Asks what the account may do with a role active, or with none; `state` is what the ledger says of the server.
    pub fn explain(&mut self, state: &mariadb::State, role: Option<&str>, statement: &str) -> Asked {
        if reaches_out(statement) {
            return not_put("it may reach out of the server");
        }
        let tables = match mariadb::is_harmless_to_explain(state, statement) {
            Ok(tables) => tables,
            Err(why) => return not_put(why),
        };
        if let Some(view) = tables.iter().find(|table| self.views.contains(&(table.database.clone(), table.name.clone()))) {
            return not_put(format!("`{}` is a view on the server", view.sql()));
        }
        let client = self.session.client();
        let role = role.map_or_else(|| "NONE".to_owned(), mariadb::quoted);
        // Prepared, it is one statement, whatever the text holds.
        let came = client.query_drop(format!("SET ROLE {role}")).and_then(|()| client.exec_drop(format!("EXPLAIN {statement}"), ()));
        Asked::Said(came.map_or_else(|error| crate::private::said(&error), |()| Said::Allowed))
    }
}
