//! The rules of each kind of system.

mod acting;
pub(crate) mod condition_text;
pub(crate) mod database;
pub(crate) mod duties;
pub(crate) mod entry;
pub(crate) mod host;
pub mod mariadb;
pub(crate) mod network_device;
pub(crate) mod not_modelled;
pub mod postgresql;
pub(crate) mod service;
pub(crate) mod trace;

use crate::ask::{Decision, Form, Proven, Question, Refusal, Stage, Verdict};
use crate::engine::{DatabaseServer, Engine};
use crate::entry::Proof;
use crate::estate::{SystemId, UserId};
use crate::finding::nearest;
use crate::source::{At, visible};
use trace::{Stop, Trace};

/// Decides a question by the rules of its system, telling the trace about every gate.
pub(crate) fn evaluate(engine: &Engine, question: &Question, trace: &mut Trace) -> Decision {
    let _ = walk(engine, question, trace);
    trace.decision()
}

/// Decides whether somebody could agree to an act as second person: by a right of their own to what the question asks, with the own
/// proofs. What the person would have to prove again is open until it is proven.
pub(crate) fn agrees(engine: &Engine, question: &Question) -> Decision {
    let mut trace = Trace::silent();
    trace.agrees = true;
    let _ = walk(engine, question, &mut trace);
    trace.decision()
}

/// The session of a second person: taken to be like the first one's, but for the proofs, which are their own.
pub(crate) fn of_second_person(question: &Question, name: &str, line: &str) -> Question {
    let mut theirs = Question::in_session(name, &question.system, line, question.session.clone());
    let session = &mut theirs.session;
    session.proofs = session.approver_proofs.take();
    session.approved_by = None;
    session.account = None;
    session.active_roles = None;
    session.acting.clear();
    session.attributes.clear();
    session.expires = None;
    theirs
}

/// Returns whether somebody could agree, could they prove now what they have to prove with.
pub(crate) fn could_agree(engine: &Engine, question: &Question, second: UserId, line: &str) -> bool {
    let user = engine.estate.user(second);
    let mut theirs = of_second_person(question, &user.id.value, line);
    let now = |proof: &At<Proof>| Proven::new(proof.value, jiff::SignedDuration::ZERO);
    theirs.session.proofs = Some(user.proofs.iter().map(now).collect());
    agrees(engine, &theirs).verdict == Verdict::Allowed
}

/// Decides whether a session can be opened; the action of the question is not looked at.
pub(crate) fn sign_in(engine: &Engine, question: &Question, trace: &mut Trace) -> Decision {
    let _ = open(engine, question, trace);
    trace.decision()
}

fn open(engine: &Engine, question: &Question, trace: &mut Trace) -> Result<(), Stop> {
    let system = find_system(engine, question, trace)?;
    if !question.session.acting.is_empty() {
        if let Some(on) = acting::cross(engine, question, trace)? {
            return open(engine, &on, trace);
        }
        acting::knows_links(engine, question, system, trace)?;
    }
    hear(engine, question, system, trace)?;
    entry::session_lasts(&question.session, trace)?;
    match &engine.servers[system.index()] {
        Some(DatabaseServer::Postgresql(server)) => {
            postgresql::open(engine, question, system, server, &server.at(question.session.at), trace).map(drop)
        }
        Some(DatabaseServer::Mariadb(server)) => {
            mariadb::open(engine, question, system, server, &server.at(question.session.at), trace).map(drop)
        }
        None => match (service::Context::of(engine, system, &question.session), host::Context::of(engine, system)) {
            (Some(context), _) => service::open(context, question, trace).map(drop),
            (None, Some(context)) => host::enter(context, question, trace),
            (None, None) => network_device::open(engine, question, system, trace).map(drop),
        },
    }
}

fn find_system(engine: &Engine, question: &Question, trace: &mut Trace) -> Result<SystemId, Stop> {
    if let Some(&system) = engine.estate.system_ids.get(question.system.as_str()) {
        return Ok(system);
    }
    trace.refuse(Stage::Entry, Refusal::UnknownSystem, || {
        let near = nearest(&question.system, engine.estate.system_ids.keys().map(|k| &**k));
        let near = near.map_or(String::new(), |n| format!("; did you mean `{}`?", visible(n)));
        (format!("no system is named `{}`{near}", visible(&question.system)), None)
    })?;
    Err(Stop)
}

/// Refuses facts that the kind of the system does not look at: a question is answered whole or not at all.
fn hear(engine: &Engine, question: &Question, system: SystemId, trace: &mut Trace) -> Result<(), Stop> {
    let entry = engine.estate.system(system);
    for fact in question.session.unheard(entry.kind()) {
        trace.refuse(Stage::Entry, Refusal::FactNotHeard, || {
            let (option, kind) = (fact.option(), entry.kind().word());
            (format!("a system of the kind `{kind}` does not look at `--{option}`, so nothing is answered with it"), Some(entry.id.place))
        })?;
    }
    Ok(())
}

fn walk(engine: &Engine, question: &Question, trace: &mut Trace) -> Result<(), Stop> {
    let system = find_system(engine, question, trace)?;
    if !question.session.acting.is_empty() {
        if let Some(on) = acting::cross(engine, question, trace)? {
            return walk(engine, &on, trace);
        }
        acting::knows_links(engine, question, system, trace)?;
    }
    hear(engine, question, system, trace)?;
    entry::session_lasts(&question.session, trace)?;
    match &engine.servers[system.index()] {
        Some(DatabaseServer::Postgresql(server)) => postgresql::walk(engine, question, system, server, trace),
        Some(DatabaseServer::Mariadb(server)) => mariadb::walk(engine, question, system, server, trace),
        None if question.form == Form::Statement => {
            let kind = engine.estate.system(system).kind().word();
            trace.refuse(Stage::Permission, Refusal::StatementUnreadable, || {
                (format!("`{}` is of the kind `{kind}`: it takes no SQL statements", visible(&question.system)), None)
            })
        }
        None => match (service::Context::of(engine, system, &question.session), host::Context::of(engine, system)) {
            (Some(context), _) => service::walk(context, question, trace),
            (None, Some(context)) => host::walk(context, question, trace),
            (None, None) => network_device::walk(engine, question, system, trace),
        },
    }
}
