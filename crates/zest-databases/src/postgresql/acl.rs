//! Access control lists, with the server's own rules for adding to them and taking away (`acl.c` of version 15).

use std::collections::BTreeMap;
use std::fmt;

use super::privilege::{Class, Privileges};
use zest_model::source::Place;

/// Who holds a grant.
///
/// # Example
/// ```
/// use zest_ledger::postgresql::Grantee;
/// assert_eq!(Grantee::Public.to_string(), "PUBLIC");
/// assert_eq!(Grantee::Role("fare-clerk".to_owned()).to_string(), "fare-clerk");
/// ```
#[derive(Clone, Debug, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub enum Grantee {
    /// Everybody, also roles that are made later.
    Public,
    /// A role.
    Role(String),
}

impl fmt::Display for Grantee {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(match self {
            Self::Public => "PUBLIC",
            Self::Role(name) => name,
        })
    }
}

/// What one grantor gave to one grantee.
///
/// # Example
/// ```
/// use zest_ledger::postgresql::{Held, Privilege};
/// let held = Held { privileges: Privilege::Select.only(), ..Held::default() };
/// assert!(held.privileges.contains(Privilege::Select) && held.options.is_empty());
/// ```
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Held {
    /// The privileges.
    pub privileges: Privileges,
    /// Those of them that may be passed on (and, after a partial revoke, options without the privilege itself).
    pub options: Privileges,
    /// Where the last grant of them is written; none for what the server gives by itself.
    pub place: Option<Place>,
}

impl Held {
    /// Returns whether the same is held, wherever it is written.
    pub(super) fn is_as_much_as(&self, other: &Self) -> bool {
        (self.privileges, self.options) == (other.privileges, other.options)
    }
}

/// An access control list: what each grantor gave to each grantee.
///
/// # Example
/// ```
/// use zest_ledger::postgresql::{Acl, Class, Grantee, Privilege};
/// let acl = Acl::default_for(Class::Database, "postgres");
/// let public = acl.iter().find(|(grantee, ..)| **grantee == Grantee::Public).map(|(.., held)| held.privileges);
/// assert!(public.is_some_and(|held| held.contains(Privilege::Connect) && !held.contains(Privilege::Create)));
/// ```
#[derive(Clone, Debug, Default)]
pub struct Acl(pub(crate) BTreeMap<(Grantee, String), Held>);

impl PartialEq for Acl {
    fn eq(&self, other: &Self) -> bool {
        self.0.len() == other.0.len() && self.0.iter().zip(&other.0).all(|((a, x), (b, y))| a == b && x.is_as_much_as(y))
    }
}
impl Eq for Acl {}

/// Why the server would not change a list.
///
/// # Example
/// ```
/// use zest_ledger::postgresql::{AclRefusal, GrantChange, Grantee, ObjectName, Privilege, State};
/// let grant = GrantChange {
///     object: ObjectName::database(),
///     columns: vec![],
///     privileges: Privilege::Connect.only(),
///     grantee: Grantee::Public,
///     regrant: true,
///     by: None,
///     revoke: false,
///     cascade: false,
///     place: None,
/// };
/// assert_eq!(State::fresh("ticketing", "postgres").change(&grant), Err(AclRefusal::OptionToPublic));
/// ```
#[derive(Clone, Debug, PartialEq, Eq)]
#[non_exhaustive]
pub enum AclRefusal {
    /// The grantor holds no grant option for any of it.
    NoGrantOption,
    /// Others hold privileges through this grant option, and `cascade` was not said.
    Dependent(Grantee),
    /// A grant option cannot go back to its own grantor.
    Circular,
    /// PUBLIC cannot hold a grant option.
    OptionToPublic,
}

impl fmt::Display for AclRefusal {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Self::NoGrantOption => f.write_str("the grantor holds no grant option for it"),
            Self::Dependent(grantee) => {
                write!(f, "{grantee} holds privileges through this grant option; say `cascade` to take them as well")
            }
            Self::Circular => f.write_str("a grant option cannot go back to its own grantor"),
            Self::OptionToPublic => f.write_str("PUBLIC cannot hold a grant option"),
        }
    }
}

/// Answers whether a role has all privileges of another, through inheriting memberships.
pub(crate) trait Inherits {
    fn has_privileges_of(&self, member: &str, role: &str) -> bool;
}

/// Adds to a list or takes away from it.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) enum Turn {
    Add,
    Remove { cascade: bool },
}

impl Acl {
    /// Returns what the server gives by itself for a new object.
    #[must_use]
    pub fn default_for(class: Class, owner: &str) -> Self {
        let mut acl = Self::default();
        let public = class.public();
        if !public.is_empty() {
            acl.0.insert((Grantee::Public, owner.to_owned()), Held { privileges: public, ..Held::default() });
        }
        let own = Held { privileges: class.applicable(), ..Held::default() };
        acl.0.insert((Grantee::Role(owner.to_owned()), owner.to_owned()), own);
        acl
    }

    /// Returns every grant: grantee, grantor, what is held.
    pub fn iter(&self) -> impl Iterator<Item = (&Grantee, &str, &Held)> {
        self.0.iter().map(|((grantee, grantor), held)| (grantee, grantor.as_str(), held))
    }

    /// Returns whether nothing is held.
    #[must_use]
    pub fn is_empty(&self) -> bool {
        self.0.is_empty()
    }

    /// Sets what a grantor gave to a grantee, as read from a server.
    pub fn insert(&mut self, grantee: Grantee, grantor: &str, held: Held) {
        if !(held.privileges.is_empty() && held.options.is_empty()) {
            self.0.insert((grantee, grantor.to_owned()), held);
        }
    }

    /// What a role may do of `wanted`, directly, through PUBLIC and through inherited roles (`aclmask`).
    pub(crate) fn privileges(&self, role: &str, wanted: Privileges, roles: &dyn Inherits) -> Privileges {
        let mut found = Privileges::NONE;
        for ((grantee, _), held) in &self.0 {
            let new = held.privileges.and(wanted).without(found);
            if !new.is_empty() && reaches(grantee, role, roles) {
                found = found.or(new);
            }
        }
        found
    }

    /// What a role may pass on of `wanted`; an owner may pass on everything.
    pub(crate) fn options(&self, role: &str, owner: &str, wanted: Privileges, roles: &dyn Inherits) -> Privileges {
        if !owner.is_empty() && roles.has_privileges_of(role, owner) {
            return wanted;
        }
        let mut found = Privileges::NONE;
        for ((grantee, _), held) in &self.0 {
            let new = held.options.and(wanted).without(found);
            if !new.is_empty() && reaches(grantee, role, roles) {
                found = found.or(new);
            }
        }
        found
    }

    /// What this very role may pass on, without inheritance (`aclmask_direct`).
    pub(crate) fn own_options(&self, role: &str, owner: &str, wanted: Privileges) -> Privileges {
        if role == owner {
            return wanted;
        }
        let held = self.0.iter().filter(|((grantee, _), _)| matches!(grantee, Grantee::Role(name) if name == role));
        held.fold(Privileges::NONE, |sum, (_, h)| sum.or(h.options.and(wanted)))
    }

    /// Applies one change (`aclupdate`); on refusal the list is as it was.
    #[expect(clippy::too_many_arguments, reason = "the parts of the server's own function")]
    pub(crate) fn update(
        &mut self,
        grantee: &Grantee,
        grantor: &str,
        privileges: Privileges,
        options: Privileges,
        turn: Turn,
        owner: &str,
        place: Option<Place>,
        roles: &dyn Inherits,
    ) -> Result<(), AclRefusal> {
        let before = self.clone();
        let done = self.step(grantee, grantor, privileges, options, turn, owner, place, roles);
        if done.is_err() {
            *self = before;
        }
        done
    }

    #[expect(clippy::too_many_arguments, reason = "the parts of the server's own function")]
    fn step(
        &mut self,
        grantee: &Grantee,
        grantor: &str,
        privileges: Privileges,
        options: Privileges,
        turn: Turn,
        owner: &str,
        place: Option<Place>,
        roles: &dyn Inherits,
    ) -> Result<(), AclRefusal> {
        if turn == Turn::Add && !options.is_empty() {
            self.refuse_circle(grantee, grantor, options, owner, roles)?;
        }
        let key = (grantee.clone(), grantor.to_owned());
        let old = self.0.get(&key).cloned().unwrap_or_default();
        let mut new = old.clone();
        match turn {
            Turn::Add => {
                new.privileges = new.privileges.or(privileges);
                new.options = new.options.or(options);
                new.place = place.or(new.place);
            }
            Turn::Remove { .. } => {
                new.privileges = new.privileges.without(privileges);
                new.options = new.options.without(options);
            }
        }
        let lost = old.options.without(new.options);
        if new.privileges.is_empty() && new.options.is_empty() {
            self.0.remove(&key);
        } else {
            self.0.insert(key, new);
        }
        match (grantee, turn) {
            (Grantee::Role(name), Turn::Remove { cascade }) if !lost.is_empty() => self.abandon(name, lost, cascade, owner, roles),
            _ => Ok(()),
        }
    }

    /// Takes back what a role passed on and no longer may (`recursive_revoke`).
    fn abandon(&mut self, role: &str, lost: Privileges, cascade: bool, owner: &str, roles: &dyn Inherits) -> Result<(), AclRefusal> {
        if role == owner {
            return Ok(());
        }
        let lost = lost.without(self.options(role, owner, lost, roles));
        while let Some(grantee) =
            self.0.iter().find(|((_, grantor), held)| grantor == role && !held.privileges.and(lost).is_empty()).map(|((g, _), _)| g.clone())
        {
            if !cascade {
                return Err(AclRefusal::Dependent(grantee));
            }
            self.step(&grantee, role, lost, lost, Turn::Remove { cascade }, owner, None, roles)?;
        }
        Ok(())
    }

    /// A grant option may not depend on itself (`check_circularity`).
    fn refuse_circle(
        &self,
        grantee: &Grantee,
        grantor: &str,
        options: Privileges,
        owner: &str,
        roles: &dyn Inherits,
    ) -> Result<(), AclRefusal> {
        if grantor == owner {
            return Ok(());
        }
        let mut acl = self.clone();
        while let Some(((g, r), held)) =
            acl.0.iter().find(|((g, _), h)| g == grantee && !h.options.is_empty()).map(|(k, h)| (k.clone(), h.clone()))
        {
            acl.step(&g, &r, held.privileges, held.options, Turn::Remove { cascade: true }, owner, None, roles)?;
        }
        let own = acl.options(grantor, owner, options, roles);
        if options.without(own).is_empty() { Ok(()) } else { Err(AclRefusal::Circular) }
    }

    /// Puts another owner in the place of the old one (`aclnewowner`).
    pub(crate) fn with_owner(&self, old: &str, new: &str) -> Self {
        let renamed = |name: &str| if name == old { new.to_owned() } else { name.to_owned() };
        let mut acl = Self::default();
        for ((grantee, grantor), held) in &self.0 {
            let grantee = match grantee {
                Grantee::Role(name) => Grantee::Role(renamed(name)),
                Grantee::Public => Grantee::Public,
            };
            let entry = acl.0.entry((grantee, renamed(grantor))).or_default();
            entry.privileges = entry.privileges.or(held.privileges);
            entry.options = entry.options.or(held.options);
            entry.place = entry.place.or(held.place);
        }
        acl
    }

    /// Adds everything of another list (`aclmerge`).
    pub(crate) fn merge(&mut self, other: &Self) {
        for (key, held) in &other.0 {
            let entry = self.0.entry(key.clone()).or_default();
            entry.privileges = entry.privileges.or(held.privileges);
            entry.options = entry.options.or(held.options);
            entry.place = held.place.or(entry.place);
        }
    }
}

fn reaches(grantee: &Grantee, role: &str, roles: &dyn Inherits) -> bool {
    match grantee {
        Grantee::Public => true,
        Grantee::Role(name) => name == role || roles.has_privileges_of(role, name),
    }
}
