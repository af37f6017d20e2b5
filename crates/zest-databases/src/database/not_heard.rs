//! Keys of accounts, roles and objects that one kind of server knows and another does not: none of them is dropped without a word.

use zest_model::entry::{DatabaseObject, DatabasePolicy, DatabaseRole};
use zest_model::finding::{Code, Finding};
use zest_model::source::{At, Place};

/// The server that alone looks at a key, the key, and where it is written if it is.
type Key = (&'static str, &'static str, Option<Place>);

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
        until: _,
        locked,
        credential: _,
        settings,
        limits,
        not_modelled: _,
        more: _,
    } = entry;
    let keys = [
        (POSTGRESQL, "may", first(may)),
        (POSTGRESQL, "inherit", inherit.as_ref().map(|i| i.place)),
        (POSTGRESQL, "settings", first(settings)),
        (MARIADB, "default-role", default_role.as_ref().map(|d| d.place)),
        (MARIADB, "locked", locked.as_ref().map(|l| l.place)),
        (MARIADB, "limits", first_name(limits)),
    ];
    report(server, &name.value, &keys, findings);
}

/// Reports the keys of an object that the server does not look at.
pub(crate) fn of_object(server: &str, entry: &DatabaseObject, findings: &mut Vec<Finding>) {
    let DatabaseObject {
        name,
        remark: _,
        owner: _,
        columns: _,
        defaults,
        query: _,
        runs_as: _,
        row_security,
        row_security_for_owner,
        policies,
        triggers,
        rules,
        checks,
        domain_of,
        parameters: _,
        settings,
        returns: _,
        language: _,
        body: _,
        values,
        wrapper,
        not_modelled: _,
        more: _,
    } = entry;
    let of_policies = policies.as_ref().and_then(|list| list.first()).map(|DatabasePolicy { name, .. }| name.place);
    let keys = [
        (POSTGRESQL, "defaults", first_name(defaults)),
        (POSTGRESQL, "row-security", row_security.as_ref().map(|r| r.place)),
        (POSTGRESQL, "row-security-for-owner", row_security_for_owner.as_ref().map(|r| r.place)),
        (POSTGRESQL, "policies", of_policies),
        (POSTGRESQL, "triggers", first_name(triggers)),
        (POSTGRESQL, "rules", first_name(rules)),
        (POSTGRESQL, "checks", first_name(checks)),
        (POSTGRESQL, "domain-of", domain_of.as_ref().map(|d| d.place)),
        (POSTGRESQL, "settings", first(settings)),
        (POSTGRESQL, "values", first(values)),
        (POSTGRESQL, "wrapper", wrapper.as_ref().map(|w| w.place)),
    ];
    report(server, &name.value, &keys, findings);
}

fn report(server: &str, of: &str, keys: &[Key], findings: &mut Vec<Finding>) {
    for (_, key, place) in keys.iter().filter(|(heard_by, ..)| *heard_by != server) {
        let Some(place) = *place else { continue };
        findings.push(
            Finding::new(Code::UnknownKey, format!("`{key}` of `{}` means nothing on {server}", zest_model::source::visible(of)))
                .at(place, "not looked at here")
                .help("take it out; what the server looks at and no key says stands under `not-modelled`"),
        );
    }
}
