//! Rehearsals: levels and modes change as on the device.

use zest_ledger::ask::{Proven, Session};
use zest_ledger::entry::Proof;
use zest_ledger::rehearsal::{Effect, Rehearsal};

use crate::support::{PIER, engine};

fn open(user: &str) -> Rehearsal {
    Rehearsal::open(engine(PIER), user, "switch", Session::default()).unwrap_or_else(|a| panic!("{user} cannot sign in: {:?}", a.refusal))
}

/// Types lines and returns the code of a refusal or the effect of each.
fn play(session: &mut Rehearsal, lines: &[&str]) -> Vec<String> {
    lines
        .iter()
        .map(|line| {
            let typed = session.type_line(line);
            typed.answer.refusal.map_or_else(|| format!("{:?}", typed.effect), |r| r.code().to_owned())
        })
        .collect()
}

#[test]
fn levels_go_up_and_down_and_the_ceiling_holds() {
    let mut session = open("watch-1");
    let lines = ["show level", "show log", "elevate 7", "show log", "elevate", "elevate 8", "elevate 1", "show log", "leave"];
    let expected =
        ["ShowsLevel(1)", "level-too-low", "Level(7)", "Ran", "not-permitted", "not-permitted", "Level(1)", "level-too-low", "Ended"];
    assert_eq!(play(&mut session, &lines), expected);
    assert!(session.is_over());
}

#[test]
fn modes_are_entered_and_left_and_commands_belong_to_them() {
    let mut session = open("lead-1");
    let lines = ["name x", "edit settings", "elevate 7", "ed s", "name x", "show log", "back", "show log"];
    let expected = ["other-mode", "level-too-low", "Level(7)", "Mode(\"settings\")", "Ran", "other-mode", "Mode(\"deck\")", "Ran"];
    assert_eq!(play(&mut session, &lines), expected);
}

#[test]
fn the_prompt_is_not_the_level() {
    let text = PIER
        .replace("modes = { deck = {},", "modes = { deck = { prompt = \" ~\", raised-prompt = \" ^\" },")
        .replace("own-levels = [", "privileged-at-sign-in = true\nown-levels = [");
    let session = Rehearsal::open(engine(&text), "watch-1", "switch", Session::default()).expect("the session opens");
    assert_eq!(
        (session.level(), session.prompt().as_str()),
        (1, "switch ^"),
        "automatic elevation shows a privileged prompt at a low level"
    );
}

#[test]
fn the_menu_lists_what_is_permitted_here_and_nothing_else() {
    let mut session = open("watch-1");
    let lines = |s: &Rehearsal| {
        s.menu().into_iter().map(|i| format!("{}{}", i.line, if i.is_partial { " (some)" } else { "" })).collect::<Vec<_>>()
    };
    assert_eq!(
        lines(&session),
        ["leave", "elevate {level: 0-15} (some)", "show level", "show paths", "show path to {address}", "change passphrase"]
    );
    session.type_line("elevate 7");
    assert!(lines(&session).contains(&"show log".to_owned()));
}

#[test]
fn a_rule_on_trial_changes_this_rehearsal_only() {
    let mut session = open("watch-1");
    session.type_line("elevate 7");
    assert_eq!(play(&mut session, &["zero tally"]), ["not-permitted"]);
    assert_eq!(session.allow_on_trial("zero tally").expect("the pattern can be read").as_deref(), Some("trace"));
    assert_eq!(play(&mut session, &["zero tally"]), ["Ran"]);
    assert_eq!(session.level(), 7, "the session goes on where it was");
    assert!(session.allow_on_trial("clear *").is_err());
    assert_eq!(play(&mut open("watch-1"), &["elevate 7", "zero tally"]), ["Level(7)", "not-permitted"]);
}

#[test]
fn obligations_hold_a_line_back_until_they_are_met() {
    let mut session = open("lead-1");
    session.type_line("elevate");
    assert_eq!(session.type_line("restart").effect, Effect::None);
    session.confirm();
    session.approve("lead-2", None);
    assert_eq!(session.type_line("restart").answer.verdict.word(), "denied", "the second person proved nothing");
    session.approve("lead-2", Some(vec![Proven::new(Proof::Key, jiff::SignedDuration::from_mins(1))]));
    assert_eq!(session.type_line("restart").answer.verdict.word(), "allowed after obligations", "identity was not proven again");
}

#[test]
fn after_a_rule_on_trial_everybody_is_still_known() {
    let mut session = open("lead-1");
    session.type_line("elevate");
    let restart = |session: &mut Rehearsal| {
        session.confirm();
        session.approve("lead-2", Some(vec![Proven::new(Proof::Key, jiff::SignedDuration::from_mins(1))]));
        let answer = session.type_line("restart").answer;
        (answer.verdict, answer.refusal, answer.gates.iter().map(|g| g.text.clone()).collect::<Vec<_>>())
    };
    let without = restart(&mut session);
    session.allow_on_trial("zero tally").expect("the pattern can be read");
    assert_eq!(restart(&mut session), without, "the rule is about another line");
}

#[test]
fn a_credential_to_be_changed_leaves_one_thing_to_do() {
    let mut session = open("trainee-1");
    assert_eq!(
        play(&mut session, &["show level", "leave", "change passphrase", "show level"]),
        ["credential-must-change", "credential-must-change", "CredentialChanged", "ShowsLevel(1)"]
    );
}

#[test]
fn a_session_that_cannot_be_opened_says_why() {
    let refused = Rehearsal::open(engine(PIER), "bare-1", "switch", Session::default()).expect_err("he has no proof");
    assert_eq!(refused.refusal.map(|r| r.code()), Some("no-proof"));
}
