//! Statements that make, change, describe or drop objects, show what there is, set settings, or run the server: what is checked for them
//! (`sql_parse.cc`, `sql_show.cc`, `sys_vars.cc`, `privilege.h` of version 10.11).
//!
//! The parser of SQL reads few of their forms, so they have a grammar of their own over its words. A text that is none of them, or goes
//! on in a way that is not known here, is left to that parser.

use sqlparser::ast::Statement;
use sqlparser::tokenizer::Token;

use super::super::about_rights::{Named, named};
use super::super::name::{Class, ObjectName};
use super::super::need::{Any, Need, object_in};
use super::super::privilege::{Privilege, Privileges};
use super::{Deriver, RELATIONS, settings};
use crate::database::On;
use crate::sql::{Dialect, Use, Verb, Words, one, with_statements};

const BEGINS: &[&str] = &[
    "alter",
    "analyze",
    "backup",
    "cache",
    "change",
    "check",
    "checksum",
    "create",
    "deallocate",
    "delete",
    "desc",
    "describe",
    "do",
    "drop",
    "execute",
    "explain",
    "flush",
    "get",
    "handler",
    "help",
    "install",
    "kill",
    "load",
    "lock",
    "optimize",
    "prepare",
    "purge",
    "release",
    "rename",
    "repair",
    "reset",
    "resignal",
    "set",
    "show",
    "signal",
    "start",
    "stop",
    "uninstall",
    "xa",
];

/// The database in which the server keeps what it knows.
const KEPT: &str = "mysql";

use Privilege as P;

/// A change of a table's partitions, and the rights on the table besides the one to change it. A partition that becomes a table, or the
/// reverse, is taken out of the one and made in the other.
struct PartitionForm {
    words: (&'static str, &'static str),
    rights: &'static [Privilege],
    /// Another table: the words between the partition and it, none where no partition is named before it, and the rights on it.
    other: Option<(&'static [&'static str], &'static [Privilege])>,
}

/// The rights on another table that becomes a partition.
const TAKEN: &[Privilege] = &[P::Alter, P::Insert, P::Create, P::Drop];

const PARTITION_FORMS: &[PartitionForm] = &[
    PartitionForm { words: ("add", "partition"), rights: &[], other: None },
    PartitionForm { words: ("reorganize", "partition"), rights: &[], other: None },
    PartitionForm { words: ("coalesce", "partition"), rights: &[], other: None },
    PartitionForm { words: ("remove", "partitioning"), rights: &[], other: None },
    PartitionForm { words: ("drop", "partition"), rights: &[P::Drop], other: None },
    PartitionForm { words: ("convert", "partition"), rights: &[P::Drop], other: Some((&["to", "table"], &[P::Insert, P::Create])) },
    PartitionForm { words: ("convert", "table"), rights: &[P::Drop], other: Some((&[], TAKEN)) },
    PartitionForm { words: ("exchange", "partition"), rights: &[P::Insert, P::Create, P::Drop], other: Some((&["with", "table"], TAKEN)) },
];

impl<'s> Deriver<'s> {
    /// Makes the checks for a statement about objects; nothing where it is none.
    pub(super) fn about_objects(&self, text: &str) -> Option<Self> {
        let mut words = Words::of(Dialect::Mariadb, BEGINS, text)?;
        let mut made = self.again();
        made.form(&mut words)?;
        words.is_over().then_some(made)
    }

    fn name(&self, words: &mut Words) -> Option<(String, String)> {
        let first = words.name()?;
        if words.takes_token(&Token::Period) {
            return Some((first, words.name()?));
        }
        self.database.clone().map(|database| (database, first))
    }

    /// A table or view by its name, whether it is there or not: the server checks the right before it looks.
    fn at(&self, (database, name): &(String, String)) -> ObjectName {
        object_in(self.state, database, name, RELATIONS).unwrap_or_else(|| ObjectName::new(Class::Table, database, name))
    }

    fn on(&mut self, name: &(String, String), privileges: &[Privilege]) {
        let object = self.at(name);
        privileges.iter().for_each(|privilege| self.on_table(&object, *privilege, On::Object));
    }

    fn in_db(&mut self, database: &str, privilege: Privilege) {
        self.list.push(Need::Database { database: database.to_owned(), any: privilege.only() });
    }

    fn any_on(&mut self, name: &(String, String), held: Any) {
        let object = self.at(name);
        self.list.push(Need::AnyOn { object, held });
    }

    /// What a statement inside of another one needs.
    fn inner(&mut self, text: &str) -> Option<()> {
        if let Some(made) = self.about_objects(text) {
            self.take(made);
            return Some(());
        }
        self.files(text);
        with_statements(Dialect::Mariadb, text, true, |read| {
            let statement = one(read).ok()?;
            self.statement(statement);
            Some(())
        })
    }

    fn expression(&mut self, text: &str) -> Option<()> {
        self.inner(&format!("SELECT {text}"))
    }

    /// What making something in another's name needs.
    fn definer(&mut self, words: &mut Words) -> Option<()> {
        if !words.takes("definer") {
            return Some(());
        }
        if !words.takes_token(&Token::Eq) {
            return None;
        }
        let definer = named(words)?;
        match &definer {
            Named::CurrentAccount => {}
            Named::CurrentRole => self.undecided.push("whether the active role may be a definer".to_owned()),
            Named::Account(..) if definer.role(self.state).is_some() => self.undecided.push("whether a role may be a definer".to_owned()),
            Named::Account(..) => self.list.extend(definer.account().map(|account| Need::Definer { account })),
        }
        Some(())
    }

    /// A view that is changed stays in the name of its definer, which not everybody may set.
    fn keeps_definer(&mut self, name: &(String, String)) {
        let Some(object) = self.found(name) else { return };
        match self.state.objects.get(&object).and_then(|entry| entry.definer.clone()) {
            Some(account) => self.list.push(Need::Definer { account }),
            None => self.undecided.push(format!("in whose name {object} reads")),
        }
    }

    fn form(&mut self, words: &mut Words) -> Option<()> {
        let place = words.place();
        let verb = words.word()?;
        match verb.as_str() {
            "show" => self.show(words),
            "explain" | "describe" | "desc" => self.explain(words),
            "analyze" if !words.is("table") && !words.is("local") && !words.is("no_write_to_binlog") => {
                if words.takes("format") {
                    (words.takes_token(&Token::Eq) && words.word().is_some()).then_some(())?;
                }
                let rest = words.rest_text()?;
                self.inner(&rest)?;
                self.shows_what_is_behind();
                Some(())
            }
            "analyze" | "optimize" | "repair" => self.maintain(words, &[P::Select, P::Insert]),
            "check" => {
                words.takes_any(&["table", "tables", "view"]).then_some(())?;
                let names = words.list(|words| self.name(words))?;
                while words.takes_any(&["quick", "fast", "medium", "extended", "changed", "for", "upgrade"]) {}
                for name in &names {
                    self.found(name)?;
                    self.any_on(name, Any::TableOrColumn);
                }
                Some(())
            }
            "checksum" => self.maintain(words, &[P::Select]),
            "cache" => {
                words.takes("index").then_some(())?;
                let name = self.name(words)?;
                self.any_on(&name, Any::TableOrColumn);
                words.takes_rest().then_some(())
            }
            "load" if words.takes_both("index", "into") => {
                words.takes("cache").then_some(())?;
                let name = self.name(words)?;
                self.any_on(&name, Any::TableOrColumn);
                Some(())
            }
            "load" => self.load(words),
            "lock" => self.lock(words),
            "handler" => {
                let name = self.name(words)?;
                let object = self.found(&name)?;
                words.takes("open").then_some(())?;
                self.on_table(&object, P::Select, On::Some);
                Some(())
            }
            "do" => {
                let rest = words.rest_text()?;
                self.passes_over = true;
                self.expression(&rest)
            }
            // Of a table that keeps what its rows were.
            "delete" if words.takes_both("history", "from") => {
                let name = self.name(words)?;
                self.on(&name, &[P::DeleteHistory]);
                let table = self.at(&name);
                self.runs_along(&table, &Use::of(0, Verb::Delete));
                if words.is_over() {
                    return Some(());
                }
                words.takes_both("before", "system_time").then_some(())?;
                words.takes_any(&["timestamp", "transaction"]);
                let moment = words.rest_text()?;
                self.expression(&moment)
            }
            "rename" => self.rename(words),
            "flush" => self.flush(words),
            "reset" => {
                words.takes_both("query", "cache").then_some(())?;
                self.global(&[P::Reload]);
                Some(())
            }
            "set" => self.set(words),
            "create" => self.create(words),
            "alter" => self.alter(words),
            "drop" => self.drop(words),
            "install" => words.takes_rest().then(|| self.in_db(KEPT, P::Insert)),
            "uninstall" => words.takes_rest().then(|| self.in_db(KEPT, P::Delete)),
            "change" | "start" | "stop" if words.takes_any(&["master", "slave", "replica", "all"]) => {
                if !words.is_over() {
                    words.takes_rest().then_some(())?;
                }
                self.global(&[P::ReplicationSlaveAdmin, P::Super]);
                Some(())
            }
            "purge" => words.takes_rest().then(|| self.global(&[P::BinlogAdmin, P::Super])),
            "backup" if words.takes("lock") => {
                let (database, _) = self.name(words)?;
                self.list.push(Need::Database { database, any: [P::Reload, P::LockTables].into_iter().collect() });
                Some(())
            }
            "backup" => words.takes("unlock").then(|| self.global(&[P::Reload, P::LockTables])),
            "xa" => {
                if words.takes("recover") {
                    return Some(());
                }
                (words.takes_any(&["start", "begin", "end", "prepare", "commit", "rollback"]) && words.takes_rest()).then_some(())
            }
            "release" => words.takes("savepoint").then(|| words.name()).map(|_| ()),
            "deallocate" => words.takes("prepare").then(|| words.name()).map(|_| ()),
            "prepare" => {
                words.name()?;
                let text = words.takes("from").then(|| words.text())??;
                self.is_only_planned = true;
                self.inner(&text)
            }
            "execute" => {
                let text = words.takes("immediate").then(|| words.text())??;
                self.inner(&text)
            }
            "help" => words.takes_rest().then_some(()),
            "signal" | "get" => words.takes_rest().then_some(()),
            "resignal" => Some(()),
            _ => {
                words.go_to(place);
                None
            }
        }
    }

    fn found(&mut self, (database, name): &(String, String)) -> Option<ObjectName> {
        match self.look_up(&[database.clone(), name.clone()], RELATIONS) {
            Ok(object) => Some(object),
            Err(why) => {
                self.undecided.push(why);
                Some(ObjectName::new(Class::Table, database, name))
            }
        }
    }

    fn maintain(&mut self, words: &mut Words, privileges: &[Privilege]) -> Option<()> {
        words.takes_any(&["local", "no_write_to_binlog"]);
        words.takes_any(&["table", "tables"]).then_some(())?;
        let names = words.list(|words| self.name(words))?;
        while words.takes_any(&["quick", "fast", "medium", "extended", "changed", "use_frm", "for", "upgrade"]) {}
        for name in &names {
            let object = self.found(name)?;
            for privilege in privileges {
                self.on_table(&object, *privilege, On::Some);
            }
        }
        Some(())
    }

    fn load(&mut self, words: &mut Words) -> Option<()> {
        words.takes("data").then_some(())?;
        words.takes_any(&["low_priority", "concurrent"]);
        let is_local = words.takes("local");
        (words.takes("infile") && words.text().is_some()).then_some(())?;
        let replaces = words.takes("replace");
        words.takes("ignore");
        (words.takes("into") && words.takes("table")).then_some(())?;
        let name = self.name(words)?;
        let object = self.found(&name)?;
        let all: Vec<String> =
            self.state.objects.get(&object).map(|o| o.columns.iter().map(|(c, _)| c.clone()).collect()).unwrap_or_default();
        let mut columns = all;
        if words.takes_token(&Token::LParen) {
            columns = words.list(Words::name)?;
            words.takes_token(&Token::RParen).then_some(())?;
        }
        if !is_local {
            self.global(&[P::File]);
        }
        if object.class == Class::View {
            self.undecided.push(format!("what a view passes on to its tables where rows are loaded into it: {object}"));
        }
        self.on_table(&object, P::Insert, On::Columns(columns));
        self.runs_along(&object, &Use::of(0, Verb::Insert));
        if replaces {
            self.on_table(&object, P::Delete, On::Object);
            self.runs_along(&object, &Use::of(0, Verb::Delete));
        }
        Some(())
    }

    fn lock(&mut self, words: &mut Words) -> Option<()> {
        words.takes_any(&["tables", "table"]).then_some(())?;
        let names = words.list(|words| {
            let name = self.name(words)?;
            if !["read", "write", "low_priority"].iter().any(|word| words.is(word)) {
                words.takes("as");
                words.name()?;
            }
            if words.takes("read") {
                words.takes("local");
                return Some(name);
            }
            words.takes("low_priority");
            words.takes("write").then_some(name)
        })?;
        if words.takes_any(&["wait", "nowait"]) && !words.is_over() {
            words.takes_rest();
        }
        names.iter().for_each(|name| self.locked(name));
        Some(())
    }

    fn locked(&mut self, name: &(String, String)) {
        self.in_db(&name.0, P::LockTables);
        let Some(object) = self.found(name) else { return };
        self.on_table(&object, P::Select, On::Some);
        if object.class == Class::View {
            self.undecided.push(format!("what a lock of {object} needs behind it"));
        }
    }

    fn rename(&mut self, words: &mut Words) -> Option<()> {
        words.takes_any(&["table", "tables"]).then_some(())?;
        words.takes_both("if", "exists");
        let pairs = words.list(|words| {
            let from = self.name(words)?;
            let to = words.takes("to").then(|| self.name(words))??;
            Some((from, to))
        })?;
        for (from, to) in pairs {
            self.on(&from, &[P::Alter, P::Drop]);
            self.on(&to, &[P::Create, P::Insert]);
        }
        Some(())
    }

    fn flush(&mut self, words: &mut Words) -> Option<()> {
        words.takes_any(&["local", "no_write_to_binlog"]);
        self.global(&[P::Reload]);
        if !words.takes_any(&["tables", "table"]) {
            return words.takes_rest().then_some(());
        }
        if words.is_over() || words.takes("with") && words.takes_rest() {
            return Some(());
        }
        let names = words.list(|words| self.name(words))?;
        if words.takes("with") {
            (words.takes_both("read", "lock")).then_some(())?;
            words.takes_both("and", "disable").then(|| words.takes("checkpoint"));
            names.iter().for_each(|name| self.locked(name));
        } else if words.takes("for") {
            words.takes("export").then_some(())?;
            names.iter().for_each(|name| self.locked(name));
        }
        Some(())
    }

    fn show(&mut self, words: &mut Words) -> Option<()> {
        // A condition may read tables.
        if words.has("select") {
            return None;
        }
        if words.takes("create") {
            return self.show_create(words);
        }
        words.takes("full");
        let from = |words: &mut Words| {
            if words.takes_any(&["from", "in"]) { Some(Some(words.name()?)) } else { Some(None) }
        };
        let word = words.word()?;
        match word.as_str() {
            "databases" | "schemas" | "variables" | "status" | "warnings" | "errors" | "engines" | "plugins" | "privileges"
            | "collation" | "authors" | "contributors" | "profiles" | "profile" | "locales" | "processlist" | "storage" | "encryption" => {
                words.is_over().then_some(()).or_else(|| words.takes_rest().then_some(()))
            }
            "character" | "charset" | "function" | "procedure" | "package"
                if words.takes_any(&["set", "status", "body"]) || word == "charset" =>
            {
                words.is_over().then_some(()).or_else(|| words.takes_rest().then_some(()))
            }
            "procedure" | "function" => (words.takes("code") && words.takes_rest()).then_some(()),
            "count" => words.takes_rest().then_some(()),
            "global" | "session" | "local" => {
                words.takes_any(&["variables", "status"]).then_some(())?;
                words.is_over().then_some(()).or_else(|| words.takes_rest().then_some(()))
            }
            "tables" | "triggers" | "events" => {
                let database = from(words)?;
                self.show_in(words, &word, database)
            }
            "table" if words.takes("status") => {
                let database = from(words)?;
                self.show_in(words, "tables", database)
            }
            "open" if words.takes("tables") => {
                let database = from(words)?;
                self.show_in(words, "open", database)
            }
            "columns" | "fields" | "index" | "indexes" | "keys" => {
                words.takes_any(&["from", "in"]).then_some(())?;
                let mut name = words.name()?;
                let mut database = self.database.clone();
                if words.takes_token(&Token::Period) {
                    database = Some(std::mem::replace(&mut name, words.name()?));
                }
                if let Some(named) = from(words)? {
                    database = Some(named);
                }
                if !words.is_over() {
                    words.takes_rest().then_some(())?;
                }
                let name = (database?, name);
                self.found(&name)?;
                self.any_on(&name, Any::Row);
                Some(())
            }
            "engine" => {
                words.name()?;
                words.takes_any(&["status", "mutex", "logs"]).then(|| self.global(&[P::Process]))
            }
            "binary" | "master" => words.takes_any(&["logs", "status"]).then(|| self.global(&[P::BinlogMonitor, P::Super])),
            "binlog" => {
                if words.takes("status") {
                    self.global(&[P::BinlogMonitor, P::Super]);
                    return Some(());
                }
                words.takes("events").then_some(())?;
                if !words.is_over() {
                    words.takes_rest();
                }
                self.global(&[P::BinlogMonitor]);
                Some(())
            }
            "slave" | "replica" if words.takes("hosts") => {
                self.global(&[P::ReplicationMasterAdmin]);
                Some(())
            }
            "slave" | "replica" => words.takes("status").then(|| self.global(&[P::SlaveMonitor, P::Super])),
            "all" => (words.takes_any(&["slaves", "replicas"]) && words.takes("status")).then(|| self.global(&[P::SlaveMonitor, P::Super])),
            "user_statistics" | "client_statistics" => {
                // Of others than oneself it says nothing without more.
                Some(())
            }
            _ => None,
        }
    }

    fn show_in(&mut self, words: &mut Words, what: &str, database: Option<String>) -> Option<()> {
        if !words.is_over() {
            words.takes_rest().then_some(())?;
        }
        let database = database.or_else(|| self.database.clone())?;
        match what {
            "events" => self.in_db(&database, P::Event),
            "open" => {}
            _ => self.list.push(Need::Listed { database }),
        }
        Some(())
    }

    fn show_create(&mut self, words: &mut Words) -> Option<()> {
        let word = words.word()?;
        match word.as_str() {
            "database" | "schema" => {
                let _ = words.takes("if") && words.takes_both("not", "exists");
                let database = words.name()?;
                self.list.push(Need::Open { by: self.by.clone(), database });
                Some(())
            }
            "table" | "view" | "sequence" => {
                let name = self.name(words)?;
                let object = self.found(&name)?;
                if object.class == Class::View || word == "view" {
                    self.on_table(&object, P::Select, On::Object);
                    self.on_table(&object, P::ShowView, On::Object);
                } else {
                    self.list.push(Need::AnyOn { object, held: Any::Table });
                }
                Some(())
            }
            "procedure" | "function" => {
                let (database, name) = self.name(words)?;
                let class = if word == "function" { Class::Function } else { Class::Procedure };
                // Whoever may not see it is told that it is not there.
                if self.routine(&database, &name, class).is_none() {
                    self.undecided.push(format!("the routine `{database}.{name}` is not in the inventory"));
                } else {
                    self.undecided.push(format!("whether `{database}.{name}` is shown with its body, without, or not at all"));
                }
                Some(())
            }
            "trigger" => {
                let (database, name) = self.name(words)?;
                match self.table_of_trigger(&database, &name) {
                    Some(table) => self.on_table(&table, P::Trigger, On::Object),
                    None => self.undecided.push(format!("the trigger `{database}.{name}` is not in the inventory")),
                }
                Some(())
            }
            "event" => {
                let (database, _) = self.name(words)?;
                self.in_db(&database, P::Event);
                Some(())
            }
            _ => None,
        }
    }

    fn routine(&self, database: &str, name: &str, class: Class) -> Option<ObjectName> {
        let is_it = |o: &&ObjectName| o.class == class && o.database == database && o.name.eq_ignore_ascii_case(name);
        self.state.objects.keys().find(is_it).cloned()
    }

    /// The table that a trigger hangs on.
    fn table_of_trigger(&self, database: &str, name: &str) -> Option<ObjectName> {
        let begin = format!("trigger {name} on ");
        let has = |(object, entry): &(&ObjectName, &super::super::state::Object)| {
            let is_known = entry.triggers.contains_key(name) || entry.not_modelled.iter().any(|note| note.starts_with(&begin));
            object.database == database && is_known
        };
        self.state.objects.iter().find(has).map(|(object, _)| object.clone())
    }

    fn explain(&mut self, words: &mut Words) -> Option<()> {
        let place = words.place();
        words.takes_any(&["extended", "partitions"]);
        if words.takes("format") {
            (words.takes_token(&Token::Eq) && words.word().is_some()).then_some(())?;
        }
        if ["select", "insert", "update", "delete", "replace", "with", "table", "values"].iter().any(|word| words.is(word)) {
            let rest = words.rest_text()?;
            self.is_only_planned = true;
            self.inner(&rest)?;
            self.shows_what_is_behind();
            return Some(());
        }
        words.go_to(place);
        let name = self.name(words)?;
        if !words.is_over() {
            words.name().is_some().then_some(()).or_else(|| words.text().map(|_| ()))?;
        }
        self.found(&name)?;
        self.any_on(&name, Any::Row);
        Some(())
    }

    fn setting(&mut self, name: &str, is_global: bool) {
        match settings::set(&name.to_lowercase(), is_global) {
            Ok(any) if any == Privileges::NONE => {}
            Ok(any) => self.list.push(Need::Global { any }),
            Err(why) => self.undecided.push(why),
        }
    }

    fn set(&mut self, words: &mut Words) -> Option<()> {
        if words.takes("names") || words.takes_both("character", "set") || words.takes("charset") {
            // Behind a comma other things are set.
            words.text_until(&[])?;
            return words.is_over().then_some(());
        }
        if words.takes("statement") {
            words.list(|words| {
                let name = words.name()?;
                words.takes_token(&Token::Eq).then_some(())?;
                words.text_until(&["for"])?;
                self.setting(&name, false);
                Some(())
            })?;
            let rest = words.takes("for").then(|| words.rest_text())??;
            return self.inner(&rest);
        }
        if words.takes_both("global", "transaction") {
            self.setting("transaction_isolation", true);
            self.global(&[P::Super]);
            self.undecided.clear();
            return words.takes_rest().then_some(());
        }
        if ["role", "password", "default", "transaction"].iter().any(|word| words.is(word)) {
            return None;
        }
        let items = words.list(|words| {
            let mut is_global = false;
            let mut name;
            if let Some(word) = words.takes_sign_word() {
                let Some(setting) = word.strip_prefix("@@") else {
                    // A variable of one's own.
                    (word.len() > 1).then_some(())?;
                    (words.takes_token(&Token::Eq) || words.takes_token(&Token::Assignment)).then_some(())?;
                    return Some((None, words.text_until(&[])?));
                };
                name = setting.to_owned();
                if words.takes_token(&Token::Period) {
                    is_global = name.eq_ignore_ascii_case("global");
                    name = words.name()?;
                }
            } else {
                is_global = words.takes("global");
                if !is_global {
                    words.takes_any(&["session", "local"]);
                }
                name = words.name()?;
            }
            // A setting of a part of the server has a name of two parts.
            if words.takes_token(&Token::Period) {
                return None;
            }
            (words.takes_token(&Token::Eq) || words.takes_token(&Token::Assignment)).then_some(())?;
            Some((Some((name, is_global)), words.text_until(&[])?))
        })?;
        for (setting, value) in items {
            if let Some((name, is_global)) = setting {
                self.setting(&name, is_global);
                let is_word = value.chars().all(|c| c.is_alphanumeric() || "_-,.".contains(c));
                if is_word {
                    continue;
                }
            }
            self.expression(&value)?;
        }
        Some(())
    }

    fn create(&mut self, words: &mut Words) -> Option<()> {
        let replaces = words.takes_both("or", "replace");
        let is_temporary = words.takes("temporary");
        if words.takes("sequence") {
            if_not_exists(words);
            let name = self.name(words)?;
            if !words.is_over() {
                words.takes_rest();
            }
            match (is_temporary, replaces) {
                (true, _) => self.in_db(&name.0, P::CreateTemporaryTables),
                (false, true) => self.on(&name, &[P::Create, P::Drop]),
                (false, false) => self.on(&name, &[P::Create]),
            }
            return Some(());
        }
        if is_temporary {
            return None;
        }
        if words.takes_any(&["database", "schema"]) {
            if_not_exists(words);
            let database = words.name()?;
            if !words.is_over() {
                words.takes_rest().then_some(())?;
            }
            self.in_db(&database, P::Create);
            if replaces {
                self.in_db(&database, P::Drop);
            }
            return Some(());
        }
        if words.takes("server") {
            self.global(&[P::FederatedAdmin, P::Super]);
            return words.takes_rest().then_some(());
        }
        let place = words.place();
        words.takes_any(&["unique", "fulltext", "spatial"]);
        if words.takes("index") {
            if_not_exists(words);
            words.name()?;
            if words.takes("using") {
                words.name()?;
            }
            let name = words.takes("on").then(|| self.name(words))??;
            self.on(&name, &[P::Index]);
            return words.takes_rest().then_some(());
        }
        words.go_to(place);
        if words.takes("algorithm") {
            (words.takes_token(&Token::Eq) && words.word().is_some()).then_some(())?;
        }
        self.definer(words)?;
        if words.takes_both("sql", "security") {
            words.word()?;
        }
        if words.takes("view") {
            if_not_exists(words);
            return self.view(words, replaces);
        }
        if words.takes("trigger") {
            if_not_exists(words);
            self.name(words)?;
            let is_known = words.takes_any(&["before", "after"]) && words.takes_any(&["insert", "update", "delete"]) && words.takes("on");
            let table = is_known.then(|| self.name(words))??;
            self.on(&table, &[P::Trigger]);
            self.by_binary_log();
            return words.takes_body().then_some(());
        }
        if words.takes("event") {
            if_not_exists(words);
            let (database, _) = self.name(words)?;
            self.in_db(&database, P::Event);
            return words.takes_body().then_some(());
        }
        words.takes("aggregate");
        let is_function = words.takes("function");
        if !is_function && !words.takes("procedure") {
            return None;
        }
        if_not_exists(words);
        if is_function && self.database.is_none() {
            // `CREATE FUNCTION name RETURNS … SONAME` is of no database.
            let place = words.place();
            words.name()?;
            if words.takes("returns") {
                self.in_db(KEPT, P::Insert);
                return words.takes_rest().then_some(());
            }
            words.go_to(place);
        }
        let (database, name) = self.name(words)?;
        self.in_db(&database, P::CreateRoutine);
        let class = if is_function { Class::Function } else { Class::Procedure };
        if replaces {
            self.alter_routine(&database, &name, class);
        }
        if is_function {
            self.by_binary_log();
        }
        words.takes_body().then_some(())
    }

    /// With a binary log, functions and triggers are made by those alone who may do anything.
    fn by_binary_log(&mut self) {
        if self.state.not_modelled.iter().any(|note| note.starts_with("binlog ")) {
            self.list.push(Need::Global { any: P::Super.only() });
        }
    }

    fn view(&mut self, words: &mut Words, replaces: bool) -> Option<()> {
        let name = self.name(words)?;
        if words.takes_token(&Token::LParen) {
            words.list(Words::name)?;
            words.takes_token(&Token::RParen).then_some(())?;
        }
        let query = words.takes("as").then(|| words.rest_text())??;
        self.on(&name, &[P::CreateView]);
        if replaces {
            self.on(&name, &[P::Drop]);
        }
        let query = query.trim_end();
        let query = [" WITH CHECK OPTION", " WITH LOCAL CHECK OPTION", " WITH CASCADED CHECK OPTION"]
            .iter()
            .find_map(|end| query.to_uppercase().ends_with(end).then(|| &query[..query.len() - end.len()]))
            .unwrap_or(query);
        with_statements(Dialect::Mariadb, query, true, |read| match one(read) {
            Ok(Statement::Query(query)) => {
                self.view_made_of(query);
                Some(())
            }
            Ok(_) | Err(_) => None,
        })
    }

    fn alter(&mut self, words: &mut Words) -> Option<()> {
        if words.takes_any(&["database", "schema"]) {
            let database = words.name()?;
            self.in_db(&database, P::Alter);
            return words.takes_rest().then_some(());
        }
        if words.takes("server") {
            self.global(&[P::FederatedAdmin, P::Super]);
            return words.takes_rest().then_some(());
        }
        if words.takes("sequence") {
            words.takes_both("if", "exists");
            let name = self.name(words)?;
            self.on(&name, &[P::Alter]);
            return words.takes_rest().then_some(());
        }
        if words.is("procedure") || words.is("function") {
            let class = if words.takes("function") { Class::Function } else { Class::Procedure };
            words.takes("procedure");
            let (database, name) = self.name(words)?;
            self.alter_routine(&database, &name, class);
            return words.takes_rest().then_some(());
        }
        if words.takes("algorithm") {
            (words.takes_token(&Token::Eq) && words.word().is_some()).then_some(())?;
        }
        let is_named = words.is("definer");
        self.definer(words)?;
        if words.takes_both("sql", "security") {
            words.word()?;
        }
        if words.takes("view") {
            if !is_named {
                let place = words.place();
                let name = self.name(words)?;
                words.go_to(place);
                self.keeps_definer(&name);
            }
            return self.view(words, true);
        }
        if words.takes("event") {
            let (database, _) = self.name(words)?;
            self.in_db(&database, P::Event);
            // Moved to another database, it needs the right there.
            let rest = words.rest_text()?;
            if rest.to_lowercase().contains("rename") {
                self.undecided.push("where the event is moved to".to_owned());
            }
            return Some(());
        }
        words.takes_any(&["online", "offline"]);
        words.takes("ignore");
        words.takes("table").then_some(())?;
        words.takes_both("if", "exists");
        let name = self.name(words)?;
        self.on(&name, &[P::Alter]);
        words.list(|words| self.table_change(words, &name)).map(|_| ())
    }

    /// One change of a table: most need no more than the right to change it.
    fn table_change(&mut self, words: &mut Words, name: &(String, String)) -> Option<()> {
        if words.takes("rename") {
            if words.takes_any(&["column", "index", "key"]) {
                return words.text_until(&[]).map(|_| ());
            }
            words.takes_any(&["to", "as"]);
            words.takes_token(&Token::Eq);
            let to = self.name(words)?;
            self.on(name, &[P::Drop]);
            self.on(&to, &[P::Create, P::Insert]);
            return Some(());
        }
        if let Some(form) = PARTITION_FORMS.iter().find(|form| words.takes_both(form.words.0, form.words.1)) {
            return self.partition_change(words, name, form);
        }
        let is_known = [
            "add",
            "drop",
            "modify",
            "change",
            "alter",
            "engine",
            "comment",
            "auto_increment",
            "convert",
            "default",
            "character",
            "charset",
            "collate",
            "row_format",
            "disable",
            "enable",
            "order",
            "force",
            "checksum",
            "max_rows",
            "min_rows",
            "avg_row_length",
        ];
        let word = words.word()?;
        if !is_known.contains(&word.as_str()) || words.is("partition") || words.is("system") {
            return None;
        }
        let text = words.text_until(&[]).unwrap_or_default();
        let folded = text.to_lowercase();
        // Sequences, other tables, files and servers have rights of their own.
        let others = ["nextval", "next value", "lastval", "setval", "previous value", "union", "directory", "connection"];
        if others.iter().any(|word| folded.contains(word)) {
            return None;
        }
        if let Some(at) = folded.find("references ") {
            self.referred(&text[at + "references ".len()..])?;
        }
        Some(())
    }

    fn partition_change(&mut self, words: &mut Words, name: &(String, String), form: &PartitionForm) -> Option<()> {
        self.on(name, form.rights);
        if let Some((before, rights)) = form.other {
            if !before.is_empty() {
                words.name()?;
            }
            before.iter().all(|word| words.takes(word)).then_some(())?;
            let other = self.name(words)?;
            self.on(&other, rights);
        }
        // Files and servers have rights of their own.
        let rest = words.text_until(&[]).unwrap_or_default().to_lowercase();
        (!["directory", "connection"].iter().any(|word| rest.contains(word))).then_some(())
    }

    /// A key that points to another table needs a right on all of that.
    fn referred(&mut self, text: &str) -> Option<()> {
        let mut words = Words::of(Dialect::Mariadb, &[""], text)?;
        let name = self.name(&mut words)?;
        let object = self.found(&name)?;
        self.list.push(Need::AnyOn { object, held: Any::Referred });
        Some(())
    }

    fn drop(&mut self, words: &mut Words) -> Option<()> {
        if words.takes("temporary") {
            return words.takes_rest().then_some(());
        }
        if words.takes("prepare") {
            return words.name().map(|_| ());
        }
        if words.takes("server") {
            self.global(&[P::FederatedAdmin, P::Super]);
            return words.takes_rest().then_some(());
        }
        if words.takes("index") {
            words.takes_both("if", "exists");
            words.name()?;
            let name = words.takes("on").then(|| self.name(words))??;
            self.on(&name, &[P::Index]);
            return (words.is_over() || words.takes_rest()).then_some(());
        }
        if words.takes("sequence") {
            words.takes_both("if", "exists");
            let names = words.list(|words| self.name(words))?;
            names.iter().for_each(|name| self.on(name, &[P::Drop]));
            return Some(());
        }
        if words.takes("event") {
            words.takes_both("if", "exists");
            let (database, _) = self.name(words)?;
            self.in_db(&database, P::Event);
            return Some(());
        }
        if words.takes("trigger") {
            let if_exists = words.takes_both("if", "exists");
            let (database, name) = self.name(words)?;
            match self.table_of_trigger(&database, &name) {
                Some(table) => self.on_table(&table, P::Trigger, On::Object),
                None if if_exists => {}
                None => self.undecided.push(format!("the trigger `{database}.{name}` is not in the inventory")),
            }
            return Some(());
        }
        // With `TABLE` it is one of many forms.
        if words.takes("tables") {
            let rest = words.rest_text()?;
            return self.inner(&format!("DROP TABLE {rest}"));
        }
        let is_function = words.takes("function");
        if !is_function && !words.takes("procedure") {
            return None;
        }
        words.takes_both("if", "exists");
        let (database, name) = self.name(words)?;
        self.alter_routine(&database, &name, if is_function { Class::Function } else { Class::Procedure });
        Some(())
    }

    pub(super) fn alter_routine(&mut self, database: &str, name: &str, class: Class) {
        match self.routine(database, name, class) {
            Some(object) => self.list.push(Need::Routine { by: self.by.clone(), object, privilege: P::AlterRoutine }),
            // The right is checked before the server looks.
            None => self.in_db(database, P::AlterRoutine),
        }
    }
}

fn if_not_exists(words: &mut Words) {
    let place = words.place();
    if words.takes("if") && !words.takes_both("not", "exists") {
        words.go_to(place);
    }
}
