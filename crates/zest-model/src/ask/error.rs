//! Why a text that states a fact, or an edit of a document, is refused.

use std::fmt;

macro_rules! errors {
    ($($(#[$meta:meta])+ $name:ident;)+) => {
        $(
            $(#[$meta])+
            #[derive(Clone, Debug, PartialEq, Eq)]
            pub struct $name(String);

            impl $name {
                pub(crate) fn new(text: impl Into<String>) -> Self {
                    Self(text.into())
                }
            }

            impl fmt::Display for $name {
                fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
                    f.write_str(&self.0)
                }
            }

            impl std::error::Error for $name {}
        )+
    };
}

errors! {
    /// A text does not state the fact: it says what is expected instead.
    ///
    /// # Example
    /// ```
    /// use zest_ledger::ask::{Fact, Session};
    /// let error = Session::default().state(Fact::Level, "16").expect_err("there is no such level");
    /// assert_eq!(error.to_string(), "expected a whole number from 0 to 15");
    /// ```
    FactError;
    /// An edit does not fit a text: it says what stands in its way.
    ///
    /// # Example
    /// ```
    /// use zest_ledger::ask::{Edit, EditStep, How};
    /// let edit = Edit::new(None, vec![EditStep::Key("roles".to_owned())], "reader", How::TakeOut("x".to_owned()));
    /// let error = edit.carried_out("[roles]\n").expect_err("there is nothing to take out of");
    /// assert_eq!(error.to_string(), "nothing to take out of");
    /// ```
    EditError;
}
