//! Follows the references of a ledger and reads the patterns, networks and times in it.

use std::collections::BTreeSet;
use std::net::IpAddr;
use std::sync::Arc;

use compact_str::CompactString;
use fixedbitset::FixedBitSet;
use ipnet::IpNet;
use rustc_hash::{FxHashMap, FxHashSet};

use super::circles::circles;
use super::{
    AssignmentLinks, AssumableLinks, CommandLinks, Duties, FlatRule, GroupId, GroupLinks, Holder, ModeId, Networks, Party, RoleId,
    RoleLinks, SeparationLinks, SetId, SetLinks, SystemId, Table, UserId, VocabularyId, VocabularyLinks, comparison,
};
use zest_command::{Pattern, Slot, WordPattern};
use zest_model::entries::Entries;
use zest_model::entry::{self, Band, Does, Otherwise, Rule, RuleVerb};
use zest_model::finding::{Code, Finding};
use zest_model::source::{At, Place, visible};
use zest_model::text::bad_name;
use zest_words::nearest;
use zest_words::{canonical_network, parse_network};

/// The most rules a set may have once included sets are put in their places.
const MAX_RULES: usize = 65_536;

/// For how many findings near names are looked for.
const SUGGESTIONS: usize = 200;
/// The most modes a vocabulary may have: a device keeps one bit for each.
const MAX_MODES: usize = 64;

/// What names mean; those of up to 24 bytes lie in the table itself.
pub type Index<Id> = FxHashMap<CompactString, Id>;

fn index<T, Id: Copy>(
    entries: &Table<Arc<T>>,
    noun: &str,
    id_of: impl Fn(&T) -> &At<String>,
    make: impl Fn(usize) -> Id,
    findings: &mut Vec<Finding>,
) -> Index<Id> {
    let mut first: FxHashMap<CompactString, (Id, usize)> = FxHashMap::with_capacity_and_hasher(entries.len(), rustc_hash::FxBuildHasher);
    for (i, entry) in entries.iter().enumerate() {
        let id = id_of(entry);
        if let (Some(why), Place::Code(_)) = (bad_name(&id.value), id.place) {
            findings.push(
                Finding::new(Code::BadName, format!("`{}` cannot be the id of a {noun}: {why}", visible(&id.value))).at(id.place, why),
            );
        }
        if let Some(&(_, earlier)) = first.get(id.value.as_str()) {
            findings.push(
                Finding::new(Code::DuplicateId, format!("the {noun} `{}` is declared twice", visible(&id.value)))
                    .at(id.place, "declared again here")
                    .also(id_of(&entries[earlier]).place, "first declared here")
                    .help("ids are unique over the whole ledger: merge the two entries, or rename one"),
            );
        } else {
            first.insert(id.value.as_str().into(), (make(i), i));
        }
    }
    first.into_iter().map(|(id, (made, _))| (id, made)).collect()
}

/// What a kind resolves its systems on.
///
/// # Example
/// ```
/// use zest_ledger::{estate::SystemId, kind::Ground};
/// /// What a document says of one cabinet.
/// struct Cabinet { keys: usize }
/// fn keys(ground: Ground<'_>, system: SystemId) -> usize {
///     ground.rows::<Cabinet>("cabinets", system).map(|cabinet| cabinet.keys).sum()
/// }
/// ```
#[derive(Clone, Copy, Debug)]
pub struct Ground<'e> {
    #[doc(hidden)]
    pub entries: &'e Entries,
    pub(crate) vocabularies: &'e [VocabularyLinks],
    pub(crate) sets: &'e Table<Arc<SetLinks>>,
    /// The sets of the layer below, whose rules have been looked at.
    pub(crate) sets_before: Option<&'e Table<Arc<SetLinks>>>,
}

impl<'e> Ground<'e> {
    /// Returns a system as written.
    #[must_use]
    pub fn system(&self, id: SystemId) -> &'e entry::System {
        &self.entries.systems[id.index()]
    }

    /// Returns what is written of a system in a table of a kind from outside: a row for each document that speaks of it.
    pub fn rows<T: 'static>(&self, table: &'static str, id: SystemId) -> impl Iterator<Item = &'e T> {
        let name = &self.system(id).id.value;
        let rows = self.entries.outside.iter().filter(move |row| row.table == table && row.id.value == *name);
        rows.filter_map(|row| row.kept.downcast_ref())
    }

    /// Returns the rules of a set that no layer below has.
    pub(crate) fn new_rules(&self, set: SetId) -> impl Iterator<Item = &FlatRule> {
        let before = self.sets_before.map(|sets| &sets[set.index()].rules);
        let known: FxHashSet<*const Pattern> = before.into_iter().flatten().map(|rule| Arc::as_ptr(&rule.pattern)).collect();
        self.sets[set.index()].rules.iter().filter(move |rule| !known.contains(&Arc::as_ptr(&rule.pattern)))
    }
}

/// What the names of a ledger mean. No change declares anything or takes anything away, so they are shared by all layers.
#[derive(Debug)]
pub struct Names {
    /// Users.
    pub users: Index<UserId>,
    pub(crate) groups: Index<GroupId>,
    origins: Index<usize>,
    /// Systems.
    pub systems: Index<SystemId>,
    pub(crate) vocabularies: Index<VocabularyId>,
    pub(crate) sets: Index<SetId>,
    pub(crate) roles: Index<RoleId>,
    /// Sessions by name.
    pub sessions: Index<usize>,
    networks: Vec<Networks>,
    /// The names of attributes that something in the ledger has, by what has them.
    pub(super) attributes: FxHashMap<&'static str, Index<()>>,
    cover: Cover,
}

impl Names {
    /// Reads the names of a ledger, and reports those that are declared twice.
    pub(crate) fn of(entries: &Entries, findings: &mut Vec<Finding>) -> Self {
        Self {
            users: index(&entries.users, "user", |u| &u.id, UserId::new, findings),
            groups: index(&entries.groups, "group", |g| &g.id, GroupId::new, findings),
            origins: index(&entries.origins, "origin", |o| &o.id, |i| i, findings),
            systems: index(&entries.systems, "system", |s| &s.id, SystemId::new, findings),
            vocabularies: index(&entries.vocabularies, "vocabulary", |v| &v.id, VocabularyId::new, findings),
            sets: index(&entries.command_sets, "command set", |c| &c.id, SetId::new, findings),
            roles: index(&entries.roles, "role", |r| &r.id, RoleId::new, findings),
            sessions: index(&entries.sessions, "session", |s| &s.id, |i| i, findings),
            networks: entries.origins.iter().map(|o| plain_networks(&o.networks, findings)).collect(),
            attributes: comparison::attributes(entries),
            cover: Cover::new(entries),
        }
    }
}

/// Follows references, and collects what is wrong with them.
///
/// # Example
/// ```
/// use zest_ledger::{entry::{Obligations, When}, kind::{Conditions, Duties, Resolver}};
/// fn of_grant(resolver: &mut Resolver<'_>, when: &When, after: &Obligations) -> (Conditions, Option<Duties>) {
///     (resolver.conditions(when, None, None), resolver.obligations(after))
/// }
/// ```
#[derive(Debug)]
pub struct Resolver<'n> {
    #[doc(hidden)]
    pub names: &'n Names,
    #[doc(hidden)]
    pub findings: &'n mut Vec<Finding>,
}

/// Looks an id up, and reports it where nobody has it.
pub fn look_up<Id: Copy>(index: &Index<Id>, noun: &str, name: &str, place: Place, findings: &mut Vec<Finding>) -> Option<Id> {
    if let Some(&id) = index.get(name) {
        return Some(id);
    }
    let finding = Finding::new(Code::UnknownReference, format!("no {noun} is named `{}`", visible(name)));
    // A whole table that is missing must not cost a look at every name for every reference.
    let near = if findings.len() < SUGGESTIONS { nearest(name, index.keys().map(|k| &**k)) } else { None };
    findings.push(match near {
        Some(near) => {
            finding.at(place, format!("did you mean `{}`?", visible(near))).help("names are case-sensitive; write one that is declared")
        }
        None => finding.at(place, "not declared in this ledger").help(format!("declare the {noun}, or write one that is declared")),
    });
    None
}

fn bad_value(text: &At<String>, what: &str, help: impl Into<String>, findings: &mut Vec<Finding>) {
    let finding = Finding::new(Code::BadValue, format!("`{}` is not {what}", visible(&text.value)));
    findings.push(finding.at(text.place, "cannot be read").help(help));
}

/// Reads an address or a network.
fn network(text: &At<String>, findings: &mut Vec<Finding>) -> Option<(IpNet, Place)> {
    let written = text.value.trim();
    if let Ok(address) = written.parse::<IpAddr>() {
        return Some((IpNet::from(address.to_canonical()), text.place));
    }
    match parse_network(written) {
        Some(net) if net.trunc() == net => Some((canonical_network(net), text.place)),
        Some(net) => {
            bad_value(
                text,
                "a network",
                format!("bits are set behind the prefix: write `{}`, or the single address without `/`", net.trunc()),
                findings,
            );
            None
        }
        None => {
            bad_value(
                text,
                "an address, a network or an origin",
                "write it like \"192.0.2.7\", \"192.0.2.0/24\", \"2001:db8::/32\" or \"origin:ID\"",
                findings,
            );
            None
        }
    }
}

fn plain_networks(list: &[At<String>], findings: &mut Vec<Finding>) -> Networks {
    Networks(list.iter().filter_map(|text| network(text, findings)).collect())
}

/// References and values
impl Resolver<'_> {
    /// Reports something that is wrong.
    ///
    /// # Example
    /// ```
    /// use zest_ledger::{finding::{Code, Finding}, kind::Resolver, source::At};
    /// fn is_there(resolver: &mut Resolver<'_>, slot: &At<String>, slots: &[&str]) {
    ///     if !slots.contains(&slot.value.as_str()) {
    ///         resolver.report(Finding::new(Code::BadReference, format!("no slot is named `{}`", slot.value)).at(slot.place, "named here"));
    ///     }
    /// }
    /// ```
    pub fn report(&mut self, finding: Finding) {
        self.findings.push(finding);
    }

    /// Follows the references of obligations; nothing where none is written.
    pub fn obligations(&mut self, after: &entry::Obligations) -> Option<Duties> {
        // Each key by name: an obligation that nobody reads does not compile.
        let entry::Obligations { confirm, prove_again, second_person, more: _ } = after;
        (!after.is_empty()).then(|| Duties {
            confirm: confirm.as_ref().filter(|c| c.value).map(|c| c.place),
            prove_again: prove_again.clone(),
            second_person: self.parties(second_person),
            anyone: None,
        })
    }

    /// Follows a reference to a user or a group.
    pub fn party(&mut self, text: &At<String>) -> Option<(Party, Place)> {
        let place = text.place;
        match text.value.split_once(':') {
            Some(("user", id)) => look_up(&self.names.users, "user", id, place, self.findings).map(|u| (Party::User(u), place)),
            Some(("group", id)) => look_up(&self.names.groups, "group", id, place, self.findings).map(|g| (Party::Group(g), place)),
            _ => {
                let name = text.value.as_str();
                let guess = if self.names.users.contains_key(name) {
                    format!("did you mean `user:{}`?", visible(name))
                } else if self.names.groups.contains_key(name) {
                    format!("did you mean `group:{}`?", visible(name))
                } else {
                    "expected `user:ID` or `group:ID`".to_owned()
                };
                self.findings.push(
                    Finding::new(Code::BadReference, format!("`{}` does not name a user or a group", visible(name)))
                        .at(place, guess)
                        .help("people and groups are written with their type: \"user:watch-1\", \"group:shore-watch\""),
                );
                None
            }
        }
    }

    /// Follows references to users and groups; those that lead nowhere are reported and left out.
    ///
    /// # Example
    /// ```
    /// use zest_ledger::{estate::Party, kind::Resolver, source::{At, Place}};
    /// fn takers(resolver: &mut Resolver<'_>, written: &[At<String>]) -> Vec<(Party, Place)> {
    ///     resolver.parties(written)
    /// }
    /// ```
    pub fn parties(&mut self, list: &[At<String>]) -> Vec<(Party, Place)> {
        list.iter().filter_map(|text| self.party(text)).collect()
    }

    pub(crate) fn holders(&mut self, list: &[At<String>]) -> Vec<(Holder, Place)> {
        let mut holders = Vec::with_capacity(list.len());
        for text in list {
            match text.value.strip_prefix("role:") {
                Some(id) => {
                    holders.extend(look_up(&self.names.roles, "role", id, text.place, self.findings).map(|r| (Holder::Role(r), text.place)))
                }
                None => holders.extend(self.party(text).map(|(p, place)| (Holder::Party(p), place))),
            }
        }
        holders
    }

    /// Obligations in which any entitled person may be the second one.
    fn assumable(&mut self, role: &entry::Role) -> Option<AssumableLinks> {
        let written = role.assumable.as_ref()?;
        Some(AssumableLinks {
            by: self.holders(&written.by),
            when: self.conditions(&written.when, None, None),
            longest: written.longest.clone(),
            may_state: written.may_state.iter().map(|t| t.value.clone()).collect(),
            resource: format!("role/{}", role.id.value).into(),
            place: written.place.unwrap_or(role.id.place),
        })
    }

    pub(crate) fn bad_value(&mut self, text: &At<String>, what: &str, help: impl Into<String>) {
        bad_value(text, what, help, self.findings);
    }

    pub(crate) fn origins(&mut self, list: &[At<String>]) -> Networks {
        let mut networks = Vec::new();
        for text in list {
            if let Some(id) = text.value.strip_prefix("origin:") {
                if let Some(origin) = look_up(&self.names.origins, "origin", id, text.place, self.findings) {
                    networks.extend(self.names.networks[origin].0.iter().map(|&(net, _)| (net, text.place)));
                }
            } else {
                networks.extend(network(text, self.findings));
            }
        }
        Networks(networks)
    }

    fn pattern(&mut self, text: &At<String>) -> Option<Pattern> {
        Pattern::parse(&text.value)
            .map_err(|error| {
                let part = text.value.get(error.span.clone()).unwrap_or("");
                let message = format!("the pattern `{}` cannot be read: {}", visible(&text.value), error.message);
                let label = if part.is_empty() || part == text.value { String::new() } else { format!("at `{}`", visible(part)) };
                self.findings.push(Finding::new(Code::BadPattern, message).at(text.place, label).help(error.help));
            })
            .ok()
    }

    pub(crate) fn band(&mut self, band: Option<&Band>) {
        if let Some(band) = band {
            for level in [&band.start, &band.ceiling] {
                self.level(level);
            }
            if band.start.value > band.ceiling.value {
                self.findings.push(
                    Finding::new(
                        Code::BadBand,
                        format!("the band starts at {} but its ceiling is {}", band.start.value, band.ceiling.value),
                    )
                    .at(band.start.place, "starts here")
                    .also(band.ceiling.place, "ceiling")
                    .help("the start is at most the ceiling"),
                );
            }
        }
    }

    pub(crate) fn level(&mut self, level: &At<u8>) {
        if level.value > 15 {
            self.findings.push(
                Finding::new(Code::OutOfRange, format!("there is no level {}", level.value)).at(level.place, "levels run from 0 to 15"),
            );
        }
    }

    /// Reports each circle once; `edges` gives what an entry contains and where that is written.
    fn circles(&mut self, code: Code, noun: &str, edges: &[Vec<(usize, Place)>], name: impl Fn(usize) -> String) {
        for (circle, place) in circles(edges) {
            let (last, way) = circle.split_last().unwrap_or((&0, &[]));
            let names: Vec<String> = way.iter().take(8).chain([last]).map(|&n| format!("`{}`", visible(&name(n)))).collect();
            self.findings.push(
                Finding::new(code, format!("{noun} contain each other in a circle: {}", names.join(" -> ")))
                    .at(place, "this closes the circle")
                    .help("take one of them out"),
            );
        }
    }
}

/// Tables
impl Resolver<'_> {
    pub(crate) fn group(&mut self, group: &entry::Group) -> GroupLinks {
        GroupLinks { members: self.parties(&group.members), owners: self.parties(&group.owners) }
    }

    pub(crate) fn groups(&mut self, entries: &Entries) -> Vec<GroupLinks> {
        let groups: Vec<GroupLinks> = entries.groups.iter().map(|g| self.group(g)).collect();
        let edges: Vec<Vec<(usize, Place)>> = groups
            .iter()
            .map(|g| g.members.iter().filter_map(|&(m, p)| if let Party::Group(id) = m { Some((id.index(), p)) } else { None }).collect())
            .collect();
        self.circles(Code::GroupCycle, "groups", &edges, |i| entries.groups[i].id.value.clone());
        groups
    }

    pub(crate) fn roles(&mut self, entries: &Entries) -> Vec<RoleLinks> {
        let mut edges = Vec::with_capacity(entries.roles.len());
        let mut roles = Vec::with_capacity(entries.roles.len());
        for role in &entries.roles {
            let (links, includes) = self.role(role);
            roles.push(links);
            edges.push(includes);
        }
        self.circles(Code::RoleCycle, "roles", &edges, |i| entries.roles[i].id.value.clone());
        roles
    }

    /// Follows the references of a role; returns the roles it includes as well, with the places where that is written.
    pub(crate) fn role(&mut self, role: &entry::Role) -> (RoleLinks, Vec<(usize, Place)>) {
        self.band(role.band.as_ref());
        let mut includes = Vec::new();
        for text in &role.includes {
            includes.extend(look_up(&self.names.roles, "role", &text.value, text.place, self.findings).map(|r| (r.index(), text.place)));
        }
        let mut sets = Vec::new();
        for text in &role.commands {
            sets.extend(look_up(&self.names.sets, "command set", &text.value, text.place, self.findings));
        }
        let ids = includes.iter().map(|&(r, _)| RoleId::new(r)).collect();
        (RoleLinks { includes: ids, sets, assumable: self.assumable(role) }, includes)
    }

    pub(crate) fn separation(&mut self, written: &entry::Separation) -> SeparationLinks {
        let roles: Vec<RoleId> =
            written.roles.iter().filter_map(|r| look_up(&self.names.roles, "role", &r.value, r.place, self.findings)).collect();
        if written.roles.len() < 2 {
            self.findings.push(
                Finding::new(Code::MissingKey, format!("the separation `{}` names fewer than two roles", visible(&written.id.value)))
                    .at(written.id.place, "separates nothing")
                    .help("name the roles of which nobody may have two"),
            );
        }
        SeparationLinks {
            name: written.id.value.clone(),
            roles,
            when_active: written.never.as_ref().is_some_and(|n| n.value == entry::Apart::Active),
            place: written.id.place,
        }
    }

    pub(crate) fn sets(&mut self, entries: &Entries) -> Table<Arc<SetLinks>> {
        let mut read: Vec<Vec<Result<FlatRule, usize>>> = Vec::with_capacity(entries.command_sets.len());
        let mut edges = Vec::new();
        for (i, set) in entries.command_sets.iter().enumerate() {
            let rules = self.rules(set, SetId::new(i), &FxHashMap::default());
            let included = set.rules.iter().filter(|r| r.verb == RuleVerb::Include);
            edges.push(included.filter_map(|r| Some((self.names.sets.get(r.text.value.as_str())?.index(), r.text.place))).collect());
            read.push(rules);
        }
        let before = self.findings.len();
        self.circles(Code::CommandSetCycle, "command sets", &edges, |i| entries.command_sets[i].id.value.clone());
        let is_circular = self.findings.len() > before;
        let flat = |(i, set): (usize, &Arc<entry::CommandSet>)| {
            let rules = if is_circular { Some(Vec::new()) } else { flatten(|s| &read[s], i) };
            self.set(set, rules)
        };
        entries.command_sets.iter().enumerate().map(flat).collect()
    }

    /// Follows the references of some command sets, which hold all that include one of them; rules that are as they were are kept.
    pub(crate) fn some_sets(
        &mut self,
        entries: &Entries,
        before: &Table<Arc<SetLinks>>,
        wanted: &BTreeSet<usize>,
    ) -> Vec<(usize, Arc<SetLinks>)> {
        // What they include is read as well.
        let mut read: FxHashMap<usize, Vec<Result<FlatRule, usize>>> = FxHashMap::default();
        let mut queue: Vec<usize> = wanted.iter().copied().collect();
        while let Some(i) = queue.pop() {
            if read.contains_key(&i) {
                continue;
            }
            let known: FxHashMap<(Place, &str), &FlatRule> =
                before[i].rules.iter().filter(|r| r.home.index() == i).map(|r| ((r.text.place, r.text.value.as_str()), r)).collect();
            let rules = self.rules(&entries.command_sets[i], SetId::new(i), &known);
            queue.extend(rules.iter().filter_map(|r| r.as_ref().err()));
            read.insert(i, rules);
        }
        let flat = |&i: &usize| (i, self.set(&entries.command_sets[i], flatten(|s| read.get(&s).map_or(&[], Vec::as_slice), i)));
        wanted.iter().map(flat).collect()
    }

    fn set(&mut self, set: &entry::CommandSet, rules: Option<Vec<FlatRule>>) -> Arc<SetLinks> {
        if rules.is_none() {
            self.findings.push(
                Finding::new(
                    Code::CommandSetTooLarge,
                    format!("the command set `{}` has more than {MAX_RULES} rules", visible(&set.id.value)),
                )
                .at(set.id.place, "with the sets it includes")
                .help("split it, or replace rules by patterns"),
            );
        }
        let otherwise = set.otherwise.as_ref().map_or(Otherwise::Deny, |o| o.value);
        Arc::new(SetLinks::new(rules.unwrap_or_default(), otherwise))
    }

    /// Reads the rules of a set: each, or the number of the set that is included there.
    fn rules(&mut self, set: &entry::CommandSet, home: SetId, known: &FxHashMap<(Place, &str), &FlatRule>) -> Vec<Result<FlatRule, usize>> {
        let mut rules = Vec::with_capacity(set.rules.len());
        for rule in &set.rules {
            if rule.verb == RuleVerb::Include {
                let included = look_up(&self.names.sets, "command set", &rule.text.value, rule.text.place, self.findings);
                rules.extend(included.map(|id| Err(id.index())));
            } else if let Some(&flat) = known.get(&(rule.text.place, rule.text.value.as_str())).filter(|flat| flat.verb == rule.verb) {
                rules.push(Ok(flat.clone()));
            } else if let Some(flat) = self.rule(rule, home) {
                rules.push(Ok(flat));
            }
        }
        rules
    }

    fn rule(&mut self, rule: &Rule, home: SetId) -> Option<FlatRule> {
        let after = rule.after.as_deref().and_then(|after| self.obligations(after)).map(Arc::new);
        let pattern = Arc::new(self.pattern(&rule.text)?);
        Some(FlatRule { verb: rule.verb, pattern, text: rule.text.clone(), home, after })
    }

    pub(crate) fn vocabulary(&mut self, written: &entry::Vocabulary) -> VocabularyLinks {
        let mut modes: Vec<String> = written.modes.iter().map(|m| m.name.value.clone()).collect();
        if modes.is_empty() {
            modes.push("deck".to_owned());
        }
        if let Some(mode) = written.modes.get(MAX_MODES) {
            self.findings.push(
                Finding::new(Code::OutOfRange, format!("the vocabulary `{}` has more than {MAX_MODES} modes", visible(&written.id.value)))
                    .at(mode.name.place, "one too many")
                    .help("leave out modes that no user of this ledger enters"),
            );
        }
        let ids: Index<ModeId> = modes.iter().enumerate().map(|(i, m)| (m.as_str().into(), ModeId::new(i))).collect();
        let start_mode = match &written.start_mode {
            Some(text) => look_up(&ids, "mode", &text.value, text.place, self.findings).unwrap_or(ModeId::new(0)),
            None => ids.get("deck").copied().unwrap_or(ModeId::new(0)),
        };
        let mut commands = Vec::with_capacity(written.commands.len());
        for command in &written.commands {
            let Some(pattern) = self.pattern(&command.line) else { continue };
            if let Some(level) = &command.level {
                self.level(level);
            }
            let mut in_modes = Vec::new();
            for text in &command.modes {
                in_modes.extend(look_up(&ids, "mode", &text.value, text.place, self.findings));
            }
            if command.modes.is_empty() {
                in_modes.push(start_mode);
            }
            let enters = command.enters.as_ref().and_then(|t| look_up(&ids, "mode", &t.value, t.place, self.findings));
            let does = command.does.as_ref().map(|d| d.value);
            let level_word = if does == Some(Does::Elevate) { self.level_word(&pattern, command) } else { None };
            commands.push(CommandLinks {
                line: command.line.value.trim().to_owned(),
                pattern,
                level: command.level.as_ref().map_or(1, |l| l.value),
                does,
                enters,
                modes: in_modes,
                level_word,
                place: command.line.place,
            });
        }
        let levels = commands.iter().map(|command| (command.level, None)).collect();
        VocabularyLinks { modes, start_mode, commands, levels }
    }

    /// Finds the word that gives the level of an elevation: one number slot, or none for a bare request.
    fn level_word(&mut self, pattern: &Pattern, command: &entry::Command) -> Option<usize> {
        let is_number = |w: &WordPattern| matches!(w, WordPattern::Slot(s) if s.is_number());
        let is_other = |w: &WordPattern| matches!(w, WordPattern::Slot(s) if !s.is_number() && !matches!(s, Slot::Affix(..)));
        let numbers: Vec<usize> = (0..pattern.words().len()).filter(|&i| is_number(&pattern.words()[i])).collect();
        if numbers.len() > 1 || pattern.is_open() || pattern.words().iter().any(is_other) {
            self.findings.push(
                Finding::new(
                    Code::BadCommand,
                    format!("the elevation `{}` does not say where its level stands", visible(&command.line.value)),
                )
                .at(command.line.place, "expected one number slot, or none")
                .help("write it like `elevate {level: 0-15}`; the bare request is a command of its own"),
            );
        }
        numbers.first().copied()
    }

    pub(crate) fn assignment(&mut self, written: &Arc<entry::Assignment>, entries: &Entries) -> AssignmentLinks {
        let mut roles = Vec::new();
        for text in &written.roles {
            roles.extend(look_up(&self.names.roles, "role", &text.value, text.place, self.findings));
        }
        let mut listed = Vec::new();
        for text in &written.on.systems {
            listed.extend(look_up(&self.names.systems, "system", &text.value, text.place, self.findings));
        }
        let on = &written.on;
        let says_all = on.all.as_ref().is_some_and(|a| a.value);
        if !says_all && on.systems.is_empty() && on.within.is_none() && on.labels.is_empty() {
            self.findings.push(
                Finding::new(Code::MissingKey, "the selection `on` does not say which systems it covers")
                    .at(on.place.unwrap_or(written.place), "it is empty")
                    .help("give `systems`, `within` or `labels`, or write `on = { all = true }`"),
            );
        }
        for (key, _) in &on.labels {
            if !self.names.cover.keys.contains_key(key.value.as_str()) {
                look_up(&self.names.cover.keys, "label", &key.value, key.place, self.findings);
            }
        }
        AssignmentLinks {
            entry: Arc::clone(written),
            to: self.parties(&written.to),
            roles,
            systems: self.names.cover.systems(on, &listed, entries.systems.len()),
            conditions: self.conditions(&written.when, written.from.as_ref(), written.until.as_ref()),
        }
    }
}

/// Puts included sets in their places; `None` if that is too much. The sets include each other in no circle.
fn flatten<'r>(read: impl Fn(usize) -> &'r [Result<FlatRule, usize>], set: usize) -> Option<Vec<FlatRule>> {
    let mut rules = Vec::new();
    let mut way = vec![(set, 0)];
    let mut steps = 0;
    while let Some((at, next)) = way.last_mut() {
        steps += 1;
        if rules.len() > MAX_RULES || steps > 8 * MAX_RULES {
            return None;
        }
        let (set, index) = (*at, *next);
        *next += 1;
        match read(set).get(index) {
            None => {
                way.pop();
            }
            Some(Ok(rule)) => rules.push(rule.clone()),
            Some(Err(included)) => way.push((*included, 0)),
        }
    }
    Some(rules)
}

/// Which systems carry a label or stand at a place, for selections.
#[derive(Debug)]
struct Cover {
    keys: Index<()>,
    labels: FxHashMap<(Box<str>, Box<str>), FixedBitSet>,
    within: Vec<Option<String>>,
}

impl Cover {
    fn new(entries: &Entries) -> Self {
        let mut cover = Self { keys: Index::default(), labels: FxHashMap::default(), within: Vec::with_capacity(entries.systems.len()) };
        for (i, system) in entries.systems.iter().enumerate() {
            for (key, value) in &system.labels {
                cover.keys.insert(key.value.as_str().into(), ());
                let pair = (key.value.as_str().into(), value.value.as_str().into());
                cover.labels.entry(pair).or_insert_with(|| FixedBitSet::with_capacity(entries.systems.len())).insert(i);
            }
            cover.within.push(system.within.as_ref().map(|w| w.value.trim_matches('/').to_owned()));
        }
        cover
    }

    fn systems(&self, on: &entry::On, listed: &[SystemId], count: usize) -> FixedBitSet {
        let mut covered = FixedBitSet::with_capacity(count);
        let says_all = on.all.as_ref().is_some_and(|a| a.value);
        if !says_all && on.systems.is_empty() && on.within.is_none() && on.labels.is_empty() {
            return covered;
        }
        if on.systems.is_empty() {
            covered.insert_range(..);
        } else {
            covered.extend(listed.iter().map(|s| s.index()));
        }
        if let Some(within) = &on.within {
            let path = within.value.trim_matches('/');
            let is_below = |place: &str| place.strip_prefix(path).is_some_and(|rest| rest.is_empty() || rest.starts_with('/'));
            let below: FixedBitSet = (0..count).filter(|&i| self.within[i].as_deref().is_some_and(is_below)).collect();
            covered.intersect_with(&below);
        }
        for (key, values) in &on.labels {
            let mut any = FixedBitSet::with_capacity(count);
            for value in values {
                if let Some(carriers) = self.labels.get(&(key.value.as_str().into(), value.value.as_str().into())) {
                    any.union_with(carriers);
                }
            }
            covered.intersect_with(&any);
        }
        covered
    }
}
