//! The line of `zest ask` and `zest who`: everything from its first word on, as the shell handed it over.
//!
//! A word of it that is spelled like an option of ours could be meant either way, so the question is refused and both
//! readings are shown, unless `--` stands before the line.

use std::fmt::Write as _;

use clap::{Args, Command};

use zest_ledger::ask::{Form, covered};

use crate::exit::Exit;
use crate::out::complain;
use crate::render::answer;

/// Returns the line of its words. What the shell handed over as one argument stays one.
pub(super) fn of_words(words: &[String]) -> String {
    match words {
        [one] => one.clone(),
        several => {
            let is_plain = |w: &&String| !w.is_empty() && !w.contains([' ', '\t']);
            several.iter().map(|w| if is_plain(&w) { w.clone() } else { format!("\"{w}\"") }).collect::<Vec<_>>().join(" ")
        }
    }
}

/// Refuses a line that could also be read otherwise, as an option of the command `C` that it was given to, and says how.
pub(super) fn refused<C: Args>(line: &[String]) -> Option<Exit> {
    let given: Vec<String> = std::env::args_os().skip(1).map(|w| w.to_string_lossy().into_owned()).collect();
    let command = C::augment_args(Command::new("zest"));
    let readings = other_reading(&command, &given, line)?;
    complain!("zest: {readings}");
    Some(Exit::Unknown)
}

/// Says how a line could also be read, if a word of it is spelled like an option of ours and no `--` stands before it.
fn other_reading(command: &Command, given: &[String], line: &[String]) -> Option<String> {
    let before = given.strip_suffix(line)?;
    if before.last().is_some_and(|word| word == "--") {
        return None;
    }
    let (mut options, mut rest): (Vec<&str>, Vec<&str>) = (Vec::new(), Vec::new());
    let mut words = line.iter().map(String::as_str);
    while let Some(word) = words.next() {
        match option(command, word) {
            None => rest.push(word),
            Some(value) => {
                options.push(word);
                options.extend(words.next().filter(|_| value == Value::Next));
            }
        }
    }
    let first = options.first()?;
    let hidden = |text: &str| covered(&covered(text, Form::Line), Form::Statement);
    // A word of ours such as `--proof password` is not followed by a credential: each is looked at by itself.
    let own = before.iter().map(|word| hidden(&quoted(word))).collect::<Vec<_>>().join(" ");
    let written = |parts: &[&[&str]]| hidden(&parts.iter().flat_map(|p| p.iter()).map(|w| quoted(w)).collect::<Vec<_>>().join(" "));
    let line: Vec<&str> = line.iter().map(String::as_str).collect();
    let mut out =
        format!("the line holds `{}`, which is also an option of ours; say which is meant\n", hidden(&zest_ledger::source::visible(first)));
    let _ = writeln!(out, "  a word of the line:  zest {own} -- {}", written(&[&line]));
    let _ = writeln!(out, "  an option of ours:   zest {own} {}", written(&[&options, &rest]));
    out.push_str("options of ours stand before the line");
    Some(out)
}

/// Where the value of an option stands.
#[derive(PartialEq, Eq)]
enum Value {
    /// In the next word.
    Next,
    /// In the same word, or there is none.
    Here,
}

/// Returns where the value stands, if a word is spelled like an option of ours.
fn option(command: &Command, word: &str) -> Option<Value> {
    if matches!(word, "--" | "--help" | "--version") {
        return Some(Value::Here);
    }
    let takes = |arg: &clap::Arg| if arg.get_action().takes_values() { Value::Next } else { Value::Here };
    if let Some(long) = word.strip_prefix("--") {
        let (name, value) = long.split_once('=').map_or((long, None), |(name, value)| (name, Some(value)));
        let arg = command.get_arguments().find(|a| a.get_long() == Some(name))?;
        return Some(if value.is_some() { Value::Here } else { takes(arg) });
    }
    let short = word.strip_prefix('-')?.chars().next()?;
    if short == 'h' || short == 'V' {
        return Some(Value::Here);
    }
    let arg = command.get_arguments().find(|a| a.get_short() == Some(short))?;
    Some(if word.len() > 1 + short.len_utf8() { Value::Here } else { takes(arg) })
}

/// Writes a word as a shell reads it back, without what nobody sees.
fn quoted(word: &str) -> String {
    answer::quoted(&zest_ledger::source::visible(word))
}
