//! An order in which each object finds what it is made of.

use std::collections::{BTreeSet, HashMap};

/// An object's name, the texts that say what it is made of, and those that can be added to it later.
pub(crate) type MadeOf<'a> = (&'a str, Vec<&'a str>, Vec<&'a str>);

/// Brings objects into an order in which each comes behind those that its texts name, and stays where it was if it can. Names are looked
/// for as words; in a circle one comes first that waits for others only with what can be added later.
pub(crate) fn in_order(objects: &[MadeOf<'_>]) -> Vec<usize> {
    let (mut plain, mut odd): (HashMap<&str, Vec<usize>>, Vec<usize>) = (HashMap::new(), Vec::new());
    for (at, (name, ..)) in objects.iter().enumerate() {
        match name.chars().all(is_of_word) {
            true => plain.entry(name).or_default().push(at),
            false => odd.push(at),
        }
    }
    let named = |at: usize, texts: &[&str]| -> BTreeSet<usize> {
        let words = texts.iter().flat_map(|text| text.split(|c| !is_of_word(c)));
        let plainly = words.filter_map(|word| plain.get(word)).flatten().copied();
        let oddly = odd.iter().copied().filter(|other| texts.iter().any(|text| text.contains(objects[*other].0)));
        plainly.chain(oddly).filter(|other| *other != at).collect()
    };
    // Whom each waits for, at once and with what can be added later.
    let mut waits: Vec<[usize; 2]> = vec![[0; 2]; objects.len()];
    let mut waiters: Vec<Vec<(usize, usize)>> = vec![Vec::new(); objects.len()];
    for (at, (_, texts, later)) in objects.iter().enumerate() {
        for (kind, others) in [named(at, texts), named(at, later)].into_iter().enumerate() {
            waits[at][kind] = others.len();
            others.into_iter().for_each(|other| waiters[other].push((at, kind)));
        }
    }
    let mut left: BTreeSet<usize> = (0..objects.len()).collect();
    let mut ready: BTreeSet<usize> = left.iter().copied().filter(|at| waits[*at] == [0, 0]).collect();
    let mut ordered = Vec::with_capacity(objects.len());
    loop {
        let in_circle = || left.iter().copied().find(|at| waits[*at][0] == 0).or_else(|| left.first().copied());
        let Some(next) = ready.pop_first().or_else(in_circle) else { return ordered };
        left.remove(&next);
        ordered.push(next);
        for &(waiter, kind) in waiters[next].iter().filter(|(waiter, _)| left.contains(waiter)) {
            waits[waiter][kind] -= 1;
            if waits[waiter] == [0, 0] {
                ready.insert(waiter);
            }
        }
    }
}

const fn is_of_word(c: char) -> bool {
    c.is_ascii_alphanumeric() || c == '_' || !c.is_ascii()
}
