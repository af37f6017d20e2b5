//! Pages of the documentation that are made from what the program says.

use std::fmt::Write as _;
use std::fs;

use serde_json::Value;

use zest_testkit::pages::same_as_file;

use crate::support::{root, zest, zest_with};

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
    let on = |user: &str, system: &str, more: &[&str], script: &str| {
        let words: Vec<&str> =
            ["rehearse", user, "--on", system].iter().chain(more).chain(&["--ledger", "demo/lanternsound"]).copied().collect();
        zest_with(&words, script.as_bytes())
    };
    let script = "select amount from fares.price\nset role \"fare-clerk\"\nselect amount from fares.price\nupdate fares.price set amount = 1\n\
                  update fares.price set zone = 1\ngrant select on fares.price to purser\nset search_path = fares\n\
                  insert into discount (id, percent) values (7, 20)\ndrop table discount\n";
    let on_ticketing = on("purser-3", "ticketing", &[], script);
    let script = "use club\nset role `member-reader`\nuse club\nselect id, name from member\nselect email from member\n\
                  set role campaign\nselect id from member\nuse campaigns\nalter table letter add column sent date\n";
    let on_loyalty = on("tariff-1", "loyalty", &["--from", "198.51.100.9"], script);
    let page = format!(
        "# A rehearsal\n\n`watch-1` has a band from 1 to 7 and the command set `trace-only` of `demo/with-defects`. He elevates with a number, is\nrefused the bare request, runs a shortened command, is refused the command that shows his level, and cannot leave.\nA test writes this page (`ZEST_REWRITE=1`).\n\n```text\n{}```\n\nThe rule is tried in the rehearsal first:\n\n```text\n{}```\n\nThen it is written into the ledger, `\"allow leave\"` at the end of `trace-only`:\n\n```text\n{}```\n\n## On a database server\n\nEach line is a statement. The active role, the default database or the path of schemas and an open transaction go on from\nstatement to statement; what would change rights or objects is answered, and not carried out.\n\n```text\n{}```\n\n```text\n{}```\n",
        before.out, on_trial.out, after.out, on_ticketing.out, on_loyalty.out
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
    same_as_file("docs/ledger.schema.json", &ran.out);
    let schema: Value = serde_json::from_str(&ran.out).expect("JSON");
    let mut page = String::from(
        "# Keys of the ledger format\n\nEvery table and every key of format 1. A test writes this page from the schema (`ZEST_REWRITE=1`).\n",
    );
    table(&mut page, "A document", &schema);
    same_as_file("docs/ledger-keys.md", &page);
}

#[test]
fn the_forms_for_programs_are_described_by_the_types_that_write_them() {
    for (name, schema) in zest_ledger::json::schemas() {
        same_as_file(&format!("docs/forms/{name}.schema.json"), &format!("{schema:#}\n"));
    }
}
