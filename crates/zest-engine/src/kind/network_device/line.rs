//! Permission and obligations: what the device and the command sets say about one line.

use super::Standpoint;
use crate::engine::obligations;
use crate::engine::trace::{Stop, Trace, Understood};
use crate::engine::{Engine, SetVerdict};
use crate::links::{CommandId, ModeId};
use crate::vocabulary::{Resolved, Unresolved, Vocabulary};
use zest_command::pattern::canonical_word;
use zest_command::{WordPattern, line, read_line};
use zest_model::ask::{Central, Question, Refusal, RuleRef, Stage};
use zest_model::entry::{Abbreviation, BareElevation, Does, RuleVerb};
use zest_model::source::visible;

pub(crate) fn check(engine: &Engine, question: &Question, at: &Standpoint<'_>, trace: &mut Trace) -> Result<(), Stop> {
    let words = match read_line(&question.line) {
        Ok(words) => words,
        Err(error) => {
            trace.refuse(Stage::Permission, Refusal::LineUnreadable, || (format!("the line cannot be read: {error}"), None))?;
            return Err(Stop);
        }
    };
    let vocabulary = at.device.vocabulary(engine);
    let mode = question.session.mode.as_deref().and_then(|m| vocabulary.mode(m)).unwrap_or(vocabulary.start_mode);
    let resolved = match vocabulary.resolve(mode, &words, &engine.alphabet) {
        Ok(resolved) => resolved,
        Err(why) => {
            unresolved(engine, vocabulary, mode, &words, why, at, trace)?;
            return Err(Stop);
        }
    };
    let full_line = || vocabulary.full_line(mode, &words, &engine.alphabet).unwrap_or_default();
    trace.understood(|| Understood::FullLine(full_line()));
    let command = vocabulary.command(resolved.command);
    must_change(engine, at, command.does, trace)?;
    own_level(engine, at, &resolved, trace)?;
    let rule = command_sets(engine, question, at, mode, (&resolved, &full_line), trace)?;
    shortened(engine, at, mode, (&resolved, &words), trace)?;
    if command.does == Some(Does::Elevate) {
        ceiling(at, vocabulary, resolved.command, &words, trace)?;
    }
    let Some(rule) = rule else { return Ok(()) };
    // Every set that permits the line by a rule may want something done first; none is left out.
    let is_only = at.standing.sets.len() == 1;
    for set in &at.standing.sets {
        let compiled = &engine.sets[set.index()];
        let decided = if is_only { Some(rule.index) } else { compiled.automaton.decide(&resolved.symbols) };
        let asking = decided.filter(|r| compiled.rules[*r as usize].asks);
        if let Some(duties) = asking.and_then(|r| engine.estate.sets[set.index()].rules[r as usize].after.as_deref()) {
            obligations::check(at.site(engine), at.user, question, duties, trace)?;
        }
    }
    Ok(())
}

fn unresolved(
    engine: &Engine,
    vocabulary: &Vocabulary,
    mode: ModeId,
    words: &[&str],
    why: Unresolved,
    at: &Standpoint<'_>,
    trace: &mut Trace,
) -> Result<(), Stop> {
    let device = engine.estate.system(at.system);
    let place = device.vocabulary.as_ref().map(|v| v.place);
    let name = || device.vocabulary.as_ref().map_or(String::new(), |v| visible(&v.value));
    match why {
        Unresolved::Incomplete => trace.refuse(Stage::Permission, Refusal::IncompleteCommand, || {
            (format!("`{}` needs more words in the vocabulary `{}`", visible(&line::join(words.iter().copied())), name()), place)
        }),
        Unresolved::Ambiguous { word, keywords } => trace.refuse(Stage::Permission, Refusal::AmbiguousAbbreviation, || {
            (format!("`{}` could be {}", visible(words[word]), alternatives(&keywords)), place)
        }),
        Unresolved::Unknown { word } => {
            let mut others = (0..vocabulary.modes.len()).map(ModeId::new).filter(|&m| m != mode);
            if let Some(other) = others.find(|&m| vocabulary.resolve(m, words, &engine.alphabet).is_ok()) {
                return trace.refuse(Stage::Permission, Refusal::OtherMode, || {
                    let (here, there) = (&vocabulary.modes[mode.index()], &vocabulary.modes[other.index()]);
                    (format!("the command belongs to mode `{}`, and the session is in `{}`", visible(there), visible(here)), place)
                });
            }
            trace.refuse(Stage::Permission, Refusal::UnknownCommand, || {
                let near = vocabulary
                    .nearest_keyword(mode, words, word)
                    .map_or(String::new(), |k| format!("; the nearest word is `{}`", visible(&k)));
                (format!("the vocabulary `{}` has no command with `{}` here{near}", name(), visible(words[word])), place)
            })
        }
    }
}

fn alternatives(keywords: &[String]) -> String {
    let shown: Vec<String> = keywords.iter().take(6).map(|k| format!("`{}`", visible(k))).collect();
    let more = if keywords.len() > 6 { format!(" or {} more", keywords.len() - 6) } else { String::new() };
    shown.join(" or ") + &more
}

/// A credential that must be changed leaves exactly one thing to do.
fn must_change(engine: &Engine, at: &Standpoint<'_>, does: Option<Does>, trace: &mut Trace) -> Result<(), Stop> {
    if engine.membership.is_plain(at.user) {
        return Ok(());
    }
    let user = engine.estate.user(at.user);
    match &user.must_change_credential {
        Some(must) if must.value && !at.standing.is_local && does != Some(Does::ChangeCredential) => {
            trace.refuse(Stage::Standing, Refusal::CredentialMustChange, || {
                (format!("`{}` must change the credential before anything else", visible(&user.id.value)), Some(must.place))
            })
        }
        _ => Ok(()),
    }
}

fn own_level(engine: &Engine, at: &Standpoint<'_>, resolved: &Resolved, trace: &mut Trace) -> Result<(), Stop> {
    let (needed, stated) = at.device.own_level(resolved.command);
    let links = || &engine.estate.vocabularies[at.device.links.vocabulary.index()].commands[resolved.command.index()];
    let place = || Some(stated.unwrap_or_else(|| links().place));
    let whose = if stated.is_some() { "this device" } else { "the vocabulary" };
    if needed > at.level {
        trace.refuse(Stage::Permission, Refusal::LevelTooLow, || {
            (format!("{whose} puts `{}` at level {needed}, and the session is at level {}", visible(&links().line), at.level), place())
        })
    } else {
        trace.pass(Stage::Permission, || {
            (format!("{whose} puts `{}` at level {needed}; the session is at level {}", visible(&links().line), at.level), place())
        });
        Ok(())
    }
}

/// Asks the command sets where the device asks them. Returns the rule that permits the line.
fn command_sets(
    engine: &Engine,
    question: &Question,
    at: &Standpoint<'_>,
    mode: ModeId,
    (resolved, full_line): (&Resolved, &dyn Fn() -> String),
    trace: &mut Trace,
) -> Result<Option<RuleRef>, Stop> {
    let device = at.device;
    let written = || engine.estate.system(at.system);
    let switch = || Some(written().authorisation.as_ref().map_or(written().id.place, |a| a.place));
    let here = || if device.is_configuration(mode) { "in configuration modes".to_owned() } else { format!("at level {}", at.level) };
    // The command sets of a local account are the device's own: it asks them whatever it asks the central source.
    let has_own_sets = at.standing.is_local && !at.standing.sets.is_empty();
    if !device.authorises(at.level, mode) && !has_own_sets {
        trace.pass(Stage::Permission, || (format!("the device does not ask for central authorisation {}", here()), switch()));
        return Ok(None);
    }
    if at.standing.is_local {
        if question.session.central == Central::Down && device.nothing_when_down && device.authorises(at.level, mode) {
            trace.refuse(Stage::Permission, Refusal::CommandsNeedCentral, || {
                let place = written().when_central_down.as_ref().map(|w| w.place);
                (format!("commands {} are authorised centrally, and while the central source is down none is permitted", here()), place)
            })?;
            return Ok(None);
        }
        if !has_own_sets {
            trace.pass(Stage::Permission, || ("a local account's commands are decided by their own levels".to_owned(), switch()));
            return Ok(None);
        }
    }
    let says = engine.sets_say(&at.standing.sets, device.without_set, &resolved.symbols);
    trace.note_rule(says.rule());
    let set_name = |set| visible(&engine.estate.set(set).id.value);
    let full = || visible(&full_line());
    let all_sets = || at.standing.sets.iter().map(|&s| format!("`{}`", set_name(s))).collect::<Vec<_>>().join(", ");
    // The text of a rule, and where it is written.
    let written_rule = |rule: RuleRef| {
        let rule = &engine.estate.sets[rule.set.index()].rules[rule.index as usize];
        (format!("`{} {}` of command set `{}`", rule.verb.word(), visible(&rule.text.value), set_name(rule.home)), Some(rule.text.place))
    };
    let no_set = || written().no_command_set.as_ref().map(|n| n.place);
    match says {
        SetVerdict::Allowed(rule) => trace.pass(Stage::Permission, || {
            let (text, place) = written_rule(rule);
            (format!("rule {text}"), place)
        }),
        SetVerdict::AllowedOtherwise(set) => trace.pass(Stage::Permission, || {
            let set = engine.estate.set(set);
            (
                format!("command set `{}` permits every line that no rule mentions", visible(&set.id.value)),
                set.otherwise.as_ref().map(|o| o.place),
            )
        }),
        SetVerdict::Unrestricted => {
            trace.pass(Stage::Permission, || ("no command set is attached, and here that permits everything".to_owned(), no_set()))
        }
        SetVerdict::Denied(rule) => trace.refuse(Stage::Permission, Refusal::DeniedByRule, || {
            let (text, place) = written_rule(rule);
            (format!("rule {text} refuses `{}`", full()), place)
        })?,
        SetVerdict::NoSet => {
            trace.refuse(Stage::Permission, Refusal::NoCommandSet, || {
                ("no command set is attached, and here that permits nothing".to_owned(), no_set())
            })?;
        }
        SetVerdict::DeniedOtherwise => trace.refuse(Stage::Permission, Refusal::NotPermitted, || {
            let place = at.standing.sets.first().map(|&s| {
                let set = engine.estate.set(s);
                set.otherwise.as_ref().map_or(set.id.place, |o| o.place)
            });
            (format!("no rule of {} permits `{}`", all_sets(), full()), place)
        })?,
    }
    Ok(says.rule().filter(|_| says.is_allowed()))
}

/// Where a command takes whatever follows, the vocabulary does not know the words that do, and the device may take a word as
/// short for another. So a deny bites for every prefix that could be meant.
fn shortened(
    engine: &Engine,
    at: &Standpoint<'_>,
    mode: ModeId,
    (resolved, words): (&Resolved, &[&str]),
    trace: &mut Trace,
) -> Result<(), Stop> {
    let device = at.device;
    let is_asked = at.standing.is_local && !at.standing.sets.is_empty() || device.authorises(at.level, mode);
    let is_open = resolved.open_from < words.len() && at.device.vocabulary(engine).abbreviation != Abbreviation::None;
    if !is_open || !is_asked || trace.is_refused() {
        return Ok(());
    }
    let full: Vec<String> = words.iter().map(|w| canonical_word(w).into_owned()).collect();
    let before = |i: usize| resolved.symbols.get(i).map(|s| engine.alphabet.example(*s));
    let fits = |i: usize, wanted: &WordPattern| {
        let (typed, is_free) = (full[i].as_str(), i >= resolved.open_from);
        match wanted {
            WordPattern::Fixed(list) if is_free => list.iter().any(|word| word.starts_with(typed)),
            WordPattern::Fixed(list) => list.iter().any(|word| Some(word.as_str()) == before(i)),
            // What a slot takes, it might also take of a longer word.
            WordPattern::Slot(slot) => is_free || slot.matches(typed),
        }
    };
    for &set in &at.standing.sets {
        for rule in engine.estate.sets[set.index()].rules.iter().filter(|r| r.verb == RuleVerb::Deny) {
            let (wanted, is_longer) = (rule.pattern.words(), full.len() > rule.pattern.words().len());
            let is_long_enough = full.len() >= wanted.len() && (rule.pattern.is_open() || !is_longer);
            let is_written = |i: usize| matches!(&wanted[i], WordPattern::Fixed(list) if !list.contains(&full[i]));
            let shortens = (resolved.open_from..wanted.len().min(full.len())).any(is_written);
            if is_long_enough && shortens && wanted.iter().enumerate().all(|(i, w)| fits(i, w)) {
                return trace.refuse(Stage::Permission, Refusal::AmbiguousAbbreviation, || {
                    let (line, text) = (visible(&line::join(words.iter().copied())), visible(&rule.text.value));
                    (format!("`{line}` may be short for what `deny {text}` refuses: write its words in full"), Some(rule.text.place))
                });
            }
        }
    }
    Ok(())
}

/// The ceiling holds even where commands are not authorised centrally.
fn ceiling(at: &Standpoint<'_>, vocabulary: &Vocabulary, command: CommandId, words: &[&str], trace: &mut Trace) -> Result<(), Stop> {
    let (level, how) = match vocabulary.elevation(command, words, at.band.ceiling) {
        Some(level) if vocabulary.command(command).level_word.is_some() => (level, ""),
        Some(level) if vocabulary.bare == BareElevation::Ceiling => (level, " (a bare request means the ceiling)"),
        Some(level) => (level, " (a bare request means level 15)"),
        None => {
            return trace.refuse(Stage::Permission, Refusal::BareElevation, || {
                ("this make of device refuses an elevation without a number".to_owned(), vocabulary.bare_place)
            });
        }
    };
    if level > at.band.ceiling {
        trace.refuse(Stage::Permission, Refusal::AboveCeiling, || {
            (format!("level {level}{how} is above the band's ceiling {}", at.band.ceiling), Some(at.band.ceiling_place))
        })
    } else {
        trace.pass(Stage::Permission, || {
            (format!("level {level}{how} is within the band's ceiling {}", at.band.ceiling), Some(at.band.ceiling_place))
        });
        Ok(())
    }
}
