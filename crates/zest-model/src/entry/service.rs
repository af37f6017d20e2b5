//! Clouds and applications: operations, resources, grants, ceilings, obligations, and who may act as whom.

use jiff::Timestamp;

use super::when::{AFTER, WHEN};
use super::{Channel, Obligations, Proof, When, builders};
use crate::shape::{Among, HOLDERS, PARTIES, Shape, TEXTS};
use crate::source::{At, Place};
use crate::written::{Entry, Source, Written, shape, table, tables};

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
    #[doc(hidden)]
    pub more: crate::More,
}

crate::same::fields!(Service {
    system,
    interface,
    operations,
    operation_groups,
    addresses,
    resources,
    types,
    grants,
    ceilings,
    acting,
    proofs_cover,
    obtains,
    session_attributes,
    identity_checks,
    more,
});

shape! {
    CLOUD: "a cloud", "What one cloud holds. May be spread over documents.", &[];
    "interface", Shape::Text, "the OpenAPI document that describes its operations: a file `*.openapi.json` or `*.openapi.yaml` of the ledger";
    "operations", Shape::Map(&Shape::Table(&OPERATION)), "operations that no interface describes, by name";
    "operation-groups", Shape::Map(&TEXTS), "names for several operations; `read`, `write` and `tag:NAME` are there already";
    "addresses", Shape::Map(&Shape::Text), "the resource that a path of the interface speaks of: \"/records/{r}\" = \"records/{r}\"";
    "resources", Shape::Map(&Shape::Table(&RESOURCE)), "containers and resources, by path; what is not named below a container is there too";
    "grants", Shape::List(&Shape::Table(&GRANT)), "who may do what on which resources; a deny outweighs every allow";
    "ceilings", Shape::List(&Shape::Table(&CEILING)), "what grants can give at most";
    "acting", Shape::List(&Shape::Table(&ACT_AS)), "who may act as which user, with their own credential";
    "proofs-cover", Shape::Map(&Shape::List(&Shape::Words(Channel::WORDS))), "channels on which a proof given on a channel counts; on its own only unless stated";
    "obtains", Shape::Map(&TEXTS), "the operations by which a proof is given during a session, by proof";
    "session-attributes", TEXTS, "attributes that a session may state";
}

shape! {
    APPLICATION: "an application", "What one application holds. May be spread over documents.", &[];
    "types", Shape::Map(&Shape::Table(&OBJECT_TYPE)), "types of objects, by name";
    "objects", Shape::Map(&Shape::Table(&RESOURCE)), "objects, by type and name: \"ramp/selkie-1\"";
    "operation-groups", Shape::Map(&TEXTS), "names for several operations; `read`, `write` and `tag:NAME` are there already";
    "grants", Shape::List(&Shape::Table(&GRANT)), "who may do what on which resources; a deny outweighs every allow";
    "acting", Shape::List(&Shape::Table(&ACT_AS)), "who may act as which user, with their own credential";
    "proofs-cover", Shape::Map(&Shape::List(&Shape::Words(Channel::WORDS))), "channels on which a proof given on a channel counts; on its own only unless stated";
    "session-attributes", TEXTS, "attributes that a session may state";
    "identity-checks", Shape::Flag, "whether identity is checked where an obligation says so; true unless stated";
}

impl Entry for Service {
    type Anchor = At<String>;

    /// A cloud and an application are one entry in two shapes: what one of them does not know is not written there.
    fn read(source: &mut dyn Source, system: At<String>) -> Self {
        let mut resources: Vec<Resource> = Written::read(source, "resources");
        resources.extend(<Vec<Resource> as Written>::read(source, "objects"));
        Self {
            system,
            interface: Written::read(source, "interface"),
            operations: Written::read(source, "operations"),
            operation_groups: Written::read(source, "operation-groups"),
            addresses: Written::read(source, "addresses"),
            resources,
            types: Written::read(source, "types"),
            grants: Written::read(source, "grants"),
            ceilings: Written::read(source, "ceilings"),
            acting: Written::read(source, "acting"),
            proofs_cover: Written::read(source, "proofs-cover"),
            obtains: Written::read(source, "obtains"),
            session_attributes: Written::read(source, "session-attributes"),
            identity_checks: Written::read(source, "identity-checks"),
            more: crate::More,
        }
    }
}

impl Service {
    /// Makes an empty one for a system.
    #[track_caller]
    #[must_use]
    pub fn new(system: &str) -> Self {
        Self::at(At::here(system.to_owned()))
    }

    #[doc(hidden)]
    pub fn at(system: At<String>) -> Self {
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
            more: crate::More,
        }
    }

    /// Adds an operation.
    #[track_caller]
    #[must_use]
    pub fn operation(mut self, name: &str) -> Self {
        self.operations.push(Operation::at(At::here(name.to_owned())));
        self
    }

    /// Adds a container, a resource or an object.
    #[must_use]
    pub fn resource(mut self, resource: Resource) -> Self {
        self.resources.push(resource);
        self
    }

    /// Adds a type of objects.
    ///
    /// # Example
    /// ```
    /// use zest_ledger::entry::{ObjectType, Service};
    /// assert_eq!(Service::new("rota").object_type(ObjectType::new("shift")).types[0].name.value, "shift");
    /// ```
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
        let mut rule =
            ActAs { place: Place::here(), target: At::here(target.to_owned()), by: Vec::new(), when: When::default(), because: None };
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

table! {
    /// An operation of a cloud, or a right of an application.
    ///
    /// # Example
    /// ```
    /// use zest_ledger::entry::Service;
    /// let cloud = Service::new("skyquay").operation("hulls.stop");
    /// assert_eq!(cloud.operations[0].name.value, "hulls.stop");
    /// ```
    Operation {
        /// The name.
        name: At<String>,
    }, OPERATION: "an operation", "An operation of a cloud.", &[];

    /// Whether it only looks; for an operation of an interface its method says so.
    reads: Option<At<bool>> = "reads", Shape::Flag, "whether it only looks; false unless stated";
    /// What it is for.
    about: Option<At<String>> = "about", Shape::Text, "what it is for";
}

table! {
    /// A container, a resource or an object, by its path.
    ///
    /// # Example
    /// ```
    /// use zest_ledger::entry::{Obligations, Resource};
    /// let ramp = Resource::new("ramp/selkie-1").attribute("pier", "selkie").after(Obligations::confirm());
    /// assert_eq!((ramp.path.value.as_str(), ramp.attributes.len()), ("ramp/selkie-1", 1));
    /// // Whoever may read a secret can sign in as whose credential it is.
    /// let secret = Resource::new("vault/desk").opens("user:desk-1");
    /// assert_eq!(secret.opens[0].value, "user:desk-1");
    /// ```
    Resource {
        /// The path: `lanternsound/production/tickets`, or `ramp/selkie-1`.
        path: At<String>,
    }, RESOURCE: "a resource", "A container, a resource or an object.", &[];

    /// A free remark.
    remark: Option<At<String>> = "remark", Shape::Text, "a free remark";
    /// Attributes that conditions compare.
    attributes: Vec<(At<String>, At<String>)> = "attributes", Shape::Map(&Shape::Text), "attributes that conditions compare";
    /// What must be done before a right on it that does more than look takes effect.
    after: Obligations = "after", Shape::Table(&AFTER), "what must be done before a right on it that does more than look takes effect";
    /// Of a secret: whose credential it is, `user:ID` or `account:SYSTEM/LOGIN`. Whoever may read it can sign in as they do.
    opens: Vec<At<String>> = "opens", TEXTS, "of a secret: whose credential it is, \"user:ID\" or \"account:SYSTEM/LOGIN\"";
}

impl Resource {
    /// Makes one without attributes.
    #[track_caller]
    #[must_use]
    pub fn new(path: &str) -> Self {
        Self::at(At::here(path.to_owned()))
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

    builders! {
        /// Says whose credential a secret is: `user:ID` or `account:SYSTEM/LOGIN`.
        opens(reference: &str) => opens adds reference.to_owned();
    }
}

table! {
    /// A type of objects of an application.
    ///
    /// # Example
    /// ```
    /// use zest_ledger::entry::{ObjectType, Obligations};
    /// let ramp = ObjectType::new("ramp").right("move").right("see").looks("see").after(Obligations::second_person("group:watch-leads"));
    /// assert_eq!(ramp.rights.len(), 2);
    /// assert!(!ramp.after.is_empty());
    /// ```
    ObjectType {
        /// The name, which is the first part of the paths of its objects.
        name: At<String>,
    }, OBJECT_TYPE: "a type of objects", "A type of objects of an application.", &[];

    /// Rights on objects of the type.
    rights: Vec<At<String>> = required "rights", TEXTS, "rights on objects of the type";
    /// Those of them that only look: obligations of type and object do not concern them.
    looks: Vec<At<String>> = "looks", TEXTS, "those of them that only look: obligations of type and object do not concern them";
    /// What must be done before a right on one of its objects takes effect.
    after: Obligations = "after", Shape::Table(&AFTER), "what must be done before a right on one of its objects takes effect";
    /// What must be done before one of its rights takes effect.
    rights_after: Vec<(At<String>, Obligations)> = "rights-after", Shape::Map(&Shape::Table(&AFTER)), "what must be done before one of its rights takes effect";
    /// The right a second person must hold on the object; the one that is asked for unless stated.
    second_person_right: Option<At<String>> = "second-person-right", Shape::Text, "the right a second person must hold; the one that is asked for unless stated";
}

impl ObjectType {
    /// Makes one without rights.
    #[track_caller]
    #[must_use]
    pub fn new(name: &str) -> Self {
        Self::at(At::here(name.to_owned()))
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

table! {
    /// A grant of a cloud or an application, or a deny.
    ///
    /// # Example
    /// ```
    /// use zest_ledger::entry::{Grant, Proof, When};
    /// let recent = When::new().proof(Proof::OneTimeCode);
    /// let deny = Grant::deny(&["all"]).except(&["codes.confirm"]).on("**").to("group:everyone").lifted_by(recent);
    /// assert_eq!(deny.except.len(), 1);
    /// ```
    Grant {
        /// Where it is written.
        place: Place,
    }, GRANT: "a grant", "A grant of a cloud or an application, or a deny.", &[Among::One(&["allow", "deny"])];

    /// Operations that are given.
    allow: Vec<At<String>> = "allow", TEXTS, "operations or groups of operations that are given; \"all\" for every one";
    /// Operations that are refused.
    deny: Vec<At<String>> = "deny", TEXTS, "operations or groups of operations that are refused (clouds)";
    /// All but these operations.
    except: Vec<At<String>> = "except", TEXTS, "all but these operations";
    /// Resources, as patterns over paths.
    on: Vec<At<String>> = "on", Shape::Either(&[Shape::Text, TEXTS]), "resources: a path; `*` is one part of it, `**` at the end all that is below";
    /// All but these resources.
    except_on: Vec<At<String>> = "except-on", Shape::Either(&[Shape::Text, TEXTS]), "all but these resources";
    /// Who: `user:ID`, `group:ID` or `role:ID`; for a grant of a role, whoever holds it.
    to: Vec<At<String>> = "to", HOLDERS, "who: \"user:ID\", \"group:ID\" or \"role:ID\"; not in a role's own grants";
    /// Conditions, all of which must hold.
    when: When = "when", Shape::Table(&WHEN), "conditions; all that are given must hold";
    /// Conditions that lift it: it does not apply while all of them hold.
    lifted_by: When = "lifted-by", Shape::Table(&WHEN), "conditions that lift it: it does not apply while all of them hold";
    /// What must be done before it takes effect.
    after: Obligations = "after", Shape::Table(&AFTER), "what must be done before it takes effect";
    /// First moment at which it holds.
    from: Option<At<Timestamp>> = "from", Shape::Moment, "first moment of validity";
    /// First moment at which it no longer holds.
    until: Option<At<Timestamp>> = "until", Shape::Moment, "end of validity: a date is good through its last moment, UTC";
    /// Why it is there.
    because: Option<At<String>> = "because", Shape::Text, "why the entry is there";
}

impl Grant {
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

table! {
    /// What grants can give at most.
    ///
    /// # Example
    /// ```
    /// use zest_ledger::entry::{Ceiling, Service};
    /// let ceiling = Ceiling::allow(&["hulls.read"]).of("group:trainees").within("lanternsound/production");
    /// assert_eq!(Service::new("skyquay").ceiling(ceiling).ceilings.len(), 1);
    /// ```
    Ceiling {
        /// Where it is written.
        place: Place,
    }, CEILING: "a ceiling", "What grants can give at most. Where several apply, each must let an operation through.", &[];

    /// The operations that may be given.
    allow: Vec<At<String>> = required "allow", TEXTS, "operations or groups of operations that may be given";
    /// All but these.
    except: Vec<At<String>> = "except", TEXTS, "all but these";
    /// Whose rights it limits: `user:ID`, `group:ID` or `role:ID`; everybody's unless stated.
    of: Vec<At<String>> = "of", HOLDERS, "whose rights it limits: \"user:ID\", \"group:ID\" or \"role:ID\"; everybody's unless stated";
    /// The container in which it limits rights; everywhere unless stated.
    within: Option<At<String>> = "within", Shape::Text, "the container in which it limits rights; everywhere unless stated";
    /// The conditions under which they may be given.
    when: When = "when", Shape::Table(&WHEN), "conditions under which they may be given";
    /// Why it is there.
    because: Option<At<String>> = "because", Shape::Text, "why the entry is there";
}

impl Ceiling {
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
///
/// # Example
/// ```
/// use zest_ledger::entry::Service;
/// let rota = Service::new("rota").acting("user:mate-1", &["group:desk"]);
/// assert_eq!((rota.acting[0].target.value.as_str(), rota.acting[0].by[0].value.as_str()), ("user:mate-1", "group:desk"));
/// ```
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
    /// Why it is there.
    pub because: Option<At<String>>,
}

crate::same::fields!(ActAs { place, target, by, when, because });

table! {
    /// Who may assume a role, and for how long.
    ///
    /// # Example
    /// ```
    /// use zest_ledger::Ledger;
    /// let text = r#"
    /// users.night-1.proofs = ["password"]
    /// systems.sky.kind = "cloud"
    /// [roles.night-operator]
    /// assumable = { by = ["user:night-1"], longest = "1h" }
    /// "#;
    /// let estate = Ledger::new().document("sky.toml", text).estate()?;
    /// let assumable = estate.entries().roles[0].assumable.as_ref().expect("it can be assumed");
    /// assert_eq!(assumable.by[0].value, "user:night-1");
    /// assert_eq!(assumable.longest.as_ref().map(|longest| longest.value), Some(jiff::SignedDuration::from_hours(1)));
    /// # Ok::<(), zest_ledger::finding::Findings>(())
    /// ```
    #[derive(Default)]
    Assumable {
        /// Where it is written.
        place: Option<Place>,
    }, ASSUMABLE: "an assumption", "Who may assume a role. Its rights then replace their own for the session.", &[];

    /// Whom the role admits: `user:ID`, `group:ID` or `role:ID`.
    by: Vec<At<String>> = required "by", HOLDERS, "whom the role admits: \"user:ID\", \"group:ID\" or \"role:ID\"";
    /// Conditions, all of which must hold while it is assumed.
    when: When = "when", Shape::Table(&WHEN), "conditions under which it may be assumed";
    /// The longest session; no limit unless stated.
    longest: Option<At<jiff::SignedDuration>> = "longest", Shape::Length, "the longest session";
    /// Attributes that whoever assumes it may state for the session.
    may_state: Vec<At<String>> = "may-state", TEXTS, "attributes that whoever assumes it may state for the session";
}

shape! {
    ACT_AS: "a rule of acting as another", "Who may act as a user. It is not passed on: whoever acts as B may not act as C because B may.", &[];
    required "as", Shape::Form("^user:."), "as whom: \"user:ID\"";
    required "by", PARTIES, "who: \"user:ID\" or \"group:ID\"";
    "when", Shape::Table(&WHEN), "conditions; all that are given must hold";
    "because", Shape::Text, "why the entry is there";
}

impl Written for Vec<ActAs> {
    fn read(source: &mut dyn Source, key: &str) -> Self {
        tables(source, key, |place, row| {
            Some(ActAs {
                place,
                target: row.text("as")?,
                by: row.texts("by"),
                when: Written::read(row, "when"),
                because: row.text("because"),
            })
        })
    }
}

impl Written for Vec<(At<String>, Obligations)> {
    fn read(source: &mut dyn Source, key: &str) -> Self {
        let mut list = Self::new();
        source.named(key, &mut |name, row| list.push((name, Obligations::of(row))));
        list
    }
}
