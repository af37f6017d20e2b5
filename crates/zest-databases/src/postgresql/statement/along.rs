//! What runs along when rows of a relation are used: policies of row security, checks, triggers and rules.

use std::collections::BTreeSet;
use std::fmt;

use zest_model::entry::PolicyFor;

use super::super::catalog::Catalog;
use super::super::need::Need;
use super::super::object::ObjectName;
use super::super::policy::{self, Lets, Part};
use super::super::privilege::Class;
use super::super::state::Object;
use super::{Circumstances, Deriver, own_type};
use crate::database::name::parts;
use crate::database::not_modelled::sort_of;
use crate::sql::{Dialect, Touches, Use, Verb, Words, one, several, with_statements};

/// Trigger functions of the server itself, which touch nothing but the row.
const HARMLESS: &[&str] = &["suppress_redundant_updates_trigger", "tsvector_update_trigger", "tsvector_update_trigger_column"];

impl Deriver<'_> {
    /// What the server runs along with a use of a relation.
    pub(super) fn runs_along(&mut self, object: &ObjectName, entry: &Object, used: &Use) {
        self.row_security(object, entry, used);
        let makes = used.verbs.contains(&Verb::Insert);
        let changes = used.verbs.contains(&Verb::Update);
        if makes || changes {
            // Without a row nothing is checked.
            let checks = entry.checks.values().filter(|_| !self.is_only_planned).collect::<Vec<_>>();
            self.worked_out_if(!(makes && self.has_values), object, |deriver| {
                checks.into_iter().for_each(|check| deriver.expression(object, check));
            });
            for column in &entry.columns {
                // A column that is left out is filled with its default, or with nothing, and that is looked at as well.
                let is_given =
                    used.inserted.whole || used.inserted.names.contains(&column.name) || used.updated.names.contains(&column.name);
                let is_filled = makes && !used.inserted.names.contains(&column.name) || used.defaulted.contains(&column.name);
                if let Some(own) = own_type(column).and_then(type_named).filter(|_| is_given || is_filled) {
                    self.turned_into(&own, is_filled || self.has_values);
                }
            }
        }
        if used.changes() && !self.is_only_planned {
            entry.triggers.iter().for_each(|(name, written)| self.trigger(object, name, written, used));
        }
        for (name, written) in &entry.rules {
            self.rule(object, entry, name, written, used);
        }
    }

    fn row_security(&mut self, object: &ObjectName, entry: &Object, used: &Use) {
        let role = self.role.clone();
        if !policy::binds(self.catalog, &role, entry) {
            return;
        }
        let note = format!("row security is on for {object}: which rows are seen or changed depends on its policies");
        if !self.notes.contains(&note) {
            self.notes.push(note);
        }
        let has = |verb: Verb| used.verbs.contains(&verb);
        let (makes, changes) = (has(Verb::Insert), has(Verb::Update));
        if entry.policies.is_none() {
            self.undecided.push(match makes || changes {
                true => format!("whether the policies of {object} let the new rows in: no `policies` are written"),
                false => format!("what the policies of {object} look at: no `policies` are written"),
            });
            return;
        }
        let mut seen: Vec<PolicyFor> = Vec::new();
        seen.extend(has(Verb::Select).then_some(PolicyFor::Select));
        seen.extend((has(Verb::Lock) || changes).then_some(PolicyFor::Update));
        seen.extend(has(Verb::Delete).then_some(PolicyFor::Delete));
        // No row that is there is found where no policy shows one: then there is nothing to change.
        let finds = |acts: PolicyFor| policy::lets(self.catalog, &role, entry, acts, Part::Using) != Lets::None;
        let finds_some = finds(PolicyFor::Update) && (!has(Verb::Select) || finds(PolicyFor::Select));
        let renews = changes && (makes || self.merges || finds_some);
        let mut new: Vec<(PolicyFor, Part)> = Vec::new();
        new.extend(makes.then_some((PolicyFor::Insert, Part::Check)));
        new.extend(renews.then_some((PolicyFor::Update, Part::Check)));
        // Where rows come back, and where one that is there is changed instead of a new one, what shows them is looked at for the new ones too.
        new.extend(((makes || renews) && has(Verb::Select)).then_some((PolicyFor::Select, Part::Using)));
        new.extend((changes && (makes || self.merges)).then_some((PolicyFor::Update, Part::Using)));
        new.extend((self.merges && has(Verb::Delete)).then_some((PolicyFor::Delete, Part::Using)));
        for acts in seen {
            self.conditions(object, entry, acts, Part::Using);
        }
        for (acts, part) in new {
            self.conditions(object, entry, acts, part);
            if self.is_only_planned {
                continue;
            }
            match policy::lets(self.catalog, &role, entry, acts, part) {
                Lets::All => {}
                Lets::None if makes && acts == PolicyFor::Insert && self.has_values && !may_keep_back(entry) => {
                    self.rows.push(Need::NewRow { role: role.clone(), object: object.clone() });
                }
                Lets::None | Lets::Some => self.undecided.push(format!("whether the policies of {object} let the new rows in")),
            }
        }
    }

    /// The conditions of policies are worked out as the caller; what they read is checked as the table is.
    fn conditions(&mut self, object: &ObjectName, entry: &Object, acts: PolicyFor, part: Part) {
        let (permitting, restricting) = policy::conditions(self.catalog, &self.role, entry, acts, part);
        let is_plain = |condition: &&str| !matches!(*condition, "true" | "false");
        for condition in permitting.into_iter().chain(restricting).filter(is_plain) {
            let here = Circumstances { part: Some(condition.to_owned()), ..Circumstances::of(object, &self.role, &self.caller) };
            if !self.enter(&here) {
                continue;
            }
            // The columns of the table itself were looked at when the policy was made.
            let before = (std::mem::replace(&mut self.looks_up, false), self.passed_over.replace(self.found.len()));
            let text = format!("SELECT 1 FROM {} WHERE {condition}", object.sql());
            with_statements(Dialect::Postgresql, &text, true, |read| match one(read) {
                Ok(statement) => self.walk(statement),
                Err(_) => self.undecided.push(format!("`{condition}` of a policy of {object} cannot be read")),
            });
            (self.looks_up, self.passed_over) = before;
            self.followed.leave(here);
        }
    }

    /// A value is turned into a type: the checks of a domain are worked out then, and those of whatever it is made of. A value that is of
    /// the type already is not looked at again, so that it may not be sure that they are.
    pub(super) fn turned_into(&mut self, name: &ObjectName, is_sure: bool) {
        let Some(entry) = self.catalog.state().objects.get(name) else { return };
        let here = Circumstances::of(name, &self.role, &self.caller);
        if !self.enter(&here) {
            return;
        }
        self.worked_out_if(!is_sure, name, |deriver| {
            let before = std::mem::replace(&mut deriver.in_body, true);
            entry.checks.values().for_each(|check| deriver.worked_out(name, &format!("SELECT {check}")));
            deriver.in_body = before;
            types_of(entry).for_each(|part| deriver.turned_into(&part, true));
        });
        self.followed.leave(here);
    }

    /// Whether a type has checks, or is made of one that has.
    pub(super) fn is_checked(&self, name: &ObjectName) -> bool {
        let mut seen = vec![name.clone()];
        let mut at = 0;
        while let Some(entry) = seen.get(at).map(|name| self.catalog.state().objects.get(name)) {
            at += 1;
            let Some(entry) = entry else { continue };
            if !entry.checks.is_empty() {
                return true;
            }
            for part in types_of(entry) {
                if !seen.contains(&part) {
                    seen.push(part);
                }
            }
        }
        false
    }

    /// Works something out; where it is not sure that the server does, what would be refused for it is not known.
    pub(super) fn worked_out_if(&mut self, is_open: bool, of: &dyn fmt::Display, work: impl FnOnce(&mut Self)) {
        let late = self.late.len();
        work(self);
        // Where nobody asks, it is looked for what is done in another name, and nothing is decided.
        if self.signed_in.is_empty() {
            return;
        }
        let shut = self.late[late..].iter().map(|need| need.outcome(self.catalog)).find(|outcome| !outcome.passes());
        if let Some(shut) = shut.filter(|_| is_open) {
            self.late.truncate(late);
            self.undecided.push(format!("whether the server comes to this for {of}: {}", shut.text));
        }
    }

    /// A trigger runs where its event happens; its function is followed as far as functions are.
    fn trigger(&mut self, object: &ObjectName, name: &str, written: &str, used: &Use) {
        let Some(trigger) = Trigger::read(written) else {
            self.undecided.push(format!("when the trigger `{name}` of {object} fires"));
            return;
        };
        if !trigger.fires_for(used) || trigger.is_harmless() {
            return;
        }
        let function = ObjectName {
            arguments: Some(String::new()),
            ..ObjectName::new(Class::Function, &trigger.calls.iter().map(String::as_str).collect::<Vec<_>>())
        };
        if !trigger.has_condition && self.catalog.state().objects.contains_key(&function) {
            // It fires where there are such rows, and nobody looks at rights on it then.
            self.worked_out_if(true, object, |deriver| deriver.inside_routine(&function));
        } else {
            self.undecided.push(format!("what the trigger `{name}` of {object} does: {} is not followed", trigger.calls.join(".")));
        }
    }

    /// The triggers of a TRUNCATE.
    pub(super) fn truncate_triggers(&mut self, object: &ObjectName) {
        let Some(entry) = self.catalog.state().objects.get(object) else { return };
        for (name, written) in &entry.triggers {
            match Trigger::read(written) {
                Some(trigger) if !trigger.truncate || trigger.is_harmless() => {}
                _ => self.undecided.push(format!("what the trigger `{name}` of {object} does")),
            }
        }
    }

    /// Whether rules leave nothing of a change: the server carries out nothing then, and checks nothing.
    pub(super) fn leaves_nothing(entry: &Object, used: &Use) -> bool {
        let rules: Option<Vec<Rule>> = entry.rules.values().map(|written| Rule::read(written)).collect();
        let Some(rules) = rules else { return false };
        used.verbs.iter().any(|verb| {
            let mut of_verb = rules.iter().filter(|rule| rule.is_looked_at && rule.event == *verb);
            of_verb.clone().any(|rule| rule.is_instead) && of_verb.all(|rule| rule.actions.is_empty())
        })
    }

    /// Whether a rule or a trigger stands in for a change of a view, which then does not reach what is behind it.
    pub(super) fn stands_in(entry: &Object, verb: Verb) -> bool {
        let is_meant = |rule: Rule| rule.is_looked_at && rule.is_instead && rule.event == verb;
        entry.rules.values().filter_map(|written| Rule::read(written)).any(is_meant) || Self::trigger_stands_in(entry, verb)
    }

    /// Whether it is a trigger that stands in for a change of a view.
    pub(super) fn trigger_stands_in(entry: &Object, verb: Verb) -> bool {
        let is_meant = |trigger: Trigger| trigger.is_instead && trigger.is_set_off_by(verb);
        entry.triggers.values().filter_map(|written| Trigger::read(written)).any(is_meant)
    }

    /// A rule adds to a statement, or stands in for it; what it does is checked as the owner of the relation.
    fn rule(&mut self, object: &ObjectName, entry: &Object, name: &str, written: &str, used: &Use) {
        let Some(rule) = Rule::read(written) else {
            self.undecided.push(format!("what the rule `{name}` of {object} does"));
            return;
        };
        if !rule.is_looked_at || !used.verbs.contains(&rule.event) {
            return;
        }
        let role = entry.owner.clone();
        let (change, part) = (Some(self.followed.count()), Some(name.to_owned()));
        let here = Circumstances { change, part, ..Circumstances::of(object, &role, &self.caller) };
        if !self.enter(&here) {
            return;
        }
        let before = (
            std::mem::replace(&mut self.role, role),
            std::mem::replace(&mut self.looks_up, false),
            std::mem::replace(&mut self.in_body, true),
            std::mem::replace(&mut self.has_values, false),
        );
        for text in rule.actions.iter().chain(&rule.condition.map(|condition| format!("SELECT {condition}"))) {
            with_statements(Dialect::Postgresql, text, true, |read| match one(read) {
                Ok(statement) => self.walk(statement),
                Err(_) => self.undecided.push(format!("what the rule `{name}` of {object} does")),
            });
        }
        (self.role, self.looks_up, self.in_body, self.has_values) = before;
        self.followed.leave(here);
    }
}

/// Whether a trigger or a rule could keep a new row back before policies look at it.
fn may_keep_back(entry: &Object) -> bool {
    let of_trigger = |written: &String| Trigger::read(written).is_none_or(|trigger| trigger.insert && trigger.is_before);
    let of_rule = |written: &String| Rule::read(written).is_none_or(|rule| rule.event == Verb::Insert);
    entry.triggers.values().any(of_trigger) || entry.rules.values().any(of_rule)
}

/// The type of ours that a text begins with, as the server prints it.
pub(super) fn type_named(text: &str) -> Option<ObjectName> {
    let (name, _) = parts(text.trim())?;
    let [schema, last] = name.as_slice() else { return None };
    Some(ObjectName::new(Class::Type, &[schema, last.trim_end_matches("[]")]))
}

/// Whether a change of rows could run anything as somebody else than whoever makes it: a rule, as the owner of the relation, or a trigger
/// whose function is not known to run as the caller.
pub(in super::super) fn runs_as_others(catalog: &Catalog, entry: &Object) -> bool {
    let is_of_caller = |calls: &[String]| {
        let named = catalog.state().objects.iter().filter(|(name, _)| name.class == Class::Function && name.parts == calls);
        let known: Vec<bool> = named.map(|(_, of)| of.runs_as_owner).collect();
        !known.is_empty() && !known.contains(&true)
    };
    let of_trigger =
        |written: &String| Trigger::read(written).is_none_or(|read| read.fires && !read.is_harmless() && !is_of_caller(&read.calls));
    let is_noted = |note: &String| matches!(sort_of(note), "trigger" | "rule");
    !entry.rules.is_empty() || entry.triggers.values().any(of_trigger) || entry.not_modelled.iter().any(is_noted)
}

/// The types of ours that a type is made of.
fn types_of(entry: &Object) -> impl Iterator<Item = ObjectName> {
    entry.domain_of.iter().map(String::as_str).chain(entry.columns.iter().filter_map(own_type)).filter_map(type_named)
}

/// Whether a text makes the trigger or the rule of this name on this very object, and does nothing else but to say when it is looked at.
pub(in super::super) fn makes(what: &str, name: &str, object: &ObjectName, written: &str) -> bool {
    let Some((made, says)) = made_and_state(written, what) else { return false };
    let makes = |text: &str| {
        let mut words = Words::of(Dialect::Postgresql, &["create"], text)?;
        words.takes("create").then_some(())?;
        words.takes_both("or", "replace");
        words.takes("constraint");
        (words.takes(what) && words.name()? == name).then_some(())?;
        let before = if what == "rule" { "to" } else { "on" };
        while !words.takes(before) {
            words.skip()?;
        }
        Some(words.path()? == object.parts)
    };
    makes(made) == Some(true) && says.is_none_or(|says| says.on == object.parts && says.name == name)
}

/// A trigger as its statement says.
struct Trigger {
    is_before: bool,
    /// Whether it stands in for a change of a view.
    is_instead: bool,
    insert: bool,
    /// Whether an UPDATE sets it off, and of which columns; of all if none.
    update: Option<BTreeSet<String>>,
    delete: bool,
    truncate: bool,
    calls: Vec<String>,
    fires: bool,
    has_condition: bool,
}

impl Trigger {
    /// Reads `CREATE TRIGGER …`, and behind it `ALTER TABLE … DISABLE TRIGGER …` and its like.
    fn read(written: &str) -> Option<Self> {
        let (made, says) = made_and_state(written, "trigger")?;
        let mut words = Words::of(Dialect::Postgresql, &["create"], made)?;
        words.takes("create");
        words.takes("constraint");
        words.takes("trigger").then_some(())?;
        words.name()?;
        let is_before = words.takes("before");
        let is_instead = !is_before && words.takes_both("instead", "of");
        (is_before || is_instead || words.takes("after")).then_some(())?;
        let mut read = Self {
            is_before,
            is_instead,
            insert: false,
            update: None,
            delete: false,
            truncate: false,
            calls: Vec::new(),
            fires: says.is_none_or(|says| says.takes_part),
            has_condition: false,
        };
        loop {
            match words.word()?.as_str() {
                "insert" => read.insert = true,
                "delete" => read.delete = true,
                "truncate" => read.truncate = true,
                "update" if words.takes("of") => read.update = Some(words.list(Words::name)?.into_iter().collect()),
                "update" => read.update = Some(BTreeSet::new()),
                _ => return None,
            }
            if !words.takes("or") {
                break;
            }
        }
        words.takes("on").then_some(())?;
        while !words.takes_both("execute", "function") && !words.takes_both("execute", "procedure") {
            read.has_condition |= words.is("when");
            words.skip()?;
        }
        read.calls = words.path()?;
        Some(read)
    }

    fn fires_for(&self, used: &Use) -> bool {
        let is_updated = |columns: &BTreeSet<String>| columns.is_empty() || used.updated.whole || !columns.is_disjoint(&used.updated.names);
        self.fires
            && used
                .verbs
                .iter()
                .any(|verb| self.is_set_off_by(*verb) && (*verb != Verb::Update || self.update.as_ref().is_some_and(is_updated)))
    }

    /// Whether it belongs to such a change, of whatever columns.
    fn is_set_off_by(&self, verb: Verb) -> bool {
        match verb {
            Verb::Insert => self.insert,
            Verb::Update => self.update.is_some(),
            Verb::Delete => self.delete,
            Verb::Select | Verb::Lock => false,
        }
    }

    fn is_harmless(&self) -> bool {
        let name = match self.calls.as_slice() {
            [schema, name] if schema == "pg_catalog" => name,
            [name] => name,
            _ => return false,
        };
        !self.has_condition && HARMLESS.contains(&name.as_str())
    }
}

/// A rule as its statement says.
struct Rule {
    event: Verb,
    condition: Option<String>,
    is_instead: bool,
    actions: Vec<String>,
    is_looked_at: bool,
}

impl Rule {
    /// Reads `CREATE RULE …`, and behind it `ALTER TABLE … DISABLE RULE …` and its like.
    fn read(written: &str) -> Option<Self> {
        let (made, says) = made_and_state(written, "rule")?;
        let is_looked_at = says.is_none_or(|says| says.takes_part);
        let mut words = Words::of(Dialect::Postgresql, &["create"], made)?;
        (words.takes("create") && words.takes("rule")).then_some(())?;
        words.name()?;
        (words.takes("as") && words.takes("on")).then_some(())?;
        let event = match words.word()?.as_str() {
            "insert" => Verb::Insert,
            "update" => Verb::Update,
            "delete" => Verb::Delete,
            _ => return None,
        };
        words.takes("to").then_some(())?;
        words.path()?;
        let condition = if words.takes("where") { Some(words.in_parentheses()?) } else { None };
        words.takes("do").then_some(())?;
        let is_instead = words.takes("instead");
        words.takes("also");
        let actions = if words.takes("nothing") {
            words.is_over().then(Vec::new)?
        } else {
            // Several stand in parentheses, with a semicolon behind each.
            let rest = words.rest_with_signs()?;
            let inside = rest.strip_prefix('(').and_then(|inner| inner.trim_end().strip_suffix(')'));
            match inside {
                Some(inner) => several(Dialect::Postgresql, inner)?.into_iter().map(str::to_owned).collect(),
                None => vec![rest],
            }
        };
        Some(Self { event, is_instead: is_instead && condition.is_none(), condition, actions, is_looked_at })
    }
}

/// What a statement behind the one that makes a trigger or a rule says of it.
struct Says {
    on: Vec<String>,
    name: String,
    /// Whether it is looked at in ordinary sessions.
    takes_part: bool,
}

/// Takes a text apart into the statement that makes something, and what another one says of it: whether it takes part in ordinary sessions.
fn made_and_state<'w>(written: &'w str, what: &str) -> Option<(&'w str, Option<Says>)> {
    let Some(parts) = several(Dialect::Postgresql, written) else { return Some((written, None)) };
    let [made, state] = parts.as_slice() else { return None };
    let mut words = Words::of(Dialect::Postgresql, &["alter"], state)?;
    words.takes_both("alter", "table").then_some(())?;
    words.takes("only");
    let on = words.path()?;
    let takes_part = if words.takes("disable") {
        false
    } else {
        words.takes("enable").then_some(())?;
        words.takes("always") || !words.takes("replica")
    };
    words.takes(what).then_some(())?;
    let name = words.name()?;
    words.is_over().then_some((made, Some(Says { on, name, takes_part })))
}
