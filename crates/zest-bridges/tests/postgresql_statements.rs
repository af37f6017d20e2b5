//! Statements on the demo: each is asked of us and attempted on the real server under the same identity, then rolled back.

use zest_ledger::postgresql::{Catalog, quoted};
use zest_ledger::{
    Engine, Question,
    ask::{Refusal, Verdict},
};
use zest_testkit::servers;

use crate::postgresql::{open, refuses, sql};
use crate::support::{Counts, demo};

/// Accounts and active roles under which each statement is tried.
const IDENTITIES: &[(&str, Option<&str>)] = &[
    ("postgres", None),
    ("postgres", Some("fare-reader")),
    ("db-lead", None),
    ("db-lead", Some("ticketing-owner")),
    ("purser-1", None),
    ("purser-3", None),
    ("purser-3", Some("fare-clerk")),
    ("dispatcher-1", None),
    ("tariff-1", None),
    ("counter-app", None),
    ("report-runner", None),
];

const STATEMENTS: &[&str] = &[
    // reading
    "select 1",
    "select now(), current_user",
    "select id from fares.price",
    "select * from fares.price",
    "select p.* from fares.price p",
    "select p from fares.price p",
    "select count(*) from fares.price",
    "select 1 from fares.price",
    "select note from fares.price where zone = 2 order by amount",
    "select p.id, z.name from fares.price p join fares.zone z on z.id = p.zone",
    "select id, name from fares.zone natural join fares.product",
    "select id from fares.zone join fares.product using (id)",
    "select p.id from fares.price p left join sales.ticket t on t.price = p.id",
    "select (select max(amount) from fares.price) from voyages.sailing",
    "select * from fares.zone where exists (select 1 from voyages.pier where pier.id = zone.id)",
    "select * from fares.zone where id in (select zone from fares.price)",
    "with x as (select id from fares.price) select * from x",
    "with recursive x(n) as (select 1 union all select n + 1 from x where n < 3) select n from x",
    "with gone as (delete from fares.draft returning id) select * from gone",
    "select id from fares.price union select id from sales.booking",
    "select id from fares.price except all select id from fares.draft",
    "select * from (select id from fares.price) s",
    "select * from (values (1), (2)) v(n)",
    "select * from fares.price for update",
    "select * from voyages.delay for share",
    "select distinct on (zone) zone, amount from fares.price order by zone",
    "select zone, sum(amount) from fares.price group by zone having sum(amount) > 3",
    "select zone, rank() over (partition by zone order by amount) from fares.price",
    "select lower(note) from fares.price",
    "select coalesce(note, 'none') from fares.price",
    "select case when amount > 3 then 'dear' else 'cheap' end from fares.price",
    "select amount::text from fares.price",
    "select extract(year from starts) from fares.season",
    "select array_agg(id) filter (where zone = 1) from fares.price",
    "select ctid from fares.price",
    "select price.id from fares.price",
    "table fares.price",
    "select * from fares.price, lateral (select name from fares.zone where zone.id = price.zone) z",
    "select * from generate_series(1, 3) g",
    "select * from fares.price where amount between 1 and 2 and note like 'a%'",
    "select * from reports.revenue",
    "select day from reports.revenue",
    "select * from voyages.departures",
    "select * from sales.open_tickets",
    "select count(*) from sales.open_tickets",
    "select * from reports.route_totals",
    "select r.day from reports.revenue r join reports.daily_sales d on d.day = r.day",
    "select last_value from sales.ticket_number",
    "select nextval('sales.ticket_number')",
    "select setval('sales.ticket_number', 5)",
    "select sales.give_back(1, 2.0)",
    "explain select * from fares.price",
    "explain update fares.price set amount = 1",
    // changing rows
    "insert into fares.price (id, amount) values (1, 2)",
    "insert into fares.price values (1, 2, 3, 4, 'x')",
    "insert into fares.draft values (1, 2)",
    "insert into fares.draft default values",
    "insert into fares.draft (id) select id from fares.price",
    "insert into fares.draft (id) select id from sales.booking",
    "insert into fares.draft (id) values (1) returning amount",
    "insert into sales.ticket (booking) values (1)",
    "insert into sales.ticket (id, booking) values (1, 1)",
    "insert into sales.ticket (booking) values (1) returning id",
    "insert into sales.refund (ticket) values (1)",
    "insert into sales.booking (id) values (1), (2), (3)",
    "insert into voyages.delay values (1, 5, 'fog')",
    "insert into voyages.departures (id) values (1)",
    "update fares.price set amount = 3",
    "update fares.price set amount = 3 where id = 1",
    "update fares.price set amount = amount + 1",
    "update fares.price set note = 'x', amount = 2",
    "update fares.price set zone = 3",
    "update fares.price set zone = 3, amount = 2",
    "update fares.price set amount = 3 returning id",
    "update fares.price p set amount = d.amount from fares.draft d where d.price = p.id",
    "update fares.price set amount = (select max(amount) from fares.draft)",
    "update fares.price set (amount, note) = (1, 'x')",
    "update voyages.delay set minutes = 5",
    "update voyages.delay set minutes = 5 where sailing = 3",
    "update voyages.delay set minutes = minutes + 5",
    "update voyages.departures set state = 'late'",
    "update voyages.departures set state = 'late' where id = 1",
    "update sales.open_tickets set booking = 1",
    "delete from fares.draft",
    "delete from fares.draft where id = 1",
    "delete from fares.draft using fares.price where price.id = draft.price",
    "delete from fares.draft returning *",
    "delete from voyages.delay where minutes > 5",
    "delete from voyages.departures where id = 1",
    "delete from reports.daily_sales where day < '2026-01-01'",
    "merge into fares.draft d using fares.price p on p.id = d.price when matched then update set amount = p.amount when not matched then insert (id, price) values (p.id, p.id)",
    "merge into fares.draft d using fares.price p on p.id = d.price when matched then delete",
    "merge into fares.price p using fares.draft d on p.id = d.price when matched then update set amount = d.amount",
    "merge into voyages.delay d using voyages.sailing s on s.id = d.sailing when not matched then insert values (s.id, 0, '')",
    "truncate fares.draft",
    "truncate fares.draft, fares.season",
    "truncate table voyages.delay",
    // locks and copies
    "lock table fares.price",
    "lock table fares.price in access share mode",
    "lock table fares.draft in row exclusive mode",
    "lock table voyages.delay in share mode",
    "copy fares.price to stdout",
    "copy fares.price (id, note) to stdout",
    "copy (select id from fares.price) to stdout",
    "copy fares.price to '/tmp/never'",
    "copy fares.price to program 'cat'",
    // making and changing objects
    "create table fares.new (id integer)",
    "create table public.new (id integer)",
    "create table new (id integer)",
    "create temporary table scratch (id integer)",
    "create table fares.copy as select * from fares.price",
    "create table fares.child (price integer references fares.zone (id))",
    "create view fares.cheap as select id from fares.price",
    "create view reports.cheap as select id from sales.booking",
    "create materialized view fares.dear as select id from fares.price",
    "create index on fares.price (zone)",
    "create unique index zone_once on fares.zone (id)",
    "create schema extra",
    "create schema extra authorization \"fare-clerk\"",
    "create sequence fares.numbers",
    "create type fares.mood as enum ('calm', 'rough')",
    "create domain fares.amount as numeric",
    "create function fares.one() returns integer language sql as 'select 1'",
    "alter table fares.price add column extra text",
    "alter table fares.price drop column note",
    "alter table fares.price rename column note to remark",
    "alter table fares.price rename to prices",
    "alter table fares.price enable row level security",
    "alter table fares.draft owner to \"fare-clerk\"",
    "alter table voyages.delay alter column reason set not null",
    "drop table fares.draft",
    "drop table if exists fares.nothing",
    "drop view reports.revenue",
    "drop materialized view reports.route_totals",
    "drop sequence sales.ticket_number",
    "drop schema fares",
    "drop function sales.give_back(integer, numeric)",
    "refresh materialized view reports.route_totals",
    "comment on table fares.price is 'x'",
    // rights
    "grant select on fares.price to purser",
    "grant select (id) on fares.price to purser",
    "grant select, insert on voyages.sailing to purser",
    "grant all on fares.draft to purser",
    "grant usage on schema fares to purser",
    "grant create on database ticketing to purser",
    "revoke select on fares.price from \"fare-reader\"",
    "revoke update on voyages.delay from purser",
    "grant \"fare-reader\" to \"purser-2\"",
    "grant \"fare-clerk\" to \"purser-2\"",
    "revoke \"fare-reader\" from counter",
    "grant \"fare-reader\", purser to \"purser-2\", counter with admin option",
    "grant postgres to purser",
    "grant pg_read_all_data to purser",
    "grant \"fare-reader\" to counter granted by current_user",
    "grant \"fare-reader\" to counter granted by postgres",
    "grant \"fare-reader\" to current_user",
    "revoke admin option for \"fare-reader\" from \"tariff-1\"",
    "revoke \"fare-reader\", purser from \"purser-1\" cascade",
    "revoke postgres from purser",
    "grant select on all tables in schema fares to purser",
    "grant select, insert on all tables in schema fares, voyages to purser",
    "grant usage on all sequences in schema sales to purser",
    "grant execute on all functions in schema sales to purser",
    "grant execute on all routines in schema sales to purser with grant option",
    "revoke all on all tables in schema reports from purser",
    "revoke all privileges on all procedures in schema sales from public",
    "grant execute on function sales.give_back to purser",
    "grant execute on function sales.give_back(integer, numeric) to purser",
    "grant all on routine sales.give_back to purser",
    "revoke execute on function sales.give_back from public",
    "grant execute on function give_back to purser",
    "grant usage on language plpgsql to purser",
    "grant all on language plpgsql to purser with grant option",
    "revoke usage on language plpgsql from public cascade",
    // roles
    "create role extra",
    "create role boss superuser",
    "create role extra nosuperuser",
    "create role extra replication",
    "create role extra bypassrls",
    "create role extra with login createdb createrole noinherit connection limit 3 valid until '2027-01-01'",
    "create role extra in role \"fare-reader\"",
    "create role extra in role postgres",
    "create role extra in group \"fare-reader\", purser role counter admin \"tariff-1\"",
    "create user extra password 'x'",
    "create user extra with encrypted password 'x'",
    "create group extra",
    "create group extra user purser",
    "alter role purser login",
    "alter role purser createdb createrole",
    "alter role purser superuser",
    "alter role purser nosuperuser",
    "alter role purser noreplication",
    "alter role purser nobypassrls",
    "alter role purser connection limit -1",
    "alter role purser password 'x'",
    "alter role postgres password 'x'",
    "alter role postgres login",
    "alter role current_user password 'x'",
    "alter user session_user password null",
    "alter role \"tariff-1\" password 'x'",
    "alter role \"tariff-1\" password 'x' valid until 'infinity'",
    "alter role purser",
    "alter role purser set search_path = fares, public",
    "alter role purser set work_mem to '8MB'",
    "alter role purser reset all",
    "alter role postgres set work_mem = '8MB'",
    "alter role current_user set timezone = 'UTC'",
    "alter role current_user set time zone 'UTC'",
    "alter role \"tariff-1\" in database ticketing set work_mem = '8MB'",
    "alter role all set work_mem = '8MB'",
    "alter role all in database ticketing set work_mem = '8MB'",
    "alter role all reset all",
    "alter database ticketing set work_mem = '8MB'",
    "alter database ticketing reset work_mem",
    "alter role counter rename to till",
    "alter user \"fare-reader\" rename to \"tariff-reader\"",
    "alter group purser add user \"purser-2\"",
    "alter group purser drop user \"purser-2\", \"purser-1\"",
    "alter group postgres add user \"purser-2\"",
    "drop role stocktaker",
    "drop role if exists nobody_of_that_name",
    "drop role if exists stocktaker, nobody_of_that_name",
    "drop user stocktaker, counter",
    "drop group postgres",
    "reassign owned by purser to \"fare-reader\"",
    "reassign owned by \"ticketing-owner\" to \"ticketing-owner\"",
    "reassign owned by current_user to purser",
    "drop owned by purser",
    "drop owned by \"fare-clerk\", \"fare-reader\" restrict",
    "drop owned by counter cascade",
    "set role \"fare-clerk\"",
    "set role \"ticketing-owner\"",
    "set role none",
    "set search_path = fares",
    "show search_path",
    "begin",
    "listen news",
];

/// One statement of each sort for every table.
fn of_every_table(catalog: &Catalog) -> Vec<String> {
    let state = catalog.state();
    let mut list = Vec::new();
    for (name, object) in state.objects.iter().filter(|(n, _)| n.class.has_columns()) {
        let (table, first) = (name.sql(), quoted(&object.columns[0].name));
        let last = quoted(&object.columns[object.columns.len() - 1].name);
        list.push(format!("select {first} from {table}"));
        list.push(format!("select * from {table} where {last} is not null"));
        if name.class == zest_ledger::postgresql::Class::Table {
            list.push(format!("insert into {table} ({last}) values (null)"));
            list.push(format!("update {table} set {last} = null where {first} is null"));
            list.push(format!("delete from {table}"));
            list.push(format!("truncate {table}"));
        }
    }
    list
}

/// The object in the server's words, such as `table price`: class and last part of the name.
fn named(message: &str) -> Option<(String, String)> {
    let rest = ["permission denied for ", "must be owner of "].iter().find_map(|p| message.strip_prefix(p))?;
    let (class, name) = rest.rsplit_once(' ')?;
    let name = name.rsplit('.').next().unwrap_or(name);
    Some((class.replace("materialized", "materialised").replace("relation", "table"), name.trim_matches('"').to_owned()))
}

#[test]
fn each_statement_has_the_servers_verdict_and_names_the_servers_object() {
    let Some(server) = servers::wanted(servers::postgresql) else { return };
    let estate = demo().estate().unwrap_or_else(|f| panic!("{f}"));
    let ledger = zest_ledger::postgresql::state_of(&estate, "ticketing", None).expect("the demo has it");
    let mut admin = open(&server, "postgres");
    sql(&mut admin, "CREATE DATABASE ticketing TEMPLATE template0");
    let mut session = open(&server, "ticketing");
    let steps = session.read().expect("reads").steps_to(&ledger, "postgres");
    session.run(&steps).expect("the demo is rolled out");
    sql(&mut session, "REFRESH MATERIALIZED VIEW reports.route_totals");

    let catalog = Catalog::compile(ledger);
    let engine = Engine::compile(estate).unwrap_or_else(|f| panic!("{f}"));
    let all: Vec<String> = STATEMENTS.iter().map(|s| (*s).to_owned()).chain(of_every_table(&catalog)).collect();
    let mut counts = Counts::default();
    let mut wrong = Vec::new();
    let mut undecided = 0;
    for (account, role) in IDENTITIES {
        for statement in &all {
            let mut question = Question::statement("db-lead", "ticketing", statement).account(account);
            question.user = if *account == "postgres" { "db-lead".to_owned() } else { (*account).to_owned() };
            if let Some(role) = role {
                question = question.active_role(role);
            }
            let answer = engine.explain(&question);
            let as_role = role.map_or(String::new(), |r| format!("; SET ROLE {}", quoted(r)));
            sql(&mut session, &format!("BEGIN; SET SESSION AUTHORIZATION {}{as_role}", quoted(account)));
            let theirs = session.client().batch_execute(statement);
            let _ = session.client().batch_execute("ROLLBACK");
            sql(&mut session, "RESET SESSION AUTHORIZATION; RESET ROLE");
            let error = theirs.as_ref().err().and_then(|e| e.as_db_error());
            let message = error.filter(|e| refuses(e)).map(|e| e.message().to_owned());
            let other = error.filter(|e| !refuses(e)).map(|e| e.message().to_owned());
            if answer.refusal == Some(Refusal::NotDecided) {
                // Plainly said, and never allowed.
                undecided += 1;
                continue;
            }
            let who = format!("{account}{}: {statement}", role.map_or(String::new(), |r| format!(" as {r}")));
            let refuses = answer.verdict == Verdict::Denied;
            if refuses != message.is_some() {
                // Granting without any option is a warning to the server: nothing is granted.
                let is_warning = matches!(answer.refusal, Some(Refusal::NoGrantOption)) && theirs.is_ok();
                if !is_warning {
                    let ours = answer.first_refusal().map_or("allowed".to_owned(), |g| g.text.clone());
                    wrong.push(format!("{who}\n    server: {message:?} {other:?}\n    we: {ours}"));
                }
                continue;
            }
            if let (Some((class, name)), Some(object)) = (message.as_deref().and_then(named), &answer.object) {
                let ours = object.split('(').next().unwrap_or(object);
                let last = ours.rsplit(['.', ' ']).next().unwrap_or(ours);
                // Of all objects of a schema the server names the one that its catalog lists first.
                let is_of_many = statement.contains(" on all ");
                let same = is_of_many || (last == name || class == "database") && ours.starts_with(&class);
                if !same {
                    wrong.push(format!("{who}\n    server names {class} {name}\n    we name {object}"));
                    continue;
                }
            }
            counts.add(if refuses { "refused by both, same object" } else { "allowed by both" }, 1);
        }
    }
    assert!(wrong.is_empty(), "{} disagree:\n{}", wrong.len(), wrong.join("\n"));
    eprintln!("  {undecided:>9}  not decided from the ledger, and said so");
    counts.print(&format!("PostgreSQL, {} statements under {} identities", all.len(), IDENTITIES.len()));
    assert!(all.len() >= 300, "{} statements", all.len());
    assert!(undecided * 10 < counts.total(), "too many statements are not decided");
}
