//! Ways over statements on random database servers, against a plain search that writes whatever is come to into the ledger, and reads it
//! again; it tries every account, every role and every statement, whether anything tells them apart or not.

use std::collections::{BTreeMap, BTreeSet};

use fastrand::Rng;
use zest_ledger::ask::{Proven, Question, Session, Verdict};
use zest_ledger::entry::Proof;
use zest_ledger::review::Sought;
use zest_ledger::ways::{Acts, Aim, Way, Ways};
use zest_ledger::{Engine, Ledger};
use zest_testkit::databases::administered::{Gained, PEOPLE, Server, given};
use zest_testkit::{questions, seed};

type State = BTreeSet<Gained>;

/// Roles that come with PostgreSQL, of which some is a member or can be made one.
const PREDEFINED: [&str; 3] = ["pg_write_server_files", "pg_execute_server_program", "pg_read_server_files"];

/// Its engine; nothing where it is no ledger.
fn engine_of(server: &Server) -> Option<Engine> {
    let estate = Ledger::new().document("ledger.toml", &server.text()).estate().ok()?;
    Some(Engine::compile(estate).expect("it compiles"))
}

/// Statements of an account by which more is come to, with what each gives; `user` is whoever signs in as it.
fn statements(server: &Server, user: &str, account: &str) -> Vec<(String, Gained)> {
    let mut list = Vec::new();
    let others: Vec<&str> =
        server.accounts.keys().map(String::as_str).filter(|other| !server.accounts_of(user).any(|mine| mine == *other)).collect();
    let roles = server.roles.keys().map(String::as_str);
    let written = |name: &str| match name.split_once('@') {
        Some((login, host)) => format!("'{login}'@'{host}'"),
        None if server.is_postgresql => format!("\"{name}\""),
        None => format!("'{name}'"),
    };
    let holds = |role: &str| Gained::Holds(account.to_owned(), role.to_owned());
    let uses = |other: &str| Gained::Uses(user.to_owned(), other.to_owned());
    let is_member = |role: &str| server.accounts[account].is_in(role);
    if server.is_postgresql {
        // Accounts that are used as well: what two of them hold is held at once then.
        let accounts = server.accounts.keys().map(String::as_str).filter(|other| *other != account);
        for role in roles.chain(accounts).chain(PREDEFINED).filter(|role| !is_member(role)) {
            list.push((format!("GRANT {} TO {}", written(role), written(account)), holds(role)));
        }
        for other in &others {
            list.push((format!("ALTER ROLE {} PASSWORD 'x'", written(other)), uses(other)));
        }
        list.push(("COPY (SELECT 1) TO '/tmp/x'".to_owned(), Gained::Rules(account.to_owned())));
        for table in server.tables.keys() {
            let object = format!("table public.{table}");
            let grant = format!("GRANT ALL PRIVILEGES ON TABLE public.{table} TO {}", written(account));
            list.push((grant, Gained::Owns(account.to_owned(), object.clone())));
            if server.tables[table].1 {
                list.push((format!("ALTER TABLE public.{table} DISABLE ROW LEVEL SECURITY"), Gained::Shows(object)));
            }
        }
    } else {
        for role in roles.filter(|role| !is_member(role)) {
            list.push((format!("GRANT {} TO {}", written(role), written(account)), holds(role)));
        }
        for other in &others {
            list.push((format!("ALTER USER {} IDENTIFIED BY 'x'", written(other)), uses(other)));
        }
        list.push(("INSERT INTO mysql.global_priv VALUES ('%', 'x', '{}')".to_owned(), Gained::Rules(account.to_owned())));
    }
    list
}

/// What a state leads to by one statement, or by a password that is set anew.
fn next(server: &Server, engine: &Engine, from: &str, state: &State) -> State {
    let mut found = State::new();
    for (user, is_anew) in people(from, state) {
        for of in (0..PEOPLE).map(|number| format!("u{number}")).filter(|of| *of != user && of != from) {
            let question = Question::in_session(&user, "desk", &format!("reset-credential on user/{of}"), session(is_anew));
            if engine.decide(&question).verdict != Verdict::Denied {
                found.insert(Gained::Becomes(of));
            }
        }
        for account in server.accounts_of(&user) {
            for (statement, gained) in statements(server, &user, account) {
                let is_so = state.contains(&gained);
                if !is_so && may(server, engine, (&user, is_anew), account, &Question::statement(&user, "db", &statement)) {
                    found.insert(gained);
                }
            }
            if !server.is_postgresql {
                found.extend(defined(server, engine, (&user, is_anew), account));
            }
        }
    }
    found.retain(|gained| !state.contains(gained));
    found
}

/// As whom an account of MariaDB may have a routine or an event run that does anything at all: who has the right to it without any role.
fn defined(server: &Server, engine: &Engine, person: (&str, bool), account: &str) -> State {
    let (user, is_anew) = person;
    let of_accounts = server.accounts.keys().filter(|other| !server.accounts_of(user).any(|mine| mine == **other)).map(|other| {
        let mut lent = server.clone();
        lent.apply(&Gained::Uses(user.to_owned(), other.clone()));
        let (login, host) = other.split_once('@').expect("it has a host");
        (Gained::Uses(user.to_owned(), other.clone()), format!("'{login}'@'{host}'"), lent, login.to_owned())
    });
    let made = of_accounts.filter(|(_, by, lent, login)| {
        let mut ways = vec![("PROCEDURE club.x()", "execute"), ("EVENT club.x ON SCHEDULE EVERY 1 HOUR DO", "event")];
        ways.retain(|(what, _)| {
            let statement = format!("CREATE DEFINER={by} {what} SELECT 1");
            may(server, engine, person, account, &Question::statement(user, "db", &statement))
        });
        let lent = if ways.is_empty() { None } else { engine_of(lent) };
        lent.is_some_and(|lent| {
            ways.iter().any(|(_, right)| {
                let asked = Question::new(user, "db", &format!("{right} on database club"));
                let session = Session { account: Some(login.clone()), active_roles: Some(Vec::new()), ..session(is_anew) };
                lent.decide(&Question { session, ..asked }).verdict != Verdict::Denied
            })
        })
    });
    made.map(|(gained, ..)| gained).collect()
}

/// Whether a user may do something as an account, whatever role is active.
fn may(server: &Server, engine: &Engine, (user, is_anew): (&str, bool), account: &str, question: &Question) -> bool {
    let login = account.split('@').next().unwrap_or_default();
    let predefined = PREDEFINED.iter().filter(|_| server.is_postgresql).map(|role| Some(vec![(*role).to_owned()]));
    let roles = server.roles.keys().chain(server.accounts.keys()).map(|role| Some(vec![role.clone()])).chain(predefined);
    roles.chain([None, Some(Vec::new())]).any(|active_roles| {
        let account = (login != user).then(|| login.to_owned());
        let session = Session { account, active_roles, ..session(is_anew) };
        engine.decide(&Question { session, ..question.clone() }).verdict != Verdict::Denied
    })
}

/// Whether somebody reads the table, themselves or through the view.
fn does(server: &Server, engine: &Engine, from: &str, state: &State, line: &str) -> bool {
    let schema = if server.is_postgresql { "public" } else { "club" };
    people(from, state).into_iter().any(|(user, is_anew)| {
        server.accounts_of(&user).any(|account| {
            let through = || {
                let question = Question::statement(&user, "db", &format!("SELECT * FROM {schema}.shown"));
                let is_owners = server.view.as_ref().is_some_and(|(_, is_callers)| !is_callers);
                is_owners
                    && line.starts_with("select")
                    && line.ends_with("fares")
                    && may(server, engine, (&user, is_anew), account, &question)
            };
            may(server, engine, (&user, is_anew), account, &Question::new(&user, "db", line)) || through()
        })
    })
}

/// Whose rights are there, and whether they sign in with a password that was set anew.
fn people(from: &str, state: &State) -> Vec<(String, bool)> {
    let others = state.iter().filter_map(|gained| match gained {
        Gained::Becomes(user) => Some((user.clone(), true)),
        _ => None,
    });
    std::iter::once((from.to_owned(), false)).chain(others).collect()
}

fn session(is_anew: bool) -> Session {
    let anew = || vec![Proven { proof: Proof::Password, age: jiff::SignedDuration::ZERO, channel: None }];
    Session { proofs: is_anew.then(anew), ..Session::default() }
}

/// The server in which some things are so, and its engine.
fn with(server: &Server, state: &State) -> (Server, Option<Engine>) {
    let mut server = server.clone();
    state.iter().for_each(|gained| server.apply(gained));
    let engine = engine_of(&server);
    (server, engine)
}

/// All that is come to where whatever can be is done, round by round, as long as that is a ledger: a lower bound of what can be come to.
fn together(server: &Server, from: &str, line: &str) -> (State, bool) {
    let (mut state, mut is_done) = (State::new(), false);
    loop {
        let (here, engine) = with(server, &state);
        let Some(engine) = engine else { return (state, is_done) };
        is_done |= does(&here, &engine, from, &state, line);
        let found = next(&here, &engine, from, &state);
        if found.is_empty() {
            return (state, is_done);
        }
        let all: State = state.union(&found).cloned().collect();
        if with(server, &all).1.is_some() {
            state = all;
            continue;
        }
        // Two roles may not be members of each other.
        for gained in found {
            state.insert(gained.clone());
            if with(server, &state).1.is_none() {
                state.remove(&gained);
            }
        }
    }
}

/// Takes each step of a way, in the ledger as the steps before left it; returns what is so at its end.
fn taken(server: &Server, way: &Way) -> State {
    let mut state = State::new();
    for step in &way.steps {
        let told = || format!("{way:#?}\n{}", server.text());
        let (_, here) = with(server, &state);
        let here = here.unwrap_or_else(|| panic!("{}", told()));
        assert!(people(&way.from, &state).iter().any(|(user, _)| *user == step.by), "{}", told());
        let question = step.question.as_ref().unwrap_or_else(|| panic!("{}", told()));
        assert_ne!(here.decide(question).verdict, Verdict::Denied, "{}", told());
        state.extend(given(&step.gives));
    }
    state
}

/// For each account one that stands for it, since nothing tells the two apart.
struct StandIns {
    all: BTreeMap<String, String>,
    /// Accounts that somebody uses to begin with.
    own: BTreeSet<String>,
}

impl StandIns {
    fn of(engine: &Engine, from: &str) -> Self {
        let site = engine.site("db").expect("the server");
        let lent = format!("user:{from}");
        let entries = engine.estate().entries().databases.iter().flat_map(|part| &part.accounts);
        let own =
            entries.filter(|entry| site.kind().login_of(&entry.name.value) == from || entry.used_by.iter().any(|by| by.value == lent));
        let own = own.map(|entry| entry.name.value.clone()).collect();
        let lists = site.kind().alike(site);
        let all = lists.iter().flat_map(|list| list.iter().map(|one| (one.account.clone(), list[0].account.clone()))).collect();
        Self { all, own }
    }

    fn of_any(&self, account: &str) -> String {
        self.all.get(account).map_or(account, String::as_str).to_owned()
    }

    /// The same, but for those that somebody uses: what such an account comes to is told of it.
    fn of_others(&self, account: &str) -> String {
        if self.own.contains(account) { account.to_owned() } else { format!("like {}", self.of_any(account)) }
    }

    /// The same for whoever else on the way uses one of those that are alike: of what one of them has already, another gives nothing more.
    fn told_of_any(&self, gained: &Gained) -> Gained {
        let Self { all, own: _ } = self;
        Self { all: all.clone(), own: BTreeSet::new() }.told(gained)
    }

    /// Returns whether it is that of two accounts that nothing tells apart one comes to the other: what it could do, it does already.
    fn is_of_twins(&self, gained: &Gained) -> bool {
        matches!(gained, Gained::Holds(account, role) if self.of_any(account) == self.of_any(role) && !self.own.contains(account))
    }

    fn told(&self, gained: &Gained) -> Gained {
        match gained {
            Gained::Becomes(user) => Gained::Becomes(user.clone()),
            Gained::Uses(user, account) => Gained::Uses(user.clone(), self.of_any(account)),
            Gained::Holds(account, role) => Gained::Holds(self.of_others(account), self.of_any(role)),
            Gained::Owns(account, object) => Gained::Owns(self.of_others(account), object.clone()),
            Gained::Shows(object) => Gained::Shows(object.clone()),
            Gained::Rules(account) => Gained::Rules(self.of_others(account)),
        }
    }
}

#[test]
fn ways_over_statements_on_random_servers_agree_with_a_plain_search() {
    let first = seed(41_000);
    println!("first seed {first}");
    let mut sorts: BTreeMap<String, usize> = BTreeMap::new();
    let (mut walked, mut reached, mut not_reached, mut no_ledger) = (0, 0, 0, 0);
    for round in 0..questions(1_500).div_ceil(100) as u64 {
        let seed = first + round;
        let server = Server::random(&mut Rng::with_seed(seed));
        let Some(engine) = engine_of(&server) else {
            no_ledger += 1;
            continue;
        };
        let schema = if server.is_postgresql { "public" } else { "club" };
        let line = format!("{} on table {schema}.fares", if round % 2 == 0 { "select" } else { "delete" });
        let plain = Session::default();
        let aim = Aim::Do(Sought::Line(&line), &["db"], &plain);
        let (acts, everything) = (Acts::of(&engine, &[aim]), Acts::of(&engine, &[]));
        for from in (0..PEOPLE).map(|number| format!("u{number}")) {
            let mut ways = Ways::of(&everything, &from).expect("the user is known");
            let mut told = State::new();
            for way in ways.all() {
                walked += 1;
                taken(&server, &way);
                let last = way.steps.last().and_then(|step| given(&step.gives)).unwrap_or_else(|| panic!("{way:#?}"));
                let sort = format!("{last:?}");
                *sorts.entry(sort.split(['(', '"']).next().unwrap_or_default().to_owned()).or_default() += 1;
                told.insert(last);
            }
            let mut ways = Ways::of(&acts, &from).expect("the user is known");
            let way = ways.to(aim);
            way.iter().for_each(|way| drop(taken(&server, way)));
            assert!(!ways.is_cut_short, "seed {seed}");
            let (come_to, is_done) = together(&server, &from, &line);
            assert_eq!(way.is_some(), is_done, "seed {seed}, {from}: {line}: {way:#?}\n{}", server.text());
            assert!(way.is_none() || acts.candidates(Some(aim)).contains(&from.as_str()), "seed {seed}, {from}: {line}");
            *(if is_done { &mut reached } else { &mut not_reached }) += 1;
            // Of accounts that nothing tells apart one is told, and how many others there are.
            let stand_ins = StandIns::of(&engine, &from);
            let told: State = told.iter().flat_map(|gained| [stand_ins.told(gained), stand_ins.told_of_any(gained)]).collect();
            let is_told = |gained: &&Gained| told.contains(&stand_ins.told(gained)) || stand_ins.is_of_twins(gained);
            let missing: Vec<&Gained> = come_to.iter().filter(|gained| !is_told(gained)).collect();
            assert!(missing.is_empty(), "seed {seed}, from {from}: {missing:?} is not found\n{}", server.text());
        }
    }
    println!("{walked} ways, {reached} reached, {not_reached} not, {no_ledger} no ledger; {sorts:?}");
    assert!(sorts.len() >= 5 && reached > 10 && not_reached > 10, "{sorts:?}");
}

/// Of what is tried together some excludes each other: `crew` and `u1` could each be made a member of the other. Whatever comes after one of
/// them alone is found after that one.
#[test]
fn what_comes_after_one_of_several_that_exclude_each_other_is_found() {
    let ledger = r#"
        users.u0.proofs = ["password"]
        users.u1.proofs = ["password"]
        users.u2.proofs = ["password"]
        users.u3.proofs = ["password"]
        [systems.db]
        kind = "postgresql"
        database = "club"
        [databases.db]
        owner = "top"
        accounts."crew" = { member-of = ["night", "steward"], used-by = ["user:u0"], inherit = false }
        accounts."top" = { may = ["superuser"] }
        accounts."u0" = { member-of = ["harbour"], administers = ["steward"] }
        accounts."u1" = { may = ["create-role"], member-of = ["pg_write_server_files"], inherit = false }
        accounts."u2" = { member-of = ["harbour"] }
        accounts."u3" = { member-of = ["night"], administers = ["steward"] }
        roles."harbour" = {  }
        roles."night" = { member-of = ["harbour"] }
        roles."steward" = { may = ["create-role"] }
        objects."table public.fares" = { owner = "u1", columns = { id = "int" } }
        objects."table public.tides" = { owner = "u3", columns = { id = "int" } }
    "#;
    let engine = crate::support::engine(ledger);
    let acts = Acts::of(&engine, &[]);
    let mut ways = Ways::of(&acts, "u0").expect("the user is known");
    let all = ways.all();
    assert!(!ways.is_cut_short);
    let gives = |way: &&Way| way.steps.last().is_some_and(|step| step.gives == "account `u1` on db is a member of `top`");
    let way = all.iter().find(gives).expect("who may anything on the server makes the account a member of whatever there is");
    assert!(way.steps.len() <= 4, "{way:#?}");
}
