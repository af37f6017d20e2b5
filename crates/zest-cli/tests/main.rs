//! Tests of the command line, as a script or a person would use it.

mod bad_input;
mod batch;
mod commands;
mod demo;
mod pages;
mod readme;
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
