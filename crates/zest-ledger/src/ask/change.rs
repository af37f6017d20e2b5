//! Changes of a session or of a ledger, small enough to be tried.

use std::net::IpAddr;
use std::sync::Arc;

use jiff::Timestamp;

use super::{Act, Central, Fact, Proven, Question};
use crate::entry::{ActAs, Band, Channel, Credential, Database, DatabaseGrant, Grant, Proof, Rule, RuleVerb, When};
use crate::ledger::Entries;
use crate::source::{At, Place};

/// One change.
#[derive(Clone, Debug, PartialEq)]
#[non_exhaustive]
pub enum Change {
    /// Ask as another user.
    User(String),
    /// Ask about another system.
    System(String),
    /// Type another line.
    Line(String),
    /// Be at a level.
    Level(u8),
    /// Be in a mode; in the start mode if none.
    Mode(Option<String>),
    /// Come from an address.
    Origin(IpAddr),
    /// Come through a channel.
    Channel(Channel),
    /// Do it at a moment.
    Moment(Timestamp),
    /// Give a proof of identity just before.
    Proof(Proof),
    /// Give only this proof of identity.
    OnlyProof(Proof),
    /// Wait until the central source is back.
    CentralUp,
    /// Use no local account.
    NoAccount,
    /// Use an account of a database server.
    Account(String),
    /// Have a role active; `none` for none.
    ActiveRole(String),
    /// Have another second person.
    SecondPerson(String),
    /// State an attribute of the session.
    Attribute {
        /// Its name.
        name: String,
        /// Its value.
        value: String,
    },
    /// Act as somebody else in one link fewer, or more, or another.
    Acting(Vec<Act>),
    /// Have only these roles active.
    ActiveRoles(Vec<String>),
    /// On a host: sign in with their own account, and go on from there.
    FromOwn {
        /// The own account.
        account: String,
        /// The links.
        acting: Vec<Act>,
    },
    /// Leave an attribute of the session out.
    NoAttribute(String),
    /// Leave facts of the session out.
    Unstated(Vec<Fact>),
    /// Sign in anew.
    NewSession,

    /// Put a rule at the top of a command set.
    AllowFirst {
        /// The set.
        set: String,
        /// The pattern to permit.
        pattern: String,
    },
    /// Give a role a band with this ceiling, or raise its ceiling.
    Ceiling {
        /// The role.
        role: String,
        /// The ceiling.
        to: u8,
    },
    /// Raise the ceiling of a local account.
    AccountCeiling {
        /// The login.
        login: String,
        /// The ceiling.
        to: u8,
    },
    /// Lower the device's own level for a command.
    OwnLevel {
        /// The command's line as the vocabulary writes it.
        command: String,
        /// The level.
        to: u8,
    },
    /// Attach a command set to a role.
    Attach {
        /// The role.
        role: String,
        /// The set.
        set: String,
    },
    /// Make an account or role of a database server a member of a role.
    JoinRole {
        /// The member.
        member: String,
        /// The role.
        role: String,
    },
    /// Grant something on a database server.
    Grant {
        /// The privileges.
        privileges: Vec<String>,
        /// The columns; the whole object if none.
        columns: Vec<String>,
        /// The object.
        on: String,
        /// The role that gets it.
        to: String,
        /// With the right to pass it on.
        regrant: bool,
    },
    /// Grant an operation on a cloud or in an application.
    Allow {
        /// The operation.
        operation: String,
        /// The resource.
        on: String,
        /// Who gets it: `user:ID` or `role:ID`.
        to: String,
    },
    /// Leave an operation out of the deny that is written at this place.
    LeaveOut {
        /// Where the deny is written.
        place: Place,
        /// The operation.
        operation: String,
    },
    /// Have the ceiling that is written at this place let an operation through.
    LetThrough {
        /// Where the ceiling is written.
        place: Place,
        /// The operation.
        operation: String,
    },
    /// Let the user act as another.
    LetActAs(String),
    /// Have a role admit the user.
    Admit(String),
    /// Make the user a member of a group.
    JoinGroup(String),
    /// Let the user use a local account.
    UseAccount(String),
    /// Unlock a local account.
    UnlockAccount(String),
    /// Set the credential of a local account.
    SetCredential(String),
    /// Switch the user on.
    Enable,
    /// Take the user's validity bounds away.
    Unbind,
    /// Take the validity bounds of the assignment or grant away that is written, or of which one is written, at this place.
    Prolong(Place),
    /// Give the user a way to prove identity.
    GiveProof(Proof),
    /// Record that the user has changed the credential.
    CredentialChanged,
}

impl Change {
    /// Returns whether the ledger need not change for it.
    #[must_use]
    pub const fn is_of_session(&self) -> bool {
        matches!(
            self,
            Self::User(_)
                | Self::System(_)
                | Self::Line(_)
                | Self::Level(_)
                | Self::Mode(_)
                | Self::Origin(_)
                | Self::Channel(_)
                | Self::Moment(_)
                | Self::Proof(_)
                | Self::OnlyProof(_)
                | Self::CentralUp
                | Self::NoAccount
                | Self::Account(_)
                | Self::ActiveRole(_)
                | Self::SecondPerson(_)
                | Self::Attribute { .. }
                | Self::NoAttribute(_)
                | Self::Unstated(_)
                | Self::Acting(_)
                | Self::ActiveRoles(_)
                | Self::NewSession
                | Self::FromOwn { .. }
        )
    }

    /// Applies a change of the session to a question; changes of the ledger leave it as it is.
    pub fn apply(&self, question: &mut Question) {
        let just_now = |proof| Proven::new(proof, jiff::SignedDuration::ZERO);
        match self {
            Self::User(name) => question.user.clone_from(name),
            Self::System(id) => question.system.clone_from(id),
            Self::Line(line) => question.line.clone_from(line),
            Self::Level(level) => question.session.level = Some(*level),
            Self::Mode(mode) => question.session.mode.clone_from(mode),
            Self::Origin(address) => question.session.origin = Some(*address),
            Self::Channel(channel) => question.session.channel = Some(*channel),
            Self::Moment(at) => question.session.at = Some(*at),
            Self::Proof(proof) => question.session.proofs.get_or_insert_default().push(just_now(*proof)),
            Self::OnlyProof(proof) => question.session.proofs = Some(vec![just_now(*proof)]),
            Self::CentralUp => {
                question.session.central = Central::Up;
                question.session.account = None;
            }
            Self::NoAccount => question.session.account = None,
            Self::Account(name) => question.session.account = Some(name.clone()),
            Self::ActiveRole(name) => question.session.active_roles = Some(if name == "none" { Vec::new() } else { vec![name.clone()] }),
            Self::SecondPerson(name) => question.session.approved_by = Some(name.clone()),
            Self::Attribute { name, value } => {
                question.session.attributes.retain(|(k, _)| k != name);
                question.session.attributes.push((name.clone(), value.clone()));
            }
            Self::NoAttribute(name) => question.session.attributes.retain(|(k, _)| k != name),
            Self::Unstated(facts) => facts.iter().for_each(|fact| question.session.take(*fact, &super::Session::default())),
            Self::Acting(chain) => question.session.acting.clone_from(chain),
            Self::ActiveRoles(roles) => question.session.active_roles = Some(roles.clone()),
            Self::FromOwn { account, acting } => {
                question.session.account = Some(account.clone());
                question.session.acting.clone_from(acting);
            }
            Self::NewSession => {
                question.session.expires = None;
                for act in &mut question.session.acting {
                    if let Act::Role { since, .. } = act {
                        *since = None;
                    }
                }
            }
            _ => {}
        }
    }

    /// Applies a change of the ledger to a narrowed ledger; `user` is the one who asks.
    pub(crate) fn to_entries(&self, entries: &mut Entries, user: &str, system: &str) {
        let place = Place::here();
        let at = |text: &str| At::new(text.to_owned(), place);
        let reference = format!("user:{user}");
        match self {
            Self::AllowFirst { set, pattern } => {
                for set in entries.command_sets.iter_mut().filter(|s| s.id.value == *set).map(Arc::make_mut) {
                    set.rules.insert(0, Rule { verb: RuleVerb::Allow, text: at(pattern), after: None, because: None });
                }
            }
            Self::Ceiling { role, to } => {
                for role in entries.roles.iter_mut().filter(|r| r.id.value == *role).map(Arc::make_mut) {
                    let start = role.band.as_ref().map_or(1.min(*to), |b| b.start.value);
                    role.band = Some(Band { start: At::new(start, place), ceiling: At::new(*to, place) });
                }
            }
            Self::OwnLevel { command, to } => {
                for system in entries.systems.iter_mut().map(Arc::make_mut) {
                    system.own_levels.retain(|o| o.command.value.trim() != command);
                    system.own_levels.push(crate::entry::OwnLevel { command: at(command), level: At::new(*to, place) });
                }
            }
            Self::Attach { role, set } => {
                for role in entries.roles.iter_mut().filter(|r| r.id.value == *role).map(Arc::make_mut) {
                    role.commands.push(at(set));
                }
            }
            Self::Prolong(place) => {
                let is_it = |whole: Place, bounds: [&Option<At<Timestamp>>; 2]| {
                    whole == *place || bounds.into_iter().flatten().any(|b| b.place == *place)
                };
                for assignment in entries.assignments.iter_mut().filter(|a| is_it(a.place, [&a.from, &a.until])).map(Arc::make_mut) {
                    (assignment.from, assignment.until) = (None, None);
                }
                let of_services = entries.services.iter_mut().flat_map(|s| &mut Arc::make_mut(s).grants);
                let of_roles = entries.roles.iter_mut().flat_map(|r| &mut Arc::make_mut(r).grants);
                for account in entries.hosts.iter_mut().flat_map(|h| &mut Arc::make_mut(h).accounts) {
                    if account.until.as_ref().is_some_and(|u| u.place == *place) {
                        account.until = None;
                    }
                }
                for grant in of_services.chain(of_roles).filter(|g| is_it(g.place, [&g.from, &g.until])) {
                    (grant.from, grant.until) = (None, None);
                }
            }
            Self::Allow { operation, on, to } => {
                if let Some(service) = entries.services.iter_mut().find(|s| s.system.value == system).map(Arc::make_mut) {
                    let mut grant = Grant::at(place);
                    grant.allow.push(at(operation));
                    grant.on.push(at(on));
                    grant.to.push(at(to));
                    service.grants.push(grant);
                }
            }
            Self::LeaveOut { place: deny, operation } => {
                let of_services = entries.services.iter_mut().flat_map(|s| &mut Arc::make_mut(s).grants);
                let of_roles = entries.roles.iter_mut().flat_map(|r| &mut Arc::make_mut(r).grants);
                of_services.chain(of_roles).filter(|g| g.place == *deny).for_each(|g| g.except.push(at(operation)));
            }
            Self::LetThrough { place: ceiling, operation } => {
                let ceilings = entries.services.iter_mut().flat_map(|s| &mut Arc::make_mut(s).ceilings);
                for ceiling in ceilings.filter(|c| c.place == *ceiling) {
                    ceiling.except.retain(|e| e.value != *operation);
                    ceiling.allow.push(at(operation));
                }
            }
            Self::LetActAs(target) => {
                for service in entries.services.iter_mut().filter(|s| s.system.value == system).take(1).map(Arc::make_mut) {
                    let target = at(&format!("user:{target}"));
                    service.acting.push(ActAs { place, target, by: vec![at(&reference)], when: When::default() });
                }
            }
            Self::Admit(role) => {
                for role in entries.roles.iter_mut().filter(|r| r.id.value == *role).map(Arc::make_mut) {
                    role.assumable.get_or_insert_default().by.push(at(&reference));
                }
            }
            Self::JoinGroup(group) => {
                for group in entries.groups.iter_mut().filter(|g| g.id.value == *group).map(Arc::make_mut) {
                    group.members.push(at(&reference));
                }
            }
            Self::JoinRole { member, role } => {
                for database in entries.databases.iter_mut().map(Arc::make_mut) {
                    for entry in database.accounts.iter_mut().chain(&mut database.roles).filter(|r| r.name.value == *member) {
                        entry.member_of.push(at(role));
                    }
                }
            }
            Self::Grant { privileges, columns, on, to, regrant } => {
                let Some(system) = entries.systems.first().map(|s| s.id.value.clone()) else { return };
                let mut grant = DatabaseGrant::at(place);
                grant.allow = privileges.iter().map(|p| at(p)).collect();
                grant.columns = columns.iter().map(|c| at(c)).collect();
                grant.on.push(at(on));
                grant.to.push(at(to));
                grant.regrant = Some(At::new(*regrant, place));
                entries.databases.push(Arc::new(Database::at(at(&system)).grant(grant)));
            }
            Self::UseAccount(login) | Self::UnlockAccount(login) if !entries.hosts.is_empty() => {
                let hosts = entries.hosts.iter_mut().filter(|h| h.system.value == system).map(Arc::make_mut);
                for account in hosts.flat_map(|h| &mut h.accounts).filter(|a| a.login.value == *login) {
                    if matches!(self, Self::UseAccount(_)) { account.used_by.push(at(&reference)) } else { account.locked = None }
                }
            }
            Self::UseAccount(account) if !entries.databases.is_empty() => {
                for database in entries.databases.iter_mut().map(Arc::make_mut) {
                    for entry in database.accounts.iter_mut().filter(|r| r.name.value == *account) {
                        entry.used_by.push(at(&reference));
                    }
                }
            }
            Self::AccountCeiling { login, .. } | Self::UseAccount(login) | Self::UnlockAccount(login) | Self::SetCredential(login) => {
                for system in entries.systems.iter_mut().map(Arc::make_mut) {
                    for account in system.accounts.iter_mut().filter(|a| a.login.value == *login) {
                        match self {
                            Self::AccountCeiling { to, .. } => {
                                let start = account.band.as_ref().map_or(1.min(*to), |b| b.start.value);
                                account.band = Some(Band { start: At::new(start, place), ceiling: At::new(*to, place) });
                            }
                            Self::UseAccount(_) => account.used_by.push(at(&reference)),
                            Self::UnlockAccount(_) => account.locked = None,
                            _ => account.credential = Some(At::new(Credential::Set, place)),
                        }
                    }
                }
            }
            Self::Enable | Self::Unbind | Self::GiveProof(_) | Self::CredentialChanged => {
                for user in entries.users.iter_mut().filter(|u| u.id.value == user).map(Arc::make_mut) {
                    match self {
                        Self::Enable => user.disabled = None,
                        Self::Unbind => (user.from, user.until) = (None, None),
                        Self::GiveProof(proof) => user.proofs.push(At::new(*proof, place)),
                        _ => user.must_change_credential = None,
                    }
                }
            }
            _ => {}
        }
    }
}
