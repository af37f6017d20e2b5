//! Sessions that are open while rights change: what each may afterwards, on both servers, against what we say of such a session.

use fastrand::Rng;
use mysql::prelude::Queryable;
use postgres::error::SqlState;
use zest_ledger::ask::Refusal;
use zest_ledger::mariadb::{self, AccountName, ObjectName, Origin, View};
use zest_ledger::{Before, Engine, Question, postgresql};
use zest_testkit::servers;

use crate::support::{Counts, engine_of, in_full_run, seed};

fn one_of<'a>(rng: &mut Rng, names: impl IntoIterator<Item = &'a String>) -> String {
    let names: Vec<&String> = names.into_iter().collect();
    names[rng.usize(..names.len())].clone()
}

/// Holds what a session was let do against our answer. Where we say that it is not known, nothing is held.
fn compare(
    (then, now): (&Engine, &Engine),
    question: &Question,
    (is_refused, told): (bool, &str),
    counts: &mut Counts,
) -> Result<(), String> {
    let answer = now.ask_opened(&Before { at: question.session.at, ..Before::new(then) }, question);
    let anew = now.explain(question);
    let differs = (anew.refusal.is_some() != is_refused).then_some(", other than a new one");
    let kind = |word: &str| format!("open sessions: {word} by both{}", differs.unwrap_or_default());
    match answer.refusal {
        Some(Refusal::NotDecided) => counts.undecided(),
        Some(_) if is_refused => counts.add(&kind("refused"), 1),
        None if !is_refused => counts.add(&kind("allowed"), 1),
        _ => {
            let gates = answer.gates.iter().map(|gate| format!("  {}\n", gate.text)).collect::<String>();
            return Err(format!("{question:?}: the server says {told}, we say {:?}:\n{gates}", answer.verdict));
        }
    }
    Ok(())
}

/// Changes of an estate beside grants.
fn other_changes(rng: &mut Rng, state: &mariadb::State) -> Vec<String> {
    let accounts: Vec<&AccountName> = state.accounts.keys().filter(|a| a.user != "root" && !a.user.is_empty()).collect();
    let roles: Vec<&String> = state.roles.iter().collect();
    let mut list = Vec::new();
    for _ in 0..4 {
        let (Some(account), false) = (accounts.get(rng.usize(..accounts.len().max(1))), roles.is_empty()) else { break };
        let (role, other) = (mariadb::quoted(&one_of(rng, roles.clone())), mariadb::quoted(&one_of(rng, roles.clone())));
        list.push(match rng.u8(..9) {
            0 => format!("GRANT {role} TO {}", account.sql()),
            1 => format!("REVOKE {role} FROM {}", account.sql()),
            2 => format!("GRANT {role} TO {other}"),
            3 => format!("REVOKE {role} FROM {other}"),
            4 => format!("SET DEFAULT ROLE NONE FOR {}", account.sql()),
            5 => format!("DROP ROLE {role}"),
            6 => format!("DROP USER {}", account.sql()),
            _ => format!("ALTER USER {} ACCOUNT LOCK", account.sql()),
        });
    }
    list
}

#[test]
fn open_sessions_of_mariadb_keep_what_we_say() {
    let Some(server) = servers::wanted(servers::mariadb) else { return };
    let first = seed("MariaDB, open sessions");
    let mut counts = Counts::default();
    let mut admin = crate::mariadb::open(&server);
    for number in 0..in_full_run(60, 8) {
        let seed = first + number;
        let mut rng = Rng::with_seed(seed);
        crate::mariadb::clean(&mut admin);
        let size = zest_testkit::databases::mariadb::Size { logins: 4, roles: 4, tables: 4, grants: 40 };
        let wanted = zest_testkit::databases::mariadb::estate(&mut rng, size);
        let before = crate::mariadb::round(&mut admin, &wanted, &mut counts).unwrap_or_else(|e| panic!("seed {seed}: {e}"));
        // Some grants to roles reach the roles above once the server reads its tables anew.
        admin.client().query_drop("FLUSH PRIVILEGES").expect("it may");
        let mut open = Vec::new();
        for account in before.accounts.keys().filter(|account| account.user != "root") {
            for origin in crate::mariadb::origins() {
                let Ok(mut session) = crate::mariadb::connect(&server, &account.user, &origin) else { continue };
                let role = (!before.roles.is_empty() && rng.bool()).then(|| one_of(&mut rng, &before.roles));
                let set = role.as_ref().is_some_and(|role| session.query_drop(format!("SET ROLE {}", mariadb::quoted(role))).is_ok());
                let database = one_of(&mut rng, &before.databases);
                let used = rng.bool() && session.query_drop(format!("USE {}", mariadb::quoted(&database))).is_ok();
                open.push((account.user.clone(), origin, role.filter(|_| set), used.then_some(database), session));
            }
        }
        for _ in 0..12 {
            let change = zest_testkit::databases::mariadb::random_change(&mut rng, &before);
            let _ = admin.client().query_drop(change.sql());
        }
        for change in other_changes(&mut rng, &before) {
            let _ = admin.client().query_drop(change);
        }
        admin.client().query_drop("FLUSH PRIVILEGES").expect("it may");
        let after = admin.read().expect("reads");
        let documents = [before.document("loyalty", None), after.document("loyalty", None)];
        let [then, now] = documents.each_ref().map(|document| engine_of(document).expect("it was read"));
        for (login, origin, role, default, session) in &mut open {
            // What the order in the server's memory decides is denied here, and may be allowed there.
            let account = before.account_for(login, origin).expect("it came in");
            let active = role.as_deref().or(before.accounts[account].default_role.as_deref());
            let by_chance = View::new(&before, account, origin.clone(), active).is_left_to_chance();
            // A routine of the default database need not have it opened for whom it runs as.
            let is_asked = |name: &ObjectName| !name.class.is_routine() || default.as_ref() != Some(&name.database);
            for (name, object) in before.objects.iter().filter(|(name, _)| is_asked(name)) {
                for (_, sql) in crate::mariadb::statements(name, &object.columns) {
                    let _ = session.query_drop("START TRANSACTION");
                    let came = session.query_iter(&sql).and_then(|mut rows| rows.try_for_each(|row| row.map(drop)));
                    // Nobody runs what its definer left behind, whatever the rights.
                    if matches!(&came, Err(mysql::Error::MySqlError(e)) if e.code == 1449) {
                        continue;
                    }
                    let refused = came.as_ref().err().and_then(crate::mariadb::refusal);
                    let _ = session.query_drop("ROLLBACK");
                    let mut question = Question::statement(login.as_str(), "loyalty", &sql);
                    match origin {
                        Origin::Local => question.session.local = true,
                        Origin::Address(address) => question.session.origin = Some(*address),
                    }
                    question.session.active_roles = role.clone().map(|role| vec![role]);
                    if by_chance && refused.is_none() && now.ask_opened(&Before::new(&then), &question).refusal.is_some() {
                        counts.undecided();
                        continue;
                    }
                    let came = (refused.is_some(), &*format!("{came:?}"));
                    let told = |e: String| panic!("seed {seed}: {e}\n{}\n# now\n{}", documents[0], documents[1]);
                    compare((&then, &now), &question, came, &mut counts).unwrap_or_else(told);
                }
            }
        }
    }
    counts.print("MariaDB, open sessions");
}

#[test]
fn open_sessions_of_postgresql_keep_what_we_say() {
    let Some(server) = servers::wanted(servers::postgresql) else { return };
    let first = seed("PostgreSQL, open sessions");
    let mut counts = Counts::default();
    for number in 0..in_full_run(60, 8) {
        let seed = first + number;
        let database = format!("opened_{number}");
        crate::postgresql::in_database(&server, &database, |admin| {
            let mut rng = Rng::with_seed(seed);
            let size = zest_testkit::databases::postgresql::Size { roles: 6, tables: 5, grants: 40 };
            let wanted = zest_testkit::databases::postgresql::estate(&mut rng, &database, "", size);
            let before = crate::postgresql::round(admin, &wanted, &mut counts).unwrap_or_else(|e| panic!("seed {seed}: {e}"));
            let names: Vec<&String> = before.roles.keys().filter(|role| *role != "postgres").collect();
            let mut open = Vec::new();
            for (account, _) in before.roles.iter().filter(|(name, role)| role.login && *name != "postgres") {
                for _ in 0..2 {
                    let mut config = postgres::Client::configure();
                    config.host("127.0.0.1").port(server.port).user(account).dbname(&database);
                    let Ok(mut session) = config.connect(postgres::NoTls) else { continue };
                    let role = rng.bool().then(|| one_of(&mut rng, names.clone()));
                    let set = |role: &String| session.batch_execute(&format!("SET ROLE {}", postgresql::quoted(role))).is_ok();
                    let role = role.filter(set);
                    open.push((account.clone(), role, session));
                }
            }
            let roles: Vec<String> = names.iter().copied().cloned().collect();
            for _ in 0..16 {
                let mut change = zest_testkit::databases::postgresql::random_change(&mut rng, &before, &roles);
                change.by = None;
                let of_database = change.object.class == postgresql::Class::Database;
                let on = if of_database { postgresql::quoted(&database) } else { change.object.sql() };
                let _ = admin.client().batch_execute(&change.sql(&on));
                let (role, other) =
                    (postgresql::quoted(&one_of(&mut rng, names.clone())), postgresql::quoted(&one_of(&mut rng, names.clone())));
                let statement = match rng.u8(..12) {
                    0 | 1 => format!("GRANT {role} TO {other}"),
                    2 | 3 => format!("REVOKE {role} FROM {other}"),
                    4 => format!("ALTER ROLE {role} NOSUPERUSER"),
                    5 => format!("ALTER ROLE {role} NOINHERIT"),
                    6 => format!("ALTER ROLE {role} NOLOGIN"),
                    7 => format!("ALTER ROLE {role} SET search_path TO public"),
                    8 => format!("ALTER ROLE {role} RESET ALL"),
                    9 => format!("ALTER DATABASE {} RESET ALL", postgresql::quoted(&database)),
                    10 => format!("REVOKE CONNECT ON DATABASE {} FROM PUBLIC, {role}", postgresql::quoted(&database)),
                    _ => format!("ALTER ROLE {role} BYPASSRLS"),
                };
                let _ = admin.client().batch_execute(&statement);
            }
            let after = admin.read().expect("reads");
            let documents = [before.document("ticketing", None), after.document("ticketing", None)];
            let [then, now] = documents.each_ref().map(|document| engine_of(document).expect("it was read"));
            let mut statements = zest_testkit::databases::postgresql::statements(&before);
            rng.shuffle(&mut statements);
            statements.truncate(120);
            for (account, role, session) in &mut open {
                for sql in &statements {
                    session.batch_execute("BEGIN").expect("it is open");
                    let came = session.batch_execute(sql);
                    session.batch_execute("ROLLBACK").expect("it is open");
                    let error = came.err().and_then(|e| e.as_db_error().map(|e| (e.code().clone(), e.message().to_owned())));
                    // What fails for another reason never came to rights, or came past them.
                    let is_refused = match &error {
                        None => false,
                        Some((code, _)) if *code == SqlState::INSUFFICIENT_PRIVILEGE => true,
                        Some(_) => continue,
                    };
                    let mut question = Question::statement(account.as_str(), "ticketing", sql);
                    question.session.at = Some(jiff::Timestamp::now());
                    question.session.active_roles = Some(role.clone().into_iter().collect());
                    let before = Before { at: question.session.at, ..Before::new(&then) };
                    let answer = now.ask_opened(&before, &question);
                    // Bodies and policies are taken to meet a row, and here are none.
                    if !is_refused && answer.refusal.is_some() {
                        counts.undecided();
                        continue;
                    }
                    let told = |e: String| panic!("seed {seed}: {e}\n{}\n# now\n{}", documents[0], documents[1]);
                    compare((&then, &now), &question, (is_refused, &format!("{error:?}")), &mut counts).unwrap_or_else(told);
                }
            }
        });
    }
    counts.print("PostgreSQL, open sessions");
}
