//! Users, groups and named origins.

use jiff::Timestamp;

use super::{Channel, builders, words};
use crate::shape::{NETWORKS, PARTIES, Shape};
use crate::source::At;
use crate::written::table;

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

table! {
    /// A person or a program that signs in.
    ///
    /// # Example
    /// ```
    /// use zest_ledger::entry::{Proof, User};
    /// let user = User::new("watch-1").name("First watch officer").proof(Proof::Password);
    /// assert_eq!(user.id.value, "watch-1");
    /// ```
    User {
        /// The id, which is also the name given at sign-in.
        id: At<String>,
    }, USER: "a user", "A person or a program that signs in.", &[];

    /// The name shown to people.
    name: Option<At<String>> = "name", Shape::Text, "the name shown to people";
    /// A free remark.
    remark: Option<At<String>> = "remark", Shape::Text, "a free remark";
    /// Place in the organisation, such as `shore/network`.
    path: Option<At<String>> = "path", Shape::Text, "place in the organisation, such as \"shore/network\"";
    /// Person or service; a person unless stated.
    kind: Option<At<UserKind>> = "kind", Shape::Words(UserKind::WORDS), "person or service; person unless stated";
    /// Ways to prove identity.
    proofs: Vec<At<Proof>> = "proofs", Shape::List(&Shape::Words(Proof::WORDS)), "ways to prove identity; never the secret itself";
    /// Channels the user may come through; all unless stated.
    channels: Option<Vec<At<Channel>>> = "channels", Shape::List(&Shape::Words(Channel::WORDS)), "channels the user may come through; all unless stated";
    /// Whether the user is switched off.
    disabled: Option<At<bool>> = "disabled", Shape::Flag, "whether the user is switched off";
    /// First moment at which the user may sign in.
    from: Option<At<Timestamp>> = "from", Shape::Moment, "first moment of validity";
    /// First moment at which the user may no longer sign in.
    until: Option<At<Timestamp>> = "until", Shape::Moment, "end of validity: a date is good through its last moment, UTC";
    /// Whether the credential must be changed before anything else.
    must_change_credential: Option<At<bool>> = "must-change-credential", Shape::Flag, "whether the credential must be changed before anything else";
    /// Attributes that conditions compare.
    attributes: Vec<(At<String>, At<String>)> = "attributes", Shape::Map(&Shape::Text), "attributes that conditions compare";
    /// When the credential was set.
    credential_set: Option<At<Timestamp>> = "credential-set", Shape::Moment, "when the credential was set";
    /// How many characters the credential has.
    credential_length: Option<At<u32>> = "credential-length", Shape::Whole(0, 1_000), "how many characters the credential has; never the credential itself";
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
    ///
    /// # Example
    /// ```
    /// use zest_ledger::entry::{Channel, User};
    /// assert_eq!(User::new("batch").channels(&[Channel::Api]).channels.map(|list| list.len()), Some(1));
    /// ```
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

table! {
    /// What the credentials of some people must be like. The strictest of all rules that are for somebody counts.
    ///
    /// # Example
    /// ```
    /// use zest_ledger::entry::CredentialRule;
    /// let rule = CredentialRule::new("leads").of("group:leads").shortest(16).oldest_days(90);
    /// assert_eq!(rule.of.len(), 1);
    /// ```
    CredentialRule {
        /// The id.
        id: At<String>,
    }, CREDENTIAL_RULE: "a rule for credentials", "What the credentials of some people must be like. The strictest of all rules that are for somebody counts.", &[];

    /// Whose: `user:ID` or `group:ID`.
    of: Vec<At<String>> = required "of", PARTIES, "whose: \"user:ID\" or \"group:ID\"";
    /// How many characters it has at least.
    shortest: Option<At<u32>> = "shortest", Shape::Whole(0, 1_000), "how many characters it has at least";
    /// For how many days it is good.
    oldest_days: Option<At<u32>> = "oldest-days", Shape::Whole(1, 36_500), "for how many days it is good";
}

impl CredentialRule {
    /// Makes a rule for nobody.
    #[track_caller]
    #[must_use]
    pub fn new(id: &str) -> Self {
        Self::at(At::here(id.to_owned()))
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

table! {
    /// A set of users and groups.
    ///
    /// # Example
    /// ```
    /// use zest_ledger::entry::Group;
    /// let group = Group::new("shore-watch").member("user:watch-1").owner("user:watch-lead");
    /// assert_eq!(group.members.len(), 1);
    /// ```
    Group {
        /// The id.
        id: At<String>,
    }, GROUP: "a group", "A set of users and groups, with owners who answer for it.", &[];

    /// The name shown to people.
    name: Option<At<String>> = "name", Shape::Text, "the name shown to people";
    /// A free remark.
    remark: Option<At<String>> = "remark", Shape::Text, "a free remark";
    /// Members: `user:ID` or `group:ID`.
    members: Vec<At<String>> = "members", PARTIES, "\"user:ID\" or \"group:ID\"";
    /// Owners, who need not be members: `user:ID` or `group:ID`.
    owners: Vec<At<String>> = "owners", PARTIES, "\"user:ID\" or \"group:ID\"; owners need not be members";
    /// Distinguished name of the directory group this one mirrors.
    directory: Option<At<String>> = "directory", Shape::Text, "distinguished name of the directory group it mirrors";
}

impl Group {
    /// Makes a group without members.
    #[track_caller]
    #[must_use]
    pub fn new(id: &str) -> Self {
        Self::at(At::here(id.to_owned()))
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

table! {
    /// A named set of networks from which sessions come, such as a watch room.
    ///
    /// # Example
    /// ```
    /// use zest_ledger::entry::OriginNetworks;
    /// let room = OriginNetworks::new("watch-room").network("192.0.2.0/26");
    /// assert_eq!(room.networks[0].value, "192.0.2.0/26");
    /// ```
    OriginNetworks {
        /// The id, referred to as `origin:ID`.
        id: At<String>,
    }, ORIGIN: "an origin", "Named networks that sessions come from, such as a watch room.", &[];

    /// A free remark.
    remark: Option<At<String>> = "remark", Shape::Text, "a free remark";
    /// Addresses and networks in CIDR form.
    networks: Vec<At<String>> = required "networks", NETWORKS, "addresses and networks in CIDR form";
}

impl OriginNetworks {
    /// Makes a named origin without networks.
    #[track_caller]
    #[must_use]
    pub fn new(id: &str) -> Self {
        Self::at(At::here(id.to_owned()))
    }

    builders! {
        /// Adds an address or a network in CIDR form.
        network(cidr: &str) => networks adds cidr.to_owned();
    }
}
