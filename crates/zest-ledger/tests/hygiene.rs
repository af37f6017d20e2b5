//! Hygiene: what is almost a defect is not reported.

use zest_ledger::finding::Code;
use zest_ledger::review::hygiene;
use zest_ledger::{Engine, Ledger};

use crate::support::engine;

const SOUND: &str = r#"
[users]
lead-1 = { proofs = ["password"] }
watch-1 = { proofs = ["password"] }
[groups]
leads = { members = ["user:lead-1"], owners = ["user:lead-1"] }
watch = { members = ["user:watch-1"], owners = ["user:lead-1"] }
[vocabularies.make]
modes = { deck = {}, settings = { configuration = true } }
commands = [
  { line = "leave", level = 0, does = "leave-session" },
  { line = "elevate", level = 0, does = "elevate" },
  { line = "elevate {level: 0-15}", level = 0, does = "elevate" },
  { line = "show level", level = 0, does = "show-level" },
  { line = "show release" },
  { line = "show log", level = 7 },
  { line = "show log last {number}", level = 7 },
  { line = "edit settings", level = 7, enters = "settings" },
  { line = "name {word}", in = ["settings"], level = 7 },
  { line = "back", in = ["settings"], level = 0, does = "leave-mode" },
]
[command-sets.everything]
rules = ["allow ..."]
[command-sets.watch]
rules = ["allow leave", "allow show level", "allow show release", "allow elevate {1-7}", "allow show log ..."]
[roles.lead]
band = { start = 15, ceiling = 15 }
commands = ["everything"]
[roles.watch]
band = { start = 1, ceiling = 7 }
commands = ["watch"]
[systems.switch]
kind = "network-device"
vocabulary = "make"
no-command-set = "nothing"
authorisation = { levels = "all", configuration = true }
accounts.rescue = { band = { start = 15, ceiling = 15 }, used-by = ["group:leads"], origin = ["192.0.2.0/24"] }
[[assignments]]
to = ["group:leads"]
roles = ["lead"]
on = { all = true }
[[assignments]]
to = ["group:watch"]
roles = ["watch"]
on = { all = true }
"#;

/// The codes of the sound ledger with one text replaced by another.
fn with(from: &str, to: &str) -> Vec<Code> {
    assert!(SOUND.contains(from), "`{from}` is not in the ledger");
    hygiene(&engine(&SOUND.replacen(from, to, 1)), None).list().iter().map(|f| f.code).collect()
}

/// Each row: what is changed, and whether the code is reported then.
/// What is said twice is found; what is stricter, or says when, is not called a copy.
#[test]
fn copies_are_found_and_stricter_ones_are_not() {
    use zest_ledger::finding::Code::{ConditionPassedBy, Repeated, SameContent};
    const ROTA: &str = "[users.a]\nproofs = [\"password\"]\n[groups.g]\nmembers = [\"user:a\"]\nowners = [\"user:a\"]\n[systems.rota]\nkind = \"application\"\n\
                        [applications.rota]\ntypes.shift.rights = [\"plan\", \"drop\"]\nobjects.\"shift/early\" = {}\n";
    let grant = |more: &str| format!("{{ allow = [\"plan\", \"drop\"], on = \"shift/*\", to = [\"group:g\"]{more} }}");
    let two = |one: &str, other: &str| format!("{ROTA}grants = [{}, {}]\n", grant(one), grant(other));
    let when = ", when = { origin = [\"192.0.2.0/24\"] }";
    for (text, expected) in [
        (two("", ""), vec![Repeated]),
        (two("", ", because = \"copied\""), vec![Repeated]),
        (two("", "").replacen("\"plan\", \"drop\"], on", "\"drop\", \"plan\"], on", 1), vec![Repeated]),
        (two(when, when), vec![Repeated]),
        (two("", when), vec![ConditionPassedBy]),
        (two(when, ""), vec![ConditionPassedBy]),
        // What asks for more, or for a while, is no copy and passes nothing by.
        (two("", ", after = { confirm = true }"), vec![]),
        (two(when, ", after = { confirm = true }"), vec![]),
        (two("", ", when = { origin = [\"192.0.2.0/24\"] }, after = { confirm = true }"), vec![]),
        (two(when, ", until = 2030-01-01"), vec![]),
        (two("", "").replacen("\"plan\", \"drop\"], on", "\"plan\"], on", 1), vec![]),
        (
            format!(
                "{ROTA}grants = [{}]\n[roles.one]\ngrants = [{{ allow = [\"plan\"], on = \"shift/*\" }}]\n[roles.other]\ngrants = [{{ allow = [\"plan\"], on = \"shift/*\" }}]\n",
                grant("")
            ),
            vec![SameContent],
        ),
        (
            format!(
                "{ROTA}grants = [{}]\n[roles.one]\ngrants = [{{ allow = [\"plan\"], on = \"shift/*\" }}]\n[roles.other]\ngrants = [{{ allow = [\"drop\"], on = \"shift/*\" }}]\n",
                grant("")
            ),
            vec![],
        ),
        (
            format!(
                "{ROTA}grants = [{}]\n[command-sets.one]\nrules = [\"allow  show log\"]\n[command-sets.other]\nrules = [\"allow show log\"]\n",
                grant("")
            ),
            vec![SameContent],
        ),
        (
            format!(
                "{ROTA}grants = [{}]\n[command-sets.one]\nrules = [\"allow show log\", \"deny show ...\"]\n[command-sets.other]\nrules = [\"deny show ...\", \"allow show log\"]\n",
                grant("")
            ),
            vec![],
        ),
    ] {
        let found = hygiene(&engine(&text), None);
        let codes: Vec<_> =
            found.list().iter().map(|f| f.code).filter(|code| [Repeated, SameContent, ConditionPassedBy].contains(code)).collect();
        assert_eq!(codes, expected, "{text}\n{found}");
    }
}

#[test]
fn each_defect_is_reported_and_its_neighbour_is_not() {
    let rules = "\"allow leave\", \"allow show level\", \"allow show release\", \"allow elevate {1-7}\", \"allow show log ...\"";
    for (from, to, code, reported) in [
        ("", "", Code::CannotLeave, false),
        ("\"allow leave\", ", "", Code::CannotLeave, true),
        ("\"allow leave\", ", "\"allow le*\", ", Code::CannotLeave, false),
        ("\"allow leave\", ", "\"allow leave now\", ", Code::CannotLeave, true),
        ("\"allow show level\", ", "", Code::CannotShowLevel, true),
        ("\"allow show level\", ", "\"allow show {word}\", ", Code::CannotShowLevel, false),
        // An elevation above the ceiling counts when a rule names it, not when everything is permitted.
        ("elevate {1-7}", "elevate {1-8}", Code::ElevationAboveCeiling, true),
        ("elevate {1-7}", "elevate {1-6}", Code::ElevationAboveCeiling, false),
        (rules, "\"allow ...\"", Code::ElevationAboveCeiling, false),
        ("elevate {1-7}", "elevate {1-6}", Code::CeilingUnreachable, true),
        ("elevate {1-7}", "elevate {7-7}", Code::CeilingUnreachable, false),
        ("start = 1, ceiling = 7", "start = 7, ceiling = 7", Code::CeilingUnreachable, false),
        // The level a rule needs.
        ("elevate {1-7}", "elevate {1-6}", Code::RuleLevelUnreachable, true),
        ("start = 1, ceiling = 7", "start = 7, ceiling = 7", Code::RuleLevelUnreachable, false),
        ("\"allow show log ...\"", "\"allow show ...\"", Code::RuleLevelUnreachable, false),
        // Modes.
        ("\"allow show log ...\"", "\"allow show log ...\", \"allow edit settings\"", Code::CannotLeaveMode, true),
        ("\"allow show log ...\"", "\"allow show log ...\", \"allow edit settings\", \"allow back\"", Code::CannotLeaveMode, false),
        ("configuration = true }\naccounts", "configuration = false }\naccounts", Code::ConfigurationUnauthorised, true),
        ("levels = \"all\", configuration = true", "levels = \"none\", configuration = false", Code::ConfigurationUnauthorised, false),
        // Rules.
        ("\"allow show release\"", "\"allow shwo release\"", Code::RuleMatchesNoCommand, true),
        ("\"allow show release\"", "\"allow show {word}\"", Code::RuleMatchesNoCommand, false),
        ("\"allow show log ...\"", "\"allow show log ...\", \"deny show log\"", Code::RuleHidden, true),
        ("\"allow show log ...\"", "\"deny show log last {1-5}\", \"allow show log ...\"", Code::RuleHidden, false),
        // Accounts.
        ("used-by = [\"group:leads\"], ", "locked = true, used-by = [\"group:leads\"], ", Code::NoEmergencyAccount, true),
        ("band = { start = 15, ceiling = 15 }, used", "band = { start = 1, ceiling = 14 }, used", Code::NoEmergencyAccount, true),
        ("band = { start = 15, ceiling = 15 }, used", "band = { start = 1, ceiling = 15 }, used", Code::NoEmergencyAccount, false),
        ("accounts.rescue", "accounts.lead-1", Code::AccountForNobody, false),
        ("accounts.rescue", "identity-sources = [\"local\"]\naccounts.rescue", Code::NoEmergencyAccount, false),
        ("accounts.rescue", "when-central-down = \"nothing\"\naccounts.rescue", Code::OutageLocksOut, true),
        ("accounts.rescue", "when-central-down = \"own-levels\"\naccounts.rescue", Code::OutageLocksOut, false),
        // Assignments: a condition on the first, a larger group or another system in the second keep both alive.
        ("to = [\"group:watch\"]", "to = [\"group:leads\"]", Code::AssignmentHidden, true),
        ("to = [\"group:watch\"]", "to = [\"group:leads\", \"group:watch\"]", Code::AssignmentHidden, false),
        (
            "on = { all = true }\n[[assignments]]\nto = [\"group:watch\"]",
            "on = { all = true }\nwhen = { channel = [\"web\"] }\n[[assignments]]\nto = [\"group:leads\"]",
            Code::AssignmentHidden,
            false,
        ),
        ("to = [\"group:leads\"]", "to = [\"user:lead-1\"]", Code::PersonalAssignment, true),
        // People.
        ("watch-1 = { proofs = [\"password\"] }", "watch-1 = { disabled = true }", Code::UserWithoutProof, false),
        ("watch-1 = { proofs = [\"password\"] }", "watch-1 = { disabled = true }", Code::DisabledUserKept, true),
        ("members = [\"user:watch-1\"]", "directory = \"cn=watch,dc=lanternsound,dc=example\"", Code::EmptyGroup, false),
        ("members = [\"user:watch-1\"]", "directory = \"cn=watch,dc=lanternsound,dc=example\"", Code::UserWithoutAssignment, true),
        ("accounts.rescue", "accounts.watch-1", Code::UserWithoutAssignment, false),
    ] {
        assert_eq!(with(from, to).contains(&code), reported, "{code:?} with `{to}` for `{from}`: {:?}", with(from, to));
    }
}

#[test]
fn the_sound_ledger_is_sound() {
    assert_eq!(with("", ""), []);
}

#[test]
fn devices_that_are_alike_are_reported_once_and_those_that_differ_each() {
    let second = "[systems.switch-2]\nkind = \"network-device\"\nvocabulary = \"make\"\nno-command-set = \"nothing\"\nauthorisation = { levels = \"all\", configuration = true }\naccounts.rescue = { band = { start = 15, ceiling = 15 }, used-by = [\"group:leads\"], origin = [\"192.0.2.0/24\"] }\n";
    let text = SOUND.replacen("\"allow leave\", ", "", 1) + second;
    let found = hygiene(&engine(&text), None);
    assert_eq!(found.list().iter().filter(|f| f.code == Code::CannotLeave).count(), 1, "{found}");
}

#[test]
fn ids_that_look_alike_are_found_in_every_table() {
    // Each with a Cyrillic letter in the place of a Latin one.
    for (one, other) in [
        ("[users.lead-8]\nproofs = [\"password\"]", "[users.\"l\u{435}ad-8\"]\nproofs = [\"password\"]"),
        ("[groups.crew]", "[groups.\"cr\u{435}w\"]"),
        ("[roles.keeper]", "[roles.\"k\u{435}eper\"]"),
        ("[origins.pier]\nnetworks = [\"192.0.2.0/26\"]", "[origins.\"pi\u{435}r\"]\nnetworks = [\"192.0.2.0/26\"]"),
        ("[command-sets.trace]\nrules = []", "[command-sets.\"trac\u{435}\"]\nrules = []"),
        ("[systems.rota]\nkind = \"application\"", "[systems.\"r\u{43e}ta\"]\nkind = \"application\""),
        (
            "[systems.rota]\nkind = \"application\"\n[applications.rota.types.box]\nrights = [\"open\"]\n[applications.rota.objects]\n\"box/one\" = {}",
            "\"box/on\u{435}\" = {}",
        ),
        (
            "[systems.db]\nkind = \"postgresql\"\n[databases.db.objects]\n\"table public.rates\" = { columns = { id = \"integer\" } }",
            "\"table public.rat\u{435}s\" = { columns = { id = \"integer\" } }",
        ),
    ] {
        let found = |text: &str| {
            let ledger = format!("[systems.other]\nkind = \"application\"\n{text}\n");
            let estate = Ledger::new().document("a.toml", &ledger).estate().unwrap_or_else(|f| panic!("{text}\n{f}"));
            let findings = hygiene(&Engine::compile(estate).unwrap_or_else(|f| panic!("{f}")), None);
            findings.list().iter().any(|f| f.code == Code::IdsLookAlike)
        };
        assert!(!found(one), "{one}");
        assert!(found(&format!("{one}\n{other}")), "{other}");
    }
}
