//! Ways: each step of each is asked in the ledger as the steps before left it, and what a plain search comes to is come to.

use std::collections::BTreeSet;

use fastrand::Rng;
use zest_ledger::ask::{Change, Proven, Question, Refusal, Session, Verdict};
use zest_ledger::entry::{Kind, Proof};
use zest_ledger::finding::{Code, Severity};
use zest_ledger::promise::{Standing, promises};
use zest_ledger::review::Sought;
use zest_ledger::ways::{Acts, Aim, Way, Ways, cuts, unmeant};
use zest_ledger::{Engine, Ledger};
use zest_testkit::{estates, questions, seed, sized};

use crate::support::{engine, findings};

const LEDGER: &str = r#"
[users.desk]
proofs = ["password"]
[users.rota]
proofs = ["password"]
[users.coder]
proofs = ["one-time-code"]
[users.lead]
proofs = ["password"]
[users.out]
proofs = ["password"]
[groups.help]
members = ["user:desk"]
owners = ["user:lead"]
[groups.keepers]
[groups.planners]
members = ["user:rota"]
[groups.readers]
[roles.planner]
grants = [{ allow = ["plan"], on = "rota/*" }]
[roles.approver]
grants = [{ allow = ["approve"], on = "rota/*" }]
[separations.two]
roles = ["planner", "approver"]
[[assignments]]
to = ["group:planners"]
roles = ["planner"]
on = { systems = ["roster"] }
[[assignments]]
to = ["group:readers"]
roles = ["approver"]
on = { systems = ["roster"] }
[systems.roster]
kind = "application"
[applications.roster]
types.rota.rights = ["plan", "approve", "seal"]
objects."rota/tides" = {}
grants = [
  { allow = ["reset-credential"], on = ["user/rota", "user/coder"], to = ["group:help"] },
  { allow = ["change-members"], on = ["group/keepers", "group/readers"], to = ["user:rota"] },
  { allow = ["seal"], on = "rota/*", to = ["user:coder"] },
]
acting = [{ as = "user:coder", by = ["user:rota"] }]
[systems.box]
kind = "host"
no-command-set = "nothing"
[command-sets.shells]
rules = ["allow /bin/sh"]
[hosts.box]
jobs.tides = { runs-as = "tides", line = "/opt/tides", edited-by = ["group:keepers"] }
run-as = [{ by = ["account:tides"], as = ["root"], commands = ["shells"], proof = false }]
[hosts.box.accounts]
rota = {}
tides = { shell = "/usr/sbin/nologin" }
root = { locked = true }
[systems.db]
kind = "postgresql"
database = "db"
[databases.db]
owner = "keeper"
roles = { keeper = {}, clerk = {} }
accounts = { lead = { may = ["create-role"] }, rota = {} }
objects = { "table public.t" = { owner = "keeper", columns = { id = "integer" } } }
grants = [{ allow = ["select"], on = "table public.t", to = ["clerk"] }]
"#;

/// The acts of a way: who acts by what.
fn acts(way: &Way) -> Vec<(String, String)> {
    let act = |step: &zest_ledger::ways::WayStep| {
        let line = step.question.as_ref().map_or_else(|| "takes in".to_owned(), |question| question.line.clone());
        (step.by.clone(), line)
    };
    way.steps.iter().map(act).collect()
}

#[test]
fn ways_are_the_shortest_and_each_step_is_allowed() {
    let engine = engine(LEDGER);
    let root = Session { acting: vec!["account:root".parse().expect("a link")], ..Session::default() };
    let none = Session::default();
    let join = ("rota", "change-members on group/keepers");
    let reset = ("desk", "reset-credential on user/rota");
    for (from, aim, expected) in [
        ("rota", Aim::Do(Sought::Line("plan on rota/tides"), &["roster"], &none), Some(vec![("rota", "plan on rota/tides")])),
        ("desk", Aim::Do(Sought::Line("plan on rota/tides"), &["roster"], &none), Some(vec![reset, ("rota", "plan on rota/tides")])),
        ("desk", Aim::Do(Sought::Like("seal on **"), &["roster"], &none), Some(vec![reset, ("rota", "seal on rota/tides")])),
        (
            "rota",
            Aim::Do(Sought::Line("/bin/sh"), &["box"], &root),
            Some(vec![join, ("rota", "edit-job on job/tides"), ("rota", "/bin/sh")]),
        ),
        (
            "desk",
            Aim::Do(Sought::Line("/bin/sh"), &["box"], &root),
            Some(vec![reset, join, ("rota", "edit-job on job/tides"), ("rota", "/bin/sh")]),
        ),
        (
            "lead",
            Aim::Do(Sought::Line("plan on rota/tides"), &["roster"], &none),
            Some(vec![("lead", "takes in"), ("lead", "reset-credential on user/rota"), ("rota", "plan on rota/tides")]),
        ),
        (
            "lead",
            Aim::Do(Sought::Line("select on table public.t"), &["db"], &none),
            Some(vec![("lead", "GRANT \"keeper\" TO \"lead\""), ("lead", "select on table public.t")]),
        ),
        // Separated duties: joining the readers would take the plan away, and gives nothing to whoever plans.
        ("rota", Aim::Do(Sought::Line("approve on rota/tides"), &["roster"], &none), None),
        (
            "desk",
            Aim::Do(Sought::Line("approve on rota/tides"), &["roster"], &none),
            Some(vec![reset, ("rota", "change-members on group/readers"), ("desk", "approve on rota/tides")]),
        ),
        ("out", Aim::Do(Sought::Line("plan on rota/tides"), &["roster"], &none), None),
        ("desk", Aim::User("rota"), Some(vec![reset])),
        // No password, nothing to be set anew; but rota acts as coder.
        ("desk", Aim::User("coder"), Some(vec![reset, ("rota", "")])),
        ("desk", Aim::Group("keepers"), Some(vec![reset, join])),
        ("desk", Aim::Group("help"), Some(vec![])),
        ("lead", Aim::Group("help"), Some(vec![("lead", "takes in")])),
        ("out", Aim::Group("help"), None),
    ] {
        let all = Acts::of(&engine, &[aim]);
        let mut ways = Ways::of(&all, from).expect("the user is known");
        let found = ways.to(aim).as_ref().map(acts);
        assert!(!ways.is_cut_short);
        assert!(found.is_none() || all.candidates(Some(aim)).contains(&from), "{from}: {aim:?}");
        let expected = expected.map(|acts| acts.into_iter().map(|(by, line)| (by.to_owned(), line.to_owned())).collect::<Vec<_>>());
        assert_eq!(found, expected, "{from}: {aim:?}");
    }
    assert!(Ways::of(&Acts::of(&engine, &[]), "nobody").is_none());
    // Whatever one entry is taken out, the ways that rest on it alone are gone.
    let aim = Aim::Do(Sought::Line("/bin/sh"), &["box"], &root);
    let of = Acts::of(&engine, &[aim]);
    let all: Vec<Way> = ["desk", "rota", "lead", "out"].iter().filter_map(|from| Ways::of(&of, from)?.to(aim)).collect();
    assert_eq!(all.len(), 3);
    let found = cuts(&engine, &all, aim);
    assert!(found[0].left == 0 && found[0].of == 3, "{found:#?}");
    let of_reset = found.iter().find(|cut| cut.what.contains("reset-credential")).expect("it was tried");
    assert_eq!(of_reset.left, 1, "rota needs no reset");
}

/// Acts that give more than a person's place: an edited role, a command set, a grant, a secret, a folder.
const EDITED: &str = r#"
users.clerk.proofs = ["password"]
users.shaper.proofs = ["password"]
users.filler.proofs = ["password"]
users.granter.proofs = ["password"]
users.reader.proofs = ["password"]
users.writer.proofs = ["password"]
users.typist.proofs = ["password"]
users.captain.proofs = ["key"]
groups.shapers.members = ["user:shaper"]
[vocabularies.make]
commands = [
  { line = "show log" }, { line = "zero tally", level = 7 },
  { line = "leave", level = 0, does = "leave-session" }, { line = "elevate {level: 0-15}", level = 0, does = "elevate" },
]
[command-sets.looks]
rules = ["allow show ...", "allow elevate {1-7}", "allow leave"]
[command-sets.tools]
rules = ["allow /opt/tools/tidy"]
[systems.sw]
kind = "network-device"
vocabulary = "make"
no-command-set = "nothing"
authorisation = { levels = "all", configuration = true }
identity-sources = ["central", "local"]
accounts.breakglass = { band = { start = 15, ceiling = 15 } }
[roles.looker]
band = { start = 1, ceiling = 7 }
commands = ["looks"]
[roles.planner]
grants = [{ allow = ["plan"], on = "rota/*" }]
[[assignments]]
to = ["user:filler"]
roles = ["looker"]
on = { systems = ["sw"] }
[[assignments]]
to = ["group:shapers"]
roles = ["planner"]
on = { systems = ["roster"] }
[systems.roster]
kind = "application"
[applications.roster]
types.rota.rights = ["plan", "seal"]
objects."rota/tides" = {}
objects."secret/strongbox" = { opens = ["user:captain", "account:sw/breakglass"] }
grants = [
  { allow = ["edit-role"], on = "role/planner", to = ["user:shaper", "user:clerk"] },
  { allow = ["edit-command-set"], on = "command-set/looks", to = ["user:filler"] },
  { allow = ["grant-on"], on = "rota/*", to = ["user:granter"] },
  { allow = ["read-secret"], on = "secret/strongbox", to = ["user:reader"] },
  { allow = ["seal"], on = "rota/*", to = ["user:captain"] },
]
[systems.box]
kind = "host"
no-command-set = "nothing"
[hosts.box]
jobs.tides = { runs-as = "tides", line = "/opt/tides/bin/all now", edited-by = [] }
run-as = [
  { by = ["user:typist"], as = ["root"], commands = ["tools"], proof = false },
]
writable-by = { "/opt/tides" = ["user:writer"], "/opt/tools" = ["user:typist"], "/opt/tide" = ["user:clerk"] }
[hosts.box.accounts]
writer = {}
typist = {}
clerk = {}
tides = { shell = "/usr/sbin/nologin" }
root = { locked = true }
"#;

#[test]
fn ways_go_over_roles_command_sets_grants_secrets_and_folders() {
    let engine = engine(EDITED);
    let none = Session::default();
    let acting = |account: &str| Session { acting: vec![account.parse().expect("a link")], ..Session::default() };
    let (root, tides) = (acting("account:root"), acting("account:tides"));
    let breakglass = Session { account: Some("breakglass".to_owned()), ..Session::default() };
    let seal = Aim::Do(Sought::Line("seal on rota/tides"), &["roster"], &none);
    let zero = |session| Aim::Do(Sought::Line("zero tally"), &["sw"], session);
    let shell = |session| Aim::Do(Sought::Line("/bin/sh"), &["box"], session);
    for (from, aim, expected) in [
        // Whoever holds the role gets what is put into it; whoever edits it alone does not.
        ("shaper", seal, Some(vec![("shaper", "edit-role on role/planner"), ("shaper", "seal on rota/tides")])),
        ("clerk", seal, None),
        ("filler", zero(&none), Some(vec![("filler", "edit-command-set on command-set/looks"), ("filler", "zero tally")])),
        ("granter", seal, Some(vec![("granter", "grant-on on rota/tides"), ("granter", "seal on rota/tides")])),
        ("reader", seal, Some(vec![("reader", "read-secret on secret/strongbox"), ("captain", "seal on rota/tides")])),
        ("reader", zero(&breakglass), Some(vec![("reader", "read-secret on secret/strongbox"), ("reader", "zero tally")])),
        ("writer", shell(&tides), Some(vec![("writer", "takes in"), ("writer", "/bin/sh")])),
        ("writer", shell(&root), None),
        ("typist", shell(&root), Some(vec![("typist", "takes in"), ("typist", "/bin/sh")])),
        // A folder that begins alike is another.
        ("clerk", shell(&tides), None),
        ("captain", zero(&none), None),
    ] {
        let all = Acts::of(&engine, &[aim]);
        let mut ways = Ways::of(&all, from).expect("the user is known");
        let found = ways.to(aim).as_ref().map(acts);
        assert!(!ways.is_cut_short);
        assert!(found.is_none() || all.candidates(Some(aim)).contains(&from), "{from}: {aim:?}");
        let expected = expected.map(|acts| acts.into_iter().map(|(by, line)| (by.to_owned(), line.to_owned())).collect::<Vec<_>>());
        assert_eq!(found, expected, "{from}: {aim:?}");
    }
    // What the secret opens is told by itself, and counts where the central source does not answer.
    let of = Acts::of(&engine, &[]);
    let mut ways = Ways::of(&of, "reader").expect("the user is known");
    assert!(ways.all().iter().any(|way| way.steps.last().is_some_and(|step| step.gives.contains("account `breakglass` on sw"))));
    let down = Session { central: zest_ledger::ask::Central::Down, ..breakglass.clone() };
    assert_eq!(ways.to(zero(&down)).as_ref().map(acts).map(|acts| acts.len()), Some(2));
}

/// What statements on database servers give to whoever may run them.
const SERVERS: &str = r#"
users.maker.proofs = ["password"]
users.owner.proofs = ["password"]
users.runner.proofs = ["password"]
users.clerk.proofs = ["password"]
users.keys.proofs = ["password"]
users.definer.proofs = ["password"]
users.tables.proofs = ["password"]
users.writer.proofs = ["password"]
users.reader.proofs = ["password"]
users.lent.proofs = ["password"]
[systems.db]
kind = "postgresql"
database = "db"
[databases.db]
owner = "top"
roles = { harbour = {} }
[databases.db.accounts]
top = { may = ["superuser"] }
maker = { may = ["create-role"] }
owner = { member-of = ["harbour"] }
runner = { member-of = ["pg_execute_server_program"] }
clerk = {}
boss = {}
[databases.db.objects."table public.fares"]
owner = "harbour"
columns = { id = "integer" }
row-security = true
row-security-for-owner = true
policies = {}
[[databases.db.grants]]
revoke = ["all"]
on = "table public.fares"
from = ["harbour"]
[[databases.db.grants]]
allow = ["select"]
on = "table public.fares"
to = ["boss"]
[systems.club]
kind = "mariadb"
[databases.club]
roles = { steward = {} }
[databases.club.accounts]
"keys@%" = { used-by = ["user:lent"] }
"definer@%" = {}
"tables@%" = {}
"writer@%" = {}
"reader@%" = {}
"chief@%" = {}
"silent@%" = {}
[databases.club.objects."database club"]
[databases.club.objects."table club.member"]
columns = { id = "int" }
[[databases.club.grants]]
allow = ["create user"]
on = "everything"
to = ["keys@%"]
[[databases.club.grants]]
allow = ["set user"]
on = "everything"
to = ["definer@%"]
[[databases.club.grants]]
allow = ["create routine"]
on = "database club"
to = ["definer@%"]
[[databases.club.grants]]
allow = ["update", "select"]
on = "database mysql"
to = ["tables@%"]
[[databases.club.grants]]
allow = ["insert"]
on = "database mysql"
to = ["writer@%"]
[[databases.club.grants]]
allow = ["delete"]
on = "table club.member"
to = ["chief@%", "silent@%"]
[[databases.club.grants]]
allow = ["execute"]
on = "database club"
to = ["chief@%"]
[[databases.club.grants]]
allow = ["drop"]
on = "table club.member"
to = ["silent@%"]
"#;

/// Adds a hundred accounts of either server that nothing tells apart, whose owners are people, and four of a crew.
fn crowded(ledger: &str) -> String {
    let mut text = ledger.to_owned();
    for (after, host) in [("[databases.db.accounts]\n", ""), ("[databases.club.accounts]\n", "@%")] {
        let accounts: String = (0..100).map(|number| format!("\"spare-{number}{host}\" = {{}}\n")).collect();
        let crew: String = (0..4).map(|number| format!("\"crew-{number}{host}\" = {{ member-of = [\"crew\"] }}\n")).collect();
        assert!(text.contains(after));
        text = text.replace(after, &format!("{after}{accounts}{crew}"));
    }
    let people: String = (0..100).map(|number| format!("users.spare-{number}.proofs = [\"password\"]\n")).collect();
    people + &text.replace("{ harbour = {} }", "{ harbour = {}, crew = {} }").replace("{ steward = {} }", "{ steward = {}, crew = {} }")
}

#[test]
fn ways_go_over_statements_on_database_servers() {
    over_statements(&engine(SERVERS));
}

#[test]
fn accounts_of_a_large_server_that_nothing_tells_apart_change_no_way() {
    let engine = engine(&crowded(SERVERS));
    over_statements(&engine);
    // Those like the one that is meant are counted, whether they are tried or not.
    let acts = Acts::of(&engine, &[]);
    let found = Ways::of(&acts, "maker").expect("the user is known").all();
    let gives: Vec<&str> = found.iter().filter_map(|way| Some(way.steps.last()?.gives.as_str())).collect();
    assert!(gives.iter().any(|gives| gives.contains("`spare-") && gives.ends_with("or as any of 100 others like that")), "{gives:#?}");
    assert!(gives.iter().any(|gives| gives.contains("`crew-") && gives.ends_with("or as any of 3 others like that")), "{gives:#?}");
    // Whoever has an account like others sets out from it.
    let none = Session::default();
    let aim = Aim::Do(Sought::Line("connect on database"), &["db"], &none);
    let acts = Acts::of(&engine, &[aim]);
    let way = Ways::of(&acts, "spare-57").expect("the user is known").to(aim).expect("they may themselves");
    assert_eq!(way.steps.len(), 1);
    // What is written to a user who signs in by such a name is not lost.
    let desk = "[users.desk]\nproofs = [\"password\"]\n[systems.rota]\nkind = \"application\"\n[applications.rota]\n\
                grants = [{ allow = [\"reset-credential\"], on = \"user/spare-9*\", to = [\"user:desk\"] }]\n";
    let granted = "[[databases.db.grants]]\nallow = [\"insert\"]\non = \"table public.fares\"\nto = [\"spare-93\"]\n";
    let engine = self::engine(&format!("{}{desk}{granted}", crowded(SERVERS)));
    for (line, expected) in [("insert on table public.fares", true), ("truncate on table public.fares", false)] {
        let aim = Aim::Do(Sought::Line(line), &["db"], &none);
        let acts = Acts::of(&engine, &[aim]);
        let way = Ways::of(&acts, "desk").expect("the user is known").to(aim);
        assert_eq!(way.is_some(), expected, "{line}: {way:#?}");
    }
}

fn over_statements(engine: &Engine) {
    let none = Session::default();
    let read = Aim::Do(Sought::Line("select on table public.fares"), &["db"], &none);
    let erase = Aim::Do(Sought::Line("delete on table club.member"), &["club"], &none);
    let remove = Aim::Do(Sought::Line("drop on table club.member"), &["club"], &none);
    let drop = Aim::Do(Sought::Statement("drop table public.fares"), &["db"], &none);
    for (from, aim, expected) in [
        ("maker", read, Some("ALTER ROLE \"boss\" PASSWORD 'set anew'")),
        ("lent", erase, Some("ALTER USER 'chief'@'%' IDENTIFIED BY 'set anew'")),
        // Whoever owns it can give it to themselves.
        ("owner", read, Some("GRANT ALL PRIVILEGES ON TABLE \"public\".\"fares\" TO \"owner\"")),
        ("runner", read, Some("COPY (SELECT 1) TO PROGRAM 'cat > /dev/null'")),
        ("runner", drop, Some("COPY (SELECT 1) TO PROGRAM 'cat > /dev/null'")),
        ("clerk", read, None),
        ("keys", erase, Some("ALTER USER 'chief'@'%' IDENTIFIED BY 'set anew'")),
        ("definer", erase, Some("CREATE DEFINER='chief'@'%' PROCEDURE `club`.`anything`() SELECT 1")),
        // Whoever writes these tables writes what anybody may; and may set a password anew as well, which comes first.
        ("tables", erase, Some("ALTER USER 'chief'@'%' IDENTIFIED BY 'set anew'")),
        ("writer", remove, Some("INSERT INTO mysql.global_priv VALUES ('%', 'new', '{}')")),
        // A routine does nothing as a definer who may not execute it.
        ("definer", remove, None),
        ("reader", erase, None),
    ] {
        let all = Acts::of(engine, &[aim]);
        let mut ways = Ways::of(&all, from).expect("the user is known");
        let found = ways.to(aim);
        let first = found.as_ref().map(|way| way.steps[0].question.as_ref().expect("it is asked").line.as_str());
        assert_eq!(first, expected, "{from}: {aim:?}: {found:#?}");
        // Whoever holds nothing of that sort is not even looked at.
        let is_looked_at = all.candidates(Some(aim)).contains(&from);
        assert!(is_looked_at != ["clerk", "reader"].contains(&from), "{from}: {aim:?}");
    }
    // Whoever owns a table lets its rows be seen by those who may read it.
    let all = Acts::of(engine, &[]);
    let shown = Ways::of(&all, "owner").expect("the user is known").all();
    let last: Vec<&str> = shown.iter().filter_map(|way| Some(way.steps.last()?.gives.as_str())).collect();
    assert!(last.contains(&"table public.fares on db shows all its rows"), "{last:?}");
}

#[test]
fn ways_go_over_active_roles_and_definers() {
    const ROLES: &str = r#"
users.nested.proofs = ["password"]
users.aside.proofs = ["password"]
users.made.proofs = ["password"]
users.timed.proofs = ["password"]
users.shown.proofs = ["password"]
users.half.proofs = ["password"]
users.out.proofs = ["password"]
[systems.db]
kind = "postgresql"
database = "db"
[databases.db]
owner = "top"
roles = { night = { may = ["create-role"] }, steward = { member-of = ["night"] } }
accounts = { top = { may = ["superuser"] }, nested = { member-of = ["steward"] }, aside = { inherit = false, member-of = ["pg_write_server_files"] }, boss = {}, out = {} }
objects."table public.fares" = { owner = "boss", columns = { id = "integer" } }
grants = [{ allow = ["usage"], on = "schema public", to = ["public"] }]
[systems.club]
kind = "mariadb"
[databases.club]
roles = { keys = {}, night = { member-of = ["keys"] }, makes = {}, chiefs = {}, idle = {} }
[databases.club.accounts]
"nested@%" = { member-of = ["night"] }
"aside@%" = { member-of = ["makes"] }
"made@%" = {}
"timed@%" = {}
"shown@%" = {}
"half@%" = {}
"early@%" = {}
"out@%" = {}
"chief@%" = { member-of = ["chiefs"] }
"slow@%" = { member-of = ["chiefs"], default-role = "chiefs" }
[databases.club.objects]
"database club" = {}
"table club.member" = { columns = { id = "int" } }
[[databases.club.grants]]
allow = ["create user"]
on = "everything"
to = ["keys"]
[[databases.club.grants]]
allow = ["set user"]
on = "everything"
to = ["aside@%", "made@%", "timed@%", "shown@%"]
[[databases.club.grants]]
allow = ["create routine"]
on = "database club"
to = ["makes", "made@%"]
[[databases.club.grants]]
allow = ["event"]
on = "database club"
to = ["timed@%", "chiefs"]
[[databases.club.grants]]
allow = ["event"]
on = "database club"
to = ["early@%"]
[[databases.club.grants]]
allow = ["insert"]
on = "table club.member"
to = ["early@%"]
[[databases.club.grants]]
allow = ["reload"]
on = "everything"
to = ["half@%"]
[[databases.club.grants]]
allow = ["create routine", "event", "create view", "trigger"]
on = "database club"
to = ["half@%"]
[[databases.club.grants]]
allow = ["create view", "trigger"]
on = "database club"
to = ["shown@%"]
[[databases.club.grants]]
allow = ["execute"]
on = "database club"
to = ["chief@%"]
[[databases.club.grants]]
allow = ["delete"]
on = "table club.member"
to = ["chiefs"]
[[databases.club.grants]]
allow = ["drop"]
on = "table club.member"
to = ["slow@%"]
"#;
    let engine = engine(ROLES);
    let none = Session::default();
    let create = |by: &str, what: &str| format!("CREATE DEFINER={by} {what}");
    let (routine, event) = ("PROCEDURE `club`.`anything`() SELECT 1", "EVENT `club`.`anything` ON SCHEDULE EVERY 1 HOUR DO SELECT 1");
    for (from, on, line, expected) in [
        // Nobody inherits that somebody may make roles: it is there while that role is active.
        ("nested", "db", "select on table public.fares", Some((Some("night"), "ALTER ROLE \"boss\" PASSWORD 'set anew'".to_owned()))),
        // Who does not inherit has to become the role first.
        (
            "aside",
            "db",
            "delete on table public.fares",
            Some((Some("pg_write_server_files"), "COPY (SELECT 1) TO '/tmp/anything'".to_owned())),
        ),
        ("out", "db", "select on table public.fares", None),
        // A role by way of another is there while that other one is active.
        (
            "nested",
            "club",
            "delete on table club.member",
            Some((Some("night"), "ALTER USER 'chief'@'%' IDENTIFIED BY 'set anew'".to_owned())),
        ),
        // One half of what it takes is the account's own, the other that of a role.
        ("aside", "club", "delete on table club.member", Some((Some("makes"), create("'chief'@'%'", routine)))),
        ("made", "club", "delete on table club.member", Some((None, create("'chief'@'%'", routine)))),
        // Whoever has no right to execute it but by a role does nothing as definer of a routine.
        ("made", "club", "drop on table club.member", None),
        // An event runs as an account that has the right to events, but not by a role alone.
        ("timed", "club", "insert on table club.member", Some((None, create("'early'@'%'", event)))),
        ("timed", "club", "drop on table club.member", None),
        // Who may not say as whom it runs comes to nothing.
        ("half", "club", "delete on table club.member", None),
        ("shown", "club", "delete on table club.member", None),
        ("out", "club", "delete on table club.member", None),
    ] {
        let systems = [on];
        let aim = Aim::Do(Sought::Line(line), &systems, &none);
        let acts = Acts::of(&engine, &[aim]);
        let way = Ways::of(&acts, from).expect("the user is known").to(aim);
        let first = way.as_ref().and_then(|way| way.steps[0].question.as_ref());
        let role = |question: &Question| question.session.active_roles.as_ref().map(|roles| roles.join(" "));
        let found = first.map(|question| (role(question), question.line.clone()));
        assert_eq!(found, expected.map(|(role, line)| (role.map(str::to_owned), line)), "{from}: {line}: {way:#?}");
        assert!(way.is_none() || acts.candidates(Some(aim)).contains(&from), "{from}: {line}");
        // That nobody comes there is proved, but of whoever makes views that run as others, or routines that run as a role.
        let standing = match (from, first) {
            (_, Some(_)) => Standing::Refuted,
            ("shown" | "made" | "timed", None) => Standing::NotProved,
            _ => Standing::Proved,
        };
        let row = format!("[[promises]]\nof = [\"user:{from}\"]\non = [\"{on}\"]\nno-way = [\"{line}\"]\n");
        let promised = promises(&self::engine(&format!("{ROLES}{row}")), jiff::Timestamp::UNIX_EPOCH);
        assert_eq!(promised[0].standing, standing, "{from}: {line}: {promised:#?}");
    }
    // What everybody is a member of is there for everybody.
    let of_all = "[[databases.club.grants]]\nallow = [\"membership\"]\non = \"role keys\"\nto = [\"public\"]\n\
                  [[promises]]\nof = [\"user:out\"]\non = [\"club\"]\nno-way = [\"delete on table club.member\"]\n";
    let promised = promises(&self::engine(&format!("{ROLES}{of_all}")), jiff::Timestamp::UNIX_EPOCH);
    assert_eq!(promised[0].standing, Standing::Refuted, "{promised:#?}");
}

#[test]
fn ways_go_through_views_and_routines_that_run_as_others() {
    const BEHIND: &str = r#"
users.reader.proofs = ["password"]
users.caller.proofs = ["password"]
users.desk.proofs = ["password"]
users.out.proofs = ["password"]
[systems.desk]
kind = "application"
[applications.desk]
grants = [{ allow = ["reset-credential"], on = "user/caller", to = ["user:desk"] }]
[systems.db]
kind = "postgresql"
database = "db"
[databases.db]
owner = "keeper"
roles = { keeper = {} }
accounts = { reader = {}, caller = {}, out = {} }
objects."table public.fares" = { owner = "keeper", columns = { id = "integer", price = "integer" } }
objects."view public.ids" = { owner = "keeper", columns = { id = "integer" }, query = "SELECT fares.id FROM fares" }
objects."view public.own" = { owner = "keeper", columns = { price = "integer" }, query = "SELECT fares.price FROM fares", runs-as = "caller" }
objects."function public.sweep(integer, text)" = { owner = "keeper", returns = "void", language = "sql", body = "DELETE FROM public.fares", runs-as = "owner" }
objects."procedure public.fill()" = { owner = "keeper", language = "sql", body = "INSERT INTO public.fares (id) VALUES (1)", runs-as = "caller" }
grants = [
  { allow = ["usage"], on = "schema public", to = ["reader", "caller", "out"] },
  { revoke = ["all"], on = ["function public.sweep(integer, text)"], from = ["public"] },
  { allow = ["execute"], on = "function public.sweep(integer, text)", to = ["caller"] },
  { allow = ["select", "update"], on = ["view public.ids", "view public.own"], to = ["reader"] },
]
[systems.club]
kind = "mariadb"
[databases.club]
accounts = { "reader@%" = {}, "caller@%" = {}, "chief@%" = {} }
objects."database club" = {}
objects."table club.member" = { columns = { id = "int", email = "text" } }
objects."view club.all" = { owner = "chief@%", columns = { id = "int", email = "text" }, query = "select `club`.`member`.`id` AS `id`,`club`.`member`.`email` AS `email` from `club`.`member`", runs-as = "owner" }
objects."procedure club.sweep" = { owner = "chief@%", parameters = "IN a int", body = "DELETE FROM club.member", runs-as = "owner" }
objects."procedure club.mine" = { owner = "chief@%", body = "INSERT INTO club.member (id) VALUES (1)", runs-as = "caller" }
grants = [
  { allow = ["all"], on = "database club", to = ["chief@%"] },
  { allow = ["select"], on = "view club.all", to = ["reader@%"] },
  { allow = ["execute"], on = ["procedure club.sweep", "procedure club.mine"], to = ["caller@%"] },
]
"#;
    let engine = engine(BEHIND);
    let none = Session::default();
    for (from, on, line, expected) in [
        ("reader", "db", "select (id) on table public.fares", Some(vec!["SELECT * FROM \"public\".\"ids\""])),
        // A view shows what is in it, and no more.
        ("reader", "db", "select on table public.fares", None),
        ("reader", "db", "select (price) on table public.fares", None),
        ("reader", "db", "update (id) on table public.fares", Some(vec!["UPDATE \"public\".\"ids\" SET \"id\" = NULL"])),
        ("reader", "db", "delete on table public.fares", None),
        ("caller", "db", "delete on table public.*", Some(vec!["SELECT \"public\".\"sweep\"(NULL::integer, NULL::text)"])),
        ("caller", "db", "insert (id) on table public.fares", None),
        ("caller", "db", "pass on delete on table public.fares", None),
        ("out", "db", "delete on table public.fares", None),
        // Whoever signs in as somebody has what is done in others' names as well.
        (
            "desk",
            "db",
            "delete on table public.fares",
            Some(vec!["reset-credential on user/caller", "SELECT \"public\".\"sweep\"(NULL::integer, NULL::text)"]),
        ),
        ("reader", "club", "select on table club.member", Some(vec!["SELECT * FROM `club`.`all`"])),
        ("caller", "club", "delete on table club.member", Some(vec!["CALL `club`.`sweep`(@anything)"])),
        ("caller", "club", "insert on table club.member", None),
        ("reader", "club", "delete on table club.member", None),
    ] {
        let sought = if line.contains('*') { Sought::Like(line) } else { Sought::Line(line) };
        let systems = [on];
        let aim = Aim::Do(sought, &systems, &none);
        let all = Acts::of(&engine, &[aim]);
        let found = Ways::of(&all, from).expect("the user is known").to(aim).as_ref().map(acts);
        assert!(found.is_none() || all.candidates(Some(aim)).contains(&from), "{from}: {line}");
        let lines = found.map(|acts| acts.into_iter().map(|(_, line)| line).collect::<Vec<_>>());
        assert_eq!(lines, expected.map(|lines| lines.into_iter().map(str::to_owned).collect()), "{from}: {line}");
    }
    // That no way leads there is not promised either.
    for (who, standing) in [("caller", Standing::Refuted), ("out", Standing::Proved), ("desk", Standing::Refuted)] {
        let row = format!("[[promises]]\nof = [\"user:{who}\"]\non = [\"db\"]\nno-way = [\"delete on table public.fares\"]\n");
        let found = promises(&self::engine(&format!("{BEHIND}{row}")), jiff::Timestamp::UNIX_EPOCH);
        assert_eq!(found[0].standing, standing, "{who}: {found:#?}");
    }
    // What a routine does whose text is of another language is not known, so neither is where it leads whoever may call it.
    let in_plpgsql = |body: &str| {
        let of = BEHIND
            .replace("language = \"sql\", body = \"DELETE FROM public.fares\"", &format!("language = \"plpgsql\", body = \"{body}\""));
        assert_ne!(of, BEHIND);
        of
    };
    let unread = in_plpgsql("begin execute 'nothing'; end");
    for (body, standing) in [
        ("begin null; end", Standing::Proved),
        ("begin delete from public.fares; end", Standing::Refuted),
        ("begin if 1 = 1 then delete from public.fares where id = 1; end if; end", Standing::Refuted),
    ] {
        let row = "[[promises]]\nof = [\"user:caller\"]\non = [\"db\"]\nno-way = [\"delete on table public.fares\"]\n";
        let found = promises(&self::engine(&format!("{}{row}", in_plpgsql(body))), jiff::Timestamp::UNIX_EPOCH);
        assert_eq!(found[0].standing, standing, "{body}: {found:#?}");
    }
    for (who, line, standing) in [
        ("caller", "delete on table public.fares", Standing::NotProved),
        ("desk", "delete on table public.fares", Standing::NotProved),
        ("caller", "insert (price) on table public.fares", Standing::NotProved),
        ("out", "delete on table public.fares", Standing::Proved),
        ("reader", "delete on table public.fares", Standing::Proved),
    ] {
        let row = format!("[[promises]]\nof = [\"user:{who}\"]\non = [\"db\"]\nno-way = [\"{line}\"]\n");
        let found = promises(&self::engine(&format!("{unread}{row}")), jiff::Timestamp::UNIX_EPOCH);
        assert_eq!(found[0].standing, standing, "{who}: {found:#?}");
    }
}

#[test]
fn whoever_edits_a_role_or_grants_on_a_resource_may_what_is_no_part_of_all() {
    let ledger = |act: &str| {
        format!(
            "users.desk.proofs = [\"password\"]\nusers.boss.proofs = [\"password\"]\n[groups.keepers]\nmembers = [\"user:boss\"]\n\
             [roles.planner]\n[[assignments]]\nto = [\"user:desk\"]\nroles = [\"planner\"]\non = {{ systems = [\"sky\"] }}\n\
             [systems.sky]\nkind = \"cloud\"\n[clouds.sky]\noperations.look = {{}}\n\
             resources = {{ yard = {{}}, \"secret\" = {{}}, \"secret/boss\" = {{ opens = [\"user:boss\"] }} }}\n\
             grants = [{{ allow = [\"look\"], on = \"yard\", to = [\"group:keepers\"] }}, \
             {{ allow = [\"{act}\"], on = [\"role/planner\", \"secret\"], to = [\"user:desk\"] }}]\n"
        )
    };
    let none = Session::default();
    for (act, aim, expected) in [
        // Whoever edits a role that they hold lets it look at the yard itself.
        ("edit-role", "look on yard", vec!["edit-role on role/planner", "look on yard"]),
        ("edit-role", "change-members on group/keepers", vec!["edit-role on role/planner", "change-members on group/keepers"]),
        ("edit-role", "reset-credential on user/boss", vec!["edit-role on role/planner", "reset-credential on user/boss"]),
        ("grant-on", "look on yard", vec!["grant-on on secret", "read-secret on secret/boss", "look on yard"]),
        ("grant-on", "reset-credential on user/boss", vec![]),
    ] {
        let engine = engine(&ledger(act));
        let aim = Aim::Do(Sought::Line(aim), &["sky"], &none);
        let found = Ways::of(&Acts::of(&engine, &[aim]), "desk").expect("the user is known").to(aim).as_ref().map(acts);
        let lines: Vec<String> = found.into_iter().flatten().map(|(_, line)| line).collect();
        assert_eq!(lines, expected, "{act}: {aim:?}");
    }
}

#[test]
fn ways_go_through_what_runs_along_when_somebody_writes() {
    const ALONG: &str = r#"
users.writer.proofs = ["password"]
users.out.proofs = ["password"]
[systems.db]
kind = "postgresql"
database = "db"
[databases.db]
owner = "keeper"
roles = { keeper = {} }
accounts = { writer = {}, out = {} }
objects."table public.fares" = { owner = "keeper", columns = { id = "integer" } }
objects."table public.hints" = { owner = "keeper", columns = { id = "integer" } }
objects."type public.tide" = { owner = "keeper" }
objects."view public.shown" = { owner = "keeper", columns = { id = "integer" }, query = "SELECT hints.id FROM hints" }
objects."function public.note()" = { owner = "keeper", returns = "trigger", language = "plpgsql", body = "begin execute 'nothing'; end", runs-as = "owner" }
grants = [
  { allow = ["usage"], on = "schema public", to = ["writer", "out"] },
  { allow = ["insert", "update", "delete"], on = ["table public.hints", "view public.shown"], to = ["writer"] },
  { allow = ["select"], on = ["table public.hints", "view public.shown"], to = ["writer", "out"] },
]
[systems.club]
kind = "mariadb"
[databases.club]
accounts = { "writer@%" = {}, "out@%" = {} }
objects."database club" = {}
objects."table club.member" = { columns = { id = "int" } }
objects."table club.hints" = { columns = { id = "int" } }
grants = [
  { allow = ["insert"], on = "table club.hints", to = ["writer@%"] },
  { allow = ["select"], on = "table club.hints", to = ["out@%"] },
]
"#;
    const HINTS: &str = "objects.\"table public.hints\" = { owner = \"keeper\", ";
    let hints = |says: &str| ALONG.replace(HINTS, &format!("{HINTS}{says}, "));
    let rule = |name: &str, act: &str, does: &str| {
        hints(&format!("rules = {{ {name} = \"CREATE RULE {name} AS ON {act} TO public.hints DO {does}\" }}"))
    };
    let trigger = |act: &str| {
        hints(&format!(
            "triggers = {{ note = \"CREATE TRIGGER note AFTER {act} ON public.hints FOR EACH ROW EXECUTE FUNCTION public.note()\" }}"
        ))
    };
    // Through the view of somebody else the trigger is not followed at all.
    let of_caller = |ledger: String| {
        let of_caller = ledger.replace(", runs-as = \"owner\" }", ", runs-as = \"caller\" }");
        of_caller.replace("[\"table public.hints\", \"view public.shown\"], to = [\"writer\"]", "\"table public.hints\", to = [\"writer\"]")
    };
    let on_club =
        ALONG.replace("objects.\"table club.hints\" = { ", "objects.\"table club.hints\" = { not-modelled = [\"trigger log on insert\"], ");
    let club_trigger = |event: &str, does: &str| {
        let of = ALONG
            .replace("\"out@%\" = {} }", "\"out@%\" = {}, \"keeper@%\" = {} }")
            .replace("  { allow = [\"select\"], on = \"table club.hints\"", "  { allow = [\"trigger\"], on = \"table club.hints\", to = [\"keeper@%\"] },\n  { allow = [\"delete\"], on = \"table club.member\", to = [\"keeper@%\"] },\n  { allow = [\"select\"], on = \"table club.hints\"");
        let made = format!("CREATE DEFINER='keeper'@'%' TRIGGER club.log AFTER {event} ON club.hints FOR EACH ROW {does}");
        of.replace("objects.\"table club.hints\" = { ", &format!("objects.\"table club.hints\" = {{ triggers = {{ log = \"{made}\" }}, "))
    };
    let disabled = trigger("INSERT").replace("public.note()\" }", "public.note(); ALTER TABLE public.hints DISABLE TRIGGER note\" }");
    let no_columns = trigger("INSERT")
        .replace("public.note()\" }, columns = { id = \"integer\" } }", "public.note()\" } }")
        .replace("[\"table public.hints\", \"view public.shown\"], to = [\"writer\", \"out\"]", "\"table public.hints\", to = [\"out\"]");
    use Standing::{NotProved, Proved, Refuted};
    for (what, ledger, on, line, writer) in [
        ("nothing runs along", ALONG.to_owned(), "db", "delete on table public.fares", Proved),
        // A rule does what it does as the owner of the table.
        ("a rule", rule("sweep", "INSERT", "ALSO DELETE FROM public.fares"), "db", "delete on table public.fares", Refuted),
        ("another act", rule("sweep", "INSERT", "ALSO DELETE FROM public.fares"), "db", "insert on table public.fares", Proved),
        ("instead", rule("sweep", "DELETE", "INSTEAD DELETE FROM public.fares"), "db", "delete on table public.fares", Refuted),
        // Nobody may truncate, and no rule fires for a SELECT.
        ("nothing", rule("sweep", "INSERT", "INSTEAD NOTHING"), "db", "delete on table public.fares", Proved),
        // What a trigger of another language does as its owner is not known.
        ("a trigger", trigger("INSERT"), "db", "delete on table public.fares", NotProved),
        (
            "one that is followed",
            trigger("INSERT").replace("begin execute 'nothing'; end", "begin delete from public.fares; return new; end"),
            "db",
            "delete on table public.fares",
            Refuted,
        ),
        (
            "one that is followed, and does something else",
            trigger("INSERT").replace("begin execute 'nothing'; end", "begin return new; end"),
            "db",
            "delete on table public.fares",
            Proved,
        ),
        ("of an act they may not", trigger("TRUNCATE"), "db", "delete on table public.fares", Proved),
        ("a trigger of a column", trigger("UPDATE OF id"), "db", "select on table public.fares", NotProved),
        ("columns that are not written", no_columns, "db", "delete on table public.fares", NotProved),
        ("as the caller", of_caller(trigger("INSERT")), "db", "delete on table public.fares", Proved),
        ("disabled", disabled, "db", "delete on table public.fares", Proved),
        ("on MariaDB", on_club.clone(), "club", "delete on table club.member", NotProved),
        ("followed on MariaDB", club_trigger("INSERT", "DELETE FROM club.member"), "club", "delete on table club.member", Refuted),
        (
            "behind a condition",
            club_trigger("INSERT", "BEGIN IF NEW.id > 5 THEN DELETE FROM club.member; END IF; END"),
            "club",
            "delete on table club.member",
            // Its definer may not read the row.
            NotProved,
        ),
        ("something else on MariaDB", club_trigger("INSERT", "SET @a = 1"), "club", "delete on table club.member", Proved),
        ("another act on MariaDB", club_trigger("UPDATE", "DELETE FROM club.member"), "club", "delete on table club.member", Proved),
        (
            "not followed on MariaDB",
            club_trigger("INSERT", "EXECUTE IMMEDIATE 'nothing'"),
            "club",
            "delete on table club.member",
            NotProved,
        ),
        ("on MariaDB, without one", ALONG.to_owned(), "club", "delete on table club.member", Proved),
    ] {
        for (who, standing) in [("writer", writer), ("out", Proved)] {
            let row = format!("[[promises]]\nof = [\"user:{who}\"]\non = [\"{on}\"]\nno-way = [\"{line}\"]\n");
            let found = promises(&engine(&format!("{ledger}{row}")), jiff::Timestamp::UNIX_EPOCH);
            assert_eq!(found[0].standing, standing, "{what}, {who}: {found:#?}");
        }
    }
    // An argument needs no right to the name of its type, and what a view writes to runs its rules.
    let of_type = ALONG.replace(
        "objects.\"type public.tide\" = { owner = \"keeper\" }",
        "objects.\"schema pier\" = { owner = \"keeper\" }\nobjects.\"type pier.tide\" = { owner = \"keeper\" }\n\
         objects.'function public.f(pier.tide, \"char\", bit varying)' = { owner = \"keeper\", returns = \"void\", language = \"sql\", \
         body = \"DELETE FROM public.fares\", runs-as = \"owner\" }",
    );
    let by_view = rule("sweep", "INSERT", "ALSO DELETE FROM public.fares")
        .replace("[\"table public.hints\", \"view public.shown\"], to = [\"writer\"]", "\"view public.shown\", to = [\"writer\"]");
    for (ledger, who) in [(of_type, "out"), (by_view, "writer")] {
        let row = format!("[[promises]]\nof = [\"user:{who}\"]\non = [\"db\"]\nno-way = [\"delete on table public.fares\"]\n");
        let found = promises(&engine(&format!("{ledger}{row}")), jiff::Timestamp::UNIX_EPOCH);
        assert_eq!(found[0].standing, Refuted, "{who}: {found:#?}");
    }
}

#[test]
fn names_are_written_as_they_are_whatever_is_in_them() {
    const ODD: &str = r#"
users.maker.proofs = ["password"]
users.keys.proofs = ["password"]
users.owner.proofs = ["password"]
[systems.db]
kind = "postgresql"
database = "db"
[databases.db]
owner = "top"
[databases.db.accounts]
top = { may = ["superuser"] }
maker = { may = ["create-role"] }
owner = {}
"bo\"ss's" = {}
[databases.db.objects."materialised view public.sums"]
owner = "owner"
query = "SELECT 1"
[[databases.db.grants]]
revoke = ["all"]
on = "materialised view public.sums"
from = ["owner"]
[[databases.db.grants]]
allow = ["create"]
on = "database"
to = ["bo\"ss's"]
[systems.club]
kind = "mariadb"
[databases.club.accounts]
"keys@%" = {}
"o'brien@%" = {}
[databases.club.objects."database club"]
[[databases.club.grants]]
allow = ["create user"]
on = "everything"
to = ["keys@%"]
[[databases.club.grants]]
allow = ["drop"]
on = "database club"
to = ["o'brien@%"]
"#;
    let engine = engine(ODD);
    let none = Session::default();
    let line = Sought::Line;
    for (from, system, sought, expected) in [
        ("maker", ["db"], line("create on database"), "ALTER ROLE \"bo\"\"ss's\" PASSWORD 'set anew'"),
        // Whoever may hand out roles may hand out those of the server itself.
        ("maker", ["db"], Sought::Statement("CREATE ROLE anybody SUPERUSER"), "GRANT \"pg_execute_server_program\" TO \"maker\""),
        (
            "owner",
            ["db"],
            line("select on materialised view public.sums"),
            "GRANT ALL PRIVILEGES ON TABLE \"public\".\"sums\" TO \"owner\"",
        ),
        ("keys", ["club"], line("drop on database club"), "ALTER USER 'o''brien'@'%' IDENTIFIED BY 'set anew'"),
    ] {
        let aim = Aim::Do(sought, &system, &none);
        let found = Ways::of(&Acts::of(&engine, &[aim]), from).expect("the user is known").to(aim);
        let first = found.as_ref().map(|way| way.steps[0].question.as_ref().expect("it is asked").line.as_str());
        assert_eq!(first, Some(expected), "{from}: {found:#?}");
    }
}

#[test]
fn a_promise_that_no_way_leads_is_proved_or_refuted_by_one() {
    use Standing::{NotProved, Proved, Refuted, SaysNothing};
    for (ledger, row, standing, part) in [
        (LEDGER, r#"no-way = ["seal on **"], on = ["roster"], of = ["user:out", "user:coder"], but = ["user:coder"]"#, Proved, ""),
        (
            LEDGER,
            r#"no-way = ["seal on **"], on = ["roster"], of = ["user:out", "user:coder"]"#,
            Refuted,
            "coder > seal on rota/tides on roster",
        ),
        (
            LEDGER,
            r#"no-way = ["seal on **"], on = ["roster"], of = ["group:help"]"#,
            Refuted,
            "desk > reset-credential on user/rota on roster > as rota: seal on rota/tides on roster",
        ),
        (LEDGER, r#"no-way = ["/bin/sh"], on = ["box"], of = ["user:out"]"#, Proved, ""),
        (LEDGER, r#"no-way = ["sell on **"], on = ["roster"]"#, SaysNothing, "takes nothing"),
        (EDITED, r#"no-way = ["seal on **"], on = ["roster"], of = ["user:clerk"]"#, Proved, ""),
        (EDITED, r#"no-way = ["seal on **"], on = ["roster"], of = ["user:shaper"]"#, Refuted, "edit-role on role/planner"),
    ] {
        let with = engine(&format!("{ledger}\n[[promises]]\n{}\n", row.replace("], ", "]\n")));
        let found = promises(&with, "2026-11-28T12:00:00Z".parse().expect("a moment")).pop().expect("a promise");
        assert_eq!(found.standing, standing, "{row}: {found:#?}");
        let told: Vec<&str> = found.why.iter().chain(found.witnesses.iter().map(|witness| &witness.why)).map(String::as_str).collect();
        assert!(part.is_empty() || told.iter().any(|text| text.contains(part)), "{row}: {told:#?}");
        // What is shown as an example can be done as things are.
        for witness in &found.witnesses {
            assert_ne!(with.decide(&witness.question).verdict, Verdict::Denied, "{row}: {witness:#?}");
        }
        assert_ne!(found.standing, NotProved);
    }
}

#[test]
fn ways_to_the_top_that_nobody_meant_are_findings() {
    let at: jiff::Timestamp = "2026-11-28T12:00:00Z".parse().expect("a moment");
    let told = |ledger: &str| -> Vec<String> {
        let found = unmeant(&engine(ledger), Some(at));
        found.list().iter().map(|finding| format!("{} {}", finding.code.slug(), finding.message)).collect()
    };
    let device = r#"
users.top.proofs = ["password"]
users.desk.proofs = ["password"]
[vocabularies.make]
commands = [{ line = "show log" }, { line = "leave", level = 0, does = "leave-session" }, { line = "elevate {level: 0-15}", level = 0, does = "elevate" }]
[command-sets.all]
rules = ["allow ..."]
[systems.sw]
kind = "network-device"
vocabulary = "make"
no-command-set = "nothing"
authorisation = { levels = "all", configuration = true }
[roles.top]
band = { start = 1, ceiling = 15 }
commands = ["all"]
[[assignments]]
to = ["user:top"]
roles = ["top"]
on = { systems = ["sw"] }
[systems.desk]
kind = "application"
[applications.desk]
types.x.rights = ["plan"]
grants = [{ allow = ["reset-credential"], on = "user/top", to = ["user:desk"] }]
"#;
    let host = LEDGER.replace("[systems.db]", "[systems.other]").replace("[databases.db]", "[databases.other]");
    for (ledger, expected) in [
        (device, vec!["`desk` comes to the top of `sw` in 2 steps"]),
        // By their own rights is no way.
        (&device.replace("user/top", "user/desk"), vec![]),
        // Two on the host: the help desk and whoever takes themselves in; and the roles of a server.
        (&host, vec!["`rota` comes to the top of `box` in 3 steps, and so do 2 others"]),
        (SERVERS, vec!["`runner` comes to the top of `db` in 2 steps", "`keys` comes to the top of `club` in 2 steps, and so do 2 others"]),
    ] {
        let found = told(ledger);
        for expected in &expected {
            let is_told = found.iter().any(|text| text.starts_with("way-to-top") && text.contains(expected));
            assert!(is_told, "{expected}: {found:#?}");
        }
        assert!(!expected.is_empty() || found.is_empty(), "{found:#?}");
    }
    // Of a group into which somebody is taken, nobody could be asked who does not own it.
    for (ledger, is_told) in [(&host, true), (&host.replace("[groups.keepers]\n", "[groups.keepers]\nowners = [\"user:lead\"]\n"), false)] {
        let found = told(ledger);
        let is_it = |text: &String| text.starts_with("ownerless-step nobody owns the group `keepers`");
        assert_eq!(found.iter().any(is_it), is_told, "{found:#?}");
    }
    // The outermost container is one that can be granted on; what is about entries needs a name.
    let sky = r#"
users.boss.proofs = ["password"]
users.desk.proofs = ["password"]
[systems.sky]
kind = "cloud"
[clouds.sky]
operations.look = {}
resources.yard = {}
resources.secret = {}
grants = [
  { allow = ["grant-on"], on = "yard", to = ["user:boss"] },
  { allow = ["read-secret"], on = "secret", to = ["user:boss"] },
  { allow = ["reset-credential"], on = "user/boss", to = ["user:desk"] },
]
"#;
    for (line, verdict) in
        [("grant-on on yard", Verdict::Allowed), ("grant-on on yerd", Verdict::Denied), ("read-secret on secret", Verdict::Denied)]
    {
        assert_eq!(engine(sky).decide(&Question::new("boss", "sky", line)).verdict, verdict, "{line}");
    }
    let found = told(sky);
    assert!(found.len() == 1 && found[0].contains("`desk` comes to the top of `sky` in 2 steps"), "{found:#?}");
    // What is meant is not told, as long as it is.
    for (meant, is_told) in [
        ("who = [\"user:desk\"]\nbecause = \"they sit beside each other\"", false),
        ("who = [\"user:desk\"]\non = [\"sw\"]\nbecause = \"they sit beside each other\"", false),
        ("who = [\"user:desk\"]\non = [\"desk\"]\nbecause = \"they sit beside each other\"", true),
        ("who = [\"user:top\"]\nbecause = \"they sit beside each other\"", true),
        ("who = [\"user:desk\"]\nbecause = \"they sit beside each other\"\nuntil = 2026-11-01", true),
        ("who = [\"user:desk\"]\nbecause = \"they sit beside each other\"\nuntil = 2026-12-01", false),
    ] {
        let found = told(&format!("{device}[[meant-ways]]\n{meant}\n"));
        assert_eq!(found.iter().any(|text| text.starts_with("way-to-top")), is_told, "{meant}: {found:#?}");
    }
    // Whoever is named and is not there is said.
    let found = told(&format!("{device}[[meant-ways]]\nwho = [\"user:dask\"]\non = [\"swan\"]\nbecause = \"a slip\"\n"));
    assert_eq!(found.iter().filter(|text| text.starts_with("not-asked")).count(), 2, "{found:#?}");
    assert!(found.iter().any(|text| text.starts_with("way-to-top")), "{found:#?}");
}

/// What a plain search comes to: everybody whose password can be set anew, and every group that can be joined, in plain sessions.
fn plainly(engine: &Engine, from: &str) -> BTreeSet<String> {
    let users: Vec<String> = engine.estate().users().iter().map(|user| user.id.value.clone()).collect();
    let groups: Vec<String> = engine.estate().groups().iter().map(|group| group.id.value.clone()).collect();
    let systems: Vec<String> = engine.estate().systems().iter().map(|system| system.id.value.clone()).collect();
    let mut seen: BTreeSet<BTreeSet<String>> = BTreeSet::new();
    let mut open: Vec<BTreeSet<String>> = vec![BTreeSet::new()];
    let mut come_to: BTreeSet<String> = BTreeSet::new();
    while let Some(state) = open.pop() {
        if !seen.insert(state.clone()) || seen.len() > 400 {
            continue;
        }
        come_to.extend(state.iter().cloned());
        let joins: Vec<Change> = state
            .iter()
            .filter_map(|fact| fact.strip_prefix("joins ")?.split_once(' '))
            .map(|(user, group)| Change::JoinGroup { group: group.to_owned(), user: user.to_owned() })
            .collect();
        let Ok(here) = engine.with(&joins) else { continue };
        let mine: Vec<&str> = std::iter::once(from).chain(state.iter().filter_map(|fact| fact.strip_prefix("becomes "))).collect();
        for user in &mine {
            let password = Some(vec![Proven { proof: Proof::Password, age: jiff::SignedDuration::ZERO, channel: None }]);
            let session = Session { proofs: password.filter(|_| *user != from), ..Session::default() };
            let may = |system: &str, line: String| {
                here.decide(&Question::in_session(user, system, &line, session.clone())).verdict != Verdict::Denied
            };
            for system in &systems {
                for target in users.iter().filter(|target| *target != from) {
                    let has_password = engine
                        .estate()
                        .users()
                        .iter()
                        .any(|u| u.id.value == *target && u.proofs.iter().any(|p| p.value == Proof::Password));
                    if has_password && target != user && may(system, format!("reset-credential on user/{target}")) {
                        open.push(state.iter().cloned().chain([format!("becomes {target}")]).collect());
                    }
                }
                for group in &groups {
                    if may(system, format!("change-members on group/{group}")) {
                        open.push(state.iter().cloned().chain([format!("joins {from} {group}")]).collect());
                    }
                }
            }
            for group in here.estate().groups().iter() {
                let id = here.find_user(user, false).expect("they are known");
                let is_owner = group.owners.iter().any(|owner| {
                    owner.value == format!("user:{user}")
                        || owner.value.strip_prefix("group:").is_some_and(|of| {
                            let row = here.estate().groups().iter().position(|g| g.id.value == of).expect("it is there");
                            here.membership().belongs(id, zest_ledger::estate::Party::Group(zest_ledger::estate::GroupId::new(row)))
                        })
                });
                if is_owner {
                    open.push(state.iter().cloned().chain([format!("joins {from} {}", group.id.value)]).collect());
                }
            }
        }
    }
    come_to
}

/// A small estate of people who may administer each other.
fn people(random: &mut Rng) -> String {
    let mut text = String::from("[systems.rota]\nkind = \"application\"\n");
    for user in 0..5 {
        let proofs = if random.usize(0..4) == 0 { "\"key\"" } else { "\"password\", \"key\"" };
        text += &format!("[users.u{user}]\nproofs = [{proofs}]\n");
    }
    for group in 0..4 {
        let members: Vec<String> = (0..5).filter(|_| random.usize(0..4) == 0).map(|user| format!("\"user:u{user}\"")).collect();
        let owner = if random.usize(0..3) == 0 {
            format!("\"group:g{}\"", random.usize(0..4))
        } else {
            format!("\"user:u{}\"", random.usize(0..5))
        };
        let owners = if random.usize(0..2) == 0 { owner } else { String::new() };
        text += &format!("[groups.g{group}]\nmembers = [{}]\nowners = [{owners}]\n", members.join(", "));
    }
    text += "[applications.rota]\ntypes.shift.rights = [\"plan\"]\nobjects.\"shift/early\" = {}\ngrants = [\n";
    for _ in 0..6 {
        let to = if random.usize(0..2) == 0 { format!("user:u{}", random.usize(0..5)) } else { format!("group:g{}", random.usize(0..4)) };
        let (act, on) = if random.usize(0..2) == 0 {
            ("reset-credential", format!("user/u{}", random.usize(0..5)))
        } else {
            ("change-members", format!("group/g{}", random.usize(0..4)))
        };
        let when = match random.usize(0..4) {
            0 => ", when = { proof = [\"key\"] }",
            1 => ", after = { confirm = true }",
            _ => "",
        };
        text += &format!("  {{ allow = [\"{act}\"], on = \"{on}\", to = [\"{to}\"]{when} }},\n");
    }
    text + "]\n"
}

#[test]
fn ways_agree_with_a_plain_search_and_each_step_holds() {
    let first = seed(25_000);
    println!("first seed {first}");
    let (mut ways_found, mut steps_asked, mut found_plainly) = (0, 0, 0);
    for round in 0..questions(200_000).div_ceil(100) as u64 {
        let seed = first + round;
        let text = people(&mut Rng::with_seed(seed));
        let Ok(estate) = Ledger::new().document("ledger.toml", &text).estate() else { continue };
        let engine = Engine::compile(estate).expect("it compiles");
        let all = Acts::of(&engine, &[]);
        for from in ["u0", "u1", "u2"] {
            let mut ways = Ways::of(&all, from).expect("the user is known");
            let mut told: BTreeSet<String> = BTreeSet::new();
            let found = ways.all();
            assert!(!ways.is_cut_short, "seed {seed}");
            for way in found {
                ways_found += 1;
                // Each step is asked in the ledger as the steps before left it.
                let (mut joins, mut mine): (Vec<Change>, Vec<String>) = (Vec::new(), vec![from.to_owned()]);
                for step in &way.steps {
                    let here = engine.with(&joins).expect("it is a ledger");
                    assert!(mine.contains(&step.by), "seed {seed}: {way:#?}");
                    if let Some(question) = &step.question {
                        let answer = here.decide(question);
                        assert!(answer.verdict != Verdict::Denied && question.user == step.by, "seed {seed}: {way:#?}\n{text}");
                        assert_eq!(answer.verdict == Verdict::AllowedAfter, !step.needs.is_empty(), "seed {seed}: {way:#?}");
                        steps_asked += 1;
                    }
                    let words: Vec<&str> = step.gives.split('`').collect();
                    match words.as_slice() {
                        ["signs in as ", user, ""] => mine.push((*user).to_owned()),
                        ["", user, " is in group ", group, ""] => {
                            joins.push(Change::JoinGroup { group: (*group).to_owned(), user: (*user).to_owned() });
                        }
                        other => panic!("{other:?}"),
                    }
                }
                let last = way.steps.last().expect("a step").gives.clone();
                let words: Vec<&str> = last.split('`').collect();
                told.insert(match words.as_slice() {
                    ["signs in as ", user, ""] => format!("becomes {user}"),
                    ["", user, " is in group ", group, ""] => format!("joins {user} {group}"),
                    other => panic!("{other:?}"),
                });
            }
            let plain = plainly(&engine, from);
            found_plainly += plain.len();
            // A group in which somebody is already is nothing to come to.
            let new: BTreeSet<&String> = plain.iter().filter(|fact| !told.contains(*fact)).collect();
            let already = |fact: &str| {
                let Some((user, group)) = fact.strip_prefix("joins ").and_then(|rest| rest.split_once(' ')) else { return false };
                Ways::of(&all, user).and_then(|mut ways| ways.to(Aim::Group(group))).is_some_and(|way| way.steps.is_empty())
            };
            let missing: Vec<_> = new.into_iter().filter(|fact| !already(fact)).collect();
            assert!(missing.is_empty(), "seed {seed}, from {from}: {missing:?} is not found\n{text}");
        }
    }
    println!("{ways_found} ways, {steps_asked} steps asked, {found_plainly} things by a plain search");
    assert!(ways_found > 40 && found_plainly > 40);
}

#[test]
fn whoever_is_not_looked_at_may_do_nothing_that_gives_more() {
    let first = seed(26_000);
    println!("first seed {first}");
    let (mut people, mut asked, mut looked_at) = (0, 0, 0);
    for round in 0..questions(2_000).div_ceil(50) as u64 {
        let seed = first + round;
        let text = estates::Source::new(seed).ledger();
        let text = if round % 2 == 0 { estates::with_twins(&text) } else { text };
        let Ok(estate) = Ledger::new().document("ledger.toml", &text).estate() else { continue };
        let Ok(engine) = Engine::compile(estate) else { continue };
        let acts = Acts::of(&engine, &[]);
        let candidates = acts.candidates(None);
        let entries = engine.estate();
        let names =
            |act: &str, sort: &str, list: Vec<String>| list.into_iter().map(|name| format!("{act} on {sort}/{name}")).collect::<Vec<_>>();
        let users: Vec<String> = entries.users().iter().map(|user| user.id.value.clone()).collect();
        let mut lines = names("reset-credential", "user", users.clone());
        lines.extend(names("change-members", "group", entries.groups().iter().map(|group| group.id.value.clone()).collect()));
        lines.extend(names("edit-role", "role", entries.roles().iter().map(|role| role.id.value.clone()).collect()));
        for user in &users {
            people += 1;
            if candidates.contains(&user.as_str()) {
                looked_at += 1;
                continue;
            }
            for system in entries.systems().iter() {
                let name = system.id.value.as_str();
                let mut all: Vec<Question> = Vec::new();
                for database in entries.databases().iter().filter(|database| database.system.value == name) {
                    for account in &database.accounts {
                        let (account, is_lent) = (&account.name.value, !account.used_by.is_empty());
                        let host = account.rsplit_once('@').unwrap_or((account, "%"));
                        for role in database.roles.iter().map(|role| &role.name.value) {
                            all.push(Question::statement(user, name, &format!("GRANT \"{role}\" TO \"{account}\"")));
                            all.push(Question::statement(user, name, &format!("GRANT '{role}' TO '{}'@'{}'", host.0, host.1)));
                        }
                        // Whose account it is sets the password anew, and comes to nothing.
                        if !is_lent && host.0 != user {
                            all.push(Question::statement(user, name, &format!("ALTER ROLE \"{account}\" PASSWORD 'x'")));
                            let set = format!("ALTER USER '{}'@'{}' IDENTIFIED BY 'x'", host.0, host.1);
                            all.push(Question::statement(user, name, &set));
                        }
                    }
                }
                match system.kind() {
                    Kind::CLOUD | Kind::APPLICATION => {
                        let others = lines.iter().filter(|line| !line.ends_with(&format!("/{user}")));
                        all.extend(others.map(|line| Question::new(user, name, line)));
                    }
                    Kind::HOST => {
                        let jobs = entries.entries().hosts.iter().filter(|host| host.system.value == name).flat_map(|host| &host.jobs);
                        all.extend(jobs.map(|job| Question::new(user, name, &format!("edit-job on job/{}", job.name.value))));
                    }
                    _ => {}
                }
                for question in all {
                    asked += 1;
                    let decision = engine.decide(&question);
                    assert_eq!(decision.verdict, Verdict::Denied, "seed {seed}: {question:?}\n{text}");
                    assert_ne!(decision.refusal, Some(Refusal::NotDecided), "seed {seed}: {question:?}\n{text}");
                    let proofs = [Proof::Password, Proof::OneTimeCode, Proof::Key].map(|proof| Proven {
                        proof,
                        age: jiff::SignedDuration::ZERO,
                        channel: None,
                    });
                    let proven = Question { session: Session { proofs: Some(proofs.to_vec()), ..Session::default() }, ..question };
                    assert_eq!(engine.decide(&proven).verdict, Verdict::Denied, "seed {seed}: {proven:?}\n{text}");
                }
            }
        }
    }
    println!("{looked_at} of {people} people looked at; {asked} questions of the others");
    assert!(looked_at > 10 && asked > 1_000);
}

#[test]
fn who_writes_and_what_a_secret_opens_must_be_there() {
    use Code::{BadReference, BadValue, UnknownReference};
    let with = |from: &str, to: &str| {
        assert!(EDITED.contains(from), "`{from}`");
        let found = findings(&EDITED.replacen(from, to, 1));
        found.list().iter().filter(|one| one.severity() == Severity::Error).map(|one| one.code).collect::<Vec<_>>()
    };
    for (from, to, expected) in [
        ("\"/opt/tide\" = [\"user:clerk\"]", "\"opt/tide\" = [\"user:clerk\"]", vec![BadValue]),
        ("\"/opt/tide\" = [\"user:clerk\"]", "\"/opt/tide\" = [\"user:clark\"]", vec![UnknownReference]),
        ("\"/opt/tide\" = [\"user:clerk\"]", "\"/opt/tide\" = [\"anybody\"]", vec![BadReference]),
        ("\"user:captain\", \"account:sw/breakglass\"", "\"user:capstan\"", vec![UnknownReference]),
        ("\"user:captain\", \"account:sw/breakglass\"", "\"account:sw/glass\"", vec![UnknownReference]),
        ("\"user:captain\", \"account:sw/breakglass\"", "\"account:swan/breakglass\"", vec![UnknownReference]),
        ("\"user:captain\", \"account:sw/breakglass\"", "\"group:shapers\"", vec![BadReference]),
        ("objects.\"rota/tides\" = {}", "objects.\"rota/tides\" = { opens = [\"user:captain\"] }", vec![BadValue]),
    ] {
        assert_eq!(with(from, to), expected, "{to}");
    }
}

/// From 10,000 people on two threads look: whoever has an act, and whoever may what is sought, and nobody else.
#[test]
fn of_many_people_those_are_looked_at_who_may_it_and_who_have_an_act() {
    let root = Session { acting: vec!["account:root".parse().expect("a link")], ..Session::default() };
    let plain = Session::default();
    let rows = [
        (sized::administered(10_000), "runner", "/bin/bash", &root),
        (sized::served(10_000), "fares", "delete on table public.price", &plain),
        (sized::served(10_000), "points", "delete on table points.member", &plain),
    ];
    for (text, system, line, session) in rows {
        let engine = engine(&text);
        let systems = [system];
        let aim = Aim::Do(Sought::Line(line), &systems, session);
        let mut apart: BTreeSet<&str> = Acts::of(&engine, &[aim]).candidates(None).into_iter().collect();
        let actors = apart.len();
        let users = engine.estate().users().iter().map(|user| user.id.value.as_str());
        let may = |user: &&str| engine.decide(&Question::in_session(user, system, line, session.clone())).verdict != Verdict::Denied;
        apart.extend(users.filter(may));
        assert!(actors >= 5, "{system}: {actors} of {}", apart.len());
        let together: BTreeSet<&str> = Acts::of(&engine, &[aim]).candidates(Some(aim)).into_iter().collect();
        assert_eq!(together, apart, "{system}");
    }
}
