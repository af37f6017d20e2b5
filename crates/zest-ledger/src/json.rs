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
pub use zest_model::form::{Defect, Defects, FORMAT, QuestionError, Remark, parse_question, parse_question_in};
use zest_model::source::Location;
use zest_reviews::review::{CommandRight, DataRight, Effective, Extent, OnHost, OnService, OtherRight};

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

fn other_right(right: &OtherRight) -> Value {
    let OtherRight { action, through, conditions, location } = right;
    json!({ "action": action, "through": through, "conditions": conditions, "place": place(location.as_ref()) })
}

fn host(held: &OnHost) -> Value {
    let rules: Vec<Value> = held
        .rules
        .iter()
        .map(|r| {
            json!({
                "as": r.target, "effect": if r.allows { "allow" } else { "deny" }, "line": r.line, "proof": r.proof,
                "place": place(Some(&r.location)),
            })
        })
        .collect();
    json!({ "account": held.account, "refused": held.refused, "rules": rules })
}

fn service(held: &OnService) -> Value {
    let rights: Vec<Value> = held
        .rights
        .iter()
        .map(|r| {
            json!({
                "effect": if r.is_deny { "deny" } else { "allow" }, "operations": r.operations, "on": r.on, "through": r.through,
                "conditions": r.conditions, "lifted-by": r.lifted_by, "after": r.after, "place": place(Some(&r.location)),
            })
        })
        .collect();
    let may_become: Vec<Value> = held.may_become.iter().map(|(text, at)| json!({ "text": text, "place": place(Some(at)) })).collect();
    json!({ "acting": held.acting, "rights": rights, "may-become": may_become })
}

/// Returns effective permissions.
#[must_use]
pub fn effective(rights: &[Effective]) -> Value {
    let commands = |list: &[CommandRight]| -> Vec<Value> {
        let one = |c: &CommandRight| {
            let except = if let Extent::Except(line) = &c.extent { Some(line) } else { None };
            json!({
                "line": c.line, "modes": c.modes, "level": c.level, "except": except,
                "ground": c.ground, "place": place(c.location.as_ref()),
            })
        };
        list.iter().map(one).collect()
    };
    let systems = rights.iter().map(|on| {
        let entitlements: Vec<Value> = on
            .entitlements
            .iter()
            .map(|e| {
                json!({
                    "through": e.through, "place": place(Some(&e.location)), "conditions": e.conditions,
                    "band": e.band.map(|(start, ceiling)| json!({ "start": start, "ceiling": ceiling })),
                    "levels": e.levels, "commands": commands(&e.commands),
                })
            })
            .collect();
        let accounts: Vec<Value> = on
            .accounts
            .iter()
            .map(|a| {
                json!({
                    "login": a.login, "band": { "start": a.start, "ceiling": a.ceiling }, "place": place(Some(&a.location)),
                    "commands": a.commands.as_deref().map(commands),
                })
            })
            .collect();
        let refused = on.refused.as_ref().map(|(text, at)| json!({ "text": text, "place": place(at.as_ref()) }));
        let rights = |list: &[DataRight]| -> Vec<Value> {
            list.iter()
                .map(|r| json!({ "on": r.on, "privileges": r.privileges, "may-pass-on": r.may_pass_on, "through": r.through, "place": place(r.location.as_ref()) }))
                .collect()
        };
        let sessions: Vec<Value> = on
            .database
            .iter()
            .map(|d| {
                let once: Vec<Value> = d.once_active.iter().map(|(role, list)| json!({ "role": role, "rights": rights(list) })).collect();
                let refused = d.refused.as_ref().map(|(text, at)| json!({ "text": text, "place": place(at.as_ref()) }));
                json!({ "account": d.account, "refused": refused, "role": d.role, "rights": rights(&d.held), "once-active": once })
            })
            .collect();
        json!({
            "system": on.system, "refused": refused, "entitlements": entitlements, "accounts": accounts, "sessions": sessions,
            "service": on.service.as_ref().map(service),
            "host": on.host.iter().map(host).collect::<Vec<_>>(),
            "rights": on.rights.iter().map(other_right).collect::<Vec<_>>(),
        })
    });
    Value::Array(systems.collect())
}
