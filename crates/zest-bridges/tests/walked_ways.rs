//! Ways on random database servers, walked on the real ones: each step is carried out as the account that takes it.

use std::collections::BTreeMap;

use fastrand::Rng;
use mysql::prelude::Queryable;
use zest_ledger::ask::{Question, Session};
use zest_ledger::review::Sought;
use zest_ledger::ways::{Acts, Aim, Way, WayStep, Ways};
use zest_ledger::{Engine, Ledger, mariadb as club, postgresql as db};
use zest_testkit::databases::administered::{Gained, PEOPLE, Server, given};
use zest_testkit::servers;

use super::mariadb::{clean, connect, open as open_mariadb, root};
use super::postgresql::in_database;
use super::support::{in_full_run, seed};

/// How many random servers are walked on, of each sort.
fn wanted() -> u64 {
    in_full_run(100, 4)
}

/// A random server of a sort, with its engine.
fn random(seed: u64, is_postgresql: bool) -> (Server, Engine) {
    let mut random = Rng::with_seed(seed);
    let server = std::iter::repeat_with(|| Server::random(&mut random)).find(|server| server.is_postgresql == is_postgresql);
    let server = server.expect("there is one of each");
    let estate = Ledger::new().document("db.toml", &server.text()).estate().unwrap_or_else(|f| panic!("{f}"));
    (server, Engine::compile(estate).expect("it compiles"))
}

/// The longest way of each sort from everybody, and those to a table.
fn ways(engine: &Engine, line: &str) -> Vec<Way> {
    let plain = Session::default();
    let aim = Aim::Do(Sought::Line(line), &["db"], &plain);
    let (everything, meant) = (Acts::of(engine, &[]), Acts::of(engine, &[aim]));
    let mut found = Vec::new();
    for from in (0..PEOPLE).map(|number| format!("u{number}")) {
        let mut of_sort: BTreeMap<String, Way> = BTreeMap::new();
        for way in Ways::of(&everything, &from).expect("the user is known").all() {
            let last = way.steps.last().expect("it has steps");
            let verb = last.question.as_ref().map_or("", |question| question.line.split(' ').next().unwrap_or_default());
            let sort = format!("{verb} {:?}", given(&last.gives).map(|gained| std::mem::discriminant(&gained)));
            let is_longer = of_sort.get(&sort).is_none_or(|known| known.steps.len() < way.steps.len());
            is_longer.then(|| of_sort.insert(sort, way));
        }
        found.extend(of_sort.into_values());
        found.extend(Ways::of(&meant, &from).expect("the user is known").to(aim));
    }
    found
}

/// What a step asks on the server, and what is come to by it; nothing for what is done elsewhere.
fn on_server(step: &WayStep) -> Option<(&Question, Option<Gained>)> {
    let question = step.question.as_ref()?;
    (question.system == "db").then(|| (question, given(&step.gives)))
}

#[test]
fn ways_over_statements_on_random_postgresql_servers_are_walked() {
    let Some(real) = servers::wanted(servers::postgresql) else { return };
    let first = seed("ways walked on PostgreSQL");
    let (mut walked, mut steps) = (0, 0);
    for seed in first..first + wanted() {
        let (server, engine) = random(seed, true);
        let state = db::state_of(engine.estate(), "db", None).expect("it is a server");
        let mut is_changed = true;
        in_database(&real, "club", |session| {
            for way in ways(&engine, "select on table public.fares") {
                if is_changed {
                    let restoring = session.read().expect("it is read").steps_to(&state, "postgres");
                    session.run(&restoring).expect("it is rolled out");
                }
                // What one step changes is taken back by the server itself.
                is_changed = way.steps.len() > 1;
                for (question, gained) in way.steps.iter().filter_map(on_server) {
                    let told = |error: &dyn std::fmt::Debug| format!("seed {seed}: {error:?}\n{way:#?}\n{}", server.text());
                    let user = question.session.account.as_deref().unwrap_or(&question.user);
                    let mut config = postgres::Client::configure();
                    config.host("127.0.0.1").port(real.port).user(user).dbname("club");
                    let mut client = config.connect(postgres::NoTls).unwrap_or_else(|e| panic!("{}", told(&e)));
                    for role in question.session.active_roles.iter().flatten() {
                        client.batch_execute(&format!("SET ROLE {}", db::quoted(role))).unwrap_or_else(|e| panic!("{}", told(&e)));
                    }
                    let statement = spoken(question, |table| format!("SELECT * FROM {table}"));
                    let alone = format!("BEGIN; {statement}; ROLLBACK");
                    client.batch_execute(if is_changed { &statement } else { &alone }).unwrap_or_else(|e| panic!("{}", told(&e)));
                    if let Some(Gained::Rules(account)) = gained.filter(|_| is_changed) {
                        let all = format!("ALTER ROLE {} SUPERUSER", db::quoted(&account));
                        session.client().batch_execute(&all).expect("whoever runs programs may do so");
                    }
                    steps += 1;
                }
                walked += 1;
            }
        });
    }
    eprintln!("{walked} ways walked, {steps} steps carried out");
    assert!(walked > 5 && steps > walked, "{walked} ways, {steps} steps");
}

#[test]
fn ways_over_statements_on_random_mariadb_servers_are_walked() {
    let Some(real) = servers::wanted(servers::mariadb) else { return };
    let first = seed("ways walked on MariaDB");
    let mut session = open_mariadb(&real);
    let origin = club::Origin::Address("127.0.0.1".parse().expect("an address"));
    let (mut walked, mut steps) = (0, 0);
    for seed in first..first + wanted() {
        let (server, engine) = random(seed, false);
        let mut state = club::state_of(engine.estate(), "db", None).expect("it is a server");
        clean(&mut session);
        let fresh = session.read().expect("it is read");
        state.accounts.extend(fresh.accounts.into_iter().filter(|(account, _)| *account == root()));
        state.grants.extend(fresh.grants);
        for way in ways(&engine, "select on table club.fares") {
            let restoring = session.read().expect("it is read").steps_to(&state, &root());
            for step in restoring {
                session.client().query_drop(&step.sql).unwrap_or_else(|e| panic!("{}: {e}", step.sql));
            }
            for (question, gained) in way.steps.iter().filter_map(on_server) {
                let told = |error: &dyn std::fmt::Debug| format!("seed {seed}: {error:?}\n{way:#?}\n{}", server.text());
                let by_root = |sql: String, session: &mut zest_bridges::mariadb::Session| {
                    session.client().query_drop(&sql).unwrap_or_else(|e| panic!("{sql}: {e}"))
                };
                // Nobody is asked for a password here, whether they have one or not.
                for account in server.accounts.keys().filter_map(|account| club::AccountName::parse(account)) {
                    by_root(format!("ALTER USER {} IDENTIFIED BY ''", account.sql()), &mut session);
                }
                let login = question.session.account.as_deref().unwrap_or(&question.user);
                let mut client = connect(&real, login, &origin).unwrap_or_else(|e| panic!("{}", told(&e)));
                match question.session.active_roles.as_deref() {
                    None => {}
                    Some([]) => client.query_drop("SET ROLE NONE").unwrap_or_else(|e| panic!("{}", told(&e))),
                    Some(roles) => {
                        roles.iter().for_each(|role| {
                            client.query_drop(format!("SET ROLE {}", club::quoted(role))).unwrap_or_else(|e| panic!("{}", told(&e)));
                        });
                    }
                }
                // The whole of its own tables is left as it is.
                let statement = spoken(question, |table| format!("SELECT * FROM {table}"))
                    .replace("SET Priv = '{}'", "SET Priv = '{}' WHERE User = 'nobody at all'");
                client.query_drop(&statement).unwrap_or_else(|e| panic!("{}", told(&e)));
                if statement.contains(" PROCEDURE ") {
                    // It runs as whoever it is said to.
                    client.query_drop("CALL club.anything()").unwrap_or_else(|e| panic!("{}", told(&e)));
                    by_root("DROP PROCEDURE club.anything".to_owned(), &mut session);
                }
                if statement.contains(" EVENT ") {
                    by_root("DROP EVENT club.anything".to_owned(), &mut session);
                }
                if let Some(Gained::Rules(account)) = gained {
                    by_root("DELETE FROM mysql.global_priv WHERE User = 'new'".to_owned(), &mut session);
                    let account = club::AccountName::parse(&account).expect("an account");
                    by_root(format!("GRANT ALL ON *.* TO {} WITH GRANT OPTION", account.sql()), &mut session);
                }
                steps += 1;
            }
            walked += 1;
        }
    }
    clean(&mut session);
    eprintln!("{walked} ways walked, {steps} steps carried out");
    assert!(walked > 5 && steps > walked, "{walked} ways, {steps} steps");
}

/// The statement of a question, where it is one about a table: a plain one.
fn spoken(question: &Question, of_table: impl Fn(&str) -> String) -> String {
    match question.line.strip_prefix("select on table ") {
        Some(table) => of_table(table),
        None => question.line.clone(),
    }
}
