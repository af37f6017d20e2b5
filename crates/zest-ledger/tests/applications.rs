//! Applications: rights on objects, obligations by object, type and right, second persons, acting as another.

use jiff::SignedDuration;
use zest_ledger::ask::{Act, Refusal, Verdict};
use zest_ledger::entry::Proof;
use zest_ledger::finding::Code;
use zest_ledger::{Engine, Question};

use crate::support::{ask, codes, engine, findings, outcome};

/// A control room with ramps, and a rota with people who act as each other.
pub(crate) const ROOM: &str = r#"
[users]
mate-1 = { proofs = ["password"] }
mate-2 = { proofs = ["password", "one-time-code"] }
mate-3 = { proofs = ["password"], until = 2026-06-30 }
master-1 = { proofs = ["password"] }
guest-1 = { proofs = ["password"] }
late-1 = { proofs = ["password"] }
planner-1 = { proofs = ["password"] }
changer-1 = { proofs = ["password"], must-change-credential = true }
torn-1 = { proofs = ["password"] }
gone-1 = { proofs = ["password"], disabled = true }

[groups]
mates = { members = ["user:mate-1", "user:mate-2", "user:mate-3", "user:changer-1"] }
masters = { members = ["user:master-1"] }

[systems.ramps]
kind = "application"
[systems.unwatched]
kind = "application"

[applications.ramps]
types.ramp = { rights = ["view", "lower", "raise", "unlock", "agree"], looks = ["view"], rights-after = { unlock = { second-person = ["group:masters", "group:mates"] } } }
types.siren = { rights = ["view", "sound"], looks = ["view"], after = { confirm = true }, second-person-right = "sound" }
types.gate = { rights = ["open", "agree"], second-person-right = "agree", after = { second-person = ["anyone"] } }
grants = [
  { allow = ["view", "lower", "raise"], on = "ramp/*", to = ["group:mates"] },
  { allow = ["unlock"], on = "ramp/*", to = ["group:mates"] },
  { allow = ["unlock"], on = "ramp/north", to = ["user:late-1"], until = 2026-10-31 },
  { allow = ["view", "sound"], on = "siren/*", to = ["group:mates"] },
  { allow = ["open"], on = "gate/*", to = ["group:mates"] },
  { allow = ["agree"], on = "gate/*", to = ["group:masters"] },
  { allow = ["read-secret"], on = "secret/*", to = ["group:mates"], after = { second-person = ["group:masters"] } },
  { allow = ["read-secret"], on = "secret/*", to = ["group:masters"] },
  { allow = ["raise"], on = "ramp/*", to = ["role:planner", "role:approver", "role:day", "role:night"] },
]
acting = [
  { as = "user:guest-1", by = ["user:torn-1"] },
  { as = "user:mate-1", by = ["user:planner-1", "user:mate-2"] },
  { as = "user:mate-2", by = ["user:mate-1"] },
  { as = "user:gone-1", by = ["user:mate-1"] },
]

[applications.ramps.objects]
"ramp/north" = {}
"ramp/south" = { after = { confirm = true, prove-again = "5m" } }
"siren/north" = {}
"gate/north" = {}
"secret/north-panel" = {}

[applications.unwatched]
identity-checks = false
types.ramp = { rights = ["lower"], after = { second-person = ["group:masters"], prove-again = "5m", confirm = true } }
objects = { "ramp/north" = {} }
grants = [{ allow = ["lower"], on = "ramp/*", to = ["group:mates"] }]

[roles]
planner = {}
approver = {}
day = {}
night = {}

[separations]
plan-and-approve = { roles = ["planner", "approver"] }
one-shift = { roles = ["day", "night"], never = "active" }

[[assignments]]
to = ["user:torn-1"]
roles = ["planner", "approver"]
on = { systems = ["ramps"] }

[[assignments]]
to = ["user:planner-1"]
roles = ["day", "night"]
on = { systems = ["ramps"] }
"#;

pub(crate) fn room() -> Engine {
    engine(ROOM)
}

fn on(user: &str, line: &str) -> Question {
    Question::new(user, "ramps", line).at("2026-11-26T08:00:00Z".parse().expect("a moment"))
}

fn approved(user: &str, second: &str) -> Question {
    on(user, "unlock on ramp/north").approved_by(second).approver_proof(Proof::Password, SignedDuration::ZERO)
}

fn act(text: &str) -> Act {
    text.parse().expect("a link")
}

fn check(question: &Question, expected: Result<Verdict, Refusal>) {
    let answer = ask(&room(), question);
    assert_eq!(outcome(&answer), expected, "{question:?}\n{:#?}", answer.gates);
}

const ALLOWED: Result<Verdict, Refusal> = Ok(Verdict::Allowed);
const AFTER: Result<Verdict, Refusal> = Ok(Verdict::AllowedAfter);

macro_rules! answers {
    ($($name:ident: $question:expr => $expected:expr;)+) => {
        $(#[test] fn $name() { check(&$question, $expected); })+
    };
}

// Rights are added up, and nothing is there by default.
answers! {
    a_right_of_a_group: on("mate-1", "lower on ramp/north") => ALLOWED;
    a_right_nobody_gave: on("mate-1", "agree on ramp/north") => Err(Refusal::NotGranted);
    nothing_by_default: on("guest-1", "view on ramp/north") => Err(Refusal::NotGranted);
    a_right_of_another_type: on("mate-1", "sound on ramp/north") => Err(Refusal::PrivilegeMisapplied);
    an_object_that_is_not_there: on("mate-1", "lower on ramp/west") => Err(Refusal::UnknownObject);
    an_object_is_never_guessed_from_its_type: on("mate-1", "lower on ramp/north/deep") => Err(Refusal::UnknownObject);
}

// Obligations of the object, its type and the right.
answers! {
    an_object_wants_more: on("mate-1", "lower on ramp/south") => AFTER;
    all_that_it_wants: on("mate-1", "lower on ramp/south").confirmed().proof(Proof::Password, SignedDuration::from_mins(5)) => ALLOWED;
    half_of_it: on("mate-1", "lower on ramp/south").confirmed().proof(Proof::Password, SignedDuration::from_mins(6)) => AFTER;
    looking_wants_nothing: on("mate-1", "view on ramp/south") => ALLOWED;
    a_type_wants_it: on("mate-1", "sound on siren/north") => AFTER;
    looking_at_it_wants_nothing: on("mate-1", "view on siren/north") => ALLOWED;
    a_right_wants_a_second_person: on("mate-1", "unlock on ramp/north") => AFTER;
}

// The second person differs, and holds the right at that moment.
answers! {
    the_second_person_agrees: approved("mate-1", "mate-2") => ALLOWED;
    the_same_person: approved("mate-1", "mate-1") => Err(Refusal::SamePerson);
    one_who_is_not_named: approved("mate-1", "guest-1") => Err(Refusal::NotEntitled);
    one_who_is_named_and_does_not_hold_the_right: approved("mate-1", "master-1") => Err(Refusal::NotEntitled);
    one_whose_validity_is_over: approved("mate-1", "mate-3") => Err(Refusal::NotEntitled);
    one_whose_right_is_over: approved("mate-1", "late-1") => Err(Refusal::NotEntitled);
    one_nobody_knows: approved("mate-1", "mate-9") => Err(Refusal::NotEntitled);
    the_person_behind_an_acting_identity: approved("planner-1", "planner-1").acting(act("user:mate-1")) => Err(Refusal::SamePerson);
    the_acting_identity_itself: approved("planner-1", "mate-1").acting(act("user:mate-1")) => Err(Refusal::SamePerson);
    another_right_of_the_second_person: on("mate-1", "open on gate/north").approved_by("master-1") => ALLOWED;
    one_without_it: on("mate-1", "open on gate/north").approved_by("mate-2") => Err(Refusal::NotEntitled);
}

// A stored secret: directly, or after somebody agreed.
answers! {
    directly: on("master-1", "read-secret on secret/north-panel") => ALLOWED;
    after_a_request: on("mate-1", "read-secret on secret/north-panel") => AFTER;
    an_approved_request: on("mate-1", "read-secret on secret/north-panel").approved_by("master-1") => ALLOWED;
    a_request_that_an_equal_approved: on("mate-1", "read-secret on secret/north-panel").approved_by("mate-2") => Err(Refusal::NotEntitled);
}

// Acting as another: granted on the target, directional, not passed on.
answers! {
    an_allowed_pair: on("mate-1", "lower on ramp/north").acting(act("user:mate-2")) => ALLOWED;
    the_pair_that_has_both: on("mate-2", "lower on ramp/north").acting(act("user:mate-1")) => ALLOWED;
    a_reverse_pair: on("mate-1", "lower on ramp/north").acting(act("user:planner-1")) => Err(Refusal::MayNotActAs);
    a_third_person: on("guest-1", "lower on ramp/north").acting(act("user:mate-1")) => Err(Refusal::MayNotActAs);
    a_chain_of_two_is_not_passed_on: on("planner-1", "lower on ramp/north").active_roles(&["day"]).acting(act("user:mate-1")).acting(act("user:mate-2")) => Err(Refusal::MayNotActAs);
    a_chain_that_comes_back: on("mate-1", "lower on ramp/north").acting(act("user:mate-2")).acting(act("user:mate-1")) => Err(Refusal::MayNotActAs);
    nobody_of_that_name: on("mate-1", "lower on ramp/north").acting(act("user:mate-7")) => Err(Refusal::UnknownActingIdentity);
    one_who_is_disabled: on("mate-1", "lower on ramp/north").acting(act("user:gone-1")) => Err(Refusal::ActingIdentityUnusable);
    the_own_rights_are_left_behind: on("mate-1", "lower on ramp/north").acting(act("user:gone-1")) => Err(Refusal::ActingIdentityUnusable);
    roles_are_not_assumed_here: on("mate-1", "lower on ramp/north").acting(act("role:planner")) => Err(Refusal::ActingNotKnown);
}

// Separation of duties.
answers! {
    roles_nobody_may_hold_together: on("torn-1", "raise on ramp/north") => Err(Refusal::DutiesNotSeparated);
    not_by_acting_as_another_either: on("torn-1", "view on ramp/north").acting(act("user:guest-1")) => Err(Refusal::DutiesNotSeparated);
    roles_that_must_not_be_active_together: on("planner-1", "raise on ramp/north") => Err(Refusal::RolesActiveTogether);
    both_stated: on("planner-1", "raise on ramp/north").active_roles(&["day", "night"]) => Err(Refusal::RolesActiveTogether);
    one_of_them: on("planner-1", "raise on ramp/north").active_roles(&["day"]) => ALLOWED;
    none_of_them: on("planner-1", "raise on ramp/north").active_roles(&[]) => Err(Refusal::NotGranted);
    one_that_is_not_held: on("planner-1", "raise on ramp/north").active_roles(&["approver"]) => Err(Refusal::RoleNotGranted);
    one_that_is_not_there: on("planner-1", "raise on ramp/north").active_roles(&["dya"]) => Err(Refusal::UnknownRole);
}

// A credential that must be changed leaves one thing to do.
answers! {
    nothing_else: on("changer-1", "lower on ramp/north") => Err(Refusal::CredentialMustChange);
    the_one_thing: on("changer-1", "change-credential on user/changer-1") => ALLOWED;
}

#[test]
fn with_identity_checks_off_only_a_confirmation_is_left() {
    let engine = room();
    let mut question = on("mate-1", "lower on ramp/north");
    question.system = "unwatched".to_owned();
    let answer = ask(&engine, &question);
    assert_eq!(answer.verdict, Verdict::AllowedAfter);
    assert_eq!(ask(&engine, &question.confirmed()).verdict, Verdict::Allowed);
    let texts: Vec<&str> = answer.gates.iter().map(|g| g.text.as_str()).collect();
    assert!(texts.contains(&"no second person is asked: identity checks are switched off"), "{texts:?}");
}

#[test]
fn a_right_is_not_named_like_a_group_of_rights() {
    for (right, expected) in [("write", 1), ("read", 1), ("all", 1), ("administer", 1), ("tag:x", 1), ("write-log", 0), ("reading", 0)] {
        let text = format!("[systems.a]\nkind = 'application'\n[applications.a]\ntypes.log = {{ rights = ['{right}', 'drop'] }}\n");
        let found = codes(&findings(&text)).into_iter().filter(|c| *c == Code::DuplicateId).count();
        assert_eq!(found, expected, "{right}");
    }
}
