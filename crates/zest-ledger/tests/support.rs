//! One small pier with a bit of everything, for tables of questions.

use std::collections::BTreeSet;

use zest_ledger::ask::{Answer, Refusal, Session, Verdict};
use zest_ledger::finding::{Code, Findings};
use zest_ledger::{Engine, Ledger, Question, Validated};
use zest_testkit::estates::{Source, with_twins};

/// A pier switch and a vessel router, six people, three command sets.
pub(crate) const PIER: &str = r#"
[users]
watch-1 = { proofs = ["password", "one-time-code"] }
watch-2 = { proofs = ["password"], channels = ["terminal"] }
lead-1 = { proofs = ["password", "key"] }
lead-2 = { proofs = ["password", "key"] }
gone-1 = { proofs = ["password"], disabled = true }
bare-1 = {}
short-1 = { proofs = ["password"], from = 2026-01-01, until = 2026-06-30 }
trainee-1 = { proofs = ["password"], must-change-credential = true }
alone-1 = { proofs = ["password"] }
limited-1 = { proofs = ["password"] }
setless-1 = { proofs = ["password"] }
bandless-1 = { proofs = ["password"] }

[groups]
watch = { members = ["user:watch-1", "user:watch-2", "user:gone-1", "user:bare-1", "user:short-1", "user:trainee-1"] }
leads = { members = ["user:lead-1", "user:lead-2"] }

[origins.watch-room]
networks = ["192.0.2.0/26", "2001:db8:10::/64"]

[vocabularies.make]
bare-elevation = "level-15"
start-mode = "deck"
modes = { deck = {}, settings = { configuration = true } }
commands = [
  { line = "leave", level = 0, does = "leave-session" },
  { line = "elevate", level = 0, does = "elevate" },
  { line = "elevate {level: 0-15}", level = 0, does = "elevate" },
  { line = "show level", level = 0, does = "show-level" },
  { line = "show release" },
  { line = "show paths" },
  { line = "show path to {address}" },
  { line = "show log", level = 7 },
  { line = "show settings live", level = 15 },
  { line = "zero tally", level = 7 },
  { line = "edit settings", level = 7, enters = "settings" },
  { line = "name {word}", in = ["settings"], level = 7 },
  { line = "back", in = ["settings"], level = 0, does = "leave-mode" },
  { line = "change passphrase", level = 0, does = "change-credential" },
  { line = "restart", level = 15 },
]

[command-sets.trace]
rules = [
  "deny  show settings live ...",
  "allow show ...",
  "allow elevate {1-7}",
  "allow change passphrase",
  "allow leave",
]

[command-sets.all]
rules = [{ allow = "restart", after = { confirm = true, prove-again = "10m", second-person = ["group:leads"] } }, "allow ..."]

[roles.tracer]
band = { start = 1, ceiling = 7 }
commands = ["trace"]

[roles.lead]
band = { start = 1, ceiling = 15 }
commands = ["all"]

[roles.setless]
band = { start = 1, ceiling = 1 }

[roles.bandless]
commands = ["trace"]

[systems.switch]
kind = "network-device"
labels = { class = "switch" }
vocabulary = "make"
no-command-set = "nothing"
authorisation = { levels = "all", configuration = true }
own-levels = [{ command = "show release", level = 3 }]
accounts.emergency = { band = { start = 15, ceiling = 15 }, used-by = ["group:leads"], origin = ["origin:watch-room"] }
accounts.locked = { band = { start = 1, ceiling = 1 }, used-by = ["user:watch-1"], locked = true }
accounts.unset = { band = { start = 1, ceiling = 1 }, used-by = ["user:watch-2"], credential = "missing" }

[systems.router]
kind = "network-device"
labels = { class = "router" }
vocabulary = "make"
no-command-set = "everything"
identity-sources = ["central", "local"]
when-central-down = "nothing"
name-case = "ignored"
authorisation = { levels = [15], configuration = false }
accounts.emergency = { band = { start = 15, ceiling = 15 }, used-by = ["group:leads"] }

[systems.island]
kind = "network-device"
vocabulary = "make"
no-command-set = "nothing"
identity-sources = ["local"]
accounts.lead-1 = { band = { start = 1, ceiling = 7 } }

[[assignments]]
to = ["group:watch"]
roles = ["tracer"]
on = { labels = { class = "switch" } }

[[assignments]]
to = ["group:leads"]
roles = ["lead"]
on = { labels = { class = ["switch", "router"] } }

[[assignments]]
to = ["user:limited-1"]
roles = ["tracer"]
on = { systems = ["switch"] }
from = 2026-02-01T00:00:00Z
until = 2026-12-31
when = { origin = ["origin:watch-room"], hours = "22:00-06:00", days = ["mon", "tue"], zone = "Europe/Oslo", channel = ["terminal"], proof = ["password"], proof-age = "1h" }

[[assignments]]
to = ["user:setless-1"]
roles = ["setless"]
on = { all = true }

[[assignments]]
to = ["user:bandless-1"]
roles = ["bandless"]
on = { all = true }
"#;

/// Compiles a ledger of one document.
pub(crate) fn engine(text: &str) -> Engine {
    let estate = Ledger::new().document("ledger.toml", text).estate().unwrap_or_else(|f| panic!("the ledger is not valid\n{f}"));
    Engine::compile(estate).unwrap_or_else(|f| panic!("the ledger does not compile\n{f}"))
}

/// The findings of a ledger of one document, errors of compiling included.
pub(crate) fn findings(text: &str) -> Findings {
    let validated = Ledger::new().document("ledger.toml", text).validate();
    match validated.estate.map(Engine::compile) {
        Some(Err(findings)) => findings,
        _ => validated.findings,
    }
}

/// The codes of findings, in order.
pub(crate) fn codes(findings: &Findings) -> Vec<Code> {
    findings.list().iter().map(|f| f.code).collect()
}

/// Asks, and checks that the bare decision says the same as the explained answer.
pub(crate) fn ask(engine: &Engine, question: &Question) -> Answer {
    let answer = engine.ask(question);
    let decision = engine.decide(question);
    assert_eq!((decision.verdict, decision.refusal), (answer.verdict, answer.refusal), "deciding and explaining differ for {question:?}");
    answer
}

/// `Ok` for allowed, `Err` with the code for refused; obligations count as `Ok` here.
pub(crate) fn outcome(answer: &Answer) -> Result<Verdict, Refusal> {
    answer.refusal.map_or(Ok(answer.verdict), Err)
}

/// A random estate with systems of all kinds, and a source of questions for it; nothing where what came out is not valid.
pub(crate) fn random(seed: u64) -> Option<(Source, Engine)> {
    random_as(seed, str::to_owned)
}

/// The same, in which everybody has twins.
pub(crate) fn random_with_twins(seed: u64) -> Option<(Source, Engine)> {
    random_as(seed, with_twins)
}

/// The same, in which these have twins as well.
pub(crate) fn random_with_many_twins(seed: u64) -> Option<(Source, Engine)> {
    random_as(seed, |text| with_twins(&with_twins(text)))
}

fn random_as(seed: u64, written: impl Fn(&str) -> String) -> Option<(Source, Engine)> {
    let mut source = Source::new(seed);
    let estate = Ledger::new().document("estate.toml", &written(&source.ledger())).estate().ok()?;
    Some((source, Engine::compile(estate).expect("a random estate compiles")))
}

/// Sets say nothing of facts by which obligations are discharged, of ends, and of proofs that were given elsewhere.
pub(crate) fn plain(mut question: Question) -> Question {
    let Session { confirmed, approved_by, approver_proofs, expires, proofs, .. } = &mut question.session;
    (*confirmed, *approved_by, *approver_proofs, *expires) = (false, None, None, None);
    proofs.iter_mut().flatten().for_each(|proven| proven.channel = None);
    question
}

/// Returns a ledger of a server, in which everybody who may sign in there is a user of that name, and what was found when it was read;
/// none where the server would refuse it.
pub(crate) fn served(document: &str, people: impl Iterator<Item = String>) -> Option<(Engine, Findings)> {
    let users: BTreeSet<String> = people.collect();
    let users: String = users.iter().map(|user| format!("[users.{user:?}]\nproofs = [\"password\"]\n")).collect();
    let Validated { estate, findings, .. } = Ledger::new().document("read.toml", document).document("users.toml", &users).validate();
    Some((Engine::compile(estate?).ok()?, findings))
}
