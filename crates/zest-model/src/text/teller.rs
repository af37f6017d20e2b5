//! Tells the events of a YAML document in JSON.

use rustc_hash::FxHashMap;
use saphyr_parser::{Event, Parser};

use super::yaml::{Told, Untold};

/// What is open around the next value.
enum Open {
    List,
    /// An object whose next scalar is a key.
    Key,
    /// An object whose next value belongs to a key.
    Value,
}

struct Teller<'t> {
    text: &'t str,
    told: Told,
    open: Vec<Open>,
    /// Where each anchored value is in the JSON; its end is not known while it is open.
    anchors: FxHashMap<usize, (usize, Option<usize>)>,
    /// The anchor of each open list or object, or zero.
    anchored: Vec<usize>,
    /// The last place that was asked for, in letters and in bytes.
    seen: (usize, usize),
}

/// Tells the one YAML document of a text in JSON. Every scalar becomes a string.
pub(super) fn told(text: &str) -> Result<Told, Untold> {
    let told = Told { json: String::with_capacity(text.len()), places: Vec::new() };
    let mut teller = Teller { text, told, open: Vec::new(), anchors: FxHashMap::default(), anchored: Vec::new(), seen: (0, 0) };
    let mut documents = 0;
    for event in Parser::new_from_str(text) {
        let (event, span) = event.map_err(|e| Untold { why: e.info().to_owned(), at: teller.byte(e.marker().index()) })?;
        let at = teller.byte(span.start.index());
        let fault = |why: &str| Err(Untold { why: why.to_owned(), at });
        match event {
            Event::DocumentStart(_) => {
                documents += 1;
                if documents > 1 {
                    return fault("it holds more than one document");
                }
            }
            Event::Scalar(value, _, anchor, _) => {
                if matches!(teller.open.last(), Some(Open::Key)) && value == "<<" {
                    return fault("`<<` is not part of YAML 1.2: write out what is merged");
                }
                let start = teller.begin(at);
                teller.told.json.push_str(&serde_json::Value::from(&*value).to_string());
                teller.anchor(anchor, start, true);
                teller.end();
            }
            Event::SequenceStart(anchor, _) | Event::MappingStart(anchor, _) => {
                if matches!(teller.open.last(), Some(Open::Key)) {
                    return fault("a key is a list or an object");
                }
                let start = teller.begin(at);
                let is_list = matches!(event, Event::SequenceStart(..));
                teller.told.json.push(if is_list { '[' } else { '{' });
                teller.anchor(anchor, start, false);
                teller.anchored.push(anchor);
                teller.open.push(if is_list { Open::List } else { Open::Key });
            }
            Event::SequenceEnd | Event::MappingEnd => {
                teller.open.pop();
                teller.told.json.push(if matches!(event, Event::SequenceEnd) { ']' } else { '}' });
                let anchor = teller.anchored.pop().unwrap_or(0);
                let end = teller.told.json.len();
                if let Some((_, open)) = teller.anchors.get_mut(&anchor) {
                    *open = Some(end);
                }
                teller.end();
            }
            Event::Alias(anchor) => {
                let Some(&(start, Some(end))) = teller.anchors.get(&anchor) else {
                    return fault("an alias stands inside of what it means, or means nothing");
                };
                if matches!(teller.open.last(), Some(Open::Key)) && !teller.told.json[start..].starts_with('"') {
                    return fault("a key is a list or an object");
                }
                // A few lines of aliases of aliases can mean gigabytes.
                if teller.told.json.len() + (end - start) > 4 * text.len() + 4096 {
                    return fault("its aliases make it more than four times as long: write out what is meant");
                }
                teller.begin(at);
                let again = teller.told.json[start..end].to_owned();
                teller.told.json.push_str(&again);
                teller.end();
            }
            Event::Nothing | Event::StreamStart | Event::StreamEnd | Event::DocumentEnd => {}
        }
    }
    Ok(teller.told)
}

impl Teller<'_> {
    /// Begins a value, or a key. Returns where in the JSON.
    fn begin(&mut self, at: usize) -> usize {
        if matches!(self.open.last(), Some(Open::List | Open::Key)) && !self.told.json.ends_with(['[', '{']) {
            self.told.json.push(',');
        }
        let start = self.told.json.len();
        self.told.places.push((start, at));
        start
    }

    /// Ends a value, or a key.
    fn end(&mut self) {
        match self.open.last_mut() {
            Some(key @ Open::Key) => {
                *key = Open::Value;
                self.told.json.push(':');
            }
            Some(value @ Open::Value) => *value = Open::Key,
            Some(Open::List) | None => {}
        }
    }

    fn anchor(&mut self, id: usize, start: usize, is_whole: bool) {
        if id > 0 {
            let end = is_whole.then_some(self.told.json.len());
            self.anchors.insert(id, (start, end));
        }
    }

    /// The byte at which a letter of the text begins. Places are asked for in order, more or less.
    fn byte(&mut self, letter: usize) -> usize {
        let (mut seen, mut byte) = if letter < self.seen.0 { (0, 0) } else { self.seen };
        if let Some(rest) = self.text.get(byte..) {
            let mut ahead = rest.char_indices().map(|(i, _)| i).chain([rest.len()]);
            if let Some(more) = ahead.nth(letter - seen) {
                (seen, byte) = (letter, byte + more);
            } else {
                byte = self.text.len();
            }
        }
        self.seen = (seen, byte.min(self.text.len()));
        self.seen.1
    }
}
