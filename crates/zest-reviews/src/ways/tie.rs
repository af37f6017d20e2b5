//! What somebody holds by being named in an entry of something else: as an owner, an editor, one who may write, one who acts as another,
//! and what an account of a database server is. Taken out one by one, the rest of the entry stays.

use zest_model::entries::Entries;
use zest_model::source::{At, Place, visible};

/// A name that can be taken out of an entry.
pub(super) struct Tie {
    pub(super) what: String,
    pub(super) place: Place,
    out: Box<dyn Fn(&mut Entries)>,
}

impl Tie {
    /// Takes it out.
    pub(super) fn take_out(&self, entries: &mut Entries) {
        (self.out)(entries);
    }

    /// Returns all of a ledger.
    pub(super) fn all(entries: &Entries) -> Vec<Self> {
        let mut list = Vec::new();
        for (row, group) in entries.groups.iter().enumerate() {
            for (at, owner) in group.owners.iter().enumerate() {
                let what = format!("owner `{}` of group `{}`", visible(&owner.value), visible(&group.id.value));
                list.push(Self::of(what, owner, move |entries| entries.groups.edit(row, |group| drop(group.owners.remove(at)))));
            }
        }
        for (row, host) in entries.hosts.iter().enumerate() {
            for (number, job) in host.jobs.iter().enumerate() {
                for (at, editor) in job.edited_by.iter().enumerate() {
                    let what = format!("editor `{}` of job `{}`", visible(&editor.value), visible(&job.name.value));
                    list.push(Self::of(what, editor, move |entries| {
                        entries.hosts.edit(row, |host| {
                            drop(host.jobs[number].edited_by.remove(at));
                        });
                    }));
                }
            }
            for (number, (folder, writers)) in host.writable_by.iter().enumerate() {
                for (at, writer) in writers.iter().enumerate() {
                    let what = format!("writer `{}` of `{}`", visible(&writer.value), visible(&folder.value));
                    list.push(Self::of(what, writer, move |entries| {
                        entries.hosts.edit(row, |host| drop(host.writable_by[number].1.remove(at)));
                    }));
                }
            }
        }
        for (row, service) in entries.services.iter().enumerate() {
            for (number, acting) in service.acting.iter().enumerate() {
                let what = format!("entry of who acts as `{}` on `{}`", visible(&acting.target.value), visible(&service.system.value));
                list.push(Self {
                    what,
                    place: acting.place,
                    out: Box::new(move |entries| entries.services.edit(row, |service| drop(service.acting.remove(number)))),
                });
            }
        }
        for (row, database) in entries.databases.iter().enumerate() {
            for (number, account) in database.accounts.iter().enumerate() {
                for (at, switch) in account.may.iter().enumerate() {
                    let what = format!("switch `{}` of account `{}`", visible(&switch.value), visible(&account.name.value));
                    list.push(Self::of(what, switch, move |entries| {
                        entries.databases.edit(row, |database| drop(database.accounts[number].may.remove(at)));
                    }));
                }
                for (at, role) in account.member_of.iter().enumerate() {
                    let what = format!("membership of account `{}` in `{}`", visible(&account.name.value), visible(&role.value));
                    list.push(Self::of(what, role, move |entries| {
                        entries.databases.edit(row, |database| drop(database.accounts[number].member_of.remove(at)));
                    }));
                }
            }
        }
        list
    }

    fn of(what: String, name: &At<String>, out: impl Fn(&mut Entries) + 'static) -> Self {
        Self { what, place: name.place, out: Box::new(out) }
    }
}
