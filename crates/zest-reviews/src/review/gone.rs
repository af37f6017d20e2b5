//! People who are gone: disabled, or past the end of their validity at a moment. Every place that still names one is a finding.

use jiff::Timestamp;
use rustc_hash::FxHashMap;

use zest_engine::Engine;
use zest_engine::entry::gone;
use zest_model::entries::Entries;
use zest_model::entry::{
    Account, ActAs, Assignment, Assumable, Ceiling, CommandSet, CredentialRule, Database, DatabaseRole, Grant, Group, Host, HostAccount,
    Job, ObjectType, Obligations, Resource, Role, Rule, RunAs, Service, System,
};
use zest_model::finding::{Code, Finding};
use zest_model::source::{At, Place, visible};

/// Adds a finding for each place that names somebody who is gone.
pub(crate) fn review(engine: &Engine, at: Option<Timestamp>, findings: &mut Vec<Finding>) {
    let entries = &engine.estate().entries();
    let people = entries.users.iter().filter_map(|user| Some((user.id.value.as_str(), gone(user, at)?)));
    let people: FxHashMap<&str, (String, Place)> = people.collect();
    if people.is_empty() {
        return;
    }
    for Named { user, place, whose } in places(engine) {
        if let Some((how, since)) = people.get(user.as_str()) {
            findings.push(
                Finding::new(Code::DisabledUserKept, format!("`{}` {how}, and is still named {whose}", visible(&user)))
                    .at(place, "still here")
                    .also(*since, "gone by this")
                    .help("take the user out, or the right is back the day the user is"),
            );
        }
    }
}

/// A place that names a user.
struct Named {
    user: String,
    place: Place,
    whose: String,
}

/// Returns every place of a ledger that names a user: by a reference, or by a login that is the user's own. Each entry is taken
/// apart field by field, so that a field that is added must be said here.
fn places(engine: &Engine) -> Vec<Named> {
    let estate = engine.estate();
    let mut list = Vec::new();
    let Entries {
        users: _,
        groups,
        origins: _,
        systems,
        vocabularies: _,
        command_sets,
        roles,
        assignments,
        databases,
        services,
        interfaces: _,
        outside: _,
        hosts,
        separations: _,
        sessions: _,
        expectations: _,
        promises: _,
        credential_rules,
    } = &estate.entries();
    for group in groups {
        let Group { id, name: _, remark: _, members, owners, directory: _, more: _ } = &**group;
        let name = visible(&id.value);
        references(&mut list, members, &format!("as a member of the group `{name}`"));
        references(&mut list, owners, &format!("as an owner of the group `{name}`"));
    }
    for system in systems {
        let System {
            id,
            kind: _,
            name: _,
            remark: _,
            address: _,
            labels: _,
            within: _,
            vocabulary: _,
            no_command_set: _,
            authorisation: _,
            identity_sources: _,
            name_case: _,
            when_central_down: _,
            privileged_at_sign_in: _,
            own_levels: _,
            notices: _,
            accounts,
            database: _,
            accepts: _,
            more: _,
        } = &**system;
        for account in accounts {
            let Account { login, used_by, remark: _, band: _, origin: _, locked, credential: _, emergency: _, commands: _, more: _ } =
                account;
            let whose = format!("by the account `{}` on `{}`", visible(&login.value), visible(&id.value));
            references(&mut list, used_by, &whose);
            if !locked.as_ref().is_some_and(|l| l.value) {
                own_login(&mut list, login, &login.value, &whose);
            }
        }
    }
    for set in command_sets {
        let CommandSet { id, remark: _, rules, otherwise: _, more: _ } = &**set;
        for rule in rules {
            let Rule { verb: _, text: _, after, because: _ } = rule;
            after.iter().for_each(|after| second_persons(&mut list, after, &format!("by a rule of `{}`", visible(&id.value))));
        }
    }
    for role in roles {
        let Role { id, name: _, remark: _, includes: _, band: _, commands: _, grants, assumable, more: _ } = &**role;
        let whose = format!("by the role `{}`", visible(&id.value));
        if let Some(Assumable { place: _, by, when: _, longest: _, may_state: _, more: _ }) = assumable {
            references(&mut list, by, &format!("as one whom the role `{}` admits", visible(&id.value)));
        }
        grants.iter().for_each(|grant| of_grant(&mut list, grant, &whose));
    }
    for assignment in assignments {
        let Assignment { place: _, to, roles: _, on: _, when: _, rank: _, from: _, until: _, because: _, more: _ } = &**assignment;
        references(&mut list, to, "by an assignment");
    }
    for database in databases {
        let Database {
            system,
            owner: _,
            accounts,
            roles: _,
            objects: _,
            grants: _,
            default_grants: _,
            settings: _,
            not_modelled: _,
            more: _,
        } = &**database;
        let kind = estate.names().systems.get(system.value.as_str()).map(|id| estate.declared()[id.index()].kind);
        for account in accounts {
            let DatabaseRole { name, used_by, .. } = account;
            let whose = format!("by the account `{}` of `{}`", visible(&name.value), visible(&system.value));
            references(&mut list, used_by, &whose);
            let login = kind.map_or_else(|| name.value.clone(), |kind| kind.login_of(&name.value));
            own_login(&mut list, name, &login, &whose);
        }
    }
    for service in services {
        let Service {
            system,
            interface: _,
            operations: _,
            operation_groups: _,
            addresses: _,
            resources,
            types,
            grants,
            ceilings,
            acting,
            proofs_cover: _,
            obtains: _,
            session_attributes: _,
            identity_checks: _,
            more: _,
        } = &**service;
        let on = format!("on `{}`", visible(&system.value));
        grants.iter().for_each(|grant| of_grant(&mut list, grant, &format!("by a grant {on}")));
        for Ceiling { place: _, allow: _, except: _, of, within: _, when: _, because: _, more: _ } in ceilings {
            references(&mut list, of, &format!("by a ceiling {on}"));
        }
        for ActAs { place: _, target, by, when: _, because: _ } in acting {
            references(&mut list, std::slice::from_ref(target), &format!("as one to act as {on}"));
            references(&mut list, by, &format!("as one who acts as another {on}"));
        }
        for Resource { path: _, remark: _, attributes: _, after, more: _ } in resources {
            second_persons(&mut list, after, &format!("by an obligation {on}"));
        }
        for ObjectType { name: _, rights: _, looks: _, after, rights_after, second_person_right: _, more: _ } in types {
            for after in std::iter::once(after).chain(rights_after.iter().map(|(_, after)| after)) {
                second_persons(&mut list, after, &format!("by an obligation {on}"));
            }
        }
    }
    for host in hosts {
        let Host { system, accounts, run_as, jobs, links: _, keep_environment: _, proof_lasts: _, more: _ } = &**host;
        let on = format!("on `{}`", visible(&system.value));
        for HostAccount { login, remark: _, shell: _, used_by, origin: _, locked, until: _, commands: _, commands_of, proof: _, more: _ } in
            accounts
        {
            let whose = format!("by the account `{}` {on}", visible(&login.value));
            references(&mut list, used_by, &whose);
            for (who, _) in commands_of {
                references(&mut list, std::slice::from_ref(who), &whose);
            }
            if !locked.as_ref().is_some_and(|l| l.value) {
                own_login(&mut list, login, &login.value, &whose);
            }
        }
        for RunAs { place: _, by, target: _, commands: _, proof: _, any_environment: _, because: _, more: _ } in run_as {
            references(&mut list, by, &format!("by a rule of running as another account {on}"));
        }
        for Job { name, runs_as: _, line: _, edited_by, more: _ } in jobs {
            references(&mut list, edited_by, &format!("as an editor of the job `{}` {on}", visible(&name.value)));
        }
    }
    for rule in credential_rules {
        let CredentialRule { id: _, of, shortest: _, oldest_days: _, more: _ } = &**rule;
        references(&mut list, of, "by a rule for credentials");
    }
    list
}

fn of_grant(list: &mut Vec<Named>, grant: &Grant, whose: &str) {
    references(list, &grant.to, whose);
    second_persons(list, &grant.after, whose);
}

fn second_persons(list: &mut Vec<Named>, after: &Obligations, whose: &str) {
    references(list, &after.second_person, &format!("as second person {whose}"));
}

fn references(list: &mut Vec<Named>, references: &[At<String>], whose: &str) {
    let users = references.iter().filter_map(|r| Some((r.value.strip_prefix("user:")?, r.place)));
    list.extend(users.map(|(user, place)| Named { user: user.to_owned(), place, whose: whose.to_owned() }));
}

fn own_login(list: &mut Vec<Named>, written: &At<String>, login: &str, whose: &str) {
    list.push(Named { user: login.to_owned(), place: written.place, whose: whose.to_owned() });
}
