//! The acts by which somebody comes to more.

use zest_engine::Engine;
use zest_engine::rights::{Action, Side, Within, rights};
use zest_model::ask::{Form, Question, Refusal, Session, Verdict};
use zest_model::entry::{Host, Kind, Resource, RuleVerb};
use zest_model::listing::WayStep;
use zest_model::source::{At, visible};

use super::fact::{self, Fact};
use super::{asked, is_member, unasked};

/// Acts on clouds and in applications that give more.
const ACTS: [&str; 6] = ["reset-credential", "change-members", "edit-role", "edit-command-set", "read-secret", "grant-on"];

/// Returns whether any grant on a cloud or in an application may be one of the acts.
fn is_administered(engine: &Engine, system: &str) -> bool {
    let entries = engine.estate().entries();
    let of_system = entries.services.iter().filter(|service| service.system.value == system).flat_map(|service| &service.grants);
    let of_roles = entries.roles.iter().flat_map(|role| &role.grants);
    let is_act = |name: &str| ACTS.contains(&name);
    // What stands for several operations may stand for one of them.
    let groups = engine.site(system).map_or_else(Vec::new, |site| site.kind().collections(site));
    let is_of_group = |name: &str| groups.iter().any(|(group, all)| group == name && all.iter().any(|one| is_act(one)));
    let may_be = |name: &str| is_act(name) || name.contains('*') || is_of_group(name);
    of_system.chain(of_roles).flat_map(|grant| &grant.allow).any(|name| may_be(&name.value))
}

/// Returns the acts by which somebody may come to more on a system of a kind.
fn acts_on(side: &Side<'_>) -> Vec<Action> {
    let (engine, kind, system) = (side.site.engine(), side.site.entry().kind(), side.site.entry().id.value.as_str());
    let entries = engine.estate().entries();
    let mut lines: Vec<String> = Vec::new();
    match kind {
        // Lines and privileges give nobody more than themselves; roles of database servers are passed on by statements.
        Kind::NETWORK_DEVICE | Kind::POSTGRESQL | Kind::MARIADB => {}
        Kind::HOST => {
            let host = entries.hosts.iter().filter(|host| host.system.value == system);
            lines.extend(host.flat_map(|host| &host.jobs).map(|job| format!("edit-job on job/{}", job.name.value)));
        }
        Kind::CLOUD | Kind::APPLICATION if !is_administered(engine, system) => {}
        _ => {
            lines.extend(entries.users.iter().map(|user| format!("reset-credential on user/{}", user.id.value)));
            lines.extend(entries.groups.iter().map(|group| format!("change-members on group/{}", group.id.value)));
            lines.extend(entries.roles.iter().map(|role| format!("edit-role on role/{}", role.id.value)));
            lines.extend(entries.command_sets.iter().map(|set| format!("edit-command-set on command-set/{}", set.id.value)));
            lines.extend(secrets(engine, system).map(|secret| format!("read-secret on {}", secret.path.value)));
            let grants = side.site.kind().like(&[*side], "grant-on on **").unwrap_or_default();
            lines.extend(grants.into_iter().map(|action| action.line));
        }
    }
    lines.iter().map(|line| Action::alone(line, Form::Line)).collect()
}

pub(super) fn administered(
    engine: &Engine,
    user: &str,
    session: &Session,
    people: &[(String, Session)],
    add: &mut dyn FnMut(Fact, WayStep),
    unknown: &mut Vec<String>,
) {
    let Some(id) = engine.find_user(user, false) else { return };
    for site in engine.all_sites() {
        let (side, system) = (Side { site, user: id }, &site.entry().id.value);
        let actions = acts_on(&side);
        if actions.is_empty() {
            continue;
        }
        let Some(set) = rights(&[side], &Within { stated: session.clone(), actions, unless: None }).pop() else { continue };
        unknown.extend(set.unknown());
        // Whoever may grant on a container may below it: the highest are enough.
        let granted: Vec<&str> = set
            .actions()
            .iter()
            .enumerate()
            .filter(|(number, _)| set.example_for(*number).is_some())
            .filter_map(|(_, action)| action.line.strip_prefix("grant-on on "))
            .collect();
        let is_below = |path: &str| granted.iter().any(|above| path.strip_prefix(above).is_some_and(|rest| rest.starts_with('/')));
        for (number, action) in set.actions().iter().enumerate() {
            let Some((_, question)) = set.example_for(number) else { continue };
            let Some((act, on)) = action.line.split_once(" on ") else { continue };
            let name = on.split_once('/').map_or(on, |(_, name)| name);
            let facts: Vec<Fact> = match act {
                "reset-credential" if name != user && fact::has_password(engine, name) => vec![Fact::Becomes(name.to_owned())],
                "change-members" => {
                    let joins = people.iter().filter(|(joins, _)| !is_member(engine, joins, name));
                    joins.map(|(joins, _)| Fact::Joins { user: joins.clone(), group: name.to_owned() }).collect()
                }
                "edit-job" => account_of(engine, system, name)
                    .map(|account| Fact::Runs { user: user.to_owned(), system: system.clone(), account })
                    .into_iter()
                    .collect(),
                "edit-role" => vec![Fact::Shapes { user: user.to_owned(), role: name.to_owned() }],
                "edit-command-set" => vec![Fact::Fills { set: name.to_owned() }],
                "read-secret" => opened(engine, system, on, user),
                "grant-on" if !is_below(on) => {
                    vec![Fact::Grants { user: user.to_owned(), system: system.clone(), path: on.to_owned() }]
                }
                _ => Vec::new(),
            };
            for fact in facts {
                let gives = fact.words();
                add(fact, asked(engine, user, question.clone(), gives));
            }
        }
    }
}

/// Returns the secrets of a system of which it is known whose they are.
fn secrets<'e>(engine: &'e Engine, system: &'e str) -> impl Iterator<Item = &'e Resource> {
    let of_system = engine.estate().entries().services.iter().filter(move |service| service.system.value == system);
    of_system.flat_map(|service| &service.resources).filter(|resource| !resource.opens.is_empty())
}

/// Returns what somebody comes to who reads a secret.
fn opened(engine: &Engine, system: &str, secret: &str, user: &str) -> Vec<Fact> {
    let opens = secrets(engine, system).filter(|resource| resource.path.value == secret).flat_map(|resource| &resource.opens);
    let one = |whose: &At<String>| match whose.value.split_once(':')? {
        ("user", name) => (name != user).then(|| Fact::Knows(name.to_owned())),
        ("account", account) => {
            let (system, login) = account.split_once('/')?;
            Some(Fact::Uses { user: user.to_owned(), system: system.to_owned(), account: login.to_owned() })
        }
        _ => None,
    };
    opens.filter_map(one).collect()
}

/// Whoever writes what runs as another account runs anything as that account: a job's program, or one that anybody may run so.
pub(super) fn written(engine: &Engine, user: &str, add: &mut dyn FnMut(Fact, WayStep)) {
    let estate = engine.estate();
    let row_of = |set: &str| estate.entries().command_sets.iter().position(|entry| entry.id.value == set);
    for host in &estate.entries().hosts {
        let Host { system, jobs, run_as, writable_by, links, .. } = &**host;
        // A folder may have two names.
        let named = |path: &str| -> Vec<String> {
            let other = |(from, to): &(At<String>, At<String>)| Some(format!("{}{}", to.value, path.strip_prefix(from.value.as_str())?));
            links.iter().filter_map(other).chain([path.to_owned()]).collect()
        };
        let is_under = |program: &str, folder: &str| {
            // What is left open may be anything.
            let (fixed, is_open) = program.find(['*', '{']).map_or((program, false), |at| (&program[..at], true));
            let is_in = |file: &str, folder: &str| file == folder || file.strip_prefix(folder).is_some_and(|rest| rest.starts_with('/'));
            let (files, folders) = (named(fixed), named(folder.trim_end_matches('/')));
            files.iter().any(|file| folders.iter().any(|folder| is_in(file, folder) || is_open && folder.starts_with(file.as_str())))
        };
        for (folder, who) in writable_by {
            let Some(by) = who.iter().find(|who| belongs(engine, user, &who.value)) else { continue };
            let mut targets: Vec<(&str, String)> = Vec::new();
            for job in jobs
                .iter()
                .filter(|job| job.line.iter().any(|line| line.value.split_whitespace().any(|word| is_under(word, &folder.value))))
            {
                targets
                    .extend(job.runs_as.iter().map(|account| (account.value.as_str(), format!("the job `{}`", visible(&job.name.value)))));
            }
            for rule in run_as {
                let programs = rule.commands.iter().filter_map(|set| Some(&estate.set_links()[row_of(&set.value)?]));
                let mut allowed = programs.flat_map(|set| &set.rules).filter(|allowed| allowed.verb == RuleVerb::Allow);
                let first = |text: &str| text.split_whitespace().next().unwrap_or_default().to_owned();
                if allowed.any(|allowed| is_under(&first(&allowed.text.value), &folder.value)) {
                    targets.extend(
                        rule.target.iter().map(|target| (target.value.as_str(), "a rule of running as another account".to_owned())),
                    );
                }
            }
            for (account, what) in targets {
                let fact = Fact::Runs { user: user.to_owned(), system: system.value.clone(), account: account.to_owned() };
                let (who, folder) = (visible(&by.value), visible(&folder.value));
                let why = format!("`{who}` may write to `{folder}`, from which {what} runs as `{}`", visible(account));
                let step = unasked(engine, user, &fact, why, by.place);
                add(fact, step);
            }
        }
    }
}

/// Returns the account that a job of a host runs as.
fn account_of(engine: &Engine, system: &str, job: &str) -> Option<String> {
    let host = engine.estate().entries().hosts.iter().find(|host| host.system.value == *system)?;
    let job = host.jobs.iter().find(|known| known.name.value == job)?;
    job.runs_as.as_ref().map(|account| account.value.clone())
}

/// How many roles of a database server are looked at.
pub(super) const MAX_ROLES: usize = 500;

/// Roles of database servers are passed on by whoever may, also to the own account.
pub(super) fn passed_on(engine: &Engine, user: &str, session: &Session, add: &mut dyn FnMut(Fact, WayStep), unknown: &mut Vec<String>) {
    for database in &engine.estate().entries().databases {
        let system = &database.system.value;
        let Some(site) = engine.site(system) else { continue };
        let kind = site.entry().kind();
        // Whoever may create roles may hand out many that nobody administers.
        let roles: Vec<&str> = database.roles.iter().map(|role| role.name.value.as_str()).take(MAX_ROLES).collect();
        let mine = database.accounts.iter().filter(|account| {
            let login = site.kind().login_of(&account.name.value);
            login == user || account.used_by.iter().any(|by| belongs(engine, user, &by.value))
        });
        for account in mine {
            let name = &account.name.value;
            for role in roles.iter().filter(|role| account.member_of.iter().all(|known| known.value != **role)) {
                let Some(statement) = grant(kind, role, name) else { continue };
                let question = Question { session: session.clone(), ..Question::statement(user, system, &statement) };
                let decision = engine.decide(&question);
                if decision.refusal == Some(Refusal::NotDecided) {
                    unknown.push(format!("not decided: {} on {}: {statement}", visible(user), visible(system)));
                }
                if decision.verdict == Verdict::Denied {
                    continue;
                }
                let fact = Fact::Holds { system: system.clone(), account: name.clone(), role: (*role).to_owned() };
                let gives = fact.words();
                add(fact, asked(engine, user, question, gives));
            }
        }
    }
}

fn belongs(engine: &Engine, user: &str, party: &str) -> bool {
    match party.split_once(':') {
        Some(("user", name)) => name == user,
        Some(("group", name)) => is_member(engine, user, name),
        _ => false,
    }
}

/// Writes the statement that makes an account a member of a role.
fn grant(kind: Kind, role: &str, account: &str) -> Option<String> {
    let plain = |text: &str| !text.contains(['\'', '"', '`', '\\']);
    if !plain(role) || !plain(account) {
        return None;
    }
    match kind {
        Kind::POSTGRESQL => Some(format!("GRANT \"{role}\" TO \"{account}\"")),
        Kind::MARIADB => {
            let (login, host) = account.rsplit_once('@').unwrap_or((account, "%"));
            Some(format!("GRANT '{role}' TO '{login}'@'{host}'"))
        }
        _ => None,
    }
}
