//! A ledger built in code is the ledger that the same text would be.

use jiff::SignedDuration;
use zest_ledger::ask::{Refusal, Verdict};
use zest_ledger::entry::{
    Account, Assignment, BareElevation, Channel, Command, CommandSet, Credential, Does, Group, IdentitySource, NameCase, On,
    OriginNetworks, Otherwise, Proof, Role, System, Unrestricted, User, UserKind, Vocabulary, When, WhenCentralDown,
};
use zest_ledger::estate::Estate;
use zest_ledger::finding::Code;
use zest_ledger::{Engine, Ledger, Question};

use crate::support::codes;

const TEXT: &str = r#"
[users]
watch-1 = { name = "First watch officer", path = "shore/watch", proofs = ["password", "one-time-code"], channels = ["terminal"] }
runner-1 = { kind = "service", proofs = ["key"], must-change-credential = true }
[groups.watch]
name = "Watch"
members = ["user:watch-1"]
owners = ["user:runner-1"]
directory = "cn=watch,dc=lanternsound,dc=example"
[origins.room]
networks = ["192.0.2.0/26"]
[vocabularies.make]
bare-elevation = "ceiling"
modes = { deck = {}, settings = { configuration = true } }
commands = [
  { line = "leave", level = 0, does = "leave-session" },
  { line = "elevate", level = 0, does = "elevate" },
  { line = "elevate {level: 0-15}", level = 0, does = "elevate" },
  { line = "show log", level = 7, about = "show the log" },
  { line = "edit settings", level = 7, enters = "settings" },
  { line = "name {word}", in = ["settings"], level = 7 },
]
[command-sets.base]
rules = ["allow leave"]
[command-sets.watch]
rules = ["include base", "deny edit ...", "allow show ...", "allow elevate ..."]
otherwise = "deny"
[roles.base]
band = { start = 1, ceiling = 7 }
[roles.watch]
includes = ["base"]
commands = ["watch"]
[systems.switch]
kind = "network-device"
vocabulary = "make"
no-command-set = "nothing"
address = "192.0.2.129"
within = "piers/selkie"
labels = { class = "switch" }
authorisation = { levels = "all", configuration = true }
identity-sources = ["central", "local"]
name-case = "ignored"
when-central-down = "nothing"
own-levels = [{ command = "show log", level = 3 }]
accounts.rescue = { band = { start = 15, ceiling = 15 }, used-by = ["group:watch"], origin = ["origin:room"], emergency = true }
accounts.yard = { band = { start = 1, ceiling = 1 }, locked = true, credential = "missing" }
[[assignments]]
to = ["group:watch"]
roles = ["watch"]
on = { labels = { class = "switch" } }
rank = 10
when = { origin = ["origin:room"], hours = "06:00-22:00", zone = "Europe/Oslo", channel = ["terminal"], proof = ["one-time-code"], proof-age = "1h" }
"#;

fn in_code() -> Ledger {
    let all = zest_ledger::entry::Authorisation { levels: zest_ledger::entry::AuthorisedLevels::All, configuration: true };
    Ledger::new()
        .user(
            User::new("watch-1")
                .name("First watch officer")
                .path("shore/watch")
                .proof(Proof::Password)
                .proof(Proof::OneTimeCode)
                .channels(&[Channel::Terminal]),
        )
        .user(User::new("runner-1").kind(UserKind::Service).proof(Proof::Key).must_change_credential(true))
        .group(
            Group::new("watch")
                .name("Watch")
                .member("user:watch-1")
                .owner("user:runner-1")
                .directory("cn=watch,dc=lanternsound,dc=example"),
        )
        .origin(OriginNetworks::new("room").network("192.0.2.0/26"))
        .vocabulary(
            Vocabulary::new("make")
                .bare_elevation(BareElevation::Ceiling)
                .mode("deck")
                .configuration_mode("settings")
                .command(Command::new("leave").level(0).does(Does::LeaveSession))
                .command(Command::new("elevate").level(0).does(Does::Elevate))
                .command(Command::new("elevate {level: 0-15}").level(0).does(Does::Elevate))
                .command(Command::new("show log").level(7).about("show the log"))
                .command(Command::new("edit settings").level(7).enters("settings"))
                .command(Command::new("name {word}").mode("settings").level(7)),
        )
        .command_set(CommandSet::new("base").allow("leave"))
        .command_set(
            CommandSet::new("watch").include("base").deny("edit ...").allow("show ...").allow("elevate ...").otherwise(Otherwise::Deny),
        )
        .role(Role::new("base").band(1, 7))
        .role(Role::new("watch").includes("base").commands("watch"))
        .system(
            System::network_device("switch", "make", Unrestricted::Nothing)
                .address("192.0.2.129")
                .within("piers/selkie")
                .label("class", "switch")
                .authorisation(all)
                .identity_sources(&[IdentitySource::Central, IdentitySource::Local])
                .name_case(NameCase::Ignored)
                .when_central_down(WhenCentralDown::Nothing)
                .own_level("show log", 3)
                .account(Account::new("rescue").band(15, 15).used_by("group:watch").origins(&["origin:room"]).emergency(true))
                .account(Account::new("yard").band(1, 1).locked(true).credential(Credential::Missing)),
        )
        .assignment(
            Assignment::new(On::label("class", "switch")).to("group:watch").role("watch").rank(10).when(
                When::new()
                    .origin("origin:room")
                    .hours("06:00-22:00", "Europe/Oslo")
                    .channel(Channel::Terminal)
                    .proof(Proof::OneTimeCode)
                    .proof_age(SignedDuration::from_hours(1)),
            ),
        )
}

#[test]
fn text_and_code_give_the_same_answers() {
    let text = Engine::compile(Ledger::new().document("ledger.toml", TEXT).estate().expect("valid")).expect("compiles");
    let code = Engine::compile(in_code().estate().expect("valid")).expect("compiles");
    let session = |question: Question| {
        question
            .at("2026-11-25T09:00:00+01:00".parse().expect("a moment"))
            .from("192.0.2.9".parse().expect("an address"))
            .channel(Channel::Terminal)
            .proof(Proof::OneTimeCode, SignedDuration::from_mins(5))
    };
    let mut verdicts = Vec::new();
    for user in ["watch-1", "WATCH-1", "runner-1", "nobody"] {
        for line in ["leave", "elevate", "elevate 8", "show log", "sh lo", "edit settings", "name x", "frob"] {
            for question in [
                session(Question::new(user, "switch", line)),
                session(Question::new(user, "switch", line)).level(3),
                session(Question::new(user, "switch", line)).central_down(),
                Question::new(user, "switch", line),
            ] {
                assert_eq!(text.decide(&question), code.decide(&question), "{question:?}");
                verdicts.push(text.decide(&question).verdict);
            }
        }
    }
    assert!(verdicts.contains(&Verdict::Allowed) && verdicts.contains(&Verdict::Denied));
}

#[test]
fn grounds_of_a_built_ledger_point_to_the_line_of_code() {
    let engine = Engine::compile(in_code().estate().expect("valid")).expect("compiles");
    let answer = engine.ask(&Question::new("watch-1", "switch", "show log").channel(Channel::Web));
    assert_eq!(answer.refusal, Some(Refusal::ChannelNotAllowed));
    let place = answer.first_refusal().and_then(|g| g.location.clone()).expect("a place");
    assert!(place.file.ends_with("tests/builders.rs") && place.line > 70, "{place}");
}

#[test]
fn a_ledger_may_be_text_and_code_at_once_and_ids_stay_unique() {
    let both = Ledger::new().document("ledger.toml", TEXT).user(User::new("watch-1"));
    assert_eq!(codes(&both.validate().findings), [Code::DuplicateId]);
    let both = Ledger::new().document("ledger.toml", TEXT).user(User::new("watch-2").proof(Proof::Password));
    assert!(both.estate().is_ok());
}

#[test]
fn what_a_program_keeps_can_go_to_other_threads() {
    fn goes<T: Send + Sync>() {}
    goes::<Ledger>();
    goes::<Estate>();
    goes::<Engine>();
    goes::<zest_ledger::Prepared<'_>>();
    goes::<Question>();
    goes::<zest_ledger::ask::Answer>();
    goes::<zest_ledger::ask::Change>();
    goes::<zest_ledger::ask::Conflict>();
    goes::<zest_ledger::finding::Findings>();
    goes::<zest_ledger::review::Effective>();
}

/// Command sets are compiled while references are followed, where there is enough to do: answers and findings are the same.
#[test]
fn an_engine_made_on_two_threads_is_the_one_made_on_one() {
    // From 16 KiB on another thread is started.
    let filler = format!("# {}\n", "x".repeat(98)).repeat(200);
    let broken = [
        ("", "nothing is wrong"),
        ("users.new.proofs = ['pasword']\n", "in a document"),
        ("groups.new.members = ['user:nobody']\n", "in a reference before command sets"),
        ("command-sets.new.rules = ['allow show {1-']\n", "in a command set"),
        ("systems.new = { kind = 'network-device', vocabulary = 'none' }\n", "in a system"),
        ("assignments = [{ to = ['user:nobody'], roles = ['none'], on = 'all' }]\n", "behind the systems"),
    ];
    let (mut made, mut refused) = (0, 0);
    for seed in 0..20 {
        let mut source = zest_testkit::estates::Source::new(seed);
        let text = source.ledger();
        for (more, what) in broken {
            let document = format!("{more}{text}{filler}");
            let on = |threads| Ledger::new().documents(&[("estate.toml", document.as_str())], threads).engine(threads);
            let compiled = Ledger::new().document("estate.toml", &document).estate().and_then(Engine::compile);
            match (on(1), on(2), compiled) {
                (Ok(one), Ok(two), Ok(compiled)) => {
                    made += 1;
                    for _ in 0..20 {
                        let question = source.question();
                        assert_eq!(one.explain(&question), compiled.explain(&question), "seed {seed}, {what}");
                        assert_eq!(two.explain(&question), compiled.explain(&question), "seed {seed}, {what}");
                    }
                }
                (Err(one), Err(two), Err(compiled)) => {
                    refused += 1;
                    assert_eq!(one.to_string(), compiled.to_string(), "seed {seed}, {what}");
                    assert_eq!(two.to_string(), compiled.to_string(), "seed {seed}, {what}");
                }
                other => panic!("seed {seed}, {what}: {other:?}"),
            }
        }
    }
    assert!(made >= 15 && refused >= 90, "{made} {refused}");
}

#[test]
fn an_estate_goes_back_into_a_ledger_and_answers_the_same() {
    use crate::support::{PIER, engine};
    let before = engine(PIER);
    let estate = Ledger::from(before.estate()).estate().unwrap_or_else(|findings| panic!("{findings}"));
    let after = Engine::compile(estate).unwrap_or_else(|findings| panic!("{findings}"));
    let mut source = zest_testkit::random::Source::new(5);
    for _ in 0..200 {
        let question = source.question();
        assert_eq!(after.decide(&question), before.decide(&question), "{question:?}");
        assert_eq!(after.explain(&question), before.explain(&question));
    }
    // A document beside it has places of its own.
    let more = Ledger::from(before.estate()).document("more.toml", "[users.watch-9]\nproofs = [\"password\"]\n").estate().expect("valid");
    let place = |id: &str| more.sources().locate(more.users().iter().find(|user| user.id.value == id).expect("there").id.place).file;
    assert_eq!((place("watch-1").as_str(), place("watch-9").as_str()), ("ledger.toml", "more.toml"));
}

#[test]
fn an_entry_that_moves_never_cites_a_document_of_the_ledger_it_came_to() {
    let old = Ledger::new()
        .document("old.toml", "\n\n[users.gone-1]\ndisabled = true\n[systems.box]\nkind = \"host\"\nno-command-set = \"nothing\"\n")
        .estate()
        .expect("valid");
    let user = || User::clone(&old.users()[0]);
    let text = "[users.watch-1]\nproofs = [\"password\"]\n[systems.box]\nkind = \"host\"\nno-command-set = \"nothing\"\n";
    let without = Ledger::new().document("new.toml", text).user(user()).estate().expect("valid");
    let with = Ledger::new().document("new.toml", text).documents_of(&old).user(user()).estate().expect("valid");
    let told = |estate: &Estate| estate.sources().locate(estate.users()[1].id.place);
    assert_eq!(told(&without).file, "?");
    assert_eq!((told(&with).file.as_str(), told(&with).line), ("old.toml", 3));
}
