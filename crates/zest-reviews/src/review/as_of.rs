//! A ledger as it stands at a moment: for saying what is over by then, and what will have begun.

use std::sync::Arc;

use jiff::Timestamp;

use zest_engine::Engine;
use zest_model::entries::Entries;
use zest_model::entry::Grant;
use zest_model::finding::Findings;
use zest_model::source::At;
use zest_model::table::Table;

/// Returns the ledger as it stands at a moment: whatever is over by then, or has not begun, is taken out, people are disabled, and what is
/// left holds without bounds. Hours and days of the week stay as they are, and so does what only kinds from outside read.
///
/// # Errors
/// Why that is no ledger.
///
/// # Example
/// ```
/// use zest_ledger::{Engine, Ledger, ask::Session, review::{as_of, compare}};
/// let estate = Ledger::new().document("rota.toml", r#"
/// users.mate-1.proofs = ["password"]
/// [systems.rota]
/// kind = "application"
/// [applications.rota]
/// types.shift.rights = ["plan"]
/// objects."shift/early" = {}
/// grants = [{ allow = ["plan"], on = "shift/*", to = ["user:mate-1"], until = 2027-03-31 }]
/// "#).estate()?;
/// let engine = Engine::compile(estate)?;
/// let at = |text: &str| as_of(&engine, text.parse().expect("a moment"));
/// let (now, then) = (at("2026-11-28T12:00:00Z")?, at("2027-04-01T00:00:00Z")?);
/// assert_eq!(compare(&now, &then, "mate-1", &Session::default())[0].lost[0].right.lines, ["plan on shift/early"]);
/// # Ok::<(), zest_ledger::finding::Findings>(())
/// ```
pub fn as_of(engine: &Engine, at: Timestamp) -> Result<Engine, Findings> {
    type Bound = Option<At<Timestamp>>;
    let is_there = |from: &Bound, until: &Bound| {
        from.as_ref().is_none_or(|from| from.value <= at) && until.as_ref().is_none_or(|until| at < until.value)
    };
    // Whoever is over is over at every moment, and nobody else ever.
    let bound = |until: &mut Bound| {
        if is_there(&None, until) {
            *until = None;
        } else if let Some(until) = until {
            until.value = Timestamp::UNIX_EPOCH;
        }
    };
    let old: &Entries = engine.estate().entries();
    let mut entries = old.clone();
    entries.users = each(&old.users, |user| {
        if !is_there(&user.from, &user.until) {
            let bound = user.until.as_ref().filter(|until| until.value <= at).or(user.from.as_ref());
            user.disabled = Some(At::new(true, bound.map_or(user.id.place, |bound| bound.place)));
        }
        (user.from, user.until) = (None, None);
    });
    let there = old.assignments.iter().filter(|assignment| is_there(&assignment.from, &assignment.until));
    entries.assignments = each(&there.cloned().collect(), |assignment| (assignment.from, assignment.until) = (None, None));
    let grants = |grants: &mut Vec<Grant>| {
        grants.retain(|grant| is_there(&grant.from, &grant.until));
        grants.iter_mut().for_each(|grant| (grant.from, grant.until) = (None, None));
    };
    entries.roles = each(&old.roles, |role| grants(&mut role.grants));
    entries.services = each(&old.services, |service| grants(&mut service.grants));
    entries.databases = each(&old.databases, |database| {
        for list in [&mut database.grants, &mut database.default_grants] {
            list.retain(|grant| is_there(&None, &grant.until));
            list.iter_mut().for_each(|grant| grant.until = None);
        }
        database.accounts.iter_mut().chain(&mut database.roles).for_each(|role| bound(&mut role.until));
    });
    entries.hosts = each(&old.hosts, |host| host.accounts.iter_mut().for_each(|account| bound(&mut account.until)));
    engine.with_entries(entries)
}

/// Returns a table of which each row is changed.
fn each<T: Clone>(table: &Table<Arc<T>>, how: impl Fn(&mut T)) -> Table<Arc<T>> {
    let one = |row: &Arc<T>| {
        let mut row = (**row).clone();
        how(&mut row);
        Arc::new(row)
    };
    table.iter().map(one).collect()
}
