//! Answers written down as expectations, to be appended to a document.

use std::fmt::Write as _;

use zest_model::ask::{Answer, Fact, Form, Refusal, Session, Verdict};
use zest_model::entry::Expected;
use zest_model::text::quoted_text;

/// Returns the answer that is expected from now on, and the code of its refusal.
fn wanted(answer: &Answer) -> (Expected, Option<Refusal>) {
    match (answer.verdict, answer.refusal) {
        (Verdict::Allowed, _) => (Expected::Allowed, None),
        (Verdict::AllowedAfter, _) => (Expected::After, None),
        (Verdict::Denied, Some(Refusal::NotDecided)) => (Expected::NotDecided, None),
        (Verdict::Denied, code) => (Expected::Denied, code),
    }
}

/// Writes an answer as an expectation: a table to be appended to a document of TOML.
///
/// # Example
/// ```
/// use zest_ledger::{Engine, Ledger, Question, expectation::recorded};
/// let text = "[users.mate-1]\n[systems.box]\nkind = 'host'\nno-command-set = 'nothing'\n";
/// let engine = Engine::compile(Ledger::new().document("box.toml", text).estate()?)?;
/// let row = recorded(&engine.ask(&Question::new("mate-1", "box", "/bin/true")));
/// assert!(row.starts_with("\n[[expectations]]\nwho = [\"user:mate-1\"]\non = [\"box\"]\nlines = [\"/bin/true\"]\nanswer = \"denied\"\n"));
/// let again = Ledger::new().document("box.toml", &format!("{text}{row}"));
/// assert!(zest_ledger::expectation::expectations(&Engine::compile(again.estate()?)?).outcomes[0].holds);
/// # Ok::<(), zest_ledger::finding::Findings>(())
/// ```
#[must_use]
pub fn recorded(answer: &Answer) -> String {
    let question = &answer.question;
    let (expected, code) = wanted(answer);
    let mut out = head(&question.user, &question.system, &question.session);
    let key = match question.form {
        Form::Line => "lines",
        Form::Statement => "statements",
    };
    let _ = writeln!(out, "{key} = [{}]\nanswer = {}", quoted_text(&question.line), quoted_text(expected.word()));
    if let Some(code) = code {
        let _ = writeln!(out, "code = {}", quoted_text(code.code()));
    }
    out
}

/// Writes a session that went on as an expectation: its steps, each with its answer.
///
/// # Example
/// ```
/// use zest_ledger::{Ledger, Question, ask::Session, expectation::recorded_steps};
/// # let text = r#"
/// # users.mate-1.proofs = ["password"]
/// # users.mate-2.proofs = ["password"]
/// # systems.rota.kind = "application"
/// # [applications.rota]
/// # types.shift.rights = ["plan"]
/// # objects."shift/early" = {}
/// # grants = [{ allow = ["plan"], on = "shift/*", to = ["user:mate-1"] }]
/// # "#;
/// # let engine = Ledger::new().document("rota.toml", text).engine(1)?;
/// let answer = engine.explain(&Question::new("mate-1", "rota", "plan on shift/early"));
/// let row = recorded_steps("mate-1", "rota", &Session::default(), &[answer]);
/// assert!(row.ends_with("steps = [\n  { line = \"plan on shift/early\", answer = \"allowed\" },\n]\n"), "{row}");
/// # Ok::<(), zest_ledger::finding::Findings>(())
/// ```
#[must_use]
pub fn recorded_steps(user: &str, system: &str, session: &Session, answers: &[Answer]) -> String {
    let mut out = head(user, system, session);
    out.push_str("steps = [\n");
    for answer in answers {
        let (expected, code) = wanted(answer);
        let code = code.map_or(String::new(), |code| format!(", code = {}", quoted_text(code.code())));
        let _ = writeln!(out, "  {{ line = {}, answer = {}{code} }},", quoted_text(&answer.question.line), quoted_text(expected.word()));
    }
    out.push_str("]\n");
    out
}

fn head(user: &str, system: &str, session: &Session) -> String {
    let mut out = format!("\n[[expectations]]\nwho = [{}]\non = [{}]\n", quoted_text(&format!("user:{user}")), quoted_text(system));
    let facts: Vec<String> =
        session.stated().into_iter().map(|(fact, texts)| format!("{} = {}", fact.key(), value(fact, &texts))).collect();
    if !facts.is_empty() {
        let _ = writeln!(out, "session = {{ {} }}", facts.join(", "));
    }
    out
}

/// Writes a fact as a document states it.
fn value(fact: Fact, texts: &[String]) -> String {
    let first = || texts.first().map_or("", String::as_str);
    let list = || texts.iter().filter(|text| *text != "none").map(|text| quoted_text(text)).collect::<Vec<_>>().join(", ");
    match fact {
        // Moments and numbers stand without quotes.
        Fact::At | Fact::Expires | Fact::Level => first().to_owned(),
        Fact::Local | Fact::Confirmed => "true".to_owned(),
        Fact::Central => quoted_text("down"),
        Fact::Origin | Fact::Channel | Fact::Mode | Fact::Account | Fact::ApprovedBy => quoted_text(first()),
        Fact::Proofs | Fact::Roles | Fact::Acting | Fact::ApproverProofs => format!("[{}]", list()),
        Fact::Attributes => {
            let pairs = texts.iter().filter_map(|text| text.split_once('='));
            let pairs: Vec<String> = pairs.map(|(name, value)| format!("{} = {}", quoted_text(name), quoted_text(value))).collect();
            format!("{{ {} }}", pairs.join(", "))
        }
    }
}
