//! Reads the operations of an OpenAPI 3.0 or 3.1 document in JSON or YAML. Schemas are not looked at; references are.

use std::borrow::Cow;
use std::fmt;

use rustc_hash::{FxHashMap, FxHashSet};
use serde::de::{Deserialize, Deserializer, MapAccess, Visitor};
use serde_json::value::RawValue;

use super::yaml::{Told, told};
use crate::entry::{Described, Interface};
use crate::finding::{Code, Finding};
use crate::source::{Place, SourceId, Span, visible};

/// The methods of OpenAPI 3.1, in lower case.
const METHODS: [&str; 8] = ["get", "head", "options", "trace", "post", "put", "patch", "delete"];
/// How many broken references of one document are reported one by one.
const BROKEN_SHOWN: usize = 50;

/// The members of a JSON object, in order, each value as its text.
struct Members<'a>(Vec<(Cow<'a, str>, &'a RawValue)>);

impl<'de> Deserialize<'de> for Members<'de> {
    fn deserialize<D: Deserializer<'de>>(deserializer: D) -> Result<Self, D::Error> {
        struct Object;
        impl<'de> Visitor<'de> for Object {
            type Value = Members<'de>;

            fn expecting(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
                f.write_str("an object")
            }

            fn visit_map<A: MapAccess<'de>>(self, mut map: A) -> Result<Self::Value, A::Error> {
                let mut members = Vec::new();
                while let Some((key, value)) = map.next_entry::<String, &'de RawValue>()? {
                    members.push((Cow::Owned(key), value));
                }
                Ok(Members(members))
            }
        }
        deserializer.deserialize_map(Object)
    }
}

impl<'a> Members<'a> {
    fn get(&self, key: &str) -> Option<&'a RawValue> {
        self.0.iter().find(|(k, _)| k == key).map(|&(_, v)| v)
    }
}

/// Returns whether a name is one of a document in JSON or YAML, rather than in TOML.
pub fn is_interface(name: &str) -> bool {
    name.ends_with(".openapi.json") || is_yaml(name)
}

fn is_yaml(name: &str) -> bool {
    name.ends_with(".openapi.yaml") || name.ends_with(".openapi.yml")
}

/// Reads a document; what cannot be read is reported and the rest is kept.
pub fn read_interface(name: &str, text: &str, source: SourceId, findings: &mut Vec<Finding>) -> Interface {
    let told = if is_yaml(name) { Some(told(text)) } else { None };
    let operations = match &told {
        None => Reader::new(text, text, None, source, findings).document(),
        Some(Ok(told)) => Reader::new(&told.json, text, Some(told), source, findings).document(),
        Some(Err(untold)) => {
            let reader = Reader::new(text, text, None, source, findings);
            let place = reader.written_place(untold.at);
            let message = format!("the interface cannot be read as YAML: {}", visible(&untold.why));
            reader.findings.push(Finding::new(Code::BadInterface, message).at(place, "").help("mend it there, or write it in JSON"));
            Vec::new()
        }
    };
    Interface { name: name.to_owned(), operations }
}

struct Reader<'t, 'f> {
    /// The document in JSON.
    text: &'t str,
    /// As it is written.
    written: &'t str,
    /// How it was told in JSON, if it is written in YAML.
    told: Option<&'t Told>,
    source: SourceId,
    findings: &'f mut Vec<Finding>,
    operations: Vec<Described>,
    first: FxHashMap<String, Place>,
}

impl<'t, 'f> Reader<'t, 'f> {
    fn new(text: &'t str, written: &'t str, told: Option<&'t Told>, source: SourceId, findings: &'f mut Vec<Finding>) -> Self {
        Self { text, written, told, source, findings, operations: Vec::new(), first: FxHashMap::default() }
    }

    /// Returns the place of a part of the text, shown by its first line.
    fn place(&self, part: &str) -> Place {
        let start = (part.as_ptr() as usize).saturating_sub(self.text.as_ptr() as usize).min(self.text.len());
        match self.told {
            Some(told) => self.written_place(told.origin(start)),
            None => self.span(start, part),
        }
    }

    fn written_place(&self, at: usize) -> Place {
        self.span(at, self.written.get(at..).unwrap_or_default())
    }

    fn span(&self, start: usize, part: &str) -> Place {
        let length = part.find('\n').unwrap_or(part.len()).min(40);
        let mut end = (start + length).min(self.written.len());
        while !self.written.is_char_boundary(end) {
            end -= 1;
        }
        Place::Text(Span { source: self.source, start: start.min(end) as u32, end: end as u32 })
    }

    fn bad(&mut self, message: impl Into<String>, place: Place, help: &str) {
        self.findings.push(Finding::new(Code::BadInterface, message).at(place, "").help(help));
    }

    /// Reads an object, or reports that it is none.
    fn members(&mut self, value: &'t RawValue, what: &str) -> Members<'t> {
        serde_json::from_str(value.get()).unwrap_or_else(|_| {
            let place = self.place(value.get());
            self.bad(format!("{what} is not an object"), place, "see the OpenAPI 3.1 specification for its form");
            Members(Vec::new())
        })
    }

    /// Returns the operations that it describes.
    fn document(mut self) -> Vec<Described> {
        self.read();
        self.operations
    }

    fn read(&mut self) {
        let read = super::unique::parse(self.text).and_then(|whole| Ok((whole, serde_json::from_str(self.text)?)));
        let (whole, root): (serde_json::Value, Members<'t>) = match read {
            Ok(read) => read,
            Err(error) => {
                let line = self.text.split_inclusive('\n').nth(error.line().saturating_sub(1)).unwrap_or("");
                let mut at = error.column().saturating_sub(1).min(line.len());
                while !line.is_char_boundary(at) {
                    at -= 1;
                }
                let place = self.place(&line[at..]);
                self.bad(
                    format!("the interface cannot be read as JSON: {}", visible(&error.to_string())),
                    place,
                    "a document in YAML has a name that ends in `.openapi.yaml`",
                );
                return;
            }
        };
        let version: String = root.get("openapi").and_then(|v| serde_json::from_str(v.get()).ok()).unwrap_or_default();
        if !version.starts_with("3.0") && !version.starts_with("3.1") {
            let place = self.place(root.get("openapi").map_or(self.text, RawValue::get));
            self.bad("the document is not of OpenAPI 3.0 or 3.1", place, "expected `openapi` to be \"3.1.0\" or an earlier 3.x");
            return;
        }
        let Some(paths) = root.get("paths") else {
            let place = self.place(self.text);
            return self.bad("the document describes no `paths`, so no operation", place, "add `paths`, or name another document");
        };
        let mut shapes: FxHashMap<String, Place> = FxHashMap::default();
        for (path, item) in self.members(paths, "`paths`").0 {
            let place = self.place(item.get());
            match shapes.insert(shape_of(&path), place) {
                None => self.item(&root, &path, item),
                Some(first) => {
                    let message = format!("the path `{}` matches the same calls as an earlier one", visible(&path));
                    let finding = Finding::new(Code::BadInterface, message).at(place, "again here").also(first, "first here");
                    self.findings.push(finding.help("paths that differ in the names of their variables only are one path: merge them"));
                }
            }
        }
        self.references(&whole);
    }

    /// Reads the operations of one path; an item may stand elsewhere in the document.
    fn item(&mut self, root: &Members<'t>, path: &str, item: &'t RawValue) {
        let mut value = item;
        let mut seen = FxHashSet::default();
        loop {
            let members = self.members(value, &format!("the path `{}`", visible(path)));
            let reference: Option<String> = members.get("$ref").and_then(|v| serde_json::from_str(v.get()).ok());
            let Some(reference) = reference else { return self.operations(path, members) };
            let place = self.place(value.get());
            if !seen.insert(reference.clone()) {
                return self.bad(format!("the path `{}` refers to itself", visible(path)), place, "write its operations out");
            }
            match follow(root, &reference) {
                Some(found) => value = found,
                None => {
                    let message =
                        format!("the path `{}` refers to `{}`, which is not in this document", visible(path), visible(&reference));
                    return self.bad(message, place, "write the operations of the path into the document");
                }
            }
        }
    }

    fn operations(&mut self, path: &str, members: Members<'t>) {
        for (method, value) in members.0.into_iter().filter(|(m, _)| METHODS.contains(&m.as_ref())) {
            let method = method.to_uppercase();
            let parts = self.members(value, &format!("{method} {}", visible(path)));
            let id: Option<String> = parts.get("operationId").and_then(|v| serde_json::from_str(v.get()).ok());
            let name = id.unwrap_or_else(|| format!("{method} {path}"));
            let tags = parts.get("tags").and_then(|v| serde_json::from_str(v.get()).ok()).unwrap_or_default();
            let place = self.place(parts.get("operationId").map_or(value.get(), RawValue::get));
            if let Some(why) = super::bad_name(&name) {
                self.bad(format!("`{}` cannot be an operation: {why}", visible(&name)), place, "give the operation another `operationId`");
            } else if let Some(&first) = self.first.get(&name) {
                let finding = Finding::new(Code::BadInterface, format!("the operation `{}` is described twice", visible(&name)));
                self.findings.push(
                    finding.at(place, "again here").also(first, "first here").help("give each operation an `operationId` of its own"),
                );
            } else {
                self.first.insert(name.clone(), place);
                self.operations.push(Described { name, method, path: path.to_owned(), tags, place });
            }
        }
    }

    /// Reports references within the document that lead nowhere. What they describe is not needed for permissions, so they only warn.
    fn references(&mut self, whole: &serde_json::Value) {
        let mut broken: Vec<&str> = Vec::new();
        let mut known: FxHashMap<&str, bool> = FxHashMap::default();
        let mut queue = vec![whole];
        while let Some(value) = queue.pop() {
            match value {
                serde_json::Value::Array(items) => queue.extend(items),
                serde_json::Value::Object(members) => {
                    let pointer = members.get("$ref").and_then(|r| r.as_str()?.strip_prefix('#'));
                    if let Some(pointer) = pointer
                        && !*known.entry(pointer).or_insert_with(|| whole.pointer(&decoded(pointer)).is_some())
                        && !broken.contains(&pointer)
                    {
                        broken.push(pointer);
                    }
                    queue.extend(members.values());
                }
                _ => {}
            }
        }
        broken.sort_unstable();
        for pointer in broken.into_iter().take(BROKEN_SHOWN) {
            let place = self.text.find(&format!("\"#{pointer}\"")).map_or_else(|| self.place(self.text), |at| self.place(&self.text[at..]));
            self.findings.push(
                Finding::new(Code::InterfaceReference, format!("the reference `#{}` leads nowhere in this document", visible(pointer)))
                    .at(place, "nothing is described there")
                    .help("operations are read all the same; mend the document, or fetch it again whole"),
            );
        }
    }
}

/// A path without the names of its variables: paths of one shape match the same calls (OpenAPI 3.1, paths object).
pub fn shape_of(path: &str) -> String {
    let mut shape = String::with_capacity(path.len());
    let mut is_inside = false;
    for c in path.chars() {
        is_inside &= c != '}';
        if !is_inside {
            shape.push(c);
        }
        is_inside |= c == '{';
    }
    shape
}

/// Undoes the percent-encoding of a reference, which stands for a URI fragment (RFC 6901, section 6).
fn decoded(pointer: &str) -> Cow<'_, str> {
    percent_encoding::percent_decode_str(pointer).decode_utf8_lossy()
}

/// Follows a reference within the document.
fn follow<'a>(root: &Members<'a>, reference: &str) -> Option<&'a RawValue> {
    let pointer = decoded(reference.strip_prefix("#/")?);
    let mut steps = pointer.split('/').map(|s| s.replace("~1", "/").replace("~0", "~"));
    let mut value = root.get(&steps.next()?)?;
    for step in steps {
        let members: Members<'a> = serde_json::from_str(value.get()).ok()?;
        value = members.get(&step)?;
    }
    Some(value)
}
