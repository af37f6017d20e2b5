//! The entries of a ledger as they are written, before references are followed.
//!
//! The text reader and programs make the same entries: a field that is not written stays `None`, so that a
//! default is never mistaken for a statement. Every value keeps its [`Place`](crate::source::Place).

mod assignment;
mod command;
mod database;
mod expectation;
mod host;
mod interface;
mod person;
mod promise;
mod service;
mod system;
mod when;

pub use assignment::{Apart, Assignment, Band, On, Role, Separation};
pub use command::{Abbreviation, BareElevation, Command, CommandSet, Does, Mode, Otherwise, Rule, RuleVerb, Vocabulary};
pub use database::{Database, DatabaseGrant, DatabaseObject, DatabasePolicy, DatabaseRole, PolicyFor, RunsAs};
pub use expectation::{CentralSource, Expectation, Expected, Facts, InSession, NamedSession, Step};
pub use host::{Host, HostAccount, Job, RunAs};
pub(crate) use interface::{Described, Interface};
pub use person::{CredentialRule, Group, OriginNetworks, Proof, User, UserKind};
pub use promise::{Exception, MeantWay, Promise};
pub use service::{ActAs, Assumable, Ceiling, Grant, ObjectType, Operation, Resource, Service};
pub use system::{
    Account, Authorisation, AuthorisedLevels, Channel, Credential, IdentitySource, Kind, NameCase, Notices, OwnLevel, System, SystemKey,
    Unrestricted, WhenCentralDown,
};

pub use when::{AFTER, WHEN};
pub use when::{Obligations, When};

/// What each table of a document may hold.
#[doc(hidden)]
pub mod shapes {
    pub use super::assignment::{ASSIGNMENT, BAND, ON, ROLE, SEPARATION};
    pub use super::command::{COMMAND, COMMAND_SET, MODE, RULE, VOCABULARY};
    pub use super::database::{DATABASE, DATABASE_GRANT, DATABASE_OBJECT, DATABASE_POLICY, DATABASE_ROLE};
    pub use super::expectation::{EXPECTATION, FACTS, STEP};
    pub use super::host::{HOST, HOST_ACCOUNT, JOB, RUN_AS};
    pub use super::person::{CREDENTIAL_RULE, GROUP, ORIGIN, USER};
    pub use super::promise::{EXCEPTION, MEANT_WAY, PROMISE};
    pub use super::service::{ACT_AS, APPLICATION, ASSUMABLE, CEILING, CLOUD, GRANT, OBJECT_TYPE, OPERATION, RESOURCE};
    pub use super::system::{ACCOUNT, AUTHORISATION, NOTICES, OWN_LEVEL, SYSTEM};
    pub use super::when::{AFTER, WHEN};
}

/// Gives an enum of words its text form, both ways.
macro_rules! words {
    ($(#[$meta:meta])* $name:ident { $($(#[doc = $doc:literal])+ $variant:ident = $word:literal,)+ }) => {
        $(#[$meta])*
        ///
        /// # Example
        /// ```
        #[doc = concat!("use zest_ledger::entry::", stringify!($name), ";")]
        #[doc = concat!("for word in ", stringify!($name), "::WORDS {")]
        #[doc = concat!("    assert_eq!(", stringify!($name), "::from_word(word).map(", stringify!($name), "::word), Some(*word));")]
        /// }
        /// ```
        #[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Hash, serde::Serialize, serde::Deserialize)]
        #[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
        pub enum $name { $($(#[doc = $doc])+ #[serde(rename = $word)] $variant,)+ }

        impl $name {
            /// All words of a document that stand for a value.
            pub const WORDS: &'static [&'static str] = &[$($word,)+];

            /// Returns the word for this value.
            ///
            /// # Example
            /// ```
            #[doc = concat!("use zest_ledger::entry::", stringify!($name), ";")]
            #[doc = concat!("let words = [", $("(", stringify!($name), "::", stringify!($variant), ", \"", $word, "\"), ",)+ "];")]
            /// assert!(words.iter().all(|(value, word)| value.word() == *word));
            /// ```
            #[must_use]
            pub const fn word(self) -> &'static str { match self { $(Self::$variant => $word,)+ } }

            /// Returns the value that a word stands for.
            ///
            /// # Example
            /// ```
            #[doc = concat!("use zest_ledger::entry::", stringify!($name), ";")]
            #[doc = concat!("let words = [", $("(", stringify!($name), "::", stringify!($variant), ", \"", $word, "\"), ",)+ "];")]
            #[doc = concat!("assert!(words.iter().all(|(value, word)| ", stringify!($name), "::from_word(word) == Some(*value)));")]
            #[doc = concat!("assert_eq!(", stringify!($name), "::from_word(\"no word of these\"), None);")]
            /// ```
            #[must_use]
            pub fn from_word(word: &str) -> Option<Self> {
                match word { $($word => Some(Self::$variant),)+ _ => None }
            }
        }

        crate::same::plain!($name);

        impl crate::written::Word for $name {
            fn words() -> &'static [&'static str] {
                Self::WORDS
            }

            fn read(word: &str) -> Option<Self> {
                Self::from_word(word)
            }
        }
    };
}
pub(crate) use words;

/// Writes builder methods that set an optional field or add to a list, noting the caller's line.
macro_rules! builders {
    ($($(#[doc = $doc:literal])+ $name:ident($arg:ident: $ty:ty) => $field:ident $how:ident $value:expr;)+) => {
        $(
            $(#[doc = $doc])+
            #[track_caller]
            #[must_use]
            pub fn $name(mut self, $arg: $ty) -> Self {
                crate::entry::builders!(@$how self.$field, $value);
                self
            }
        )+
    };
    (@sets $field:expr, $value:expr) => { $field = Some(crate::source::At::here($value)) };
    (@adds $field:expr, $value:expr) => { $field.push(crate::source::At::here($value)) };
}
pub(crate) use builders;
