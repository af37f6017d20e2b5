//! What a host keeps that no set of rights tells of: what its jobs run, who may write to its programs, and what is handed over.

use crate::engine::rules::Beside;
use zest_model::entry::{Host, HostAccount, Job, RunAs};
use zest_model::source::{At, visible};

/// Returns it for one part of a host.
pub(super) fn beside_rights(part: &Host) -> Vec<Beside> {
    let Host { system: _, accounts, run_as, jobs, writable_by, links, keep_environment, proof_lasts: _, more: _ } = part;
    let mut list: Vec<Beside> = Vec::new();
    let mut add = |of: &str, what: String, text: &At<String>| {
        list.push(Beside { of: of.to_owned(), what, says: text.value.clone(), place: text.place, is_held: false });
    };
    for HostAccount {
        login,
        remark: _,
        shell,
        used_by: _,
        origin: _,
        locked: _,
        until: _,
        commands: _,
        commands_of: _,
        proof: _,
        more: _,
    } in accounts
    {
        shell.iter().for_each(|shell| add("", format!("the shell of `{}`", visible(&login.value)), shell));
    }
    // Who may edit a job is a right.
    for Job { name, runs_as, line, edited_by: _, more: _ } in jobs {
        let of = format!("job `{}`", visible(&name.value));
        runs_as.iter().for_each(|account| add(&of, format!("as whom {of} runs"), account));
        line.iter().for_each(|line| add(&of, format!("what {of} runs"), line));
    }
    for (path, to) in links {
        add("", format!("where `{}` leads", visible(&path.value)), to);
    }
    for (path, parties) in writable_by {
        let whoever = parties.iter().map(|party| party.value.as_str()).collect::<Vec<_>>().join(", ");
        list.push(Beside {
            of: String::new(),
            what: format!("who may write to `{}`", visible(&path.value)),
            says: whoever,
            place: path.place,
            is_held: false,
        });
    }
    for variable in keep_environment {
        let what = format!("that variable `{}` is handed over", visible(&variable.value));
        list.push(Beside { of: String::new(), what, says: String::new(), place: variable.place, is_held: false });
    }
    for RunAs { place: _, by, target, commands: _, proof: _, any_environment, because: _, more: _ } in run_as {
        let all = |list: &[At<String>]| list.iter().map(|name| visible(&name.value)).collect::<Vec<_>>().join(", ");
        if let Some(any) = any_environment.as_ref().filter(|any| any.value) {
            let what = format!("that any variable is handed over to what {} may run as {}", all(by), all(target));
            list.push(Beside { of: String::new(), what, says: String::new(), place: any.place, is_held: false });
        }
    }
    list.extend(jobs.iter().map(|job| Beside::whole(&format!("job `{}`", visible(&job.name.value)), job.name.place, false)));
    list
}
