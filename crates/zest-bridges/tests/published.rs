//! Schemas that others published: they are loaded, read, emitted onto a fresh server and read again, and statements are tried on them.
//!
//! `tools/published-schemas` takes them out of Debian packages into `target/published`; `./test` calls it.

use std::path::{Path, PathBuf};
use std::process::Command;

use mysql::prelude::Queryable;
use zest_bridges::mariadb::Session;
use zest_ledger::{mariadb, postgresql};
use zest_testkit::servers::{self, Server};

use crate::postgresql::{attempts, in_database, sql};
use crate::support::{Counts, ONE_IN, fetched, in_full_run};

/// The schemas for a server, by name.
fn schemas(server: &str) -> Vec<(String, PathBuf)> {
    let folder = fetched("published", server);
    let entries = std::fs::read_dir(&folder).into_iter().flatten().flatten().map(|entry| entry.path());
    let mut list: Vec<(String, PathBuf)> =
        entries.filter_map(|path| Some((path.file_stem()?.to_string_lossy().into_owned(), path.clone()))).collect();
    list.sort();
    if list.is_empty() {
        assert!(std::env::var("CI").is_err(), "there are none in {}; `tools/published-schemas` gets them", folder.display());
        eprintln!("\n*** NOT TESTED with published schemas: none in {} ***\n", folder.display());
    }
    list
}

fn load(mut client: Command, file: &Path) {
    let input = std::fs::File::open(file).expect("the schema");
    let ran = client.stdin(input).output().expect("the client of the server");
    assert!(ran.status.success(), "{}: {}", file.display(), String::from_utf8_lossy(&ran.stderr));
}

#[test]
fn postgresql_makes_the_same_schema_of_what_was_read() {
    let Some(server) = servers::wanted(servers::postgresql) else { return };
    let mut counts = Counts::default();
    let one_in = in_full_run(1, ONE_IN as u64) as usize;
    for (name, file) in schemas("postgresql") {
        let mut read = postgresql::State::fresh(&name, "postgres");
        in_database(&server, &name, |session| {
            load(psql(&server, &name), &file);
            let roles = "CREATE ROLE visitor LOGIN; CREATE ROLE clerk LOGIN";
            sql(session, &format!("{roles}; GRANT SELECT, INSERT, UPDATE, DELETE ON ALL TABLES IN SCHEMA public TO clerk"));
            read = session.read().expect("it is read");
            let kept = written(&read.document(&name, None), |estate| postgresql::state_of(estate, &name, None));
            assert_eq!((read.drift(&kept), read.steps_to(&kept, "postgres")), (Vec::new(), Vec::new()), "{name}");
            attempts(&server, session, &mut counts, one_in).unwrap_or_else(|e| panic!("{name}: {e}"));
        });
        let stops = postgresql::State::fresh(&name, "postgres").cannot_write(&read);
        tell(&name, read.objects.len(), &stops);
        if stops.is_empty() {
            in_database(&server, &name, |session| {
                let steps = session.read().expect("reads").steps_to(&read, "postgres");
                session.run(&steps).unwrap_or_else(|e| panic!("{name}: {e}"));
                let again = session.read().expect("reads");
                crate::postgresql::same_to_the_byte(&read, &again).unwrap_or_else(|e| panic!("{name}: {e}"));
            });
            counts.add("published schemas made again", 1);
        }
    }
    counts.print("published schemas on PostgreSQL");
}

fn tell(name: &str, objects: usize, stops: &[String]) {
    let first =
        stops.first().map_or_else(String::new, |stop| format!("; cannot be made again for {} reasons, such as: {stop}", stops.len()));
    eprintln!("  {name}: {objects} objects{first}");
}

fn psql(server: &Server, database: &str) -> Command {
    let mut client = Command::new("psql");
    client.args(["--quiet", "--no-psqlrc", "--set=ON_ERROR_STOP=1", "--host=127.0.0.1", "--username=postgres"]);
    client.arg(format!("--port={}", server.port)).arg(database);
    client
}

fn written<S>(document: &str, state: impl Fn(&zest_ledger::estate::Estate) -> Option<S>) -> S {
    let estate = zest_ledger::Ledger::new().document("read.toml", document).estate().unwrap_or_else(|f| panic!("{f}\n{document}"));
    state(&estate).expect("it was written")
}

fn carry_out(session: &mut Session, sql: &str) {
    session.client().query_drop(sql).unwrap_or_else(|e| panic!("{sql}: {e}"));
}

#[test]
fn mariadb_makes_the_same_schema_of_what_was_read() {
    let Some(server) = servers::wanted(servers::mariadb) else { return };
    let mut counts = Counts::default();
    let mut session = crate::mariadb::open(&server);
    for (name, file) in schemas("mariadb") {
        carry_out(&mut session, &format!("CREATE DATABASE {name}"));
        let mut client = Command::new("mariadb");
        load(
            {
                client.arg(format!("--socket={}", server.folder.join("socket").display())).args(["--user=root", &name]);
                client
            },
            &file,
        );
        let read = session.read().expect("it is read");
        let fresh = mariadb::State::fresh();
        let stops = fresh.cannot_write(&read);
        tell(&name, read.objects.len(), &stops);
        let kept = written(&read.document("club", None), |estate| mariadb::state_of(estate, "club", None));
        assert_eq!((read.drift(&kept), read.steps_to(&kept, &crate::mariadb::root())), (Vec::new(), Vec::new()), "{name}");
        carry_out(&mut session, &format!("DROP DATABASE {name}"));
        if stops.is_empty() {
            let steps = session.read().expect("reads").steps_to(&read, &crate::mariadb::root());
            session.run(&steps).unwrap_or_else(|e| panic!("{name}: {e}"));
            crate::mariadb::same_to_the_byte(&read, &session.read().expect("reads")).unwrap_or_else(|e| panic!("{name}: {e}"));
            carry_out(&mut session, &format!("DROP DATABASE {name}"));
            counts.add("published schemas made again", 1);
        }
    }
    counts.print("published schemas on MariaDB");
}
