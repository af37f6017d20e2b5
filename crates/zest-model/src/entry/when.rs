//! Conditions and obligations as they are written: each key once, with what it may hold and what it is for.

use jiff::SignedDuration;

use super::{Channel, Proof, builders};
use crate::shape::{Among, HOURS, NETWORKS, SECONDS, Shape, TEXTS};
use crate::source::At;
use crate::written::table;

table! {
    /// The conditions of an assignment; all that are given must hold.
    ///
    /// # Example
    /// ```
    /// use zest_ledger::entry::{Proof, When};
    /// let when = When::new().origin("192.0.2.0/26").hours("06:00-22:00", "Europe/Oslo").proof(Proof::OneTimeCode);
    /// assert!(when.hours.is_some());
    /// ```
    When, WHEN: "a condition", "The conditions of an assignment. What the question does not state never holds.",
        &[Among::With("proof-age", "proof"), Among::With("proof-older", "proof")];

    /// Networks the session comes from: an address, a network or `origin:ID`.
    origin: Vec<At<String>> = "origin", NETWORKS, "where the session comes from: addresses, networks, \"origin:ID\"";
    /// Time of day, `HH:MM-HH:MM`, end exclusive; may run over midnight.
    hours: Option<At<String>> = "hours", HOURS, "time of day, \"HH:MM-HH:MM\", end exclusive; may run over midnight";
    /// Days of the week on which it holds: `mon` to `sun`.
    days: Vec<At<String>> = "days", Shape::List(&Shape::Words(&["mon", "tue", "wed", "thu", "fri", "sat", "sun"])),
        "days on which it holds; hours over midnight belong to the day on which they begin";
    /// The zone of hours and days.
    zone: Option<At<String>> = "zone", Shape::Text, "the zone of hours and days, such as \"Europe/Oslo\"; UTC unless stated";
    /// Channels the session comes through.
    channel: Vec<At<Channel>> = "channel", Shape::List(&Shape::Words(Channel::WORDS)), "channels the session comes through";
    /// Proofs of identity, each of which is enough.
    proof: Vec<At<Proof>> = "proof", Shape::List(&Shape::Words(Proof::WORDS)), "proofs of identity, each of which is enough";
    /// How old the proof may be, inclusive.
    proof_age: Option<At<SignedDuration>> = "proof-age", Shape::Length, "how old the proof may be, inclusive";
    /// How old the proof must be at least: it was given longer ago than this.
    proof_older: Option<At<SignedDuration>> = "proof-older", Shape::Length,
        "the proof was given longer ago than this; fails where there is none";
    /// Comparisons of attributes: `user.pier = resource.pier`, `resource.class != 'sealed'`.
    compare: Vec<At<String>> = "compare", TEXTS, "comparisons: \"user.pier = resource.pier\", \"resource.class != 'sealed'\"";
}

impl When {
    /// Makes conditions that always hold.
    #[must_use]
    pub fn new() -> Self {
        Self::default()
    }

    /// Limits the time of day, `HH:MM-HH:MM`, in a zone.
    #[track_caller]
    #[must_use]
    pub fn hours(mut self, hours: &str, zone: &str) -> Self {
        self.hours = Some(At::here(hours.to_owned()));
        self.zone = Some(At::here(zone.to_owned()));
        self
    }

    builders! {
        /// Adds a network the session may come from.
        origin(network: &str) => origin adds network.to_owned();
        /// Adds a channel the session may come through.
        channel(channel: Channel) => channel adds channel;
        /// Adds a proof that is enough.
        proof(proof: Proof) => proof adds proof;
        /// Limits how old the proof may be.
        proof_age(age: SignedDuration) => proof_age sets age;
        /// Wants the proof to be older than this.
        proof_older(age: SignedDuration) => proof_older sets age;
        /// Adds a comparison of attributes.
        compare(text: &str) => compare adds text.to_owned();
    }
}

table! {
    /// What must be done before an allowed line takes effect.
    ///
    /// # Example
    /// ```
    /// use zest_ledger::entry::{Grant, Obligations};
    /// let grant = Grant::allow(&["lower"]).on("ramp/*").to("group:deck").after(Obligations::second_person("group:leads"));
    /// assert_eq!(grant.after.second_person[0].value, "group:leads");
    /// assert!(Obligations::default().is_empty() && !grant.after.is_empty());
    /// ```
    Obligations, AFTER: "an obligation", "What must be done before an allowed line takes effect.", &[];

    /// The user confirms.
    confirm: Option<At<bool>> = "confirm", Shape::Flag, "the user confirms";
    /// Identity was proven at most this long ago.
    prove_again: Option<At<SignedDuration>> = "prove-again", Shape::Length, "identity was proven at most this long ago";
    /// One of these, different from the user, agrees: `user:ID` or `group:ID`; on clouds and in applications also `anyone` who is entitled.
    second_person: Vec<At<String>> = "second-person", SECONDS,
        "one of these, different from the user, agrees: \"user:ID\" or \"group:ID\"; on clouds and in applications also \"anyone\" who is entitled";
}

impl Obligations {
    /// Wants the user to confirm.
    #[track_caller]
    #[must_use]
    pub fn confirm() -> Self {
        Self { confirm: Some(At::here(true)), ..Self::default() }
    }

    /// Wants a second person to agree: `user:ID`, `group:ID`, or in an application `anyone` who is entitled.
    #[track_caller]
    #[must_use]
    pub fn second_person(party: &str) -> Self {
        Self { second_person: vec![At::here(party.to_owned())], ..Self::default() }
    }
}
