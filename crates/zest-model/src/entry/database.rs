//! Databases: accounts, roles, objects with owners, and grants, as one database server keeps them.

use jiff::Timestamp;

use super::{Credential, builders, words};
use crate::shape::{Among, PARTIES, Shape, TEXTS};
use crate::source::{At, Place};
use crate::written::table;

/// What a PostgreSQL role may be.
const SWITCHES: &[&str] = &["superuser", "create-role", "create-database", "replication", "bypass-row-security"];

words! {
    /// Which acts a policy of row security is for.
    PolicyFor {
        /// All of them.
        All = "all",
        /// Rows that are read.
        Select = "select",
        /// Rows that are made.
        Insert = "insert",
        /// Rows that are changed.
        Update = "update",
        /// Rows that are removed.
        Delete = "delete",
    }
}

words! {
    /// With whose rights a view or routine runs.
    RunsAs {
        /// Its owner's (the definer's).
        Owner = "owner",
        /// Those of whoever uses it.
        Caller = "caller",
    }
}

table! {
    /// What one database server holds; a ledger may spread it over documents, and the parts are put together.
    ///
    /// # Example
    /// ```
    /// use zest_ledger::entry::{Database, DatabaseGrant, DatabaseObject, DatabaseRole};
    /// let database = Database::new("ticketing")
    ///     .role(DatabaseRole::new("fare-clerk"))
    ///     .object(DatabaseObject::new("table fares.price").column("amount", "numeric"))
    ///     .grant(DatabaseGrant::allow(&["select", "update"]).on("table fares.price").to("fare-clerk"));
    /// assert_eq!(database.grants.len(), 1);
    /// ```
    Database {
        /// The system it is on.
        system: At<String>,
    }, DATABASE: "a database", "What one database server holds. May be spread over documents.", &[];

    /// The owner of the database; unless stated `postgres`, or the first superuser by name.
    owner: Option<At<String>> = "owner", Shape::Text, "the owner of the database; unless stated `postgres`, or the first superuser by name";
    /// Roles that may open sessions.
    accounts: Vec<DatabaseRole> = "accounts", Shape::Map(&Shape::Table(&DATABASE_ROLE)), "roles that may open sessions, by name; on MariaDB \"name@origin\"";
    /// Roles that may not.
    roles: Vec<DatabaseRole> = "roles", Shape::Map(&Shape::Table(&DATABASE_ROLE)), "roles that may not, by name";
    /// Objects.
    objects: Vec<DatabaseObject> = "objects", Shape::Map(&Shape::Table(&DATABASE_OBJECT)), "objects by class and name: \"table fares.price\"";
    /// Grants and their corrections, in order.
    grants: Vec<DatabaseGrant> = "grants", Shape::List(&Shape::Table(&DATABASE_GRANT)), "grants and their corrections; later ones act on what earlier ones left";
    /// Privileges of objects that are yet to be made, in order.
    default_grants: Vec<DatabaseGrant> = "default-grants", Shape::List(&Shape::Table(&DATABASE_GRANT)), "privileges of objects that are yet to be made";
    /// Settings that sessions on it begin with, such as `search_path=harbour`.
    settings: Vec<At<String>> = "settings", TEXTS, "settings that sessions on the database begin with, such as \"search_path=harbour\" (PostgreSQL)";
    /// What the server looks at for whole sessions and this ledger only names, such as `setting search_path of app`.
    not_modelled: Vec<At<String>> = "not-modelled", TEXTS, "what the server looks at and the ledger only names, such as \"check tide\" or \"trigger log on insert\": acts that look at it are not decided";
}

impl Database {
    /// Makes an empty one for a system.
    #[track_caller]
    #[must_use]
    pub fn new(system: &str) -> Self {
        Self::at(At::here(system.to_owned()))
    }

    /// Adds an account.
    #[must_use]
    pub fn account(mut self, account: DatabaseRole) -> Self {
        self.accounts.push(account);
        self
    }

    /// Adds a role.
    #[must_use]
    pub fn role(mut self, role: DatabaseRole) -> Self {
        self.roles.push(role);
        self
    }

    /// Adds an object.
    #[must_use]
    pub fn object(mut self, object: DatabaseObject) -> Self {
        self.objects.push(object);
        self
    }

    /// Adds a grant or a correction.
    #[must_use]
    pub fn grant(mut self, grant: DatabaseGrant) -> Self {
        self.grants.push(grant);
        self
    }

    builders! {
        /// Sets the owner of the database.
        owner(role: &str) => owner sets role.to_owned();
    }
}

table! {
    /// An account or a role of a database server.
    ///
    /// # Example
    /// ```
    /// use zest_ledger::entry::DatabaseRole;
    /// let clerk = DatabaseRole::new("clerk-1").used_by("user:clerk-1").member_of("fare-clerk").inherit(true).locked(false);
    /// let lead = DatabaseRole::new("lead").administers("fare-clerk").may("create-role").default_role("fare-clerk");
    /// assert_eq!((clerk.member_of[0].value.as_str(), lead.may[0].value.as_str()), ("fare-clerk", "create-role"));
    /// ```
    DatabaseRole {
        /// The name; on MariaDB an account is `name@origin`.
        name: At<String>,
    }, DATABASE_ROLE: "an account or role of a database", "An account or a role of a database server.", &[];

    /// A free remark.
    remark: Option<At<String>> = "remark", Shape::Text, "a free remark";
    /// Who may use the account besides the user of the same name: `user:ID` or `group:ID`.
    used_by: Vec<At<String>> = "used-by", PARTIES, "who may use it besides the user of the same name: \"user:ID\" or \"group:ID\"";
    /// Switches that are on: `superuser`, `create-role`, `create-database`, `replication`, `bypass-row-security`.
    may: Vec<At<String>> = "may", Shape::List(&Shape::Words(SWITCHES)), "switches that are on (PostgreSQL)";
    /// Whether it uses the privileges of its roles without activating them; yes unless stated.
    inherit: Option<At<bool>> = "inherit", Shape::Flag, "whether it uses the privileges of its roles without activating them; true unless stated (PostgreSQL)";
    /// The roles it is a member of.
    member_of: Vec<At<String>> = "member-of", TEXTS, "roles it is a member of";
    /// Roles it may pass the membership on of.
    administers: Vec<At<String>> = "administers", TEXTS, "roles whose membership it may pass on";
    /// The role that is active at sign-in.
    default_role: Option<At<String>> = "default-role", Shape::Text, "the role that is active at sign-in (MariaDB)";
    /// The most sessions at once.
    connection_limit: Option<At<u32>> = "connection-limit", Shape::Whole(0, 1_000_000), "the most sessions at once";
    /// First moment at which its credential is no longer accepted.
    until: Option<At<Timestamp>> = "until", Shape::Moment, "end of validity of its credential: a date is good through its last moment, UTC (PostgreSQL)";
    /// Whether it is locked.
    locked: Option<At<bool>> = "locked", Shape::Flag, "whether it is locked (MariaDB)";
    /// The state of its credential; set unless stated.
    credential: Option<At<Credential>> = "credential", Shape::Words(Credential::WORDS), "the state of its credential; set unless stated";
    /// From when on its credential must be changed before anything else. It is read from the server, which counts from the last change, and not
    /// rolled out.
    credential_due: Option<At<Timestamp>> = "credential-due", Shape::Moment, "from when on its credential must be changed before anything else: read from the server, not rolled out (MariaDB)";
    /// Settings that its sessions begin with, such as `search_path=harbour`.
    settings: Vec<At<String>> = "settings", TEXTS, "settings that its sessions begin with, such as \"search_path=harbour\" (PostgreSQL)";
    /// Resource limits, recorded and rolled out.
    limits: Vec<(At<String>, At<u32>)> = "limits", Shape::Map(&Shape::Whole(0, 4_294_967_295)), "limits by the hour, such as queries or connections (MariaDB)";
    /// What the server looks at when it signs in and this ledger only names, such as `requirement ssl`.
    not_modelled: Vec<At<String>> = "not-modelled", TEXTS, "what the server looks at and the ledger only names, such as \"check tide\" or \"trigger log on insert\": acts that look at it are not decided";
}

impl DatabaseRole {
    /// Makes one without rights.
    #[track_caller]
    #[must_use]
    pub fn new(name: &str) -> Self {
        Self::at(At::here(name.to_owned()))
    }

    builders! {
        /// Adds somebody who may use it: `user:ID` or `group:ID`.
        used_by(reference: &str) => used_by adds reference.to_owned();
        /// Makes it a member of a role.
        member_of(role: &str) => member_of adds role.to_owned();
        /// Lets it pass on the membership of a role.
        administers(role: &str) => administers adds role.to_owned();
        /// Switches something on, such as `superuser`.
        may(switch: &str) => may adds switch.to_owned();
        /// Says whether it inherits.
        inherit(yes: bool) => inherit sets yes;
        /// Sets the role that is active at sign-in.
        default_role(role: &str) => default_role sets role.to_owned();
        /// Locks or unlocks it.
        locked(yes: bool) => locked sets yes;
    }
}

table! {
    /// An object of a database.
    ///
    /// # Example
    /// ```
    /// use zest_ledger::entry::{DatabaseObject, RunsAs};
    /// let table = DatabaseObject::new("table fares.price").column("zone", "int").owner("harbour");
    /// let view = DatabaseObject::new("view fares.cheap").query("SELECT zone FROM fares.price").runs_as(RunsAs::Owner);
    /// assert_eq!((table.columns.len(), view.query.is_some()), (1, true));
    /// ```
    DatabaseObject {
        /// Class and name: `table fares.price`.
        name: At<String>,
    }, DATABASE_OBJECT: "an object of a database", "An object of a database, with as much of its definition as permissions depend on.", &[];

    /// A free remark.
    remark: Option<At<String>> = "remark", Shape::Text, "a free remark";
    /// The owner; on MariaDB the definer.
    owner: Option<At<String>> = "owner", Shape::Text, "the role that owns it; on MariaDB the definer of a view or routine";
    /// Columns with their types, in order.
    columns: Vec<(At<String>, At<String>)> = "columns", Shape::Either(&[TEXTS, Shape::Map(&Shape::Text)]), "columns in order: a list of names, or a table of types by name";
    /// Defaults of columns that are no constants.
    defaults: Vec<(At<String>, At<String>)> = "defaults", Shape::Map(&Shape::Text), "defaults that are no constants, by column";
    /// The query of a view.
    query: Option<At<String>> = "query", Shape::Text, "the query of a view";
    /// With whose rights a view or routine runs.
    runs_as: Option<At<RunsAs>> = "runs-as", Shape::Words(RunsAs::WORDS), "with whose rights a view or routine runs";
    /// Whether row security is on.
    row_security: Option<At<bool>> = "row-security", Shape::Flag, "whether row security is on for the table";
    /// Whether row security binds the owner as well.
    row_security_for_owner: Option<At<bool>> = "row-security-for-owner", Shape::Flag, "whether row security binds the owner as well (PostgreSQL)";
    /// The policies of row security; none where it is not known which there are.
    policies: Option<Vec<DatabasePolicy>> = "policies", Shape::Map(&Shape::Table(&DATABASE_POLICY)), "policies of row security by name, all of them; left out where they are not known (PostgreSQL)";
    /// Triggers, each with the statement that makes it.
    triggers: Vec<(At<String>, At<String>)> = "triggers", Shape::Map(&Shape::Text), "triggers by name, each with the statement that makes it";
    /// Rules, each with the statement that makes it.
    rules: Vec<(At<String>, At<String>)> = "rules", Shape::Map(&Shape::Text), "rules by name, each with the statement that makes it (PostgreSQL)";
    /// Checks of a table that call something, or all of a domain, each with its condition.
    checks: Vec<(At<String>, At<String>)> = "checks", Shape::Map(&Shape::Text), "checks by name, each with its condition: those of a table that call something, all of a domain (PostgreSQL)";
    /// What a domain is based on, with its default and NOT NULL.
    domain_of: Option<At<String>> = "domain-of", Shape::Text, "for a domain: the type it is based on, with its default and NOT NULL (PostgreSQL)";
    /// The parameters of a routine, where its name does not carry them.
    parameters: Option<At<String>> = "parameters", Shape::Text, "the parameters of a routine, where they have names, defaults or modes";
    /// Settings that hold while a routine runs, such as `search_path=harbour`.
    settings: Vec<At<String>> = "settings", TEXTS, "settings that hold while a routine runs, such as \"search_path=harbour\"; of a view, \"security_barrier=true\" (PostgreSQL)";
    /// What a function returns.
    returns: Option<At<String>> = "returns", Shape::Text, "what a function returns";
    /// The language of a routine.
    language: Option<At<String>> = "language", Shape::Text, "the language of a routine";
    /// The body of a routine.
    body: Option<At<String>> = "body", Shape::Text, "the body of a routine";
    /// The values of an enumerated type.
    values: Vec<At<String>> = "values", TEXTS, "the values of an enumerated type";
    /// The wrapper of a foreign server.
    wrapper: Option<At<String>> = "wrapper", Shape::Text, "the wrapper of a foreign server";
    /// What the server looks at and this ledger only names, such as `check tide` or `trigger log on insert`.
    not_modelled: Vec<At<String>> = "not-modelled", TEXTS, "what the server looks at and the ledger only names, such as \"check tide\" or \"trigger log on insert\": acts that look at it are not decided";
}

impl DatabaseObject {
    /// Makes an object.
    #[track_caller]
    #[must_use]
    pub fn new(name: &str) -> Self {
        Self::at(At::here(name.to_owned()))
    }

    /// Adds a column.
    #[track_caller]
    #[must_use]
    pub fn column(mut self, name: &str, data_type: &str) -> Self {
        self.columns.push((At::here(name.to_owned()), At::here(data_type.to_owned())));
        self
    }

    builders! {
        /// Sets the owner.
        owner(role: &str) => owner sets role.to_owned();
        /// Sets the query of a view.
        query(sql: &str) => query sets sql.to_owned();
        /// Says with whose rights it runs.
        runs_as(whose: RunsAs) => runs_as sets whose;
        /// Names something that the server looks at and that is not described here, such as `check tide`.
        not_modelled(note: &str) => not_modelled adds note.to_owned();
    }
}

table! {
    /// A policy of row security on a table.
    ///
    /// # Example
    /// ```
    /// use zest_ledger::{Ledger, entry::PolicyFor};
    /// let text = r#"
    /// [systems.fares]
    /// kind = "postgresql"
    /// database = "fares"
    /// [databases.fares.objects."table public.trip"]
    /// columns = { crew = "text" }
    /// row-security = true
    /// policies.own = { for = "select", using = "crew = current_user" }
    /// "#;
    /// let estate = Ledger::new().document("fares.toml", text).estate()?;
    /// let policies = estate.entries().databases[0].objects[0].policies.as_ref().expect("they are written");
    /// assert_eq!((policies[0].name.value.as_str(), policies[0].acts.as_ref().map(|acts| acts.value)), ("own", Some(PolicyFor::Select)));
    /// # Ok::<(), zest_ledger::finding::Findings>(())
    /// ```
    DatabasePolicy {
        /// The name.
        name: At<String>,
    }, DATABASE_POLICY: "a policy of row security", "A policy of row security: which rows are seen, and which new ones are let in.", &[];

    /// Which acts it is for; all unless stated.
    acts: Option<At<PolicyFor>> = "for", Shape::Words(PolicyFor::WORDS), "which acts it is for; all unless stated";
    /// Roles it is for; everybody unless stated.
    to: Vec<At<String>> = "to", TEXTS, "roles it is for; everybody unless stated";
    /// Which rows are seen; all that it does not say.
    using: Option<At<String>> = "using", Shape::Text, "the condition of rows that are there";
    /// Which new rows are let in; as `using` unless stated.
    check: Option<At<String>> = "check", Shape::Text, "the condition of new rows; as `using` unless stated";
    /// Whether it takes away from what others let through.
    restrictive: Option<At<bool>> = "restrictive", Shape::Flag, "whether it narrows what the others let through";
}

table! {
    /// A grant, or a correction that takes something back.
    ///
    /// # Example
    /// ```
    /// use zest_ledger::entry::DatabaseGrant;
    /// let grant = DatabaseGrant::allow(&["select"]).on("table fares.price").columns("zone").to("fare-clerk").regrant(true);
    /// let back = DatabaseGrant::revoke(&["select"]).on("table fares.price").to("fare-clerk").grantor("harbour");
    /// assert_eq!((grant.to[0].value.as_str(), back.grantor.expect("it was set").value.as_str()), ("fare-clerk", "harbour"));
    /// ```
    DatabaseGrant {
        /// Where it is written.
        place: Place,
    }, DATABASE_GRANT: "a grant", "A grant, or a correction of earlier ones.", &[Among::One(&["allow", "revoke"])];

    /// Privileges that are given.
    allow: Vec<At<String>> = "allow", TEXTS, "privileges that are given; \"all\" for every one that applies";
    /// Privileges that are taken back.
    revoke: Vec<At<String>> = "revoke", TEXTS, "privileges that are taken back";
    /// Privileges that would be denied; no database server of ours knows that.
    deny: Vec<At<String>> = "deny", TEXTS, "not known by any database server here: a finding says what to write instead";
    /// All but these.
    except: Vec<At<String>> = "except", TEXTS, "all but these";
    /// Objects: `table fares.price`, `all tables in fares`, `database loyalty`, `everything`.
    on: Vec<At<String>> = "on", Shape::Either(&[Shape::Text, TEXTS]), "objects: \"table fares.price\", \"all tables in fares\", \"database\", \"everything\"";
    /// Only these columns.
    columns: Vec<At<String>> = "columns", TEXTS, "only these columns";
    /// To, or from, these roles; `public` is everybody.
    to: Vec<At<String>> = "to", TEXTS, "roles that get it; \"public\" is everybody"
        and "from", TEXTS, "roles that lose it";
    /// With the right to pass it on; for a revoke: that right only.
    regrant: Option<At<bool>> = "regrant", Shape::Flag, "with the right to pass it on; for a revoke: that right only";
    /// For a revoke: also what others hold through it.
    cascade: Option<At<bool>> = "cascade", Shape::Flag, "for a revoke: also what others hold through it";
    /// Who gives; the owner unless stated.
    grantor: Option<At<String>> = "grantor", Shape::Text, "who gives; the owner unless stated";
    /// Whose new objects a default grant is for.
    creator: Option<At<String>> = "creator", Shape::Text, "for a default grant: whose new objects";
    /// Why.
    because: Option<At<String>> = "because", Shape::Text, "why the entry is there";
    /// First moment at which it no longer holds.
    until: Option<At<Timestamp>> = "until", Shape::Moment, "end of validity: a date is good through its last moment, UTC";
}

impl DatabaseGrant {
    /// Gives privileges.
    #[track_caller]
    #[must_use]
    pub fn allow(privileges: &[&str]) -> Self {
        let mut grant = Self::at(Place::here());
        for privilege in privileges {
            grant.allow.push(At::here((*privilege).to_owned()));
        }
        grant
    }

    /// Takes privileges back.
    #[track_caller]
    #[must_use]
    pub fn revoke(privileges: &[&str]) -> Self {
        let mut grant = Self::at(Place::here());
        for privilege in privileges {
            grant.revoke.push(At::here((*privilege).to_owned()));
        }
        grant
    }

    builders! {
        /// Adds an object.
        on(object: &str) => on adds object.to_owned();
        /// Limits it to columns.
        columns(column: &str) => columns adds column.to_owned();
        /// Adds a role that gets or loses it.
        to(role: &str) => to adds role.to_owned();
        /// Gives or takes the right to pass it on.
        regrant(yes: bool) => regrant sets yes;
        /// Says who gives it.
        grantor(role: &str) => grantor sets role.to_owned();
        /// Sets the first moment at which it no longer holds.
        valid_until(moment: Timestamp) => until sets moment;
    }
}
