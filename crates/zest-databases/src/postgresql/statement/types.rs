//! Types as statements and ledgers write them, and the arguments of routines.

use sqlparser::tokenizer::Token;

use super::BUILT_IN_TYPES;
use crate::sql::Words;

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

pub(super) fn is_built_in(printed: &str) -> bool {
    OTHER_TYPES.contains(&printed) || BUILT_IN_TYPES.contains(&printed)
}

/// Reads the types of arguments in parentheses.
pub(super) fn arguments(words: &mut Words) -> Option<Vec<[String; 2]>> {
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
pub(super) fn argument(words: &mut Words) -> Option<Option<[String; 2]>> {
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
