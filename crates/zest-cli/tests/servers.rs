//! `emit`, `read` and `roll-out` on real servers, as an administrator uses them.

use std::process::{Command, Stdio};

use zest_testkit::pages::same_as_file;
use zest_testkit::servers::{self, Server};

use crate::support::{Ran, zest, zest_with};

const DEMO: &[&str] = &["--ledger", "demo/lanternsound", "--at", "2026-11-25T08:00:00Z"];

/// A server of the demo, as the command line names it.
struct Place {
    server: Server,
    system: &'static str,
    place: String,
}

impl Place {
    fn postgresql() -> Option<Self> {
        let server = servers::wanted(servers::postgresql)?;
        let place = format!("127.0.0.1:{}", server.port);
        let place = Self { server, system: "ticketing", place };
        place.sql("postgres", "CREATE DATABASE ticketing");
        Some(place)
    }

    fn mariadb() -> Option<Self> {
        let server = servers::wanted(servers::mariadb)?;
        let place = server.folder.join("socket").display().to_string();
        let place = Self { server, system: "loyalty", place };
        // Of the first accounts of a fresh server the demo declares one.
        place.sql("", "DELETE FROM mysql.global_priv WHERE User = 'root' AND Host <> 'localhost'; FLUSH PRIVILEGES");
        Some(place)
    }

    /// Runs statements with the server's own client.
    fn sql(&self, database: &str, text: &str) {
        let mut command = if self.system == "ticketing" {
            let mut command = Command::new("/usr/lib/postgresql/15/bin/psql");
            command.args([
                "-qX",
                "-v",
                "ON_ERROR_STOP=1",
                "-h",
                "127.0.0.1",
                "-U",
                "postgres",
                "-d",
                database,
                "-p",
                &self.server.port.to_string(),
            ]);
            command
        } else {
            let mut command = Command::new("mariadb");
            command.args(["--no-defaults", "--user=root", &format!("--socket={}", self.place)]);
            command
        };
        let mut child = command.stdin(Stdio::piped()).stdout(Stdio::piped()).stderr(Stdio::piped()).spawn().expect("the client starts");
        let input = text.to_owned();
        let mut stdin = child.stdin.take().expect("it reads");
        let writer = std::thread::spawn(move || std::io::Write::write_all(&mut stdin, input.as_bytes()));
        let done = child.wait_with_output().expect("it ends");
        writer.join().expect("it ends").expect("it reads everything");
        assert!(done.status.success(), "{}\n{text:.500}", String::from_utf8_lossy(&done.stderr));
    }

    /// Runs a command of ours on this server.
    fn zest(&self, command: &str, more: &[&str], input: &str) -> Ran {
        let words = [&[command, self.system, "--server", &self.place][..], DEMO, more].concat();
        zest_with(&words, input.as_bytes())
    }

    fn emit(&self, more: &[&str]) -> Ran {
        zest_with(&[&["emit", self.system][..], DEMO, more].concat(), b"")
    }
}

/// The number of statements that a script announces in its first line.
fn announced(script: &str) -> usize {
    let words = script.lines().next().and_then(|l| l.split(' ').nth(2)).expect("a first line");
    words.parse().unwrap_or_else(|_| panic!("{script:.200}"))
}

/// By hand: the script goes through the server's own client, twice; then server and ledger agree.
fn by_hand(place: &Place, database: &str) {
    let before = place.zest("read", &["--drift"], "");
    assert_eq!((before.status, before.out.contains("less on the server than in the ledger")), (1, true), "{}", before.out);
    let script = place.emit(&[]);
    assert!(announced(&script.out) > 50, "{:.200}", script.out);
    assert!(script.out.contains("CREDENTIAL TO SET"), "credentials are left to people");
    place.sql(database, &script.out);
    place.sql(database, &script.out);
    let after = place.zest("read", &["--drift"], "");
    assert_eq!(after.status, 0, "{}", after.out);
    assert!(after.out.starts_with("no difference: "), "{}", after.out);
    // What was read is a ledger of its own, and from it to ours there is nothing to do.
    let read = place.zest("read", &[], "");
    assert_eq!(read.status, 0, "{}", read.err);
    let home = tempfile::tempdir().expect("a folder");
    let file = home.path().join("read.toml");
    std::fs::write(&file, &read.out).expect("written");
    let since = place.emit(&["--since", file.to_str().expect("a path")]);
    assert_eq!(since.err, "");
    assert_eq!(announced(&since.out), 0, "{}", since.out);
    let findings = zest_with(&["findings", "--ledger", file.to_str().expect("a path"), "--fail-on", "error"], b"");
    assert_eq!(findings.status, 0, "{}", findings.out);
}

#[test]
fn a_script_for_postgresql_can_be_run_by_hand_and_again() {
    let Some(place) = Place::postgresql() else { return };
    by_hand(&place, "ticketing");
}

#[test]
fn a_script_for_mariadb_can_be_run_by_hand_and_again() {
    let Some(place) = Place::mariadb() else { return };
    by_hand(&place, "");
}

/// Rolling out: never without the right number, once with it, then there is nothing to do.
fn roll_out(place: &Place) {
    let wrong = place.zest("roll-out", &["--yes", "3"], "");
    assert_eq!(wrong.status, 1, "{}", wrong.err);
    let count: usize = wrong.err.split_whitespace().find_map(|w| w.parse().ok()).expect("it says how many");
    assert!(wrong.err.contains("nothing was changed") && wrong.err.contains("3 were expected"), "{}", wrong.err);
    for answer in ["", "y\n", "yes\n", "3\n", &format!("{count} \u{7f}\n")] {
        let unconfirmed = place.zest("roll-out", &[], answer);
        assert_eq!(unconfirmed.status, 1, "{answer:?}: {}", unconfirmed.err);
        assert!(unconfirmed.out.contains(&format!("{count} statements. Type the number to go on")), "{:.300}", unconfirmed.out);
        assert!(unconfirmed.err.contains("not confirmed"), "{}", unconfirmed.err);
    }
    let confirmed = place.zest("roll-out", &[], &format!("{count}\n"));
    assert_eq!(confirmed.status, 0, "{}", confirmed.err);
    assert!(confirmed.out.contains(&format!("{count} statements carried out")), "{}", confirmed.out);
    assert!(confirmed.out.contains("no difference"), "it reads back and compares");
    let again = place.zest("roll-out", &["--yes", "0"], "");
    assert_eq!(again.status, 0, "{}", again.err);
    assert!(again.out.contains("0 statements, nothing to do"), "{}", again.out);
}

#[test]
fn rolling_out_postgresql_waits_for_the_right_number_and_proves_itself() {
    let Some(place) = Place::postgresql() else { return };
    roll_out(&place);
    // Somebody changes things by hand: both sides are shown, and the same command puts it right.
    place.sql(
        "ticketing",
        "CREATE ROLE intruder LOGIN; GRANT SELECT ON sales.passenger TO intruder; REVOKE UPDATE (amount) ON fares.price FROM \"fare-clerk\"",
    );
    let drift = place.zest("read", &["--drift"], "");
    assert_eq!(drift.status, 1);
    for line in [
        "more on the server than in the ledger (2)",
        "+ role intruder",
        "+ table sales.passenger: intruder holds select",
        "less on the server than in the ledger (1)",
        "- table fares.price, column amount: fare-clerk holds update",
    ] {
        assert!(drift.out.contains(line), "`{line}` is not in\n{}", drift.out);
    }
    // The same in each form that programs and pages read.
    let of = |format: &str| place.zest("read", &["--drift", "--format", format], "").out;
    let data: serde_json::Value = serde_json::from_str(&of("json")).expect("it is JSON");
    let text = of("csv");
    let rows = csv::Reader::from_reader(text.as_bytes()).into_records().collect::<Result<Vec<_>, _>>().expect("it is csv");
    let markdown = of("markdown");
    for (at, (side, begins)) in [
        ("server", "role intruder"),
        ("ledger", "table fares.price, column amount: fare-clerk holds update"),
        ("server", "table sales.passenger: intruder holds select"),
    ]
    .into_iter()
    .enumerate()
    {
        let what = data["drift"][at]["what"].as_str().unwrap_or_default();
        assert!(data["drift"][at]["on"] == side && what.starts_with(begins), "{data:#}");
        assert_eq!((rows[at].get(0), rows[at].get(1)), (Some(side), Some(what)), "{text}");
        assert!(markdown.contains(&format!("| {side} | {what} |\n")), "{markdown}");
    }
    let mended = place.zest("roll-out", &["--yes", "2"], "");
    assert!(mended.out.contains("2 statements carried out"), "{}{}", mended.out, mended.err);
    // Roles that the ledger does not know are not dropped, and the difference is not hidden.
    assert_eq!(mended.status, 1, "{}", mended.out);
    assert!(mended.out.contains("+ role intruder") && !mended.out.contains("sales.passenger"), "{}", mended.out);
}

#[test]
fn rolling_out_mariadb_waits_for_the_right_number_and_proves_itself() {
    let Some(place) = Place::mariadb() else { return };
    roll_out(&place);
    place.sql("", "GRANT DROP ON campaigns.* TO campaign; REVOKE SELECT (name) ON club.member FROM `member-reader`");
    let drift = place.zest("read", &["--drift"], "");
    assert_eq!(drift.status, 1);
    for line in ["+ database campaigns: campaign holds drop", "- table club.member, column name: member-reader holds select"] {
        assert!(drift.out.contains(line), "`{line}` is not in\n{}", drift.out);
    }
    let mended = place.zest("roll-out", &["--yes", "2"], "");
    assert_eq!(mended.status, 0, "{}{}", mended.out, mended.err);
}

#[test]
fn rolling_out_takes_nobodys_way_back() {
    let Some(place) = Place::postgresql() else { return };
    let home = tempfile::tempdir().expect("a folder");
    let file = home.path().join("ledger.toml");
    std::fs::write(&file, "[systems.ticketing]\nkind = \"postgresql\"\n[databases.ticketing.accounts.postgres]\nmay = [\"create-role\"]\n")
        .expect("written");
    let ran =
        zest_with(&["roll-out", "ticketing", "--server", &place.place, "--ledger", file.to_str().expect("a path"), "--yes", "1"], b"");
    assert_eq!(ran.status, 1, "{}{}", ran.out, ran.err);
    assert!(ran.err.contains("nothing was changed: the last superuser who may sign in would be gone"), "{}", ran.err);
}

#[test]
fn what_cannot_be_reached_or_is_no_database_server_is_said() {
    for (line, status, said) in [
        ("read ticketing --server 127.0.0.1:1 --ledger demo/lanternsound", 5, "cannot open a session on 127.0.0.1:1/ticketing"),
        ("read loyalty --server 127.0.0.1:1 --ledger demo/lanternsound", 5, "cannot open a session on 127.0.0.1:1"),
        ("read loyalty --server /nowhere/socket --ledger demo/lanternsound", 5, "cannot open a session on /nowhere/socket"),
        ("roll-out ticketing --yes 1 --server [::1]:1 --ledger demo/lanternsound", 5, "cannot open a session on ::1:1/ticketing"),
        ("read ticketing --server [::1 --ledger demo/lanternsound", 5, "an IPv6 address ends with `]`"),
        ("read ticketing --server host:port --ledger demo/lanternsound", 5, "a port is a number"),
        ("read tickting --ledger demo/lanternsound", 2, "no system is named `tickting`; did you mean `ticketing`?"),
        ("emit sw-selkie-1 --ledger demo/lanternsound", 3, "statements are for database servers"),
        ("emit ticketing --ledger nowhere", 3, "nowhere"),
        ("emit ticketing --since nowhere.toml --ledger demo/lanternsound", 3, "nowhere.toml"),
        ("roll-out ticketing --yes many --ledger demo/lanternsound", 2, "many"),
    ] {
        let ran = zest(line);
        assert_eq!(ran.status, status, "{line}\n{}{}", ran.out, ran.err);
        assert!(ran.err.contains(said), "{line}: `{said}` is not in\n{}", ran.err);
        assert_eq!(ran.out, "", "{line}");
    }
}

#[test]
fn a_trial_on_a_private_server_agrees_and_tells_what_it_did() {
    if servers::wanted(servers::postgresql).is_none() || servers::wanted(servers::mariadb).is_none() {
        return;
    }
    let trial = |words: &[&str]| zest_with(&[&["trial"][..], words, DEMO].concat(), b"");
    let on_ticketing = trial(&["ticketing"]);
    let on_loyalty = trial(&["loyalty"]);
    let some = trial(&[
        "ticketing",
        "--account",
        "tariff-1",
        "--account",
        "purser-3",
        "--sql",
        "update fares.price set amount = 1",
        "--sql",
        "update fares.price set zone = 1",
        "--sql",
        "do $$ begin perform 1; end $$",
        "--sql",
        "copy fares.price to stdout",
    ]);
    for ran in [&on_ticketing, &on_loyalty, &some] {
        assert_eq!(ran.status, 0, "{}{}", ran.out, ran.err);
        assert!(ran.out.contains("the server says the same wherever both decide"), "{}", ran.out);
    }
    let page = format!(
        "# A trial on a private server\n\nAn administrator trusts a model more once the server itself was asked. `zest trial` starts a server of its own from the\npackages that are installed, gives it the schema and the rights of the ledger, no rows and no secrets, reads it back, and goes\non only if nothing differs. Then it puts questions to it: each privilege by the server's own functions (PostgreSQL), statements\nunder each account and each role that it may make active, in a transaction that is taken back. Accounts of MariaDB come from\nother origins than in the ledger, so which account a session is given is not tried. What would reach files, programs or other\nservers is not put to it, nor on MariaDB what cannot be taken back. A test writes this page (`ZEST_REWRITE=1`).\n\n```text\n$ zest trial ticketing\n{}```\n\n```text\n$ zest trial loyalty\n{}```\n\nStatements of one's own, for some accounts, or recorded questions (`--questions FILE`, one a line as `ask --batch` takes them):\n\n```text\n$ zest trial ticketing --account tariff-1 --account purser-3 --sql 'update fares.price set amount = 1' \\\n    --sql 'update fares.price set zone = 1' --sql 'do $$ begin perform 1; end $$' --sql 'copy fares.price to stdout'\n{}```\n\n## The server itself\n\n`zest trial SYSTEM --live` puts the same questions to the server in use, reached as by `zest read`, and so finds as well what somebody has\nchanged there. Nothing is changed: privileges are asked of the server's own functions, and statements about rows are put as `EXPLAIN`,\nwhich looks at rights and carries nothing out, one statement at a time, with limits on time and on waiting for locks, on PostgreSQL in a\ntransaction that may only read. What could run somebody's routine while it is planned, what reaches out, what is no statement about rows,\nand what is not decided is not put to it, and told as not tried; so are accounts of PostgreSQL whose sessions begin with settings of\ntheir own. PostgreSQL wants a superuser to sign in, who alone may ask as others; on MariaDB the account that signs in (`--login`,\n`--ask-credential`) is asked about alone, and views are not tried. Who may sign in at all is tried on neither.\n",
        on_ticketing.out, on_loyalty.out, some.out
    );
    same_as_file("docs/trial.md", &page);
    // Recorded questions, as data; one of them is answered before any server is asked.
    let home = tempfile::tempdir().expect("a folder");
    let file = home.path().join("questions.jsonl");
    let questions = [
        r#"{"user":"tariff-1","on":"ticketing","sql":"select id from fares.price"}"#,
        r#"{"user":"nobody","on":"ticketing","sql":"select 1"}"#,
        r#"{"user":"watch-1","on":"sw-selkie-1","line":"show log"}"#,
    ];
    std::fs::write(&file, questions.join("\n")).expect("written");
    let recorded = trial(&["ticketing", "--questions", file.to_str().expect("a path"), "--format", "json"]);
    let report: serde_json::Value = serde_json::from_str(&recorded.out).unwrap_or_else(|e| panic!("{e}: {}{}", recorded.out, recorded.err));
    let row = &report["rows"]["recorded questions"];
    assert_eq!(
        (report["format"].as_str(), row["allowed-by-both"].as_u64(), row["not-tried"].as_u64()),
        (Some("zest-trial-1"), Some(1), Some(1)),
        "{report:#}"
    );
    // The same numbers in each form.
    let of =
        |format: &str| trial(&["ticketing", "--account", "tariff-1", "--sql", "update fares.price set amount = 1", "--format", format]);
    assert_eq!(of("csv").out, "asked,allowed by both,refused by both,disagree,not decided,not tried\nstatements,2,1,0,0,0\n");
    assert!(of("markdown").out.ends_with("| statements | 2 | 1 | 0 | 0 | 0 |\n"), "{}", of("markdown").out);
    let wrong = trial(&["sw-selkie-1"]);
    assert!(wrong.status != 0 && wrong.err.contains("statements are for database servers"), "{}", wrong.err);
}

/// What a trial on a server in use came to: allowed by both, refused by both, disagreements, not tried.
fn counted(ran: &Ran) -> [u64; 4] {
    let report: serde_json::Value = serde_json::from_str(&ran.out).unwrap_or_else(|e| panic!("{e}: {}{}", ran.out, ran.err));
    assert!(report["live"].is_string(), "{report:#}");
    let of = |key: &str| report["rows"].as_object().into_iter().flatten().map(|(_, row)| row[key].as_u64().unwrap_or_default()).sum();
    ["allowed-by-both", "refused-by-both", "disagree", "not-tried"].map(of)
}

/// The server itself is asked, finds what the ledger does not know, and has afterwards what it had before.
#[test]
fn a_trial_on_a_server_in_use_changes_nothing() {
    let Some(place) = Place::postgresql() else { return };
    place.sql("ticketing", &place.emit(&[]).out);
    place.sql("ticketing", "INSERT INTO fares.price (id) VALUES (1)");
    let before = place.zest("read", &[], "").out;
    let live = |more: &[&str]| place.zest("trial", &[&["--live", "--format", "json"][..], more].concat(), "");
    let all = live(&["--account", "purser-1", "--account", "tariff-1"]);
    let [allowed, refused, disagree, not_tried] = counted(&all);
    assert!(
        all.status == 0 && allowed > 100 && refused > 1_000 && disagree + not_tried == 0,
        "{allowed} {refused} {disagree} {not_tried}: {}",
        all.out
    );
    let put = |statements: &[&str]| {
        let words: Vec<&str> = statements.iter().flat_map(|sql| ["--sql", sql]).collect();
        counted(&live(&[&["--account", "tariff-1"][..], &words].concat()))
    };
    // In their own name and with each of two roles active.
    let may = ["select id from fares.price", "select id from fares.price for update", "update fares.price set amount = 0"];
    let [allowed, refused, disagree, not_tried] = put(&may);
    assert!(allowed >= 6 && allowed + refused == 9 && disagree + not_tried == 0, "{allowed} {refused} {disagree} {not_tried}");
    let may_not = [
        "insert into fares.price (id) values (2)",
        "with gone as (delete from fares.price returning id) select id from gone",
        "delete from fares.price",
    ];
    assert_eq!(put(&may_not), [0, 9, 0, 0]);
    // What is several statements, or none about rows, is not put to it; nor what runs a routine, or reaches out.
    let not_put = [
        "select 1; delete from fares.price",
        "select 1; commit; drop table fares.price",
        "analyze delete from fares.price",
        "drop table fares.price",
        "truncate fares.price",
        "do $$ begin delete from fares.price; end $$",
        "select sales.give_back(1, 2)",
        "select pg_terminate_backend(1)",
        "select id into fares.copied from fares.price",
        "select count(*) from fares.price, nextval('sales.ticket_number')",
    ];
    assert_eq!(put(&not_put), [0, 0, 0, 30]);
    // What somebody changed by hand is found.
    place.sql("ticketing", "GRANT DELETE ON fares.price TO \"tariff-1\"");
    let ran = live(&["--account", "tariff-1", "--sql", "delete from fares.price"]);
    assert!(ran.status == 1 && counted(&ran)[2] > 0, "{}", ran.out);
    place.sql("ticketing", "REVOKE DELETE ON fares.price FROM \"tariff-1\"");
    assert_eq!(place.zest("read", &[], "").out, before);
    place.sql("ticketing", "DO $$ BEGIN ASSERT (SELECT count(*) = 1 AND min(id) = 1 FROM fares.price); END $$");
    // Nobody else may ask for others, and a way to the server is stated for the server itself alone.
    place.sql("ticketing", "CREATE ROLE looker LOGIN; GRANT CONNECT ON DATABASE ticketing TO looker");
    let ran = live(&["--login", "looker", "--account", "tariff-1"]);
    assert!(ran.status != 0 && ran.err.contains("`looker` is no superuser"), "{}{}", ran.out, ran.err);
    let ran = place.zest("trial", &[], "");
    assert!(ran.status == 2 && ran.err.contains("state --live as well"), "{}{}", ran.out, ran.err);
}

#[test]
fn a_trial_on_mariadb_in_use_asks_as_whoever_signed_in() {
    let Some(place) = Place::mariadb() else { return };
    place.sql("", &place.emit(&[]).out);
    place.sql("", "SET PASSWORD FOR 'purser-3'@'localhost' = ''; ALTER USER 'purser-3'@'localhost' ACCOUNT UNLOCK; INSERT INTO club.partner (id) VALUES (1)");
    place.sql("", "GRANT SELECT (id), INSERT (id) ON club.partner TO 'purser-3'@'localhost'");
    // The ledger with the same account open.
    let home = crate::support::copy_of_demo(
        "lanternsound",
        Some(("loyalty.toml", "\"purser-3@localhost\" = { locked = true, ", "\"purser-3@localhost\" = { ")),
    );
    let text = std::fs::read_to_string(home.path().join("loyalty.toml")).expect("a document");
    let grant = "[[databases.loyalty.grants]]\nallow = [\"select\", \"insert\"]\non = \"table club.partner\"\ncolumns = [\"id\"]\nto = [\"purser-3@localhost\"]\n";
    std::fs::write(home.path().join("loyalty.toml"), format!("{text}\n{grant}")).expect("written");
    let ledger = home.path().to_str().expect("a path");
    let live = |login: &str, more: &[&str]| {
        let words = [
            "trial",
            "loyalty",
            "--live",
            "--format",
            "json",
            "--server",
            &place.place,
            "--login",
            login,
            "--ledger",
            ledger,
            "--at",
            "2026-11-25T08:00:00Z",
        ];
        zest_with(&[&words[..], more].concat(), b"")
    };
    let all = live("purser-3", &[]);
    let [allowed, refused, disagree, _] = counted(&all);
    assert!(all.status == 0 && allowed >= 2 && refused > 20 && disagree == 0, "{allowed} {refused} {disagree}: {}", all.out);
    let put = |statements: &[&str]| counted(&live("purser-3", &statements.iter().flat_map(|sql| ["--sql", sql]).collect::<Vec<_>>()));
    assert_eq!(put(&["select id from club.partner", "insert into club.partner (id) values (2)"]), [2, 0, 0, 0]);
    assert_eq!(put(&["select name from club.member", "delete from club.partner"]), [0, 2, 0, 0]);
    let not_put = [
        "select id from club.partner; delete from club.partner",
        "drop table club.partner",
        "call club.take_points(1, 2)",
        "select total from club.balance",
        "select id from club.partner into outfile '/tmp/anything'",
    ];
    assert_eq!(put(&not_put), [0, 0, 0, 5]);
    // What somebody changed by hand is found; nothing was changed by asking.
    place.sql("", "REVOKE INSERT (id) ON club.partner FROM 'purser-3'@'localhost'");
    let ran = live("purser-3", &["--sql", "insert into club.partner (id) values (2)"]);
    assert!(ran.status == 1 && counted(&ran)[2] == 1, "{}", ran.out);
    place.sql("", "SELECT IF(count(*) = 1, 1, (SELECT 1 UNION SELECT 2)) FROM club.partner");
}
