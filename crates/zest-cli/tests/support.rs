//! Runs the program.

use std::fs;
use std::io::Write;
use std::path::{Path, PathBuf};
use std::process::{Command, Stdio};

/// What a run printed, and how it ended.
pub(crate) struct Ran {
    pub(crate) out: String,
    pub(crate) err: String,
    pub(crate) status: i32,
}

/// The root of the repository.
pub(crate) fn root() -> PathBuf {
    Path::new(env!("CARGO_MANIFEST_DIR")).join("../..")
}

/// Runs `zest` in the root of the repository with words and standard input.
pub(crate) fn zest_with(words: &[&str], input: &[u8]) -> Ran {
    let mut child = Command::new(env!("CARGO_BIN_EXE_zest"))
        .args(words)
        .current_dir(root())
        .env("NO_COLOR", "1")
        .stdin(Stdio::piped())
        .stdout(Stdio::piped())
        .stderr(Stdio::piped())
        .spawn()
        .expect("zest starts");
    let mut stdin = child.stdin.take().expect("it has a standard input");
    let input = input.to_vec();
    // A run that stops early closes the pipe; that is its good right.
    let writer = std::thread::spawn(move || _ = stdin.write_all(&input));
    let done = child.wait_with_output().expect("zest ends");
    writer.join().expect("the writer ends");
    let text = |bytes: Vec<u8>| String::from_utf8(bytes).expect("it prints UTF-8");
    Ran { out: text(done.stdout), err: text(done.stderr), status: done.status.code().expect("it was not killed") }
}

/// Runs `zest` without input.
pub(crate) fn zest(line: &str) -> Ran {
    zest_with(&line.split_whitespace().collect::<Vec<_>>(), b"")
}

/// A copy of a demo ledger, one document of it changed: its name, what is replaced, and by what.
pub(crate) fn copy_of_demo(ledger: &str, with: Option<(&str, &str, &str)>) -> tempfile::TempDir {
    let home = tempfile::tempdir().expect("a folder");
    for entry in fs::read_dir(root().join("demo").join(ledger)).expect("the demo").flatten() {
        let mut text = fs::read_to_string(entry.path()).expect("a document");
        if let Some((file, from, to)) = with.filter(|(file, ..)| entry.file_name() == *file) {
            assert!(text.contains(from), "`{from}` is not in {file}");
            text = text.replace(from, to);
        }
        fs::write(home.path().join(entry.file_name()), text).expect("a file");
    }
    home
}

/// Records all that is in a folder, at a moment in seconds.
#[cfg(feature = "git")]
pub(crate) fn commit(repository: &git2::Repository, message: &str, at: i64) {
    let mut index = repository.index().expect("an index");
    index.add_all(["*"], git2::IndexAddOption::DEFAULT, None).expect("files");
    index.write().expect("written");
    let tree = repository.find_tree(index.write_tree().expect("a tree")).expect("it was written");
    let who = git2::Signature::new("Rota", "rota@lanternsound.example", &git2::Time::new(at, 0)).expect("a name");
    let parent = repository.head().ok().and_then(|head| head.peel_to_commit().ok());
    repository.commit(Some("HEAD"), &who, &who, message, &tree, &parent.iter().collect::<Vec<_>>()).expect("recorded");
}

/// Breaks a text into lines as the pages have them.
pub(crate) fn wrapped(text: &str) -> String {
    let mut lines = vec![String::new()];
    for word in text.split_whitespace() {
        let last = lines.last_mut().expect("there is one");
        if last.is_empty() {
            last.push_str(word);
        } else if last.len() + 1 + word.len() <= 115 {
            *last = format!("{last} {word}");
        } else {
            lines.push(word.to_owned());
        }
    }
    lines.join("\n")
}
