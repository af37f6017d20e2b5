//! How an answer tells by which way something is held, and who is behind it: the text is what an administrator acts on.

use jiff::Timestamp;
use zest_ledger::ask::{Act, Refusal, Verdict};
use zest_ledger::review::effective;
use zest_ledger::{Engine, Question};

use crate::support::{ask, engine, outcome};

fn texts(engine: &Engine, question: &Question) -> String {
    let answer = ask(engine, question);
    answer.gates.iter().map(|g| format!("{}\n", g.text)).collect()
}

const SERVERS: &str = r#"
[systems.db]
kind = "postgresql"
[databases.db.accounts]
chief = { may = ["superuser"] }
owner-1 = {}
heir-1 = { member-of = ["owner-1"] }
reader-1 = {}
deep-1 = { member-of = ["outer"] }
all-1 = { member-of = ["pg_read_all_data"] }
passes-1 = { administers = ["crew"] }
plain-1 = { member-of = ["crew"] }
[databases.db.roles]
inner = {}
outer = { member-of = ["inner"] }
crew = {}
[databases.db.objects]
"schema pier" = { owner = "owner-1" }
"table pier.t" = { owner = "owner-1", columns = { id = "integer", amount = "integer" } }
"table pier.far" = { columns = { id = "integer" } }
[[databases.db.grants]]
allow = ["usage"]
on = "schema pier"
to = ["public"]
[[databases.db.grants]]
allow = ["select"]
on = "table pier.t"
to = ["reader-1", "inner"]
regrant = true
[[databases.db.grants]]
allow = ["update"]
on = "table pier.t"
columns = ["amount"]
to = ["reader-1"]

[systems.maria]
kind = "mariadb"
[databases.maria.accounts]
"own-1@192.0.2.%" = { member-of = ["crew"], default-role = "crew" }
"own-1@%" = {}
[databases.maria.roles]
crew = {}
[databases.maria.objects]
"table club.t" = { columns = { id = "int(11)", amount = "int(11)" } }
"table club.u" = { columns = { id = "int(11)" } }
"table club.v" = { columns = { id = "int(11)" } }
[[databases.maria.grants]]
allow = ["select"]
on = "table club.t"
to = ["own-1@192.0.2.%"]
[[databases.maria.grants]]
allow = ["insert"]
on = "table club.t"
to = ["crew"]
[[databases.maria.grants]]
allow = ["delete"]
on = "table club.t"
to = ["public"]
[[databases.maria.grants]]
allow = ["select"]
on = "table club.u"
to = ["own-1@%"]
[[databases.maria.grants]]
allow = ["select"]
on = "table club.v"
to = ["own-1@192.0.2.%"]
regrant = true
[[databases.maria.grants]]
allow = ["update"]
on = "table club.t"
columns = ["amount"]
to = ["own-1@192.0.2.%"]
"#;

#[test]
fn the_way_by_which_something_is_held_is_told() {
    let engine = engine(SERVERS);
    let table = [
        ("chief", "select id from pier.t", "`chief` is a superuser, which passes every check"),
        ("owner-1", "select id from pier.t", "`owner-1` owns table pier.t and so holds select"),
        ("heir-1", "select id from pier.t", "as the owner does, through `owner-1`"),
        ("reader-1", "select id from pier.t", "by its own grant, given by `owner-1`"),
        ("deep-1", "select id from pier.t", "through `outer` -> `inner`, given by `owner-1`"),
        ("all-1", "select id from pier.t", "on all objects, through `pg_read_all_data`"),
        ("reader-1", "select id from pier.t", "through PUBLIC, given by `owner-1`"),
        ("reader-1", "update pier.t set amount = 1", "column amount by its own grant"),
        ("reader-1", "delete from pier.t", "does not hold delete on table pier.t"),
        ("reader-1", "drop table pier.t", "table pier.t belongs to `owner-1`; only the owner may do this"),
        ("owner-1", "drop table pier.far", "the owner of the schema"),
        ("reader-1", "grant select on pier.t to crew", "select with grant option on table pier.t"),
        ("owner-1", "lock table pier.t in row exclusive mode", "owns table pier.t and so holds"),
        ("deep-1", "lock table pier.t in share mode", "does not hold update or delete or truncate on table pier.t"),
        ("passes-1", "grant crew to inner", "`passes-1` may pass on the membership of `crew`"),
        ("plain-1", "grant crew to inner", "`plain-1` may not pass on the membership of `crew`"),
    ];
    for (user, statement, told) in table {
        let shown = texts(&engine, &Question::statement(user, "db", statement));
        assert!(shown.contains(told), "{user}: {statement}\nexpected: {told}\n{shown}");
    }
    let from = "192.0.2.1".parse().expect("an address");
    let table = [
        ("select id from club.t", "by its own grant on table club.t"),
        ("insert into club.t (id) values (1)", "through `crew`, granted on table club.t"),
        ("delete from club.t where true", "through PUBLIC, granted on table club.t"),
        ("select id from club.u", "by the grant of `own-1@%` on table club.u, whose origin fits as well"),
        ("update club.t set amount = 1", "holds update on table club.t, column amount"),
        ("update club.t set id = 1", "does not hold update on table club.t, column id"),
        ("grant select on club.v to crew", "holds select on table club.v and may pass it on"),
        ("grant select, delete on club.v to crew", "does not hold delete on table club.v, so cannot pass it on"),
        ("grant select on club.t to crew", "does not hold the grant option on table club.t"),
    ];
    for (statement, told) in table {
        let shown = texts(&engine, &Question::statement("own-1", "maria", statement).from(from));
        assert!(shown.contains(told), "{statement}\nexpected: {told}\n{shown}");
    }
    let what = |statement: &str| ask(&engine, &Question::statement("own-1", "maria", statement).from(from)).object;
    assert_eq!(what("update club.t set id = 1").as_deref(), Some("table club.t"));
    assert_eq!(what("drop database club").as_deref(), Some("database club"));
}

const PIER: &str = r#"
[users]
own-1 = { proofs = ["password"] }
begins-1 = { proofs = ["password"], from = 2026-06-01, until = 2026-06-30 }
Large-1 = { proofs = ["password"] }
other-1 = { proofs = ["password"] }
idle-1 = { proofs = ["password"] }
[systems.app]
kind = "application"
[applications.app]
acting = [{ by = ["user:own-1"], as = "user:other-1" }]
[applications.app.types.box]
rights = ["open"]
[applications.app.objects]
"box/1" = {}
[[applications.app.grants]]
allow = ["open"]
on = "box/*"
to = ["user:other-1", "user:own-1"]
[[applications.app.grants]]
allow = ["reset-credential"]
on = "user/*"
to = ["user:own-1"]
[groups.crew]
[command-sets.some]
rules = []
[roles.one]
[roles.two]
[separations.apart]
roles = ["one", "two"]
[[assignments]]
to = ["user:begins-1"]
roles = ["one"]
on = { systems = ["app"] }
from = 2026-06-10
until = 2026-06-20
[[assignments]]
to = ["user:begins-1"]
roles = ["two"]
on = { systems = ["app"] }
"#;

fn at(user: &str, moment: &str, line: &str) -> Question {
    Question::new(user, "app", line).at(moment.parse::<Timestamp>().expect("a moment"))
}

#[test]
fn a_person_is_there_from_the_first_moment_to_the_last() {
    let engine = engine(PIER);
    let outcome = |moment: &str| outcome(&ask(&engine, &at("begins-1", moment, "open on box/1")));
    assert_eq!(outcome("2026-05-31T23:59:59Z"), Err(Refusal::UserNotValid));
    assert_eq!(outcome("2026-06-01T00:00:00Z"), Err(Refusal::NotGranted));
    assert_eq!(outcome("2026-06-30T23:59:59Z"), Err(Refusal::NotGranted));
    assert_eq!(outcome("2026-07-01T00:00:00Z"), Err(Refusal::UserNotValid));
}

#[test]
fn what_somebody_may_do_is_listed_from_the_first_moment_to_the_last() {
    let engine = engine(&PIER.replace("kind = \"application\"\n", "kind = \"application\"\n[vocabularies.make]\ncommands = [{ line = \"show log\" }]\n[systems.sw]\nkind = \"network-device\"\nvocabulary = \"make\"\nno-command-set = \"everything\"\n"));
    for (moment, why) in [
        ("2026-05-31T23:59:59Z", Some("`begins-1` is valid from 2026-06-01T00:00:00Z on")),
        ("2026-06-01T00:00:00Z", None),
        ("2026-06-30T23:59:59Z", None),
        ("2026-07-01T00:00:00Z", Some("`begins-1` was valid until 2026-07-01T00:00:00Z")),
    ] {
        let session = at("begins-1", moment, "show log").session;
        for system in ["sw", "app"] {
            let rights = effective(&engine, "begins-1", Some(system), &session).expect("the user is known");
            let told = rights[0].refused.as_ref().map(|cause| cause.text.as_str()).filter(|text| text.contains("valid"));
            assert_eq!(told, why, "{moment} on {system}");
        }
    }
}

#[test]
fn roles_are_kept_apart_for_as_long_as_both_are_held() {
    let engine = engine(PIER);
    for (moment, apart) in [("2026-06-09T12:00:00Z", false), ("2026-06-15T12:00:00Z", true), ("2026-06-21T12:00:00Z", false)] {
        let shown = texts(&engine, &at("begins-1", moment, "open on box/1"));
        assert_eq!(shown.contains("`one` and `two`") || shown.contains("`two` and `one`"), apart, "{moment}: {shown}");
    }
}

#[test]
fn who_may_act_as_somebody_is_told_and_whom_there_is() {
    let engine = engine(PIER);
    let act = |text: &str| text.parse::<Act>().expect("a link");
    let acting = |user: &str, link: &str| texts(&engine, &Question::new(user, "app", "open on box/1").acting(act(link)));
    let own = Question::new("own-1", "app", "open on box/1").acting(act("user:other-1"));
    assert_eq!(outcome(&ask(&engine, &own)), Ok(Verdict::Allowed));
    assert!(acting("idle-1", "user:other-1").contains("`idle-1` may not act as `other-1`: `user:own-1` may"));
    assert!(acting("own-1", "user:idle-1").contains("`own-1` may not act as `idle-1`: nobody may"));
    assert!(acting("own-1", "user:other-2").contains("nobody is called `other-2`"));
    assert!(
        texts(&engine, &Question::new("large-1", "app", "open on box/1"))
            .contains("`large-1` is not `Large-1`: names on this system are case-sensitive")
    );
    assert!(texts(&engine, &Question::new("nobody-9", "app", "open on box/1")).contains("no identity source knows `nobody-9`"));
    assert_eq!(outcome(&ask(&engine, &Question::new("own-1", "app", "reset-credential on user/idle-1"))), Ok(Verdict::Allowed));
    assert_eq!(outcome(&ask(&engine, &Question::new("own-1", "app", "reset-credential on user/idle-9"))), Err(Refusal::UnknownObject));
    // What the ledger holds itself is no object of the application's own rights.
    for path in ["user/idle-1", "group/crew", "role/one", "command-set/some"] {
        assert_eq!(
            outcome(&ask(&engine, &Question::new("own-1", "app", &format!("open on {path}")))),
            Err(Refusal::UnknownObject),
            "{path}"
        );
    }
}

const WAYS: &str = r#"
[users]
op-1 = { proofs = ["key"] }
batch-1 = { proofs = ["key"] }
late-1 = { proofs = ["key"] }
[origins]
room = { networks = ["192.0.2.0/26"] }
[command-sets.all]
rules = ["allow /usr/bin/bash", "allow /usr/bin/id"]
[systems.first]
kind = "host"
no-command-set = "everything"
[hosts.first]
run-as = [{ by = ["user:op-1"], as = ["batch-1", "other-1"], commands = ["all"], proof = false }]
[hosts.first.accounts]
op-1 = { shell = "/usr/bin/bash" }
batch-1 = { shell = "/usr/bin/bash" }
other-1 = { shell = "/usr/bin/bash" }
[systems.app]
kind = "application"
[applications.app]
acting = [
  { by = ["user:late-1"], as = "user:batch-1", when = { hours = "06:00-07:00", zone = "UTC" } },
  { by = ["user:late-1"], as = "user:batch-1", when = { origin = ["origin:room"] } },
]
[applications.app.types.box]
rights = ["open"]
[applications.app.objects]
"box/1" = {}
[[applications.app.grants]]
allow = ["open"]
on = "box/1"
to = ["user:batch-1"]
[vocabularies.make]
bare-elevation = "ceiling"
commands = [{ line = "elevate", level = 0, does = "elevate" }, { line = "show log" }]
[systems.sw]
kind = "network-device"
vocabulary = "make"
no-command-set = "everything"
[roles.seven]
band = { start = 1, ceiling = 7 }
[[assignments]]
to = ["user:op-1"]
roles = ["seven"]
on = { systems = ["sw"] }
[systems.sky]
kind = "cloud"
[clouds.sky]
operations = { "hulls.stop" = {} }
[clouds.sky.resources]
line = {}
[roles.keeper]
assumable = { by = ["user:op-1"], longest = "1h" }
[[clouds.sky.grants]]
allow = ["assume"]
on = "role/keeper"
to = ["user:op-1"]
[[clouds.sky.grants]]
deny = ["assume"]
on = "role/keeper"
to = ["user:op-1"]
when = { origin = ["origin:room"] }
"#;

#[test]
fn a_session_goes_on_from_a_host_as_the_account_that_it_went_to() {
    let engine = engine(WAYS);
    let open = |user: &str| Question::new(user, "app", "open on box/1");
    let by = |link: &str| open("op-1").acting(link.parse().expect("a link"));
    assert_eq!(outcome(&ask(&engine, &open("op-1"))), Err(Refusal::NotGranted));
    assert_eq!(outcome(&ask(&engine, &by("shell:first/batch-1"))), Ok(Verdict::Allowed));
    assert!(outcome(&ask(&engine, &by("shell:first/other-1"))).is_err(), "nobody is called like that account");
    let nowhere = texts(&engine, &by("shell:frst/batch-1"));
    assert!(nowhere.contains("no host is called `frst`; the nearest is `first`"), "{nowhere}");
    let twice = by("shell:first/batch-1").acting("shell:first/op-1".parse().expect("a link"));
    assert!(outcome(&ask(&engine, &twice)).is_err(), "the last account on the host is the one that goes on");
}

#[test]
fn what_is_not_known_is_said_before_what_fails() {
    let engine = engine(WAYS);
    let question = Question::new("late-1", "app", "open on box/1").acting("user:batch-1".parse().expect("a link"));
    let noon = question.at("2026-11-27T12:00:00Z".parse().expect("a moment"));
    assert_eq!(outcome(&ask(&engine, &noon)), Err(Refusal::NotStated));
    assert_eq!(outcome(&ask(&engine, &noon.clone().from("203.0.113.1".parse().expect("an address")))), Err(Refusal::OutsideHours));
    assert_eq!(outcome(&ask(&engine, &noon.from("192.0.2.1".parse().expect("an address")))), Ok(Verdict::Allowed));
    let assume = Question::new("op-1", "sky", "hulls.stop on line").acting("role:keeper".parse().expect("a link"));
    assert_eq!(outcome(&ask(&engine, &assume)), Err(Refusal::NotStated));
    assert_eq!(outcome(&ask(&engine, &assume.from("192.0.2.1".parse().expect("an address")))), Err(Refusal::MayNotAssume));
}

#[test]
fn a_bare_request_says_what_it_means() {
    assert!(texts(&engine(WAYS), &Question::new("op-1", "sw", "elevate")).contains("level 7 (a bare request means the ceiling) is within"));
}

#[test]
fn a_trigger_that_runs_along_is_told_and_whom_it_runs_as() {
    let engine = engine(
        "users.desk.proofs = ['password']\n[systems.db]\nkind = 'mariadb'\n[databases.db.accounts]\n'desk@%' = {}\n'keeper@%' = {}\n\
         [databases.db.objects.'table club.member']\ncolumns = { id = 'int(11)' }\n\
         triggers = { tells = \"CREATE DEFINER='keeper'@'%' TRIGGER club.tells BEFORE INSERT ON club.member FOR EACH ROW SET @a = 1\" }\n\
         [[databases.db.grants]]\nallow = ['insert']\non = 'table club.member'\nto = ['desk@%']\n\
         [[databases.db.grants]]\nallow = ['trigger']\non = 'table club.member'\nto = ['keeper@%']\n",
    );
    let asked = |statement: &str| {
        let question = Question::statement("desk", "db", statement).from("192.0.2.1".parse().expect("an address"));
        texts(&engine, &question)
    };
    let told = "trigger tells of table club.member runs along, as `keeper@%`";
    assert!(asked("insert into club.member (id) values (1)").contains(told), "{}", asked("insert into club.member (id) values (1)"));
    assert!(!asked("explain insert into club.member (id) values (1)").contains(told), "what is explained sets none off");
}
