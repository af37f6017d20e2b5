//! The privileges of PostgreSQL 15 and the classes of objects they apply to (chapter 5.7 of its manual, table 5.2).

use crate::database::privilege_set;

macro_rules! privileges {
    ($($(#[doc = $doc:literal])+ $name:ident = $bit:literal $word:literal $about:literal;)+) => {
        /// One privilege.
        ///
        /// # Example
        /// ```
        /// use zest_ledger::postgresql::Privilege;
        /// assert_eq!(Privilege::Select.word(), "select");
        /// ```
        #[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Hash)]
        pub enum Privilege { $($(#[doc = $doc])+ $name = $bit,)+ }

        impl Privilege {
            /// All privileges, in the order in which the server writes them.
            pub const ALL: &'static [Self] = &[$(Self::$name,)+];

            /// Returns the word for it, in lower case as a ledger writes it.
            #[must_use]
            pub const fn word(self) -> &'static str { match self { $(Self::$name => $word,)+ } }

            /// Returns the privilege a word stands for; `temp` is another word for `temporary`.
            #[must_use]
            pub fn from_word(word: &str) -> Option<Self> {
                match word { $($word => Some(Self::$name),)+ "temp" => Some(Self::Temporary), _ => None }
            }

            /// Returns what it permits, in a few words.
            #[must_use]
            pub const fn about(self) -> &'static str { match self { $(Self::$name => $about,)+ } }
        }
    };
}

privileges! {
    /// Read.
    Select = 0 "select" "read rows or columns; read a sequence";
    /// Add rows.
    Insert = 1 "insert" "add rows";
    /// Change rows.
    Update = 2 "update" "change rows or columns; advance or set a sequence";
    /// Remove rows.
    Delete = 3 "delete" "remove rows";
    /// Empty a table.
    Truncate = 4 "truncate" "empty a table";
    /// Refer to columns by foreign keys.
    References = 5 "references" "make foreign keys that point here";
    /// Make triggers.
    Trigger = 6 "trigger" "make triggers on a table";
    /// Use a schema, sequence, type, language or server.
    Usage = 7 "usage" "look up names in a schema; use a sequence, type, language or server";
    /// Make new objects inside.
    Create = 8 "create" "make schemas in a database, objects in a schema";
    /// Open sessions.
    Connect = 9 "connect" "open sessions on a database";
    /// Make temporary tables.
    Temporary = 10 "temporary" "make temporary tables in a database";
    /// Run a routine.
    Execute = 11 "execute" "run a function or procedure";
}

impl Privilege {
    /// Returns the set of this privilege alone.
    #[must_use]
    pub const fn only(self) -> Privileges {
        Privileges(1 << self as u16)
    }
}

privilege_set! {
    /// A set of privileges.
    ///
    /// # Example
    /// ```
    /// use zest_ledger::postgresql::{Class, Privilege, Privileges};
    /// let reading: Privileges = [Privilege::Select].into_iter().collect();
    /// assert!(Class::Table.applicable().contains(Privilege::Truncate));
    /// assert_eq!(reading.to_string(), "select");
    /// assert!(reading.without(Privilege::Select.only()).is_empty());
    /// ```
    u16
}

impl Privileges {
    const fn of(list: &[Privilege]) -> Self {
        let (mut bits, mut i) = (0, 0);
        while i < list.len() {
            bits |= 1 << list[i] as u16;
            i += 1;
        }
        Self(bits)
    }
}

impl Privilege {
    /// Returns the classes of objects to which it applies.
    ///
    /// # Example
    /// ```
    /// use zest_ledger::postgresql::{Class, Privilege};
    /// assert_eq!(Privilege::Connect.applies_to().collect::<Vec<_>>(), [Class::Database]);
    /// ```
    pub fn applies_to(self) -> impl Iterator<Item = Class> {
        Class::ALL.iter().copied().filter(move |c| c.applicable().contains(self))
    }

    /// Returns what holding it brings besides, in a few words; empty if nothing.
    ///
    /// # Example
    /// ```
    /// use zest_ledger::postgresql::Privilege;
    /// assert_eq!((Privilege::Select.implies(), Privilege::Connect.implies()), ("the same on every column", ""));
    /// ```
    #[must_use]
    pub const fn implies(self) -> &'static str {
        match self {
            Self::Select | Self::Insert | Self::Update | Self::References => "the same on every column",
            _ => "",
        }
    }
}

macro_rules! classes {
    ($($(#[doc = $doc:literal])+ $name:ident = $word:literal $keyword:literal [$($privilege:ident)*] public [$($public:ident)*];)+) => {
        /// The class of an object: which privileges apply to it, and what PUBLIC and the owner hold of a new one.
        ///
        /// # Example
        /// ```
        /// use zest_ledger::postgresql::{Class, Privilege};
        /// assert!(Class::Table.applicable().contains(Privilege::Select) && Class::Table.has_columns());
        /// assert!(Class::Function.public().contains(Privilege::Execute), "everybody has it until it is revoked");
        /// assert_eq!((Class::Function.word(), Class::Function.keyword()), ("function", "FUNCTION"));
        /// assert!(Class::Function.is_routine() && Class::Table.is_in_schema() && !Class::Schema.is_in_schema());
        /// ```
        #[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Hash)]
        pub enum Class { $($(#[doc = $doc])+ $name,)+ }

        impl Class {
            /// All classes.
            pub const ALL: &'static [Self] = &[$(Self::$name,)+];
            /// Returns the word that a ledger writes before the object's name.
            #[must_use]
            pub const fn word(self) -> &'static str { match self { $(Self::$name => $word,)+ } }
            /// Returns the keyword of the server's GRANT statement.
            #[must_use]
            pub const fn keyword(self) -> &'static str { match self { $(Self::$name => $keyword,)+ } }
            /// Returns the privileges that apply to such objects.
            #[must_use]
            pub const fn applicable(self) -> Privileges { match self { $(Self::$name => Privileges::of(&[$(Privilege::$privilege,)*]),)+ } }
            /// Returns what PUBLIC holds of a new one (the server's `acldefault`).
            #[must_use]
            pub const fn public(self) -> Privileges { match self { $(Self::$name => Privileges::of(&[$(Privilege::$public,)*]),)+ } }
        }
    };
}

classes! {
    /// The database itself.
    Database = "database" "DATABASE" [Create Connect Temporary] public [Connect Temporary];
    /// A procedural language.
    Language = "language" "LANGUAGE" [Usage] public [Usage];
    /// A foreign-data wrapper.
    Wrapper = "wrapper" "FOREIGN DATA WRAPPER" [Usage] public [];
    /// A foreign server.
    Server = "server" "FOREIGN SERVER" [Usage] public [];
    /// A schema.
    Schema = "schema" "SCHEMA" [Usage Create] public [];
    /// A type or domain.
    Type = "type" "TYPE" [Usage] public [Usage];
    /// A sequence.
    Sequence = "sequence" "SEQUENCE" [Select Update Usage] public [];
    /// A table.
    Table = "table" "TABLE" [Select Insert Update Delete Truncate References Trigger] public [];
    /// A view.
    View = "view" "TABLE" [Select Insert Update Delete Truncate References Trigger] public [];
    /// A materialised view.
    MaterialisedView = "materialised view" "TABLE" [Select Insert Update Delete Truncate References Trigger] public [];
    /// A function.
    Function = "function" "FUNCTION" [Execute] public [Execute];
    /// A procedure.
    Procedure = "procedure" "PROCEDURE" [Execute] public [Execute];
}

impl Class {
    /// Returns whether objects of the class have columns.
    #[must_use]
    pub const fn has_columns(self) -> bool {
        matches!(self, Self::Table | Self::View | Self::MaterialisedView)
    }

    /// Returns whether objects of the class live in a schema.
    #[must_use]
    pub const fn is_in_schema(self) -> bool {
        !matches!(self, Self::Database | Self::Language | Self::Wrapper | Self::Server | Self::Schema)
    }

    /// Returns whether it is a function or a procedure.
    #[must_use]
    pub const fn is_routine(self) -> bool {
        matches!(self, Self::Function | Self::Procedure)
    }
}

/// The privileges that can be given on single columns.
pub(crate) const COLUMN_PRIVILEGES: Privileges =
    Privileges::of(&[Privilege::Select, Privilege::Insert, Privilege::Update, Privilege::References]);
