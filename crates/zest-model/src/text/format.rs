//! The ledger format, version 1: the tables of a document. What they may hold is described with each entry.

use crate::entry::shapes::{
    APPLICATION, ASSIGNMENT, CLOUD, COMMAND_SET, CREDENTIAL_RULE, DATABASE, EXPECTATION, FACTS, GROUP, HOST, MEANT_WAY, ORIGIN, PROMISE,
    ROLE, SEPARATION, SYSTEM, USER, VOCABULARY,
};
use crate::shape::{Key, Shape, TableShape};

/// A whole document.
pub(crate) static DOCUMENT: TableShape = TableShape {
    noun: "a document",
    about: "One document of a ledger. A ledger is a folder of such documents; entries may be split over them in any way.",
    rules: &[],
    keys: &[
        Key::new("format", Shape::Whole(1, i64::MAX), "the version of the ledger format; 1"),
        Key::new("users", Shape::Map(&Shape::Table(&USER)), "people and programs, by id"),
        Key::new("groups", Shape::Map(&Shape::Table(&GROUP)), "sets of users and groups, by id"),
        Key::new("origins", Shape::Map(&Shape::Table(&ORIGIN)), "named networks that sessions come from, by id"),
        Key::new("systems", Shape::Map(&Shape::Table(&SYSTEM)), "managed targets, by id"),
        Key::new("vocabularies", Shape::Map(&Shape::Table(&VOCABULARY)), "the commands that a make of device knows, by id"),
        Key::new("command-sets", Shape::Map(&Shape::Table(&COMMAND_SET)), "ordered rules over command lines, by id"),
        Key::new("roles", Shape::Map(&Shape::Table(&ROLE)), "bundles of rights, by id"),
        Key::new("assignments", Shape::List(&Shape::Table(&ASSIGNMENT)), "who gets which roles on which systems, under which conditions"),
        Key::new("databases", Shape::Map(&Shape::Table(&DATABASE)), "what database servers hold, by the id of the system"),
        Key::new("credential-rules", Shape::Map(&Shape::Table(&CREDENTIAL_RULE)), "what credentials must be like, by id"),
        Key::new("separations", Shape::Map(&Shape::Table(&SEPARATION)), "roles of which nobody may have two, by id"),
        Key::new("hosts", Shape::Map(&Shape::Table(&HOST)), "what hosts hold, by the id of the system"),
        Key::new("clouds", Shape::Map(&Shape::Table(&CLOUD)), "what clouds hold, by the id of the system"),
        Key::new("sessions", Shape::Map(&Shape::Table(&FACTS)), "sessions by name: the facts that a question states, by id"),
        Key::new("expectations", Shape::List(&Shape::Table(&EXPECTATION)), "recorded questions with the answer they must have"),
        Key::new("promises", Shape::List(&Shape::Table(&PROMISE)), "statements over everybody, every session and every action"),
        Key::new("meant-ways", Shape::List(&Shape::Table(&MEANT_WAY)), "who is meant to be able to come to the top of a system"),
        Key::new("applications", Shape::Map(&Shape::Table(&APPLICATION)), "what applications hold, by the id of the system"),
    ],
};
