//! The demo ledgers: as large as they claim to be, sound where they should be, and defective where they should be.

use std::collections::BTreeMap;

use serde_json::Value;

use crate::support::{root, zest, zest_with};

fn findings(ledger: &str) -> Vec<Value> {
    let ran = zest(&format!("findings --ledger demo/{ledger} --at 2026-11-25T09:00:00+01:00 --format json"));
    let told: Value = serde_json::from_str(&ran.out).expect("JSON");
    told["findings"].as_array().expect("a list").clone()
}

/// The tables of a demo ledger, by their headers.
fn count(ledger: &str, header: &str) -> usize {
    let folder = root().join("demo").join(ledger);
    let texts = std::fs::read_dir(folder).expect("the demo").flatten().map(|e| std::fs::read_to_string(e.path()).expect("a document"));
    let is_entry = |line: &&str| line.strip_prefix(header).is_some_and(|rest| rest.matches('.').count() == 0 && rest.ends_with(']'));
    texts.map(|text| text.lines().filter(is_entry).count()).sum()
}

#[test]
fn the_demo_is_as_large_as_an_administrators_day() {
    for (header, least) in [("[users.", 24), ("[groups.", 12), ("[systems.", 15), ("[command-sets.", 7), ("[roles.", 7)] {
        let found = count("lanternsound", header);
        assert!(found >= least, "{found} of {header}");
    }
}

#[test]
fn the_findings_of_the_demo_are_meant() {
    let list = findings("lanternsound");
    let codes: Vec<&str> = list.iter().filter_map(|f| f["name"].as_str()).collect();
    // A course that is over; three accounts whose people make a role active by themselves, the partners that are on every poster, and a new
    // watch officer who has no credential yet.
    assert_eq!(codes, ["expired", "no-default-role", "no-default-role", "no-default-role", "public-grant", "user-without-proof"]);
}

#[test]
fn the_defects_are_found_each_where_it_stands() {
    let mut found: BTreeMap<String, Vec<String>> = BTreeMap::new();
    for finding in findings("with-defects") {
        let at = &finding["at"]["place"];
        let place = format!("{}:{}", at["file"].as_str().expect("a file"), at["line"]);
        found.entry(finding["name"].as_str().expect("a name").to_owned()).or_default().push(place);
    }
    let line = |file: &str, text: &str, nth: usize| {
        let content = std::fs::read_to_string(root().join("demo/with-defects").join(file)).expect("a document");
        let at = content.lines().enumerate().filter(|(_, l)| l.contains(text)).nth(nth).expect(text).0;
        format!("{file}:{}", at + 1)
    };
    for (code, file, text, nth) in [
        ("user-without-proof", "people.toml", "[users.watch-2]", 0),
        ("ids-differ-in-case", "people.toml", "[users.Watch-1]", 0),
        ("expired", "people.toml", "until = 2026-03-31", 0),
        ("user-without-assignment", "people.toml", "[users.purser-1]", 0),
        ("group-without-owner", "people.toml", "[groups.shore-watch]", 0),
        ("disabled-user-kept", "people.toml", "\"user:night-1\"]", 0),
        ("group-owners-inactive", "people.toml", "owners = [\"user:night-1\"]", 0),
        ("empty-group", "people.toml", "[groups.pursers]", 0),
        ("cannot-leave", "commands.toml", "[command-sets.trace-only]", 0),
        ("cannot-show-level", "commands.toml", "[command-sets.trace-only]", 0),
        ("rule-hidden", "commands.toml", "deny  show settings live", 0),
        ("elevation-above-ceiling", "commands.toml", "allow elevate {1-15}", 0),
        ("rule-matches-no-command", "commands.toml", "allow shwo release", 0),
        ("rule-level-unreachable", "commands.toml", "allow zero tally", 0),
        ("command-set-unused", "commands.toml", "[command-sets.forgotten]", 0),
        ("ceiling-unreachable", "rights.toml", "ceiling = 7", 1),
        ("role-unassigned", "rights.toml", "[roles.empty]", 0),
        ("empty-role", "rights.toml", "[roles.empty]", 0),
        ("assignment-hidden", "rights.toml", "[[assignments]]", 2),
        ("personal-assignment", "rights.toml", "user:watch-1", 0),
        ("expired", "rights.toml", "until = 2026-06-30", 0),
        ("assignment-without-band", "rights.toml", "roles = [\"half\"]", 0),
        ("assignment-covers-nothing", "rights.toml", "selky", 0),
        ("account-from-anywhere", "devices.toml", "harbour-emergency", 0),
        ("no-emergency-account", "devices.toml", "[systems.rt-ember]", 0),
        ("configuration-unauthorised", "devices.toml", "configuration = false", 0),
        ("level-unauthorised", "devices.toml", "levels = [1, 15]", 0),
        ("account-for-nobody", "devices.toml", "[systems.rt-ember.accounts", 0),
        ("account-without-credential", "devices.toml", "credential = \"missing\"", 0),
        ("nobody-reaches-top", "devices.toml", "[systems.rt-firefly]", 0),
        ("outage-locks-out", "devices.toml", "when-central-down", 0),
        ("system-uncovered", "devices.toml", "[systems.rt-glimmer]", 0),
        ("strong-account", "databases.toml", "accounts.net-lead]", 0),
        ("cannot-connect", "databases.toml", "accounts.old-import]", 0),
        ("account-without-user", "databases.toml", "accounts.old-import]", 0),
        ("empty-database-role", "databases.toml", "spare = {}", 0),
        ("database-role-unused", "databases.toml", "spare = {}", 0),
        ("public-grant", "databases.toml", "grants]]", 2),
        ("broad-beside-narrow", "databases.toml", "grants]]", 4),
        ("grant-to-account", "databases.toml", "grants]]", 5),
        ("schema-shut", "databases.toml", "grants]]", 6),
        ("anonymous-account", "databases.toml", "@192.0.2.10", 0),
        ("any-origin", "databases.toml", "watch-1@%", 0),
        ("no-default-role", "databases.toml", "watch-1@%", 0),
        ("account-never-used", "devices.toml", "[systems.rt-glimmer.accounts", 0),
    ] {
        let place = line(file, text, nth);
        let places = found.get(code).unwrap_or_else(|| panic!("{code} is not found"));
        assert!(places.contains(&place), "{code} is not found at {place}, but at {places:?}");
    }
}

#[test]
fn the_tour_shows_every_part() {
    let ran = zest("demo");
    for part in [
        "ALLOWED\n",
        "DENIED  permission",
        "ALLOWED AFTER OBLIGATIONS",
        "account harbour-emergency",
        "refused [not-permitted]",
        "ZL0604",
        "does not hold update on table fares.price",
        "once `member-reader` is the active role",
        "ZL0817",
        "zest demo --into",
    ] {
        assert!(ran.out.contains(part), "`{part}` is not in the tour");
    }
    assert_eq!(ran.out, zest("demo").out, "the tour says the same every time");
}

#[test]
fn the_examples_of_the_brief_of_an_administrator_hold() {
    // Who does what on the demo, as an administrator would tell it.
    let morning = "--at 2026-11-25T09:00:00+01:00 --from 192.0.2.10";
    let office = "--at 2026-11-25T09:00:00+01:00 --from 192.0.2.70";
    let board = "--at 2026-11-25T09:00:00+01:00 --from 198.51.100.9";
    for (user, on, line, facts, status) in [
        ("watch-2", "sw-gannet-1", "ping 192.0.2.1", morning, 0),
        ("watch-2", "sw-gannet-1", "ping 192.0.2.1 count 5", morning, 0),
        ("watch-2", "sw-gannet-1", "ping 192.0.2.1 count 500", morning, 1),
        ("watch-2", "rt-ember", "show release", morning, 1),
        ("night-1", "sw-gannet-1", "show paths", "--at 2026-11-25T23:30:00+01:00 --from 192.0.2.10", 0),
        ("watch-1", "sw-gannet-1", "show paths", "--at 2026-11-25T23:30:00+01:00 --from 192.0.2.10", 1),
        ("watch-lead", "sw-dunlin-1", "show port status", morning, 1),
        ("tech-1", "rt-ember", "edit settings", board, 1),
        ("tech-1", "rt-ember", "elevate", board, 0),
        ("radio-1", "rt-ember", "show release", "", 0),
        ("RADIO-1", "rt-ember", "show release", "", 1),
        ("RADIO-1", "rt-jasper", "show release", "", 0),
        ("purser-1", "rt-halcyon", "show neighbours", board, 0),
        ("purser-1", "rt-halcyon", "show log", board, 1),
        ("net-2", "rt-halcyon", "sh rel", office, 0),
        ("net-3", "rt-halcyon", "sh rel", office, 1),
        ("backup-runner", "sw-selkie-1", "show settings live", "--from 192.0.2.70 --by api", 0),
        ("backup-runner", "sw-selkie-1", "show settings kept", "--from 192.0.2.70 --by api", 1),
        ("backup-runner", "sw-selkie-1", "show settings live", "--from 192.0.2.70 --by web", 1),
        ("contractor-1", "sw-fulmar-1", "show release", office, 0),
        ("contractor-1", "sw-selkie-1", "show release", office, 1),
        ("net-lead", "sw-selkie-1", "restart", "--proof key=7h", 0),
        ("net-lead", "sw-selkie-1", "restart", "--proof key=9h", 1),
        ("net-1", "sw-selkie-1", "restart", "--from 192.0.2.70 --level 15 --confirmed --approved-by net-lead", 1),
        ("net-1", "sw-selkie-1", "restart", "--from 192.0.2.70 --level 15 --confirmed --approved-by net-lead --approver-proof key=1h", 0),
        ("net-1", "sw-selkie-1", "restart", "--from 192.0.2.70 --level 15 --confirmed --approved-by net-lead --approver-proof key=9h", 1),
        ("dispatcher-1", "sw-selkie-1", "show time", "--from 192.0.2.10 --by web", 0),
        ("trainee-1", "sw-selkie-1", "change passphrase", morning, 0),
    ] {
        let words: Vec<&str> = ["ask", user, "--on", on, "--ledger", "demo/lanternsound"]
            .into_iter()
            .chain(facts.split_whitespace())
            .chain(["--", line])
            .collect();
        let ran = zest_with(&words, b"");
        assert_eq!(ran.status, status, "{user} on {on}: {line} ({facts})\n{}{}", ran.out, ran.err);
    }
}
