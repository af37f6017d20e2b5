//! Refusals of every kind and code: in which order their remedies come, and that each works exactly as it is printed.

use std::collections::{BTreeMap, BTreeSet};
use std::fmt::Write as _;

use serde_json::Value;
use zest_ledger::ask::{Answer, Change, Question, Refusal, Verdict};
use zest_ledger::{Engine, Ledger, json};
use zest_testkit::pages::same_as_file;

use crate::support::{root, zest_with};

const QUESTIONS: &str = include_str!("refusals.txt");
const MORNING: &str = "--at 2026-11-25T09:00:00+01:00 --from 192.0.2.10";
/// From narrow to wide: the order in which remedies come.
const WIDTHS: [&str; 4] = ["session", "narrow", "wide", "wider than needed"];

/// One question of the list: the ledger, the words of the command line, and the line.
struct Asked {
    shown: String,
    ledger: String,
    words: Vec<String>,
}

impl Asked {
    fn read(text: &str) -> Self {
        let (ledger, shown) = text.split_once(' ').expect("a ledger first");
        let full = shown.replace("{morning}", MORNING);
        let (head, mark, line) = full
            .split_once(" --sql ")
            .map(|(head, line)| (head, "--sql", line))
            .or_else(|| full.split_once(" -- ").map(|(head, line)| (head, "--", line)))
            .expect("a line");
        let mut words: Vec<String> = head.split(' ').map(str::to_owned).collect();
        words.extend([mark.to_owned(), line.to_owned()]);
        Self { shown: shown.to_owned(), ledger: ledger.to_owned(), words }
    }

    fn ask(&self, format: &str) -> String {
        let head = ["ask", "--ledger", &self.ledger, "--format", format, "--paste"];
        let words: Vec<&str> = head.into_iter().chain(self.words.iter().map(String::as_str)).collect();
        let ran = zest_with(&words, b"");
        assert!(ran.status < 2, "{}: {}", self.shown, ran.err);
        ran.out
    }
}

/// The documents of a ledger, by name.
fn documents(ledger: &str) -> BTreeMap<String, String> {
    let entries = std::fs::read_dir(root().join(ledger)).expect("the ledger").flatten();
    let read =
        |entry: std::fs::DirEntry| (entry.file_name().to_string_lossy().into_owned(), std::fs::read_to_string(entry.path()).expect("text"));
    entries.map(read).collect()
}

fn compiled(documents: &BTreeMap<String, String>) -> Engine {
    let add = |ledger: Ledger, (name, text): (&String, &String)| {
        if name.ends_with(".json") { ledger.interface(name, text) } else { ledger.document(name, text) }
    };
    let ledger = documents.iter().fold(Ledger::new(), add);
    Engine::compile(ledger.estate().unwrap_or_else(|f| panic!("{f}"))).unwrap_or_else(|f| panic!("{f}"))
}

fn texts(remedy: &Value) -> String {
    let steps = remedy["steps"].as_array().expect("steps");
    steps.iter().map(|s| s["text"].as_str().expect("a text")).collect::<Vec<_>>().join(", and ")
}

/// Applies a remedy as it is printed, and returns what the changed question comes to on the changed ledger.
fn applied(asked: &Asked, printed: &str, answer: &Value, remedy: &Value, original: &BTreeMap<String, String>) -> Verdict {
    let mut documents = original.clone();
    for write in remedy["writes"].as_array().expect("what it writes") {
        let paste = &write["paste"];
        let (file, text) = (write["file"].as_str().expect("a file"), paste["text"].as_str().expect("a text"));
        let number = |key: &str| usize::try_from(paste[key].as_u64().expect("a number")).expect("it is small");
        let (line, replaces) = (number("line"), number("replaces"));
        // People see the same place and text as programs.
        assert!(printed.contains(&format!("    {file}:{line}")), "{}: {file}:{line} is not in\n{printed}", asked.shown);
        assert!(printed.contains(&format!("\n{text}")) || text.is_empty(), "{}: not in\n{printed}\n{text}", asked.shown);
        let old = &documents[file];
        let lines: Vec<&str> = old.split_inclusive('\n').collect();
        let new = [&lines[..line - 1].concat(), text, &lines[line - 1 + replaces..].concat()].concat();
        documents.insert(file.to_owned(), new);
    }
    let mut question: Question = json::parse_question(&answer["question"].to_string()).expect("a question");
    for step in remedy["steps"].as_array().expect("steps") {
        serde_json::from_value::<Change>(step["change"].clone()).expect("a change").apply(&mut question);
    }
    compiled(&documents).decide(&question).verdict
}

#[test]
fn each_remedy_works_as_it_is_printed_and_the_narrowest_comes_first() {
    let mut page = String::from(
        "# Refusals\n\nA question for every code of a refusal, on every kind of system that has it, with the remedies in the order in which\nthey come. Each was applied exactly as `zest ask … --paste` prints it (the text pasted at the place it names, the session\nchanged as it says) and turned the answer round. A test writes this page (`ZEST_REWRITE=1`) from\n`crates/zest-cli/tests/refusals.txt`. `yard-…` are asked of `demo/corners`, all others of `demo/lanternsound`. {morning}\nstands for `--at 2026-11-25T09:00:00+01:00 --from 192.0.2.10`.\n\nRemedies change the *session*, or the ledger: *narrow* (the one right), *wide* (more than that), or *wider than needed*.\n",
    );
    let mut ledgers: BTreeMap<String, BTreeMap<String, String>> = BTreeMap::new();
    let mut codes: BTreeSet<String> = BTreeSet::new();
    let (mut refused, mut tried) = (0, 0);
    let [_, (_, schema), ..] = json::schemas();
    let schema = jsonschema::validator_for(&schema).expect("it is a schema");
    for line in QUESTIONS.lines().filter(|l| !l.is_empty() && !l.starts_with('#')) {
        if let Some(kind) = line.strip_prefix("= ") {
            let _ = writeln!(page, "\n## {kind}\n\n| `zest ask …` | code | because | remedies |\n|---|---|---|---|");
            continue;
        }
        let asked = Asked::read(line);
        let answer: Value = serde_json::from_str(&asked.ask("json")).expect("JSON");
        assert!(schema.is_valid(&answer), "{}: {:?}", asked.shown, schema.iter_errors(&answer).next());
        let read: Answer = serde_json::from_value(answer.clone()).unwrap_or_else(|e| panic!("{e}: {answer:#}"));
        let mut again = serde_json::to_value(&read).expect("it can be written");
        for (remedy, before) in
            again["remedies"].as_array_mut().into_iter().flatten().zip(answer["remedies"].as_array().into_iter().flatten())
        {
            remedy.as_object_mut().zip(before.get("writes")).map(|(fields, writes)| fields.insert("writes".to_owned(), writes.clone()));
        }
        assert_eq!(again, answer, "{}", asked.shown);
        let printed = asked.ask("text");
        let is_denied = answer["verdict"] == "denied";
        let code = answer["code"].as_str().unwrap_or("allowed").to_owned();
        let grounds = answer["grounds"].as_array().expect("grounds");
        let ground = if is_denied { grounds.iter().find(|g| g["outcome"] == "refuses") } else { grounds.last() }.expect("a ground");
        let remedies = answer["remedies"].as_array().expect("remedies");
        let rank = |remedy: &Value| WIDTHS.iter().position(|w| remedy["width"] == *w).expect("a width");
        assert!(remedies.is_sorted_by_key(rank), "{}: {remedies:#?}", asked.shown);
        // What is wider than needed stands under its own heading, and not beside anything smaller.
        let widest = WIDTHS.len() - 1;
        assert!(remedies.iter().all(|r| (rank(r) == widest) == (rank(&remedies[0]) == widest)), "{}: {remedies:#?}", asked.shown);
        assert_eq!(printed.contains("Wider than needed"), remedies.iter().any(|r| rank(r) == widest), "{printed}");
        let documents = ledgers.entry(asked.ledger.clone()).or_insert_with(|| documents(&asked.ledger));
        for remedy in remedies {
            let verdict = applied(&asked, &printed, &answer, remedy, documents);
            assert_eq!(Some(verdict.word()), remedy["verdict"].as_str(), "{}: {remedy:#}", asked.shown);
            tried += 1;
        }
        refused += usize::from(is_denied);
        let mut told: Vec<String> = remedies.iter().map(|r| format!("{}: {}", r["width"].as_str().expect("a word"), texts(r))).collect();
        let able: Vec<&str> = answer["able"].as_array().expect("people").iter().filter_map(Value::as_str).collect();
        if !able.is_empty() {
            told.push(format!("allowed already: {}", able.join(", ")));
        }
        let cell = |text: &str| text.replace('|', "\\|");
        let because = ground["text"].as_str().expect("a text");
        let _ = writeln!(page, "| `{}` | `{code}` | {} | {} |", cell(&asked.shown), cell(because), cell(&told.join("<br>")));
        codes.insert(code);
    }
    let open = Refusal::ALL.iter().filter(|r| !codes.contains(r.code()));
    let _ = writeln!(
        page,
        "\n## Names that are not there\n\nWhat the question names and nobody declares is told as an error (exit status 2), with the nearest name:\n"
    );
    for refusal in open {
        assert!(refusal.names_nothing(), "no question comes to `{}`", refusal.code());
        let _ = writeln!(page, "- `{}`: {}", refusal.code(), refusal.description());
    }
    println!("{refused} refusals, {} codes, {tried} remedies applied as printed", codes.len());
    assert!(refused >= 60 && tried >= 60, "{refused} refusals, {tried} remedies");
    same_as_file("docs/refusals.md", &page);
}
