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

const SMALL: &[u8] = b"[users.a-1]\nproofs = [\"password\"]\n[systems.app]\nkind = \"application\"\n";

#[test]
fn what_looks_like_a_document_and_is_not_read_is_said_and_stops_answers() {
    let other = folder(&[("deny.toml", b"[groups.g]\n")]);
    let link = |to: &Path, at: &Path| std::os::unix::fs::symlink(to, at);
    type Lay<'l> = (&'static str, &'l dyn Fn(&Path), &'static str);
    let lay: [Lay<'_>; 5] = [
        ("a linked folder", &|home| link(other.path(), &home.join("linked")).expect("a link"), "link to a folder"),
        ("upper case", &|home| fs::write(home.join("D.TOML"), "[groups.g]\n").expect("a file"), "D.TOML"),
        ("a device", &|home| link(Path::new("/dev/zero"), &home.join("z.toml")).expect("a link"), "not a plain file"),
        (
            "a pipe",
            &|home| assert!(std::process::Command::new("mkfifo").arg(home.join("p.toml")).status().expect("it runs").success()),
            "not a plain file",
        ),
        ("a link to nothing", &|home| link(Path::new("/nowhere/at/all"), &home.join("n.toml")).expect("a link"), "n.toml"),
    ];
    for (what, lay, said) in lay {
        let home = folder(&[("a.toml", SMALL)]);
        lay(home.path());
        let path = home.path().to_str().expect("a path");
        let ran = zest_with(&["findings", "--ledger", path], b"");
        assert!(ran.status == 3 || ran.out.contains("error["), "{what}: {}{}", ran.out, ran.err);
        assert!(format!("{}{}", ran.out, ran.err).contains(said), "{what}: {}{}", ran.out, ran.err);
        for command in [&["ask", "--ledger", path, "a-1", "--on", "app", "open on box/1"][..], &["effective", "a-1", "--ledger", path][..]]
        {
            let ran = zest_with(command, b"");
            assert_eq!(ran.status, 3, "{what}: {command:?} answers: {}{}", ran.out, ran.err);
        }
    }
    // A hidden document is no part of the ledger, and is named; a hidden folder, such as that of git, is not looked into.
    let home = folder(&[("a.toml", SMALL), (".b.toml", b"[groups.g]\n"), (".git/c.toml", b"[groups.g]\n")]);
    let ran = findings(home.path());
    assert!(ran.out.contains("ZL0116") && ran.out.contains(".b.toml") && !ran.out.contains("c.toml"), "{}", ran.out);
}

const HOST: &str = r#"
[users]
op-1 = { proofs = ["key"] }
gone-1 = { proofs = ["key"], until = 2026-06-30 }
off-1 = { proofs = ["key"], disabled = true }
[systems.box]
kind = "host"
no-command-set = "nothing"
[command-sets.all]
rules = ["allow /usr/bin/id"]
[hosts.box]
run-as = [{ by = ["user:gone-1", "user:off-1", "user:op-1"], as = ["op-1"], commands = ["all"] }]
[hosts.box.accounts]
op-1 = {}
gone-1 = {}
off-1 = {}
[systems.db]
kind = "postgresql"
[databases.db.accounts]
postgres = { may = ["superuser"] }
gone-1 = {}
off-1 = {}
"#;

#[test]
fn what_is_emitted_at_a_moment_names_nobody_who_is_gone_then() {
    let home = folder(&[("a.toml", HOST.as_bytes())]);
    let emit = |system: &str, more: &[&str]| {
        let ran = zest_with(&[&["emit", system, "--ledger", home.path().to_str().expect("a path")][..], more].concat(), b"");
        assert_eq!(ran.status, 0, "{}{}", ran.out, ran.err);
        // Comments say who was left out.
        ran.out.lines().filter(|l| !l.trim_start().starts_with('#')).collect::<Vec<_>>().join("\n")
    };
    for part in [&["--part", "run-as"][..], &["--part", "sign-in"][..]] {
        let (then, now) = (
            emit("box", &[part, &["--at", "2026-06-01T00:00:00Z"]].concat()),
            emit("box", &[part, &["--at", "2026-07-01T00:00:00Z"]].concat()),
        );
        assert!(then.contains("gone-1") && then.contains("op-1") && !then.contains("off-1"), "{part:?}\n{then}");
        assert!(!now.contains("gone-1") && now.contains("op-1") && !now.contains("off-1"), "{part:?}\n{now}");
    }
    let (then, now) = (emit("db", &["--at", "2026-06-01T00:00:00Z"]), emit("db", &["--at", "2026-07-01T00:00:00Z"]));
    assert!(then.contains("CREATE ROLE \"gone-1\" LOGIN") && !then.contains("\"off-1\" LOGIN"), "{then}");
    assert!(!now.contains("\"gone-1\" LOGIN") && !now.contains("\"off-1\" LOGIN"), "{now}");
}

#[test]
fn nothing_is_emitted_that_locks_everybody_out_or_cannot_be_written() {
    for (system, ledger, said) in [
        ("box", HOST.replace("op-1 = { proofs = [\"key\"] }", "op-1 = { proofs = [\"key\"], disabled = true }"), "sign in"),
        (
            "db",
            HOST.replace("postgres = { may = [\"superuser\"] }", "postgres = { may = [\"superuser\"], until = 2026-01-01 }"),
            "superuser",
        ),
        ("db", format!("{HOST}[databases.db.objects]\n\"type public.mood\" = {{}}\n"), "type public.mood"),
        ("db", format!("{HOST}[databases.db.objects]\n\"function public.f()\" = {{ returns = \"integer\" }}\n"), "its body"),
        (
            "db",
            format!(
                "{HOST}[databases.db.objects]\n\"table public.t\" = {{ columns = {{ id = \"integer\" }}, not-modelled = [\"check tide\"] }}\n"
            ),
            "check tide",
        ),
    ] {
        let home = folder(&[("a.toml", ledger.as_bytes())]);
        let ran = zest_with(&["emit", system, "--at", "2026-07-01T00:00:00Z", "--ledger", home.path().to_str().expect("a path")], b"");
        assert!(ran.status == 1 && ran.out.is_empty() && ran.err.contains(said), "{said}: {} {}{}", ran.status, ran.out, ran.err);
    }
}
