//! Any text as a typed line: it is answered, alike with and without explanation.
#![no_main]

use std::sync::LazyLock;

use libfuzzer_sys::fuzz_target;
use zest_ledger::command::read_line;
use zest_ledger::{Engine, Ledger, Question};

static ENGINE: LazyLock<Engine> = LazyLock::new(|| {
    let ledger = Ledger::new().document("pier.toml", include_str!("../../crates/zest-ledger/examples/pier.toml"));
    Engine::compile(ledger.estate().expect("it is valid")).expect("it compiles")
});

fuzz_target!(|text: &str| {
    let question = Question::new("watch-1", "sw-selkie-1", text);
    let decision = ENGINE.decide(&question);
    assert_eq!(decision.verdict, ENGINE.explain(&question).verdict);
    assert!(read_line(text).is_ok() || decision.refusal.is_some());
});
