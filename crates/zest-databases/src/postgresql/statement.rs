//! Which checks the server makes for a statement, in its order: names are looked up first, then rows' rights are
//! checked relation by relation, then routines and sequences as they are run.

use std::collections::BTreeSet;

use sqlparser::ast::{
    Action, AlterColumnOperation, AlterTableOperation, ArrayElemTypeDef, ColumnOption, CopySource, CopyTarget, DataType, FunctionDesc,
    FunctionReturnType, GrantObjects, LockTableMode, ObjectName as Written, ObjectType, Owner, Privileges as Listed, SchemaName, Set,
    Statement, TableConstraint,
};

use super::Column;
use super::about_rights;
use super::catalog::{Catalog, Want};
use super::need::{Demand, Need};
use super::object::ObjectName;
use super::privilege::{COLUMN_PRIVILEGES, Class, Privilege, Privileges};
use crate::database::followed::{Followed, Then};
use crate::database::name::parts;
use crate::database::not_modelled::{Touch, looked_at, looked_at_on_server};
use crate::database::{Needs, On};
use crate::sql::{Call, Columns, Dialect, Names, Relation, Touches, Use, Verb, fold, one, table_name, with_statements};
use zest_model::ask::Refusal;

/// Functions of the server that everybody may run and that touch no table of ours: one name a line, sorted. Made from
/// `pg_proc` of version 15: `proacl IS NULL` in `pg_catalog`, without those that run SQL given to them, take the name of an
/// object, or check rights of their own.
const BUILT_IN: &str = include_str!("functions.txt");

/// Types of the server itself that the parser has no word of its own for, and whose values name nothing.
const BUILT_IN_TYPES: &[&str] = &[
    "bpchar",
    "box",
    "char",
    "cid",
    "cidr",
    "circle",
    "daterange",
    "float4",
    "float8",
    "inet",
    "int2",
    "int4",
    "int4range",
    "int8",
    "int8range",
    "interval",
    "json",
    "jsonb",
    "jsonpath",
    "line",
    "lseg",
    "macaddr",
    "macaddr8",
    "money",
    "name",
    "numrange",
    "oid",
    "path",
    "pg_lsn",
    "point",
    "polygon",
    "text",
    "tid",
    "timestamptz",
    "timetz",
    "tsquery",
    "tsrange",
    "tstzrange",
    "tsvector",
    "uuid",
    "varbit",
    "varchar",
    "xid",
    "xml",
];

/// Settings that everybody may set and see.
pub(crate) const OPEN: &[&str] = &[
    "application_name",
    "client_encoding",
    "client_min_messages",
    "datestyle",
    "enable_seqscan",
    "extra_float_digits",
    "intervalstyle",
    "lock_timeout",
    "search_path",
    "statement_timeout",
    "timezone",
    "work_mem",
];

/// A view or routine, and all that what is in it depends on.
#[derive(Clone, Debug, PartialEq, Eq, Hash)]
struct Circumstances {
    object: ObjectName,
    role: String,
    caller: String,
    /// Which of the changes through views it is, if it is not only read: what a change needs depends on its columns.
    change: Option<usize>,
}

/// Derives what a statement needs when `current` runs it in a session of `session`.
pub(crate) fn needs(catalog: &Catalog, session: &str, current: &str, text: &str) -> Result<Needs<Need>, (Refusal, String)> {
    if let Some(needs) = about_rights::needs(catalog.state(), (session, current), text) {
        return Ok(needs);
    }
    with_statements(Dialect::Postgresql, text, false, |read| {
        let statement = one(read).map_err(|e| (Refusal::StatementUnreadable, e))?;
        Ok(needs_of(catalog, (session, current), text, statement))
    })
}

fn needs_of(catalog: &Catalog, (session, current): (&str, &str), text: &str, statement: &Statement) -> Needs<Need> {
    let mut deriver = Deriver {
        catalog,
        session: session.to_owned(),
        role: current.to_owned(),
        caller: current.to_owned(),
        // An explicit DEFAULT is worked out like one that is left out.
        names_default: text.to_uppercase().contains("DEFAULT"),
        looks_up: true,
        found: Vec::new(),
        early: Vec::new(),
        rows: Vec::new(),
        late: Vec::new(),
        undecided: Vec::new(),
        notes: Vec::new(),
        followed: Followed::default(),
    };
    deriver.server(statement, text);
    deriver.statement(statement);
    let Deriver { early, rows, late, undecided, notes, .. } = deriver;
    Needs { list: early.into_iter().chain(rows).chain(late).collect(), undecided, notes }
}

struct Deriver<'c> {
    catalog: &'c Catalog,
    session: String,
    /// In whose name relations are checked now: inside of a view its owner.
    role: String,
    /// Who the server says is the current user: routines and sequences are checked for it, inside of views too.
    caller: String,
    /// Whether the statement asks for defaults by name.
    names_default: bool,
    /// Whether schemas are checked when names are looked up; not inside of views.
    looks_up: bool,
    found: Vec<ObjectName>,
    early: Vec<Need>,
    rows: Vec<Need>,
    late: Vec<Need>,
    undecided: Vec<String>,
    notes: Vec<String>,
    followed: Followed<Circumstances>,
}

impl Names for Deriver<'_> {
    fn relation(&mut self, name: &[String]) -> Result<Relation, String> {
        let object = self.look_up(name, &[Class::Table, Class::View, Class::MaterialisedView, Class::Sequence])?;
        let columns = self.catalog.state().objects.get(&object).map(|o| o.columns.iter().map(|c| c.name.clone()).collect());
        self.found.push(object);
        Ok(Relation { number: self.found.len() - 1, columns: columns.unwrap_or_default() })
    }

    fn cast(&mut self, data_type: &DataType, text: Option<&str>) -> Result<(), String> {
        let name = match data_type {
            DataType::Array(ArrayElemTypeDef::AngleBracket(inner) | ArrayElemTypeDef::SquareBracket(inner, _)) => {
                return self.cast(inner, None);
            }
            DataType::Regclass => vec!["regclass".to_owned()],
            DataType::Custom(name, _) => table_name(Dialect::Postgresql, name),
            _ => return Ok(()),
        };
        let bare = match name.as_slice() {
            [one] => one.as_str(),
            [schema, one] if schema == "pg_catalog" => one.as_str(),
            _ => "",
        };
        if bare == "regclass"
            && let Some((mut named, _)) = text.and_then(parts)
        {
            if text.is_some_and(|t| !t.contains('"')) {
                named.iter_mut().for_each(|p| *p = p.to_lowercase());
            }
            return self.look_up(&named, RELATIONS).map(|_| ());
        }
        if BUILT_IN_TYPES.contains(&bare) {
            return Ok(());
        }
        if bare.starts_with("reg") {
            return Err(format!("which name is turned into a `{bare}`"));
        }
        let object = self.look_up(&name, &[Class::Type])?;
        let notes = self.catalog.state().objects.get(&object).map(|o| &o.not_modelled);
        match notes.and_then(|n| looked_at(n, Touch::Cast)) {
            Some(note) => Err(format!("{object} has {note}, which is not modelled")),
            None => Ok(()),
        }
    }
}

impl Touches for Deriver<'_> {
    const DIALECT: Dialect = Dialect::Postgresql;

    fn on_relation(&mut self, used: &Use) {
        let object = self.found[used.relation].clone();
        self.relation_used(&object, used);
    }

    fn on_routine(&mut self, call: &Call, is_procedure: bool) {
        self.routine_called(call, is_procedure);
    }

    fn undecided(&mut self, why: String) {
        self.undecided.push(why);
    }
}

/// Names
impl Deriver<'_> {
    /// The schemas in which a bare name is looked for: one of the role's own name, then `public`.
    fn path(&self) -> Vec<String> {
        let exists = |s: &String| self.catalog.object(&ObjectName::new(Class::Schema, &[s])).is_some();
        [self.role.clone(), "public".to_owned()].into_iter().filter(exists).collect()
    }

    fn may_look_into(&self, schema: &str) -> bool {
        let schema = self.catalog.object(&ObjectName::new(Class::Schema, &[schema]));
        let role = self.catalog.role(&self.role);
        schema.zip(role).is_some_and(|(s, r)| self.catalog.holds(r, s, Privilege::Usage, Want::Privilege))
    }

    fn look_up(&mut self, name: &[String], classes: &[Class]) -> Result<ObjectName, String> {
        let shown = name.join(".");
        let in_schema = |schema: &str, last: &str| {
            classes.iter().map(|c| ObjectName::new(*c, &[schema, last])).find(|n| self.catalog.object(n).is_some())
        };
        match name {
            [last] => {
                let path = self.path();
                if last.starts_with("pg_") {
                    return Err(format!("`{shown}` is a catalog of the server itself, which is not modelled"));
                }
                for schema in &path {
                    if let Some(found) = in_schema(schema, last)
                        && (!self.looks_up || self.may_look_into(schema))
                    {
                        return Ok(found);
                    }
                }
                // It is there, but behind a schema that is shut: to the server it does not exist.
                if let Some((schema, found)) = path.iter().find_map(|s| in_schema(s, last).map(|f| (s.clone(), f))) {
                    self.use_schema(&schema);
                    return Ok(found);
                }
                let elsewhere = self.catalog.objects().iter().find(|n| n.last() == *last && classes.contains(&n.class));
                let hint = elsewhere.map_or(String::new(), |n| format!("; there is `{}`", n.plain()));
                Err(format!("nothing called `{shown}` is found in the search path{hint}"))
            }
            [schema, last] | [_, schema, last] => {
                if schema.starts_with("pg_") || schema == "information_schema" {
                    return Err(format!("`{shown}` is of the server itself, which is not modelled"));
                }
                if self.looks_up && self.catalog.object(&ObjectName::new(Class::Schema, &[schema])).is_some() {
                    self.use_schema(schema);
                }
                in_schema(schema, last).ok_or_else(|| format!("`{shown}` is not in the inventory"))
            }
            _ => Err(format!("`{shown}` is no name of a relation")),
        }
    }

    fn use_schema(&mut self, schema: &str) {
        let need = Need::privilege(&self.role, &ObjectName::new(Class::Schema, &[schema]), Privilege::Usage, On::Object);
        if !self.early.contains(&need) {
            self.early.push(need);
        }
    }

    /// Finds the schema in which something new would be made.
    fn schema_of_new(&mut self, name: &Written) -> Option<ObjectName> {
        let parts = table_name(Dialect::Postgresql, name);
        let schema = match parts.as_slice() {
            [_] => self.path().into_iter().find(|s| self.may_look_into(s)),
            [.., schema, _] => Some(schema.clone()),
            [] => None,
        };
        let schema = schema.map(|s| ObjectName::new(Class::Schema, &[&s])).filter(|s| self.catalog.object(s).is_some());
        if schema.is_none() {
            self.undecided.push(format!("in which schema `{}` would be made", parts.join(".")));
        }
        schema
    }

    fn create_in_schema(&mut self, name: &Written) {
        if let Some(schema) = self.schema_of_new(name) {
            self.early.push(Need::privilege(&self.role, &schema, Privilege::Create, On::Object));
        }
    }

    fn on_database(&mut self, privilege: Privilege) {
        self.early.push(Need::privilege(&self.role, &ObjectName::database(), privilege, On::Object));
    }

    fn existing(&mut self, name: &Written, classes: &[Class]) -> Option<ObjectName> {
        let parts = table_name(Dialect::Postgresql, name);
        match self.look_up(&parts, classes) {
            Ok(found) => Some(found),
            Err(why) => {
                self.undecided.push(why);
                None
            }
        }
    }
}

const ROUTINES: &[Class] = &[Class::Function, Class::Procedure];
const RELATIONS: &[Class] = &[Class::Table, Class::View, Class::MaterialisedView, Class::Sequence];

/// Rows
impl Deriver<'_> {
    fn relation_used(&mut self, object: &ObjectName, used: &Use) {
        let role = self.role.clone();
        let on = |columns: &Columns| {
            if columns.whole {
                let all = self.catalog.state().objects.get(object).map(|o| o.columns.iter().map(|c| c.name.clone()).collect());
                On::Columns(all.unwrap_or_default())
            } else if columns.names.is_empty() {
                On::Some
            } else {
                On::Columns(columns.names.iter().cloned().collect())
            }
        };
        // In the order of the server's own mask: what cannot be given on columns decides first.
        for verb in [Verb::Delete, Verb::Select, Verb::Insert, Verb::Update, Verb::Lock] {
            if !used.verbs.contains(&verb) {
                continue;
            }
            let (privilege, on) = match verb {
                Verb::Delete => (Privilege::Delete, On::Object),
                Verb::Select => (Privilege::Select, on(&used.selected)),
                Verb::Insert => (Privilege::Insert, on(&used.inserted)),
                Verb::Update => (Privilege::Update, on(&used.updated)),
                Verb::Lock => (Privilege::Update, On::Some),
            };
            self.rows.push(Need::privilege(&role, object, privilege, on));
        }
        let catalog = self.catalog;
        let Some(entry) = catalog.state().objects.get(object) else { return };
        for verb in &used.verbs {
            self.not_modelled(object, Touch::from(*verb));
        }
        if entry.row_security && !self.passes_row_security(&role, &entry.owner) {
            self.notes.push(format!("row security is on for {object}: which rows are seen or changed depends on its policies"));
            if used.verbs.contains(&Verb::Insert) || used.verbs.contains(&Verb::Update) {
                self.undecided.push(format!("whether the policies of {object} let the new rows in"));
            }
        }
        if used.verbs.contains(&Verb::Insert) || self.names_default && used.verbs.contains(&Verb::Update) {
            let is_given = |c: &&Column| used.inserted.names.contains(&c.name) && !self.names_default;
            let missing: Vec<&String> = entry.columns.iter().filter(|c| !is_given(c)).filter_map(|c| c.default.as_ref()).collect();
            for default in missing {
                self.default(default);
            }
        }
        if object.class == Class::View {
            self.through_view(object, used);
        }
    }

    fn passes_row_security(&self, role: &str, owner: &str) -> bool {
        let state = self.catalog.state();
        state.roles.get(role).is_some_and(|r| r.superuser || r.bypass_row_security)
            || self.catalog.role(role).zip(self.catalog.role(owner)).is_some_and(|(r, o)| self.catalog.has_role(r, o))
    }

    /// A default is worked out as the caller: the sequences and functions in it need rights of their own.
    fn default(&mut self, default: &str) {
        // Its names were looked up when it was made.
        let before = std::mem::replace(&mut self.looks_up, false);
        with_statements(Dialect::Postgresql, &format!("SELECT {default}"), true, |read| match one(read) {
            Ok(statement) => self.walk(statement),
            Err(_) => self.undecided.push(format!("the default `{default}` cannot be read")),
        });
        self.looks_up = before;
    }

    /// What the server looks at there and the ledger only names makes the statement undecided.
    fn not_modelled(&mut self, object: &ObjectName, touch: Touch) {
        let notes = self.catalog.state().objects.get(object).map(|o| &o.not_modelled);
        if let Some(note) = notes.and_then(|n| looked_at(n, touch)) {
            self.undecided.push(format!("{object} has {note}, which is not modelled"));
        }
    }

    /// What the server looks at for every statement of a session.
    fn server(&mut self, statement: &Statement, text: &str) {
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

    fn of_server(&mut self, text: &str, is_making: bool) {
        self.undecided.extend(looked_at_on_server(&self.catalog.state().not_modelled, &self.session, text, is_making));
    }

    fn sequence(&mut self, name: &str, any: &[Privilege]) {
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
    fn enter(&mut self, what: &Circumstances) -> bool {
        let then = self.followed.enter(what);
        if then == Then::GiveUp {
            self.undecided.push(format!("{} leads back to itself, or is nested too deep", what.object));
        }
        then == Then::Read
    }

    /// What a view reads or changes is checked as its owner, or as the caller if it says so.
    fn through_view(&mut self, view: &ObjectName, used: &Use) {
        let Some(entry) = self.catalog.state().objects.get(view) else { return };
        let Some(query) = entry.query.clone() else {
            self.undecided.push(format!("what {view} reads: its query is not in the ledger"));
            return;
        };
        // One that runs as the caller does so inside of another view, too.
        let role = if entry.runs_as_owner { entry.owner.clone() } else { self.caller.clone() };
        let changes = used.verbs.iter().any(|v| matches!(v, Verb::Insert | Verb::Update | Verb::Delete));
        let here = Circumstances {
            object: view.clone(),
            role: role.clone(),
            caller: self.caller.clone(),
            change: changes.then(|| self.followed.count()),
        };
        if self.enter(&here) {
            let before = (std::mem::replace(&mut self.role, role), std::mem::replace(&mut self.looks_up, false));
            with_statements(Dialect::Postgresql, &query, true, |read| match one(read) {
                Ok(statement) if changes => self.change_through_view(view, statement, used),
                Ok(statement) => self.walk(statement),
                Err(_) => self.undecided.push(format!("the query of {view} cannot be read")),
            });
            (self.role, self.looks_up) = before;
            self.followed.leave(here);
        }
    }

    /// A view over one relation passes changes on to it, column by column.
    fn change_through_view(&mut self, view: &ObjectName, statement: &Statement, used: &Use) {
        use sqlparser::ast::{Expr, SelectItem, SetExpr, TableFactor};
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
        // The query of the view is read along with the change: its columns as soon as rows are looked for, its routines
        // and whatever else it reads in any case.
        let reads = used.verbs.contains(&Verb::Select);
        let from = self.rows.len();
        let done = self.followed.forget();
        self.walk(statement);
        self.followed.restore(done);
        let Some(base) = self.existing(name, RELATIONS) else { return };
        if !reads {
            let of_base = |n: &Need| matches!(n, Need::Object { object, .. } if *object == base);
            let read: Vec<Need> = self.rows.drain(from..).filter(|n| !of_base(n)).collect();
            self.rows.extend(read);
        }
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
            relation: 0,
            verbs: used.verbs.clone(),
            selected: map(&used.selected),
            inserted: map(&used.inserted),
            updated: map(&used.updated),
        };
        self.relation_used(&base, &behind);
    }

    fn routine_called(&mut self, call: &Call, procedure: bool) {
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
                _ => {}
            }
        }
        let classes: &[Class] = if procedure { &[Class::Procedure] } else { &[Class::Function] };
        let path = self.path();
        let in_path = |n: &&ObjectName| match call.name.as_slice() {
            [_] => path.iter().any(|s| n.schema() == Some(s)),
            [schema, _] => n.schema() == Some(schema),
            _ => false,
        };
        let count = |n: &&ObjectName| n.arguments.as_deref().map_or(0, |a| if a.is_empty() { 0 } else { split_types(a) }) == call.arguments;
        let catalog = self.catalog;
        let found: Vec<ObjectName> = catalog
            .objects()
            .iter()
            .filter(|n| classes.contains(&n.class) && n.last() == last)
            .filter(in_path)
            .filter(count)
            .cloned()
            .collect();
        if found.is_empty() {
            // One of the same name with other arguments could be the one that fits.
            let near = catalog.objects().iter().any(|n| n.class.is_routine() && n.last() == last && in_path(&n));
            let known = if near { Vec::new() } else { BUILT_IN.lines().collect::<Vec<_>>() };
            if is_server && known.binary_search(&last.as_str()).is_ok() {
                return;
            }
            self.undecided.push(format!("the routine `{}` with {} arguments is not in the inventory", call.name.join("."), call.arguments));
            return;
        }
        if found.len() > 1 {
            self.undecided.push(format!("which of {} routines called `{}` is meant", found.len(), call.name.join(".")));
        }
        for name in found {
            if let (Some(schema), [_, _]) = (name.schema().map(str::to_owned), call.name.as_slice())
                && self.looks_up
            {
                self.use_schema(&schema);
            }
            self.late.push(Need::privilege(&self.caller, &name, Privilege::Execute, On::Object));
            self.inside_routine(&name);
        }
    }

    /// A routine in SQL is followed; it runs as its owner where it says so.
    fn inside_routine(&mut self, name: &ObjectName) {
        let Some(entry) = self.catalog.state().objects.get(name) else { return };
        let body = entry.body.clone().unwrap_or_default();
        self.not_modelled(name, Touch::Call);
        if entry.language.as_deref() == Some("sql") && body.trim().is_empty() {
            self.undecided.push(format!("what {name} does: its body is not in the ledger"));
            return;
        }
        if entry.language.as_deref() != Some("sql") {
            let language = entry.language.as_deref().unwrap_or("?");
            self.undecided.push(format!("what {name} does: routines in {language} are not followed"));
            return;
        }
        self.of_server(&body, false);
        let role = if entry.runs_as_owner { entry.owner.clone() } else { self.caller.clone() };
        let here = Circumstances { object: name.clone(), role: role.clone(), caller: role.clone(), change: None };
        if self.enter(&here) {
            let before = (
                std::mem::replace(&mut self.role, role.clone()),
                std::mem::replace(&mut self.caller, role),
                std::mem::replace(&mut self.looks_up, true),
            );
            with_statements(Dialect::Postgresql, &body, true, |read| match read {
                Ok(statements) => {
                    // Its checks come when it runs, after those of the statement that calls it.
                    let (early, rows) = (std::mem::take(&mut self.early), std::mem::take(&mut self.rows));
                    statements.iter().for_each(|s| self.statement(s));
                    let inner = std::mem::replace(&mut self.early, early).into_iter().chain(std::mem::replace(&mut self.rows, rows));
                    self.late.extend(inner);
                }
                Err(_) => self.undecided.push(format!("the body of {name} cannot be read")),
            });
            (self.role, self.caller, self.looks_up) = before;
            self.followed.leave(here);
        }
    }
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

/// Everything else
impl Deriver<'_> {
    fn any(&mut self, object: ObjectName, list: &[Privilege]) {
        let demand = Demand::Privilege { any: list.iter().copied().collect(), on: On::Object, want: Want::Privilege };
        self.rows.push(Need::Object { role: self.role.clone(), object, demand });
    }

    fn own(&mut self, object: Option<ObjectName>) {
        if let Some(object) = object {
            self.early.push(Need::owner(&self.role, &object));
        }
    }

    fn owns(&self, object: &ObjectName) -> bool {
        let state = self.catalog.state();
        let owner = state.objects.get(object).and_then(|o| self.catalog.role(&o.owner));
        state.is_superuser(&self.role) || self.catalog.role(&self.role).zip(owner).is_some_and(|(r, o)| self.catalog.has_role(r, o))
    }

    fn switch(&mut self, switch: &'static str) {
        self.early.push(Need::Switch { role: self.role.clone(), switch });
    }

    #[expect(clippy::too_many_lines, reason = "one arm for each statement")]
    fn statement(&mut self, statement: &Statement) {
        match statement {
            Statement::Query(_) | Statement::Insert(_) | Statement::Update(_) | Statement::Delete(_) | Statement::Merge(_) => {
                self.walk(statement)
            }
            Statement::Explain { statement, .. } => self.statement(statement),
            Statement::Call(function) => self.call(function),
            Statement::Truncate(truncate) => {
                for target in &truncate.table_names {
                    if let Some(object) = self.existing(&target.name, RELATIONS) {
                        self.not_modelled(&object, Touch::Truncate);
                        if object.class != Class::Table {
                            self.undecided.push(format!("TRUNCATE of {object}"));
                        }
                        if matches!(truncate.identity, Some(sqlparser::ast::TruncateIdentityOption::Restart)) && !self.owns(&object) {
                            self.undecided.push(format!("which sequences belong to {object}, and whose they are"));
                        }
                        self.any(object, &[Privilege::Truncate]);
                    }
                }
                if matches!(truncate.cascade, Some(sqlparser::ast::CascadeOption::Cascade)) {
                    self.undecided.push("which tables TRUNCATE … CASCADE reaches".to_owned());
                }
            }
            Statement::Lock(lock) => {
                let wanted: &[Privilege] = match lock.lock_mode {
                    Some(LockTableMode::AccessShare) => &[Privilege::Select],
                    Some(LockTableMode::RowExclusive) => &[Privilege::Insert, Privilege::Update, Privilege::Delete, Privilege::Truncate],
                    _ => &[Privilege::Update, Privilege::Delete, Privilege::Truncate],
                };
                for target in &lock.tables {
                    if let Some(object) = self.existing(&target.name, RELATIONS) {
                        if object.class == Class::View {
                            self.undecided.push("LOCK of a view locks what is behind it".to_owned());
                        }
                        self.any(object, wanted);
                    }
                }
            }
            Statement::Copy { source, to, target, .. } => self.copy(source, *to, target),
            Statement::CreateTable(create) => {
                if create.temporary {
                    self.on_database(Privilege::Temporary);
                } else {
                    self.create_in_schema(&create.name);
                }
                for column in &create.columns {
                    self.type_used(&column.data_type);
                    for option in &column.options {
                        if let ColumnOption::ForeignKey(key) = &option.option {
                            self.references(&key.foreign_table, &key.referred_columns);
                        }
                    }
                }
                for constraint in &create.constraints {
                    if let TableConstraint::ForeignKey(key) = constraint {
                        self.references(&key.foreign_table, &key.referred_columns);
                    }
                }
                if let Some(query) = &create.query {
                    self.walk(&Statement::Query(query.clone()));
                }
                if create.like.is_some() || create.inherits.is_some() || create.partition_of.is_some() {
                    self.undecided.push("a table made after another one".to_owned());
                }
            }
            Statement::CreateView(create) => {
                // The names in the query are looked up first; its rows are checked when the view is used, but those of
                // a materialised view at once, when it has been made.
                let (rows, late) = (std::mem::take(&mut self.rows), std::mem::take(&mut self.late));
                self.walk(&Statement::Query(create.query.clone()));
                if !create.materialized {
                    (self.rows, self.late) = (rows, late);
                }
                if create.temporary {
                    self.on_database(Privilege::Temporary);
                } else {
                    self.create_in_schema(&create.name);
                }
                let parts = table_name(Dialect::Postgresql, &create.name);
                if create.or_replace && self.look_up(&parts, RELATIONS).is_ok() {
                    let existing = self.existing(&create.name, RELATIONS);
                    self.own(existing);
                }
            }
            Statement::CreateIndex(create) => {
                let table = self.existing(&create.table_name, RELATIONS);
                let is_column = |e: &sqlparser::ast::Expr| matches!(e, sqlparser::ast::Expr::Identifier(_));
                if create.predicate.is_some() || !create.columns.iter().all(|c| is_column(&c.column.expr)) {
                    self.undecided.push("what the expressions of the index run".to_owned());
                }
                if let Some(schema) = table.as_ref().and_then(|t| t.schema()).map(|s| ObjectName::new(Class::Schema, &[s])) {
                    self.own(table);
                    self.early.push(Need::privilege(&self.role, &schema, Privilege::Create, On::Object));
                }
            }
            Statement::CreateSchema { schema_name, .. } => {
                self.on_database(Privilege::Create);
                if let SchemaName::UnnamedAuthorization(role) | SchemaName::NamedAuthorization(_, role) = schema_name {
                    let of = fold(Dialect::Postgresql, role);
                    self.early.push(Need::Member { role: self.role.clone(), of, why: "it would own the schema".to_owned() });
                }
            }
            Statement::CreateSequence { name, temporary: false, .. } => {
                self.create_in_schema(name);
                if statement.to_string().contains("OWNED BY") {
                    self.undecided.push("OWNED BY".to_owned());
                }
            }
            Statement::CreateType { name, representation } => {
                self.create_in_schema(name);
                if !matches!(representation, Some(sqlparser::ast::UserDefinedTypeRepresentation::Enum { .. })) {
                    self.undecided.push("which types the new one is made of".to_owned());
                }
            }
            Statement::CreateDomain(create) => {
                self.create_in_schema(&create.name);
                self.type_used(&create.data_type);
            }
            Statement::CreateFunction(create) if !create.temporary => {
                self.create_in_schema(&create.name);
                let language = create.language.as_ref().map_or("sql".to_owned(), |l| l.value.to_lowercase());
                self.early.push(Need::privilege(&self.role, &ObjectName::new(Class::Language, &[&language]), Privilege::Usage, On::Object));
                let of_arguments = create.args.iter().flatten().map(|a| a.data_type.clone());
                let returned = match &create.return_type {
                    Some(FunctionReturnType::DataType(t) | FunctionReturnType::SetOf(t)) => Some(t.clone()),
                    None => None,
                };
                for data_type in of_arguments.chain(returned) {
                    self.type_used(&data_type);
                }
                if create.or_replace {
                    self.undecided.push("whether the routine is there already, and whose it is".to_owned());
                }
            }
            Statement::CreateDatabase { .. } => self.switch("create-database"),
            Statement::AlterTable(alter) => self.alter_table(&alter.name, &alter.operations),
            Statement::AlterView(alter) => {
                let view = self.existing(&alter.name, RELATIONS);
                self.own(view);
            }
            Statement::Drop { object_type, names, cascade, if_exists, .. } => self.drop(*object_type, names, *cascade, *if_exists),
            Statement::DropFunction(drop) => {
                drop.func_desc.iter().for_each(|described| self.drop_routine(described));
            }
            Statement::RefreshMaterializedView(refresh) => {
                let view = self.existing(&refresh.name, RELATIONS);
                self.own(view.clone());
                // The query runs in the name of the owner.
                if let Some((view, owner)) = view.and_then(|v| Some((v.clone(), self.catalog.state().objects.get(&v)?.owner.clone()))) {
                    let before = (std::mem::replace(&mut self.role, owner.clone()), std::mem::replace(&mut self.caller, owner));
                    let nothing = Columns { whole: false, names: BTreeSet::new() };
                    let used = Use {
                        relation: 0,
                        verbs: BTreeSet::from([Verb::Select]),
                        selected: nothing.clone(),
                        inserted: nothing.clone(),
                        updated: nothing,
                    };
                    self.through_view(&view, &used);
                    (self.role, self.caller) = before;
                }
            }
            Statement::Comment {
                object_type: sqlparser::ast::CommentObject::Table | sqlparser::ast::CommentObject::View,
                object_name,
                ..
            } => {
                let object = self.existing(object_name, RELATIONS);
                self.own(object);
            }
            Statement::Grant(grant) => self.grant(&grant.privileges, grant.objects.as_ref(), grant.granted_by.is_some()),
            Statement::Revoke(revoke) => self.grant(&revoke.privileges, revoke.objects.as_ref(), revoke.granted_by.is_some()),
            Statement::Set(Set::SetRole { role_name: Some(name), .. }) => {
                let of = fold(Dialect::Postgresql, name);
                if of != "none" {
                    self.early.push(Need::Member { role: self.session.clone(), of, why: "to make it the active role".to_owned() });
                }
            }
            Statement::Set(
                Set::SetRole { role_name: None, .. } | Set::SetTransaction { .. } | Set::SetTimeZone { .. } | Set::SetNames { .. },
            ) => {}
            Statement::Set(Set::SingleAssignment { variable, .. }) => {
                let name = table_name(Dialect::Postgresql, variable).join(".");
                if !OPEN.contains(&name.as_str()) {
                    self.undecided.push(format!("who may set `{name}`"));
                }
            }
            // Some settings are shown to superusers only.
            Statement::ShowVariable { variable } => {
                let name = variable.iter().map(|i| i.value.to_lowercase()).collect::<Vec<_>>().join(" ");
                let shown = ["server_version", "server_version_num", "time zone", "transaction isolation level", "transaction_isolation"];
                if !OPEN.contains(&name.as_str()) && !shown.contains(&name.as_str()) {
                    self.undecided.push(format!("who may see the setting `{name}`"));
                }
            }
            Statement::StartTransaction { statements, .. } if statements.is_empty() => {}
            Statement::Commit { .. }
            | Statement::Rollback { .. }
            | Statement::Savepoint { .. }
            | Statement::ReleaseSavepoint { .. }
            | Statement::LISTEN { .. }
            | Statement::UNLISTEN { .. }
            | Statement::NOTIFY { .. }
            | Statement::Discard { .. }
            | Statement::Reset(_) => {}
            other => self.not_known(other),
        }
    }

    fn copy(&mut self, source: &CopySource, to: bool, target: &CopyTarget) {
        let file_role = match (target, to) {
            (CopyTarget::Program { .. }, _) => Some("pg_execute_server_program"),
            (CopyTarget::File { .. }, true) => Some("pg_write_server_files"),
            (CopyTarget::File { .. }, false) => Some("pg_read_server_files"),
            _ => None,
        };
        if let Some(role) = file_role {
            self.early.push(Need::Member {
                role: self.role.clone(),
                of: role.to_owned(),
                why: "for files and programs of the server".to_owned(),
            });
        }
        match source {
            CopySource::Query(query) => self.walk(&Statement::Query(query.clone())),
            CopySource::Table { table_name: name, columns } => {
                let Some(object) = self.existing(name, RELATIONS) else { return };
                if object.class != Class::Table {
                    self.undecided.push(format!("COPY of {object}"));
                }
                let entry = self.catalog.state().objects.get(&object);
                let all = || entry.map(|o| o.columns.iter().map(|c| c.name.clone()).collect()).unwrap_or_default();
                let names: BTreeSet<String> =
                    if columns.is_empty() { all() } else { columns.iter().map(|c| fold(Dialect::Postgresql, c)).collect() };
                let (listed, nothing) = (Columns { whole: false, names }, Columns { whole: false, names: BTreeSet::new() });
                let (verb, selected, inserted) =
                    if to { (Verb::Select, listed, nothing.clone()) } else { (Verb::Insert, nothing.clone(), listed) };
                self.relation_used(&object, &Use { relation: 0, verbs: BTreeSet::from([verb]), selected, inserted, updated: nothing });
            }
        }
    }

    fn type_used(&mut self, data_type: &DataType) {
        if let DataType::Array(ArrayElemTypeDef::AngleBracket(inner) | ArrayElemTypeDef::SquareBracket(inner, _)) = data_type {
            return self.type_used(inner);
        }
        if let DataType::Custom(name, _) = data_type {
            let parts = table_name(Dialect::Postgresql, name);
            // Serial types make a sequence of their own; others of one part may be the server's.
            if matches!(parts.as_slice(), [one] if one.ends_with("serial") || BUILT_IN_TYPES.contains(&one.as_str())) {
                return;
            }
            if let Some(object) = self.existing(name, &[Class::Type]) {
                self.not_modelled(&object, Touch::Cast);
                self.early.push(Need::privilege(&self.role, &object, Privilege::Usage, On::Object));
            }
        }
    }

    fn references(&mut self, table: &Written, columns: &[sqlparser::ast::Ident]) {
        if let Some(object) = self.existing(table, RELATIONS) {
            let list: Vec<String> = columns.iter().map(|c| fold(Dialect::Postgresql, c)).collect();
            if list.is_empty() {
                self.undecided.push(format!("which columns are the key of {object}"));
            }
            self.rows.push(Need::privilege(&self.role, &object, Privilege::References, On::Columns(list)));
        }
    }

    fn alter_table(&mut self, name: &Written, operations: &[AlterTableOperation]) {
        let Some(table) = self.existing(name, RELATIONS) else { return };
        self.own(Some(table.clone()));
        let schema = table.schema().map(|s| ObjectName::new(Class::Schema, &[s]));
        for operation in operations {
            match operation {
                AlterTableOperation::AddColumn { column_def, .. } => {
                    self.type_used(&column_def.data_type);
                    for option in &column_def.options {
                        match &option.option {
                            ColumnOption::Null | ColumnOption::NotNull | ColumnOption::Comment(_) => {}
                            ColumnOption::Default(value) => self.default(&value.to_string()),
                            ColumnOption::ForeignKey(key) => self.references(&key.foreign_table, &key.referred_columns),
                            _ => self.undecided.push("what the options of the new column run".to_owned()),
                        }
                    }
                }
                AlterTableOperation::AlterColumn { op, .. } => match op {
                    AlterColumnOperation::SetNotNull
                    | AlterColumnOperation::DropNotNull
                    | AlterColumnOperation::SetDefault { .. }
                    | AlterColumnOperation::DropDefault => {}
                    AlterColumnOperation::SetDataType { data_type, using: None, .. } => self.type_used(data_type),
                    _ => self.undecided.push("what the change of the column runs".to_owned()),
                },
                AlterTableOperation::DropColumn { .. }
                | AlterTableOperation::RenameColumn { .. }
                | AlterTableOperation::DropConstraint { .. }
                | AlterTableOperation::EnableRowLevelSecurity
                | AlterTableOperation::DisableRowLevelSecurity => {}
                AlterTableOperation::RenameTable { .. } => {
                    if let Some(schema) = &schema {
                        self.early.push(Need::privilege(&self.role, schema, Privilege::Create, On::Object));
                    }
                }
                AlterTableOperation::AddConstraint { constraint: TableConstraint::ForeignKey(key), .. } => {
                    self.references(&key.foreign_table, &key.referred_columns);
                }
                AlterTableOperation::AddConstraint { constraint: TableConstraint::PrimaryKey(_) | TableConstraint::Unique(_), .. } => {}
                AlterTableOperation::AddConstraint { .. } => self.undecided.push("what the constraint runs".to_owned()),
                AlterTableOperation::OwnerTo { new_owner: Owner::Ident(owner) } => {
                    let of = fold(Dialect::Postgresql, owner);
                    self.early.push(Need::Member { role: self.role.clone(), of: of.clone(), why: "it would own the table".to_owned() });
                    if let (Some(schema), false) = (&schema, self.catalog.state().is_superuser(&self.role)) {
                        self.early.push(Need::privilege(&of, schema, Privilege::Create, On::Object));
                    }
                }
                _ => self.undecided.push("a form of ALTER TABLE that is not followed".to_owned()),
            }
        }
    }

    fn drop(&mut self, object_type: ObjectType, names: &[Written], cascade: bool, if_exists: bool) {
        if cascade {
            self.undecided.push("what CASCADE would take along".to_owned());
        }
        for name in names {
            let classes: &[Class] = match object_type {
                ObjectType::Table | ObjectType::ForeignTable => &[Class::Table],
                ObjectType::View => &[Class::View],
                ObjectType::MaterializedView => &[Class::MaterialisedView],
                ObjectType::Sequence => &[Class::Sequence],
                ObjectType::Type => &[Class::Type],
                ObjectType::Schema => {
                    let schema = ObjectName::new(Class::Schema, &[&table_name(Dialect::Postgresql, name).join(".")]);
                    self.own(Some(schema));
                    continue;
                }
                _ => {
                    self.undecided.push(format!("DROP {object_type} is not followed"));
                    continue;
                }
            };
            let parts = table_name(Dialect::Postgresql, name);
            match self.look_up(&parts, classes) {
                Ok(object) => {
                    let demand = Demand::Owner { or_of_schema: true };
                    self.early.push(Need::Object { role: self.role.clone(), object, demand });
                }
                Err(_) if if_exists => {}
                Err(why) => self.undecided.push(why),
            }
        }
    }

    fn drop_routine(&mut self, described: &FunctionDesc) {
        if let Some(object) = self.routine(described, &[Class::Function]) {
            let demand = Demand::Owner { or_of_schema: true };
            self.early.push(Need::Object { role: self.role.clone(), object, demand });
        }
    }

    /// Finds a routine by its name, and by the types of its arguments where they are written.
    fn routine(&mut self, described: &FunctionDesc, classes: &[Class]) -> Option<ObjectName> {
        let parts = table_name(Dialect::Postgresql, &described.name);
        let types =
            described.args.as_ref().map(|a| a.iter().map(|x| x.data_type.to_string().to_lowercase()).collect::<Vec<_>>().join(", "));
        let fits = |n: &&ObjectName| {
            classes.contains(&n.class)
                && n.parts.ends_with(&parts)
                && types.as_deref().is_none_or(|t| {
                    n.arguments.as_deref().is_some_and(|a| a.replace(' ', "") == t.replace(' ', "").replace("int,", "integer,"))
                })
        };
        let found: Vec<ObjectName> = self.catalog.objects().iter().filter(fits).cloned().collect();
        let [one] = found.as_slice() else {
            self.undecided.push(format!("which routine `{}` is meant", parts.join(".")));
            return None;
        };
        if let [schema, _] = parts.as_slice() {
            self.use_schema(schema);
        } else if !self.path().iter().any(|schema| one.schema() == Some(schema) && self.may_look_into(schema)) {
            self.undecided.push(format!("nothing called `{}` is found in the search path", parts.join(".")));
            return None;
        }
        Some(one.clone())
    }

    /// Returns all objects of some classes in schemas, which must be open.
    fn all_in(&mut self, schemas: &[Written], classes: &[Class]) -> Vec<ObjectName> {
        let mut all = Vec::new();
        for schema in schemas {
            let schema = table_name(Dialect::Postgresql, schema).join(".");
            if self.catalog.object(&ObjectName::new(Class::Schema, &[&schema])).is_none() {
                self.undecided.push(format!("no schema `{schema}` is in the inventory"));
                continue;
            }
            self.use_schema(&schema);
            let is_there = |object: &&ObjectName| classes.contains(&object.class) && object.schema() == Some(&schema);
            all.extend(self.catalog.objects().iter().filter(is_there).cloned());
        }
        all
    }

    /// Finds what is granted on.
    fn granted_on(&mut self, objects: Option<&GrantObjects>) -> Option<Vec<ObjectName>> {
        let mut routines = |list: &[FunctionDesc], classes| list.iter().filter_map(|described| self.routine(described, classes)).collect();
        Some(match objects? {
            GrantObjects::Tables(names) => names.iter().filter_map(|name| self.existing(name, RELATIONS)).collect(),
            GrantObjects::Sequences(names) => names.iter().filter_map(|name| self.existing(name, &[Class::Sequence])).collect(),
            GrantObjects::Schemas(names) => {
                names.iter().map(|name| ObjectName::new(Class::Schema, &[&table_name(Dialect::Postgresql, name).join(".")])).collect()
            }
            GrantObjects::Databases(names) => names.iter().map(|_| ObjectName::database()).collect(),
            GrantObjects::AllTablesInSchema { schemas } => self.all_in(schemas, &[Class::Table, Class::View, Class::MaterialisedView]),
            GrantObjects::AllSequencesInSchema { schemas } => self.all_in(schemas, &[Class::Sequence]),
            GrantObjects::AllFunctionsInSchema { schemas } => self.all_in(schemas, &[Class::Function]),
            GrantObjects::AllProceduresInSchema { schemas } => self.all_in(schemas, &[Class::Procedure]),
            GrantObjects::AllRoutinesInSchema { schemas } => self.all_in(schemas, ROUTINES),
            GrantObjects::Functions(list) => routines(list, &[Class::Function]),
            GrantObjects::Procedures(list) => routines(list, &[Class::Procedure]),
            GrantObjects::Routines(list) => routines(list, ROUTINES),
            _ => return None,
        })
    }

    fn grant(&mut self, privileges: &Listed, objects: Option<&GrantObjects>, by_another: bool) {
        if by_another {
            self.undecided.push("GRANTED BY".to_owned());
        }
        let Some(objects) = self.granted_on(objects) else {
            self.undecided.push("a form of GRANT or REVOKE that is not followed".to_owned());
            return;
        };
        for object in objects {
            let applicable = object.class.applicable();
            let (mut any, mut columns) = (Privileges::NONE, Vec::new());
            match privileges {
                Listed::All { .. } => any = applicable,
                Listed::Actions(list) => {
                    for action in list {
                        let (privilege, on) = match action {
                            Action::Select { columns } => (Privilege::Select, columns.as_ref()),
                            Action::Insert { columns } => (Privilege::Insert, columns.as_ref()),
                            Action::Update { columns } => (Privilege::Update, columns.as_ref()),
                            Action::References { columns } => (Privilege::References, columns.as_ref()),
                            Action::Delete => (Privilege::Delete, None),
                            Action::Truncate => (Privilege::Truncate, None),
                            Action::Trigger => (Privilege::Trigger, None),
                            Action::Usage => (Privilege::Usage, None),
                            Action::Connect => (Privilege::Connect, None),
                            Action::Temporary => (Privilege::Temporary, None),
                            Action::Create { .. } => (Privilege::Create, None),
                            Action::Execute { .. } => (Privilege::Execute, None),
                            _ => {
                                self.undecided.push("a privilege of another dialect".to_owned());
                                continue;
                            }
                        };
                        any = any.or(privilege.only());
                        columns.extend(on.into_iter().flatten().map(|c| fold(Dialect::Postgresql, c)));
                    }
                }
            }
            let any = if columns.is_empty() { any.and(applicable) } else { any.and(COLUMN_PRIVILEGES) };
            let on = if columns.is_empty() { On::Object } else { On::Columns(columns) };
            self.early.push(Need::Object {
                role: self.role.clone(),
                object,
                demand: Demand::Privilege { any, on, want: Want::GrantOption },
            });
        }
    }
}
