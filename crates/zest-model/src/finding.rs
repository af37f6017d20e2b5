//! Findings: what is wrong or odd in a ledger, each with a stable code, a place and a way to mend it.

use std::fmt;
use std::sync::Arc;

use std::ops::Range;

use crate::source::{Place, SourceId, SourceMap, Span, visible};

/// How grave a finding is. Errors stop answers; warnings and notes do not.
///
/// # Example
/// ```
/// use zest_ledger::finding::{Code, Severity};
/// assert_eq!(Code::UnknownReference.severity(), Severity::Error);
/// assert!(Severity::Error < Severity::Warning);
/// ```
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub enum Severity {
    /// The ledger cannot be used.
    Error,
    /// The ledger can be used, but something in it will surprise somebody.
    Warning,
    /// Worth knowing.
    Note,
}

impl Severity {
    /// Returns `error`, `warning` or `note`.
    ///
    /// # Example
    /// ```
    /// assert_eq!(zest_ledger::finding::Severity::Note.word(), "note");
    /// ```
    #[must_use]
    pub const fn word(self) -> &'static str {
        match self {
            Self::Error => "error",
            Self::Warning => "warning",
            Self::Note => "note",
        }
    }
}

macro_rules! codes {
    ($($(#[doc = $doc:literal])+ $name:ident = $number:literal $slug:literal $severity:ident;)+) => {
        /// The stable code of a finding: a number and a slug that never change their meaning.
        ///
        /// # Example
        /// ```
        /// use zest_ledger::finding::Code;
        /// assert_eq!(Code::UnknownReference.to_string(), "ZL0201");
        /// assert!(Code::ALL.contains(&Code::UnknownReference));
        /// ```
        #[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Hash)]
        #[non_exhaustive]
        pub enum Code { $($(#[doc = $doc])+ $name,)+ }

        impl Code {
            /// All codes, by number.
            pub const ALL: &'static [Self] = &[$(Self::$name,)+];

            /// Returns the number, such as `ZL0201`.
            ///
            /// # Example
            /// ```
            /// assert_eq!(zest_ledger::finding::Code::UnknownReference.number(), "ZL0201");
            /// ```
            #[must_use]
            pub const fn number(self) -> &'static str { match self { $(Self::$name => $number,)+ } }
            /// Returns the slug, such as `unknown-reference`.
            ///
            /// # Example
            /// ```
            /// assert_eq!(zest_ledger::finding::Code::UnknownReference.slug(), "unknown-reference");
            /// ```
            #[must_use]
            pub const fn slug(self) -> &'static str { match self { $(Self::$name => $slug,)+ } }
            /// Returns the severity.
            ///
            /// # Example
            /// ```
            /// use zest_ledger::finding::{Code, Severity};
            /// assert_eq!(Code::NotRead.severity(), Severity::Note);
            /// ```
            #[must_use]
            pub const fn severity(self) -> Severity { match self { $(Self::$name => Severity::$severity,)+ } }
            /// Returns what the code means, in a sentence or two.
            ///
            /// # Example
            /// ```
            /// assert!(zest_ledger::finding::Code::UnknownReference.description().starts_with("A "));
            /// ```
            #[must_use]
            pub fn description(self) -> String {
                match self { $(Self::$name => [$($doc),+].concat().trim().to_owned(),)+ }
            }
        }
    };
}

codes! {
    /// The document is not readable as TOML 1.1 at this point.
    Syntax = "ZL0101" "syntax" Error;
    /// The document is not valid UTF-8 text.
    NotText = "ZL0102" "not-text" Error;
    /// The document cannot be read from where it is kept, or is too large to be read.
    Unreadable = "ZL0103" "unreadable" Error;
    /// The ledger has no document, or no document declares anything.
    EmptyLedger = "ZL0104" "empty-ledger" Error;
    /// The ledger declares no system, so no question about it can be answered.
    NoSystem = "ZL0105" "no-system" Error;
    /// The key is not one that this table knows.
    UnknownKey = "ZL0106" "unknown-key" Error;
    /// A value has another type than the key takes.
    WrongType = "ZL0107" "wrong-type" Error;
    /// A key that the table must have is missing.
    MissingKey = "ZL0108" "missing-key" Error;
    /// A word is not one of those that the key takes.
    UnknownWord = "ZL0109" "unknown-word" Error;
    /// A number is outside the range the key takes; privilege levels run from 0 to 15.
    OutOfRange = "ZL0110" "out-of-range" Error;
    /// An id is empty, too long, or holds control characters or blanks at its ends.
    BadName = "ZL0111" "bad-name" Error;
    /// A key seems to hold a secret; a ledger never does. The value is not shown.
    SecretInLedger = "ZL0112" "secret-in-ledger" Error;
    /// A network address, a time window, a zone, a duration or a moment cannot be read.
    BadValue = "ZL0113" "bad-value" Error;
    /// The ledger is written in a format version that this program does not know.
    UnknownVersion = "ZL0114" "unknown-version" Error;
    /// The key has another name now; the finding says which.
    RenamedKey = "ZL0115" "renamed-key" Error;
    /// A file that could be a document is not read.
    NotRead = "ZL0116" "not-read" Note;

    /// A reference names an entry that the ledger does not declare.
    UnknownReference = "ZL0201" "unknown-reference" Error;
    /// A reference is not written as `user:ID`, `group:ID` or `origin:ID`, or names the wrong type of entry.
    BadReference = "ZL0202" "bad-reference" Error;
    /// The same id is declared twice in the same table, in one document or in two.
    DuplicateId = "ZL0203" "duplicate-id" Error;
    /// Groups contain each other in a circle.
    GroupCycle = "ZL0204" "group-cycle" Error;
    /// Roles include each other in a circle.
    RoleCycle = "ZL0205" "role-cycle" Error;
    /// Command sets include each other in a circle.
    CommandSetCycle = "ZL0206" "command-set-cycle" Error;

    /// A pattern cannot be read.
    BadPattern = "ZL0301" "bad-pattern" Error;
    /// A band's start is above its ceiling.
    BadBand = "ZL0302" "bad-band" Error;
    /// A command set, or all patterns of the ledger together, need a larger automaton than is allowed.
    CommandSetTooLarge = "ZL0303" "command-set-too-large" Error;
    /// A command of a vocabulary contradicts itself or another one.
    BadCommand = "ZL0304" "bad-command" Error;
    /// A network device or a host is declared without something its kind cannot do without.
    IncompleteSystem = "ZL0305" "incomplete-system" Error;
    /// A validity or a time window ends before it starts.
    EmptyWindow = "ZL0306" "empty-window" Error;

    /// A user has no way to prove identity, so he signs in nowhere but with accounts that have credentials of their own.
    UserWithoutProof = "ZL0401" "user-without-proof" Warning;
    /// A user reaches no system: no assignment covers him, directly or through a group.
    UserWithoutAssignment = "ZL0402" "user-without-assignment" Warning;
    /// An assignment names a person; rights are easier to review when groups hold them.
    PersonalAssignment = "ZL0403" "personal-assignment" Warning;
    /// A group has no owner who could be asked about it.
    GroupWithoutOwner = "ZL0404" "group-without-owner" Warning;
    /// Every owner of a group is disabled, or past the end.
    GroupOwnersInactive = "ZL0405" "group-owners-inactive" Warning;
    /// A group has no member and no directory link.
    EmptyGroup = "ZL0406" "empty-group" Warning;
    /// A user who is disabled, or past the end, is still named somewhere.
    DisabledUserKept = "ZL0407" "disabled-user-kept" Note;
    /// Two ids differ in upper and lower case only.
    IdsDifferInCase = "ZL0408" "ids-differ-in-case" Warning;
    /// Two ids look alike though their characters are others, such as a Latin and a Cyrillic letter.
    IdsLookAlike = "ZL0409" "ids-look-alike" Warning;
    /// An expectation cannot be asked: it names what is not there, states what cannot be read, or asks nothing. It counts as failed.
    NotAsked = "ZL0410" "not-asked" Warning;
    /// A grant or an assignment says what another says already: mostly it was copied and not changed.
    Repeated = "ZL0411" "repeated" Warning;
    /// Two roles, or two command sets, give the same under two names.
    SameContent = "ZL0412" "same-content" Note;
    /// A grant with conditions stands beside the same without, which passes them by.
    ConditionPassedBy = "ZL0413" "condition-passed-by" Warning;

    /// A role is never assigned and no role includes it.
    RoleUnassigned = "ZL0501" "role-unassigned" Warning;
    /// A role gives neither a band nor a command set.
    EmptyRole = "ZL0502" "empty-role" Warning;
    /// An assignment covers no system.
    AssignmentCoversNothing = "ZL0503" "assignment-covers-nothing" Warning;
    /// An earlier assignment without conditions reaches everybody this one reaches, on every system it covers.
    AssignmentHidden = "ZL0504" "assignment-hidden" Warning;
    /// An assignment gives no band, so nobody can open a session through it.
    AssignmentWithoutBand = "ZL0505" "assignment-without-band" Warning;
    /// An assignment, a user, an account or a grant is past its `until`.
    Expired = "ZL0506" "expired" Note;
    /// Hours run over midnight and days are given: the night belongs to the day on which it begins.
    NightOfDay = "ZL0507" "night-of-day" Note;

    /// A rule decides nothing: earlier rules of the set match every line that it matches.
    RuleHidden = "ZL0601" "rule-hidden" Warning;
    /// A rule matches no command of any vocabulary that the set is used with.
    RuleMatchesNoCommand = "ZL0602" "rule-matches-no-command" Warning;
    /// A rule allows commands that no session of its users can reach the level for.
    RuleLevelUnreachable = "ZL0603" "rule-level-unreachable" Warning;
    /// The command sets in force permit no line that leaves the session.
    CannotLeave = "ZL0604" "cannot-leave" Warning;
    /// The command sets in force do not permit the line that shows the current level.
    CannotShowLevel = "ZL0605" "cannot-show-level" Note;
    /// The command sets permit an elevation that the band's ceiling forbids.
    ElevationAboveCeiling = "ZL0606" "elevation-above-ceiling" Warning;
    /// The band's ceiling cannot be reached: the command sets permit no elevation that leads there.
    CeilingUnreachable = "ZL0607" "ceiling-unreachable" Warning;
    /// No assignment and no role uses the command set.
    CommandSetUnused = "ZL0608" "command-set-unused" Note;
    /// A permitted command enters a mode that cannot be left again.
    CannotLeaveMode = "ZL0609" "cannot-leave-mode" Warning;
    /// A deny takes fewer words than the vocabulary does in the same place, and so lets some lines pass.
    DenyTooNarrow = "ZL0610" "deny-too-narrow" Warning;

    /// A device has no local account that could reach level 15 while the central source is down.
    NoEmergencyAccount = "ZL0701" "no-emergency-account" Warning;
    /// An account is admitted from any origin.
    AccountFromAnywhere = "ZL0702" "account-from-anywhere" Warning;
    /// An account has no credential set, so nobody can sign in with it.
    AccountWithoutCredential = "ZL0703" "account-without-credential" Warning;
    /// Commands are authorised centrally by level, but not in configuration modes.
    ConfigurationUnauthorised = "ZL0704" "configuration-unauthorised" Warning;
    /// Some levels that sessions can reach are not authorised centrally, so command sets do not apply there.
    LevelUnauthorised = "ZL0705" "level-unauthorised" Warning;
    /// Nobody can reach level 15 on this device while the central source is up.
    NobodyReachesTop = "ZL0706" "nobody-reaches-top" Warning;
    /// While the central source is down this device refuses every command, and so locks everybody out.
    OutageLocksOut = "ZL0707" "outage-locks-out" Warning;
    /// An account is never asked for: the order of identity sources does not name the local one.
    AccountNeverUsed = "ZL0708" "account-never-used" Warning;
    /// A system is covered by no assignment.
    SystemUncovered = "ZL0709" "system-uncovered" Warning;
    /// An emergency account is open to nobody: it names no user or group who may use it.
    AccountForNobody = "ZL0710" "account-for-nobody" Warning;
    /// Command sets reach sessions on a device that never asks them.
    CommandSetsNotAsked = "ZL0711" "command-sets-not-asked" Warning;

    /// A text does not name an object of a database.
    BadObject = "ZL0801" "bad-object" Error;
    /// A privilege does not exist, or does not apply to the object it is granted on.
    PrivilegeMisapplied = "ZL0802" "privilege-misapplied" Error;
    /// A deny is written for a database server, which knows none.
    DenyNotKnown = "ZL0803" "deny-not-known" Error;
    /// The database server would refuse the grant or revoke.
    GrantRefused = "ZL0804" "grant-refused" Error;
    /// A revoke takes nothing away.
    RevokeWithoutEffect = "ZL0805" "revoke-without-effect" Warning;
    /// A database is described, but no system of a database kind has its id.
    DatabaseWithoutServer = "ZL0806" "database-without-server" Error;
    /// Everybody holds a privilege on a database server, through PUBLIC.
    PublicGrant = "ZL0807" "public-grant" Warning;
    /// An account of a database server holds a grant by itself and not through a role.
    GrantToAccount = "ZL0808" "grant-to-account" Note;
    /// A broad grant stands beside a narrow one, which narrows nothing then.
    BroadBesideNarrow = "ZL0809" "broad-beside-narrow" Warning;
    /// An account of a database server cannot open a session on the database.
    CannotConnect = "ZL0810" "cannot-connect" Warning;
    /// A role holds a privilege in a schema that it may not look into.
    SchemaShut = "ZL0811" "schema-shut" Warning;
    /// No user of the ledger stands behind an account of a database server.
    AccountWithoutUser = "ZL0812" "account-without-user" Note;
    /// A person's own account has all rights.
    StrongAccount = "ZL0813" "strong-account" Warning;
    /// A role of a database server holds nothing.
    EmptyDatabaseRole = "ZL0814" "empty-database-role" Warning;
    /// Nobody is a member of a role of a database server.
    DatabaseRoleUnused = "ZL0815" "database-role-unused" Note;
    /// An account is admitted from any origin.
    AnyOrigin = "ZL0816" "any-origin" Warning;
    /// An anonymous account lets unknown names in, and may take sessions from named accounts.
    AnonymousAccount = "ZL0817" "anonymous-account" Warning;
    /// An account was granted roles, and none of them is active when it signs in.
    NoDefaultRole = "ZL0818" "no-default-role" Note;
    /// No superuser of a database server can sign in.
    NoSuperuser = "ZL0819" "no-superuser" Warning;
    /// A note on what is not modelled does not begin with a sort that is known.
    UnknownNotModelled = "ZL0820" "unknown-not-modelled" Error;
    /// The default role of an account was not granted to it, so that it is not active when the account signs in.
    DefaultRoleNotGranted = "ZL0821" "default-role-not-granted" Warning;

    /// An interface cannot be read as an OpenAPI 3.0 or 3.1 document, or describes an operation twice.
    BadInterface = "ZL0901" "bad-interface" Error;
    /// A reference in an interface leads nowhere.
    InterfaceReference = "ZL0902" "interface-reference" Warning;
    /// A cloud or an application is described, but no system of that kind has its id.
    ServiceWithoutSystem = "ZL0903" "service-without-system" Error;
    /// An operation or a group of operations is not known where it is named.
    UnknownOperation = "ZL0904" "unknown-operation" Error;
    /// A path or a pattern over paths cannot be read, or names nothing that is declared.
    BadPath = "ZL0905" "bad-path" Error;
    /// A comparison of attributes cannot be read.
    BadComparison = "ZL0906" "bad-comparison" Error;
    /// An attribute is compared that nothing in the ledger has.
    UnknownAttribute = "ZL0907" "unknown-attribute" Error;
    /// A condition can never hold: its parts contradict each other.
    ImpossibleCondition = "ZL0908" "impossible-condition" Error;
    /// A grant says neither what it allows nor what it denies, or says both, or to nobody or on nothing.
    IncompleteGrant = "ZL0909" "incomplete-grant" Error;
    /// A deny rests on an old proof, and so does not bite where there is no proof at all.
    NaiveProofDeny = "ZL0910" "naive-proof-deny" Warning;
    /// A deny until identity is proven leaves no operation by which it could be proven.
    ProofUnobtainable = "ZL0911" "proof-unobtainable" Warning;
    /// Roles can be assumed from each other in a circle.
    AssumptionCycle = "ZL0912" "assumption-cycle" Warning;
    /// Only one half of an assumption is there: a right to assume without a role that admits, or the reverse.
    AssumptionHalf = "ZL0913" "assumption-half" Warning;
    /// An obligation rests on identity checks, and those are switched off.
    ProtectionInoperative = "ZL0914" "protection-inoperative" Warning;
    /// Nobody can agree as second person to something that one person may do.
    NoSecondPerson = "ZL0915" "no-second-person" Warning;
    /// Somebody holds roles that nobody may hold together.
    DutiesNotSeparated = "ZL0916" "duties-not-separated" Warning;
    /// Every operation on everything is granted, without a condition or an obligation.
    GrantOfEverything = "ZL0917" "grant-of-everything" Warning;
    /// A credential may be reset by somebody who holds less than its owner.
    ResetUpwards = "ZL0918" "reset-upwards" Warning;
    /// A host is described, but no system of that kind has its id.
    HostWithoutSystem = "ZL0919" "host-without-system" Error;
    /// A host cannot be told a rule of a command set that it uses.
    HostCannotSay = "ZL0920" "host-cannot-say" Error;
    /// A job can be edited by somebody who may not do everything as the account it runs as.
    JobEditorBecomes = "ZL0921" "job-editor-becomes" Warning;
    /// Somebody may run anything at all as another account.
    RunAnything = "ZL0922" "run-anything" Warning;
    /// A grant, a deny or a ceiling is on a path that no resource declares.
    PathNotDeclared = "ZL0923" "path-not-declared" Warning;
    /// Nobody can sign in on a host.
    NobodySignsIn = "ZL0924" "nobody-signs-in" Warning;
    /// By changes of what runs, somebody comes to run anything as root.
    WayToRoot = "ZL0925" "way-to-root" Warning;
    /// A deny on a host does not catch every spelling of what it means.
    DenyPassed = "ZL0926" "deny-passed" Warning;
    /// A variable that is handed over can make a program run anything.
    VariableRunsAnything = "ZL0927" "variable-runs-anything" Warning;
    /// By acts that give more, somebody comes to the top of a system, and nobody stated that it is meant.
    WayToTop = "ZL0928" "way-to-top" Warning;
    /// From some people ways to the top of systems were not looked for: it would take long.
    WaysNotLookedFor = "ZL0929" "ways-not-looked-for" Note;
    /// A group into which somebody is taken on a way to the top of a system has no owner.
    OwnerlessStep = "ZL0930" "ownerless-step" Warning;
}

impl fmt::Display for Code {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(self.number())
    }
}

/// A place with a short remark, underlined when the finding is shown.
///
/// # Example
/// ```
/// use zest_ledger::{finding::{Code, Finding}, source::Place};
/// let finding = Finding::new(Code::BadValue, "`x` is no level").at(Place::here(), "not a number");
/// assert_eq!(finding.primary.expect("just said").text, "not a number");
/// ```
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Label {
    /// What to underline.
    pub place: Place,
    /// What to say about it; may be empty.
    pub text: String,
}

/// One defect of a ledger.
///
/// # Example
/// ```
/// use zest_ledger::{Ledger, finding::Code};
/// let findings = Ledger::new().document("people.toml", "[groups.watch]\nmembers = [\"user:watch-2\"]\n").validate().findings;
/// let finding = &findings.list()[0];
/// assert_eq!((finding.code, finding.message.as_str()), (Code::UnknownReference, "no user is named `watch-2`"));
/// ```
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Finding {
    /// Its stable code.
    pub code: Code,
    /// The fact, in lower case without a full stop; user text in backticks, safe to print.
    pub message: String,
    /// The place it rests on; none for findings about the ledger as a whole.
    pub primary: Option<Label>,
    /// Other places that matter, such as "first declared here".
    pub secondary: Vec<Label>,
    /// How to mend it.
    pub help: Option<String>,
}

impl Finding {
    /// Makes a finding; its message is lower case, without a full stop, and states the fact.
    ///
    /// # Example
    /// ```
    /// use zest_ledger::{finding::{Code, Finding}, source::Place};
    /// let finding = Finding::new(Code::BadValue, "`x` is no slot").at(Place::here(), "not one of them").help("write one");
    /// assert_eq!(finding.help.as_deref(), Some("write one"));
    /// ```
    #[must_use]
    pub fn new(code: Code, message: impl Into<String>) -> Self {
        Self { code, message: message.into(), primary: None, secondary: Vec::new(), help: None }
    }

    /// Makes a finding about a document that could not be read; for callers that read files.
    ///
    /// # Example
    /// ```
    /// use zest_ledger::finding::{Code, Finding};
    /// let finding = Finding::unreadable("people.toml", "permission denied");
    /// assert_eq!(finding.code, Code::Unreadable);
    /// ```
    #[must_use]
    pub fn unreadable(name: &str, why: &str) -> Self {
        let (name, why) = (visible(name), visible(why));
        Self::new(Code::Unreadable, format!("`{name}` cannot be read: {why}"))
            .help("make the file readable for you, or move it out of the ledger's folder")
    }

    /// Makes a finding about a document that is left out on purpose; for callers that read files.
    ///
    /// # Example
    /// ```
    /// use zest_ledger::finding::{Code, Finding};
    /// assert_eq!(Finding::not_read(".people.toml", "its name begins with a dot").code, Code::NotRead);
    /// ```
    #[must_use]
    pub fn not_read(name: &str, why: &str) -> Self {
        let (name, why) = (visible(name), visible(why));
        Self::new(Code::NotRead, format!("`{name}` is not read: {why}")).help("rename it if it belongs to the ledger, or move it away")
    }

    /// Says where it is.
    ///
    /// # Example
    /// ```
    /// use zest_ledger::{finding::{Code, Finding}, source::Place};
    /// assert!(Finding::new(Code::BadValue, "`x` is no level").at(Place::here(), "not a number").primary.is_some());
    /// ```
    #[must_use]
    pub fn at(mut self, place: Place, text: impl Into<String>) -> Self {
        self.primary = Some(Label { place, text: text.into() });
        self
    }

    /// Says where else something about it stands.
    ///
    /// # Example
    /// ```
    /// use zest_ledger::{finding::{Code, Finding}, source::Place};
    /// let finding = Finding::new(Code::BadValue, "`x` is no level").also(Place::here(), "levels are declared here");
    /// assert_eq!(finding.secondary.len(), 1);
    /// ```
    #[must_use]
    pub fn also(mut self, place: Place, text: impl Into<String>) -> Self {
        self.secondary.push(Label { place, text: text.into() });
        self
    }

    /// Says how to mend it.
    ///
    /// # Example
    /// ```
    /// use zest_ledger::finding::{Code, Finding};
    /// assert_eq!(Finding::new(Code::BadValue, "`x` is no level").help("write 0 to 15").help.as_deref(), Some("write 0 to 15"));
    /// ```
    #[must_use]
    pub fn help(mut self, text: impl Into<String>) -> Self {
        self.help = Some(text.into());
        self
    }

    /// Returns the severity of the finding's code.
    ///
    /// # Example
    /// ```
    /// use zest_ledger::finding::{Code, Finding, Severity};
    /// assert_eq!(Finding::new(Code::BadValue, "`x` is no level").severity(), Severity::Error);
    /// ```
    #[must_use]
    pub const fn severity(&self) -> Severity {
        self.code.severity()
    }
}

/// The findings of one ledger, in order of place, with the documents they point into.
///
/// # Example
/// ```
/// use zest_ledger::Ledger;
/// let findings = Ledger::new().document("people.toml", "[groups.watch]\nmembers = [\"user:watch-2\"]\n").validate().findings;
/// assert!(findings.to_string().starts_with("people.toml:2:12: error[ZL0201]: no user is named `watch-2`"));
/// ```
#[derive(Clone, Debug)]
pub struct Findings {
    list: Vec<Finding>,
    sources: Arc<SourceMap>,
    /// What looks like a secret and must not be shown.
    secrets: Vec<Span>,
}

impl Findings {
    #[doc(hidden)]
    pub fn new(mut list: Vec<Finding>, sources: Arc<SourceMap>) -> Self {
        list.sort_by(|a, b| Self::order(a).cmp(&Self::order(b)));
        list.dedup();
        let secret = |f: &Finding| match f.primary.as_ref()?.place {
            Place::Text(span) if f.code == Code::SecretInLedger => Some(span),
            _ => None,
        };
        let secrets = list.iter().filter_map(secret).collect();
        Self { list, sources, secrets }
    }

    /// By place; what concerns the ledger as a whole comes last.
    fn order(finding: &Finding) -> (bool, Option<Place>, Code, &str) {
        (finding.primary.is_none(), finding.primary.as_ref().map(|l| l.place), finding.code, &finding.message)
    }

    /// Returns these findings and others of the same ledger together.
    ///
    /// # Example
    /// ```
    /// use zest_ledger::{Ledger, finding::{Code, Finding}};
    /// let ledger = || Ledger::new().document("people.toml", "[groups.watch]\nmembers = [\"user:watch-2\"]\n");
    /// let more = ledger().finding(Finding::not_read("notes.txt", "it is no document"));
    /// let both = ledger().validate().findings.merged(more.validate().findings);
    /// assert!(both.list().iter().any(|finding| finding.code == Code::NotRead));
    /// ```
    #[must_use]
    pub fn merged(self, others: Self) -> Self {
        Self::new(self.list.into_iter().chain(others.list).collect(), self.sources)
    }

    /// Returns the findings, by place.
    ///
    /// # Example
    /// ```
    /// use zest_ledger::Ledger;
    /// assert!(Ledger::new().document("people.toml", "[users.watch-1]\nnmae = 'First'\n").validate().findings.list()[0].message.contains("nmae"));
    /// ```
    #[must_use]
    pub fn list(&self) -> &[Finding] {
        &self.list
    }

    /// Returns the documents the findings point into.
    ///
    /// # Example
    /// ```
    /// use zest_ledger::Ledger;
    /// let findings = Ledger::new().document("people.toml", "[groups.watch]\nmembers = [\"user:watch-2\"]\n").validate().findings;
    /// let label = findings.list()[0].primary.as_ref().expect("it stands somewhere");
    /// assert_eq!(findings.sources().locate(label.place).to_string(), "people.toml:2");
    /// ```
    #[must_use]
    pub fn sources(&self) -> &SourceMap {
        &self.sources
    }

    /// Returns a piece of a document, safe to print: control characters are made visible, and a value that looks
    /// like a secret is covered.
    ///
    /// # Example
    /// ```
    /// use zest_ledger::{Ledger, source::Place};
    /// let findings = Ledger::new().document("people.toml", "[groups.watch]\nmembers = [\"user:watch-2\"]\n").validate().findings;
    /// let Some(Place::Text(span)) = findings.list()[0].primary.as_ref().map(|label| label.place) else { panic!("it stands in a text") };
    /// assert_eq!(findings.shown(span.source, span.start as usize..span.end as usize), "\"user:watch-2\"");
    /// ```
    #[must_use]
    pub fn shown(&self, source: SourceId, range: Range<usize>) -> String {
        let text = self.sources.text(source);
        let is_secret = |at: usize| self.secrets.iter().any(|s| s.source == source && (s.start as usize..s.end as usize).contains(&at));
        let Some(piece) = text.get(range.clone()) else { return String::new() };
        piece
            .char_indices()
            .map(|(i, c)| if is_secret(range.start + i) { "*".to_owned() } else { visible(c.encode_utf8(&mut [0; 4])).replace('\t', " ") })
            .collect()
    }

    /// Returns how many findings of a severity there are.
    ///
    /// # Example
    /// ```
    /// use zest_ledger::{Ledger, finding::Severity};
    /// let findings = Ledger::new().document("people.toml", "[groups.watch]\nmembers = [\"user:watch-2\"]\n").validate().findings;
    /// assert_eq!(findings.count(Severity::Error), 2, "and there is no system");
    /// ```
    #[must_use]
    pub fn count(&self, severity: Severity) -> usize {
        self.list.iter().filter(|f| f.severity() == severity).count()
    }

    /// Returns whether a finding stops answers.
    ///
    /// # Example
    /// ```
    /// use zest_ledger::Ledger;
    /// assert!(Ledger::new().document("people.toml", "[users").validate().findings.has_errors());
    /// assert!(!Ledger::new().document("rota.toml", "systems.rota.kind = 'application'").validate().findings.has_errors());
    /// ```
    #[must_use]
    pub fn has_errors(&self) -> bool {
        self.count(Severity::Error) > 0
    }
}

impl fmt::Display for Findings {
    /// Writes one line a finding: `file:line:column: error[ZL0201]: message`.
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        for finding in &self.list {
            if let Some(label) = &finding.primary {
                let at = self.sources.locate(label.place);
                write!(f, "{}:{}:{}: ", at.file, at.line, at.column)?;
            }
            writeln!(f, "{}[{}]: {}", finding.severity().word(), finding.code, finding.message)?;
        }
        Ok(())
    }
}

impl std::error::Error for Findings {}
