//! What a user may do on each system, through what.

use zest_engine::Engine;
use zest_engine::rules::{Combining, Scratch, Site};
use zest_model::ask::Session;
use zest_model::listing::Effective;

/// Returns what a user may do on each system, or on one of them; nothing for an unknown user.
///
/// # Example
/// ```
/// use zest_ledger::{Engine, Ledger, ask::Session, review::effective};
/// let estate = Ledger::new().document("demo.toml", r#"
/// [users.watch-1]
/// proofs = ["password"]
/// [vocabularies.corvane-os]
/// commands = [{ line = "show release" }, { line = "show log", level = 7 }]
/// [systems.sw-1]
/// kind = "network-device"
/// vocabulary = "corvane-os"
/// no-command-set = "everything"
/// [roles.reader]
/// band = { start = 1, ceiling = 1 }
/// [[assignments]]
/// to = ["user:watch-1"]
/// roles = ["reader"]
/// on = { all = true }
/// "#).estate()?;
/// let rights = effective(&Engine::compile(estate)?, "watch-1", None, &Session::default()).expect("the user is known");
/// assert_eq!(rights[0].entitlements[0].commands.len(), 1);
/// # Ok::<(), zest_ledger::finding::Findings>(())
/// ```
#[must_use]
pub fn effective(engine: &Engine, user: &str, system: Option<&str>, session: &Session) -> Option<Vec<Effective>> {
    let id = engine.find_user(user, false)?;
    let wanted: Vec<Site<'_>> = match system {
        Some(name) => engine.site(name).into_iter().collect(),
        None => {
            // Where a database server has no account of somebody there is nothing to list; elsewhere that is worth saying.
            let concerns = |site: &Site<'_>| site.kind().combining() != Combining::NotLookedAt || site.kind().concerns(*site, id);
            engine.all_sites().filter(concerns).collect()
        }
    };
    let mut scratch = Scratch::default();
    Some(wanted.into_iter().map(|site| site.kind().effective(site, id, session, &mut scratch)).collect())
}
