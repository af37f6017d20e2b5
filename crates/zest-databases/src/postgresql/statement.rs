//! Which checks the server makes for a statement, in its order: names are looked up first, then rows' rights are
//! checked relation by relation, then routines and sequences as they are run.

mod along;
mod catalogs;
mod grammar;
mod objects;
mod plpgsql;
mod rows;
mod session;
pub(super) mod settings;
mod types;
mod views;

use std::collections::BTreeSet;
use std::ops::Range;
use std::sync::LazyLock;

use rustc_hash::FxHashSet;

use sqlparser::ast::helpers::stmt_create_table::CreateTableBuilder;
use sqlparser::ast::{
    Action, AlterColumnOperation, AlterTableOperation, ArrayElemTypeDef, ColumnOption, CopySource, CopyTarget, CreateDomain, CreateIndex,
    CreateTable, CreateTableLikeKind, CreateTableOptions, CreateView, DataType, Expr, Function, FunctionArg, FunctionArgExpr,
    FunctionArguments, FunctionDesc, FunctionReturnType, GrantObjects, GranteeName, GranteesType, IndexColumn, IndexOption, LockTableMode,
    ObjectName as Written, ObjectType, OperateFunctionArg, Owner, Privileges as Listed, Query, SchemaName, SequenceOptions, Set, SetExpr,
    SqlOption, Statement, TableConstraint,
};

use super::Column;
use super::about_rights;
use super::acl::Grantee;
use super::catalog::{Catalog, Want};
use super::need::{Demand, GivenOption, Need};
use super::object::ObjectName;
use super::privilege::{COLUMN_PRIVILEGES, Class, Privilege, Privileges};
use crate::database::followed::Followed;
use crate::database::name::parts;
use crate::database::not_modelled::{Touch, looked_at};
use crate::database::{Needs, On};
use crate::sql::{
    Call, Columns, Dialect, Names, Relation, Touches, UNNAMED, Use, Verb, Words, fold, one, several, table_name, with_statements,
};
pub(super) use along::{makes, runs_as_others};
pub(super) use session::leaves;
use session::{Ongoing, Standing};
use views::Unfolded;
use zest_model::ask::Refusal;

/// Functions of the server that everybody may run and that touch no table of ours: one name a line, sorted. Made from
/// `pg_proc` of version 15: `proacl IS NULL` in `pg_catalog`, without those that run SQL given to them, take the name of an
/// object, or check rights of their own.
static BUILT_IN: LazyLock<FxHashSet<&str>> = LazyLock::new(|| include_str!("functions.txt").lines().collect());

/// Functions of the server that not everybody may run, and the roles of the server that may, besides superusers: made from
/// `pg_proc` of version 15.
const GUARDED: &str = include_str!("functions-guarded.txt");

/// Functions that look at whether whoever runs them may replicate (`slotfuncs.c`, `logicalfuncs.c`); everybody may run them.
const OF_REPLICATION: &[&str] = &[
    "pg_copy_logical_replication_slot",
    "pg_copy_physical_replication_slot",
    "pg_create_logical_replication_slot",
    "pg_create_physical_replication_slot",
    "pg_drop_replication_slot",
    "pg_logical_slot_get_binary_changes",
    "pg_logical_slot_get_changes",
    "pg_logical_slot_peek_binary_changes",
    "pg_logical_slot_peek_changes",
    "pg_replication_slot_advance",
];

/// What stands for the body of an aggregate.
const OF_AGGREGATES: &str = "aggregate_dummy";

/// Functions about a relation, whose name is looked up, with the number of their arguments; everybody may run them.
const OF_RELATIONS: &[(&str, usize)] = &[
    ("has_any_column_privilege", 2),
    ("has_table_privilege", 2),
    ("pg_get_viewdef", 1),
    ("pg_get_viewdef", 2),
    ("pg_indexes_size", 1),
    ("pg_relation_filepath", 1),
    ("pg_relation_size", 1),
    ("pg_table_size", 1),
    ("pg_total_relation_size", 1),
    ("regclass", 1),
    ("regclassin", 1),
    ("row_security_active", 1),
];

/// Functions about rights on something that is named; everybody may run them, and a name without a schema needs no right.
const ABOUT_RIGHTS: &[&str] = &[
    "has_any_column_privilege",
    "has_column_privilege",
    "has_database_privilege",
    "has_foreign_data_wrapper_privilege",
    "has_function_privilege",
    "has_language_privilege",
    "has_parameter_privilege",
    "has_schema_privilege",
    "has_sequence_privilege",
    "has_server_privilege",
    "has_table_privilege",
    "has_tablespace_privilege",
    "has_type_privilege",
    "pg_has_role",
    "row_security_active",
];

/// Types of the server itself that the parser has no word of its own for, and whose values name nothing.
const BUILT_IN_TYPES: &[&str] = &[
    "bool",
    "box",
    "bpchar",
    "bytea",
    "char",
    "cid",
    "cidr",
    "circle",
    "datemultirange",
    "daterange",
    "float4",
    "float8",
    "inet",
    "int2",
    "int2vector",
    "int4",
    "int4multirange",
    "int4range",
    "int8",
    "int8multirange",
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
    "nummultirange",
    "numrange",
    "oid",
    "oidvector",
    "path",
    "pg_lsn",
    "pg_snapshot",
    "point",
    "polygon",
    "refcursor",
    "text",
    "tid",
    "timestamptz",
    "timetz",
    "tsmultirange",
    "tsquery",
    "tsrange",
    "tstzmultirange",
    "tstzrange",
    "tsvector",
    "txid_snapshot",
    "uuid",
    "varbit",
    "varchar",
    "xid",
    "xid8",
    "xml",
];

/// A view or routine, and all that what is in it depends on.
#[derive(Clone, Debug, PartialEq, Eq, Hash)]
struct Circumstances {
    object: ObjectName,
    role: String,
    caller: String,
    /// Which of the changes through views it is, if it is not only read: what a change needs depends on its columns.
    change: Option<usize>,
    /// Which condition or rule of the object it is.
    part: Option<String>,
    /// Which columns of a view are read.
    read: Columns,
    /// Whether its rows are locked.
    locks: bool,
    /// Whether what its FROM needs is left out, for a change that is made in its place.
    gives_way: bool,
}

impl Circumstances {
    /// Makes those of something that is done as `role` for `caller`.
    fn of(object: &ObjectName, role: &str, caller: &str) -> Self {
        Self {
            object: object.clone(),
            role: role.to_owned(),
            caller: caller.to_owned(),
            change: None,
            part: None,
            read: Columns::default(),
            locks: false,
            gives_way: false,
        }
    }
}

/// Derives what a text needs when `current` runs it in a session of `session`: one statement, or several, one after the other.
pub(crate) fn needs(catalog: &Catalog, session: &str, current: &str, text: &str) -> Result<Needs<Need>, (Refusal, String)> {
    let standing = Standing::of(session, current);
    let Some(parts) = several(Dialect::Postgresql, text) else { return needs_of(catalog, &standing, text) };
    let mut ongoing = Ongoing::of(standing);
    let mut all = Vec::new();
    for (number, part) in (1..).zip(parts) {
        let mut needs = needs_of(catalog, &ongoing.now, part).map_err(|(code, why)| (code, format!("statement {number}: {why}")))?;
        needs.undecided.extend(ongoing.unknown.clone());
        let runs = needs.list.iter().any(|need| matches!(need, Need::Object { object, .. } if object.class.is_routine()));
        all.push(needs);
        ongoing.behind(number, part);
        if runs {
            ongoing.unknown = Some(format!("what the routines of statement {number} leave behind is not carried on"));
        }
    }
    Ok(Needs::of_several(all))
}

fn needs_of(catalog: &Catalog, standing: &Standing, text: &str) -> Result<Needs<Need>, (Refusal, String)> {
    let mut deriver = Deriver::new(catalog, standing);
    let who = (&*standing.account, &*standing.role);
    let of_rights = about_rights::needs(catalog.state(), who, &mut |name, classes| deriver.look_up(name, classes), text);
    if let Some(needs) = of_rights {
        // The schemas in which names were found come first.
        let Needs { list, begins, undecided, notes } = needs;
        return Ok(Needs { list: std::mem::take(&mut deriver.early).into_iter().chain(list).collect(), begins, undecided, notes });
    }
    if deriver.about_objects(text) {
        deriver.of_server(text, true);
        return Ok(deriver.needs());
    }
    let Unfolded { text, tablespace } = views::unfolded(text);
    tablespace.iter().for_each(|name| deriver.tablespace(name));
    let text = &*text;
    with_statements(Dialect::Postgresql, text, false, |read| {
        let statement = one(read).map_err(|e| (Refusal::StatementUnreadable, e))?;
        deriver.without_data =
            Words::of(Dialect::Postgresql, &["create"], text).is_some_and(|words| words.ends_with(&["with", "no", "data"]));
        deriver.server(statement, text);
        deriver.statement(statement);
        Ok(deriver.needs())
    })
}

impl<'c> Deriver<'c> {
    fn new(catalog: &'c Catalog, standing: &Standing) -> Self {
        let Standing { signed_in, account, role, path } = standing.clone();
        Self {
            catalog,
            signed_in,
            session: account,
            caller: role.clone(),
            role,
            stated_path: path,
            looks_up: true,
            without_data: false,
            in_body: false,
            has_values: false,
            is_only_planned: false,
            merges: false,
            is_dropped: false,
            passed_over: None,
            replaced: None,
            frame: None,
            gives_way: false,
            outlines: false,
            cascades: None,
            turned: Vec::new(),
            made: Vec::new(),
            found: Vec::new(),
            early: Vec::new(),
            rows: Vec::new(),
            late: Vec::new(),
            undecided: Vec::new(),
            notes: Vec::new(),
            followed: Followed::default(),
        }
    }

    fn needs(self) -> Needs<Need> {
        let Self { early, mut rows, mut late, undecided, mut notes, is_dropped, .. } = self;
        if is_dropped {
            // Names are looked up before the rules are.
            (rows, late) = (Vec::new(), Vec::new());
            notes.push("rules leave nothing of it: nothing is carried out, and nobody's rights on rows are looked at".to_owned());
        }
        Needs { list: early.into_iter().chain(rows).chain(late).collect(), begins: Vec::new(), undecided, notes }
    }
}

struct Deriver<'c> {
    catalog: &'c Catalog,
    /// Who signed in.
    signed_in: String,
    /// Whose the session is.
    session: String,
    /// Where bare names are looked for, if that was set.
    stated_path: Option<Vec<String>>,
    /// In whose name relations are checked now: inside of a view its owner.
    role: String,
    /// Who the server says is the current user: routines and sequences are checked for it, inside of views too.
    caller: String,
    /// Whether schemas are checked when names are looked up; not inside of views.
    looks_up: bool,
    /// Whether the body of a routine is read.
    in_body: bool,
    /// Whether what is made of a query is left empty: then its rows are not read.
    without_data: bool,
    /// Whether the rows that are made are written in the statement, so that there are some.
    has_values: bool,
    /// Whether it is planned and not carried out: no row is looked at.
    is_only_planned: bool,
    /// Whether the statement is a MERGE.
    merges: bool,
    /// Whether rules leave nothing of the statement.
    is_dropped: bool,
    /// A relation whose use needs nothing: the table of a policy, in the condition of the policy.
    passed_over: Option<usize>,
    /// The relation that a change is made to in the place of a view over it: what is behind it is not read for the view.
    replaced: Option<usize>,
    /// What stands in the FROM of the view that is read now.
    frame: Option<Frame>,
    /// Whether what that needs is left out in the end.
    gives_way: bool,
    /// Whether nothing but what that needs is noted.
    outlines: bool,
    /// The view behind another that checks new rows for it as well, while a change passes from one to the other.
    cascades: Option<ObjectName>,
    /// Types of ours that values are turned into.
    turned: Vec<ObjectName>,
    /// Types of ours that values of the statement have, of which columns may be made.
    made: Vec<ObjectName>,
    found: Vec<Found>,
    early: Vec<Need>,
    rows: Vec<Need>,
    late: Vec<Need>,
    undecided: Vec<String>,
    notes: Vec<String>,
    followed: Followed<Circumstances>,
}

/// What stands in the FROM of a view: the server looks at all columns of it that stand in the view's query, and not at all where a change
/// is made to it in the view's place.
struct Frame {
    /// Where they stand among those that were found.
    relations: Range<usize>,
    /// Up to where all that the query itself names was found, once it was.
    end: Option<usize>,
    /// What they need.
    needs: Vec<Need>,
}

/// A relation that was found by name.
#[derive(Clone, Debug)]
enum Found {
    Listed(ObjectName),
    /// Of the server itself.
    Own(catalogs::Own),
}

impl Found {
    const fn listed(&self) -> Option<&ObjectName> {
        match self {
            Self::Listed(object) => Some(object),
            Self::Own(_) => None,
        }
    }
}

/// The columns of every sequence.
const OF_SEQUENCES: &[&str] = &["last_value", "log_cnt", "is_called"];

impl Names for Deriver<'_> {
    fn in_from_are_found(&mut self) {
        let found = self.found.len();
        if let Some(frame) = self.frame.as_mut().filter(|frame| frame.end.is_none()) {
            frame.relations.end = found;
        }
    }

    fn is_of_one_row(&self, _name: &[String]) -> bool {
        false
    }

    fn relation(&mut self, name: &[String]) -> Result<Relation, String> {
        if let Some(own) = catalogs::own(name) {
            let columns = own.columns.iter().map(|column| (*column).to_owned()).collect();
            self.found.push(Found::Own(own));
            return Ok(Relation { number: self.found.len() - 1, columns, is_open: false });
        }
        let object = self.look_up(name, &[Class::Table, Class::View, Class::MaterialisedView, Class::Sequence])?;
        let columns = match object.class {
            Class::Sequence => OF_SEQUENCES.iter().map(|column| (*column).to_owned()).collect(),
            _ => self.columns_of(&object),
        };
        self.found.push(Found::Listed(object));
        Ok(Relation { number: self.found.len() - 1, columns, is_open: false })
    }

    fn in_schema(&mut self, name: &[String]) {
        let [schema, _] = name else { return };
        if !self.looks_up || schema == "pg_catalog" {
            return;
        }
        if self.catalog.object(&ObjectName::new(Class::Schema, &[schema])).is_some() {
            self.use_schema(schema);
        } else {
            self.undecided.push(format!("what the schema `{schema}` is"));
        }
    }

    fn variable(&mut self, _: Option<&str>, _: &str) -> bool {
        // A name that is a variable's and a column's is an error there.
        false
    }

    fn column_type(&self, relation: usize, column: &str) -> Option<String> {
        let Found::Listed(object) = &self.found[relation] else { return None };
        let found = self.catalog.state().objects.get(object)?.columns.iter().find(|known| known.name == column)?;
        let plain = found.data_type.split(" GENERATED ").next().and_then(|plain| plain.split('(').next()).unwrap_or("").to_owned();
        (!plain.is_empty()).then_some(plain)
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
        if matches!(bare, "regnamespace" | "regrole")
            && let Some((named, _)) = text.and_then(parts)
        {
            let [one] = named.as_slice() else { return Err(format!("which name is turned into a `{bare}`")) };
            let is_known = match bare {
                "regrole" => self.catalog.state().knows_role(one),
                _ => self.catalog.object(&ObjectName::new(Class::Schema, &[one])).is_some(),
            };
            return if is_known { Ok(()) } else { Err(format!("nothing called `{one}` is in the inventory")) };
        }
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
        self.turned.push(object.clone());
        self.made.push(object.clone());
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
        if self.passed_over == Some(used.relation) {
            return;
        }
        match self.found[used.relation].clone() {
            Found::Listed(object) if used.is_open && !self.outlines => self.relation_perhaps_used(&object, used),
            Found::Listed(object) => self.relation_used(&object, used),
            Found::Own(own) => self.own_used(&own, used),
        }
    }

    fn on_routine(&mut self, call: &Call, is_procedure: bool) {
        if self.outlines {
            return;
        }
        if call.is_open {
            let name = call.name.join(".");
            return self.worked_out_if(true, &name, |deriver| deriver.routine_called(call, is_procedure));
        }
        self.routine_called(call, is_procedure);
    }

    fn on_name_of_routine(&mut self, call: &Call) {
        if self.outlines {
            return;
        }
        let late = self.late.clone();
        self.routine_called(call, false);
        self.late = late;
    }

    fn all_are_found(&mut self) {
        let end = self.found.len();
        if let Some(frame) = &mut self.frame {
            frame.end.get_or_insert(end);
        }
    }

    fn at_end(&mut self) {
        if self.outlines {
            return;
        }
        for data_type in std::mem::take(&mut self.turned) {
            self.turned_into(&data_type, true);
        }
    }

    fn undecided(&mut self, why: String) {
        self.undecided.push(why);
    }

    fn in_body(&self) -> bool {
        self.in_body
    }
}

/// Names
impl Deriver<'_> {
    /// The schemas in which a bare name is looked for: those that were set, or one of the role's own name, then `public`.
    fn path(&self) -> Vec<String> {
        let exists = |s: &String| self.catalog.object(&ObjectName::new(Class::Schema, &[s])).is_some();
        let user = |s: &String| if s == "$user" { self.role.clone() } else { s.clone() };
        match &self.stated_path {
            Some(path) => path.iter().map(user).filter(exists).collect(),
            None => {
                let path = settings::of_start(self.catalog.state(), &self.signed_in).find_map(|setting| settings::path(setting));
                path.unwrap_or_else(|| vec!["$user".to_owned(), "public".to_owned()]).iter().map(user).filter(exists).collect()
            }
        }
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
                        if self.looks_up {
                            self.use_schema(schema);
                        }
                        return Ok(found);
                    }
                }
                // It is there, but behind a schema that is shut: to the server it does not exist.
                if let Some((schema, found)) = path.iter().find_map(|s| in_schema(s, last).map(|f| (s.clone(), f))) {
                    self.use_schema(&schema);
                    return Ok(found);
                }
                let elsewhere = self.catalog.named(last).find(|n| classes.contains(&n.class));
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
    fn schema_of_new(&mut self, parts: &[String]) -> Option<ObjectName> {
        let schema = match parts {
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
        self.create_in(&table_name(Dialect::Postgresql, name));
    }

    /// Superusers may, and who has all rights of one of these roles of the server.
    fn server_right(&mut self, of: &[&'static str], what: &str) {
        self.early.push(Need::Server { role: self.role.clone(), of: of.to_vec(), what: what.to_owned() });
    }

    /// Whether rights on something of the server's own were given or taken, so that the lists of who has which say nothing of it. Superusers
    /// have them all.
    fn has_changed_rights(&mut self, note: &str) -> bool {
        let state = self.catalog.state();
        let is_open = state.not_modelled.contains(note) && !state.is_superuser(&self.role);
        if is_open {
            self.undecided.push(format!("the server has changed rights ({note}), which are not modelled"));
        }
        is_open
    }

    fn setting(&mut self, who: Result<settings::Who, String>, name: &str) {
        if who == Ok(settings::Who::Superusers) && self.has_changed_rights(&format!("parameter {}", name.to_lowercase())) {
            return;
        }
        match who {
            Ok(settings::Who::Everybody) => {}
            Ok(settings::Who::Superusers) => self.server_right(&[], &format!("the setting `{name}`")),
            Ok(settings::Who::Readers(roles)) => {
                self.server_right(&roles.split(',').collect::<Vec<_>>(), &format!("the setting `{name}`"));
            }
            Err(why) => self.undecided.push(why),
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

/// The type of a column where it is not of the server itself: the server prints it with its schema.
fn own_type(column: &Column) -> Option<&str> {
    let plain = column.data_type.split(" GENERATED ").next()?.trim_end_matches("[]").split('(').next()?;
    plain.contains('.').then_some(plain)
}

/// Takes `INTO` out of a query that makes a table: the query, the name, and whether the table is temporary.
fn into(query: &Query) -> Option<(Query, Written, bool)> {
    let SetExpr::Select(select) = &*query.body else { return None };
    let into = select.into.as_ref()?;
    let mut plain = query.clone();
    if let SetExpr::Select(select) = &mut *plain.body {
        select.into = None;
    }
    let [target] = into.targets.as_slice() else { return None };
    let name = match target {
        Expr::Identifier(ident) => vec![ident.clone()],
        Expr::CompoundIdentifier(parts) => parts.clone(),
        _ => return None,
    };
    Some((plain, Written::from(name), into.temporary))
}

/// Everything else
impl Deriver<'_> {
    fn any(&mut self, object: ObjectName, list: &[Privilege]) {
        let demand = Demand::Privilege { any: list.iter().copied().collect(), on: On::Object, want: Want::Privilege };
        self.rows.push(Need::Object { role: self.role.clone(), object, demand });
    }

    /// A lock of a view locks all that it reads, in its name.
    fn lock(&mut self, object: &ObjectName, wanted: &[Privilege]) {
        self.any(object.clone(), wanted);
        let Some(entry) = self.catalog.state().objects.get(object).filter(|_| object.class == Class::View) else { return };
        let Some(query) = entry.query.clone() else {
            self.undecided.push(format!("what {object} reads: its query is not in the ledger"));
            return;
        };
        let role = if entry.runs_as_owner { entry.owner.clone() } else { self.caller.clone() };
        let here = Circumstances { part: Some(format!("LOCK for {wanted:?}")), ..Circumstances::of(object, &role, &self.caller) };
        if !self.enter(&here) {
            return;
        }
        let before = (std::mem::replace(&mut self.role, role), std::mem::replace(&mut self.looks_up, false));
        let (rows, late, seen) = (self.rows.clone(), self.late.clone(), self.found.len());
        let (query, _) = views::without_check(&query);
        let mut end = seen;
        with_statements(Dialect::Postgresql, &query, true, |read| match one(read) {
            Ok(statement) => {
                let done = self.followed.forget();
                end = self.framed(statement).1;
                self.followed.restore(done);
            }
            Err(_) => self.undecided.push(format!("the query of {object} cannot be read")),
        });
        (self.rows, self.late) = (rows, late);
        // What stands behind a view of those is locked in the name of that view.
        let inner: Vec<ObjectName> = self.found[seen..end].iter().filter_map(Found::listed).cloned().collect();
        inner.iter().for_each(|object| self.lock(object, wanted));
        (self.role, self.looks_up) = before;
        self.followed.leave(here);
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

    /// What is done to a table is done to those below it as well, of which all must be owned.
    fn with_those_below(&mut self, table: &ObjectName) {
        self.unless_superuser(table, Touch::Alter);
    }

    /// What else must be owned for an act, which is nothing to a superuser.
    fn unless_superuser(&mut self, object: &ObjectName, touch: Touch) {
        if !self.catalog.state().is_superuser(&self.role) {
            self.not_modelled(object, touch);
        }
    }

    fn switch(&mut self, switch: &'static str) {
        self.early.push(Need::Switch { role: self.role.clone(), switch });
    }

    #[expect(clippy::too_many_lines, reason = "one arm for each statement")]
    fn statement(&mut self, statement: &Statement) {
        match statement {
            Statement::Query(query) => match into(query) {
                Some((query, name, is_temporary)) => {
                    self.made_of(&query, true);
                    if is_temporary {
                        self.on_database(Privilege::Temporary);
                    } else {
                        self.create_in_schema(&name);
                    }
                }
                None => self.walk(statement),
            },
            Statement::Insert(insert) => {
                let has_values = match &insert.source {
                    Some(query) => query.with.is_none() && matches!(&*query.body, SetExpr::Values(_)),
                    None => true,
                };
                let before = std::mem::replace(&mut self.has_values, has_values);
                self.walk(statement);
                self.has_values = before;
            }
            Statement::Merge(_) => {
                let before = std::mem::replace(&mut self.merges, true);
                self.walk(statement);
                self.merges = before;
            }
            Statement::Update(_) | Statement::Delete(_) => self.walk(statement),
            Statement::Explain { statement, analyze, .. } => {
                let before = std::mem::replace(&mut self.is_only_planned, !analyze);
                self.statement(statement);
                self.is_only_planned = before;
            }
            Statement::Call(function) => self.call(function),
            Statement::Truncate(truncate) => {
                for target in &truncate.table_names {
                    if let Some(object) = self.existing(&target.name, RELATIONS) {
                        self.not_modelled(&object, Touch::Truncate);
                        self.truncate_triggers(&object);
                        if object.class != Class::Table {
                            self.undecided.push(format!("TRUNCATE of {object}"));
                        }
                        if matches!(truncate.identity, Some(sqlparser::ast::TruncateIdentityOption::Restart)) && !self.owns(&object) {
                            self.undecided.push(format!("which sequences belong to {object}, and whose they are"));
                        }
                        self.any(object, &[Privilege::Truncate]);
                    }
                }
                let is_cascade = matches!(truncate.cascade, Some(sqlparser::ast::CascadeOption::Cascade));
                if is_cascade && !self.catalog.state().is_superuser(&self.role) {
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
                        self.lock(&object, wanted);
                    }
                }
            }
            Statement::Copy { source, to, target, .. } => self.copy(source, *to, target),
            Statement::CreateTable(create) => self.create_table(create),
            Statement::CreateView(create) => {
                let CreateView {
                    or_alter,
                    secure,
                    cluster_by,
                    comment,
                    with_no_schema_binding,
                    copy_grants,
                    to,
                    params,
                    columns,
                    options,
                    or_replace: _,
                    materialized: _,
                    name: _,
                    name_before_not_exists: _,
                    query: _,
                    if_not_exists: _,
                    temporary: _,
                } = create;
                let others = [*or_alter, *secure, *with_no_schema_binding, *copy_grants, comment.is_some(), to.is_some(), params.is_some()];
                let of_columns = columns.iter().any(|column| column.data_type.is_some() || column.options.is_some());
                if others.contains(&true) || !cluster_by.is_empty() || of_columns {
                    self.undecided.push("a part of CREATE VIEW that is not followed".to_owned());
                }
                self.table_options(options);
                // The names in the query are looked up first; its rows are checked when the view is used, but those of
                // a materialised view at once, when it has been made.
                self.made_of(&create.query, create.materialized && !self.without_data);
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
                let CreateIndex {
                    columns,
                    index_options,
                    alter_options,
                    r#async,
                    name: _,
                    table_name: _,
                    using: _,
                    unique: _,
                    concurrently: _,
                    if_not_exists: _,
                    include: _,
                    nulls_distinct: _,
                    with: _,
                    predicate: _,
                } = create;
                if *r#async || !index_options.is_empty() || !alter_options.is_empty() {
                    self.undecided.push("a part of CREATE INDEX that is not followed".to_owned());
                }
                for class in columns.iter().filter_map(|column| column.operator_class.as_ref()) {
                    self.of_server_alone(class, "operator class");
                }
                let table = self.existing(&create.table_name, RELATIONS);
                let is_column = |e: &Expr| matches!(e, Expr::Identifier(_));
                let expressions = create.columns.iter().map(|c| &c.column.expr).filter(|e| !is_column(e)).chain(&create.predicate);
                let expressions: Vec<String> = expressions.map(ToString::to_string).collect();
                if let Some(table) = table.as_ref().filter(|_| !expressions.is_empty()) {
                    let late = self.late.len();
                    expressions.iter().for_each(|expression| self.new_expression(table, expression));
                    // They are worked out in the name of the owner, once it is sure that they may be.
                    if self.late.len() > late {
                        self.late.truncate(late);
                        self.undecided.push("what the expressions of the index run".to_owned());
                    }
                }
                if let Some(schema) = table.as_ref().and_then(|t| t.schema()).map(|s| ObjectName::new(Class::Schema, &[s])) {
                    self.own(table);
                    self.early.push(Need::privilege(&self.role, &schema, Privilege::Create, On::Object));
                }
            }
            Statement::CreateSchema { schema_name, .. } => {
                self.on_database(Privilege::Create);
                if let SchemaName::UnnamedAuthorization(role) | SchemaName::NamedAuthorization(_, role) = schema_name {
                    self.member(fold(Dialect::Postgresql, role), "it would own the schema");
                }
            }
            Statement::CreateSequence { temporary, if_not_exists: _, name, sequence_options } => {
                match temporary {
                    true => self.on_database(Privilege::Temporary),
                    false => self.create_in_schema(name),
                }
                for option in sequence_options {
                    match option {
                        SequenceOptions::DataType(of) => self.type_used(of, false),
                        SequenceOptions::OwnedBy(Some(owner)) => {
                            self.undecided.push(format!("whether the sequence may belong to `{owner}`"));
                        }
                        SequenceOptions::OwnedBy(None)
                        | SequenceOptions::IncrementBy(..)
                        | SequenceOptions::MinValue(_)
                        | SequenceOptions::MaxValue(_)
                        | SequenceOptions::StartWith(..)
                        | SequenceOptions::Cache(_)
                        | SequenceOptions::Cycle(_) => {}
                    }
                }
            }
            Statement::CreateType { name, representation } => {
                use sqlparser::ast::UserDefinedTypeRepresentation as Made;
                self.create_in_schema(name);
                match representation {
                    Some(Made::Enum { .. }) => {}
                    Some(Made::Composite { attributes }) => attributes.iter().for_each(|part| self.type_used(&part.data_type, false)),
                    Some(Made::Range { options }) if matches!(options.as_slice(), [_]) => {}
                    _ => self.undecided.push("which types the new one is made of".to_owned()),
                }
            }
            Statement::CreateDomain(create) => {
                let CreateDomain { name, data_type, collation: _, default, constraints } = create;
                self.create_in_schema(name);
                self.type_used(data_type, false);
                default.iter().for_each(|value| self.names_in(None, &value.to_string()));
                for constraint in constraints {
                    match constraint {
                        TableConstraint::Check(check) => self.names_in(None, &check.expr.to_string()),
                        _ => self.undecided.push("what the constraint of the domain names".to_owned()),
                    }
                }
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
                    self.type_used(&data_type, false);
                }
                if create.or_replace {
                    self.undecided.push("whether the routine is there already, and whose it is".to_owned());
                }
                // What our own grammar does not read may mean other names than it seems.
                if language == "sql" {
                    self.undecided.push("which names the body means".to_owned());
                }
            }
            // Names are looked up; rights are looked at when it is carried out.
            Statement::Prepare { statement, .. } => {
                let before = (std::mem::take(&mut self.rows), std::mem::take(&mut self.late));
                self.statement(statement);
                (self.rows, self.late) = before;
            }
            Statement::Declare { stmts, .. } => {
                for declared in stmts {
                    match &declared.for_query {
                        Some(query) => self.walk(&Statement::Query(query.clone())),
                        None => self.not_known(statement),
                    }
                }
            }
            Statement::CreateDatabase { .. } => self.switch("create-database"),
            Statement::AlterTable(alter) => self.alter_table(&alter.name, &alter.operations),
            Statement::AlterView(alter) => {
                let view = self.existing(&alter.name, RELATIONS);
                self.own(view);
            }
            Statement::Drop { object_type, names, if_exists, .. } => self.drop(*object_type, names, *if_exists),
            Statement::DropFunction(drop) => {
                drop.func_desc.iter().for_each(|described| self.drop_routine(described));
            }
            Statement::RefreshMaterializedView(refresh) => {
                let view = self.existing(&refresh.name, RELATIONS);
                self.own(view.clone());
                // The query runs in the name of the owner.
                if let Some((view, owner)) = view.and_then(|v| Some((v.clone(), self.catalog.state().objects.get(&v)?.owner.clone()))) {
                    let before = (std::mem::replace(&mut self.role, owner.clone()), std::mem::replace(&mut self.caller, owner));
                    self.through_view(&view, &Use::of(UNNAMED, Verb::Select));
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
            Statement::Grant(grant) => {
                let option_to: &[_] = if grant.with_grant_option { &grant.grantees } else { &[] };
                self.grant(&grant.privileges, grant.objects.as_ref(), grant.granted_by.as_ref(), option_to);
            }
            Statement::Revoke(revoke) => self.grant(&revoke.privileges, revoke.objects.as_ref(), revoke.granted_by.as_ref(), &[]),
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
                let name = table_name(Dialect::Postgresql, variable).join(".").to_lowercase();
                self.setting(settings::set(&name), &name);
            }
            // Some settings are shown to few.
            Statement::ShowVariable { variable } => {
                let name = variable.iter().map(|i| i.value.to_lowercase()).collect::<Vec<_>>().join(" ");
                match name.as_str() {
                    // It leaves out what is not to be seen.
                    "all" | "time zone" | "transaction isolation level" | "session authorization" => {}
                    name => self.setting(settings::show(name), name),
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

    fn create_table(&mut self, create: &CreateTable) {
        // What is taken out here is followed below; whatever else there is must be as if it were not written.
        let rest = CreateTable {
            columns: Vec::new(),
            constraints: Vec::new(),
            query: None,
            like: None,
            inherits: None,
            partition_of: None,
            for_values: None,
            partition_by: None,
            table_options: CreateTableOptions::None,
            temporary: false,
            unlogged: false,
            global: None,
            if_not_exists: false,
            on_commit: None,
            with_data: None,
            ..create.clone()
        };
        if rest != CreateTableBuilder::new(create.name.clone()).build() {
            self.undecided.push("a part of CREATE TABLE that is not followed".to_owned());
        }
        if create.temporary {
            self.on_database(Privilege::Temporary);
        } else {
            self.create_in_schema(&create.name);
        }
        self.table_options(&create.table_options);
        for column in &create.columns {
            self.type_used(&column.data_type, false);
            for option in &column.options {
                match &option.option {
                    ColumnOption::Null | ColumnOption::NotNull => {}
                    ColumnOption::ForeignKey(key) => self.references(&key.foreign_table, &key.referred_columns),
                    ColumnOption::Default(value) => self.names_in(None, &value.to_string()),
                    ColumnOption::Check(check) => self.names_in(None, &check.expr.to_string()),
                    ColumnOption::Generated { generation_expr, .. } => {
                        generation_expr.iter().for_each(|expression| self.names_in(None, &expression.to_string()));
                    }
                    ColumnOption::PrimaryKey(key) => self.key(&key.columns, &key.index_options),
                    ColumnOption::Unique(key) => self.key(&key.columns, &key.index_options),
                    ColumnOption::Collation(name) => self.of_server_alone(name, "collation"),
                    other => self.undecided.push(format!("what `{other}` of a column needs")),
                }
            }
        }
        for constraint in &create.constraints {
            match constraint {
                TableConstraint::ForeignKey(key) => self.references(&key.foreign_table, &key.referred_columns),
                TableConstraint::Check(check) => self.names_in(None, &check.expr.to_string()),
                TableConstraint::PrimaryKey(key) => self.key(&key.columns, &key.index_options),
                TableConstraint::Unique(key) => self.key(&key.columns, &key.index_options),
                other => self.undecided.push(format!("what `{other}` needs")),
            }
        }
        // How it is parted: by columns, or by what is worked out of them.
        if let Some(by) = &create.partition_by {
            let list = match &**by {
                Expr::Function(Function { args: FunctionArguments::List(list), .. }) => list.args.as_slice(),
                _ => &[],
            };
            let is_column = |part: &FunctionArg| matches!(part, FunctionArg::Unnamed(FunctionArgExpr::Expr(Expr::Identifier(_))));
            if list.is_empty() || !list.iter().all(is_column) {
                self.undecided.push("what the table is parted by".to_owned());
            }
        }
        if let Some(query) = &create.query {
            self.made_of(query, !self.without_data);
        }
        if let Some(CreateTableLikeKind::Parenthesized(like) | CreateTableLikeKind::Plain(like)) = &create.like
            && let Some(object) = self.existing(&like.name, RELATIONS)
        {
            self.early.push(Need::privilege(&self.role, &object, Privilege::Select, On::Object));
            self.types_of(&object);
        }
        for parent in create.inherits.iter().flatten().chain(&create.partition_of) {
            if let Some(object) = self.existing(parent, RELATIONS) {
                self.own(Some(object.clone()));
                self.types_of(&object);
            }
        }
    }

    /// A key over columns, without what an index may have besides.
    fn key(&mut self, columns: &[IndexColumn], options: &[IndexOption]) {
        let is_plain = |column: &IndexColumn| column.operator_class.is_none() && matches!(column.column.expr, Expr::Identifier(_));
        if !options.is_empty() || !columns.iter().all(is_plain) {
            self.undecided.push("what the index of a key has besides its columns".to_owned());
        }
    }

    /// Settings of a new relation, and where it is kept.
    fn table_options(&mut self, options: &CreateTableOptions) {
        let list: &[SqlOption] = match options {
            CreateTableOptions::None => &[],
            CreateTableOptions::With(list)
            | CreateTableOptions::Options(list)
            | CreateTableOptions::Plain(list)
            | CreateTableOptions::TableProperties(list) => list,
        };
        for option in list {
            match option {
                SqlOption::KeyValue { .. } | SqlOption::Ident(_) => {}
                SqlOption::TableSpace(space) => self.tablespace(&space.name),
                SqlOption::Clustered(_) | SqlOption::Partition { .. } | SqlOption::Comment(_) | SqlOption::NamedParenthesizedList(_) => {
                    self.undecided.push(format!("what `{option}` needs"));
                }
            }
        }
    }

    /// Superusers may keep something in any tablespace.
    fn tablespace(&mut self, name: &str) {
        if !self.catalog.state().is_superuser(&self.role) {
            self.undecided
                .push(format!("whether `{}` may keep something in the tablespace `{name}`: tablespaces are not listed", self.role));
        }
    }

    /// Something of the server itself, which everybody may use; whether others of that sort may be used is not known.
    fn of_server_alone(&mut self, name: &Written, what: &str) {
        let parts = table_name(Dialect::Postgresql, name);
        if !matches!(parts.as_slice(), [_]) && parts.first().is_none_or(|schema| schema != "pg_catalog") {
            self.undecided.push(format!("whether the {what} `{}` may be used", parts.join(".")));
        }
    }

    /// A relation that is made of a query: its names are looked up first, and the types of its columns must be open; its rows are
    /// read where it is filled at once.
    fn made_of(&mut self, query: &Query, is_filled: bool) {
        let (rows, late, found) = (self.rows.clone(), self.late.clone(), self.found.len());
        let made = std::mem::take(&mut self.made);
        self.walk(&Statement::Query(Box::new(query.clone())));
        let made = std::mem::replace(&mut self.made, made);
        for data_type in made {
            let need = Need::privilege(&self.role, &data_type, Privilege::Usage, On::Object).outcome(self.catalog);
            if !need.passes() {
                self.undecided.push(format!("whether a column comes out for which this holds: {}", need.text));
            }
        }
        if !is_filled {
            (self.rows, self.late) = (rows, late);
        }
        let made_of: Vec<ObjectName> = self.found[found..].iter().filter_map(Found::listed).cloned().collect();
        for object in made_of {
            let has_own = |column: &Column| own_type(column).is_some();
            let entry = self.catalog.state().objects.get(&object);
            if entry.is_some_and(|entry| entry.columns.iter().any(has_own)) {
                // Which of its columns come out is not followed: where all their types are open, it does not matter.
                let before = self.early.len();
                self.types_of(&object);
                let needs = self.early.split_off(before);
                if let Some(shut) = needs.iter().find(|need| !need.outcome(self.catalog).passes()) {
                    self.undecided.push(format!("whether a column comes out for which this holds: {}", shut.outcome(self.catalog).text));
                }
            }
        }
    }

    /// The types of all columns of a relation must be open to whoever makes another one like it.
    fn types_of(&mut self, object: &ObjectName) {
        let Some(entry) = self.catalog.state().objects.get(object) else { return };
        for (column, bare) in entry.columns.iter().filter_map(|column| Some((column, own_type(column)?))) {
            let known = parts(bare).and_then(|(name, _)| match name.as_slice() {
                [schema, last] => Some(ObjectName::new(Class::Type, &[schema, last])),
                _ => None,
            });
            match known.filter(|name| self.catalog.object(name).is_some()) {
                Some(name) => self.early.push(Need::privilege(&self.role, &name, Privilege::Usage, On::Object)),
                None => self.undecided.push(format!("who may use the type `{}`", column.data_type)),
            }
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
            // Who is a member without inheriting has to become it first.
            let what = "COPY with files and programs of the server".to_owned();
            self.early.push(Need::Server { role: self.role.clone(), of: vec![role], what });
        }
        match source {
            CopySource::Query(query) => self.walk(&Statement::Query(query.clone())),
            CopySource::Table { table_name: name, columns } => {
                let Some(object) = self.existing(name, RELATIONS) else { return };
                if object.class != Class::Table {
                    self.undecided.push(format!("COPY of {object}"));
                }
                let is_bound = |entry: &super::Object| super::policy::binds(self.catalog, &self.role, entry);
                if !to && self.catalog.state().objects.get(&object).is_some_and(is_bound) {
                    self.undecided.push(format!("COPY into {object}, whose row security binds `{}`", self.role));
                }
                let names: BTreeSet<String> = if columns.is_empty() {
                    self.columns_of(&object).into_iter().collect()
                } else {
                    columns.iter().map(|c| fold(Dialect::Postgresql, c)).collect()
                };
                let listed = Columns { whole: false, names };
                let used = if to { Use::reading(UNNAMED, listed) } else { Use { inserted: listed, ..Use::of(UNNAMED, Verb::Insert) } };
                self.relation_used(&object, &used);
            }
        }
    }

    /// A type that something is made of; where rows are there already, what is checked of it runs as well.
    fn type_used(&mut self, data_type: &DataType, has_rows: bool) {
        if let DataType::Array(ArrayElemTypeDef::AngleBracket(inner) | ArrayElemTypeDef::SquareBracket(inner, _)) = data_type {
            return self.type_used(inner, has_rows);
        }
        if let DataType::Custom(name, _) = data_type {
            let parts = table_name(Dialect::Postgresql, name);
            // Serial types make a sequence of their own; others of one part may be the server's.
            if matches!(parts.as_slice(), [one] if one.ends_with("serial") || BUILT_IN_TYPES.contains(&one.as_str())) {
                return;
            }
            if let Some(object) = self.existing(name, &[Class::Type]) {
                if has_rows {
                    self.not_modelled(&object, Touch::Cast);
                    if self.is_checked(&object) {
                        self.undecided.push(format!("what the checks of {object} run"));
                    }
                }
                self.early.push(Need::privilege(&self.role, &object, Privilege::Usage, On::Object));
            }
        }
    }

    fn references(&mut self, table: &Written, columns: &[sqlparser::ast::Ident]) {
        if let Some(object) = self.existing(table, RELATIONS) {
            let list: Vec<String> = columns.iter().map(|c| fold(Dialect::Postgresql, c)).collect();
            let on_object = Need::privilege(&self.role, &object, Privilege::References, On::Object);
            if list.is_empty() && on_object.outcome(self.catalog).passes() {
                self.rows.push(on_object);
                return;
            }
            if list.is_empty() {
                self.undecided.push(format!("which columns are the key of {object}"));
                self.rows.push(Need::privilege(&self.role, &object, Privilege::References, On::Some));
                return;
            }
            self.rows.push(Need::privilege(&self.role, &object, Privilege::References, On::Columns(list)));
        }
    }

    fn alter_table(&mut self, name: &Written, operations: &[AlterTableOperation]) {
        let Some(table) = self.existing(name, RELATIONS) else { return };
        self.own(Some(table.clone()));
        self.with_those_below(&table);
        let schema = table.schema().map(|s| ObjectName::new(Class::Schema, &[s]));
        for operation in operations {
            match operation {
                AlterTableOperation::AddColumn { column_def, .. } => {
                    self.type_used(&column_def.data_type, true);
                    for option in &column_def.options {
                        match &option.option {
                            ColumnOption::Null | ColumnOption::NotNull | ColumnOption::Comment(_) => {}
                            ColumnOption::Default(value) => self.new_expression(&table, &value.to_string()),
                            ColumnOption::Check(check) => self.new_expression(&table, &check.expr.to_string()),
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
                    AlterColumnOperation::SetDataType { data_type, using: None, .. } => {
                        self.type_used(data_type, true);
                        self.unless_superuser(&table, Touch::Retype);
                    }
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
                AlterTableOperation::AddConstraint { constraint: TableConstraint::PrimaryKey(key), .. } => {
                    self.key(&key.columns, &key.index_options);
                }
                AlterTableOperation::AddConstraint { constraint: TableConstraint::Unique(key), .. } => {
                    self.key(&key.columns, &key.index_options);
                }
                AlterTableOperation::AddConstraint { constraint: TableConstraint::Check(check), .. } => {
                    self.new_expression(&table, &check.expr.to_string());
                }
                AlterTableOperation::AddConstraint { .. } => self.undecided.push("what the constraint runs".to_owned()),
                AlterTableOperation::OwnerTo { new_owner: Owner::Ident(owner) } => {
                    let of = fold(Dialect::Postgresql, owner);
                    self.member(of.clone(), "it would own the table");
                    if let (Some(schema), false) = (&schema, self.catalog.state().is_superuser(&self.role)) {
                        self.early.push(Need::privilege(&of, schema, Privilege::Create, On::Object));
                    }
                }
                _ => self.undecided.push("a form of ALTER TABLE that is not followed".to_owned()),
            }
        }
    }

    fn drop(&mut self, object_type: ObjectType, names: &[Written], if_exists: bool) {
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
        let of = |argument: &OperateFunctionArg| {
            let printed = types::printed(&argument.data_type.to_string().to_lowercase());
            [printed.clone(), printed]
        };
        let wanted: Option<Vec<[String; 2]>> = described.args.as_ref().map(|list| list.iter().map(of).collect());
        self.routine_named(&parts, wanted.as_deref(), classes).map_err(|why| self.undecided.push(why)).ok()
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

    fn grant(
        &mut self,
        privileges: &Listed,
        objects: Option<&GrantObjects>,
        by: Option<&sqlparser::ast::Ident>,
        option_to: &[sqlparser::ast::Grantee],
    ) {
        if let Some(by) = by.map(|by| fold(Dialect::Postgresql, by)) {
            let is_current = matches!(by.as_str(), "current_user" | "current_role") || by == self.role;
            if !is_current {
                self.undecided.push(format!("the server takes no grantor but the current one, and `{by}` is named"));
            }
        }
        let Some(objects) = self.granted_on(objects) else {
            self.undecided.push("a form of GRANT or REVOKE that is not followed".to_owned());
            return;
        };
        for object in objects {
            let applicable = object.class.applicable();
            let mut barred = Vec::new();
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
            if any.is_empty() {
                self.undecided.push(format!("a privilege that {object} does not have"));
                continue;
            }
            if let Some(why) = self.catalog.state().lacks_column(&object, &columns) {
                self.undecided.push(why);
                continue;
            }
            for grantee in option_to.iter().filter_map(|grantee| self.grantee(grantee)) {
                let (role, object, columns) = (self.role.clone(), object.clone(), columns.clone());
                let given = GivenOption { role, object, columns, privileges: any, grantee };
                barred.extend(given.barred(self.catalog.state()).map(|_| Need::Option(given)));
            }
            let on = if columns.is_empty() { On::Object } else { On::Columns(columns) };
            self.early.push(Need::Object {
                role: self.role.clone(),
                object,
                demand: Demand::Privilege { any, on, want: Want::GrantOption },
            });
            self.early.append(&mut barred);
        }
    }

    /// Returns who is given something; nobody where that is no role.
    fn grantee(&self, grantee: &sqlparser::ast::Grantee) -> Option<Grantee> {
        if grantee.grantee_type == GranteesType::Public {
            return Some(Grantee::Public);
        }
        let Some(GranteeName::ObjectName(name)) = &grantee.name else { return None };
        let [part] = name.0.as_slice() else { return None };
        let name = part.as_ident()?;
        let is = |word: &str| name.quote_style.is_none() && name.value.eq_ignore_ascii_case(word);
        Some(match () {
            () if is("public") => Grantee::Public,
            () if is("current_user") || is("current_role") => Grantee::Role(self.role.clone()),
            () if is("session_user") => Grantee::Role(self.session.clone()),
            () => Grantee::Role(fold(Dialect::Postgresql, name)),
        })
    }
}
