//! Clouds and applications: operations, resources, grants, ceilings, obligations, and who may act as whom.

use jiff::Timestamp;

use super::{Channel, Obligations, Proof, When, builders};
use crate::source::{At, Place};

/// What one cloud or application holds; a ledger may spread it over documents, and the parts are put together.
///
/// # Example
/// ```
/// use zest_ledger::entry::{Grant, Resource, Service};
/// let cloud = Service::new("skyquay")
///     .operation("records.read")
///     .resource(Resource::new("lanternsound/ticketing"))
///     .grant(Grant::allow(&["records.read"]).on("lanternsound/**").to("group:pursers"));
/// assert_eq!(cloud.grants.len(), 1);
/// ```
#[derive(Clone, Debug)]
#[non_exhaustive]
pub struct Service {
    /// The system it is on.
    pub system: At<String>,
    /// The document that describes its operations, by its name in the ledger.
    pub interface: Option<At<String>>,
    /// Operations that are stated here.
    pub operations: Vec<Operation>,
    /// Groups of operations: a name, and what it stands for.
    pub operation_groups: Vec<(At<String>, Vec<At<String>>)>,
    /// The resource that a path of the interface speaks of: templates on both sides.
    pub addresses: Vec<(At<String>, At<String>)>,
    /// Containers, resources and objects.
    pub resources: Vec<Resource>,
    /// Types of objects, by the first part of a path.
    pub types: Vec<ObjectType>,
    /// Grants, in any order.
    pub grants: Vec<Grant>,
    /// Ceilings: what grants can give at most.
    pub ceilings: Vec<Ceiling>,
    /// Who may act as whom.
    pub acting: Vec<ActAs>,
    /// The channels on which a proof given on a channel counts; on its own only, unless stated.
    pub proofs_cover: Vec<(At<Channel>, Vec<At<Channel>>)>,
    /// The operations by which a proof is given during a session.
    pub obtains: Vec<(At<Proof>, Vec<At<String>>)>,
    /// Attributes that a session may state.
    pub session_attributes: Vec<At<String>>,
    /// Whether identity is checked again where an obligation says so; yes unless stated.
    pub identity_checks: Option<At<bool>>,
}

impl Service {
    /// Makes an empty one for a system.
    #[track_caller]
    #[must_use]
    pub fn new(system: &str) -> Self {
        Self::at(At::here(system.to_owned()))
    }

    #[doc(hidden)]
    pub const fn at(system: At<String>) -> Self {
        Self {
            system,
            interface: None,
            operations: Vec::new(),
            operation_groups: Vec::new(),
            addresses: Vec::new(),
            resources: Vec::new(),
            types: Vec::new(),
            grants: Vec::new(),
            ceilings: Vec::new(),
            acting: Vec::new(),
            proofs_cover: Vec::new(),
            obtains: Vec::new(),
            session_attributes: Vec::new(),
            identity_checks: None,
        }
    }

    /// Adds an operation.
    #[track_caller]
    #[must_use]
    pub fn operation(mut self, name: &str) -> Self {
        self.operations.push(Operation { name: At::here(name.to_owned()), reads: None, about: None });
        self
    }

    /// Adds a container, a resource or an object.
    #[must_use]
    pub fn resource(mut self, resource: Resource) -> Self {
        self.resources.push(resource);
        self
    }

    /// Adds a type of objects.
    #[must_use]
    pub fn object_type(mut self, object_type: ObjectType) -> Self {
        self.types.push(object_type);
        self
    }

    /// Adds a grant.
    #[must_use]
    pub fn grant(mut self, grant: Grant) -> Self {
        self.grants.push(grant);
        self
    }

    /// Adds a ceiling.
    #[must_use]
    pub fn ceiling(mut self, ceiling: Ceiling) -> Self {
        self.ceilings.push(ceiling);
        self
    }

    /// Lets parties act as a user.
    #[track_caller]
    #[must_use]
    pub fn acting(mut self, target: &str, by: &[&str]) -> Self {
        let mut rule = ActAs { place: Place::here(), target: At::here(target.to_owned()), by: Vec::new(), when: When::default() };
        for party in by {
            rule.by.push(At::here((*party).to_owned()));
        }
        self.acting.push(rule);
        self
    }

    builders! {
        /// Says whether identity is checked again where an obligation says so.
        identity_checks(on: bool) => identity_checks sets on;
        /// Adds an attribute that a session may state.
        session_attribute(name: &str) => session_attributes adds name.to_owned();
    }
}

/// An operation of a cloud, or a right of an application.
#[derive(Clone, Debug)]
pub struct Operation {
    /// The name.
    pub name: At<String>,
    /// Whether it only looks; for an operation of an interface its method says so.
    pub reads: Option<At<bool>>,
    /// What it is for.
    pub about: Option<At<String>>,
}

/// A container, a resource or an object, by its path.
#[derive(Clone, Debug)]
#[non_exhaustive]
pub struct Resource {
    /// The path: `lanternsound/production/tickets`, or `ramp/selkie-1`.
    pub path: At<String>,
    /// A free remark.
    pub remark: Option<At<String>>,
    /// Attributes that conditions compare.
    pub attributes: Vec<(At<String>, At<String>)>,
    /// What must be done before a right on it that does more than look takes effect.
    pub after: Obligations,
}

impl Resource {
    /// Makes one without attributes.
    #[track_caller]
    #[must_use]
    pub fn new(path: &str) -> Self {
        Self::at(At::here(path.to_owned()))
    }

    pub(crate) const fn at(path: At<String>) -> Self {
        let after = Obligations { confirm: None, prove_again: None, second_person: Vec::new(), more: crate::More };
        Self { path, remark: None, attributes: Vec::new(), after }
    }

    /// Adds an attribute.
    #[track_caller]
    #[must_use]
    pub fn attribute(mut self, name: &str, value: &str) -> Self {
        self.attributes.push((At::here(name.to_owned()), At::here(value.to_owned())));
        self
    }

    /// Says what must be done before a right on it takes effect.
    #[must_use]
    pub fn after(mut self, after: Obligations) -> Self {
        self.after = after;
        self
    }
}

/// A type of objects of an application.
#[derive(Clone, Debug)]
#[non_exhaustive]
pub struct ObjectType {
    /// The name, which is the first part of the paths of its objects.
    pub name: At<String>,
    /// Rights on objects of the type.
    pub rights: Vec<At<String>>,
    /// Those of them that only look: obligations of type and object do not concern them.
    pub looks: Vec<At<String>>,
    /// What must be done before a right on one of its objects takes effect.
    pub after: Obligations,
    /// What must be done before one of its rights takes effect.
    pub rights_after: Vec<(At<String>, Obligations)>,
    /// The right a second person must hold on the object; the one that is asked for unless stated.
    pub second_person_right: Option<At<String>>,
}

impl ObjectType {
    /// Makes one without rights.
    #[track_caller]
    #[must_use]
    pub fn new(name: &str) -> Self {
        Self::at(At::here(name.to_owned()))
    }

    pub(crate) const fn at(name: At<String>) -> Self {
        let after = Obligations { confirm: None, prove_again: None, second_person: Vec::new(), more: crate::More };
        Self { name, rights: Vec::new(), looks: Vec::new(), after, rights_after: Vec::new(), second_person_right: None }
    }

    /// Says what must be done before a right on one of its objects takes effect.
    #[must_use]
    pub fn after(mut self, after: Obligations) -> Self {
        self.after = after;
        self
    }

    builders! {
        /// Adds a right.
        right(name: &str) => rights adds name.to_owned();
        /// Says of a right that it only looks.
        looks(name: &str) => looks adds name.to_owned();
    }
}

/// A grant of a cloud or an application, or a deny.
///
/// # Example
/// ```
/// use zest_ledger::entry::{Grant, Proof, When};
/// let recent = When::new().proof(Proof::OneTimeCode);
/// let deny = Grant::deny(&["all"]).except(&["codes.confirm"]).on("**").to("group:everyone").lifted_by(recent);
/// assert_eq!(deny.except.len(), 1);
/// ```
#[derive(Clone, Debug)]
#[non_exhaustive]
pub struct Grant {
    /// Where it is written.
    pub place: Place,
    /// Operations that are given.
    pub allow: Vec<At<String>>,
    /// Operations that are refused.
    pub deny: Vec<At<String>>,
    /// All but these operations.
    pub except: Vec<At<String>>,
    /// Resources, as patterns over paths.
    pub on: Vec<At<String>>,
    /// All but these resources.
    pub except_on: Vec<At<String>>,
    /// Who: `user:ID`, `group:ID` or `role:ID`; for a grant of a role, whoever holds it.
    pub to: Vec<At<String>>,
    /// Conditions, all of which must hold.
    pub when: When,
    /// Conditions that lift it: it does not apply while all of them hold.
    pub lifted_by: When,
    /// What must be done before it takes effect.
    pub after: Obligations,
    /// First moment at which it holds.
    pub from: Option<At<Timestamp>>,
    /// First moment at which it no longer holds.
    pub until: Option<At<Timestamp>>,
    /// Why it is there.
    pub because: Option<At<String>>,
}

impl Grant {
    #[doc(hidden)]
    pub fn at(place: Place) -> Self {
        Self {
            place,
            allow: Vec::new(),
            deny: Vec::new(),
            except: Vec::new(),
            on: Vec::new(),
            except_on: Vec::new(),
            to: Vec::new(),
            when: When::default(),
            lifted_by: When::default(),
            after: Obligations::default(),
            from: None,
            until: None,
            because: None,
        }
    }

    /// Makes a grant of operations, on nothing and to nobody yet.
    #[track_caller]
    #[must_use]
    pub fn allow(operations: &[&str]) -> Self {
        let mut grant = Self::at(Place::here());
        for name in operations {
            grant.allow.push(At::here((*name).to_owned()));
        }
        grant
    }

    /// Makes a deny of operations, on nothing and to nobody yet.
    #[track_caller]
    #[must_use]
    pub fn deny(operations: &[&str]) -> Self {
        let mut grant = Self::at(Place::here());
        for name in operations {
            grant.deny.push(At::here((*name).to_owned()));
        }
        grant
    }

    /// Leaves operations out.
    #[track_caller]
    #[must_use]
    pub fn except(mut self, operations: &[&str]) -> Self {
        for name in operations {
            self.except.push(At::here((*name).to_owned()));
        }
        self
    }

    /// Sets the conditions.
    #[must_use]
    pub fn when(mut self, when: When) -> Self {
        self.when = when;
        self
    }

    /// Sets the conditions that lift it.
    #[must_use]
    pub fn lifted_by(mut self, conditions: When) -> Self {
        self.lifted_by = conditions;
        self
    }

    /// Says what must be done before it takes effect.
    #[must_use]
    pub fn after(mut self, after: Obligations) -> Self {
        self.after = after;
        self
    }

    builders! {
        /// Adds resources.
        on(pattern: &str) => on adds pattern.to_owned();
        /// Leaves resources out.
        except_on(pattern: &str) => except_on adds pattern.to_owned();
        /// Adds somebody: `user:ID`, `group:ID` or `role:ID`.
        to(reference: &str) => to adds reference.to_owned();
        /// Sets the first moment at which it no longer holds.
        valid_until(moment: Timestamp) => until sets moment;
    }
}

/// What grants can give at most.
#[derive(Clone, Debug)]
#[non_exhaustive]
pub struct Ceiling {
    /// Where it is written.
    pub place: Place,
    /// Whose rights it limits: `user:ID`, `group:ID` or `role:ID`; everybody's unless stated.
    pub of: Vec<At<String>>,
    /// The container in which it limits rights; everywhere unless stated.
    pub within: Option<At<String>>,
    /// The operations that may be given.
    pub allow: Vec<At<String>>,
    /// All but these.
    pub except: Vec<At<String>>,
    /// The conditions under which they may be given.
    pub when: When,
}

impl Ceiling {
    pub(crate) fn at(place: Place) -> Self {
        Self { place, of: Vec::new(), within: None, allow: Vec::new(), except: Vec::new(), when: When::default() }
    }

    /// Makes a ceiling that lets operations through.
    #[track_caller]
    #[must_use]
    pub fn allow(operations: &[&str]) -> Self {
        let mut ceiling = Self::at(Place::here());
        for name in operations {
            ceiling.allow.push(At::here((*name).to_owned()));
        }
        ceiling
    }

    builders! {
        /// Adds somebody whose rights it limits.
        of(reference: &str) => of adds reference.to_owned();
        /// Names the container in which it limits rights.
        within(path: &str) => within sets path.to_owned();
    }
}

/// Who may act as a user, proving identity with their own credential.
#[derive(Clone, Debug)]
pub struct ActAs {
    /// Where it is written.
    pub place: Place,
    /// As whom: `user:ID`.
    pub target: At<String>,
    /// Who: `user:ID` or `group:ID`.
    pub by: Vec<At<String>>,
    /// Conditions, all of which must hold.
    pub when: When,
}

/// Who may assume a role, and for how long.
#[derive(Clone, Debug, Default)]
pub struct Assumable {
    /// Where it is written.
    pub place: Option<Place>,
    /// Whom the role admits: `user:ID`, `group:ID` or `role:ID`.
    pub by: Vec<At<String>>,
    /// Conditions, all of which must hold while it is assumed.
    pub when: When,
    /// The longest session; no limit unless stated.
    pub longest: Option<At<jiff::SignedDuration>>,
    /// Attributes that whoever assumes it may state for the session.
    pub may_state: Vec<At<String>>,
}
