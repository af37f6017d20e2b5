//! Remedies: each one that is offered works, and none of its steps can be left out.

use zest_ledger::ask::{Answer, Verdict};
use zest_ledger::{Engine, Question};
use zest_testkit::random::Source;

use crate::support::{PIER, ask, engine};

fn texts(answer: &Answer) -> Vec<String> {
    answer.remedies.iter().map(|r| r.steps.iter().map(|s| s.text.as_str()).collect::<Vec<_>>().join(", and ")).collect()
}

#[test]
fn the_smallest_remedy_comes_first() {
    let engine = engine(PIER);
    for (user, line, first) in [
        ("Watch-1", "show level", "as `watch-1`"),
        ("watch-1", "show l", "as `show level`"),
        ("watch-1", "shwo level", "as `show level`"),
        ("watch-1", "show log", "at level 7, reached with `elevate 7`"),
        ("watch-1", "elevate", "with `elevate 7`"),
        ("gone-1", "show level", "if `gone-1` were not disabled"),
        ("bare-1", "show level", "if `bare-1` had a password"),
        ("trainee-1", "show level", "once `trainee-1` has changed the credential with `change passphrase`"),
        ("alone-1", "show level", "if `alone-1` were in group `watch`"),
        ("setless-1", "show level", "if role `setless` had the command set `trace`"),
        ("bandless-1", "show level", "if the role `bandless` had a band from 1 to 1"),
        ("watch-2", "show level", "through the channel terminal"),
    ] {
        let answer = ask(&engine, &Question::new(user, "switch", line));
        assert_eq!(answer.verdict, Verdict::Denied, "{user}: {line}");
        assert_eq!(texts(&answer).first().map(String::as_str), Some(first), "{user}: {line}: {:?}", texts(&answer));
    }
}

#[test]
fn ledger_changes_say_where_they_would_be_made() {
    let answer = ask(&engine(PIER), &Question::new("watch-1", "switch", "zero tally").level(7));
    let step = &answer.remedies[0].steps[0];
    assert_eq!(step.text, "if command set `trace` also allowed `zero tally`");
    let line = 1 + PIER[..PIER.find("\"deny  show settings live").expect("it is there")].matches('\n').count();
    assert_eq!(step.location.as_ref().map(|l| l.line), Some(line as u32));
}

#[test]
fn remedies_of_the_session_work_when_asked_and_none_can_be_left_out() {
    let mut tried = 0;
    for seed in 0..60 {
        let mut source = Source::new(seed);
        let engine = Engine::compile(source.ledger().estate().expect("valid")).expect("compiles");
        for _ in 0..20 {
            let answer = engine.ask(&source.question());
            assert!(answer.verdict == Verdict::Denied || answer.remedies.is_empty());
            for remedy in answer.remedies.iter().filter(|r| r.steps.iter().all(|s| s.change.is_of_session())) {
                let with = |skip: Option<usize>| {
                    let mut question = answer.question.clone();
                    for (i, step) in remedy.steps.iter().enumerate() {
                        if Some(i) != skip {
                            step.change.apply(&mut question);
                        }
                    }
                    engine.decide(&question).verdict
                };
                assert_eq!(with(None), remedy.verdict, "seed {seed}: {:?} for {:?}", remedy.steps, answer.question);
                for i in 0..remedy.steps.len().saturating_sub(1) {
                    assert_eq!(
                        with(Some(i)),
                        Verdict::Denied,
                        "seed {seed}: step {i} of {:?} is not needed for {:?}",
                        remedy.steps,
                        answer.question
                    );
                }
                tried += 1;
            }
        }
    }
    assert!(tried > 50, "only {tried} remedies of the session were offered");
}

/// Remedies of a refusal, as texts; those that change the session only are tried again.
fn tried(engine: &Engine, question: &Question) -> Vec<String> {
    let answer = ask(engine, question);
    for remedy in answer.remedies.iter().filter(|r| r.steps.iter().all(|s| s.change.is_of_session())) {
        let mut changed = question.clone();
        remedy.steps.iter().for_each(|s| s.change.apply(&mut changed));
        assert_eq!(engine.ask(&changed).verdict, remedy.verdict, "{remedy:?}");
    }
    texts(&answer)
}

#[test]
fn on_a_cloud_the_session_is_changed_first_and_then_the_ledger() {
    let cloud = crate::clouds::cloud();
    let on = |user: &str, line: &str| Question::new(user, "sky", line).at("2026-11-26T08:00:00Z".parse().expect("a moment"));
    let list = "records.list on line/fares/records";
    for (question, expected) in [
        (on("lead-1", list), "with a one-time-code given just before"),
        (
            on("nobody-1", list),
            "with a one-time-code given just before, and if `user:nobody-1` were granted `records.list` on `line/fares/records`",
        ),
        (on("clerk-1", "records.delete on line/fares"), "with the attribute `ticket` stated as `LF-7`"),
        (on("clerk-1", "records.delete on line/fares/records").attribute("ticket", "LF-8"), "with the attribute `ticket` stated as `LF-7`"),
        (on("clerk-1", list).attribute("pier", "selkie"), "without the attribute `pier`"),
        (on("night-1", list), "in the assumed role `night-operator`, and with a one-time-code given just before"),
        (on("capped-1", "records.put on line/rota"), "if the ceiling let `records.put` through"),
        (on("both-1", "records.lst on line/fares"), "as `records.list on line/fares`"),
        (on("both-1", "records.list"), "as `records.list on line/fares`"),
        (on("both-1", list).expires("2026-11-26T07:00:00Z".parse().expect("a moment")), "in a new session"),
        (on("both-1", "records.put on line/rota").at("2027-01-01T00:00:00Z".parse().expect("a moment")), "if the entry held at that time"),
    ] {
        let remedies = tried(&cloud, &question);
        assert_eq!(remedies.first().map(String::as_str), Some(expected), "{question:?}: {remedies:?}");
    }
}

#[test]
fn a_missing_half_of_an_assumption_is_named() {
    let cloud = crate::clouds::cloud();
    let put = |user: &str| {
        let question =
            Question::new(user, "sky", "records.put on line/fares").proof(zest_ledger::entry::Proof::Password, jiff::SignedDuration::ZERO);
        question.acting("role:night-operator".parse().expect("a link"))
    };
    let hopeful = tried(&cloud, &put("hopeful-1"));
    assert!(hopeful.contains(&"if `hopeful-1` were in group `night`".to_owned()), "{hopeful:?}");
    let wanted = tried(&cloud, &put("wanted-1"));
    assert!(wanted.contains(&"if `user:wanted-1` were granted `assume` on `role/night-operator`".to_owned()), "{wanted:?}");
}

#[test]
fn in_an_application_a_second_person_is_named() {
    let room = crate::applications::room();
    let on = |user: &str, line: &str| Question::new(user, "ramps", line).at("2026-11-26T08:00:00Z".parse().expect("a moment"));
    for (question, expected) in [
        (
            on("mate-1", "unlock on ramp/north")
                .approved_by("mate-1")
                .approver_proof(zest_ledger::entry::Proof::Password, jiff::SignedDuration::ZERO),
            "with `mate-2` as second person",
        ),
        (
            on("guest-1", "lower on ramp/north").acting("user:mate-1".parse().expect("a link")),
            "in their own name, and if `user:guest-1` were granted `lower` on `ramp/north`",
        ),
        (on("mate-1", "lower on ramp/nort"), "as `lower on ramp/north`"),
        (on("mate-1", "lower on ramp/north").acting("user:mate-22".parse().expect("a link")), "as user mate-2"),
        (on("planner-1", "raise on ramp/north"), "with only the role `day` active"),
        (on("changer-1", "lower on ramp/north"), "once `changer-1` has changed the credential, with `change-credential on user/changer-1`"),
    ] {
        let remedies = tried(&room, &question);
        assert!(remedies.iter().any(|r| r == expected), "{question:?}: {remedies:?}");
    }
}
