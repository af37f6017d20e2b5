//! Ways to the top of systems that nobody stated as meant.

use std::collections::BTreeMap;

use jiff::Timestamp;

use zest_engine::Engine;
use zest_engine::entry::gone;
use zest_engine::rules::Site;
use zest_model::ask::Session;
use zest_model::entry::{Does, Kind, MeantWay};
use zest_model::finding::{Code, Finding, Findings};
use zest_model::listing::{Way, WayStep};
use zest_model::source::{Location, Place, visible};

use super::{Acts, Aim, Ways};
use crate::expectation::parts;
use crate::review::Sought;
use crate::row;

/// Something that only whoever is at the top of a system may.
#[derive(Debug)]
struct Top {
    text: String,
    is_statement: bool,
    session: Session,
}

impl Top {
    fn line(text: &str, session: Session) -> Self {
        Self { text: text.to_owned(), is_statement: false, session }
    }

    fn statement(text: &str) -> Self {
        Self { text: text.to_owned(), is_statement: true, session: Session::default() }
    }

    fn sought(&self) -> Sought<'_> {
        if self.is_statement { Sought::Statement(&self.text) } else { Sought::Line(&self.text) }
    }
}

/// From how many people ways are looked for.
const MAX_SETTING_OUT: usize = 300;

/// How much is looked at: some thousand ledgers in which something is so, or a hundred thousand statements on database servers.
const MAX_SPENT: usize = 100_000;

/// Finds the ways by which people come to the top of a system who are not there by their own rights, and of whom no `meant-ways` says that
/// it is meant: for each system a shortest one. The top is level 15 of a device, a shell as root on a host, a superuser of PostgreSQL, the
/// own tables of MariaDB, and granting on the outermost container of a cloud; applications, and kinds from outside, have none.
///
/// # Example
/// ```
/// use zest_ledger::{Engine, Ledger, ways::unmeant};
/// let text = r#"
/// users.boss.proofs = ["password"]
/// users.desk.proofs = ["password"]
/// [systems.sky]
/// kind = "cloud"
/// [clouds.sky]
/// operations.look = {}
/// resources."yard" = {}
/// grants = [
///   { allow = ["grant-on"], on = "yard", to = ["user:boss"] },
///   { allow = ["reset-credential"], on = "user/boss", to = ["user:desk"] },
/// ]
/// "#;
/// let engine = Engine::compile(Ledger::new().document("sky.toml", text).estate()?)?;
/// assert!(unmeant(&engine, None).to_string().contains("`desk` comes to the top of `sky` in 2 steps"));
/// # Ok::<(), zest_ledger::finding::Findings>(())
/// ```
#[must_use]
pub fn unmeant(engine: &Engine, at: Option<Timestamp>) -> Findings {
    let mut findings = Vec::new();
    let mut names = Vec::new();
    let tops: Vec<(Site<'_>, Vec<Top>)> = engine.all_sites().map(|site| (site, tops(site))).filter(|(_, tops)| !tops.is_empty()).collect();
    let systems: Vec<[&str; 1]> = tops.iter().map(|(site, _)| [site.entry().id.value.as_str()]).collect();
    let aims: Vec<Vec<Aim<'_>>> = tops
        .iter()
        .zip(&systems)
        .map(|((_, tops), system)| tops.iter().map(|top| Aim::Do(top.sought(), system, &top.session)).collect())
        .collect();
    let all: Vec<Aim<'_>> = aims.iter().flatten().copied().collect();
    let acts = Acts::of(engine, &all);
    let is_there = |name: &&str| {
        let user = engine.find_user(name, false).map(|user| engine.estate().user(user));
        user.is_some_and(|user| gone(user, at).is_none())
    };
    let setting_out: Vec<&str> = acts.candidates(None).into_iter().filter(is_there).collect();
    let meant = Meant::of(engine, at, &mut names);
    let mut found: Vec<Vec<(Way, Vec<String>)>> = vec![Vec::new(); tops.len()];
    let (mut looked_for, mut is_cut_short) = (0, false);
    for from in setting_out.iter().take(MAX_SETTING_OUT) {
        if acts.spent() > MAX_SPENT {
            break;
        }
        looked_for += 1;
        let Some(mut ways) = Ways::of(&acts, from) else { continue };
        for (number, aims) in aims.iter().enumerate() {
            if meant.includes(from, systems[number][0]) {
                continue;
            }
            let way = aims.iter().filter_map(|aim| ways.over_groups(*aim)).min_by_key(|(way, _)| way.steps.len());
            // Whoever may by their own rights is meant to.
            found[number].extend(way.filter(|(way, _)| way.steps.len() > 1));
        }
        is_cut_short |= ways.is_cut_short;
    }
    let parts: Vec<(Location, Place)> =
        parts(engine).iter().map(|part| (engine.estate().sources().locate(part.place()), part.place())).collect();
    let left = setting_out.len() - looked_for;
    if left > 0 || is_cut_short {
        let message = match left {
            0 => "ways to the top of systems were looked for in part: there is more than is looked at".to_owned(),
            _ => format!(
                "ways to the top of systems were looked for from {looked_for} of {} people who could come to more",
                setting_out.len()
            ),
        };
        let help = "`zest ways` looks from whomever is named, to whatever is stated; it takes its time";
        findings.push(Finding::new(Code::WaysNotLookedFor, message).help(help));
    }
    ownerless(engine, tops.iter().map(|(site, _)| *site).zip(&found), &mut findings);
    for ((site, _), mut ways) in tops.iter().zip(found) {
        ways.sort_by_key(|(way, _)| way.steps.len());
        let Some((way, _)) = ways.first() else { continue };
        let others = match ways.len() - 1 {
            0 => String::new(),
            1 => ", and so does somebody else".to_owned(),
            others => format!(", and so do {others} others"),
        };
        let not_all = if left == 0 { String::new() } else { format!("; from {left} people it was not looked for") };
        let system = visible(&site.entry().id.value);
        let message = format!(
            "`{}` comes to the top of `{system}` in {} steps{others}{not_all}: {}",
            visible(&way.from),
            way.steps.len(),
            way.in_one_line()
        );
        // What a step rests on is an entry that can be pointed at, or it is told in words alone.
        let rests_on = |step: &WayStep| parts.iter().find(|(location, _)| step.place.as_ref() == Some(location)).map(|(_, place)| *place);
        let place = way.steps.iter().find_map(rests_on).unwrap_or(site.entry().id.place);
        findings.push(
            Finding::new(Code::WayToTop, message).at(place, "a step of it rests on this").also(site.entry().id.place, "the system").help(
                "take one of the steps away (`zest ways … --cuts` says which leaves fewest), ask for a second person, or write under [[meant-ways]] that it is meant, and why",
            ),
        );
    }
    findings.extend(names);
    Findings::new(findings, std::sync::Arc::clone(engine.estate().shared_sources()))
}

/// Tells groups without an owner into which somebody is taken on a way to the top of a system: nobody could be asked about it.
fn ownerless<'s>(engine: &Engine, found: impl Iterator<Item = (Site<'s>, &'s Vec<(Way, Vec<String>)>)>, findings: &mut Vec<Finding>) {
    let groups = &engine.estate().entries().groups;
    let mut steps: BTreeMap<usize, (Site<'s>, &Way)> = BTreeMap::new();
    for (site, ways) in found {
        for (way, joined) in ways {
            for row in joined.iter().filter_map(|name| groups.iter().position(|group| group.id.value == *name)) {
                let known = steps.entry(row).or_insert((site, way));
                if way.steps.len() < known.1.steps.len() {
                    *known = (site, way);
                }
            }
        }
    }
    for (row, (site, way)) in steps.into_iter().filter(|(row, _)| groups[*row].owners.is_empty()) {
        let (group, system) = (&groups[row].id, visible(&site.entry().id.value));
        let message = format!(
            "nobody owns the group `{}`, by way of which `{}` comes to the top of `{system}` in {} steps",
            visible(&group.value),
            visible(&way.from),
            way.steps.len()
        );
        findings.push(
            Finding::new(Code::OwnerlessStep, message)
                .at(group.place, "no `owners`")
                .also(site.entry().id.place, "the system")
                .help("give the group an owner who looks after its members, or take from whoever may change them the right to it"),
        );
    }
}

/// Who is meant to come to the top, and where; nowhere stated is everywhere.
struct Meant(Vec<(Vec<String>, Vec<String>)>);

impl Meant {
    fn of(engine: &Engine, at: Option<Timestamp>, findings: &mut Vec<Finding>) -> Self {
        let estate = engine.estate();
        let one = |entry: &MeantWay| {
            let MeantWay { place: _, who, on, because: _, until, more: _ } = entry;
            let people = row::people(engine, who, findings);
            let systems = row::systems(estate, on, findings);
            // What is over allows nothing, and what names a system that is not there is about none.
            let is_over = until.as_ref().zip(at).is_some_and(|(until, at)| until.value <= at);
            if is_over || systems.len() < on.len() {
                return None;
            }
            let people = people.into_iter().map(|user| estate.user(user).id.value.clone()).collect();
            Some((people, systems.into_iter().map(|system| estate.system(system).id.value.clone()).collect()))
        };
        Self(estate.entries().meant_ways.iter().map(|entry| &**entry).filter_map(one).collect())
    }

    fn includes(&self, user: &str, system: &str) -> bool {
        let has = |list: &[String], name: &str| list.iter().any(|known| known == name);
        self.0.iter().any(|(people, systems)| has(people, user) && (systems.is_empty() || has(systems, system)))
    }
}

/// Returns what only whoever is at the top of a system may.
fn tops(site: Site<'_>) -> Vec<Top> {
    let (entry, engine) = (site.entry(), site.engine());
    match entry.kind() {
        Kind::NETWORK_DEVICE => {
            let name = entry.vocabulary.as_ref().map(|vocabulary| vocabulary.value.as_str());
            let vocabulary = engine.estate().entries().vocabularies.iter().find(|known| Some(known.id.value.as_str()) == name);
            let raises = vocabulary.into_iter().flat_map(|known| &known.commands);
            let raises = raises.filter(|command| command.does.as_ref().is_some_and(|does| does.value == Does::Elevate));
            let line = raises.filter_map(|command| with_level(&command.line.value)).next();
            line.map(|line| Top::line(&line, Session::default())).into_iter().collect()
        }
        Kind::HOST => {
            let root = Session { acting: "account:root".parse().into_iter().collect(), ..Session::default() };
            ["/bin/sh", "/bin/bash", "/usr/bin/anything-at-all"].map(|program| Top::line(program, root.clone())).into()
        }
        Kind::POSTGRESQL => vec![Top::statement("CREATE ROLE \"anything at all\" SUPERUSER")],
        Kind::MARIADB => vec![Top::statement("INSERT INTO mysql.global_priv VALUES ('%', 'anything at all', '{}')")],
        Kind::CLOUD => {
            let services = engine.estate().entries().services.iter().filter(|service| service.system.value == entry.id.value);
            let paths = services.flat_map(|service| &service.resources).map(|resource| resource.path.value.as_str());
            let outermost = paths.filter(|path| !path.contains('/'));
            outermost.map(|path| Top::line(&format!("grant-on on {path}"), Session::default())).collect()
        }
        // What is the top of an application is said by its rights; of kinds from outside nothing is known.
        _ => Vec::new(),
    }
}

/// Writes a command that asks for a level as one that asks for the highest; nothing where it asks for none.
fn with_level(line: &str) -> Option<String> {
    let (before, rest) = line.split_once('{')?;
    let (_, after) = rest.split_once('}')?;
    Some(format!("{before}15{after}"))
}
