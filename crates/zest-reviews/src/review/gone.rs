//! People who are gone: disabled, or past the end of their validity at a moment. Every place that still names one is a finding.

use jiff::Timestamp;
use rustc_hash::FxHashMap;

use zest_engine::Engine;
use zest_engine::entry::gone;
use zest_engine::named::{self, Told, Where};
use zest_model::finding::{Code, Finding};
use zest_model::source::{Place, visible};

/// Adds a finding for each place that names somebody who is gone.
pub(crate) fn review(engine: &Engine, at: Option<Timestamp>, findings: &mut Vec<Finding>) {
    let entries = &engine.estate().entries();
    let people = entries.users.iter().filter_map(|user| Some((user.id.value.as_str(), gone(user, at)?)));
    let people: FxHashMap<&str, (String, Place)> = people.collect();
    if people.is_empty() {
        return;
    }
    named::each(engine.estate(), &mut |told, Where { whose, .. }| {
        let (user, place) = match &told {
            Told::Party { who, .. } => (who.value.strip_prefix("user:").unwrap_or_default(), who.place),
            Told::Login { written, login, is_locked: false } => (login.as_str(), written.place),
            Told::Login { is_locked: true, .. } | Told::Compares(_) => return,
        };
        if let Some((how, since)) = people.get(user) {
            findings.push(
                Finding::new(Code::DisabledUserKept, format!("`{}` {how}, and is still named {}", visible(user), whose()))
                    .at(place, "still here")
                    .also(*since, "gone by this")
                    .help("take the user out, or the right is back the day the user is"),
            );
        }
    });
}
