//! Database servers: each refusal code, and the fine points of both servers as a table.

use zest_ledger::ask::{Refusal, Verdict};
use zest_ledger::{Engine, Ledger, Question};

const PEOPLE: &str = r#"
[users.clerk]
proofs = ["password"]
[users.desk]
proofs = ["password"]
[users.guest]
proofs = ["password"]
"#;

const POSTGRESQL: &str = r#"
[systems.db]
kind = "postgresql"
[databases.db.accounts]
clerk = { member-of = ["reader", "writer"], inherit = false, until = 2027-06-30 }
helper = { used-by = ["user:desk"] }
second = { used-by = ["user:desk"] }
shut = { connection-limit = 0 }
boss = { may = ["superuser"] }
plain = { member-of = ["reader", "passer"] }
middle = {}
[databases.db.roles]
reader = {}
writer = {}
passer = {}
owner = {}
[databases.db.objects]
"schema fares" = { owner = "owner" }
"schema hidden" = { owner = "owner" }
"table fares.price" = { owner = "owner", columns = { id = "integer", amount = "integer" } }
"table hidden.note" = { owner = "owner", columns = { id = "integer" } }
[[databases.db.grants]]
revoke = ["connect"]
on = "database"
from = ["public"]
[[databases.db.grants]]
allow = ["connect"]
on = "database"
to = ["clerk", "reader", "shut", "second"]
[[databases.db.grants]]
allow = ["usage"]
on = "schema fares"
to = ["reader", "writer"]
[[databases.db.grants]]
allow = ["select"]
on = ["table fares.price", "table hidden.note"]
to = ["reader"]
[[databases.db.grants]]
allow = ["update"]
on = "table fares.price"
columns = ["amount"]
to = ["writer"]
[[databases.db.grants]]
allow = ["delete"]
on = "table fares.price"
to = ["reader"]
until = 2026-12-31
"#;

const MARIADB: &str = r#"
[systems.maria]
kind = "mariadb"
[databases.maria.accounts]
"clerk@192.0.2.%" = { member-of = ["reader"] }
"desk@192.0.2.7" = { locked = true }
"desk@198.51.100.%" = { credential = "missing" }
"desk@203.0.113.%" = { credential = "expired" }
"@198.51.100.9" = {}
"guest@%" = { member-of = ["reader"], default-role = "reader" }
[databases.maria.roles.reader]
[databases.maria.objects]
"table club.member" = { columns = { id = "int", name = "text" } }
[[databases.maria.grants]]
allow = ["select"]
on = "table club.member"
columns = ["name"]
to = ["reader"]
"#;

fn engine() -> Engine {
    let text = format!("{PEOPLE}{POSTGRESQL}{MARIADB}");
    Engine::compile(Ledger::new().document("ledger.toml", &text).estate().unwrap_or_else(|f| panic!("{f}")))
        .unwrap_or_else(|f| panic!("{f}"))
}

const ALLOWED: Result<(), Refusal> = Ok(());

fn check(question: &Question, expected: Result<(), Refusal>) {
    let answer = engine().ask(question);
    let found = answer.refusal.map_or(Ok(()), Err);
    assert_eq!(found, expected, "{:#?}", answer.gates);
    assert_eq!(engine().decide(question).refusal, answer.refusal, "deciding and explaining");
    assert!(answer.gates.iter().all(|g| !g.text.is_empty()));
    for remedy in &answer.remedies {
        assert_ne!(remedy.verdict, Verdict::Denied, "{remedy:?}");
    }
}

fn on(user: &str, line: &str) -> Question {
    Question::new(user, "db", line).at("2026-11-25T08:00:00Z".parse().expect("a moment"))
}

fn sql(user: &str, statement: &str) -> Question {
    Question::statement(user, "db", statement).at("2026-11-25T08:00:00Z".parse().expect("a moment"))
}

fn maria(user: &str, from: &str, statement: &str) -> Question {
    Question::statement(user, "maria", statement).from(from.parse().expect("an address"))
}

macro_rules! answers {
    ($($name:ident: $question:expr => $expected:expr;)+) => {
        $(#[test] fn $name() { check(&$question, $expected); })+
    };
}

answers! {
    a_member_holds_what_the_role_holds: on("plain", "select on table fares.price") => ALLOWED;
    the_class_may_be_left_out: on("plain", "select on fares.price") => ALLOWED;
    without_inheritance_a_role_brings_nothing: on("clerk", "select on fares.price") => Err(Refusal::SchemaShut);
    once_it_is_active_it_does: on("clerk", "select on fares.price").active_role("reader") => ALLOWED;
    an_active_role_replaces_the_others: on("clerk", "select on fares.price").active_role("writer") => Err(Refusal::NoPrivilege);
    a_column_is_not_the_table: on("clerk", "update on fares.price").active_role("writer") => Err(Refusal::NoPrivilege);
    a_granted_column: on("clerk", "update (amount) on fares.price").active_role("writer") => ALLOWED;
    a_schema_that_is_shut: on("plain", "select on hidden.note") => Err(Refusal::SchemaShut);
    nobody_may_pass_on_what_has_no_option: on("plain", "pass on select on fares.price") => Err(Refusal::NoGrantOption);
    a_superuser_passes: on("boss", "delete on hidden.note") => ALLOWED;
    a_privilege_that_does_not_apply: on("plain", "execute on fares.price") => Err(Refusal::PrivilegeMisapplied);
    an_object_that_is_not_there: on("plain", "select on fares.prise") => Err(Refusal::UnknownObject);
    a_question_that_cannot_be_read: on("plain", "select fares.price") => Err(Refusal::StatementUnreadable);
    a_role_that_is_not_there: on("clerk", "select on fares.price").active_role("raeder") => Err(Refusal::UnknownRole);
    a_role_of_others: on("plain", "select on fares.price").active_role("writer") => Err(Refusal::RoleNotGranted);
    an_account_without_sessions: on("shut", "select on fares.price") => Err(Refusal::NoLogin);
    an_account_that_may_not_connect: on("middle", "select on fares.price") => Err(Refusal::ConnectClosed);
    a_user_without_account: on("guest", "select on fares.price") => Err(Refusal::NoAccount);
    a_user_with_two: on("desk", "select on fares.price") => Err(Refusal::SeveralAccounts);
    a_password_past_its_end: on("clerk", "select on fares.price").at("2027-07-01T00:00:00Z".parse().expect("a moment")) => Err(Refusal::CredentialExpired);
    a_password_with_an_end_and_no_time: Question::new("clerk", "db", "select on fares.price").active_role("reader") => Err(Refusal::NotStated);
    a_grant_that_ends_holds_before: on("plain", "delete on fares.price") => ALLOWED;
    a_grant_that_ended_does_not: on("plain", "delete on fares.price").at("2027-01-01T00:00:00Z".parse().expect("a moment")) => Err(Refusal::NoPrivilege);
    a_statement: sql("plain", "select amount from fares.price where id = 3") => ALLOWED;
    a_statement_that_changes: sql("plain", "update fares.price set amount = 3") => Err(Refusal::NoPrivilege);
    a_statement_of_an_owner: sql("plain", "alter table fares.price add column x integer") => Err(Refusal::NotOwner);
    a_statement_that_needs_a_switch: sql("plain", "create role x") => Err(Refusal::SwitchOff);
    passing_on_a_membership: sql("plain", "grant reader to clerk") => Err(Refusal::NoAdminOption);
    an_option_that_everybody_would_have: sql("boss", "grant select on fares.price to public with grant option") => Err(Refusal::OptionBarred);
    nobody_comes_back_to_itself: sql("boss", "grant plain to reader") => Err(Refusal::MembershipBarred);
    an_unknown_table_is_not_decided: sql("plain", "select 1 from fares.nothing") => Err(Refusal::NotDecided);
    what_runs_text_is_not_decided: sql("plain", "do $$ begin execute 'x'; end $$") => Err(Refusal::NotDecided);
    what_stands_in_a_block_is_read: sql("plain", "do $$ begin perform 1; end $$") => ALLOWED;
    two_statements_are_answered_in_order: sql("plain", "select 1; select 2") => ALLOWED;
    the_second_of_two_statements_may_refuse: sql("plain", "select 1; drop table fares.price") => Err(Refusal::NotOwner);
    nothing_at_all_is_no_statement: sql("plain", ";;") => Err(Refusal::StatementUnreadable);
    a_statement_of_another_dialect: sql("plain", "replace into fares.price values (1)") => Err(Refusal::StatementUnreadable);

    an_origin_finds_the_account: maria("clerk", "192.0.2.4", "select name from club.member") => Err(Refusal::NoPrivilege);
    a_role_is_made_active: maria("clerk", "192.0.2.4", "select name from club.member").active_role("reader") => ALLOWED;
    a_column_that_is_not_granted: maria("guest", "203.0.113.4", "select id from club.member") => Err(Refusal::NoPrivilege);
    a_default_role_is_active: maria("guest", "203.0.113.4", "select name from club.member") => ALLOWED;
    a_default_role_put_aside: maria("guest", "203.0.113.4", "select name from club.member").active_role("none") => Err(Refusal::NoPrivilege);
    an_anonymous_account_takes_the_session: maria("guest", "198.51.100.9", "select name from club.member") => Err(Refusal::NoPrivilege);
    an_origin_that_nothing_fits: maria("clerk", "203.0.113.4", "select 1") => Err(Refusal::OriginNotAdmitted);
    an_origin_that_is_not_stated: Question::statement("clerk", "maria", "select 1") => Err(Refusal::NotStated);
    a_locked_account: maria("desk", "192.0.2.7", "select 1") => Err(Refusal::AccountLocked);
    an_account_without_credential: maria("desk", "198.51.100.4", "select 1") => Err(Refusal::AccountWithoutCredential);
    an_expired_credential: maria("desk", "203.0.113.4", "select 1") => Err(Refusal::CredentialMustChange);
}

#[test]
fn a_long_statement_is_read_or_refused_and_never_harms() {
    let engine = engine();
    let sum = format!("select {} from fares.price", vec!["amount"; 12_000].join(" + "));
    let deep = format!("select {}1{}", "(".repeat(20_000), ")".repeat(20_000));
    let sum_of_ones = format!("select 1{}", "+1".repeat(120_000));
    for text in [sum, sum_of_ones, deep, "select ".to_owned() + &"x".repeat(70_000), "'".repeat(65_000)] {
        let answer = engine.ask(&sql("plain", &text));
        assert!(answer.refusal.is_some() || text.contains("amount") || text.contains("+1"), "{} bytes", text.len());
    }
}

#[test]
fn names_of_every_kind_survive_their_quotes() {
    use zest_ledger::postgresql::{Class, ObjectName, literal, quoted};
    for name in ["plain", "a.b", "Fare Desk", "o'pier", "with\"quote", "per%cent", "Größe", "back\\slash", "semi;colon", "(x)"] {
        let object = ObjectName::new(Class::Table, &[name, name]);
        assert_eq!(ObjectName::parse(&object.to_string()), Some(object.clone()), "{object}");
        assert_eq!(quoted(name).matches('"').count() % 2, 0);
        assert_eq!(literal(name).matches('\'').count() % 2, 0);
    }
}

/// Views over views: each level reads the one below twice, so that following all of them would never end.
/// One server whose objects are these.
fn inventory(kind: &str, objects: &str) -> Engine {
    let text = format!(
        "{PEOPLE}[systems.db]\nkind = \"{kind}\"\n[databases.db.accounts]\nclerk = {{}}\n[databases.db.roles]\nalice = {{}}\nbob = {{}}\n[databases.db.objects]\n{objects}"
    );
    Engine::compile(Ledger::new().document("views.toml", &text).estate().unwrap_or_else(|f| panic!("{f}"))).expect("it compiles")
}

fn doubling_views(depth: usize) -> Engine {
    let views = (1..=depth).map(|level| {
        let below = level - 1;
        format!("\"view public.v{level}\" = {{ owner = \"clerk\", columns = [\"id\"], query = \"select a.id from public.v{below} a, public.v{below} b\" }}\n")
    });
    let table = "\"table public.v0\" = { owner = \"clerk\", columns = { id = \"integer\" } }\n".to_owned();
    inventory("postgresql", &std::iter::once(table).chain(views).collect::<String>())
}

/// Two views in each other would double the work at every level; each is read once, and too deep a nest is not decided.
#[test]
fn views_that_double_at_every_level_are_followed_or_given_up() {
    for (depth, expected) in
        [(1, Ok(())), (8, Ok(())), (31, Ok(())), (32, Ok(())), (33, Err(Refusal::NotDecided)), (64, Err(Refusal::NotDecided))]
    {
        let answer = doubling_views(depth).ask(&Question::statement("clerk", "db", &format!("select id from public.v{depth}")));
        assert_eq!(answer.refusal.map_or(Ok(()), Err), expected, "{depth} levels");
    }
}

/// What was read once is read again for whom it may need more: a view that runs as its caller, in routines of two owners.
#[test]
fn what_was_followed_for_one_is_followed_again_for_another() {
    let objects = |reader: &str| {
        format!(
            r#"
"table public.t" = {{ owner = "alice", columns = {{ id = "integer" }} }}
"view public.w" = {{ owner = "alice", columns = ["id"], query = "select id from public.t", runs-as = "caller" }}
"view public.o" = {{ owner = "alice", columns = ["id"], query = "select id from public.t", runs-as = "owner" }}
"function public.one()" = {{ owner = "alice", language = "sql", runs-as = "owner", body = "select id from public.{reader}" }}
"function public.two()" = {{ owner = "bob", language = "sql", runs-as = "owner", body = "select id from public.{reader}" }}
[[databases.db.grants]]
allow = ["select"]
on = ["view public.w", "view public.o"]
to = ["bob"]
"#
        )
    };
    let asked = |reader: &str, sql: &str| inventory("postgresql", &objects(reader)).ask(&Question::statement("clerk", "db", sql));
    for sql in ["select public.one(), public.two()", "select public.two(), public.one()"] {
        assert_eq!(asked("w", sql).refusal, Some(Refusal::NoPrivilege), "`bob` may not read the table: {sql}");
        assert_eq!(asked("o", sql).refusal, None, "its owner may: {sql}");
    }
    assert_eq!(asked("w", "select public.one(), public.one()").refusal, None);
}

#[test]
fn what_leads_back_to_itself_is_not_decided() {
    let postgresql = inventory(
        "postgresql",
        r#"
"view public.a" = { owner = "clerk", columns = ["id"], query = "select id from public.b" }
"view public.b" = { owner = "clerk", columns = ["id"], query = "select id from public.a, public.a x" }
"function public.f()" = { owner = "clerk", language = "sql", body = "select public.f(), public.f()" }
"#,
    );
    for sql in ["select id from public.a", "select public.f()"] {
        let answer = postgresql.ask(&Question::statement("clerk", "db", sql));
        assert_eq!(answer.refusal, Some(Refusal::NotDecided), "{sql}: {answer:?}");
    }
}

#[test]
fn a_text_beyond_the_limit_is_refused_with_its_length() {
    let engine = engine();
    let answer = engine.ask(&sql("plain", &format!("select amount from fares.price where id in ({}1)", "1, ".repeat(100_000))));
    assert_eq!(answer.refusal, Some(Refusal::StatementUnreadable));
    let said: Vec<&str> = answer.gates.iter().map(|g| g.text.as_str()).filter(|t| t.contains("bytes")).collect();
    assert!(said.iter().any(|t| t.contains("up to 262144 are")), "{said:?}");
    let answer = engine.ask(&sql("plain", &format!("select amount from fares.price where id in ({}1)", "1, ".repeat(20_000))));
    assert_eq!(answer.refusal, None, "64 KB are read");
}

/// Wherever a statement can hold an expression, a subquery in it is found: `plain` may read prices, and no notes.
#[test]
fn a_subquery_is_found_wherever_an_expression_can_stand() {
    let engine = engine();
    let hidden = "(select id from hidden.note limit 1)";
    let places = [
        "select ?",
        "select amount from fares.price where id = ?",
        "select amount from fares.price order by ?",
        "select amount from fares.price limit ?",
        "select amount from fares.price limit 1 offset ?",
        "select amount from fares.price fetch first ? rows only",
        "select amount from fares.price group by amount, ?",
        "select amount from fares.price group by cube ((amount), (?))",
        "select amount from fares.price group by amount having ? = 1",
        "select distinct on (?) amount from fares.price",
        "select sum(amount) over (partition by ?) from fares.price",
        "select sum(amount) over (order by ?) from fares.price",
        "select sum(amount) over (rows between ? preceding and current row) from fares.price",
        "select sum(amount) over (rows between 1 preceding and ? following) from fares.price",
        "select sum(amount) over w from fares.price window w as (order by ?)",
        "select sum(amount) filter (where ? = 1) from fares.price",
        "select percentile_cont(0.5) within group (order by ?) from fares.price",
        "select string_agg(amount::text, ',' order by ?) from fares.price",
        "select count(distinct ?) from fares.price",
        "select 'a' like 'b' escape ?::text",
        "select 'a' ilike 'b' escape ?::text",
        "select 'a' similar to 'b' escape ?::text",
        "select case when true then ? end",
        "select case ? when 1 then 2 end",
        "select case when false then 1 else ? end",
        "select coalesce(1, ?)",
        "select ? between 1 and 2",
        "select 1 between 0 and ?",
        "select 1 in (2, ?)",
        "select 1 in (select id from hidden.note)",
        "select 1 = any (select id from hidden.note)",
        "select exists ?",
        "select not exists ?",
        "select array[?]",
        "select array(select id from hidden.note)",
        "select (array[1, 2])[?]",
        "select row(?)",
        "select cast(? as text)",
        "select ?::text",
        "select -(?)",
        "select ? is null",
        "select ? is distinct from 1",
        "select interval '1 day' * ?",
        "select substring('a' from ?)",
        "select position('a' in ?::text)",
        "select trim(both ?::text from 'a')",
        "select overlay('a' placing ?::text from 1)",
        "select amount from fares.price p join fares.price q on ? = 1",
        "select amount from fares.price, lateral (select ?) s",
        "select amount from fares.price, generate_series(1, ?) g",
        "select * from (select ?) s",
        "select * from (values (?)) v",
        "values (?)",
        "with x as (select ?) select 1",
        "with x as materialized (select ?) select 1 from x",
        "select 1 union select ?",
        "select 1 except table hidden.note",
        "select amount from fares.price tablesample system (?)",
        "copy (select ?) to stdout",
        "explain analyze select ?",
    ];
    for place in places {
        let plain = engine.ask(&sql(
            "plain",
            &place.replace("table hidden.note", "select 1").replace("hidden.note", "fares.price").replace('?', "(select 1)"),
        ));
        let answer = engine.ask(&sql("plain", &place.replace('?', hidden)));
        assert_ne!(answer.verdict, Verdict::Allowed, "{place}");
        let is_known = plain.verdict == Verdict::Allowed;
        let sees = matches!(answer.refusal, Some(Refusal::SchemaShut | Refusal::NotDecided | Refusal::StatementUnreadable));
        assert!(
            sees && (!is_known || answer.refusal == Some(Refusal::SchemaShut)),
            "{place}: {:?}, plain {:?}",
            answer.refusal,
            plain.refusal
        );
    }
}

#[test]
fn a_disabled_person_holds_nothing_on_any_account() {
    use zest_ledger::{ask::Session, review::effective};
    let rights = |more: &str| {
        let text = format!("[users.clerk]\nproofs = [\"password\"]\n{more}\n{MARIADB}");
        let estate = Ledger::new().document("a.toml", &text.replace("[users.guest]", "[users.other]")).estate();
        let engine = Engine::compile(estate.unwrap_or_else(|f| panic!("{f}"))).expect("it compiles");
        effective(&engine, "clerk", Some("maria"), &Session::default()).expect("the user is known").remove(0)
    };
    assert!(!rights("").rights.is_empty());
    let disabled = rights("disabled = true");
    assert!(disabled.rights.is_empty() && disabled.refused.is_some(), "{disabled:?}");
}

/// Where no moment is stated, grants that end are not in force; that one would make the difference is said, and that no other would is not.
#[test]
fn a_grant_that_ends_is_told_where_no_moment_is_stated() {
    let ledger = |kind: &str, account: &str, until: &str| {
        format!(
            "{PEOPLE}[systems.db]\nkind = \"{kind}\"\n[databases.db]\naccounts.\"{account}\" = {{ member-of = [\"reader\"] }}\nroles.reader = {{}}\n\
             objects.\"table public.price\" = {{ columns = {{ id = \"int\" }} }}\n\
             grants = [{{ allow = [\"select\"], on = \"table public.price\", to = [\"reader\"]{until} }}]\n"
        )
    };
    for (kind, account) in [("postgresql", "guest"), ("mariadb", "guest@%")] {
        for (until, line, is_told) in [
            (", until = 2027-01-01", "select id from public.price", true),
            (", until = 2027-01-01", "delete from public.price", false),
            ("", "delete from public.price", false),
        ] {
            let engine = Ledger::new().document("db.toml", &ledger(kind, account, until)).engine(1).unwrap_or_else(|f| panic!("{f}"));
            let question = Question::statement("guest", "db", line);
            let question = if kind == "mariadb" { question.active_role("reader") } else { question };
            let answer = engine.explain(&question);
            let told = answer.gates.iter().any(|gate| gate.text.starts_with("a grant that ends would allow it"));
            assert_eq!((told, answer.refusal), (is_told, Some(Refusal::NoPrivilege)), "{kind}{until}: {line}: {:#?}", answer.gates);
        }
    }
}
