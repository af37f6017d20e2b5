//! Tests of the command line, as a script or a person would use it.

mod bad_input;
mod batch;
mod commands;
mod databases;
mod demo;
mod expectations;
mod formats;
#[cfg(feature = "git")]
mod opened;
mod pages;
mod promises;
mod readme;
mod refusals;
#[cfg(feature = "git")]
mod reviews;
#[cfg(feature = "live")]
mod servers;
mod services;
mod support;
mod ways;
mod whole_questions;

#[test]
fn every_test_file_is_run() {
    let folder = std::path::Path::new(env!("CARGO_MANIFEST_DIR")).join("tests");
    zest_testkit::pages::every_file_is_run(&folder, include_str!("main.rs"));
}
