//! Databases: accounts, roles, objects with owners, and grants, as one database server keeps them.

use jiff::Timestamp;

use super::{Credential, builders, words};
use crate::source::{At, Place};

words! {
    /// With whose rights a view or routine runs.
    RunsAs {
        /// Its owner's (the definer's).
        Owner = "owner",
        /// Those of whoever uses it.
        Caller = "caller",
    }
}

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
#[derive(Clone, Debug)]
#[non_exhaustive]
pub struct Database {
    /// The system it is on.
    pub system: At<String>,
    /// The owner of the database; the server's first superuser unless stated.
    pub owner: Option<At<String>>,
    /// Roles that may open sessions.
    pub accounts: Vec<DatabaseRole>,
    /// Roles that may not.
    pub roles: Vec<DatabaseRole>,
    /// Objects.
    pub objects: Vec<DatabaseObject>,
    /// Grants and their corrections, in order.
    pub grants: Vec<DatabaseGrant>,
    /// Privileges of objects that are yet to be made, in order.
    pub default_grants: Vec<DatabaseGrant>,
    /// What the server looks at for whole sessions and this ledger only names, such as `setting search_path of app`.
    pub not_modelled: Vec<At<String>>,
}

impl Database {
    /// Makes an empty one for a system.
    #[track_caller]
    #[must_use]
    pub fn new(system: &str) -> Self {
        Self::at(At::here(system.to_owned()))
    }

    #[doc(hidden)]
    pub const fn at(system: At<String>) -> Self {
        Self {
            system,
            owner: None,
            accounts: Vec::new(),
            roles: Vec::new(),
            objects: Vec::new(),
            grants: Vec::new(),
            default_grants: Vec::new(),
            not_modelled: Vec::new(),
        }
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

/// An account or a role of a database server.
#[derive(Clone, Debug)]
#[non_exhaustive]
pub struct DatabaseRole {
    /// The name; on MariaDB an account is `name@origin`.
    pub name: At<String>,
    /// A free remark.
    pub remark: Option<At<String>>,
    /// Who may use the account besides the user of the same name: `user:ID` or `group:ID`.
    pub used_by: Vec<At<String>>,
    /// Switches that are on: `superuser`, `create-role`, `create-database`, `replication`, `bypass-row-security`.
    pub may: Vec<At<String>>,
    /// Whether it uses the privileges of its roles without activating them; yes unless stated.
    pub inherit: Option<At<bool>>,
    /// The roles it is a member of.
    pub member_of: Vec<At<String>>,
    /// Roles it may pass the membership on of.
    pub administers: Vec<At<String>>,
    /// The role that is active at sign-in.
    pub default_role: Option<At<String>>,
    /// The most sessions at once.
    pub connection_limit: Option<At<u32>>,
    /// First moment at which its credential is no longer accepted.
    pub until: Option<At<Timestamp>>,
    /// Whether it is locked.
    pub locked: Option<At<bool>>,
    /// The state of its credential; set unless stated.
    pub credential: Option<At<Credential>>,
    /// Resource limits, recorded and rolled out.
    pub limits: Vec<(At<String>, At<u32>)>,
    /// What the server looks at when it signs in and this ledger only names, such as `requirement ssl`.
    pub not_modelled: Vec<At<String>>,
}

impl DatabaseRole {
    /// Makes one without rights.
    #[track_caller]
    #[must_use]
    pub fn new(name: &str) -> Self {
        Self::at(At::here(name.to_owned()))
    }

    pub(crate) const fn at(name: At<String>) -> Self {
        Self {
            name,
            remark: None,
            used_by: Vec::new(),
            may: Vec::new(),
            inherit: None,
            member_of: Vec::new(),
            administers: Vec::new(),
            default_role: None,
            connection_limit: None,
            until: None,
            locked: None,
            credential: None,
            limits: Vec::new(),
            not_modelled: Vec::new(),
        }
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

/// An object of a database.
#[derive(Clone, Debug)]
#[non_exhaustive]
pub struct DatabaseObject {
    /// Class and name: `table fares.price`.
    pub name: At<String>,
    /// A free remark.
    pub remark: Option<At<String>>,
    /// The owner; on MariaDB the definer.
    pub owner: Option<At<String>>,
    /// Columns with their types, in order.
    pub columns: Vec<(At<String>, At<String>)>,
    /// Defaults of columns that are no constants.
    pub defaults: Vec<(At<String>, At<String>)>,
    /// The query of a view.
    pub query: Option<At<String>>,
    /// With whose rights a view or routine runs.
    pub runs_as: Option<At<RunsAs>>,
    /// Whether row security is on.
    pub row_security: Option<At<bool>>,
    /// The parameters of a routine, where its name does not carry them (MariaDB).
    pub parameters: Option<At<String>>,
    /// What a function returns.
    pub returns: Option<At<String>>,
    /// The language of a routine.
    pub language: Option<At<String>>,
    /// The body of a routine.
    pub body: Option<At<String>>,
    /// The values of an enumerated type.
    pub values: Vec<At<String>>,
    /// The wrapper of a foreign server.
    pub wrapper: Option<At<String>>,
    /// What the server looks at and this ledger only names, such as `check tide` or `trigger log on insert`.
    pub not_modelled: Vec<At<String>>,
}

impl DatabaseObject {
    /// Makes an object.
    #[track_caller]
    #[must_use]
    pub fn new(name: &str) -> Self {
        Self::at(At::here(name.to_owned()))
    }

    pub(crate) const fn at(name: At<String>) -> Self {
        Self {
            name,
            remark: None,
            owner: None,
            columns: Vec::new(),
            defaults: Vec::new(),
            query: None,
            runs_as: None,
            row_security: None,
            parameters: None,
            returns: None,
            language: None,
            body: None,
            values: Vec::new(),
            wrapper: None,
            not_modelled: Vec::new(),
        }
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

/// A grant, or a correction that takes something back.
#[derive(Clone, Debug)]
#[non_exhaustive]
pub struct DatabaseGrant {
    /// Where it is written.
    pub place: Place,
    /// Privileges that are given.
    pub allow: Vec<At<String>>,
    /// Privileges that are taken back.
    pub revoke: Vec<At<String>>,
    /// Privileges that would be denied; no database server of ours knows that.
    pub deny: Vec<At<String>>,
    /// All but these.
    pub except: Vec<At<String>>,
    /// Objects: `table fares.price`, `all tables in fares`, `database loyalty`, `everything`.
    pub on: Vec<At<String>>,
    /// Only these columns.
    pub columns: Vec<At<String>>,
    /// To, or from, these roles; `public` is everybody.
    pub to: Vec<At<String>>,
    /// With the right to pass it on; for a revoke: that right only.
    pub regrant: Option<At<bool>>,
    /// For a revoke: also what others hold through it.
    pub cascade: Option<At<bool>>,
    /// Who gives; the owner unless stated.
    pub grantor: Option<At<String>>,
    /// Whose new objects a default grant is for.
    pub creator: Option<At<String>>,
    /// Why.
    pub because: Option<At<String>>,
    /// First moment at which it no longer holds.
    pub until: Option<At<Timestamp>>,
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

    #[doc(hidden)]
    pub const fn at(place: Place) -> Self {
        Self {
            place,
            allow: Vec::new(),
            revoke: Vec::new(),
            deny: Vec::new(),
            except: Vec::new(),
            on: Vec::new(),
            columns: Vec::new(),
            to: Vec::new(),
            regrant: None,
            cascade: None,
            grantor: None,
            creator: None,
            because: None,
            until: None,
        }
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
