//! Which systems an option means: one, several, or all of a sort.

use anyhow::Result;
use zest_ledger::Engine;
use zest_ledger::entry::Kind;
use zest_ledger::source::visible;

use crate::unknown::{self, Unknown};

/// Returns the systems that are meant, be it one or several.
pub(crate) fn all(engine: &Engine, text: &str) -> Result<Vec<String>> {
    Ok(match several(engine, text)? {
        Some(several) => several,
        None => vec![unknown::system(engine.estate(), text)?.id.value.clone()],
    })
}

/// Returns the systems of `all`, `kind=cloud`, `class=pier-switch`, or ids with commas between; nothing if it is one id.
pub(crate) fn several(engine: &Engine, text: &str) -> Result<Option<Vec<String>>> {
    let systems = engine.estate().systems();
    if systems.iter().any(|s| s.id.value == text) {
        return Ok(None);
    }
    let chosen: Vec<String> = if text == "all" {
        systems.iter().map(|s| s.id.value.clone()).collect()
    } else if let Some((key, value)) = text.split_once('=') {
        if key == "kind" && Kind::from_word(value).is_none() {
            return Err(Unknown(format!("`{}` is no kind of system; the kinds are {}", visible(value), Kind::WORDS.join(", "))).into());
        }
        let has = |s: &zest_ledger::entry::System| match key {
            "kind" => Kind::from_word(value) == Some(s.kind()),
            _ => s.labels.iter().any(|(k, v)| k.value == key && v.value == value),
        };
        systems.iter().filter(|s| has(s)).map(|s| s.id.value.clone()).collect()
    } else if text.contains(',') {
        let ids = text.split(',').map(|id| unknown::system(engine.estate(), id.trim()).map(|s| s.id.value.clone()));
        ids.collect::<Result<_, Unknown>>()?
    } else {
        return Ok(None);
    };
    if chosen.is_empty() {
        let forms = "an id, ids with commas between, `all`, `kind=cloud` or LABEL=VALUE";
        return Err(Unknown(format!("no system is meant by `{}`: write {forms}", visible(text))).into());
    }
    Ok(Some(chosen))
}
