//! Network devices: privilege levels, a command line, and command sets that are asked centrally.
//!
//! A session starts at its band's start level. For a line to run, two locks must both be open: the device's own
//! level for the command, and, where the device authorises commands centrally at the session's level (or in
//! configuration modes, a switch of its own), the command sets. The first assignment that applies decides alone.

mod entry;
mod line;
mod reach;

use crate::ask::Question;
use crate::engine::{Candidate, Engine, LevelBand, Standing};
use crate::estate::{RoleId, SetId, SystemId, UserId};

use super::trace::{Stop, Trace};
pub(crate) use entry::{open, refusal_to_sign_in, through};
pub(crate) use reach::{Instances, Reach, elevations};

/// Returns the command sets and the ceiling of a session, and whether the device asks the sets at every level; no sets for a
/// local account without any.
pub(crate) fn standpoint(engine: &Engine, question: &Question) -> Option<(Option<Vec<SetId>>, u8, bool)> {
    let at = stand(engine, question, &mut Trace::silent()).ok()?;
    let has_sets = !at.standing.is_local || !at.standing.sets.is_empty();
    Some((has_sets.then(|| at.standing.sets.clone()), at.band.ceiling, at.standing.is_local))
}

/// Returns the roles of a session that can be opened.
pub(crate) fn roles(engine: &Engine, question: &Question) -> Vec<RoleId> {
    stand(engine, question, &mut Trace::silent()).map_or_else(|_| Vec::new(), |at| at.standing.roles.clone())
}

/// The session as it stands once it is open.
pub(crate) struct Standpoint<'e> {
    pub(crate) system: SystemId,
    pub(crate) user: UserId,
    pub(crate) standing: &'e Standing,
    /// The standing's number; none for a local account without command sets.
    pub(crate) number: Option<usize>,
    pub(crate) band: LevelBand,
    pub(crate) level: u8,
}

/// Walks through the stages of a question about a device.
pub(crate) fn walk(engine: &Engine, question: &Question, system: SystemId, trace: &mut Trace) -> Result<(), Stop> {
    let standpoint = open(engine, question, system, trace)?;
    line::check(engine, question, &standpoint, trace)
}

fn stand<'e>(engine: &'e Engine, question: &Question, trace: &mut Trace) -> Result<Standpoint<'e>, Stop> {
    open(engine, question, super::find_system(engine, question, trace)?, trace)
}

/// Returns the assignments that reach a user on a system, in the order in which they are tried.
pub(crate) fn candidates(engine: &Engine, user: UserId, system: SystemId) -> impl Iterator<Item = Candidate> {
    engine.membership.candidates(user).iter().copied().filter(move |c| engine.membership.covers(*c, system))
}
