//! What runs along: routines that are called, and the triggers of tables that are changed (`sp_head.cc`, `sql_trigger.cc` of version
//! 10.11).

use super::super::name::{Class, ObjectName};
use super::super::need::As;
use super::super::privilege::Privilege;
use super::super::state::Object;
use super::super::trigger::{Event, Trigger};
use super::bodies::{Piece, What, pieces};
use super::{Circumstances, Deriver};
use crate::database::On;
use crate::database::not_modelled::Touch;
use crate::sql::{Dialect, Use, one, with_statements};
use zest_model::source::visible;

impl Deriver<'_> {
    /// A routine that is called; it runs as its definer where it says so.
    pub(super) fn inside(&mut self, object: &ObjectName) {
        let Some(entry) = self.state.objects.get(object) else { return };
        let body = entry.body.clone().unwrap_or_default();
        if body.trim().trim_end_matches(';').trim().is_empty() {
            self.undecided.push(format!("what {object} does: its body is not in the ledger"));
            return;
        }
        let by = self.of_routine(entry);
        let here = Circumstances { object: object.clone(), trigger: None, by: by.clone(), database: Some(object.database.clone()) };
        if self.enter(&here) {
            let parameters = entry.parameters.as_deref().unwrap_or_default();
            let before = self.list.len();
            self.in_name_of(by, here.database.clone(), |inner| inner.body(&object.to_string(), &body, parameters));
            if self.passes_over || self.by_rows && object.class == Class::Function {
                self.come_to_or_not(before, &object.to_string());
            }
            self.followed.leave(here);
        }
    }

    pub(super) fn of_routine(&self, entry: &Object) -> As {
        entry.definer.clone().filter(|_| entry.runs_as_owner).map_or_else(|| self.by.clone(), |definer| self.by.runs(definer))
    }

    /// What the server looks at besides where a relation is used, and the triggers that a change of a table sets off.
    pub(super) fn runs_along(&mut self, object: &ObjectName, used: &Use) {
        used.verbs.iter().for_each(|verb| self.not_modelled(object, Touch::from(*verb)));
        self.triggers(object, used);
    }

    /// The triggers that a change of a table sets off.
    pub(super) fn triggers(&mut self, table: &ObjectName, used: &Use) {
        // What is explained makes, changes and removes no row.
        let Some(entry) = self.state.objects.get(table).filter(|_| !self.is_only_planned) else { return };
        for (name, trigger) in entry.triggers.iter().filter(|(_, trigger)| used.verbs.contains(&trigger.event.verb())) {
            self.trigger(table, name, trigger);
        }
    }

    /// A trigger runs once for each row, as its definer, who must be let make triggers on the table still.
    fn trigger(&mut self, table: &ObjectName, name: &str, trigger: &Trigger) {
        let by = self.by.runs(trigger.definer.clone());
        let database = Some(table.database.clone());
        let here = Circumstances { object: table.clone(), trigger: Some(name.to_owned()), by: by.clone(), database: database.clone() };
        if !self.enter(&here) {
            return;
        }
        let shown = format!("trigger {name} of {table}");
        // Whether there is a row to change, or one that is read comes out, hangs on what is in the tables.
        let is_sure = trigger.event == Event::Insert && trigger.is_before && self.change.has_values;
        self.notes.push(format!("{shown} runs along, as `{}`", visible(&trigger.definer.to_string())));
        let before = self.list.len();
        self.in_name_of(by, database, |inner| {
            inner.on_table(table, Privilege::Trigger, On::Object);
            inner.row_of = Some(table.clone());
            inner.body(&shown, &trigger.body, "");
        });
        if !is_sure {
            self.come_to_or_not(before, &shown);
        }
        self.followed.leave(here);
    }

    /// Makes checks that came up since then such as the server may come to or not.
    fn come_to_or_not(&mut self, from: usize, of: &str) {
        let needs = self.list.split_off(from);
        self.list.extend(needs.into_iter().map(|need| need.if_come_to(of)));
    }

    /// All that stands in a body.
    fn body(&mut self, of: &str, body: &str, parameters: &str) {
        let pieces = match pieces(body, parameters, self.row_of.is_some()) {
            Ok(pieces) => pieces,
            Err(why) => return self.undecided.push(format!("what {of} does: {why}")),
        };
        for Piece { what, is_sure, variables } in pieces {
            self.variables = variables;
            let before = self.list.len();
            match what {
                What::Statement(text) => self.statement_in_body(of, &text),
                What::Expression(text) => self.parsed_in_body(of, &format!("SELECT {text}")),
                What::Set(column) => {
                    if let Some(table) = self.row_of.clone() {
                        self.on_table(&table, Privilege::Update, On::Columns(vec![column]));
                    }
                }
            }
            if !is_sure {
                self.come_to_or_not(before, of);
            }
        }
    }

    fn statement_in_body(&mut self, of: &str, text: &str) {
        if super::about_rights::needs(self.state, text).is_some() {
            self.undecided.push(format!("what {of} may do about roles and accounts in the name of its definer"));
        } else if let Some(made) = self.about_objects(text) {
            self.take(made);
        } else {
            self.parsed_in_body(of, text);
        }
    }

    fn parsed_in_body(&mut self, of: &str, text: &str) {
        with_statements(Dialect::Mariadb, text, true, |read| match one(read) {
            Ok(statement) => self.whole(statement, text),
            Err(_) => self.undecided.push(format!("what {of} does: `{text}` in it cannot be read")),
        });
    }
}
