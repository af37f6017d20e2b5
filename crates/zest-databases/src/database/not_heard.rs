//! Keys of accounts, roles and objects that one kind of server knows and another does not: none of them is dropped without a word.

use zest_model::entry::{DatabaseObject, DatabasePolicy, DatabaseRole};
use zest_model::finding::{Code, Finding};
use zest_model::source::{At, Place};

pub(crate) const POSTGRESQL: &str = "PostgreSQL";
pub(crate) const MARIADB: &str = "MariaDB";

fn first<T>(list: &[At<T>]) -> Option<Place> {
    list.first().map(|item| item.place)
}

fn first_name<T>(list: &[(At<String>, T)]) -> Option<Place> {
    list.first().map(|(name, _)| name.place)
}

/// Reports the keys of an account or role that the server does not look at.
pub(crate) fn of_role(server: &str, entry: &DatabaseRole, findings: &mut Vec<Finding>) {
    let DatabaseRole {
        name,
        remark: _,
        used_by: _,
        may,
        inherit,
        member_of: _,
        administers: _,
        default_role,
        connection_limit: _,
        until,
        locked,
        credential: _,
        credential_due,
        settings,
        limits,
        not_modelled: _,
        more: _,
    } = entry;
    // The server that alone looks at the key, the key, and where it is written if it is.
    let keys = [
        (POSTGRESQL, "may", first(may)),
        (POSTGRESQL, "inherit", inherit.as_ref().map(|i| i.place)),
        (POSTGRESQL, "settings", first(settings)),
        (MARIADB, "default-role", default_role.as_ref().map(|d| d.place)),
        (POSTGRESQL, "until", until.as_ref().map(|u| u.place)),
        (MARIADB, "credential-due", credential_due.as_ref().map(|d| d.place)),
        (MARIADB, "locked", locked.as_ref().map(|l| l.place)),
        (MARIADB, "limits", first_name(limits)),
    ];
    for (heard_by, key, place) in keys {
        findings.extend(place.filter(|_| heard_by != server).map(|place| unheard(key, &name.value, server, place)));
    }
}

/// Reports the keys of an object that the server does not look at, or not on an object of this class.
pub(crate) fn of_object(server: &str, class: &str, entry: &DatabaseObject, findings: &mut Vec<Finding>) {
    let DatabaseObject {
        name,
        remark: _,
        owner: _,
        columns,
        defaults,
        query,
        runs_as,
        row_security,
        row_security_for_owner,
        policies,
        triggers,
        rules,
        checks,
        domain_of,
        parameters,
        settings,
        returns,
        language,
        body,
        values,
        wrapper,
        not_modelled: _,
        more: _,
    } = entry;
    let of_policies = policies.as_ref().and_then(|list| list.first()).map(|DatabasePolicy { name, .. }| name.place);
    const ROUTINES: &[&str] = &["function", "procedure"];
    const VIEWS: &[&str] = &["view", "materialised view"];
    let of = |key: &Option<At<String>>| key.as_ref().map(|key| key.place);
    let flag = |key: &Option<At<bool>>| key.as_ref().map(|key| key.place);
    // The key, where it is, and the classes that have it on either server.
    let keys: [(&str, Option<Place>, Classes, Classes); 18] = [
        ("columns", first_name(columns), &[&["table", "type"], VIEWS], &[&["table", "view"]]),
        ("defaults", first_name(defaults), &[&["table"]], &[]),
        ("query", of(query), &[VIEWS], &[&["view"]]),
        ("runs-as", runs_as.as_ref().map(|r| r.place), &[&["view"], ROUTINES], &[&["view"], ROUTINES]),
        ("row-security", flag(row_security), &[&["table"]], &[]),
        ("row-security-for-owner", flag(row_security_for_owner), &[&["table"]], &[]),
        ("policies", of_policies, &[&["table"]], &[]),
        ("triggers", first_name(triggers), &[&["table", "view"]], &[&["table"]]),
        ("rules", first_name(rules), &[&["table", "view"]], &[]),
        ("checks", first_name(checks), &[&["table", "type"]], &[]),
        ("domain-of", of(domain_of), &[&["type"]], &[]),
        ("parameters", of(parameters), &[ROUTINES], &[ROUTINES]),
        ("settings", first(settings), &[ROUTINES, &["view"]], &[]),
        ("returns", of(returns), &[&["function"]], &[&["function"]]),
        ("language", of(language), &[ROUTINES], &[ROUTINES]),
        ("body", of(body), &[ROUTINES], &[ROUTINES]),
        ("values", first(values), &[&["type"]], &[]),
        ("wrapper", of(wrapper), &[&["server"]], &[]),
    ];
    for (key, place, on_postgresql, on_mariadb) in keys {
        let classes = if server == POSTGRESQL { on_postgresql } else { on_mariadb };
        let is_heard = classes.concat().contains(&class);
        if let Some(place) = place.filter(|_| !is_heard) {
            let whose = if classes.is_empty() { server.to_owned() } else { format!("a {class}") };
            findings.push(unheard(key, &name.value, &whose, place));
        }
    }
}

/// Words of classes, in groups.
type Classes = &'static [&'static [&'static str]];

fn unheard(key: &str, of: &str, whose: &str, place: Place) -> Finding {
    let what = format!("`{key}` of `{}` means nothing on {whose}", zest_model::source::visible(of));
    let help = "take it out; what the server looks at and no key says stands under `not-modelled`";
    Finding::new(Code::UnknownKey, what).at(place, "not looked at here").help(help)
}
