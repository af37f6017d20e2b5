//! What the server checks for an action, one by one, and what a catalog says to each.

use super::acl::{AclRefusal, Grantee};
use super::catalog::{Catalog, Want, Way};
use super::object::ObjectName;
use super::policy::{self, Lets, Part};
use super::privilege::{Class, Privilege, Privileges};
use super::state::{GrantChange, Object, State};
use super::which_rows::Rows;
use super::written::Taken;
use crate::database::{On, Outcome};
use zest_model::ask::Refusal;
use zest_model::entry::PolicyFor;
use zest_model::source::{Place, visible};

/// What is needed.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(crate) enum Demand {
    /// One of these privileges.
    Privilege { any: Privileges, on: On, want: Want },
    /// To own the object, or be a member of its owner; for a drop the owner of the schema will do.
    Owner { or_of_schema: bool },
}

/// One check of the server.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(crate) enum Need {
    /// About an object.
    Object { role: String, object: ObjectName, demand: Demand },
    /// A switch of the role: `create-role` and its like; superusers have all.
    Switch { role: String, switch: &'static str },
    /// Membership in a role.
    Member { role: String, of: String, why: String },
    /// The right to pass on the membership of a role.
    Admin { role: String, of: String },
    /// That the server lets a role be made a member of another at all; whoever asks.
    Membership { role: String, of: String, member: String },
    /// That the server lets an option to pass something on be given at all; whoever asks, but for the owner.
    Option(GivenOption),
    /// All rights of another role, through memberships that inherit.
    Rights { role: String, of: String },
    /// That some policy of row security lets new rows in.
    NewRow { role: String, object: ObjectName },
    /// That row security keeps none of these rows back from what a privilege is for.
    Rows { role: String, object: ObjectName, privilege: Privilege, rows: Rows },
    /// What the server gives to superusers, and to those who have all rights of one of these roles of its own.
    Server { role: String, of: Vec<&'static str>, what: String },
}

impl Need {
    pub(crate) fn privilege(role: &str, object: &ObjectName, privilege: Privilege, on: On) -> Self {
        let demand = Demand::Privilege { any: privilege.only(), on, want: Want::Privilege };
        Self::Object { role: role.to_owned(), object: object.clone(), demand }
    }

    /// Returns whether the need passes for another role: where it can by bits alone, so that many roles can be looked at.
    pub(crate) fn passes_for(&self, role: &str, catalog: &Catalog) -> bool {
        if let Self::Object { object, demand: Demand::Privilege { any, on, want }, .. } = self
            && let (Some(role), Some(object)) = (catalog.role(role), catalog.object(object))
        {
            let held = |column: &str| any.iter().any(|privilege| catalog.holds_column(role, object, column, privilege, *want));
            let on_object = any.iter().any(|privilege| catalog.holds(role, object, privilege, *want));
            match on {
                On::Object => return on_object,
                On::Columns(columns) if !columns.is_empty() => return on_object || columns.iter().all(|column| held(column)),
                On::Columns(_) | On::Some if on_object => return true,
                On::Columns(_) | On::Some => {}
            }
        }
        self.of(role).outcome(catalog).passes()
    }

    /// Returns the same need for another role.
    pub(crate) fn of(&self, other: &str) -> Self {
        let mut need = self.clone();
        match &mut need {
            Self::Object { role, .. }
            | Self::Switch { role, .. }
            | Self::Member { role, .. }
            | Self::Admin { role, .. }
            | Self::Membership { role, .. }
            | Self::Option(GivenOption { role, .. })
            | Self::Rights { role, .. }
            | Self::NewRow { role, .. }
            | Self::Rows { role, .. }
            | Self::Server { role, .. } => other.clone_into(role),
        }
        need
    }

    pub(crate) fn owner(role: &str, object: &ObjectName) -> Self {
        Self::Object { role: role.to_owned(), object: object.clone(), demand: Demand::Owner { or_of_schema: false } }
    }

    /// Tells the other ways by which a privilege is held on an object as a whole, besides the one that the outcome tells.
    pub(crate) fn also(&self, catalog: &Catalog) -> Vec<String> {
        let Self::Object { role, object, demand: Demand::Privilege { any, want, .. } } = self else { return Vec::new() };
        let (Some(role), Some(object)) = (catalog.role(role), catalog.object(object)) else { return Vec::new() };
        let ways = any.iter().map(|privilege| catalog.ways(role, object, privilege, *want)).find(|ways| !ways.is_empty());
        ways.unwrap_or_default().iter().skip(1).map(shortly).collect()
    }

    /// Finds the last revoke that took a privilege from the role, or from one whose privileges it has: from whom, and where it is written.
    pub(crate) fn taken(&self, catalog: &Catalog, all: &[Taken]) -> Option<(String, Place)> {
        let Self::Object { role, object, demand: Demand::Privilege { any, on, want: Want::Privilege } } = self else { return None };
        let number = catalog.role(role)?;
        let is_mine = |grantee: &Grantee| match grantee {
            Grantee::Public => true,
            Grantee::Role(name) => catalog.role(name).is_some_and(|of| catalog.has_role(number, of)),
        };
        let is_it = |taken: &&Taken| {
            taken.object == *object
                && !taken.privileges.and(*any).is_empty()
                && is_mine(&taken.grantee)
                && match (&taken.column, on) {
                    (None, _) | (Some(_), On::Some) => true,
                    (Some(column), On::Columns(columns)) => columns.contains(column),
                    (Some(_), On::Object) => false,
                }
        };
        let last = all.iter().rev().find(is_it)?;
        let from = match &last.grantee {
            Grantee::Public => "PUBLIC".to_owned(),
            Grantee::Role(name) => format!("`{}`", visible(name)),
        };
        Some((from, last.place))
    }

    /// Decides.
    pub(crate) fn outcome(&self, catalog: &Catalog) -> Outcome {
        let fail = |refusal, text: String| Outcome { refusal: Some(refusal), text, place: None };
        let pass = |text: String, place| Outcome { refusal: None, text, place };
        match self {
            Self::Object { role, object, demand } => {
                let Some(number) = catalog.role(role) else {
                    return fail(Refusal::UnknownRole, format!("no role is named `{}`", visible(role)));
                };
                let Some(at) = catalog.object(object) else {
                    return fail(Refusal::UnknownObject, format!("`{}` is not in the inventory", visible(&object.to_string())));
                };
                let (shown, name) = (visible(role), visible(&object.to_string()));
                match demand {
                    Demand::Owner { or_of_schema } => {
                        let owners = |name: &ObjectName| {
                            let owner = catalog.state().objects.get(name).map(|o| o.owner.clone());
                            owner.filter(|o| catalog.role(o).is_some_and(|o| catalog.has_role(number, o)))
                        };
                        if let Some(owner) = owners(object) {
                            let text = if catalog.state().is_superuser(role) {
                                format!("`{shown}` is a superuser, which passes every check (ownership of {name})")
                            } else if owner == *role {
                                format!("`{shown}` owns {name} and so holds an owner's rights")
                            } else {
                                format!("`{shown}` holds ownership of {name} as the owner does, through `{}`", visible(&owner))
                            };
                            return pass(text, None);
                        }
                        let schema = object.schema().filter(|_| *or_of_schema).map(|s| ObjectName::new(Class::Schema, &[s]));
                        if let Some(owner) = schema.as_ref().and_then(owners) {
                            return pass(format!("`{shown}` is or belongs to `{}`, the owner of the schema", visible(&owner)), None);
                        }
                        let owner = catalog.state().objects.get(object).map_or("?", |o| o.owner.as_str());
                        fail(Refusal::NotOwner, format!("{name} belongs to `{}`; only the owner may do this", visible(owner)))
                    }
                    Demand::Privilege { any, on, want } => {
                        let list = any.iter().map(Privilege::word).collect::<Vec<_>>().join(" or ");
                        let option = if *want == Want::GrantOption { " with grant option" } else { "" };
                        let way = |column: Option<&str>| any.iter().find_map(|p| catalog.way(number, at, column, p, *want).map(|w| (p, w)));
                        if let Some((privilege, way)) = way(None) {
                            let (text, place) = told(&shown, privilege, &name, option, &way);
                            return pass(text, place);
                        }
                        let known: Vec<String> = catalog
                            .state()
                            .objects
                            .get(object)
                            .map(|o| o.columns.iter().map(|c| c.name.clone()).collect())
                            .unwrap_or_default();
                        let wanted: &[String] = match on {
                            On::Object => &[],
                            On::Some => {
                                if let Some((privilege, way)) = known.iter().find_map(|c| way(Some(c))) {
                                    let (text, place) = told(&shown, privilege, &name, option, &way);
                                    return pass(text, place);
                                }
                                &[]
                            }
                            On::Columns(columns) => columns,
                        };
                        let mut last = None;
                        let mut missing = Vec::new();
                        for column in wanted {
                            match way(Some(column)) {
                                Some(found) => last = Some(found),
                                None => missing.push(visible(column)),
                            }
                        }
                        if let (Some((privilege, way)), true) = (last, missing.is_empty()) {
                            let (mut text, place) = told(&shown, privilege, &name, option, &way);
                            if wanted.len() > 1 {
                                text =
                                    format!("{text}, as on each of {}", wanted.iter().map(|c| visible(c)).collect::<Vec<_>>().join(", "));
                            }
                            return pass(text, place);
                        }
                        let columns = if missing.is_empty() || missing.len() == wanted.len() && wanted.len() == known.len() {
                            String::new()
                        } else {
                            format!(", column {}", missing.join(", "))
                        };
                        let refusal = match (want, object.class, any.iter().next()) {
                            (Want::GrantOption, ..) => Refusal::NoGrantOption,
                            (_, Class::Schema, Some(Privilege::Usage)) => Refusal::SchemaShut,
                            _ => Refusal::NoPrivilege,
                        };
                        fail(refusal, format!("`{shown}` does not hold {list}{option} on {name}{columns}"))
                    }
                }
            }
            Self::Switch { role, switch } => {
                let entry = catalog.state().roles.get(role);
                let has = entry.is_some_and(|r| {
                    r.superuser
                        || match *switch {
                            "create-role" => r.create_role,
                            "create-database" => r.create_database,
                            "replication" => r.replication,
                            "bypass-row-security" => r.bypass_row_security,
                            _ => false,
                        }
                });
                if has {
                    pass(format!("`{}` has the switch `{switch}`, or is a superuser", visible(role)), None)
                } else {
                    fail(Refusal::SwitchOff, format!("`{}` does not have the switch `{switch}`", visible(role)))
                }
            }
            Self::Member { role, of, why } => {
                if catalog.state().may_become(role, of) {
                    pass(format!("`{}` is a member of `{}` ({why})", visible(role), visible(of)), None)
                } else {
                    fail(Refusal::RoleNotGranted, format!("`{}` is not a member of `{}` ({why})", visible(role), visible(of)))
                }
            }
            Self::Admin { role, of } => {
                let state = catalog.state();
                let creates = state.roles.get(role).is_some_and(|r| r.create_role) && !state.is_superuser(of);
                // Nobody but a superuser makes somebody a member of a superuser.
                let passes = |r: &String| !state.is_superuser(of) && state.roles.get(r).is_some_and(|r| r.member_of.get(of) == Some(&true));
                if state.is_superuser(role) || creates || state.roles_of(role, false).iter().any(passes) {
                    pass(format!("`{}` may pass on the membership of `{}`", visible(role), visible(of)), None)
                } else {
                    fail(Refusal::NoAdminOption, format!("`{}` may not pass on the membership of `{}`", visible(role), visible(of)))
                }
            }
            Self::Membership { role: _, of, member } => match barred(catalog.state(), of, member) {
                Some(why) => fail(Refusal::MembershipBarred, why),
                None => pass(format!("`{}` can be made a member of `{}`", visible(member), visible(of)), None),
            },
            Self::Option(given) => match given.barred(catalog.state()) {
                Some(why) => fail(Refusal::OptionBarred, why),
                None => pass(format!("{} can be given the option", visible(&given.grantee.to_string())), None),
            },
            Self::Server { role, of, what } => {
                let shown = visible(role);
                let has = |of: &&&str| catalog.role(role).zip(catalog.role(of)).is_some_and(|(role, of)| catalog.has_role(role, of));
                if catalog.state().is_superuser(role) {
                    return pass(format!("`{shown}` is a superuser, which passes every check ({what})"), None);
                }
                if let Some(of) = of.iter().find(has) {
                    return pass(format!("`{shown}` has all rights of `{of}` ({what})"), None);
                }
                let others = of.iter().map(|of| format!(" or members of `{of}`")).collect::<String>();
                fail(Refusal::NoPrivilege, format!("`{shown}` may not: {what} is for superusers{others}"))
            }
            Self::NewRow { role, object } => {
                let entry = catalog.state().objects.get(object);
                let is_shut = |entry: &Object| {
                    policy::binds(catalog, role, entry) && policy::lets(catalog, role, entry, PolicyFor::Insert, Part::Check) == Lets::None
                };
                let (shown, name) = (visible(role), visible(&object.to_string()));
                if entry.is_some_and(is_shut) {
                    return fail(Refusal::RowNotLetIn, format!("no policy of {name} lets a new row of `{shown}` in"));
                }
                pass(format!("row security of {name} lets new rows of `{shown}` in"), None)
            }
            Self::Rows { role, object, privilege, rows } => {
                let (shown, name, act) = (visible(role), visible(&object.to_string()), privilege.word());
                let Some(entry) = catalog.state().objects.get(object) else {
                    return fail(Refusal::UnknownObject, format!("`{name}` is not in the inventory"));
                };
                if !policy::binds(catalog, role, entry) {
                    return pass(format!("row security of {name} does not bind `{shown}`"), None);
                }
                let Err((permitting, restricting)) = rows.pass(catalog, role, entry, *privilege) else {
                    return pass(format!("the policies of {name} let `{shown}` {act} all of these rows"), None);
                };
                let listed = |list: &[&str], word: &str| {
                    list.iter().map(|condition| format!("`{}`", visible(condition))).collect::<Vec<_>>().join(word)
                };
                let of = if rows.part == Part::Check { "new rows" } else { "rows" };
                let restricts = match restricting.as_slice() {
                    [] => String::new(),
                    some => format!(", where {} holds too", listed(some, " and ")),
                };
                let why = match permitting.as_slice() {
                    [] => format!("no policy of {name} lets `{shown}` {act} any of the {of}"),
                    some => format!("the policies of {name} let `{shown}` {act} {of} of which {} holds{restricts}", listed(some, " or ")),
                };
                fail(Refusal::RowsWithheld, why)
            }
            Self::Rights { role, of } => {
                let (shown, other) = (visible(role), visible(of));
                if catalog.role(role).zip(catalog.role(of)).is_some_and(|(role, of)| catalog.has_role(role, of)) {
                    pass(format!("`{shown}` has all rights of `{other}`"), None)
                } else {
                    fail(Refusal::NoPrivilege, format!("`{shown}` does not have the rights of `{other}`, which only its members inherit"))
                }
            }
        }
    }
}

/// Somebody is given an option to pass something on.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(crate) struct GivenOption {
    /// Who gives it.
    pub(crate) role: String,
    pub(crate) object: ObjectName,
    /// On these columns only; on the whole object if none.
    pub(crate) columns: Vec<String>,
    pub(crate) privileges: Privileges,
    pub(crate) grantee: Grantee,
}

impl GivenOption {
    /// Says why the server lets it be given to nobody of that name; whether it is held at all is another matter.
    pub(super) fn barred(&self, state: &State) -> Option<String> {
        let Self { role, object, columns, privileges, grantee } = self;
        let change = GrantChange {
            object: object.clone(),
            columns: columns.clone(),
            privileges: *privileges,
            grantee: grantee.clone(),
            regrant: true,
            by: Some(role.clone()),
            revoke: false,
            cascade: false,
            place: None,
        };
        let refused = state.would_refuse(&change)?;
        let is_barred = match refused {
            AclRefusal::Circular | AclRefusal::OptionToPublic => true,
            AclRefusal::NoGrantOption | AclRefusal::Dependent(_) => false,
        };
        is_barred.then(|| format!("`{}` on {}: {refused}", visible(&grantee.to_string()), visible(&object.to_string())))
    }
}

/// Says why the server makes a role no member of another, whoever asks for it (`AddRoleMems`).
pub(super) fn barred(state: &State, of: &str, member: &str) -> Option<String> {
    const OWNERS: &str = "pg_database_owner";
    let (shown, other) = (visible(of), visible(member));
    if of == OWNERS {
        Some(format!("`{OWNERS}` has no other member than the owner of the database: nobody is made one"))
    } else if member == OWNERS {
        Some(format!("`{OWNERS}` is made a member of nothing"))
    } else if of == member {
        Some(format!("`{shown}` cannot be a member of itself"))
    } else {
        state
            .belongs(of, member, false)
            .then(|| format!("`{shown}` is a member of `{other}`, and the server lets no role come back to itself"))
    }
}

/// Tells a way in a few words.
fn shortly(way: &Way) -> String {
    let roles = |chain: &[String]| chain.iter().skip(1).map(|role| format!("`{}`", visible(role))).collect::<Vec<_>>().join(" -> ");
    match way {
        Way::Superuser => "as a superuser".to_owned(),
        Way::Owner { chain } if chain.len() <= 1 => "as the owner".to_owned(),
        Way::Owner { chain } => format!("as the owner does, through {}", roles(chain)),
        Way::Predefined { chain } => format!("through {}", roles(chain)),
        Way::Grant { chain, .. } => match chain.as_slice() {
            [] => "through PUBLIC".to_owned(),
            [_] => "by its own grant".to_owned(),
            _ => format!("through {}", roles(chain)),
        },
    }
}

/// Tells by which way something is held.
pub(crate) fn told(role: &str, privilege: Privilege, object: &str, option: &str, way: &Way) -> (String, Option<Place>) {
    let what = format!("{}{option} on {object}", privilege.word());
    let through = |chain: &[String]| match chain {
        [] => "through PUBLIC".to_owned(),
        [_] => "by its own grant".to_owned(),
        more => format!("through {}", more.iter().skip(1).map(|r| format!("`{}`", visible(r))).collect::<Vec<_>>().join(" -> ")),
    };
    match way {
        Way::Superuser => (format!("`{role}` is a superuser, which passes every check ({what})"), None),
        Way::Owner { chain } if chain.len() <= 1 => (format!("`{role}` owns {object} and so holds {}{option}", privilege.word()), None),
        Way::Owner { chain } => (format!("`{role}` holds {what} as the owner does, {}", through(chain)), None),
        Way::Predefined { chain } => (format!("`{role}` holds {what} on all objects, {}", through(chain)), None),
        Way::Grant { chain, grantor, place, column } => {
            let column = column.as_ref().map_or(String::new(), |c| format!(", column {}", visible(c)));
            let by = if place.is_none() {
                ", as the server gives it by itself".to_owned()
            } else {
                format!(", given by `{}`", visible(grantor))
            };
            (format!("`{role}` holds {what}{column} {}{by}", through(chain)), *place)
        }
    }
}
