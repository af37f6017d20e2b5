//! Clouds: denies, ceilings, conditions with three outcomes, roles that are assumed, sessions that end.

use jiff::SignedDuration;
use zest_ledger::ask::{Act, Refusal, Verdict};
use zest_ledger::entry::{Channel, Proof};
use zest_ledger::{Engine, Ledger, Question};

use crate::support::{ask, engine, outcome};

/// One cloud: a lead through a group, a clerk with little, a night operator's role, and somebody without any allow.
pub(crate) const CLOUD: &str = r#"
[users]
lead-1 = { proofs = ["password", "one-time-code"] }
clerk-1 = { proofs = ["password", "one-time-code"], attributes = { pier = "selkie", grade = "3" } }
nobody-1 = { proofs = ["password", "one-time-code"] }
night-1 = { proofs = ["password", "one-time-code"] }
nested-1 = { proofs = ["password"] }
round-1 = { proofs = ["password"] }
barred-1 = { proofs = ["password"] }
new-1 = { proofs = ["password"], must-change-credential = true }
hopeful-1 = { proofs = ["password"] }
wanted-1 = { proofs = ["password"] }
capped-1 = { proofs = ["password"] }
both-1 = { proofs = ["password"] }

[groups]
leads = { members = ["user:lead-1", "user:new-1"] }
everyone = { members = ["user:lead-1", "user:nobody-1"] }
night = { members = ["user:night-1", "user:wanted-1"] }

[systems.sky]
kind = "cloud"
labels = { stage = "production" }

[clouds.sky]
interface = "sky.openapi.json"
operations = { "codes.confirm" = {}, "sessions.show" = { reads = true } }
operation-groups = { "records-care" = ["records.list", "records.put"] }
addresses = { "/v1/{project}/records" = "line/{project}/records" }
session-attributes = ["ticket"]
proofs-cover = { terminal = ["api"] }

[clouds.sky.resources]
"line" = {}
"line/fares" = {}
"line/fares/records" = { attributes = { pier = "selkie", class = "2" } }
"line/rota" = { attributes = { pier = "marram" } }
"line/sealed" = {}

[[clouds.sky.grants]]
allow = ["all", "administer"]
on = "**"
to = ["group:leads"]

[[clouds.sky.grants]]
deny = ["all"]
except = ["codes.confirm", "sessions.show"]
on = "**"
to = ["group:everyone"]
lifted-by = { proof = ["one-time-code"], proof-age = "1h" }

[[clouds.sky.grants]]
allow = ["records-care"]
on = "line/*"
to = ["user:clerk-1"]
when = { compare = ["user.pier = resource.pier", "user.grade >= 2"] }

[[clouds.sky.grants]]
allow = ["records.delete"]
on = "line/fares"
to = ["user:clerk-1"]
when = { compare = ["session.ticket = 'LF-7'"] }

[[clouds.sky.grants]]
allow = ["records.list"]
on = "line/rota"
to = ["user:night-1", "user:capped-1"]

[[clouds.sky.grants]]
allow = ["records.put"]
on = "line/rota"
to = ["user:capped-1", "user:both-1"]
until = 2026-12-31

[[clouds.sky.grants]]
allow = ["assume"]
on = ["role/night-operator", "role/deep"]
to = ["user:night-1", "user:hopeful-1"]

[[clouds.sky.grants]]
allow = ["assume"]
on = "role/deep"
to = ["role:night-operator"]

[[clouds.sky.grants]]
allow = ["assume"]
on = "role/watched"
to = ["user:night-1", "user:both-1"]
after = { second-person = ["anyone"] }

[[clouds.sky.grants]]
allow = ["read-secret"]
on = "line/sealed"
to = ["user:both-1"]

[[clouds.sky.ceilings]]
of = ["user:capped-1"]
allow = ["read"]

[[clouds.sky.ceilings]]
of = ["role:middle"]
allow = ["read"]

[[clouds.sky.ceilings]]
within = "line/sealed"
allow = ["read"]

[[clouds.sky.acting]]
as = "user:capped-1"
by = ["user:night-1"]

[roles.night-operator]
grants = [{ allow = ["records.*"], on = "line/fares" }]
assumable = { by = ["group:night"], when = { proof = ["one-time-code", "password"] }, longest = "1h", may-state = ["shift"] }

[roles.deep]
grants = [{ allow = ["records.delete"], on = "line/rota", when = { compare = ["session.shift = 'night'"] } }]
assumable = { by = ["role:night-operator"], may-state = ["shift"] }

[roles.watched]
grants = [{ allow = ["records.put"], on = "line/fares" }]
assumable = { by = ["group:night"] }

[roles.reader]
grants = [{ allow = ["read"], on = "**" }]

[roles.bottom]
grants = [{ allow = ["records.put", "records.list"], on = "line/fares" }]

[roles.middle]
includes = ["bottom"]

[roles.top]
includes = ["middle"]
grants = [{ allow = ["records.delete"], on = "line/fares" }]

[roles.around]
includes = ["middle", "bottom"]

[roles.barred]
grants = [{ deny = ["records.put"], on = "**" }]

[roles.writer]
grants = [{ allow = ["records.put", "records.list"], on = "line/fares" }]

[[assignments]]
to = ["user:both-1"]
roles = ["reader"]
on = { systems = ["sky"], at = "line/fares" }

[[assignments]]
to = ["user:nested-1"]
roles = ["top"]
on = { systems = ["sky"], at = "line/fares" }

[[assignments]]
to = ["user:round-1"]
roles = ["around"]
on = { systems = ["sky"], at = "line/fares" }

[[assignments]]
to = ["user:barred-1"]
roles = ["barred", "writer"]
on = { systems = ["sky"] }
"#;

pub(crate) const API: &str = r##"{"openapi": "3.1.0", "paths": {
  "/v1/{project}/records": {
    "get": {"operationId": "records.list", "tags": ["records"]},
    "post": {"operationId": "records.put", "tags": ["records"]}},
  "/v1/{project}/records/{record}": {
    "$ref": "#/components/pathItems/record"},
  "/v1/{project}/records/latest": {
    "get": {"operationId": "records.latest", "tags": ["records"]}}},
  "components": {"pathItems": {"record": {
    "delete": {"operationId": "records.delete", "tags": ["records"]},
    "get": {}}}}}"##;

pub(crate) fn cloud() -> Engine {
    let ledger = Ledger::new().interface("sky.openapi.json", API).document("ledger.toml", CLOUD);
    Engine::compile(ledger.estate().unwrap_or_else(|f| panic!("{f}"))).expect("it compiles")
}

fn on(user: &str, line: &str) -> Question {
    Question::new(user, "sky", line).at("2026-11-26T08:00:00Z".parse().expect("a moment"))
}

fn minutes(n: i64) -> SignedDuration {
    SignedDuration::from_mins(n)
}

fn coded(user: &str, line: &str) -> Question {
    on(user, line).proof(Proof::OneTimeCode, minutes(59))
}

fn plain(user: &str, line: &str) -> Question {
    on(user, line).proof(Proof::Password, minutes(1))
}

fn act(text: &str) -> Act {
    text.parse().expect("a link")
}

fn check(question: &Question, expected: Result<Verdict, Refusal>) {
    let answer = ask(&cloud(), question);
    assert_eq!(outcome(&answer), expected, "{question:?}\n{:#?}", answer.gates);
}

const ALLOWED: Result<Verdict, Refusal> = Ok(Verdict::Allowed);
const LIST: &str = "records.list on line/fares/records";
const PUT: &str = "records.put on line/fares/records";

macro_rules! answers {
    ($($name:ident: $question:expr => $expected:expr;)+) => {
        $(#[test] fn $name() { check(&$question, $expected); })+
    };
}

// Deny unless a recent code was given, with exceptions: the whole matrix, each fact present, absent and denied.
answers! {
    lead_with_a_code_outside_the_list: coded("lead-1", LIST) => ALLOWED;
    lead_without_a_code_outside_the_list: plain("lead-1", LIST) => Err(Refusal::DeniedByGrant);
    lead_who_states_nothing_outside_the_list: on("lead-1", LIST) => Err(Refusal::NotStated);
    lead_with_an_old_code_outside_the_list: on("lead-1", LIST).proof(Proof::OneTimeCode, minutes(61)) => Err(Refusal::DeniedByGrant);
    lead_with_a_code_in_the_list: coded("lead-1", "codes.confirm on line") => ALLOWED;
    lead_without_a_code_in_the_list: plain("lead-1", "codes.confirm on line") => ALLOWED;
    lead_who_states_nothing_in_the_list: on("lead-1", "sessions.show on line") => ALLOWED;
    nobody_with_a_code_outside_the_list: coded("nobody-1", LIST) => Err(Refusal::NotGranted);
    nobody_without_a_code_outside_the_list: plain("nobody-1", LIST) => Err(Refusal::DeniedByGrant);
    nobody_with_a_code_in_the_list: coded("nobody-1", "codes.confirm on line") => Err(Refusal::NotGranted);
    nobody_without_a_code_in_the_list: plain("nobody-1", "codes.confirm on line") => Err(Refusal::NotGranted);
}

// A proof counts on its own channel, and where the cloud says that it covers.
answers! {
    a_code_given_on_the_web_counts_on_the_web: on("lead-1", LIST).channel(Channel::Web).proof_on(Channel::Web, Proof::OneTimeCode, minutes(5)) => ALLOWED;
    a_code_given_on_the_web_does_not_count_by_api: on("lead-1", LIST).channel(Channel::Api).proof_on(Channel::Web, Proof::OneTimeCode, minutes(5)) => Err(Refusal::DeniedByGrant);
    a_code_given_on_a_channel_and_no_channel_stated: on("lead-1", LIST).proof_on(Channel::Web, Proof::OneTimeCode, minutes(5)) => Err(Refusal::NotStated);
    a_channel_may_cover_another: on("lead-1", LIST).channel(Channel::Api).proof_on(Channel::Terminal, Proof::OneTimeCode, minutes(5)) => ALLOWED;
    and_not_the_reverse: on("lead-1", LIST).channel(Channel::Terminal).proof_on(Channel::Api, Proof::OneTimeCode, minutes(5)) => Err(Refusal::DeniedByGrant);
}

// Comparisons: they hold, they fail, or they are not known.
answers! {
    a_comparison_that_holds: on("clerk-1", PUT) => ALLOWED;
    one_that_fails: on("clerk-1", "records.put on line/rota") => Err(Refusal::AttributesDiffer);
    one_of_a_resource_without_the_attribute: on("clerk-1", "records.put on line/fares") => Err(Refusal::NotStated);
    a_session_attribute_that_is_stated: on("clerk-1", "records.delete on line/fares").attribute("ticket", "LF-7") => ALLOWED;
    another_value: on("clerk-1", "records.delete on line/fares").attribute("ticket", "LF-8") => Err(Refusal::AttributesDiffer);
    one_that_is_not_stated: on("clerk-1", "records.delete on line/fares") => Err(Refusal::NotStated);
    one_that_a_session_may_not_state: on("clerk-1", PUT).attribute("pier", "selkie") => Err(Refusal::AttributeNotAdmitted);
}

// Containers, calls and names.
answers! {
    a_grant_on_a_container_is_inherited: on("clerk-1", "records.delete on line/fares/records/deep/down").attribute("ticket", "LF-7") => ALLOWED;
    and_holds_nowhere_else: on("clerk-1", "records.delete on line/faresX").attribute("ticket", "LF-7") => Err(Refusal::NotGranted);
    an_assignment_at_a_container: on("both-1", LIST) => ALLOWED;
    an_assignment_elsewhere: on("both-1", "records.list on line/rota") => Err(Refusal::NotGranted);
    a_resource_that_is_not_there: coded("lead-1", "records.list on lime/fares") => Err(Refusal::UnknownObject);
    an_operation_that_is_not_there: coded("lead-1", "record.list on line") => Err(Refusal::UnknownOperation);
    an_operation_without_a_resource: coded("lead-1", "records.list") => Err(Refusal::ActionUnreadable);
    a_path_with_a_way_up: on("both-1", "records.list on line/fares/../rota") => Err(Refusal::ActionUnreadable);
    a_path_with_an_empty_part: on("both-1", "records.list on line/fares//x") => Err(Refusal::ActionUnreadable);
    a_call_with_a_way_up: on("both-1", "GET /v1/../records") => Err(Refusal::ActionUnreadable);
    a_path_with_a_star: coded("lead-1", "records.list on line/*") => Err(Refusal::ActionUnreadable);
    words_that_are_no_action: coded("lead-1", "list all records") => Err(Refusal::ActionUnreadable);
    a_call_by_method_and_path: coded("lead-1", "GET /v1/fares/records?page=2") => ALLOWED;
    a_call_with_another_method: on("clerk-1", "POST /v1/fares/records") => ALLOWED;
    a_call_that_is_not_described: coded("lead-1", "PATCH /v1/fares/records") => Err(Refusal::UnknownOperation);
    a_call_without_address: coded("lead-1", "DELETE /v1/fares/records/7 on line/fares/records") => ALLOWED;
    a_call_with_encoded_letters: coded("lead-1", "POST /v1/s%65aled/records") => Err(Refusal::CutByCeiling);
    a_call_with_an_encoded_separator: coded("lead-1", "GET /v1/sealed%2Fx/records") => Err(Refusal::ActionUnreadable);
    a_call_that_is_encoded_twice: coded("lead-1", "GET /v1/s%2565aled/records") => Err(Refusal::ActionUnreadable);
    a_call_with_half_an_encoding: coded("lead-1", "GET /v1/fares%2/records") => Err(Refusal::ActionUnreadable);
    a_call_with_a_variable_of_its_own: coded("lead-1", "GET /v1/{project}/records") => Err(Refusal::ActionUnreadable);
    a_way_up_beside_a_resource: coded("lead-1", "DELETE /v1/fares/records/.. on line/fares") => Err(Refusal::ActionUnreadable);
    a_path_written_out_comes_first: on("both-1", "GET /v1/fares/records/latest on line/fares/records") => ALLOWED;
}

// Ceilings let through or cut; they never give.
answers! {
    a_ceiling_lets_through: on("capped-1", "records.list on line/rota") => ALLOWED;
    a_ceiling_cuts: on("capped-1", "records.put on line/rota") => Err(Refusal::CutByCeiling);
    a_ceiling_gives_nothing: on("capped-1", LIST) => Err(Refusal::NotGranted);
    a_ceiling_of_one_is_not_that_of_others: on("both-1", "records.put on line/rota") => ALLOWED;
    a_ceiling_of_a_container: coded("lead-1", "records.put on line/sealed") => Err(Refusal::CutByCeiling);
    a_ceiling_of_a_role_cuts_what_is_held_through_it: on("nested-1", PUT) => Err(Refusal::CutByCeiling);
    it_lets_through_what_it_names: on("nested-1", LIST) => ALLOWED;
    it_leaves_what_is_held_beside_it: on("nested-1", "records.delete on line/fares") => ALLOWED;
    it_leaves_what_is_held_another_way_too: on("round-1", PUT) => ALLOWED;
    a_deny_of_one_role_beside_the_allow_of_another: on("barred-1", PUT) => Err(Refusal::DeniedByGrant);
    a_deny_is_not_shed_with_its_role: on("barred-1", PUT).active_roles(&["writer"]) => Err(Refusal::DeniedByGrant);
    an_allow_is: on("barred-1", LIST).active_roles(&["barred"]) => Err(Refusal::NotGranted);
    a_grant_that_is_over: on("both-1", "records.put on line/rota").at("2027-01-01T00:00:00Z".parse().expect("a moment")) => Err(Refusal::AssignmentNotValid);
}

// Assuming a role: both halves, what is lost, and when it is over.
answers! {
    both_halves: plain("night-1", PUT).acting(act("role:night-operator")) => ALLOWED;
    with_a_role_active_that_is_not_held: plain("night-1", PUT).acting(act("role:night-operator")).active_roles(&["writer"]) => Err(Refusal::RoleNotGranted);
    with_none_active: plain("night-1", PUT).acting(act("role:night-operator")).active_roles(&[]) => ALLOWED;
    only_the_own_half: plain("hopeful-1", PUT).acting(act("role:night-operator")) => Err(Refusal::RoleDoesNotAdmit);
    only_the_half_of_the_role: plain("wanted-1", PUT).acting(act("role:night-operator")) => Err(Refusal::MayNotAssume);
    neither_half: plain("nobody-1", PUT).acting(act("role:night-operator")) => Err(Refusal::MayNotAssume);
    the_own_right_before: plain("night-1", "records.list on line/rota") => ALLOWED;
    the_own_right_is_lost_inside: plain("night-1", "records.list on line/rota").acting(act("role:night-operator")) => Err(Refusal::NotGranted);
    the_right_of_the_role_outside: plain("night-1", PUT) => Err(Refusal::NotGranted);
    a_proof_is_wanted_to_assume: on("night-1", PUT).acting(act("role:night-operator")) => Err(Refusal::NotStated);
    one_second_before_its_end: plain("night-1", PUT).acting(act("role:night-operator@2026-11-26T07:00:01Z")) => ALLOWED;
    at_its_end: plain("night-1", PUT).acting(act("role:night-operator@2026-11-26T07:00:00Z")) => Err(Refusal::AssumptionExpired);
    one_second_after: plain("night-1", PUT).acting(act("role:night-operator@2026-11-26T06:59:59Z")) => Err(Refusal::AssumptionExpired);
    before_it_begins: plain("night-1", PUT).acting(act("role:night-operator@2026-11-26T08:00:01Z")) => Err(Refusal::AssumptionExpired);
    a_second_person_is_wanted_to_assume: plain("night-1", PUT).acting(act("role:watched")) => Ok(Verdict::AllowedAfter);
    one_who_may_assume_it_agreed: plain("night-1", PUT).acting(act("role:watched")).approved_by("both-1") => ALLOWED;
    one_who_may_not_agreed: plain("night-1", PUT).acting(act("role:watched")).approved_by("clerk-1") => Err(Refusal::NotEntitled);
    a_role_from_a_role: plain("night-1", "records.delete on line/rota").acting(act("role:night-operator")).acting(act("role:deep")).attribute("shift", "night") => ALLOWED;
    its_tag_is_wanted: plain("night-1", "records.delete on line/rota").acting(act("role:night-operator")).acting(act("role:deep")) => Err(Refusal::NotStated);
    a_role_that_admits_roles_only: plain("night-1", "records.delete on line/rota").acting(act("role:deep")) => Err(Refusal::RoleDoesNotAdmit);
    acting_as_another_in_the_own_name: plain("night-1", "records.list on line/rota").acting(act("user:capped-1")) => ALLOWED;
    and_not_from_an_assumed_role: plain("night-1", "records.list on line/rota").acting(act("role:night-operator")).acting(act("user:capped-1")) => Err(Refusal::MayNotActAs);
    round_in_a_circle: plain("night-1", PUT).acting(act("role:night-operator")).acting(act("role:night-operator")) => Err(Refusal::MayNotAssume);
    a_role_that_is_not_there: plain("night-1", PUT).acting(act("role:nigth-operator")) => Err(Refusal::UnknownRole);
}

// Temporary sessions end to the second.
answers! {
    a_session_in_its_last_second: on("both-1", LIST).expires("2026-11-26T08:00:01Z".parse().expect("a moment")) => ALLOWED;
    a_session_that_is_over: on("both-1", LIST).expires("2026-11-26T08:00:00Z".parse().expect("a moment")) => Err(Refusal::SessionExpired);
    a_session_with_an_end_and_no_time: Question::new("both-1", "sky", LIST).expires("2026-11-26T08:00:00Z".parse().expect("a moment")) => Err(Refusal::NotStated);
}

// Administrative rights are asked like any other.
answers! {
    a_deny_of_all_denies_them_too: plain("lead-1", "reset-credential on user/clerk-1") => Err(Refusal::DeniedByGrant);
    a_credential_is_reset: coded("lead-1", "reset-credential on user/clerk-1") => ALLOWED;
    not_by_others: on("clerk-1", "reset-credential on user/lead-1") => Err(Refusal::NotGranted);
    of_nobody: coded("lead-1", "reset-credential on user/clerk-2") => Err(Refusal::UnknownObject);
    members_are_changed: coded("lead-1", "change-members on group/night") => ALLOWED;
    a_role_is_edited: coded("lead-1", "edit-role on role/deep") => ALLOWED;
    everything_does_not_hold_them: on("both-1", "edit-role on role/deep") => Err(Refusal::NotGranted);
    the_own_credential: on("nobody-1", "change-credential on user/nobody-1") => ALLOWED;
    a_credential_that_must_be_changed_first: on("new-1", "records.list on line") => Err(Refusal::CredentialMustChange);
    the_one_thing_that_is_left: on("new-1", "change-credential on user/new-1") => ALLOWED;
    and_only_the_own_one: on("new-1", "change-credential on user/clerk-1") => Err(Refusal::CredentialMustChange);
    not_that_of_another: coded("lead-1", "change-credential on user/clerk-1") => Err(Refusal::NotGranted);
    they_are_about_their_own_sort: coded("lead-1", "change-members on user/clerk-1") => Err(Refusal::PrivilegeMisapplied);
}

#[test]
fn a_chain_that_comes_back_is_cut() {
    let text = format!(
        "{CLOUD}\n[roles.loop-a]\nassumable = {{ by = [\"user:both-1\", \"role:loop-b\"] }}\n\
         grants = [{{ allow = [\"assume\"], on = \"role/loop-b\" }}]\n\
         [roles.loop-b]\nassumable = {{ by = [\"role:loop-a\"] }}\ngrants = [{{ allow = [\"assume\"], on = \"role/loop-a\" }}]\n\
         [[clouds.sky.grants]]\nallow = [\"assume\"]\non = \"role/*\"\nto = [\"user:both-1\"]\n"
    );
    let estate = Ledger::new().interface("sky.openapi.json", API).document("ledger.toml", &text).estate().unwrap_or_else(|f| panic!("{f}"));
    let engine = Engine::compile(estate).expect("it compiles");
    let there = on("both-1", "records.list on line").acting(act("role:loop-a")).acting(act("role:loop-b"));
    assert_eq!(ask(&engine, &there).refusal, Some(Refusal::NotGranted));
    assert_eq!(ask(&engine, &there.acting(act("role:loop-a"))).refusal, Some(Refusal::ActingLoop));
}

#[test]
fn the_answer_says_where_and_what_to_state() {
    let answer = ask(&cloud(), &on("lead-1", LIST));
    let gate = answer.first_refusal().expect("a refusal");
    assert!(gate.text.contains("unless with one-time-code within 1h"), "{}", gate.text);
    assert!(gate.text.ends_with("the question does not state the proofs of identity"), "{}", gate.text);
    assert_eq!(gate.location.as_ref().expect("a place").line, 45);
}

#[test]
fn an_unknown_attribute_is_named() {
    let answer = ask(&cloud(), &on("clerk-1", "records.delete on line/fares"));
    assert!(answer.first_refusal().expect("a refusal").text.contains("`session.ticket`"));
}

#[test]
fn an_engine_of_nothing_but_a_cloud_is_fine() {
    let engine = engine("[users.a]\nproofs=['key']\n[systems.sky]\nkind='cloud'\n[clouds.sky.resources.x]\n[clouds.sky.operations.look]\n");
    assert_eq!(ask(&engine, &Question::new("a", "sky", "look on x")).refusal, Some(Refusal::NotGranted));
}

#[test]
fn a_channel_accepts_what_the_system_says() {
    let engine = engine(
        "[users.a]\nproofs = ['password', 'key', 'one-time-code']\n[users.b]\nproofs = ['password', 'key']\n\
         [systems.sky]\nkind = 'cloud'\naccepts = { web = ['one-time-code'], api = ['key'] }\n\
         [clouds.sky]\nresources.x = {}\noperations.look = {}\n\
         grants = [{ allow = ['look'], on = 'x', to = ['user:a', 'user:b'], lifted-by = { channel = ['api'] } }]\n",
    );
    let by = |channel: Channel, proof: Proof| Question::new("a", "sky", "look on x").channel(channel).proof(proof, minutes(0));
    for (question, expected) in [
        (by(Channel::Web, Proof::OneTimeCode), None),
        (by(Channel::Web, Proof::Password), Some(Refusal::ProofNotAccepted)),
        (by(Channel::Terminal, Proof::Key), Some(Refusal::ChannelNotAllowed)),
        (by(Channel::Api, Proof::Key), Some(Refusal::GrantLifted)),
        (Question::new("a", "sky", "look on x"), Some(Refusal::NotStated)),
        (by(Channel::Web, Proof::OneTimeCode).proof(Proof::Password, minutes(0)), None),
        (Question::new("a", "sky", "look on x").channel(Channel::Web), None),
        (Question::new("b", "sky", "look on x").channel(Channel::Web), Some(Refusal::ProofNotAccepted)),
        (Question::new("b", "sky", "look on x").channel(Channel::Api), Some(Refusal::GrantLifted)),
        (
            Question::new("a", "sky", "look on x").channel(Channel::Web).proof_on(Channel::Api, Proof::OneTimeCode, minutes(0)),
            Some(Refusal::ProofNotAccepted),
        ),
    ] {
        assert_eq!(ask(&engine, &question).refusal, expected, "{question:?}");
    }
}
