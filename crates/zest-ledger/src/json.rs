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
    Alike, Comparison, Coverage, Defect, Defects, EffectiveRights, Expectations, FORMAT, Holders, Opened, Promises, QuestionError, Remark,
    Visible, WaysFound, parse_question, parse_question_in,
};
use zest_model::source::Location;

/// Returns a place: its file, line and column, or `null`.
#[must_use]
pub fn place(location: Option<&Location>) -> Value {
    json!(location)
}

/// Returns what a change of the ledger writes: the edit in words, and the text to paste if there is one.
#[must_use]
pub fn written(written: &Written) -> Value {
    let Written { edit, paste, more: _ } = written;
    json!({
        "file": edit.document,
        "edit": edit.to_string(),
        "paste": paste.as_ref().map(|p| json!({ "line": p.line, "replaces": p.replaces, "text": p.text })),
    })
}
