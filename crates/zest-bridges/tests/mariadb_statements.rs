//! Statements on the demo: each is asked of us and attempted in a real session from the same origin.

use std::net::IpAddr;

use mysql::prelude::Queryable;
use zest_ledger::ask::{Refusal, Verdict};
use zest_ledger::mariadb::{Class, Origin, State, quoted, state_of};
use zest_ledger::{Engine, Ledger, Question};
use zest_testkit::servers;

use crate::mariadb::{clean, connect, open, refusal, root};
use crate::support::{Counts, demo_with};

/// The demo, with the networks of the ships and piers moved to addresses that this machine has.
pub(crate) fn moved() -> Ledger {
    // The servers of the tests look no names up, and the demo comes from addresses of this machine.
    let note = "[databases.loyalty]\nnot-modelled = [\"names are not resolved\"]\n\n[databases.loyalty.accounts]";
    demo_with(|text| {
        text.replace("[databases.loyalty.accounts]", note)
            .replace("198.51.100.", "127.0.5.")
            .replace("203.0.113.", "127.0.6.")
            .replace("192.0.2.", "127.0.7.")
    })
}

/// Users, where they come from, and the role they make active.
const IDENTITIES: &[(&str, &str, Option<&str>)] = &[
    ("db-lead", "127.0.5.9", None),
    ("db-lead", "127.0.5.9", Some("member-admin")),
    ("purser-1", "127.0.7.4", None),
    ("purser-1", "127.0.7.4", Some("none")),
    ("tariff-1", "127.0.5.3", None),
    ("tariff-1", "127.0.5.3", Some("campaign")),
    ("tariff-1", "127.0.5.3", Some("member-reader")),
    ("auditor-1", "127.0.5.20", None),
    ("counter-program", "127.0.5.8", None),
    ("purser-3", "127.0.6.2", None),
    ("purser-3", "127.0.5.2", None),
    ("purser-3", "127.0.5.2", Some("campaign")),
];

const STATEMENTS: &[&str] = &[
    "select 1",
    "select now(), current_user()",
    "select m.name, p.amount from club.member m join club.points p on p.member = m.id",
    "select name, level from club.member",
    "select m.* from club.member m",
    "select name from club.member where email like '%x'",
    "select name from club.member order by joined",
    "select level, count(*) from club.member group by level",
    "select id from club.member union select id from club_archive.member",
    "select (select max(amount) from club.points) from club.partner",
    "select * from club.partner where exists (select 1 from club.voucher)",
    "select * from club.partner where id in (select member from club.points)",
    "with x as (select id from club.member) select * from x",
    "with x as (select email from club.member) select * from x",
    "select * from (select id, name from club.member) s",
    "select id from club.member for update",
    "select upper(name) from club.member",
    "select concat(name, email) from club.member",
    "select case when amount > 3 then 1 else 0 end from club.points",
    "select cast(amount as char) from club.points",
    "select distinct pier from club.partner",
    "select * from club.balance",
    "select total from club.balance where member = 3",
    "select count(*) from club.balance",
    "select * from campaigns.reach",
    "select b.total from club.balance b join club.member m on m.id = b.member",
    "select club.is_gold(3)",
    "call club.take_points(1, 2)",
    "explain select * from club.partner",
    "insert into club.points (member, amount) values (1, 2)",
    "insert into club.points values (1, 2, 3, 'x')",
    "insert into club.points (member) select id from club.member",
    "insert into club.points (member) select id from club_archive.member",
    "insert into club.points set member = 1, amount = 2",
    "insert into club.voucher (member) values (1) on duplicate key update used = null",
    "insert into club.voucher (used) values (null) on duplicate key update used = null",
    "insert into campaigns.campaign (title) select title from campaigns.campaign",
    "replace into club.voucher (id) values (1)",
    "replace into campaigns.letter (id) values (1)",
    "update club.voucher set used = '2026-01-01'",
    "update club.voucher set used = '2026-01-01' where code = 'x'",
    "update club.voucher set code = 'x'",
    "update club.voucher set used = null, code = 'x'",
    "update club.points set amount = amount + 1",
    "update club.points p join club.member m on m.id = p.member set p.amount = 0 where m.level = 'gold'",
    "update club.points p join club.member m on m.id = p.member set p.amount = 0 where m.email = 'x'",
    "update campaigns.letter set text = 'x' where campaign = 3",
    "delete from club.points",
    "delete from club.points where amount < 0",
    "delete club.points from club.points join club.member m on m.id = points.member",
    "delete from campaigns.letter where id = 1",
    "truncate table club_archive.points",
    "create table club.member (id int)",
    "create table campaigns.letter (id int)",
    "create table campaigns.letter as select * from campaigns.campaign",
    "create temporary table club.scratch (id int)",
    "create view campaigns.reach as select campaign from campaigns.letter",
    "create view club.balance as select id from club.points",
    "create database club",
    "create database campaigns",
    "drop table club.nothing",
    "drop table campaigns.nothing",
    "drop view club.nothing",
    "drop database nothing",
    "alter table club.member drop column nothing",
    "alter table campaigns.letter drop column nothing",
    "use club",
    "use campaigns",
    "use club_archive",
    "show databases",
    "set role none",
    "set role campaign",
    "set role `member-reader`",
    "set role `member-admin`",
    "set role auditor",
    "create role extra",
    "grant select on club.partner to auditor",
    "grant select on campaigns.* to auditor",
    "grant execute on procedure club.take_points to auditor",
    "grant execute, alter routine on function club.is_gold to auditor with grant option",
    "revoke all privileges on procedure club.take_points from auditor",
    "start transaction",
];

/// Statements of each sort for every table and column; none of them does harm where it is allowed.
fn of_every_table(state: &State) -> Vec<String> {
    let mut list = Vec::new();
    for (name, object) in state.objects.iter().filter(|(n, _)| n.class == Class::Table) {
        let table = name.sql();
        list.push(format!("select * from {table}"));
        list.push(format!("select count(*) from {table}"));
        list.push(format!("delete from {table} where 1 = 0"));
        list.push(format!("truncate table {table}"));
        list.push(format!("create table {table} (id int)"));
        list.push(format!("create index nothing on {table} (nothing)"));
        list.push(format!("alter table {table} drop column nothing"));
        for (column, _) in &object.columns {
            let column = quoted(column);
            list.push(format!("select {column} from {table}"));
            list.push(format!("insert into {table} ({column}) values (null)"));
            list.push(format!("update {table} set {column} = null"));
            list.push(format!("update {table} set {column} = null where {column} is null"));
            list.push(format!("select 1 from {table} where {column} is null"));
            list.push(format!("delete from {table} where {column} is not null"));
        }
    }
    list
}

/// The last part of the object's name in the server's words: `for table `club`.`member`` or `to database 'club'`.
fn named(message: &str) -> Option<String> {
    let rest = [" for table ", " in table ", " to database ", " for routine ", "View "].iter().find_map(|p| message.split(p).nth(1))?;
    let name = rest.split(" references").next().unwrap_or(rest);
    Some(
        name.trim()
            .trim_matches(|c| c == '\'' || c == '`')
            .rsplit(['.', '`'])
            .find(|p| !p.is_empty())?
            .trim_matches(|c| c == '\'' || c == '`')
            .to_owned(),
    )
}

#[test]
fn each_statement_has_the_servers_verdict_and_names_the_servers_object() {
    let Some(server) = servers::wanted(servers::mariadb) else { return };
    let estate = moved().estate().unwrap_or_else(|f| panic!("{f}"));
    let ledger = state_of(&estate, "loyalty", None).expect("the demo has it");
    let mut session = open(&server);
    clean(&mut session);
    let steps = session.read().expect("reads").steps_to(&ledger, &root());
    session.run(&steps).unwrap_or_else(|e| panic!("{e}"));
    let after = session.read().expect("reads");
    assert_eq!(after.drift(&ledger), Vec::new(), "the demo, read back");
    assert!(after.steps_to(&ledger, &root()).is_empty(), "the demo, emitted again");
    for account in after.accounts.keys() {
        session.client().query_drop(format!("SET PASSWORD FOR {} = ''", account.sql())).expect("a credential for the test");
    }
    session.client().query_drop("FLUSH PRIVILEGES").expect("root may");

    let engine = Engine::compile(estate).unwrap_or_else(|f| panic!("{f}"));
    let all: Vec<String> = STATEMENTS.iter().map(|s| (*s).to_owned()).chain(of_every_table(&ledger)).collect();
    let mut counts = Counts::default();
    let (mut wrong, mut undecided) = (Vec::new(), 0);
    for (user, from, role) in IDENTITIES {
        let address: IpAddr = from.parse().expect("an address");
        let mut question = Question::statement(user, "loyalty", "select 1").from(address);
        if let Some(role) = role {
            question = question.active_role(role);
        }
        let account = engine.explain(&question).account.expect("the account is found");
        let login = account.split('@').next().unwrap_or_default().to_owned();
        for statement in &all {
            let mut conn = connect(&server, &login, &Origin::Address(address)).unwrap_or_else(|e| panic!("{account}: {e}"));
            if let Some(role) = role {
                let words = if *role == "none" { "NONE".to_owned() } else { quoted(role) };
                conn.query_drop(format!("SET ROLE {words}")).unwrap_or_else(|e| panic!("{account}: {e}"));
            }
            question.line.clone_from(statement);
            let answer = engine.explain(&question);
            let _ = conn.query_drop("START TRANSACTION");
            let theirs = conn.query_iter(statement).and_then(|mut rows| rows.try_for_each(|row| row.map(drop)));
            let refused = theirs.as_ref().err().and_then(refusal);
            let _ = conn.query_drop("ROLLBACK");
            if answer.refusal == Some(Refusal::NotDecided) {
                undecided += 1;
                continue;
            }
            let who = format!("{account}{}: {statement}", role.map_or(String::new(), |r| format!(", role {r}")));
            let refuses = answer.verdict == Verdict::Denied;
            if refuses != refused.is_some() {
                let ours = answer.first_refusal().map_or("allowed".to_owned(), |g| g.text.clone());
                let error = theirs.as_ref().err().map(ToString::to_string);
                wrong.push(format!("{who}\n    server: {error:?}\n    we: {ours}"));
                continue;
            }
            if let (Some(name), Some(object)) = (refused.as_ref().and_then(|(_, m)| named(m)), &answer.object) {
                let last = object.rsplit(['.', ' ']).next().unwrap_or(object);
                if last != name {
                    wrong.push(format!("{who}\n    server names {name} ({refused:?})\n    we name {object}"));
                    continue;
                }
            }
            counts.add(if refuses { "refused by both, same object" } else { "allowed by both" }, 1);
        }
    }
    assert!(wrong.is_empty(), "{} disagree:\n{}", wrong.len(), wrong.join("\n"));
    eprintln!("  {undecided:>9}  not decided from the ledger, and said so");
    counts.print(&format!("MariaDB, {} statements under {} identities", all.len(), IDENTITIES.len()));
    assert!(all.len() >= 300, "{} statements", all.len());
    assert!(undecided * 10 < counts.total(), "too many statements are not decided");
}

/// Accounts of which each may do something else with accounts; `plain` nothing, and `holder` only what a role brings.
const KEEPERS: &str = "
[systems.m]
kind = 'mariadb'
[databases.m]
not-modelled = ['names are not resolved']
[databases.m.accounts]
'maker@%' = {}
'writer@%' = {}
'cleaner@%' = {}
'keeper@%' = {}
'reader@%' = {}
'plain@%' = { member-of = ['spare'] }
'holder@%' = { member-of = ['ring'], default-role = 'ring' }
'giver@%' = {}
'victim@%' = {}
[databases.m.roles]
ring = {}
spare = {}
[databases.m.objects]
'database d' = {}
'table d.t' = { columns = { id = 'int' } }
[databases.m.objects.'procedure d.p']
owner = 'root@localhost'
body = 'BEGIN END'
[[databases.m.grants]]
allow = ['execute']
on = 'procedure d.p'
to = ['giver@%']
regrant = true
[[databases.m.grants]]
allow = ['create user']
on = 'everything'
to = ['maker@%', 'ring']
[[databases.m.grants]]
allow = ['insert']
on = 'database mysql'
to = ['writer@%']
[[databases.m.grants]]
allow = ['delete']
on = 'database mysql'
to = ['cleaner@%']
[[databases.m.grants]]
allow = ['update']
on = 'database mysql'
to = ['keeper@%']
[[databases.m.grants]]
allow = ['select']
on = 'database mysql'
to = ['reader@%']
[[databases.m.grants]]
allow = ['select']
on = 'database d'
to = ['giver@%']
regrant = true
";

const ABOUT_ACCOUNTS: &[&str] = &[
    "create user extra",
    "create user extra@localhost identified by 'x'",
    "create user 'extra'@'10.0.0.1', `other`@`%` identified by 'x' require ssl account lock",
    "create user if not exists victim",
    "create or replace user victim@'%' identified via mysql_native_password using ''",
    "create role extra_role",
    "create or replace role spare_role",
    "create role if not exists extra_role with admin current_user",
    "create role extra_role with admin victim@'%'",
    "drop user victim",
    "drop user if exists 'victim'@'%', nobody@localhost",
    "drop role spare_role",
    "drop role if exists spare_role, extra_role",
    "alter user victim identified by 'x'",
    "alter user if exists 'victim'@'%' account lock",
    "alter user current_user() identified by ''",
    "alter user current_user with max_user_connections 90",
    "rename user victim to 'renamed'@'localhost'",
    "set password = password('')",
    "set password for current_user = ''",
    "set password for current_user() = password('')",
    "set password for victim = password('x')",
    "set password for 'victim'@'%' = ''",
    "set password for 'plain'@'%' = ''",
    "set password for PLAIN = ''",
    "set default role none",
    "set default role none for current_user",
    "set default role none for victim",
    "set default role spare",
    "set default role ring",
    "grant ring to ring",
    "grant spare to ring",
    "grant spare to current_role",
    "grant spare to spare, victim",
    "revoke spare from spare",
    "show grants",
    "show grants for current_user",
    "show grants for current_user()",
    "show grants for victim",
    "show grants for 'victim'@'%'",
    "show grants for plain@'%'",
    "show grants for ring",
    "show grants for spare",
    "show create user",
    "show create user current_user",
    "show create user victim",
    "revoke all privileges, grant option from victim",
    "revoke all, grant option from 'victim'@'%'",
    "revoke grant option on d.* from victim",
    "revoke grant option on *.* from victim",
    "revoke grant option on d.t from victim",
    "grant execute on procedure d.p to victim",
    "grant alter routine, execute on procedure d.p to victim with grant option",
    "grant all on procedure d.p to victim",
    "revoke execute on procedure d.p from victim",
];

#[test]
fn statements_about_accounts_have_the_servers_verdict() {
    let Some(server) = servers::wanted(servers::mariadb) else { return };
    let mut users = String::new();
    let logins = ["maker", "writer", "cleaner", "keeper", "reader", "plain", "holder", "giver", "victim"];
    logins.iter().for_each(|login| users.push_str(&format!("[users.{login}]\nproofs = ['password']\n")));
    let estate = Ledger::new().document("m.toml", &format!("{users}{KEEPERS}")).estate().unwrap_or_else(|f| panic!("{f}"));
    let ledger = state_of(&estate, "m", None).expect("it is there");
    let mut session = open(&server);
    clean(&mut session);
    let steps = session.read().expect("reads").steps_to(&ledger, &root());
    session.run(&steps).expect("rolled out");
    let engine = Engine::compile(estate).unwrap_or_else(|f| panic!("{f}"));
    let address: IpAddr = "127.0.8.1".parse().expect("an address");
    let (mut counts, mut wrong, mut undecided) = (Counts::default(), Vec::new(), 0);
    for login in &logins[..8] {
        for statement in ABOUT_ACCOUNTS {
            // As it was before.
            for again in [
                "DROP USER IF EXISTS extra, extra@localhost, 'extra'@'10.0.0.1', other, 'renamed'@'localhost'",
                "DROP ROLE IF EXISTS extra_role",
                "CREATE OR REPLACE USER victim",
                "CREATE OR REPLACE ROLE spare_role",
                "GRANT SELECT ON d.* TO victim WITH GRANT OPTION",
                "GRANT EXECUTE ON PROCEDURE d.p TO victim",
            ] {
                session.client().query_drop(again).unwrap_or_else(|e| panic!("{again}: {e}"));
            }
            for account in ledger.accounts.keys().filter(|a| a.user != "root") {
                session.client().query_drop(format!("ALTER USER {} IDENTIFIED BY '' ACCOUNT UNLOCK", account.sql())).expect("root may");
            }
            session.client().query_drop("SET DEFAULT ROLE ring FOR 'holder'@'%'").expect("root may");
            session.client().query_drop("SET DEFAULT ROLE NONE FOR 'plain'@'%'").expect("root may");
            let question = Question::statement(login, "m", statement).from(address);
            let answer = engine.explain(&question);
            let mut conn = connect(&server, login, &Origin::Address(address)).unwrap_or_else(|e| panic!("{login}: {e}"));
            let theirs = conn.query_iter(statement).and_then(|mut rows| rows.try_for_each(|row| row.map(drop)));
            let refused = theirs.as_ref().err().and_then(refusal);
            if answer.refusal == Some(Refusal::NotDecided) {
                undecided += 1;
                continue;
            }
            let refuses = answer.verdict == Verdict::Denied;
            if refuses == refused.is_some() {
                counts.add(if refuses { "refused by both" } else { "allowed by both" }, 1);
                continue;
            }
            let ours = answer.first_refusal().map_or("allowed".to_owned(), |g| g.text.clone());
            wrong.push(format!("{login}: {statement}\n    server: {:?}\n    we: {ours}", theirs.err().map(|e| e.to_string())));
        }
    }
    assert!(wrong.is_empty(), "{} disagree:\n{}", wrong.len(), wrong.join("\n"));
    eprintln!("  {undecided:>9}  not decided from the ledger, and said so");
    counts.print(&format!("MariaDB, {} statements about accounts under 8 identities", ABOUT_ACCOUNTS.len()));
    assert!(undecided * 20 < counts.total(), "too many statements are not decided");
}
