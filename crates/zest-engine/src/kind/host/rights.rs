//! The sessions and the lines that a host tells apart.

use std::collections::BTreeSet;
use std::ops::ControlFlow;

use super::{Context, account_of};
use crate::engine::rights::{Action, Opening, Side};
use crate::engine::rules::Site;
use crate::engine::trace::Trace;
use crate::links::UserId;
use zest_command::alphabet::AlphabetBuilder;
use zest_command::automaton::{Automaton, Explored, explore, is_dead};
use zest_command::{Pattern, Slot, WordPattern, line};
use zest_model::ask::{Act, Central, Form, Running, Session};
use zest_model::entry::IdentitySource;

/// Returns how sessions on a host start: with which account, and as which other account the line then runs.
pub(super) fn openings(site: Site<'_>, user: UserId) -> Vec<Opening> {
    let Some(context) = Context::of(site.engine, site.system) else { return Vec::new() };
    let accounts = &context.links.accounts;
    let mine: Vec<usize> = (0..accounts.len()).filter(|&account| context.may_use(user, account)).collect();
    // Which account is meant where none is stated, if that is plain; and a host that keeps accounts of its own does not ask whether the
    // central source is up.
    let meant = account_of(context, &Session::default(), user, &mut Trace::silent()).ok();
    let keeps_own = site.entry().sources().contains(&IdentitySource::Local);
    let mut list = Vec::new();
    for account in std::iter::once(None).chain(mine.iter().copied().filter(|&account| Some(account) != meant).map(Some)) {
        let from: Vec<usize> = account.or(meant).map_or_else(|| mine.clone(), |account| vec![account]);
        let mut add = |act: Option<Act>| {
            let stated = |login: Option<usize>, central: Central| Session {
                account: login.map(|login| accounts[login].login.clone()),
                acting: act.iter().cloned().collect(),
                central,
                ..Session::default()
            };
            let logins: Vec<Option<usize>> = std::iter::once(account).chain(meant.filter(|_| account.is_none()).map(Some)).collect();
            let centrals: &[Central] = if keeps_own { &[Central::Up, Central::Down] } else { &[Central::Up] };
            let mut ways = logins.iter().flat_map(|&login| centrals.iter().map(move |&central| stated(login, central)));
            // OK because there is always the first of both.
            if let Some(session) = ways.next() {
                list.push(Opening { also: ways.collect(), ..Opening::new(session) });
            }
        };
        add(None);
        for (to, target) in accounts.iter().enumerate() {
            if from.iter().all(|&from| from == to || context.rules(from, to).is_empty()) {
                continue;
            }
            for running in [Running::TheLine, Running::LoginShell] {
                add(Some(Act::Account { host: None, login: target.login.clone(), running }));
            }
        }
    }
    list
}

/// Returns lines by which every rule can be told from the others, and one that no rule is about.
pub(super) fn actions(sides: &[Side<'_>]) -> Vec<Action> {
    let mut lines: Vec<(String, String)> = Vec::new();
    let mut add = |name: String, line: String| {
        if !lines.iter().any(|(_, known)| *known == line) {
            lines.push((name, line));
        }
    };
    for side in sides {
        let Some(context) = Context::of(side.site.engine, side.site.system) else { continue };
        let sets: BTreeSet<_> = context.links.sets().collect();
        let patterns: Vec<(&str, &Pattern)> = sets
            .iter()
            .flat_map(|set| &side.site.engine.estate.sets[set.index()].rules)
            .map(|rule| (rule.text.value.as_str(), &*rule.pattern))
            .collect();
        for (text, pattern) in &patterns {
            for line in examples(pattern, &patterns) {
                add((*text).to_owned(), line);
            }
        }
        for job in &context.links.jobs {
            let line = format!("edit-job on job/{}", job.name);
            add(line.clone(), line);
        }
    }
    add("any other line".to_owned(), "/usr/local/bin/something-else".to_owned());
    lines.into_iter().map(|(name, line)| Action { line, form: Form::Line, name, under: String::new(), like: None }).collect()
}

/// Returns a line for every way in which the rules of a host can take lines that a pattern takes, written as these rules are.
pub(super) fn like(sides: &[Side<'_>], pattern: &str) -> Result<Vec<Action>, String> {
    let all = if pattern == "*" { "..." } else { pattern };
    let sought = Pattern::parse(all).map_err(|error| error.to_string())?;
    let mut list: Vec<Action> = Vec::new();
    let too_much = || "there are too many lines to look at".to_owned();
    for side in sides {
        let Some(context) = Context::of(side.site.engine, side.site.system) else { continue };
        let sets: BTreeSet<_> = context.links.sets().collect();
        let mut rules: Vec<Vec<&Pattern>> = Vec::new();
        for set in sets {
            let patterns = side.site.engine.estate.sets[set.index()].rules.iter().map(|rule| &*rule.pattern).collect();
            if !rules.contains(&patterns) {
                rules.push(patterns);
            }
        }
        // A program is known by its full path.
        let program = Pattern::parse("/* ...").map_err(|error| error.to_string())?;
        let mut alphabet = AlphabetBuilder::default();
        rules.iter().flatten().copied().chain([&sought, &program]).for_each(|pattern| alphabet.add(pattern));
        let alphabet = alphabet.build().map_err(|_| too_much())?;
        let build = |patterns: &[&Pattern]| Automaton::build(&alphabet, patterns).map_err(|_| too_much());
        let (wanted, programs) = (build(&[&sought])?, build(&[&program])?);
        let sets: Vec<Automaton> = rules.iter().map(|rules| build(rules)).collect::<Result<_, _>>()?;
        let automata: Vec<&Automaton> = [&wanted, &programs].into_iter().chain(&sets).collect();
        let mut seen: BTreeSet<Vec<Option<u32>>> = BTreeSet::new();
        let explored = explore(
            &alphabet,
            &automata,
            |states| !is_dead(states[0]) && !is_dead(states[1]),
            |states, symbols| {
                let accepted: Vec<Option<u32>> = automata.iter().zip(states).map(|(automaton, state)| automaton.accepted(*state)).collect();
                if accepted[..2].iter().all(Option::is_some) && seen.insert(accepted) {
                    let line = line::join(symbols.map(|symbol| alphabet.example(symbol)));
                    let action = Action::alone(&line, Form::Line);
                    if !list.contains(&action) {
                        list.push(action);
                    }
                }
                ControlFlow::Continue(())
            },
        );
        if explored == Explored::GaveUp {
            return Err(too_much());
        }
    }
    // What is no program is asked one by one.
    let others = actions(sides).into_iter().filter(|action| !action.line.starts_with('/') && action.reads_like(pattern));
    list.extend(others.collect::<Vec<_>>());
    Ok(list)
}

/// Returns lines that a pattern matches: with what other patterns write out in the place of a placeholder, and with something else.
fn examples(pattern: &Pattern, all: &[(&str, &Pattern)]) -> Vec<String> {
    let mut lines: Vec<Vec<String>> = vec![Vec::new()];
    for (at, word) in pattern.words().iter().enumerate() {
        // What other patterns write out there, what they have in common with this one, and something else.
        let others = all.iter().filter_map(|(_, other)| other.words().get(at));
        let mut words: Vec<String> = match word {
            WordPattern::Fixed(words) => words.clone(),
            WordPattern::Slot(slot) => {
                others.flat_map(|other| common(slot, other)).chain(of_slot(slot)).filter(|w| slot.matches(w)).collect()
            }
        };
        words.sort();
        words.dedup();
        lines = lines.iter().flat_map(|line| words.iter().map(move |word| line.iter().cloned().chain([word.clone()]).collect())).collect();
        lines.truncate(MAX_EXAMPLES);
    }
    if pattern.is_open() {
        let longer: Vec<Vec<String>> =
            lines.iter().map(|line| line.iter().cloned().chain(["something-else".to_owned()]).collect()).collect();
        lines.extend(longer);
    }
    lines.retain(|line| !line.is_empty());
    lines.iter().map(|words| line::join(words.iter().map(String::as_str))).collect()
}

/// How many lines stand for one rule at most.
const MAX_EXAMPLES: usize = 64;

/// Returns words that a slot may take as well as another pattern, and words beside them.
fn common(slot: &Slot, other: &WordPattern) -> Vec<String> {
    match (slot, other) {
        (_, WordPattern::Fixed(words)) => words.clone(),
        (Slot::Affix(start, end), WordPattern::Slot(Slot::Affix(its_start, its_end))) => {
            let start = if start.len() > its_start.len() { start } else { its_start };
            let end = if end.len() > its_end.len() { end } else { its_end };
            vec![format!("{start}x{end}")]
        }
        (_, WordPattern::Slot(Slot::Range(low, high))) => {
            [low.saturating_sub(1), *low, *high, high.saturating_add(1)].iter().map(ToString::to_string).collect()
        }
        (_, WordPattern::Slot(other)) => of_slot(other),
    }
}

/// Returns words that a slot takes.
pub(super) fn of_slot(slot: &Slot) -> Vec<String> {
    match slot {
        Slot::Word => vec!["something-else".to_owned()],
        Slot::Number => vec!["7".to_owned()],
        Slot::Range(low, high) => vec![low.to_string(), high.to_string()],
        Slot::Address => vec!["192.0.2.77".to_owned()],
        Slot::Network => vec!["192.0.2.0/24".to_owned()],
        Slot::Affix(start, end) => vec![format!("{start}x{end}")],
    }
}
