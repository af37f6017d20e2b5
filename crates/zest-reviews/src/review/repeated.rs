//! Entries that say again what another says, and conditions that are passed by beside the same without conditions.

use rustc_hash::{FxHashMap, FxHashSet};

use zest_engine::Engine;
use zest_model::entry::{Assignment, CommandSet, Grant, Obligations, On, Role, When};
use zest_model::finding::{Code, Finding};
use zest_model::source::{At, Place, visible};

/// Adds what is said twice.
pub(super) fn review(engine: &Engine, findings: &mut Vec<Finding>) {
    let entries = engine.estate().entries();
    let all = |assignment: &Assignment| (assignment.place, said_of_assignment(assignment));
    twice("assignment", entries.assignments.iter().map(|assignment| all(assignment)), findings);
    for service in &entries.services {
        grants(&service.grants, findings);
    }
    for role in &entries.roles {
        grants(&role.grants, findings);
    }
    // A role that is named elsewhere, to be given something or to be kept apart, is more than what it gives itself.
    let separated = entries.separations.iter().flat_map(|separation| &separation.roles).map(|role| role.value.as_str());
    let holders = entries.services.iter().flat_map(|service| &service.grants).flat_map(|grant| &grant.to);
    let named: FxHashSet<&str> = separated.chain(holders.filter_map(|holder| holder.value.strip_prefix("role:"))).collect();
    let roles = entries.roles.iter().filter(|role| !named.contains(role.id.value.as_str()));
    alike("role", roles.filter_map(|role| Some((&role.id, said_of_role(role)?))), findings);
    alike("command set", entries.command_sets.iter().filter_map(|set| Some((&set.id, said_of_set(set)?))), findings);
}

/// What an entry says, apart from where and why it says so.
type Said = Vec<String>;

fn twice(noun: &str, said: impl Iterator<Item = (Place, Said)>, findings: &mut Vec<Finding>) {
    let mut known: FxHashMap<Said, Place> = FxHashMap::default();
    for (place, said) in said {
        if let Some(&first) = known.get(&said) {
            findings.push(
                Finding::new(Code::Repeated, format!("this {noun} says what another says already"))
                    .at(place, "the same again")
                    .also(first, "the first one")
                    .help("take one of them out, or change the one that was copied"),
            );
        } else {
            known.insert(said, place);
        }
    }
}

fn alike<'e>(noun: &str, said: impl Iterator<Item = (&'e At<String>, Said)>, findings: &mut Vec<Finding>) {
    let mut known: FxHashMap<Said, &At<String>> = FxHashMap::default();
    for (id, said) in said {
        if let Some(first) = known.get(&said) {
            let (one, other) = (visible(&id.value), visible(&first.value));
            findings.push(
                Finding::new(Code::SameContent, format!("{noun} `{one}` gives what `{other}` gives"))
                    .at(id.place, "the same under another name")
                    .also(first.place, "the other one")
                    .help("use one of them for both, or change the one that was copied"),
            );
        } else {
            known.insert(said, id);
        }
    }
}

/// Grants that are added up: the same twice, and one with conditions beside the same without.
fn grants(grants: &[Grant], findings: &mut Vec<Finding>) {
    twice("grant", grants.iter().map(|grant| (grant.place, said_of_grant(grant))), findings);
    for grant in grants.iter().filter(|grant| !grant.when.is_empty() && grant.deny.is_empty() && grant.after.is_empty()) {
        // Obligations add up, so one that asks for something first is no way round the conditions of the other.
        let is_plain = |other: &&Grant| {
            other.when.is_empty() && other.lifted_by.is_empty() && other.after.is_empty() && other.from.is_none() && other.until.is_none()
        };
        let scope = |of: &Grant| {
            [of.allow.clone(), of.except.clone(), of.on.clone(), of.except_on.clone(), of.to.clone()].map(|list| values(&list))
        };
        let Some(plain) = grants.iter().filter(is_plain).find(|other| other.deny.is_empty() && scope(other) == scope(grant)) else {
            continue;
        };
        findings.push(
            Finding::new(Code::ConditionPassedBy, "the conditions of this grant are passed by: the same is granted without them")
                .at(grant.place, "with conditions")
                .also(plain.place, "without")
                .help("give the other one the conditions as well, or take these out, as it is meant"),
        );
    }
}

fn values(list: &[At<String>]) -> Said {
    let mut list: Said = list.iter().map(|text| text.value.clone()).collect();
    list.sort_unstable();
    list
}

fn said_of_assignment(assignment: &Assignment) -> Said {
    let Assignment { place: _, to, roles, on, when, rank, from, until, because: _, more: _ } = assignment;
    let On { place: _, all, systems, within, labels, at, more: _ } = on;
    let mut labels: Said = labels.iter().map(|(key, of)| format!("{} {:?}", key.value, values(of))).collect();
    labels.sort_unstable();
    vec![
        format!("{:?} {:?}", values(to), values(roles)),
        format!(
            "{:?} {:?} {:?} {labels:?} {:?}",
            all.as_ref().map(|a| a.value),
            values(systems),
            value(within.as_ref()),
            value(at.as_ref())
        ),
        format!("{:?} {:?} {:?}", rank.as_ref().map(|r| r.value), from.as_ref().map(|f| f.value), until.as_ref().map(|u| u.value)),
        said_of_when(when),
    ]
}

fn value(text: Option<&At<String>>) -> Option<&str> {
    text.map(|text| text.value.as_str())
}

fn said_of_grant(grant: &Grant) -> Said {
    let Grant { place: _, allow, deny, except, on, except_on, to, when, lifted_by, after, from, until, because: _, more: _ } = grant;
    vec![
        format!("{:?} {:?} {:?}", values(allow), values(deny), values(except)),
        format!("{:?} {:?} {:?}", values(on), values(except_on), values(to)),
        format!("{} {} {}", said_of_when(when), said_of_when(lifted_by), said_of_obligations(after)),
        format!("{:?} {:?}", from.as_ref().map(|f| f.value), until.as_ref().map(|u| u.value)),
    ]
}

/// Returns what a role gives; nothing for one that gives nothing, or that is more than what it gives.
fn said_of_role(role: &Role) -> Option<Said> {
    let Role { id: _, name: _, remark: _, includes, band, commands, grants, assumable, more: _ } = role;
    if assumable.is_some() || (includes.is_empty() && band.is_none() && commands.is_empty() && grants.is_empty()) {
        return None;
    }
    let band = band.as_ref().map(|band| (band.start.value, band.ceiling.value));
    let mut said = vec![format!("{:?} {band:?} {:?}", values(includes), values(commands))];
    said.extend(grants.iter().flat_map(said_of_grant));
    Some(said)
}

/// Returns what a command set says; nothing for an empty one.
fn said_of_set(set: &CommandSet) -> Option<Said> {
    let CommandSet { id: _, remark: _, rules, otherwise, more: _ } = set;
    if rules.is_empty() {
        return None;
    }
    let rule = |rule: &zest_model::entry::Rule| {
        let words: Vec<&str> = rule.text.value.split_whitespace().collect();
        format!("{} {} {}", rule.verb.word(), words.join(" "), rule.after.as_deref().map_or_else(String::new, said_of_obligations))
    };
    let mut said: Said = rules.iter().map(rule).collect();
    said.push(format!("{:?}", otherwise.as_ref().map(|otherwise| otherwise.value)));
    Some(said)
}

fn said_of_when(when: &When) -> String {
    let When { origin, hours, days, zone, channel, proof, proof_age, proof_older, compare, more: _ } = when;
    let words = |list: &[At<String>]| values(list);
    let channels: Vec<&str> = channel.iter().map(|c| c.value.word()).collect();
    let proofs: Vec<&str> = proof.iter().map(|p| p.value.word()).collect();
    let ages = (proof_age.as_ref().map(|age| age.value), proof_older.as_ref().map(|age| age.value));
    format!(
        "{:?} {:?} {:?} {:?} {channels:?} {proofs:?} {ages:?} {:?}",
        words(origin),
        value(hours.as_ref()),
        words(days),
        value(zone.as_ref()),
        words(compare)
    )
}

fn said_of_obligations(after: &Obligations) -> String {
    let Obligations { confirm, prove_again, second_person, more: _ } = after;
    format!("{:?} {:?} {:?}", confirm.as_ref().map(|c| c.value), prove_again.as_ref().map(|age| age.value), values(second_person))
}
