//! The privileges of MariaDB 10.11, with the bits of its own access masks, and the levels at which they can be granted
//! (the page GRANT of its manual).

use crate::database::privilege_set;

macro_rules! privileges {
    ($($(#[doc = $doc:literal])+ $name:ident = $bit:literal $word:literal [$($level:ident)*] $about:literal;)+) => {
        /// One privilege.
        ///
        /// # Example
        /// ```
        /// use zest_ledger::mariadb::{Level, Privilege};
        /// assert_eq!(Privilege::from_word("select"), Some(Privilege::Select));
        /// assert_eq!((Privilege::Select.word(), Privilege::Select.sql().as_str()), ("select", "SELECT"));
        /// assert!(Privilege::Select.only().contains(Privilege::Select));
        /// assert!(Level::Global.applicable().contains(Privilege::File), "it is granted on everything alone");
        /// ```
        #[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Hash)]
        pub enum Privilege { $($(#[doc = $doc])+ $name = $bit,)+ }

        impl Privilege {
            /// All privileges, by bit.
            pub const ALL: &'static [Self] = &[$(Self::$name,)+];

            /// Returns the word for it, in lower case as a ledger writes it.
            #[must_use]
            pub const fn word(self) -> &'static str { match self { $(Self::$name => $word,)+ } }

            /// Returns the privilege a word stands for.
            #[must_use]
            pub fn from_word(word: &str) -> Option<Self> {
                match word { $($word => Some(Self::$name),)+ _ => None }
            }

            /// Returns what it permits, in a few words.
            #[must_use]
            pub const fn about(self) -> &'static str { match self { $(Self::$name => $about,)+ } }

            const fn levels(self) -> &'static [Level] { match self { $(Self::$name => &[$(Level::$level,)*],)+ } }
        }
    };
}

impl Privilege {
    /// Returns the levels at which it can be granted, widest first.
    ///
    /// # Example
    /// ```
    /// use zest_ledger::mariadb::{Level, Privilege};
    /// assert_eq!(Privilege::Execute.granted_at().collect::<Vec<_>>(), [Level::Global, Level::Database, Level::Routine]);
    /// ```
    pub fn granted_at(self) -> impl Iterator<Item = Level> {
        std::iter::once(Level::Global).chain(self.levels().iter().copied())
    }

    /// Returns what holding it brings besides, in a few words; empty if nothing.
    ///
    /// # Example
    /// ```
    /// use zest_ledger::mariadb::Privilege;
    /// assert_eq!((Privilege::Select.implies(), Privilege::File.implies()), ("the same on everything inside", ""));
    /// ```
    #[must_use]
    pub const fn implies(self) -> &'static str {
        if self.levels().is_empty() { "" } else { "the same on everything inside" }
    }
}

/// The level at which something is granted. Everything can be granted globally.
///
/// # Example
/// ```
/// use zest_ledger::mariadb::Level;
/// assert_eq!(Level::Global.word(), "everything");
/// ```
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub enum Level {
    /// On everything.
    Global,
    /// On one database, or on all that match a pattern.
    Database,
    /// On a table or view.
    Table,
    /// On columns.
    Column,
    /// On a function or procedure.
    Routine,
}

privileges! {
    /// Read rows.
    Select = 0 "select" [Database Table Column] "read rows or columns";
    /// Add rows.
    Insert = 1 "insert" [Database Table Column] "add rows";
    /// Change rows.
    Update = 2 "update" [Database Table Column] "change rows or columns";
    /// Remove rows.
    Delete = 3 "delete" [Database Table] "remove rows";
    /// Make databases and tables.
    Create = 4 "create" [Database Table] "make databases and tables";
    /// Remove or empty tables.
    Drop = 5 "drop" [Database Table] "remove databases, tables and views; empty a table";
    /// Reload.
    Reload = 6 "reload" [] "FLUSH";
    /// Stop the server.
    Shutdown = 7 "shutdown" [] "stop the server";
    /// See all sessions.
    Process = 8 "process" [] "see the sessions of others";
    /// Read and write files.
    File = 9 "file" [] "read and write files of the server";
    /// Pass on what one holds.
    GrantOption = 10 "grant option" [Database Table Routine] "pass on what one holds at the same level";
    /// Foreign keys.
    References = 11 "references" [Database Table Column] "make foreign keys that point here";
    /// Indexes.
    Index = 12 "index" [Database Table] "make and remove indexes";
    /// Change tables.
    Alter = 13 "alter" [Database Table] "change tables";
    /// See all databases.
    ShowDatabases = 14 "show databases" [] "see the names of all databases";
    /// Settings of the server.
    Super = 15 "super" [] "settings and much else";
    /// Temporary tables.
    CreateTemporaryTables = 16 "create temporary tables" [Database] "make temporary tables";
    /// Lock tables.
    LockTables = 17 "lock tables" [Database] "LOCK TABLES on what one may read";
    /// Run routines.
    Execute = 18 "execute" [Database Routine] "run functions and procedures";
    /// Replicate.
    ReplicationSlave = 19 "replication slave" [] "read the binary log as a replica";
    /// Watch the binary log.
    BinlogMonitor = 20 "binlog monitor" [] "see the state of the binary log";
    /// Make views.
    CreateView = 21 "create view" [Database Table] "make views";
    /// See definitions of views.
    ShowView = 22 "show view" [Database Table] "see the definition of a view";
    /// Make routines.
    CreateRoutine = 23 "create routine" [Database] "make functions and procedures";
    /// Change routines.
    AlterRoutine = 24 "alter routine" [Database Routine] "change and remove functions and procedures";
    /// Manage accounts.
    CreateUser = 25 "create user" [] "make, change and remove accounts and roles";
    /// Events.
    Event = 26 "event" [Database] "make and change events";
    /// Triggers.
    Trigger = 27 "trigger" [Database Table] "make and remove triggers";
    /// Tablespaces.
    CreateTablespace = 28 "create tablespace" [] "not used";
    /// Remove history.
    DeleteHistory = 29 "delete history" [Database Table] "remove history of versioned tables";
    /// Other definers.
    SetUser = 30 "set user" [] "make objects in the name of others";
    /// Federated servers.
    FederatedAdmin = 31 "federated admin" [] "federated servers";
    /// Connections.
    ConnectionAdmin = 32 "connection admin" [] "end sessions, pass limits";
    /// Read-only mode.
    ReadOnlyAdmin = 33 "read_only admin" [] "write in read-only mode";
    /// Replicas.
    ReplicationSlaveAdmin = 34 "replication slave admin" [] "start and stop a replica";
    /// Primaries.
    ReplicationMasterAdmin = 35 "replication master admin" [] "see replicas";
    /// Binary log.
    BinlogAdmin = 36 "binlog admin" [] "set up the binary log";
    /// Replay.
    BinlogReplay = 37 "binlog replay" [] "replay the binary log";
    /// Watch replicas.
    SlaveMonitor = 38 "slave monitor" [] "see the state of a replica";
}

impl Privilege {
    /// Returns the set of this privilege alone.
    #[must_use]
    pub const fn only(self) -> Privileges {
        Privileges(1 << self as u64)
    }

    /// Returns the privilege as the server's GRANT writes it.
    #[must_use]
    pub fn sql(self) -> String {
        self.word().to_uppercase()
    }
}

impl Level {
    /// Returns the word for it in listings.
    #[must_use]
    pub const fn word(self) -> &'static str {
        match self {
            Self::Global => "everything",
            Self::Database => "databases",
            Self::Table => "tables",
            Self::Column => "columns",
            Self::Routine => "routines",
        }
    }

    /// Returns the privileges that can be granted at this level.
    ///
    /// # Example
    /// ```
    /// use zest_ledger::mariadb::{Level, Privilege};
    /// assert!(Level::Routine.applicable().contains(Privilege::Execute));
    /// assert!(!Level::Database.applicable().contains(Privilege::File));
    /// ```
    #[must_use]
    pub fn applicable(self) -> Privileges {
        Privilege::ALL.iter().copied().filter(|p| self == Self::Global || p.levels().contains(&self)).collect()
    }
}

privilege_set! {
    /// A set of privileges.
    ///
    /// # Example
    /// ```
    /// use zest_ledger::mariadb::{Privilege, Privileges};
    /// let both: Privileges = [Privilege::Select, Privilege::Insert].into_iter().collect();
    /// assert!(both.contains(Privilege::Insert) && !both.contains(Privilege::Delete));
    /// assert_eq!(both.without(Privilege::Insert.only()), Privilege::Select.only());
    /// ```
    u64
}

impl Privileges {
    /// Makes a set of the server's own mask; unknown bits are left out, so they never allow anything.
    ///
    /// # Example
    /// ```
    /// use zest_ledger::mariadb::{Privilege, Privileges};
    /// assert!(Privileges::from_mask(1).contains(Privilege::Select));
    /// assert!(Privileges::from_mask(1 << 60).is_empty(), "a bit of a later version");
    /// ```
    #[must_use]
    pub const fn from_mask(mask: u64) -> Self {
        Self(mask & ((1 << 39) - 1))
    }
}
