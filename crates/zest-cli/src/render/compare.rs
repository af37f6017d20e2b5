//! Who gained and who lost what: people to whom the same happened together.

use std::fmt::Write as _;

use zest_ledger::json::Alike;
use zest_ledger::review::{Difference, Membership, Moved, Right};
use zest_ledger::source::visible;

use super::effective::{listed, what};
use super::style::{BAD, FAINT, GOOD, HEAD, at, hanging};
use super::{answer, people};

/// People to whom the same happened, in the order of the first of them.
fn groups(found: &[Difference]) -> Vec<(Vec<&str>, &Difference)> {
    people::together(found, |one| &one.user, is_same)
}

fn is_same(one: &Difference, other: &Difference) -> bool {
    let told = |list: &[Moved]| -> Vec<(Vec<String>, String)> {
        list.iter()
            .map(|moved| (moved.right.lines.clone(), format!("{}{}{}", what(&moved.right), sessions(&moved.right), because(moved))))
            .collect()
    };
    one.systems == other.systems && told(&one.gained) == told(&other.gained) && told(&one.lost) == told(&other.lost)
}

/// Says in which sessions.
fn sessions(right: &Right) -> String {
    let starts = right.starts.join("; or ");
    let parts: Vec<String> = [starts, right.when.clone()].into_iter().filter(|part| !part.is_empty()).collect();
    parts.join(", ")
}

/// Says what gives it, and how it is without that.
fn because(moved: &Moved) -> String {
    let word = match moved.right.allowed {
        Membership::NotDecided | Membership::NotHere | Membership::Denied => "not decided",
        Membership::After => "after obligations",
        Membership::Allowed => "by",
    };
    format!("{word}: {}{}", moved.right.through, at(moved.right.place.as_ref()))
}

fn elsewhere(moved: &Moved, side: &str) -> String {
    let code = moved.code.map_or(String::new(), |code| format!(" [{}]", code.code()));
    format!("{side}: {}{code} {}{}", moved.elsewhere.word(), moved.why, at(moved.place.as_ref()))
}

pub(crate) fn render(found: &[Difference], compared: usize, not_compared: &[String]) -> String {
    let mut out = String::new();
    for (users, one) in groups(found) {
        out.push_str(&people::head(&users, &one.systems));
        for (word, style, list, side) in [("gained", GOOD, &one.gained, "before"), ("lost", BAD, &one.lost, "now")] {
            for moved in list {
                let _ = writeln!(out, "  {style}{word:<6}{style:#}  {}", hanging("          ", &what(&moved.right)));
                let mut lines = vec![sessions(&moved.right), because(moved)];
                lines.push(format!("for example {}", answer::asked(&moved.right.example)));
                lines.push(elsewhere(moved, side));
                for line in lines.iter().filter(|line| !line.is_empty()) {
                    let _ = writeln!(out, "          {FAINT}{}{FAINT:#}", hanging("            ", &visible(line)));
                }
            }
        }
        out.push('\n');
    }
    let _ = writeln!(out, "{HEAD}{}{HEAD:#}", told(found, compared));
    out.push_str(&people::nobodys(not_compared, "not compared"));
    out
}

/// Says what only one of two may.
pub(crate) fn alike(found: &Alike) -> String {
    let (one, other) = (visible(&found.one), visible(&found.other));
    let mut out = String::new();
    for difference in &found.differences {
        let systems: Vec<String> = difference.systems.iter().map(|system| visible(system)).collect();
        let _ = writeln!(out, "{HEAD}{}{HEAD:#}", hanging("", &format!("on {}", systems.join(", "))));
        for (who, whom, list) in [(&one, &other, &difference.lost), (&other, &one, &difference.gained)] {
            // What is refused to the other for the same reason stands together; it is told of the first.
            let mut groups: Vec<(&Moved, Vec<&Right>)> = Vec::new();
            let is_same = |one: &Moved, other: &Moved| (one.elsewhere, one.code, &one.place) == (other.elsewhere, other.code, &other.place);
            for moved in list {
                match groups.iter_mut().find(|(known, _)| is_same(known, moved)) {
                    Some((_, rights)) => rights.push(&moved.right),
                    None => groups.push((moved, vec![&moved.right])),
                }
            }
            for (first, rights) in groups {
                let why = elsewhere(first, whom);
                let _ = writeln!(out, "{HEAD}only {who}{HEAD:#}");
                out.push_str(&listed(&rights));
                let _ = writeln!(out, "    {FAINT}{}{FAINT:#}", hanging("      ", &visible(&why)));
            }
        }
        out.push('\n');
    }
    let (lost, gained) = (found.differences.iter().any(|d| !d.lost.is_empty()), found.differences.iter().any(|d| !d.gained.is_empty()));
    let text = match (lost, gained) {
        (false, false) => format!("alike: {one} and {other} may the same"),
        (true, false) => format!("not alike: {one} may all that {other} may, and more"),
        (false, true) => format!("not alike: {other} may all that {one} may, and more"),
        (true, true) => "not alike: each may something that the other may not".to_owned(),
    };
    let _ = writeln!(out, "{HEAD}{}{HEAD:#}", hanging("", &text));
    out
}

/// Says how many people gained and lost something.
fn told(found: &[Difference], compared: usize) -> String {
    let count = |of: fn(&Difference) -> bool| people::how_many(found.iter().filter(|one| of(one)).map(|one| one.user.as_str()));
    let people = people::people(compared);
    match (count(|one| !one.gained.is_empty()), count(|one| !one.lost.is_empty())) {
        (0, 0) => format!("nobody gained or lost anything; {people} compared"),
        (gained, lost) => format!("of {people} {gained} gained something and {lost} lost something"),
    }
}

pub(crate) fn markdown(found: &[Difference], compared: usize, not_compared: &[String]) -> String {
    // What stands in code is shown as it is; a bar would end a column of the table.
    let code = |text: &str| format!("`{}`", visible(text).replace('`', "'").replace('|', "\\|"));
    let plain = |text: &str| visible(text).replace('|', "\\|");
    let mut out = format!("**Rights: {}**\n", told(found, compared));
    if !not_compared.is_empty() {
        let accounts: Vec<String> = not_compared.iter().map(|account| code(account)).collect();
        let _ = writeln!(out, "\nNot compared, since no user of the ledger stands behind them: {}", accounts.join(", "));
    }
    if found.is_empty() {
        return out;
    }
    out.push_str("\n| | who | where | what | in which sessions | through |\n|---|---|---|---|---|---|\n");
    for (users, one) in groups(found) {
        let list = |names: &[&str]| names.iter().map(|name| code(name)).collect::<Vec<_>>().join(", ");
        let systems: Vec<&str> = one.systems.iter().map(String::as_str).collect();
        for (word, moved) in one.gained.iter().map(|m| ("gained", m)).chain(one.lost.iter().map(|m| ("lost", m))) {
            let sessions = sessions(&moved.right);
            let sessions = if sessions.is_empty() { "all".to_owned() } else { plain(&sessions) };
            let row = [word.to_owned(), list(&users), list(&systems), code(&what(&moved.right)), sessions, plain(&because(moved))];
            let _ = writeln!(out, "| {} |", row.join(" | "));
        }
    }
    out
}
