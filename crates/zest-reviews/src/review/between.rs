//! What changed between two ledgers for everybody: people whom neither can tell apart are looked at once, and told of one by one.

use rustc_hash::FxHashMap;

use super::compare::{Apart, By, add, systems};
use super::touched::Touched;
use zest_engine::Engine;
use zest_engine::classes::Classes;
use zest_engine::links::UserId;
use zest_model::ask::{Question, Session};
use zest_model::listing::{Cause, Difference, Moved, Right};
use zest_model::source::visible;

/// Two ledgers, and everybody of both: people whom neither can tell apart on a system are looked at once, and only where something
/// changed for them is it told of each.
///
/// # Example
/// ```
/// use zest_ledger::{Ledger, ask::Session, review::{Between, Touched}};
/// # let text = r#"
/// # users.mate-1.proofs = ["password"]
/// # users.mate-2.proofs = ["password"]
/// # users.cook-1.proofs = ["password"]
/// # groups.mates.members = ["user:mate-1", "user:mate-2"]
/// # systems.rota.kind = "application"
/// # [applications.rota]
/// # types.shift.rights = ["plan", "drop"]
/// # objects."shift/early" = {}
/// # grants = [{ allow = ["plan"], on = "shift/*", to = ["group:mates"] }]
/// # "#;
/// let of = |rights: &str| Ledger::new().document("rota.toml", &text.replace(r#"allow = ["plan"]"#, rights)).engine(1);
/// let (before, after) = (of(r#"allow = ["plan"]"#)?, of(r#"allow = ["plan", "drop"]"#)?);
/// let between = Between::new(&before, &after, &Session::default(), &Touched::everything());
/// // Both mates are looked at as one, and the cook.
/// assert_eq!(between.parts().len(), 2);
/// let told = between.all();
/// assert_eq!(told.iter().map(|one| one.user.as_str()).collect::<Vec<_>>(), ["mate-1", "mate-2"]);
/// assert_eq!(told[1].gained[0].right.lines, ["drop on shift/early"]);
/// # Ok::<(), zest_ledger::finding::Findings>(())
/// ```
#[derive(Debug)]
pub struct Between<'e> {
    before: &'e Engine,
    after: &'e Engine,
    session: Session,
    /// Everybody of both ledgers, those of the second first.
    people: Vec<&'e str>,
    parts: Vec<Kin<'e>>,
}

/// People whom neither of two ledgers can tell apart on a system.
///
/// # Example
/// ```
/// use zest_ledger::{Ledger, ask::Session, review::{Between, Touched}};
/// # let text = "users.mate-1.proofs = ['password']\nsystems.rota.kind = 'application'\napplications.rota.types.shift.rights = ['plan']\n";
/// # let engine = Ledger::new().document("rota.toml", text).engine(1)?;
/// let between = Between::new(&engine, &engine, &Session::default(), &Touched::everything());
/// assert!(between.parts().iter().all(|kin| between.told(kin).is_empty()));
/// # Ok::<(), zest_ledger::finding::Findings>(())
/// ```
#[derive(Debug)]
pub struct Kin<'e> {
    system: &'e str,
    /// The numbers of the people.
    people: Vec<usize>,
}

impl<'e> Between<'e> {
    /// Puts the people together whom neither ledger can tell apart, in sessions of which some facts are stated; of people and systems only
    /// those that are [touched](super::touched).
    #[must_use]
    pub fn new(before: &'e Engine, after: &'e Engine, session: &Session, touched: &Touched) -> Self {
        let names = |engine: &'e Engine| engine.estate().users().iter().map(|user| user.id.value.as_str());
        let gone = names(before).filter(|name| after.find_user(name, false).is_none());
        let people: Vec<&str> = names(after).chain(gone).collect();
        let there = |engine: &Engine| people.iter().map(|name| engine.find_user(name, false)).collect::<Vec<_>>();
        let (old, new) = (there(before), there(after));
        let (was, is) = (Classes::of(before), Classes::of(after));
        let mut parts: Vec<Kin<'_>> = Vec::new();
        let meant = |system: &'e str| touched.on(system).map(|whom| (system, whom));
        for (system, whom) in systems(before, after).into_iter().filter_map(meant) {
            let (was, is) = (class_of(before, &was, system, session), class_of(after, &is, system, session));
            let class = |of: &[usize], user: Option<UserId>| of.get(user?.index()).copied();
            let mut known: FxHashMap<(Option<usize>, Option<usize>), usize> = FxHashMap::default();
            for (number, (&old, &new)) in old.iter().zip(&new).enumerate() {
                if !whom.includes(people[number]) {
                    continue;
                }
                let at = *known.entry((class(&was, old), class(&is, new))).or_insert(parts.len());
                match parts.get_mut(at) {
                    None => parts.push(Kin { system, people: vec![number] }),
                    Some(kin) => kin.people.push(number),
                }
            }
        }
        Self { before, after, session: session.clone(), people, parts }
    }

    /// Returns everybody of both ledgers.
    ///
    /// # Example
    /// ```
    /// use zest_ledger::{Ledger, ask::Session, review::{Between, Touched}};
    /// # let text = r#"
    /// # users.mate-1.proofs = ["password"]
    /// # users.mate-2.proofs = ["password"]
    /// # systems.rota.kind = "application"
    /// # [applications.rota]
    /// # types.shift.rights = ["plan", "drop"]
    /// # objects."shift/early" = {}
    /// # grants = [{ allow = ["plan"], on = "shift/*", to = ["user:mate-1"] }]
    /// # "#;
    /// # let engine = Ledger::new().document("rota.toml", text).engine(1)?;
    /// assert_eq!(Between::new(&engine, &engine, &Session::default(), &Touched::everything()).people(), ["mate-1", "mate-2"]);
    /// # Ok::<(), zest_ledger::finding::Findings>(())
    /// ```
    #[must_use]
    pub fn people(&self) -> &[&'e str] {
        &self.people
    }

    /// Returns those who are looked at together, system by system: each of them costs about the same.
    #[must_use]
    pub fn parts(&self) -> &[Kin<'e>] {
        &self.parts
    }

    /// Tells what each of some people gained and lost on their system; nothing where nothing changed for them.
    #[must_use]
    pub fn told(&self, Kin { system, people }: &Kin<'e>) -> Vec<Difference> {
        let of = |user| Apart::of(By { engine: self.before, user }, By { engine: self.after, user }, system, &self.session);
        let people: Vec<&str> = people.iter().map(|&number| self.people[number]).collect();
        let Some((&name, others)) = people.split_first() else { return Vec::new() };
        let first = of(name);
        if first.is_nothing() {
            return Vec::new();
        }
        let told = first.told();
        if first.is_by_name() {
            return told.into_iter().chain(others.iter().filter_map(|user| of(user).told())).collect();
        }
        let Some((second, rest)) = others.split_first() else { return told.into_iter().collect() };
        // What is told of two who are alike tells them apart by their names alone, or else by where they are written.
        let of_second = first.of_another(second).told();
        let is_by_name_alone = of_second == told.as_ref().map(|told| of_another(told, name, second));
        let of_rest = rest.iter().filter_map(|user| match &told {
            Some(told) if is_by_name_alone => Some(of_another(told, name, user)),
            _ => first.of_another(user).told(),
        });
        let of_rest: Vec<Difference> = of_rest.collect();
        told.into_iter().chain(of_second).chain(of_rest).collect()
    }

    /// Puts together what was [told](Self::told) of each of the [`parts`](Self::parts), person by person; systems of which the same is
    /// told stand together.
    ///
    /// # Example
    /// ```
    /// use zest_ledger::{Ledger, ask::Session, review::{Between, Touched}};
    /// # let text = r#"
    /// # users.mate-1.proofs = ["password"]
    /// # users.mate-2.proofs = ["password"]
    /// # systems.rota.kind = "application"
    /// # [applications.rota]
    /// # types.shift.rights = ["plan", "drop"]
    /// # objects."shift/early" = {}
    /// # grants = [{ allow = ["plan"], on = "shift/*", to = ["user:mate-1"] }]
    /// # "#;
    /// # let engine = Ledger::new().document("rota.toml", text).engine(1)?;
    /// let between = Between::new(&engine, &engine, &Session::default(), &Touched::everything());
    /// let told = between.parts().iter().map(|kin| between.told(kin)).collect();
    /// assert!(between.together(told).is_empty(), "nothing changed");
    /// # Ok::<(), zest_ledger::finding::Findings>(())
    /// ```
    #[must_use]
    pub fn together(&self, told: Vec<Vec<Difference>>) -> Vec<Difference> {
        let mut of: FxHashMap<String, Vec<Difference>> = FxHashMap::default();
        told.into_iter().flatten().for_each(|one| add(of.entry(one.user.clone()).or_default(), one));
        self.people.iter().filter_map(|&user| of.remove(user)).flatten().collect()
    }

    /// Tells of everybody what they gained and lost.
    #[must_use]
    pub fn all(&self) -> Vec<Difference> {
        self.together(self.parts.iter().map(|kin| self.told(kin)).collect())
    }
}

/// Returns the class of each user on a system, by the user's number; nothing where there is no such system.
fn class_of(engine: &Engine, classes: &Classes<'_>, system: &str, session: &Session) -> Vec<usize> {
    let Some(site) = engine.site(system) else { return Vec::new() };
    let mut of = vec![0; engine.estate().users().len()];
    for (number, class) in classes.on(site, &[], None, session).iter().flatten().enumerate() {
        classes.members(class).for_each(|user| of[user.index()] = number);
    }
    of
}

/// Says of another what was told of somebody, with the one's name in the place of the other's.
fn of_another(told: &Difference, user: &str, other: &str) -> Difference {
    let (from, to) = (format!("`{}`", visible(user)), format!("`{}`", visible(other)));
    let text = |text: &String| text.replace(&from, &to);
    let texts = |list: &[String]| list.iter().map(text).collect::<Vec<_>>();
    let of_moved = |Moved { right, elsewhere, code, why, place }: &Moved| {
        let Right { allowed, actions, on, lines, except, starts, when, after, standing, through, place: at, example, more } = right;
        let mut example = Question { user: other.to_owned(), ..example.clone() };
        if example.session.account.as_deref() == Some(user) {
            example.session.account = Some(other.to_owned());
        }
        let right = Right {
            allowed: *allowed,
            actions: texts(actions),
            on: texts(on),
            lines: texts(lines),
            except: texts(except),
            starts: texts(starts),
            when: text(when),
            after: texts(after),
            standing: standing.iter().map(|cause| Cause { text: text(&cause.text), place: cause.place.clone() }).collect(),
            through: text(through),
            place: at.clone(),
            example,
            more: *more,
        };
        Moved { right, elsewhere: *elsewhere, code: *code, why: text(why), place: place.clone() }
    };
    let Difference { user: _, systems, gained, lost, more } = told;
    Difference {
        user: other.to_owned(),
        systems: systems.clone(),
        gained: gained.iter().map(of_moved).collect(),
        lost: lost.iter().map(of_moved).collect(),
        more: *more,
    }
}
