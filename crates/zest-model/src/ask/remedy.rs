//! Remedies: smallest changes that turn a refusal round.

use serde::{Deserialize, Serialize};

use super::{Change, Verdict};
use crate::source::Location;

/// How far a change or a remedy reaches. They are offered in this order.
///
/// # Example
/// ```
/// use zest_ledger::ask::{Change, Width};
/// assert_eq!(Change::Level(7).width(), Width::Session);
/// assert_eq!(Change::Enable { user: "net-3".to_owned() }.width(), Width::Narrow);
/// assert!(Width::Session < Width::Narrow && Width::Wide < Width::WiderThanNeeded);
/// ```
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(rename_all = "lowercase")]
pub enum Width {
    /// Of this session only: the ledger stays as it is.
    Session,
    /// The one right that is missing, or what is written of this one person or account.
    Narrow,
    /// More than the one right, or for more than those who lack it.
    Wide,
    /// What nobody should do for one action: it weakens a deny for everybody, takes somebody else's account, or brings ownership
    /// or administration.
    #[serde(rename = "wider than needed")]
    WiderThanNeeded,
}

impl Width {
    /// Returns `session`, `narrow`, `wide` or `wider than needed`.
    #[must_use]
    pub const fn word(self) -> &'static str {
        match self {
            Self::Session => "session",
            Self::Narrow => "narrow",
            Self::Wide => "wide",
            Self::WiderThanNeeded => "wider than needed",
        }
    }
}

/// A smallest change, or a few together, that turns a refusal round.
///
/// # Example
/// ```
/// use zest_ledger::{Engine, Ledger, Question, ask::{Verdict, Width}};
/// let text = "users.watch-1 = { proofs = ['password'], disabled = true }\nsystems.rota.kind = 'application'\n\
///     applications.rota = { types.shift.rights = ['plan'], objects.'shift/early' = {}, \
///     grants = [{ allow = ['plan'], on = 'shift/*', to = ['user:watch-1'] }] }";
/// let engine = Engine::compile(Ledger::new().document("it.toml", text).estate()?)?;
/// let answer = engine.ask(&Question::new("watch-1", "rota", "plan on shift/early"));
/// let remedy = &answer.remedies[0];
/// assert_eq!((remedy.verdict, remedy.width, remedy.steps.len()), (Verdict::Allowed, Width::Narrow, 1));
/// # Ok::<(), zest_ledger::finding::Findings>(())
/// ```
#[derive(Clone, Debug, PartialEq)]
pub struct Remedy {
    /// The changes, in order; none of them can be left out.
    pub steps: Vec<Step>,
    /// The verdict with the changes applied: allowed, or allowed after obligations.
    pub verdict: Verdict,
    /// How far it reaches: as far as the widest of its steps.
    pub width: Width,
    #[doc(hidden)]
    pub more: crate::More,
}

/// One change of a remedy.
///
/// # Example
/// ```
/// use zest_ledger::{Engine, Ledger, Question, ask::Change};
/// # let text = "users.watch-1 = { proofs = ['password'], disabled = true }\nsystems.rota.kind = 'application'\n\
/// #     applications.rota = { types.shift.rights = ['plan'], objects.'shift/early' = {}, \
/// #     grants = [{ allow = ['plan'], on = 'shift/*', to = ['user:watch-1'] }] }";
/// # let engine = Engine::compile(Ledger::new().document("it.toml", text).estate()?)?;
/// let answer = engine.ask(&Question::new("watch-1", "rota", "plan on shift/early"));
/// let step = &answer.remedies[0].steps[0];
/// assert_eq!(step.text, "if `watch-1` were not disabled");
/// assert_eq!(step.change, Change::Enable { user: "watch-1".to_owned() });
/// assert!(step.location.is_some(), "it is a change of the ledger");
/// # Ok::<(), zest_ledger::finding::Findings>(())
/// ```
#[derive(Clone, Debug, PartialEq)]
pub struct Step {
    /// What to change.
    pub change: Change,
    /// The change as a clause: "at level 7".
    pub text: String,
    /// Where in the ledger a change of the ledger would be made.
    pub location: Option<Location>,
    #[doc(hidden)]
    pub more: crate::More,
}
