//! Hostile and broken input: a clear diagnostic or an answer, never a panic, never a wrong "allowed".

use std::fmt::Write as _;

use proptest::prelude::*;
use zest_ledger::ask::Verdict;
use zest_ledger::finding::Code;
use zest_ledger::{Engine, Ledger, Question};

use crate::support::{PIER, codes, engine, findings};

#[test]
fn ten_megabytes_on_one_line_are_read() {
    let long = format!("[users.watch-1]\nname = \"{}\"\n{PIER_WITHOUT_USERS}", "x".repeat(10 << 20));
    assert_eq!(codes(&findings(&long)), []);
    let broken = "= ".repeat(5 << 20);
    let found = findings(&broken);
    assert!(codes(&found).iter().filter(|c| **c == Code::Syntax).count() <= 51, "syntax errors are counted, not listed for ever");
}

const PIER_WITHOUT_USERS: &str = "[vocabularies.make]\ncommands = [{ line = \"show\" }]\n[systems.switch]\nkind = \"network-device\"\nvocabulary = \"make\"\nno-command-set = \"nothing\"\n";

#[test]
fn deep_nesting_is_refused_without_using_up_the_stack() {
    for text in [format!("a = {}", "[".repeat(200_000)), format!("a = {}", "{ a = ".repeat(100_000)), format!("[{}]", "a.".repeat(100_000))]
    {
        assert!(codes(&findings(&text)).contains(&Code::Syntax));
    }
}

#[test]
fn chains_of_a_hundred_thousand_groups_and_roles_are_followed() {
    let mut text = PIER_WITHOUT_USERS.to_owned();
    text.push_str("[users.watch-1]\nproofs = [\"password\"]\n[groups.g-0]\nmembers = [\"user:watch-1\"]\n[roles.r-0]\nband = { start = 1, ceiling = 1 }\n");
    let deep = 20_000;
    for i in 1..deep {
        let _ = write!(text, "[groups.g-{i}]\nmembers = [\"group:g-{}\"]\n[roles.r-{i}]\nincludes = [\"r-{}\"]\n", i - 1, i - 1);
    }
    let _ = write!(text, "[[assignments]]\nto = [\"group:g-{0}\"]\nroles = [\"r-{0}\"]\non = {{ all = true }}\n", deep - 1);
    let engine = engine(&text);
    let answer = engine.explain(&Question::new("watch-1", "switch", "show"));
    assert_eq!(answer.verdict, Verdict::Allowed, "{:#?}", answer.gates);
    let circle = text.replace("[groups.g-0]\nmembers = [\"user:watch-1\"]", &format!("[groups.g-0]\nmembers = [\"group:g-{}\"]", deep - 1));
    assert!(codes(&findings(&circle)).contains(&Code::GroupCycle));
}

#[test]
fn a_hundred_thousand_loose_references_are_reported_in_good_time() {
    let mut text = PIER_WITHOUT_USERS.to_owned();
    for i in 0..30_000 {
        let _ = writeln!(text, "[users.user-{i}]\nproofs = [\"password\"]\n[groups.group-{i}]\nmembers = [\"user:usr-{i}\"]");
    }
    let found = findings(&text);
    assert_eq!(codes(&found).len(), 30_000);
    assert_eq!(
        found.list()[0].primary.as_ref().map(|l| l.text.as_str()),
        Some("did you mean `user-0`?"),
        "the first ones still get a suggestion"
    );
}

#[test]
fn more_modes_than_a_device_has_bits_for_are_refused() {
    let modes: Vec<String> = (0..65).map(|i| format!("m{i} = {{}}")).collect();
    let text = PIER_WITHOUT_USERS.replace("commands =", &format!("modes = {{ {} }}\ncommands =", modes.join(", ")));
    assert!(codes(&findings(&text)).contains(&Code::OutOfRange));
}

#[test]
fn levels_outside_the_range_are_errors_in_text_and_in_code() {
    use zest_ledger::entry::Role;
    for text in ["[roles.a]\nband = { start = -1, ceiling = 1 }", "[roles.a]\nband = { start = 1, ceiling = 99999999999999999999 }"] {
        assert!(codes(&findings(text)).contains(&Code::OutOfRange), "{text}");
    }
    let found = Ledger::new().role(Role::new("a").band(1, 16)).validate().findings;
    assert!(codes(&found).contains(&Code::OutOfRange), "{found}");
    assert!(found.to_string().contains("hostile_input.rs:"), "built entries point to the line of code: {found}");
}

#[test]
fn names_with_control_characters_are_refused_and_never_printed_raw() {
    let text = "[users.\"a\\u001b[2J\"]\n[users.\"b\\u202Ec\"]\n[users.\" c \"]\n[users.\"\"]\n";
    let found = findings(text);
    assert_eq!(codes(&found).iter().filter(|c| **c == Code::BadName).count(), 4, "{found}");
    assert!(!found.to_string().chars().any(|c| c == '\u{1b}' || c == '\u{202e}'));
}

#[test]
fn a_broken_document_does_not_hide_the_others() {
    let found = Ledger::new().document("a.toml", "[users.x\n= =").document("b.toml", "[roles.a]\nbnad = 1\n").validate().findings;
    assert!(codes(&found).contains(&Code::Syntax) && codes(&found).contains(&Code::UnknownKey), "{found}");
}

#[test]
fn a_byte_order_mark_and_windows_line_ends_are_no_problem() {
    let text = format!("\u{feff}{}", PIER.replace('\n', "\r\n"));
    let validated = Ledger::new().document_bytes("ledger.toml", text.as_bytes()).validate();
    assert!(validated.estate.is_some(), "{}", validated.findings);
}

proptest! {
    #![proptest_config(ProptestConfig { cases: 300, ..ProptestConfig::default() })]

    /// Cut anywhere or with a byte changed, a ledger is read or refused, and what is refused says where.
    #[test]
    fn damaged_ledgers_never_panic(cut in 0..PIER.len(), at in 0..PIER.len(), byte in any::<u8>()) {
        let mut bytes = PIER.as_bytes()[..cut].to_vec();
        if let Some(slot) = bytes.get_mut(at) {
            *slot = byte;
        }
        let validated = Ledger::new().document_bytes("ledger.toml", &bytes).validate();
        if let Some(Ok(engine)) = validated.estate.map(Engine::compile) {
            let _ = engine.ask(&Question::new("watch-1", "switch", "show level"));
        }
    }

    /// No line makes the engine panic, and what is decided does not depend on who explains it.
    #[test]
    fn any_line_is_answered(line in "\\PC{0,30}|(show|elevate|sh|e|conf|7|\\.\\.\\.|\"| ){0,8}") {
        thread_local! {
            static ENGINE: Engine = engine(PIER);
        }
        ENGINE.with(|engine| {
            for user in ["watch-1", "lead-1"] {
                let question = Question::new(user, "switch", &line);
                assert_eq!(engine.decide(&question).verdict, engine.explain(&question).verdict);
            }
        });
    }
}
