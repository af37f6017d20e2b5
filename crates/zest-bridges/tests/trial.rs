//! Private servers: they hold what they were given, answer under each identity, and are not reached out of.

use zest_bridges::private::{Mariadb, Postgresql, Said};
use zest_ledger::mariadb::AccountName;
use zest_ledger::postgresql::{Class, ObjectName, Privilege};
use zest_testkit::servers;

use crate::support::demo;

#[test]
fn a_private_postgresql_answers_under_each_identity_and_takes_everything_back() {
    // Whether it is installed is said loudly where it is not.
    if servers::wanted(servers::postgresql).is_none() {
        return;
    }
    let estate = demo().estate().unwrap_or_else(|f| panic!("{f}"));
    let state = zest_ledger::postgresql::state_of(&estate, "ticketing", None).expect("the demo has it");
    let mut server = Postgresql::start(&state).unwrap_or_else(|e| panic!("{e}"));
    let price = ObjectName::new(Class::Table, &["fares", "price"]);
    for (role, column, privilege, holds) in [
        ("fare-reader", None, Privilege::Select, true),
        ("fare-reader", None, Privilege::Update, false),
        ("fare-clerk", Some("amount"), Privilege::Update, true),
        ("fare-clerk", Some("zone"), Privilege::Update, false),
    ] {
        assert_eq!(server.session().holds(role, &price, column, privilege, false).expect("it answers"), holds, "{role} {column:?}");
    }
    let mut said = |account: &str, role: Option<&str>, statement: &str| server.attempt(account, role, statement).expect("it answers");
    assert_eq!(said("tariff-1", None, "update fares.price set amount = 1"), Some(Said::Allowed));
    assert!(matches!(said("tariff-1", None, "update fares.price set zone = 1"), Some(Said::Refused(text)) if text.contains("42501")));
    assert!(matches!(said("purser-3", None, "select id from fares.price"), Some(Said::Refused(_))));
    assert_eq!(said("purser-3", Some("fare-clerk"), "select id from fares.price"), Some(Said::Allowed));
    assert_eq!(said("postgres", None, "drop table fares.draft"), Some(Said::Allowed));
    assert_eq!(said("postgres", None, "select id from fares.draft"), Some(Said::Allowed), "the drop was taken back");
    assert!(matches!(said("tariff-1", None, "select id from fares.nothing"), Some(Said::Otherwise(_))));
    for statement in
        ["copy fares.price to program 'true'", "SELECT pg_read_file('x')", "drop table fares.draft; COMMIT", "select lo_export(1, '/x')"]
    {
        assert_eq!(said("postgres", None, statement), None, "{statement}");
    }
}

#[test]
fn a_private_mariadb_answers_under_each_identity_and_holds_the_same_afterwards() {
    if servers::wanted(servers::mariadb).is_none() {
        return;
    }
    let estate = demo().estate().unwrap_or_else(|f| panic!("{f}"));
    let state = zest_ledger::mariadb::state_of(&estate, "loyalty", None).expect("the demo has it");
    let mut server = Mariadb::start(&state).unwrap_or_else(|e| panic!("{e}"));
    let tariff = AccountName::new("tariff-1", "198.51.100.%");
    let mut said =
        |account: &AccountName, role: Option<&str>, statement: &str| server.attempt(account, role, statement).expect("it answers");
    assert_eq!(said(&tariff, Some("member-reader"), "select name from club.member"), Some(Said::Allowed));
    assert!(matches!(said(&tariff, None, "select name from club.member"), Some(Said::Refused(_))));
    assert!(matches!(said(&tariff, Some("auditor"), "select 1"), Some(Said::Refused(_))), "the role is not granted to it");
    assert_eq!(said(&tariff, Some("campaign"), "delete from campaigns.letter"), Some(Said::Allowed));
    // It could not be taken back, so it is not tried.
    assert_eq!(said(&tariff, Some("campaign"), "drop table campaigns.letter"), None);
    assert_eq!(said(&AccountName::new("root", "localhost"), None, "select 1 into outfile '/x'"), None);
    server.is_as_it_was().unwrap_or_else(|e| panic!("{e}"));
}
