//! Listings of rights as JSON: each with the version of its form.

use jiff::Timestamp;
use serde::{Deserialize, Serialize};

use super::Format;
use crate::ask::Answer;
use crate::listing::{
    ChangedBeside, Cut, Difference, Effective, ObjectObligations, Outcome, Promised, Readiness, Seen, SessionView, Uncovered, Way,
};

/// What somebody may do, as `zest effective` writes it.
///
/// # Example
/// ```
/// use zest_ledger::json::EffectiveRights;
/// let text = serde_json::to_string(&EffectiveRights::from(Vec::new())).expect("it can be written");
/// assert_eq!(text, r#"{"format":1,"effective":[]}"#);
/// assert!(serde_json::from_str::<EffectiveRights>(r#"{"format":2,"effective":[]}"#).is_err());
/// ```
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(rename_all = "kebab-case", deny_unknown_fields)]
pub struct EffectiveRights {
    format: Format,
    /// The rights, by system.
    pub effective: Vec<Effective>,
}

/// Who may do something, as `zest who` writes it.
///
/// # Example
/// ```
/// use zest_ledger::{Ledger, ask::Session, json::Holders, review::{Sought, Who}};
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
/// let who = Who::new(&engine, &["rota"], Sought::Line("plan on shift/early"), &Session::default());
/// let told = serde_json::to_value(Holders::new(engine.estate().users().len(), Vec::new(), who.all())).expect("it can be written");
/// assert_eq!((&told["asked"], &told["who"][0]["user"]), (&2.into(), &"mate-1".into()));
/// # Ok::<(), zest_ledger::finding::Findings>(())
/// ```
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(rename_all = "kebab-case", deny_unknown_fields)]
pub struct Holders {
    format: Format,
    /// How many people were looked at.
    pub asked: usize,
    /// Accounts of database servers that no user stands behind: they were not looked at.
    pub not_asked: Vec<String>,
    /// Those who may, each with what gives it.
    pub who: Vec<Effective>,
}

/// What changed between two ledgers, as `zest compare` writes it.
///
/// # Example
/// ```
/// use zest_ledger::{Ledger, ask::Session, json::Comparison, review::compare};
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
/// let before = Ledger::new().document("rota.toml", &text.replace("mate-1\"] }", "mate-2\"] }")).engine(1)?;
/// let changed = compare(&before, &engine, "mate-1", &Session::default());
/// let told = serde_json::to_value(Comparison::new(1, Vec::new(), changed, Vec::new())).expect("it can be written");
/// assert_eq!(told["differences"][0]["gained"][0]["right"]["lines"][0], "plan on shift/early");
/// # Ok::<(), zest_ledger::finding::Findings>(())
/// ```
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(rename_all = "kebab-case", deny_unknown_fields)]
pub struct Comparison {
    format: Format,
    /// How many people were compared.
    pub compared: usize,
    /// Accounts of database servers that no user stands behind: they were not compared.
    pub not_compared: Vec<String>,
    /// What each gained and lost; who neither gained nor lost anything is left out.
    pub differences: Vec<Difference>,
    /// What differs beside that, and no set of rights tells of.
    pub changed_beside: Vec<ChangedBeside>,
}

/// What came of recorded expectations, as `zest expectations` writes it.
///
/// # Example
/// ```
/// use zest_ledger::{Ledger, expectation::expectations, json::Expectations};
/// # let text = r#"
/// # users.mate-1.proofs = ["password"]
/// # users.mate-2.proofs = ["password"]
/// # systems.rota.kind = "application"
/// # [applications.rota]
/// # types.shift.rights = ["plan"]
/// # objects."shift/early" = {}
/// # grants = [{ allow = ["plan"], on = "shift/*", to = ["user:mate-1"] }]
/// # "#;
/// let kept = "[[expectations]]\nwho = ['user:mate-2']\non = ['rota']\nlines = ['plan on shift/early']\nanswer = 'denied'\n";
/// let engine = Ledger::new().document("rota.toml", &format!("{text}{kept}")).engine(1)?;
/// let told = Expectations::new(0, expectations(&engine).outcomes, None);
/// let told = serde_json::to_value(told).expect("it can be written");
/// assert_eq!(told["outcomes"][0]["holds"], true);
/// # Ok::<(), zest_ledger::finding::Findings>(())
/// ```
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(rename_all = "kebab-case", deny_unknown_fields)]
pub struct Expectations {
    format: Format,
    /// How many rows cannot be asked, and so count as failed.
    pub not_asked: usize,
    /// Each question with its answer.
    pub outcomes: Vec<Outcome>,
    /// How many parts of the ledger were looked at, and those on which no expectation depends, where that was asked for.
    pub coverage: Option<Coverage>,
}

/// On which parts of a ledger some expectation depends.
///
/// # Example
/// ```
/// use zest_ledger::{Ledger, expectation::{Asked, parts, rows}, json::Coverage};
/// # let text = r#"
/// # users.mate-1.proofs = ["password"]
/// # users.mate-2.proofs = ["password"]
/// # systems.rota.kind = "application"
/// # [applications.rota]
/// # types.shift.rights = ["plan"]
/// # objects."shift/early" = {}
/// # grants = [{ allow = ["plan"], on = "shift/*", to = ["user:mate-1"] }]
/// # "#;
/// let kept = "[[expectations]]\nwho = ['user:mate-2']\non = ['rota']\nlines = ['plan on shift/early']\nanswer = 'denied'\n";
/// let engine = Ledger::new().document("rota.toml", &format!("{text}{kept}")).engine(1)?;
/// let (rows, parts) = (rows(&engine).0, parts(&engine));
/// let asked = Asked::of(&engine, &rows);
/// let uncovered = parts.iter().filter_map(|part| part.told(&engine, part.is_covered_by(&engine, &asked))).collect();
/// let told = serde_json::to_value(Coverage { parts: parts.len(), uncovered }).expect("it can be written");
/// // The grant to mate-1 could go, and mate-2 would be denied as before.
/// assert_eq!((&told["parts"], &told["uncovered"][0]["what"]), (&1.into(), &"grant of `plan` of `rota`".into()));
/// # Ok::<(), zest_ledger::finding::Findings>(())
/// ```
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(rename_all = "kebab-case", deny_unknown_fields)]
pub struct Coverage {
    /// How many parts there are.
    pub parts: usize,
    /// Those on which none depends.
    pub uncovered: Vec<Uncovered>,
}

/// How promises stand, as `zest promises` writes it.
///
/// # Example
/// ```
/// use zest_ledger::json::Promises;
/// let none = serde_json::to_value(Promises::from(Vec::new()))?;
/// assert_eq!(none["promises"], serde_json::json!([]));
/// assert!(none["format"].is_number());
/// # Ok::<(), serde_json::Error>(())
/// ```
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(rename_all = "kebab-case", deny_unknown_fields)]
pub struct Promises {
    format: Format,
    /// Each promise.
    pub promises: Vec<Promised>,
}

impl From<Vec<Promised>> for Promises {
    fn from(promises: Vec<Promised>) -> Self {
        Self { format: Format, promises }
    }
}

/// By which acts people could come to something, as `zest ways` writes it.
///
/// # Example
/// ```
/// use zest_ledger::{Ledger, json::WaysFound};
/// let told = serde_json::to_string(&WaysFound::new(2, Vec::new(), Vec::new(), Vec::new())).expect("it can be written");
/// assert_eq!(told, r#"{"format":1,"people":2,"cut-short":[],"ways":[],"cuts":[]}"#);
/// ```
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(rename_all = "kebab-case", deny_unknown_fields)]
pub struct WaysFound {
    format: Format,
    /// How many people were looked at.
    pub people: usize,
    /// Of whom not all was looked at, since there is too much, or it can be done in too many orders.
    pub cut_short: Vec<String>,
    /// A shortest way of each, the shortest first.
    pub ways: Vec<Way>,
    /// Entries without which fewer would get there.
    pub cuts: Vec<Cut>,
}

impl WaysFound {
    /// Makes the form of what was found.
    #[must_use]
    pub const fn new(people: usize, cut_short: Vec<String>, ways: Vec<Way>, cuts: Vec<Cut>) -> Self {
        Self { format: Format, people, cut_short, ways, cuts }
    }
}

/// What a listing would show in a session, as `zest visible` writes it.
///
/// # Example
/// ```
/// use zest_ledger::{Ledger, Question, json::Visible, review::visible};
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
/// let seen = visible(&engine, &Question::new("mate-1", "rota", ""));
/// let told = serde_json::to_value(Visible::from(seen)).expect("it can be written");
/// assert_eq!(told["visible"]["shown"][0], "shift/early");
/// # Ok::<(), zest_ledger::finding::Findings>(())
/// ```
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(rename_all = "kebab-case", deny_unknown_fields)]
pub struct Visible {
    format: Format,
    /// What is shown.
    pub visible: Seen,
}

impl From<Seen> for Visible {
    fn from(visible: Seen) -> Self {
        Self { format: Format, visible }
    }
}

/// Who a session is, as `zest session` writes it.
///
/// # Example
/// ```
/// use zest_ledger::{Ledger, Question, json, review::session};
/// let text = "users.mate-1.proofs = ['key']\n[systems.box]\nkind = 'host'\nno-command-set = 'nothing'\n";
/// let engine = Ledger::new().document("box.toml", text).engine(1)?;
/// let told = json::Session::from(session(&engine, &Question::new("mate-1", "box", "")));
/// let text = serde_json::to_string(&told).expect("it can be written");
/// assert_eq!(serde_json::from_str::<json::Session>(&text).expect("it can be read"), told);
/// # Ok::<(), zest_ledger::finding::Findings>(())
/// ```
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(rename_all = "kebab-case", deny_unknown_fields)]
pub struct Session {
    format: Format,
    /// The session.
    pub session: SessionView,
}

impl From<SessionView> for Session {
    fn from(session: SessionView) -> Self {
        Self { format: Format, session }
    }
}

/// Whether somebody can start, as `zest ready` writes it.
///
/// # Example
/// ```
/// use zest_ledger::{Ledger, json::Ready, review::readiness};
/// let text = "users.mate-1.proofs = ['key']\n[systems.box]\nkind = 'host'\nno-command-set = 'nothing'\n";
/// let engine = Ledger::new().document("box.toml", text).engine(1)?;
/// let told = Ready::new("mate-1", readiness(&engine, "mate-1", None, None).expect("the user is known"));
/// assert_eq!(told.ready[0].missing[0].text, "no account is there on `box`");
/// # Ok::<(), zest_ledger::finding::Findings>(())
/// ```
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(rename_all = "kebab-case", deny_unknown_fields)]
pub struct Ready {
    format: Format,
    /// The user.
    pub user: String,
    /// Each system that concerns the user.
    pub ready: Vec<Readiness>,
}

impl Ready {
    /// Makes the form of what was found for a user.
    #[must_use]
    pub fn new(user: &str, ready: Vec<Readiness>) -> Self {
        Self { format: Format, user: user.to_owned(), ready }
    }
}

/// What must be done first, by object, as `zest obligations` writes it.
///
/// # Example
/// ```
/// use zest_ledger::{Ledger, json::Obligations, review::obligations};
/// let text = "systems.ramps.kind = 'application'\n[applications.ramps]\ntypes.ramp.rights = ['lower']\nobjects.'ramp/north' = { after = { confirm = true } }\n";
/// let engine = Ledger::new().document("ramps.toml", text).engine(1)?;
/// let told = Obligations::new("ramps", obligations(&engine, "ramps").expect("it is an application"));
/// assert_eq!(told.obligations[0].own, ["confirm"]);
/// # Ok::<(), zest_ledger::finding::Findings>(())
/// ```
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(rename_all = "kebab-case", deny_unknown_fields)]
pub struct Obligations {
    format: Format,
    /// The cloud or application.
    pub system: String,
    /// Each object.
    pub obligations: Vec<ObjectObligations>,
}

impl Obligations {
    /// Makes the form of the objects of a system.
    #[must_use]
    pub fn new(system: &str, obligations: Vec<ObjectObligations>) -> Self {
        Self { format: Format, system: system.to_owned(), obligations }
    }
}

/// What somebody may do in a session that was opened earlier, as `zest ask` writes it.
///
/// # Example
/// ```
/// use zest_ledger::{Before, Ledger, Question, json::Opened};
/// let text = "users.mate-1.proofs = ['key']\n[systems.box]\nkind = 'host'\nno-command-set = 'nothing'\n";
/// let engine = Ledger::new().document("box.toml", text).engine(1)?;
/// let question = Question::new("mate-1", "box", "uptime");
/// let answer = engine.ask_opened(&Before::new(&engine), &question);
/// let told = serde_json::to_value(Opened::new(None, "last-week".to_owned(), answer, engine.explain(&question))).expect("it can be written");
/// assert_eq!((&told["ledger"], &told["answer"]["code"]), (&"last-week".into(), &"not-decided".into()));
/// # Ok::<(), zest_ledger::finding::Findings>(())
/// ```
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(rename_all = "kebab-case", deny_unknown_fields)]
pub struct Opened {
    format: Format,
    /// When the session was opened, where that was stated: a moment as in questions.
    pub at: Option<String>,
    /// The ledger that was in force then.
    pub ledger: String,
    /// The answer for that session.
    #[cfg_attr(feature = "schema", schemars(with = "super::answer::Read"))]
    pub answer: Answer,
    /// The answer for a session that is opened now.
    #[cfg_attr(feature = "schema", schemars(with = "super::answer::Read"))]
    pub anew: Answer,
}

impl Opened {
    /// Makes the form of both answers.
    #[must_use]
    pub fn new(at: Option<Timestamp>, ledger: String, answer: Answer, anew: Answer) -> Self {
        Self { format: Format, at: at.map(|at| at.to_string()), ledger, answer, anew }
    }
}

/// What only one of two may, as `zest alike` writes it.
///
/// # Example
/// ```
/// use zest_ledger::{Ledger, json::Alike};
/// let told = serde_json::to_string(&Alike::new("mate-1".to_owned(), "mate-2".to_owned(), Vec::new())).expect("it can be written");
/// assert_eq!(told, r#"{"format":1,"one":"mate-1","other":"mate-2","differences":[]}"#);
/// ```
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(rename_all = "kebab-case", deny_unknown_fields)]
pub struct Alike {
    format: Format,
    /// The one.
    pub one: String,
    /// The other.
    pub other: String,
    /// What only the other may (gained) and what only the one may (lost); empty where they may the same.
    pub differences: Vec<Difference>,
}

impl From<Vec<Effective>> for EffectiveRights {
    fn from(effective: Vec<Effective>) -> Self {
        Self { format: Format, effective }
    }
}

impl Expectations {
    /// Makes the form of what came of them.
    #[must_use]
    pub const fn new(not_asked: usize, outcomes: Vec<Outcome>, coverage: Option<Coverage>) -> Self {
        Self { format: Format, not_asked, outcomes, coverage }
    }
}

impl Holders {
    /// Makes the form of a list.
    #[must_use]
    pub const fn new(asked: usize, not_asked: Vec<String>, who: Vec<Effective>) -> Self {
        Self { format: Format, asked, not_asked, who }
    }
}

impl Comparison {
    /// Makes the form of a comparison.
    #[must_use]
    pub const fn new(compared: usize, not_compared: Vec<String>, differences: Vec<Difference>, changed_beside: Vec<ChangedBeside>) -> Self {
        Self { format: Format, compared, not_compared, differences, changed_beside }
    }
}

impl Alike {
    /// Makes the form of what is different.
    #[must_use]
    pub const fn new(one: String, other: String, differences: Vec<Difference>) -> Self {
        Self { format: Format, one, other, differences }
    }
}
