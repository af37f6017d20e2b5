//! What accounts and roles of a database server hold that could give more, and of which roles they can be members at once.

use std::cmp::Reverse;
use std::sync::Arc;

use rustc_hash::{FxHashMap, FxHashSet};

use zest_model::entry::{Database, Kind};

use super::fact::Fact;

/// Which accounts and roles hold anything that could give more.
#[derive(Debug)]
pub(super) struct Strong {
    kind: Kind,
    /// Of which roles each is a member, or may say who is.
    memberships: FxHashMap<String, Vec<String>>,
    /// Who holds something that goes on to whoever is a member.
    names: FxHashSet<String>,
    /// What whoever is a role of PostgreSQL may, and none of its members.
    switches: FxHashMap<String, Vec<&'static str>>,
    /// Roles of PostgreSQL who have nothing of those of which they are members before they become them.
    do_not_inherit: FxHashSet<String>,
    /// Who holds, on MariaDB, what gives more together with something else.
    beside: FxHashSet<String>,
    /// Whether everybody does.
    is_open: bool,
}

/// Switches of PostgreSQL with which more can be done than what was granted.
const SWITCHES: [&str; 2] = ["superuser", "create-role"];

/// Roles that come with PostgreSQL, of which the same is so.
pub(super) const PREDEFINED: [&str; 4] =
    ["pg_execute_server_program", "pg_write_server_files", "pg_read_server_files", "pg_database_owner"];

/// What runs as another is made by these, or called by whoever may anything.
const MAKES: [&str; 5] = ["all", "create routine", "event", "create view", "trigger"];

impl Strong {
    pub(super) fn of(kind: Kind, parts: &[Arc<Database>]) -> Self {
        let roles = || parts.iter().flat_map(|part| part.accounts.iter().chain(&part.roles));
        let mut strong = Self {
            kind,
            memberships: FxHashMap::default(),
            names: FxHashSet::default(),
            switches: FxHashMap::default(),
            do_not_inherit: FxHashSet::default(),
            beside: FxHashSet::default(),
            is_open: false,
        };
        for role in roles() {
            let name = &role.name.value;
            // What is only named could be anything.
            if !role.administers.is_empty() || !role.not_modelled.is_empty() {
                strong.names.insert(name.clone());
            }
            let switches: Vec<&str> = SWITCHES.into_iter().filter(|switch| role.may.iter().any(|may| may.value == *switch)).collect();
            if !switches.is_empty() {
                strong.switches.insert(name.clone(), switches);
            }
            if role.inherit.as_ref().is_some_and(|inherit| !inherit.value) {
                strong.do_not_inherit.insert(name.clone());
            }
            let others = role.member_of.iter().chain(&role.administers).map(|role| role.value.clone());
            strong.memberships.insert(name.clone(), others.collect());
        }
        // What everybody is a member of is written as a grant.
        for grant in parts.iter().flat_map(|part| &part.grants).filter(|grant| grant.allow.iter().any(|allow| allow.value == "membership"))
        {
            let roles = || grant.on.iter().filter_map(|on| Some(on.value.strip_prefix("role ")?.to_owned()));
            grant.to.iter().for_each(|to| strong.memberships.entry(to.value.clone()).or_default().extend(roles()));
        }
        if kind == Kind::POSTGRESQL {
            let owners = parts.iter().flat_map(|part| &part.objects).filter_map(|object| object.owner.as_ref());
            strong.names.extend(owners.chain(parts.iter().filter_map(|part| part.owner.as_ref())).map(|owner| owner.value.clone()));
        } else {
            let of_server = |on: &str| on == "everything" || on.contains("mysql") || on.contains(['*', '%', '_']);
            for grant in parts.iter().flat_map(|part| &part.grants) {
                let to = || grant.to.iter().map(|to| to.value.clone());
                if grant.on.iter().any(|on| of_server(&on.value)) {
                    strong.names.extend(to());
                }
                if grant.allow.iter().any(|allow| MAKES.contains(&allow.value.as_str())) {
                    strong.beside.extend(to());
                }
            }
        }
        // What is only named of the whole could be anything for everybody.
        strong.is_open = strong.names.contains("public") || parts.iter().any(|part| !part.not_modelled.is_empty());
        strong
    }

    /// Returns whether an account, or any role that it can come to be, holds anything that could give more where some things are so.
    pub(super) fn includes(&self, account: &str, so: &So<'_>) -> bool {
        let is_strong = |name: &&str| self.switches.contains_key(*name) || so.rules.contains(*name) || self.hands_on(name, so);
        self.reached_from(account, so, Reach::All).iter().any(is_strong)
    }

    /// Returns whether an account is made a member of a role where it is written, or may say who is.
    pub(super) fn is_member(&self, account: &str, role: &str) -> bool {
        self.memberships.get(account).is_some_and(|roles| roles.iter().any(|known| known == role))
    }

    /// Returns the roles that an account can come to be with each of which it holds something that could give more, and that it does not
    /// hold before, or with another of them.
    pub(super) fn roles_of<'s>(&'s self, account: &'s str, so: &So<'s>, known: &mut HeldAs<'s>) -> Vec<&'s str> {
        let of_account = self.held_as(account, account, so);
        let reached = self.reached_from(account, so, Reach::All);
        for role in &reached[1..] {
            known.entry(role).or_insert_with(|| self.held_as(account, role, so));
        }
        let mut others: Vec<(&str, &FxHashSet<&str>)> = reached[1..].iter().map(|role| (*role, &known[role])).collect();
        others.sort_by_key(|(_, held)| Reverse(held.len()));
        let mut kept: Vec<(&str, &FxHashSet<&str>)> = Vec::new();
        for (role, held) in others {
            if !held.is_subset(&of_account) && !kept.iter().any(|(_, known)| held.is_subset(known)) {
                kept.push((role, held));
            }
        }
        kept.into_iter().map(|(role, _)| role).collect()
    }

    /// Returns what could give more of what is held while an account is a role: names of those who hand it on, and switches.
    fn held_as<'s>(&'s self, account: &str, role: &'s str, so: &So<'s>) -> FxHashSet<&'s str> {
        if self.kind == Kind::POSTGRESQL {
            let handed_on = self.reached_from(role, so, Reach::Inherited).into_iter().filter(|name| self.hands_on(name, so));
            let switches = self.switches.get(role).into_iter().flatten().copied();
            return handed_on.chain(switches).chain(so.rules.contains(role).then_some(SWITCHES[0])).collect();
        }
        // Nothing of any role is there before it is active.
        let reached = if role == account { vec![role] } else { self.reached_from(role, so, Reach::All) };
        reached.into_iter().filter(|name| self.hands_on(name, so) || self.beside.contains(*name)).collect()
    }

    /// Returns whether a role holds something that its members have as well.
    fn hands_on(&self, name: &str, so: &So<'_>) -> bool {
        let is_come_to = so.owns.contains(name) || self.kind != Kind::POSTGRESQL && so.rules.contains(name);
        self.is_open || self.names.contains(name) || PREDEFINED.contains(&name) || is_come_to
    }

    /// Chooses memberships that can be so at once, as an account would: no role may come back to itself. Those that it notices are chosen
    /// first, and others where they are wanted.
    pub(super) fn at_once<'s>(&'s self, joined: &[(&'s str, &'s str)], first: &'s str, others: Others) -> AtOnce<'s> {
        let mut so = So::default();
        let mut is_chosen = vec![false; joined.len()];
        let mut choose = |so: &mut So<'s>, number: usize| {
            let (account, role) = joined[number];
            let is_open = !self.reached_from(role, so, Reach::All).contains(&account);
            if is_open && !std::mem::replace(&mut is_chosen[number], true) {
                so.holds.entry(account).or_default().push(role);
            }
        };
        let (mut reached, mut at) = (vec![first], 0);
        while let Some(&name) = reached.get(at) {
            at += 1;
            (0..joined.len()).filter(|&number| joined[number].0 == name).for_each(|number| choose(&mut so, number));
            let now = self.reached_from(first, &so, Reach::All);
            let new: Vec<&str> = now.into_iter().filter(|role| !reached.contains(role)).collect();
            reached.extend(new);
        }
        if others == Others::AsWell {
            (0..joined.len()).for_each(|number| choose(&mut so, number));
        }
        // Mostly nothing is in the way of anything.
        if is_chosen.iter().all(|is_chosen| *is_chosen) {
            return AtOnce { is_chosen, is_whole: true, so };
        }
        let mut all = So::default();
        joined.iter().for_each(|&(account, role)| all.holds.entry(account).or_default().push(role));
        let had = |so: &So<'s>| -> Vec<FxHashSet<String>> {
            let roles = self.reached_from(first, so, Reach::All);
            let had_as = |role: &&str| {
                let inherited = self.reached_from(role, so, Reach::Inherited).into_iter();
                inherited.chain(self.switches.get(*role).into_iter().flatten().copied()).map(str::to_owned).collect()
            };
            roles.iter().map(had_as).collect()
        };
        let chosen = had(&so);
        let is_whole = had(&all).iter().all(|held| chosen.iter().any(|known| held.is_subset(known)));
        AtOnce { is_chosen, is_whole, so }
    }

    /// Returns whether a role is another one, or a member of it, where some things are so.
    pub(super) fn comes_to<'s>(&'s self, role: &'s str, other: &str, so: &So<'s>) -> bool {
        self.reached_from(role, so, Reach::All).contains(&other)
    }

    /// Returns an account or role, and all of which it is a member, as everybody is or by itself.
    fn reached_from<'s>(&'s self, name: &'s str, so: &So<'s>, reach: Reach) -> Vec<&'s str> {
        let (mut reached, mut seen) = (vec![name], FxHashSet::from_iter([name]));
        let mut at = 0;
        while let Some(&name) = reached.get(at) {
            at += 1;
            if reach == Reach::Inherited && self.do_not_inherit.contains(name) {
                continue;
            }
            let come_to = so.holds.get(name).into_iter().flatten().copied();
            let of_all = (at == 1).then(|| self.memberships.get("public")).flatten();
            let others = self.memberships.get(name).into_iter().chain(of_all).flatten().map(String::as_str).chain(come_to);
            reached.extend(others.filter(|role| seen.insert(role)));
        }
        reached
    }
}

/// Memberships that can be so at once.
pub(super) struct AtOnce<'s> {
    /// Which of those that were asked about are.
    pub(super) is_chosen: Vec<bool>,
    /// Whether all is there that the account for which they were chosen could have of any of them.
    pub(super) is_whole: bool,
    /// What is so by them.
    pub(super) so: So<'s>,
}

/// What is done with memberships that an account does not notice.
#[derive(Clone, Copy, PartialEq, Eq)]
pub(super) enum Others {
    AsWell,
    LeftOut,
}

/// What is held while a role is active that could give more, by role.
pub(super) type HeldAs<'s> = FxHashMap<&'s str, FxHashSet<&'s str>>;

/// Over which memberships roles are reached.
#[derive(Clone, Copy, PartialEq, Eq)]
enum Reach {
    All,
    Inherited,
}

/// What is come to, by the account that has it.
#[derive(Default)]
pub(super) struct So<'f> {
    holds: FxHashMap<&'f str, Vec<&'f str>>,
    owns: FxHashSet<&'f str>,
    rules: FxHashSet<&'f str>,
}

impl<'f> So<'f> {
    pub(super) fn of(facts: &'f [Fact]) -> Self {
        let mut so = Self::default();
        for fact in facts {
            match fact {
                Fact::Holds { system: _, account, role } => so.holds.entry(account).or_default().push(role),
                Fact::Owns { system: _, account, object: _ } => drop(so.owns.insert(account)),
                Fact::Rules { system: _, account } => drop(so.rules.insert(account)),
                Fact::Becomes(_)
                | Fact::Knows(_)
                | Fact::Joins { .. }
                | Fact::Runs { .. }
                | Fact::Shapes { .. }
                | Fact::Fills { .. }
                | Fact::Grants { .. }
                | Fact::Uses { .. }
                | Fact::Shows { .. }
                | Fact::Defines { .. } => {}
            }
        }
        so
    }
}
