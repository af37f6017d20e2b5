//! A ledger: documents and entries, collected before they are validated.

use std::sync::Arc;

use crate::kind::known;
use zest_engine::Estate;
use zest_engine::rules::{Kind, Kinds};
use zest_model::entries::Entries;
use zest_model::entry::{
    Assignment, CommandSet, CredentialRule, Database, Group, Host, OriginNetworks, Role, Separation, Service, System, User, Vocabulary,
};
use zest_model::finding::{Code, Finding, Findings};
use zest_model::source::SourceMap;
use zest_model::text::{is_interface, read_document, read_interface};

/// What [`Ledger::validate`] comes to: the findings, and the estate if none of them is an error.
#[derive(Debug)]
#[non_exhaustive]
pub struct Validated {
    /// The estate; none if a finding is an error.
    pub estate: Option<Estate>,
    /// Everything that was found, by place.
    pub findings: Findings,
}

/// A ledger: documents of text, entries built in code, or both.
///
/// # Example
/// ```
/// use zest_ledger::Ledger;
/// let ledger = Ledger::new().document("people.toml", "[users.watch-1]\nproofs = [\"pasword\"]\n");
/// let findings = ledger.validate().findings;
/// assert!(findings.to_string().starts_with("people.toml:2:11: error[ZL0109]"));
/// ```
#[derive(Clone, Debug)]
pub struct Ledger {
    kinds: Kinds,
    sources: SourceMap,
    entries: Entries,
    findings: Vec<Finding>,
}

impl Default for Ledger {
    fn default() -> Self {
        Self { kinds: known(), sources: SourceMap::default(), entries: Entries::default(), findings: Vec::new() }
    }
}

impl Ledger {
    /// Makes an empty ledger.
    #[must_use]
    pub fn new() -> Self {
        Self::default()
    }

    /// Registers a kind of system from outside; documents that are added behind it may speak of it.
    ///
    /// See [`kind`](crate::kind) and `docs/adding-a-kind.md`.
    #[must_use]
    pub fn kind(mut self, kind: &'static dyn Kind) -> Self {
        self.kinds.add(kind);
        self
    }

    /// Adds a document. What cannot be read in it becomes a finding of [`validate`](Self::validate).
    #[must_use]
    pub fn document(mut self, name: &str, text: &str) -> Self {
        match self.sources.add(name, text) {
            Some(source) => {
                let format = (self.kinds.words(), self.kinds.tables());
                read_document(text, source, (&format.0, &format.1), &mut self.entries, &mut self.findings);
            }
            None => self.findings.push(Finding::unreadable(name, "it is 4 GiB or larger")),
        }
        self
    }

    /// Returns whether a file belongs into a ledger by its name: `*.toml`, or an OpenAPI document `*.openapi.json`,
    /// `*.openapi.yaml` or `*.openapi.yml`.
    ///
    /// # Example
    /// ```
    /// use zest_ledger::Ledger;
    /// assert!(Ledger::is_document("people.toml") && Ledger::is_document("skyquay.openapi.yaml"));
    /// assert!(!Ledger::is_document("notes.yaml"));
    /// ```
    #[must_use]
    pub fn is_document(name: &str) -> bool {
        name.ends_with(".toml") || is_interface(name)
    }

    /// Adds an OpenAPI 3.0 or 3.1 document, which clouds name as their `interface`: in YAML if its name ends in
    /// `.openapi.yaml` or `.openapi.yml`, else in JSON.
    ///
    /// # Example
    /// ```
    /// use zest_ledger::Ledger;
    /// let api = r#"{"openapi": "3.1.0", "paths": {"/records": {"get": {"operationId": "records.list"}}}}"#;
    /// let ledger = Ledger::new().interface("skyquay.openapi.json", api).document("cloud.toml", "
    /// [systems.skyquay]
    /// kind = 'cloud'
    /// [clouds.skyquay]
    /// interface = 'skyquay.openapi.json'
    /// ");
    /// assert!(ledger.estate().is_ok());
    /// ```
    #[must_use]
    pub fn interface(mut self, name: &str, text: &str) -> Self {
        match self.sources.add(name, text) {
            Some(source) => self.entries.interfaces.push(Arc::new(read_interface(name, text, source, &mut self.findings))),
            None => self.findings.push(Finding::unreadable(name, "it is 4 GiB or larger")),
        }
        self
    }

    /// Adds a document of bytes, which must be UTF-8 text: an interface if its name ends like one.
    #[must_use]
    pub fn document_bytes(mut self, name: &str, bytes: &[u8]) -> Self {
        match std::str::from_utf8(bytes) {
            Ok(text) => {
                let text = text.strip_prefix('\u{feff}').unwrap_or(text);
                if is_interface(name) { self.interface(name, text) } else { self.document(name, text) }
            }
            Err(error) => {
                let valid = std::str::from_utf8(&bytes[..error.valid_up_to()]).unwrap_or_default();
                let line = valid.matches('\n').count() + 1;
                let name = zest_model::source::visible(name);
                self.findings.push(
                    Finding::new(Code::NotText, format!("`{name}` is not UTF-8 text: the first bad byte is in line {line}"))
                        .help("save the document as UTF-8"),
                );
                self
            }
        }
    }

    /// Adds a finding that the caller made while looking for documents.
    #[must_use]
    pub fn finding(mut self, finding: Finding) -> Self {
        self.findings.push(finding);
        self
    }

    /// Checks everything and follows all references.
    ///
    /// All findings of all documents are reported in one go; an error in one never hides those of another.
    #[must_use]
    pub fn validate(self) -> Validated {
        let Self { kinds, sources, entries, mut findings } = self;
        let sources = Arc::new(sources);
        #[cfg(not(any(feature = "postgresql", feature = "mariadb")))]
        crate::kind::not_read(&entries, &mut findings);
        let estate = Estate::resolve(kinds, Arc::clone(&sources), entries, &mut findings);
        let findings = Findings::new(findings, sources);
        let estate = estate.filter(|_| !findings.has_errors());
        Validated { estate, findings }
    }

    /// Validates, for callers that want the estate or nothing.
    ///
    /// # Errors
    /// The findings, if one of them is an error.
    pub fn estate(self) -> Result<Estate, Findings> {
        let validated = self.validate();
        validated.estate.ok_or(validated.findings)
    }
}

/// An estate back as a ledger, to add to it or to read it anew: its entries as written, its documents and kinds.
///
/// # Example
/// ```
/// use zest_ledger::{Ledger, entry::User};
/// let text = "[users.watch-1]\nproofs = ['key']\n[systems.box]\nkind = 'host'\nno-command-set = 'nothing'\n";
/// let estate = Ledger::new().document("people.toml", text).estate()?;
/// let grown = Ledger::from(&estate).user(User::new("watch-2")).estate()?;
/// assert_eq!(grown.users().len(), 2);
/// assert_eq!(grown.sources().locate(grown.users()[0].id.place).to_string(), "people.toml:1");
/// # Ok::<(), zest_ledger::finding::Findings>(())
/// ```
impl From<&Estate> for Ledger {
    fn from(estate: &Estate) -> Self {
        Self { kinds: estate.kinds().clone(), sources: estate.sources().clone(), entries: estate.entries().clone(), findings: Vec::new() }
    }
}

impl Ledger {
    /// Takes over the documents of an estate: entries of it that are added here keep their places. Without them such an entry stands
    /// in a document `?`, and never in one of this ledger.
    ///
    /// # Example
    /// ```
    /// use zest_ledger::{Ledger, entry::User};
    /// let host = "[systems.box]\nkind = 'host'\nno-command-set = 'nothing'\n";
    /// let old = Ledger::new().document("people.toml", &format!("{host}[users.watch-1]\n")).estate()?;
    /// let moved = User::clone(&old.users()[0]);
    /// let new = Ledger::new().document("other.toml", host).documents_of(&old).user(moved).estate()?;
    /// assert_eq!(new.sources().locate(new.users()[0].id.place).to_string(), "people.toml:4");
    /// # Ok::<(), zest_ledger::finding::Findings>(())
    /// ```
    #[must_use]
    pub fn documents_of(mut self, estate: &Estate) -> Self {
        self.sources.take_over(estate.sources());
        self
    }
}

/// Writes the methods that add an entry built in code.
macro_rules! adders {
    ($($(#[doc = $doc:literal])+ $name:ident: $ty:ty => $field:ident;)+) => {
        impl Ledger {
            $(
                $(#[doc = $doc])+
                #[must_use]
                pub fn $name(mut self, entry: $ty) -> Self {
                    self.entries.$field.push(Arc::new(entry));
                    self
                }
            )+
        }
    };
}

adders! {
    /// Adds a user.
    user: User => users;
    /// Adds a group.
    group: Group => groups;
    /// Adds a named origin.
    origin: OriginNetworks => origins;
    /// Adds a system.
    system: System => systems;
    /// Adds a vocabulary.
    vocabulary: Vocabulary => vocabularies;
    /// Adds a command set.
    command_set: CommandSet => command_sets;
    /// Adds a role.
    role: Role => roles;
    /// Adds an assignment.
    assignment: Assignment => assignments;
    /// Adds what a database server holds.
    database: Database => databases;
    /// Adds what a cloud or an application holds.
    service: Service => services;
    /// Adds what a host holds.
    host: Host => hosts;
    /// Adds a separation of duties.
    separation: Separation => separations;
    /// Adds a rule for credentials.
    credential_rule: CredentialRule => credential_rules;
}
