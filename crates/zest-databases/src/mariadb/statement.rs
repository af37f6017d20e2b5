//! Which checks the server makes for a statement.

use sqlparser::ast::{
    Action, AlterTableOperation, CreateFunctionBody, GrantObjects, ObjectName as Written, ObjectType, Privileges as Listed, SchemaName,
    Set, Statement, Use as UseDatabase,
};

use super::about_rights;
use super::name::{AccountName, Class, ObjectName, Scope};
use super::need::{Need, object_in};
use super::privilege::{Level, Privilege, Privileges};
use super::state::State;
use crate::database::followed::{Followed, Then};
use crate::database::not_modelled::{Touch, looked_at, looked_at_on_server};
use crate::database::{Needs, On};
use crate::sql::{Call, Columns, Dialect, Names, Relation, Touches, Use, Verb, one, table_name, with_statements};
use zest_model::ask::Refusal;

/// Functions of the server itself that touch no table, sorted.
const BUILT_IN: &str = include_str!("functions.txt");

/// A view or routine, and all that what is in it depends on.
#[derive(Clone, Debug, PartialEq, Eq, Hash)]
struct Circumstances {
    object: ObjectName,
    definer: Option<AccountName>,
    database: Option<String>,
}

/// Derives what a statement needs; `database` is the default database of the session.
pub(crate) fn needs(state: &State, database: Option<&str>, text: &str) -> Result<Needs<Need>, (Refusal, String)> {
    if let Some(needs) = about_rights::needs(state, text) {
        return Ok(needs);
    }
    with_statements(Dialect::Mariadb, text, false, |read| {
        let statement = one(read).map_err(|e| (Refusal::StatementUnreadable, e))?;
        let mut needs = needs_of(state, database, statement);
        needs.undecided.extend(looked_at_on_server(&state.not_modelled, "", text, true));
        // Only who may set another's name may make something in it.
        let upper = text.to_uppercase();
        if upper.split("DEFINER").skip(1).any(|rest| rest.trim_start().starts_with('=')) {
            needs.undecided.push("in whose name the object would run, and who may set that (DEFINER)".to_owned());
        }
        Ok(needs)
    })
}

fn needs_of(state: &State, database: Option<&str>, statement: &Statement) -> Needs<Need> {
    let mut deriver = Deriver {
        state,
        database: database.map(str::to_owned),
        definer: None,
        found: Vec::new(),
        list: Vec::new(),
        undecided: Vec::new(),
        followed: Followed::default(),
    };
    deriver.statement(statement);
    Needs { list: deriver.list, undecided: deriver.undecided, notes: Vec::new() }
}

struct Deriver<'s> {
    state: &'s State,
    database: Option<String>,
    definer: Option<AccountName>,
    found: Vec<ObjectName>,
    list: Vec<Need>,
    undecided: Vec<String>,
    followed: Followed<Circumstances>,
}

const RELATIONS: &[Class] = &[Class::Table, Class::View];

impl Names for Deriver<'_> {
    fn relation(&mut self, name: &[String]) -> Result<Relation, String> {
        let object = self.look_up(name, RELATIONS)?;
        let columns = self.state.objects.get(&object).map(|o| o.columns.iter().map(|(c, _)| c.clone()).collect());
        self.found.push(object);
        Ok(Relation { number: self.found.len() - 1, columns: columns.unwrap_or_default() })
    }

    fn cast(&mut self, _: &sqlparser::ast::DataType, _: Option<&str>) -> Result<(), String> {
        // There are no types but the server's own.
        Ok(())
    }

    fn column_type(&self, _: usize, _: &str) -> Option<String> {
        // Routines are not told apart by the types of their arguments.
        None
    }
}

impl Touches for Deriver<'_> {
    const DIALECT: Dialect = Dialect::Mariadb;

    fn on_relation(&mut self, used: &Use) {
        let object = self.found[used.relation].clone();
        self.used(&object, used);
    }

    fn on_routine(&mut self, call: &Call, is_procedure: bool) {
        self.called(call, if is_procedure { Class::Procedure } else { Class::Function });
    }

    fn undecided(&mut self, why: String) {
        self.undecided.push(why);
    }

    fn in_body(&self) -> bool {
        false
    }
}

impl Deriver<'_> {
    fn split(&self, name: &[String]) -> Result<(String, String), String> {
        match name {
            [last] => {
                let database = self.database.clone().ok_or_else(|| format!("in which database `{last}` is: write it as database.name"))?;
                Ok((database, last.clone()))
            }
            [database, last] => Ok((database.clone(), last.clone())),
            _ => Err(format!("`{}` is no name of a relation", name.join("."))),
        }
    }

    fn look_up(&mut self, name: &[String], classes: &[Class]) -> Result<ObjectName, String> {
        let (database, last) = self.split(name)?;
        if matches!(database.to_lowercase().as_str(), "mysql" | "information_schema" | "performance_schema" | "sys") {
            return Err(format!("`{database}` is of the server itself, which is not modelled"));
        }
        object_in(self.state, &database, &last, classes).ok_or_else(|| format!("`{database}.{last}` is not in the inventory"))
    }

    fn existing(&mut self, name: &Written, classes: &[Class]) -> Option<ObjectName> {
        let parts = table_name(Dialect::Mariadb, name);
        match self.look_up(&parts, classes) {
            Ok(found) => Some(found),
            Err(why) => {
                self.undecided.push(why);
                None
            }
        }
    }

    fn on_table(&mut self, object: &ObjectName, privilege: Privilege, on: On) {
        self.list.push(Need::Table { definer: self.definer.clone(), object: object.clone(), privilege, on });
    }

    /// For a table that may be there or not: the server checks the right before it looks.
    fn on_name(&mut self, name: &Written, privileges: &[Privilege]) {
        let parts = table_name(Dialect::Mariadb, name);
        match self.split(&parts) {
            Ok((database, last)) => {
                let object =
                    object_in(self.state, &database, &last, RELATIONS).unwrap_or_else(|| ObjectName::new(Class::Table, &database, &last));
                privileges.iter().for_each(|p| self.on_table(&object, *p, On::Object));
            }
            Err(why) => self.undecided.push(why),
        }
    }

    fn on_database(&mut self, name: &Written, any: &[Privilege]) {
        let parts = table_name(Dialect::Mariadb, name);
        match parts.as_slice() {
            [one] => self.list.push(Need::Database { database: one.clone(), any: any.iter().copied().collect() }),
            _ => self.undecided.push("which database is meant".to_owned()),
        }
    }

    fn in_database(&mut self, name: &Written, privilege: Privilege) {
        let parts = table_name(Dialect::Mariadb, name);
        match self.split(&parts) {
            Ok((database, _)) => self.list.push(Need::Database { database, any: privilege.only() }),
            Err(why) => self.undecided.push(why),
        }
    }

    fn global(&mut self, any: &[Privilege]) {
        self.list.push(Need::Global { any: any.iter().copied().collect() });
    }
}

/// Rows
impl Deriver<'_> {
    fn used(&mut self, object: &ObjectName, used: &Use) {
        let on = |columns: &Columns| {
            if columns.whole {
                let all = self.state.objects.get(object).map(|o| o.columns.iter().map(|(c, _)| c.clone()).collect());
                On::Columns(all.unwrap_or_default())
            } else if columns.names.is_empty() {
                On::Some
            } else {
                On::Columns(columns.names.iter().cloned().collect())
            }
        };
        for verb in [Verb::Delete, Verb::Insert, Verb::Update, Verb::Select, Verb::Lock] {
            if !used.verbs.contains(&verb) {
                continue;
            }
            let (privilege, on) = match verb {
                Verb::Delete => (Privilege::Delete, On::Object),
                Verb::Insert => (Privilege::Insert, on(&used.inserted)),
                Verb::Update => (Privilege::Update, on(&used.updated)),
                Verb::Select => (Privilege::Select, on(&used.selected)),
                // A lock on rows needs no more than reading them.
                Verb::Lock => continue,
            };
            self.on_table(object, privilege, on);
        }
        for verb in &used.verbs {
            self.not_modelled(object, Touch::from(*verb));
        }
        if object.class == Class::View {
            self.through_view(object, used);
        }
    }

    /// What the server looks at there and the ledger only names makes the statement undecided.
    fn not_modelled(&mut self, object: &ObjectName, touch: Touch) {
        let notes = self.state.objects.get(object).map(|o| &o.not_modelled);
        if let Some(note) = notes.and_then(|n| looked_at(n, touch)) {
            self.undecided.push(format!("{object} has {note}, which is not modelled"));
        }
    }

    /// What a view reads is checked as its definer, or as the caller if it says so.
    fn through_view(&mut self, view: &ObjectName, used: &Use) {
        let Some(entry) = self.state.objects.get(view) else { return };
        let (Some(query), definer, as_owner) = (entry.query.clone(), entry.definer.clone(), entry.runs_as_owner) else {
            self.undecided.push(format!("what {view} reads: its query is not in the ledger"));
            return;
        };
        if used.verbs.iter().any(|v| matches!(v, Verb::Insert | Verb::Update | Verb::Delete)) {
            self.undecided.push(format!("whether {view} passes changes on to its tables"));
        }
        if as_owner && definer.is_none() {
            self.undecided.push(format!("in whose name {view} reads"));
        }
        let definer = if as_owner { definer } else { self.definer.clone() };
        let here = Circumstances { object: view.clone(), definer: definer.clone(), database: self.database.clone() };
        if self.enter(&here) {
            let before = std::mem::replace(&mut self.definer, definer);
            with_statements(Dialect::Mariadb, &query, true, |read| match one(read) {
                Ok(statement) => self.walk(statement),
                Err(_) => self.undecided.push(format!("the query of {view} cannot be read")),
            });
            self.definer = before;
            self.followed.leave(here);
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

    fn called(&mut self, call: &Call, class: Class) {
        let last = call.name.last().cloned().unwrap_or_default();
        let folded = last.to_lowercase();
        if call.name.len() == 1 && class == Class::Function && BUILT_IN.lines().collect::<Vec<_>>().binary_search(&folded.as_str()).is_ok()
        {
            return;
        }
        let found = match self.split(&call.name) {
            Ok((database, name)) => self
                .state
                .objects
                .keys()
                .find(|o| o.class == class && o.database == database && o.name.eq_ignore_ascii_case(&name))
                .cloned(),
            Err(why) => {
                self.undecided.push(why);
                return;
            }
        };
        let Some(object) = found else {
            self.undecided.push(format!("the routine `{}` is not in the inventory", call.name.join(".")));
            return;
        };
        self.list.push(Need::Routine { definer: self.definer.clone(), object: object.clone(), privilege: Privilege::Execute });
        self.not_modelled(&object, Touch::Call);
        if self.state.objects.get(&object).is_some_and(|o| o.runs_as_owner && o.definer.is_none()) {
            self.undecided.push(format!("in whose name {object} runs"));
        }
        // A routine runs in its own database, which must be open to whom it runs as.
        if let Some(entry) = self.state.objects.get(&object) {
            let definer = if entry.runs_as_owner { entry.definer.clone() } else { self.definer.clone() };
            self.list.push(Need::Open { definer, database: object.database.clone() });
        }
        self.inside(&object);
    }

    /// A routine of one plain statement is followed; it runs as its definer where it says so.
    fn inside(&mut self, object: &ObjectName) {
        let Some(entry) = self.state.objects.get(object) else { return };
        let body = entry.body.clone().unwrap_or_default();
        let inner = body.trim().trim_end_matches(';').trim();
        if inner.is_empty() {
            self.undecided.push(format!("what {object} does: its body is not in the ledger"));
        }
        let plain = inner.strip_prefix("BEGIN").and_then(|b| b.strip_suffix("END")).map_or(inner, str::trim).trim_end_matches(';').trim();
        let statement = if plain.is_empty() {
            return;
        } else if plain.get(..7).is_some_and(|h| h.eq_ignore_ascii_case("return ")) {
            format!("SELECT {}", plain[7..].trim())
        } else {
            plain.to_owned()
        };
        let definer = if entry.runs_as_owner { entry.definer.clone() } else { self.definer.clone() };
        let here = Circumstances { object: object.clone(), definer: definer.clone(), database: Some(object.database.clone()) };
        if !self.enter(&here) {
            return;
        }
        with_statements(Dialect::Mariadb, &statement, true, |read| match read {
            Ok(statements) => {
                let before = (self.definer.clone(), self.database.clone());
                (self.definer, self.database) = (definer, here.database.clone());
                statements.iter().for_each(|s| self.statement(s));
                (self.definer, self.database) = before;
            }
            Err(_) => self.undecided.push(format!("what {object} does: its body is not followed")),
        });
        self.followed.leave(here);
    }
}

/// Returns whether a column refers to another table.
fn refers(column: &sqlparser::ast::ColumnDef) -> bool {
    column.options.iter().any(|o| matches!(o.option, sqlparser::ast::ColumnOption::ForeignKey(_)))
}

/// Everything else
impl Deriver<'_> {
    #[expect(clippy::too_many_lines, reason = "one arm for each statement")]
    fn statement(&mut self, statement: &Statement) {
        match statement {
            Statement::Query(_) | Statement::Insert(_) | Statement::Update(_) | Statement::Delete(_) => self.walk(statement),
            Statement::Explain { statement, .. } => {
                self.statement(statement);
                if self.found.iter().any(|o| o.class == Class::View) {
                    self.undecided.push("EXPLAIN of a view, which shows what is behind it".to_owned());
                }
            }
            Statement::Call(function) => self.call(function),
            Statement::Truncate(truncate) => {
                for target in &truncate.table_names {
                    self.on_name(&target.name, &[Privilege::Drop]);
                    if let Some(object) = self.existing(&target.name, RELATIONS) {
                        self.not_modelled(&object, Touch::Truncate);
                    }
                }
            }
            Statement::LockTables { tables } => {
                for table in tables {
                    let name = Written::from(vec![table.table.clone()]);
                    self.in_database(&name, Privilege::LockTables);
                    if let Some(object) = self.existing(&name, RELATIONS) {
                        self.on_table(&object, Privilege::Select, On::Object);
                    }
                }
            }
            Statement::UnlockTables => {}
            Statement::CreateTable(create) if create.temporary => {
                self.in_database(&create.name, Privilege::CreateTemporaryTables);
                if let Some(query) = &create.query {
                    self.walk(&Statement::Query(query.clone()));
                }
            }
            Statement::CreateTable(create) => {
                self.on_name(&create.name, &[Privilege::Create]);
                if create.or_replace {
                    self.on_name(&create.name, &[Privilege::Drop]);
                }
                if let Some(query) = &create.query {
                    self.on_name(&create.name, &[Privilege::Insert]);
                    self.walk(&Statement::Query(query.clone()));
                }
                if create.like.is_some()
                    || create.columns.iter().any(refers)
                    || create.constraints.iter().any(|c| matches!(c, sqlparser::ast::TableConstraint::ForeignKey(_)))
                {
                    self.undecided.push("a table that refers to another one".to_owned());
                }
            }
            Statement::CreateView(create) if create.materialized => {
                self.undecided.push("this server has no materialised views".to_owned());
            }
            Statement::CreateView(create) => {
                self.on_name(&create.name, &[Privilege::CreateView]);
                if create.or_replace {
                    self.on_name(&create.name, &[Privilege::Drop]);
                }
                self.walk(&Statement::Query(create.query.clone()));
            }
            Statement::CreateIndex(create) => self.on_name(&create.table_name, &[Privilege::Index]),
            Statement::CreateDatabase { db_name, .. } => self.on_database(db_name, &[Privilege::Create]),
            Statement::CreateSchema { schema_name: SchemaName::Simple(name), .. } => self.on_database(name, &[Privilege::Create]),
            Statement::CreateFunction(create) => {
                self.in_database(&create.name, Privilege::CreateRoutine);
                if create.or_replace || matches!(create.function_body, Some(CreateFunctionBody::AsBeforeOptions { .. })) {
                    self.undecided.push("whether the routine is there already".to_owned());
                }
            }
            Statement::CreateProcedure { name, or_alter: false, .. } => self.in_database(name, Privilege::CreateRoutine),
            Statement::CreateTrigger(create) => {
                self.on_name(&create.table_name, &[Privilege::Trigger]);
            }
            Statement::AlterTable(alter) => {
                self.on_name(&alter.name, &[Privilege::Alter]);
                for operation in &alter.operations {
                    match operation {
                        AlterTableOperation::AddColumn { column_def, .. } if refers(column_def) => {
                            self.undecided.push("a column that refers to another table".to_owned());
                        }
                        AlterTableOperation::AddColumn { .. }
                        | AlterTableOperation::DropColumn { .. }
                        | AlterTableOperation::ModifyColumn { .. }
                        | AlterTableOperation::ChangeColumn { .. }
                        | AlterTableOperation::RenameColumn { .. }
                        | AlterTableOperation::AlterColumn { .. } => {}
                        _ => self.undecided.push("a form of ALTER TABLE that is not followed".to_owned()),
                    }
                }
            }
            Statement::Drop { object_type, names, temporary: false, .. } => {
                for name in names {
                    match object_type {
                        ObjectType::Table | ObjectType::View => self.on_name(name, &[Privilege::Drop]),
                        ObjectType::Database | ObjectType::Schema => self.on_database(name, &[Privilege::Drop]),
                        ObjectType::User => self.global(&[Privilege::CreateUser]),
                        ObjectType::Role => self.undecided.push("who administers the role".to_owned()),
                        _ => self.undecided.push(format!("DROP {object_type} is not followed")),
                    }
                }
            }
            Statement::DropFunction(drop) => {
                for described in &drop.func_desc {
                    self.alter_routine(&described.name, Class::Function);
                }
            }
            Statement::DropProcedure { proc_desc, .. } => {
                for described in proc_desc {
                    self.alter_routine(&described.name, Class::Procedure);
                }
            }
            Statement::Grant(grant) => self.grant(&grant.privileges, grant.objects.as_ref()),
            Statement::Revoke(revoke) => self.grant(&revoke.privileges, revoke.objects.as_ref()),
            Statement::GrantRole(grant) => grant.roles.iter().for_each(|r| self.list.push(Need::Admin { role: r.value.clone() })),
            Statement::RevokeRole(revoke) => revoke.roles.iter().for_each(|r| self.list.push(Need::Admin { role: r.value.clone() })),
            Statement::Set(Set::SetRole { role_name: Some(role), .. }) if !role.value.eq_ignore_ascii_case("none") => {
                self.list.push(Need::Activate { role: role.value.clone() });
            }
            Statement::Set(Set::SetRole { .. } | Set::SetNames { .. } | Set::SetTransaction { .. }) => {}
            Statement::Use(UseDatabase::Object(name) | UseDatabase::Database(name) | UseDatabase::Schema(name)) => {
                let parts = table_name(Dialect::Mariadb, name);
                self.list.push(Need::Open { definer: self.definer.clone(), database: parts.join(".") });
            }
            Statement::Flush { .. } => self.global(&[Privilege::Reload]),
            Statement::ShowDatabases { .. }
            | Statement::ShowVariables { .. }
            | Statement::ShowStatus { .. }
            | Statement::StartTransaction { .. }
            | Statement::Commit { .. }
            | Statement::Rollback { .. }
            | Statement::Savepoint { .. } => {}
            other => self.not_known(other),
        }
    }

    fn alter_routine(&mut self, name: &Written, class: Class) {
        if let Some(object) = self.existing(name, &[class]) {
            self.list.push(Need::Routine { definer: None, object, privilege: Privilege::AlterRoutine });
        }
    }

    fn grant(&mut self, privileges: &Listed, objects: Option<&GrantObjects>) {
        let Some(GrantObjects::Tables(names)) = objects else {
            self.undecided.push("a form of GRANT or REVOKE that is not followed".to_owned());
            return;
        };
        for name in names {
            let parts: Vec<String> = name.to_string().split('.').map(|p| p.trim_matches('`').to_owned()).collect();
            let (scope, level) = match parts.as_slice() {
                [a, b] if a == "*" && b == "*" => (Scope::Everything, Level::Global),
                [database, b] if b == "*" => (Scope::Databases(database.clone()), Level::Database),
                [database, table] => (Scope::Table(database.clone(), table.clone()), Level::Table),
                _ => {
                    self.undecided.push("what is granted on".to_owned());
                    continue;
                }
            };
            let (mut wanted, mut columns) = (Privileges::NONE, Vec::new());
            match privileges {
                Listed::All { .. } => wanted = level.applicable().without(Privilege::GrantOption.only()),
                Listed::Actions(list) => {
                    for action in list {
                        let (privilege, on) = match action {
                            Action::Select { columns } => (Privilege::Select, columns.as_ref()),
                            Action::Insert { columns } => (Privilege::Insert, columns.as_ref()),
                            Action::Update { columns } => (Privilege::Update, columns.as_ref()),
                            Action::References { columns } => (Privilege::References, columns.as_ref()),
                            Action::Delete => (Privilege::Delete, None),
                            Action::Drop => (Privilege::Drop, None),
                            Action::Trigger => (Privilege::Trigger, None),
                            Action::Create { obj_type: None } => (Privilege::Create, None),
                            Action::Execute { obj_type: None } => (Privilege::Execute, None),
                            Action::Usage => continue,
                            _ => {
                                self.undecided.push("a privilege whose name is not followed".to_owned());
                                continue;
                            }
                        };
                        wanted = wanted.or(privilege.only());
                        columns.extend(on.into_iter().flatten().map(|c| c.value.clone()));
                    }
                }
            }
            self.list.push(Need::PassOn { scope, privileges: wanted, columns });
        }
    }
}
