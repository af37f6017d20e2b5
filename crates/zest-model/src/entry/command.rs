//! Command vocabularies and command sets.

use super::{Obligations, builders, words};
use crate::source::At;

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

/// A command of a vocabulary.
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

    pub(crate) const fn at(line: At<String>) -> Self {
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

/// The commands a make of device knows.
///
/// # Example
/// ```
/// use zest_ledger::entry::{Command, Vocabulary};
/// let make = Vocabulary::new("corvane-os").command(Command::new("show release"));
/// assert_eq!(make.commands.len(), 1);
/// ```
#[derive(Clone, Debug)]
#[non_exhaustive]
pub struct Vocabulary {
    /// The id.
    pub id: At<String>,
    /// The name shown to people.
    pub name: Option<At<String>>,
    /// A free remark.
    pub remark: Option<At<String>>,
    /// Modes; a single one named `deck` unless stated.
    pub modes: Vec<Mode>,
    /// The mode in which sessions start; the first one unless stated.
    pub start_mode: Option<At<String>>,
    /// What a bare elevation means; level 15 unless stated.
    pub bare_elevation: Option<At<BareElevation>>,
    /// Whether words may be shortened; to a unique prefix unless stated.
    pub abbreviation: Option<At<Abbreviation>>,
    /// The commands, in the order in which they are listed to people.
    pub commands: Vec<Command>,
}

impl Vocabulary {
    /// Makes a vocabulary without commands.
    #[track_caller]
    #[must_use]
    pub fn new(id: &str) -> Self {
        Self::at(At::here(id.to_owned()))
    }

    pub(crate) const fn at(id: At<String>) -> Self {
        Self {
            id,
            name: None,
            remark: None,
            modes: Vec::new(),
            start_mode: None,
            bare_elevation: None,
            abbreviation: None,
            commands: Vec::new(),
        }
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

/// An ordered list of rules; the first that matches a line decides.
///
/// # Example
/// ```
/// use zest_ledger::entry::CommandSet;
/// let set = CommandSet::new("trace-only").deny("show settings live ...").allow("show ...");
/// assert_eq!(set.rules.len(), 2);
/// ```
#[derive(Clone, Debug)]
pub struct CommandSet {
    /// The id.
    pub id: At<String>,
    /// A free remark.
    pub remark: Option<At<String>>,
    /// The rules, in order.
    pub rules: Vec<Rule>,
    /// What holds for all other lines; deny unless stated.
    pub otherwise: Option<At<Otherwise>>,
    #[doc(hidden)]
    pub more: crate::More,
}

impl CommandSet {
    /// Makes a set without rules.
    #[track_caller]
    #[must_use]
    pub fn new(id: &str) -> Self {
        Self::at(At::here(id.to_owned()))
    }

    pub(crate) const fn at(id: At<String>) -> Self {
        Self { id, remark: None, rules: Vec::new(), otherwise: None, more: crate::More }
    }

    /// Adds a rule.
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
