//! Pages that tests write, and test files that must not be forgotten.

use std::path::Path;

/// Compares a text with a file below the root of the repository; with `ZEST_REWRITE=1` it is written instead.
///
/// # Panics
/// When the file holds something else.
pub fn same_as_file(path: &str, text: &str) {
    let file = Path::new(env!("CARGO_MANIFEST_DIR")).join("../..").join(path);
    if std::env::var_os("ZEST_REWRITE").is_some() {
        std::fs::write(&file, text).expect("the file can be written");
    }
    let found = std::fs::read_to_string(&file).unwrap_or_default();
    assert!(found == text, "{path} is not what the code makes; run the tests with ZEST_REWRITE=1 and look at the difference");
}

/// Checks that `main` mentions every module of a folder of tests: a file that nobody mentions would never run.
///
/// # Panics
/// When a file is not mentioned.
pub fn every_file_is_run(folder: &Path, main: &str) {
    for entry in std::fs::read_dir(folder).expect("the folder is there").flatten() {
        let name = entry.file_name().to_string_lossy().into_owned();
        if let Some(module) = name.strip_suffix(".rs").filter(|m| *m != "main") {
            assert!(main.contains(&format!("mod {module};")), "{name} is not run");
        }
    }
}
