//! The grammar of statements about objects, over the words of the parser of SQL: a text that is none of them, or goes on in a way that
//! is not known here, is left to that parser.

use sqlparser::tokenizer::Token;

use super::super::about_rights::{Named, named, roles};
use super::super::privilege::Class;
use super::objects::{Act, Along, Sort, What};
use super::types::{argument, arguments};
use super::{RELATIONS, ROUTINES, settings};
use crate::sql::Words;

pub(super) const BEGINS: &[&str] = &[
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
    let name = words.path()?;
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

pub(super) fn read(words: &mut Words) -> Option<Act> {
    let verb = words.word()?;
    match verb.as_str() {
        "alter" if words.takes_both("default", "privileges") => default_rights(words),
        "alter" if words.takes("system") => {
            (words.takes("set") || words.takes("reset")).then_some(())?;
            if words.is("all") {
                return words.takes_rest().then_some(Act::Superuser);
            }
            let name = words.path()?.join(".");
            (words.is_over() || words.takes_rest()).then_some(Act::SettingOfServer(name))
        }
        "alter" => alter(words),
        "comment" => comment(words),
        "drop" => drop(words),
        "create" => create(words),
        "analyze" | "analyse" | "vacuum" => {
            if words.takes_token(&Token::LParen) {
                // How it is done changes nothing about who may.
                words.list(|words| {
                    words.name()?;
                    while words.name().is_some() || words.takes_number() {}
                    Some(())
                })?;
                words.takes_token(&Token::RParen).then_some(())?;
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
        "reindex" => {
            if words.takes_token(&Token::LParen) {
                // Where indexes are put needs a right of its own.
                words.list(|words| {
                    words.takes_any(&["verbose", "concurrently"]).then_some(())?;
                    words.takes_any(&["true", "false", "on", "off"]);
                    Some(())
                })?;
                words.takes_token(&Token::RParen).then_some(())?;
            }
            // What indexes there are is not in a ledger.
            let sort = match () {
                () if words.takes("table") => Sort::Relation(&[Class::Table, Class::MaterialisedView]),
                () if words.takes("schema") => Sort::Schema,
                () => return None,
            };
            words.takes("concurrently");
            Some(Act::Maintain { list: vec![what(words, sort)?], warns: false })
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
            let (mut language, mut body) = ("plpgsql".to_owned(), None);
            while !words.is_over() {
                if words.takes("language") {
                    language = words.name().or_else(|| words.text())?.to_lowercase();
                } else {
                    body = Some(words.any_text()?);
                }
            }
            Some(Act::Block { language, body })
        }
        _ => None,
    }
}

fn set(words: &mut Words) -> Option<Act> {
    if words.takes("constraints") {
        if !words.takes("all") {
            words.list(Words::path)?;
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
    // No schema stands in another.
    let is_for_all = words.takes("on")
        && (words.takes_any(&["tables", "sequences", "functions", "routines", "types"]) || schemas.is_empty() && words.takes("schemas"));
    let grantee = |words: &mut Words| {
        words.takes_before_name("group");
        named(words)
    };
    if !is_for_all || !words.takes(if is_grant { "to" } else { "from" }) {
        return None;
    }
    let to = words.list(grantee)?;
    let has_option = is_grant && words.takes("with");
    if has_option {
        words.takes_both("grant", "option").then_some(())?;
    }
    if !is_grant {
        words.takes_any(&["cascade", "restrict"]);
    }
    let is_option_of_all = has_option && to.iter().any(|to| matches!(to, Named::Role(name) if name == "public"));
    Some(Act::DefaultRights { creators, schemas, is_option_of_all })
}

fn comment(words: &mut Words) -> Option<Act> {
    if !words.takes("on") {
        return None;
    }
    if words.takes_both("event", "trigger") {
        let name = words.name()?;
        return (words.takes("is") && (words.takes("null") || words.takes_text())).then_some(Act::EventTrigger {
            name,
            to: None,
            if_exists: false,
        });
    }
    let what = if words.takes("column") {
        let mut name = words.path()?;
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
    let along = [("trigger", Along::Trigger), ("rule", Along::Rule), ("policy", Along::Policy)];
    let drop = if words.takes_both("event", "trigger") {
        let if_exists = if_exists(words)?;
        Act::EventTrigger { name: words.name()?, to: None, if_exists }
    } else if let Some((_, sort)) = along.into_iter().find(|(word, _)| words.takes(word)) {
        let if_exists = if_exists(words)?;
        Act::DropAlong { sort, name: words.name()?, table: on_table(words)?, if_exists }
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
    let is_constraint = !is_replaced && words.takes("constraint");
    if words.takes("trigger") {
        words.name()?;
        // What sets it off, up to the table.
        while !words.is("on") {
            words.skip()?;
        }
        let table = on_table(words)?;
        // Another table that a constraint is about.
        let other = if is_constraint && words.takes("from") { Some(what(words, Sort::Part)?) } else { None };
        let (is_plain, is_of_rows) = (!words.has("when"), words.has("row"));
        while !words.is("execute") {
            if words.is("from") {
                return None;
            }
            words.skip()?;
        }
        let is_known = words.takes("execute") && words.takes_any(&["function", "procedure"]);
        let function = is_known.then(|| words.path())??;
        words.takes_rest();
        return Some(Act::Trigger {
            tables: std::iter::once(table).chain(other).collect(),
            function: What { sort: Sort::Routine(&[Class::Function]), name: function, arguments: Some(Vec::new()) },
            is_plain,
            is_of_rows,
        });
    }
    if words.is("function") || words.is("procedure") {
        return create_routine(words, is_replaced);
    }
    if is_replaced || is_constraint {
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
        let name = words.path()?;
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
        let name = words.path()?;
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
    let name = words.path()?;
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
            "leakproof" => is_strong = true,
            "window" => {}
            "set" => {
                let setting = words.name()?.to_lowercase();
                // Another path changes which names the body means.
                let is_plain = settings::is_open(&setting)
                    && setting != "search_path"
                    && (words.takes("to") || words.takes_token(&Token::Eq))
                    && words.list(|words| (words.name().is_some() || words.takes_text() || words.takes_number()).then_some(())).is_some();
                is_plain.then_some(())?;
            }
            "as" => {
                body = words.list(Words::any_text)?.into_iter().next();
            }
            other => routine_option(words, other)?,
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
    if words.is("trigger") || words.is("rule") {
        let is_trigger = words.word()? == "trigger";
        let name = words.name()?;
        let what = on_table(words)?;
        if words.takes_both("rename", "to") {
            return words.name().map(|_| Act::Change { what, also: Vec::new() });
        }
        return (is_trigger && depends(words).is_some()).then_some(Act::Tie { trigger: Some(name), what });
    }
    if words.takes_both("event", "trigger") {
        let name = words.name()?;
        let to = match () {
            () if words.takes_both("owner", "to") => Some(named(words)?),
            () if words.takes_both("rename", "to") => words.name().map(|_| None)?,
            () if words.takes("enable") => {
                words.takes_any(&["replica", "always"]);
                None
            }
            () => words.takes("disable").then_some(None)?,
        };
        return Some(Act::EventTrigger { name, to, if_exists: false });
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
    let place = words.place();
    if matches!(sort, Sort::Relation(_) | Sort::Routine(_)) && depends(words).is_some() {
        return Some(Act::Tie { trigger: None, what });
    }
    words.go_to(place);
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
        Sort::Relation(_) if words.takes_both("set", "tablespace") => {
            words.name()?;
            words.takes("nowait");
            Some(Act::Unfollowed { what, why: "whether that tablespace may be used: tablespaces are not listed" })
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

/// Reads the extension that something depends on, which needs nothing.
fn depends(words: &mut Words) -> Option<String> {
    words.takes("no");
    (words.takes_both("depends", "on") && words.takes("extension")).then(|| words.name())?
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
            "leakproof" => is_strong = true,
            "restrict" => {}
            "reset" => words.name().map(|_| ())?,
            "set" => {
                // Who may set it is looked at, too.
                let setting = words.name()?.to_lowercase();
                if !settings::is_open(&setting) || !words.takes_rest() {
                    return None;
                }
            }
            other => routine_option(words, other)?,
        }
    }
    Some(if is_strong { Act::Strong { what } } else { Act::Change { what, also: Vec::new() } })
}

/// Reads what is said of a routine, for which nothing more is checked, behind its first word.
fn routine_option(words: &mut Words, word: &str) -> Option<()> {
    match word {
        "immutable" | "stable" | "volatile" | "strict" => Some(()),
        "called" => (words.takes("on") && words.takes("null") && words.takes("input")).then_some(()),
        "returns" => (words.takes("null") && words.takes("on") && words.takes("null") && words.takes("input")).then_some(()),
        "security" => words.takes_any(&["definer", "invoker"]).then_some(()),
        "not" => words.takes("leakproof").then_some(()),
        "parallel" => words.word().map(|_| ()),
        "cost" | "rows" => words.takes_number().then_some(()),
        _ => None,
    }
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
            if words.takes_both("access", "method") {
                return words.name().map(|_| None);
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
        "attach" if words.takes("partition") => {
            let part = what(words, ANY)?;
            // What bounds it is worked out of values.
            (words.takes("default") || words.takes_both("for", "values") && words.takes_bounds()).then_some(Some(part))
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
                || (words.takes_both("set", "storage") || words.takes_both("set", "compression")) && words.name().is_some()
                || words.takes_any(&["set", "reset"]) && in_parentheses(words).is_some();
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
