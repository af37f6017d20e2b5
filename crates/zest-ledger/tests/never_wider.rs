//! Each known class of a wrong "allowed", with its siblings in the other kinds. The page `docs/past-mistakes.md` names the rows.

use jiff::SignedDuration;
use zest_ledger::ask::{Act, Refusal, Verdict};
use zest_ledger::entry::{Channel, Proof};
use zest_ledger::finding::Code;
use zest_ledger::{Engine, Ledger, Question};

use crate::support::{ask, engine, outcome};

const ALLOWED: Result<Verdict, Refusal> = Ok(Verdict::Allowed);
const AFTER: Result<Verdict, Refusal> = Ok(Verdict::AllowedAfter);

fn minutes(n: i64) -> SignedDuration {
    SignedDuration::from_mins(n)
}

fn act(text: &str) -> Act {
    text.parse().expect("a link")
}

/// Asserts the outcome of questions on a ledger, one test a row.
macro_rules! rows {
    ($ledger:ident: $($name:ident: $question:expr => $expected:expr;)+) => {
        $(
            #[test]
            fn $name() {
                let answer = ask(&$ledger(), &$question);
                let shown: Vec<&str> = answer.gates.iter().map(|g| g.text.as_str()).collect();
                assert_eq!(outcome(&answer), $expected, "{shown:#?}");
            }
        )+
    };
}

// -- second persons, obligations, acting ----------------------------------------------------------------------------------

const DESK: &str = r#"
[users]
a-1 = { proofs = ["password"] }
b-1 = { proofs = ["password"] }
c-1 = { proofs = ["password"] }
far-1 = { proofs = ["password"] }
guard-1 = { proofs = ["password"] }
alone-1 = { proofs = ["password"] }
bare-1 = {}
[systems.desk]
kind = "application"
[applications.desk.types.box]
rights = ["open", "seal", "empty", "lone", "view"]
looks = ["view"]
rights-after.open = { second-person = ["anyone"], prove-again = "5m" }
rights-after.seal = { second-person = ["user:b-1"], confirm = true }
rights-after.lone = { second-person = ["user:bare-1"] }
[applications.desk.types.secret]
rights = ["approve"]
second-person-right = "approve"
[applications.desk.objects]
"box/1" = {}
"secret/key" = {}
[[applications.desk.grants]]
allow = ["open", "seal", "lone", "view"]
on = "box/*"
to = ["user:a-1", "user:b-1", "user:c-1"]
[[applications.desk.grants]]
allow = ["read-secret"]
on = "secret/key"
to = ["user:a-1"]
after = { second-person = ["user:guard-1", "user:c-1"] }
[[applications.desk.grants]]
allow = ["approve"]
on = "secret/key"
to = ["user:guard-1"]
[[applications.desk.acting]]
as = "user:b-1"
by = ["user:a-1"]
[[applications.desk.acting]]
as = "user:c-1"
by = ["user:a-1"]
"#;

fn desk() -> Engine {
    engine(DESK)
}

fn open() -> Question {
    Question::new("a-1", "desk", "open on box/1").proof(Proof::Password, minutes(1))
}

rows! { desk:
    a_second_person_whose_proof_is_not_stated: open().approved_by("c-1") => Err(Refusal::NotEntitled);
    a_second_person_whose_proof_is_nine_hours_old: open().approved_by("c-1").approver_proof(Proof::Password, minutes(540)) => Err(Refusal::NotEntitled);
    a_second_person_who_proved_it_just_now: open().approved_by("c-1").approver_proof(Proof::Password, minutes(4)) => ALLOWED;
    agreeing_is_confirming: Question::new("a-1", "desk", "seal on box/1").proof(Proof::Password, minutes(1)).confirmed().approved_by("b-1").approver_proof(Proof::Password, minutes(1)) => ALLOWED;
    agreeing_does_not_confirm_for_the_first: Question::new("a-1", "desk", "seal on box/1").proof(Proof::Password, minutes(1)).approved_by("b-1").approver_proof(Proof::Password, minutes(1)) => AFTER;
    nobody_can_agree: Question::new("a-1", "desk", "lone on box/1").proof(Proof::Password, minutes(1)) => Err(Refusal::NobodyCan);
    somebody_could_agree: open() => AFTER;
    whoever_may_approve_need_not_read_the_secret: Question::new("a-1", "desk", "read-secret on secret/key").proof(Proof::Password, minutes(1)).approved_by("guard-1").approver_proof(Proof::Password, minutes(1)) => ALLOWED;
    whoever_may_not_approve_does_not: Question::new("a-1", "desk", "read-secret on secret/key").proof(Proof::Password, minutes(1)).approved_by("c-1").approver_proof(Proof::Password, minutes(1)) => Err(Refusal::NotEntitled);
    nobody_in_the_chain_agrees: open().acting(act("user:b-1")).acting(act("user:c-1")).approved_by("b-1").approver_proof(Proof::Password, minutes(1)) => Err(Refusal::SamePerson);
    nor_the_one_at_its_end: open().acting(act("user:b-1")).acting(act("user:c-1")).approved_by("c-1").approver_proof(Proof::Password, minutes(1)) => Err(Refusal::SamePerson);
    with_the_central_source_down_nobody_signs_in: open().central_down() => Err(Refusal::CentralDownNoAccount);
    roles_are_not_assumed_in_an_application: Question::new("a-1", "desk", "view on box/1").acting(act("role:x")) => Err(Refusal::ActingNotKnown);
}

const SKY: &str = r#"
[users]
a-1 = { proofs = ["password"] }
b-1 = { proofs = ["password"] }
[systems.sky]
kind = "cloud"
[clouds.sky.operations]
"disk.read" = { reads = true }
[clouds.sky.resources]
line = {}
"line/sealed" = {}
[[clouds.sky.grants]]
allow = ["assume"]
on = "role/*"
to = ["user:a-1", "user:b-1", "role:outer"]
[[clouds.sky.grants]]
allow = ["disk.read"]
on = "line"
to = ["user:a-1"]
[roles.outer]
assumable = { by = ["user:a-1"], longest = "1h" }
grants = [{ allow = ["disk.read"], on = "line" }]
[roles.inner]
assumable = { by = ["role:outer"], longest = "1h" }
grants = [{ allow = ["disk.read"], on = "line" }]
"#;

fn sky() -> Engine {
    engine(SKY)
}

fn at_ten(user: &str, line: &str) -> Question {
    Question::new(user, "sky", line).proof(Proof::Password, minutes(1)).at("2026-11-27T10:00:00Z".parse().expect("a moment"))
}

rows! { sky:
    half_an_assumption_is_not_one: at_ten("b-1", "assume on role/outer") => Err(Refusal::RoleDoesNotAdmit);
    a_whole_assumption_is_one: at_ten("a-1", "assume on role/outer") => ALLOWED;
    a_role_within_a_role: at_ten("a-1", "disk.read on line").acting(act("role:outer@2026-11-27T09:30:00Z")).acting(act("role:inner@2026-11-27T09:40:00Z")) => ALLOWED;
    an_inner_role_before_the_outer_one: at_ten("a-1", "disk.read on line").acting(act("role:outer@2026-11-27T09:40:00Z")).acting(act("role:inner@2026-11-27T09:30:00Z")) => Err(Refusal::AssumedTooEarly);
    an_inner_role_before_an_outer_one_of_now: at_ten("a-1", "disk.read on line").acting(act("role:outer")).acting(act("role:inner@2026-11-27T09:30:00Z")) => Err(Refusal::AssumedTooEarly);
    a_path_with_a_blank_at_its_end: at_ten("a-1", "disk.read on line/x ") => Err(Refusal::ActionUnreadable);
    on_a_cloud_with_the_central_source_down: at_ten("a-1", "disk.read on line").central_down() => Err(Refusal::CentralDownNoAccount);
}

#[test]
fn an_undeclared_path_is_answered_with_a_remark() {
    let answer = ask(&sky(), &at_ten("a-1", "disk.read on line/seeled"));
    assert_eq!(outcome(&answer), ALLOWED);
    let remark = answer.gates.iter().find(|g| g.text.contains("`line/seeled` is not declared"));
    assert!(remark.is_some_and(|g| g.text.contains("the nearest is `line/sealed`")), "{:#?}", answer.gates);
}

// -- interfaces -----------------------------------------------------------------------------------------------------------

fn calls() -> Engine {
    let api = r#"{"openapi": "3.1.0", "paths": {
        "/x/{a}-{b}": {"get": {"operationId": "x.pair"}},
        "/y/{a}": {"get": {"operationId": "y.any"}},
        "/y/{a}.bak": {"get": {"operationId": "y.backup"}},
        "/y/latest": {"get": {"operationId": "y.latest"}},
        "/w/{a}/of/{b}": {"get": {"operationId": "w.of"}}}}"#;
    let text = r#"
[users]
a-1 = { proofs = ["password"] }
b-1 = { proofs = ["password"] }
[systems.sky]
kind = "cloud"
[clouds.sky]
interface = "sky.openapi.json"
addresses = { "/y/{r}" = "y/{r}", "/x/{r}" = "x", "/w/{r}" = "w", "/w/{r}/of/{s}" = "w/sealed" }
[clouds.sky.resources]
x = {}
y = {}
"y/strongroom" = {}
w = {}
"w/sealed" = {}
[[clouds.sky.grants]]
allow = ["x.pair", "y.any", "y.latest", "w.of"]
on = "**"
to = ["user:a-1"]
[[clouds.sky.grants]]
allow = ["all"]
on = "**"
to = ["user:b-1"]
[[clouds.sky.grants]]
deny = ["w.of"]
on = "w/sealed"
to = ["user:a-1"]
"#;
    let ledger = Ledger::new().interface("sky.openapi.json", api).document("ledger.toml", text);
    Engine::compile(ledger.estate().unwrap_or_else(|f| panic!("{f}"))).unwrap_or_else(|f| panic!("{f}"))
}

fn call(user: &str, line: &str) -> Question {
    Question::new(user, "sky", line).proof(Proof::Password, minutes(1))
}

rows! { calls:
    two_variables_in_one_part: call("a-1", "GET /x/1-2") => ALLOWED;
    two_variables_do_not_take_any_part: call("a-1", "GET /x/12") => Err(Refusal::UnknownOperation);
    nor_an_empty_one: call("a-1", "GET /x/-2") => Err(Refusal::UnknownOperation);
    all_templates_that_match_must_be_allowed: call("a-1", "GET /y/1.bak") => Err(Refusal::NotGranted);
    where_all_are_it_is: call("b-1", "GET /y/1.bak") => ALLOWED;
    a_path_that_is_written_out_comes_alone: call("a-1", "GET /y/latest") => ALLOWED;
    the_longest_address_counts: call("a-1", "GET /w/1/of/2") => Err(Refusal::DeniedByGrant);
    another_resource_than_the_call_means: call("a-1", "GET /y/strongroom on y") => Err(Refusal::ActionUnreadable);
    the_resource_that_the_call_means: call("a-1", "GET /y/strongroom on y/strongroom") => ALLOWED;
    a_blank_at_the_end_of_a_call: call("a-1", "GET /y/strongroom%20") => Err(Refusal::ActionUnreadable);
}

#[test]
fn templates_that_match_the_same_and_keys_that_stand_twice_are_errors() {
    for (paths, what) in [
        (r#""/z/{a}": {"get": {"operationId": "z.a"}}, "/z/{b}": {"get": {"operationId": "z.b"}}"#, "matches the same calls"),
        (r#""/z": {"get": {"operationId": "z.a"}}, "/z": {"put": {"operationId": "z.b"}}"#, "stands twice"),
        (r#""/z": {"get": {"operationId": "z.a", "operationId": "z.b"}}"#, "stands twice"),
    ] {
        let api = format!("{{\"openapi\": \"3.1.0\", \"paths\": {{{paths}}}}}");
        let findings = Ledger::new().interface("sky.openapi.json", &api).validate().findings;
        assert!(findings.to_string().contains(what), "{paths}\n{findings}");
    }
}

// -- hosts ----------------------------------------------------------------------------------------------------------------

const BOX: &str = r#"
[users]
op-1 = { proofs = ["password"] }
key-1 = { proofs = ["key"] }
[systems.box]
kind = "host"
no-command-set = "everything"
[command-sets.most]
rules = [
  "deny  /bin/rm ...",
  "deny  /usr/bin/b {word}",
  { allow = "/usr/bin/held", after = { confirm = true } },
  "allow /usr/bin/rm ...",
  "allow /usr/bin/a {word}",
  "allow /usr/bin/b ...",
]
[command-sets.linked]
rules = ["deny /bin/rm ...", "allow ..."]
[hosts.box]
links = { "/bin" = "/usr/bin", "/sbin" = "/bin", "/opt/tools" = "../usr/bin" }
accounts = { op-1 = {}, key-1 = {}, batch = { shell = "/usr/sbin/nologin" }, root = {} }
run-as = [
  { by = ["user:op-1"], as = ["batch"], commands = ["most"], proof = false },
  { by = ["user:op-1"], as = ["root"], commands = ["linked"], proof = false },
  { by = ["user:key-1"], as = ["batch"], commands = ["most"] },
]
"#;

fn on_box() -> Engine {
    engine(BOX)
}

fn typed(line: &str) -> Question {
    Question::new("op-1", "box", line)
}

fn as_root(line: &str) -> Question {
    typed(line).acting(act("account:root"))
}

rows! { on_box:
    a_deny_on_a_linked_path: as_root("/usr/bin/rm x") => Err(Refusal::DeniedByRule);
    the_path_as_it_is_written: as_root("/bin/rm x") => Err(Refusal::DeniedByRule);
    links_behind_links: as_root("/sbin/rm x") => Err(Refusal::DeniedByRule);
    a_link_that_goes_up: as_root("/opt/tools/rm x") => Err(Refusal::DeniedByRule);
    up_from_where_a_link_leads: as_root("/sbin/../bin/rm x") => Err(Refusal::DeniedByRule);
    another_program: as_root("/usr/bin/id") => ALLOWED;
    a_slash_at_the_end_names_no_program: typed("/usr/bin/a/ x").acting(act("account:batch")) => Err(Refusal::NotPermitted);
    a_blank_of_another_script_is_no_blank: typed("/usr/bin/a x\u{a0}y").acting(act("account:batch")) => ALLOWED;
    an_obligation_that_no_host_asks_for: typed("/usr/bin/held").acting(act("account:batch")) => Err(Refusal::NobodyCan);
    a_password_of_somebody_who_has_none: Question::new("key-1", "box", "/usr/bin/a x").acting(act("account:batch")) => Err(Refusal::NobodyCan);
    sudo_typed_as_a_line: typed("sudo /usr/bin/rm x") => Err(Refusal::ActingNotKnown);
    su_typed_with_its_path: typed("/bin/su - root") => Err(Refusal::ActingNotKnown);
    sudo_behind_another_program: typed("env A=1 /usr/bin/sudo id") => Err(Refusal::ActingNotKnown);
    sudo_behind_a_semicolon: typed("true; sudo id") => Err(Refusal::ActingNotKnown);
    sudo_told_to_a_shell: typed("sh -c \"sudo id\"") => Err(Refusal::ActingNotKnown);
    an_ordinary_line: typed("ls -l /tmp") => ALLOWED;
}

// -- devices --------------------------------------------------------------------------------------------------------------

const DECK: &str = r#"
[users]
a-1 = { proofs = ["password"] }
b-1 = { proofs = ["password"] }
local-1 = { proofs = ["password"] }
night-1 = { proofs = ["password"] }
[vocabularies.make]
commands = [
  { line = "leave", level = 0, does = "leave-session" },
  { line = "elevate {level: 0-15}", level = 0, does = "elevate" },
  { line = "show ..." },
  { line = "host {word}" },
  { line = "net {word}" },
  { line = "restart", level = 15 },
]
[command-sets.most]
rules = [
  "deny show secrets ...",
  "deny host 10.0.0.1",
  "deny host 2001:db8::1",
  "deny net 10.0.0.0/8",
  { allow = "elevate 15", after = { second-person = ["user:b-1"] } },
  "allow ...",
]
[command-sets.look]
rules = ["allow show log", "allow leave"]
[roles.most]
band = { start = 1, ceiling = 15 }
commands = ["most"]
[systems.sw]
kind = "network-device"
vocabulary = "make"
no-command-set = "nothing"
authorisation = { levels = "all", configuration = true }
[systems.island]
kind = "network-device"
vocabulary = "make"
no-command-set = "nothing"
identity-sources = ["local"]
accounts.local-1 = { band = { start = 15, ceiling = 15 }, commands = ["look"] }
accounts.a-1 = { band = { start = 15, ceiling = 15 } }
[[assignments]]
to = ["user:a-1", "user:b-1"]
roles = ["most"]
on = { systems = ["sw"] }
[[assignments]]
to = ["user:night-1"]
roles = ["most"]
on = { systems = ["sw"] }
when = { days = ["fri"], hours = "22:00-06:00" }
"#;

fn deck() -> Engine {
    engine(DECK)
}

fn on_sw(line: &str) -> Question {
    Question::new("a-1", "sw", line)
}

fn at_night(moment: &str) -> Question {
    Question::new("night-1", "sw", "show log").at(moment.parse().expect("a moment"))
}

rows! { deck:
    a_word_that_may_be_short_for_what_is_denied: on_sw("show sec") => Err(Refusal::AmbiguousAbbreviation);
    also_with_more_behind_it: on_sw("show secret all") => Err(Refusal::AmbiguousAbbreviation);
    a_word_that_may_not: on_sw("show settings") => ALLOWED;
    an_address_mapped_from_ipv4: on_sw("host ::ffff:10.0.0.1") => Err(Refusal::DeniedByRule);
    another_spelling_of_an_address: on_sw("host 2001:DB8:0::1") => Err(Refusal::DeniedByRule);
    an_address_with_leading_zeros: on_sw("host 010.0.0.1") => Err(Refusal::LineUnreadable);
    an_address_in_hexadecimal: on_sw("host 0xa.0.0.1") => Err(Refusal::LineUnreadable);
    a_network_by_another_of_its_addresses: on_sw("net 10.1.2.3/8") => Err(Refusal::DeniedByRule);
    a_network_mapped_from_ipv4: on_sw("net ::ffff:10.0.0.0/104") => Err(Refusal::DeniedByRule);
    another_network: on_sw("net 10.1.2.3/16") => ALLOWED;
    a_level_owes_what_the_line_to_it_asks: on_sw("restart").level(15) => AFTER;
    and_is_free_once_that_is_done: on_sw("restart").level(15).approved_by("b-1").approver_proof(Proof::Password, minutes(1)) => ALLOWED;
    the_level_alone_owes_nothing_at_the_start: on_sw("show log") => ALLOWED;
    a_local_account_with_command_sets: Question::new("local-1", "island", "show log") => ALLOWED;
    is_refused_what_they_do_not_permit: Question::new("local-1", "island", "restart") => Err(Refusal::NotPermitted);
    a_local_account_without_any: Question::new("a-1", "island", "restart") => ALLOWED;
    the_night_of_friday_begins_on_friday: at_night("2026-11-27T22:00:00Z") => ALLOWED;
    and_ends_on_saturday: at_night("2026-11-28T05:59:00Z") => ALLOWED;
    the_small_hours_of_friday_are_thursdays: at_night("2026-11-27T03:00:00Z") => Err(Refusal::OutsideDays);
    saturdays_night_is_another: at_night("2026-11-28T22:30:00Z") => Err(Refusal::OutsideDays);
    a_fact_that_devices_do_not_look_at: on_sw("show log").attribute("ticket", "7") => Err(Refusal::FactNotHeard);
    nor_at_a_servers_socket: on_sw("show log").local() => Err(Refusal::FactNotHeard);
    but_at_the_channel: on_sw("show log").channel(Channel::Terminal) => ALLOWED;
}

// -- databases: what was not read, or is only named, is not known ----------------------------------------------------------

const PG: &str = r#"
[systems.db]
kind = "postgresql"
[databases.db]
not-modelled = ["setting search_path of moved", "setting role of hall-2", "operator ### of public", "event trigger watch"]
[databases.db.accounts]
clerk = {}
moved = {}
hall-2 = {}
hall = { not-modelled = ["requirement of the host's own rules"] }
maker = { may = ["create-role"] }
[databases.db.roles]
boss = { may = ["superuser"] }
[databases.db.objects]
"schema pier" = {}
"schema hidden" = {}
"table pier.t" = { columns = { id = "integer", amount = "integer" }, defaults = { amount = "pier.shut(1)" } }
"table pier.traps" = { columns = { id = "integer" }, not-modelled = ["trigger log on insert, truncate", "check tide", "policy own"] }
"table pier.rows" = { columns = { id = "integer" }, row-security = true }
"table pier.closed" = { columns = { id = "integer" } }
"table hidden.t" = { columns = { id = "integer" } }
"view pier.inner" = { runs-as = "caller", columns = ["id"], query = "SELECT id FROM pier.closed" }
"view pier.outer" = { columns = ["id"], query = "SELECT id FROM pier.inner" }
"view pier.calls" = { columns = ["id"], query = "SELECT pier.shut(id) AS id FROM pier.closed" }
"type pier.kept" = { values = ["calm"] }
"function pier.shut(integer)" = { returns = "integer", body = "select $1" }
"function pier.empty()" = { returns = "integer" }
"function pier.atomic()" = { returns = "integer", body = "select 1", not-modelled = ["body in BEGIN ATOMIC"] }
[[databases.db.grants]]
allow = ["usage", "create"]
on = "schema pier"
to = ["clerk", "moved", "hall", "maker"]
[[databases.db.grants]]
allow = ["all"]
on = ["table pier.t", "table pier.traps", "table pier.rows", "view pier.outer", "view pier.calls"]
to = ["clerk", "moved", "hall"]
[[databases.db.grants]]
revoke = ["execute"]
on = "function pier.shut(integer)"
from = ["public"]
[[databases.db.grants]]
revoke = ["usage"]
on = "type pier.kept"
from = ["public"]
"#;

fn pg() -> Engine {
    engine(PG)
}

fn sql(user: &str, statement: &str) -> Question {
    Question::statement(user, "db", statement)
}

const UNDECIDED: Result<Verdict, Refusal> = Err(Refusal::NotDecided);
const NO_PRIVILEGE: Result<Verdict, Refusal> = Err(Refusal::NoPrivilege);

rows! { pg:
    a_table_without_a_note_has_none: sql("clerk", "update pier.t set id = 1") => ALLOWED;
    a_default_runs_as_the_caller: sql("clerk", "insert into pier.t (id) values (1)") => NO_PRIVILEGE;
    a_default_by_name_runs_as_well: sql("clerk", "update pier.t set amount = default") => NO_PRIVILEGE;
    a_default_that_is_not_used_does_not: sql("clerk", "insert into pier.t (id, amount) values (1, 2)") => ALLOWED;
    a_trigger_is_not_known: sql("clerk", "insert into pier.traps (id) values (1)") => UNDECIDED;
    a_trigger_on_other_acts_is_not_looked_at: sql("clerk", "explain truncate pier.traps") => UNDECIDED;
    a_check_is_not_known: sql("clerk", "update pier.traps set id = 1") => UNDECIDED;
    a_policy_is_not_known: sql("clerk", "select id from pier.traps") => UNDECIDED;
    a_bare_privilege_looks_at_none_of_them: Question::new("clerk", "db", "insert on table pier.traps") => ALLOWED;
    row_security_may_look_at_anything_to_show_rows: sql("clerk", "select id from pier.rows") => UNDECIDED;
    row_security_may_keep_new_rows_out: sql("clerk", "insert into pier.rows (id) values (1)") => UNDECIDED;
    copying_in_keeps_to_row_security: sql("clerk", "copy pier.rows from stdin") => UNDECIDED;
    a_view_over_one_of_the_caller: sql("clerk", "select id from pier.outer") => NO_PRIVILEGE;
    a_routine_behind_a_view_runs_as_the_caller: sql("clerk", "select id from pier.calls") => NO_PRIVILEGE;
    a_setting_of_the_session: sql("moved", "select id from pier.t") => UNDECIDED;
    a_bare_privilege_looks_at_the_role_of_the_start: Question::new("hall-2", "db", "usage on schema pier") => UNDECIDED;
    a_setting_of_another: sql("clerk", "select id from pier.t") => ALLOWED;
    an_operator_of_their_own: sql("clerk", "select 1 ### 2") => UNDECIDED;
    an_event_trigger: sql("clerk", "create table pier.made (id integer)") => UNDECIDED;
    what_is_looked_at_to_sign_in: sql("hall", "select 1") => UNDECIDED;
    a_type_of_others: sql("clerk", "create table pier.made (sea pier.kept)") => NO_PRIVILEGE;
    a_list_of_a_type_of_others: sql("clerk", "create table pier.made (sea pier.kept[])") => NO_PRIVILEGE;
    a_name_behind_a_shut_schema: sql("clerk", "select 'hidden.t'::regclass") => Err(Refusal::SchemaShut);
    a_size_behind_a_shut_schema: sql("clerk", "select pg_relation_size('hidden.t')") => Err(Refusal::SchemaShut);
    a_body_that_is_not_there: sql("clerk", "select pier.empty()") => UNDECIDED;
    a_body_that_is_not_modelled: sql("clerk", "select pier.atomic()") => UNDECIDED;
    a_role_that_is_made_a_superuser: sql("maker", "create role made in role boss") => Err(Refusal::NoAdminOption);
}

const MARIA: &str = r#"
[systems.db]
kind = "mariadb"
[databases.db.accounts]
"clerk@192.0.2.%" = {}
"named@%" = {}
"named@pier.example" = {}
"sealed@%" = { not-modelled = ["requirement x509"] }
"guest@%" = {}
"@198.51.100.%" = {}
[databases.db.roles]
crew = {}
[databases.db.objects]
"table club.t" = { columns = { id = "int(11)" } }
"table club.traps" = { columns = { id = "int(11)" }, not-modelled = ["trigger log on delete"] }
"table club.closed" = { columns = { id = "int(11)" } }
"view club.of-root" = { columns = ["id"], query = "select id from club.t" }
"view club.of-a-role" = { columns = ["id"], query = "select id from club.t", not-modelled = ["definer that is a role"] }
"table club.gone" = { not-modelled = ["gone"] }
[[databases.db.grants]]
allow = ["all"]
on = ["table club.t", "table club.traps", "table club.of-root", "table club.of-a-role", "table club.gone"]
to = ["clerk@192.0.2.%", "named@%", "sealed@%", "@198.51.100.%"]
[[databases.db.grants]]
allow = ["create view", "create", "create routine"]
on = "database club"
to = ["clerk@192.0.2.%"]
[[databases.db.grants]]
allow = ["membership"]
on = "role crew"
to = ["public"]
"#;

fn maria() -> Engine {
    engine(MARIA)
}

fn coming(user: &str, address: &str, statement: &str) -> Question {
    sql(user, statement).from(address.parse().expect("an address"))
}

fn clerk(statement: &str) -> Question {
    coming("clerk", "192.0.2.1", statement)
}

rows! { maria:
    a_table_of_mariadb: clerk("select id from club.t") => ALLOWED;
    a_trigger_of_mariadb: clerk("delete from club.traps") => UNDECIDED;
    a_trigger_of_mariadb_on_another_act: clerk("insert into club.traps (id) values (1)") => ALLOWED;
    a_comment_that_is_carried_out: clerk("select id from club.t /*! join club.closed c */") => NO_PRIVILEGE;
    another_comment_that_is_carried_out: clerk("select 1 /*M!100100 from club.closed */") => NO_PRIVILEGE;
    a_comment_that_depends_on_the_release: clerk("select id from club.t /*!101150 join club.t c */") => UNDECIDED;
    a_comment_of_another_server: clerk("select id from club.t /*!50799 join club.closed c */") => ALLOWED;
    a_comment_of_a_later_version: clerk("select id from club.t /*!110000 join club.closed c */") => ALLOWED;
    a_sign_of_a_comment_in_a_text: clerk("select '/*! x' from club.t where '*/' = id") => ALLOWED;
    a_comment_without_an_end: clerk("select id from club.t /*! where 1") => UNDECIDED;
    a_change_of_several_tables_of_which_one_is_closed: clerk("update club.t join club.closed on true set t.id = 1") => NO_PRIVILEGE;
    a_removal_from_several_tables_of_which_one_is_closed: clerk("delete t from club.t join club.closed") => NO_PRIVILEGE;
    a_change_of_several_tables: clerk("update club.t join club.traps on true set t.id = 1") => ALLOWED;
    a_removal_from_several_tables: clerk("delete t from club.t join club.traps") => ALLOWED;
    in_the_name_of_another: clerk("create definer='root'@'localhost' view club.made as select id from club.t") => NO_PRIVILEGE;
    a_column_that_refers: clerk("create table club.made (id int references club.closed (id))") => NO_PRIVILEGE;
    an_explained_view: clerk("explain select id from club.`of-root`") => NO_PRIVILEGE;
    a_definer_that_no_ledger_names: clerk("select id from club.`of-root`") => NO_PRIVILEGE;
    a_definer_that_is_a_role: clerk("select id from club.`of-a-role`") => UNDECIDED;
    a_role_of_everybody: clerk("set role crew") => UNDECIDED;
    a_role_of_everybody_at_sign_in: clerk("select id from club.t").active_role("crew") => UNDECIDED;
    an_account_of_a_name_may_come_first: coming("named", "192.0.2.1", "select id from club.t") => UNDECIDED;
    a_requirement_to_sign_in: coming("sealed", "192.0.2.1", "select id from club.t") => UNDECIDED;
    a_name_that_nobody_has_is_let_in_without_one: coming("stranger", "198.51.100.7", "select id from club.t") => ALLOWED;
    a_name_that_nobody_has_is_not_let_in_elsewhere: coming("stranger", "192.0.2.7", "select id from club.t") => Err(Refusal::OriginNotAdmitted);
}

/// What an account says that only the other server looks at.
#[test]
fn a_key_that_the_server_does_not_know_is_not_passed_over() {
    for (kind, name, key) in [
        ("mariadb", "desk@%", "until = 2026-01-01"),
        ("mariadb", "desk@%", "inherit = false"),
        ("mariadb", "desk@%", "settings = [\"role=x\"]"),
        ("postgresql", "desk", "credential-due = 2026-01-01T00:00:00Z"),
        ("postgresql", "desk", "locked = true"),
        ("postgresql", "desk", "limits = { queries = 5 }"),
    ] {
        let ledger = format!("[systems.db]\nkind = \"{kind}\"\n[databases.db.accounts]\n\"{name}\" = {{ {key} }}\n");
        let found = Ledger::new().document("ledger.toml", &ledger).estate().expect_err(key);
        assert!(found.list().iter().any(|f| f.code == Code::UnknownKey && f.message.contains("means nothing")), "{key}: {found}");
    }
}

/// What a system says at which systems of its kind do not look, such as what proofs it accepts: the server has rules of its own.
#[test]
fn a_key_of_a_system_that_means_nothing_on_its_kind_is_not_passed_over() {
    const KEYS: [(&str, &str); 11] = [
        ("vocabulary", "'make'"),
        ("no-command-set", "'nothing'"),
        ("authorisation", "{ levels = 'all', configuration = true }"),
        ("identity-sources", "['local', 'central']"),
        ("name-case", "'ignored'"),
        ("when-central-down", "'nothing'"),
        ("privileged-at-sign-in", "true"),
        ("own-levels", "[{ command = 'show', level = 3 }]"),
        ("accounts", "{ yard = { used-by = [] } }"),
        ("database", "'fares'"),
        ("accepts", "{ terminal = ['one-time-code'] }"),
    ];
    let device =
        "vocabulary no-command-set authorisation identity-sources name-case when-central-down privileged-at-sign-in own-levels accounts";
    for (kind, heard) in [
        ("network-device", device),
        ("host", "no-command-set identity-sources accepts"),
        ("cloud", "name-case accepts"),
        ("application", "name-case accepts"),
        ("postgresql", "database"),
        ("mariadb", ""),
    ] {
        for (key, value) in KEYS {
            let ledger = format!("[systems.it]\nkind = '{kind}'\n{key} = {value}\n");
            let found = Ledger::new().document("ledger.toml", &ledger).estate().err();
            let is_said = found.is_some_and(|found| {
                found.list().iter().any(|f| f.code == Code::UnknownKey && f.message.starts_with(&format!("`{key}` of `it` means nothing")))
            });
            assert_eq!(is_said, !heard.split(' ').any(|word| word == key), "{key} on {kind}");
        }
    }
}

/// By which channel somebody may come holds on a database server as well, once a question says by which one it is.
#[test]
fn a_channel_that_is_not_theirs_is_refused_on_database_servers() {
    for (kind, account) in [("postgresql", "counter"), ("mariadb", "counter@%")] {
        let engine = engine(&format!(
            "users.counter = {{ proofs = ['password'], channels = ['api'] }}\n[systems.db]\nkind = '{kind}'\n\
             [databases.db.accounts]\n'{account}' = {{}}\n"
        ));
        let asked = |channel: Option<Channel>| {
            let question = Question::statement("counter", "db", "select 1").from("192.0.2.1".parse().expect("an address"));
            engine.ask(&channel.into_iter().fold(question, Question::channel)).refusal
        };
        assert_eq!(asked(None), None, "{kind}");
        assert_eq!(asked(Some(Channel::Api)), None, "{kind}");
        assert_eq!(asked(Some(Channel::Terminal)), Some(Refusal::ChannelNotAllowed), "{kind}");
    }
}
