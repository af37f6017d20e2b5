//! The plain evaluator: the rules of a network device as one reads them aloud, without any index or automaton.
//!
//! It works on the entries as written, looks at everything in order, and is never made faster but for remembering the
//! patterns it has read. Where it and the engine disagree, one of them is wrong.

use std::cell::RefCell;
use std::collections::HashMap;
use std::net::IpAddr;
use std::rc::Rc;

use ipnet::IpNet;
use jiff::civil::Time;
use jiff::tz::TimeZone;
use zest_ledger::Question;
use zest_ledger::ask::{Central, Refusal, Session, Verdict};
use zest_ledger::command::{Pattern, WordPattern, read_line};
use zest_ledger::entry::{
    Account, Assignment, AuthorisedLevels, Band, BareElevation, Command, CommandSet, Does, IdentitySource, On, Otherwise, Role, RuleVerb,
    System, Unrestricted, User, Vocabulary, WhenCentralDown,
};
use zest_ledger::estate::Estate;

/// What the plain evaluator says: verdict, first refusal, and the deciding rule as set and position.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Said {
    /// The verdict.
    pub verdict: Verdict,
    /// The first refusal.
    pub refusal: Option<Refusal>,
    /// The set's id and the rule's position, included sets counted in.
    pub rule: Option<(String, usize)>,
}

type Answer<T> = Result<T, Refusal>;

/// A session as it stands: what decides about its commands.
struct Standing<'e> {
    band: (u8, u8),
    sets: Vec<&'e CommandSet>,
    is_local: bool,
}

/// Answers a question the plain way.
#[must_use]
pub fn answer(estate: &Estate, question: &Question) -> Said {
    let mut rule = None;
    let outcome = Naive { estate }.answer(question, &mut rule);
    let (verdict, refusal) = match outcome {
        Ok(true) => (Verdict::AllowedAfter, None),
        Ok(false) => (Verdict::Allowed, None),
        Err(refusal) => (Verdict::Denied, Some(refusal)),
    };
    Said { verdict, refusal, rule }
}

struct Naive<'e> {
    estate: &'e Estate,
}

impl<'e> Naive<'e> {
    fn answer(&self, question: &Question, rule: &mut Option<(String, usize)>) -> Answer<bool> {
        let session = &question.session;
        let system = self.estate.systems().iter().find(|s| s.id.value == question.system).ok_or(Refusal::UnknownSystem)?;
        let user = self.estate.users().iter().find(|u| u.id.value == question.user).ok_or_else(|| {
            let folded = |u: &&std::sync::Arc<User>| u.id.value.to_lowercase() == question.user.to_lowercase();
            if self.estate.users().iter().any(|u| folded(&u)) { Refusal::WrongCase } else { Refusal::UnknownUser }
        })?;
        Self::person(user, session)?;
        let standing = self.standing(system, user, session)?;
        let level = session.level.unwrap_or(standing.band.0);
        let vocabulary = self.vocabulary(system);
        let mode = session.mode.clone().unwrap_or_else(|| "deck".to_owned());
        if !modes(vocabulary).contains(&mode) {
            return Err(Refusal::UnknownMode);
        }
        if level > standing.band.1 {
            return Err(Refusal::LevelAboveCeiling);
        }
        let reach = self.reach(system, &standing, session, true);
        // What the lines on the way want done first is owed, unless there is a way on which nothing is.
        let owed = !self.reach(system, &standing, session, false).contains(&(mode.clone(), level));
        if (level, mode.as_str()) != (standing.band.0, "deck") {
            if !reach.iter().any(|(_, l)| *l == level) {
                return Err(Refusal::LevelNotReached);
            }
            if !reach.contains(&(mode.clone(), level)) {
                return Err(Refusal::ModeNotReached);
            }
        }
        let words = read_line(&question.line).map_err(|_| Refusal::LineUnreadable)?;
        let (command, words) = resolve(vocabulary, &mode, &words).map_err(|refusal| {
            let elsewhere = modes(vocabulary).iter().any(|m| *m != mode && resolve(vocabulary, m, &words).is_ok());
            if refusal == Refusal::UnknownCommand && elsewhere { Refusal::OtherMode } else { refusal }
        })?;
        let must_change = user.must_change_credential.as_ref().is_some_and(|m| m.value);
        if must_change && !standing.is_local && command.does.as_ref().map(|d| d.value) != Some(Does::ChangeCredential) {
            return Err(Refusal::CredentialMustChange);
        }
        if own_level(system, command) > level {
            return Err(Refusal::LevelTooLow);
        }
        let waits = self.permitted(system, &standing, session, &mode, level, &words, rule)?;
        if command.does.as_ref().map(|d| d.value) == Some(Does::Elevate) {
            let to = elevation(vocabulary, command, &words, standing.band.1).ok_or(Refusal::BareElevation)?;
            if to > standing.band.1 {
                return Err(Refusal::AboveCeiling);
            }
        }
        Ok((waits || owed) && !session.confirmed)
    }

    fn person(user: &User, session: &Session) -> Answer<()> {
        if user.disabled.as_ref().is_some_and(|d| d.value) {
            return Err(Refusal::UserDisabled);
        }
        if user.from.is_some() || user.until.is_some() {
            let at = session.at.ok_or(Refusal::NotStated)?;
            if user.from.as_ref().is_some_and(|f| at < f.value) || user.until.as_ref().is_some_and(|u| at >= u.value) {
                return Err(Refusal::UserNotValid);
            }
        }
        Ok(())
    }

    fn standing(&self, system: &'e System, user: &User, session: &Session) -> Answer<Standing<'e>> {
        let order = system.identity_sources.as_ref().map_or(vec![IdentitySource::Central, IdentitySource::Local], |s| s.value.clone());
        let mut is_down = false;
        for source in order {
            if source == IdentitySource::Central && session.central == Central::Up {
                return self.central(system, user, session);
            }
            is_down |= source == IdentitySource::Central;
            if source == IdentitySource::Local
                && let Some(account) = self.account(system, user)?
            {
                return self.local(account, session);
            }
        }
        Err(if is_down { Refusal::CentralDownNoAccount } else { Refusal::NoLocalAccount })
    }

    fn account(&self, system: &'e System, user: &User) -> Answer<Option<&'e Account>> {
        let own = system.accounts.iter().find(|a| a.login.value == user.id.value);
        let lent: Vec<&Account> = system.accounts.iter().filter(|a| self.is_among(user, &a.used_by)).collect();
        let usable: Vec<&Account> =
            lent.iter().copied().filter(|a| !a.locked.as_ref().is_some_and(|l| l.value) && a.credential.is_none()).collect();
        match (own, usable.as_slice()) {
            (Some(own), _) => Ok(Some(own)),
            (None, [_, _, ..]) => Err(Refusal::SeveralAccounts),
            (None, usable) => Ok(usable.first().or(lent.first()).copied()),
        }
    }

    fn local(&self, account: &'e Account, session: &Session) -> Answer<Standing<'e>> {
        if account.locked.as_ref().is_some_and(|l| l.value) {
            return Err(Refusal::AccountLocked);
        }
        if account.credential.as_ref().is_some_and(|c| c.value.word() != "set") {
            return Err(Refusal::AccountWithoutCredential);
        }
        if let Some(origins) = &account.origin {
            let from = session.origin.ok_or(Refusal::NotStated)?;
            if !origins.iter().any(|o| holds(&o.value, from)) {
                return Err(Refusal::OriginNotAdmitted);
            }
        }
        let band = account.band.as_ref().map(levels).ok_or(Refusal::NoBand)?;
        Ok(Standing { band, sets: Vec::new(), is_local: true })
    }

    fn central(&self, system: &'e System, user: &User, session: &Session) -> Answer<Standing<'e>> {
        if user.proofs.is_empty() {
            return Err(Refusal::NoProof);
        }
        if session.proofs.as_ref().is_some_and(Vec::is_empty) {
            return Err(Refusal::NothingProven);
        }
        if session.proofs.iter().flatten().any(|p| !user.proofs.iter().any(|own| own.value == p.proof)) {
            return Err(Refusal::ProofNotRegistered);
        }
        if let Some(channels) = &user.channels {
            let channel = session.channel.ok_or(Refusal::NotStated)?;
            if !channels.iter().any(|c| c.value == channel) {
                return Err(Refusal::ChannelNotAllowed);
            }
        }
        let mut first_failure = None;
        for assignment in self.estate.assignments().iter().filter(|a| covers(&a.on, system) && self.is_among(user, &a.to)) {
            let band = self.band(&assignment.roles);
            match conditions(assignment, session) {
                Ok(()) => {
                    let band = band.ok_or(Refusal::NoBand)?;
                    return Ok(Standing { band, sets: self.sets(&assignment.roles), is_local: false });
                }
                Err(Refusal::NotStated) => return Err(band.map_or(Refusal::NoBand, |_| Refusal::NotStated)),
                Err(refusal) => _ = first_failure.get_or_insert(band.map_or(Refusal::NoBand, |_| refusal)),
            }
        }
        Err(first_failure.unwrap_or(Refusal::NoAssignment))
    }

    /// Whether a user is named, directly or by a group that holds him at any depth.
    fn is_among(&self, user: &User, parties: &[zest_ledger::source::At<String>]) -> bool {
        parties.iter().any(|p| match p.value.split_once(':') {
            Some(("user", id)) => id == user.id.value,
            Some(("group", id)) => self.estate.groups().iter().any(|g| g.id.value == id && self.is_among(user, &g.members)),
            _ => false,
        })
    }

    fn role(&self, id: &str) -> &'e Role {
        self.estate.roles().iter().find(|r| r.id.value == id).expect("the ledger is valid")
    }

    fn band(&self, roles: &[zest_ledger::source::At<String>]) -> Option<(u8, u8)> {
        let of = |id: &str| {
            let role = self.role(id);
            role.band.as_ref().map(levels).or_else(|| self.band(&role.includes))
        };
        roles.iter().filter_map(|r| of(&r.value)).reduce(|a, b| (a.0.max(b.0), a.1.max(b.1)))
    }

    fn sets(&self, roles: &[zest_ledger::source::At<String>]) -> Vec<&'e CommandSet> {
        let mut sets: Vec<&CommandSet> = Vec::new();
        for role in roles.iter().map(|r| self.role(&r.value)) {
            let own = role.commands.iter().map(|c| self.set(&c.value));
            for set in own.chain(self.sets(&role.includes)) {
                if !sets.iter().any(|s| s.id == set.id) {
                    sets.push(set);
                }
            }
        }
        sets
    }

    fn set(&self, id: &str) -> &'e CommandSet {
        self.estate.command_sets().iter().find(|s| s.id.value == id).expect("the ledger is valid")
    }

    fn vocabulary(&self, system: &System) -> &'e Vocabulary {
        let id = &system.vocabulary.as_ref().expect("the ledger is valid").value;
        self.estate.vocabularies().iter().find(|v| v.id.value == *id).expect("the ledger is valid")
    }

    /// The rules of a set in order, with those of included sets in their places: verb, pattern, obligation.
    fn rules(&self, set: &CommandSet) -> Vec<(RuleVerb, Rc<Pattern>, bool)> {
        set.rules
            .iter()
            .flat_map(|r| match r.verb {
                RuleVerb::Include => self.rules(self.set(&r.text.value)),
                verb => vec![(verb, read(&r.text.value), r.after.is_some())],
            })
            .collect()
    }

    /// Whether the sets permit a line, and whether something must be done first. The random ledgers know one
    /// obligation: to confirm.
    #[expect(clippy::too_many_arguments, reason = "a plain reading of the rule needs all of them")]
    fn permitted(
        &self,
        system: &System,
        standing: &Standing<'_>,
        session: &Session,
        mode: &str,
        level: u8,
        words: &[String],
        rule: &mut Option<(String, usize)>,
    ) -> Answer<bool> {
        let configuration = self.vocabulary(system).modes.iter().any(|m| m.name.value == mode && m.configuration);
        let asks = system.authorisation.as_ref().is_some_and(|a| match &a.value.levels {
            _ if configuration => a.value.configuration,
            AuthorisedLevels::All => true,
            AuthorisedLevels::Listed(levels) => levels.contains(&level),
        });
        if !asks {
            return Ok(false);
        }
        if standing.is_local {
            let is_down = session.central == Central::Down;
            let refuses = is_down && system.when_central_down.as_ref().is_some_and(|w| w.value == WhenCentralDown::Nothing);
            return if refuses { Err(Refusal::CommandsNeedCentral) } else { Ok(false) };
        }
        if standing.sets.is_empty() {
            let everything = system.no_command_set.as_ref().is_some_and(|n| n.value == Unrestricted::Everything);
            return if everything { Ok(false) } else { Err(Refusal::NoCommandSet) };
        }
        let line: Vec<&str> = words.iter().map(String::as_str).collect();
        let mut allows: Vec<(String, usize, bool)> = Vec::new();
        for set in &standing.sets {
            let found = self.rules(set).into_iter().enumerate().find(|(_, (_, pattern, _))| pattern.matches(&line));
            match found {
                Some((i, (RuleVerb::Deny, ..))) => {
                    *rule = Some((set.id.value.clone(), i));
                    return Err(Refusal::DeniedByRule);
                }
                Some((i, (_, _, waits))) => allows.push((set.id.value.clone(), i, waits)),
                None => {}
            }
        }
        if let Some((set, i, _)) = allows.first() {
            *rule = Some((set.clone(), *i));
            return Ok(allows.iter().any(|(.., waits)| *waits));
        }
        let otherwise = standing.sets.iter().any(|s| s.otherwise.as_ref().is_some_and(|o| o.value == Otherwise::Allow));
        if otherwise { Ok(false) } else { Err(Refusal::NotPermitted) }
    }

    /// Every mode and level a session can come to. The mode-entering commands of the random ledgers have no slots.
    fn reach(&self, system: &System, standing: &Standing<'_>, session: &Session, may_wait: bool) -> Vec<(String, u8)> {
        let vocabulary = self.vocabulary(system);
        let mut found = vec![("deck".to_owned(), standing.band.0)];
        let mut next = 0;
        while let Some((mode, level)) = found.get(next).cloned() {
            next += 1;
            for command in vocabulary.commands.iter().filter(|c| knows(c, &mode) && own_level(system, c) <= level) {
                let pattern = read(&command.line.value);
                for number in 0..=15_u8 {
                    let fill = |w: &WordPattern| match w {
                        WordPattern::Fixed(words) => words[0].clone(),
                        WordPattern::Slot(_) => number.to_string(),
                    };
                    let words: Vec<String> = pattern.words().iter().map(fill).collect();
                    let fits = pattern.matches(&words.iter().map(String::as_str).collect::<Vec<_>>());
                    let permitted = self.permitted(system, standing, session, &mode, level, &words, &mut None);
                    if !fits || permitted.is_err() || permitted == Ok(true) && !may_wait {
                        continue;
                    }
                    let is_elevation = command.does.as_ref().is_some_and(|d| d.value == Does::Elevate);
                    let to = if is_elevation { elevation(vocabulary, command, &words, standing.band.1) } else { None };
                    let mut step = |state: (String, u8)| {
                        if !found.contains(&state) {
                            found.push(state);
                        }
                    };
                    if let Some(to) = to.filter(|t| *t <= standing.band.1) {
                        step((mode.clone(), to));
                    }
                    if let Some(into) = &command.enters {
                        step((into.value.clone(), level));
                    }
                }
            }
        }
        found
    }
}

fn levels(band: &Band) -> (u8, u8) {
    (band.start.value, band.ceiling.value)
}

fn modes(vocabulary: &Vocabulary) -> Vec<String> {
    vocabulary.modes.iter().map(|m| m.name.value.clone()).collect()
}

fn knows(command: &Command, mode: &str) -> bool {
    if command.modes.is_empty() { mode == "deck" } else { command.modes.iter().any(|m| m.value == mode) }
}

fn own_level(system: &System, command: &Command) -> u8 {
    let own = system.own_levels.iter().rev().find(|o| o.command.value == command.line.value).map(|o| o.level.value);
    own.unwrap_or_else(|| command.level.as_ref().map_or(1, |l| l.value))
}

thread_local! {
    /// Patterns that were read before: reading them took most of the time of a test.
    static PATTERNS: RefCell<HashMap<String, Rc<Pattern>>> = RefCell::default();
}

fn read(text: &str) -> Rc<Pattern> {
    let known = PATTERNS.with_borrow(|all| all.get(text).cloned());
    known.unwrap_or_else(|| {
        let pattern = Rc::new(Pattern::parse(text).expect("the ledger is valid"));
        PATTERNS.with_borrow_mut(|all| all.insert(text.to_owned(), Rc::clone(&pattern)));
        pattern
    })
}

fn elevation(vocabulary: &Vocabulary, command: &Command, words: &[String], ceiling: u8) -> Option<u8> {
    let pattern = read(&command.line.value);
    if let Some(at) = pattern.words().iter().position(|w| matches!(w, WordPattern::Slot(_))) {
        return words[at].parse().ok();
    }
    match vocabulary.bare_elevation.as_ref().map_or(BareElevation::Fifteen, |b| b.value) {
        BareElevation::Fifteen => Some(15),
        BareElevation::Ceiling => Some(ceiling),
        BareElevation::Refused => None,
    }
}

fn holds(network: &str, address: IpAddr) -> bool {
    let single = network.parse::<IpAddr>().is_ok_and(|a| a == address);
    single || network.parse::<IpNet>().is_ok_and(|n| n.contains(&address))
}

fn covers(on: &On, system: &System) -> bool {
    let says = on.all.is_some() || !on.systems.is_empty() || on.within.is_some() || !on.labels.is_empty();
    let listed = on.systems.is_empty() || on.systems.iter().any(|s| s.value == system.id.value);
    let within = on
        .within
        .as_ref()
        .is_none_or(|w| system.within.as_ref().is_some_and(|at| at.value == w.value || at.value.starts_with(&format!("{}/", w.value))));
    let labelled = on
        .labels
        .iter()
        .all(|(key, values)| system.labels.iter().any(|(k, v)| k.value == key.value && values.iter().any(|value| value.value == v.value)));
    says && listed && within && labelled
}

/// A condition that fails outweighs one that is not known.
fn conditions(assignment: &Assignment, session: &Session) -> Answer<()> {
    let when = &assignment.when;
    let mut parts: Vec<(Option<bool>, Refusal)> = Vec::new();
    if assignment.from.is_some() || assignment.until.is_some() {
        let valid = |at| assignment.from.as_ref().is_none_or(|f| at >= f.value) && assignment.until.as_ref().is_none_or(|u| at < u.value);
        parts.push((session.at.map(valid), Refusal::AssignmentNotValid));
    }
    if !when.origin.is_empty() {
        parts.push((session.origin.map(|a| when.origin.iter().any(|o| holds(&o.value, a))), Refusal::OriginOutside));
    }
    if let Some(hours) = &when.hours {
        let zone = when.zone.as_ref().map_or(TimeZone::UTC, |z| TimeZone::get(&z.value).expect("the ledger is valid"));
        let (from, until) = hours.value.split_once('-').expect("the ledger is valid");
        let time = |t: &str| t.parse::<Time>().expect("the ledger is valid");
        let (from, until) = (time(from), time(until));
        let now = session.at.map(|at| at.to_zoned_datetime(zone).time());
        parts.push((now.map(|t| if from < until { from <= t && t < until } else { t >= from || t < until }), Refusal::OutsideHours));
    }
    if !when.channel.is_empty() {
        parts.push((session.channel.map(|c| when.channel.iter().any(|w| w.value == c)), Refusal::ChannelOutside));
    }
    if !when.proof.is_empty() {
        let young = |age| when.proof_age.as_ref().is_none_or(|limit| age <= limit.value);
        let given = session.proofs.as_ref();
        parts.push((given.map(|g| g.iter().any(|p| when.proof.iter().any(|w| w.value == p.proof) && young(p.age))), Refusal::ProofMissing));
    }
    if let Some((_, refusal)) = parts.iter().find(|(holds, _)| *holds == Some(false)) {
        // Parts are looked at in order; the first that does not hold is named, known or not.
        let first = parts.iter().find(|(holds, _)| *holds != Some(true)).expect("there is one that fails");
        assert!(first.0.is_none() || first.1 == *refusal);
        return Err(*refusal);
    }
    if parts.iter().any(|(holds, _)| holds.is_none()) { Err(Refusal::NotStated) } else { Ok(()) }
}

fn shortest(word: &str) -> String {
    word.parse::<std::net::Ipv6Addr>().map_or_else(|_| word.to_owned(), |a| a.to_string())
}

/// Finds the command and its full words. A keyword beats a slot, and a shortened word must mean one keyword.
fn resolve<'v>(vocabulary: &'v Vocabulary, mode: &str, typed: &[&str]) -> Answer<(&'v Command, Vec<String>)> {
    let known = vocabulary.commands.iter().filter(|c| knows(c, mode));
    let mut open: Vec<(&Command, Rc<Pattern>)> = known.map(|c| (c, read(&c.line.value))).collect();
    let mut words: Vec<String> = Vec::new();
    for (i, &word) in typed.iter().enumerate() {
        let at = |p: &Pattern| p.words().get(i).cloned();
        let mut keywords: Vec<String> =
            open.iter().filter_map(|(_, p)| if let Some(WordPattern::Fixed(k)) = at(p) { Some(k) } else { None }).flatten().collect();
        keywords.sort();
        keywords.dedup();
        let fitting: Vec<&String> = keywords.iter().filter(|k| k.starts_with(word)).collect();
        let keyword = if keywords.iter().any(|k| k == word) {
            Some(word.to_owned())
        } else if fitting.len() > 1 {
            return Err(Refusal::AmbiguousAbbreviation);
        } else {
            fitting.first().map(|k| (*k).clone())
        };
        if let Some(keyword) = keyword {
            open.retain(|(_, p)| matches!(at(p), Some(WordPattern::Fixed(k)) if k.contains(&keyword)));
            words.push(keyword);
            continue;
        }
        // Numbers are compared without leading zeros, IPv6 addresses in their shortest form.
        let short = word.trim_start_matches('0');
        let number = if word.bytes().all(|b| b.is_ascii_digit()) && short.is_empty() { "0" } else { short };
        let address = shortest(word);
        let takes = |p: &Pattern| match at(p) {
            Some(WordPattern::Slot(slot)) if slot.matches(&address) => Some((slot, address.clone())),
            Some(WordPattern::Slot(slot)) if word.bytes().all(|b| b.is_ascii_digit()) && slot.matches(number) => {
                Some((slot, number.to_owned()))
            }
            _ => None,
        };
        if let Some((slot, form)) = open.iter().find_map(|(_, p)| takes(p)) {
            open.retain(|(_, p)| at(p) == Some(WordPattern::Slot(slot.clone())));
            words.push(form);
        } else if let Some(&(command, _)) = open.iter().find(|(_, p)| p.is_open() && p.words().len() == i) {
            words.extend(typed[i..].iter().map(|w| shortest(w)));
            return Ok((command, words));
        } else {
            return Err(Refusal::UnknownCommand);
        }
    }
    let ends = |(_, p): &&(&Command, Rc<Pattern>)| p.words().len() == typed.len();
    let exact = open.iter().find(|o| ends(o) && !o.1.is_open()).or_else(|| open.iter().find(ends));
    exact.map(|&(command, _)| (command, words)).ok_or(Refusal::IncompleteCommand)
}
