//! References: labels, places in the tree, groups in groups, named origins, roles in roles.

use zest_ledger::ask::{Refusal, Verdict};
use zest_ledger::finding::Code;
use zest_ledger::{Engine, Question};

use crate::support::{ask, codes, engine, findings, outcome};

const BASE: &str = r#"
[users]
a = { proofs = ["password"] }
b = { proofs = ["password"] }
[groups]
inner = { members = ["user:a"] }
middle = { members = ["group:inner"] }
outer = { members = ["group:middle", "user:b"] }
[vocabularies.make]
commands = [{ line = "show release" }, { line = "show log" }]
[systems.north-1]
kind = "network-device"
vocabulary = "make"
no-command-set = "everything"
within = "shore/north"
labels = { class = "switch", site = "north" }
[systems.north-2]
kind = "network-device"
vocabulary = "make"
no-command-set = "everything"
within = "shore/northern"
labels = { class = "router", site = "north" }
[systems.south-1]
kind = "network-device"
vocabulary = "make"
no-command-set = "everything"
within = "shore/south/pier/1"
labels = { class = "switch", site = "south" }
[roles.reader]
band = { start = 1, ceiling = 1 }
"#;

fn covered(on: &str) -> Vec<&'static str> {
    let engine = engine(&format!("{BASE}[[assignments]]\nto = [\"user:a\"]\nroles = [\"reader\"]\non = {on}\n"));
    ["north-1", "north-2", "south-1"]
        .into_iter()
        .filter(|s| engine.decide(&Question::new("a", s, "show log")).verdict == Verdict::Allowed)
        .collect()
}

#[test]
fn selections_cover_what_fits_all_their_parts() {
    for (on, expected) in [
        ("{ all = true }", &["north-1", "north-2", "south-1"][..]),
        ("{ systems = [\"south-1\"] }", &["south-1"]),
        ("{ labels = { class = \"switch\" } }", &["north-1", "south-1"]),
        ("{ labels = { class = [\"switch\", \"router\"] } }", &["north-1", "north-2", "south-1"]),
        ("{ labels = { class = \"switch\", site = \"north\" } }", &["north-1"]),
        ("{ within = \"shore\" }", &["north-1", "north-2", "south-1"]),
        // A place is not the beginning of another word.
        ("{ within = \"shore/north\" }", &["north-1"]),
        ("{ within = \"shore/south\" }", &["south-1"]),
        ("{ within = \"/shore/south/\" }", &["south-1"]),
        ("{ within = \"shore\", labels = { class = \"router\" } }", &["north-2"]),
        ("{ systems = [\"north-1\", \"south-1\"], labels = { site = \"south\" } }", &["south-1"]),
        ("{ all = true, labels = { class = \"router\" } }", &["north-2"]),
        ("{ labels = { class = \"toaster\" } }", &[]),
        ("{ within = \"nowhere\" }", &[]),
    ] {
        assert_eq!(covered(on), expected, "{on}");
    }
}

#[test]
fn a_selection_that_says_nothing_is_an_error_and_covers_nothing() {
    for on in ["{}", "{ all = false }", "{ systems = [] }"] {
        let found = findings(&format!("{BASE}[[assignments]]\nto = [\"user:a\"]\nroles = [\"reader\"]\non = {on}\n"));
        assert!(codes(&found).contains(&Code::MissingKey), "{on}: {found}");
    }
}

#[test]
fn groups_hold_their_members_at_any_depth() {
    for (to, a, b) in [("group:inner", true, false), ("group:middle", true, false), ("group:outer", true, true), ("user:b", false, true)] {
        let engine = engine(&format!("{BASE}[[assignments]]\nto = [\"{to}\"]\nroles = [\"reader\"]\non = {{ all = true }}\n"));
        for (user, expected) in [("a", a), ("b", b)] {
            assert_eq!(
                engine.decide(&Question::new(user, "north-1", "show log")).verdict == Verdict::Allowed,
                expected,
                "{user} through {to}"
            );
        }
    }
}

#[test]
fn the_chain_of_groups_is_named() {
    let engine = engine(&format!("{BASE}[[assignments]]\nto = [\"group:outer\"]\nroles = [\"reader\"]\non = {{ all = true }}\n"));
    let answer = ask(&engine, &Question::new("a", "north-1", "show log"));
    assert!(
        answer.gates.iter().any(|g| g.text == "role `reader` through group `outer`, by way of `inner`, `middle`"),
        "{:#?}",
        answer.gates
    );
}

#[test]
fn owners_are_not_members() {
    let text = format!(
        "{BASE}[groups.owned]\nowners = [\"user:b\"]\n[[assignments]]\nto = [\"group:owned\"]\nroles = [\"reader\"]\non = {{ all = true }}\n"
    );
    let answer = ask(&engine(&text), &Question::new("b", "north-1", "show log"));
    assert_eq!(answer.refusal, Some(Refusal::NoAssignment));
}

/// A role that includes others, with the band and sets that come of it.
fn included(roles: &str) -> Engine {
    engine(&format!(
        "{BASE}{roles}\n[command-sets.log]\nrules = [\"allow show log\"]\n[command-sets.version]\nrules = [\"allow show release\"]\n[[assignments]]\nto = [\"user:a\"]\nroles = [\"top\"]\non = {{ systems = [\"north-1\"] }}\n"
    ))
}

#[test]
fn a_roles_own_band_stands_over_those_it_includes() {
    for (roles, band) in [
        (
            "[roles.top]\nincludes = [\"low\", \"high\"]\n[roles.low]\nband = { start = 1, ceiling = 7 }\n[roles.high]\nband = { start = 3, ceiling = 5 }",
            (3, 7),
        ),
        ("[roles.top]\nincludes = [\"low\"]\nband = { start = 0, ceiling = 2 }\n[roles.low]\nband = { start = 1, ceiling = 7 }", (0, 2)),
        (
            "[roles.top]\nincludes = [\"middle\"]\n[roles.middle]\nincludes = [\"low\"]\n[roles.low]\nband = { start = 1, ceiling = 7 }",
            (1, 7),
        ),
    ] {
        let engine = included(roles);
        let opens = |level: u8| engine.sign_in(&Question::new("a", "north-1", "").level(level)).refusal;
        assert_eq!(engine.sign_in(&Question::new("a", "north-1", "")).level, Some(band.0), "{roles}");
        assert_ne!(opens(band.1), Some(Refusal::LevelAboveCeiling), "{roles}");
        assert_eq!(opens(band.1 + 1), Some(Refusal::LevelAboveCeiling), "{roles}");
    }
}

#[test]
fn command_sets_of_included_roles_add_up() {
    let roles =
        "[roles.top]\nincludes = [\"low\"]\ncommands = [\"log\"]\nband = { start = 1, ceiling = 1 }\n[roles.low]\ncommands = [\"version\"]";
    let text = BASE.replacen(
        "no-command-set = \"everything\"",
        "no-command-set = \"nothing\"\nauthorisation = { levels = \"all\", configuration = true }",
        1,
    );
    let engine = engine(&format!(
        "{text}{roles}\n[command-sets.log]\nrules = [\"allow show log\"]\n[command-sets.version]\nrules = [\"allow show release\"]\n[[assignments]]\nto = [\"user:a\"]\nroles = [\"top\"]\non = {{ systems = [\"north-1\"] }}\n"
    ));
    for line in ["show log", "show release"] {
        assert_eq!(outcome(&ask(&engine, &Question::new("a", "north-1", line))), Ok(Verdict::Allowed), "{line}");
    }
}

#[test]
fn references_with_the_wrong_type_are_told_apart_from_unknown_ones() {
    for (text, code) in [
        ("[groups.g]\nmembers = [\"user:inner\"]", Code::UnknownReference),
        ("[groups.g]\nmembers = [\"inner\"]", Code::BadReference),
        ("[groups.g]\nmembers = [\"system:north-1\"]", Code::BadReference),
        ("[groups.g]\nmembers = [\"\"]", Code::BadReference),
        ("[roles.r]\nincludes = [\"role:reader\"]", Code::UnknownReference),
        ("[[assignments]]\nto = [\"user:a\"]\nroles = [\"reader\"]\non = { systems = [\"system:north-1\"] }", Code::UnknownReference),
        ("[[assignments]]\nto = [\"user:a\"]\nroles = [\"reader\"]\non = { labels = { clas = \"switch\" } }", Code::UnknownReference),
        (
            "[[assignments]]\nto = [\"user:a\"]\nroles = [\"reader\"]\non = { all = true }\nwhen = { origin = [\"origin:nowhere\"] }",
            Code::UnknownReference,
        ),
        (
            "[[assignments]]\nto = [\"user:a\"]\nroles = [\"reader\"]\non = { all = true }\nwhen = { origin = [\"watch-room\"] }",
            Code::BadValue,
        ),
        ("[[assignments]]\nto = [\"user:a\"]\nroles = [\"reader\"]\non = { all = true }\nwhen = { hours = \"6-22\" }", Code::BadValue),
        (
            "[[assignments]]\nto = [\"user:a\"]\nroles = [\"reader\"]\non = { all = true }\nwhen = { hours = \"06:00-06:00\" }",
            Code::EmptyWindow,
        ),
        (
            "[[assignments]]\nto = [\"user:a\"]\nroles = [\"reader\"]\non = { all = true }\nwhen = { hours = \"06:00-22:00\", zone = \"Europe/Atlantis\" }",
            Code::BadValue,
        ),
        ("[[assignments]]\nto = [\"user:a\"]\nroles = [\"reader\"]\non = { all = true }\nwhen = { proof-age = \"1h\" }", Code::MissingKey),
        (
            "[[assignments]]\nto = [\"user:a\"]\nroles = [\"reader\"]\non = { all = true }\nwhen = { proof = [\"password\"], proof-age = \"soon\" }",
            Code::BadValue,
        ),
    ] {
        let found = findings(&format!("{BASE}{text}"));
        assert!(codes(&found).contains(&code), "{text}: {found}");
    }
}
