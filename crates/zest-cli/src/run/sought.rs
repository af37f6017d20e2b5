//! What is looked for: a line, a statement, or whatever a pattern takes.

use zest_ledger::Engine;
use zest_ledger::review::{Sought, readable};
use zest_ledger::source::visible;

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
