//! A validated ledger: every reference followed, every pattern read. It does not change any more.

mod circles;
mod comparison;
pub(crate) mod condition;
mod id;
pub(crate) mod path;
pub(crate) mod resolve;

use std::any::Any;
use std::sync::Arc;

pub use crate::table::{Rows, Table};
pub(crate) use circles::circles;
pub(crate) use condition::{Condition, Facts, Judged, Networks};
pub use condition::{Conditions, Outcome, Part};
pub use id::{AssignmentId, CommandId, GroupId, ModeId, RoleId, SetId, SystemId, UserId, VocabularyId};
pub(crate) use path::is_within;
pub use resolve::{Ground, Resolver};
pub(crate) use resolve::{Names, look_up};

use crate::command::Pattern;
use crate::entry::{self, Does, Otherwise, RuleVerb};
use crate::kind::{Kind, Kinds};
use crate::ledger::Entries;
use crate::source::{At, Place, SourceMap};

/// A user or a group, as a reference names it.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub enum Party {
    /// A user.
    User(UserId),
    /// A group.
    Group(GroupId),
}

/// A validated ledger.
///
/// # Example
/// ```
/// use zest_ledger::{Ledger, entry::{System, Unrestricted, User, Vocabulary, Command}};
/// let estate = Ledger::new()
///     .user(User::new("watch-1"))
///     .vocabulary(Vocabulary::new("corvane-os").command(Command::new("show release")))
///     .system(System::network_device("sw-1", "corvane-os", Unrestricted::Nothing))
///     .estate()?;
/// assert_eq!(estate.users().len(), 1);
/// # Ok::<(), zest_ledger::finding::Findings>(())
/// ```
#[derive(Clone, Debug)]
pub struct Estate {
    pub(crate) kinds: Kinds,
    pub(crate) sources: Arc<SourceMap>,
    pub(crate) entries: Entries,
    pub(crate) names: Arc<Names>,
    pub(crate) groups: Table<Arc<GroupLinks>>,
    /// What the kind of each system made of what is written of it.
    pub(crate) systems: Table<Declared>,
    pub(crate) vocabularies: Arc<[VocabularyLinks]>,
    pub(crate) sets: Table<Arc<SetLinks>>,
    pub(crate) roles: Table<Arc<RoleLinks>>,
    pub(crate) separations: Arc<[SeparationLinks]>,
    pub(crate) credential_rules: Arc<[CredentialRuleLinks]>,
    /// By rank, then as written.
    pub(crate) assignments: Table<Arc<AssignmentLinks>>,
}

/// What a kind keeps of a system; nobody else knows what is in it.
pub type Kept = Arc<dyn Any + Send + Sync>;

/// A system with its references followed.
#[derive(Clone, Debug)]
pub struct Declared {
    pub(crate) kind: &'static dyn Kind,
    pub(crate) links: Kept,
}

#[derive(Debug, Default)]
pub(crate) struct GroupLinks {
    pub(crate) members: Vec<(Party, Place)>,
    pub(crate) owners: Vec<(Party, Place)>,
}

#[derive(Debug)]
pub(crate) struct VocabularyLinks {
    pub(crate) modes: Vec<String>,
    pub(crate) start_mode: ModeId,
    pub(crate) commands: Vec<CommandLinks>,
}

#[derive(Clone, Debug)]
pub(crate) struct CommandLinks {
    pub(crate) line: String,
    pub(crate) pattern: Pattern,
    pub(crate) level: u8,
    pub(crate) does: Option<Does>,
    pub(crate) enters: Option<ModeId>,
    pub(crate) modes: Vec<ModeId>,
    pub(crate) level_word: Option<usize>,
    pub(crate) place: Place,
}

/// One rule of a set, after included sets have been put in their places.
#[derive(Clone, Debug)]
pub(crate) struct FlatRule {
    pub(crate) verb: RuleVerb,
    pub(crate) pattern: Arc<Pattern>,
    pub(crate) text: At<String>,
    /// The set it was written in.
    pub(crate) home: SetId,
    pub(crate) after: Option<Arc<Duties>>,
}

/// Obligations with their references followed.
#[derive(Clone, Debug)]
pub struct Duties {
    pub(crate) confirm: Option<Place>,
    pub(crate) prove_again: Option<At<jiff::SignedDuration>>,
    pub(crate) second_person: Vec<(Party, Place)>,
    /// Where it says that anyone entitled may be the second person.
    pub(crate) anyone: Option<Place>,
}

#[derive(Debug)]
pub(crate) struct SetLinks {
    pub(crate) rules: Vec<FlatRule>,
    pub(crate) otherwise: Otherwise,
}

#[derive(Debug, Default)]
pub(crate) struct RoleLinks {
    pub(crate) includes: Vec<RoleId>,
    pub(crate) sets: Vec<SetId>,
    pub(crate) assumable: Option<AssumableLinks>,
}

/// Whoever a grant, a ceiling or an assumption is for.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash)]
pub(crate) enum Holder {
    Party(Party),
    Role(RoleId),
}

/// Who may assume a role.
#[derive(Clone, Debug)]
pub(crate) struct AssumableLinks {
    pub(crate) by: Vec<(Holder, Place)>,
    pub(crate) when: Conditions,
    pub(crate) longest: Option<At<jiff::SignedDuration>>,
    pub(crate) may_state: Vec<String>,
    pub(crate) place: Place,
}

/// What the credentials of some people must be like.
#[derive(Debug)]
pub(crate) struct CredentialRuleLinks {
    pub(crate) of: Vec<(Party, Place)>,
    pub(crate) shortest: Option<At<u32>>,
    pub(crate) oldest_days: Option<At<u32>>,
}

/// Roles of which nobody may have two.
#[derive(Debug)]
pub(crate) struct SeparationLinks {
    pub(crate) name: String,
    pub(crate) roles: Vec<RoleId>,
    /// Whether it is about what is active in one session, not about what is held.
    pub(crate) when_active: bool,
    pub(crate) place: Place,
}

#[derive(Debug)]
pub(crate) struct AssignmentLinks {
    pub(crate) entry: Arc<entry::Assignment>,
    pub(crate) to: Vec<(Party, Place)>,
    pub(crate) roles: Vec<RoleId>,
    pub(crate) systems: fixedbitset::FixedBitSet,
    pub(crate) conditions: Conditions,
}

/// Queries
impl Estate {
    /// Returns the documents the estate was read from.
    #[must_use]
    pub fn sources(&self) -> &SourceMap {
        &self.sources
    }

    /// Returns the users, as written.
    #[must_use]
    pub fn users(&self) -> &Table<Arc<entry::User>> {
        &self.entries.users
    }

    /// Returns the groups, as written.
    #[must_use]
    pub fn groups(&self) -> &Table<Arc<entry::Group>> {
        &self.entries.groups
    }

    /// Returns the systems, as written.
    #[must_use]
    pub fn systems(&self) -> &Table<Arc<entry::System>> {
        &self.entries.systems
    }

    /// Returns what database servers hold, as written.
    #[must_use]
    pub fn databases(&self) -> &Table<Arc<entry::Database>> {
        &self.entries.databases
    }

    /// Returns what clouds and applications hold, as written.
    #[must_use]
    pub fn services(&self) -> &Table<Arc<entry::Service>> {
        &self.entries.services
    }

    /// Returns the roles, as written.
    #[must_use]
    pub fn roles(&self) -> &Table<Arc<entry::Role>> {
        &self.entries.roles
    }

    /// Returns the command sets, as written.
    #[must_use]
    pub fn command_sets(&self) -> &Table<Arc<entry::CommandSet>> {
        &self.entries.command_sets
    }

    /// Returns the vocabularies, as written.
    #[must_use]
    pub fn vocabularies(&self) -> &Table<Arc<entry::Vocabulary>> {
        &self.entries.vocabularies
    }

    /// Returns the assignments in the order in which they are tried: by rank, then as written.
    #[must_use]
    pub fn assignments(&self) -> &Table<Arc<entry::Assignment>> {
        &self.entries.assignments
    }

    /// Returns what a kind made of a system; nothing for systems of other kinds.
    pub(crate) fn links<T: 'static>(&self, id: SystemId) -> Option<&T> {
        self.systems.get(id.index())?.links.downcast_ref()
    }

    /// Returns what a kind made of each of its systems.
    pub(crate) fn all_links<T: 'static>(&self) -> impl Iterator<Item = (SystemId, &T)> {
        (0..self.systems.len()).map(SystemId::new).filter_map(|id| Some((id, self.links(id)?)))
    }

    pub(crate) fn user(&self, id: UserId) -> &entry::User {
        &self.entries.users[id.index()]
    }

    pub(crate) fn group(&self, id: GroupId) -> &entry::Group {
        &self.entries.groups[id.index()]
    }

    pub(crate) fn system(&self, id: SystemId) -> &entry::System {
        &self.entries.systems[id.index()]
    }

    pub(crate) fn set(&self, id: SetId) -> &entry::CommandSet {
        &self.entries.command_sets[id.index()]
    }

    pub(crate) fn role(&self, id: RoleId) -> &entry::Role {
        &self.entries.roles[id.index()]
    }

    pub(crate) fn vocabulary(&self, id: VocabularyId) -> &entry::Vocabulary {
        &self.entries.vocabularies[id.index()]
    }

    /// Writes a party as a reference does: `user:watch-1`.
    #[must_use]
    pub fn party(&self, party: Party) -> String {
        match party {
            Party::User(id) => format!("user:{}", self.user(id).id.value),
            Party::Group(id) => format!("group:{}", self.group(id).id.value),
        }
    }
}
