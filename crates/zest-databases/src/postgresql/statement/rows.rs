//! What the rows that a statement reads and changes need, and the views, routines and sequences behind them.

use std::borrow::Cow;
use std::collections::BTreeSet;
use std::fmt;

use sqlparser::ast::{DataType, LockClause, LockType, SetExpr, Statement};

use super::super::Column;
use super::super::catalog::Want;
use super::super::need::{Demand, Need};
use super::super::object::ObjectName;
use super::super::privilege::{Class, Privilege};
use super::super::state::Object;
use super::along::type_named;
use super::plpgsql::{self, Piece};
use super::views::{self, Check};
use super::{
    ABOUT_RIGHTS, BUILT_IN, BUILT_IN_TYPES, Circumstances, Deriver, Frame, GUARDED, OF_AGGREGATES, OF_RELATIONS, OF_REPLICATION, RELATIONS,
    catalogs, settings, types,
};
use crate::database::On;
use crate::database::followed::Then;
use crate::database::name::parts;
use crate::database::not_modelled::{Touch, looked_at, looked_at_on_server, sort_of};
use crate::sql::{Call, Columns, Dialect, Names, Touches, UNNAMED, Use, Verb, WORDS_FOR_VALUES, fold, one, with_statements};

/// Rows
impl Deriver<'_> {
    pub(super) fn columns_of(&self, object: &ObjectName) -> Vec<String> {
        self.catalog.state().objects.get(object).map(|o| o.columns.iter().map(|c| c.name.clone()).collect()).unwrap_or_default()
    }

    /// A table or view of the server itself: most are open to everybody for reading, and superusers alone change them.
    pub(super) fn own_used(&mut self, own: &catalogs::Own, used: &Use) {
        let name = own.name;
        let of_schema = name.starts_with("information_schema.").then_some("catalog information_schema");
        if self.has_changed_rights(&format!("catalog {name}")) || of_schema.is_some_and(|note| self.has_changed_rights(note)) {
            return;
        }
        let only_reads = used.verbs.iter().all(|verb| *verb == Verb::Select);
        let is_hidden = |column: &str| used.selected.whole || used.selected.names.contains(column);
        match &own.readers {
            _ if used.verbs.is_empty() => {}
            _ if !only_reads => self.server_right(&[], &format!("`{name}`")),
            _ if own.hidden.iter().any(|column| is_hidden(column)) => self.server_right(&["pg_read_all_data"], &format!("`{name}`")),
            Some(readers) => self.server_right(&readers.clone(), &format!("`{name}`")),
            None => {}
        }
    }

    pub(super) fn relation_used(&mut self, object: &ObjectName, used: &Use) {
        let role = self.role.clone();
        let whole = self.columns_of(object);
        let on = |columns: &Columns| {
            if columns.whole {
                On::Columns(whole.clone())
            } else if columns.names.is_empty() {
                On::Some
            } else {
                On::Columns(columns.names.iter().cloned().collect())
            }
        };
        if self.catalog.state().objects.get(object).is_some_and(|entry| Self::leaves_nothing(entry, used)) {
            if self.in_body {
                self.undecided.push(format!("what is left where the rules of {object} leave nothing"));
            }
            self.is_dropped = true;
            return;
        }
        // In the order of the server's own mask: what cannot be given on columns decides first.
        for verb in [Verb::Delete, Verb::Select, Verb::Insert, Verb::Update, Verb::Lock] {
            if !used.verbs.contains(&verb) {
                continue;
            }
            let (privilege, on) = match verb {
                Verb::Delete => (Privilege::Delete, On::Object),
                Verb::Select => (Privilege::Select, on(&self.without_system_columns(object, &used.selected))),
                Verb::Insert => (Privilege::Insert, on(&used.inserted)),
                Verb::Update => (Privilege::Update, on(&used.updated)),
                Verb::Lock => (Privilege::Update, On::Some),
            };
            let need = Need::privilege(&role, object, privilege, on);
            if !self.outlines || self.is_framed(used.relation) {
                self.needed(used.relation, self.rows.len(), vec![need]);
            }
        }
        if self.outlines {
            return;
        }
        let catalog = self.catalog;
        let Some(entry) = catalog.state().objects.get(object) else { return };
        // What gives way to a change is not read: the policies for that, and whatever else runs along, are the change's.
        if !(self.gives_way && self.is_framed(used.relation)) {
            for verb in &used.verbs {
                self.not_modelled(object, Touch::from(*verb));
            }
            self.runs_along(object, entry, used);
        }
        let is_worked_out =
            |c: &&Column| used.defaulted.contains(&c.name) || used.verbs.contains(&Verb::Insert) && !used.inserted.names.contains(&c.name);
        for default in entry.columns.iter().filter(is_worked_out).filter_map(|c| c.default.as_ref()) {
            self.expression(object, default);
        }
        if object.class == Class::View && self.replaced != Some(used.relation) {
            let changes = used.verbs.iter().filter(|verb| !matches!(verb, Verb::Select | Verb::Lock));
            let (stood_in, passed_on): (Vec<Verb>, Vec<Verb>) = changes.partition(|verb| Self::stands_in(entry, **verb));
            match (stood_in.as_slice(), passed_on.as_slice()) {
                ([], _) => self.through_view(object, used),
                ([Verb::Insert], []) => {}
                // The rows that would be changed are looked for; a trigger gets each of them whole.
                (stood_in, []) => {
                    let whole = stood_in.iter().any(|verb| Self::trigger_stands_in(entry, *verb));
                    let selected = Columns { whole, ..Columns::default() };
                    self.through_view(object, &Use::reading(used.relation, selected));
                }
                _ => self.undecided.push(format!("what of the change passes on through {object}")),
            }
        }
    }

    /// Whether a relation stands in the FROM of the view that is read now.
    fn is_framed(&self, relation: usize) -> bool {
        self.frame.as_ref().is_some_and(|frame| frame.relations.contains(&relation))
    }

    /// Notes what a relation needs that was found by name, before what was noted since.
    fn needed(&mut self, relation: usize, since: usize, needs: Vec<Need>) {
        match self.frame.as_mut().filter(|frame| frame.relations.contains(&relation)) {
            Some(frame) => frame.needs.extend(needs),
            None => drop(self.rows.splice(since..since, needs)),
        }
    }

    /// Reads the query of a view; returns what it needs of what stands in its FROM, and up to where all that it names was found.
    pub(super) fn framed(&mut self, statement: &Statement) -> (Vec<Need>, usize) {
        let from = self.found.len();
        let outer = self.frame.replace(Frame { relations: from..from, end: None, needs: Vec::new() });
        self.walk(statement);
        let frame = std::mem::replace(&mut self.frame, outer);
        frame.map_or((Vec::new(), from), |frame| (frame.needs, frame.end.unwrap_or(from)))
    }

    /// What was noted since is looked at or not, as the server plans the statement: what of it would be refused is not known.
    fn looked_at_if(&mut self, of: &ObjectName, since: usize) {
        let open = &self.rows[since..];
        let shut = open.iter().map(|need| need.outcome(self.catalog)).find(|outcome| !outcome.passes());
        // Where nobody asks, it is looked for what is done in another name, and nothing is decided.
        if let Some(shut) = shut.filter(|_| !self.signed_in.is_empty()) {
            self.rows.truncate(since);
            self.undecided.push(format!("whether the server looks at all that {of} reads: {}", shut.text));
        }
    }

    /// A relation is used in what a query in FROM gives, which the server may leave out.
    pub(super) fn relation_perhaps_used(&mut self, object: &ObjectName, used: &Use) {
        let (frame, since) = (self.frame.take(), self.rows.len());
        self.worked_out_if(true, object, |deriver| deriver.relation_used(object, used));
        self.looked_at_if(object, since);
        self.frame = frame;
    }

    /// Reads of a part of a view's query that the server leaves out only what it names of the FROM, which counts all the same.
    fn outlined(&mut self, statement: &Statement) -> Vec<Need> {
        let marks = (self.late.len(), self.undecided.len(), self.turned.len(), self.made.len());
        let before = std::mem::replace(&mut self.outlines, true);
        let framed = self.framed(statement).0;
        self.outlines = before;
        self.late.truncate(marks.0);
        self.undecided.truncate(marks.1);
        self.turned.truncate(marks.2);
        self.made.truncate(marks.3);
        framed
    }

    /// Rights on a column that every table has are only named: whether it may be read is not decided.
    fn without_system_columns<'u>(&mut self, object: &ObjectName, selected: &'u Columns) -> Cow<'u, Columns> {
        let entry = self.catalog.state().objects.get(object);
        let Some(entry) = entry.filter(|entry| entry.not_modelled.iter().any(|note| sort_of(note) == "system")) else {
            return Cow::Borrowed(selected);
        };
        let is_given = |column: &String| entry.not_modelled.contains(&format!("system column {column}"));
        let (given, names): (BTreeSet<String>, BTreeSet<String>) = selected.names.iter().cloned().partition(is_given);
        let why = |column: &String| format!("the rights on the column {column} of {object}, which is the server's own");
        self.undecided.extend(given.iter().map(why));
        Cow::Owned(Columns { whole: selected.whole, names })
    }

    /// A default, or what a generated column or a CHECK says, is worked out as the caller: the sequences and functions in it need rights
    /// of their own. The columns in it need none.
    pub(super) fn expression(&mut self, table: &ObjectName, expression: &str) {
        self.worked_out(table, &format!("SELECT {expression} FROM {}", table.sql()));
    }

    /// An expression of something that is worked out now. Its names were looked up when it was made.
    pub(super) fn worked_out(&mut self, of: &ObjectName, text: &str) {
        let before = (std::mem::replace(&mut self.looks_up, false), self.rows.clone());
        with_statements(Dialect::Postgresql, text, true, |read| match one(read) {
            Ok(statement) => self.walk(statement),
            Err(_) => self.undecided.push(format!("`{text}` of {of} cannot be read")),
        });
        (self.looks_up, self.rows) = before;
    }

    /// An expression that is made now and worked out at once, for the rows that are there.
    pub(super) fn new_expression(&mut self, table: &ObjectName, expression: &str) {
        let caller = self.caller.clone();
        // Names are looked up for whoever makes it, whoever works it out.
        self.caller = self.role.clone();
        self.names_in(Some(table), expression);
        self.caller = caller;
        self.expression(table, expression);
    }

    /// An expression that is made now: its names are looked up, and nothing of it is worked out yet. The columns in it are those of a table,
    /// or of one that is made.
    pub(super) fn names_in(&mut self, table: Option<&ObjectName>, expression: &str) {
        let before = (self.rows.clone(), self.late.clone(), std::mem::replace(&mut self.in_body, table.is_none()));
        let from = table.map_or(String::new(), |table| format!(" FROM {}", table.sql()));
        let text = format!("SELECT {expression}{from}");
        with_statements(Dialect::Postgresql, &text, true, |read| match one(read) {
            Ok(statement) => self.walk(statement),
            Err(_) => self.undecided.push(format!("`{expression}` cannot be read")),
        });
        (self.rows, self.late, self.in_body) = before;
    }

    /// The body of a routine in SQL that is made now: its names are looked up, and nothing of it is carried out yet.
    pub(super) fn names_in_body(&mut self, body: &str) {
        let before = (self.rows.clone(), self.late.clone(), std::mem::replace(&mut self.in_body, true));
        with_statements(Dialect::Postgresql, body, true, |read| match read {
            Ok(statements) => {
                for statement in statements {
                    match statement {
                        Statement::Query(_) | Statement::Insert(_) | Statement::Update(_) | Statement::Delete(_) | Statement::Merge(_) => {
                            self.walk(statement);
                        }
                        _ => self.undecided.push("which names are in the body".to_owned()),
                    }
                }
            }
            Err(why) => self.undecided.push(format!("the body cannot be read: {why}")),
        });
        (self.rows, self.late, self.in_body) = before;
    }

    /// What the server looks at there and the ledger only names makes the statement undecided.
    pub(super) fn not_modelled(&mut self, object: &ObjectName, touch: Touch) {
        let notes = self.catalog.state().objects.get(object).map(|o| &o.not_modelled);
        if let Some(note) = notes.and_then(|n| looked_at(n, touch)) {
            self.undecided.push(format!("{object} has {note}, which is not modelled"));
        }
    }

    /// What the server looks at for every statement of a session.
    pub(super) fn server(&mut self, statement: &Statement, text: &str) {
        let is_making = !matches!(
            statement,
            Statement::Query(_)
                | Statement::Insert(_)
                | Statement::Update(_)
                | Statement::Delete(_)
                | Statement::Merge(_)
                | Statement::Explain { .. }
                | Statement::Call(_)
                | Statement::Truncate(_)
                | Statement::Lock(_)
                | Statement::Copy { .. }
                | Statement::Set(_)
        );
        self.of_server(text, is_making);
    }

    pub(super) fn of_server(&mut self, text: &str, is_making: bool) {
        self.undecided.extend(settings::not_followed(self.catalog.state(), &self.signed_in));
        self.undecided.extend(looked_at_on_server(&self.catalog.state().not_modelled, &self.session, text, is_making));
    }

    pub(super) fn sequence(&mut self, name: &str, any: &[Privilege]) {
        let Some((mut named, _)) = parts(name) else { return };
        // In the text of a function's argument, bare parts fold to lower case as in SQL.
        if !name.contains('"') {
            named.iter_mut().for_each(|p| *p = p.to_lowercase());
        }
        match self.look_up(&named, &[Class::Sequence]) {
            Ok(object) => {
                let demand = Demand::Privilege { any: any.iter().copied().collect(), on: On::Object, want: Want::Privilege };
                self.late.push(Need::Object { role: self.caller.clone(), object, demand });
            }
            Err(why) => self.undecided.push(why),
        }
    }

    /// Whether a view or routine is read; then it is to be left again.
    pub(super) fn enter(&mut self, what: &Circumstances) -> bool {
        let then = self.followed.enter(what);
        if then == Then::GiveUp {
            self.undecided.push(format!("{} leads back to itself, or is nested too deep", what.object));
        }
        then == Then::Read
    }

    /// What a view reads or changes is checked as its owner, or as the caller if it says so.
    pub(super) fn through_view(&mut self, view: &ObjectName, used: &Use) {
        let Some(entry) = self.catalog.state().objects.get(view) else { return };
        let Some(query) = entry.query.clone() else {
            self.undecided.push(format!("what {view} reads: its query is not in the ledger"));
            return;
        };
        // One that runs as the caller does so inside of another view, too.
        let role = if entry.runs_as_owner { entry.owner.clone() } else { self.caller.clone() };
        let changes = used.changes();
        let change = changes.then(|| self.followed.count());
        let locks = used.verbs.contains(&Verb::Lock);
        let gives_way = self.gives_way && self.is_framed(used.relation);
        let here = Circumstances { change, read: used.surely.clone(), locks, gives_way, ..Circumstances::of(view, &role, &self.caller) };
        if self.enter(&here) {
            let before = (
                std::mem::replace(&mut self.role, role),
                std::mem::replace(&mut self.looks_up, false),
                std::mem::replace(&mut self.gives_way, gives_way),
            );
            let (query, check) = views::without_check(&query);
            with_statements(Dialect::Postgresql, &query, true, |read| match one(read) {
                Ok(statement) if changes => self.change_through_view(view, statement, check, used),
                Ok(statement) => {
                    let from = self.rows.len();
                    let framed = self.read_view(view, entry, statement, false, used);
                    self.needed(used.relation, from, framed);
                }
                Err(_) => self.undecided.push(format!("the query of {view} cannot be read")),
            });
            (self.role, self.looks_up, self.gives_way) = before;
            self.followed.leave(here);
        }
    }

    /// A view is read, or read along with a change: some of its columns, and where rows are only made, not the rows that are there, unless
    /// the new ones are checked against its condition. What stands in the other columns is not worked out, and what it reads is not looked
    /// at. Returns what is needed of what stands in its FROM.
    fn read_view(&mut self, view: &ObjectName, entry: &Object, statement: &Statement, is_checked: bool, used: &Use) -> Vec<Need> {
        let is_read = |column: &Column| used.surely.whole || used.surely.names.contains(&column.name);
        let finds = used.verbs.iter().any(|verb| matches!(verb, Verb::Update | Verb::Delete | Verb::Lock)) || !used.changes();
        let is_whole = finds && entry.columns.iter().all(is_read);
        // A lock of its rows locks those of all that it reads from, in its name.
        let locked = (used.verbs.contains(&Verb::Lock) && !used.changes()).then(|| locking(statement)).flatten();
        let statement = locked.as_ref().unwrap_or(statement);
        let mut framed = Vec::new();
        let parted = (!is_whole).then(|| parted(statement, &entry.columns, is_read, finds || is_checked)).flatten();
        let Some(Parted { sure, open }) = parted else {
            let from = self.rows.len();
            self.worked_out_if(!is_whole, view, |deriver| framed = deriver.framed(statement).0);
            if !is_whole {
                self.looked_at_if(view, from);
            }
            return framed;
        };
        // A new row goes past what is behind the relation.
        let goes_past = |deriver: &Self| (!finds).then_some(deriver.found.len());
        let before = self.replaced;
        self.replaced = goes_past(self);
        let is_sure = is_checked && !finds;
        self.worked_out_if(!is_sure, view, |deriver| framed = deriver.framed(&sure).0);
        if used.changes() && used.selected == used.surely {
            // The change is made to what stands in the FROM, and what nobody reads of the query is nowhere any more.
            self.replaced = before;
            framed.extend(self.outlined(&open));
            return framed;
        }
        let sure = self.rows.len();
        self.replaced = goes_past(self);
        self.worked_out_if(true, view, |deriver| framed.extend(deriver.framed(&open).0));
        self.replaced = before;
        self.looked_at_if(view, sure);
        framed
    }

    /// A view over one relation passes changes on to it, column by column.
    fn change_through_view(&mut self, view: &ObjectName, statement: &Statement, check: Option<Check>, used: &Use) {
        use sqlparser::ast::{Expr, SelectItem, TableFactor};
        let simple = || {
            let Statement::Query(query) = statement else { return None };
            let SetExpr::Select(select) = &*query.body else { return None };
            let [from] = select.from.as_slice() else { return None };
            let TableFactor::Table { name, args: None, .. } = &from.relation else { return None };
            let is_plain = query.with.is_none()
                && query.limit_clause.is_none()
                && select.distinct.is_none()
                && select.having.is_none()
                && from.joins.is_empty()
                && matches!(&select.group_by, sqlparser::ast::GroupByExpr::Expressions(list, _) if list.is_empty());
            is_plain.then_some((select, name))
        };
        let Some((select, name)) = simple() else {
            self.undecided.push(format!("{view} is not one that passes changes on to a single table"));
            return;
        };
        // The query of the view is read along with the change: what it reads besides the relation in any case, and that one itself as soon
        // as rows are looked for.
        let is_cascaded = check == Some(Check::Cascaded) || self.cascades.take().as_ref() == Some(view);
        let is_checked = check.is_some() || is_cascaded;
        let done = self.followed.forget();
        if let Some(entry) = self.catalog.state().objects.get(view) {
            let from = self.rows.len();
            let reads = used.verbs.contains(&Verb::Select);
            self.gives_way = !reads;
            let framed = self.read_view(view, entry, statement, is_checked, used);
            self.gives_way = false;
            if reads {
                self.needed(UNNAMED, from, framed);
            }
        }
        self.followed.restore(done);
        let Some(base) = self.existing(name, RELATIONS) else { return };
        let outer: Vec<String> =
            self.catalog.state().objects.get(view).map(|o| o.columns.iter().map(|c| c.name.clone()).collect()).unwrap_or_default();
        let inner: Vec<Option<String>> = select
            .projection
            .iter()
            .map(|item| match item {
                SelectItem::UnnamedExpr(Expr::Identifier(i)) | SelectItem::ExprWithAlias { expr: Expr::Identifier(i), .. } => {
                    Some(fold(Dialect::Postgresql, i))
                }
                SelectItem::UnnamedExpr(Expr::CompoundIdentifier(p))
                | SelectItem::ExprWithAlias { expr: Expr::CompoundIdentifier(p), .. } => p.last().map(|i| fold(Dialect::Postgresql, i)),
                _ => None,
            })
            .collect();
        if outer.len() != inner.len() {
            self.undecided.push(format!("which columns of {base} stand behind {view}"));
            return;
        }
        let map = |columns: &Columns| Columns {
            whole: false,
            names: outer
                .iter()
                .zip(&inner)
                .filter(|(o, _)| columns.whole || columns.names.contains(*o))
                .filter_map(|(_, i)| i.clone())
                .collect(),
        };
        let behind = Use {
            relation: UNNAMED,
            verbs: used.verbs.clone(),
            selected: map(&used.selected),
            surely: map(&used.surely),
            inserted: map(&used.inserted),
            updated: map(&used.updated),
            defaulted: map(&Columns { whole: false, names: used.defaulted.clone() }).names,
            is_open: false,
        };
        self.cascades = is_cascaded.then(|| base.clone());
        self.relation_used(&base, &behind);
        self.cascades = None;
    }

    pub(super) fn routine_called(&mut self, call: &Call, procedure: bool) {
        let last = call.name.last().cloned().unwrap_or_default();
        let is_server = match call.name.as_slice() {
            [_] => true,
            [schema, _] => schema == "pg_catalog",
            _ => false,
        };
        if is_server {
            let text = call.text.as_deref();
            match (last.as_str(), text) {
                ("nextval", Some(name)) => return self.sequence(name, &[Privilege::Usage, Privilege::Update]),
                ("currval", Some(name)) => return self.sequence(name, &[Privilege::Select, Privilege::Usage]),
                ("setval", Some(name)) => return self.sequence(name, &[Privilege::Update]),
                // The first of several arguments names a configuration, in whatever schema.
                (name, Some(text)) if name.contains("ts") && call.arguments > 1 && text.contains('.') => {
                    self.undecided.push(format!("which configuration `{last}` is called with"));
                    return;
                }
                ("nextval" | "currval" | "setval" | "lastval", _) => {
                    self.undecided.push(format!("which sequence {last} is called for"));
                    return;
                }
                ("set_config", Some(name)) => return self.setting(settings::set(&name.to_lowercase()), name),
                ("current_setting", Some(name)) => return self.setting(settings::show(&name.to_lowercase()), name),
                (name, Some(text)) if OF_RELATIONS.contains(&(name, call.arguments)) => {
                    if let Err(why) = self.cast(&DataType::Regclass, Some(text)) {
                        self.undecided.push(why);
                    }
                    return;
                }
                (name, _) if ABOUT_RIGHTS.contains(&name) && call.plain.iter().all(|is| *is) => return,
                ("row" | "array" | "lo_create" | "lo_creat", _) => return,
                (name, _) if call.arguments == 0 && WORDS_FOR_VALUES.contains(&name) => return,
                (name, _) if self.guarded(name) => return,
                _ => {}
            }
        }
        let classes: &[Class] = if procedure { &[Class::Procedure] } else { &[Class::Function] };
        let (path, shut): (Vec<String>, Vec<String>) = self.path().into_iter().partition(|s| !self.looks_up || self.may_look_into(s));
        let in_path = |n: &&ObjectName| match call.name.as_slice() {
            [_] => path.iter().any(|s| n.schema() == Some(s)),
            [schema, _] => n.schema() == Some(schema),
            _ => false,
        };
        let count = |n: &&ObjectName| n.arguments.as_deref().map_or(0, |a| if a.is_empty() { 0 } else { split_types(a) }) == call.arguments;
        let catalog = self.catalog;
        let found: Vec<ObjectName> =
            catalog.named(&last).filter(|n| classes.contains(&n.class)).filter(in_path).filter(count).cloned().collect();
        let found = match found.as_slice() {
            [_, _, ..] => of_types(found, &call.types),
            _ => found,
        };
        // Another of the same name that is the server's could be meant as well.
        if !found.is_empty() && call.name.len() == 1 && BUILT_IN.contains(last.as_str()) {
            self.undecided.push(format!("whether the server's own `{last}` is meant"));
            return;
        }
        // It is there, but behind a schema that is shut: to the server it does not exist.
        if found.is_empty()
            && let ([_], Some(schema)) = (
                call.name.as_slice(),
                shut.iter().find(|s| catalog.named(&last).any(|n| classes.contains(&n.class) && n.schema() == Some(s))),
            )
        {
            self.use_schema(schema);
            return;
        }
        if found.is_empty() {
            // One of the same name with other arguments could be the one that fits.
            let near = catalog.named(&last).any(|n| n.class.is_routine() && in_path(&n));
            if is_server && !near && BUILT_IN.contains(last.as_str()) {
                return;
            }
            if is_server && !near && OF_REPLICATION.contains(&last.as_str()) {
                if !self.has_changed_rights(&format!("catalog {last}")) {
                    self.late.push(Need::Switch { role: self.caller.clone(), switch: "replication" });
                }
                return;
            }
            // Words of the language that read like a call, and a text that is made a value of a type of the server.
            let is_word = ["coalesce", "greatest", "grouping", "least", "nullif"].contains(&last.as_str()) && call.name.len() == 1;
            let is_value = BUILT_IN_TYPES.contains(&last.as_str()) && call.arguments == 1 && call.text.is_some();
            if !near && (is_word || is_server && is_value) {
                return;
            }
            self.undecided.push(format!("the routine `{}` with {} arguments is not in the inventory", call.name.join("."), call.arguments));
            return;
        }
        if found.len() > 1 {
            self.undecided.push(format!("which of {} routines called `{}` is meant", found.len(), call.name.join(".")));
            return;
        }
        for name in found {
            if let (Some(schema), [_, _]) = (name.schema().map(str::to_owned), call.name.as_slice())
                && self.looks_up
            {
                self.use_schema(&schema);
            }
            self.late.push(Need::privilege(&self.caller, &name, Privilege::Execute, On::Object));
            let entry = self.catalog.state().objects.get(&name);
            self.made.extend(entry.and_then(|entry| entry.returns.as_deref()).and_then(returned));
            self.inside_routine(&name);
        }
    }

    /// A routine of the server that not everybody may run; whether it is one.
    pub(super) fn guarded(&mut self, name: &str) -> bool {
        let Some(line) = GUARDED.lines().find(|line| line.split(' ').next() == Some(name)) else { return false };
        if self.has_changed_rights(&format!("catalog {name}")) {
            return true;
        }
        let readers = line.split(' ').nth(1).unwrap_or("-").split(',').filter(|role| *role != "-").collect::<Vec<_>>();
        self.server_right(&readers, &format!("`{name}`"));
        true
    }

    /// A routine in SQL is followed; it runs as its owner where it says so.
    pub(super) fn inside_routine(&mut self, name: &ObjectName) {
        let Some(entry) = self.catalog.state().objects.get(name) else { return };
        let body = entry.body.clone().unwrap_or_default();
        self.not_modelled(name, Touch::Call);
        let is_block = match entry.language.as_deref() {
            Some("sql") if body.trim().is_empty() => {
                return self.undecided.push(format!("what {name} does: its body is not in the ledger"));
            }
            Some("sql") => false,
            Some("plpgsql") => true,
            // What it is made of is the server's own, or it is named in the ledger.
            Some("internal") if body == OF_AGGREGATES => return,
            language => {
                let language = language.unwrap_or("?");
                return self.undecided.push(format!("what {name} does: routines in {language} are not followed"));
            }
        };
        self.of_server(&body, false);
        if let Some(setting) = entry.settings.iter().find(|setting| !settings::is_followed(setting)) {
            self.undecided.push(format!("{name} runs with the setting `{setting}`, which is not followed"));
        }
        let role = if entry.runs_as_owner { entry.owner.clone() } else { self.caller.clone() };
        let here = Circumstances::of(name, &role, &role);
        if !self.enter(&here) {
            return;
        }
        let path = entry.settings.iter().find_map(|setting| settings::path(setting));
        let before = (std::mem::replace(&mut self.role, role.clone()), std::mem::replace(&mut self.caller, role), self.stated_path.clone());
        if path.is_some() {
            self.stated_path = path;
        }
        if is_block {
            self.block(name, &body)
        } else {
            self.sql(name, &body)
        }
        // What it returns is turned into the type that it says, where a row comes of it.
        if let Some(own) = entry.returns.as_deref().and_then(returned) {
            self.turned_into(&own, false);
        }
        (self.role, self.caller, self.stated_path) = before;
        self.followed.leave(here);
    }

    /// A body in SQL: its statements are carried out one after the other.
    fn sql(&mut self, of: &ObjectName, body: &str) {
        let parsed = parsed(body);
        // What was parsed when it was made holds what its names meant then.
        let before = (std::mem::replace(&mut self.looks_up, parsed.is_none()), std::mem::replace(&mut self.in_body, true));
        with_statements(Dialect::Postgresql, parsed.as_deref().unwrap_or(body), true, |read| match read {
            Ok(statements) => {
                // Its checks come when it runs, after those of the statement that calls it.
                let (early, rows) = (std::mem::take(&mut self.early), std::mem::take(&mut self.rows));
                statements.iter().for_each(|s| self.statement(s));
                let inner = std::mem::replace(&mut self.early, early).into_iter().chain(std::mem::replace(&mut self.rows, rows));
                self.late.extend(inner);
            }
            Err(_) => self.undecided.push(format!("the body of {of} cannot be read")),
        });
        (self.looks_up, self.in_body) = before;
    }

    /// All that stands in a body is looked at. Where some of it would be refused, it is not known whether the server comes to it.
    pub(super) fn block(&mut self, of: &(dyn fmt::Display + Sync), body: &str) {
        let pieces = match plpgsql::pieces(body) {
            Ok(pieces) => pieces,
            Err(why) => return self.undecided.push(format!("what {of} does: {why}")),
        };
        let before = (
            std::mem::replace(&mut self.looks_up, true),
            std::mem::replace(&mut self.in_body, true),
            std::mem::replace(&mut self.has_values, false),
        );
        self.worked_out_if(true, of, |deriver| {
            // Its checks come when it runs, after those of the statement that leads to it.
            let outside = (std::mem::take(&mut deriver.early), std::mem::take(&mut deriver.rows), std::mem::take(&mut deriver.late));
            for piece in pieces {
                let text = match piece {
                    Piece::Statement(text) => text,
                    Piece::Expression(text) => format!("SELECT {text}"),
                    Piece::Taken(name) => {
                        // `schema.relation%ROWTYPE`, `schema.relation.column%TYPE`.
                        let is_row = name.to_lowercase().ends_with("%rowtype");
                        let named = parts(name.split('%').next().unwrap_or("")).map(|(named, _)| named).unwrap_or_default();
                        if named.len() == 3 || is_row && named.len() == 2 {
                            deriver.in_schema(&named[..2]);
                        }
                        let is_checked = |(object, entry): (&ObjectName, &Object)| object.class == Class::Type && !entry.checks.is_empty();
                        if deriver.catalog.state().objects.iter().any(is_checked) {
                            deriver.undecided.push(format!("what {of} does: whether `{name}` is a type that is checked"));
                        }
                        continue;
                    }
                };
                with_statements(Dialect::Postgresql, &text, true, |read| match one(read) {
                    Ok(statement) => deriver.statement(statement),
                    Err(_) => deriver.undecided.push(format!("what {of} does: `{}` cannot be read", shortened(&text))),
                });
            }
            let inner = (
                std::mem::replace(&mut deriver.early, outside.0),
                std::mem::replace(&mut deriver.rows, outside.1),
                std::mem::replace(&mut deriver.late, outside.2),
            );
            deriver.late.extend(inner.0.into_iter().chain(inner.1).chain(inner.2));
        });
        (self.looks_up, self.in_body, self.has_values) = before;
    }
}

/// The type of ours that a routine returns, or rows of which.
fn returned(returns: &str) -> Option<ObjectName> {
    type_named(returns.strip_prefix("SETOF ").unwrap_or(returns))
}

/// The beginning of a text, on one line.
fn shortened(text: &str) -> String {
    let line = text.split_whitespace().collect::<Vec<_>>().join(" ");
    let short: String = line.chars().take(40).collect();
    if short.len() < line.len() { format!("{short}…") } else { line }
}

/// The query of a view, with a lock on all that it reads from.
fn locking(statement: &Statement) -> Option<Statement> {
    let Statement::Query(query) = statement else { return None };
    let mut query = query.clone();
    query.locks.push(LockClause { lock_type: LockType::Update, of: None, nonblock: None });
    Some(Statement::Query(query))
}

/// The statements of a body that the server parsed when the routine was made (`BEGIN ATOMIC`, `RETURN`); nothing for one that is a text.
fn parsed(body: &str) -> Option<String> {
    let body = body.trim();
    if let Some(value) = body.strip_prefix("RETURN ") {
        return Some(format!("SELECT {value}"));
    }
    Some(body.strip_prefix("BEGIN ATOMIC")?.strip_suffix("END")?.trim().to_owned())
}

/// Of routines of one name, leaves the one that takes just these types where all are known; the server takes it before all others.
fn of_types(found: Vec<ObjectName>, types: &[Option<String>]) -> Vec<ObjectName> {
    let Some(types) = types.iter().map(|known| known.as_deref().map(types::printed)).collect::<Option<Vec<_>>>() else { return found };
    let is_it = |name: &&ObjectName| name.arguments.as_deref().map(types::listed).unwrap_or_default() == types;
    found.iter().find(is_it).map_or_else(|| found.clone(), |one| vec![one.clone()])
}

/// Counts the types in a list of arguments.
fn split_types(list: &str) -> usize {
    let mut depth = 0_usize;
    1 + list
        .chars()
        .filter(|c| {
            match c {
                '(' => depth += 1,
                ')' => depth = depth.saturating_sub(1),
                _ => {}
            }
            *c == ',' && depth == 0
        })
        .count()
}

/// The query of a view in two parts.
struct Parted {
    /// What is read for sure.
    sure: Statement,
    /// What is read only by whoever reads the columns that nobody reads here, or looks for rows.
    open: Statement,
}

/// Parts the query of a view by the columns that are read, and by whether its rows are looked for; nothing where a column that is not read
/// matters to the others.
fn parted(statement: &Statement, columns: &[Column], is_read: impl Fn(&Column) -> bool, finds: bool) -> Option<Parted> {
    use sqlparser::ast::{Expr, GroupByExpr, SelectItem, Value};
    let Statement::Query(query) = statement else { return None };
    let SetExpr::Select(select) = &*query.body else { return None };
    let has_groups = !matches!(&select.group_by, GroupByExpr::Expressions(list, _) if list.is_empty());
    let is_plain = query.order_by.is_none() && select.distinct.is_none() && !has_groups;
    (is_plain && select.projection.len() == columns.len()).then_some(())?;
    let with = |is_sure: bool| {
        let mut select = select.clone();
        for (item, column) in select.projection.iter_mut().zip(columns) {
            if is_read(column) != is_sure {
                *item = SelectItem::UnnamedExpr(Expr::value(Value::Null));
            }
        }
        if finds != is_sure {
            select.selection = None;
        }
        let mut query = query.clone();
        *query.body = SetExpr::Select(select);
        Statement::Query(query)
    };
    Some(Parted { sure: with(true), open: with(false) })
}
