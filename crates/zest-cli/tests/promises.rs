//! Promises on the demo, and those that the demo with defects does not keep.

use std::fmt::Write as _;

use serde_json::Value;
use zest_testkit::pages::same_as_file;

use crate::support::{copy_of_demo, root, zest, zest_with};

const AT: &str = "--at 2026-11-28T12:00:00Z";

#[test]
fn the_demo_keeps_its_promises_and_the_one_with_defects_does_not() {
    let ran = zest(&format!("promises {AT} --ledger demo/lanternsound"));
    assert_eq!(ran.status, 0, "{}{}", ran.out, ran.err);
    assert!(ran.out.contains("14 of 14 promises proved"), "{}", ran.out);
    let ran = zest(&format!("promises {AT} --ledger demo/with-defects"));
    assert_eq!(ran.status, 1, "{}{}", ran.out, ran.err);
    assert!(ran.out.contains("0 of 3 promises proved, 3 refuted"), "{}", ran.out);
    // Each example is a question that refutes it.
    let json = zest(&format!("promises {AT} --ledger demo/with-defects --format json"));
    let found: Value = serde_json::from_str(&json.out).expect("JSON");
    for promise in found["promises"].as_array().expect("a list") {
        assert_eq!(promise["standing"], "refuted");
        for witness in promise["witnesses"].as_array().expect("a list") {
            let question = format!("{}\n", witness["question"]);
            let asked = zest_with(&["ask", "--batch", "--ledger", "demo/with-defects"], question.as_bytes());
            assert!(asked.out.contains("\"verdict\":\"allowed\""), "{question}{}", asked.out);
        }
    }
}

#[test]
fn what_turns_a_promise_is_told() {
    for (file, from, to, parts) in [
        (
            "commands.toml",
            "\"allow show log last {1-200}\",",
            "\"allow show log last {1-200}\", \"allow zero tally\",",
            vec!["REFUTED", "the watch changes nothing", "zero tally"],
        ),
        (
            "skyquay.toml",
            "lifted-by = { proof = [\"one-time-code\"], proof-age = \"1h\" }",
            "lifted-by = { proof = [\"one-time-code\"], proof-age = \"2h\" }",
            vec!["REFUTED", "on a password alone", "one-time-code="],
        ),
        (
            "rostering.toml",
            "members = [\"user:purser-1\"]",
            "members = [\"user:purser-1\", \"user:dispatcher-1\"]\n# both",
            vec!["REFUTED"],
        ),
    ] {
        let home = copy_of_demo("lanternsound", Some((file, from, to)));
        let folder = home.path().to_str().expect("a path");
        let ran = zest_with(&["promises", "--at", "2026-11-28T12:00:00Z", "--ledger", folder], b"");
        // Duties that are kept apart refuse both, so nobody plans and approves even then.
        let expected = i32::from(file != "rostering.toml");
        assert_eq!(ran.status, expected, "{file}\n{}{}", ran.out, ran.err);
        if expected == 1 {
            for part in parts {
                assert!(ran.out.contains(part), "{file}: `{part}` is not in\n{}", ran.out);
            }
        }
    }
    let none = zest("promises --ledger demo/corners");
    assert!(none.status == 4 && none.out.contains("makes no promise"), "{}{}", none.out, none.err);
    let home = tempfile::tempdir().expect("a folder");
    let path = home.path().join("more.toml");
    std::fs::write(&path, "[[promises]]\nnever = [\"fly ...\"]\non = [\"sw-selkie-1\"]\n").expect("a file");
    let ran = zest_with(&["promises", "--ledger", "demo/corners", "--document", path.to_str().expect("a path")], b"");
    assert!(ran.status == 3 && ran.out.contains("says nothing"), "{} {}{}", ran.status, ran.out, ran.err);
}

#[test]
fn the_page_of_promises_is_what_the_program_prints() {
    let mut page = String::from(
        "# Promises\n\nWhat must hold of everybody, in every session: proved, or refuted by an example. Nobody can try everybody; a promise is looked at over the\nsets of rights ([reviews](reviews.md)), which are made by the rules that answer questions. A test writes this page (`ZEST_REWRITE=1`).\n\n## How they read\n\n| key | what is promised |\n|---|---|\n| `never` | nobody may anything that one of these patterns takes, in any session |\n| `never` with `longer-than-days` | nobody may it in any session that begins so many days after the review, or later, or at no stated moment |\n| `never-both` | nobody may something of two of these patterns, be it in different sessions |\n| `no-way` | nobody comes to something that one of these patterns takes, by their own rights or by acts that give them more ([ways](ways.md)) |\n| `always` | everybody may these lines in every session that can be opened and starts by itself |\n| `whoever-may`, `also-may` | whoever may something of the first may something of the second |\n| `each-right-of` with `at-least`, `at-most` | each right of these roles is held by so many people, on each system |\n| `may` with `at-least`, `at-most` | so many people may something of it, on each system; who is gone at that moment does not count |\n\n`of` says whom it is about (everybody unless stated, and every account of a database server that nobody stands behind), `but` of whom it is\nnot, `on` on which systems. `session` states facts of the sessions that are meant; `unless` leaves sessions out in which it holds.\n`exceptions` have a reason and an end. A promise says one thing: keys that do not go together say nothing, by name. Patterns are written as rules and grants write them: `show log ...`, `hulls.* on lanternsound/**`,\n`select on table fares.*`.\n\n\"May\" is what is allowed, at once or after obligations that somebody can discharge. Nobody is proved over what is not excluded: what was not\nread, chains of more than two links and whatever else a set does not tell of leave a promise *not proved*. One that takes nothing, or is about\nnobody, *says nothing*.\n\n```toml\n",
    );
    let demo = std::fs::read_to_string(root().join("demo/lanternsound/promises.toml")).expect("the demo");
    let end = demo.find("[[promises]]\nname = \"contractors").expect("it is there");
    let _ = writeln!(page, "{}\n```", demo[demo.find("[[promises]]").expect("one")..end].trim_end());
    let mut show = |head: &str, about: &str, command: &str| {
        let out = zest(command).out;
        let _ = write!(page, "\n## {head}\n\n{about}\n\n```text\n$ zest {command}\n```\n\n```text\n{}\n```\n", out.trim_end());
    };
    show(
        "All of them",
        "Exit status 0: all are proved; 1: one is refuted or not proved; 3: one says nothing; 4: there is none.",
        &format!("promises {AT} --ledger demo/lanternsound"),
    );
    show("Some that are not kept", "In the demo with defects.", &format!("promises {AT} --ledger demo/with-defects"));
    page.push_str("\n## Which change it was\n\n`--was FOLDER` and `--was-at REVISION` say how each promise of the ledger as it is would have stood then; `--turned-since REVISION` looks for\nthe revision since which it is not proved any more ([expectations](expectations.md)). About somebody who was not there it said nothing.\n");
    same_as_file("docs/promises.md", &page);
}
