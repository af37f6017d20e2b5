//! An order in which each object finds what it is made of.

use std::collections::{BTreeSet, HashMap};

/// An object's name, and the texts that say what it is made of.
pub(crate) type MadeOf<'a> = (&'a str, Vec<&'a str>);

/// Brings objects into an order in which each comes behind those that its texts name, and stays where it was if it can. Names are looked
/// for as words; who waits in a circle comes as if it did not wait.
pub(crate) fn in_order(objects: &[MadeOf<'_>]) -> Vec<usize> {
    let (mut plain, mut odd): (HashMap<&str, Vec<usize>>, Vec<usize>) = (HashMap::new(), Vec::new());
    for (at, (name, _)) in objects.iter().enumerate() {
        match name.chars().all(is_of_word) {
            true => plain.entry(name).or_default().push(at),
            false => odd.push(at),
        }
    }
    let mut waits_for: Vec<usize> = vec![0; objects.len()];
    let mut waiters: Vec<Vec<usize>> = vec![Vec::new(); objects.len()];
    for (at, (_, texts)) in objects.iter().enumerate() {
        let words = texts.iter().flat_map(|text| text.split(|c| !is_of_word(c)));
        let named = words.filter_map(|word| plain.get(word)).flatten().copied();
        let oddly = odd.iter().copied().filter(|other| texts.iter().any(|text| text.contains(objects[*other].0)));
        let others: BTreeSet<usize> = named.chain(oddly).filter(|other| *other != at).collect();
        waits_for[at] = others.len();
        others.into_iter().for_each(|other| waiters[other].push(at));
    }
    let mut left: BTreeSet<usize> = (0..objects.len()).collect();
    let mut ready: BTreeSet<usize> = left.iter().copied().filter(|at| waits_for[*at] == 0).collect();
    let mut ordered = Vec::with_capacity(objects.len());
    while let Some(next) = ready.pop_first().or_else(|| left.first().copied()) {
        left.remove(&next);
        ordered.push(next);
        for waiter in waiters[next].iter().copied().filter(|waiter| left.contains(waiter)) {
            waits_for[waiter] -= 1;
            if waits_for[waiter] == 0 {
                ready.insert(waiter);
            }
        }
    }
    ordered
}

const fn is_of_word(c: char) -> bool {
    c.is_ascii_alphanumeric() || c == '_' || !c.is_ascii()
}
