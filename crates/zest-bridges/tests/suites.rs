//! The suites of statements: each form of the servers' manuals, asked of us and attempted on the real server under each identity.
//!
//! In the full run all of it is attempted; in every run a third, and of the rest we are held against what the server said before.

use std::collections::BTreeMap;
use std::fmt::Write as _;
use std::path::Path;

use fancy_regex::Regex;

use zest_ledger::ask::{Answer, Decision, Refusal, Verdict};

use crate::support::ONE_IN;

/// One statement and the chapter it stands under.
#[derive(Clone, Debug)]
pub(crate) struct Written {
    pub(crate) chapter: String,
    pub(crate) sql: String,
}

/// Reads a suite: lists of words first (`table = a, b`), then chapters (`== insert`) with statements, in which a word in
/// braces stands for each of its list; where there are several, they walk side by side.
pub(crate) fn suite(text: &str) -> Vec<Written> {
    let mut lists: BTreeMap<&str, Vec<String>> = BTreeMap::new();
    let mut chapter = String::new();
    let mut all: Vec<Written> = Vec::new();
    for line in text.lines().map(str::trim_end).filter(|line| !line.is_empty() && !line.starts_with("# ")) {
        if let Some(title) = line.strip_prefix("== ") {
            title.clone_into(&mut chapter);
        } else if let Some((name, words)) = line.split_once(" = ").filter(|_| chapter.is_empty()) {
            lists.insert(name, split(words));
        } else {
            let used: Vec<(String, &Vec<String>)> =
                lists.iter().map(|(name, words)| (format!("{{{name}}}"), words)).filter(|(mark, _)| line.contains(mark)).collect();
            let count = used.iter().map(|(_, words)| words.len()).max().unwrap_or(1);
            for turn in 0..count {
                let sql = used.iter().enumerate().fold(line.to_owned(), |sql, (shift, (mark, words))| {
                    sql.replace(mark, &words[(turn + shift * (turn / words.len())) % words.len()])
                });
                if !all.iter().any(|known| known.sql == sql) {
                    all.push(Written { chapter: chapter.clone(), sql });
                }
            }
        }
    }
    all
}

/// Splits at the commas that stand in no parentheses.
fn split(words: &str) -> Vec<String> {
    let mut depth = 0_usize;
    words
        .split(|c| {
            depth = match c {
                '(' => depth + 1,
                ')' => depth.saturating_sub(1),
                _ => depth,
            };
            c == ',' && depth == 0
        })
        .map(|word| word.trim().to_owned())
        .collect()
}

/// What a server said to an attempt.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(crate) enum Said {
    /// Carried out, or refused for something else than rights.
    Allowed(Option<String>),
    /// Refused for want of a right.
    Refused(String),
    /// It never came to a check of rights.
    Nothing(String),
}

impl Said {
    /// Returns the letter by which it is kept.
    const fn letter(&self) -> char {
        match self {
            Self::Allowed(_) => 'a',
            Self::Refused(_) => 'r',
            Self::Nothing(_) => 'n',
        }
    }

    fn kept(letter: char) -> Self {
        let text = || "as it was kept: ZEST_REWRITE=1 asks the server anew".to_owned();
        match letter {
            'a' => Self::Allowed(Some(text())),
            'r' => Self::Refused(text()),
            'n' => Self::Nothing(text()),
            other => panic!("no such letter is kept: {other}"),
        }
    }
}

/// Stands for what the server said where we do not decide.
const OPEN: char = 'o';

fn is_open(decision: Decision) -> bool {
    matches!(decision.refusal, Some(Refusal::NotDecided | Refusal::StatementUnreadable | Refusal::UnknownObject))
}

/// What the server said to each statement under each identity: a letter each, in front of the statement.
#[derive(Debug)]
pub(crate) struct Record {
    file: &'static str,
    kept: BTreeMap<String, Vec<char>>,
    said: Vec<(String, String)>,
    /// What the server says now, where it said something else.
    changed: Vec<String>,
    /// Which of the tries are attempted; all of them in the full run.
    turn: Option<usize>,
}

impl Record {
    /// Reads what was kept, by statement: one that is new, or written otherwise, is attempted.
    pub(crate) fn of(file: &'static str, all: &[Written]) -> Self {
        let root = Path::new(env!("CARGO_MANIFEST_DIR")).join("../..");
        let text = std::fs::read_to_string(root.join(file)).unwrap_or_default();
        let row = |line: &str| line.split_once(' ').map(|(letters, sql)| (sql.to_owned(), letters.chars().collect()));
        let is_whole = ["ZEST_CHECKS", "ZEST_REWRITE"].iter().any(|name| std::env::var_os(name).is_some());
        let turn = (!is_whole).then(|| zest_testkit::seed(0) as usize % ONE_IN);
        let said = all.iter().map(|one| (String::new(), one.sql.clone())).collect();
        Self { file, kept: text.lines().filter_map(row).collect(), said, changed: Vec::new(), turn }
    }

    /// Returns what the server says to a statement under an identity, by their numbers: attempted where it is its turn, and where
    /// nothing is kept of it. What we do not decide may hang on the rows that are there, and is not kept.
    pub(crate) fn said(&mut self, (statement, identity): (usize, usize), decision: Decision, attempt: impl FnOnce() -> Said) -> Said {
        let (letters, sql) = &mut self.said[statement];
        let kept = self.kept.get(sql).and_then(|kept| kept.get(identity)).copied().filter(|letter| *letter != OPEN);
        let said = match kept {
            Some(letter) if self.turn.is_some_and(|turn| (statement + identity) % ONE_IN != turn) => Said::kept(letter),
            _ => attempt(),
        };
        let letter = if is_open(decision) { OPEN } else { said.letter() };
        if kept.is_some_and(|kept| kept != letter) {
            self.changed.push(format!("identity {identity}: {sql}\n    kept: {kept:?}, now: {said:?}"));
        }
        letters.push(letter);
        said
    }

    fn concludes(&self) {
        let text: String = self.said.iter().map(|(letters, sql)| format!("{letters} {sql}\n")).collect();
        self.changed.iter().for_each(|one| eprintln!("{one}"));
        zest_testkit::pages::same_as_file(self.file, &text);
    }
}

/// One form in the synopses of a server's manual.
#[derive(Debug)]
struct Form {
    name: String,
    /// Which statements are of it.
    pattern: Regex,
    /// How many of the suite are.
    statements: usize,
    /// How often both allowed it, both refused it, and it was not decided.
    counts: [u64; 3],
}

/// How many statements of each form a suite has at least.
const OF_EACH_FORM: usize = 5;

/// What came of a suite, by chapter and by form.
#[derive(Debug, Default)]
pub(crate) struct Compared {
    forms: Vec<Form>,
    /// Which forms each statement is of, by their places: it is tried under every identity.
    forms_of: BTreeMap<String, Vec<usize>>,
    chapters: BTreeMap<String, [u64; 4]>,
    reasons: BTreeMap<String, (u64, String)>,
    pub(crate) wrong: Vec<String>,
}

impl Compared {
    /// Makes one that counts by the forms of a list as well: a name and a pattern a line.
    pub(crate) fn by_forms(list: &str) -> Self {
        let form = |line: &str| {
            let (name, pattern) = line.split_once(" | ").expect("a name and a pattern");
            let pattern = Regex::new(pattern).unwrap_or_else(|e| panic!("{name}: {e}"));
            Form { name: name.to_owned(), pattern, statements: 0, counts: [0; 3] }
        };
        let forms = list.lines().filter(|line| !line.is_empty() && !line.starts_with("# ")).map(form).collect();
        Self { forms, ..Self::default() }
    }

    /// Counts a try for the forms that its statement is of.
    fn count_by_form(&mut self, statement: &str, column: Option<usize>) {
        let of = self.forms_of.entry(statement.to_owned()).or_insert_with(|| {
            let lower = statement.to_lowercase();
            let is_of = |form: &Form| form.pattern.is_match(&lower).expect("no pattern is without end");
            let of: Vec<usize> = (0..self.forms.len()).filter(|at| is_of(&self.forms[*at])).collect();
            of.iter().for_each(|at| self.forms[*at].statements += 1);
            of
        });
        if let Some(column) = column {
            of.iter().for_each(|at| self.forms[*at].counts[column] += 1);
        }
    }

    /// Compares one decision with what the server said; why we say so is asked where it is told.
    pub(crate) fn add(&mut self, who: &str, statement: &Written, decision: Decision, why: impl FnOnce() -> Answer, said: &Said) {
        let ours = || why().first_refusal().map_or("allowed".to_owned(), |ground| ground.text.clone());
        let refuses = decision.verdict == Verdict::Denied;
        let column = match said {
            Said::Nothing(_) => Some(3),
            _ if is_open(decision) => {
                let reason = self.reasons.entry(ours()).or_insert_with(|| (0, statement.sql.clone()));
                reason.0 += 1;
                Some(2)
            }
            Said::Refused(_) if refuses => Some(1),
            Said::Allowed(_) if !refuses => Some(0),
            Said::Refused(_) | Said::Allowed(_) => {
                self.wrong.push(format!("{who}: {}\n    server: {said:?}\n    we: {}", statement.sql, ours()));
                None
            }
        };
        let counts = self.chapters.entry(statement.chapter.clone()).or_default();
        column.into_iter().for_each(|column| counts[column] += 1);
        self.count_by_form(&statement.sql, column.filter(|column| *column < 3));
    }

    /// Returns how many tries were compared, and how many of all that could be are not decided.
    pub(crate) fn totals(&self) -> (u64, u64) {
        self.chapters.values().fold((0, 0), |(compared, open), [yes, no, undecided, _]| (compared + yes + no, open + undecided))
    }

    /// Writes the counts by chapter, and what is not decided with its reasons, most frequent first, as a page.
    pub(crate) fn page(&self, server: &str, statements: usize, identities: usize) -> String {
        let (compared, open) = self.totals();
        let share = 100.0 * open as f64 / (compared + open) as f64;
        let mut out = format!(
            "# Statements on {server}\n\n{statements} statements, of every form in the chapters of the manual that speak of rights, attempted on the server under\n{identities} identities each, and asked of us: {compared} answers compared, none differs; {open} ({share:.1} %) are not decided. \"No check\"\nis where the server never came to look at rights, such as a form that it does not know. A test writes this page\n(`ZEST_REWRITE=1`).\n\n| chapter | allowed by both | refused by both | not decided | no check |\n|---|---|---|---|---|\n"
        );
        for (chapter, [yes, no, undecided, nothing]) in &self.chapters {
            let share = 100.0 * *undecided as f64 / (yes + no + undecided).max(1) as f64;
            let _ = writeln!(out, "| {chapter} | {yes} | {no} | {undecided} ({share:.0} %) | {nothing} |");
        }
        out.push_str("\n## By form of the synopses\n\n| form | statements | allowed by both | refused by both | not decided |\n|---|---|---|---|---|\n");
        for Form { name, pattern: _, statements, counts: [yes, no, undecided] } in &self.forms {
            let share = 100.0 * *undecided as f64 / (yes + no + undecided).max(1) as f64;
            let _ = writeln!(out, "| {name} | {statements} | {yes} | {no} | {undecided} ({share:.0} %) |");
        }
        let mut reasons: Vec<_> = self.reasons.iter().collect();
        reasons.sort_by_key(|(reason, (count, _))| (u64::MAX - count, *reason));
        out.push_str("\n## What is not decided\n\n| answers | reason | such as |\n|---|---|---|\n");
        let cell = |text: &str| text.replace('|', "\\|");
        for (reason, (count, sql)) in reasons {
            let _ = writeln!(out, "| {count} | {} | `{}` |", cell(reason), cell(sql));
        }
        out
    }

    /// Fails where anything differs; otherwise holds the page against the one that is kept.
    pub(crate) fn concludes(&self, server: &str, (file, record): (&str, &Record), statements: usize, identities: usize) {
        let (count, open) = self.totals();
        let page = self.page(server, statements, identities);
        if let Some(file) = std::env::var_os("ZEST_SUITE") {
            std::fs::write(file, format!("{page}\n{}", self.wrong.join("\n"))).expect("it is written");
        }
        assert!(self.wrong.is_empty(), "{} disagree:\n{}", self.wrong.len(), self.wrong.join("\n"));
        eprintln!(
            "  {count:>9}  tries of {statements} statements under {identities} identities compared, none disagrees; {open} not decided"
        );
        assert!(statements >= 1_500, "{statements} statements");
        let rare: Vec<&str> = self.forms.iter().filter(|f| f.statements < OF_EACH_FORM).map(|f| f.name.as_str()).collect();
        assert!(!self.forms.is_empty() && rare.is_empty(), "fewer than {OF_EACH_FORM} statements: {rare:?}");
        assert!(open * 100 <= (count + open) * 3, "more than 3 in a hundred are not decided: {open} of {}", count + open);
        record.concludes();
        zest_testkit::pages::same_as_file(file, &page);
    }
}
