//! What differs between two ledgers and no set of rights tells of.

use rustc_hash::FxHashMap;

use super::compare::systems;
use zest_engine::Engine;
use zest_engine::rules::Beside;
use zest_model::listing::{ChangedBeside, Difference};

/// Returns what differs between two ledgers on some systems and no set of rights tells of: what something does, and on systems where nobody
/// gained or lost anything (the differences that were found) also what is held that nobody can use.
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
        let is_told = differences.iter().any(|one| one.systems.iter().any(|name| name == system));
        let of = |engine: &Engine| {
            let mut all = engine.site(system).map_or_else(Vec::new, |site| site.kind().beside_rights(site));
            all.retain(|one| !(is_told && one.is_held));
            all
        };
        let (mut gone, mut new) = (of(before), of(after));
        // What is there several times, such as grants on objects to come, is the same as often as it is there.
        let mut known: FxHashMap<(String, String), usize> = FxHashMap::default();
        gone.iter().for_each(|one| *known.entry(key(one)).or_default() += 1);
        new.retain(|one| !is_taken(&mut known, one));
        gone.retain(|one| is_taken(&mut known, one));
        let change = |what: String, was: Option<Beside>, is: Option<Beside>| ChangedBeside {
            system: system.to_owned(),
            what,
            was: was.map(|one| before.estate().sources().locate(one.place)),
            is: is.map(|one| after.estate().sources().locate(one.place)),
            more: zest_model::More,
        };
        for one in new {
            let was = gone.iter().position(|other| other.what == one.what).map(|at| gone.remove(at));
            list.push(change(one.what.clone(), was, Some(one)));
        }
        list.extend(gone.into_iter().map(|one| change(one.what.clone(), Some(one), None)));
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
