//! Who may use the accounts of a database server, with references followed.

use std::sync::Arc;

use rustc_hash::FxHashMap;

use crate::entry::{Database, System};
use crate::estate::resolve::Ground;
use crate::estate::{Party, Resolver, look_up};
use crate::finding::{Code, Finding};
use crate::ledger::Entries;
use crate::source::{Place, visible};

/// What the ledger says of a database server besides what the server itself keeps.
#[derive(Debug)]
pub(crate) struct DatabaseLinks {
    /// Who may use which account.
    pub(crate) used_by: FxHashMap<String, Vec<(Party, Place)>>,
}

/// Returns the entries of a server, which may be spread over documents.
pub(crate) fn parts(entries: &Entries, system: &System) -> Vec<Arc<Database>> {
    entries.databases.iter().filter(|d| d.system.value == system.id.value).map(Arc::clone).collect()
}

pub(crate) fn links(resolver: &mut Resolver<'_>, parts: &[Arc<Database>]) -> DatabaseLinks {
    let mut used_by = FxHashMap::default();
    for role in parts.iter().flat_map(|p| p.accounts.iter().chain(&p.roles)) {
        let parties = resolver.parties(&role.used_by);
        if !parties.is_empty() {
            used_by.insert(role.name.value.clone(), parties);
        }
    }
    DatabaseLinks { used_by }
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
