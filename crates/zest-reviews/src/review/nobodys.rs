//! Accounts of database servers that no user of the ledger stands behind: listings of people do not have them.

use zest_engine::Engine;
use zest_model::source::visible;

/// Returns accounts of database servers that are neither named like a user nor lent to anybody, as `ACCOUNT on SYSTEM`; those of some
/// systems alone.
#[must_use]
pub fn nobodys(engine: &Engine, is_meant: impl Fn(&str) -> bool) -> Vec<String> {
    let estate = engine.estate();
    let mut list = Vec::new();
    for database in estate.entries().databases.iter().filter(|database| is_meant(&database.system.value)) {
        let Some(site) = engine.site(&database.system.value) else { continue };
        for account in &database.accounts {
            let login = site.kind().login_of(&account.name.value);
            if account.used_by.is_empty() && engine.find_user(&login, false).is_none() {
                list.push(format!("{} on {}", visible(&account.name.value), visible(&database.system.value)));
            }
        }
    }
    list
}
