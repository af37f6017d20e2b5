//! The suite of statements on PostgreSQL, on the demo's ticketing database with all that it has not got.

use std::sync::{Arc, Mutex};

use postgres::error::SqlState;
use postgres::{Client, NoTls};
use zest_bridges::postgresql::Session;
use zest_ledger::ask::{self, Refusal};
use zest_ledger::postgresql::{State, quoted};
use zest_ledger::{Engine, Ledger, Prepared, Question};
use zest_testkit::servers::{self, Server};

use crate::postgresql::{open, refuses, same_to_the_byte, sql};
use crate::suites::{Compared, Record, Said, suite};
use crate::support::demo;

/// Accounts and active roles under which each statement is tried.
const IDENTITIES: &[(&str, Option<&str>)] = &[
    ("postgres", None),
    ("postgres", Some("fare-reader")),
    ("db-lead", None),
    ("db-lead", Some("ticketing-owner")),
    ("purser-1", None),
    ("purser-3", None),
    ("purser-3", Some("fare-clerk")),
    ("dispatcher-1", None),
    ("tariff-1", None),
    ("counter-app", None),
    ("report-runner", None),
    ("auditor-1", None),
    ("fare-lead", None),
];

/// A session of an account, which keeps the warnings that it is sent.
struct Try {
    client: Client,
    warnings: Arc<Mutex<Vec<String>>>,
    /// How a transaction is begun.
    begin: String,
}

impl Try {
    fn open(server: &Server, account: &str, role: Option<&str>) -> Self {
        let warnings: Arc<Mutex<Vec<String>>> = Arc::default();
        let kept = Arc::clone(&warnings);
        let mut config = Client::configure();
        config.host("127.0.0.1").port(server.port).user(account).dbname("ticketing");
        config.notice_callback(move |notice| {
            if notice.severity() == "WARNING" {
                kept.lock().expect("nobody panics with it").push(notice.message().to_owned());
            }
        });
        let begin = format!("BEGIN{}", role.map_or(String::new(), |role| format!("; SET ROLE {}", quoted(role))));
        let mut opened = Self { client: config.connect(NoTls).expect("the account may sign in"), warnings, begin };
        let begin = opened.begin.clone();
        opened.run(&begin);
        opened
    }

    fn run(&mut self, text: &str) {
        self.client.batch_execute(text).unwrap_or_else(|e| panic!("{text}: {e}"));
    }

    /// Attempts a statement in the transaction that is open, rolls it back, and begins the next.
    fn attempt(&mut self, statement: &str) -> Said {
        self.warnings.lock().expect("nobody panics with it").clear();
        let came = statement.split("; ").try_for_each(|one| self.client.batch_execute(one));
        let warnings = self.warnings.lock().expect("nobody panics with it").clone();
        // All at once: one trip to the server. What is reset is so before the next begins, and no part of it.
        let next = format!("ROLLBACK; RESET SESSION AUTHORIZATION; RESET ROLE; RESET ALL; COMMIT; {}", self.begin);
        self.run(&next);
        // What it only warns of is not done.
        let nothing = ["no privileges were granted", "no privileges could be revoked", "skipping "];
        let Err(error) = came else {
            let refused = warnings.iter().find(|warning| nothing.iter().any(|begin| warning.starts_with(begin)));
            return refused.map_or(Said::Allowed(None), |warning| Said::Refused(format!("warning: {warning}")));
        };
        // The client does not know what to do with the rows of a COPY.
        let Some(error) = error.as_db_error() else { return Said::Allowed(Some(error.to_string())) };
        let text = format!("{} ({})", error.message(), error.code().code());
        match *error.code() {
            _ if refuses(error) => Said::Refused(text),
            SqlState::SYNTAX_ERROR
            | SqlState::ACTIVE_SQL_TRANSACTION
            | SqlState::FEATURE_NOT_SUPPORTED
            | SqlState::WRONG_OBJECT_TYPE
            | SqlState::INVALID_OBJECT_DEFINITION => Said::Nothing(text),
            _ => Said::Allowed(Some(text)),
        }
    }
}

/// What was read is emitted for a fresh database, and read from it: the documents are the same, to the byte.
fn fresh_server_is_the_same(server: &Server, admin: &mut Session, mut session: Session) {
    let fresh = State::fresh("ticketing", "postgres");
    let stops = fresh.cannot_write(&session.read().expect("reads"));
    let named = ["desk.stripe", "fares.label", "fares.total"];
    assert!(stops.iter().all(|stop| named.iter().any(|name| stop.contains(name))), "{stops:#?}");
    // What is only named of the whole server does not stop it, and is not made: the drift says so.
    sql(
        &mut session,
        "DROP FUNCTION desk.seen CASCADE; DROP TYPE desk.stripe CASCADE; DROP TABLE fares.label CASCADE; DROP AGGREGATE fares.total(integer) CASCADE",
    );
    let read = session.read().expect("reads");
    drop(session);
    sql(admin, "ALTER DATABASE ticketing RENAME TO before");
    sql(admin, "CREATE DATABASE ticketing TEMPLATE template0");
    let mut session = open(server, "ticketing");
    let steps = session.read().expect("reads").steps_to(&read, "postgres");
    session.run(&steps).expect("it can be emitted");
    same_to_the_byte(&read, &session.read().expect("reads")).unwrap_or_else(|e| panic!("{e}"));
}

#[test]
fn each_form_of_the_manual_has_the_servers_verdict() {
    let Some(server) = servers::wanted(servers::postgresql) else { return };
    let estate = demo().estate().unwrap_or_else(|f| panic!("{f}"));
    let ledger = zest_ledger::postgresql::state_of(&estate, "ticketing", None).expect("the demo has it");
    let mut admin = open(&server, "postgres");
    sql(&mut admin, "CREATE DATABASE ticketing TEMPLATE template0");
    let mut session = open(&server, "ticketing");
    let steps = session.read().expect("reads").steps_to(&ledger, "postgres");
    session.run(&steps).expect("the demo is rolled out");
    sql(&mut session, include_str!("statements/postgresql-estate.sql"));
    sql(&mut session, "REFRESH MATERIALIZED VIEW reports.route_totals");
    let read = session.read().expect("reads");
    let document = read.document("ticketing", None);
    let estate = Ledger::new().document("read.toml", &document).estate().unwrap_or_else(|f| panic!("{f}\n{document}"));
    // What was read and is untouched is no drift, and leaves nothing to do.
    let kept = zest_ledger::postgresql::state_of(&estate, "ticketing", None).expect("it was read");
    assert_eq!((read.drift(&kept), read.steps_to(&kept, "postgres")), (Vec::new(), Vec::new()));
    let engine = Engine::compile(estate).unwrap_or_else(|f| panic!("{f}"));
    let all = suite(include_str!("statements/postgresql.txt"));
    let mut compared = Compared::by_forms(include_str!("statements/postgresql-forms.txt"));
    let prepared: Vec<Prepared<'_>> = all.iter().map(|one| engine.prepare(&Question::statement("", "ticketing", &one.sql))).collect();
    let mut record = Record::of("crates/zest-bridges/tests/statements/postgresql-said.txt", &all);
    for (identity, (account, role)) in IDENTITIES.iter().enumerate() {
        let who = format!("{account}{}", role.map_or(String::new(), |r| format!(" as {r}")));
        let mut session = Try::open(&server, account, *role);
        for (number, (statement, prepared)) in all.iter().zip(&prepared).enumerate() {
            let question = prepared.question(account, ask::Session { at: Some(jiff::Timestamp::now()), ..ask::Session::default() });
            let question = role.map_or(question.clone(), |role| question.active_role(role));
            let decision = prepared.decide(&question);
            let said = record.said((number, identity), decision, || match session.attempt(&statement.sql) {
                // What is behind a schema that is shut does not exist, to the server.
                Said::Allowed(Some(text))
                    if decision.refusal == Some(Refusal::SchemaShut) && ["(42P01)", "(42883)"].iter().any(|code| text.ends_with(code)) =>
                {
                    Said::Refused(text)
                }
                said => said,
            });
            compared.add(&who, statement, decision, || engine.explain(&question), &said);
        }
    }
    fresh_server_is_the_same(&server, &mut admin, session);
    compared.concludes("PostgreSQL 15", ("docs/statements-on-postgresql.md", &record), all.len(), IDENTITIES.len());
}
