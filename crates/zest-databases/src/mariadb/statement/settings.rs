//! Settings of the server: who may set each, in a session and for all.

use super::super::privilege::{Privilege, Privileges};

/// Each setting of version 10.11, who sets it in a session, and who for the server: `everybody`, a dash for nobody, or the privileges of
/// which one is needed. Made from a fresh server.
const SETTINGS: &str = include_str!("../settings.txt");

/// Returns the privileges of which one is needed to set a setting: none where everybody may. The text says why it is not known.
pub(super) fn set(name: &str, is_global: bool) -> Result<Privileges, String> {
    let line = SETTINGS.lines().find(|line| line.split(';').next() == Some(name));
    let who = line.and_then(|line| line.split(';').nth(if is_global { 2 } else { 1 }));
    match who {
        Some("everybody") => Ok(Privileges::NONE),
        Some("-") => Err(format!("`{name}` is not set there")),
        Some(list) => privileges(list),
        None => Err(format!("who may set `{name}`")),
    }
}

/// Reads a list of privileges as the lists of the server have them.
pub(super) fn privileges(list: &str) -> Result<Privileges, String> {
    let known = list.split(',').map(Privilege::from_word).collect::<Option<Vec<_>>>();
    known.map(|known| known.into_iter().collect()).ok_or_else(|| format!("what `{list}` is"))
}
