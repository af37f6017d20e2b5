//! A host's own configuration: rules for `sudo`, and for the sign-in by OpenSSH.

use std::fmt::Write as _;

use super::{Context, argv};
use crate::engine::Engine;
use crate::estate::{HostAccountLinks, UserId};

/// What a host is told so that it plays by the ledger.
#[derive(Clone, Debug, PartialEq, Eq)]
#[non_exhaustive]
pub struct HostConfiguration {
    /// For `sudo`: who may run what as which account.
    pub run_as: String,
    /// For OpenSSH: which accounts can be signed in with, and from where.
    pub sign_in: String,
    /// For each account that can be signed in with, the users whose keys open it.
    pub keys_of: Vec<(String, Vec<String>)>,
}

/// Returns the configuration of a host; nothing for a system of another kind.
///
/// # Example
/// ```
/// use zest_ledger::{Engine, Ledger, host_configuration};
/// let estate = Ledger::new().document("hosts.toml", r#"
/// [users.op-1]
/// [systems.runner]
/// kind = "host"
/// no-command-set = "everything"
/// [command-sets.nightly]
/// rules = ["allow /usr/local/bin/nightly {word}"]
/// [hosts.runner]
/// accounts = { op-1 = {}, batch = { shell = "/usr/sbin/nologin" } }
/// run-as = [{ by = ["user:op-1"], as = ["batch"], commands = ["nightly"], proof = false }]
/// "#).estate()?;
/// let told = host_configuration(&Engine::compile(estate)?, "runner").expect("it is a host");
/// assert!(told.run_as.contains("op-1 ALL = (batch) NOPASSWD: NOSETENV: /usr/local/bin/nightly ^"));
/// assert!(told.sign_in.contains("AllowUsers op-1") && !told.sign_in.contains("batch"));
/// # Ok::<(), zest_ledger::finding::Findings>(())
/// ```
#[must_use]
pub fn host_configuration(engine: &Engine, system: &str) -> Option<HostConfiguration> {
    let context = Context::of(engine, *engine.estate.system_ids.get(system)?)?;
    let users = || engine.estate.users().iter().enumerate().filter(|(_, u)| !u.disabled.as_ref().is_some_and(|d| d.value));
    let keys_of =
        |index: usize| users().filter(|&(i, _)| context.may_use(UserId::new(i), index)).map(|(_, u)| u.id.value.clone()).collect();
    let accounts = context.links.accounts.iter().enumerate().filter(|(_, a)| is_open(a));
    Some(HostConfiguration {
        run_as: run_as_rules(context),
        sign_in: sign_in_rules(context),
        keys_of: accounts.map(|(i, a)| (a.login.clone(), keys_of(i))).collect(),
    })
}

fn is_open(account: &HostAccountLinks) -> bool {
    account.locked.is_none() && account.has_shell()
}

/// Returns the file that tells `sudo` who may run what as which account.
///
/// `sudo` lets the last match decide, so the rules stand in reverse order.
fn run_as_rules(context: Context<'_>) -> String {
    let links = context.links;
    let system = &context.engine.estate.system(context.system).id.value;
    let mut out = format!(
        "# {system}: who may run what as which account. Written by zest; the last rule that matches decides.\n\
         Defaults env_reset, !setenv, !env_editor, ignore_dot, timestamp_type = tty\n\
         Defaults timestamp_timeout = {}\n\
         Defaults !env_keep, !env_check\n",
        links.proof_lasts.map_or(0, |l| l.as_secs() / 60)
    );
    for name in &links.keep_environment {
        let _ = writeln!(out, "Defaults env_keep += \"{}\"", name.value);
    }
    for from in 0..links.accounts.len() {
        for to in 0..links.accounts.len() {
            let rules = context.rules(from, to);
            if rules.is_empty() {
                continue;
            }
            let (who, whom) = (&links.accounts[from].login, &links.accounts[to].login);
            let _ = writeln!(out, "\n# {who} as {whom}");
            for rule in rules.iter().rev() {
                let commands = match rule.rule {
                    None => vec!["ALL".to_owned()],
                    Some(flat) => match argv::told(&flat.pattern) {
                        Ok(commands) => commands,
                        Err(why) => {
                            let _ = writeln!(out, "# left out, since {why}: {} {}", flat.verb.word(), flat.text.value.replace('\n', " "));
                            continue;
                        }
                    },
                };
                for command in commands {
                    let proof = if rule.proof { "PASSWD" } else { "NOPASSWD" };
                    let environment = if rule.any_environment { "SETENV" } else { "NOSETENV" };
                    let not = if rule.allows { "" } else { "!" };
                    let _ = writeln!(out, "{who} ALL = ({whom}) {proof}: {environment}: {not}{command}");
                }
            }
        }
    }
    out
}

/// Returns the file that tells OpenSSH which accounts can be signed in with, and from where.
fn sign_in_rules(context: Context<'_>) -> String {
    let system = &context.engine.estate.system(context.system).id.value;
    let mut out = format!("# {system}: which accounts can be signed in with. Written by zest.\n");
    let mut allowed = Vec::new();
    for account in context.links.accounts.iter().filter(|a| is_open(a)) {
        match &account.origin {
            None => allowed.push(account.login.clone()),
            Some(networks) => allowed.extend(networks.0.iter().map(|(net, _)| format!("{}@{}", account.login, net.trunc()))),
        }
    }
    if allowed.is_empty() {
        out.push_str("DenyUsers *\n");
    }
    for pattern in allowed {
        let _ = writeln!(out, "AllowUsers {pattern}");
    }
    out.push_str("PermitUserEnvironment no\n");
    out
}
