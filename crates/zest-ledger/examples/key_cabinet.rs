//! A kind of system from outside: key cabinets on a pier, with slots, hours and a second person.
//!
//! All it takes is a type with the trait `Kind`, and one registration. The page `docs/adding-a-kind.md` goes through it.

#![allow(clippy::disallowed_macros, clippy::disallowed_methods, clippy::disallowed_types, reason = "only the core itself must be pure")]

use std::collections::BTreeSet;
use std::sync::Arc;

use jiff::Timestamp;
use zest_ledger::ask::{Answer, Change, Fact, Form, Question, Refusal, Session, Stage};
use zest_ledger::entry::{self, Channel, SystemKey};
use zest_ledger::estate::{Estate, Party, RoleId, SetId, SystemId, UserId};
use zest_ledger::finding::{Code, Finding};
use zest_ledger::kind::{
    AFTER, Action, Alike, Beside, Combining, Conditions, Declared, Duties, Ground, Kept, Key, Kind, Left, Opened, Opening, OutsideTable,
    Resolver, Row, Shape, Shown, Side, Site, Stop, TableShape, Through, Trace, WHEN, Way, no_statements, way,
};
use zest_ledger::review::{Cause, SessionView, effective, hygiene};
use zest_ledger::source::{At, Place, visible};
use zest_ledger::{Engine, Ledger};

const KEY_CABINET: entry::Kind = entry::Kind::new("key-cabinet");

static SLOT: TableShape = TableShape {
    noun: "a slot",
    about: "A slot of a key cabinet, with one bunch of keys.",
    rules: &[],
    keys: &[
        Key::required("for", Shape::List(&Shape::Text), "who may take the keys: \"user:ID\" or \"group:ID\""),
        Key::new("when", Shape::Either(std::slice::from_ref(&WHEN)), "conditions under which they may"),
        Key::new("after", Shape::Either(std::slice::from_ref(&AFTER)), "what must be done first"),
    ],
};
static SLOTS: Shape = Shape::Table(&SLOT);
static CABINET: TableShape = TableShape {
    noun: "a key cabinet",
    about: "What one key cabinet holds.",
    rules: &[],
    keys: &[Key::required("slots", Shape::Map(&SLOTS), "slots, by name")],
};

static TABLES: [OutsideTable; 1] = [OutsideTable { name: "key-cabinets", shape: &CABINET, read }];

/// A slot as it is written, and then with its references followed.
struct Written {
    name: At<String>,
    takers: Vec<At<String>>,
    when: entry::When,
    after: entry::Obligations,
}

struct Slot {
    name: String,
    takers: Vec<(Party, Place)>,
    conditions: Conditions,
    duties: Option<Duties>,
    place: Place,
}

fn read(row: &mut Row<'_, '_, '_>) -> Kept {
    Arc::new(row.rows("slots", |name, row| Written { name, takers: row.texts("for"), when: row.when("when"), after: row.after() }))
}

#[derive(Debug)]
struct KeyCabinets;

/// The slots of a cabinet.
fn slots(site: Site<'_>) -> &[Slot] {
    site.links::<Vec<Slot>>().map_or(&[], Vec::as_slice)
}

fn may(site: Site<'_>, user: UserId, slot: &Slot) -> Option<Place> {
    slot.takers.iter().find(|(party, _)| site.belongs(user, *party)).map(|&(_, place)| place)
}

impl Kind for KeyCabinets {
    fn tables(&self) -> &'static [OutsideTable] {
        &TABLES
    }

    fn words(&self) -> &'static [entry::Kind] {
        &[KEY_CABINET]
    }

    fn resolve(&self, resolver: &mut Resolver<'_>, ground: Ground<'_>, system: SystemId) -> Kept {
        let written = ground.rows::<Vec<Written>>("key-cabinets", system).flatten();
        let slot = |slot: &Written| Slot {
            name: slot.name.value.clone(),
            takers: resolver.parties(&slot.takers),
            conditions: resolver.conditions(&slot.when, None, None),
            duties: resolver.obligations(&slot.after),
            place: slot.name.place,
        };
        let slots: Vec<Slot> = written.map(slot).collect();
        if slots.is_empty() {
            let id = &ground.system(system).id;
            resolver.report(
                Finding::new(Code::IncompleteSystem, format!("the key cabinet `{}` has no slots", visible(&id.value)))
                    .at(id.place, "nothing is in it")
                    .help(format!("describe it: [key-cabinets.{}.slots]", id.value)),
            );
        }
        Arc::new(slots)
    }

    fn amend(&self, _: &mut Resolver<'_>, _: Ground<'_>, _: SystemId, _: &Kept, _: &[Change]) -> Option<Kept> {
        None
    }

    fn complete(&self, _: &mut Resolver<'_>, _: Ground<'_>, _: &mut [Declared]) {}

    fn compile(&self, _: &Estate, _: SystemId) -> Kept {
        Arc::new(())
    }

    fn hears(&self, fact: Fact) -> bool {
        !matches!(fact, Fact::Level | Fact::Mode | Fact::Local | Fact::Account | Fact::Roles | Fact::Attributes)
    }

    fn looks_at(&self, key: SystemKey) -> bool {
        matches!(key, SystemKey::NameCase | SystemKey::Accepts)
    }

    fn combining(&self) -> Combining {
        Combining::NotLookedAt
    }

    fn compiles_roles(&self) -> bool {
        false
    }

    fn knows_links(&self) -> bool {
        false
    }

    fn is_left_as_account(&self) -> bool {
        false
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

    fn open(&self, site: Site<'_>, question: &Question, trace: &mut Trace) -> Result<(), Stop> {
        site.person(question, trace).map(drop)
    }

    fn decide(&self, site: Site<'_>, question: &Question, trace: &mut Trace) -> Result<(), Stop> {
        no_statements(site, question, trace)?;
        let user = site.person(question, trace)?;
        let slot = question.line.trim().strip_prefix("take ").and_then(|name| slots(site).iter().find(|s| s.name == name.trim()));
        let Some(slot) = slot else {
            trace.refuse(Stage::Permission, Refusal::UnknownObject, || {
                let names: Vec<String> = slots(site).iter().map(|s| format!("`take {}`", visible(&s.name))).collect();
                (format!("`{}` is nothing that this cabinet does; it knows {}", visible(&question.line), names.join(", ")), None)
            })?;
            return Err(Stop);
        };
        let who = visible(&site.user(user).id.value);
        match may(site, user, slot) {
            Some(place) => {
                trace.pass(Stage::Permission, || (format!("`{who}` may take the keys of the slot `{}`", visible(&slot.name)), Some(place)));
            }
            None => trace.refuse(Stage::Permission, Refusal::NotPermitted, || {
                (format!("the slot `{}` is not for `{who}`", visible(&slot.name)), Some(slot.place))
            })?,
        }
        site.conditions(user, &question.session, &slot.conditions, "the slot", trace)?;
        slot.duties.as_ref().map_or(Ok(()), |duties| site.obligations(user, question, duties, trace))
    }

    fn decide_opened(&self, _: Site<'_>, opened: &Opened<'_>, _: &Question, trace: &mut Trace) -> Result<(), Stop> {
        opened.not_told(trace)
    }

    fn ways(&self, site: Site<'_>, answer: &Answer, refusal: Refusal) -> Vec<Way> {
        let question = &answer.question;
        let Some(slot) = slots(site).iter().find(|s| question.line == format!("take {}", s.name)) else { return Vec::new() };
        let groups = slot.takers.iter().filter(|_| refusal == Refusal::NotPermitted).filter_map(|&(party, place)| match party {
            Party::Group(_) => Some((site.engine().estate().party(party).strip_prefix("group:")?.to_owned(), place)),
            Party::User(_) => None,
        });
        let join = |(group, place): (String, Place)| {
            let text = format!("if `{}` were in group `{}`", visible(&question.user), visible(&group));
            way(Change::JoinGroup { group, user: question.user.clone() }, text, Some(place))
        };
        groups.map(join).collect()
    }

    fn openings(&self, _: Site<'_>, _: UserId) -> Vec<Opening> {
        // Every session starts alike: nothing but moments, places and proofs tells them apart.
        vec![Opening::new(Session::default())]
    }

    fn actions(&self, sides: &[Side<'_>]) -> Vec<Action> {
        let mut names: Vec<String> = sides.iter().flat_map(|side| slots(side.site)).map(|slot| format!("take {}", slot.name)).collect();
        names.sort();
        names.dedup();
        let action = |line: String| Action { name: line.clone(), line, form: Form::Line, under: String::new(), like: None };
        names.into_iter().map(action).collect()
    }

    fn like(&self, sides: &[Side<'_>], pattern: &str) -> Result<Vec<Action>, String> {
        Ok(self.actions(sides).into_iter().filter(|action| action.reads_like(pattern)).collect())
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

    fn concerns(&self, site: Site<'_>, user: UserId) -> bool {
        slots(site).iter().any(|slot| may(site, user, slot).is_some())
    }

    fn missing(&self, site: Site<'_>, user: UserId, _: Option<Timestamp>) -> Vec<Cause> {
        let name = visible(&site.entry().id.value);
        let lack = (!self.concerns(site, user)).then(|| Cause { text: format!("no slot of `{name}` is for the user"), place: None });
        lack.into_iter().collect()
    }

    fn view(&self, _: Site<'_>, _: &Question, _: &mut SessionView) {}

    fn reaches(&self, engine: &Engine, user: UserId) -> bool {
        engine.sites(KEY_CABINET).any(|site| self.concerns(site, user))
    }

    fn grants_to(&self, _: &Engine, _: RoleId) -> bool {
        false
    }

    fn sets(&self, _: &Engine) -> Vec<SetId> {
        Vec::new()
    }

    fn review(&self, engine: &Engine, _: Option<Timestamp>, findings: &mut Vec<Finding>) {
        for slot in engine.sites(KEY_CABINET).flat_map(slots).filter(|slot| slot.takers.is_empty()) {
            findings.push(
                Finding::new(Code::AccountForNobody, format!("the slot `{}` is for nobody", visible(&slot.name)))
                    .at(slot.place, "these keys stay in")
                    .help("say who may take them: for = [\"group:ID\"]"),
            );
        }
    }
}

const LEDGER: &str = r#"
[users]
mate-1 = { proofs = ["key"] }
mate-2 = { proofs = ["key"] }
purser-1 = { proofs = ["password"] }

[groups.bridge]
members = ["user:mate-1", "user:mate-2"]
owners = ["user:mate-1"]

[systems.pier-keys]
kind = "key-cabinet"

[key-cabinets.pier-keys.slots]
linkspan = { for = ["group:bridge"], when = { hours = "05:00-23:00" }, after = { second-person = ["group:bridge"] } }
spare = { for = [] }
"#;

/// Makes the engine of a ledger with the kind in it.
pub(crate) fn engine() -> Result<Engine, zest_ledger::finding::Findings> {
    Engine::compile(Ledger::new().kind(&KeyCabinets).document("keys.toml", LEDGER).estate()?)
}

fn main() -> Result<(), Box<dyn std::error::Error>> {
    let engine = engine()?;
    let morning: Timestamp = "2026-11-27T09:00:00Z".parse()?;
    let take = |user: &str| Question::new(user, "pier-keys", "take linkspan").at(morning);
    for question in [
        take("mate-1").approved_by("mate-2"),
        take("mate-1"),
        take("mate-1").approved_by("mate-1"),
        take("mate-1").approved_by("mate-2").at("2026-11-27T03:00:00Z".parse()?),
        take("purser-1").approved_by("mate-2"),
        take("mate-1").level(7),
    ] {
        let answer = engine.ask(&question);
        let why = answer.open_gates().next().map_or(String::new(), |g| format!(": {}", g.text));
        println!("{} takes the keys: {}{why}", question.user, answer.verdict.word());
        for step in answer.remedies.iter().flat_map(|r| &r.steps) {
            println!("    {}", step.text);
        }
    }
    for listed in effective(&engine, "mate-2", None, &Session::default()).into_iter().flatten() {
        for right in listed.rights {
            println!("mate-2 may {}, {}; first {}", right.actions.join(", "), listed.sessions, right.after.join(", "));
        }
    }
    print!("{}", hygiene(&engine, None));
    Ok(())
}
