//! What a question asks for: an operation on a resource, or a call of the interface by method and path.

use std::sync::Arc;

use smallvec::{SmallVec, smallvec};

use super::Context;
use super::links::{ADMINISTRATIVE, ServiceLinks};
use super::resolve::is_there;
use crate::engine::trace::{Stop, Trace, Understood};
use crate::links::path::bad_path;
use zest_model::ask::{Question, Refusal, Stage};
use zest_model::source::visible;
use zest_words::nearest_hint;

/// An operation on a resource.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(crate) struct Action {
    pub(crate) operation: usize,
    pub(crate) path: Arc<str>,
}

/// What a line asks for: one action, or several where several operations may be meant.
pub(crate) type Actions = SmallVec<[Action; 1]>;

/// Why an action cannot be read.
#[derive(Debug, PartialEq, Eq)]
pub(crate) enum Unread {
    /// It is not of the form.
    Form,
    /// It is not plain what the system would read in the path of a call.
    Address(String),
    /// The system has no such operation.
    Operation(String),
    /// A call does not say which resource it is about.
    Resource(String),
    /// A call speaks of several resources at once.
    Several(String),
    /// A call means another resource than the one that is named behind it.
    Other { said: String, means: String },
}

/// Reads `OPERATION on PATH`, `METHOD /path` or `METHOD /path on PATH`. A call may be one of several operations, where several
/// templates of the interface match it.
pub(crate) fn parse(line: &str, links: &ServiceLinks) -> Result<Actions, Unread> {
    let line = line.trim_start();
    // OK because a match of ASCII bytes begins and ends beside ASCII bytes.
    let on = line.as_bytes().windows(4).rposition(|four| four == b" on ");
    let (head, path) = on.map_or((line, None), |at| (&line[..at], Some(line[at + 4..].trim_start())));
    let head = head.trim();
    if let Some(&operation) = links.operation_ids.get(head) {
        let path = path.filter(|p| !p.is_empty()).ok_or_else(|| Unread::Resource(head.to_owned()))?;
        return Ok(smallvec![Action { operation, path: path.into() }]);
    }
    let words: Vec<&str> = head.split_whitespace().collect();
    if let [method, address] = words[..]
        && address.starts_with('/')
    {
        let address = address.split(['?', '#']).next().unwrap_or(address);
        let parts = parts_of(address).ok_or_else(|| Unread::Address(address.to_owned()))?;
        let operations = called(&method.to_uppercase(), &parts, links);
        if operations.is_empty() {
            return Err(Unread::Operation(head.to_owned()));
        }
        let means = resource(&parts, links).map_err(|()| Unread::Several(head.to_owned()))?;
        let path: String = match (means, path) {
            (Some(means), Some(said)) if means != said => return Err(Unread::Other { said: said.to_owned(), means }),
            (Some(path), _) => path,
            (None, Some(said)) => said.to_owned(),
            (None, None) => return Err(Unread::Resource(head.to_owned())),
        };
        let path: Arc<str> = path.into();
        return Ok(operations.into_iter().map(|operation| Action { operation, path: Arc::clone(&path) }).collect());
    }
    if words.len() != 1 {
        return Err(Unread::Form);
    }
    Err(Unread::Operation(head.to_owned()))
}

/// The parts of the path of a call as the system reads them (RFC 3986, 2.1 and 3.3). None where it is not plain what it
/// would read: a separator that is encoded, an encoding that is none, a way up.
fn parts_of(address: &str) -> Option<Vec<String>> {
    let is_plain = |part: &str| {
        let whole = part.split('%').skip(1).all(|rest| rest.get(..2).is_some_and(|hex| hex.bytes().all(|b| b.is_ascii_hexdigit())));
        whole && !part.contains(['{', '}', '\\'])
    };
    let read = |part: &str| percent_encoding::percent_decode_str(part).decode_utf8().ok().map(std::borrow::Cow::into_owned);
    let unread = |part: &String| matches!(part.as_str(), "." | "..") || part.contains(['/', '{', '}', '\\', '%']);
    address.split('/').map(|part| read(part).filter(|p| is_plain(part) && !unread(p))).collect()
}

/// Whether a written part stands for a concrete one: what is written out stands for itself, and a variable takes any text that
/// is not empty (RFC 6570, level 1). A part may hold several variables: `{from}-{to}`.
fn takes(template: &str, part: &str) -> bool {
    let mut fixed =
        template.split('{').enumerate().map(|(i, piece)| if i == 0 { piece } else { piece.split_once('}').map_or("", |(_, rest)| rest) });
    let Some(mut rest) = part.strip_prefix(fixed.next().unwrap_or_default()) else { return false };
    let mut pieces = fixed.peekable();
    while let Some(piece) = pieces.next() {
        // A variable stands before the piece, with at least one character.
        let Some(first) = rest.chars().next() else { return false };
        let after = &rest[first.len_utf8()..];
        rest = if pieces.peek().is_none() {
            match after.strip_suffix(piece) {
                Some(_) => "",
                None => return false,
            }
        } else {
            // The earliest place leaves most for the variables behind.
            match after.find(piece) {
                Some(at) => &after[at + piece.len()..],
                None => return false,
            }
        };
    }
    rest.is_empty()
}

/// Finds the operations of a call. As OpenAPI says, a path that is written out comes before those with variables; where
/// several of these match, all of them are meant, since the standard leaves it open which one a system takes.
fn called(method: &str, parts: &[String], links: &ServiceLinks) -> Vec<usize> {
    let fits = |path: &str| path.split('/').count() == parts.len() && path.split('/').zip(parts).all(|(t, p)| takes(t, p));
    let call = |o: usize| links.operations[o].call.as_ref();
    let found: Vec<usize> = (0..links.operations.len()).filter(|&o| call(o).is_some_and(|(m, path)| m == method && fits(path))).collect();
    let written_out = found.iter().copied().find(|&o| call(o).is_some_and(|(_, path)| !path.contains('{')));
    written_out.map_or(found, |one| vec![one])
}

/// Finds the resource that a call speaks of. Of several templates the longest counts, then the one with fewest variables; an
/// error where that leaves several that mean different things.
fn resource(parts: &[String], links: &ServiceLinks) -> Result<Option<String>, ()> {
    let rank = |from: &str| (from.split('/').count(), std::cmp::Reverse(from.split('/').filter(|part| part.contains('{')).count()));
    let found: Vec<(_, String)> = links.addresses.iter().filter_map(|(from, to)| Some((rank(from), addressed(parts, from, to)?))).collect();
    let Some(best) = found.iter().map(|(rank, _)| *rank).max() else { return Ok(None) };
    let mut paths: Vec<&String> = found.iter().filter(|(rank, _)| *rank == best).map(|(_, path)| path).collect();
    paths.dedup();
    match paths.as_slice() {
        [one] => Ok(Some((*one).clone())),
        _ => Err(()),
    }
}

/// Finds the resource of one template, which may be the beginning of the path.
fn addressed(parts: &[String], from: &str, to: &str) -> Option<String> {
    let mut parts = parts.iter();
    let mut values: Vec<(&str, &str)> = Vec::new();
    for template in from.split('/') {
        let part = parts.next()?;
        if !takes(template, part) {
            return None;
        }
        if let Some(name) = template.strip_prefix('{').and_then(|t| t.strip_suffix('}')) {
            values.push((name, part));
        }
    }
    let mut path = to.to_owned();
    for (name, value) in values {
        // A value cannot smuggle in parts of its own: one with a separator or a brace is not read.
        path = path.replace(&format!("{{{name}}}"), value);
    }
    (!path.contains('{')).then_some(path)
}

/// Reads the action of a question, and checks that the system has the operation and the resource.
pub(super) fn read(context: Context<'_>, question: &Question, trace: &mut Trace) -> Result<Actions, Stop> {
    let links = context.links;
    let system = context.engine.estate.system(context.system);
    let place = Some(system.id.place);
    let form = if links.is_application { "RIGHT on TYPE/NAME" } else { "OPERATION on PATH, or METHOD /path" };
    let actions = match parse(&question.line, links) {
        Ok(actions) => actions,
        Err(Unread::Several(head)) => {
            trace.refuse(Stage::Permission, Refusal::ActionUnreadable, || {
                let what = "several `addresses` of the same length mean different resources";
                (format!("`{}` speaks of several resources: {what}; name the operation and its resource", visible(&head)), place)
            })?;
            return Err(Stop);
        }
        Err(Unread::Other { said, means }) => {
            trace.refuse(Stage::Permission, Refusal::ActionUnreadable, || {
                (
                    format!(
                        "the call speaks of `{}`, and `on` says `{}`: leave `on` out, or write the same",
                        visible(&means),
                        visible(&said)
                    ),
                    place,
                )
            })?;
            return Err(Stop);
        }
        Err(Unread::Form) => {
            trace.refuse(Stage::Permission, Refusal::ActionUnreadable, || {
                (format!("`{}` cannot be read: an action is written as {form}", visible(&question.line)), None)
            })?;
            return Err(Stop);
        }
        Err(Unread::Address(address)) => {
            trace.refuse(Stage::Permission, Refusal::ActionUnreadable, || {
                let what = "an encoded separator, a brace or a way up: name the operation and its resource instead";
                let (name, address) = (visible(&system.id.value), visible(&address));
                (format!("it is not plain what `{name}` would read in `{address}`: {what}"), None)
            })?;
            return Err(Stop);
        }
        Err(Unread::Resource(head)) => {
            trace.refuse(Stage::Permission, Refusal::ActionUnreadable, || {
                (format!("`{}` does not say on what: an action is written as {form}", visible(&head)), None)
            })?;
            return Err(Stop);
        }
        Err(Unread::Operation(name)) => {
            trace.refuse(Stage::Permission, Refusal::UnknownOperation, || {
                let near = nearest_hint(&name, links.operation_ids.keys().map(|k| &**k));
                (format!("`{}` has no operation `{}`{near}", visible(&system.id.value), visible(&name)), place)
            })?;
            return Err(Stop);
        }
    };
    for action in &actions {
        known(context, action, trace)?;
    }
    Ok(actions)
}

/// Checks that the system has the resource of an action, and that the operation is one of its type.
fn known(context: Context<'_>, action: &Action, trace: &mut Trace) -> Result<(), Stop> {
    let links = context.links;
    let operation = &links.operations[action.operation];
    trace.understood(|| Understood::FullLine(format!("{} on {}", operation.name, visible(&action.path))));
    trace.understood(|| Understood::Object(action.path.to_string()));
    if let Some(why) = bad_path(&action.path) {
        trace.refuse(Stage::Permission, Refusal::ActionUnreadable, || {
            (format!("`{}` is no path of a resource: {why}", visible(&action.path)), None)
        })?;
        return Err(Stop);
    }
    exists(context, action, trace)?;
    if links.is_application
        && let Some((head, _)) = action.path.split_once('/')
        && let Some(of) = links.types.get(head)
        && !of.rights.contains(action.operation)
        && operation.place.is_some()
    {
        trace.refuse(Stage::Permission, Refusal::PrivilegeMisapplied, || {
            (format!("objects of the type `{}` have no right `{}`", visible(head), visible(&operation.name)), Some(of.place))
        })?;
        return Err(Stop);
    }
    Ok(())
}

/// Entries of the ledger are resources as well, for those operations that are about them.
fn exists(context: Context<'_>, action: &Action, trace: &mut Trace) -> Result<(), Stop> {
    let estate = &context.engine.estate;
    let operation = &context.links.operations[action.operation];
    let name = operation.name.as_str();
    let (head, rest) = action.path.split_once('/').unwrap_or((&action.path, ""));
    let wanted = operation.entry;
    if let Some(wanted) = wanted.filter(|w| *w != head) {
        trace.refuse(Stage::Permission, Refusal::PrivilegeMisapplied, || {
            (format!("`{name}` is about a {wanted}: write `{name} on {wanted}/NAME`"), None)
        })?;
        return Err(Stop);
    }
    let is_known = match head {
        "user" if wanted.is_some() => estate.names.users.contains_key(rest),
        "group" if wanted.is_some() => estate.groups().iter().any(|g| g.id.value == rest),
        "role" if wanted.is_some() => estate.names.roles.contains_key(rest),
        "command-set" if wanted.is_some() => estate.command_sets().iter().any(|s| s.id.value == rest),
        _ => is_there(&action.path, context.links),
    };
    // The last part of an operation's own entries is never guessed from a container above it.
    if is_known && !(wanted.is_some() && operation.place.is_none() && ADMINISTRATIVE.contains(&name) && rest.is_empty()) {
        if !trace.explains() {
            return Ok(());
        }
        let links = context.links;
        let is_entry = wanted.is_some_and(|w| matches!(w, "user" | "group" | "role" | "command-set"));
        if !is_entry && !links.resources.contains_key(&*action.path) {
            trace.pass(Stage::Permission, || {
                let near = nearest_hint(&action.path, links.resources.keys().map(|k| &**k));
                let below = action.path.rsplit_once('/').map_or("", |(above, _)| above);
                (
                    format!(
                        "`{}` is not declared; it is taken to be there, since `{}` is{near}",
                        visible(&action.path),
                        visible(declared_above(below, links))
                    ),
                    None,
                )
            });
        }
        return Ok(());
    }
    trace.refuse(Stage::Permission, Refusal::UnknownObject, || {
        let near = nearest_hint(&action.path, context.links.resources.keys().map(|k| &**k));
        (format!("nothing is declared as `{}`{near}", visible(&action.path)), Some(estate.system(context.system).id.place))
    })?;
    Err(Stop)
}

/// The nearest container that is declared.
fn declared_above<'p>(path: &'p str, links: &ServiceLinks) -> &'p str {
    let mut path = path;
    while !links.resources.contains_key(path) {
        let Some((above, _)) = path.rsplit_once('/') else { return path };
        path = above;
    }
    path
}
