//! What a session holds on a MariaDB server, and what is odd about one.

use std::collections::BTreeSet;

use jiff::Timestamp;
use rustc_hash::FxHashSet;

use super::broad::Broad;
use super::evaluate::PROXY;
use super::{AccountName, Holder, Scope, Server};
use crate::database::review::{no_use, nobody_uses, over};
use zest_engine::Engine;
use zest_model::finding::{Code, Finding};
use zest_model::source::visible;

/// Adds what is odd about MariaDB servers.
pub(super) fn review(engine: &Engine, at: Option<Timestamp>, findings: &mut Vec<Finding>) {
    for (_, server) in engine.states::<Server>() {
        oddities(engine, server, findings);
        over(server.parts(), at, findings);
    }
}

fn oddities(engine: &Engine, server: &Server, findings: &mut Vec<Finding>) {
    let state = server.at(Some(Timestamp::MIN));
    let place = |holder: &Holder| server.places.holders.get(holder).copied();
    let broad = Broad::of(&state);
    for ((holder, scope), held) in &state.grants {
        let Some(at) = held.place else { continue };
        let (shown, on) = (visible(&holder.to_string()), visible(&scope.to_string()));
        let what = match scope {
            Scope::Proxy(_) => PROXY.to_owned(),
            _ if held.privileges.is_empty() => "privileges on columns".to_owned(),
            _ => held.privileges.to_string(),
        };
        match holder {
            Holder::Public => findings.push(
                Finding::new(Code::PublicGrant, format!("everybody holds {what} on `{on}`, also accounts that are made later"))
                    .at(at, "granted to PUBLIC")
                    .help("grant it to the roles that need it, and revoke it from `public`"),
            ),
            Holder::Account(_) => findings.push(
                Finding::new(Code::GrantToAccount, format!("the account `{shown}` holds {what} on `{on}` by itself"))
                    .at(at, "granted to an account, and not to a role")
                    .help("grant it to a role and make the account a member"),
            ),
            Holder::Role(_) => {}
        }
        if let Some((wider, other)) = broad.beside(holder, scope, held) {
            let finding = Finding::new(
                Code::BroadBesideNarrow,
                format!("`{shown}` holds all of this on `{}` already, so the grant on `{on}` narrows nothing", visible(&wider.to_string())),
            )
            .at(at, "the narrow grant")
            .help("revoke the broad grant, or take the narrow one out");
            findings.push(match other.place {
                Some(place) => finding.also(place, "the broad grant"),
                None => finding,
            });
        }
    }
    for (name, account) in &state.accounts {
        let holder = Holder::Account(name.clone());
        let Some(at) = place(&holder) else { continue };
        let shown = visible(&name.to_string());
        if name.host == "%" {
            findings.push(
                Finding::new(Code::AnyOrigin, format!("the account `{shown}` is admitted from anywhere"))
                    .at(at, "any origin")
                    .help("name the networks it comes from: \"login@192.0.2.%\""),
            );
        }
        if name.user.is_empty() {
            let hidden: Vec<&AccountName> = state
                .accounts
                .keys()
                .filter(|a| !a.user.is_empty() && super::rank(&name.host) < super::rank(&a.host) && overlap(&name.host, &a.host))
                .collect();
            let mut finding = Finding::new(Code::AnonymousAccount, format!("the anonymous account `{shown}` lets unknown names in"))
                .at(at, "no name is needed")
                .help("take it out; accounts with names and origins of their own are enough");
            if let Some(first) = hidden.first() {
                let names = hidden.iter().take(4).map(|a| format!("`{}`", visible(&a.to_string()))).collect::<Vec<_>>().join(", ");
                finding.message = format!("the anonymous account `{shown}` lets unknown names in, and takes sessions from {names}");
                if let Some(place) = place(&Holder::Account((*first).clone())) {
                    finding = finding.also(place, "sessions of this name get the anonymous account where both origins fit");
                }
            }
            findings.push(finding);
            continue;
        }
        let roles: Vec<&String> = state.granted_to(&holder).collect();
        if account.default_role.as_ref().is_none_or(|role| !roles.contains(&role)) && !roles.is_empty() && name.user != "root" {
            let list = roles.iter().map(|r| format!("`{}`", visible(r))).collect::<Vec<_>>().join(", ");
            findings.push(
                Finding::new(Code::NoDefaultRole, format!("no role is active when `{shown}` signs in, though it was granted {list}"))
                    .at(at, "the roles bring nothing until one is made active")
                    .help("add `default-role`, or make sure that its users say SET ROLE"),
            );
        }
        let all = state.grants.get(&(holder, Scope::Everything)).is_some_and(|h| h.privileges == super::Level::Global.applicable());
        nobody_uses(engine, &name.to_string(), &name.user, !server.accounts.used_by(&name.to_string()).is_empty(), all, at, findings);
    }
    let root = Holder::Account(AccountName::new("root", "localhost"));
    let used: FxHashSet<&String> = state.memberships.keys().filter(|(m, _)| *m != root).map(|(_, role)| role).collect();
    let granted: BTreeSet<&Holder> = state.grants.keys().map(|(holder, _)| holder).collect();
    for role in &state.roles {
        let holder = Holder::Role(role.clone());
        let Some(at) = place(&holder) else { continue };
        let holds = granted.contains(&holder) || state.granted_to(&holder).next().is_some();
        let used = used.contains(role);
        no_use(!holds, !used, &visible(role), at, findings);
    }
}

/// Whether two origin patterns can fit one address; patterns that share their beginning are taken to.
fn overlap(one: &str, other: &str) -> bool {
    let head = |p: &str| p.split(['%', '_']).next().unwrap_or("").to_owned();
    let (a, b) = (head(one), head(other));
    other == "%" || one == "%" || a.starts_with(&b) || b.starts_with(&a)
}
