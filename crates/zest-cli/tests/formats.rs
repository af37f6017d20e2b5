//! Every command that lists or answers something has every form in which that is printed, and each form says the same.

use std::collections::BTreeSet;

use pulldown_cmark::{Event, Options, Parser, Tag, TagEnd};
use serde_json::Value;

use crate::support::{Ran, zest, zest_with};

/// One line of each command that has forms, and others with more of their options.
const COMMANDS: &[&str] = &[
    "ask watch-1 --on linkspan --ledger demo/lanternsound --proof password --paste plan on ramp/gannet-1",
    "ask watch-1 --on class=pier-switch --ledger demo/lanternsound show level",
    "ask watch-1 --on sw-selkie-1 --was demo/lanternsound --ledger demo/lanternsound show level",
    "effective watch-1 --ledger demo/lanternsound",
    "effective watch-1 --best --ledger demo/lanternsound",
    "who --on ticketing --ledger demo/lanternsound delete on table fares.discount",
    "compare --now 2026-11-28T12:00:00Z --then 2027-02-15T00:00:00Z --of auditor-1 --ledger demo/lanternsound",
    "alike group:auditors group:trainees --ledger demo/lanternsound",
    "expectations --all --ledger demo/lanternsound",
    "promises --at 2026-11-25T08:00:00Z --ledger demo/with-defects",
    "ways --to group:shore-watch --ledger demo/lanternsound",
    "session night-1 --on batch-runner --acting account:batch --ledger demo/lanternsound",
    "visible auditor-1 --on ticketing --at 2026-11-28T12:00:00Z --ledger demo/lanternsound",
    "ready watch-1 --ledger demo/lanternsound",
    "obligations linkspan --ledger demo/lanternsound",
    "findings --at 2026-11-25T08:00:00Z --ledger demo/with-defects",
    "privileges postgresql",
];

/// Those for which a server is started, and whose forms are not all looked at here.
const OF_SERVERS: &[&str] = &["read", "trial"];

fn ran(line: &str, format: &str) -> Ran {
    let (command, rest) = line.split_once(' ').expect("a command and more");
    let ran = zest(&format!("{command} --format {format} {rest}"));
    assert!((0..=2).contains(&ran.status), "{line}: {}{}", ran.out, ran.err);
    ran
}

/// What a Markdown text shows: its captions and remarks, and the cells of its tables.
#[derive(Default)]
struct Shown {
    texts: Vec<String>,
    rows: Vec<Vec<String>>,
    /// Whatever else is in it, which nothing of ours is.
    others: BTreeSet<String>,
}

fn shown(markdown: &str) -> Shown {
    let mut shown = Shown::default();
    let mut text = String::new();
    for event in Parser::new_ext(markdown, Options::ENABLE_TABLES | Options::ENABLE_STRIKETHROUGH) {
        match event {
            Event::Text(part) | Event::Code(part) => text.push_str(&part),
            Event::Start(Tag::TableHead | Tag::TableRow) => shown.rows.push(Vec::new()),
            Event::Start(Tag::TableCell) => text.clear(),
            Event::End(TagEnd::TableCell) => shown.rows.last_mut().expect("a row has begun").push(std::mem::take(&mut text)),
            Event::End(TagEnd::Paragraph) => shown.texts.push(std::mem::take(&mut text)),
            Event::Start(Tag::Paragraph | Tag::Strong | Tag::Table(_)) | Event::End(_) => {}
            other => _ = shown.others.insert(format!("{other:?}")),
        }
    }
    shown
}

fn values(text: &str) -> (Vec<String>, Vec<Vec<String>>) {
    let mut reader = csv::Reader::from_reader(text.as_bytes());
    let cells = |record: &csv::StringRecord| -> Vec<String> { record.iter().map(str::to_owned).collect() };
    let head = cells(reader.headers().expect("a first line"));
    (head, reader.records().map(|record| cells(&record.expect("as many cells as the first line has"))).collect())
}

#[test]
fn every_command_has_every_form() {
    let schemas = zest_ledger::json::schemas();
    for line in COMMANDS {
        let text = ran(line, "text");
        let json = ran(line, "json");
        let data: Value = serde_json::from_str(&json.out).unwrap_or_else(|error| panic!("{line}: {error}"));
        let form = match line.split(' ').next().expect("a command") {
            "ask" if line.contains(" --was ") => Some("opened"),
            "ask" => Some("answer"),
            "privileges" => None,
            command => Some(command),
        };
        if let Some(form) = form {
            let (_, schema) = schemas.iter().find(|(name, _)| *name == form).unwrap_or_else(|| panic!("{form} has no schema"));
            let valid = jsonschema::validator_for(schema).expect("the schema is one");
            let several = data.as_array().map_or_else(|| vec![&data], |list| list.iter().collect());
            for one in several {
                assert!(valid.is_valid(one), "{line}: {:?}", valid.iter_errors(one).map(|error| error.to_string()).collect::<Vec<_>>());
            }
        }
        let csv = ran(line, "csv");
        let (head, rows) = values(&csv.out);
        assert!(!rows.is_empty() && head.iter().collect::<BTreeSet<_>>().len() == head.len(), "{line}: {}", csv.out);
        assert!(rows.iter().flatten().all(|cell| !cell.starts_with(['=', '+', '-', '@'])), "{line}: {}", csv.out);
        let markdown = ran(line, "markdown");
        let shown = shown(&markdown.out);
        assert!(shown.others.is_empty(), "{line}: {:?}\n{}", shown.others, markdown.out);
        assert!(!shown.texts[0].is_empty() && shown.rows.iter().all(|row| row.len() == shown.rows[0].len()), "{line}: {}", markdown.out);
        assert!(shown.rows.len() > 1 && shown.rows.len() <= rows.len() + 1, "{line}: {}", markdown.out);
        for other in [&json, &csv, &markdown] {
            assert_eq!(other.status, text.status, "{line}");
            assert!(!other.out.contains('\u{1b}'), "{line}");
        }
        // What is beside the rows is told of both in the same words.
        for remark in csv.err.lines().filter(|line| !line.contains("counts as disabled")).filter_map(|line| line.strip_prefix("zest: ")) {
            let plain = |text: &str| text.replace('`', "");
            assert!(shown.texts.iter().any(|text| plain(text) == plain(remark)), "{line}: {remark}\n{:?}", shown.texts);
        }
    }
}

/// Commands that take `--format` are in the list above.
#[test]
fn no_command_is_left_out() {
    let listed: BTreeSet<&str> = COMMANDS.iter().filter_map(|line| line.split(' ').next()).chain(OF_SERVERS.iter().copied()).collect();
    let help = zest("--help").out;
    let commands = help.lines().skip_while(|line| *line != "Commands:").skip(1).take_while(|line| !line.is_empty());
    let mut with_forms = BTreeSet::new();
    for command in
        commands.filter(|line| line.starts_with("  ") && !line.starts_with("   ")).filter_map(|line| line.split_whitespace().next())
    {
        let help = zest(&format!("help {command}")).out;
        if help.contains("--format ") {
            assert!(help.contains("json") && help.contains("csv") && help.contains("markdown"), "{command}: {help}");
            with_forms.insert(command);
        }
    }
    assert_eq!(with_forms, listed);
}

/// A question that has no such form is refused, and none of its options is passed over.
#[test]
fn what_has_no_such_form_says_so() {
    for (line, status, says) in [
        ("ready watch-1 --format yaml --ledger demo/lanternsound", 2, "[possible values: text, json, csv, markdown]"),
        ("ask --batch --format csv --ledger demo/lanternsound", 2, "a batch is answered as JSON Lines"),
        ("obligations linkspan --set confirm --format csv --ledger demo/lanternsound", 2, "cannot be used with"),
        ("findings --about ZL0601 --format json --ledger demo/lanternsound", 2, "cannot be used with"),
        ("expectations --propose --format markdown --ledger demo/lanternsound", 2, "cannot be used with"),
    ] {
        let ran = zest(line);
        assert!(ran.err.contains(says) && ran.out.is_empty(), "{line}: {}{}", ran.out, ran.err);
        assert_eq!(ran.status, status, "{line}: {}", ran.err);
    }
}

/// Whatever stands in a ledger is text in a ticket: no link, no comment that hides what follows, no more cells.
#[test]
fn nothing_of_a_ledger_is_markdown() {
    const NASTY: &[&str] = &["a|b", "`c`", "``|`", "<!-- d", "<b>e", "_g_ ~~h~~", "[i](x:y)", "&lt;", "\\|", "j`k", "<x:y>", "#m =n"];
    let home = tempfile::tempdir().expect("a folder");
    let objects: String = NASTY.iter().map(|name| format!("objects.'ramp/{name}' = {{ attributes = {{ pier = '{name}' }} }}\n")).collect();
    let document = format!(
        "users.mate-1.proofs = ['password']\nsystems.ramps.kind = 'application'\n[applications.ramps]\ntypes.ramp.rights = ['lower']\n{objects}\
         grants = [{{ allow = ['lower'], on = 'ramp/*', to = ['user:mate-1'], because = '<!-- | `x' }}]\n"
    );
    std::fs::write(home.path().join("ramps.toml"), document).expect("a file");
    let ledger = home.path().to_str().expect("a path");
    for words in [&["obligations", "ramps"][..], &["visible", "mate-1", "--on", "ramps"], &["effective", "mate-1"]] {
        let of = |format: &str| zest_with(&[words, &["--format", format, "--ledger", ledger]].concat(), b"");
        let (csv, markdown) = (of("csv"), of("markdown"));
        let shown = shown(&markdown.out);
        assert!(shown.others.is_empty(), "{words:?}: {:?}\n{}", shown.others, markdown.out);
        let (_, rows) = values(&csv.out);
        let told: String = shown.rows.concat().join("\n");
        for name in NASTY {
            assert!(rows.iter().flatten().any(|cell| cell.contains(name)), "{words:?}: {name}\n{}{}", csv.out, csv.err);
            assert!(told.contains(name), "{words:?}: {name}\n{told}\n{}", markdown.out);
        }
        assert!(shown.rows.iter().all(|row| row.len() == shown.rows[0].len()), "{words:?}: {}", markdown.out);
    }
}

#[test]
fn a_remedy_of_several_changes_has_a_row_for_each_with_its_place() {
    let line = "ask purser-1 --on sw-selkie-1 --ledger demo/lanternsound show release";
    let data: Value = serde_json::from_str(&ran(line, "json").out).expect("it is JSON");
    let text = |value: &Value| value.as_str().map_or_else(|| value.to_string(), str::to_owned);
    let mut steps: Vec<[String; 4]> = Vec::new();
    for remedy in data["remedies"].as_array().expect("a list") {
        let all = remedy["steps"].as_array().expect("a list");
        for (turn, step) in all.iter().enumerate() {
            let of = if all.len() > 1 { format!("change {} of {}", turn + 1, all.len()) } else { String::new() };
            let place = &step["place"];
            let at = |part: &str| if place.is_null() { String::new() } else { text(&place[part]) };
            steps.push([of, text(&step["text"]), at("file"), at("line")]);
        }
    }
    assert!(steps.iter().any(|[of, _, file, _]| of == "change 3 of 3" && file == "commands.toml"), "{steps:?}");
    let (head, rows) = values(&ran(line, "csv").out);
    let at = |name: &str| head.iter().position(|column| column == name).expect("a column");
    let is_remedy = |row: &&Vec<String>| ["remedy", "wider than needed"].contains(&row[at("stage")].as_str());
    let told: Vec<[String; 4]> =
        rows.iter().filter(is_remedy).map(|row| ["outcome", "text", "file", "line"].map(|name| row[at(name)].clone())).collect();
    assert_eq!(told, steps);
    let markdown = shown(&ran(line, "markdown").out);
    let place = format!("{}:{}", steps.last().expect("a step")[2], steps.last().expect("a step")[3]);
    assert!(markdown.rows.iter().flatten().any(|cell| cell.starts_with(&place)), "{place}: {:?}", markdown.rows);
}
