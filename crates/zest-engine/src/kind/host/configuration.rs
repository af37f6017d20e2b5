//! A host's own configuration: rules for `sudo`, and for the sign-in by OpenSSH.

use std::fmt::{self, Write as _};

use jiff::{Timestamp, ToSpan, tz::TimeZone};

use super::{Context, argv};
use crate::engine::Engine;
use crate::links::UserId;
use zest_model::entry::{Channel, Proof};
use zest_model::source::{Location, visible};

/// What a host is told so that it plays by the ledger.
///
/// # Example
/// ```
/// use zest_ledger::{Ledger, host_configuration};
/// let text = r#"
/// users.op-1.proofs = ["key"]
/// systems.runner = { kind = "host", no-command-set = "nothing" }
/// [hosts.runner.accounts]
/// op-1 = { shell = "/bin/bash" }
/// "#;
/// let engine = Ledger::new().document("hosts.toml", text).engine(1)?;
/// let told = host_configuration(&engine, "runner", "2026-11-27T08:00:00Z".parse().expect("a moment")).expect("it can be told");
/// assert!(told.sign_in.contains("op-1"));
/// # Ok::<(), zest_ledger::finding::Findings>(())
/// ```
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

/// How many rules are written for one host at most.
const MOST_RULES: usize = 100_000;

/// Why a host cannot be told the ledger's rules.
///
/// # Example
/// ```
/// use zest_ledger::{Engine, Ledger, Untold, host_configuration};
/// let estate = Ledger::new().document("rota.toml", "systems.rota.kind = 'application'\n").estate()?;
/// let at = "2026-11-27T08:00:00Z".parse().expect("a moment");
/// let untold = host_configuration(&Engine::compile(estate)?, "rota", at).expect_err("it is no host");
/// assert_eq!(untold, Untold::NotAHost);
/// # Ok::<(), zest_ledger::finding::Findings>(())
/// ```
#[derive(Clone, Debug, PartialEq, Eq)]
#[non_exhaustive]
pub enum Untold {
    /// The system is not a host of the ledger.
    NotAHost,
    /// Nobody could sign in any more.
    NobodySignsIn,
    /// A deny cannot be written, and leaving it out would let through what it refuses.
    Deny {
        /// The rule.
        rule: String,
        /// Why it cannot be written.
        why: &'static str,
        /// Where it stands.
        location: Location,
    },
    /// There are more rules than `sudo` could read at each call.
    TooMany {
        /// How many lines are written at most.
        most: usize,
    },
}

impl fmt::Display for Untold {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Self::NotAHost => f.write_str("it is not a host of the ledger"),
            Self::TooMany { most } => {
                write!(
                    f,
                    "it takes more than {most} rules of `sudo`, which reads them all at each call: run as fewer accounts, or by groups"
                )
            }
            Self::NobodySignsIn => f.write_str("nobody could sign in on it at that moment: everybody would be locked out"),
            Self::Deny { rule, why, location } => {
                write!(f, "the rule `deny {rule}` ({location}) cannot be told, since {why}; without it more would be allowed")
            }
        }
    }
}

impl std::error::Error for Untold {}

/// Returns the configuration of a host as it is at a moment: people who are gone, or not yet there, and accounts that are over
/// are left out; ends to come are written where the host can keep them, and said where it cannot.
///
/// # Errors
/// Where it is no host, where nobody could sign in any more, and where a deny cannot be written.
///
/// # Example
/// ```
/// use zest_ledger::{Engine, Ledger, host_configuration};
/// let estate = Ledger::new().document("hosts.toml", r#"
/// [users.op-1]
/// proofs = ["key"]
/// [users.op-2]
/// proofs = ["key"]
/// disabled = true
/// [systems.runner]
/// kind = "host"
/// no-command-set = "everything"
/// [command-sets.nightly]
/// rules = ["allow /usr/local/bin/nightly {word}"]
/// [hosts.runner]
/// accounts = { op-1 = {}, op-2 = {}, batch = { shell = "/usr/sbin/nologin" } }
/// run-as = [{ by = ["user:op-1", "user:op-2"], as = ["batch"], commands = ["nightly"], proof = false }]
/// "#).estate()?;
/// let at = "2026-11-27T08:00:00Z".parse().expect("a moment");
/// let told = host_configuration(&Engine::compile(estate)?, "runner", at).expect("it is a host");
/// assert!(told.run_as.contains("op-1 ALL = (batch) NOPASSWD: NOSETENV: /usr/local/bin/nightly ^"));
/// assert!(!told.run_as.contains("op-2 ALL"), "op-2 is disabled");
/// assert!(told.sign_in.contains("AllowUsers op-1") && !told.sign_in.contains("batch"));
/// # Ok::<(), zest_ledger::finding::Findings>(())
/// ```
pub fn host_configuration(engine: &Engine, system: &str, at: Timestamp) -> Result<HostConfiguration, Untold> {
    let context = engine.estate.names.systems.get(system).and_then(|&id| Context::of(engine, id)).ok_or(Untold::NotAHost)?;
    let accounts = &context.links.accounts;
    let name = |id: UserId| engine.estate.user(id).id.value.clone();
    let keys_of: Vec<(String, Vec<String>)> = accounts
        .iter()
        .enumerate()
        .map(|(i, account)| (account.login.clone(), context.who_signs_in(i, at).map(name).collect::<Vec<_>>()))
        .filter(|(_, users)| !users.is_empty())
        .collect();
    if keys_of.is_empty() && !accounts.is_empty() {
        return Err(Untold::NobodySignsIn);
    }
    Ok(HostConfiguration { run_as: run_as_rules(context, at)?, sign_in: sign_in_rules(context, at), keys_of })
}

/// Returns the file that tells `sudo` who may run what as which account.
///
/// `sudo` lets the last match decide, so the rules stand in reverse order.
fn run_as_rules(context: Context<'_>, at: Timestamp) -> Result<String, Untold> {
    let links = context.links;
    let estate = &context.engine.estate;
    let system = &estate.system(context.system).id.value;
    let mut out = format!(
        "# {system}: who may run what as which account, at {at}. Written by zest; the last rule that matches decides.\n\
         Defaults env_reset, !setenv, !env_editor, ignore_dot, timestamp_type = tty\n\
         Defaults timestamp_timeout = {}\n\
         Defaults !env_keep, !env_check\n",
        links.proof_lasts.map_or(0, |l| l.as_secs() / 60)
    );
    for name in &links.keep_environment {
        let _ = writeln!(out, "Defaults env_keep += \"{}\"", name.value);
    }
    let mut lines = 0;
    for (from, account) in links.accounts.iter().enumerate() {
        if context.is_dead(from, at) {
            let has_rules = (0..links.accounts.len()).any(|to| !context.rules(from, to).is_empty());
            if has_rules {
                let _ = writeln!(out, "\n# left out: nobody is behind {} any more", account.login);
            }
            continue;
        }
        // The last second at which an allow holds: a deny needs no end.
        let end = context.ends(from).map(|end| end.to_zoned_datetime(TimeZone::UTC) - 1.second());
        let end = end.map_or(String::new(), |last| format!("NOTAFTER={} ", last.strftime("%Y%m%d%H%M%SZ")));
        for to in 0..links.accounts.len() {
            let rules = context.rules(from, to);
            if rules.is_empty() {
                continue;
            }
            let (who, whom) = (&account.login, &links.accounts[to].login);
            let _ = writeln!(out, "\n# {who} as {whom}");
            for rule in rules.iter().rev() {
                let commands = match rule.rule {
                    None => vec!["ALL".to_owned()],
                    Some(flat) => match argv::told(&flat.pattern) {
                        Ok(commands) => commands,
                        Err(why) if rule.allows => {
                            let _ = writeln!(out, "# left out, since {why}: {} {}", flat.verb.word(), flat.text.value.replace('\n', " "));
                            continue;
                        }
                        Err(why) => {
                            let location = estate.sources.locate(flat.text.place);
                            return Err(Untold::Deny { rule: visible(&flat.text.value), why, location });
                        }
                    },
                };
                for command in commands {
                    lines += 1;
                    if lines > MOST_RULES {
                        return Err(Untold::TooMany { most: MOST_RULES });
                    }
                    let proof = if rule.proof { "PASSWD" } else { "NOPASSWD" };
                    let environment = if rule.any_environment { "SETENV" } else { "NOSETENV" };
                    let (not, end) = if rule.allows { ("", end.as_str()) } else { ("!", "") };
                    let _ = writeln!(out, "{who} ALL = ({whom}) {end}{proof}: {environment}: {not}{command}");
                }
            }
        }
    }
    Ok(out)
}

/// Returns the file that tells OpenSSH which accounts can be signed in with, and from where.
fn sign_in_rules(context: Context<'_>, at: Timestamp) -> String {
    let entry = context.engine.estate.system(context.system);
    let mut out = format!("# {}: which accounts can be signed in with, at {at}. Written by zest.\n", entry.id.value);
    let mut allowed = Vec::new();
    for (i, account) in context.links.accounts.iter().enumerate() {
        let people: Vec<UserId> = context.who_signs_in(i, at).collect();
        if people.is_empty() {
            continue;
        }
        match &account.origin {
            None => allowed.push(account.login.clone()),
            Some(networks) => allowed.extend(networks.0.iter().map(|(net, _)| format!("{}@{}", account.login, net.trunc()))),
        }
        // OpenSSH knows no end of an account, so the file says from when it admits too many.
        let ends = people.iter().filter_map(|&id| Some((context.engine.estate.user(id).until.as_ref()?.value, id)));
        let of_person = ends.min().map(|(end, id)| (end, context.engine.estate.user(id).id.value.clone()));
        let own = account.until.as_ref().map(|until| (until.value, account.login.clone()));
        if let Some((end, who)) = of_person.into_iter().chain(own).min() {
            let _ = writeln!(out, "# Too wide from {end} on: {who} is good until then; write the file anew at that moment.");
        }
    }
    if allowed.is_empty() {
        out.push_str("DenyUsers *\n");
    }
    for pattern in allowed {
        let _ = writeln!(out, "AllowUsers {pattern}");
    }
    if let Some((_, proofs)) = entry.accepts.iter().find(|(channel, _)| channel.value == Channel::Terminal) {
        let mut methods: Vec<&str> = proofs.iter().map(|p| method(p.value)).collect();
        methods.sort_unstable();
        methods.dedup();
        let _ = writeln!(out, "AuthenticationMethods {}", methods.join(" "));
    }
    out.push_str("PermitUserEnvironment no\n");
    out
}

/// How OpenSSH calls a way to prove identity (`sshd_config(5)`, `AuthenticationMethods`).
const fn method(proof: Proof) -> &'static str {
    match proof {
        Proof::Key | Proof::Certificate => "publickey",
        Proof::Password | Proof::Directory => "password",
        Proof::OneTimeCode => "keyboard-interactive",
    }
}
