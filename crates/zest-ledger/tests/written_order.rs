//! A table has no order (TOML 1.0, "Table"): however its entries stand, in whichever document and in whichever notation, the ledger is the
//! same.

use std::collections::BTreeMap;

use fastrand::Rng;
use toml::de::{DeTable, DeValue};
use zest_ledger::ask::Session;
use zest_ledger::finding::Findings;
use zest_ledger::review::{changed_beside, compare, hygiene};
use zest_ledger::{Engine, Ledger};
use zest_testkit::databases::{mariadb, postgresql};
use zest_testkit::estates::Source;
use zest_testkit::{questions, seed};

use crate::support;

/// Writes a key or a text as a basic string of TOML.
fn quoted(text: &str) -> String {
    assert!(text.chars().all(|c| !c.is_control()), "{text:?}");
    format!("\"{}\"", text.replace('\\', "\\\\").replace('"', "\\\""))
}

/// Writes a value in one line, with the entries of its tables in any order; what is in an array stays as it stands.
fn shuffled(value: &DeValue<'_>, rng: &mut Rng) -> String {
    match value {
        DeValue::Table(table) => {
            let entries = table.iter().map(|(key, value)| (&**key.get_ref(), value.get_ref()));
            in_one_line(entries.collect(), rng)
        }
        DeValue::Array(list) => format!("[{}]", list.iter().map(|value| shuffled(value.get_ref(), rng)).collect::<Vec<_>>().join(", ")),
        DeValue::String(text) => quoted(text),
        DeValue::Integer(number) => number.to_string(),
        DeValue::Float(number) => number.to_string(),
        DeValue::Boolean(is) => is.to_string(),
        DeValue::Datetime(moment) => moment.to_string(),
    }
}

fn in_one_line(entries: Vec<(&str, &DeValue<'_>)>, rng: &mut Rng) -> String {
    let one = |(key, value): (&str, &DeValue<'_>), rng: &mut Rng| match value {
        // The columns of a table have an order on the server, and it is the one they are written in.
        DeValue::Table(columns) if key == "columns" => {
            let columns: Vec<String> =
                columns.iter().map(|(name, of)| format!("{} = {}", quoted(name.get_ref()), shuffled(of.get_ref(), rng))).collect();
            format!("columns = {{ {} }}", columns.join(", "))
        }
        value => format!("{} = {}", quoted(key), shuffled(value, rng)),
    };
    let mut entries: Vec<String> = entries.into_iter().map(|entry| one(entry, rng)).collect();
    rng.shuffle(&mut entries);
    format!("{{ {} }}", entries.join(", "))
}

/// Deals the entries of a ledger to two documents, each in another order than before.
fn dealt(ledger: &DeTable<'_>, rng: &mut Rng) -> [String; 2] {
    let mut documents: [Vec<String>; 2] = Default::default();
    for (kind, entries) in ledger {
        let kind = kind.get_ref();
        match entries.get_ref() {
            DeValue::Table(entries) => {
                let mut hands: [Vec<(&str, &DeValue<'_>)>; 2] = Default::default();
                entries.iter().for_each(|(id, entry)| hands[rng.usize(..2)].push((id.get_ref(), entry.get_ref())));
                for (hand, document) in hands.into_iter().zip(&mut documents).filter(|(hand, _)| !hand.is_empty()) {
                    document.push(format!("{kind} = {}", in_one_line(hand, rng)));
                }
            }
            whole => documents[rng.usize(..2)].push(format!("{kind} = {}", shuffled(whole, rng))),
        }
    }
    documents.map(|mut parts| {
        rng.shuffle(&mut parts);
        parts.join("\n")
    })
}

/// What is found, whatever stands first.
fn counts(findings: &Findings) -> BTreeMap<String, usize> {
    let mut counts = BTreeMap::new();
    findings.list().iter().for_each(|finding| *counts.entry(finding.code.to_string()).or_default() += 1);
    counts
}

/// The same ledger, dealt twice.
struct Twice {
    engines: [Engine; 2],
    about: String,
}

impl Twice {
    fn of(text: &str, rng: &mut Rng, seed: u64) -> Self {
        let table = DeTable::parse(text).expect("what is made is TOML");
        let deals = [(); 2].map(|()| dealt(table.get_ref(), rng));
        let about = format!("seed {seed}\n{}", deals.iter().map(|deal| deal.join("\n---\n")).collect::<Vec<_>>().join("\n======\n"));
        let engines = deals.map(|[one, other]| {
            let ledger = Ledger::new().document("one.toml", &one).document("other.toml", &other);
            let estate = ledger.estate().unwrap_or_else(|findings| panic!("{about}\n{findings}"));
            Engine::compile(estate).unwrap_or_else(|findings| panic!("{about}\n{findings}"))
        });
        Self { engines, about }
    }

    /// Nobody may anything else, nothing else is different, and the same is found.
    fn are_the_same(&self, user: Option<&str>) {
        let Self { engines: [engine, other], about } = self;
        if let Some(user) = user {
            let moved = compare(engine, other, user, &Session::default());
            assert!(moved.is_empty(), "{about}\n{moved:#?}");
        }
        let beside = changed_beside(engine, other, &[], |_| true);
        assert!(beside.is_empty(), "{about}\n{beside:#?}");
        assert_eq!(counts(&hygiene(engine, None)), counts(&hygiene(other, None)), "{about}");
    }
}

#[test]
fn entries_of_a_table_stand_in_any_order() {
    let (first, wanted) = (seed(61_000), questions(4_000).div_ceil(40));
    println!("first seed {first}");
    for seed in (first..).take(wanted) {
        let mut source = Source::new(seed);
        let mut rng = Rng::with_seed(seed);
        let twice = Twice::of(&source.ledger(), &mut rng, seed);
        let [engine, other] = &twice.engines;
        for _ in 0..40 {
            let question = source.question();
            // Where several things are in the way, the one that stands first is told.
            assert_eq!(engine.decide(&question).verdict, other.decide(&question).verdict, "{}\n{question:#?}", twice.about);
        }
        let user = rng.choice(engine.estate().users()).expect("there are users");
        twice.are_the_same(Some(&user.id.value));
    }
    println!("{wanted} ledgers of all kinds, dealt twice, are the same");
}

#[test]
fn what_a_server_has_stands_in_any_order() {
    let (first, wanted) = (seed(62_000), questions(2_000).div_ceil(40));
    println!("first seed {first}");
    for seed in (first..).take(wanted) {
        let mut rng = Rng::with_seed(seed);
        let state = postgresql::estate(&mut rng, "db", "", postgresql::Size { roles: 5, tables: 4, grants: 30 });
        let twice = Twice::of(&state.document("db", None), &mut rng, seed);
        twice.are_the_same(None);
        let [one, other] = twice.engines.each_ref().map(|engine| zest_ledger::postgresql::state_of(engine.estate(), "db", None));
        assert_eq!(one.expect("it is there"), other.expect("it is there"), "{}", twice.about);
        let state = mariadb::estate(&mut rng, mariadb::Size { logins: 3, roles: 3, tables: 5, grants: 25 });
        let twice = Twice::of(&state.document("db", None), &mut rng, seed);
        twice.are_the_same(None);
        let [one, other] = twice.engines.each_ref().map(|engine| zest_ledger::mariadb::state_of(engine.estate(), "db", None));
        assert_eq!(one.expect("it is there"), other.expect("it is there"), "{}", twice.about);
    }
    println!("{wanted} servers of both makes, dealt twice, are the same");
}

/// The ledgers of the demo with every document dealt; the last one has errors as well, and they are the same.
#[test]
fn the_demo_stands_in_any_order() {
    let mut rng = Rng::with_seed(seed(63_000));
    for (name, tables) in [("lanternsound", 14), ("corners", 1), ("with-defects", 8)] {
        let folder = format!("{}/../zest-cli/demo/{name}", env!("CARGO_MANIFEST_DIR"));
        let mut paths: Vec<_> = std::fs::read_dir(folder).expect("the demo is there").flatten().map(|entry| entry.path()).collect();
        let mut dealt_of = |rng: &mut Rng| {
            rng.shuffle(&mut paths);
            let mut documents = Vec::new();
            for path in &paths {
                let text = std::fs::read_to_string(path).expect("it can be read");
                let file = path.file_name().expect("it has a name").to_string_lossy().into_owned();
                match DeTable::parse(&text).ok().filter(|_| file.ends_with(".toml")) {
                    Some(table) => documents.extend(dealt(table.get_ref(), rng).map(|text| (format!("{}-{file}", documents.len()), text))),
                    None => documents.push((file, text)),
                }
            }
            documents
        };
        let [one, other] = [(); 2].map(|()| {
            let documents = dealt_of(&mut rng);
            assert!(documents.len() >= 2 * tables, "{name}: {} documents", documents.len());
            documents.iter().fold(Ledger::new(), |ledger, (file, text)| ledger.document_bytes(file, text.as_bytes())).validate()
        });
        assert_eq!(counts(&one.findings), counts(&other.findings), "{name}");
        let engines = [one, other].map(|validated| validated.estate.and_then(|estate| Engine::compile(estate).ok()));
        if let [Some(engine), Some(other)] = engines {
            let user = engine.estate().users()[rng.usize(..engine.estate().users().len())].id.value.clone();
            Twice { engines: [engine, other], about: format!("{name}: {user}") }.are_the_same(Some(&user));
        } else {
            assert_eq!(name, "with-defects");
        }
    }
}

/// What lies in something may be written before it.
#[test]
fn a_table_may_stand_before_its_schema() {
    let engine = support::engine(
        "[users.a]\n[systems.db]\nkind = 'postgresql'\n[databases.db.accounts]\na = {}\n\
         [databases.db.objects]\n'table s.t' = { columns = { id = 'integer' } }\n'schema s' = {}\n\
         [[databases.db.grants]]\nallow = ['usage']\non = 'schema s'\nto = ['a']\n\
         [[databases.db.grants]]\nallow = ['select']\non = 'table s.t'\nto = ['a']\n",
    );
    let answer = engine.decide(&zest_ledger::Question::statement("a", "db", "SELECT id FROM s.t"));
    assert_eq!(answer.refusal, None);
}
