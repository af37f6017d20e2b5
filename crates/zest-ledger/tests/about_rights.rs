//! Statements about roles, accounts and rights on both databases, row by row; `zest-bridges` holds more of them against the server.

use std::sync::LazyLock;

use zest_ledger::ask::{Refusal, Verdict};
use zest_ledger::{Engine, Question};

use crate::support::engine;

static ENGINE: LazyLock<Engine> = LazyLock::new(|| {
    engine(
        "[users.root]\nproofs = ['password']\n[users.maker]\nproofs = ['password']\n[users.clerk]\nproofs = ['password']\n\
         [users.copier]\nproofs = ['password']\n[users.lender]\nproofs = ['password']\n\
         [systems.db]\nkind = 'postgresql'\n\
         [databases.db]\nowner = 'lender'\n\
         [databases.db.accounts]\nroot = { may = ['superuser'] }\nmaker = { may = ['create-role'] }\nclerk = { member-of = ['desk'] }\n\
         copier = { may = ['replication'] }\nlender = { administers = ['desk', 'root'], member-of = ['desk'] }\n\
         [databases.db.roles]\ndesk = {}\n'Odd \"one' = {}\nstrong = { may = ['superuser'] }\n\
         [databases.db.objects]\n'schema s' = { owner = 'lender' }\n'type s.t' = { owner = 'lender' }\n'language plpgsql' = {}\n\
         'function s.f(integer)' = { owner = 'lender' }\n'table s.one' = { owner = 'lender', columns = { id = 'integer' } }\n\
         'table s.two' = { owner = 'desk', columns = { id = 'integer' } }\n\
         [[databases.db.grants]]\nallow = ['usage']\non = 'schema s'\nto = ['maker', 'copier']\n\
         [[databases.db.grants]]\nallow = ['select']\non = 'table s.one'\nto = ['maker']\nregrant = true\n\
         [[databases.db.grants]]\nallow = ['select']\non = 'table s.one'\nto = ['copier']\nregrant = true\ngrantor = 'maker'\n",
    )
});

fn refused(account: &str, statement: &str) -> Option<Refusal> {
    let answer = ENGINE.decide(&Question::statement(account, "db", statement));
    assert_eq!(answer.refusal.is_none(), answer.verdict == Verdict::Allowed, "{account}: {statement}");
    answer.refusal
}

#[test]
fn each_statement_needs_what_the_server_checks() {
    use Refusal::{MembershipBarred, NoAdminOption, NoGrantOption, NoPrivilege, NotDecided, NotOwner, OptionBarred, SchemaShut, SwitchOff};
    for (account, statement, expected) in [
        // Membership: the option on the role, or the switch for roles; of a superuser only superusers.
        ("lender", "GRANT desk TO clerk", None),
        ("lender", "grant DESK to clerk with admin option granted by current_user", None),
        ("clerk", "GRANT desk TO clerk", Some(NoAdminOption)),
        ("maker", "GRANT desk TO clerk", None),
        ("maker", "GRANT strong TO clerk", Some(NoAdminOption)),
        ("lender", "GRANT root TO clerk", Some(NoAdminOption)),
        ("root", "GRANT root TO clerk", None),
        ("lender", "GRANT desk TO clerk GRANTED BY root", Some(SwitchOff)),
        ("root", "GRANT desk TO clerk GRANTED BY lender", None),
        ("lender", "REVOKE ADMIN OPTION FOR desk FROM clerk CASCADE", None),
        ("lender", "REVOKE desk FROM clerk GRANTED BY root", Some(NotDecided)),
        ("lender", "GRANT desk TO nobody_here", Some(NotDecided)),
        ("lender", "GRANT \"DESK\" TO clerk", Some(NotDecided)),
        ("maker", "GRANT \"Odd \"\"one\" TO clerk", None),
        // No role comes back to itself, whoever asks.
        ("root", "GRANT clerk TO desk", Some(MembershipBarred)),
        ("root", "GRANT clerk TO clerk", Some(MembershipBarred)),
        ("root", "GRANT lender, clerk TO root, desk WITH ADMIN OPTION", Some(MembershipBarred)),
        ("root", "GRANT root TO current_user", Some(MembershipBarred)),
        ("root", "GRANT lender TO root", Some(MembershipBarred)),
        ("clerk", "GRANT clerk TO desk", Some(NoAdminOption)),
        ("root", "REVOKE clerk FROM desk, clerk", None),
        ("root", "ALTER GROUP clerk ADD USER maker, desk", Some(MembershipBarred)),
        ("root", "ALTER GROUP clerk DROP USER desk", None),
        ("root", "CREATE ROLE extra IN ROLE clerk ROLE maker", None),
        ("root", "CREATE ROLE extra IN ROLE clerk ROLE maker ADMIN desk", Some(MembershipBarred)),
        ("root", "CREATE ROLE extra ADMIN clerk IN GROUP clerk", Some(MembershipBarred)),
        ("maker", "GRANT pg_database_owner TO clerk", Some(MembershipBarred)),
        ("maker", "GRANT desk TO pg_database_owner", Some(MembershipBarred)),
        ("maker", "CREATE ROLE extra ROLE pg_database_owner IN ROLE desk", Some(MembershipBarred)),
        ("root", "REVOKE pg_database_owner FROM clerk", None),
        ("root", "GRANT pg_monitor TO pg_read_all_stats", Some(MembershipBarred)),
        ("root", "GRANT desk TO maker; GRANT maker TO desk", Some(NotDecided)),
        // Making and changing roles.
        ("maker", "CREATE ROLE extra NOSUPERUSER IN ROLE desk", None),
        ("maker", "CREATE ROLE extra IN ROLE strong", Some(NoAdminOption)),
        ("maker", "CREATE ROLE extra SUPERUSER", Some(SwitchOff)),
        ("maker", "CREATE USER extra BYPASSRLS", Some(SwitchOff)),
        ("maker", "CREATE ROLE desk", Some(NotDecided)),
        ("maker", "CREATE ROLE pg_mine", Some(NotDecided)),
        ("clerk", "CREATE ROLE extra", Some(SwitchOff)),
        ("clerk", "ALTER ROLE clerk PASSWORD 'x'", None),
        ("clerk", "ALTER USER current_user WITH ENCRYPTED PASSWORD 'x'", None),
        ("clerk", "ALTER ROLE clerk PASSWORD 'x' NOLOGIN", Some(SwitchOff)),
        ("clerk", "ALTER ROLE desk PASSWORD 'x'", Some(SwitchOff)),
        ("copier", "ALTER ROLE copier PASSWORD 'x'", Some(SwitchOff)),
        ("maker", "ALTER ROLE copier PASSWORD 'x'", Some(SwitchOff)),
        ("maker", "ALTER ROLE strong LOGIN", Some(SwitchOff)),
        ("maker", "ALTER ROLE clerk NOBYPASSRLS", Some(SwitchOff)),
        ("maker", "ALTER ROLE clerk CREATEROLE CONNECTION LIMIT -1 VALID UNTIL 'infinity'", None),
        ("maker", "ALTER ROLE pg_monitor LOGIN", Some(NotDecided)),
        ("lender", "ALTER GROUP desk ADD USER clerk", Some(SwitchOff)),
        ("maker", "ALTER GROUP desk DROP USER clerk", None),
        ("maker", "ALTER ROLE desk RENAME TO bench", None),
        ("maker", "ALTER ROLE maker RENAME TO bench", Some(NotDecided)),
        ("maker", "ALTER ROLE desk RENAME TO clerk", Some(NotDecided)),
        ("maker", "DROP ROLE IF EXISTS nobody_here, clerk", None),
        ("maker", "DROP ROLE clerk, strong", Some(SwitchOff)),
        ("maker", "DROP USER maker", Some(NotDecided)),
        // Settings for later sessions.
        ("clerk", "ALTER ROLE clerk SET search_path = s, public", None),
        ("clerk", "ALTER ROLE clerk SET log_statement = 'none'", Some(SwitchOff)),
        ("clerk", "ALTER ROLE clerk SET shared_buffers = '1GB'", Some(NotDecided)),
        ("root", "ALTER ROLE clerk SET log_statement = 'none'", None),
        ("clerk", "ALTER ROLE desk RESET ALL", Some(SwitchOff)),
        ("maker", "ALTER ROLE ALL SET work_mem = '8MB'", Some(SwitchOff)),
        ("lender", "ALTER DATABASE db SET search_path TO s", None),
        ("clerk", "ALTER DATABASE db RESET ALL", Some(NotOwner)),
        ("lender", "ALTER DATABASE other SET search_path TO s", Some(NotDecided)),
        // What roles own.
        ("lender", "REASSIGN OWNED BY desk TO lender", None),
        ("lender", "REASSIGN OWNED BY lender TO desk", Some(NotDecided)),
        ("clerk", "REASSIGN OWNED BY desk TO lender", Some(NoPrivilege)),
        ("clerk", "DROP OWNED BY lender", Some(NoPrivilege)),
        ("clerk", "DROP OWNED BY desk CASCADE", Some(NotDecided)),
        ("root", "DROP OWNED BY desk, clerk", None),
        // Objects: all of a schema at once, routines, and what has no columns.
        ("lender", "GRANT SELECT ON ALL TABLES IN SCHEMA s TO clerk", None),
        ("clerk", "GRANT SELECT ON ALL TABLES IN SCHEMA s TO clerk", Some(SchemaShut)),
        ("lender", "GRANT SELECT ON ALL TABLES IN SCHEMA nowhere TO clerk", Some(NotDecided)),
        ("lender", "GRANT EXECUTE ON FUNCTION s.f(integer) TO clerk", None),
        ("clerk", "GRANT EXECUTE ON ALL ROUTINES IN SCHEMA s TO clerk", Some(SchemaShut)),
        ("lender", "GRANT EXECUTE ON PROCEDURE s.f(integer) TO clerk", Some(NotDecided)),
        ("lender", "GRANT USAGE ON TYPE s.t TO clerk WITH GRANT OPTION", None),
        ("lender", "REVOKE GRANT OPTION FOR ALL PRIVILEGES ON DOMAIN s.t FROM PUBLIC", None),
        ("clerk", "GRANT USAGE ON TYPE s.t TO clerk", Some(SchemaShut)),
        ("clerk", "GRANT USAGE ON LANGUAGE plpgsql TO clerk", Some(NoGrantOption)),
        ("lender", "GRANT SELECT ON TYPE s.t TO clerk", Some(NotDecided)),
        ("lender", "GRANT USAGE ON TYPE t TO clerk", Some(NotDecided)),
        // An option never goes back to whom it rests on, and everybody is given none; one on a column rests on one on that column.
        ("copier", "GRANT SELECT ON s.one TO clerk WITH GRANT OPTION", None),
        ("copier", "GRANT SELECT ON s.one TO maker", None),
        ("copier", "GRANT SELECT ON s.one TO maker WITH GRANT OPTION", Some(OptionBarred)),
        ("copier", "GRANT SELECT ON s.one TO clerk, \"maker\" WITH GRANT OPTION", Some(OptionBarred)),
        ("copier", "GRANT SELECT ON s.one TO session_user WITH GRANT OPTION", Some(OptionBarred)),
        ("copier", "GRANT SELECT ON ALL TABLES IN SCHEMA s TO maker WITH GRANT OPTION", Some(OptionBarred)),
        ("copier", "GRANT SELECT (id) ON s.one TO clerk", None),
        ("copier", "GRANT SELECT (id) ON s.one TO clerk WITH GRANT OPTION", Some(OptionBarred)),
        ("copier", "GRANT ALL (id) ON s.one TO clerk WITH GRANT OPTION", Some(OptionBarred)),
        ("copier", "GRANT INSERT ON s.one TO maker WITH GRANT OPTION", Some(NoGrantOption)),
        ("lender", "GRANT SELECT ON s.one TO maker WITH GRANT OPTION", None),
        ("lender", "GRANT SELECT ON s.one TO PUBLIC WITH GRANT OPTION", Some(OptionBarred)),
        ("lender", "GRANT ALL (id) ON TABLE s.one TO maker, PUBLIC WITH GRANT OPTION", Some(OptionBarred)),
        ("root", "GRANT USAGE ON TYPE s.t TO PUBLIC WITH GRANT OPTION", Some(OptionBarred)),
        ("root", "GRANT EXECUTE ON FUNCTION s.f(integer) TO PUBLIC WITH GRANT OPTION", Some(OptionBarred)),
        ("root", "GRANT SET ON PARAMETER work_mem TO PUBLIC WITH GRANT OPTION", Some(NotDecided)),
        ("lender", "ALTER DEFAULT PRIVILEGES GRANT SELECT ON TABLES TO maker, PUBLIC WITH GRANT OPTION", Some(NotDecided)),
        ("lender", "ALTER DEFAULT PRIVILEGES GRANT SELECT ON TABLES TO PUBLIC", None),
        ("lender", "REVOKE GRANT OPTION FOR SELECT ON s.one FROM PUBLIC", None),
        // Nothing is dropped: what follows is looked at as well.
        ("maker", "GRANT desk TO clerk; DROP ROLE root", Some(SwitchOff)),
        ("maker", "CREATE ROLE extra; GRANT root TO clerk", Some(NoAdminOption)),
        ("maker", "CREATE ROLE extra; SELECT 1", Some(NotDecided)),
        ("clerk", "ALTER ROLE clerk SET work_mem = '1MB'; ALTER ROLE root NOLOGIN", Some(SwitchOff)),
    ] {
        assert_eq!(refused(account, statement), expected, "{account}: {statement}");
    }
}

#[test]
fn a_statement_that_is_cut_is_allowed_only_where_it_is_one_of_its_own() {
    let whole = [
        "GRANT desk TO clerk WITH ADMIN OPTION",
        "CREATE ROLE extra WITH LOGIN PASSWORD 'it''s' CONNECTION LIMIT 3 IN ROLE desk",
        "ALTER ROLE clerk IN DATABASE postgres SET search_path TO s, \"public\"",
        "/* a /* b */ c */ ALTER ROLE clerk VALID UNTIL '2027-01-01'",
        "REVOKE GRANT OPTION FOR ALL PRIVILEGES ON TYPE s.t FROM PUBLIC CASCADE",
    ];
    for statement in whole {
        for end in (0..=statement.len()).filter(|end| statement.is_char_boundary(*end)) {
            let answer = ENGINE.decide(&Question::statement("clerk", "db", &statement[..end]));
            // The own setting is the only thing of all these that a clerk may change, and only once it has a value.
            let is_own_setting = statement[..end].contains("SET search_path TO ");
            assert!(answer.verdict != Verdict::Allowed || is_own_setting, "{}", &statement[..end]);
        }
    }
    let mut deep = "/*".repeat(10_000);
    deep.push_str("GRANT desk TO clerk");
    assert_ne!(ENGINE.decide(&Question::statement("root", "db", &deep)).verdict, Verdict::Allowed);
    let long = format!("GRANT desk TO {}clerk", "clerk, ".repeat(9_000));
    assert_eq!(ENGINE.decide(&Question::statement("clerk", "db", &long)).refusal, Some(Refusal::NoAdminOption));
}

static MARIA: LazyLock<Engine> = LazyLock::new(|| {
    engine(
        "[users.maker]\nproofs = ['password']\n[users.clerk]\nproofs = ['password']\n[users.keeper]\nproofs = ['password']\n\
         [systems.db]\nkind = 'mariadb'\n[databases.db]\nnot-modelled = ['names are not resolved']\n\
         [databases.db.accounts]\n'maker@%' = {}\n'clerk@192.0.2.%' = { member-of = ['desk'] }\n'keeper@%' = { administers = ['inner', 'lone'] }\n\
         [databases.db.roles]\ndesk = {}\nother = {}\ninner = { member-of = ['desk'] }\nlone = {}\n\
         [[databases.db.grants]]\nallow = ['create user']\non = 'everything'\nto = ['maker@%']\n\
         [[databases.db.grants]]\nallow = ['update']\non = 'database mysql'\nto = ['keeper@%']\n",
    )
});

fn from_office(user: &str, statement: &str) -> Question {
    Question::statement(user, "db", statement).from("192.0.2.7".parse().expect("an address"))
}

#[test]
fn each_statement_about_accounts_needs_what_the_server_checks() {
    use Refusal::{MembershipBarred, NoAdminOption, NoGrantOption, NoPrivilege, NotDecided, RoleNotGranted, StatementUnreadable};
    for (user, statement, expected) in [
        ("maker", "CREATE USER 'x'@'10.0.0.%' IDENTIFIED VIA unix_socket", None),
        ("maker", "create or replace role r", None),
        ("keeper", "CREATE ROLE r", Some(NoPrivilege)),
        ("keeper", "RENAME USER clerk@`192.0.2.%` TO x, maker TO y@localhost", None),
        ("clerk", "DROP USER IF EXISTS maker, keeper@'%'", Some(NoPrivilege)),
        ("maker", "CREATE ROLE r WITH ADMIN CURRENT_USER()", None),
        ("maker", "CREATE ROLE r WITH ADMIN clerk", Some(NotDecided)),
        ("clerk", "ALTER USER current_user() IDENTIFIED BY 'x'", Some(NoPrivilege)),
        // The own password, by whichever of its names; not that of the same login from elsewhere.
        ("clerk", "SET PASSWORD = PASSWORD('x')", None),
        ("clerk", "SET PASSWORD FOR 'clerk'@'192.0.2.%' = PASSWORD('x')", None),
        ("clerk", "SET PASSWORD FOR clerk = PASSWORD('x')", Some(NoPrivilege)),
        ("clerk", "SET PASSWORD FOR 'Clerk'@'192.0.2.%' = PASSWORD('x')", Some(NoPrivilege)),
        ("maker", "SET PASSWORD FOR keeper = PASSWORD('x')", Some(NoPrivilege)),
        ("keeper", "SET PASSWORD FOR maker = PASSWORD('x')", None),
        ("clerk", "SET DEFAULT ROLE desk", None),
        ("clerk", "SET DEFAULT ROLE other", Some(RoleNotGranted)),
        ("clerk", "SET DEFAULT ROLE NONE FOR maker", Some(NoPrivilege)),
        ("keeper", "SET DEFAULT ROLE desk FOR maker", Some(RoleNotGranted)),
        ("clerk", "SHOW GRANTS", None),
        // Granted, and not active.
        ("clerk", "SHOW GRANTS FOR desk", Some(NoPrivilege)),
        ("clerk", "SHOW GRANTS FOR other", Some(NoPrivilege)),
        ("clerk", "SHOW CREATE USER maker", Some(NoPrivilege)),
        ("keeper", "REVOKE ALL PRIVILEGES, GRANT OPTION FROM clerk@'192.0.2.%'", None),
        ("keeper", "REVOKE GRANT OPTION ON *.* FROM maker", Some(NoGrantOption)),
        // No role comes back to itself, whoever asks; an account of the name of a role has a host.
        ("keeper", "GRANT inner TO clerk@'192.0.2.%', other", None),
        ("keeper", "GRANT inner TO desk", Some(MembershipBarred)),
        ("keeper", "GRANT inner TO `desk` WITH ADMIN OPTION", Some(MembershipBarred)),
        ("keeper", "GRANT inner TO 'desk'@'%'", Some(NotDecided)),
        ("keeper", "GRANT inner TO maker, public, CURRENT_USER()", None),
        ("keeper", "GRANT inner TO maker WITH GRANT OPTION", Some(NotDecided)),
        ("keeper", "REVOKE ADMIN OPTION FOR inner FROM 'maker'@'%'", None),
        ("keeper", "GRANT lone, inner TO lone", Some(MembershipBarred)),
        ("keeper", "GRANT lone TO CURRENT_ROLE", Some(MembershipBarred)),
        ("keeper", "SET ROLE inner; GRANT lone TO current_role", None),
        ("keeper", "SET ROLE lone; GRANT lone TO current_role()", Some(MembershipBarred)),
        ("keeper", "SET ROLE desk; GRANT inner TO current_role", Some(RoleNotGranted)),
        ("keeper", "REVOKE inner FROM desk", None),
        ("clerk", "GRANT inner TO desk", Some(NoAdminOption)),
        // Nothing is dropped, and what such a comment holds is carried out.
        ("maker", "CREATE ROLE r; GRANT ALL ON *.* TO r", Some(NoGrantOption)),
        ("maker", "CREATE ROLE r; SELECT 1", Some(NotDecided)),
        ("clerk", "SHOW GRANTS /*! FOR maker */", Some(NoPrivilege)),
        ("clerk", "SET PASSWORD /*M! FOR maker */ = PASSWORD('x')", Some(NoPrivilege)),
    ] {
        let answer = MARIA.decide(&from_office(user, statement));
        assert_eq!(answer.refusal.is_none(), answer.verdict == Verdict::Allowed, "{user}: {statement}");
        if expected == Some(NotDecided) || expected == Some(StatementUnreadable) {
            // Which of the two says so is the parser's matter.
            assert!(matches!(answer.refusal, Some(NotDecided | StatementUnreadable)), "{user}: {statement}: {:?}", answer.refusal);
        } else {
            assert_eq!(answer.refusal, expected, "{user}: {statement}");
        }
    }
    let whole = "ALTER USER 'maker'@'%' IDENTIFIED BY 'it''s' REQUIRE SSL ACCOUNT LOCK";
    for end in 0..=whole.len() {
        assert_ne!(MARIA.decide(&from_office("clerk", &whole[..end])).verdict, Verdict::Allowed, "{}", &whole[..end]);
    }
}
