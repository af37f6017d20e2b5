//! Settings of the server: who may set and see each.

use super::super::state::State;
use crate::sql::{Dialect, Words};

/// Each setting of version 15 with its context and who sees it: `public`, or the roles that do. Made from a fresh server.
const SETTINGS: &str = include_str!("../settings.txt");

/// Who may do something with a setting.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(in super::super) enum Who {
    Everybody,
    Superusers,
    /// Superusers, and who has all rights of one of these roles.
    Readers(&'static str),
}

fn line(name: &str) -> Option<(&'static str, &'static str)> {
    let line = SETTINGS.lines().find(|line| line.split(' ').next() == Some(name))?;
    let mut words = line.split(' ').skip(1);
    Some((words.next()?, words.next()?))
}

/// Returns who may set a setting in a session; the text says why nobody may, or why it is not known.
pub(super) fn set(name: &str) -> Result<Who, String> {
    match line(name) {
        Some(("user", _)) => Ok(Who::Everybody),
        Some(("superuser", _)) => Ok(Who::Superusers),
        Some((context, _)) => Err(format!("`{name}` is not set in a session (its context is {context})")),
        // A name of two parts is of no part of the server; one of an extension could say otherwise.
        None if name.contains('.') && !name.starts_with("plpgsql.") => Ok(Who::Everybody),
        None => Err(format!("who may set `{name}`")),
    }
}

/// Returns who may keep a setting for later sessions.
pub(in super::super) fn keep(name: &str) -> Result<Who, String> {
    match line(name) {
        Some(("user" | "backend", _)) => Ok(Who::Everybody),
        Some(("superuser" | "superuser-backend", _)) => Ok(Who::Superusers),
        Some((context, _)) => Err(format!("`{name}` is not set for a session (its context is {context})")),
        None if name.contains('.') => Ok(Who::Superusers),
        None => Err(format!("who may set `{name}`")),
    }
}

/// Returns who may see a setting.
pub(super) fn show(name: &str) -> Result<Who, String> {
    match line(name) {
        Some((_, "public")) => Ok(Who::Everybody),
        Some((_, "-")) => Ok(Who::Superusers),
        Some((_, readers)) => Ok(Who::Readers(readers)),
        None => Err(format!("who may see the setting `{name}`")),
    }
}

/// Returns whether everybody may set a setting.
pub(super) fn is_open(name: &str) -> bool {
    set(name) == Ok(Who::Everybody)
}

/// Settings that change neither rights nor what names and texts mean; and all that begin as the last ones do.
const HARMLESS: &[&str] = &[
    "application_name",
    "client_encoding",
    "client_min_messages",
    "datestyle",
    "default_statistics_target",
    "extra_float_digits",
    "intervalstyle",
    "maintenance_work_mem",
    "random_page_cost",
    "timezone",
    "work_mem",
];
const HARMLESS_BEGINNINGS: &[&str] = &["log_", "enable_"];

/// Returns whether what is written as `name=value` for sessions, or for a routine, is followed, or changes nothing.
pub(super) fn is_followed(setting: &str) -> bool {
    let name = setting.split('=').next().unwrap_or("").trim().to_lowercase();
    name == "search_path" && path(setting).is_some()
        || HARMLESS.contains(&name.as_str())
        || HARMLESS_BEGINNINGS.iter().any(|begin| name.starts_with(begin))
        || name.ends_with("_timeout")
}

/// The settings that a session begins with: those of the role that signs in come before those of the database.
pub(in super::super) fn of_start<'s>(state: &'s State, signed_in: &str) -> impl Iterator<Item = &'s String> {
    let of_role = state.roles.get(signed_in).into_iter().flat_map(|role| &role.settings);
    of_role.chain(&state.settings)
}

/// Says which setting a session begins with that is not followed.
pub(in super::super) fn not_followed(state: &State, signed_in: &str) -> Option<String> {
    let setting = of_start(state, signed_in).find(|setting| !is_followed(setting))?;
    Some(format!("the session begins with the setting `{setting}`, which is not followed"))
}

/// Reads the schemas of `search_path=…`, as the server writes it.
pub(super) fn path(setting: &str) -> Option<Vec<String>> {
    let (name, value) = setting.split_once('=')?;
    if !name.trim().eq_ignore_ascii_case("search_path") {
        return None;
    }
    if matches!(value.trim(), "" | "\"\"") {
        return Some(Vec::new());
    }
    let mut words = Words::of(Dialect::Postgresql, &["path"], &format!("path {value}"))?;
    words.takes("path");
    let list = words.list(|words| words.name().or_else(|| words.text()))?;
    words.is_over().then_some(list)
}
