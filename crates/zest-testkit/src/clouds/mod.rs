//! Random clouds, and a plain evaluator of them.

pub mod naive;
pub mod random;
