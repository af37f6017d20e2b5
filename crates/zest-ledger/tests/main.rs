//! Tests of the core through its public interface.

#![allow(clippy::disallowed_macros, clippy::disallowed_methods, clippy::disallowed_types, reason = "only the core itself must be pure")]

mod about_objects;
mod about_rights;
mod answers;
mod applications;
mod arrows;
mod builders;
mod cloud_laws;
mod clouds;
mod command_sets;
mod company;
mod comparisons;
mod conditions;
mod covered;
mod database_laws;
mod databases;
mod effective;
mod engines_agree;
mod expectations;
mod findings;
mod findings_alone;
mod findings_hold;
mod fuzz_corpus;
mod hostile_input;
mod hosts;
mod hygiene;
mod interfaces;
mod json_forms;
mod laws;
mod layers;
mod mariadb_rules;
mod never_wider;
mod opened;
mod outside_kinds;
mod patterns;
mod postgresql_rules;
mod promises;
mod references;
mod rehearsal;
mod remedies;
mod reviews;
mod rights;
mod runs_along;
mod schema;
mod shapes;
mod support;
mod told;
mod told_apart;
mod touched;
mod ways;
mod ways_on_servers;
mod ways_written;
mod written_order;

#[test]
fn every_test_file_is_run() {
    let folder = std::path::Path::new(env!("CARGO_MANIFEST_DIR")).join("tests");
    zest_testkit::pages::every_file_is_run(&folder, include_str!("main.rs"));
}
