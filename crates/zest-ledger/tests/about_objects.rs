//! Statements about objects, settings and sessions on both databases, and several in one text, row by row; `zest-bridges` holds thousands
//! of them against the servers.

use std::sync::LazyLock;

use zest_ledger::ask::{Refusal, Verdict};
use zest_ledger::{Engine, Question};

use crate::support::engine;

static POSTGRESQL: LazyLock<Engine> = LazyLock::new(|| {
    engine(
        "[users.root]\nproofs = ['password']\n[users.owner]\nproofs = ['password']\n[users.clerk]\nproofs = ['password']\n\
         [users.watch]\nproofs = ['password']\n\
         [systems.db]\nkind = 'postgresql'\ndatabase = 'db'\n\
         [databases.db]\nowner = 'owner'\nnot-modelled = ['disabled event trigger asleep of root']\n\
         [databases.db.accounts]\nroot = { may = ['superuser'] }\nowner = { member-of = ['desk'] }\nclerk = { member-of = ['desk'] }\n\
         watch = { member-of = ['pg_monitor'] }\n\
         [databases.db.roles]\ndesk = {}\nother = {}\n\
         [databases.db.objects]\n'schema s' = { owner = 'owner' }\n'schema shut' = { owner = 'owner' }\n'schema desk' = { owner = 'desk' }\n\
         'type s.mood' = { owner = 'owner', values = ['calm'] }\n'language plpgsql' = {}\n'language sql' = {}\n\
         'table s.t' = { owner = 'owner', columns = { id = 'integer', mood = 's.mood' }, triggers = { kept = 'CREATE TRIGGER kept AFTER TRUNCATE ON s.t EXECUTE FUNCTION s.made()' } }\n\
         'table s.plain' = { owner = 'owner', columns = { id = 'integer' } }\n\
         'table shut.t' = { owner = 'owner', columns = { id = 'integer' } }\n\
         'table desk.own' = { owner = 'desk', columns = { id = 'integer' } }\n\
         'sequence s.n' = { owner = 'owner' }\n\
         'view s.v' = { owner = 'owner', columns = ['id'], query = 'SELECT id FROM s.plain' }\n\
         [databases.db.objects.'function s.f(integer)']\nowner = 'owner'\nlanguage = 'sql'\nreturns = 'integer'\nbody = 'select 1'\n\
         [databases.db.objects.'function s.f(numeric)']\nowner = 'owner'\nlanguage = 'sql'\nreturns = 'integer'\nbody = 'select 1'\n\
         [databases.db.objects.'function s.made()']\nowner = 'owner'\nlanguage = 'plpgsql'\nreturns = 'trigger'\nbody = 'begin end'\n\
         [databases.db.objects.'function shut.hidden()']\nowner = 'owner'\nlanguage = 'sql'\nreturns = 'integer'\nbody = 'select 1'\n\
         [[databases.db.grants]]\nallow = ['usage']\non = 'schema s'\nto = ['desk']\n\
         [[databases.db.grants]]\nallow = ['select']\non = ['table s.t', 'table s.plain', 'view s.v']\nto = ['desk']\n\
         [[databases.db.grants]]\nallow = ['trigger', 'references']\non = 'table s.plain'\nto = ['desk']\n\
         [[databases.db.grants]]\nrevoke = ['execute']\non = 'function s.f(numeric)'\nfrom = ['public']\n\
         [[databases.db.grants]]\nrevoke = ['usage']\non = 'type s.mood'\nfrom = ['public']\n",
    )
});

static MARIADB: LazyLock<Engine> = LazyLock::new(|| {
    engine(
        "[users.chief]\nproofs = ['password']\n[users.clerk]\nproofs = ['password']\n[users.watch]\nproofs = ['password']\n\
         [systems.db]\nkind = 'mariadb'\n[databases.db]\nnot-modelled = ['names are not resolved', 'binlog without trust']\n\
         [databases.db.accounts]\n'root@localhost' = {}\n'chief@%' = {}\n'clerk@%' = { member-of = ['desk'] }\n'watch@%' = {}\n\
         [databases.db.roles]\ndesk = {}\n\
         [databases.db.objects]\n'database club' = {}\n'database shut' = {}\n\
         'table club.t' = { columns = { id = 'int', name = 'text' }, not-modelled = ['trigger kept on insert'] }\n\
         'table club.plain' = { columns = { id = 'int' } }\n'table shut.t' = { columns = { id = 'int' } }\n\
         [databases.db.objects.'view club.v']\nowner = 'root@localhost'\ncolumns = ['id']\nquery = 'SELECT id FROM club.plain'\n\
         [databases.db.objects.'procedure club.p']\nowner = 'root@localhost'\nbody = 'SELECT 1'\n\
         [[databases.db.grants]]\nallow = ['select', 'insert', 'alter', 'drop', 'create', 'index', 'create view', 'create routine', 'lock tables']\n\
         on = 'database club'\nto = ['clerk@%']\n\
         [[databases.db.grants]]\nallow = ['select']\non = 'table club.plain'\nto = ['watch@%']\n\
         [[databases.db.grants]]\nallow = ['process', 'reload', 'binlog monitor', 'connection admin']\non = 'everything'\nto = ['watch@%']\n\
         [[databases.db.grants]]\nallow = ['select']\non = 'database shut'\nto = ['desk']\n\
         [[databases.db.grants]]\nallow = ['super', 'set user', 'create routine', 'trigger', 'create view', 'select']\non = 'everything'\nto = ['chief@%']\n",
    )
});

fn is(engine: &Engine, question: &Question, expected: Option<Refusal>) {
    let answer = engine.explain(question);
    assert_eq!(answer.refusal.is_none(), answer.verdict == Verdict::Allowed, "{}", question.line);
    let told: Vec<&str> = answer.gates.iter().map(|gate| gate.text.as_str()).collect();
    assert_eq!(answer.refusal, expected, "{}: {}\n{told:#?}", question.user, question.line);
}

macro_rules! rows {
    ($name:ident on $question:ident: $($user:literal $statement:literal => $expected:expr;)+) => {
        #[test]
        fn $name() {
            $($question($user, $statement, $expected);)+
        }
    };
}

fn postgresql(user: &str, statement: &str, expected: Option<Refusal>) {
    is(&POSTGRESQL, &Question::statement(user, "db", statement), expected);
}

fn mariadb(user: &str, statement: &str, expected: Option<Refusal>) {
    is(&MARIADB, &Question::statement(user, "db", statement).from("192.0.2.7".parse().expect("an address")), expected);
}

const NOT_OWNER: Option<Refusal> = Some(Refusal::NotOwner);
const NO_PRIVILEGE: Option<Refusal> = Some(Refusal::NoPrivilege);
const NOT_DECIDED: Option<Refusal> = Some(Refusal::NotDecided);
const NOT_A_MEMBER: Option<Refusal> = Some(Refusal::RoleNotGranted);
const UNREADABLE: Option<Refusal> = Some(Refusal::StatementUnreadable);
const SWITCH_OFF: Option<Refusal> = Some(Refusal::SwitchOff);

rows! { an_object_is_given_away_by_its_owner_to_a_role_of_his_that_may_make_such on postgresql:
    "owner" "REINDEX TABLE CONCURRENTLY s.t" => None;
    "owner" "REINDEX (VERBOSE, CONCURRENTLY false) TABLE s.t" => None;
    "owner" "REINDEX SCHEMA s" => None;
    "clerk" "REINDEX TABLE s.t" => Some(Refusal::NotOwner);
    "clerk" "REINDEX (VERBOSE) SCHEMA s" => Some(Refusal::NotOwner);
    "owner" "REINDEX INDEX s.i" => Some(Refusal::StatementUnreadable);
    "owner" "REINDEX (TABLESPACE fast) TABLE s.t" => Some(Refusal::StatementUnreadable);
    "owner" "ALTER TABLE s.t OWNER TO other" => NOT_A_MEMBER;
    "owner" "alter table s.t owner to desk" => NO_PRIVILEGE;
    "owner" "ALTER TABLE s.t OWNER TO CURRENT_USER" => None;
    "clerk" "ALTER TABLE s.t OWNER TO owner" => NOT_OWNER;
    "clerk" "ALTER FUNCTION s.f(int) OWNER TO owner" => None;
    "clerk" "ALTER FUNCTION s.f(int) OWNER TO desk" => NOT_OWNER;
    "root" "ALTER VIEW s.v OWNER TO other" => None;
    "owner" "ALTER SCHEMA s OWNER TO desk" => None;
    "clerk" "ALTER SCHEMA desk OWNER TO clerk" => NO_PRIVILEGE;
    "owner" "ALTER DATABASE db OWNER TO desk" => SWITCH_OFF;
    "owner" "ALTER TABLE s.t OWNER TO nobody_here" => NOT_DECIDED;
}

rows! { what_hangs_on_a_table_is_its_owners on postgresql:
    "owner" "CREATE POLICY p ON s.t USING (true)" => None;
    "clerk" "CREATE POLICY p ON s.t USING (true)" => NOT_OWNER;
    "clerk" "ALTER POLICY p ON s.t TO desk" => NOT_OWNER;
    "clerk" "DROP POLICY IF EXISTS p ON s.t" => NOT_DECIDED;
    "clerk" "CREATE RULE r AS ON DELETE TO s.t DO NOTHING" => NOT_OWNER;
    "clerk" "CREATE TRIGGER x AFTER INSERT ON s.plain FOR EACH ROW EXECUTE FUNCTION s.made()" => None;
    "clerk" "CREATE TRIGGER x AFTER INSERT ON s.t FOR EACH ROW EXECUTE FUNCTION s.made()" => NO_PRIVILEGE;
    "clerk" "CREATE CONSTRAINT TRIGGER x AFTER INSERT ON s.plain DEFERRABLE FOR EACH ROW EXECUTE FUNCTION s.made()" => None;
    "clerk" "CREATE CONSTRAINT TRIGGER x AFTER INSERT ON s.plain FROM s.t FOR EACH ROW EXECUTE FUNCTION s.made()" => NO_PRIVILEGE;
    "owner" "CREATE CONSTRAINT TRIGGER x AFTER INSERT ON s.plain FROM s.t FOR EACH ROW EXECUTE FUNCTION s.made()" => None;
    "clerk" "DROP TRIGGER x ON s.plain" => NOT_DECIDED;
    "clerk" "DROP TRIGGER kept ON s.t" => NOT_OWNER;
    "owner" "DROP TRIGGER kept ON s.t" => None;
    "clerk" "ALTER TRIGGER kept ON s.t DEPENDS ON EXTENSION plpgsql" => NOT_OWNER;
    "clerk" "ALTER TRIGGER x ON s.t NO DEPENDS ON EXTENSION plpgsql" => NOT_DECIDED;
    "owner" "ALTER TRIGGER kept ON s.t NO DEPENDS ON EXTENSION plpgsql" => None;
    "clerk" "ALTER EVENT TRIGGER asleep ENABLE ALWAYS" => NO_PRIVILEGE;
    "clerk" "COMMENT ON EVENT TRIGGER asleep IS 'x'" => NO_PRIVILEGE;
    "clerk" "DROP EVENT TRIGGER asleep CASCADE" => NO_PRIVILEGE;
    "clerk" "DROP EVENT TRIGGER IF EXISTS other" => None;
    "clerk" "DROP EVENT TRIGGER other" => NOT_DECIDED;
    "root" "ALTER EVENT TRIGGER asleep DISABLE" => None;
    "root" "ALTER EVENT TRIGGER asleep OWNER TO clerk" => SWITCH_OFF;
    "clerk" "ALTER EVENT TRIGGER asleep OWNER TO root" => None;
    "clerk" "CREATE RECURSIVE VIEW s.r (n) AS SELECT id FROM s.plain" => NO_PRIVILEGE;
    "clerk" "CREATE RECURSIVE VIEW desk.r (n) AS SELECT id FROM s.plain UNION SELECT n + 1 FROM r" => None;
    "clerk" "CREATE OR REPLACE RECURSIVE VIEW desk.r (n) AS SELECT id FROM shut.t" => Some(Refusal::SchemaShut);
    "clerk" "CREATE RECURSIVE VIEW desk.r (n) AS SELECT id FROM s.plain WITH CHECK OPTION" => UNREADABLE;
    "clerk" "CREATE VIEW desk.w AS SELECT id FROM s.plain WITH LOCAL CHECK OPTION" => None;
    "clerk" "CREATE VIEW s.w AS SELECT id FROM s.plain WITH CHECK OPTION" => NO_PRIVILEGE;
    "owner" "GRANT SELECT (gone) ON s.t TO desk" => NOT_DECIDED;
    "clerk" "REVOKE ALL (gone) ON s.t FROM desk" => NOT_DECIDED;
    "clerk" "COMMENT ON COLUMN s.t.id IS 'x'" => NOT_OWNER;
    "clerk" "COMMENT ON ROLE other IS 'x'" => SWITCH_OFF;
    "owner" "ALTER TABLE s.t FORCE ROW LEVEL SECURITY, ALTER id SET STATISTICS 5" => None;
    "owner" "ALTER TABLE s.t INHERIT desk.own" => None;
    "clerk" "ALTER TABLE desk.own INHERIT s.t" => NOT_OWNER;
    "owner" "ALTER TABLE s.t DISABLE TRIGGER ALL" => NOT_DECIDED;
}

rows! { what_is_made_needs_its_schema_its_language_and_its_types on postgresql:
    "clerk" "CREATE FUNCTION desk.g() RETURNS integer LANGUAGE sql AS 'select 1'" => None;
    "clerk" "CREATE FUNCTION s.g() RETURNS integer LANGUAGE sql AS 'select 1'" => NO_PRIVILEGE;
    "clerk" "CREATE FUNCTION desk.g(s.mood) RETURNS integer LANGUAGE sql AS 'select 1'" => NO_PRIVILEGE;
    "owner" "CREATE FUNCTION s.g() RETURNS integer LANGUAGE c AS 'a', 'b'" => NO_PRIVILEGE;
    "owner" "CREATE FUNCTION s.g() RETURNS integer LANGUAGE sql LEAKPROOF AS 'select 1'" => SWITCH_OFF;
    "clerk" "CREATE OR REPLACE FUNCTION s.f(integer) RETURNS integer LANGUAGE sql AS 'select 2'" => NO_PRIVILEGE;
    "clerk" "CREATE TABLE desk.x AS SELECT id FROM s.plain" => None;
    "clerk" "CREATE TABLE desk.x AS SELECT * FROM s.t" => NOT_DECIDED;
    "clerk" "SELECT id INTO desk.x FROM s.plain" => None;
    "clerk" "SELECT id INTO s.x FROM s.plain" => NO_PRIVILEGE;
    "clerk" "CREATE TABLE desk.x (LIKE s.plain INCLUDING ALL)" => None;
    "clerk" "CREATE TABLE desk.x (LIKE s.t)" => NO_PRIVILEGE;
    "clerk" "CREATE TABLE desk.x () INHERITS (s.plain)" => NOT_OWNER;
    "clerk" "CREATE TABLE desk.x (p integer REFERENCES s.plain)" => None;
    "clerk" "CREATE TABLE desk.x (p integer REFERENCES s.t)" => NO_PRIVILEGE;
    "clerk" "CREATE MATERIALIZED VIEW desk.x AS SELECT * FROM shut.t WITH NO DATA" => Some(Refusal::SchemaShut);
    "clerk" "CREATE SCHEMA x AUTHORIZATION CURRENT_USER" => NO_PRIVILEGE;
    "owner" "CREATE PUBLICATION x FOR TABLE s.t" => None;
    "owner" "CREATE PUBLICATION x FOR ALL TABLES" => SWITCH_OFF;
    "owner" "CREATE EVENT TRIGGER x ON ddl_command_start EXECUTE FUNCTION s.made()" => SWITCH_OFF;
}

rows! { defaults_for_later_objects_are_those_of_a_role_that_one_may_become on postgresql:
    "clerk" "ALTER DEFAULT PRIVILEGES GRANT SELECT ON TABLES TO other" => None;
    "clerk" "ALTER DEFAULT PRIVILEGES FOR ROLE desk IN SCHEMA s REVOKE ALL ON TABLES FROM PUBLIC" => None;
    "clerk" "ALTER DEFAULT PRIVILEGES FOR ROLE owner GRANT SELECT ON TABLES TO clerk" => NOT_A_MEMBER;
    "clerk" "ALTER DEFAULT PRIVILEGES IN SCHEMA nowhere GRANT SELECT ON TABLES TO clerk" => NOT_DECIDED;
}

rows! { the_servers_own_tables_settings_and_functions on postgresql:
    "clerk" "SELECT relname FROM pg_class" => None;
    "clerk" "SELECT rolpassword FROM pg_authid" => NO_PRIVILEGE;
    "root" "SELECT rolpassword FROM pg_catalog.pg_authid" => None;
    "clerk" "UPDATE pg_class SET relname = 'x'" => NO_PRIVILEGE;
    "clerk" "SELECT subname FROM pg_subscription" => None;
    "clerk" "SELECT subconninfo FROM pg_subscription" => NO_PRIVILEGE;
    "clerk" "SELECT table_name FROM information_schema.tables" => None;
    "watch" "SELECT * FROM pg_shmem_allocations" => None;
    "clerk" "SELECT * FROM pg_shmem_allocations" => NO_PRIVILEGE;
    "clerk" "SELECT nothing FROM pg_no_such_table" => NOT_DECIDED;
    "clerk" "SHOW data_directory" => NO_PRIVILEGE;
    "watch" "SHOW data_directory" => None;
    "clerk" "SET log_statement = 'none'" => NO_PRIVILEGE;
    "clerk" "SET statement_timeout = 5" => None;
    "clerk" "SET no_such_setting = 5" => NOT_DECIDED;
    "clerk" "SELECT set_config('log_statement', 'none', true)" => NO_PRIVILEGE;
    "clerk" "SELECT pg_read_file('x')" => NO_PRIVILEGE;
    "clerk" "SELECT pg_table_size('s.t')" => None;
    "clerk" "SELECT nullif(1, 2), coalesce(1, 2), greatest(1, 2)" => None;
    "clerk" "SELECT tsquery('a & b'), pg_catalog.int4('1')" => None;
    "clerk" "SELECT regclass('s.t')" => None;
    "clerk" "SELECT shut.nullif(1, 2)" => NOT_DECIDED;
    "clerk" "SELECT ctid FROM s.t" => None;
}

rows! { the_schema_of_whatever_is_named_is_looked_into on postgresql:
    "clerk" "SELECT regclass('shut.t')" => Some(Refusal::SchemaShut);
    "clerk" "SELECT regclassin('shut.t')" => Some(Refusal::SchemaShut);
    "clerk" "SELECT row_security_active('shut.t')" => Some(Refusal::SchemaShut);
    "clerk" "SELECT row_security_active(relname::text) FROM pg_class" => NOT_DECIDED;
    "clerk" "SELECT regtypein('shut.t')" => NOT_DECIDED;
    "clerk" "SELECT ts_parse('shut.own', 'x')" => NOT_DECIDED;
    "clerk" "SELECT * FROM json_to_record('{}') AS x(a shut.t)" => Some(Refusal::SchemaShut);
    "clerk" "SELECT * FROM json_to_record('{}') AS x(a integer, b shut.t[])" => Some(Refusal::SchemaShut);
    "clerk" "SELECT * FROM json_to_record('{}') AS x(a integer)" => None;
    "clerk" "SELECT 'a' COLLATE shut.own" => Some(Refusal::SchemaShut);
    "clerk" "SELECT relname FROM pg_class ORDER BY relname COLLATE shut.own" => Some(Refusal::SchemaShut);
    "clerk" "SELECT relname COLLATE pg_catalog.\"C\" FROM pg_class" => None;
    "clerk" "SELECT relname COLLATE nowhere.own FROM pg_class" => NOT_DECIDED;
    "clerk" "SELECT 1 OPERATOR(shut.=) 1" => Some(Refusal::SchemaShut);
    "clerk" "SELECT 1 OPERATOR(pg_catalog.=) 1" => None;
    "clerk" "SELECT relname FROM pg_class ORDER BY 1 USING OPERATOR(shut.<)" => Some(Refusal::SchemaShut);
    "clerk" "DO $$ DECLARE x shut.t%ROWTYPE; BEGIN NULL; END $$" => NOT_DECIDED;
    "clerk" "DO $$ DECLARE x shut.t.id%TYPE; BEGIN NULL; END $$" => NOT_DECIDED;
    "clerk" "DO $$ DECLARE x s.plain%ROWTYPE; BEGIN NULL; END $$" => None;
    "clerk" "CREATE SEQUENCE desk.n OWNED BY shut.t.id" => NOT_DECIDED;
    "clerk" "CREATE SEQUENCE desk.n INCREMENT 2 OWNED BY NONE" => None;
}

rows! { the_routine_that_is_meant_is_the_one_of_just_these_types on postgresql:
    "clerk" "SELECT s.f(1)" => None;
    "clerk" "SELECT s.f(1.5)" => NO_PRIVILEGE;
    "clerk" "SELECT s.f(id) FROM s.plain" => None;
    "clerk" "SELECT s.f('1')" => NOT_DECIDED;
    "clerk" "SELECT shut.hidden()" => Some(Refusal::SchemaShut);
    "clerk" "DROP FUNCTION s.f" => NOT_DECIDED;
    "owner" "DROP FUNCTION s.f(INT)" => None;
}

rows! { what_is_not_run_needs_nothing on postgresql:
    "clerk" "WITH x AS (SELECT * FROM desk.own) SELECT 1" => None;
    "watch" "WITH x AS (SELECT id FROM s.plain) SELECT 1" => Some(Refusal::SchemaShut);
    "clerk" "PREPARE q AS SELECT id FROM desk.own" => None;
}

rows! { names_are_looked_up_when_something_is_made on postgresql:
    "clerk" "CREATE POLICY p ON desk.own USING (id IN (SELECT id FROM shut.t))" => Some(Refusal::SchemaShut);
    "clerk" "CREATE POLICY p ON desk.own FOR INSERT TO desk WITH CHECK (id > 3)" => None;
    "clerk" "CREATE FUNCTION desk.g() RETURNS integer LANGUAGE sql AS 'select id from shut.t'" => Some(Refusal::SchemaShut);
    "clerk" "CREATE FUNCTION desk.g() RETURNS integer LANGUAGE sql SET search_path = s AS 'select id from plain'" => NOT_DECIDED;
    "clerk" "CREATE FUNCTION desk.g() RETURNS integer LANGUAGE plpgsql AS 'begin return 1; end'" => None;
    "clerk" "CREATE TABLE desk.x (id integer DEFAULT shut.hidden())" => Some(Refusal::SchemaShut);
    "clerk" "CREATE TABLE desk.x (id integer, CHECK (shut.hidden() = id))" => Some(Refusal::SchemaShut);
    "clerk" "ALTER TABLE desk.own ADD COLUMN x integer DEFAULT shut.hidden()" => Some(Refusal::SchemaShut);
    "clerk" "CREATE DOMAIN desk.d AS integer DEFAULT shut.hidden()" => Some(Refusal::SchemaShut);
    "clerk" "CREATE INDEX i ON desk.own ((s.f(id)))" => NOT_DECIDED;
    "clerk" "CREATE RULE r AS ON INSERT TO desk.own DO INSTEAD INSERT INTO shut.t VALUES (1)" => NOT_DECIDED;
    "clerk" "CREATE RULE r AS ON INSERT TO desk.own DO INSTEAD NOTHING" => None;
    "clerk" "WITH x AS (SELECT shut.hidden()) SELECT 1" => Some(Refusal::SchemaShut);
    "clerk" "WITH plain AS (SELECT * FROM shut.t) TABLE plain" => Some(Refusal::SchemaShut);
    "clerk" "DROP TYPE IF EXISTS s.nothing" => NOT_DECIDED;
    "clerk" "SELECT s.f(1); SELECT 1" => NOT_DECIDED;
}

rows! { on_mariadb_nothing_hides_in_something_else on mariadb:
    "clerk" "SHOW TABLES FROM club WHERE EXISTS (SELECT 1 FROM shut.t)" => NOT_DECIDED;
    "clerk" "SHOW VARIABLES WHERE (SELECT count(*) FROM shut.t) > 0" => NOT_DECIDED;
    "clerk" "SET NAMES utf8mb4, @a = (SELECT max(id) FROM shut.t)" => Some(Refusal::StatementUnreadable);
    "clerk" "SET NAMES utf8mb4 COLLATE utf8mb4_bin" => None;
    "clerk" "EXPLAIN SELECT id FROM club.t INTO OUTFILE '/x'" => NO_PRIVILEGE;
    "clerk" "ALTER TABLE club.t ENGINE = MERGE UNION = (shut.t)" => Some(Refusal::StatementUnreadable);
    "clerk" "CREATE TABLE club.n (id int) DATA DIRECTORY = '/x'" => NOT_DECIDED;
    "clerk" "DO (SELECT max(id) FROM shut.t)" => NO_PRIVILEGE;
}

rows! { several_statements_are_carried_out_in_order on postgresql:
    "clerk" "SELECT id FROM s.plain; SELECT id FROM s.t" => None;
    "clerk" "SELECT id FROM s.plain; SELECT id FROM shut.t" => Some(Refusal::SchemaShut);
    "clerk" "SET ROLE desk; SELECT id FROM desk.own" => None;
    "clerk" "SET ROLE other; SELECT 1" => NOT_A_MEMBER;
    "root" "SET ROLE watch; SELECT id FROM s.plain" => Some(Refusal::SchemaShut);
    "root" "SET ROLE watch; RESET ROLE; SELECT id FROM s.plain" => None;
    "root" "SET SESSION AUTHORIZATION watch; SELECT id FROM s.plain" => Some(Refusal::SchemaShut);
    "root" "SET SESSION AUTHORIZATION watch; SET SESSION AUTHORIZATION root; SELECT id FROM s.plain" => None;
    "root" "SET SESSION AUTHORIZATION watch; SET ROLE desk" => NOT_A_MEMBER;
    "clerk" "SET search_path = s; SELECT id FROM plain" => None;
    "clerk" "SET search_path = desk, s; SELECT id FROM own" => None;
    "clerk" "SET search_path = s; SET search_path TO DEFAULT; SELECT id FROM plain" => NOT_DECIDED;
    "clerk" "SET search_path = shut; SELECT hidden()" => Some(Refusal::SchemaShut);
    "root" "BEGIN; SET ROLE watch; ROLLBACK; SELECT id FROM s.plain" => None;
    "root" "BEGIN; SET LOCAL ROLE watch; COMMIT; SELECT id FROM s.plain" => None;
    "root" "BEGIN; SET LOCAL ROLE watch; SELECT id FROM s.plain; COMMIT" => Some(Refusal::SchemaShut);
    "root" "SET LOCAL ROLE desk; SELECT id FROM s.plain" => NOT_DECIDED;
    "root" "REVOKE SELECT ON s.plain FROM desk; SET ROLE desk; SELECT id FROM s.plain" => NOT_DECIDED;
    "root" "UPDATE pg_authid SET rolsuper = false; SELECT 1" => NOT_DECIDED;
    "clerk" "SELECT ';' ; SELECT id FROM shut.t -- ; x" => Some(Refusal::SchemaShut);
    "clerk" "SELECT $$ ; $$; SELECT 1;" => None;
    "clerk" "SELECT 1; ELECT 2" => Some(Refusal::StatementUnreadable);
}

rows! { on_mariadb_a_body_of_several_statements_is_part_of_one on mariadb:
    "clerk" "USE club; CREATE PROCEDURE q() BEGIN IF 1 THEN SELECT 1; END IF; CASE 1 WHEN 1 THEN SELECT 2; END CASE; END" => None;
    "clerk" "USE club; CREATE PROCEDURE q(n int) DETERMINISTIC a: BEGIN DECLARE EXIT HANDLER FOR SQLEXCEPTION BEGIN SELECT 1; END; \
             SELECT CASE WHEN 1 THEN 2 END; END a; DROP TABLE shut.t" => NO_PRIVILEGE;
    "clerk" "CREATE PROCEDURE club.q() BEGIN BEGIN END; SELECT 1; END" => None;
    "clerk" "CREATE PROCEDURE club.q() SELECT begin; DROP TABLE shut.t; SELECT end" => NO_PRIVILEGE;
    "clerk" "CREATE PROCEDURE club.q() BEGIN SELECT begin; END; DROP TABLE shut.t; SELECT end" => Some(Refusal::StatementUnreadable);
    "clerk" "CREATE PROCEDURE club.begin() SELECT 1; DROP TABLE shut.t; SELECT end" => NO_PRIVILEGE;
    "clerk" "CREATE TABLE club.begin (id int); DROP TABLE shut.t; CREATE TABLE club.end (id int)" => NO_PRIVILEGE;
    "clerk" "CREATE PROCEDURE club.q(n int) BEGIN WHILE n DO BEGIN SET n = 0; END; END WHILE; l: LOOP BEGIN LEAVE l; END; END LOOP; \
             REPEAT SET n = 1; UNTIL CASE n WHEN 1 THEN 1 END END REPEAT; IF n THEN BEGIN END; ELSEIF 1 THEN SELECT 1; ELSE BEGIN END; END IF; END" => None;
    "clerk" "CREATE FUNCTION club.g(n int) RETURNS varchar(9) CHARSET utf8mb4 COMMENT 'x' BEGIN RETURN CASE n WHEN 1 THEN 2 ELSE 3 END; END" => NO_PRIVILEGE;
    "clerk" "CREATE PROCEDURE club.q() BEGIN DECLARE EXIT HANDLER FOR SQLSTATE '23000', 1062, NOT FOUND BEGIN END; SELECT 1; END" => None;
    "clerk" "CREATE PROCEDURE club.q() BEGIN SELECT handler, begin; END; DROP TABLE shut.t; END" => Some(Refusal::StatementUnreadable);
    "clerk" "CREATE PROCEDURE club.q() BEGIN SELECT do begin; END; DROP TABLE shut.t; END" => Some(Refusal::StatementUnreadable);
    "clerk" "CREATE PROCEDURE club.q() BEGIN SELECT begin begin; END; DROP TABLE shut.t; END" => Some(Refusal::StatementUnreadable);
    "clerk" "CREATE PROCEDURE club.q() BEGIN SELECT CASE WHEN 1 THEN begin ELSE 2 END; END; DROP TABLE shut.t; END" => Some(Refusal::StatementUnreadable);
    "clerk" "CREATE PROCEDURE club.q() BEGIN IF CASE WHEN end THEN begin ELSE 0 END THEN SELECT 1; END IF; END; DROP TABLE shut.t; END" => Some(Refusal::StatementUnreadable);
    "clerk" "CREATE PROCEDURE club.q() begin: BEGIN SELECT 1; END; DROP TABLE shut.t; END" => NO_PRIVILEGE;
    "clerk" "CREATE PROCEDURE club.q() BEGIN DECLARE EXIT HANDLER FOR NOT FOUND UPDATE begin SET a = 1; END; DROP TABLE shut.t; END" => Some(Refusal::StatementUnreadable);
    "clerk" "CREATE PROCEDURE club.q() BEGIN SELECT 1; DROP TABLE shut.t" => Some(Refusal::StatementUnreadable);
    "clerk" "CREATE PROCEDURE club.q() WHILE 1 DO SELECT 1; END WHILE; DROP TABLE shut.t" => Some(Refusal::StatementUnreadable);
    "clerk" "BEGIN NOT ATOMIC SELECT 1; DROP TABLE shut.t; END" => Some(Refusal::StatementUnreadable);
    "clerk" "BEGIN; SELECT id FROM club.plain; COMMIT" => None;
}

rows! { on_mariadb_objects_are_made_and_changed_with_the_privileges_of_the_manual on mariadb:
    "clerk" "ALTER TABLE club.t ADD COLUMN x int, DROP COLUMN name" => None;
    "clerk" "ALTER TABLE club.t ENGINE = InnoDB" => None;
    "watch" "ALTER TABLE club.plain FORCE" => NO_PRIVILEGE;
    "clerk" "ALTER TABLE club.t RENAME TO shut.t2" => NO_PRIVILEGE;
    "clerk" "RENAME TABLE club.t TO club.u" => None;
    "clerk" "RENAME TABLE club.t TO shut.u" => NO_PRIVILEGE;
    "clerk" "ALTER TABLE club.t ADD FOREIGN KEY (id) REFERENCES club.plain (id)" => None;
    "clerk" "ALTER TABLE club.t ADD FOREIGN KEY (id) REFERENCES shut.t (id)" => NO_PRIVILEGE;
    "clerk" "CREATE TABLE club.x (id int, FOREIGN KEY (id) REFERENCES club.plain (id))" => None;
    "clerk" "CREATE TABLE club.x (id int REFERENCES shut.t (id))" => NO_PRIVILEGE;
    "clerk" "ALTER TABLE club.t ADD PARTITION (PARTITION p3 VALUES LESS THAN (40), PARTITION p4 VALUES LESS THAN (50))" => None;
    "clerk" "ALTER TABLE club.t DROP PARTITION p1" => None;
    "watch" "ALTER TABLE club.t REMOVE PARTITIONING" => NO_PRIVILEGE;
    "clerk" "ALTER TABLE club.t CONVERT TABLE club.plain TO PARTITION p2 VALUES LESS THAN (30)" => None;
    "clerk" "ALTER TABLE club.t CONVERT TABLE shut.t TO PARTITION p2 VALUES LESS THAN (30)" => NO_PRIVILEGE;
    "clerk" "ALTER TABLE club.t CONVERT PARTITION p0 TO TABLE shut.more" => NO_PRIVILEGE;
    "clerk" "ALTER TABLE club.t EXCHANGE PARTITION p0 WITH TABLE shut.t" => NO_PRIVILEGE;
    "clerk" "ALTER TABLE club.t EXCHANGE PARTITION p0 FORCE" => Some(Refusal::StatementUnreadable);
    "clerk" "ALTER TABLE club.t ADD PARTITION (PARTITION p3 VALUES LESS THAN (40) DATA DIRECTORY = '/x')" => Some(Refusal::StatementUnreadable);
    "clerk" "DELETE HISTORY FROM club.t" => NO_PRIVILEGE;
    "clerk" "DELETE HISTORY FROM club.t BEFORE SYSTEM_TIME NOW()" => NO_PRIVILEGE;
    "clerk" "SELECT id FROM club.plain FOR SYSTEM_TIME ALL" => None;
    "clerk" "SELECT id FROM shut.t FOR SYSTEM_TIME AS OF '2026-11-25'" => NO_PRIVILEGE;
    "clerk" "CREATE TABLE club.x (id int) WITH SYSTEM VERSIONING" => None;
    "clerk" "DROP TABLES club.t, club.plain" => None;
    "clerk" "DROP TABLES IF EXISTS club.t, shut.t" => NO_PRIVILEGE;
    "clerk" "CREATE TABLE club.new LIKE shut.t" => NO_PRIVILEGE;
    "clerk" "CREATE OR REPLACE INDEX i ON club.t (id)" => None;
    "clerk" "DROP INDEX i ON shut.t" => NO_PRIVILEGE;
    "clerk" "CREATE DATABASE other_club" => NO_PRIVILEGE;
    "clerk" "ALTER DATABASE club CHARACTER SET utf8mb4" => None;
    "clerk" "CREATE EVENT club.e ON SCHEDULE EVERY 1 DAY DO SELECT 1" => NO_PRIVILEGE;
    "clerk" "CREATE PROCEDURE club.q() BEGIN SELECT 1; SELECT 2; END" => None;
    "clerk" "CREATE OR REPLACE PROCEDURE club.p() SELECT 2" => NO_PRIVILEGE;
    "clerk" "DROP PROCEDURE IF EXISTS club.no_such" => NO_PRIVILEGE;
    "clerk" "ALTER VIEW club.v AS SELECT 1" => NO_PRIVILEGE;
    "clerk" "CREATE DEFINER = 'root'@'localhost' VIEW club.w AS SELECT 1" => NO_PRIVILEGE;
    "clerk" "CREATE DEFINER = CURRENT_USER VIEW club.w AS SELECT 1" => None;
    "chief" "CREATE DEFINER = 'root'@'localhost' VIEW club.w AS SELECT 1" => None;
    "clerk" "CREATE FUNCTION club.f() RETURNS int RETURN 1" => NO_PRIVILEGE;
    "chief" "CREATE FUNCTION club.f() RETURNS int RETURN 1" => None;
    "clerk" "DROP TRIGGER club.kept" => NO_PRIVILEGE;
    "chief" "DROP TRIGGER club.kept" => None;
    "clerk" "DROP TRIGGER club.no_such" => NOT_DECIDED;
    "clerk" "LOCK TABLES club.t READ, club.plain AS p WRITE" => None;
    "clerk" "LOCK TABLES shut.t READ" => NO_PRIVILEGE;
    "clerk" "LOAD DATA INFILE '/x' INTO TABLE club.t" => NO_PRIVILEGE;
    "clerk" "SELECT id FROM club.t INTO OUTFILE '/x'" => NO_PRIVILEGE;
    "clerk" "SELECT id INTO @a FROM club.t" => None;
    "clerk" "INSERT INTO club.plain VALUES ()" => None;
}

rows! { on_mariadb_what_is_shown_and_set on mariadb:
    "watch" "SHOW COLUMNS FROM club.plain" => None;
    "watch" "SHOW COLUMNS FROM club.t" => NO_PRIVILEGE;
    "watch" "DESCRIBE club.plain id" => None;
    "watch" "SHOW CREATE TABLE club.plain" => None;
    "watch" "SHOW CREATE VIEW club.v" => NO_PRIVILEGE;
    "watch" "SHOW TABLES FROM club" => None;
    "watch" "SHOW TRIGGERS IN club LIKE 'x'" => None;
    "clerk" "SHOW ENGINE InnoDB STATUS" => NO_PRIVILEGE;
    "watch" "SHOW ENGINE InnoDB STATUS" => None;
    "watch" "SHOW MASTER STATUS" => None;
    "clerk" "SHOW SLAVE STATUS" => NO_PRIVILEGE;
    "clerk" "SHOW WARNINGS LIMIT 5" => None;
    "clerk" "SET GLOBAL max_connections = 5" => NO_PRIVILEGE;
    "watch" "SET GLOBAL max_connections = 5" => None;
    "watch" "SET @@GLOBAL.read_only = 1" => NO_PRIVILEGE;
    "clerk" "SET sql_mode = '', @x = (SELECT max(id) FROM club.t)" => None;
    "clerk" "SET @x = (SELECT max(id) FROM shut.t)" => NO_PRIVILEGE;
    "clerk" "SET sql_log_bin = 0" => NO_PRIVILEGE;
    "clerk" "SET STATEMENT max_statement_time = 1 FOR SELECT id FROM shut.t" => NO_PRIVILEGE;
    "clerk" "EXECUTE IMMEDIATE 'SELECT id FROM shut.t'" => NO_PRIVILEGE;
    "clerk" "PREPARE q FROM 'SELECT id FROM club.t'" => None;
    "watch" "FLUSH TABLES club.plain WITH READ LOCK" => NO_PRIVILEGE;
    "watch" "FLUSH LOGS" => None;
    "clerk" "SELECT * FROM information_schema.tables" => None;
    "clerk" "SELECT * FROM information_schema.innodb_trx" => NO_PRIVILEGE;
    "watch" "SELECT * FROM information_schema.innodb_trx" => None;
    "clerk" "SELECT * FROM mysql.global_priv" => NO_PRIVILEGE;
    "chief" "SELECT * FROM mysql.global_priv" => None;
    "clerk" "GRANT PROXY ON 'clerk'@'%' TO 'watch'@'%'" => None;
    "clerk" "GRANT PROXY ON 'chief'@'%' TO 'clerk'@'%'" => Some(Refusal::NoGrantOption);
    "clerk" "GRANT LOCK TABLES ON club.* TO 'watch'@'%'" => Some(Refusal::NoGrantOption);
}

rows! { on_mariadb_several_statements_are_carried_out_in_order on mariadb:
    "clerk" "USE club; SELECT id FROM t" => None;
    "clerk" "USE shut; SELECT id FROM t" => NO_PRIVILEGE;
    "clerk" "SET ROLE desk; SELECT id FROM shut.t" => None;
    "clerk" "SET ROLE desk; SET ROLE NONE; SELECT id FROM shut.t" => NO_PRIVILEGE;
    "clerk" "SET ROLE no_such; SELECT 1" => NOT_A_MEMBER;
    "clerk" "START TRANSACTION; INSERT INTO club.plain VALUES (1); COMMIT" => None;
    "clerk" "ALTER TABLE club.t FORCE; SELECT 1" => NOT_DECIDED;
    "clerk" "SET sql_mode = 'ANSI_QUOTES'; SELECT \"id\" FROM club.t" => NOT_DECIDED;
    "clerk" "SELECT 1; SELECT id FROM shut.t" => NO_PRIVILEGE;
}

const TAKEN: &str = r#"
[users.clerk]
proofs = ["password"]
[systems.pg]
kind = "postgresql"
[databases.pg]
owner = "owner"
[databases.pg.accounts]
clerk = { member-of = ["desk", "counter"] }
[databases.pg.roles]
owner = {}
desk = {}
counter = {}
[databases.pg.objects]
"schema s" = { owner = "owner" }
"table s.t" = { owner = "owner", columns = { id = "integer", name = "text" } }
[[databases.pg.grants]]
allow = ["usage"]
on = "schema s"
to = ["desk", "counter", "public"]
[[databases.pg.grants]]
allow = ["select", "update", "delete"]
on = "table s.t"
to = ["desk", "counter"]
[[databases.pg.grants]]
revoke = ["select", "delete"]
on = "table s.t"
from = ["desk"]
[[databases.pg.grants]]
revoke = ["delete"]
on = "table s.t"
from = ["counter"]
[systems.maria]
kind = "mariadb"
[databases.maria]
not-modelled = ["names are not resolved"]
[databases.maria.accounts]
"clerk@%" = { member-of = ["desk"], default-role = "desk" }
[databases.maria.roles]
desk = {}
[databases.maria.objects]
"database club" = {}
"table club.t" = { columns = { id = "int" } }
[[databases.maria.grants]]
allow = ["select", "delete"]
on = "table club.t"
to = ["clerk@%", "desk"]
[[databases.maria.grants]]
revoke = ["delete"]
on = "table club.t"
from = ["clerk@%", "desk"]
"#;

/// An answer tells the other ways by which something is held, the revoke that took what is missing, and the one that left another way.
#[test]
fn other_ways_and_revokes_are_told_with_their_places() {
    let engine = engine(TAKEN);
    let told = |system: &str, statement: &str| {
        let question = Question::statement("clerk", system, statement).from("192.0.2.7".parse().expect("an address"));
        let answer = engine.explain(&question);
        let gates: Vec<String> =
            answer.gates.iter().map(|gate| format!("{} @{}", gate.text, gate.location.as_ref().map_or(0, |l| l.line))).collect();
        gates.join("\n")
    };
    let line = |text: &str, times: usize| {
        TAKEN.lines().enumerate().filter(|(_, l)| *l == text).nth(times).map(|(at, _)| at + 1).expect("it is there")
    };
    let first_revoke = line("revoke = [\"select\", \"delete\"]", 0) - 1;
    for (system, statement, said) in [
        ("pg", "select id from s.t", "through `counter`, given by `owner` @"),
        ("pg", "select id from s.t", "still so, though a revoke took it from `desk`"),
        ("pg", "select id from s.t", "; also through `desk`, through PUBLIC"),
        ("pg", "update s.t set id = 1", "through `counter`, given by `owner`; also through `desk`"),
        ("pg", "delete from s.t", "does not hold delete on table s.t; a revoke took it from `counter`"),
        ("maria", "select id from club.t", "; also "),
        ("maria", "delete from club.t", "; a revoke took it from `"),
    ] {
        assert!(told(system, statement).contains(said), "{system}: {statement}: `{said}` is not in\n{}", told(system, statement));
    }
    assert!(
        told("pg", "select id from s.t").contains(&format!("took it from `desk` @{first_revoke}")),
        "{}",
        told("pg", "select id from s.t")
    );
}

/// Cut at every byte, a statement is allowed only where what is left is one of its own.
#[test]
fn a_statement_that_is_cut_is_never_wider() {
    let whole = [
        "ALTER DEFAULT PRIVILEGES FOR ROLE owner IN SCHEMA s GRANT SELECT ON TABLES TO clerk WITH GRANT OPTION",
        "CREATE OR REPLACE FUNCTION s.g(a integer, OUT b s.mood) RETURNS s.mood LANGUAGE sql SECURITY DEFINER AS 'select 1'",
        "ALTER TABLE IF EXISTS ONLY s.t OWNER TO other",
        "COMMENT ON FUNCTION s.f(integer) IS 'x'",
        "DROP TRIGGER x ON s.t CASCADE",
    ];
    for statement in whole {
        for end in 0..=statement.len() {
            assert_ne!(
                POSTGRESQL.decide(&Question::statement("watch", "db", &statement[..end])).verdict,
                Verdict::Allowed,
                "{}",
                &statement[..end]
            );
        }
    }
    let whole = [
        "CREATE DEFINER = 'root'@'localhost' SQL SECURITY DEFINER VIEW shut.w (a) AS SELECT id FROM shut.t",
        "ALTER TABLE shut.t ADD COLUMN a int, RENAME TO club.q",
        "GRANT SELECT (id), LOCK TABLES ON shut.* TO 'x'@'%' WITH GRANT OPTION",
        "FLUSH TABLES shut.t WITH READ LOCK",
        "LOAD DATA INFILE '/x' REPLACE INTO TABLE shut.t (id)",
    ];
    for statement in whole {
        for end in 0..=statement.len() {
            let question = Question::statement("clerk", "db", &statement[..end]).from("192.0.2.7".parse().expect("an address"));
            assert_ne!(MARIADB.decide(&question).verdict, Verdict::Allowed, "{}", &statement[..end]);
        }
    }
}

/// A long text of many statements, or of one with deep parentheses, ends and is not allowed where it should not be.
#[test]
fn long_texts_end() {
    let many = "SET ROLE desk; RESET ROLE; ".repeat(1_000);
    assert_ne!(POSTGRESQL.decide(&Question::statement("clerk", "db", &format!("{many} SELECT id FROM shut.t"))).verdict, Verdict::Allowed);
    let deep = format!("SELECT {}1{}; SELECT 1", "(".repeat(5_000), ")".repeat(5_000));
    assert_ne!(POSTGRESQL.decide(&Question::statement("clerk", "db", &deep)).verdict, Verdict::Allowed);
    let commented = format!("SELECT 1{}", "/*! + 1 */".repeat(5_000));
    let question = Question::statement("clerk", "db", &commented).from("192.0.2.7".parse().expect("an address"));
    assert_eq!(MARIADB.decide(&question).verdict, Verdict::Allowed);
}
