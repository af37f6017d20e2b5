//! Helpers for the project's own tests: a plain evaluator to compare with, random ledgers to compare on, and large
//! ledgers to measure.

pub mod clouds;
pub mod databases;
pub mod hosts;
pub mod naive;
pub mod pages;
pub mod random;
pub mod servers;
pub mod sized;
