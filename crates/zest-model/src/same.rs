//! Whether two entries say the same, wherever they stand.

use std::sync::Arc;

use jiff::{SignedDuration, Timestamp};

use crate::source::{At, Place};

/// What is written of something. Two that say the same differ at most in where they stand.
#[doc(hidden)]
pub trait Same {
    /// Returns whether both say the same.
    fn says_same(&self, other: &Self) -> bool;
}

impl Same for Place {
    fn says_same(&self, _: &Self) -> bool {
        true
    }
}

impl<T: Same> Same for At<T> {
    fn says_same(&self, other: &Self) -> bool {
        let Self { value, place: _ } = self;
        value.says_same(&other.value)
    }
}

impl<T: Same> Same for Option<T> {
    fn says_same(&self, other: &Self) -> bool {
        match (self, other) {
            (None, None) => true,
            (Some(one), Some(other)) => one.says_same(other),
            (None, Some(_)) | (Some(_), None) => false,
        }
    }
}

impl<T: Same> Same for Vec<T> {
    fn says_same(&self, other: &Self) -> bool {
        self.len() == other.len() && self.iter().zip(other).all(|(one, other)| one.says_same(other))
    }
}

impl<A: Same, B: Same> Same for (A, B) {
    fn says_same(&self, other: &Self) -> bool {
        self.0.says_same(&other.0) && self.1.says_same(&other.1)
    }
}

impl<T: Same> Same for Box<T> {
    fn says_same(&self, other: &Self) -> bool {
        (**self).says_same(other)
    }
}

impl<T: Same> Same for Arc<T> {
    fn says_same(&self, other: &Self) -> bool {
        Self::ptr_eq(self, other) || (**self).says_same(other)
    }
}

/// Says it of values that are nothing but what they say.
macro_rules! plain {
    ($($ty:ty),+) => {
        $(
            impl crate::same::Same for $ty {
                fn says_same(&self, other: &Self) -> bool {
                    self == other
                }
            }
        )+
    };
}
pub(crate) use plain;

plain!(crate::More, String, bool, u8, u32, Timestamp, SignedDuration);

/// Says it of a struct, field by field: one that is added must be named.
macro_rules! fields {
    ($name:ident { $($field:ident),+ $(,)? }) => {
        impl crate::same::Same for $name {
            fn says_same(&self, other: &Self) -> bool {
                let Self { $($field),+ } = self;
                $(crate::same::Same::says_same($field, &other.$field))&&+
            }
        }
    };
}
pub(crate) use fields;
