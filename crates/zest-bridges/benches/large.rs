//! A large PostgreSQL estate: reading it from a private server, a million privilege questions and a million mixed statements on it.
//!
//! 10,000 roles, 50,000 tables, 500,000 grants; `ZEST_SHARE=10` takes a tenth. Each time stands next to one of the same run: what the server
//! itself takes to go through its lists once, two look-ups and a walk over the line for a question, the parser alone for a statement. See
//! `docs/performance.md`.

use std::hint::black_box;
use std::time::Instant;

use fastrand::Rng;
use rustc_hash::FxHashMap;
use sqlparser::dialect::PostgreSqlDialect;
use sqlparser::parser::Parser;
use zest_bridges::postgresql::{Session, Target};
use zest_ledger::{Engine, Ledger, Prepared, Question};
use zest_testkit::servers;

fn run(session: &mut Session, sql: &str) {
    session.client().batch_execute(sql).unwrap_or_else(|e| panic!("{sql:.300}: {e:?}"));
}

fn timed<T>(work: impl FnOnce() -> T) -> (T, f64) {
    let start = Instant::now();
    let made = work();
    (made, start.elapsed().as_secs_f64())
}

/// Makes roles, tables of two columns, and ten grants on each table.
fn make(session: &mut Session, roles: usize, tables: usize) {
    let mut rng = Rng::with_seed(1);
    for some in (0..roles).collect::<Vec<_>>().chunks(500) {
        run(session, &some.iter().map(|role| format!("CREATE ROLE role_{role} LOGIN;")).collect::<String>());
    }
    for some in (0..tables).collect::<Vec<_>>().chunks(100) {
        let one = |table: &usize| {
            let to = rng.choose_multiple(0..roles, 10).iter().map(|role| format!("role_{role}")).collect::<Vec<_>>().join(", ");
            format!("CREATE TABLE table_{table} (id integer, note text); GRANT SELECT, INSERT, UPDATE ON table_{table} TO {to};")
        };
        run(session, &some.iter().map(one).collect::<String>());
    }
}

/// Statements of twelve forms.
fn statement(number: usize, tables: usize) -> String {
    let (one, other) = ((number * 7919) % tables, (number * 104_729) % tables);
    match number % 12 {
        0 => format!("SELECT id FROM table_{one} WHERE note = 'x{number}'"),
        1 => format!("SELECT a.id, b.note FROM table_{one} a JOIN table_{other} b ON a.id = b.id"),
        2 => format!("INSERT INTO table_{one} (id, note) VALUES ({number}, 'x')"),
        3 => format!("UPDATE table_{one} SET note = 'y' WHERE id = {number}"),
        4 => format!("DELETE FROM table_{one} WHERE id = {number}"),
        5 => format!("SELECT count(*) FROM table_{one} GROUP BY note HAVING count(*) > 1 ORDER BY 1"),
        6 => format!("WITH w AS (SELECT id FROM table_{one}) SELECT * FROM w WHERE id IN (SELECT id FROM table_{other})"),
        7 => format!("INSERT INTO table_{one} SELECT id, note FROM table_{other} ON CONFLICT DO NOTHING"),
        8 => format!("GRANT SELECT ON table_{one} TO role_1"),
        9 => format!("TRUNCATE table_{one}"),
        10 => format!("ALTER TABLE table_{one} ADD COLUMN more integer"),
        _ => format!("SELECT id FROM table_{one} UNION SELECT id FROM table_{other} LIMIT 5"),
    }
}

/// Decides each question on two threads; where lines come again, what is understood of one is kept for the next user who asks it.
fn decide(engine: &Engine, questions: &[Question], come_again: bool) -> usize {
    let half = |part: &[Question]| {
        let mut prepared: FxHashMap<&str, Prepared<'_>> = FxHashMap::default();
        let mut count = 0;
        for question in part {
            let decision = match come_again {
                true => prepared.entry(&question.line).or_insert_with(|| engine.prepare(question)).decide(question),
                false => engine.decide(question),
            };
            count += usize::from(decision.refusal.is_none());
        }
        count
    };
    let (one, other) = questions.split_at(questions.len() / 2);
    std::thread::scope(|scope| {
        let other = scope.spawn(|| half(other));
        half(one) + other.join().expect("it does not panic")
    })
}

fn main() {
    // `cargo test --benches` asks whether it runs at all, and cargo says so.
    let test = std::env::args().any(|argument| argument == "--test");
    let share = std::env::var("ZEST_SHARE").ok().and_then(|text| text.parse().ok()).unwrap_or(if test { 1_000 } else { 1 });
    let (roles, tables, questions) = (10_000 / share, 50_000 / share, 1_000_000 / share);
    let Some(server) = servers::wanted(servers::postgresql) else { return };
    let target = Target {
        host: "127.0.0.1".to_owned(),
        port: server.port,
        user: "postgres".to_owned(),
        database: "postgres".to_owned(),
        password: None,
        encryption: zest_bridges::Encryption::default(),
    };
    let mut session = Session::open(&target).expect("the private server answers");
    make(&mut session, roles, tables);
    let lists = "SELECT (SELECT count(*) FROM pg_class c, aclexplode(c.relacl) a WHERE c.oid >= 12000), (SELECT count(*) FROM pg_attribute), \
                 (SELECT count(*) FROM pg_roles), (SELECT count(*) FROM pg_depend)";
    let (_, floor) = timed(|| run(&mut session, lists));
    let (state, read) = timed(|| session.read().expect("it is read"));
    println!(
        "reading {} roles, {} objects   {read:>6.1} s, {:>4.1} times the server's own count of its lists",
        state.roles.len(),
        state.objects.len(),
        read / floor
    );
    let (document, writing) = timed(|| state.document("db", None));
    let (engine, loading) = timed(|| {
        let estate = Ledger::new().document("read.toml", &document).estate().unwrap_or_else(|f| panic!("{f}"));
        Engine::compile(estate).unwrap_or_else(|f| panic!("{f}"))
    });
    println!("document of {:>4.1} MB   written in {writing:.1} s, loaded in {loading:.1} s", document.len() as f64 / 1e6);
    let user = |number: usize| format!("role_{}", (number * 31) % roles);
    let privileges: Vec<Question> =
        (0..questions).map(|n| Question::new(&user(n), "db", &format!("select on table public.table_{}", (n * 7919) % tables))).collect();
    let names: FxHashMap<String, usize> = (0..roles).map(|role| (format!("role_{role}"), role)).collect();
    let (_, floor) = timed(|| {
        for question in &privileges {
            let walked = question.line.bytes().fold(0_u8, |sum, byte| black_box(sum ^ byte));
            black_box((names.get(&question.user), names.get(&question.system), walked));
        }
    });
    let (allowed, took) = timed(|| decide(&engine, &privileges, true));
    println!("{questions} privilege questions   {took:>6.1} s on two threads, {allowed} allowed; {:>4.1} times the floor", took / floor);
    drop(privileges);
    let statements: Vec<Question> = (0..questions).map(|n| Question::statement(&user(n), "db", &statement(n, tables))).collect();
    let (_, floor) = timed(|| {
        for question in &statements {
            black_box(Parser::parse_sql(&PostgreSqlDialect {}, &question.line).is_ok());
        }
    });
    let (allowed, took) = timed(|| decide(&engine, &statements, false));
    println!(
        "{questions} mixed statements   {took:>6.1} s on two threads, {allowed} allowed; {:>4.1} times the parser alone, on one",
        took / floor
    );
}
