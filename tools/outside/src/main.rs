//! What somebody builds on the library: load, ask, list, serialise, change one user, ask again, compare.

use zest_ledger::ask::{Answer, Change, Session, Verdict};
use zest_ledger::review::{effective, hygiene};
use zest_ledger::{Engine, Ledger, Question};

const LEDGER: &str = r#"
[users.watch-1]
proofs = ["password"]
[users.watch-2]
proofs = ["password"]
disabled = true
[groups.watch]
members = ["user:watch-1", "user:watch-2"]
[vocabularies.pump-os]
commands = [{ line = "show pumps" }]
[command-sets.pumps]
rules = ["allow show ..."]
[roles.reader]
band = { start = 1, ceiling = 1 }
commands = ["pumps"]
[systems.pump-1]
kind = "network-device"
vocabulary = "pump-os"
no-command-set = "nothing"
[[assignments]]
to = ["group:watch"]
roles = ["reader"]
on = { systems = ["pump-1"] }
"#;

fn main() -> Result<(), Box<dyn std::error::Error>> {
    let engine = Engine::compile(Ledger::new().document("pier.toml", LEDGER).estate()?)?;
    let question = Question::new("watch-2", "pump-1", "show pumps");
    let before = engine.ask(&question);
    println!("{}: {}", before.verdict.word(), before.first_refusal().map_or("", |gate| &gate.text));

    for user in engine.estate().entries().users.iter() {
        let rights = effective(&engine, &user.id.value, None, &Session::default()).unwrap_or_default();
        println!("{}: {} systems", user.id.value, rights.len());
    }
    println!("{} findings", hygiene(&engine, None).list().len());

    // The answer, sent elsewhere and back with its question and remedies.
    let text = serde_json::to_string(&before)?;
    let came: Answer = serde_json::from_str(&text)?;
    assert!(came == before && came.question == question);
    let came: Vec<Change> = came.remedies[0].steps.iter().map(|step| step.change.clone()).collect();
    println!("{}", serde_json::to_string(&came[0])?);

    let written = &engine.written(&came)?[0];
    println!("{}: {}", written.edit, written.paste.as_ref().map_or("by hand", |_| "to paste"));
    let changed = engine.with(&came)?;
    let after = changed.ask(&question);
    println!("{}", after.verdict.word());
    assert!(after.verdict == Verdict::Allowed && after != before);

    // The same changed text, read anew, answers the same, whatever the numbers inside.
    let edited = written.edit.carried_out(LEDGER)?;
    let read = Engine::compile(Ledger::new().document("pier.toml", &edited).estate()?)?;
    assert!(read.decide(&question) == changed.decide(&question) && read.ask(&question).verdict == after.verdict);
    // No feature of the library's own dependencies changes what others write.
    assert_eq!(serde_json::json!({ "b": 1, "a": 2 }).to_string(), r#"{"a":2,"b":1}"#);

    let prepared = changed.prepare(&question);
    let threads: Vec<bool> = std::thread::scope(|scope| {
        let ask = |user| prepared.clone().decide(&prepared.question(user, Session::default())).refusal.is_none();
        ["watch-1", "watch-2", "watch-3"].map(|user| scope.spawn(move || ask(user))).into_iter().map(|t| t.join().expect("it ends")).collect()
    });
    println!("{threads:?}");
    Ok(())
}
