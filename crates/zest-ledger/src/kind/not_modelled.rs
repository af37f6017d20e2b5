//! What a database server looks at and a ledger only names: policies, triggers, checks and their like.
//!
//! A note is a text whose first word is its sort, such as `check tide-is-positive` or `trigger log on insert`. Whatever
//! act looks at such a thing is not decided. A ledger without a note says that there is none.

use std::collections::BTreeSet;

use crate::finding::{Code, Finding, nearest_hint};
use crate::source::{At, visible};

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
            Self::SignIn => "sign-in",
        }
    }
}

use Touch::{Call, Cast, Delete, Insert, Make, Select, SignIn, Truncate, Update};

const ROWS: &[Touch] = &[Select, Insert, Update, Delete];
const WRITES: &[Touch] = &[Insert, Update];
const ALL: &[Touch] = &[Select, Insert, Update, Delete, Truncate, Call, Cast, Make];

/// Each sort with the acts that look at it; `docs/databases.md` shows the same table.
const SORTS: &[(&str, &[Touch])] = &[
    ("policy", ROWS),
    ("forced", ROWS),
    ("rule", ROWS),
    ("trigger", &[Insert, Update, Delete, Truncate]),
    ("default", WRITES),
    ("generated", WRITES),
    ("check", &[Insert, Update, Cast]),
    ("index", WRITES),
    ("key", &[Insert, Update, Delete]),
    ("type", &[Select, Insert, Update, Delete, Cast]),
    ("foreign", &[Select, Insert, Update, Delete, Truncate]),
    ("body", &[Call]),
    ("setting", ALL),
    ("rights", ALL),
    ("operator", ALL),
    ("cast", ALL),
    ("read-only", ALL),
    ("event", &[Make]),
    ("definer", ALL),
    ("requirement", &[SignIn]),
    ("plugin", &[SignIn]),
    ("names", &[]),
    ("gone", &[]),
];

fn acts(note: &str) -> Option<&'static [Touch]> {
    let first = note.split_whitespace().next()?;
    SORTS.iter().find(|(word, _)| *word == first).map(|(_, acts)| *acts)
}

/// Returns the first note that an act looks at. Where a trigger or a rule says `on insert`, other acts do not.
pub(crate) fn looked_at(notes: &BTreeSet<String>, touch: Touch) -> Option<&str> {
    let looks = |note: &&String| {
        let narrowed = matches!(note.split_whitespace().next(), Some("trigger" | "rule"));
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

/// Returns the first note of a server that a statement of `role` looks at: `setting search_path of app` is for `app`
/// alone, and `operator %% of public` for statements with that sign.
pub(crate) fn looked_at_on_server<'n>(notes: &'n BTreeSet<String>, role: &str, statement: &str, is_making: bool) -> Option<&'n str> {
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
    notes.iter().map(String::as_str).find(looks)
}

/// Takes the notes of an entry; each begins with a sort that is known.
pub(crate) fn notes(list: &[At<String>], findings: &mut Vec<Finding>) -> BTreeSet<String> {
    for note in list.iter().filter(|n| acts(&n.value).is_none()) {
        let first = note.value.split_whitespace().next().unwrap_or("");
        let near = nearest_hint(first, SORTS.iter().map(|(word, _)| *word));
        findings.push(
            Finding::new(Code::UnknownNotModelled, format!("`{}` does not say what sort of thing it is{near}", visible(&note.value)))
                .at(note.place, "expected a sort and a name, such as `check tide`")
                .help(format!("sorts: {}", SORTS.iter().map(|(word, _)| *word).collect::<Vec<_>>().join(", "))),
        );
    }
    list.iter().map(|n| n.value.clone()).collect()
}

/// Says on a MariaDB server that hosts of accounts are compared with addresses only: without it, an address may have a
/// name, and an account of that name come first.
pub(crate) const NAMES_NOT_RESOLVED: &str = "names are not resolved";

/// Says of an object of a MariaDB server that it is not there, while grants on it still stand; `gone column c` says so of a
/// column.
pub(crate) const GONE: &str = "gone";
