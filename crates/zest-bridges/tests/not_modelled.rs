//! What a server looks at and the model only names: every trap is laid on a real server, which is read, and each statement
//! is asked of what was read. Whatever the server refuses must not be allowed by us.

use mysql::prelude::Queryable;
use zest_bridges::{mariadb, postgresql};
use zest_ledger::ask::{Refusal, Verdict};
use zest_ledger::{Engine, Ledger, Question};
use zest_testkit::servers;

use crate::support::Counts;

/// For each trap: what it is, and the statements that lay it for the table `pier.t`.
const POSTGRESQL: &[(&str, &str)] = &[
    ("nothing", "SELECT 1"),
    ("a harmless check", "ALTER TABLE pier.t ADD CHECK (amount > 0 AND length(note) < 90)"),
    ("a harmless default", "ALTER TABLE pier.t ALTER amount SET DEFAULT 1 + 1"),
    ("a check", "ALTER TABLE pier.t ADD CHECK (pier.shut(amount) > 0)"),
    ("a default", "ALTER TABLE pier.t ALTER amount SET DEFAULT pier.shut(1)"),
    ("a default of a number", "CREATE SEQUENCE pier.t_n; ALTER TABLE pier.t ALTER amount SET DEFAULT nextval('pier.t_n')"),
    ("a generated column", "ALTER TABLE pier.t ADD more int GENERATED ALWAYS AS (pier.shut(amount)) STORED"),
    ("an identity", "ALTER TABLE pier.t ADD own int GENERATED ALWAYS AS IDENTITY"),
    ("an index", "CREATE INDEX ON pier.t (pier.shut(amount))"),
    ("a part of an index", "CREATE INDEX ON pier.t (id) WHERE pier.shut(amount) > 0"),
    ("a trigger on insert", "CREATE TRIGGER log BEFORE INSERT ON pier.t FOR EACH ROW EXECUTE FUNCTION pier.log()"),
    ("a trigger on update", "CREATE TRIGGER log AFTER UPDATE ON pier.t FOR EACH ROW EXECUTE FUNCTION pier.log()"),
    ("a trigger on delete", "CREATE TRIGGER log BEFORE DELETE ON pier.t FOR EACH STATEMENT EXECUTE FUNCTION pier.log()"),
    ("a trigger on truncate", "CREATE TRIGGER log BEFORE TRUNCATE ON pier.t FOR EACH STATEMENT EXECUTE FUNCTION pier.log()"),
    (
        "a trigger that is off",
        "CREATE TRIGGER log BEFORE INSERT ON pier.t FOR EACH ROW EXECUTE FUNCTION pier.log(); ALTER TABLE pier.t DISABLE TRIGGER log",
    ),
    ("a rule", "CREATE RULE also AS ON INSERT TO pier.t DO ALSO SELECT pier.shut(1)"),
    ("a rule on update", "CREATE RULE also AS ON UPDATE TO pier.t DO ALSO SELECT pier.shut(1)"),
    ("a policy", "ALTER TABLE pier.t ENABLE ROW LEVEL SECURITY; CREATE POLICY own ON pier.t USING (pier.shut(amount) > 0)"),
    ("a harmless policy", "ALTER TABLE pier.t ENABLE ROW LEVEL SECURITY; CREATE POLICY own ON pier.t USING (amount > 0)"),
    (
        "a policy for new rows",
        "ALTER TABLE pier.t ENABLE ROW LEVEL SECURITY; CREATE POLICY own ON pier.t USING (true) WITH CHECK (amount > 900)",
    ),
    (
        "a policy that reads",
        "ALTER TABLE pier.t ENABLE ROW LEVEL SECURITY; CREATE POLICY own ON pier.t USING (id IN (SELECT id FROM pier.closed))",
    ),
    ("no policy", "ALTER TABLE pier.t ENABLE ROW LEVEL SECURITY"),
    ("a domain", "CREATE DOMAIN pier.t_d AS int CHECK (pier.shut(VALUE) > 0); ALTER TABLE pier.t ALTER amount TYPE pier.t_d"),
    ("a harmless domain", "CREATE DOMAIN pier.t_d AS int CHECK (VALUE > 0); ALTER TABLE pier.t ALTER amount TYPE pier.t_d"),
    (
        "a domain with a default",
        "CREATE SEQUENCE pier.t_n; CREATE DOMAIN pier.t_d AS int DEFAULT nextval('pier.t_n'); ALTER TABLE pier.t ALTER amount TYPE pier.t_d",
    ),
    (
        "a domain over one with a default that calls",
        "CREATE DOMAIN pier.t_d AS int DEFAULT pier.shut(1); CREATE DOMAIN pier.t_e AS pier.t_d; ALTER TABLE pier.t ALTER amount TYPE pier.t_e",
    ),
    ("a domain with a plain default", "CREATE DOMAIN pier.t_d AS int DEFAULT 1 + 1; ALTER TABLE pier.t ALTER amount TYPE pier.t_d"),
    (
        "a list of a domain",
        "CREATE DOMAIN pier.t_d AS int CHECK (pier.shut(VALUE) > 0); ALTER TABLE pier.t ADD many pier.t_d[] DEFAULT ARRAY[1]",
    ),
    ("an enumerated type", "CREATE TYPE pier.t_e AS ENUM ('calm', 'rough'); ALTER TABLE pier.t ADD sea pier.t_e DEFAULT 'calm'"),
    (
        "a child",
        "CREATE TABLE pier.t_c () INHERITS (pier.t); CREATE TRIGGER log BEFORE DELETE ON pier.t_c FOR EACH ROW EXECUTE FUNCTION pier.log(); INSERT INTO pier.t_c SELECT * FROM ONLY pier.t",
    ),
    (
        "a part",
        "DROP TABLE pier.t; CREATE TABLE pier.t (id int, amount int, note text) PARTITION BY RANGE (id); \
         CREATE TABLE pier.t_p PARTITION OF pier.t FOR VALUES FROM (0) TO (99); GRANT ALL ON pier.t TO clerk; \
         CREATE TRIGGER log BEFORE INSERT ON pier.t_p FOR EACH ROW EXECUTE FUNCTION pier.log()",
    ),
    (
        "a key to a table whose owner may not read it",
        "CREATE TABLE pier.t_k (id int PRIMARY KEY); INSERT INTO pier.t_k VALUES (1); ALTER TABLE pier.t ADD FOREIGN KEY (id) REFERENCES pier.t_k; \
         ALTER TABLE pier.t_k OWNER TO harbour; REVOKE ALL ON pier.t_k FROM harbour",
    ),
    (
        "a key",
        "CREATE TABLE pier.t_k (id int PRIMARY KEY); INSERT INTO pier.t_k VALUES (1); ALTER TABLE pier.t ADD FOREIGN KEY (id) REFERENCES pier.t_k",
    ),
    (
        "a view that asks as the caller",
        "ALTER TABLE pier.t RENAME TO t_b; CREATE VIEW pier.t WITH (security_invoker) AS SELECT id, amount, note FROM pier.t_b; REVOKE ALL ON pier.t_b FROM clerk; GRANT ALL ON pier.t TO clerk",
    ),
    (
        "a view over one that asks as the caller",
        "ALTER TABLE pier.t RENAME TO t_b; CREATE VIEW pier.t_v WITH (security_invoker) AS SELECT id, amount, note FROM pier.t_b; \
         CREATE VIEW pier.t AS SELECT id, amount, note FROM pier.t_v; REVOKE ALL ON pier.t_b FROM clerk; GRANT ALL ON pier.t TO clerk",
    ),
    (
        "a view that calls",
        "ALTER TABLE pier.t RENAME TO t_b; CREATE VIEW pier.t AS SELECT id, pier.shut(amount) AS amount, note FROM pier.t_b; GRANT ALL ON pier.t TO clerk",
    ),
    (
        "a view that asks a function for rows",
        "ALTER TABLE pier.t RENAME TO t_b; CREATE VIEW pier.t AS SELECT id, amount, note FROM pier.t_b WHERE pier.shut(amount) > 0; GRANT ALL ON pier.t TO clerk",
    ),
    (
        "a view with a trigger",
        "ALTER TABLE pier.t RENAME TO t_b; CREATE VIEW pier.t AS SELECT id, amount, note FROM pier.t_b; GRANT ALL ON pier.t TO clerk; \
         CREATE TRIGGER log INSTEAD OF INSERT ON pier.t FOR EACH ROW EXECUTE FUNCTION pier.log()",
    ),
    (
        "a view that joins what is closed",
        "ALTER TABLE pier.t RENAME TO t_b; CREATE VIEW pier.t AS SELECT id, amount, note FROM pier.t_b WHERE id IN (SELECT id FROM pier.closed); \
         ALTER VIEW pier.t OWNER TO harbour; GRANT ALL ON pier.t_b TO harbour; GRANT ALL ON pier.t TO clerk",
    ),
    (
        "a table of somebody else's whose key points to it",
        "ALTER TABLE pier.t ADD PRIMARY KEY (id); CREATE TABLE pier.t_f (id int REFERENCES pier.t); ALTER TABLE pier.t OWNER TO clerk",
    ),
    (
        "a table of the same owner whose key points to it",
        "ALTER TABLE pier.t ADD PRIMARY KEY (id); CREATE TABLE pier.t_f (id int REFERENCES pier.t); ALTER TABLE pier.t OWNER TO clerk; \
         ALTER TABLE pier.t_f OWNER TO clerk",
    ),
    (
        "a part of somebody else's",
        "DROP TABLE pier.t; CREATE TABLE pier.t (id int, amount int, note text) PARTITION BY RANGE (id); \
         ALTER TABLE pier.t OWNER TO clerk; CREATE TABLE pier.t_p PARTITION OF pier.t FOR VALUES FROM (0) TO (99)",
    ),
    ("an heir of somebody else's", "ALTER TABLE pier.t OWNER TO clerk; CREATE TABLE pier.t_h () INHERITS (pier.t)"),
    (
        "a table of a type, of somebody else's",
        "CREATE TYPE pier.t_y AS (id int); ALTER TYPE pier.t_y OWNER TO clerk; CREATE TABLE pier.t_o OF pier.t_y",
    ),
    ("columns only", "REVOKE ALL ON pier.t FROM clerk; GRANT SELECT (id), INSERT (id, amount), UPDATE (amount) ON pier.t TO clerk"),
];

/// What is tried on every table.
const ON_TABLES: &[&str] = &[
    "select id from pier.t",
    "select * from pier.t where amount > 1",
    "select count(*) from pier.t",
    "insert into pier.t (id) values (1)",
    "insert into pier.t (id, amount) values (1, default)",
    "insert into pier.t (id, amount, note) values (1, 2, 'x')",
    "insert into pier.t (id, amount) select id, amount from pier.t",
    "update pier.t set amount = 3",
    "update pier.t set amount = default",
    "update pier.t set note = 'y' where id = 1",
    "delete from pier.t",
    "delete from pier.t where id = 1",
    "truncate pier.t",
    "truncate pier.t restart identity",
    "alter table pier.t alter id type bigint",
    "create trigger more_still after insert on pier.t for each row execute function pier.log()",
    "create trigger more_still after insert on pier.t execute function pier.log()",
    "alter table pier.t add more_still int",
    "alter table pier.t rename note to remark",
    "alter type pier.t_y add attribute n int cascade",
    "alter type pier.t_y drop attribute id cascade",
    "select * from pier.t for update",
    "copy pier.t to stdout",
    "merge into pier.t using (values (1)) v(n) on v.n = pier.t.id when matched then update set amount = 4",
    "explain analyze delete from pier.t",
];

/// What is tried besides.
const BESIDES: &[&str] = &[
    "select pier.shut(1)",
    "select pier.open(1)",
    "select pier.atomic()",
    "select pier.reads()",
    "select pier.reads_as_owner()",
    "select pier.set_path()",
    "select pier.with_default(1)",
    "select pier.with_default()",
    "select pier.total(n) from (values (1)) v(n)",
    "call pier.act()",
    "select id from pier.closed",
    "select 'hidden.t'::regclass",
    "select regclass 'hidden.t'",
    "select cast('hidden.t' as regclass)",
    "select pg_relation_size('hidden.t')",
    "select pg_total_relation_size('hidden.t')",
    "select nextval('hidden.n')",
    "select nextval('pier.n')",
    "select pg_get_serial_sequence('hidden.t', 'id')",
    "select has_table_privilege('hidden.t', 'select')",
    "select to_regclass('hidden.t')",
    "select 'calm'::pier.mood",
    "select pier.mood 'calm'",
    "select 1::pier.weight",
    "select '{1}'::pier.weight[]",
    "select 'calm'::hidden.mood",
    "select 1 ### 2",
    "select abs(-1), lower('X'), now()",
    "create table pier.made (sea pier.mood)",
    "create table pier.made (sea pier.kept)",
    "create table pier.made (sea pier.kept[])",
    "create domain pier.made as pier.kept",
    "create type pier.made as (sea pier.kept)",
    "create function pier.made(pier.kept) returns int language sql as 'select 1'",
    "create function pier.made() returns pier.kept language sql as 'select null::pier.kept'",
    "create table pier.made (id int references pier.closed (id))",
    "create index on pier.own (pier.shut(id))",
    "create index on pier.own (id)",
    "alter table pier.own add column more int default pier.shut(1)",
    "alter table pier.own add column more int default 1",
    "alter table pier.own add check (pier.shut(id) > 0)",
    "alter table pier.own alter column id type pier.weight",
    "create role made in role pg_read_all_data",
    "create role made in role boss",
    "create role made",
    "grant boss to clerk",
    "insert into pier.own (id) values (1) on conflict (id) do update set id = excluded.id",
    "insert into pier.two (id, amount) values (1, 1) on conflict (id) do update set amount = excluded.amount",
    "insert into pier.two (id, amount) values (1, 1) on conflict (id) do nothing",
    "insert into pier.two (id, amount) values (1, 1)",
    "refresh materialized view pier.made_of_closed",
    "set role harbour",
    "select set_config('role', 'harbour', false)",
    "select query_to_xml('select * from pier.closed', true, true, '')",
    "select * from pg_catalog.pg_authid",
    "select current_user",
    "select current_setting('data_directory')",
    "show data_directory",
    "show search_path",
    "select pg_database_size('postgres')",
    "select pg_tablespace_size('pg_global')",
    "select to_tsvector('hidden.words', 'x')",
    "select to_tsvector('simple', 'x')",
    "select * from pg_sequence_parameters(1)",
];

const POSTGRESQL_BEGIN: &str = "
CREATE ROLE clerk LOGIN CREATEROLE; CREATE ROLE harbour; CREATE ROLE boss SUPERUSER;
CREATE SCHEMA pier; GRANT USAGE, CREATE ON SCHEMA pier TO clerk, harbour; CREATE SCHEMA hidden; CREATE TABLE hidden.t (id serial); CREATE SEQUENCE hidden.n;
CREATE TYPE hidden.mood AS ENUM ('calm');
CREATE TABLE pier.closed (id int PRIMARY KEY); CREATE SEQUENCE pier.n;
CREATE TABLE pier.own (id int PRIMARY KEY); ALTER TABLE pier.own OWNER TO clerk; INSERT INTO pier.own VALUES (1);
CREATE TABLE pier.two (id int PRIMARY KEY, amount int); GRANT INSERT, UPDATE, SELECT (id) ON pier.two TO clerk; INSERT INTO pier.two VALUES (1, 1);
CREATE FUNCTION pier.shut(int) RETURNS int LANGUAGE sql IMMUTABLE AS 'select $1'; REVOKE EXECUTE ON FUNCTION pier.shut FROM PUBLIC;
CREATE FUNCTION pier.open(int) RETURNS int LANGUAGE sql AS 'select $1';
CREATE FUNCTION pier.atomic() RETURNS bigint LANGUAGE sql BEGIN ATOMIC SELECT count(*) FROM pier.closed; END;
CREATE FUNCTION pier.reads() RETURNS bigint LANGUAGE sql AS 'select count(*) from pier.closed';
CREATE FUNCTION pier.reads_as_owner() RETURNS bigint LANGUAGE sql SECURITY DEFINER AS 'select count(*) from pier.closed';
CREATE FUNCTION pier.set_path() RETURNS int LANGUAGE sql SET search_path = hidden AS 'select 1';
CREATE FUNCTION pier.with_default(int DEFAULT pier.shut(1)) RETURNS int LANGUAGE sql AS 'select $1';
CREATE AGGREGATE pier.total (int) (SFUNC = int4pl, STYPE = int); REVOKE EXECUTE ON FUNCTION pier.total(int) FROM PUBLIC;
CREATE PROCEDURE pier.act() LANGUAGE plpgsql AS 'begin perform count(*) from pier.closed; end';
CREATE FUNCTION pier.log() RETURNS trigger LANGUAGE plpgsql AS 'begin insert into pier.closed values (1); return new; end';
CREATE OPERATOR public.### (FUNCTION = pier.shut_two, LEFTARG = int, RIGHTARG = int);
CREATE TYPE pier.mood AS ENUM ('calm'); CREATE TYPE pier.kept AS ENUM ('calm'); REVOKE USAGE ON TYPE pier.kept FROM PUBLIC;
CREATE DOMAIN pier.weight AS int CHECK (pier.shut(VALUE) > 0);
CREATE MATERIALIZED VIEW pier.made_of_closed AS SELECT id FROM pier.closed WITH NO DATA; ALTER MATERIALIZED VIEW pier.made_of_closed OWNER TO clerk";

/// What holds for the whole server, one at a time: how it is laid and how it is taken away.
const POSTGRESQL_SERVER: &[(&str, &str)] = &[
    ("ALTER ROLE clerk SET search_path = hidden", "ALTER ROLE clerk RESET search_path"),
    ("ALTER ROLE clerk SET role = harbour", "ALTER ROLE clerk RESET role"),
    ("ALTER ROLE clerk SET default_transaction_read_only = on", "ALTER ROLE clerk RESET default_transaction_read_only"),
    ("ALTER ROLE clerk SET statement_timeout = '1h'", "ALTER ROLE clerk RESET statement_timeout"),
    ("REVOKE EXECUTE ON FUNCTION pg_catalog.lower(text) FROM PUBLIC", "GRANT EXECUTE ON FUNCTION pg_catalog.lower(text) TO PUBLIC"),
    ("REVOKE EXECUTE ON FUNCTION pg_catalog.int4gt FROM PUBLIC", "GRANT EXECUTE ON FUNCTION pg_catalog.int4gt TO PUBLIC"),
    (
        "CREATE FUNCTION public.stop() RETURNS event_trigger LANGUAGE plpgsql AS 'begin raise insufficient_privilege; end'; \
         CREATE EVENT TRIGGER stop ON ddl_command_start EXECUTE FUNCTION public.stop()",
        "DROP EVENT TRIGGER stop; DROP FUNCTION public.stop",
    ),
    (
        "CREATE FUNCTION public.more(text, text) RETURNS boolean LANGUAGE sql AS 'select true'; REVOKE EXECUTE ON FUNCTION public.more FROM PUBLIC; \
         CREATE OPERATOR public.~~~~ (FUNCTION = public.more, LEFTARG = text, RIGHTARG = text)",
        "DROP OPERATOR public.~~~~ (text, text); DROP FUNCTION public.more",
    ),
];

/// What is tried once for each of them.
const ON_SERVER: &[&str] = &[
    "select id from pier.own",
    "select id from pier.own where id > 0",
    "select lower('X')",
    "select 'a' ~~~~ 'b'",
    "insert into pier.own (id) values (5)",
    "delete from pier.own",
    "create table pier.made (id int)",
    "select * from own",
    "select 1",
];

#[derive(Default)]
struct Found {
    counts: Counts,
    wrong: Vec<String>,
    statements: std::collections::BTreeSet<String>,
}

impl Found {
    /// Compares; `refused` is the server's word, where it refuses.
    fn compare(&mut self, engine: &Engine, trap: &str, question: &Question, refused: Option<String>) {
        let answer = engine.explain(question);
        self.statements.insert(format!("{trap}: {}", question.line));
        let what = match (answer.verdict == Verdict::Allowed, refused) {
            (true, Some(why)) => {
                self.wrong.push(format!("{trap}: {}\n    server: {why}", question.line));
                "allowed by us alone"
            }
            (true, None) => "allowed by both",
            (false, Some(_)) if answer.refusal == Some(Refusal::NotDecided) => "refused by the server, not decided by us",
            (false, Some(_)) => "refused by both",
            (false, None) if answer.refusal == Some(Refusal::NotDecided) => "done by the server, not decided by us",
            (false, None) => "done by the server, refused by us",
        };
        self.counts.add(what, 1);
    }

    fn done(&self, what: &str) {
        assert!(self.wrong.is_empty(), "{} allowed by us alone:\n{}", self.wrong.len(), self.wrong.join("\n"));
        eprintln!("  {:>9}  different statements on {what}", self.statements.len());
        self.counts.print(what);
        assert!(self.statements.len() >= 200, "{} statements", self.statements.len());
    }
}

fn engine_of(document: &str) -> Engine {
    let estate = Ledger::new().document("read.toml", document).estate().unwrap_or_else(|f| panic!("{f}\n{document}"));
    Engine::compile(estate).unwrap_or_else(|f| panic!("{f}"))
}

#[test]
fn postgresql_refuses_nothing_that_we_allow() {
    let Some(server) = servers::wanted(servers::postgresql) else { return };
    let mut admin = crate::postgresql::open(&server, "postgres");
    crate::postgresql::sql(&mut admin, "CREATE DATABASE pier TEMPLATE template0");
    let mut session = crate::postgresql::open(&server, "pier");
    crate::postgresql::sql(&mut session, "CREATE SCHEMA first; CREATE FUNCTION first.two(int, int) RETURNS int LANGUAGE sql AS 'select 1'");
    let begin = POSTGRESQL_BEGIN.replace("pier.shut_two", "first.two");
    crate::postgresql::sql(&mut session, &begin);
    let connect = |user: &str| {
        let target = postgresql::Target {
            host: "127.0.0.1".to_owned(),
            port: server.port,
            user: user.to_owned(),
            database: "pier".to_owned(),
            password: None,
            encryption: zest_bridges::Encryption::default(),
        };
        postgresql::Session::open(&target).expect("it signs in")
    };
    let mut found = Found::default();
    let mut attempt = |session: &mut postgresql::Session, trap: &str, statements: &[&str]| {
        let engine = engine_of(&session.read().expect("reads").document("pier", None));
        let mut clerk = connect("clerk");
        for statement in statements {
            let _ = clerk.client().batch_execute("BEGIN");
            let theirs = clerk.client().batch_execute(statement);
            let _ = clerk.client().batch_execute("ROLLBACK");
            let refused = theirs.err().and_then(|e| e.as_db_error().map(|d| format!("{} ({})", d.message(), d.code().code())));
            // Whether a row fits, or there is such an operator, is not a matter of rights.
            let refused = refused.filter(|r| {
                !["(23505)", "(23502)", "(55000)", "(428C9)", "(42809)", "(0A000)", "(42883)"].iter().any(|code| r.ends_with(code))
            });
            found.compare(&engine, trap, &Question::statement("clerk", "pier", statement), refused);
        }
    };
    attempt(&mut session, "besides", BESIDES);
    for (trap, lay) in POSTGRESQL {
        let table =
            "CREATE TABLE pier.t (id int, amount int, note text); INSERT INTO pier.t VALUES (1, 2, 'x'); GRANT ALL ON pier.t TO clerk";
        crate::postgresql::sql(&mut session, &format!("{table}; {lay}"));
        attempt(&mut session, trap, ON_TABLES);
        crate::postgresql::sql(
            &mut session,
            "DO $$ DECLARE r record; BEGIN
               FOR r IN SELECT oid::regclass AS name, relkind FROM pg_class WHERE relnamespace = 'pier'::regnamespace AND relname ~ '^t(_.)?$' AND relkind = 'v'
                 LOOP EXECUTE format('DROP VIEW IF EXISTS %s CASCADE', r.name); END LOOP;
               FOR r IN SELECT c.oid::regclass AS name FROM pg_class c WHERE relnamespace = 'pier'::regnamespace AND relname ~ '^t(_.)?$' AND relkind IN ('r', 'p') ORDER BY relname DESC
                 LOOP EXECUTE format('DROP TABLE IF EXISTS %s CASCADE', r.name); END LOOP;
             END $$; DROP DOMAIN IF EXISTS pier.t_d CASCADE; DROP TYPE IF EXISTS pier.t_e, pier.t_y CASCADE; DROP SEQUENCE IF EXISTS pier.t_n",
        );
    }
    for (lay, take_away) in POSTGRESQL_SERVER {
        crate::postgresql::sql(&mut session, lay);
        attempt(&mut session, lay, ON_SERVER);
        crate::postgresql::sql(&mut session, take_away);
    }
    found.done("PostgreSQL, what is not modelled");
}

/// For each trap: what it is, and the statements that lay it for the table `pier.t`.
const MARIADB: &[(&str, &[&str])] = &[
    ("nothing", &[]),
    ("a check", &["ALTER TABLE pier.t ADD CHECK (amount > 0)"]),
    ("a default", &["ALTER TABLE pier.t ALTER amount SET DEFAULT (1 + 1)"]),
    ("a generated column", &["ALTER TABLE pier.t ADD more int AS (amount + 1) STORED"]),
    ("a trigger on insert", &["CREATE TRIGGER pier.log BEFORE INSERT ON pier.t FOR EACH ROW INSERT INTO pier.closed VALUES (1)"]),
    (
        "a trigger in the name of nobody much",
        &["CREATE DEFINER='nobody'@'localhost' TRIGGER pier.log BEFORE INSERT ON pier.t FOR EACH ROW INSERT INTO pier.closed VALUES (1)"],
    ),
    (
        "a trigger on update",
        &["CREATE DEFINER='nobody'@'localhost' TRIGGER pier.log AFTER UPDATE ON pier.t FOR EACH ROW INSERT INTO pier.closed VALUES (1)"],
    ),
    (
        "a trigger on delete",
        &["CREATE DEFINER='nobody'@'localhost' TRIGGER pier.log AFTER DELETE ON pier.t FOR EACH ROW INSERT INTO pier.closed VALUES (1)"],
    ),
    (
        "a trigger that was made under another mode",
        &[
            "GRANT TRIGGER ON pier.t TO nobody@localhost",
            "SET sql_mode = 'ANSI_QUOTES'",
            "CREATE DEFINER=nobody@localhost TRIGGER pier.log BEFORE INSERT ON pier.t FOR EACH ROW SET @a = NEW.\"amount\"",
            "SET sql_mode = DEFAULT",
        ],
    ),
    (
        "a trigger of a role",
        &["CREATE DEFINER=harbour TRIGGER pier.log BEFORE INSERT ON pier.t FOR EACH ROW INSERT INTO pier.closed VALUES (1)"],
    ),
    (
        "a trigger of somebody who is gone",
        &["CREATE DEFINER=gone@localhost TRIGGER pier.log BEFORE INSERT ON pier.t FOR EACH ROW INSERT INTO pier.closed VALUES (1)"],
    ),
    (
        "triggers one behind the other",
        &[
            "CREATE TRIGGER pier.log BEFORE INSERT ON pier.t FOR EACH ROW SET @a = 1",
            "CREATE DEFINER=nobody@localhost TRIGGER pier.log_too BEFORE INSERT ON pier.t FOR EACH ROW PRECEDES log SET @a = 2",
        ],
    ),
    ("a key", &["ALTER TABLE pier.t ADD FOREIGN KEY (id) REFERENCES pier.closed (id)"]),
    ("a view", &["RENAME TABLE pier.t TO pier.t_b", "CREATE VIEW pier.t AS SELECT id, amount, note FROM pier.t_b"]),
    (
        "a view that asks as the caller",
        &["RENAME TABLE pier.t TO pier.t_b", "CREATE SQL SECURITY INVOKER VIEW pier.t AS SELECT id, amount, note FROM pier.t_b"],
    ),
    (
        "a view over one that asks as the caller",
        &[
            "RENAME TABLE pier.t TO pier.t_b",
            "CREATE SQL SECURITY INVOKER VIEW pier.t_v AS SELECT id, amount, note FROM pier.t_b",
            "CREATE VIEW pier.t AS SELECT id, amount, note FROM pier.t_v",
        ],
    ),
    (
        "a view of nobody much",
        &["RENAME TABLE pier.t TO pier.t_b", "CREATE DEFINER='nobody'@'localhost' VIEW pier.t AS SELECT id, amount, note FROM pier.t_b"],
    ),
    (
        "a view of somebody who is gone",
        &["RENAME TABLE pier.t TO pier.t_b", "CREATE DEFINER='gone'@'localhost' VIEW pier.t AS SELECT id, amount, note FROM pier.t_b"],
    ),
    (
        "a view of a role",
        &["RENAME TABLE pier.t TO pier.t_b", "CREATE DEFINER=harbour VIEW pier.t AS SELECT id, amount, note FROM pier.t_b"],
    ),
    (
        "a view that calls",
        &[
            "RENAME TABLE pier.t TO pier.t_b",
            "CREATE DEFINER='nobody'@'localhost' VIEW pier.t AS SELECT id, pier.shut(amount) AS amount, note FROM pier.t_b",
        ],
    ),
];

const MARIADB_ON_TABLES: &[&str] = &[
    "select id from pier.t",
    "select * from pier.t where amount > 1",
    "select count(*) from pier.t",
    "insert into pier.t (id, amount, note) values (1, 2, 'x')",
    "insert into pier.t (id) values (1)",
    "replace into pier.t (id, amount, note) values (1, 2, 'x')",
    "insert into pier.t (id) select id from pier.t",
    "update pier.t set amount = 3",
    "update pier.t set amount = default",
    "update pier.t join pier.closed c on c.id = pier.t.id set amount = 3",
    "delete from pier.t",
    "delete from pier.t where id = 1",
    "delete pier.t from pier.t join pier.closed c on c.id = pier.t.id",
    "delete from pier.t using pier.t join pier.two on two.id = pier.t.id",
    "select id from pier.t for update",
    "explain select id from pier.t",
    "explain delete from pier.t",
    "select id /*! , note */ from pier.t",
    "select id from pier.t /*M! join pier.closed c */",
    "select id from pier.t /*!50000 where id in (select id from pier.closed) */",
];

const MARIADB_BESIDES: &[&str] = &[
    "select pier.shut(1)",
    "select pier.open_(1)",
    "select pier.reads()",
    "select pier.reads_as_nobody()",
    "call pier.act()",
    "call pier.act_as_nobody()",
    "call pier.act_as_role()",
    "call pier.made_under_another_mode()",
    "call pier.act_as_gone()",
    "select id from pier.closed",
    "select 1 /*!+ (select max(id) from pier.closed) */",
    "select 1 /*M!100100 from pier.closed */",
    "update pier.own, pier.closed set own.id = 2",
    "update pier.own join pier.two on two.id = own.id set own.id = 2",
    "update pier.own join pier.two using (id) set two.amount = own.id",
    "delete own from pier.own join pier.closed",
    "delete own, two from pier.own join pier.two",
    "delete from own, two using pier.own join pier.two",
    "create definer='root'@'localhost' view pier.made as select id from pier.own",
    "create definer = root@localhost sql security definer view pier.made as select id from pier.own",
    "create or replace definer='nobody'@'localhost' view pier.made as select id from pier.own",
    "create definer='clerk'@'127.0.0.1' view pier.made as select id from pier.own",
    "create view pier.made as select id from pier.own",
    "create view pier.made as select id from pier.closed",
    "create definer='root'@'localhost' procedure pier.made() select 1",
    "create definer='root'@'localhost' function pier.made() returns int return 1",
    "create definer='root'@'localhost' trigger pier.made before insert on pier.own for each row set new.id = 1",
    "create table pier.made (id int)",
    "create table pier.made (id int references pier.closed (id))",
    "create table pier.made (id int, foreign key (id) references pier.closed (id))",
    "alter table pier.own add column more int references pier.closed (id)",
    "alter table pier.own add foreign key (id) references pier.closed (id)",
    "alter table pier.own add column more int",
    "explain select id from pier.shown",
    "explain select id from pier.own",
    "show create view pier.shown",
    "select id from pier.shown",
    "set role harbour",
    "set role given",
    "insert into pier.two (id, amount) values (1, 1) on duplicate key update amount = values(amount)",
    "insert into pier.two (id, amount) values (1, 1) on duplicate key update id = 1",
    "truncate pier.own",
    "truncate pier.two",
    "load data infile '/etc/passwd' into table pier.own",
    "select id from pier.own into outfile '/tmp/zest-never'",
    "select load_file('/etc/passwd')",
    "lock tables pier.own read",
    "grant select on pier.own to 'nobody'@'localhost'",
    "create user made",
    "do pier.shut(1)",
];

const MARIADB_BEGIN: &[&str] = &[
    "CREATE DATABASE pier",
    "CREATE USER clerk@127.0.0.1",
    "CREATE USER nobody@localhost",
    "CREATE ROLE harbour",
    "CREATE ROLE given",
    "GRANT given TO PUBLIC",
    "CREATE TABLE pier.closed (id int PRIMARY KEY)",
    "INSERT INTO pier.closed VALUES (1)",
    "CREATE TABLE pier.own (id int PRIMARY KEY)",
    "CREATE TABLE pier.two (id int PRIMARY KEY, amount int)",
    "GRANT ALL ON pier.own TO clerk@127.0.0.1",
    "GRANT INSERT, UPDATE ON pier.two TO clerk@127.0.0.1",
    "GRANT CREATE VIEW, CREATE, CREATE ROUTINE ON pier.* TO clerk@127.0.0.1",
    "CREATE VIEW pier.shown AS SELECT id FROM pier.closed",
    "GRANT SELECT ON pier.shown TO clerk@127.0.0.1",
    "CREATE FUNCTION pier.shut(n int) RETURNS int RETURN n",
    "CREATE FUNCTION pier.open_(n int) RETURNS int RETURN n",
    "CREATE FUNCTION pier.reads() RETURNS int SQL SECURITY INVOKER RETURN (SELECT count(*) FROM pier.closed)",
    "CREATE DEFINER=nobody@localhost FUNCTION pier.reads_as_nobody() RETURNS int RETURN (SELECT count(*) FROM pier.closed)",
    "CREATE PROCEDURE pier.act() SQL SECURITY INVOKER SELECT count(*) FROM pier.closed",
    "CREATE DEFINER=nobody@localhost PROCEDURE pier.act_as_nobody() SELECT count(*) FROM pier.closed",
    "CREATE DEFINER=harbour PROCEDURE pier.act_as_role() SELECT count(*) FROM pier.closed",
    "CREATE DEFINER=gone@localhost PROCEDURE pier.act_as_gone() SELECT 1",
    "SET sql_mode = 'ANSI_QUOTES'",
    "CREATE PROCEDURE pier.made_under_another_mode() SQL SECURITY INVOKER SELECT \"amount\" FROM pier.two",
    "SET sql_mode = DEFAULT",
    "GRANT SELECT (id) ON pier.two TO clerk@127.0.0.1",
    "GRANT EXECUTE ON PROCEDURE pier.made_under_another_mode TO clerk@127.0.0.1",
    "GRANT EXECUTE ON FUNCTION pier.open_ TO clerk@127.0.0.1",
    "GRANT EXECUTE ON FUNCTION pier.READS TO clerk@127.0.0.1",
    "GRANT EXECUTE ON FUNCTION pier.reads_as_nobody TO clerk@127.0.0.1",
    "GRANT EXECUTE ON PROCEDURE pier.act TO clerk@127.0.0.1",
    "GRANT EXECUTE ON PROCEDURE pier.Act_As_Nobody TO clerk@127.0.0.1",
    "GRANT EXECUTE ON PROCEDURE pier.act_as_role TO clerk@127.0.0.1",
    "GRANT EXECUTE ON PROCEDURE pier.act_as_gone TO clerk@127.0.0.1",
    "CREATE TABLE pier.to_go (id int)",
    "GRANT SELECT ON pier.to_go TO clerk@127.0.0.1",
    "DROP TABLE pier.to_go",
];

#[test]
fn mariadb_refuses_nothing_that_we_allow() {
    let Some(server) = servers::wanted(servers::mariadb) else { return };
    let mut session = crate::mariadb::open(&server);
    let run = |session: &mut mariadb::Session, text: &str| session.client().query_drop(text).unwrap_or_else(|e| panic!("{text}: {e}"));
    MARIADB_BEGIN.iter().for_each(|text| run(&mut session, text));
    let mut found = Found::default();
    let mut attempt = |session: &mut mariadb::Session, trap: &str, statements: &[&str]| {
        let state = session.read().expect("reads");
        let engine = engine_of(&state.document("pier", None));
        let estate = Ledger::new().document("read.toml", &state.document("pier", None)).estate().unwrap_or_else(|f| panic!("{f}"));
        let again = zest_ledger::mariadb::state_of(&estate, "pier", None).expect("it is there");
        assert_eq!(state.drift(&again), Vec::new(), "{trap}: what was read, read again");
        for statement in statements {
            let mut clerk = mysql::Conn::new(
                mysql::OptsBuilder::new().ip_or_hostname(Some("127.0.0.1")).tcp_port(server.port).user(Some("clerk")).prefer_socket(false),
            )
            .expect("it signs in");
            let _ = clerk.query_drop("START TRANSACTION");
            let theirs = clerk.query_iter(statement).and_then(|mut rows| rows.try_for_each(|row| row.map(drop)));
            let _ = clerk.query_drop("ROLLBACK");
            let refused = theirs.err().map(|e| e.to_string());
            // Whether a row fits is not a matter of rights.
            let refused = refused.filter(|r| {
                !["1062", "1364", "1451", "1452", "4025", "1050", "1776", "1393", "1394", "1395"]
                    .iter()
                    .any(|code| r.contains(&format!("ERROR {code} ")))
            });
            let question = Question::statement("clerk", "pier", statement).from("127.0.0.1".parse().expect("an address"));
            found.compare(&engine, trap, &question, refused);
        }
    };
    attempt(&mut session, "besides", MARIADB_BESIDES);
    for (trap, lay) in MARIADB {
        for text in [
            "DROP VIEW IF EXISTS pier.t",
            "DROP VIEW IF EXISTS pier.t_v",
            "DROP TABLE IF EXISTS pier.t, pier.t_b, pier.made",
            "DROP VIEW IF EXISTS pier.made",
        ] {
            run(&mut session, text);
        }
        run(&mut session, "CREATE TABLE pier.t (id int, amount int, note text)");
        run(&mut session, "INSERT INTO pier.t VALUES (1, 2, 'x')");
        lay.iter().for_each(|text| run(&mut session, text));
        run(&mut session, "GRANT SELECT, INSERT, UPDATE, DELETE ON pier.t TO clerk@127.0.0.1");
        attempt(&mut session, trap, MARIADB_ON_TABLES);
    }
    found.done("MariaDB, what is not modelled");
}
