//! Reads a ledger's folder: every document of one below it, by its name, in order of path.

use std::fs;
use std::path::{Path, PathBuf};

use zest_ledger::finding::Finding;
use zest_ledger::{Ledger, Validated};

/// How deep folders may be nested.
const MAX_DEPTH: usize = 32;
/// The largest document that is read, in bytes.
const MAX_DOCUMENT: u64 = 256 << 20;

/// Reads a folder and validates what is in it. What cannot be read becomes a finding.
pub(crate) fn read(folder: &Path) -> Validated {
    let (mut ledger, documents) = open(folder);
    for (name, bytes) in documents {
        ledger = ledger.document_bytes(&name, &bytes);
    }
    ledger.validate()
}

/// Returns the documents of a folder that can be read, each with its name in the ledger.
pub(crate) fn documents(folder: &Path) -> Vec<(String, Vec<u8>)> {
    open(folder).1
}

/// Reads the documents; what cannot be read is a finding of the ledger that is returned with them.
fn open(folder: &Path) -> (Ledger, Vec<(String, Vec<u8>)>) {
    let mut ledger = Ledger::new();
    let mut documents = Vec::new();
    let mut paths = Vec::new();
    match fs::metadata(folder) {
        Ok(meta) if meta.is_dir() => ledger = collect(folder, 0, &mut paths, ledger),
        Ok(_) => paths.push(folder.to_owned()),
        Err(error) => ledger = ledger.finding(Finding::unreadable(&folder.display().to_string(), &error.to_string())),
    }
    paths.sort();
    for path in paths {
        let name = path.strip_prefix(folder).ok().filter(|p| !p.as_os_str().is_empty()).unwrap_or(&path).display().to_string();
        let size = fs::metadata(&path).map_or(0, |m| m.len());
        if size > MAX_DOCUMENT {
            ledger = ledger.finding(Finding::unreadable(&name, "it is larger than 256 MiB; split it"));
            continue;
        }
        match fs::read(&path) {
            Ok(bytes) => documents.push((name, bytes)),
            Err(error) => ledger = ledger.finding(Finding::unreadable(&name, &error.to_string())),
        }
    }
    (ledger, documents)
}

/// Returns whether a file is a document of a ledger, by its name.
pub(crate) fn is_document(path: &Path) -> bool {
    path.file_name().is_some_and(|n| Ledger::is_document(&n.to_string_lossy()))
}

/// Collects the documents of a folder. Hidden entries are passed over, and links are followed to files only.
fn collect(folder: &Path, depth: usize, paths: &mut Vec<PathBuf>, mut ledger: Ledger) -> Ledger {
    let entries = match fs::read_dir(folder) {
        Ok(entries) if depth < MAX_DEPTH => entries,
        Ok(_) => return ledger.finding(Finding::unreadable(&folder.display().to_string(), "folders are nested too deep")),
        Err(error) => return ledger.finding(Finding::unreadable(&folder.display().to_string(), &error.to_string())),
    };
    for entry in entries.flatten() {
        let path = entry.path();
        let is_hidden = entry.file_name().to_string_lossy().starts_with('.');
        let is_folder = entry.file_type().is_ok_and(|t| t.is_dir());
        if is_hidden {
            continue;
        }
        if is_folder {
            ledger = collect(&path, depth + 1, paths, ledger);
        } else if is_document(&path) {
            paths.push(path);
        }
    }
    ledger
}
