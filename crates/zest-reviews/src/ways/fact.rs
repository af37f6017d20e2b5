//! What somebody has come to on the way, and the ledger in which that is so.

use std::sync::Arc;

use rustc_hash::FxHashSet;
use zest_engine::{Engine, Rows};
use zest_model::ask::Change;
use zest_model::entries::Entries;
use zest_model::entry::{
    Assumable, Band, CommandSet, Database, DatabaseGrant, DatabaseObject, DatabaseRole, Grant, Host, Role, Rule, RuleVerb, RunAs, When,
};
use zest_model::source::{At, Place, visible};
use zest_model::table::Table;

/// Something that an act gives: who has it, and what it is.
#[derive(Clone, Debug, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub(super) enum Fact {
    /// The credential of a user was reset: whoever did signs in as that user.
    Becomes(String),
    /// The credential of a user was read, whichever it is: whoever did signs in as that user.
    Knows(String),
    /// A user is a member of a group.
    Joins { user: String, group: String },
    /// What a job runs was edited: a user runs whatever it likes as the account of the job.
    Runs { user: String, system: String, account: String },
    /// A role is as a user likes it best, who may edit it.
    Shapes { user: String, role: String },
    /// A command set was edited: it lets every line through.
    Fills { set: String },
    /// A user was granted all that can be done on a resource and below it.
    Grants { user: String, system: String, path: String },
    /// The credential of an account is known to a user.
    Uses { user: String, system: String, account: String },
    /// An account of a database server is a member of a role.
    Holds { system: String, account: String, role: String },
    /// An account of a database server may do anything with an object, which its owner allowed.
    Owns { system: String, account: String, object: String },
    /// A table of a database server shows its rows to everybody who may read it.
    Shows { system: String, object: String },
    /// A user runs statements as an account of a database server, by routines of which it is the definer.
    Defines { user: String, system: String, account: String },
    /// An account of a database server may anything there.
    Rules { system: String, account: String },
}

impl Fact {
    /// Says it in words.
    pub(super) fn words(&self) -> String {
        match self {
            Self::Becomes(user) | Self::Knows(user) => format!("signs in as `{}`", visible(user)),
            Self::Joins { user, group } => format!("`{}` is in group `{}`", visible(user), visible(group)),
            Self::Runs { user, system, account } => {
                format!("`{}` runs anything as `{}` on {}", visible(user), visible(account), visible(system))
            }
            Self::Shapes { user, role } => format!("role `{}` holds whatever `{}` likes", visible(role), visible(user)),
            Self::Fills { set } => format!("command set `{}` lets every line through", visible(set)),
            Self::Grants { user, system, path } => {
                format!("`{}` may do anything on {} of {}, and below it", visible(user), visible(path), visible(system))
            }
            Self::Uses { user, system, account } => {
                format!("`{}` signs in as account `{}` on {}", visible(user), visible(account), visible(system))
            }
            Self::Holds { system, account, role } => {
                format!("account `{}` on {} is a member of `{}`", visible(account), visible(system), visible(role))
            }
            Self::Owns { system, account, object } => {
                format!("account `{}` on {} may do anything with {}", visible(account), visible(system), visible(object))
            }
            Self::Shows { system, object } => {
                format!("{} on {} shows all its rows", visible(object), visible(system))
            }
            Self::Defines { user, system, account } => {
                format!("`{}` runs statements as account `{}` on {}", visible(user), visible(account), visible(system))
            }
            Self::Rules { system, account } => {
                format!("account `{}` may anything on {}", visible(account), visible(system))
            }
        }
    }

    /// Returns as whom somebody signs in; nothing where the ledger is another one instead.
    pub(super) fn becomes(&self) -> Option<&str> {
        match self {
            Self::Becomes(user) | Self::Knows(user) => Some(user),
            Self::Joins { .. }
            | Self::Runs { .. }
            | Self::Shapes { .. }
            | Self::Fills { .. }
            | Self::Grants { .. }
            | Self::Uses { .. }
            | Self::Holds { .. }
            | Self::Owns { .. }
            | Self::Shows { .. }
            | Self::Defines { .. }
            | Self::Rules { .. } => None,
        }
    }

    /// Returns the database server on which something more can be done; nothing where it is about something else.
    pub(super) fn server(&self) -> Option<&str> {
        match self {
            Self::Uses { system, .. }
            | Self::Holds { system, .. }
            | Self::Owns { system, .. }
            | Self::Shows { system, .. }
            | Self::Defines { system, .. }
            | Self::Rules { system, .. } => Some(system),
            Self::Becomes(_)
            | Self::Knows(_)
            | Self::Joins { .. }
            | Self::Runs { .. }
            | Self::Shapes { .. }
            | Self::Fills { .. }
            | Self::Grants { .. } => None,
        }
    }

    /// Returns whether it is about who signs in as whom alone, and the ledger stays as it is.
    pub(super) fn is_of_people(&self) -> bool {
        self.becomes().is_some()
    }

    /// Returns whether something is run or shaped in whatever way somebody likes, for which a command set with every line must be there.
    pub(super) const fn wants_anything(&self) -> bool {
        matches!(self, Self::Runs { .. } | Self::Shapes { .. })
    }
}

/// Returns the ledger in which some facts are so, or nothing where that is no ledger.
pub(super) fn with(engine: &Engine, facts: &[Fact]) -> Option<Engine> {
    let mut entries = engine.estate().entries().clone();
    let mut rows = Rows::default();
    facts.iter().try_for_each(|fact| apply(&mut entries, &mut rows, fact))?;
    engine.with_rows(entries, rows).ok()
}

/// Returns a ledger without some accounts of database servers, or nothing where that is no ledger.
pub(super) fn without_accounts(engine: &Engine, servers: &[(&str, FxHashSet<&str>)]) -> Option<Engine> {
    let mut entries = engine.estate().entries().clone();
    let mut rows = Rows::default();
    for (system, accounts) in servers.iter().filter(|(_, accounts)| !accounts.is_empty()) {
        for row in parts(&entries.databases, |part| part.system.value == *system) {
            let left = without(&entries.databases[row], |account| accounts.contains(account.name.value.as_str()));
            entries.databases.set(row, Arc::new(left));
        }
        anew(&entries, &mut rows, system)?;
    }
    engine.with_rows(entries, rows).ok()
}

/// Returns what a database server holds without some of its accounts, which are not copied on the way: they are most of it.
fn without(database: &Database, goes: impl Fn(&DatabaseRole) -> bool) -> Database {
    let Database { system, owner, accounts, roles, objects, grants, default_grants, settings, not_modelled, more } = database;
    Database {
        system: system.clone(),
        owner: owner.clone(),
        accounts: accounts.iter().filter(|account| !goes(account)).cloned().collect(),
        roles: roles.clone(),
        objects: objects.clone(),
        grants: grants.clone(),
        default_grants: default_grants.clone(),
        settings: settings.clone(),
        not_modelled: not_modelled.clone(),
        more: *more,
    }
}

/// Returns a ledger with a command set in which every line is.
pub(super) fn with_anything(engine: &Engine) -> Option<Engine> {
    let mut entries = engine.estate().entries().clone();
    let place = entries.systems.iter().next()?.id.place;
    let rule = Rule { verb: RuleVerb::Allow, text: At::new("...".to_owned(), place), after: None, because: None };
    entries.command_sets.push(Arc::new(CommandSet { rules: vec![rule], ..CommandSet::at(At::new(ANYTHING.to_owned(), place)) }));
    engine.with_entries(entries).ok()
}

/// The name of a command set with every line, which is in no ledger.
pub(super) const ANYTHING: &str = "whatever somebody likes";

fn apply(entries: &mut Entries, rows: &mut Rows, fact: &Fact) -> Option<()> {
    let by_user = |user: &str, place: Place| At::new(format!("user:{user}"), place);
    match fact {
        Fact::Becomes(_) | Fact::Knows(_) => {}
        Fact::Joins { user, group } => {
            let row = entries.groups.iter().position(|entry| entry.id.value == *group)?;
            entries.groups.edit(row, |entry| entry.members.push(by_user(user, entry.id.place)));
            rows.groups.insert(row);
        }
        Fact::Runs { user, system, account } => {
            // Whoever runs anything as an account may what the account may; what is written of a host may be spread.
            let is_by = |rule: &RunAs| rule.by.iter().any(|by| by.value == format!("account:{account}"));
            for row in parts(&entries.hosts, |host| host.system.value == *system) {
                entries.hosts.edit(row, |host| {
                    for rule in host.run_as.iter_mut().filter(|rule| is_by(rule)) {
                        rule.by.push(by_user(user, rule.place));
                    }
                });
            }
            let row = parts(&entries.hosts, |host| host.system.value == *system).next()?;
            entries.hosts.edit(row, |host: &mut Host| {
                let job = host.jobs.iter().find(|job| job.runs_as.as_ref().is_some_and(|of| of.value == *account));
                let place = job.map_or(host.system.place, |job| job.name.place);
                let named = |text: String| vec![At::new(text, place)];
                let (by, target, commands) = (vec![by_user(user, place)], named(account.clone()), named(ANYTHING.to_owned()));
                let proof = Some(At::new(false, place));
                host.run_as.insert(0, RunAs { by, target, commands, proof, ..RunAs::at(place) });
            });
            anew(entries, rows, system)?;
        }
        Fact::Shapes { user, role } => {
            let row = entries.roles.iter().position(|entry| entry.id.value == *role)?;
            entries.roles.edit(row, |entry: &mut Role| {
                let place = entry.id.place;
                // Whom it admits is part of it.
                if let Some(Assumable { by, when, .. }) = &mut entry.assumable {
                    by.push(by_user(user, place));
                    *when = When::default();
                }
                let top = || At::new(MAX_LEVEL, place);
                entry.band = entry.band.as_ref().map(|_| Band { start: top(), ceiling: top() });
                entry.grants = vec![everything("**", place)];
                entry.commands = vec![At::new(ANYTHING.to_owned(), place)];
                // What it includes could deny something.
                entry.includes = Vec::new();
            });
            rows.roles.insert(row);
        }
        Fact::Fills { set } => {
            let row = entries.command_sets.iter().position(|entry| entry.id.value == *set)?;
            entries.command_sets.edit(row, |entry: &mut CommandSet| {
                let text = At::new("...".to_owned(), entry.id.place);
                entry.rules = vec![Rule { verb: RuleVerb::Allow, text, after: None, because: None }];
            });
            rows.sets.insert(row);
        }
        Fact::Grants { user, system, path } => {
            let row = parts(&entries.services, |service| service.system.value == *system).next()?;
            entries.services.edit(row, |service| {
                let place = service.system.place;
                for on in [path.clone(), format!("{path}/**")] {
                    service.grants.push(Grant { to: vec![by_user(user, place)], ..everything(&on, place) });
                }
            });
            anew(entries, rows, system)?;
        }
        Fact::Uses { user, system, account } | Fact::Defines { user, system, account } => {
            let mut is_there = false;
            for row in parts(&entries.hosts, |host| host.system.value == *system) {
                entries.hosts.edit(row, |host| {
                    let of = host.accounts.iter_mut().filter(|known| known.login.value == *account);
                    of.for_each(|of| {
                        of.used_by.push(by_user(user, of.login.place));
                        is_there = true;
                    });
                });
            }
            let lent = Change::UseAccount { system: system.clone(), account: account.clone(), user: user.clone() };
            if of_account(entries, system, account, |of| of.used_by.push(by_user(user, of.name.place))) {
                return amended(entries, rows, system, lent);
            }
            let row = entries.systems.iter().position(|entry| entry.id.value == *system)?;
            if entries.systems[row].accounts.iter().any(|known| known.login.value == *account) {
                entries.systems.edit(row, |device| {
                    let of = device.accounts.iter_mut().filter(|known| known.login.value == *account);
                    of.for_each(|of| of.used_by.push(by_user(user, of.login.place)));
                });
                is_there = true;
            }
            is_there.then_some(())?;
            anew(entries, rows, system)?;
        }
        Fact::Holds { system, account, role } => {
            let joined = Change::JoinRole { system: system.clone(), member: account.clone(), role: role.clone() };
            of_account(entries, system, account, |of| of.member_of.push(At::new(role.clone(), of.name.place))).then_some(())?;
            amended(entries, rows, system, joined)?;
        }
        Fact::Owns { system, account, object } => {
            let grant = |place: Place| DatabaseGrant {
                allow: vec![At::new("all".to_owned(), place)],
                on: vec![At::new(object.clone(), place)],
                to: vec![At::new(account.clone(), place)],
                ..DatabaseGrant::at(place)
            };
            granted(entries, system, grant)?;
            anew(entries, rows, system)?;
        }
        Fact::Shows { system, object } => {
            for row in parts(&entries.databases, |database| database.system.value == *system) {
                entries.databases.edit(row, |database| {
                    let of = database.objects.iter_mut().filter(|known| known.name.value == *object);
                    of.for_each(|of: &mut DatabaseObject| of.row_security = None);
                });
            }
            anew(entries, rows, system)?;
        }
        Fact::Rules { system, account } => {
            let system_row = entries.systems.iter().position(|entry| entry.id.value == *system)?;
            if entries.systems[system_row].kind() == zest_model::entry::Kind::POSTGRESQL {
                of_account(entries, system, account, |of| of.may.push(At::new("superuser".to_owned(), of.name.place))).then_some(())?;
            } else {
                let grant = |place: Place| DatabaseGrant {
                    allow: vec![At::new("all".to_owned(), place)],
                    on: vec![At::new("everything".to_owned(), place)],
                    to: vec![At::new(account.clone(), place)],
                    regrant: Some(At::new(true, place)),
                    ..DatabaseGrant::at(place)
                };
                granted(entries, system, grant)?;
            }
            anew(entries, rows, system)?;
        }
    }
    Some(())
}

/// Returns the rows in which something is written that may be spread over several.
fn parts<T>(table: &Table<Arc<T>>, is_of: impl Fn(&T) -> bool) -> std::vec::IntoIter<usize> {
    let rows: Vec<usize> = table.iter().enumerate().filter(|(_, entry)| is_of(entry)).map(|(row, _)| row).collect();
    rows.into_iter()
}

/// Changes an account of a database server, wherever it is written; says whether it is there.
fn of_account(entries: &mut Entries, system: &str, account: &str, how: impl Fn(&mut DatabaseRole)) -> bool {
    let is_it = |known: &DatabaseRole| known.name.value == account;
    let found = parts(&entries.databases, |part: &Database| part.system.value == system && part.accounts.iter().any(is_it)).next();
    found
        .into_iter()
        .for_each(|row| entries.databases.edit(row, |part| part.accounts.iter_mut().filter(|known| is_it(known)).for_each(&how)));
    found.is_some()
}

/// Writes a grant of a database server behind all others.
fn granted(entries: &mut Entries, system: &str, grant: impl FnOnce(Place) -> DatabaseGrant) -> Option<()> {
    let row = parts(&entries.databases, |part: &Database| part.system.value == system).last()?;
    entries.databases.edit(row, |part| part.grants.push(grant(part.system.place)));
    Some(())
}

/// Notes that a system is to be read anew.
fn anew(entries: &Entries, rows: &mut Rows, system: &str) -> Option<()> {
    let row = entries.systems.iter().position(|entry| entry.id.value == *system)?;
    // Changes that can be told apart no longer tell all.
    rows.systems.insert(row, Vec::new());
    Some(())
}

/// Notes a change of a system that can be carried out by itself, where nothing else was changed.
fn amended(entries: &Entries, rows: &mut Rows, system: &str, change: Change) -> Option<()> {
    let row = entries.systems.iter().position(|entry| entry.id.value == *system)?;
    match rows.systems.get_mut(&row) {
        None => drop(rows.systems.insert(row, vec![change])),
        Some(changes) if changes.is_empty() => {}
        Some(changes) => changes.push(change),
    }
    Some(())
}

/// The highest privilege level of a device.
const MAX_LEVEL: u8 = 15;

/// Makes a grant of all that can be done somewhere.
fn everything(on: &str, place: Place) -> Grant {
    // `all` holds nothing that is done with entries of the ledger, or with secrets.
    let allow = std::iter::once("all").chain(super::act::ACTS).map(|name| At::new(name.to_owned(), place)).collect();
    Grant { on: vec![At::new(on.to_owned(), place)], allow, ..Grant::at(place) }
}

/// Returns whether somebody whose password was set anew can sign in with it.
pub(super) fn has_password(engine: &Engine, user: &str) -> bool {
    let entry = engine.find_user(user, false).map(|id| engine.estate().user(id));
    entry.is_some_and(|entry| entry.proofs.iter().any(|proof| proof.value == zest_model::entry::Proof::Password))
}
