//! Whatever a database server lets one role do and another not is found by a comparison of rights: one edit of a ledger after the other,
//! with all that is gained and lost by it. And which rows are asked for, question by question.

use std::collections::BTreeSet;

use zest_ledger::Engine;
use zest_ledger::ask::{Question, Refusal, Session, Verdict};
use zest_ledger::review::{Moved, Subject, beside, compare};

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
accounts = { "clerk@localhost" = { member-of = ["desk"] } }
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
