//! Views: what a change of one passes on to its table, what is looked at when one is made, and what one shows that is explained.
//!
//! The rules for changes were found by trying every set of rights of the caller and of the definer on version 10.11; the manual does not
//! tell them.

use sqlparser::ast::{Delete, Expr, GroupByExpr, InTarget, Insert, Query, Select, SelectItem, SetExpr, Statement, TableFactor, Update};

use super::super::name::{Class, ObjectName};
use super::super::need::{As, Need};
use super::super::privilege::Privilege;
use super::super::state::View;
use super::{Deriver, Found, RELATIONS};
use crate::database::On;
use crate::database::not_modelled::Touch;
use crate::sql::{Columns, Dialect, Touches, Use, Verb, one, table_name, with_statements};

/// What of a changing statement is looked at where it changes a view.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub(super) struct Change {
    /// Several tables are named beside each other.
    is_joint: bool,
    /// It gives rows back.
    returns: bool,
    /// The rows that are made are written out.
    pub(super) has_values: bool,
}

impl Change {
    pub(super) fn of_insert(insert: &Insert) -> Self {
        let has_values = matches!(&insert.source, Some(query) if matches!(*query.body, SetExpr::Values(_)));
        Self { is_joint: false, returns: insert.returning.is_some(), has_values }
    }

    pub(super) fn of_update(update: &Update) -> Self {
        Self { is_joint: !update.table.joins.is_empty() || update.from.is_some(), returns: update.returning.is_some(), has_values: false }
    }

    pub(super) const fn of_delete(delete: &Delete) -> Self {
        Self { is_joint: !delete.tables.is_empty() || delete.using.is_some(), returns: delete.returning.is_some(), has_values: false }
    }
}

/// The query of a view that passes every change on to one table.
struct Plain {
    /// The table, as it is written.
    table: Vec<String>,
    /// The column of the table behind each column of the view.
    columns: Vec<String>,
    has_where: bool,
}

impl Plain {
    fn of(statement: &Statement) -> Option<Self> {
        let Statement::Query(query) = statement else { return None };
        let Query { with: None, body, limit_clause: None, fetch: None, .. } = &**query else { return None };
        let SetExpr::Select(select) = &**body else { return None };
        let Select { distinct: None, top: None, into: None, having: None, qualify: None, .. } = &**select else { return None };
        if !matches!(&select.group_by, GroupByExpr::Expressions(list, modifiers) if list.is_empty() && modifiers.is_empty()) {
            return None;
        }
        let [from] = select.from.as_slice() else { return None };
        let TableFactor::Table { name, args: None, .. } = &from.relation else { return None };
        if !from.joins.is_empty() || !select.selection.iter().all(is_plain) {
            return None;
        }
        let columns = select.projection.iter().map(|item| match item {
            SelectItem::UnnamedExpr(expr) | SelectItem::ExprWithAlias { expr, .. } => column_of(expr),
            SelectItem::ExprWithAliases { .. } | SelectItem::Wildcard(_) | SelectItem::QualifiedWildcard(..) => None,
        });
        Some(Self {
            table: table_name(Dialect::Mariadb, name),
            columns: columns.collect::<Option<_>>()?,
            has_where: select.selection.is_some(),
        })
    }
}

fn column_of(expr: &Expr) -> Option<String> {
    match expr {
        Expr::Identifier(ident) => Some(ident.value.clone()),
        Expr::CompoundIdentifier(parts) => parts.last().map(|ident| ident.value.clone()),
        _ => None,
    }
}

/// Whether a condition is made of columns, values and comparisons alone.
fn is_plain(expr: &Expr) -> bool {
    match expr {
        Expr::Identifier(_) | Expr::CompoundIdentifier(_) | Expr::Value(_) => true,
        Expr::Nested(inner)
        | Expr::IsNull(inner)
        | Expr::IsNotNull(inner)
        | Expr::IsTrue(inner)
        | Expr::IsFalse(inner)
        | Expr::IsNotTrue(inner)
        | Expr::IsNotFalse(inner)
        | Expr::UnaryOp { expr: inner, .. } => is_plain(inner),
        Expr::BinaryOp { left, right, .. } => is_plain(left) && is_plain(right),
        Expr::Between { expr, low, high, .. } => [expr, low, high].into_iter().all(|inner| is_plain(inner)),
        Expr::In { expr, target: InTarget::List(list), .. } => is_plain(expr) && list.iter().all(is_plain),
        Expr::Like { expr, pattern, .. } => is_plain(expr) && is_plain(pattern),
        _ => false,
    }
}

impl Deriver<'_> {
    /// A change of a view that passes it on to one table; false where it is not sure that it does, or what is looked at.
    pub(super) fn change_through_view(&mut self, view: &ObjectName, used: &Use) -> bool {
        let Some(entry) = self.state.objects.get(view) else { return false };
        let (Some(query), Some(definer)) = (&entry.query, &entry.definer) else { return false };
        let read = with_statements(Dialect::Mariadb, query, true, |read| one(read).ok().and_then(Plain::of));
        let Some(Plain { table, columns, has_where }) = read else { return false };
        let Ok(base) = self.look_up(&table, RELATIONS) else { return false };
        let outer: Vec<&String> = entry.columns.iter().map(|(column, _)| column).collect();
        if base.class != Class::Table || outer.len() != columns.len() {
            return false;
        }
        let behind = |wanted: &Columns| -> Option<Vec<String>> {
            if wanted.whole {
                return Some(columns.clone());
            }
            let of = |name: &String| outer.iter().position(|column| column.eq_ignore_ascii_case(name)).map(|at| columns[at].clone());
            wanted.names.iter().map(of).collect()
        };
        let (Some(inserted), Some(updated), Some(read)) = (behind(&used.inserted), behind(&used.updated), behind(&used.selected)) else {
            return false;
        };
        let by = if entry.runs_as_owner { As::Definer(definer.clone()) } else { self.by.clone() };
        let held = entry.runs_as_owner.then(|| View::of_definer(self.state, definer).table(&base.database, &base.name).0);
        let has = |verb: Verb| used.verbs.contains(&verb);
        let (inserts, updates, deletes) = (has(Verb::Insert), has(Verb::Update), has(Verb::Delete));
        let reads = has(Verb::Select) && !read.is_empty();
        let Change { is_joint, returns, has_values: _ } = self.change;
        // Whether the table is read in the name of the view, and whether its columns are read in the name of whoever changes it.
        let (table_is_read, view_is_read) = match () {
            () if inserts => (has_where || inserted.len() < columns.len() || returns, false),
            () if updates && is_joint => (true, reads),
            () if updates => {
                let table_is_read = has_where || reads;
                let sees_all = held.as_ref().map(|held| held.privileges.contains(Privilege::Select));
                match sees_all {
                    // Whoever may read all of the table may do so through the view, in whosever name it is changed.
                    Some(true) => (table_is_read, false),
                    _ if !reads => (table_is_read, false),
                    // What is worked out of the changed columns alone needs less.
                    Some(false) if !has_where && read.iter().all(|column| updated.contains(column)) => return false,
                    Some(false) => (table_is_read, true),
                    None => return false,
                }
            }
            () if deletes && is_joint => (true, true),
            () if deletes && returns => return false,
            () if deletes => (false, reads),
            () => return false,
        };
        // Which columns of the table are looked at where not all of it may be read is not told by anything.
        if let Some(held) = held.as_ref().filter(|held| table_is_read && !held.privileges.contains(Privilege::Select)) {
            let may = |column: &String| {
                held.columns.iter().any(|(known, held)| known.eq_ignore_ascii_case(column) && held.contains(Privilege::Select))
            };
            let is_none = held.columns.values().all(|held| !held.contains(Privilege::Select));
            let is_sure = is_none || !has_where && columns.iter().all(may);
            if !is_sure {
                return false;
            }
        }
        let mut changes = Vec::new();
        if inserts {
            changes.push((Privilege::Insert, on(&used.inserted, &outer), listed(inserted)));
        }
        if updates {
            changes.push((Privilege::Update, on(&used.updated, &outer), listed(updated)));
        }
        if deletes {
            changes.push((Privilege::Delete, On::Object, On::Object));
        }
        for (privilege, on_view, _) in &changes {
            self.on_table(view, *privilege, on_view.clone());
        }
        if view_is_read {
            self.on_table(view, Privilege::Select, on(&used.selected, &outer));
        }
        for (privilege, _, on) in changes {
            self.list.push(Need::Table { by: by.clone(), object: base.clone(), privilege, on });
        }
        if table_is_read {
            self.list.push(Need::Table { by, object: base.clone(), privilege: Privilege::Select, on: listed(columns) });
        }
        for verb in &used.verbs {
            self.not_modelled(view, Touch::from(*verb));
            self.not_modelled(&base, Touch::from(*verb));
        }
        self.triggers(&base, used);
        true
    }

    /// A view that is made of a query: of a column that comes out as it is, any right on rows does; all else in it must be read.
    pub(super) fn view_made_of(&mut self, query: &Query) {
        let whole = Statement::Query(Box::new(query.clone()));
        let Some((tables, rest)) = without_columns(query) else { return self.walk(&whole) };
        let mut read = self.again();
        read.shown = Some(Vec::new());
        read.walk(&Statement::Query(Box::new(rest)));
        let mut all = self.again();
        all.shown = Some(Vec::new());
        all.walk(&whole);
        let (Some(of_rest), Some(of_all)) = (read.shown.take(), all.shown.take()) else { return };
        // Tables of the first FROM are met first, in both.
        let is_first = |number: &usize| *number < tables;
        if of_all.iter().filter(|(number, ..)| is_first(number)).count() != of_rest.iter().filter(|(number, ..)| is_first(number)).count() {
            return self.walk(&whole);
        }
        let mut shown = Vec::new();
        for ((number, object, columns), (_, _, read_too)) in of_all.iter().zip(&of_rest) {
            let of = |columns: &Columns| match (columns.whole, self.state.objects.get(object)) {
                (true, Some(entry)) => entry.columns.iter().map(|(column, _)| column.clone()).collect(),
                _ => columns.names.clone(),
            };
            let (columns, read_too) = (of(columns), of(read_too));
            if !is_first(number) {
                self.on_table(object, Privilege::Select, if columns.is_empty() { On::Some } else { listed(columns.into_iter().collect()) });
                continue;
            }
            if !read_too.is_empty() {
                self.on_table(object, Privilege::Select, listed(read_too.iter().cloned().collect()));
            }
            let out: Vec<String> = columns.difference(&read_too).cloned().collect();
            if !out.is_empty() || read_too.is_empty() {
                shown.push((object.clone(), listed(out)));
            }
        }
        if !shown.is_empty() {
            self.list.push(Need::Shown { tables: shown });
        }
        self.take(all);
    }

    /// EXPLAIN and ANALYZE show what is behind a view: whoever asks must be let see its query, and read all that it reads.
    pub(super) fn shows_what_is_behind(&mut self) {
        let views: Vec<ObjectName> =
            self.found.iter().filter_map(Found::listed).filter(|object| object.class == Class::View).cloned().collect();
        for view in views {
            let need = Need::Table { by: self.by.clone(), object: view.clone(), privilege: Privilege::ShowView, on: On::Object };
            if self.list.contains(&need) {
                continue;
            }
            self.list.push(need);
            let Some(query) = self.state.objects.get(&view).and_then(|entry| entry.query.clone()) else { continue };
            let mut inner = self.again();
            with_statements(Dialect::Mariadb, &query, true, |read| {
                if let Ok(statement) = one(read) {
                    inner.walk(statement);
                }
            });
            for object in inner.found.iter().filter_map(Found::listed) {
                self.on_table(object, Privilege::Select, On::Some);
            }
        }
    }
}

/// A query without the columns that come out of it as they are, and how many tables it reads from; nothing where it is none of one SELECT
/// over tables.
fn without_columns(query: &Query) -> Option<(usize, Query)> {
    let SetExpr::Select(select) = &*query.body else { return None };
    if query.with.is_some() || select.distinct.is_some() || select.into.is_some() {
        return None;
    }
    let factors =
        || select.from.iter().flat_map(|item| std::iter::once(&item.relation).chain(item.joins.iter().map(|join| &join.relation)));
    if !factors().all(|factor| matches!(factor, TableFactor::Table { args: None, .. })) {
        return None;
    }
    let mut rest = query.clone();
    if let SetExpr::Select(select) = &mut *rest.body {
        select.projection.retain(|item| match item {
            SelectItem::UnnamedExpr(expr) | SelectItem::ExprWithAlias { expr, .. } => column_of(expr).is_none(),
            SelectItem::Wildcard(_) | SelectItem::QualifiedWildcard(..) => false,
            SelectItem::ExprWithAliases { .. } => true,
        });
        let one = Expr::value(sqlparser::ast::Value::Number("1".to_owned(), false));
        select.projection.push(SelectItem::UnnamedExpr(one));
    }
    Some((factors().count(), rest))
}

/// The columns of a view that are used.
fn on(columns: &Columns, all: &[&String]) -> On {
    match (columns.whole, columns.names.is_empty()) {
        (true, _) => On::Columns(all.iter().map(|column| (*column).clone()).collect()),
        (false, true) => On::Some,
        (false, false) => On::Columns(columns.names.iter().cloned().collect()),
    }
}

fn listed(columns: Vec<String>) -> On {
    if columns.is_empty() { On::Some } else { On::Columns(columns) }
}
