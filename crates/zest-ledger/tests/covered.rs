//! Credentials inside of a question are not shown again, in whatever form an answer is written.

use zest_ledger::Question;
use zest_ledger::ask::{Answer, Form, covered, is_secret_name};

use crate::support::{ask, engine};

#[test]
fn what_stands_for_a_credential_is_covered_and_nothing_else() {
    let statements = [
        ("alter user clerk password 'tide'", "alter user clerk password '[covered]'"),
        (
            "ALTER ROLE clerk WITH ENCRYPTED PASSWORD 'ti''de' VALID UNTIL 'infinity'",
            "ALTER ROLE clerk WITH ENCRYPTED PASSWORD '[covered]' VALID UNTIL 'infinity'",
        ),
        ("create user a@b identified by 'tide'", "create user a@b identified by '[covered]'"),
        ("create user a@b identified by password '*6C8'", "create user a@b identified by password '[covered]'"),
        ("create user a@b identified via ed25519 using 'tide'", "create user a@b identified via ed25519 using '[covered]'"),
        ("set password for a@b = password('tide')", "set password for a@b = password('[covered]')"),
        ("alter role x password E'ti\\'de'", "alter role x password E'[covered]'"),
        ("alter role x password $q$tide$q$", "alter role x password $q$[covered]$q$"),
        ("select dblink('host=db password=tide user=x')", "select dblink('host=db password=[covered] user=x')"),
        (
            "create user mapping for x server s options (user 'u', password 'tide')",
            "create user mapping for x server s options (user 'u', password '[covered]')",
        ),
        ("select password from people", "select password from people"),
        ("select id from t where name = 'tide'", "select id from t where name = 'tide'"),
    ];
    for (line, wanted) in statements {
        assert_eq!(covered(line, Form::Statement), wanted);
    }
    let lines = [
        ("/opt/report --token=tide --all", "/opt/report --token=[covered] --all"),
        ("/opt/report --token tide --all", "/opt/report --token [covered] --all"),
        ("PGPASSWORD=tide /opt/report", "PGPASSWORD=[covered] /opt/report"),
        ("user add a password tide", "user add a password [covered]"),
        ("GET /x?token=tide&page=2", "GET /x?token=[covered]&page=2"),
        ("show secrets", "show secrets"),
        ("read-secret on sealed/line", "read-secret on sealed/line"),
        ("show log", "show log"),
    ];
    for (line, wanted) in lines {
        assert_eq!(covered(line, Form::Line), wanted);
    }
    assert!(is_secret_name("Api-Key") && is_secret_name("DB_PASSWORD") && !is_secret_name("amount"));
}

#[test]
fn no_form_of_an_answer_shows_it() {
    let engine = engine(
        "[systems.db]\nkind = \"postgresql\"\n[databases.db.accounts]\nclerk = {}\n[systems.maria]\nkind = \"mariadb\"\n\
         [databases.maria.accounts]\n\"clerk@%\" = {}\n[users]\nclerk = {}\n[systems.box]\nkind = \"host\"\nno-command-set = \"nothing\"\n[hosts.box.accounts]\nclerk = {}\n\
         [systems.app]\nkind = \"application\"\n[applications.app.types.box]\nrights = [\"open\"]\n[applications.app.objects]\n\"box/1\" = {}",
    );
    let questions = [
        Question::statement("clerk", "db", "alter role clerk password 'lowtide'"),
        Question::statement("clerk", "db", "alter rol clerk password 'lowtide'"),
        Question::statement("clerk", "db", "alter role lowtide password 'lowtide'"),
        Question::statement("clerk", "maria", "create user x identified by 'lowtide'"),
        Question::statement("clerk", "maria", "set password = password('lowtide')"),
        Question::new("clerk", "box", "PGPASSWORD=lowtide /opt/report --secret=lowtide"),
        Question::new("clerk", "app", "open on box/1").attribute("api-token", "lowtide"),
        Question::new("clerk", "app", "open on box/1?token=lowtide"),
    ];
    for question in questions {
        let answer = ask(&engine, &question);
        let json = |answer: &Answer| serde_json::to_string(answer).expect("it can be written");
        let forms = [json(&answer), format!("{answer:?}"), json(&engine.explain(&question))];
        for form in forms {
            assert!(!form.contains("lowtide") && form.contains("[covered]"), "{}: {form}", question.line);
        }
        assert_eq!(answer.verdict, engine.explain(&question).verdict);
    }
}
