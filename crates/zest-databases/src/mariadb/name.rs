//! Names: accounts with their origins, patterns, objects, and what a grant is on.

use std::cmp::Reverse;
use std::fmt;
use std::str::Chars;

use crate::database::name::parts;

/// An account: a login and the origins it is for. The empty login is the anonymous account.
///
/// # Example
/// ```
/// use zest_ledger::mariadb::AccountName;
/// let purser = AccountName::new("purser", "192.0.2.%");
/// assert_eq!((purser.to_string().as_str(), purser.sql().as_str()), ("purser@192.0.2.%", "'purser'@'192.0.2.%'"));
/// ```
#[derive(Clone, Debug, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub struct AccountName {
    /// The login.
    pub user: String,
    /// The origin pattern in the server's notation: an address, `192.0.2.%`, `192.0.2.0/255.255.255.0`, `localhost`, `%`.
    pub host: String,
}

impl AccountName {
    /// Makes a name.
    #[must_use]
    pub fn new(user: &str, host: &str) -> Self {
        Self { user: user.to_owned(), host: host.to_owned() }
    }

    /// Reads `login@origin`; the origin stands behind the last `@`.
    ///
    /// # Example
    /// ```
    /// use zest_ledger::mariadb::AccountName;
    /// assert_eq!(AccountName::parse("purser@192.0.2.%"), Some(AccountName::new("purser", "192.0.2.%")));
    /// assert_eq!(AccountName::parse("@localhost"), Some(AccountName::new("", "localhost")));
    /// assert_eq!(AccountName::parse("purser"), None);
    /// ```
    #[must_use]
    pub fn parse(text: &str) -> Option<Self> {
        let (user, host) = text.rsplit_once('@')?;
        (!host.is_empty()).then(|| Self::new(user, host))
    }

    /// Returns the name as SQL.
    ///
    /// What a backslash in a text means hangs on the session's mode; in a name it is itself.
    #[must_use]
    pub fn sql(&self) -> String {
        let part = |text: &str| if text.contains('\\') { quoted(text) } else { literal(text) };
        format!("{}@{}", part(&self.user), part(&self.host))
    }
}

impl fmt::Display for AccountName {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "{}@{}", self.user, self.host)
    }
}

/// Who holds a grant, or is a member of a role.
///
/// # Example
/// ```
/// use zest_ledger::mariadb::{AccountName, Holder};
/// assert_eq!(Holder::Public.sql(), "PUBLIC");
/// assert_eq!(Holder::Role("crew".to_owned()).sql(), "`crew`");
/// assert_eq!(Holder::Account(AccountName::new("purser", "%")).sql(), "'purser'@'%'");
/// ```
#[derive(Clone, Debug, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub enum Holder {
    /// Everybody.
    Public,
    /// A role.
    Role(String),
    /// An account.
    Account(AccountName),
}

impl Holder {
    /// Returns the holder as SQL.
    #[must_use]
    pub fn sql(&self) -> String {
        match self {
            Self::Public => "PUBLIC".to_owned(),
            Self::Role(name) => quoted(name),
            Self::Account(name) => name.sql(),
        }
    }
}

impl fmt::Display for Holder {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Self::Public => f.write_str("PUBLIC"),
            Self::Role(name) => f.write_str(name),
            Self::Account(name) => name.fmt(f),
        }
    }
}

/// The class of an object.
///
/// # Example
/// ```
/// use zest_ledger::mariadb::Class;
/// assert!(Class::Procedure.is_routine() && !Class::View.is_routine());
/// assert_eq!(Class::ALL.iter().map(|class| class.word()).collect::<Vec<_>>(), ["table", "view", "function", "procedure"]);
/// ```
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub enum Class {
    /// A table.
    Table,
    /// A view.
    View,
    /// A function.
    Function,
    /// A procedure.
    Procedure,
}

impl Class {
    /// All classes.
    pub const ALL: &'static [Self] = &[Self::Table, Self::View, Self::Function, Self::Procedure];

    /// Returns the word that a ledger writes before the object's name.
    #[must_use]
    pub const fn word(self) -> &'static str {
        match self {
            Self::Table => "table",
            Self::View => "view",
            Self::Function => "function",
            Self::Procedure => "procedure",
        }
    }

    /// Returns whether it is a function or a procedure.
    #[must_use]
    pub const fn is_routine(self) -> bool {
        matches!(self, Self::Function | Self::Procedure)
    }
}

/// An object: its class, its database and its name.
///
/// # Example
/// ```
/// use zest_ledger::mariadb::{Class, ObjectName};
/// let name = ObjectName::parse("table loyalty.member").expect("it is one");
/// assert_eq!(name, ObjectName::new(Class::Table, "loyalty", "member"));
/// assert_eq!((name.plain().as_str(), name.sql().as_str()), ("loyalty.member", "`loyalty`.`member`"));
/// assert!(ObjectName::parse("tabel loyalty.member").is_none());
/// ```
#[derive(Clone, Debug, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub struct ObjectName {
    /// The class.
    pub class: Class,
    /// The database.
    pub database: String,
    /// The name.
    pub name: String,
}

impl ObjectName {
    /// Makes a name.
    #[must_use]
    pub fn new(class: Class, database: &str, name: &str) -> Self {
        Self { class, database: database.to_owned(), name: name.to_owned() }
    }

    /// Reads a name as a ledger writes it: `table loyalty.member`.
    #[must_use]
    pub fn parse(text: &str) -> Option<Self> {
        let (word, rest) = text.trim().split_once(' ')?;
        let class = Class::ALL.iter().copied().find(|c| c.word() == word)?;
        match parts(rest.trim())? {
            (list, "") if list.len() == 2 => Some(Self::new(class, &list[0], &list[1])),
            _ => None,
        }
    }

    /// Returns the name without its class.
    #[must_use]
    pub fn plain(&self) -> String {
        format!("{}.{}", written(&self.database), written(&self.name))
    }

    /// Returns the name as SQL.
    #[must_use]
    pub fn sql(&self) -> String {
        format!("{}.{}", quoted(&self.database), quoted(&self.name))
    }
}

impl fmt::Display for ObjectName {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "{} {}", self.class.word(), self.plain())
    }
}

/// What a grant is on.
///
/// # Example
/// ```
/// use zest_ledger::mariadb::{ObjectName, Scope};
/// // A database of which the name has a wildcard is meant literally; `databases` takes a pattern.
/// assert_eq!(Scope::parse("database loyal_ty"), Some(Scope::Databases("loyal\\_ty".to_owned())));
/// assert_eq!(Scope::parse("databases loyal*"), Some(Scope::Databases("loyal%".to_owned())));
/// let table = ObjectName::parse("table loyalty.member").expect("it is one");
/// assert_eq!(Scope::of(&table).sql(), "`loyalty`.`member`");
/// assert_eq!(Scope::database("loyalty").to_string(), "database loyalty");
/// ```
#[derive(Clone, Debug, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub enum Scope {
    /// On everything.
    Everything,
    /// On the databases that match a pattern in the server's notation: `%` and `_`, with `\` before what is meant literally.
    Databases(String),
    /// On a table or view.
    Table(String, String),
    /// On a function.
    Function(String, String),
    /// On a procedure.
    Procedure(String, String),
    /// The right to be another account.
    Proxy(AccountName),
}

impl Scope {
    /// Names one database exactly.
    #[must_use]
    pub fn database(name: &str) -> Self {
        Self::Databases(name.replace('\\', "\\\\").replace('%', "\\%").replace('_', "\\_"))
    }

    /// Reads what a ledger writes: `everything`, `database loyalty`, `databases loyal*`, `table loyalty.member`,
    /// `account other@origin`.
    #[must_use]
    pub fn parse(text: &str) -> Option<Self> {
        let text = text.trim();
        if text == "everything" {
            return Some(Self::Everything);
        }
        if let Some(rest) = text.strip_prefix("databases ") {
            let escaped = Self::database(rest.trim());
            let Self::Databases(pattern) = escaped else { return None };
            return Some(Self::Databases(pattern.replace('*', "%").replace('?', "_")));
        }
        if let Some(rest) = text.strip_prefix("database ") {
            return match parts(rest.trim())? {
                (list, "") if list.len() == 1 => Some(Self::database(&list[0])),
                _ => None,
            };
        }
        if let Some(rest) = text.strip_prefix("account ") {
            return AccountName::parse(rest.trim()).map(Self::Proxy);
        }
        ObjectName::parse(text).map(|n| Self::of(&n))
    }

    /// Returns the scope of one object.
    #[must_use]
    pub fn of(object: &ObjectName) -> Self {
        let (database, name) = (object.database.clone(), object.name.clone());
        match object.class {
            Class::Table | Class::View => Self::Table(database, name),
            Class::Function => Self::Function(database, name),
            Class::Procedure => Self::Procedure(database, name),
        }
    }

    /// Returns the scope in SQL, with the word before it.
    #[must_use]
    pub fn sql(&self) -> String {
        match self {
            Self::Everything => "*.*".to_owned(),
            Self::Databases(pattern) => format!("{}.*", quoted(pattern)),
            Self::Table(database, name) => format!("{}.{}", quoted(database), quoted(name)),
            Self::Function(database, name) => format!("FUNCTION {}.{}", quoted(database), quoted(name)),
            Self::Procedure(database, name) => format!("PROCEDURE {}.{}", quoted(database), quoted(name)),
            Self::Proxy(account) => account.sql(),
        }
    }
}

impl fmt::Display for Scope {
    /// Writes the scope as a ledger does.
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Self::Everything => f.write_str("everything"),
            Self::Databases(pattern) if has_wildcard(pattern) => write!(f, "databases {}", shown(pattern)),
            Self::Databases(pattern) => write!(f, "database {}", written(&shown(pattern))),
            Self::Table(database, name) => write!(f, "table {}.{}", written(database), written(name)),
            Self::Function(database, name) => write!(f, "function {}.{}", written(database), written(name)),
            Self::Procedure(database, name) => write!(f, "procedure {}.{}", written(database), written(name)),
            Self::Proxy(account) => write!(f, "account {account}"),
        }
    }
}

fn written(part: &str) -> String {
    let is_plain = !part.is_empty() && !part.chars().any(|c| matches!(c, '.' | '"' | '(' | ')' | ',' | '@' | '*') || c.is_whitespace());
    if is_plain { part.to_owned() } else { format!("\"{}\"", part.replace('"', "\"\"")) }
}

/// Writes a pattern with `*` and `?`, or a name without its escapes.
fn shown(pattern: &str) -> String {
    let mut out = String::new();
    let mut chars = pattern.chars();
    while let Some(c) = chars.next() {
        match c {
            '\\' => out.extend(chars.next()),
            '%' => out.push('*'),
            '_' => out.push('?'),
            other => out.push(other),
        }
    }
    out
}

fn has_wildcard(pattern: &str) -> bool {
    let mut chars = pattern.chars();
    while let Some(c) = chars.next() {
        match c {
            '\\' => {
                chars.next();
            }
            '%' | '_' => return true,
            _ => {}
        }
    }
    false
}

/// Quotes an identifier for SQL.
///
/// # Example
/// ```
/// assert_eq!(zest_ledger::mariadb::quoted("pier`s"), "`pier``s`");
/// ```
#[must_use]
pub fn quoted(name: &str) -> String {
    format!("`{}`", name.replace('`', "``"))
}

/// Quotes a text for SQL.
///
/// # Example
/// ```
/// assert_eq!(zest_ledger::mariadb::literal("pier's"), "'pier''s'");
/// ```
#[must_use]
pub fn literal(text: &str) -> String {
    format!("'{}'", text.replace('\\', "\\\\").replace('\'', "''"))
}

/// Compares with a pattern of the server: `%` any letters, `_` one, `\` takes the next literally (`wild_compare`).
///
/// # Example
/// ```
/// use zest_ledger::mariadb::matches;
/// assert!(matches("loyalty", "loyal%") && matches("loyalty", "loyalt_"));
/// assert!(!matches("loyalXty", "loyal\\_ty"), "what stands behind a backslash is meant literally");
/// ```
#[must_use]
pub fn matches(text: &str, pattern: &str) -> bool {
    let (mut text, mut pattern) = (text.chars(), pattern.chars());
    // What comes after the last `%`, and where that began to match, to go on from when a later part does not fit.
    let mut back: Option<(Chars<'_>, Chars<'_>)> = None;
    while let Some(found) = text.clone().next() {
        let mut rest = pattern.clone();
        let is_taken = match rest.next() {
            Some('%') => {
                back = Some((rest.clone(), text.clone()));
                pattern = rest;
                continue;
            }
            Some('_') => true,
            // What stands behind a backslash is meant literally.
            Some('\\') => rest.next() == Some(found),
            Some(wanted) => wanted == found,
            None => false,
        };
        if is_taken {
            pattern = rest;
            text.next();
            continue;
        }
        let Some((after, from)) = &mut back else { return false };
        from.next();
        (pattern, text) = (after.clone(), from.clone());
    }
    pattern.all(|rest| rest == '%')
}

/// Whether a pattern of databases covers another one, as the server finds it for a grant (`wild_compare` of two patterns): what one takes
/// literally, the other must write as it does, and `_` stands for anything but `%`.
pub(crate) fn covers(pattern: &str, wanted: &str) -> bool {
    #[derive(Clone, Copy, PartialEq)]
    enum Unit {
        Many,
        One,
        Letter(char),
        Escaped(char),
    }
    let units = |text: &str| {
        let mut chars = text.chars().peekable();
        let mut out = Vec::new();
        while let Some(c) = chars.next() {
            out.push(match c {
                '%' => Unit::Many,
                '_' => Unit::One,
                '\\' => chars.next().map_or(Unit::Letter(c), Unit::Escaped),
                c => Unit::Letter(c),
            });
        }
        out
    };
    let (pattern, wanted) = (units(pattern), units(wanted));
    // Which beginnings of the wanted one fit the pattern so far.
    let mut fit = vec![false; wanted.len() + 1];
    fit[0] = true;
    for unit in pattern {
        let mut next = vec![false; wanted.len() + 1];
        let mut any = false;
        for at in 0..=wanted.len() {
            any |= fit[at];
            next[at] = match unit {
                Unit::Many => any,
                Unit::One => at > 0 && fit[at - 1] && wanted[at - 1] != Unit::Many,
                Unit::Letter(_) | Unit::Escaped(_) => at > 0 && fit[at - 1] && wanted[at - 1] == unit,
            };
        }
        fit = next;
    }
    fit[wanted.len()]
}

/// Whether one database may fit two patterns; two that have wildcards both are taken to.
pub(crate) fn may_meet(one: &str, other: &str) -> bool {
    match (has_wildcard(one), has_wildcard(other)) {
        (false, _) => matches(&shown(one), other),
        (_, false) => matches(&shown(other), one),
        (true, true) => true,
    }
}

/// How special a pattern is; smaller comes first. Found by trying on the server of version 10.11 with patterns that
/// all match one address: whole names, then patterns of fixed length, then the longer ones, those with fewer `%` (a
/// run counts once), those with fewer `_`, those whose first wildcard stands earlier.
///
/// # Example
/// ```
/// use zest_ledger::mariadb::rank;
/// assert!(rank("192.0.2.7") < rank("192.0.2.%"), "the account of one address comes first");
/// assert!(rank("192.0.2.%") < rank("%"));
/// ```
#[must_use]
pub fn rank(pattern: &str) -> impl Ord + Clone + use<> {
    let (mut length, mut many, mut single, mut first) = (0_usize, 0_usize, 0_usize, usize::MAX);
    let mut chars = pattern.chars();
    let (mut at, mut in_run) = (0, false);
    while let Some(c) = chars.next() {
        let is_many = c == '%';
        match c {
            '\\' if chars.clone().next().is_some() => {
                chars.next();
                length += 1;
            }
            '%' => {
                many += usize::from(!in_run);
                first = first.min(at);
            }
            '_' => {
                single += 1;
                length += 1;
                first = first.min(at);
            }
            _ => length += 1,
        }
        in_run = is_many;
        at += 1;
    }
    if many + single == 0 { (false, false, Reverse(0), 0, 0, 0) } else { (true, many > 0, Reverse(length), many, single, first) }
}

/// Whether the server takes a name for none of a role.
pub(crate) fn is_barred_as_role(name: &str) -> bool {
    name.trim_end().is_empty() || name.chars().count() > 128 || ["none", "public", "current_role"].contains(&name.to_lowercase().as_str())
}
