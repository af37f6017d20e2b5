//! Ways, step by step: who acts, by what, what it gives; and the same as a drawing.

use std::fmt::Write as _;

use zest_ledger::json::WaysFound;
use zest_ledger::source::visible;
use zest_ledger::ways::{Cut, Way, WayStep};

use super::answer;
use super::style::{BAD, FAINT, HEAD, at, counted, hanging};
use super::table::{Cell, Table, code, places, words};

/// How many ways are told.
const MAX_TOLD: usize = 40;

pub(crate) fn render(found: &WaysFound, has_aim: bool, is_brief: bool) -> String {
    let mut out = String::new();
    for way in found.ways.iter().take(MAX_TOLD) {
        if is_brief {
            let _ = writeln!(out, "{}", hanging("  ", &way.in_one_line()));
        } else {
            out.push_str(&one(way));
        }
    }
    if found.ways.len() > MAX_TOLD {
        let _ = writeln!(out, "and {} more\n", found.ways.len() - MAX_TOLD);
    }
    for cut in &found.cuts {
        let _ = writeln!(out, "{FAINT}-{FAINT:#} {}", hanging("  ", &visible(&without(cut))));
    }
    if let Some(text) = cut_short(found) {
        let _ = writeln!(out, "{BAD}-{BAD:#} {}", hanging("  ", &visible(&text)));
    }
    let _ = writeln!(out, "{HEAD}{}{HEAD:#}", hanging("", &counts(found, has_aim)));
    out
}

/// Says how many could get there.
fn counts(found: &WaysFound, has_aim: bool) -> String {
    let people = super::people::people(found.people);
    match (has_aim, found.ways.len()) {
        (true, count) => format!("{count} of {people} could get there"),
        (false, count) => format!("{} could be come to", counted(count, "thing")),
    }
}

/// Says what is left without an entry.
fn without(cut: &Cut) -> String {
    let Cut { what, place, left, of, more: _ } = cut;
    format!("without the {}{}, {left} of {of} would get there", what.strip_prefix("a ").unwrap_or(what), at(Some(place)))
}

fn cut_short(found: &WaysFound) -> Option<String> {
    let names = (!found.cut_short.is_empty()).then(|| found.cut_short.join(", "))?;
    Some(format!("not all was looked at from {names}: there is too much, or it can be done in too many orders"))
}

/// The same as a table: a row for each step.
pub(crate) fn in_rows(found: &WaysFound, has_aim: bool) -> Table {
    let columns = [words("way"), code("from"), words("step"), code("act"), words("needs"), words("gives"), words("why"), places("")];
    let mut table = Table::new(counts(found, has_aim), columns);
    for (number, Way { from, steps, more: _ }) in (1_usize..).zip(&found.ways) {
        for (step, one) in (1_usize..).zip(steps) {
            let WayStep { by: _, question: _, act: _, needs, gives, why, place, more: _ } = one;
            let needs = needs.join("; ");
            table.row([
                number.into(),
                from.into(),
                step.into(),
                act(one).into(),
                needs.into(),
                gives.into(),
                why.into(),
                place.as_ref().into(),
            ]);
        }
        if steps.is_empty() {
            table.row([number.into(), from.into(), "already".into(), "".into(), "".into(), "".into(), "".into(), Cell::Place(None)]);
        }
    }
    found.cuts.iter().map(without).chain(cut_short(found)).for_each(|text| table.remark(text));
    table
}

fn one(way: &Way) -> String {
    let count = match way.steps.len() {
        0 => "already".to_owned(),
        1 => "in one step".to_owned(),
        several => format!("in {several} steps"),
    };
    let mut out = format!("{HEAD}{}{HEAD:#} {count}\n", visible(&way.from));
    for (number, step) in way.steps.iter().enumerate() {
        let _ = writeln!(out, "  {}  {}", number + 1, hanging("     ", &visible(&act(step))));
        let why = format!("{}{}", step.why, at(step.place.as_ref()));
        let _ = writeln!(out, "     {FAINT}{}{FAINT:#}", hanging("       ", &visible(&why)));
        for need in &step.needs {
            let _ = writeln!(out, "     {FAINT}needs: {}{FAINT:#}", hanging("       ", &visible(need)));
        }
        let _ = writeln!(out, "     so: {}", hanging("       ", &visible(&step.gives)));
    }
    out.push('\n');
    out
}

/// Says who acts, and how.
fn act(step: &WayStep) -> String {
    match &step.question {
        Some(question) if question.line.is_empty() => format!("{} signs in: {}", step.by, answer::asked(question).trim_end()),
        Some(question) => answer::asked(question),
        None => format!("{} {}", step.by, step.act.as_deref().unwrap_or("acts")),
    }
}

/// How wide and high a box is, and what is between two.
const BOX: (usize, usize, usize) = (275, 64, 60);

/// Draws ways as rows of boxes: who sets out, and what each step gives.
pub(crate) fn drawn(ways: &[Way]) -> String {
    let (width, height, gap) = BOX;
    let longest = ways.iter().map(|way| way.steps.len()).max().unwrap_or(0) + 1;
    let (whole, high) = (longest * (width + gap) + 20, ways.len().max(1) * (height + 50) + 20);
    let mut out = format!(
        "<svg xmlns=\"http://www.w3.org/2000/svg\" width=\"{whole}\" height=\"{high}\" font-family=\"sans-serif\" font-size=\"13\">\n\
         <rect width=\"100%\" height=\"100%\" fill=\"#ffffff\"/>\n"
    );
    for (row, way) in ways.iter().enumerate() {
        let top = 20 + row * (height + 50);
        let mut put = |column: usize, lines: &[String], is_end: bool| {
            let left = 10 + column * (width + gap);
            let fill = if column == 0 {
                "#eef2f7"
            } else if is_end {
                "#fbe9e7"
            } else {
                "#f7f7f2"
            };
            let _ = writeln!(
                out,
                "<rect x=\"{left}\" y=\"{top}\" width=\"{width}\" height=\"{height}\" rx=\"4\" fill=\"{fill}\" stroke=\"#5b6770\"/>"
            );
            for (number, line) in lines.iter().take(3).enumerate() {
                let y = top + 20 + number * 17;
                let _ = writeln!(out, "<text x=\"{}\" y=\"{y}\" fill=\"#1c2226\">{}</text>", left + 10, escaped(line));
            }
            if column > 0 {
                let (from, y) = (left - gap, top + height / 2);
                let _ = writeln!(out, "<path d=\"M {from} {y} H {} l -8 -5 m 8 5 l -8 5\" fill=\"none\" stroke=\"#5b6770\"/>", left - 2);
            }
        };
        put(0, &[visible(&way.from)], way.steps.is_empty());
        for (number, step) in way.steps.iter().enumerate() {
            // What is done at the end is what it gives.
            let acts = match &step.question {
                Some(question) if step.gives.starts_with(&question.line) => step.by.clone(),
                Some(question) => format!("{}: {}", step.by, question.line),
                None => act(step),
            };
            let mut lines = broken(&acts, 2);
            lines.extend(broken(&step.gives, 3_usize.saturating_sub(lines.len())));
            put(number + 1, &lines, number + 1 == way.steps.len());
        }
    }
    out.push_str("</svg>\n");
    out
}

/// Breaks a text into some lines that fit into a box.
fn broken(text: &str, most: usize) -> Vec<String> {
    const FITS: usize = 36;
    let mut lines: Vec<String> = super::style::wrap(&visible(text), FITS);
    if lines.len() > most {
        lines.truncate(most);
        if let Some(last) = lines.last_mut() {
            last.push('…');
        }
    }
    lines
}

fn escaped(text: &str) -> String {
    text.replace('&', "&amp;").replace('<', "&lt;").replace('>', "&gt;")
}
