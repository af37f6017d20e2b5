//! Work that is shared between all cores.

use std::num::NonZero;
use std::sync::atomic::{AtomicUsize, Ordering};

/// Returns on how many threads work is worth being shared.
pub(crate) fn processors() -> usize {
    std::thread::available_parallelism().map_or(1, NonZero::get)
}

/// Does one piece of work for each of some things; what comes of them is in their order. Whoever is free takes the next, since some
/// take much longer than others.
pub(crate) fn each<T: Sync, R: Send>(things: &[T], work: impl Fn(&T) -> R + Sync) -> Vec<R> {
    let next = AtomicUsize::new(0);
    let take = || {
        let mut done = Vec::new();
        loop {
            let number = next.fetch_add(1, Ordering::Relaxed);
            let Some(thing) = things.get(number) else { return done };
            done.push((number, work(thing)));
        }
    };
    let mut all: Vec<(usize, R)> = std::thread::scope(|scope| {
        let running: Vec<_> = (0..processors()).map(|_| scope.spawn(take)).collect();
        running.into_iter().flat_map(|one| one.join().unwrap_or_else(|panic| std::panic::resume_unwind(panic))).collect()
    });
    all.sort_unstable_by_key(|(number, _)| *number);
    all.into_iter().map(|(_, done)| done).collect()
}
