//! The JSON form of questions, answers, findings and reviews. Keys are never renamed within a version.

use std::fmt;

use serde_json::{Map, Value, json};

use zest_model::ask::{Answer, Fact, Form, GateOutcome, Question, Session, Written};
use zest_model::finding::{Findings, Label};
use zest_model::source::{Location, visible};
use zest_model::text::unique;
use zest_reviews::review::{CommandRight, DataRight, Effective, Extent, OnHost, OnService, OtherRight};
use zest_words::nearest;

/// The keys of a question that say who, where and what; the others are those of its facts.
const OWN_KEYS: [&str; 4] = ["user", "on", "line", "sql"];
/// The active role in one word, for a database session.
const ROLE: &str = "role";

/// Why a question in JSON cannot be read.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct QuestionError(String);

impl fmt::Display for QuestionError {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(&self.0)
    }
}

impl std::error::Error for QuestionError {}

/// Reads a question from a JSON object.
///
/// | key | value |
/// |---|---|
/// | `user`, `on`, `line` | texts; these three are needed |
/// | `sql` | a statement, in the place of `line` |
/// | `roles` | a list: the roles that are active; empty for none. `role` in its place: one of them, `"none"` for none |
/// | `acting` | a list of links, such as `["user:batch", "role:night-operator@2026-11-25T22:00:00Z"]` |
/// | `attributes` | an object from attribute of the session to value |
/// | `expires` | the first moment at which the session is over |
/// | `at` | a moment such as `"2026-11-25T08:00:00Z"` |
/// | `from` | an address |
/// | `by` | `"terminal"`, `"web"` or `"api"` |
/// | `proofs` | an object from proof to age, such as `{"password": "0s"}`, on another channel `"5m by web"`; or a list, such as `["key=1h", "key=5m by web"]`; empty says that there was none |
/// | `approver-proofs` | as `proofs`, of the second person |
/// | `level` | a whole number from 0 to 15 |
/// | `mode`, `account`, `approved-by` | texts |
/// | `central` | `"up"` or `"down"` |
/// | `local` | `true` for a session over a database server's own socket |
/// | `confirmed` | `true` or `false` |
///
/// A key that stands twice is an error, as is a fact that contradicts another.
///
/// # Errors
/// What is wrong, with the key that it is about.
///
/// # Example
/// ```
/// let question = zest_ledger::json::parse_question(r#"{"user":"watch-1","on":"sw-1","line":"show log","level":7}"#)?;
/// assert_eq!(question.session.level, Some(7));
/// assert!(zest_ledger::json::parse_question(r#"{"user":"watch-1","lin":"show log"}"#).is_err());
/// # Ok::<(), zest_ledger::json::QuestionError>(())
/// ```
pub fn parse_question(text: &str) -> Result<Question, QuestionError> {
    parse_question_in(text, &Session::default())
}

/// Reads a question; what it does not state of its session is taken from `otherwise`.
///
/// A question that says where its session comes from says all of it: an address takes the place of the server's own socket,
/// and the reverse. Proofs of a second person belong to the second person they are stated with.
///
/// # Errors
/// What is wrong, with the key that it is about.
///
/// # Example
/// ```
/// use zest_ledger::{ask::Session, json};
/// let mut night = Session::default();
/// night.confirmed = true;
/// let question = json::parse_question_in(r#"{"user":"watch-1","on":"sw-1","line":"show log"}"#, &night)?;
/// assert!(question.session.confirmed);
/// # Ok::<(), json::QuestionError>(())
/// ```
pub fn parse_question_in(text: &str, otherwise: &Session) -> Result<Question, QuestionError> {
    let value = unique::parse(text).map_err(|e| QuestionError(format!("not a JSON object: {e}")))?;
    let Value::Object(object) = value else { return Err(QuestionError("expected a JSON object with `user`, `on` and `line`".to_owned())) };
    let keys = || OWN_KEYS.into_iter().chain([ROLE]).chain(Fact::ALL.into_iter().map(Fact::key));
    if let Some(unknown) = object.keys().find(|k| !keys().any(|known| known == k.as_str())) {
        let near = nearest(unknown, keys())
            .map_or_else(|| format!("the keys are {}", keys().collect::<Vec<_>>().join(", ")), |n| format!("did you mean `{n}`?"));
        return Err(QuestionError(format!("a question has no key `{}`; {near}", visible(unknown))));
    }
    let mut session = Session::default();
    let mut stated: Vec<Fact> = Vec::new();
    for fact in Fact::ALL {
        let role = object.get(ROLE).filter(|v| fact == Fact::Roles && !v.is_null());
        let value = object.get(fact.key()).filter(|v| !v.is_null());
        let texts = match (value, role) {
            (None, None) => continue,
            (Some(_), Some(_)) => return Err(QuestionError("`role` and `roles` are given at once".to_owned())),
            (Some(value), None) => texts_of(fact, value)?,
            (None, Some(role)) => vec![role.as_str().ok_or_else(|| QuestionError("`role` is not a text".to_owned()))?.to_owned()],
        };
        stated.push(fact);
        for text in texts {
            session.state(fact, &text).map_err(|e| QuestionError(format!("`{}`: {e}", fact.key())))?;
        }
    }
    if let Some(why) = session.contradiction() {
        return Err(QuestionError(why.to_owned()));
    }
    for fact in Fact::ALL {
        let is_said = stated.contains(&fact)
            || matches!(fact, Fact::Origin | Fact::Local) && (session.local || session.origin.is_some())
            || fact == Fact::ApproverProofs && stated.contains(&Fact::ApprovedBy);
        if !is_said {
            session.take(fact, otherwise);
        }
    }
    let needed = |key: &str| text_of(&object, key)?.ok_or_else(|| QuestionError(format!("the key `{key}` is missing")));
    let (user, on) = (needed("user")?, needed("on")?);
    match text_of(&object, "sql")? {
        Some(_) if object.contains_key("line") => Err(QuestionError("`line` and `sql` are given at once".to_owned())),
        Some(sql) => Ok(Question { session, ..Question::statement(&user, &on, &sql) }),
        None => Ok(Question::in_session(&user, &on, &needed("line")?, session)),
    }
}

fn text_of(object: &Map<String, Value>, key: &str) -> Result<Option<String>, QuestionError> {
    match object.get(key) {
        None | Some(Value::Null) => Ok(None),
        Some(Value::String(text)) => Ok(Some(text.clone())),
        Some(_) => Err(QuestionError(format!("`{key}` is not a text"))),
    }
}

/// Returns the texts that state a fact, of its JSON value; none for one that says that nothing holds.
fn texts_of(fact: Fact, value: &Value) -> Result<Vec<String>, QuestionError> {
    let key = fact.key();
    let wrong = |expected: &str| QuestionError(format!("`{key}` is not {expected}"));
    let text = |value: &Value, expected: &str| value.as_str().map(str::to_owned).ok_or_else(|| wrong(expected));
    let list = |items: &[Value], expected: &str| -> Result<Vec<String>, QuestionError> {
        if items.is_empty() && fact != Fact::Acting {
            return Ok(vec!["none".to_owned()]);
        }
        items.iter().map(|item| text(item, expected)).collect()
    };
    match fact {
        Fact::At | Fact::Origin | Fact::Channel | Fact::Mode | Fact::Account | Fact::Expires | Fact::ApprovedBy => {
            Ok(vec![text(value, "a text")?])
        }
        Fact::Local | Fact::Confirmed => match value.as_bool() {
            Some(holds) => Ok(if holds { vec![String::new()] } else { Vec::new() }),
            None => Err(wrong("true or false")),
        },
        Fact::Central => match value.as_str() {
            Some("up") => Ok(Vec::new()),
            Some("down") => Ok(vec![String::new()]),
            _ => Err(wrong("\"up\" or \"down\"")),
        },
        Fact::Level => Ok(vec![value.as_u64().ok_or_else(|| wrong("a whole number from 0 to 15"))?.to_string()]),
        Fact::Roles | Fact::Acting => match value {
            Value::Array(items) => list(items, "a list of texts"),
            _ => Err(wrong("a list of texts")),
        },
        Fact::Proofs | Fact::ApproverProofs => {
            let expected = "an object from proof to age, such as {\"password\": \"10m\"}, or a list such as [\"key=1h\"]";
            match value {
                Value::Array(items) => list(items, expected),
                Value::Object(given) if given.is_empty() => Ok(vec!["none".to_owned()]),
                Value::Object(given) => given.iter().map(|(name, age)| Ok(format!("{name}={}", text(age, expected)?))).collect(),
                _ => Err(wrong(expected)),
            }
        }
        Fact::Attributes => {
            let expected = "an object from name to text";
            let Value::Object(given) = value else { return Err(wrong(expected)) };
            let one = |(name, value): (&String, &Value)| {
                if name.contains('=') {
                    return Err(QuestionError(format!("`{key}`: the name `{}` holds a `=`", visible(name))));
                }
                Ok(format!("{name}={}", text(value, expected)?))
            };
            given.iter().map(one).collect()
        }
    }
}

/// Returns a place: its file, line and column, or `null`.
#[must_use]
pub fn place(location: Option<&Location>) -> Value {
    location.map_or(Value::Null, |l| json!({ "file": l.file, "line": l.line, "column": l.column }))
}

fn put(object: &mut Map<String, Value>, key: &str, value: Option<impl Into<Value>>) {
    if let Some(value) = value {
        object.insert(key.to_owned(), value.into());
    }
}

/// Returns a question as [`parse_question`] reads it; facts that are not stated are left out.
///
/// # Example
/// ```
/// use zest_ledger::{Question, json};
/// let question = Question::new("watch-1", "sw-1", "show log").level(7);
/// assert_eq!(json::parse_question(&json::question(&question).to_string())?, question);
/// # Ok::<(), json::QuestionError>(())
/// ```
#[must_use]
pub fn question(question: &Question) -> Value {
    let mut object = Map::new();
    put(&mut object, "user", Some(question.user.as_str()));
    put(&mut object, "on", Some(question.system.as_str()));
    put(&mut object, if question.form == Form::Statement { "sql" } else { "line" }, Some(question.line.as_str()));
    for (fact, texts) in question.session.stated() {
        object.insert(fact.key().to_owned(), told(fact, &texts));
    }
    Value::Object(object)
}

/// The JSON value of a fact, as [`texts_of`] reads it.
fn told(fact: Fact, texts: &[String]) -> Value {
    let is_none = texts == ["none"];
    let pairs = |texts: &[String]| -> Map<String, Value> {
        texts.iter().filter_map(|t| t.split_once('=')).map(|(k, v)| (k.to_owned(), json!(v))).collect()
    };
    let first = || texts.first().map_or(Value::Null, |t| json!(t));
    match fact {
        Fact::At | Fact::Origin | Fact::Channel | Fact::Mode | Fact::Account | Fact::Expires | Fact::ApprovedBy => first(),
        Fact::Local | Fact::Confirmed => json!(true),
        Fact::Central => json!("down"),
        Fact::Level => texts.first().and_then(|t| t.parse::<u8>().ok()).map_or(Value::Null, |l| json!(l)),
        Fact::Roles if is_none => json!([]),
        Fact::Roles | Fact::Acting => json!(texts),
        Fact::Proofs | Fact::ApproverProofs if is_none => json!({}),
        Fact::Proofs | Fact::ApproverProofs => {
            // An object holds one age of each proof; where there are several, a list holds them all.
            let object = pairs(texts);
            if object.len() == texts.len() { Value::Object(object) } else { json!(texts) }
        }
        Fact::Attributes => Value::Object(pairs(texts)),
    }
}

/// Returns an answer.
///
/// `verdict` is `allowed`, `allowed after obligations` or `denied`; for a denied action `stage` and `code` name the
/// first refusal; each entry of `grounds` has an `outcome` of `passes`, `refuses` or `asks`.
#[must_use]
pub fn answer(answer: &Answer) -> Value {
    let grounds: Vec<Value> = answer
        .gates
        .iter()
        .map(|gate| {
            let (outcome, code) = match gate.outcome {
                GateOutcome::Passes => ("passes", None),
                GateOutcome::Asks => ("asks", None),
                GateOutcome::Refuses(code) => ("refuses", Some(code.code())),
            };
            json!({ "stage": gate.stage.word(), "outcome": outcome, "code": code, "text": gate.text, "place": place(gate.location.as_ref()) })
        })
        .collect();
    let remedies: Vec<Value> = answer
        .remedies
        .iter()
        .map(|remedy| {
            let steps: Vec<Value> = remedy
                .steps
                .iter()
                .map(|step| {
                    let of = if step.change.is_of_session() { "session" } else { "ledger" };
                    json!({ "change-of": of, "text": step.text, "place": place(step.location.as_ref()), "change": step.change.to_json() })
                })
                .collect();
            json!({ "verdict": remedy.verdict.word(), "width": remedy.width.word(), "steps": steps })
        })
        .collect();
    json!({
        "question": question(&answer.question),
        "verdict": answer.verdict.word(),
        "stage": answer.refusal.map(|r| r.stage().word()),
        "code": answer.refusal.map(|r| r.code()),
        "full-line": answer.full_line,
        "level": answer.level,
        "account": answer.account,
        "object": answer.object,
        "grounds": grounds,
        "remedies": remedies,
        "able": answer.able,
    })
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

/// Returns findings, by place.
#[must_use]
pub fn findings(findings: &Findings) -> Value {
    let label = |label: &Label| json!({ "place": place(Some(&findings.sources().locate(label.place))), "text": label.text });
    let list = findings.list().iter().map(|finding| {
        json!({
            "code": finding.code.number(),
            "name": finding.code.slug(),
            "severity": finding.severity().word(),
            "message": finding.message,
            "at": finding.primary.as_ref().map(label),
            "also": finding.secondary.iter().map(label).collect::<Vec<_>>(),
            "help": finding.help,
        })
    });
    Value::Array(list.collect())
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
