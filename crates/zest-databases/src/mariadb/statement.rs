//! Which checks the server makes for a statement.

mod along;
mod bodies;
mod catalogs;
mod objects;
mod session;
mod settings;
mod views;

use std::sync::{Arc, LazyLock};

use rustc_hash::FxHashSet;
use sqlparser::ast::{
    AlterColumnOperation, AlterTableOperation, ColumnOption, CreateFunctionBody, CreateTable, CreateTableLikeKind, Expr,
    ObjectName as Written, ObjectType, SchemaName, Set, Statement, TableConstraint, Use as UseDatabase,
};

use super::about_rights;
use super::name::{Class, ObjectName};
use super::need::{Any, As, Need, object_in};
use super::privilege::{Privilege, Privileges};
use super::state::State;
use crate::database::followed::{Followed, Then};
use crate::database::not_modelled::{Touch, looked_at, looked_at_on_server};
use crate::database::{Needs, On};
use crate::sql::{
    Call, Columns, Dialect, Names, Relation, Touches, Use, Verb, Words, carried_out, one, several, table_name, with_statements,
};
use bodies::Variables;
use session::Ongoing;
pub(super) use session::leaves;
use views::Change;
use zest_model::ask::Refusal;

/// Functions of the server itself that touch no table, sorted.
static BUILT_IN: LazyLock<FxHashSet<&str>> = LazyLock::new(|| include_str!("functions.txt").lines().collect());

/// Those of them that sum up rows.
const AGGREGATES: [&str; 21] = [
    "avg",
    "bit_and",
    "bit_or",
    "bit_xor",
    "count",
    "group_concat",
    "json_arrayagg",
    "json_objectagg",
    "max",
    "median",
    "min",
    "percentile_cont",
    "percentile_disc",
    "std",
    "stddev",
    "stddev_pop",
    "stddev_samp",
    "sum",
    "var_pop",
    "var_samp",
    "variance",
];

/// A view, routine or trigger, and all that what is in it depends on.
#[derive(Clone, Debug, PartialEq, Eq, Hash)]
struct Circumstances {
    object: ObjectName,
    /// The trigger of the table.
    trigger: Option<String>,
    by: As,
    database: Option<String>,
}

/// Derives what a text needs: one statement, or several, one after the other; `database` is the default database of the session.
pub(crate) fn needs(state: &State, database: Option<&str>, text: &str) -> Result<Needs<Need>, (Refusal, String)> {
    let carried = carried_out(text).map_err(|why| (Refusal::NotDecided, why))?;
    let Some(parts) = several(Dialect::Mariadb, &carried) else { return needs_of(state, database, text) };
    let mut ongoing = Ongoing::of(database);
    let mut all = Vec::new();
    for (number, part) in (1..).zip(parts) {
        let needs = needs_of(state, ongoing.database.as_deref(), part);
        let mut needs = needs.map_err(|(code, why)| (code, format!("statement {number}: {why}")))?;
        needs.undecided.extend(ongoing.unknown.clone());
        let runs = needs.list.iter().any(|need| matches!(need, Need::Routine { .. }));
        if let Some(role) = &ongoing.role {
            needs.list = needs.list.into_iter().map(|need| Need::InRole { role: role.clone(), need: Box::new(need) }).collect();
        }
        all.push(needs);
        ongoing.behind(number, part);
        if runs {
            ongoing.unknown = Some(format!("what the routines of statement {number} leave behind is not carried on"));
        }
    }
    Ok(Needs::of_several(all))
}

fn needs_of(state: &State, database: Option<&str>, text: &str) -> Result<Needs<Need>, (Refusal, String)> {
    let text = &*carried_out(text).map_err(|why| (Refusal::NotDecided, why))?;
    if let Some(needs) = about_rights::needs(state, text) {
        return Ok(needs);
    }
    let mut deriver = Deriver::new(state, database);
    if let Some(made) = deriver.about_objects(text) {
        let mut needs = made.needs();
        needs.undecided.extend(looked_at_on_server(&state.not_modelled, "", text, true));
        return Ok(needs);
    }
    with_statements(Dialect::Mariadb, text, false, |read| {
        let statement = one(read).map_err(|e| (Refusal::StatementUnreadable, e))?;
        deriver.whole(statement, text);
        Ok(deriver.needs())
    })
}

impl<'s> Deriver<'s> {
    fn new(state: &'s State, database: Option<&str>) -> Self {
        Self {
            state,
            database: database.map(str::to_owned),
            by: As::Caller,
            found: Vec::new(),
            list: Vec::new(),
            undecided: Vec::new(),
            notes: Vec::new(),
            followed: Followed::default(),
            change: Change::default(),
            shown: None,
            variables: Arc::default(),
            row_of: None,
            is_only_planned: false,
            passes_over: false,
            by_rows: false,
        }
    }

    /// A statement, with what is seen in its text alone.
    fn whole(&mut self, statement: &Statement, text: &str) {
        self.statement(statement);
        self.files(text);
        self.undecided.extend(looked_at_on_server(&self.state.not_modelled, "", text, true));
        // Only who may set another's name may make something in it.
        let upper = text.to_uppercase();
        if upper.split("DEFINER").skip(1).any(|rest| rest.trim_start().starts_with('=')) {
            self.undecided.push("in whose name the object would run, and who may set that (DEFINER)".to_owned());
        }
    }

    /// Derives something that runs in a name, in a database.
    fn in_name_of(&mut self, by: As, database: Option<String>, derive: impl FnOnce(&mut Self)) {
        let before = (std::mem::replace(&mut self.by, by), std::mem::replace(&mut self.database, database));
        // What can be seen of a body is its own.
        let seen = (std::mem::take(&mut self.variables), self.row_of.take(), std::mem::take(&mut self.by_rows));
        let outer = std::mem::take(&mut self.list);
        derive(self);
        for need in std::mem::replace(&mut self.list, outer) {
            match need.in_name_of(&self.by) {
                Some(need) => self.list.push(need),
                None => self.undecided.push("what a routine may do about roles and accounts in the name of its definer".to_owned()),
            }
        }
        (self.by, self.database) = before;
        (self.variables, self.row_of, self.by_rows) = seen;
    }

    /// Rows that go into a file need a right of their own.
    fn files(&mut self, text: &str) {
        let may = text.to_lowercase().contains("file");
        if may && Words::of(Dialect::Mariadb, &[""], text).is_some_and(|words| words.writes_file()) {
            self.global(&[Privilege::File]);
        }
    }

    /// A deriver for the same session, which has derived nothing yet.
    fn again(&self) -> Self {
        Self {
            by: self.by.clone(),
            variables: self.variables.clone(),
            row_of: self.row_of.clone(),
            is_only_planned: self.is_only_planned,
            passes_over: self.passes_over,
            ..Self::new(self.state, self.database.as_deref())
        }
    }

    /// Takes what another one has derived.
    fn take(&mut self, made: Self) {
        let Self { found, list, undecided, notes, .. } = made;
        self.found.extend(found);
        self.list.extend(list);
        self.undecided.extend(undecided);
        self.notes.extend(notes);
    }

    fn needs(self) -> Needs<Need> {
        Needs { list: self.list, begins: Vec::new(), undecided: self.undecided, notes: self.notes }
    }
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

struct Deriver<'s> {
    state: &'s State,
    database: Option<String>,
    by: As,
    found: Vec<Found>,
    list: Vec<Need>,
    undecided: Vec<String>,
    /// What runs along.
    notes: Vec<String>,
    followed: Followed<Circumstances>,
    /// How the statement that is derived changes something.
    change: Change,
    /// Where a view is made, what it reads: the relation with its number, and its columns. Then none of it is checked yet.
    shown: Option<Vec<(usize, ObjectName, Columns)>>,
    /// The variables of the body that is derived.
    variables: Arc<Variables>,
    /// The table whose row the body of a trigger can see.
    row_of: Option<ObjectName>,
    /// Whether the statement is explained or prepared, and not carried out.
    is_only_planned: bool,
    /// Whether what is refused within a function that is called goes unnoticed.
    passes_over: bool,
    /// Whether functions are called for rows, of which there may be none.
    by_rows: bool,
}

const RELATIONS: &[Class] = &[Class::Table, Class::View];

impl Names for Deriver<'_> {
    fn in_from_are_found(&mut self) {}

    fn is_of_one_row(&self, name: &[String]) -> bool {
        let [name] = name else { return false };
        let name = name.to_lowercase();
        BUILT_IN.contains(name.as_str()) && !AGGREGATES.contains(&name.as_str())
    }

    fn relation(&mut self, name: &[String]) -> Result<Relation, String> {
        let (database, last) = self.split(name)?;
        let (found, columns) = match catalogs::own(&database, &last)? {
            Some((own, columns)) => (Found::Own(own), columns),
            None => {
                let object = self.look_up(name, RELATIONS)?;
                let columns = self.state.objects.get(&object).map(|o| o.columns.iter().map(|(c, _)| c.clone()).collect());
                (Found::Listed(object), columns.unwrap_or_default())
            }
        };
        let is_open = matches!(found, Found::Own(catalogs::Own::Table { .. }));
        self.found.push(found);
        Ok(Relation { number: self.found.len() - 1, columns, is_open })
    }

    fn in_schema(&mut self, _: &[String]) {}

    fn cast(&mut self, _: &sqlparser::ast::DataType, _: Option<&str>) -> Result<(), String> {
        // There are no types but the server's own.
        Ok(())
    }

    fn variable(&mut self, row: Option<&str>, name: &str) -> bool {
        let is_of_trigger = row.is_some_and(|row| ["new", "old"].iter().any(|word| row.eq_ignore_ascii_case(word)));
        if let Some(table) = self.row_of.clone().filter(|_| is_of_trigger) {
            self.on_table(&table, Privilege::Select, On::Columns(vec![name.to_owned()]));
            return true;
        }
        self.variables.has(row, name)
    }

    fn column_type(&self, _: usize, _: &str) -> Option<String> {
        // Routines are not told apart by the types of their arguments.
        None
    }
}

impl Touches for Deriver<'_> {
    const DIALECT: Dialect = Dialect::Mariadb;

    fn all_are_found(&mut self) {}

    fn on_relation(&mut self, used: &Use) {
        self.by_rows |= used.verbs.iter().any(|verb| *verb != Verb::Insert);
        match self.found[used.relation].clone() {
            Found::Listed(object) => match &mut self.shown {
                // A view that is read is read in another name; what goes on with a sequence is looked at as ever.
                Some(shown) if !used.changes() && self.by == As::Caller && self.followed.is_outside() => {
                    shown.push((used.relation, object.clone(), used.selected.clone()));
                    if object.class == Class::View {
                        self.through_view(&object, used);
                    }
                }
                Some(_) | None => self.used(&object, used),
            },
            Found::Own(own) => self.own_used(own, used),
        }
    }

    fn on_routine(&mut self, call: &Call, is_procedure: bool) {
        self.called(call, if is_procedure { Class::Procedure } else { Class::Function });
    }

    fn on_name_of_routine(&mut self, call: &Call) {
        self.called(call, Class::Function);
    }

    fn undecided(&mut self, why: String) {
        self.undecided.push(why);
    }

    fn in_body(&self) -> bool {
        false
    }

    fn at_end(&mut self) {
        self.by_rows = false;
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
        if catalogs::OWN.contains(&database.to_lowercase().as_str()) {
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
        self.list.push(Need::Table { by: self.by.clone(), object: object.clone(), privilege, on });
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
    /// A table or view of the server itself.
    fn own_used(&mut self, own: catalogs::Own, used: &Use) {
        let reads_only = used.verbs.iter().all(|verb| matches!(verb, Verb::Select | Verb::Lock));
        match own {
            catalogs::Own::View(any) if reads_only && any == Privileges::NONE => {}
            catalogs::Own::View(any) if reads_only => self.list.push(Need::Global { any }),
            catalogs::Own::View(_) => self.undecided.push("a view of the server itself takes no changes".to_owned()),
            catalogs::Own::Table { database, name } => {
                for verb in &used.verbs {
                    let privilege = match verb {
                        Verb::Select => Privilege::Select,
                        Verb::Insert => Privilege::Insert,
                        Verb::Update => Privilege::Update,
                        Verb::Delete => Privilege::Delete,
                        Verb::Lock => continue,
                    };
                    self.list.push(Need::OwnTable { database: database.clone(), name: name.clone(), privilege });
                }
            }
        }
    }

    fn used(&mut self, object: &ObjectName, used: &Use) {
        let changes = used.changes();
        if changes && object.class == Class::View && self.change_through_view(object, used) {
            return;
        }
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
                // Whether what is read of a view that is changed needs to be readable is as little known as what it passes on.
                Verb::Select if changes && object.class == Class::View => continue,
                Verb::Select => (Privilege::Select, on(&used.selected)),
                // A lock on rows needs no more than reading them.
                Verb::Lock => continue,
            };
            self.on_table(object, privilege, on);
        }
        self.runs_along(object, used);
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
        if used.changes() {
            // Nor is it known what its definer must hold for that.
            self.undecided.push(format!("whether {view} passes changes on to its tables"));
            return;
        }
        if as_owner && definer.is_none() {
            self.undecided.push(format!("in whose name {view} reads"));
            return;
        }
        let by = definer.filter(|_| as_owner).map_or_else(|| self.by.clone(), As::Definer);
        // A function without a database is of the view's own: the server reads the query there.
        let database = Some(view.database.clone());
        let here = Circumstances { object: view.clone(), trigger: None, by: by.clone(), database: database.clone() };
        if self.enter(&here) {
            self.in_name_of(by, database, |inner| {
                // Whether the view itself has a row that is looked at hangs on what is beside it.
                inner.by_rows = true;
                with_statements(Dialect::Mariadb, &query, true, |read| match one(read) {
                    Ok(statement) => inner.walk(statement),
                    Err(_) => inner.undecided.push(format!("the query of {view} cannot be read")),
                });
            });
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
        if call.name.len() == 1 && class == Class::Function && BUILT_IN.contains(folded.as_str()) {
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
        self.list.push(Need::Routine { by: self.by.clone(), object: object.clone(), privilege: Privilege::Execute });
        self.not_modelled(&object, Touch::Call);
        // Whoever it runs as, it is not the caller: of what it does no check could be told.
        if self.state.objects.get(&object).is_some_and(|o| o.runs_as_owner && o.definer.is_none()) {
            self.undecided.push(format!("in whose name {object} runs"));
            return;
        }
        // A routine runs in its own database, which must be open to whom it runs as; a definer must be let execute it himself.
        if let Some(entry) = self.state.objects.get(&object) {
            let by = self.of_routine(entry);
            if by != self.by {
                self.list.push(Need::Routine { by: by.clone(), object: object.clone(), privilege: Privilege::Execute });
            }
            self.list.push(Need::Open { by, database: object.database.clone() });
        }
        self.inside(&object);
    }
}

/// Everything else
impl Deriver<'_> {
    /// What a new table takes from others: their form, the keys it points to, what its defaults are worked out of.
    fn like_and_keys(&mut self, create: &CreateTable) {
        let options = create.table_options.to_string().to_uppercase();
        if ["UNION", "DIRECTORY", "CONNECTION"].iter().any(|word| options.contains(word)) {
            self.undecided.push("other tables, files or servers that the table is made of".to_owned());
        }
        if let Some(CreateTableLikeKind::Plain(like) | CreateTableLikeKind::Parenthesized(like)) = &create.like
            && let Some(object) = self.existing(&like.name, RELATIONS)
        {
            self.on_table(&object, Privilege::Select, On::Some);
        }
        create.columns.iter().flat_map(|column| &column.options).for_each(|option| self.column_option(&option.option));
        for constraint in &create.constraints {
            match constraint {
                TableConstraint::ForeignKey(key) => self.references(&key.foreign_table),
                // No function or sequence stands in a CHECK.
                TableConstraint::Check(_)
                | TableConstraint::PrimaryKey(_)
                | TableConstraint::Unique(_)
                | TableConstraint::Index(_)
                | TableConstraint::FulltextOrSpatial(_) => {}
                other => self.undecided.push(format!("what `{other}` needs")),
            }
        }
    }

    fn references(&mut self, table: &Written) {
        if let Some(object) = self.existing(table, RELATIONS) {
            self.list.push(Need::AnyOn { object, held: Any::Referred });
        }
    }

    /// What stands behind the type of a column: sequences in its default need rights, and keys of other tables.
    fn column_option(&mut self, option: &ColumnOption) {
        match option {
            ColumnOption::ForeignKey(key) => self.references(&key.foreign_table),
            ColumnOption::Default(value) => self.default_of(value),
            // No function or sequence stands in them.
            ColumnOption::Check(_) | ColumnOption::Generated { .. } | ColumnOption::OnUpdate(_) => {}
            ColumnOption::Null
            | ColumnOption::NotNull
            | ColumnOption::PrimaryKey(_)
            | ColumnOption::Unique(_)
            | ColumnOption::DialectSpecific(_)
            | ColumnOption::CharacterSet(_)
            | ColumnOption::Collation(_)
            | ColumnOption::Comment(_)
            | ColumnOption::Srid(_)
            | ColumnOption::Invisible => {}
            other => self.undecided.push(format!("what `{other}` of a column needs")),
        }
    }

    fn default_of(&mut self, value: &Expr) {
        with_statements(Dialect::Mariadb, &format!("SELECT {value}"), true, |read| match one(read) {
            Ok(statement) => self.walk(statement),
            Err(why) => self.undecided.push(why),
        });
    }

    fn changes(&mut self, statement: &Statement, change: Change) {
        let before = std::mem::replace(&mut self.change, change);
        self.walk(statement);
        self.change = before;
    }

    #[expect(clippy::too_many_lines, reason = "one arm for each statement")]
    fn statement(&mut self, statement: &Statement) {
        match statement {
            Statement::Query(_) => self.walk(statement),
            Statement::Insert(insert) => self.changes(statement, Change::of_insert(insert)),
            Statement::Update(update) => self.changes(statement, Change::of_update(update)),
            Statement::Delete(delete) => self.changes(statement, Change::of_delete(delete)),
            Statement::Explain { statement, analyze, .. } => {
                let before = std::mem::replace(&mut self.is_only_planned, !analyze);
                self.statement(statement);
                self.is_only_planned = before;
                self.shows_what_is_behind();
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
                self.like_and_keys(create);
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
                self.like_and_keys(create);
            }
            Statement::CreateView(create) if create.materialized => {
                self.undecided.push("this server has no materialised views".to_owned());
            }
            Statement::CreateView(create) => {
                self.on_name(&create.name, &[Privilege::CreateView]);
                if create.or_replace {
                    self.on_name(&create.name, &[Privilege::Drop]);
                }
                self.view_made_of(&create.query);
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
                        AlterTableOperation::AddColumn { column_def, .. } => {
                            column_def.options.iter().for_each(|option| self.column_option(&option.option));
                        }
                        AlterTableOperation::ModifyColumn { options, .. } | AlterTableOperation::ChangeColumn { options, .. } => {
                            options.iter().for_each(|option| self.column_option(option));
                        }
                        AlterTableOperation::AlterColumn { op: AlterColumnOperation::SetDefault { value }, .. } => self.default_of(value),
                        AlterTableOperation::DropColumn { .. }
                        | AlterTableOperation::RenameColumn { .. }
                        | AlterTableOperation::AlterColumn { op: AlterColumnOperation::DropDefault, .. } => {}
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
                    self.undecided.push(format!("DROP of {}", described.name));
                }
            }
            Statement::DropProcedure { proc_desc, .. } => {
                for described in proc_desc {
                    self.undecided.push(format!("DROP of {}", described.name));
                }
            }
            // Those that the server takes are read before.
            Statement::GrantRole(_) | Statement::RevokeRole(_) => self.undecided.push("this form of granting a role".to_owned()),
            Statement::Set(Set::SetRole { role_name: Some(role), .. }) if !role.value.eq_ignore_ascii_case("none") => {
                self.list.push(Need::Activate { role: role.value.clone() });
            }
            Statement::Set(Set::SetRole { .. } | Set::SetNames { .. } | Set::SetTransaction { .. }) => {}
            Statement::Use(UseDatabase::Object(name) | UseDatabase::Database(name) | UseDatabase::Schema(name)) => {
                let parts = table_name(Dialect::Mariadb, name);
                self.list.push(Need::Open { by: self.by.clone(), database: parts.join(".") });
            }
            Statement::Flush { .. } => self.global(&[Privilege::Reload]),
            Statement::StartTransaction { .. } | Statement::Commit { .. } | Statement::Rollback { .. } | Statement::Savepoint { .. } => {}
            other => self.not_known(other),
        }
    }
}
