//! Helpers for the project's own tests: a plain evaluator to compare with, random ledgers to compare on, and large
//! ledgers to measure.

pub mod clouds;
pub mod company;
pub mod databases;
pub mod edits;
pub mod estates;
pub mod facts;
pub mod hosts;
pub mod naive;
pub mod pages;
pub mod random;
pub mod servers;
pub mod shapes;
pub mod sized;
pub mod turns;

/// Returns a number of the environment, or the one that every run takes, and says which.
fn setting(name: &str, otherwise: u64) -> u64 {
    let value = std::env::var(name).ok().and_then(|text| text.parse().ok()).unwrap_or(otherwise);
    println!("{name}={value}");
    value
}

/// Returns the first seed: `ZEST_SEED`, or always the same one.
#[must_use]
pub fn seed(otherwise: u64) -> u64 {
    setting("ZEST_SEED", otherwise)
}

/// Returns how many questions are asked: `ZEST_QUESTIONS`, or enough for every run.
#[must_use]
pub fn questions(otherwise: usize) -> usize {
    setting("ZEST_QUESTIONS", otherwise as u64) as usize
}

/// Returns how many questions are put through real processes: `ZEST_PROCESSES`, or enough for every run.
#[must_use]
pub fn processes(otherwise: usize) -> usize {
    setting("ZEST_PROCESSES", otherwise as u64) as usize
}
