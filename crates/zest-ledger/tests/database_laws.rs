//! Laws of both servers' states, on random estates: what no rule of a server may break, and that our fast answers are
//! the plain ones.

use fastrand::Rng;
use fixedbitset::FixedBitSet;
use zest_ledger::drift::Side;
use zest_ledger::{Ledger, mariadb, postgresql};
use zest_testkit::databases;

const ESTATES: u64 = 60;

fn first_seed() -> u64 {
    let seed = std::env::var("ZEST_SEED").ok().and_then(|s| s.parse().ok()).unwrap_or(42);
    eprintln!("laws of databases: first seed {seed} (ZEST_SEED)");
    seed
}

fn each_postgresql(mut body: impl FnMut(u64, &mut Rng, postgresql::State)) {
    for seed in first_seed()..first_seed() + ESTATES {
        let mut rng = Rng::with_seed(seed);
        let size = databases::postgresql::Size { roles: 7, tables: 6, grants: 40 };
        let state = databases::postgresql::estate(&mut rng, "ticketing", "", size);
        body(seed, &mut rng, state);
    }
}

fn each_mariadb(mut body: impl FnMut(u64, &mut Rng, mariadb::State)) {
    for seed in first_seed()..first_seed() + ESTATES {
        let mut rng = Rng::with_seed(seed);
        let state = databases::mariadb::estate(&mut rng, databases::mariadb::Size { logins: 4, roles: 4, tables: 6, grants: 40 });
        body(seed, &mut rng, state);
    }
}

/// Every (role, object, column, privilege, option) of a state.
fn cells(state: &postgresql::State, mut body: impl FnMut(&str, &postgresql::ObjectName, Option<&str>, postgresql::Privilege, bool)) {
    for role in state.roles.keys() {
        for (name, object) in &state.objects {
            for privilege in name.class.applicable().iter() {
                for option in [false, true] {
                    body(role, name, None, privilege, option);
                    for column in object.columns.iter().filter(|_| !privilege.implies().is_empty()) {
                        body(role, name, Some(&column.name), privilege, option);
                    }
                }
            }
        }
    }
}

const fn want(option: bool) -> postgresql::Want {
    if option { postgresql::Want::GrantOption } else { postgresql::Want::Privilege }
}

#[test]
fn the_compiled_answer_is_the_plain_one_and_has_a_way_exactly_when_it_holds() {
    let mut held = 0;
    let mut asked = 0;
    each_postgresql(|seed, _, state| {
        let catalog = postgresql::Catalog::compile(state.clone());
        cells(&state, |role, name, column, privilege, option| {
            let (r, o) = (catalog.role(role).expect("compiled"), catalog.object(name).expect("compiled"));
            let fast = match column {
                None => catalog.holds(r, o, privilege, want(option)),
                Some(column) => catalog.holds_column(r, o, column, privilege, want(option)),
            };
            let plain = state.has(role, name, column, privilege, option);
            let way = catalog.way(r, o, column, privilege, want(option));
            assert_eq!(fast, plain, "seed {seed}: {role} {privilege:?} on {name} {column:?}, option {option}");
            assert_eq!(way.is_some(), plain, "seed {seed}: {role} {privilege:?} on {name} {column:?}, option {option}: {way:?}");
            held += u64::from(plain);
            asked += 1;
        });
    });
    assert!(held > asked / 20 && held < asked * 19 / 20, "{held} of {asked} are held: the estates say nothing");
}

#[test]
fn a_way_starts_at_who_asks_and_goes_along_memberships() {
    each_postgresql(|seed, _, state| {
        let catalog = postgresql::Catalog::compile(state.clone());
        cells(&state, |role, name, column, privilege, option| {
            let (r, o) = (catalog.role(role).expect("compiled"), catalog.object(name).expect("compiled"));
            let way = catalog.way(r, o, column, privilege, want(option));
            let Some(postgresql::Way::Owner { chain } | postgresql::Way::Predefined { chain } | postgresql::Way::Grant { chain, .. }) = way
            else {
                return;
            };
            assert!(chain.first().is_none_or(|first| first == role), "seed {seed}: {chain:?} does not start at {role}");
            for pair in chain.windows(2) {
                assert!(state.may_become(&pair[0], &pair[1]), "seed {seed}: {} is no member of {}", pair[0], pair[1]);
                let inherits = state.roles.get(&pair[0]).is_none_or(|r| r.inherit);
                assert!(inherits, "seed {seed}: {} does not inherit", pair[0]);
            }
        });
    });
}

#[test]
fn a_row_of_the_matrix_is_what_single_questions_say() {
    each_postgresql(|seed, _, state| {
        let catalog = postgresql::Catalog::compile(state);
        let roles: Vec<String> = catalog.state().roles.keys().cloned().collect();
        for &privilege in postgresql::Privilege::ALL {
            let matrix = catalog.matrix(privilege);
            let mut row = FixedBitSet::default();
            for role in &roles {
                let number = catalog.role(role).expect("compiled");
                matrix.row(number, &mut row);
                for (i, name) in catalog.objects().iter().enumerate() {
                    let object = catalog.object(name).expect("compiled");
                    let single = catalog.holds(number, object, privilege, postgresql::Want::Privilege);
                    assert_eq!(row.contains(i), single, "seed {seed}: {role} {privilege:?} on {name}");
                }
            }
        }
    });
}

#[test]
fn a_grant_takes_nothing_away_and_a_revoke_gives_nothing() {
    let mut carried_out = [0, 0];
    each_postgresql(|seed, rng, state| {
        let roles: Vec<String> = state.roles.keys().filter(|r| *r != "postgres").cloned().collect();
        let mut now = state;
        for _ in 0..12 {
            let change = databases::postgresql::random_change(rng, &now, &roles);
            let before = now.clone();
            if now.change(&change).is_err() {
                assert!(now == before, "seed {seed}: what is refused changes nothing: {change:?}");
                continue;
            }
            carried_out[usize::from(change.revoke)] += 1;
            cells(&before, |role, name, column, privilege, option| {
                let (was, is) = (before.has(role, name, column, privilege, option), now.has(role, name, column, privilege, option));
                let broken = if change.revoke { !was && is } else { was && !is };
                assert!(!broken, "seed {seed}: {role} {privilege:?} on {name} {column:?}: {was} then {is} by {change:?}");
            });
        }
    });
    assert!(carried_out.iter().all(|n| *n > 50), "{carried_out:?}");
}

#[test]
fn granting_twice_is_granting_once() {
    each_postgresql(|seed, rng, state| {
        let roles: Vec<String> = state.roles.keys().filter(|r| *r != "postgres").cloned().collect();
        // By the owner: whoever grants to himself through a group's option is another grantor the second time.
        let change = postgresql::GrantChange { by: None, ..databases::postgresql::random_change(rng, &state, &roles) };
        let (mut once, mut twice) = (state.clone(), state);
        let _ = once.change(&change);
        let _ = twice.change(&change);
        let _ = twice.change(&change);
        assert!(once == twice, "seed {seed}: {change:?}");
    });
    each_mariadb(|seed, rng, state| {
        let change = databases::mariadb::random_change(rng, &state);
        let (mut once, mut twice) = (state.clone(), state);
        let _ = once.change(&change);
        let _ = twice.change(&change);
        assert!(!twice.change(&change), "seed {seed}: {}", change.sql());
        assert!(once == twice, "seed {seed}: {}", change.sql());
    });
}

#[test]
fn a_document_of_a_state_read_again_is_that_state() {
    each_postgresql(|seed, _, state| {
        let document = state.document("ticketing", None);
        let estate = Ledger::new().document("read.toml", &document).estate().unwrap_or_else(|f| panic!("seed {seed}: {f}\n{document}"));
        let again = postgresql::state_of(&estate, "ticketing", None).expect("it is there");
        assert_eq!(again.drift(&state), [], "seed {seed}\n{document}");
        assert_eq!(again.document("ticketing", None), document, "seed {seed}: it is written the same");
    });
    each_mariadb(|seed, _, state| {
        let document = state.document("loyalty", None);
        let estate = Ledger::new().document("read.toml", &document).estate().unwrap_or_else(|f| panic!("seed {seed}: {f}\n{document}"));
        let again = mariadb::state_of(&estate, "loyalty", None).expect("it is there");
        assert_eq!(again.drift(&state), [], "seed {seed}\n{document}");
        assert_eq!(again.document("loyalty", None), document, "seed {seed}: it is written the same");
    });
}

#[test]
fn a_difference_is_the_same_from_both_sides_and_none_needs_no_statement() {
    let turned = |list: &[zest_ledger::drift::Drift]| {
        let other = |side: Side| if side == Side::Server { Side::Ledger } else { Side::Server };
        let mut list: Vec<(bool, String)> = list.iter().map(|d| (other(d.side) == Side::Server, d.what.clone())).collect();
        list.sort();
        list
    };
    let straight = |list: &[zest_ledger::drift::Drift]| {
        let mut list: Vec<(bool, String)> = list.iter().map(|d| (d.side == Side::Server, d.what.clone())).collect();
        list.sort();
        list
    };
    each_postgresql(|seed, rng, state| {
        assert_eq!(state.drift(&state), [], "seed {seed}");
        assert_eq!(state.steps_to(&state, "postgres"), [], "seed {seed}");
        let roles: Vec<String> = state.roles.keys().filter(|r| *r != "postgres").cloned().collect();
        let mut other = state.clone();
        for _ in 0..8 {
            let _ = other.change(&databases::postgresql::random_change(rng, &other, &roles));
        }
        assert_eq!(straight(&state.drift(&other)), turned(&other.drift(&state)), "seed {seed}");
        assert_eq!(state.drift(&other).is_empty(), state.steps_to(&other, "postgres").is_empty(), "seed {seed}");
    });
    let root = mariadb::AccountName::new("root", "localhost");
    each_mariadb(|seed, rng, state| {
        assert_eq!(state.drift(&state), [], "seed {seed}");
        assert_eq!(state.steps_to(&state, &root), [], "seed {seed}");
        let mut other = state.clone();
        for _ in 0..8 {
            let _ = other.change(&databases::mariadb::random_change(rng, &other));
        }
        assert_eq!(straight(&state.drift(&other)), turned(&other.drift(&state)), "seed {seed}");
        assert_eq!(state.drift(&other).is_empty(), state.steps_to(&other, &root).is_empty(), "seed {seed}");
    });
}

#[test]
fn a_global_grant_takes_nothing_away_on_mariadb() {
    each_mariadb(|seed, rng, state| {
        let accounts: Vec<&mariadb::AccountName> = state.accounts.keys().collect();
        let account = accounts[rng.usize(..accounts.len())].clone();
        let view = |state: &mariadb::State| mariadb::View::of_definer(state, &account).table("loyalty", "table_0").0.privileges;
        let mut more = state.clone();
        more.change(&mariadb::GrantChange {
            scope: mariadb::Scope::Everything,
            columns: Vec::new(),
            privileges: mariadb::Privilege::Select.only(),
            holder: mariadb::Holder::Account(account.clone()),
            revoke: false,
            place: None,
        });
        let (was, is) = (view(&state), view(&more));
        assert!(was.without(is).is_empty(), "seed {seed}: {account} had {was}, has {is}");
        assert!(is.contains(mariadb::Privilege::Select), "seed {seed}: {account}");
    });
}
