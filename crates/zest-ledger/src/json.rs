//! The JSON form of questions, answers, findings and reviews. Keys are never renamed within a version.
//!
//! Questions, answers, remedies, changes and findings have `serde`, with the version of their form under `format`; what else is
//! written is made here.
//!
//! # Example
//! ```
//! use zest_ledger::{Engine, Ledger, Question, ask::Answer};
//! let text = "[systems.box]\nkind = 'host'\nno-command-set = 'nothing'\n";
//! let engine = Engine::compile(Ledger::new().document("box.toml", text).estate()?)?;
//! let answer = engine.ask(&Question::new("watch-1", "sw-1", "show log"));
//! let text = serde_json::to_string(&answer).expect("it can be written");
//! assert!(text.starts_with(r#"{"format":1,"question":{"user":"watch-1","on":"sw-1","line":"show log"},"verdict":"denied""#));
//! let again: Answer = serde_json::from_str(&text).expect("it can be read");
//! assert_eq!(again, answer);
//! # Ok::<(), zest_ledger::finding::Findings>(())
//! ```

use serde_json::{Value, json};

use zest_model::ask::Written;
#[cfg(feature = "schema")]
pub use zest_model::form::schemas;
pub use zest_model::form::{
    Alike, Comparison, Coverage, Defect, Defects, EffectiveRights, Expectations, FORMAT, Holders, Obligations, Opened, Promises,
    QuestionError, Ready, Remark, Session, Visible, WaysFound, parse_question, parse_question_in,
};
use zest_model::source::Location;

/// Returns a place: its file, line and column, or `null`.
///
/// # Example
/// ```
/// use zest_ledger::{json, source::Location};
/// let at = Location { file: "people.toml".to_owned(), line: 3, column: 1 };
/// assert_eq!(json::place(Some(&at))["line"], 3);
/// assert!(json::place(None).is_null());
/// ```
#[must_use]
pub fn place(location: Option<&Location>) -> Value {
    json!(location)
}

/// Returns what a change of the ledger writes: the edit in words, and the text to paste if there is one.
///
/// # Example
/// ```
/// use zest_ledger::{Engine, Ledger, Question, json};
/// # let text = r#"
/// # users.mate-1.proofs = ["password"]
/// # users.mate-2.proofs = ["password"]
/// # systems.rota.kind = "application"
/// # [applications.rota]
/// # types.shift.rights = ["plan"]
/// # objects."shift/early" = {}
/// # grants = [{ allow = ["plan"], on = "shift/*", to = ["user:mate-1"] }]
/// # "#;
/// # let engine = Engine::compile(Ledger::new().document("rota.toml", text).estate()?)?;
/// let change = engine.ask(&Question::new("mate-2", "rota", "plan on shift/early")).remedies[0].steps[0].change.clone();
/// assert_eq!(json::written(&engine.written(&[change]).expect("it was tried")[0])["file"], "rota.toml");
/// # Ok::<(), zest_ledger::finding::Findings>(())
/// ```
#[must_use]
pub fn written(written: &Written) -> Value {
    let Written { edit, paste, more: _ } = written;
    json!({
        "file": edit.document,
        "edit": edit.to_string(),
        "paste": paste.as_ref().map(|p| json!({ "line": p.line, "replaces": p.replaces, "text": p.text })),
    })
}
