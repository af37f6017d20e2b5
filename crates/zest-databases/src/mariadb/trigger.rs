//! Triggers: what the statement says that makes one.

use super::about_rights::{Named, named};
use super::name::{AccountName, Class, ObjectName, quoted};
use crate::sql::{Dialect, Verb, Words};

/// What sets a trigger off.
///
/// # Example
/// ```
/// use zest_ledger::mariadb::Event;
/// assert!(Event::Insert < Event::Update && Event::Update < Event::Delete);
/// ```
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord)]
pub enum Event {
    /// A row is made.
    Insert,
    /// A row is changed.
    Update,
    /// A row is removed.
    Delete,
}

impl Event {
    const ALL: [(&'static str, Self); 3] = [("insert", Self::Insert), ("update", Self::Update), ("delete", Self::Delete)];

    /// Returns the event of a word, in whatever letters.
    ///
    /// # Example
    /// ```
    /// use zest_ledger::mariadb::Event;
    /// assert_eq!((Event::from_word("INSERT"), Event::from_word("SELECT")), (Some(Event::Insert), None));
    /// ```
    #[must_use]
    pub fn from_word(word: &str) -> Option<Self> {
        Self::ALL.into_iter().find(|(known, _)| known.eq_ignore_ascii_case(word)).map(|(_, event)| event)
    }

    fn word(self) -> &'static str {
        Self::ALL.into_iter().find(|(_, event)| *event == self).map_or("", |(word, _)| word)
    }

    pub(crate) const fn verb(self) -> Verb {
        match self {
            Self::Insert => Verb::Insert,
            Self::Update => Verb::Update,
            Self::Delete => Verb::Delete,
        }
    }
}

/// A trigger of a table. It runs as its definer, whoever sets it off.
///
/// # Example
/// ```
/// use zest_ledger::mariadb::{Event, ObjectName, Trigger};
/// let text = "CREATE DEFINER='keeper'@'%' TRIGGER club.tells BEFORE INSERT ON club.member FOR EACH ROW SET NEW.fee = 0";
/// let (name, trigger) = Trigger::read(text, &ObjectName::parse("table club.member").unwrap()).unwrap();
/// assert_eq!((name.as_str(), trigger.event, trigger.is_before), ("tells", Event::Insert, true));
/// ```
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Trigger {
    /// As whom it runs.
    pub definer: AccountName,
    /// Whether it runs before the row is made, changed or removed.
    pub is_before: bool,
    /// What sets it off.
    pub event: Event,
    /// The trigger of the same event behind which it runs.
    pub follows: Option<String>,
    /// What it does.
    pub body: String,
}

impl Trigger {
    /// Reads the statement that makes a trigger on a table, and returns its name as well; nothing where it does not, or names no account
    /// as its definer.
    #[must_use]
    pub fn read(written: &str, table: &ObjectName) -> Option<(String, Self)> {
        let mut words = Words::of(Dialect::Mariadb, &["create"], written)?;
        words.takes("create").then_some(())?;
        words.takes_both("or", "replace");
        (words.takes("definer") && words.takes_token(&sqlparser::tokenizer::Token::Eq)).then_some(())?;
        let Named::Account(user, Some(host)) = named(&mut words)? else { return None };
        words.takes("trigger").then_some(())?;
        let in_database = |words: &mut Words| {
            let first = words.name()?;
            if !words.takes_token(&sqlparser::tokenizer::Token::Period) {
                return Some(first);
            }
            (first == table.database).then(|| words.name())?
        };
        let name = in_database(&mut words)?;
        let is_before = words.takes("before");
        (is_before || words.takes("after")).then_some(())?;
        let (_, event) = Event::ALL.into_iter().find(|(word, _)| words.takes(word))?;
        (words.takes("on") && in_database(&mut words)? == table.name && table.class == Class::Table).then_some(())?;
        (words.takes("for") && words.takes("each") && words.takes("row")).then_some(())?;
        let follows = if words.takes("follows") { Some(words.name()?) } else { None };
        let body = words.rest_with_signs()?;
        Some((name, Self { definer: AccountName::new(&user, &host), is_before, event, follows, body }))
    }

    /// Writes the statement that makes the trigger.
    #[must_use]
    pub fn sql(&self, name: &str, table: &ObjectName) -> String {
        let Self { definer, is_before, event, follows, body } = self;
        let follows = follows.as_ref().map_or(String::new(), |other| format!("FOLLOWS {} ", quoted(other)));
        format!(
            "CREATE DEFINER={} TRIGGER {}.{} {} {} ON {} FOR EACH ROW {follows}{}",
            definer.sql(),
            quoted(&table.database),
            quoted(name),
            if *is_before { "BEFORE" } else { "AFTER" },
            event.word().to_uppercase(),
            table.sql(),
            body.trim()
        )
    }
}
