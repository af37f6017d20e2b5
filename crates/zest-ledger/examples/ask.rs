//! Reads a ledger from text, asks two questions, and prints why.
//!
//! Run it with `cargo run -p zest-ledger --example ask`.

#![allow(clippy::disallowed_macros, clippy::disallowed_methods, clippy::disallowed_types, reason = "only the core itself must be pure")]

use zest_ledger::ask::GateOutcome;
use zest_ledger::{Engine, Ledger, Question};

const LEDGER: &str = include_str!("pier.toml");

fn main() -> Result<(), zest_ledger::finding::Findings> {
    let engine = Engine::compile(Ledger::new().document("pier.toml", LEDGER).estate()?)?;
    for line in ["show paths", "elevate"] {
        let answer = engine.ask(&Question::new("watch-1", "sw-selkie-1", line));
        println!("{line}: {}", answer.verdict.word());
        for gate in &answer.gates {
            let mark = if gate.outcome == GateOutcome::Passes { "ok" } else { "NO" };
            let place = gate.location.as_ref().map_or(String::new(), |l| format!(" ({l})"));
            println!("  {mark} {}{place}", gate.text);
        }
        for remedy in &answer.remedies {
            let steps: Vec<&str> = remedy.steps.iter().map(|s| s.text.as_str()).collect();
            println!("  it would be allowed {}", steps.join(", and "));
        }
    }
    Ok(())
}
