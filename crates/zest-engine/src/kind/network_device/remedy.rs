//! What could be changed about a refusal: a level, a line, a membership, a rule.

use std::ops::Deref;

use super::Device;
use super::entry::usable_accounts;
use crate::engine::rules::Site;
use crate::engine::ways::{Asked, Way, lent, way};
use crate::links::{AssignmentId, GroupId, ModeId, Outcome, Part, Party, UserId};
use zest_command::{Pattern, line, read_line};
use zest_model::ask::{Answer, Change, Refusal, Width};
use zest_model::entry::Does;
use zest_model::source::{Place, visible};

/// The level of those who administer a device.
const HIGHEST: u8 = 15;
/// How many accounts are proposed.
const TRIED: usize = 6;
/// How many other levels are proposed.
const LEVELS: usize = 1;

/// Ways on from one refusal.
pub(super) fn ways(site: Site<'_>, answer: &Answer, refusal: Refusal) -> Vec<Way> {
    let asked = match Asked::of(site, answer) {
        Ok(asked) => asked,
        Err(ways) => return ways,
    };
    if let Some(ways) = asked.person(refusal) {
        return ways;
    }
    let Some(device) = Device::of(site.engine, site.system) else { return Vec::new() };
    let at = OnDevice { asked, device };
    let question = &answer.question;
    match refusal {
        Refusal::CredentialMustChange => vec![at.change_credential()],
        Refusal::SeveralAccounts => at.one_of_several(),
        Refusal::AccountNotAsked => vec![way(Change::NoAccount, "in their own name", None)],
        Refusal::ChannelNotAllowed => {
            let channel = asked.engine.estate.user(asked.user).channels.iter().flatten().next();
            channel.map(|c| way(Change::Channel(c.value), format!("through the channel {}", c.value.word()), None)).into_iter().collect()
        }
        Refusal::CentralDownNoAccount | Refusal::NoLocalAccount | Refusal::AccountLocked | Refusal::AccountWithoutCredential => {
            at.accounts(refusal, answer)
        }
        Refusal::OriginNotAdmitted => at.account_origin(answer),
        Refusal::NoBand => at.no_band(answer),
        Refusal::NotStated => at.unknown_facts(answer),
        Refusal::NoAssignment => at.memberships(),
        Refusal::LevelAboveCeiling => {
            let wanted = question.session.level.unwrap_or(15);
            let narrower = at.ceiling_ways(answer, wanted, |c| way(Change::Level(c), format!("at level {c}"), None));
            narrower.into_iter().chain(at.other_levels()).collect()
        }
        Refusal::AboveCeiling | Refusal::BareElevation => at.elevation(answer),
        Refusal::LevelNotReached => {
            let permit = question.session.level.map(|l| at.permit_elevation(l)).unwrap_or_default();
            at.other_levels().into_iter().chain(permit).collect()
        }
        Refusal::UnknownMode | Refusal::ModeNotReached => vec![way(Change::Mode(None), "in the mode in which sessions start", None)],
        Refusal::UnknownCommand | Refusal::OtherMode | Refusal::IncompleteCommand | Refusal::AmbiguousAbbreviation => {
            at.other_line(refusal)
        }
        Refusal::LevelTooLow => at.level_too_low(answer),
        Refusal::DeniedByRule | Refusal::NotPermitted => at.other_levels().into_iter().chain(at.permit_line(answer)).collect(),
        Refusal::NoCommandSet => at.other_levels().into_iter().chain(at.attach()).collect(),
        Refusal::CommandsNeedCentral => vec![way(Change::CentralUp, "once the central source is up again", None)],
        Refusal::AssignmentNotValid
        | Refusal::OriginOutside
        | Refusal::OutsideHours
        | Refusal::OutsideDays
        | Refusal::ChannelOutside
        | Refusal::ProofMissing
        | Refusal::AttributesDiffer => at.failing_condition(refusal),
        Refusal::SamePerson | Refusal::NotEntitled => at.second_person(answer),
        _ => Vec::new(),
    }
}

/// A refused question about a device.
struct OnDevice<'a> {
    asked: Asked<'a>,
    device: &'a Device,
}

impl<'a> Deref for OnDevice<'a> {
    type Target = Asked<'a>;

    fn deref(&self) -> &Self::Target {
        &self.asked
    }
}

impl OnDevice<'_> {
    fn change_credential(&self) -> Way {
        let entry = self.engine.estate.user(self.user);
        let commands = &self.device.vocabulary(self.engine).commands;
        let line = commands.iter().find(|c| c.does == Some(Does::ChangeCredential)).map(|c| c.pattern.to_string());
        let by = line.map_or(String::new(), |l| format!(" with `{l}`"));
        let place = entry.must_change_credential.as_ref().map(|m| m.place);
        way(
            Change::CredentialChanged { user: self.name() },
            format!("once `{}` has changed the credential{by}", visible(&entry.id.value)),
            place,
        )
    }

    fn one_of_several(&self) -> Vec<Way> {
        let accounts = &self.engine.estate.system(self.system).accounts;
        let usable = usable_accounts(self.engine, (self.system, self.device), self.user).take(TRIED);
        let with = |login: &String| way(Change::Account(login.clone()), format!("with the account `{}`", visible(login)), None);
        usable.map(|account| with(&accounts[account].login.value)).collect()
    }

    fn accounts(&self, refusal: Refusal, answer: &Answer) -> Vec<Way> {
        let accounts = &self.engine.estate.system(self.system).accounts;
        let name = visible(&self.engine.estate.user(self.user).id.value);
        let login = answer.account.clone().unwrap_or_default();
        let of = accounts.iter().find(|a| a.login.value == login);
        match refusal {
            Refusal::AccountLocked => {
                let place = of.and_then(|a| a.locked.as_ref()).map(|l| l.place);
                vec![way(
                    Change::UnlockAccount { system: self.on(), login: login.clone() },
                    format!("if the account `{}` were not locked", visible(&login)),
                    place,
                )]
            }
            Refusal::AccountWithoutCredential => {
                let place = of.and_then(|a| a.credential.as_ref()).map(|c| c.place);
                vec![way(
                    Change::SetCredential { system: self.on(), login: login.clone() },
                    format!("if the account `{}` had its credential set", visible(&login)),
                    place,
                )]
            }
            _ => {
                let mut ways = Vec::new();
                if refusal == Refusal::CentralDownNoAccount {
                    ways.push(way(Change::CentralUp, "once the central source is up again", None));
                }
                let wanted = self.question.session.account.as_deref();
                let of = accounts.iter().zip(&*self.device.links.accounts);
                for (account, links) in of.filter(|(a, _)| wanted.is_none_or(|w| w == a.login.value)).take(3) {
                    let login = &account.login.value;
                    let text = format!("if `{name}` might use the account `{}`", visible(login));
                    let change = Change::UseAccount { system: self.on(), account: login.clone(), user: self.name() };
                    let uses = lent(links.used_by.iter().map(|&(party, _)| party), login, &self.name());
                    ways.push(Way { width: uses, ..way(change, text, Some(account.login.place)) });
                }
                ways
            }
        }
    }

    fn account_origin(&self, answer: &Answer) -> Vec<Way> {
        let login = answer.account.as_deref().unwrap_or_default();
        let accounts = &self.engine.estate.system(self.system).accounts;
        let index = accounts.iter().position(|a| a.login.value == login);
        let origins = index.and_then(|i| self.device.links.accounts[i].origin.as_ref());
        origins.and_then(|o| o.first()).map(|a| way(Change::Origin(a), format!("from {a}"), None)).into_iter().collect()
    }

    fn no_band(&self, answer: &Answer) -> Vec<Way> {
        if let Some(login) = &answer.account {
            let text = format!("if the account `{}` had a band", visible(login));
            return vec![way(Change::AccountCeiling { system: self.on(), login: login.clone(), to: 1 }, text, None)];
        }
        let Some(assignment) = self.first_assignment() else { return Vec::new() };
        let roles = &self.engine.estate.assignments[assignment.index()].roles;
        let give = |role: &zest_model::entry::Role| {
            way(
                Change::Ceiling { role: role.id.value.clone(), to: 1 },
                format!("if the role `{}` had a band from 1 to 1", visible(&role.id.value)),
                Some(role.id.place),
            )
        };
        roles.first().map(|&r| give(self.engine.estate.role(r))).into_iter().collect()
    }

    /// The assignment that the answer rests on: the first that holds or cannot be known, or else the first of all.
    fn first_assignment(&self) -> Option<AssignmentId> {
        let outcome = |id: &AssignmentId| {
            self.engine.estate.assignments[id.index()].conditions.outcome(self.engine.facts(&self.question.session, self.user, self.system))
        };
        let all: Vec<AssignmentId> = self.engine.candidates(self.user, self.system).map(|c| c.assignment).collect();
        all.iter().copied().find(|id| outcome(id) != Outcome::Fails).or_else(|| all.first().copied())
    }

    fn memberships(&self) -> Vec<Way> {
        let estate = &self.engine.estate;
        let mut groups: Vec<(u8, GroupId, Place)> = Vec::new();
        for (i, links) in estate.assignments.iter().enumerate().filter(|(_, a)| a.systems.contains(self.system.index())) {
            let ceiling = self.engine.standing(AssignmentId::new(i)).1.band.map_or(0, |b| b.ceiling);
            for &(party, _) in &links.to {
                if let Party::Group(group) = party
                    && !groups.iter().any(|&(_, g, _)| g == group)
                {
                    groups.push((ceiling, group, estate.group(group).id.place));
                }
            }
        }
        // The least right that is enough is the smallest change.
        groups.sort_by_key(|&(ceiling, group, _)| (ceiling, group));
        let name = visible(&estate.user(self.user).id.value);
        let join = |&(ceiling, group, place): &(u8, GroupId, Place)| {
            let id = &estate.group(group).id.value;
            let joins = way(
                Change::JoinGroup { group: id.clone(), user: self.name() },
                format!("if `{name}` were in group `{}`", visible(id)),
                Some(place),
            );
            joins.of_width_if(Width::WiderThanNeeded, ceiling == HIGHEST && self.question.session.level != Some(HIGHEST))
        };
        groups.iter().take(6).map(join).collect()
    }

    fn failing_condition(&self, refusal: Refusal) -> Vec<Way> {
        let part = match refusal {
            Refusal::OriginOutside => Part::Origin,
            Refusal::OutsideHours => Part::Hours,
            Refusal::OutsideDays => Part::Days,
            Refusal::ChannelOutside => Part::Channel,
            Refusal::ProofMissing => Part::Proof,
            Refusal::AttributesDiffer => Part::Attributes,
            _ => Part::Validity,
        };
        let facts = self.engine.facts(&self.question.session, self.user, self.system);
        let all = self.engine.candidates(self.user, self.system);
        let of = |assignment: AssignmentId| {
            let conditions = &self.engine.estate.assignments[assignment.index()].conditions;
            let parts = conditions.parts(facts).filter(|p| p.condition.part() == part && p.outcome != Outcome::Holds);
            parts.map(|p| self.satisfy(conditions, p.condition, &facts)).find(|ways| !ways.is_empty()).unwrap_or_default()
        };
        let mut ways: Vec<Way> = all.flat_map(|c| of(c.assignment)).take(3).collect();
        if let (Part::Validity, Some(assignment)) = (part, self.first_assignment()) {
            let place = self.engine.estate.assignments[assignment.index()].entry.place;
            ways.push(way(Change::Prolong { at: self.locate(place) }, "if the assignment held at that time", Some(place)));
        }
        ways
    }

    /// Says how to state what the question leaves open.
    fn unknown_facts(&self, answer: &Answer) -> Vec<Way> {
        let session = &self.question.session;
        let facts = self.person_facts();
        if !facts.is_empty() {
            return facts;
        }
        if answer.account.is_some() {
            return self.account_origin(answer);
        }
        let Some(assignment) = self.first_assignment() else { return Vec::new() };
        let conditions = &self.engine.estate.assignments[assignment.index()].conditions;
        let facts = self.engine.facts(session, self.user, self.system);
        let unknown = conditions.parts(facts).find(|p| p.outcome == Outcome::Unknown);
        unknown.map(|p| self.satisfy(conditions, p.condition, &facts)).unwrap_or_default()
    }

    fn ceiling_ways(&self, answer: &Answer, wanted: u8, lower: impl Fn(u8) -> Way) -> Vec<Way> {
        let mut ways = Vec::new();
        if let Some(login) = &answer.account {
            let account = self.engine.estate.system(self.system).accounts.iter().find(|a| a.login.value == *login);
            if let Some(band) = account.and_then(|a| a.band.as_ref()) {
                ways.push(lower(band.ceiling.value));
                let text = format!("if the ceiling of account `{}` were {wanted}", visible(login));
                let change = Change::AccountCeiling { system: self.on(), login: login.clone(), to: wanted };
                let raise = way(change, text, Some(band.ceiling.place));
                ways.push(raise.of_width_if(Width::WiderThanNeeded, wanted == HIGHEST));
            }
            return ways;
        }
        let Some(standing) = self.first_assignment().map(|a| self.engine.standing(a).1) else { return ways };
        if let Some(band) = standing.band {
            ways.push(lower(band.ceiling));
            let roles = standing.roles.iter().map(|&r| self.engine.estate.role(r));
            if let Some(role) = roles.into_iter().find(|r| r.band.as_ref().is_some_and(|b| b.ceiling.place == band.ceiling_place)) {
                let text = format!("if the ceiling of role `{}` were {wanted}", visible(&role.id.value));
                let raise = way(Change::Ceiling { role: role.id.value.clone(), to: wanted }, text, Some(band.ceiling_place));
                ways.push(raise.of_width_if(Width::WiderThanNeeded, wanted == HIGHEST));
            }
        }
        ways
    }

    fn elevation(&self, answer: &Answer) -> Vec<Way> {
        let vocabulary = self.device.vocabulary(self.engine);
        let wanted = answer.full_line.as_deref().and_then(|l| l.split(' ').next_back()?.parse().ok()).unwrap_or(15);
        self.ceiling_ways(answer, wanted, |ceiling| {
            let numbered = vocabulary.commands.iter().find(|c| c.does == Some(Does::Elevate) && c.level_word.is_some());
            let line = numbered.map_or_else(|| "elevate".to_owned(), |c| example(&c.pattern, &ceiling.to_string()));
            way(Change::Line(line.clone()), format!("with `{line}`"), None)
        })
    }

    fn permit_elevation(&self, level: u8) -> Vec<Way> {
        let vocabulary = self.device.vocabulary(self.engine);
        let numbered = vocabulary.commands.iter().find(|c| c.does == Some(Does::Elevate) && c.level_word.is_some());
        numbered.map(|c| self.permit(&example(&c.pattern, &level.to_string()))).unwrap_or_default()
    }

    fn other_line(&self, refusal: Refusal) -> Vec<Way> {
        let vocabulary = self.device.vocabulary(self.engine);
        let mode = self.question.session.mode.as_deref().and_then(|m| vocabulary.mode(m)).unwrap_or(vocabulary.start_mode);
        let Ok(words) = read_line(&self.question.line) else { return Vec::new() };
        if refusal == Refusal::OtherMode {
            let modes = (0..vocabulary.modes.len()).map(ModeId::new);
            let other = modes.filter(|&m| m != mode).find(|&m| vocabulary.resolve(m, &words, &self.engine.alphabet).is_ok());
            let name = |m: ModeId| vocabulary.modes[m.index()].clone();
            return other
                .map(|m| way(Change::Mode(Some(name(m))), format!("in the mode `{}`", visible(&name(m))), None))
                .into_iter()
                .collect();
        }
        let lines = vocabulary.lines_like(mode, &words, &self.engine.alphabet);
        lines.into_iter().map(|line| way(Change::Line(line.clone()), format!("as `{}`", visible(&line)), None)).collect()
    }

    fn level_too_low(&self, answer: &Answer) -> Vec<Way> {
        let vocabulary = self.device.vocabulary(self.engine);
        let mode = self.question.session.mode.as_deref().and_then(|m| vocabulary.mode(m)).unwrap_or(vocabulary.start_mode);
        let Ok(words) = read_line(&self.question.line) else { return Vec::new() };
        let Ok(resolved) = vocabulary.resolve(mode, &words, &self.engine.alphabet) else { return Vec::new() };
        let (needed, _) = self.device.own_level(resolved.command);
        let links = &self.engine.estate.vocabularies[self.device.links.vocabulary.index()].commands[resolved.command.index()];
        let now = answer.level.unwrap_or(0);
        let mut ways = self.other_levels();
        if !ways.iter().any(|w| w.change == Change::Level(needed)) {
            ways.push(way(Change::Level(needed), format!("at level {needed}"), None));
        }
        ways.push(way(
            Change::OwnLevel { system: self.on(), command: links.line.clone(), to: now },
            format!("if the device put `{}` at level {now}", visible(&links.line)),
            Some(self.engine.estate.system(self.system).id.place),
        ));
        ways
    }

    /// At another level at which the line runs, the lowest first, with the line that gets there.
    fn other_levels(&self) -> Vec<Way> {
        let vocabulary = self.device.vocabulary(self.engine);
        let numbered = vocabulary.commands.iter().find(|c| c.does == Some(Does::Elevate) && c.level_word.is_some());
        let bare = vocabulary.commands.iter().find(|c| c.does == Some(Does::Elevate) && c.level_word.is_none());
        let at = |level: u8| {
            let change = Change::Level(level);
            let mut question = self.question.clone();
            change.apply(&mut question);
            let is_of_use = self.question.session.level != Some(level) && self.engine.decide(&question).refusal.is_none();
            is_of_use.then(|| {
                let line = match (numbered, bare) {
                    (Some(command), _) => Some(example(&command.pattern, &level.to_string())),
                    (None, bare) => bare.map(|command| example(&command.pattern, "")),
                };
                let by = line.map_or(String::new(), |line| format!(", reached with `{}`", visible(&line)));
                way(change, format!("at level {level}{by}"), None)
            })
        };
        (0..=HIGHEST).filter_map(at).take(LEVELS).collect()
    }

    fn permit_line(&self, answer: &Answer) -> Vec<Way> {
        let Some(line) = answer.full_line.as_deref() else { return Vec::new() };
        let vocabulary = self.device.vocabulary(self.engine);
        let resolved =
            read_line(line).ok().and_then(|w| vocabulary.resolve(vocabulary.start_mode, &w, &self.engine.alphabet).ok().map(|r| r.command));
        let is_elevation = resolved.is_some_and(|c| vocabulary.command(c).does == Some(Does::Elevate));
        let mut ways = if is_elevation { self.elevation(answer) } else { Vec::new() };
        ways.retain(|w| w.change.is_of_session());
        ways.extend(self.permit(line));
        ways
    }

    /// Permits a line at the top of the sets that apply: of the one that denies it, or else of any.
    fn permit(&self, line: &str) -> Vec<Way> {
        let Some(standing) = self.first_assignment().map(|a| self.engine.standing(a).1) else { return Vec::new() };
        let Ok(words) = read_line(line) else { return Vec::new() };
        let pattern = Pattern::literal(words.iter().copied()).to_string();
        let symbols = zest_command::alphabet::symbols(&self.engine.alphabet, words.iter().copied());
        let denies = |set: &&crate::links::SetId| {
            let compiled = &self.engine.sets[set.index()];
            compiled.automaton.decide(&symbols).is_some_and(|rule| compiled.rules[rule as usize].verb == zest_model::entry::RuleVerb::Deny)
        };
        let denying: Vec<_> = standing.sets.iter().filter(denies).copied().collect();
        let sets = if denying.is_empty() { standing.sets.to_vec() } else { denying };
        let permit = |set: &crate::links::SetId| {
            let entry = self.engine.estate.set(*set);
            let rule =
                self.engine.sets[set.index()].automaton.decide(&symbols).map(|r| &self.engine.estate.sets[set.index()].rules[r as usize]);
            let (text, place) = match rule {
                Some(rule) => {
                    (format!("if command set `{}` allowed `{}` before that rule", visible(&entry.id.value), visible(line)), rule.text.place)
                }
                None => (
                    format!("if command set `{}` also allowed `{}`", visible(&entry.id.value), visible(line)),
                    entry.rules.first().map_or(entry.id.place, |r| r.text.place),
                ),
            };
            let allow = way(Change::AllowFirst { set: entry.id.value.clone(), pattern: pattern.clone() }, text, Some(place));
            // A rule that refuses everything that is left says nothing about this line; any other was meant.
            allow.of_width_if(Width::WiderThanNeeded, rule.is_some_and(|rule| !is_everything(&rule.pattern)))
        };
        sets.iter().take(3).map(permit).collect()
    }

    fn attach(&self) -> Vec<Way> {
        let Some(standing) = self.first_assignment().map(|a| self.engine.standing(a).1) else { return Vec::new() };
        let Some(&role) = standing.roles.first() else { return Vec::new() };
        let role = self.engine.estate.role(role);
        let attach = |set: &std::sync::Arc<zest_model::entry::CommandSet>| {
            way(
                Change::Attach { role: role.id.value.clone(), set: set.id.value.clone() },
                format!("if role `{}` had the command set `{}`", visible(&role.id.value), visible(&set.id.value)),
                Some(role.id.place),
            )
        };
        self.engine.estate.command_sets().iter().take(6).map(attach).collect()
    }

    fn second_person(&self, answer: &Answer) -> Vec<Way> {
        let Some(rule) = answer.rule else { return Vec::new() };
        let estate = &self.engine.estate;
        let Some(duties) = &estate.sets[rule.set.index()].rules[rule.index as usize].after else { return Vec::new() };
        let mut users: Vec<UserId> = Vec::new();
        let mut queue: Vec<Party> = duties.second_person.iter().rev().map(|&(p, _)| p).collect();
        let mut steps = 0;
        while let Some(party) = queue.pop().filter(|_| steps < 1000 && users.len() < 8) {
            steps += 1;
            match party {
                Party::User(user) if user != self.user && !users.contains(&user) => users.push(user),
                Party::User(_) => {}
                Party::Group(group) => queue.extend(estate.groups[group.index()].members.iter().rev().map(|&(m, _)| m)),
            }
        }
        let name = |user: UserId| estate.user(user).id.value.clone();
        users
            .into_iter()
            .map(|u| way(Change::SecondPerson(name(u)), format!("with `{}` as second person", visible(&name(u))), None))
            .collect()
    }
}

/// Returns whether a pattern names no word.
fn is_everything(pattern: &Pattern) -> bool {
    pattern.is_open() && pattern.words().iter().all(|word| matches!(word, zest_command::WordPattern::Slot(_)))
}

/// Writes a line of a pattern with a word for its slots.
fn example(pattern: &Pattern, slot: &str) -> String {
    use zest_command::WordPattern;
    line::join(pattern.words().iter().map(|word| match word {
        WordPattern::Fixed(words) => words.first().map_or("", String::as_str),
        WordPattern::Slot(_) => slot,
    }))
}
