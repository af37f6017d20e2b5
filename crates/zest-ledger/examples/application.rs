//! An application built in code: a second person, and acting in another's name.

#![allow(clippy::disallowed_macros, clippy::disallowed_methods, clippy::disallowed_types, reason = "only the core itself must be pure")]

use zest_ledger::entry::{Grant, Kind, ObjectType, Obligations, Proof, Resource, Service, System, User};
use zest_ledger::review::session;
use zest_ledger::{Engine, Ledger, Question};

fn main() -> Result<(), Box<dyn std::error::Error>> {
    let person = |id: &str| User::new(id).proof(Proof::Password);
    let ramp = ObjectType::new("ramp").right("view").right("lower").looks("view").after(Obligations::second_person("anyone"));
    let linkspan = Service::new("linkspan")
        .object_type(ramp)
        .resource(Resource::new("ramp/selkie-1"))
        .grant(Grant::allow(&["view", "lower"]).on("ramp/*").to("user:mate-1").to("user:mate-2"))
        .acting("user:mate-1", &["user:deputy-1"]);
    let ledger = Ledger::new()
        .user(person("mate-1"))
        .user(person("mate-2"))
        .user(person("deputy-1"))
        .system(System::of_kind("linkspan", Kind::APPLICATION))
        .service(linkspan);
    let engine = Engine::compile(ledger.estate()?)?;
    let lower = |user: &str| Question::new(user, "linkspan", "lower on ramp/selkie-1");
    let deputy = || lower("deputy-1").acting("user:mate-1".parse().expect("a link"));
    for question in [
        lower("mate-1"),
        lower("mate-1").approved_by("mate-1"),
        lower("mate-1").approved_by("mate-2"),
        lower("deputy-1"),
        deputy().approved_by("mate-1"),
        deputy().approved_by("mate-2"),
    ] {
        let answer = engine.ask(&question);
        let second = question.session.approved_by.as_deref().unwrap_or("nobody");
        println!("{}, with {second}: {}", session(&engine, &question).line, answer.verdict.word());
    }
    Ok(())
}
