//! Whose rights are looked at: a user, or what somebody would have who has nothing but a group, a role, an account or a command set.

use std::fmt;
use std::sync::Arc;

use zest_engine::rules::Combining;
use zest_engine::{Engine, Estate};
use zest_model::ask::{Change, Conflict, Session};
use zest_model::entry::{Assignment, Band, Database, DatabaseRole, Kind, On, Proof, Role, User};
use zest_model::finding::Findings;
use zest_model::source::{At, Place, visible};
use zest_words::nearest;

/// Whose rights are looked at.
///
/// Written as `watch-1` or `user:watch-1`, `group:shore-watch`, `role:pier-tracer`, `command-set:trace-only`, `account:ticketing/fares`;
/// a role of a database server as `role:ticketing/fare-reader`.
///
/// # Example
/// ```
/// use zest_ledger::{Engine, Ledger, ask::Session, review::{Subject, effective}};
/// let estate = Ledger::new().document("rota.toml", r#"
/// [users.mate-1]
/// [groups.mates]
/// members = ["user:mate-1"]
/// [systems.rota]
/// kind = "application"
/// [applications.rota]
/// types.shift.rights = ["plan"]
/// objects."shift/early" = {}
/// grants = [{ allow = ["plan"], on = "shift/*", to = ["group:mates"] }]
/// "#).estate()?;
/// let engine = Engine::compile(estate)?;
/// let mates = Subject::parse(&engine, "group:mates")?.stand_in(&engine, &Session::default())?;
/// let listed = effective(mates.engine(&engine), &mates.user, Some("rota"), &mates.session).expect("somebody stands in");
/// assert_eq!((listed[0].user.as_str(), listed[0].rights[0].lines[0].as_str()), ("group:mates", "plan on shift/early"));
/// # Ok::<(), Box<dyn std::error::Error>>(())
/// ```
#[derive(Clone, Debug, PartialEq, Eq)]
#[non_exhaustive]
pub enum Subject {
    /// A user.
    User(String),
    /// Whoever is a member of a group.
    Group(String),
    /// Whoever has a role, everywhere.
    Role(String),
    /// Whoever signs in on a database server and is a member of a role of it.
    DatabaseRole {
        /// The system.
        system: String,
        /// The role, as the ledger writes it.
        role: String,
    },
    /// Whoever has a command set, at the top level of every device, and elsewhere nothing.
    CommandSet(String),
    /// Whoever uses an account of a system.
    Account {
        /// The system.
        system: String,
        /// The account, as the ledger writes it.
        account: String,
    },
}

/// The longest name of an account that every database server takes, in bytes: that of PostgreSQL.
const MOST_OF_A_LOGIN: usize = 63;

/// Why there is nobody whose rights could be looked at.
///
/// # Example
/// ```
/// use zest_ledger::{Ledger, review::{NoSubject, Subject}};
/// # let text = r#"
/// # users.mate-1.proofs = ["password"]
/// # users.mate-2.proofs = ["password"]
/// # systems.rota.kind = "application"
/// # [applications.rota]
/// # types.shift.rights = ["plan"]
/// # objects."shift/early" = {}
/// # grants = [{ allow = ["plan"], on = "shift/*", to = ["user:mate-1"] }]
/// # "#;
/// # let engine = Ledger::new().document("rota.toml", text).engine(1)?;
/// let error = Subject::parse(&engine, "mate-3").expect_err("nobody is called so");
/// assert!(matches!(&error, NoSubject::Unknown { nearest: Some(near), .. } if near == "mate-1"), "{error}");
/// # Ok::<(), zest_ledger::finding::Findings>(())
/// ```
#[derive(Debug)]
#[non_exhaustive]
pub enum NoSubject {
    /// The ledger has nothing of the name.
    Unknown {
        /// What it would be: "user", "group".
        what: &'static str,
        /// The name.
        name: String,
        /// The nearest name that there is.
        nearest: Option<String>,
    },
    /// It is written in no way that is known.
    Unreadable(String),
    /// Nobody can stand in.
    Conflict(Conflict),
    /// The ledger with somebody who stands in is none.
    Invalid(Findings),
    /// Two cannot be looked at in the same sessions.
    Apart(String, String),
}

impl fmt::Display for NoSubject {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Self::Unknown { what, name, nearest } => {
                write!(f, "no {what} is named `{}`", visible(name))?;
                nearest.as_ref().map_or(Ok(()), |near| write!(f, "; did you mean `{}`?", visible(near)))
            }
            Self::Unreadable(text) => write!(
                f,
                "`{}` is nobody whose rights could be looked at: expected a user, or `group:ID`, `role:ID`, `role:SYSTEM/ROLE`, \
                 `command-set:ID`, `account:SYSTEM/LOGIN`",
                visible(text)
            ),
            Self::Conflict(conflict) => write!(f, "nobody can stand in: {conflict}"),
            Self::Invalid(findings) => write!(f, "nobody can stand in: {findings}"),
            Self::Apart(one, other) => write!(
                f,
                "`{}` and `{}` have no sessions in common to be compared in: of devices and hosts, compare users, groups, roles or command sets",
                visible(one),
                visible(other)
            ),
        }
    }
}

impl std::error::Error for NoSubject {}

/// Somebody whose rights can be looked at.
///
/// # Example
/// ```
/// use zest_ledger::{Ledger, ask::Session, review::Subject};
/// # let text = r#"
/// # users.mate-1.proofs = ["password"]
/// # users.mate-2.proofs = ["password"]
/// # systems.rota.kind = "application"
/// # [applications.rota]
/// # types.shift.rights = ["plan"]
/// # objects."shift/early" = {}
/// # grants = [{ allow = ["plan"], on = "shift/*", to = ["user:mate-1"] }]
/// # "#;
/// # let engine = Ledger::new().document("rota.toml", text).engine(1)?;
/// let subject = Subject::parse(&engine, "user:mate-1").expect("it is a user");
/// let found = subject.stand_in(&engine, &Session::default()).expect("a user stands in for themselves");
/// assert_eq!((found.user.as_str(), std::ptr::eq(found.engine(&engine), &engine)), ("mate-1", true));
/// # Ok::<(), zest_ledger::finding::Findings>(())
/// ```
#[derive(Debug)]
pub struct StandIn {
    /// The engine in which they are there; nothing for a user, who is there anyway.
    engine: Option<Engine>,
    /// Their name.
    pub user: String,
    /// The sessions that are meant.
    pub session: Session,
    /// The sessions that are meant, where the account need not be stated, since there is no other.
    alone: Option<Session>,
    /// The role of a database server that they stand for.
    server_role: Option<String>,
}

impl StandIn {
    /// Returns the engine in which they are there: their own, or the one of the ledger.
    #[must_use]
    pub fn engine<'e>(&'e self, of_ledger: &'e Engine) -> &'e Engine {
        self.engine.as_ref().unwrap_or(of_ledger)
    }

    /// Returns the sessions that are meant, without an account that goes without saying; nothing where it must be stated.
    pub(super) const fn alone(&self) -> Option<&Session> {
        self.alone.as_ref()
    }

    /// Returns the role of a database server that they stand for.
    pub(super) fn server_role(&self) -> Option<&str> {
        self.server_role.as_deref()
    }
}

impl Subject {
    /// Reads whose rights are meant. A user whose id reads like something else is meant first.
    ///
    /// # Errors
    /// There is nothing of the name, or it cannot be read.
    pub fn parse(engine: &Engine, text: &str) -> Result<Self, NoSubject> {
        let estate = engine.estate();
        if engine.find_user(text, false).is_some() {
            return Ok(Self::User(text.to_owned()));
        }
        let (what, name) = text.split_once(':').unwrap_or(("user", text));
        let is_one_of = |what: &'static str, name: &str, ids: Vec<&str>| {
            let unknown =
                || NoSubject::Unknown { what, name: name.to_owned(), nearest: nearest(name, ids.iter().copied()).map(str::to_owned) };
            if ids.contains(&name) { Ok(name.to_owned()) } else { Err(unknown()) }
        };
        match what {
            "user" => is_one_of("user", name, estate.users().iter().map(|e| e.id.value.as_str()).collect()).map(Self::User),
            "group" => is_one_of("group", name, estate.groups().iter().map(|e| e.id.value.as_str()).collect()).map(Self::Group),
            "role" => {
                let of_ledger: Vec<&str> = estate.roles().iter().map(|e| e.id.value.as_str()).collect();
                // A role of the ledger that is called so is meant first.
                match of_database(estate, name).filter(|_| !of_ledger.contains(&name)) {
                    Some((system, role)) => {
                        let roles = databases(estate, system).flat_map(|(_, database)| &database.roles);
                        let role = is_one_of("role of a database server", role, roles.map(|role| role.name.value.as_str()).collect())?;
                        Ok(Self::DatabaseRole { system: system.to_owned(), role })
                    }
                    None => is_one_of("role", name, of_ledger).map(Self::Role),
                }
            }
            "command-set" => {
                is_one_of("command set", name, estate.command_sets().iter().map(|e| e.id.value.as_str()).collect()).map(Self::CommandSet)
            }
            "account" => {
                let Some((system, account)) = name.split_once('/') else { return Err(NoSubject::Unreadable(text.to_owned())) };
                let system = is_one_of("system", system, estate.systems().iter().map(|e| e.id.value.as_str()).collect())?;
                Ok(Self::Account { system, account: account.to_owned() })
            }
            _ => Err(NoSubject::Unreadable(text.to_owned())),
        }
    }

    /// Returns the one system on which this is somebody; nothing for what may count on every system.
    ///
    /// # Example
    /// ```
    /// use zest_ledger::review::Subject;
    /// let role = Subject::DatabaseRole { system: "ticketing".to_owned(), role: "counter".to_owned() };
    /// assert_eq!((role.system(), role.to_string().as_str()), (Some("ticketing"), "role:ticketing/counter"));
    /// assert_eq!(Subject::Role("pier-tracer".to_owned()).system(), None);
    /// ```
    #[must_use]
    pub fn system(&self) -> Option<&str> {
        match self {
            Self::DatabaseRole { system, role: _ } | Self::Account { system, account: _ } => Some(system),
            Self::User(_) | Self::Group(_) | Self::Role(_) | Self::CommandSet(_) => None,
        }
    }

    /// Returns somebody who has just this: with every way to prove identity, no path and no attribute, and nothing else that the ledger
    /// gives. `session` says which sessions are meant.
    ///
    /// # Errors
    /// The account is not there, or cannot be used by anybody else.
    pub fn stand_in(&self, engine: &Engine, session: &Session) -> Result<StandIn, NoSubject> {
        self.stand_in_like(engine, session, None)
    }

    /// Returns the same, with the ways to prove identity, the path and the attributes of a user, to be compared with whom.
    ///
    /// # Errors
    /// The account is not there, or cannot be used by anybody else.
    ///
    /// # Example
    /// ```
    /// use zest_ledger::{Ledger, ask::Session, review::Subject};
    /// # let text = r#"
    /// # users.mate-1.proofs = ["password"]
    /// # users.mate-2.proofs = ["password"]
    /// # systems.rota.kind = "application"
    /// # [applications.rota]
    /// # types.shift.rights = ["plan", "drop"]
    /// # objects."shift/early" = {}
    /// # grants = [{ allow = ["plan"], on = "shift/*", to = ["user:mate-1"] }]
    /// # "#;
    /// # let engine = Ledger::new().document("rota.toml", text).engine(1)?;
    /// let rota = Subject::parse(&engine, "user:mate-1").expect("it is a user");
    /// let found = rota.stand_in_like(&engine, &Session::default(), Some("mate-2")).expect("a user stands in for themselves");
    /// assert_eq!(found.user, "mate-1");
    /// # Ok::<(), zest_ledger::finding::Findings>(())
    /// ```
    pub fn stand_in_like(&self, engine: &Engine, session: &Session, like: Option<&str>) -> Result<StandIn, NoSubject> {
        let mut session = session.clone();
        let name = self.to_string();
        let estate = engine.estate();
        let mut entries = estate.entries().clone();
        // Whatever is said of who stands in is said where the entry is that they stand for.
        let at = self.place(estate).unwrap_or_else(Place::here);
        let (mut change, mut alone) = (None, Some(session.clone()));
        match self {
            Self::User(user) => {
                return Ok(StandIn { engine: None, user: user.clone(), alone: Some(session.clone()), server_role: None, session });
            }
            Self::Group(group) => {
                change = Some(Change::JoinGroup { group: group.clone(), user: name.clone() });
            }
            Self::Role(role) => entries.assignments.push(everywhere(&name, role, at)),
            Self::DatabaseRole { system, role } => {
                let is_mariadb = estate.systems().iter().any(|entry| entry.id.value == *system && entry.kind() == Kind::MARIADB);
                // A server takes no longer name; then the account is another's, and lent to who stands in.
                let is_free = |login: &String| {
                    databases(estate, system).all(|(_, d)| d.accounts.iter().chain(&d.roles).all(|a| a.name.value != *login))
                };
                let lent = || (0..).map(|number| format!("stand-in-{number}")).find(is_free).unwrap_or_default();
                let login = if name.len() <= MOST_OF_A_LOGIN { name.clone() } else { lent() };
                let mut account = DatabaseRole::at(At::new(if is_mariadb { format!("{login}@%") } else { login }, at));
                account.used_by.push(At::new(format!("user:{name}"), at));
                account.member_of.push(At::new(role.clone(), at));
                account.default_role = is_mariadb.then(|| At::new(role.clone(), at));
                let first = databases(estate, system).next().map(|(row, _)| row);
                first.into_iter().for_each(|row| entries.databases.edit(row, |database| database.accounts.push(account.clone())));
            }
            Self::CommandSet(set) => {
                // At the top no level stands in the way, and the set decides alone.
                session.level = Some(15);
                let band = Band { start: At::new(15, at), ceiling: At::new(15, at) };
                let role = Role { band: Some(band), commands: vec![At::new(set.clone(), at)], ..Role::at(At::new(name.clone(), at)) };
                entries.roles.push(Arc::new(role));
                entries.assignments.push(everywhere(&name, &name, at));
            }
            Self::Account { system, account } => {
                let kind = engine.site(system).map(|site| site.kind());
                // On a database server there is no other way in than an account.
                alone = alone.filter(|_| kind.is_some_and(|kind| kind.combining() == Combining::NotLookedAt));
                session.account = Some(kind.map_or_else(|| account.clone(), |kind| kind.login_of(account)));
                change = Some(Change::UseAccount { system: system.clone(), account: account.clone(), user: name.clone() });
            }
        }
        let person = match like.and_then(|user| engine.find_user(user, false)) {
            Some(user) => User { id: At::new(name.clone(), at), ..estate.user(user).clone() },
            None => {
                let proofs = Proof::WORDS.iter().filter_map(|word| Proof::from_word(word)).map(|proof| At::new(proof, at));
                User { proofs: proofs.collect(), ..User::at(At::new(name.clone(), at)) }
            }
        };
        entries.users.push(Arc::new(person));
        let with_person = engine.with_entries(entries).map_err(NoSubject::Invalid)?;
        let with_all = match change {
            None => with_person,
            Some(change) => with_person.with(&[change]).map_err(NoSubject::Conflict)?,
        };
        let server_role = if let Self::DatabaseRole { system: _, role } = self { Some(role.clone()) } else { None };
        Ok(StandIn { engine: Some(with_all), user: name, session, alone, server_role })
    }

    /// Returns where the entry is written that it stands for.
    fn place(&self, estate: &Estate) -> Option<Place> {
        let (mut users, mut groups, mut roles) = (estate.users().iter(), estate.groups().iter(), estate.roles().iter());
        let id = match self {
            Self::User(user) => users.find(|entry| entry.id.value == *user).map(|entry| &entry.id),
            Self::Group(group) => groups.find(|entry| entry.id.value == *group).map(|entry| &entry.id),
            Self::Role(role) => roles.find(|entry| entry.id.value == *role).map(|entry| &entry.id),
            Self::CommandSet(set) => estate.command_sets().iter().find(|entry| entry.id.value == *set).map(|entry| &entry.id),
            Self::DatabaseRole { system, role } => {
                let mut roles = databases(estate, system).flat_map(|(_, database)| &database.roles);
                roles.find(|entry| entry.name.value == *role).map(|entry| &entry.name)
            }
            Self::Account { system, .. } => estate.systems().iter().find(|entry| entry.id.value == *system).map(|entry| &entry.id),
        };
        id.map(|id| id.place)
    }
}

/// Returns what is written of a database server, with the number of the entry.
fn databases<'e>(estate: &'e Estate, system: &str) -> impl Iterator<Item = (usize, &'e Database)> + use<'e> {
    let system = system.to_owned();
    estate
        .databases()
        .iter()
        .enumerate()
        .map(|(row, database)| (row, &**database))
        .filter(move |(_, database)| database.system.value == system)
}

/// Returns the system and the role of `SYSTEM/ROLE`, where the system is a database server that the ledger describes.
fn of_database<'t>(estate: &Estate, text: &'t str) -> Option<(&'t str, &'t str)> {
    text.split_once('/').filter(|(system, _)| databases(estate, system).next().is_some())
}

/// Makes the assignment of a role on all systems to somebody.
fn everywhere(user: &str, role: &str, at: Place) -> Arc<Assignment> {
    let text = |text: String| vec![At::new(text, at)];
    let on = On { all: Some(At::new(true, at)), place: Some(at), ..On::default() };
    let rank = Some(At::new(0, at));
    Arc::new(Assignment { to: text(format!("user:{user}")), roles: text(role.to_owned()), on, rank, ..Assignment::at(at) })
}

impl fmt::Display for Subject {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Self::User(id) => f.write_str(id),
            Self::Group(id) => write!(f, "group:{id}"),
            Self::Role(id) => write!(f, "role:{id}"),
            Self::DatabaseRole { system, role } => write!(f, "role:{system}/{role}"),
            Self::CommandSet(id) => write!(f, "command-set:{id}"),
            Self::Account { system, account } => write!(f, "account:{system}/{account}"),
        }
    }
}
