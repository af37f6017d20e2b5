//! What somebody has come to on the way, and the ledger in which that is so.

use std::sync::Arc;

use zest_engine::Engine;
use zest_model::entries::Entries;
use zest_model::entry::{Host, Proof, RunAs};
use zest_model::source::{At, Place, visible};

/// Something that an act gives: who has it, and what it is.
#[derive(Clone, Debug, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub(super) enum Fact {
    /// The credential of a user was reset: whoever did signs in as that user.
    Becomes(String),
    /// A user is a member of a group.
    Joins { user: String, group: String },
    /// What a job runs was edited: a user runs whatever it likes as the account of the job.
    Runs { user: String, system: String, account: String },
    /// An account of a database server is a member of a role.
    Holds { system: String, account: String, role: String },
}

impl Fact {
    /// Says it in words.
    pub(super) fn words(&self) -> String {
        match self {
            Self::Becomes(user) => format!("signs in as `{}`", visible(user)),
            Self::Joins { user, group } => format!("`{}` is in group `{}`", visible(user), visible(group)),
            Self::Runs { user, system, account } => {
                format!("`{}` runs anything as `{}` on {}", visible(user), visible(account), visible(system))
            }
            Self::Holds { system, account, role } => {
                format!("account `{}` on {} is a member of `{}`", visible(account), visible(system), visible(role))
            }
        }
    }
}

/// Returns the ledger in which some facts are so, or nothing where that is no ledger.
pub(super) fn with(engine: &Engine, facts: &[Fact]) -> Option<Engine> {
    if facts.iter().all(|fact| matches!(fact, Fact::Becomes(_))) {
        return Some(engine.clone());
    }
    let mut entries = engine.estate().entries().clone();
    facts.iter().try_for_each(|fact| apply(&mut entries, fact))?;
    engine.with_entries(entries).ok()
}

fn apply(entries: &mut Entries, fact: &Fact) -> Option<()> {
    match fact {
        Fact::Becomes(_) => {}
        Fact::Joins { user, group } => {
            let (row, entry) = entries.groups.iter().enumerate().find(|(_, entry)| entry.id.value == *group)?;
            let mut entry = (**entry).clone();
            entry.members.push(At::new(format!("user:{user}"), entry.id.place));
            entries.groups.set(row, Arc::new(entry));
        }
        Fact::Runs { user, system, account } => {
            let (row, entry) = entries.hosts.iter().enumerate().find(|(_, entry)| entry.system.value == *system)?;
            let mut host: Host = (**entry).clone();
            let job = host.jobs.iter().find(|job| job.runs_as.as_ref().is_some_and(|of| of.value == *account))?;
            let place = job.name.place;
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

/// Returns the name of a command set with every line, which is made if there is none.
fn anything(entries: &mut Entries, place: Place) -> String {
    use zest_model::entry::{CommandSet, Rule, RuleVerb};
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
