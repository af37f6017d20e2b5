//! PostgreSQL 15: reading a server's catalogs, and carrying out the steps of a roll-out in one transaction.

use postgres::config::SslMode;
use postgres::types::Type;
use postgres::{Client, NoTls, Row, SimpleQueryMessage};
use zest_ledger::drift::Step;
use zest_ledger::entry::PolicyFor;
use zest_ledger::postgresql::{Acl, Class, Column, DefaultKey, Grantee, Held, Object, ObjectName, Policy, Privilege, Role, State};

use crate::encryption::HINT;
use crate::{BridgeError, Encryption};

/// A session on a server.
///
/// # Example
/// ```no_run
/// use zest_bridges::postgresql::{Session, Target};
/// let target = Target { host: "/run/postgresql".into(), port: 5432, user: "auditor".into(), database: "ticketing".into(), ..Target::default() };
/// let mut session = Session::open(&target)?;
/// println!("# as read from {}", session.target());
/// let state = session.read()?;
/// println!("{}", state.document("ticketing", None));
/// # Ok::<(), zest_bridges::BridgeError>(())
/// ```
#[allow(missing_debug_implementations, reason = "the client has none")]
pub struct Session {
    client: Client,
    target: String,
    database: String,
}

/// Where a server listens, and as whom to read.
///
/// # Example
/// ```
/// use zest_bridges::postgresql::Target;
/// let target = Target {
///     host: "192.0.2.30".into(),
///     port: 5432,
///     user: "auditor".into(),
///     database: "ticketing".into(), password: std::env::var("AUDITOR_CREDENTIAL").ok(),
///     ..Target::default()
/// };
/// assert!(target.encryption.covers(&target.host), "it leaves this machine");
/// ```
#[derive(Clone, Debug, Default)]
pub struct Target {
    /// Host name, address, or the folder of a socket.
    pub host: String,
    /// The port.
    pub port: u16,
    /// The role.
    pub user: String,
    /// The database.
    pub database: String,
    /// The credential, if the server asks for one; never kept.
    pub password: Option<String>,
    /// Whether the session is encrypted.
    pub encryption: Encryption,
}

/// The server's refusal, with a hint where it is about the encryption and not the server's own.
fn with_hint(error: &postgres::Error) -> String {
    if error.as_db_error().is_some() { words(error) } else { format!("{} ({HINT})", words(error)) }
}

fn words(error: &postgres::Error) -> String {
    let Some(db) = error.as_db_error() else {
        let source = std::error::Error::source(error).map_or(String::new(), |s| format!(": {s}"));
        return format!("{error}{source}");
    };
    format!("{} ({})", db.message(), db.code().code())
}

impl Session {
    /// Opens a session.
    ///
    /// # Errors
    /// When the server is down, refuses the credential, or is not version 15.
    pub fn open(target: &Target) -> Result<Self, BridgeError> {
        let shown = format!("{}:{}/{}", target.host, target.port, target.database);
        let mut config = Client::configure();
        config.host(&target.host).port(target.port).user(&target.user).dbname(&target.database).application_name("zest");
        if let Some(password) = &target.password {
            config.password(password);
        }
        config.connect_timeout(std::time::Duration::from_secs(10));
        let fail = |reason: String| BridgeError::Connect { target: shown.clone(), reason };
        let mut client = match target.encryption.with(&target.host) {
            None => config.ssl_mode(SslMode::Disable).connect(NoTls).map_err(|e| fail(words(&e)))?,
            Some(certificates) => {
                let tls = tokio_postgres_rustls::MakeRustlsConnect::new(certificates.config().map_err(fail)?);
                config.ssl_mode(SslMode::Require).connect(tls).map_err(|e| fail(with_hint(&e)))?
            }
        };
        let version: String = one(&mut client, "the version", "SHOW server_version_num")?;
        if !version.starts_with("15") {
            return Err(BridgeError::Version { target: shown, found: format!("version number {version}"), known: "PostgreSQL 15" });
        }
        Ok(Self { client, target: shown, database: target.database.clone() })
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
    /// use zest_bridges::postgresql::{Session, Target};
    /// let target = Target { host: "/run/postgresql".into(), port: 5432, user: "postgres".into(), database: "ticketing".into(), ..Target::default() };
    /// let mut session = Session::open(&target)?;
    /// println!("{}", session.client().query_one("select count(*) from pg_stat_activity", &[])?.get::<_, i64>(0));
    /// # Ok::<(), Box<dyn std::error::Error>>(())
    /// ```
    pub const fn client(&mut self) -> &mut Client {
        &mut self.client
    }

    /// Asks the server whether a role holds a privilege on an object or a column of the session's database, as its own functions say.
    ///
    /// # Errors
    /// When the server refuses the question.
    pub fn holds(
        &mut self,
        role: &str,
        object: &ObjectName,
        column: Option<&str>,
        privilege: Privilege,
        option: bool,
    ) -> Result<bool, BridgeError> {
        let function = match (object.class, column) {
            (Class::Database, _) => "has_database_privilege",
            (Class::Language, _) => "has_language_privilege",
            (Class::Wrapper, _) => "has_foreign_data_wrapper_privilege",
            (Class::Server, _) => "has_server_privilege",
            (Class::Schema, _) => "has_schema_privilege",
            (Class::Type, _) => "has_type_privilege",
            (Class::Sequence, _) => "has_sequence_privilege",
            (Class::Function | Class::Procedure, _) => "has_function_privilege",
            (Class::Table | Class::View | Class::MaterialisedView, Some(_)) => "has_column_privilege",
            (Class::Table | Class::View | Class::MaterialisedView, None) => "has_table_privilege",
        };
        let name = match object.class {
            Class::Database => self.database.clone(),
            Class::Language | Class::Wrapper | Class::Server | Class::Schema => object.last().to_owned(),
            _ => object.sql(),
        };
        let wanted = format!("{}{}", privilege.word(), if option { " WITH GRANT OPTION" } else { "" });
        let asked = |e: postgres::Error| BridgeError::Read { what: "a privilege", reason: words(&e) };
        let client = &mut self.client;
        // With the types said, one trip to the server takes the place of three.
        let row = match column {
            Some(column) => client.query_typed_one(
                &format!("SELECT {function}($1, $2, $3, $4)"),
                &[(&role, Type::TEXT), (&name, Type::TEXT), (&column, Type::TEXT), (&wanted, Type::TEXT)],
            ),
            None => client.query_typed_one(
                &format!("SELECT {function}($1, $2, $3)"),
                &[(&role, Type::TEXT), (&name, Type::TEXT), (&wanted, Type::TEXT)],
            ),
        };
        Ok(row.map_err(asked)?.get(0))
    }

    fn rows(&mut self, what: &'static str, sql: &str) -> Result<Vec<Row>, BridgeError> {
        self.client.query(sql, &[]).map_err(|e| BridgeError::Read { what, reason: words(&e) })
    }

    /// Reads everything the model knows, in one snapshot; needs no right beyond opening the session.
    ///
    /// # Errors
    /// When the server refuses a query.
    pub fn read(&mut self) -> Result<State, BridgeError> {
        let begin = "BEGIN TRANSACTION ISOLATION LEVEL REPEATABLE READ READ ONLY; SET LOCAL search_path = pg_catalog; SET LOCAL jit = off";
        self.client.batch_execute(begin).map_err(|e| BridgeError::Read { what: "a snapshot", reason: words(&e) })?;
        let state = self.snapshot();
        let _ = self.client.batch_execute("ROLLBACK");
        state
    }

    fn snapshot(&mut self) -> Result<State, BridgeError> {
        let mut state = State { database: one(&mut self.client, "the database", "SELECT current_database()::text")?, ..State::default() };
        for row in self.rows("roles", ROLES)? {
            let role = Role {
                superuser: row.get(1),
                inherit: row.get(2),
                create_role: row.get(3),
                create_database: row.get(4),
                login: row.get(5),
                replication: row.get(6),
                bypass_row_security: row.get(7),
                connection_limit: row.get(8),
                valid_until: row.get::<_, Option<&str>>(9).and_then(|t| t.parse().ok()),
                ..Role::default()
            };
            state.roles.insert(row.get(0), role);
        }
        for row in self.rows("memberships", MEMBERSHIPS)? {
            if let Some(role) = state.roles.get_mut(row.get::<_, &str>(0)) {
                role.member_of.insert(row.get(1), row.get(2));
            }
        }
        for row in self.rows("objects", OBJECTS)? {
            let name = name_of(&row)?;
            let text = |i: usize| row.get::<_, Option<String>>(i);
            let object = Object {
                owner: row.get(4),
                runs_as_owner: row.get(5),
                row_security: row.get(6),
                returns: text(7),
                language: text(8),
                body: text(9),
                query: text(10),
                values: row.get::<_, Option<Vec<String>>>(11).unwrap_or_default(),
                ..Object::default()
            };
            state.objects.insert(name, object);
        }
        for row in self.rows("access control lists", ACLS)? {
            let Some(object) = state.objects.get_mut(&name_of(&row)?) else { continue };
            add(&mut object.acl, &row, 4);
        }
        for row in self.rows("columns", COLUMNS)? {
            let name = ObjectName::new(relation(row.get(0))?, &[row.get(1), row.get(2)]);
            if let Some(object) = state.objects.get_mut(&name) {
                let is_view = matches!(name.class, Class::View | Class::MaterialisedView);
                let data_type = if is_view { String::new() } else { row.get(4) };
                let default = row.get::<_, Option<String>>(5).map(|d| d.replace("::regclass", ""));
                object.columns.push(Column { name: row.get(3), data_type, default, acl: Acl::default() });
            }
        }
        for row in self.rows("grants on columns", COLUMN_ACLS)? {
            let name = ObjectName::new(relation(row.get(0))?, &[row.get(1), row.get(2)]);
            let column: &str = row.get(3);
            if let Some(column) = state.objects.get_mut(&name).and_then(|o| o.columns.iter_mut().find(|c| c.name == column)) {
                add(&mut column.acl, &row, 4);
            }
        }
        for row in self.rows("policies", POLICIES)? {
            let name = ObjectName::new(Class::Table, &[row.get(0), row.get(1)]);
            let Some(object) = state.objects.get_mut(&name) else { continue };
            let acts = match row.get::<_, &str>(4) {
                "r" => PolicyFor::Select,
                "a" => PolicyFor::Insert,
                "w" => PolicyFor::Update,
                "d" => PolicyFor::Delete,
                "*" => PolicyFor::All,
                other => return Err(unknown("what a policy is for", other)),
            };
            let to: Vec<String> = row.get(5);
            let policy =
                Policy { acts, to: to.into_iter().collect(), using: row.get(6), check: row.get(7), restrictive: !row.get::<_, bool>(3) };
            object.policies.get_or_insert_default().insert(row.get(2), policy);
        }
        for object in state.objects.values_mut().filter(|object| object.row_security) {
            object.policies.get_or_insert_default();
        }
        for row in self.rows("what runs along", ALONG)? {
            let Some(object) = state.objects.get_mut(&name_of(&row)?) else { continue };
            let (sort, key, text): (&str, String, String) = (row.get(4), row.get(5), row.get(6));
            match sort {
                "forced" => object.row_security_for_owner = true,
                "trigger" => drop(object.triggers.insert(key, text)),
                "rule" => drop(object.rules.insert(key, text)),
                "check" => drop(object.checks.insert(key, text)),
                "domain" => object.domain_of = Some(text),
                "parameters" => object.parameters = Some(text),
                "body" => object.body = Some(text),
                "setting" => object.settings.push(text),
                other => return Err(unknown("what runs along", other)),
            }
        }
        for row in self.rows("settings of sessions", &SETTINGS.replace("{matters}", MATTERS))? {
            let setting: String = row.get(1);
            match row.get::<_, Option<&str>>(0) {
                None => state.settings.push(setting),
                Some(role) => {
                    if let Some(role) = state.roles.get_mut(role) {
                        role.settings.push(setting);
                    }
                }
            }
        }
        for row in self.rows("what is not modelled", &NOT_MODELLED.replace("{matters}", MATTERS))? {
            let note: String = row.get(4);
            if row.get::<_, &str>(0).is_empty() {
                state.not_modelled.insert(note);
            } else if let Some(object) = state.objects.get_mut(&name_of(&row)?) {
                object.not_modelled.insert(note);
            }
        }
        for row in self.rows("default privileges", DEFAULTS)? {
            let class = match row.get::<_, &str>(2) {
                "r" => Class::Table,
                "S" => Class::Sequence,
                "f" => Class::Function,
                "T" => Class::Type,
                "n" => Class::Schema,
                other => return Err(unknown("what default privileges are for", other)),
            };
            let key = DefaultKey { creator: row.get(0), schema: row.get(1), class };
            let acl = state.defaults.entry(key).or_default();
            // A list that gives nothing to anybody has one row without a privilege.
            if row.get::<_, Option<&str>>(5).is_some() {
                add(acl, &row, 3);
            }
        }
        Ok(state)
    }

    /// Carries out steps in one transaction; at the first error nothing is changed.
    ///
    /// # Errors
    /// The statement that failed, in the server's words.
    ///
    /// # Example
    /// ```no_run
    /// use zest_bridges::postgresql::{Session, Target};
    /// use zest_ledger::{Ledger, postgresql};
    /// let estate = Ledger::new().document("servers.toml", &std::fs::read_to_string("servers.toml")?).estate()?;
    /// let wanted = postgresql::state_of(&estate, "ticketing", None).ok_or("no such server")?;
    /// let target = Target { host: "/run/postgresql".into(), port: 5432, user: "postgres".into(), database: "ticketing".into(), ..Target::default() };
    /// let mut session = Session::open(&target)?;
    /// let steps = session.read()?.steps_to(&wanted, "postgres");
    /// session.run(&steps)?;
    /// # Ok::<(), Box<dyn std::error::Error>>(())
    /// ```
    pub fn run(&mut self, steps: &[Step]) -> Result<(), BridgeError> {
        let fail = |number: usize, sql: &str, e: &postgres::Error| BridgeError::Statement {
            number,
            of: steps.len(),
            sql: sql.to_owned(),
            reason: words(e),
            state: "everything was rolled back: the server is as it was".to_owned(),
        };
        let mut transaction = self.client.transaction().map_err(|e| fail(0, "BEGIN", &e))?;
        transaction.batch_execute("SET LOCAL check_function_bodies = off").map_err(|e| fail(0, "SET", &e))?;
        for (i, step) in steps.iter().enumerate() {
            transaction.batch_execute(&step.sql).map_err(|e| fail(i + 1, &step.sql, &e))?;
        }
        transaction.commit().map_err(|e| fail(steps.len(), "COMMIT", &e))
    }
}

fn one(client: &mut Client, what: &'static str, sql: &str) -> Result<String, BridgeError> {
    let messages = client.simple_query(sql).map_err(|e| BridgeError::Read { what, reason: words(&e) })?;
    let row = messages.iter().find_map(|m| if let SimpleQueryMessage::Row(row) = m { row.get(0).map(str::to_owned) } else { None });
    row.ok_or_else(|| BridgeError::Read { what, reason: "no answer".to_owned() })
}

fn relation(kind: &str) -> Result<Class, BridgeError> {
    match kind {
        "r" | "p" | "f" => Ok(Class::Table),
        "v" => Ok(Class::View),
        "m" => Ok(Class::MaterialisedView),
        "S" => Ok(Class::Sequence),
        "c" => Ok(Class::Type),
        other => Err(unknown("a sort of objects", other)),
    }
}

fn unknown(what: &'static str, found: &str) -> BridgeError {
    BridgeError::Read { what, reason: format!("`{found}` is not known") }
}

/// Reads a name from the first four columns: class, schema, name, arguments.
fn name_of(row: &Row) -> Result<ObjectName, BridgeError> {
    let (schema, name): (Option<&str>, &str) = (row.get(1), row.get(2));
    let class = match row.get::<_, &str>(0) {
        "database" => return Ok(ObjectName::database()),
        "schema" => Class::Schema,
        "language" => Class::Language,
        "wrapper" => Class::Wrapper,
        "server" => Class::Server,
        "type" => Class::Type,
        "function" => Class::Function,
        "procedure" => Class::Procedure,
        kind => relation(kind)?,
    };
    let parts: Vec<&str> = schema.into_iter().chain([name]).collect();
    let mut made = ObjectName::new(class, &parts);
    if class.is_routine() {
        made.arguments = Some(row.get::<_, Option<&str>>(3).unwrap_or_default().to_owned());
    }
    Ok(made)
}

/// Adds one exploded entry: grantee (none for PUBLIC), grantor, privilege, whether it may be passed on.
fn add(acl: &mut Acl, row: &Row, from: usize) {
    let grantee = row.get::<_, Option<String>>(from).map_or(Grantee::Public, Grantee::Role);
    let grantor: String = row.get(from + 1);
    let Some(privilege) = Privilege::from_word(&row.get::<_, &str>(from + 2).to_lowercase()) else { return };
    let mut held = acl.iter().find(|(g, r, _)| **g == grantee && *r == grantor).map(|(_, _, h)| h.clone()).unwrap_or_default();
    held.privileges = held.privileges.or(privilege.only());
    if row.get(from + 3) {
        held.options = held.options.or(privilege.only());
    }
    acl.insert(grantee, &grantor, Held { place: None, ..held });
}

const ROLES: &str = "
SELECT rolname::text, rolsuper, rolinherit, rolcreaterole, rolcreatedb, rolcanlogin, rolreplication, rolbypassrls, rolconnlimit,
       CASE WHEN isfinite(rolvaliduntil)
            THEN to_char(rolvaliduntil AT TIME ZONE 'UTC', 'YYYY-MM-DD\"T\"HH24:MI:SS\"Z\"') END
FROM pg_roles WHERE rolname !~ '^pg_'";

const MEMBERSHIPS: &str = "
SELECT m.rolname::text, r.rolname::text, a.admin_option
FROM pg_auth_members a JOIN pg_roles m ON m.oid = a.member JOIN pg_roles r ON r.oid = a.roleid WHERE m.rolname !~ '^pg_'";

macro_rules! with_objects {
    ($select:literal) => {
        concat!(
            "WITH spaces AS (SELECT oid, nspname FROM pg_namespace WHERE nspname !~ '^pg_' AND nspname <> 'information_schema'),
objects AS (
  SELECT 'database' AS class, NULL::text AS schema, datname::text AS name, NULL::text AS arguments, datdba AS owner,
         coalesce(datacl, acldefault('d', datdba)) AS acl, false AS as_owner, false AS rows, NULL::text AS returns, NULL::text AS language,
         NULL::text AS body, NULL::text AS query, NULL::text[] AS vals
  FROM pg_database WHERE datname = current_database()
  UNION ALL
  SELECT 'schema', NULL, nspname::text, NULL, nspowner, coalesce(nspacl, acldefault('n', nspowner)), false, false, NULL, NULL, NULL, NULL, NULL
  FROM pg_namespace WHERE nspname !~ '^pg_' AND nspname <> 'information_schema'
  UNION ALL
  SELECT 'language', NULL, lanname::text, NULL, lanowner, coalesce(lanacl, acldefault('l', lanowner)), false, false, NULL, NULL, NULL, NULL, NULL
  FROM pg_language WHERE lanpltrusted
  UNION ALL
  SELECT 'wrapper', NULL, fdwname::text, NULL, fdwowner, coalesce(fdwacl, acldefault('F', fdwowner)), false, false, NULL, NULL, NULL, NULL, NULL
  FROM pg_foreign_data_wrapper
  UNION ALL
  SELECT 'server', NULL, srvname::text, NULL, srvowner, coalesce(srvacl, acldefault('S', srvowner)), false, false, NULL,
         (SELECT fdwname::text FROM pg_foreign_data_wrapper f WHERE f.oid = srvfdw), NULL, NULL, NULL
  FROM pg_foreign_server
  UNION ALL
  SELECT 'type', s.nspname::text, typname::text, NULL, typowner, coalesce(typacl, acldefault('T', typowner)), false, false, NULL, NULL, NULL, NULL,
         (SELECT array_agg(enumlabel::text ORDER BY enumsortorder) FROM pg_enum WHERE enumtypid = t.oid)
  FROM pg_type t JOIN spaces s ON s.oid = typnamespace
  WHERE typtype IN ('e', 'd', 'r', 'm') OR typtype = 'b' AND typcategory <> 'A' OR typtype = 'c' AND EXISTS (SELECT FROM pg_class c WHERE c.oid = typrelid AND relkind = 'c')
  UNION ALL
  SELECT relkind::text, s.nspname::text, relname::text, NULL, relowner,
         coalesce(relacl, acldefault(CASE relkind WHEN 'S' THEN 's' ELSE 'r' END::\"char\", relowner)),
         relkind = 'v' AND NOT EXISTS (SELECT FROM pg_options_to_table(reloptions) WHERE CASE option_name WHEN 'security_invoker' THEN option_value::boolean END),
         relrowsecurity, NULL, NULL, NULL, CASE WHEN relkind IN ('v', 'm') THEN
           coalesce((SELECT rtrim(pg_get_viewdef(c.oid), ';') || ' WITH ' || upper(option_value) || ' CHECK OPTION'
                     FROM pg_options_to_table(reloptions) WHERE option_name = 'check_option' AND relkind = 'v'), pg_get_viewdef(c.oid)) END, NULL
  FROM pg_class c JOIN spaces s ON s.oid = relnamespace WHERE relkind IN ('r', 'p', 'v', 'm', 'S', 'f')
  UNION ALL
  SELECT CASE prokind WHEN 'p' THEN 'procedure' ELSE 'function' END, s.nspname::text, proname::text, oidvectortypes(proargtypes), proowner,
         coalesce(proacl, acldefault('f', proowner)), prosecdef, false, CASE WHEN prokind <> 'p' THEN pg_get_function_result(p.oid) END,
         (SELECT lanname::text FROM pg_language l WHERE l.oid = prolang), prosrc, NULL, NULL
  FROM pg_proc p JOIN spaces s ON s.oid = pronamespace)
",
            $select
        )
    };
}

const OBJECTS: &str = with_objects!(
    "SELECT class, schema, name, arguments, r.rolname::text, as_owner, rows, returns, language, body, query, vals
FROM objects JOIN pg_roles r ON r.oid = owner"
);

const ACLS: &str = with_objects!(
    "SELECT class, schema, name, arguments, g.rolname::text, r.rolname::text, privilege_type, is_grantable
FROM objects, aclexplode(acl) x LEFT JOIN pg_roles g ON g.oid = x.grantee JOIN pg_roles r ON r.oid = x.grantor"
);

const COLUMNS: &str = "
SELECT c.relkind::text, n.nspname::text, c.relname::text, attname::text,
       format_type(atttypid, atttypmod) || CASE attgenerated WHEN 's' THEN ' GENERATED ALWAYS AS (' || pg_get_expr(adbin, adrelid) || ') STORED' ELSE '' END,
       CASE attgenerated WHEN '' THEN pg_get_expr(adbin, adrelid) END
FROM pg_attribute a JOIN pg_class c ON c.oid = attrelid JOIN pg_namespace n ON n.oid = relnamespace
LEFT JOIN pg_attrdef d ON adrelid = attrelid AND adnum = attnum
WHERE attnum > 0 AND NOT attisdropped AND relkind IN ('r', 'p', 'v', 'm', 'f', 'c') AND nspname !~ '^pg_' AND nspname <> 'information_schema'
ORDER BY attrelid, attnum";

const COLUMN_ACLS: &str = "
SELECT c.relkind::text, n.nspname::text, c.relname::text, attname::text, g.rolname::text, r.rolname::text, privilege_type, is_grantable
FROM pg_attribute a JOIN pg_class c ON c.oid = attrelid JOIN pg_namespace n ON n.oid = relnamespace,
     aclexplode(attacl) x LEFT JOIN pg_roles g ON g.oid = x.grantee JOIN pg_roles r ON r.oid = x.grantor
WHERE attnum > 0 AND NOT attisdropped AND relkind IN ('r', 'p', 'v', 'm', 'f') AND nspname !~ '^pg_' AND nspname <> 'information_schema'";

const DEFAULTS: &str = "
SELECT c.rolname::text, n.nspname::text, defaclobjtype::text, g.rolname::text, r.rolname::text, privilege_type, is_grantable
FROM pg_default_acl d JOIN pg_roles c ON c.oid = defaclrole LEFT JOIN pg_namespace n ON n.oid = defaclnamespace
     LEFT JOIN LATERAL aclexplode(defaclacl) x ON true
     LEFT JOIN pg_roles g ON g.oid = x.grantee LEFT JOIN pg_roles r ON r.oid = x.grantor";

const POLICIES: &str = "
SELECT n.nspname::text, c.relname::text, polname::text, polpermissive, polcmd::text,
       CASE WHEN 0 = ANY (polroles) THEN '{}' ELSE ARRAY(SELECT rolname::text FROM pg_roles WHERE oid = ANY (polroles) ORDER BY 1) END,
       pg_get_expr(polqual, polrelid), pg_get_expr(polwithcheck, polrelid)
FROM pg_policy p JOIN pg_class c ON c.oid = polrelid JOIN pg_namespace n ON n.oid = relnamespace
WHERE nspname !~ '^pg_' AND nspname <> 'information_schema'";

/// That a setting of this name changes rights, or what names and texts mean.
const MATTERS: &str = "name !~ '^(log_|enable_|application_name$|client_encoding$|client_min_messages$|extra_float_digits$|.*_timeout$|work_mem$|maintenance_work_mem$|random_page_cost$|default_statistics_target$)' AND lower(name) NOT IN ('datestyle', 'intervalstyle', 'timezone')";

/// Settings that sessions begin with: those of the database, and those of roles.
const SETTINGS: &str = "
SELECT r.rolname::text, s::text
FROM pg_db_role_setting d LEFT JOIN pg_roles r ON r.oid = setrole, unnest(setconfig) WITH ORDINALITY AS u (s, at),
     LATERAL (SELECT split_part(s, '=', 1) AS name) n
WHERE (setrole = 0) = (setdatabase <> 0) AND setdatabase IN (0, (SELECT oid FROM pg_database WHERE datname = current_database()))
  AND {matters}
ORDER BY 1, at";

/// What runs along with an object: class, schema, name and arguments of it, the sort, and the name and text of what runs along. Checks of a
/// table are those that call something that is not of the server; what stands on a partition is none of its own where it comes from above.
const ALONG: &str = "
WITH spaces AS (SELECT oid, nspname FROM pg_namespace WHERE nspname !~ '^pg_' AND nspname <> 'information_schema'),
relations AS (SELECT c.oid, relkind::text AS class, nspname::text AS schema, relname::text AS name, NULL::text AS arguments,
                     quote_ident(nspname) || '.' || quote_ident(relname) AS sql
              FROM pg_class c JOIN spaces s ON s.oid = relnamespace WHERE relkind IN ('r', 'p', 'v', 'm', 'f')),
routines AS (SELECT p.*, CASE prokind WHEN 'p' THEN 'procedure' ELSE 'function' END AS class, nspname::text AS schema,
                    proname::text AS name, oidvectortypes(proargtypes) AS arguments
             FROM pg_proc p JOIN spaces s ON s.oid = pronamespace),
loose AS (
  SELECT DISTINCT d.objid FROM pg_depend d LEFT JOIN pg_type t ON d.refclassid = 'pg_type'::regclass AND t.oid = d.refobjid
  WHERE d.classid = 'pg_constraint'::regclass AND d.refobjid >= 12000
    AND (d.refclassid IN ('pg_proc'::regclass, 'pg_operator'::regclass) OR t.typtype NOT IN ('e', 'c')))
SELECT class, schema, name, arguments, 'forced' AS sort, '' AS key, '' AS text
FROM relations r JOIN pg_class c ON c.oid = r.oid WHERE relforcerowsecurity
UNION ALL
SELECT class, schema, name, arguments, 'trigger', tgname::text,
       pg_get_triggerdef(t.oid) || CASE tgenabled WHEN 'D' THEN '; ALTER TABLE ' || sql || ' DISABLE TRIGGER ' || quote_ident(tgname)
                                                  WHEN 'A' THEN '; ALTER TABLE ' || sql || ' ENABLE ALWAYS TRIGGER ' || quote_ident(tgname)
                                                  WHEN 'R' THEN '; ALTER TABLE ' || sql || ' ENABLE REPLICA TRIGGER ' || quote_ident(tgname)
                                                  ELSE '' END
FROM relations r JOIN pg_trigger t ON tgrelid = r.oid WHERE NOT tgisinternal AND tgparentid = 0
UNION ALL
SELECT class, schema, name, arguments, 'rule', rulename::text,
       pg_get_ruledef(w.oid) || CASE ev_enabled WHEN 'D' THEN ' ALTER TABLE ' || sql || ' DISABLE RULE ' || quote_ident(rulename)
                                                WHEN 'A' THEN ' ALTER TABLE ' || sql || ' ENABLE ALWAYS RULE ' || quote_ident(rulename)
                                                WHEN 'R' THEN ' ALTER TABLE ' || sql || ' ENABLE REPLICA RULE ' || quote_ident(rulename)
                                                ELSE '' END
FROM relations r JOIN pg_rewrite w ON ev_class = r.oid WHERE rulename <> '_RETURN'
UNION ALL
SELECT class, schema, name, arguments, 'check', conname::text, pg_get_expr(conbin, conrelid)
FROM relations r JOIN pg_constraint c ON conrelid = r.oid JOIN loose l ON l.objid = c.oid WHERE contype = 'c'
UNION ALL
SELECT 'type', nspname::text, typname::text, NULL, 'domain', '', format_type(typbasetype, typtypmod)
       || CASE WHEN typcollation NOT IN (0, (SELECT typcollation FROM pg_type b WHERE b.oid = t.typbasetype))
               THEN ' COLLATE ' || (SELECT quote_ident(n.nspname) || '.' || quote_ident(collname) FROM pg_collation l
                                    JOIN pg_namespace n ON n.oid = collnamespace WHERE l.oid = t.typcollation) ELSE '' END
       || CASE WHEN typdefault IS NOT NULL THEN ' DEFAULT ' || pg_get_expr(typdefaultbin, 0) ELSE '' END
       || CASE WHEN typnotnull THEN ' NOT NULL' ELSE '' END
FROM pg_type t JOIN spaces s ON s.oid = typnamespace WHERE typtype = 'd'
UNION ALL
SELECT 'type', nspname::text, typname::text, NULL, 'check', conname::text, pg_get_expr(conbin, 0)
FROM pg_type t JOIN spaces s ON s.oid = typnamespace JOIN pg_constraint c ON contypid = t.oid
UNION ALL
SELECT class, schema, name, arguments, 'parameters', '', pg_get_function_arguments(oid) FROM routines
WHERE prokind IN ('f', 'p', 'w') AND pg_get_function_arguments(oid) <> arguments
UNION ALL
SELECT class, schema, name, arguments, 'body', '', pg_get_function_sqlbody(oid) FROM routines WHERE prosqlbody IS NOT NULL
UNION ALL
(SELECT class, schema, name, arguments, 'setting', '', s FROM routines, unnest(proconfig) WITH ORDINALITY AS u (s, at) ORDER BY 1, 2, 3, 4, at)
UNION ALL
SELECT 'v', s.nspname::text, relname::text, NULL, 'setting', '', 'security_barrier=true'
FROM pg_class c JOIN spaces s ON s.oid = relnamespace, pg_options_to_table(reloptions)
WHERE relkind = 'v' AND CASE option_name WHEN 'security_barrier' THEN option_value::boolean END";

/// What the server looks at and the model only names: class, schema, name and arguments of the object (all empty for the
/// server), and the note. Harmless, and so left out, is what is built of nothing but the server's own types, functions
/// and operators: those have numbers below 12000, and nobody keeps a dependency on them.
const NOT_MODELLED: &str = "
WITH RECURSIVE spaces AS (SELECT oid, nspname FROM pg_namespace WHERE nspname !~ '^pg_' AND nspname <> 'information_schema'),
types AS (
  SELECT t.oid, t.typname, n.nspname, typtype,
         CASE WHEN typcategory = 'A' AND typelem <> 0 THEN typelem WHEN typtype = 'd' THEN typbasetype END AS inner_type
  FROM pg_type t JOIN pg_namespace n ON n.oid = typnamespace),
loose AS (
  SELECT DISTINCT d.classid, d.objid
  FROM pg_depend d LEFT JOIN types t ON d.refclassid = 'pg_type'::regclass AND t.oid = d.refobjid
  WHERE d.refobjid >= 12000
    AND (d.refclassid IN ('pg_proc'::regclass, 'pg_operator'::regclass) OR t.typtype NOT IN ('e', 'c'))),
unseen AS (
  SELECT l.classid, l.objid FROM loose l
  WHERE EXISTS (
    SELECT FROM pg_depend d WHERE d.classid = l.classid AND d.objid = l.objid AND d.refobjid >= 12000
      AND (d.refclassid = 'pg_operator'::regclass
           -- The text of an expression does not tell the function of a cast.
           OR d.refclassid = 'pg_proc'::regclass AND EXISTS (SELECT FROM pg_cast c WHERE c.oid >= 12000 AND c.castfunc = d.refobjid)
           OR EXISTS (SELECT FROM pg_type t WHERE d.refclassid = 'pg_type'::regclass AND t.oid = d.refobjid AND t.typtype NOT IN ('e', 'c', 'd'))))),
within AS (SELECT oid AS outermost, oid AS at FROM types WHERE oid >= 12000
           UNION SELECT w.outermost, t.inner_type FROM within w JOIN types t ON t.oid = w.at WHERE t.inner_type IS NOT NULL),
checked AS (
  SELECT DISTINCT outermost AS oid FROM within w JOIN pg_constraint c ON c.contypid = w.at
  JOIN unseen u ON u.classid = 'pg_constraint'::regclass AND u.objid = c.oid),
foreigners AS (
  SELECT DISTINCT outermost AS oid FROM within w JOIN types t ON t.oid = w.at
  WHERE t.oid >= 12000 AND t.typtype IN ('b', 'r', 'm') AND t.inner_type IS NULL),
members AS (SELECT oid AS root, oid AS member FROM pg_class WHERE relkind IN ('r', 'p', 'v', 'm', 'f')
            UNION SELECT m.root, i.inhrelid FROM members m JOIN pg_inherits i ON i.inhparent = m.member),
keys AS (
  SELECT c.conname, c.conrelid, c.confrelid FROM pg_constraint c
  WHERE c.contype = 'f' AND (
    EXISTS (SELECT FROM loose l WHERE l.classid = 'pg_constraint'::regclass AND l.objid = c.oid)
    OR c.confrelid <> c.conrelid AND (c.confdeltype IN ('c', 'n', 'd') OR c.confupdtype IN ('c', 'n', 'd'))
       AND EXISTS (SELECT FROM pg_trigger t WHERE t.tgrelid = c.conrelid AND NOT t.tgisinternal)
    OR EXISTS (SELECT FROM pg_class r WHERE r.oid IN (c.conrelid, c.confrelid)
               AND NOT (has_schema_privilege(r.relowner, r.relnamespace, 'USAGE') AND has_table_privilege(r.relowner, r.oid, 'SELECT')
                        AND has_table_privilege(r.relowner, r.oid, 'UPDATE') AND has_table_privilege(r.relowner, r.oid, 'DELETE'))))),
notes (oid, note) AS (
  SELECT polrelid, 'policy ' || polname FROM pg_policy p JOIN unseen u ON u.classid = 'pg_policy'::regclass AND u.objid = p.oid
  UNION SELECT oid, 'foreign table' FROM pg_class WHERE relkind = 'f'
  UNION SELECT tgrelid, 'trigger ' || tgname || ' is not followed' FROM pg_trigger t JOIN unseen u ON u.classid = 'pg_trigger'::regclass AND u.objid = t.oid
        WHERE NOT tgisinternal AND tgenabled IN ('O', 'A')
  UNION SELECT ev_class, 'rule ' || rulename FROM pg_rewrite w JOIN unseen u ON u.classid = 'pg_rewrite'::regclass AND u.objid = w.oid
        WHERE rulename <> '_RETURN' AND ev_enabled IN ('O', 'A')
  UNION SELECT conrelid, 'check ' || conname FROM pg_constraint c JOIN loose l ON l.classid = 'pg_constraint'::regclass AND l.objid = c.oid
        WHERE contype = 'x' OR contype = 'c' AND EXISTS (SELECT FROM unseen u WHERE u.classid = l.classid AND u.objid = l.objid)
  UNION SELECT adrelid, CASE attgenerated WHEN '' THEN 'default of ' ELSE 'generated ' END || attname
        FROM pg_attrdef f JOIN pg_attribute a ON attrelid = adrelid AND attnum = adnum
        JOIN loose l ON l.classid = 'pg_attrdef'::regclass AND l.objid = f.oid
        WHERE attgenerated <> '' OR EXISTS (SELECT FROM unseen u WHERE u.classid = l.classid AND u.objid = l.objid)
  UNION SELECT attrelid, 'default of ' || attname FROM pg_attribute a JOIN pg_type t ON t.oid = atttypid
        WHERE attnum > 0 AND NOT attisdropped AND NOT atthasdef AND typdefaultbin IS NOT NULL AND EXISTS (
          SELECT FROM pg_depend d WHERE d.classid = 'pg_type'::regclass AND d.objid = t.oid AND d.refobjid >= 12000
            AND d.refclassid IN ('pg_class'::regclass, 'pg_proc'::regclass))
  UNION SELECT indrelid, 'index ' || c.relname FROM pg_index i JOIN pg_class c ON c.oid = indexrelid
        JOIN loose l ON l.classid = 'pg_class'::regclass AND l.objid = indexrelid WHERE indexprs IS NOT NULL OR indpred IS NOT NULL
  UNION SELECT attrelid, 'check of the type ' || t.nspname || '.' || t.typname || ' of ' || attname
        FROM pg_attribute a JOIN types t ON t.oid = atttypid JOIN checked k ON k.oid = t.oid WHERE attnum > 0 AND NOT attisdropped
  UNION SELECT attrelid, 'type ' || t.nspname || '.' || t.typname || ' of ' || attname
        FROM pg_attribute a JOIN types t ON t.oid = atttypid JOIN foreigners f ON f.oid = t.oid WHERE attnum > 0 AND NOT attisdropped
  UNION SELECT attrelid, 'identity of ' || attname FROM pg_attribute WHERE attidentity <> '' AND attnum > 0 AND NOT attisdropped
  UNION SELECT conrelid, 'key ' || conname FROM keys
  UNION SELECT confrelid, 'key ' || conname FROM keys),
below (oid, note) AS (
  SELECT tgrelid, 'trigger ' || tgname || ' on ' || concat_ws(', ', CASE WHEN tgtype & 4 <> 0 THEN 'insert' END,
               CASE WHEN tgtype & 16 <> 0 THEN 'update' END, CASE WHEN tgtype & 8 <> 0 THEN 'delete' END,
               CASE WHEN tgtype & 32 <> 0 THEN 'truncate' END)
  FROM pg_trigger WHERE NOT tgisinternal AND tgparentid = 0 AND tgenabled IN ('O', 'A')
  UNION SELECT conrelid, 'check ' || conname FROM pg_constraint c JOIN loose l ON l.classid = 'pg_constraint'::regclass AND l.objid = c.oid
        WHERE contype = 'c' AND conislocal),
alone (oid, note) AS (
  SELECT attrelid, 'system column ' || attname FROM pg_attribute WHERE attnum < 0 AND attacl IS NOT NULL
  UNION SELECT m.root, 'below ' || s.nspname || '.' || b.relname FROM members m JOIN pg_class b ON b.oid = m.member JOIN pg_class c ON c.oid = m.root
  JOIN spaces s ON s.oid = b.relnamespace WHERE b.relowner <> c.relowner AND m.root <> m.member
  UNION SELECT m.root, 'part ' || s.nspname || '.' || b.relname FROM members m JOIN pg_class b ON b.oid = m.member JOIN pg_class c ON c.oid = m.root
  JOIN spaces s ON s.oid = b.relnamespace
  WHERE c.relkind = 'p' AND m.root <> m.member AND (b.relowner <> c.relowner OR b.relacl IS DISTINCT FROM c.relacl)
  UNION SELECT confrelid, 'pointing ' || s.nspname || '.' || b.relname FROM pg_constraint k JOIN pg_class b ON b.oid = conrelid
  JOIN pg_class c ON c.oid = confrelid JOIN spaces s ON s.oid = b.relnamespace WHERE contype = 'f' AND b.relowner <> c.relowner),
settings AS (
  SELECT split_part(s, '=', 1) AS name, CASE WHEN setrole <> 0 THEN ' of ' || r.rolname ELSE '' END AS role
  FROM pg_db_role_setting d LEFT JOIN pg_roles r ON r.oid = setrole, unnest(setconfig) s
  WHERE setdatabase IN (0, (SELECT oid FROM pg_database WHERE datname = current_database())) AND (setrole = 0) <> (setdatabase <> 0))
SELECT c.relkind::text AS class, s.nspname::text AS schema, c.relname::text AS name, NULL::text AS arguments, n.note::text AS note
FROM notes n JOIN members m ON m.member = n.oid JOIN pg_class c ON c.oid = m.root JOIN spaces s ON s.oid = c.relnamespace
UNION SELECT c.relkind::text, s.nspname::text, c.relname::text, NULL, a.note::text
FROM alone a JOIN pg_class c ON c.oid = a.oid JOIN spaces s ON s.oid = c.relnamespace WHERE c.relkind IN ('r', 'p', 'v', 'm', 'f')
UNION SELECT c.relkind::text, s.nspname::text, c.relname::text, NULL, b.note::text
FROM below b JOIN members m ON m.member = b.oid AND m.root <> b.oid JOIN pg_class c ON c.oid = m.root JOIN spaces s ON s.oid = c.relnamespace
UNION SELECT CASE prokind WHEN 'p' THEN 'procedure' ELSE 'function' END, s.nspname::text, proname::text, oidvectortypes(proargtypes), n.note
FROM pg_proc p JOIN spaces s ON s.oid = pronamespace, LATERAL (
  SELECT 'body in BEGIN ATOMIC' AS note FROM unseen u WHERE prosqlbody IS NOT NULL AND u.classid = 'pg_proc'::regclass AND u.objid = p.oid) n
UNION SELECT 'type', t.nspname::text, t.typname::text, NULL, 'check' FROM types t JOIN spaces s ON s.nspname = t.nspname
  JOIN checked k ON k.oid = t.oid WHERE t.typtype = 'd'
UNION SELECT 'type', n.nspname::text, t.typname::text, NULL, 'typed ' || s.nspname || '.' || b.relname FROM pg_class b
  JOIN spaces s ON s.oid = b.relnamespace JOIN pg_type t ON t.oid = b.reloftype JOIN spaces n ON n.oid = t.typnamespace WHERE b.relowner <> t.typowner
UNION SELECT 'type', t.nspname::text, t.typname::text, NULL, 'type that is not of the server' FROM types t JOIN spaces s ON s.nspname = t.nspname
  JOIN foreigners f ON f.oid = t.oid WHERE t.typtype IN ('d', 'r', 'b', 'm')
UNION SELECT 'function', s.nspname::text, proname::text, oidvectortypes(proargtypes), 'body of an aggregate' FROM pg_proc p
  JOIN spaces s ON s.oid = pronamespace JOIN pg_aggregate g ON g.aggfnoid = p.oid
  WHERE EXISTS (SELECT FROM loose l WHERE l.classid = 'pg_proc'::regclass AND l.objid = p.oid)
UNION SELECT '', NULL, '', NULL, 'setting ' || name || role FROM settings
  WHERE {matters}
UNION SELECT '', NULL, '', NULL, 'setting search_path' FROM pg_settings
  WHERE name = 'search_path' AND reset_val <> '\"$user\", public' AND NOT EXISTS (
    SELECT FROM pg_db_role_setting, unnest(setconfig) s WHERE s LIKE 'search_path=%'
      AND setdatabase IN (0, (SELECT oid FROM pg_database WHERE datname = current_database()))
      AND setrole IN (0, (SELECT oid FROM pg_roles WHERE rolname = session_user)))
UNION SELECT '', NULL, '', NULL, 'setting ' || name FROM pg_settings
  WHERE name = 'row_security' AND reset_val <> 'on' OR name = 'default_tablespace' AND reset_val <> '' OR name = 'standard_conforming_strings' AND reset_val <> 'on'
UNION SELECT '', NULL, '', NULL, 'read-only by default' FROM pg_settings WHERE name = 'default_transaction_read_only' AND reset_val = 'on'
UNION SELECT '', NULL, '', NULL, 'read-only standby' WHERE pg_is_in_recovery()
UNION SELECT '', NULL, '', NULL, CASE WHEN evtenabled IN ('O', 'A') THEN '' ELSE 'disabled ' END || 'event trigger ' || evtname || ' of ' || pg_get_userbyid(evtowner)
  FROM pg_event_trigger
UNION SELECT '', NULL, '', NULL, 'rights on pg_catalog.' || proname FROM pg_proc p
  WHERE pronamespace = 'pg_catalog'::regnamespace AND proacl IS NOT NULL
    AND NOT EXISTS (SELECT FROM aclexplode(proacl) WHERE grantee = 0)
    AND NOT EXISTS (SELECT FROM pg_init_privs i WHERE i.objoid = p.oid AND i.classoid = 'pg_proc'::regclass)
UNION SELECT '', NULL, '', NULL, 'catalog ' || proname FROM pg_proc p
  JOIN pg_init_privs i ON i.objoid = p.oid AND i.classoid = 'pg_proc'::regclass
  WHERE pronamespace = 'pg_catalog'::regnamespace AND proacl IS DISTINCT FROM i.initprivs
UNION SELECT '', NULL, '', NULL, 'rights on the type ' || typname FROM pg_type t
  WHERE typnamespace = 'pg_catalog'::regnamespace AND typacl IS NOT NULL AND NOT EXISTS (SELECT FROM aclexplode(typacl) WHERE grantee = 0)
UNION SELECT '', NULL, '', NULL, CASE nspname WHEN 'pg_catalog' THEN 'rights on the schema ' ELSE 'catalog ' END || nspname FROM pg_namespace n
  WHERE nspname IN ('pg_catalog', 'information_schema') AND nspacl IS NOT NULL AND NOT EXISTS (SELECT FROM aclexplode(nspacl) WHERE grantee = 0 AND privilege_type = 'USAGE')
UNION SELECT '', NULL, '', NULL, 'catalog ' || CASE nspname WHEN 'pg_catalog' THEN '' ELSE nspname || '.' END || relname
  FROM pg_class c JOIN pg_namespace n ON n.oid = relnamespace LEFT JOIN pg_init_privs i ON i.objoid = c.oid AND i.classoid = 'pg_class'::regclass AND objsubid = 0
  WHERE relkind IN ('r', 'v') AND CASE nspname
    WHEN 'pg_catalog' THEN relacl IS DISTINCT FROM initprivs OR EXISTS (
      SELECT FROM pg_attribute a LEFT JOIN pg_init_privs o ON o.objoid = c.oid AND o.classoid = 'pg_class'::regclass AND o.objsubid = attnum
      WHERE attrelid = c.oid AND attacl IS DISTINCT FROM o.initprivs)
    WHEN 'information_schema' THEN EXISTS (SELECT FROM pg_attribute WHERE attrelid = c.oid AND attacl IS NOT NULL) OR relacl IS NOT NULL AND (
      NOT EXISTS (SELECT FROM aclexplode(relacl) WHERE grantee = 0)
      OR EXISTS (SELECT FROM aclexplode(relacl) WHERE grantee <> relowner AND (grantee <> 0 OR privilege_type <> 'SELECT')))
    ELSE false END
UNION SELECT '', NULL, '', NULL, 'parameter ' || parname FROM pg_parameter_acl
UNION SELECT '', NULL, '', NULL, 'tablespace ' || spcname FROM pg_tablespace WHERE spcacl IS NOT NULL
UNION SELECT '', NULL, '', NULL, 'rights of others in pg_catalog: ' || proname FROM pg_proc WHERE pronamespace = 'pg_catalog'::regnamespace AND oid >= 16384
UNION SELECT '', NULL, '', NULL, 'operator ' || oprname || ' of ' || n.nspname FROM pg_operator o JOIN pg_namespace n ON n.oid = oprnamespace
  WHERE o.oid >= 12000 AND oprleft < 12000 AND oprright < 12000
UNION SELECT '', NULL, '', NULL, 'cast of ' || format_type(castsource, NULL) || ' to ' || format_type(casttarget, NULL) FROM pg_cast
  WHERE oid >= 12000 AND castsource < 12000 AND casttarget < 12000";
