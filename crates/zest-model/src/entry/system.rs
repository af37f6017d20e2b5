//! Systems and the accounts that live on them.

use super::assignment::{BAND, level};
use super::{Band, Proof, builders, words};
use crate::shape::{Among, LEVEL, NETWORKS, PARTIES, Shape, TEXTS};
use crate::source::{At, Place};
use crate::written::{Source, Written, shape, table, tables};

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
    ///
    /// # Example
    /// ```
    /// use zest_ledger::entry::Kind;
    /// assert!(Kind::WORDS.iter().all(|word| Kind::from_word(word).is_some()));
    /// ```
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
    ///
    /// # Example
    /// ```
    /// use zest_ledger::entry::Kind;
    /// assert!(Kind::POSTGRESQL.is_database() && Kind::MARIADB.is_database() && !Kind::CLOUD.is_database());
    /// ```
    #[must_use]
    pub fn is_database(self) -> bool {
        self == Self::POSTGRESQL || self == Self::MARIADB
    }

    /// Returns whether systems of the kind are clouds or applications.
    ///
    /// # Example
    /// ```
    /// use zest_ledger::entry::Kind;
    /// assert!(Kind::CLOUD.is_service() && Kind::APPLICATION.is_service() && !Kind::HOST.is_service());
    /// ```
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
    /// A key of a system at which some kinds look and others do not.
    SystemKey {
        /// The vocabulary its make speaks.
        Vocabulary = "vocabulary",
        /// What holds where no command set is attached.
        NoCommandSet = "no-command-set",
        /// Where commands are authorised centrally.
        Authorisation = "authorisation",
        /// Who is asked who somebody is.
        IdentitySources = "identity-sources",
        /// Whether upper and lower case make two names.
        NameCase = "name-case",
        /// What holds for commands while the central source is down.
        WhenCentralDown = "when-central-down",
        /// Whether sessions get the privileged prompt at sign-in.
        PrivilegedAtSignIn = "privileged-at-sign-in",
        /// Levels over those of the vocabulary.
        OwnLevels = "own-levels",
        /// Accounts kept on the system itself.
        Accounts = "accounts",
        /// The database that is modelled.
        Database = "database",
        /// The proofs that a channel accepts.
        Accepts = "accepts",
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
///
/// # Example
/// ```
/// use zest_ledger::{Ledger, entry::AuthorisedLevels};
/// # let text = "vocabularies.make.commands = [{ line = 'show log' }]\nsystems.sw-1 = { kind = 'network-device', vocabulary = 'make', no-command-set = 'nothing', authorisation = { levels = [1, 15], configuration = true } }";
/// let estate = Ledger::new().document("it.toml", text).estate()?;
/// let rule = estate.systems()[0].authorisation.as_ref().expect("it is written");
/// assert_eq!(rule.value.levels, AuthorisedLevels::Listed(vec![1, 15]));
/// # Ok::<(), zest_ledger::finding::Findings>(())
/// ```
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum AuthorisedLevels {
    /// All sixteen.
    All,
    /// Those listed.
    Listed(Vec<u8>),
}

/// Where a device asks the command sets: at which levels, and in configuration modes.
///
/// # Example
/// ```
/// use zest_ledger::entry::{Authorisation, AuthorisedLevels, System, Unrestricted};
/// let rule = Authorisation { levels: AuthorisedLevels::All, configuration: false };
/// let device = System::network_device("sw-1", "corvane-os", Unrestricted::Nothing).authorisation(rule.clone());
/// assert_eq!(device.authorisation.expect("it was set").value, rule);
/// ```
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Authorisation {
    /// Levels whose commands are authorised centrally, outside configuration modes.
    pub levels: AuthorisedLevels,
    /// Whether commands in configuration modes are.
    pub configuration: bool,
}

/// Texts shown around sign-in. They are recorded and rolled out; no answer depends on them.
///
/// # Example
/// ```
/// use zest_ledger::Ledger;
/// let text = "systems.rota = { kind = 'application', notices = { before = 'Crew only.' } }";
/// let estate = Ledger::new().document("it.toml", text).estate()?;
/// let notices = estate.systems()[0].notices.as_ref().expect("they are written");
/// assert_eq!((notices.value.before.as_deref(), notices.value.after.as_deref()), (Some("Crew only."), None));
/// # Ok::<(), zest_ledger::finding::Findings>(())
/// ```
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Notices {
    /// Shown before sign-in.
    pub before: Option<String>,
    /// Shown after sign-in.
    pub after: Option<String>,
}

/// A device's own level for one command of its vocabulary.
///
/// # Example
/// ```
/// use zest_ledger::entry::{System, Unrestricted};
/// let device = System::network_device("sw-1", "corvane-os", Unrestricted::Nothing).own_level("show log", 7);
/// let own = &device.own_levels[0];
/// assert_eq!((own.command.value.as_str(), own.level.value), ("show log", 7));
/// ```
#[derive(Clone, Debug)]
pub struct OwnLevel {
    /// The command's line exactly as the vocabulary writes it.
    pub command: At<String>,
    /// The level it takes on this device.
    pub level: At<u8>,
}

crate::same::plain!(Kind, AuthorisedLevels, Authorisation, Notices);
crate::same::fields!(OwnLevel { command, level });

shape! {
    AUTHORISATION: "an authorisation", "Where a device asks the command sets.", &[];
    required "levels", Shape::Either(&[Shape::Words(&["all", "none"]), Shape::List(&LEVEL)]), "levels at which commands are authorised centrally";
    required "configuration", Shape::Flag, "whether commands in configuration modes are; a switch of its own";
}

impl Written for Option<At<Authorisation>> {
    fn read(source: &mut dyn Source, key: &str) -> Self {
        let mut found = None;
        source.table(key, &mut |place, row| {
            let levels = match row.text("levels") {
                Some(word) if word.value == "all" => AuthorisedLevels::All,
                _ => AuthorisedLevels::Listed(row.wholes("levels").into_iter().filter_map(|l| u8::try_from(l).ok()).collect()),
            };
            let configuration = row.flag("configuration").filter(|_| row.has("levels"));
            found = configuration.map(|c| At::new(Authorisation { levels, configuration: c.value }, place));
        });
        found
    }
}

shape! {
    OWN_LEVEL: "an own level", "A device's own level for one command.", &[];
    required "command", Shape::Text, "the command's line exactly as the vocabulary writes it";
    required "level", LEVEL, "the level it takes on this device";
}

impl Written for Vec<OwnLevel> {
    fn read(source: &mut dyn Source, key: &str) -> Self {
        tables(source, key, |_, row| Some(OwnLevel { command: row.text("command")?, level: level(row, "level")? }))
    }
}

shape! {
    NOTICES: "a notice", "Texts shown around sign-in.", &[];
    "before", Shape::Text, "shown before sign-in";
    "after", Shape::Text, "shown after sign-in";
}

impl Written for Option<At<Notices>> {
    fn read(source: &mut dyn Source, key: &str) -> Self {
        let mut found = None;
        source.table(key, &mut |place, row| {
            let text = |key| row.text(key).map(|t| t.value);
            found = Some(At::new(Notices { before: text("before"), after: text("after") }, place));
        });
        found
    }
}

impl Written for Option<At<Kind>> {
    fn read(source: &mut dyn Source, key: &str) -> Self {
        source.kind(key).map(|word| At::new(Kind::new(word.value), word.place))
    }
}

impl Written for Option<At<Vec<IdentitySource>>> {
    fn read(source: &mut dyn Source, key: &str) -> Self {
        let place = source.place(key)?;
        let order: Vec<At<IdentitySource>> = Written::read(source, key);
        Some(At::new(order.into_iter().map(|s| s.value).collect(), place))
    }
}

table! {
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
    System {
        /// The id.
        id: At<String>,
    }, SYSTEM: "a system", "A managed target.", &[Among::Where("kind", "network-device", &["vocabulary", "no-command-set"]), Among::Where("kind", "host", &["no-command-set"])];

    /// The rules it plays by.
    kind: Option<At<Kind>> = required "kind", Shape::Kind, "the rules the system plays by";
    /// The name shown to people.
    name: Option<At<String>> = "name", Shape::Text, "the name shown to people";
    /// A free remark.
    remark: Option<At<String>> = "remark", Shape::Text, "a free remark";
    /// Host name or address.
    address: Option<At<String>> = "address", Shape::Text, "host name or address";
    /// Labels that assignments select by.
    labels: Vec<(At<String>, At<String>)> = "labels", Shape::Map(&Shape::Text), "labels that assignments select by";
    /// Place in the tree of containers, such as `piers/selkie`.
    within: Option<At<String>> = "within", Shape::Text, "place in the tree of containers, such as \"piers/selkie\"";
    /// The vocabulary its make speaks.
    vocabulary: Option<At<String>> = "vocabulary", Shape::Text, "the vocabulary its make speaks";
    /// What holds where no command set is attached; there is no default.
    no_command_set: Option<At<Unrestricted>> = "no-command-set", Shape::Words(Unrestricted::WORDS), "what holds where no command set is attached; every device states it";
    /// Where the command sets are asked; nowhere unless stated.
    authorisation: Option<At<Authorisation>> = "authorisation", Shape::Table(&AUTHORISATION), "where commands are authorised centrally; nowhere unless stated";
    /// Order of identity sources; central, then local, unless stated.
    identity_sources: Option<At<Vec<IdentitySource>>> = "identity-sources", Shape::List(&Shape::Words(IdentitySource::WORDS)), "who is asked, in order; central, then local, unless stated";
    /// Name-case rule; sensitive unless stated.
    name_case: Option<At<NameCase>> = "name-case", Shape::Words(NameCase::WORDS), "whether upper and lower case make two names; sensitive unless stated";
    /// What holds for commands while the central source is down; own levels unless stated.
    when_central_down: Option<At<WhenCentralDown>> = "when-central-down", Shape::Words(WhenCentralDown::WORDS), "what holds for commands while the central source is down; own-levels unless stated";
    /// Whether sessions get the privileged prompt at sign-in, whatever their level.
    privileged_at_sign_in: Option<At<bool>> = "privileged-at-sign-in", Shape::Flag, "whether sessions get the privileged prompt at sign-in, whatever their level";
    /// The device's own levels, over those of the vocabulary.
    own_levels: Vec<OwnLevel> = "own-levels", Shape::List(&Shape::Table(&OWN_LEVEL)), "the device's own levels, over those of the vocabulary";
    /// Texts shown around sign-in.
    notices: Option<At<Notices>> = "notices", Shape::Table(&NOTICES), "texts shown around sign-in";
    /// Accounts kept on the system itself.
    accounts: Vec<Account> = "accounts", Shape::Map(&Shape::Table(&ACCOUNT)), "accounts kept on the system itself, by login";
    /// For a PostgreSQL server, the database that is modelled; the id of the system unless stated.
    database: Option<At<String>> = "database", Shape::Text, "for a PostgreSQL server: the database that is modelled; the id of the system unless stated";
    /// The proofs that a channel of the system accepts; any unless stated.
    accepts: Vec<(At<Channel>, Vec<At<Proof>>)> = "accepts", Shape::Map(&Shape::List(&Shape::Words(Proof::WORDS))), "proofs that a channel accepts, by channel; any unless stated";
}

impl System {
    /// Makes a system of a kind that needs nothing more: a database server, a cloud, an application, a host.
    ///
    /// # Example
    /// ```
    /// use zest_ledger::entry::{Kind, System};
    /// assert_eq!(System::of_kind("runner-1", Kind::HOST).kind(), Kind::HOST);
    /// ```
    #[track_caller]
    #[must_use]
    pub fn of_kind(id: &str, kind: Kind) -> Self {
        let mut system = Self::at(At::here(id.to_owned()));
        system.kind = Some(At::here(kind));
        system
    }

    /// Returns the keys that are stated and mean something on some kinds alone, each with where it is written.
    #[doc(hidden)]
    pub fn keys_of_some_kinds(&self) -> Vec<(SystemKey, Place)> {
        let Self {
            id: _,
            kind: _,
            name: _,
            remark: _,
            address: _,
            labels: _,
            within: _,
            vocabulary,
            no_command_set,
            authorisation,
            identity_sources,
            name_case,
            when_central_down,
            privileged_at_sign_in,
            own_levels,
            notices: _,
            accounts,
            database,
            accepts,
            more: _,
        } = self;
        let keys = [
            (SystemKey::Vocabulary, vocabulary.as_ref().map(|v| v.place)),
            (SystemKey::NoCommandSet, no_command_set.as_ref().map(|n| n.place)),
            (SystemKey::Authorisation, authorisation.as_ref().map(|a| a.place)),
            (SystemKey::IdentitySources, identity_sources.as_ref().map(|i| i.place)),
            (SystemKey::NameCase, name_case.as_ref().map(|n| n.place)),
            (SystemKey::WhenCentralDown, when_central_down.as_ref().map(|w| w.place)),
            (SystemKey::PrivilegedAtSignIn, privileged_at_sign_in.as_ref().map(|p| p.place)),
            (SystemKey::OwnLevels, own_levels.first().map(|o| o.command.place)),
            (SystemKey::Accounts, accounts.first().map(|a| a.login.place)),
            (SystemKey::Database, database.as_ref().map(|d| d.place)),
            (SystemKey::Accepts, accepts.first().map(|(channel, _)| channel.place)),
        ];
        keys.into_iter().filter_map(|(key, place)| Some((key, place?))).collect()
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

table! {
    /// A login kept on a system itself.
    ///
    /// # Example
    /// ```
    /// use zest_ledger::entry::Account;
    /// let account = Account::new("harbour-emergency").band(15, 15).used_by("group:network-leads");
    /// assert_eq!(account.login.value, "harbour-emergency");
    /// ```
    Account {
        /// The login.
        login: At<String>,
    }, ACCOUNT: "an account", "A login kept on a system itself.", &[];

    /// A free remark.
    remark: Option<At<String>> = "remark", Shape::Text, "a free remark";
    /// Start level and ceiling.
    band: Option<Band> = "band", Shape::Table(&BAND), "start level and ceiling";
    /// Who may use it besides the user of the same name: `user:ID` or `group:ID`.
    used_by: Vec<At<String>> = "used-by", PARTIES, "who may use it besides the user of the same name: \"user:ID\" or \"group:ID\"";
    /// Origins it is admitted from; any unless stated.
    origin: Option<Vec<At<String>>> = "origin", NETWORKS, "where it is admitted from: addresses, networks, \"origin:ID\"; anywhere unless stated";
    /// Whether it is locked.
    locked: Option<At<bool>> = "locked", Shape::Flag, "whether it is locked";
    /// The state of its credential; set unless stated.
    credential: Option<At<Credential>> = "credential", Shape::Words(Credential::WORDS), "the state of its credential; set unless stated";
    /// Whether it is kept for outages of the central source.
    emergency: Option<At<bool>> = "emergency", Shape::Flag, "whether it is kept for outages of the central source";
    /// Command sets of its own, which the device asks itself; without any, the levels of the commands decide.
    commands: Vec<At<String>> = "commands", TEXTS, "command sets of its own, which the device asks itself; without any, the levels of the commands decide";
}

impl Account {
    /// Makes an account without a band.
    #[track_caller]
    #[must_use]
    pub fn new(login: &str) -> Self {
        Self::at(At::here(login.to_owned()))
    }

    /// Sets start level and ceiling.
    #[track_caller]
    #[must_use]
    pub fn band(mut self, start: u8, ceiling: u8) -> Self {
        self.band = Some(Band::new(start, ceiling));
        self
    }

    /// Limits the origins it is admitted from: addresses, networks or `origin:ID`.
    ///
    /// # Example
    /// ```
    /// use zest_ledger::entry::Account;
    /// let account = Account::new("harbour-emergency").origins(&["192.0.2.0/24", "origin:shore"]);
    /// assert_eq!(account.origin.map(|origins| origins.len()), Some(2));
    /// ```
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
