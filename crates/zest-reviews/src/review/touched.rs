//! Which systems documents that differ can have a say on.

use std::collections::BTreeSet;

use zest_engine::{Engine, Estate};
use zest_model::entries::Entries;
use zest_model::entry::Kind;
use zest_model::source::{Place, SourceId};

/// Returns the systems on which anything can differ between two ledgers, as far as their documents say so at once; nothing where it
/// may be any.
///
/// Both must be as their documents say: what a layer changed is in no document.
///
/// # Example
/// ```
/// use zest_ledger::{Ledger, review::touched};
/// let people = "users.mate-1.proofs = ['password']\n";
/// let rota = "systems.rota.kind = 'application'\napplications.rota.types.shift.rights = ['plan']\n";
/// let of = |rota: &str| Ledger::new().document("people.toml", people).document("rota.toml", rota).engine(1);
/// let (before, after) = (of(rota)?, of(&rota.replace("plan", "drop"))?);
/// assert_eq!(touched(&before, &after), Some(["rota".to_owned()].into()));
/// assert_eq!(touched(&before, &before), Some([].into()));
/// # Ok::<(), zest_ledger::finding::Findings>(())
/// ```
#[must_use]
pub fn touched(before: &Engine, after: &Engine) -> Option<BTreeSet<String>> {
    let mut systems = BTreeSet::new();
    for (here, there) in [(before, after), (after, before)] {
        let (estate, other) = (here.estate(), there.estate());
        for (source, name) in estate.sources().names() {
            if other.sources().text_of(name) != Some(estate.sources().text(source)) {
                systems.extend(concerned(here, estate, source)?);
            }
        }
    }
    Some(systems)
}

/// Returns the systems that the entries of a document are about; nothing where that may be any, or no entry was found in it.
fn concerned(engine: &Engine, estate: &Estate, source: SourceId) -> Option<BTreeSet<String>> {
    let is_in = |place: Place| matches!(place, Place::Text(span) if span.source == source);
    let Entries {
        users,
        groups,
        origins,
        systems,
        vocabularies,
        command_sets,
        roles,
        assignments,
        databases,
        services,
        hosts,
        separations,
        credential_rules,
        sessions,
        expectations,
        promises,
        meant_ways,
        interfaces,
        outside,
    } = estate.entries();
    // People, what binds them, and what several systems share may be about any.
    let is_about_all = users.iter().any(|entry| is_in(entry.id.place))
        || groups.iter().any(|entry| is_in(entry.id.place))
        || origins.iter().any(|entry| is_in(entry.id.place))
        || roles.iter().any(|entry| is_in(entry.id.place))
        || assignments.iter().any(|entry| is_in(entry.place))
        || separations.iter().any(|entry| is_in(entry.id.place))
        || credential_rules.iter().any(|entry| is_in(entry.id.place))
        || outside.iter().any(|entry| is_in(entry.id.place))
        || interfaces.iter().flat_map(|entry| &entry.operations).any(|operation| is_in(operation.place));
    if is_about_all {
        return None;
    }
    let mut found: BTreeSet<String> = BTreeSet::new();
    found.extend(systems.iter().filter(|entry| is_in(entry.id.place)).map(|entry| entry.id.value.clone()));
    found.extend(databases.iter().filter(|entry| is_in(entry.system.place)).map(|entry| entry.system.value.clone()));
    found.extend(services.iter().filter(|entry| is_in(entry.system.place)).map(|entry| entry.system.value.clone()));
    found.extend(hosts.iter().filter(|entry| is_in(entry.system.place)).map(|entry| entry.system.value.clone()));
    let has_lines = command_sets.iter().any(|entry| is_in(entry.id.place)) || vocabularies.iter().any(|entry| is_in(entry.id.place));
    if has_lines {
        // Lines are typed on devices and hosts, and on whatever kinds from outside do with them.
        let knows_no_lines = |kind: Kind| [Kind::POSTGRESQL, Kind::MARIADB, Kind::CLOUD, Kind::APPLICATION].contains(&kind);
        found.extend(engine.all_sites().map(|site| site.entry()).filter(|s| !knows_no_lines(s.kind())).map(|s| s.id.value.clone()));
    }
    // What is recorded about answers changes none.
    let is_recorded = sessions.iter().any(|entry| is_in(entry.id.place))
        || expectations.iter().any(|entry| is_in(entry.place))
        || promises.iter().any(|entry| is_in(entry.place))
        || meant_ways.iter().any(|entry| is_in(entry.place));
    (!found.is_empty() || is_recorded).then_some(found)
}
