//! Which rows of a table are asked for, and whether row security keeps any of them back.
//!
//! Policies are conditions, and what they come to hangs on the rows. So they are taken by the word: rows of which a condition holds pass
//! where a policy that permits says just that, or a part of it, and so does each that restricts. Where no condition is asked for, every row
//! must pass, whatever it holds.

use std::collections::BTreeSet;
use std::fmt;

use zest_model::entry::PolicyFor;

use super::catalog::Catalog;
use super::policy::{Part, conditions};
use super::privilege::Privilege;
use super::state::{Object, Policy};
use crate::sql::{AllOf, Condition, Dialect, in_one_wording};

/// Rows that are asked for.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(crate) struct Rows {
    /// Whether rows that are there are meant, or new ones.
    pub(crate) part: Part,
    which: Which,
    /// The ways in which their condition can hold.
    ways: Vec<AllOf>,
}

#[derive(Clone, Debug, PartialEq, Eq)]
enum Which {
    Every,
    Where(String),
    /// All that policies tell apart, which are too many for being asked for one by one: nothing is decided of them.
    TooMany,
}

/// How many conditions of policies that permit are asked for one by one, for one privilege on one table.
const MANY: usize = 256;

/// How many conditions all questions name together that name several: one of a policy that permits, and those of all that restrict.
const MANY_NAMED: usize = 4_096;

/// How a question for a privilege ends that asks for rows: every one, those of a condition, and all that are told apart.
const ENDS: [(Part, [&str; 3]); 2] = [
    (Part::Using, [" for every row", " for rows where ", " for the rows that its policies tell apart"]),
    (Part::Check, [" for every new row", " for new rows where ", " for the new rows that its policies tell apart"]),
];

impl Rows {
    /// Takes apart what a privilege is asked on: `table fares.price for every row`.
    pub(crate) fn read(on: &str) -> Option<(&str, Self)> {
        ENDS.into_iter().find_map(|(part, [every, of_condition, too_many])| {
            let whole = |end: &str, which: Which| Some((on.strip_suffix(end)?, Self { part, which, ways: vec![AllOf::new()] }));
            let of = || on.split_once(of_condition).map(|(object, text)| (object, Self::of(part, text)));
            whole(every, Which::Every).or_else(|| whole(too_many, Which::TooMany)).or_else(of)
        })
    }

    fn of(part: Part, condition: &str) -> Self {
        let ways = Condition::read(Dialect::Postgresql, condition).ways();
        Self { part, which: Which::Where(condition.to_owned()), ways }
    }

    /// Says why nothing is decided of them for somebody whom policies bind.
    pub(crate) fn not_decided(&self, entry: &Object) -> Option<&'static str> {
        match (&entry.policies, &self.which) {
            (None, _) => Some("no `policies` are written"),
            (Some(_), Which::TooMany) => Some("they are too many to be told apart"),
            (Some(_), Which::Every | Which::Where(_)) => None,
        }
    }

    /// Returns the condition, if the policies of a table do not say all of it.
    pub(crate) fn beyond(&self, catalog: &Catalog, entry: &Object) -> Option<&str> {
        let Which::Where(condition) = &self.which else { return None };
        let policies = || entry.policies.iter().flat_map(|policies| policies.values());
        let texts = policies().flat_map(|policy| [&policy.using, &policy.check]).flatten();
        let said: BTreeSet<&String> = texts.flat_map(|text| catalog.suffices(text)).flatten().collect();
        let is_said = self.ways.iter().flatten().all(|condition| said.contains(condition));
        (!is_said).then_some(condition)
    }

    /// Returns those by which roles are told apart that the policies of a table treat differently: every row, those that each policy which
    /// permits speaks of, also where all hold that restrict, and those that all speak of but one of these.
    pub(crate) fn told_apart(entry: &Object, privilege: Privilege) -> Vec<Self> {
        let mut list: Vec<Self> = Vec::new();
        for &(acts, part) in looked_at(privilege) {
            let of = |restrictive: bool| -> BTreeSet<&str> {
                let all = entry.policies.iter().flat_map(|policies| policies.values()).filter(|policy| policy.restrictive == restrictive);
                let speaking = all.filter(|Policy { acts: of, .. }| *of == PolicyFor::All || *of == acts);
                speaking.filter_map(|policy| policy.condition(part)).collect()
            };
            let (permitting, restricting) = (of(false), of(true));
            let mut texts: Vec<String> = Vec::new();
            let permitted: BTreeSet<AllOf> =
                permitting.iter().flat_map(|text| Condition::read(Dialect::Postgresql, text).parts()).collect();
            let named = permitted.len() * restricting.len() + restricting.len() * (permitting.len() + restricting.len());
            let is_too_much = permitted.len() > MANY || named > MANY_NAMED;
            if permitted.len() <= MANY {
                texts.extend(permitted.iter().map(|permits| together(permits.iter().map(String::as_str))));
            }
            if !is_too_much && !restricting.is_empty() {
                let all = restricting.iter().copied();
                texts.extend(permitted.iter().map(|permits| together(permits.iter().map(String::as_str).chain(all.clone()))));
                for left in &restricting {
                    let others = restricting.iter().copied().filter(|other| other != left);
                    texts.push(together(permitting.iter().copied().chain(others)));
                }
            }
            let whole = |which: Which| Self { part, which, ways: vec![AllOf::new()] };
            let mut known: BTreeSet<Vec<AllOf>> = BTreeSet::new();
            let of_texts = texts.iter().filter(|text| !text.is_empty()).map(|text| Self::of(part, text));
            list.extend(std::iter::once(whole(Which::Every)).chain(of_texts).filter(|rows| known.insert(rows.ways.clone())));
            list.extend(is_too_much.then(|| whole(Which::TooMany)));
        }
        list
    }

    /// Returns whether the policies of a table let a role do with all of these rows what a privilege is for.
    ///
    /// # Errors
    /// What they look at: the conditions of those that permit, and of those that restrict.
    pub(crate) fn pass<'p>(
        &self,
        catalog: &Catalog,
        role: &str,
        entry: &'p Object,
        privilege: Privilege,
    ) -> Result<(), (Vec<&'p str>, Vec<&'p str>)> {
        let Some((acts, part)) = looked_at(privilege).iter().find(|(_, part)| *part == self.part) else { return Ok(()) };
        let (permitting, restricting) = conditions(catalog, role, entry, *acts, *part);
        let holds = |condition: &str, way: &AllOf| catalog.suffices(condition).iter().any(|enough| enough.is_subset(way));
        let is_let = |way: &AllOf| permitting.iter().any(|one| holds(one, way)) && restricting.iter().all(|one| holds(one, way));
        if self.ways.iter().all(is_let) { Ok(()) } else { Err((permitting, restricting)) }
    }
}

impl fmt::Display for Rows {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let (_, [every, of_condition, too_many]) = if self.part == Part::Using { ENDS[0] } else { ENDS[1] };
        match &self.which {
            Which::Every => f.write_str(every),
            Which::Where(condition) => write!(f, "{of_condition}{condition}"),
            Which::TooMany => f.write_str(too_many),
        }
    }
}

/// Returns whether what the policies of a table say for a privilege is too much for being asked for one by one.
pub(crate) fn is_too_much(entry: &Object, privilege: Privilege) -> bool {
    Rows::told_apart(entry, privilege).iter().any(|rows| rows.which == Which::TooMany)
}

/// Writes conditions that all hold as one.
fn together<'c>(conditions: impl Iterator<Item = &'c str>) -> String {
    let all: Vec<String> = conditions.map(|one| in_one_wording(Dialect::Postgresql, one)).collect();
    match all.as_slice() {
        // Alone, most read the same without their brackets.
        [one] => {
            let bare = one.strip_prefix('(').and_then(|rest| rest.strip_suffix(')'));
            bare.filter(|bare| in_one_wording(Dialect::Postgresql, bare) == *one).unwrap_or(one).to_owned()
        }
        several => several.join(" AND "),
    }
}

/// Returns the policies that are looked at for a privilege, and which part of each: nothing where rows do not matter to it.
pub(crate) const fn looked_at(privilege: Privilege) -> &'static [(PolicyFor, Part)] {
    match privilege {
        Privilege::Select => &[(PolicyFor::Select, Part::Using)],
        Privilege::Insert => &[(PolicyFor::Insert, Part::Check)],
        Privilege::Update => &[(PolicyFor::Update, Part::Using), (PolicyFor::Update, Part::Check)],
        Privilege::Delete => &[(PolicyFor::Delete, Part::Using)],
        Privilege::Truncate | Privilege::References | Privilege::Trigger | Privilege::Usage => &[],
        Privilege::Create | Privilege::Connect | Privilege::Temporary | Privilege::Execute => &[],
    }
}
