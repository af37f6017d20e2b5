//! Sessions that were opened earlier. The band was given at sign-in and is kept; for each line of which the device asks the central source,
//! that one looks anew at who asks, by which assignment, and at the command sets; what a device itself says of a command holds at once.

use smallvec::SmallVec;

use super::entry::open;
use super::line::check;
use super::{Device, Standpoint};
use crate::engine::Standing;
use crate::engine::entry::find_user;
use crate::engine::rules::{Opened, Site};
use crate::engine::trace::{Stop, Trace, Understood};
use zest_model::ask::{Central, Question, Refusal, Stage};
use zest_model::source::visible;

/// What the central source gives to a line of which it is not asked.
static NO_SETS: Standing = Standing { band: None, sets: SmallVec::new_const(), roles: Vec::new(), is_local: false };

pub(super) fn decide(site: Site<'_>, opened: &Opened<'_>, question: &Question, trace: &mut Trace) -> Result<(), Stop> {
    let Site { engine, system } = site;
    let not_known = |what: &str, trace: &mut Trace| {
        trace.refuse(Stage::Standing, Refusal::NotDecided, || (format!("{what}, it is not known what an open session keeps"), None))?;
        Err(Stop)
    };
    if question.session.central == Central::Down {
        return not_known("while the central source is down", trace);
    }
    let begun = open(opened.site.engine, &opened.question(question), opened.site.system, trace)?;
    if begun.standing.is_local {
        return not_known("of a local account", trace);
    }
    let (band, level) = (begun.band, begun.level);
    let device = Device::of(engine, system).ok_or(Stop)?;
    let vocabulary = device.vocabulary(engine);
    let mode = question.session.mode.as_deref().and_then(|mode| vocabulary.mode(mode)).unwrap_or(vocabulary.start_mode);
    if !device.authorises(level, mode) {
        let user = find_user(engine, question, device.ignores_case, trace)?;
        return check(engine, question, &Standpoint { system, device, user, standing: &NO_SETS, from: None, band, level }, trace);
    }
    trace.pass(Stage::Entry, || {
        (format!("the central source looks anew at who types a line on `{}`, and at the assignments", visible(&question.system)), None)
    });
    // A level that a new session could not have, this one came to.
    let mut anew = question.clone();
    anew.session.level = None;
    let now = open(engine, &anew, system, trace)?;
    trace.understood(|| Understood::Level(level));
    if now.standing.is_local {
        return not_known("where a local account answers by now", trace);
    }
    check(engine, question, &Standpoint { band, level, ..now }, trace)
}
