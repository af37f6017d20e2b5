//! What came of recorded questions: those first that have another answer than they must.

use std::fmt::Write as _;

use zest_ledger::finding::Findings;
use zest_ledger::json::Expectations;
use zest_ledger::review::Outcome;
use zest_ledger::source::visible;

use super::style::{BAD, FAINT, GOOD, HEAD, at, counted, hanging, since_then, turned_by};
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
        for part in coverage.uncovered.iter().take(MAX_UNCOVERED) {
            let why = if part.is_tried { "" } else { ", and it cannot be tried without it" };
            let _ = writeln!(out, "{FAINT}-{FAINT:#} {}", hanging("  ", &format!("{}{}{why}", visible(&part.what), at(Some(&part.place)))));
        }
        if coverage.uncovered.len() > MAX_UNCOVERED {
            let _ = writeln!(out, "  and {} more", coverage.uncovered.len() - MAX_UNCOVERED);
        }
        let _ = write!(text, "; no expectation depends on {} of {}", coverage.uncovered.len(), counted(coverage.parts, "part"));
    }
    let _ = writeln!(out, "{HEAD}{}{HEAD:#}", hanging("", &text));
    out
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
    let code = outcome.code.map_or(String::new(), |code| format!(" [{}]", code.code()));
    let also = if more == 0 { String::new() } else { format!("  and {more} more like it") };
    let _ = writeln!(out, "  {}", hanging("    ", &visible(&format!("{}{also}", answer::asked(&outcome.question)))));
    let mut lines = vec![format!("expected  {}", outcome.expected)];
    if !outcome.holds {
        lines.push(format!("is        {}{code} {}{}", outcome.verdict.word(), outcome.why, at(outcome.at.as_ref())));
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
