//! A cloud: a deny unless a code was given, and a role that is assumed for an hour.

#![allow(clippy::disallowed_macros, clippy::disallowed_methods, clippy::disallowed_types, reason = "only the core itself must be pure")]

use zest_ledger::ask::{Act, FactError};
use zest_ledger::entry::Proof;
use zest_ledger::{Engine, Ledger, Question};

const API: &str = r#"{"openapi": "3.1.0", "paths": {"/hulls/{hull}:stop": {"post": {"operationId": "hulls.stop"}}}}"#;

const CLOUD: &str = r#"
[users.net-1]
proofs = ["password", "one-time-code"]

[systems.skyquay]
kind = "cloud"

[clouds.skyquay]
interface = "skyquay.openapi.json"
resources = { "lanternsound/production" = {} }
grants = [
  { deny = ["all"], on = "**", to = ["user:net-1"], lifted-by = { proof = ["one-time-code"], proof-age = "1h" } },
  { allow = ["assume"], on = "role/quay-keeper", to = ["user:net-1"] },
]

[roles.quay-keeper]
grants = [{ allow = ["hulls.*"], on = "lanternsound/production" }]
assumable = { by = ["user:net-1"], when = { proof = ["one-time-code"], proof-age = "15m" }, longest = "1h" }
"#;

fn main() -> Result<(), Box<dyn std::error::Error>> {
    let ledger = Ledger::new().interface("skyquay.openapi.json", API).document("cloud.toml", CLOUD);
    let engine = Engine::compile(ledger.estate()?)?;
    let ask = || {
        Question::new("net-1", "skyquay", "POST /hulls/7:stop on lanternsound/production")
            .at("2026-11-26T10:00:00Z".parse().expect("a moment"))
    };
    let coded = || ask().proof(Proof::OneTimeCode, jiff::SignedDuration::from_mins(5));
    let keeper = |since: &str| -> Result<Act, FactError> { format!("role:quay-keeper@{since}").parse() };
    for question in [
        ask(),
        coded(),
        coded().acting("role:quay-keeper".parse()?),
        coded().acting(keeper("2026-11-26T09:00:01Z")?),
        coded().acting(keeper("2026-11-26T09:00:00Z")?),
    ] {
        let answer = engine.ask(&question);
        println!("{}: {}", answer.verdict.word(), answer.first_refusal().map_or("", |gate| &gate.text));
        for remedy in answer.remedies.iter().take(1) {
            println!("  {}", remedy.steps.iter().map(|s| s.text.as_str()).collect::<Vec<_>>().join(", and "));
        }
    }
    Ok(())
}
