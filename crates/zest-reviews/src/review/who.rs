//! Who may do something: people whom a system cannot tell apart are looked at once.

use std::sync::Arc;

use zest_engine::Engine;
use zest_engine::classes::{Class, Classes, OfClass};
use zest_engine::links::UserId;
use zest_engine::rights::{Action, Within};
use zest_model::ask::{Form, Session};
use zest_model::listing::Effective;

use super::effective::{Sought, add, on_system, sought_on};

/// Everybody who may do something, on some systems, in sessions of which some facts are stated.
///
/// # Example
/// ```
/// use zest_ledger::{Engine, Ledger, ask::Session, review::{Sought, Who}};
/// let estate = Ledger::new().document("rota.toml", r#"
/// users.mate-1.proofs = ["password"]
/// users.mate-2.proofs = ["password"]
/// users.cook-1.proofs = ["password"]
/// groups.mates.members = ["user:mate-1", "user:mate-2"]
/// [systems.rota]
/// kind = "application"
/// [applications.rota]
/// types.shift.rights = ["plan"]
/// objects."shift/early" = {}
/// grants = [{ allow = ["plan"], on = "shift/*", to = ["group:mates"] }]
/// "#).estate()?;
/// let engine = Engine::compile(estate)?;
/// let who = Who::new(&engine, &["rota"], Sought::Line("plan on shift/early"), &Session::default());
/// let may: Vec<String> = who.all().into_iter().map(|one| one.user).collect();
/// assert_eq!(may, ["mate-1", "mate-2"]);
/// // Both mates were looked at as one, and the cook.
/// assert_eq!(who.parts().len(), 2);
/// # Ok::<(), zest_ledger::finding::Findings>(())
/// ```
#[derive(Debug)]
pub struct Who<'e> {
    engine: &'e Engine,
    sought: Sought<'e>,
    session: Session,
    classes: Arc<Classes<'e>>,
    parts: Vec<Part<'e>>,
}

/// People whom a system cannot tell apart but by when they are there, on that system.
///
/// # Example
/// ```
/// use zest_ledger::{Ledger, ask::Session, review::{Sought, Who}};
/// # let text = r#"
/// # users.mate-1.proofs = ["password"]
/// # users.mate-2.proofs = ["password"]
/// # systems.rota.kind = "application"
/// # [applications.rota]
/// # types.shift.rights = ["plan"]
/// # objects."shift/early" = {}
/// # grants = [{ allow = ["plan"], on = "shift/*", to = ["user:mate-1"] }]
/// # "#;
/// # let engine = Ledger::new().document("rota.toml", text).engine(1)?;
/// let who = Who::new(&engine, &["rota"], Sought::Line("plan on shift/early"), &Session::default());
/// // The mates are no members of anything: one grant names one of them, so each is looked at alone.
/// assert_eq!(who.parts().len(), 2);
/// assert_eq!(who.parts().iter().flat_map(|part| who.held(part)).count(), 1);
/// # Ok::<(), zest_ledger::finding::Findings>(())
/// ```
#[derive(Debug)]
pub struct Part<'e> {
    system: &'e str,
    kin: Vec<Class>,
}

impl<'e> Who<'e> {
    /// Puts the people together whom each of the systems cannot tell apart.
    #[must_use]
    pub fn new(engine: &'e Engine, systems: &[&str], sought: Sought<'e>, session: &Session) -> Self {
        Self::among(engine, Arc::new(Classes::of(engine)), systems, sought, session)
    }

    /// The same, once people who are alike were put together.
    pub(crate) fn among(engine: &'e Engine, classes: Arc<Classes<'e>>, systems: &[&str], sought: Sought<'e>, session: &Session) -> Self {
        let (Sought::Line(text) | Sought::Statement(text) | Sought::Like(text)) = sought;
        let of_system = |site: zest_engine::rules::Site<'e>| {
            let system = site.entry().id.value.as_str();
            let actions = match sought {
                Sought::Line(line) => Some(vec![Action::alone(line, Form::Line)]),
                Sought::Statement(sql) => Some(vec![Action::alone(sql, Form::Statement)]),
                Sought::Like(pattern) => classes.common(site, &[pattern]),
            };
            classes.on(site, &[text], actions.as_deref(), session).into_iter().map(move |kin| Part { system, kin })
        };
        let parts = systems.iter().filter_map(|name| engine.site(name)).flat_map(of_system).collect();
        Self { engine, sought, session: session.clone(), classes, parts }
    }

    /// Returns those who are looked at, system by system: each of them costs about the same.
    #[must_use]
    pub fn parts(&self) -> &[Part<'e>] {
        &self.parts
    }

    /// Looks at some people: what they may do of what is looked for, all alike; nothing where that is nothing, and nothing is open.
    #[must_use]
    pub fn held(&self, part: &Part<'_>) -> Vec<OfClass> {
        let mut found = self.looked_at(part);
        found.retain(|alike| !alike.set.is_empty());
        found
    }

    /// Looks at some people as well of whom nothing was found, but a limit was met.
    pub(crate) fn looked_at(&self, part: &Part<'_>) -> Vec<OfClass> {
        let Part { system, kin } = part;
        let Some(site) = self.engine.site(system) else { return Vec::new() };
        let within = Within { stated: self.session.clone(), ..Within::default() };
        let mut found = self.classes.rights(site, kin, |side| sought_on(side, self.sought, Some(&self.classes)), &within);
        found.retain(|alike| !alike.set.is_empty() || !alike.set.limits().is_empty());
        found
    }

    /// Returns the people of what was found, each with what they hold, in the order of the ledger: work to be shared.
    #[must_use]
    pub fn people<'h>(&self, held: &'h [OfClass]) -> Vec<(UserId, Vec<&'h OfClass>)> {
        let mut all: Vec<(UserId, &OfClass)> = held.iter().flat_map(|one| one.people.iter().map(move |&user| (user, one))).collect();
        all.sort_by_key(|(user, _)| *user);
        let chunks = all.chunk_by(|(one, _), (other, _)| one == other);
        chunks.map(|chunk| (chunk[0].0, chunk.iter().map(|(_, held)| *held).collect())).collect()
    }

    /// Tells by what somebody holds it; systems of which the same is told stand together.
    #[must_use]
    pub fn told(&self, (user, held): &(UserId, Vec<&OfClass>)) -> Vec<Effective> {
        let name = &self.engine.estate().user(*user).id.value;
        let mut list = Vec::new();
        for one in held {
            let found = on_system(self.engine, &one.set.of_another(name), &self.session);
            if !found.rights.is_empty() {
                add(&mut list, found);
            }
        }
        list
    }

    /// Tells of everybody by what they hold it.
    #[must_use]
    pub fn all(&self) -> Vec<Effective> {
        let held: Vec<OfClass> = self.parts.iter().flat_map(|part| self.held(part)).collect();
        self.people(&held).iter().flat_map(|one| self.told(one)).collect()
    }
}
