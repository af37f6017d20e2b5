//! What the server checks for an action, one by one, and what a session's view says to each.

use super::name::{AccountName, Class, Holder, ObjectName, Scope};
use super::privilege::{Level, Privilege, Privileges};
use super::state::{Held, Source, State, View};
use super::written::Taken;
use crate::database::{On, Outcome};
use zest_model::ask::Refusal;
use zest_model::source::{Place, visible};

/// The database in which the server keeps its accounts.
const ACCOUNTS: &str = "mysql";

/// As whom the server checks.
#[derive(Clone, Debug, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub(crate) enum As {
    /// The session, with its active role.
    Caller,
    /// The definer of a routine that the session runs: where it is the session's own account, the session goes on with its role.
    Own(AccountName),
    /// A definer, without any role.
    Definer(AccountName),
}

impl As {
    /// As whom a routine runs that one runs.
    pub(crate) fn runs(&self, definer: AccountName) -> Self {
        match self {
            Self::Caller => Self::Own(definer),
            Self::Own(now) if *now == definer => self.clone(),
            Self::Own(_) | Self::Definer(_) => Self::Definer(definer),
        }
    }

    fn account(&self) -> Option<&AccountName> {
        match self {
            Self::Caller => None,
            Self::Own(account) | Self::Definer(account) => Some(account),
        }
    }
}

/// One check of the server.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(crate) enum Need {
    /// A privilege on a table or view; in the name of a definer if one is given.
    Table { by: As, object: ObjectName, privilege: Privilege, on: On },
    /// One of these privileges on a database.
    Database { database: String, any: Privileges },
    /// One of these privileges on everything.
    Global { any: Privileges },
    /// A privilege on a routine.
    Routine { by: As, object: ObjectName, privilege: Privilege },
    /// Privileges with the option to pass them on.
    PassOn { scope: Scope, privileges: Privileges, columns: Vec<String> },
    /// To make a role active.
    Activate { role: String },
    /// To pass on the membership of a role.
    Admin { role: String },
    /// That the server lets a role, or the one that is active, be granted a role at all; whoever asks.
    Membership { role: String, member: Option<String> },
    /// To change or see accounts: these privileges on the database `mysql`, or `create-user` on everything where that does as well; nothing
    /// for the own account, and for the role that is active.
    Accounts { own: Option<AccountName>, role: Option<String>, privileges: Privileges, or_makes_accounts: bool },
    /// To open a database: as one's default database, or as that of a routine while it runs.
    Open { by: As, database: String },
    /// To have the tables of a database listed.
    Listed { database: String },
    /// Anything on a table or view.
    AnyOn { object: ObjectName, held: Any },
    /// To show columns of tables in a view that is made: of each, a right on rows; one for any of them where none is shown.
    Shown { tables: Vec<(ObjectName, On)> },
    /// A privilege on a table of the server's own.
    OwnTable { database: String, name: String, privilege: Privilege },
    /// To make something in an account's name.
    Definer { account: AccountName },
    /// To sign in and be an account, or to let others do so.
    Proxy { of: AccountName, to_pass_on: bool },
    /// That an account was granted a role.
    HoldsRole { account: AccountName, role: String },
    /// A check in a session whose active role is another one by then.
    InRole { role: Option<String>, need: Box<Self> },
    /// A check that a view or routine makes in another name than the caller's.
    InName { by: As, need: Box<Self> },
    /// A check that the server makes only if it comes to it: in a trigger or routine, behind a condition, or where there is such a row.
    Perhaps { of: String, need: Box<Self> },
}

/// Which of what is held on a table will do, whatever right it is.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) enum Any {
    /// On it, on its database or on everything.
    Table,
    /// The same, or on one of its columns.
    TableOrColumn,
    /// On itself or one of its columns; of what is held on its database or on everything, only to read.
    Row,
    /// A right on rows, or to refer to it, on all of it: what a key of another table that points to it needs.
    Referred,
}

impl Need {
    /// Returns the check as it is made in a name; nothing where it is not known how the server makes it in another name than the caller's.
    pub(crate) fn in_name_of(self, by: &As) -> Option<Self> {
        match self {
            _ if *by == As::Caller => Some(self),
            // These say themselves in whose name they are made.
            Self::Table { .. } | Self::Routine { .. } | Self::Open { .. } | Self::InName { .. } => Some(self),
            Self::Database { .. }
            | Self::Global { .. }
            | Self::Listed { .. }
            | Self::AnyOn { .. }
            | Self::Shown { .. }
            | Self::OwnTable { .. }
            | Self::Definer { .. } => Some(Self::InName { by: by.clone(), need: Box::new(self) }),
            Self::Perhaps { of, need } => need.in_name_of(by).map(|need| need.if_come_to(&of)),
            // Who somebody is, and which roles there are to be made active, is another matter in a routine.
            Self::PassOn { .. }
            | Self::Activate { .. }
            | Self::Admin { .. }
            | Self::Membership { .. }
            | Self::Accounts { .. }
            | Self::Proxy { .. }
            | Self::HoldsRole { .. }
            | Self::InRole { .. } => None,
        }
    }

    /// Returns the check as one that the server may come to or not.
    pub(crate) fn if_come_to(self, of: &str) -> Self {
        match self {
            Self::Perhaps { .. } => self,
            other => Self::Perhaps { of: of.to_owned(), need: Box::new(other) },
        }
    }

    /// Returns the check itself, whether the server is sure to come to it or not.
    pub(crate) fn itself(&self) -> &Self {
        match self {
            Self::Perhaps { need, .. } => need,
            other => other,
        }
    }

    /// Returns what it is about, as a ledger writes it.
    pub(crate) fn about(&self) -> Option<String> {
        match self {
            Self::Table { object, .. } | Self::Routine { object, .. } | Self::AnyOn { object, .. } => Some(object.to_string()),
            Self::OwnTable { database, name, .. } => Some(ObjectName::new(Class::Table, database, name).to_string()),
            Self::Database { database, .. } | Self::Open { database, .. } | Self::Listed { database } => {
                Some(Scope::database(database).to_string())
            }
            Self::PassOn { scope, .. } => Some(scope.to_string()),
            Self::Accounts { .. } => Some(Scope::database(ACCOUNTS).to_string()),
            Self::Global { .. } => Some(Scope::Everything.to_string()),
            Self::InRole { need, .. } | Self::InName { need, .. } | Self::Perhaps { need, .. } => need.about(),
            Self::Shown { tables } => tables.first().map(|(object, _)| object.to_string()),
            Self::Activate { .. }
            | Self::Admin { .. }
            | Self::Membership { .. }
            | Self::Definer { .. }
            | Self::Proxy { .. }
            | Self::HoldsRole { .. } => None,
        }
    }

    /// Tells the other ways by which a privilege is held, besides the one that the outcome tells.
    pub(crate) fn also(&self, session: &View<'_>) -> Vec<String> {
        let (privilege, grounds) = match self {
            Self::Table { by: As::Caller, object, privilege, .. } => (*privilege, session.table(&object.database, &object.name).1),
            Self::Routine { by: As::Caller, object, privilege } => (*privilege, session.routine(&Scope::of(object)).1),
            Self::Database { database, any } => {
                let (global, mut grounds) = session.global();
                let (own, more) = session.database(database);
                grounds.extend(more);
                let Some(privilege) = any.iter().find(|p| global.or(own).contains(*p)) else { return Vec::new() };
                (privilege, grounds)
            }
            Self::InRole { role, need } => return need.also(&session.in_role(role.as_deref())),
            Self::Perhaps { need, .. } => return need.also(session),
            Self::Table { .. }
            | Self::Routine { .. }
            | Self::Global { .. }
            | Self::PassOn { .. }
            | Self::Activate { .. }
            | Self::Admin { .. }
            | Self::Membership { .. }
            | Self::Accounts { .. }
            | Self::Open { .. }
            | Self::Listed { .. }
            | Self::AnyOn { .. }
            | Self::Shown { .. }
            | Self::OwnTable { .. }
            | Self::Definer { .. }
            | Self::Proxy { .. }
            | Self::HoldsRole { .. }
            | Self::InName { .. } => return Vec::new(),
        };
        let who = visible(&session.account().to_string());
        // The narrowest was told.
        let giving: Vec<&(Privileges, Source)> = grounds.iter().filter(|(held, _)| held.contains(privilege)).collect();
        let others = giving.iter().rev().skip(1);
        others.map(|ground| told(std::slice::from_ref(*ground), privilege, &who)).collect()
    }

    /// Finds the last revoke that took a privilege from the account, its active role and those within, or PUBLIC: from whom, and where it
    /// is written.
    pub(crate) fn taken(&self, state: &State, session: &View<'_>, all: &[Taken]) -> Option<(String, Place)> {
        let (scopes, privilege, wanted): (Vec<Scope>, Privilege, &[String]) = match self {
            Self::Table { by: As::Caller, object, privilege, on } => {
                let columns: &[String] = if let On::Columns(columns) = on { columns } else { &[] };
                (vec![Scope::of(object), Scope::database(&object.database), Scope::Everything], *privilege, columns)
            }
            Self::Routine { by: As::Caller, object, privilege } => {
                (vec![Scope::of(object), Scope::database(&object.database), Scope::Everything], *privilege, &[])
            }
            Self::Database { database, any } => (vec![Scope::database(database), Scope::Everything], any.iter().next()?, &[]),
            Self::Global { any } => (vec![Scope::Everything], any.iter().next()?, &[]),
            Self::InRole { role, need } => return need.taken(state, &session.in_role(role.as_deref()), all),
            Self::Perhaps { need, .. } => return need.taken(state, session, all),
            Self::Table { .. }
            | Self::Routine { .. }
            | Self::PassOn { .. }
            | Self::Activate { .. }
            | Self::Admin { .. }
            | Self::Membership { .. }
            | Self::Accounts { .. }
            | Self::Open { .. }
            | Self::Listed { .. }
            | Self::AnyOn { .. }
            | Self::Shown { .. }
            | Self::OwnTable { .. }
            | Self::Definer { .. }
            | Self::Proxy { .. }
            | Self::HoldsRole { .. }
            | Self::InName { .. } => return None,
        };
        let mut holders = vec![Holder::Account(session.account().clone()), Holder::Public];
        if let Some(role) = session.role() {
            holders.extend(state.roles_of(&Holder::Role(role.to_owned())));
            holders.push(Holder::Role(role.to_owned()));
        }
        let is_it = |taken: &&Taken| {
            taken.privileges.contains(privilege)
                && scopes.contains(&taken.scope)
                && holders.contains(&taken.holder)
                && (taken.columns.is_empty() || taken.columns.iter().any(|column| wanted.iter().any(|w| w.eq_ignore_ascii_case(column))))
        };
        let last = all.iter().rev().find(is_it)?;
        let from = match &last.holder {
            Holder::Public => "PUBLIC".to_owned(),
            Holder::Role(_) | Holder::Account(_) => format!("`{}`", visible(&last.holder.to_string())),
        };
        Some((from, last.place))
    }

    /// Decides.
    pub(crate) fn outcome(&self, state: &State, session: &View<'_>) -> Outcome {
        let now = self.outcome_in(state, session);
        // Which database is the default one of a session that was opened earlier is not stated.
        let Some(kept) = session.in_default_database().map(|session| self.outcome_in(state, &session)) else { return now };
        match (self, now.refusal, kept.refusal) {
            // What is held on a database is looked up when it is opened.
            (Self::Open { .. }, ..) | (_, Some(Refusal::NotDecided), _) | (_, None, None) => now,
            (_, _, Some(Refusal::NotDecided)) => kept,
            (_, Some(_), Some(_)) => now,
            (_, None, Some(_)) | (_, Some(_), None) => {
                let text = format!(
                    "it hangs on the default database of the session, of which is kept what was held until it is opened again (`USE`): \
                     if it is that one, {}; if not, {}",
                    kept.text, now.text
                );
                Outcome { refusal: Some(Refusal::NotDecided), text, place: kept.place.or(now.place) }
            }
        }
    }

    fn outcome_in(&self, state: &State, session: &View<'_>) -> Outcome {
        let who = |by: &As| visible(&by.account().unwrap_or_else(|| session.account()).to_string());
        let view_of = |by: &As| match by {
            As::Caller => session.clone(),
            As::Own(account) if account == session.account() => session.clone(),
            As::Own(account) | As::Definer(account) => View::of_definer(state, account),
        };
        let fail = |refusal, text: String| Outcome { refusal: Some(refusal), text, place: None };
        match self {
            Self::Table { by, object, privilege, on } => {
                let (shown, name, word) = (who(by), visible(&object.to_string()), privilege.word());
                if let Some(definer) = by.account().filter(|d| !state.accounts.contains_key(*d)) {
                    return fail(
                        Refusal::NoPrivilege,
                        format!("the definer `{}` of a view is no account of this server", visible(&definer.to_string())),
                    );
                }
                let (found, grounds) = view_of(by).table(&object.database, &object.name);
                let passes = |text: String| Outcome { refusal: None, text, place: ground(&grounds, *privilege).and_then(|s| s.place) };
                if found.privileges.contains(*privilege) {
                    return passes(format!("`{shown}` holds {word} on {name} {}", told(&grounds, *privilege, &shown)));
                }
                let holds = |column: &String| found.columns.iter().any(|(c, p)| c.eq_ignore_ascii_case(column) && p.contains(*privilege));
                let missing: Vec<String> = match on {
                    On::Object => Vec::new(),
                    On::Some if found.columns.values().any(|p| p.contains(*privilege)) => {
                        return passes(format!("`{shown}` holds {word} on some columns of {name} {}", told(&grounds, *privilege, &shown)));
                    }
                    On::Some => Vec::new(),
                    On::Columns(wanted) => {
                        let missing: Vec<String> = wanted.iter().filter(|c| !holds(c)).map(|c| visible(c)).collect();
                        if missing.is_empty() && !wanted.is_empty() {
                            let columns = wanted.iter().map(|c| visible(c)).collect::<Vec<_>>().join(", ");
                            return passes(format!(
                                "`{shown}` holds {word} on {name}, column {columns} {}",
                                told(&grounds, *privilege, &shown)
                            ));
                        }
                        missing
                    }
                };
                let columns =
                    if missing.is_empty() || found.columns.is_empty() { String::new() } else { format!(", column {}", missing.join(", ")) };
                fail(Refusal::NoPrivilege, format!("`{shown}` does not hold {word} on {name}{columns}"))
            }
            Self::Database { database, any } => {
                let (global, mut grounds) = session.global();
                let (own, more) = session.database(database);
                grounds.extend(more);
                let shown = who(&As::Caller);
                let name = visible(&Scope::database(database).to_string());
                match any.iter().find(|p| global.or(own).contains(*p)) {
                    Some(p) => Outcome {
                        refusal: None,
                        text: format!("`{shown}` holds {} on {name} {}", p.word(), told(&grounds, p, &shown)),
                        place: ground(&grounds, p).and_then(|s| s.place),
                    },
                    None => fail(Refusal::NoPrivilege, format!("`{shown}` does not hold {} on {name}", alternatives(*any))),
                }
            }
            Self::Global { any } => {
                let (global, grounds) = session.global();
                let shown = who(&As::Caller);
                match any.iter().find(|p| global.contains(*p)) {
                    Some(p) => Outcome {
                        refusal: None,
                        text: format!("`{shown}` holds {} on everything {}", p.word(), told(&grounds, p, &shown)),
                        place: ground(&grounds, p).and_then(|s| s.place),
                    },
                    None => fail(Refusal::NoPrivilege, format!("`{shown}` does not hold {} on everything", alternatives(*any))),
                }
            }
            Self::Routine { by, object, privilege } => {
                let (shown, name, word) = (who(by), visible(&object.to_string()), privilege.word());
                let (found, grounds) = view_of(by).routine(&Scope::of(object));
                if found.contains(*privilege) {
                    let place = ground(&grounds, *privilege).and_then(|s| s.place);
                    return Outcome {
                        refusal: None,
                        text: format!("`{shown}` holds {word} on {name} {}", told(&grounds, *privilege, &shown)),
                        place,
                    };
                }
                fail(Refusal::NoPrivilege, format!("`{shown}` does not hold {word} on {name}"))
            }
            Self::PassOn { scope, privileges, columns } => {
                let shown = who(&As::Caller);
                let (held, of_columns) = match scope {
                    Scope::Everything | Scope::Proxy(_) => (session.global().0, None),
                    Scope::Databases(pattern) => (session.global().0.or(session.on_pattern(pattern).0), None),
                    Scope::Table(d, n) => {
                        let (found, _) = session.table(d, n);
                        (found.privileges, Some(found.columns))
                    }
                    Scope::Function(..) | Scope::Procedure(..) => (session.routine(scope).0, None),
                };
                let on_columns = |p: Privilege| {
                    !columns.is_empty()
                        && of_columns.as_ref().is_some_and(|m| columns.iter().all(|c| m.get(c).is_some_and(|x| x.contains(p))))
                };
                let lacking: Privileges = privileges.iter().filter(|p| !held.contains(*p) && !on_columns(*p)).collect();
                let name = visible(&scope.to_string());
                if !held.contains(Privilege::GrantOption) {
                    return fail(Refusal::NoGrantOption, format!("`{shown}` does not hold the grant option on {name}"));
                }
                if !lacking.is_empty() {
                    return fail(Refusal::NoGrantOption, format!("`{shown}` does not hold {lacking} on {name}, so cannot pass it on"));
                }
                Outcome { refusal: None, text: format!("`{shown}` holds {privileges} on {name} and may pass it on"), place: None }
            }
            Self::Activate { role } => {
                let account = session.account();
                if session.only_by_public(role) {
                    fail(
                        Refusal::NotDecided,
                        format!("`{}` was granted to PUBLIC only: whether the server makes it active is not known", visible(role)),
                    )
                } else if session.may_activate(role) {
                    Outcome {
                        refusal: None,
                        text: format!("`{}` was granted to `{}`", visible(role), visible(&account.to_string())),
                        place: None,
                    }
                } else {
                    fail(
                        Refusal::RoleNotGranted,
                        format!("`{}` was not granted to `{}` itself", visible(role), visible(&account.to_string())),
                    )
                }
            }
            Self::Admin { role } => {
                let own = Holder::Account(session.account().clone());
                if state.memberships.get(&(own, role.clone())) == Some(&true) {
                    Outcome {
                        refusal: None,
                        text: format!("`{}` may pass on the membership of `{}`", who(&As::Caller), visible(role)),
                        place: None,
                    }
                } else {
                    fail(Refusal::NoAdminOption, format!("`{}` may not pass on the membership of `{}`", who(&As::Caller), visible(role)))
                }
            }
            Self::Membership { role, member } => {
                let Some(member) = member.as_deref().or_else(|| session.role()) else {
                    return fail(Refusal::MembershipBarred, "no role is active, so none can be granted anything".to_owned());
                };
                let (shown, other) = (visible(role), visible(member));
                if state.roles_of(&Holder::Role(role.clone())).contains(&Holder::Role(member.to_owned())) {
                    let why = format!("`{other}` is `{shown}`, or was granted to it: the server lets no role come back to itself");
                    return fail(Refusal::MembershipBarred, why);
                }
                Outcome { refusal: None, text: format!("`{shown}` can be granted to `{other}`"), place: None }
            }
            Self::Accounts { own, role, privileges, or_makes_accounts } => {
                let shown = who(&As::Caller);
                let passes = |text: String, place| Outcome { refusal: None, text, place };
                let account = session.account();
                let is_own = own.as_ref().is_some_and(|own| own.user == account.user && own.host.eq_ignore_ascii_case(&account.host));
                if is_own || role.as_deref().is_some_and(|role| session.role() == Some(role)) {
                    return passes(format!("it is what `{shown}` is itself"), None);
                }
                let (global, mut grounds) = session.global();
                let (held, more) = session.database(ACCOUNTS);
                grounds.extend(more);
                if let (true, Some(first)) = (privileges.iter().all(|p| global.or(held).contains(p)), privileges.iter().next()) {
                    let place = ground(&grounds, first).and_then(|s| s.place);
                    return passes(
                        format!("`{shown}` holds {privileges} on database `{ACCOUNTS}` {}", told(&grounds, first, &shown)),
                        place,
                    );
                }
                if *or_makes_accounts && global.contains(Privilege::CreateUser) {
                    let place = ground(&grounds, Privilege::CreateUser).and_then(|s| s.place);
                    let how = told(&grounds, Privilege::CreateUser, &shown);
                    return passes(format!("`{shown}` holds {} on everything {how}", Privilege::CreateUser.word()), place);
                }
                let other =
                    if *or_makes_accounts { format!(", nor {} on everything", Privilege::CreateUser.word()) } else { String::new() };
                fail(Refusal::NoPrivilege, format!("`{shown}` does not hold {privileges} on database `{ACCOUNTS}`{other}"))
            }
            Self::InRole { role, need } => need.outcome(state, &session.in_role(role.as_deref())),
            Self::Perhaps { of, need } => {
                let Outcome { refusal, text, place } = need.outcome(state, session);
                match refusal {
                    None => Outcome { refusal, text, place },
                    Some(_) => Outcome {
                        refusal: Some(Refusal::NotDecided),
                        text: format!("whether the server comes to this for {}: {text}", visible(of)),
                        place,
                    },
                }
            }
            Self::InName { by, need } => match by.account().filter(|definer| !state.accounts.contains_key(*definer)) {
                Some(definer) => {
                    let text = format!("the definer `{}` is no account of this server", visible(&definer.to_string()));
                    fail(Refusal::NoPrivilege, text)
                }
                None => need.outcome(state, &view_of(by)),
            },
            Self::Listed { database } => {
                let (shown, name) = (who(&As::Caller), visible(&Scope::database(database).to_string()));
                if session.lists_tables(database) {
                    Outcome { refusal: None, text: format!("`{shown}` holds something in {name}"), place: None }
                } else {
                    fail(Refusal::NoPrivilege, format!("`{shown}` holds nothing in {name}, so its tables are not listed"))
                }
            }
            Self::AnyOn { object, held } => {
                let (shown, name) = (who(&As::Caller), visible(&object.to_string()));
                let (found, _) = session.table(&object.database, &object.name);
                let on_columns = found.columns.values().any(|held| *held != Privileges::NONE);
                // What cannot be held on a table itself does not count.
                let on_table =
                    || found.privileges.iter().any(|held| Level::Table.applicable().contains(held) && held != Privilege::GrantOption);
                let (holds, otherwise) = match held {
                    Any::Table => (on_table(), " as a whole"),
                    Any::TableOrColumn => (on_columns || on_table(), ", nor on a column of it"),
                    Any::Row => {
                        let reads = found.privileges.contains(Privilege::Select);
                        (on_columns || reads || !found.own.is_empty(), " itself, nor on a column of it, nor may it read it")
                    }
                    Any::Referred => {
                        let rows = [Privilege::Select, Privilege::Insert, Privilege::Update, Privilege::Delete, Privilege::References];
                        let holds = rows.into_iter().any(|privilege| found.privileges.contains(privilege));
                        (holds, " as a whole by which a key may point to it")
                    }
                };
                if holds {
                    Outcome { refusal: None, text: format!("`{shown}` holds something on {name}"), place: None }
                } else {
                    fail(Refusal::NoPrivilege, format!("`{shown}` holds nothing on {name}{otherwise}"))
                }
            }
            Self::Shown { tables } => {
                let shown = who(&As::Caller);
                let on_rows: Privileges =
                    [Privilege::Select, Privilege::Insert, Privilege::Update, Privilege::Delete].into_iter().collect();
                // What is held on everything that is shown.
                let mut common = on_rows;
                for (object, on) in tables {
                    let (found, _) = session.table(&object.database, &object.name);
                    let name = visible(&object.to_string());
                    let of = |column: &String| {
                        let own = found.columns.iter().find(|(known, _)| known.eq_ignore_ascii_case(column));
                        found.privileges.or(own.map_or(Privileges::NONE, |(_, held)| *held)).and(on_rows)
                    };
                    let columns: &[String] = match on {
                        On::Columns(columns) => columns,
                        On::Object | On::Some => {
                            let any = found.columns.values().fold(found.privileges, |all, held| all.or(*held));
                            if any.and(on_rows).is_empty() {
                                return fail(Refusal::NoPrivilege, format!("`{shown}` holds none of {} on {name}", alternatives(on_rows)));
                            }
                            &[]
                        }
                    };
                    for column in columns {
                        let held = of(column);
                        if held.is_empty() {
                            return fail(
                                Refusal::NoPrivilege,
                                format!("`{shown}` holds none of {} on {name}, column {}", alternatives(on_rows), visible(column)),
                            );
                        }
                        common = common.and(held);
                    }
                }
                if common.is_empty() {
                    let text = "the columns of the view are held by different rights, and the server compares them with those on the view";
                    return fail(Refusal::NotDecided, text.to_owned());
                }
                Outcome { refusal: None, text: format!("`{shown}` may show what it holds rights on rows of in a view"), place: None }
            }
            Self::OwnTable { database, name, privilege } => {
                let (global, mut grounds) = session.global();
                let (own, more) = session.database(database);
                grounds.extend(more);
                let (shown, word) = (who(&As::Caller), privilege.word());
                let table = visible(&ObjectName::new(Class::Table, database, name).to_string());
                if global.or(own).contains(*privilege) {
                    return Outcome {
                        refusal: None,
                        text: format!("`{shown}` holds {word} on {table} {}", told(&grounds, *privilege, &shown)),
                        place: ground(&grounds, *privilege).and_then(|s| s.place),
                    };
                }
                let note = format!("own tables of {database}");
                if state.not_modelled.contains(&note) {
                    return fail(
                        Refusal::NotDecided,
                        format!("the server has grants on single tables of `{database}`, which are not modelled"),
                    );
                }
                fail(Refusal::NoPrivilege, format!("`{shown}` does not hold {word} on {table}"))
            }
            Self::Definer { account } => {
                let shown = who(&As::Caller);
                let own = session.account();
                let named = visible(&account.to_string());
                if own.user == account.user && own.host.eq_ignore_ascii_case(&account.host) {
                    return Outcome { refusal: None, text: format!("`{shown}` is the definer that is named"), place: None };
                }
                let (global, grounds) = session.global();
                match [Privilege::SetUser, Privilege::Super].into_iter().find(|p| global.contains(*p)) {
                    Some(p) => Outcome {
                        refusal: None,
                        text: format!("`{shown}` may name `{named}` as the definer: it holds {} {}", p.word(), told(&grounds, p, &shown)),
                        place: ground(&grounds, p).and_then(|s| s.place),
                    },
                    None => fail(
                        Refusal::NoPrivilege,
                        format!("`{shown}` may not make anything in the name of `{named}`: it holds neither set user nor super"),
                    ),
                }
            }
            Self::Proxy { of, to_pass_on } => {
                let shown = who(&As::Caller);
                let (own, named) = (session.account(), visible(&of.to_string()));
                let is_own = own.user == of.user && own.host.eq_ignore_ascii_case(&of.host);
                let holder = Holder::Account(own.clone());
                let is_it = |scope: &Scope| matches!(scope, Scope::Proxy(account) if account == of || account.user.is_empty() && account.host == "%");
                let is_enough = |held: &Held| !to_pass_on || held.privileges.contains(Privilege::GrantOption);
                let granted = state.held_by(&holder).find(|((_, scope), held)| is_it(scope) && is_enough(held));
                let what = if *to_pass_on { "let others sign in" } else { "sign in" };
                if is_own || granted.is_some() {
                    let place = granted.and_then(|(_, held)| held.place);
                    return Outcome { refusal: None, text: format!("`{shown}` may {what} as `{named}`"), place };
                }
                if own.user == "root" {
                    return fail(
                        Refusal::NotDecided,
                        format!("whether `{shown}` is the account that the server's own set-up lets be anybody"),
                    );
                }
                let refusal = if *to_pass_on { Refusal::NoGrantOption } else { Refusal::NoPrivilege };
                fail(refusal, format!("`{shown}` may not {what} as `{named}`"))
            }
            Self::HoldsRole { account, role } => {
                let named = visible(&account.to_string());
                if state.memberships.contains_key(&(Holder::Account(account.clone()), role.clone())) {
                    Outcome { refusal: None, text: format!("`{}` was granted to `{named}`", visible(role)), place: None }
                } else if state.memberships.contains_key(&(Holder::Public, role.clone())) {
                    fail(
                        Refusal::NotDecided,
                        format!("`{}` was granted to PUBLIC only: whether the server makes it active is not known", visible(role)),
                    )
                } else {
                    fail(Refusal::RoleNotGranted, format!("`{}` was not granted to `{named}`", visible(role)))
                }
            }
            Self::Open { by, database } => {
                if database.eq_ignore_ascii_case("information_schema") {
                    return Outcome { refusal: None, text: "everybody may open `information_schema`".to_owned(), place: None };
                }
                let (shown, name) = (who(by), visible(&Scope::database(database).to_string()));
                if view_of(by).opens_database(database) {
                    Outcome { refusal: None, text: format!("`{shown}` holds something in {name}"), place: None }
                } else {
                    fail(Refusal::NoPrivilege, format!("`{shown}` holds nothing in {name} itself, so it cannot be opened"))
                }
            }
        }
    }
}

fn alternatives(any: Privileges) -> String {
    any.iter().map(Privilege::word).collect::<Vec<_>>().join(" or ")
}

/// The narrowest ground that gives a privilege.
fn ground(grounds: &[(Privileges, Source)], privilege: Privilege) -> Option<&Source> {
    grounds.iter().rev().find(|(p, _)| p.contains(privilege)).map(|(_, s)| s)
}

fn told(grounds: &[(Privileges, Source)], privilege: Privilege, who: &str) -> String {
    let Some(source) = ground(grounds, privilege) else { return "somehow".to_owned() };
    let scope = visible(&source.scope.to_string());
    let kept = if source.is_kept { ", as it was when the session was opened" } else { "" };
    match &source.holder {
        Holder::Public => format!("through PUBLIC, granted on {scope}{kept}"),
        Holder::Role(role) => format!("through `{}`, granted on {scope}{kept}", visible(role)),
        Holder::Account(account) if account.to_string() == who => format!("by its own grant on {scope}{kept}"),
        Holder::Account(account) => {
            format!("by the grant of `{}` on {scope}, whose origin fits as well{kept}", visible(&account.to_string()))
        }
    }
}

/// Returns the class under which an object of two kinds is known.
pub(crate) fn object_in(state: &State, database: &str, name: &str, classes: &[Class]) -> Option<ObjectName> {
    classes.iter().map(|c| ObjectName::new(*c, database, name)).find(|n| state.objects.contains_key(n))
}
