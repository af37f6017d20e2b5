//! What one MariaDB server knows: accounts, roles, memberships, objects, and grants at every level.

use std::collections::{BTreeMap, BTreeSet};
use std::sync::{Arc, OnceLock};

use jiff::Timestamp;
use rustc_hash::FxHashSet;

use super::name::{AccountName, Holder, ObjectName, Scope, covers, matches, rank};
use super::privilege::{Level, Privilege, Privileges};
use super::trigger::Trigger;
use zest_model::source::{Place, visible};

/// An account.
///
/// # Example
/// ```
/// use zest_ledger::mariadb::{AccountName, State};
/// let mut state = State::fresh();
/// let root = state.accounts.get_mut(&AccountName::new("root", "localhost")).expect("a fresh server has it");
/// root.locked = true;
/// assert!(root.default_role.is_none() && !root.expired);
/// ```
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Account {
    /// Whether it is locked.
    pub locked: bool,
    /// Whether its credential must be changed before anything else.
    pub expired: bool,
    /// From when on it must be, which the server counts from its last change.
    pub credential_due: Option<Timestamp>,
    /// The role that is active at sign-in.
    pub default_role: Option<String>,
    /// Limits by the hour (`queries`, `updates`, `connections`) and `sessions` at once.
    pub limits: BTreeMap<String, u32>,
    /// What the server looks at when it signs in and this model only names, such as `requirement ssl`.
    pub not_modelled: BTreeSet<String>,
}

/// What somebody holds on something.
///
/// # Example
/// ```
/// use zest_ledger::mariadb::{Held, Privilege};
/// let held = Held { privileges: Privilege::Select.only(), ..Held::default() };
/// assert!(held.privileges.contains(Privilege::Select) && held.columns.is_empty());
/// ```
#[derive(Clone, Debug, Default)]
pub struct Held {
    /// The privileges; the grant option is one of them.
    pub privileges: Privileges,
    /// Privileges on single columns of a table.
    pub columns: BTreeMap<String, Privileges>,
    /// Where the last grant is written.
    pub place: Option<Place>,
}

impl PartialEq for Held {
    fn eq(&self, other: &Self) -> bool {
        self.privileges == other.privileges && self.columns == other.columns
    }
}
impl Eq for Held {}

impl Held {
    pub(crate) fn is_empty(&self) -> bool {
        self.privileges.is_empty() && self.columns.values().all(|p| p.is_empty())
    }
}

/// An object with as much of its definition as permissions depend on.
///
/// # Example
/// ```
/// use zest_ledger::mariadb::{Class, Object, ObjectName, State};
/// let mut state = State::fresh();
/// let columns = vec![("id".to_owned(), "int".to_owned())];
/// state.objects.insert(ObjectName::new(Class::Table, "loyalty", "member"), Object { columns, ..Object::default() });
/// assert_eq!(state.objects[&ObjectName::new(Class::Table, "loyalty", "member")].columns[0].0, "id");
/// ```
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Object {
    /// The definer of a view or routine.
    pub definer: Option<AccountName>,
    /// Whether it runs with the definer's rights.
    pub runs_as_owner: bool,
    /// Columns with their types.
    pub columns: Vec<(String, String)>,
    /// The query of a view.
    pub query: Option<String>,
    /// The parameters of a routine, as in its definition.
    pub parameters: Option<String>,
    /// What a function returns.
    pub returns: Option<String>,
    /// The body of a routine.
    pub body: Option<String>,
    /// The triggers of a table, by name.
    pub triggers: BTreeMap<String, Trigger>,
    /// What the server looks at and this model only names, such as `default of id`.
    pub not_modelled: BTreeSet<String>,
}

/// What one server knows.
///
/// # Example
/// ```
/// use zest_ledger::{Ledger, mariadb::{Holder, state_of}};
/// let text = r#"
/// systems.loyalty.kind = "mariadb"
/// [databases.loyalty]
/// roles.reader = {}
/// accounts."desk@localhost" = { member-of = ["reader"] }
/// "#;
/// let state = state_of(&Ledger::new().document("loyalty.toml", text).estate()?, "loyalty", None).expect("it is declared");
/// assert!(state.roles.contains("reader"));
/// assert!(state.memberships.keys().any(|(member, role)| *member != Holder::Role("reader".to_owned()) && role == "reader"));
/// # Ok::<(), zest_ledger::finding::Findings>(())
/// ```
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct State {
    /// Accounts.
    pub accounts: BTreeMap<AccountName, Account>,
    /// Roles.
    pub roles: BTreeSet<String>,
    /// Who is a member of which role; true where the membership may be passed on.
    pub memberships: BTreeMap<(Holder, String), bool>,
    /// Databases.
    pub databases: BTreeSet<String>,
    /// Objects.
    pub objects: BTreeMap<ObjectName, Object>,
    /// Grants.
    pub grants: BTreeMap<(Holder, Scope), Held>,
    /// Whether anything was ever granted to PUBLIC: from then on the server looks for its grants, and nothing takes it
    /// out again.
    pub has_public: bool,
    /// What the server looks at for whole sessions and this model only names.
    pub not_modelled: BTreeSet<String>,
}

/// Where a session comes from.
///
/// # Example
/// ```
/// use zest_ledger::mariadb::{AccountName, Origin, State};
/// let state = State::fresh();
/// assert_eq!(state.account_for("root", &Origin::Local), Some(&AccountName::new("root", "localhost")));
/// assert_eq!(state.account_for("root", &Origin::Address([192, 0, 2, 7].into())), None);
/// ```
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Origin {
    /// Over the server's own socket.
    Local,
    /// From an address.
    Address(std::net::IpAddr),
}

/// One GRANT or REVOKE.
///
/// # Example
/// ```
/// use zest_ledger::mariadb::{AccountName, GrantChange, Holder, Privilege, Scope, State};
/// let mut state = State::fresh();
/// let desk = AccountName::new("desk", "%");
/// state.accounts.insert(desk.clone(), Default::default());
/// let (holder, privileges) = (Holder::Account(desk), Privilege::Select.only());
/// let grant = GrantChange { scope: Scope::database("loyalty"), columns: vec![], privileges, holder, revoke: false, place: None };
/// assert_eq!(grant.sql(), "GRANT SELECT ON `loyalty`.* TO 'desk'@'%'");
/// assert!(state.change(&grant), "it changes something");
/// assert!(!state.change(&grant), "granted again it changes nothing");
/// ```
#[derive(Clone, Debug)]
pub struct GrantChange {
    /// On what.
    pub scope: Scope,
    /// On these columns only.
    pub columns: Vec<String>,
    /// Which privileges.
    pub privileges: Privileges,
    /// Given to, or taken from.
    pub holder: Holder,
    /// Whether it takes away.
    pub revoke: bool,
    /// Where it is written.
    pub place: Option<Place>,
}

impl State {
    /// Makes the state of a fresh server: one account that may do everything, over the socket only.
    #[must_use]
    pub fn fresh() -> Self {
        let mut state = Self::default();
        let root = AccountName::new("root", "localhost");
        state.accounts.insert(root.clone(), Account::default());
        let all = Held { privileges: Level::Global.applicable(), ..Held::default() };
        state.grants.insert((Holder::Account(root), Scope::Everything), all);
        state
    }

    /// Returns the same state with other names for its accounts, such as origins that a trial can come from.
    ///
    /// # Example
    /// ```
    /// use zest_ledger::mariadb::{AccountName, State};
    /// let moved = State::fresh().renamed(|account| AccountName::new(&account.user, "127.0.0.1"));
    /// assert!(moved.accounts.contains_key(&AccountName::new("root", "127.0.0.1")));
    /// ```
    #[must_use]
    pub fn renamed(&self, name: impl Fn(&AccountName) -> AccountName) -> Self {
        let holder = |holder: &Holder| match holder {
            Holder::Account(account) => Holder::Account(name(account)),
            Holder::Role(_) | Holder::Public => holder.clone(),
        };
        let scope = |scope: &Scope| match scope {
            Scope::Proxy(account) => Scope::Proxy(name(account)),
            Scope::Everything | Scope::Databases(_) | Scope::Table(..) | Scope::Function(..) | Scope::Procedure(..) => scope.clone(),
        };
        let Self { accounts, roles, memberships, databases, objects, grants, has_public, not_modelled } = self;
        Self {
            accounts: accounts.iter().map(|(account, entry)| (name(account), entry.clone())).collect(),
            roles: roles.clone(),
            memberships: memberships.iter().map(|((member, role), admin)| ((holder(member), role.clone()), *admin)).collect(),
            databases: databases.clone(),
            objects: objects
                .iter()
                .map(|(object, entry)| {
                    let mut entry = entry.clone();
                    entry.definer = entry.definer.as_ref().map(&name);
                    entry.triggers.values_mut().for_each(|trigger| trigger.definer = name(&trigger.definer));
                    (object.clone(), entry)
                })
                .collect(),
            grants: grants.iter().map(|((who, on), held)| ((holder(who), scope(on)), held.clone())).collect(),
            has_public: *has_public,
            not_modelled: not_modelled.clone(),
        }
    }

    /// Applies a GRANT or REVOKE as the server does; returns whether anything changed.
    pub fn change(&mut self, change: &GrantChange) -> bool {
        self.has_public |= change.holder == Holder::Public && !change.revoke;
        let key = (change.holder.clone(), change.scope.clone());
        let old = self.grants.get(&key).cloned().unwrap_or_default();
        let mut new = old.clone();
        if change.revoke {
            if change.columns.is_empty() {
                new.privileges = new.privileges.without(change.privileges);
                // A revoke on the table takes the same privilege of each column as well.
                new.columns.values_mut().for_each(|p| *p = p.without(change.privileges));
            }
            for column in &change.columns {
                if let Some(held) = new.columns.get_mut(column) {
                    *held = held.without(change.privileges);
                }
            }
            new.columns.retain(|_, p| !p.is_empty());
        } else {
            if change.columns.is_empty() {
                new.privileges = new.privileges.or(change.privileges);
            }
            for column in &change.columns {
                let held = new.columns.entry(column.clone()).or_default();
                *held = held.or(change.privileges);
            }
            new.place = change.place.or(new.place);
        }
        let changed = new != old;
        if new.is_empty() && !matches!(change.scope, Scope::Proxy(_)) {
            self.grants.remove(&key);
        } else {
            self.grants.insert(key, new);
        }
        changed
    }

    /// Returns the account that a session gets: the first in the server's order whose login and origin fit.
    #[must_use]
    pub fn account_for(&self, login: &str, origin: &Origin) -> Option<&AccountName> {
        let fitting = |user: &str| {
            let fitting = self.accounts_of(user).filter(|a| admits(&a.host, origin));
            // Equal ranks: the larger text comes first.
            fitting.min_by(|a, b| rank(&a.host).cmp(&rank(&b.host)).then_with(|| b.host.cmp(&a.host)))
        };
        let named = fitting(login);
        let anonymous = if login.is_empty() { None } else { fitting("") };
        match (named, anonymous) {
            (Some(named), Some(anonymous)) if rank(&anonymous.host) < rank(&named.host) => Some(anonymous),
            (Some(named), _) => Some(named),
            (None, anonymous) => anonymous,
        }
    }

    /// Returns the accounts of a login, in their order.
    pub(crate) fn accounts_of<'s>(&'s self, login: &str) -> impl Iterator<Item = &'s AccountName> + use<'s> {
        let (from, login) = (AccountName::new(login, ""), login.to_owned());
        self.accounts.range(from..).map(|(account, _)| account).take_while(move |account| account.user == login)
    }

    /// Returns what somebody holds, by level and name.
    pub(crate) fn held_by<'s>(&'s self, holder: &Holder) -> impl Iterator<Item = (&'s (Holder, Scope), &'s Held)> + use<'s> {
        let (from, holder) = ((holder.clone(), Scope::Everything), holder.clone());
        self.grants.range(from..).take_while(move |((of, _), _)| *of == holder)
    }

    /// Returns what the accounts of a login hold.
    pub(crate) fn held_by_login<'s>(
        &'s self,
        login: &str,
    ) -> impl Iterator<Item = (&'s AccountName, &'s (Holder, Scope), &'s Held)> + use<'s> {
        let (from, login) = ((Holder::Account(AccountName::new(login, "")), Scope::Everything), login.to_owned());
        let rows = self.grants.range(from..).map_while(|(key, held)| match &key.0 {
            Holder::Account(account) => Some((account, key, held)),
            Holder::Public | Holder::Role(_) => None,
        });
        rows.take_while(move |(account, ..)| account.user == login)
    }

    /// Returns the roles that somebody was granted, in their order.
    pub(crate) fn granted_to<'s>(&'s self, member: &Holder) -> impl Iterator<Item = &'s String> + use<'s> {
        let (from, member) = ((member.clone(), String::new()), member.clone());
        self.memberships.range(from..).map(|(key, _)| key).take_while(move |(m, _)| *m == member).map(|(_, role)| role)
    }

    /// Returns the roles that a role brings, itself among them.
    ///
    /// # Example
    /// ```
    /// use zest_ledger::{Ledger, mariadb::{Holder, state_of}};
    /// let text = r#"
    /// systems.loyalty.kind = "mariadb"
    /// [databases.loyalty]
    /// roles.reader = {}
    /// roles.clerk = { member-of = ["reader"] }
    /// "#;
    /// let state = state_of(&Ledger::new().document("loyalty.toml", text).estate()?, "loyalty", None).expect("it is declared");
    /// assert_eq!(state.roles_of(&Holder::Role("clerk".to_owned())).len(), 2, "itself among them");
    /// # Ok::<(), zest_ledger::finding::Findings>(())
    /// ```
    #[must_use]
    pub fn roles_of(&self, role: &Holder) -> BTreeSet<Holder> {
        let mut seen: FxHashSet<&str> = FxHashSet::default();
        let mut queue = vec![role.clone()];
        while let Some(at) = queue.pop() {
            for parent in self.granted_to(&at) {
                if seen.insert(parent) {
                    queue.push(Holder::Role(parent.clone()));
                }
            }
        }
        seen.into_iter().map(|role| Holder::Role(role.to_owned())).chain([role.clone()]).collect()
    }

    /// Returns the accounts by which a session may make a role active: those of the session's login whose origin fits
    /// and to which it was granted, or its own where it was granted to PUBLIC (`check_user_can_set_role`). Of several
    /// the server takes the one that its memory has first, which nothing in its tables tells.
    ///
    /// # Example
    /// ```
    /// use zest_ledger::{Ledger, mariadb::{AccountName, Origin, state_of}};
    /// let text = r#"
    /// systems.loyalty.kind = "mariadb"
    /// [databases.loyalty]
    /// accounts."desk@localhost" = { member-of = ["reader"] }
    /// roles.reader = {}
    /// "#;
    /// let state = state_of(&Ledger::new().document("loyalty.toml", text).estate()?, "loyalty", None).expect("it is declared");
    /// let desk = AccountName::new("desk", "localhost");
    /// assert_eq!(state.activating(&desk, Some(&Origin::Local), "reader"), [desk.clone()]);
    /// assert!(state.activating(&desk, Some(&Origin::Local), "clerk").is_empty());
    /// # Ok::<(), zest_ledger::finding::Findings>(())
    /// ```
    #[must_use]
    pub fn activating(&self, account: &AccountName, origin: Option<&Origin>, role: &str) -> Vec<AccountName> {
        let of = |holder: Holder| self.memberships.contains_key(&(holder, role.to_owned()));
        let fits = |a: &&AccountName| origin.map_or(*a == account, |o| admits(&a.host, o));
        let found: Vec<AccountName> =
            self.accounts_of(&account.user).filter(fits).filter(|a| of(Holder::Account((*a).clone()))).cloned().collect();
        if found.is_empty() && of(Holder::Public) { vec![account.clone()] } else { found }
    }
}

impl View<'_> {
    /// Returns whether a role could be made active only since it was granted to PUBLIC: 10.11 takes that at some times and
    /// refuses it at others, and nothing in its tables tells which.
    ///
    /// # Example
    /// ```
    /// use zest_ledger::{Ledger, mariadb::{AccountName, Origin, View, state_of}};
    /// let text = r#"
    /// systems.loyalty.kind = "mariadb"
    /// [databases.loyalty]
    /// accounts."desk@localhost" = { member-of = ["reader"] }
    /// roles.reader = {}
    /// "#;
    /// let state = state_of(&Ledger::new().document("loyalty.toml", text).estate()?, "loyalty", None).expect("it is declared");
    /// let view = View::new(&state, &AccountName::new("desk", "localhost"), Origin::Local, None);
    ///
    /// assert!(!view.only_by_public("reader"), "it was granted to the account");
    /// # Ok::<(), zest_ledger::finding::Findings>(())
    /// ```
    #[must_use]
    pub fn only_by_public(&self, role: &str) -> bool {
        let of = |holder: Holder| self.state.memberships.contains_key(&(holder, role.to_owned()));
        let by = self.state.activating(&self.account, self.origin.as_ref(), role);
        !by.is_empty() && by.into_iter().all(|a| !of(Holder::Account(a)))
    }
}

/// Returns whether an origin pattern fits (`compare_hostname`).
///
/// # Example
/// ```
/// use zest_ledger::mariadb::{Origin, admits};
/// let from = |address: [u8; 4]| Origin::Address(address.into());
/// assert!(admits("192.0.2.%", &from([192, 0, 2, 7])) && !admits("192.0.2.%", &from([198, 51, 100, 7])));
/// assert!(admits("localhost", &Origin::Local));
/// ```
#[must_use]
pub fn admits(pattern: &str, origin: &Origin) -> bool {
    match origin {
        // Most accounts, and no text need be made of the address.
        _ if pattern == "%" => true,
        Origin::Local => matches("localhost", &pattern.to_lowercase()),
        Origin::Address(address) => {
            let address = address.to_canonical();
            if let (std::net::IpAddr::V4(v4), Some((net, mask))) = (address, pattern.split_once('/')) {
                let parsed = net.parse::<std::net::Ipv4Addr>().ok().zip(mask.parse::<std::net::Ipv4Addr>().ok());
                if let Some((net, mask)) = parsed {
                    return u32::from(v4) & u32::from(mask) == u32::from(net);
                }
            }
            matches(&address.to_string(), pattern)
        }
    }
}

/// What a session may do: its account, where it comes from, its active role.
///
/// # Example
/// ```
/// use zest_ledger::mariadb::{AccountName, Origin, Privilege, State, View};
/// let state = State::fresh();
/// let view = View::new(&state, &AccountName::new("root", "localhost"), Origin::Local, None);
/// let (held, through) = view.global();
/// assert!(held.contains(Privilege::Reload) && through.len() == 1 && view.sees_database("loyalty"));
/// ```
#[derive(Clone, Debug)]
pub struct View<'s> {
    state: &'s State,
    account: AccountName,
    /// None for a definer's rights, which come from no origin but the account's own.
    origin: Option<Origin>,
    role: Option<String>,
    /// What of a session is kept that was opened earlier.
    kept: Option<Kept>,
    /// The role and PUBLIC, each with what it includes; found out when it is first asked for.
    others: OnceLock<Vec<BTreeSet<Holder>>>,
}

/// What a session keeps that was opened when the server was another: what it held on everything, and on its default database. All else is
/// looked up anew for each statement (`sql_acl.cc` of version 10.11; `docs/open-sessions.md`).
#[derive(Clone, Debug)]
struct Kept {
    /// What was held when it was opened.
    then: Arc<State>,
    database: KeptOn,
}

/// On which databases what was held is kept.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
enum KeptOn {
    /// On every one that is asked about, as if each were the default one.
    Each,
    None,
}

/// One ground for something held.
///
/// # Example
/// ```
/// use zest_ledger::mariadb::{AccountName, Holder, Origin, Scope, State, View};
/// let (state, root) = (State::fresh(), AccountName::new("root", "localhost"));
/// let view = View::new(&state, &root, Origin::Local, None);
/// let (_, source) = view.global().1.remove(0);
/// assert_eq!((source.holder, source.scope), (Holder::Account(root), Scope::Everything));
/// ```
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Source {
    /// Who holds it.
    pub holder: Holder,
    /// At which level.
    pub scope: Scope,
    /// Where it is written.
    pub place: Option<Place>,
    /// Whether it was so when the session was opened, and is kept.
    pub is_kept: bool,
}

/// What is held on a table, with its columns.
///
/// # Example
/// ```
/// use zest_ledger::mariadb::{AccountName, Origin, Privilege, State, View};
/// let state = State::fresh();
/// let (on_table, _) = View::new(&state, &AccountName::new("root", "localhost"), Origin::Local, None).table("loyalty", "member");
/// assert!(on_table.privileges.contains(Privilege::Insert), "held on everything");
/// assert!(on_table.own.is_empty(), "and not by a grant on the table");
/// ```
#[derive(Clone, Debug, Default)]
pub struct OnTable {
    /// At the table, its database and globally.
    pub privileges: Privileges,
    /// On single columns.
    pub columns: BTreeMap<String, Privileges>,
    /// The level of the table alone.
    pub own: Privileges,
}

impl<'s> View<'s> {
    /// Makes the view of a session.
    #[must_use]
    pub fn new(state: &'s State, account: &AccountName, origin: Origin, role: Option<&str>) -> Self {
        Self { state, account: account.clone(), origin: Some(origin), role: role.map(str::to_owned), kept: None, others: OnceLock::new() }
    }

    /// Makes the view of a definer.
    ///
    /// # Example
    /// ```
    /// use zest_ledger::{Ledger, mariadb::{AccountName, View, state_of}};
    /// let text = r#"
    /// systems.loyalty.kind = "mariadb"
    /// [databases.loyalty]
    /// accounts."desk@localhost" = { member-of = ["reader"] }
    /// roles.reader = {}
    /// "#;
    /// let state = state_of(&Ledger::new().document("loyalty.toml", text).estate()?, "loyalty", None).expect("it is declared");
    /// let definer = AccountName::new("desk", "localhost");
    /// assert_eq!(View::of_definer(&state, &definer).account(), &definer);
    /// # Ok::<(), zest_ledger::finding::Findings>(())
    /// ```
    #[must_use]
    pub fn of_definer(state: &'s State, account: &AccountName) -> Self {
        Self { state, account: account.clone(), origin: None, role: None, kept: None, others: OnceLock::new() }
    }

    /// Returns the active role.
    #[must_use]
    pub fn role(&self) -> Option<&str> {
        self.role.as_deref()
    }

    /// Returns the view of the same session with another role active.
    ///
    /// # Example
    /// ```
    /// use zest_ledger::{Ledger, mariadb::{AccountName, Origin, View, state_of}};
    /// let text = r#"
    /// systems.loyalty.kind = "mariadb"
    /// [databases.loyalty]
    /// accounts."desk@localhost" = { member-of = ["reader"] }
    /// roles.reader = {}
    /// "#;
    /// let state = state_of(&Ledger::new().document("loyalty.toml", text).estate()?, "loyalty", None).expect("it is declared");
    /// let view = View::new(&state, &AccountName::new("desk", "localhost"), Origin::Local, None);
    ///
    /// assert_eq!((view.role(), view.with_role("reader").role()), (None, Some("reader")));
    /// # Ok::<(), zest_ledger::finding::Findings>(())
    /// ```
    #[must_use]
    pub fn with_role(&self, role: &str) -> Self {
        self.in_role(Some(role))
    }

    /// Returns the view of the same session with another role active, or none.
    pub(crate) fn in_role(&self, role: Option<&str>) -> Self {
        // A role that is made active anew brings what is held now.
        Self { role: role.map(str::to_owned), kept: None, ..self.where_held(self.state) }
    }

    /// Returns whether this session may make a role active.
    ///
    /// # Example
    /// ```
    /// use zest_ledger::{Ledger, mariadb::{AccountName, Origin, View, state_of}};
    /// let text = r#"
    /// systems.loyalty.kind = "mariadb"
    /// [databases.loyalty]
    /// accounts."desk@localhost" = { member-of = ["reader"] }
    /// roles.reader = {}
    /// "#;
    /// let state = state_of(&Ledger::new().document("loyalty.toml", text).estate()?, "loyalty", None).expect("it is declared");
    /// let view = View::new(&state, &AccountName::new("desk", "localhost"), Origin::Local, None);
    ///
    /// assert!(view.may_activate("reader") && !view.may_activate("clerk"));
    /// # Ok::<(), zest_ledger::finding::Findings>(())
    /// ```
    #[must_use]
    pub fn may_activate(&self, role: &str) -> bool {
        !self.state.activating(&self.account, self.origin.as_ref(), role).is_empty()
    }

    /// Returns the account.
    #[must_use]
    pub const fn account(&self) -> &AccountName {
        &self.account
    }

    /// Returns the same session where other things are held.
    pub(super) fn where_held<'n>(&self, state: &'n State) -> View<'n> {
        let Self { state: _, account, origin, role, kept, others: _ } = self;
        let (account, origin, role, kept) = (account.clone(), origin.clone(), role.clone(), kept.clone());
        View { state, account, origin, role, kept, others: OnceLock::new() }
    }

    /// Returns the session as it is now, which was opened when `then` was held.
    pub(super) fn go_on<'n>(&self, then: &Arc<State>, now: &'n State) -> Result<View<'n>, String> {
        let Self { state: _, account, origin: _, role, kept: _, others: _ } = self;
        if !now.accounts.contains_key(account) {
            return Err(format!("`{}` is no account any more: what its open sessions may do is not known", visible(&account.to_string())));
        }
        if let Some(gone) = role.as_ref().filter(|role| !now.roles.contains(*role)) {
            return Err(format!("`{}` is no role any more: what the sessions may do that have it active is not known", visible(gone)));
        }
        let kept = Some(Kept { then: Arc::clone(then), database: KeptOn::None });
        Ok(View { kept, ..self.where_held(now) })
    }

    /// Returns the session with whatever database is asked about as its default one, where that could make a difference.
    pub(super) fn in_default_database(&self) -> Option<Self> {
        let kept = self.kept.as_ref().filter(|kept| kept.database == KeptOn::None)?;
        Some(Self { kept: Some(Kept { then: Arc::clone(&kept.then), database: KeptOn::Each }), ..self.clone() })
    }

    /// The session as it was opened.
    fn as_opened<'k>(&self, kept: &'k Kept) -> View<'k> {
        View { kept: None, ..self.where_held(&kept.then) }
    }

    fn fits(&self, account: &AccountName) -> bool {
        match &self.origin {
            Some(origin) => admits(&account.host, origin),
            None => *account == self.account || matches(&self.account.host, &account.host),
        }
    }

    /// The role and PUBLIC, each with what it includes.
    fn others(&self) -> &[BTreeSet<Holder>] {
        self.others.get_or_init(|| {
            let role = self.role.as_ref().map(|r| self.state.roles_of(&Holder::Role(r.clone())));
            let has_public = self.state.has_public || self.state.granted_to(&Holder::Public).next().is_some();
            let public = has_public.then(|| self.state.roles_of(&Holder::Public));
            role.into_iter().chain(public).collect()
        })
    }

    /// Returns what is held globally, with grounds.
    #[must_use]
    pub fn global(&self) -> (Privileges, Vec<(Privileges, Source)>) {
        if let Some(kept) = &self.kept {
            return marked(self.as_opened(kept).global());
        }
        let own = self.counting_globally();
        let (mut all, mut grounds) = self.sum(self.others().iter().flatten().map(|h| (h.clone(), Scope::Everything)));
        let of_own = own.iter().map(|a| self.sum([(Holder::Account(a.clone()), Scope::Everything)].into_iter()));
        if let Some((common, of_common)) = of_own.reduce(|(a, grounds), (b, _)| (a.and(b), grounds)) {
            all = all.or(common);
            grounds.extend(of_common.into_iter().map(|(held, source)| (held.and(common), source)));
        }
        (all, grounds)
    }

    /// With a role active, what counts globally is what the account holds by which it was made active; of several that
    /// can be, only what all of them hold is counted.
    fn counting_globally(&self) -> Vec<AccountName> {
        let by = self.role.as_ref().map(|r| self.state.activating(&self.account, self.origin.as_ref(), r)).unwrap_or_default();
        if by.is_empty() { vec![self.account.clone()] } else { by }
    }

    /// Returns whether the server's answer depends on the order in its memory: then less is counted than it may allow.
    ///
    /// # Example
    /// ```
    /// use zest_ledger::{Ledger, mariadb::{AccountName, Origin, View, state_of}};
    /// let text = r#"
    /// systems.loyalty.kind = "mariadb"
    /// [databases.loyalty]
    /// accounts."desk@localhost" = { member-of = ["reader"] }
    /// roles.reader = {}
    /// "#;
    /// let state = state_of(&Ledger::new().document("loyalty.toml", text).estate()?, "loyalty", None).expect("it is declared");
    /// let view = View::new(&state, &AccountName::new("desk", "localhost"), Origin::Local, None);
    ///
    /// assert!(!view.is_left_to_chance(), "one account has the role");
    /// # Ok::<(), zest_ledger::finding::Findings>(())
    /// ```
    #[must_use]
    pub fn is_left_to_chance(&self) -> bool {
        let of = |a: &AccountName| self.state.grants.get(&(Holder::Account(a.clone()), Scope::Everything)).map(|h| h.privileges);
        let mut held = self.counting_globally().into_iter().map(|a| of(&a));
        let first = held.next();
        held.any(|h| Some(h) != first)
    }

    fn sum(&self, keys: impl Iterator<Item = (Holder, Scope)>) -> (Privileges, Vec<(Privileges, Source)>) {
        let mut sum = Privileges::NONE;
        let mut grounds = Vec::new();
        for (holder, scope) in keys {
            if let Some(held) = self.state.grants.get(&(holder.clone(), scope.clone())) {
                sum = sum.or(held.privileges);
                grounds.push((held.privileges, Source { holder, scope, place: held.place, is_kept: false }));
            }
        }
        (sum, grounds)
    }

    /// Returns what is held on a database, with grounds. Of several patterns that fit, the most specific one counts
    /// alone; those of all accounts with the session's login and a fitting origin compete, and anonymous ones.
    #[must_use]
    pub fn database(&self, database: &str) -> (Privileges, Vec<(Privileges, Source)>) {
        self.databases(&|pattern| matches(database, pattern))
    }

    /// What is held on all databases of a pattern at once, as somebody needs it who passes something on there.
    pub(crate) fn on_pattern(&self, wanted: &str) -> (Privileges, Vec<(Privileges, Source)>) {
        self.databases(&|pattern| covers(pattern, wanted))
    }

    /// What the rows give whose pattern of databases fits.
    fn databases(&self, fits: &dyn Fn(&str) -> bool) -> (Privileges, Vec<(Privileges, Source)>) {
        if let Some(kept) = self.kept.as_ref().filter(|kept| kept.database == KeptOn::Each) {
            return marked(self.as_opened(kept).databases(fits));
        }
        let patterns = |holder: &Holder| self.state.held_by(holder).filter(|((_, scope), _)| matches!(scope, Scope::Databases(_)));
        let fitting = |(_, scope): &(Holder, Scope)| matches!(scope, Scope::Databases(p) if fits(p));
        let mut best: Option<(&(Holder, Scope), &Held)> = None;
        for user in [self.account.user.as_str(), ""] {
            let mut rows: Vec<(&AccountName, &(Holder, Scope), &Held)> = Vec::new();
            rows.extend(self.state.held_by_login(user).filter(|(account, key, _)| fitting(key) && self.fits(account)));
            rows.sort_by(|a, b| Self::order(a.0, a.1).cmp(&Self::order(b.0, b.1)));
            if let Some((_, key, held)) = rows.into_iter().next()
                && best.is_none_or(|(b, _)| Self::order_of(key) < Self::order_of(b))
            {
                best = Some((key, held));
            }
            if user.is_empty() {
                break;
            }
        }
        let mut sum = best.map_or(Privileges::NONE, |(_, h)| h.privileges);
        let mut grounds: Vec<(Privileges, Source)> = best
            .map(|((holder, scope), held)| {
                (held.privileges, Source { holder: holder.clone(), scope: scope.clone(), place: held.place, is_kept: false })
            })
            .into_iter()
            .collect();
        for (number, holders) in self.others().iter().enumerate() {
            // The patterns of all included roles are merged by their text; then the most specific one counts.
            let mut merged: BTreeMap<&str, (Privileges, Vec<Source>)> = BTreeMap::new();
            for holder in holders {
                for ((h, scope), held) in patterns(holder) {
                    if let Scope::Databases(pattern) = scope {
                        let entry = merged.entry(pattern).or_default();
                        entry.0 = entry.0.or(held.privileges);
                        entry.1.push(Source { holder: h.clone(), scope: scope.clone(), place: held.place, is_kept: false });
                    }
                }
            }
            let best = merged.into_iter().filter(|(p, _)| fits(p)).min_by(|a, b| rank(a.0).cmp(&rank(b.0)).then_with(|| b.0.cmp(a.0)));
            if let Some((_, (privileges, sources))) = best {
                sum = sum.or(privileges);
                grounds.extend(sources.into_iter().filter_map(|s| {
                    let held = self.state.grants.get(&(s.holder.clone(), s.scope.clone()))?;
                    Some((held.privileges, s))
                }));
            } else if let Some(((holder, scope), held)) = self.of_namesakes_anywhere(self.role.as_deref().filter(|_| number == 0), fits) {
                sum = sum.or(held.privileges);
                grounds.push((held.privileges, Source { holder: holder.clone(), scope: scope.clone(), place: held.place, is_kept: false }));
            }
        }
        (sum, grounds)
    }

    /// What an account for every origin holds on a database that is called like a role, or is anonymous. The server looks for a role's
    /// grants with an empty name of the host, which such accounts fit: where a role, or PUBLIC, has none on a database, the most specific
    /// of these counts (found on 10.11).
    fn of_namesakes_anywhere(&self, role: Option<&str>, fits: &dyn Fn(&str) -> bool) -> Option<(&'s (Holder, Scope), &'s Held)> {
        let is_it = |account: &AccountName, scope: &Scope| match scope {
            Scope::Databases(pattern) => matches("", &account.host) && fits(pattern),
            Scope::Everything | Scope::Table(..) | Scope::Function(..) | Scope::Procedure(..) | Scope::Proxy(_) => false,
        };
        let called = |name| self.state.held_by_login(name).filter(|(account, key, _)| is_it(account, &key.1));
        let rows = role.map(called).into_iter().flatten().chain(called(""));
        rows.map(|(_, key, held)| (key, held)).min_by(|a, b| Self::order_of(a.0).cmp(&Self::order_of(b.0)))
    }

    fn order<'k>(account: &'k AccountName, key: &'k (Holder, Scope)) -> impl Ord + use<'k> {
        let Scope::Databases(pattern) = &key.1 else {
            return (rank(""), rank(""), Some(std::cmp::Reverse("")), Some(std::cmp::Reverse("")));
        };
        (rank(&account.host), rank(pattern), Some(std::cmp::Reverse(account.host.as_str())), Some(std::cmp::Reverse(pattern.as_str())))
    }

    fn order_of(key: &(Holder, Scope)) -> impl Ord + use<> {
        match key {
            (Holder::Account(account), Scope::Databases(pattern)) => (rank(&account.host), rank(pattern), account.user.is_empty()),
            _ => (rank(""), rank(""), true),
        }
    }

    /// The accounts of the session's login whose origin fits, most specific first: grants on tables and routines are
    /// looked for with each, and the most specific one that has any counts alone. Between an address and a network that
    /// are equally specific, the server takes the one it happens to find first; then only what both give is certain.
    fn own_rows(&self, scope: &Scope) -> Option<(Holder, Held)> {
        let rows = self.state.held_by_login(&self.account.user).filter(|(account, key, _)| key.1 == *scope && self.fits(account));
        let mut rows: Vec<(&AccountName, &Held)> = rows.map(|(account, _, held)| (account, held)).collect();
        rows.sort_by(|a, b| rank(&a.0.host).cmp(&rank(&b.0.host)).then_with(|| b.0.host.cmp(&a.0.host)));
        let (account, first) = rows.first()?;
        let mut held = (*first).clone();
        for (_, other) in rows.iter().skip(1).filter(|(a, _)| rank(&a.host) == rank(&account.host)) {
            held.privileges = held.privileges.and(other.privileges);
            held.columns.iter_mut().for_each(|(c, p)| *p = p.and(other.columns.get(c).copied().unwrap_or_default()));
        }
        Some((Holder::Account((*account).clone()), held))
    }

    /// Returns what is held on a table or view, with grounds.
    #[must_use]
    pub fn table(&self, database: &str, name: &str) -> (OnTable, Vec<(Privileges, Source)>) {
        let (global, mut grounds) = self.global();
        let (of_database, more) = self.database(database);
        grounds.extend(more);
        let scope = Scope::Table(database.to_owned(), name.to_owned());
        let mut found = OnTable { privileges: global.or(of_database), ..OnTable::default() };
        let own = self.own_rows(&scope);
        let others = self.others().iter().flatten().filter_map(|h| {
            let held = self.state.grants.get(&(h.clone(), scope.clone()))?.clone();
            Some((h.clone(), held))
        });
        for (holder, held) in own.into_iter().chain(others) {
            found.privileges = found.privileges.or(held.privileges);
            found.own = found.own.or(held.privileges);
            let mut here = held.privileges;
            for (column, privileges) in &held.columns {
                let entry = found.columns.entry(column.clone()).or_default();
                *entry = entry.or(*privileges);
                here = here.or(*privileges);
            }
            grounds.push((here, Source { holder, scope: scope.clone(), place: held.place, is_kept: false }));
        }
        (found, grounds)
    }

    /// Returns what is held on a function or procedure, with grounds.
    ///
    /// # Example
    /// ```
    /// use zest_ledger::{Ledger, mariadb::{AccountName, Origin, Privilege, Scope, View, state_of}};
    /// let text = r#"
    /// systems.loyalty.kind = "mariadb"
    /// [databases.loyalty]
    /// accounts."desk@localhost" = {}
    /// [databases.loyalty.objects]
    /// "table club.member" = { columns = { id = "int" } }
    /// "procedure club.tidy" = { body = "SELECT 1" }
    /// [[databases.loyalty.grants]]
    /// allow = ["select"]
    /// on = "table club.member"
    /// to = ["desk@localhost"]
    /// [[databases.loyalty.grants]]
    /// allow = ["execute"]
    /// on = "procedure club.tidy"
    /// to = ["desk@localhost"]
    /// "#;
    /// let state = state_of(&Ledger::new().document("loyalty.toml", text).estate()?, "loyalty", None).expect("it is declared");
    /// let view = View::new(&state, &AccountName::new("desk", "localhost"), Origin::Local, None);
    ///
    /// let (held, grounds) = view.routine(&Scope::Procedure("club".to_owned(), "tidy".to_owned()));
    /// assert!(held.contains(Privilege::Execute) && grounds.len() == 1);
    /// # Ok::<(), zest_ledger::finding::Findings>(())
    /// ```
    #[must_use]
    pub fn routine(&self, scope: &Scope) -> (Privileges, Vec<(Privileges, Source)>) {
        let (mut sum, mut grounds) = self.global();
        let (Scope::Function(database, _) | Scope::Procedure(database, _)) = scope else { return (Privileges::NONE, Vec::new()) };
        let (of_database, more) = self.database(database);
        sum = sum.or(of_database);
        grounds.extend(more);
        let own = self.own_rows(scope);
        let others =
            self.others().iter().flatten().filter_map(|h| Some((h.clone(), self.state.grants.get(&(h.clone(), scope.clone()))?.clone())));
        for (holder, held) in own.into_iter().chain(others) {
            sum = sum.or(held.privileges);
            grounds.push((held.privileges, Source { holder, scope: scope.clone(), place: held.place, is_kept: false }));
        }
        (sum, grounds)
    }

    /// Returns whether a database is in this session's list of databases.
    #[must_use]
    pub fn sees_database(&self, database: &str) -> bool {
        let shows = Level::Database.applicable().or(Privilege::ShowDatabases.only());
        !self.global().0.and(shows).is_empty() || !self.database(database).0.is_empty() || self.holds_inside(database)
    }

    /// Returns whether a database can be opened, as `USE` does: the right to list all databases is not enough
    /// (`mysql_change_db`).
    ///
    /// # Example
    /// ```
    /// use zest_ledger::{Ledger, mariadb::{AccountName, Origin, View, state_of}};
    /// let text = r#"
    /// systems.loyalty.kind = "mariadb"
    /// [databases.loyalty]
    /// accounts."desk@localhost" = {}
    /// [databases.loyalty.objects]
    /// "table club.member" = { columns = { id = "int" } }
    /// "procedure club.tidy" = { body = "SELECT 1" }
    /// [[databases.loyalty.grants]]
    /// allow = ["select"]
    /// on = "table club.member"
    /// to = ["desk@localhost"]
    /// [[databases.loyalty.grants]]
    /// allow = ["execute"]
    /// on = "procedure club.tidy"
    /// to = ["desk@localhost"]
    /// "#;
    /// let state = state_of(&Ledger::new().document("loyalty.toml", text).estate()?, "loyalty", None).expect("it is declared");
    /// let view = View::new(&state, &AccountName::new("desk", "localhost"), Origin::Local, None);
    /// assert!(view.opens_database("club") && !view.opens_database("fleet"));
    /// # Ok::<(), zest_ledger::finding::Findings>(())
    /// ```
    #[must_use]
    pub fn opens_database(&self, database: &str) -> bool {
        let opens = Level::Database.applicable();
        !self.global().0.and(opens).is_empty() || !self.database(database).0.is_empty() || self.holds_inside(database)
    }

    /// Returns whether this session may list the tables of a database: anything that is held on everything counts, but
    /// for a grant option alone, there and on the database (found on 10.11).
    ///
    /// # Example
    /// ```
    /// use zest_ledger::{Ledger, mariadb::{AccountName, Origin, View, state_of}};
    /// let text = r#"
    /// systems.loyalty.kind = "mariadb"
    /// [databases.loyalty]
    /// accounts."desk@localhost" = {}
    /// [databases.loyalty.objects]
    /// "table club.member" = { columns = { id = "int" } }
    /// "procedure club.tidy" = { body = "SELECT 1" }
    /// [[databases.loyalty.grants]]
    /// allow = ["select"]
    /// on = "table club.member"
    /// to = ["desk@localhost"]
    /// [[databases.loyalty.grants]]
    /// allow = ["execute"]
    /// on = "procedure club.tidy"
    /// to = ["desk@localhost"]
    /// "#;
    /// let state = state_of(&Ledger::new().document("loyalty.toml", text).estate()?, "loyalty", None).expect("it is declared");
    /// let view = View::new(&state, &AccountName::new("desk", "localhost"), Origin::Local, None);
    /// assert!(view.lists_tables("club") && !view.lists_tables("fleet"));
    /// # Ok::<(), zest_ledger::finding::Findings>(())
    /// ```
    #[must_use]
    pub fn lists_tables(&self, database: &str) -> bool {
        let held = self.global().0.or(self.database(database).0);
        !held.without(Privilege::GrantOption.only()).is_empty() || self.holds_inside(database)
    }

    /// Whether the account or its role holds something on an object of a database.
    fn holds_inside(&self, database: &str) -> bool {
        let is_in = |scope: &Scope| match scope {
            Scope::Table(d, _) | Scope::Function(d, _) | Scope::Procedure(d, _) => d == database,
            _ => false,
        };
        // What PUBLIC holds on single objects does not bring their database into the list (found on 10.11).
        let others = self.role.as_ref().and_then(|_| self.others().first());
        self.state.held_by_login(&self.account.user).any(|(account, key, _)| is_in(&key.1) && self.fits(account))
            || others.into_iter().flatten().any(|holder| self.state.held_by(holder).any(|((_, scope), _)| is_in(scope)))
    }

    /// Returns whether a table is in this session's list of tables: a grant option alone counts only where it is held on
    /// the table itself (found on 10.11).
    ///
    /// # Example
    /// ```
    /// use zest_ledger::{Ledger, mariadb::{AccountName, Origin, View, state_of}};
    /// let text = r#"
    /// systems.loyalty.kind = "mariadb"
    /// [databases.loyalty]
    /// accounts."desk@localhost" = {}
    /// [databases.loyalty.objects]
    /// "table club.member" = { columns = { id = "int" } }
    /// "procedure club.tidy" = { body = "SELECT 1" }
    /// [[databases.loyalty.grants]]
    /// allow = ["select"]
    /// on = "table club.member"
    /// to = ["desk@localhost"]
    /// [[databases.loyalty.grants]]
    /// allow = ["execute"]
    /// on = "procedure club.tidy"
    /// to = ["desk@localhost"]
    /// "#;
    /// let state = state_of(&Ledger::new().document("loyalty.toml", text).estate()?, "loyalty", None).expect("it is declared");
    /// let view = View::new(&state, &AccountName::new("desk", "localhost"), Origin::Local, None);
    /// assert!(view.sees_table("club", "member") && !view.sees_table("club", "points"));
    /// # Ok::<(), zest_ledger::finding::Findings>(())
    /// ```
    #[must_use]
    pub fn sees_table(&self, database: &str, name: &str) -> bool {
        let (found, _) = self.table(database, name);
        let shows = Level::Table.applicable().without(Privilege::GrantOption.only());
        !found.privileges.and(shows).is_empty() || !found.own.is_empty() || found.columns.values().any(|p| !p.is_empty())
    }
}

/// What is held, and on which grounds, as what is kept.
fn marked((held, mut grounds): (Privileges, Vec<(Privileges, Source)>)) -> (Privileges, Vec<(Privileges, Source)>) {
    grounds.iter_mut().for_each(|(_, source)| source.is_kept = true);
    (held, grounds)
}
