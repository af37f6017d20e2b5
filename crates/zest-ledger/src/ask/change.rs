//! Changes of a session or of a ledger, small enough to be tried.

use std::net::IpAddr;
use std::sync::Arc;

use jiff::Timestamp;
use rustc_hash::FxHashSet;

use super::{Act, Central, Fact, Proven, Question};
use crate::engine::Engine;
use crate::entry::{
    ActAs, Assignment, Band, Channel, Credential, Database, DatabaseGrant, Grant, Group, Kind, ObjectType, On, Proof, Rule, RuleVerb, When,
};
use crate::estate::{Party, RoleId, SetId, SystemId, UserId};
use crate::finding::Findings;
use crate::ledger::{Entries, Ledger};
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
    fn to_entries(&self, entries: &mut Entries, user: &str, system: &str) {
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

/// The part of a ledger that one question can depend on, so that trying a change costs no more than that part.
#[derive(Debug)]
pub(crate) struct Narrowed<'e> {
    engine: &'e Engine,
    sources: crate::source::SourceMap,
    entries: Entries,
    user: String,
    system: String,
}

impl<'e> Narrowed<'e> {
    /// Takes the users who play a part, the system, and everything that these refer to.
    pub(crate) fn of(engine: &'e Engine, question: &Question) -> Option<Self> {
        let estate = &engine.estate;
        let system = *estate.system_ids.get(question.system.as_str())?;
        match estate.system(system).kind() {
            Kind::NetworkDevice => {}
            Kind::Postgresql | Kind::Mariadb => return Some(Self::of_database(engine, question, system)),
            Kind::Cloud | Kind::Application | Kind::Host => return Some(Self::of_service(engine, question)),
        }
        let ignores_case = engine.devices[system.index()].ignores_case;
        let user = engine.find_user(&question.user, ignores_case)?;
        let seconds = estate.sets.iter().flat_map(|s| &s.rules).filter_map(|r| r.after.as_ref()).flat_map(|d| &d.second_person);
        let mut users: FxHashSet<UserId> = seconds.filter_map(|&(p, _)| if let Party::User(id) = p { Some(id) } else { None }).collect();
        users.insert(user);
        users.extend(question.session.approved_by.as_deref().and_then(|name| engine.find_user(name, ignores_case)));
        let is_kept = |party: Party| !matches!(party, Party::User(id) if !users.contains(&id));
        let kept = |parties: &[(Party, Place)]| -> Vec<At<String>> {
            parties.iter().filter(|&&(p, _)| is_kept(p)).map(|&(p, place)| At::new(estate.party(p), place)).collect()
        };
        let mut roles: FxHashSet<RoleId> = FxHashSet::default();
        let mut entries = Entries::default();
        for links in estate.assignments.iter().filter(|a| a.systems.contains(system.index())) {
            let to = kept(&links.to);
            if !to.is_empty() {
                let mut assignment = Assignment::clone(&links.entry);
                assignment.to = to;
                assignment.on = On { systems: vec![At::new(estate.system(system).id.value.clone(), links.entry.place)], ..On::default() };
                entries.assignments.push(Arc::new(assignment));
                roles.extend(&links.roles);
            }
        }
        let mut sets: FxHashSet<SetId> = FxHashSet::default();
        let mut queue: Vec<RoleId> = roles.iter().copied().collect();
        while let Some(role) = queue.pop() {
            let links = &estate.roles[role.index()];
            sets.extend(links.sets.iter().flat_map(|&s| estate.sets[s.index()].rules.iter().map(|r| r.home).chain([s])));
            queue.extend(links.includes.iter().filter(|r| roles.insert(**r)));
        }
        let of_accounts = estate.systems[system.index()].accounts.iter().flat_map(|a| &a.sets);
        sets.extend(of_accounts.flat_map(|&s| estate.sets[s.index()].rules.iter().map(|r| r.home).chain([s])));
        // A set may include another that has no rule of its own.
        let mut more: Vec<SetId> = sets.iter().copied().collect();
        while let Some(set) = more.pop() {
            for rule in estate.set(set).rules.iter().filter(|r| r.verb == RuleVerb::Include) {
                let included = estate.command_sets().iter().position(|s| s.id.value == rule.text.value).map(SetId::new);
                more.extend(included.filter(|s| sets.insert(*s)));
            }
        }
        let mut device = estate.system(system).clone();
        for (account, links) in device.accounts.iter_mut().zip(&estate.systems[system.index()].accounts) {
            account.used_by = kept(&links.used_by);
        }
        entries.users = users.iter().map(|u| Arc::clone(&estate.entries.users[u.index()])).collect();
        entries.groups = estate
            .groups
            .iter()
            .zip(&estate.entries.groups)
            .map(|(links, entry)| Arc::new(Group { members: kept(&links.members), ..Group::at(entry.id.clone()) }))
            .collect();
        entries.origins.clone_from(&estate.entries.origins);
        entries.vocabularies = vec![Arc::clone(&estate.entries.vocabularies[estate.systems[system.index()].vocabulary.index()])];
        entries.systems = vec![Arc::new(device)];
        entries.roles =
            (0..estate.roles.len()).filter(|&i| roles.contains(&RoleId::new(i))).map(|i| Arc::clone(&estate.entries.roles[i])).collect();
        entries.command_sets = (0..estate.sets.len())
            .filter(|&i| sets.contains(&SetId::new(i)))
            .map(|i| Arc::clone(&estate.entries.command_sets[i]))
            .collect();
        Some(Self {
            engine,
            sources: (*estate.sources).clone(),
            entries,
            user: estate.user(user).id.value.clone(),
            system: question.system.clone(),
        })
    }

    /// Takes everybody, since accounts may be used by groups, and of systems the one database server.
    fn of_database(engine: &'e Engine, question: &Question, system: SystemId) -> Self {
        let estate = &engine.estate;
        let id = &estate.system(system).id.value;
        let entries = Entries {
            users: estate.entries.users.clone(),
            groups: estate.entries.groups.clone(),
            origins: estate.entries.origins.clone(),
            systems: vec![Arc::clone(&estate.entries.systems[system.index()])],
            databases: estate.entries.databases.iter().filter(|d| d.system.value == *id).map(Arc::clone).collect(),
            ..Entries::default()
        };
        Self { engine, sources: (*estate.sources).clone(), entries, user: question.user.clone(), system: question.system.clone() }
    }

    /// Takes what is neither a device nor a database, and of people those who are named in the question.
    fn of_service(engine: &'e Engine, question: &Question) -> Self {
        let is_here = |kind: Kind| kind.is_service() || kind == Kind::Host;
        let all = &engine.estate.entries;
        let session = &question.session;
        let targets = session.acting.iter().filter_map(|act| match act {
            Act::User(name) | Act::Account { login: name, .. } => Some(name),
            Act::Role { .. } => None,
        });
        let mut named: FxHashSet<&str> =
            targets.chain([&question.user]).chain(&session.approved_by).chain(&session.account).map(String::as_str).collect();
        // Whoever may be a second person stays, or the obligation would go with the last of them.
        let of_types = |t: &'e ObjectType| [&t.after].into_iter().chain(t.rights_after.iter().map(|(_, after)| after));
        let of_services = all.services.iter().flat_map(|s| {
            let grants = s.grants.iter().map(|g| &g.after);
            grants.chain(s.resources.iter().map(|r| &r.after)).chain(s.types.iter().flat_map(of_types))
        });
        let obligations = of_services.chain(all.roles.iter().flat_map(|r| r.grants.iter().map(|g| &g.after)));
        named.extend(obligations.flat_map(|o| &o.second_person).filter_map(|p| p.value.strip_prefix("user:")));
        let is_kept = |party: &At<String>| party.value.strip_prefix("user:").is_none_or(|id| named.contains(id));
        let keep = |list: &mut Vec<At<String>>| list.retain(is_kept);
        let mut entries = Entries {
            users: all.users.iter().filter(|u| named.contains(u.id.value.as_str())).cloned().collect(),
            groups: all.groups.clone(),
            origins: all.origins.clone(),
            systems: all.systems.iter().filter(|s| is_here(s.kind())).cloned().collect(),
            command_sets: if all.hosts.is_empty() { Vec::new() } else { all.command_sets.clone() },
            hosts: all.hosts.clone(),
            services: all.services.clone(),
            interfaces: all.interfaces.clone(),
            roles: all.roles.clone(),
            separations: all.separations.clone(),
            ..Entries::default()
        };
        for group in entries.groups.iter_mut().map(Arc::make_mut) {
            keep(&mut group.members);
            keep(&mut group.owners);
        }
        for role in entries.roles.iter_mut().map(Arc::make_mut) {
            role.commands.clear();
            if let Some(assumable) = &mut role.assumable {
                keep(&mut assumable.by);
            }
        }
        for host in entries.hosts.iter_mut().map(Arc::make_mut) {
            for account in &mut host.accounts {
                keep(&mut account.used_by);
                account.commands_of.retain(|(who, _)| is_kept(who));
            }
            host.run_as.iter_mut().for_each(|rule| keep(&mut rule.by));
            host.jobs.iter_mut().for_each(|job| keep(&mut job.edited_by));
        }
        for service in entries.services.iter_mut().map(Arc::make_mut) {
            service.grants.iter_mut().for_each(|g| keep(&mut g.to));
            service.grants.retain(|g| !g.to.is_empty());
            service.acting.retain(|rule| is_kept(&rule.target));
            service.acting.iter_mut().for_each(|rule| keep(&mut rule.by));
            // A ceiling of people who are left out goes as a whole: without `of` it would limit everybody.
            service.ceilings.retain(|c| c.of.is_empty() || c.of.iter().any(is_kept));
            service.ceilings.iter_mut().for_each(|c| keep(&mut c.of));
        }
        let kept: Vec<SystemId> = (0..all.systems.len()).map(SystemId::new).filter(|s| is_here(engine.estate.system(*s).kind())).collect();
        for links in &engine.estate.assignments {
            let systems = kept.iter().filter(|s| links.systems.contains(s.index())).map(|s| engine.estate.system(*s).id.value.clone());
            let systems: Vec<At<String>> = systems.map(|id| At::new(id, links.entry.place)).collect();
            let mut assignment = Assignment::clone(&links.entry);
            keep(&mut assignment.to);
            if !assignment.to.is_empty() {
                // One elsewhere still says which roles are held, for the separation of duties.
                let nowhere = systems.is_empty().then(|| At::new("elsewhere".to_owned(), links.entry.place));
                assignment.on = On { systems, within: nowhere, at: assignment.on.at.take(), ..On::default() };
                entries.assignments.push(Arc::new(assignment));
            }
        }
        let sources = (*engine.estate.sources).clone();
        Self { engine, sources, entries, user: question.user.clone(), system: question.system.clone() }
    }

    /// Compiles the narrowed ledger with changes applied.
    pub(crate) fn with<'c>(&self, changes: impl IntoIterator<Item = &'c Change>) -> Result<Engine, Findings> {
        let mut entries = self.entries.clone();
        for change in changes {
            change.to_entries(&mut entries, &self.user, &self.system);
        }
        Engine::compile_like(Ledger::of(self.sources.clone(), entries).estate()?, Some(self.engine))
    }
}
