//! Effective permissions: systems with the same rights together, each right with its sessions and with what gives it.

use std::fmt::Write as _;

use comfy_table::{ContentArrangement, Table, presets};
use zest_ledger::review::{BestSession, Cause, Effective, Membership, Right};
use zest_ledger::source::visible;

use super::style::{BAD, FAINT, at, hanging, width};
use super::table::{self, Cell, code, places, words};
use super::{answer, people};

/// How many names are told of one right.
const MAX_NAMES: usize = 12;

pub(crate) fn render(listed: &[Effective]) -> String {
    let mut out = String::new();
    for one in listed {
        out.push_str(&people::head(&[&one.user], &one.systems));
        if one.rights.is_empty() {
            match &one.refused {
                Some(cause) => {
                    let text = format!("{}{}", cause.text, at(cause.place.as_ref()));
                    let _ = writeln!(out, "  {BAD}no session{BAD:#}  {}\n", hanging("              ", &text));
                }
                None => {
                    let _ = writeln!(out, "  {BAD}nothing{BAD:#} may be done\n");
                }
            }
            continue;
        }
        out.push_str(&rights(one));
        out.push('\n');
    }
    out
}

/// Tells rights, with the sessions in which they are held.
pub(crate) fn rights(one: &Effective) -> String {
    let mut out = String::new();
    match &one.best {
        Some(best) => out.push_str(&session(one, best)),
        None if one.sessions.is_empty() => {}
        None => {
            let _ = writeln!(out, "  {FAINT}sessions{FAINT:#}  {}", hanging("            ", &visible(&one.sessions)));
        }
    }
    if one.left_out > 0 {
        let text = format!("{} more ways for a session to start were not looked at", one.left_out);
        let _ = writeln!(out, "  {BAD}not all{BAD:#}  {}", hanging("           ", &text));
    }
    out + &listed(&one.rights.iter().collect::<Vec<_>>())
}

/// Tells the session in which most may be done, with how it is stated in a question.
fn session(one: &Effective, best: &BestSession) -> String {
    let mut out = String::new();
    let _ = writeln!(out, "  {FAINT}best session{FAINT:#}  {}", hanging("                ", &visible(&needs(one, best))));
    let options = answer::options(&best.example.session);
    if !options.is_empty() {
        let _ = writeln!(out, "                {}", hanging("                ", &visible(&options)));
    }
    let _ = writeln!(out, "                {}", hanging("                ", &how_much(best)));
    out
}

/// Says what a session needs, in words.
fn needs(one: &Effective, best: &BestSession) -> String {
    let words: Vec<&str> = best.starts.iter().chain([&one.sessions]).map(String::as_str).filter(|words| !words.is_empty()).collect();
    if words.is_empty() { "any that can be opened".to_owned() } else { words.join(", ") }
}

/// Says how much may be done.
fn how_much(best: &BestSession) -> String {
    let mut words = format!("{} allowed at once", best.allowed);
    if best.after > 0 {
        let _ = write!(words, ", {} after obligations", best.after);
    }
    if !best.is_proved {
        words.push_str("; there are too many sessions to look at each, and another may be better");
    }
    words
}

/// Tells rights by the sessions in which they are held.
pub(crate) fn listed(rights: &[&Right]) -> String {
    let mut out = String::new();
    for (head, rights) in sections(rights) {
        if !head.is_empty() {
            let _ = writeln!(out, "  {}", hanging("    ", &visible(&head)));
        }
        if let Some(first) = rights.first() {
            for cause in &first.standing {
                let text = format!("{}{}", cause.text, at(cause.place.as_ref()));
                let _ = writeln!(out, "    {FAINT}{}{FAINT:#}", hanging("      ", &text));
            }
        }
        out.push_str(&table(&rights));
    }
    out
}

/// Puts rights together that are held in the same sessions.
fn sections<'r>(rights: &[&'r Right]) -> Vec<(String, Vec<&'r Right>)> {
    let mut list: Vec<(String, Vec<&'r Right>)> = Vec::new();
    let same = |known: &(String, Vec<&'r Right>), head: &str, right: &Right| known.0 == head && known.1[0].standing == right.standing;
    for &right in rights {
        let starts = right.starts.join("; or ");
        let parts: Vec<&str> = [starts.as_str(), right.when.as_str()].into_iter().filter(|part| !part.is_empty()).collect();
        let head = parts.join(", ");
        match list.iter_mut().find(|known| same(known, &head, right)) {
            Some((_, all)) => all.push(right),
            None => list.push((head, vec![right])),
        }
    }
    // What every session may do comes first.
    list.sort_by_key(|(head, _)| !head.is_empty());
    list
}

fn table(rights: &[&Right]) -> String {
    let mut table = Table::new();
    table.load_style(presets::NOTHING).set_content_arrangement(ContentArrangement::Dynamic).set_width((width() - 4) as u16);
    for right in rights {
        let mut what = what(right);
        if !right.except.is_empty() {
            let _ = write!(what, "\nnot: {}", names(&right.except));
        }
        for after in &right.after {
            let _ = write!(what, "\nfirst: {}", visible(after));
        }
        let word = match right.allowed {
            Membership::Allowed | Membership::After => "may",
            Membership::NotDecided => "not decided",
            Membership::NotHere | Membership::Denied => "not decided here",
        };
        table.add_row([word.to_owned(), what, format!("{}{}", visible(&right.through), at(right.place.as_ref()))]);
    }
    let mut out = String::new();
    for line in table.lines() {
        let _ = writeln!(out, "   {}", line.trim_end());
    }
    out
}

/// Says what may be done on what.
pub(crate) fn what(right: &Right) -> String {
    let on = if right.on.is_empty() { String::new() } else { format!(" on {}", names(&of_one_class(&right.on))) };
    format!("{}{on}", names(&right.actions))
}

/// Writes the class of objects once where the one before is of the same: `table fares.price`, `fares.tax`.
fn of_one_class(list: &[String]) -> Vec<String> {
    let class = |name: &str| name.split_once(' ').map(|(class, rest)| (class.to_owned(), rest.to_owned()));
    let mut last = None;
    let one = |name: &String| match class(name) {
        Some((class, rest)) if last.as_ref() == Some(&class) => rest,
        other => {
            last = other.map(|(class, _)| class);
            name.clone()
        }
    };
    list.iter().map(one).collect()
}

/// Names with commas between; of very many only the first.
fn names(list: &[String]) -> String {
    // To say that there is one more takes as much room as to name it.
    let told = if list.len() == MAX_NAMES + 1 { list.len() } else { MAX_NAMES };
    let shown: Vec<String> = list.iter().take(told).map(|name| visible(name)).collect();
    let more = list.len().saturating_sub(told);
    let more = if more == 0 { String::new() } else { format!(", and {more} more") };
    format!("{}{more}", shown.join(", "))
}

/// Rights as a table: a row for each person, system and action.
pub(crate) fn in_rows(caption: &str, listed: &[Effective]) -> table::Table {
    let columns = [
        code("user").joined(),
        code("system").joined(),
        code("action"),
        words("allowed"),
        words("starts"),
        words("when"),
        words("after"),
        words("standing"),
        words("through"),
        words("sessions"),
        places(""),
    ];
    let mut table = table::Table::new(caption, columns);
    for one in listed {
        let Effective { user, systems, sessions, refused, left_out, best, rights, more: _ } = one;
        let of = format!("`{user}` on `{}`", systems.join("`, `"));
        if rights.is_empty() {
            let why =
                refused.as_ref().map_or_else(|| "nothing may be done".to_owned(), |why| format!("{}{}", why.text, at(why.place.as_ref())));
            table.remark(format!("{of}: {why}"));
        }
        let meant = match best {
            Some(best) => {
                let options = answer::options(&best.example.session);
                let stated = if options.is_empty() { String::new() } else { format!(" (`{options}`)") };
                let needs = needs(one, best);
                table.remark(format!("{of}: best session: {needs}{stated}; {}", how_much(best)));
                format!("{needs}{stated}")
            }
            None => {
                if !sessions.is_empty() {
                    table.remark(format!("{of}: in sessions {sessions}"));
                }
                sessions.clone()
            }
        };
        if *left_out > 0 {
            table.remark(format!("{of}: {left_out} more ways for a session to start were not looked at"));
        }
        for system in systems {
            for right in rights {
                let standing: Vec<&str> = right.standing.iter().map(|Cause { text, place: _ }| text.as_str()).collect();
                table.row([
                    user.into(),
                    system.into(),
                    in_cell(right),
                    right.allowed.words().into(),
                    right.starts.join("; ").into(),
                    (&right.when).into(),
                    right.after.join("; ").into(),
                    standing.join("; ").into(),
                    (&right.through).into(),
                    (&meant).into(),
                    right.place.as_ref().into(),
                ]);
            }
        }
    }
    table
}

/// The actions of a right, one by one or in few words.
pub(crate) fn in_cell(right: &Right) -> Cell {
    let except = if right.except.is_empty() { String::new() } else { format!(", but not {}", names(&right.except)) };
    Cell::Each(right.lines.clone(), Some(format!("{}{except}", what(right))))
}
