//! Replays the committed corpora of the fuzz targets: what once was found stays mended.

use std::path::Path;

use zest_ledger::command::{Pattern, read_line};
use zest_ledger::{Engine, Ledger, Question};

use crate::support::{PIER, engine};

fn corpus(name: &str) -> Vec<(String, Vec<u8>)> {
    let folder = Path::new(env!("CARGO_MANIFEST_DIR")).join("../../fuzz/corpus").join(name);
    let files = std::fs::read_dir(&folder).unwrap_or_else(|e| panic!("{}: {e}", folder.display()));
    let read = |entry: std::fs::DirEntry| (entry.path().display().to_string(), std::fs::read(entry.path()).expect("a file"));
    let all: Vec<_> = files.flatten().map(read).collect();
    assert!(all.len() >= 10, "the corpus {name} has only {} inputs", all.len());
    all
}

#[test]
fn documents() {
    for (_, bytes) in corpus("documents") {
        let validated = Ledger::new().document_bytes("ledger.toml", &bytes).validate();
        if let Some(Ok(engine)) = validated.estate.map(Engine::compile) {
            let _ = engine.ask(&Question::new("watch-1", "switch", "show release"));
        }
    }
}

#[test]
fn interfaces() {
    for (name, bytes) in corpus("interfaces") {
        for form in ["sky.openapi.json", "sky.openapi.yaml"] {
            let found = Ledger::new().document_bytes(form, &bytes).validate().findings;
            assert!(found.list().iter().all(|f| f.primary.as_ref().is_none_or(|l| found.sources().locate(l.place).line > 0)), "{name}");
        }
    }
}

#[test]
fn patterns() {
    for (name, bytes) in corpus("patterns") {
        let Ok(text) = std::str::from_utf8(&bytes) else { continue };
        match Pattern::parse(text) {
            Ok(pattern) => assert_eq!(Pattern::parse(&pattern.to_string()), Ok(pattern), "{name}"),
            Err(error) => assert!(text.get(error.span).is_some(), "{name}"),
        }
    }
}

#[test]
fn lines() {
    let engine = engine(PIER);
    for (name, bytes) in corpus("lines") {
        let Ok(text) = std::str::from_utf8(&bytes) else { continue };
        let question = Question::new("watch-1", "switch", text);
        let decision = engine.decide(&question);
        assert_eq!(decision.verdict, engine.explain(&question).verdict, "{name}");
        assert!(read_line(text).is_ok() || decision.refusal.is_some(), "{name}: an unreadable line was allowed");
    }
}
