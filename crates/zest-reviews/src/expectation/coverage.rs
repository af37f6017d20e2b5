//! Coverage: which rules, grants, assignments and conditions of a ledger some expectation depends on.
//!
//! A part is covered if an expectation turns when the part is taken out of the ledger, or turned round. Whether it does is found out by
//! asking all of them in the ledger without it.

use std::sync::Arc;

use zest_engine::Engine;
use zest_model::entries::Entries;
use zest_model::entry::{Grant, RuleVerb, When};
use zest_model::listing::Uncovered;
use zest_model::source::{Location, Place, visible};

use crate::row::Row;

/// A part of a ledger that has a say on answers by itself.
///
/// # Example
/// ```
/// use zest_ledger::{Ledger, expectation::parts};
/// # let text = r#"
/// # users.mate-1.proofs = ["password"]
/// # users.mate-2.proofs = ["password"]
/// # systems.rota.kind = "application"
/// # [applications.rota]
/// # types.shift.rights = ["plan"]
/// # objects."shift/early" = {}
/// # grants = [{ allow = ["plan"], on = "shift/*", to = ["user:mate-1"] }]
/// # "#;
/// let kept = "[[expectations]]\nwho = ['user:mate-2']\non = ['rota']\nlines = ['plan on shift/early']\nanswer = 'denied'\n";
/// let engine = Ledger::new().document("rota.toml", &format!("{text}{kept}")).engine(1)?;
/// let parts = parts(&engine);
/// assert_eq!((parts.len(), parts[0].what()), (1, "grant of `plan` of `rota`"));
/// # Ok::<(), zest_ledger::finding::Findings>(())
/// ```
#[derive(Clone, Debug)]
pub struct Part {
    of: Of,
    /// Where it is written.
    place: Place,
    /// What it is, in words.
    what: String,
}

/// Whether some expectation depends on a part.
///
/// # Example
/// ```
/// use zest_ledger::{Ledger, expectation::{Asked, Covered, parts, rows}};
/// # let text = r#"
/// # users.mate-1.proofs = ["password"]
/// # users.mate-2.proofs = ["password"]
/// # systems.rota.kind = "application"
/// # [applications.rota]
/// # types.shift.rights = ["plan"]
/// # objects."shift/early" = {}
/// # grants = [{ allow = ["plan"], on = "shift/*", to = ["user:mate-1"] }]
/// # "#;
/// let kept = "[[expectations]]\nwho = ['user:mate-2']\non = ['rota']\nlines = ['plan on shift/early']\nanswer = 'denied'\n";
/// let engine = Ledger::new().document("rota.toml", &format!("{text}{kept}")).engine(1)?;
/// let rows = rows(&engine).0;
/// // Turned round, the grant would deny mate-1; without it mate-2 is denied as before.
/// assert_eq!(parts(&engine)[0].is_covered_by(&engine, &Asked::of(&engine, &rows)), Covered::No);
/// # Ok::<(), zest_ledger::finding::Findings>(())
/// ```
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Covered {
    /// One turns without it, or when it is turned round.
    Yes,
    /// None does.
    No,
    /// The ledger without it is none, so it cannot be found out.
    NotTried,
}

/// Which entry, and which part of it.
#[derive(Clone, Copy, Debug)]
pub(super) enum Of {
    Assignment(usize),
    AssignmentCondition(usize),
    Rule(usize, usize),
    Grant(Where, usize),
    GrantCondition(Where, usize),
    GrantLift(Where, usize),
    Ceiling(usize, usize),
    DatabaseGrant(usize, usize),
    RunAs(usize, usize),
    Separation(usize),
}

/// In which table a grant of a cloud or an application stands.
#[derive(Clone, Copy, Debug)]
pub(super) enum Where {
    Service(usize),
    Role(usize),
}

/// What is done to a part.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) enum Edit {
    Out,
    Round,
}

/// Returns all parts of a ledger.
///
/// # Example
/// ```
/// use zest_ledger::{Ledger, expectation::parts};
/// # let text = r#"
/// # users.mate-1.proofs = ["password"]
/// # users.mate-2.proofs = ["password"]
/// # systems.rota.kind = "application"
/// # [applications.rota]
/// # types.shift.rights = ["plan"]
/// # objects."shift/early" = {}
/// # grants = [{ allow = ["plan"], on = "shift/*", to = ["user:mate-1"] }]
/// # "#;
/// let kept = "[[expectations]]\nwho = ['user:mate-2']\non = ['rota']\nlines = ['plan on shift/early']\nanswer = 'denied'\n";
/// let engine = Ledger::new().document("rota.toml", &format!("{text}{kept}")).engine(1)?;
/// assert_eq!(parts(&engine).iter().map(|part| part.what()).collect::<Vec<_>>(), ["grant of `plan` of `rota`"]);
/// # Ok::<(), zest_ledger::finding::Findings>(())
/// ```
#[must_use]
pub fn parts(engine: &Engine) -> Vec<Part> {
    let entries = engine.estate().entries();
    let mut list = Vec::new();
    let mut add = |of: Of, place: Place, what: String| list.push(Part { of, place, what });
    for (i, assignment) in entries.assignments.iter().enumerate() {
        let roles: Vec<String> = assignment.roles.iter().map(|role| format!("`{}`", visible(&role.value))).collect();
        let what = format!("assignment of {}", roles.join(", "));
        if !assignment.when.is_empty() {
            add(Of::AssignmentCondition(i), assignment.place, format!("the condition of the {what}"));
        }
        add(Of::Assignment(i), assignment.place, what);
    }
    for (i, set) in entries.command_sets.iter().enumerate() {
        for (j, rule) in set.rules.iter().enumerate() {
            let what = format!("rule `{} {}` of `{}`", rule.verb.word(), visible(&rule.text.value), visible(&set.id.value));
            add(Of::Rule(i, j), rule.text.place, what);
        }
    }
    let grants = |of: Where, grants: &[Grant], whose: &str, add: &mut dyn FnMut(Of, Place, String)| {
        for (j, grant) in grants.iter().enumerate() {
            let (verb, names) = if grant.deny.is_empty() { ("grant", &grant.allow) } else { ("deny", &grant.deny) };
            let names: Vec<String> = names.iter().map(|name| visible(&name.value)).collect();
            let what = format!("{verb} of `{}` of {whose}", names.join(", "));
            if !grant.when.is_empty() {
                add(Of::GrantCondition(of, j), grant.place, format!("the condition of the {what}"));
            }
            if !grant.lifted_by.is_empty() {
                add(Of::GrantLift(of, j), grant.place, format!("what lifts the {what}"));
            }
            add(Of::Grant(of, j), grant.place, what);
        }
    };
    for (i, service) in entries.services.iter().enumerate() {
        let whose = format!("`{}`", visible(&service.system.value));
        grants(Where::Service(i), &service.grants, &whose, &mut add);
        for (j, ceiling) in service.ceilings.iter().enumerate() {
            add(Of::Ceiling(i, j), ceiling.place, format!("a ceiling of {whose}"));
        }
    }
    for (i, role) in entries.roles.iter().enumerate() {
        grants(Where::Role(i), &role.grants, &format!("role `{}`", visible(&role.id.value)), &mut add);
    }
    for (i, database) in entries.databases.iter().enumerate() {
        for (j, grant) in database.grants.iter().enumerate() {
            let (verb, names) = if grant.revoke.is_empty() { ("grant", &grant.allow) } else { ("revoke", &grant.revoke) };
            let names: Vec<String> = names.iter().map(|name| visible(&name.value)).collect();
            let what = format!("{verb} of `{}` of `{}`", names.join(", "), visible(&database.system.value));
            add(Of::DatabaseGrant(i, j), grant.place, what);
        }
    }
    for (i, host) in entries.hosts.iter().enumerate() {
        for (j, rule) in host.run_as.iter().enumerate() {
            add(Of::RunAs(i, j), rule.place, format!("a run-as rule of `{}`", visible(&host.system.value)));
        }
    }
    for (i, separation) in entries.separations.iter().enumerate() {
        add(Of::Separation(i), separation.id.place, format!("separation `{}`", visible(&separation.id.value)));
    }
    list
}

/// Rows, and which of their answers are the expected ones in the ledger as it is.
///
/// # Example
/// ```
/// use zest_ledger::{Ledger, expectation::{Asked, Covered, parts, rows}};
/// # let text = r#"
/// # users.mate-1.proofs = ["password"]
/// # users.mate-2.proofs = ["password"]
/// # systems.rota.kind = "application"
/// # [applications.rota]
/// # types.shift.rights = ["plan"]
/// # objects."shift/early" = {}
/// # grants = [{ allow = ["plan"], on = "shift/*", to = ["user:mate-1"] }]
/// # "#;
/// let kept = "[[expectations]]\nwho = ['user:mate-2']\non = ['rota']\nlines = ['plan on shift/early']\nanswer = 'denied'\n";
/// let engine = Ledger::new().document("rota.toml", &format!("{text}{kept}")).engine(1)?;
/// let rows = rows(&engine).0;
/// let asked = Asked::of(&engine, &rows);
/// assert!(parts(&engine).iter().all(|part| part.is_covered_by(&engine, &asked) == Covered::No));
/// # Ok::<(), zest_ledger::finding::Findings>(())
/// ```
#[derive(Debug)]
pub struct Asked<'r>(Vec<(&'r Row<'r>, Vec<bool>)>);

impl<'r> Asked<'r> {
    /// Asks each row once.
    #[must_use]
    pub fn of(engine: &Engine, rows: &'r [Row<'r>]) -> Self {
        Self(rows.iter().map(|row| (row, row.holds(engine))).collect())
    }
}

impl Part {
    pub(crate) const fn place(&self) -> Place {
        self.place
    }

    pub(super) const fn of(&self) -> Of {
        self.of
    }

    /// Returns whether it is an entry of its own, and no condition of one.
    pub(crate) const fn is_entry(&self) -> bool {
        !matches!(self.of, Of::AssignmentCondition(_) | Of::GrantCondition(..) | Of::GrantLift(..))
    }

    /// Returns where it is written.
    #[must_use]
    pub fn location(&self, engine: &Engine) -> Location {
        engine.estate().sources().locate(self.place)
    }

    /// Returns the ledger without it; nothing where that is no ledger.
    ///
    /// # Example
    /// ```
    /// use zest_ledger::{Ledger, Question, ask::Verdict, expectation::parts};
    /// # let text = r#"
    /// # users.mate-1.proofs = ["password"]
    /// # systems.rota.kind = "application"
    /// # [applications.rota]
    /// # types.shift.rights = ["plan"]
    /// # objects."shift/early" = {}
    /// # grants = [{ allow = ["plan"], on = "shift/*", to = ["user:mate-1"] }]
    /// # "#;
    /// # let engine = Ledger::new().document("rota.toml", text).engine(1)?;
    /// let question = Question::new("mate-1", "rota", "plan on shift/early");
    /// let part = &parts(&engine)[0];
    /// assert_eq!(part.location(&engine).to_string(), "rota.toml:7");
    /// let without = part.taken_out(&engine).expect("it is a ledger without the grant");
    /// assert_eq!((engine.decide(&question).verdict, without.decide(&question).verdict), (Verdict::Allowed, Verdict::Denied));
    /// # Ok::<(), zest_ledger::finding::Findings>(())
    /// ```
    #[must_use]
    pub fn taken_out(&self, engine: &Engine) -> Option<Engine> {
        self.edited(engine, Edit::Out)
    }

    /// Returns what it is, in words.
    #[must_use]
    pub fn what(&self) -> &str {
        &self.what
    }

    /// Returns whether one of some rows depends on it.
    #[must_use]
    pub fn is_covered_by(&self, engine: &Engine, rows: &Asked<'_>) -> Covered {
        let mut is_tried = false;
        for edit in [Edit::Out, Edit::Round] {
            let Some(without) = self.edited(engine, edit) else { continue };
            is_tried = true;
            if rows.0.iter().any(|(row, held)| row.holds(&without) != *held) {
                return Covered::Yes;
            }
        }
        if is_tried { Covered::No } else { Covered::NotTried }
    }

    /// Returns the ledger without the part, or with it turned round; nothing where that is no ledger.
    pub(super) fn edited(&self, engine: &Engine, edit: Edit) -> Option<Engine> {
        let mut entries: Entries = engine.estate().entries().clone();
        self.of.edit(&mut entries, edit)?;
        engine.with_entries(entries).ok()
    }

    /// Tells of it, that no expectation depends on it.
    ///
    /// # Example
    /// ```
    /// use zest_ledger::{Ledger, expectation::{Covered, parts}};
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
    /// let told = parts(&engine)[0].told(&engine, Covered::No).expect("it is not covered");
    /// assert_eq!(told.what, "grant of `plan` of `rota`");
    /// # Ok::<(), zest_ledger::finding::Findings>(())
    /// ```
    #[must_use]
    pub fn told(&self, engine: &Engine, covered: Covered) -> Option<Uncovered> {
        let is_tried = match covered {
            Covered::Yes => return None,
            Covered::No => true,
            Covered::NotTried => false,
        };
        Some(Uncovered { what: self.what.clone(), place: self.location(engine), is_tried, more: zest_model::More })
    }
}

impl Of {
    /// Carries an edit out; nothing where it cannot be turned round.
    fn edit(self, entries: &mut Entries, edit: Edit) -> Option<()> {
        match (self, edit) {
            (Self::Assignment(i), Edit::Out) => {
                let left = entries.assignments.iter().enumerate().filter(|(row, _)| *row != i).map(|(_, entry)| Arc::clone(entry));
                entries.assignments = left.collect();
            }
            (Self::AssignmentCondition(i), Edit::Out) => entries.assignments.edit(i, |entry| entry.when = When::default()),
            (Self::Rule(i, j), _) => {
                let mut set = (*entries.command_sets[i]).clone();
                match edit {
                    Edit::Out => drop(set.rules.remove(j)),
                    Edit::Round => {
                        let rule = &mut set.rules[j];
                        rule.verb = match rule.verb {
                            RuleVerb::Allow => RuleVerb::Deny,
                            RuleVerb::Deny => RuleVerb::Allow,
                            RuleVerb::Include => return None,
                        };
                    }
                }
                entries.command_sets.set(i, Arc::new(set));
            }
            (Self::Grant(of, j), _) => of.edit(entries, |grants| match edit {
                Edit::Out => drop(grants.remove(j)),
                Edit::Round => {
                    let grant = &mut grants[j];
                    std::mem::swap(&mut grant.allow, &mut grant.deny);
                }
            }),
            (Self::GrantCondition(of, j), Edit::Out) => of.edit(entries, |grants| grants[j].when = When::default()),
            (Self::GrantLift(of, j), Edit::Out) => of.edit(entries, |grants| grants[j].lifted_by = When::default()),
            (Self::Ceiling(i, j), Edit::Out) => entries.services.edit(i, |service| drop(service.ceilings.remove(j))),
            (Self::DatabaseGrant(i, j), Edit::Out) => entries.databases.edit(i, |database| drop(database.grants.remove(j))),
            (Self::RunAs(i, j), Edit::Out) => entries.hosts.edit(i, |host| drop(host.run_as.remove(j))),
            (Self::Separation(i), Edit::Out) => {
                let left = entries.separations.iter().enumerate().filter(|(row, _)| *row != i).map(|(_, entry)| Arc::clone(entry));
                entries.separations = left.collect();
            }
            (
                Self::Assignment(_)
                | Self::AssignmentCondition(_)
                | Self::GrantCondition(..)
                | Self::GrantLift(..)
                | Self::Ceiling(..)
                | Self::DatabaseGrant(..)
                | Self::RunAs(..)
                | Self::Separation(_),
                Edit::Round,
            ) => return None,
        }
        Some(())
    }
}

impl Where {
    fn edit(self, entries: &mut Entries, edit: impl FnOnce(&mut Vec<Grant>)) {
        match self {
            Self::Service(i) => entries.services.edit(i, |service| edit(&mut service.grants)),
            Self::Role(i) => entries.roles.edit(i, |role| edit(&mut role.grants)),
        }
    }
}
