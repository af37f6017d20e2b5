//! Reviews of hosts: what somebody may run there, and what is odd.

use crate::engine::Engine;
use crate::entry::Otherwise;
use crate::estate::{Party, SetId, SystemId, UserId};
use crate::finding::{Code, Finding};
use crate::kind::host::Context;
use crate::source::{Location, Place, visible};

/// What a user may do on a host, from one account.
#[derive(Clone, Debug, PartialEq, Eq)]
#[non_exhaustive]
pub struct OnHost {
    /// The account the user signs in with.
    pub account: String,
    /// Why nobody signs in with it.
    pub refused: Option<String>,
    /// Lines that may be run as other accounts, in the order in which they are tried.
    pub rules: Vec<HostRule>,
}

/// A rule about lines that may be run as another account.
#[derive(Clone, Debug, PartialEq, Eq)]
#[non_exhaustive]
pub struct HostRule {
    /// As which account.
    pub target: String,
    /// Whether it permits.
    pub allows: bool,
    /// The line as a pattern; `...` for all others.
    pub line: String,
    /// Whether identity must be proven.
    pub proof: bool,
    /// Where it is written.
    pub location: Location,
}

/// Returns what a user may do on a host, from each account that is the user's.
pub(crate) fn on_host(engine: &Engine, user: UserId, system: SystemId) -> Vec<OnHost> {
    let Some(context) = Context::of(engine, system) else { return Vec::new() };
    of_user(context, user).map(|from| on_account(context, from)).collect()
}

/// Returns whether a user has an account on a host.
pub(crate) fn has_account(engine: &Engine, user: UserId, system: SystemId) -> bool {
    Context::of(engine, system).is_some_and(|context| of_user(context, user).next().is_some())
}

fn of_user(context: Context<'_>, user: UserId) -> impl Iterator<Item = usize> {
    (0..context.links.accounts.len()).filter(move |&account| context.may_use(user, account))
}

fn on_account(context: Context<'_>, from: usize) -> OnHost {
    let accounts = &context.links.accounts;
    let account = &accounts[from];
    let refused = if account.locked.is_some() {
        Some("it is locked".to_owned())
    } else if account.is_limited() {
        Some("only certain lines may be run as it, from the own account".to_owned())
    } else if account.shell_refuses() {
        Some(format!("its login shell is `{}`", visible(&account.shell)))
    } else {
        None
    };
    let mut rules = Vec::new();
    for (to, target) in accounts.iter().enumerate() {
        for rule in context.rules(from, to) {
            rules.push(HostRule {
                target: target.login.clone(),
                allows: rule.allows,
                line: rule.rule.map_or_else(|| "...".to_owned(), |r| r.text.value.clone()),
                proof: rule.proof,
                location: context.engine.estate.sources.locate(rule.place),
            });
        }
    }
    OnHost { account: account.login.clone(), refused, rules }
}

/// Adds what is odd about hosts.
pub(crate) fn review(engine: &Engine, findings: &mut Vec<Finding>) {
    for i in 0..engine.estate.systems.len() {
        let Some(context) = Context::of(engine, SystemId::new(i)) else { continue };
        let links = context.links;
        let permits_all = |sets: &[SetId]| {
            sets.iter().any(|s| {
                let links = &engine.estate.sets[s.index()];
                let is_any = |r: &crate::estate::FlatRule| r.verb == crate::entry::RuleVerb::Allow && r.pattern.words().is_empty();
                links.otherwise == Otherwise::Allow || links.rules.first().is_some_and(is_any)
            })
        };
        for rule in links.run_as.iter().filter(|r| permits_all(&r.sets)) {
            let names: Vec<String> = rule.targets.iter().map(|&t| format!("`{}`", visible(&links.accounts[t].login))).collect();
            findings.push(
                Finding::new(Code::RunAnything, format!("anything at all may be run as {}", names.join(", ")))
                    .at(rule.place, "whoever may do this is that account")
                    .help("list the lines that are needed; a deny before an allow of everything is easily walked around"),
            );
        }
        for job in &links.jobs {
            let account = &links.accounts[job.runs_as];
            let is_it = |party: Party| {
                let owner = context.owner(job.runs_as);
                owner.is_some_and(|u| party == Party::User(u)) || account.used_by.iter().any(|&(p, _)| p == party)
            };
            let others: Vec<(Party, Place)> = job.edited_by.iter().copied().filter(|&(p, _)| !is_it(p)).collect();
            if let Some(&(party, place)) = others.first() {
                let who = visible(&engine.estate.party(party));
                findings.push(
                    Finding::new(
                        Code::JobEditorBecomes,
                        format!("`{who}` may edit the job `{}`, and so run anything as `{}`", visible(&job.name), visible(&account.login)),
                    )
                    .at(place, "becomes the account")
                    .also(account.place, "this account")
                    .help("let only those edit it who may be the account, or have it run as one with fewer rights"),
                );
            }
        }
    }
}
