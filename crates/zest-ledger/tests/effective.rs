//! Effective permissions: which assignments can apply, which levels can be reached, which commands are left.

use zest_ledger::Question;
use zest_ledger::ask::Session;
use zest_ledger::review::{CommandRight, Effective, Extent, effective};

use crate::support::{PIER, engine};

fn of(user: &str, system: &str) -> Effective {
    effective(&engine(PIER), user, Some(system), &Session::default()).expect("the user is known").remove(0)
}

fn lines(rights: &[CommandRight]) -> Vec<String> {
    let shown = |r: &CommandRight| match &r.extent {
        Extent::Every => format!("{} {}", r.level, r.line),
        Extent::Except(line) => format!("{} {} but not {line}", r.level, r.line),
    };
    rights.iter().map(shown).collect()
}

#[test]
fn commands_are_those_that_both_locks_let_through_at_a_level_that_can_be_reached() {
    let rights = of("watch-1", "switch");
    let first = &rights.entitlements[0];
    assert_eq!((first.band, first.levels.as_slice()), (Some((1, 7)), &[1, 2, 3, 4, 5, 6, 7][..]));
    assert_eq!(
        lines(&first.commands),
        [
            "1 leave",
            "1 elevate {level: 0-15} but not elevate 0",
            "1 show level",
            "3 show release",
            "1 show paths",
            "1 show path to {address}",
            "7 show log",
            "1 change passphrase",
        ]
    );
}

#[test]
fn every_command_says_what_permits_it_and_where() {
    let rights = of("watch-1", "switch");
    let version = rights.entitlements[0].commands.iter().find(|c| c.line == "show release").expect("it is listed");
    assert_eq!(version.ground, "allow show ...");
    let line = 1 + PIER[..PIER.find("\"allow show ...\"").expect("the rule")].matches('\n').count();
    assert_eq!(version.location.as_ref().map(|l| l.line as usize), Some(line));
}

#[test]
fn where_the_sets_are_not_asked_the_level_alone_decides() {
    let rights = of("setless-1", "router");
    assert_eq!(
        lines(&rights.entitlements[0].commands)[..2],
        ["0 leave", "0 elevate {level: 0-15} but not elevate 2"],
        "{:?}",
        rights.entitlements[0]
    );
    assert!(rights.entitlements[0].commands.iter().all(|c| c.level <= 1), "its ceiling is 1");
}

#[test]
fn conditions_that_the_facts_leave_open_are_listed_and_those_that_fail_rule_out() {
    let open = of("limited-1", "switch");
    let words = &open.entitlements[0].conditions;
    for part in
        ["from origin:watch-room", "22:00-06:00 Europe/Oslo", "on mon or tue (Europe/Oslo)", "by terminal", "with password within 1h"]
    {
        assert!(words.iter().any(|w| w == part), "{part} is not in {words:?}");
    }
    let session = Session { origin: Some("203.0.113.9".parse().expect("an address")), ..Session::default() };
    let ruled_out = effective(&engine(PIER), "limited-1", Some("switch"), &session).expect("known");
    assert!(ruled_out[0].entitlements.is_empty());
}

#[test]
fn who_cannot_sign_in_has_nothing() {
    for (user, why) in [("gone-1", "`gone-1` is disabled"), ("bare-1", "`bare-1` has no way to prove identity")] {
        let rights = of(user, "switch");
        assert_eq!(rights.refused.as_ref().map(|(text, _)| text.as_str()), Some(why));
        assert!(rights.entitlements.is_empty());
    }
}

#[test]
fn local_accounts_are_listed_where_the_local_source_is_asked() {
    assert_eq!(
        of("lead-1", "switch").accounts.iter().map(|a| (a.login.as_str(), a.start, a.ceiling)).collect::<Vec<_>>(),
        [("emergency", 15, 15)]
    );
    let island = of("lead-1", "island");
    assert!(island.entitlements.is_empty(), "the central source is not asked there");
    assert_eq!(island.accounts.len(), 1);
}

#[test]
fn a_local_account_with_command_sets_lists_what_they_permit_as_it_is_answered() {
    let ledger = PIER;
    let engine = engine(&format!(
        "{ledger}\n[systems.sealed]\nkind = \"network-device\"\nvocabulary = \"make\"\nno-command-set = \"nothing\"\nidentity-sources = [\"local\"]\n\
         [systems.sealed.accounts.lead-1]\nband = {{ start = 1, ceiling = 15 }}\ncommands = [\"trace\"]\n"
    ));
    let rights = effective(&engine, "lead-1", Some("sealed"), &Session::default()).expect("she is known");
    let listed = rights[0].accounts[0].commands.as_ref().expect("it has command sets of its own");
    assert!(!listed.is_empty());
    for line in ["show release", "show paths", "show settings live", "restart", "zero tally", "leave"] {
        let is_listed = listed.iter().any(|c| c.line == line);
        let allowed = (1..=15).any(|level| engine.explain(&Question::new("lead-1", "sealed", line).level(level)).refusal.is_none());
        assert_eq!(is_listed, allowed, "{line}: {listed:?}");
    }
}

#[test]
fn unknown_names_give_nothing_rather_than_an_empty_list() {
    assert!(effective(&engine(PIER), "nobody", None, &Session::default()).is_none());
    assert_eq!(effective(&engine(PIER), "watch-1", Some("nowhere"), &Session::default()), Some(Vec::new()));
    assert_eq!(effective(&engine(PIER), "watch-1", None, &Session::default()).map(|r| r.len()), Some(3));
}
