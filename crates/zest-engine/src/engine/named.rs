//! Every place of a ledger that names somebody, and every comparison of attributes.

use std::fmt;

use crate::engine::Estate;
use zest_model::entries::Entries;
use zest_model::entry::{
    Account, ActAs, Assignment, Assumable, Ceiling, CommandSet, CredentialRule, Database, DatabaseRole, Grant, Group, Host, HostAccount,
    Job, ObjectType, Obligations, Resource, Role, Rule, RunAs, Service, System, When,
};
use zest_model::source::{At, visible};

/// What a place of a ledger says of people.
#[derive(Debug)]
pub enum Told<'e> {
    /// It names a user or a group.
    Party {
        /// The reference: `user:ID`, `group:ID`; what else it may be (an account, a role) is told as well.
        who: &'e At<String>,
        /// As what.
        part: Part,
    },
    /// It is the name of an account, which may be a user's own.
    Login {
        /// The account as written.
        written: &'e At<String>,
        /// What is typed of it.
        login: String,
        /// Whether nobody uses it.
        is_locked: bool,
    },
    /// It compares attributes.
    Compares(&'e At<String>),
}

/// As what somebody is named.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Part {
    /// As a member of a group.
    Member,
    /// As an owner of a group.
    Owner,
    /// As one to whom an assignment gives something.
    Assigned,
    /// As one to whom a grant of a cloud or an application gives something or denies it.
    Granted,
    /// As one who may agree as second person.
    Agrees,
    /// As one as whom others may act.
    ActedAs,
    /// As anything else.
    Other,
}

/// Where it is told.
#[derive(Clone, Copy)]
pub struct Where<'w> {
    /// The system that alone looks at it, where there is one.
    pub system: Option<&'w str>,
    /// The command set whose lines alone it is about, where there is one.
    pub command_set: Option<&'w str>,
    /// Whose it is: "by the role `x`".
    pub whose: &'w dyn Fn() -> String,
}

impl fmt::Debug for Where<'_> {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "{} {:?}", (self.whose)(), self.system)
    }
}

/// Tells every place of a ledger that names a user, by a reference or by a login that may be the user's own, and every comparison. Each
/// entry is taken apart field by field, so that a field that is added must be said here. Tables of kinds from outside are not looked at.
pub fn each(estate: &Estate, tell: &mut Tell<'_>) {
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
        meant_ways: _,
        credential_rules,
    } = estate.entries();
    for group in groups {
        let Group { id, name: _, remark: _, members, owners, directory: _, more: _ } = &**group;
        let name = || visible(&id.value);
        parties(tell, members, Part::Member, None, &|| format!("as a member of the group `{}`", name()));
        parties(tell, owners, Part::Owner, None, &|| format!("as an owner of the group `{}`", name()));
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
            let whose = || format!("by the account `{}` on `{}`", visible(&login.value), visible(&id.value));
            parties(tell, used_by, Part::Other, Some(&id.value), &whose);
            self::login(tell, login, login.value.clone(), locked.as_ref(), &id.value, &whose);
        }
    }
    for set in command_sets {
        let CommandSet { id, remark: _, rules, otherwise: _, more: _ } = &**set;
        for rule in rules {
            let Rule { verb: _, text: _, after, because: _ } = rule;
            let whose = || format!("by a rule of `{}`", visible(&id.value));
            let tell: &mut Tell<'_> = &mut |told, place| tell(told, Where { command_set: Some(&id.value), ..place });
            after.iter().for_each(|after| second_persons(tell, after, None, &whose));
        }
    }
    for role in roles {
        let Role { id, name: _, remark: _, includes: _, band: _, commands: _, grants, assumable, more: _ } = &**role;
        if let Some(Assumable { place: _, by, when, longest: _, may_state: _, more: _ }) = assumable {
            let whose = || format!("as one whom the role `{}` admits", visible(&id.value));
            parties(tell, by, Part::Other, None, &whose);
            compared(tell, when, None, &whose);
        }
        grants.iter().for_each(|grant| of_grant(tell, grant, None, &|| format!("by the role `{}`", visible(&id.value))));
    }
    for assignment in assignments {
        let Assignment { place: _, to, roles: _, on: _, when, rank: _, from: _, until: _, because: _, more: _ } = &**assignment;
        let whose = || "by an assignment".to_owned();
        parties(tell, to, Part::Assigned, None, &whose);
        compared(tell, when, None, &whose);
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
            let whose = || format!("by the account `{}` of `{}`", visible(&name.value), visible(&system.value));
            parties(tell, used_by, Part::Other, Some(&system.value), &whose);
            let login = kind.map_or_else(|| name.value.clone(), |kind| kind.login_of(&name.value));
            self::login(tell, name, login, None, &system.value, &whose);
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
        let (on, system) = (|| format!("on `{}`", visible(&system.value)), Some(system.value.as_str()));
        grants.iter().for_each(|grant| of_grant(tell, grant, system, &|| format!("by a grant {}", on())));
        for Ceiling { place: _, allow: _, except: _, of, within: _, when, because: _, more: _ } in ceilings {
            let whose = || format!("by a ceiling {}", on());
            parties(tell, of, Part::Other, system, &whose);
            compared(tell, when, system, &whose);
        }
        for ActAs { place: _, target, by, when, because: _ } in acting {
            let whose = || format!("as one who acts as another {}", on());
            parties(tell, std::slice::from_ref(target), Part::ActedAs, system, &|| format!("as one to act as {}", on()));
            parties(tell, by, Part::Other, system, &whose);
            compared(tell, when, system, &whose);
        }
        for Resource { path, remark: _, attributes: _, after, opens, more: _ } in resources {
            parties(tell, opens, Part::Other, system, &|| format!("as one whose credential is `{}` {}", visible(&path.value), on()));
            second_persons(tell, after, system, &|| format!("by an obligation {}", on()));
        }
        for ObjectType { name: _, rights: _, looks: _, after, rights_after, second_person_right: _, more: _ } in types {
            for after in std::iter::once(after).chain(rights_after.iter().map(|(_, after)| after)) {
                second_persons(tell, after, system, &|| format!("by an obligation {}", on()));
            }
        }
    }
    for host in hosts {
        let Host { system, accounts, run_as, jobs, writable_by, links: _, keep_environment: _, proof_lasts: _, more: _ } = &**host;
        let on = || format!("on `{}`", visible(&system.value));
        let named = Some(system.value.as_str());
        for HostAccount { login, remark: _, shell: _, used_by, origin: _, locked, until: _, commands: _, commands_of, proof: _, more: _ } in
            accounts
        {
            let whose = || format!("by the account `{}` {}", visible(&login.value), on());
            parties(tell, used_by, Part::Other, named, &whose);
            for (who, _) in commands_of {
                parties(tell, std::slice::from_ref(who), Part::Other, named, &whose);
            }
            self::login(tell, login, login.value.clone(), locked.as_ref(), &system.value, &whose);
        }
        for RunAs { place: _, by, target: _, commands: _, proof: _, any_environment: _, because: _, more: _ } in run_as {
            parties(tell, by, Part::Other, named, &|| format!("by a rule of running as another account {}", on()));
        }
        for (path, who) in writable_by {
            parties(tell, who, Part::Other, named, &|| format!("as one who may write to `{}` {}", visible(&path.value), on()));
        }
        for Job { name, runs_as: _, line: _, edited_by, more: _ } in jobs {
            parties(tell, edited_by, Part::Other, named, &|| format!("as an editor of the job `{}` {}", visible(&name.value), on()));
        }
    }
    for rule in credential_rules {
        let CredentialRule { id: _, of, shortest: _, oldest_days: _, more: _ } = &**rule;
        parties(tell, of, Part::Other, None, &|| "by a rule for credentials".to_owned());
    }
}

/// Who hears what is told.
type Tell<'t> = dyn FnMut(Told<'_>, Where<'_>) + 't;

/// Says whose a place is.
type Whose<'w> = &'w dyn Fn() -> String;

fn of_grant(tell: &mut Tell<'_>, grant: &Grant, system: Option<&str>, whose: Whose<'_>) {
    parties(tell, &grant.to, Part::Granted, system, whose);
    second_persons(tell, &grant.after, system, whose);
    compared(tell, &grant.when, system, whose);
    compared(tell, &grant.lifted_by, system, whose);
}

fn second_persons(tell: &mut Tell<'_>, after: &Obligations, system: Option<&str>, whose: Whose<'_>) {
    parties(tell, &after.second_person, Part::Agrees, system, &|| format!("as second person {}", whose()));
}

fn parties(tell: &mut Tell<'_>, parties: &[At<String>], part: Part, system: Option<&str>, whose: Whose<'_>) {
    parties.iter().for_each(|who| tell(Told::Party { who, part }, Where { system, command_set: None, whose }));
}

fn compared(tell: &mut Tell<'_>, when: &When, system: Option<&str>, whose: Whose<'_>) {
    when.compare.iter().for_each(|text| tell(Told::Compares(text), Where { system, command_set: None, whose }));
}

fn login(tell: &mut Tell<'_>, written: &At<String>, login: String, locked: Option<&At<bool>>, system: &str, whose: Whose<'_>) {
    let is_locked = locked.is_some_and(|locked| locked.value);
    tell(Told::Login { written, login, is_locked }, Where { system: Some(system), command_set: None, whose });
}
