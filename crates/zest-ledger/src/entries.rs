//! The entries of a ledger, table by table.

use std::sync::Arc;

use crate::entry::Interface;
use crate::entry::{
    Assignment, CommandSet, CredentialRule, Database, Group, Host, OriginNetworks, Role, Separation, Service, System, User, Vocabulary,
};
use crate::source::At;
use crate::table::{Kept, Table};

/// The entries of a ledger, as written.
#[derive(Clone, Debug, Default)]
pub(crate) struct Entries {
    pub(crate) users: Table<Arc<User>>,
    pub(crate) groups: Table<Arc<Group>>,
    pub(crate) origins: Table<Arc<OriginNetworks>>,
    pub(crate) systems: Table<Arc<System>>,
    pub(crate) vocabularies: Table<Arc<Vocabulary>>,
    pub(crate) command_sets: Table<Arc<CommandSet>>,
    pub(crate) roles: Table<Arc<Role>>,
    pub(crate) assignments: Table<Arc<Assignment>>,
    pub(crate) databases: Table<Arc<Database>>,
    pub(crate) services: Table<Arc<Service>>,
    pub(crate) hosts: Table<Arc<Host>>,
    pub(crate) separations: Table<Arc<Separation>>,
    pub(crate) credential_rules: Table<Arc<CredentialRule>>,
    pub(crate) interfaces: Table<Arc<Interface>>,
    /// Of kinds from outside.
    pub(crate) outside: Table<Arc<OutsideEntry>>,
}

/// What is written of a system of a kind from outside.
#[derive(Debug)]
pub(crate) struct OutsideEntry {
    pub(crate) table: &'static str,
    /// The id of the system.
    pub(crate) id: At<String>,
    pub(crate) kept: Kept,
}
