//! The plain evaluator of clouds: the rules as one reads them aloud, over the entries as written, without any index.
//!
//! It gives the verdict, and for a refusal all codes that could be named first: which of two denies is named is of no
//! importance, that one of them bites is.

use jiff::{SignedDuration, Timestamp};
use zest_ledger::Question;
use zest_ledger::ask::{Act, Proven, Refusal, Session, Verdict};
use zest_ledger::entry::{Assumable, Ceiling, Grant, Obligations, Role, Service, User, When};
use zest_ledger::estate::Estate;
use zest_ledger::source::At;

/// What the plain evaluator says.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Said {
    /// The verdict.
    pub verdict: Verdict,
    /// For a denied action: the codes that may be named first.
    pub refusals: Vec<Refusal>,
}

type Refused = Vec<Refusal>;

/// Who acts at the end of a chain, everybody in it, and what the links ask.
type Chain<'e> = (Who<'e>, Vec<&'e str>, Result<Verdict, Refused>);

/// As whom a session acts.
#[derive(Clone, Copy, PartialEq)]
enum Who<'e> {
    User(&'e str),
    Role(&'e str),
}

/// Answers a question about a cloud the plain way.
#[must_use]
pub fn answer(estate: &Estate, question: &Question) -> Said {
    let service = estate.services().iter().find(|s| s.system.value == question.system).expect("it is a question about a cloud");
    match (Naive { estate, service, question, agrees: false }).answer() {
        Ok(verdict) => Said { verdict, refusals: Vec::new() },
        Err(refusals) => Said { verdict: Verdict::Denied, refusals },
    }
}

struct Naive<'e> {
    estate: &'e Estate,
    service: &'e Service,
    question: &'e Question,
    /// Whether somebody is looked at who agrees to the act of another.
    agrees: bool,
}

/// A grant as it is held: its assignment's conditions and place, and the roles it is held through.
struct Held<'e> {
    grant: &'e Grant,
    assigned: Option<(&'e When, Option<&'e str>)>,
    roles: Vec<&'e str>,
}

fn both(one: Option<bool>, other: Option<bool>) -> Option<bool> {
    match (one, other) {
        (Some(false), _) | (_, Some(false)) => Some(false),
        (Some(true), Some(true)) => Some(true),
        _ => None,
    }
}

impl<'e> Naive<'e> {
    fn session(&self) -> &'e Session {
        &self.question.session
    }

    fn user(&self, id: &str) -> Option<&'e User> {
        self.estate.users().iter().find(|u| u.id.value == id).map(|u| &**u)
    }

    fn role(&self, id: &str) -> Option<&'e Role> {
        self.estate.roles().iter().find(|r| r.id.value == id).map(|r| &**r)
    }

    fn answer(&self) -> Result<Verdict, Refused> {
        let session = self.session();
        if let Some(expires) = session.expires {
            match session.at {
                None => return Err(vec![Refusal::NotStated]),
                Some(at) if at >= expires => return Err(vec![Refusal::SessionExpired]),
                Some(_) => {}
            }
        }
        let person = self.user(&self.question.user).ok_or(vec![Refusal::UnknownUser])?;
        if person.disabled.as_ref().is_some_and(|d| d.value) {
            return Err(vec![Refusal::UserDisabled]);
        }
        if person.proofs.is_empty() {
            return Err(vec![Refusal::NoProof]);
        }
        if session.proofs.as_ref().is_some_and(Vec::is_empty) {
            return Err(vec![Refusal::NothingProven]);
        }
        if session.proofs.iter().flatten().any(|given| !person.proofs.iter().any(|p| p.value == given.proof)) {
            return Err(vec![Refusal::ProofNotRegistered]);
        }
        let (who, people, on_the_way) = self.chain(&person.id.value)?;
        let user = *people.last().expect("the person is there");
        self.stated(who, user)?;
        let (operation, path) = self.question.line.split_once(" on ").ok_or(vec![Refusal::ActionUnreadable])?;
        let role = path.strip_prefix("role/").filter(|_| operation == "assume");
        if operation != "assume" && !self.service.operations.iter().any(|o| o.name.value == operation) {
            return Err(vec![Refusal::UnknownOperation]);
        }
        let is_there = role.map_or_else(|| self.service.resources.iter().any(|r| within(path, &r.path.value)), |r| self.role(r).is_some());
        if !is_there {
            return Err(vec![Refusal::UnknownObject]);
        }
        if person.must_change_credential.as_ref().is_some_and(|m| m.value) {
            return Err(vec![Refusal::CredentialMustChange]);
        }
        let allows = self.permission(who, user, operation, path)?;
        // Half an assumption is not one.
        if let Some(role) = role.filter(|_| !self.agrees) {
            self.admitted(who, user, role)?;
        }
        worse(on_the_way, self.obligations(&allows, &people, operation, path))
    }

    /// Attributes and active roles must be such as the session may state.
    fn stated(&self, who: Who<'e>, user: &'e str) -> Result<(), Refused> {
        for (name, _) in &self.session().attributes {
            let by_role = match who {
                Who::Role(role) => {
                    self.role(role).and_then(|r| r.assumable.as_ref()).is_some_and(|a| a.may_state.iter().any(|t| t.value == *name))
                }
                Who::User(_) => false,
            };
            if !by_role && !self.service.session_attributes.iter().any(|a| a.value == *name) {
                return Err(vec![Refusal::AttributeNotAdmitted]);
            }
        }
        for active in self.session().active_roles.iter().flatten() {
            if !self.assigned_roles(user).iter().any(|(role, _)| role == active) {
                return Err(vec![Refusal::RoleNotGranted]);
            }
        }
        Ok(())
    }

    /// Follows the chain; every link must be allowed, and none may come back.
    /// What is asked for on the way is asked for at the end.
    fn chain(&self, person: &'e str) -> Result<Chain<'e>, Refused> {
        let (mut who, mut user) = (Who::User(person), person);
        let (mut people, mut began) = (vec![person], None);
        let mut on_the_way = Ok(Verdict::Allowed);
        let mut seen = vec![who];
        for act in &self.session().acting {
            match act {
                Act::User(name) => {
                    let target = self.user(name).ok_or(vec![Refusal::UnknownActingIdentity])?;
                    // In an assumed role the person's own rights are gone, this one too.
                    let may = matches!(who, Who::User(_))
                        && self.service.acting.iter().any(|rule| {
                            rule.target.value == format!("user:{name}") && rule.by.iter().any(|by| self.is_in(person, &by.value))
                        });
                    if !may {
                        return Err(vec![Refusal::MayNotActAs]);
                    }
                    if target.disabled.as_ref().is_some_and(|d| d.value) {
                        return Err(vec![Refusal::ActingIdentityUnusable]);
                    }
                    user = &target.id.value;
                    people.push(user);
                    who = Who::User(user);
                }
                Act::Role { name, since } => {
                    let role = self.role(name).ok_or(vec![Refusal::UnknownRole])?;
                    let path = format!("role/{name}");
                    let Ok(allows) = self.permission(who, user, "assume", &path) else {
                        return Err(vec![Refusal::MayNotAssume, Refusal::NotStated]);
                    };
                    on_the_way = worse(on_the_way, Ok(self.obligations(&allows, &people, "assume", &path)?));
                    let assumable = self.admitted(who, user, name)?;
                    self.lasts(assumable, *since)?;
                    // One of which no moment is stated begins at that of the question.
                    let outer = began.or(self.session().at.filter(|_| matches!(who, Who::Role(_))));
                    if since.is_some_and(|since| outer.is_some_and(|outer| since < outer)) {
                        return Err(vec![Refusal::AssumedTooEarly]);
                    }
                    began = *since;
                    who = Who::Role(&role.id.value);
                }
                _ => return Err(vec![Refusal::ActingNotKnown]),
            }
            if seen.contains(&who) {
                return Err(vec![Refusal::ActingLoop]);
            }
            seen.push(who);
        }
        Ok((who, people, on_the_way))
    }

    /// Whether a role admits somebody: whom it names, under its conditions.
    fn admitted(&self, who: Who<'_>, user: &str, role: &str) -> Result<&'e Assumable, Refused> {
        let admits = |a: &&Assumable| a.by.iter().any(|by| self.is_it(who, &by.value));
        let assumable = self.role(role).and_then(|r| r.assumable.as_ref()).filter(admits).ok_or(vec![Refusal::RoleDoesNotAdmit])?;
        if self.holds(&assumable.when, user, None) == Some(true) { Ok(assumable) } else { Err(failures()) }
    }

    fn lasts(&self, assumable: &Assumable, since: Option<Timestamp>) -> Result<(), Refused> {
        let Some(since) = since else { return Ok(()) };
        let Some(at) = self.session().at else { return Err(vec![Refusal::NotStated]) };
        let over = assumable.longest.as_ref().is_some_and(|l| at >= since + l.value);
        if at < since || over { Err(vec![Refusal::AssumptionExpired]) } else { Ok(()) }
    }

    /// Whether a user is a party, directly or through groups.
    fn is_in(&self, user: &str, party: &str) -> bool {
        if let Some(id) = party.strip_prefix("user:") {
            return id == user;
        }
        let group = party.strip_prefix("group:").and_then(|id| self.estate.groups().iter().find(|g| g.id.value == id));
        group.is_some_and(|g| g.members.iter().any(|m| self.is_in(user, &m.value)))
    }

    fn is_it(&self, who: Who<'_>, holder: &str) -> bool {
        match who {
            Who::User(user) => self.is_in(user, holder),
            Who::Role(role) => holder.strip_prefix("role:") == Some(role),
        }
    }

    /// Roles and all that they include, as if one of them were not there.
    fn closure(&self, roles: &[&'e str], without: &str) -> Vec<&'e str> {
        let mut all: Vec<&str> = roles.iter().copied().filter(|r| *r != without).collect();
        let mut next = 0;
        while next < all.len() {
            for included in self.role(all[next]).into_iter().flat_map(|r| &r.includes) {
                if included.value != without && !all.contains(&included.value.as_str()) {
                    all.push(&included.value);
                }
            }
            next += 1;
        }
        all
    }

    /// The roles through which alone another is held.
    fn through(&self, roots: &[&'e str], role: &str) -> Vec<&'e str> {
        let all = self.estate.roles().iter().map(|r| r.id.value.as_str());
        all.filter(|through| !self.closure(roots, through).contains(&role)).collect()
    }

    /// The roles of a user here, each with its assignment.
    fn assigned_roles(&self, user: &str) -> Vec<(&'e str, usize)> {
        let assignments = self.estate.assignments().iter().enumerate().filter(|(_, a)| a.to.iter().any(|t| self.is_in(user, &t.value)));
        assignments
            .flat_map(|(i, a)| a.roles.iter().flat_map(move |r| self.closure(&[&r.value], "").into_iter().map(move |r| (r, i))))
            .collect()
    }

    fn held(&self, who: Who<'e>) -> Vec<Held<'e>> {
        let mut list = Vec::new();
        let mut of_role = |role: &'e str, is_active: bool, assigned: Option<(&'e When, Option<&'e str>)>, roles: Vec<&'e str>| {
            let written = self.role(role).into_iter().flat_map(|r| &r.grants);
            let to_role = self.service.grants.iter().filter(|g| g.to.iter().any(|t| t.value == format!("role:{role}")));
            // A deny counts whether its role is active or not.
            for grant in written.chain(to_role).filter(|g| is_active || g.allow.is_empty()) {
                list.push(Held { grant, assigned, roles: roles.clone() });
            }
        };
        match who {
            Who::User(user) => {
                for (role, number) in self.assigned_roles(user) {
                    let assignment = &self.estate.assignments()[number];
                    let is_active = self.session().active_roles.as_ref().is_none_or(|l| l.iter().any(|r| r == role));
                    let at = assignment.on.at.as_ref().map(|a| a.value.as_str());
                    let roots: Vec<&str> = assignment.roles.iter().map(|r| r.value.as_str()).collect();
                    of_role(role, is_active, Some((&assignment.when, at)), self.through(&roots, role));
                }
                for grant in self.service.grants.iter().filter(|g| g.to.iter().any(|t| self.is_in(user, &t.value))) {
                    list.push(Held { grant, assigned: None, roles: Vec::new() });
                }
            }
            Who::Role(assumed) => {
                for role in self.closure(&[assumed], "") {
                    of_role(role, true, None, self.through(&[assumed], role));
                }
            }
        }
        list
    }

    /// Deny outweighs allow; an allow counts if it holds and every ceiling lets it through.
    fn permission(&self, who: Who<'e>, user: &str, operation: &str, path: &str) -> Result<Vec<&'e Grant>, Refused> {
        let (mut denies, mut allows, mut others) = (Vec::new(), Vec::new(), Vec::new());
        for held in self.held(who) {
            let grant = held.grant;
            let deny = grant.allow.is_empty();
            let all = deny && grant.deny.iter().any(|n| n.value == "all");
            let listed = all || self.names(if deny { &grant.deny } else { &grant.allow }, operation);
            let named = listed && !self.names(&grant.except, operation);
            let on = grant.on.is_empty() || grant.on.iter().any(|p| covers(&p.value, path));
            let at = held.assigned.and_then(|(_, at)| at).is_none_or(|at| within(path, at));
            if !named || !on || !at || grant.except_on.iter().any(|p| covers(&p.value, path)) {
                continue;
            }
            let valid = grant.until.as_ref().map_or(Some(true), |until| self.session().at.map(|at| at < until.value));
            let assigned = held.assigned.map_or(Some(true), |(when, _)| self.holds(when, user, Some(path)));
            let lifted = if grant.lifted_by.is_empty() { Some(false) } else { self.holds(&grant.lifted_by, user, Some(path)) };
            let applies = both(both(valid, assigned), both(self.holds(&grant.when, user, Some(path)), lifted.map(|l| !l)));
            match (deny, applies) {
                (true, Some(false)) => {}
                (true, Some(true)) => denies.push(Refusal::DeniedByGrant),
                (true, None) => denies.push(Refusal::NotStated),
                (false, Some(true)) => match self.ceilings(who, &held, user, operation, path) {
                    Some(true) => allows.push(grant),
                    Some(false) => others.push((0, Refusal::CutByCeiling)),
                    None => others.push((0, Refusal::NotStated)),
                },
                (false, None) => others.push((1, Refusal::NotStated)),
                (false, Some(false)) => others.push((2, Refusal::GrantLifted)),
            }
        }
        if !denies.is_empty() {
            return Err(denies);
        }
        if !allows.is_empty() {
            return Ok(allows);
        }
        Err(match others.iter().map(|&(rank, _)| rank).min() {
            None => vec![Refusal::NotGranted],
            Some(2) => failures(),
            Some(least) => others
                .into_iter()
                .filter(|&(rank, _)| rank == least)
                .map(|(_, code)| code)
                .chain([Refusal::CutByCeiling, Refusal::NotStated])
                .collect(),
        })
    }

    fn ceilings(&self, who: Who<'_>, held: &Held<'_>, user: &str, operation: &str, path: &str) -> Option<bool> {
        let limits = |ceiling: &&Ceiling| {
            let here = ceiling.within.as_ref().is_none_or(|w| within(path, &w.value));
            let of = |holder: &At<String>| match (holder.value.strip_prefix("role:"), who) {
                (Some(role), _) => held.roles.contains(&role),
                (None, Who::User(user)) => self.is_in(user, &holder.value),
                (None, Who::Role(_)) => false,
            };
            here && (ceiling.of.is_empty() || ceiling.of.iter().any(of))
        };
        // One that cuts outweighs one that is not known.
        let mut through = Some(true);
        for ceiling in self.service.ceilings.iter().filter(limits) {
            let named = self.names(&ceiling.allow, operation) && !self.names(&ceiling.except, operation);
            through = both(through, if named { self.holds(&ceiling.when, user, Some(path)) } else { Some(false) });
        }
        through
    }

    fn names(&self, list: &[At<String>], operation: &str) -> bool {
        let own = self.service.operations.iter().find(|o| o.name.value == operation);
        let reads = own.and_then(|o| o.reads.as_ref()).is_some_and(|r| r.value);
        list.iter().any(|name| match name.value.as_str() {
            "all" => own.is_some(),
            "read" => own.is_some() && reads,
            "write" => own.is_some() && !reads,
            "pair" => operation == "disk.write" || operation == "key.read",
            name => name == operation || own.is_some() && name.strip_suffix('*').is_some_and(|start| operation.starts_with(start)),
        })
    }

    /// Whether conditions hold: yes, no, or not known.
    fn holds(&self, when: &When, user: &str, path: Option<&str>) -> Option<bool> {
        let session = self.session();
        let mut holds = Some(true);
        if !when.origin.is_empty() {
            let inside = |a: std::net::IpAddr| when.origin.iter().any(|n| n.value.parse::<ipnet::IpNet>().is_ok_and(|n| n.contains(&a)));
            holds = both(holds, session.origin.map(inside));
        }
        if !when.channel.is_empty() {
            holds = both(holds, session.channel.map(|c| when.channel.iter().any(|w| w.value == c)));
        }
        if !when.proof.is_empty() {
            holds = both(holds, self.proof(when));
        }
        for text in &when.compare {
            let words: Vec<&str> = text.value.split(' ').collect();
            let value = |operand: &str| -> Option<String> {
                match operand {
                    "user.colour" => self.user(user)?.attributes.first().map(|(_, v)| v.value.clone()),
                    "resource.colour" => {
                        let resource = self.service.resources.iter().find(|r| Some(r.path.value.as_str()) == path)?;
                        resource.attributes.first().map(|(_, v)| v.value.clone())
                    }
                    "session.ticket" => session.attributes.iter().find(|(k, _)| k == "ticket").map(|(_, v)| v.clone()),
                    "session.shift" => session.attributes.iter().find(|(k, _)| k == "shift").map(|(_, v)| v.clone()),
                    literal => Some(literal.trim_matches('\'').to_owned()),
                }
            };
            let (left, right) = (value(words[0]), value(words[2]));
            holds = both(holds, left.zip(right).map(|(l, r)| (l == r) == (words[1] == "=")));
        }
        holds
    }

    fn proof(&self, when: &When) -> Option<bool> {
        let session = self.session();
        let given = session.proofs.as_ref()?;
        let counts = |p: &&Proven| match (p.channel, session.channel) {
            (None, _) => Some(true),
            (Some(_), None) => None,
            (Some(on), Some(here)) => Some(
                on == here || self.service.proofs_cover.iter().any(|(from, to)| from.value == on && to.iter().any(|t| t.value == here)),
            ),
        };
        let accepted: Vec<&Proven> = given.iter().filter(|p| when.proof.iter().any(|w| w.value == p.proof)).collect();
        let old = |p: &Proven| when.proof_older.as_ref().is_some_and(|o| p.age <= o.value);
        if accepted.iter().any(|p| counts(p) == Some(true) && old(p)) {
            return Some(false);
        }
        let fits = |p: &Proven| when.proof_age.as_ref().is_none_or(|a| p.age <= a.value) && !old(p);
        let fitting: Vec<Option<bool>> = accepted.iter().filter(|p| fits(p)).map(counts).collect();
        if fitting.iter().all(|c| *c == Some(false)) {
            return Some(false);
        }
        let is_open = accepted.iter().any(|p| counts(p).is_none() && old(p));
        if fitting.contains(&Some(true)) && !is_open { Some(true) } else { None }
    }

    /// How long ago identity was proven in a session by something that counts here.
    fn youngest(&self, session: &Session) -> Option<SignedDuration> {
        let covers = |p: &&Proven| {
            p.channel.is_none_or(|on| {
                Some(on) == session.channel
                    || self.service.proofs_cover.iter().any(|(f, t)| f.value == on && t.iter().any(|c| Some(c.value) == session.channel))
            })
        };
        session.proofs.iter().flatten().filter(covers).map(|p| p.age).min()
    }

    /// What a second person's own session comes to, and how long ago identity was proven in it.
    fn agrees(&self, user: &str, proofs: Option<Vec<Proven>>, line: &str) -> (Verdict, Option<SignedDuration>) {
        let mut theirs = Question::in_session(user, &self.question.system, line, self.session().clone());
        let session = &mut theirs.session;
        session.approved_by = None;
        session.approver_proofs = None;
        session.acting.clear();
        session.active_roles = None;
        session.attributes.clear();
        session.expires = None;
        session.proofs = proofs;
        let naive = Naive { estate: self.estate, service: self.service, question: &theirs, agrees: true };
        (naive.answer().unwrap_or(Verdict::Denied), self.youngest(&theirs.session))
    }

    /// Those of the resource and what it is in, and those of the grant that asks least.
    fn obligations(&self, allows: &[&Grant], people: &[&str], operation: &str, path: &str) -> Result<Verdict, Refused> {
        let reads = self.service.operations.iter().any(|o| o.name.value == operation && o.reads.as_ref().is_some_and(|r| r.value));
        let of_resources = || self.service.resources.iter().filter(|r| !reads && within(path, &r.path.value)).map(|r| &r.after);
        let all = of_resources().chain(allows.iter().map(|g| &g.after));
        let ages: Vec<SignedDuration> = all.filter_map(|a| a.prove_again.as_ref()).map(|a| a.value).collect();
        let line = format!("{operation} on {path}");
        let mut worst = Ok(Verdict::Allowed);
        for after in of_resources() {
            worst = worse(worst, self.duties(after, people, &ages, &line));
        }
        let least = allows.iter().map(|g| self.duties(&g.after, people, &ages, &line)).min_by_key(rank);
        least.map_or(worst.clone(), |least| worse(worst, least))
    }

    fn duties(&self, after: &Obligations, people: &[&str], ages: &[SignedDuration], line: &str) -> Result<Verdict, Refused> {
        let session = self.session();
        let mut asks = after.confirm.is_some() && !session.confirmed && !self.agrees;
        if let Some(age) = &after.prove_again {
            asks |= self.youngest(session).is_none_or(|youngest| youngest > age.value);
        }
        if let Some(first) = after.second_person.first().filter(|_| !self.agrees) {
            let named = |user: &str| first.value == "anyone" || after.second_person.iter().any(|p| self.is_in(user, &p.value));
            match &session.approved_by {
                None => {
                    let could = |user: &&std::sync::Arc<User>| {
                        let id = user.id.value.as_str();
                        let now = user.proofs.iter().map(|p| Proven::new(p.value, SignedDuration::ZERO)).collect();
                        !people.contains(&id) && named(id) && self.agrees(id, Some(now), line).0 == Verdict::Allowed
                    };
                    if !self.estate.users().iter().any(|u| could(&u)) {
                        return Err(vec![Refusal::NobodyCan]);
                    }
                    asks = true;
                }
                Some(second) if people.contains(&second.as_str()) => return Err(vec![Refusal::SamePerson]),
                Some(second) => {
                    let (verdict, youngest) = self.agrees(second, session.approver_proofs.clone(), line);
                    let proven = ages.iter().all(|age| youngest.is_some_and(|y| y <= *age));
                    if !named(second) || verdict != Verdict::Allowed || !proven {
                        return Err(vec![Refusal::NotEntitled]);
                    }
                }
            }
        }
        Ok(if asks { Verdict::AllowedAfter } else { Verdict::Allowed })
    }
}

fn rank(outcome: &Result<Verdict, Refused>) -> u8 {
    match outcome {
        Ok(Verdict::Allowed) => 0,
        Ok(_) => 1,
        Err(_) => 2,
    }
}

fn worse(one: Result<Verdict, Refused>, other: Result<Verdict, Refused>) -> Result<Verdict, Refused> {
    match (one, other) {
        (Err(mut codes), Err(more)) => {
            codes.extend(more);
            Err(codes)
        }
        (one, other) => {
            if rank(&one) >= rank(&other) {
                one
            } else {
                other
            }
        }
    }
}

/// The codes of conditions that do not hold.
fn failures() -> Refused {
    vec![
        Refusal::NotStated,
        Refusal::AssignmentNotValid,
        Refusal::OriginOutside,
        Refusal::ChannelOutside,
        Refusal::ProofMissing,
        Refusal::AttributesDiffer,
        Refusal::GrantLifted,
    ]
}

fn within(path: &str, container: &str) -> bool {
    path == container || path.starts_with(&format!("{container}/"))
}

/// Whether a pattern covers a path: it matches the path itself or a container it is in.
fn covers(pattern: &str, path: &str) -> bool {
    let parts: Vec<&str> = pattern.trim_end_matches("**").trim_end_matches('/').split('/').filter(|p| !p.is_empty()).collect();
    let path: Vec<&str> = path.split('/').collect();
    parts.len() <= path.len() && parts.iter().zip(&path).all(|(want, word)| *want == "*" || want == word)
}
