//! Systems and the accounts that live on them.

use super::{Band, Proof, builders, words};
use crate::source::At;

/// The word for the rules a system plays by.
///
/// # Example
/// ```
/// use zest_ledger::entry::Kind;
/// assert_eq!(Kind::from_word("host"), Some(Kind::HOST));
/// assert_eq!(Kind::new("key-cabinet").word(), "key-cabinet");
/// ```
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub struct Kind(&'static str);

impl Kind {
    /// A switch or router with privilege levels and a command line.
    pub const NETWORK_DEVICE: Self = Self("network-device");
    /// A PostgreSQL 15 server, with one of its databases.
    pub const POSTGRESQL: Self = Self("postgresql");
    /// A MariaDB 10.11 server, with all its databases.
    pub const MARIADB: Self = Self("mariadb");
    /// A cloud: a tree of containers, operations, grants and denies.
    pub const CLOUD: Self = Self("cloud");
    /// An application: objects of a type, rights and obligations.
    pub const APPLICATION: Self = Self("application");
    /// A host with accounts, shells and rules of running as another account.
    pub const HOST: Self = Self("host");

    /// The words of the kinds that this crate knows.
    pub const WORDS: &'static [&'static str] = &["network-device", "postgresql", "mariadb", "cloud", "application", "host"];

    /// Makes the word of a kind that is registered from outside.
    #[must_use]
    pub const fn new(word: &'static str) -> Self {
        Self(word)
    }

    /// Returns the word.
    #[must_use]
    pub const fn word(self) -> &'static str {
        self.0
    }

    /// Returns the kind that a word stands for, of those that this crate knows.
    #[must_use]
    pub fn from_word(word: &str) -> Option<Self> {
        Self::WORDS.iter().find(|known| **known == word).map(|known| Self(known))
    }

    /// Returns whether systems of the kind are database servers.
    #[must_use]
    pub fn is_database(self) -> bool {
        self == Self::POSTGRESQL || self == Self::MARIADB
    }

    /// Returns whether systems of the kind are clouds or applications.
    #[must_use]
    pub fn is_service(self) -> bool {
        self == Self::CLOUD || self == Self::APPLICATION
    }
}

words! {
    /// The way a session comes in.
    Channel {
        /// A terminal session.
        Terminal = "terminal",
        /// A browser session.
        Web = "web",
        /// A program's session.
        Api = "api",
    }
}

words! {
    /// Who is asked whether somebody may sign in.
    IdentitySource {
        /// The central source, which knows the ledger's users.
        Central = "central",
        /// The accounts kept on the system itself.
        Local = "local",
    }
}

words! {
    /// What a session may do where no command set is attached to it.
    Unrestricted {
        /// Everything its level admits.
        Everything = "everything",
        /// Nothing.
        Nothing = "nothing",
    }
}

words! {
    /// What happens to commands that would be authorised centrally while the central source is down.
    WhenCentralDown {
        /// The command's own level decides alone.
        OwnLevels = "own-levels",
        /// Every such command is refused.
        Nothing = "nothing",
    }
}

words! {
    /// Whether upper and lower case make two names.
    NameCase {
        /// `Purser` and `purser` are two names.
        Sensitive = "sensitive",
        /// `Purser` and `purser` are one name.
        Ignored = "ignored",
    }
}

words! {
    /// The state of an account's credential.
    Credential {
        /// There is one.
        Set = "set",
        /// There is none, so nobody can sign in.
        Missing = "missing",
        /// There is one, but it is past its time.
        Expired = "expired",
    }
}

/// Which levels have their commands authorised centrally.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum AuthorisedLevels {
    /// All sixteen.
    All,
    /// Those listed.
    Listed(Vec<u8>),
}

/// Where a device asks the command sets: at which levels, and in configuration modes.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Authorisation {
    /// Levels whose commands are authorised centrally, outside configuration modes.
    pub levels: AuthorisedLevels,
    /// Whether commands in configuration modes are.
    pub configuration: bool,
}

/// Texts shown around sign-in. They are recorded and rolled out; no answer depends on them.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Notices {
    /// Shown before sign-in.
    pub before: Option<String>,
    /// Shown after sign-in.
    pub after: Option<String>,
}

/// A device's own level for one command of its vocabulary.
#[derive(Clone, Debug)]
pub struct OwnLevel {
    /// The command's line exactly as the vocabulary writes it.
    pub command: At<String>,
    /// The level it takes on this device.
    pub level: At<u8>,
}

/// A managed target.
///
/// # Example
/// ```
/// use zest_ledger::entry::{System, Unrestricted};
/// let switch = System::network_device("sw-selkie-1", "corvane-os", Unrestricted::Nothing)
///     .label("class", "pier-switch")
///     .authorise_all_levels();
/// assert_eq!(switch.labels.len(), 1);
/// ```
#[derive(Clone, Debug)]
#[non_exhaustive]
pub struct System {
    /// The id.
    pub id: At<String>,
    /// The rules it plays by.
    pub kind: Option<At<Kind>>,
    /// The name shown to people.
    pub name: Option<At<String>>,
    /// A free remark.
    pub remark: Option<At<String>>,
    /// Host name or address.
    pub address: Option<At<String>>,
    /// Labels that assignments select by.
    pub labels: Vec<(At<String>, At<String>)>,
    /// Place in the tree of containers, such as `piers/selkie`.
    pub within: Option<At<String>>,
    /// The vocabulary its make speaks.
    pub vocabulary: Option<At<String>>,
    /// What holds where no command set is attached; there is no default.
    pub no_command_set: Option<At<Unrestricted>>,
    /// Where the command sets are asked; nowhere unless stated.
    pub authorisation: Option<At<Authorisation>>,
    /// Order of identity sources; central, then local, unless stated.
    pub identity_sources: Option<At<Vec<IdentitySource>>>,
    /// Name-case rule; sensitive unless stated.
    pub name_case: Option<At<NameCase>>,
    /// What holds for commands while the central source is down; own levels unless stated.
    pub when_central_down: Option<At<WhenCentralDown>>,
    /// Whether sessions get the privileged prompt at sign-in, whatever their level.
    pub privileged_at_sign_in: Option<At<bool>>,
    /// The device's own levels, over those of the vocabulary.
    pub own_levels: Vec<OwnLevel>,
    /// Texts shown around sign-in.
    pub notices: Option<At<Notices>>,
    /// Accounts kept on the system itself.
    pub accounts: Vec<Account>,
    /// For a PostgreSQL server, the database that is modelled; the id of the system unless stated.
    pub database: Option<At<String>>,
    /// The proofs that a channel of the system accepts; any unless stated.
    pub accepts: Vec<(At<Channel>, Vec<At<Proof>>)>,
}

impl System {
    /// Makes a system of a kind that needs nothing more: a database server, a cloud, an application, a host.
    #[track_caller]
    #[must_use]
    pub fn of_kind(id: &str, kind: Kind) -> Self {
        let mut system = Self::at(At::here(id.to_owned()));
        system.kind = Some(At::here(kind));
        system
    }

    /// Returns the kind; that of a network device where none is stated.
    #[must_use]
    pub fn kind(&self) -> Kind {
        self.kind.as_ref().map_or(Kind::NETWORK_DEVICE, |k| k.value)
    }

    /// Returns whether names of users are the same here in upper and lower case.
    #[doc(hidden)]
    pub fn ignores_case(&self) -> bool {
        self.name_case.as_ref().is_some_and(|n| n.value == NameCase::Ignored)
    }

    /// Returns the identity sources in the order in which they are asked: the central one and then the local one unless stated.
    #[doc(hidden)]
    pub fn sources(&self) -> &[IdentitySource] {
        const USUAL: [IdentitySource; 2] = [IdentitySource::Central, IdentitySource::Local];
        self.identity_sources.as_ref().map_or(&USUAL, |s| &s.value)
    }

    /// Returns what holds where no command set is attached.
    #[doc(hidden)]
    pub fn without_set(&self) -> Unrestricted {
        self.no_command_set.as_ref().map_or(Unrestricted::Nothing, |n| n.value)
    }

    /// Makes a network device.
    #[track_caller]
    #[must_use]
    pub fn network_device(id: &str, vocabulary: &str, no_command_set: Unrestricted) -> Self {
        let mut system = Self::at(At::here(id.to_owned()));
        system.kind = Some(At::here(Kind::NETWORK_DEVICE));
        system.vocabulary = Some(At::here(vocabulary.to_owned()));
        system.no_command_set = Some(At::here(no_command_set));
        system
    }

    pub(crate) const fn at(id: At<String>) -> Self {
        Self {
            id,
            kind: None,
            name: None,
            remark: None,
            address: None,
            labels: Vec::new(),
            within: None,
            vocabulary: None,
            no_command_set: None,
            authorisation: None,
            identity_sources: None,
            name_case: None,
            when_central_down: None,
            privileged_at_sign_in: None,
            own_levels: Vec::new(),
            notices: None,
            accounts: Vec::new(),
            database: None,
            accepts: Vec::new(),
        }
    }

    /// Adds a label.
    #[track_caller]
    #[must_use]
    pub fn label(mut self, key: &str, value: &str) -> Self {
        self.labels.push((At::here(key.to_owned()), At::here(value.to_owned())));
        self
    }

    /// Has commands authorised centrally at every level and in configuration modes.
    #[track_caller]
    #[must_use]
    pub fn authorise_all_levels(self) -> Self {
        self.authorisation(Authorisation { levels: AuthorisedLevels::All, configuration: true })
    }

    builders! {
        /// Sets the place in the tree of containers.
        within(path: &str) => within sets path.to_owned();
        /// Sets the host name or address.
        address(address: &str) => address sets address.to_owned();
        /// Says where commands are authorised centrally.
        authorisation(rule: Authorisation) => authorisation sets rule;
        /// Sets the order of identity sources.
        identity_sources(order: &[IdentitySource]) => identity_sources sets order.to_vec();
        /// Sets the name-case rule.
        name_case(rule: NameCase) => name_case sets rule;
        /// Says what holds for commands while the central source is down.
        when_central_down(rule: WhenCentralDown) => when_central_down sets rule;
    }

    /// Sets the device's own level for a command of its vocabulary.
    #[track_caller]
    #[must_use]
    pub fn own_level(mut self, command: &str, level: u8) -> Self {
        self.own_levels.push(OwnLevel { command: At::here(command.to_owned()), level: At::here(level) });
        self
    }

    /// Adds a local account.
    #[must_use]
    pub fn account(mut self, account: Account) -> Self {
        self.accounts.push(account);
        self
    }
}

/// A login kept on a system itself.
///
/// # Example
/// ```
/// use zest_ledger::entry::Account;
/// let account = Account::new("harbour-emergency").band(15, 15).used_by("group:network-leads");
/// assert_eq!(account.login.value, "harbour-emergency");
/// ```
#[derive(Clone, Debug)]
pub struct Account {
    /// The login.
    pub login: At<String>,
    /// A free remark.
    pub remark: Option<At<String>>,
    /// Start level and ceiling.
    pub band: Option<Band>,
    /// Who may use it besides the user of the same name: `user:ID` or `group:ID`.
    pub used_by: Vec<At<String>>,
    /// Origins it is admitted from; any unless stated.
    pub origin: Option<Vec<At<String>>>,
    /// Whether it is locked.
    pub locked: Option<At<bool>>,
    /// The state of its credential; set unless stated.
    pub credential: Option<At<Credential>>,
    /// Whether it is kept for outages of the central source.
    pub emergency: Option<At<bool>>,
    /// Command sets of its own, which the device asks itself; without any, the levels of the commands decide.
    pub commands: Vec<At<String>>,
    #[doc(hidden)]
    pub more: crate::More,
}

impl Account {
    /// Makes an account without a band.
    #[track_caller]
    #[must_use]
    pub fn new(login: &str) -> Self {
        Self::at(At::here(login.to_owned()))
    }

    pub(crate) const fn at(login: At<String>) -> Self {
        Self {
            login,
            remark: None,
            band: None,
            used_by: Vec::new(),
            origin: None,
            locked: None,
            credential: None,
            emergency: None,
            commands: Vec::new(),
            more: crate::More,
        }
    }

    /// Sets start level and ceiling.
    #[track_caller]
    #[must_use]
    pub fn band(mut self, start: u8, ceiling: u8) -> Self {
        self.band = Some(Band::new(start, ceiling));
        self
    }

    /// Limits the origins it is admitted from: addresses, networks or `origin:ID`.
    #[track_caller]
    #[must_use]
    pub fn origins(mut self, origins: &[&str]) -> Self {
        let mut list = Vec::with_capacity(origins.len());
        for origin in origins {
            list.push(At::here((*origin).to_owned()));
        }
        self.origin = Some(list);
        self
    }

    builders! {
        /// Adds somebody who may use it: `user:ID` or `group:ID`.
        used_by(reference: &str) => used_by adds reference.to_owned();
        /// Locks or unlocks it.
        locked(yes: bool) => locked sets yes;
        /// Sets the state of its credential.
        credential(state: Credential) => credential sets state;
        /// Says whether it is kept for outages of the central source.
        emergency(yes: bool) => emergency sets yes;
        /// Adds a command set of its own.
        commands(set: &str) => commands adds set.to_owned();
    }
}
