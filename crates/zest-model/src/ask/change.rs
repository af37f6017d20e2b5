//! Changes of a session or of a ledger, small enough to be tried.

use std::net::IpAddr;

use jiff::Timestamp;
use serde::{Deserialize as _, Serialize, Serializer};
use serde_json::{Value, json};

use super::{Act, Central, Fact, Proven, Question, Session, Width};
use crate::entry::{Channel, Proof};
use crate::source::Location;

/// Writes the changes, and their JSON form both ways.
macro_rules! changes {
    ($($(#[doc = $doc:literal])+ $name:ident
        $( ( $one:ty ) )?
        $( { $( $(#[doc = $field_doc:literal])+ $field:ident: $ty:ty, )+ } )?
        = $word:literal $of:ident;)+) => {
        /// One change of a session or of a ledger. It names whatever it is about, so it can be kept, sent and applied elsewhere.
        ///
        /// # Example
        /// ```
        /// use zest_ledger::ask::Change;
        /// let change = Change::JoinGroup { group: "shore-watch".to_owned(), user: "watch-1".to_owned() };
        /// let text = serde_json::to_string(&change).expect("it can be written");
        /// assert_eq!(text, r#"{"format":1,"change":"join-group","group":"shore-watch","user":"watch-1"}"#);
        /// assert_eq!(serde_json::from_str::<Change>(&text).expect("it can be read"), change);
        /// ```
        #[derive(Clone, Debug, PartialEq)]
        pub enum Change {
            $($(#[doc = $doc])+ $name $( ( $one ) )? $( { $( $(#[doc = $field_doc])+ $field: $ty, )+ } )?,)+
        }

        impl Change {
            /// The words of all changes.
            pub const WORDS: &'static [&'static str] = &[$($word,)+];

            /// Returns the word for this sort of change.
            #[must_use]
            pub const fn word(&self) -> &'static str {
                match self { $(Self::$name { .. } => $word,)+ }
            }

            /// Returns whether the ledger need not change for it.
            ///
            /// # Example
            /// ```
            /// use zest_ledger::ask::Change;
            /// assert!(Change::Level(7).is_of_session());
            /// ```
            #[must_use]
            pub const fn is_of_session(&self) -> bool {
                matches!(self.width(), Width::Session)
            }

            /// Returns how far such a change reaches at least; what it is about may make it wider.
            #[must_use]
            pub const fn width(&self) -> Width {
                match self { $(Self::$name { .. } => Width::$of,)+ }
            }

            /// Returns its word under `change`, and what it is about.
            pub(crate) fn fields(&self) -> Fields {
                let mut fields = vec![("change", Value::from(self.word()))];
                match self {
                    $(
                        #[allow(unused_variables, reason = "some changes say nothing more")]
                        Self::$name { $( 0: changes!(@bind value $one) )? $( $( $field, )+ )? } => {
                            $( fields.push(("value", <$one as Field>::put(value))); )?
                            $( $( fields.push((stringify!($field), <$ty as Field>::put($field))); )+ )?
                        }
                    )+
                }
                Fields(fields)
            }

            /// Returns each change: its word, what it is, and the schema of what it is about.
            #[cfg(feature = "schema")]
            pub(crate) fn shapes() -> Vec<(&'static str, &'static str, Vec<(&'static str, Value)>)> {
                vec![$((
                    $word,
                    concat!($($doc),+),
                    vec![$( (changes!(@value $one), <$one as Field>::schema()), )? $( $( (stringify!($field), <$ty as Field>::schema()), )+ )?],
                ),)+]
            }

            /// Reads what [`fields`](Self::fields) writes, or says what is expected instead.
            pub(crate) fn read(json: &Value) -> Result<Self, String> {
                let word = json["change"].as_str().ok_or("expected an object with the key `change`")?;
                let known: &[&str] = match word {
                    $($word => &["change", $( changes!(@value $one), )? $( $( stringify!($field), )+ )?],)+
                    _ => return Err(format!("`{}` is no change; these are: {}", crate::source::visible(word), Self::WORDS.join(", "))),
                };
                if let Some(key) = json.as_object().into_iter().flatten().map(|(key, _)| key).find(|k| !known.contains(&k.as_str())) {
                    return Err(format!("`{word}` has no key `{}`; its keys are: {}", crate::source::visible(key), known.join(", ")));
                }
                match word {
                    $($word => Ok(Self::$name { $( 0: take::<$one>(json, "value")? )? $( $( $field: take::<$ty>(json, stringify!($field))?, )+ )? }),)+
                    _ => Err("no such change".to_owned()),
                }
            }
        }
    };
    (@bind $value:ident $one:ty) => { $value };
    (@value $one:ty) => { "value" };
}

changes! {
    /// Ask as another user.
    User(String) = "user" Session;
    /// Ask about another system.
    System(String) = "system" Session;
    /// Type another line.
    Line(String) = "line" Session;
    /// Be at a level.
    Level(u8) = "level" Session;
    /// Be in a mode; in the start mode if none.
    Mode(Option<String>) = "mode" Session;
    /// Come from an address.
    Origin(IpAddr) = "origin" Session;
    /// Come through a channel.
    Channel(Channel) = "channel" Session;
    /// Do it at a moment.
    Moment(Timestamp) = "moment" Session;
    /// Give a proof of identity just before.
    Proof(Proof) = "proof" Session;
    /// Give only this proof of identity.
    OnlyProof(Proof) = "only-proof" Session;
    /// Wait until the central source is back.
    CentralUp = "central-up" Session;
    /// Use no local account.
    NoAccount = "no-account" Session;
    /// Use an account of a database server.
    Account(String) = "account" Session;
    /// Have a role active; `none` for none.
    ActiveRole(String) = "active-role" Session;
    /// Have another second person.
    SecondPerson(String) = "second-person" Session;
    /// Have the second person give a proof of identity just before.
    ApproverProof(Proof) = "approver-proof" Session;
    /// State an attribute of the session.
    Attribute {
        /// Its name.
        name: String,
        /// Its value.
        value: String,
    } = "attribute" Session;
    /// Act as somebody else in one link fewer, or more, or another.
    Acting(Vec<Act>) = "acting" Session;
    /// Have only these roles active.
    ActiveRoles(Vec<String>) = "active-roles" Session;
    /// On a host: sign in with their own account, and go on from there.
    FromOwn {
        /// The own account.
        account: String,
        /// The links.
        acting: Vec<Act>,
    } = "from-own" Session;
    /// Leave an attribute of the session out.
    NoAttribute(String) = "no-attribute" Session;
    /// Leave facts of the session out.
    Unstated(Vec<Fact>) = "unstated" Session;
    /// Sign in anew.
    NewSession = "new-session" Session;

    /// Put a rule at the top of a command set.
    AllowFirst {
        /// The set.
        set: String,
        /// The pattern to permit.
        pattern: String,
    } = "allow-first" Narrow;
    /// Give a role a band with this ceiling, or raise its ceiling.
    Ceiling {
        /// The role.
        role: String,
        /// The ceiling.
        to: u8,
    } = "ceiling" Wide;
    /// Raise the ceiling of a local account.
    AccountCeiling {
        /// The device.
        system: String,
        /// The login.
        login: String,
        /// The ceiling.
        to: u8,
    } = "account-ceiling" Wide;
    /// Lower the device's own level for a command.
    OwnLevel {
        /// The device.
        system: String,
        /// The command's line as the vocabulary writes it.
        command: String,
        /// The level.
        to: u8,
    } = "own-level" Wide;
    /// Attach a command set to a role.
    Attach {
        /// The role.
        role: String,
        /// The set.
        set: String,
    } = "attach" Wide;
    /// Make an account or role of a database server a member of a role.
    JoinRole {
        /// The server.
        system: String,
        /// The member.
        member: String,
        /// The role.
        role: String,
    } = "join-role" Wide;
    /// Grant something on a database server.
    Grant {
        /// The server.
        system: String,
        /// The privileges.
        privileges: Vec<String>,
        /// The columns; the whole object if none.
        columns: Vec<String>,
        /// The object.
        on: String,
        /// The role that gets it.
        to: String,
        /// With the right to pass it on.
        regrant: bool,
    } = "grant" Narrow;
    /// Grant an operation on a cloud or in an application.
    Allow {
        /// The cloud or application.
        system: String,
        /// The operation.
        operation: String,
        /// The resource.
        on: String,
        /// Who gets it: `user:ID`, `group:ID` or `role:ID`.
        to: String,
    } = "allow" Narrow;
    /// Leave an operation out of the deny that is written at a place.
    LeaveOut {
        /// Where the deny is written.
        at: Location,
        /// The operation.
        operation: String,
    } = "leave-out" WiderThanNeeded;
    /// Have the ceiling that is written at a place let an operation through.
    LetThrough {
        /// Where the ceiling is written.
        at: Location,
        /// The operation.
        operation: String,
    } = "let-through" WiderThanNeeded;
    /// Let a user act as another.
    LetActAs {
        /// The cloud or application.
        system: String,
        /// As whom.
        target: String,
        /// Who may.
        user: String,
    } = "let-act-as" WiderThanNeeded;
    /// Have a role admit a user.
    Admit {
        /// The role.
        role: String,
        /// The user.
        user: String,
    } = "admit" Wide;
    /// Make a user a member of a group.
    JoinGroup {
        /// The group.
        group: String,
        /// The user.
        user: String,
    } = "join-group" Wide;
    /// Let a user use an account of a system.
    UseAccount {
        /// The system.
        system: String,
        /// The account.
        account: String,
        /// The user.
        user: String,
    } = "use-account" WiderThanNeeded;
    /// Unlock an account of a device or host.
    UnlockAccount {
        /// The system.
        system: String,
        /// The login.
        login: String,
    } = "unlock-account" Narrow;
    /// Set the credential of a local account of a device.
    SetCredential {
        /// The device.
        system: String,
        /// The login.
        login: String,
    } = "set-credential" Narrow;
    /// Switch a user on.
    Enable {
        /// The user.
        user: String,
    } = "enable" Narrow;
    /// Take a user's validity bounds away.
    Unbind {
        /// The user.
        user: String,
    } = "unbind" Narrow;
    /// Take the validity bounds of the assignment, grant or account away that is written, or of which one is written, at a place.
    Prolong {
        /// The place.
        at: Location,
    } = "prolong" Narrow;
    /// Give a user a way to prove identity.
    GiveProof {
        /// The user.
        user: String,
        /// The way.
        proof: Proof,
    } = "give-proof" Narrow;
    /// Record that a user has changed the credential.
    CredentialChanged {
        /// The user.
        user: String,
    } = "credential-changed" Narrow;
}

/// What a change says, in order.
pub(crate) struct Fields(Vec<(&'static str, Value)>);

impl Serialize for Fields {
    fn serialize<S: Serializer>(&self, serializer: S) -> Result<S::Ok, S::Error> {
        serializer.collect_map(self.0.iter().map(|(key, value)| (*key, value)))
    }
}

/// What a change is about, as JSON.
trait Field: Sized {
    fn put(&self) -> Value;
    fn take(json: &Value) -> Option<Self>;
    /// The JSON Schema of it.
    #[cfg(feature = "schema")]
    fn schema() -> Value;
}

fn take<T: Field>(json: &Value, key: &str) -> Result<T, String> {
    T::take(&json[key]).ok_or_else(|| format!("the key `{key}` is missing, or is not what it should be"))
}

impl Field for String {
    fn put(&self) -> Value {
        json!(self)
    }

    fn take(json: &Value) -> Option<Self> {
        json.as_str().map(str::to_owned)
    }

    #[cfg(feature = "schema")]
    fn schema() -> Value {
        json!({ "type": "string" })
    }
}

impl Field for u8 {
    fn put(&self) -> Value {
        json!(self)
    }

    fn take(json: &Value) -> Option<Self> {
        json.as_u64()?.try_into().ok()
    }

    #[cfg(feature = "schema")]
    fn schema() -> Value {
        json!({ "type": "integer", "minimum": 0, "maximum": 255 })
    }
}

impl Field for bool {
    fn put(&self) -> Value {
        json!(self)
    }

    fn take(json: &Value) -> Option<Self> {
        json.as_bool()
    }

    #[cfg(feature = "schema")]
    fn schema() -> Value {
        json!({ "type": "boolean" })
    }
}

impl<T: Field> Field for Option<T> {
    fn put(&self) -> Value {
        self.as_ref().map_or(Value::Null, T::put)
    }

    fn take(json: &Value) -> Option<Self> {
        if json.is_null() { Some(None) } else { T::take(json).map(Some) }
    }

    #[cfg(feature = "schema")]
    fn schema() -> Value {
        json!({ "anyOf": [T::schema(), { "type": "null" }] })
    }
}

impl<T: Field> Field for Vec<T> {
    fn put(&self) -> Value {
        self.iter().map(T::put).collect()
    }

    fn take(json: &Value) -> Option<Self> {
        json.as_array()?.iter().map(T::take).collect()
    }

    #[cfg(feature = "schema")]
    fn schema() -> Value {
        json!({ "type": "array", "items": T::schema() })
    }
}

impl Field for Location {
    fn put(&self) -> Value {
        json!(self)
    }

    fn take(json: &Value) -> Option<Self> {
        Self::deserialize(json).ok()
    }

    #[cfg(feature = "schema")]
    fn schema() -> Value {
        let number = json!({ "type": "integer", "minimum": 1 });
        json!({
            "type": "object", "properties": { "file": { "type": "string" }, "line": number, "column": number },
            "required": ["file", "line", "column"], "additionalProperties": false,
        })
    }
}

/// Types that are a text, by how it is written and read.
macro_rules! texts {
    ($($ty:ty: $put:expr, $take:expr;)+) => {
        $(
            impl Field for $ty {
                fn put(&self) -> Value {
                    let put: fn(&Self) -> String = $put;
                    Value::String(put(self))
                }

                fn take(json: &Value) -> Option<Self> {
                    let take: fn(&str) -> Option<Self> = $take;
                    take(json.as_str()?)
                }

                #[cfg(feature = "schema")]
                fn schema() -> Value {
                    json!({ "type": "string" })
                }
            }
        )+
    };
}

texts! {
    IpAddr: ToString::to_string, |text| text.parse().ok();
    Timestamp: ToString::to_string, |text| text.parse().ok();
    Act: Self::written, |text| text.parse().ok();
    Channel: |channel| channel.word().to_owned(), Self::from_word;
    Proof: |proof| proof.word().to_owned(), Self::from_word;
    Fact: |fact| fact.option().to_owned(), |text| Self::ALL.into_iter().find(|fact| fact.option() == text);
}

impl Change {
    /// Applies a change of the session to a question; changes of the ledger leave it as it is.
    ///
    /// # Example
    /// ```
    /// use zest_ledger::{Question, ask::Change};
    /// let mut question = Question::new("watch-1", "sw-selkie-1", "show paths");
    /// Change::Level(7).apply(&mut question);
    /// assert_eq!(question.session.level, Some(7));
    /// ```
    pub fn apply(&self, question: &mut Question) {
        let just_now = |proof| Proven::new(proof, jiff::SignedDuration::ZERO);
        match self {
            Self::User(name) => question.user.clone_from(name),
            Self::System(id) => question.system.clone_from(id),
            Self::Line(line) => question.line.clone_from(line),
            Self::Level(level) => question.session.level = Some(*level),
            Self::Mode(mode) => question.session.mode.clone_from(mode),
            Self::Origin(address) => question.session.origin = Some(*address),
            Self::Channel(channel) => question.session.channel = Some(*channel),
            Self::Moment(at) => question.session.at = Some(*at),
            Self::Proof(proof) => question.session.proofs.get_or_insert_default().push(just_now(*proof)),
            Self::OnlyProof(proof) => question.session.proofs = Some(vec![just_now(*proof)]),
            Self::CentralUp => {
                question.session.central = Central::Up;
                question.session.account = None;
            }
            Self::NoAccount => question.session.account = None,
            Self::Account(name) => question.session.account = Some(name.clone()),
            Self::ActiveRole(name) => question.session.active_roles = Some(if name == "none" { Vec::new() } else { vec![name.clone()] }),
            Self::SecondPerson(name) => question.session.approved_by = Some(name.clone()),
            Self::ApproverProof(proof) => question.session.approver_proofs.get_or_insert_default().push(just_now(*proof)),
            Self::Attribute { name, value } => {
                question.session.attributes.retain(|(k, _)| k != name);
                question.session.attributes.push((name.clone(), value.clone()));
            }
            Self::NoAttribute(name) => question.session.attributes.retain(|(k, _)| k != name),
            Self::Unstated(facts) => facts.iter().for_each(|fact| question.session.take(*fact, &Session::default())),
            Self::Acting(chain) => question.session.acting.clone_from(chain),
            Self::ActiveRoles(roles) => question.session.active_roles = Some(roles.clone()),
            Self::FromOwn { account, acting } => {
                question.session.account = Some(account.clone());
                question.session.acting.clone_from(acting);
            }
            Self::NewSession => {
                question.session.expires = None;
                for act in &mut question.session.acting {
                    if let Act::Role { since, .. } = act {
                        *since = None;
                    }
                }
            }
            _ => {}
        }
    }
}
