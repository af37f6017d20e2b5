//! What reviews list, as plain data: rights on systems of each kind, and sessions.

use jiff::Timestamp;

use crate::ask::Refusal;
use crate::source::Location;

/// What a user may do on one system.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Effective {
    /// The system's id.
    pub system: String,
    /// The assignments that can apply, in the order in which they are tried: the first whose conditions hold
    /// decides alone. Those that the stated facts rule out are left out.
    pub entitlements: Vec<Entitlement>,
    /// Local accounts that the user may use.
    pub accounts: Vec<OnAccount>,
    /// Why no session can be opened, whatever the conditions; with the place.
    pub refused: Option<(String, Option<Location>)>,
    /// On a database server, what a session of each account holds: of the one that the stated origin leads to, or of
    /// every account of the user where none is stated.
    pub database: Vec<OnDatabase>,
    /// On a cloud or in an application, what a session holds.
    pub service: Option<OnService>,
    /// On a host, what may be run, from each account of the user.
    pub host: Vec<OnHost>,
    /// On a system of a kind from outside, what may be done.
    pub rights: Vec<OtherRight>,
    #[doc(hidden)]
    pub more: crate::More,
}

/// Something that may be done on a system of a kind from outside.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct OtherRight {
    /// What, in the terms of the kind: `take slot bridge`.
    pub action: String,
    /// Through what.
    pub through: String,
    /// Conditions that the stated facts leave open, and obligations, in words.
    pub conditions: Vec<String>,
    /// Where it is written.
    pub location: Option<Location>,
}

/// What one assignment gives on one system.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Entitlement {
    /// Through which role and group.
    pub through: String,
    /// Where the assignment is written.
    pub location: Location,
    /// Conditions that the stated facts leave open, in words.
    pub conditions: Vec<String>,
    /// Start level and ceiling.
    pub band: Option<(u8, u8)>,
    /// Levels that permitted elevations lead to, ascending.
    pub levels: Vec<u8>,
    /// The commands that can be run.
    pub commands: Vec<CommandRight>,
    #[doc(hidden)]
    pub more: crate::More,
}

/// One command that can be run.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct CommandRight {
    /// The command's line as the vocabulary writes it.
    pub line: String,
    /// The modes in which it can be run.
    pub modes: Vec<String>,
    /// The lowest level at which it can be run.
    pub level: u8,
    /// Whether all lines of this form are permitted.
    pub extent: Extent,
    /// The rule, or what else permits it.
    pub ground: String,
    /// Where that is written.
    pub location: Option<Location>,
    #[doc(hidden)]
    pub more: crate::More,
}

/// How much of a command is permitted.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Extent {
    /// Every line of its form.
    Every,
    /// Some; this one is not.
    Except(String),
}

/// What a user may do with a local account of a device.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct OnAccount {
    /// The login.
    pub login: String,
    /// The level at which its sessions start.
    pub start: u8,
    /// The highest level that they reach.
    pub ceiling: u8,
    /// Where it is written.
    pub location: Location,
    /// The commands that its own command sets permit; nothing where it has none, and the commands' own levels decide.
    pub commands: Option<Vec<CommandRight>>,
    #[doc(hidden)]
    pub more: crate::More,
}

impl Effective {
    /// Lists nothing on a system.
    #[must_use]
    pub fn nothing(system: &str) -> Self {
        Self {
            system: system.to_owned(),
            entitlements: Vec::new(),
            accounts: Vec::new(),
            refused: None,
            database: Vec::new(),
            service: None,
            host: Vec::new(),
            rights: Vec::new(),
            more: crate::More,
        }
    }
}

/// What a session holds on a database server.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct OnDatabase {
    /// The account.
    pub account: String,
    /// Why no session can be opened with it, and where that is written.
    pub refused: Option<(String, Option<Location>)>,
    /// The active role, if one is.
    pub role: Option<String>,
    /// What is held now.
    pub held: Vec<DataRight>,
    /// What each other role would bring once it is active: what it has that is not held now.
    pub once_active: Vec<(String, Vec<DataRight>)>,
    #[doc(hidden)]
    pub more: crate::More,
}

/// Something held on something.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct DataRight {
    /// On what, as a ledger writes it.
    pub on: String,
    /// The schema or database that it is in and the name there, for listings: `fares` and `table price`.
    pub within: Option<(String, String)>,
    /// The privileges, with their columns: `update (amount)`.
    pub privileges: Vec<String>,
    /// Whether they may be passed on.
    pub may_pass_on: bool,
    /// Through what.
    pub through: String,
    /// Where the grant is written; none for what the server gives by itself.
    pub location: Option<Location>,
    #[doc(hidden)]
    pub more: crate::More,
}

/// What a session holds on a cloud or in an application.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct OnService {
    /// As whom, where the session acts as another.
    pub acting: Option<String>,
    /// Grants and denies, the denies first.
    pub rights: Vec<ServiceRight>,
    /// As whom a session can go on, with the place that says so: "as user batch", "in role night-operator".
    pub may_become: Vec<(String, Location)>,
    #[doc(hidden)]
    pub more: crate::More,
}

/// A grant or a deny as it is held.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct ServiceRight {
    /// Whether it denies.
    pub is_deny: bool,
    /// The operations, as they are written.
    pub operations: String,
    /// On what, as it is written.
    pub on: String,
    /// Through what.
    pub through: String,
    /// Conditions that the stated facts leave open, in words.
    pub conditions: Vec<String>,
    /// Conditions that lift it, in words.
    pub lifted_by: Vec<String>,
    /// What must be done before it takes effect, in words.
    pub after: Vec<String>,
    /// Where it is written.
    pub location: Location,
    #[doc(hidden)]
    pub more: crate::More,
}

/// What a user may do on a host, from one account.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct OnHost {
    /// The account the user signs in with.
    pub account: String,
    /// Why nobody signs in with it.
    pub refused: Option<String>,
    /// Lines that may be run as other accounts, in the order in which they are tried.
    pub rules: Vec<HostRule>,
    #[doc(hidden)]
    pub more: crate::More,
}

/// A rule about lines that may be run as another account.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct HostRule {
    /// As which account.
    pub target: String,
    /// Whether it permits.
    pub allows: bool,
    /// The line as a pattern; `...` for all others.
    pub line: String,
    /// Whether identity must be proven.
    pub proof: bool,
    /// Where it is written.
    pub location: Location,
    #[doc(hidden)]
    pub more: crate::More,
}

/// A session as it stands: who is behind it, and what it has.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct SessionView {
    /// The whole chain in one line: "night-1, as account batch on runner-1, in role night-operator".
    pub line: String,
    /// Who signed in and proved identity.
    pub person: String,
    /// Whose rights the session has: the last of the chain.
    pub acting: String,
    /// The account, where the system has accounts.
    pub account: Option<String>,
    /// Roles that are active.
    pub roles: Vec<String>,
    /// The privilege level at which it starts or is stated to be.
    pub level: Option<u8>,
    /// The channel, if it is stated.
    pub channel: Option<String>,
    /// Proofs of identity with their ages, if they are stated.
    pub proofs: Option<Vec<String>>,
    /// The first moment at which it is over.
    pub expires: Option<Timestamp>,
    /// Why there is no such session.
    pub refused: Option<(Refusal, String, Option<Location>)>,
    #[doc(hidden)]
    pub more: crate::More,
}
