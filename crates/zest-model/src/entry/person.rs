//! Users, groups and named origins.

use jiff::Timestamp;

use super::{Channel, builders, words};
use crate::source::At;

words! {
    /// Whether a user is a person or a program.
    UserKind {
        /// A human being.
        Person = "person",
        /// A program, a job runner, an integration.
        Service = "service",
    }
}

words! {
    /// A way to prove identity. The ledger records that there is one, never the secret itself.
    Proof {
        /// Something known by heart.
        Password = "password",
        /// A key pair.
        Key = "key",
        /// A code that is good once.
        OneTimeCode = "one-time-code",
        /// A sign-in vouched for by a directory.
        Directory = "directory",
        /// An X.509 certificate.
        Certificate = "certificate",
    }
}

/// A person or a program that signs in.
///
/// # Example
/// ```
/// use zest_ledger::entry::{Proof, User};
/// let user = User::new("watch-1").name("First watch officer").proof(Proof::Password);
/// assert_eq!(user.id.value, "watch-1");
/// ```
#[derive(Clone, Debug)]
#[non_exhaustive]
pub struct User {
    /// The id, which is also the name given at sign-in.
    pub id: At<String>,
    /// The name shown to people.
    pub name: Option<At<String>>,
    /// A free remark.
    pub remark: Option<At<String>>,
    /// Place in the organisation, such as `shore/network`.
    pub path: Option<At<String>>,
    /// Person or service; a person unless stated.
    pub kind: Option<At<UserKind>>,
    /// Ways to prove identity.
    pub proofs: Vec<At<Proof>>,
    /// Channels the user may come through; all unless stated.
    pub channels: Option<Vec<At<Channel>>>,
    /// Whether the user is switched off.
    pub disabled: Option<At<bool>>,
    /// First moment at which the user may sign in.
    pub from: Option<At<Timestamp>>,
    /// First moment at which the user may no longer sign in.
    pub until: Option<At<Timestamp>>,
    /// Whether the credential must be changed before anything else.
    pub must_change_credential: Option<At<bool>>,
    /// Attributes that conditions compare.
    pub attributes: Vec<(At<String>, At<String>)>,
    /// When the credential was set.
    pub credential_set: Option<At<Timestamp>>,
    /// How many characters the credential has.
    pub credential_length: Option<At<u32>>,
}

impl User {
    /// Returns whether the person is there at a moment: not disabled, begun, and not past the end.
    #[doc(hidden)]
    pub fn is_there(&self, at: Timestamp) -> bool {
        !self.disabled.as_ref().is_some_and(|d| d.value)
            && self.from.as_ref().is_none_or(|from| at >= from.value)
            && self.until.as_ref().is_none_or(|until| at < until.value)
    }

    /// Makes a user with nothing but an id.
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
            path: None,
            kind: None,
            proofs: Vec::new(),
            channels: None,
            disabled: None,
            from: None,
            until: None,
            must_change_credential: None,
            attributes: Vec::new(),
            credential_set: None,
            credential_length: None,
        }
    }

    builders! {
        /// Sets the name shown to people.
        name(text: &str) => name sets text.to_owned();
        /// Sets the place in the organisation.
        path(text: &str) => path sets text.to_owned();
        /// Says whether this is a person or a service.
        kind(kind: UserKind) => kind sets kind;
        /// Adds a way to prove identity.
        proof(proof: Proof) => proofs adds proof;
        /// Switches the user off or on.
        disabled(yes: bool) => disabled sets yes;
        /// Sets the first moment at which the user may sign in.
        valid_from(moment: Timestamp) => from sets moment;
        /// Sets the first moment at which the user may no longer sign in.
        valid_until(moment: Timestamp) => until sets moment;
        /// Says that the credential must be changed before anything else.
        must_change_credential(yes: bool) => must_change_credential sets yes;
    }

    /// Adds an attribute that conditions compare.
    #[track_caller]
    #[must_use]
    pub fn attribute(mut self, name: &str, value: &str) -> Self {
        self.attributes.push((At::here(name.to_owned()), At::here(value.to_owned())));
        self
    }

    /// Limits the channels the user may come through.
    #[track_caller]
    #[must_use]
    pub fn channels(mut self, channels: &[Channel]) -> Self {
        let mut list = Vec::with_capacity(channels.len());
        for &channel in channels {
            list.push(At::here(channel));
        }
        self.channels = Some(list);
        self
    }
}

/// What the credentials of some people must be like. The strictest of all rules that are for somebody counts.
///
/// # Example
/// ```
/// use zest_ledger::entry::CredentialRule;
/// let rule = CredentialRule::new("leads").of("group:leads").shortest(16).oldest_days(90);
/// assert_eq!(rule.of.len(), 1);
/// ```
#[derive(Clone, Debug)]
#[non_exhaustive]
pub struct CredentialRule {
    /// The id.
    pub id: At<String>,
    /// Whose: `user:ID` or `group:ID`.
    pub of: Vec<At<String>>,
    /// How many characters it has at least.
    pub shortest: Option<At<u32>>,
    /// For how many days it is good.
    pub oldest_days: Option<At<u32>>,
}

impl CredentialRule {
    /// Makes a rule for nobody.
    #[track_caller]
    #[must_use]
    pub fn new(id: &str) -> Self {
        Self::at(At::here(id.to_owned()))
    }

    pub(crate) const fn at(id: At<String>) -> Self {
        Self { id, of: Vec::new(), shortest: None, oldest_days: None }
    }

    builders! {
        /// Adds somebody it is for: `user:ID` or `group:ID`.
        of(reference: &str) => of adds reference.to_owned();
        /// Sets how many characters it has at least.
        shortest(characters: u32) => shortest sets characters;
        /// Sets for how many days it is good.
        oldest_days(days: u32) => oldest_days sets days;
    }
}

/// A set of users and groups.
///
/// # Example
/// ```
/// use zest_ledger::entry::Group;
/// let group = Group::new("shore-watch").member("user:watch-1").owner("user:watch-lead");
/// assert_eq!(group.members.len(), 1);
/// ```
#[derive(Clone, Debug)]
pub struct Group {
    /// The id.
    pub id: At<String>,
    /// The name shown to people.
    pub name: Option<At<String>>,
    /// A free remark.
    pub remark: Option<At<String>>,
    /// Members: `user:ID` or `group:ID`.
    pub members: Vec<At<String>>,
    /// Owners, who need not be members: `user:ID` or `group:ID`.
    pub owners: Vec<At<String>>,
    /// Distinguished name of the directory group this one mirrors.
    pub directory: Option<At<String>>,
    #[doc(hidden)]
    pub more: crate::More,
}

impl Group {
    /// Makes a group without members.
    #[track_caller]
    #[must_use]
    pub fn new(id: &str) -> Self {
        Self::at(At::here(id.to_owned()))
    }

    pub(crate) const fn at(id: At<String>) -> Self {
        Self { id, name: None, remark: None, members: Vec::new(), owners: Vec::new(), directory: None, more: crate::More }
    }

    builders! {
        /// Sets the name shown to people.
        name(text: &str) => name sets text.to_owned();
        /// Adds a member, `user:ID` or `group:ID`.
        member(reference: &str) => members adds reference.to_owned();
        /// Adds an owner, `user:ID` or `group:ID`.
        owner(reference: &str) => owners adds reference.to_owned();
        /// Links the group to a directory group by its distinguished name.
        directory(dn: &str) => directory sets dn.to_owned();
    }
}

/// A named set of networks from which sessions come, such as a watch room.
///
/// # Example
/// ```
/// use zest_ledger::entry::OriginNetworks;
/// let room = OriginNetworks::new("watch-room").network("192.0.2.0/26");
/// assert_eq!(room.networks[0].value, "192.0.2.0/26");
/// ```
#[derive(Clone, Debug)]
#[non_exhaustive]
pub struct OriginNetworks {
    /// The id, referred to as `origin:ID`.
    pub id: At<String>,
    /// A free remark.
    pub remark: Option<At<String>>,
    /// Addresses and networks in CIDR form.
    pub networks: Vec<At<String>>,
}

impl OriginNetworks {
    /// Makes a named origin without networks.
    #[track_caller]
    #[must_use]
    pub fn new(id: &str) -> Self {
        Self::at(At::here(id.to_owned()))
    }

    pub(crate) const fn at(id: At<String>) -> Self {
        Self { id, remark: None, networks: Vec::new() }
    }

    builders! {
        /// Adds an address or a network in CIDR form.
        network(cidr: &str) => networks adds cidr.to_owned();
    }
}
