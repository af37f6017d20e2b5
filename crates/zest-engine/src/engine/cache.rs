//! What kinds work out once and look up from then on.

use std::any::Any;
use std::sync::{Arc, RwLock};

use rustc_hash::FxHashMap;

use crate::links::SystemId;

/// Things by the system they are of and a number of the kind's own. A layer that changes what they depend on begins with an empty one.
#[derive(Debug, Default)]
pub(crate) struct Cache(RwLock<FxHashMap<(SystemId, usize), Arc<dyn Any + Send + Sync>>>);

impl Cache {
    /// Returns what is kept under a number, or makes it.
    pub(crate) fn get<T: Send + Sync + 'static>(&self, system: SystemId, number: usize, make: impl FnOnce() -> T) -> Arc<T> {
        let known = self.0.read().ok().and_then(|kept| Arc::clone(kept.get(&(system, number))?).downcast().ok());
        known.unwrap_or_else(|| {
            let made = Arc::new(make());
            if let Ok(mut kept) = self.0.write() {
                kept.insert((system, number), Arc::clone(&made) as Arc<dyn Any + Send + Sync>);
            }
            made
        })
    }
}
