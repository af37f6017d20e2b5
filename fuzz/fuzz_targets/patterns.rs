//! Any text as a pattern: what is read reads back to the same, and what is not says where.
#![no_main]

use libfuzzer_sys::fuzz_target;
use zest_ledger::command::Pattern;

fuzz_target!(|text: &str| {
    match Pattern::parse(text) {
        Ok(pattern) => assert_eq!(Pattern::parse(&pattern.to_string()), Ok(pattern)),
        Err(error) => assert!(text.get(error.span).is_some()),
    }
});
