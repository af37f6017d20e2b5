//! The acts by which somebody comes to more on clouds, in applications and on hosts.

use std::sync::Arc;

use rustc_hash::FxHashMap;

use zest_engine::Engine;
use zest_engine::rights::{Action, Side, Within, rights};
use zest_model::ask::{Form, Question};
use zest_model::entry::{Host, Kind, Resource, RuleVerb};
use zest_model::source::{At, visible};

use super::acts::{Act, By, Found, Gain, Person, Target, Targets, belongs};
use super::fact::{self, Fact};

/// Acts on clouds and in applications that give more.
pub(super) const ACTS: [&str; 6] = ["reset-credential", "change-members", "edit-role", "edit-command-set", "read-secret", "grant-on"];

/// Returns which of the acts any grant on a cloud or in an application may be.
fn administered_by(engine: &Engine, system: &str) -> Vec<&'static str> {
    let entries = engine.estate().entries();
    let of_system = entries.services.iter().filter(|service| service.system.value == system).flat_map(|service| &service.grants);
    let of_roles = entries.roles.iter().flat_map(|role| &role.grants);
    let named: Vec<&str> = of_system.chain(of_roles).flat_map(|grant| &grant.allow).map(|name| name.value.as_str()).collect();
    // What stands for several operations may stand for one of them.
    let groups = engine.site(system).map_or_else(Vec::new, |site| site.kind().collections(site));
    let is_of_group = |name: &str, act: &str| groups.iter().any(|(group, all)| group == name && all.iter().any(|one| one == act));
    let may_be = |act: &&str| named.iter().any(|name| name == act || name.contains('*') || is_of_group(name, act));
    ACTS.into_iter().filter(may_be).collect()
}

/// The acts on a system, one of those that no grant could tell apart.
#[derive(Debug, Default)]
pub(super) struct Lines {
    pub(super) actions: Vec<Action>,
    /// What else an act can be about in the same way, by its number.
    others: FxHashMap<usize, Vec<String>>,
}

impl Lines {
    fn add(&mut self, line: &str) {
        self.actions.push(Action::alone(line, Form::Line));
    }

    /// Adds an act on each of some entries; those that no grant could name are alike.
    fn add_each<'n>(&mut self, act: &str, names: impl Iterator<Item = (&'n str, bool)>) {
        let mut plain: Option<usize> = None;
        for (name, is_apart) in names {
            match plain.filter(|_| !is_apart) {
                Some(plain) => self.others.entry(plain).or_default().push(name.to_owned()),
                None => {
                    plain = if is_apart { plain } else { Some(self.actions.len()) };
                    self.add(&format!("{act}/{name}"));
                }
            }
        }
    }
}

/// Returns the acts by which people may come to more on a system: the same for everybody, but for who stands for whoever acts.
pub(super) fn lines(targets: &Targets, side: &Side<'_>, of: Option<&str>) -> Lines {
    let (engine, kind, system) = (side.site.engine(), side.site.entry().kind(), side.site.entry().id.value.as_str());
    let entries = engine.estate().entries();
    let mut lines = Lines::default();
    match kind {
        // Lines and privileges give nobody more than themselves; what statements give on database servers is looked at by account.
        Kind::NETWORK_DEVICE | Kind::POSTGRESQL | Kind::MARIADB => {}
        Kind::HOST => {
            let jobs = entries.hosts.iter().filter(|host| host.system.value == system).flat_map(|host| &host.jobs);
            jobs.for_each(|job| lines.add(&format!("edit-job on job/{}", job.name.value)));
        }
        _ => {
            let is_ours = kind == Kind::CLOUD || kind == Kind::APPLICATION;
            for act in if is_ours { administered_by(engine, system) } else { ACTS.to_vec() } {
                match act {
                    "reset-credential" => {
                        let is_meant = |target: &&Target| target.instead_of.as_ref().is_none_or(|first| of.is_some_and(|of| of == first));
                        let users = targets.users.iter().filter(is_meant);
                        lines.add_each("reset-credential on user", users.map(|target| (target.name.as_str(), target.is_apart)));
                    }
                    "change-members" => {
                        let groups = targets.groups.iter().map(|(name, is_apart)| (name.as_str(), *is_apart));
                        lines.add_each("change-members on group", groups);
                    }
                    "edit-role" => entries.roles.iter().for_each(|role| lines.add(&format!("edit-role on role/{}", role.id.value))),
                    "edit-command-set" => {
                        let sets = entries.command_sets.iter().filter(|set| set.id.value != fact::ANYTHING);
                        sets.for_each(|set| lines.add(&format!("edit-command-set on command-set/{}", set.id.value)));
                    }
                    "read-secret" => {
                        secrets(engine, system).for_each(|secret| lines.add(&format!("read-secret on {}", secret.path.value)));
                    }
                    _ => {
                        let grants = side.site.kind().like(&[*side], "grant-on on **").unwrap_or_default();
                        grants.into_iter().for_each(|action| lines.add(&action.line));
                    }
                }
            }
        }
    }
    lines
}

/// Finds the acts of somebody on all systems that are grants or jobs.
pub(super) fn administered(engine: &Engine, system: &str, targets: &Targets, person: &Person, found: &mut Found) {
    let user = person.user.as_str();
    let Some(id) = engine.find_user(user, false) else { return };
    let Some(site) = engine.site(system) else { return };
    let side = Side { site, user: id };
    let Lines { actions, others } = lines(targets, &side, Some(user));
    if actions.is_empty() {
        return;
    }
    let within = Within { stated: person.session(), actions, unless: None };
    let Some(set) = rights(&[side], &within).pop() else { return };
    found.unknown.extend(set.unknown());
    // Whoever may grant on a container may below it: the highest are enough.
    let granted: Vec<&str> = set
        .actions()
        .iter()
        .enumerate()
        .filter_map(|(number, action)| Some((number, action.line.strip_prefix("grant-on on ")?)))
        .filter(|(number, _)| set.example_for(*number).is_some())
        .map(|(_, path)| path)
        .collect();
    let is_below = |path: &str| granted.iter().any(|above| path.strip_prefix(above).is_some_and(|rest| rest.starts_with('/')));
    for (number, action) in set.actions().iter().enumerate() {
        let Some((_, question)) = set.example_for(number) else { continue };
        let Some((act, on)) = action.line.split_once(" on ") else { continue };
        let (sort, name) = on.split_once('/').unwrap_or(("", on));
        let mut add = |gain: Gain, question: &Arc<Question>| found.acts.push(Arc::new(Act { gain, by: By::Asked(Arc::clone(question)) }));
        let question = Arc::new(question);
        // What no grant could tell apart is alike.
        let others = others.get(&number).map_or(&[][..], Vec::as_slice);
        let each = std::iter::once((name, Arc::clone(&question))).chain(others.iter().map(|other| {
            let line = format!("{act} on {sort}/{other}");
            (other.as_str(), Arc::new(Question { line, ..(*question).clone() }))
        }));
        match act {
            "reset-credential" => {
                for (name, question) in each.filter(|(name, _)| *name != user && fact::has_password(engine, name)) {
                    add(Gain::One(Fact::Becomes(name.to_owned())), &question);
                }
            }
            "change-members" => {
                for (name, question) in each {
                    add(Gain::Members(name.to_owned()), &question);
                }
            }
            "edit-job" => {
                let runs = |account| Gain::One(Fact::Runs { user: user.to_owned(), system: system.to_owned(), account });
                account_of(engine, system, name).map(runs).into_iter().for_each(|gain| add(gain, &question));
            }
            "edit-role" => add(Gain::One(Fact::Shapes { user: user.to_owned(), role: name.to_owned() }), &question),
            "edit-command-set" => add(Gain::One(Fact::Fills { set: name.to_owned() }), &question),
            "read-secret" => opened(engine, system, on, user).into_iter().for_each(|fact| add(Gain::One(fact), &question)),
            "grant-on" if !is_below(on) => {
                let fact = Fact::Grants { user: user.to_owned(), system: system.to_owned(), path: on.to_owned() };
                add(Gain::One(fact), &question);
            }
            _ => {}
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
pub(super) fn written(engine: &Engine, system: &str, user: &str, found: &mut Found) {
    let estate = engine.estate();
    let row_of = |set: &str| estate.entries().command_sets.iter().position(|entry| entry.id.value == set);
    let hosts = &estate.entries().hosts;
    for host in hosts.iter().filter(|host| host.system.value == system) {
        let Host { system, writable_by, .. } = &**host;
        for (folder, who) in writable_by {
            let Some(by) = who.iter().find(|who| belongs(engine, user, &who.value)) else { continue };
            // What is written of a host may be spread.
            let of_host = || hosts.iter().filter(|part| part.system.value == system.value);
            let links: Vec<&(At<String>, At<String>)> = of_host().flat_map(|part| &part.links).collect();
            let mut targets: Vec<(&str, String)> = Vec::new();
            for job in of_host().flat_map(|part| &part.jobs) {
                if job.line.iter().any(|line| line.value.split_whitespace().any(|word| is_under(&links, word, &folder.value))) {
                    let what = || format!("the job `{}`", visible(&job.name.value));
                    targets.extend(job.runs_as.iter().map(|account| (account.value.as_str(), what())));
                }
            }
            for rule in of_host().flat_map(|part| &part.run_as) {
                let programs = rule.commands.iter().filter_map(|set| Some(&estate.set_links()[row_of(&set.value)?]));
                let mut allowed = programs.flat_map(|set| &set.rules).filter(|allowed| allowed.verb == RuleVerb::Allow);
                let first = |text: &str| text.split_whitespace().next().unwrap_or_default().to_owned();
                if allowed.any(|allowed| is_under(&links, &first(&allowed.text.value), &folder.value)) {
                    let what = || "a rule of running as another account".to_owned();
                    targets.extend(rule.target.iter().map(|target| (target.value.as_str(), what())));
                }
            }
            for (account, what) in targets {
                let fact = Fact::Runs { user: user.to_owned(), system: system.value.clone(), account: account.to_owned() };
                let (who, folder) = (visible(&by.value), visible(&folder.value));
                let why = format!("`{who}` may write to `{folder}`, from which {what} runs as `{}`", visible(account));
                let by = By::Unasked { act: format!("writes to `{folder}`"), why, place: by.place };
                found.acts.push(Arc::new(Act { gain: Gain::One(fact), by }));
            }
        }
    }
}

/// Returns whether a program is in a folder, or is that file; folders may have two names.
fn is_under(links: &[&(At<String>, At<String>)], program: &str, folder: &str) -> bool {
    let named = |path: &str| -> Vec<String> {
        let other = |(from, to): &&(At<String>, At<String>)| Some(format!("{}{}", to.value, path.strip_prefix(from.value.as_str())?));
        links.iter().filter_map(other).chain([path.to_owned()]).collect()
    };
    // What is left open may be anything.
    let (fixed, is_open) = program.find(['*', '{']).map_or((program, false), |at| (&program[..at], true));
    let is_in = |file: &str, folder: &str| file == folder || file.strip_prefix(folder).is_some_and(|rest| rest.starts_with('/'));
    let (files, folders) = (named(fixed), named(folder.trim_end_matches('/')));
    files.iter().any(|file| folders.iter().any(|folder| is_in(file, folder) || is_open && folder.starts_with(file.as_str())))
}

/// Returns the account that a job of a host runs as.
fn account_of(engine: &Engine, system: &str, job: &str) -> Option<String> {
    let of_host = engine.estate().entries().hosts.iter().filter(|host| host.system.value == *system);
    let job = of_host.flat_map(|host| &host.jobs).find(|known| known.name.value == job)?;
    job.runs_as.as_ref().map(|account| account.value.clone())
}
