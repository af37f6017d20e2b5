//! Kinds from outside: whatever they answer, nothing is allowed by accident, and nothing panics.

use std::collections::BTreeSet;
use std::sync::Arc;

use jiff::Timestamp;
use zest_ledger::ask::{Answer, Change, Fact, Question, Refusal, Session, Stage, Verdict};
use zest_ledger::entry::{self, Channel, Kind as Word, System};
use zest_ledger::estate::{Estate, Party, RoleId, SetId, SystemId, UserId};
use zest_ledger::finding::{Code, Finding};
use zest_ledger::kind::{
    Action, Alike, Beside, Combining, Declared, Ground, Kept, Kind, Left, Opened, Opening, OutsideTable, Resolver, Shown, Side, Site, Stop,
    Through, Trace, Way, way,
};
use zest_ledger::review::{Cause, SessionView, effective, hygiene, readiness, session};
use zest_ledger::source::{At, Place};
use zest_ledger::{Engine, Ledger};

const CARELESS: Word = Word::new("careless");

/// Answers as the line of the question says.
#[derive(Debug)]
struct Careless;

/// A place of a document that the ledger does not have.
fn elsewhere() -> Place {
    let mut ledger = Ledger::new();
    for i in 0..9 {
        ledger = ledger.document(&format!("{i}.toml"), "[users.u]\n");
    }
    let findings = ledger.validate().findings;
    findings.list().iter().rev().find_map(|f| f.primary.as_ref()).expect("users are declared twice").place
}

impl Kind for Careless {
    fn tables(&self) -> &'static [OutsideTable] {
        &[]
    }
    fn words(&self) -> &'static [entry::Kind] {
        &[CARELESS]
    }
    fn resolve(&self, _: &mut Resolver<'_>, _: Ground<'_>, _: SystemId) -> Kept {
        Arc::new("not what anybody expects")
    }
    fn amend(&self, _: &mut Resolver<'_>, _: Ground<'_>, _: SystemId, _: &Kept, _: &[Change]) -> Option<Kept> {
        None
    }
    fn complete(&self, _: &mut Resolver<'_>, _: Ground<'_>, _: &mut [Declared]) {}
    fn compile(&self, _: &Estate, _: SystemId) -> Kept {
        Arc::new(())
    }
    fn hears(&self, _: Fact) -> bool {
        true
    }
    fn looks_at(&self, _: entry::SystemKey) -> bool {
        true
    }
    fn combining(&self) -> Combining {
        Combining::FirstApplicable
    }
    fn compiles_roles(&self) -> bool {
        true
    }
    fn knows_links(&self) -> bool {
        true
    }
    fn is_left_as_account(&self) -> bool {
        true
    }

    fn tells_apart_by_name(&self, _: &str) -> bool {
        true
    }

    fn alike(&self, _: Site<'_>) -> Vec<Vec<Alike>> {
        Vec::new()
    }

    fn granted(&self, _: Site<'_>, _: &[Action]) -> Option<BTreeSet<Party>> {
        None
    }

    fn differs_for(&self, _: Site<'_>, _: Site<'_>) -> Option<BTreeSet<String>> {
        None
    }

    fn found_by(&self, side: &Side<'_>, _: &str) -> Vec<usize> {
        vec![side.user.index()]
    }

    fn login_of(&self, account: &str) -> String {
        account.to_owned()
    }

    fn leaves(&self, _: &str) -> Left {
        Left::Nothing
    }
    fn covers<'e>(&self, _: Site<'e>) -> &'e [(At<Channel>, Vec<At<Channel>>)] {
        &[]
    }
    fn open(&self, _: Site<'_>, question: &Question, _: &mut Trace) -> Result<(), Stop> {
        if question.line == "stop" { Err(Stop) } else { Ok(()) }
    }
    fn decide(&self, site: Site<'_>, question: &Question, trace: &mut Trace) -> Result<(), Stop> {
        assert!(site.links::<Vec<u8>>().is_none() && site.state::<String>().is_none());
        match question.line.as_str() {
            "stop" => return Err(Stop),
            "entry only" => trace.pass(Stage::Entry, || ("come in".to_owned(), None)),
            "obligation only" => trace.ask(|| ("wait".to_owned(), None)),
            "elsewhere" => trace.pass(Stage::Permission, || ("as it says there".to_owned(), Some(elsewhere()))),
            "both" => {
                trace.pass(Stage::Permission, || ("yes".to_owned(), None));
                trace.refuse(Stage::Conditions, Refusal::OutsideDays, || ("no".to_owned(), Some(elsewhere())))?;
            }
            _ => {}
        }
        Ok(())
    }
    fn decide_opened(&self, _: Site<'_>, opened: &Opened<'_>, _: &Question, trace: &mut Trace) -> Result<(), Stop> {
        opened.not_told(trace)
    }
    fn ways(&self, _: Site<'_>, _: &Answer, _: Refusal) -> Vec<Way> {
        let nonsense = Change::JoinGroup { group: "nobody".to_owned(), user: "nobody".to_owned() };
        vec![way(nonsense, "if", Some(elsewhere()))]
    }
    fn openings(&self, _: Site<'_>, _: UserId) -> Vec<Opening> {
        Vec::new()
    }

    fn actions(&self, _: &[Side<'_>]) -> Vec<Action> {
        Vec::new()
    }

    fn like(&self, _: &[Side<'_>], _: &str) -> Result<Vec<Action>, String> {
        Ok(Vec::new())
    }

    fn through(&self, _: Site<'_>, _: &str) -> Vec<Through> {
        Vec::new()
    }

    fn shown(&self, _: Site<'_>, _: &Question, _: &mut Trace) -> Result<Option<Shown>, Stop> {
        Ok(None)
    }

    fn beside_rights(&self, _: Site<'_>) -> Vec<Beside> {
        Vec::new()
    }

    fn collections(&self, _: Site<'_>) -> Vec<(String, Vec<String>)> {
        Vec::new()
    }

    fn concerns(&self, _: Site<'_>, _: UserId) -> bool {
        true
    }
    fn missing(&self, _: Site<'_>, _: UserId, _: Option<Timestamp>) -> Vec<Cause> {
        Vec::new()
    }
    fn view(&self, _: Site<'_>, _: &Question, view: &mut SessionView) {
        view.person.clear();
    }
    fn reaches(&self, _: &Engine, _: UserId) -> bool {
        false
    }
    fn grants_to(&self, _: &Engine, _: RoleId) -> bool {
        false
    }
    fn sets(&self, _: &Engine) -> Vec<SetId> {
        Vec::new()
    }
    fn review(&self, _: &Engine, _: Option<Timestamp>, findings: &mut Vec<Finding>) {
        findings.push(Finding::new(Code::BadValue, "nonsense").at(elsewhere(), "there"));
    }
}

fn engine() -> Engine {
    let text = "[users.u]\nproofs = [\"password\"]\n[systems.odd]\nkind = \"careless\"\n[systems.sw]\nkind = \"careless\"\n";
    Engine::compile(Ledger::new().kind(&Careless).document("odd.toml", text).estate().expect("valid")).expect("it compiles")
}

#[test]
fn silence_allows_nothing() {
    let engine = engine();
    for (line, verdict, code) in [
        ("nothing at all", Verdict::Denied, Some(Refusal::NotDecided)),
        ("stop", Verdict::Denied, Some(Refusal::NotDecided)),
        ("entry only", Verdict::Denied, Some(Refusal::NotDecided)),
        ("obligation only", Verdict::Denied, Some(Refusal::NotDecided)),
        ("both", Verdict::Denied, Some(Refusal::OutsideDays)),
        ("elsewhere", Verdict::Allowed, None),
    ] {
        let question = Question::new("u", "odd", line);
        let answer = engine.ask(&question);
        assert_eq!((answer.verdict, answer.refusal), (verdict, code), "{line}");
        assert_eq!(engine.decide(&question).verdict, verdict, "{line}");
    }
    assert_eq!(engine.sign_in(&Question::new("u", "odd", "stop")).refusal, Some(Refusal::NotDecided));
}

#[test]
fn places_of_no_document_are_shown_as_unknown() {
    let engine = engine();
    let answer = engine.ask(&Question::new("u", "odd", "elsewhere"));
    assert_eq!(answer.gates[0].location.as_ref().map(ToString::to_string).as_deref(), Some("?:0"));
    assert!(hygiene(&engine, None).to_string().contains("nonsense"));
    assert!(effective(&engine, "u", None, &Session::default()).is_some_and(|l| l.iter().map(|e| e.systems.len()).sum::<usize>() == 2));
    assert!(readiness(&engine, "u", None, None).is_some_and(|l| l.len() == 2));
    assert_eq!(session(&engine, &Question::new("u", "odd", "")).person, "");
}

#[test]
fn a_kind_that_nobody_registered_is_an_error_in_text_and_in_code() {
    let text = "[systems.odd]\nkind = \"careles\"\n";
    let findings = Ledger::new().kind(&Careless).document("odd.toml", text).validate().findings.to_string();
    assert!(findings.contains("odd.toml:2:8: error[ZL0109]: `kind` cannot be `careles`"), "{findings}");
    let ledger = Ledger::new().system(System::of_kind("odd", Word::new("ghost")));
    let findings = ledger.estate().expect_err("nobody knows it").to_string();
    assert!(findings.contains("error[ZL0109]: `ghost` is no kind of system that is known"), "{findings}");
}
