//! Tests of the core through its public interface.

#![allow(clippy::disallowed_macros, clippy::disallowed_methods, clippy::disallowed_types, reason = "only the core itself must be pure")]

mod answers;
mod builders;
mod command_sets;
mod conditions;
mod effective;
mod engines_agree;
mod findings;
mod fuzz_corpus;
mod hostile_input;
mod hygiene;
mod json_forms;
mod laws;
mod patterns;
mod references;
mod rehearsal;
mod remedies;
mod schema;
mod support;

/// A test file that nobody mentions would never run.
#[test]
fn every_test_file_is_run() {
    let mentioned = include_str!("main.rs");
    for entry in std::fs::read_dir(concat!(env!("CARGO_MANIFEST_DIR"), "/tests")).expect("the folder is there").flatten() {
        let name = entry.file_name().to_string_lossy().into_owned();
        if let Some(module) = name.strip_suffix(".rs").filter(|m| *m != "main") {
            assert!(mentioned.contains(&format!("mod {module};")), "tests/{name} is not run");
        }
    }
}
