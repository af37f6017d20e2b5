//! The README and the pages: every console block is run and compared.

use crate::support::root;

#[test]
fn console_blocks_are_what_the_program_prints() {
    trycmd::TestCases::new().env("NO_COLOR", "1").case("../../README.md").case("../../docs/tour/*.md");
}

#[test]
fn the_two_commands_of_the_readme_are_the_ones_that_ci_runs() {
    let readme = std::fs::read_to_string(root().join("README.md")).expect("the README is there");
    for command in ["cargo run --release -- demo", "./test"] {
        assert!(readme.contains(&format!("\n{command}\n")), "the README does not say `{command}`");
    }
    let ci = std::fs::read_to_string(root().join(".ci/run")).expect("the CI script is there");
    assert!(ci.contains("./test"), ".ci/run does not run the README's test command");
    let test = std::fs::read_to_string(root().join("test")).expect("the test script is there");
    assert!(test.contains("cargo run --release --quiet -- demo"), "the test script does not take the tour");
}
