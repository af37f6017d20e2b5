//! The rights of a ledger from the other side: who may do something, and what a change of the ledger changed.

use std::fmt::Write as _;
use std::path::Path;

use git2::Repository;
use serde_json::Value;
use zest_testkit::pages::same_as_file;

use crate::support::{Ran, commit, copy_of_demo, zest, zest_with};

/// When all is recorded, in seconds.
const THEN: i64 = 1_795_766_400;

/// A repository with the demo, and a second revision in which two lines were changed.
fn two_revisions() -> tempfile::TempDir {
    let home = copy_of_demo("lanternsound", None);
    let repository = Repository::init(home.path()).expect("a repository");
    commit(&repository, "the demo", THEN);
    for (file, from, to) in [
        ("commands.toml", "  \"allow show log last {1-200}\",\n", "  \"allow show log last {1-200}\",\n  \"allow zero tally\",\n"),
        (
            "skyquay.toml",
            "when = { proof = [\"one-time-code\"], proof-age = \"15m\" }",
            "when = { proof = [\"one-time-code\"], proof-age = \"5m\" }",
        ),
    ] {
        let path = home.path().join(file);
        let text = std::fs::read_to_string(&path).expect("a document");
        assert!(text.contains(from), "`{from}` is not in {file}");
        std::fs::write(path, text.replacen(from, to, 1)).expect("a file");
    }
    commit(&repository, "a line for the watch, and younger codes", THEN);
    home
}

fn at(folder: &Path, words: &[&str]) -> Ran {
    zest_with(&[words, &["--ledger", folder.to_str().expect("a path")]].concat(), b"")
}

#[test]
fn who_may_is_told_of_everybody_with_what_and_where() {
    let ran = zest("who --on sw-selkie-1 --ledger demo/lanternsound show log");
    assert_eq!(ran.status, 0);
    for part in [
        "net-1 on sw-selkie-1",
        "sessions  with password or key or one-time-code, from origin:network-office or",
        "at levels 7-15",
        "role `network-engineer` through group `network-engineers`",
        "4 of 29 people may: show log",
    ] {
        assert!(ran.out.contains(part), "`{part}` is not in\n{}", ran.out);
    }
    let ran =
        zest_with(&["who", "--on", "linkspan", "--path", "vessels", "--ledger", "demo/lanternsound", "--like", "raise on ramp/*"], b"");
    assert!(ran.status == 1 && ran.out.contains("0 of "), "{}", ran.out);
    let ran = zest("who --on sw-selkie-1 --from 198.51.100.9 --ledger demo/lanternsound show log");
    assert!(!ran.out.contains("net-1") && ran.out.contains("net-lead"), "a stated origin rules out: {}", ran.out);
    let json = zest("who --on ticketing --ledger demo/lanternsound --format json delete on table fares.discount");
    let found: Value = serde_json::from_str(&json.out).expect("JSON");
    assert_eq!((&found["format"], &found["asked"]), (&1.into(), &29.into()));
    let right = &found["who"][0]["rights"][0];
    assert!(right["example"]["line"] == "delete on table fares.discount" && right["place"]["file"] == "ticketing.toml", "{right:#}");
}

#[test]
fn two_are_alike_or_what_only_one_may_is_told() {
    for (line, status, parts) in [
        ("alike watch-2 watch-2", 0, vec!["alike: watch-2 and watch-2 may the same"]),
        (
            "alike watch-1 watch-2 --on sw-selkie-1",
            1,
            vec!["only watch-1", "with another proof than password", "watch-2: denied [proof-not-registered]"],
        ),
        ("alike command-set:everything command-set:no-secrets --on sw-selkie-1", 1, vec!["only command-set:everything", "may all that"]),
        ("alike user:watch-2 role:pier-tracer --on sw-selkie-1", 1, vec!["role:pier-tracer may all that watch-2 may, and more"]),
        ("alike account:ticketing/tariff-1 tariff-1 --on ticketing", 0, vec!["may the same"]),
    ] {
        let ran = zest(&format!("{line} --ledger demo/lanternsound"));
        assert_eq!(ran.status, status, "{line}\n{}{}", ran.out, ran.err);
        for part in parts {
            assert!(ran.out.contains(part), "{line}: `{part}` is not in\n{}", ran.out);
        }
    }
    let json = zest("alike group:auditors group:trainees --ledger demo/lanternsound --format json");
    let found: Value = serde_json::from_str(&json.out).expect("JSON");
    assert_eq!((&found["format"], &found["one"], &found["other"]), (&1.into(), &"group:auditors".into(), &"group:trainees".into()));
}

#[test]
fn what_a_remedy_opens_is_told_and_orders_remedies() {
    let ask = "ask contractor-1 --opens --on skyquay --proof one-time-code --ledger demo/lanternsound";
    let ran = zest(&format!("{ask} hulls.stop on lanternsound/production/ticketing"));
    let (narrow, wide) =
        (ran.out.find("opens also another action: `hulls.stop on"), ran.out.find("other actions: `alarms.list on lanternsound`"));
    assert!(narrow.is_some() && narrow < wide, "{}", ran.out);
    let json = zest(&format!("{ask} --format json hulls.stop on lanternsound/production/ticketing"));
    let found: Value = serde_json::from_str(&json.out).expect("JSON");
    let remedies = found["remedies"].as_array().expect("a list");
    assert_eq!(remedies[0]["opens"]["lines"].as_array().map(Vec::len), Some(1), "{found:#}");
    let ran =
        zest("ask watch-1 --opens --on sw-selkie-1 --at 2026-11-25T09:00:00+01:00 --from 192.0.2.10 --ledger demo/lanternsound show log");
    assert!(ran.out.contains("opens also") && ran.out.contains("the same to `watch-2`"), "{}", ran.out);
}

#[test]
fn what_cannot_be_looked_for_is_said() {
    for (line, status, part) in [
        ("effective group:nobody --ledger demo/lanternsound", 2, "no group is named `nobody`"),
        (
            "effective role:ticketing/conter --ledger demo/lanternsound",
            2,
            "no role of a database server is named `conter`; did you mean `counter`?",
        ),
        ("effective role:nowhere/counter --ledger demo/lanternsound", 2, "no role is named `nowhere/counter`"),
        ("effective watch-11 --ledger demo/lanternsound", 1, "no user is named `watch-11`; did you mean `watch-1`?"),
        ("alike watch-1 fleet:x --ledger demo/lanternsound", 2, "`fleet:x` is nobody whose rights could be looked at"),
        ("alike account:sw-selkie-1/harbour-emergency watch-1 --ledger demo/lanternsound", 2, "no sessions in common"),
        ("who --on nowhere --ledger demo/lanternsound show log", 2, "no system is named `nowhere`"),
        ("who --on all --path nowhere --ledger demo/lanternsound show log", 4, "nobody has the path"),
        ("who --on all --ledger demo/lanternsound", 2, "required"),
        ("who --on ticketing --ledger demo/lanternsound select on table fares.*", 1, "`table fares.*` is not in the inventory"),
        ("who --on sw-selkie-1 --ledger demo/lanternsound show ...", 1, "whatever a pattern takes is looked for with `--like`"),
        ("who --on skyquay --ledger demo/lanternsound fly on lanternsound", 1, "`fly`"),
        ("compare --ledger demo/lanternsound", 2, "required"),
        ("compare --ledger demo/lanternsound --then tomorrow", 2, "tomorrow"),
        ("compare --ledger demo/lanternsound --now 2026-11-28T12:00:00Z", 2, "--then"),
        ("compare --ledger demo/lanternsound --was demo/lanternsound --then 2027-07-15T00:00:00Z", 2, "cannot be used with"),
        ("compare --ledger demo/lanternsound --was demo/nowhere", 3, "demo/nowhere"),
        ("compare --ledger demo/nowhere --was demo/lanternsound", 3, "demo/nowhere"),
        ("compare --ledger demo/lanternsound --was demo/lanternsound --of nobody", 2, "neither ledger has a user `nobody`"),
        ("compare --ledger demo/lanternsound --was-at no-such-revision", 2, "`no-such-revision` is no revision here"),
    ] {
        let ran = zest(line);
        assert_eq!(ran.status, status, "{line}\n{}{}", ran.out, ran.err);
        assert!(ran.err.contains(part), "{line}: `{part}` is not in\n{}", ran.err);
    }
    let broken = copy_of_demo("lanternsound", Some(("roles.toml", "[roles.", "[rolls.")));
    let ran = at(broken.path(), &["compare", "--was", "demo/lanternsound"]);
    assert!(ran.status == 3 && ran.err.contains("no question about it is answered"), "{}{}", ran.out, ran.err);
}

#[test]
fn two_revisions_are_compared_as_rights() {
    let home = two_revisions();
    for (user, parts) in [
        (
            "watch-1",
            [
                "watch-1 on sw-selkie-1, sw-selkie-2,",
                "gained  zero tally",
                "before: denied [not-permitted]",
                "of 1 person 1 gained something and 0 lost something",
            ],
        ),
        (
            "net-1",
            ["net-1 on skyquay", "lost    hulls.remove on", "in role quay-keeper", "of 1 person 0 gained something and 1 lost something"],
        ),
    ] {
        let ran = at(home.path(), &["compare", "--was-at", "HEAD~1", "--of", user]);
        for part in parts {
            assert!(ran.out.contains(part), "`{part}` is not in\n{}", ran.out);
        }
        for what in ["gained", "lost", "any"] {
            let fails = what == "any" || what == if user == "net-1" { "lost" } else { "gained" };
            let ran = at(home.path(), &["compare", "--was-at", "HEAD~1", "--of", user, "--fail-on", what]);
            assert_eq!(ran.status, i32::from(fails), "{user} {what}");
        }
    }
    let same = at(home.path(), &["compare", "--was-at", "HEAD", "--of", "net-1", "--fail-on", "any"]);
    assert_eq!((same.status, same.out.as_str()), (0, "nobody gained or lost anything; 1 person compared\n"));
    let back = at(home.path(), &["compare", "--was-at", "HEAD", "--is-at", "HEAD~1", "--of", "watch-1"]);
    assert!(back.out.contains("lost    zero tally"), "{}", back.out);
    // Each example is a command to be run: allowed by the one ledger, refused by the other.
    let json = at(home.path(), &["compare", "--was-at", "HEAD~1", "--of", "watch-1", "--format", "json"]);
    let found: Value = serde_json::from_str(&json.out).expect("JSON");
    let moved = &found["differences"][0]["gained"][0];
    assert_eq!((&moved["elsewhere"], &moved["code"]), (&"denied".into(), &"not-permitted".into()), "{moved:#}");
    let question = format!("{}\n", moved["right"]["example"]);
    for (ledger, verdict) in [(home.path().to_str().expect("a path"), "allowed"), ("demo/lanternsound", "denied")] {
        let ran = zest_with(&["ask", "--batch", "--ledger", ledger], question.as_bytes());
        assert!(ran.out.contains(&format!("\"verdict\":\"{verdict}\"")), "{ledger}: {}{}", ran.out, ran.err);
    }
}

#[test]
fn the_page_of_reviews_is_what_the_program_prints() {
    let mut page = String::from(
        "# Rights from the other side\n\nWhat may somebody do anywhere, who may do this, what did this change of the ledger really change? All three come from one value: the set of\npairs of a session and an action that are allowed, made by the rules that answer questions ([architecture](architecture.md)). A test\nwrites this page (`ZEST_REWRITE=1`).\n",
    );
    let mut show = |head: &str, about: &str, command: &str, out: &str, language: &str| {
        let _ = write!(page, "\n## {head}\n\n{about}\n\n```text\n$ {command}\n```\n\n```{language}\n{}\n```\n", out.trim_end());
    };
    let demo = |line: &str| zest(&format!("{line} --ledger demo/lanternsound")).out;
    show(
        "What somebody may do",
        "The first line says which sessions can do anything at all. Then rights that are held in the same sessions stand together, with the\nassignment or role they stand on, and each with the rule or grant that gives it. Denies and ceilings are taken off already; what must be\ndone first stands below.",
        "zest effective net-1 --on sw-selkie-1 --ledger demo/lanternsound",
        &demo("effective net-1 --on sw-selkie-1"),
        "text",
    );
    show(
        "In the best session",
        "`--best` looks for the one session on each system in which most may be done, and lists that: what it needs in words, then as it is\nstated in a question, and how many actions it is allowed. Of sessions in which as much may be done, that one is told of which least must be\nstated; facts that are stated (`--from`, `--by`) hold for every session that is looked at.",
        "zest effective net-1 --best --on sw-selkie-1 --ledger demo/lanternsound",
        &demo("effective net-1 --best --on sw-selkie-1"),
        "text",
    );
    show(
        "The same for a program",
        "`lines` has each action as it can be asked, and `example` is one of them in one of the sessions.",
        "zest effective night-1 --on linkspan --format json --ledger demo/lanternsound",
        &demo("effective night-1 --on linkspan --format json"),
        "json",
    );
    show(
        "Who may do something",
        "Everybody is looked at, in every session that the ledger can tell apart. People who may by the same means stand together.",
        "zest who --on skyquay --ledger demo/lanternsound hulls.stop on lanternsound/production/ticketing",
        &zest("who --on skyquay --ledger demo/lanternsound hulls.stop on lanternsound/production/ticketing").out,
        "text",
    );
    show(
        "Who may do anything of a sort",
        "`--like` is a pattern as rules and grants write it: `show log ...`, `hulls.* on lanternsound/**`, `delete on table fares.*`. `--path` leaves people whose path is one or below it.",
        "zest who --on ticketing --like 'delete on table fares.*' --path shore --ledger demo/lanternsound",
        &zest_with(
            &["who", "--on", "ticketing", "--like", "delete on table fares.*", "--path", "shore", "--ledger", "demo/lanternsound"],
            b"",
        )
        .out,
        "text",
    );
    show(
        "What a group gives, or a role, or a command set",
        "Somebody stands in who has just that, and every way to prove identity: `group:ID`, `role:ID`, `role:SYSTEM/ROLE` of a\ndatabase server, `command-set:ID` and `account:SYSTEM/LOGIN` are taken wherever a user is.",
        "zest effective group:auditors --on sw-selkie-1 --ledger demo/lanternsound",
        &demo("effective group:auditors --on sw-selkie-1"),
        "text",
    );
    show(
        "Are two alike",
        "Two users, groups, roles, command sets or accounts of database servers: what only one of them may, and what the other is told\ninstead. Beside a user, whoever stands in is like the user otherwise. Exit status 1 says that they are not alike.",
        "zest alike command-set:look-only command-set:trace-only --on sw-selkie-1 --ledger demo/lanternsound",
        &demo("alike command-set:look-only command-set:trace-only --on sw-selkie-1"),
        "text",
    );
    show(
        "What a listing would show",
        "The tables that a server lists (PostgreSQL by its information schema, MariaDB by SHOW DATABASES and SHOW TABLES), the containers and\nresources on which anything may be done with those on the way to them, the lines at a question mark or in a menu. What is not shown is\nnot absent: PostgreSQL's own catalogs show the names of all there is to everybody.",
        "zest visible auditor-1 --on ticketing --at 2026-11-28T12:00:00Z --ledger demo/lanternsound",
        &demo("visible auditor-1 --on ticketing --at 2026-11-28T12:00:00Z"),
        "text",
    );
    let then = "compare --now 2026-11-28T12:00:00Z --then 2027-02-15T00:00:00Z --of auditor-1";
    show(
        "What is over by a moment",
        "The ledger as it stands now beside the ledger as it stands then: grants, assignments, accounts and people that are over, or have begun.\nWhoever is over counts as disabled.",
        &format!("zest {then} --ledger demo/lanternsound"),
        &demo(then),
        "text",
    );
    let home = two_revisions();
    show(
        "What a change of the ledger changed",
        "In the second revision the command set of the watch has one line more, and the codes that the machine keepers need must be younger. What\nis compared are not lines of text: each right that was gained or lost says in which sessions, through what, and how the other ledger\nanswers its example.",
        "zest compare --was-at HEAD~1",
        &at(home.path(), &["compare", "--was-at", "HEAD~1"]).out.replace(home.path().to_str().expect("a path"), "."),
        "text",
    );
    let markdown = at(home.path(), &["compare", "--was-at", "HEAD~1", "--format", "markdown"]).out;
    show(
        "The same for a pull request",
        "Written with `--format markdown`, and so looking like what follows it:",
        "zest compare --was-at HEAD~1 --format markdown",
        &markdown,
        "markdown",
    );
    page.push('\n');
    page.push_str(&markdown);
    same_as_file("docs/reviews.md", &page);
}

/// Nothing is said to be alike that was not looked at.
#[test]
fn accounts_that_nobody_stands_behind_are_named() {
    const LEDGER: &str = "[users.a]\nproofs = [\"password\"]\n[systems.db]\nkind = \"postgresql\"\ndatabase = \"db\"\n[databases.db]\nowner = \"keeper\"\n\
                          roles = { keeper = {} }\naccounts = { a = {}, robot = {} }\n\
                          objects = { \"table public.t\" = { owner = \"keeper\", columns = { id = \"integer\" } } }\n\
                          grants = [{ allow = [\"select\"], on = \"table public.t\", to = [\"robot\"] }]\n";
    let folder = |text: &str| {
        let home = tempfile::tempdir().expect("a folder");
        std::fs::write(home.path().join("db.toml"), text).expect("a file");
        home
    };
    let (was, is) = (folder(LEDGER), folder(&LEDGER.replace("[\"select\"]", "[\"select\", \"delete\"]")));
    let words = ["compare", "--was", was.path().to_str().expect("a path")];
    let ran = at(is.path(), &words);
    assert!(ran.out.contains("not compared, since no user of the ledger stands behind them: robot on db"), "{}", ran.out);
    let ran = at(is.path(), &[&words[..], &["--format", "markdown"]].concat());
    assert!(ran.out.contains("not compared, since no user") && ran.out.contains("`robot on db`"), "{}", ran.out);
    let ran = at(is.path(), &["who", "--on", "db", "--like", "select on table public.t"]);
    assert!(ran.status == 1 && ran.out.contains("not looked at, since"), "{}", ran.out);
    let json = at(is.path(), &[&words[..], &["--format", "json"]].concat());
    let found: Value = serde_json::from_str(&json.out).expect("JSON");
    assert_eq!(found["not-compared"][0], "robot on db", "{found:#}");
}

/// A table has one line for each person, system and action of the JSON, and no cell of it is a formula.
#[test]
fn a_table_has_every_line_of_the_listing() {
    for words in [
        "effective auditor-1 --on ticketing --ledger demo/lanternsound",
        "effective purser-1 --ledger demo/lanternsound",
        "effective purser-1 --best --ledger demo/lanternsound",
        "who --on skyquay --ledger demo/lanternsound hulls.stop on lanternsound/production/ticketing",
    ] {
        let json = zest(&words.replacen(" --ledger", " --format json --ledger", 1));
        let found: Value = serde_json::from_str(&json.out).expect("it is JSON");
        let listed = found.get("effective").or_else(|| found.get("who")).and_then(|list| list.as_array()).expect("a list");
        let mut expected: Vec<(String, String, String, String)> = Vec::new();
        for one in listed {
            let text = |value: &Value| value.as_str().expect("a text").to_owned();
            for system in one["systems"].as_array().expect("a list") {
                for right in one["rights"].as_array().expect("a list") {
                    for line in right["lines"].as_array().expect("a list") {
                        expected.push((text(&one["user"]), text(system), text(line), text(&right["through"])));
                    }
                }
            }
        }
        let table = zest(&words.replacen(" --ledger", " --format csv --ledger", 1));
        assert_eq!(table.status, json.status);
        let mut reader = csv::Reader::from_reader(table.out.as_bytes());
        let rows: Vec<csv::StringRecord> = reader.records().collect::<Result<_, _>>().expect("a table");
        let found: Vec<(String, String, String, String)> =
            rows.iter().map(|row| (row[0].to_owned(), row[1].to_owned(), row[2].to_owned(), row[8].to_owned())).collect();
        assert!(found == expected && found.len() > 1, "{words}: {found:#?}\n{expected:#?}");
        assert!(rows.iter().flatten().all(|cell| !cell.starts_with(['=', '+', '-', '@'])));
    }
}
