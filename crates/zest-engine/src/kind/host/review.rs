//! Reviews of hosts: what somebody may run there, and what is odd.

use jiff::Timestamp;
use rustc_hash::FxHashSet;

use super::Context;
use super::rights::of_slot;
use crate::engine::Engine;
use crate::links::{FlatRule, Party, SetId, SystemId, UserId};
use zest_command::{Slot, WordPattern, line};
use zest_model::entry::{Otherwise, RuleVerb};
use zest_model::finding::{Code, Finding};
use zest_model::source::{Place, visible};

/// Returns whether a user has an account on a host.
pub(crate) fn has_account(engine: &Engine, user: UserId, system: SystemId) -> bool {
    Context::of(engine, system).is_some_and(|context| of_user(context, user).next().is_some())
}

fn of_user(context: Context<'_>, user: UserId) -> impl Iterator<Item = usize> {
    (0..context.links.accounts.len()).filter(move |&account| context.may_use(user, account))
}

/// Adds what is odd about hosts.
pub(crate) fn review(engine: &Engine, at: Option<Timestamp>, findings: &mut Vec<Finding>) {
    let mut seen: FxHashSet<Place> = FxHashSet::default();
    for i in 0..engine.estate.systems.len() {
        let Some(context) = Context::of(engine, SystemId::new(i)) else { continue };
        let links = context.links;
        let system = engine.estate.system(context.system);
        for rule in &links.run_as {
            let Some(what) = anything(engine, &rule.sets) else { continue };
            let names: Vec<String> = rule.targets.ones().map(|t| format!("`{}`", visible(&links.accounts[t].login))).collect();
            findings.push(
                Finding::new(Code::RunAnything, format!("anything at all may be run as {}{}", names.join(", "), what.by()))
                    .at(rule.place, "whoever may do this is that account")
                    .help("list the lines that are needed; a deny before an allow of everything is easily walked around"),
            );
        }
        ways_to_root(context, findings);
        for set in links.sets() {
            passed_denies(context, set, &mut seen, findings);
        }
        for name in links.keep_environment.iter().filter(|n| runs_anything(&n.value)) {
            findings.push(
                Finding::new(
                    Code::VariableRunsAnything,
                    format!("the variable `{}` can make a program run anything", visible(&name.value)),
                )
                .at(name.place, "handed over to whatever runs as another account")
                .help("take it out; what a program needs of it can stand in a file of the other account"),
            );
        }
        for (account, until) in
            links.accounts.iter().filter_map(|a| Some((a, a.until.as_ref()?))).filter(|(_, u)| at.is_some_and(|at| at >= u.value))
        {
            findings.push(
                Finding::new(Code::Expired, format!("the account `{}` was good until {}", visible(&account.login), until.value))
                    .at(until.place, "past")
                    .help("take it out, or extend the date"),
            );
        }
        let now = at.unwrap_or(Timestamp::MIN);
        let is_shut = (0..links.accounts.len()).all(|account| context.who_signs_in(account, now).next().is_none());
        if at.is_some() && is_shut && !links.accounts.is_empty() {
            findings.push(
                Finding::new(Code::NobodySignsIn, format!("nobody can sign in on `{}`", visible(&system.id.value)))
                    .at(system.id.place, "every account is locked, limited, over, or of somebody who is gone")
                    .help("give somebody who is there an account with a shell"),
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

/// Programs that run whatever they are told: shells, interpreters, and what starts one.
const RUNS_ANYTHING: [&str; 34] = [
    "sh", "bash", "dash", "ash", "ksh", "mksh", "zsh", "csh", "tcsh", "fish", "busybox", "python", "python2", "python3", "perl", "ruby",
    "node", "lua", "php", "tclsh", "awk", "gawk", "mawk", "env", "nice", "nohup", "xargs", "find", "vi", "vim", "emacs", "sudo", "su",
    "pkexec",
];

/// Variables by which a program, its loader or its interpreter can be made to run what somebody wrote.
fn runs_anything(variable: &str) -> bool {
    const NAMES: [&str; 28] = [
        "PATH",
        "IFS",
        "ENV",
        "BASH_ENV",
        "BASHOPTS",
        "SHELLOPTS",
        "PS4",
        "PROMPT_COMMAND",
        "CDPATH",
        "SHELL",
        "EDITOR",
        "VISUAL",
        "PAGER",
        "MANPAGER",
        "BROWSER",
        "LESSOPEN",
        "LESSCLOSE",
        "SUDO_ASKPASS",
        "SSH_ASKPASS",
        "NODE_OPTIONS",
        "NODE_PATH",
        "RUBYOPT",
        "RUBYLIB",
        "JAVA_TOOL_OPTIONS",
        "_JAVA_OPTIONS",
        "CLASSPATH",
        "GCONV_PATH",
        "HOSTALIASES",
    ];
    const BEGINNINGS: [&str; 7] = ["LD_", "DYLD_", "PYTHON", "PERL", "GIT_", "BASH_FUNC", "LUA_"];
    NAMES.contains(&variable) || BEGINNINGS.iter().any(|b| variable.starts_with(b))
}

/// How command sets let anything at all run.
enum Anything {
    /// By a pattern or by what a set says of other lines.
    Plain,
    /// By a program that runs whatever it is told.
    Program(String),
}

impl Anything {
    fn by(&self) -> String {
        match self {
            Self::Plain => String::new(),
            Self::Program(name) => format!(" by `{}`", visible(name)),
        }
    }
}

/// Says how command sets let anything at all run, if they do: a deny before it is easily walked around.
fn anything(engine: &Engine, sets: &[SetId]) -> Option<Anything> {
    let of_rule = |rule: &FlatRule| {
        let Some(WordPattern::Fixed(programs)) = rule.pattern.words().first() else {
            return rule.pattern.words().is_empty().then_some(Anything::Plain);
        };
        let rest = &rule.pattern.words()[1..];
        let takes_more = rule.pattern.is_open() || rest.iter().any(|w| matches!(w, WordPattern::Slot(Slot::Word | Slot::Affix(..))));
        let runs = |program: &&String| {
            let name = program.rsplit('/').next().unwrap_or(program).trim_end_matches(|c: char| c.is_ascii_digit() || c == '.');
            // A shell without arguments waits for what is typed.
            RUNS_ANYTHING.contains(&name) && (takes_more || rest.is_empty())
        };
        programs.iter().find(runs).map(|p| Anything::Program(p.clone()))
    };
    sets.iter().find_map(|s| {
        let links = &engine.estate.sets[s.index()];
        let by_rule = links.rules.iter().filter(|r| r.verb == RuleVerb::Allow).find_map(of_rule);
        by_rule.or((links.otherwise == Otherwise::Allow).then_some(Anything::Plain))
    })
}

/// Jobs whose editors come to run anything as root: by the account the job runs as, and whatever that may become.
fn ways_to_root(context: Context<'_>, findings: &mut Vec<Finding>) {
    let (engine, links) = (context.engine, context.links);
    let Some(&root) = links.logins.get("root") else { return };
    let name = |account: usize| format!("`{}`", visible(&links.accounts[account].login));
    // Which accounts may run anything as which others.
    let becomes = |from: usize, to: usize| {
        let rules = context.rules(from, to);
        let sets: Vec<SetId> = rules.iter().filter_map(|r| r.rule).map(|r| r.home).collect();
        (rules.iter().any(|r| r.rule.is_none() && r.allows) || anything(engine, &sets).is_some()).then(|| rules[0].place)
    };
    for job in &links.jobs {
        let mut ways: Vec<Vec<(usize, Option<Place>)>> = vec![vec![(job.runs_as, None)]];
        let mut seen = vec![job.runs_as];
        let mut found = None;
        while let Some(way) = (!ways.is_empty()).then(|| ways.remove(0)) {
            let &(last, _) = way.last().expect("a way has a start");
            if last == root {
                found = Some(way);
                break;
            }
            for to in 0..links.accounts.len() {
                if !seen.contains(&to)
                    && let Some(place) = becomes(last, to)
                {
                    seen.push(to);
                    ways.push(way.iter().copied().chain([(to, Some(place))]).collect());
                }
            }
        }
        let Some(way) = found else { continue };
        let editors: Vec<String> = job.edited_by.iter().map(|&(p, _)| format!("`{}`", visible(&engine.estate.party(p)))).collect();
        let own = context.owner(root);
        let Some(&(_, place)) = job.edited_by.iter().find(|&&(p, _)| own.is_none_or(|u| p != Party::User(u))) else { continue };
        let steps: Vec<String> = way.iter().skip(1).map(|&(a, _)| format!("may run anything as {}", name(a))).collect();
        let then = if steps.is_empty() { String::new() } else { format!(", which {}", steps.join(", which ")) };
        let mut finding = Finding::new(
            Code::WayToRoot,
            format!("{} may edit the job `{}`, which runs as {}{then}", editors.join(", "), visible(&job.name), name(job.runs_as)),
        )
        .at(place, "one way to root")
        .also(job.place, "this job");
        for &(_, step) in way.iter().skip(1) {
            finding = finding.also(step.unwrap_or(job.place), "anything at all, by this rule");
        }
        findings.push(finding.help("let only those edit it who may be root, or narrow the rule to the lines that the job needs: allow = \"/full/path/of/program {word}\""));
    }
}

/// Denies with a slot, where a later rule lets through what no slot takes: an argument with `..` or a blank in it.
fn passed_denies(context: Context<'_>, set: SetId, seen: &mut FxHashSet<Place>, findings: &mut Vec<Finding>) {
    let links = &context.engine.estate.sets[set.index()];
    for (i, deny) in links.rules.iter().enumerate().filter(|(_, r)| r.verb == RuleVerb::Deny) {
        let words = deny.pattern.words();
        let is_loose = |w: &WordPattern| matches!(w, WordPattern::Slot(Slot::Word | Slot::Affix(..)));
        let Some(slot) = words.iter().position(is_loose) else { continue };
        let example: Option<Vec<String>> = words
            .iter()
            .enumerate()
            .map(|(n, word)| match word {
                WordPattern::Fixed(list) => list.first().cloned(),
                WordPattern::Slot(Slot::Affix(start, end)) if n == slot => Some(format!("{start}../x{end}")),
                WordPattern::Slot(_) if n == slot => Some("../x".to_owned()),
                WordPattern::Slot(slot) => of_slot(slot).into_iter().next(),
            })
            .collect();
        let Some(example) = example else { continue };
        // An earlier deny may catch it, and so may a later one before it is let through.
        let first = context.first_rule(links, &example.iter().map(String::as_str).collect::<Vec<_>>());
        let is_passed = match first {
            Some(number) => number > i && links.rules[number].verb == RuleVerb::Allow,
            None => links.otherwise == Otherwise::Allow,
        };
        if is_passed && seen.insert(deny.text.place) {
            let text = visible(&deny.text.value);
            let line = visible(&line::join(example.iter().map(String::as_str)));
            let mut finding = Finding::new(Code::DenyPassed, format!("the rule `deny {text}` does not catch `{line}`"))
                .at(deny.text.place, "a slot never takes an argument with `..` or a blank");
            if let Some(later) = first {
                finding = finding.also(links.rules[later].text.place, "which this lets through");
            }
            findings.push(finding.help("write `...` in the place of the slot, or allow only what is needed"));
        }
    }
}
