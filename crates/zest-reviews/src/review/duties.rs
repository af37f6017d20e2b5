//! People who hold roles that nobody may hold together.

use zest_engine::Engine;
use zest_engine::duties;
use zest_engine::links::UserId;
use zest_model::finding::{Code, Finding};
use zest_model::source::visible;

/// Adds a finding for everybody who does.
pub(super) fn review(engine: &Engine, findings: &mut Vec<Finding>) {
    let estate = engine.estate();
    if estate.separation_links().iter().all(|s| s.when_active) {
        return;
    }
    let held = |i| duties::held(engine, UserId::new(i), None, &zest_model::ask::Session::default());
    let held: Vec<_> = (0..estate.users().len()).map(held).collect();
    for separation in estate.separation_links().iter().filter(|s| !s.when_active) {
        for (user, held) in estate.users().iter().zip(&held) {
            let both = duties::clash(separation, held);
            if both.len() < 2 {
                continue;
            }
            let names: Vec<String> = both.iter().map(|&(r, _)| format!("`{}`", visible(&estate.role(r).id.value))).collect();
            let mut finding = Finding::new(
                Code::DutiesNotSeparated,
                format!("`{}` holds {}, which nobody may hold together", visible(&user.id.value), names.join(" and ")),
            )
            .at(both[0].1, "one of them by this");
            for &(_, place) in &both[1..] {
                finding = finding.also(place, "another by this");
            }
            findings.push(
                finding.also(separation.place, "kept apart here").help(
                    "take the user out of one; until then, while both are held, nothing that the central source vouches for is allowed",
                ),
            );
        }
    }
}
