//! Runs the program.

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
