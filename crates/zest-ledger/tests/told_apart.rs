//! Whatever a database server lets one role do and another not is found by a comparison of rights: one edit of a ledger after the other,
//! with all that is gained and lost by it. And which rows are asked for, question by question.

use std::collections::BTreeSet;

use fastrand::Rng;
use zest_ledger::ask::{Question, Refusal, Session, Verdict};
use zest_ledger::mariadb::{AccountName, Class as MariadbClass, Holder, State as MariadbState, quoted as mariadb_quoted};
use zest_ledger::postgresql::{Class, ObjectName, State, quoted};
use zest_ledger::review::{
    Between, ChangedBeside, Difference, Membership, Moved, Right, Subject, Touched, beside, changed_beside, compare, effective,
};
use zest_ledger::{Engine, Ledger};
use zest_testkit::databases::mariadb;
use zest_testkit::databases::postgresql::{Size, estate, random_change, statements};
use zest_testkit::{questions, seed};

use crate::support::engine;

const HARBOUR: &str = r#"
users.clerk.proofs = ["password"]
systems.db.kind = "postgresql"
[databases.db]
owner = "keeper"
accounts = { clerk = { member-of = ["desk"] } }
roles = { keeper = {}, desk = {}, crew = {}, far = {} }
[databases.db.objects]
"schema s" = { owner = "keeper" }
"table s.t" = { owner = "keeper", columns = { id = "integer", zone = "integer" }, row-security = true, policies = { near = { for = "select", using = "zone = 1" } } }
"table s.u" = { owner = "keeper", columns = { id = "integer" } }
[[databases.db.grants]]
allow = ["usage"]
on = "schema s"
to = ["desk"]
[[databases.db.grants]]
allow = ["select", "insert", "update", "delete"]
on = "all tables in s"
to = ["desk"]
"#;

const CLUB: &str = r#"
users.clerk.proofs = ["password"]
systems.db.kind = "mariadb"
[databases.db]
accounts = { "clerk@localhost" = { member-of = ["desk"] }, "keeper@localhost" = {} }
roles = { desk = {}, crew = {} }
[databases.db.objects]
"table club.t" = { columns = { id = "int" } }
[[databases.db.grants]]
allow = ["select"]
on = "table club.t"
to = ["desk"]
"#;

/// Which lines a comparison says `clerk` gained and lost; each example is asked of both ledgers.
fn moved(before: &Engine, after: &Engine) -> [Vec<String>; 2] {
    let list = compare(before, after, "clerk", &Session::default());
    let gained = || list.iter().flat_map(|one| &one.gained);
    let lost = || list.iter().flat_map(|one| &one.lost);
    for (moved, here, there) in gained().map(|m| (m, after, before)).chain(lost().map(|m| (m, before, after))) {
        assert_eq!(here.decide(&moved.right.example).verdict, Verdict::Allowed, "{moved:#?}");
        assert_eq!(there.decide(&moved.right.example).verdict, Verdict::Denied, "{moved:#?}");
    }
    let lines = |of: &mut dyn Iterator<Item = &Moved>| {
        let all: BTreeSet<&String> = of.flat_map(|moved| &moved.right.lines).collect();
        all.into_iter().cloned().collect()
    };
    [lines(&mut gained()), lines(&mut lost())]
}

/// An edit of a ledger: what is written instead of what, and what `clerk` gains and loses by it.
struct Edit(&'static str, &'static str, &'static [&'static str], &'static [&'static str]);

fn told(ledger: &str, edits: &[Edit]) {
    for Edit(from, to, gained, lost) in edits {
        assert!(ledger.contains(from), "{from}");
        let (before, after) = (engine(ledger), engine(&ledger.replace(from, to)));
        assert_eq!(moved(&before, &after), [*gained, *lost], "{from} => {to}");
        assert_eq!(moved(&after, &before), [*lost, *gained], "{to} => {from}");
    }
}

const NEAR: &str = r#"policies = { near = { for = "select", using = "zone = 1" } }"#;

#[test]
fn what_somebody_may_beyond_privileges_is_compared_on_postgresql() {
    let every_row: &[&str] = &[
        "delete on table s.t for every row",
        "insert on table s.t for every new row",
        "select on table s.t for every row",
        "update on table s.t for every new row",
        "update on table s.t for every row",
    ];
    told(
        HARBOUR,
        &[
            Edit("crew = {}", "crew = {}, other = {}", &[], &[]),
            Edit("clerk = { member-of", r#"clerk = { may = ["create-role"], member-of"#, &["CREATE ROLE new_role"], &[]),
            Edit("clerk = { member-of", r#"clerk = { may = ["create-database"], member-of"#, &["CREATE DATABASE new_database"], &[]),
            Edit(
                "clerk = { member-of",
                r#"clerk = { may = ["replication"], member-of"#,
                &["SELECT pg_create_physical_replication_slot('new_slot')"],
                &[],
            ),
            Edit("clerk = { member-of", r#"clerk = { may = ["bypass-row-security"], member-of"#, every_row, &[]),
            // A switch is not inherited: the role has it where it is active.
            Edit("desk = {}", r#"desk = { may = ["create-role"] }"#, &["CREATE ROLE new_role"], &[]),
            Edit(r#"member-of = ["desk"]"#, r#"administers = ["desk"]"#, &["admin option on role desk"], &[]),
            Edit(r#"member-of = ["desk"]"#, r#"member-of = ["desk", "pg_checkpoint"]"#, &["CHECKPOINT"], &[]),
            Edit(
                r#"member-of = ["desk"]"#,
                r#"member-of = ["desk", "pg_execute_server_program"]"#,
                &["COPY (SELECT 1) TO PROGRAM 'true'"],
                &[],
            ),
            Edit(r#"member-of = ["desk"]"#, r#"member-of = ["desk", "pg_write_server_files"]"#, &["COPY (SELECT 1) TO '/new_file'"], &[]),
            // Row security, and what policies say.
            Edit("row-security = true", "row-security = false", every_row, &[]),
            Edit("row-security = true", "row-security = true, row-security-for-owner = true", &[], &[]),
            Edit(
                "zone = 1",
                "zone = 2",
                &["select on table s.t for rows where zone = 2"],
                &["select on table s.t for rows where zone = 1"],
            ),
            Edit("zone = 1", "true", &["select on table s.t for every row"], &[]),
            Edit("zone = 1", "(zone) = (1)", &[], &[]),
            Edit("zone = 1", "id = 7 and zone = 1", &[], &["select on table s.t for rows where zone = 1"]),
            Edit("zone = 1", "id = 7 or zone = 1", &["select on table s.t for rows where id = 7"], &[]),
            Edit(NEAR, "policies = {}", &[], &["select on table s.t for rows where zone = 1"]),
            Edit(
                r#"for = "select", using"#,
                r#"for = "select", to = ["crew"], using"#,
                &[],
                &["select on table s.t for rows where zone = 1"],
            ),
            Edit(r#"for = "select", using"#, r#"for = "select", to = ["desk"], using"#, &[], &[]),
            Edit(
                r#"for = "select", using"#,
                "using",
                &[
                    "delete on table s.t for rows where zone = 1",
                    "insert on table s.t for new rows where zone = 1",
                    "update on table s.t for new rows where zone = 1",
                    "update on table s.t for rows where zone = 1",
                ],
                &[],
            ),
            Edit(
                "near = {",
                r#"own = { for = "insert", check = "id > 0" }, near = {"#,
                &["insert on table s.t for new rows where id > 0"],
                &[],
            ),
            Edit(
                "near = {",
                r#"day = { restrictive = true, using = "id > 0" }, near = {"#,
                &[],
                &["select on table s.t for rows where zone = 1"],
            ),
            Edit("near = {", r#"day = { restrictive = true, to = ["crew"], using = "id > 0" }, near = {"#, &[], &[]),
        ],
    );
}

/// Whoever is made the owner owns, and holds what owners hold.
#[test]
fn who_owns_is_compared() {
    let objects = r#""table s.u" = { owner = "keeper""#;
    let (before, after) = (engine(HARBOUR), engine(&HARBOUR.replace(objects, &objects.replace("keeper", "clerk"))));
    let [gained, lost] = moved(&before, &after);
    assert!(gained.contains(&"ownership on table s.u".to_owned()) && gained.contains(&"truncate on table s.u".to_owned()), "{gained:?}");
    assert!(lost.is_empty(), "{lost:?}");
    // Everything and the right to pass it on is not ownership.
    let grant = "[[databases.db.grants]]\nallow = [\"all\"]\non = \"table s.u\"\nto = [\"desk\"]\nregrant = true\n";
    let before = engine(&format!("{HARBOUR}{grant}"));
    let after = engine(&format!("{HARBOUR}{grant}").replace(objects, &objects.replace("keeper", "desk")));
    assert_eq!(moved(&before, &after), [vec!["ownership on table s.u".to_owned()], vec![]]);
}

#[test]
fn what_somebody_may_beyond_privileges_is_compared_on_mariadb() {
    told(
        CLUB,
        &[
            Edit("crew = {}", "crew = {}, other = {}", &[], &[]),
            Edit(r#"member-of = ["desk"]"#, r#"member-of = ["desk"], administers = ["crew"]"#, &["admin option on role crew"], &[]),
            Edit(
                "[[databases.db.grants]]",
                "[[databases.db.grants]]\nallow = [\"proxy\"]\non = \"account keeper@localhost\"\nto = [\"clerk@localhost\"]\n[[databases.db.grants]]",
                &["proxy on account keeper@localhost"],
                &[],
            ),
        ],
    );
}

/// Two roles that differ in what no privilege says are not alike.
#[test]
fn roles_that_differ_beyond_privileges_are_not_alike() {
    for (only, line) in [
        (r#"may = ["bypass-row-security"]"#, "select on table s.t for every row"),
        (r#"may = ["replication"]"#, "SELECT pg_create_physical_replication_slot('new_slot')"),
        (r#"administers = ["far"]"#, "admin option on role far"),
    ] {
        let ledger =
            HARBOUR.replace("crew = {}", &format!("crew = {{ member-of = [\"desk\"] }}, mate = {{ member-of = [\"desk\"], {only} }}"));
        let engine = engine(&ledger);
        let role = |name: &str| Subject::DatabaseRole { system: "db".to_owned(), role: name.to_owned() };
        let stand_in = |name| role(name).stand_in(&engine, &Session::default()).expect("it is there");
        let list = beside(&engine, &stand_in("crew"), &stand_in("mate"), |_| true).expect("they can be compared");
        let gained: Vec<&str> = list.iter().flat_map(|one| &one.gained).flat_map(|m| m.right.lines.iter().map(String::as_str)).collect();
        assert!(gained.contains(&line), "{only}: {gained:?}");
        assert!(list.iter().all(|one| one.lost.is_empty()), "{only}: {list:#?}");
    }
}

const BESIDE: &str = r#"
users.clerk.proofs = ["password"]
systems.db.kind = "postgresql"
systems.club.kind = "mariadb"
systems.tide = { kind = "host", no-command-set = "nothing" }
systems.rota.kind = "application"
[databases.db]
owner = "keeper"
accounts = { clerk = { settings = ["search_path=s"], connection-limit = 3 } }
roles = { keeper = {}, other = {} }
settings = ["search_path=s"]
default-grants = [{ allow = ["select"], on = "tables", creator = "keeper", to = ["clerk"] }]
[databases.db.objects]
"schema s" = { owner = "keeper" }
"table s.t" = { owner = "keeper", columns = { id = "integer" }, row-security = true, policies = { near = { using = "id = 1" } }, triggers = { log = "CREATE TRIGGER log BEFORE INSERT ON s.t FOR EACH ROW EXECUTE FUNCTION s.f()" } }
"view s.v" = { owner = "other", query = "SELECT id FROM s.t", runs-as = "owner", columns = ["id"] }
"function s.g()" = { owner = "keeper", returns = "integer", language = "sql", body = "select 1", runs-as = "owner" }
"function s.f()" = { owner = "keeper", returns = "trigger", language = "plpgsql", body = "BEGIN RETURN NEW; END" }
[[databases.db.grants]]
allow = ["usage"]
on = "schema s"
to = ["other", "clerk"]
[[databases.db.grants]]
allow = ["select"]
on = "table s.t"
to = ["other"]
[databases.club]
accounts = { "clerk@localhost" = { limits = { queries = 5 } }, "keeper@localhost" = {} }
[databases.club.objects]
"table club.t" = { columns = { id = "int" } }
"view club.v" = { owner = "keeper@localhost", query = "SELECT id FROM club.t", runs-as = "owner", columns = ["id"] }
[[databases.club.grants]]
allow = ["select"]
on = "table club.t"
to = ["keeper@localhost"]
[hosts.tide]
accounts = { gauge = { shell = "/bin/sh" }, clerk = {} }
jobs.read = { runs-as = "gauge", line = "/opt/read", edited-by = ["user:clerk"] }
writable-by = { "/opt" = ["user:clerk"] }
keep-environment = ["TZ"]
run-as = [{ by = ["user:clerk"], as = ["gauge"], commands = ["all"], any-environment = true }]
[command-sets.all]
rules = ["allow /opt/read"]
[applications.rota]
types.secret.rights = ["turn"]
objects."secret/key" = { opens = ["user:clerk"] }
"#;

/// What everybody gained and lost.
fn all_told(before: &Engine, after: &Engine) -> Vec<Difference> {
    Between::new(before, after, &Session::default(), &Touched::everything()).all()
}

/// What no right tells of, and says what something does, is named where it differs.
#[test]
fn what_no_right_tells_of_is_named_where_it_differs() {
    for (from, to, told) in [
        ("", "", &[][..]),
        (
            r#"accounts = { clerk = { settings = ["search_path=s"]"#,
            "accounts = { clerk = { settings = []",
            &["the settings of `clerk` is gone"],
        ),
        // Of what is new, or gone, as a whole no part is told.
        ("\"view s.v\" =", "\"table s.new\" = { columns = { id = \"integer\" } }\n\"view s.v\" =", &["table s.new is new"]),
        (
            "roles = { keeper = {}, other = {} }",
            "roles = { keeper = {}, other = {}, more = { settings = [\"search_path=s\"] } }",
            &["`more` is new"],
        ),
        ("jobs.read =", "jobs.more = { runs-as = \"gauge\", line = \"/opt/more\" }\njobs.read =", &["job `more` is new"]),
        (
            "systems.rota.kind",
            "systems.more.kind = \"postgresql\"\n[databases.more.objects.\"table public.t\"]\ncolumns = { id = \"integer\" }\n[systems.rota]\nkind",
            &["the system is new"],
        ),
        ("connection-limit = 3", "connection-limit = 0", &["how many sessions of `clerk` there may be"]),
        ("settings = [\"search_path=s\"]\ndefault", "settings = [\"search_path=public\"]\ndefault", &["the settings of the database"]),
        (
            r#"allow = ["select"], on = "tables""#,
            r#"allow = ["insert"], on = "tables""#,
            &["what is granted on objects that `keeper` makes"],
        ),
        ("SELECT id FROM s.t", "SELECT id + 1 AS id FROM s.t", &["the query of view s.v"]),
        ("body = \"select 1\"", "body = \"select 2\"", &["the body of function s.g()"]),
        ("BEFORE INSERT", "BEFORE UPDATE", &["trigger `log` of table s.t"]),
        ("columns = { id = \"integer\" }", "columns = { id = \"bigint\" }", &["column `id` of table s.t"]),
        // Of a view it counts in whose name it is, what that role may, and which rows it sees.
        (
            "on = \"table s.t\"\nto = [\"other\"]",
            "on = \"table s.t\"\nto = [\"keeper\"]",
            &["what view s.v comes to in the name of whoever it runs as", "what is held on table s.t"],
        ),
        (
            "other = {}",
            "other = { may = [\"bypass-row-security\"] }",
            &["what view s.v comes to in the name of whoever it runs as", "what `other` is"],
        ),
        ("near = { using", "near = { to = [\"keeper\"], using", &["what view s.v comes to in the name of whoever it runs as"]),
        (
            "table club.t\"\nto = [\"keeper@localhost\"]",
            "table club.t\"\nto = [\"clerk@localhost\"]",
            &["what view club.v comes to in the name of whoever it runs as"],
        ),
        ("queries = 5", "queries = 6", &["the limit `queries` of `clerk@localhost`"]),
        ("/bin/sh", "/bin/zsh", &["the shell of `gauge`"]),
        ("line = \"/opt/read\"", "line = \"/opt/write\"", &["what job `read` runs"]),
        ("runs-as = \"gauge\"", "runs-as = \"clerk\"", &["as whom job `read` runs"]),
        ("\"/opt\" = [\"user:clerk\"]", "\"/opt\" = []", &["who may write to `/opt`"]),
        ("[\"TZ\"]", "[\"TZ\", \"LD_PRELOAD\"]", &["that variable `LD_PRELOAD` is handed over is new"]),
        (
            "any-environment = true",
            "any-environment = false",
            &["that any variable is handed over to what user:clerk may run as gauge is gone"],
        ),
        ("opens = [\"user:clerk\"]", "opens = [\"account:tide/gauge\"]", &["whose credential `secret/key` is"]),
    ] {
        assert!(BESIDE.contains(from), "{from}");
        let (before, after) = (engine(BESIDE), engine(&BESIDE.replacen(from, to, 1)));
        let names = |before: &Engine, after: &Engine| -> Vec<String> {
            let word = |one: &ChangedBeside| match (&one.was, &one.is) {
                (None, Some(_)) => " is new",
                (Some(_), None) => " is gone",
                (Some(_), Some(_)) => "",
                (None, None) => panic!("it is written nowhere: {one:?}"),
            };
            changed_beside(before, after, &all_told(before, after), |_| true)
                .iter()
                .map(|one| format!("{}{}", one.what, word(one)))
                .collect()
        };
        assert!(names(&before, &before).is_empty());
        assert_eq!(names(&before, &after), told, "{from} => {to}");
        let back = |text: &String| match text.strip_suffix(" is gone") {
            Some(what) => format!("{what} is new"),
            None => text.strip_suffix(" is new").map_or_else(|| text.clone(), |what| format!("{what} is gone")),
        };
        assert_eq!(names(&after, &before).iter().map(back).collect::<Vec<_>>(), told, "{to} => {from}");
    }
}

macro_rules! rows {
    ($($name:ident: $policies:literal => { $($user:literal $line:literal => $expected:expr;)+ })+) => {
        $(
            #[test]
            fn $name() {
                let engine = engine(&ASKED.replace("POLICIES", $policies));
                $(
                    let answer = engine.explain(&Question::new($user, "db", $line));
                    assert_eq!(answer.refusal, $expected, "{}: {}\n{:#?}", $user, $line, answer.gates);
                    assert_eq!(answer.refusal.is_none(), answer.verdict == Verdict::Allowed);
                )+
            }
        )+
    };
}

const ASKED: &str = r#"
users.clerk.proofs = ["password"]
systems.db.kind = "postgresql"
[databases.db]
accounts = { clerk = { member-of = ["desk"] }, pilot = { member-of = ["keeper"] }, root = { may = ["superuser"] }, dump = { member-of = ["desk"], may = ["bypass-row-security"] }, early = { member-of = ["desk"], settings = ["row_security=off"] } }
roles = { keeper = {}, desk = {} }
[databases.db.objects]
"schema s" = { owner = "keeper" }
"table s.t" = { owner = "keeper", columns = { id = "integer", zone = "integer" }, POLICIES }
"table s.\"x for every row\"" = { owner = "keeper" }
"table s.plain" = { owner = "keeper", columns = { id = "integer" } }
"view s.v" = { owner = "keeper", query = "SELECT id FROM s.t", columns = { id = "" } }
[[databases.db.grants]]
allow = ["usage"]
on = "schema s"
to = ["desk"]
[[databases.db.grants]]
allow = ["select", "insert", "update"]
on = "table s.t"
to = ["desk"]
[[databases.db.grants]]
allow = ["select"]
on = "table s.plain"
to = ["desk"]
[[databases.db.grants]]
allow = ["select"]
on = "view s.v"
to = ["desk"]
"#;

const WITHHELD: Option<Refusal> = Some(Refusal::RowsWithheld);
const MISAPPLIED: Option<Refusal> = Some(Refusal::PrivilegeMisapplied);
const NOT_DECIDED: Option<Refusal> = Some(Refusal::NotDecided);
const NO_PRIVILEGE: Option<Refusal> = Some(Refusal::NoPrivilege);

rows! {
    rows_are_asked_for_by_what_policies_say: "row-security = true, policies = { a = { using = \"zone = 1\" }, b = { for = \"select\", using = \"id = 2 AND zone = 3\" }, c = { for = \"insert\", check = \"true\" } }" => {
        "clerk" "select on table s.t" => None;
        "clerk" "select on table s.t for every row" => WITHHELD;
        "clerk" "select on table s.t for rows where zone = 1" => None;
        "clerk" "select on s.t for rows where zone = 1" => None;
        "clerk" "select (id) on table s.t for rows where zone = 1" => None;
        "clerk" "select on table s.t for rows where id = 7 and (ZONE = 1)" => None;
        "clerk" "select on table s.t for rows where zone = 3 and id = 2" => None;
        "clerk" "select on table s.t for rows where zone = 3" => WITHHELD;
        "clerk" "select on table s.t for rows where zone = 1 or id = 2" => WITHHELD;
        "clerk" "insert on table s.t for every new row" => None;
        "clerk" "insert on table s.t for new rows where id = 4" => None;
        "clerk" "update on table s.t for every new row" => WITHHELD;
        "clerk" "update on table s.t for rows where zone = 1" => None;
        "clerk" "update on table s.t for new rows where zone = 1" => None;
        "clerk" "delete on table s.t for rows where zone = 1" => NO_PRIVILEGE;
        "pilot" "select on table s.t for every row" => None;
        "root" "select on table s.t for every row" => None;
        "dump" "select on table s.t for every row" => None;
        // What begins with another setting of row security is not followed.
        "early" "select on table s.t for every row" => NOT_DECIDED;
    }
    row_security_may_bind_the_owner: "row-security = true, row-security-for-owner = true, policies = {}" => {
        "pilot" "select on table s.t for every row" => WITHHELD;
        "root" "select on table s.t for every row" => None;
        "clerk" "select on table s.t for rows where zone = 1" => WITHHELD;
    }
    policies_that_are_not_written_are_not_known: "row-security = true" => {
        "clerk" "select on table s.t for every row" => NOT_DECIDED;
        "clerk" "insert on table s.t for every new row" => NOT_DECIDED;
        "pilot" "select on table s.t for every row" => None;
    }
    where_row_security_is_off_no_row_is_kept_back: "row-security = false, policies = { a = { using = \"false\" } }" => {
        "clerk" "select on table s.t for every row" => None;
        "clerk" "delete on table s.t for every row" => NO_PRIVILEGE;
    }
    rows_are_asked_for_whole_or_not_at_all: "row-security = true, policies = { a = { using = \"zone = 1\" } }" => {
        "root" "select on table s.t for every new row" => MISAPPLIED;
        "root" "insert on table s.t for every row" => MISAPPLIED;
        "root" "truncate on table s.t for every row" => MISAPPLIED;
        "root" "pass on select on table s.t for every row" => MISAPPLIED;
        "root" "select on view s.v for every row" => MISAPPLIED;
        "root" "usage on schema s for every row" => MISAPPLIED;
        "root" "ownership on table s.t for every row" => MISAPPLIED;
        "root" "ownership (id) on table s.t" => MISAPPLIED;
        "root" "pass on ownership on table s.t" => MISAPPLIED;
        "root" "admin option on table s.t" => MISAPPLIED;
        "root" "pass on admin option on role desk" => MISAPPLIED;
        "root" "admin option on role nobody" => Some(Refusal::UnknownRole);
        "root" "admin option on role desk" => None;
        "clerk" "admin option on role desk" => Some(Refusal::NoAdminOption);
        "root" "select on table s.nope for every row" => Some(Refusal::UnknownObject);
        "root" "select on table s.t for rows where nope = 1" => NOT_DECIDED;
        "root" "select on table s.t for rows where zone = 1; drop table s.t" => Some(Refusal::StatementUnreadable);
        "root" "select on table s.t for rows where " => Some(Refusal::UnknownObject);
        "root" "select on table s.t for rows where zone = 1) or (true" => Some(Refusal::StatementUnreadable);
        "pilot" "ownership on table s.t" => None;
        "clerk" "ownership on table s.t" => Some(Refusal::NotOwner);
        // A name is a name.
        "root" "select on table s.\"x for every row\"" => None;
        "clerk" "select on table s.\"x for every row\"" => NO_PRIVILEGE;
        "root" "select on table s.\"x for every row\" for every row" => None;
    }
}

/// Of policies that are too many nothing is decided but for whom they do not bind, and a comparison names the one that changed.
#[test]
fn policies_that_are_too_many_are_not_told_apart() {
    for (count, word) in [(300, ""), (90, ", restrictive = true")] {
        let policy = |number: usize| {
            let word = if number.is_multiple_of(2) { word } else { "" };
            format!("p{number} = {{ using = \"id = {number}\"{word} }}")
        };
        let policies: Vec<String> = (0..count).map(policy).collect();
        let ledger = ASKED.replace("POLICIES", &format!("row-security = true, policies = {{ {} }}", policies.join(", ")));
        let (before, after) = (engine(&ledger), engine(&ledger.replace("\"id = 7\"", "\"id = 7000\"")));
        let asked = |user: &str, end: &str| {
            let line = format!("select on table s.t for {end}");
            before.decide(&Question::new(user, "db", &line)).refusal
        };
        assert_eq!(asked("clerk", "the rows that its policies tell apart"), NOT_DECIDED);
        assert_eq!(asked("root", "the rows that its policies tell apart"), None);
        assert_eq!(asked("clerk", "every row"), WITHHELD);
        let listed = effective(&before, "clerk", Some("db"), &Session::default()).expect("the user is known");
        let open = |right: &Right| right.allowed == Membership::NotDecided && right.on.iter().any(|on| on.ends_with("tell apart"));
        assert!(listed[0].rights.iter().any(open), "{listed:#?}");
        let named: Vec<String> = changed_beside(&before, &after, &[], |_| true).into_iter().map(|one| one.what).collect();
        assert_eq!(named, ["policy `p7` of table s.t"]);
    }
}

/// What is edited of a random PostgreSQL server.
fn edit(rng: &mut Rng, state: &mut State) -> String {
    let pick = |rng: &mut Rng, list: Vec<String>| rng.choice(list).expect("there is one");
    let roles: Vec<String> = state.roles.keys().filter(|name| *name != "postgres").cloned().collect();
    let (role, other) = (pick(rng, roles.clone()), pick(rng, roles.clone()));
    let names: Vec<ObjectName> = state.objects.keys().cloned().collect();
    let name = rng.choice(&names).expect("there is one").clone();
    let of = state.roles.get_mut(&role).expect("it is there");
    match rng.u8(0..16) {
        0 => of.superuser = !of.superuser,
        1 => of.inherit = !of.inherit,
        2 => of.create_role = !of.create_role,
        3 => of.create_database = !of.create_database,
        4 => of.replication = !of.replication,
        5 => of.bypass_row_security = !of.bypass_row_security,
        6 | 7 if role != other => match of.member_of.remove(&other) {
            Some(true) => {}
            Some(false) => drop(of.member_of.insert(other, true)),
            None => drop(of.member_of.insert(other, rng.bool())),
        },
        6..=8 => state.set_owner(&name, &role),
        9..=11 => {
            let change = random_change(rng, state, &roles);
            let _ = state.change(&change);
        }
        _ => {
            let tables: Vec<ObjectName> = names.into_iter().filter(|name| name.class == Class::Table).collect();
            let name = rng.choice(&tables).expect("there is one").clone();
            let table = state.objects.get_mut(&name).expect("it is there");
            let mut policies = table.policies.take().unwrap_or_default();
            match (rng.u8(0..7), policies.pop_first()) {
                (0, _) => table.row_security = !table.row_security,
                (1, _) => table.row_security_for_owner = !table.row_security_for_owner,
                (2, Some(_)) => drop(table.triggers.pop_first()),
                (3, Some(_)) => drop(table.rules.pop_first()),
                (4, Some((policy, mut of))) => {
                    of.using = Some("true".to_owned()).filter(|_| of.using.is_some());
                    policies.insert(policy, of);
                }
                (5, Some((policy, mut of))) => {
                    of.to = BTreeSet::from([role.clone()]);
                    policies.insert(policy, of);
                }
                (6, Some((policy, mut of))) => {
                    of.restrictive = !of.restrictive;
                    policies.insert(policy, of);
                }
                _ => {}
            }
            table.policies = Some(policies);
            return format!("{name}, {role}");
        }
    }
    format!("{role}, {name}")
}

/// What turns by an edit of a server: who asks what, and whether a comparison of what everybody may says anything.
struct Turns {
    turned: usize,
    beside: usize,
    silent: usize,
}

impl Turns {
    /// Asks everybody's statements of a server before and after an edit; nothing where an edit makes no ledger.
    fn look(&mut self, people: &[String], [was, is]: [String; 2], asked: &[Question], edited: &str) {
        let users: String = people.iter().map(|name| format!("users.{name}.proofs = [\"password\"]\n")).collect();
        let compiled = |document: &str| {
            let text = format!("{users}\n{}", document.replacen("format = 1", "", 1));
            Ledger::new().document("db.toml", &text).estate().and_then(Engine::compile).ok()
        };
        let (Some(before), Some(after)) = (compiled(&was), compiled(&is)) else { return };
        let Some(question) = asked.iter().find(|question| before.decide(question).verdict != after.decide(question).verdict) else {
            return;
        };
        self.turned += 1;
        if people.iter().all(|user| compare(&before, &after, user, &Session::default()).is_empty()) {
            self.beside += 1;
            if changed_beside(&before, &after, &[], |_| true).is_empty() {
                self.silent += 1;
                println!(
                    "{edited}: nothing is told, and `{}` of {} turns: {:?}, {:?}",
                    question.line,
                    question.user,
                    before.decide(question).refusal,
                    after.decide(question).refusal
                );
            }
        }
    }
}

/// Whatever is edited of a server: where a statement of somebody comes out otherwise, a comparison is not silent.
#[test]
fn a_comparison_is_never_silent_where_an_answer_turns() {
    let first = seed(87_000);
    println!("first seed {first}");
    let plain = |name: &&String| name.chars().all(|c| c.is_ascii_alphanumeric() || c == '_') && !name.is_empty();
    let mut turns = Turns { turned: 0, beside: 0, silent: 0 };
    for round in 0..questions(20_000).div_ceil(500) as u64 {
        let seed = first + round;
        let mut rng = Rng::with_seed(seed);
        let was = estate(&mut rng, "db", "", Size { roles: 5, tables: 4, grants: 30 });
        let mut is = was.clone();
        let edited = format!("seed {seed}, PostgreSQL: {}", edit(&mut rng, &mut is));
        // Everybody who may sign in is somebody.
        let people: Vec<String> = was.roles.iter().filter(|(_, role)| role.login).map(|(name, _)| name).filter(plain).cloned().collect();
        let mut asked = statements(&was);
        let tables = was.objects.keys().filter(|name| name.class == Class::Table);
        asked.extend(tables.map(|name| format!("ALTER TABLE {} ADD COLUMN x int", name.sql())));
        asked.extend(was.roles.keys().map(|role| format!("REVOKE {} FROM postgres", quoted(role))));
        let of = |user: &String| asked.iter().map(|text| Question::statement(user, "db", text)).collect::<Vec<_>>();
        let questions: Vec<Question> = people.iter().flat_map(of).collect();
        turns.look(&people, [was.document("db", None), is.document("db", None)], &questions, &edited);

        let was = mariadb::estate(&mut rng, mariadb::Size { logins: 3, roles: 3, tables: 5, grants: 25 });
        let mut is = was.clone();
        let edited = format!("seed {seed}, MariaDB: {}", edit_mariadb(&mut rng, &mut is));
        let logins: BTreeSet<&String> = was.accounts.keys().map(|account| &account.user).collect();
        let people: Vec<String> = logins.into_iter().filter(plain).filter(|login| *login != "root").cloned().collect();
        let mut asked = Vec::new();
        for (name, object) in &was.objects {
            let sql = name.sql();
            match name.class {
                MariadbClass::Table | MariadbClass::View => {
                    let column = mariadb_quoted(&object.columns[0].0);
                    asked.push(format!("SELECT {column} FROM {sql}"));
                    asked.push(format!("INSERT INTO {sql} ({column}) VALUES (1)"));
                    asked.push(format!("UPDATE {sql} SET {column} = 1"));
                    asked.push(format!("DELETE FROM {sql}"));
                    asked.push(format!("GRANT SELECT ON {sql} TO login_0@'%'"));
                }
                MariadbClass::Function => asked.push(format!("SELECT {sql}()")),
                MariadbClass::Procedure => asked.push(format!("CALL {sql}()")),
            }
        }
        asked.extend(was.roles.iter().map(|role| format!("REVOKE ADMIN OPTION FOR {} FROM root@localhost", mariadb_quoted(role))));
        asked.push("SHOW DATABASES".to_owned());
        asked.push("CREATE USER nobody".to_owned());
        let from = |question: Question| {
            let local = Question { session: Session { local: true, ..question.session.clone() }, ..question.clone() };
            [local, question.from("127.0.0.1".parse().expect("an address"))]
        };
        let of = |user: &String| asked.iter().flat_map(|text| from(Question::statement(user, "db", text))).collect::<Vec<_>>();
        let questions: Vec<Question> = people.iter().flat_map(of).collect();
        turns.look(&people, [was.document("db", None), is.document("db", None)], &questions, &edited);
    }
    let Turns { turned, beside, silent } = turns;
    println!("{turned} edits turned an answer, {beside} of them told by no right");
    assert!(silent == 0 && turned > 12, "{silent} silent, {turned} turned");
}

/// What is edited of a random MariaDB server.
fn edit_mariadb(rng: &mut Rng, state: &mut MariadbState) -> String {
    let accounts: Vec<AccountName> = state.accounts.keys().filter(|account| account.user != "root").cloned().collect();
    let roles: Vec<String> = state.roles.iter().cloned().collect();
    let account = rng.choice(&accounts).expect("there is one").clone();
    let role = rng.choice(&roles).expect("there is one").clone();
    let names: Vec<_> = state.objects.keys().cloned().collect();
    let name = rng.choice(&names).expect("there is one").clone();
    let of = state.accounts.get_mut(&account).expect("it is there");
    let object = state.objects.get_mut(&name).expect("it is there");
    match rng.u8(0..11) {
        0 => of.locked = !of.locked,
        1 => of.expired = !of.expired,
        2 => of.default_role = if of.default_role.is_some() { None } else { Some(role.clone()) },
        3 | 4 => {
            let key = (Holder::Account(account.clone()), role.clone());
            match state.memberships.remove(&key) {
                Some(true) => {}
                Some(false) => drop(state.memberships.insert(key, true)),
                None => drop(state.memberships.insert(key, rng.bool())),
            }
        }
        5 => object.runs_as_owner = !object.runs_as_owner,
        6 => object.definer = object.definer.is_some().then(|| account.clone()),
        7 => drop(object.triggers.pop_first()),
        _ => {
            let change = mariadb::random_change(rng, state);
            let edited = format!("{change:?}");
            state.change(&change);
            return edited;
        }
    }
    format!("{account}, {role}, {name}")
}
