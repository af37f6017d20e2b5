//! References followed and patterns read: people, groups, roles, command sets, assignments, conditions.

mod circles;
mod comparison;
pub(crate) mod condition;
pub(crate) mod path;
pub mod resolve;

use std::sync::{Arc, OnceLock};

pub(crate) use circles::circles;
pub(crate) use condition::{Condition, Facts, Judged, Networks};
pub use condition::{Conditions, Outcome, Part};
pub use path::SOMETHING;
pub(crate) use path::is_within;
pub use resolve::{Ground, Resolver};
pub use resolve::{Index, Names, look_up};
pub use zest_model::id::{AssignmentId, CommandId, GroupId, ModeId, RoleId, SetId, SystemId, UserId, VocabularyId};
pub(crate) use zest_model::table::Table;

use zest_command::Pattern;
use zest_command::tree::Tree;
use zest_model::entry::{self, Does, Otherwise, RuleVerb};
use zest_model::source::{At, Place};

/// A user or a group, as a reference names it.
///
/// # Example
/// ```
/// use zest_ledger::{Engine, Ledger, estate::Party};
/// let text = "systems.rota.kind = 'application'\nusers.a = {}\ngroups.watch.members = ['user:a']\n";
/// let engine = Engine::compile(Ledger::new().document("it.toml", text).estate()?)?;
/// let group = Party::Group(engine.find_group("watch").expect("it is declared"));
/// assert_eq!(engine.estate().party(group), "group:watch");
/// # Ok::<(), zest_ledger::finding::Findings>(())
/// ```
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub enum Party {
    /// A user.
    User(UserId),
    /// A group.
    Group(GroupId),
}

/// A group with its references followed.
#[derive(Debug, Default)]
pub struct GroupLinks {
    /// Its members.
    pub members: Vec<(Party, Place)>,
    /// Its owners.
    pub owners: Vec<(Party, Place)>,
}

/// A vocabulary with its patterns read.
#[derive(Debug)]
pub struct VocabularyLinks {
    pub(crate) modes: Vec<String>,
    pub(crate) start_mode: ModeId,
    /// Its commands.
    pub commands: Vec<CommandLinks>,
    /// The level of each command: devices that state no other share the list.
    pub(crate) levels: Arc<[OwnLevel]>,
}

/// The level of a command, and the place of the device that states it, if one does.
pub(crate) type OwnLevel = (u8, Option<Place>);

/// A command of a vocabulary.
#[derive(Clone, Debug)]
pub struct CommandLinks {
    /// Its line, as written.
    pub line: String,
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
pub struct FlatRule {
    /// Whether it allows or denies.
    pub verb: RuleVerb,
    /// Which lines it matches.
    pub pattern: Arc<Pattern>,
    /// As it is written.
    pub text: At<String>,
    /// The set it was written in.
    pub home: SetId,
    pub(crate) after: Option<Arc<Duties>>,
}

/// Obligations with their references followed.
///
/// # Example
/// ```
/// use zest_ledger::{Question, estate::UserId, kind::{Duties, Site, Stop, Trace}};
/// fn hand_over(site: Site<'_>, user: UserId, question: &Question, duties: &Duties, trace: &mut Trace) -> Result<(), Stop> {
///     site.obligations(user, question, duties, trace)
/// }
/// ```
#[derive(Clone, Debug)]
pub struct Duties {
    pub(crate) confirm: Option<Place>,
    pub(crate) prove_again: Option<At<jiff::SignedDuration>>,
    pub(crate) second_person: Vec<(Party, Place)>,
    /// Where it says that anyone entitled may be the second person.
    pub(crate) anyone: Option<Place>,
}

/// A command set with included sets in their places.
#[derive(Debug)]
pub struct SetLinks {
    /// Its rules, in order.
    pub rules: Vec<FlatRule>,
    pub(crate) otherwise: Otherwise,
    tree: OnceLock<Tree>,
}

impl SetLinks {
    pub(crate) fn new(rules: Vec<FlatRule>, otherwise: Otherwise) -> Self {
        Self { rules, otherwise, tree: OnceLock::new() }
    }

    /// Returns its patterns as a tree, for kinds that compare words in a way of their own.
    pub(crate) fn tree(&self) -> &Tree {
        self.tree.get_or_init(|| Tree::of(self.rules.iter().map(|rule| &*rule.pattern)))
    }
}

/// A role with its references followed.
#[derive(Debug, Default)]
pub struct RoleLinks {
    /// The roles it includes.
    pub includes: Vec<RoleId>,
    /// Its command sets.
    pub sets: Vec<SetId>,
    /// Who may assume it.
    pub assumable: Option<AssumableLinks>,
}

/// Whoever a grant, a ceiling or an assumption is for.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub(crate) enum Holder {
    Party(Party),
    Role(RoleId),
}

/// Who may assume a role.
#[derive(Clone, Debug)]
pub struct AssumableLinks {
    pub(crate) by: Vec<(Holder, Place)>,
    /// When it may be assumed.
    pub when: Conditions,
    pub(crate) longest: Option<At<jiff::SignedDuration>>,
    pub(crate) may_state: Vec<String>,
    /// The resource that the role is: `role/ID`.
    pub(crate) resource: Arc<str>,
    pub(crate) place: Place,
}

/// What the credentials of some people must be like.
#[derive(Debug)]
pub struct CredentialRuleLinks {
    /// Whose credentials.
    pub of: Vec<(Party, Place)>,
    /// The least length, in characters.
    pub shortest: Option<At<u32>>,
    /// The greatest age, in days.
    pub oldest_days: Option<At<u32>>,
}

/// Roles of which nobody may have two.
#[derive(Debug)]
pub struct SeparationLinks {
    pub(crate) name: String,
    pub(crate) roles: Vec<RoleId>,
    /// Whether it is about what is active in one session, not about what is held.
    pub when_active: bool,
    /// Where it is written.
    pub place: Place,
}

/// An assignment with its references followed.
#[derive(Debug)]
pub struct AssignmentLinks {
    /// As it is written.
    pub entry: Arc<entry::Assignment>,
    /// Whom it is for.
    pub to: Vec<(Party, Place)>,
    /// The roles.
    pub roles: Vec<RoleId>,
    /// The systems it covers, one bit each.
    pub systems: fixedbitset::FixedBitSet,
    /// When it counts.
    pub conditions: Conditions,
}
