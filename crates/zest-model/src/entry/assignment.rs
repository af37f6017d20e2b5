//! Roles, bands and assignments.

use jiff::Timestamp;

use super::service::{ASSUMABLE, GRANT};
use super::when::WHEN;
use super::{Assumable, Grant, When, builders, words};
use crate::shape::{Among, LEVEL, PARTIES, Shape, TEXTS};
use crate::source::{At, Place};
use crate::written::{Source, Written, shape, table};

/// The privilege level at which a session starts and the highest it may reach.
///
/// # Example
/// ```
/// use zest_ledger::entry::{Band, Role};
/// let role = Role::new("pier-tracer").band(1, 7);
/// let band: &Band = role.band.as_ref().expect("it was set");
/// assert_eq!((band.start.value, band.ceiling.value), (1, 7));
/// ```
#[derive(Clone, Debug)]
pub struct Band {
    /// Where a session starts.
    pub start: At<u8>,
    /// The highest level it may reach.
    pub ceiling: At<u8>,
}

crate::same::fields!(Band { start, ceiling });

shape! {
    BAND: "a band", "The privilege level at which a session starts and the highest it may reach.", &[];
    required "start", LEVEL, "where a session starts";
    required "ceiling", LEVEL, "the highest level it may reach";
}

impl Written for Option<Band> {
    fn read(source: &mut dyn Source, key: &str) -> Self {
        let mut found = None;
        source.table(key, &mut |_, row| {
            found = level(row, "start").zip(level(row, "ceiling")).map(|(start, ceiling)| Band { start, ceiling });
        });
        found
    }
}

/// Reads a level; what is none was reported.
pub(super) fn level(source: &mut dyn Source, key: &str) -> Option<At<u8>> {
    let number = source.whole(key)?;
    u8::try_from(number.value).ok().filter(|level| *level <= 15).map(|level| At::new(level, number.place))
}

impl Band {
    /// Makes a band.
    #[track_caller]
    #[must_use]
    pub fn new(start: u8, ceiling: u8) -> Self {
        Self { start: At::here(start), ceiling: At::here(ceiling) }
    }
}

table! {
    /// A bundle of rights that assignments hand out.
    ///
    /// # Example
    /// ```
    /// use zest_ledger::entry::Role;
    /// let role = Role::new("pier-tracer").band(1, 7).commands("trace-only");
    /// assert_eq!(role.commands[0].value, "trace-only");
    /// ```
    Role {
        /// The id.
        id: At<String>,
    }, ROLE: "a role", "A bundle of rights that assignments hand out.", &[];

    /// The name shown to people.
    name: Option<At<String>> = "name", Shape::Text, "the name shown to people";
    /// A free remark.
    remark: Option<At<String>> = "remark", Shape::Text, "a free remark";
    /// Roles whose rights this one has as well.
    includes: Vec<At<String>> = "includes", TEXTS, "roles whose rights this one has as well";
    /// Start level and ceiling; those of the included roles unless stated.
    band: Option<Band> = "band", Shape::Table(&BAND), "start level and ceiling; those of the included roles unless stated";
    /// Command sets.
    commands: Vec<At<String>> = "commands", TEXTS, "command sets";
    /// Grants on clouds and in applications.
    grants: Vec<Grant> = "grants", Shape::List(&Shape::Table(&GRANT)), "who may do what on which resources; a deny outweighs every allow";
    /// Who may assume it; nobody unless stated.
    assumable: Option<Assumable> = "assumable", Shape::Table(&ASSUMABLE), "who may assume it; nobody unless stated";
}

impl Role {
    /// Makes a role without rights.
    #[track_caller]
    #[must_use]
    pub fn new(id: &str) -> Self {
        Self::at(At::here(id.to_owned()))
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
    ///
    /// # Example
    /// ```
    /// use zest_ledger::{entry::{Assumable, Role}, source::At};
    /// let mut assumable = Assumable::default();
    /// assumable.by.push(At::here("user:night-1".to_owned()));
    /// assert!(Role::new("night-operator").assumable(assumable).assumable.is_some());
    /// ```
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

table! {
    /// Which systems an assignment covers: all parts that are given must fit.
    ///
    /// # Example
    /// ```
    /// use zest_ledger::entry::{Assignment, On};
    /// let on_two = Assignment::new(On::systems(&["sw-1", "sw-2"])).to("group:shore-watch").role("reader");
    /// assert_eq!(on_two.on.systems.len(), 2);
    /// let of_a_site = On::label("site", "selkie");
    /// assert_eq!(of_a_site.labels.len(), 1);
    /// assert!(On::within("lanternsound/production").systems.is_empty());
    /// ```
    #[derive(Default)]
    On {
        /// Where the selection is written.
        place: Option<Place>,
    }, ON: "a selection of systems", "Which systems an assignment covers.", &[Among::Some(&["all", "systems", "within", "labels"])];

    /// Every system of the ledger.
    all: Option<At<bool>> = "all", Shape::Flag, "every system of the ledger";
    /// Systems by id.
    systems: Vec<At<String>> = "systems", TEXTS, "systems by id";
    /// Systems at or below this place in the tree.
    within: Option<At<String>> = "within", Shape::Text, "systems at or below this place in the tree";
    /// Systems that carry each of these labels, with one of the values.
    labels: Vec<(At<String>, Vec<At<String>>)> = "labels", Shape::Map(&Shape::Either(&[Shape::Text, TEXTS])), "systems that carry each of these labels";
    /// On a cloud: the container at and below which the roles count; everywhere unless stated.
    at: Option<At<String>> = "at", Shape::Text, "on a cloud: the container at and below which the roles count; everywhere unless stated";
}

impl Written for On {
    fn read(source: &mut dyn Source, key: &str) -> Self {
        <Option<Self> as Written>::read(source, key).unwrap_or_default()
    }
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

table! {
    /// Who gets which roles on which systems, under which conditions.
    ///
    /// # Example
    /// ```
    /// use zest_ledger::entry::{Assignment, On};
    /// let entry = Assignment::new(On::label("class", "pier-switch")).to("group:shore-watch").role("pier-tracer");
    /// assert_eq!(entry.to.len(), 1);
    /// ```
    Assignment {
        /// Where it is written.
        place: Place,
    }, ASSIGNMENT: "an assignment", "Who gets which roles on which systems, under which conditions. On network devices the first that applies decides alone; on clouds, in applications and on hosts all that apply are added up.", &[];

    /// Who: `user:ID` or `group:ID`.
    to: Vec<At<String>> = required "to", PARTIES, "who: \"user:ID\" or \"group:ID\"";
    /// Roles.
    roles: Vec<At<String>> = required "roles", TEXTS, "role ids";
    /// Systems.
    on: On = required "on", Shape::Table(&ON), "which systems; all parts that are given must fit";
    /// Conditions.
    when: When = "when", Shape::Table(&WHEN), "conditions; all that are given must hold";
    /// Order among assignments: a lower rank comes first, equal ranks in the order in which they are written; 100 unless stated.
    rank: Option<At<u32>> = "rank", Shape::Whole(0, 1_000_000), "a lower rank comes first; 100 unless stated";
    /// First moment at which it holds.
    from: Option<At<Timestamp>> = "from", Shape::Moment, "first moment of validity";
    /// First moment at which it no longer holds.
    until: Option<At<Timestamp>> = "until", Shape::Moment, "end of validity: a date is good through its last moment, UTC";
    /// Why it is there.
    because: Option<At<String>> = "because", Shape::Text, "why the entry is there";
}

impl Assignment {
    /// The rank of an assignment that states none.
    ///
    /// # Example
    /// ```
    /// use zest_ledger::entry::Assignment;
    /// assert_eq!(Assignment::DEFAULT_RANK, 100);
    /// ```
    pub const DEFAULT_RANK: u32 = 100;

    /// Makes an assignment to nobody.
    #[track_caller]
    #[must_use]
    pub fn new(on: On) -> Self {
        Self { on, ..Self::at(Place::here()) }
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

table! {
    /// Roles of which nobody may have two.
    ///
    /// # Example
    /// ```
    /// use zest_ledger::entry::{Apart, Separation};
    /// let entry = Separation::new("plan-and-approve", Apart::Held, &["rota-planner", "rota-approver"]);
    /// assert_eq!(entry.roles.len(), 2);
    /// ```
    Separation {
        /// The id.
        id: At<String>,
    }, SEPARATION: "a separation of duties", "Roles of which nobody may have two.", &[];

    /// The roles.
    roles: Vec<At<String>> = required "roles", TEXTS, "role ids";
    /// Whether they must not be held together, or not be active together; held unless stated.
    never: Option<At<Apart>> = "never", Shape::Words(Apart::WORDS), "never held together, or never active in one session together; held unless stated";
    /// Why it is there.
    because: Option<At<String>> = "because", Shape::Text, "why the entry is there";
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
}
