//! Separation of duties: roles that nobody may hold together, or have active together (ANSI INCITS 359, static and dynamic).

use smallvec::SmallVec;

use crate::engine::Engine;
use crate::engine::trace::{Stop, Trace};
use crate::links::{AssignmentId, RoleId, SeparationLinks, SystemId, UserId};
use zest_model::ask::{Refusal, Session, Stage};
use zest_model::source::{Place, visible};

/// Roles, each with the place of what gives it.
pub type Roles = SmallVec<[(RoleId, Place); 8]>;

/// The roles somebody holds through assignments, with the place of each assignment; on one system, or anywhere.
pub fn held(engine: &Engine, user: UserId, on: Option<SystemId>, session: &Session) -> Roles {
    let mut roles = Roles::new();
    for candidate in engine.membership.candidates(user).iter().filter(|c| on.is_none_or(|s| engine.membership.covers(**c, s))) {
        let links = &engine.estate.assignments[candidate.assignment.index()];
        // What is over, or has not begun, is not held; what cannot be known is.
        if !links.conditions.is_over(session) {
            let of: &[RoleId] = &engine.standing(AssignmentId::new(candidate.assignment.index())).1.roles;
            for &role in of {
                if !roles.iter().any(|&(r, _)| r == role) {
                    roles.push((role, links.entry.place));
                }
            }
        }
    }
    roles
}

/// Returns the roles of a separation that are among some.
pub fn clash(separation: &SeparationLinks, roles: &[(RoleId, Place)]) -> Roles {
    roles.iter().copied().filter(|(role, _)| separation.roles.contains(role)).collect()
}

fn names(engine: &Engine, list: &[(RoleId, Place)]) -> String {
    list.iter().map(|&(r, _)| format!("`{}`", visible(&engine.estate.role(r).id.value))).collect::<Vec<_>>().join(" and ")
}

/// Refuses where roles are held, on any system, that nobody may hold together.
pub(crate) fn held_apart(engine: &Engine, user: UserId, session: &Session, trace: &mut Trace) -> Result<(), Stop> {
    let estate = &engine.estate;
    let mut lasting = estate.separations.iter().filter(|s| !s.when_active).peekable();
    if lasting.peek().is_none() {
        return Ok(());
    }
    let mine = held(engine, user, None, session);
    for separation in lasting {
        let both = clash(separation, &mine);
        if both.len() > 1 {
            trace.refuse(Stage::Standing, Refusal::DutiesNotSeparated, || {
                let who = visible(&estate.user(user).id.value);
                let (roles, name) = (names(engine, &both), visible(&separation.name));
                (format!("`{who}` holds {roles}, which nobody may hold together (`{name}`)"), Some(separation.place))
            })?;
        }
    }
    Ok(())
}

/// Refuses where a role is stated as active that a user does not hold on a system.
pub(crate) fn stated_roles(engine: &Engine, user: UserId, system: SystemId, session: &Session, trace: &mut Trace) -> Result<(), Stop> {
    if session.active_roles.is_none() {
        return Ok(());
    }
    are_held(engine, user, &held(engine, user, Some(system), session), session, trace)
}

fn are_held(engine: &Engine, user: UserId, mine: &[(RoleId, Place)], session: &Session, trace: &mut Trace) -> Result<(), Stop> {
    let estate = &engine.estate;
    for name in session.active_roles.iter().flatten() {
        let role = estate.names.roles.get(name.as_str());
        if !role.is_some_and(|role| mine.iter().any(|(r, _)| r == role)) {
            let code = if role.is_some() { Refusal::RoleNotGranted } else { Refusal::UnknownRole };
            trace.refuse(Stage::Standing, code, || {
                (format!("`{}` does not hold the role `{}` here", visible(&estate.user(user).id.value), visible(name)), None)
            })?;
        }
    }
    Ok(())
}

/// Refuses where roles are held or active together that must not be.
pub(crate) fn check(engine: &Engine, user: UserId, system: SystemId, session: &Session, trace: &mut Trace) -> Result<(), Stop> {
    let estate = &engine.estate;
    if session.active_roles.is_none() && estate.separations.is_empty() {
        return Ok(());
    }
    let mine = held(engine, user, Some(system), session);
    are_held(engine, user, &mine, session, trace)?;
    held_apart(engine, user, session, trace)?;
    for separation in estate.separations.iter().filter(|s| s.when_active) {
        let mut both = clash(separation, &mine);
        if let Some(active) = &session.active_roles {
            both.retain(|&mut (r, _)| active.contains(&estate.role(r).id.value));
        }
        if both.len() > 1 {
            trace.refuse(Stage::Standing, Refusal::RolesActiveTogether, || {
                let how = match session.active_roles {
                    Some(_) => "are active together",
                    None => "are held, and the question does not state which one is active",
                };
                let (roles, name) = (names(engine, &both), visible(&separation.name));
                (format!("{roles} {how}; only one of them may be (`{name}`)"), Some(separation.place))
            })?;
        }
    }
    Ok(())
}
