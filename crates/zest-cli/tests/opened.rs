//! Questions about sessions that were opened before a change of the ledger.

use git2::Repository;
use serde_json::Value;

use crate::support::{Ran, commit, copy_of_demo, zest_with};

const ACCOUNT: &str = "\"purser-3@203.0.113.%\" = { member-of = [\"member-reader\"], default-role = \"member-reader\" }";

/// A repository with the demo of 20 November, in which an account was locked on the 25th.
fn repository() -> tempfile::TempDir {
    let home = copy_of_demo("lanternsound", None);
    let repository = Repository::init(home.path()).expect("a repository");
    commit(&repository, "the demo", 1_795_161_600);
    let path = home.path().join("loyalty.toml");
    let text = std::fs::read_to_string(&path).expect("a document");
    assert!(text.contains(ACCOUNT), "{text}");
    std::fs::write(&path, text.replacen(ACCOUNT, "\"purser-3@203.0.113.%\" = { locked = true }", 1)).expect("a file");
    commit(&repository, "purser-3 has left the ship", 1_795_593_600);
    home
}

fn asked(ledger: &str, words: &str, sql: &str) -> Ran {
    let words: Vec<&str> = words.split_whitespace().collect();
    let question = ["ask", "purser-3", "--on", "loyalty", "--from", "203.0.113.9", "--sql", sql, "--ledger", ledger];
    zest_with(&[&question[..], &words].concat(), b"")
}

#[test]
fn a_session_is_asked_about_by_when_it_was_opened() {
    let home = repository();
    let ledger = home.path().to_str().expect("a path");
    let select = "select name from club.member";
    for (words, sql, status, parts) in [
        ("", select, 1, ["[account-locked]", "is locked"]),
        (
            "--opened 2026-11-21T08:00:00Z",
            select,
            0,
            [":loyalty.toml:20", "In a session that is opened now: denied  entry [account-locked]"],
        ),
        ("--was-at HEAD~1", select, 0, ["opened when it was HEAD~1", "HEAD~1:loyalty.toml:20"]),
        ("--was demo/lanternsound", select, 0, ["opened when it was demo/lanternsound", "demo/lanternsound/loyalty.toml:20"]),
        ("--opened 2026-11-26T08:00:00Z", select, 1, ["[account-locked]", "In a session that is opened now: denied"]),
        ("--opened 2026-11-21T08:00:00Z --was-at HEAD", select, 1, ["opened at 2026-11-21T08:00:00Z when it was HEAD", "is locked"]),
        (
            "--was-at HEAD~1",
            "delete from club.member",
            1,
            ["[no-privilege]", "In a session that is opened now: denied  entry [account-locked]"],
        ),
    ] {
        let ran = asked(ledger, words, sql);
        assert_eq!(ran.status, status, "{words}: {}{}", ran.out, ran.err);
        let out = ran.out.split_whitespace().collect::<Vec<_>>().join(" ");
        for part in parts {
            assert!(out.contains(&part.split_whitespace().collect::<Vec<_>>().join(" ")), "{words}: `{part}` is not in\n{}", ran.out);
        }
        assert!(words.is_empty() || !ran.out.contains("It would be allowed"), "{words}: {}", ran.out);
    }
}

#[test]
fn both_answers_come_as_json() {
    let home = repository();
    let ran = asked(home.path().to_str().expect("a path"), "--opened 2026-11-21T08:00:00Z --format json", "select name from club.member");
    let told: Value = serde_json::from_str(&ran.out).expect("JSON");
    let of = |path: &str| told.pointer(path).cloned().unwrap_or_default();
    for (path, value) in [
        ("/format", Value::from(1)),
        ("/at", "2026-11-21T08:00:00Z".into()),
        ("/answer/verdict", "allowed".into()),
        ("/anew/verdict", "denied".into()),
        ("/anew/code", "account-locked".into()),
        ("/answer/grounds/2/place/file", "loyalty.toml".into()),
    ] {
        assert_eq!(of(path), value, "{path}: {told:#}");
    }
    let again: zest_ledger::json::Opened = serde_json::from_str(&ran.out).expect("it is read back");
    assert_eq!(serde_json::to_value(again).expect("it is written"), told);
}

#[test]
fn what_cannot_be_asked_of_an_open_session_is_said() {
    let home = repository();
    let ledger = home.path().to_str().expect("a path");
    for (words, status, part) in [
        ("--opened 2026-11-19T08:00:00Z", 2, "no revision is as old as 2026-11-19T08:00:00Z"),
        ("--opened yesterday", 2, "yesterday"),
        ("--was-at nowhere", 2, "`nowhere` is no revision here"),
        ("--was demo/nowhere", 3, "no question about it is answered"),
        ("--was demo/lanternsound --was-at HEAD", 2, "cannot be used with"),
        ("--was-at HEAD --opens", 2, "cannot be used with"),
        ("--was-at HEAD --record anything.toml", 2, "cannot be used with"),
    ] {
        let ran = asked(ledger, words, "select name from club.member");
        assert_eq!(ran.status, status, "{words}: {}{}", ran.out, ran.err);
        assert!(ran.err.contains(part), "{words}: `{part}` is not in\n{}", ran.err);
    }
    let several = ["ask", "purser-3", "--on", "all", "--ledger", ledger, "--was-at", "HEAD", "show", "release"];
    let ran = zest_with(&several, b"");
    assert!(ran.status == 2 && ran.err.contains("open on one system"), "{}{}", ran.out, ran.err);
}
