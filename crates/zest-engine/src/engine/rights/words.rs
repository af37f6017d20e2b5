//! A set as few lines: actions that are allowed in the same sessions stand together, and sessions are told in words.

use std::collections::BTreeMap;

use fixedbitset::FixedBitSet;

use super::axis::{Axis, AxisName};
use super::look::{Code, Cut, HOLDS, NOT_STATED};
use super::region::{Block, Region, full};
use super::{Cell, Line, Membership, Rights};
use zest_model::ask::Session;

impl Axis {
    /// Returns whether it is one of an attribute.
    pub(super) fn has_attribute(&self, name: &str) -> bool {
        matches!(&self.name, AxisName::Attributes(names) if names.iter().any(|known| known == name))
    }
}

impl Rights {
    /// Returns what is in the set, as few lines: of each sort of membership and for each identity, the actions that have the same
    /// sessions; identities for which that is the same stand together.
    #[must_use]
    pub fn lines(&self) -> Vec<Line> {
        let cuts = self.frame.space.cuts();
        let all: Vec<usize> = (0..self.frame.openings.len()).collect();
        // Openings that differ in level, mode and active roles alone.
        let identities = self.grouped(&all, |session| Session { level: None, mode: None, active_roles: None, ..session.clone() });
        let mut lines = Vec::new();
        for layer in [Membership::Allowed, Membership::After, Membership::NotDecided, Membership::NotHere] {
            // The actions with their openings, by the sessions in which they are allowed.
            let mut found: BTreeMap<(Vec<usize>, &[Block]), Vec<usize>> = BTreeMap::new();
            for (_, openings) in &identities {
                for (sessions, actions) in self.alike(layer, openings) {
                    // Openings with the same sessions stand together as well.
                    let mut openings: BTreeMap<&[Block], Vec<usize>> = BTreeMap::new();
                    for (opening, blocks) in sessions {
                        openings.entry(blocks).or_default().push(opening);
                    }
                    for (blocks, openings) in openings {
                        found.entry((actions.clone(), blocks)).or_default().extend(openings);
                    }
                }
            }
            let mut of_layer: Vec<Line> = found
                .into_iter()
                .map(|((actions, blocks), openings)| {
                    let region = Region { blocks: blocks.to_vec() };
                    Line {
                        when: self.told(&region, &cuts),
                        example: self.question(openings[0], actions[0], &region),
                        actions,
                        openings,
                        membership: layer,
                    }
                })
                .collect();
            of_layer.sort_by_key(|line| (line.actions[0], line.openings[0]));
            lines.extend(of_layer);
        }
        lines
    }

    /// Returns the actions that have the same sessions of a sort of membership in some openings, with these.
    fn alike(&self, layer: Membership, openings: &[usize]) -> BTreeMap<Vec<(usize, &[Block])>, Vec<usize>> {
        let mut alike: BTreeMap<Vec<(usize, &[Block])>, Vec<usize>> = BTreeMap::new();
        for action in 0..self.frame.actions.len() {
            let of = |&opening: &usize| {
                let (_, region) = self.cell(opening, action).layers().into_iter().find(|(l, _)| *l == layer)?;
                (!region.is_empty()).then_some((opening, region.blocks.as_slice()))
            };
            let sessions: Vec<_> = openings.iter().filter_map(of).collect();
            if !sessions.is_empty() {
                alike.entry(sessions).or_default().push(action);
            }
        }
        alike
    }

    /// Puts openings together whose sessions have in common what is left of them; in the order of the first of each.
    ///
    /// # Example
    /// ```
    /// use zest_ledger::{Ledger, ask::Session, rights::Within};
    /// # let text = r#"
    /// # users.mate-1.proofs = ["password"]
    /// # users.mate-2.proofs = ["password"]
    /// # systems.rota.kind = "application"
    /// # [applications.rota]
    /// # types.shift.rights = ["plan", "drop"]
    /// # objects."shift/early" = {}
    /// # grants = [{ allow = ["plan"], on = "shift/*", to = ["user:mate-1"] }]
    /// # "#;
    /// # let engine = Ledger::new().document("rota.toml", text).engine(1)?;
    /// let set = engine.rights("mate-1", "rota", &Within::default()).expect("both are known");
    ///
    /// let groups = set.grouped(&[0], |_| Session::default());
    /// assert_eq!((groups.len(), groups[0].1.as_slice()), (1, [0].as_slice()));
    /// # Ok::<(), zest_ledger::finding::Findings>(())
    /// ```
    #[must_use]
    pub fn grouped(&self, openings: &[usize], left: impl Fn(&Session) -> Session) -> Vec<(Session, Vec<usize>)> {
        let mut list: Vec<(Session, Vec<usize>)> = Vec::new();
        for &opening in openings {
            let session = left(&self.frame.openings[opening].session);
            match list.iter_mut().find(|(known, _)| *known == session) {
                Some((_, known)) => known.push(opening),
                None => list.push((session, vec![opening])),
            }
        }
        list
    }

    /// Says which sessions can do anything at all; empty where every session can.
    ///
    /// # Example
    /// ```
    /// use zest_ledger::{Ledger, rights::Within};
    /// # let text = r#"
    /// # users.mate-1.proofs = ["password"]
    /// # users.mate-2.proofs = ["password"]
    /// # systems.rota.kind = "application"
    /// # [applications.rota]
    /// # types.shift.rights = ["plan", "drop"]
    /// # objects."shift/early" = {}
    /// # grants = [{ allow = ["plan"], on = "shift/*", to = ["user:mate-1"] }]
    /// # "#;
    /// # let engine = Ledger::new().document("rota.toml", text).engine(1)?;
    /// let set = engine.rights("mate-1", "rota", &Within::default()).expect("both are known");
    ///
    /// assert_eq!(set.entry_words(), "with password");
    /// # Ok::<(), zest_ledger::finding::Findings>(())
    /// ```
    #[must_use]
    pub fn entry_words(&self) -> String {
        let cuts = self.frame.space.cuts();
        let all: Vec<FixedBitSet> = self.frame.sizes.iter().map(|&size| full(size)).collect();
        let told: Vec<String> = self
            .frame
            .live
            .iter()
            .enumerate()
            .filter(|(axis, classes)| self.is_told(*axis, classes, &all[*axis]) && !classes.is_clear())
            .map(|(axis, classes)| self.told_axis(axis, classes, &all[axis], &cuts))
            .collect();
        told.join(", ")
    }

    fn told(&self, region: &Region, cuts: &[Cut]) -> String {
        let live = &self.frame.live;
        let mut blocks: Vec<String> = region
            .blocks
            .iter()
            .map(|block| {
                let told = block.0.iter().filter(|(axis, classes)| self.is_told(**axis, classes, &live[**axis]));
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
        // What is so is told before what is not.
        literals.sort_by_key(|(words, _)| (words.starts_with("unless "), words.starts_with("not ") || words.starts_with("without ")));
        if let Some((words, _)) = literals.iter().find(|(_, classes)| *classes == wanted) {
            return words.clone();
        }
        let is_stated = |n: usize| cuts_are_stated(of, &of.atoms[n], cuts);
        if live.ones().all(|n| is_stated(n) == wanted.contains(n)) {
            return format!("where {} is stated", fact(&of.name));
        }
        let several = |wanted: &FixedBitSet| all_of(&literals, wanted).or_else(|| any_of(&literals, wanted));
        let or_not_stated = || {
            let mut stated = wanted.clone();
            live.ones().filter(|n| !is_stated(*n)).for_each(|n| stated.set(n, false));
            let is_any = live.ones().all(|n| is_stated(n) || wanted.contains(n));
            let told = several(&stated).filter(|_| is_any && !stated.is_clear())?;
            Some(format!("{told}, or where {} is not stated", fact(&of.name)))
        };
        several(&wanted)
            .or_else(or_not_stated)
            .unwrap_or_else(|| format!("in {} of {} sorts of {}", wanted.count_ones(..), live.count_ones(..), fact(&of.name)))
    }

    /// Returns whether it is told which classes of a fact are meant: that an attribute is not stated which a session need not state
    /// goes without saying.
    fn is_told(&self, axis: usize, classes: &FixedBitSet, live: &FixedBitSet) -> bool {
        let of = &self.frame.space.axes[axis];
        let is_left_out = matches!(of.name, AxisName::Attributes(_)) && classes.ones().filter(|n| live.contains(*n)).eq([0]);
        !live.is_subset(classes) && !is_left_out
    }
}

/// Returns the classes of each fact in which anything at all may be done, or is not known.
pub(super) fn live<'c>(cells: impl Iterator<Item = &'c Cell>, sizes: &[usize]) -> Vec<FixedBitSet> {
    let mut live: Vec<FixedBitSet> = sizes.iter().map(|&size| FixedBitSet::with_capacity(size)).collect();
    for (_, region) in cells.flat_map(Cell::layers) {
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
            return Some(needed(literals, &words, wanted).join(", "));
        }
    }
    None
}

/// Returns those of some words without which too many classes would be meant.
fn needed<'w>(literals: &[(String, FixedBitSet)], words: &[&'w str], wanted: &FixedBitSet) -> Vec<&'w str> {
    let means = |words: &[&str]| {
        let mut all = literals.iter().filter(|(text, _)| words.contains(&text.as_str())).map(|(_, classes)| classes.clone());
        let first = all.next().unwrap_or_else(|| full(wanted.len()));
        all.fold(first, |mut both, classes| {
            both.intersect_with(&classes);
            both
        })
    };
    let mut left = words.to_vec();
    for word in words {
        let without: Vec<&str> = left.iter().copied().filter(|other| other != word).collect();
        if !without.is_empty() && means(&without) == *wanted {
            left = without;
        }
    }
    left
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
