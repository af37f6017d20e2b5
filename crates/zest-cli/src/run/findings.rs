//! `zest findings`: what is wrong or odd in a ledger.

use anyhow::Result;
use jiff::Timestamp;
use zest_ledger::finding::{Code, Findings, Severity};
use zest_ledger::review;
use zest_ledger::ways::unmeant;

use crate::args::{FailOn, FindingsArgs};
use crate::exit::Exit;
use crate::format::data;
use crate::out::{complain, put, say};
use crate::{folder, progress, render};

pub(crate) fn run(args: &FindingsArgs) -> Result<Exit> {
    if let Some(code) = &args.about {
        return about(code);
    }
    let at = args.at.unwrap_or_else(Timestamp::now);
    let findings = of_folder(args, at);
    let moment = if args.at.is_some() { format!("at {at}") } else { format!("at {at}, which is now; `--at` states another moment") };
    let text = || {
        put!("{}", render::findings::render(&findings));
        say!("{moment}");
    };
    args.format.format.print(|| data(&findings), || render::findings::in_rows(&findings), text);
    if args.format.format.is_data() && args.at.is_none() {
        complain!("zest: {moment}");
    }
    let least = match args.fail_on {
        FailOn::Error => Severity::Error,
        FailOn::Warning => Severity::Warning,
        FailOn::Note => Severity::Note,
    };
    Ok(if findings.has_errors() {
        Exit::Unreadable
    } else if findings.list().iter().any(|f| f.severity() <= least) {
        Exit::Denied
    } else {
        Exit::Allowed
    })
}

/// Errors of the documents, or where there are none, everything that is odd.
fn of_folder(args: &FindingsArgs, at: Timestamp) -> Findings {
    let validated = folder::read(&args.ledger.ledger);
    match validated.estate.map(super::compiled) {
        None => validated.findings,
        Some(Err(findings)) => validated.findings.merged(findings),
        Some(Ok(engine)) => {
            let odd = progress::during("looking for defects", || review::hygiene(&engine, Some(at)));
            let ways = progress::during("looking for ways to the top", || unmeant(&engine, Some(at)));
            validated.findings.merged(odd).merged(ways)
        }
    }
}

fn about(code: &str) -> Result<Exit> {
    let wanted = code.to_lowercase();
    let Some(found) = Code::ALL.iter().find(|c| c.number().to_lowercase() == wanted || c.slug() == wanted) else {
        let text = format!("no finding has the code `{}`; docs/findings.md lists them all", zest_ledger::source::visible(code));
        return Err(crate::unknown::Unknown(text).into());
    };
    say!("{} {} ({})\n{}", found.number(), found.slug(), found.severity().word(), found.description());
    Ok(Exit::Allowed)
}
