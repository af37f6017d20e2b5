//! References followed and patterns read: people, groups, roles, command sets, assignments, conditions.

mod circles;
mod comparison;
pub(crate) mod condition;
pub(crate) mod path;
pub(crate) mod resolve;

use std::sync::Arc;

pub use crate::id::{AssignmentId, CommandId, GroupId, ModeId, RoleId, SetId, SystemId, UserId, VocabularyId};
pub(crate) use crate::table::Table;
pub(crate) use circles::circles;
pub(crate) use condition::{Condition, Facts, Judged, Networks};
pub use condition::{Conditions, Outcome, Part};
pub(crate) use path::is_within;
pub use resolve::{Ground, Resolver};
pub(crate) use resolve::{Names, look_up};

use crate::command::Pattern;
use crate::entry::{self, Does, Otherwise, RuleVerb};
use crate::source::{At, Place};

/// A user or a group, as a reference names it.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub enum Party {
    /// A user.
    User(UserId),
    /// A group.
    Group(GroupId),
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
