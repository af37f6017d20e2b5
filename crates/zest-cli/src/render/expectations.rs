//! What came of recorded questions: those first that have another answer than they must.

use std::fmt::Write as _;

use zest_ledger::finding::Findings;
use zest_ledger::json::Expectations;
use zest_ledger::review::{Outcome, Uncovered};
use zest_ledger::source::visible;

use super::style::{BAD, FAINT, GOOD, HEAD, at, counted, hanging, since_then, turned_by};
use super::table::{Table, code, places, words};
use super::{answer, findings};

/// How many parts are told on which nothing depends.
const MAX_UNCOVERED: usize = 60;

pub(crate) fn render(found: &Expectations, not_asked: &Findings, all: bool) -> String {
    let mut out = String::new();
    for (outcome, more) in together(found.outcomes.iter().filter(|outcome| all || !outcome.holds)) {
        out.push_str(&one(outcome, more));
    }
    if !not_asked.list().is_empty() {
        out.push_str(&findings::render(not_asked));
        out.push('\n');
    }
    if let Some(coverage) = &found.coverage {
        for part in coverage.uncovered.iter().take(MAX_UNCOVERED) {
            let _ = writeln!(out, "{FAINT}-{FAINT:#} {}", hanging("  ", &visible(&uncovered(part))));
        }
        if coverage.uncovered.len() > MAX_UNCOVERED {
            let _ = writeln!(out, "  and {} more", coverage.uncovered.len() - MAX_UNCOVERED);
        }
    }
    let _ = writeln!(out, "{HEAD}{}{HEAD:#}", hanging("", &told(found)));
    out
}

/// Says how many are as they must be.
fn told(found: &Expectations) -> String {
    let held = found.outcomes.iter().filter(|outcome| outcome.holds).count();
    let failed = found.outcomes.len() - held;
    let mut text = match found.outcomes.len() {
        0 => "no expectation was asked".to_owned(),
        all if failed == 0 => format!("{} as expected", counted(all, "answer")),
        all => format!("{failed} of {} not as expected", counted(all, "answer")),
    };
    if found.not_asked > 0 {
        let _ = write!(text, "; {} cannot be asked", counted(found.not_asked, "expectation"));
    }
    text.push_str(&since_then(found.outcomes.iter().map(|one| Some((one.held_before?, one.holds)))));
    if let Some(coverage) = &found.coverage {
        let _ = write!(text, "; no expectation depends on {} of {}", coverage.uncovered.len(), counted(coverage.parts, "part"));
    }
    text
}

fn uncovered(part: &Uncovered) -> String {
    let why = if part.is_tried { "" } else { ", and it cannot be tried without it" };
    format!("{}{}{why}", part.what, at(Some(&part.place)))
}

/// The same as a table, with parts on which nothing depends beside it; Markdown leaves out what holds, unless all is wanted.
pub(crate) fn in_rows(found: &Expectations, not_asked: &Findings, all: bool) -> Table {
    let columns = [
        words("holds"),
        words("name"),
        words("step"),
        code("user").joined(),
        code("system").joined(),
        code("action"),
        code("question").detail(),
        words("expected"),
        words("is"),
        words("why"),
        places("other "),
        words("before"),
        words("turned by"),
        places(""),
    ];
    let mut table = Table::new(told(found), columns);
    let word = |holds: bool| if holds { "as expected" } else { "not as expected" };
    for outcome in &found.outcomes {
        let Outcome { place, name, step, question, expected, holds, held_before, turned_by: turn, verdict, code, why, at, more: _ } =
            outcome;
        let cells = [
            word(*holds).into(),
            name.into(),
            step.map_or_else(String::new, |step| step.to_string()).into(),
            (&question.user).into(),
            (&question.system).into(),
            (&question.line).into(),
            answer::asked(question).into(),
            expected.into(),
            answer::verdict(*verdict, *code).into(),
            why.into(),
            at.as_ref().into(),
            held_before.map_or("", word).into(),
            turn.as_ref().map_or_else(String::new, turned_by).into(),
            place.into(),
        ];
        if all || !holds { table.row(cells) } else { table.row_beside(cells) }
    }
    for finding in not_asked.list() {
        let at = finding.primary.as_ref().map_or_else(String::new, |label| format!(" ({})", not_asked.sources().locate(label.place)));
        table.remark(format!("cannot be asked: {}{at}", finding.message));
    }
    for part in found.coverage.iter().flat_map(|coverage| &coverage.uncovered) {
        table.remark(format!("no expectation depends on {}", uncovered(part)));
    }
    table
}

/// Puts answers of one expectation together that are what they are for the same reason: the first of them, and how many more there are.
fn together<'o>(outcomes: impl Iterator<Item = &'o Outcome>) -> Vec<(&'o Outcome, usize)> {
    let mut list: Vec<(&Outcome, usize)> = Vec::new();
    // The places of one expectation stand side by side.
    let reason = |of: &'o Outcome| (&of.place, of.step, of.holds, of.held_before, &of.turned_by, of.verdict, of.code, &of.at);
    for outcome in outcomes {
        let mut of_place = list.iter_mut().rev().take_while(|(known, _)| known.place == outcome.place);
        match of_place.find(|(known, _)| reason(known) == reason(outcome)) {
            Some((_, more)) => *more += 1,
            None => list.push((outcome, 0)),
        }
    }
    list
}

fn one(outcome: &Outcome, more: usize) -> String {
    let mut out = String::new();
    let (word, style) = if outcome.holds { ("as expected", GOOD) } else { ("NOT AS EXPECTED", BAD) };
    let name = if outcome.name.is_empty() { String::new() } else { format!("  {}", visible(&outcome.name)) };
    let step = outcome.step.map_or(String::new(), |step| format!(", step {step}"));
    let _ = writeln!(out, "{style}{word}{style:#}{name}{}{step}", at(Some(&outcome.place)));
    let also = if more == 0 { String::new() } else { format!("  and {more} more like it") };
    let _ = writeln!(out, "  {}", hanging("    ", &visible(&format!("{}{also}", answer::asked(&outcome.question)))));
    let mut lines = vec![format!("expected  {}", outcome.expected)];
    if !outcome.holds {
        lines.push(format!("is        {} {}{}", answer::verdict(outcome.verdict, outcome.code), outcome.why, at(outcome.at.as_ref())));
    }
    match outcome.held_before {
        Some(true) if !outcome.holds => lines.push("before    as expected".to_owned()),
        Some(false) if !outcome.holds => lines.push("before    not as expected either".to_owned()),
        Some(false) => lines.push("before    not as expected".to_owned()),
        Some(true) | None => {}
    }
    lines.extend(outcome.turned_by.as_ref().map(turned_by));
    for line in lines {
        let _ = writeln!(out, "  {}", hanging("            ", &visible(&line)));
    }
    out.push('\n');
    out
}
