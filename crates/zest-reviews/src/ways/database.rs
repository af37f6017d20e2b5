//! The acts by which somebody comes to more on database servers, each a statement that the server would carry out.

use std::sync::Arc;

use rustc_hash::{FxHashMap, FxHashSet};

use zest_engine::Engine;
use zest_engine::rules::{Alike, Site};
use zest_model::ask::{Question, Refusal, Session, Verdict};
use zest_model::entry::{Database, DatabaseObject, DatabaseRole, Kind};
use zest_model::source::visible;

use super::acts::{Found, Person, belongs};
use super::fact::{self, Fact};
use super::strong::{HeldAs, Others, PREDEFINED, So, Strong};

/// How many accounts, roles and objects of a server are looked at.
const MAX_LOOKED_AT: usize = 5_000;

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
    /// Accounts by their names, by what a person types of these, and by who else may use them, as positions.
    by_name: FxHashMap<String, usize>,
    by_login: FxHashMap<String, Vec<usize>>,
    lent: FxHashMap<String, Vec<usize>>,
    /// Accounts that nothing but their names and whose they are tells apart.
    alike: Vec<Vec<usize>>,
    /// The number of those that are like an account.
    alike_of: Vec<usize>,
}

/// What somebody has of a server's accounts: those that they use, and the numbers of lists of accounts that are alike.
struct AtHand {
    used: Vec<usize>,
    /// Of these they came to use one.
    uses: FxHashSet<usize>,
    /// Of these they came to use one, or to have something run as it.
    defines: FxHashSet<usize>,
}

/// An account.
#[derive(Debug)]
struct Known {
    name: String,
    login: String,
}

impl Server {
    /// Looks at a database server of which some accounts are alike; those that are named in what is looked for stand for no others.
    pub(super) fn of(site: Site<'_>, lists: &[Vec<Alike>], is_asked: impl Fn(&str) -> bool) -> Self {
        let (kind, system) = (site.entry().kind(), site.entry().id.value.as_str());
        let databases = site.engine().estate().entries().databases.iter();
        let parts: Vec<Arc<Database>> = databases.filter(|database| database.system.value == system).cloned().collect();
        let written = || parts.iter().flat_map(|part| &part.accounts);
        let one = |account: &DatabaseRole| Known { name: account.name.value.clone(), login: site.kind().login_of(&account.name.value) };
        let accounts: Vec<Known> = written().map(one).collect();
        let mut by_name: FxHashMap<String, usize> = FxHashMap::default();
        let (mut by_login, mut lent): (FxHashMap<String, Vec<usize>>, FxHashMap<String, Vec<usize>>) = Default::default();
        for (position, (account, entry)) in accounts.iter().zip(written()).enumerate() {
            by_name.entry(account.name.clone()).or_insert(position);
            by_login.entry(account.login.clone()).or_default().push(position);
            entry.used_by.iter().for_each(|by| lent.entry(by.value.clone()).or_default().push(position));
        }
        let list_of: FxHashMap<&str, usize> =
            lists.iter().enumerate().flat_map(|(number, list)| list.iter().map(move |alike| (alike.account.as_str(), number))).collect();
        // Lists of those that are alike come before the numbers of those who stand alone.
        let mut number_of: FxHashMap<usize, usize> = FxHashMap::default();
        let (mut alike, mut alike_of): (Vec<Vec<usize>>, Vec<usize>) = (Vec::new(), Vec::with_capacity(accounts.len()));
        for (position, account) in accounts.iter().enumerate() {
            let list = list_of.get(account.name.as_str()).filter(|_| !is_asked(&account.name));
            let number = *number_of.entry(list.copied().unwrap_or(lists.len() + position)).or_insert(alike.len());
            match alike.get_mut(number) {
                None => alike.push(vec![position]),
                Some(list) => list.push(position),
            }
            alike_of.push(number);
        }
        let roles = parts.iter().flat_map(|part| &part.roles).map(|role| role.name.value.clone()).collect();
        let strong = Strong::of(kind, &parts);
        Self { system: system.to_owned(), kind, parts, accounts, roles, strong, by_name, by_login, lent, alike, alike_of }
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
        list.extend(come_to.filter_map(|account| self.by_name.get(account)));
        list.sort_unstable();
        list.dedup();
        list
    }

    /// Returns accounts that somebody does not use: one of all that nothing tells apart. Of those of which they came to one, another would
    /// give nothing more.
    fn others<'s>(&'s self, used: &'s [usize], come_to: &'s FxHashSet<usize>) -> impl Iterator<Item = &'s str> + 's {
        let one = |alike: &Vec<usize>| alike.iter().copied().find(|position| used.binary_search(position).is_err());
        let lists = self.alike.iter().enumerate().filter(|(number, _)| !come_to.contains(number)).map(|(_, alike)| alike);
        lists.filter_map(one).map(|position| self.accounts[position].name.as_str())
    }

    /// Returns any account that somebody does not use.
    fn another(&self, used: &[usize]) -> Option<&str> {
        (0..self.accounts.len())
            .find(|position| used.binary_search(position).is_err())
            .map(|position| self.accounts[position].name.as_str())
    }

    /// Returns the accounts that somebody uses, and of which accounts that are alike they came to one, to use it or to have something run
    /// as it.
    fn at_hand(&self, engine: &Engine, facts: &[Fact], user: &str) -> AtHand {
        let (mut uses, mut defines): (FxHashSet<usize>, FxHashSet<usize>) = Default::default();
        let list_of = |account: &str| self.by_name.get(account).map(|&position| self.alike_of[position]);
        for fact in facts {
            match fact {
                Fact::Uses { user: by, account, .. } if by == user => uses.extend(list_of(account)),
                Fact::Defines { user: by, account, .. } if by == user => defines.extend(list_of(account)),
                _ => {}
            }
        }
        defines.extend(&uses);
        AtHand { used: self.accounts_of(engine, facts, user), uses, defines }
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

    /// Returns those of some things that can be so at once, as an account would have them, and whether it has all of them that it could: of
    /// PostgreSQL no role may be a member of itself, by way of others either.
    pub(super) fn at_once(&self, facts: &[Fact], first: &str, others: Others) -> (Vec<Fact>, bool) {
        let joined = self.joined(facts);
        let at_once = self.strong.at_once(&joined, first, others);
        let mut is_chosen = at_once.is_chosen.iter();
        let is_kept = |fact: &&Fact| match self.rules(fact) {
            Some(account) => others == Others::AsWell || self.strong.comes_to(first, account, &at_once.so),
            None => self.joins(fact).is_none() || is_chosen.next().is_some_and(|is_chosen| *is_chosen),
        };
        (facts.iter().filter(is_kept).cloned().collect(), at_once.is_whole)
    }

    /// Returns the memberships among some things that could exclude others: on MariaDB, where only accounts come to roles, none.
    pub(super) fn joined<'f>(&self, facts: &'f [Fact]) -> Vec<(&'f str, &'f str)> {
        facts.iter().filter_map(|fact| self.joins(fact)).collect()
    }

    fn joins<'f>(&self, fact: &'f Fact) -> Option<(&'f str, &'f str)> {
        match fact {
            Fact::Holds { system, account, role } if *system == self.system && self.kind == Kind::POSTGRESQL => Some((account, role)),
            _ => None,
        }
    }

    /// Returns who is a superuser of PostgreSQL by something.
    fn rules<'f>(&self, fact: &'f Fact) -> Option<&'f str> {
        match fact {
            Fact::Rules { system, account } if *system == self.system && self.kind == Kind::POSTGRESQL => Some(account),
            _ => None,
        }
    }

    /// Returns whether anything that is no use to an account keeps something from it: a membership by which a role would come back to
    /// itself, or that somebody else has become a superuser, whom only superusers touch.
    fn is_barred(&self, facts: &[Fact], account: &str, so: &So<'_>) -> bool {
        let is_no_use = |role: &str| !self.strong.comes_to(account, role, so);
        let is_barred = |fact: &Fact| {
            let joins = self.joins(fact).is_some_and(|(member, role)| is_no_use(member) && self.strong.comes_to(role, account, so));
            joins || self.rules(fact).is_some_and(is_no_use)
        };
        facts.iter().any(is_barred)
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
        self.by_name.get(account).map_or(0, |&position| self.alike[self.alike_of[position]].len() - 1)
    }

    /// Returns whether nothing that is come to there takes anything away: what narrows what others may see is for some roles alone.
    pub(super) fn only_adds(&self) -> bool {
        let policies = self.parts.iter().flat_map(|part| &part.objects).flat_map(|object| object.policies.iter().flatten());
        !policies.into_iter().any(|policy| policy.restrictive.as_ref().is_some_and(|is_on| is_on.value))
    }
}

/// A ledger, whether all that is asked about is so in it, and how one is made in which less is.
pub(super) struct Here<'l> {
    pub(super) engine: &'l Engine,
    pub(super) is_whole: bool,
    pub(super) make: &'l dyn Fn(&[Fact]) -> Option<Arc<Engine>>,
}

/// Finds what somebody may do by statements that gives more, where some things are so. Each account is asked where all is so that it could
/// have of them, and nothing that keeps something from it: whose member others are is no loss to it.
pub(super) fn passed_on(here: &Here<'_>, server: &Server, facts: &[Fact], person: &Person, found: &mut Found) {
    let at_hand = server.at_hand(here.engine, facts, &person.user);
    let (so, known): (So<'_>, FxHashSet<&Fact>) = (So::of(facts), facts.iter().collect());
    let mut held = HeldAs::default();
    let is_strong = |account: &&Known| server.strong.includes(&account.name, &so);
    for account in at_hand.used.iter().map(|&position| &server.accounts[position]).filter(is_strong) {
        if here.is_whole && !server.is_barred(facts, &account.name, &so) {
            let roles = server.strong.roles_of(&account.name, &so, &mut held);
            passed_on_as(here.engine, (server, &at_hand), (account, &roles), (&known, person), found);
            continue;
        }
        let (own, is_all) = server.at_once(facts, &account.name, Others::LeftOut);
        let engine = (here.make)(&own);
        if !is_all || engine.is_none() {
            found.unknown.push(exclude_each_other(&server.system, &account.name));
        }
        if let Some(engine) = engine {
            let so = So::of(&own);
            let roles = server.strong.roles_of(&account.name, &so, &mut HeldAs::default());
            passed_on_as(&engine, (server, &at_hand), (account, &roles), (&known, person), found);
        }
    }
}

/// Says that an account could be a member of roles, but not of all of them.
fn exclude_each_other(system: &str, account: &str) -> String {
    let (account, system) = (visible(account), visible(system));
    format!("not looked at in every order: memberships on {system} that account `{account}` could come to exclude each other")
}

/// Finds what somebody may do as an account, with any of some roles active, that gives what is not known to be so.
fn passed_on_as(
    engine: &Engine,
    (server, at_hand): (&Server, &AtHand),
    (account, roles): (&Known, &[&str]),
    (known, person): (&FxHashSet<&Fact>, &Person),
    found: &mut Found,
) {
    let (mut statements, tried_before) = (0, found.tries);
    for (statement, gives) in acts_of(server, account, at_hand, &person.user) {
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
fn acts_of<'s>(
    server: &'s Server,
    account: &'s Known,
    at_hand: &'s AtHand,
    user: &'s str,
) -> Box<dyn Iterator<Item = (String, Gives)> + 's> {
    let (system, name) = (server.system.as_str(), account.name.as_str());
    let roles = server.roles.iter().map(String::as_str);
    let AtHand { used, uses: come_to, defines: run_as } = at_hand;
    let others = move || server.others(used, come_to);
    let holds = move |role: &str| Fact::Holds { system: system.to_owned(), account: name.to_owned(), role: role.to_owned() };
    let uses = move |other: &str| Fact::Uses { user: user.to_owned(), system: system.to_owned(), account: other.to_owned() };
    let rules = move || Fact::Rules { system: system.to_owned(), account: name.to_owned() };
    let is_new = move |role: &&str| !server.strong.is_member(name, role);
    let surely = |(statement, fact)| (statement, Gives::Surely(fact));
    match server.kind {
        Kind::POSTGRESQL => {
            let own = identifier(name, '"');
            // Accounts are roles as well, those that somebody uses too: what two of them hold is held at once then. So are those that come
            // with the server.
            let mine = used.iter().map(|&position| server.accounts[position].name.as_str()).filter(move |other| *other != name);
            let joins = roles.chain(others()).chain(mine).chain(PREDEFINED).filter(is_new);
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
                server.others(used, run_as).flat_map(move |other| {
                    let needs = |right: &str| Gives::AsDefiner(defines(other), format!("{right} on database {database}"));
                    made_for(database, &of(other)).into_iter().zip([needs("execute"), needs("event")])
                })
            });
            // Whoever may make something for an account, may for any role.
            let for_roles = databases().filter(|_| !server.roles.is_empty()).flat_map(move |database| {
                let made = server.another(used).into_iter().flat_map(move |other| made_for(database, &of(other)));
                made.map(|statement| (statement, Gives::NotFollowed("routines and events that run as roles")))
            });
            // These do a part of what others may: show rows, or change them when somebody writes. Who may say as whom may say anybody.
            let along = server.another(used).into_iter().map(of).flat_map(move |by| {
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
