//! The session in which most is allowed.

use std::cmp::Reverse;
use std::collections::BTreeMap;
use std::sync::Arc;

use super::region::{Block, Region, full};
use super::words::live;
use super::{Cell, Frame, Rights, Sort, sort_of};
use zest_model::ask::{Central, Fact, Session};

/// The session of a set in which most actions are allowed, at once or after obligations; of those with as many, one in which most are
/// allowed at once, and then one of which least must be stated.
///
/// # Example
/// ```
/// use zest_ledger::{Ledger, rights::Within};
/// # let text = r#"
/// # users.mate-1.proofs = ["password"]
/// # users.mate-2.proofs = ["password"]
/// # systems.rota.kind = "application"
/// # [applications.rota]
/// # types.shift.rights = ["plan"]
/// # objects."shift/early" = {}
/// # grants = [{ allow = ["plan"], on = "shift/*", to = ["user:mate-1"] }]
/// # "#;
/// let text = text.replace("mate-1\"] }", "mate-1\"], when = { channel = ['web'] } }");
/// let engine = Ledger::new().document("rota.toml", &text).engine(1)?;
/// let best = engine.rights("mate-1", "rota", &Within::default()).expect("both are known").best().expect("something is allowed");
/// assert_eq!((best.session.channel.expect("it is needed").word(), best.allowed, best.is_proved), ("web", 2, true));
/// # Ok::<(), zest_ledger::finding::Findings>(())
/// ```
#[derive(Clone, Debug)]
pub struct Best {
    /// The number of the opening that it starts as.
    pub opening: usize,
    /// What is stated of it: nothing that makes no difference.
    pub session: Session,
    /// How many actions are allowed at once.
    pub allowed: usize,
    /// How many are allowed after obligations.
    pub after: usize,
    /// Whether all sessions were looked at that the set tells apart; if not, another may be better.
    pub is_proved: bool,
    /// What is in the set of sessions that start so and in which all of this is allowed.
    pub rights: Rights,
}

/// How much is allowed: actions at once or after obligations, then those at once.
type Score = (usize, usize);

/// Actions that are allowed in the same sessions.
struct Alike<'r> {
    allowed: &'r Region,
    after: &'r Region,
    count: usize,
}

impl Alike<'_> {
    /// Returns the sessions in which they are allowed, with what each brings: more first.
    fn choices(&self) -> impl Iterator<Item = (&Block, Score)> {
        let at_once = self.allowed.blocks.iter().map(|block| (block, (self.count, self.count)));
        at_once.chain(self.after.blocks.iter().map(|block| (block, (self.count, 0))))
    }

    /// Returns what they bring at most in some sessions.
    fn most(&self, within: &Block) -> Score {
        self.choices().find(|(block, _)| within.and(block).is_some()).map_or((0, 0), |(_, score)| score)
    }
}

/// How many choices are tried in all; those that come first are made for every way in which a session starts.
const MAX_TRIED: usize = 20_000;

/// Some sessions that start alike, and what is allowed in all of them: the actions from a place on are still to be chosen for.
struct Chosen {
    within: Block,
    score: Score,
    next: usize,
    /// Whether the sessions were chosen for as many actions as could be: nothing is weighed up before these are gone through.
    is_first: bool,
}

/// Looks for sessions with more than is known, by choosing for the actions that are alike one after the other in which sessions they are
/// allowed. Every choice counts as tried.
fn most(alike: &[Alike<'_>], mut best: Score, tried: &mut usize) -> Option<(Score, Block)> {
    let mut found = None;
    let mut open = vec![Chosen { within: Block::default(), score: (0, 0), next: 0, is_first: true }];
    while let Some(Chosen { within, score, next, is_first }) = open.pop() {
        *tried += 1;
        if score > best {
            (best, found) = (score, Some(within.clone()));
        }
        let Some(of) = alike.get(next) else { continue };
        let rest = || alike[next..].iter();
        let is_hopeless = |gains: &mut dyn Iterator<Item = Score>| gains.fold(score, plus) <= best;
        if is_hopeless(&mut rest().map(|of| (of.count, of.count)))
            || !is_first && *tried > MAX_TRIED
            || !is_first && is_hopeless(&mut rest().map(|of| of.most(&within)))
        {
            continue;
        }
        let choices = of.choices().filter_map(|(block, gain)| {
            let narrower = within.and(block)?;
            Some(Chosen { within: narrower, score: plus(score, gain), next: next + 1, is_first: false })
        });
        let mut choices: Vec<Chosen> = choices.collect();
        choices.push(Chosen { within, score, next: next + 1, is_first: false });
        choices[0].is_first = is_first;
        // The last is gone on with first.
        open.extend(choices.into_iter().rev());
    }
    found.map(|block| (best, block))
}

const fn plus(one: Score, other: Score) -> Score {
    (one.0 + other.0, one.1 + other.1)
}

impl Rights {
    /// Returns the session in which most actions are allowed; nothing where none is in any. That a central source is down is nothing
    /// that somebody can bring about: such sessions are looked at where that is stated.
    #[must_use]
    pub fn best(&self) -> Option<Best> {
        let is_stated_down = self.frame.space.stated().central == Central::Down;
        let mut openings: Vec<usize> = (0..self.frame.openings.len())
            .filter(|&opening| is_stated_down || self.frame.openings[opening].session.central != Central::Down)
            .collect();
        // The plainest first: another must be better to be taken.
        openings.sort_by_key(|&opening| {
            let session = &self.frame.openings[opening].session;
            (session.acting.len(), session.stated_facts().count())
        });
        let mut best: Option<(Score, usize, Block)> = None;
        let mut tried = 0;
        let mut is_all = self.frame.left_out.is_empty();
        for opening in openings {
            is_all &= (0..self.frame.actions.len()).all(|action| self.cell(opening, action).not_here.is_empty());
            let known = best.as_ref().map_or((0, 0), |(score, ..)| *score);
            if let Some((score, block)) = most(&self.alike_in(opening), known, &mut tried) {
                best = Some((score, opening, block));
            }
        }
        let (score, opening, block) = best?;
        let alike = self.alike_in(opening);
        let session = self.with_least(self.frame.space.example(&self.frame.openings[opening].session, &block), &alike, score);
        let rights = self.in_sessions(opening, self.widest(&session, &alike));
        let is_proved = is_all && tried <= MAX_TRIED;
        Some(Best { opening, session, allowed: score.1, after: score.0 - score.1, is_proved, rights })
    }

    /// Returns the actions of an opening by the sessions in which they are allowed: many first.
    fn alike_in(&self, opening: usize) -> Vec<Alike<'_>> {
        let mut alike: BTreeMap<(&[Block], &[Block]), Alike<'_>> = BTreeMap::new();
        for action in 0..self.frame.actions.len() {
            let cell = self.cell(opening, action);
            let (allowed, after) = (&cell.allowed, &cell.after);
            if !allowed.is_empty() || !after.is_empty() {
                alike.entry((&allowed.blocks, &after.blocks)).or_insert(Alike { allowed, after, count: 0 }).count += 1;
            }
        }
        let mut alike: Vec<Alike<'_>> = alike.into_values().collect();
        alike.sort_by_key(|alike| Reverse(alike.count));
        alike
    }

    /// Returns how much is allowed in a session that starts so.
    fn score(&self, session: &Session, alike: &[Alike<'_>]) -> Option<Score> {
        let point = self.frame.space.point(session)?;
        let gain = |of: &Alike<'_>| match (of.allowed.contains(&point), of.after.contains(&point)) {
            (true, _) => (of.count, of.count),
            (false, true) => (of.count, 0),
            (false, false) => (0, 0),
        };
        Some(alike.iter().map(gain).fold((0, 0), plus))
    }

    /// Leaves out of a session what makes no difference to how much is allowed, but for what is stated of all.
    fn with_least(&self, mut session: Session, alike: &[Alike<'_>], score: Score) -> Session {
        let stated: Vec<Fact> = self.frame.space.stated().stated_facts().collect();
        let keeps = |session: &mut Session, narrower: Session| {
            if self.score(&narrower, alike) >= Some(score) {
                *session = narrower;
            }
        };
        let facts = session.stated_facts().filter(|fact| sort_of(*fact) == Sort::Classes && !stated.contains(fact));
        for fact in facts.collect::<Vec<_>>() {
            let mut without = session.clone();
            without.take(fact, &Session::default());
            keeps(&mut session, without);
            match fact {
                Fact::Proofs => {
                    for proven in session.proofs.clone().into_iter().flatten() {
                        let mut without = session.clone();
                        without.proofs.iter_mut().for_each(|proofs| proofs.retain(|other| *other != proven));
                        keeps(&mut session, without);
                    }
                }
                Fact::Attributes => {
                    for (name, _) in session.attributes.clone() {
                        let mut without = session.clone();
                        without.attributes.retain(|(other, _)| *other != name);
                        keeps(&mut session, without);
                    }
                }
                Fact::At | Fact::Origin | Fact::Local | Fact::Channel => {}
                Fact::Level | Fact::Mode | Fact::Account | Fact::Roles | Fact::Acting | Fact::Central => {}
                Fact::Expires | Fact::Confirmed | Fact::ApprovedBy | Fact::ApproverProofs => {}
            }
        }
        session
    }

    /// Returns sessions that start as one does and in which all is allowed that is allowed in it: as many as one block holds.
    fn widest(&self, session: &Session, alike: &[Alike<'_>]) -> Block {
        let Some(point) = self.frame.space.point(session) else { return Block::default() };
        let regions = alike.iter().flat_map(|of| [of.allowed, of.after]).filter(|region| region.contains(&point));
        let regions: Vec<&Region> = regions.collect();
        let sizes = &self.frame.sizes;
        let mut all = Block::default();
        for (axis, &class) in point.iter().enumerate() {
            let mut alone = full(sizes[axis]);
            alone.clear();
            alone.insert(class);
            all.0.insert(axis, alone);
        }
        for axis in 0..sizes.len() {
            let mut wider = all.clone();
            wider.0.remove(&axis);
            let wider = Region { blocks: vec![wider] };
            let mut classes = full(sizes[axis]);
            for region in &regions {
                // In one of these classes at least it is not allowed any more.
                for lacking in wider.minus(region, sizes).blocks {
                    match lacking.0.get(&axis) {
                        Some(those) => classes.difference_with(those),
                        None => classes.clear(),
                    }
                }
            }
            // OK because the session itself has one of them.
            all.0.insert(axis, classes);
        }
        all.0.retain(|&axis, classes| classes.count_ones(..) < sizes[axis]);
        all
    }

    /// Returns what is in the set of some of the sessions that start alike.
    fn in_sessions(&self, opening: usize, block: Block) -> Self {
        let Frame { space, sizes, live: _, openings, shut, left_out, unsaid, actions } = &*self.frame;
        let sessions = Region::of(vec![block], sizes);
        let within = |cell: &Cell| cell.map(cell, |region, _| region.and(&sessions, sizes));
        let cells: Vec<Cell> = (0..actions.len()).map(|action| within(self.cell(opening, action))).collect();
        let frame = Frame {
            space: Arc::clone(space),
            sizes: sizes.clone(),
            live: live(cells.iter(), sizes),
            openings: vec![openings[opening].clone()],
            shut: shut.clone(),
            left_out: left_out.clone(),
            unsaid: unsaid.clone(),
            actions: actions.clone(),
        };
        let entries = vec![within(&self.entries[opening])];
        Self { frame: Arc::new(frame), cells, entries, user: self.user.clone(), system: self.system.clone() }
    }
}
