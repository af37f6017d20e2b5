//! Command vocabularies and command sets.

use super::assignment::level;
use super::when::AFTER;
use super::{Obligations, builders, words};
use crate::finding::{Code, Finding};
use crate::shape::{Among, LEVEL, Shape, TEXTS};
use crate::source::{At, Place, visible};
use crate::written::{Entry, Item, Source, Written, shape, table, tables};

words! {
    /// What a command does to the session itself.
    Does {
        /// Asks for a privilege level: the one of its number slot, or the bare one.
        Elevate = "elevate",
        /// Leaves the mode for the one it was entered from.
        LeaveMode = "leave-mode",
        /// Ends the session.
        LeaveSession = "leave-session",
        /// Shows the current level.
        ShowLevel = "show-level",
        /// Changes the user's own credential.
        ChangeCredential = "change-credential",
    }
}

words! {
    /// What an elevation request without a number means on a make of device.
    BareElevation {
        /// Level 15.
        Fifteen = "level-15",
        /// The ceiling of the session's band.
        Ceiling = "ceiling",
        /// It is refused: a number must be given.
        Refused = "refused",
    }
}

words! {
    /// Whether words may be shortened.
    Abbreviation {
        /// To any prefix that only one word has.
        UniquePrefix = "unique-prefix",
        /// Not at all.
        None = "none",
    }
}

words! {
    /// What a set decides for a line that none of its rules match.
    Otherwise {
        /// The line is permitted.
        Allow = "allow",
        /// The line is not permitted.
        Deny = "deny",
    }
}

words! {
    /// What a rule does with the lines it matches.
    RuleVerb {
        /// Permits them.
        Allow = "allow",
        /// Refuses them.
        Deny = "deny",
        /// Stands for all rules of another set, at this position.
        Include = "include",
    }
}

/// A mode of a device's command line.
///
/// # Example
/// ```
/// use zest_ledger::entry::Vocabulary;
/// let make = Vocabulary::new("corvane-os").mode("deck").configuration_mode("settings").start_mode("deck");
/// assert_eq!(make.modes.iter().map(|mode| mode.configuration).collect::<Vec<_>>(), [false, true]);
/// assert_eq!(make.modes[0].name.value, "deck");
/// ```
#[derive(Clone, Debug)]
pub struct Mode {
    /// The mode's name.
    pub name: At<String>,
    /// The prompt after the host name.
    pub prompt: Option<String>,
    /// The prompt at a privileged session; the plain one unless stated.
    pub raised_prompt: Option<String>,
    /// Whether the device's configuration is changed here.
    pub configuration: bool,
}

crate::same::fields!(Mode { name, prompt, raised_prompt, configuration });

shape! {
    MODE: "a mode", "A mode of a device's command line.", &[];
    "prompt", Shape::Text, "the prompt after the host name";
    "raised-prompt", Shape::Text, "the prompt of a privileged session";
    "configuration", Shape::Flag, "whether the device's configuration is changed here";
}

impl Entry for Mode {
    type Anchor = At<String>;

    fn read(source: &mut dyn Source, name: At<String>) -> Self {
        let text = |key| source.text(key).map(|t| t.value);
        Self {
            name,
            prompt: text("prompt"),
            raised_prompt: text("raised-prompt"),
            configuration: source.flag("configuration").is_some_and(|f| f.value),
        }
    }
}

/// A command of a vocabulary.
///
/// # Example
/// ```
/// use zest_ledger::entry::{Command, Does};
/// let leave = Command::new("leave").level(0).does(Does::LeaveSession).about("ends the session");
/// let settings = Command::new("settings").level(15).mode("deck").enters("settings");
/// assert_eq!((leave.line.value.as_str(), leave.level.map(|level| level.value)), ("leave", Some(0)));
/// assert_eq!(settings.enters.expect("it was set").value, "settings");
/// ```
#[derive(Clone, Debug)]
pub struct Command {
    /// The line as a pattern.
    pub line: At<String>,
    /// Modes in which it is known; the start mode unless stated.
    pub modes: Vec<At<String>>,
    /// The level it takes; 1 unless stated.
    pub level: Option<At<u8>>,
    /// What it does to the session.
    pub does: Option<At<Does>>,
    /// The mode it enters.
    pub enters: Option<At<String>>,
    /// What it is for, in a few words.
    pub about: Option<At<String>>,
}

crate::same::fields!(Command { line, modes, level, does, enters, about });

shape! {
    COMMAND: "a command", "A command of a vocabulary.", &[];
    required "line", Shape::Text, "the line as a pattern";
    "in", TEXTS, "modes in which it is known; the start mode unless stated";
    "level", LEVEL, "the level it takes; 1 unless stated";
    "does", Shape::Words(Does::WORDS), "what it does to the session";
    "enters", Shape::Text, "the mode it enters";
    "about", Shape::Text, "what it is for, in a few words";
}

impl Written for Vec<Command> {
    fn read(source: &mut dyn Source, key: &str) -> Self {
        tables(source, key, |_, row| {
            Some(Command {
                line: row.text("line")?,
                modes: row.texts("in"),
                level: level(row, "level"),
                does: Written::read(row, "does"),
                enters: row.text("enters"),
                about: row.text("about"),
            })
        })
    }
}

impl Command {
    /// Makes a command of the start mode at level 1.
    ///
    /// # Example
    /// ```
    /// use zest_ledger::entry::{Command, Does};
    /// let leave = Command::new("leave").level(0).does(Does::LeaveSession);
    /// assert_eq!(leave.line.value, "leave");
    /// ```
    #[track_caller]
    #[must_use]
    pub fn new(line: &str) -> Self {
        Self::at(At::here(line.to_owned()))
    }

    pub(crate) fn at(line: At<String>) -> Self {
        Self { line, modes: Vec::new(), level: None, does: None, enters: None, about: None }
    }

    builders! {
        /// Adds a mode in which it is known.
        mode(name: &str) => modes adds name.to_owned();
        /// Sets the level it takes.
        level(level: u8) => level sets level;
        /// Says what it does to the session.
        does(what: Does) => does sets what;
        /// Names the mode it enters.
        enters(mode: &str) => enters sets mode.to_owned();
        /// Says what it is for.
        about(text: &str) => about sets text.to_owned();
    }
}

table! {
    /// The commands a make of device knows.
    ///
    /// # Example
    /// ```
    /// use zest_ledger::entry::{Command, Vocabulary};
    /// let make = Vocabulary::new("corvane-os").command(Command::new("show release"));
    /// assert_eq!(make.commands.len(), 1);
    /// ```
    Vocabulary {
        /// The id.
        id: At<String>,
    }, VOCABULARY: "a vocabulary", "The commands that a make of device knows.", &[];

    /// The name shown to people.
    name: Option<At<String>> = "name", Shape::Text, "the name shown to people";
    /// A free remark.
    remark: Option<At<String>> = "remark", Shape::Text, "a free remark";
    /// Modes; a single one named `deck` unless stated.
    modes: Vec<Mode> = "modes", Shape::Map(&Shape::Table(&MODE)), "modes of the command line; one named \"deck\" unless stated";
    /// The mode in which sessions start; the first one unless stated.
    start_mode: Option<At<String>> = "start-mode", Shape::Text, "the mode in which sessions start; \"deck\" unless stated";
    /// What a bare elevation means; level 15 unless stated.
    bare_elevation: Option<At<BareElevation>> = "bare-elevation", Shape::Words(BareElevation::WORDS), "what an elevation without a number means; level-15 unless stated";
    /// Whether words may be shortened; to a unique prefix unless stated.
    abbreviation: Option<At<Abbreviation>> = "abbreviation", Shape::Words(Abbreviation::WORDS), "whether words may be shortened; unique-prefix unless stated";
    /// The commands, in the order in which they are listed to people.
    commands: Vec<Command> = required "commands", Shape::List(&Shape::Table(&COMMAND)), "the commands, in the order in which they are listed";
}

impl Vocabulary {
    /// Makes a vocabulary without commands.
    #[track_caller]
    #[must_use]
    pub fn new(id: &str) -> Self {
        Self::at(At::here(id.to_owned()))
    }

    builders! {
        /// Says what a bare elevation means.
        bare_elevation(meaning: BareElevation) => bare_elevation sets meaning;
        /// Says whether words may be shortened.
        abbreviation(rule: Abbreviation) => abbreviation sets rule;
        /// Names the mode in which sessions start.
        start_mode(mode: &str) => start_mode sets mode.to_owned();
    }

    /// Adds a mode.
    #[track_caller]
    #[must_use]
    pub fn mode(mut self, name: &str) -> Self {
        self.modes.push(Mode { name: At::here(name.to_owned()), prompt: None, raised_prompt: None, configuration: false });
        self
    }

    /// Adds a mode in which the device's configuration is changed.
    #[track_caller]
    #[must_use]
    pub fn configuration_mode(mut self, name: &str) -> Self {
        self.modes.push(Mode { name: At::here(name.to_owned()), prompt: None, raised_prompt: None, configuration: true });
        self
    }

    /// Adds a command.
    #[must_use]
    pub fn command(mut self, command: Command) -> Self {
        self.commands.push(command);
        self
    }
}

/// One rule of a command set.
///
/// # Example
/// ```
/// use zest_ledger::entry::{CommandSet, RuleVerb};
/// let set = CommandSet::new("look-only").deny("show settings live ...").allow("show ...");
/// assert_eq!((set.rules[0].verb, set.rules[0].text.value.as_str()), (RuleVerb::Deny, "show settings live ..."));
/// ```
#[derive(Clone, Debug)]
pub struct Rule {
    /// What it does.
    pub verb: RuleVerb,
    /// The pattern, or the set it includes.
    pub text: At<String>,
    /// What must be done before an allowed line takes effect.
    pub after: Option<Box<Obligations>>,
    /// Why the rule is there.
    pub because: Option<At<String>>,
}

crate::same::fields!(Rule { verb, text, after, because });

shape! {
    RULE: "a rule", "One rule of a command set, with what must be done before it takes effect.", &[Among::One(&["allow", "deny", "include"])];
    "allow", Shape::Text, "a pattern whose lines are permitted";
    "deny", Shape::Text, "a pattern whose lines are refused";
    "include", Shape::Text, "a command set whose rules stand here";
    "after", Shape::Table(&AFTER), "what must be done before an allowed line takes effect";
    "because", Shape::Text, "why the entry is there";
}

impl Written for Vec<Rule> {
    fn read(source: &mut dyn Source, key: &str) -> Self {
        let mut rules = Self::new();
        source.items(key, &mut |item, row| {
            rules.extend(match item {
                Item::Text(text) => rule_of_text(&text, row),
                Item::Table(place) => rule_of_table(place, row),
            });
        });
        rules
    }
}

/// Reads `allow PATTERN`, `deny PATTERN` or `include SET`.
fn rule_of_text(text: &At<String>, source: &mut dyn Source) -> Option<Rule> {
    let trimmed = text.value.trim();
    let (verb, rest) = trimmed.split_once(char::is_whitespace).unwrap_or((trimmed, ""));
    match RuleVerb::from_word(verb) {
        Some(verb) if !rest.trim().is_empty() => {
            Some(Rule { verb, text: At::new(rest.trim().to_owned(), text.place), after: None, because: None })
        }
        _ => {
            source.report(
                Finding::new(Code::BadPattern, format!("the rule `{}` cannot be read", visible(trimmed)))
                    .at(text.place, "expected `allow PATTERN`, `deny PATTERN` or `include SET`")
                    .help("a rule begins with one of these words and says what it is about: \"allow show release\""),
            );
            None
        }
    }
}

fn rule_of_table(place: Place, source: &mut dyn Source) -> Option<Rule> {
    let mut given = Vec::new();
    for verb in [RuleVerb::Allow, RuleVerb::Deny, RuleVerb::Include] {
        given.extend(source.text(verb.word()).map(|text| (verb, text)));
    }
    let after: Option<Box<Obligations>> = source.has("after").then(|| Box::new(Written::read(source, "after")));
    let because = source.text("because");
    match (<[_; 1]>::try_from(given), &after) {
        (Ok([(RuleVerb::Allow, text)]), _) => Some(Rule { verb: RuleVerb::Allow, text, after, because }),
        (Ok([(verb, text)]), None) => Some(Rule { verb, text, after, because }),
        _ => {
            source.report(
                Finding::new(Code::BadPattern, "a rule in table form has one of `allow`, `deny` and `include`")
                    .at(place, "exactly one is expected; `after` goes with `allow` only")
                    .help("write one table for each rule"),
            );
            None
        }
    }
}

table! {
    /// An ordered list of rules; the first that matches a line decides.
    ///
    /// # Example
    /// ```
    /// use zest_ledger::entry::CommandSet;
    /// let set = CommandSet::new("trace-only").deny("show settings live ...").allow("show ...");
    /// assert_eq!(set.rules.len(), 2);
    /// ```
    CommandSet {
        /// The id.
        id: At<String>,
    }, COMMAND_SET: "a command set", "Ordered rules over command lines; the first that matches a line decides.", &[];

    /// A free remark.
    remark: Option<At<String>> = "remark", Shape::Text, "a free remark";
    /// The rules, in order.
    rules: Vec<Rule> = required "rules", Shape::List(&Shape::Either(&[Shape::Form("^\\s*(allow|deny|include)\\s+\\S"), Shape::Table(&RULE)])), "\"allow PATTERN\", \"deny PATTERN\", \"include SET\", or a table";
    /// What holds for all other lines; deny unless stated.
    otherwise: Option<At<Otherwise>> = "otherwise", Shape::Words(Otherwise::WORDS), "what holds for all other lines; deny unless stated";
}

impl CommandSet {
    /// Makes a set without rules.
    #[track_caller]
    #[must_use]
    pub fn new(id: &str) -> Self {
        Self::at(At::here(id.to_owned()))
    }

    /// Adds a rule.
    ///
    /// # Example
    /// ```
    /// use zest_ledger::entry::{CommandSet, RuleVerb};
    /// assert_eq!(CommandSet::new("night").rule(RuleVerb::Deny, "reload ...").rules[0].verb, RuleVerb::Deny);
    /// ```
    #[track_caller]
    #[must_use]
    pub fn rule(mut self, verb: RuleVerb, text: &str) -> Self {
        self.rules.push(Rule { verb, text: At::here(text.to_owned()), after: None, because: None });
        self
    }

    /// Adds a rule that permits the lines a pattern matches.
    #[track_caller]
    #[must_use]
    pub fn allow(self, pattern: &str) -> Self {
        self.rule(RuleVerb::Allow, pattern)
    }

    /// Adds a rule that refuses the lines a pattern matches.
    #[track_caller]
    #[must_use]
    pub fn deny(self, pattern: &str) -> Self {
        self.rule(RuleVerb::Deny, pattern)
    }

    /// Adds all rules of another set at this position.
    ///
    /// # Example
    /// ```
    /// use zest_ledger::entry::CommandSet;
    /// assert_eq!(CommandSet::new("night").include("trace-only").rules[0].text.value, "trace-only");
    /// ```
    #[track_caller]
    #[must_use]
    pub fn include(self, set: &str) -> Self {
        self.rule(RuleVerb::Include, set)
    }

    builders! {
        /// Says what holds for all other lines.
        otherwise(verdict: Otherwise) => otherwise sets verdict;
    }
}
