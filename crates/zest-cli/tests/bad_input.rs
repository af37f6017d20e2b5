//! Folders and files that cannot be read: a clear finding and exit status 3, never a panic.

use std::fs;
use std::path::Path;

use crate::support::{Ran, zest_with};

fn folder(files: &[(&str, &[u8])]) -> tempfile::TempDir {
    let home = tempfile::tempdir().expect("a folder");
    for (name, bytes) in files {
        let path = home.path().join(name);
        fs::create_dir_all(path.parent().expect("a parent")).expect("a folder");
        fs::write(path, bytes).expect("a file");
    }
    home
}

fn findings(folder: &Path) -> Ran {
    zest_with(&["findings", "--ledger", folder.to_str().expect("a path")], b"")
}

#[test]
fn each_kind_of_broken_ledger_says_what_it_is() {
    let deep = format!("a = {}", "[".repeat(100_000));
    let long = format!("[users.a]\nprofs = \"{}\"\n", "x".repeat(1 << 20));
    for (files, said) in [
        (&[][..], "ZL0104 empty-ledger"),
        (&[("notes.txt", &b"nothing"[..])][..], "ZL0104 empty-ledger"),
        (&[("a.toml", b"".as_slice())][..], "ZL0104 empty-ledger"),
        (&[("a.toml", b"[users.a]\n".as_slice())][..], "ZL0105 no-system"),
        (&[("a.toml", b"name = \"\xff\"".as_slice())][..], "ZL0102 not-text"),
        (&[("a.toml", b"[users".as_slice())][..], "ZL0101 syntax"),
        (&[("a.toml", deep.as_bytes())][..], "ZL0101 syntax"),
        (&[("a.toml", long.as_bytes())][..], "ZL0106 unknown-key"),
        (&[("a.toml", b"[users.a]\n".as_slice()), ("sub/b.toml", b"[users.a]\n".as_slice())][..], "ZL0203 duplicate-id"),
        (&[("a.toml", b"[users.\"\\u001b[2J\"]\n".as_slice())][..], "ZL0111 bad-name"),
        (&[("a.toml", b"[users.a]\npassword = \"correct horse\"\n".as_slice())][..], "ZL0112 secret-in-ledger"),
    ] {
        let home = folder(files);
        let ran = findings(home.path());
        assert_eq!(ran.status, 3, "{said}\n{}", ran.out);
        assert!(ran.out.contains(said), "{said} is not in\n{:.2000}", ran.out);
        assert!(ran.out.len() < 20_000, "{said}: {} bytes are printed", ran.out.len());
        assert!(!ran.out.contains('\u{1b}') && !ran.out.contains("horse"), "{said}: something is printed raw\n{}", ran.out);
        let asked = zest_with(&["ask", "a", "--on", "b", "--ledger", home.path().to_str().expect("a path"), "c"], b"");
        assert_eq!((asked.status, asked.out.as_str()), (3, ""), "errors stop answers");
        assert!(asked.err.contains("no question about it is answered"), "{}", asked.err);
    }
}

#[test]
fn underlined_text_stands_below_what_it_is_about() {
    let home = folder(&[("people.toml", b"[users.watch-1]\nproofs = [\"pasword\"]\n")]);
    let ran = findings(home.path());
    assert!(ran.out.contains("people.toml:2:11"), "{}", ran.out);
    assert!(ran.out.contains("2 | proofs = [\"pasword\"]\n  |           ^^^^^^^^^ did you mean \"password\"?"), "{}", ran.out);
}

#[test]
fn a_file_may_be_named_instead_of_a_folder() {
    let home = folder(&[("a.toml", b"[users.a]\n")]);
    let ran = findings(&home.path().join("a.toml"));
    assert!(ran.out.contains("no-system"), "{}{}", ran.out, ran.err);
}

#[cfg(unix)]
#[test]
fn links_in_circles_and_hidden_folders_are_not_followed() {
    let home = folder(&[("a.toml", b"[users.a]\n"), (".git/b.toml", b"[users.a]\n")]);
    std::os::unix::fs::symlink(home.path(), home.path().join("again")).expect("a link");
    std::os::unix::fs::symlink("nowhere", home.path().join("lost.toml")).expect("a link");
    let ran = findings(home.path());
    assert!(ran.out.contains("ZL0103 unreadable") && ran.out.contains("lost.toml"), "{}", ran.out);
    assert!(!ran.out.contains("duplicate-id"), "{}", ran.out);
}

#[test]
fn long_lines_and_odd_bytes_in_a_question_are_answered() {
    for line in ["x".repeat(100_000), "\u{1b}[2J".to_owned(), "\u{202e}".to_owned(), "\"".to_owned(), String::new()] {
        let ran = zest_with(&["ask", "watch-1", "--on", "sw-selkie-1", "--ledger", "demo/lanternsound", "--", &line], b"");
        assert_eq!(ran.status, 1, "{}", ran.err);
        assert!(!ran.out.contains('\u{1b}') && !ran.out.contains('\u{202e}'));
    }
}
