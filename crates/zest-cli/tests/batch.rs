//! Questions as JSON Lines.

use serde_json::Value;

use crate::support::{Ran, zest_with};

fn batch(input: &[u8]) -> (Ran, Vec<Value>) {
    let words = ["ask", "--batch", "--ledger", "demo/lanternsound", "--at", "2026-11-25T09:00:00+01:00", "--from", "192.0.2.10"];
    let ran = zest_with(&words, input);
    let answers = ran.out.lines().map(|l| serde_json::from_str(l).expect("each line is JSON")).collect();
    (ran, answers)
}

#[test]
fn answers_come_in_order_and_a_bad_line_does_not_stop_the_rest() {
    let input = concat!(
        "{\"user\":\"watch-1\",\"on\":\"sw-selkie-1\",\"line\":\"show paths\"}\n",
        "not json\n",
        "\n",
        "{\"user\":\"watch-1\",\"on\":\"sw-selkie-1\",\"lin\":\"x\"}\n",
        "{\"user\":\"watch-1\",\"on\":\"sw-selkie-1\",\"line\":\"show log\",\"at\":\"2026-11-25T03:00:00Z\"}\n",
        "{\"user\":\"net-1\",\"on\":\"sw-selkie-1\",\"line\":\"restart\",\"level\":15,\"from\":\"192.0.2.70\"}",
    );
    let (ran, answers) = batch(input.as_bytes());
    assert_eq!(ran.status, 3, "a line could not be read");
    assert_eq!(answers.len(), 5);
    assert_eq!(answers[0]["verdict"], "allowed");
    assert_eq!((answers[1]["line"].as_u64(), answers[2]["line"].as_u64()), (Some(2), Some(4)), "errors name the line of the input");
    assert!(answers[2]["error"].as_str().is_some_and(|e| e.contains("did you mean `line`?")));
    assert_eq!(answers[3]["code"], "outside-hours", "what a question states is not overridden");
    assert_eq!(answers[4]["verdict"], "allowed after obligations");
}

#[test]
fn bytes_that_are_no_text_and_endless_lines_get_an_error_line() {
    let mut input = b"\xff\xfe\n".to_vec();
    input.extend(std::iter::repeat_n(b'x', 3 << 20));
    input.extend(b"\n{\"user\":\"watch-1\",\"on\":\"sw-selkie-1\",\"line\":\"show time\"}\n");
    let (_, answers) = batch(&input);
    assert_eq!(answers.len(), 3);
    assert_eq!(answers[0]["error"], "not UTF-8 text");
    assert_eq!(answers[1]["error"], "longer than 1 MiB");
    assert_eq!(answers[2]["verdict"], "allowed");
}

#[test]
fn the_exit_status_is_that_of_the_worst_answer() {
    let question = |line: &str| format!("{{\"user\":\"watch-1\",\"on\":\"sw-selkie-1\",\"line\":\"{line}\"}}\n");
    assert_eq!(batch(question("show time").as_bytes()).0.status, 0);
    assert_eq!(batch((question("show time") + &question("show log")).as_bytes()).0.status, 1);
    assert_eq!(batch(b"").0.status, 4);
}

#[test]
fn answers_are_streamed() {
    use std::io::{BufRead, BufReader, Write};
    use std::process::{Command, Stdio};
    let mut child = Command::new(env!("CARGO_BIN_EXE_zest"))
        .args(["ask", "--batch", "--ledger", "demo/lanternsound"])
        .current_dir(crate::support::root())
        .stdin(Stdio::piped())
        .stdout(Stdio::piped())
        .spawn()
        .expect("zest starts");
    let mut input = child.stdin.take().expect("it has an input");
    let mut output = BufReader::new(child.stdout.take().expect("it has an output"));
    for user in ["watch-4", "nobody"] {
        writeln!(input, "{{\"user\":\"{user}\",\"on\":\"sw-selkie-1\",\"line\":\"show time\"}}").expect("it listens");
        let mut answer = String::new();
        output.read_line(&mut answer).expect("it answers before the next question is put");
        assert!(answer.contains("denied"), "{answer}");
    }
    drop(input);
    assert_eq!(child.wait().expect("it ends").code(), Some(1));
}

/// The verdicts alone are those of the answers, for some users and all kinds, twice over, and what is not there is told as there.
#[test]
fn verdicts_alone_are_those_of_the_answers() {
    let users = ["watch-1", "net-1", "purser-1", "purser-3", "tariff-1", "db-lead", "nobody"];
    let lines = [
        r#""on":"sw-selkie-1","line":"show log""#,
        r#""on":"sw-selkie-1","line":"restart","level":15"#,
        r#""on":"ticketing","sql":"select amount from fares.price""#,
        r#""on":"ticketing","line":"select on table fares.price""#,
        r#""on":"ticketing","line":"select on table fares.nope""#,
        r#""on":"loyalty","sql":"delete from campaigns.letter","local":true"#,
        r#""on":"nowhere","line":"x""#,
        r#""on":"batch-runner","line":"tides selkie today""#,
        r#""lin":"x""#,
    ];
    let of_user = |user: &&str| lines.map(|line| format!("{{\"user\":\"{user}\",{line}}}\n")).concat();
    let input = users.iter().map(of_user).collect::<String>().repeat(2);
    let with = |more: &[&str]| {
        let words = ["ask", "--batch", "--ledger", "demo/lanternsound", "--at", "2026-11-25T09:00:00+01:00", "--from", "192.0.2.10"];
        zest_with(&[&words, more].concat(), input.as_bytes())
    };
    let (answers, verdicts) = (with(&[]), with(&["--verdicts"]));
    assert_eq!(answers.status, verdicts.status);
    assert_eq!(answers.out.lines().count(), verdicts.out.lines().count());
    for (answer, verdict) in answers.out.lines().zip(verdicts.out.lines()) {
        let [answer, verdict]: [Value; 2] = [answer, verdict].map(|line| serde_json::from_str(line).expect("each line is JSON"));
        for key in ["verdict", "code", "error", "line"] {
            let expected = if answer["error"].is_null() && key == "line" { &Value::Null } else { &answer[key] };
            assert_eq!(&verdict[key], expected, "{key}: {answer}");
        }
    }
    let told: Vec<&str> = verdicts.out.lines().collect();
    assert!(
        told.contains(&r#"{"verdict":"allowed"}"#) && told.iter().any(|line| line.starts_with(r#"{"verdict":"denied","code":"no"#)),
        "{told:#?}"
    );
}

/// Whoever asks many questions wants verdicts and reasons; remedies are looked for where that is asked for.
#[test]
fn remedies_are_looked_for_on_demand_only() {
    let refused = b"{\"user\":\"watch-1\",\"on\":\"sw-selkie-1\",\"line\":\"restart\"}\n";
    let (_, plain) = batch(refused);
    assert!(plain[0].get("remedies").is_none() && plain[0]["verdict"] == "denied", "{}", plain[0]);
    let words =
        ["ask", "--batch", "--remedies", "--ledger", "demo/lanternsound", "--at", "2026-11-25T09:00:00+01:00", "--from", "192.0.2.10"];
    let told: Value = serde_json::from_str(zest_with(&words, refused).out.trim()).expect("JSON");
    assert!(told["remedies"].as_array().is_some_and(|list| !list.is_empty()), "{told}");
    let misplaced = zest_with(&["ask", "watch-1", "--on", "sw-selkie-1", "--remedies", "--ledger", "demo/lanternsound", "restart"], b"");
    assert_eq!(misplaced.status, 2, "without a batch they are looked for in any case");
}

/// Thousands of lines are answered by all processors; each answer is the one that the line gets alone, in the place of the line.
#[test]
fn many_answers_come_in_the_order_of_their_questions() {
    let lines = ["show time", "restart", "show log", "no such line"];
    let mut input = String::new();
    for turn in 0..20_000 {
        let bad = turn % 1_000 == 999;
        let question = format!("{{\"user\":\"watch-1\",\"on\":\"sw-selkie-1\",\"line\":\"{}\"}}\n", lines[turn % 4]);
        input.push_str(if bad { "{\n" } else { &question });
    }
    let (_, answers) = batch(input.as_bytes());
    assert_eq!(answers.len(), 20_000);
    for (turn, answer) in answers.iter().enumerate() {
        if turn % 1_000 == 999 {
            assert_eq!(answer["line"], turn + 1, "{answer}");
        } else {
            assert_eq!((&answer["question"]["line"], answer), (&Value::from(lines[turn % 4]), &answers[turn % 4]));
        }
    }
}
