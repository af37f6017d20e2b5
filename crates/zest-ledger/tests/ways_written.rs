//! Ways over acts of many sorts, against a plain search that writes whatever is come to into the text of the ledger, and reads it again.

use std::collections::{BTreeMap, BTreeSet};

use fastrand::Rng;
use zest_ledger::ask::{Proven, Question, Session, Verdict};
use zest_ledger::entry::Proof;
use zest_ledger::review::Sought;
use zest_ledger::ways::{Acts, Aim, Way, Ways, cuts};
use zest_ledger::{Engine, Ledger};
use zest_testkit::{questions, seed};

/// Something that somebody has come to.
#[derive(Clone, Debug, PartialEq, Eq, PartialOrd, Ord)]
enum Gained {
    /// Signs in as a user: with a password that was set anew, or with whatever it is.
    Becomes(String, bool),
    Joins(String, String),
    Shapes(String, String),
    Grants(String, String),
    Runs(String, String),
}

/// What somebody has come to; and the engines of ledgers in which some things are so.
type State = BTreeSet<Gained>;
type Engines = BTreeMap<State, Option<Engine>>;

const PEOPLE: usize = 5;

/// All that a grant can allow.
const ANYTHING: &str = r#""all", "reset-credential", "change-members", "edit-role", "edit-command-set", "read-secret", "grant-on""#;

/// An estate in which people may administer each other in many ways; what can be taken out stands on a line of its own.
fn written(random: &mut Rng) -> Vec<String> {
    let mut lines = Vec::new();
    let user = |random: &mut Rng| format!("user:u{}", random.usize(0..PEOPLE));
    let party = |random: &mut Rng| if random.bool() { user(random) } else { format!("group:g{}", random.usize(0..3)) };
    for number in 0..PEOPLE {
        let proofs = if random.usize(0..4) == 0 { "\"key\"" } else { "\"password\", \"key\"" };
        lines.push(format!("users.u{number} = {{ proofs = [{proofs}] }}"));
    }
    for number in 0..3 {
        let members: Vec<String> = (0..PEOPLE).filter(|_| random.usize(0..4) == 0).map(|user| format!("\"user:u{user}\"")).collect();
        let owner = if random.usize(0..2) == 0 { format!("\"{}\"", party(random)) } else { String::new() };
        // Owners stand on lines of their own, so that one can be taken out.
        lines.push(format!("[groups.g{number}]\nmembers = [{}]\nowners = [", members.join(", ")));
        lines.push(owner);
        lines.push("]".to_owned());
    }
    for number in 0..2 {
        lines.push(format!("[roles.r{number}]\ngrants = ["));
        lines.push("{ allow = [\"plan\"], on = \"shift/*\" },".to_owned());
        lines.push("]".to_owned());
        lines.push(format!("[[assignments]]\nto = [\"{}\"]\nroles = [\"r{number}\"]\non = {{ systems = [\"rota\"] }}", party(random)));
    }
    lines.push("[command-sets.anything]\nrules = [\"allow ...\"]\n[command-sets.shells]\nrules = [\"allow /bin/sh\"]".to_owned());
    lines.push("[systems.rota]\nkind = \"application\"\n[applications.rota]\ntypes.shift.rights = [\"plan\", \"seal\"]".to_owned());
    lines.push(format!("objects.\"shift/early\" = {{}}\nobjects.\"secret/s0\" = {{ opens = [\"{}\"] }}\ngrants = [", user(random)));
    lines.push(format!("{{ allow = [\"seal\"], on = \"shift/early\", to = [\"{}\"] }},", user(random)));
    for _ in 0..6 {
        // Whoever edits a role comes to everything, which takes the plain search long.
        let (act, on) = match random.usize(0..24) {
            0..10 => ("reset-credential", format!("user/u{}", random.usize(0..PEOPLE))),
            10..17 => ("change-members", format!("group/g{}", random.usize(0..3))),
            17 => ("edit-role", format!("role/r{}", random.usize(0..2))),
            18..21 => ("grant-on", "shift/early".to_owned()),
            _ => ("read-secret", "secret/s0".to_owned()),
        };
        let when = if random.usize(0..6) == 0 { ", when = { proof = [\"key\"] }" } else { "" };
        lines.push(format!("{{ allow = [\"{act}\"], on = \"{on}\", to = [\"{}\"]{when} }},", party(random)));
    }
    lines.push("]\n[systems.box]\nkind = \"host\"\nno-command-set = \"nothing\"\n[hosts.box.accounts]".to_owned());
    lines.extend((0..PEOPLE).map(|user| format!("u{user} = {{}}")));
    lines.push("tides = { shell = \"/usr/sbin/nologin\" }\nmoon = { shell = \"/usr/sbin/nologin\" }\nroot = { locked = true }".to_owned());
    lines.push("[hosts.box]\nrun-as = [".to_owned());
    lines.push("{ by = [\"account:tides\"], as = [\"root\"], commands = [\"shells\"], proof = false },".to_owned());
    if random.bool() {
        lines.push("{ by = [\"account:moon\"], as = [\"tides\"], commands = [\"shells\"], proof = false },".to_owned());
    }
    lines.push("]".to_owned());
    for job in ["tides", "moon"] {
        lines.push(format!("[hosts.box.jobs.{job}]\nruns-as = \"{job}\"\nline = \"/opt/{job}/run\"\nedited-by = ["));
        if random.usize(0..3) > 0 {
            lines.push(format!("\"{}\",", party(random)));
        }
        lines.push("]".to_owned());
    }
    lines.push(format!("[hosts.box.writable-by]\n\"/opt/{}\" = [", if random.bool() { "moon" } else { "tides" }));
    if random.usize(0..3) == 0 {
        lines.push(format!("\"{}\",", party(random)));
    }
    lines.push("]".to_owned());
    lines
}

/// Writes what somebody has come to into the text.
fn with(lines: &[String], state: &State) -> String {
    let mut text = lines.join("\n");
    for gained in state {
        text = match gained {
            Gained::Becomes(..) => text,
            Gained::Joins(user, group) => {
                let head = format!("[groups.{group}]\nmembers = [");
                text.replacen(&head, &format!("{head}\"user:{user}\", "), 1)
            }
            Gained::Shapes(_, role) => {
                let head = format!("[roles.{role}]\ngrants = [\n");
                let (before, rest) = text.split_once(&head).expect("the role is there");
                let (_, rest) = rest.split_once("\n]").unwrap_or(("", rest));
                format!("{before}{head}{{ allow = [{ANYTHING}], on = \"**\" }}\n]{rest}")
            }
            Gained::Grants(user, path) => {
                let grant = format!("{{ allow = [{ANYTHING}], on = [\"{path}\", \"{path}/**\"], to = [\"user:{user}\"] }},\n");
                let (before, rest) = text.split_once("}\ngrants = [\n").expect("the application is there");
                format!("{before}}}\ngrants = [\n{grant}{rest}")
            }
            Gained::Runs(user, account) => {
                let rule = format!("{{ by = [\"user:{user}\"], as = [\"{account}\"], commands = [\"anything\"], proof = false }},\n");
                text.replacen("run-as = [\n", &format!("run-as = [\n{rule}"), 1)
                    .replace(&format!("by = [\"account:{account}\""), &format!("by = [\"user:{user}\", \"account:{account}\""))
            }
        };
    }
    text
}

fn compiled(text: &str) -> Option<Engine> {
    let estate = Ledger::new().document("ledger.toml", text).estate().ok()?;
    Some(Engine::compile(estate).expect("it compiles"))
}

/// The ledger in which some things are so, made once.
fn ledger<'e>(engines: &'e mut Engines, lines: &[String], state: &State) -> Option<&'e Engine> {
    let of_ledger: State = state.iter().filter(|gained| !matches!(gained, Gained::Becomes(..))).cloned().collect();
    engines.entry(of_ledger.clone()).or_insert_with(|| compiled(&with(lines, &of_ledger))).as_ref()
}

/// Whether somebody is named by a party, in a ledger.
fn is_one_of(engine: &Engine, user: &str, party: &str) -> bool {
    match party.split_once(':') {
        Some(("user", name)) => name == user,
        Some((_, group)) => {
            let members = engine.estate().groups().iter().find(|known| known.id.value == group).expect("the group is there");
            members.members.iter().any(|member| member.value == format!("user:{user}"))
        }
        None => false,
    }
}

/// The sessions that matter: with a password that was set anew, or with nothing stated, or a key.
fn sessions(is_anew: bool) -> Vec<Session> {
    let with =
        |proof| Session { proofs: Some(vec![Proven { proof, age: jiff::SignedDuration::ZERO, channel: None }]), ..Session::default() };
    if is_anew { vec![with(Proof::Password)] } else { vec![Session::default(), with(Proof::Key)] }
}

/// What a state leads to by one act.
fn next(engine: &Engine, from: &str, state: &State) -> BTreeSet<Gained> {
    let mut mine = vec![(from.to_owned(), false)];
    mine.extend(state.iter().filter_map(|gained| match gained {
        Gained::Becomes(user, is_anew) => Some((user.clone(), *is_anew)),
        _ => None,
    }));
    let estate = engine.estate();
    let mut found = BTreeSet::new();
    for (user, is_anew) in &mine {
        let may = |system: &str, line: &str| {
            let mut all = sessions(*is_anew).into_iter();
            all.any(|session| engine.decide(&Question::in_session(user, system, line, session)).verdict != Verdict::Denied)
        };
        for target in estate.users().iter().filter(|target| target.id.value != *from && target.id.value != *user) {
            let has_password = target.proofs.iter().any(|proof| proof.value == Proof::Password);
            if has_password && may("rota", &format!("reset-credential on user/{}", target.id.value)) {
                found.insert(Gained::Becomes(target.id.value.clone(), true));
            }
        }
        for group in estate.groups().iter() {
            let owns = group.owners.iter().any(|owner| is_one_of(engine, user, &owner.value));
            if owns || may("rota", &format!("change-members on group/{}", group.id.value)) {
                found.extend(mine.iter().map(|(joins, _)| Gained::Joins(joins.clone(), group.id.value.clone())));
            }
        }
        for role in ["r0", "r1"].into_iter().filter(|role| may("rota", &format!("edit-role on role/{role}"))) {
            found.insert(Gained::Shapes(user.clone(), role.to_owned()));
        }
        if may("rota", "grant-on on shift/early") {
            found.insert(Gained::Grants(user.clone(), "shift/early".to_owned()));
        }
        if may("rota", "read-secret on secret/s0") {
            let opens = estate.entries().services.iter().flat_map(|service| &service.resources).flat_map(|resource| &resource.opens);
            let others = opens.filter_map(|whose| whose.value.strip_prefix("user:")).filter(|name| name != user && *name != from);
            found.extend(others.map(|name| Gained::Becomes(name.to_owned(), false)));
        }
        for host in estate.entries().hosts.iter() {
            for job in &host.jobs {
                let line = format!("edit-job on job/{}", job.name.value);
                let writes = host.writable_by.iter().any(|(folder, who)| {
                    folder.value == format!("/opt/{}", job.name.value) && who.iter().any(|who| is_one_of(engine, user, &who.value))
                });
                if writes || may("box", &line) {
                    found.insert(Gained::Runs(user.clone(), job.name.value.clone()));
                }
            }
        }
    }
    found.retain(|gained| !state.contains(gained));
    found
}

/// Whether somebody does something where some things are so: by themselves, or as anybody they sign in as.
fn does(engine: &Engine, from: &str, state: &State, (system, line, acting): (&str, &str, Option<&str>)) -> bool {
    let mine = state.iter().filter_map(|gained| match gained {
        Gained::Becomes(user, is_anew) => Some((user.as_str(), *is_anew)),
        _ => None,
    });
    std::iter::once((from, false)).chain(mine).any(|(user, is_anew)| {
        let through = acting.map(|account| vec!["account:tides".to_owned(), account.to_owned()]);
        let chains = [acting.map(|account| vec![account.to_owned()]), through].into_iter().flatten().chain(acting.is_none().then(Vec::new));
        let chains: Vec<Vec<String>> = chains.collect();
        sessions(is_anew).into_iter().any(|session| {
            chains.iter().any(|chain| {
                let acting = chain.iter().map(|act| act.parse().expect("a link")).collect();
                let session = Session { acting, ..session.clone() };
                engine.decide(&Question::in_session(user, system, line, session)).verdict != Verdict::Denied
            })
        })
    })
}

/// Looks through states one by one: all that is come to, and whether something is done in any. Nothing where there are too many states.
fn plainly(engines: &mut Engines, lines: &[String], from: &str, sought: (&str, &str, Option<&str>)) -> Option<(State, bool)> {
    let (mut seen, mut open): (BTreeSet<State>, Vec<State>) = (BTreeSet::new(), vec![State::new()]);
    let (mut come_to, mut is_done) = (State::new(), false);
    while let Some(state) = open.pop() {
        if !seen.insert(state.clone()) {
            continue;
        }
        if seen.len() > 300 {
            return None;
        }
        let Some(here) = ledger(engines, lines, &state) else { continue };
        is_done |= does(here, from, &state, sought);
        for gained in next(here, from, &state) {
            come_to.insert(gained.clone());
            open.push(state.iter().cloned().chain([gained]).collect());
        }
    }
    Some((come_to, is_done))
}

/// Reads what a step says that it gives.
fn given(words: &str) -> Option<Gained> {
    let parts: Vec<&str> = words.split('`').collect();
    Some(match parts.as_slice() {
        ["signs in as ", user, ..] => Gained::Becomes((*user).to_owned(), true),
        ["", user, " is in group ", group, ""] => Gained::Joins((*user).to_owned(), (*group).to_owned()),
        ["role ", role, " holds whatever ", user, " likes"] => Gained::Shapes((*user).to_owned(), (*role).to_owned()),
        ["", user, " may do anything on shift/early of rota, and below it"] => Gained::Grants((*user).to_owned(), "shift/early".to_owned()),
        ["", user, " runs anything as ", account, " on box"] => Gained::Runs((*user).to_owned(), (*account).to_owned()),
        _ => return None,
    })
}

/// Takes each step of a way, in the ledger as the steps before left it; returns what is so at its end.
fn taken(engines: &mut Engines, lines: &[String], way: &Way) -> State {
    let mut state = State::new();
    for step in &way.steps {
        let told = || format!("{way:#?}\n{}", lines.join("\n"));
        let here = ledger(engines, lines, &state).unwrap_or_else(|| panic!("{}", told()));
        let is_mine = step.by == way.from || state.iter().any(|gained| matches!(gained, Gained::Becomes(user, _) if *user == step.by));
        assert!(is_mine, "{}", told());
        let gained = given(&step.gives);
        match &step.question {
            Some(question) => assert_ne!(here.decide(question).verdict, Verdict::Denied, "{}", told()),
            // Owners take members in, and whoever may write writes: no question is about it.
            None => {
                let plain = next(here, &way.from, &state);
                assert!(gained.as_ref().is_some_and(|gained| plain.contains(gained)), "{}", told());
            }
        }
        // Which credential was read is not known.
        let is_read = step.question.as_ref().is_some_and(|question| question.line.starts_with("read-secret"));
        state.extend(gained.map(|gained| match gained {
            Gained::Becomes(user, _) if is_read => Gained::Becomes(user, false),
            other => other,
        }));
    }
    state
}

#[test]
fn ways_over_every_sort_of_act_agree_with_a_plain_search() {
    let first = seed(29_000);
    println!("first seed {first}");
    let mut sorts: BTreeMap<String, usize> = BTreeMap::new();
    let (mut walked, mut reached, mut not_reached, mut too_many, mut removals) = (0, 0, 0, 0, 0);
    for round in 0..questions(3_600).div_ceil(100) as u64 {
        let seed = first + round;
        let lines = written(&mut Rng::with_seed(seed));
        let Some(engine) = compiled(&lines.join("\n")) else { panic!("seed {seed}\n{}", lines.join("\n")) };
        let mut engines = Engines::new();
        let root = Session { acting: vec!["account:root".parse().expect("a link")], ..Session::default() };
        let plain = Session::default();
        let (sought, aim) = if round % 2 == 0 {
            (("rota", "seal on shift/early", None), Aim::Do(Sought::Line("seal on shift/early"), &["rota"], &plain))
        } else {
            (("box", "/bin/sh", Some("account:root")), Aim::Do(Sought::Line("/bin/sh"), &["box"], &root))
        };
        let acts = Acts::of(&engine, &[aim]);
        let people: Vec<String> = (0..PEOPLE).map(|number| format!("u{number}")).collect();
        let mut all_ways = Vec::new();
        let mut is_whole = true;
        for from in &people {
            let mut ways = Ways::of(&acts, from).expect("the user is known");
            let mut told = State::new();
            for way in ways.all() {
                walked += 1;
                told.extend(taken(&mut engines, &lines, &way));
                let last = way.steps.last().and_then(|step| given(&step.gives));
                let sort = format!("{last:?}");
                *sorts.entry(sort.split(['(', '"']).nth(1).unwrap_or_default().to_owned()).or_default() += 1;
            }
            let way = ways.to(aim);
            way.iter().for_each(|way| drop(taken(&mut engines, &lines, way)));
            assert!(!ways.is_cut_short, "seed {seed}");
            let Some((come_to, is_done)) = plainly(&mut engines, &lines, from, sought) else {
                too_many += 1;
                is_whole = false;
                continue;
            };
            assert_eq!(way.is_some(), is_done, "seed {seed}, {from}: {way:#?}\n{}", lines.join("\n"));
            *(if is_done { &mut reached } else { &mut not_reached }) += 1;
            // A group in which somebody is already is nothing to come to, and that others are taken in is told where it leads on.
            let is_new = |gained: &&Gained| match gained {
                Gained::Joins(user, group) => user == from && !is_one_of(&engine, user, &format!("group:{group}")),
                _ => true,
            };
            // Of somebody whose credential is read and set anew, one is told.
            let as_told = |gained: &Gained| match gained {
                Gained::Becomes(user, is_anew) => told.contains(gained) || told.contains(&Gained::Becomes(user.clone(), !is_anew)),
                other => told.contains(other),
            };
            let missing: Vec<&Gained> = come_to.iter().filter(is_new).filter(|gained| !as_told(gained)).collect();
            assert!(missing.is_empty(), "seed {seed}, from {from}: {missing:?} is not found\n{}", lines.join("\n"));
            all_ways.extend(way);
        }
        // What is left after one entry is taken out is what the plain search finds without its line.
        if is_whole && round % 4 < 2 {
            let text = lines.join("\n");
            for cut in cuts(&engine, &all_ways, aim) {
                let line = text.lines().nth(cut.place.line as usize - 1).expect("the line is there");
                let Some(row) = lines.iter().position(|known| known == line) else { continue };
                if lines.iter().filter(|known| *known == line).count() > 1 {
                    continue;
                }
                let mut without = lines.clone();
                without[row].clear();
                let mut engines = Engines::new();
                let left =
                    all_ways.iter().filter(|way| plainly(&mut engines, &without, &way.from, sought).is_some_and(|(_, is_done)| is_done));
                assert_eq!(cut.left, left.count(), "seed {seed}: {cut:#?}\n{text}");
                removals += 1;
            }
        }
    }
    println!("{walked} ways, {reached} reached, {not_reached} not, {too_many} with too many states, {removals} removals; {sorts:?}");
    assert!(sorts.len() >= 5 && reached > 20 && not_reached > 20 && removals > 4, "{sorts:?}");
}
