//! A condition as others of which all, or any, must hold.

use std::collections::BTreeSet;

use sqlparser::ast::{BinaryOperator, Expr, Value};

use super::footprint::Dialect;
use super::wording::{in_one_wording, in_words, read_one};

/// Conditions that all hold, each in one wording; where there is none it is always so.
pub(crate) type AllOf = BTreeSet<String>;

/// How many ways in which a condition can hold are told apart; beyond that it is one condition.
const MANY: usize = 64;

/// A condition.
#[derive(Debug)]
pub(crate) enum Condition {
    /// One that is made of no others.
    One(String),
    /// All of these; with how it is worded as a whole.
    All(String, Vec<Self>),
    /// Any of these.
    Any(String, Vec<Self>),
}

impl Condition {
    /// Reads a text; what is no expression is one condition.
    pub(crate) fn read(dialect: Dialect, text: &str) -> Self {
        read_one(dialect, text, Self::of).unwrap_or_else(|| Self::One(in_one_wording(dialect, text)))
    }

    fn of(expr: &Expr) -> Self {
        let parts = |of: &BinaryOperator| {
            let mut all = Vec::new();
            chained(expr, of, &mut all);
            (in_words(expr), all.into_iter().map(Self::of).collect())
        };
        match expr {
            Expr::Nested(inner) => Self::of(inner),
            Expr::BinaryOp { op: and @ BinaryOperator::And, .. } => {
                let (text, parts) = parts(and);
                Self::All(text, parts)
            }
            Expr::BinaryOp { op: or @ BinaryOperator::Or, .. } => {
                let (text, parts) = parts(or);
                Self::Any(text, parts)
            }
            Expr::Value(value) if value.value == Value::Boolean(true) => Self::All(in_words(expr), Vec::new()),
            other => Self::One(in_words(other)),
        }
    }

    /// Returns what each suffices for it to hold, by what it says word for word.
    pub(crate) fn suffices(&self) -> Vec<AllOf> {
        self.enough(true)
    }

    /// Returns the same without what is made of others.
    pub(crate) fn parts(&self) -> Vec<AllOf> {
        self.enough(false)
    }

    fn enough(&self, as_whole_too: bool) -> Vec<AllOf> {
        match self {
            Self::One(text) => vec![AllOf::from([text.clone()])],
            Self::All(text, parts) => {
                product(parts.iter().map(|part| part.enough(as_whole_too))).unwrap_or_else(|| vec![AllOf::from([text.clone()])])
            }
            Self::Any(text, parts) => {
                let whole = AllOf::from([text.clone()]);
                let each: Vec<AllOf> = parts.iter().flat_map(|part| part.enough(as_whole_too)).collect();
                match (each.len() > MANY, as_whole_too) {
                    (true, _) => vec![whole],
                    (false, true) => each.into_iter().chain([whole]).collect(),
                    (false, false) => each,
                }
            }
        }
    }

    /// Returns the ways in which it can hold, each with all that holds then.
    pub(crate) fn ways(&self) -> Vec<AllOf> {
        match self {
            Self::One(text) => vec![AllOf::from([text.clone()])],
            Self::All(text, parts) => product(parts.iter().map(Self::ways)).unwrap_or_else(|| vec![AllOf::from([text.clone()])]),
            Self::Any(text, parts) => {
                let whole = AllOf::from([text.clone()]);
                let each: Vec<AllOf> = parts.iter().flat_map(Self::ways).map(|way| &way | &whole).collect();
                if each.len() > MANY { vec![whole] } else { each }
            }
        }
    }
}

/// Finds what stands between the same words, with or without brackets.
fn chained<'e>(expr: &'e Expr, word: &BinaryOperator, all: &mut Vec<&'e Expr>) {
    match expr {
        Expr::Nested(inner) => chained(inner, word, all),
        Expr::BinaryOp { left, op, right } if op == word => {
            chained(left, word, all);
            chained(right, word, all);
        }
        other => all.push(other),
    }
}

/// Returns every way to take one of each list together; nothing where these are too many.
fn product(lists: impl Iterator<Item = Vec<AllOf>>) -> Option<Vec<AllOf>> {
    lists.into_iter().try_fold(vec![AllOf::new()], |known, list| {
        let all = || known.iter().flat_map(|one| list.iter().map(move |other| one | other)).collect();
        (known.len() * list.len() <= MANY).then(all)
    })
}
