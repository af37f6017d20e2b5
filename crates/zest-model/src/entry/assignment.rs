//! Roles, bands and assignments.

use jiff::Timestamp;

use super::{Assumable, Grant, When, builders, words};
use crate::source::{At, Place};

/// The privilege level at which a session starts and the highest it may reach.
#[derive(Clone, Debug)]
pub struct Band {
    /// Where a session starts.
    pub start: At<u8>,
    /// The highest level it may reach.
    pub ceiling: At<u8>,
}

impl Band {
    /// Makes a band.
    #[track_caller]
    #[must_use]
    pub fn new(start: u8, ceiling: u8) -> Self {
        Self { start: At::here(start), ceiling: At::here(ceiling) }
    }
}

/// A bundle of rights that assignments hand out.
///
/// # Example
/// ```
/// use zest_ledger::entry::Role;
/// let role = Role::new("pier-tracer").band(1, 7).commands("trace-only");
/// assert_eq!(role.commands[0].value, "trace-only");
/// ```
#[derive(Clone, Debug)]
pub struct Role {
    /// The id.
    pub id: At<String>,
    /// The name shown to people.
    pub name: Option<At<String>>,
    /// A free remark.
    pub remark: Option<At<String>>,
    /// Roles whose rights this one has as well.
    pub includes: Vec<At<String>>,
    /// Start level and ceiling; those of the included roles unless stated.
    pub band: Option<Band>,
    /// Command sets.
    pub commands: Vec<At<String>>,
    /// Grants on clouds and in applications.
    pub grants: Vec<Grant>,
    /// Who may assume it; nobody unless stated.
    pub assumable: Option<Assumable>,
    #[doc(hidden)]
    pub more: crate::More,
}

impl Role {
    /// Makes a role without rights.
    #[track_caller]
    #[must_use]
    pub fn new(id: &str) -> Self {
        Self::at(At::here(id.to_owned()))
    }

    pub(crate) const fn at(id: At<String>) -> Self {
        Self {
            id,
            name: None,
            remark: None,
            includes: Vec::new(),
            band: None,
            commands: Vec::new(),
            grants: Vec::new(),
            assumable: None,
            more: crate::More,
        }
    }

    /// Sets start level and ceiling.
    #[track_caller]
    #[must_use]
    pub fn band(mut self, start: u8, ceiling: u8) -> Self {
        self.band = Some(Band::new(start, ceiling));
        self
    }

    /// Adds a grant on clouds and in applications.
    #[must_use]
    pub fn grant(mut self, grant: Grant) -> Self {
        self.grants.push(grant);
        self
    }

    /// Says who may assume it.
    #[must_use]
    pub fn assumable(mut self, assumable: Assumable) -> Self {
        self.assumable = Some(assumable);
        self
    }

    builders! {
        /// Sets the name shown to people.
        name(text: &str) => name sets text.to_owned();
        /// Adds a role whose rights this one has as well.
        includes(role: &str) => includes adds role.to_owned();
        /// Adds a command set.
        commands(set: &str) => commands adds set.to_owned();
    }
}

/// Which systems an assignment covers: all parts that are given must fit.
#[derive(Clone, Debug, Default)]
#[non_exhaustive]
pub struct On {
    /// Where the selection is written.
    pub place: Option<Place>,
    /// Every system of the ledger.
    pub all: Option<At<bool>>,
    /// Systems by id.
    pub systems: Vec<At<String>>,
    /// Systems at or below this place in the tree.
    pub within: Option<At<String>>,
    /// Systems that carry each of these labels, with one of the values.
    pub labels: Vec<(At<String>, Vec<At<String>>)>,
    /// On a cloud: the container at and below which the roles count; everywhere unless stated.
    pub at: Option<At<String>>,
}

impl On {
    /// Covers every system.
    #[track_caller]
    #[must_use]
    pub fn all() -> Self {
        Self { all: Some(At::here(true)), place: Some(Place::here()), ..Self::default() }
    }

    /// Covers systems by id.
    ///
    /// # Example
    /// ```
    /// use zest_ledger::entry::On;
    /// assert_eq!(On::systems(&["sw-selkie-1"]).systems.len(), 1);
    /// ```
    #[track_caller]
    #[must_use]
    pub fn systems(ids: &[&str]) -> Self {
        let mut on = Self { place: Some(Place::here()), ..Self::default() };
        for id in ids {
            on.systems.push(At::here((*id).to_owned()));
        }
        on
    }

    /// Covers systems that carry a label.
    #[track_caller]
    #[must_use]
    pub fn label(key: &str, value: &str) -> Self {
        let label = (At::here(key.to_owned()), vec![At::here(value.to_owned())]);
        Self { labels: vec![label], place: Some(Place::here()), ..Self::default() }
    }

    /// Covers systems at or below a place in the tree.
    #[track_caller]
    #[must_use]
    pub fn within(path: &str) -> Self {
        Self { within: Some(At::here(path.to_owned())), place: Some(Place::here()), ..Self::default() }
    }
}

/// Who gets which roles on which systems, under which conditions.
///
/// # Example
/// ```
/// use zest_ledger::entry::{Assignment, On};
/// let entry = Assignment::new(On::label("class", "pier-switch")).to("group:shore-watch").role("pier-tracer");
/// assert_eq!(entry.to.len(), 1);
/// ```
#[derive(Clone, Debug)]
#[non_exhaustive]
pub struct Assignment {
    /// Where it is written.
    pub place: Place,
    /// Who: `user:ID` or `group:ID`.
    pub to: Vec<At<String>>,
    /// Roles.
    pub roles: Vec<At<String>>,
    /// Systems.
    pub on: On,
    /// Conditions.
    pub when: When,
    /// Order among assignments: a lower rank comes first, equal ranks in the order in which they are written; 100 unless stated.
    pub rank: Option<At<u32>>,
    /// First moment at which it holds.
    pub from: Option<At<Timestamp>>,
    /// First moment at which it no longer holds.
    pub until: Option<At<Timestamp>>,
    /// Why it is there.
    pub because: Option<At<String>>,
}

impl Assignment {
    /// The rank of an assignment that states none.
    pub const DEFAULT_RANK: u32 = 100;

    /// Makes an assignment to nobody.
    #[track_caller]
    #[must_use]
    pub fn new(on: On) -> Self {
        Self { on, ..Self::at(Place::here()) }
    }

    pub(crate) fn at(place: Place) -> Self {
        Self {
            place,
            to: Vec::new(),
            roles: Vec::new(),
            on: On::default(),
            when: When::default(),
            rank: None,
            from: None,
            until: None,
            because: None,
        }
    }

    /// Sets the conditions.
    #[must_use]
    pub fn when(mut self, when: When) -> Self {
        self.when = when;
        self
    }

    builders! {
        /// Adds somebody: `user:ID` or `group:ID`.
        to(reference: &str) => to adds reference.to_owned();
        /// Adds a role.
        role(id: &str) => roles adds id.to_owned();
        /// Sets the rank.
        rank(rank: u32) => rank sets rank;
        /// Sets the first moment at which it holds.
        valid_from(moment: Timestamp) => from sets moment;
        /// Sets the first moment at which it no longer holds.
        valid_until(moment: Timestamp) => until sets moment;
    }
}

words! {
    /// What must not happen to roles together.
    Apart {
        /// Nobody may hold them together.
        Held = "held",
        /// They must not be active in one session together.
        Active = "active",
    }
}

/// Roles of which nobody may have two.
///
/// # Example
/// ```
/// use zest_ledger::entry::{Apart, Separation};
/// let entry = Separation::new("plan-and-approve", Apart::Held, &["rota-planner", "rota-approver"]);
/// assert_eq!(entry.roles.len(), 2);
/// ```
#[derive(Clone, Debug)]
#[non_exhaustive]
pub struct Separation {
    /// The id.
    pub id: At<String>,
    /// The roles.
    pub roles: Vec<At<String>>,
    /// Whether they must not be held together, or not be active together; held unless stated.
    pub never: Option<At<Apart>>,
    /// Why it is there.
    pub because: Option<At<String>>,
}

impl Separation {
    /// Makes one of roles.
    #[track_caller]
    #[must_use]
    pub fn new(id: &str, never: Apart, roles: &[&str]) -> Self {
        let mut separation = Self::at(At::here(id.to_owned()));
        separation.never = Some(At::here(never));
        for role in roles {
            separation.roles.push(At::here((*role).to_owned()));
        }
        separation
    }

    pub(crate) const fn at(id: At<String>) -> Self {
        Self { id, roles: Vec::new(), never: None, because: None }
    }
}
