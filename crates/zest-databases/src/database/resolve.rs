//! Who may use the accounts of a database server, with references followed.

use std::sync::Arc;

use rustc_hash::FxHashMap;

use super::{Accounts, Rules};
use zest_engine::links::resolve::Ground;
use zest_engine::links::{Resolver, look_up};
use zest_model::ask::Change;
use zest_model::entries::Entries;
use zest_model::entry::{Database, System};
use zest_model::finding::{Code, Finding};
use zest_model::source::visible;

/// What the ledger says of a database server: what the server itself keeps, and who may use which account.
#[derive(Debug)]
pub(crate) struct DatabaseLinks<W> {
    pub(crate) accounts: Arc<Accounts>,
    pub(crate) written: Arc<W>,
}

/// Returns the entries of a server, which may be spread over documents.
pub(crate) fn parts(entries: &Entries, system: &System) -> Vec<Arc<Database>> {
    entries.databases.iter().filter(|d| d.system.value == system.id.value).map(Arc::clone).collect()
}

/// Returns the accounts of a server with who may use them; `login_of` gives what a person types of an account's name.
pub(crate) fn accounts(resolver: &mut Resolver<'_>, parts: &[Arc<Database>], login_of: impl Fn(&str) -> String) -> Accounts {
    let list = parts.iter().flat_map(|p| p.accounts.iter().map(|a| (a.name.value.clone(), a.name.place))).collect();
    let mut used_by = FxHashMap::default();
    for role in parts.iter().flat_map(|p| p.accounts.iter().chain(&p.roles)) {
        let parties = resolver.parties(&role.used_by);
        if !parties.is_empty() {
            used_by.insert(role.name.value.clone(), parties);
        }
    }
    Accounts::new(list, used_by, login_of)
}

/// Makes of the links of a server those with changes, where nothing but accounts is lent, memberships are added, and grants, which
/// the server carries out last. Nothing where more is changed.
pub(crate) fn amended<R: Rules>(
    resolver: &mut Resolver<'_>,
    parts: &[Arc<Database>],
    before: &DatabaseLinks<R::Written>,
    changes: &[Change],
) -> Option<DatabaseLinks<R::Written>> {
    let mut links = DatabaseLinks { accounts: Arc::clone(&before.accounts), written: Arc::clone(&before.written) };
    let added = changes.iter().filter(|change| matches!(change, Change::Grant { .. })).count();
    for change in changes {
        match change {
            Change::Grant { .. } => {}
            Change::UseAccount { account, .. } => {
                let entry = parts.iter().flat_map(|p| &p.accounts).find(|a| a.name.value == *account)?;
                let parties = resolver.parties(&entry.used_by);
                Arc::make_mut(&mut links.accounts).lend(account, parties);
            }
            Change::JoinRole { member, .. } => {
                let entry = parts.iter().flat_map(|p| p.accounts.iter().chain(&p.roles)).find(|r| r.name.value == *member)?;
                if !R::join(Arc::make_mut(&mut links.written), parts, entry, resolver.findings) {
                    return None;
                }
            }
            _ => return None,
        }
    }
    if added > 0 {
        let written = Arc::make_mut(&mut links.written);
        for entry in parts[parts.len().checked_sub(added)?..].iter().flat_map(|part| &part.grants) {
            R::one_more(written, entry, resolver.findings);
        }
    }
    Some(links)
}

/// Reports descriptions of database servers that are of no server.
pub(crate) fn have_servers(resolver: &mut Resolver<'_>, ground: Ground<'_>) {
    for database in &ground.entries.databases {
        let Some(id) = look_up(&resolver.names.systems, "system", &database.system.value, database.system.place, resolver.findings) else {
            continue;
        };
        let system = &ground.entries.systems[id.index()];
        if !system.kind().is_database() {
            resolver.findings.push(
                Finding::new(Code::DatabaseWithoutServer, format!("`{}` is no database server", visible(&system.id.value)))
                    .at(database.system.place, "described here as one")
                    .also(system.id.place, "declared here")
                    .help("give the system the kind \"postgresql\" or \"mariadb\", or write the id of one that has it"),
            );
        }
    }
}
