//! The rules of MariaDB 10.11 by name, without a server: the real one holds them in `zest-bridges`.

use zest_ledger::mariadb::{
    Account, AccountName, Class, GrantChange, Holder, Level, Object, ObjectName, Origin, Privilege, Privileges, Said, Scope, State,
    Trigger, View, admits, matches, say,
};

fn from(address: &str) -> Origin {
    Origin::Address(address.parse().expect("an address"))
}

/// Accounts, and tables `club.member (id, name)`, `club.points (id, n)` and `club_archive.member (id)`.
fn state(accounts: &[&str]) -> State {
    let mut state = State::fresh();
    for account in accounts {
        state.accounts.insert(AccountName::parse(account).expect("login@origin"), Account::default());
    }
    for (database, table, columns) in
        [("club", "member", &["id", "name"][..]), ("club", "points", &["id", "n"]), ("club_archive", "member", &["id"])]
    {
        state.databases.insert(database.to_owned());
        let columns = columns.iter().map(|c| ((*c).to_owned(), "int".to_owned())).collect();
        state.objects.insert(ObjectName::new(Class::Table, database, table), Object { columns, ..Object::default() });
    }
    state
}

/// Grants, written as `select, insert on club.member (id) to desk@%`; a name without origin is a role, `public` is PUBLIC.
fn grant(state: &mut State, text: &str) {
    let (words, rest) = text.split_once(" on ").expect("on");
    let (on, to) = rest.split_once(" to ").expect("to");
    let holder = match (to, AccountName::parse(to)) {
        ("public", _) => Holder::Public,
        (_, Some(account)) if to.contains('@') => Holder::Account(account),
        _ => {
            state.roles.insert(to.to_owned());
            Holder::Role(to.to_owned())
        }
    };
    let (on, columns) =
        on.split_once(" (").map_or((on, Vec::new()), |(on, c)| (on, c.trim_end_matches(')').split(", ").map(str::to_owned).collect()));
    let scope = match on.split_once('.') {
        None => Scope::Everything,
        Some((database, "*")) => Scope::Databases(database.to_owned()),
        Some((database, table)) => Scope::Table(database.to_owned(), table.to_owned()),
    };
    let privileges: Privileges = words.split(", ").map(|w| Privilege::from_word(w).unwrap_or_else(|| panic!("no privilege {w}"))).collect();
    state.change(&GrantChange { scope, columns, privileges, holder, revoke: false, place: None });
}

fn member(state: &mut State, account: &str, role: &str) {
    state.roles.insert(role.to_owned());
    let holder = if account.contains('@') {
        Holder::Account(AccountName::parse(account).expect("an account"))
    } else {
        Holder::Role(account.to_owned())
    };
    state.memberships.insert((holder, role.to_owned()), false);
}

fn said(state: &State, login: &str, address: &str, role: Option<&str>, sql: &str) -> Said {
    let origin = from(address);
    let account = state.account_for(login, &origin).unwrap_or_else(|| panic!("nobody for {login} from {address}"));
    say(state, &View::new(state, account, origin.clone(), role), None, sql)
}

/// Whether a session of `login` from an address, with a role or none, may run a statement.
fn may(state: &State, login: &str, address: &str, role: Option<&str>, sql: &str) -> bool {
    match said(state, login, address, role, sql) {
        Said::Allowed => true,
        Said::Refused(..) => false,
        Said::NotDecided(why) => panic!("{sql}: not decided: {why}"),
    }
}

const MEMBERS: &str = "select id from club.member";

#[test]
fn origins_and_what_they_admit() {
    for (pattern, address, expected) in [
        ("%", "192.0.2.7", true),
        ("192.0.2.7", "192.0.2.7", true),
        ("192.0.2.7", "192.0.2.70", false),
        ("192.0.2.%", "192.0.2.70", true),
        ("192.0.2.%", "192.0.20.7", false),
        ("192.0.2._", "192.0.2.7", true),
        ("192.0.2._", "192.0.2.70", false),
        ("192.0.2.0/255.255.255.0", "192.0.2.200", true),
        ("192.0.2.0/255.255.255.0", "192.0.3.1", false),
        ("192.0.2.0/255.255.255.128", "192.0.2.200", false),
        ("localhost", "127.0.0.1", false),
        ("127.0.0.1", "127.0.0.1", true),
        ("192.0.2.%", "::ffff:192.0.2.7", true),
        ("2001:db8::%", "2001:db8::7", true),
    ] {
        assert_eq!(admits(pattern, &from(address)), expected, "{pattern} and {address}");
    }
    assert!(admits("localhost", &Origin::Local) && admits("%", &Origin::Local) && !admits("127.0.0.1", &Origin::Local));
}

#[test]
fn the_most_special_origin_is_taken_and_a_name_before_nobody() {
    for (accounts, address, expected) in [
        (&["desk@%", "desk@192.0.2.%", "desk@192.0.2.7"][..], "192.0.2.7", Some("desk@192.0.2.7")),
        (&["desk@%", "desk@192.0.2.%", "desk@192.0.2.7"], "192.0.2.8", Some("desk@192.0.2.%")),
        (&["desk@%", "desk@192.0.2.%", "desk@192.0.2.7"], "203.0.113.1", Some("desk@%")),
        (&["desk@%", "@192.0.2.%"], "192.0.2.7", Some("@192.0.2.%")),
        (&["desk@%", "@192.0.2.%"], "203.0.113.1", Some("desk@%")),
        (&["desk@%", "@%"], "192.0.2.7", Some("desk@%")),
        (&["desk@192.0.2.%", "@192.0.2.7"], "192.0.2.7", Some("@192.0.2.7")),
        (&["desk@192.0.2.7", "@192.0.2.%"], "192.0.2.7", Some("desk@192.0.2.7")),
        (&["other@%"], "192.0.2.7", None),
        (&["desk@198.51.100.%"], "192.0.2.7", None),
        (&["Desk@%"], "192.0.2.7", None),
    ] {
        let state = state(accounts);
        let found = state.account_for("desk", &from(address)).map(ToString::to_string);
        assert_eq!(found.as_deref(), expected, "{accounts:?} from {address}");
    }
}

#[test]
fn patterns_of_databases_and_their_escapes() {
    for (name, pattern, expected) in [
        ("club", "club", true),
        ("club_archive", "club%", true),
        ("club_archive", "club_archive", true),
        ("clubXarchive", "club_archive", true),
        ("clubXarchive", "club\\_archive", false),
        ("club_archive", "club\\_archive", true),
        ("club", "clu_", true),
        ("club", "%", true),
        ("100%", "100\\%", true),
        ("1000", "100\\%", false),
    ] {
        assert_eq!(matches(name, pattern), expected, "{name} and {pattern}");
    }
}

#[test]
fn levels_and_what_they_reach() {
    for (text, reaches) in [
        ("select on everything to desk@%", ["club.member", "club.points", "club_archive.member"].as_slice()),
        ("select on club.* to desk@%", &["club.member", "club.points"]),
        ("select on club%.* to desk@%", &["club.member", "club.points", "club_archive.member"]),
        ("select on club.member to desk@%", &["club.member"]),
        ("select on club.member (id) to desk@%", &["club.member"]),
        ("insert on club.member to desk@%", &[]),
        ("select on nowhere.* to desk@%", &[]),
    ] {
        let mut state = state(&["desk@%"]);
        grant(&mut state, text);
        for table in ["club.member", "club.points", "club_archive.member"] {
            let allowed = may(&state, "desk", "192.0.2.7", None, &format!("select id from {table}"));
            assert_eq!(allowed, reaches.contains(&table), "{text}: {table}");
        }
    }
}

#[test]
fn every_level_takes_what_applies_to_it() {
    for privilege in Privilege::ALL {
        let levels: Vec<Level> = privilege.granted_at().collect();
        assert_eq!(levels.first(), Some(&Level::Global), "{privilege:?}: everything can be granted on everything");
        assert_eq!(privilege.implies().is_empty(), levels.len() == 1, "{privilege:?}");
        assert!(levels.iter().all(|l| l.applicable().contains(*privilege)), "{privilege:?}");
        assert_eq!(Privilege::from_word(privilege.word()), Some(*privilege));
    }
}

#[test]
fn columns_one_by_one() {
    let mut state = state(&["desk@%"]);
    grant(&mut state, "select on club.member (id) to desk@%");
    grant(&mut state, "update on club.member (name) to desk@%");
    for (sql, expected) in [
        ("select id from club.member", true),
        ("select name from club.member", false),
        ("select id from club.member where name = 'x'", false),
        ("select * from club.member", false),
        ("select count(*) from club.member", true),
        ("select exists (select * from club.member)", true),
        ("select exists (select m.* from club.member m union select * from club.member)", true),
        ("select exists (select * from club.member where name = 1)", false),
        ("select exists (select * from (select * from club.member) x)", false),
        ("select exists (select id from club.member where exists (select name from club.member))", false),
        ("select 1 where 1 in (select * from club.member)", false),
        ("select id from club.member order by name", false),
        ("update club.member set name = 'x'", true),
        ("update club.member set name = 'x' where id = 3", true),
        ("update club.member set name = concat(name, 'x')", false),
        ("update club.member set id = 3", false),
        ("insert into club.member (name) values ('x')", false),
        ("delete from club.member", false),
    ] {
        assert_eq!(may(&state, "desk", "192.0.2.7", None, sql), expected, "{sql}");
    }
}

#[test]
fn a_role_brings_something_only_while_it_is_active() {
    let mut state = state(&["desk@%"]);
    grant(&mut state, "select on club.member to reader");
    grant(&mut state, "insert on club.member to writer");
    member(&mut state, "desk@%", "reader");
    member(&mut state, "writer", "reader");
    let insert = "insert into club.member (id) values (1)";
    for (role, reads, writes) in [(None, false, false), (Some("reader"), true, false), (Some("writer"), true, true)] {
        assert_eq!(may(&state, "desk", "192.0.2.7", role, MEMBERS), reads, "{role:?}");
        assert_eq!(may(&state, "desk", "192.0.2.7", role, insert), writes, "{role:?}");
    }
    let view = View::new(&state, &AccountName::new("desk", "%"), from("192.0.2.7"), None);
    assert!(view.may_activate("reader"));
    assert!(!view.may_activate("writer"), "only what was granted to the account itself can be made active");
}

#[test]
fn what_everybody_was_given_needs_no_role() {
    let mut state = state(&["desk@%"]);
    grant(&mut state, "select on club.member to public");
    assert!(may(&state, "desk", "192.0.2.7", None, MEMBERS));
    let view = View::new(&state, &AccountName::new("desk", "%"), from("192.0.2.7"), None);
    assert!(!view.sees_database("club") && !view.opens_database("club"), "and yet the database is not in the list");
}

#[test]
fn on_databases_the_most_special_row_counts_alone() {
    let mut state = state(&["desk@192.0.2.7", "desk@%"]);
    grant(&mut state, "select on club.* to desk@%");
    assert!(may(&state, "desk", "192.0.2.7", None, MEMBERS), "the row of the other account fits as well");
    grant(&mut state, "insert on club.* to desk@192.0.2.7");
    assert!(!may(&state, "desk", "192.0.2.7", None, MEMBERS), "a more special row hides it");
    assert!(may(&state, "desk", "203.0.113.1", None, MEMBERS), "elsewhere it does not");
    grant(&mut state, "select on club.member to desk@%");
    assert!(may(&state, "desk", "192.0.2.7", None, MEMBERS), "on tables they add up");
}

#[test]
fn a_pattern_is_hidden_by_the_name_it_fits() {
    let mut state = state(&["desk@%"]);
    grant(&mut state, "select on club%.* to desk@%");
    grant(&mut state, "insert on club.* to desk@%");
    assert!(!may(&state, "desk", "192.0.2.7", None, MEMBERS), "the row of the exact name counts alone");
    assert!(may(&state, "desk", "192.0.2.7", None, "select id from club_archive.member"));
}

#[test]
fn what_nobody_anywhere_holds_reaches_those_with_an_active_role() {
    let mut state = state(&["desk@192.0.2.7", "@%"]);
    grant(&mut state, "insert on club.* to desk@192.0.2.7");
    grant(&mut state, "select on club.* to @%");
    grant(&mut state, "select on club.points to reader");
    member(&mut state, "desk@192.0.2.7", "reader");
    assert!(!may(&state, "desk", "192.0.2.7", None, MEMBERS), "its own row hides that of the anonymous account");
    assert!(may(&state, "desk", "192.0.2.7", Some("reader"), MEMBERS), "the role is looked for without an origin, and finds it");
    grant(&mut state, "insert on club.* to reader");
    assert!(!may(&state, "desk", "192.0.2.7", Some("reader"), MEMBERS), "a row of the role itself comes before");
}

/// What is granted beside the role `reader`, which `desk` has active, and whether it reaches who has it active.
#[test]
fn what_an_account_called_like_a_role_holds_on_a_database_reaches_those_with_that_role_active() {
    let rows: [(&[&str], bool); 8] = [
        (&["select on club.* to reader@%"], true),
        (&["select on club%.* to reader@%"], true),
        (&["select on club.* to reader@192.0.2.%"], false),
        (&["select on club.member to reader@%"], false),
        (&["select on everything to reader@%"], false),
        (&["select on club.* to reader@%", "insert on cl%.* to reader"], false),
        (&["select on club.* to reader@%", "insert on club.* to @%"], true),
        (&["insert on club.* to reader@%", "select on club.* to @%"], false),
    ];
    for (granted, wanted) in rows {
        let mut state = state(&["desk@192.0.2.7", "reader@%", "reader@192.0.2.%", "@%"]);
        member(&mut state, "desk@192.0.2.7", "reader");
        // A row of its own keeps that of the anonymous account from `desk` itself.
        grant(&mut state, "delete on club.* to desk@192.0.2.7");
        granted.iter().for_each(|one| grant(&mut state, one));
        assert_eq!(may(&state, "desk", "192.0.2.7", Some("reader"), MEMBERS), wanted, "{granted:?}");
    }
}

#[test]
fn who_activates_a_role_gives_what_is_held_globally() {
    let mut state = state(&["desk@192.0.2.7", "desk@%"]);
    grant(&mut state, "select on everything to desk@192.0.2.7");
    member(&mut state, "desk@%", "reader");
    assert!(may(&state, "desk", "192.0.2.7", None, MEMBERS));
    assert!(!may(&state, "desk", "192.0.2.7", Some("reader"), MEMBERS), "the role came from the other account, which holds nothing");
    member(&mut state, "desk@192.0.2.7", "reader");
    let view = View::new(&state, &AccountName::new("desk", "192.0.2.7"), from("192.0.2.7"), Some("reader"));
    assert!(view.is_left_to_chance(), "either account may be the one");
    assert!(!may(&state, "desk", "192.0.2.7", Some("reader"), MEMBERS), "what is left to chance is not counted");
}

#[test]
fn lists_of_databases_and_tables() {
    for (text, listed, opened, tables, table) in [
        ("show databases on everything to desk@%", true, false, true, false),
        ("grant option on everything to desk@%", true, true, false, false),
        ("process on everything to desk@%", false, false, true, false),
        ("lock tables on club.* to desk@%", true, true, true, false),
        ("grant option on club.* to desk@%", true, true, false, false),
        ("select on club.member to desk@%", true, true, true, true),
        ("grant option on club.member to desk@%", true, true, true, true),
        ("select on club.member (id) to desk@%", true, true, true, true),
        ("select on club_archive.* to desk@%", false, false, false, false),
    ] {
        let mut state = state(&["desk@%"]);
        grant(&mut state, text);
        let view = View::new(&state, &AccountName::new("desk", "%"), from("192.0.2.7"), None);
        let found = (view.sees_database("club"), view.opens_database("club"), view.lists_tables("club"), view.sees_table("club", "member"));
        assert_eq!(found, (listed, opened, tables, table), "{text}: listed, opened, tables listed, this table listed");
    }
}

/// EXECUTE on the procedure `club.take`.
fn execute(holder: Holder) -> GrantChange {
    GrantChange {
        scope: Scope::Procedure("club".to_owned(), "take".to_owned()),
        columns: Vec::new(),
        privileges: Privilege::Execute.only(),
        holder,
        revoke: false,
        place: None,
    }
}

#[test]
fn a_routine_runs_in_its_own_database() {
    let mut state = state(&["desk@%"]);
    let procedure = ObjectName::new(Class::Procedure, "club", "take");
    let body = Some("INSERT INTO points (id) VALUES (1)".to_owned());
    let definer = Some(AccountName::new("root", "localhost"));
    let object = |runs_as_owner| Object { body: body.clone(), definer: definer.clone(), runs_as_owner, ..Object::default() };
    state.objects.insert(procedure.clone(), object(true));
    let call = |state: &State| may(state, "desk", "192.0.2.7", None, "call club.take()");
    assert!(!call(&state), "nothing was granted");
    state.change(&execute(Holder::Public));
    assert!(call(&state), "it runs as its definer, who may do everything");
    state.objects.insert(procedure, object(false));
    assert!(!call(&state), "run as its caller, its database is not even open");
    state.change(&execute(Holder::Account(AccountName::new("desk", "%"))));
    assert!(!call(&state), "it is now, and the caller may not insert");
    grant(&mut state, "insert on club.points to desk@%");
    assert!(call(&state));
}

#[test]
fn a_definer_must_be_let_execute_his_routine() {
    let mut state = state(&["desk@%", "keeper@%"]);
    let object = Object {
        body: Some("SELECT 1".to_owned()),
        definer: Some(AccountName::new("keeper", "%")),
        runs_as_owner: true,
        ..Object::default()
    };
    state.objects.insert(ObjectName::new(Class::Procedure, "club", "take"), object);
    let call = |state: &State, user: &str, role| may(state, user, "192.0.2.7", role, "call club.take()");
    state.change(&execute(Holder::Account(AccountName::new("desk", "%"))));
    assert!(!call(&state, "desk", None), "the keeper may not execute it");
    state.roles.insert("crew".to_owned());
    state.memberships.insert((Holder::Account(AccountName::new("keeper", "%")), "crew".to_owned()), false);
    state.change(&execute(Holder::Role("crew".to_owned())));
    assert!(!call(&state, "desk", None), "as a definer the keeper has no role");
    assert!(!call(&state, "keeper", None), "nor has he here");
    assert!(call(&state, "keeper", Some("crew")), "his own session goes on with its role");
    state.change(&execute(Holder::Account(AccountName::new("keeper", "%"))));
    assert!(call(&state, "desk", None) && call(&state, "keeper", None));
}

#[test]
fn whatever_a_routine_or_view_does_is_checked_in_the_name_of_its_definer() {
    let statements = [
        ("CREATE DATABASE novel", "create on everything"),
        ("FLUSH STATUS", "reload on everything"),
        ("SELECT count(*) FROM mysql.user", "select on mysql.*"),
        ("SELECT 1 INTO OUTFILE '/nowhere/x'", "file on everything"),
        ("CREATE VIEW club.novel AS SELECT id FROM club.member", "create view, select on club.*"),
    ];
    for (body, rights) in statements {
        let held = |holders: &[&str], runs_as_owner: bool| {
            let mut state = state(&["desk@%", "keeper@%"]);
            let object =
                Object { body: Some(body.to_owned()), definer: Some(AccountName::new("keeper", "%")), runs_as_owner, ..Object::default() };
            state.objects.insert(ObjectName::new(Class::Procedure, "club", "take"), object);
            for name in ["desk", "keeper"] {
                state.change(&execute(Holder::Account(AccountName::new(name, "%"))));
            }
            holders.iter().for_each(|holder| grant(&mut state, &format!("{rights} to {holder}")));
            may(&state, "desk", "192.0.2.7", None, "call club.take()")
        };
        assert!(!held(&["desk@%"], true), "{body}: the definer lacks it");
        assert!(held(&["keeper@%"], true), "{body}: whoever calls needs it not");
        assert!(held(&["desk@%"], false) && !held(&["keeper@%"], false), "{body}: in the name of whoever calls");
    }
}

/// Whether `desk` may run a statement with some rights, with `; ` between them, and nothing else.
fn desk_may(rights: &str, statement: &str) -> bool {
    let mut state = state(&["desk@%"]);
    rights.split("; ").for_each(|one| grant(&mut state, &format!("{one} to desk@%")));
    may(&state, "desk", "192.0.2.7", None, statement)
}

#[test]
fn what_comes_back_of_an_insert_is_looked_at_as_what_is_given() {
    let rows = [
        ("insert on club.member; select on club.member (id)", "insert into club.member (id) values (1) returning id", true),
        ("insert on club.member; select on club.member (id)", "insert into club.member (id, name) values (1, 2) returning id", false),
        ("insert on club.member; select on club.member (id)", "insert into club.member (id, name) values (1, 2) returning 1", false),
        ("insert on club.member; select on club.member (id)", "insert into club.member values (1, 2) returning id", true),
        ("insert on club.member (id); select on club.member", "insert into club.member (id) values (1) returning name", false),
        ("insert on club.member (id); select on club.member", "insert into club.member (id) values (1) returning id", true),
        (
            "insert, delete on club.member; select on club.member (id)",
            "replace into club.member (id, name) values (1, 2) returning id",
            false,
        ),
        ("insert, delete on club.member; select on club.member", "replace into club.member (id, name) values (1, 2) returning id", true),
    ];
    for (rights, statement, wanted) in rows {
        assert_eq!(desk_may(rights, statement), wanted, "{rights}: {statement}");
    }
}

/// What is held, a statement, and whether `desk` may: names that stand for a column of another table, or of the table that is changed.
#[test]
fn a_name_by_itself_is_the_column_that_the_server_takes_it_for() {
    let rows = [
        // A join by name reads no column by itself. The name alone is the left side's column, behind RIGHT JOIN the right side's.
        ("select on club.member (name); select on club.points (n)", "select name, n from club.member natural join club.points", true),
        ("select on club.member (name); select on club.points (n)", "select 1 from club.member join club.points using (id)", true),
        ("select on club.member (name); select on club.points (n)", "select id from club.member natural join club.points", false),
        ("select on club.member (id); select on club.points (n)", "select id from club.member natural join club.points", true),
        ("select on club.member (id); select on club.points (n)", "select points.id from club.member natural join club.points", false),
        ("select on club.member (id); select on club.points (n)", "select id from club.member natural right join club.points", false),
        ("select on club.member (name); select on club.points (id)", "select id from club.member right join club.points using (id)", true),
        ("select on club.member; select on club.points (n)", "select * from club.member natural join club.points", true),
        ("select on club.member; select on club.points (n)", "select * from club.member natural right join club.points", false),
        ("select on club.member; select on club.points (n)", "select points.* from club.member natural join club.points", false),
        ("select on club.member (id); select on club.points (n)", "select ID from club.member x natural right join club.points", false),
        (
            "select on club.member (id); select on club.points (n)",
            "select id from (select id as ID from club.member) x natural right join club.points",
            false,
        ),
        ("update on club.member (id); select on club.points", "update club.member natural right join club.points set id = 1", false),
        // An order by a name alone is that of the output column.
        ("select on club.member (id)", "select id as name from club.member order by name", true),
        ("select on club.member (id)", "select id as name from club.member order by upper(name)", false),
        // In the first new row a column that is named is inserted, in the others it is read.
        ("insert on club.member (id); select on club.member (name)", "insert into club.member set id = name", false),
        ("insert on club.member (id, name)", "insert into club.member set id = name", true),
        ("insert on club.member (id, name)", "insert into club.member (id) values (name)", true),
        ("insert on club.member", "insert into club.member (id) values (1), (name)", false),
        ("insert on club.member; select on club.member (name)", "insert into club.member (id) values (1), (name)", true),
        ("insert on club.member (id)", "insert into club.member (id) values ((select member.name))", false),
        ("insert, delete on club.member", "replace into club.member set id = name", true),
    ];
    for (rights, statement, wanted) in rows {
        assert_eq!(desk_may(rights, statement), wanted, "{rights}: {statement}");
    }
}

/// What a body does, whose it is, what is held, and whether `desk` comes through: a sure yes, a sure no, or it hangs on what is in there.
#[test]
fn a_body_is_followed_as_far_as_the_server_is_sure_to_come() {
    use Said::{Allowed, NotDecided, Refused};
    let no = || Refused(String::new(), None);
    let perhaps = || NotDecided(String::new());
    let rows: &[(&str, &str, Said)] = &[
        ("BEGIN SELECT id FROM member; SELECT id FROM points; END", "select on club.member (id)", no()),
        ("BEGIN SELECT id FROM member; END", "select on club.member (id)", Allowed),
        // A variable is never a column, and only where it can be seen.
        ("BEGIN DECLARE name int; SELECT name FROM member; END", "select on club.member (id)", Allowed),
        ("BEGIN BEGIN DECLARE name int; END; SELECT name FROM member; END", "select on club.member (id)", no()),
        ("BEGIN DECLARE name int; SELECT member.name FROM member; END", "select on club.member (id)", no()),
        ("BEGIN DECLARE r ROW (name int); SELECT r.name; END", "select on club.member (id)", Allowed),
        ("BEGIN FOR name IN (SELECT id FROM member) DO SELECT name.id; END FOR; END", "select on club.member (id)", Allowed),
        ("BEGIN DECLARE z int; SELECT id, id INTO z, @y FROM member; END", "select on club.member (id)", Allowed),
        // Behind a condition, a leave, a handler.
        ("BEGIN IF a > 1 THEN SELECT name FROM member; END IF; END", "select on club.member (id)", perhaps()),
        ("BEGIN IF (SELECT max(name) FROM member) > 1 THEN SELECT 1; END IF; END", "select on club.member (id)", no()),
        (
            "BEGIN IF a > 1 THEN SELECT id FROM member; ELSEIF a > 0 THEN SELECT id FROM member; END IF; END",
            "select on club.member (id)",
            Allowed,
        ),
        ("BEGIN WHILE a < (SELECT max(name) FROM member) DO SET a = 1; END WHILE; END", "select on club.member (id)", no()),
        ("BEGIN REPEAT SET a = 1; UNTIL a = (SELECT max(name) FROM member) END REPEAT; END", "select on club.member (id)", perhaps()),
        ("BEGIN CASE a WHEN 1 THEN SELECT name FROM member; ELSE SELECT 1; END CASE; END", "select on club.member (id)", perhaps()),
        ("l: BEGIN LEAVE l; SELECT name FROM member; END", "select on club.member (id)", perhaps()),
        ("BEGIN SIGNAL SQLSTATE '45000'; SELECT name FROM member; END", "select on club.member (id)", perhaps()),
        ("BEGIN DECLARE EXIT HANDLER FOR SQLEXCEPTION BEGIN END; SELECT name FROM member; END", "select on club.member (id)", perhaps()),
        ("BEGIN DECLARE EXIT HANDLER FOR NOT FOUND BEGIN END; SELECT name FROM member; END", "select on club.member (id)", perhaps()),
        ("BEGIN DECLARE CONTINUE HANDLER FOR NOT FOUND BEGIN END; SELECT name FROM member; END", "select on club.member (id)", no()),
        // A name in VALUES is a column's all the same.
        (
            "BEGIN DECLARE name int; INSERT INTO member (id, name) VALUES (1, 1) ON DUPLICATE KEY UPDATE id = VALUES(name); END",
            "insert, update on club.member",
            no(),
        ),
        ("BEGIN DECLARE c CURSOR FOR SELECT name FROM member; END", "select on club.member (id)", perhaps()),
        ("BEGIN CREATE TEMPORARY TABLE member (name int); SELECT name FROM member; END", "create temporary tables on club.*", perhaps()),
        // What is not followed allows nothing.
        ("BEGIN EXECUTE IMMEDIATE 'SELECT 1'; END", "select on club.*", perhaps()),
        ("BEGIN SET ROLE crew; SELECT 1; END", "select on club.*", perhaps()),
        ("BEGIN DECLARE x TYPE OF member.name; SELECT 1; END", "select on club.*", perhaps()),
        ("BEGIN GRANT SELECT ON club.member TO desk; END", "select on club.*", perhaps()),
        ("BEGIN SELECT 1;", "select on club.*", perhaps()),
        ("BEGIN SELECT 1; END SELECT 2", "select on club.*", perhaps()),
        ("BEGIN SET GLOBAL max_connections = 5; END", "select on club.*", no()),
        ("BEGIN SET a = 1, @b = (SELECT max(name) FROM member); END", "select on club.member (id)", no()),
    ];
    for (body, rights, wanted) in rows {
        let mut state = state(&["desk@%"]);
        let parameters = Some("IN a int, OUT b int".to_owned());
        let definer = Some(AccountName::new("root", "localhost"));
        let object = Object { body: Some((*body).to_owned()), definer, parameters, ..Object::default() };
        state.objects.insert(ObjectName::new(Class::Procedure, "club", "take"), object);
        state.change(&execute(Holder::Account(AccountName::new("desk", "%"))));
        grant(&mut state, &format!("{rights} to desk@%"));
        let said = said(&state, "desk", "192.0.2.7", None, "call club.take(1, @b)");
        assert_eq!(std::mem::discriminant(&said), std::mem::discriminant(wanted), "{body}: {said:?}");
    }
}

/// A trigger of `club.member`: when it fires, what it does, what its definer holds, what is done, and what comes of it for `desk`, who may
/// do anything to the rows of the table and nothing else.
#[test]
fn a_trigger_runs_as_its_definer() {
    use Said::{Allowed, NotDecided, Refused};
    let no = || Refused(String::new(), None);
    let perhaps = || NotDecided(String::new());
    let (insert, select) = ("insert into club.member (id) values (1)", "insert into club.member (id) select 1");
    let reads = "SET @a = (SELECT max(id) FROM points)";
    let rows: &[(&str, &str, &str, &str, Said)] = &[
        ("BEFORE INSERT", "SET @a = 1", "trigger on club.member", insert, Allowed),
        ("BEFORE INSERT", "SET @a = 1", "insert on club.*", insert, no()),
        ("BEFORE INSERT", reads, "trigger on club.member", insert, no()),
        ("BEFORE INSERT", reads, "trigger, select on club.*", insert, Allowed),
        // There may be no row, or none that comes that far.
        ("BEFORE INSERT", reads, "trigger on club.member", select, perhaps()),
        ("AFTER INSERT", reads, "trigger on club.member", insert, perhaps()),
        ("AFTER INSERT", reads, "trigger, select on club.*", select, Allowed),
        ("BEFORE UPDATE", reads, "trigger on club.member", "update club.member set id = 1", perhaps()),
        ("BEFORE UPDATE", reads, "trigger on club.member", insert, Allowed),
        (
            "BEFORE UPDATE",
            reads,
            "trigger on club.member",
            "insert into club.member (id) values (1) on duplicate key update id = 2",
            perhaps(),
        ),
        ("AFTER DELETE", reads, "trigger on club.member", "delete from club.member", perhaps()),
        ("AFTER DELETE", reads, "trigger on club.member", "replace into club.member (id) values (1)", perhaps()),
        ("AFTER DELETE", reads, "trigger on club.member", "explain delete from club.member", Allowed),
        // Rows that are loaded set them off as well.
        ("BEFORE INSERT", reads, "trigger on club.member", "load data local infile 'x' into table club.member", perhaps()),
        ("BEFORE INSERT", reads, "trigger, select on club.*", "load data local infile 'x' into table club.member", Allowed),
        ("AFTER DELETE", reads, "trigger on club.member", "load data local infile 'x' replace into table club.member", perhaps()),
        ("AFTER DELETE", reads, "trigger on club.member", "load data local infile 'x' into table club.member", Allowed),
        ("AFTER DELETE", reads, "trigger, select on club.*", "delete from club.member", Allowed),
        // Its row: to read a column of it takes SELECT, to set one UPDATE.
        ("BEFORE INSERT", "SET NEW.name = NEW.id", "trigger on club.member", insert, no()),
        ("BEFORE INSERT", "SET NEW.name = 1", "trigger, update on club.member", insert, Allowed),
        ("BEFORE INSERT", "SET NEW.name = NEW.id", "trigger, update on club.member", insert, no()),
        ("BEFORE INSERT", "SET NEW.name = NEW.id", "trigger, update, select on club.member", insert, Allowed),
        ("BEFORE INSERT", "INSERT INTO points (id) VALUES (NEW.id)", "trigger, insert on club.*", insert, no()),
        ("BEFORE INSERT", "INSERT INTO points (id) VALUES (NEW.id)", "trigger, insert, select on club.*", insert, Allowed),
        ("BEFORE INSERT", "CALL other.sets(NEW.id)", "trigger, select, insert, update, execute on everything", insert, perhaps()),
    ];
    for (when, body, rights, statement, wanted) in rows {
        let mut state = state(&["desk@%", "keeper@%"]);
        let table = ObjectName::new(Class::Table, "club", "member");
        let made = format!("CREATE DEFINER='keeper'@'%' TRIGGER club.tells {when} ON club.member FOR EACH ROW {body}");
        let (name, trigger) = Trigger::read(&made, &table).expect("it makes one");
        assert_eq!(
            Trigger::read(&trigger.sql(&name, &table), &table),
            Some((name.clone(), trigger.clone())),
            "it is written as it was read"
        );
        state.objects.get_mut(&table).expect("it is there").triggers.insert(name, trigger);
        grant(&mut state, "select, insert, update, delete on club.member to desk@%");
        grant(&mut state, &format!("{rights} to keeper@%"));
        let said = said(&state, "desk", "192.0.2.7", None, statement);
        assert_eq!(std::mem::discriminant(&said), std::mem::discriminant(wanted), "{when} {body}, {rights}, {statement}: {said:?}");
    }
}

#[test]
fn a_view_reads_as_its_definer_who_must_be_there() {
    let mut state = state(&["desk@%", "keeper@%"]);
    let view = |definer: &str| Object {
        columns: vec![("id".to_owned(), String::new())],
        query: Some("SELECT id FROM club.member".to_owned()),
        definer: AccountName::parse(definer),
        runs_as_owner: true,
        ..Object::default()
    };
    let name = ObjectName::new(Class::View, "club", "ids");
    grant(&mut state, "select on club.ids to desk@%");
    let reads = |state: &State| may(state, "desk", "192.0.2.7", None, "select id from club.ids");
    state.objects.insert(name.clone(), view("keeper@%"));
    assert!(!reads(&state), "the definer may not read the table");
    grant(&mut state, "select on club.member to keeper@%");
    assert!(reads(&state));
    assert!(!may(&state, "desk", "192.0.2.7", None, MEMBERS), "the table itself stays shut");
    state.objects.insert(name, view("gone@%"));
    assert!(!reads(&state), "a definer who was dropped");
}

#[test]
fn a_revoke_leaves_the_rest_and_takes_columns_along() {
    let mut state = state(&["desk@%"]);
    grant(&mut state, "select, insert, update, delete on club.member to desk@%");
    grant(&mut state, "select on club.member (name) to desk@%");
    let take = |state: &mut State, privileges: &[Privilege], columns: &[&str]| {
        state.change(&GrantChange {
            scope: Scope::Table("club".to_owned(), "member".to_owned()),
            columns: columns.iter().map(|c| (*c).to_owned()).collect(),
            privileges: privileges.iter().copied().collect(),
            holder: Holder::Account(AccountName::new("desk", "%")),
            revoke: true,
            place: None,
        })
    };
    assert!(take(&mut state, &[Privilege::Delete], &[]));
    assert!(!take(&mut state, &[Privilege::Delete], &[]), "a second time changes nothing");
    let held = |state: &State| View::new(state, &AccountName::new("desk", "%"), from("192.0.2.7"), None).table("club", "member").0;
    assert_eq!(held(&state).privileges.to_string(), "select, insert, update");
    assert!(take(&mut state, &[Privilege::Select], &[]));
    assert_eq!(held(&state).privileges.to_string(), "insert, update");
    assert!(held(&state).columns.values().all(|p| p.is_empty()), "and of every column: {:?}", held(&state).columns);
    assert!(!may(&state, "desk", "192.0.2.7", None, "select name from club.member"));
}

/// What the server says to a statement of `u` on the views `club.v` and `club.w` of `d` over `club.member`, where each holds some rights:
/// the letters of SELECT, INSERT, UPDATE and DELETE.
fn through_a_view(of_definer: &str, of_caller: &str, sql: &str) -> Option<bool> {
    let mut state = state(&["u@%", "d@%"]);
    for (name, condition) in [("v", ""), ("w", " where name is null")] {
        let columns = ["id", "name"].map(|column| (column.to_owned(), String::new())).to_vec();
        let query = Some(format!("select id, name from club.member{condition}"));
        let definer = AccountName::parse("d@%");
        let view = Object { query, definer, columns, runs_as_owner: true, ..Object::default() };
        state.objects.insert(ObjectName::new(Class::View, "club", name), view);
    }
    let words = |letters: &str| -> Vec<&str> {
        letters
            .chars()
            .map(|letter| match letter {
                'S' => "select",
                'I' => "insert",
                'U' => "update",
                'D' => "delete",
                'V' => "show view",
                other => panic!("{other}"),
            })
            .collect()
    };
    grant(&mut state, "select on club.points to u@%");
    for (letters, on, to) in [(of_definer, &["member"][..], "d@%"), (of_caller, &["v", "w"], "u@%")] {
        for on in on.iter().filter(|_| !letters.is_empty()) {
            grant(&mut state, &format!("{} on club.{on} to {to}", words(letters).join(", ")));
        }
    }
    let origin = from("192.0.2.7");
    let view = View::new(&state, &AccountName::new("u", "%"), origin, None);
    match say(&state, &view, None, sql) {
        Said::Allowed => Some(true),
        Said::Refused(..) => Some(false),
        Said::NotDecided(_) => None,
    }
}

#[test]
fn a_change_of_a_view_needs_what_the_server_looks_at() {
    // As every set of rights was tried on the server: the least that does, of the definer and of the caller.
    for (sql, least) in [
        ("insert into club.v values (1, 'x')", &[("I", "I")][..]),
        ("insert into club.v (id) values (1)", &[("SI", "I")]),
        ("insert into club.w values (1, 'x')", &[("SI", "I")]),
        ("insert into club.v values (1, 'x') on duplicate key update id = 2", &[("IU", "IU")]),
        ("replace into club.v values (1, 'x')", &[("ID", "ID")]),
        ("replace into club.v (id) values (1)", &[("SID", "ID")]),
        ("update club.v set id = 1", &[("U", "U")]),
        ("update club.w set id = 1", &[("SU", "U")]),
        ("update club.v set id = 1 where name = 'x'", &[("SU", "U")]),
        ("update club.w set id = id + 1", &[("SU", "U")]),
        ("update club.v, club.points set v.id = 1", &[("SU", "U")]),
        ("update club.v, club.points set v.name = 'x' where v.id = 1", &[("SU", "SU")]),
        ("delete from club.v", &[("D", "D")]),
        ("delete from club.w", &[("D", "D")]),
        ("delete from club.v where id = 1", &[("D", "SD")]),
        ("delete v from club.v join club.points on v.id = points.id", &[("SD", "SD")]),
    ] {
        for definer in 0..16_u32 {
            for caller in 0..16_u32 {
                let letters =
                    |bits: u32| (0..4).filter(|at| bits >> at & 1 == 1).map(|at| b"SIUD"[at as usize] as char).collect::<String>();
                let (of_definer, of_caller) = (letters(definer), letters(caller));
                let holds = |held: &str, wanted: &str| wanted.chars().all(|letter| held.contains(letter));
                let expected = least.iter().any(|(d, u)| holds(&of_definer, d) && holds(&of_caller, u));
                let said = through_a_view(&of_definer, &of_caller, sql);
                assert_eq!(said, Some(expected), "{sql}: the definer holds `{of_definer}`, the caller `{of_caller}`");
            }
        }
    }
    // What is worked out of the changed column alone, for a definer who may not read: the server asks for less.
    assert_eq!(through_a_view("SU", "U", "update club.v set id = id + 1"), Some(true));
    assert_eq!(through_a_view("U", "SU", "update club.v set id = id + 1"), None);
}

#[test]
fn what_explains_a_view_shows_what_is_behind_it() {
    for explain in ["explain", "analyze", "explain extended", "explain format=json"] {
        assert_eq!(through_a_view("S", "S", &format!("{explain} select id from club.v")), Some(false), "{explain}");
        assert_eq!(through_a_view("S", "SV", &format!("{explain} select id from club.v")), Some(false), "its table is not open");
    }
    assert_eq!(through_a_view("S", "S", "explain select id from club.points"), Some(true));
}

#[test]
fn a_view_that_goes_on_with_a_sequence_needs_to() {
    let sql = "create view club.n as select next value for club.turns as n";
    for (rights, expected) in [("select", false), ("insert", false), ("select, insert", true)] {
        let mut state = state(&["u@%"]);
        let sequence = Object { not_modelled: ["sequence".to_owned()].into(), ..Object::default() };
        state.objects.insert(ObjectName::new(Class::Table, "club", "turns"), sequence);
        grant(&mut state, "create view on club.n to u@%");
        grant(&mut state, &format!("{rights} on club.turns to u@%"));
        assert_eq!(may(&state, "u", "192.0.2.7", None, sql), expected, "{rights}");
    }
}

#[test]
fn a_view_shows_what_somebody_has_any_right_on_rows_of() {
    for (grants, sql, expected) in [
        ("update on club.member", "create view club.n as select id from club.member", true),
        ("update on club.member", "create view club.n as select * from club.member", true),
        ("update on club.member", "create view club.n as select id + 1 from club.member", false),
        ("update on club.member", "create view club.n as select id from club.member where name = 'x'", false),
        ("update on club.member", "create view club.n as select 1 from club.points", false),
        ("references on club.member", "create view club.n as select id from club.member", false),
        ("insert on club.member (id)", "create view club.n as select id from club.member", true),
        ("insert on club.member (id)", "create view club.n as select name from club.member", false),
        ("select on club.member", "create or replace view club.n as select id from club.member", true),
        ("select on club.member", "create view club.n as select id from club.member where id in (select id from club.points)", false),
    ] {
        let mut state = state(&["u@%"]);
        grant(&mut state, &format!("{grants} to u@%"));
        grant(&mut state, "create view, drop on club.n to u@%");
        assert_eq!(may(&state, "u", "192.0.2.7", None, sql), expected, "{grants}: {sql}");
    }
}

#[test]
fn columns_are_shown_to_who_may_read_or_holds_something_on_the_table() {
    for (grants, expected) in [
        ("create on club.*", [false, true, true]),
        ("insert on club.*", [false, true, true]),
        ("select on club.*", [true, true, true]),
        ("insert on club.member", [true, true, true]),
        ("references on club.member (id)", [true, false, true]),
        ("select on club_archive.*", [false, false, false]),
    ] {
        let mut state = state(&["u@%"]);
        grant(&mut state, &format!("{grants} to u@%"));
        let said = ["show columns in club.member", "show create table club.member", "check table club.member"];
        assert_eq!(said.map(|sql| may(&state, "u", "192.0.2.7", None, sql)), expected, "{grants}");
        assert_eq!(may(&state, "u", "192.0.2.7", None, "describe club.member"), expected[0], "{grants}");
        assert_eq!(may(&state, "u", "192.0.2.7", None, "show index in club.member"), expected[0], "{grants}");
    }
}

#[test]
fn a_pattern_of_databases_is_passed_on_by_who_holds_all_of_it() {
    for (held, wanted, expected) in [
        ("my\\_%", "my\\_1", true),
        ("my\\_%", "my_%", false),
        ("my\\_1", "my_1", false),
        ("my_1", "my_1", true),
        ("my%", "my_%", true),
        ("%", "my%", true),
        ("my", "my", true),
    ] {
        let mut state = state(&["u@%", "other@%"]);
        let holder = Holder::Account(AccountName::new("u", "%"));
        let privileges = [Privilege::Select, Privilege::GrantOption].into_iter().collect();
        let scope = Scope::Databases(held.to_owned());
        state.change(&GrantChange { scope, columns: Vec::new(), privileges, holder, revoke: false, place: None });
        let sql = format!("grant select on `{wanted}`.* to other@'%'");
        assert_eq!(may(&state, "u", "192.0.2.7", None, &sql), expected, "{held}: {sql}");
    }
}

#[test]
fn words_that_are_functions_are_no_columns() {
    let mut state = state(&["u@%"]);
    grant(&mut state, "select on club.points to u@%");
    for sql in ["select current_user", "select CURRENT_ROLE, utc_date from club.points", "select id from club.points where id < localtime"]
    {
        assert!(may(&state, "u", "192.0.2.7", None, sql), "{sql}");
    }
}
