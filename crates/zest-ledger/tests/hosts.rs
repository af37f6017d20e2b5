//! Hosts: accounts, running as another account, jobs; chains over several systems; who a session is; who can start.
//!
//! The real `sudo` and OpenSSH judge the rules in `zest-bridges`; these rows hold them where no host can be had.

use jiff::SignedDuration;
use zest_ledger::ask::{Act, Refusal, Verdict};
use zest_ledger::entry::{Channel, Proof};
use zest_ledger::finding::Code;
use zest_ledger::review::{Opening, readiness, session};
use zest_ledger::{Engine, Ledger, Question, Untold, host_configuration};

use crate::support::{PIER, ask, codes, engine, findings, outcome};

const HOSTS: &str = r#"
[users]
op-1 = { proofs = ["password", "key"], credential-set = 2026-09-01, credential-length = 10 }
op-2 = { proofs = ["key"] }
guest-1 = { proofs = ["key"], channels = ["terminal"] }
batch = { kind = "service", proofs = ["key"] }
off-1 = {}
new-1 = { proofs = ["key"], must-change-credential = true }

[groups]
ops = { members = ["user:op-1", "user:op-2"] }
guests = { members = ["user:guest-1"] }

[credential-rules]
everybody = { of = ["group:ops", "group:guests"], shortest = 8, oldest-days = 365 }
operators = { of = ["group:ops"], shortest = 12, oldest-days = 60 }

[systems.box]
kind = "host"
no-command-set = "everything"
address = "192.0.2.40"
accepts = { terminal = ["key", "password"] }
[systems.other]
kind = "host"
no-command-set = "nothing"
[systems.db]
kind = "postgresql"

[command-sets]
nightly = { rules = ["deny /opt/nightly --wipe ...", "allow /opt/nightly {word}", "allow /opt/nightly --all ...", "allow /opt/nightly two words"] }
client = { rules = ["allow /usr/bin/psql ticketing"] }
shell = { rules = ["allow /bin/bash"] }
menu = { rules = ["allow /opt/menu {1-3}"] }

[hosts.box]
keep-environment = ["PIER"]
proof-lasts = "5m"
run-as = [
  { by = ["group:ops"], as = ["batch"], commands = ["nightly"], proof = false },
  { by = ["user:op-1"], as = ["batch"], commands = ["client"] },
  { by = ["user:op-1"], as = ["owner", "batch"], commands = ["shell"], proof = false },
  { by = ["account:owner"], as = ["op-2"], commands = ["shell"], proof = false },
  { by = ["account:owner"], as = ["batch"], commands = ["client"] },
  { by = ["account:op-2"], as = ["owner"], commands = ["shell"], proof = false },
]
jobs.nightly = { runs-as = "batch", line = "/opt/nightly --all", edited-by = ["user:op-2"] }

[hosts.box.accounts]
op-1 = {}
op-2 = { until = 2026-12-31, origin = ["192.0.2.0/24"] }
desk = { used-by = ["group:guests", "user:op-1"], locked = true }
bench = { used-by = ["group:guests"] }
kiosk = { used-by = ["group:guests"], commands = ["menu"], proof = false }
batch = { shell = "/usr/sbin/nologin" }
owner = {}
new-1 = {}

[hosts.other.accounts]
batch = {}

[databases.db]
accounts.batch = {}
roles.keeper = {}
objects."schema public" = {}
objects."table public.log" = { columns = ["id"] }
grants = [{ allow = ["select"], on = "table public.log", to = ["batch"] }]
"#;

fn hosts() -> Engine {
    engine(HOSTS)
}

fn on(user: &str, line: &str) -> Question {
    Question::new(user, "box", line)
        .at("2026-11-26T08:00:00Z".parse().expect("a moment"))
        .from("192.0.2.9".parse().expect("an address"))
        .channel(Channel::Terminal)
}

fn act(text: &str) -> Act {
    text.parse().expect("a link")
}

fn as_batch(line: &str) -> Question {
    on("op-1", line).acting(act("account:batch"))
}

fn check(question: &Question, expected: Result<Verdict, Refusal>) {
    let answer = ask(&hosts(), question);
    assert_eq!(outcome(&answer), expected, "{question:?}\n{:#?}", answer.gates);
}

const ALLOWED: Result<Verdict, Refusal> = Ok(Verdict::Allowed);

macro_rules! answers {
    ($($name:ident: $question:expr => $expected:expr;)+) => {
        $(#[test] fn $name() { check(&$question, $expected); })+
    };
}

// Signing in.
answers! {
    an_own_account: on("op-1", "/usr/bin/id") => ALLOWED;
    one_with_an_end_and_no_time: Question::new("op-2", "box", "/usr/bin/id").from("192.0.2.9".parse().expect("an address")).channel(Channel::Terminal) => Err(Refusal::NotStated);
    one_that_is_over: on("op-2", "/usr/bin/id").at("2027-01-01T00:00:00Z".parse().expect("a moment")) => Err(Refusal::CredentialExpired);
    another_origin: on("op-2", "/usr/bin/id").from("198.51.100.1".parse().expect("an address")) => Err(Refusal::OriginNotAdmitted);
    a_mapped_origin: on("op-2", "/usr/bin/id").from("::ffff:192.0.2.9".parse().expect("an address")) => ALLOWED;
    a_shared_account_that_is_locked: on("op-1", "/usr/bin/id").account("desk") => Err(Refusal::AccountLocked);
    several_shared_accounts: on("guest-1", "/usr/bin/id") => Err(Refusal::SeveralAccounts);
    one_of_them: on("guest-1", "/usr/bin/id").account("bench") => ALLOWED;
    a_limited_account: on("guest-1", "/opt/menu 1").account("kiosk") => Err(Refusal::AccountLimited);
    an_account_of_others: on("op-2", "/usr/bin/id").account("bench") => Err(Refusal::NoAccount);
    a_shell_that_refuses: on("batch", "/usr/bin/id") => Err(Refusal::ShellRefuses);
    no_command_set_where_that_means_nothing: Question::new("batch", "other", "/usr/bin/id") => Err(Refusal::NoCommandSet);
    no_channel_stated: Question::new("op-1", "box", "/usr/bin/id") => Err(Refusal::NotStated);
    a_key_given_on_a_channel_that_is_not_this: on("op-1", "/usr/bin/id").proof_on(Channel::Web, Proof::Key, SignedDuration::ZERO) => Err(Refusal::ProofNotAccepted);
    a_channel_that_is_closed: on("op-1", "/usr/bin/id").channel(Channel::Web) => Err(Refusal::ChannelNotAllowed);
    a_credential_to_be_changed_first: on("new-1", "/usr/bin/id") => Err(Refusal::CredentialMustChange);
    nobody_at_all: on("off-1", "/usr/bin/id") => Err(Refusal::NoAccount);
}

// Running as another account: arguments one by one.
answers! {
    a_permitted_line: as_batch("/opt/nightly selkie") => ALLOWED;
    an_argument_too_many: as_batch("/opt/nightly selkie again") => Err(Refusal::NotPermitted);
    a_rule_that_denies: as_batch("/opt/nightly --wipe") => Err(Refusal::DeniedByRule);
    whatever_follows: as_batch("/opt/nightly --all now please") => ALLOWED;
    a_way_up_in_a_path: as_batch("/opt/nightly /srv/../etc") => Err(Refusal::NotPermitted);
    a_way_round_to_the_program: as_batch("/opt/x/../nightly selkie") => ALLOWED;
    blanks_in_one_argument: as_batch("/opt/nightly \"two words\"") => Err(Refusal::JoinedArguments);
    a_program_without_its_path: as_batch("nightly selkie") => Err(Refusal::ProgramNotFull);
    a_variable_that_is_kept: as_batch("PIER=selkie /opt/nightly selkie") => ALLOWED;
    one_that_is_not: as_batch("LD_PRELOAD=/tmp/x /opt/nightly selkie") => Err(Refusal::EnvironmentNotKept);
    identity_must_be_proven: as_batch("/usr/bin/psql ticketing") => Ok(Verdict::AllowedAfter);
    it_was: as_batch("/usr/bin/psql ticketing").proof(Proof::Password, SignedDuration::from_mins(5)) => ALLOWED;
    it_was_too_long_ago: as_batch("/usr/bin/psql ticketing").proof(Proof::Password, SignedDuration::from_mins(6)) => Ok(Verdict::AllowedAfter);
    it_was_elsewhere: as_batch("/usr/bin/psql ticketing").proof(Proof::Key, SignedDuration::ZERO).proof_on(Channel::Web, Proof::Password, SignedDuration::ZERO) => Ok(Verdict::AllowedAfter);
    the_own_password_is_not_that_of_the_next_account: on("op-1", "/usr/bin/psql ticketing").proof(Proof::Password, SignedDuration::ZERO).acting(act("shell:owner")).acting(act("account:batch")) => Ok(Verdict::AllowedAfter);
    nobody_else_may: on("op-2", "/usr/bin/psql ticketing").acting(act("account:batch")) => Err(Refusal::NotPermitted);
    a_shell_may_be_entered: on("op-1", "/usr/bin/id").acting(act("shell:owner")) => ALLOWED;
    one_that_refuses_may_not: on("op-1", "/usr/bin/id").acting(act("shell:batch")) => Err(Refusal::ShellRefuses);
    a_chain_of_two: on("op-1", "/usr/bin/id").acting(act("shell:owner")).acting(act("shell:op-2")) => ALLOWED;
    one_that_comes_back: on("op-1", "/usr/bin/id").acting(act("shell:owner")).acting(act("shell:op-2")).acting(act("shell:owner")) => Err(Refusal::ActingLoop);
    no_such_account: on("op-1", "/usr/bin/id").acting(act("shell:onwer")) => Err(Refusal::UnknownActingIdentity);
    a_user_is_no_account: on("op-1", "/usr/bin/id").acting(act("user:op-2")) => Err(Refusal::ActingNotKnown);
    another_line_in_the_link: on("op-1", "/usr/bin/id").acting(act("account:batch /opt/nightly selkie")) => Err(Refusal::ActingNotKnown);
    a_line_that_goes_on: on("op-1", "/bin/bash").acting(act("account:owner")).acting(act("account:op-2")) => Err(Refusal::ActingNotKnown);
    a_shell_that_goes_on_to_a_line: on("op-1", "/bin/bash").acting(act("shell:owner")).acting(act("account:op-2")) => ALLOWED;
    a_host_that_was_left_before: on("op-1", "/usr/bin/id").acting(act("shell:owner")).acting(act("shell:other/op-2")) => Err(Refusal::ActingNotKnown);
    this_host_named: on("op-1", "/usr/bin/id").acting(act("shell:owner")).acting(act("shell:box/op-2")) => ALLOWED;
    who_edits_a_job_as_another: on("op-2", "edit-job on job/nightly").acting(act("account:batch")) => Err(Refusal::ActingNotKnown);
    who_edits_a_job: on("op-2", "edit-job on job/nightly") => ALLOWED;
    who_does_not: on("op-1", "edit-job on job/nightly") => Err(Refusal::NotPermitted);
    a_job_that_is_not_there: on("op-2", "edit-job on job/nihgtly") => Err(Refusal::UnknownObject);
}

fn at_the_database(link: &str) -> Question {
    let mut question = on("op-1", "select on table public.log").acting(act(link)).proof(Proof::Password, SignedDuration::ZERO);
    question.system = "db".to_owned();
    question
}

fn at_the_database_through(first: &str, second: &str) -> Question {
    at_the_database(first).acting(act(second))
}

// Over several systems: as the account of a host to a database.
answers! {
    as_the_batch_account_to_the_database: at_the_database("account:box/batch /usr/bin/psql ticketing") => ALLOWED;
    in_the_own_name_there_is_no_account: on("op-1", "x") => ALLOWED;
    a_line_that_may_not_be_run: at_the_database("account:box/batch /usr/bin/psql loyalty") => Err(Refusal::NotPermitted);
    no_line_is_said: at_the_database("account:box/batch") => Err(Refusal::ActingNotKnown);
    a_host_that_is_not_there: at_the_database("account:bxo/batch /usr/bin/psql ticketing") => Err(Refusal::UnknownSystem);
    through_a_shell: at_the_database_through("shell:box/owner", "account:box/op-2 /bin/bash") => Err(Refusal::NoAccount);
    through_a_line: at_the_database_through("account:box/batch /usr/bin/psql ticketing", "account:box/batch /usr/bin/psql ticketing") => Err(Refusal::ActingNotKnown);
    an_account_nobody_knows_elsewhere: at_the_database("shell:box/owner") => Err(Refusal::UnknownActingIdentity);
    a_database_knows_no_users_to_act_as: at_the_database("user:batch") => Err(Refusal::ActingNotKnown);
}

/// A chain that goes on from a host as `batch` to a room, or as `lead-2` to a switch, and who agreed there.
fn agreed(link: &str, first: &str, system: &str, line: &str, second: &str) -> Option<Refusal> {
    let more = "[systems.room]\nkind = 'application'\n[applications.room]\n\
         types.gate = { rights = ['open'], after = { second-person = ['anyone'] } }\nobjects.'gate/north' = {}\n\
         grants = [{ allow = ['open'], on = 'gate/*', to = ['user:batch', 'user:op-1', 'user:op-2'] }]\n\
         [systems.bridge]\nkind = 'host'\nno-command-set = 'everything'\n[hosts.bridge]\n\
         run-as = [{ by = ['user:lead-1'], as = ['lead-2'], commands = ['shell'], proof = false }]\n\
         accounts = { lead-1 = {}, lead-2 = {} }\n";
    let ledger = Ledger::new().document("hosts.toml", HOSTS).document("pier.toml", PIER).document("more.toml", more);
    let engine = Engine::compile(ledger.estate().unwrap_or_else(|f| panic!("{f}"))).expect("it compiles");
    let mut question = on(first, line).acting(act(link)).proof(Proof::Password, SignedDuration::ZERO).approved_by(second);
    question.system = system.to_owned();
    question.session.level = (system == "switch").then_some(15);
    ask(&engine, &question).refusal
}

#[test]
fn nobody_agrees_to_what_he_does_as_the_account_of_a_host() {
    for (second, expected) in [("op-1", Some(Refusal::SamePerson)), ("batch", Some(Refusal::SamePerson)), ("op-2", None)] {
        let found = agreed("account:box/batch /usr/bin/psql ticketing", "op-1", "room", "open on gate/north", second);
        assert_eq!(found, expected, "{second}");
    }
    for (second, expected) in [("lead-1", Some(Refusal::SamePerson)), ("watch-1", Some(Refusal::NotEntitled))] {
        assert_eq!(agreed("shell:bridge/lead-2", "lead-1", "switch", "restart", second), expected, "{second}");
    }
}

#[test]
fn the_chain_is_kept_whole_and_shown_in_one_line() {
    let mut question = on("op-1", "").acting(act("shell:owner")).acting(act("shell:op-2")).channel(Channel::Terminal);
    let view = session(&hosts(), &question);
    assert_eq!(view.line, "op-1, as account owner, as account op-2");
    assert_eq!((view.person.as_str(), view.acting.as_str(), view.account.as_deref()), ("op-1", "account op-2", Some("op-1")));
    assert_eq!(view.channel, Some(Channel::Terminal));
    question.user = "guest-1".to_owned();
    assert_eq!(session(&hosts(), &question).refused.map(|refused| refused.code), Some(Refusal::SeveralAccounts));
}

#[test]
fn a_session_says_when_it_is_over() {
    let cloud = crate::clouds::cloud();
    let question = Question::new("night-1", "sky", "").at("2026-11-26T08:00:00Z".parse().expect("a moment"));
    let question = question.proof(Proof::Password, SignedDuration::ZERO).acting(act("role:night-operator@2026-11-26T07:30:00Z"));
    let view = session(&cloud, &question);
    assert_eq!(view.roles, ["night-operator"]);
    assert_eq!(view.expires.map(|e| e.to_string()).as_deref(), Some("2026-11-26T08:30:00Z"));
    assert_eq!(view.proofs.expect("stated"), ["password 0s ago"]);
}

#[test]
fn all_that_is_missing_is_said_at_once() {
    let hosts = hosts();
    let missing = |user: &str, system: &str, at: &str| -> Vec<String> {
        let ready = readiness(&hosts, user, Some(system), Some(at.parse().expect("a moment"))).expect("the user is known");
        ready.into_iter().flat_map(|r| r.missing).map(|cause| cause.text).collect()
    };
    assert_eq!(
        missing("op-1", "box", "2026-11-26T08:00:00Z"),
        [
            "the credential has 10 characters; at least 12 are wanted",
            "the credential expired at 2026-10-31T00:00:00Z: it was set at 2026-09-01T00:00:00Z and is good for 60 days",
        ]
    );
    assert_eq!(missing("op-1", "box", "2026-10-30T23:59:59Z"), ["the credential has 10 characters; at least 12 are wanted"]);
    assert_eq!(
        missing("off-1", "box", "2026-11-26T08:00:00Z"),
        ["no way to prove identity is registered", "no channel is open", "no account is there on `box`"]
    );
    assert!(
        missing("batch", "box", "2026-11-26T08:00:00Z")
            .contains(&"the login shell of `batch` is `/usr/sbin/nologin`, which refuses".to_owned())
    );
    let ready = readiness(&hosts, "guest-1", Some("box"), None).expect("the user is known");
    let opening = |channel, proofs: Vec<Proof>| Opening { channel, is_open: !proofs.is_empty(), proofs };
    let openings = [opening(Channel::Terminal, vec![Proof::Key]), opening(Channel::Web, vec![]), opening(Channel::Api, vec![])];
    assert_eq!(ready[0].channels, openings);
    assert_eq!(readiness(&hosts, "nobody", None, None), None);
}

#[test]
fn a_host_is_told_the_rules_in_reverse_and_only_what_it_can_be_told() {
    let told = host_configuration(&hosts(), "box", noon()).expect("it is a host");
    let lines: Vec<&str> = told.run_as.lines().filter(|l| l.starts_with("op-2 ALL = (batch)")).collect();
    assert_eq!(lines[0], "op-2 ALL = (batch) NOTAFTER=20261231235959Z NOPASSWD: NOSETENV: /opt/nightly ^two words$");
    assert_eq!(lines[3], "op-2 ALL = (batch) NOPASSWD: NOSETENV: !/opt/nightly ^--wipe( .*)?$");
    assert!(told.run_as.contains("Defaults timestamp_timeout = 5\n"));
    assert_eq!(
        told.sign_in.lines().filter(|l| l.starts_with("AllowUsers")).collect::<Vec<_>>(),
        ["AllowUsers op-1", "AllowUsers op-2@192.0.2.0/24", "AllowUsers bench"]
    );
    assert_eq!(told.keys_of[2], ("bench".to_owned(), vec!["guest-1".to_owned()]));
    assert_eq!(host_configuration(&hosts(), "db", noon()), Err(Untold::NotAHost));
}

#[test]
fn remedies_of_a_host_are_tried() {
    let hosts = hosts();
    for (question, expected) in [
        (on("guest-1", "/opt/menu 1").account("kiosk"), "with the account `bench`"),
        (as_batch("nightly selkie"), "as `/opt/nightly selkie`"),
        (as_batch("\"LD_PRELOAD=/x\" /opt/nightly selkie"), "as `/opt/nightly selkie`, without variables"),
        (as_batch("/opt/nightly \"two words\""), "as `/opt/nightly two words`, each word an argument of its own"),
        (on("op-2", "/usr/bin/id").from("198.51.100.1".parse().expect("an address")), "from 192.0.2.1"),
        (on("op-1", "/usr/bin/id").account("desk"), "if the account `desk` were not locked"),
        (on("op-1", "/opt/nightly selkie").acting(act("shell:batch")), "running the line as the account, without its shell"),
        (
            on("op-2", "/opt/nightly selkie again").acting(act("account:batch")),
            "if command set `nightly` also allowed `/opt/nightly selkie again`",
        ),
    ] {
        let answer = ask(&hosts, &question);
        let texts: Vec<String> =
            answer.remedies.iter().map(|r| r.steps.iter().map(|s| s.text.clone()).collect::<Vec<_>>().join(", and ")).collect();
        assert!(texts.iter().any(|t| t == expected), "{question:?}: {texts:?}");
    }
}

#[test]
fn what_a_host_would_read_as_something_else_is_no_name() {
    let of = |login: &str, variable: &str| {
        let text = format!(
            "[systems.box]\nkind = 'host'\nno-command-set = 'nothing'\n[hosts.box]\nkeep-environment = ['{variable}']\naccounts = {{ '{login}' = {{}} }}\n"
        );
        codes(&findings(&text)).into_iter().filter(|c| *c == Code::BadName).count()
    };
    for login in
        ["ALL", "ADMINS", "A", "ROOT_2", "Defaults", "User_Alias", "Cmnd_Alias", "%wheel", "#0", "+ring", "a,b", "a b", "!a", "-a", "a*"]
    {
        assert_eq!(of(login, "PIER"), 1, "{login}");
    }
    for login in ["all", "Anna", "_a", "A.b", "ADMINs", "a-1"] {
        assert_eq!(of(login, "PIER"), 0, "{login}");
    }
    for variable in ["*", "LD_*", "A\" x", "A=b", "", "1A", "A%%", "A,B"] {
        assert_eq!(of("anna", variable), 1, "{variable}");
    }
}

/// A moment in an ordinary day.
fn noon() -> jiff::Timestamp {
    "2026-11-26T12:00:00Z".parse().expect("a moment")
}
