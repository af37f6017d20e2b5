//! Tests of the core through its public interface.

mod engines_agree;
