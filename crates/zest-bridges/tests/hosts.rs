//! Hosts: our answers beside what real `sudo` and OpenSSH do with the configuration that we write for them.

use std::collections::BTreeMap;

use zest_ledger::ask::{Act, Refusal, Verdict};
use zest_ledger::{Engine, Ledger, Question, host_configuration};
use zest_testkit::hosts::{Did, Host, Login, Try, missing};

use crate::support::Counts;

/// A host with every trap: limited and shared accounts, a shell that refuses, rules in which order matters.
const HOST: &str = r#"
[users]
op-1 = { proofs = ["password", "key"] }
op-2 = { proofs = ["password", "key"] }
lead-1 = { proofs = ["password", "key"] }
guest-1 = { proofs = ["key"] }

[groups]
ops = { members = ["user:op-1", "user:op-2"] }
leads = { members = ["user:lead-1"] }

[origins]
here = { networks = ["127.0.0.0/28"] }

[systems.box]
kind = "host"
no-command-set = "everything"

[command-sets]
nightly = { rules = [
  "deny  /usr/local/bin/nightly --wipe ...",
  "allow /usr/local/bin/nightly {selkie|marram} {word}",
  "allow /usr/local/bin/nightly --level {1-7}",
  "deny  /usr/local/bin/nightly --all now",
  "allow /usr/local/bin/nightly --all ...",
  "allow /usr/local/bin/report",
  "allow /usr/local/bin/report /srv/reports/*",
  "allow /usr/local/bin/report /srv/reports/tide-*.csv --all",
  "allow /usr/local/bin/note {number} \"a=b,c:d\"",
  "allow /usr/local/bin/note two words",
] }
menu = { rules = ["allow /usr/local/bin/report", "allow /usr/local/bin/note {word}", "allow /usr/local/bin/nightly --level 1"] }
care = { rules = ["allow /usr/local/bin/nightly --level {1-7}"] }
less = { rules = ["deny /usr/local/bin/note stop", "deny /usr/local/bin/report"] }
anything-but = { rules = ["deny /usr/local/bin/nightly ..."], otherwise = "allow" }
look = { rules = ["allow /usr/local/bin/report ..."] }
shell = { rules = ["allow /usr/bin/bash", "allow /usr/sbin/nologin"] }

[hosts.box]
links = { "/bin" = "/usr/bin", "/sbin" = "/usr/sbin" }
keep-environment = ["PIER"]
run-as = [
  { by = ["group:ops"], as = ["batch"], commands = ["nightly"], proof = false },
  { by = ["group:leads"], as = ["batch"], commands = ["anything-but"] },
  { by = ["account:desk"], as = ["batch"], commands = ["look"], proof = false, any-environment = true },
  { by = ["user:lead-1"], as = ["owner", "batch"], commands = ["shell"], proof = false },
]

[hosts.box.accounts]
op-1 = { origin = ["origin:here"] }
op-2 = { locked = true }
lead-1 = {}
guest-1 = { shell = "/usr/sbin/nologin" }
desk = { used-by = ["user:guest-1", "user:op-1"], origin = ["127.0.0.9"] }
kiosk = { used-by = ["group:ops"], commands = ["menu"], commands-of = { "user:op-2" = ["less"], "group:leads" = ["care"] }, proof = false }
batch = { shell = "/usr/sbin/nologin" }
owner = {}
"#;

fn engine() -> Engine {
    Engine::compile(Ledger::new().document("hosts.toml", HOST).estate().unwrap_or_else(|f| panic!("{f}"))).expect("it compiles")
}

/// Arguments that are tried for everybody: what is meant, and what is not.
const LINES: &[&[&str]] = &[
    &["/usr/local/bin/nightly", "selkie", "today"],
    &["/usr/local/bin/nightly", "marram", "2026-11-26"],
    &["/usr/local/bin/nightly", "selkie"],
    &["/usr/local/bin/nightly", "selkie", "today", "again"],
    &["/usr/local/bin/nightly", "heron", "today"],
    &["/usr/local/bin/nightly", "selkie", "to day"],
    &["/usr/local/bin/nightly", "selkie today"],
    &["/usr/local/bin/nightly", "selkie", ""],
    &["/usr/local/bin/nightly", "selkie", "/srv/../etc/shadow"],
    &["/usr/local/bin/nightly", "selkie", ".."],
    &["/usr/local/bin/nightly", "selkie", "..."],
    &["/usr/local/bin/nightly", "selkie", "a..b"],
    &["/usr/local/bin/nightly", "selkie", "/"],
    &["/usr/local/bin/nightly", "selkie", "/srv/"],
    &["/usr/local/bin/nightly", "selkie", ".hidden/..also/x"],
    &["/usr/local/bin/nightly", "--level", "7"],
    &["/usr/local/bin/nightly", "--level", "8"],
    &["/usr/local/bin/nightly", "--level", "07"],
    &["/usr/local/bin/nightly", "--level", "1"],
    &["/usr/local/bin/nightly", "--level"],
    &["/usr/local/bin/nightly", "--wipe"],
    &["/usr/local/bin/nightly", "--wipe", "all"],
    &["/usr/local/bin/nightly", "--all"],
    &["/usr/local/bin/nightly", "--all", "now"],
    &["/usr/local/bin/nightly", "--all", "now", "really"],
    &["/usr/local/bin/nightly", "--all now"],
    &["/usr/local/bin/nightly", "--allnow"],
    &["/usr/local/bin/nightly"],
    &["/usr/local/bin/report"],
    &["/usr/local/bin/report", ""],
    &["/usr/local/bin/report", "/srv/reports/tide.csv"],
    &["/usr/local/bin/report", "/srv/reports/"],
    &["/usr/local/bin/report", "/srv/reports/.."],
    &["/usr/local/bin/report", "/srv/reports/../../etc/shadow"],
    &["/usr/local/bin/report", "/srv/reports/deep/tide.csv"],
    &["/usr/local/bin/report", "/srv/reports/tide.csv /etc/shadow"],
    &["/usr/local/bin/report", "/srv/reports/tide.csv", "/etc/shadow"],
    &["/usr/local/bin/report", "/srv/reports/tide-1.csv", "--all"],
    &["/usr/local/bin/report", "/srv/reports/tide-1.csv", "--al"],
    &["/usr/local/bin/report", "/srv/reports/tide-/1.csv", "--all"],
    &["/usr/local/bin/report", "/srv/reports/tide-1xcsv", "--all"],
    &["/usr/local/bin/note", "12", "a=b,c:d"],
    &["/usr/local/bin/note", "x", "a=b,c:d"],
    &["/usr/local/bin/note", "two", "words"],
    &["/usr/local/bin/note", "two words"],
    &["/usr/local/bin/note", "stop"],
    &["/usr/local/bin/note", "go"],
    &["/usr/local/bin/note", "go;id"],
    &["/usr/local/bin/note", "$(id)"],
    &["/usr/local/bin/note", "*"],
    &["/usr/local/bin/../bin/report"],
    &["/usr/local/./bin//report"],
    &["/usr/local/bin/other"],
    &["/bin/bash"],
    &["/usr/bin/bash"],
    &["/usr/bin/bash", "-c", "id"],
];

const ACCOUNTS: [&str; 8] = ["op-1", "op-2", "lead-1", "guest-1", "desk", "kiosk", "batch", "owner"];

/// A question about a line run by the user of an account as another.
fn question(from: &str, to: &str, variables: &[&str], argv: &[&str]) -> Question {
    let user = if from == "desk" { "guest-1" } else { from };
    let quote = |w: &&str| if w.is_empty() || w.contains(char::is_whitespace) { format!("\"{w}\"") } else { (*w).to_owned() };
    let line = variables.iter().chain(argv).map(quote).collect::<Vec<_>>().join(" ");
    let act: Act = format!("account:{to}").parse().expect("a link");
    Question::new(user, "box", &line).account(from).from("127.0.0.9".parse().expect("an address")).acting(act)
}

fn host() -> Host {
    let told = host_configuration(&engine(), "box", jiff::Timestamp::now()).expect("it is a host");
    let shell = |name: &str| if matches!(name, "guest-1" | "batch") { "/usr/sbin/nologin" } else { "/bin/bash" };
    Host {
        logins: ACCOUNTS.iter().map(|n| Login { name: (*n).to_owned(), shell: shell(n).to_owned() }).collect(),
        run_as: told.run_as,
        sign_in: told.sign_in,
        keys_of: told.keys_of,
        programs: ["nightly", "report", "note", "other"].map(str::to_owned).to_vec(),
    }
}

/// What we expect of the host, from an answer: whether its rules permit, and whether it runs without a password.
///
/// A line that we refuse since the host joins arguments is the one place where the host may do more: the answer says so.
fn expected(verdict: Verdict, refusal: Option<Refusal>, text: &str) -> Did {
    match (verdict, refusal) {
        (Verdict::Allowed, _) => Did { listed: true, ran: true },
        (Verdict::AllowedAfter, _) => Did { listed: true, ran: false },
        (Verdict::Denied, Some(Refusal::JoinedArguments)) => {
            let does = text.ends_with("would run it");
            Did { listed: does, ran: does }
        }
        (Verdict::Denied, _) => Did { listed: false, ran: false },
    }
}

/// Refusals of entry are not `sudo`'s to judge: whoever is on the account already may go on.
fn judged(engine: &Engine, question: &Question) -> (Verdict, Option<Refusal>, String) {
    let answer = engine.explain(question);
    let gates = answer.gates.iter().filter(|g| g.stage != zest_ledger::ask::Stage::Entry);
    let refusals = gates
        .filter_map(|g| if let zest_ledger::ask::GateOutcome::Refuses(code) = g.outcome { Some((code, g.text.clone())) } else { None });
    match refusals.into_iter().next() {
        Some((code, text)) => (Verdict::Denied, Some(code), text),
        None if answer.gates.iter().any(|g| g.outcome == zest_ledger::ask::GateOutcome::Asks) => {
            (Verdict::AllowedAfter, None, String::new())
        }
        None => (Verdict::Allowed, None, String::new()),
    }
}

#[test]
fn sudo_and_openssh_do_what_we_answer() {
    if let Some(why) = missing() {
        assert!(std::env::var_os("CI").is_none(), "in CI the host must be there: {why}");
        eprintln!("skipped: {why}");
        return;
    }
    let engine = engine();
    let mut tries = Vec::new();
    let mut wanted = Vec::new();
    for from in ["op-1", "op-2", "lead-1", "guest-1", "desk"] {
        for to in ["batch", "kiosk", "owner"] {
            for &argv in LINES {
                let (verdict, refusal, text) = judged(&engine, &question(from, to, &[], argv));
                tries.push(Try::Run {
                    from: from.to_owned(),
                    to: to.to_owned(),
                    variables: Vec::new(),
                    argv: argv.iter().map(|w| (*w).to_owned()).collect(),
                });
                wanted.push((format!("{from} as {to}: {argv:?}"), "argument vectors", expected(verdict, refusal, &text), refusal));
            }
            for variable in ["PIER=selkie", "LD_PRELOAD=/tmp/x.so", "PATH=/tmp", "TZ=UTC", "LANG=C"] {
                let argv: &[&str] = &["/usr/local/bin/report"];
                let (verdict, refusal, text) = judged(&engine, &question(from, to, &[variable], argv));
                let mut did = expected(verdict, refusal, &text);
                // The list of rules knows nothing of variables.
                did.listed = did.listed || refusal == Some(Refusal::EnvironmentNotKept);
                tries.push(Try::Run {
                    from: from.to_owned(),
                    to: to.to_owned(),
                    variables: vec![variable.to_owned()],
                    argv: argv.iter().map(|w| (*w).to_owned()).collect(),
                });
                wanted.push((format!("{from} as {to}: {variable} report"), "variables handed over", did, refusal));
            }
        }
    }
    for from in ["op-1", "op-2", "lead-1", "guest-1", "desk"] {
        for to in ["batch", "kiosk", "owner", "op-1"] {
            let mut question = question(from, to, &[], &["/usr/bin/id"]);
            question.session.acting = vec![format!("shell:{to}").parse().expect("a link")];
            let (verdict, refusal, _) = judged(&engine, &question);
            let ran = verdict == Verdict::Allowed;
            tries.push(Try::Shell { from: from.to_owned(), to: to.to_owned() });
            wanted.push((format!("{from} enters {to}"), "login shells", Did { listed: ran, ran }, refusal));
        }
    }
    for user in ["op-1", "op-2", "lead-1", "guest-1"] {
        for login in ACCOUNTS {
            for from in ["127.0.0.9", "127.0.0.77"] {
                let answer =
                    engine.explain(&Question::new(user, "box", "/usr/bin/id").account(login).from(from.parse().expect("an address")));
                let ran = answer.verdict == Verdict::Allowed;
                tries.push(Try::SignIn { user: user.to_owned(), login: login.to_owned(), from: from.to_owned() });
                wanted.push((format!("{user} signs in as {login} from {from}"), "sign-ins", Did { listed: ran, ran }, answer.refusal));
            }
        }
    }
    let done = host().judge(&tries);
    let mut counts = Counts::default();
    let mut codes: BTreeMap<&str, usize> = BTreeMap::new();
    let mut wrong = Vec::new();
    for ((what, kind, expected, refusal), did) in wanted.iter().zip(&done) {
        counts.add(kind, 1);
        *codes.entry(refusal.map_or("allowed", Refusal::code)).or_default() += 1;
        if did != expected {
            wrong.push(format!("{what}: expected {expected:?} ({refusal:?}), the host {did:?}"));
        }
    }
    assert!(wrong.is_empty(), "{} of {} disagree:\n{}", wrong.len(), done.len(), wrong.join("\n"));
    counts.print("questions about a host");
    eprintln!("  {codes:?}");
    assert!(counts.total() >= 500, "{}", counts.total());
    for code in [
        "allowed",
        "denied-by-rule",
        "not-permitted",
        "joined-arguments",
        "environment-not-kept",
        "shell-refuses",
        "no-account",
        "origin-not-admitted",
    ] {
        assert!(codes.contains_key(code), "no question came to {code}: {codes:?}");
    }
}
