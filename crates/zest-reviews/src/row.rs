//! What is recorded in a ledger, with its references followed: a row that is not asked whole is a finding.

use zest_engine::links::{Party, Resolver, SystemId, UserId};
use zest_engine::{Engine, Estate};
use zest_model::ask::{Question, Refusal, Session};
use zest_model::entry::{Expectation, Expected, InSession, Step};
use zest_model::finding::{Code, Finding, Findings, Severity};
use zest_model::source::{At, Place, visible};
use zest_words::nearest;

/// One question, or one session of several steps, with the answer it must have.
///
/// # Example
/// ```
/// use zest_ledger::{Ledger, expectation::rows};
/// # let text = r#"
/// # users.mate-1.proofs = ["password"]
/// # users.mate-2.proofs = ["password"]
/// # systems.rota.kind = "application"
/// # [applications.rota]
/// # types.shift.rights = ["plan"]
/// # objects."shift/early" = {}
/// # grants = [{ allow = ["plan"], on = "shift/*", to = ["user:mate-1"] }]
/// # "#;
/// let kept = "[[expectations]]\nwho = ['user:mate-2']\non = ['rota']\nlines = ['plan on shift/early']\nanswer = 'denied'\n";
/// let engine = Ledger::new().document("rota.toml", &format!("{text}{kept}")).engine(1)?;
/// let (rows, not_asked) = rows(&engine);
/// assert!(not_asked.list().is_empty() && rows[0].ask(&engine)[0].holds);
/// # Ok::<(), zest_ledger::finding::Findings>(())
/// ```
#[derive(Clone, Debug)]
pub struct Row<'e> {
    pub(crate) entry: &'e Expectation,
    pub(crate) question: Question,
    pub(crate) wanted: Wanted<'e>,
}

/// What a row wants.
#[derive(Clone, Debug)]
pub(crate) enum Wanted<'e> {
    /// One answer.
    One(Expected),
    /// Steps of one session.
    Steps(&'e [Step]),
}

/// Returns what is to be asked, and what cannot be.
///
/// # Example
/// ```
/// use zest_ledger::{Ledger, expectation::rows};
/// # let text = r#"
/// # users.mate-1.proofs = ["password"]
/// # users.mate-2.proofs = ["password"]
/// # systems.rota.kind = "application"
/// # [applications.rota]
/// # types.shift.rights = ["plan"]
/// # objects."shift/early" = {}
/// # grants = [{ allow = ["plan"], on = "shift/*", to = ["user:mate-1"] }]
/// # "#;
/// let kept = "[[expectations]]\nwho = ['user:mate-2']\non = ['rota']\nlines = ['plan on shift/early']\nanswer = 'denied'\n";
/// let engine = Ledger::new().document("rota.toml", &format!("{text}{kept}")).engine(1)?;
/// assert_eq!(rows(&engine).0.len(), 1);
/// # Ok::<(), zest_ledger::finding::Findings>(())
/// ```
#[must_use]
pub fn rows(engine: &Engine) -> (Vec<Row<'_>>, Findings) {
    let estate = engine.estate();
    let mut findings = Vec::new();
    let mut list = Vec::new();
    for entry in &estate.entries().expectations {
        let before = findings.len();
        let found = rows_of(engine, entry, &mut findings);
        // A row of which a part cannot be asked is not asked at all, so that nobody takes the rest for all of it.
        if findings.len() == before {
            list.extend(found);
        }
    }
    let sources = std::sync::Arc::clone(estate.shared_sources());
    (list, Findings::new(findings, sources))
}

fn rows_of<'e>(engine: &'e Engine, entry: &'e Expectation, findings: &mut Vec<Finding>) -> Vec<Row<'e>> {
    let estate = engine.estate();
    let people = people(engine, &entry.who, findings);
    let systems = systems(estate, &entry.on, findings);
    let session = session(estate, &entry.session, entry.place, findings);
    let codes = entry.code.iter().chain(entry.steps.iter().filter_map(|step| step.code.as_ref()));
    findings.extend(codes.filter(|code| !Refusal::ALL.iter().any(|known| known.code() == code.value)).map(no_code));
    if let (Some(code), Some(answer)) = (&entry.code, &entry.answer)
        && answer.value != Expected::Denied
    {
        let why = format!("an answer that is {} has no code of a refusal", answer.value.word());
        findings.push(Finding::new(Code::NotAsked, why).at(code.place, "only what is denied has one").help("take the code out"));
    }
    let is_empty = entry.lines.is_empty() && entry.statements.is_empty() && entry.steps.is_empty();
    if is_empty || entry.on.is_empty() || entry.who.is_empty() {
        findings.push(asks_nothing(entry, "it names nobody, no system, or nothing to be asked"));
    }
    let is_single = !entry.lines.is_empty() || !entry.statements.is_empty();
    if is_single && entry.answer.is_none() {
        findings.push(asks_nothing(entry, "it does not say which answer is expected"));
    }
    if !is_single && (entry.answer.is_some() || entry.code.is_some() || entry.ground.is_some()) {
        findings.push(asks_nothing(entry, "`answer`, `code` and `ground` are of lines and statements: each step has its own"));
    }
    let Some(session) = session else { return Vec::new() };
    let mut list = Vec::new();
    for &user in &people {
        for &system in &systems {
            let (user, system) = (&estate.user(user).id.value, &estate.system(system).id.value);
            let in_session = |question: Question| Question { session: session.clone(), ..question };
            if let Some(answer) = &entry.answer {
                let lines = entry.lines.iter().map(|line| Question::new(user, system, &line.value));
                let statements = entry.statements.iter().map(|sql| Question::statement(user, system, &sql.value));
                let one = |question| Row { entry, question: in_session(question), wanted: Wanted::One(answer.value) };
                list.extend(lines.chain(statements).map(one));
            }
            if !entry.steps.is_empty() {
                list.push(Row { entry, question: in_session(Question::new(user, system, "")), wanted: Wanted::Steps(&entry.steps) });
            }
        }
    }
    list
}

/// Says that something recorded cannot be asked.
pub(crate) fn cannot(place: Place, why: &str) -> Finding {
    Finding::new(Code::NotAsked, why.to_owned()).at(place, "it counts as failed").help("say whom and what it is about")
}

fn asks_nothing(entry: &Expectation, why: &str) -> Finding {
    Finding::new(Code::NotAsked, format!("this expectation asks nothing: {why}"))
        .at(entry.place, "it counts as failed")
        .help("say who, on which systems, which lines, and which answer they must have")
}

fn no_code(code: &At<String>) -> Finding {
    let near = nearest(&code.value, Refusal::ALL.iter().map(|known| known.code()));
    let near = near.map_or_else(|| "not a code of a refusal".to_owned(), |near| format!("did you mean `{near}`?"));
    Finding::new(Code::NotAsked, format!("no refusal has the code `{}`", visible(&code.value)))
        .at(code.place, near)
        .help("the codes are in docs/refusals.md; `zest ask` shows that of an answer in brackets")
}

/// Returns everybody who is named, each once, in the order of the ledger for members of a group.
pub(crate) fn people(engine: &Engine, parties: &[At<String>], findings: &mut Vec<Finding>) -> Vec<UserId> {
    let estate = engine.estate();
    let mut people: Vec<UserId> = Vec::new();
    for text in parties {
        let mut found = Vec::new();
        let party = Resolver { names: estate.names(), findings: &mut found }.party(text);
        findings.extend(found.into_iter().map(as_not_asked));
        match party {
            Some((Party::User(user), _)) => people.push(user),
            Some((party @ Party::Group(_), place)) => {
                let before = people.len();
                let all = (0..estate.users().len()).map(UserId::new);
                people.extend(all.filter(|&user| engine.membership().belongs(user, party)));
                if people.len() == before {
                    let why = format!("`{}` has no members, so nobody is meant", visible(&text.value));
                    findings.push(Finding::new(Code::NotAsked, why).at(place, "nobody is named").help("name somebody, or take it out"));
                }
            }
            None => {}
        }
    }
    let mut known = rustc_hash::FxHashSet::default();
    people.retain(|user| known.insert(user.index()));
    people
}

pub(crate) fn systems(estate: &Estate, names: &[At<String>], findings: &mut Vec<Finding>) -> Vec<SystemId> {
    let mut list: Vec<SystemId> = Vec::new();
    for name in names {
        let mut found = Vec::new();
        list.extend(zest_engine::links::look_up(&estate.names().systems, "system", &name.value, name.place, &mut found));
        findings.extend(found.into_iter().map(as_not_asked));
    }
    list
}

/// Returns the session that is meant.
pub(crate) fn session(estate: &Estate, written: &InSession, of: Place, findings: &mut Vec<Finding>) -> Option<Session> {
    let InSession { named, facts } = written;
    let mut session = Session::default();
    let read = |facts: &zest_model::entry::Facts, otherwise: &Session, findings: &mut Vec<Finding>| {
        let bad = |text: String, place: Place| {
            Finding::new(Code::NotAsked, text).at(place, "cannot be read").help("the facts are read as the options of `zest ask` are")
        };
        match facts.session(otherwise) {
            Err((fact, place, why)) => {
                findings.push(bad(format!("`{}`: {why}", fact.key()), place));
                None
            }
            Ok(session) => match session.contradiction() {
                Some(why) => {
                    findings.push(bad(why.to_owned(), named.as_ref().map_or(of, |named| named.place)));
                    None
                }
                None => Some(session),
            },
        }
    };
    if let Some(name) = named {
        let mut found = Vec::new();
        let id = zest_engine::links::look_up(&estate.names().sessions, "session", &name.value, name.place, &mut found);
        findings.extend(found.into_iter().map(as_not_asked));
        session = read(&estate.entries().sessions[id?].facts, &session, findings)?;
    }
    read(facts, &session, findings)
}

/// A reference that leads nowhere stops this row, and not the answers of the ledger.
pub(crate) fn as_not_asked(finding: Finding) -> Finding {
    let is_grave = finding.severity() == Severity::Error;
    Finding { code: if is_grave { Code::NotAsked } else { finding.code }, ..finding }
}
