//! Commands, exit statuses and outputs.

use crate::support::{zest, zest_with};

const MORNING: &str = "--at 2026-11-25T09:00:00+01:00 --from 192.0.2.10 --ledger demo/lanternsound";

#[test]
fn exit_statuses_tell_the_answers_apart() {
    let office = "--from 192.0.2.70 --ledger demo/lanternsound";
    for (line, status) in [
        (format!("ask watch-1 --on sw-selkie-1 {MORNING} show paths"), 0),
        (format!("ask watch-1 --on sw-selkie-1 {MORNING} show log"), 1),
        (format!("ask net-1 --on sw-selkie-1 --level 15 {office} restart"), 6),
        (format!("ask net-1 --on sw-selkie-1 --level 15 --confirmed --approved-by net-2 {office} restart"), 0),
        ("ask".to_owned(), 2),
        (format!("ask watch-1 {MORNING} show log"), 2),
        ("ask watch-1 --on sw-selkie-1 --level 16 show log".to_owned(), 2),
        ("ask watch-1 --on sw-selkie-1 --at yesterday show log".to_owned(), 2),
        ("ask watch-1 --on sw-selkie-1 --proof smile show log".to_owned(), 2),
        ("ask watch-1 --on sw-selkie-1 --ledger nowhere show log".to_owned(), 3),
        ("ask --batch --ledger demo/lanternsound".to_owned(), 4),
        ("effective watch-1 --ledger demo/lanternsound".to_owned(), 0),
        ("effective watch-1 --best --ledger demo/lanternsound".to_owned(), 0),
        ("effective watch-4 --best --ledger demo/lanternsound".to_owned(), 1),
        ("effective watch-4 --ledger demo/lanternsound".to_owned(), 1),
        ("effective nobody --ledger demo/lanternsound".to_owned(), 1),
        ("effective watch-1 --on nowhere --ledger demo/lanternsound".to_owned(), 2),
        ("findings --ledger demo/with-defects".to_owned(), 1),
        ("findings --ledger demo/with-defects --fail-on error".to_owned(), 0),
        ("findings --ledger nowhere".to_owned(), 3),
        ("findings --about ZL0601".to_owned(), 0),
        ("findings --about ZL9999".to_owned(), 2),
        ("rehearse watch-4 --on sw-selkie-1 --ledger demo/lanternsound".to_owned(), 1),
        ("schema".to_owned(), 0),
        ("demo".to_owned(), 0),
        ("completions bash".to_owned(), 0),
        ("--version".to_owned(), 0),
    ] {
        let ran = zest(&line);
        assert_eq!(ran.status, status, "zest {line}\n{}{}", ran.out, ran.err);
    }
}

#[test]
fn piped_output_is_plain_and_at_most_eighty_columns_wide() {
    for line in [
        format!("ask watch-1 --on sw-selkie-1 {MORNING} show log"),
        "effective tech-1 --ledger demo/lanternsound".to_owned(),
        "effective watch-lead --ledger demo/lanternsound".to_owned(),
        "demo".to_owned(),
    ] {
        let ran = zest(&line);
        assert!(!ran.out.contains('\u{1b}'), "{line} prints colours into a pipe");
        for row in ran.out.lines() {
            assert!(row.chars().count() <= 80, "{line}: {} columns: {row}", row.chars().count());
        }
    }
}

#[test]
fn a_script_is_rehearsed_into_a_transcript() {
    let words: Vec<&str> =
        "rehearse watch-2 --on sw-selkie-1 --at 2026-11-25T09:00:00+01:00 --from 192.0.2.3 --ledger demo/lanternsound".split(' ').collect();
    let script = b"# a comment\nelevate 7\n\nelevate\nsh lev\nleave\nnever typed\n";
    let ran = zest_with(&words, script);
    assert_eq!(ran.status, 0, "{}", ran.err);
    assert!(ran.out.contains("sw-selkie-1 ^ sh lev\n  allowed: show level; the level is 7\n"), "{}", ran.out);
    assert!(!ran.out.contains("never typed"), "the session had ended");
    let strict: Vec<&str> = words.iter().copied().chain(["--strict"]).collect();
    let ran = zest_with(&strict, script);
    assert_eq!(ran.status, 1);
    assert!(ran.out.contains("refused [not-permitted]") && !ran.out.contains("sh lev"), "strict stops at the first refusal\n{}", ran.out);
}

#[test]
fn a_question_mark_lists_what_goes_on_from_the_words_before_it() {
    let words: Vec<&str> =
        "rehearse watch-2 --on sw-selkie-1 --at 2026-11-25T09:00:00+01:00 --from 192.0.2.3 --ledger demo/lanternsound".split(' ').collect();
    let listed = |script: &str| {
        let ran = zest_with(&words, script.as_bytes());
        ran.out.lines().filter(|l| l.starts_with("  ")).map(|l| l.trim().split("  ").next().unwrap_or("").to_owned()).collect::<Vec<_>>()
    };
    assert_eq!(listed("show pa?"), ["show paths", "show path to {address}"]);
    assert_eq!(listed("sh ti?"), ["show time"]);
    assert_eq!(listed("edit ?"), ["nothing is permitted here"]);
}

#[test]
fn the_way_out_of_the_tool_needs_no_permission() {
    let words: Vec<&str> = "rehearse watch-1 --on sw-selkie-1 --ledger demo/with-defects".split(' ').collect();
    let ran = zest_with(&words, b"leave\n:why\n:state\n:nonsense\n?\n:allow show *\n:quit\nshow release\n");
    assert_eq!(ran.status, 2, "a word that the tool does not know is no refusal");
    assert!(ran.out.contains("no word of the tool is `:nonsense`"), "{}", ran.out);
    assert!(ran.out.contains("the session is still open"), "{}", ran.out);
    assert!(ran.out.contains("if command set `trace-only` also allowed `leave`"), ":why gives the remedy\n{}", ran.out);
    assert!(ran.out.contains("`*` alone could mean a word or the rest"), "{}", ran.out);
    assert!(!ran.out.contains("show make and release\n  allowed"), "nothing is typed after :quit");
}

#[test]
fn the_demo_is_written_whole_or_not_at_all() {
    let home = tempfile::tempdir().expect("a folder");
    let play = home.path().join("play");
    let into = play.to_str().expect("a path");
    let ran = zest_with(&["demo", "--into", into], b"");
    assert_eq!(ran.status, 0, "{}", ran.err);
    let ledger = play.join("lanternsound");
    let ran = zest_with(&["findings", "--ledger", ledger.to_str().expect("a path"), "--fail-on", "error"], b"");
    assert_eq!(ran.status, 0, "{}{}", ran.out, ran.err);
    let again = zest_with(&["demo", "--into", into], b"");
    assert_eq!(again.status, 3);
    assert!(again.err.contains("already there"), "{}", again.err);
    let lost = home.path().join("no/such/folder");
    assert_eq!(zest_with(&["demo", "--into", lost.to_str().expect("a path")], b"").status, 3);
    let left: Vec<_> = std::fs::read_dir(home.path()).expect("the folder").flatten().map(|e| e.file_name()).collect();
    assert_eq!(left, ["play"], "nothing half-written is left behind");
}

#[test]
fn completions_and_manual_pages_come_from_the_same_definitions() {
    for shell in ["bash", "zsh", "fish"] {
        let ran = zest(&format!("completions {shell}"));
        assert!(ran.out.contains("rehearse"), "{shell}");
    }
    let home = tempfile::tempdir().expect("a folder");
    let folder = home.path().join("man");
    assert_eq!(zest_with(&["manual", folder.to_str().expect("a path")], b"").status, 0);
    let page = std::fs::read_to_string(folder.join("zest-ask.1")).expect("the page is there");
    assert!(page.contains("central") && page.contains(".TH"), "{page}");
}

#[test]
fn help_names_every_exit_status() {
    let ran = zest("--help");
    for status in ["0  allowed", "1  denied", "2  the command line", "3  the ledger", "4  nothing", "6  allowed after"] {
        assert!(ran.out.contains(status), "{status} is not in\n{}", ran.out);
    }
}

#[test]
fn json_is_one_document_and_the_same_every_time() {
    for line in [
        format!("ask watch-1 --on sw-selkie-1 {MORNING} --format json show log"),
        "effective watch-1 --ledger demo/lanternsound --format json".to_owned(),
        "findings --ledger demo/with-defects --format json".to_owned(),
    ] {
        let (one, two) = (zest(&line), zest(&line));
        assert_eq!(one.out, two.out, "{line}");
        assert!(serde_json::from_str::<serde_json::Value>(&one.out).is_ok(), "{line}");
    }
}

#[test]
fn a_finding_in_a_long_line_has_its_own_column() {
    for blanks in [0, 300, 3_000] {
        let home = tempfile::tempdir().expect("a folder");
        let text = format!("[groups.a]\nmembers = [ {}\"user:nobody\"]\n", " ".repeat(blanks));
        std::fs::write(home.path().join("people.toml"), text).expect("a file");
        let found = zest(&format!("findings --ledger {}", home.path().display())).out;
        let (place, marked) = (format!("people.toml:2:{}", 13 + blanks), "^^^^^^^^^^^^^");
        assert!(found.contains(&place) && found.contains(marked), "{blanks} blanks: {found}");
    }
}
