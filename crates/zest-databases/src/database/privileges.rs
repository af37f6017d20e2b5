//! Sets of privileges, one bit each.

/// Writes the type `Privileges`, a set of the `Privilege`s beside it, in as many bits as a server has privileges.
macro_rules! privilege_set {
    ($(#[$meta:meta])* $bits:ty) => {
        $(#[$meta])*
        #[derive(Clone, Copy, Debug, Default, PartialEq, Eq, PartialOrd, Ord, Hash)]
        pub struct Privileges(pub(crate) $bits);

        impl Privileges {
            /// The empty set.
            pub const NONE: Self = Self(0);

            /// Returns whether a privilege is in the set.
            #[must_use]
            pub const fn contains(self, privilege: Privilege) -> bool {
                self.0 & privilege.only().0 != 0
            }

            /// Returns whether the set is empty.
            #[must_use]
            pub const fn is_empty(self) -> bool {
                self.0 == 0
            }

            /// Returns what is in both sets.
            #[must_use]
            pub const fn and(self, other: Self) -> Self {
                Self(self.0 & other.0)
            }

            /// Returns what is in either set.
            #[must_use]
            pub const fn or(self, other: Self) -> Self {
                Self(self.0 | other.0)
            }

            /// Returns what is in this set and not in the other.
            #[must_use]
            pub const fn without(self, other: Self) -> Self {
                Self(self.0 & !other.0)
            }

            /// Returns the privileges in order.
            pub fn iter(self) -> impl Iterator<Item = Privilege> {
                Privilege::ALL.iter().copied().filter(move |p| self.contains(*p))
            }
        }

        impl FromIterator<Privilege> for Privileges {
            fn from_iter<I: IntoIterator<Item = Privilege>>(list: I) -> Self {
                list.into_iter().fold(Self::NONE, |set, p| set.or(p.only()))
            }
        }

        impl std::fmt::Display for Privileges {
            fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
                for (i, privilege) in self.iter().enumerate() {
                    write!(f, "{}{}", if i == 0 { "" } else { ", " }, privilege.word())?;
                }
                Ok(())
            }
        }
    };
}
pub(crate) use privilege_set;
