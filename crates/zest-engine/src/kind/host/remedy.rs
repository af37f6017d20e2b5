//! What could be changed about a refusal of a host.

use super::{Context, argv};
use crate::engine::ways::{Asked, Way, lent, way};
use zest_command::line::{self, read_arguments};
use zest_command::{Pattern, WordPattern};
use zest_model::ask::{Act, Answer, Change, Refusal, Running, Stage, Width};
use zest_model::source::visible;
use zest_words::nearest;

/// How many accounts or lines are tried.
const TRIED: usize = 6;

/// Ways on from one refusal.
pub(super) fn ways(asked: &Asked<'_>, answer: &Answer, refusal: Refusal, context: Context<'_>) -> Vec<Way> {
    Host { asked, answer, context }.ways(refusal)
}

struct Host<'a> {
    asked: &'a Asked<'a>,
    answer: &'a Answer,
    context: Context<'a>,
}

impl Host<'_> {
    fn ways(&self, refusal: Refusal) -> Vec<Way> {
        let links = self.context.links;
        let question = self.asked.question;
        let chain = &question.session.acting;
        let account = self.answer.account.as_deref().and_then(|l| links.logins.get(l)).map(|&i| &links.accounts[i]);
        let cut = |n: usize| {
            way(Change::Acting(chain[..n].to_vec()), if n == 0 { "in their own name" } else { "with the chain cut short" }, None)
        };
        match refusal {
            Refusal::CentralDownNoAccount => vec![way(Change::CentralUp, "once the central source is up again", None)],
            Refusal::AccountLocked => account
                .map(|a| {
                    way(
                        Change::UnlockAccount { system: self.asked.on(), login: a.login.clone() },
                        format!("if the account `{}` were not locked", visible(&a.login)),
                        a.locked,
                    )
                })
                .into_iter()
                .collect(),
            Refusal::CredentialExpired => account
                .and_then(|a| a.until.as_ref())
                .map(|u| way(Change::Prolong { at: self.asked.locate(u.place) }, "if the account were good at that time", Some(u.place)))
                .into_iter()
                .collect(),
            Refusal::CredentialMustChange => {
                let user = self.asked.engine.estate.user(self.asked.user);
                let text = format!("once `{}` has changed the credential", visible(&user.id.value));
                vec![way(
                    Change::CredentialChanged { user: self.asked.name() },
                    text,
                    user.must_change_credential.as_ref().map(|m| m.place),
                )]
            }
            Refusal::ChannelNotAllowed | Refusal::ProofNotAccepted => self.asked.accepted(refusal),
            Refusal::OriginNotAdmitted => self.origin(),
            Refusal::NotStated if self.asked.lacks_channel() => self.asked.accepted(Refusal::ChannelNotAllowed),
            Refusal::NotStated => self.origin().into_iter().chain(self.moment()).chain(self.asked.person_facts()).collect(),
            Refusal::SeveralAccounts | Refusal::AccountLimited | Refusal::NoAccount => self.accounts(refusal),
            Refusal::ShellRefuses if self.refused_at_entry() => self.accounts(refusal),
            Refusal::ShellRefuses => {
                let direct: Vec<Act> = chain.iter().map(direct).collect();
                vec![way(Change::Acting(direct), "running the line as the account, without its shell", None), cut(0)]
            }
            Refusal::ActingLoop => (1..chain.len()).map(cut).take(2).collect(),
            Refusal::ActingNotKnown => vec![cut(0)],
            Refusal::UnknownActingIdentity => {
                let near = |act: &Act| match act {
                    Act::Account { host, login, running } if !links.logins.contains_key(login.as_str()) => {
                        let near = nearest(login, links.logins.keys().map(|k| &**k)).unwrap_or(login);
                        Act::Account { host: host.clone(), login: near.to_owned(), running: running.clone() }
                    }
                    act => act.clone(),
                };
                let changed: Vec<Act> = chain.iter().map(near).collect();
                let text = changed.iter().map(ToString::to_string).collect::<Vec<_>>().join(", ");
                vec![way(Change::Acting(changed), text, None), cut(0)]
            }
            Refusal::ProgramNotFull => self.full_programs(),
            Refusal::JoinedArguments => {
                let words = read_arguments(&question.line)
                    .map(|w| w.iter().flat_map(|w| w.split_whitespace()).map(str::to_owned).collect::<Vec<_>>());
                let apart = words.map(|w| w.join(" ")).unwrap_or_default();
                vec![way(Change::Line(apart.clone()), format!("as `{}`, each word an argument of its own", visible(&apart)), None)]
            }
            Refusal::EnvironmentNotKept => {
                let words = read_arguments(&question.line).unwrap_or_default();
                let rest = line::join(argv::read(&words).words.iter().copied());
                vec![way(Change::Line(rest.clone()), format!("as `{}`, without variables", visible(&rest)), None)]
            }
            Refusal::NotPermitted | Refusal::DeniedByRule => self.permit(refusal),
            _ => Vec::new(),
        }
    }

    fn refused_at_entry(&self) -> bool {
        self.answer.first_refusal().is_some_and(|g| g.stage == Stage::Entry)
    }

    fn origin(&self) -> Vec<Way> {
        let links = self.context.links;
        let account = self.answer.account.as_deref().and_then(|l| links.logins.get(l)).map(|&i| &links.accounts[i]);
        let first = account.and_then(|a| a.origin.as_ref()).and_then(|o| o.first());
        first.map(|a| way(Change::Origin(a), format!("from {a}"), None)).into_iter().collect()
    }

    fn moment(&self) -> Vec<Way> {
        let links = self.context.links;
        let account = self.answer.account.as_deref().and_then(|l| links.logins.get(l)).map(|&i| &links.accounts[i]);
        let until = account.and_then(|a| a.until.as_ref()).filter(|_| self.asked.question.session.at.is_none());
        until.and_then(|u| self.asked.with_time(None, Some(u.value))).into_iter().collect()
    }

    /// With another account, or from the own one with the refused one as a link, or if one might be used.
    fn accounts(&self, refusal: Refusal) -> Vec<Way> {
        let links = self.context.links;
        let name = &self.asked.engine.estate.user(self.asked.user).id.value;
        let mut ways = Vec::new();
        if refusal == Refusal::AccountLimited
            && let (Some(login), true) = (&self.answer.account, links.logins.contains_key(name.as_str()))
        {
            let mut question = self.asked.question.clone();
            question.session.acting.insert(0, Act::Account { host: None, login: login.clone(), running: Running::TheLine });
            let text = format!("from their own account, as account {}", visible(login));
            // Two changes that only make sense together are one way.
            ways.push(way(Change::FromOwn { account: name.clone(), acting: question.session.acting }, text, None));
        }
        let accounts = || self.context.free(self.asked.user);
        for account in accounts().filter(|a| Some(&a.login) != self.answer.account.as_ref()).take(TRIED) {
            ways.push(way(Change::Account(account.login.clone()), format!("with the account `{}`", visible(&account.login)), None));
        }
        if refusal == Refusal::NoAccount {
            for account in accounts().filter(|a| a.has_shell()).take(TRIED) {
                let text = format!("if `{}` might use the account `{}`", visible(name), visible(&account.login));
                let change = Change::UseAccount { system: self.asked.on(), account: account.login.clone(), user: self.asked.name() };
                let width = lent(account.used_by.iter().map(|&(party, _)| party), &account.login, &self.asked.name());
                ways.push(Way { width, ..way(change, text, Some(account.place)) });
            }
        }
        ways
    }

    /// Programs of the rules that have the name that was typed.
    fn full_programs(&self) -> Vec<Way> {
        let estate = &self.asked.engine.estate;
        let words = read_arguments(&self.asked.question.line).unwrap_or_default();
        let argv = argv::read(&words);
        let Some(typed) = argv.words.first() else { return Vec::new() };
        let mut found: Vec<&str> = Vec::new();
        for rule in estate.sets.iter().flat_map(|s| &s.rules) {
            if let Some(WordPattern::Fixed(programs)) = rule.pattern.words().first() {
                found.extend(programs.iter().map(String::as_str).filter(|p| p.rsplit('/').next() == Some(typed) && p.starts_with('/')));
            }
        }
        found.sort_unstable();
        found.dedup();
        let say = |program: &str| {
            let line = line::join(std::iter::once(program).chain(argv.words[1..].iter().copied()));
            way(Change::Line(line.clone()), format!("as `{}`", visible(&line)), None)
        };
        found.into_iter().take(TRIED).map(say).collect()
    }

    /// As another account that may be used for it, or if a set that applies also allowed it.
    fn permit(&self, refusal: Refusal) -> Vec<Way> {
        let links = self.context.links;
        let question = self.asked.question;
        let mut ways = Vec::new();
        if let Some((Act::Account { running, .. }, before)) = question.session.acting.split_last() {
            let accounts = || self.context.free(self.asked.user);
            for account in accounts().filter(|a| Some(&a.login) != self.answer.account.as_ref()).take(TRIED) {
                let act = Act::Account { host: None, login: account.login.clone(), running: running.clone() };
                if question.session.acting.last() != Some(&act) {
                    let text = act.to_string();
                    ways.push(way(Change::Acting(before.iter().cloned().chain([act]).collect()), text, None));
                }
            }
            ways.push(way(Change::Acting(Vec::new()), "in their own name", None));
        }
        let words = read_arguments(&question.line).unwrap_or_default();
        let argv = argv::read(&words);
        let pattern = Pattern::literal(argv.words.iter().copied()).to_string();
        let from = self.answer.account.as_deref().and_then(|l| links.logins.get(l)).copied();
        let to = question
            .session
            .acting
            .iter()
            .find_map(|a| if let Act::Account { login, .. } = a { links.logins.get(login.as_str()).copied() } else { None });
        let Some((from, to)) = from.zip(to) else { return ways };
        let estate = &self.asked.engine.estate;
        let mut sets: Vec<crate::links::SetId> = self.context.rules(from, to).iter().filter_map(|r| r.rule).map(|r| r.home).collect();
        sets.dedup();
        for set in sets.into_iter().take(2) {
            let id = &estate.set(set).id;
            let text = format!("if command set `{}` also allowed `{}`", visible(&id.value), visible(&pattern));
            let allow = way(Change::AllowFirst { set: id.value.clone(), pattern: pattern.clone() }, text, Some(id.place));
            ways.push(allow.of_width_if(Width::WiderThanNeeded, refusal == Refusal::DeniedByRule));
        }
        ways
    }
}

/// A link without a shell: the line itself runs as the account.
fn direct(act: &Act) -> Act {
    match act {
        Act::Account { host, login, running: Running::LoginShell } => {
            Act::Account { host: host.clone(), login: login.clone(), running: Running::TheLine }
        }
        act => act.clone(),
    }
}
