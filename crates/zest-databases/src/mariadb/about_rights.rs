//! Statements about accounts, roles, passwords and what they hold, and what the server checks for them (`sql_parse.cc`, `sql_acl.cc` of
//! version 10.11).
//!
//! The parser of SQL reads few of their forms, so they have a grammar of their own over its words. A text that is none of them, or goes
//! on in a way that is not known here, is left to that parser.

use sqlparser::tokenizer::Token;

use super::name::{AccountName, Class, ObjectName, Scope, is_barred_as_role};
use super::need::Need;
use super::privilege::{Level, Privilege, Privileges};
use super::state::State;
use crate::database::Needs;
use crate::database::not_modelled::looked_at_on_server;
use crate::sql::{Dialect, Words};

/// An account or role as a statement names it.
#[derive(Debug)]
pub(super) enum Named {
    /// A login and its origin, if one is written: without, it may be a role.
    Account(String, Option<String>),
    CurrentAccount,
    CurrentRole,
}

impl Named {
    /// Returns the account that is named, which may be none that is there.
    pub(super) fn account(&self) -> Option<AccountName> {
        match self {
            Self::Account(user, host) => Some(AccountName::new(user, host.as_deref().unwrap_or("%"))),
            Self::CurrentAccount | Self::CurrentRole => None,
        }
    }

    /// Returns the role that is named: one that is there, without an origin.
    pub(super) fn role(&self, state: &State) -> Option<&str> {
        match self {
            Self::Account(name, None) if state.roles.contains(name) => Some(name),
            Self::Account(..) | Self::CurrentAccount | Self::CurrentRole => None,
        }
    }

    fn is_everybody(&self) -> bool {
        matches!(self, Self::Account(name, None) if name.eq_ignore_ascii_case("public"))
    }

    /// Returns the name of what is not there.
    fn unknown(&self, state: &State) -> Option<&str> {
        let Self::Account(name, _) = self else { return None };
        let is_known = self.is_everybody() || self.role(state).is_some() || self.account().is_some_and(|a| state.accounts.contains_key(&a));
        (!is_known).then_some(name)
    }
}

/// Whom something is granted to; nobody where it is taken back, since nothing is checked of them then.
#[derive(Debug)]
struct Grantees {
    listed: Vec<Grantee>,
    /// A requirement or limits stand behind them, which change each account.
    are_changed: bool,
}

#[derive(Debug)]
struct Grantee {
    named: Named,
    /// A credential is set along.
    is_identified: bool,
}

impl Grantees {
    /// Reads who is listed behind `TO` or `FROM`, and behind `TO` also what else a grant sets.
    fn read(words: &mut Words, is_grant: bool) -> Option<Self> {
        if !is_grant {
            words.takes("from").then(|| accounts(words))??;
            return Some(Self { listed: Vec::new(), are_changed: false });
        }
        words.takes("to").then_some(())?;
        let listed = words.list(|words| Some(Grantee { named: named(words)?, is_identified: is_identified(words)? }))?;
        let mut are_changed = false;
        if words.takes("require") {
            are_changed = true;
            if !words.takes("none") {
                requirement(words)?;
                while !words.is_over() && !words.is("with") {
                    words.takes("and");
                    requirement(words)?;
                }
            }
        }
        if words.takes("with") {
            loop {
                if !words.takes_both("grant", "option") {
                    (words.takes_any(&LIMITS) && words.takes_number()).then_some(())?;
                    are_changed = true;
                }
                if words.is_over() {
                    break;
                }
            }
        }
        Some(Self { listed, are_changed })
    }

    /// What the server checks for the accounts themselves: a credential, requirement or limits of another account are a change of it, and
    /// an account that is not there is made along with its credential.
    fn checks(self, state: &State, list: &mut Vec<Need>, undecided: &mut Vec<String>) {
        let Self { listed, are_changed } = self;
        for Grantee { named, is_identified } in listed {
            let is_changed = is_identified || are_changed;
            let role = match &named {
                Named::Account(name, _) if named.is_everybody() || named.role(state).is_some() => Some(name),
                Named::Account(..) | Named::CurrentAccount | Named::CurrentRole => None,
            };
            match (named.unknown(state), role) {
                (Some(_), _) if is_identified => {
                    let privileges = Privilege::Insert.only();
                    list.push(Need::Accounts { own: None, role: None, privileges, or_makes_accounts: true });
                }
                (Some(name), _) => undecided.push(format!("no account or role is named `{name}`, and whether one is made")),
                (None, Some(role)) if is_changed => {
                    undecided.push(format!("what a credential, a requirement or a limit of role `{role}` is"));
                }
                (None, None) if is_changed => {
                    undecided.extend(nameless(state));
                    list.extend(named.account().map(changed));
                }
                (None, _) => {}
            }
        }
    }
}

/// What is checked where an account is changed that may be another's.
fn changed(own: AccountName) -> Need {
    Need::Accounts { own: Some(own), role: None, privileges: Privilege::Update.only(), or_makes_accounts: false }
}

#[derive(Debug)]
enum About {
    /// Accounts or roles are made, dropped, changed or renamed, or lose all they hold.
    Accounts {
        privileges: &'static [Privilege],
        /// A role is made in the care of a named account.
        cares: bool,
    },
    Password(Named),
    DefaultRole {
        role: Option<String>,
        of: Named,
    },
    Shown(Named),
    /// The option to pass on is taken back.
    Option(Scope),
    /// A grant on tables, databases or everything, or its revocation; nothing stands for all privileges.
    On {
        scope: Scope,
        level: Level,
        privileges: Option<Privileges>,
        columns: Vec<String>,
        grantees: Grantees,
    },
    Proxy(Named),
    /// Roles are granted to accounts and roles, or taken back.
    Membership {
        roles: Vec<String>,
        members: Vec<Named>,
        is_grant: bool,
    },
    /// A grant on a routine, or its revocation.
    Routine {
        object: ObjectName,
        privileges: Option<Vec<Privilege>>,
        grantees: Grantees,
    },
}

/// Limits of an account that a grant may set.
const LIMITS: [&str; 5] =
    ["max_queries_per_hour", "max_updates_per_hour", "max_connections_per_hour", "max_user_connections", "max_statement_time"];

const BEGINS: &[&str] = &["create", "grant", "drop", "alter", "rename", "set", "show", "revoke"];

/// Returns the checks for a statement, if it is one about accounts and rights.
pub(crate) fn needs(state: &State, text: &str) -> Option<Needs<Need>> {
    let mut words = Words::of(Dialect::Mariadb, BEGINS, text)?;
    let about = statement(&mut words)?;
    if !words.is_over() {
        return None;
    }
    let (mut list, mut undecided) = (Vec::new(), Vec::new());
    let any = |list: &[Privilege]| list.iter().copied().collect::<Privileges>();
    match about {
        About::Accounts { privileges, cares } => {
            if cares {
                undecided.push("whether that is the own account, or who may name another as the one that passes a role on".to_owned());
            }
            list.push(Need::Accounts { own: None, role: None, privileges: any(privileges), or_makes_accounts: true });
        }
        About::Password(of) => {
            undecided.extend(nameless(state));
            list.extend(of.account().map(changed));
        }
        About::DefaultRole { role, of } => {
            undecided.extend(nameless(state));
            match (of.account().map(changed), role) {
                (None, role) => list.extend(role.map(|role| Need::Activate { role })),
                (Some(need), role) => {
                    let account = match &need {
                        Need::Accounts { own: Some(account), .. } => account.clone(),
                        _ => return None,
                    };
                    list.push(need);
                    list.extend(role.map(|role| Need::HoldsRole { account, role }));
                }
            }
        }
        // What everybody holds, everybody may see.
        About::Shown(of) if of.is_everybody() => {}
        About::Shown(of) => {
            let role = of.role(state).map(str::to_owned);
            let own = if role.is_some() { None } else { of.account() };
            if own.is_some() || role.is_some() {
                list.push(Need::Accounts { own, role, privileges: Privilege::Select.only(), or_makes_accounts: false });
            }
        }
        About::Routine { object, privileges, grantees } => {
            let privileges = privileges.map_or_else(|| any(&[Privilege::Execute, Privilege::AlterRoutine]), |list| any(&list));
            if !state.objects.contains_key(&object) {
                undecided.push(format!("`{object}` is not in the inventory"));
            }
            list.push(Need::PassOn { scope: Scope::of(&object), privileges, columns: Vec::new() });
            grantees.checks(state, &mut list, &mut undecided);
        }
        About::On { scope, level, privileges, columns, grantees } => {
            let all = level.applicable().without(Privilege::GrantOption.only());
            list.push(Need::PassOn { scope, privileges: privileges.unwrap_or(all), columns });
            grantees.checks(state, &mut list, &mut undecided);
        }
        About::Proxy(of) => list.extend(of.account().map(|of| Need::Proxy { of, to_pass_on: true })),
        About::Membership { roles, members, is_grant } => {
            for role in roles {
                list.push(Need::Admin { role: role.clone() });
                let of_roles = members.iter().filter(|_| is_grant).filter_map(|member| match member {
                    Named::CurrentRole => Some(None),
                    Named::Account(..) | Named::CurrentAccount => member.role(state).map(|name| Some(name.to_owned())),
                });
                list.extend(of_roles.map(|member| Need::Membership { role: role.clone(), member }));
            }
            let unknown = members.iter().filter_map(|member| member.unknown(state));
            undecided.extend(unknown.map(|name| format!("no account or role is named `{name}`")));
        }
        About::Option(scope) => list.push(Need::PassOn { scope, privileges: Privileges::NONE, columns: Vec::new() }),
    }
    undecided.extend(looked_at_on_server(&state.not_modelled, "", text, true));
    Some(Needs { list, begins: Vec::new(), undecided, notes: Vec::new() })
}

/// Whoever signed in by an account without a name changes nothing of it.
fn nameless(state: &State) -> Option<String> {
    let is_there = state.accounts.keys().any(|account| account.user.is_empty());
    is_there.then(|| "whether the session is of an account without a name, which changes nothing of itself".to_owned())
}

fn statement(words: &mut Words) -> Option<About> {
    if words.takes("create") {
        let replaces = words.takes_both("or", "replace");
        let is_role = words.takes("role");
        if !is_role && !words.takes("user") {
            return None;
        }
        if words.takes("if") && !words.takes_both("not", "exists") {
            return None;
        }
        let inserts: &'static [Privilege] = if replaces { &[Privilege::Insert, Privilege::Delete] } else { &[Privilege::Insert] };
        if is_role {
            let is_one = |role: &Named| matches!(role, Named::Account(name, _) if !is_barred_as_role(name));
            words.list(named)?.iter().all(is_one).then_some(())?;
            let cares = words.takes_both("with", "admin") && matches!(named(words)?, Named::Account(..));
            return Some(About::Accounts { privileges: inserts, cares });
        }
        named(words)?;
        return (words.is_over() || words.takes_rest()).then_some(About::Accounts { privileges: inserts, cares: false });
    }
    if words.takes("drop") {
        if !words.takes_any(&["user", "role"]) || words.takes("if") && !words.takes("exists") {
            return None;
        }
        accounts(words)?;
        return Some(About::Accounts { privileges: &[Privilege::Delete], cares: false });
    }
    if words.takes("alter") {
        if !words.takes("user") || words.takes("if") && !words.takes("exists") {
            return None;
        }
        named(words)?;
        return words.takes_rest().then_some(About::Accounts { privileges: &[Privilege::Update], cares: false });
    }
    if words.takes("rename") {
        if !words.takes("user") {
            return None;
        }
        words.list(|words| {
            named(words)?;
            words.takes("to").then(|| named(words))?
        })?;
        return Some(About::Accounts { privileges: &[Privilege::Update], cares: false });
    }
    if words.takes("set") {
        if words.takes("password") {
            let of = if words.takes("for") { named(words)? } else { Named::CurrentAccount };
            return (words.takes_token(&Token::Eq) && words.takes_rest()).then_some(About::Password(of));
        }
        if !words.takes_both("default", "role") {
            return None;
        }
        let role = if words.takes("none") { None } else { Some(words.name()?) };
        let of = if words.takes("for") { named(words)? } else { Named::CurrentAccount };
        return Some(About::DefaultRole { role, of });
    }
    if words.takes("show") {
        let is_account = words.takes_both("create", "user");
        if !is_account && !words.takes("grants") {
            return None;
        }
        let is_named = if is_account { !words.is_over() } else { words.takes("for") };
        return Some(About::Shown(if is_named { named(words)? } else { Named::CurrentAccount }));
    }
    let is_grant = words.takes("grant");
    if !is_grant && !words.takes("revoke") {
        return None;
    }
    let begin = words.place();
    if let Some(routine) = on_routine(words, is_grant) {
        return Some(routine);
    }
    words.go_to(begin);
    if words.takes("proxy") {
        let of = words.takes("on").then(|| named(words))??;
        words.takes(if is_grant { "to" } else { "from" }).then(|| accounts(words))??;
        if is_grant && words.takes("with") {
            words.takes_both("grant", "option").then_some(())?;
        }
        return Some(About::Proxy(of));
    }
    if let Some(grant) = on_objects(words, is_grant) {
        return Some(grant);
    }
    words.go_to(begin);
    if let Some(membership) = membership(words, is_grant) {
        return Some(membership);
    }
    words.go_to(begin);
    if is_grant {
        return None;
    }
    if words.takes("all") {
        words.takes("privileges");
        let takes_option = words.takes_token(&Token::Comma) && words.takes_both("grant", "option");
        (takes_option && words.takes("from")).then(|| accounts(words))??;
        return Some(About::Accounts { privileges: &[Privilege::Update], cares: false });
    }
    if !words.takes_both("grant", "option") || !words.takes("on") {
        return None;
    }
    let scope = if words.takes_token(&Token::Mul) {
        (words.takes_token(&Token::Period) && words.takes_token(&Token::Mul)).then_some(Scope::Everything)?
    } else {
        let database = words.name()?;
        if !words.takes_token(&Token::Period) {
            return None;
        }
        if words.takes_token(&Token::Mul) { Scope::Databases(database) } else { Scope::Table(database, words.name()?) }
    };
    words.takes("from").then(|| accounts(words))??;
    Some(About::Option(scope))
}

/// Reads whom roles are granted to, or taken back from.
fn membership(words: &mut Words, is_grant: bool) -> Option<About> {
    if !is_grant && words.takes_both("admin", "option") && !words.takes("for") {
        return None;
    }
    let roles = words.list(Words::name)?;
    let members = words.takes(if is_grant { "to" } else { "from" }).then(|| accounts(words))??;
    if is_grant && words.takes("with") && !words.takes_both("admin", "option") {
        return None;
    }
    words.is_over().then_some(About::Membership { roles, members, is_grant })
}

/// Reads a grant on a routine: the parser of SQL reads those on tables.
fn on_routine(words: &mut Words, is_grant: bool) -> Option<About> {
    let mut privileges = None;
    if words.takes("all") {
        words.takes("privileges");
    } else {
        privileges = Some(words.list(|words| {
            if words.takes("execute") {
                return Some(Privilege::Execute);
            }
            words.takes_both("alter", "routine").then_some(Privilege::AlterRoutine)
        })?);
    }
    let class = match () {
        () if !words.takes("on") => return None,
        () if words.takes("procedure") => Class::Procedure,
        () if words.takes("function") => Class::Function,
        () => return None,
    };
    let database = words.name()?;
    let name = words.takes_token(&Token::Period).then(|| words.name())??;
    let grantees = Grantees::read(words, is_grant)?;
    Some(About::Routine { object: ObjectName::new(class, &database, &name), privileges, grantees })
}

/// Reads a grant on tables, databases or everything.
fn on_objects(words: &mut Words, is_grant: bool) -> Option<About> {
    let (mut privileges, mut columns) = (Privileges::NONE, Vec::new());
    let is_all = words.takes("all");
    if is_all {
        words.takes("privileges");
    } else {
        let listed = words.list(|words| {
            let mut word = words.word()?;
            while !words.is("on") {
                let Some(more) = words.word() else { break };
                word = format!("{word} {more}");
            }
            let mut columns = Vec::new();
            if words.takes_token(&Token::LParen) {
                columns = words.list(Words::name)?;
                words.takes_token(&Token::RParen).then_some(())?;
            }
            let privilege = match word.as_str() {
                "usage" => Privileges::NONE,
                "replication client" => Privilege::BinlogMonitor.only(),
                "replication replica" => Privilege::ReplicationSlave.only(),
                "replica monitor" => Privilege::SlaveMonitor.only(),
                "replication replica admin" => Privilege::ReplicationSlaveAdmin.only(),
                word => Privilege::from_word(word)?.only(),
            };
            Some((privilege, columns))
        })?;
        for (privilege, named) in listed {
            privileges = privileges.or(privilege);
            columns.extend(named);
        }
    }
    words.takes("on").then_some(())?;
    words.takes("table");
    let (scope, level) = if words.takes_token(&Token::Mul) {
        (words.takes_token(&Token::Period) && words.takes_token(&Token::Mul)).then_some((Scope::Everything, Level::Global))?
    } else {
        let database = words.name()?;
        words.takes_token(&Token::Period).then_some(())?;
        if words.takes_token(&Token::Mul) {
            (Scope::Databases(database), Level::Database)
        } else {
            (Scope::Table(database, words.name()?), Level::Table)
        }
    };
    let grantees = Grantees::read(words, is_grant)?;
    Some(About::On { scope, level, privileges: (!is_all).then_some(privileges), columns, grantees })
}

/// Reads a credential behind an account, if one is set there.
fn is_identified(words: &mut Words) -> Option<bool> {
    if !words.takes("identified") {
        return Some(false);
    }
    if words.takes("by") {
        words.takes("password");
        return words.takes_text().then_some(true);
    }
    words.takes_any(&["via", "with"]).then_some(())?;
    loop {
        words.name()?;
        if words.takes_any(&["using", "as"]) {
            let is_plain = words.takes("password") && words.takes_token(&Token::LParen);
            words.takes_text().then_some(())?;
            (!is_plain || words.takes_token(&Token::RParen)).then_some(())?;
        }
        if !words.takes("or") {
            return Some(true);
        }
    }
}

/// Reads one requirement of encryption.
fn requirement(words: &mut Words) -> Option<()> {
    let is_one = words.takes_any(&["ssl", "x509"]) || words.takes_any(&["cipher", "issuer", "subject"]) && words.takes_text();
    is_one.then_some(())
}

fn accounts(words: &mut Words) -> Option<Vec<Named>> {
    words.list(named)
}

/// Reads an account or role. What the parser of SQL takes for one word may hold the sign between login and origin.
pub(super) fn named(words: &mut Words) -> Option<Named> {
    for (word, named) in [("current_user", Named::CurrentAccount), ("current_role", Named::CurrentRole)] {
        if words.takes(word) {
            if words.takes_token(&Token::LParen) && !words.takes_token(&Token::RParen) {
                return None;
            }
            return Some(named);
        }
    }
    if let Some(word) = words.takes_sign_word() {
        let (user, host) = word.split_once('@')?;
        if user.is_empty() || host.contains('@') {
            return None;
        }
        let host = if host.is_empty() { words.name()? } else { host.to_owned() };
        return Some(Named::Account(user.to_owned(), Some(host)));
    }
    let user = words.name()?;
    let Some(sign) = words.takes_sign_word() else { return Some(Named::Account(user, None)) };
    let host = sign.strip_prefix('@')?;
    if host.contains('@') {
        return None;
    }
    let host = if host.is_empty() { words.name()? } else { host.to_owned() };
    Some(Named::Account(user, Some(host)))
}
