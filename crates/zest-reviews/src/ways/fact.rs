//! What somebody has come to on the way, and the ledger in which that is so.

use std::sync::Arc;

use zest_engine::Engine;
use zest_model::entries::Entries;
use zest_model::entry::{Assumable, Band, CommandSet, Grant, Host, Proof, Role, Rule, RuleVerb, RunAs, When};
use zest_model::source::{At, Place, visible};

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
        }
    }
}

/// Returns the ledger in which some facts are so, or nothing where that is no ledger.
pub(super) fn with(engine: &Engine, facts: &[Fact]) -> Option<Engine> {
    if facts.iter().all(|fact| matches!(fact, Fact::Becomes(_) | Fact::Knows(_))) {
        return Some(engine.clone());
    }
    let mut entries = engine.estate().entries().clone();
    facts.iter().try_for_each(|fact| apply(&mut entries, fact))?;
    engine.with_entries(entries).ok()
}

fn apply(entries: &mut Entries, fact: &Fact) -> Option<()> {
    match fact {
        Fact::Becomes(_) | Fact::Knows(_) => {}
        Fact::Joins { user, group } => {
            let (row, entry) = entries.groups.iter().enumerate().find(|(_, entry)| entry.id.value == *group)?;
            let mut entry = (**entry).clone();
            entry.members.push(At::new(format!("user:{user}"), entry.id.place));
            entries.groups.set(row, Arc::new(entry));
        }
        Fact::Runs { user, system, account } => {
            let (row, entry) = entries.hosts.iter().enumerate().find(|(_, entry)| entry.system.value == *system)?;
            let mut host: Host = (**entry).clone();
            let job = host.jobs.iter().find(|job| job.runs_as.as_ref().is_some_and(|of| of.value == *account));
            let place = job.map_or(host.system.place, |job| job.name.place);
            let named = |text: String| vec![At::new(text, place)];
            // Whoever runs anything as an account may what the account may.
            for rule in &mut host.run_as {
                if rule.by.iter().any(|by| by.value == format!("account:{account}")) {
                    rule.by.push(At::new(format!("user:{user}"), place));
                }
            }
            let set = anything(entries, place);
            let proof = Some(At::new(false, place));
            let rule = RunAs {
                by: named(format!("user:{user}")),
                target: named(account.clone()),
                commands: named(set),
                proof,
                ..RunAs::at(place)
            };
            host.run_as.insert(0, rule);
            entries.hosts.set(row, Arc::new(host));
        }
        Fact::Shapes { user, role } => {
            let (row, entry) = entries.roles.iter().enumerate().find(|(_, entry)| entry.id.value == *role)?;
            let place = entry.id.place;
            let set = anything(entries, place);
            let entry = (*entries.roles[row]).clone();
            // Whom it admits is part of it.
            let assumable = entry.assumable.map(|assumable| {
                let by = assumable.by.into_iter().chain([At::new(format!("user:{user}"), place)]).collect();
                Assumable { by, when: When::default(), ..assumable }
            });
            let top = || At::new(MAX_LEVEL, place);
            let band = entry.band.as_ref().map(|_| Band { start: top(), ceiling: top() });
            let grants = vec![everything("**", place)];
            // What it includes could deny something.
            let role = Role { grants, assumable, band, commands: vec![At::new(set, place)], includes: Vec::new(), ..entry };
            entries.roles.set(row, Arc::new(role));
        }
        Fact::Fills { set } => {
            let (row, entry) = entries.command_sets.iter().enumerate().find(|(_, entry)| entry.id.value == *set)?;
            let place = entry.id.place;
            let rule = Rule { verb: RuleVerb::Allow, text: At::new("...".to_owned(), place), after: None, because: None };
            let set = CommandSet { rules: vec![rule], ..(**entry).clone() };
            entries.command_sets.set(row, Arc::new(set));
        }
        Fact::Grants { user, system, path } => {
            let (row, entry) = entries.services.iter().enumerate().find(|(_, entry)| entry.system.value == *system)?;
            let mut service = (**entry).clone();
            let place = service.system.place;
            for on in [path.clone(), format!("{path}/**")] {
                let to = vec![At::new(format!("user:{user}"), place)];
                service.grants.push(Grant { to, ..everything(&on, place) });
            }
            entries.services.set(row, Arc::new(service));
        }
        Fact::Uses { user, system, account } => {
            let new = |place: Place| At::new(format!("user:{user}"), place);
            if let Some((row, entry)) = entries.hosts.iter().enumerate().find(|(_, entry)| entry.system.value == *system) {
                let mut host = (**entry).clone();
                let of = host.accounts.iter_mut().find(|known| known.login.value == *account)?;
                of.used_by.push(new(of.login.place));
                entries.hosts.set(row, Arc::new(host));
            } else if let Some((row, entry)) = entries.databases.iter().enumerate().find(|(_, entry)| entry.system.value == *system) {
                let mut database = (**entry).clone();
                let of = database.accounts.iter_mut().find(|known| known.name.value == *account)?;
                of.used_by.push(new(of.name.place));
                entries.databases.set(row, Arc::new(database));
            } else {
                let (row, entry) = entries.systems.iter().enumerate().find(|(_, entry)| entry.id.value == *system)?;
                let mut device = (**entry).clone();
                let of = device.accounts.iter_mut().find(|known| known.login.value == *account)?;
                of.used_by.push(new(of.login.place));
                entries.systems.set(row, Arc::new(device));
            }
        }
        Fact::Holds { system, account, role } => {
            let (row, entry) = entries.databases.iter().enumerate().find(|(_, entry)| entry.system.value == *system)?;
            let mut database = (**entry).clone();
            let of = database.accounts.iter_mut().find(|known| known.name.value == *account)?;
            of.member_of.push(At::new(role.clone(), of.name.place));
            entries.databases.set(row, Arc::new(database));
        }
    }
    Some(())
}

/// The highest privilege level of a device.
const MAX_LEVEL: u8 = 15;

/// Makes a grant of all that can be done somewhere.
fn everything(on: &str, place: Place) -> Grant {
    Grant { on: vec![At::new(on.to_owned(), place)], allow: vec![At::new("all".to_owned(), place)], ..Grant::at(place) }
}

/// Returns the name of a command set with every line, which is made if there is none.
fn anything(entries: &mut Entries, place: Place) -> String {
    const NAME: &str = "whatever a job may be made to run";
    if !entries.command_sets.iter().any(|set| set.id.value == NAME) {
        let rule = Rule { verb: RuleVerb::Allow, text: At::new("...".to_owned(), place), after: None, because: None };
        let set = CommandSet { rules: vec![rule], ..CommandSet::at(At::new(NAME.to_owned(), place)) };
        entries.command_sets.push(Arc::new(set));
    }
    NAME.to_owned()
}

/// Returns whether somebody whose password was set anew can sign in with it.
pub(super) fn has_password(engine: &Engine, user: &str) -> bool {
    let entries = engine.estate().entries();
    let entry = entries.users.iter().find(|entry| entry.id.value == user);
    entry.is_some_and(|entry| entry.proofs.iter().any(|proof| proof.value == Proof::Password))
}
