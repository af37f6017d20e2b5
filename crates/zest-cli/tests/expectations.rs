//! Recorded questions, asked again: the demo's, and what fails after a change.

use std::fmt::Write as _;

use serde_json::Value;
use zest_testkit::pages::same_as_file;

use crate::support::{copy_of_demo, root, zest, zest_with};

/// The demo with one line changed by somebody who did not think of the watch.
fn changed() -> tempfile::TempDir {
    copy_of_demo("lanternsound", Some(("commands.toml", "\"allow elevate {level: 1-7}\"", "\"allow elevate {level: 1-6}\"")))
}

#[test]
fn the_demo_holds_what_it_expects() {
    let ran = zest("expectations --ledger demo/lanternsound");
    assert_eq!(ran.status, 0, "{}{}", ran.out, ran.err);
    let json = zest("expectations --ledger demo/lanternsound --format json");
    let found: Value = serde_json::from_str(&json.out).expect("JSON");
    let outcomes = found["outcomes"].as_array().expect("a list");
    assert!(outcomes.len() >= 60 && outcomes.iter().all(|one| one["holds"] == true), "{}", outcomes.len());
    // Every kind is asked about.
    for system in ["sw-selkie-1", "ticketing", "loyalty", "skyquay", "linkspan", "rostering", "kiosk-selkie", "batch-runner"] {
        assert!(outcomes.iter().any(|one| one["question"]["on"] == system), "nothing is asked of {system}");
    }
}

#[test]
fn what_turned_is_told_with_its_reason() {
    let home = changed();
    let folder = home.path().to_str().expect("a path");
    let ran = zest_with(&["expectations", "--ledger", folder], b"");
    assert_eq!(ran.status, 1, "{}{}", ran.out, ran.err);
    for part in [
        "NOT AS EXPECTED  the watch looks for broken lines (expectations.toml:",
        "zest ask watch-1 --on sw-selkie-1",
        "expected  allowed",
        "is        denied [not-permitted] no rule of `trace-only` permits",
        "answers not as expected",
    ] {
        assert!(ran.out.contains(part), "`{part}` is not in\n{}", ran.out);
    }
    assert!(!ran.out.contains("sudo") && !ran.out.contains("ticketing"), "only what failed is listed\n{}", ran.out);
}

#[test]
fn answers_and_sessions_are_written_down_and_asked_again() {
    let home = tempfile::tempdir().expect("a folder");
    let kept = home.path().join("kept.toml");
    let kept = kept.to_str().expect("a path");
    let at = ["--at", "2026-11-25T09:00:00+01:00", "--from", "192.0.2.10", "--ledger", "demo/lanternsound", "--record", kept];
    let ask = |words: &[&str], line: &[&str]| zest_with(&[&["ask"], words, &at[..], line].concat(), b"");
    assert_eq!(ask(&["watch-1", "--on", "sw-selkie-1"], &["sh", "log", "last", "20"]).status, 1);
    assert_eq!(ask(&["watch-1", "--on", "linkspan"], &["release-lock", "on", "ramp/gannet-2"]).status, 6);
    let session = zest_with(&[&["rehearse", "watch-1", "--on", "sw-selkie-1"], &at[..]].concat(), b"elevate 7\nshow log last 20\nleave\n");
    assert_eq!(session.status, 0, "{}", session.out);
    let text = std::fs::read_to_string(kept).expect("it was written");
    for part in
        ["code = \"level-too-low\"", "answer = \"allowed after obligations\"", "{ line = \"show log last 20\", answer = \"allowed\" },"]
    {
        assert!(text.contains(part), "`{part}` is not in\n{text}");
    }
    let ran = zest_with(&["expectations", "--all", "--document", kept, "--ledger", "demo/lanternsound"], b"");
    assert_eq!(ran.status, 0, "{}{}", ran.out, ran.err);
    assert!(ran.out.contains("step 2") && ran.out.contains(kept), "{}", ran.out);
    // What is not written down is said, and nothing is written.
    for (words, stdin, part) in [
        (vec!["ask", "nobody", "--on", "sw-selkie-1"], "", "`nobody` is none"),
        (vec!["rehearse", "watch-1", "--on", "linkspan"], ":confirm\nlower on ramp/selkie-1\n", "`:confirm` made the session another one"),
        (vec!["rehearse", "watch-1", "--on", "sw-selkie-1"], ":state\n", "nothing was typed"),
    ] {
        let line: &[&str] = if words[0] == "ask" { &["show", "time"] } else { &[] };
        let ran = zest_with(&[&words[..], &at[..], line].concat(), stdin.as_bytes());
        assert!(ran.status == 3 && ran.err.contains(part), "{words:?}: {} {}{}", ran.status, ran.out, ran.err);
    }
    let secret = "create role x password 'hush'";
    let ran = zest_with(&["ask", "db-lead", "--on", "ticketing", "--ledger", "demo/lanternsound", "--record", kept, "--sql", secret], b"");
    assert!(ran.status == 3 && ran.err.contains("holds a credential"), "{}{}", ran.out, ran.err);
    assert_eq!(std::fs::read_to_string(kept).expect("it is there"), text);
}

#[test]
fn what_turned_since_then_is_told() {
    let home = changed();
    let folder = home.path().to_str().expect("a path");
    let ran = zest_with(&["expectations", "--was", "demo/lanternsound", "--ledger", folder], b"");
    assert_eq!(ran.status, 1, "{}{}", ran.out, ran.err);
    for part in ["before    as expected", "9 of 163 answers not as expected; since then 9 turned, and 0 turned to"] {
        assert!(ran.out.contains(part), "`{part}` is not in\n{}", ran.out);
    }
    let back = zest_with(&["expectations", "--was", folder, "--ledger", "demo/lanternsound"], b"");
    assert!(back.status == 0 && back.out.contains("0 turned, and 9 turned to what they must be"), "{}{}", back.out, back.err);
    let both = zest_with(&["expectations", "--was", folder, "--ledger", folder, "--format", "json"], b"");
    let found: Value = serde_json::from_str(&both.out).expect("JSON");
    assert!(found["outcomes"].as_array().expect("a list").iter().all(|one| one["holds"] == one["held-before"]));
    assert_eq!(zest_with(&["expectations", "--was", "demo/nowhere", "--ledger", "demo/lanternsound"], b"").status, 3);
}

/// The revision that turned an answer is found by halving, also behind one in which the ledger has errors.
#[test]
fn the_revision_that_turned_an_answer_is_found() {
    let home = tempfile::tempdir().expect("a folder");
    let repository = git2::Repository::init(home.path()).expect("a repository");
    let text = |rights: &str| {
        format!(
            "users.mate-1.proofs = [\"password\"]\n[systems.rota]\nkind = \"application\"\n[applications.rota]\ntypes.shift.rights = [\"plan\", \"drop\", \"look\"]\nobjects.\"shift/early\" = {{}}\ngrants = [{{ allow = [{rights}], on = \"shift/*\", to = [\"user:mate-1\"] }}]\n[[expectations]]\nwho = [\"user:mate-1\"]\non = [\"rota\"]\nlines = [\"plan on shift/early\", \"look on shift/early\", \"drop on shift/early\"]\nanswer = \"allowed\"\n{}",
            ["plan", "look", "drop"].map(|right| format!("[[promises]]\nmay = [\"{right} on **\"]\n")).concat()
        )
    };
    let commit = |subject: &str, text: &str| {
        std::fs::write(home.path().join("rota.toml"), text).expect("a file");
        let mut index = repository.index().expect("an index");
        index.add_path(std::path::Path::new("rota.toml")).expect("it is added");
        let tree = repository.find_tree(index.write_tree().expect("a tree")).expect("it is there");
        let author = git2::Signature::now("Net lead", "net-lead@lanternsound.example").expect("a signature");
        let parent = repository.head().ok().and_then(|head| head.peel_to_commit().ok());
        repository.commit(Some("HEAD"), &author, &author, subject, &tree, &parent.iter().collect::<Vec<_>>()).expect("a commit").to_string()
    };
    let all = "\"plan\", \"drop\", \"look\"";
    let first = commit("all may", &text(all));
    commit("a remark", &format!("# a remark\n{}", text(all)));
    let without_plan = commit("no more plans", &text("\"drop\", \"look\""));
    commit("another remark", &format!("# another\n{}", text("\"drop\", \"look\"")));
    commit("broken", "[users");
    commit("mended", &text("\"drop\", \"look\""));
    std::fs::write(home.path().join("rota.toml"), text("\"drop\"")).expect("a file");
    let folder = home.path().to_str().expect("a path");
    let run = |since: &str, more: &[&str]| zest_with(&[&["expectations", "--turned-since", since, "--ledger", folder], more].concat(), b"");
    let ran = run(&first, &[]);
    assert_eq!(ran.status, 1, "{}{}", ran.out, ran.err);
    for part in [
        &format!("turned by {} no more plans", &without_plan[..12]),
        "turned by what is in no revision yet",
        "2 of 3 answers not as expected",
    ] {
        assert!(ran.out.contains(part), "`{part}` is not in\n{}", ran.out);
    }
    let json: Value = serde_json::from_str(&run(&first, &["--format", "json"]).out).expect("JSON");
    assert_eq!(json["outcomes"][0]["turned-by"]["revision"], without_plan);
    assert!(json["outcomes"][2]["turned-by"].is_null());
    // Promises are turned as answers are.
    let promises = |words: &[&str]| zest_with(&[&["promises", "--ledger", folder], words].concat(), b"");
    let ran = promises(&["--turned-since", &first]);
    assert_eq!(ran.status, 1, "{}{}", ran.out, ran.err);
    for part in [
        "before: proved\n  turned by what is in no revision yet",
        &format!("before: proved\n  turned by {} no more plans", &without_plan[..12]),
        "1 of 3 promises proved, 2 refuted; since then 2 turned, and 0 turned to what",
    ] {
        assert!(ran.out.contains(part), "`{part}` is not in\n{}", ran.out);
    }
    assert!(promises(&["--was-at", "HEAD"]).out.contains("; since then 1 turned, and 0 turned"));
    assert!(!promises(&["--was-at", "HEAD"]).out.contains("turned by"));
    assert_eq!((promises(&["--was-at", "HEAD~1"]).status, promises(&["--turned-since", "nowhere"]).status), (3, 2));
    let json: Value = serde_json::from_str(&promises(&["--turned-since", &first, "--format", "json"]).out).expect("JSON");
    assert_eq!(json["promises"][0]["turned-by"]["revision"], without_plan);
    assert_eq!((&json["promises"][2]["stood-before"], &json["promises"][2]["turned-by"]), (&"proved".into(), &Value::Null));
    // What did not hold then was turned by nothing since.
    assert!(!run("HEAD", &[]).out.contains("turned by 0"), "plan did not hold at HEAD");
    assert_eq!(run("nowhere", &[]).status, 2);
}

#[test]
fn what_was_not_asked_does_not_count_as_held() {
    let home = tempfile::tempdir().expect("a folder");
    let write = |text: &str| {
        let path = home.path().join("rows.toml");
        std::fs::write(&path, text).expect("a file");
        path.to_str().expect("a path").to_owned()
    };
    let row =
        "[[expectations]]\nwho = [\"user:watch-1\"]\non = [\"linkspan\"]\nlines = [\"view on ramp/selkie-1\"]\nanswer = \"allowed\"\n";
    let run = |path: &str, more: &[&str]| {
        zest_with(&[&["expectations", "--document", path, "--ledger", "demo/lanternsound"], more].concat(), b"")
    };
    assert_eq!(run(&write(row), &[]).status, 0);
    let gone = run(&write(&row.replace("watch-1", "watch-11")), &[]);
    assert_eq!(gone.status, 3, "{}{}", gone.out, gone.err);
    assert!(gone.out.contains("ZL0410") && gone.out.contains("1 expectation cannot be asked"), "{}", gone.out);
    let proposed = run(&write(&row.replace("watch-1", "watch-11")), &["--propose"]);
    assert!(proposed.status == 3 && proposed.out.is_empty() && proposed.err.contains("ZL0410"), "{}{}", proposed.out, proposed.err);
    assert_eq!(run(&write("[[expectations]\n"), &[]).status, 3);
    assert_eq!(run("nowhere.toml", &[]).status, 3);
    let none = zest("expectations --ledger demo/with-defects");
    assert!(none.status == 4 && none.out.contains("no expectation was asked"), "{}{}", none.out, none.err);
}

#[test]
fn the_page_of_expectations_is_what_the_program_prints() {
    let mut page = String::from(
        "# Expectations\n\nWhat was tried once is asked again, each time: recorded questions with the answer they must have. They stand in the ledger's documents, or\nin documents beside it. A test writes this page (`ZEST_REWRITE=1`).\n\n## How they read\n\nEverybody named is asked about every line on every system named; a group stands for each of its members. A session is named, or its facts\nare stated as `zest ask` takes them. `answer` is `allowed`, `allowed after obligations`, `denied`, or `not decided` for what a server looks at\nand the ledger only names. `code` and `ground` say why, where that matters. `steps` are one session: each goes on where the one before it left\nthe level, the mode, the active role or the transaction.\n\n```toml\n",
    );
    let demo = std::fs::read_to_string(root().join("demo/lanternsound/expectations.toml")).expect("the demo");
    let part = |from: &str, to: &str| {
        let start = demo.find(from).expect("it is there");
        demo[start..start + demo[start..].find(to).expect("it is there")].trim_end().to_owned()
    };
    let _ = writeln!(page, "{}\n", part("[sessions.watch-day]", "[sessions.watch-night]"));
    let _ = writeln!(page, "{}\n", part("[[expectations]]\nname = \"and changes nothing\"", "[[expectations]]\nname = \"nobody"));
    let _ = writeln!(page, "{}\n```", part("[[expectations]]\nname = \"a watch lead sets", "[[expectations]]\nname = \"the log"));
    let mut show = |head: &str, about: &str, command: &str, out: &str| {
        let _ = write!(page, "\n## {head}\n\n{about}\n\n```text\n$ {command}\n```\n\n```text\n{}\n```\n", out.trim_end());
    };
    show(
        "All of them, asked again",
        "Exit status 0: all hold; 1: one does not; 3: one cannot be asked, which counts as failed; 4: there is none.",
        "zest expectations --ledger demo/lanternsound",
        &zest("expectations --ledger demo/lanternsound").out,
    );
    let home = changed();
    let folder = home.path().to_str().expect("a path");
    show(
        "After a change that nobody thought through",
        "Somebody wrote `{level: 1-6}` for `{level: 1-7}` in a command set. Answers of one expectation that are others for the same reason stand\ntogether.",
        "zest expectations",
        &zest_with(&["expectations", "--ledger", folder], b"").out,
    );
    show(
        "What nobody would notice",
        "Each rule, grant, assignment, ceiling, separation and condition is taken out, or turned round, and all expectations are asked of that\nledger. Where none turns, nothing would be noticed if it were gone.",
        "zest expectations --coverage --ledger demo/lanternsound",
        &zest("expectations --coverage --ledger demo/lanternsound").out,
    );
    let proposed = zest("expectations --propose --ledger demo/corners").out;
    let (_, others) = proposed.match_indices("\n# ").nth(3).map_or((proposed.as_str(), ""), |(at, _)| proposed.split_at(at));
    let first = &proposed[..proposed.len() - others.len()];
    show(
        "Rows to keep",
        "For each part on which nothing depends, `--propose` finds a question that it decides, and the nearest that it does not, and prints them\nas TOML to be read and appended. None of the questions that decide something can be left out. Here are the first:",
        "zest expectations --propose --ledger demo/corners",
        first,
    );
    page.push_str(
        "\n## Which change it was\n\n`--was FOLDER` and `--was-at REVISION` say of each answer whether it was as expected then. `--turned-since REVISION` looks, by halving,\nfor the revision of git that turned each answer that was, along the first parents: `turned by 3f1c9a2b7d04 no more plans`. A revision in which\nthe ledger has errors counts as one in which nothing held, and is said to have them.\n\n## From an answer, from a rehearsal\n\n`zest ask … --record FILE` appends the question with its answer; `zest rehearse … --record FILE` appends the session, step by step. A line with\na credential in it is not written down.\n",
    );
    same_as_file("docs/expectations.md", &page);
}
