//! What a database server looks at and a ledger only names: policies, triggers, checks and their like.
//!
//! A note is a text whose first word is its sort, such as `check tide-is-positive` or `trigger log on insert`. Whatever
//! act looks at such a thing is not decided. A ledger without a note says that there is none.

use std::collections::BTreeSet;

use crate::sql::Verb;
use zest_model::finding::{Code, Finding};
use zest_model::source::{At, visible};
use zest_words::nearest_hint;

/// What an act does to an object, or on a server.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) enum Touch {
    /// Rows are read.
    Select,
    /// Rows are made.
    Insert,
    /// Rows are changed.
    Update,
    /// Rows are removed.
    Delete,
    /// All rows are removed at once.
    Truncate,
    /// A routine runs.
    Call,
    /// A value is turned into a type.
    Cast,
    /// Anything is made, changed, given or dropped.
    Make,
    /// A table is changed or looked after, with those below it.
    Alter,
    /// A column is given another type, so that all that rests on it is made anew.
    Retype,
    /// Something is made on a table and on each of its partitions.
    Part,
    /// A session is opened.
    SignIn,
}

impl Touch {
    const fn word(self) -> &'static str {
        match self {
            Self::Select => "select",
            Self::Insert => "insert",
            Self::Update => "update",
            Self::Delete => "delete",
            Self::Truncate => "truncate",
            Self::Call => "call",
            Self::Cast => "cast",
            Self::Make => "make",
            Self::Alter => "alter",
            Self::Retype => "retype",
            Self::Part => "part",
            Self::SignIn => "sign-in",
        }
    }
}

impl From<Verb> for Touch {
    fn from(verb: Verb) -> Self {
        match verb {
            // Rows that are locked are read.
            Verb::Select | Verb::Lock => Self::Select,
            Verb::Insert => Self::Insert,
            Verb::Update => Self::Update,
            Verb::Delete => Self::Delete,
        }
    }
}

use Touch::{Alter, Call, Cast, Delete, Insert, Make, Part, Retype, Select, SignIn, Truncate, Update};

const ROWS: &[Touch] = &[Select, Insert, Update, Delete];
const WRITES: &[Touch] = &[Insert, Update];
const ALL: &[Touch] = &[Select, Insert, Update, Delete, Truncate, Call, Cast, Make];

/// Each sort with what it is, and the acts that look at it.
const SORTS: &[(&str, &str, &[Touch])] = &[
    ("policy", "a policy of row security that uses an operator, a cast or a type which is not read", ROWS),
    ("forced", "row security that binds the owner as well", ROWS),
    ("rule", "a rule that is not read, or uses such a thing; with `on insert` and the like, those acts only", ROWS),
    (
        "trigger",
        "a trigger that is not read (tables below others; on MariaDB one whose definer is a role or gone, or that was made under a mode which reads texts otherwise); with `on insert` and the like, those acts only",
        &[Insert, Update, Delete, Truncate],
    ),
    ("default", "a default of a column that uses such a thing", WRITES),
    ("generated", "a generated column that calls something", WRITES),
    ("check", "a CHECK that uses such a thing, of a table, or of a type of it", &[Insert, Update, Cast]),
    ("index", "an index with expressions that call something", WRITES),
    ("key", "a foreign key whose owners lack a right, or that sets off triggers", &[Insert, Update, Delete]),
    ("type", "a type that is neither of the server, nor an enumeration, a domain or a row", &[Select, Insert, Update, Delete, Cast]),
    ("foreign", "a table of another server", &[Select, Insert, Update, Delete, Truncate]),
    ("body", "a body in `BEGIN ATOMIC` that uses such a thing, or one that was made under a mode which reads texts otherwise", &[Call]),
    ("setting", "a setting of everybody's sessions, or of a role's in one database; with `of ROLE`, of that role's", ALL),
    ("rights", "changed rights on something that is built in", ALL),
    ("operator", "an operator on built-in types, for statements with its sign", ALL),
    ("cast", "a cast between built-in types", ALL),
    (
        "catalog",
        "changed rights on a table, view or function of the server's own, or on `information_schema`; with its name, for statements that use it",
        &[],
    ),
    ("below", "a table below this one, as its partition or heir, that belongs to somebody else (PostgreSQL)", &[Alter]),
    ("pointing", "a table of somebody else's whose key points to this one, and is made anew with its columns (PostgreSQL)", &[Retype]),
    ("part", "a partition of this table with another owner or other rights (PostgreSQL)", &[Part]),
    ("typed", "a table of this type that belongs to somebody else (PostgreSQL)", &[Alter]),
    ("system", "`system column tableoid` and the like: rights on a column that every table has (PostgreSQL)", &[]),
    ("parameter", "rights on a setting that somebody was given", &[]),
    ("tablespace", "changed rights on a tablespace", &[]),
    ("own", "`own tables of mysql` and the like: grants on single tables of the server's own (MariaDB)", &[]),
    ("binlog", "functions and triggers are made by superusers alone, for the binary log's sake (MariaDB)", &[]),
    ("read-only", "a server that takes no changes", ALL),
    ("event", "`event trigger NAME of OWNER`: a trigger on what is made, changed, given or dropped", &[Make]),
    ("disabled", "`disabled event trigger NAME of OWNER`: one that does not fire (PostgreSQL)", &[]),
    ("definer", "a definer that is a role, or gone", ALL),
    (
        "requirement",
        "encryption or a certificate that an account needs, or every session that is not over the server's own socket",
        &[SignIn],
    ),
    ("plugin", "another way to sign in than by password", &[SignIn]),
    ("names", "`names are not resolved`: the hosts of accounts are addresses (MariaDB)", &[]),
    ("identity", "an identity column, whose sequence is its own (PostgreSQL)", &[]),
    ("sequence", "a sequence, which is listed among the tables (MariaDB)", &[]),
    ("gone", "an object, or `column NAME`, that is gone while grants on it stand (MariaDB)", &[]),
];

/// Returns what a ledger may name under `not-modelled`: each sort, what it is, and the acts that are not decided for it.
///
/// # Example
/// ```
/// let table = zest_ledger::not_modelled();
/// assert!(table.iter().any(|(sort, _, acts)| *sort == "check" && acts.contains(&"insert") && !acts.contains(&"select")));
/// ```
#[must_use]
pub fn not_modelled() -> Vec<(&'static str, &'static str, Vec<&'static str>)> {
    SORTS.iter().map(|(sort, about, acts)| (*sort, *about, acts.iter().map(|t| t.word()).collect())).collect()
}

/// Returns what sort of thing a note names.
pub(crate) fn sort_of(note: &str) -> &str {
    note.split_whitespace().next().unwrap_or_default()
}

fn acts(note: &str) -> Option<&'static [Touch]> {
    SORTS.iter().find(|(word, ..)| *word == sort_of(note)).map(|(.., acts)| *acts)
}

/// Returns the first note that an act looks at. Where a trigger or a rule says `on insert`, other acts do not.
pub(crate) fn looked_at(notes: &BTreeSet<String>, touch: Touch) -> Option<&str> {
    let looks = |note: &&String| {
        let narrowed = matches!(sort_of(note), "trigger" | "rule");
        let on = note.rsplit_once(" on ").filter(|_| narrowed).map(|(_, events)| events);
        let events = on.filter(|events| {
            events
                .split([',', ' '])
                .filter(|w| !w.is_empty())
                .all(|w| [Select, Insert, Update, Delete, Truncate].iter().any(|t| t.word() == w))
        });
        acts(note).is_none_or(|acts| acts.contains(&touch)) && events.is_none_or(|e| e.split([',', ' ']).any(|w| w == touch.word()))
    };
    notes.iter().find(looks).map(String::as_str)
}

/// Says which note of a server a statement of `role` looks at first: `setting search_path of app` is for `app`
/// alone, and `operator %% of public` for statements with that sign.
pub(crate) fn looked_at_on_server(notes: &BTreeSet<String>, role: &str, statement: &str, is_making: bool) -> Option<String> {
    let looks = |note: &&str| {
        let mut words = note.split_whitespace();
        let (sort, name) = (words.next().unwrap_or(""), words.next().unwrap_or(""));
        let touches = acts(note).is_none_or(|acts| acts.contains(&Select) || is_making && acts.contains(&Make));
        touches
            && match sort {
                "setting" => note.split_once(" of ").is_none_or(|(_, of)| of == role),
                "operator" => statement.contains(name),
                _ => true,
            }
    };
    let note = notes.iter().map(String::as_str).find(looks)?;
    Some(format!("the server has {note}, which is not modelled"))
}

/// Returns whose an event trigger is, after the notes of its server; nothing where there is none of this name. The text says why it is not
/// known.
#[cfg(feature = "postgresql")]
pub(crate) fn owner_of_event_trigger(notes: &BTreeSet<String>, name: &str) -> Result<Option<String>, String> {
    let mut is_clear = true;
    for note in notes.iter().filter(|note| matches!(sort_of(note), "event" | "disabled")) {
        let written = note.strip_prefix("disabled ").unwrap_or(note).strip_prefix("event trigger ");
        match written.and_then(|written| written.split_once(" of ")) {
            Some((found, owner)) if !owner.contains(" of ") => {
                if found == name {
                    return Ok(Some(owner.to_owned()));
                }
            }
            Some(_) | None => is_clear = false,
        }
    }
    if is_clear { Ok(None) } else { Err(format!("whose the event trigger `{name}` is")) }
}

/// Takes the notes of an entry; each begins with a sort that is known.
pub(crate) fn notes(list: &[At<String>], findings: &mut Vec<Finding>) -> BTreeSet<String> {
    for note in list.iter().filter(|n| acts(&n.value).is_none()) {
        let first = sort_of(&note.value);
        let near = nearest_hint(first, SORTS.iter().map(|(word, ..)| *word));
        findings.push(
            Finding::new(Code::UnknownNotModelled, format!("`{}` does not say what sort of thing it is{near}", visible(&note.value)))
                .at(note.place, "expected a sort and a name, such as `check tide`")
                .help(format!("sorts: {}", SORTS.iter().map(|(word, ..)| *word).collect::<Vec<_>>().join(", "))),
        );
    }
    list.iter().map(|n| n.value.clone()).collect()
}

#[cfg(feature = "mariadb")]
/// Says on a MariaDB server that hosts of accounts are compared with addresses only: without it, an address may have a
/// name, and an account of that name come first.
pub(crate) const NAMES_NOT_RESOLVED: &str = "names are not resolved";

#[cfg(feature = "mariadb")]
/// Says of an object of a MariaDB server that it is not there, while grants on it still stand; `gone column c` says so of a
/// column.
pub(crate) const GONE: &str = "gone";
