//! Which systems an option means: one, several, or all of a sort.

use anyhow::{Result, bail};
use zest_ledger::Engine;
use zest_ledger::entry::Kind;
use zest_ledger::source::visible;

/// Returns the systems of `all`, `kind=cloud`, `class=pier-switch`, or ids with commas between; nothing if it is one id.
pub(crate) fn several(engine: &Engine, text: &str) -> Result<Option<Vec<String>>> {
    let systems = engine.estate().systems();
    if systems.iter().any(|s| s.id.value == text) {
        return Ok(None);
    }
    let chosen: Vec<String> = if text == "all" {
        systems.iter().map(|s| s.id.value.clone()).collect()
    } else if let Some((key, value)) = text.split_once('=') {
        let has = |s: &zest_ledger::entry::System| match key {
            "kind" => Kind::from_word(value) == Some(s.kind()),
            _ => s.labels.iter().any(|(k, v)| k.value == key && v.value == value),
        };
        systems.iter().filter(|s| has(s)).map(|s| s.id.value.clone()).collect()
    } else if text.contains(',') {
        text.split(',').map(|id| id.trim().to_owned()).collect()
    } else {
        return Ok(None);
    };
    if chosen.is_empty() {
        bail!("no system is meant by `{}`: write an id, ids with commas between, `all`, `kind=cloud` or LABEL=VALUE", visible(text));
    }
    Ok(Some(chosen))
}
