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
    UserId;
    /// A group.
    GroupId;
    /// A system.
    SystemId;
    /// A vocabulary.
    VocabularyId;
    /// A mode of a vocabulary.
    ModeId;
    /// A command of a vocabulary.
    CommandId;
    /// A command set.
    SetId;
    /// A role.
    RoleId;
    /// An assignment, in the order in which assignments are tried.
    AssignmentId;
}
