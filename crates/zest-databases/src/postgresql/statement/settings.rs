//! Settings of the server: who may set and see each.

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
