//! What may be done in one session at this moment, as a question mark or a menu lists it.

use super::together::{in_few_words, of_one_name, with_all_below};
use zest_engine::Engine;
use zest_engine::rights::{Action, Side};
use zest_engine::rules::Site;
use zest_model::ask::{Question, Verdict};

/// Something that may be done in a session.
///
/// # Example
/// ```
/// use zest_ledger::{Ledger, Question, review::menu};
/// let text = r#"
/// users.mate-1.proofs = ["password"]
/// systems.rota.kind = "application"
/// [applications.rota]
/// types.shift.rights = ["plan"]
/// objects."shift/early" = {}
/// grants = [{ allow = ["plan"], on = "shift/*", to = ["user:mate-1"] }]
/// "#;
/// let engine = Ledger::new().document("rota.toml", text).engine(1)?;
/// let items = menu(&engine, &Question::new("mate-1", "rota", ""));
/// assert!(items.iter().any(|item| item.line.contains("plan") && !item.is_after));
/// # Ok::<(), zest_ledger::finding::Findings>(())
/// ```
#[derive(Clone, Debug, PartialEq, Eq)]
#[non_exhaustive]
pub struct MenuItem {
    /// What it is called: a line of a vocabulary, a rule, operations with what they are on.
    pub line: String,
    /// What it is for, where that is written.
    pub about: String,
    /// Whether only some lines of this form are permitted.
    pub is_partial: bool,
    /// Whether obligations come first.
    pub is_after: bool,
}

/// One name on one thing.
struct Named {
    name: String,
    on: String,
    is_allowed: bool,
    is_partial: bool,
    is_after: bool,
}

/// Lists what is allowed in a session, as it would be answered; the line of the question is not looked at. What a session does not
/// state is not assumed.
///
/// # Example
/// ```
/// use zest_ledger::{Engine, Ledger, Question, review::menu};
/// let estate = Ledger::new().document("rota.toml", r#"
/// [users.mate-1]
/// proofs = ["password"]
/// [systems.rota]
/// kind = "application"
/// [applications.rota]
/// types.shift.rights = ["plan", "look"]
/// objects."shift/early" = {}
/// grants = [{ allow = ["plan"], on = "shift/*", to = ["user:mate-1"] }]
/// "#).estate()?;
/// let items = menu(&Engine::compile(estate)?, &Question::new("mate-1", "rota", ""));
/// assert_eq!(items[0].line, "plan on shift/early");
/// # Ok::<(), zest_ledger::finding::Findings>(())
/// ```
#[must_use]
pub fn menu(engine: &Engine, session: &Question) -> Vec<MenuItem> {
    let (Some(site), Some(user)) = (engine.site(&session.system), engine.find_user(&session.user, false)) else { return Vec::new() };
    of_actions(engine, session, site, &site.kind().actions(&[Side { site, user }]))
}

/// Lists those of some actions that are allowed in a session.
pub(super) fn of_actions(engine: &Engine, session: &Question, site: Site<'_>, actions: &[Action]) -> Vec<MenuItem> {
    let collections = site.kind().collections(site);
    let mut all: Vec<Named> = Vec::new();
    for action in actions {
        let verdict = engine.decide(&Question { line: action.line.clone(), form: action.form, ..session.clone() }).verdict;
        let at = all.iter().position(|named| named.name == action.name && named.on == action.under).unwrap_or_else(|| {
            let (name, on) = (action.name.clone(), action.under.clone());
            all.push(Named { name, on, is_allowed: false, is_partial: false, is_after: true });
            all.len() - 1
        });
        let named = &mut all[at];
        named.is_partial |= verdict == Verdict::Denied;
        named.is_after &= verdict != Verdict::Allowed;
        named.is_allowed |= verdict != Verdict::Denied;
    }
    all.retain(|named| named.is_allowed);
    let (alone, on): (Vec<&Named>, Vec<&Named>) = all.iter().partition(|named| named.on.is_empty());
    let mut items: Vec<MenuItem> = alone.iter().map(|named| item(named.name.clone(), named.is_partial, named.is_after)).collect();
    for is_after in [false, true] {
        // The names by what they are on, then what the same names are on.
        let mut by_on: Vec<(&str, Vec<&str>)> = Vec::new();
        for named in on.iter().filter(|named| named.is_after == is_after) {
            match by_on.iter_mut().find(|(known, _)| *known == named.on) {
                Some((_, names)) => names.push(&named.name),
                None => by_on.push((&named.on, vec![&named.name])),
            }
        }
        for (names, on) in of_one_name(by_on.into_iter().map(|(on, names)| (names, on))) {
            let names_told = in_few_words(&names, on[0], actions, &collections).join(", ");
            let on = with_all_below(actions, names[0], &on).join(", ");
            items.push(item(format!("{names_told} on {on}"), false, is_after));
        }
    }
    items
}

const fn item(line: String, is_partial: bool, is_after: bool) -> MenuItem {
    MenuItem { line, about: String::new(), is_partial, is_after }
}
