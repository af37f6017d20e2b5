//! Questions that are worth being kept: for a part on which no expectation depends, one that it decides, and the nearest that it does not.

use std::cmp::Reverse;

use rustc_hash::{FxHashMap, FxHashSet};

use zest_engine::classes::Classes;
use zest_engine::duties::{clash, held};
use zest_engine::links::UserId;
use zest_engine::rights::{Action, Rights, Side, Within, rights};
use zest_engine::rules::Site;
use zest_engine::{Candidate, Engine};
use zest_model::ask::{Question, Session, Verdict};
use zest_model::entry::Kind;
use zest_model::source::{Location, visible};

use super::coverage::{Edit, Of, Part, Where};
use super::record::recorded;
use crate::review::sets_including;

/// What is proposed for a part of a ledger.
///
/// # Example
/// ```
/// use zest_ledger::{Ledger, expectation::{Questions, parts}};
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
/// let proposal = parts(&engine)[0].proposed(&Questions::of(&engine));
/// assert_eq!(proposal.what, "grant of `plan` of `rota`");
/// assert_eq!(proposal.decides.expect("it decides one").line, "plan on shift/early");
/// # Ok::<(), zest_ledger::finding::Findings>(())
/// ```
#[derive(Debug)]
pub struct Proposal {
    /// The part, in words.
    pub what: String,
    /// Where it is written.
    pub place: Location,
    /// A question that has another answer without the part, or when it is turned round; nothing where none was found.
    pub decides: Option<Question>,
    /// The nearest question, in the same session, that has the other answer with the part and without.
    pub beside: Option<Question>,
    /// The ledgers in which it has another answer.
    edited: Vec<Engine>,
}

/// A question that a part decides, and the nearest that it does not.
type Decided = (Question, Option<Question>);

/// Questions to everybody on every system, found by what their answers rest on.
///
/// # Example
/// ```
/// use zest_ledger::{Ledger, expectation::{Questions, parts}};
/// # let text = r#"
/// # users.mate-1.proofs = ["password"]
/// # systems.rota.kind = "application"
/// # [applications.rota]
/// # types.shift.rights = ["plan"]
/// # objects."shift/early" = {}
/// # grants = [{ allow = ["plan"], on = "shift/*", to = ["user:mate-1"] }]
/// # "#;
/// # let engine = Ledger::new().document("rota.toml", text).engine(1)?;
/// let questions = Questions::of(&engine);
/// let decided: Vec<_> = parts(&engine).iter().filter_map(|part| part.proposed(&questions).decides).collect();
/// assert_eq!(decided[0].line, "plan on shift/early");
/// # Ok::<(), zest_ledger::finding::Findings>(())
/// ```
#[derive(Debug)]
pub struct Questions<'e> {
    engine: &'e Engine,
    classes: Classes<'e>,
    asked: Vec<Question>,
    /// By the place of an entry: the numbers of questions whose answers name it.
    resting: FxHashMap<Location, Vec<usize>>,
}

/// How many questions are kept for a place at most.
const MAX_RESTING: usize = 500;

impl<'e> Questions<'e> {
    /// Asks one of each class of people each action on each system: in a session in which it is allowed, in one that states nothing, and
    /// what is never allowed also in one that has come as high as it can. What refuses a way to start is asked as well.
    #[must_use]
    pub fn of(engine: &'e Engine) -> Self {
        let mut questions = Self { engine, classes: Classes::of(engine), asked: Vec::new(), resting: FxHashMap::default() };
        for site in engine.all_sites() {
            for class in questions.classes.on(site, &[], None, &Session::default()).into_iter().flatten() {
                let [set] = &rights(&[Side { site, user: class.first }], &Within::default())[..] else { continue };
                questions.note_all(set);
            }
        }
        questions
    }

    fn note_all(&mut self, set: &Rights) {
        let asked = |action: &Action, session: Session| Question {
            form: action.form,
            ..Question::in_session(&set.user, &set.system, &action.line, session)
        };
        let highest = set.openings().iter().rev().max_by_key(|opening| opening.session.level);
        let highest = highest.and_then(|opening| set.opened(&opening.session)).map(|question| question.session);
        for (number, action) in set.actions().iter().enumerate().filter(|(_, action)| action.like.is_none()) {
            let allowed = set.example_for(number).map(|(_, question)| question);
            let high = highest.clone().filter(|_| allowed.is_none()).map(|session| asked(action, session));
            allowed.into_iter().chain([asked(action, Session::default())]).chain(high).for_each(|question| self.note(question));
        }
        if let Some(action) = set.actions().first() {
            set.shut().iter().for_each(|opening| self.note(asked(action, opening.session.clone())));
        }
    }

    fn note(&mut self, question: Question) {
        let gates = self.engine.explain(&question).gates;
        let places: FxHashSet<Location> = gates.into_iter().filter_map(|gate| gate.location).collect();
        let mut is_kept = false;
        for place in places {
            let known = self.resting.entry(place).or_default();
            if known.len() < MAX_RESTING {
                known.push(self.asked.len());
                is_kept = true;
            }
        }
        if is_kept {
            self.asked.push(question);
        }
    }

    /// Returns whether a question has another answer in another ledger.
    fn turns(&self, question: &Question, without: &Engine) -> bool {
        self.engine.decide(question).verdict != without.decide(question).verdict
    }

    /// Returns a question whose answer names a place, and is another in a ledger without what stands there.
    fn resting_on(&self, place: &Location, without: &Engine) -> Option<Decided> {
        let resting = self.resting.get(place)?;
        let decides = resting.iter().map(|&number| &self.asked[number]).find(|question| self.turns(question, without))?;
        let side = Side { site: self.engine.site(&decides.system)?, user: self.engine.find_user(&decides.user, false)? };
        let [set] = &rights(&[side], &Within::default())[..] else { return None };
        Some((decides.clone(), beside(self.engine, without, set, decides)))
    }
}

/// Of how many actions the nearest is looked for.
const MAX_BESIDE: usize = 200;

impl Part {
    /// Finds a question that it decides.
    ///
    /// # Example
    /// ```
    /// use zest_ledger::{Engine, Ledger, expectation::{Questions, parts}};
    /// let text = r#"
    /// users.mate-1.proofs = ["password"]
    /// [systems.rota]
    /// kind = "application"
    /// [applications.rota]
    /// types.shift.rights = ["plan", "drop"]
    /// objects."shift/early" = {}
    /// grants = [{ allow = ["plan"], on = "shift/*", to = ["user:mate-1"] }]
    /// "#;
    /// let engine = Engine::compile(Ledger::new().document("rota.toml", text).estate()?)?;
    /// let proposal = parts(&engine)[0].proposed(&Questions::of(&engine));
    /// assert_eq!(proposal.decides.expect("one that it decides").line, "plan on shift/early");
    /// assert_eq!(proposal.beside.expect("one that it does not").line, "drop on shift/early");
    /// # Ok::<(), zest_ledger::finding::Findings>(())
    /// ```
    #[must_use]
    pub fn proposed(&self, questions: &Questions<'_>) -> Proposal {
        let engine = questions.engine;
        let edited: Vec<Engine> = [Edit::Out, Edit::Round].into_iter().filter_map(|edit| self.edited(engine, edit)).collect();
        let place = self.location(engine);
        let found = edited.iter().find_map(|without| questions.resting_on(&place, without));
        let found = found.or_else(|| edited.iter().find_map(|without| self.decided(questions, without)));
        let (decides, beside) = found.map_or((None, None), |(decides, beside)| (Some(decides), beside));
        Proposal { what: self.what().to_owned(), place, decides, beside, edited }
    }

    /// Looks for a question among all that may be asked of everybody.
    fn decided(&self, questions: &Questions<'_>, without: &Engine) -> Option<Decided> {
        let Questions { engine, classes, asked: _, resting: _ } = questions;
        let concerned = self.concerned(engine);
        for site in engine.all_sites().filter(|site| self.may_concern(*site)) {
            let classes = classes.on(site, &[], None, &Session::default()).into_iter().flatten();
            for class in classes.filter(|class| concerned.includes(site, class.first)) {
                let name = &site.entry().id.value;
                let there = without.site(name).zip(without.find_user(&site.user(class.first).id.value, false));
                let Some((other, user)) = there else { continue };
                let sets = rights(&[Side { site, user: class.first }, Side { site: other, user }], &Within::default());
                let [with, gone] = sets.as_slice() else { continue };
                // The same is decided where the one or the other allows more.
                let examples = [with.minus(gone), gone.minus(with)].into_iter().filter_map(|difference| difference.example_allowed());
                let Some(decides) = examples.into_iter().find(|question| questions.turns(question, without)) else { continue };
                let beside = beside(engine, without, with, &decides);
                return Some((decides, beside));
            }
        }
        None
    }

    /// Returns about whom it can have a say at most, where it can have one.
    fn concerned(&self, engine: &Engine) -> Concerned {
        match self.of() {
            Of::Rule(set, _) => Concerned::UseOneOf(sets_including(engine, set)),
            Of::Separation(number) => {
                let separation = &engine.estate().separation_links()[number];
                let users = (0..engine.estate().users().len()).map(UserId::new);
                let is_apart = |user: &UserId| clash(separation, &held(engine, *user, None, &Session::default())).len() > 1;
                Concerned::HoldBoth(users.filter(is_apart).collect())
            }
            Of::Assignment(_)
            | Of::AssignmentCondition(_)
            | Of::Grant(..)
            | Of::GrantCondition(..)
            | Of::GrantLift(..)
            | Of::Ceiling(..)
            | Of::DatabaseGrant(..)
            | Of::RunAs(..) => Concerned::Everybody,
        }
    }

    /// Returns whether it can have a say on a system.
    fn may_concern(&self, site: Site<'_>) -> bool {
        let (entries, entry) = (site.engine().estate().entries(), site.entry());
        let is = |system: &str| entry.id.value == system;
        let is_service = [Kind::CLOUD, Kind::APPLICATION].contains(&entry.kind());
        match self.of() {
            Of::Assignment(i) | Of::AssignmentCondition(i) => {
                site.engine().estate().assignment_links()[i].systems.contains(site.system().index())
            }
            Of::Rule(..) => !is_service && ![Kind::POSTGRESQL, Kind::MARIADB].contains(&entry.kind()),
            Of::Grant(Where::Service(i), _) | Of::GrantCondition(Where::Service(i), _) | Of::GrantLift(Where::Service(i), _) => {
                is(&entries.services[i].system.value)
            }
            Of::Grant(Where::Role(_), _) | Of::GrantCondition(Where::Role(_), _) | Of::GrantLift(Where::Role(_), _) => is_service,
            Of::Ceiling(i, _) => is(&entries.services[i].system.value),
            Of::DatabaseGrant(i, _) => is(&entries.databases[i].system.value),
            Of::RunAs(i, _) => is(&entries.hosts[i].system.value),
            Of::Separation(_) => true,
        }
    }
}

/// About whom a part can have a say at most.
enum Concerned {
    Everybody,
    /// On devices, whoever has one of these command sets; elsewhere everybody.
    UseOneOf(Vec<usize>),
    /// These, and whoever acts as another or as whom others act.
    HoldBoth(FxHashSet<UserId>),
}

impl Concerned {
    fn includes(&self, site: Site<'_>, user: UserId) -> bool {
        let kind = site.entry().kind();
        match self {
            Self::UseOneOf(sets) if kind == Kind::NETWORK_DEVICE => {
                let engine = site.engine();
                let has_own = site.entry().accounts.iter().any(|account| !account.commands.is_empty());
                let uses =
                    |candidate: &Candidate| engine.standing(candidate.assignment).1.sets().iter().any(|set| sets.contains(&set.index()));
                has_own || engine.membership().candidates(user).iter().any(uses)
            }
            Self::HoldBoth(users) => users.contains(&user) || ([Kind::CLOUD, Kind::APPLICATION].contains(&kind) && !users.is_empty()),
            Self::Everybody | Self::UseOneOf(_) => true,
        }
    }
}

/// Finds the nearest action in the session of a question that is answered the other way, with a part and without.
fn beside(engine: &Engine, without: &Engine, set: &Rights, decides: &Question) -> Option<Question> {
    let is_allowed = |engine: &Engine, question: &Question| engine.decide(question).verdict != Verdict::Denied;
    let wanted = !is_allowed(engine, decides);
    let nearness = |line: &str| {
        let alike = line.split(' ').zip(decides.line.split(' ')).take_while(|(a, b)| a == b).count();
        let alike_at_the_end = line.split(' ').rev().zip(decides.line.split(' ').rev()).take_while(|(a, b)| a == b).count();
        (Reverse(alike + alike_at_the_end), line.len())
    };
    let mut actions: Vec<_> = set.actions().iter().filter(|action| action.line != decides.line).collect();
    actions.sort_by_key(|action| nearness(&action.line));
    let mut questions =
        actions.into_iter().take(MAX_BESIDE).map(|action| Question { line: action.line.clone(), form: action.form, ..decides.clone() });
    let is_so = |question: &Question| is_allowed(engine, question) == wanted && is_allowed(without, question) == wanted;
    // What a condition decides is decided otherwise in another session.
    let number = set.actions().iter().position(|action| action.line == decides.line);
    let elsewhere = || number.filter(|_| wanted).and_then(|number| set.example_for(number)).map(|(_, question)| question);
    questions.find(is_so).or_else(|| elsewhere().filter(is_so))
}

/// Leaves out every proposal without which each part would still be decided by a question that is kept.
///
/// # Example
/// ```
/// use zest_ledger::{Ledger, expectation::{Questions, fewest, parts}};
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
/// let mut proposals = vec![parts(&engine)[0].proposed(&Questions::of(&engine))];
/// fewest(&engine, &mut proposals);
/// assert_eq!(proposals.len(), 1);
/// # Ok::<(), zest_ledger::finding::Findings>(())
/// ```
pub fn fewest(engine: &Engine, proposals: &mut Vec<Proposal>) {
    // A row that is kept has the code of a refusal as well.
    let answer = |engine: &Engine, question: &Question| {
        let decision = engine.decide(question);
        (decision.verdict, decision.refusal)
    };
    let asked: Vec<_> = proposals.iter().map(|one| one.decides.as_ref().map(|question| answer(engine, question))).collect();
    // Which question decides which part.
    let decides = |question: usize, part: usize| {
        let (Some(asked), Some(known)) = (&proposals[question].decides, asked[question]) else { return false };
        proposals[part].edited.iter().any(|without| answer(without, asked) != known)
    };
    let all: Vec<Vec<bool>> = (0..proposals.len()).map(|q| (0..proposals.len()).map(|part| decides(q, part)).collect()).collect();
    let mut kept: Vec<bool> = proposals.iter().map(|_| true).collect();
    for question in 0..proposals.len() {
        let others = |part: usize| (0..proposals.len()).any(|other| other != question && kept[other] && all[other][part]);
        let is_needed = (0..proposals.len()).any(|part| all[question][part] && !others(part));
        kept[question] = is_needed || proposals[question].decides.is_none();
    }
    let mut kept = kept.into_iter();
    proposals.retain(|_| kept.next().unwrap_or(true));
}

/// Writes proposals as expectations, to be read, cut down and appended to a document of TOML.
///
/// # Example
/// ```
/// use zest_ledger::{Ledger, expectation::{Questions, parts, proposed_text}};
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
/// let proposal = parts(&engine)[0].proposed(&Questions::of(&engine));
/// let text = proposed_text(&engine, &[proposal]);
/// assert!(text.contains("lines = [\"plan on shift/early\"]"), "{text}");
/// # Ok::<(), zest_ledger::finding::Findings>(())
/// ```
#[must_use]
pub fn proposed_text(engine: &Engine, proposals: &[Proposal]) -> String {
    let mut out = String::new();
    let mut known: Vec<String> = Vec::new();
    for Proposal { what, place, decides, beside, edited: _ } in proposals {
        let head = format!("\n# for {} ({}:{})", visible(what), visible(&place.file), place.line);
        out.push_str(&head);
        match decides {
            None => out.push_str(": no question was found that it decides\n"),
            Some(decides) => {
                let rows = std::iter::once(decides).chain(beside).map(|question| recorded(&engine.explain(question)));
                for row in rows.filter(|row| !known.contains(row)).collect::<Vec<_>>() {
                    out.push_str(&row);
                    known.push(row);
                }
            }
        }
    }
    out
}
