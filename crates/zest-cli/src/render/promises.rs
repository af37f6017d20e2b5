//! How promises stand, each read aloud, with the examples that refute it.

use std::fmt::Write as _;

use zest_ledger::promise::{Promised, Standing, Witness};
use zest_ledger::source::visible;

use super::answer;
use super::style::{BAD, FAINT, GOOD, HEAD, at, counted, hanging};

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
    let _ = writeln!(out, "{HEAD}{}{HEAD:#}", hanging("", &text));
    out
}

fn told(one: &Promised) -> String {
    let mut out = String::new();
    let (word, style) = match one.standing {
        Standing::Proved => ("proved", GOOD),
        Standing::Refuted => ("REFUTED", BAD),
        Standing::NotProved => ("not proved", BAD),
        Standing::SaysNothing => ("says nothing", BAD),
    };
    let name = format!("{}{}", visible(&one.name), at(Some(&one.place)));
    let _ = writeln!(out, "{style}{word:<14}{style:#}{}", hanging("              ", name.trim_start()));
    let _ = writeln!(out, "  {}", hanging("  ", &visible(&one.says)));
    for why in &one.why {
        let _ = writeln!(out, "  {BAD}-{BAD:#} {}", hanging("    ", &visible(why)));
    }
    for witness in &one.witnesses {
        out.push_str(&example(witness));
    }
    out.push('\n');
    out
}

fn example(witness: &Witness) -> String {
    let Witness { question, verdict, code, why, place } = witness;
    let code = code.map_or(String::new(), |code| format!(" [{}]", code.code()));
    let mut out = format!("  {}\n", hanging("    ", &format!("for example: {}", answer::asked(question))));
    let text = format!("{}{code}: {}{}", verdict.word(), visible(why), at(place.as_ref()));
    let _ = writeln!(out, "    {FAINT}{}{FAINT:#}", hanging("      ", &text));
    out
}
