//! The facts of a session, each once: how an option, a JSON question and an answer state it, and which kinds hear it.
//!
//! A fact that is added to [`Session`] must be added here, or nothing compiles: [`Session::stated`] takes a session
//! apart field by field, and every other function goes over [`Fact`] exhaustively.

use super::{Act, Central, FactError, Proven, Session};
use crate::entry::{Channel, Proof};
use crate::source::visible;

/// One fact of a session.
///
/// # Example
/// ```
/// use zest_ledger::ask::{Fact, Session};
/// let mut session = Session::default();
/// session.state(Fact::Proofs, "one-time-code=10m by web")?;
/// assert_eq!(session.stated(), [(Fact::Proofs, vec!["one-time-code=10m by web".to_owned()])]);
/// assert!(session.state(Fact::Level, "16").is_err());
/// # Ok::<(), zest_ledger::ask::FactError>(())
/// ```
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash)]
pub enum Fact {
    /// The moment.
    At,
    /// The address it comes from.
    Origin,
    /// That it comes over a database server's own socket.
    Local,
    /// The channel.
    Channel,
    /// Proofs of identity.
    Proofs,
    /// The level.
    Level,
    /// The mode.
    Mode,
    /// The account.
    Account,
    /// The active roles.
    Roles,
    /// The acting chain.
    Acting,
    /// Attributes of the session.
    Attributes,
    /// When it is over.
    Expires,
    /// Whether the central source is up.
    Central,
    /// That the user confirmed.
    Confirmed,
    /// The second person.
    ApprovedBy,
    /// The second person's proofs.
    ApproverProofs,
}

/// How often a fact is stated, and as what.
///
/// # Example
/// ```
/// use zest_ledger::ask::{Fact, FactForm};
/// assert_eq!(Fact::At.form(), FactForm::One("MOMENT"));
/// assert_eq!(Fact::Confirmed.form(), FactForm::Flag);
/// ```
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum FactForm {
    /// It holds or is not stated.
    Flag,
    /// Once, as a value of this name.
    One(&'static str),
    /// Any number of times, each as a value of this name.
    Many(&'static str),
}

impl Fact {
    /// All facts, in the order in which they are shown.
    pub const ALL: [Self; 16] = [
        Self::At,
        Self::Origin,
        Self::Local,
        Self::Channel,
        Self::Proofs,
        Self::Level,
        Self::Mode,
        Self::Account,
        Self::Roles,
        Self::Acting,
        Self::Attributes,
        Self::Expires,
        Self::Central,
        Self::Confirmed,
        Self::ApprovedBy,
        Self::ApproverProofs,
    ];

    /// Returns the key of a JSON question.
    #[must_use]
    pub const fn key(self) -> &'static str {
        match self {
            Self::At => "at",
            Self::Origin => "from",
            Self::Local => "local",
            Self::Channel => "by",
            Self::Proofs => "proofs",
            Self::Level => "level",
            Self::Mode => "mode",
            Self::Account => "account",
            Self::Roles => "roles",
            Self::Acting => "acting",
            Self::Attributes => "attributes",
            Self::Expires => "expires",
            Self::Central => "central",
            Self::Confirmed => "confirmed",
            Self::ApprovedBy => "approved-by",
            Self::ApproverProofs => "approver-proofs",
        }
    }

    /// Returns the option of a command line, without its dashes.
    ///
    /// # Example
    /// ```
    /// use zest_ledger::ask::Fact;
    /// assert_eq!((Fact::Proofs.key(), Fact::Proofs.option()), ("proofs", "proof"), "an option states one of them");
    /// ```
    #[must_use]
    pub const fn option(self) -> &'static str {
        match self {
            Self::Proofs => "proof",
            Self::Roles => "role",
            Self::Attributes => "attribute",
            Self::Central => "central-down",
            Self::ApproverProofs => "approver-proof",
            Self::At
            | Self::Origin
            | Self::Local
            | Self::Channel
            | Self::Level
            | Self::Mode
            | Self::Account
            | Self::Acting
            | Self::Expires
            | Self::Confirmed
            | Self::ApprovedBy => self.key(),
        }
    }

    /// Returns how it is stated.
    #[must_use]
    pub const fn form(self) -> FactForm {
        match self {
            Self::At | Self::Expires => FactForm::One("MOMENT"),
            Self::Origin => FactForm::One("ADDRESS"),
            Self::Channel => FactForm::One("CHANNEL"),
            Self::Level => FactForm::One("0-15"),
            Self::Mode => FactForm::One("MODE"),
            Self::Account => FactForm::One("LOGIN"),
            Self::ApprovedBy => FactForm::One("USER"),
            Self::Proofs | Self::ApproverProofs => FactForm::Many("PROOF[=AGE]"),
            Self::Roles => FactForm::Many("ROLE"),
            Self::Acting => FactForm::Many("LINK"),
            Self::Attributes => FactForm::Many("NAME=VALUE"),
            Self::Local | Self::Central | Self::Confirmed => FactForm::Flag,
        }
    }

    /// Returns what it says, for a help text.
    #[must_use]
    pub const fn about(self) -> &'static str {
        match self {
            Self::At => "The moment, with its offset: 2026-11-25T09:00:00+01:00",
            Self::Origin => "The address the session comes from",
            Self::Local => "The session comes over a database server's own socket",
            Self::Channel => "The channel it comes through: terminal, web, api",
            Self::Proofs => {
                "A proof of identity and its age: `one-time-code`, `key=2h`, on another channel `key=\"2h by web\"`; `none` for none"
            }
            Self::Level => "The current level; the start of the band unless stated",
            Self::Mode => "The current mode; the start mode unless stated",
            Self::Account => "The account to use: a local one where the local source answers, or one of a server or host",
            Self::Roles => "A role that is active, on a database server, a cloud or in an application; `none` for none",
            Self::Acting => {
                "As whom the session acts, link by link: `user:ID`, `role:ID@MOMENT`, `account:HOST/LOGIN LINE`, `shell:HOST/LOGIN`"
            }
            Self::Attributes => "An attribute that the session states, such as `ticket=LF-7`",
            Self::Expires => "The first moment at which the session is over",
            Self::Central => "The central identity source cannot be reached",
            Self::Confirmed => "The user has confirmed",
            Self::ApprovedBy => "The second person who agreed",
            Self::ApproverProofs => "A proof of identity that the second person gave, and its age",
        }
    }

    const fn bit(self) -> u32 {
        1 << self as u32
    }
}

// The bits of a session are read back by their places in the list: whoever puts it in another order is told so here.
const _: () = {
    let mut place = 0;
    while place < Fact::ALL.len() {
        assert!(Fact::ALL[place] as usize == place, "`Fact::ALL` is in the order of the declaration");
        place += 1;
    }
};

/// Sets a fact that is stated once.
fn once<T>(slot: &mut Option<T>, value: T) -> Result<(), String> {
    if slot.is_some() {
        return Err("it is stated twice".to_owned());
    }
    *slot = Some(value);
    Ok(())
}

/// Sets a fact that holds.
fn flag(slot: &mut bool) -> Result<(), String> {
    if std::mem::replace(slot, true) { Err("it is stated twice".to_owned()) } else { Ok(()) }
}

/// Adds to a list for which `none` says that it is empty.
fn several<T>(slot: &mut Option<Vec<T>>, text: &str, read: impl FnOnce(&str) -> Result<T, String>) -> Result<(), String> {
    match (slot.as_mut(), text) {
        (Some(list), "none") => Err(if list.is_empty() { "it is stated twice" } else { "`none` stands alone" }.to_owned()),
        (None, "none") => {
            *slot = Some(Vec::new());
            Ok(())
        }
        (Some(list), _) if list.is_empty() => Err("`none` stands alone".to_owned()),
        (list, _) => {
            let value = read(text)?;
            match list {
                Some(list) => list.push(value),
                None => *slot = Some(vec![value]),
            }
            Ok(())
        }
    }
}

fn moment(text: &str) -> Result<jiff::Timestamp, String> {
    text.parse()
        .map_err(|_| "expected a date and time with its offset, such as 2026-11-25T09:00:00+01:00 or 2026-11-25T08:00:00Z".to_owned())
}

fn proof(text: &str) -> Result<Proven, String> {
    let (name, age) = text.split_once('=').unwrap_or((text, "0s"));
    let proof = Proof::from_word(name).ok_or_else(|| format!("`{}` is not one of {}, none", visible(name), Proof::WORDS.join(", ")))?;
    Proven::parse(proof, age).map_err(|error| format!("`{name}`: {error}"))
}

fn written(proofs: Option<&Vec<Proven>>) -> Option<Vec<String>> {
    let one = |p: &Proven| format!("{}={}", p.proof.word(), p.written());
    proofs.map(|list| if list.is_empty() { vec!["none".to_owned()] } else { list.iter().map(one).collect() })
}

impl Session {
    /// States a fact, as an option of a command line does; a flag has no text. A fact of which there is one cannot be
    /// stated twice, nor an attribute of one name.
    ///
    /// # Errors
    /// What is expected instead.
    pub fn state(&mut self, fact: Fact, text: &str) -> Result<(), FactError> {
        self.stated_as(fact, text).map_err(FactError::new)
    }

    fn stated_as(&mut self, fact: Fact, text: &str) -> Result<(), String> {
        match fact {
            Fact::At => once(&mut self.at, moment(text)?),
            Fact::Origin => once(&mut self.origin, text.parse().map_err(|_| "expected an address".to_owned())?),
            Fact::Local => flag(&mut self.local),
            Fact::Channel => {
                let channel = Channel::from_word(text).ok_or_else(|| format!("expected one of {}", Channel::WORDS.join(", ")))?;
                once(&mut self.channel, channel)
            }
            Fact::Proofs => several(&mut self.proofs, text, proof),
            Fact::Level => {
                let level = text.parse().ok().filter(|level| *level <= 15 && !text.starts_with('+'));
                once(&mut self.level, level.ok_or_else(|| "expected a whole number from 0 to 15".to_owned())?)
            }
            Fact::Mode => once(&mut self.mode, text.to_owned()),
            Fact::Account => once(&mut self.account, text.to_owned()),
            Fact::Roles => several(&mut self.active_roles, text, |role| Ok(role.to_owned())),
            Fact::Acting => {
                self.acting.push(text.parse::<Act>().map_err(|e| e.to_string())?);
                Ok(())
            }
            Fact::Attributes => {
                let (name, value) =
                    text.split_once('=').filter(|(name, _)| !name.is_empty()).ok_or("expected NAME=VALUE, such as ticket=LF-7")?;
                if self.attributes.iter().any(|(known, _)| known == name) {
                    return Err(format!("the attribute `{}` is stated twice", visible(name)));
                }
                self.attributes.push((name.to_owned(), value.to_owned()));
                Ok(())
            }
            Fact::Expires => once(&mut self.expires, moment(text)?),
            Fact::Central => {
                if std::mem::replace(&mut self.central, Central::Down) == Central::Down {
                    return Err("it is stated twice".to_owned());
                }
                Ok(())
            }
            Fact::Confirmed => flag(&mut self.confirmed),
            Fact::ApprovedBy => once(&mut self.approved_by, text.to_owned()),
            Fact::ApproverProofs => several(&mut self.approver_proofs, text, proof),
        }
    }

    /// Returns every fact that is stated, each with the texts that [`state`](Self::state) reads; a flag has none.
    #[must_use]
    pub fn stated(&self) -> Vec<(Fact, Vec<String>)> {
        let Self {
            at,
            origin,
            local,
            channel,
            proofs,
            level,
            mode,
            account,
            active_roles,
            acting,
            attributes,
            expires,
            central,
            confirmed,
            approved_by,
            approver_proofs,
            ear: _,
            more: _,
        } = self;
        let flag = |holds: bool| holds.then(Vec::new);
        let one = |text: Option<String>| text.map(|t| vec![t]);
        let some = |list: Vec<String>| (!list.is_empty()).then_some(list);
        let roles = active_roles.as_ref().map(|list| if list.is_empty() { vec!["none".to_owned()] } else { list.clone() });
        [
            (Fact::At, one(at.map(|at| at.to_string()))),
            (Fact::Origin, one(origin.map(|o| o.to_string()))),
            (Fact::Local, flag(*local)),
            (Fact::Channel, one(channel.map(|c| c.word().to_owned()))),
            (Fact::Proofs, written(proofs.as_ref())),
            (Fact::Level, one(level.map(|l| l.to_string()))),
            (Fact::Mode, one(mode.clone())),
            (Fact::Account, one(account.clone())),
            (Fact::Roles, roles),
            (Fact::Acting, some(acting.iter().map(Act::written).collect())),
            (Fact::Attributes, some(attributes.iter().map(|(k, v)| format!("{k}={v}")).collect())),
            (Fact::Expires, one(expires.map(|at| at.to_string()))),
            (Fact::Central, flag(*central == Central::Down)),
            (Fact::Confirmed, flag(*confirmed)),
            (Fact::ApprovedBy, one(approved_by.clone())),
            (Fact::ApproverProofs, written(approver_proofs.as_ref())),
        ]
        .into_iter()
        .filter_map(|(fact, texts)| Some((fact, texts?)))
        .collect()
    }

    /// Takes one fact from another session, also that it is not stated there.
    ///
    /// # Example
    /// ```
    /// use zest_ledger::ask::{Fact, Session};
    /// let (mut session, mut from) = (Session::default(), Session::default());
    /// (from.level, from.confirmed) = (Some(7), true);
    /// session.take(Fact::Level, &from);
    /// assert_eq!((session.level, session.confirmed), (Some(7), false));
    /// ```
    pub fn take(&mut self, fact: Fact, from: &Self) {
        match fact {
            Fact::At => self.at = from.at,
            Fact::Origin => self.origin = from.origin,
            Fact::Local => self.local = from.local,
            Fact::Channel => self.channel = from.channel,
            Fact::Proofs => self.proofs.clone_from(&from.proofs),
            Fact::Level => self.level = from.level,
            Fact::Mode => self.mode.clone_from(&from.mode),
            Fact::Account => self.account.clone_from(&from.account),
            Fact::Roles => self.active_roles.clone_from(&from.active_roles),
            Fact::Acting => self.acting.clone_from(&from.acting),
            Fact::Attributes => self.attributes.clone_from(&from.attributes),
            Fact::Expires => self.expires = from.expires,
            Fact::Central => self.central = from.central,
            Fact::Confirmed => self.confirmed = from.confirmed,
            Fact::ApprovedBy => self.approved_by.clone_from(&from.approved_by),
            Fact::ApproverProofs => self.approver_proofs.clone_from(&from.approver_proofs),
        }
    }

    /// Says which facts contradict each other or hang in the air, if any do.
    ///
    /// # Example
    /// ```
    /// use zest_ledger::ask::Session;
    /// let mut session = Session::default();
    /// session.local = true;
    /// assert_eq!(session.contradiction(), None);
    /// session.origin = "192.0.2.10".parse().ok();
    /// assert!(session.contradiction().is_some_and(|why| why.contains("state one of both")));
    /// ```
    #[must_use]
    pub fn contradiction(&self) -> Option<&'static str> {
        if self.local && self.origin.is_some() {
            Some("a session over the server's own socket comes from no address: state one of both")
        } else if self.approver_proofs.is_some() && self.approved_by.is_none() {
            Some("proofs of a second person are stated, and no second person")
        } else {
            None
        }
    }

    /// Returns the facts that are stated, without their texts: a decision looks at this before anything else, so it costs no
    /// allocation.
    #[doc(hidden)]
    pub fn stated_facts(&self) -> impl Iterator<Item = Fact> + use<> {
        let mut mask = self.mask();
        std::iter::from_fn(move || {
            let fact = *Fact::ALL.get(mask.trailing_zeros() as usize)?;
            mask &= mask - 1;
            Some(fact)
        })
    }

    /// Which facts are stated, one bit each.
    fn mask(&self) -> u32 {
        let Self {
            at,
            origin,
            local,
            channel,
            proofs,
            level,
            mode,
            account,
            active_roles,
            acting,
            attributes,
            expires,
            central,
            confirmed,
            approved_by,
            approver_proofs,
            ear: _,
            more: _,
        } = self;
        let bit = |fact: Fact, is_stated: bool| if is_stated { fact.bit() } else { 0 };
        bit(Fact::At, at.is_some())
            | bit(Fact::Origin, origin.is_some())
            | bit(Fact::Local, *local)
            | bit(Fact::Channel, channel.is_some())
            | bit(Fact::Proofs, proofs.is_some())
            | bit(Fact::Level, level.is_some())
            | bit(Fact::Mode, mode.is_some())
            | bit(Fact::Account, account.is_some())
            | bit(Fact::Roles, active_roles.is_some())
            | bit(Fact::Acting, !acting.is_empty())
            | bit(Fact::Attributes, !attributes.is_empty())
            | bit(Fact::Expires, expires.is_some())
            | bit(Fact::Central, *central == Central::Down)
            | bit(Fact::Confirmed, *confirmed)
            | bit(Fact::ApprovedBy, approved_by.is_some())
            | bit(Fact::ApproverProofs, approver_proofs.is_some())
    }
}
