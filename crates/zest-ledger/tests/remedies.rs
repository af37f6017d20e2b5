//! Remedies: each one that is offered works, and none of its steps can be left out.

use zest_ledger::Question;
use zest_ledger::ask::{Answer, Verdict};
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
        ("watch-1", "show log", "at level 7"),
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
    let answer = ask(&engine(PIER), &Question::new("watch-1", "switch", "clear counters").level(7));
    let step = &answer.remedies[0].steps[0];
    assert_eq!(step.text, "if command set `trace` also allowed `clear counters`");
    let line = 1 + PIER[..PIER.find("\"deny  show running-config").expect("it is there")].matches('\n').count();
    assert_eq!(step.location.as_ref().map(|l| l.line), Some(line as u32));
}

#[test]
fn remedies_of_the_session_work_when_asked_and_none_can_be_left_out() {
    let mut tried = 0;
    for seed in 0..60 {
        let mut source = Source::new(seed);
        let engine = zest_ledger::Engine::compile(source.ledger().estate().expect("valid")).expect("compiles");
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
