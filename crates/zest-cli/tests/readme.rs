//! The README and the pages: every console block is run and compared.

use crate::support::root;

#[test]
fn console_blocks_are_what_the_program_prints() {
    trycmd::TestCases::new().env("NO_COLOR", "1").case("../../README.md").case("../../docs/tour/*.md");
}

#[test]
fn the_two_commands_of_the_readme_are_the_ones_that_ci_runs() {
    let readme = std::fs::read_to_string(root().join("README.md")).expect("the README is there");
    for command in ["cargo run -- demo", "./test"] {
        assert!(readme.contains(&format!("\n{command}\n")), "the README does not say `{command}`");
    }
    let ci = std::fs::read_to_string(root().join(".ci/run")).expect("the CI script is there");
    assert!(ci.contains("./test"), ".ci/run does not run the README's test command");
    let test = std::fs::read_to_string(root().join("test")).expect("the test script is there");
    assert!(test.contains("/zest\" demo"), "the test script does not take the tour");
}

/// The text of each block of a language.
fn blocks(text: &str, language: &str) -> Vec<String> {
    let head = format!("```{language}\n");
    text.split(&head).skip(1).filter_map(|rest| rest.split_once("```").map(|(block, _)| block.to_owned())).collect()
}

#[test]
fn the_ledgers_of_the_readme_load_as_they_stand_and_answer() {
    let readme = std::fs::read_to_string(root().join("README.md")).expect("the README is there");
    let asked = [
        ("watch-1 --on sw-1 --from 192.0.2.9 --at 2026-11-25T09:00:00+01:00", "show paths", 0),
        ("mate-1 --on rota", "plan on shift/early", 0),
    ];
    let ledgers = blocks(&readme, "toml");
    assert_eq!(ledgers.len(), asked.len(), "each ledger of the README is asked something");
    for (ledger, (options, line, status)) in ledgers.iter().zip(asked) {
        let folder = tempfile::tempdir().expect("a folder");
        std::fs::write(folder.path().join("pier.toml"), ledger).expect("it can be written");
        let path = folder.path().to_str().expect("a path");
        let ran = crate::support::zest(&format!("findings --ledger {path}"));
        assert!(ran.out.contains("0 errors"), "{}{}", ran.out, ran.err);
        let ran = crate::support::zest(&format!("ask {options} --ledger {path} {line}"));
        assert_eq!(ran.status, status, "{}{}", ran.out, ran.err);
    }
}
