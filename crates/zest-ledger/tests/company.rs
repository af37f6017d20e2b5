//! A company over all kinds, small here and of a million people in `benches/million.rs`, is valid and answers as it was made to.

use std::collections::BTreeMap;

use zest_ledger::ask::Verdict;
use zest_ledger::{Engine, Ledger};
use zest_testkit::company::Company;

#[test]
fn every_kind_answers_as_the_company_was_made() {
    let company = Company { users: 2_000, roles: 400, grants: 40_000, seed: zest_testkit::seed(1) };
    let ledger = company.documents().fold(Ledger::new(), |ledger, (name, text)| ledger.document(&name, &text));
    let engine = Engine::compile(ledger.estate().unwrap_or_else(|f| panic!("{f}"))).unwrap_or_else(|f| panic!("{f}"));
    let mut counts: BTreeMap<&str, usize> = BTreeMap::new();
    for (kind, question, allowed) in company.questions() {
        let decision = engine.decide(&question);
        assert_eq!(decision.verdict == Verdict::Allowed, allowed, "{question:?}: {decision:?}");
        *counts.entry(kind).or_default() += 1;
    }
    assert_eq!(counts.len(), 6, "{counts:?}");
    assert!(counts.values().all(|count| *count >= 1_000), "{counts:?}");
}
