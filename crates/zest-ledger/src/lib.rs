//! Models an estate of systems as text, and answers whether a user's action would be allowed, and why.
//!
//! A **ledger** is a folder of TOML documents that declares users, groups, systems, command sets, roles and
//! assignments. This crate takes the text, validates it, and answers questions about it. It reads no files, no
//! clock and no environment: the same question always has the same answer.
//!
//! # A question and its answer
//! ```
//! use zest_ledger::{Engine, Ledger, Question, ask::{Refusal, Verdict}};
//!
//! let text = r#"
//! [users.watch-1]
//! proofs = ["password"]
//!
//! [vocabularies.corvane-os]
//! commands = [{ line = "show log" }, { line = "show settings live", level = 15 }]
//!
//! [command-sets.look-only]
//! rules = ["deny show settings live ...", "allow show ..."]
//!
//! [roles.reader]
//! band = { start = 1, ceiling = 15 }
//! commands = ["look-only"]
//!
//! [systems.sw-selkie-1]
//! kind = "network-device"
//! vocabulary = "corvane-os"
//! no-command-set = "nothing"
//! authorisation = { levels = "all", configuration = true }
//!
//! [[assignments]]
//! to = ["user:watch-1"]
//! roles = ["reader"]
//! on = { systems = ["sw-selkie-1"] }
//! "#;
//! let engine = Engine::compile(Ledger::new().document("demo.toml", text).estate()?)?;
//! let answer = engine.ask(&Question::new("watch-1", "sw-selkie-1", "sh log"));
//! assert_eq!(answer.verdict, Verdict::Allowed);
//!
//! let answer = engine.ask(&Question::new("watch-1", "sw-selkie-1", "show settings live"));
//! assert_eq!(answer.refusal, Some(Refusal::LevelTooLow));
//! let gate = answer.first_refusal().expect("a refusal has a gate");
//! assert_eq!(gate.location.as_ref().expect("written down").to_string(), "demo.toml:6");
//! # Ok::<(), zest_ledger::finding::Findings>(())
//! ```
//!
//! # A ledger built in code
//! Every entry of the format has a typed builder; grounds then point to the line of Rust that made the entry.
//! ```
//! use zest_ledger::{Engine, Ledger, Question, ask::Verdict};
//! use zest_ledger::entry::{Assignment, Command, On, Proof, Role, System, Unrestricted, User, Vocabulary};
//!
//! let ledger = Ledger::new()
//!     .user(User::new("watch-1").proof(Proof::Password))
//!     .vocabulary(Vocabulary::new("corvane-os").command(Command::new("show release")))
//!     .system(System::network_device("sw-1", "corvane-os", Unrestricted::Everything))
//!     .role(Role::new("reader").band(1, 1))
//!     .assignment(Assignment::new(On::all()).to("user:watch-1").role("reader"));
//! let engine = Engine::compile(ledger.estate()?)?;
//! assert_eq!(engine.ask(&Question::new("watch-1", "sw-1", "show release")).verdict, Verdict::Allowed);
//! # Ok::<(), zest_ledger::finding::Findings>(())
//! ```
//!
//! # What is wrong with a ledger
//! All findings come at once, each with a stable code, a place and a way to mend it.
//! ```
//! use zest_ledger::{Ledger, finding::Code};
//!
//! let text = "[groups.shore-watch]\nmembers = [\"user:watch-2\"]\n[users.watch-1]\n";
//! let findings = Ledger::new().document("people.toml", text).validate().findings;
//! assert_eq!(findings.list()[0].code, Code::UnknownReference);
//! assert!(findings.to_string().contains("people.toml:2:12: error[ZL0201]: no user is named `watch-2`"));
//! ```
//!
//! # Where to read on
//! - [`entry`]: the entries of a ledger; [`json_schema`]: the format for editors
//! - [`command`]: how patterns are written and lines are read
//! - [`ask`]: questions, answers, refusals and remedies
//! - [`rehearsal`]: a stand-in session; [`review`]: effective permissions and hygiene findings
//! - [`finding`]: codes and severities; [`json`]: the JSON form of everything
//!
//! The rules themselves are in `docs/semantics.md`, each with the test that holds it.

/// A validated ledger, and what it is made of.
pub mod estate {
    #[doc(inline)]
    pub use zest_engine::Estate;
    #[doc(inline)]
    pub use zest_engine::links::{Outcome, Part, Party};
    #[doc(inline)]
    pub use zest_model::id::{AssignmentId, CommandId, GroupId, ModeId, RoleId, SetId, SystemId, UserId, VocabularyId};
    #[doc(inline)]
    pub use zest_model::table::{Rows, Table};
}

/// Findings: what is wrong or odd in a ledger, each with a stable code, a place and a way to mend it.
pub mod finding {
    #[doc(inline)]
    pub use zest_model::finding::*;
    #[doc(inline)]
    pub use zest_words::nearest;
}

/// Command lines: reading them, and patterns over them.
pub mod command {
    #[doc(inline)]
    pub use zest_command::{LineError, MAX_LINE_BYTES, MAX_LINE_WORDS, Pattern, PatternError, Slot, WordPattern, read_line};
}

/// Rights as a set: every class of sessions, every class of actions, made by the rules themselves.
pub mod rights {
    #[doc(inline)]
    pub use zest_engine::rights::{Action, Always, Line, Membership, Opening, Rights, Side, Within, rights};
}

pub mod json;
pub mod kind;
mod ledger;

pub use kind::hears;
pub use ledger::{Ledger, Validated};
#[cfg(feature = "mariadb")]
#[doc(inline)]
pub use zest_databases::mariadb;
#[cfg(feature = "postgresql")]
#[doc(inline)]
pub use zest_databases::postgresql;
#[cfg(any(feature = "postgresql", feature = "mariadb"))]
#[doc(inline)]
pub use zest_databases::{drift, not_modelled};
#[doc(hidden)]
pub use zest_engine::Rows;
#[doc(inline)]
pub use zest_engine::kind::host::{HostConfiguration, Untold, host_configuration};
#[doc(inline)]
pub use zest_engine::prepared::Prepared;
#[doc(inline)]
pub use zest_engine::{Before, Engine};
#[doc(inline)]
pub use zest_model::ask::Question;
#[doc(inline)]
pub use zest_model::text::json_schema;
#[doc(inline)]
pub use zest_model::{ask, entry, source};
#[doc(inline)]
pub use zest_reviews::{expectation, promise, rehearsal, review, ways};

/// The snippets of the READMEs, of the repository and of this crate, are run with the other examples.
#[cfg(doctest)]
#[doc = include_str!("../README.md")]
#[doc = include_str!("../../../README.md")]
struct Readme;
