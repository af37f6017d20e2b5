//! The rules of PostgreSQL 15 by name, without a server: the real one holds them in `zest-bridges`.

use zest_ledger::postgresql::{
    Acl, AclRefusal, Class, Column, DefaultKey, GrantChange, Grantee, Object, ObjectName, Privilege, Privileges, Role, State,
};

fn table() -> ObjectName {
    ObjectName::new(Class::Table, &["fares", "price"])
}

/// `owner` owns schema and table; `reader` and `clerk` are logins, `desk` is a group of both.
fn state() -> State {
    let mut state = State::fresh("ticketing", "postgres");
    for (name, login) in [("owner", false), ("desk", false), ("reader", true), ("clerk", true), ("third", true)] {
        let mut role = Role { login, ..Role::default() };
        if matches!(name, "reader" | "clerk") {
            role.member_of.insert("desk".to_owned(), false);
        }
        state.roles.insert(name.to_owned(), role);
    }
    for (name, columns) in [(ObjectName::new(Class::Schema, &["fares"]), &[][..]), (table(), &["id", "amount"])] {
        let columns = columns
            .iter()
            .map(|c| Column { name: (*c).to_owned(), data_type: "integer".to_owned(), default: None, acl: Acl::default() })
            .collect();
        let acl = Acl::default_for(name.class, "owner");
        state.objects.insert(name, Object { owner: "owner".to_owned(), acl, columns, ..Object::default() });
    }
    state
}

/// A GRANT or REVOKE, as it is written.
struct Said(GrantChange);

fn grant(privileges: &[Privilege], to: &str) -> Said {
    let grantee = if to == "public" { Grantee::Public } else { Grantee::Role(to.to_owned()) };
    Said(GrantChange {
        object: table(),
        columns: Vec::new(),
        privileges: privileges.iter().copied().collect(),
        grantee,
        regrant: false,
        by: None,
        revoke: false,
        cascade: false,
        place: None,
    })
}

fn revoke(privileges: &[Privilege], from: &str) -> Said {
    let Said(change) = grant(privileges, from);
    Said(GrantChange { revoke: true, ..change })
}

impl Said {
    fn by(self, role: &str) -> Self {
        Self(GrantChange { by: Some(role.to_owned()), ..self.0 })
    }

    fn regrant(self) -> Self {
        Self(GrantChange { regrant: true, ..self.0 })
    }

    fn cascade(self) -> Self {
        Self(GrantChange { cascade: true, ..self.0 })
    }

    fn column(self, name: &str) -> Self {
        Self(GrantChange { columns: vec![name.to_owned()], ..self.0 })
    }
}

/// Carries statements out; the last one's outcome.
fn after(said: impl IntoIterator<Item = Said>) -> (State, Result<(), AclRefusal>) {
    let mut state = state();
    let outcomes: Vec<_> = said.into_iter().map(|s| state.change(&s.0)).collect();
    let last = outcomes.into_iter().next_back().unwrap_or(Ok(()));
    (state, last)
}

fn holds(state: &State, role: &str, privilege: Privilege) -> bool {
    state.has(role, &table(), None, privilege, false)
}

use Privilege::{Delete, Insert, Select, Update};

#[test]
fn what_a_new_object_gives_to_everybody() {
    for (class, expected) in [
        (Class::Database, &[Privilege::Connect, Privilege::Temporary][..]),
        (Class::Language, &[Privilege::Usage]),
        (Class::Type, &[Privilege::Usage]),
        (Class::Function, &[Privilege::Execute]),
        (Class::Procedure, &[Privilege::Execute]),
        (Class::Schema, &[]),
        (Class::Table, &[]),
        (Class::View, &[]),
        (Class::MaterialisedView, &[]),
        (Class::Sequence, &[]),
        (Class::Wrapper, &[]),
        (Class::Server, &[]),
    ] {
        let expected: Privileges = expected.iter().copied().collect();
        assert_eq!(class.public(), expected, "{}", class.word());
        let acl = Acl::default_for(class, "owner");
        let of = |grantee: &Grantee| acl.iter().find(|(g, ..)| *g == grantee).map_or(Privileges::NONE, |(_, _, h)| h.privileges);
        assert_eq!(of(&Grantee::Public), expected, "{}", class.word());
        assert_eq!(of(&Grantee::Role("owner".to_owned())), class.applicable(), "the owner of a {}", class.word());
    }
}

#[test]
fn every_privilege_says_what_it_applies_to() {
    for privilege in Privilege::ALL {
        let classes: Vec<Class> = privilege.applies_to().collect();
        assert!(!classes.is_empty() && !privilege.about().is_empty(), "{privilege:?}");
        assert!(classes.iter().all(|c| c.applicable().contains(*privilege)), "{privilege:?}");
        assert_eq!(Privilege::from_word(privilege.word()), Some(*privilege));
    }
    assert_eq!(Privilege::from_word("alter"), None, "nobody is granted that; it is the owner's");
}

#[test]
fn a_member_holds_what_its_group_holds_unless_it_does_not_inherit() {
    let (mut state, _) = after([grant(&[Select], "desk")]);
    assert!(holds(&state, "reader", Select) && holds(&state, "desk", Select) && !holds(&state, "third", Select));
    state.roles.get_mut("reader").expect("it is there").inherit = false;
    assert!(!holds(&state, "reader", Select), "it has to make the group the active role");
    assert!(state.may_become("reader", "desk"));
}

#[test]
fn a_group_that_does_not_inherit_cuts_what_is_behind_it() {
    let (mut state, _) = after([grant(&[Select], "owner")]);
    state.roles.get_mut("desk").expect("it is there").member_of.insert("owner".to_owned(), false);
    assert!(holds(&state, "reader", Delete), "a member of a member of the owner is as the owner");
    state.roles.get_mut("desk").expect("it is there").inherit = false;
    assert!(!holds(&state, "reader", Delete));
    assert!(state.may_become("reader", "owner"), "becoming does not ask for inheritance");
}

#[test]
fn an_owner_may_lose_its_own_privileges_and_keeps_the_right_to_grant() {
    let (state, done) = after([revoke(&[Select], "owner")]);
    assert_eq!(done, Ok(()));
    assert!(!holds(&state, "owner", Select) && holds(&state, "owner", Insert));
    assert!(state.has("owner", &table(), None, Select, true), "the option is the owner's by being the owner");
}

#[test]
fn superusers_need_no_grant() {
    let (mut state, _) = after([revoke(&[Select], "owner")]);
    state.roles.get_mut("third").expect("it is there").superuser = true;
    for privilege in Class::Table.applicable().iter() {
        assert!(holds(&state, "third", privilege) && state.has("third", &table(), None, privilege, true), "{privilege:?}");
    }
}

#[test]
fn nobody_grants_what_he_may_not_pass_on() {
    let (state, done) = after([grant(&[Select], "reader"), grant(&[Select], "third").by("reader")]);
    assert_eq!(done, Err(AclRefusal::NoGrantOption));
    assert!(!holds(&state, "third", Select));
}

#[test]
fn of_several_privileges_those_with_the_option_are_granted() {
    let (state, done) = after([grant(&[Select], "reader").regrant(), grant(&[Select, Insert], "third").by("reader")]);
    assert_eq!(done, Ok(()));
    assert!(holds(&state, "third", Select) && !holds(&state, "third", Insert));
}

#[test]
fn a_grant_of_a_group_s_option_is_given_by_the_group() {
    let (state, done) = after([grant(&[Select], "desk").regrant(), grant(&[Select], "third").by("reader")]);
    assert_eq!(done, Ok(()));
    let grantors: Vec<&str> =
        state.objects[&table()].acl.iter().filter(|(g, ..)| **g == Grantee::Role("third".to_owned())).map(|(_, by, _)| by).collect();
    assert_eq!(grantors, ["desk"]);
}

#[test]
fn what_a_superuser_grants_is_given_by_the_owner() {
    let (mut state, _) = after([]);
    state.roles.get_mut("third").expect("it is there").superuser = true;
    state.change(&grant(&[Select], "reader").by("third").0).expect("it may");
    assert!(state.objects[&table()].acl.iter().all(|(_, by, _)| by == "owner"));
}

#[test]
fn the_middle_of_a_chain_is_not_taken_without_what_rests_on_it() {
    let chain =
        || [grant(&[Update], "clerk").regrant(), grant(&[Update], "third").regrant().by("clerk"), grant(&[Update], "reader").by("third")];
    let (state, done) = after(chain());
    assert_eq!(done, Ok(()));
    assert!(holds(&state, "reader", Update));
    let (state, done) = after(chain().into_iter().chain([revoke(&[Update], "clerk")]));
    assert_eq!(done, Err(AclRefusal::Dependent(Grantee::Role("third".to_owned()))));
    assert!(holds(&state, "clerk", Update) && holds(&state, "reader", Update), "nothing is half done");
    let (state, done) = after(chain().into_iter().chain([revoke(&[Update], "clerk").cascade()]));
    assert_eq!(done, Ok(()));
    assert!(["clerk", "third", "reader"].iter().all(|r| !holds(&state, r, Update)), "the whole chain is gone");
    let (state, _) = after(chain().into_iter().chain([revoke(&[Update], "clerk").regrant().cascade()]));
    assert!(holds(&state, "clerk", Update), "only the option was taken back");
    assert!(["third", "reader"].iter().all(|r| !holds(&state, r, Update)), "and what rested on it");
}

#[test]
fn a_second_grantor_keeps_what_the_first_takes_back() {
    let said = [
        grant(&[Select], "clerk").regrant(),
        grant(&[Select], "third").by("clerk"),
        grant(&[Select], "third"),
        revoke(&[Select], "clerk").cascade(),
    ];
    let (state, _) = after(said);
    assert!(!holds(&state, "clerk", Select));
    assert!(holds(&state, "third", Select), "still allowed, because the owner granted it as well");
}

#[test]
fn options_do_not_go_in_a_circle() {
    let (_, done) = after([
        grant(&[Select], "clerk").regrant(),
        grant(&[Select], "third").regrant().by("clerk"),
        grant(&[Select], "clerk").regrant().by("third"),
    ]);
    assert_eq!(done, Err(AclRefusal::Circular));
}

#[test]
fn everybody_cannot_hold_an_option() {
    assert_eq!(after([grant(&[Select], "public").regrant()]).1, Err(AclRefusal::OptionToPublic));
    let (state, _) = after([grant(&[Select], "public")]);
    assert!(["reader", "clerk", "third"].iter().all(|r| holds(&state, r, Select)));
}

#[test]
fn a_revoke_from_everybody_leaves_what_a_role_was_given() {
    let (state, _) = after([grant(&[Select], "public"), grant(&[Select], "reader"), revoke(&[Select], "public")]);
    assert!(holds(&state, "reader", Select) && !holds(&state, "third", Select));
}

#[test]
fn a_revoke_from_a_role_leaves_what_everybody_has() {
    let (state, _) = after([grant(&[Select], "public"), revoke(&[Select], "reader")]);
    assert!(holds(&state, "reader", Select), "there was nothing of its own to take");
}

#[test]
fn a_column_is_less_than_its_table_and_a_table_more_than_its_columns() {
    let (state, _) = after([grant(&[Select], "reader").column("id"), grant(&[Update], "clerk")]);
    let column = |role: &str, column: &str, privilege| state.has(role, &table(), Some(column), privilege, false);
    assert!(column("reader", "id", Select) && !column("reader", "amount", Select) && !holds(&state, "reader", Select));
    assert!(column("clerk", "id", Update) && column("clerk", "amount", Update) && holds(&state, "clerk", Update));
}

#[test]
fn a_revoke_on_a_column_cannot_narrow_a_grant_on_the_table() {
    let (state, done) = after([grant(&[Select], "reader"), revoke(&[Select], "reader").column("amount")]);
    assert_eq!(done, Ok(()), "the server says nothing");
    assert!(state.has("reader", &table(), Some("amount"), Select, false), "and nothing has changed");
}

#[test]
fn a_revoke_on_the_table_takes_every_column_as_well() {
    let (state, _) = after([grant(&[Select], "reader").column("id"), grant(&[Select], "reader"), revoke(&[Select], "reader")]);
    assert!(!state.has("reader", &table(), Some("id"), Select, false));
}

#[test]
fn default_privileges_are_for_what_is_made_later_by_that_role() {
    let (mut state, _) = after([]);
    let key = |schema: Option<&str>| DefaultKey { creator: "owner".to_owned(), schema: schema.map(str::to_owned), class: Class::Table };
    let reader = Grantee::Role("reader".to_owned());
    state.change_default(key(Some("fares")), Select.only(), &reader, false, false, None).expect("it may");
    assert!(!holds(&state, "reader", Select), "what is there already is not touched");
    let gives = |state: &State, creator: &str, schema: &str| {
        state.acl_of_new(creator, Some(schema), Class::Table).iter().any(|(g, _, h)| *g == reader && h.privileges.contains(Select))
    };
    assert!(gives(&state, "owner", "fares") && !gives(&state, "owner", "public") && !gives(&state, "clerk", "fares"));
    state.change_default(key(None), Select.only(), &reader, false, false, None).expect("it may");
    assert!(gives(&state, "owner", "public"));
    state.change_default(key(None), Select.only(), &reader, false, true, None).expect("it may");
    assert!(!gives(&state, "owner", "public") && gives(&state, "owner", "fares"), "a schema only adds to what holds everywhere");
}

#[test]
fn what_everybody_gets_of_new_routines_can_be_switched_off_everywhere_only() {
    let (mut state, _) = after([]);
    let execute = Privilege::Execute.only();
    let key = |schema: Option<&str>| DefaultKey { creator: "owner".to_owned(), schema: schema.map(str::to_owned), class: Class::Function };
    let public = |state: &State| state.acl_of_new("owner", Some("fares"), Class::Function).iter().any(|(g, ..)| *g == Grantee::Public);
    state.change_default(key(Some("fares")), execute, &Grantee::Public, false, true, None).expect("it may");
    assert!(public(&state), "in a schema there is nothing to take");
    state.change_default(key(None), execute, &Grantee::Public, false, true, None).expect("it may");
    assert!(!public(&state));
}

#[test]
fn predefined_roles_reach_everything_of_their_sort() {
    let (mut state, _) = after([]);
    for role in ["pg_read_all_data", "pg_write_all_data"] {
        let mut state = state.clone();
        state.roles.get_mut("third").expect("it is there").member_of.insert(role.to_owned(), false);
        let reads = role == "pg_read_all_data";
        for (privilege, expected) in [(Select, reads), (Insert, !reads), (Update, !reads), (Delete, !reads), (Privilege::Truncate, false)] {
            assert_eq!(holds(&state, "third", privilege), expected, "{role}: {privilege:?}");
            assert!(!state.has("third", &table(), None, privilege, true), "{role}: never to pass on");
        }
        let schema = ObjectName::new(Class::Schema, &["fares"]);
        assert!(state.has("third", &schema, None, Privilege::Usage, false) && !state.has("third", &schema, None, Privilege::Create, false));
    }
    state.set_owner(&ObjectName::database(), "clerk");
    let public = ObjectName::new(Class::Schema, &["public"]);
    assert!(state.has("clerk", &public, None, Privilege::Create, false), "the schema `public` is the database owner's");
    assert!(!state.has("third", &public, None, Privilege::Create, false));
}

#[test]
fn a_new_owner_takes_over_what_the_old_one_gave() {
    let (mut state, _) = after([grant(&[Select], "reader")]);
    state.set_owner(&table(), "clerk");
    assert!(holds(&state, "reader", Select) && holds(&state, "clerk", Delete) && !holds(&state, "owner", Delete));
    assert!(state.objects[&table()].acl.iter().all(|(_, by, _)| by == "clerk"));
    state.change(&revoke(&[Select], "reader").0).expect("the new owner may");
    assert!(!holds(&state, "reader", Select));
}

#[test]
fn a_script_says_each_statement_once_and_by_whom() {
    let (wanted, _) = after([grant(&[Select], "clerk").regrant(), grant(&[Select], "third").by("clerk")]);
    let statements: Vec<String> = state().steps_to(&wanted, "postgres").into_iter().map(|s| s.sql).collect();
    assert_eq!(
        statements,
        [
            "GRANT SELECT ON TABLE \"fares\".\"price\" TO \"clerk\" WITH GRANT OPTION",
            // The grantor has to look the name up, so the schema is opened for the moment.
            "GRANT USAGE ON SCHEMA \"fares\" TO \"clerk\"",
            "SET ROLE \"clerk\"",
            "GRANT SELECT ON TABLE \"fares\".\"price\" TO \"third\"",
            "RESET ROLE",
            "REVOKE USAGE ON SCHEMA \"fares\" FROM \"clerk\"",
        ]
    );
}

#[test]
fn what_is_too_much_is_taken_before_anything_is_given() {
    let (now, _) = after([grant(&[Select, Insert], "reader")]);
    let (wanted, _) = after([grant(&[Select, Delete], "reader")]);
    let statements: Vec<String> = now.steps_to(&wanted, "postgres").into_iter().map(|s| s.sql).collect();
    assert_eq!(
        statements,
        ["REVOKE INSERT ON TABLE \"fares\".\"price\" FROM \"reader\" CASCADE", "GRANT DELETE ON TABLE \"fares\".\"price\" TO \"reader\"",]
    );
}
