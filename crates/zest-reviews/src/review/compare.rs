//! Who gained and who lost what between two ledgers: not lines of text, but rights.

use super::effective::told;
use super::subject::{NoSubject, StandIn};
use rustc_hash::FxHashSet;
use zest_engine::Engine;
use zest_engine::kind::service::links::own_credential;
use zest_engine::rights::{Action, Line, Membership, Rights, Side, Within, rights};
use zest_model::ask::{Question, Session, Verdict};
use zest_model::listing::{Difference, Moved, Right};

/// Returns what a user gained and lost on each system between two ledgers; systems where it is the same stand together, and those where
/// nothing changed are left out.
///
/// Who or what is there in one of them only gains or loses all there is.
///
/// # Example
/// ```
/// use zest_ledger::{Engine, Ledger, ask::Session, review::compare};
/// let engine = |rights: &str| {
///     let text = format!(r#"
/// [users.mate-1]
/// proofs = ["password"]
/// [systems.rota]
/// kind = "application"
/// [applications.rota]
/// types.shift.rights = ["plan", "look"]
/// objects."shift/early" = {{}}
/// grants = [{{ allow = [{rights}], on = "shift/*", to = ["user:mate-1"] }}]
/// "#);
///     Engine::compile(Ledger::new().document("rota.toml", &text).estate()?)
/// };
/// let (before, after) = (engine(r#""look""#)?, engine(r#""look", "plan""#)?);
/// let changed = compare(&before, &after, "mate-1", &Session::default());
/// assert_eq!(changed[0].gained[0].right.lines, ["plan on shift/early"]);
/// assert!(changed[0].lost.is_empty());
/// # Ok::<(), zest_ledger::finding::Findings>(())
/// ```
#[must_use]
pub fn compare(before: &Engine, after: &Engine, user: &str, session: &Session) -> Vec<Difference> {
    compare_on(before, after, user, session, |_| true)
}

/// Returns the same for some systems alone.
///
/// # Example
/// ```
/// use zest_ledger::{Ledger, ask::Session, review::compare_on};
/// # let text = r#"
/// # users.mate-1.proofs = ["password"]
/// # users.mate-2.proofs = ["password"]
/// # systems.rota.kind = "application"
/// # [applications.rota]
/// # types.shift.rights = ["plan"]
/// # objects."shift/early" = {}
/// # grants = [{ allow = ["plan"], on = "shift/*", to = ["user:mate-1"] }]
/// # "#;
/// # let engine = Ledger::new().document("rota.toml", text).engine(1)?;
/// let before = Ledger::new().document("rota.toml", &text.replace("mate-1\"] }", "mate-2\"] }")).engine(1)?;
/// let on = |system: &str| compare_on(&before, &engine, "mate-1", &Session::default(), |name| name == system);
/// assert_eq!((on("rota").len(), on("ramps").len()), (1, 0));
/// # Ok::<(), zest_ledger::finding::Findings>(())
/// ```
#[must_use]
pub fn compare_on(before: &Engine, after: &Engine, user: &str, session: &Session, is_meant: impl Fn(&str) -> bool) -> Vec<Difference> {
    let mut list: Vec<Difference> = Vec::new();
    for name in systems(before, after).into_iter().filter(|name| is_meant(name)) {
        let apart = Apart::of(By { engine: before, user }, By { engine: after, user }, name, session);
        apart.told().into_iter().for_each(|one| add(&mut list, one));
    }
    list
}

/// Returns the systems of two ledgers, those of the first before those that are new.
pub(super) fn systems<'e>(before: &'e Engine, after: &'e Engine) -> Vec<&'e str> {
    let new = after.all_sites().filter(|site| before.site(&site.entry().id.value).is_none());
    before.all_sites().chain(new).map(|site| site.entry().id.value.as_str()).collect()
}

/// Returns what only one of two may do on each system, in one ledger: what only the other may is told as gained, and what only the one
/// may as lost. Systems where it is the same stand together; where nothing is told they may the same.
///
/// # Errors
/// They cannot be looked at in the same sessions: an account of a device or host, and something else.
///
/// # Example
/// ```
/// use zest_ledger::{Engine, Ledger, ask::Session, review::{Subject, beside}};
/// let estate = Ledger::new().document("rota.toml", r#"
/// [users.mate-1]
/// [groups.mates]
/// [groups.masters]
/// [systems.rota]
/// kind = "application"
/// [applications.rota]
/// types.shift.rights = ["plan", "look"]
/// objects."shift/early" = {}
/// grants = [
///   { allow = ["look"], on = "shift/*", to = ["group:mates", "group:masters"] },
///   { allow = ["plan"], on = "shift/*", to = ["group:masters"] },
/// ]
/// "#).estate()?;
/// let engine = Engine::compile(estate)?;
/// let group = |name| Subject::Group(String::from(name)).stand_in(&engine, &Session::default());
/// let apart = beside(&engine, &group("mates")?, &group("masters")?, |_| true)?;
/// assert_eq!(apart[0].gained[0].right.lines, ["plan on shift/early"]);
/// assert!(apart[0].lost.is_empty());
/// # Ok::<(), Box<dyn std::error::Error>>(())
/// ```
pub fn beside(engine: &Engine, one: &StandIn, other: &StandIn, is_meant: impl Fn(&str) -> bool) -> Result<Vec<Difference>, NoSubject> {
    let session = together(one, other)?;
    let (was, is) = (By::of(one, engine), By::of(other, engine));
    let mut list: Vec<Difference> = Vec::new();
    for name in engine.all_sites().map(|site| site.entry().id.value.as_str()).filter(|name| is_meant(name)) {
        let (gained, lost) = match (one.server_role(), other.server_role()) {
            (Some(mine), Some(theirs)) => of_server_roles((was, mine), (is, theirs), name, &session),
            _ => Apart::of(was, is, name, &session).moved(),
        };
        // Each may change the own credential: that is the same right.
        let but_own = |list: Vec<Moved>, by: By<'_>| -> Vec<Moved> {
            let own = own_credential(by.user);
            list.into_iter().filter(|moved| moved.right.lines.iter().any(|line| *line != own)).collect()
        };
        difference(is.user, name, (but_own(gained, is), but_own(lost, was))).into_iter().for_each(|one| add(&mut list, one));
    }
    Ok(list)
}

/// Returns the sessions in which both are looked at. Each starts on an account of its own where one is meant.
fn together(one: &StandIn, other: &StandIn) -> Result<Session, NoSubject> {
    if one.session == other.session {
        return Ok(one.session.clone());
    }
    match (one.alone(), other.alone()) {
        (Some(mine), Some(theirs)) if mine == theirs => Ok(mine.clone()),
        _ => Err(NoSubject::Apart(one.user.clone(), other.user.clone())),
    }
}

/// Who is asked about, and in which ledger.
#[derive(Clone, Copy)]
pub(super) struct By<'e> {
    pub(super) engine: &'e Engine,
    pub(super) user: &'e str,
}

impl<'e> By<'e> {
    fn of(who: &'e StandIn, engine: &'e Engine) -> Self {
        Self { engine: who.engine(engine), user: &who.user }
    }

    fn on(self, system: &str) -> Option<Side<'e>> {
        Some(Side { site: self.engine.site(system)?, user: self.engine.find_user(self.user, false)? })
    }
}

/// Adds what is different on a system; systems where it is the same stand together.
pub(super) fn add(list: &mut Vec<Difference>, one: Difference) {
    match list.iter_mut().find(|known| is_same(known, &one)) {
        Some(known) => known.systems.extend(one.systems),
        None => list.push(one),
    }
}

/// Returns what is different on a system, if anything is.
fn difference(user: &str, system: &str, (gained, lost): (Vec<Moved>, Vec<Moved>)) -> Option<Difference> {
    let is_any = !gained.is_empty() || !lost.is_empty();
    is_any.then(|| Difference { user: user.to_owned(), systems: vec![system.to_owned()], gained, lost, more: zest_model::More })
}

/// The set of what somebody gained on one system, and that of what was lost; nothing where there is nobody to have it.
pub(super) struct Apart<'e> {
    system: &'e str,
    before: By<'e>,
    after: By<'e>,
    gained: Option<Rights>,
    lost: Option<Rights>,
}

impl<'e> Apart<'e> {
    pub(super) fn of(before: By<'e>, after: By<'e>, system: &'e str, session: &Session) -> Self {
        let within = Within { stated: session.clone(), ..Within::default() };
        let alone = |side: Side<'_>| rights(&[side], &within).pop();
        let kind = |side: &Side<'_>| side.site.entry().kind();
        let (gained, lost) = match (before.on(system), after.on(system)) {
            (Some(old), Some(new)) if kind(&old) == kind(&new) => match rights(&[old, new], &within).as_slice() {
                [was, is] => (Some(is.minus(was)), Some(was.minus(is))),
                _ => (None, None),
            },
            (old, new) => (new.and_then(alone), old.and_then(alone)),
        };
        Self { system, before, after, gained, lost }
    }

    fn sets(&self) -> impl Iterator<Item = &Rights> {
        self.gained.iter().chain(&self.lost)
    }

    /// Returns whether nothing was gained and nothing lost.
    pub(super) fn is_nothing(&self) -> bool {
        self.sets().all(Rights::is_empty)
    }

    /// Returns whether one of the actions names who it is: with somebody else it is another action.
    pub(super) fn is_by_name(&self) -> bool {
        let kind = [self.before, self.after].into_iter().find_map(|by| by.engine.site(self.system)).map(|site| site.kind());
        let names = |action: &Action| kind.is_some_and(|kind| kind.tells_apart_by_name(&action.line));
        self.sets().any(|set| set.actions().iter().enumerate().any(|(number, action)| names(action) && !set.is_never(number)))
    }

    /// Returns the same for somebody whom neither ledger can tell apart from the first.
    pub(super) fn of_another(&self, user: &'e str) -> Self {
        let Self { system, before, after, gained, lost } = self;
        let of = |set: &Option<Rights>| set.as_ref().map(|set| set.of_another(user));
        Self { system, before: By { user, ..*before }, after: By { user, ..*after }, gained: of(gained), lost: of(lost) }
    }

    /// Tells what was gained and what was lost, if anything was.
    pub(super) fn told(&self) -> Option<Difference> {
        difference(self.after.user, self.system, self.moved())
    }

    fn moved(&self) -> (Vec<Moved>, Vec<Moved>) {
        let Self { system: _, before, after, gained, lost } = self;
        let all = |here, there, set: &Option<Rights>| set.as_ref().map_or_else(Vec::new, |set| moved(here, there, set));
        (all(*after, *before, gained), all(*before, *after, lost))
    }
}

/// Returns what was gained and what was lost on one system between two roles of database servers: in sessions as they start, and beyond that
/// with the role of each made active, since only its own members can make it so.
fn of_server_roles(before: (By<'_>, &str), after: (By<'_>, &str), system: &str, session: &Session) -> (Vec<Moved>, Vec<Moved>) {
    // Where one of them is nobody, all of the other's is told.
    let all = || Apart::of(before.0, after.0, system, session).moved();
    let (Some(old), Some(new)) = (before.0.on(system), after.0.on(system)) else { return all() };
    let sets = rights(&[old, new], &Within { stated: session.clone(), ..Within::default() });
    let [was, is] = sets.as_slice() else { return all() };
    let one_way = |(here, role): (By<'_>, &str), mine: &Rights, (there, other): (By<'_>, &str), theirs: &Rights| {
        let difference = mine.minus(theirs);
        let starting = with_roles(&difference, None);
        let mut list = told_beside(here, there, &difference, &starting, None);
        let seen = |lines: &[Line]| -> FxHashSet<(usize, Membership)> {
            lines.iter().flat_map(|line| line.actions.iter().map(|&action| (action, line.membership))).collect()
        };
        let (told, known) = (seen(&starting), seen(&with_roles(theirs, Some(other))));
        let mut active = with_roles(mine, Some(role));
        for line in &mut active {
            let membership = line.membership;
            line.actions.retain(|&action| !known.contains(&(action, membership)) && !told.contains(&(action, membership)));
        }
        active.retain(|line| !line.actions.is_empty());
        list.extend(told_beside(here, there, mine, &active, Some(other)));
        list
    };
    (one_way(after, is, before, was), one_way(before, was, after, is))
}

/// Returns the lines of a set in sessions in which just one role was made active, or none was: as they start.
fn with_roles(set: &Rights, role: Option<&str>) -> Vec<Line> {
    let is_meant = |opening: &usize| match (&set.openings()[*opening].session.active_roles, role) {
        (None, None) => true,
        (Some(active), Some(role)) => active.iter().eq([role]),
        (None, Some(_)) | (Some(_), None) => false,
    };
    let mut lines = set.lines();
    lines.iter_mut().for_each(|line| line.openings.retain(is_meant));
    lines.retain(|line| !line.openings.is_empty());
    lines
}

/// Tells a difference, each right with how its example is answered on the other side.
fn moved(here: By<'_>, there: By<'_>, difference: &Rights) -> Vec<Moved> {
    if difference.is_empty() { Vec::new() } else { told_beside(here, there, difference, &difference.lines(), None) }
}

/// The same of some lines of it; the other side is asked with another role active where one is stated.
fn told_beside(here: By<'_>, there: By<'_>, difference: &Rights, lines: &[Line], with_role: Option<&str>) -> Vec<Moved> {
    let one = |right: Right| {
        let mut asked = Question { user: there.user.to_owned(), ..right.example.clone() };
        if let Some(role) = with_role {
            asked.session.active_roles = Some(vec![role.to_owned()]);
        }
        let answer = there.engine.explain(&asked);
        let gate = match answer.verdict {
            Verdict::Denied => answer.first_refusal(),
            Verdict::Allowed | Verdict::AllowedAfter => answer.open_gates().next(),
        };
        let (text, place) = gate.map_or((String::new(), None), |gate| (gate.text.clone(), gate.location.clone()));
        Moved { right, elsewhere: answer.verdict, code: answer.refusal, why: text, place }
    };
    told(here.engine, difference, lines).into_iter().map(one).collect()
}

/// Returns whether the same changed; what is asked as an example names the system.
fn is_same(one: &Difference, other: &Difference) -> bool {
    let Difference { user, systems: _, gained, lost, more: _ } = one;
    let asked = |right: &Right| Question { system: String::new(), ..right.example.clone() };
    let same = |(a, b): (&Moved, &Moved)| {
        let Moved { right, elsewhere, code: _, why, place: _ } = a;
        (elsewhere, why, &right.lines) == (&b.elsewhere, &b.why, &b.right.lines)
            && right.is_like(&b.right)
            && asked(right) == asked(&b.right)
    };
    let all = |mine: &[Moved], theirs: &[Moved]| mine.len() == theirs.len() && mine.iter().zip(theirs).all(same);
    *user == other.user && all(gained, &other.gained) && all(lost, &other.lost)
}
