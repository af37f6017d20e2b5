//! Clouds, applications and hosts on the demo: the named cases as a page, the table of obligations, sessions, scripts.

use std::fmt::Write as _;
use std::fs;
use std::path::Path;

use serde_json::Value;
use zest_testkit::pages::same_as_file;

use crate::support::{Ran, copy_of_demo, root, wrapped, zest, zest_with};

/// A case: what it is about, a change of the demo if there is one, and what is run, each with its exit status.
struct Case {
    title: &'static str,
    text: &'static str,
    /// A document, and a text in it that is replaced by another.
    with: Option<(&'static str, &'static str, &'static str)>,
    runs: &'static [(&'static str, i32)],
}

/// The naive form of the deny: it bites on old codes only.
const NAIVE: (&str, &str, &str) = (
    "skyquay.toml",
    "lifted-by = { proof = [\"one-time-code\"], proof-age = \"1h\" }",
    "when = { proof = [\"one-time-code\"], proof-older = \"1h\" }",
);

const CASES: &[Case] = &[
    Case {
        title: "Deny unless a code was given in the last hour, with exceptions",
        text: "The head of the office is allowed everything through a group; the purser has no allow on machines. Each is asked with a \
               code and without, for an operation outside the list of exceptions and for one inside. Outside the list and without a code \
               both are denied by the rule. Inside the list nobody is denied, and an allow is still needed.",
        with: None,
        runs: &[
            ("ask net-lead --on skyquay --proof one-time-code=30m hulls.read on lanternsound/staging", 0),
            ("ask net-lead --on skyquay --proof password hulls.read on lanternsound/staging", 1),
            ("ask net-lead --on skyquay hulls.read on lanternsound/staging", 1),
            ("ask net-lead --on skyquay --proof password codes.confirm on lanternsound", 0),
            ("ask purser-2 --on skyquay --proof one-time-code=30m hulls.read on lanternsound/staging", 1),
            ("ask purser-2 --on skyquay --proof password hulls.read on lanternsound/staging", 1),
            ("ask purser-2 --on skyquay --proof password people.list on secret/strongroom-break-glass", 1),
        ],
    },
    Case {
        title: "The same rule over web and API",
        text: "A code given on the web does not carry over to the API.",
        with: None,
        runs: &[
            ("ask net-lead --on skyquay --by web --proof one-time-code=30m§by§web hulls.read on lanternsound/staging", 0),
            ("ask net-lead --on skyquay --by api --proof one-time-code=30m§by§web hulls.read on lanternsound/staging", 1),
        ],
    },
    Case {
        title: "The naive form of the same rule",
        text: "Written the other way round, the rule denies who gave a code too long ago, and lets pass who gave none. That is a finding.",
        with: Some(NAIVE),
        runs: &[
            ("ask net-lead --on skyquay --proof password hulls.read on lanternsound/staging", 0),
            ("ask net-lead --on skyquay --proof one-time-code=2h hulls.read on lanternsound/staging", 1),
            ("findings --fail-on warning", 1),
        ],
    },
    Case {
        title: "Assuming a role: two halves, what is lost, and when it is over",
        text: "An engineer works on production in a role that lasts an hour. Its rights replace their own, and it is over to the second.",
        with: None,
        runs: &[
            (
                "ask net-1 --on skyquay --proof one-time-code=5m --acting role:quay-keeper hulls.stop on lanternsound/production/ticketing",
                0,
            ),
            (
                "ask auditor-1 --on skyquay --proof one-time-code=5m --acting role:quay-keeper hulls.stop on lanternsound/production/ticketing",
                1,
            ),
            ("ask net-1 --on skyquay --proof password --acting role:quay-keeper hulls.stop on lanternsound/production/ticketing", 1),
            ("ask net-1 --on skyquay --proof one-time-code=5m --acting role:quay-keeper lockers.list on lanternsound/staging", 1),
            (
                "ask net-1 --on skyquay --proof one-time-code=5m --at 2026-11-26T09:59:59Z --acting role:quay-keeper@2026-11-26T09:00:00Z hulls.stop on lanternsound/production/ticketing",
                0,
            ),
            (
                "ask net-1 --on skyquay --proof one-time-code=5m --at 2026-11-26T10:00:00Z --acting role:quay-keeper@2026-11-26T09:00:00Z hulls.stop on lanternsound/production/ticketing",
                1,
            ),
            (
                "session net-1 --on skyquay --by web --proof one-time-code=5m --at 2026-11-26T09:30:00Z --acting role:quay-keeper@2026-11-26T09:00:00Z",
                0,
            ),
        ],
    },
    Case {
        title: "Acting as another, one way only",
        text: "The second purser plans in the name of the first, on the web; never the other way round, and nobody else.",
        with: None,
        runs: &[
            ("ask purser-2 --on rostering --by web --proof password --acting user:purser-1 plan on rota/pursers", 0),
            ("ask purser-1 --on rostering --by web --proof password --acting user:purser-2 plan on rota/pursers", 1),
            ("ask purser-3 --on rostering --by web --proof password --acting user:purser-1 plan on rota/pursers", 1),
            ("session purser-2 --on rostering --by web --proof password --acting user:purser-1", 0),
        ],
    },
    Case {
        title: "A second person",
        text: "Releasing the lock of a ramp takes two who may do it. The second yard course is over since October.",
        with: None,
        runs: &[
            ("ask watch-1 --on linkspan --proof password=2m release-lock on ramp/selkie-1", 6),
            ("ask watch-1 --on linkspan --proof password=2m --approved-by watch-1 release-lock on ramp/selkie-1", 1),
            (
                "ask watch-1 --on linkspan --proof password=2m --approved-by watch-3 --approver-proof password --by terminal release-lock on ramp/selkie-1",
                1,
            ),
            (
                "ask watch-1 --on linkspan --proof password=2m --approved-by watch-lead --approver-proof password release-lock on ramp/selkie-1",
                0,
            ),
            (
                "ask watch-1 --on linkspan --proof password=2m --approved-by watch-2 --approver-proof password --at 2026-11-26T09:00:00Z release-lock on ramp/yard-1",
                1,
            ),
        ],
    },
    Case {
        title: "Roles that nobody may have active together",
        text: "The head of the watch holds two shifts and has to say which one is on.",
        with: None,
        runs: &[
            ("ask watch-lead --on rostering --by web --proof password publish on rota/watch", 1),
            ("ask watch-lead --on rostering --by web --proof password --role early-shift publish on rota/watch", 6),
        ],
    },
    Case {
        title: "A shared account with a menu, and one restriction for one person",
        text: "Nobody signs in at a kiosk's own account; from their own account each watch officer may run the menu as it. At Kittiwake the \
               second officer may only print.",
        with: None,
        runs: &[
            ("ask watch-2 --on kiosk-selkie --acting account:kiosk /opt/kiosk/bin/screen show", 0),
            ("ask watch-2 --on kiosk-kittiwake --acting account:kiosk /opt/kiosk/bin/screen show", 1),
            ("ask watch-2 --on kiosk-kittiwake --account kiosk /opt/kiosk/bin/print-test", 1),
            ("ask watch-2 --on class=kiosk --acting account:kiosk /opt/kiosk/bin/screen show", 1),
            ("effective watch-2 --on kiosk-kittiwake", 0),
            ("emit kiosk-kittiwake --at 2026-11-25T09:00:00+01:00", 0),
            ("emit kiosk-kittiwake --part sign-in --at 2026-11-25T09:00:00+01:00", 0),
        ],
    },
    Case {
        title: "Over several systems: user, as batch account, as database role",
        text: "An engineer runs the database client as the report program's account, once the password is proven, and there reads in a role. \
               Every identity is kept.",
        with: None,
        runs: &[
            (
                "ask net-1 --on ticketing --from 192.0.2.70 --proof password --role report-reader --acting account:batch-runner/report-program§/usr/bin/psql§ticketing select on table reports.daily_sales",
                0,
            ),
            (
                "ask net-1 --on ticketing --from 192.0.2.70 --proof password --acting account:batch-runner/report-program§/usr/bin/psql§loyalty select on table reports.daily_sales",
                1,
            ),
        ],
    },
    Case {
        title: "Can this person start at all?",
        text: "What stands in the way on each system, all of it at once. It comes from what may be done there: whoever may do something lacks nothing but what is asked of the credential on paper, and what a system does not look at is not missing on it.",
        with: None,
        runs: &[
            ("ready dispatcher-1 --on rostering --at 2026-11-26T09:00:00+01:00", 1),
            ("ready watch-4 --on linkspan --at 2026-11-26T09:00:00+01:00", 1),
            ("ready purser-1 --on skyquay --at 2026-11-26T09:00:00+01:00", 1),
        ],
    },
];

/// Runs words on a ledger; `§` stands for a blank inside one word.
fn run(line: &str, ledger: &str) -> Ran {
    let mut words: Vec<String> = line.split(' ').map(|w| w.replace('§', " ")).collect();
    // Before the line, which ends the options.
    words.splice(1..1, ["--ledger".to_owned(), ledger.to_owned()]);
    zest_with(&words.iter().map(String::as_str).collect::<Vec<_>>(), b"")
}

#[test]
fn the_named_cases_come_out_as_they_must() {
    let mut page = String::from(
        "# Clouds, applications and hosts: the named cases\n\nAsked of `demo/lanternsound`. A test writes this page (`ZEST_REWRITE=1`).\n",
    );
    for case in CASES {
        let _ = write!(page, "\n## {}\n\n{}\n", case.title, wrapped(case.text));
        let copy = case.with.map(|with| copy_of_demo("lanternsound", Some(with)));
        let ledger = copy.as_ref().map_or("demo/lanternsound".to_owned(), |c| c.path().display().to_string());
        if let Some((file, from, to)) = case.with {
            let _ = write!(page, "\n`{file}` with `{from}` replaced:\n\n```toml\n{to}\n```\n");
        }
        for (line, status) in case.runs {
            let ran = run(line, &ledger);
            let out = format!("{}{}", ran.out, ran.err).replace(&ledger, "demo/lanternsound");
            assert_eq!(ran.status, *status, "{}: {line}\n{out}", case.title);
            if line.starts_with("findings") {
                assert!(out.contains("naive-proof-deny"), "{out}");
                let of = out.split("\n\n").find(|part| part.contains("naive-proof-deny")).unwrap_or_default();
                let _ = write!(page, "\n```text\n$ zest {line}\n{}\n```\n", of.trim_end());
                continue;
            }
            let shown: Vec<String> =
                line.split(' ').map(|w| if w.contains('§') { format!("'{}'", w.replace('§', " ")) } else { w.to_owned() }).collect();
            let _ = write!(page, "\n```text\n$ zest {}\n{}\n```\n", shown.join(" "), out.trim_end());
        }
    }
    same_as_file("docs/clouds-and-hosts.md", &page);
}

#[test]
fn an_obligation_is_set_for_twelve_objects_in_one_command() {
    let copy = copy_of_demo("lanternsound", Some(("linkspan.toml", "identity-checks = true", "identity-checks = true # as delivered")));
    let ledger = copy.path().display().to_string();
    let file = copy.path().join("linkspan.toml");
    let before = fs::read_to_string(&file).expect("it is there");
    let set = "obligations linkspan --of-type ramp --set confirm --set second-person=group:watch-leads";

    let preview = run(set, &ledger);
    assert_eq!(preview.status, 0, "{}{}", preview.out, preview.err);
    assert_eq!(preview.out.matches("- -> confirm, second person of group:watch-leads").count(), 12, "{}", preview.out);
    assert!(preview.out.contains("12 of 12 chosen objects would change; nothing is written"), "{}", preview.out);
    assert_eq!(fs::read_to_string(&file).expect("it is there"), before, "a preview writes nothing");

    for expect in ["", " --expect 11"] {
        let refused = run(&format!("{set} --write{expect}"), &ledger);
        assert_ne!(refused.status, 0);
        assert!(refused.err.contains("12 objects would change"), "{}", refused.err);
        assert_eq!(fs::read_to_string(&file).expect("it is there"), before, "nothing is written where another number was expected");
    }

    let written = run(&format!("{set} --write --expect 12"), &ledger);
    assert_eq!(written.status, 0, "{}{}", written.out, written.err);
    let after = fs::read_to_string(&file).expect("it is there");
    assert!(after.contains("identity-checks = true # as delivered"), "comments stay");
    assert_eq!(after.matches("after = { confirm = true, second-person = [\"group:watch-leads\"] }").count(), 12, "{after}");
    assert_eq!(run("ask watch-1 --on linkspan --proof password lower on ramp/gannet-1", &ledger).status, 6, "it takes effect");
    assert_eq!(run("ask watch-1 --on linkspan --proof password view on ramp/gannet-1", &ledger).status, 0, "looking wants nothing");

    let narrowed = run("obligations linkspan --where pier=yard --set none", &ledger);
    assert!(narrowed.out.contains("2 of 2 chosen objects would change"), "{}", narrowed.out);
    let bad = run("obligations linkspan --of-type ramp --set second-person=group:watch-laeds", &ledger);
    assert!(bad.err.contains("did you mean `watch-leads`?") && bad.err.contains("nothing is changed"), "{}", bad.err);
    let table: Value = serde_json::from_str(&run("obligations linkspan --object selkie --format json", &ledger).out).expect("it is JSON");
    assert_eq!((&table["system"], &table["obligations"][0]["object"]), (&"linkspan".into(), &"siren/selkie".into()));
    assert_eq!(run("obligations skyquay --of-type nothing", &ledger).status, 4);
}

#[test]
fn a_kiosk_is_rehearsed_with_its_menu() {
    let script =
        "?\n/opt/kiosk/bin/screen show\n/opt/kiosk/bin/screen --factory-reset\n:back\n:as account:kiosk\n:as account:koisk\n:quit\n";
    let words = ["rehearse", "watch-1", "--on", "kiosk-selkie", "--acting", "account:kiosk", "--ledger", "demo/lanternsound"];
    let ran = zest_with(&words, script.as_bytes());
    for part in [
        "account kiosk on kiosk-selkie> ?",
        "/opt/kiosk/bin/print-test\n",
        "refused [denied-by-rule]",
        "  watch-1 on kiosk-selkie>",
        "unknown-acting-identity",
    ] {
        assert!(ran.out.contains(part), "`{part}` is not in\n{}", ran.out);
    }
    let words = ["rehearse", "purser-3", "--on", "skyquay", "--proof", "one-time-code", "--ledger", "demo/lanternsound"];
    let ran = zest_with(
        &words,
        b"?\nrecords.list on lanternsound/production/halcyon\nrecords.list on lanternsound/production/brightwater\n:why\n",
    );
    assert!(ran.out.contains("allowed\n") && ran.out.contains("refused [attributes-differ]") && ran.out.contains("DENIED"), "{}", ran.out);
}

#[test]
fn a_batch_knows_acting_roles_attributes_and_proofs_by_channel() {
    let questions = [
        r#"{"user":"net-1","on":"skyquay","line":"hulls.stop on lanternsound/production/ticketing","proofs":{"one-time-code":"5m"},"acting":["role:quay-keeper"]}"#,
        r#"{"user":"net-1","on":"skyquay","line":"hulls.remove on lanternsound/production/ticketing","proofs":{"one-time-code":"5m"},"acting":["role:quay-keeper"],"attributes":{"ticket":"change-board"}}"#,
        r#"{"user":"net-1","on":"skyquay","line":"POST /v1/staging/ticketing/hulls","by":"api","proofs":{"one-time-code":"5m by web"}}"#,
        r#"{"user":"watch-lead","on":"rostering","line":"publish on rota/watch","by":"web","proofs":{"password":"0s"},"roles":["early-shift"],"confirmed":true}"#,
        r#"{"user":"net-1","on":"batch-runner","line":"/opt/batch/bin/tides selkie today","from":"192.0.2.70","acting":["account:batch"]}"#,
        r#"{"user":"net-1","on":"skyquay","line":"hulls.list on lanternsound","acting":["quay-keeper"]}"#,
    ];
    let ran = zest_with(&["ask", "--batch", "--ledger", "demo/lanternsound"], (questions.join("\n") + "\n").as_bytes());
    let verdicts: Vec<String> = ran
        .out
        .lines()
        .map(|line| {
            let answer: Value = serde_json::from_str(line).unwrap_or_else(|e| panic!("{e}: {line}"));
            answer["verdict"].as_str().or(answer["error"].as_str()).unwrap_or("?").to_owned()
        })
        .collect();
    assert_eq!(verdicts[..5], ["allowed", "allowed", "denied", "allowed", "allowed"], "{}", ran.out);
    assert!(verdicts[5].contains("is not one of user:ID, role:ID"), "{}", verdicts[5]);
}

#[test]
fn what_is_badly_put_is_said() {
    for (line, said) in [
        ("ask net-1 --on skyquay --proof one-time-code hulls.stpo on lanternsound", "the nearest is `hulls.stop`"),
        ("ask net-1 --on skyquay --proof one-time-code hulls.stop on lanternsuond/production", "the nearest is"),
        ("ask net-1 --on skyquay --proof one-time-code hulls.stop", "does not say on what"),
        ("ask net-1 --on skyquay --acting quay-keeper hulls.stop on lanternsound", "is not one of user:ID"),
        ("ask net-1 --on skyquay --acting role:quay-keeper@yesterday hulls.stop on lanternsound", "is not a moment"),
        ("ask net-1 --on skyquay --attribute ticket hulls.stop on lanternsound", "expected NAME=VALUE"),
        ("ask net-1 --on skyquay --proof one-time-code=5m§by§phone hulls.stop on lanternsound", "expected one of terminal"),
        ("ask net-1 --on kind=clod hulls.stop on lanternsound", "is no kind of system"),
        ("ask net-1 --on linkspan lower on ramp/selkie-9", "nothing is declared as `ramp/selkie-9`"),
        ("ask watch-1 --on linkspan sound on ramp/selkie-1", "have no right `sound`"),
        ("ask net-1 --on batch-runner --from 192.0.2.70 --acting account:batch tides selkie", "the full path of a program"),
        ("obligations batch-runner", "neither a cloud nor an application"),
        ("obligations linkspan --set maybe", "is not one of none, confirm"),
        ("ready nobody", "no user is named"),
        ("ready net-1 --on nothing", "no system is named"),
    ] {
        let ran = run(line, "demo/lanternsound");
        assert_ne!(ran.status, 0, "{line}\n{}", ran.out);
        let both = format!("{}{}", ran.out, ran.err).split_whitespace().collect::<Vec<_>>().join(" ");
        assert!(both.contains(said), "{line}: `{said}` is not in\n{both}");
    }
}

#[test]
fn the_demos_interface_has_sixty_operations() {
    let text = fs::read_to_string(Path::new(&root()).join("demo/lanternsound/skyquay.openapi.json")).expect("it is there");
    assert_eq!(text.matches("\"operationId\"").count(), 60);
    let found = zest("findings --ledger demo/with-defects");
    for code in [
        "grant-of-everything",
        "naive-proof-deny",
        "proof-unobtainable",
        "reset-upwards",
        "assumption-half",
        "protection-inoperative",
        "run-anything",
        "job-editor-becomes",
        "interface-reference",
    ] {
        assert!(found.out.contains(code), "{code} is not found in the ledger with defects");
    }
}
