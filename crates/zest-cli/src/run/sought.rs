//! What is looked for: a line, a statement, or whatever a pattern takes.

use zest_ledger::ask::{Form, GateOutcome, Session};
use zest_ledger::review::{Sought, readable};
use zest_ledger::source::visible;
use zest_ledger::{Engine, Question};

use crate::unknown::Unknown;

/// Returns what is looked for on some systems; a pattern that none of them can read is said.
pub(super) fn of<'a>(
    engine: &Engine,
    systems: &[&str],
    (sql, like, line): (Option<&'a str>, Option<&'a str>, &'a str),
) -> Result<Sought<'a>, Unknown> {
    match (sql, like) {
        (Some(sql), _) => Ok(Sought::Statement(sql)),
        (None, None) => Ok(Sought::Line(line)),
        (None, Some(pattern)) => {
            let unreadable = |why: String| Unknown(format!("`{}` cannot be looked for: {why}", visible(pattern)));
            readable(engine, systems, pattern).map(|()| Sought::Like(pattern)).map_err(unreadable)
        }
    }
}

/// How many people are looked at to learn why nobody may something.
const MAX_ASKED: usize = 1_000;

/// Returns what a system says to a line that it cannot read, or that names nothing it knows: then nobody may it, and that says little.
pub(super) fn not_known(engine: &Engine, system: &str, sought: Sought<'_>, session: &Session) -> Option<String> {
    let (line, form) = match sought {
        Sought::Line(line) => (line, Form::Line),
        Sought::Statement(sql) => (sql, Form::Statement),
        Sought::Like(_) => return None,
    };
    // Whoever cannot sign in does not come so far.
    engine.estate().users().iter().take(MAX_ASKED).find_map(|user| {
        let mut question = Question::in_session(&user.id.value, system, line, session.clone());
        question.form = form;
        let gates = engine.explain(&question).gates;
        gates.into_iter().find(|gate| matches!(gate.outcome, GateOutcome::Refuses(code) if code.is_about_line())).map(|gate| gate.text)
    })
}
