//! What a database server keeps that no set of rights tells of: what views, routines, triggers, rules and checks do, and what is set.

use zest_engine::rules::Beside;
use zest_model::entry::{Database, DatabaseGrant, DatabaseObject, DatabasePolicy, DatabaseRole};
use zest_model::source::{At, Place, visible};

/// Returns it for one part of a server; `is_too_much` says of which objects the policies are too many for being told apart in sets.
pub(super) fn beside_rights(part: &Database, is_too_much: impl Fn(&str) -> bool) -> Vec<Beside> {
    let Database { system: _, owner: _, accounts, roles, objects, grants: _, default_grants, settings, not_modelled: _, more: _ } = part;
    let mut list = List::default();
    list.texts("the settings of the database", settings);
    accounts.iter().chain(roles).for_each(|role| of_role(&mut list, role));
    for object in objects {
        of_object(&mut list, object);
        let policies = object.policies.as_ref().filter(|_| is_too_much(&object.name.value));
        policies.into_iter().flatten().for_each(|policy| of_policy(&mut list, &object.name.value, policy));
    }
    list.of.clear();
    default_grants.iter().for_each(|grant| of_new_objects(&mut list, grant));
    list.found
}

#[derive(Default)]
struct List {
    found: Vec<Beside>,
    /// What is looked at: an object, account or role; nothing for the server.
    of: String,
}

impl List {
    fn add(&mut self, what: String, says: String, place: Place) {
        self.found.push(Beside { of: self.of.clone(), what, says, place, is_held: false });
    }

    /// Goes on with an object, account or role.
    fn begin(&mut self, of: &str, place: Place) {
        of.clone_into(&mut self.of);
        self.found.push(Beside::whole(of, place, true));
    }

    fn one(&mut self, what: String, text: &At<String>) {
        self.add(what, text.value.clone(), text.place);
    }

    fn texts(&mut self, what: &str, all: &[At<String>]) {
        let Some(first) = all.first() else { return };
        let says = all.iter().map(|text| text.value.as_str()).collect::<Vec<_>>().join("\n");
        self.add(what.to_owned(), says, first.place);
    }
}

fn of_role(list: &mut List, role: &DatabaseRole) {
    // Who uses it, what it may and is a member of, and how its sessions begin, sets of rights tell.
    let DatabaseRole {
        name,
        remark: _,
        used_by: _,
        may: _,
        inherit: _,
        member_of: _,
        administers: _,
        default_role: _,
        connection_limit,
        until: _,
        locked: _,
        credential: _,
        credential_due: _,
        settings,
        limits,
        not_modelled: _,
        more: _,
    } = role;
    let shown = format!("`{}`", visible(&name.value));
    list.begin(&shown, name.place);
    let whose = format!("of {shown}");
    list.texts(&format!("the settings {whose}"), settings);
    if let Some(limit) = connection_limit {
        let says = limit.value.to_string();
        list.add(format!("how many sessions {whose} there may be"), says, limit.place);
    }
    for (limit, most) in limits {
        let what = format!("the limit `{}` {whose}", visible(&limit.value));
        list.add(what, most.value.to_string(), most.place);
    }
}

fn of_object(list: &mut List, object: &DatabaseObject) {
    let DatabaseObject {
        name,
        remark: _,
        owner,
        columns,
        defaults,
        query,
        runs_as,
        row_security: _,
        row_security_for_owner: _,
        policies: _,
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
    } = object;
    let on = visible(&name.value);
    list.begin(&on, name.place);
    // What it does is done in the name of the owner, or of the definer.
    let is_run = query.is_some() || body.is_some() || !rules.is_empty();
    for (what, text) in [
        ("the query", query),
        ("the body", body),
        ("the language", language),
        ("the parameters", parameters),
        ("what comes out", returns),
        ("the type below", domain_of),
        ("the wrapper", wrapper),
        ("in whose name it runs,", &owner.clone().filter(|_| is_run)),
    ] {
        text.iter().for_each(|text| list.one(format!("{what} of {on}"), text));
    }
    if let Some(whose) = runs_as {
        list.add(format!("with whose rights {on} runs"), whose.value.word().to_owned(), whose.place);
    }
    // New rows without a list of columns are made of the first ones.
    if let Some((first, _)) = columns.first() {
        let order = columns.iter().map(|(column, _)| column.value.as_str()).collect::<Vec<_>>().join("\n");
        list.add(format!("which columns {on} has, in which order"), order, first.place);
    }
    for (what, all) in [("column", columns), ("default", defaults), ("trigger", triggers), ("rule", rules), ("check", checks)] {
        // A column without a type says nothing.
        for (part, text) in all.iter().filter(|(_, text)| !text.value.is_empty()) {
            list.one(format!("{what} `{}` of {on}", visible(&part.value)), text);
        }
    }
    list.texts(&format!("the settings of {on}"), settings);
    list.texts(&format!("the values of {on}"), values);
}

fn of_policy(list: &mut List, on: &str, policy: &DatabasePolicy) {
    let DatabasePolicy { name, acts, to, using, check, restrictive, more: _ } = policy;
    let text = |text: &Option<At<String>>| text.as_ref().map(|text| text.value.clone()).unwrap_or_default();
    let acts = acts.as_ref().map(|acts| acts.value.word());
    let to = to.iter().map(|role| role.value.as_str()).collect::<Vec<_>>().join(", ");
    let is_restrictive = restrictive.as_ref().is_some_and(|restrictive| restrictive.value);
    let says = format!("{acts:?}\n{to}\n{}\n{}\n{is_restrictive}", text(using), text(check));
    list.add(format!("policy `{}` of {}", visible(&name.value), visible(on)), says, name.place);
}

fn of_new_objects(list: &mut List, grant: &DatabaseGrant) {
    let DatabaseGrant {
        place,
        allow,
        revoke,
        deny: _,
        except,
        on,
        columns: _,
        to,
        regrant,
        cascade: _,
        grantor: _,
        creator,
        because: _,
        until,
        more: _,
    } = grant;
    let all = |list: &[At<String>]| list.iter().map(|text| text.value.as_str()).collect::<Vec<_>>().join(", ");
    let says = format!(
        "{}\n{}\n{}\n{}\n{}\n{:?}\n{:?}",
        all(allow),
        all(revoke),
        all(except),
        all(on),
        all(to),
        regrant.as_ref().map(|regrant| regrant.value),
        until.as_ref().map(|until| until.value),
    );
    let whose = creator.as_ref().map_or_else(|| "everybody".to_owned(), |creator| format!("`{}`", visible(&creator.value)));
    list.add(format!("what is granted on objects that {whose} makes"), says, *place);
}
