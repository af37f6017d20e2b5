//! Scripts that the authors of a server wrote to try it, carried out statement by statement, each asked of us beforehand.
//!
//! Only in the full run: `tools/server-scripts` takes the scripts out of Debian packages into `target/scripts`, `./test` calls it.

use std::collections::BTreeMap;
use std::fmt;
use std::path::PathBuf;

use zest_ledger::ask::{Answer, Refusal, Verdict};

use crate::support::fetched;

/// The scripts for a server, by name; `ZEST_SCRIPTS` names a file that lists others.
pub(crate) fn scripts(server: &str) -> Vec<(String, String)> {
    let mut paths: Vec<PathBuf> = match std::env::var_os("ZEST_SCRIPTS") {
        Some(list) => std::fs::read_to_string(list).expect("a list of files").lines().map(PathBuf::from).collect(),
        None if std::env::var_os("ZEST_CHECKS").is_none() => Vec::new(),
        None => {
            let folder = fetched("scripts", server);
            let paths: Vec<PathBuf> = std::fs::read_dir(&folder).into_iter().flatten().flatten().map(|entry| entry.path()).collect();
            assert!(!paths.is_empty(), "there are none in {}; `tools/server-scripts` gets them", folder.display());
            paths
        }
    };
    paths.sort();
    if paths.is_empty() {
        eprintln!("*** NOT TESTED with the scripts of the authors of {server}: only with ZEST_CHECKS, in the full run ***");
    }
    let read = |path: PathBuf| {
        let text = std::fs::read(&path).expect("the script can be read");
        (path.file_name().map_or_else(String::new, |name| name.to_string_lossy().into_owned()), String::from_utf8_lossy(&text).into_owned())
    };
    paths.into_iter().map(read).collect()
}

/// The word that a statement begins with, as it is written.
pub(crate) fn first_word(sql: &str) -> &str {
    sql.split(|c: char| !c.is_alphanumeric()).next().unwrap_or("")
}

/// What a server made of a statement.
#[derive(Debug)]
pub(crate) enum Came {
    /// It refused for want of a right.
    Refused(String),
    /// It did it, or failed at the rows.
    Done,
    /// It failed, and whether it had looked at rights by then is not told.
    Failed(String),
}

impl fmt::Display for Came {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Self::Refused(said) | Self::Failed(said) => f.write_str(said),
            Self::Done => f.write_str("done"),
        }
    }
}

/// How the answers compare with the server's.
#[derive(Default)]
pub(crate) struct Compared {
    allowed: u64,
    refused: u64,
    failed: u64,
    /// Each with a first example.
    not_decided: BTreeMap<String, (u64, String)>,
    wrong: Vec<String>,
    /// How often the server could not be read as it stood, such as with broken tables of rights.
    unread: u64,
}

impl Compared {
    /// Compares one answer; `what` is the statement, with who runs it and how.
    pub(crate) fn add(&mut self, what: &str, answer: &Answer, came: Came) {
        let ours = answer.first_refusal().map_or_else(|| "allowed".to_owned(), |ground| ground.text.clone());
        if matches!(answer.refusal, Some(Refusal::NotDecided | Refusal::StatementUnreadable | Refusal::UnknownObject)) {
            self.not_decided.entry(ours).or_insert_with(|| (0, format!("{what}\n        {came}"))).0 += 1;
            return;
        }
        match (came, answer.verdict == Verdict::Denied) {
            (Came::Failed(_), _) => self.failed += 1,
            (Came::Refused(_), true) => self.refused += 1,
            (Came::Done, false) => self.allowed += 1,
            (came @ (Came::Refused(_) | Came::Done), _) => self.wrong.push(format!("{what}\n    server: {came}\n    we: {ours}")),
        }
    }

    /// Notes that the server cannot be read as it stands, so that nothing is asked.
    pub(crate) fn unread(&mut self, why: &str) {
        self.unread += 1;
        eprintln!("it cannot be read: {}", why.lines().next().unwrap_or_default());
    }

    /// Prints the counts, and what is not decided to the file that `ZEST_TOLD` names.
    pub(crate) fn tell(&self, server: &str) {
        let Self { allowed, refused, failed, not_decided, wrong, unread } = self;
        let undecided: u64 = not_decided.values().map(|(count, _)| count).sum();
        eprintln!(
            "{server}, scripts of its authors: {allowed} allowed by both, {refused} refused by both, {undecided} not decided, {failed} failed otherwise, {unread} times not to be read, {} differ",
            wrong.len()
        );
        if let Some(path) = std::env::var_os("ZEST_TOLD") {
            let mut list: Vec<_> = not_decided.iter().collect();
            list.sort_by_key(|(_, (count, _))| std::cmp::Reverse(*count));
            let list: String = list.iter().map(|(why, (count, example))| format!("{count} {why}\n      {example}\n")).collect();
            std::fs::write(path, format!("{}\n\n{list}", wrong.join("\n\n"))).expect("it can be written");
        }
    }

    /// Fails where an answer is another than the server's, but for what is known: a part of the statement, and why.
    pub(crate) fn none_differs(&self, known: &[(&str, &str)]) {
        let is_known = |what: &&String| known.iter().any(|(part, _)| what.contains(part));
        let unknown: Vec<&String> = self.wrong.iter().filter(|what| !is_known(what)).collect();
        assert!(unknown.is_empty(), "{} answers differ from the server's:\n{unknown:#?}", unknown.len());
    }
}
