//! Questions and answers: may this user do this there, now, and why?

mod act;
mod answer;
mod change;
mod cover;
mod database_remedy;
mod fact;
mod host_remedy;
mod remedy;
mod service_remedy;
mod session;

pub use act::{Act, Running};
pub use answer::{Answer, Decision, Gate, GateOutcome, Refusal, RuleRef, Stage, Verdict};
pub use change::Change;
pub(crate) use change::Narrowed;
pub use cover::{covered, is_secret_name};
pub use fact::{Fact, FactForm};
pub(crate) use remedy::remedies;
pub use remedy::{Remedy, Step};
pub use session::{Central, Form, Proven, Question, Session};
