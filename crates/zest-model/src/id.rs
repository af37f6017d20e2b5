//! Numbers of entries within one estate. They are never written down: another estate numbers differently.

macro_rules! ids {
    ($($(#[doc = $doc:literal])+ $name:ident;)+) => {
        $(
            $(#[doc = $doc])+
            #[derive(Clone, Copy, Debug, Default, PartialEq, Eq, PartialOrd, Ord, Hash)]
            pub struct $name(u32);

            impl $name {
                /// Makes the number of an index.
                #[doc(hidden)]
                #[must_use]
                pub const fn new(index: usize) -> Self {
                    // OK because a document has less than 4 GiB, so there are never 2^32 entries of a sort.
                    Self(index as u32)
                }

                /// Returns the number as an index.
                ///
                /// # Example
                /// ```
                /// # let text = "systems.rota.kind = 'application'\n[users.watch-1]\n[users.watch-2]";
                /// let engine = zest_ledger::Engine::compile(zest_ledger::Ledger::new().document("it.toml", text).estate()?)?;
                /// let id = engine.find_user("watch-2", false).expect("it is declared");
                /// assert_eq!(engine.estate().users()[id.index()].id.value, "watch-2");
                /// # Ok::<(), zest_ledger::finding::Findings>(())
                /// ```
                #[must_use]
                pub const fn index(self) -> usize {
                    self.0 as usize
                }
            }
        )+
    };
}

ids! {
    /// A user.
    ///
    /// # Example
    /// ```
    /// # let text = "systems.rota.kind = 'application'\n[users.watch-1]";
    /// # let engine = zest_ledger::Engine::compile(zest_ledger::Ledger::new().document("it.toml", text).estate()?)?;
    /// assert_eq!(engine.find_user("watch-1", false).map(|id| id.index()), Some(0));
    /// # Ok::<(), zest_ledger::finding::Findings>(())
    /// ```
    UserId;
    /// A group.
    ///
    /// # Example
    /// ```
    /// # let text = "systems.rota.kind = 'application'\ngroups.watch.members = []";
    /// # let engine = zest_ledger::Engine::compile(zest_ledger::Ledger::new().document("it.toml", text).estate()?)?;
    /// assert_eq!(engine.find_group("watch").map(|id| id.index()), Some(0));
    /// # Ok::<(), zest_ledger::finding::Findings>(())
    /// ```
    GroupId;
    /// A system.
    ///
    /// # Example
    /// ```
    /// # let text = "systems.rota.kind = 'application'\n";
    /// # let engine = zest_ledger::Engine::compile(zest_ledger::Ledger::new().document("it.toml", text).estate()?)?;
    /// assert_eq!(engine.find_system("rota").map(|id| id.index()), Some(0));
    /// # Ok::<(), zest_ledger::finding::Findings>(())
    /// ```
    SystemId;
    /// A vocabulary.
    ///
    /// # Example
    /// ```
    /// # let text = "systems.rota.kind = 'application'\nvocabularies.corvane-os.commands = [{ line = 'show log' }]";
    /// # let engine = zest_ledger::Engine::compile(zest_ledger::Ledger::new().document("it.toml", text).estate()?)?;
    /// assert_eq!(engine.find_vocabulary("corvane-os").map(|id| id.index()), Some(0));
    /// # Ok::<(), zest_ledger::finding::Findings>(())
    /// ```
    VocabularyId;
    /// A mode of a vocabulary.
    ///
    /// # Example
    /// ```
    /// use zest_ledger::estate::ModeId;
    /// // Modes are numbered within their vocabulary.
    /// assert_eq!(ModeId::default().index(), 0);
    /// ```
    ModeId;
    /// A command of a vocabulary.
    ///
    /// # Example
    /// ```
    /// use zest_ledger::{Engine, estate::{CommandId, VocabularyId}};
    /// fn line(engine: &Engine, vocabulary: VocabularyId, command: CommandId) -> &str {
    ///     &engine.estate().vocabularies()[vocabulary.index()].commands[command.index()].line.value
    /// }
    /// ```
    CommandId;
    /// A command set.
    ///
    /// # Example
    /// ```
    /// # let text = "systems.rota.kind = 'application'\ncommand-sets.look.rules = ['allow show ...']";
    /// # let engine = zest_ledger::Engine::compile(zest_ledger::Ledger::new().document("it.toml", text).estate()?)?;
    /// assert_eq!(engine.find_command_set("look").map(|id| id.index()), Some(0));
    /// # Ok::<(), zest_ledger::finding::Findings>(())
    /// ```
    SetId;
    /// A role.
    ///
    /// # Example
    /// ```
    /// # let text = "systems.rota.kind = 'application'\n[roles.reader]";
    /// # let engine = zest_ledger::Engine::compile(zest_ledger::Ledger::new().document("it.toml", text).estate()?)?;
    /// assert_eq!(engine.find_role("reader").map(|id| id.index()), Some(0));
    /// # Ok::<(), zest_ledger::finding::Findings>(())
    /// ```
    RoleId;
    /// An assignment, in the order in which assignments are tried.
    ///
    /// # Example
    /// ```
    /// use zest_ledger::{Engine, estate::AssignmentId};
    /// fn roles(engine: &Engine, assignment: AssignmentId) -> usize {
    ///     engine.estate().assignments()[assignment.index()].roles.len()
    /// }
    /// ```
    AssignmentId;
}
