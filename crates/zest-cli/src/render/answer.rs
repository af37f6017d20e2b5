//! An answer as an administrator reads it: the verdict, the reasons in order, and what would turn a refusal round.

use std::fmt::Write as _;

use zest_ledger::Question;
use zest_ledger::ask::{Answer, Fact, Form, Gate, GateOutcome, Refusal, Remedy, Session, Step, Verdict, Width, Written};
use zest_ledger::review::Opens;
use zest_ledger::source::visible;

use super::style::{BAD, FAINT, GOOD, HEAD, PLACE, WAIT, at, counted, hanging, width, with_place};

/// Renders an answer in full; `ledger` says which ledger it was asked of.
pub(crate) fn render(answer: &Answer, ledger: &str) -> String {
    with_more(answer, ledger, |_, _| More::default())
}

/// What is told of a remedy beside the remedy.
#[derive(Default)]
pub(crate) struct More {
    /// What it writes into the ledger.
    pub(crate) writes: Vec<Written>,
    /// What else it opens.
    pub(crate) opens: Option<Opens>,
}

/// Renders an answer in full, with more on each remedy, which is known by its number.
pub(crate) fn with_more(answer: &Answer, ledger: &str, more: impl Fn(usize, &Remedy) -> More) -> String {
    let mut out = grounds(answer, &format!("ledger {ledger}"));
    remedies(answer, more, &mut out);
    out
}

/// Renders an answer about a session that was opened earlier, and what a session gets that is opened now.
pub(crate) fn of_open_session(answer: &Answer, anew: &Answer, ledger: &str) -> String {
    let mut out = grounds(answer, ledger);
    let (word, style) = match anew.verdict {
        Verdict::Allowed => ("allowed", GOOD),
        Verdict::AllowedAfter => ("allowed after obligations", WAIT),
        Verdict::Denied => ("denied", BAD),
    };
    let code = anew.refusal.map_or(String::new(), |r| format!("  {} [{}]", r.stage().word(), r.code()));
    let _ = writeln!(out, "\nIn a session that is opened now: {style}{word}{style:#}{code}");
    if let Some(gate) = anew.first_refusal() {
        let place = gate.location.as_ref().map(ToString::to_string);
        let _ = writeln!(out, "  {}", with_place("  ", &gate.text, place.as_deref()));
    }
    out
}

/// The verdict, the question, and every gate; `ledger` says which ledger it was asked of.
fn grounds(answer: &Answer, ledger: &str) -> String {
    let mut out = String::new();
    let (mark, style) = match answer.verdict {
        Verdict::Allowed => ("ALLOWED", GOOD),
        Verdict::AllowedAfter => ("ALLOWED AFTER OBLIGATIONS", WAIT),
        Verdict::Denied => ("DENIED", BAD),
    };
    let code = answer.refusal.map_or(String::new(), |r| format!("  {} [{}]", r.stage().word(), r.code()));
    let question = &answer.question;
    let _ = writeln!(out, "{style}{mark}{style:#}{code}");
    let (who, system, asked) = (question.who(), visible(&question.system), visible(&question.line));
    if format!("{who} on {system}: {asked}").chars().count() <= width() {
        let _ = writeln!(out, "{HEAD}{who}{HEAD:#} on {HEAD}{system}{HEAD:#}: {asked}");
    } else {
        let _ = writeln!(out, "{HEAD}{}{HEAD:#}:\n  {}", hanging("", &format!("{who} on {system}")), hanging("  ", &asked));
    }
    if let Some(full) = answer.full_line.as_ref().filter(|f| **f != question.line) {
        let _ = writeln!(out, "  in full words: {}", visible(full));
    }
    let facts = format!("{ledger}; {}", session(answer));
    let _ = writeln!(out, "  {FAINT}{}{FAINT:#}", hanging("  ", &facts));
    out.push('\n');
    let mut first = true;
    let mut stage = "";
    for gate in &answer.gates {
        let shown = if gate.stage.word() == stage { "" } else { gate.stage.word() };
        stage = gate.stage.word();
        out.push_str(&line(gate, shown, &mut first));
    }
    out
}

/// What would turn a refusal round.
fn remedies(answer: &Answer, more: impl Fn(usize, &Remedy) -> More, out: &mut String) {
    if answer.verdict == Verdict::Denied {
        out.push('\n');
        if answer.remedies.is_empty() {
            out.push_str("No small change that was tried would allow it.\n");
        }
        let mut heading = "";
        for (number, remedy) in answer.remedies.iter().enumerate() {
            let told = match remedy.width {
                Width::Session | Width::Narrow | Width::Wide => "It would be allowed (each was tried):",
                Width::WiderThanNeeded => "Wider than needed (each was tried):",
            };
            if told != heading {
                let _ = writeln!(out, "{told}");
                heading = told;
            }
            let clause = |step: &Step| format!("{}{}", step.text, at(step.location.as_ref()));
            let after = if remedy.verdict == Verdict::AllowedAfter { "; then after obligations" } else { "" };
            let text = remedy.steps.iter().map(clause).collect::<Vec<_>>().join(", and ");
            let _ = writeln!(out, "  - {}", hanging("    ", &format!("{text}{after}")));
            let More { writes, opens } = more(number, remedy);
            if let Some(opens) = opens {
                let _ = writeln!(out, "    {FAINT}{}{FAINT:#}", hanging("      ", &visible(&opened(&opens))));
            }
            writes.iter().for_each(|written| out.push_str(&to_paste(written)));
        }
        if !answer.able.is_empty() {
            let names = answer.able.iter().map(|name| format!("`{}`", visible(name))).collect::<Vec<_>>().join(", ");
            let _ = writeln!(out, "{}", hanging("  ", &format!("Allowed in the same session already: {names}.")));
        }
    }
}

/// How many names are told of what a remedy opens.
const MAX_OPENED: usize = 4;

/// Says what a remedy opens beside what was asked.
pub(super) fn opened(opens: &Opens) -> String {
    let list = |names: &[String]| {
        let more = names.len().saturating_sub(MAX_OPENED);
        let more = if more == 0 { String::new() } else { format!(" and {more} more") };
        format!("{}{more}", names.iter().take(MAX_OPENED).map(|name| format!("`{name}`")).collect::<Vec<_>>().join(", "))
    };
    let mut parts: Vec<String> = Vec::new();
    if !opens.lines.is_empty() {
        let count = if opens.lines.len() == 1 { "another action".to_owned() } else { format!("{} other actions", opens.lines.len()) };
        parts.push(format!("{count}: {}", list(&opens.lines)));
    }
    if !opens.people.is_empty() {
        parts.push(format!("the same to {}", list(&opens.people)));
    }
    if parts.is_empty() { "opens nothing else".to_owned() } else { format!("opens also {}", parts.join("; ")) }
}

/// What to paste where. The text stands at the left edge and is never wrapped, so that it can be copied.
pub(super) fn to_paste(written: &Written) -> String {
    let Written { edit, paste, .. } = written;
    let (Some(file), Some(paste)) = (&edit.document, paste) else {
        return format!("    {FAINT}by hand: {edit}{FAINT:#}\n");
    };
    let (line, last) = (paste.line, paste.line + paste.replaces.max(1) - 1);
    let lines = if line == last { format!("{PLACE}{file}:{line}{PLACE:#}") } else { format!("{PLACE}{file}:{line}{PLACE:#} to {last}") };
    let how = match (paste.replaces, paste.text.is_empty()) {
        (0, _) => "write before that line",
        (1, true) => "take that line out",
        (_, true) => "take those lines out",
        (1, false) => "write instead of that line",
        (_, false) => "write instead of those lines",
    };
    let text: String =
        paste.text.lines().map(|line| format!("{}\n", line.split('\t').map(visible).collect::<Vec<_>>().join("\t"))).collect();
    format!("    {lines}: {how}{}\n{text}", if text.is_empty() { "" } else { ":" })
}

/// One gate: its stage, a mark, the reason, and the place.
fn line(gate: &Gate, stage: &str, first: &mut bool) -> String {
    let (mark, style) = match gate.outcome {
        GateOutcome::Passes => ("ok ", GOOD),
        GateOutcome::Asks => ("do ", WAIT),
        GateOutcome::Refuses(_) if std::mem::take(first) => ("NO ", BAD),
        GateOutcome::Refuses(_) => ("no ", BAD),
    };
    let head = format!("{stage:<12}{mark} ");
    let place = gate.location.as_ref().map(ToString::to_string);
    let text = with_place(&head, &gate.text, place.as_deref());
    format!("{HEAD}{stage:<12}{HEAD:#}{style}{mark}{style:#} {text}\n")
}

/// One question put to several systems: a line each, and the reason of every refusal.
pub(crate) fn table(answers: &[Answer]) -> String {
    let Some(first) = answers.first() else { return String::new() };
    let width = answers.iter().map(|a| a.question.system.chars().count()).max().unwrap_or(0);
    let mut out = format!("{HEAD}{}{HEAD:#}: {}\n", hanging("", &first.question.who()), visible(&first.question.line));
    for answer in answers {
        let (word, style) = match answer.verdict {
            Verdict::Allowed => ("allowed", GOOD),
            Verdict::AllowedAfter => ("waits  ", WAIT),
            Verdict::Denied => ("denied ", BAD),
        };
        let head = format!("  {:<width$}  {word}  ", visible(&answer.question.system));
        let gate = deciding(answer);
        let place = gate.and_then(|g| g.location.as_ref()).map(ToString::to_string);
        let text = gate.map_or("", |g| g.text.as_str());
        let code = answer.refusal.map_or(String::new(), |r| format!("[{}] ", r.code()));
        let text = with_place(&head, &format!("{code}{text}"), place.as_deref());
        let _ = writeln!(out, "  {:<width$}  {style}{word}{style:#}  {text}", visible(&answer.question.system));
    }
    let _ = writeln!(out, "{}", counts(answers));
    out
}

/// The reason that decides.
pub(super) fn deciding(answer: &Answer) -> Option<&Gate> {
    match answer.verdict {
        Verdict::Denied => answer.first_refusal(),
        Verdict::AllowedAfter => answer.gates.iter().find(|g| g.outcome == GateOutcome::Asks),
        Verdict::Allowed => answer.gates.iter().rfind(|g| g.outcome == GateOutcome::Passes),
    }
}

pub(super) fn counts(answers: &[Answer]) -> String {
    let count = |verdict| answers.iter().filter(|a| a.verdict == verdict).count();
    let [allowed, after, denied] = [Verdict::Allowed, Verdict::AllowedAfter, Verdict::Denied].map(count);
    format!("{}: {allowed} allowed, {after} after obligations, {denied} denied", counted(answers.len(), "system"))
}

/// The facts that were stated, in one line; level and account also where the answer found them.
pub(super) fn session(answer: &Answer) -> String {
    let stated = answer.question.session.stated();
    let states = |fact| stated.iter().any(|(f, _)| *f == fact);
    let mut facts: Vec<String> = stated.iter().flat_map(|(fact, texts)| words(*fact, texts)).collect();
    facts.extend(answer.level.filter(|_| !states(Fact::Level)).map(|l| format!("level {l}")));
    facts.extend(answer.account.as_ref().filter(|_| !states(Fact::Account)).map(|a| format!("account {}", visible(a))));
    if facts.is_empty() { "no fact of the session was stated".to_owned() } else { facts.join(", ") }
}

/// A stated fact in words. The acting chain stands in the heading.
fn words(fact: Fact, texts: &[String]) -> Vec<String> {
    let first = visible(texts.first().map_or("", String::as_str));
    let proofs = |whose: &str| -> Vec<String> {
        let one = |text: &String| match text.split_once('=') {
            Some((proof, age)) => {
                let (age, by) = age.split_once(" by ").map_or((age, String::new()), |(age, by)| (age, format!(" by {by}")));
                format!("{whose}{proof} {age} ago{by}")
            }
            None => format!("no proof{}", if whose.is_empty() { "" } else { " of the second person" }),
        };
        texts.iter().map(one).collect()
    };
    match fact {
        Fact::At => vec![format!("at {first}")],
        Fact::Origin => vec![format!("from {first}")],
        Fact::Local => vec!["over the server's own socket".to_owned()],
        Fact::Channel => vec![format!("by {first}")],
        Fact::Proofs => proofs(""),
        Fact::Level => vec![format!("level {first}")],
        Fact::Mode => vec![format!("mode {first}")],
        Fact::Account => vec![format!("account {first}")],
        Fact::Roles if first == "none" => vec!["no role active".to_owned()],
        Fact::Roles => texts.iter().map(|role| format!("role {}", visible(role))).collect(),
        Fact::Acting => Vec::new(),
        Fact::Attributes => texts.iter().map(|text| visible(&text.replacen('=', " ", 1))).collect(),
        Fact::Expires => vec![format!("over at {first}")],
        Fact::Central => vec!["central source down".to_owned()],
        Fact::Confirmed => vec!["confirmed".to_owned()],
        Fact::ApprovedBy => vec![format!("second person {first}")],
        Fact::ApproverProofs => proofs("second person's "),
    }
}

/// One line for a rehearsal or a table: the reason of the first refusal, with its place.
pub(crate) fn short(answer: &Answer) -> String {
    match answer.first_refusal() {
        Some(gate) => format!("{}{}", gate.text, at(gate.location.as_ref())),
        None => String::new(),
    }
}

/// Returns the command that asks a question.
pub(crate) fn asked(question: &Question) -> String {
    let mut words = vec!["zest ask".to_owned(), quoted(&question.user), "--on".to_owned(), quoted(&question.system)];
    words.extend(Some(options(&question.session)).filter(|options| !options.is_empty()));
    match question.form {
        Form::Statement => words.extend(["--sql".to_owned(), quoted(&question.line)]),
        Form::Line => words.push(question.line.clone()),
    }
    visible(&words.join(" "))
}

/// Returns the options of a command that state a session, as a shell reads them.
pub(crate) fn options(session: &Session) -> String {
    let mut words = Vec::new();
    for (fact, texts) in session.stated() {
        let option = format!("--{}", fact.option());
        match texts.as_slice() {
            [] => words.push(option),
            texts => words.extend(texts.iter().flat_map(|text| [option.clone(), quoted(text)])),
        }
    }
    words.join(" ")
}

/// Writes a word as a shell reads it back.
pub(crate) fn quoted(word: &str) -> String {
    let is_plain = |c: char| c.is_ascii_alphanumeric() || "-_./:=@%+,".contains(c);
    if !word.is_empty() && word.chars().all(is_plain) { word.to_owned() } else { format!("'{}'", word.replace('\'', "'\\''")) }
}

/// A verdict in words, with the code of its refusal.
pub(crate) fn verdict(verdict: Verdict, code: Option<Refusal>) -> String {
    format!("{}{}", verdict.word(), code.map_or(String::new(), |code| format!(" [{}]", code.code())))
}
