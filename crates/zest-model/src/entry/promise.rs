//! Promises: statements over everybody, every session and every action.

use jiff::Timestamp;

use super::expectation::{IN_SESSION, InSession};
use super::when::WHEN;
use super::{When, builders};
use crate::shape::{Among, PARTIES, Shape, TEXTS};
use crate::source::{At, Place};
use crate::written::table;

table! {
    /// Somebody of whom a promise need not hold, for a while.
    ///
    /// # Example
    /// ```
    /// use zest_ledger::Ledger;
    /// let text = r#"
    /// users.mate-1.proofs = ["password"]
    /// systems.rota.kind = "application"
    /// [[promises]]
    /// never = ["plan on **"]
    /// on = ["rota"]
    /// exceptions = [{ who = ["user:mate-1"], because = "until the new rota is in use", until = 2026-12-31 }]
    /// "#;
    /// let estate = Ledger::new().document("rota.toml", text).estate()?;
    /// let exception = &estate.entries().promises[0].exceptions[0];
    /// assert_eq!(exception.because.as_ref().map(|because| because.value.as_str()), Some("until the new rota is in use"));
    /// # Ok::<(), zest_ledger::finding::Findings>(())
    /// ```
    Exception {
        /// Where it is written.
        place: Place,
    }, EXCEPTION: "an exception", "Somebody of whom a promise need not hold, for a while, and why.", &[];

    /// Who.
    who: Vec<At<String>> = required "who", PARTIES, "who: \"user:ID\" or \"group:ID\"";
    /// Why.
    because: Option<At<String>> = required "because", Shape::Text, "why";
    /// First moment at which it is over.
    until: Option<At<Timestamp>> = required "until", Shape::Moment, "when it is over: a date is good through its last moment, UTC";
}

table! {
    /// A way to the top of a system that is meant: nobody needs to be told of it.
    ///
    /// # Example
    /// ```
    /// use zest_ledger::Ledger;
    /// let text = r#"
    /// users.net-lead.proofs = ["password"]
    /// [systems.desk]
    /// kind = "application"
    /// [[meant-ways]]
    /// who = ["user:net-lead"]
    /// because = "whoever owns the group of administrators may join it"
    /// "#;
    /// assert_eq!(Ledger::new().document("people.toml", text).estate()?.entries().meant_ways.len(), 1);
    /// # Ok::<(), zest_ledger::finding::Findings>(())
    /// ```
    MeantWay {
        /// Where it is written.
        place: Place,
    }, MEANT_WAY: "a way that is meant", "People who are meant to be able to come to the top of a system by acts that give more, and why.", &[];

    /// Who.
    who: Vec<At<String>> = required "who", PARTIES, "who: \"user:ID\" or \"group:ID\"";
    /// On which systems, by id; on all unless stated.
    on: Vec<At<String>> = "on", TEXTS, "system ids; all unless stated";
    /// Why.
    because: Option<At<String>> = required "because", Shape::Text, "why it is meant";
    /// First moment at which it is over.
    until: Option<At<Timestamp>> = "until", Shape::Moment, "when it is over: a date is good through its last moment, UTC";
}

table! {
    /// A statement over everybody, every session and every action: proved, refuted by an example, or not proved.
    ///
    /// # Example
    /// ```
    /// use zest_ledger::{Engine, Ledger, entry::Promise, promise::{Standing, promises}};
    /// let text = r#"
    /// [users.mate-1]
    /// proofs = ["password"]
    /// [systems.rota]
    /// kind = "application"
    /// [applications.rota]
    /// types.shift.rights = ["plan", "drop"]
    /// objects."shift/early" = {}
    /// grants = [{ allow = ["plan"], on = "shift/*", to = ["user:mate-1"] }]
    /// "#;
    /// let ledger = Ledger::new().document("rota.toml", text).promise(Promise::never("drop on **")).promise(Promise::never("plan on **"));
    /// let found = promises(&Engine::compile(ledger.estate()?)?, jiff::Timestamp::UNIX_EPOCH);
    /// assert_eq!(found.iter().map(|one| one.standing).collect::<Vec<_>>(), [Standing::Proved, Standing::Refuted]);
    /// # Ok::<(), zest_ledger::finding::Findings>(())
    /// ```
    Promise {
        /// Where it is written.
        place: Place,
    }, PROMISE: "a promise", "A statement over everybody, every session and every action, which is proved or refuted by an example.",
        &[Among::One(&["never", "never-both", "no-way", "always", "whoever-may", "may", "each-right-of"]), Among::With("longer-than-days", "never"), Among::With("whoever-may", "also-may"), Among::With("also-may", "whoever-may")];

    /// What it is called.
    name: Option<At<String>> = "name", Shape::Text, "what it is called";
    /// Whom it is about; everybody unless stated, and every account of a database server that nobody stands behind.
    of: Vec<At<String>> = "of", PARTIES, "whom it is about; everybody unless stated";
    /// Of whom it is not.
    but: Vec<At<String>> = "but", PARTIES, "of whom it is not";
    /// On which systems, by id; on all unless stated.
    on: Vec<At<String>> = "on", TEXTS, "system ids; all unless stated";
    /// Facts that the sessions state.
    session: InSession = "session", IN_SESSION, "facts that sessions state, or a session by its name; all sessions unless stated";
    /// Sessions in which this holds are not meant.
    unless: When = "unless", Shape::Table(&WHEN), "sessions in which this holds are not meant";
    /// Patterns of what nobody may, in any session.
    never: Vec<At<String>> = "never", TEXTS, "patterns of what nobody may in any session: \"show settings ...\", \"hulls.* on lanternsound/**\", \"drop on table *\"";
    /// After how many days nobody may it any more; never at all unless stated.
    longer_than_days: Option<At<u32>> = "longer-than-days", Shape::Whole(0, 36_500), "with `never`: nobody may it for longer than so many days from the moment of the review";
    /// Patterns of which nobody may two, be it in different sessions.
    never_both: Vec<At<String>> = "never-both", TEXTS, "patterns of which nobody may what two of them take, be it in different sessions";
    /// Patterns to which no way leads: no acts by which somebody could come to more, and no right of their own.
    no_way: Vec<At<String>> = "no-way", TEXTS, "patterns of what nobody comes to, by their own rights or by acts that give more (see `zest ways`)";
    /// Lines that everybody may, in every session that starts by itself and can be opened.
    always: Vec<At<String>> = "always", TEXTS, "lines that everybody may in every session that can be opened and starts by itself";
    /// Patterns: whoever may something of that…
    whoever_may: Vec<At<String>> = "whoever-may", TEXTS, "patterns: whoever may something that one of them takes …";
    /// … may also something of this.
    also_may: Vec<At<String>> = "also-may", TEXTS, "… may also something that one of these takes";
    /// Patterns of what some people may, on each system.
    may: Vec<At<String>> = "may", TEXTS, "patterns of what a number of people may, on each system";
    /// Roles of which each right is held by a number of people, on each system.
    each_right_of: Vec<At<String>> = "each-right-of", TEXTS, "role ids: each right of them is held by a number of people, on each system";
    /// How many at least; one unless something is stated.
    at_least: Option<At<u32>> = "at-least", Shape::Whole(0, 1_000_000), "how many people may at least, on each system; 1 unless at-most is stated";
    /// How many at most.
    at_most: Option<At<u32>> = "at-most", Shape::Whole(0, 1_000_000), "how many people may at most, on each system";
    /// Those of whom it need not hold for a while.
    exceptions: Vec<Exception> = "exceptions", Shape::List(&Shape::Table(&EXCEPTION)), "those of whom it need not hold for a while";
    /// Why it was given.
    because: Option<At<String>> = "because", Shape::Text, "why it was given";
}

impl Promise {
    /// Promises that nobody may anything that a pattern takes.
    #[track_caller]
    #[must_use]
    pub fn never(pattern: &str) -> Self {
        let mut promise = Self::at(Place::here());
        promise.never.push(At::here(pattern.to_owned()));
        promise
    }

    builders! {
        /// Says whom it is about: `user:ID` or `group:ID`.
        of(party: &str) => of adds party.to_owned();
        /// Says of whom it is not.
        but(party: &str) => but adds party.to_owned();
        /// Says on which system.
        on(system: &str) => on adds system.to_owned();
    }
}
