//! A host: a shared account with a menu, and what the host itself is told.

#![allow(clippy::disallowed_macros, clippy::disallowed_methods, clippy::disallowed_types, reason = "only the core itself must be pure")]

use zest_ledger::{Engine, Ledger, Question, host_configuration};

const KIOSK: &str = r#"
[users.watch-1]
proofs = ["password"]

[systems.kiosk]
kind = "host"
no-command-set = "everything"

[command-sets.menu]
rules = ["allow /opt/kiosk/bin/screen {restart|blank}", "allow /opt/kiosk/bin/report /srv/reports/*"]

[hosts.kiosk.accounts]
watch-1 = {}
kiosk = { used-by = ["user:watch-1"], commands = ["menu"], proof = false }
"#;

fn main() -> Result<(), Box<dyn std::error::Error>> {
    let engine = Engine::compile(Ledger::new().document("kiosk.toml", KIOSK).estate()?)?;
    for line in [
        "/opt/kiosk/bin/screen restart",
        "/opt/kiosk/bin/screen restart now",
        "/opt/kiosk/bin/report /srv/reports/../../etc/shadow",
        "LD_PRELOAD=/tmp/x.so /opt/kiosk/bin/screen blank",
    ] {
        let answer = engine.ask(&Question::new("watch-1", "kiosk", line).acting("account:kiosk".parse()?));
        println!("{line}: {}", answer.refusal.map_or(answer.verdict.word(), |r| r.code()));
    }
    let told = host_configuration(&engine, "kiosk", "2026-11-27T12:00:00Z".parse()?).expect("it is a host");
    print!("{}", told.run_as.lines().filter(|l| l.starts_with("watch-1")).map(|l| format!("{l}\n")).collect::<String>());
    Ok(())
}
