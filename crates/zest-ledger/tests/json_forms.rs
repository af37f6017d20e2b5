//! The JSON form of questions and answers.

use zest_ledger::json;
use zest_testkit::random::Source;

use crate::support::{PIER, ask, engine};

#[test]
fn questions_read_back_to_the_same() {
    let mut source = Source::new(7);
    for _ in 0..500 {
        let question = source.question();
        let text = json::question(&question).to_string();
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
    let value = json::answer(&ask(&engine, &zest_ledger::Question::new("watch-1", "switch", "sh log")));
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
