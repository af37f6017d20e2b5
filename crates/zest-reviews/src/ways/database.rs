//! The acts by which somebody comes to more on database servers, each a statement that the server would carry out.

use std::cmp::Reverse;
use std::sync::Arc;

use rustc_hash::{FxHashMap, FxHashSet};

use zest_engine::Engine;
use zest_model::ask::{Question, Refusal, Session, Verdict};
use zest_model::entry::{Database, DatabaseObject, DatabasePolicy, DatabaseRole, Kind};
use zest_model::source::{At, visible};

use super::acts::{Found, Person, belongs};
use super::fact::{self, Fact};

/// How many accounts, roles and objects of a server are looked at.
const MAX_LOOKED_AT: usize = 500;

/// How often statements of an account are tried, each with several roles.
const MAX_TRIED: usize = 10_000;

/// What is written of a server, and what its accounts hold.
#[derive(Debug)]
pub(super) struct Server {
    system: String,
    kind: Kind,
    parts: Vec<Arc<Database>>,
    accounts: Vec<Known>,
    roles: Vec<String>,
    strong: Strong,
    /// Accounts by what a person types of their names, and by who else may use them, as positions.
    by_login: FxHashMap<String, Vec<usize>>,
    lent: FxHashMap<String, Vec<usize>>,
    /// Accounts that nothing but their names and whose they are tells apart.
    alike: Vec<Vec<usize>>,
    /// The number of those that are like an account.
    alike_of: Vec<usize>,
}

/// An account.
#[derive(Debug)]
struct Known {
    name: String,
    login: String,
}

impl Server {
    /// Looks at a server; accounts that are named in what is looked for stand for no others.
    pub(super) fn of(engine: &Engine, system: &str, is_asked: impl Fn(&str) -> bool) -> Option<Self> {
        let site = engine.site(system)?;
        let kind = site.entry().kind();
        kind.is_database().then_some(())?;
        let databases = engine.estate().entries().databases.iter();
        let parts: Vec<Arc<Database>> = databases.filter(|database| database.system.value == system).cloned().collect();
        let written = || parts.iter().flat_map(|part| &part.accounts);
        let one = |account: &DatabaseRole| Known { name: account.name.value.clone(), login: site.kind().login_of(&account.name.value) };
        let accounts: Vec<Known> = written().map(one).collect();
        let (mut by_login, mut lent): (FxHashMap<String, Vec<usize>>, FxHashMap<String, Vec<usize>>) = Default::default();
        for (position, (account, entry)) in accounts.iter().zip(written()).enumerate() {
            by_login.entry(account.login.clone()).or_default().push(position);
            entry.used_by.iter().for_each(|by| lent.entry(by.value.clone()).or_default().push(position));
        }
        let named = Named::of(&parts);
        let mut alike: FxHashMap<String, Vec<usize>> = FxHashMap::default();
        for (position, (account, entry)) in accounts.iter().zip(written()).enumerate() {
            let is_alone = named.is_apart(&account.name) || by_login[&account.login].len() > 1 || is_asked(&account.name);
            alike.entry(if is_alone { account.name.clone() } else { like(entry) }).or_default().push(position);
        }
        let mut alike: Vec<Vec<usize>> = alike.into_values().collect();
        alike.sort_unstable();
        let mut alike_of = vec![0; accounts.len()];
        for (number, list) in alike.iter().enumerate() {
            list.iter().for_each(|&position| alike_of[position] = number);
        }
        let roles = parts.iter().flat_map(|part| &part.roles).map(|role| role.name.value.clone()).collect();
        let strong = Strong::of(kind, &parts);
        Some(Self { system: system.to_owned(), kind, parts, accounts, roles, strong, by_login, lent, alike, alike_of })
    }

    /// Returns the accounts that somebody uses where some things are so: their own, those that are lent to them, and what they came to.
    fn accounts_of(&self, engine: &Engine, facts: &[Fact], user: &str) -> Vec<usize> {
        let mut list: Vec<usize> = self.by_login.get(user).into_iter().flatten().copied().collect();
        for (_, of) in self.lent.iter().filter(|(by, _)| belongs(engine, user, by)) {
            list.extend(of);
        }
        let come_to = facts.iter().filter_map(|fact| match fact {
            Fact::Uses { user: by, account, .. } | Fact::Defines { user: by, account, .. } if by == user => Some(account),
            _ => None,
        });
        list.extend(come_to.filter_map(|account| self.accounts.iter().position(|known| known.name == *account)));
        list.sort_unstable();
        list.dedup();
        list
    }

    /// Returns accounts that somebody does not use: one of all that nothing tells apart.
    fn others<'s>(&'s self, used: &'s [usize]) -> impl Iterator<Item = &'s str> + 's {
        let one = |alike: &Vec<usize>| alike.iter().copied().find(|position| !used.contains(position));
        self.alike.iter().filter_map(one).map(|position| self.accounts[position].name.as_str())
    }

    /// Returns the accounts without which nobody comes to less: all but one of those that nothing tells apart, where nobody who comes to
    /// anything signs in by their names, and none is lent to others, who would have a choice.
    pub(super) fn spare(&self, matters: impl Fn(&str) -> bool) -> FxHashSet<&str> {
        let is_lent: FxHashSet<usize> = self.lent.values().flatten().copied().collect();
        let may_go = |position: &usize| {
            let Known { name, login } = &self.accounts[*position];
            // One without a login lets anybody in.
            !login.is_empty() && !is_lent.contains(position) && !matters(login) && !matters(name)
        };
        let spare = self.alike.iter().flat_map(|alike| alike.iter().copied().filter(may_go).skip(1));
        spare.map(|position| self.accounts[position].name.as_str()).collect()
    }

    /// Returns who uses the accounts that could come to more in the ledger as it is: what a person types, and parties to whom they are lent.
    pub(super) fn actors(&self) -> (Vec<&str>, Vec<&str>) {
        let strong: Vec<bool> = self.accounts.iter().map(|account| self.strong.includes(&account.name, &So::default())).collect();
        let logins = self.accounts.iter().zip(&strong).filter(|(_, is_strong)| **is_strong).map(|(account, _)| account.login.as_str());
        let lent = self.lent.iter().filter(|(_, of)| of.iter().any(|&position| strong[position])).map(|(by, _)| by.as_str());
        (logins.collect(), lent.collect())
    }

    /// Returns what it is called.
    pub(super) fn system(&self) -> &str {
        &self.system
    }

    /// Returns how many accounts it has.
    pub(super) fn count(&self) -> usize {
        self.accounts.len()
    }

    /// Returns how many other accounts there are like one.
    pub(super) fn count_like(&self, account: &str) -> usize {
        let position = self.accounts.iter().position(|known| known.name == account);
        position.map_or(0, |position| self.alike[self.alike_of[position]].len() - 1)
    }

    /// Returns whether nothing that is come to there takes anything away: what narrows what others may see is for some roles alone.
    pub(super) fn only_adds(&self) -> bool {
        let policies = self.parts.iter().flat_map(|part| &part.objects).flat_map(|object| object.policies.iter().flatten());
        !policies.into_iter().any(|policy| policy.restrictive.as_ref().is_some_and(|is_on| is_on.value))
    }
}

/// Says all of an account but what it is called and whose it is.
fn like(entry: &DatabaseRole) -> String {
    let DatabaseRole {
        name,
        remark: _,
        used_by: _,
        may,
        inherit,
        member_of,
        administers,
        default_role,
        connection_limit: _,
        until,
        locked,
        credential,
        settings,
        limits: _,
        not_modelled,
        more: _,
    } = entry;
    // Where an account is admitted from is part of its name.
    let origin = name.value.rsplit_once('@').map(|(_, origin)| origin);
    let names = |list: &[At<String>]| list.iter().map(|name| name.value.clone()).collect::<Vec<_>>();
    let lists = [may, member_of, administers, settings, not_modelled].map(|list| names(list));
    let inherit = inherit.as_ref().map(|inherit| inherit.value);
    let default_role = default_role.as_ref().map(|role| role.value.as_str());
    let (until, locked) = (until.as_ref().map(|until| until.value), locked.as_ref().map(|locked| locked.value));
    let credential = credential.as_ref().map(|credential| credential.value);
    format!("{origin:?} {lists:?} {inherit:?} {default_role:?} {until:?} {locked:?} {credential:?}")
}

/// What is said of accounts by name.
struct Named {
    names: FxHashSet<String>,
    /// The words of all texts in which any could be named.
    words: FxHashSet<String>,
    /// Whether any of them asks who it is.
    asks: bool,
}

impl Named {
    fn of(parts: &[Arc<Database>]) -> Self {
        let mut names: FxHashSet<String> = FxHashSet::default();
        let mut texts: Vec<&str> = Vec::new();
        let mut add = |list: &[At<String>]| names.extend(list.iter().map(|name| name.value.clone()));
        for part in parts {
            let Database { system: _, owner, accounts, roles, objects, grants, default_grants, settings, not_modelled, more: _ } = &**part;
            add(owner.as_slice());
            for role in accounts.iter().chain(roles) {
                add(&role.member_of);
                add(&role.administers);
                add(role.default_role.as_slice());
            }
            for grant in grants.iter().chain(default_grants) {
                add(&grant.to);
                add(grant.grantor.as_slice());
                add(grant.creator.as_slice());
            }
            for object in objects {
                let DatabaseObject {
                    name: _,
                    remark: _,
                    owner,
                    columns: _,
                    defaults,
                    query,
                    runs_as: _,
                    row_security: _,
                    row_security_for_owner: _,
                    policies,
                    triggers,
                    rules,
                    checks,
                    domain_of,
                    parameters,
                    settings,
                    returns: _,
                    language: _,
                    body,
                    values: _,
                    wrapper: _,
                    not_modelled,
                    more: _,
                } = object;
                add(owner.as_slice());
                for policy in policies.iter().flatten() {
                    let DatabasePolicy { name: _, acts: _, to, using, check, restrictive: _, more: _ } = policy;
                    add(to);
                    texts.extend([using, check].into_iter().flatten().map(|text| text.value.as_str()));
                }
                let single = [query, body, domain_of, parameters].into_iter().flatten();
                texts.extend(single.chain(settings).chain(not_modelled).map(|text| text.value.as_str()));
                let by_name = [defaults, triggers, rules, checks].into_iter().flatten();
                texts.extend(by_name.map(|(_, text)| text.value.as_str()));
            }
            texts.extend(settings.iter().chain(not_modelled).map(|text| text.value.as_str()));
        }
        let words = texts.iter().flat_map(|text| text.split(is_between)).map(str::to_owned).collect();
        let asks = texts.iter().any(|text| text.to_lowercase().contains("_user"));
        Self { names, words, asks }
    }

    fn is_apart(&self, account: &str) -> bool {
        let login = account.rsplit_once('@').map_or(account, |(login, _)| login);
        // What is no one word could be anywhere.
        let is_named = || self.words.contains(login) || login.contains(is_between) && !self.words.is_empty();
        self.asks || self.names.contains(account) || is_named()
    }
}

/// What stands between words.
const fn is_between(c: char) -> bool {
    !(c.is_ascii_alphanumeric() || matches!(c, '_' | '-' | '$') || !c.is_ascii())
}

/// Which accounts and roles hold anything that could give more.
#[derive(Debug)]
struct Strong {
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
const PREDEFINED: [&str; 4] = ["pg_execute_server_program", "pg_write_server_files", "pg_read_server_files", "pg_database_owner"];

/// What runs as another is made by these, or called by whoever may anything.
const MAKES: [&str; 5] = ["all", "create routine", "event", "create view", "trigger"];

impl Strong {
    fn of(kind: Kind, parts: &[Arc<Database>]) -> Self {
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
    fn includes(&self, account: &str, so: &So<'_>) -> bool {
        let is_strong = |name: &&str| self.switches.contains_key(*name) || so.rules.contains(*name) || self.hands_on(name, so);
        self.reached_from(account, so, Reach::All).iter().any(is_strong)
    }

    /// Returns the roles that an account can come to be with each of which it holds something that could give more, and that it does not
    /// hold before, or with another of them.
    fn roles_of<'s>(&'s self, account: &'s str, so: &So<'s>, known: &mut HeldAs<'s>) -> Vec<&'s str> {
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

/// What is held while a role is active that could give more, by role.
type HeldAs<'s> = FxHashMap<&'s str, FxHashSet<&'s str>>;

/// Over which memberships roles are reached.
#[derive(Clone, Copy, PartialEq, Eq)]
enum Reach {
    All,
    Inherited,
}

/// What is come to, by the account that has it.
#[derive(Default)]
struct So<'f> {
    holds: FxHashMap<&'f str, Vec<&'f str>>,
    owns: FxHashSet<&'f str>,
    rules: FxHashSet<&'f str>,
}

impl<'f> So<'f> {
    fn of(facts: &'f [Fact]) -> Self {
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

/// Finds what somebody may do by statements that gives more, where some things are so.
pub(super) fn passed_on(engine: &Engine, server: &Server, facts: &[Fact], person: &Person, found: &mut Found) {
    let used = server.accounts_of(engine, facts, &person.user);
    let (so, known): (So<'_>, FxHashSet<&Fact>) = (So::of(facts), facts.iter().collect());
    let mut held = HeldAs::default();
    let is_strong = |account: &&Known| server.strong.includes(&account.name, &so);
    for account in used.iter().map(|&position| &server.accounts[position]).filter(is_strong) {
        let roles = server.strong.roles_of(&account.name, &so, &mut held);
        let (mut statements, tried_before) = (0, found.tries);
        for (statement, gives) in acts_of(server, account, &used, &person.user) {
            // What is so already gives nothing.
            if gives.fact().is_some_and(|fact| known.contains(fact)) {
                continue;
            }
            statements += 1;
            if statements > MAX_LOOKED_AT || found.tries - tried_before > MAX_TRIED {
                found.is_cut_short = true;
                break;
            }
            // Not all that a role has is there before it is active.
            let active = std::iter::once(None).chain(roles.iter().map(|role| Some(vec![(*role).to_owned()])));
            let mut is_known = true;
            let asked = active.into_iter().find_map(|active_roles| {
                found.tries += 1;
                let account = Some(account.login.clone()).filter(|login| *login != person.user);
                let session = Session { account, active_roles, ..person.session() };
                let question = Question { session, ..Question::statement(&person.user, &server.system, &statement) };
                let decision = engine.decide(&question);
                is_known &= decision.refusal != Some(Refusal::NotDecided);
                (decision.verdict != Verdict::Denied).then_some(question)
            });
            let (who, on) = (visible(&person.user), visible(&server.system));
            match (asked, gives) {
                (None, _) if !is_known => found.unknown.push(format!("not decided: {who} on {on}: {statement}")),
                (None, _) => {}
                (Some(question), Gives::Surely(fact)) => found.add(fact, question),
                (Some(question), Gives::AsDefiner(fact, right)) => {
                    if has_alone(engine, &question, &fact, &right) {
                        found.add(fact, question);
                    }
                }
                (Some(_), Gives::NotFollowed(what)) => found.unknown.push(format!("not followed: {what}, which {who} may make on {on}")),
            }
        }
    }
}

/// What a statement gives.
#[derive(Debug)]
enum Gives {
    Surely(Fact),
    /// Whatever an account may without any role, as which something runs that does nothing unless the account has a right.
    AsDefiner(Fact, String),
    /// Some of what others may, which is not followed: what it would be.
    NotFollowed(&'static str),
}

impl Gives {
    const fn fact(&self) -> Option<&Fact> {
        match self {
            Self::Surely(fact) | Self::AsDefiner(fact, _) => Some(fact),
            Self::NotFollowed(_) => None,
        }
    }
}

/// Returns whether an account has a right without any role, as which somebody would run something.
fn has_alone(engine: &Engine, question: &Question, fact: &Fact, right: &str) -> bool {
    let Fact::Defines { user, system, account } = fact else { return false };
    let uses = Fact::Uses { user: user.clone(), system: system.clone(), account: account.clone() };
    let Some((ledger, site)) = fact::with(engine, &[uses]).zip(engine.site(system)) else { return false };
    let account = Some(site.kind().login_of(account));
    let session = Session { account, active_roles: Some(Vec::new()), ..question.session.clone() };
    let asked = Question { session, ..Question::new(user, system, right) };
    ledger.decide(&asked).verdict != Verdict::Denied
}

/// Returns the statements by which an account of a server could come to more, with what each gives.
fn acts_of<'s>(server: &'s Server, account: &'s Known, used: &'s [usize], user: &'s str) -> Box<dyn Iterator<Item = (String, Gives)> + 's> {
    let (system, name) = (server.system.as_str(), account.name.as_str());
    let roles = server.roles.iter().map(String::as_str);
    let others = move || server.others(used);
    let holds = move |role: &str| Fact::Holds { system: system.to_owned(), account: name.to_owned(), role: role.to_owned() };
    let uses = move |other: &str| Fact::Uses { user: user.to_owned(), system: system.to_owned(), account: other.to_owned() };
    let rules = move || Fact::Rules { system: system.to_owned(), account: name.to_owned() };
    let is_member = |role: &str| server.strong.memberships.get(name).is_some_and(|roles| roles.iter().any(|known| known == role));
    let is_new = move |role: &&str| !is_member(role);
    let surely = |(statement, fact)| (statement, Gives::Surely(fact));
    match server.kind {
        Kind::POSTGRESQL => {
            let own = identifier(name, '"');
            // Accounts are roles as well, and so are those that come with the server.
            let joins = roles.chain(others()).chain(PREDEFINED).filter(is_new);
            let granted = joins.map(move |role| (format!("GRANT {} TO {own}", identifier(role, '"')), holds(role)));
            let set = others().map(move |other| (format!("ALTER ROLE {} PASSWORD 'set anew'", identifier(other, '"')), uses(other)));
            // Whatever the server's own account runs, the server lets it do anything with what it keeps.
            let programs = ["COPY (SELECT 1) TO PROGRAM 'cat > /dev/null'", "COPY (SELECT 1) TO '/tmp/anything'"];
            let run = programs.into_iter().map(move |statement| (statement.to_owned(), rules()));
            let owned = server.parts.iter().flat_map(|part| &part.objects).filter(|object| object.owner.is_some());
            let of_owner = owned.flat_map(move |object| owner_acts(system, name, object));
            Box::new(set.chain(granted).chain(run).chain(of_owner).map(surely))
        }
        Kind::MARIADB => {
            let of = |account: &str| {
                let (login, host) = account.rsplit_once('@').unwrap_or((account, "%"));
                format!("{}@{}", text(login), text(host))
            };
            let own = of(name);
            let granted = roles.filter(is_new).map(move |role| (format!("GRANT {} TO {own}", text(role)), holds(role)));
            let set = others().map(move |other| (format!("ALTER USER {} IDENTIFIED BY 'set anew'", of(other)), uses(other)));
            let defines = move |other: &str| Fact::Defines { user: user.to_owned(), system: system.to_owned(), account: other.to_owned() };
            let objects = || server.parts.iter().flat_map(|part| &part.objects);
            let databases = move || objects().filter_map(|object| object.name.value.strip_prefix("database "));
            let made = databases().flat_map(move |database| {
                others().flat_map(move |other| {
                    let needs = |right: &str| Gives::AsDefiner(defines(other), format!("{right} on database {database}"));
                    made_for(database, &of(other)).into_iter().zip([needs("execute"), needs("event")])
                })
            });
            // Whoever may make something for an account, may for any role.
            let for_roles = databases().filter(|_| !server.roles.is_empty()).flat_map(move |database| {
                let made = others().take(1).flat_map(move |other| made_for(database, &of(other)));
                made.map(|statement| (statement, Gives::NotFollowed("routines and events that run as roles")))
            });
            // These do a part of what others may: show rows, or change them when somebody writes. Who may say as whom may say anybody.
            let along = others().take(1).map(of).flat_map(move |by| {
                let views = databases().map({
                    let by = by.clone();
                    move |database| format!("CREATE DEFINER={by} VIEW {} AS SELECT 1", anything_in(database))
                });
                let tables = objects().filter_map(|object| object.name.value.strip_prefix("table "));
                let triggers = tables.map(move |table| {
                    let database = table.rsplit_once('.').map_or("", |(database, _)| database);
                    let (name, on) = (anything_in(database), written(table, '`'));
                    format!("CREATE DEFINER={by} TRIGGER {name} BEFORE INSERT ON {on} FOR EACH ROW SET @anything = 1")
                });
                let views = views.map(|statement| (statement, Gives::NotFollowed("views that run as others")));
                views.chain(triggers.map(|statement| (statement, Gives::NotFollowed("triggers that run as others"))))
            });
            // What these tables say counts once the server reads them anew.
            let tables_of_rights = ["INSERT INTO mysql.global_priv VALUES ('%', 'new', '{}')", "UPDATE mysql.global_priv SET Priv = '{}'"];
            let tables_of_rights = tables_of_rights.into_iter().map(move |statement| (statement.to_owned(), rules()));
            Box::new(granted.chain(tables_of_rights).chain(set).map(surely).chain(made).chain(for_roles).chain(along))
        }
        _ => Box::new(std::iter::empty()),
    }
}

/// Returns the statements that make a routine, and an event, which run as somebody else, in a database of MariaDB.
fn made_for(database: &str, by: &str) -> [String; 2] {
    let name = anything_in(database);
    [
        format!("CREATE DEFINER={by} PROCEDURE {name}() SELECT 1"),
        format!("CREATE DEFINER={by} EVENT {name} ON SCHEDULE EVERY 1 HOUR DO SELECT 1"),
    ]
}

/// Writes the name of something that is in no database of MariaDB.
fn anything_in(database: &str) -> String {
    format!("{}.`anything`", written(database, '`'))
}

/// What objects of PostgreSQL are called in a ledger, and in a statement.
const CLASSES: [(&str, &str); 12] = [
    ("table ", "TABLE"),
    ("view ", "TABLE"),
    ("materialised view ", "TABLE"),
    ("materialized view ", "TABLE"),
    ("sequence ", "SEQUENCE"),
    ("schema ", "SCHEMA"),
    ("function ", "FUNCTION"),
    ("procedure ", "PROCEDURE"),
    ("type ", "TYPE"),
    ("language ", "LANGUAGE"),
    ("wrapper ", "FOREIGN DATA WRAPPER"),
    ("server ", "FOREIGN SERVER"),
];

/// Returns what whoever owns an object may do that others may not.
fn owner_acts(system: &str, account: &str, object: &DatabaseObject) -> Vec<(String, Fact)> {
    let on = object.name.value.as_str();
    let Some((word, name)) = CLASSES.iter().find_map(|(class, word)| Some((word, on.strip_prefix(class)?))) else { return Vec::new() };
    let name = written(name, '"');
    let owns = Fact::Owns { system: system.to_owned(), account: account.to_owned(), object: on.to_owned() };
    let mut list = vec![(format!("GRANT ALL PRIVILEGES ON {word} {name} TO {}", identifier(account, '"')), owns)];
    if object.row_security.as_ref().is_some_and(|is_on| is_on.value) {
        let shows = Fact::Shows { system: system.to_owned(), object: on.to_owned() };
        list.push((format!("ALTER TABLE {name} DISABLE ROW LEVEL SECURITY"), shows));
    }
    list
}

/// Writes the name of an object as a statement does: as it stands in the ledger where it is quoted there, its parts quoted otherwise.
fn written(name: &str, quote: char) -> String {
    let (path, arguments) = name.find('(').map_or((name, ""), |at| name.split_at(at));
    if path.contains(quote) {
        return name.to_owned();
    }
    let parts: Vec<String> = path.split('.').map(|part| identifier(part, quote)).collect();
    format!("{}{arguments}", parts.join("."))
}

fn identifier(name: &str, quote: char) -> String {
    format!("{quote}{}{quote}", name.replace(quote, &format!("{quote}{quote}")))
}

/// Writes a text of MariaDB.
fn text(name: &str) -> String {
    format!("'{}'", name.replace('\\', "\\\\").replace('\'', "''"))
}
