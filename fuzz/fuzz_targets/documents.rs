//! Any bytes as a document: read or refused, and if it is a ledger, asked a question and reviewed.
#![no_main]

use libfuzzer_sys::fuzz_target;
use zest_ledger::{Engine, Ledger, Question, review};

fuzz_target!(|bytes: &[u8]| {
    let validated = Ledger::new().document_bytes("ledger.toml", bytes).validate();
    if let Some(Ok(engine)) = validated.estate.map(Engine::compile) {
        let names = |list: Vec<String>| list.into_iter().next().unwrap_or_default();
        let user = names(engine.estate().users().iter().map(|u| u.id.value.clone()).collect());
        let system = names(engine.estate().systems().iter().map(|s| s.id.value.clone()).collect());
        let question = Question::new(&user, &system, "show release");
        assert_eq!(engine.decide(&question).verdict, engine.ask(&question).verdict);
        let _ = review::hygiene(&engine, None);
    }
});
