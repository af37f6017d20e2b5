//! Pages of the documentation that are made from what the program says.

use std::fmt::Write as _;
use std::fs;

use serde_json::Value;

use zest_testkit::pages::same_as_file;

use crate::support::{root, zest, zest_with};

/// Questions on the demo ledger: one allowed, then refusals that all differ in code.
const QUESTIONS: &[&str] = &[
    "watch-1 --on sw-selkie-1 {morning} sh paths",
    "watch-9 --on sw-selkie-1 {morning} show paths",
    "Watch-1 --on sw-selkie-1 {morning} show paths",
    "net-3 --on sw-selkie-1 show release",
    "watch-4 --on sw-selkie-1 {morning} show time",
    "contractor-1 --on sw-fulmar-1 --at 2027-04-01T00:00:00Z show release",
    "watch-2 --on sw-selkie-1 {morning} --proof key show time",
    "watch-3 --on sw-selkie-1 {morning} --by web show time",
    "purser-1 --on sw-selkie-1 show release",
    "watch-1 --on sw-selkie-1 --from 192.0.2.10 show paths",
    "watch-1 --on sw-selkie-1 --at 2026-11-25T09:00:00+01:00 --from 203.0.113.9 show paths",
    "watch-1 --on sw-selkie-1 --at 2026-11-25T23:00:00+01:00 --from 192.0.2.10 show paths",
    "tech-1 --on rt-ember --at 2026-11-28T10:00:00+01:00 --from 198.51.100.9 show release",
    "auditor-1 --on sw-selkie-1 --by terminal --proof one-time-code show release",
    "auditor-1 --on sw-selkie-1 --by web --proof one-time-code=2h show release",
    "trainee-1 --on sw-selkie-1 {morning} show paths",
    "watch-1 --on sw-selkie-1 {morning} --level 8 show paths",
    "watch-1 --on sw-selkie-1 {morning} --level 0 show paths",
    "watch-1 --on sw-selkie-1 {morning} shwo paths",
    "watch-1 --on sw-selkie-1 {morning} show l",
    "watch-1 --on sw-selkie-1 {morning} show",
    "net-1 --on sw-selkie-1 --level 15 --from 192.0.2.70 name pier-one",
    "watch-1 --on sw-selkie-1 {morning} show log last 20",
    "watch-1 --on sw-selkie-1 {morning} --level 7 show log",
    "tech-1 --on rt-ember --at 2026-11-25T10:00:00+01:00 --from 198.51.100.9 --level 15 restart",
    "radio-1 --on rt-brightwater --central-down --from 198.51.100.9 elevate 9",
    "watch-1 --on sw-selkie-1 {morning} --central-down show paths",
    "contractor-1 --on rt-ember --central-down --at 2026-11-25T09:00:00Z show release",
    "watch-lead --on sw-selkie-1 --central-down --from 203.0.113.9 show log",
    "net-1 --on sw-selkie-1 --level 15 --from 192.0.2.70 --approved-by net-1 restart",
    "net-1 --on sw-selkie-1 --level 15 --from 192.0.2.70 --approved-by watch-1 restart",
];

fn place(at: &Value) -> String {
    at["file"].as_str().map_or(String::new(), |file| format!("{file}:{}", at["line"]))
}

#[test]
fn refusals_differ_in_code_and_come_with_a_place_and_a_remedy() {
    let mut page = String::from(
        "# Answers on the demo ledger\n\nOne allowed line, then refusals that all differ in code, asked of `demo/lanternsound`. Each remedy was tried by\nasking again with it applied. A test writes this page (`ZEST_REWRITE=1`). {morning} stands for\n`--at 2026-11-25T09:00:00+01:00 --from 192.0.2.10`.\n\n| `zest ask …` | code | because | written in | smallest remedy |\n|---|---|---|---|---|\n",
    );
    let mut codes: Vec<String> = Vec::new();
    let mut with_place = 0;
    for question in QUESTIONS {
        let line = question.replace("{morning}", "--at 2026-11-25T09:00:00+01:00 --from 192.0.2.10");
        let ran = zest(&format!("ask --ledger demo/lanternsound --format json {line}"));
        let answer: Value = serde_json::from_str(&ran.out).unwrap_or_else(|e| panic!("{line}: {e}\n{}", ran.err));
        let grounds = answer["grounds"].as_array().expect("grounds");
        let is_denied = answer["verdict"] == "denied";
        let ground = if is_denied { grounds.iter().find(|g| g["outcome"] == "refuses") } else { grounds.last() }.expect("a ground");
        let code = answer["code"].as_str().unwrap_or("allowed").to_owned();
        assert!(!codes.contains(&code), "{line}: {code} is in the table already");
        with_place += usize::from(is_denied && !place(&ground["place"]).is_empty());
        let remedy = answer["remedies"].as_array().expect("remedies").first();
        assert!(remedy.is_some() == is_denied, "{line}: a refusal without a remedy\n{answer:#}");
        let steps: Vec<String> = remedy
            .iter()
            .flat_map(|r| r["steps"].as_array().expect("steps"))
            .map(|s| match (s["text"].as_str().expect("a text"), place(&s["place"])) {
                (text, place) if place.is_empty() => text.to_owned(),
                (text, place) => format!("{text} ({place})"),
            })
            .collect();
        let _ = writeln!(
            page,
            "| `{}` | `{code}` | {} | {} | {} |",
            question.replace('|', "\\|"),
            ground["text"].as_str().expect("a text"),
            place(&ground["place"]),
            steps.join(", and ")
        );
        codes.push(code);
    }
    assert!(codes.len() > 12 && with_place > 12, "{} codes, {with_place} with a place", codes.len());
    same_as_file("docs/refusals.md", &page);
}

#[test]
fn a_restricted_person_cannot_leave_until_a_rule_is_added() {
    let script = "elevate 7\nelevate\nsh log\nshow level\nleave\n";
    let run =
        |ledger: &str, script: &str| zest_with(&["rehearse", "watch-1", "--on", "sw-selkie-1", "--ledger", ledger], script.as_bytes());
    let before = run("demo/with-defects", script);
    let on_trial = run("demo/with-defects", "leave\n:allow leave\nleave\n");
    let home = tempfile::tempdir().expect("a folder");
    for entry in fs::read_dir(root().join("demo/with-defects")).expect("the demo").flatten() {
        let text = fs::read_to_string(entry.path()).expect("a document");
        let mended = text.replace("  \"allow show log\",\n]", "  \"allow show log\",\n  \"allow leave\",\n]");
        fs::write(home.path().join(entry.file_name()), mended).expect("a file");
    }
    let after = run(home.path().to_str().expect("a path"), script);
    assert!(before.out.contains("the session is still open"), "{}", before.out);
    assert!(after.out.ends_with("^ leave\n  allowed; the session has ended\n"), "{}", after.out);
    assert!(on_trial.out.ends_with("~ leave\n  allowed; the session has ended\n"), "{}", on_trial.out);
    for expected in [
        "^ elevate\n  refused",
        "^ sh log\n  allowed: show log",
        "^ show level\n  refused [not-permitted]",
        "^ leave\n  refused [not-permitted]",
    ] {
        assert!(before.out.contains(expected), "`{expected}` is not in\n{}", before.out);
    }
    let page = format!(
        "# A rehearsal\n\n`watch-1` has a band from 1 to 7 and the command set `trace-only` of `demo/with-defects`. He elevates with a number, is\nrefused the bare request, runs a shortened command, is refused the command that shows his level, and cannot leave.\nA test writes this page (`ZEST_REWRITE=1`).\n\n```text\n{}```\n\nThe rule is tried in the rehearsal first:\n\n```text\n{}```\n\nThen it is written into the ledger, `\"allow leave\"` at the end of `trace-only`:\n\n```text\n{}```\n",
        before.out, on_trial.out, after.out
    );
    same_as_file("docs/rehearsal.md", &page);
}

#[test]
fn the_keys_of_the_format_are_listed() {
    fn table(page: &mut String, name: &str, schema: &Value) {
        let Some(keys) = schema["properties"].as_object() else { return };
        let required: Vec<&str> = schema["required"].as_array().into_iter().flatten().filter_map(Value::as_str).collect();
        let _ =
            write!(page, "\n## {name}\n\n{}\n\n| key | value | meaning |\n|---|---|---|\n", schema["description"].as_str().unwrap_or(""));
        for (key, value) in keys {
            let needed = if required.contains(&key.as_str()) { " (needed)" } else { "" };
            let about = value["description"].as_str().unwrap_or("").replace('|', "\\|");
            let _ = writeln!(page, "| `{key}`{needed} | {} | {about} |", kind(value));
        }
        for (key, value) in keys {
            for inner in [value, &value["additionalProperties"], &value["items"], &value["items"]["anyOf"][1]] {
                if inner["properties"].is_object() {
                    let entry = if std::ptr::eq(inner, &value["additionalProperties"]) { ".ID" } else { "" };
                    table(page, &format!("{}{key}{entry}", if name == "A document" { String::new() } else { format!("{name}.") }), inner);
                }
            }
        }
    }
    fn kind(value: &Value) -> String {
        if let Some(words) = value["enum"].as_array() {
            return words.iter().map(|w| format!("`{}`", w.as_str().unwrap_or(""))).collect::<Vec<_>>().join(" or ");
        }
        if let Some(any) = value["anyOf"].as_array() {
            return any.iter().map(kind).collect::<Vec<_>>().join(" or ");
        }
        match value["type"].as_str() {
            // A moment is the one text whose form begins with a year.
            Some("string") if value["pattern"].as_str().is_some_and(|p| p.starts_with("^[0-9]{4}-")) => "date or moment".to_owned(),
            Some("string") => "text".to_owned(),
            Some("boolean") => "true or false".to_owned(),
            Some("integer") => value["maximum"].as_i64().map_or("number".to_owned(), |m| format!("{} to {m}", value["minimum"])),
            Some("array") => format!("list of {}", kind(&value["items"])),
            _ => "table".to_owned(),
        }
    }
    let ran = zest("schema");
    let schema: Value = serde_json::from_str(&ran.out).expect("JSON");
    let mut page = String::from(
        "# Keys of the ledger format\n\nEvery table and every key of format 1. A test writes this page from the schema (`ZEST_REWRITE=1`).\n",
    );
    table(&mut page, "A document", &schema);
    same_as_file("docs/ledger-keys.md", &page);
}
