//! The named cases of databases on the demo, as a page; and what a batch, a script and a wrong dialect get.

use std::fmt::Write as _;
use std::path::Path;

use serde_json::Value;
use zest_testkit::pages::same_as_file;

use crate::support::{Ran, copy_of_demo, wrapped, zest, zest_with};

/// A case: what it is about, and the questions; each with the refusal that must come out, or none.
struct Case {
    title: &'static str,
    text: &'static str,
    /// What the ledger is with, for this case: a document that is changed, from what to what.
    with: Option<(&'static str, &'static str, &'static str)>,
    ledger: &'static str,
    asked: &'static [(&'static [&'static str], Option<&'static str>)],
}

const CASE: Case = Case { title: "", text: "", with: None, ledger: "lanternsound", asked: &[] };

const CASES: &[Case] = &[
    Case {
        title: "A statement, check by check",
        text: "The tariff desk may change amounts, never zones. Every privilege that the server would check is listed, in its order.",
        asked: &[
            (&["tariff-1", "--on", "ticketing", "--sql", "update fares.price set amount = amount * 1.02 where zone = 3"], None),
            (&["tariff-1", "--on", "ticketing", "--sql", "update fares.price set zone = 4 where zone = 3"], Some("no-privilege")),
        ],
        ..CASE
    },
    Case {
        title: "Three of ten privileges taken back",
        text: "Those who write campaigns were given ten privileges on their database, and three were taken back. What is left is what \
               counts, and the order of the entries is the order in which the server is told.",
        asked: &[
            (
                &["tariff-1", "--on", "loyalty", "--from", "198.51.100.9", "--role", "campaign", "--sql", "delete from campaigns.letter"],
                None,
            ),
            (
                &["tariff-1", "--on", "loyalty", "--from", "198.51.100.9", "--role", "campaign", "--sql", "drop table campaigns.letter"],
                Some("no-privilege"),
            ),
        ],
        ..CASE
    },
    Case {
        title: "Rows that a policy keeps back",
        text: "At a counter everybody reads the shifts, and row security shows each the own ones. Which rows are meant is asked along: \
               every row, those of a condition, or new ones (`for every new row`, `for new rows where …`).",
        asked: &[
            (&["purser-1", "--on", "ticketing", "select on table sales.shift for every row"], Some("rows-withheld")),
            (&["purser-1", "--on", "ticketing", "select on table sales.shift for rows where clerk = current_user"], None),
            (&["db-lead", "--on", "ticketing", "--role", "ticketing-owner", "select on table sales.shift for every row"], None),
        ],
        ..CASE
    },
    Case {
        title: "A chain of grant options",
        text: "Voyage planners may pass on what they hold on delays, and gave UPDATE to the pursers. A purser holds it through the planners.",
        asked: &[(&["purser-1", "--on", "ticketing", "--sql", "update voyages.delay set minutes = 5"], None)],
        ..CASE
    },
    Case {
        title: "The same chain with the middle taken out",
        text: "The planners lose UPDATE on delays, and what they gave goes with it: the pursers lose theirs, though nobody touched their \
               grant.",
        with: Some((
            "ticketing.toml",
            "because = \"pursers report delays\"\n",
            "because = \"pursers report delays\"\n\n[[databases.ticketing.grants]]\nrevoke = [\"update\"]\non = \"table voyages.delay\"\nfrom = [\"voyage-planner\"]\ncascade = true\n",
        )),
        asked: &[
            (&["purser-1", "--on", "ticketing", "--sql", "update voyages.delay set minutes = 5"], Some("no-privilege")),
            (&["dispatcher-1", "--on", "ticketing", "--sql", "insert into voyages.delay values (7, 5, 'fog')"], None),
        ],
        ..CASE
    },
    Case {
        title: "A role that was granted and is not active",
        text: "`tariff-1` was granted `member-reader` on the loyalty server and has no default role: the role brings nothing until it is \
               made active.",
        asked: &[
            (&["tariff-1", "--on", "loyalty", "--from", "198.51.100.9", "--sql", "select id, name from club.member"], Some("no-privilege")),
            (
                &[
                    "tariff-1",
                    "--on",
                    "loyalty",
                    "--from",
                    "198.51.100.9",
                    "--role",
                    "member-reader",
                    "--sql",
                    "select id, name from club.member",
                ],
                None,
            ),
        ],
        ..CASE
    },
    Case {
        title: "A membership that is not inherited",
        text: "On PostgreSQL `purser-3` does not inherit: until `fare-clerk` is the active role, its rights are out of reach, and the schema \
               is shut.",
        asked: &[
            (&["purser-3", "--on", "ticketing", "--sql", "select amount from fares.price"], Some("schema-shut")),
            (&["purser-3", "--on", "ticketing", "--role", "fare-clerk", "--sql", "select amount from fares.price"], None),
        ],
        ..CASE
    },
    Case {
        title: "One name from three origins",
        text: "The same name is three accounts on the loyalty server: from the ships, from the office, and on the server itself.",
        asked: &[
            (&["purser-3", "--on", "loyalty", "--from", "203.0.113.7", "--sql", "select amount from club.points"], None),
            (&["purser-3", "--on", "loyalty", "--from", "198.51.100.7", "--sql", "select amount from club.points"], Some("no-privilege")),
            (&["purser-3", "--on", "loyalty", "--local", "--sql", "select amount from club.points"], Some("account-locked")),
            (&["purser-3", "--on", "loyalty", "--sql", "select amount from club.points"], Some("not-stated")),
        ],
        ..CASE
    },
    Case {
        title: "An anonymous account that shadows another",
        text: "In the ledger with defects an installer left an anonymous account for one address. From there `watch-1` is nobody, because \
               the address fits better than the pattern of the account that is meant; from anywhere else all is well.",
        ledger: "with-defects",
        asked: &[
            (&["watch-1", "--on", "loyalty", "--from", "192.0.2.10", "--sql", "select amount from club.points"], Some("no-privilege")),
            (
                &[
                    "watch-1",
                    "--on",
                    "loyalty",
                    "--from",
                    "192.0.2.11",
                    "--role",
                    "member-reader",
                    "--sql",
                    "select amount from club.points",
                ],
                None,
            ),
        ],
        ..CASE
    },
    Case {
        title: "Still allowed, because",
        text: "Drafts were taken from those who sell. `tariff-1` reads them still, because the tariff desk holds the privilege by itself; and \
               the auditor of the loyalty server reads what a single table does not show, because of a pattern of databases.",
        asked: &[
            (&["tariff-1", "--on", "ticketing", "select on table fares.draft"], None),
            (&["purser-1", "--on", "ticketing", "select on table fares.draft"], Some("no-privilege")),
            (&["auditor-1", "--on", "loyalty", "--from", "198.51.100.20", "--sql", "select * from club_archive.member"], None),
        ],
        ..CASE
    },
    Case {
        title: "Through a view and a routine",
        text: "A view reads as its owner, unless it says otherwise; a routine with its owner's rights does what its caller may not.",
        asked: &[
            (&["auditor-1", "--on", "ticketing", "--at", "2026-11-25T08:00:00Z", "--sql", "select * from reports.revenue"], None),
            (
                &["auditor-1", "--on", "ticketing", "--at", "2026-11-25T08:00:00Z", "--sql", "select amount from sales.payment"],
                Some("no-privilege"),
            ),
            (&["purser-1", "--on", "ticketing", "--sql", "select sales.give_back(7, 12.50)"], None),
            (
                &["purser-1", "--on", "ticketing", "--sql", "insert into sales.refund (ticket, amount) values (7, 12.50)"],
                Some("no-privilege"),
            ),
        ],
        ..CASE
    },
    Case {
        title: "What cannot be decided is not allowed",
        text: "Text that is put together while it runs, objects that are not in the inventory, what an earlier statement changed.",
        asked: &[
            (&["tariff-1", "--on", "ticketing", "--sql", "do $$ begin execute 'drop table fares.price'; end $$"], Some("")),
            (&["tariff-1", "--on", "ticketing", "--sql", "select * from fares.rebate"], Some("")),
            (&["tariff-1", "--on", "ticketing", "--sql", "alter role current_user password 'x'; select 1"], Some("")),
        ],
        ..CASE
    },
    Case {
        title: "Several statements in one text",
        text: "They are answered in order: the active role, the path of schemas and an open transaction go on from one to the next.",
        asked: &[
            (
                &["purser-3", "--on", "ticketing", "--sql", "set role \"fare-clerk\"; set search_path = fares; select amount from price"],
                None,
            ),
            (
                &["purser-3", "--on", "ticketing", "--sql", "set role \"fare-clerk\"; reset role; select amount from fares.price"],
                Some("schema-shut"),
            ),
        ],
        ..CASE
    },
];

fn ask(words: &[&str], ledger: &Path) -> Ran {
    zest_with(&[&["ask", "--ledger", ledger.to_str().expect("a path")], words].concat(), b"")
}

/// The words as a shell takes them.
fn shown(words: &[&str]) -> String {
    let quote = |w: &str| if w.contains('"') { '\'' } else { '"' };
    words
        .iter()
        .map(|w| if w.contains(' ') { format!("{}{w}{}", quote(w), quote(w)) } else { (*w).to_owned() })
        .collect::<Vec<_>>()
        .join(" ")
}

#[test]
fn the_named_cases_come_out_as_the_page_says() {
    let mut page = "# Databases: the cases that everybody asks about\n\n\
        Made by a test from what the program answers on the demo ledgers, *Lanternsound Ferries*; the rules behind it are in\n\
        [semantics](semantics.md).\n"
        .to_owned();
    for case in CASES {
        let home = copy_of_demo(case.ledger, case.with);
        let plain = Path::new("demo").join(case.ledger);
        let ledger = if case.with.is_some() { home.path().to_owned() } else { plain };
        let _ = write!(page, "\n## {}\n\n{}\n", case.title, wrapped(case.text));
        if let Some((file, from, to)) = case.with {
            let _ = write!(page, "\nWith this in `{file}` as well:\n\n```toml\n{}```\n", to.trim_start_matches(from).trim_start());
        }
        for (words, refusal) in case.asked {
            let ran = ask(words, &ledger);
            let answer: Value = serde_json::from_str(&ask(&[&["--format", "json"], *words].concat(), &ledger).out).expect("JSON");
            assert_eq!(ran.status == 0, refusal.is_none(), "{words:?}\n{}", ran.out);
            assert_eq!(answer["verdict"] == "allowed", refusal.is_none(), "{words:?}\n{answer:#}");
            if let Some(code) = refusal.filter(|c| !c.is_empty()) {
                assert_eq!(answer["code"], *code, "{words:?}\n{}", ran.out);
            }
            let out = ran.out.replace(home.path().to_str().expect("a path"), &format!("demo/{}", case.ledger));
            let _ = write!(
                page,
                "\n```text\n$ zest ask --ledger demo/{} {}\n{}```\n",
                case.ledger,
                shown(words),
                out.trim_end_matches('\n').to_owned() + "\n"
            );
        }
    }
    page.push_str(NOT_MODELLED);
    for (sort, about, acts) in zest_ledger::not_modelled() {
        let acts = if acts.is_empty() { "none".to_owned() } else { acts.join(", ") };
        let _ = writeln!(page, "| `{sort}` | {about} | {acts} |");
    }
    same_as_file("docs/databases.md", &page);
}

const NOT_MODELLED: &str = "
## What a server looks at and a ledger only names

On PostgreSQL, policies, rules, triggers, checks, domains, settings and bodies of routines have keys of their own
([all keys](ledger-keys.md)): `zest read` writes them, questions look at them, `zest emit` makes them.

A server looks at more than is described here: operators, casts, triggers of MariaDB. `zest read` names such a thing under
`not-modelled`, of the server, of an account or of an object, and lists at the end what it named. A question whose act looks
at one of them is denied as *not decided*, and the answer names it. The question for a bare privilege looks at none.

A ledger without such a key or note says that there is none: whoever writes a ledger by hand writes them, too. What is built of
the server's own types, functions and operators alone, with their rights unchanged, needs no note; `zest read` leaves it out.
Who may connect at all (`pg_hba.conf` on PostgreSQL) is not looked at: answers are about a session that is open.

`zest emit` and `zest roll-out` stop where an object or an account would have to be made with something that is only named.

| sort | what it is | acts that look at it |
|---|---|---|
";

/// Breaks a text into lines of at most 120 letters.
#[test]
fn a_batch_asks_statements_roles_and_origins() {
    let questions = [
        r#"{"user":"tariff-1","on":"ticketing","sql":"select amount from fares.price"}"#,
        r#"{"user":"purser-3","on":"ticketing","sql":"select amount from fares.price","role":"fare-clerk"}"#,
        r#"{"user":"purser-3","on":"ticketing","sql":"select amount from fares.price"}"#,
        r#"{"user":"db-lead","on":"loyalty","local":true,"account":"root@localhost","sql":"drop database club"}"#,
        r#"{"user":"tariff-1","on":"ticketing","line":"select on table fares.price"}"#,
        r#"{"user":"tariff-1","on":"ticketing","sql":"select from where"}"#,
    ];
    let ran = zest_with(&["ask", "--batch", "--ledger", "demo/lanternsound"], (questions.join("\n") + "\n").as_bytes());
    let verdicts: Vec<(String, String)> = ran
        .out
        .lines()
        .map(|line| {
            let answer: Value = serde_json::from_str(line).unwrap_or_else(|e| panic!("{e}: {line}"));
            let text = |key: &str| answer[key].as_str().unwrap_or("").to_owned();
            (text("verdict"), text("code"))
        })
        .collect();
    let expected =
        [("allowed", ""), ("allowed", ""), ("denied", "schema-shut"), ("allowed", ""), ("allowed", ""), ("denied", "statement-unreadable")];
    let verdicts: Vec<(&str, &str)> = verdicts.iter().map(|(v, r)| (v.as_str(), r.as_str())).collect();
    assert_eq!(verdicts, expected, "{}{}", ran.out, ran.err);
}

#[test]
fn statements_of_the_wrong_dialect_or_of_no_sense_are_refused() {
    for (system, sql) in [
        ("ticketing", "select `amount` from fares.price"),
        ("ticketing", "replace into fares.price values (1)"),
        ("ticketing", ""),
        ("ticketing", ";;;"),
        ("ticketing", "select 'never closed"),
        ("ticketing", "drop drop drop"),
        ("loyalty", "select amount::text from club.points"),
        ("loyalty", "copy club.points from stdin"),
        ("loyalty", "select * from only club.points"),
        ("loyalty", "create materialized view club.v as select 1"),
    ] {
        let ran = zest_with(
            &[
                "ask",
                "db-lead",
                "--on",
                system,
                "--sql",
                sql,
                "--local",
                "--account",
                if system == "loyalty" { "root@localhost" } else { "postgres" },
                "--ledger",
                "demo/lanternsound",
            ],
            b"",
        );
        assert_ne!(ran.status, 0, "{system}: {sql}\n{}", ran.out);
        assert!(!ran.out.contains("ALLOWED"), "{system}: {sql}\n{}", ran.out);
    }
}

#[test]
fn what_is_asked_in_a_form_that_the_kind_does_not_know_is_said() {
    for (line, said) in [
        ("ask watch-1 --on sw-selkie-1 --sql select --ledger demo/lanternsound", "statement"),
        ("ask tariff-1 --on ticketing --role nobody --ledger demo/lanternsound select on table fares.price", "no role"),
        ("ask tariff-1 --on ticketing --ledger demo/lanternsound execute on table fares.price", "execute"),
        ("ask tariff-1 --on ticketing --ledger demo/lanternsound select on table fares.prise", "the nearest is `table fares.price`"),
        ("ask tariff-1 --on ticketing --ledger demo/lanternsound shwo", "expected a privilege and an object"),
        ("ask tarif-1 --on ticketing --ledger demo/lanternsound select on table fares.price", "the nearest name is `tariff-1`"),
    ] {
        let ran = zest(line);
        assert_ne!(ran.status, 0, "{line}\n{}", ran.out);
        let both = format!("{}{}", ran.out, ran.err).replace("\n                ", " ").replace('\n', " ");
        assert!(both.contains(said), "{line}: `{said}` is not in\n{both}");
    }
}

#[test]
fn statements_are_rehearsed_in_order_on_both_databases() {
    let on_ticketing = "rehearse purser-3 --on ticketing --ledger demo/lanternsound";
    let script = "select amount from fares.price\nset role \"fare-clerk\";\nselect amount from fares.price\ngrant select on fares.price to purser\n\
                  :state\nreset role\nupdate fares.price set amount = 1\n:why\n";
    let ran = zest_with(&on_ticketing.split(' ').collect::<Vec<_>>(), script.as_bytes());
    assert_eq!(ran.status, 0, "{}{}", ran.out, ran.err);
    let lines: Vec<&str> = ran.out.lines().map(str::trim).collect();
    for said in [
        "refused [schema-shut]",
        "allowed; the session goes on with it",
        "refused [no-grant-option]",
        "set role \"fare-clerk\"",
        "purser-3 on ticketing: update fares.price set amount = 1",
    ] {
        assert!(lines.contains(&said), "`{said}` is not in\n{}", ran.out);
    }
    assert!(!ran.out.contains("statement 2"), "each statement stands for itself\n{}", ran.out);
    let on_loyalty = "rehearse tariff-1 --on loyalty --from 198.51.100.9 --strict --ledger demo/lanternsound";
    let script = "use club\nset role `member-reader`\nselect id, name from member\nset role none\nselect id, name from member\nselect 1\n";
    let ran = zest_with(&on_loyalty.split(' ').collect::<Vec<_>>(), script.as_bytes());
    assert_eq!((ran.status, ran.out.matches("refused").count(), ran.out.matches("select 1").count()), (1, 1, 0), "{}", ran.out);
}

#[test]
fn scripts_are_the_same_every_time_and_hold_no_secret() {
    for system in ["ticketing", "loyalty"] {
        let line = format!("emit {system} --at 2026-11-25T08:00:00Z --ledger demo/lanternsound");
        let (one, other) = (zest(&line), zest(&line));
        assert_eq!((one.status, &one.out), (0, &other.out), "{}", one.err);
        assert!(one.out.contains("CREDENTIAL TO SET"), "where credentials go is marked");
        assert!(!one.out.to_lowercase().contains("identified by"), "none is written");
    }
    let later = zest("emit ticketing --at 2027-01-01T00:00:00Z --ledger demo/lanternsound");
    let grant = "GRANT SELECT ON TABLE \"sales\".\"till\" TO \"stocktaker\";";
    assert!(zest("emit ticketing --at 2026-11-25T08:00:00Z --ledger demo/lanternsound").out.contains(grant));
    assert!(!later.out.contains(grant), "a grant that has ended is not rolled out");
}

#[test]
fn effective_rights_name_from_where_with_which_role_and_through_what() {
    let ran = zest("effective purser-3 --on loyalty --ledger demo/lanternsound");
    for part in
        ["sessions  from host `198.51.100.%` or from host `203.0.113.%`", "select (id, level, name)", "with role campaign active", "PUBLIC"]
    {
        assert!(ran.out.contains(part), "`{part}` is not in\n{}", ran.out);
    }
    let from_a_ship = zest("effective purser-3 --on loyalty --from 203.0.113.9 --ledger demo/lanternsound");
    assert!(!from_a_ship.out.contains("198.51.100"), "a stated origin leads to one account\n{}", from_a_ship.out);
    let ran = zest("effective dispatcher-1 --on ticketing --ledger demo/lanternsound");
    for part in ["insert, update, delete, and", "`voyage-planner`", "`voyage-reader`"] {
        assert!(ran.out.contains(part), "`{part}` is not in\n{}", ran.out);
    }
    let json = zest("effective purser-3 --on ticketing --ledger demo/lanternsound --format json");
    let listed: Value = serde_json::from_str(&json.out).expect("JSON");
    assert_eq!(listed["format"], 1);
    let rights = listed["effective"][0]["rights"].as_array().expect("a list");
    let once: Vec<&str> = rights.iter().flat_map(|right| right["starts"].as_array().expect("a list")).filter_map(Value::as_str).collect();
    assert!(once.iter().any(|start| start.contains("role purser")), "{listed:#}");
}

#[test]
fn the_catalogue_lists_every_privilege_of_a_kind() {
    for (kind, count) in [("postgresql", 12), ("mariadb", 39)] {
        let ran = zest(&format!("privileges {kind} --format json"));
        let list: Value = serde_json::from_str(&ran.out).expect("JSON");
        let list = list.as_array().expect("a list");
        assert_eq!(list.len(), count, "{kind}");
        assert!(list.iter().all(|p| !p["applies-to"].as_array().expect("a list").is_empty() && p["about"] != ""), "{kind}");
        let text = zest(&format!("privileges {kind}")).out;
        assert!(list.iter().all(|p| text.contains(p["name"].as_str().expect("a name"))), "{kind}\n{text}");
    }
}

/// What statements do not change is not passed over in silence: texts of what is there, its columns and types.
#[test]
fn what_no_statement_changes_is_told() {
    let body = ("ticketing.toml", "SET state = 'refunded' WHERE id = $1", "SET state = 'given back' WHERE id = $1");
    let home = copy_of_demo("lanternsound", Some(body));
    let document = home.path().join("ticketing.toml");
    let text = std::fs::read_to_string(&document).expect("it was copied");
    let policy = "policies = { own_shifts = { for = \"select\", using = \"clerk = CURRENT_USER\" } }, ";
    std::fs::write(&document, text.replace(policy, "")).expect("it can be written");
    let since = home.path().display().to_string();
    let ran =
        zest_with(&["emit", "ticketing", "--ledger", "demo/lanternsound", "--since", &since, "--at", "2026-11-25T09:00:00+01:00"], b"");
    assert_eq!(ran.status, 0, "{}", ran.err);
    let left: Vec<&str> = ran.out.lines().filter(|line| line.starts_with("-- Left as it is")).collect();
    assert_eq!(left.len(), 2, "{}", ran.out);
    assert!(left[0].contains("the server has body") && left[0].contains("given back"), "{left:#?}");
    assert!(left[1].contains("the ledger has body") && left[1].contains("refunded"), "{left:#?}");
    // A policy is made.
    assert!(ran.out.contains("CREATE POLICY \"own_shifts\" ON \"sales\".\"shift\""), "{}", ran.out);
}
