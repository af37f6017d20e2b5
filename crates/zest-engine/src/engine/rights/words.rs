//! A set as few lines: actions that are allowed in the same sessions stand together, and sessions are told in words.

use std::collections::BTreeMap;

use fixedbitset::FixedBitSet;

use super::axis::{Axis, AxisName};
use super::look::{Code, Cut, HOLDS, NOT_STATED};
use super::region::{Block, Region, full};
use super::{Line, Membership, Rights};

impl Axis {
    /// Returns whether it is one of an attribute.
    pub(super) fn has_attribute(&self, name: &str) -> bool {
        matches!(&self.name, AxisName::Attributes(names) if names.iter().any(|known| known == name))
    }
}

impl Rights {
    /// Returns what is in the set, as few lines: of each sort of membership, the actions that have the same sessions.
    #[must_use]
    pub fn lines(&self) -> Vec<Line> {
        let cuts = self.frame.space.cuts();
        let live = self.live();
        let mut lines = Vec::new();
        for layer in [Membership::Allowed, Membership::After, Membership::NotDecided, Membership::NotHere] {
            // Actions that have the same sessions in every opening stand together.
            let mut alike: BTreeMap<Vec<(usize, Vec<Block>)>, Vec<usize>> = BTreeMap::new();
            for action in 0..self.frame.actions.len() {
                let of = |opening| {
                    let (_, region) = self.cell(opening, action).layers().into_iter().find(|(l, _)| *l == layer)?;
                    (!region.is_empty()).then(|| (opening, region.blocks.clone()))
                };
                let sessions: Vec<_> = (0..self.frame.openings.len()).filter_map(of).collect();
                if !sessions.is_empty() {
                    alike.entry(sessions).or_default().push(action);
                }
            }
            let mut alike: Vec<_> = alike.into_iter().collect();
            alike.sort_by_key(|(_, actions)| actions[0]);
            for (sessions, actions) in alike {
                // Openings with the same sessions stand together as well.
                let mut openings: BTreeMap<Vec<Block>, Vec<usize>> = BTreeMap::new();
                for (opening, blocks) in sessions {
                    openings.entry(blocks).or_default().push(opening);
                }
                for (blocks, openings) in openings {
                    let region = Region { blocks };
                    lines.push(Line {
                        when: self.told(&region, &live, &cuts),
                        example: self.question(openings[0], actions[0], &region),
                        actions: actions.clone(),
                        openings,
                        membership: layer,
                    });
                }
            }
        }
        lines
    }

    /// Returns the classes of each fact in which anything at all may be done, or is not known.
    fn live(&self) -> Vec<FixedBitSet> {
        let mut live: Vec<FixedBitSet> = self.frame.sizes.iter().map(|&size| FixedBitSet::with_capacity(size)).collect();
        for (_, region) in self.cells.iter().flat_map(|cell| cell.layers()) {
            for block in &region.blocks {
                for (axis, all) in live.iter_mut().enumerate() {
                    match block.0.get(&axis) {
                        Some(classes) => all.union_with(classes),
                        None => all.insert_range(..),
                    }
                }
            }
        }
        live
    }

    /// Says which sessions can do anything at all; empty where every session can.
    #[must_use]
    pub fn entry_words(&self) -> String {
        let cuts = self.frame.space.cuts();
        let all: Vec<FixedBitSet> = self.frame.sizes.iter().map(|&size| full(size)).collect();
        let live = self.live();
        let told: Vec<String> = live
            .iter()
            .enumerate()
            .filter(|(axis, classes)| classes.count_ones(..) < self.frame.sizes[*axis] && !classes.is_clear())
            .map(|(axis, classes)| self.told_axis(axis, classes, &all[axis], &cuts))
            .collect();
        told.join(", ")
    }

    fn told(&self, region: &Region, live: &[FixedBitSet], cuts: &[Cut]) -> String {
        let mut blocks: Vec<String> = region
            .blocks
            .iter()
            .map(|block| {
                let told = block.0.iter().filter(|(axis, classes)| !live[**axis].is_subset(classes));
                told.map(|(&axis, classes)| self.told_axis(axis, classes, &live[axis], cuts)).collect::<Vec<_>>().join(", ")
            })
            .collect();
        blocks.sort_by_key(String::len);
        blocks.dedup();
        if blocks.iter().any(String::is_empty) {
            return String::new();
        }
        let rest = blocks.len().saturating_sub(MAX_TOLD);
        blocks.truncate(MAX_TOLD);
        let more = if rest == 0 { String::new() } else { format!("; or in {rest} more sorts of sessions") };
        blocks.join("; or ") + &more
    }

    /// Says which classes of a fact are meant, of those that count.
    fn told_axis(&self, axis: usize, classes: &FixedBitSet, live: &FixedBitSet, cuts: &[Cut]) -> String {
        let of = &self.frame.space.axes[axis];
        let mut wanted = classes.clone();
        wanted.intersect_with(live);
        // Each way in which a cut can come out, with the classes in which it does.
        let mut literals: Vec<(String, FixedBitSet)> = Vec::new();
        for (position, &cut) in of.cuts.iter().enumerate() {
            let mut codes: Vec<_> = of.atoms.iter().map(|atom| atom.codes[position]).collect();
            codes.sort_unstable();
            codes.dedup();
            let mut add = |words: String, is_it: &dyn Fn(Code) -> bool| {
                let mut classes = FixedBitSet::with_capacity(of.atoms.len());
                of.atoms.iter().enumerate().filter(|(_, atom)| is_it(atom.codes[position])).for_each(|(n, _)| classes.insert(n));
                classes.intersect_with(live);
                if !classes.is_clear() && !literals.iter().any(|(known, same)| *known == words && *same == classes) {
                    literals.push((words, classes));
                }
            };
            for &code in &codes {
                let Some(words) = cuts[cut].words(code) else { continue };
                add(words, &|other| other == code);
            }
            if let Some(words) = cuts[cut].words(HOLDS) {
                // Where a session is opened, proofs that are not stated are such as open it.
                add(words.clone(), &|other| other == HOLDS || other == NOT_STATED);
                add(format!("unless {words}"), &|other| other != HOLDS);
            }
        }
        // What says more in fewer words comes first.
        literals.sort_by_key(|(words, _)| words.starts_with("unless"));
        if let Some((words, _)) = literals.iter().find(|(_, classes)| *classes == wanted) {
            return words.clone();
        }
        all_of(&literals, &wanted).or_else(|| any_of(&literals, &wanted)).unwrap_or_else(|| {
            let not_stated = of.atoms.iter().enumerate().filter(|(n, _)| live.contains(*n)).all(|(n, atom)| {
                let is_stated = cuts_are_stated(of, atom, cuts);
                is_stated == wanted.contains(n)
            });
            let fact = fact(&of.name);
            if not_stated {
                format!("where {fact} is stated")
            } else {
                format!("in {} of {} sorts of {fact}", wanted.count_ones(..), live.count_ones(..))
            }
        })
    }
}

/// Returns whether some cut has words for a class: those of a fact that is not stated have none.
fn cuts_are_stated(axis: &Axis, atom: &super::axis::Atom, cuts: &[Cut]) -> bool {
    axis.cuts.iter().zip(&atom.codes).any(|(cut, code)| cuts[*cut].words(*code).is_some())
}

fn fact(name: &AxisName) -> String {
    match name {
        AxisName::At => "the time".to_owned(),
        AxisName::Origin => "the origin".to_owned(),
        AxisName::Channel => "the channel".to_owned(),
        AxisName::Proofs => "the proofs".to_owned(),
        AxisName::Attributes(names) => format!("the attribute `{}`", names.join("` and `")),
    }
}

/// How many sorts of sessions are told of one line.
const MAX_TOLD: usize = 4;

/// Says some classes as what has several things in common.
fn all_of(literals: &[(String, FixedBitSet)], wanted: &FixedBitSet) -> Option<String> {
    let mut words: Vec<&str> = Vec::new();
    let mut left: Option<FixedBitSet> = None;
    for (text, classes) in literals.iter().filter(|(_, classes)| wanted.is_subset(classes)) {
        let narrower = match &left {
            None => classes.clone(),
            Some(left) => {
                let mut both = left.clone();
                both.intersect_with(classes);
                both
            }
        };
        if left.as_ref() != Some(&narrower) {
            words.push(text);
            left = Some(narrower);
        }
        if left.as_ref() == Some(wanted) {
            return Some(words.join(", "));
        }
    }
    None
}

/// Says some classes as one of several things.
fn any_of(literals: &[(String, FixedBitSet)], wanted: &FixedBitSet) -> Option<String> {
    let mut words: Vec<&str> = Vec::new();
    let mut reached = FixedBitSet::with_capacity(wanted.len());
    for (text, classes) in literals.iter().filter(|(_, classes)| classes.is_subset(wanted)) {
        if !classes.is_subset(&reached) {
            words.push(text);
            reached.union_with(classes);
        }
        if reached == *wanted {
            return Some(words.join(" or "));
        }
    }
    None
}
