//! Changes of the ledger, carried out on its entries: only what is touched is copied, and what would be written is told.

use std::collections::{BTreeMap, BTreeSet};
use std::sync::Arc;

use jiff::Timestamp;

use crate::engine::Estate;
use zest_model::ask::{Change, Conflict, Edit, EditStep as Step, How};
use zest_model::entries::Entries;
use zest_model::entry::{
    ActAs, Assumable, Band, Credential, Database, DatabaseGrant, Grant, Kind, OwnLevel, Rule, RuleVerb, Service, When,
};
use zest_model::source::{At, Location, Place, Spot, visible};
use zest_model::table::Table;
use zest_model::text::quoted_text as quoted;
use zest_words::nearest_hint;

/// The rows that changes have replaced, by their numbers.
#[derive(Debug, Default)]
pub(super) struct Touched {
    pub(super) users: BTreeSet<usize>,
    pub(super) groups: BTreeSet<usize>,
    pub(super) sets: BTreeSet<usize>,
    pub(super) roles: BTreeSet<usize>,
    /// Whether grants of a role are among it, which every cloud and application compiles for itself.
    pub(super) role_grants: bool,
    /// Systems, each with the changes that concern it; none for those that are concerned by way of a role.
    pub(super) systems: BTreeMap<usize, Vec<Change>>,
    pub(super) assignments: BTreeSet<usize>,
}

impl Touched {
    /// Adds what depends on what was replaced: command sets that include one, and systems that compile the grants of roles.
    pub(super) fn complete(&mut self, estate: &Estate, entries: &Entries) {
        let mut queue: Vec<usize> = self.sets.iter().copied().collect();
        while let Some(set) = queue.pop() {
            let id = &entries.command_sets[set].id.value;
            let includes = |rule: &Rule| rule.verb == RuleVerb::Include && rule.text.value == *id;
            let outer = (0..entries.command_sets.len()).filter(|&i| entries.command_sets[i].rules.iter().any(includes));
            for outer in outer.collect::<Vec<_>>() {
                if self.sets.insert(outer) {
                    queue.push(outer);
                }
            }
        }
        if self.role_grants {
            for row in (0..estate.systems.len()).filter(|&row| estate.systems[row].kind.compiles_roles()) {
                self.systems.insert(row, Vec::new());
            }
        }
    }
}

/// Entries on their way to another layer.
pub(super) struct Draft<'e> {
    pub(super) estate: &'e Estate,
    pub(super) entries: Entries,
    pub(super) touched: Touched,
    pub(super) edits: Vec<Edit>,
    /// The change that is being carried out.
    pub(super) current: Option<Change>,
}

/// The way to a table that lies under the keys of a document.
fn keys(path: &[&str]) -> Vec<Step> {
    path.iter().map(|key| Step::Key((*key).to_owned())).collect()
}

fn nth(mut path: Vec<Step>, index: usize) -> Vec<Step> {
    path.push(Step::Nth(index));
    path
}

/// The place of the last of a list, or else of its entry: a value that is added stands there, as far as anybody can tell.
fn beside(list: &[At<String>], entry: Place) -> Place {
    list.last().map_or(entry, |last| last.place)
}

impl Draft<'_> {
    /// Carries out one change of the ledger; changes of the session have no effect here.
    pub(super) fn apply(&mut self, change: &Change) -> Result<(), Conflict> {
        self.current = Some(change.clone());
        match change {
            Change::AllowFirst { set, pattern } => {
                let row = self.find(
                    set,
                    "command set",
                    |n| n.names.sets.get(set.as_str()).map(|id| id.index()),
                    |e| e.command_sets.iter().map(|c| &c.id),
                )?;
                self.touched.sets.insert(row);
                let mut entry = (*self.entries.command_sets[row]).clone();
                let place = entry.id.place;
                entry.rules.insert(0, Rule { verb: RuleVerb::Allow, text: At::new(pattern.clone(), place), after: None, because: None });
                self.told(entry.id.place, keys(&["command-sets", set]), "rules", How::AddFirst(quoted(&format!("allow {pattern}"))));
                self.entries.command_sets.set(row, Arc::new(entry));
            }
            Change::Ceiling { role, to } => {
                let (row, mut entry) = self.role(role)?;
                let place = entry.id.place;
                let start = entry.band.as_ref().map_or_else(|| At::new(1.min(*to), place), |b| b.start.clone());
                let ceiling = At::new(*to, entry.band.as_ref().map_or(place, |b| b.ceiling.place));
                self.told(place, keys(&["roles", role]), "band", How::Set(format!("{{ start = {}, ceiling = {to} }}", start.value)));
                entry.band = Some(Band { start, ceiling });
                self.entries.roles.set(row, Arc::new(entry));
            }
            Change::Attach { role, set } => {
                let (row, mut entry) = self.role(role)?;
                self.is_new(&entry.commands, set, || format!("`{}` has the command set `{}`", visible(role), visible(set)))?;
                entry.commands.push(At::new(set.clone(), beside(&entry.commands, entry.id.place)));
                self.told(entry.id.place, keys(&["roles", role]), "commands", How::AddLast(quoted(set)));
                self.entries.roles.set(row, Arc::new(entry));
            }
            Change::Admit { role, user } => {
                let (row, mut entry) = self.role(role)?;
                self.user(user)?;
                let reference = format!("user:{user}");
                let place = entry.id.place;
                let assumable = entry.assumable.get_or_insert_with(Assumable::default);
                self.is_new(&assumable.by, &reference, || format!("`{}` admits `{}`", visible(role), visible(user)))?;
                let at = beside(&assumable.by, assumable.place.unwrap_or(place));
                assumable.by.push(At::new(reference.clone(), at));
                self.told(place, keys(&["roles", role, "assumable"]), "by", How::AddLast(quoted(&reference)));
                self.entries.roles.set(row, Arc::new(entry));
            }
            Change::JoinGroup { group, user } => {
                let row = self.find(
                    group,
                    "group",
                    |n| n.names.groups.get(group.as_str()).map(|id| id.index()),
                    |e| e.groups.iter().map(|g| &g.id),
                )?;
                self.user(user)?;
                let reference = format!("user:{user}");
                let mut entry = (*self.entries.groups[row]).clone();
                self.is_new(&entry.members, &reference, || format!("`{}` is in the group `{}`", visible(user), visible(group)))?;
                entry.members.push(At::new(reference.clone(), beside(&entry.members, entry.id.place)));
                self.told(entry.id.place, keys(&["groups", group]), "members", How::AddLast(quoted(&reference)));
                self.touched.groups.insert(row);
                self.entries.groups.set(row, Arc::new(entry));
            }
            Change::Enable { user } => self.of_user(user, "disabled", How::Unset, |user| user.disabled = None)?,
            Change::Unbind { user } => {
                self.of_user(user, "from", How::Unset, |user| user.from = None)?;
                self.of_user(user, "until", How::Unset, |user| user.until = None)?;
            }
            Change::CredentialChanged { user } => {
                self.of_user(user, "must-change-credential", How::Unset, |user| user.must_change_credential = None)?;
            }
            Change::GiveProof { user, proof } => self.of_user(user, "proofs", How::AddLast(quoted(proof.word())), |user| {
                let place = user.proofs.last().map_or(user.id.place, |p| p.place);
                user.proofs.push(At::new(*proof, place));
            })?,
            Change::OwnLevel { system, command, to } => {
                let (row, mut entry) = self.system(system)?;
                let place = entry.id.place;
                let path = keys(&["systems", system]);
                match entry.own_levels.iter().position(|o| o.command.value.trim() == command) {
                    Some(index) => {
                        let own = &mut entry.own_levels[index];
                        own.level = At::new(*to, own.level.place);
                        self.told(place, nth(keys(&["systems", system, "own-levels"]), index), "level", How::Set(to.to_string()));
                    }
                    None => {
                        entry.own_levels.push(OwnLevel { command: At::new(command.clone(), place), level: At::new(*to, place) });
                        let value = format!("{{ command = {}, level = {to} }}", quoted(command));
                        self.told(place, path, "own-levels", How::AddLast(value));
                    }
                }
                self.touch(row);
                self.entries.systems.set(row, Arc::new(entry));
            }
            Change::AccountCeiling { system, login, to } => self.local_account(system, login, |account| {
                let start = account.band.as_ref().map_or_else(|| At::new(1.min(*to), account.login.place), |b| b.start.clone());
                let set = How::Set(format!("{{ start = {}, ceiling = {to} }}", start.value));
                let ceiling = At::new(*to, account.band.as_ref().map_or(account.login.place, |b| b.ceiling.place));
                account.band = Some(Band { start, ceiling });
                ("band", set)
            })?,
            Change::SetCredential { system, login } => self.local_account(system, login, |account| {
                account.credential = Some(At::new(Credential::Set, account.credential.as_ref().map_or(account.login.place, |c| c.place)));
                ("credential", How::Set(quoted(Credential::Set.word())))
            })?,
            Change::UnlockAccount { system, login } => {
                let (_, entry) = self.system(system)?;
                if entry.accounts.iter().any(|a| a.login.value == *login) {
                    self.local_account(system, login, |account| {
                        account.locked = None;
                        ("locked", How::Unset)
                    })?;
                } else {
                    self.host_account(system, login, |account| {
                        account.locked = None;
                        Ok(("locked", How::Unset))
                    })?;
                }
            }
            Change::UseAccount { system, account, user } => self.use_account(system, account, user)?,
            Change::JoinRole { system, member, role } => {
                let parts = self.parts_of(system, |e| &e.databases, |d| &d.system.value)?;
                let find = |list: &[zest_model::entry::DatabaseRole]| list.iter().position(|r| r.name.value == *member);
                for part in parts {
                    let mut entry = (*self.entries.databases[part]).clone();
                    let (table, list) = match find(&entry.accounts) {
                        Some(_) => ("accounts", &mut entry.accounts),
                        None => ("roles", &mut entry.roles),
                    };
                    let Some(at) = list.iter().position(|r| r.name.value == *member) else { continue };
                    let joins = &mut list[at];
                    self.is_new(&joins.member_of, role, || format!("`{}` is a member of `{}`", visible(member), visible(role)))?;
                    joins.member_of.push(At::new(role.clone(), beside(&joins.member_of, joins.name.place)));
                    self.told(joins.name.place, keys(&["databases", system, table, member]), "member-of", How::AddLast(quoted(role)));
                    self.entries.databases.set(part, Arc::new(entry));
                    return Ok(());
                }
                return Err(Conflict::Unknown(format!("`{}` has no account or role `{}`", visible(system), visible(member))));
            }
            Change::Grant { system, privileges, columns, on, to, regrant } => {
                // The last document that describes the server: grants are carried out in their order.
                let part = self.parts_of(system, |e| &e.databases, |d| &d.system.value)?.pop();
                let Some(part) = part else {
                    return Err(Conflict::Unknown(format!("nothing is written of the database server `{}`", visible(system))));
                };
                let written = self.entries.databases[part].system.clone();
                let place = written.place;
                let at = |text: &String| At::new(text.clone(), place);
                let list = |texts: &[String]| texts.iter().map(|t| quoted(t)).collect::<Vec<_>>().join(", ");
                let mut grant = DatabaseGrant::at(place);
                grant.allow = privileges.iter().map(at).collect();
                grant.columns = columns.iter().map(at).collect();
                grant.on.push(at(on));
                grant.to.push(at(to));
                grant.regrant = regrant.then(|| At::new(true, place));
                let of_columns = if columns.is_empty() { String::new() } else { format!(", columns = [{}]", list(columns)) };
                let passes = if *regrant { ", regrant = true" } else { "" };
                let value = format!("{{ allow = [{}]{of_columns}, on = {}, to = [{}]{passes} }}", list(privileges), quoted(on), quoted(to));
                // An entry of its own, as if in a document behind that one: the others are shared.
                self.entries.databases.push(Arc::new(Database::at(written).grant(grant)));
                self.told(place, keys(&["databases", system]), "grants", How::AddLast(value));
            }
            Change::Allow { system, operation, on, to } => {
                let written = self.service_parts(system)?.last().map(|&part| self.entries.services[part].system.clone());
                let written = written.ok_or_else(|| nothing_written(system))?;
                let place = written.place;
                let at = |text: &str| At::new(text.to_owned(), place);
                let mut grant = Grant::at(place);
                grant.allow.push(at(operation));
                grant.on.push(at(on));
                grant.to.push(at(to));
                let value = format!("{{ allow = [{}], on = {}, to = [{}] }}", quoted(operation), quoted(on), quoted(to));
                // An entry of its own, as if in a document behind the others: those are shared.
                let mut entry = Service::at(written);
                entry.grants.push(grant);
                self.of_service(system, &entry, "grants", How::AddLast(value));
                self.entries.services.push(Arc::new(entry));
            }
            Change::LetActAs { system, target, user } => {
                let (part, mut entry) = self.service(system)?;
                self.user(user)?;
                let place = entry.system.place;
                let at = |id: &str| At::new(format!("user:{id}"), place);
                let value = format!("{{ as = {}, by = [{}] }}", quoted(&format!("user:{target}")), quoted(&format!("user:{user}")));
                entry.acting.push(ActAs { place, target: at(target), by: vec![at(user)], when: When::default(), because: None });
                self.of_service(system, &entry, "acting", How::AddLast(value));
                self.entries.services.set(part, Arc::new(entry));
            }
            Change::LeaveOut { at, operation } => self.grant_at(at, |grant, _| {
                grant.except.push(At::new(operation.clone(), beside(&grant.except, grant.place)));
                vec![("except", How::AddLast(quoted(operation)))]
            })?,
            Change::LetThrough { at, operation } => self.let_through(at, operation)?,
            Change::Prolong { at } => self.prolong(at)?,
            Change::User(_)
            | Change::System(_)
            | Change::Line(_)
            | Change::Level(_)
            | Change::Mode(_)
            | Change::Origin(_)
            | Change::Channel(_)
            | Change::Moment(_)
            | Change::Proof(_)
            | Change::OnlyProof(_)
            | Change::CentralUp
            | Change::NoAccount
            | Change::Account(_)
            | Change::ActiveRole(_)
            | Change::SecondPerson(_)
            | Change::ApproverProof(_)
            | Change::Attribute { .. }
            | Change::Acting(_)
            | Change::ActiveRoles(_)
            | Change::FromOwn { .. }
            | Change::NoAttribute(_)
            | Change::Unstated(_)
            | Change::NewSession => {}
        }
        Ok(())
    }
}

/// Entries
impl Draft<'_> {
    /// Notes that what is written of a system has changed.
    fn touch_named(&mut self, system: &str) {
        if let Some(id) = self.estate.names.systems.get(system) {
            self.touch(id.index());
        }
    }

    fn touch(&mut self, system: usize) {
        let changes = self.touched.systems.entry(system).or_default();
        changes.extend(self.current.clone().filter(|change| changes.last() != Some(change)));
    }

    /// Notes what would be written, into the document in which the entry begins.
    fn told(&mut self, entry: Place, path: Vec<Step>, key: &str, how: How) {
        let document = match entry {
            Place::Text(span) => Some(self.estate.sources.name(span.source).to_owned()),
            Place::Code(_) => None,
        };
        self.edits.push(Edit::new(document, path, key, how));
    }

    fn find<'a, I: Iterator<Item = &'a At<String>>>(
        &'a self,
        name: &str,
        noun: &str,
        by_name: impl Fn(&Estate) -> Option<usize>,
        all: impl Fn(&'a Entries) -> I,
    ) -> Result<usize, Conflict> {
        by_name(self.estate).ok_or_else(|| {
            let near = nearest_hint(name, all(&self.entries).map(|id| id.value.as_str()));
            Conflict::Unknown(format!("no {noun} is named `{}`{near}", visible(name)))
        })
    }

    fn is_new(&self, list: &[At<String>], value: &str, what: impl FnOnce() -> String) -> Result<(), Conflict> {
        match list.iter().find(|known| known.value == value) {
            Some(known) => Err(Conflict::Already(what(), self.estate.sources.locate(known.place))),
            None => Ok(()),
        }
    }

    fn user(&self, id: &str) -> Result<usize, Conflict> {
        self.find(id, "user", |n| n.names.users.get(id).map(|id| id.index()), |e| e.users.iter().map(|u| &u.id))
    }

    fn system(&self, id: &str) -> Result<(usize, zest_model::entry::System), Conflict> {
        let row = self.find(id, "system", |n| n.names.systems.get(id).map(|id| id.index()), |e| e.systems.iter().map(|s| &s.id))?;
        Ok((row, (*self.entries.systems[row]).clone()))
    }

    fn role(&mut self, id: &str) -> Result<(usize, zest_model::entry::Role), Conflict> {
        let row = self.find(id, "role", |n| n.names.roles.get(id).map(|id| id.index()), |e| e.roles.iter().map(|r| &r.id))?;
        self.touched.roles.insert(row);
        Ok((row, (*self.entries.roles[row]).clone()))
    }

    fn of_user(&mut self, id: &str, key: &str, how: How, change: impl FnOnce(&mut zest_model::entry::User)) -> Result<(), Conflict> {
        let row = self.user(id)?;
        let mut entry = (*self.entries.users[row]).clone();
        change(&mut entry);
        self.told(entry.id.place, keys(&["users", id]), key, how);
        self.touched.users.insert(row);
        self.entries.users.set(row, Arc::new(entry));
        Ok(())
    }

    fn local_account(
        &mut self,
        system: &str,
        login: &str,
        change: impl FnOnce(&mut zest_model::entry::Account) -> (&'static str, How),
    ) -> Result<(), Conflict> {
        let (row, mut entry) = self.system(system)?;
        let Some(account) = entry.accounts.iter_mut().find(|a| a.login.value == login) else {
            return Err(self.no_account(system, login));
        };
        let (key, how) = change(account);
        let place = account.login.place;
        self.told(place, keys(&["systems", system, "accounts", login]), key, how);
        self.touch(row);
        self.entries.systems.set(row, Arc::new(entry));
        Ok(())
    }

    fn host_account(
        &mut self,
        system: &str,
        login: &str,
        change: impl FnOnce(&mut zest_model::entry::HostAccount) -> Result<(&'static str, How), Conflict>,
    ) -> Result<(), Conflict> {
        for part in self.parts_of(system, |e| &e.hosts, |h| &h.system.value)? {
            let mut entry = (*self.entries.hosts[part]).clone();
            if let Some(account) = entry.accounts.iter_mut().find(|a| a.login.value == login) {
                let (key, how) = change(account)?;
                let place = account.login.place;
                self.told(place, keys(&["hosts", system, "accounts", login]), key, how);
                self.entries.hosts.set(part, Arc::new(entry));
                return Ok(());
            }
        }
        Err(self.no_account(system, login))
    }

    fn no_account(&self, system: &str, login: &str) -> Conflict {
        Conflict::Unknown(format!("`{}` has no account `{}`", visible(system), visible(login)))
    }

    /// An account is where it is written: with the system itself, with a host, or with a database server.
    fn use_account(&mut self, system: &str, account: &str, user: &str) -> Result<(), Conflict> {
        self.user(user)?;
        let reference = format!("user:{user}");
        let what = || format!("`{}` may use the account `{}`", visible(user), visible(account));
        let add = How::AddLast(quoted(&reference));
        let (_, entry) = self.system(system)?;
        if let Some(known) = entry.accounts.iter().find(|a| a.login.value == account) {
            self.is_new(&known.used_by, &reference, what)?;
            return self.local_account(system, account, |account| {
                account.used_by.push(At::new(reference, beside(&account.used_by, account.login.place)));
                ("used-by", add)
            });
        }
        for part in self.parts_of(system, |e| &e.databases, |d| &d.system.value)? {
            let mut entry = (*self.entries.databases[part]).clone();
            if let Some(lent) = entry.accounts.iter_mut().find(|r| r.name.value == account) {
                self.is_new(&lent.used_by, &reference, what)?;
                lent.used_by.push(At::new(reference.clone(), beside(&lent.used_by, lent.name.place)));
                self.told(lent.name.place, keys(&["databases", system, "accounts", account]), "used-by", add);
                self.entries.databases.set(part, Arc::new(entry));
                return Ok(());
            }
        }
        let sources = Arc::clone(&self.estate.sources);
        self.host_account(system, account, |account| {
            if let Some(known) = account.used_by.iter().find(|known| known.value == reference) {
                return Err(Conflict::Already(what(), sources.locate(known.place)));
            }
            account.used_by.push(At::new(reference.clone(), beside(&account.used_by, account.login.place)));
            Ok(("used-by", add))
        })
    }

    /// Returns the numbers of the entries that describe a system, which may be spread over documents; the system counts as touched.
    fn parts_of<T: Clone + 'static>(
        &mut self,
        system: &str,
        table: impl Fn(&Entries) -> &Table<Arc<T>>,
        of: impl Fn(&T) -> &String,
    ) -> Result<Vec<usize>, Conflict> {
        let (row, _) = self.system(system)?;
        let table = table(&self.entries);
        let parts = (0..table.len()).filter(|&i| *of(&table[i]) == system).collect();
        self.touch(row);
        Ok(parts)
    }
}

/// Clouds and applications
impl Draft<'_> {
    fn service_parts(&mut self, system: &str) -> Result<Vec<usize>, Conflict> {
        self.parts_of(system, |e| &e.services, |s| &s.system.value)
    }

    fn service(&mut self, system: &str) -> Result<(usize, Service), Conflict> {
        let part = self.service_parts(system)?.first().copied().ok_or_else(|| nothing_written(system))?;
        Ok((part, (*self.entries.services[part]).clone()))
    }

    /// The table of a document under which a service is described.
    fn table_of(&self, system: &str) -> &'static str {
        let row = self.estate.names.systems.get(system);
        match row.map(|id| self.estate.system(*id).kind()) {
            Some(Kind::APPLICATION) => "applications",
            _ => "clouds",
        }
    }

    fn of_service(&mut self, system: &str, entry: &Service, key: &str, how: How) {
        self.told(entry.system.place, keys(&[self.table_of(system), system]), key, how);
    }

    /// Changes the grant that is written at a place, of a cloud or an application or of a role.
    fn grant_at(&mut self, at: &Location, change: impl Fn(&mut Grant, &Spot) -> Vec<(&'static str, How)>) -> Result<(), Conflict> {
        if self.change_grant(at, &change)? { Ok(()) } else { Err(Conflict::Unknown(format!("no grant is written at {at}"))) }
    }

    fn change_grant(&mut self, at: &Location, change: &impl Fn(&mut Grant, &Spot) -> Vec<(&'static str, How)>) -> Result<bool, Conflict> {
        let Some(spot) = self.estate.sources.spot(at) else { return Ok(false) };
        for (row, service) in self.entries.services.clone().iter().enumerate() {
            if let Some(index) = service.grants.iter().position(|g| is_at(&spot, g.place, [&g.from, &g.until])) {
                let mut entry = (**service).clone();
                let edits = change(&mut entry.grants[index], &spot);
                let system = entry.system.value.clone();
                let path = nth(keys(&[self.table_of(&system), &system, "grants"]), index);
                edits.into_iter().for_each(|(key, how)| self.told(entry.system.place, path.clone(), key, how));
                self.touch_named(&system);
                self.entries.services.set(row, Arc::new(entry));
                return Ok(true);
            }
        }
        for (row, role) in self.entries.roles.clone().iter().enumerate() {
            if let Some(index) = role.grants.iter().position(|g| is_at(&spot, g.place, [&g.from, &g.until])) {
                let mut entry = (**role).clone();
                let edits = change(&mut entry.grants[index], &spot);
                let path = nth(keys(&["roles", &entry.id.value, "grants"]), index);
                edits.into_iter().for_each(|(key, how)| self.told(entry.id.place, path.clone(), key, how));
                self.touched.roles.insert(row);
                self.touched.role_grants = true;
                self.entries.roles.set(row, Arc::new(entry));
                return Ok(true);
            }
        }
        Ok(false)
    }

    fn let_through(&mut self, at: &Location, operation: &str) -> Result<(), Conflict> {
        let unknown = || Conflict::Unknown(format!("no ceiling is written at {at}"));
        let spot = self.estate.sources.spot(at).ok_or_else(unknown)?;
        for (row, service) in self.entries.services.clone().iter().enumerate() {
            let Some(index) = service.ceilings.iter().position(|c| spot.is(c.place)) else { continue };
            let mut entry = (**service).clone();
            let system = entry.system.value.clone();
            let ceiling = &mut entry.ceilings[index];
            let path = nth(keys(&[self.table_of(&system), &system, "ceilings"]), index);
            let place = entry.system.place;
            if ceiling.except.iter().any(|e| e.value == operation) {
                ceiling.except.retain(|e| e.value != operation);
                self.told(place, path.clone(), "except", How::TakeOut(operation.to_owned()));
            }
            let beside = beside(&ceiling.allow, ceiling.place);
            ceiling.allow.push(At::new(operation.to_owned(), beside));
            self.told(place, path, "allow", How::AddLast(quoted(operation)));
            self.touch_named(&system);
            self.entries.services.set(row, Arc::new(entry));
            return Ok(());
        }
        Err(unknown())
    }

    /// Takes the bounds of validity away of whatever is written at a place: an assignment, a grant, an account of a host.
    fn prolong(&mut self, at: &Location) -> Result<(), Conflict> {
        let unknown = || Conflict::Unknown(format!("nothing with an end is written at {at}"));
        let spot = self.estate.sources.spot(at).ok_or_else(unknown)?;
        let unset = |from: bool, until: bool| {
            let keys = [("from", from), ("until", until)];
            keys.into_iter().filter(|(_, is_set)| *is_set).map(|(key, _)| (key, How::Unset)).collect::<Vec<_>>()
        };
        let assignments = self.entries.assignments.clone();
        if let Some(row) = assignments.iter().position(|a| is_at(&spot, a.place, [&a.from, &a.until])) {
            let mut entry = (*assignments[row]).clone();
            // Assignments stand in the order of their ranks; in the document, in that of their places.
            let of_document = |place: Place| matches!((place, entry.place), (Place::Text(a), Place::Text(b)) if a.source == b.source && a.start < b.start);
            let index = assignments.iter().filter(|a| of_document(a.place)).count();
            for (key, how) in unset(entry.from.is_some(), entry.until.is_some()) {
                self.told(entry.place, nth(keys(&["assignments"]), index), key, how);
            }
            (entry.from, entry.until) = (None, None);
            self.touched.assignments.insert(row);
            self.entries.assignments.set(row, Arc::new(entry));
            return Ok(());
        }
        let hosts = self.entries.hosts.clone();
        for (row, host) in hosts.iter().enumerate() {
            let is_it = |a: &zest_model::entry::HostAccount| a.until.as_ref().is_some_and(|u| spot.is(u.place));
            let Some(index) = host.accounts.iter().position(is_it) else { continue };
            let mut entry = (**host).clone();
            entry.accounts[index].until = None;
            let (system, account) = (entry.system.value.clone(), &entry.accounts[index].login);
            self.told(account.place, keys(&["hosts", &system, "accounts", &account.value]), "until", How::Unset);
            self.touch_named(&system);
            self.entries.hosts.set(row, Arc::new(entry));
            return Ok(());
        }
        let databases = self.entries.databases.clone();
        for (part, database) in databases.iter().enumerate() {
            let is_it = |a: &zest_model::entry::DatabaseRole| a.until.as_ref().is_some_and(|u| spot.is(u.place));
            let Some(index) = database.accounts.iter().position(is_it) else { continue };
            let mut entry = (**database).clone();
            entry.accounts[index].until = None;
            let (system, account) = (entry.system.value.clone(), &entry.accounts[index].name);
            self.told(account.place, keys(&["databases", &system, "accounts", &account.value]), "until", How::Unset);
            self.touch_named(&system);
            self.entries.databases.set(part, Arc::new(entry));
            return Ok(());
        }
        let found = self.change_grant(at, &|grant: &mut Grant, _: &Spot| {
            let edits = unset(grant.from.is_some(), grant.until.is_some());
            (grant.from, grant.until) = (None, None);
            edits
        })?;
        if found { Ok(()) } else { Err(unknown()) }
    }
}

fn nothing_written(system: &str) -> Conflict {
    Conflict::Unknown(format!("nothing is written of the cloud or application `{}`", visible(system)))
}

/// Returns whether an entry, or one of its bounds, is written at a place.
fn is_at(spot: &Spot, whole: Place, bounds: [&Option<At<Timestamp>>; 2]) -> bool {
    spot.is(whole) || bounds.into_iter().flatten().any(|bound| spot.is(bound.place))
}
