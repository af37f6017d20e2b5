//! `zest obligations`: the table of objects and obligations, filtered, and edited as a whole.

use std::collections::BTreeMap;
use std::fs;
use std::path::Path;

use anyhow::{Context, Result, bail};
use comfy_table::{ContentArrangement, Table, presets};
use toml_edit::{Array, DocumentMut, InlineTable, Item, Value};
use zest_ledger::review::{self, ObjectObligations};
use zest_ledger::source::visible;
use zest_ledger::{Engine, Ledger, json};

use crate::args::Obligations;
use crate::exit::Exit;
use crate::format::data;
use crate::out::{complain, complain_of, say};
use crate::render::style::{BAD, FAINT, GOOD, HEAD, PLACE, counted, width};
use crate::render::table::{self, code, places, words};
use crate::{folder, whole};

pub(crate) fn run(args: &Obligations) -> Result<Exit> {
    let engine = match super::engine(&args.ledger.ledger) {
        Ok(engine) => engine,
        Err(exit) => return Ok(exit),
    };
    crate::unknown::system(engine.estate(), &args.system)?;
    let Some(table) = review::obligations(engine, &args.system) else {
        bail!("`{}` is neither a cloud nor an application of this ledger", visible(&args.system));
    };
    let chosen: Vec<ObjectObligations> = table.into_iter().filter(|o| is_chosen(o, args)).collect();
    if args.set.is_empty() {
        return Ok(show(&chosen, args));
    }
    edit(&chosen, args)
}

fn is_chosen(object: &ObjectObligations, args: &Obligations) -> bool {
    let (kind, name) = object.object.split_once('/').unwrap_or((&object.object, ""));
    let has = |(key, value): &(String, String)| object.attributes.iter().any(|(k, v)| k == key && v == value);
    args.of_type.as_ref().is_none_or(|t| t == kind)
        && args.r#where.iter().all(has)
        && (args.object.is_empty() || args.object.iter().any(|o| *o == object.object || o == name))
}

fn list(words: &[String]) -> String {
    if words.is_empty() { "-".to_owned() } else { words.join(", ") }
}

fn show(chosen: &[ObjectObligations], args: &Obligations) -> Exit {
    let text = || {
        let mut table = Table::new();
        table.load_style(presets::NOTHING).set_content_arrangement(ContentArrangement::Dynamic).set_width(width() as u16);
        table.set_header(["object", "attributes", "of its own", "of its type", "written in"]);
        for object in chosen {
            let attributes: Vec<String> = object.attributes.iter().map(|(k, v)| format!("{} {}", visible(k), visible(v))).collect();
            let row = [visible(&object.object), list(&attributes), list(&object.own), list(&object.of_type), object.place.to_string()];
            table.add_row(row);
        }
        for (i, line) in table.lines().enumerate() {
            let line = line.trim_end().trim_start_matches(' ');
            if i == 0 { say!("{FAINT}{line}{FAINT:#}") } else { say!("{line}") }
        }
        let mut rights: BTreeMap<String, String> = BTreeMap::new();
        for object in chosen {
            let kind = object.object.split('/').next().unwrap_or_default();
            rights.extend(object.of_rights.iter().map(|(r, words)| (format!("{r} on {}/*", visible(kind)), list(words))));
        }
        for (right, words) in rights {
            say!("{HEAD}{right}{HEAD:#}: {words}");
        }
        say!("{}", counted(chosen.len(), "object"));
    };
    let told = || data(&json::Obligations::new(&args.system, chosen.to_vec()));
    args.format.format.print(told, || in_rows(&args.system, chosen), text);
    if chosen.is_empty() { Exit::Nothing } else { Exit::Allowed }
}

fn in_rows(system: &str, chosen: &[ObjectObligations]) -> table::Table {
    let columns = [
        code("object").joined(),
        words("attributes"),
        words("of its own"),
        words("of its type"),
        words("of single rights"),
        places("").detail(),
    ];
    let mut table = table::Table::new(format!("`{system}`: {}", counted(chosen.len(), "object")), columns);
    for ObjectObligations { object, attributes, own, of_type, of_rights, place, more: _ } in chosen {
        let attributes: Vec<String> = attributes.iter().map(|(key, value)| format!("{key} {value}")).collect();
        let of_rights: Vec<String> = of_rights.iter().map(|(right, words)| format!("{right}: {}", words.join(", "))).collect();
        table.row([
            object.into(),
            attributes.join(", ").into(),
            own.join(", ").into(),
            of_type.join(", ").into(),
            of_rights.join("; ").into(),
            place.into(),
        ]);
    }
    table
}

/// One obligation as it is set, or all of them taken away.
enum Setting {
    None,
    Confirm,
    ProveAgain(String),
    SecondPerson(Vec<String>),
}

fn setting(text: &str) -> Result<Setting> {
    Ok(match text.split_once('=') {
        None if text == "none" => Setting::None,
        None if text == "confirm" => Setting::Confirm,
        Some(("prove-again", age)) => Setting::ProveAgain(age.to_owned()),
        Some(("second-person", parties)) => Setting::SecondPerson(parties.split(',').map(|p| p.trim().to_owned()).collect()),
        _ => bail!("`{}` is not one of none, confirm, prove-again=AGE and second-person=PARTY[,PARTY]", visible(text)),
    })
}

/// Previews the edit, and with `--write` carries it out: on all documents or on none.
fn edit(chosen: &[ObjectObligations], args: &Obligations) -> Result<Exit> {
    let settings: Vec<Setting> = args.set.iter().map(|t| setting(t)).collect::<Result<_>>()?;
    let root = &args.ledger.ledger;
    let mut texts: BTreeMap<String, DocumentMut> = BTreeMap::new();
    for object in chosen {
        let file = &object.place.file;
        if !texts.contains_key(file) {
            let text = fs::read_to_string(path_of(root, file)).with_context(|| format!("reading {file}"))?;
            texts.insert(file.clone(), text.parse().with_context(|| format!("reading {file}"))?);
        }
        let document = texts.get_mut(file).context("it was read just now")?;
        set(document, &args.system, &object.object, &settings).with_context(|| format!("`{}` in {file}", visible(&object.object)))?;
    }
    let changed: BTreeMap<String, String> = texts.into_iter().map(|(file, document)| (file, document.to_string())).collect();
    let after = match with_changes(root, &changed) {
        Ok(after) => after,
        Err(findings) => {
            complain_of!("{}", crate::render::findings::render(&findings));
            complain!("the ledger would have errors, so nothing is changed");
            return Ok(Exit::Unreadable);
        }
    };
    let after = review::obligations(&after, &args.system).context("the system is still there")?;
    let mut count = 0;
    let width = chosen.iter().map(|o| o.object.chars().count()).max().unwrap_or(0);
    for object in chosen {
        let now = after.iter().find(|o| o.object == object.object).map_or(&[][..], |o| &o.own);
        if now != object.own {
            count += 1;
            let (path, place) = (visible(&object.object), &object.place);
            let (before, now) = (list(&object.own), list(now));
            say!("{HEAD}{path:<width$}{HEAD:#}  {BAD}{before}{BAD:#} -> {GOOD}{now}{GOOD:#}  {PLACE}{place}{PLACE:#}");
        }
    }
    let of = chosen.len();
    if !args.write {
        say!("{count} of {} would change; nothing is written. To do it: --write --expect {count}", counted(of, "chosen object"));
        return Ok(if count == 0 { Exit::Nothing } else { Exit::Allowed });
    }
    if args.expect != Some(count) {
        let expected = args.expect.map_or("no number was expected".to_owned(), |n| format!("{n} were expected"));
        bail!("{} would change, and {expected}; nothing is written", counted(count, "object"));
    }
    for (file, text) in &changed {
        whole::write(&path_of(root, file), text).with_context(|| format!("writing {file}"))?;
    }
    say!("{} changed in {}", counted(count, "object"), counted(changed.len(), "document"));
    Ok(Exit::Allowed)
}

fn path_of(root: &Path, file: &str) -> std::path::PathBuf {
    if root.is_dir() { root.join(file) } else { root.to_owned() }
}

/// Reads the ledger with some documents replaced.
fn with_changes(root: &Path, changed: &BTreeMap<String, String>) -> Result<Engine, zest_ledger::finding::Findings> {
    let mut ledger = Ledger::new();
    for (name, bytes) in folder::documents(root) {
        ledger = match changed.get(&name) {
            Some(text) => ledger.document(&name, text),
            None => ledger.document_bytes(&name, &bytes),
        };
    }
    Engine::compile(ledger.estate()?)
}

/// Sets the obligations of one object in its document; everything else stays as it is written.
fn set(document: &mut DocumentMut, system: &str, path: &str, settings: &[Setting]) -> Result<()> {
    let tables = ["applications", "clouds"];
    let object = tables.iter().find_map(|table| {
        let service = document.get(table)?.get(system)?;
        let key = if service.get("objects").is_some_and(|o| o.get(path).is_some()) { "objects" } else { "resources" };
        service.get(key)?.get(path).map(|_| (*table, key))
    });
    let Some((table, key)) = object else { bail!("the object is not written as a table of its own") };
    let object = document[table][system][key][path].as_table_like_mut().context("the object is no table")?;
    for setting in settings {
        if let Setting::None = setting {
            object.remove("after");
            continue;
        }
        if object.get("after").is_none() {
            object.insert("after", Item::Value(Value::InlineTable(InlineTable::new())));
        }
        let after = object.get_mut("after").and_then(Item::as_table_like_mut).context("`after` is no table")?;
        match setting {
            Setting::None => {}
            Setting::Confirm => {
                after.insert("confirm", toml_edit::value(true));
            }
            Setting::ProveAgain(age) => {
                after.insert("prove-again", toml_edit::value(age.as_str()));
            }
            Setting::SecondPerson(parties) => {
                after.insert("second-person", toml_edit::value(parties.iter().map(String::as_str).collect::<Array>()));
            }
        }
    }
    Ok(())
}
