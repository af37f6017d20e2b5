//! Hosts: our answers beside what real `sudo` and OpenSSH do with the configuration that we write for them.

use std::collections::BTreeMap;

use zest_ledger::ask::{Act, Refusal, Session, Verdict};
use zest_ledger::review::Sought;
use zest_ledger::ways::Aim;
use zest_ledger::{Engine, Ledger, Question, host_configuration};
use zest_testkit::hosts::{Did, Host, Login, Try, missing};

use crate::support::{Counts, in_full_run, way_to};

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
        links: Vec::new(),
        writable: Vec::new(),
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

/// Where links stand on the host of the random questions, and where they lead.
const LINKS: [(&str, &str); 3] =
    [("/usr/local/bin/deep/note", "../note"), ("/usr/local/bin/way", "deep"), ("/usr/local/bin/long/way", "../way")];

/// A ledger with random rules, somebody who is gone from `end` on, somebody disabled, and links.
fn random_ledger(rng: &mut fastrand::Rng, end: jiff::Timestamp) -> (String, Vec<Vec<String>>) {
    let mut patterns: Vec<Vec<String>> = Vec::new();
    let mut rules = Vec::new();
    while rules.len() < 10 {
        let words: Vec<String> = (0..rng.usize(0..4)).map(|_| random_word(rng)).collect();
        let program = PATHS[rng.usize(..PATHS.len())];
        let verb = if rng.u8(..3) == 0 { "deny " } else { "allow" };
        let rest = if rng.u8(..6) == 0 { " ..." } else { "" };
        let shown: String = words.iter().map(|w| if w.starts_with('{') { format!(" {w}") } else { format!(" \"{w}\"") }).collect();
        let rule = format!("{verb} {program}{shown}{rest}");
        let alone = ledger_of(std::slice::from_ref(&rule), end);
        if Ledger::new().document("a.toml", &alone).estate().is_ok_and(|estate| Engine::compile(estate).is_ok()) {
            rules.push(rule);
            patterns.push([vec![program.to_owned()], words].concat());
        }
    }
    (ledger_of(&rules, end), patterns)
}

const PATHS: [&str; 6] = [
    "/usr/local/bin/note",
    "/usr/local/bin/report",
    "/usr/local/bin/deep/note",
    "/usr/local/bin/way/note",
    "/usr/local/bin/long/way/note",
    "/usr/local/bin/deep/../report",
];

fn ledger_of(rules: &[String], end: jiff::Timestamp) -> String {
    let list: Vec<String> = rules.iter().map(|r| format!("\"{}\"", r.replace('\\', "\\\\").replace('"', "\\\""))).collect();
    let links: Vec<String> = LINKS.iter().map(|(from, to)| format!("{from:?} = {to:?}")).collect();
    format!(
        "[users]\nop-1 = {{ proofs = [\"key\"] }}\nop-2 = {{ proofs = [\"key\"], until = {end} }}\noff-1 = {{ proofs = [\"key\"], disabled = true }}\n\
         [systems.box]\nkind = \"host\"\nno-command-set = \"nothing\"\n[command-sets.mixed]\nrules = [{}]\n\
         [hosts.box]\nlinks = {{ {} }}\nrun-as = [{{ by = [\"user:op-1\", \"user:op-2\", \"user:off-1\"], as = [\"batch\"], commands = [\"mixed\"], proof = false }}]\n\
         [hosts.box.accounts]\nop-1 = {{}}\nop-2 = {{}}\noff-1 = {{}}\nbatch = {{ shell = \"/usr/sbin/nologin\" }}\n",
        list.join(", "),
        links.join(", ")
    )
}

/// A word of a rule: any printable bytes, a slot, or a path.
fn random_word(rng: &mut fastrand::Rng) -> String {
    match rng.u8(..8) {
        0 => "{word}".to_owned(),
        1 => "{number}".to_owned(),
        2 => "{selkie|marram}".to_owned(),
        3 => "/srv/reports/tide.csv".to_owned(),
        _ => (0..rng.usize(1..4)).map(|_| char::from(rng.u8(0x20..0x7f))).collect(),
    }
}

/// Arguments near a rule: what it means, or that with one thing changed.
fn near(rng: &mut fastrand::Rng, pattern: &[String]) -> Vec<String> {
    let mut argv: Vec<String> = pattern
        .iter()
        .map(|w| match w.as_str() {
            "{word}" => ["x", "../x", "-v", "a=b"][rng.usize(..4)].to_owned(),
            "{number}" => rng.u8(..20).to_string(),
            "{selkie|marram}" => "marram".to_owned(),
            other => other.to_owned(),
        })
        .collect();
    let at = rng.usize(..argv.len());
    match rng.u8(..10) {
        0 if at > 0 => argv[at] = (0..rng.usize(0..4)).map(|_| char::from(rng.u8(0x20..0x7f))).collect(),
        1 if at > 0 => argv[at].insert(0, char::from(rng.u8(0x20..0x7f))),
        2 if at > 0 => argv[at].push(char::from(rng.u8(0x20..0x7f))),
        3 => argv.push(random_word(rng)),
        4 if argv.len() > 1 => _ = argv.pop(),
        5 => argv[0] = PATHS[rng.usize(..PATHS.len())].to_owned(),
        6 => argv[0].push('/'),
        7 => argv[0] = argv[0].replacen("/bin/", "/./bin//", 1),
        8 => argv[0] = argv[0].replacen("/local/", "/local/share/../", 1),
        _ => {}
    }
    argv
}

#[test]
fn random_questions_about_a_host_come_out_as_on_the_real_one() {
    if let Some(why) = missing() {
        assert!(std::env::var_os("CI").is_none(), "in CI the host must be there: {why}");
        eprintln!("skipped: {why}");
        return;
    }
    let rounds = in_full_run(26, 3);
    let mut rng = fastrand::Rng::with_seed(crate::support::seed("random questions about a host"));
    let mut counts = Counts::default();
    let mut wrong = Vec::new();
    for round in 0..rounds {
        // The host goes by its own clock, so the ends lie around now.
        let at = jiff::Timestamp::now();
        let hours = jiff::SignedDuration::from_hours(if round % 2 == 0 { 2 } else { -2 });
        let end = jiff::Timestamp::from_second((at + hours).as_second()).expect("a moment");
        let (text, patterns) = random_ledger(&mut rng, end);
        let engine =
            Engine::compile(Ledger::new().document("a.toml", &text).estate().unwrap_or_else(|f| panic!("{f}"))).expect("it compiles");
        // A set whose denies cannot be written is not emitted at all.
        let Ok(told) = host_configuration(&engine, "box", at) else {
            counts.add("hosts that are told nothing, since a deny cannot be written", 1);
            continue;
        };
        let logins = ["op-1", "op-2", "off-1", "batch"].map(|n| Login { name: n.to_owned(), shell: "/bin/bash".to_owned() }).to_vec();
        let host = Host {
            logins,
            run_as: told.run_as,
            sign_in: told.sign_in,
            keys_of: told.keys_of,
            programs: ["note", "report"].map(str::to_owned).to_vec(),
            links: LINKS.map(|(a, b)| (a.to_owned(), b.to_owned())).to_vec(),
            writable: Vec::new(),
        };
        let (mut tries, mut wanted) = (Vec::new(), Vec::new());
        while tries.len() < 210 {
            let pattern = &patterns[rng.usize(..patterns.len())];
            let argv = near(&mut rng, pattern);
            if argv.iter().any(|w| w.contains('"')) {
                continue;
            }
            let from = ["op-1", "op-1", "op-1", "op-2", "off-1"][rng.usize(..5)];
            let words: Vec<&str> = argv.iter().map(String::as_str).collect();
            let question = question(from, "batch", &[], &words).at(at);
            let answer = engine.explain(&question);
            let joined = answer.refusal == Some(Refusal::JoinedArguments);
            wanted.push((format!("{from} at {at}: {argv:?}"), answer.verdict == Verdict::Allowed, joined, answer.refusal));
            tries.push(Try::Run { from: from.to_owned(), to: "batch".to_owned(), variables: Vec::new(), argv });
        }
        for ((what, allowed, joined, refusal), did) in wanted.iter().zip(host.judge(&tries)) {
            match (*allowed, did.ran) {
                (true, true) => counts.add("run, as we allow", 1),
                (false, false) => counts.add("not run, as we refuse", 1),
                (false, true) if *joined => counts.add("run since the host joins arguments, as foretold", 1),
                _ => {
                    wrong.push(format!("{what}: we {}, the host {did:?} ({refusal:?})\n{text}", if *allowed { "allow" } else { "refuse" }))
                }
            }
        }
    }
    assert!(wrong.is_empty(), "{} disagree:\n{}", wrong.len(), wrong[..wrong.len().min(12)].join("\n"));
    counts.print("random questions about a host");
    assert!(counts.total() >= in_full_run(5_000, 200), "{}", counts.total());
}

/// Ways over a file that somebody may write are walked on the real host: what runs as another account is what they wrote.
#[test]
fn ways_over_what_somebody_may_write_are_walked_on_the_host() {
    if let Some(why) = missing() {
        assert!(std::env::var_os("CI").is_none(), "in CI the host must be there: {why}");
        eprintln!("skipped: {why}");
        return;
    }
    const LEDGER: &str = r#"
users.typist.proofs = ["key"]
users.reader.proofs = ["key"]
[systems.box]
kind = "host"
no-command-set = "nothing"
[command-sets.tools]
rules = ["allow /usr/local/bin/tidy"]
[hosts.box]
run-as = [{ by = ["user:typist", "user:reader"], as = ["batch"], commands = ["tools"], proof = false }]
writable-by."/usr/local/bin/tidy" = ["user:typist"]
[hosts.box.accounts]
typist = {}
reader = {}
batch = { shell = "/usr/sbin/nologin" }
"#;
    let engine =
        Engine::compile(Ledger::new().document("hosts.toml", LEDGER).estate().unwrap_or_else(|f| panic!("{f}"))).expect("it compiles");
    let told = host_configuration(&engine, "box", jiff::Timestamp::now()).expect("it is a host");
    let shell = |name: &str| if name == "batch" { "/usr/sbin/nologin" } else { "/bin/bash" };
    let host = Host {
        logins: ["typist", "reader", "batch"].map(|n| Login { name: n.to_owned(), shell: shell(n).to_owned() }).to_vec(),
        run_as: told.run_as,
        sign_in: told.sign_in,
        keys_of: told.keys_of,
        programs: vec!["tidy".to_owned()],
        links: Vec::new(),
        writable: vec![("/usr/local/bin/tidy".to_owned(), "typist".to_owned())],
    };
    let people = ["reader", "typist"];
    let rewrite = |from: &str| Try::Rewrite { from: from.to_owned(), to: "batch".to_owned(), program: "/usr/local/bin/tidy".to_owned() };
    let did = host.judge(&people.map(rewrite));
    let batch = Session { acting: vec!["account:batch".parse().expect("a link")], ..Session::default() };
    for (from, did) in people.into_iter().zip(did) {
        let aim = Aim::Do(Sought::Line("/usr/bin/id"), &["box"], &batch);
        let way = way_to(&engine, from, aim);
        assert_eq!(way.is_some(), did.listed && did.ran, "{from}: the host did {did:?}, and we say {way:#?}");
    }
}
