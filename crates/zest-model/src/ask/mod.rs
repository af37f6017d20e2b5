//! Questions and answers: may this user do this there, now, and why?

mod act;
mod answer;
mod change;
mod cover;
mod ear;
mod edit;
mod edited;
mod error;
mod fact;
mod remedy;
mod session;
mod stated;

pub use act::{Act, Running};
#[doc(hidden)]
pub use answer::STILL_SO;
pub use answer::{Answer, Decision, Gate, GateOutcome, Refusal, RuleRef, Stage, Verdict};
pub use change::Change;
pub(crate) use change::Fields;
pub use cover::{covered, is_secret_name};
#[doc(hidden)]
pub use ear::Ear;
pub use edit::{Conflict, Edit, How, Paste, Step as EditStep, Written};
pub use error::{EditError, FactError};
pub use fact::{Fact, FactForm};
pub use remedy::{Remedy, Step, Width};
pub use session::{Central, Form, Proven, Question, Session};
