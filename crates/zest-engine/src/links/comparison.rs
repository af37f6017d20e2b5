//! Comparisons of attributes: `user.pier = resource.pier`, `resource.class != 'sealed'`.

use std::fmt;

use rustc_hash::FxHashMap;

use super::Index;
use super::condition::{Facts, Outcome};
use zest_model::entries::Entries;
use zest_model::source::{At, Place};

/// Whose attribute is meant.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) enum Scope {
    User,
    Resource,
    Session,
    System,
}

impl Scope {
    pub(crate) const fn word(self) -> &'static str {
        match self {
            Self::User => "user",
            Self::Resource => "resource",
            Self::Session => "session",
            Self::System => "system",
        }
    }

    fn from_word(word: &str) -> Option<Self> {
        [Self::User, Self::Resource, Self::Session, Self::System].into_iter().find(|s| s.word() == word)
    }

    /// Says where such an attribute is declared.
    pub(crate) const fn help(self) -> &'static str {
        match self {
            Self::User => "users have `id`, and what stands in their `attributes`",
            Self::Resource => "resources have `path` and `name`, and what stands in their `attributes`",
            Self::Session => "sessions may state what stands in `session-attributes` of the system, or in `may-state` of an assumed role",
            Self::System => "systems have their `labels`",
        }
    }
}

/// One side of a comparison.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(crate) enum Operand {
    Attribute(Scope, String),
    Literal(String),
}

impl Operand {
    fn parse(text: &str) -> Option<Self> {
        let text = text.trim();
        let quoted = |quote: char| text.strip_prefix(quote)?.strip_suffix(quote).filter(|inner| !inner.contains(quote));
        if let Some(inner) = quoted('\'').or_else(|| quoted('"')) {
            return Some(Self::Literal(inner.to_owned()));
        }
        if number(text).is_some() {
            return Some(Self::Literal(text.to_owned()));
        }
        let (scope, name) = text.split_once('.')?;
        let is_name = !name.is_empty() && name.chars().all(|c| c.is_alphanumeric() || matches!(c, '-' | '_'));
        Some(Self::Attribute(Scope::from_word(scope)?, name.to_owned())).filter(|_| is_name)
    }

    fn value<'a>(&'a self, facts: &Facts<'a>) -> Option<&'a str> {
        let Self::Attribute(scope, name) = self else {
            let Self::Literal(text) = self else { return None };
            return Some(text);
        };
        let find = |list: &'a [(At<String>, At<String>)]| list.iter().find(|(k, _)| k.value == *name).map(|(_, v)| v.value.as_str());
        match scope {
            Scope::User => {
                let (id, attributes) = facts.user.map(|user| (user.id.value.as_str(), &user.attributes))?;
                if name == "id" { Some(id) } else { find(attributes) }
            }
            Scope::Resource => {
                let (path, attributes) = facts.resource?;
                match name.as_str() {
                    "path" => Some(path),
                    "name" => path.rsplit('/').next(),
                    _ => find(attributes?),
                }
            }
            Scope::Session => facts.session.attributes.iter().find(|(k, _)| k == name).map(|(_, v)| v.as_str()),
            Scope::System => find(facts.labels),
        }
    }
}

impl fmt::Display for Operand {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Self::Attribute(scope, name) => write!(f, "{}.{name}", scope.word()),
            Self::Literal(text) => write!(f, "'{text}'"),
        }
    }
}

#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) enum Relation {
    Equal,
    Unequal,
    Less,
    LessOrEqual,
    Greater,
    GreaterOrEqual,
}

/// One comparison. An attribute that is not there makes it neither true nor false.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(crate) struct Comparison {
    pub(crate) left: Operand,
    relation: Relation,
    pub(crate) right: Operand,
}

/// Longer ones first, so that `<=` is not read as `<`.
const RELATIONS: [(&str, Relation); 6] = [
    ("!=", Relation::Unequal),
    ("<=", Relation::LessOrEqual),
    (">=", Relation::GreaterOrEqual),
    ("=", Relation::Equal),
    ("<", Relation::Less),
    (">", Relation::Greater),
];

impl Comparison {
    /// Reads a comparison, or says how it should be written.
    pub(crate) fn parse(text: &str) -> Result<Self, &'static str> {
        const FORM: &str = "write it like \"user.pier = resource.pier\", \"resource.class != 'sealed'\" or \"session.amount <= 500\"";
        // The first relation outside of quotes.
        let mut quote = None;
        for (at, c) in text.char_indices() {
            match quote {
                Some(open) if c == open => quote = None,
                None if matches!(c, '\'' | '"') => quote = Some(c),
                None => {
                    if let Some((sign, relation)) = RELATIONS.into_iter().find(|(sign, _)| text[at..].starts_with(sign)) {
                        let (left, right) = (Operand::parse(&text[..at]), Operand::parse(&text[at + sign.len()..]));
                        let (Some(left), Some(right)) = (left, right) else { return Err(FORM) };
                        if matches!((&left, &right), (Operand::Literal(_), Operand::Literal(_))) {
                            return Err("one side at least is an attribute: `user.…`, `resource.…`, `session.…` or `system.…`");
                        }
                        return Ok(Self { left, relation, right });
                    }
                }
                Some(_) => {}
            }
        }
        Err(FORM)
    }

    /// `=` and `!=` compare texts; the others whole numbers, and are not known for anything else.
    pub(crate) fn outcome(&self, facts: &Facts<'_>) -> Outcome {
        let (Some(left), Some(right)) = (self.left.value(facts), self.right.value(facts)) else { return Outcome::Unknown };
        let holds = match self.relation {
            Relation::Equal => left == right,
            Relation::Unequal => left != right,
            relation => {
                let (Some(left), Some(right)) = (number(left), number(right)) else { return Outcome::Unknown };
                match relation {
                    Relation::Less => left < right,
                    Relation::LessOrEqual => left <= right,
                    Relation::Greater => left > right,
                    _ => left >= right,
                }
            }
        };
        if holds { Outcome::Holds } else { Outcome::Fails }
    }

    /// Returns the comparison with all filled in but what the session states; nothing where it does not look at that, or is not known
    /// whatever is stated.
    pub(crate) fn of_session(&self, facts: &Facts<'_>) -> Option<Self> {
        let filled = |operand: &Operand| match operand {
            Operand::Attribute(Scope::Session, _) | Operand::Literal(_) => Some(operand.clone()),
            Operand::Attribute(Scope::User | Scope::Resource | Scope::System, _) => {
                operand.value(facts).map(|value| Operand::Literal(value.to_owned()))
            }
        };
        let filled = Self { left: filled(&self.left)?, relation: self.relation, right: filled(&self.right)? };
        let looks = filled.stated().next().is_some();
        looks.then_some(filled)
    }

    /// Returns the attributes of the session that are compared.
    pub(crate) fn stated(&self) -> impl Iterator<Item = &str> {
        [&self.left, &self.right].into_iter().filter_map(|operand| match operand {
            Operand::Attribute(Scope::Session, name) => Some(name.as_str()),
            Operand::Attribute(..) | Operand::Literal(_) => None,
        })
    }

    /// Returns what is compared with that is written out.
    pub(crate) fn literals(&self) -> impl Iterator<Item = &str> {
        [&self.left, &self.right].into_iter().filter_map(|operand| match operand {
            Operand::Literal(text) => Some(text.as_str()),
            Operand::Attribute(..) => None,
        })
    }

    /// Returns the first attribute that is not known, and what could be said about it.
    pub(crate) fn unknown(&self, facts: &Facts<'_>) -> Option<&Operand> {
        [&self.left, &self.right].into_iter().find(|o| o.value(facts).is_none())
    }

    /// For a comparison for equality of a session's attribute: its name and the value that would make it hold.
    pub(crate) fn session_value<'a>(&'a self, facts: &Facts<'a>) -> Option<(&'a str, &'a str)> {
        let name = |o: &'a Operand| if let Operand::Attribute(Scope::Session, name) = o { Some(name.as_str()) } else { None };
        let other = |o: &'a Operand| o.value(facts);
        match self.relation {
            Relation::Equal | Relation::LessOrEqual | Relation::GreaterOrEqual => {
                name(&self.left).zip(other(&self.right)).or_else(|| name(&self.right).zip(other(&self.left)))
            }
            _ => None,
        }
    }

    /// Finds two comparisons that never hold together, or one that never holds.
    pub(crate) fn contradiction(list: &[At<Self>]) -> Option<(Place, Place)> {
        for (i, one) in list.iter().enumerate() {
            let is_strict = matches!(one.value.relation, Relation::Unequal | Relation::Less | Relation::Greater);
            if is_strict && one.value.left == one.value.right {
                return Some((one.place, one.place));
            }
            for other in &list[i + 1..] {
                if one.value.excludes(&other.value) {
                    return Some((one.place, other.place));
                }
            }
        }
        None
    }

    /// Returns whether two comparisons of one attribute with fixed values never hold together.
    fn excludes(&self, other: &Self) -> bool {
        let (Some((a, one, x)), Some((b, two, y))) = (self.fixed(), other.fixed()) else { return false };
        if a != b {
            return false;
        }
        match (one, two) {
            (Relation::Equal, Relation::Equal) => x != y,
            (Relation::Equal, Relation::Unequal) | (Relation::Unequal, Relation::Equal) => x == y,
            (Relation::Unequal, _) | (_, Relation::Unequal) => false,
            _ => {
                let (Some((low_a, high_a)), Some((low_b, high_b))) = (range(one, x), range(two, y)) else { return false };
                low_a.max(low_b) > high_a.min(high_b)
            }
        }
    }

    /// The comparison as one of an attribute with a fixed value.
    fn fixed(&self) -> Option<(&Operand, Relation, &str)> {
        match (&self.left, &self.right) {
            (attribute @ Operand::Attribute(..), Operand::Literal(value)) => Some((attribute, self.relation, value)),
            (Operand::Literal(value), attribute @ Operand::Attribute(..)) => {
                let turned = match self.relation {
                    Relation::Less => Relation::Greater,
                    Relation::LessOrEqual => Relation::GreaterOrEqual,
                    Relation::Greater => Relation::Less,
                    Relation::GreaterOrEqual => Relation::LessOrEqual,
                    same => same,
                };
                Some((attribute, turned, value))
            }
            _ => None,
        }
    }
}

impl fmt::Display for Comparison {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let sign = RELATIONS.into_iter().find(|&(_, r)| r == self.relation).map_or("", |(s, _)| s);
        write!(f, "{} {sign} {}", self.left, self.right)
    }
}

fn number(text: &str) -> Option<i64> {
    text.parse().ok()
}

/// The numbers for which a comparison with a fixed value holds, both ends included.
fn range(relation: Relation, value: &str) -> Option<(i64, i64)> {
    let value = number(value)?;
    Some(match relation {
        Relation::Less => (i64::MIN, value.checked_sub(1)?),
        Relation::LessOrEqual => (i64::MIN, value),
        Relation::Greater => (value.checked_add(1)?, i64::MAX),
        Relation::GreaterOrEqual => (value, i64::MAX),
        _ => (value, value),
    })
}

/// Returns the names of attributes that something in the ledger has, by what has them.
pub(super) fn attributes(entries: &Entries) -> FxHashMap<&'static str, Index<()>> {
    let mut known: FxHashMap<&'static str, Index<()>> = FxHashMap::default();
    let mut add = |scope: Scope, names: &mut dyn Iterator<Item = &str>| {
        known.entry(scope.word()).or_default().extend(names.map(|n| (n.into(), ())));
    };
    let keys = |list: &[(At<String>, At<String>)]| list.iter().map(|(k, _)| k.value.clone()).collect::<Vec<_>>();
    let users: Vec<String> = entries.users.iter().flat_map(|u| keys(&u.attributes)).chain(["id".to_owned()]).collect();
    let resources = entries.services.iter().flat_map(|s| &s.resources).flat_map(|r| keys(&r.attributes));
    let resources: Vec<String> = resources.chain(["path".to_owned(), "name".to_owned()]).collect();
    let systems: Vec<String> = entries.systems.iter().flat_map(|s| keys(&s.labels)).collect();
    let stated = entries.services.iter().flat_map(|s| &s.session_attributes);
    let stated_by_roles = entries.roles.iter().filter_map(|r| r.assumable.as_ref()).flat_map(|a| &a.may_state);
    add(Scope::User, &mut users.iter().map(String::as_str));
    add(Scope::Resource, &mut resources.iter().map(String::as_str));
    add(Scope::System, &mut systems.iter().map(String::as_str));
    add(Scope::Session, &mut stated.chain(stated_by_roles).map(|t| t.value.as_str()));
    known
}
