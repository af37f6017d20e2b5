//! Verdicts of a batch without their reasons.

use std::collections::HashMap;

use serde::Serialize;
use zest_ledger::ask::{Form, Verdict};
use zest_ledger::{Engine, Prepared, Question};

use crate::format::add;

/// How many lines are kept prepared; others are understood each time.
const PREPARED: usize = 1 << 14;

/// Decides, and keeps what it has understood of each line for the next user who types it. Each thread has its own.
pub(super) struct Verdicts<'e> {
    engine: &'e Engine,
    /// By form, system and line.
    prepared: HashMap<Form, HashMap<String, HashMap<String, Prepared<'e>>>>,
    count: usize,
}

/// A verdict as data.
#[derive(Serialize)]
struct Told<'t> {
    verdict: &'t str,
    #[serde(skip_serializing_if = "Option::is_none")]
    code: Option<&'t str>,
}

impl<'e> Verdicts<'e> {
    pub(super) fn new(engine: &'e Engine) -> Self {
        Self { engine, prepared: HashMap::new(), count: 0 }
    }

    /// Adds the verdict on a question to others; nothing if it names what is not there.
    pub(super) fn reply(&mut self, question: &Question, replies: &mut Vec<u8>) -> Option<Verdict> {
        let decision = match self.prepared.get(&question.form).and_then(|systems| systems.get(&question.system)?.get(&question.line)) {
            Some(prepared) => prepared.decide(question),
            None if self.count < PREPARED => {
                let prepared = self.engine.prepare(question);
                let decision = prepared.decide(question);
                let lines = self.prepared.entry(question.form).or_default().entry(question.system.clone()).or_default();
                lines.insert(question.line.clone(), prepared);
                self.count += 1;
                decision
            }
            None => self.engine.decide(question),
        };
        if decision.refusal.is_some_and(|refusal| refusal.names_nothing()) {
            return None;
        }
        add(&Told { verdict: decision.verdict.word(), code: decision.refusal.map(|refusal| refusal.code()) }, replies);
        Some(decision.verdict)
    }
}
