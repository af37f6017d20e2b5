//! Answers: a verdict, every gate that had a say, and where each is written.

use jiff::Timestamp;
use serde::{Deserialize, Serialize};

use crate::id::SetId;
use crate::source::Location;

use super::{Question, Remedy};

/// The stages of an answer, in order. Each of them can refuse.
///
/// # Example
/// ```
/// use zest_ledger::ask::{Refusal, Stage};
/// assert_eq!(Refusal::AboveCeiling.stage(), Stage::Permission);
/// assert!(Stage::Entry < Stage::Standing, "in the order in which they are asked");
/// assert_eq!(Stage::Obligations.word(), "obligations");
/// ```
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(rename_all = "lowercase")]
pub enum Stage {
    /// Can this session be opened at all?
    Entry,
    /// As whom, with which roles, at which level?
    Standing,
    /// Which rules say so?
    Permission,
    /// Do the conditions hold?
    Conditions,
    /// What must be done first?
    Obligations,
}

impl Stage {
    /// Returns the stage's name.
    #[must_use]
    pub const fn word(self) -> &'static str {
        match self {
            Self::Entry => "entry",
            Self::Standing => "standing",
            Self::Permission => "permission",
            Self::Conditions => "conditions",
            Self::Obligations => "obligations",
        }
    }
}

/// The result in one word.
///
/// # Example
/// ```
/// use zest_ledger::ask::Verdict;
/// assert_eq!(Verdict::AllowedAfter.word(), "allowed after obligations");
/// ```
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(rename_all = "lowercase")]
pub enum Verdict {
    /// The action would be carried out.
    Allowed,
    /// It would be carried out once the obligations are met.
    #[serde(rename = "allowed after obligations")]
    AllowedAfter,
    /// It would be refused.
    Denied,
}

impl Verdict {
    /// Returns `allowed`, `allowed after obligations` or `denied`.
    #[must_use]
    pub const fn word(self) -> &'static str {
        match self {
            Self::Allowed => "allowed",
            Self::AllowedAfter => "allowed after obligations",
            Self::Denied => "denied",
        }
    }
}

macro_rules! refusals {
    ($($(#[doc = $doc:literal])+ $name:ident = $slug:literal $stage:ident;)+) => {
        /// The stable code of a refusal.
        ///
        /// # Example
        /// ```
        /// use zest_ledger::ask::{Refusal, Stage};
        /// let refusal = Refusal::AboveCeiling;
        /// assert_eq!((refusal.code(), refusal.stage()), ("above-ceiling", Stage::Permission));
        /// assert_eq!(refusal.description(), "The requested level is above the ceiling of the session's band.");
        /// // A name that is nowhere is a slip of whoever asks.
        /// assert!(Refusal::UnknownSystem.names_nothing() && !refusal.names_nothing());
        /// assert!(Refusal::ALL.contains(&refusal));
        /// ```
        #[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize)]
        #[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
        #[non_exhaustive]
        pub enum Refusal { $($(#[doc = $doc])+ #[serde(rename = $slug)] $name,)+ }

        impl Refusal {
            /// All refusals.
            pub const ALL: &'static [Self] = &[$(Self::$name,)+];

            /// Returns the code, such as `above-ceiling`.
            #[must_use]
            pub const fn code(self) -> &'static str { match self { $(Self::$name => $slug,)+ } }
            /// Returns the stage that refuses.
            #[must_use]
            pub const fn stage(self) -> Stage { match self { $(Self::$name => Stage::$stage,)+ } }
            /// Returns whether the question names a system, role or mode that is not there: a slip of whoever asks, and no
            /// refusal by policy.
            #[must_use]
            pub const fn names_nothing(self) -> bool {
                matches!(self, Self::UnknownSystem | Self::UnknownRole | Self::UnknownMode)
            }
            /// Returns whether it says that a line is none that the system knows, whoever asks.
            ///
            /// # Example
            /// ```
            /// use zest_ledger::ask::Refusal;
            /// assert!(Refusal::UnknownCommand.is_about_line() && !Refusal::DeniedByRule.is_about_line());
            /// ```
            #[must_use]
            pub const fn is_about_line(self) -> bool {
                matches!(
                    self,
                    Self::LineUnreadable
                        | Self::UnknownCommand
                        | Self::IncompleteCommand
                        | Self::AmbiguousAbbreviation
                        | Self::StatementUnreadable
                        | Self::UnknownObject
                        | Self::PrivilegeMisapplied
                        | Self::ProgramNotFull
                        | Self::ActionUnreadable
                        | Self::UnknownOperation
                )
            }
            /// Returns what the code means.
            #[must_use]
            pub fn description(self) -> String {
                match self { $(Self::$name => [$($doc),+].concat().trim().to_owned(),)+ }
            }
        }
    };
}

refusals! {
    /// The ledger declares no such system.
    UnknownSystem = "unknown-system" Entry;
    /// No identity source knows the user.
    UnknownUser = "unknown-user" Entry;
    /// The name exists in other upper and lower case, and the system tells them apart.
    WrongCase = "wrong-case" Entry;
    /// The user is switched off.
    UserDisabled = "user-disabled" Entry;
    /// The user is not valid at this moment.
    UserNotValid = "user-not-valid" Entry;
    /// The user has no way to prove identity.
    NoProof = "no-proof" Entry;
    /// The session states that no proof of identity was given.
    NothingProven = "nothing-proven" Entry;
    /// A proof that was given is not one the user has.
    ProofNotRegistered = "proof-not-registered" Entry;
    /// The user may not come through this channel.
    ChannelNotAllowed = "channel-not-allowed" Entry;
    /// The central source is down and no local account admits the user.
    CentralDownNoAccount = "central-down-no-account" Entry;
    /// Only local accounts may sign in here, and none is the user's.
    NoLocalAccount = "no-local-account" Entry;
    /// A local account is to be used, but the central source answers here and does not know it.
    AccountNotAsked = "account-not-asked" Entry;
    /// The local account is locked.
    AccountLocked = "account-locked" Entry;
    /// The local account has no usable credential.
    AccountWithoutCredential = "account-without-credential" Entry;
    /// The local account is not admitted from this origin.
    OriginNotAdmitted = "origin-not-admitted" Entry;
    /// The assignment or account gives no band, so no session can be opened.
    NoBand = "no-band" Entry;
    /// A fact that the answer depends on is not stated.
    NotStated = "not-stated" Conditions;

    /// No assignment covers this user on this system.
    NoAssignment = "no-assignment" Standing;
    /// The stated level is above the ceiling of the session's band.
    LevelAboveCeiling = "level-above-ceiling" Standing;
    /// No permitted elevation leads to the stated level.
    LevelNotReached = "level-not-reached" Standing;
    /// The device has no such mode.
    UnknownMode = "unknown-mode" Standing;
    /// No permitted command leads into the stated mode.
    ModeNotReached = "mode-not-reached" Standing;
    /// The credential must be changed before anything else.
    CredentialMustChange = "credential-must-change" Standing;

    /// The line cannot be read.
    LineUnreadable = "line-unreadable" Permission;
    /// The device knows no such command.
    UnknownCommand = "unknown-command" Permission;
    /// The device knows the command in another mode only.
    OtherMode = "other-mode" Permission;
    /// The command needs more words.
    IncompleteCommand = "incomplete-command" Permission;
    /// A shortened word could be several.
    AmbiguousAbbreviation = "ambiguous-abbreviation" Permission;
    /// The device's own level for the command is above the session's level.
    LevelTooLow = "level-too-low" Permission;
    /// A rule of a command set refuses the line.
    DeniedByRule = "denied-by-rule" Permission;
    /// No rule of the command sets permits the line.
    NotPermitted = "not-permitted" Permission;
    /// No command set is attached, and on this device that means nothing is permitted.
    NoCommandSet = "no-command-set" Permission;
    /// The requested level is above the ceiling of the session's band.
    AboveCeiling = "above-ceiling" Permission;
    /// This make of device refuses an elevation without a number.
    BareElevation = "bare-elevation" Permission;
    /// The central source is down, and this device then refuses the commands it would ask about.
    CommandsNeedCentral = "commands-need-central" Permission;

    /// The assignment or grant is not valid at this moment.
    AssignmentNotValid = "assignment-not-valid" Conditions;
    /// The session comes from outside the networks of the assignment.
    OriginOutside = "origin-outside" Conditions;
    /// The moment is outside the hours of the assignment.
    OutsideHours = "outside-hours" Conditions;
    /// The day is not one of the assignment's.
    OutsideDays = "outside-days" Conditions;
    /// The channel is not one of the assignment's.
    ChannelOutside = "channel-outside" Conditions;
    /// The proof that the assignment wants was not given, or too long ago.
    ProofMissing = "proof-missing" Conditions;
    /// A comparison of attributes does not hold.
    AttributesDiffer = "attributes-differ" Conditions;

    /// The user has no account on this database server, or none that admits the session.
    NoAccount = "no-account" Entry;
    /// The user has several accounts here, and none was named.
    SeveralAccounts = "several-accounts" Entry;
    /// The role may not open sessions.
    NoLogin = "no-login" Entry;
    /// The credential of the account is past its end.
    CredentialExpired = "credential-expired" Entry;
    /// The account may not open sessions on this database.
    ConnectClosed = "connect-closed" Entry;
    /// The server knows no such role.
    UnknownRole = "unknown-role" Standing;
    /// The account is not a member of the role.
    RoleNotGranted = "role-not-granted" Standing;

    /// The question or the statement cannot be read.
    StatementUnreadable = "statement-unreadable" Permission;
    /// The ledger does not say enough to decide; what is not known never allows.
    NotDecided = "not-decided" Permission;
    /// The inventory of the server has no such object.
    UnknownObject = "unknown-object" Permission;
    /// The privilege does not apply to the object.
    PrivilegeMisapplied = "privilege-misapplied" Permission;
    /// The role may not look into the schema.
    SchemaShut = "schema-shut" Permission;
    /// The role does not hold the privilege.
    NoPrivilege = "no-privilege" Permission;
    /// No policy of row security lets the new row in.
    RowNotLetIn = "row-not-let-in" Permission;
    /// Row security keeps some of the rows back that are asked for.
    RowsWithheld = "rows-withheld" Permission;
    /// The role may not pass the privilege on.
    NoGrantOption = "no-grant-option" Permission;
    /// The role may not pass the membership on.
    NoAdminOption = "no-admin-option" Permission;
    /// The server lets no such membership be: a role would be a member of itself by it, or nobody is made one of that role.
    MembershipBarred = "membership-barred" Permission;
    /// The server lets no such option be given: it would go back to whom it rests on, or to everybody.
    OptionBarred = "option-barred" Permission;
    /// Only the owner may do this.
    NotOwner = "not-owner" Permission;
    /// A switch of the role, such as `create-role`, is off.
    SwitchOff = "switch-off" Permission;

    /// The question states a fact that this kind of system does not look at; nothing of a question is dropped.
    FactNotHeard = "fact-not-heard" Entry;
    /// The session is over.
    SessionExpired = "session-expired" Entry;
    /// The system accepts no proof of this kind on this channel.
    ProofNotAccepted = "proof-not-accepted" Entry;
    /// The ledger knows nobody by the name of the acting identity.
    UnknownActingIdentity = "unknown-acting-identity" Standing;
    /// The acting identity cannot be used now: it is switched off or not valid.
    ActingIdentityUnusable = "acting-identity-unusable" Standing;
    /// No rule lets the user act as this one.
    MayNotActAs = "may-not-act-as" Standing;
    /// The acting identity does not hold the right to assume the role.
    MayNotAssume = "may-not-assume" Standing;
    /// The role does not admit the acting identity.
    RoleDoesNotAdmit = "role-does-not-admit" Standing;
    /// The acting chain comes back to an identity it has left.
    ActingLoop = "acting-loop" Standing;
    /// This kind of system knows no link of this sort.
    ActingNotKnown = "acting-not-known" Standing;
    /// The session of the assumed role is over: it has a longest time.
    AssumptionExpired = "assumption-expired" Standing;
    /// The role was assumed before the identity it is assumed from had begun.
    AssumedTooEarly = "assumed-too-early" Standing;
    /// The session states an attribute that the system does not let it state.
    AttributeNotAdmitted = "attribute-not-admitted" Standing;
    /// Roles are held together that nobody may hold together.
    DutiesNotSeparated = "duties-not-separated" Standing;
    /// Roles are active together that must not be.
    RolesActiveTogether = "roles-active-together" Standing;

    /// The login shell of the account refuses whoever logs in.
    ShellRefuses = "shell-refuses" Entry;
    /// Nobody signs in with the account: only certain lines may be run as it.
    AccountLimited = "account-limited" Entry;
    /// The line does not begin with the full path of a program.
    ProgramNotFull = "program-not-full" Permission;
    /// The host joins the arguments with blanks, and its own rules would decide otherwise than the ledger.
    JoinedArguments = "joined-arguments" Permission;
    /// A variable may not be handed over.
    EnvironmentNotKept = "environment-not-kept" Permission;

    /// The question does not name an operation and a resource.
    ActionUnreadable = "action-unreadable" Permission;
    /// The system has no such operation.
    UnknownOperation = "unknown-operation" Permission;
    /// A deny concerns the operation on the resource.
    DeniedByGrant = "denied-by-grant" Permission;
    /// The grant does not hold while its `lifted-by` holds.
    GrantLifted = "grant-lifted" Conditions;
    /// Nothing grants the operation on the resource.
    NotGranted = "not-granted" Permission;
    /// It is granted, but above what a ceiling lets through.
    CutByCeiling = "cut-by-ceiling" Permission;

    /// The second person is the user himself.
    SamePerson = "same-person" Obligations;
    /// The second person is not one who may agree, or could not run the line at this moment.
    NotEntitled = "not-entitled" Obligations;
    /// Something must be done first that nobody can do.
    NobodyCan = "nobody-can" Obligations;
}

/// A rule of a command set.
///
/// Two are equal if they are the same rule at the same place of a set of the same name, also in two engines of which one numbers its
/// sets otherwise.
///
/// # Example
/// ```
/// use zest_ledger::{Engine, Ledger, Question};
/// # let text = r#"
/// # users.watch-1.proofs = ["password"]
/// # vocabularies.corvane-os.commands = [{ line = "show log" }]
/// # command-sets.look-only.rules = ["allow show ..."]
/// # roles.reader = { band = { start = 1, ceiling = 1 }, commands = ["look-only"] }
/// # systems.sw-1 = { kind = "network-device", vocabulary = "corvane-os", no-command-set = "nothing", authorisation = { levels = "all", configuration = true } }
/// # assignments = [{ to = ["user:watch-1"], roles = ["reader"], on = { all = true } }]
/// # "#;
/// let engine = Engine::compile(Ledger::new().document("it.toml", text).estate()?)?;
/// let rule = engine.decide(&Question::new("watch-1", "sw-1", "show log")).rule.expect("a rule permits it");
/// assert_eq!((engine.estate().set(rule.set).id.value.as_str(), rule.index), ("look-only", 0));
/// # Ok::<(), zest_ledger::finding::Findings>(())
/// ```
#[derive(Clone, Copy, Debug)]
pub struct RuleRef {
    /// The set whose automaton decided.
    pub set: SetId,
    /// The rule's position in the set, included sets counted in.
    pub index: u32,
    /// The name of the set, the position and the rule's text, hashed to 64 bits.
    #[doc(hidden)]
    pub meaning: u64,
}

impl PartialEq for RuleRef {
    fn eq(&self, other: &Self) -> bool {
        self.meaning == other.meaning
    }
}

impl Eq for RuleRef {}

impl std::hash::Hash for RuleRef {
    fn hash<H: std::hash::Hasher>(&self, state: &mut H) {
        self.meaning.hash(state);
    }
}

/// A verdict without its explanation: what a decision costs nothing more than.
///
/// # Example
/// ```
/// use zest_ledger::{Engine, Ledger, Question, ask::{Refusal, Verdict}};
/// let text = "users.watch-1.proofs = ['password']\nsystems.rota.kind = 'application'";
/// let engine = Engine::compile(Ledger::new().document("it.toml", text).estate()?)?;
/// let decision = engine.decide(&Question::new("watch-1", "sw-1", "show log"));
/// assert_eq!((decision.verdict, decision.refusal), (Verdict::Denied, Some(Refusal::UnknownSystem)));
/// assert!(decision.rule.is_none());
/// # Ok::<(), zest_ledger::finding::Findings>(())
/// ```
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Decision {
    /// The verdict.
    pub verdict: Verdict,
    /// The first refusal, for a denied action.
    pub refusal: Option<Refusal>,
    /// The rule that decided, where a command set did.
    pub rule: Option<RuleRef>,
    #[doc(hidden)]
    pub more: crate::More,
}

/// What a gate said.
///
/// # Example
/// ```
/// use zest_ledger::ask::{GateOutcome, Refusal};
/// let outcome = GateOutcome::Refuses(Refusal::NoAssignment);
/// assert_ne!(outcome, GateOutcome::Passes);
/// ```
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum GateOutcome {
    /// It lets the action through.
    Passes,
    /// It refuses the action.
    Refuses(Refusal),
    /// It wants something done first.
    Asks,
}

/// One reason in an answer, with the entry it rests on.
///
/// # Example
/// ```
/// use zest_ledger::{Engine, Ledger, Question, ask::{GateOutcome, Refusal, Stage}};
/// # let text = "users.watch-1.proofs = ['password']\nsystems.rota.kind = 'application'\napplications.rota = { types.shift.rights = ['plan'], objects.'shift/early' = {} }";
/// let engine = Engine::compile(Ledger::new().document("it.toml", text).estate()?)?;
/// let answer = engine.explain(&Question::new("watch-1", "rota", "plan on shift/early"));
/// let gate = answer.first_refusal().expect("nothing grants it");
/// assert_eq!((gate.stage, gate.outcome), (Stage::Permission, GateOutcome::Refuses(Refusal::NotGranted)));
/// assert_eq!(gate.text, "nothing grants `watch-1` `plan` on `shift/early`");
/// # Ok::<(), zest_ledger::finding::Findings>(())
/// ```
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Gate {
    /// Its stage.
    pub stage: Stage,
    /// What it said.
    pub outcome: GateOutcome,
    /// Why, in a sentence without a full stop; safe to print.
    pub text: String,
    /// The entry it rests on; none where a default of the format or the absence of an entry decides.
    pub location: Option<Location>,
    #[doc(hidden)]
    pub more: crate::More,
}

/// With what a gate begins that says no more than that something was taken and is held all the same.
#[doc(hidden)]
pub const STILL_SO: &str = "still so, though a revoke took it from";

impl Gate {
    /// Returns whether it is a remark on the gate before it, and gives nothing itself.
    #[doc(hidden)]
    #[must_use]
    pub fn is_remark(&self) -> bool {
        self.text.starts_with(STILL_SO)
    }
}

/// An explained answer.
///
/// Two answers are equal if they say the same: also answers of two engines, of which one may have rules that the other has not.
///
/// # Example
/// ```
/// use zest_ledger::{Engine, Ledger, Question, ask::{Refusal, Verdict}};
/// # let text = "users.watch-1.proofs = ['password']\nsystems.rota.kind = 'application'\napplications.rota = { types.shift.rights = ['plan'], objects.'shift/early' = {} }";
/// let engine = Engine::compile(Ledger::new().document("it.toml", text).estate()?)?;
/// let answer = engine.ask(&Question::new("watch-1", "rota", "plan on shift/early"));
/// assert_eq!((answer.verdict, answer.refusal), (Verdict::Denied, Some(Refusal::NotGranted)));
/// // What would turn it round, the narrowest first.
/// assert_eq!(answer.remedies[0].steps[0].text, "if `user:watch-1` were granted `plan` on `shift/early`");
/// # Ok::<(), zest_ledger::finding::Findings>(())
/// ```
#[derive(Clone, Debug)]
pub struct Answer {
    /// The question.
    pub question: Question,
    /// The verdict.
    pub verdict: Verdict,
    /// The first refusal, for a denied action.
    pub refusal: Option<Refusal>,
    /// The rule that decided, where a command set did.
    pub rule: Option<RuleRef>,
    /// Every gate that had a say, in order; after the first refusal also those that would refuse as well.
    pub gates: Vec<Gate>,
    /// The full words of the line, when the device understands it.
    pub full_line: Option<String>,
    /// The level at which the line would run.
    pub level: Option<u8>,
    /// The local account of the session, where the local source answers.
    pub account: Option<String>,
    /// On a database server, the object that the first refusal is about.
    pub object: Option<String>,
    /// For a refusal: changes that turn it round, each was tried. Those of the session come first, then the narrowest of the ledger.
    pub remedies: Vec<Remedy>,
    /// For a refusal that nothing small turns round: some people who are allowed the same, in the same session.
    pub able: Vec<String>,
    /// Whether remedies were looked for; where they were not, none means nothing.
    pub sought: bool,
    /// The moment of asking, where it is known: no remedy lies before it.
    #[doc(hidden)]
    pub now: Option<Timestamp>,
    #[doc(hidden)]
    pub more: crate::More,
}

impl PartialEq for Answer {
    /// Whether two answers say the same: the rule has a number in its engine, and the gates name it; the moment of asking decides
    /// nothing.
    fn eq(&self, other: &Self) -> bool {
        let Self { question, verdict, refusal, rule: _, gates, full_line, level, account, object, remedies, able, sought, now: _, more: _ } =
            self;
        *question == other.question
            && *verdict == other.verdict
            && *refusal == other.refusal
            && *gates == other.gates
            && *full_line == other.full_line
            && *level == other.level
            && *account == other.account
            && *object == other.object
            && *remedies == other.remedies
            && *able == other.able
            && *sought == other.sought
    }
}

impl Answer {
    /// Returns the gate that refused first.
    #[must_use]
    pub fn first_refusal(&self) -> Option<&Gate> {
        self.gates.iter().find(|g| matches!(g.outcome, GateOutcome::Refuses(code) if Some(code) == self.refusal))
    }

    /// Returns the decision without its explanation.
    #[doc(hidden)]
    #[must_use]
    pub const fn decision(&self) -> Decision {
        Decision { verdict: self.verdict, refusal: self.refusal, rule: self.rule, more: crate::More }
    }

    /// Returns the last gate that permits the action.
    #[doc(hidden)]
    #[must_use]
    pub fn last_permit(&self) -> Option<&Gate> {
        self.gates.iter().rev().find(|gate| gate.stage == Stage::Permission && gate.outcome == GateOutcome::Passes)
    }

    /// Returns the gates that refuse or ask for something.
    ///
    /// # Example
    /// ```
    /// use zest_ledger::{Ledger, Question, ask::Stage};
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
    /// let answer = engine.explain(&Question::new("mate-2", "rota", "plan on shift/early"));
    /// assert!(answer.open_gates().all(|gate| gate.stage == Stage::Permission) && answer.open_gates().count() == 1);
    /// # Ok::<(), zest_ledger::finding::Findings>(())
    /// ```
    pub fn open_gates(&self) -> impl Iterator<Item = &Gate> {
        self.gates.iter().filter(|g| g.outcome != GateOutcome::Passes)
    }
}
