//! From what a statement touches to what a server checks for it.

use sqlparser::ast::{Function, Statement};

use super::footprint::{Call, Dialect, Footprint, Names, Use, Walker};

/// Makes checks of the relations and routines that a statement touches.
pub(crate) trait Touches: Names + Sized {
    /// Whose SQL it is.
    const DIALECT: Dialect;

    /// All that a walk names was found, and nothing of it is checked yet.
    fn all_are_found(&mut self);

    /// Checks how a relation is used that was found by name.
    fn on_relation(&mut self, used: &Use);

    /// Checks the call of a function, or of a procedure.
    fn on_routine(&mut self, call: &Call, is_procedure: bool);

    /// Checks what looking up the name of a function needs that is not called.
    fn on_name_of_routine(&mut self, call: &Call);

    /// Checks what came up on a walk besides relations and routines.
    fn at_end(&mut self);

    /// Notes what is not known.
    fn undecided(&mut self, why: String);

    /// Returns whether what is walked is the body of a routine.
    fn in_body(&self) -> bool;

    /// Checks all that a statement touches.
    fn walk(&mut self, statement: &Statement) {
        self.touched(false, |walker| {
            walker.statement(statement);
        });
    }

    /// Checks all that the call of a procedure touches; the procedure comes behind its arguments.
    fn call(&mut self, procedure: &Function) {
        self.touched(true, |walker| walker.call(procedure));
    }

    /// Checks what a walk comes across; the last routine is a procedure where one is called.
    fn touched(&mut self, is_call: bool, walk: impl FnOnce(&mut Walker<'_>)) {
        let in_body = self.in_body();
        let mut walker = Walker::new(Self::DIALECT, self, in_body);
        walk(&mut walker);
        let Footprint { uses, calls, undecided } = walker.footprint;
        undecided.into_iter().for_each(|why| self.undecided(why));
        self.all_are_found();
        uses.iter().for_each(|used| self.on_relation(used));
        for (i, call) in calls.iter().enumerate() {
            let is_procedure = is_call && i + 1 == calls.len();
            if call.is_run { self.on_routine(call, is_procedure) } else { self.on_name_of_routine(call) }
        }
        self.at_end();
    }

    /// Notes that nothing is known of a form of statement.
    fn not_known(&mut self, statement: &Statement) {
        let head = statement.to_string().split_whitespace().take(2).collect::<Vec<_>>().join(" ");
        self.undecided(format!("what `{head} …` needs is not known here"));
    }
}
