//! The JSON form of questions, answers, findings and reviews. Keys are never renamed within a version.

use std::fmt;
use std::net::IpAddr;

use jiff::Timestamp;
use serde_json::{Map, Value, json};

use crate::ask::{Act, Answer, Central, Form, GateOutcome, Proven, Question, Session};
use crate::entry::{Channel, Proof};
use crate::finding::{Findings, Label, nearest};
use crate::review::{DataRight, Effective, Extent, OnHost, OnService};
use crate::source::{Location, visible};

/// The keys of a question.
const KEYS: [&str; 21] = [
    "user",
    "on",
    "line",
    "sql",
    "role",
    "local",
    "at",
    "from",
    "by",
    "proofs",
    "level",
    "mode",
    "account",
    "central",
    "confirmed",
    "approved-by",
    "approver-proofs",
    "acting",
    "roles",
    "attributes",
    "expires",
];

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
/// | `role` | the active role of a database session |
/// | `roles` | a list: the roles that are active on a cloud or in an application |
/// | `acting` | a list of links, such as `["user:batch", "role:night-operator@2026-11-25T22:00:00Z"]` |
/// | `attributes` | an object from attribute of the session to value |
/// | `expires` | the first moment at which the session is over |
/// | `at` | a moment such as `"2026-11-25T08:00:00Z"` |
/// | `from` | an address |
/// | `by` | `"terminal"`, `"web"` or `"api"` |
/// | `approver-proofs` | as `proofs`, of the second person |
/// | `proofs` | an object from proof to age, such as `{"password": "0s"}`, on another channel `"5m by web"`; empty says that there was none |
/// | `level` | a whole number from 0 to 15 |
/// | `mode`, `account`, `approved-by` | texts |
/// | `central` | `"up"` or `"down"` |
/// | `local` | `true` for a session over a database server's own socket |
/// | `confirmed` | `true` or `false` |
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
    let value: Value = serde_json::from_str(text).map_err(|e| QuestionError(format!("not a JSON object: {e}")))?;
    let Value::Object(object) = value else { return Err(QuestionError("expected a JSON object with `user`, `on` and `line`".to_owned())) };
    if let Some(unknown) = object.keys().find(|k| !KEYS.contains(&k.as_str())) {
        let near = nearest(unknown, KEYS.into_iter())
            .map_or_else(|| format!("the keys are {}", KEYS.join(", ")), |n| format!("did you mean `{n}`?"));
        return Err(QuestionError(format!("a question has no key `{}`; {near}", visible(unknown))));
    }
    let needed = |key: &str| text_of(&object, key)?.ok_or_else(|| QuestionError(format!("the key `{key}` is missing")));
    let mut session = Session {
        at: parsed(&object, "at", "a moment such as \"2026-11-25T08:00:00Z\"", |t| t.parse::<Timestamp>().ok())?,
        origin: parsed(&object, "from", "an address", |t| t.parse::<IpAddr>().ok())?,
        channel: parsed(&object, "by", "\"terminal\", \"web\" or \"api\"", Channel::from_word)?,
        mode: text_of(&object, "mode")?,
        account: text_of(&object, "account")?,
        active_role: text_of(&object, "role")?,
        approved_by: text_of(&object, "approved-by")?,
        ..Session::default()
    };
    session.expires = parsed(&object, "expires", "a moment such as \"2026-11-25T08:00:00Z\"", |t| t.parse::<Timestamp>().ok())?;
    session.active_roles = texts(&object, "roles")?;
    for link in texts(&object, "acting")?.unwrap_or_default() {
        session.acting.push(link.parse().map_err(QuestionError)?);
    }
    match object.get("attributes") {
        None | Some(Value::Null) => {}
        Some(Value::Object(given)) => {
            for (name, value) in given {
                let value = value.as_str().ok_or_else(|| QuestionError(format!("the attribute `{}` is not a text", visible(name))))?;
                session.attributes.push((name.clone(), value.to_owned()));
            }
        }
        Some(_) => return Err(QuestionError("`attributes` is not an object from name to text".to_owned())),
    }
    session.proofs = proofs(&object, "proofs")?;
    session.approver_proofs = proofs(&object, "approver-proofs")?;
    session.central = parsed(&object, "central", "\"up\" or \"down\"", |t| match t {
        "up" => Some(Central::Up),
        "down" => Some(Central::Down),
        _ => None,
    })?
    .unwrap_or_default();
    session.level = match object.get("level") {
        None | Some(Value::Null) => None,
        Some(value) => {
            let level = value
                .as_u64()
                .filter(|l| *l <= 15)
                .ok_or_else(|| QuestionError("`level` is not a whole number from 0 to 15".to_owned()))?;
            Some(level as u8)
        }
    };
    let flag = |key: &str| match object.get(key) {
        None | Some(Value::Null) => Ok(false),
        Some(value) => value.as_bool().ok_or_else(|| QuestionError(format!("`{key}` is not true or false"))),
    };
    session.confirmed = flag("confirmed")?;
    session.local = flag("local")?;
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

fn texts(object: &Map<String, Value>, key: &str) -> Result<Option<Vec<String>>, QuestionError> {
    let wrong = || QuestionError(format!("`{key}` is not a list of texts"));
    match object.get(key) {
        None | Some(Value::Null) => Ok(None),
        Some(Value::Array(items)) => {
            items.iter().map(|v| v.as_str().map(str::to_owned).ok_or_else(wrong)).collect::<Result<_, _>>().map(Some)
        }
        Some(_) => Err(wrong()),
    }
}

fn parsed<T>(
    object: &Map<String, Value>,
    key: &str,
    expected: &str,
    parse: impl Fn(&str) -> Option<T>,
) -> Result<Option<T>, QuestionError> {
    let Some(text) = text_of(object, key)? else { return Ok(None) };
    parse(&text).map(Some).ok_or_else(|| QuestionError(format!("`{key}` is not {expected}: `{}`", visible(&text))))
}

fn proofs(object: &Map<String, Value>, key: &str) -> Result<Option<Vec<Proven>>, QuestionError> {
    let Some(value) = object.get(key).filter(|v| !v.is_null()) else { return Ok(None) };
    let wrong = || QuestionError(format!("`{key}` is not an object from proof to age, such as {{\"password\": \"10m\"}}"));
    let Value::Object(given) = value else { return Err(wrong()) };
    let mut list = Vec::with_capacity(given.len());
    for (name, age) in given {
        let proof = Proof::from_word(name)
            .ok_or_else(|| QuestionError(format!("`{}` is not one of {}", visible(name), Proof::WORDS.join(", "))))?;
        let text = age.as_str().ok_or_else(wrong)?;
        list.push(Proven::parse(proof, text).map_err(|e| QuestionError(format!("`{name}`: {e}")))?);
    }
    Ok(Some(list))
}

fn place(location: Option<&Location>) -> Value {
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
    let session = &question.session;
    let mut object = Map::new();
    put(&mut object, "user", Some(question.user.as_str()));
    put(&mut object, "on", Some(question.system.as_str()));
    put(&mut object, if question.form == Form::Statement { "sql" } else { "line" }, Some(question.line.as_str()));
    put(&mut object, "role", session.active_role.as_deref());
    put(&mut object, "roles", session.active_roles.clone());
    put(&mut object, "acting", (!session.acting.is_empty()).then(|| session.acting.iter().map(Act::written).collect::<Vec<_>>()));
    let attributes = || session.attributes.iter().map(|(k, v)| (k.clone(), json!(v))).collect::<Map<_, _>>();
    put(&mut object, "attributes", (!session.attributes.is_empty()).then(attributes));
    put(&mut object, "expires", session.expires.map(|at| at.to_string()));
    put(&mut object, "at", session.at.map(|at| at.to_string()));
    put(&mut object, "from", session.origin.map(|o| o.to_string()));
    put(&mut object, "by", session.channel.map(Channel::word));
    let written = |list: &Vec<Proven>| {
        // Of two ages of one proof the younger one says more.
        let mut by_age = list.clone();
        by_age.sort_by_key(|p| std::cmp::Reverse(p.age));
        Value::Object(by_age.iter().map(|p| (p.proof.word().to_owned(), json!(p.written()))).collect())
    };
    put(&mut object, "proofs", session.proofs.as_ref().map(written));
    put(&mut object, "level", session.level);
    put(&mut object, "mode", session.mode.as_deref());
    put(&mut object, "account", session.account.as_deref());
    put(&mut object, "central", (session.central == Central::Down).then_some("down"));
    put(&mut object, "local", session.local.then_some(true));
    put(&mut object, "confirmed", session.confirmed.then_some(true));
    put(&mut object, "approved-by", session.approved_by.as_deref());
    put(&mut object, "approver-proofs", session.approver_proofs.as_ref().map(written));
    Value::Object(object)
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
                    json!({ "change-of": of, "text": step.text, "place": place(step.location.as_ref()) })
                })
                .collect();
            json!({ "verdict": remedy.verdict.word(), "steps": steps })
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
    let systems = rights.iter().map(|on| {
        let entitlements: Vec<Value> = on
            .entitlements
            .iter()
            .map(|e| {
                let commands: Vec<Value> = e
                    .commands
                    .iter()
                    .map(|c| {
                        let except = if let Extent::Except(line) = &c.extent { Some(line) } else { None };
                        json!({
                            "line": c.line, "modes": c.modes, "level": c.level, "except": except,
                            "ground": c.ground, "place": place(c.location.as_ref()),
                        })
                    })
                    .collect();
                json!({
                    "through": e.through, "place": place(Some(&e.location)), "conditions": e.conditions,
                    "band": e.band.map(|(start, ceiling)| json!({ "start": start, "ceiling": ceiling })),
                    "levels": e.levels, "commands": commands,
                })
            })
            .collect();
        let accounts: Vec<Value> = on
            .accounts
            .iter()
            .map(|(login, start, ceiling, at)| json!({ "login": login, "band": { "start": start, "ceiling": ceiling }, "place": place(Some(at)) }))
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
        })
    });
    Value::Array(systems.collect())
}
