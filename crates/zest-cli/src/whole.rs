//! Files that are written whole or not at all.

use std::fs;
use std::path::Path;

use anyhow::{Context, Result};

/// Writes a file whole or not at all; one that is there keeps its permissions.
pub(crate) fn write(path: &Path, text: &str) -> Result<()> {
    let name = path.file_name().map_or_else(String::new, |n| n.to_string_lossy().into_owned());
    let draft = path.with_file_name(format!(".{name}.{}.new", std::process::id()));
    let keep = |draft: &Path| match fs::metadata(path) {
        Ok(meta) => fs::set_permissions(draft, meta.permissions()),
        Err(error) if error.kind() == std::io::ErrorKind::NotFound => Ok(()),
        Err(error) => Err(error),
    };
    let written = fs::write(&draft, text).and_then(|()| keep(&draft)).and_then(|()| fs::rename(&draft, path));
    if written.is_err() {
        // OK because the draft is ours; what cannot be removed stays behind under its hidden name.
        let _ = fs::remove_file(&draft);
    }
    written.with_context(|| format!("writing {}", path.display()))
}

/// Appends to a document of TOML, or begins it.
pub(crate) fn append(path: &Path, text: &str) -> Result<()> {
    let before = match fs::read_to_string(path) {
        Ok(before) => before,
        Err(error) if error.kind() == std::io::ErrorKind::NotFound => String::new(),
        Err(error) => return Err(error).with_context(|| format!("reading {}", path.display())),
    };
    let gap = if before.is_empty() || before.ends_with('\n') { "" } else { "\n" };
    let whole = format!("{before}{gap}{}", if before.is_empty() { text.trim_start() } else { text });
    // What was there may say otherwise what is appended, or be no document at all.
    whole.parse::<toml_edit::DocumentMut>().with_context(|| format!("{} is no document to which this can be appended", path.display()))?;
    write(path, &whole)
}
