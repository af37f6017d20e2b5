//! Decisions on a PostgreSQL estate, ours on one core against the server's own in one backend, in one run.
//!
//! The estate: 200 roles nested five deep, 2,000 tables, 50,000 grants, and 1,000 or 10,000 logins that are members of
//! three of the roles each. It is made on a private server and read back; both sides answer the same pairs of a login
//! and a table, and their counts must agree before a time is taken. After the measurements the ratios are printed; see
//! `docs/performance.md`.

use std::hint::black_box;
use std::time::{Duration, Instant};

use criterion::{BenchmarkId, Criterion, Throughput};
use fastrand::Rng;
use fixedbitset::FixedBitSet;
use postgres::Client;
use zest_bridges::postgresql::{Session, Target};
use zest_ledger::postgresql::{Catalog, Class, ObjectName, ObjectNumber, Privilege, RoleNumber, Want};
use zest_testkit::servers;

const LOGINS: [usize; 2] = [1_000, 10_000];
const GROUPS: usize = 200;
const DEPTH: usize = 5;
const TABLES: usize = 2_000;
const GRANTS_A_TABLE: usize = 25;
/// How many pairs are asked in mixed order; the server is slow there.
const MIXED: usize = 40_000;
/// Our side is measured this often, and the median counts.
const ROUNDS: usize = 15;

fn run(client: &mut Client, sql: &str) {
    client.batch_execute(sql).unwrap_or_else(|e| panic!("{sql:.300}: {e:?}"));
}

/// Makes the estate on the server.
fn make(client: &mut Client, logins: usize) {
    let mut rng = Rng::with_seed(1);
    let per_level = GROUPS / DEPTH;
    let mut sql = String::new();
    for group in (0..GROUPS).rev() {
        sql.push_str(&format!("CREATE ROLE group_{group};"));
        let level = group / per_level;
        for _ in 0..if level + 1 < DEPTH { 2 } else { 0 } {
            sql.push_str(&format!("GRANT group_{} TO group_{group};", (level + 1) * per_level + rng.usize(..per_level)));
        }
    }
    run(client, &sql);
    for some in (0..logins).collect::<Vec<_>>().chunks(500) {
        let one = |login: &usize| {
            let groups = [(); 3].map(|()| format!("group_{}", rng.usize(..GROUPS))).join(", ");
            format!("CREATE ROLE login_{login} LOGIN IN ROLE {groups};")
        };
        run(client, &some.iter().map(one).collect::<String>());
    }
    let mut rng = Rng::with_seed(2);
    for some in (0..TABLES).collect::<Vec<_>>().chunks(100) {
        let one = |table: &usize| {
            let groups = rng.choose_multiple(0..GROUPS, GRANTS_A_TABLE);
            let list = groups.iter().map(|g| format!("group_{g}")).collect::<Vec<_>>().join(", ");
            format!("CREATE TABLE table_{table} (id integer); GRANT SELECT ON table_{table} TO {list};")
        };
        run(client, &some.iter().map(one).collect::<String>());
    }
    // Pairs as numbers, in two orders: one login after the other, and another login each time.
    run(
        client,
        &format!(
            "CREATE TEMP TABLE login AS SELECT oid, substr(rolname, 7)::integer AS n FROM pg_roles WHERE rolcanlogin AND rolname LIKE 'login_%';
             CREATE TEMP TABLE tab AS SELECT oid, substr(relname, 7)::integer AS n FROM pg_class WHERE relkind = 'r' AND relname LIKE 'table_%';
             CREATE TEMP TABLE sorted AS SELECT l.oid AS l, t.oid AS t FROM login l, tab t ORDER BY l.oid, t.oid;
             CREATE TEMP TABLE mixed AS SELECT l.oid AS l, t.oid AS t FROM generate_series(1, {MIXED}) g
                 JOIN login l ON l.n = (g::bigint * 7919) % {logins} JOIN tab t ON t.n = (g::bigint * 104729) % {TABLES} ORDER BY g;
             ANALYZE sorted; ANALYZE mixed; SET max_parallel_workers_per_gather = 0; SET jit = off; SET work_mem = '512MB'"
        ),
    );
}

/// The whole matrix as one query: memberships followed by the server, grants taken from its catalog.
const QUERY: &str = "
WITH RECURSIVE member(login, role) AS (
    SELECT oid, oid FROM login UNION SELECT m.login, a.roleid FROM member m JOIN pg_auth_members a ON a.member = m.role
), granted AS (
    SELECT c.oid AS t, x.grantee FROM pg_class c JOIN tab ON tab.oid = c.oid, aclexplode(coalesce(c.relacl, acldefault('r', c.relowner))) x
    WHERE x.privilege_type = 'SELECT'
)
SELECT count(*) FROM (SELECT DISTINCT m.login, g.t FROM member m JOIN granted g ON g.grantee = m.role) cells";

/// Runs a query of the server's; returns its count and the least of three times.
fn theirs(client: &mut Client, sql: &str) -> (u64, Duration) {
    let once = |client: &mut Client| {
        let start = Instant::now();
        let count: i64 = client.query_one(sql, &[]).unwrap_or_else(|e| panic!("{sql}: {e:?}")).get(0);
        (count as u64, start.elapsed())
    };
    let times = [(); 3].map(|()| once(client));
    (times[0].0, times.iter().map(|t| t.1).min().expect("three"))
}

/// Runs ours; returns its count and the median of the times.
fn ours(mut work: impl FnMut() -> u64) -> (u64, Duration) {
    let mut count = 0;
    let mut times: Vec<Duration> = (0..ROUNDS)
        .map(|_| {
            let start = Instant::now();
            count = work();
            start.elapsed()
        })
        .collect();
    times.sort();
    (count, times[ROUNDS / 2])
}

struct Pairs {
    sorted: Vec<(RoleNumber, ObjectNumber)>,
    mixed: Vec<(RoleNumber, ObjectNumber)>,
}

fn pairs(catalog: &Catalog, logins: usize) -> Pairs {
    let login = |n: usize| catalog.role(&format!("login_{n}")).expect("it was read");
    let table = |n: usize| catalog.object(&ObjectName::new(Class::Table, &["public", &format!("table_{n}")])).expect("it was read");
    let logins_: Vec<RoleNumber> = (0..logins).map(login).collect();
    let tables: Vec<ObjectNumber> = (0..TABLES).map(table).collect();
    Pairs {
        sorted: logins_.iter().flat_map(|&l| tables.iter().map(move |&t| (l, t))).collect(),
        mixed: (1..=MIXED).map(|g| (logins_[(g * 7919) % logins], tables[(g * 104_729) % TABLES])).collect(),
    }
}

fn count(catalog: &Catalog, pairs: &[(RoleNumber, ObjectNumber)]) -> u64 {
    black_box(pairs).iter().filter(|&&(l, t)| catalog.holds(l, t, Privilege::Select, Want::Privilege)).count() as u64
}

fn matrix(catalog: &Catalog, logins: usize) -> u64 {
    let matrix = black_box(catalog).matrix(Privilege::Select);
    let mut row = FixedBitSet::default();
    let roles = (0..logins).map(|n| catalog.role(&format!("login_{n}")).expect("it was read"));
    roles
        .map(|role| {
            matrix.row(role, &mut row);
            row.count_ones(..) as u64
        })
        .sum()
}

fn main() {
    let mut criterion =
        Criterion::default().configure_from_args().warm_up_time(Duration::from_millis(500)).measurement_time(Duration::from_secs(3));
    let mut report = String::new();
    for logins in LOGINS {
        let Some(server) = servers::wanted(servers::postgresql) else { return };
        let target = Target {
            host: "127.0.0.1".to_owned(),
            port: server.port,
            user: "postgres".to_owned(),
            database: "postgres".to_owned(),
            password: None,
            encryption: zest_bridges::Encryption::default(),
        };
        let mut session = Session::open(&target).expect("the server answers");
        make(session.client(), logins);
        let start = Instant::now();
        let state = session.read().expect("reads");
        let read = start.elapsed();
        let start = Instant::now();
        let catalog = Catalog::compile(state);
        let compiled = start.elapsed();
        let pairs = pairs(&catalog, logins);

        let mut group = criterion.benchmark_group("postgresql");
        group.sample_size(20);
        for (order, list) in [("sorted", &pairs.sorted), ("mixed", &pairs.mixed)] {
            group.throughput(Throughput::Elements(list.len() as u64));
            group.bench_function(BenchmarkId::new(order, logins), |b| b.iter(|| count(&catalog, list)));
        }
        group.throughput(Throughput::Elements((logins * TABLES) as u64));
        group.bench_function(BenchmarkId::new("matrix", logins), |b| b.iter(|| matrix(&catalog, logins)));
        group.finish();

        let client = session.client();
        let function = |of: &str| format!("SELECT count(*) FROM {of} WHERE has_table_privilege(l, t, 'SELECT')");
        let (sorted_count, sorted) = theirs(client, &function("sorted"));
        let (mixed_count, mixed) = theirs(client, &function("mixed"));
        let (query_count, query) = theirs(client, QUERY);
        let (our_sorted_count, our_sorted) = ours(|| count(&catalog, &pairs.sorted));
        let (our_mixed_count, our_mixed) = ours(|| count(&catalog, &pairs.mixed));
        let (our_matrix_count, our_matrix) = ours(|| matrix(&catalog, logins));
        assert_eq!(
            [our_sorted_count, our_mixed_count, our_matrix_count],
            [sorted_count, mixed_count, query_count],
            "both sides say the same"
        );

        let rate = |n: usize, time: Duration| n as f64 / time.as_secs_f64() / 1e6;
        let cells = logins * TABLES;
        let best = sorted.min(query);
        let line = |what: &str, n: usize, ours: Duration, theirs: Duration, wanted: u32| {
            let ratio = theirs.as_secs_f64() / ours.as_secs_f64();
            format!("  {what:<34} {:>10.3} {:>12.3} {ratio:>9.0} {wanted:>7}\n", rate(n, ours), rate(n, theirs))
        };
        report.push_str(&format!(
            "{logins} logins, {sorted_count} of {cells} cells held; read in {:.1} s, compiled in {:.0} ms\n  {:<34} {:>10} {:>12} {:>9} {:>7}\n",
            read.as_secs_f64(),
            compiled.as_secs_f64() * 1e3,
            "millions a second",
            "ours",
            "the server",
            "ratio",
            "wanted"
        ));
        report.push_str(&line("by number, sorted by login", cells, our_sorted, sorted, 10));
        report.push_str(&line("by number, another login each time", MIXED, our_mixed, mixed, 100));
        report.push_str(&line("the whole matrix, faster way", cells, our_matrix, best, 300));
    }
    println!("\n{report}");
    criterion.final_summary();
}
