//! How promises stand, each read aloud, with the examples that refute it.

use std::fmt::Write as _;

use anstyle::Style;
use zest_ledger::promise::{Promised, Standing, Witness};
use zest_ledger::source::visible;

use super::answer;
use super::style::{BAD, FAINT, GOOD, HEAD, at, counted, hanging, since_then, turned_by};

pub(crate) fn render(found: &[Promised]) -> String {
    let mut out = String::new();
    for one in found {
        out.push_str(&told(one));
    }
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
    let _ = writeln!(out, "{HEAD}{}{HEAD:#}", hanging("", &text));
    out
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
    let code = code.map_or(String::new(), |code| format!(" [{}]", code.code()));
    let mut out = format!("  {}\n", hanging("    ", &format!("for example: {}", answer::asked(question))));
    let text = format!("{}{code}: {}{}", verdict.word(), visible(why), at(place.as_ref()));
    let _ = writeln!(out, "    {FAINT}{}{FAINT:#}", hanging("      ", &text));
    out
}
