//! The plan of the house: which module may use which. Imports go down this list, and never up.

use std::collections::BTreeMap;
use std::fs;
use std::path::{Path, PathBuf};

/// The crates, from the top to the ground, each with its modules in that order; the same order stands in `docs/architecture.md`.
const FROM_THE_TOP: &[(&str, &[&str])] = &[
    ("zest-fuzz", &[]),
    ("zest-cli", &[]),
    ("zest-bridges", &[]),
    ("zest-testkit", &[]),
    ("zest-servers", &[]),
    ("zest-ledger", &["json", "ledger", "kind"]),
    ("zest-reviews", &["promise", "ways", "expectation", "rehearsal", "review", "row"]),
    ("zest-databases", &["mariadb", "postgresql", "database", "sql", "drift"]),
    ("zest-engine", &["kind", "engine", "vocabulary", "links"]),
    (
        "zest-model",
        &["form", "listing", "ask", "text", "entries", "entry", "written", "shape", "finding", "id", "table", "same", "source", "more"],
    ),
    ("zest-command", &["automaton", "alphabet", "slots", "tree", "pattern", "line"]),
    ("zest-words", &["near", "hidden", "case", "address"]),
];

/// Returns the folder of a crate.
fn folder(name: &str) -> PathBuf {
    Path::new(env!("CARGO_MANIFEST_DIR")).join("..").join(name)
}

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
fn imports_between_modules_of_a_crate_go_one_way() {
    let mut wrong = Vec::new();
    for (name, order) in FROM_THE_TOP.iter().filter(|(_, order)| !order.is_empty()) {
        let found = uses(&folder(name).join("src"), "crate::");
        let place = |module: &str| order.iter().position(|known| *known == module);
        let modules = found.keys().filter(|module| *module != "lib");
        wrong.extend(modules.filter(|m| place(m).is_none()).map(|m| format!("`{m}` of {name} has no place in the plan")));
        wrong.extend(order.iter().filter(|m| !found.contains_key(**m)).map(|m| format!("{name} has no module `{m}`")));
        for (module, used) in found.iter().filter(|(module, _)| *module != "lib") {
            for (other, file) in used.iter().filter(|(other, _)| place(other).is_some()) {
                if place(other) <= place(module) {
                    wrong.push(format!("`{module}` uses `{other}`, which stands above it: {}", file.display()));
                }
            }
        }
    }
    assert!(wrong.is_empty(), "{wrong:#?}");
}

#[test]
fn a_kind_knows_no_other() {
    let in_engine = uses(&folder("zest-engine").join("src/kind"), "crate::kind::");
    let databases = uses(&folder("zest-databases").join("src"), "crate::");
    let of_databases = databases.iter().filter(|(module, _)| ["postgresql", "mariadb"].contains(&module.as_str()));
    let mut wrong = Vec::new();
    for (kind, used) in in_engine.iter().filter(|(kind, _)| *kind != "mod").chain(of_databases) {
        let kinds = used.iter().filter(|(other, _)| in_engine.contains_key(*other) || ["postgresql", "mariadb"].contains(&other.as_str()));
        wrong.extend(kinds.map(|(other, file)| format!("`{kind}` uses `{other}`: {}", file.display())));
    }
    assert!(wrong.is_empty() && in_engine.len() > 3, "{wrong:#?}");
}

#[test]
fn arrows_between_crates_go_one_way() {
    let output = std::process::Command::new(env!("CARGO"))
        .args(["metadata", "--format-version", "1", "--no-deps", "--offline"])
        .current_dir(folder(".."))
        .output()
        .expect("cargo runs");
    let metadata: serde_json::Value = serde_json::from_slice(&output.stdout).expect("cargo writes JSON");
    let place = |name: &str| FROM_THE_TOP.iter().position(|(known, _)| *known == name);
    let mut seen = 0;
    for package in metadata["packages"].as_array().expect("packages") {
        let name = package["name"].as_str().expect("a name");
        let own = place(name).unwrap_or_else(|| panic!("`{name}` has no place in the plan"));
        seen += 1;
        // What only tests and examples need may point up: the examples of every crate use the facade, as users do.
        for dependency in package["dependencies"].as_array().expect("dependencies").iter().filter(|d| d["kind"].is_null()) {
            let below = dependency["name"].as_str().and_then(place);
            assert!(below.is_none_or(|below| below > own), "`{name}` must not depend on {}", dependency["name"]);
            assert!(dependency["name"] != "zest-testkit", "`{name}` is published, and the test kit is not");
            let outside = ["zest-fuzz", "zest-cli", "zest-bridges", "zest-testkit", "zest-servers"];
            let is_inner =
                below.is_some() && ["zest-ledger", "zest-bridges", "zest-servers"].iter().all(|open| dependency["name"] != *open);
            assert!(!(outside.contains(&name) && is_inner), "`{name}` goes past the facade to {}", dependency["name"]);
        }
    }
    assert_eq!(seen, FROM_THE_TOP.len());
}
