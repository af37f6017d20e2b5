//! Separation of duties: roles that nobody may hold together, or have active together (ANSI INCITS 359, static and dynamic).

use crate::ask::{Refusal, Session, Stage};
use crate::engine::Engine;
use crate::estate::{AssignmentId, Outcome, Part, RoleId, SeparationLinks, SystemId, UserId};
use crate::kind::trace::{Run, Stop, Trace};
use crate::source::{Place, visible};

/// The roles somebody holds through assignments, with the place of each assignment; on one system, or anywhere.
pub(crate) fn held(engine: &Engine, user: UserId, on: Option<SystemId>, at: Option<jiff::Timestamp>) -> Vec<(RoleId, Place)> {
    let mut roles: Vec<(RoleId, Place)> = Vec::new();
    let session = Session { at, ..Session::default() };
    for candidate in engine.membership.candidates(user).iter().filter(|c| on.is_none_or(|s| engine.membership.covers(**c, s))) {
        let links = &engine.estate.assignments[candidate.assignment.index()];
        // What is over, or has not begun, is not held; what cannot be known is.
        let is_over = links.conditions.parts(&session).any(|(part, outcome, _)| part == Part::Validity && outcome == Outcome::Fails);
        if !is_over {
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
pub(crate) fn clash(separation: &SeparationLinks, roles: &[(RoleId, Place)]) -> Vec<(RoleId, Place)> {
    roles.iter().copied().filter(|(role, _)| separation.roles.contains(role)).collect()
}

/// Refuses where roles are held or active together that must not be.
pub(crate) fn check<T: Trace>(
    engine: &Engine,
    user: UserId,
    system: SystemId,
    session: &Session,
    run: &mut Run<'_, T>,
) -> Result<(), Stop> {
    let estate = &engine.estate;
    let here = |on| held(engine, user, on, session.at);
    if let Some(active) = &session.active_roles {
        let mine = here(Some(system));
        for name in active {
            let role = estate.role_ids.get(name.as_str());
            if !role.is_some_and(|role| mine.iter().any(|(r, _)| r == role)) {
                let code = if role.is_some() { Refusal::RoleNotGranted } else { Refusal::UnknownRole };
                run.refuse(Stage::Standing, code, || {
                    (format!("`{}` does not hold the role `{}` here", visible(&estate.user(user).id.value), visible(name)), None)
                })?;
            }
        }
    }
    let names = |list: &[(RoleId, Place)]| {
        list.iter().map(|&(r, _)| format!("`{}`", visible(&estate.role(r).id.value))).collect::<Vec<_>>().join(" and ")
    };
    for separation in &estate.separations {
        if !separation.when_active {
            let both = clash(separation, &here(None));
            if both.len() > 1 {
                run.refuse(Stage::Standing, Refusal::DutiesNotSeparated, || {
                    let who = visible(&estate.user(user).id.value);
                    (
                        format!("`{who}` holds {}, which nobody may hold together (`{}`)", names(&both), visible(&separation.name)),
                        Some(separation.place),
                    )
                })?;
            }
            continue;
        }
        let mut both = clash(separation, &here(Some(system)));
        if let Some(active) = &session.active_roles {
            both.retain(|&(r, _)| active.contains(&estate.role(r).id.value));
        }
        if both.len() > 1 {
            run.refuse(Stage::Standing, Refusal::RolesActiveTogether, || {
                let how = if session.active_roles.is_some() {
                    "are active together"
                } else {
                    "are held, and the question does not state which one is active"
                };
                (format!("{} {how}; only one of them may be (`{}`)", names(&both), visible(&separation.name)), Some(separation.place))
            })?;
        }
    }
    Ok(())
}
