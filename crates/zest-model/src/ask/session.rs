//! What is asked, and what is known about the session in which it would happen.

use std::net::IpAddr;

use jiff::{SignedDuration, Timestamp};

use crate::entry::{Channel, Proof};
use crate::source::visible;

use super::{Act, FactError};

/// Whether the central identity source can be reached.
///
/// # Example
/// ```
/// use zest_ledger::ask::{Central, Fact, Session};
/// let down = Session { central: Central::Down, ..Session::default() };
/// assert_eq!(Session::default().central, Central::Up);
/// assert_eq!(down.stated()[0].0, Fact::Central);
/// ```
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Hash)]
pub enum Central {
    /// It answers.
    #[default]
    Up,
    /// It does not.
    Down,
}

/// A proof of identity that was given in the session.
///
/// # Example
/// ```
/// use zest_ledger::{ask::Proven, entry::{Channel, Proof}};
/// let proven = Proven::parse(Proof::OneTimeCode, "10m by web")?;
/// assert_eq!(proven.channel, Some(Channel::Web));
/// assert_eq!(proven.written(), "10m by web");
/// assert!(Proven::parse(Proof::OneTimeCode, "soon").is_err());
/// # Ok::<(), zest_ledger::ask::FactError>(())
/// ```
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Proven {
    /// Which one.
    pub proof: Proof,
    /// How long ago.
    pub age: SignedDuration,
    /// The channel on which it was given; the session's own unless stated.
    pub channel: Option<Channel>,
}

impl Proven {
    /// Makes a proof that was given on the session's own channel.
    #[must_use]
    pub const fn new(proof: Proof, age: SignedDuration) -> Self {
        Self { proof, age, channel: None }
    }

    /// Reads how long ago a proof was given, and where that was another channel: `10m`, `10m by web`.
    ///
    /// # Errors
    /// What is expected instead.
    ///
    /// # Example
    /// ```
    /// use zest_ledger::{ask::Proven, entry::{Channel, Proof}};
    /// let proven = Proven::parse(Proof::OneTimeCode, "10m by web")?;
    /// assert_eq!(proven.channel, Some(Channel::Web));
    /// assert_eq!(proven.written(), "10m by web");
    /// # Ok::<(), zest_ledger::ask::FactError>(())
    /// ```
    pub fn parse(proof: Proof, text: &str) -> Result<Self, FactError> {
        Self::read(proof, text).map_err(FactError::new)
    }

    fn read(proof: Proof, text: &str) -> Result<Self, String> {
        let (age, channel) = text.split_once(" by ").map_or((text, None), |(age, channel)| (age, Some(channel)));
        let channel = channel
            .map(|c| Channel::from_word(c.trim()).ok_or_else(|| format!("expected one of {} behind `by`", Channel::WORDS.join(", "))));
        let age: SignedDuration = age.trim().parse().map_err(|_| "expected an age such as `10m`, `2h` or `10m by web`".to_owned())?;
        if age.is_negative() {
            return Err("the age is negative".to_owned());
        }
        Ok(Self { proof, age, channel: channel.transpose()? })
    }

    /// Returns the text that [`parse`](Self::parse) reads.
    #[must_use]
    pub fn written(&self) -> String {
        let by = self.channel.map_or(String::new(), |c| format!(" by {}", c.word()));
        format!("{:#}{by}", self.age)
    }
}

/// What is known about a session. A fact that is not stated is not assumed: `None` is "not known", not "no".
///
/// # Example
/// ```
/// use zest_ledger::ask::{Fact, Session};
/// let mut session = Session::default();
/// session.state(Fact::Channel, "web").expect("it is one");
/// session.state(Fact::Proofs, "one-time-code=5m").expect("it is one");
/// assert_eq!(session.stated(), [(Fact::Channel, vec!["web".to_owned()]), (Fact::Proofs, vec!["one-time-code=5m".to_owned()])]);
/// ```
#[derive(Clone, Debug, Default, PartialEq)]
pub struct Session {
    /// The moment of the question.
    pub at: Option<Timestamp>,
    /// The address the session comes from.
    pub origin: Option<IpAddr>,
    /// Whether it comes over a database server's own socket, from no address at all.
    pub local: bool,
    /// The channel it comes through.
    pub channel: Option<Channel>,
    /// Proofs of identity given so far; an empty list says that there were none.
    pub proofs: Option<Vec<Proven>>,
    /// The current level; the start level of the band unless stated.
    pub level: Option<u8>,
    /// The current mode; the start mode of the vocabulary unless stated.
    pub mode: Option<String>,
    /// The local account to be used, where the local source answers; found by the user unless stated.
    pub account: Option<String>,
    /// The roles that are active; an empty list says that none is. Unless stated, on a cloud and in an application all
    /// that are held, on a database server the default one; a database server has one at a time.
    pub active_roles: Option<Vec<String>>,
    /// As whom the session acts, link by link; the user himself if empty.
    pub acting: Vec<Act>,
    /// Attributes that the session states, such as a ticket.
    pub attributes: Vec<(String, String)>,
    /// First moment at which the session is over.
    pub expires: Option<Timestamp>,
    /// Whether the central source can be reached; up unless stated.
    pub central: Central,
    /// Whether the user has confirmed.
    pub confirmed: bool,
    /// The second person who agreed.
    pub approved_by: Option<String>,
    /// Proofs of identity that the second person gave, as `proofs` for the first.
    pub approver_proofs: Option<Vec<Proven>>,
    #[doc(hidden)]
    pub ear: super::Ear,
    #[doc(hidden)]
    pub more: crate::More,
}

/// How an action is written.
///
/// # Example
/// ```
/// use zest_ledger::{Question, ask::Form};
/// assert_eq!(Question::new("tariff-1", "ticketing", "select on table fares.price").form, Form::Line);
/// assert_eq!(Question::statement("tariff-1", "ticketing", "SELECT 1").form, Form::Statement);
/// ```
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Hash)]
pub enum Form {
    /// A command line, or a privilege on an object.
    #[default]
    Line,
    /// An SQL statement.
    Statement,
}

/// One question: may this user run this line on that system, in this session?
///
/// # Example
/// ```
/// use zest_ledger::Question;
/// let question = Question::new("watch-1", "sw-selkie-1", "show paths").level(7).from("192.0.2.10".parse()?);
/// assert_eq!(question.session.level, Some(7));
/// # Ok::<(), std::net::AddrParseError>(())
/// ```
#[derive(Clone, Debug, PartialEq)]
pub struct Question {
    /// The name given at sign-in.
    pub user: String,
    /// The system's id.
    pub system: String,
    /// The line as typed, the privilege (`select on table fares.price`), or the statement.
    pub line: String,
    /// Which of them it is.
    pub form: Form,
    /// The session.
    pub session: Session,
    #[doc(hidden)]
    pub more: crate::More,
}

/// Several roles are stated where a session has one.
#[doc(hidden)]
#[derive(Clone, Copy, Debug)]
pub struct SeveralRoles;

impl Session {
    /// Returns the one role that a database session has active: nothing where none is stated, `Some(None)` where it is
    /// stated that there is none.
    ///
    /// # Errors
    /// If several are stated: a database server has one active at a time.
    #[doc(hidden)]
    pub fn one_role(&self) -> Result<Option<Option<&str>>, SeveralRoles> {
        match self.active_roles.as_deref() {
            None => Ok(None),
            Some([]) => Ok(Some(None)),
            Some([role]) => Ok(Some(Some(role))),
            Some(_) => Err(SeveralRoles),
        }
    }
}

impl Question {
    /// Makes a question about a session of which nothing more is known.
    #[must_use]
    pub fn new(user: &str, system: &str, line: &str) -> Self {
        Self {
            user: user.to_owned(),
            system: system.to_owned(),
            line: line.to_owned(),
            form: Form::Line,
            session: Session::default(),
            more: crate::More,
        }
    }

    /// Returns the whole chain of identities: "night-1, as user batch, in role night-operator".
    ///
    /// # Example
    /// ```
    /// use zest_ledger::Question;
    /// let question = Question::new("night-1", "runner-1", "/opt/nightly/run").acting("account:batch".parse()?);
    /// assert_eq!(question.who(), "night-1, as account batch");
    /// # Ok::<(), zest_ledger::ask::FactError>(())
    /// ```
    #[must_use]
    pub fn who(&self) -> String {
        let links = self.session.acting.iter().map(ToString::to_string);
        std::iter::once(visible(&self.user)).chain(links).collect::<Vec<_>>().join(", ")
    }

    /// Makes a question about a known session.
    ///
    /// # Example
    /// ```
    /// use zest_ledger::{Question, ask::Session};
    /// let mut session = Session::default();
    /// session.level = Some(7);
    /// assert_eq!(Question::in_session("watch-1", "sw-selkie-1", "show paths", session).session.level, Some(7));
    /// ```
    #[must_use]
    pub fn in_session(user: &str, system: &str, line: &str, session: Session) -> Self {
        Self { session, ..Self::new(user, system, line) }
    }

    /// Makes a question about an SQL statement.
    ///
    /// # Example
    /// ```
    /// use zest_ledger::{Question, ask::Form};
    /// assert_eq!(Question::statement("purser-3", "ticketing", "select 1").form, Form::Statement);
    /// ```
    #[must_use]
    pub fn statement(user: &str, system: &str, sql: &str) -> Self {
        Self { form: Form::Statement, ..Self::new(user, system, sql) }
    }

    /// States the active role of a database session; `none` for none.
    ///
    /// # Example
    /// ```
    /// use zest_ledger::Question;
    /// let question = Question::new("purser-3", "ticketing", "select on table fares.price");
    /// assert_eq!(question.clone().active_role("counter").session.active_roles, Some(vec!["counter".to_owned()]));
    /// assert_eq!(question.active_role("none").session.active_roles, Some(Vec::new()));
    /// ```
    #[must_use]
    pub fn active_role(self, role: &str) -> Self {
        if role == "none" { self.active_roles(&[]) } else { self.active_roles(&[role]) }
    }

    /// States the moment.
    #[must_use]
    pub const fn at(mut self, moment: Timestamp) -> Self {
        self.session.at = Some(moment);
        self
    }

    /// States the address the session comes from.
    #[must_use]
    pub const fn from(mut self, origin: IpAddr) -> Self {
        self.session.origin = Some(origin);
        self
    }

    /// States that the session comes over a database server's own socket.
    ///
    /// # Example
    /// ```
    /// use zest_ledger::Question;
    /// assert!(Question::new("purser-3", "ticketing", "select on table fares.price").local().session.local);
    /// ```
    #[must_use]
    pub const fn local(mut self) -> Self {
        self.session.local = true;
        self
    }

    /// States the channel.
    ///
    /// # Example
    /// ```
    /// use zest_ledger::{Question, entry::Channel};
    /// let question = Question::new("mate-1", "skyquay", "records.list on dock").channel(Channel::Web);
    /// assert_eq!(question.session.channel, Some(Channel::Web));
    /// ```
    #[must_use]
    pub const fn channel(mut self, channel: Channel) -> Self {
        self.session.channel = Some(channel);
        self
    }

    /// Acts as another, after those that were stated before.
    #[must_use]
    pub fn acting(mut self, act: Act) -> Self {
        self.session.acting.push(act);
        self
    }

    /// States an attribute of the session.
    #[must_use]
    pub fn attribute(mut self, name: &str, value: &str) -> Self {
        self.session.attributes.push((name.to_owned(), value.to_owned()));
        self
    }

    /// States the first moment at which the session is over.
    ///
    /// # Example
    /// ```
    /// use zest_ledger::Question;
    /// let end = "2026-05-04T08:00:00Z".parse()?;
    /// assert_eq!(Question::new("mate-1", "rota", "plan on shift/early").expires(end).session.expires, Some(end));
    /// # Ok::<(), jiff::Error>(())
    /// ```
    #[must_use]
    pub const fn expires(mut self, moment: Timestamp) -> Self {
        self.session.expires = Some(moment);
        self
    }

    /// States the roles that are active; none if the list is empty.
    ///
    /// # Example
    /// ```
    /// use zest_ledger::Question;
    /// let question = Question::new("mate-1", "rota", "plan on shift/early").active_roles(&["planner", "reader"]);
    /// assert_eq!(question.session.active_roles.map(|roles| roles.len()), Some(2));
    /// ```
    #[must_use]
    pub fn active_roles(mut self, roles: &[&str]) -> Self {
        self.session.active_roles = Some(roles.iter().map(|&r| r.to_owned()).collect());
        self
    }

    /// Adds a proof of identity that was given on another channel.
    ///
    /// # Example
    /// ```
    /// use zest_ledger::Question;
    /// use zest_ledger::entry::{Channel, Proof};
    /// let hour_ago = jiff::SignedDuration::from_hours(1);
    /// let question = Question::new("mate-1", "skyquay", "records.list on dock").proof_on(Channel::Web, Proof::Password, hour_ago);
    /// assert_eq!(question.session.proofs.expect("one was added")[0].channel, Some(Channel::Web));
    /// ```
    #[must_use]
    pub fn proof_on(mut self, channel: Channel, proof: Proof, age: SignedDuration) -> Self {
        self.session.proofs.get_or_insert_default().push(Proven { proof, age, channel: Some(channel) });
        self
    }

    /// Adds a proof of identity and how long ago it was given.
    #[must_use]
    pub fn proof(mut self, proof: Proof, age: SignedDuration) -> Self {
        self.session.proofs.get_or_insert_default().push(Proven::new(proof, age));
        self
    }

    /// States the current level.
    #[must_use]
    pub const fn level(mut self, level: u8) -> Self {
        self.session.level = Some(level);
        self
    }

    /// States the current mode.
    #[must_use]
    pub fn mode(mut self, mode: &str) -> Self {
        self.session.mode = Some(mode.to_owned());
        self
    }

    /// States the local account to be used.
    #[must_use]
    pub fn account(mut self, login: &str) -> Self {
        self.session.account = Some(login.to_owned());
        self
    }

    /// Says that the central source is down.
    ///
    /// # Example
    /// ```
    /// use zest_ledger::{Question, ask::Central};
    /// let question = Question::new("harbour-emergency", "sw-selkie-1", "show paths").central_down();
    /// assert_eq!(question.session.central, Central::Down);
    /// ```
    #[must_use]
    pub const fn central_down(mut self) -> Self {
        self.session.central = Central::Down;
        self
    }

    /// Says that the user has confirmed.
    ///
    /// # Example
    /// ```
    /// use zest_ledger::Question;
    /// assert!(Question::new("mate-1", "rota", "drop on shift/early").confirmed().session.confirmed);
    /// ```
    #[must_use]
    pub const fn confirmed(mut self) -> Self {
        self.session.confirmed = true;
        self
    }

    /// Adds a proof of identity that the second person gave, and how long ago.
    ///
    /// # Example
    /// ```
    /// use zest_ledger::{Question, entry::Proof};
    /// let question = Question::new("mate-1", "skyquay", "records.delete on dock").approved_by("mate-2");
    /// let question = question.approver_proof(Proof::OneTimeCode, jiff::SignedDuration::from_mins(1));
    /// assert_eq!(question.session.approver_proofs.map(|proofs| proofs.len()), Some(1));
    /// ```
    #[must_use]
    pub fn approver_proof(mut self, proof: Proof, age: SignedDuration) -> Self {
        self.session.approver_proofs.get_or_insert_default().push(Proven::new(proof, age));
        self
    }

    /// Names the second person who agreed.
    #[must_use]
    pub fn approved_by(mut self, user: &str) -> Self {
        self.session.approved_by = Some(user.to_owned());
        self
    }
}
