//! The JSON form of questions and answers.

use zest_ledger::ask::{Answer, Change, Remedy};
use zest_ledger::json;
use zest_testkit::random::Source;

use crate::support::{PIER, ask, engine};

fn data(answer: &Answer) -> serde_json::Value {
    serde_json::to_value(answer).expect("it can be written")
}

#[test]
fn questions_read_back_to_the_same() {
    let mut source = Source::new(7);
    for _ in 0..500 {
        let question = source.question();
        let text = serde_json::to_string(&question).expect("it can be written");
        assert_eq!(json::parse_question(&text).as_ref(), Ok(&question), "{text}");
    }
}

#[test]
fn questions_that_cannot_be_read_say_why() {
    for (text, why) in [
        ("", "not a JSON object"),
        ("[]", "expected a JSON object"),
        (r#"{"user":"a","on":"b"}"#, "`line` is missing"),
        (r#"{"user":"a","on":"b","line":7}"#, "`line` is not a text"),
        (r#"{"user":"a","on":"b","line":"c","levl":7}"#, "did you mean `level`?"),
        (r#"{"user":"a","on":"b","line":"c","level":16}"#, "0 to 15"),
        (r#"{"user":"a","on":"b","line":"c","level":"7"}"#, "0 to 15"),
        (r#"{"user":"a","on":"b","line":"c","at":"yesterday"}"#, "`at`: expected a date and time"),
        (r#"{"user":"a","on":"b","line":"c","from":"host"}"#, "`from`: expected an address"),
        (r#"{"user":"a","on":"b","line":"c","by":"fax"}"#, "`by`: expected one of"),
        (r#"{"user":"a","on":"b","line":"c","proofs":"password"}"#, "from proof to age"),
        (r#"{"user":"a","on":"b","line":"c","proofs":{"smile":"0s"}}"#, "`smile` is not one of"),
        (r#"{"user":"a","on":"b","line":"c","proofs":{"password":"-1m"}}"#, "negative"),
        (r#"{"user":"a","on":"b","line":"c","central":"sideways"}"#, "`central` is not"),
        (r#"{"user":"a","on":"b","line":"c","confirmed":"yes"}"#, "true or false"),
    ] {
        let error = json::parse_question(text).expect_err(text).to_string();
        assert!(error.contains(why), "{text}: {error}");
    }
}

#[test]
fn answers_carry_verdict_code_grounds_and_remedies() {
    let engine = engine(PIER);
    let value = data(&ask(&engine, &zest_ledger::Question::new("watch-1", "switch", "sh log")));
    assert_eq!(
        (value["verdict"].as_str(), value["stage"].as_str(), value["code"].as_str()),
        (Some("denied"), Some("permission"), Some("level-too-low"))
    );
    assert_eq!(value["full-line"], "show log");
    assert!(
        value["grounds"].as_array().is_some_and(|g| g.iter().any(|g| g["outcome"] == "refuses" && g["place"]["file"] == "ledger.toml"))
    );
    assert_eq!(value["remedies"][0]["steps"][0]["text"], "at level 7, reached with `elevate 7`");
    assert_eq!(value["remedies"][0]["width"], "session");
}

#[test]
fn an_answer_reads_back_to_the_same() {
    let engine = engine(PIER);
    let mut source = Source::new(11);
    let line = zest_ledger::Question::new("watch-1", "switch", "sh log");
    for question in std::iter::once(line).chain((0..300).map(|_| source.question())) {
        for answer in [engine.ask(&question), engine.explain(&question)] {
            let text = serde_json::to_string(&answer).expect("it can be written");
            let again: Answer = serde_json::from_str(&text).unwrap_or_else(|e| panic!("{e}: {text}"));
            assert_eq!(again, answer);
            assert_eq!(serde_json::to_string(&again).expect("it can be written"), text);
            for remedy in &answer.remedies {
                let text = serde_json::to_string(remedy).expect("it can be written");
                assert!(text.starts_with(r#"{"format":1,"#), "{text}");
                assert_eq!(serde_json::from_str::<Remedy>(&text).unwrap_or_else(|e| panic!("{e}: {text}")), *remedy);
            }
        }
    }
}

#[test]
fn what_another_version_writes_is_refused_and_not_half_read() {
    let engine = engine(PIER);
    let answer = data(&ask(&engine, &zest_ledger::Question::new("watch-1", "switch", "sh log")));
    type Edit = fn(&mut serde_json::Value);
    let edits: [(&str, Edit); 8] = [
        ("`format` is 2, and this version reads format 1", |a| a["format"] = 2.into()),
        ("missing field `format`", |a| drop(a.as_object_mut().and_then(|a| a.remove("format")))),
        ("unknown field `mood`", |a| a["mood"] = "good".into()),
        ("unknown field `mood`", |a| a["grounds"][0]["mood"] = "good".into()),
        ("do not fit each other", |a| a["verdict"] = "allowed".into()),
        ("do not fit each other", |a| a["stage"] = "entry".into()),
        ("unknown variant `no-such-code`", |a| a["code"] = "no-such-code".into()),
        ("`change-of` does not fit the change", |a| a["remedies"][0]["steps"][0]["change-of"] = "ledger".into()),
    ];
    for (why, edit) in edits {
        let mut edited = answer.clone();
        edit(&mut edited);
        let error = serde_json::from_value::<Answer>(edited.clone()).expect_err(why).to_string();
        assert!(error.contains(why), "{error}: {edited}");
    }
    let question = r#"{"format":2,"user":"a","on":"b","line":"c"}"#;
    let change = r#"{"format":2,"change":"enable","user":"u"}"#;
    let errors = [
        serde_json::from_str::<zest_ledger::Question>(question).expect_err(question).to_string(),
        serde_json::from_str::<Change>(change).expect_err(change).to_string(),
    ];
    assert!(errors.iter().all(|e| e.contains("`format` is 2, and this version reads format 1")), "{errors:?}");
    let twice = r#"{"change":"enable","user":"u","user":"v"}"#;
    assert!(serde_json::from_str::<Change>(twice).expect_err(twice).to_string().contains("stands twice"));
}

#[test]
fn decisions_and_answers_of_two_engines_are_compared_by_what_they_mean() {
    let spare = format!("[command-sets.aaa]\nrules = [\"allow show spare\"]\n{PIER}");
    let (one, other) = (engine(PIER), engine(&spare));
    let question = zest_ledger::Question::new("watch-1", "switch", "show path to 192.0.2.1").level(7);
    let (a, b) = (one.decide(&question), other.decide(&question));
    assert_ne!(a.rule.expect("a rule decided").set, b.rule.expect("a rule decided").set, "the numbers are others");
    assert_eq!(a, b);
    assert_eq!(one.ask(&question).gates.len(), other.ask(&question).gates.len());
    // Another rule in the same place is another one, also where the verdict is the same.
    let text = PIER.replace("\"allow show ...\"", "\"allow show path ...\"");
    assert_ne!(text, PIER);
    let third = engine(&text).decide(&question);
    assert_eq!(third.verdict, a.verdict);
    assert_ne!(third, a);
}
