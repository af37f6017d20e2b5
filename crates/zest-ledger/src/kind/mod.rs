//! The rules of each kind of system.

mod acting;
pub(crate) mod condition_text;
pub(crate) mod database;
pub(crate) mod duties;
pub(crate) mod entry;
pub(crate) mod host;
pub mod mariadb;
pub(crate) mod network_device;
pub mod postgresql;
pub(crate) mod service;
pub(crate) mod trace;

use crate::ask::{Decision, Form, Question, Refusal, Stage};
use crate::engine::{DatabaseServer, Engine};
use crate::finding::nearest;
use crate::source::visible;
use trace::{Run, Stop, Trace};

/// Decides a question by the rules of its system, telling the trace about every gate.
pub(crate) fn evaluate<T: Trace>(engine: &Engine, question: &Question, trace: &mut T) -> Decision {
    let mut run = Run::new(trace);
    let _ = walk(engine, question, &mut run);
    run.decision()
}

/// Decides whether a session can be opened; the action of the question is not looked at.
pub(crate) fn sign_in<T: Trace>(engine: &Engine, question: &Question, trace: &mut T) -> Decision {
    let system = engine.estate.system_ids.get(question.system.as_str()).copied();
    match system.and_then(|s| Some((s, engine.servers[s.index()].as_ref()?))) {
        Some((system, DatabaseServer::Postgresql(server))) => {
            let mut run = Run::new(trace);
            let _ = postgresql::open(engine, question, system, server, &server.at(question.session.at), &mut run);
            run.decision()
        }
        Some((system, DatabaseServer::Mariadb(server))) => {
            let mut run = Run::new(trace);
            let state = server.at(question.session.at);
            let _ = mariadb::open(engine, question, system, server, &state, &mut run);
            run.decision()
        }
        None => match system.filter(|s| engine.estate.services[s.index()].is_some()) {
            Some(system) => service::sign_in(engine, question, system, trace),
            None => match system.and_then(|s| host::Context::of(engine, s)) {
                Some(context) => host::sign_in(context, question, trace),
                None => network_device::sign_in(engine, question, trace),
            },
        },
    }
}

fn walk<T: Trace>(engine: &Engine, question: &Question, run: &mut Run<'_, T>) -> Result<(), Stop> {
    let Some(&system) = engine.estate.system_ids.get(question.system.as_str()) else {
        run.refuse(Stage::Entry, Refusal::UnknownSystem, || {
            let near = nearest(&question.system, engine.estate.system_ids.keys().map(|k| &**k));
            let near = near.map_or(String::new(), |n| format!("; did you mean `{}`?", visible(n)));
            (format!("no system is named `{}`{near}", visible(&question.system)), None)
        })?;
        return Err(Stop);
    };
    if !question.session.acting.is_empty() {
        if let Some(on) = acting::cross(engine, question, run)? {
            return walk(engine, &on, run);
        }
        acting::knows_links(engine, question, system, run)?;
    }
    entry::session_lasts(&question.session, run)?;
    match &engine.servers[system.index()] {
        Some(DatabaseServer::Postgresql(server)) => postgresql::walk(engine, question, system, server, run),
        Some(DatabaseServer::Mariadb(server)) => mariadb::walk(engine, question, system, server, run),
        None if question.form == Form::Statement => {
            let kind = engine.estate.system(system).kind().word();
            run.refuse(Stage::Permission, Refusal::StatementUnreadable, || {
                (format!("`{}` is of the kind `{kind}`: it takes no SQL statements", visible(&question.system)), None)
            })
        }
        None => match service::Context::of(engine, system, &question.session) {
            Some(context) => service::walk(context, question, run),
            None => match host::Context::of(engine, system) {
                Some(context) => host::walk(context, question, run),
                None => network_device::walk(engine, question, system, run),
            },
        },
    }
}
