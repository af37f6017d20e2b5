//! What one PostgreSQL server knows: roles, memberships, objects with owners and access control lists.
//!
//! A state comes from a ledger or was read from a server, and changes by the server's own GRANT and REVOKE rules.

use std::collections::{BTreeMap, BTreeSet};

use jiff::Timestamp;
use rustc_hash::FxHashSet;

use super::acl::{Acl, AclRefusal, Grantee, Inherits, Turn};
use super::object::ObjectName;
use super::privilege::{COLUMN_PRIVILEGES, Class, Privilege, Privileges};
use crate::sql::SYSTEM_COLUMNS;
use zest_model::entry::PolicyFor;
use zest_model::source::Place;

/// The name of the superuser that owns what nobody else does, as the server's own set-up makes it.
///
/// # Example
/// ```
/// use zest_ledger::postgresql::{BOOTSTRAP, State};
/// assert!(State::fresh("ticketing", BOOTSTRAP).is_superuser(BOOTSTRAP));
/// ```
pub const BOOTSTRAP: &str = "postgres";

/// Returns who of the superusers owns what nobody is said to own, whichever is written first: `postgres`, or else the first by name, those
/// who may sign in before others.
pub(super) fn owns_the_rest<'n>(superusers: impl Iterator<Item = (&'n str, bool)>) -> &'n str {
    superusers.min_by_key(|(name, login)| (*name != BOOTSTRAP, !login, *name)).map_or(BOOTSTRAP, |(name, _)| name)
}

/// A role; a role that may log in is an account.
///
/// # Example
/// ```
/// use zest_ledger::postgresql::Role;
/// let role = Role::default();
/// assert!(role.inherit && !role.login && role.connection_limit == -1, "as CREATE ROLE makes it");
/// ```
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Role {
    /// Passes every check.
    pub superuser: bool,
    /// Uses the privileges of its roles without activating them.
    pub inherit: bool,
    /// May make and change roles.
    pub create_role: bool,
    /// May make databases.
    pub create_database: bool,
    /// May open sessions.
    pub login: bool,
    /// May replicate.
    pub replication: bool,
    /// Is not bound by row security.
    pub bypass_row_security: bool,
    /// The most sessions at once; -1 is no limit.
    pub connection_limit: i32,
    /// First moment at which its password is no longer accepted.
    pub valid_until: Option<Timestamp>,
    /// The roles it is a member of; true where it may pass the membership on.
    pub member_of: BTreeMap<String, bool>,
    /// Settings that its sessions begin with, such as `search_path=harbour`.
    pub settings: Vec<String>,
    /// What the server looks at when it signs in and this model only names.
    pub not_modelled: BTreeSet<String>,
}

impl Default for Role {
    fn default() -> Self {
        Self {
            superuser: false,
            inherit: true,
            create_role: false,
            create_database: false,
            login: false,
            replication: false,
            bypass_row_security: false,
            settings: Vec::new(),
            not_modelled: BTreeSet::new(),
            connection_limit: -1,
            valid_until: None,
            member_of: BTreeMap::new(),
        }
    }
}

/// A column of a table or view.
///
/// # Example
/// ```
/// use zest_ledger::{Ledger, postgresql::{ObjectName, state_of}};
/// let text = r#"
/// systems.fares.kind = "postgresql"
/// databases.fares.objects."table public.price" = { owner = "postgres", columns = { id = "integer" } }
/// "#;
/// let state = state_of(&Ledger::new().document("fares.toml", text).estate()?, "fares", None).expect("it is declared");
/// let column = &state.objects[&ObjectName::parse("table public.price").expect("a name")].columns[0];
/// assert_eq!((column.name.as_str(), column.data_type.as_str(), column.acl.is_empty()), ("id", "integer", true));
/// # Ok::<(), zest_ledger::finding::Findings>(())
/// ```
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Column {
    /// The name.
    pub name: String,
    /// The type, as the server prints it; empty for columns of views.
    pub data_type: String,
    /// The default, where it is not a constant.
    pub default: Option<String>,
    /// Grants on this column alone.
    pub acl: Acl,
}

/// A policy of row security.
///
/// # Example
/// ```
/// use zest_ledger::{Ledger, postgresql::{ObjectName, state_of}};
/// let text = r#"
/// systems.fares.kind = "postgresql"
/// [databases.fares.objects."table public.price"]
/// owner = "postgres"
/// columns = { clerk = "text" }
/// row-security = true
/// policies.own = { for = "select", using = "clerk = current_user" }
/// "#;
/// let state = state_of(&Ledger::new().document("fares.toml", text).estate()?, "fares", None).expect("it is declared");
/// let table = &state.objects[&ObjectName::parse("table public.price").expect("a name")];
/// let policy = &table.policies.as_ref().expect("they are known")["own"];
/// assert_eq!((policy.using.as_deref(), policy.to.len(), policy.restrictive), (Some("clerk = current_user"), 0, false));
/// # Ok::<(), zest_ledger::finding::Findings>(())
/// ```
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Policy {
    /// Which acts it is for.
    pub acts: PolicyFor,
    /// Roles it is for; everybody if none.
    pub to: BTreeSet<String>,
    /// The condition of rows that are there.
    pub using: Option<String>,
    /// The condition of new rows; as `using` if none.
    pub check: Option<String>,
    /// Whether it narrows what the others let through.
    pub restrictive: bool,
}

/// An object.
///
/// # Example
/// ```
/// use zest_ledger::postgresql::{ObjectName, State};
/// let state = State::fresh("ticketing", "postgres");
/// let database = &state.objects[&ObjectName::database()];
/// assert_eq!(database.owner, "postgres");
/// assert!(database.columns.is_empty() && database.query.is_none());
/// ```
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Object {
    /// The owner.
    pub owner: String,
    /// Grants.
    pub acl: Acl,
    /// Columns, in order.
    pub columns: Vec<Column>,
    /// The query of a view.
    pub query: Option<String>,
    /// Whether a view or routine runs with its owner's rights.
    pub runs_as_owner: bool,
    /// Whether row security is on for the table.
    pub row_security: bool,
    /// Whether row security binds the owner as well.
    pub row_security_for_owner: bool,
    /// The policies of row security by name; none where it is not known which there are.
    pub policies: Option<BTreeMap<String, Policy>>,
    /// Triggers by name, each with the statement that makes it; behind it may stand one that says when it fires.
    pub triggers: BTreeMap<String, String>,
    /// Rules by name, each with the statement that makes it; behind it may stand one that says when it is looked at.
    pub rules: BTreeMap<String, String>,
    /// Checks by name, each with its condition: those of a table that call something, all of a domain.
    pub checks: BTreeMap<String, String>,
    /// What a domain is based on, with its default and NOT NULL.
    pub domain_of: Option<String>,
    /// The parameters of a routine, where they have names, defaults or modes.
    pub parameters: Option<String>,
    /// Settings that hold while a routine runs, such as `search_path=harbour`.
    pub settings: Vec<String>,
    /// What a function returns.
    pub returns: Option<String>,
    /// The language of a routine; the wrapper of a server.
    pub language: Option<String>,
    /// The body of a routine.
    pub body: Option<String>,
    /// The values of an enumerated type.
    pub values: Vec<String>,
    /// What the server looks at and this model only names, such as `check tide` or `trigger log on insert`.
    pub not_modelled: BTreeSet<String>,
}

/// Which new objects a default privilege is for.
///
/// # Example
/// ```
/// use zest_ledger::postgresql::{Class, DefaultKey, Grantee, Privilege, Role, State};
/// let mut state = State::fresh("ticketing", "postgres");
/// state.roles.insert("reader".to_owned(), Role::default());
/// let key = DefaultKey { creator: "postgres".to_owned(), schema: None, class: Class::Table };
/// let reader = Grantee::Role("reader".to_owned());
/// state.change_default(key, Privilege::Select.only(), &reader, false, false, None).expect("the server takes it");
/// let acl = state.acl_of_new("postgres", Some("public"), Class::Table);
/// assert!(acl.iter().any(|(grantee, ..)| *grantee == reader), "whatever table is made next");
/// ```
#[derive(Clone, Debug, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub struct DefaultKey {
    /// Whose new objects.
    pub creator: String,
    /// Only those in this schema.
    pub schema: Option<String>,
    /// Of this class: `Table` stands for tables and views, `Function` for functions and procedures.
    pub class: Class,
}

/// What one server knows, for one of its databases.
///
/// # Example
/// ```
/// use zest_ledger::postgresql::{ObjectName, Privilege, Role, State};
/// let mut state = State::fresh("ticketing", "postgres");
/// state.roles.insert("clerk".to_owned(), Role { login: true, ..Role::default() });
/// assert!(state.has("clerk", &ObjectName::database(), None, Privilege::Connect, false), "as everybody");
/// assert!(!state.has("clerk", &ObjectName::database(), None, Privilege::Create, false));
/// assert!(state.may_become("postgres", "clerk") && !state.may_become("clerk", "postgres"));
/// ```
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct State {
    /// The name of the database.
    pub database: String,
    /// Roles by name, without the predefined ones.
    pub roles: BTreeMap<String, Role>,
    /// Objects; the database itself is one of them.
    pub objects: BTreeMap<ObjectName, Object>,
    /// Privileges of objects that are yet to be made.
    pub defaults: BTreeMap<DefaultKey, Acl>,
    /// Settings that sessions on the database begin with, such as `search_path=harbour`.
    pub settings: Vec<String>,
    /// What the server looks at for whole sessions and this model only names, such as `setting role of app`.
    pub not_modelled: BTreeSet<String>,
}

/// The predefined roles of version 15 (chapter 22.5 of its manual), each with the roles it is a member of.
pub(crate) const PREDEFINED: &[(&str, &[&str])] = &[
    ("pg_checkpoint", &[]),
    ("pg_database_owner", &[]),
    ("pg_execute_server_program", &[]),
    ("pg_monitor", &["pg_read_all_settings", "pg_read_all_stats", "pg_stat_scan_tables"]),
    ("pg_read_all_data", &[]),
    ("pg_read_all_settings", &[]),
    ("pg_read_all_stats", &[]),
    ("pg_read_server_files", &[]),
    ("pg_signal_backend", &[]),
    ("pg_stat_scan_tables", &[]),
    ("pg_write_all_data", &[]),
    ("pg_write_server_files", &[]),
];

/// One GRANT or REVOKE.
///
/// # Example
/// ```
/// use zest_ledger::postgresql::{GrantChange, Grantee, ObjectName, Privilege, Role, State};
/// let mut state = State::fresh("ticketing", "postgres");
/// state.roles.insert("clerk".to_owned(), Role::default());
/// let grant = GrantChange {
///     object: ObjectName::database(),
///     columns: vec![],
///     privileges: Privilege::Create.only(),
///     grantee: Grantee::Role("clerk".to_owned()),
///     regrant: false,
///     by: None,
///     revoke: false,
///     cascade: false,
///     place: None,
/// };
/// state.change(&grant).expect("the server takes it");
/// assert!(state.has("clerk", &ObjectName::database(), None, Privilege::Create, false));
/// ```
#[derive(Clone, Debug)]
pub struct GrantChange {
    /// On what.
    pub object: ObjectName,
    /// On these columns only; on the whole object if none.
    pub columns: Vec<String>,
    /// Which privileges.
    pub privileges: Privileges,
    /// Given to, or taken from.
    pub grantee: Grantee,
    /// With the right to pass it on; for a revoke: that right only.
    pub regrant: bool,
    /// The role that says so; the owner if none.
    pub by: Option<String>,
    /// Whether it takes away.
    pub revoke: bool,
    /// For a revoke: also what others hold through it.
    pub cascade: bool,
    /// Where it is written.
    pub place: Option<Place>,
}

impl State {
    /// Makes the state of a fresh server with one fresh database.
    #[must_use]
    pub fn fresh(database: &str, superuser: &str) -> Self {
        let mut state = Self { database: database.to_owned(), ..Self::default() };
        let role = Role {
            superuser: true,
            create_role: true,
            create_database: true,
            login: true,
            replication: true,
            bypass_row_security: true,
            ..Role::default()
        };
        state.roles.insert(superuser.to_owned(), role);
        let own = |class| Object { owner: superuser.to_owned(), acl: Acl::default_for(class, superuser), ..Object::default() };
        state.objects.insert(ObjectName::database(), own(Class::Database));
        state.objects.insert(ObjectName::new(Class::Language, &["sql"]), own(Class::Language));
        state.objects.insert(ObjectName::new(Class::Language, &["plpgsql"]), own(Class::Language));
        let mut public = Object { owner: "pg_database_owner".to_owned(), ..Object::default() };
        public.acl = Acl::default_for(Class::Schema, "pg_database_owner");
        let usage = super::acl::Held { privileges: Privilege::Usage.only(), ..Default::default() };
        public.acl.insert(Grantee::Public, "pg_database_owner", usage);
        state.objects.insert(ObjectName::new(Class::Schema, &["public"]), public);
        state
    }

    /// Returns the owner of the database.
    ///
    /// # Example
    /// ```
    /// use zest_ledger::postgresql::State;
    /// assert_eq!(State::fresh("ticketing", "postgres").database_owner(), "postgres");
    /// ```
    #[must_use]
    pub fn database_owner(&self) -> &str {
        self.objects.get(&ObjectName::database()).map_or("", |d| d.owner.as_str())
    }

    /// Returns whether a role of this name is there, predefined ones counted in.
    ///
    /// # Example
    /// ```
    /// use zest_ledger::postgresql::State;
    /// let state = State::fresh("ticketing", "postgres");
    /// assert!(state.knows_role("postgres") && state.knows_role("pg_read_all_data") && !state.knows_role("clerk"));
    /// ```
    #[must_use]
    pub fn knows_role(&self, name: &str) -> bool {
        self.roles.contains_key(name) || PREDEFINED.iter().any(|(p, _)| *p == name)
    }

    /// Says which column of a list a relation has not got, as far as its columns are written.
    pub(crate) fn lacks_column(&self, object: &ObjectName, columns: &[String]) -> Option<String> {
        let listed = &self.objects.get(object)?.columns;
        let is_there = |column: &String| listed.iter().any(|of| of.name == *column) || SYSTEM_COLUMNS.contains(&column.as_str());
        let lacking = columns.iter().find(|column| !is_there(column)).filter(|_| !listed.is_empty())?;
        Some(format!("no column `{lacking}` of {object} is in the ledger"))
    }

    /// Returns whether a role is a superuser.
    #[must_use]
    pub fn is_superuser(&self, role: &str) -> bool {
        self.roles.get(role).is_some_and(|r| r.superuser)
    }

    /// Walks memberships from a role; stops at roles that do not inherit where `inheriting` (`roles_is_member_of`).
    pub(crate) fn roles_of(&self, role: &str, inheriting: bool) -> Vec<String> {
        self.walk(role, inheriting, |_| false).into_iter().map(str::to_owned).collect()
    }

    /// Goes up from a role, the nearest first, until one is found that is looked for; the last of the list is that one.
    fn walk<'s>(&'s self, role: &'s str, inheriting: bool, is_it: impl Fn(&str) -> bool) -> Vec<&'s str> {
        let mut list = Vec::new();
        self.climb(role, inheriting, &mut FxHashSet::default(), &mut list, is_it);
        list
    }

    /// Returns the roles that a role is itself a member of; those whose privileges it inherits, if that is asked for.
    pub(crate) fn parents_of<'s>(&'s self, role: &str, inheriting: bool) -> impl Iterator<Item = &'s str> {
        let entry = self.roles.get(role);
        let passes = !inheriting || entry.is_none_or(|r| r.inherit);
        let written = entry.into_iter().flat_map(|r| r.member_of.keys().map(String::as_str));
        let predefined = PREDEFINED.iter().find(|(p, _)| *p == role).into_iter().flat_map(|(_, m)| m.iter().copied());
        let of_owner = (role == self.database_owner()).then_some("pg_database_owner");
        written.chain(predefined).chain(of_owner).filter(move |_| passes)
    }

    /// Adds a role and those above it to a list, but for what was seen before.
    fn climb<'s>(
        &'s self,
        role: &'s str,
        inheriting: bool,
        seen: &mut FxHashSet<&'s str>,
        list: &mut Vec<&'s str>,
        is_it: impl Fn(&str) -> bool,
    ) {
        seen.insert(role);
        list.push(role);
        let mut next = list.len() - 1;
        while let Some(&at) = list.get(next) {
            next += 1;
            for parent in self.parents_of(at, inheriting) {
                if seen.insert(parent) {
                    list.push(parent);
                    if is_it(parent) {
                        return;
                    }
                }
            }
        }
    }

    /// Returns all roles that one of some may become by SET ROLE, themselves among them; superusers may become any, and are not looked
    /// at for that.
    pub(crate) fn open_to<'s>(&'s self, members: impl Iterator<Item = &'s str>) -> FxHashSet<&'s str> {
        self.above(members, false)
    }

    /// Returns all roles whose privileges one of some has without SET ROLE, themselves among them.
    pub(crate) fn inherited_by<'s>(&'s self, members: impl Iterator<Item = &'s str>) -> FxHashSet<&'s str> {
        self.above(members, true)
    }

    fn above<'s>(&'s self, members: impl Iterator<Item = &'s str>, inheriting: bool) -> FxHashSet<&'s str> {
        let mut above = FxHashSet::default();
        for member in members {
            if !above.contains(member) {
                self.climb(member, inheriting, &mut above, &mut Vec::new(), |_| false);
            }
        }
        above
    }

    /// Returns whether a role is another one, or belongs to it.
    pub(crate) fn belongs(&self, member: &str, role: &str, inheriting: bool) -> bool {
        member == role || self.walk(member, inheriting, |found| found == role).last() == Some(&role)
    }

    /// Returns whether a role may become another by SET ROLE (`is_member_of_role`).
    #[must_use]
    pub fn may_become(&self, member: &str, role: &str) -> bool {
        self.is_superuser(member) || self.belongs(member, role, false)
    }

    /// Applies a GRANT or REVOKE as the server would.
    ///
    /// # Errors
    /// What the server would refuse or warn about; the state is as it was then.
    pub fn change(&mut self, change: &GrantChange) -> Result<(), AclRefusal> {
        let Some(mut object) = self.objects.remove(&change.object) else { return Ok(()) };
        let done = self.change_object(&mut object, change);
        self.objects.insert(change.object.clone(), object);
        done
    }

    /// Says what the server would refuse of a GRANT or REVOKE, of which nothing is carried out.
    pub(crate) fn would_refuse(&self, change: &GrantChange) -> Option<AclRefusal> {
        let mut object = self.objects.get(&change.object)?.clone();
        self.change_object(&mut object, change).err()
    }

    /// Carries a statement out as [`State::change`] does, by the grant options that the grantor itself holds also where
    /// that is a superuser: what its members do on the server, and what a ledger means by a grantor.
    pub(crate) fn change_resting_on_grantor(&mut self, change: &GrantChange) -> Result<(), AclRefusal> {
        let owner = self.objects.get(&change.object).map(|o| o.owner.clone());
        let by = change.by.clone().filter(|b| self.is_superuser(b) && owner.as_ref() != Some(b) && self.holds_options(b, change));
        let Some(by) = by else { return self.change(change) };
        let set = |state: &mut Self, superuser| {
            if let Some(role) = state.roles.get_mut(&by) {
                role.superuser = superuser;
            }
        };
        set(self, false);
        let done = self.change(change);
        set(self, true);
        done
    }

    fn holds_options(&self, role: &str, change: &GrantChange) -> bool {
        let Some(object) = self.objects.get(&change.object) else { return false };
        let columns = object.columns.iter().filter(|c| change.columns.contains(&c.name)).map(|c| &c.acl);
        std::iter::once(&object.acl).chain(columns).any(|acl| !acl.own_options(role, &object.owner, change.privileges).is_empty())
    }

    fn change_object(&self, object: &mut Object, change: &GrantChange) -> Result<(), AclRefusal> {
        if change.regrant && !change.revoke && change.grantee == Grantee::Public {
            return Err(AclRefusal::OptionToPublic);
        }
        let by = change.by.clone().unwrap_or_else(|| object.owner.clone());
        let owner = object.owner.clone();
        if change.columns.is_empty() {
            let (grantor, may) = self.best_grantor(&object.acl, &by, &owner, change.privileges);
            let holds_any = !object.acl.privileges(&by, change.object.class.applicable(), self).is_empty();
            if may.is_empty() && !(change.revoke && holds_any) {
                return Err(AclRefusal::NoGrantOption);
            }
            let before = object.clone();
            let mut done =
                if may.is_empty() { Ok(()) } else { self.apply(&mut object.acl, change, &grantor, change.privileges.and(may), &owner) };
            // A revoke on the table takes the same privilege of each column as well.
            if change.revoke && done.is_ok() {
                let of_columns = change.privileges.and(COLUMN_PRIVILEGES);
                let table = before.acl.clone();
                for column in object.columns.iter_mut().filter(|_| !of_columns.is_empty()) {
                    let mut both = table.clone();
                    both.merge(&column.acl);
                    let (grantor, may) = self.best_grantor(&both, &by, &owner, of_columns);
                    if !may.is_empty() {
                        done = done.and_then(|()| self.apply(&mut column.acl, change, &grantor, of_columns.and(may), &owner));
                    }
                }
            }
            if done.is_err() {
                *object = before;
            }
            return done;
        }
        let before = object.clone();
        let mut done = Ok(());
        for column in object.columns.iter_mut().filter(|c| change.columns.contains(&c.name)) {
            let mut both = before.acl.clone();
            both.merge(&column.acl);
            let (grantor, may) = self.best_grantor(&both, &by, &owner, change.privileges);
            done = if may.is_empty() {
                Err(AclRefusal::NoGrantOption)
            } else {
                self.apply(&mut column.acl, change, &grantor, change.privileges.and(may), &owner)
            };
            if done.is_err() {
                break;
            }
        }
        if done.is_err() {
            *object = before;
        }
        done
    }

    fn apply(&self, acl: &mut Acl, change: &GrantChange, grantor: &str, privileges: Privileges, owner: &str) -> Result<(), AclRefusal> {
        let turn = if change.revoke { Turn::Remove { cascade: change.cascade } } else { Turn::Add };
        let held = if change.revoke && change.regrant { Privileges::NONE } else { privileges };
        let options = if change.revoke || change.regrant { privileges } else { Privileges::NONE };
        acl.update(&change.grantee, grantor, held, options, turn, owner, change.place, self)
    }

    /// Returns the role in whose name the change is made, and for what it holds the option (`select_best_grantor`).
    fn best_grantor(&self, acl: &Acl, by: &str, owner: &str, wanted: Privileges) -> (String, Privileges) {
        if by == owner || self.is_superuser(by) {
            return (owner.to_owned(), wanted);
        }
        let mut best = (by.to_owned(), Privileges::NONE);
        for role in self.roles_of(by, true) {
            let may = acl.own_options(&role, owner, wanted);
            if may == wanted {
                return (role, may);
            }
            if may.iter().count() > best.1.iter().count() {
                best = (role, may);
            }
        }
        best
    }

    /// Changes an owner as `ALTER … OWNER TO` does.
    ///
    /// # Example
    /// ```
    /// use zest_ledger::postgresql::{ObjectName, Role, State};
    /// let mut state = State::fresh("ticketing", "postgres");
    /// state.roles.insert("clerk".to_owned(), Role::default());
    /// state.set_owner(&ObjectName::database(), "clerk");
    /// assert_eq!(state.database_owner(), "clerk");
    /// ```
    pub fn set_owner(&mut self, name: &ObjectName, owner: &str) {
        if let Some(object) = self.objects.get_mut(name) {
            let old = std::mem::replace(&mut object.owner, owner.to_owned());
            object.acl = object.acl.with_owner(&old, owner);
            for column in &mut object.columns {
                column.acl = column.acl.with_owner(&old, owner);
            }
        }
    }

    /// Returns the list that a new object gets (`get_user_default_acl`).
    #[must_use]
    pub fn acl_of_new(&self, creator: &str, schema: Option<&str>, class: Class) -> Acl {
        let stored = match class {
            Class::View | Class::MaterialisedView => Class::Table,
            Class::Procedure => Class::Function,
            other => other,
        };
        let key = |schema: Option<&str>| DefaultKey { creator: creator.to_owned(), schema: schema.map(str::to_owned), class: stored };
        let mut acl = self.defaults.get(&key(None)).cloned().unwrap_or_else(|| Acl::default_for(class, creator));
        if let Some(more) = schema.and_then(|s| self.defaults.get(&key(Some(s)))) {
            acl.merge(more);
        }
        acl
    }

    /// Changes what new objects will get, as `ALTER DEFAULT PRIVILEGES` does.
    ///
    /// # Errors
    /// [`AclRefusal::OptionToPublic`].
    pub fn change_default(
        &mut self,
        key: DefaultKey,
        privileges: Privileges,
        grantee: &Grantee,
        regrant: bool,
        revoke: bool,
        place: Option<Place>,
    ) -> Result<(), AclRefusal> {
        if regrant && !revoke && *grantee == Grantee::Public {
            return Err(AclRefusal::OptionToPublic);
        }
        let plain = if key.schema.is_none() { Acl::default_for(key.class, &key.creator) } else { Acl::default() };
        let mut acl = self.defaults.get(&key).cloned().unwrap_or_else(|| plain.clone());
        let creator = key.creator.clone();
        let held = if revoke && regrant { Privileges::NONE } else { privileges };
        let options = if revoke || regrant { privileges } else { Privileges::NONE };
        let turn = if revoke { Turn::Remove { cascade: false } } else { Turn::Add };
        acl.update(grantee, &creator, held, options, turn, &creator, place, self)?;
        if acl == plain {
            self.defaults.remove(&key);
        } else {
            self.defaults.insert(key, acl);
        }
        Ok(())
    }

    /// Answers as the server's `has_…_privilege` functions do; the plain way, for comparison.
    ///
    /// A whole table without a column: the privilege on the table itself.
    #[must_use]
    pub fn has(&self, role: &str, name: &ObjectName, column: Option<&str>, privilege: Privilege, option: bool) -> bool {
        let Some(object) = self.objects.get(name) else { return false };
        if self.is_superuser(role) {
            return true;
        }
        let wanted = privilege.only();
        let holds = |acl: &Acl, owner: &str| {
            if option { !acl.options(role, owner, wanted, self).is_empty() } else { !acl.privileges(role, wanted, self).is_empty() }
        };
        if holds(&object.acl, &object.owner) {
            return true;
        }
        if !option && self.everywhere(role, name.class, privilege) {
            return true;
        }
        column.and_then(|c| object.columns.iter().find(|x| x.name == c)).is_some_and(|c| holds(&c.acl, &object.owner))
    }

    /// What the predefined roles give on every object of a class.
    fn everywhere(&self, role: &str, class: Class, privilege: Privilege) -> bool {
        everywhere(class, privilege).iter().any(|p| self.has_privileges_of(role, p))
    }
}

/// Which predefined roles give a privilege on every object of a class (`pg_class_aclmask`, `pg_namespace_aclmask`).
pub(crate) const fn everywhere(class: Class, privilege: Privilege) -> &'static [&'static str] {
    match (class, privilege) {
        (Class::Table | Class::View | Class::MaterialisedView | Class::Sequence, Privilege::Select) => &["pg_read_all_data"],
        (Class::Table | Class::View | Class::MaterialisedView, Privilege::Insert | Privilege::Update | Privilege::Delete) => {
            &["pg_write_all_data"]
        }
        (Class::Sequence, Privilege::Update) => &["pg_write_all_data"],
        (Class::Schema, Privilege::Usage) => &["pg_read_all_data", "pg_write_all_data"],
        _ => &[],
    }
}

impl Inherits for State {
    fn has_privileges_of(&self, member: &str, role: &str) -> bool {
        self.is_superuser(member) || self.belongs(member, role, true)
    }
}
