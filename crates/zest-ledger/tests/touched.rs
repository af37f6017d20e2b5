//! What an edit of a ledger can reach: nothing beyond it is compared, so nothing beyond it may differ.

use std::collections::BTreeSet;

use fastrand::Rng;
use zest_ledger::ask::Session;
use zest_ledger::review::{Between, Touched, Whom, changed_beside, nobodys, touched};
use zest_ledger::{Engine, Ledger};
use zest_testkit::edits::edited;
use zest_testkit::{databases, questions, seed};

use crate::support::{engine, random, served};

/// Edits one table of a document of a ledger at random, until it is a ledger again.
fn edited_ledger(rng: &mut Rng, ledger: &Engine, name: &str, tables: &[&str]) -> Option<Engine> {
    let sources = ledger.estate().sources();
    let documents: Vec<(&str, &str)> = sources.names().map(|(source, name)| (name, sources.text(source))).collect();
    let with = |edited: &str| {
        let ledger =
            documents.iter().fold(Ledger::new(), |ledger, &(of, text)| ledger.document(of, if of == name { edited } else { text }));
        Engine::compile(ledger.validate().estate?).ok()
    };
    let text = sources.text_of(name)?;
    (0..20).find_map(|_| with(&edited(rng, text, tables)))
}

/// Returns the lines of a document that another ledger has not got there.
fn edit_of(before: &Engine, after: &Engine, name: &str) -> Vec<String> {
    let lines = |ledger: &Engine| -> Vec<String> {
        ledger.estate().sources().text_of(name).expect("it is there").lines().map(str::to_owned).collect()
    };
    let old = lines(before);
    lines(after).into_iter().filter(|line| !old.contains(line)).collect()
}

/// One edit of a ledger touches no more than it can reach, and whatever differs is among it.
#[test]
fn what_an_edit_can_reach_is_what_is_compared() {
    const LEDGER: &str = r#"
users.a.proofs = ["password"]
users.b = { proofs = ["password"], attributes = { crew = "deck" } }
users.c.proofs = ["password"]
users.d.proofs = ["password"]
users.e.proofs = ["password"]
groups.crew = { members = ["user:b"], owners = ["user:c"] }
groups.masters.members = ["user:d"]
origins.bridge.networks = ["192.0.2.0/24"]
roles.reader = { band = { start = 1, ceiling = 7 }, commands = ["lines"] }
roles.chief.includes = ["reader"]
roles.keeper.grants = [{ allow = ["look"], on = "shift/*" }]
assignments = [
  { to = ["group:crew"], roles = ["chief"], on = { systems = ["sw"] } },
  { to = ["user:c"], roles = ["keeper"], on = { systems = ["rota"] } },
  { to = ["user:e"], roles = ["reader"], on = { systems = ["far"] } },
]
vocabularies.make.commands = [{ line = "show log" }, { line = "leave", level = 0, does = "leave-session" }]
vocabularies.other.commands = [{ line = "show log" }, { line = "leave", level = 0, does = "leave-session" }]
command-sets.lines.rules = ["include looks"]
command-sets.looks.rules = ["allow show log"]
command-sets.programs.rules = ["allow /usr/bin/true"]
command-sets.unused.rules = ["allow show log"]
systems.sw = { kind = "network-device", vocabulary = "make", no-command-set = "nothing", authorisation = { levels = "all", configuration = true } }
systems.far = { kind = "network-device", vocabulary = "other", no-command-set = "nothing", authorisation = { levels = "all", configuration = true } }
systems.rota.kind = "application"
applications.rota = { types.shift = { rights = ["plan", "look"] }, objects."shift/early" = {}, grants = [{ allow = ["plan"], on = "shift/*", to = ["user:a"], after = { second-person = ["group:masters"] } }] }
systems.sky.kind = "cloud"
clouds.sky = { operations."hull.read" = { reads = true }, resources."line" = {}, grants = [{ allow = ["hull.read"], on = "line", to = ["user:e"] }] }
systems.box = { kind = "host", no-command-set = "nothing" }
hosts.box.accounts = { a = {}, batch = { used-by = ["user:a"], commands = ["programs"] } }
systems.db.kind = "postgresql"
databases.db = { accounts = { b = {} }, objects."table public.t" = { columns = { id = "integer" } } }
"#;
    let all = ["box", "db", "far", "rota", "sky", "sw"];
    let everybody = |systems: &[&str]| systems.iter().map(|system| (*system).to_owned() + ":").collect::<Vec<String>>();
    let only = |people: &str, systems: &[&str]| systems.iter().map(|system| format!("{system}: {people}")).collect::<Vec<String>>();
    for (from, to, expected) in [
        ("users.a", "# A remark.\nusers.a", vec![]),
        // Somebody of whom nobody else hears, and one with an account on a host.
        ("users.e.proofs = [\"password\"]", "users.e.proofs = [\"key\"]", only("e", &all)),
        ("crew = \"deck\"", "crew = \"galley\"", only("b", &all)),
        (
            "users.a.proofs = [\"password\"]",
            "users.a.proofs = [\"key\"]",
            [everybody(&["box"]), only("a", &["db", "far", "rota", "sky", "sw"])].concat(),
        ),
        // A second person is heard where somebody may agree.
        (
            "users.d.proofs = [\"password\"]",
            "users.d.proofs = [\"key\"]",
            [everybody(&["rota"]), only("d", &["box", "db", "far", "sky", "sw"])].concat(),
        ),
        ("members = [\"user:b\"]", "members = [\"user:b\", \"user:e\"]", only("e", &all)),
        ("owners = [\"user:c\"]", "owners = [\"user:d\"]", vec![]),
        (
            "members = [\"user:d\"]",
            "members = [\"user:d\", \"user:c\"]",
            [everybody(&["rota"]), only("c", &["box", "db", "far", "sky", "sw"])].concat(),
        ),
        ("ceiling = 7", "ceiling = 5", [only("e", &["far"]), only("b", &["sw"])].concat()),
        ("[{ allow = [\"look\"]", "[{ allow = [\"plan\"]", only("c", &["rota"])),
        ("roles.keeper.grants", "roles.keeper.assumable.by = [\"user:b\"]\nroles.keeper.grants", everybody(&["rota", "sky"])),
        ("[\"chief\"], on = { systems = [\"sw\"]", "[\"chief\"], on = { systems = [\"far\"]", only("b", &["far", "sw"])),
        ("{ to = [\"user:e\"], roles = [\"reader\"], on = { systems = [\"far\"] } },", "", only("e", &["far"])),
        (
            "show log\" }, { line = \"leave\", level = 0, does = \"leave-session\" }]\nvocabularies.other",
            "show log\", level = 7 }, { line = \"leave\", level = 0, does = \"leave-session\" }]\nvocabularies.other",
            everybody(&["sw"]),
        ),
        ("looks.rules = [\"allow show log\"]", "looks.rules = [\"deny show log\"]", [only("e", &["far"]), only("b", &["sw"])].concat()),
        ("allow /usr/bin/true", "deny /usr/bin/true", everybody(&["box"])),
        ("unused.rules = [\"allow show log\"]", "unused.rules = [\"deny show log\"]", vec![]),
        ("command-sets.unused.rules = [\"allow show log\"]", "", everybody(&["rota", "sky"])),
        (
            "systems.sw = { kind = \"network-device\", vocabulary = \"make\", no-command-set = \"nothing\"",
            "systems.sw = { kind = \"network-device\", vocabulary = \"make\", no-command-set = \"everything\"",
            everybody(&["sw"]),
        ),
        ("allow = [\"plan\"], on", "allow = [\"look\"], on", only("a", &["rota"])),
        ("[\"hull.read\"], on = \"line\"", "[\"hull.read\"], on = \"line/**\"", only("e", &["sky"])),
        ("to = [\"user:e\"] }] }", "to = [\"user:e\", \"role:keeper\"] }] }", only("c e", &["sky"])),
        ("types.shift = { rights = [\"plan\", \"look\"]", "types.shift = { rights = [\"plan\", \"look\", \"drop\"]", everybody(&["rota"])),
        ("batch = { used-by = [\"user:a\"]", "batch = { used-by = [\"user:b\"]", everybody(&["box"])),
        ("id = \"integer\"", "id = \"bigint\"", only("", &["db"])),
        ("192.0.2.0/24", "192.0.2.0/25", everybody(&all)),
        (
            "users.e.proofs = [\"password\"]\n",
            "users.e.proofs = [\"password\"]\nseparations.two.roles = [\"reader\", \"keeper\"]\n",
            everybody(&all),
        ),
    ] {
        assert!(LEDGER.contains(from), "{from}");
        let (before, after) = (engine(LEDGER), engine(&LEDGER.replacen(from, to, 1)));
        for (was, is) in [(&before, &after), (&after, &before)] {
            let touched = touched(was, is, &Session::default());
            let told = |system: &&str| match touched.on(system)? {
                Whom::Everybody => Some(format!("{system}:")),
                Whom::Only(people) => Some(format!("{system}: {}", people.iter().cloned().collect::<Vec<_>>().join(" "))),
            };
            let mut expected = expected.clone();
            expected.sort();
            assert_eq!(all.iter().filter_map(told).collect::<Vec<_>>(), expected, "{from} -> {to}");
            let all_told = |touched: &Touched| Between::new(was, is, &Session::default(), touched).all();
            assert_eq!(all_told(&touched), all_told(&Touched::everything()), "{from} -> {to}");
        }
    }
}

/// What is written of somebody has a say in what others may: these are then looked at as well.
#[test]
fn others_whom_an_edit_reaches_are_compared() {
    const PEOPLE: &str = "users.a.proofs = [\"password\"]\nusers.b.proofs = [\"password\"]\nusers.c.proofs = [\"password\"]\nusers.d.proofs = [\"password\"]\nusers.e.proofs = [\"password\"]\ngroups.crew.members = [\"user:a\"]\n";
    const ROTA: &str = "systems.rota.kind = \"application\"\napplications.rota.types.shift.rights = [\"plan\", \"look\"]\napplications.rota.objects.\"shift/early\" = {}\n";
    const SKY: &str = "systems.sky.kind = \"cloud\"\nclouds.sky.operations.\"hull.read\" = {}\nclouds.sky.resources.\"line\" = {}\n";
    const BOX: &str =
        "systems.box = { kind = \"host\", no-command-set = \"nothing\" }\ncommand-sets.tools.rules = [\"allow /usr/bin/true\"]\n";
    const SW: &str = "vocabularies.make.commands = [{ line = \"show log\" }, { line = \"leave\", level = 0, does = \"leave-session\" }]\nsystems.sw.kind = \"network-device\"\nsystems.sw.vocabulary = \"make\"\nsystems.sw.no-command-set = \"nothing\"\nsystems.sw.authorisation = { levels = \"all\", configuration = true }\n";
    let plain = Session::default();
    let over_host = Session { acting: vec!["account:box/c /usr/bin/true".parse().expect("an act")], ..Session::default() };
    for (what, parts, from, to, session, (user, system)) in [
        (
            "who alone may agree as second person",
            vec![
                ROTA,
                "applications.rota.grants = [{ allow = [\"plan\"], on = \"shift/*\", to = [\"user:a\", \"user:b\"], after = { second-person = [\"user:a\"] } }]\n",
                PEOPLE,
            ],
            "users.a.proofs",
            "users.a.disabled = true\nusers.a.proofs",
            &plain,
            ("b", "rota"),
        ),
        (
            "whoever is entitled may agree",
            vec![
                ROTA,
                "applications.rota.grants = [{ allow = [\"plan\"], on = \"shift/*\", to = [\"user:a\", \"user:b\"], after = { second-person = [\"anyone\"] } }]\n",
                PEOPLE,
            ],
            "users.a.proofs",
            "users.a.disabled = true\nusers.a.proofs",
            &plain,
            ("b", "rota"),
        ),
        (
            "as whom somebody acts",
            vec![
                ROTA,
                "applications.rota.grants = [{ allow = [\"plan\"], on = \"shift/*\", to = [\"group:crew\"] }]\napplications.rota.acting = [{ as = \"user:a\", by = [\"user:b\"] }]\n",
                PEOPLE,
            ],
            "members = [\"user:a\"]",
            "members = []",
            &plain,
            ("b", "rota"),
        ),
        (
            "whose an account is that others use",
            vec![
                BOX,
                "hosts.box.accounts = { a = { used-by = [\"user:b\"] }, batch = {} }\nhosts.box.run-as = [{ by = [\"group:crew\"], as = [\"batch\"], commands = [\"tools\"], proof = false }]\n",
                PEOPLE,
            ],
            "members = [\"user:a\"]",
            "members = []",
            &plain,
            ("b", "box"),
        ),
        (
            "whose proof an account asks for",
            vec![
                BOX,
                "hosts.box.accounts = { a = { used-by = [\"user:b\"] }, batch = {} }\nhosts.box.run-as = [{ by = [\"user:a\"], as = [\"batch\"], commands = [\"tools\"] }]\n",
                PEOPLE,
            ],
            "users.a.proofs = [\"password\"]",
            "users.a.proofs = [\"key\"]",
            &plain,
            ("b", "box"),
        ),
        (
            "whose account may run something as another",
            vec![
                BOX,
                "hosts.box.accounts = { a = { used-by = [\"user:b\"] }, batch = {} }\nhosts.box.run-as = [{ by = [\"account:a\"], as = [\"batch\"], commands = [\"tools\"] }]\n",
                PEOPLE,
            ],
            "users.a.proofs = [\"password\"]",
            "users.a.proofs = [\"key\"]",
            &plain,
            ("b", "box"),
        ),
        (
            "who may agree to the lines of a command set",
            vec![
                SW,
                "command-sets.lines.rules = [{ allow = \"show log\", after = { second-person = [\"group:crew\"] } }]\nroles.reader = { band = { start = 1, ceiling = 7 }, commands = [\"lines\"] }\nassignments = [{ to = [\"user:a\", \"user:b\"], roles = [\"reader\"], on = { all = true } }]\n",
                PEOPLE,
            ],
            "members = [\"user:a\"]",
            "members = []",
            &plain,
            ("b", "sw"),
        ),
        (
            "somebody there is to reset the credential of",
            vec![
                "systems.rota.kind = \"application\"\napplications.rota.grants = [{ allow = [\"reset-credential\"], on = \"user/*\", to = [\"user:b\"] }]\n",
                PEOPLE,
            ],
            "users.e.proofs = [\"password\"]\n",
            "",
            &plain,
            ("b", "rota"),
        ),
        (
            "what is held elsewhere, where duties are kept apart",
            vec![
                ROTA,
                "applications.rota.grants = [{ allow = [\"plan\"], on = \"shift/*\", to = [\"role:one\"] }]\n",
                SKY,
                PEOPLE,
                "roles = { one = {}, two = {} }\nassignments = [{ to = [\"user:b\"], roles = [\"one\"], on = { systems = [\"rota\"] } }, { to = [\"user:b\"], roles = [\"two\"], on = { systems = [\"sky\"] } }]\nseparations.apart.roles = [\"one\", \"two\"]\n",
            ],
            "roles = [\"two\"], on",
            "roles = [\"one\"], on",
            &plain,
            ("b", "rota"),
        ),
        (
            "what a role includes, where duties are kept apart",
            vec![
                ROTA,
                "applications.rota.grants = [{ allow = [\"plan\"], on = \"shift/*\", to = [\"role:one\"] }]\n",
                SKY,
                PEOPLE,
                "roles = { one = {}, two = {}, three = {} }\nassignments = [{ to = [\"user:b\"], roles = [\"one\"], on = { systems = [\"rota\"] } }, { to = [\"user:b\"], roles = [\"three\"], on = { systems = [\"sky\"] } }]\nseparations.apart.roles = [\"one\", \"two\"]\n",
            ],
            "three = {}",
            "three = { includes = [\"two\"] }",
            &plain,
            ("b", "rota"),
        ),
        (
            "what a role gives that is assumed",
            vec![
                SKY,
                PEOPLE,
                "clouds.sky.grants = [{ allow = [\"assume\"], on = \"**\", to = [\"user:b\"] }]\nroles.keeper = { assumable.by = [\"user:b\"], grants = [{ deny = [\"hull.read\"], on = \"line\" }] }\n",
            ],
            "deny = [\"hull.read\"]",
            "allow = [\"hull.read\"]",
            &plain,
            ("b", "sky"),
        ),
        (
            "what is given to a role that is assumed",
            vec![
                SKY,
                PEOPLE,
                "clouds.sky.grants = [{ allow = [\"assume\"], on = \"**\", to = [\"user:b\"] }, { allow = [\"hull.read\"], on = \"line\", to = [\"role:keeper\"] }]\nroles.keeper.assumable.by = [\"user:b\"]\n",
            ],
            "allow = [\"hull.read\"], on = \"line\", to",
            "allow = [\"hull.read\"], on = \"line/none\", to",
            &plain,
            ("b", "sky"),
        ),
        (
            "the lines of an account of the device itself",
            vec![
                SW,
                "command-sets.lines.rules = [\"allow show log\"]\nsystems.sw.identity-sources = [\"local\"]\nsystems.sw.accounts.b = { band = { start = 7, ceiling = 7 }, commands = [\"lines\"] }\n",
                PEOPLE,
            ],
            "allow show log",
            "deny show log",
            &plain,
            ("b", "sw"),
        ),
        (
            "over which host somebody comes",
            vec![
                BOX,
                "hosts.box.accounts = { b = {}, c = {} }\nhosts.box.run-as = [{ by = [\"user:b\"], as = [\"c\"], commands = [\"tools\"], proof = false }]\napplications.rota.grants = [{ allow = [\"plan\"], on = \"shift/*\", to = [\"user:c\"] }]\n",
                ROTA,
                PEOPLE,
            ],
            "allow /usr/bin/true",
            "deny /usr/bin/true",
            &over_host,
            ("b", "rota"),
        ),
    ] {
        let text = parts.concat();
        assert!(text.contains(from), "{what}: {from} in {text}");
        let (before, after) = (engine(&text), engine(&text.replacen(from, to, 1)));
        for (was, is) in [(&before, &after), (&after, &before)] {
            let all_told = |touched: &Touched| Between::new(was, is, session, touched).all();
            let all = all_told(&Touched::everything());
            let is_told = all.iter().any(|one| one.user == user && one.systems.iter().any(|name| name == system));
            assert!(is_told, "{what}: nothing differs for `{user}` on `{system}`: {all:#?}");
            assert_eq!(all_told(&touched(was, is, session)), all, "{what}");
        }
    }
}

/// Whatever differs by an edit of a random ledger, in whichever sessions, differs for somebody and on a system that it touches.
#[test]
fn what_is_not_touched_is_the_same() {
    let first = seed(88_000);
    println!("first seed {first}");
    let (mut edits, mut differences, mut looked_at, mut left) = (0, 0, 0, 0);
    for seed in (first..).take(questions(400).div_ceil(10)) {
        let Some((mut source, before)) = random(seed) else { continue };
        let mut rng = Rng::with_seed(seed);
        // What is about people and what they are given reaches some of them alone.
        let tables: &[&str] = match seed % 4 {
            0 => &[],
            1 => &["databases"],
            _ => &["users", "groups", "roles", "assignments", "command-sets"],
        };
        let Some(after) = edited_ledger(&mut rng, &before, "estate.toml", tables) else { continue };
        edits += 1;
        let session = if rng.bool() { Session::default() } else { source.question().session };
        let (was, is) = if rng.bool() { (&before, &after) } else { (&after, &before) };
        let touched = touched(was, is, &session);
        let whole = Between::new(was, is, &session, &Touched::everything());
        let told = whole.all();
        let edit = || edit_of(&before, &after, "estate.toml");
        for (one, system) in told.iter().flat_map(|one| one.systems.iter().map(move |system| (one, system))) {
            assert!(touched.concerns(system, &one.user), "seed {seed}: {touched:?} {:#?}\n{session:?}\n{one:#?}", edit());
        }
        let some = Between::new(was, is, &session, &touched);
        if seed % 4 == 0 {
            assert_eq!(some.all(), told, "seed {seed}: {touched:?} {:#?}\n{session:?}", edit());
        }
        let beside =
            |is_meant: &dyn Fn(&str) -> bool| (changed_beside(was, is, &told, is_meant), nobodys(was, is_meant), nobodys(is, is_meant));
        let (all, of) = (beside(&|_| true), beside(&|system| touched.includes(system)));
        assert_eq!(all.0, of.0, "seed {seed}: {touched:?} {:#?}", edit());
        let only = |list: &[String], others: &[String]| list.iter().filter(|one| !others.contains(one)).cloned().collect::<Vec<_>>();
        assert_eq!(only(&all.1, &all.2), only(&of.1, &of.2), "seed {seed}: {touched:?}");
        differences += told.len();
        looked_at += some.parts().len();
        left += whole.parts().len() - some.parts().len();
    }
    println!("{edits} edits, {differences} differences; {looked_at} parts were looked at, {left} left");
    assert!(edits > 20 && differences > 20 && left > looked_at / 2);
}

/// The same of random servers with many roles, owners and grants that rest on each other.
#[test]
fn what_is_not_touched_of_a_server_is_the_same() {
    let first = seed(89_000);
    println!("first seed {first}");
    let (mut everybody, mut some, mut differences) = (0, 0, 0);
    for seed in (first..).take(questions(200).div_ceil(10)) {
        let mut rng = Rng::with_seed(seed);
        let is_postgresql = rng.bool();
        let (document, people): (String, BTreeSet<String>) = if is_postgresql {
            let size = databases::postgresql::Size { roles: 7, tables: 3, grants: 30 };
            let state = databases::postgresql::estate(&mut rng, "server", "", size);
            (state.document("server", None), state.roles.iter().filter(|(_, role)| role.login).map(|(name, _)| name.clone()).collect())
        } else {
            let size = databases::mariadb::Size { logins: 4, roles: 4, tables: 4, grants: 30 };
            let state = databases::mariadb::estate(&mut rng, size);
            (state.document("server", None), state.accounts.keys().map(|account| account.user.clone()).collect())
        };
        let Some((before, _)) = served(&document, people.into_iter().filter(|user| !user.is_empty())) else { continue };
        let Some(after) = edited_ledger(&mut rng, &before, "read.toml", &["databases"]) else { continue };
        let (was, is) = if rng.bool() { (&before, &after) } else { (&after, &before) };
        let touched = touched(was, is, &Session::default());
        let whole = Between::new(was, is, &Session::default(), &Touched::everything()).all();
        let edit = || edit_of(&before, &after, "read.toml");
        for (one, system) in whole.iter().flat_map(|one| one.systems.iter().map(move |system| (one, system))) {
            assert!(touched.concerns(system, &one.user), "seed {seed}: {touched:?} {:#?}\n{one:#?}", edit());
        }
        let beside = |is_meant: &dyn Fn(&str) -> bool| changed_beside(was, is, &whole, is_meant);
        assert_eq!(beside(&|_| true), beside(&|system| touched.includes(system)), "seed {seed}: {touched:?} {:#?}", edit());
        match touched.on("server") {
            Some(Whom::Everybody) => everybody += 1,
            Some(Whom::Only(_)) => some += 1,
            None => {}
        }
        differences += whole.len();
    }
    println!("{everybody} edits reach everybody on the server, {some} some; {differences} differences");
    assert!(some > 4 && differences > 10);
}

/// A line of a database server reaches whoever comes to an account that it gives something, takes or lends, through roles as well; and
/// superusers, who may become anybody.
#[test]
fn whom_a_line_of_a_database_server_reaches() {
    const PEOPLE: &str = "users.a.proofs = [\"password\"]\nusers.b.proofs = [\"password\"]\nusers.c.proofs = [\"password\"]\nusers.d.proofs = [\"password\"]\nusers.e.proofs = [\"password\"]\nusers.f.proofs = [\"password\"]\nusers.g.proofs = [\"password\"]\nusers.h.proofs = [\"password\"]\nusers.i.proofs = [\"password\"]\nusers.root.proofs = [\"password\"]\ngroups.desk.members = [\"user:c\", \"user:d\"]\n";
    const POSTGRESQL: &str = r#"
systems.db.kind = "postgresql"
[databases.db]
roles.reader = {}
roles.chief.member-of = ["reader"]
roles.keeper = {}
roles.spare = {}
accounts.root.may = ["superuser"]
accounts.a = {}
accounts.b.member-of = ["chief"]
accounts.counter.used-by = ["group:desk"]
accounts.e = {}
accounts.f = { inherit = false, member-of = ["keeper"] }
accounts.g.member-of = ["pg_read_all_data"]
accounts.h.may = ["create-role"]
objects."table public.t" = { owner = "keeper", columns = { id = "integer", amount = "integer" } }
objects."table public.u" = { owner = "keeper", columns = { id = "integer" } }
objects."function public.now()" = { owner = "keeper", returns = "integer", language = "sql", body = "select 1" }
[[databases.db.grants]]
allow = ["select"]
on = "table public.t"
to = ["reader"]
regrant = true
[[databases.db.grants]]
grantor = "reader"
allow = ["select"]
on = "table public.t"
to = ["counter"]
[[databases.db.grants]]
allow = ["update"]
columns = ["amount"]
on = "table public.t"
to = ["e"]
"#;
    const MARIADB: &str = r#"
systems.db.kind = "mariadb"
[databases.db]
roles.reader = {}
roles.chief.member-of = ["reader"]
roles.spare = {}
accounts."root@localhost" = {}
accounts."a@%" = {}
accounts."a@localhost" = {}
accounts."b@%" = { member-of = ["chief"] }
accounts."counter@%" = { used-by = ["group:desk"] }
accounts."e@%" = {}
accounts."reader@%" = { used-by = ["user:f"] }
accounts."g@%" = {}
objects."table club.t" = { columns = { id = "int", amount = "int" } }
objects."table club.u" = { columns = { id = "int" } }
[[databases.db.grants]]
allow = ["select"]
on = "table club.t"
to = ["reader", "counter@%"]
[[databases.db.grants]]
allow = ["update"]
columns = ["amount"]
on = "table club.t"
to = ["e@%"]
[[databases.db.grants]]
allow = ["select"]
on = "database club"
to = ["reader@%"]
[[databases.db.grants]]
allow = ["all"]
on = "everything"
to = ["root@localhost"]
"#;
    let grant = |what: &str, on: &str, to: &str| format!("[[databases.db.grants]]\nallow = [\"{what}\"]\non = \"{on}\"\nto = [\"{to}\"]\n");
    let revoke =
        |what: &str, on: &str, from: &str| format!("[[databases.db.grants]]\nrevoke = [\"{what}\"]\non = \"{on}\"\nfrom = [\"{from}\"]\n");
    let behind = |more: String| ("\n# The end.", format!("\n{more}"));
    let in_place = |from: &'static str, to: &str| (from, to.to_owned());
    let ends = |on: &str, to: &str| grant("insert", on, to) + "until = 2027-01-01\n";
    let everybody = "everybody";
    for (text, (from, to), expected) in [
        // On PostgreSQL.
        (POSTGRESQL, in_place("systems.db.kind", "# A remark.\nsystems.db.kind"), "nothing"),
        (POSTGRESQL, behind(grant("insert", "table public.u", "a")), "a root"),
        (POSTGRESQL, behind(grant("insert", "table public.u", "reader")), "b root"),
        (POSTGRESQL, behind(grant("insert", "table public.u", "counter")), "c d root"),
        (POSTGRESQL, behind(grant("insert", "table public.u", "keeper")), "nobody"),
        (POSTGRESQL, behind(ends("table public.u", "f")), "f root"),
        (POSTGRESQL, behind(grant("insert", "table public.u", "public")), everybody),
        (POSTGRESQL, in_place("columns = [\"amount\"]", "columns = [\"id\"]"), "e root"),
        // What rests on a grant goes with it.
        (
            POSTGRESQL,
            behind(
                "[[databases.db.grants]]\nrevoke = [\"select\"]\non = \"table public.t\"\nfrom = [\"reader\"]\ncascade = true\n".to_owned(),
            ),
            "b c d root",
        ),
        (
            POSTGRESQL,
            in_place(
                "regrant = true\n[[databases.db.grants]]\ngrantor = \"reader\"\nallow = [\"select\"]\non = \"table public.t\"\nto = [\"counter\"]\n",
                "",
            ),
            "b c d root",
        ),
        (POSTGRESQL, in_place("inherit = false, ", ""), "f root"),
        (POSTGRESQL, in_place("member-of = [\"chief\"]", "member-of = [\"reader\"]"), "b root"),
        (POSTGRESQL, in_place("chief.member-of = [\"reader\"]", "chief = {}"), "b root"),
        (POSTGRESQL, in_place("accounts.e = {}", "accounts.e.may = [\"create-database\"]"), "e root"),
        (POSTGRESQL, in_place("accounts.e = {}", "accounts.e.may = [\"superuser\"]"), everybody),
        (POSTGRESQL, in_place("accounts.e = {}", "accounts.e.used-by = [\"user:i\"]"), "e i"),
        (POSTGRESQL, in_place("accounts.a = {}", "accounts.a = {}\naccounts.i = {}"), "h i root"),
        (POSTGRESQL, in_place("roles.spare = {}\n", ""), "h root"),
        // Of a table that is there now, or belongs to another, whoever holds anything on it.
        (
            POSTGRESQL,
            in_place(
                "objects.\"table public.u\"",
                "objects.\"table public.v\" = { owner = \"a\", columns = { id = \"integer\" } }\nobjects.\"table public.u\"",
            ),
            "a g root",
        ),
        (POSTGRESQL, in_place("\"table public.t\" = { owner = \"keeper\"", "\"table public.t\" = { owner = \"a\""), "a b c d e f g root"),
        (
            POSTGRESQL,
            in_place("\"table public.u\" = { owner = \"keeper\"", "\"table public.u\" = { row-security = true, owner = \"keeper\""),
            "f g root",
        ),
        (
            &format!("{POSTGRESQL}# The end.").replace("\"table public.t\" = {", "\"table public.t\" = { row-security = true, "),
            in_place("\"table public.u\" = { owner = \"keeper\"", "\"table public.u\" = { owner = \"a\""),
            everybody,
        ),
        (POSTGRESQL, in_place("body = \"select 1\"", "body = \"select 2\""), everybody),
        (&format!("{POSTGRESQL}{}", revoke("execute", "function public.now()", "public")), in_place("select 1", "select 2"), everybody),
        (
            &format!("{POSTGRESQL}{}", revoke("all", "table public.u", "keeper")),
            in_place("u\" = { owner = \"keeper\", columns = { id = \"integer\"", "u\" = { owner = \"keeper\", columns = { id = \"text\""),
            "f g root",
        ),
        (
            &format!("{POSTGRESQL}{}columns = [\"id\"]\n", grant("update", "table public.u", "e")),
            in_place("u\" = { owner = \"keeper\", columns = { id = \"integer\"", "u\" = { owner = \"keeper\", columns = { id = \"text\""),
            "e f g root",
        ),
        (&format!("{POSTGRESQL}{}", ends("table public.u", "f")), in_place("2027-01-01", "2028-01-01"), "f root"),
        (
            &POSTGRESQL.replace("accounts.a", "accounts.zed = {}\naccounts.a"),
            in_place("accounts.zed = {}", "accounts.zed.may = [\"superuser\"]"),
            everybody,
        ),
        (POSTGRESQL, in_place("[databases.db]\n", "[databases.db]\nsettings = [\"search_path=public\"]\n"), everybody),
        (POSTGRESQL, in_place("[databases.db]\n", "[databases.db]\nnot-modelled = [\"event trigger watch\"]\n"), everybody),
        (
            POSTGRESQL,
            behind(
                grant("select", "new tables", "a").replace("databases.db.grants", "databases.db.default-grants") + "creator = \"keeper\"\n",
            ),
            everybody,
        ),
        // On MariaDB, where whoever sets the server up is a member of every role.
        (MARIADB, behind(grant("insert", "table club.u", "a@%")), "a"),
        (MARIADB, behind(grant("insert", "table club.u", "reader")), "b root"),
        (MARIADB, behind(grant("insert", "table club.u", "counter@%")), "c d"),
        (MARIADB, behind(ends("everything", "e@%")), "e"),
        (MARIADB, behind(grant("insert", "table club.u", "public")), everybody),
        // What it holds can count for the role of that name.
        (MARIADB, behind(grant("insert", "database club", "reader@%")), "b f root"),
        (MARIADB, in_place("columns = [\"amount\"]", "columns = [\"id\"]"), "e"),
        (MARIADB, in_place("chief.member-of = [\"reader\"]", "chief = {}"), "b root"),
        (MARIADB, in_place("\"e@%\" = {}", "\"e@%\" = { locked = true }"), "e"),
        (MARIADB, in_place("\"e@%\" = {}", "\"e@%\" = { credential = \"missing\" }"), "e"),
        (MARIADB, in_place("\"e@%\" = {}", "\"e@%\" = { used-by = [\"user:i\"] }"), "e i"),
        (MARIADB, in_place("accounts.\"a@localhost\" = {}\n", ""), "a"),
        (MARIADB, in_place("roles.spare = {}\n", ""), "root"),
        (MARIADB, in_place("accounts.\"a@%\"", "accounts.\"@localhost\" = {}\naccounts.\"a@%\""), everybody),
        (
            MARIADB,
            in_place("objects.\"table club.u\"", "objects.\"table club.v\" = { columns = { id = \"int\" } }\nobjects.\"table club.u\""),
            "b f root",
        ),
        (MARIADB, in_place("objects.\"table club.u\"", "objects.\"database pier\" = {}\nobjects.\"table club.u\""), "b f root"),
        (
            &format!("{MARIADB}{}", grant("insert", "table club.u", "a@%")),
            in_place("u\" = { columns = { id = \"int\"", "u\" = { columns = { id = \"text\""),
            "a b f root",
        ),
        (MARIADB, behind(grant("insert", "table club.u", "public") + &revoke("insert", "table club.u", "public")), everybody),
        (&format!("{MARIADB}{}", grant("insert", "table club.u", "public")), behind(grant("select", "table club.u", "public")), everybody),
        (MARIADB, in_place("[databases.db]\n", "[databases.db]\nnot-modelled = [\"names are not resolved\"]\n"), everybody),
    ] {
        let text = format!("{PEOPLE}{text}\n# The end.");
        assert!(text.contains(from), "{from}");
        let (before, after) = (engine(&text), engine(&text.replacen(from, &to, 1)));
        // Beyond half of all, everybody is looked at.
        let expected = if expected.split(' ').count() > 5 { everybody } else { expected };
        for (was, is) in [(&before, &after), (&after, &before)] {
            let reached = match touched(was, is, &Session::default()).on("db") {
                None => "nothing".to_owned(),
                Some(Whom::Everybody) => everybody.to_owned(),
                Some(Whom::Only(people)) if people.is_empty() => "nobody".to_owned(),
                Some(Whom::Only(people)) => people.iter().cloned().collect::<Vec<_>>().join(" "),
            };
            assert_eq!(reached, expected, "{from} -> {to}");
        }
        if expected != everybody {
            let all = |touched: &Touched| Between::new(&before, &after, &Session::default(), touched).all();
            let touched = touched(&before, &after, &Session::default());
            assert_eq!(all(&touched), all(&Touched::everything()), "{from} -> {to}");
        }
    }
}
