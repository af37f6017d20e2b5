//! Which accounts of a server nothing but their names and whose they are tells apart.

use std::sync::Arc;

use jiff::Timestamp;
use rustc_hash::{FxHashMap, FxHashSet};

use zest_engine::rules::Alike;
use zest_model::entry::{Database, DatabaseObject, DatabasePolicy, DatabaseRole};
use zest_model::source::At;

/// Returns accounts that could change places, those of each list among each other; `login_of` gives what a person types of an account's
/// name. Accounts with a login of which there are several are in none, since the server chooses among those.
pub(super) fn alike(parts: &[Arc<Database>], login_of: impl Fn(&str) -> String) -> Vec<Vec<Alike>> {
    let all = || parts.iter().flat_map(|part| &part.accounts);
    let mut with_login: FxHashMap<String, usize> = FxHashMap::default();
    all().for_each(|entry| *with_login.entry(login_of(&entry.name.value)).or_default() += 1);
    let named = Named::of(parts);
    let mut numbers: FxHashMap<Like<'_>, usize> = FxHashMap::default();
    let mut lists: Vec<Vec<Alike>> = Vec::new();
    for entry in all() {
        let login = login_of(&entry.name.value);
        if named.is_apart(&entry.name.value) || with_login[&login] > 1 {
            continue;
        }
        let number = *numbers.entry(like(entry)).or_insert(lists.len());
        let one = Alike { account: entry.name.value.clone(), login, is_lent: !entry.used_by.is_empty() };
        match lists.get_mut(number) {
            None => lists.push(vec![one]),
            Some(list) => list.push(one),
        }
    }
    lists.retain(|list| list.len() > 1);
    lists
}

/// All of an account but what it is called and whose it is.
#[derive(PartialEq, Eq, Hash)]
struct Like<'e> {
    origin: Option<&'e str>,
    lists: [Vec<&'e str>; 5],
    inherit: Option<bool>,
    default_role: Option<&'e str>,
    until: Option<Timestamp>,
    locked: Option<bool>,
    credential: Option<&'static str>,
    credential_due: Option<Timestamp>,
}

fn like(entry: &DatabaseRole) -> Like<'_> {
    let DatabaseRole {
        name,
        remark: _,
        used_by: _,
        may,
        inherit,
        member_of,
        administers,
        default_role,
        connection_limit: _,
        until,
        locked,
        credential,
        credential_due,
        settings,
        limits: _,
        not_modelled,
        more: _,
    } = entry;
    // Where an account is admitted from is part of its name.
    let origin = name.value.rsplit_once('@').map(|(_, origin)| origin);
    Like {
        origin,
        lists: [may, member_of, administers, settings, not_modelled].map(|list| list.iter().map(|name| name.value.as_str()).collect()),
        inherit: inherit.as_ref().map(|inherit| inherit.value),
        default_role: default_role.as_ref().map(|role| role.value.as_str()),
        until: until.as_ref().map(|until| until.value),
        locked: locked.as_ref().map(|locked| locked.value),
        credential: credential.as_ref().map(|credential| credential.value.word()),
        credential_due: credential_due.as_ref().map(|due| due.value),
    }
}

/// What is said of accounts by name.
struct Named {
    names: FxHashSet<String>,
    /// The words of all texts in which any could be named, in small letters.
    words: FxHashSet<String>,
    /// Whether any of them asks who it is.
    asks: bool,
}

impl Named {
    fn of(parts: &[Arc<Database>]) -> Self {
        let mut names: FxHashSet<String> = FxHashSet::default();
        let (mut texts, mut called): (Vec<&str>, Vec<&str>) = Default::default();
        let mut add = |list: &[At<String>]| names.extend(list.iter().map(|name| name.value.clone()));
        for part in parts {
            let Database { system: _, owner, accounts, roles, objects, grants, default_grants, settings, not_modelled, more: _ } = &**part;
            add(owner.as_slice());
            for role in accounts.iter().chain(roles) {
                add(&role.member_of);
                add(&role.administers);
                add(role.default_role.as_slice());
            }
            called.extend(roles.iter().map(|role| role.name.value.as_str()));
            for grant in grants.iter().chain(default_grants) {
                add(&grant.to);
                add(grant.grantor.as_slice());
                add(grant.creator.as_slice());
                called.extend(grant.on.iter().map(|on| on.value.as_str()));
            }
            for object in objects {
                let DatabaseObject {
                    name,
                    remark: _,
                    owner,
                    columns: _,
                    defaults,
                    query,
                    runs_as: _,
                    row_security: _,
                    row_security_for_owner: _,
                    policies,
                    triggers,
                    rules,
                    checks,
                    domain_of,
                    parameters,
                    settings,
                    returns: _,
                    language: _,
                    body,
                    values: _,
                    wrapper: _,
                    not_modelled,
                    more: _,
                } = object;
                add(owner.as_slice());
                // A schema of an account's name is where its unqualified names are looked for first.
                called.push(&name.value);
                for policy in policies.iter().flatten() {
                    let DatabasePolicy { name: _, acts: _, to, using, check, restrictive: _, more: _ } = policy;
                    add(to);
                    texts.extend([using, check].into_iter().flatten().map(|text| text.value.as_str()));
                }
                let single = [query, body, domain_of, parameters].into_iter().flatten();
                texts.extend(single.chain(settings).chain(not_modelled).map(|text| text.value.as_str()));
                let by_name = [defaults, triggers, rules, checks].into_iter().flatten();
                texts.extend(by_name.map(|(_, text)| text.value.as_str()));
            }
            texts.extend(settings.iter().chain(not_modelled).map(|text| text.value.as_str()));
        }
        let words = texts.iter().chain(&called).flat_map(|text| text.split(is_between)).map(str::to_lowercase).collect();
        let asks = texts.iter().any(|text| text.to_lowercase().contains("_user"));
        Self { names, words, asks }
    }

    fn is_apart(&self, account: &str) -> bool {
        let login = account.rsplit_once('@').map_or(account, |(login, _)| login);
        // A login of several words (`anna.berg`) is named at most where each of them is; unquoted names are read in small letters.
        let is_named = || !self.words.is_empty() && login.split(is_between).all(|word| self.words.contains(&word.to_lowercase()));
        self.asks || self.names.contains(account) || is_named()
    }
}

/// What stands between words.
const fn is_between(c: char) -> bool {
    !(c.is_ascii_alphanumeric() || matches!(c, '_' | '-' | '$') || !c.is_ascii())
}
