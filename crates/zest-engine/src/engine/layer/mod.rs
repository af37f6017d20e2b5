//! Changes as layers: an engine of the whole ledger with changes applied, which shares all that they do not touch.

mod apply;

use std::collections::{BTreeMap, BTreeSet};
use std::sync::Arc;

use self::apply::{Draft, Touched};
use super::build::{self, Commands};
use super::estate::is_sound;
use super::standing::{self, Bands};
use super::{Engine, Membership};
use crate::engine::{Declared, Estate};
use crate::links::resolve::Ground;
use crate::links::{AssignmentId, GroupId, Party, Resolver, SetId, SystemId, UserId};
use zest_model::ask::{Change, Conflict, Edit, Written};
use zest_model::entries::Entries;
use zest_model::finding::{Finding, Findings};
use zest_model::table::Table;

/// Rows of a ledger that are others than before, by their numbers.
#[doc(hidden)]
#[derive(Debug, Default)]
pub struct Rows {
    /// Groups to which members were added.
    pub groups: BTreeSet<usize>,
    /// Command sets.
    pub sets: BTreeSet<usize>,
    /// Roles.
    pub roles: BTreeSet<usize>,
    /// Systems, each with the changes that were made; none where it is to be read anew.
    pub systems: BTreeMap<usize, Vec<Change>>,
}

impl Engine {
    /// Returns the engine of the ledger with changes applied, as if the changed ledger had been read and compiled.
    ///
    /// Everything that the changes do not touch is shared with this engine, which stays as it is. Changes of the session have no
    /// effect; [`Change::apply`] applies them to a question.
    ///
    /// # Errors
    /// What a change collides with; changes are applied in order, and none is left out.
    ///
    /// # Example
    /// ```
    /// use zest_ledger::{Engine, Ledger, Question, ask::{Change, Verdict}};
    /// let estate = Ledger::new().document("net.toml", r#"
    /// [users.watch-1]
    /// proofs = ["password"]
    /// [groups.readers]
    /// [vocabularies.corvane-os]
    /// commands = [{ line = "show release" }]
    /// [systems.sw-1]
    /// kind = "network-device"
    /// vocabulary = "corvane-os"
    /// no-command-set = "everything"
    /// [roles.reader]
    /// band = { start = 1, ceiling = 1 }
    /// [[assignments]]
    /// to = ["group:readers"]
    /// roles = ["reader"]
    /// on = { all = true }
    /// "#).estate()?;
    /// let engine = Engine::compile(estate)?;
    /// let joins = Change::JoinGroup { group: "readers".to_owned(), user: "watch-1".to_owned() };
    /// let changed = engine.with(&[joins.clone()])?;
    /// let question = Question::new("watch-1", "sw-1", "show release");
    /// assert_eq!((engine.decide(&question).verdict, changed.decide(&question).verdict), (Verdict::Denied, Verdict::Allowed));
    /// assert_eq!(engine.edits(&[joins.clone()])?[0].to_string(), r#"net.toml: groups.readers.members: add "user:watch-1""#);
    /// assert!(changed.with(&[joins]).unwrap_err().to_string().contains("`watch-1` is in the group `readers` already"));
    /// # Ok::<(), Box<dyn std::error::Error>>(())
    /// ```
    pub fn with(&self, changes: &[Change]) -> Result<Self, Conflict> {
        let Draft { entries, touched, .. } = self.draft(changes)?;
        self.layer(entries, &touched)
    }

    /// Returns the engine of other entries, of which some rows alone are others than here; everything else is shared with this engine.
    ///
    /// # Errors
    /// Why they are no ledger.
    #[doc(hidden)]
    pub fn with_rows(&self, entries: Entries, Rows { groups, sets, roles, systems }: Rows) -> Result<Self, Conflict> {
        let role_grants = !roles.is_empty();
        let mut touched = Touched { groups, sets, roles, role_grants, systems, ..Touched::default() };
        touched.complete(&self.estate, &entries);
        self.layer(entries, &touched)
    }

    fn layer(&self, entries: Entries, touched: &Touched) -> Result<Self, Conflict> {
        let mut findings = Vec::new();
        let mut estate = Estate { entries, ..self.estate.clone() };
        let joined = resolve(&mut estate, touched, &mut findings);
        let fail = |findings, estate: &Estate| Conflict::Invalid(Findings::new(findings, Arc::clone(&estate.sources)));
        if !is_sound(&findings) {
            return Err(fail(findings, &estate));
        }
        let commands = self.commands_with(&estate, touched).map_err(|findings| fail(findings, &estate))?;
        let mut engine = Self { alphabet: commands.alphabet, sets: commands.sets, vocabularies: commands.vocabularies, ..self.clone() };
        for &system in touched.systems.keys() {
            engine.systems.set(system, estate.systems[system].kind.compile(&estate, SystemId::new(system)));
        }
        let users: Vec<UserId> = touched.users.iter().map(|&u| UserId::new(u)).collect();
        if !users.is_empty() || !joined.is_empty() {
            engine.membership = self.membership.with(&estate, &users, &joined);
        }
        let is_other = |&row: &usize| {
            let (old, new) = (&self.estate.assignments[row], &estate.assignments[row]);
            old.systems != new.systems || old.roles != new.roles || !old.to.iter().map(|t| t.0).eq(new.to.iter().map(|t| t.0))
        };
        if touched.assignments.iter().any(is_other) {
            engine.membership = Membership::of(&estate);
        }
        if !touched.roles.is_empty() || touched.assignments.iter().any(is_other) {
            engine.restand(&estate, touched);
        }
        if !(touched.sets.is_empty() && touched.roles.is_empty() && touched.systems.is_empty()) {
            engine.cache = Arc::default();
        }
        engine.estate = estate;
        Ok(engine)
    }

    /// Returns what changes of the ledger would write into its documents, in order.
    ///
    /// # Errors
    /// What a change collides with.
    pub fn edits(&self, changes: &[Change]) -> Result<Vec<Edit>, Conflict> {
        Ok(self.draft(changes)?.edits)
    }

    /// Returns what changes of the ledger would write into its documents, in order, each with the text to paste. The text of a later
    /// one goes into the document as the earlier ones left it.
    ///
    /// # Errors
    /// What a change collides with.
    ///
    /// # Example
    /// ```
    /// use zest_ledger::{Engine, Ledger, ask::Change};
    /// let people = "[users.watch-1]\n[groups.readers]\nmembers = []\n[systems.desk]\nkind = \"application\"\n";
    /// let estate = Ledger::new().document("people.toml", people).estate()?;
    /// let engine = Engine::compile(estate)?;
    /// let joins = Change::JoinGroup { group: "readers".to_owned(), user: "watch-1".to_owned() };
    /// let written = &engine.written(&[joins])?[0];
    /// let paste = written.paste.as_ref().expect("it is TOML");
    /// assert_eq!((paste.line, paste.replaces, paste.text.as_str()), (3, 1, "members = [\"user:watch-1\"]\n"));
    /// # Ok::<(), Box<dyn std::error::Error>>(())
    /// ```
    pub fn written(&self, changes: &[Change]) -> Result<Vec<Written>, Conflict> {
        let mut texts: BTreeMap<String, String> = BTreeMap::new();
        let write = |edit: Edit| {
            let paste = edit.document.as_ref().and_then(|name| {
                let sources = &self.estate.sources;
                let text = texts.entry(name.clone()).or_insert_with(|| sources.text_of(name).unwrap_or_default().to_owned());
                let paste = edit.paste(text).ok()?;
                *text = edit.carried_out(text).ok()?;
                Some(paste)
            });
            Written { edit, paste, more: zest_model::More }
        };
        Ok(self.edits(changes)?.into_iter().map(write).collect())
    }

    fn draft(&self, changes: &[Change]) -> Result<Draft<'_>, Conflict> {
        let estate = &self.estate;
        let mut draft = Draft { estate, entries: estate.entries.clone(), touched: Touched::default(), edits: Vec::new(), current: None };
        changes.iter().try_for_each(|change| draft.apply(change))?;
        draft.touched.complete(estate, &draft.entries);
        Ok(draft)
    }

    /// Compiles the command sets that are others; all of them where a pattern has words that are not known yet.
    fn commands_with(&self, estate: &Estate, touched: &Touched) -> Result<Commands, Vec<Finding>> {
        let sets = || touched.sets.iter().map(|&s| SetId::new(s));
        if sets().flat_map(|s| &estate.sets[s.index()].rules).any(|rule| !self.alphabet.knows(&rule.pattern)) {
            return build::commands(estate.ground());
        }
        let (mut compiled, mut findings) = (self.sets.clone(), Vec::new());
        for set in sets() {
            if let Some(made) = build::set(estate.ground(), &self.alphabet, set, &mut findings) {
                compiled.set(set.index(), made);
            }
        }
        let commands = Commands { alphabet: Arc::clone(&self.alphabet), sets: compiled, vocabularies: Arc::clone(&self.vocabularies) };
        if findings.is_empty() { Ok(commands) } else { Err(findings) }
    }

    /// Works out anew what assignments give that have a touched role, or are others themselves.
    fn restand(&mut self, estate: &Estate, touched: &Touched) {
        let (mut bands, mut standings) = (Bands::default(), (*self.standings).clone());
        for row in 0..estate.assignments.len() {
            let has_role = self.standing(AssignmentId::new(row)).1.roles.iter().any(|r| touched.roles.contains(&r.index()));
            if has_role || touched.assignments.contains(&row) {
                self.standing_of.set(row, standings.len());
                standings.push(standing::standing(estate, &estate.assignments[row], &mut bands));
            }
        }
        self.standings = Arc::new(standings);
    }
}

/// Follows the references of what is touched; returns who is in a group now who was not before.
fn resolve(estate: &mut Estate, touched: &Touched, findings: &mut Vec<Finding>) -> Vec<(UserId, GroupId)> {
    let names = Arc::clone(&estate.names);
    let mut resolver = Resolver { names: &names, findings };
    let mut joined = Vec::new();
    for &row in &touched.groups {
        let links = resolver.group(&estate.entries.groups[row]);
        let before = &estate.groups[row].members;
        let is_new = |party: &Party| !before.iter().any(|(known, _)| known == party);
        joined.extend(links.members.iter().map(|(party, _)| *party).filter(is_new).filter_map(|party| match party {
            Party::User(user) => Some((user, GroupId::new(row))),
            Party::Group(_) => None,
        }));
        estate.groups.set(row, Arc::new(links));
    }
    let sets_before = estate.sets.clone();
    for (row, links) in resolver.some_sets(&estate.entries, &estate.sets, &touched.sets) {
        estate.sets.set(row, links);
    }
    for &row in &touched.roles {
        let (links, _) = resolver.role(&estate.entries.roles[row]);
        estate.roles.set(row, Arc::new(links));
    }
    for &row in &touched.assignments {
        let links = resolver.assignment(&estate.entries.assignments[row], &estate.entries);
        estate.assignments.set(row, Arc::new(links));
    }
    if !(touched.systems.is_empty() && touched.sets.is_empty() && touched.roles.is_empty()) {
        let ground =
            Ground { entries: &estate.entries, vocabularies: &estate.vocabularies, sets: &estate.sets, sets_before: Some(&sets_before) };
        let declare = |row: usize| {
            let kind = estate.systems[row].kind;
            let before = &estate.systems[row];
            let Some(changes) = touched.systems.get(&row) else { return before.clone() };
            let system = SystemId::new(row);
            let amended = if changes.is_empty() { None } else { kind.amend(&mut resolver, ground, system, &before.links, changes) };
            Declared { kind, links: amended.unwrap_or_else(|| kind.resolve(&mut resolver, ground, system)) }
        };
        let mut systems: Vec<Declared> = (0..estate.systems.len()).map(declare).collect();
        for kind in estate.kinds.all() {
            kind.complete(&mut resolver, ground, &mut systems);
        }
        estate.systems = replaced(&estate.systems, systems, touched);
    }
    joined
}

fn replaced(table: &Table<Declared>, systems: Vec<Declared>, touched: &Touched) -> Table<Declared> {
    let mut table = table.clone();
    for (row, declared) in systems.into_iter().enumerate().filter(|(row, _)| touched.systems.contains_key(row)) {
        table.set(row, declared);
    }
    table
}
