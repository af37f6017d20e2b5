//! Our answers compared with those of the real servers.
//!
//! `ZEST_CHECKS=1000000` compares that many in all (the full run), `ZEST_SEED` chooses other estates.

mod beyond_privileges;
mod built_in;
mod encryption;
mod hosts;
mod mariadb;
mod mariadb_statements;
mod mariadb_suite;
mod not_modelled;
mod open_sessions;
mod opened;
mod postgresql;
mod postgresql_statements;
mod postgresql_suite;
mod published;
mod scripts;
mod scripts_mariadb;
mod scripts_postgresql;
mod suites;
mod support;
mod trial;
mod troubles;
mod walked_ways;

#[test]
fn every_test_file_is_run() {
    let folder = std::path::Path::new(env!("CARGO_MANIFEST_DIR")).join("tests");
    zest_testkit::pages::every_file_is_run(&folder, include_str!("main.rs"));
}
