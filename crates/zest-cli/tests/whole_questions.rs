//! A question is answered whole or refused: nothing on the command line or in a batch is dropped or read in another's place.

use std::fmt::Write as _;
use std::fs::OpenOptions;
use std::process::{Command, Stdio};

use serde_json::Value;
use zest_ledger::ask::{Fact, FactForm, Session};
use zest_ledger::json::{parse_question, parse_question_in};
use zest_ledger::{Engine, Ledger, Question};
use zest_testkit::facts::Facts;

use crate::support::{copy_of_demo, root, zest, zest_with};

/// The demo ledger, compiled.
fn demo() -> Engine {
    let mut files: Vec<_> = std::fs::read_dir(root().join("demo/lanternsound")).expect("the demo").flatten().collect();
    files.sort_by_key(std::fs::DirEntry::path);
    let ledger = files.iter().fold(Ledger::new(), |ledger, file| {
        ledger.document_bytes(&file.file_name().to_string_lossy(), &std::fs::read(file.path()).expect("a document"))
    });
    let estate = ledger.estate().unwrap_or_else(|findings| panic!("{findings}"));
    Engine::compile(estate).unwrap_or_else(|findings| panic!("{findings}"))
}

/// A question with the options that state its facts, and as a line of a batch with nothing but who, where and what.
fn as_options(question: &Question) -> (Vec<String>, String) {
    let mut words = Vec::new();
    for (fact, texts) in question.session.stated() {
        match fact.form() {
            FactForm::Flag => words.push(format!("--{}", fact.option())),
            FactForm::One(_) | FactForm::Many(_) => {
                for text in texts {
                    words.extend([format!("--{}", fact.option()), text]);
                }
            }
        }
    }
    let bare = serde_json::json!({ "user": question.user, "on": question.system, "line": question.line }).to_string();
    (words, bare)
}

#[test]
fn asked_singly_and_in_a_batch_every_question_has_the_same_answer() {
    let engine = demo();
    let seed = zest_testkit::seed(20_261_127);
    let mut facts = Facts::new(seed);
    let count = zest_testkit::questions(20_000);
    let mut prepared = std::collections::HashMap::new();
    let (mut allowed, mut stated) = (0, std::collections::BTreeMap::<&str, usize>::new());
    for _ in 0..count {
        let asked = facts.question();
        // Through options: each is read alone and then with the others, as the command line does it.
        let mut by_options = Session::default();
        for (fact, texts) in asked.session.stated() {
            *stated.entry(fact.key()).or_default() += 1;
            let texts = if texts.is_empty() { vec![String::new()] } else { texts };
            for text in texts {
                by_options.state(fact, &text).unwrap_or_else(|e| panic!("seed {seed}: {asked:?}: {e}"));
            }
        }
        let (_, bare) = as_options(&asked);
        let in_batch = parse_question_in(&bare, &by_options).unwrap_or_else(|e| panic!("seed {seed}: {asked:?}: {e}"));
        let by_json = parse_question(&serde_json::to_string(&asked).expect("it can be written"))
            .unwrap_or_else(|e| panic!("seed {seed}: {asked:?}: {e}"));
        assert_eq!((&in_batch, &by_json), (&asked, &asked), "seed {seed}");
        let (one, other) = (engine.decide(&asked), engine.decide(&in_batch));
        // Prepared, it is answered with what others have left there, and with what itself has.
        let line = (asked.system.clone(), asked.line.clone(), asked.form);
        let ready = prepared.entry(line).or_insert_with(|| engine.prepare(&asked));
        assert_eq!((ready.decide(&asked), ready.decide(&asked)), (one, one), "seed {seed}: {asked:?}");
        assert_eq!(one, other, "seed {seed}: {asked:?}");
        allowed += usize::from(one.refusal.is_none());
    }
    let share = |n: usize| 100 * n / count;
    println!("{count} questions, first seed {seed}: {} percent allowed; stated in percent: {stated:?}", share(allowed));
    assert!(share(allowed) >= 20, "{} percent are allowed, so too little is compared", share(allowed));
    for fact in Fact::ALL {
        let times = stated.get(fact.key()).copied().unwrap_or(0);
        assert!(20 * times >= count, "`{}` is stated in {times} of {count} questions only", fact.key());
    }
}

fn without_moments(answer: &mut Value) {
    let steps = answer["remedies"].as_array_mut().into_iter().flatten().filter_map(|r| r["steps"].as_array_mut()).flatten();
    steps.map(|step| &mut step["change"]).filter(|c| c["change"] == "moment").for_each(|c| c["value"] = Value::Null);
}

#[test]
fn real_processes_say_the_same_singly_and_in_a_batch() {
    let mut facts = Facts::new(zest_testkit::seed(4));
    for number in 0..zest_testkit::processes(150) {
        let asked = facts.question();
        let (options, bare) = as_options(&asked);
        let base = ["ask", "--ledger", "demo/lanternsound"];
        let options: Vec<&str> = options.iter().map(String::as_str).collect();
        let ask = [&["--format", "json", asked.user.as_str(), "--on", asked.system.as_str()], &options[..], &["--", &asked.line]].concat();
        let single = zest_with(&[&base[..], &ask].concat(), b"");
        let batch = zest_with(&[&base[..], &["--batch", "--remedies"], &options].concat(), bare.as_bytes());
        assert_eq!(single.status, batch.status, "{asked:?}\n{}{}\n{}", single.out, single.err, batch.out);
        let mut reply: Value = serde_json::from_str(&batch.out).expect("JSON");
        if single.status == 2 {
            assert!(single.err.contains(reply["error"].as_str().expect("an error")), "{}\n{reply}", single.err);
            continue;
        }
        let mut answer: Value = serde_json::from_str(&single.out).expect("JSON");
        // A moment that a remedy proposes is not before that of asking.
        [&mut answer, &mut reply].into_iter().for_each(without_moments);
        assert_eq!(answer, reply, "{asked:?}");
        let mut told = serde_json::to_value(&asked).expect("it can be written");
        told.as_object_mut().and_then(|fields| fields.remove("format")).expect("a question says its format");
        assert_eq!(answer["question"], told, "the answer repeats the question");
        // The text names every fact as well.
        if number % 5 > 0 {
            continue;
        }
        let text = zest_with(&[&base[..], &ask[2..]].concat(), b"").out;
        let words = text.split_whitespace().collect::<Vec<_>>().join(" ");
        for (fact, texts) in asked.session.stated() {
            let named = match fact {
                Fact::Origin | Fact::At | Fact::Expires | Fact::Channel | Fact::Mode | Fact::Account | Fact::ApprovedBy | Fact::Level => {
                    words.contains(&texts[0])
                }
                Fact::Proofs => words.contains(texts[0].split('=').next().expect("a proof")) || words.contains("no proof"),
                Fact::ApproverProofs => words.contains("second person"),
                Fact::Roles => words.contains("role"),
                Fact::Attributes => words.contains(texts[0].split('=').next().expect("a name")),
                Fact::Acting => words.contains(if texts[0].starts_with("role") { "in role" } else { "as " }),
                Fact::Local => words.contains("own socket"),
                Fact::Central => words.contains("central source down"),
                Fact::Confirmed => words.contains("confirmed"),
            };
            assert!(named, "`{}` is not in\n{text}", fact.key());
        }
    }
}

#[test]
fn options_hold_in_a_batch_as_they_do_singly() {
    let nothing = ("vessels.toml", "when-central-down = \"own-levels\"", "when-central-down = \"nothing\"");
    let copy = copy_of_demo("lanternsound", Some(nothing));
    let ledger = copy.path().to_str().expect("a path");
    let facts = ["--central-down", "--from", "198.51.100.9"];
    let single = zest_with(&[&["ask", "--ledger", ledger, "radio-1", "--on", "rt-ember"], &facts[..], &["show", "release"]].concat(), b"");
    let question = b"{\"user\":\"radio-1\",\"on\":\"rt-ember\",\"line\":\"show release\"}\n";
    let batch = zest_with(&[&["ask", "--ledger", ledger, "--batch"], &facts[..]].concat(), question);
    assert_eq!((single.status, batch.status), (1, 1), "{}\n{}", single.out, batch.out);
    // What a question states itself is not overridden, also where it states that something does not hold.
    let up = b"{\"user\":\"radio-1\",\"on\":\"rt-ember\",\"line\":\"show release\",\"central\":\"up\"}\n";
    assert_eq!(zest_with(&[&["ask", "--ledger", ledger, "--batch"], &facts[..]].concat(), up).status, 0);
}

#[test]
fn a_word_of_the_line_that_is_spelled_like_an_option_is_refused_with_both_readings() {
    let kiosk = "ask --ledger demo/lanternsound watch-2 --on kiosk-selkie --acting account:kiosk";
    for (line, word, readings) in [
        ("/opt/kiosk/bin/screen show -l .", "-l", ["-- /opt/kiosk/bin/screen show -l .", "-l . /opt/kiosk/bin/screen show"]),
        ("/opt/kiosk/bin/screen show --level 7", "--level", ["show --level 7", "--level 7 /opt/kiosk/bin/screen show"]),
        ("/opt/kiosk/bin/screen show --local", "--local", ["show --local", "--local /opt/kiosk/bin/screen show"]),
        ("/opt/kiosk/bin/screen show --confirmed", "--confirmed", ["show --confirmed", "--confirmed /opt"]),
        ("/opt/kiosk/bin/screen show --from=192.0.2.1", "--from=192.0.2.1", ["show --from=192.0.2.1", "--from=192.0.2.1 /opt"]),
        ("/opt/kiosk/bin/screen -h", "-h", ["screen -h", "-h /opt"]),
        ("/opt/kiosk/bin/screen --help", "--help", ["screen --help", "--help /opt"]),
        ("/opt/kiosk/bin/screen -- show", "--", ["screen -- show", "-- /opt"]),
        ("/opt/kiosk/bin/screen --format json", "--format", ["screen --format json", "--format json /opt"]),
    ] {
        let ran = zest(&format!("{kiosk} {line}"));
        assert_eq!((ran.status, ran.out.as_str()), (2, ""), "{line}\n{}", ran.err);
        assert!(ran.err.contains(&format!("the line holds `{word}`, which is also an option of ours")), "{line}\n{}", ran.err);
        assert!(readings.iter().all(|r| ran.err.contains(r)), "{line}\n{}", ran.err);
        let marked = zest(&format!("{kiosk} -- {line}"));
        assert_eq!(marked.status, 1, "with `--` it is the line: {line}\n{}{}", marked.out, marked.err);
    }
    assert_eq!(zest(&format!("{kiosk} -- /opt/kiosk/bin/screen --page 3")).status, 0, "the demo's own rule can be asked about");
    assert_eq!(zest(&format!("{kiosk} /opt/kiosk/bin/screen --page 3")).status, 0, "`--page` is no option of ours");
}

#[test]
fn an_option_behind_the_proof_by_password_is_no_credential_and_one_in_the_line_is_covered() {
    let ran = zest("ask watch-2 --on kiosk-selkie --proof password --at 2026-11-25T09:00:00Z connect password hunter-2 --ledger demo");
    assert_eq!(ran.status, 2, "{}", ran.err);
    assert!(ran.err.contains("--proof password --at 2026-11-25T09:00:00Z --ledger demo connect"), "{}", ran.err);
    assert!(!ran.err.contains("hunter-2"), "{}", ran.err);
}

/// A line takes all that stands behind its first word: where an option is missing for that, it is said.
#[test]
fn an_option_that_is_missing_since_it_stands_in_the_line_is_named() {
    for (line, is_in_it) in [
        ("who show log --on sw-selkie-1", true),
        ("ask watch-1 show log --on=sw-selkie-1", true),
        ("ask watch-1 show log", false),
        ("who show log", false),
    ] {
        let ran = zest(&format!("{line} --ledger demo/lanternsound"));
        assert_eq!(ran.status, 2, "{line}\n{}", ran.err);
        let says = ran.err.contains("`--on` stands behind the first word of the line, and so is part of it");
        assert_eq!(says, is_in_it, "{line}\n{}", ran.err);
    }
}

/// The options of `who` are not those of `ask`.
#[test]
fn a_word_that_is_spelled_like_an_option_of_who_is_refused_there() {
    let who = "who --ledger demo/lanternsound --on kiosk-selkie /opt/kiosk/bin/screen";
    for (word, status) in [
        ("--like", 2),
        ("--path", 2),
        ("--on", 2),
        ("--sql", 2),
        ("--from=192.0.2.1", 2),
        ("--approver-proof", 2),
        ("--user", 0),
        ("--batch", 0),
    ] {
        let ran = zest(&format!("{who} {word}"));
        assert_eq!(ran.status, status, "{word}\n{}{}", ran.out, ran.err);
        assert_eq!(ran.err.contains("which is also an option of ours"), status == 2, "{word}\n{}", ran.err);
    }
}

#[test]
fn help_in_the_place_of_an_answer_is_no_allow() {
    for (line, status) in [
        ("ask --help", 0),
        ("ask -h", 0),
        ("help ask", 0),
        ("ask watch-1 --on sw-selkie-1 -h show log", 2),
        ("ask watch-1 --help --on sw-selkie-1 show log", 2),
        ("--help ask watch-1 --on sw-selkie-1 show log", 2),
    ] {
        assert_eq!(zest(line).status, status, "{line}");
    }
}

#[test]
fn what_is_stated_twice_or_contradicts_itself_is_an_error() {
    let base = "ask --ledger demo/lanternsound net-1 --on skyquay";
    for (options, said) in [
        ("--attribute amount=1 --attribute amount=501", "the attribute `amount` is stated twice"),
        ("--role none --role quay-keeper", "`none` stands alone"),
        ("--proof none --proof password", "`none` stands alone"),
        ("--proof password --proof none", "`none` stands alone"),
        ("--at 2026-11-26T09:00:00Z --at 2026-11-26T10:00:00Z", "cannot be used multiple times"),
        ("--local --from 192.0.2.1", "cannot be used with"),
        ("--approver-proof key", "--approved-by"),
    ] {
        let ran = zest(&format!("{base} {options} hulls.read on lanternsound"));
        assert_eq!(ran.status, 2, "{options}\n{}", ran.out);
        assert!(ran.err.contains(said), "{options}: {}", ran.err);
    }
    for (keys, said) in [
        (r#""line":"x","line":"y""#, "the key `line` stands twice"),
        (r#""line":"x","level":1,"level":2"#, "the key `level` stands twice"),
        (r#""line":"x","attributes":{"a":"1","a":"2"}"#, "the key `a` stands twice"),
        (r#""line":"x","role":"a","roles":["b"]"#, "at once"),
        (r#""line":"x","local":true,"from":"192.0.2.1""#, "no address"),
        (r#""line":"x","approver-proofs":{"key":"0s"}"#, "no second person"),
        (r#""line":"x","attributes":{"a=b":"1"}"#, "holds a `=`"),
    ] {
        let error = parse_question(&format!("{{\"user\":\"a\",\"on\":\"b\",{keys}}}")).expect_err(keys).to_string();
        assert!(error.contains(said), "{keys}: {error}");
    }
}

#[test]
fn a_fact_that_the_kind_does_not_look_at_is_refused_and_not_dropped() {
    for (line, option) in [
        ("net-1 --on skyquay --level 7 hulls.read on lanternsound", "--level"),
        ("net-1 --on skyquay --account root hulls.read on lanternsound", "--account"),
        ("net-1 --on batch-runner --role batch /bin/true", "--role"),
        ("net-1 --on batch-runner --confirmed /bin/true", "--confirmed"),
        ("watch-1 --on sw-selkie-1 --local show time", "--local"),
        ("watch-1 --on sw-selkie-1 --attribute ticket=1 show time", "--attribute"),
        ("tariff-1 --on ticketing --mode deck select on table fares.price", "--mode"),
        ("tariff-1 --on ticketing --approved-by net-1 select on table fares.price", "--approved-by"),
    ] {
        let ran = zest(&format!("ask --ledger demo/lanternsound {line}"));
        assert_eq!(ran.status, 1, "{line}\n{}{}", ran.out, ran.err);
        assert!(ran.out.contains("[fact-not-heard]") && ran.out.contains(option), "{line}\n{}", ran.out);
    }
}

#[test]
fn a_name_that_stands_for_nothing_has_one_status_in_every_command() {
    let ledger = "--ledger demo/lanternsound";
    for line in [
        format!("ask {ledger} watch-1 --on sw-selki-1 show time"),
        format!("ask {ledger} watch-1 --on sw-selkie-1,sw-selki-2 show time"),
        format!("ask {ledger} watch-1 --on kind=clod show time"),
        format!("ask {ledger} watch-1 --on nothing=here show time"),
        format!("ask {ledger} tariff-1 --on ticketing --role nobody select on table fares.price"),
        format!("ask {ledger} net-1 --on skyquay --proof one-time-code --acting role:quay-keper hulls.list on lanternsound"),
        format!("ask {ledger} watch-1 --on sw-selkie-1 --at 2026-11-25T09:00:00+01:00 --from 192.0.2.10 --mode dek show time"),
        format!("effective watch-1 --on nowhere {ledger}"),
        format!("session watch-1 --on nowhere {ledger}"),
        format!("session net-1 --on skyquay --proof one-time-code --acting role:quay-keper {ledger}"),
        format!("rehearse watch-1 --on nowhere {ledger}"),
        format!("ready watch-1 --on nowhere {ledger}"),
        format!("obligations nowhere {ledger}"),
        format!("emit nowhere {ledger}"),
        format!("read nowhere {ledger}"),
        format!("roll-out nowhere {ledger}"),
        "findings --about ZL9999".to_owned(),
        "privileges clod".to_owned(),
    ] {
        let ran = zest(&line);
        assert_eq!(ran.status, 2, "zest {line}\n{}{}", ran.out, ran.err);
        assert!(!ran.err.is_empty() && !ran.err.contains("panicked"), "{line}");
    }
    let batch =
        zest_with(&["ask", "--ledger", "demo/lanternsound", "--batch"], b"{\"user\":\"watch-1\",\"on\":\"nowhere\",\"line\":\"x\"}");
    assert_eq!(batch.status, 2);
    assert!(batch.out.contains("no system is named `nowhere`"), "{}", batch.out);
    // A name that nobody knows at sign-in is an answer of the system.
    for line in [
        format!("ask {ledger} nobody --on sw-selkie-1 show time"),
        format!("effective nobody {ledger}"),
        format!("session nobody --on sw-selkie-1 {ledger}"),
        format!("rehearse nobody --on sw-selkie-1 {ledger}"),
        format!("ready nobody {ledger}"),
    ] {
        assert_eq!(zest(&line).status, 1, "zest {line}");
    }
}

#[test]
fn output_that_cannot_be_written_is_said_and_a_closed_pipe_is_not() {
    let question = b"{\"user\":\"watch-1\",\"on\":\"sw-selkie-1\",\"line\":\"show time\"}\n".repeat(3);
    for words in [
        "ask --batch --ledger demo/lanternsound",
        "ask --ledger demo/lanternsound watch-1 --on sw-selkie-1 show time",
        "findings --ledger demo/with-defects",
        "effective watch-1 --ledger demo/lanternsound",
        "emit ticketing --ledger demo/lanternsound",
        "session watch-1 --on sw-selkie-1 --ledger demo/lanternsound",
        "ready watch-1 --ledger demo/lanternsound",
        "obligations linkspan --ledger demo/lanternsound",
        "privileges postgresql",
        "rehearse watch-1 --on sw-selkie-1 --at 2026-11-25T09:00:00+01:00 --from 192.0.2.10 --ledger demo/lanternsound",
        "schema",
        "demo",
        "completions bash",
        "--help",
    ] {
        let run = |out: Stdio| {
            let mut child = Command::new(env!("CARGO_BIN_EXE_zest"))
                .args(words.split(' '))
                .current_dir(root())
                .stdin(Stdio::piped())
                .stdout(out)
                .stderr(Stdio::piped())
                .spawn()
                .expect("zest starts");
            let mut stdin = child.stdin.take().expect("an input");
            let question = question.clone();
            let writer = std::thread::spawn(move || std::io::Write::write_all(&mut stdin, &question));
            let done = child.wait_with_output().expect("zest ends");
            // A run that stops early closes the pipe.
            let _ = writer.join();
            (done.status.code(), String::from_utf8_lossy(&done.stderr).into_owned())
        };
        let full = OpenOptions::new().write(true).open("/dev/full").expect("there is one");
        let (status, err) = run(full.into());
        assert_eq!(status, Some(7), "{words}: {err}");
        assert!(err.contains("the output cannot be written"), "{words}: {err}");
        let (reader, writer) = std::io::pipe().expect("a pipe");
        drop(reader);
        let (status, err) = run(writer.into());
        assert_eq!((status, err.as_str()), (Some(7), ""), "{words}");
    }
}

#[test]
fn every_fact_has_an_option_and_the_help_says_so() {
    let help = zest("ask --help").out;
    let mut missing = String::new();
    for fact in Fact::ALL {
        if !help.contains(&format!("--{}", fact.option())) {
            let _ = writeln!(missing, "{}", fact.option());
        }
    }
    assert_eq!(missing, "");
    assert!(help.contains("Options of ours stand before the line"), "{help}");
}
