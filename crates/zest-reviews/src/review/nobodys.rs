//! Accounts of database servers that no user of the ledger stands behind: listings of people do not have them.

use zest_engine::Engine;
use zest_model::source::visible;

/// Returns accounts of database servers that are neither named like a user nor lent to anybody, as `ACCOUNT on SYSTEM`; those of some
/// systems alone.
///
/// # Example
/// ```
/// use zest_ledger::{Ledger, review::nobodys};
/// let text = "users.fares.proofs = ['password']\nsystems.tickets.kind = 'postgresql'\ndatabases.tickets.accounts = { fares = {}, robot = {} }\n";
/// let engine = Ledger::new().document("tickets.toml", text).engine(1)?;
/// assert_eq!(nobodys(&engine, |_| true), ["robot on tickets"]);
/// assert!(nobodys(&engine, |system| system == "rota").is_empty());
/// # Ok::<(), zest_ledger::finding::Findings>(())
/// ```
#[must_use]
pub fn nobodys(engine: &Engine, is_meant: impl Fn(&str) -> bool) -> Vec<String> {
    let one = |(account, system): (&str, &str)| format!("{} on {}", visible(account), visible(system));
    nobodys_accounts(engine, is_meant).into_iter().map(one).collect()
}

/// Returns the same, each account with its system.
pub(crate) fn nobodys_accounts(engine: &Engine, is_meant: impl Fn(&str) -> bool) -> Vec<(&str, &str)> {
    let estate = engine.estate();
    let mut list = Vec::new();
    for database in estate.entries().databases.iter().filter(|database| is_meant(&database.system.value)) {
        let Some(site) = engine.site(&database.system.value) else { continue };
        for account in &database.accounts {
            let login = site.kind().login_of(&account.name.value);
            if account.used_by.is_empty() && engine.find_user(&login, false).is_none() {
                list.push((account.name.value.as_str(), database.system.value.as_str()));
            }
        }
    }
    list
}
