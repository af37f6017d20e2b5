//! Who hears what a decision looks at in a session.

use std::any::Any;
use std::fmt;
use std::sync::Arc;

/// Hears what is looked at: a condition, or a look of the engine's own.
type Listener = dyn Fn(&dyn Any) + Send + Sync;

/// Hears what a decision looks at in its session, if anybody listens; sessions that are made of it are heard as well.
///
/// A session is the same whether it is listened to or not.
///
/// # Example
/// ```
/// use std::sync::{Arc, Mutex};
/// use zest_ledger::{Ledger, Question, ask::Ear};
/// # let text = r#"
/// # users.mate-1.proofs = ["password"]
/// # users.mate-2.proofs = ["password"]
/// # systems.rota.kind = "application"
/// # [applications.rota]
/// # types.shift.rights = ["plan"]
/// # objects."shift/early" = {}
/// # grants = [{ allow = ["plan"], on = "shift/*", to = ["user:mate-1"] }]
/// # "#;
/// # let engine = Ledger::new().document("rota.toml", text).engine(1)?;
/// let heard = Arc::new(Mutex::new(0));
/// let count = Arc::clone(&heard);
/// let mut question = Question::new("mate-1", "rota", "plan on shift/early");
/// question.session.ear = Ear::new(move |_| *count.lock().expect("nobody else holds it") += 1);
/// engine.decide(&question);
/// assert!(*heard.lock().expect("nobody else holds it") > 0, "the proofs were looked at");
/// # Ok::<(), zest_ledger::finding::Findings>(())
/// ```
#[derive(Clone, Default)]
pub struct Ear(Option<Arc<Listener>>);

impl Ear {
    /// Makes an ear.
    pub fn new(listener: impl Fn(&dyn Any) + Send + Sync + 'static) -> Self {
        Self(Some(Arc::new(listener)))
    }

    /// Tells what is looked at, where it lies in the estate.
    ///
    /// # Example
    /// ```
    /// use zest_ledger::ask::Ear;
    /// let ear = Ear::new(|what| assert_eq!(what.downcast_ref(), Some(&7_u8)));
    /// ear.looked_at(&7_u8);
    /// ```
    pub fn looked_at(&self, what: &dyn Any) {
        if let Some(listener) = &self.0 {
            listener(what);
        }
    }

    /// Tells what is looked at, which is made only if somebody listens.
    ///
    /// # Example
    /// ```
    /// use zest_ledger::ask::Ear;
    /// Ear::default().looked(|| -> u8 { unreachable!("nobody listens") });
    /// ```
    pub fn looked<T: Any>(&self, what: impl FnOnce() -> T) {
        if let Some(listener) = &self.0 {
            listener(&what());
        }
    }

    /// Returns whether anybody listens.
    ///
    /// # Example
    /// ```
    /// use zest_ledger::ask::Ear;
    /// assert!(Ear::new(|_| {}).listens() && !Ear::default().listens());
    /// ```
    #[must_use]
    pub const fn listens(&self) -> bool {
        self.0.is_some()
    }
}

impl PartialEq for Ear {
    fn eq(&self, _: &Self) -> bool {
        true
    }
}

impl fmt::Debug for Ear {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str("Ear")
    }
}
