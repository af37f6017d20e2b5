//! What differs between two ledgers and no set of rights tells of.

use std::collections::VecDeque;

use rustc_hash::{FxHashMap, FxHashSet};

use super::compare::systems;
use zest_engine::Engine;
use zest_engine::rules::{Beside, Site};
use zest_model::listing::{ChangedBeside, Difference};
use zest_model::source::Place;

/// Returns what differs between two ledgers on some systems and no set of rights tells of: what something does, and on systems where nobody
/// gained or lost anything (the differences that were found) also what is held that nobody can use. Of
/// what is new, or gone, as a whole no part is told.
///
/// # Example
/// ```
/// use zest_ledger::{Ledger, review::changed_beside};
/// let text = r#"
/// systems.fares.kind = "postgresql"
/// [databases.fares.objects."view public.cheap"]
/// query = "SELECT 1 AS one"
/// "#;
/// let of = |text: &str| Ledger::new().document("fares.toml", text).engine(1);
/// let (before, after) = (of(text)?, of(&text.replace("1 AS one", "2 AS one"))?);
/// let found = changed_beside(&before, &after, &[], |_| true);
/// assert_eq!(found.iter().map(|one| one.what.as_str()).collect::<Vec<_>>(), ["the query of view public.cheap"]);
/// # Ok::<(), zest_ledger::finding::Findings>(())
/// ```
#[must_use]
pub fn changed_beside(before: &Engine, after: &Engine, differences: &[Difference], is_meant: impl Fn(&str) -> bool) -> Vec<ChangedBeside> {
    let mut list = Vec::new();
    for system in systems(before, after).into_iter().filter(|name| is_meant(name)) {
        let located = |engine: &Engine, place: Option<Place>| place.map(|place| engine.estate().sources().locate(place));
        let mut add = |what: String, was: Option<Place>, is: Option<Place>| {
            let (was, is) = (located(before, was), located(after, is));
            list.push(ChangedBeside { system: system.to_owned(), what, was, is, more: zest_model::More });
        };
        let (mut gone, mut new) = match (before.site(system), after.site(system)) {
            (Some(old), Some(new)) => (old.kind().beside_rights(old), new.kind().beside_rights(new)),
            // All of it is there in one of them only.
            (old, new) => {
                let place = |site: Option<Site<'_>>| site.map(|site| site.entry().id.place);
                add("the system".to_owned(), place(old), place(new));
                continue;
            }
        };
        let names = |all: &[Beside]| -> FxHashSet<String> { all.iter().map(|one| one.of.clone()).collect() };
        let (old_names, new_names) = (names(&gone), names(&new));
        // What is there several times, such as grants on objects to come, is the same as often as it is there.
        let mut known: FxHashMap<(String, String), usize> = FxHashMap::default();
        gone.iter().for_each(|one| *known.entry(key(one)).or_default() += 1);
        new.retain(|one| !is_taken(&mut known, one));
        gone.retain(|one| is_taken(&mut known, one));
        let is_told = differences.iter().any(|one| one.systems.iter().any(|name| name == system));
        let counts = |one: &Beside, there: &FxHashSet<String>| {
            let is_whole = one.of == one.what || one.of.is_empty() || there.contains(&one.of);
            is_whole && !(is_told && one.is_held)
        };
        new.retain(|one| counts(one, &old_names));
        gone.retain(|one| counts(one, &new_names));
        let mut places: FxHashMap<String, VecDeque<Place>> = FxHashMap::default();
        gone.iter().for_each(|one| places.entry(one.what.clone()).or_default().push_back(one.place));
        for one in new {
            let was = places.get_mut(&one.what).and_then(VecDeque::pop_front);
            add(one.what, was, Some(one.place));
        }
        for one in gone {
            // The first of a name stand for what is written otherwise now.
            if places.get(&one.what).is_some_and(|left| left.contains(&one.place)) {
                add(one.what, Some(one.place), None);
            }
        }
    }
    list
}

fn key(one: &Beside) -> (String, String) {
    (one.what.clone(), one.says.clone())
}

/// Takes one out of what is known; whether there was one.
fn is_taken(known: &mut FxHashMap<(String, String), usize>, one: &Beside) -> bool {
    let left = known.get_mut(&key(one)).filter(|left| **left > 0);
    left.map(|left| *left -= 1).is_some()
}
