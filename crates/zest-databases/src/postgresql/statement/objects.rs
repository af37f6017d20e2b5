//! Statements that change, describe or drop objects, or make what hangs on a table: what the server checks for them (`alter.c`,
//! `tablecmds.c`, `dropcmds.c`, `comment.c`, `policy.c`, `trigger.c`, `typecmds.c` of version 15).
//!
//! The parser of SQL reads few of their forms, so they have a grammar of their own over its words. A text that is none of them, or goes
//! on in a way that is not known here, is left to that parser.

use super::super::about_rights::{Named, OPTION_OF_ALL};
use super::super::need::{Demand, Need};
use super::super::object::ObjectName;
use super::super::privilege::{Class, Privilege};
use super::grammar::{BEGINS, read};
use super::types::{is_built_in, listed};
use super::{Deriver, RELATIONS};
use crate::database::On;
use crate::database::not_modelled::{Touch, owner_of_event_trigger, sort_of};
use crate::sql::{Dialect, Words};

/// What sort of thing a statement names.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) enum Sort {
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
pub(super) struct What {
    pub(super) sort: Sort,
    pub(super) name: Vec<String>,
    /// The types of the arguments of a routine, each as it may be read: with its first word taken for a name, or not.
    pub(super) arguments: Option<Vec<[String; 2]>>,
}

/// What stands on a relation.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) enum Along {
    Trigger,
    Rule,
    Policy,
}

impl Along {
    const fn word(self) -> &'static str {
        match self {
            Self::Trigger => "trigger",
            Self::Rule => "rule",
            Self::Policy => "policy",
        }
    }
}

#[derive(Debug)]
pub(super) enum Act {
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
    DropAlong {
        sort: Along,
        name: String,
        table: What,
        if_exists: bool,
    },
    Drop {
        list: Vec<What>,
        if_exists: bool,
    },
    /// It depends on an extension from now on; a trigger of it does.
    Tie {
        trigger: Option<String>,
        what: What,
    },
    /// An event trigger is changed, described, given away or dropped.
    EventTrigger {
        name: String,
        to: Option<Named>,
        if_exists: bool,
    },
    Trigger {
        /// The table it is made on, and another that a constraint is about.
        tables: Vec<What>,
        function: What,
        is_plain: bool,
        is_of_rows: bool,
    },
    DefaultRights {
        creators: Vec<Named>,
        schemas: Vec<String>,
        /// Everybody is given the option to pass it on.
        is_option_of_all: bool,
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
    /// It sets a setting for the whole server.
    SettingOfServer(String),
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
        body: Option<String>,
    },
    /// Everybody may.
    Open,
}

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
                    let Some(object) = self.found(what) else { continue };
                    self.with_those_below(&object);
                    self.own(Some(object));
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
            Act::DropAlong { sort, name, table, if_exists } => self.drop_along(*sort, name, table, *if_exists),
            Act::Drop { list, if_exists } => list.iter().for_each(|what| self.drop_it(what, *if_exists)),
            Act::Tie { trigger, what } => {
                let Some(object) = self.found(what) else { return };
                // Whether a trigger is there is looked at first.
                if trigger.as_ref().is_some_and(|name| self.is_along(Along::Trigger, name, &object) == Some(false)) {
                    return self.undecided.push(format!("no such trigger of {object} is in the ledger"));
                }
                self.own(Some(object));
            }
            Act::EventTrigger { name, to, if_exists } => self.event_trigger(name, to.as_ref(), *if_exists),
            Act::Trigger { tables, function, is_plain, is_of_rows } => {
                if !is_plain {
                    self.not_for_superusers("the names in the condition of the trigger");
                }
                for table in tables {
                    let Some(table) = self.found(table) else { return };
                    // One for rows is made on each partition as well.
                    if *is_of_rows {
                        self.unless_superuser(&table, Touch::Part);
                    }
                    self.early.push(Need::privilege(&self.role, &table, Privilege::Trigger, On::Object));
                }
                if let Some(function) = self.found(function) {
                    self.early.push(Need::privilege(&self.role, &function, Privilege::Execute, On::Object));
                }
            }
            Act::DefaultRights { creators, schemas, is_option_of_all } => {
                if *is_option_of_all {
                    self.undecided.push(OPTION_OF_ALL.to_owned());
                }
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
                    self.with_those_below(&object);
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
                if let Some(object) = &object {
                    self.with_those_below(object);
                }
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
            Act::SettingOfServer(name) => {
                if !self.has_changed_rights(&format!("parameter {}", name.to_lowercase())) {
                    self.switch("superuser");
                }
            }
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
            Act::Block { language, body } => {
                let name = ObjectName::new(Class::Language, &[language]);
                if self.catalog.object(&name).is_some() {
                    self.early.push(Need::privilege(&self.role, &name, Privilege::Usage, On::Object));
                }
                match body {
                    Some(body) if language == "plpgsql" => self.block(&"the block", body),
                    Some(_) | None => self.undecided.push(format!("what the block does: blocks in {language} are not followed")),
                }
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

    /// An event trigger is its owner's, who must be a superuser.
    fn event_trigger(&mut self, name: &str, to: Option<&Named>, if_exists: bool) {
        match owner_of_event_trigger(&self.catalog.state().not_modelled, name) {
            // Whose it is already, it may be given to.
            Ok(Some(owner)) if to.is_some_and(|to| self.named(to) == owner) => return,
            Ok(Some(owner)) => self.early.push(Need::Rights { role: self.role.clone(), of: owner }),
            Ok(None) if if_exists => return,
            Ok(None) => return self.undecided.push(format!("no event trigger is named `{name}`")),
            Err(why) => return self.undecided.push(why),
        }
        if let Some(to) = to {
            let to = self.named(to);
            if self.catalog.state().knows_role(&to) {
                self.early.push(Need::Switch { role: to, switch: "superuser" });
            } else {
                self.undecided.push(format!("no role is named `{to}`"));
            }
        }
    }

    fn named(&self, role: &Named) -> String {
        match role {
            Named::Role(name) => name.clone(),
            Named::Current => self.role.clone(),
            Named::Session => self.session.clone(),
        }
    }

    pub(super) fn member(&mut self, of: String, why: &str) {
        if !self.catalog.state().knows_role(&of) {
            self.undecided.push(format!("no role is named `{of}`"));
            return;
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
    pub(super) fn routine_named(
        &mut self,
        name: &[String],
        arguments: Option<&[[String; 2]]>,
        classes: &[Class],
    ) -> Result<ObjectName, String> {
        let fits = |object: &&ObjectName| {
            let types = object.arguments.as_deref().map(listed).unwrap_or_default();
            let are_same = |wanted: &[[String; 2]]| {
                wanted.len() == types.len() && wanted.iter().zip(&types).all(|(wanted, known)| wanted.contains(known))
            };
            classes.contains(&object.class) && object.parts.ends_with(name) && arguments.is_none_or(are_same)
        };
        let last = name.last().map_or("", String::as_str);
        let found: Vec<ObjectName> = self.catalog.named(last).filter(fits).cloned().collect();
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
            return;
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
        self.early.push(Need::Object { role: self.role.clone(), object, demand: Demand::Owner { or_of_schema } });
    }

    /// What stands on a relation is dropped by its owner. Whether it is there is looked at first; where it need not be, and is not, nothing is
    /// checked but the schema.
    fn drop_along(&mut self, sort: Along, name: &str, table: &What, if_exists: bool) {
        let object = match self.seek(table) {
            Ok(object) => object,
            Err(_) if if_exists => return,
            Err(why) => return self.undecided.push(why),
        };
        match self.is_along(sort, name, &object) {
            Some(true) => self.own(Some(object)),
            Some(false) if if_exists => {}
            Some(false) => self.undecided.push(format!("no {} `{name}` of {object} is in the ledger", sort.word())),
            None if if_exists && !self.owns(&object) => self.undecided.push(format!("whether {object} has it")),
            None => self.own(Some(object)),
        }
    }

    /// Whether something stands on a relation, where that is known.
    fn is_along(&self, sort: Along, name: &str, object: &ObjectName) -> Option<bool> {
        let entry = self.catalog.state().objects.get(object)?;
        let is_listed = match sort {
            Along::Trigger => entry.triggers.contains_key(name),
            Along::Rule => entry.rules.contains_key(name),
            Along::Policy if !entry.row_security => return None,
            Along::Policy => entry.policies.as_ref()?.contains_key(name),
        };
        let are_others_named = || entry.not_modelled.iter().any(|note| sort_of(note) == sort.word());
        (is_listed || !are_others_named()).then_some(is_listed)
    }
}
