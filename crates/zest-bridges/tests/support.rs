//! What the tests of both servers share: seeds, counts by kind of check.

use std::collections::BTreeMap;
use std::path::{Path, PathBuf};

use zest_ledger::ways::{Acts, Aim, Way, Ways};
use zest_ledger::{Engine, Ledger};

/// The demo ledger.
pub(crate) fn demo() -> Ledger {
    demo_with(str::to_owned)
}

/// The demo ledger, each document changed.
pub(crate) fn demo_with(change: impl Fn(&str) -> String) -> Ledger {
    let folder = Path::new(env!("CARGO_MANIFEST_DIR")).join("../zest-cli/demo/lanternsound");
    let mut paths: Vec<_> = std::fs::read_dir(folder).expect("the demo is there").flatten().map(|e| e.path()).collect();
    paths.sort();
    paths.iter().fold(Ledger::new(), |ledger, path| {
        let name = path.file_name().map_or_else(String::new, |n| n.to_string_lossy().into_owned());
        ledger.document_bytes(&name, change(&std::fs::read_to_string(path).expect("it can be read")).as_bytes())
    })
}

/// The engine of a document that was read from a server.
pub(crate) fn engine_of(document: &str) -> Result<Engine, String> {
    Ledger::new().document("read.toml", document).engine(1).map_err(|f| format!("{f}\n{document}"))
}

/// A folder that `./test` fills from packages, of one server.
pub(crate) fn fetched(what: &str, server: &str) -> PathBuf {
    let target =
        std::env::var_os("CARGO_TARGET_DIR").map_or_else(|| Path::new(env!("CARGO_MANIFEST_DIR")).join("../../target"), PathBuf::from);
    target.join(what).join(server)
}

/// Says how two documents differ.
pub(crate) fn same_to_the_byte(first: &str, second: &str) -> Result<(), String> {
    match first.lines().zip(second.lines()).find(|(one, other)| one != other) {
        Some((one, other)) => Err(format!("from a fresh server it reads otherwise:\n  {one}\n  {other}")),
        None if first.len() == second.len() => Ok(()),
        None => Err("from a fresh server, a document of another length is read".to_owned()),
    }
}

/// How many there are of something: more in the full run than in every other.
pub(crate) fn in_full_run(many: u64, few: u64) -> u64 {
    if std::env::var_os("ZEST_CHECKS").is_some() { many } else { few }
}

/// One in how many tries is attempted in every run, where there are very many; the seed says which.
pub(crate) const ONE_IN: usize = 3;

/// How many estates go to the server and come back twice, at least: 200 in the full run.
pub(crate) fn estates() -> u64 {
    in_full_run(200, 40)
}

/// How many checks a server is to be compared on; at least 50,000, half of `ZEST_CHECKS` in the full run.
pub(crate) fn wanted_checks() -> u64 {
    std::env::var("ZEST_CHECKS").ok().and_then(|v| v.parse::<u64>().ok()).map_or(55_000, |n| n / 2 + 1_000)
}

/// The first seed; printed, so that a run can be repeated.
pub(crate) fn seed(what: &str) -> u64 {
    let seed = std::env::var("ZEST_SEED").ok().and_then(|v| v.parse().ok()).unwrap_or(20_261_125);
    eprintln!("{what}: first seed {seed} (ZEST_SEED)");
    seed
}

/// Finds a way by which somebody could come to something.
pub(crate) fn way_to(engine: &Engine, from: &str, aim: Aim<'_>) -> Option<Way> {
    Ways::of(&Acts::of(engine, &[aim]), from).expect("the user is known").to(aim)
}

/// Counts of compared checks, by kind.
#[derive(Debug, Default)]
pub(crate) struct Counts {
    compared: BTreeMap<String, u64>,
    undecided: u64,
}

impl Counts {
    pub(crate) fn add(&mut self, kind: &str, count: u64) {
        *self.compared.entry(kind.to_owned()).or_default() += count;
    }

    pub(crate) fn undecided(&mut self) {
        self.undecided += 1;
    }

    pub(crate) fn total(&self) -> u64 {
        self.compared.values().sum()
    }

    pub(crate) fn print(&self, what: &str) {
        for (kind, count) in &self.compared {
            eprintln!("  {count:>9}  {kind}");
        }
        eprintln!("  {:>9}  {what}: compared, none disagrees; beside them {} not decided", self.total(), self.undecided);
    }
}
