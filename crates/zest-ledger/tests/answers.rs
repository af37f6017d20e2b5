//! Answers of a network device, as a table: who, where, which line, in which session, and what comes of it.

use jiff::{SignedDuration, Timestamp};
use zest_ledger::Question;
use zest_ledger::ask::{GateOutcome, Refusal, Stage, Verdict};
use zest_ledger::entry::{Channel, Proof};
use zest_ledger::finding::Code;

use crate::support::{PIER, ask, codes, engine, findings, outcome};

/// One test a row, so that a failure names its row.
macro_rules! answers {
    ($($name:ident: $user:literal, $system:literal, $line:literal $(, $fact:ident($($value:expr),*))* => $expected:expr;)+) => {
        $(
            #[test]
            fn $name() {
                let question = Question::new($user, $system, $line)$(.$fact($($value),*))*;
                let answer = ask(&engine(PIER), &question);
                let expected: Result<Verdict, Refusal> = $expected;
                assert_eq!(outcome(&answer), expected, "{:#?}", answer.gates);
            }
        )+
    };
}

const ALLOWED: Result<Verdict, Refusal> = Ok(Verdict::Allowed);
const AFTER: Result<Verdict, Refusal> = Ok(Verdict::AllowedAfter);

fn noon() -> Timestamp {
    "2026-03-02T12:00:00Z".parse().expect("a moment")
}

fn room() -> std::net::IpAddr {
    "192.0.2.9".parse().expect("an address")
}

fn minutes(n: i64) -> SignedDuration {
    SignedDuration::from_mins(n)
}

answers! {
    // Entry: systems and users.
    known_user_and_line_are_allowed: "watch-1", "switch", "show paths" => ALLOWED;
    unknown_system: "watch-1", "swich", "show paths" => Err(Refusal::UnknownSystem);
    unknown_user: "watch-9", "switch", "show paths" => Err(Refusal::UnknownUser);
    wrong_case_where_names_are_case_sensitive: "Watch-1", "switch", "show paths" => Err(Refusal::WrongCase);
    other_case_where_case_is_ignored: "LEAD-1", "router", "show paths" => ALLOWED;
    empty_user_name: "", "switch", "show paths" => Err(Refusal::UnknownUser);
    disabled_user: "gone-1", "switch", "show paths" => Err(Refusal::UserDisabled);
    user_before_validity: "short-1", "switch", "show paths", at("2025-12-31T23:59:59Z".parse().expect("a moment")) => Err(Refusal::UserNotValid);
    user_at_first_moment_of_validity: "short-1", "switch", "show paths", at("2026-01-01T00:00:00Z".parse().expect("a moment")) => ALLOWED;
    user_in_last_second_of_validity: "short-1", "switch", "show paths", at("2026-06-30T23:59:59Z".parse().expect("a moment")) => ALLOWED;
    user_after_validity: "short-1", "switch", "show paths", at("2026-07-01T00:00:00Z".parse().expect("a moment")) => Err(Refusal::UserNotValid);
    validity_without_a_stated_time: "short-1", "switch", "show paths" => Err(Refusal::NotStated);
    user_without_any_proof: "bare-1", "switch", "show paths" => Err(Refusal::NoProof);
    proof_the_user_does_not_have: "watch-2", "switch", "show paths", channel(Channel::Terminal), proof(Proof::Key, minutes(0)) => Err(Refusal::ProofNotRegistered);
    channel_the_user_may_use: "watch-2", "switch", "show paths", channel(Channel::Terminal) => ALLOWED;
    channel_the_user_may_not_use: "watch-2", "switch", "show paths", channel(Channel::Web) => Err(Refusal::ChannelNotAllowed);
    channel_not_stated_is_not_a_channel_allowed: "watch-2", "switch", "show paths" => Err(Refusal::NotStated);

    // Identity sources and local accounts.
    central_down_and_no_account: "alone-1", "switch", "show release", central_down() => Err(Refusal::CentralDownNoAccount);
    central_down_with_account_at_its_own_level: "lead-1", "switch", "show settings live", central_down(), from(room()) => ALLOWED;
    account_not_admitted_from_here: "lead-1", "switch", "show level", central_down(), from("203.0.113.1".parse().expect("an address")) => Err(Refusal::OriginNotAdmitted);
    account_admitted_over_ipv6: "lead-1", "switch", "show level", central_down(), from("2001:db8:10::1".parse().expect("an address")) => ALLOWED;
    ipv4_mapped_origin_counts_as_ipv4: "lead-1", "switch", "show level", central_down(), from("::ffff:192.0.2.9".parse().expect("an address")) => ALLOWED;
    account_origin_not_stated: "lead-1", "switch", "show level", central_down() => Err(Refusal::NotStated);
    locked_account: "watch-1", "switch", "show level", central_down() => Err(Refusal::AccountLocked);
    account_without_credential: "watch-2", "switch", "show level", central_down() => Err(Refusal::AccountWithoutCredential);
    account_of_others: "watch-1", "switch", "show level", central_down(), account("emergency"), from(room()) => Err(Refusal::CentralDownNoAccount);
    account_named_while_the_central_source_answers: "lead-1", "switch", "show level", account("emergency") => Err(Refusal::AccountNotAsked);
    local_source_only_without_account: "watch-1", "island", "show level" => Err(Refusal::NoLocalAccount);
    local_source_only_with_the_account_of_the_name: "lead-1", "island", "show level" => ALLOWED;
    local_account_keeps_its_ceiling: "lead-1", "island", "elevate 8" => Err(Refusal::AboveCeiling);
    outage_where_commands_need_the_central_source: "lead-1", "router", "show settings live", central_down() => Err(Refusal::CommandsNeedCentral);
    stated_lack_of_proof_refuses_entry: "lead-1", "switch", "show level", proof_none() => Err(Refusal::NothingProven);

    // Standing: assignments, bands, levels, modes.
    no_assignment: "alone-1", "switch", "show level" => Err(Refusal::NoAssignment);
    assignment_elsewhere_does_not_count: "watch-1", "router", "show level" => Err(Refusal::NoAssignment);
    assignment_without_band: "bandless-1", "switch", "show level" => Err(Refusal::NoBand);
    stated_level_above_the_ceiling: "watch-1", "switch", "show level", level(8) => Err(Refusal::LevelAboveCeiling);
    stated_level_that_no_elevation_leads_to: "watch-1", "switch", "show level", level(0) => Err(Refusal::LevelNotReached);
    unknown_mode: "lead-1", "switch", "name x", mode("setting"), level(15) => Err(Refusal::UnknownMode);
    mode_that_no_permitted_command_enters: "watch-1", "switch", "name x", mode("settings"), level(7) => Err(Refusal::ModeNotReached);
    mode_that_a_permitted_command_enters: "lead-1", "switch", "name x", mode("settings"), level(7) => ALLOWED;
    credential_to_be_changed_first: "trainee-1", "switch", "show level" => Err(Refusal::CredentialMustChange);
    changing_it_is_the_one_thing_left: "trainee-1", "switch", "change passphrase" => ALLOWED;

    // Permission: the line.
    empty_line: "watch-1", "switch", "   " => Err(Refusal::LineUnreadable);
    line_with_a_control_character: "watch-1", "switch", "show \u{1b}[2J" => Err(Refusal::LineUnreadable);
    open_quote: "watch-1", "switch", "show \"level" => Err(Refusal::LineUnreadable);
    unknown_command: "watch-1", "switch", "frobnicate" => Err(Refusal::UnknownCommand);
    command_of_another_mode: "lead-1", "switch", "name x" => Err(Refusal::OtherMode);
    incomplete_command: "watch-1", "switch", "show" => Err(Refusal::IncompleteCommand);
    ambiguous_abbreviation: "watch-1", "switch", "show l" => Err(Refusal::AmbiguousAbbreviation);
    unique_abbreviation: "watch-1", "switch", "sh paths" => ALLOWED;
    longer_line_than_the_device_knows: "watch-1", "switch", "show level now" => Err(Refusal::UnknownCommand);

    // Permission: the two locks.
    device_level_above_the_session: "watch-1", "switch", "show log" => Err(Refusal::LevelTooLow);
    device_level_reached: "watch-1", "switch", "show log", level(7) => ALLOWED;
    level_of_the_device_over_the_vocabulary: "watch-1", "switch", "show release" => Err(Refusal::LevelTooLow);
    level_of_the_device_reached: "watch-1", "switch", "show release", level(3) => ALLOWED;
    explicit_deny: "watch-1", "switch", "show settings live", level(7) => Err(Refusal::LevelTooLow);
    no_rule: "watch-1", "switch", "zero tally", level(7) => Err(Refusal::NotPermitted);
    no_set_means_nothing_here: "setless-1", "switch", "show level" => Err(Refusal::NoCommandSet);
    no_set_means_everything_there: "setless-1", "router", "show level" => ALLOWED;
    level_that_is_not_authorised_centrally: "lead-1", "router", "show settings live", level(15) => ALLOWED;
    configuration_switch_is_its_own: "lead-1", "router", "name x", mode("settings"), level(15) => ALLOWED;

    // Elevation.
    numbered_elevation_within_the_band: "watch-1", "switch", "elevate 7" => ALLOWED;
    numbered_elevation_not_permitted: "watch-1", "switch", "elevate 8" => Err(Refusal::NotPermitted);
    bare_elevation_is_another_line: "watch-1", "switch", "elevate" => Err(Refusal::NotPermitted);
    bare_elevation_where_permitted: "lead-1", "switch", "elevate" => ALLOWED;
    elevation_to_the_current_level: "watch-1", "switch", "elevate 7", level(7) => ALLOWED;
    elevation_downwards: "watch-1", "switch", "elevate 1", level(7) => ALLOWED;
    leading_zeros_are_no_way_round: "watch-1", "switch", "elevate 008" => Err(Refusal::NotPermitted);
    no_level_sixteen: "lead-1", "switch", "elevate 16" => Err(Refusal::UnknownCommand);

    // Obligations.
    all_three_obligations_open: "lead-1", "switch", "restart", level(15) => AFTER;
    confirmed_only: "lead-1", "switch", "restart", level(15), confirmed() => AFTER;
    all_three_met: "lead-1", "switch", "restart", level(15), confirmed(), proof(Proof::Key, minutes(10)), approved_by("lead-2"), approver_proof(Proof::Key, minutes(10)) => ALLOWED;
    the_second_persons_own_proof_is_not_stated: "lead-1", "switch", "restart", level(15), confirmed(), proof(Proof::Key, minutes(10)), approved_by("lead-2") => Err(Refusal::NotEntitled);
    the_second_persons_own_proof_is_too_old: "lead-1", "switch", "restart", level(15), confirmed(), proof(Proof::Key, minutes(10)), approved_by("lead-2"), approver_proof(Proof::Key, minutes(540)) => Err(Refusal::NotEntitled);
    proof_one_minute_too_old: "lead-1", "switch", "restart", level(15), confirmed(), proof(Proof::Key, minutes(11)), approved_by("lead-2"), approver_proof(Proof::Key, minutes(1)) => AFTER;
    proof_given_on_another_channel: "lead-1", "switch", "restart", level(15), confirmed(), channel(Channel::Terminal), proof_on(Channel::Web, Proof::Key, minutes(1)), approved_by("lead-2"), approver_proof(Proof::Key, minutes(1)) => AFTER;
    second_person_is_the_first: "lead-1", "switch", "restart", level(15), approved_by("lead-1") => Err(Refusal::SamePerson);
    second_person_is_not_entitled: "lead-1", "switch", "restart", level(15), approved_by("watch-1") => Err(Refusal::NotEntitled);
    second_person_with_a_proof_that_is_not_his: "lead-1", "switch", "restart", level(15), approved_by("lead-2"), approver_proof(Proof::OneTimeCode, minutes(1)) => Err(Refusal::NotEntitled);
    second_person_with_a_proof_of_his: "lead-1", "switch", "restart", level(15), confirmed(), proof(Proof::Key, minutes(1)), approved_by("lead-2"), approver_proof(Proof::Key, minutes(1)) => ALLOWED;
    second_person_is_unknown: "lead-1", "switch", "restart", level(15), approved_by("nobody") => Err(Refusal::NotEntitled);
}

/// A question that states that no proof was given.
trait ProofNone {
    fn proof_none(self) -> Self;
}

impl ProofNone for Question {
    fn proof_none(mut self) -> Self {
        self.session.proofs = Some(Vec::new());
        self
    }
}

#[test]
fn every_refusal_code_is_raised_by_some_question() {
    let engine = engine(&PIER.replace("bare-elevation = \"level-15\"", "bare-elevation = \"refused\""));
    let limited = |at: &str, from: &str| {
        Question::new("limited-1", "switch", "show level").at(at.parse().expect("a moment")).from(from.parse().expect("an address"))
    };
    let night = "2026-03-02T23:30:00+01:00";
    let proof = |q: Question, age| q.proof(Proof::Password, minutes(age));
    let raised = [
        (ask(&engine, &Question::new("lead-1", "switch", "elevate")), Refusal::BareElevation),
        (ask(&engine, &Question::new("lead-1", "island", "elevate 9")), Refusal::AboveCeiling),
        (ask(&engine, &limited("2026-01-12T23:30:00+01:00", "192.0.2.9").channel(Channel::Terminal)), Refusal::AssignmentNotValid),
        (ask(&engine, &proof(limited(night, "203.0.113.9").channel(Channel::Terminal), 0)), Refusal::OriginOutside),
        (ask(&engine, &proof(limited("2026-03-02T12:00:00+01:00", "192.0.2.9").channel(Channel::Terminal), 0)), Refusal::OutsideHours),
        (ask(&engine, &proof(limited("2026-03-04T23:30:00+01:00", "192.0.2.9").channel(Channel::Terminal), 0)), Refusal::OutsideDays),
        (ask(&engine, &proof(limited(night, "192.0.2.9").channel(Channel::Web), 0)), Refusal::ChannelOutside),
        (ask(&engine, &proof(limited(night, "192.0.2.9").channel(Channel::Terminal), 61)), Refusal::ProofMissing),
    ];
    for (answer, expected) in &raised {
        assert_eq!(answer.refusal, Some(*expected), "{:#?}", answer.gates);
    }
    let table = [
        include_str!("answers.rs"),
        include_str!("databases.rs"),
        include_str!("clouds.rs"),
        include_str!("applications.rs"),
        include_str!("hosts.rs"),
        include_str!("never_wider.rs"),
        include_str!("runs_along.rs"),
        include_str!("told_apart.rs"),
    ]
    .concat();
    for refusal in Refusal::ALL.iter().filter(|r| !raised.iter().any(|(_, e)| e == *r)) {
        if *refusal == Refusal::DeniedByRule {
            continue; // Raised in `all_gates_are_named_and_the_first_is_marked`.
        }
        let rows = [format!("Err(Refusal::{refusal:?})"), format!("Some(Refusal::{refusal:?})")];
        assert!(rows.iter().any(|row| table.contains(row)), "no row raises {refusal:?}");
    }
}

#[test]
fn all_gates_are_named_and_the_first_is_marked() {
    let answer = ask(&engine(PIER), &Question::new("watch-1", "switch", "show settings live"));
    let refusals: Vec<Refusal> =
        answer.gates.iter().filter_map(|g| if let GateOutcome::Refuses(r) = g.outcome { Some(r) } else { None }).collect();
    assert_eq!(refusals, [Refusal::LevelTooLow, Refusal::DeniedByRule]);
    assert_eq!(answer.refusal, Some(Refusal::LevelTooLow));
    assert_eq!(answer.first_refusal().map(|g| g.stage), Some(Stage::Permission));
}

#[test]
fn allowed_answers_name_their_grounds_with_file_and_line() {
    let answer = ask(&engine(PIER), &Question::new("watch-1", "switch", "sh paths").at(noon()));
    assert_eq!(answer.full_line.as_deref(), Some("show paths"));
    let rule = answer.gates.last().expect("there are gates");
    assert_eq!(rule.text, "rule `allow show ...` of command set `trace`");
    let line = 1 + PIER[..PIER.find("\"allow show ...\"").expect("the rule is there")].matches('\n').count();
    assert_eq!(rule.location.as_ref().expect("it is written down").to_string(), format!("ledger.toml:{line}"));
    assert!(answer.gates.iter().filter(|g| g.outcome == GateOutcome::Passes).all(|g| g.location.is_some()), "{:#?}", answer.gates);
}

#[test]
fn user_text_never_reaches_an_answer_raw() {
    let engine = engine(PIER);
    for (user, system, line) in
        [("a\u{1b}[31m", "switch", "show level"), ("watch-1", "sw\u{7}", "show"), ("watch-1", "switch", "show \u{202e}x")]
    {
        let answer = ask(&engine, &Question::new(user, system, line));
        assert!(answer.gates.iter().all(|g| !g.text.chars().any(|c| c.is_control() || c == '\u{202e}')), "{:#?}", answer.gates);
    }
}

/// Who may use several accounts of a device says which; those that let nobody in do not count.
#[test]
fn one_of_several_accounts_is_named() {
    const LEDGER: &str = r#"
[users.mate-1]
[users.mate-2]
[users.both]
[vocabularies.make]
commands = [{ line = "show log", level = 1 }, { line = "zero tally", level = 7 }, { line = "leave", level = 0, does = "leave-session" }]
[systems.island]
kind = "network-device"
vocabulary = "make"
no-command-set = "everything"
identity-sources = ["local"]
name-case = "ignored"
[systems.island.accounts]
low = { used-by = ["user:mate-1", "user:both"], band = { start = 1, ceiling = 1 } }
high = { used-by = ["user:mate-1", "user:mate-2", "user:both"], band = { start = 7, ceiling = 7 } }
shut = { used-by = ["user:mate-1", "user:mate-2", "user:both"], locked = true }
Both = { band = { start = 1, ceiling = 1 } }
"#;
    let engine = engine(LEDGER);
    let asked = |user: &str, account: Option<&str>| {
        let question = Question::new(user, "island", "zero tally");
        outcome(&ask(&engine, &account.map_or(question.clone(), |login| question.account(login))))
    };
    for (user, account, expected) in [
        ("mate-1", None, Err(Refusal::SeveralAccounts)),
        ("mate-1", Some("low"), Err(Refusal::LevelTooLow)),
        ("mate-1", Some("high"), Ok(Verdict::Allowed)),
        ("mate-1", Some("HIGH"), Ok(Verdict::Allowed)),
        ("mate-1", Some("shut"), Err(Refusal::AccountLocked)),
        ("mate-1", Some("both"), Err(Refusal::NoLocalAccount)),
        ("mate-2", None, Ok(Verdict::Allowed)),
        ("mate-2", Some("low"), Err(Refusal::NoLocalAccount)),
        // One's own comes first, whatever is lent.
        ("both", None, Err(Refusal::LevelTooLow)),
        ("both", Some("both"), Err(Refusal::LevelTooLow)),
        ("both", Some("high"), Ok(Verdict::Allowed)),
    ] {
        assert_eq!(asked(user, account), expected, "{user} {account:?}");
    }
    // Two that differ in case alone are one on such a device, and on others two.
    let twice = LEDGER.replace("Both = {", "LOW = {");
    assert_eq!(codes(&findings(&twice)), [Code::DuplicateId]);
    assert_eq!(codes(&findings(&twice.replace("name-case = \"ignored\"", ""))), []);
    let refused = engine.ask(&Question::new("mate-1", "island", "zero tally"));
    assert_eq!(refused.first_refusal().map(|ground| ground.text.as_str()), Some("`mate-1` may use `low`, `high`; name one"));
    let first: Vec<&str> = refused.remedies[0].steps.iter().map(|step| step.text.as_str()).collect();
    assert_eq!(first, ["with the account `high`"]);
}
