//! All sessions at once: a decision is run on one session of each class that it can tell apart.
//!
//! A session is listened to while a decision runs. What the decision looked at, and how that came out, says for which other sessions
//! it would come out alike: for all in which the same looks come out the same. So each run settles a part of all sessions, and what is
//! left is tried by turning one look after the other round. Nothing of the rules is written a second time.

use std::any::Any;
use std::collections::BTreeSet;
use std::sync::{Arc, Mutex, MutexGuard, PoisonError};

use rustc_hash::FxHashMap;

use super::axis::{Axis, Ground};
use super::look::{Code, Cut, Look, Test};
use super::membership;
use super::region::{Block, Region, full};
use crate::engine::trace::Trace;
use crate::links::Condition;
use zest_model::ask::{Decision, Ear, Question, Session};
use zest_model::listing::Membership;

/// How many classes of the sessions that start alike are tried for one action.
const MAX_PARTS: usize = 4_096;

/// What was heard.
#[derive(Debug, Default)]
struct Heard {
    cuts: Vec<Cut>,
    by_meaning: FxHashMap<String, usize>,
    /// The cuts of conditions, by where these lie in memory: an estate is not moved while it is asked.
    by_address: FxHashMap<usize, usize>,
    /// What the run that is on looked at, in order.
    order: Vec<usize>,
}

impl Heard {
    fn hear(&mut self, what: &dyn Any) {
        let number = if let Some(condition) = what.downcast_ref::<Condition>() {
            let address = std::ptr::from_ref(condition) as usize;
            // What is compared is filled in anew each time, and lies nowhere for long.
            let lasts = !matches!(condition, Condition::Compare(_));
            match self.by_address.get(&address).filter(|_| lasts) {
                Some(&known) => known,
                None => {
                    let number = self.add(Cut::of_condition(condition));
                    if lasts {
                        self.by_address.insert(address, number);
                    }
                    number
                }
            }
        } else if let Some(look) = what.downcast_ref::<Look>() {
            let known = self.cuts.iter().position(|cut| matches!(&cut.test, Test::Look(known) if known.is_like(look)));
            known.unwrap_or_else(|| self.add(Cut::of_look(look)))
        } else {
            return;
        };
        if !self.order.contains(&number) {
            self.order.push(number);
        }
    }

    fn add(&mut self, cut: Cut) -> usize {
        if let Some(&known) = self.by_meaning.get(&cut.meaning) {
            return known;
        }
        let number = self.cuts.len();
        self.by_meaning.insert(cut.meaning.clone(), number);
        self.cuts.push(cut);
        number
    }
}

/// How looks came out, in the order in which they were made.
pub(super) type Path = Vec<(usize, Code)>;

/// Sessions for which a decision comes out alike.
#[derive(Clone, Debug, PartialEq, Eq, Hash)]
pub(super) struct Part {
    pub(super) path: Path,
    pub(super) membership: Membership,
}

/// All parts of the sessions that start alike.
#[derive(Clone, Debug, Default)]
pub(super) struct Parts {
    pub(super) list: Vec<Part>,
    /// The facts that were looked at, each with how often its classes had been found anew.
    pub(super) looked_at: Vec<(usize, usize)>,
    /// What was not tried, since there was too much.
    pub(super) open: Vec<Path>,
}

impl Parts {
    /// Returns whether nothing is allowed or left open.
    pub(super) const fn is_nothing(&self) -> bool {
        self.list.is_empty() && self.open.is_empty()
    }

    /// Returns how looks come out in the sessions in which something is allowed or left open.
    pub(super) fn paths(&self) -> Vec<Path> {
        self.list.iter().map(|part| &part.path).chain(&self.open).cloned().collect()
    }
}

/// The sessions that decisions can tell apart, as far as decisions were run.
#[derive(Debug)]
pub(super) struct Space {
    heard: Arc<Mutex<Heard>>,
    pub(super) axes: Vec<Axis>,
    /// How often the classes of each fact were found anew.
    versions: Vec<usize>,
    /// Which axis each cut is on.
    axis_of: Vec<usize>,
    ground: Ground,
}

impl Space {
    /// Returns the facts that are stated of every session.
    pub(super) const fn stated(&self) -> &Session {
        &self.ground.stated
    }

    pub(super) fn new(ground: Ground) -> Self {
        Self { heard: Arc::default(), axes: Vec::new(), versions: Vec::new(), axis_of: Vec::new(), ground }
    }

    fn heard(&self) -> MutexGuard<'_, Heard> {
        self.heard.lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// Returns the cuts.
    pub(super) fn cuts(&self) -> Vec<Cut> {
        self.heard().cuts.clone()
    }

    /// Takes up cuts that were heard for the first time.
    fn catch_up(&mut self) {
        let heard = Arc::clone(&self.heard);
        let heard = heard.lock().unwrap_or_else(PoisonError::into_inner);
        if heard.cuts.len() == self.axis_of.len() {
            return;
        }
        let mut touched: Vec<usize> = Vec::new();
        for (number, cut) in heard.cuts.iter().enumerate().skip(self.axis_of.len()) {
            let axis = self.axes.iter().position(|axis| axis.name == cut.axis).unwrap_or_else(|| {
                self.axes.push(Axis::new(cut.axis.clone()));
                self.versions.push(0);
                self.axes.len() - 1
            });
            self.axes[axis].cuts.push(number);
            self.axis_of.push(axis);
            if !touched.contains(&axis) {
                touched.push(axis);
            }
        }
        for axis in touched {
            self.axes[axis].divide(&heard.cuts, &self.ground);
            self.versions[axis] += 1;
        }
    }

    /// Returns a session in which looks come out so, made of one that starts it; nothing where there is none.
    fn session(&self, start: &Session, path: &Path) -> Option<Session> {
        let mut session = start.clone();
        for (number, axis) in self.axes.iter().enumerate() {
            // The first is not to be stated at all.
            if path.iter().any(|(cut, _)| self.axis_of[*cut] == number) {
                let atom = self.classes(number, path).next()?;
                axis.atoms[atom].value.state(&mut session);
            }
        }
        Some(session)
    }

    /// Returns the classes of a fact in which its looks come out as in a path.
    fn classes(&self, axis: usize, path: &Path) -> impl Iterator<Item = usize> {
        let wanted: Vec<(usize, Code)> = path.iter().filter(|(cut, _)| self.axis_of[*cut] == axis).copied().collect();
        let axis = &self.axes[axis];
        (0..axis.atoms.len()).filter(move |atom| wanted.iter().all(|&(cut, code)| axis.code(*atom, cut) == code))
    }

    /// Runs a decision on every class of sessions that it can tell apart, of those that start like one.
    /// Only those are looked at in which looks come out as in one of some paths.
    pub(super) fn explore(&mut self, question: &Question, within: &[Path], decide: impl Fn(&Question, &mut Trace) -> Decision) -> Parts {
        let mut parts = Parts::default();
        let mut open: Vec<Path> = within.to_vec();
        let mut runs = 0;
        let mut looked_at: BTreeSet<usize> = BTreeSet::new();
        let mut asked = question.clone();
        let heard = Arc::clone(&self.heard);
        let ear = Ear::new(move |what| heard.lock().unwrap_or_else(PoisonError::into_inner).hear(what));
        while let Some(path) = open.pop() {
            if runs >= MAX_PARTS {
                parts.open.push(path);
                continue;
            }
            let Some(session) = self.session(&question.session, &path) else { continue };
            asked.session = session;
            asked.session.ear = ear.clone();
            runs += 1;
            self.heard().order.clear();
            let membership = membership(decide(&asked, &mut Trace::silent()));
            // What comes now is not looked at by the decision.
            asked.session.ear = Ear::default();
            self.catch_up();
            let order = std::mem::take(&mut self.heard().order);
            let mut taken = path;
            for cut in order {
                if taken.iter().any(|(known, _)| *known == cut) {
                    continue;
                }
                let (code, others) = self.codes(cut, &asked.session, &taken);
                for other in others {
                    let mut turned = taken.clone();
                    turned.push((cut, other));
                    open.push(turned);
                }
                taken.push((cut, code));
            }
            looked_at.extend(taken.iter().map(|&(cut, _)| self.axis_of[cut]));
            // What is denied is all that is in no other part.
            if membership != Membership::Denied {
                parts.list.push(Part { path: taken, membership });
            }
        }
        parts.looked_at = looked_at.into_iter().map(|axis| (axis, self.versions[axis])).collect();
        parts
    }

    /// Returns whether classes have been found since that an exploration knew nothing of.
    pub(super) fn is_outdated(&self, parts: &Parts) -> bool {
        parts.looked_at.iter().any(|&(axis, version)| self.versions[axis] != version)
    }

    /// Returns whether a fact that a path looks at has more values than are tried.
    pub(super) fn is_cut_short(&self, path: &Path) -> bool {
        path.iter().any(|&(cut, _)| self.axes[self.axis_of[cut]].is_cut_short)
    }

    /// Returns how a cut comes out in a session, and how it comes out in others in which other looks come out so.
    fn codes(&self, cut: usize, session: &Session, path: &Path) -> (Code, Vec<Code>) {
        let own = self.heard().cuts[cut].outcome(session);
        let number = self.axis_of[cut];
        let axis = &self.axes[number];
        let mut codes: Vec<Code> = self.classes(number, path).map(|atom| axis.code(atom, cut)).filter(|code| *code != own).collect();
        codes.sort_unstable();
        codes.dedup();
        (own, codes)
    }

    /// Returns how many classes each fact has.
    pub(super) fn sizes(&self) -> Vec<usize> {
        self.axes.iter().map(|axis| axis.atoms.len()).collect()
    }

    /// Returns the sessions in which looks come out so; nothing where there are none.
    pub(super) fn block(&self, path: &Path) -> Option<Block> {
        let mut block = Block::default();
        for &(cut, code) in path {
            let number = self.axis_of[cut];
            let axis = &self.axes[number];
            let classes = block.0.entry(number).or_insert_with(|| full(axis.atoms.len()));
            for atom in 0..axis.atoms.len() {
                if axis.code(atom, cut) != code {
                    classes.set(atom, false);
                }
            }
            if classes.is_clear() {
                return None;
            }
        }
        Some(block)
    }

    /// Returns the sessions of some paths.
    pub(super) fn region<'p>(&self, paths: impl Iterator<Item = &'p Path>) -> Region {
        Region::of(paths.filter_map(|path| self.block(path)).collect(), &self.sizes())
    }

    /// Returns the class of a session of each fact; nothing where it has a value that no class was found for.
    pub(super) fn point(&self, session: &Session) -> Option<Vec<usize>> {
        let heard = self.heard();
        self.axes.iter().map(|axis| axis.class(&heard.cuts, session)).collect()
    }

    /// Returns a session in a block, made of one that starts it.
    pub(super) fn example(&self, start: &Session, block: &Block) -> Session {
        let mut session = start.clone();
        for (&axis, classes) in &block.0 {
            if let Some(atom) = classes.ones().next() {
                self.axes[axis].atoms[atom].value.state(&mut session);
            }
        }
        session
    }
}
