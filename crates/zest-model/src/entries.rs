//! The entries of a ledger, table by table.

use std::sync::Arc;

use crate::entry::Interface;
use crate::entry::{
    Assignment, CommandSet, CredentialRule, Database, Expectation, Group, Host, MeantWay, NamedSession, OriginNetworks, Promise, Role,
    Separation, Service, System, User, Vocabulary,
};
use crate::source::At;
use crate::table::{Kept, Table};

/// The entries of a ledger, as written.
#[derive(Clone, Debug, Default)]
pub struct Entries {
    /// Users.
    pub users: Table<Arc<User>>,
    /// Groups.
    pub groups: Table<Arc<Group>>,
    /// Named origins.
    pub origins: Table<Arc<OriginNetworks>>,
    /// Systems.
    pub systems: Table<Arc<System>>,
    /// Vocabularies.
    pub vocabularies: Table<Arc<Vocabulary>>,
    /// Command sets.
    pub command_sets: Table<Arc<CommandSet>>,
    /// Roles.
    pub roles: Table<Arc<Role>>,
    /// Assignments.
    pub assignments: Table<Arc<Assignment>>,
    /// What database servers hold.
    pub databases: Table<Arc<Database>>,
    /// What clouds and applications hold.
    pub services: Table<Arc<Service>>,
    /// What hosts hold.
    pub hosts: Table<Arc<Host>>,
    /// Separations of duties.
    pub separations: Table<Arc<Separation>>,
    /// Rules for credentials.
    pub credential_rules: Table<Arc<CredentialRule>>,
    /// Sessions by name.
    pub sessions: Table<Arc<NamedSession>>,
    /// Questions with the answer they must have.
    pub expectations: Table<Arc<Expectation>>,
    /// Statements over everybody.
    pub promises: Table<Arc<Promise>>,
    /// Ways to the top that are meant.
    pub meant_ways: Table<Arc<MeantWay>>,
    /// OpenAPI documents.
    pub interfaces: Table<Arc<Interface>>,
    /// Of kinds from outside.
    pub outside: Table<Arc<OutsideEntry>>,
}

impl Entries {
    /// Puts the entries of documents that were read apart behind those that are here.
    #[doc(hidden)]
    pub fn append(&mut self, later: Self) {
        let Self {
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
        } = self;
        users.append(later.users);
        groups.append(later.groups);
        origins.append(later.origins);
        systems.append(later.systems);
        vocabularies.append(later.vocabularies);
        command_sets.append(later.command_sets);
        roles.append(later.roles);
        assignments.append(later.assignments);
        databases.append(later.databases);
        services.append(later.services);
        hosts.append(later.hosts);
        separations.append(later.separations);
        credential_rules.append(later.credential_rules);
        sessions.append(later.sessions);
        expectations.append(later.expectations);
        promises.append(later.promises);
        meant_ways.append(later.meant_ways);
        interfaces.append(later.interfaces);
        outside.append(later.outside);
    }
}

/// What is written of a system of a kind from outside.
#[derive(Debug)]
pub struct OutsideEntry {
    /// The table.
    pub table: &'static str,
    /// The id of the system.
    pub id: At<String>,
    /// What its kind read of it.
    pub kept: Kept,
}
