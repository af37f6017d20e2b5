//! Which single entry of a ledger, taken out, cuts most ways off.

use zest_engine::Engine;
use zest_model::listing::{Cut, Way};
use zest_model::source::Place;

use super::tie::Tie;
use super::{Acts, Aim, Ways};
use crate::expectation::{Part, parts};

/// How many entries are tried at most: those that most ways rest on.
const MAX_TRIED: usize = 8;

/// Takes entries out that ways rest on, one at a time, and counts who still gets there; the one that leaves fewest comes first. Whoever
/// is there already, without a step, is counted as well.
///
/// # Example
/// ```
/// use zest_ledger::{Ledger, ask::Session, review::Sought, ways::{Acts, Aim, Ways, cuts}};
/// let text = r#"
/// users.helper-1.proofs = ["password"]
/// users.mate-1.proofs = ["password"]
/// [systems.rota]
/// kind = "application"
/// [applications.rota]
/// types.shift.rights = ["plan"]
/// objects."shift/early" = {}
/// grants = [
///   { allow = ["plan"], on = "shift/*", to = ["user:mate-1"] },
///   { allow = ["reset-credential"], on = "user/mate-1", to = ["user:helper-1"] },
/// ]
/// "#;
/// let engine = Ledger::new().document("rota.toml", text).engine(1)?;
/// let session = Session::default();
/// let aim = Aim::Do(Sought::Line("plan on shift/early"), &["rota"], &session);
/// let acts = Acts::of(&engine, &[aim]);
/// let way = Ways::of(&acts, "helper-1").and_then(|mut ways| ways.to(aim)).expect("by a reset");
/// let cut = &cuts(&engine, &[way], aim)[0];
/// assert_eq!((cut.left, cut.of), (0, 1), "taking the reset out cuts it off");
/// # Ok::<(), zest_ledger::finding::Findings>(())
/// ```
#[must_use]
pub fn cuts(engine: &Engine, ways: &[Way], aim: Aim<'_>) -> Vec<Cut> {
    let estate = engine.estate();
    let rests_on = |place: &zest_model::source::Location| {
        let is_on = |way: &&Way| way.steps.iter().any(|step| step.place.as_ref() == Some(place));
        ways.iter().filter(is_on).count()
    };
    let parts = parts(engine).into_iter().filter(Part::is_entry).map(Removal::Part);
    let mut candidates: Vec<(usize, Removal)> = parts
        .chain(Tie::all(estate.entries()).into_iter().map(Removal::Tie))
        .map(|removal| (rests_on(&estate.sources().locate(removal.place())), removal))
        .filter(|(count, _)| *count > 0)
        .collect();
    candidates.sort_by_key(|(count, _)| std::cmp::Reverse(*count));
    candidates.truncate(MAX_TRIED);
    let mut list: Vec<Cut> = candidates
        .into_iter()
        .filter_map(|(_, removal)| {
            let without = removal.taken_out(engine)?;
            let acts = Acts::of(&without, &[aim]);
            let gets_there = |way: &&Way| Ways::of(&acts, &way.from).is_some_and(|mut ways| ways.to(aim).is_some());
            let left = ways.iter().filter(gets_there).count();
            let place = estate.sources().locate(removal.place());
            Some(Cut { what: removal.what().to_owned(), place, left, of: ways.len(), more: zest_model::More })
        })
        .collect();
    list.sort_by_key(|cut| cut.left);
    list
}

/// Something that can be taken out of a ledger.
enum Removal {
    Part(Part),
    Tie(Tie),
}

impl Removal {
    const fn place(&self) -> Place {
        match self {
            Self::Part(part) => part.place(),
            Self::Tie(tie) => tie.place,
        }
    }

    fn what(&self) -> &str {
        match self {
            Self::Part(part) => part.what(),
            Self::Tie(tie) => &tie.what,
        }
    }

    fn taken_out(&self, engine: &Engine) -> Option<Engine> {
        match self {
            Self::Part(part) => part.taken_out(engine),
            Self::Tie(tie) => {
                let mut entries = engine.estate().entries().clone();
                tie.take_out(&mut entries);
                engine.with_entries(entries).ok()
            }
        }
    }
}
