//! Reads a ledger's folder: every document of one below it, by its name, in order of path. What looks like a document and is
//! not read is said, and stops answers: a deny in it would be missing.

use std::fs::{self, File};
use std::io::Read;
use std::path::{Path, PathBuf};

use zest_ledger::finding::{Finding, Findings};
use zest_ledger::{Engine, Ledger, Validated};

use crate::{cores, progress};

/// How deep folders may be nested.
pub(crate) const MAX_DEPTH: usize = 32;
/// The largest document that is read, in bytes.
const MAX_DOCUMENT: u64 = 256 << 20;
/// How much is read of all documents together, in bytes.
const MAX_LEDGER: u64 = 2 << 30;
/// How many entries of a linked folder are looked at, to say whether documents are in it.
const MAX_LOOKED_AT: usize = 10_000;

/// Reads a folder and validates what is in it. What cannot be read becomes a finding.
pub(crate) fn read(folder: &Path) -> Validated {
    let (ledger, documents) = open(folder);
    progress::during("reading the ledger", || ledger.documents(&documents, cores::processors()).validate())
}

/// Reads a folder and documents beside it, and compiles what is in them.
pub(crate) fn engine(folder: &Path, beside: &[PathBuf]) -> Result<Engine, Findings> {
    let (mut ledger, mut documents) = open(folder);
    for path in beside {
        let name = path.display().to_string();
        match read_plain(path, MAX_DOCUMENT) {
            Ok(bytes) => documents.push((name, bytes)),
            Err(why) => ledger = ledger.finding(Finding::unreadable(&name, &why)),
        }
    }
    let threads = cores::processors();
    progress::during("reading the ledger", || ledger.documents(&documents, threads).engine(threads))
}

/// Returns the documents of a folder that can be read, each with its name in the ledger.
pub(crate) fn documents(folder: &Path) -> Vec<(String, Vec<u8>)> {
    open(folder).1
}

/// What was found on the way through a folder.
#[derive(Default)]
struct Found {
    paths: Vec<PathBuf>,
    findings: Vec<Finding>,
}

impl Found {
    fn unreadable(&mut self, path: &Path, why: &str) {
        self.findings.push(Finding::unreadable(&path.display().to_string(), why));
    }
}

/// Reads the documents; what cannot be read is a finding of the ledger that is returned with them.
fn open(folder: &Path) -> (Ledger, Vec<(String, Vec<u8>)>) {
    let mut found = Found::default();
    match fs::metadata(folder) {
        Ok(meta) if meta.is_dir() => collect(folder, 0, &mut found),
        Ok(_) => found.paths.push(folder.to_owned()),
        Err(error) => found.unreadable(folder, &error.to_string()),
    }
    let Found { mut paths, mut findings } = found;
    paths.sort();
    let mut documents = Vec::new();
    let mut left = MAX_LEDGER;
    for path in paths {
        let name = path.strip_prefix(folder).ok().filter(|p| !p.as_os_str().is_empty()).unwrap_or(&path).display().to_string();
        match read_plain(&path, MAX_DOCUMENT.min(left)) {
            Ok(bytes) => {
                left -= bytes.len() as u64;
                documents.push((name, bytes));
            }
            Err(why) => findings.push(Finding::unreadable(&name, &why)),
        }
    }
    (findings.into_iter().fold(Ledger::new(), Ledger::finding), documents)
}

/// Reads a plain file, and no more of it than is allowed: a device or a pipe may never end.
fn read_plain(path: &Path, most: u64) -> Result<Vec<u8>, String> {
    let meta = fs::metadata(path).map_err(|error| error.to_string())?;
    if !meta.is_file() {
        return Err("it is not a plain file".to_owned());
    }
    let too_large =
        || format!("it is larger than {} MiB, or the ledger is larger than {} MiB; split it", MAX_DOCUMENT >> 20, MAX_LEDGER >> 20);
    if meta.len() > most {
        return Err(too_large());
    }
    let mut bytes = Vec::with_capacity(usize::try_from(meta.len()).unwrap_or(0));
    let file = File::open(path).map_err(|error| error.to_string())?;
    file.take(most + 1).read_to_end(&mut bytes).map_err(|error| error.to_string())?;
    if bytes.len() as u64 > most { Err(too_large()) } else { Ok(bytes) }
}

/// Returns whether a file is a document of a ledger, by its name.
pub(crate) fn is_document(path: &Path) -> bool {
    path.file_name().is_some_and(|n| Ledger::is_document(&n.to_string_lossy()))
}

/// Returns whether a name is one of a document but for its upper-case letters.
pub(crate) fn is_nearly_document(name: &str) -> bool {
    !Ledger::is_document(name) && Ledger::is_document(&name.to_lowercase())
}

/// Collects the documents of a folder. Links are followed to files, not to folders.
fn collect(folder: &Path, depth: usize, found: &mut Found) {
    let entries = match fs::read_dir(folder) {
        Ok(entries) if depth < MAX_DEPTH => entries,
        Ok(_) => return found.unreadable(folder, "folders are nested too deep"),
        Err(error) => return found.unreadable(folder, &error.to_string()),
    };
    for entry in entries {
        let entry = match entry {
            Ok(entry) => entry,
            Err(error) => {
                found.unreadable(folder, &error.to_string());
                continue;
            }
        };
        let path = entry.path();
        let name = entry.file_name().to_string_lossy().into_owned();
        let kind = entry.file_type();
        let is_link = kind.as_ref().is_ok_and(fs::FileType::is_symlink);
        let is_folder = if is_link { path.is_dir() } else { kind.is_ok_and(|k| k.is_dir()) };
        if is_folder && name.starts_with('.') {
            // Such as that of git: no part of the ledger.
        } else if is_folder && is_link {
            if holds_documents(&path, 0, &mut MAX_LOOKED_AT.clone()) {
                found.unreadable(&path, "it is a link to a folder, which is not followed; its documents would be missing");
            }
        } else if is_folder {
            collect(&path, depth + 1, found);
        } else if name.starts_with('.') {
            if is_document(&path) {
                found.findings.push(Finding::not_read(&path.display().to_string(), "its name begins with a dot"));
            }
        } else if is_document(&path) {
            found.paths.push(path);
        } else if is_nearly_document(&name) {
            found.unreadable(&path, "the ending of a document's name is written in small letters");
        }
    }
}

/// Returns whether there are documents in a folder, or more than is looked at.
fn holds_documents(folder: &Path, depth: usize, left: &mut usize) -> bool {
    let Ok(entries) = fs::read_dir(folder) else { return true };
    for entry in entries.flatten() {
        let path = entry.path();
        *left = left.saturating_sub(1);
        let is_folder = entry.file_type().is_ok_and(|t| t.is_dir());
        let inside = is_folder && (depth == MAX_DEPTH || holds_documents(&path, depth + 1, left));
        if *left == 0 || inside || !is_folder && (is_document(&path) || is_nearly_document(&entry.file_name().to_string_lossy())) {
            return true;
        }
    }
    false
}
