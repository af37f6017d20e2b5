//! Who gained and who lost what: people to whom the same happened together.

use std::fmt::Write as _;

use zest_ledger::json::Alike;
use zest_ledger::review::{ChangedBeside, Difference, Membership, Moved, Right};
use zest_ledger::source::visible;

use super::effective::{in_cell, listed, what};
use super::style::{BAD, FAINT, GOOD, HEAD, at, hanging};
use super::table::{Cell, Column, Table, code, places, words};
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
    format!("{side}: {} {}{}", answer::verdict(moved.elsewhere, moved.code), moved.why, at(moved.place.as_ref()))
}

pub(crate) fn render(found: &[Difference], beside: &[ChangedBeside], compared: usize, not_compared: &[String]) -> String {
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
    if !beside.is_empty() {
        let _ = writeln!(out, "\n{HEAD}changed as well, and told by no right:{HEAD:#}");
    }
    for ChangedBeside { system, what, was, is, more: _ } in beside {
        let word = if was.is_none() {
            " is new"
        } else if is.is_none() {
            " is gone"
        } else {
            ""
        };
        let line = format!("{}: {}{word}{}", visible(system), visible(what), at(is.as_ref().or(was.as_ref())));
        let _ = writeln!(out, "  {}", hanging("    ", &line));
    }
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
    let _ = writeln!(out, "{HEAD}{}{HEAD:#}", hanging("", &visible(&alike_told(found))));
    out
}

/// Says whether they are alike.
fn alike_told(found: &Alike) -> String {
    let (one, other) = (&found.one, &found.other);
    match (found.differences.iter().any(|d| !d.lost.is_empty()), found.differences.iter().any(|d| !d.gained.is_empty())) {
        (false, false) => format!("alike: {one} and {other} may the same"),
        (true, false) => format!("not alike: {one} may all that {other} may, and more"),
        (false, true) => format!("not alike: {other} may all that {one} may, and more"),
        (true, true) => "not alike: each may something that the other may not".to_owned(),
    }
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

/// What each gained and lost, as a table.
pub(crate) fn in_rows(found: &[Difference], beside: &[ChangedBeside], compared: usize, not_compared: &[String]) -> Table {
    let mut table = Table::new(format!("Rights: {}", told(found, compared)), moves(words("change")));
    for Difference { user, systems, gained, lost, more: _ } in found {
        for system in systems {
            gained.iter().for_each(|moved| table.row(in_row("gained", user, system, moved)));
            lost.iter().for_each(|moved| table.row(in_row("lost", user, system, moved)));
        }
    }
    for ChangedBeside { system, what, was, is, more: _ } in beside {
        let empty = || Cell::from("");
        let [at, other] = [is.as_ref().into(), was.as_ref().into()];
        let (change, what) = ("told by no right".into(), what.into());
        table.row([change, empty(), system.into(), what, empty(), empty(), empty(), empty(), at, empty(), empty(), empty(), other]);
    }
    people::remark_nobodys(&mut table, not_compared, "not compared");
    table
}

/// What only one of two may, as a table.
pub(crate) fn alike_in_rows(found: &Alike) -> Table {
    let mut table = Table::new(alike_told(found), moves(words("change").detail()));
    for Difference { user: _, systems, gained, lost, more: _ } in &found.differences {
        for system in systems {
            lost.iter().for_each(|moved| table.row(in_row("only", &found.one, system, moved)));
            gained.iter().for_each(|moved| table.row(in_row("only", &found.other, system, moved)));
        }
    }
    table
}

/// The columns of what moved; what it is about the user is in the first.
fn moves(first: Column) -> [Column; 13] {
    [
        first,
        code("user").joined(),
        code("system").joined(),
        code("action"),
        words("allowed"),
        words("sessions"),
        words("after"),
        words("through"),
        places(""),
        code("example").detail(),
        words("elsewhere").detail(),
        words("why").detail(),
        places("other ").detail(),
    ]
}

fn in_row(change: &str, user: &str, system: &str, moved: &Moved) -> [Cell; 13] {
    let Moved { right, elsewhere, code, why, place } = moved;
    [
        change.into(),
        user.into(),
        system.into(),
        in_cell(right),
        right.allowed.words().into(),
        sessions(right).into(),
        right.after.join("; ").into(),
        (&right.through).into(),
        right.place.as_ref().into(),
        answer::asked(&right.example).into(),
        answer::verdict(*elsewhere, *code).into(),
        why.into(),
        place.as_ref().into(),
    ]
}
