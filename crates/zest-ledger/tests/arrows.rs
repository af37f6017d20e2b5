//! The plan of the house: which module may use which. Imports go down this list, and never up.

use std::collections::{BTreeMap, BTreeSet};
use std::fs;
use std::path::{Path, PathBuf};

/// The modules of the core, from the top to the ground; the same order stands in `docs/architecture.md`.
const FROM_THE_TOP: &[&str] = &[
    "json",
    "rehearsal",
    "review",
    "ledger",
    "kind",
    "engine",
    "links",
    "listing",
    "ask",
    "command",
    "text",
    "entries",
    "entry",
    "finding",
    "shape",
    "id",
    "table",
    "drift",
    "sql",
    "address",
    "source",
];

fn sources(of: &Path, list: &mut Vec<PathBuf>) {
    for entry in fs::read_dir(of).expect("a folder").flatten() {
        let path = entry.path();
        if path.is_dir() {
            sources(&path, list);
        } else if path.extension().is_some_and(|x| x == "rs") {
            list.push(path);
        }
    }
}

/// Returns for each module below a folder the modules beside it that it uses, with a file that does; `prefix` is the path of the folder.
fn uses(folder: &Path, prefix: &str) -> BTreeMap<String, BTreeMap<String, PathBuf>> {
    let mut files = Vec::new();
    sources(folder, &mut files);
    let mut found: BTreeMap<String, BTreeMap<String, PathBuf>> = BTreeMap::new();
    for file in files {
        let inner = file.strip_prefix(folder).expect("below it");
        let module = inner.components().next().and_then(|c| c.as_os_str().to_str()).expect("a name").trim_end_matches(".rs").to_owned();
        let text = fs::read_to_string(&file).expect("a source");
        let code: String = text.lines().filter(|l| !l.trim_start().starts_with("//")).map(|l| format!("{l}\n")).collect();
        for after in code.split(prefix).skip(1) {
            let names =
                after.strip_prefix('{').map_or_else(|| vec![after], |list| list.split('}').next().unwrap_or("").split(',').collect());
            for name in names {
                let name: String = name.trim().chars().take_while(|c| c.is_ascii_lowercase() || *c == '_').collect();
                if name != module && !name.is_empty() {
                    found.entry(module.clone()).or_default().entry(name).or_insert_with(|| file.clone());
                }
            }
        }
        found.entry(module).or_default();
    }
    found
}

#[test]
fn imports_between_modules_of_the_core_go_one_way() {
    let folder = Path::new(env!("CARGO_MANIFEST_DIR")).join("src");
    let found = uses(&folder, "crate::");
    let place = |module: &str| FROM_THE_TOP.iter().position(|known| *known == module);
    let unknown: Vec<&String> = found.keys().filter(|module| *module != "lib" && place(module).is_none()).collect();
    assert!(unknown.is_empty(), "these modules have no place in the plan: {unknown:?}");
    let mut wrong = Vec::new();
    for (module, used) in found.iter().filter(|(module, _)| *module != "lib") {
        for (other, file) in used.iter().filter(|(other, _)| place(other).is_some()) {
            if place(other) <= place(module) {
                wrong.push(format!("`{module}` uses `{other}`, which stands above it: {}", file.display()));
            }
        }
    }
    assert!(wrong.is_empty(), "{wrong:#?}");
}

#[test]
fn kinds_know_the_engine_and_the_engine_knows_no_kind() {
    let folder = Path::new(env!("CARGO_MANIFEST_DIR")).join("src/kind");
    let allowed: BTreeSet<(&str, &str)> =
        [("postgresql", "database"), ("mariadb", "database"), ("mariadb", "postgresql")].into_iter().collect();
    let mut wrong = Vec::new();
    for (kind, used) in uses(&folder, "crate::kind::").iter().filter(|(kind, _)| *kind != "mod") {
        for (other, file) in used.iter().filter(|(other, _)| !allowed.contains(&(kind.as_str(), other.as_str()))) {
            wrong.push(format!("`{kind}` uses `{other}`: {}", file.display()));
        }
    }
    assert!(wrong.is_empty(), "{wrong:#?}");
}

#[test]
fn arrows_between_crates_go_one_way() {
    let root = Path::new(env!("CARGO_MANIFEST_DIR")).join("../..");
    let output = std::process::Command::new(env!("CARGO"))
        .args(["metadata", "--format-version", "1", "--no-deps", "--offline"])
        .current_dir(root)
        .output()
        .expect("cargo runs");
    let metadata: serde_json::Value = serde_json::from_slice(&output.stdout).expect("cargo writes JSON");
    let order = ["zest-cli", "zest-bridges", "zest-testkit", "zest-ledger"];
    let mut seen = 0;
    for package in metadata["packages"].as_array().expect("packages") {
        let name = package["name"].as_str().expect("a name");
        let place = order.iter().position(|known| *known == name).unwrap_or_else(|| panic!("`{name}` has no place in the plan"));
        seen += 1;
        for dependency in package["dependencies"].as_array().expect("dependencies").iter().filter(|d| d["kind"].is_null()) {
            let below = order.iter().position(|known| Some(*known) == dependency["name"].as_str());
            assert!(below.is_none_or(|below| below > place), "`{name}` must not depend on {}", dependency["name"]);
            assert!(dependency["name"] != "zest-testkit", "`{name}` is published, and the test kit is not");
        }
    }
    assert_eq!(seen, order.len());
}
