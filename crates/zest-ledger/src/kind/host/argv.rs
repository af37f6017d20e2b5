//! Argument vectors on a host: how a line is read, what a pattern matches there, and how a host is told so.
//!
//! Arguments are matched one by one. A slot takes one argument without white space and never a path with `..` in it; a
//! `*` stays within one name of a path. A host's own rules see the arguments joined with blanks; what that could mix up
//! is found out by [`joined`].

use crate::command::{Pattern, Slot, WordPattern};

/// What `sudo` reads as the beginning of something else than a rule (sudoers(5), "Aliases" and "Defaults").
const RESERVED: [&str; 6] = ["Defaults", "User_Alias", "Runas_Alias", "Host_Alias", "Cmnd_Alias", "Cmd_Alias"];

/// Returns whether a text can be a login without any quoting.
pub(crate) fn is_login(text: &str) -> bool {
    text.len() <= 32
        && text.starts_with(|c: char| c.is_ascii_alphabetic() || c == '_')
        && text.chars().all(|c| c.is_ascii_alphanumeric() || matches!(c, '.' | '_' | '-'))
}

/// Returns whether `sudo` would read a login as something else: as everybody, an alias, or the beginning of a setting.
pub(crate) fn is_reserved(login: &str) -> bool {
    let of_alias = |c: char| c.is_ascii_uppercase() || c.is_ascii_digit() || c == '_';
    login.starts_with(|c: char| c.is_ascii_uppercase()) && login.chars().all(of_alias) || RESERVED.contains(&login)
}

/// Returns whether a text can be the name of a variable (POSIX.1-2017, Base Definitions, 8.1).
pub(crate) fn is_variable(text: &str) -> bool {
    text.starts_with(|c: char| c.is_ascii_alphabetic() || c == '_') && text.chars().all(|c| c.is_ascii_alphanumeric() || c == '_')
}

/// A line as a host takes it: variables that are handed over, and the arguments.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub(crate) struct Argv<'l> {
    pub(crate) variables: Vec<&'l str>,
    pub(crate) words: Vec<String>,
}

/// Takes the variables off the front of a line, and writes the program's path without `.` and `..` and through links.
pub(crate) fn read<'l>(words: &[&'l str], links: &[(String, String)]) -> Argv<'l> {
    let is_variable = |w: &&&str| {
        w.split_once('=').is_some_and(|(name, _)| {
            name.starts_with(|c: char| c.is_ascii_alphabetic() || c == '_') && name.chars().all(|c| c.is_ascii_alphanumeric() || c == '_')
        })
    };
    let count = words.iter().take_while(is_variable).count();
    let variables = words[..count].iter().filter_map(|w| w.split('=').next()).collect();
    let mut words: Vec<String> = words[count..].iter().map(|w| (*w).to_owned()).collect();
    if let Some(program) = words.first_mut() {
        *program = plain_path(program, links);
    }
    Argv { variables, words }
}

/// Writes a path without empty parts, `.` and `..`, and with linked directories replaced.
fn plain_path(path: &str, links: &[(String, String)]) -> String {
    if !path.starts_with('/') {
        return path.to_owned();
    }
    let mut parts: Vec<&str> = Vec::new();
    for part in path.split('/') {
        match part {
            "" | "." => {}
            ".." => {
                parts.pop();
            }
            name => parts.push(name),
        }
    }
    let plain = format!("/{}", parts.join("/"));
    let led =
        links.iter().find_map(|(from, to)| plain.strip_prefix(from.as_str()).filter(|r| r.starts_with('/')).map(|r| format!("{to}{r}")));
    led.unwrap_or(plain)
}

/// Returns whether a path has a part `..`.
fn climbs(word: &str) -> bool {
    word.split('/').any(|part| part == "..")
}

/// Returns whether a slot takes an argument on a host.
fn takes(slot: &Slot, word: &str) -> bool {
    if word.is_empty() || word.contains(char::is_whitespace) || climbs(word) {
        return false;
    }
    match slot {
        Slot::Affix(start, end) => {
            let inner = word.strip_prefix(start.as_str()).and_then(|w| w.strip_suffix(end.as_str()));
            inner.is_some_and(|inner| !inner.contains('/'))
        }
        slot => slot.matches(word),
    }
}

/// Returns whether a pattern matches arguments, one by one.
pub(crate) fn matches(pattern: &Pattern, words: &[String]) -> bool {
    let wanted = pattern.words();
    let is_long_enough = if pattern.is_open() { words.len() >= wanted.len() } else { words.len() == wanted.len() };
    is_long_enough
        && wanted.iter().zip(words).all(|(want, word)| match want {
            WordPattern::Fixed(list) => list.iter().any(|w| w == word),
            WordPattern::Slot(slot) => takes(slot, word),
        })
}

/// Returns the arguments as a host's own rules see them: joined with blanks, and so cut at every blank.
pub(crate) fn joined(words: &[String]) -> Vec<String> {
    let Some((program, rest)) = words.split_first() else { return Vec::new() };
    let text = rest.join(" ");
    std::iter::once(program.clone()).chain((!rest.is_empty()).then(|| text.split(' ').map(str::to_owned)).into_iter().flatten()).collect()
}

/// Returns a pattern as the rules of `sudo` write it: one for each program that is written out.
///
/// # Errors
/// Why it cannot be told.
pub(crate) fn told(pattern: &Pattern) -> Result<Vec<String>, &'static str> {
    let Some((program, rest)) = pattern.words().split_first() else {
        return if pattern.is_open() { Ok(vec!["ALL".to_owned()]) } else { Err("it is empty") };
    };
    let WordPattern::Fixed(programs) = program else { return Err("its first word is not the path of a program") };
    let is_path = |p: &String| {
        p.starts_with('/')
            && p.chars().all(|c| c.is_ascii_alphanumeric() || matches!(c, '/' | '.' | '_' | '-' | '+'))
            && plain_path(p, &[]) == *p
    };
    if !programs.iter().all(is_path) {
        return Err("its first word is not the full path of a program, in plain characters");
    }
    let mut arguments = String::new();
    for (i, word) in rest.iter().enumerate() {
        if i > 0 {
            arguments.push(' ');
        }
        match word {
            WordPattern::Fixed(words)
                if words.iter().any(|w| w.is_empty() || w.contains(char::is_whitespace) || w.chars().any(char::is_control)) =>
            {
                return Err("an argument with white space in it cannot be told from two");
            }
            WordPattern::Fixed(words) => {
                let list: Vec<String> = words.iter().map(|w| literal(w)).collect();
                arguments.push_str(&if list.len() == 1 { list[0].clone() } else { format!("({})", list.join("|")) });
            }
            WordPattern::Slot(slot) => arguments.push_str(&expression(slot)?),
        }
    }
    let arguments = match (rest.is_empty(), pattern.is_open()) {
        (true, true) => String::new(),
        (true, false) => " \"\"".to_owned(),
        (false, true) => format!(" ^{arguments}( .*)?$"),
        (false, false) => format!(" ^{arguments}$"),
    };
    if arguments.len() > 1000 {
        return Err("it would be longer than a host takes");
    }
    Ok(programs.iter().map(|p| format!("{p}{arguments}")).collect())
}

/// Any part of a path but `..`, also an empty one.
const PART: &str = r"([^./[:space:]][^/[:space:]]*|\.([^./[:space:]][^/[:space:]]*)?|\.\.[^/[:space:]]+)?";

/// A slot as an extended regular expression (POSIX).
fn expression(slot: &Slot) -> Result<String, &'static str> {
    Ok(match slot {
        Slot::Word => {
            // One part must not be empty, or nothing at all would be an argument.
            let some = &PART[..PART.len() - 1];
            format!("({some}(/{PART})*|/{PART}(/{PART})*)")
        }
        Slot::Number => "(0|[1-9][0-9]{0,17})".to_owned(),
        Slot::Range(low, high) if high - low < 64 => {
            format!("({})", (*low..=*high).map(|n| n.to_string()).collect::<Vec<_>>().join("|"))
        }
        Slot::Range(..) => return Err("the range has more than 64 numbers"),
        Slot::Address | Slot::Network => return Err("addresses and networks are not known to a host's rules"),
        Slot::Affix(start, end) => {
            let (before, after) = (start.rsplit('/').next().unwrap_or_default(), end.split('/').next().unwrap_or_default());
            if climbs(start) || climbs(end) {
                return Err("a path with `..` is never matched by `*`");
            }
            if before.is_empty() && after.is_empty() {
                let part = if start.is_empty() && end.is_empty() { &PART[..PART.len() - 1] } else { PART };
                format!("{}{part}{}", literal(start), literal(end))
            } else if before.chars().chain(after.chars()).all(|c| c == '.') {
                return Err("`*` beside dots alone could be `..`");
            } else {
                format!("{}[^/[:space:]]*{}", literal(start), literal(end))
            }
        }
    })
}

/// A text that stands for itself in an expression, and in the rules of `sudo` around it.
fn literal(text: &str) -> String {
    let mut out = String::with_capacity(text.len());
    for c in text.chars() {
        match c {
            '.' | '[' | ']' | '(' | ')' | '{' | '}' | '*' | '+' | '?' | '|' | '^' | '$' => {
                out.push('\\');
                out.push(c);
            }
            ',' | ':' | '=' | '#' | '!' | '"' => {
                out.push('\\');
                out.push(c);
            }
            '\\' => out.push_str(r"\\\\"),
            c => out.push(c),
        }
    }
    out
}
