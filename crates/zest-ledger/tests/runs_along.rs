//! What runs along with a statement on PostgreSQL: policies, rules, triggers, checks, domains, bodies and settings; row by row.
//! `zest-bridges` holds them against the server.

use std::sync::LazyLock;

use zest_ledger::ask::{Refusal, Verdict};
use zest_ledger::finding::Code;
use zest_ledger::{Engine, Ledger, Question};

use crate::support::engine;

const HARBOUR: &str = "[users.root]\nproofs = ['password']\n[users.owner]\nproofs = ['password']\n[users.clerk]\nproofs = ['password']\n\
     [users.pilot]\nproofs = ['password']\n\
     [systems.db]\nkind = 'postgresql'\ndatabase = 'db'\n\
     [databases.db]\nsettings = ['search_path=\"$user\", s']\n\
     [databases.db.accounts]\nroot = { may = ['superuser'] }\nowner = {}\nclerk = { member-of = ['desk'] }\n\
     pilot = { settings = ['search_path=shut'] }\n\
     [databases.db.roles]\ndesk = {}\n\
     [databases.db.objects]\n'schema s' = { owner = 'owner' }\n'schema shut' = { owner = 'owner' }\n'language sql' = {}\n\
     'language plpgsql' = {}\n\
     'table s.plain' = { owner = 'owner', columns = { id = 'integer' } }\n\
     'table s.hidden' = { owner = 'owner', columns = { id = 'integer' } }\n\
     'table shut.t' = { owner = 'owner', columns = { id = 'integer' } }\n\
     [databases.db.objects.'function s.sealed()']\nowner = 'owner'\nlanguage = 'sql'\nreturns = 'integer'\nbody = 'select 1'\nruns-as = 'owner'\n\
     [databases.db.objects.'function s.made()']\nowner = 'owner'\nlanguage = 'plpgsql'\nreturns = 'trigger'\n\
     body = 'begin execute TG_ARGV[0]; end'\n\
     [databases.db.objects.'function s.stamps()']\nowner = 'owner'\nlanguage = 'plpgsql'\nreturns = 'trigger'\n\
     body = 'begin new.note := upper(new.note); if TG_OP = \"INSERT\" then return new; end if; return old; end'\n\
     [databases.db.objects.'function s.looks()']\nowner = 'owner'\nlanguage = 'plpgsql'\nreturns = 'trigger'\n\
     body = 'begin if exists (select from s.hidden) then return null; end if; return new; end'\n\
     [[databases.db.grants]]\nallow = ['usage']\non = 'schema s'\nto = ['desk', 'pilot']\n\
     [[databases.db.grants]]\nallow = ['select']\non = 'table s.plain'\nto = ['desk', 'pilot']\n\
     [[databases.db.grants]]\nrevoke = ['execute']\non = 'function s.sealed()'\nfrom = ['public']\n";

/// The engine of the harbour with one more relation, on which desk may do everything with rows.
fn with(object: &str, keys: &str) -> Engine {
    engine(&format!(
        "{HARBOUR}[databases.db.objects.'{object}']\n{keys}\n[[databases.db.grants]]\nallow = ['select', 'insert', 'update', 'delete']\n\
         on = '{object}'\nto = ['desk']\n"
    ))
}

fn table(keys: &str) -> Engine {
    with("table s.t", &format!("owner = 'owner'\ncolumns = {{ id = 'integer', note = 'text' }}\n{keys}"))
}

/// The engine of the harbour with a function `s.g()`.
fn routine(keys: &str) -> Engine {
    engine(&format!("{HARBOUR}[databases.db.objects.'function s.g()']\nowner = 'owner'\nlanguage = 'sql'\nreturns = 'integer'\n{keys}\n"))
}

/// The engine of the harbour with a function `s.g()` in PL/pgSQL.
fn plpgsql(body: &str) -> Engine {
    let body = body.replace("'\nruns-as = '", "\"\nruns-as = \"");
    engine(&format!(
        "{HARBOUR}[databases.db.objects.'function s.g()']\nowner = 'owner'\nlanguage = 'plpgsql'\nreturns = 'integer'\nbody = \"{body}\"\n"
    ))
}

fn is(engine: &Engine, user: &str, statement: &str, expected: Option<Refusal>) {
    let answer = engine.explain(&Question::statement(user, "db", statement));
    assert_eq!(answer.refusal.is_none(), answer.verdict == Verdict::Allowed, "{statement}");
    let told: Vec<&str> = answer.gates.iter().map(|gate| gate.text.as_str()).collect();
    assert_eq!(answer.refusal, expected, "{user}: {statement}\n{told:#?}");
}

const NOT_DECIDED: Option<Refusal> = Some(Refusal::NotDecided);
const NOT_LET_IN: Option<Refusal> = Some(Refusal::RowNotLetIn);
const NO_PRIVILEGE: Option<Refusal> = Some(Refusal::NoPrivilege);
const SHUT: Option<Refusal> = Some(Refusal::SchemaShut);

macro_rules! rows {
    ($($name:ident: $engine:expr => { $($user:literal $statement:literal => $expected:expr;)+ })+) => {
        $(
            #[test]
            fn $name() {
                static ENGINE: LazyLock<Engine> = LazyLock::new(|| $engine);
                $(is(&ENGINE, $user, $statement, $expected);)+
            }
        )+
    };
}

rows! {
    policies_that_are_not_known: table("row-security = true") => {
        "clerk" "SELECT id FROM s.t" => NOT_DECIDED;
        "clerk" "INSERT INTO s.t VALUES (1, 'x')" => NOT_DECIDED;
        "owner" "INSERT INTO s.t VALUES (1, 'x')" => None;
        "root" "INSERT INTO s.t VALUES (1, 'x')" => None;
    }
    row_security_without_a_policy_shows_no_row_and_lets_none_in: table("row-security = true\npolicies = {}") => {
        "clerk" "SELECT id FROM s.t" => None;
        "clerk" "INSERT INTO s.t VALUES (1, 'x')" => NOT_LET_IN;
        "clerk" "INSERT INTO s.t SELECT id, '' FROM s.plain" => NOT_DECIDED;
        "clerk" "UPDATE s.t SET id = 1" => None;
        "clerk" "DELETE FROM s.t" => None;
        "clerk" "COPY s.t FROM STDIN" => NOT_DECIDED;
        "owner" "INSERT INTO s.t VALUES (1, 'x')" => None;
    }
    a_trigger_behind_the_row_keeps_nothing_back: table(
        "row-security = true\npolicies = {}\n\
         triggers = { x = 'CREATE TRIGGER x AFTER INSERT ON s.t FOR EACH ROW EXECUTE FUNCTION s.made()' }",
    ) => {
        "clerk" "INSERT INTO s.t VALUES (1, 'x')" => NOT_LET_IN;
    }
    one_before_it_may: table(
        "row-security = true\npolicies = {}\n\
         triggers = { x = 'CREATE TRIGGER x BEFORE INSERT ON s.t FOR EACH ROW EXECUTE FUNCTION s.made()' }",
    ) => {
        "clerk" "INSERT INTO s.t VALUES (1, 'x')" => NOT_DECIDED;
    }
    row_security_that_binds_the_owner: table("row-security = true\nrow-security-for-owner = true\npolicies = {}") => {
        "owner" "INSERT INTO s.t VALUES (1, 'x')" => NOT_LET_IN;
        "root" "INSERT INTO s.t VALUES (1, 'x')" => None;
    }
    row_security_that_is_off: table("row-security = false\npolicies = { p = { using = 's.sealed() = 1' } }") => {
        "clerk" "SELECT id FROM s.t" => None;
        "clerk" "INSERT INTO s.t VALUES (1, 'x')" => None;
    }
    a_policy_for_one_act_says_nothing_of_the_others: table(
        "row-security = true\npolicies = { reads = { for = 'select', using = 'true' }, adds = { for = 'insert', check = 'true' } }",
    ) => {
        "clerk" "INSERT INTO s.t VALUES (1, 'x')" => None;
        "clerk" "UPDATE s.t SET id = 1" => None;
        "clerk" "INSERT INTO s.t VALUES (1, 'x') RETURNING id" => None;
    }
    a_policy_for_others_lets_nothing_in: table("row-security = true\npolicies = { p = { to = ['pilot'], using = 'true' } }") => {
        "clerk" "INSERT INTO s.t VALUES (1, 'x')" => NOT_LET_IN;
    }
    a_policy_for_a_role_of_his_lets_it_in: table("row-security = true\npolicies = { p = { to = ['desk'], using = 'true' } }") => {
        "clerk" "INSERT INTO s.t VALUES (1, 'x')" => None;
    }
    a_restrictive_policy_narrows: table(
        "row-security = true\npolicies = { p = { using = 'true' }, n = { for = 'insert', check = 'false', restrictive = true } }",
    ) => {
        "clerk" "SELECT id FROM s.t" => None;
        "clerk" "INSERT INTO s.t VALUES (1, 'x')" => NOT_LET_IN;
        "clerk" "UPDATE s.t SET id = 1" => None;
    }
    a_restrictive_policy_alone_permits_nothing: table(
        "row-security = true\npolicies = { n = { check = 'true', using = 'true', restrictive = true } }",
    ) => {
        "clerk" "INSERT INTO s.t VALUES (1, 'x')" => NOT_LET_IN;
    }
    what_a_policy_reads_is_checked_as_the_caller: table(
        "row-security = true\npolicies = { p = { using = 'id IN (SELECT h.id FROM s.hidden h)' }, \
         q = { for = 'insert', check = 's.sealed() = 1' } }",
    ) => {
        "clerk" "SELECT id FROM s.t" => NO_PRIVILEGE;
        "owner" "SELECT id FROM s.t" => None;
        "clerk" "DELETE FROM s.t" => NO_PRIVILEGE;
    }
    a_policy_that_calls_what_the_caller_may_not: table("row-security = true\npolicies = { p = { using = 's.sealed() = 1' } }") => {
        "clerk" "SELECT id FROM s.t" => NO_PRIVILEGE;
        "root" "SELECT id FROM s.t" => None;
    }
    a_rule_acts_as_the_owner_of_its_table: table(
        "rules = { tell = 'CREATE RULE tell AS ON INSERT TO s.t DO ALSO INSERT INTO s.hidden VALUES (new.id);' }",
    ) => {
        "clerk" "INSERT INTO s.t VALUES (1, 'x')" => None;
        "clerk" "INSERT INTO s.hidden VALUES (1)" => NO_PRIVILEGE;
        "clerk" "UPDATE s.t SET id = 1" => None;
    }
    a_rule_calls_functions_as_the_caller: table(
        "rules = { tell = 'CREATE RULE tell AS ON DELETE TO s.t DO ALSO INSERT INTO s.hidden VALUES (s.sealed());' }",
    ) => {
        "clerk" "DELETE FROM s.t" => NO_PRIVILEGE;
        "clerk" "INSERT INTO s.t VALUES (1, 'x')" => None;
        "owner" "DELETE FROM s.t" => None;
    }
    a_rule_that_leaves_nothing_checks_nothing_behind_it: table(
        "triggers = { x = 'CREATE TRIGGER x AFTER DELETE ON s.t FOR EACH ROW EXECUTE FUNCTION s.made()' }\n\
         rules = { kept = 'CREATE RULE kept AS ON DELETE TO s.t DO INSTEAD NOTHING;' }",
    ) => {
        "clerk" "DELETE FROM s.t" => None;
        "pilot" "DELETE FROM s.t" => None;
    }
    a_rule_that_is_disabled_is_not_looked_at: table(
        "rules = { tell = 'CREATE RULE tell AS ON INSERT TO s.t DO ALSO SELECT s.sealed();; ALTER TABLE s.t DISABLE RULE tell' }",
    ) => {
        "clerk" "INSERT INTO s.t VALUES (1, 'x')" => None;
    }
    a_rule_that_cannot_be_read: table("rules = { tell = 'CREATE RULE tell AS ON INSERT TO s.t DO whatever this is' }") => {
        "clerk" "INSERT INTO s.t VALUES (1, 'x')" => NOT_DECIDED;
    }
    a_trigger_fires_at_its_event_and_columns: table(
        "triggers = { x = 'CREATE TRIGGER x AFTER UPDATE OF note ON s.t FOR EACH ROW EXECUTE FUNCTION s.made()' }",
    ) => {
        "clerk" "INSERT INTO s.t VALUES (1, 'x')" => None;
        "clerk" "UPDATE s.t SET id = 1" => None;
        "clerk" "UPDATE s.t SET note = 'y'" => NOT_DECIDED;
        "clerk" "UPDATE s.t SET (id, note) = (1, 'y')" => NOT_DECIDED;
        "clerk" "DELETE FROM s.t" => None;
    }
    a_trigger_that_does_nothing_of_its_own: table(
        "triggers = { x = 'CREATE TRIGGER x BEFORE UPDATE ON s.t FOR EACH ROW EXECUTE FUNCTION suppress_redundant_updates_trigger()' }",
    ) => {
        "clerk" "UPDATE s.t SET id = 1" => None;
    }
    a_trigger_that_is_disabled: table(
        "triggers = { x = 'CREATE TRIGGER x AFTER INSERT ON s.t FOR EACH ROW EXECUTE FUNCTION s.made(); ALTER TABLE s.t DISABLE TRIGGER x' }",
    ) => {
        "clerk" "INSERT INTO s.t VALUES (1, 'x')" => None;
    }
    a_trigger_that_cannot_be_read: table("triggers = { x = 'CREATE TRIGGER x ON s.t' }") => {
        "clerk" "INSERT INTO s.t VALUES (1, 'x')" => NOT_DECIDED;
        "clerk" "SELECT id FROM s.t" => None;
    }
    a_check_calls_its_functions_as_the_caller: table("checks = { positive = 's.sealed() > 0' }") => {
        "clerk" "INSERT INTO s.t VALUES (1, 'x')" => NO_PRIVILEGE;
        "clerk" "UPDATE s.t SET id = 1" => NOT_DECIDED;
        "clerk" "DELETE FROM s.t" => None;
        "owner" "INSERT INTO s.t VALUES (1, 'x')" => None;
    }
    a_domain_checks_what_is_turned_into_it: engine(&format!(
        "{HARBOUR}[databases.db.objects.'type s.small']\nowner = 'owner'\ndomain-of = 'integer'\nchecks = {{ few = 's.sealed() > 0' }}\n\
         [databases.db.objects.'type s.tiny']\nowner = 'owner'\ndomain-of = 's.small'\n"
    )) => {
        "clerk" "SELECT 1::s.small" => NO_PRIVILEGE;
        "clerk" "SELECT cast(id AS s.tiny) FROM s.plain" => NO_PRIVILEGE;
        "owner" "SELECT 1::s.tiny" => None;
    }
    a_rule_instead_of_a_view_does_not_reach_what_is_behind_it: with(
        "view s.window",
        "owner = 'owner'\ncolumns = ['id']\nquery = 'SELECT id FROM s.plain'\n\
         rules = { pass = 'CREATE RULE pass AS ON INSERT TO s.window DO INSTEAD INSERT INTO s.hidden VALUES (new.id);' }",
    ) => {
        "clerk" "INSERT INTO s.window VALUES (1)" => None;
        "clerk" "SELECT id FROM s.window" => None;
        "pilot" "INSERT INTO s.window VALUES (1)" => NO_PRIVILEGE;
    }
    a_body_that_was_parsed_when_it_was_made: routine("body = 'BEGIN ATOMIC SELECT id FROM s.hidden; END'") => {
        "clerk" "SELECT s.g()" => NO_PRIVILEGE;
        "owner" "SELECT s.g()" => None;
    }
    a_routine_finds_names_by_its_own_path: routine("settings = ['search_path=shut']\nbody = 'select id from t'") => {
        "clerk" "SELECT s.g()" => SHUT;
        "owner" "SELECT s.g()" => None;
    }
    what_stands_in_a_body_in_plpgsql_and_nobody_refuses: plpgsql(
        "declare n integer := 0; r record; c cursor for select id from s.plain; begin if n = 0 then select count(*) into strict n from s.plain; \
         else n := (select max(id) from s.plain); end if; for i in 1..10 loop n := n + i; end loop; \
         for r in select id from s.plain order by id loop perform r.id; continue when n > 3; end loop; \
         case n when 1 then raise notice 'x %', n using hint = 'y'; else null; end case; \
         begin n := case when n > 1 then 1 else 2 end; exception when sqlstate '22012' then null; when others then raise; end; return n; end",
    ) => {
        "clerk" "SELECT s.g()" => None;
        "owner" "SELECT s.g()" => None;
    }
    what_one_way_through_it_would_be_refused: plpgsql("begin if false then delete from s.plain; end if; return 1; end") => {
        "clerk" "SELECT s.g()" => NOT_DECIDED;
        "owner" "SELECT s.g()" => None;
        "root" "SELECT s.g()" => None;
    }
    what_it_reads_into_a_variable_is_looked_at: plpgsql("declare n integer; begin select id into n from s.hidden; return n; end") => {
        "clerk" "SELECT s.g()" => NOT_DECIDED;
        "owner" "SELECT s.g()" => None;
    }
    a_condition_a_loop_and_a_value_are_looked_at: plpgsql("begin while (select id from s.hidden) = 1 loop null; end loop; return 1; end") => {
        "clerk" "SELECT s.g()" => NOT_DECIDED;
    }
    what_a_variable_begins_with_is_looked_at: plpgsql("declare n integer not null := (select id from s.hidden); begin return n; end") => {
        "clerk" "SELECT s.g()" => NOT_DECIDED;
    }
    what_a_cursor_is_for_is_looked_at: plpgsql("declare c cursor for select id from s.hidden; begin open c; return 1; end") => {
        "clerk" "SELECT s.g()" => NOT_DECIDED;
    }
    what_a_raised_text_is_made_of_is_looked_at: plpgsql("begin raise notice '%', (select id from s.hidden); return 1; end") => {
        "clerk" "SELECT s.g()" => NOT_DECIDED;
    }
    a_variable_of_the_type_of_a_column: plpgsql("declare n s.plain.id%type; r s.plain%rowtype; begin n := 1; return n; end") => {
        "clerk" "SELECT s.g()" => None;
    }
    one_that_may_be_checked: plpgsql(
        "declare n s.plain.id%type; begin n := 1; return n; end\"\n[databases.db.objects.'type s.tide']\nowner = 'owner'\ndomain-of = 'integer'\n\
         checks = { c = 's.sealed() = 1' }\n#\"",
    ) => {
        "clerk" "SELECT s.g()" => NOT_DECIDED;
    }
    a_text_that_is_put_together_is_not_known: plpgsql("begin execute 'drop table s.plain'; return 1; end") => {
        "clerk" "SELECT s.g()" => NOT_DECIDED;
        "root" "SELECT s.g()" => NOT_DECIDED;
    }
    what_changes_settings_or_makes_something_is_not_known: plpgsql("begin perform set_config('role', 'root', false); return 1; end") => {
        "clerk" "SELECT s.g()" => NOT_DECIDED;
    }
    neither_is_what_makes_something: plpgsql("begin create temp table x (id integer); return 1; end") => {
        "clerk" "SELECT s.g()" => NOT_DECIDED;
    }
    one_in_plpgsql_runs_as_its_owner: plpgsql("begin return (select id from s.hidden); end'\nruns-as = 'owner") => {
        "clerk" "SELECT s.g()" => None;
    }
    a_trigger_in_plpgsql_is_followed: table(
        "triggers = { x = 'CREATE TRIGGER x BEFORE INSERT ON s.t FOR EACH ROW EXECUTE FUNCTION s.stamps()' }",
    ) => {
        "clerk" "INSERT INTO s.t VALUES (1, 'x')" => None;
        "clerk" "DELETE FROM s.t" => None;
    }
    one_that_reads_what_is_hidden: table(
        "triggers = { x = 'CREATE TRIGGER x BEFORE INSERT ON s.t FOR EACH ROW EXECUTE FUNCTION s.looks()' }",
    ) => {
        "clerk" "INSERT INTO s.t VALUES (1, 'x')" => NOT_DECIDED;
        "owner" "INSERT INTO s.t VALUES (1, 'x')" => None;
    }
    a_block_is_followed: engine(HARBOUR) => {
        "clerk" "DO $$ begin perform id from s.plain; end $$" => None;
        "clerk" "DO $$ declare n integer; begin select id into n from s.hidden; end $$" => NOT_DECIDED;
        "owner" "DO $$ declare n integer; begin select id into n from s.hidden; end $$" => None;
        "clerk" "DO $$ begin execute 'drop table s.plain'; end $$" => NOT_DECIDED;
    }
    rows_are_locked_in_the_name_of_the_view: with("view s.v", "owner = 'pilot'\ncolumns = ['id']\nquery = 'select id from s.plain'") => {
        "clerk" "SELECT id FROM s.v" => None;
        "clerk" "SELECT id FROM s.v FOR UPDATE" => NO_PRIVILEGE;
        "clerk" "SELECT id FROM s.v FOR SHARE" => NO_PRIVILEGE;
        "clerk" "SELECT a.id FROM s.v a, s.v b FOR UPDATE OF b" => NO_PRIVILEGE;
        "clerk" "SELECT id FROM (SELECT id FROM s.plain) AS x FOR UPDATE" => NO_PRIVILEGE;
        "clerk" "SELECT id FROM (SELECT id FROM s.plain) AS x, s.v FOR UPDATE OF x" => NO_PRIVILEGE;
        "clerk" "(SELECT id FROM s.plain) FOR UPDATE" => NO_PRIVILEGE;
        "clerk" "SELECT 1 WHERE EXISTS (SELECT id FROM s.plain) FOR UPDATE" => None;
        "clerk" "WITH x AS (SELECT id FROM s.plain) SELECT id FROM x FOR UPDATE" => None;
    }
    a_column_that_nobody_reads_is_not_worked_out: with(
        "view s.v",
        "owner = 'pilot'\ncolumns = ['id', 'best', 'gone']\n\
         query = 'select id, (select max(h.id) from s.hidden h where h.id = p.id), s.sealed() from s.plain p'",
    ) => {
        "clerk" "SELECT id FROM s.v" => NOT_DECIDED;
        "clerk" "SELECT best FROM s.v" => NO_PRIVILEGE;
        "clerk" "SELECT a.id, b.best FROM s.v a, s.v b" => NO_PRIVILEGE;
        "clerk" "SELECT b.best, a.id FROM s.v a, s.v b" => NO_PRIVILEGE;
        "clerk" "SELECT * FROM s.v" => NO_PRIVILEGE;
        "clerk" "SELECT id FROM s.v WHERE best > 1" => NO_PRIVILEGE;
        "clerk" "UPDATE s.v SET id = 1" => NO_PRIVILEGE;
        "root" "SELECT * FROM s.v" => NO_PRIVILEGE;
    }
    a_new_row_goes_past_the_rows_that_a_view_shows: with(
        "view s.v",
        "owner = 'pilot'\ncolumns = ['id']\nquery = 'select id from s.plain where exists (select 1 from s.hidden)'\n\
         [[databases.db.grants]]\nallow = ['insert', 'delete']\non = 'table s.plain'\nto = ['pilot']",
    ) => {
        "clerk" "INSERT INTO s.v VALUES (1)" => None;
        "clerk" "DELETE FROM s.v" => NO_PRIVILEGE;
        "clerk" "SELECT id FROM s.v" => NO_PRIVILEGE;
    }
    a_change_of_a_view_needs_nothing_read_of_the_table_but_where_the_view_reads_it_again: with(
        "view s.v",
        "owner = 'pilot'\ncolumns = ['id']\nquery = 'select id from s.written where id in (select w.id from s.written w)'\n\
         [databases.db.objects.'table s.written']\nowner = 'owner'\ncolumns = { id = 'integer' }\n\
         [[databases.db.grants]]\nallow = ['insert', 'update', 'delete']\non = 'table s.written'\nto = ['pilot']\n\
         [databases.db.objects.'view s.plainly']\nowner = 'pilot'\ncolumns = ['id']\nquery = 'select id from s.written'\n\
         [databases.db.objects.'view s.over']\nowner = 'desk'\ncolumns = ['id']\nquery = 'select id from s.plainly where id > 0'\n\
         [databases.db.objects.'view s.twice']\nowner = 'desk'\ncolumns = ['id']\nquery = 'select id from s.plainly where exists (select from s.plainly)'\n\
         [[databases.db.grants]]\nallow = ['select', 'insert', 'update', 'delete']\non = ['view s.plainly', 'view s.over', 'view s.twice']\nto = ['desk']",
    ) => {
        "clerk" "UPDATE s.v SET id = 1" => NO_PRIVILEGE;
        "clerk" "DELETE FROM s.v" => NO_PRIVILEGE;
        "clerk" "INSERT INTO s.v (id) VALUES (1)" => None;
        "clerk" "UPDATE s.plainly SET id = 1" => None;
        "clerk" "UPDATE s.plainly SET id = 1 WHERE id = 2" => NO_PRIVILEGE;
        "clerk" "UPDATE s.over SET id = 1" => None;
        "clerk" "DELETE FROM s.over" => None;
        "clerk" "SELECT id FROM s.over" => NO_PRIVILEGE;
        "clerk" "UPDATE s.twice SET id = 1" => NO_PRIVILEGE;
        "clerk" "LOCK TABLE s.over IN SHARE MODE" => None;
        "clerk" "LOCK TABLE s.over IN ACCESS SHARE MODE" => NO_PRIVILEGE;
    }
    a_change_through_a_view_that_reads_nothing_meets_no_policy_for_reading: with(
        "view s.v",
        "owner = 'pilot'\ncolumns = ['id']\nquery = 'select id from s.narrow'\n\
         [databases.db.objects.'table s.narrow']\nowner = 'owner'\ncolumns = { id = 'integer' }\nrow-security = true\n\
         policies = { sees = { for = 'select', using = '(id in (select h.id from s.hidden h))' }, adds = { for = 'insert', check = 'true' }, turns = { for = 'update', using = 'true' } }\n\
         [[databases.db.grants]]\nallow = ['select', 'insert', 'update', 'delete']\non = 'table s.narrow'\nto = ['pilot']",
    ) => {
        "clerk" "INSERT INTO s.v (id) VALUES (1)" => None;
        "clerk" "UPDATE s.v SET id = 1" => None;
        "clerk" "DELETE FROM s.v" => None;
        "clerk" "INSERT INTO s.v (id) VALUES (1) RETURNING id" => NO_PRIVILEGE;
        "clerk" "UPDATE s.v SET id = 1 WHERE id = 2" => NO_PRIVILEGE;
        "clerk" "DELETE FROM s.v WHERE id = 2" => NO_PRIVILEGE;
    }
    what_stands_in_a_column_that_nobody_reads_is_left_out_of_a_change_and_perhaps_of_other_statements: with(
        "view s.v",
        "owner = 'pilot'\ncolumns = ['id', 'n']\nquery = 'select id, (select max(h.id) from s.hidden h where h.id = p.id) from s.plain p'\n\
         [[databases.db.grants]]\nallow = ['insert', 'update', 'delete']\non = 'table s.plain'\nto = ['pilot']\n\
         [databases.db.objects.'view s.sorted']\nowner = 'pilot'\ncolumns = ['id', 'n']\n\
         query = 'select id, (select max(h.id) from s.hidden h) from s.plain order by id'\n\
         [[databases.db.grants]]\nallow = ['select']\non = 'view s.sorted'\nto = ['desk']",
    ) => {
        "clerk" "UPDATE s.v SET id = 1" => None;
        "clerk" "UPDATE s.v SET id = 1 WHERE id = 2 RETURNING id" => None;
        "clerk" "DELETE FROM s.v" => None;
        "clerk" "INSERT INTO s.v (id) VALUES (1) RETURNING id" => None;
        "clerk" "UPDATE s.v SET id = 1 WHERE n = 2" => NO_PRIVILEGE;
        "clerk" "UPDATE s.v SET id = (SELECT max(z.q) FROM (SELECT v.n AS q) z)" => NOT_DECIDED;
        "clerk" "INSERT INTO s.v (id) VALUES (1) RETURNING n" => NO_PRIVILEGE;
        "clerk" "SELECT id FROM s.v" => NOT_DECIDED;
        "clerk" "SELECT id FROM s.v WHERE false" => NOT_DECIDED;
        "clerk" "SELECT * FROM s.v" => NO_PRIVILEGE;
        "clerk" "SELECT id FROM s.sorted" => NOT_DECIDED;
        "clerk" "SELECT * FROM s.sorted" => NO_PRIVILEGE;
        "clerk" "SELECT x.id FROM (SELECT * FROM s.sorted) x" => NOT_DECIDED;
        "clerk" "SELECT * FROM (SELECT * FROM s.sorted) x" => NO_PRIVILEGE;
        "clerk" "WITH x AS (SELECT * FROM s.sorted) SELECT id FROM x" => NOT_DECIDED;
        "clerk" "WITH x AS MATERIALIZED (SELECT * FROM s.sorted) SELECT id FROM x" => NO_PRIVILEGE;
        "clerk" "SELECT id FROM s.plain WHERE EXISTS (SELECT * FROM s.sorted)" => NOT_DECIDED;
        "clerk" "SELECT id FROM s.plain WHERE EXISTS (SELECT s.sealed())" => NOT_DECIDED;
        "clerk" "SELECT id FROM s.plain WHERE EXISTS (SELECT FROM s.v WHERE n > 1)" => NO_PRIVILEGE;
        "clerk" "SELECT id FROM s.plain WHERE id IN (SELECT n FROM s.v)" => NO_PRIVILEGE;
        "clerk" "SELECT x.id FROM (SELECT id, s.sealed() FROM s.plain) x" => NOT_DECIDED;
        "clerk" "SELECT x.id FROM (SELECT DISTINCT id, s.sealed() FROM s.plain) x" => NO_PRIVILEGE;
        "clerk" "SELECT x.id FROM (SELECT id, (SELECT max(id) FROM s.hidden) FROM s.plain) x" => NOT_DECIDED;
        "clerk" "SELECT x.id FROM (SELECT id FROM s.plain WHERE s.sealed() = 1) x" => NO_PRIVILEGE;
        "clerk" "SELECT x.id FROM (SELECT h.id FROM s.hidden h) x" => NO_PRIVILEGE;
        "clerk" "SELECT x.id FROM (SELECT id, length('x') FROM s.plain) x" => None;
    }
    new_rows_that_a_view_checks_are_held_against_its_condition: with(
        "view s.v",
        "owner = 'owner'\ncolumns = ['id']\nquery = 'select id from s.plain where s.sealed() = id with check option;'\n\
         [databases.db.objects.'view s.loose']\nowner = 'owner'\ncolumns = ['id']\nquery = 'select id from s.plain where s.sealed() = id'\n\
         [databases.db.objects.'view s.over']\nowner = 'owner'\ncolumns = ['id']\nquery = 'select id from s.loose WITH CASCADED CHECK OPTION'\n\
         [databases.db.objects.'view s.aside']\nowner = 'owner'\ncolumns = ['id']\nquery = 'select id from s.loose WITH LOCAL CHECK OPTION'\n\
         [[databases.db.grants]]\nallow = ['select', 'insert', 'update', 'delete']\non = ['view s.loose', 'view s.over', 'view s.aside']\nto = ['desk']",
    ) => {
        "clerk" "INSERT INTO s.v (id) VALUES (1)" => NO_PRIVILEGE;
        "owner" "INSERT INTO s.v (id) VALUES (1)" => None;
        "clerk" "INSERT INTO s.loose (id) VALUES (1)" => None;
        "clerk" "INSERT INTO s.over (id) VALUES (1)" => NO_PRIVILEGE;
        "clerk" "INSERT INTO s.aside (id) VALUES (1)" => None;
        "owner" "INSERT INTO s.aside (id) VALUES (1)" => None;
    }
    a_trigger_stands_in_for_a_change_of_a_view: with(
        "view s.v",
        "owner = 'pilot'\ncolumns = ['id']\nquery = 'select id from s.hidden'\n\
         triggers.made = 'CREATE TRIGGER made INSTEAD OF INSERT OR DELETE ON s.v FOR EACH ROW EXECUTE FUNCTION s.stamps()'",
    ) => {
        "clerk" "INSERT INTO s.v VALUES (1)" => None;
        "clerk" "INSERT INTO s.v VALUES (1) RETURNING id" => None;
        "clerk" "DELETE FROM s.v" => NO_PRIVILEGE;
        "clerk" "UPDATE s.v SET id = 1" => NO_PRIVILEGE;
        "pilot" "INSERT INTO s.v VALUES (1)" => None;
        "clerk" "SELECT id FROM s.v" => NO_PRIVILEGE;
    }
    rights_of_the_servers_own_that_were_changed_are_not_known: engine(&HARBOUR.replace(
        "[databases.db]\n",
        "[databases.db]\nnot-modelled = ['catalog pg_authid', 'catalog pg_read_file', 'catalog information_schema', 'parameter work_mem', \
         'parameter log_statement']\n",
    )) => {
        "clerk" "SELECT rolpassword FROM pg_authid" => NOT_DECIDED;
        "root" "SELECT rolpassword FROM pg_authid" => None;
        "clerk" "SELECT subconninfo FROM pg_subscription" => NO_PRIVILEGE;
        "clerk" "SELECT pg_read_file('x')" => NOT_DECIDED;
        "clerk" "SELECT pg_catalog.pg_read_file('x')" => NOT_DECIDED;
        "clerk" "SELECT pg_read_binary_file('x')" => NO_PRIVILEGE;
        "root" "SELECT pg_read_file('x')" => None;
        "clerk" "SELECT table_name FROM information_schema.tables" => NOT_DECIDED;
        "clerk" "SELECT relname FROM pg_class" => None;
        "clerk" "ALTER SYSTEM SET work_mem = '4MB'" => NOT_DECIDED;
        "clerk" "ALTER SYSTEM RESET work_mem" => NOT_DECIDED;
        "clerk" "ALTER SYSTEM SET fsync = off" => Some(Refusal::SwitchOff);
        "clerk" "ALTER SYSTEM RESET ALL" => Some(Refusal::SwitchOff);
        "root" "ALTER SYSTEM SET work_mem = '4MB'" => None;
        "clerk" "SET log_statement = 'none'" => NOT_DECIDED;
        "clerk" "SELECT id FROM s.plain" => None;
    }
    a_merge_sees_the_target_where_it_matches_alone: with(
        "table s.m",
        "owner = 'owner'\ncolumns = { id = 'integer' }\n[[databases.db.grants]]\nallow = ['update', 'insert', 'delete']\n\
         on = 'table s.blind'\nto = ['desk']\n[databases.db.objects.'table s.blind']\nowner = 'owner'\ncolumns = { id = 'integer' }",
    ) => {
        "clerk" "MERGE INTO s.blind b USING s.plain p ON true WHEN NOT MATCHED THEN INSERT VALUES (id)" => None;
        "clerk" "MERGE INTO s.blind b USING s.plain p ON true WHEN MATCHED THEN DELETE" => None;
        "clerk" "MERGE INTO s.blind b USING s.plain p ON true WHEN MATCHED THEN UPDATE SET id = b.id" => NO_PRIVILEGE;
        "clerk" "MERGE INTO s.blind b USING s.plain p ON true WHEN MATCHED THEN DO NOTHING" => NO_PRIVILEGE;
        "clerk" "MERGE INTO s.blind b USING s.plain p ON true WHEN MATCHED THEN DELETE WHEN NOT MATCHED THEN DO NOTHING" => NO_PRIVILEGE;
    }
    no_part_of_what_is_made_is_dropped: engine(&HARBOUR.replace("allow = ['usage']", "allow = ['usage', 'create']")) => {
        "clerk" "CREATE TABLE s.n (id integer)" => None;
        "clerk" "CREATE TABLE s.n (id integer) WITH (fillfactor = 70)" => None;
        "clerk" "CREATE TABLE s.n (id integer) TABLESPACE fast" => NOT_DECIDED;
        "root" "CREATE TABLE s.n (id integer) TABLESPACE fast" => None;
        "clerk" "CREATE TABLE s.n (id integer) PARTITION BY RANGE (id)" => None;
        "clerk" "CREATE TABLE s.n (id integer) PARTITION BY RANGE (s.sealed())" => NOT_DECIDED;
        "clerk" "CREATE TABLE s.n (note text COLLATE shut.own)" => NOT_DECIDED;
        "clerk" "CREATE TABLE s.n (note text COLLATE \"C\")" => None;
        "owner" "CREATE INDEX ON s.plain (id shut.own)" => NOT_DECIDED;
        "owner" "CREATE INDEX ON s.plain (id int4_ops)" => None;
    }
    those_below_a_table_are_changed_with_it: with(
        "table s.parent",
        "owner = 'clerk'\ncolumns = { id = 'integer' }\nnot-modelled = ['below s.part of somebody']",
    ) => {
        "clerk" "ALTER TABLE s.parent ADD COLUMN note text" => NOT_DECIDED;
        "clerk" "ALTER TABLE s.parent RENAME COLUMN id TO number" => NOT_DECIDED;
        "clerk" "ANALYZE s.parent" => NOT_DECIDED;
        "clerk" "VACUUM (VERBOSE, PARALLEL 2) s.parent" => NOT_DECIDED;
        "root" "ALTER TABLE s.parent ADD COLUMN note text" => None;
        "clerk" "SELECT id FROM s.parent" => None;
        "clerk" "ALTER TABLE s.parent ATTACH PARTITION s.plain FOR VALUES IN (1)" => Some(Refusal::NotOwner);
    }
    what_points_to_a_table_is_made_anew_with_its_columns: with(
        "table s.parent",
        "owner = 'clerk'\ncolumns = { id = 'integer' }\nnot-modelled = ['pointing s.child']",
    ) => {
        "clerk" "ALTER TABLE s.parent ALTER COLUMN id SET DATA TYPE bigint" => NOT_DECIDED;
        "clerk" "ALTER TABLE s.parent ADD COLUMN note text" => None;
        "root" "ALTER TABLE s.parent ALTER COLUMN id SET DATA TYPE bigint" => None;
    }
    a_trigger_for_rows_is_made_on_each_partition: with(
        "table s.parent",
        "owner = 'clerk'\ncolumns = { id = 'integer' }\nnot-modelled = ['part s.part']",
    ) => {
        "clerk" "CREATE TRIGGER t AFTER INSERT ON s.parent FOR EACH ROW EXECUTE FUNCTION s.made()" => NOT_DECIDED;
        "root" "CREATE TRIGGER t AFTER INSERT ON s.parent FOR EACH ROW EXECUTE FUNCTION s.made()" => None;
        "clerk" "ALTER TABLE s.parent ADD COLUMN note text" => None;
    }
    tables_of_a_type_are_changed_with_it: engine(&format!(
        "{HARBOUR}[databases.db.objects.'type s.shape']\nowner = 'clerk'\nnot-modelled = ['typed s.child']\n"
    )) => {
        "clerk" "ALTER TYPE s.shape DROP ATTRIBUTE size CASCADE" => NOT_DECIDED;
        "clerk" "ALTER TYPE s.shape ADD ATTRIBUTE size integer CASCADE" => NOT_DECIDED;
        "root" "ALTER TYPE s.shape DROP ATTRIBUTE size CASCADE" => None;
    }
    functions_about_rights_are_everybodys: engine(HARBOUR) => {
        "clerk" "SELECT has_table_privilege(current_user, 'plain', 'select'), has_schema_privilege('s', 'usage')" => None;
        "clerk" "SELECT has_table_privilege('shut.t', 'select')" => SHUT;
        "clerk" "SELECT has_table_privilege(current_user, 'shut.t', 'select')" => NOT_DECIDED;
    }
    a_privilege_that_something_does_not_have: engine(HARBOUR) => {
        "owner" "GRANT USAGE ON FUNCTION s.sealed() TO clerk" => NOT_DECIDED;
        "clerk" "GRANT USAGE ON FUNCTION s.sealed() TO clerk" => NOT_DECIDED;
    }
    a_column_that_every_table_has_is_only_named: table("not-modelled = ['system column tableoid']") => {
        "clerk" "SELECT id FROM s.t" => None;
        "clerk" "SELECT tableoid FROM s.t" => NOT_DECIDED;
        "clerk" "SELECT tableoid::regclass FROM s.plain" => None;
    }
    sessions_begin_with_the_path_of_the_role_or_of_the_database: engine(HARBOUR) => {
        "clerk" "SELECT id FROM plain" => None;
        "clerk" "SELECT id FROM hidden" => NO_PRIVILEGE;
        "pilot" "SELECT id FROM t" => SHUT;
        "pilot" "SELECT id FROM s.plain" => None;
    }
}

#[test]
fn what_makes_something_else_or_means_nothing_is_an_error() {
    let keys = [
        ("table s.t", "triggers = { x = 'CREATE TRIGGER y AFTER INSERT ON s.t FOR EACH ROW EXECUTE FUNCTION s.made()' }", Code::BadObject),
        (
            "table s.t",
            "triggers = { x = 'CREATE TRIGGER x AFTER INSERT ON s.plain FOR EACH ROW EXECUTE FUNCTION s.made()' }",
            Code::BadObject,
        ),
        (
            "table s.t",
            "triggers = { x = 'CREATE TRIGGER x AFTER INSERT ON s.t EXECUTE FUNCTION s.made(); DROP TABLE s.t' }",
            Code::BadObject,
        ),
        (
            "table s.t",
            "triggers = { x = 'CREATE TRIGGER x AFTER INSERT ON s.t EXECUTE FUNCTION s.made(); ALTER TABLE s.plain DISABLE TRIGGER x' }",
            Code::BadObject,
        ),
        (
            "table s.t",
            "triggers = { x = 'CREATE TRIGGER x AFTER INSERT ON s.t EXECUTE FUNCTION s.made(); ALTER TABLE s.t DISABLE TRIGGER other_x' }",
            Code::BadObject,
        ),
        ("table s.t", "rules = { r = 'CREATE RULE r AS ON INSERT TO s.plain DO INSTEAD NOTHING' }", Code::BadObject),
        ("table s.t", "rules = { r = 'DROP TABLE s.t' }", Code::BadObject),
        ("table s.t", "policies = { p = { for = 'insert', using = 'true' } }", Code::BadObject),
        ("table s.t", "policies = { p = { for = 'select', check = 'true' } }", Code::BadObject),
        ("table s.t", "policies = { p = { to = ['nobody'] } }", Code::UnknownReference),
        ("table s.t", "body = 'select 1'", Code::UnknownKey),
        ("table s.t", "domain-of = 'integer'", Code::UnknownKey),
        ("view s.v", "query = 'select 1'\nsettings = ['security_invoker=true']", Code::BadObject),
        ("view s.v", "query = 'select 1'\npolicies = { p = { using = 'true' } }", Code::UnknownKey),
        ("function s.f()", "settings = ['search_path']", Code::BadObject),
        ("schema other", "columns = { id = 'integer' }", Code::UnknownKey),
    ];
    for (object, keys, expected) in keys {
        let text = format!("{HARBOUR}[databases.db.objects.'{object}']\nowner = 'owner'\n{keys}\n");
        let findings = Ledger::new().document("ledger.toml", &text).estate().expect_err(keys);
        let codes: Vec<Code> = findings.list().iter().map(|finding| finding.code).collect();
        assert_eq!(codes, [expected], "{object}: {keys}\n{findings}");
    }
    let role = HARBOUR.replace("owner = {}", "owner = { locked = true }");
    assert!(Ledger::new().document("ledger.toml", &role).estate().is_err_and(|f| f.list().iter().any(|f| f.code == Code::UnknownKey)));
}
