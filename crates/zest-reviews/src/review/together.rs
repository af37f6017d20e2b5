//! What is listed alike stands together.

use rustc_hash::FxHashSet;

use zest_engine::links::SOMETHING;
use zest_engine::rights::Action;

/// Puts together what the same names are listed for, in the order of the first of each.
pub(super) fn of_one_name<'n, T>(named: impl Iterator<Item = (Vec<&'n str>, T)>) -> Vec<(Vec<&'n str>, Vec<T>)> {
    let mut list: Vec<(Vec<&str>, Vec<T>)> = Vec::new();
    for (names, what) in named {
        match list.iter_mut().find(|(known, _)| *known == names) {
            Some((_, all)) => all.push(what),
            None => list.push((names, vec![what])),
        }
    }
    list
}

/// Writes what may be done on something as few words: with the names of collections that are whole, privileges on columns together,
/// and what may be passed on apart from what may be done.
pub(super) fn in_few_words(names: &[&str], on: &str, actions: &[Action], collections: &[(String, Vec<String>)]) -> Vec<String> {
    let possible: Vec<&str> = actions.iter().filter(|action| action.under == on).map(|action| action.name.as_str()).collect();
    let mut left: Vec<&str> = names.to_vec();
    let mut list: Vec<String> = Vec::new();
    loop {
        // Of what the actions can be here, all that a collection names must be among them.
        let of = |all: &[String]| possible.iter().filter(|name| all.iter().any(|one| one == *name)).copied().collect::<Vec<_>>();
        let whole = collections.iter().map(|(name, all)| (name, of(all))).filter(|(_, all)| all.iter().all(|one| names.contains(one)));
        let gain = |all: &[&str]| all.iter().filter(|one| left.contains(one)).count();
        let Some((name, all)) = whole.max_by_key(|(_, all)| gain(all)).filter(|(_, all)| gain(all) > 2) else { break };
        left.retain(|one| !all.contains(one));
        list.push(name.clone());
    }
    let (passed, done): (Vec<&str>, Vec<&str>) = left.iter().partition(|name| name.starts_with(PASS_ON));
    list.extend(with_columns(&done));
    let passed: Vec<&str> = passed.iter().filter_map(|name| name.strip_prefix(PASS_ON)).collect();
    if !passed.is_empty() {
        let can_be_passed = |name: &&&str| possible.iter().any(|one| one.strip_prefix(PASS_ON) == Some(**name));
        let what = if passed.iter().eq(done.iter().filter(can_be_passed)) {
            "and to pass each on".to_owned()
        } else {
            format!("and to pass on {}", with_columns(&passed).join(" and "))
        };
        list.push(what);
    }
    list
}

/// How a question for the right to pass a privilege on begins.
const PASS_ON: &str = "pass on ";

/// Writes privileges on columns together: `update (amount, note)`.
fn with_columns(names: &[&str]) -> Vec<String> {
    let mut list: Vec<(String, Vec<&str>)> = Vec::new();
    for name in names {
        let (head, column) = match name.strip_suffix(')').and_then(|rest| rest.split_once(" (")) {
            Some((head, column)) => (head, Some(column)),
            None => (*name, None),
        };
        match list.iter_mut().find(|(known, columns)| known == head && !columns.is_empty()).filter(|_| column.is_some()) {
            Some((_, columns)) => columns.extend(column),
            None => list.push((head.to_owned(), column.into_iter().collect())),
        }
    }
    let one = |(head, columns): (String, Vec<&str>)| if columns.is_empty() { head } else { format!("{head} ({})", columns.join(", ")) };
    list.into_iter().map(one).collect()
}

/// Writes paths with all that is below them as one: of a path that is not declared, and all others below it, `path/**` is left.
pub(super) fn with_all_below(actions: &[Action], name: &str, on: &[&str]) -> Vec<String> {
    let below = |path: &str| {
        let all = actions.iter().filter(|action| action.name == name).map(|action| action.under.as_str());
        all.filter(|under| under.strip_prefix(path).is_some_and(|rest| rest.starts_with('/'))).collect::<Vec<_>>()
    };
    let listed: FxHashSet<&str> = on.iter().copied().collect();
    let mut list: Vec<String> = Vec::new();
    let mut whole: Vec<&str> = Vec::new();
    for path in on {
        if whole.iter().any(|above| path.strip_prefix(above).is_some_and(|rest| rest.starts_with('/'))) {
            continue;
        }
        let inner = below(path);
        if inner.iter().any(|under| under.ends_with(SOMETHING)) && inner.iter().all(|under| listed.contains(under)) {
            whole.push(path);
            list.push(format!("{path}/**"));
        } else {
            list.push((*path).to_owned());
        }
    }
    list
}
