//! Conditions: three outcomes, edges of time, and which assignment decides.

use jiff::SignedDuration;
use zest_ledger::ask::{Refusal, Verdict};
use zest_ledger::entry::{Channel, Proof};
use zest_ledger::{Engine, Question};

use crate::support::{ask, engine, outcome};

/// A ledger with one assignment under a condition, and another after it.
fn under(condition: &str, after: &str) -> Engine {
    engine(&format!(
        r#"
[users.watch-1]
proofs = ["password", "one-time-code"]
[vocabularies.make]
commands = [{{ line = "show release" }}, {{ line = "show log" }}]
[command-sets.version]
rules = ["allow show release"]
[command-sets.log]
rules = ["allow show log"]
[roles.first]
band = {{ start = 1, ceiling = 1 }}
commands = ["version"]
[roles.second]
band = {{ start = 1, ceiling = 1 }}
commands = ["log"]
[systems.switch]
kind = "network-device"
vocabulary = "make"
no-command-set = "nothing"
authorisation = {{ levels = "all", configuration = true }}
[[assignments]]
to = ["user:watch-1"]
roles = ["first"]
on = {{ all = true }}
{condition}
{after}
"#
    ))
}

const SECOND: &str = "[[assignments]]\nto = [\"user:watch-1\"]\nroles = [\"second\"]\non = { all = true }\n";

fn question(line: &str) -> Question {
    Question::new("watch-1", "switch", line)
}

fn at(moment: &str) -> Question {
    question("show release").at(moment.parse().expect("a moment"))
}

#[test]
fn hours_begin_with_their_first_minute_and_end_before_their_last() {
    let day = under("when = { hours = \"06:00-22:00\", zone = \"Europe/Oslo\" }", "");
    for (moment, expected) in [
        ("2026-11-25T05:59:59+01:00", Err(Refusal::OutsideHours)),
        ("2026-11-25T06:00:00+01:00", Ok(Verdict::Allowed)),
        ("2026-11-25T21:59:59+01:00", Ok(Verdict::Allowed)),
        ("2026-11-25T22:00:00+01:00", Err(Refusal::OutsideHours)),
        // Summer time: the same hour of the clock, another hour of the day.
        ("2026-07-01T04:00:00Z", Ok(Verdict::Allowed)),
        ("2026-07-01T03:59:59Z", Err(Refusal::OutsideHours)),
    ] {
        assert_eq!(outcome(&ask(&day, &at(moment))), expected, "{moment}");
    }
}

#[test]
fn hours_may_run_over_midnight_and_to_the_end_of_the_day() {
    let night = under("when = { hours = \"22:00-06:00\", zone = \"UTC\" }", "");
    let evening = under("when = { hours = \"18:00-24:00\" }", "");
    for (engine, moment, holds) in [
        (&night, "2026-11-25T22:00:00Z", true),
        (&night, "2026-11-25T05:59:59Z", true),
        (&night, "2026-11-25T06:00:00Z", false),
        (&evening, "2026-11-25T23:59:59Z", true),
        (&evening, "2026-11-26T00:00:00Z", false),
    ] {
        assert_eq!(ask(engine, &at(moment)).verdict == Verdict::Allowed, holds, "{moment}");
    }
}

#[test]
fn clock_changes_are_read_from_the_zone() {
    // On 2026-03-29 the clock in Oslo jumps from 02:00 to 03:00; on 2026-10-25 it goes back from 03:00 to 02:00.
    let early = under("when = { hours = \"02:00-03:00\", zone = \"Europe/Oslo\" }", "");
    assert_eq!(ask(&early, &at("2026-03-29T01:00:00Z")).refusal, Some(Refusal::OutsideHours), "02:00 does not exist that day");
    assert_eq!(ask(&early, &at("2026-10-25T00:30:00Z")).verdict, Verdict::Allowed, "02:30 the first time");
    assert_eq!(ask(&early, &at("2026-10-25T01:30:00Z")).verdict, Verdict::Allowed, "02:30 the second time");
}

#[test]
fn what_is_not_stated_never_allows_and_no_later_assignment_is_tried() {
    for condition in [
        "when = { origin = [\"192.0.2.0/24\"] }",
        "when = { hours = \"06:00-22:00\" }",
        "when = { channel = [\"web\"] }",
        "when = { proof = [\"one-time-code\"] }",
        "until = 2027-01-01",
    ] {
        let engine = under(condition, SECOND);
        let answer = ask(&engine, &question("show log"));
        assert_eq!(answer.refusal, Some(Refusal::NotStated), "{condition}: the first assignment might apply and would refuse this line");
    }
}

#[test]
fn a_condition_that_fails_makes_room_for_the_next_assignment() {
    let engine = under("when = { origin = [\"192.0.2.0/24\"] }", SECOND);
    let outside = "203.0.113.1".parse().expect("an address");
    assert_eq!(ask(&engine, &question("show log").from(outside)).verdict, Verdict::Allowed);
    let inside = "192.0.2.1".parse().expect("an address");
    assert_eq!(
        ask(&engine, &question("show log").from(inside)).refusal,
        Some(Refusal::NotPermitted),
        "the first that applies decides alone"
    );
}

#[test]
fn one_part_that_fails_outweighs_one_that_is_not_known() {
    let engine = under("when = { origin = [\"192.0.2.0/24\"], channel = [\"web\"] }", SECOND);
    let answer = ask(&engine, &question("show log").channel(Channel::Terminal));
    assert_eq!(answer.verdict, Verdict::Allowed, "whatever the origin, the first assignment cannot apply");
}

#[test]
fn a_proof_is_good_through_its_last_second() {
    let engine = under("when = { proof = [\"one-time-code\"], proof-age = \"1h\" }", "");
    let aged = |seconds| question("show release").proof(Proof::OneTimeCode, SignedDuration::from_secs(seconds));
    assert_eq!(ask(&engine, &aged(3600)).verdict, Verdict::Allowed);
    assert_eq!(ask(&engine, &aged(3601)).refusal, Some(Refusal::ProofMissing));
    let other = question("show release").proof(Proof::Password, SignedDuration::ZERO);
    assert_eq!(ask(&engine, &other).refusal, Some(Refusal::ProofMissing), "another proof does not stand in for it");
}

#[test]
fn rank_comes_before_the_order_on_the_page() {
    let later = format!("{SECOND}rank = 50\n");
    let engine = under("", &later);
    assert_eq!(ask(&engine, &question("show log")).verdict, Verdict::Allowed);
    assert_eq!(ask(&engine, &question("show release")).refusal, Some(Refusal::NotPermitted));
}

#[test]
fn a_network_of_mapped_addresses_is_the_ipv4_network_behind_them() {
    let engine = under("when = { origin = [\"::ffff:192.0.2.0/120\", \"2001:db8:10::/64\"] }", "");
    for (address, expected) in [
        ("192.0.2.9", Ok(Verdict::Allowed)),
        ("::ffff:192.0.2.9", Ok(Verdict::Allowed)),
        ("192.0.3.9", Err(Refusal::OriginOutside)),
        ("2001:db8:10::9", Ok(Verdict::Allowed)),
        ("::ffff:c000:309", Err(Refusal::OriginOutside)),
    ] {
        let answer = ask(&engine, &question("show release").from(address.parse().expect("an address")));
        assert_eq!(outcome(&answer), expected, "{address}");
    }
}
