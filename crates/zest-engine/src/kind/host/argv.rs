//! Argument vectors on a host: how a line is read, what a pattern matches there, and how a host is told so.
//!
//! Arguments are matched one by one. A slot takes one argument without white space and never a path with `..` in it; a
//! `*` stays within one name of a path. A host's own rules see the arguments joined with blanks; what that could mix up
//! is found out by [`joined`].

use smallvec::SmallVec;
use zest_command::tree::{Words, name};
use zest_command::{Pattern, Slot, WordPattern};

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
    pub(crate) variables: SmallVec<[&'l str; 2]>,
    pub(crate) words: SmallVec<[&'l str; 8]>,
}

/// Takes the variables off the front of a line.
pub(crate) fn read<'l>(words: &[&'l str]) -> Argv<'l> {
    let is_variable = |w: &&&str| {
        w.split_once('=').is_some_and(|(name, _)| {
            name.starts_with(|c: char| c.is_ascii_alphabetic() || c == '_') && name.chars().all(|c| c.is_ascii_alphanumeric() || c == '_')
        })
    };
    let count = words.iter().take_while(is_variable).count();
    let variables = words[..count].iter().filter_map(|w| w.split('=').next()).collect();
    Argv { variables, words: words[count..].iter().copied().collect() }
}

/// How many links are followed on the way to one file (`path_resolution(7)`).
const MAX_LINKS: usize = 40;

/// Resolves a path as the kernel does, part by part: a link is followed where it stands, and `..` leaves the directory that was
/// come to. A slash at the end stays: it names a directory, and no program. None where links lead in a circle.
fn resolved(path: &str, links: &[(String, String)]) -> Option<String> {
    if !path.starts_with('/') {
        return Some(path.to_owned());
    }
    let mut left: Vec<&str> = path.split('/').rev().collect();
    let mut parts: Vec<&str> = Vec::new();
    let mut followed = 0;
    while let Some(part) = left.pop() {
        match part {
            "" | "." => {}
            ".." => {
                parts.pop();
            }
            name => {
                parts.push(name);
                let is_here = |from: &str| from.split('/').filter(|p| !p.is_empty()).eq(parts.iter().copied());
                if let Some((_, to)) = links.iter().find(|(from, _)| is_here(from)) {
                    followed += 1;
                    if followed > MAX_LINKS {
                        return None;
                    }
                    if to.starts_with("/") {
                        parts.clear();
                    } else {
                        parts.pop();
                    }
                    left.extend(to.split('/').rev());
                }
            }
        }
    }
    let end = if path.len() > 1 && path.ends_with('/') { "/" } else { "" };
    Some(format!("/{}{end}", parts.join("/")))
}

/// Programs by which a session goes on as another account.
const OTHER_ACCOUNT: [&str; 10] = ["sudo", "sudoedit", "su", "doas", "runuser", "pkexec", "setpriv", "newgrp", "sg", "login"];

/// Returns a program by which a line goes on as another account, wherever it stands in the line: behind `env` or `;`, in
/// what a shell is told, or as the program itself. A shell is not read here, so a mention is enough.
pub(crate) fn becomes_another(argv: &Argv<'_>) -> Option<&'static str> {
    let parts = argv.words.iter().flat_map(|w| w.split(|c: char| c.is_whitespace() || ";|&()`$<>{}'\"\\=".contains(c)));
    let names = parts.filter_map(|part| part.rsplit('/').next());
    names.filter_map(|name| OTHER_ACCOUNT.iter().find(|known| **known == name)).next().copied()
}

/// Returns whether a path has a part `..`.
fn climbs(word: &str) -> bool {
    word.split('/').any(|part| part == "..")
}

/// Returns whether a character is white space in the C locale, which is the one that `sudo` matches in: no other is.
const fn is_blank(c: char) -> bool {
    matches!(c, ' ' | '\t'..='\r')
}

/// Returns whether a slot takes an argument on a host.
fn takes(slot: &Slot, word: &str) -> bool {
    if word.is_empty() || word.contains(is_blank) || climbs(word) {
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

/// How a host compares the words of a line with patterns, one by one. The program is the same file under the same name, by whatever
/// directories and links it is come to.
pub(crate) struct Arguments<'l> {
    /// Directories that lead to others.
    pub(crate) links: &'l [(String, String)],
}

impl Words for Arguments<'_> {
    fn is_same(&self, written: &str, word: &str) -> bool {
        let leads = |path: &str| resolved(path, self.links);
        written == word || name(written) == name(word) && leads(written).is_some_and(|path| leads(word) == Some(path))
    }

    fn takes(&self, slot: &Slot, word: &str) -> bool {
        takes(slot, word)
    }
}

/// Returns the arguments as a host's own rules see them, where that is something else: joined with blanks, and so cut at every blank.
pub(crate) fn joined<'l>(words: &[&'l str]) -> Option<SmallVec<[&'l str; 8]>> {
    let (program, rest) = words.split_first()?;
    let is_other = rest.iter().any(|word| word.contains(' '));
    is_other.then(|| std::iter::once(*program).chain(rest.iter().flat_map(|word| word.split(' '))).collect())
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
    if programs.iter().any(|p| name(p) == "sudoedit") {
        return Err("`sudoedit` is no program with a path for `sudo`, and cannot be told apart from the files it edits");
    }
    let is_path = |p: &String| {
        p.starts_with('/')
            && p.len() > 1
            && p.chars().all(|c| c.is_ascii_alphanumeric() || matches!(c, '/' | '.' | '_' | '-' | '+'))
            && !p.ends_with('/')
            && resolved(p, &[]).as_ref() == Some(p)
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
            WordPattern::Fixed(words) if words.iter().any(|w| w.is_empty() || w.contains(is_blank) || w.chars().any(char::is_control)) => {
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
            '\\' => out.push_str(r"\\"),
            c => out.push(c),
        }
    }
    out
}
