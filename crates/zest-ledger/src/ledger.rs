//! A ledger: documents and entries, collected before they are validated.

use std::cmp::Reverse;
use std::sync::Arc;
use std::sync::atomic::{AtomicUsize, Ordering};

use crate::kind::known;
use zest_engine::rules::{Kind, Kinds};
use zest_engine::{Engine, Estate};
use zest_model::entries::Entries;
use zest_model::entry::{
    Assignment, CommandSet, CredentialRule, Database, Group, Host, MeantWay, OriginNetworks, Promise, Role, Separation, Service, System,
    User, Vocabulary,
};
use zest_model::finding::{Code, Finding, Findings};
use zest_model::source::{SourceId, SourceMap};
use zest_model::text::{OutsideTable, is_interface, read_document, read_interface};

/// What [`Ledger::validate`] comes to: the findings, and the estate if none of them is an error.
///
/// # Example
/// ```
/// use zest_ledger::Ledger;
/// let validated = Ledger::new().document("people.toml", "[users.watch-1]\nproofs = ['pasword']\n").validate();
/// assert!(validated.estate.is_none() && validated.findings.has_errors());
/// ```
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

/// From how many bytes of documents on another thread is started: before, starting it takes as long as reading them.
const WORTH_A_THREAD: usize = 16 << 10;

/// The most threads that documents are read on.
const MAX_THREADS: usize = 64;

/// A document that has its number and is not read yet.
struct Document<'t> {
    text: &'t str,
    source: SourceId,
    form: DocumentForm<'t>,
}

/// What a document holds.
enum DocumentForm<'t> {
    /// Entries of the ledger.
    Entries,
    /// The interface of a cloud, by its name.
    Interface(&'t str),
}

impl Document<'_> {
    fn read(&self, kinds: (&[&'static str], &[OutsideTable]), entries: &mut Entries, findings: &mut Vec<Finding>) {
        match self.form {
            DocumentForm::Entries => read_document(self.text, self.source, kinds, entries, findings),
            DocumentForm::Interface(name) => {
                entries.interfaces.push(Arc::new(read_interface(name, self.text, self.source, findings)));
            }
        }
    }
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
        if let Some(source) = self.source(name, text) {
            let document = Document { text, source, form: DocumentForm::Entries };
            self.read_all(&[document], 1);
        }
        self
    }

    /// Adds documents in their order, each a name and bytes as [`document_bytes`](Self::document_bytes) takes them, and reads them
    /// on as many threads as are given, at most 64.
    ///
    /// # Example
    /// ```
    /// use zest_ledger::Ledger;
    /// let documents = [("people.toml", "[users.watch-1]\n"), ("more.toml", "[users.watch-2]\n[users.watch-1]\n")];
    /// let findings = Ledger::new().documents(&documents, 2).validate().findings;
    /// assert!(findings.to_string().starts_with("more.toml:2:8: error[ZL0203]"));
    /// ```
    #[must_use]
    pub fn documents(mut self, documents: &[(impl AsRef<str>, impl AsRef<[u8]>)], threads: usize) -> Self {
        let mut readable = Vec::with_capacity(documents.len());
        for (name, bytes) in documents {
            let name = name.as_ref();
            if let Some(text) = self.text(name, bytes.as_ref())
                && let Some(source) = self.source(name, text)
            {
                let form = if is_interface(name) { DocumentForm::Interface(name) } else { DocumentForm::Entries };
                readable.push(Document { text, source, form });
            }
        }
        self.read_all(&readable, threads);
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
        if let Some(source) = self.source(name, text) {
            let document = Document { text, source, form: DocumentForm::Interface(name) };
            self.read_all(&[document], 1);
        }
        self
    }

    /// Adds a document of bytes, which must be UTF-8 text: an interface if its name ends like one.
    ///
    /// # Example
    /// ```
    /// use zest_ledger::Ledger;
    /// let findings = Ledger::new().document_bytes("people.toml", b"[users.watch-1]\nremark = '\xff'\n").validate().findings;
    /// assert!(findings.to_string().contains("the first bad byte is in line 2"));
    /// ```
    #[must_use]
    pub fn document_bytes(self, name: &str, bytes: &[u8]) -> Self {
        self.documents(&[(name, bytes)], 1)
    }

    /// Returns the text of a document without a mark of byte order; a finding says where it is none.
    fn text<'b>(&mut self, name: &str, bytes: &'b [u8]) -> Option<&'b str> {
        match std::str::from_utf8(bytes) {
            Ok(text) => Some(text.strip_prefix('\u{feff}').unwrap_or(text)),
            Err(error) => {
                let valid = std::str::from_utf8(&bytes[..error.valid_up_to()]).unwrap_or_default();
                let line = valid.matches('\n').count() + 1;
                let name = zest_model::source::visible(name);
                self.findings.push(
                    Finding::new(Code::NotText, format!("`{name}` is not UTF-8 text: the first bad byte is in line {line}"))
                        .help("save the document as UTF-8"),
                );
                None
            }
        }
    }

    /// Numbers a document, before any is read: so findings come in the order of the documents, whoever reads them first.
    fn source(&mut self, name: &str, text: &str) -> Option<SourceId> {
        let source = self.sources.add(name, text);
        if source.is_none() {
            self.findings.push(Finding::unreadable(name, "it is 4 GiB or larger"));
        }
        source
    }

    /// Reads documents, some of them on other threads if there is enough to read.
    fn read_all(&mut self, documents: &[Document<'_>], threads: usize) {
        let is_worth_it = documents.iter().map(|d| d.text.len()).sum::<usize>() >= WORTH_A_THREAD;
        let others = if is_worth_it { threads.min(documents.len()).clamp(1, MAX_THREADS) - 1 } else { 0 };
        let format = (self.kinds.words(), self.kinds.tables());
        let next = AtomicUsize::new(0);
        // Whoever has time takes the next document, and remembers which it was: the longest first, so that nobody waits for the last.
        let mut order: Vec<usize> = (0..documents.len()).collect();
        order.sort_by_key(|&number| Reverse(documents[number].text.len()));
        let read = || {
            let mut taken = Vec::new();
            loop {
                let turn = next.fetch_add(1, Ordering::Relaxed);
                let Some(&number) = order.get(turn) else { break taken };
                let document = &documents[number];
                let (mut entries, mut findings) = (Entries::default(), Vec::new());
                document.read((&format.0, &format.1), &mut entries, &mut findings);
                taken.push((number, entries, findings));
            }
        };
        let mut parts = std::thread::scope(|scope| {
            let others: Vec<_> = (0..others).map(|_| scope.spawn(read)).collect();
            let mut parts = read();
            others.into_iter().for_each(|other| parts.extend(other.join().unwrap_or_else(|panic| std::panic::resume_unwind(panic))));
            parts
        });
        parts.sort_unstable_by_key(|&(number, ..)| number);
        for (_, entries, findings) in parts {
            self.entries.append(entries);
            self.findings.extend(findings);
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

    /// Validates and compiles, for callers that want the engine or nothing: the same as [`Engine::compile`] of the estate, but with more
    /// than one thread part of it is done side by side, as soon as there is enough to do.
    ///
    /// # Errors
    /// The findings, if one of them is an error, or those of [`Engine::compile`].
    ///
    /// # Example
    /// ```
    /// use zest_ledger::{Ledger, Question, ask::Refusal};
    /// let text = "[users.watch-1]\nproofs = ['key']\n[systems.box]\nkind = 'host'\nno-command-set = 'nothing'\n";
    /// let engine = Ledger::new().document("people.toml", text).engine(2)?;
    /// assert_eq!(engine.decide(&Question::new("watch-2", "box", "uptime")).refusal, Some(Refusal::UnknownUser));
    /// # Ok::<(), zest_ledger::finding::Findings>(())
    /// ```
    pub fn engine(self, threads: usize) -> Result<Engine, Findings> {
        let bytes: usize = self.sources.names().map(|(id, _)| self.sources.text(id).len()).sum();
        if threads < 2 || bytes < WORTH_A_THREAD {
            return Engine::compile(self.estate()?);
        }
        let Self { kinds, sources, entries, mut findings } = self;
        let sources = Arc::new(sources);
        #[cfg(not(any(feature = "postgresql", feature = "mariadb")))]
        crate::kind::not_read(&entries, &mut findings);
        let engine = Engine::of_entries(kinds, Arc::clone(&sources), entries, &mut findings);
        engine.unwrap_or_else(|| Err(Findings::new(findings, sources)))
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
    /// Adds a promise.
    promise: Promise => promises;
    /// Adds a way to the top that is meant.
    meant_way: MeantWay => meant_ways;
}
