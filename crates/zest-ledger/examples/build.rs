//! Builds a ledger in code, reviews it, and tries it as a user.
//!
//! Run it with `cargo run -p zest-ledger --example build`.

#![allow(clippy::disallowed_macros, clippy::disallowed_methods, clippy::disallowed_types, reason = "only the core itself must be pure")]

use zest_ledger::ask::Session;
use zest_ledger::entry::{Assignment, Command, CommandSet, Does, Group, On, Proof, Role, System, Unrestricted, User, Vocabulary};
use zest_ledger::rehearsal::Rehearsal;
use zest_ledger::{Engine, Ledger, review};

fn main() -> Result<(), zest_ledger::finding::Findings> {
    let ledger = Ledger::new()
        .user(User::new("watch-lead").proof(Proof::Password))
        .user(User::new("watch-1").proof(Proof::Password))
        .group(Group::new("shore-watch").member("user:watch-1").owner("user:watch-lead"))
        .vocabulary(
            Vocabulary::new("corvane-os")
                .command(Command::new("show paths"))
                .command(Command::new("zero tally").level(7))
                .command(Command::new("elevate {level: 0-15}").level(0).does(Does::Elevate))
                .command(Command::new("leave").level(0).does(Does::LeaveSession)),
        )
        .command_set(CommandSet::new("trace-only").allow("show paths").allow("zero ...").allow("elevate {1-7}"))
        .role(Role::new("pier-tracer").band(1, 7).commands("trace-only"))
        .system(
            System::network_device("sw-selkie-1", "corvane-os", Unrestricted::Nothing).label("class", "pier-switch").authorise_all_levels(),
        )
        .assignment(Assignment::new(On::label("class", "pier-switch")).to("group:shore-watch").role("pier-tracer"));

    let engine = Engine::compile(ledger.estate()?)?;
    println!("What is odd about it:");
    for finding in review::hygiene(&engine, None).list() {
        println!("  {} {}", finding.code, finding.message);
    }

    println!("Tried as watch-1:");
    let Ok(mut session) = Rehearsal::open(engine, "watch-1", "sw-selkie-1", Session::default()) else { return Ok(()) };
    for line in ["ze ta", "elevate 7", "ze ta", "leave"] {
        let typed = session.type_line(line);
        println!("  {line:<10} {}", typed.answer.refusal.map_or(typed.answer.verdict.word(), |r| r.code()));
    }
    Ok(())
}
