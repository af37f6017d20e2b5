//! How promises stand, each read aloud, with the examples that refute it.

use std::fmt::Write as _;

use anstyle::Style;
use zest_ledger::promise::{Promised, Standing, Witness};
use zest_ledger::source::visible;

use super::answer;
use super::style::{BAD, FAINT, GOOD, HEAD, at, counted, hanging, since_then, turned_by};
use super::table::{Cell, Table, code, places, words};

pub(crate) fn render(found: &[Promised]) -> String {
    let mut out = String::new();
    for one in found {
        out.push_str(&told(one));
    }
    let _ = writeln!(out, "{HEAD}{}{HEAD:#}", hanging("", &counts(found)));
    out
}

/// Says how many are proved.
fn counts(found: &[Promised]) -> String {
    let count = |wanted: Standing| found.iter().filter(|one| one.standing == wanted).count();
    let mut text = match found.len() {
        0 => "the ledger makes no promise".to_owned(),
        all => format!("{} of {} proved", count(Standing::Proved), counted(all, "promise")),
    };
    for (standing, word) in [(Standing::Refuted, "refuted"), (Standing::NotProved, "not proved"), (Standing::SaysNothing, "saying nothing")]
    {
        if count(standing) > 0 {
            let _ = write!(text, ", {} {word}", count(standing));
        }
    }
    let is_proved = |standing: Standing| standing == Standing::Proved;
    text.push_str(&since_then(found.iter().map(|one| Some((is_proved(one.stood_before?), is_proved(one.standing))))));
    text
}

/// The same as a table: a row for each promise, or for each example that refutes it.
pub(crate) fn in_rows(found: &[Promised]) -> Table {
    let columns = [
        words("standing"),
        words("name"),
        words("says"),
        words("why"),
        code("example"),
        words("answer"),
        words("ground"),
        places("other "),
        words("before"),
        words("turned by"),
        words("people").detail(),
        words("systems").detail(),
        places(""),
    ];
    let mut table = Table::new(counts(found), columns);
    for one in found {
        let Promised { place, name, says, standing, why, witnesses, people, systems, stood_before, turned_by: turn, more: _ } = one;
        let mut row = |[example, answer, ground, elsewhere]: [Cell; 4]| {
            table.row([
                standing.words().into(),
                name.into(),
                says.into(),
                why.join("; ").into(),
                example,
                answer,
                ground,
                elsewhere,
                stood_before.map_or("", Standing::words).into(),
                turn.as_ref().map_or_else(String::new, turned_by).into(),
                (*people).into(),
                (*systems).into(),
                place.into(),
            ]);
        };
        for Witness { question, verdict, code, why, place } in witnesses {
            row([answer::asked(question).into(), answer::verdict(*verdict, *code).into(), why.into(), place.as_ref().into()]);
        }
        if witnesses.is_empty() {
            row(["".into(), "".into(), "".into(), Cell::Place(None)]);
        }
    }
    table
}

fn told(one: &Promised) -> String {
    let mut out = String::new();
    let (text, style) = word(one.standing);
    let name = format!("{}{}", visible(&one.name), at(Some(&one.place)));
    let _ = writeln!(out, "{style}{text:<14}{style:#}{}", hanging("              ", name.trim_start()));
    let _ = writeln!(out, "  {}", hanging("  ", &visible(&one.says)));
    for why in &one.why {
        let _ = writeln!(out, "  {BAD}-{BAD:#} {}", hanging("    ", &visible(why)));
    }
    for witness in &one.witnesses {
        out.push_str(&example(witness));
    }
    let before =
        one.stood_before.filter(|before| *before != one.standing).map(|before| format!("before: {}", word(before).0.to_lowercase()));
    for line in before.into_iter().chain(one.turned_by.as_ref().map(turned_by)) {
        let _ = writeln!(out, "  {}", hanging("    ", &visible(&line)));
    }
    out.push('\n');
    out
}

const fn word(standing: Standing) -> (&'static str, Style) {
    match standing {
        Standing::Proved => ("proved", GOOD),
        Standing::Refuted => ("REFUTED", BAD),
        Standing::NotProved => ("not proved", BAD),
        Standing::SaysNothing => ("says nothing", BAD),
    }
}

fn example(witness: &Witness) -> String {
    let Witness { question, verdict, code, why, place } = witness;
    let mut out = format!("  {}\n", hanging("    ", &format!("for example: {}", answer::asked(question))));
    let text = format!("{}: {}{}", answer::verdict(*verdict, *code), visible(why), at(place.as_ref()));
    let _ = writeln!(out, "    {FAINT}{}{FAINT:#}", hanging("      ", &text));
    out
}
