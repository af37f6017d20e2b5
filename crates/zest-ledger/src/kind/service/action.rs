//! What a question asks for: an operation on a resource, or a call of the interface by method and path.

use super::Context;
use crate::ask::{Question, Refusal, Stage};
use crate::estate::path::bad_path;
use crate::estate::{ADMINISTRATIVE, ASSUME, CHANGE_CREDENTIAL, ServiceLinks, is_there};
use crate::finding::nearest_hint;
use crate::kind::trace::{Run, Stop, Trace, Understood};
use crate::source::visible;

/// An operation on a resource.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(crate) struct Action {
    pub(crate) operation: usize,
    pub(crate) path: String,
}

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
}

/// Reads `OPERATION on PATH`, `METHOD /path` or `METHOD /path on PATH`.
pub(crate) fn parse(line: &str, links: &ServiceLinks) -> Result<Action, Unread> {
    let line = line.trim();
    let (head, path) = line.rsplit_once(" on ").map_or((line, None), |(head, path)| (head.trim(), Some(path.trim())));
    if let Some(&operation) = links.operation_ids.get(head) {
        let path = path.filter(|p| !p.is_empty()).ok_or_else(|| Unread::Resource(head.to_owned()))?;
        return Ok(Action { operation, path: path.to_owned() });
    }
    let words: Vec<&str> = head.split_whitespace().collect();
    if let [method, address] = words[..]
        && address.starts_with('/')
    {
        let address = address.split(['?', '#']).next().unwrap_or(address);
        let parts = parts_of(address).ok_or_else(|| Unread::Address(address.to_owned()))?;
        let Some(operation) = called(&method.to_uppercase(), &parts, links) else { return Err(Unread::Operation(head.to_owned())) };
        let path = path.map(str::to_owned).or_else(|| links.addresses.iter().find_map(|(from, to)| addressed(&parts, from, to)));
        return path.map(|path| Action { operation, path }).ok_or_else(|| Unread::Resource(head.to_owned()));
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

/// Returns whether a part of a path template is a variable (RFC 6570, level 1).
fn is_variable(part: &str) -> bool {
    part.contains('{')
}

/// Whether a written part stands for a concrete one; a variable takes any part that is not empty.
fn takes(template: &str, part: &str) -> bool {
    match (template.find('{'), template.rfind('}')) {
        (Some(open), Some(close)) if open < close => {
            let (start, end) = (&template[..open], &template[close + 1..]);
            part.len() > start.len() + end.len() && part.starts_with(start) && part.ends_with(end)
        }
        _ => template == part,
    }
}

/// Finds the operation of a call. As OpenAPI says, a path that is written out comes before one with variables.
fn called(method: &str, parts: &[String], links: &ServiceLinks) -> Option<usize> {
    let fits = |path: &str| path.split('/').count() == parts.len() && path.split('/').zip(parts).all(|(t, p)| takes(t, p));
    let found = links.operations.iter().enumerate().filter(|(_, o)| o.call.as_ref().is_some_and(|(m, path)| m == method && fits(path)));
    let variables =
        |o: usize| -> Vec<bool> { links.operations[o].call.iter().flat_map(|(_, path)| path.split('/')).map(is_variable).collect() };
    found.map(|(i, _)| i).min_by_key(|&i| variables(i))
}

/// Finds the resource that a call speaks of: the template may be the beginning of the path.
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
pub(super) fn read<T: Trace>(context: Context<'_>, question: &Question, run: &mut Run<'_, T>) -> Result<Action, Stop> {
    let links = context.links;
    let system = context.engine.estate.system(context.system);
    let place = Some(system.id.place);
    let form = if links.is_application { "RIGHT on TYPE/NAME" } else { "OPERATION on PATH, or METHOD /path" };
    let action = match parse(&question.line, links) {
        Ok(action) => action,
        Err(Unread::Form) => {
            run.refuse(Stage::Permission, Refusal::ActionUnreadable, || {
                (format!("`{}` cannot be read: an action is written as {form}", visible(&question.line)), None)
            })?;
            return Err(Stop);
        }
        Err(Unread::Address(address)) => {
            run.refuse(Stage::Permission, Refusal::ActionUnreadable, || {
                let what = "an encoded separator, a brace or a way up: name the operation and its resource instead";
                let (name, address) = (visible(&system.id.value), visible(&address));
                (format!("it is not plain what `{name}` would read in `{address}`: {what}"), None)
            })?;
            return Err(Stop);
        }
        Err(Unread::Resource(head)) => {
            run.refuse(Stage::Permission, Refusal::ActionUnreadable, || {
                (format!("`{}` does not say on what: an action is written as {form}", visible(&head)), None)
            })?;
            return Err(Stop);
        }
        Err(Unread::Operation(name)) => {
            run.refuse(Stage::Permission, Refusal::UnknownOperation, || {
                let near = nearest_hint(&name, links.operation_ids.keys().map(|k| &**k));
                (format!("`{}` has no operation `{}`{near}", visible(&system.id.value), visible(&name)), place)
            })?;
            return Err(Stop);
        }
    };
    let operation = &links.operations[action.operation];
    run.understood(|| Understood::FullLine(format!("{} on {}", operation.name, visible(&action.path))));
    run.understood(|| Understood::Object(action.path.clone()));
    if let Some(why) = bad_path(&action.path) {
        run.refuse(Stage::Permission, Refusal::ActionUnreadable, || {
            (format!("`{}` is no path of a resource: {why}", visible(&action.path)), None)
        })?;
        return Err(Stop);
    }
    exists(context, &action, run)?;
    if links.is_application
        && let Some((head, _)) = action.path.split_once('/')
        && let Some(of) = links.types.get(head)
        && !of.rights.contains(action.operation)
        && operation.place.is_some()
    {
        run.refuse(Stage::Permission, Refusal::PrivilegeMisapplied, || {
            (format!("objects of the type `{}` have no right `{}`", visible(head), visible(&operation.name)), Some(of.place))
        })?;
        return Err(Stop);
    }
    Ok(action)
}

/// Entries of the ledger are resources as well, for those operations that are about them.
fn exists<T: Trace>(context: Context<'_>, action: &Action, run: &mut Run<'_, T>) -> Result<(), Stop> {
    let estate = &context.engine.estate;
    let name = context.links.operations[action.operation].name.as_str();
    let (head, rest) = action.path.split_once('/').unwrap_or((&action.path, ""));
    let wanted = match name {
        "reset-credential" | CHANGE_CREDENTIAL => Some("user"),
        "change-members" => Some("group"),
        "edit-role" | ASSUME => Some("role"),
        "edit-command-set" => Some("command-set"),
        "read-secret" => Some("secret"),
        "edit-job" => Some("job"),
        _ => None,
    };
    if let Some(wanted) = wanted.filter(|w| *w != head) {
        run.refuse(Stage::Permission, Refusal::PrivilegeMisapplied, || {
            (format!("`{name}` is about a {wanted}: write `{name} on {wanted}/NAME`"), None)
        })?;
        return Err(Stop);
    }
    let is_known = match head {
        "user" if wanted.is_some() => estate.user_ids.contains_key(rest),
        "group" if wanted.is_some() => estate.groups().iter().any(|g| g.id.value == rest),
        "role" if wanted.is_some() => estate.role_ids.contains_key(rest),
        "command-set" if wanted.is_some() => estate.command_sets().iter().any(|s| s.id.value == rest),
        _ => is_there(&action.path, context.links),
    };
    // The last part of an operation's own entries is never guessed from a container above it.
    if is_known && !(ADMINISTRATIVE.contains(&name) && rest.is_empty()) {
        return Ok(());
    }
    run.refuse(Stage::Permission, Refusal::UnknownObject, || {
        let near = nearest_hint(&action.path, context.links.resources.keys().map(|k| &**k));
        (format!("nothing is declared as `{}`{near}", visible(&action.path)), Some(estate.system(context.system).id.place))
    })?;
    Err(Stop)
}
