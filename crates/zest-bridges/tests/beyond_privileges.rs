//! Which rows row security keeps back, and what roles may beyond privileges, on a real PostgreSQL: what is asked for like a privilege is
//! held against what the server does to every row, for random policies.

use fastrand::Rng;
use postgres::Client;
use postgres::error::SqlState;
use zest_ledger::ask::{Question, Refusal, Verdict};
use zest_ledger::{Engine, Ledger};
use zest_testkit::servers;

use crate::postgresql::{in_database, sql};
use crate::support::{seed, wanted_checks};

const ROLES: [&str; 5] = ["clerk", "mate", "pilot", "keeper", "dump"];
const ATOMS: [&str; 3] = ["a = 1", "b = 1", "c = 1"];

/// Everybody may everything on the table as far as privileges go; the keeper owns it, and the pilot is one of his.
const BEGIN: &str = "
CREATE ROLE watch; CREATE ROLE keeper LOGIN; CREATE ROLE clerk LOGIN IN ROLE watch; CREATE ROLE mate LOGIN IN ROLE watch NOINHERIT;
CREATE ROLE pilot LOGIN IN ROLE keeper; CREATE ROLE dump LOGIN BYPASSRLS;
CREATE SCHEMA s; GRANT USAGE ON SCHEMA s TO PUBLIC;
CREATE TABLE s.t (a int, b int, c int, n int); ALTER TABLE s.t OWNER TO keeper; GRANT ALL ON s.t TO PUBLIC;
INSERT INTO s.t SELECT x, y, z, 0 FROM generate_series(0, 1) x, generate_series(0, 1) y, generate_series(0, 1) z;
ALTER TABLE s.t ENABLE ROW LEVEL SECURITY;
";

/// A condition of which each atom, if it holds, can only make it hold the more: so what it says word for word is all there is to it.
fn condition(rng: &mut Rng) -> String {
    let mut atom = || (*rng.choice(&ATOMS).expect("some")).to_owned();
    let (one, two, three) = (atom(), atom(), atom());
    match rng.u8(0..10) {
        0 => "true".to_owned(),
        1 => "false".to_owned(),
        2..=5 => one,
        6 => format!("{one} AND {two}"),
        7 => format!("{one} OR {two}"),
        8 => format!("({one} OR {two}) AND {three}"),
        _ => format!("({one} AND {two}) OR {three}"),
    }
}

/// Statements that make a random set of policies.
fn policies(rng: &mut Rng) -> String {
    let mut text = String::new();
    for number in 0..rng.usize(0..6) {
        let sort = if rng.u8(0..4) == 0 { "RESTRICTIVE" } else { "PERMISSIVE" };
        let acts = rng.choice(["ALL", "ALL", "SELECT", "INSERT", "UPDATE", "DELETE"]).expect("some");
        let to = rng.choice(["PUBLIC", "PUBLIC", "watch", "clerk", "keeper", "mate, pilot"]).expect("some");
        let using = if acts == "INSERT" { String::new() } else { format!("USING ({})", condition(rng)) };
        let has_check = acts == "INSERT" || matches!(acts, "ALL" | "UPDATE") && rng.bool();
        let check = if has_check { format!("WITH CHECK ({})", condition(rng)) } else { String::new() };
        text.push_str(&format!("CREATE POLICY p{number} ON s.t AS {sort} FOR {acts} TO {to} {using} {check};\n"));
    }
    if rng.u8(0..3) == 0 {
        text.push_str("ALTER TABLE s.t FORCE ROW LEVEL SECURITY;\n");
    }
    text
}

/// What the server does to a row, act by act: whether it passes.
#[derive(Clone, Copy, Debug, Default)]
struct Passes {
    select: bool,
    insert: bool,
    /// As one that is there, and is changed.
    update: bool,
    /// As what another one is changed into; nothing where none could be changed.
    renew: Option<bool>,
    delete: bool,
}

/// Carries out a statement as a role and takes it back; returns the number of rows, or nothing where policies refuse.
fn tried(client: &mut Client, role: &str, before: &str, statement: &str) -> Option<u64> {
    let begin = format!("BEGIN; {before}; SET LOCAL ROLE {role}");
    client.batch_execute(&begin).unwrap_or_else(|e| panic!("{begin}: {e:?}"));
    let came = client.execute(statement, &[]);
    client.batch_execute("ROLLBACK").expect("it is taken back");
    match came {
        Ok(count) => Some(count),
        Err(error) => {
            assert_eq!(error.code(), Some(&SqlState::INSUFFICIENT_PRIVILEGE), "{role}: {statement}: {error:?}");
            None
        }
    }
}

/// Asks the server of each of the eight rows, by the atoms that hold in it.
fn judged(client: &mut Client, role: &str) -> [Passes; 8] {
    let columns = ["a", "b", "c"];
    let of = |row: usize| columns.iter().enumerate().map(move |(at, name)| format!("{name} = {}", row >> at & 1)).collect::<Vec<_>>();
    let alone = |row: usize| format!("DELETE FROM s.t WHERE NOT ({})", of(row).join(" AND "));
    let mut all = [Passes::default(); 8];
    for (row, passes) in all.iter_mut().enumerate() {
        let values = columns.iter().enumerate().map(|(at, _)| (row >> at & 1).to_string()).collect::<Vec<_>>().join(", ");
        passes.select = tried(client, role, &alone(row), "SELECT 1 FROM s.t") == Some(1);
        passes.delete = tried(client, role, &alone(row), "DELETE FROM s.t") == Some(1);
        passes.insert = tried(client, role, "SELECT", &format!("INSERT INTO s.t VALUES ({values}, 1)")).is_some();
        // Where the new row is not let in, the old one was found.
        passes.update = tried(client, role, &alone(row), "UPDATE s.t SET n = 1") != Some(0);
    }
    let found = all.iter().position(|passes| passes.update);
    for (row, passes) in all.iter_mut().enumerate() {
        passes.renew = found.map(|found| tried(client, role, &alone(found), &format!("UPDATE s.t SET {}", of(row).join(", "))).is_some());
    }
    all
}

/// Whether a condition over the atoms holds in a row.
fn holds(client: &mut Client, condition: &str) -> Vec<usize> {
    let query = format!("SELECT a + 2 * b + 4 * c FROM s.t WHERE {condition}");
    let rows = client.query(&query, &[]).unwrap_or_else(|e| panic!("{query}: {e:?}"));
    rows.iter().map(|row| usize::try_from(row.get::<_, i32>(0)).expect("a number of a row")).collect()
}

#[test]
fn the_server_agrees_on_which_rows_policies_keep_back() {
    let Some(server) = servers::wanted(servers::postgresql) else { return };
    let first = seed("policies");
    let (mut passed, mut kept) = (0, 0);
    in_database(&server, "which_rows", |session| {
        sql(session, BEGIN);
        for round in 0..wanted_checks() / 2750 {
            let mut rng = Rng::with_seed(first + round);
            let made = policies(&mut rng);
            sql(session, &made);
            let state = session.read().expect("it is read");
            let document = state.document("db", None);
            let engine = Ledger::new().document("read.toml", &document).estate().and_then(Engine::compile).expect("it compiles");
            let mut ends: Vec<String> = (0..12).map(|_| format!(" where {}", condition(&mut rng))).collect();
            ends.push(String::new());
            for role in ROLES {
                let judged = judged(session.client(), role);
                for end in &ends {
                    let rows = holds(session.client(), end.strip_prefix(" where ").unwrap_or("true"));
                    let (old, new) = match end.as_str() {
                        "" => (" for every row".to_owned(), " for every new row".to_owned()),
                        end => (format!(" for rows{end}"), format!(" for new rows{end}")),
                    };
                    let all = |passes: &dyn Fn(&Passes) -> Option<bool>| {
                        rows.iter().map(|row| passes(&judged[*row])).try_fold(true, |all, one| Some(all && one?))
                    };
                    for (asked, theirs) in [
                        (format!("select on table s.t{old}"), all(&|p| Some(p.select))),
                        (format!("delete on table s.t{old}"), all(&|p| Some(p.delete))),
                        (format!("update on table s.t{old}"), all(&|p| Some(p.update))),
                        (format!("update on table s.t{new}"), all(&|p| p.renew)),
                        (format!("insert on table s.t{new}"), all(&|p| Some(p.insert))),
                    ] {
                        let answer = engine.decide(&Question::new(role, "db", &asked));
                        // Of rows that there cannot be everything is true.
                        let Some(theirs) = theirs.filter(|_| !rows.is_empty()) else { continue };
                        let ours = answer.verdict == Verdict::Allowed;
                        assert_eq!(ours, theirs, "seed {}: `{role}`: {asked}\n{made}{judged:?}", first + round);
                        assert!(ours || answer.refusal == Some(Refusal::RowsWithheld), "{asked}: {answer:?}");
                        *if ours { &mut passed } else { &mut kept } += 1;
                    }
                }
            }
            let drop = state.objects.values().flat_map(|object| &object.policies).flat_map(|policies| policies.keys());
            let drop: String = drop.map(|name| format!("DROP POLICY {name} ON s.t; ")).collect();
            sql(session, &format!("{drop}ALTER TABLE s.t NO FORCE ROW LEVEL SECURITY"));
        }
    });
    println!("rows of {passed} questions pass, some of {kept} are kept back");
    assert!(passed > 1_500 && kept > 1_500, "{passed}, {kept}");
}

const STRONG: &str = "
CREATE ROLE plain LOGIN; CREATE ROLE keeper LOGIN; CREATE ROLE second LOGIN IN ROLE keeper; CREATE ROLE stranger LOGIN NOINHERIT IN ROLE keeper;
CREATE ROLE boss LOGIN SUPERUSER; CREATE ROLE maker LOGIN CREATEROLE; CREATE ROLE builder LOGIN CREATEDB; CREATE ROLE copier LOGIN REPLICATION;
CREATE ROLE pointer LOGIN IN ROLE pg_checkpoint; CREATE ROLE runner LOGIN IN ROLE pg_execute_server_program;
CREATE ROLE writer LOGIN IN ROLE pg_write_server_files; CREATE ROLE desk; CREATE ROLE head LOGIN; GRANT desk TO head WITH ADMIN OPTION;
CREATE ROLE under LOGIN IN ROLE head; CREATE ROLE apart LOGIN NOINHERIT IN ROLE head;
CREATE SCHEMA s AUTHORIZATION keeper; GRANT USAGE ON SCHEMA s TO PUBLIC; CREATE SCHEMA shut AUTHORIZATION boss;
CREATE TABLE s.t (id int); ALTER TABLE s.t OWNER TO keeper; GRANT ALL ON s.t TO plain WITH GRANT OPTION; CREATE TABLE shut.t (id int); ALTER TABLE shut.t OWNER TO keeper;
CREATE SEQUENCE s.n; CREATE TYPE s.mood AS ENUM ('calm'); ALTER TYPE s.mood OWNER TO keeper;
CREATE FUNCTION s.f(int) RETURNS int LANGUAGE sql AS 'select 1'; ALTER FUNCTION s.f OWNER TO second;
ALTER DATABASE beyond OWNER TO builder;
";

/// What is asked for like a privilege, and what the server is asked instead.
const BEYOND: &[(&str, &str)] = &[
    ("ownership on table s.t", "COMMENT ON TABLE s.t IS NULL"),
    ("ownership on table shut.t", "COMMENT ON TABLE shut.t IS NULL"),
    ("ownership on sequence s.n", "COMMENT ON SEQUENCE s.n IS NULL"),
    ("ownership on type s.mood", "COMMENT ON TYPE s.mood IS NULL"),
    ("ownership on function s.f(integer)", "COMMENT ON FUNCTION s.f(int) IS NULL"),
    ("ownership on schema s", "COMMENT ON SCHEMA s IS NULL"),
    ("ownership on schema public", "COMMENT ON SCHEMA public IS NULL"),
    ("ownership on database", "COMMENT ON DATABASE beyond IS NULL"),
    ("ownership on language sql", "COMMENT ON LANGUAGE sql IS NULL"),
    ("admin option on role desk", "REVOKE ADMIN OPTION FOR desk FROM plain"),
    ("admin option on role boss", "REVOKE ADMIN OPTION FOR boss FROM plain"),
    ("admin option on role keeper", "REVOKE ADMIN OPTION FOR keeper FROM plain"),
];

/// Acts that no privilege is for.
const ACTS: &[&str] = &[
    "CREATE ROLE new_role",
    "ALTER SYSTEM SET work_mem = '4MB'",
    "SELECT pg_create_physical_replication_slot('new_slot')",
    "SELECT pg_create_logical_replication_slot('new_slot', 'pgoutput')",
    "SELECT pg_copy_physical_replication_slot('old_slot', 'new_slot')",
    "SELECT pg_copy_logical_replication_slot('old_slot', 'new_slot')",
    "SELECT pg_drop_replication_slot('old_slot')",
    "SELECT pg_replication_slot_advance('old_slot', '0/1')",
    "SELECT * FROM pg_logical_slot_get_changes('old_slot', NULL, NULL)",
    "SELECT * FROM pg_logical_slot_peek_changes('old_slot', NULL, NULL)",
    "SELECT * FROM pg_logical_slot_get_binary_changes('old_slot', NULL, NULL)",
    "SELECT * FROM pg_logical_slot_peek_binary_changes('old_slot', NULL, NULL)",
    "CHECKPOINT",
    "COPY (SELECT 1) TO PROGRAM 'true'",
    "COPY (SELECT 1) TO '/no_such_folder/new_file'",
    "CREATE DATABASE beyond",
];

#[test]
fn the_server_agrees_on_what_roles_may_beyond_privileges() {
    let Some(server) = servers::wanted(servers::postgresql) else { return };
    in_database(&server, "beyond", |session| {
        sql(session, STRONG);
        let state = session.read().expect("it is read");
        let document = state.document("db", None);
        let engine = Ledger::new().document("read.toml", &document).estate().and_then(Engine::compile).expect("it compiles");
        let (mut allowed, mut refused) = (0, 0);
        let roles = state.roles.iter().filter(|(name, role)| role.login && *name != "postgres").map(|(name, _)| name);
        for role in roles {
            let asked = BEYOND.iter().map(|(line, statement)| (Question::new(role, "db", line), *statement));
            let acts = ACTS.iter().map(|statement| (Question::statement(role, "db", statement), *statement));
            for (question, statement) in asked.chain(acts) {
                let answer = engine.explain(&question);
                sql(session, &format!("SET SESSION AUTHORIZATION {role}"));
                let error = session.client().batch_execute(statement).err().and_then(|error| error.as_db_error().cloned());
                sql(session, "RESET SESSION AUTHORIZATION; DROP ROLE IF EXISTS new_role");
                if error.is_none() && statement.contains("'new_slot'") {
                    sql(session, "SELECT pg_drop_replication_slot('new_slot')");
                }
                // Whatever else is wrong with a statement was found behind the check.
                let is_refused = error
                    .as_ref()
                    .is_some_and(|error| *error.code() == SqlState::INSUFFICIENT_PRIVILEGE || error.message().starts_with("must be "));
                let ours = answer.verdict == Verdict::Allowed;
                assert_ne!(ours, is_refused, "`{role}`: {statement}: {error:?}\n{:#?}", answer.gates);
                assert_ne!(answer.refusal, Some(Refusal::NotDecided), "`{role}`: {statement}");
                *if ours { &mut allowed } else { &mut refused } += 1;
            }
        }
        println!("{allowed} allowed, {refused} refused by both");
        assert!(allowed > 50 && refused > 200, "{allowed}, {refused}");
    });
}
