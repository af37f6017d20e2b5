//! Statements that change, describe or drop objects, or make what hangs on a table: what the server checks for them (`alter.c`,
//! `tablecmds.c`, `dropcmds.c`, `comment.c`, `policy.c`, `trigger.c`, `typecmds.c` of version 15).
//!
//! The parser of SQL reads few of their forms, so they have a grammar of their own over its words. A text that is none of them, or goes
//! on in a way that is not known here, is left to that parser.

use sqlparser::tokenizer::Token;

use super::super::about_rights::{Named, named, roles};
use super::super::need::{Demand, Need};
use super::super::object::ObjectName;
use super::super::privilege::{Class, Privilege};
use super::{Deriver, RELATIONS, ROUTINES};
use crate::database::On;
use crate::sql::{Dialect, Words};

/// What sort of thing a statement names.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
enum Sort {
    Relation(&'static [Class]),
    Routine(&'static [Class]),
    Type,
    Schema,
    Database,
    Language,
    Role,
    /// A part of a relation, which the name names: a column, trigger, rule, policy or constraint.
    Part,
    /// A sort that ledgers do not list.
    Unlisted,
}

/// A thing as a statement names it.
#[derive(Debug)]
struct What {
    sort: Sort,
    name: Vec<String>,
    /// The types of the arguments of a routine, each as it may be read: with its first word taken for a name, or not.
    arguments: Option<Vec<[String; 2]>>,
}

#[derive(Debug)]
enum Act {
    Owner {
        what: What,
        to: Named,
    },
    Rename {
        what: What,
    },
    Move {
        what: What,
        schema: String,
    },
    /// Any other change of it, for which it must be owned; and of others along with it.
    Change {
        what: What,
        also: Vec<What>,
    },
    /// A change with expressions over the columns of it, whose names are looked up.
    Express {
        what: What,
        expressions: Vec<String>,
    },
    /// A change whose names are not followed.
    Unfollowed {
        what: What,
        why: &'static str,
    },
    /// What only superusers change about it.
    Strong {
        what: What,
    },
    Describe {
        what: What,
    },
    Drop {
        list: Vec<What>,
        if_exists: bool,
    },
    Trigger {
        table: What,
        function: What,
        is_plain: bool,
    },
    DefaultRights {
        creators: Vec<Named>,
        schemas: Vec<String>,
    },
    Maintain {
        list: Vec<What>,
        warns: bool,
    },
    Statistics {
        name: Vec<String>,
        table: What,
    },
    /// Something new in a schema, out of types and routines that are built in.
    New {
        name: Vec<String>,
    },
    /// A routine: its name, the types it takes and gives, its language, whether one that is there is replaced.
    Routine {
        name: Vec<String>,
        class: Class,
        types: Vec<[String; 2]>,
        takes: usize,
        language: String,
        is_strong: bool,
        is_replaced: bool,
        /// The body of one in SQL, whose names are looked up when it is made.
        body: Option<String>,
    },
    /// A type that a new attribute is of.
    Attribute {
        what: What,
        data_type: [String; 2],
    },
    Publication {
        tables: Vec<What>,
        is_strong: bool,
    },
    Schema {
        owner: Option<Named>,
        has_elements: bool,
    },
    OnDatabase,
    Superuser,
    /// A session of another account.
    Account {
        account: Option<String>,
    },
    Role {
        role: Option<String>,
    },
    Checkpoint,
    /// A block of code in a language.
    Block {
        language: String,
    },
    /// Everybody may.
    Open,
}

const BEGINS: &[&str] = &[
    "do",
    "alter",
    "comment",
    "drop",
    "create",
    "analyze",
    "analyse",
    "vacuum",
    "reindex",
    "cluster",
    "set",
    "reset",
    "close",
    "deallocate",
    "discard",
    "checkpoint",
    "unlisten",
    "end",
    "abort",
    "refresh",
    "security",
];

impl Deriver<'_> {
    /// Makes the checks for a statement about objects; false where it is none.
    pub(super) fn about_objects(&mut self, text: &str) -> bool {
        let Some(mut words) = Words::of(Dialect::Postgresql, BEGINS, text) else { return false };
        let Some(act) = read(&mut words).filter(|_| words.is_over()) else { return false };
        self.act(&act);
        true
    }

    fn act(&mut self, act: &Act) {
        match act {
            Act::Owner { what, to } => self.give_away(what, to),
            Act::Rename { what } => self.rename(what),
            Act::Move { what, schema } => {
                let target = ObjectName::new(Class::Schema, &[schema]);
                if self.catalog.object(&target).is_none() {
                    self.undecided.push(format!("no schema `{schema}` is in the inventory"));
                }
                if let Some(object) = self.found(what) {
                    self.own(Some(object));
                    self.early.push(Need::privilege(&self.role, &target, Privilege::Create, On::Object));
                }
            }
            Act::Change { what, also } => {
                for what in std::iter::once(what).chain(also) {
                    let object = self.found(what);
                    self.own(object);
                }
            }
            Act::Express { what, expressions } => {
                if let Some(table) = self.found(what) {
                    self.own(Some(table.clone()));
                    expressions.iter().for_each(|expression| self.names_in(Some(&table), expression));
                }
            }
            Act::Unfollowed { what, why } => {
                let object = self.found(what);
                self.own(object);
                self.not_for_superusers(why);
            }
            Act::Strong { what } => {
                let object = self.found(what);
                self.own(object);
                self.switch("superuser");
            }
            Act::Describe { what } if what.sort == Sort::Role => {
                let role = what.name.join(".");
                if !self.catalog.state().knows_role(&role) {
                    self.undecided.push(format!("no role is named `{role}`"));
                }
                self.switch(if self.catalog.state().is_superuser(&role) { "superuser" } else { "create-role" });
            }
            Act::Describe { what } => {
                let object = self.found(what);
                self.own(object);
            }
            Act::Drop { list, if_exists } => list.iter().for_each(|what| self.drop_it(what, *if_exists)),
            Act::Trigger { table, function, is_plain } => {
                if !is_plain {
                    self.not_for_superusers("the names in the condition of the trigger");
                }
                if let Some(table) = self.found(table) {
                    self.early.push(Need::privilege(&self.role, &table, Privilege::Trigger, On::Object));
                }
                if let Some(function) = self.found(function) {
                    self.early.push(Need::privilege(&self.role, &function, Privilege::Execute, On::Object));
                }
            }
            Act::DefaultRights { creators, schemas } => {
                for schema in schemas {
                    if self.catalog.object(&ObjectName::new(Class::Schema, &[schema])).is_none() {
                        self.undecided.push(format!("no schema `{schema}` is in the inventory"));
                    }
                }
                for creator in creators {
                    let of = self.named(creator);
                    self.member(of, "whose new objects these are");
                }
            }
            Act::Maintain { list, warns } => {
                for what in list {
                    let Some(object) = self.found(what) else { continue };
                    // The owner of the database may as well; others are passed over with a warning.
                    if *warns && self.owns(&ObjectName::database()) {
                        continue;
                    }
                    self.own(Some(object));
                }
            }
            Act::Statistics { name, table } => {
                let table = self.found(table);
                self.own(table);
                self.create_in(name);
            }
            Act::New { name } => self.create_in(name),
            Act::Routine { name, class, types, takes, language, is_strong, is_replaced, body } => {
                self.create_in(name);
                let language_name = ObjectName::new(Class::Language, &[language]);
                if self.catalog.object(&language_name).is_some() {
                    self.early.push(Need::privilege(&self.role, &language_name, Privilege::Usage, On::Object));
                } else if matches!(language.as_str(), "c" | "internal") {
                    self.server_right(&[], &format!("the language `{language}`"));
                } else {
                    self.undecided.push(format!("`{language_name}` is not in the inventory"));
                }
                types.iter().for_each(|data_type| self.type_named(data_type));
                if *is_strong {
                    self.switch("superuser");
                }
                if let Some(body) = body {
                    self.names_in_body(body);
                }
                let classes = [*class];
                if *is_replaced && let Ok(object) = self.routine_named(name, Some(&types[..*takes]), &classes) {
                    self.own(Some(object));
                }
            }
            Act::Attribute { what, data_type } => {
                let object = self.found(what);
                self.own(object);
                // Tables of the type hold rows of it, and what is checked of the attribute runs for them.
                self.type_named(data_type);
            }
            Act::Publication { tables, is_strong } => {
                self.on_database(Privilege::Create);
                if *is_strong {
                    self.switch("superuser");
                }
                for table in tables {
                    let object = self.found(table);
                    self.own(object);
                }
            }
            Act::Schema { owner, has_elements } => {
                self.on_database(Privilege::Create);
                if let Some(owner) = owner {
                    let of = self.named(owner);
                    self.member(of, "it would own the schema");
                }
                if *has_elements {
                    self.undecided.push("what is made in the new schema".to_owned());
                }
            }
            Act::OnDatabase => {
                self.on_database(Privilege::Create);
                if !self.catalog.state().is_superuser(&self.role) {
                    self.undecided.push("whether it is one that is trusted".to_owned());
                }
            }
            Act::Superuser => self.switch("superuser"),
            Act::Account { account } => {
                let Some(account) = account.as_ref().filter(|account| **account != self.signed_in) else { return };
                if !self.catalog.state().roles.contains_key(account) {
                    self.undecided.push(format!("no role is named `{account}`"));
                }
                // Whoever signed in must be a superuser, whatever role is active.
                self.early.push(Need::Switch { role: self.signed_in.clone(), switch: "superuser" });
            }
            Act::Role { role } => {
                if let Some(of) = role {
                    self.early.push(Need::Member {
                        role: self.session.clone(),
                        of: of.clone(),
                        why: "to make it the active role".to_owned(),
                    });
                }
            }
            Act::Checkpoint => self.server_right(&["pg_checkpoint"], "CHECKPOINT"),
            Act::Block { language } => {
                let name = ObjectName::new(Class::Language, &[language]);
                if self.catalog.object(&name).is_some() {
                    self.early.push(Need::privilege(&self.role, &name, Privilege::Usage, On::Object));
                }
                self.undecided.push(format!("what the block does: blocks in {language} are not followed"));
            }
            Act::Open => {}
        }
    }

    /// A type that something is made of must be open; its own types are, to everybody.
    fn type_named(&mut self, readings: &[String; 2]) {
        let bare = |reading: &String| reading.trim_end_matches("[]").to_owned();
        if readings.iter().any(|reading| is_built_in(&bare(reading))) {
            return;
        }
        let last = bare(&readings[1]);
        let name: Vec<String> = last.split('.').map(str::to_owned).collect();
        match self.look_up(&name, &[Class::Type]) {
            Ok(object) => self.early.push(Need::privilege(&self.role, &object, Privilege::Usage, On::Object)),
            Err(why) => self.undecided.push(why),
        }
    }

    /// What is not followed does not matter for those who pass every check.
    fn not_for_superusers(&mut self, why: &str) {
        if !self.catalog.state().is_superuser(&self.role) {
            self.undecided.push(why.to_owned());
        }
    }

    fn named(&self, role: &Named) -> String {
        match role {
            Named::Role(name) => name.clone(),
            Named::Current => self.role.clone(),
            Named::Session => self.session.clone(),
        }
    }

    fn member(&mut self, of: String, why: &str) {
        if !self.catalog.state().knows_role(&of) {
            self.undecided.push(format!("no role is named `{of}`"));
        }
        self.early.push(Need::Member { role: self.role.clone(), of, why: why.to_owned() });
    }

    /// What is needed to make something by this name.
    pub(super) fn create_in(&mut self, name: &[String]) {
        if let Some(schema) = self.schema_of_new(name) {
            self.early.push(Need::privilege(&self.role, &schema, Privilege::Create, On::Object));
        }
    }

    /// Finds a thing; why it is not found makes the statement undecided.
    fn found(&mut self, what: &What) -> Option<ObjectName> {
        match self.seek(what) {
            Ok(object) => Some(object),
            Err(why) => {
                self.undecided.push(why);
                None
            }
        }
    }

    fn seek(&mut self, what: &What) -> Result<ObjectName, String> {
        let What { sort, name, arguments } = what;
        let alone = |class| ObjectName::new(class, &[&name.join(".")]);
        let known = |this: &Self, object: ObjectName| {
            this.catalog.object(&object).map(|_| object.clone()).ok_or_else(|| format!("`{object}` is not in the inventory"))
        };
        match sort {
            Sort::Relation(classes) => self.look_up(name, classes),
            Sort::Part => self.look_up(name, RELATIONS),
            Sort::Type => self.look_up(name, &[Class::Type]),
            Sort::Schema => known(self, alone(Class::Schema)),
            Sort::Language => known(self, alone(Class::Language)),
            Sort::Database if *name == [self.catalog.state().database.clone()] => Ok(ObjectName::database()),
            Sort::Database => Err(format!("another database than this one, `{}`", name.join("."))),
            Sort::Routine(classes) => self.routine_named(name, arguments.as_deref(), classes),
            Sort::Role | Sort::Unlisted => Err(format!("`{}` is of a sort that ledgers do not list", name.join("."))),
        }
    }

    /// Finds a routine by its name, and by the types of its arguments where they are written.
    fn routine_named(&mut self, name: &[String], arguments: Option<&[[String; 2]]>, classes: &[Class]) -> Result<ObjectName, String> {
        let fits = |object: &&ObjectName| {
            let types = object.arguments.as_deref().map(listed).unwrap_or_default();
            let are_same = |wanted: &[[String; 2]]| {
                wanted.len() == types.len() && wanted.iter().zip(&types).all(|(wanted, known)| wanted.contains(known))
            };
            classes.contains(&object.class) && object.parts.ends_with(name) && arguments.is_none_or(are_same)
        };
        let found: Vec<ObjectName> = self.catalog.objects().iter().filter(fits).cloned().collect();
        let [one] = found.as_slice() else { return Err(format!("which routine `{}` is meant", name.join("."))) };
        if let [schema, _] = name {
            self.use_schema(schema);
        } else if !self.path().iter().any(|schema| one.schema() == Some(schema) && self.may_look_into(schema)) {
            return Err(format!("nothing called `{}` is found in the search path", name.join(".")));
        }
        Ok(one.clone())
    }

    fn give_away(&mut self, what: &What, to: &Named) {
        let to = self.named(to);
        if !self.catalog.state().knows_role(&to) {
            self.undecided.push(format!("no role is named `{to}`"));
        }
        let Some(object) = self.found(what) else { return };
        let is_same = self.catalog.state().objects.get(&object).is_some_and(|entry| entry.owner == to);
        if matches!(what.sort, Sort::Relation(_)) || !is_same {
            self.own(Some(object.clone()));
        }
        if is_same || self.catalog.state().is_superuser(&self.role) {
            return;
        }
        self.early.push(Need::Member { role: self.role.clone(), of: to.clone(), why: "it would own the object".to_owned() });
        match (object.class, object.schema()) {
            (Class::Schema, _) => self.on_database(Privilege::Create),
            (Class::Database, _) => self.switch("create-database"),
            (_, Some(schema)) => {
                let schema = ObjectName::new(Class::Schema, &[schema]);
                self.early.push(Need::privilege(&to, &schema, Privilege::Create, On::Object));
            }
            (Class::Language, None) => {}
            (_, None) => self.undecided.push("what its new owner needs".to_owned()),
        }
    }

    fn rename(&mut self, what: &What) {
        let Some(object) = self.found(what) else { return };
        self.own(Some(object.clone()));
        match (what.sort, object.class) {
            (_, Class::Schema) => self.on_database(Privilege::Create),
            (_, Class::Database) => self.switch("create-database"),
            (Sort::Part, _) | (_, Class::Type | Class::Language) => {}
            _ => {
                if let Some(schema) = object.schema().map(|schema| ObjectName::new(Class::Schema, &[schema])) {
                    self.early.push(Need::privilege(&self.role, &schema, Privilege::Create, On::Object));
                }
            }
        }
    }

    fn drop_it(&mut self, what: &What, if_exists: bool) {
        let object = match self.seek(what) {
            Ok(object) => object,
            // Types come along with others, and are not all listed; routines may be meant by other words.
            Err(_) if if_exists && !matches!(what.sort, Sort::Unlisted | Sort::Routine(_) | Sort::Type) => {
                // Nothing is dropped, and nothing is checked but the schema it would be in.
                return;
            }
            Err(why) => return self.undecided.push(why),
        };
        let or_of_schema = !matches!(what.sort, Sort::Part);
        // What hangs on a table may not be there, and then nothing is dropped.
        if what.sort == Sort::Part && if_exists && !self.owns(&object) {
            self.undecided.push(format!("whether {object} has it"));
            return;
        }
        self.early.push(Need::Object { role: self.role.clone(), object, demand: Demand::Owner { or_of_schema } });
    }
}

/// The types of a list of arguments, as the server prints them.
pub(super) fn listed(arguments: &str) -> Vec<String> {
    let mut depth = 0_usize;
    let parts = arguments.split(|c| {
        depth = match c {
            '(' => depth + 1,
            ')' => depth.saturating_sub(1),
            _ => depth,
        };
        c == ',' && depth == 0
    });
    parts.map(|part| part.trim().to_owned()).filter(|part| !part.is_empty()).collect()
}

/// Other words for types, as the server prints the type.
const OTHER_WORDS: &[(&str, &str)] = &[
    ("int", "integer"),
    ("int4", "integer"),
    ("int8", "bigint"),
    ("int2", "smallint"),
    ("bool", "boolean"),
    ("decimal", "numeric"),
    ("dec", "numeric"),
    ("varchar", "character varying"),
    ("char", "character"),
    ("bpchar", "character"),
    ("float", "double precision"),
    ("float8", "double precision"),
    ("float4", "real"),
    ("timestamptz", "timestamp with time zone"),
    ("timestamp", "timestamp without time zone"),
    ("timetz", "time with time zone"),
    ("time", "time without time zone"),
    ("varbit", "bit varying"),
];

/// Returns a type as the server prints it.
pub(super) fn printed(name: &str) -> String {
    let (bare, array) = name.strip_suffix("[]").map_or((name, ""), |bare| (bare, "[]"));
    let bare = bare.strip_prefix("pg_catalog.").unwrap_or(bare);
    let known = OTHER_WORDS.iter().find(|(word, _)| *word == bare).map_or(bare, |(_, printed)| printed);
    format!("{known}{array}")
}

/// Types of several words, as the server prints them, and those that only routines have.
const OTHER_TYPES: &[&str] = &[
    "anyarray",
    "anyelement",
    "bigint",
    "bit",
    "bit varying",
    "boolean",
    "bytea",
    "character",
    "character varying",
    "date",
    "double precision",
    "event_trigger",
    "integer",
    "numeric",
    "real",
    "record",
    "smallint",
    "time with time zone",
    "time without time zone",
    "timestamp with time zone",
    "timestamp without time zone",
    "trigger",
    "void",
];

fn is_built_in(printed: &str) -> bool {
    OTHER_TYPES.contains(&printed) || super::BUILT_IN_TYPES.contains(&printed)
}

/// Reads the types of arguments in parentheses.
fn arguments(words: &mut Words) -> Option<Vec<[String; 2]>> {
    if words.takes_token(&Token::RParen) {
        return Some(Vec::new());
    }
    let list = words.list(argument)?;
    words.takes_token(&Token::RParen).then_some(list.into_iter().flatten().collect())
}

/// Words that end a type where they come next.
const BEHIND_TYPES: &[&str] = &[
    "as",
    "called",
    "cascade",
    "cost",
    "default",
    "external",
    "immutable",
    "language",
    "leakproof",
    "not",
    "parallel",
    "restrict",
    "returns",
    "rows",
    "security",
    "set",
    "stable",
    "strict",
    "support",
    "volatile",
    "window",
];

/// Reads one argument: its mode, its name, its type. One that only comes out is none.
fn argument(words: &mut Words) -> Option<Option<[String; 2]>> {
    let is_out = words.is("out");
    if !words.takes_any(&["inout", "out", "variadic"]) {
        words.takes("in");
    }
    let mut parts: Vec<String> = Vec::new();
    loop {
        if BEHIND_TYPES.iter().any(|word| words.is(word)) {
            break;
        } else if words.takes_token(&Token::Period) {
            let first = parts.pop()?;
            parts.push(format!("{first}.{}", words.name()?));
        } else if words.takes_token(&Token::LBracket) {
            if !words.takes_token(&Token::RBracket) {
                return None;
            }
            let last = parts.pop()?;
            parts.push(format!("{last}[]"));
        } else if words.takes_token(&Token::LParen) {
            // How long or how precise it is makes no other type.
            words.list(|words| words.takes_number().then_some(()))?;
            words.takes_token(&Token::RParen).then_some(())?;
        } else if let Some(word) = words.name() {
            parts.push(word);
        } else {
            break;
        }
    }
    let whole = (!parts.is_empty()).then(|| printed(&parts.join(" ")))?;
    let rest = if parts.len() > 1 { printed(&parts[1..].join(" ")) } else { whole.clone() };
    Some((!is_out).then_some([whole, rest]))
}

/// Reads a name of one part or more.
fn name(words: &mut Words) -> Option<Vec<String>> {
    let mut name = vec![words.name()?];
    while words.takes_token(&Token::Period) {
        name.push(words.name()?);
    }
    Some(name)
}

const TABLE: Sort = Sort::Relation(&[Class::Table]);
const ANY: Sort = Sort::Relation(RELATIONS);

/// Reads the word for a sort.
fn sort(words: &mut Words) -> Option<Sort> {
    Some(match () {
        () if words.takes("table") => TABLE,
        () if words.takes_both("foreign", "table") => TABLE,
        () if words.takes("view") => Sort::Relation(&[Class::View]),
        () if words.takes_both("materialized", "view") => Sort::Relation(&[Class::MaterialisedView]),
        () if words.takes("sequence") => Sort::Relation(&[Class::Sequence]),
        () if words.takes_any(&["function", "aggregate"]) => Sort::Routine(&[Class::Function]),
        () if words.takes("procedure") => Sort::Routine(&[Class::Procedure]),
        () if words.takes("routine") => Sort::Routine(ROUTINES),
        () if words.takes_any(&["type", "domain"]) => Sort::Type,
        () if words.takes("schema") => Sort::Schema,
        () if words.takes("database") => Sort::Database,
        () if words.takes_both("procedural", "language") || words.takes("language") => Sort::Language,
        () if words.takes_any(&[
            "index",
            "collation",
            "conversion",
            "extension",
            "publication",
            "subscription",
            "tablespace",
            "statistics",
        ]) =>
        {
            Sort::Unlisted
        }
        () if words.takes_both("event", "trigger") => Sort::Unlisted,
        () => return None,
    })
}

/// Reads a thing of a sort.
fn what(words: &mut Words, sort: Sort) -> Option<What> {
    let name = name(words)?;
    let is_routine = matches!(sort, Sort::Routine(_));
    let arguments = if is_routine && words.takes_token(&Token::LParen) { Some(arguments(words)?) } else { None };
    Some(What { sort, name, arguments })
}

/// Reads a table behind `ON`.
fn on_table(words: &mut Words) -> Option<What> {
    words.takes("on").then(|| what(words, Sort::Part))?
}

fn if_exists(words: &mut Words) -> Option<bool> {
    Some(words.takes_both("if", "exists"))
}

fn read(words: &mut Words) -> Option<Act> {
    let verb = words.word()?;
    match verb.as_str() {
        "alter" if words.takes_both("default", "privileges") => default_rights(words),
        "alter" if words.takes("system") => words.takes_rest().then_some(Act::Superuser),
        "alter" => alter(words),
        "comment" => comment(words),
        "drop" => drop(words),
        "create" => create(words),
        "analyze" | "analyse" | "vacuum" => {
            if words.takes_token(&Token::LParen) {
                return None;
            }
            while words.takes_any(&["full", "freeze", "verbose", "analyze"]) {}
            if words.is_over() {
                return None;
            }
            let list = words.list(|words| {
                let table = what(words, ANY)?;
                if words.takes_token(&Token::LParen) {
                    words.list(Words::name)?;
                    words.takes_token(&Token::RParen).then_some(())?;
                }
                Some(table)
            })?;
            Some(Act::Maintain { list, warns: true })
        }
        "reindex" if words.takes("table") => {
            words.takes("concurrently");
            Some(Act::Maintain { list: vec![what(words, TABLE)?], warns: false })
        }
        "cluster" => {
            words.takes("verbose");
            let list = vec![what(words, ANY)?];
            if words.takes("using") {
                words.name()?;
            }
            Some(Act::Maintain { list, warns: false })
        }
        "set" => set(words),
        "reset" if words.takes_both("session", "authorization") => Some(Act::Account { account: None }),
        "close" | "deallocate" => {
            words.takes("prepare");
            words.name().map(|_| Act::Open)
        }
        "discard" => words.takes_any(&["plans", "sequences", "temp", "temporary"]).then_some(Act::Open),
        "unlisten" => (words.takes_token(&Token::Mul) || words.name().is_some()).then_some(Act::Open),
        "end" | "abort" => {
            words.takes_any(&["work", "transaction"]);
            Some(Act::Open)
        }
        "checkpoint" => Some(Act::Checkpoint),
        "do" => {
            let mut language = "plpgsql".to_owned();
            while !words.is_over() {
                if words.takes("language") {
                    language = words.name().or_else(|| words.text())?.to_lowercase();
                } else {
                    words.takes_text().then_some(())?;
                }
            }
            Some(Act::Block { language })
        }
        _ => None,
    }
}

fn set(words: &mut Words) -> Option<Act> {
    if words.takes("constraints") {
        if !words.takes("all") {
            words.list(name)?;
        }
        return words.takes_any(&["deferred", "immediate"]).then_some(Act::Open);
    }
    if words.takes("schema") {
        return words.takes_text().then_some(Act::Open);
    }
    let is_local = words.takes_any(&["local", "session"]);
    if words.takes("authorization")
        || is_local && words.takes_both("session", "authorization")
        || words.takes_both("session", "authorization")
    {
        let account = if words.takes("default") { None } else { Some(words.name().or_else(|| words.text())?) };
        return Some(Act::Account { account });
    }
    if is_local && words.is("characteristics") {
        return (words.takes("characteristics") && words.takes("as") && words.takes("transaction") && words.takes_rest())
            .then_some(Act::Open);
    }
    if words.takes("role") {
        let is_none = words.is("none");
        let role = words.name().or_else(|| words.text())?;
        return Some(Act::Role { role: (!is_none).then_some(role) });
    }
    None
}

fn default_rights(words: &mut Words) -> Option<Act> {
    let (mut creators, mut schemas) = (Vec::new(), Vec::new());
    if words.takes("for") {
        creators = words.takes_any(&["role", "user"]).then(|| roles(words))??;
    }
    if words.takes("in") {
        schemas = words.takes("schema").then(|| words.list(Words::name))??;
    }
    if creators.is_empty() {
        creators.push(Named::Current);
    }
    let is_grant = words.takes("grant");
    if !is_grant && !words.takes("revoke") {
        return None;
    }
    if !is_grant && words.takes("grant") && !(words.takes_both("option", "for")) {
        return None;
    }
    if words.takes("all") {
        words.takes("privileges");
    } else {
        words.list(Words::name)?;
    }
    let is_for_all = words.takes("on") && words.takes_any(&["tables", "sequences", "functions", "routines", "types", "schemas"]);
    let grantee = |words: &mut Words| {
        words.takes_before_name("group");
        named(words)
    };
    if !is_for_all || !words.takes(if is_grant { "to" } else { "from" }) {
        return None;
    }
    words.list(grantee)?;
    if is_grant && words.takes("with") {
        words.takes_both("grant", "option").then_some(())?;
    }
    if !is_grant {
        words.takes_any(&["cascade", "restrict"]);
    }
    Some(Act::DefaultRights { creators, schemas })
}

fn comment(words: &mut Words) -> Option<Act> {
    if !words.takes("on") {
        return None;
    }
    let what = if words.takes("column") {
        let mut name = name(words)?;
        name.pop();
        (!name.is_empty()).then_some(What { sort: Sort::Part, name, arguments: None })?
    } else if words.takes("role") {
        What { sort: Sort::Role, name: vec![words.name()?], arguments: None }
    } else if words.takes_any(&["trigger", "rule", "policy", "constraint"]) {
        words.name()?;
        if words.is("on") && !words.takes_both("on", "domain") { on_table(words)? } else { what(words, Sort::Type)? }
    } else {
        let sort = sort(words)?;
        what(words, sort)?
    };
    (words.takes("is") && (words.takes("null") || words.takes_text())).then_some(Act::Describe { what })
}

fn drop(words: &mut Words) -> Option<Act> {
    let drop = if words.takes_any(&["trigger", "rule", "policy"]) {
        let if_exists = if_exists(words)?;
        words.name()?;
        Act::Drop { list: vec![on_table(words)?], if_exists }
    } else {
        let sort = sort(words)?;
        if sort == Sort::Database || sort == Sort::Unlisted {
            return None;
        }
        let if_exists = if_exists(words)?;
        Act::Drop { list: words.list(|words| what(words, sort))?, if_exists }
    };
    words.takes_any(&["cascade", "restrict"]);
    Some(drop)
}

fn create(words: &mut Words) -> Option<Act> {
    if words.takes("schema") {
        return create_schema(words);
    }
    if words.takes("policy") {
        words.name()?;
        return policy(words);
    }
    let is_replaced = words.takes_both("or", "replace");
    if words.takes("rule") {
        words.name()?;
        let is_known = words.takes("as") && words.takes("on") && words.takes_any(&["select", "insert", "update", "delete"]);
        let table = (is_known && words.takes("to")).then(|| what(words, Sort::Part))??;
        words.takes("do").then(|| words.takes_any(&["also", "instead"]));
        if words.takes("nothing") && words.is_over() {
            return Some(Act::Change { what: table, also: Vec::new() });
        }
        words.takes_rest();
        return Some(Act::Unfollowed { what: table, why: "the names in the rule" });
    }
    if words.takes("trigger") {
        words.name()?;
        // What sets it off, up to the table.
        while !words.is("on") {
            words.skip()?;
        }
        let table = on_table(words)?;
        let is_plain = !words.has("when");
        while !words.is("execute") {
            if words.is("from") {
                return None;
            }
            words.skip()?;
        }
        let is_known = words.takes("execute") && words.takes_any(&["function", "procedure"]);
        let function = is_known.then(|| name(words))??;
        words.takes_rest();
        return Some(Act::Trigger {
            table,
            function: What { sort: Sort::Routine(&[Class::Function]), name: function, arguments: Some(Vec::new()) },
            is_plain,
        });
    }
    if words.is("function") || words.is("procedure") {
        return create_routine(words, is_replaced);
    }
    if is_replaced {
        return None;
    }
    if words.takes("publication") {
        words.name()?;
        if words.is_over() {
            return Some(Act::Publication { tables: Vec::new(), is_strong: false });
        }
        words.takes("for").then_some(())?;
        if words.takes_both("all", "tables") || words.takes_both("tables", "in") {
            words.takes_rest();
            return Some(Act::Publication { tables: Vec::new(), is_strong: true });
        }
        let tables = words.takes("table").then(|| words.list(|words| what(words, TABLE)))??;
        return Some(Act::Publication { tables, is_strong: false });
    }
    if words.takes("statistics") {
        let name = name(words)?;
        while !words.is("from") {
            // Expressions may name anything.
            if words.takes_token(&Token::LParen) && !words.has("on") {
                return None;
            }
            words.skip()?;
        }
        let table = words.takes("from").then(|| what(words, ANY))??;
        return Some(Act::Statistics { name, table });
    }
    if words.takes("extension") {
        words.takes_rest();
        return Some(Act::OnDatabase);
    }
    if words.takes_both("event", "trigger")
        || words.takes_both("access", "method")
        || words.takes("tablespace")
        || words.takes("subscription")
        || words.takes_both("foreign", "data")
        || words.takes_both("operator", "class")
        || words.takes_both("operator", "family")
    {
        return words.takes_rest().then_some(Act::Superuser);
    }
    if words.takes("collation") || words.takes("text") && words.takes("search") && words.takes_any(&["configuration", "dictionary"]) {
        let name = name(words)?;
        // What it is made after may be in a schema that is shut.
        let rest = words.rest_text()?;
        let names_others = rest.replace("pg_catalog.", "").contains('.') || rest.contains('"');
        return (!names_others).then_some(Act::New { name });
    }
    None
}

/// Reads a routine that is made: what its body does is looked at when it runs.
fn create_routine(words: &mut Words, is_replaced: bool) -> Option<Act> {
    let class = if words.takes("function") { Class::Function } else { words.takes("procedure").then_some(Class::Procedure)? };
    let name = name(words)?;
    let mut types = words.takes_token(&Token::LParen).then(|| arguments(words))??;
    let takes = types.len();
    if words.takes("returns") {
        words.takes("setof");
        types.extend(argument(words)?);
    }
    let (mut language, mut is_strong, mut body) = ("sql".to_owned(), false, None);
    while !words.is_over() {
        words.takes("external");
        let word = words.word()?;
        match word.as_str() {
            "language" => language = words.name().or_else(|| words.text())?.to_lowercase(),
            "immutable" | "stable" | "volatile" | "strict" | "window" => {}
            "called" => (words.takes("on") && words.takes("null") && words.takes("input")).then_some(())?,
            "returns" => (words.takes("null") && words.takes("on") && words.takes("null") && words.takes("input")).then_some(())?,
            "security" => words.takes_any(&["definer", "invoker"]).then_some(())?,
            "not" if words.takes("leakproof") => {}
            "leakproof" => is_strong = true,
            "parallel" => words.word().map(|_| ())?,
            "cost" | "rows" => words.takes_number().then_some(())?,
            "set" => {
                let setting = words.name()?.to_lowercase();
                // Another path changes which names the body means.
                let is_plain = super::settings::is_open(&setting)
                    && setting != "search_path"
                    && (words.takes("to") || words.takes_token(&Token::Eq))
                    && words.list(|words| (words.name().is_some() || words.takes_text() || words.takes_number()).then_some(())).is_some();
                is_plain.then_some(())?;
            }
            "as" => {
                body = words.list(Words::any_text)?.into_iter().next();
            }
            _ => return None,
        }
    }
    let body = body?;
    let body = (language == "sql").then_some(body);
    Some(Act::Routine { name, class, types, takes, language, is_strong, is_replaced, body })
}

fn create_schema(words: &mut Words) -> Option<Act> {
    words.takes("if").then(|| words.takes("not") && words.takes("exists")).is_none_or(|is| is).then_some(())?;
    if !words.is("authorization") {
        words.name()?;
    }
    let owner = if words.takes("authorization") { Some(named(words)?) } else { None };
    let has_elements = words.takes_rest();
    Some(Act::Schema { owner, has_elements })
}

/// Reads a policy behind its name: for what and whom it is, and its expressions.
fn policy(words: &mut Words) -> Option<Act> {
    let what = on_table(words)?;
    let mut expressions = Vec::new();
    while !words.is_over() {
        if words.takes("using") || words.takes_both("with", "check") {
            expressions.push(words.in_parentheses()?);
        } else if words.takes("as") {
            words.takes_any(&["permissive", "restrictive"]).then_some(())?;
        } else if words.takes("for") {
            words.takes_any(&["all", "select", "insert", "update", "delete"]).then_some(())?;
        } else if words.takes("to") {
            words.list(named)?;
        } else {
            return None;
        }
    }
    Some(Act::Express { what, expressions })
}

fn alter(words: &mut Words) -> Option<Act> {
    if words.takes("policy") {
        words.name()?;
        let place = words.place();
        let what = on_table(words)?;
        if words.takes("rename") {
            return (words.takes("to") && words.name().is_some()).then_some(Act::Change { what, also: Vec::new() });
        }
        words.go_to(place);
        return policy(words);
    }
    if words.takes_any(&["trigger", "rule"]) {
        words.name()?;
        let what = on_table(words)?;
        // A new name, or an extension that it depends on.
        return (words.takes_both("rename", "to") && words.name().is_some()).then_some(Act::Change { what, also: Vec::new() });
    }
    let sort = sort(words)?;
    if sort == Sort::Unlisted {
        return None;
    }
    if_exists(words)?;
    if sort == TABLE {
        words.takes("only");
    }
    // `ALTER TABLE` takes any relation.
    let sort = if sort == TABLE { ANY } else { sort };
    let what = what(words, sort)?;
    words.takes_token(&Token::Mul);
    if words.takes_both("owner", "to") {
        return Some(Act::Owner { what, to: named(words)? });
    }
    if words.takes_both("set", "schema") {
        return Some(Act::Move { what, schema: words.name()? });
    }
    if words.is("rename") {
        return rename(words, what);
    }
    match sort {
        // What a view is made of, or a sequence goes on with, changes no more than itself.
        Sort::Relation(classes) if classes == [Class::Sequence] => {
            if words.takes_both("owned", "by") {
                return words.takes("none").then_some(Act::Change { what, also: Vec::new() });
            }
            (words.takes_rest()).then_some(Act::Change { what, also: Vec::new() })
        }
        Sort::Relation(classes) if classes == [Class::View] => {
            let is_option = words.takes_any(&["set", "reset"]) && in_parentheses(words).is_some() && words.is_over();
            is_option.then_some(Act::Change { what, also: Vec::new() })
        }
        Sort::Relation(_) => alter_table(words, what),
        Sort::Routine(_) => alter_routine(words, what),
        Sort::Type if words.takes_both("add", "attribute") => {
            words.name()?;
            let data_type = argument(words)??;
            words.takes_any(&["cascade", "restrict"]);
            Some(Act::Attribute { what, data_type })
        }
        Sort::Type => {
            // A new attribute, or a CHECK, may name anything.
            let is_plain =
                words.takes_both("add", "value") || words.takes("drop") && words.takes_any(&["default", "not", "constraint", "attribute"]);
            (is_plain && words.takes_rest()).then_some(Act::Change { what, also: Vec::new() })
        }
        Sort::Database => {
            let is_plain = words.takes_any(&["with", "connection", "allow_connections", "is_template"]);
            (is_plain && words.takes_rest()).then_some(Act::Change { what, also: Vec::new() })
        }
        Sort::Schema | Sort::Language | Sort::Role | Sort::Part | Sort::Unlisted => None,
    }
}

fn rename(words: &mut Words, mut what: What) -> Option<Act> {
    words.takes("rename");
    if words.takes("value") {
        let is_known = words.takes_text() && words.takes("to") && words.takes_text();
        return is_known.then_some(Act::Change { what, also: Vec::new() });
    }
    if !words.is("to") {
        // A column, an attribute or a constraint, whatever word stands before it.
        words.takes_any(&["column", "attribute", "constraint"]);
        words.name()?;
        what.sort = if what.sort == Sort::Type { Sort::Type } else { Sort::Part };
        (words.takes("to") && words.name().is_some()).then_some(())?;
        words.takes_any(&["cascade", "restrict"]);
        return Some(Act::Change { what, also: Vec::new() });
    }
    (words.takes("to") && words.name().is_some()).then_some(Act::Rename { what })
}

fn alter_routine(words: &mut Words, what: What) -> Option<Act> {
    let mut is_strong = false;
    while !words.is_over() {
        words.takes("external");
        let word = words.word()?;
        match word.as_str() {
            "immutable" | "stable" | "volatile" | "strict" | "restrict" => {}
            "called" => (words.takes("on") && words.takes("null") && words.takes("input")).then_some(())?,
            "returns" => (words.takes("null") && words.takes("on") && words.takes("null") && words.takes("input")).then_some(())?,
            "security" => words.takes_any(&["definer", "invoker"]).then_some(())?,
            "not" if words.takes("leakproof") => {}
            "leakproof" => is_strong = true,
            "parallel" => words.word().map(|_| ())?,
            "cost" | "rows" => words.takes_number().then_some(())?,
            "reset" => words.name().map(|_| ())?,
            "set" => {
                // Who may set it is looked at, too.
                let setting = words.name()?.to_lowercase();
                if !super::settings::is_open(&setting) || !words.takes_rest() {
                    return None;
                }
            }
            _ => return None,
        }
    }
    Some(if is_strong { Act::Strong { what } } else { Act::Change { what, also: Vec::new() } })
}

/// Reads the changes of a table for which nothing is checked but its owner, and that of the table it is to inherit from.
fn alter_table(words: &mut Words, what: What) -> Option<Act> {
    let also = words.list(table_change)?.into_iter().flatten().collect();
    Some(Act::Change { what, also })
}

fn table_change(words: &mut Words) -> Option<Option<What>> {
    match words.word()?.as_str() {
        "set" => {
            if words.is("tablespace") {
                return None;
            }
            let is_known = words.takes_any(&["logged", "unlogged"])
                || words.takes("without") && words.takes_any(&["cluster", "oids"])
                || in_parentheses(words).is_some();
            is_known.then_some(None)
        }
        "reset" => in_parentheses(words).map(|()| None),
        "cluster" => (words.takes("on") && words.name().is_some()).then_some(None),
        "replica" => {
            let is_known = words.takes("identity")
                && (words.takes_any(&["full", "default", "nothing"])
                    || words.takes("using") && words.takes("index") && words.name().is_some());
            is_known.then_some(None)
        }
        "no" if words.takes("inherit") => what(words, ANY).map(|_| None),
        "inherit" => what(words, ANY).map(Some),
        "no" | "force" => {
            words.takes("force");
            (words.takes("row") && words.takes("level") && words.takes("security")).then_some(None)
        }
        toggle @ ("enable" | "disable") => {
            if words.takes("row") {
                return (words.takes("level") && words.takes("security")).then_some(None);
            }
            if toggle == "enable" {
                words.takes_any(&["replica", "always"]);
            }
            if words.takes("rule") {
                return words.name().map(|_| None);
            }
            // Those that hold keys up are the superuser's.
            let is_one = words.takes("trigger") && !words.is("all");
            (is_one && words.name().is_some()).then_some(None)
        }
        "drop" => {
            words.takes_any(&["column", "constraint"]);
            if_exists(words)?;
            words.name()?;
            words.takes_any(&["cascade", "restrict"]);
            Some(None)
        }
        "alter" => {
            words.takes("column");
            words.name()?;
            let is_known = words.takes_both("drop", "default")
                || words.takes("drop") && words.takes_both("not", "null")
                || words.takes_both("set", "not") && words.takes("null")
                || words.takes_both("set", "statistics") && {
                    words.takes_token(&Token::Minus);
                    words.takes_number()
                }
                || (words.takes_both("set", "storage") || words.takes_both("set", "compression")) && words.name().is_some();
            is_known.then_some(None)
        }
        _ => None,
    }
}

/// Passes over settings in parentheses.
fn in_parentheses(words: &mut Words) -> Option<()> {
    if !words.takes_token(&Token::LParen) {
        return None;
    }
    while !words.takes_token(&Token::RParen) {
        words.skip()?;
    }
    Some(())
}
