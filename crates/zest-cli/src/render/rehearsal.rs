//! What a rehearsal prints.

use std::fmt::Write as _;

use zest_ledger::ask::{Answer, GateOutcome, Verdict};
use zest_ledger::rehearsal::{Effect, MenuItem, Typed};
use zest_ledger::source::visible;

use super::style::{BAD, FAINT, GOOD, WAIT, hanging, with_place};

/// The tool's own words.
pub(crate) const HELP: &str = "  ?                 list the commands that are permitted here; show ?  those that begin so
  :why              explain the last answer in full
  :allow PATTERN    permit a pattern on trial, in this rehearsal only
  :confirm          confirm, for lines that want it
  :approve USER     have a second person agree; what they have proven behind it: password=2m
  :state            show level and mode, whatever the device permits
  :help             list these words
  :quit             leave the tool, whatever the device permits
";

/// The tool's own words where lines are actions of their own.
pub(crate) const CONSOLE_HELP: &str = "  ?                 list what is permitted here
  :why              explain the last answer in full
  :as LINK          act as another: user:ID, role:ID, account:LOGIN, shell:LOGIN
  :back             go back one link
  :confirm          confirm, for actions that want it
  :approve USER     have a second person agree; what they have proven behind it: password=2m
  :help             list these words
  :quit             leave the tool
";

/// The tool's own words where statements are typed.
pub(crate) const STATEMENTS_HELP: &str = "  :why              explain the last answer in full
  :state            show the statements that made the session what it is
  :help             list these words
  :quit             leave the tool
";

/// What a word is answered with that the tool does not know.
pub(crate) fn unknown_word(word: &str, help: &str) -> String {
    format!("  no word of the tool is `:{}`; there are:\n{help}", visible(word))
}

/// The result of a line on a device, short.
pub(crate) fn typed(typed: &Typed) -> String {
    answered(&typed.answer, &effect(&typed.effect))
}

/// An answer, short; `effect` says what an allowed line did.
pub(crate) fn answered(answer: &Answer, effect: &str) -> String {
    let mut out = String::new();
    let full = answer.full_line.as_ref().filter(|f| **f != answer.question.line).map_or(String::new(), |f| format!(": {}", visible(f)));
    match answer.verdict {
        Verdict::Allowed => {
            let _ = writeln!(out, "  {GOOD}allowed{GOOD:#}{full}{effect}");
        }
        Verdict::AllowedAfter => {
            let _ = writeln!(out, "  {WAIT}waits{WAIT:#}{full}");
        }
        Verdict::Denied => {
            let code = answer.refusal.map_or("", |r| r.code());
            let _ = writeln!(out, "  {BAD}refused{BAD:#}{full} [{code}]");
        }
    }
    for gate in answer.open_gates() {
        if answer.verdict == Verdict::Denied && !matches!(gate.outcome, GateOutcome::Refuses(_)) {
            continue;
        }
        let place = gate.location.as_ref().map(ToString::to_string);
        let _ = writeln!(out, "    {}", with_place("    ", &gate.text, place.as_deref()));
    }
    out
}

fn effect(effect: &Effect) -> String {
    match effect {
        Effect::Level(level) => format!("; now at level {level}"),
        Effect::ShowsLevel(level) => format!("; the level is {level}"),
        Effect::Mode(mode) => format!("; now in mode {}", visible(mode)),
        Effect::CredentialChanged => "; the credential is changed".to_owned(),
        Effect::Ended => "; the session has ended".to_owned(),
        _ => String::new(),
    }
}

/// What a question mark lists.
pub(crate) fn menu(items: &[MenuItem]) -> String {
    if items.is_empty() {
        return "  nothing is permitted here\n".to_owned();
    }
    let width = items.iter().map(|i| i.line.chars().count()).max().unwrap_or(0).min(50);
    let mut out = String::new();
    for item in items {
        let some = if item.is_partial { " (some)" } else { "" };
        let after = if item.is_after { " (after obligations)" } else { "" };
        let about = format!("{}{some}{after}", visible(&item.about));
        let line = visible(&item.line);
        // A list of operations is as long as it is, and goes on in the next line.
        let _ = match about.trim() {
            "" => writeln!(out, "  {}", hanging("    ", &line)),
            about => writeln!(
                out,
                "  {}{:gap$}  {FAINT}{about}{FAINT:#}",
                hanging("    ", &line),
                "",
                gap = width.saturating_sub(line.chars().count())
            ),
        };
    }
    out
}
