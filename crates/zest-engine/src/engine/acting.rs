//! Chains over several systems: somebody runs as an account of a host, and goes on from there as that account.

use crate::engine::Engine;
use crate::engine::rules::Site;
use crate::engine::trace::{Stop, Trace, Understood};
use crate::links::SystemId;
use zest_model::ask::{Act, Question, Refusal, Running, Stage};
use zest_model::source::visible;
use zest_words::nearest_hint;

/// Follows links on other hosts. Returns the question as the account there would ask it, or nothing if there are none.
///
/// The account is known elsewhere as the user of the same name. What the person proved, and where from, stays behind:
/// the next system sees the account and the host.
pub(super) fn cross(engine: &Engine, question: &Question, trace: &mut Trace) -> Result<Option<Box<Question>>, Stop> {
    let elsewhere = |act: &Act| match act {
        Act::Account { host: Some(host), .. } if *host != question.system => Some(host.clone()),
        _ => None,
    };
    let Some(name) = question.session.acting.first().and_then(elsewhere) else { return Ok(None) };
    let count = question.session.acting.iter().take_while(|act| elsewhere(act).as_ref() == Some(&name)).count();
    let (there, rest) = question.session.acting.split_at(count);
    let carries = |site: &Site<'_>| site.kind().is_left_as_account();
    let found = engine.estate.names.systems.get(name.as_str()).map(|&system| Site { engine, system }).filter(carries);
    let Some(site) = found else {
        trace.refuse(Stage::Standing, Refusal::UnknownSystem, || {
            let sites = (0..engine.estate.systems.len()).map(|s| Site { engine, system: SystemId::new(s) });
            let near = nearest_hint(&name, sites.filter(carries).map(|s| s.entry().id.value.as_str()));
            (format!("no host is called `{}`{near}", visible(&name)), None)
        })?;
        return Err(Stop);
    };
    // What runs at the end of the links there is the line that the host is asked about.
    let mut links: Vec<Act> = there.to_vec();
    let (mut line, mut login) = (String::new(), String::new());
    for (index, act) in links.iter_mut().enumerate() {
        let Act::Account { host, login: as_login, running } = act else { continue };
        *host = None;
        login.clone_from(as_login);
        let is_last = index + 1 == count;
        match running {
            Running::Line(text) if is_last => {
                line = std::mem::take(text);
                *running = Running::TheLine;
            }
            Running::LoginShell if is_last => "/usr/bin/true".clone_into(&mut line),
            Running::Line(_) | Running::LoginShell => {}
            Running::TheLine => {
                trace.refuse(Stage::Standing, Refusal::ActingNotKnown, || {
                    (
                        format!(
                            "what runs as `{}` on `{}` is not said: write account:HOST/LOGIN LINE, or shell:HOST/LOGIN",
                            visible(&login),
                            visible(&name)
                        ),
                        None,
                    )
                })?;
                return Err(Stop);
            }
        }
    }
    let mut theirs = Question::in_session(&question.user, &name, &line, question.session.clone());
    theirs.session.acting = links;
    theirs.session.account = None;
    site.kind().decide(site, &theirs, trace)?;
    if !engine.estate.names.users.contains_key(login.as_str()) {
        trace.refuse(Stage::Standing, Refusal::UnknownActingIdentity, || {
            (format!("the account `{}` is no user of the ledger, so nothing is known of it elsewhere", visible(&login)), None)
        })?;
        return Err(Stop);
    }
    let on_the_way = theirs.session.acting.iter().filter_map(|act| match act {
        Act::Account { login, .. } => Some(login.as_str()),
        Act::User(_) | Act::Role { .. } => None,
    });
    trace.behind.extend([question.user.as_str()].into_iter().chain(on_the_way).filter_map(|name| engine.find_user(name, false)));
    trace.understood(|| Understood::Elsewhere);
    let address = site.entry().address.as_ref().and_then(|a| a.value.parse().ok());
    let mut on = Question { user: login, ..question.clone() };
    on.session.acting = rest.to_vec();
    on.session.origin = address;
    on.session.channel = None;
    on.session.proofs = None;
    Ok(Some(Box::new(on)))
}

/// Refuses links on systems that know none: there is nobody there to act as.
pub(super) fn knows_links(site: Site<'_>, question: &Question, trace: &mut Trace) -> Result<(), Stop> {
    match question.session.acting.first() {
        Some(act) if !site.kind().knows_links() => {
            let kind = site.entry().kind().word();
            trace.refuse(Stage::Standing, Refusal::ActingNotKnown, || {
                (format!("a system of the kind `{kind}` cannot be used {act}: name the host, as account:HOST/LOGIN LINE"), None)
            })?;
            Err(Stop)
        }
        _ => Ok(()),
    }
}
