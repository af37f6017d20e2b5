//! Hosts with their references followed.

use fixedbitset::FixedBitSet;
use rustc_hash::FxHashSet;

use super::argv;
use crate::links::resolve::Ground;
use crate::links::{Index, Networks, Party, Resolver, SetId, UserId, look_up};
use zest_model::entries::Entries;
use zest_model::entry::{self, RuleVerb};
use zest_model::finding::{Code, Finding};
use zest_model::source::{At, Place, visible};

/// What one host holds.
#[derive(Debug, Default)]
pub(crate) struct HostLinks {
    pub(crate) accounts: Vec<HostAccountLinks>,
    pub(crate) logins: Index<usize>,
    /// Accounts that are nobody's own, in order.
    pub(crate) shared: Vec<usize>,
    pub(crate) run_as: Vec<RunAsLinks>,
    pub(crate) jobs: Vec<JobLinks>,
    /// Directories that lead to others.
    pub(crate) links: Vec<(String, String)>,
    pub(crate) keep_environment: Vec<At<String>>,
    pub(crate) proof_lasts: Option<jiff::SignedDuration>,
}

impl HostLinks {
    /// Returns the command sets of accounts and of rules of running as another account; one may come several times.
    pub(crate) fn sets(&self) -> impl Iterator<Item = SetId> {
        let of_accounts = self.accounts.iter().flat_map(|a| a.commands.iter().chain(a.commands_of.iter().flat_map(|(_, s)| s)));
        of_accounts.chain(self.run_as.iter().flat_map(|r| &r.sets)).copied()
    }
}

/// An account of a host.
#[derive(Debug)]
pub(crate) struct HostAccountLinks {
    pub(crate) login: String,
    /// The user of the ledger whose own it is: the one of the same name.
    pub(crate) owner: Option<UserId>,
    pub(crate) shell: String,
    pub(crate) used_by: Vec<(Party, Place)>,
    pub(crate) origin: Option<Networks>,
    pub(crate) locked: Option<Place>,
    pub(crate) until: Option<At<jiff::Timestamp>>,
    pub(crate) commands: Vec<SetId>,
    pub(crate) commands_of: Vec<(Party, Vec<SetId>)>,
    pub(crate) proof: bool,
    pub(crate) place: Place,
}

impl HostAccountLinks {
    /// Returns whether only certain lines may be run as the account.
    pub(crate) const fn is_limited(&self) -> bool {
        !self.commands.is_empty() || !self.commands_of.is_empty()
    }

    /// Returns whether somebody can get a shell as the account: it is not limited, and its shell does not refuse.
    pub(crate) fn has_shell(&self) -> bool {
        !self.is_limited() && !self.shell_refuses()
    }

    /// Returns whether its shell refuses whoever logs in.
    pub(crate) fn shell_refuses(&self) -> bool {
        matches!(self.shell.rsplit('/').next(), Some("nologin" | "false"))
    }
}

#[derive(Debug)]
pub(crate) struct RunAsLinks {
    /// People who run it.
    pub(crate) by: Vec<Party>,
    /// Accounts that run it, by their numbers.
    pub(crate) by_accounts: FixedBitSet,
    /// The accounts that it is run as, by their numbers.
    pub(crate) targets: FixedBitSet,
    pub(crate) sets: Vec<SetId>,
    pub(crate) proof: bool,
    pub(crate) any_environment: bool,
    pub(crate) place: Place,
}

#[derive(Debug)]
pub(crate) struct JobLinks {
    pub(crate) name: String,
    pub(crate) runs_as: usize,
    pub(crate) edited_by: Vec<(Party, Place)>,
    pub(crate) place: Place,
}

/// Hosts
impl Resolver<'_> {
    /// Reports descriptions of hosts that are of no host.
    pub(super) fn are_hosts(&mut self, entries: &Entries) {
        for host in &entries.hosts {
            let Some(id) = look_up(&self.names.systems, "system", &host.system.value, host.system.place, self.findings) else { continue };
            let system = &entries.systems[id.index()];
            if system.kind() != entry::Kind::HOST {
                self.findings.push(
                    Finding::new(Code::HostWithoutSystem, format!("`{}` is no host", visible(&system.id.value)))
                        .at(host.system.place, "described here as one")
                        .also(system.id.place, "declared here")
                        .help("give the system the kind \"host\", or write the id of one that has it"),
                );
            }
        }
    }

    pub(super) fn host(&mut self, system: &entry::System, entries: &Entries) -> HostLinks {
        if system.no_command_set.is_none() {
            self.findings.push(
                Finding::new(Code::IncompleteSystem, format!("the host `{}` does not state `no-command-set`", visible(&system.id.value)))
                    .at(system.id.place, "`no-command-set` is missing")
                    .help("write no-command-set = \"everything\" (or \"nothing\"): what an account without a command set may run in its own shell is never guessed"),
            );
        }
        let parts: Vec<_> = entries.hosts.iter().filter(|h| h.system.value == system.id.value).collect();
        let mut links = HostLinks::default();
        for account in parts.iter().flat_map(|p| &p.accounts) {
            if let Some(&first) = links.logins.get(account.login.value.as_str()) {
                let first: &HostAccountLinks = &links.accounts[first];
                self.findings.push(
                    Finding::new(Code::DuplicateId, format!("the account `{}` is declared twice", visible(&account.login.value)))
                        .at(account.login.place, "declared again here")
                        .also(first.place, "first declared here")
                        .help("merge the two entries"),
                );
                continue;
            }
            if !argv::is_login(&account.login.value) {
                self.findings.push(
                    Finding::new(Code::BadName, format!("`{}` cannot be a login of a host", visible(&account.login.value)))
                        .at(account.login.place, "of letters, digits, `.`, `_` and `-`, beginning with a letter or `_`")
                        .help("write the login exactly as the host has it"),
                );
            } else if argv::is_reserved(&account.login.value) {
                self.findings.push(
                    Finding::new(Code::BadName, format!("`{}` cannot be a login of a host", visible(&account.login.value)))
                        .at(account.login.place, "`sudo` reads it as an alias, as everybody, or as a setting")
                        .help("give the account a login with a small letter in it"),
                );
            }
            let sets = |resolver: &mut Self, list: &[At<String>]| resolver.named_sets(list);
            links.logins.insert(account.login.value.as_str().into(), links.accounts.len());
            let commands_of = account.commands_of.iter().filter_map(|(who, list)| Some((self.party(who)?.0, sets(self, list)))).collect();
            let found = HostAccountLinks {
                login: account.login.value.clone(),
                owner: self.names.users.get(account.login.value.as_str()).copied(),
                shell: account.shell_path().to_owned(),
                used_by: self.parties(&account.used_by),
                origin: account.origin.as_ref().map(|list| self.origins(list)),
                locked: account.locked.as_ref().filter(|l| l.value).map(|l| l.place),
                until: account.until.clone(),
                commands: sets(self, &account.commands),
                commands_of,
                proof: account.proof.as_ref().is_none_or(|p| p.value),
                place: account.login.place,
            };
            if found.owner.is_none() {
                links.shared.push(links.accounts.len());
            }
            links.accounts.push(found);
        }
        for part in &parts {
            links.links.extend(part.links.iter().map(|(from, to)| (from.value.clone(), to.value.clone())));
            for name in part.keep_environment.iter().filter(|n| !argv::is_variable(&n.value)) {
                self.findings.push(
                    Finding::new(Code::BadName, format!("`{}` cannot be the name of a variable", visible(&name.value)))
                        .at(name.place, "of letters, digits and `_`, beginning with a letter or `_`")
                        .help("name each variable that is handed over; patterns would hand over more than anybody sees"),
                );
            }
            links.keep_environment.extend(part.keep_environment.iter().cloned());
            if let Some(lasts) = part.proof_lasts.as_ref().filter(|l| l.value.as_secs() % 60 != 0 || l.value.subsec_nanos() != 0) {
                self.findings.push(
                    Finding::new(Code::BadValue, "`proof-lasts` cannot be told to a host: it counts whole minutes")
                        .at(lasts.place, format!("this is {:#}", lasts.value))
                        .help("write whole minutes, such as \"2m\""),
                );
            }
            links.proof_lasts = part.proof_lasts.as_ref().map(|l| l.value).or(links.proof_lasts);
            for rule in &part.run_as {
                let mut by = Vec::new();
                let none = || FixedBitSet::with_capacity(links.accounts.len());
                let (mut by_accounts, mut targets) = (none(), none());
                for text in &rule.by {
                    match text.value.strip_prefix("account:") {
                        Some(login) => by_accounts.extend(look_up(&links.logins, "account", login, text.place, self.findings)),
                        None => by.extend(self.party(text).map(|(p, _)| p)),
                    }
                }
                for text in &rule.target {
                    targets.extend(look_up(&links.logins, "account", &text.value, text.place, self.findings));
                }
                links.run_as.push(RunAsLinks {
                    by,
                    by_accounts,
                    targets,
                    sets: self.named_sets(&rule.commands),
                    proof: rule.proof.as_ref().is_none_or(|p| p.value),
                    any_environment: rule.any_environment.as_ref().is_some_and(|e| e.value),
                    place: rule.place,
                });
            }
            for (path, who) in &part.writable_by {
                if !path.value.starts_with('/') {
                    let finding = Finding::new(Code::BadValue, format!("`{}` is no full path", visible(&path.value)));
                    self.findings.push(finding.at(path.place, "cannot be read").help("write the folder or file out: \"/opt/tides\""));
                }
                self.parties(who);
            }
            for job in &part.jobs {
                let account = job.runs_as.as_ref().and_then(|a| look_up(&links.logins, "account", &a.value, a.place, self.findings));
                let edited_by = self.parties(&job.edited_by);
                if let Some(runs_as) = account {
                    links.jobs.push(JobLinks { name: job.name.value.clone(), runs_as, edited_by, place: job.name.place });
                }
            }
        }
        links
    }

    fn named_sets(&mut self, list: &[At<String>]) -> Vec<SetId> {
        list.iter().filter_map(|text| look_up(&self.names.sets, "command set", &text.value, text.place, self.findings)).collect()
    }

    /// Reports rules of command sets that no host could be told.
    pub(super) fn host_rules<'h>(&mut self, hosts: impl Iterator<Item = &'h HostLinks>, ground: Ground<'_>) {
        let mut seen = FxHashSet::default();
        for host in hosts {
            for set in host.sets() {
                for rule in ground.new_rules(set).filter(|r| r.verb != RuleVerb::Include) {
                    if let Err(why) = argv::told(&rule.pattern)
                        && seen.insert(rule.text.place)
                    {
                        self.findings.push(
                            Finding::new(Code::HostCannotSay, format!("no host can be told the rule `{}`: {why}", visible(&rule.text.value)))
                                .at(rule.text.place, "in a set that a host uses")
                                .help("begin with the full path of one program; write words out, or use `{word}`, `{number}`, a short range, `*` within a name, `...` at the end"),
                        );
                    }
                }
            }
        }
    }
}
