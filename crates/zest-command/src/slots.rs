//! All placeholders of a ledger as one deterministic automaton over the bytes of a word.
//!
//! Each placeholder is a few small machines that are deterministic already: digits within a range, an address of one
//! sort, a beginning and an end. A state of the automaton is the list of those that a word has not left yet, each with its own
//! state. A library for regular expressions makes the same automaton, and took half of the start of the program for it: it
//! cannot know that an address is never in two places at once.

use std::collections::VecDeque;
use std::rc::Rc;

use rustc_hash::FxHashMap;

use crate::pattern::Slot;

/// The most memory the table of the automaton may take.
const MAX_BYTES: usize = 32 << 20;
/// The most steps of single machines that making the table may take: about a second.
const MAX_STEPS: usize = 50_000_000;

/// A state of the automaton. Nothing leads out of [`State::DEAD`], and no placeholder takes a word that ends there.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash, PartialOrd, Ord)]
pub(crate) struct State(u32);

impl State {
    pub(crate) const DEAD: Self = Self(0);
    pub(crate) const START: Self = Self(1);
}

/// See the [module](self).
#[derive(Debug)]
pub(crate) struct Slots {
    /// For each byte which of the columns of the table it has.
    column: Box<[u8; 256]>,
    columns: usize,
    next: Vec<State>,
    /// For each state which list of placeholders takes the word that ends there.
    taken_by: Vec<u32>,
    lists: Vec<Vec<u32>>,
}

impl Slots {
    /// Makes the automaton of placeholders, which are known by their places in the list from here on; nothing where they need a
    /// larger table, or more steps to make it, than is allowed.
    pub(crate) fn build(slots: &[&Slot]) -> Option<Self> {
        let machines: Vec<(u32, Machine<'_>)> =
            slots.iter().enumerate().flat_map(|(i, slot)| Machine::of(slot).into_iter().map(move |m| (i as u32, m))).collect();
        let (column, letters) = columns(slots);
        let columns = letters.len();
        let mut this = Self { column, columns, next: vec![State::DEAD; columns], taken_by: vec![0], lists: vec![Vec::new()] };
        let mut lists = FxHashMap::from_iter([(Vec::new(), 0)]);
        let start: Live = (0..machines.len() as u32).map(|m| (m, 0)).collect();
        // No word leads back to the start, not even where all its machines are as they were: it would be the word that is empty.
        let mut states: FxHashMap<Live, State> = FxHashMap::default();
        let mut queue = VecDeque::from([start]);
        let (mut steps, mut next, mut before) = (0, Vec::new(), Vec::new());
        // States are numbered in the order in which they are found, and looked at in that order: their rows follow each other.
        while let Some(live) = queue.pop_front() {
            let mut taken: Vec<u32> =
                live.iter().filter(|&&(m, s)| machines[m as usize].1.takes(s)).map(|&(m, _)| machines[m as usize].0).collect();
            taken.dedup();
            let known = lists.len() as u32;
            let list = *lists.entry(taken).or_insert_with_key(|taken| {
                this.lists.push(taken.clone());
                known
            });
            this.taken_by.push(list);
            steps += live.len() * columns;
            if steps > MAX_STEPS || (this.next.len() + columns) * size_of::<State>() > MAX_BYTES {
                return None;
            }
            let mut to = State::DEAD;
            before.clear();
            for &byte in &letters {
                next.clear();
                next.extend(live.iter().filter_map(|&(m, s)| Some((m, machines[m as usize].1.step(s, byte)?))));
                // Letters side by side mostly lead to the same place, and most of them nowhere.
                if next != before {
                    let known = if next.is_empty() { Some(State::DEAD) } else { states.get(next.as_slice()).copied() };
                    to = known.unwrap_or_else(|| {
                        let (new, live) = (State(states.len() as u32 + 2), Live::from(next.as_slice()));
                        states.insert(live.clone(), new);
                        queue.push_back(live);
                        new
                    });
                    std::mem::swap(&mut next, &mut before);
                }
                this.next.push(to);
            }
        }
        Some(this)
    }

    /// Returns where a byte leads from a state.
    pub(crate) fn next(&self, state: State, byte: u8) -> State {
        self.next[state.0 as usize * self.columns + usize::from(self.column[usize::from(byte)])]
    }

    /// Returns where a word leads from the start.
    pub(crate) fn walk(&self, word: &str) -> State {
        word.bytes().fold(State::START, |state, byte| self.next(state, byte))
    }

    /// Returns the number of the list of those that take a word which ends in a state; 0 is the empty list.
    pub(crate) fn list_at(&self, state: State) -> u32 {
        self.taken_by[state.0 as usize]
    }

    /// Returns the placeholders of a list, ascending.
    pub(crate) fn list(&self, list: u32) -> &[u32] {
        &self.lists[list as usize]
    }

    /// Returns how many lists there are.
    pub(crate) const fn list_count(&self) -> usize {
        self.lists.len()
    }

    /// Returns which column a byte has: bytes of one column are never told apart.
    pub(crate) fn column(&self, byte: u8) -> u8 {
        self.column[usize::from(byte)]
    }
}

/// The machines that a word has not left, ascending, each with its state.
type Live = Rc<[(u32, u32)]>;

/// Gives bytes that no machine tells apart one column; returns a byte of each column.
fn columns(slots: &[&Slot]) -> (Box<[u8; 256]>, Vec<u8>) {
    // What stands in an affix is compared with it; else machines look at ranges of bytes, which begin here.
    let (mut is_written, mut begins) = ([false; 256], [false; 256]);
    let mut begin = |bytes: &[u8]| bytes.iter().for_each(|b| begins[usize::from(*b)] = true);
    for slot in slots {
        match slot {
            Slot::Word => {}
            Slot::Number => digits(&[], &mut begin),
            Slot::Range(low, high) => digits(format!("{low}{high}").as_bytes(), &mut begin),
            Slot::Address => begin(ADDRESS),
            Slot::Network => {
                begin(ADDRESS);
                begin(b"/0");
                digits(format!("0{LONGEST_FOUR}{LONGEST_SIX}").as_bytes(), &mut begin);
            }
            Slot::Affix(start, end) => start.bytes().chain(end.bytes()).for_each(|b| is_written[usize::from(b)] = true),
        }
    }
    let mut column = Box::new([0; 256]);
    let mut letters: Vec<u8> = Vec::new();
    let mut column_of_range: FxHashMap<usize, u8> = FxHashMap::default();
    let mut range = 0;
    for byte in 0..=u8::MAX {
        range += usize::from(begins[usize::from(byte)]);
        let mut new = || {
            letters.push(byte);
            letters.len() as u8 - 1
        };
        column[usize::from(byte)] = if is_written[usize::from(byte)] { new() } else { *column_of_range.entry(range).or_insert_with(new) };
    }
    (column, letters)
}
/// The bytes at which the ranges begin that addresses look at, and where the ranges end.
const ADDRESS: &[u8] = b"./012356:;ag";

/// Says where the ranges begin that are looked at when digits are compared with the ends of a range.
fn digits(ends: &[u8], begin: &mut impl FnMut(&[u8])) {
    begin(b"01:");
    ends.iter().for_each(|digit| begin(&[*digit, *digit + 1]));
}

/// One way in which a placeholder takes words. Its states are numbers, 0 the one before the first byte.
enum Machine<'s> {
    /// Any bytes, at least one.
    Any,
    /// A whole number in a range.
    Digits(Digits),
    /// An address of one sort, or with a prefix length a network.
    Address(Sort, Option<Digits>),
    /// A beginning, and an end with where to go on in it when it breaks off.
    Affix(&'s [u8], &'s [u8], Vec<usize>),
}

/// How an address is written.
#[derive(Clone, Copy)]
enum Sort {
    /// Four octets.
    Four,
    /// Groups of hexadecimal digits.
    Six,
    /// `::ffff:` and four octets.
    Mapped,
}

/// The longest prefixes of both sorts of addresses.
const LONGEST_FOUR: u64 = 32;
const LONGEST_SIX: u64 = 128;
/// The states of a prefix length begin here, behind those of the address.
const LENGTH: u32 = 1 << 16;
/// What stands before the octets of an IPv4 address in the clothes of IPv6.
const MAPPED: &[u8] = b"::ffff:";

impl<'s> Machine<'s> {
    fn of(slot: &'s Slot) -> Vec<Self> {
        let up_to = |high| Some(Digits::new(0, high));
        match slot {
            Slot::Word => vec![Self::Any],
            Slot::Number => vec![Self::Digits(Digits::new(0, 999_999_999_999_999_999))],
            Slot::Range(low, high) => vec![Self::Digits(Digits::new(*low, *high))],
            Slot::Address => vec![Self::Address(Sort::Four, None), Self::Address(Sort::Six, None), Self::Address(Sort::Mapped, None)],
            Slot::Network => {
                vec![
                    Self::Address(Sort::Four, up_to(LONGEST_FOUR)),
                    Self::Address(Sort::Six, up_to(LONGEST_SIX)),
                    Self::Address(Sort::Mapped, up_to(LONGEST_SIX)),
                ]
            }
            Slot::Affix(start, end) => vec![Self::Affix(start.as_bytes(), end.as_bytes(), falls_back(end.as_bytes()))],
        }
    }

    /// Returns where a byte leads, or nothing where no word goes on like that.
    fn step(&self, state: u32, byte: u8) -> Option<u32> {
        match self {
            Self::Any => Some(1),
            Self::Digits(digits) => digits.step(state, byte),
            Self::Address(sort, None) => sort.step(state, byte),
            Self::Address(_, Some(length)) if state >= LENGTH => length.step(state - LENGTH, byte).map(|s| s + LENGTH),
            Self::Address(sort, Some(_)) if byte == b'/' => sort.takes(state).then_some(LENGTH),
            Self::Address(sort, Some(_)) => sort.step(state, byte),
            Self::Affix(start, end, falls_back) => {
                let state = state as usize;
                if let Some(expected) = start.get(state) {
                    return (*expected == byte).then_some(state as u32 + 1);
                }
                let mut at = state - start.len();
                loop {
                    match end.get(at) {
                        Some(expected) if *expected == byte => {
                            at += 1;
                            break;
                        }
                        _ if at == 0 => break,
                        _ => at = falls_back[at - 1],
                    }
                }
                Some((start.len() + at) as u32)
            }
        }
    }

    /// Returns whether it takes a word that ends in a state.
    fn takes(&self, state: u32) -> bool {
        match self {
            Self::Any => state > 0,
            Self::Digits(digits) => digits.takes(state),
            Self::Address(sort, None) => sort.takes(state),
            Self::Address(_, Some(length)) => state >= LENGTH && length.takes(state - LENGTH),
            Self::Affix(start, end, _) => state as usize == start.len() + end.len(),
        }
    }
}

/// For each beginning of `text` the longest shorter one that is also its end: where a search goes on that breaks off behind it.
fn falls_back(text: &[u8]) -> Vec<usize> {
    let mut longest = vec![0; text.len()];
    for i in 1..text.len() {
        let mut at = longest[i - 1];
        while at > 0 && text[i] != text[at] {
            at = longest[at - 1];
        }
        longest[i] = if text[i] == text[at] { at + 1 } else { 0 };
    }
    longest
}

/// Whole numbers in a range, without leading zeros: a state says how many digits were read, and how they compare with as many digits of either end.
struct Digits {
    low: Vec<u8>,
    high: Vec<u8>,
}

/// Behind a leading zero, after which nothing may follow.
const ZERO: u32 = 1;
/// States behind `n` digits begin at `n * ORDERS + ZERO`.
const ORDERS: u32 = 9;

impl Digits {
    fn new(low: u64, high: u64) -> Self {
        Self { low: low.to_string().into_bytes(), high: high.to_string().into_bytes() }
    }

    fn step(&self, state: u32, byte: u8) -> Option<u32> {
        if !byte.is_ascii_digit() || state == ZERO {
            return None;
        }
        if state == 0 && byte == b'0' {
            return (self.low == b"0").then_some(ZERO);
        }
        let (read, low, high) = if state == 0 { (0, 1, 1) } else { Self::parts(state) };
        let compare = |order: u32, with: &[u8]| match with.get(read) {
            Some(digit) if order == 1 => byte.cmp(digit) as i8 as i32 + 1,
            _ => order as i32,
        };
        let (low, high, read) = (compare(low, &self.low), compare(high, &self.high), read + 1);
        // The lengths at which the number may end: that of an end only if it does not lie beyond it.
        let shortest = self.low.len() + usize::from(low == 0);
        let longest = self.high.len() - usize::from(high == 2);
        (read.max(shortest) <= longest).then_some(read as u32 * ORDERS + (low * 3 + high) as u32 + ZERO)
    }

    fn takes(&self, state: u32) -> bool {
        if state <= ZERO {
            return state == ZERO;
        }
        let (read, low, high) = Self::parts(state);
        (read > self.low.len() || read == self.low.len() && low >= 1) && (read < self.high.len() || high <= 1)
    }

    /// Returns how many digits were read, and 0, 1 or 2 for less, the same, and more than either end so far.
    const fn parts(state: u32) -> (usize, u32, u32) {
        let orders = (state - ZERO) % ORDERS;
        ((state - ZERO) as usize / ORDERS as usize, orders / 3, orders % 3)
    }
}

impl Sort {
    fn step(self, state: u32, byte: u8) -> Option<u32> {
        match self {
            Self::Four => octets::step(state, byte),
            Self::Six => groups::step(state, byte),
            Self::Mapped => match MAPPED.get(state as usize) {
                Some(expected) => (*expected == byte).then_some(state + 1),
                None => octets::step(state - MAPPED.len() as u32, byte).map(|s| s + MAPPED.len() as u32),
            },
        }
    }

    fn takes(self, state: u32) -> bool {
        match self {
            Self::Four => octets::takes(state),
            Self::Six => groups::takes(state),
            Self::Mapped => state.checked_sub(MAPPED.len() as u32).is_some_and(octets::takes),
        }
    }
}

/// Four numbers up to 255 with dots between them: which of them, and how far it may still go.
mod octets {
    /// Nothing of the octet yet.
    const NONE: u32 = 0;
    /// `1`: two digits may follow.
    const ONE: u32 = 1;
    /// `2`: one digit may follow, and another behind `0` to `4`, or up to `5` behind `5`.
    const TWO: u32 = 2;
    /// One digit of any kind may follow.
    const ANY: u32 = 3;
    /// `25`: one digit up to `5` may follow.
    const FIVE: u32 = 4;
    /// Nothing may follow.
    const DONE: u32 = 5;
    const STATES: u32 = 6;

    pub(super) fn step(state: u32, byte: u8) -> Option<u32> {
        let (octet, within) = (state / STATES, state % STATES);
        if byte == b'.' {
            return (within != NONE && octet < 3).then_some((octet + 1) * STATES);
        }
        let within = match (within, byte) {
            (NONE, b'0') | (ANY, b'0'..=b'9') | (FIVE, b'0'..=b'5') | (TWO, b'6'..=b'9') => DONE,
            (NONE, b'1') => ONE,
            (NONE, b'2') => TWO,
            (NONE, b'3'..=b'9') | (ONE, b'0'..=b'9') | (TWO, b'0'..=b'4') => ANY,
            (TWO, b'5') => FIVE,
            _ => return None,
        };
        Some(octet * STATES + within)
    }

    pub(super) const fn takes(state: u32) -> bool {
        state / STATES == 3 && state % STATES != NONE
    }
}

/// Groups as RFC 5952 writes them, without leading zeros, and one `::` for two groups or more: on which side of it, how many groups
/// stand before or may stand behind, and how far the group is.
mod groups {
    const GROUPS: u32 = 8;
    /// Nothing of the group yet; 1 to 4 are as many digits.
    const NONE: u32 = 0;
    const FULL: u32 = 4;
    /// `0`: nothing may follow in this group.
    const ZERO: u32 = 5;
    /// A colon that another colon or a group follows.
    const COLON: u32 = 6;
    const STATES: u32 = 7;
    /// Behind the `::`.
    const BEHIND: u32 = GROUPS * STATES;

    pub(super) fn step(state: u32, byte: u8) -> Option<u32> {
        let behind = state >= BEHIND;
        let (side, state) = if behind { (BEHIND, state - BEHIND) } else { (0, state) };
        let (groups, within) = (state / STATES, state % STATES);
        if byte == b':' {
            return match within {
                // OK because behind the `::` a colon must have a group to come.
                NONE if behind => None,
                COLON if behind => None,
                NONE => Some(COLON),
                COLON => (groups + 2 <= GROUPS).then(|| BEHIND + (GROUPS - 2 - groups) * STATES),
                _ if behind => (groups > 0).then_some(side + groups * STATES + COLON),
                _ => (groups + 1 < GROUPS).then_some((groups + 1) * STATES + COLON),
            };
        }
        if !matches!(byte, b'0'..=b'9' | b'a'..=b'f') {
            return None;
        }
        let first = if byte == b'0' { ZERO } else { 1 };
        match within {
            COLON if !behind && groups == 0 => None,
            NONE | COLON if behind => Some(side + groups.checked_sub(1)? * STATES + first),
            NONE | COLON => Some(groups * STATES + first),
            FULL | ZERO => None,
            _ => Some(side + groups * STATES + within + 1),
        }
    }

    pub(super) const fn takes(state: u32) -> bool {
        let (behind, within) = (state >= BEHIND, state % STATES);
        within != COLON && (behind || state / STATES == GROUPS - 1 && within != NONE)
    }
}
