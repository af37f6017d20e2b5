//! Answers as tables: each reason, and what would turn a refusal round.

use zest_ledger::ask::{Answer, Gate, GateOutcome, Remedy, Verdict, Width, Written};
use zest_ledger::source::Location;

use super::answer::{More, counts, deciding, opened, session, to_paste, verdict};
use super::table::{Cell, Column, Table, code, places, words};

/// An answer as a table: each reason, and what would turn a refusal round. `ledger` says which ledger it was asked of.
pub(crate) fn of(answer: &Answer, ledger: &str, more: impl Fn(usize, &Remedy) -> More) -> Table {
    let mut table = Table::new(told(answer, ledger), columns(true));
    reasons_in_rows(&mut table, answer, "");
    if answer.verdict != Verdict::Denied {
        return table;
    }
    for (number, remedy) in answer.remedies.iter().enumerate() {
        let Remedy { steps, verdict, width, more: _ } = remedy;
        let heading = match width {
            Width::Session | Width::Narrow | Width::Wide => "remedy",
            Width::WiderThanNeeded => "wider than needed",
        };
        let after = if *verdict == Verdict::AllowedAfter { "; then after obligations" } else { "" };
        let More { writes, opens } = more(number, remedy);
        let pasted = |written: &Written| anstream::adapter::strip_str(&to_paste(written)).to_string().trim().to_owned();
        let mut opens = opens.as_ref().map_or_else(String::new, opened);
        let mut writes = writes.iter().map(pasted).collect::<Vec<_>>().join("\n");
        // Each change has a place of its own; what all of them together open and write stands beside the first.
        for (turn, step) in steps.iter().enumerate() {
            let (of, is_last) = (steps.len(), turn + 1 == steps.len());
            table.row([
                "".into(),
                (&answer.question.user).into(),
                (&answer.question.system).into(),
                (&answer.question.line).into(),
                "".into(),
                heading.into(),
                if of > 1 { format!("change {} of {of}", turn + 1) } else { String::new() }.into(),
                format!("{}{}", step.text, if is_last { after } else { "" }).into(),
                step.location.as_ref().into(),
                std::mem::take(&mut opens).into(),
                std::mem::take(&mut writes).into(),
            ]);
        }
    }
    if answer.remedies.is_empty() {
        table.remark("no small change that was tried would allow it");
    }
    if !answer.able.is_empty() {
        table.remark(format!("allowed in the same session already: `{}`", answer.able.join("`, `")));
    }
    table
}

/// An answer about a session that was opened earlier, and the one about a new session, as a table.
pub(crate) fn of_open_session(answer: &Answer, anew: &Answer, ledger: &str) -> Table {
    let mut table = Table::new(told(answer, ledger), columns(false));
    reasons_in_rows(&mut table, answer, "open");
    reasons_in_rows(&mut table, anew, "opened now");
    table
}

/// Answers of several systems as a table, each with the reason that decides.
pub(crate) fn of_systems(answers: &[Answer]) -> Table {
    let caption = answers.first().map_or_else(String::new, |first| format!("{}: `{}`", first.question.who(), first.question.line));
    let mut table = Table::new(format!("{caption}: {}", counts(answers)), columns(false));
    for answer in answers {
        match deciding(answer) {
            Some(gate) => table.row(reason_in_row(answer, gate, "")),
            None => table.row(in_row(answer, "", ("", "", "", None))),
        }
    }
    table
}

fn told(answer: &Answer, ledger: &str) -> String {
    let question = &answer.question;
    let verdict = verdict(answer.verdict, answer.refusal);
    format!("{verdict}: {} on {}: `{}` ({ledger}; {})", question.who(), question.system, question.line, session(answer))
}

/// The columns; what the caption says of the one answer is in no column of Markdown.
fn columns(is_one: bool) -> [Column; 11] {
    let once = |column: Column| if is_one { column.detail() } else { column };
    [
        words("session"),
        code("user").detail(),
        once(code("system")).joined(),
        code("action").detail(),
        once(words("verdict")),
        words("stage"),
        words("outcome"),
        words("text"),
        places(""),
        words("opens"),
        words("writes"),
    ]
}

fn reasons_in_rows(table: &mut Table, answer: &Answer, session: &str) {
    answer.gates.iter().for_each(|gate| table.row(reason_in_row(answer, gate, session)));
}

fn reason_in_row(answer: &Answer, gate: &Gate, session: &str) -> [Cell; 11] {
    let outcome = match gate.outcome {
        GateOutcome::Passes => "passes".to_owned(),
        GateOutcome::Asks => "asks".to_owned(),
        GateOutcome::Refuses(code) => format!("refuses [{}]", code.code()),
    };
    in_row(answer, session, (gate.stage.word(), &outcome, &gate.text, gate.location.as_ref()))
}

fn in_row(answer: &Answer, session: &str, (stage, outcome, text, place): (&str, &str, &str, Option<&Location>)) -> [Cell; 11] {
    [
        session.into(),
        (&answer.question.user).into(),
        (&answer.question.system).into(),
        (&answer.question.line).into(),
        verdict(answer.verdict, answer.refusal).into(),
        stage.into(),
        outcome.into(),
        text.into(),
        place.into(),
        "".into(),
        "".into(),
    ]
}
