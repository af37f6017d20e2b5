//! Random database servers on which people may administer each other, and what they may come to there.

use std::collections::BTreeMap;

use fastrand::Rng;

/// Something that somebody has come to.
#[derive(Clone, Debug, PartialEq, Eq, PartialOrd, Ord)]
pub enum Gained {
    /// Signs in as a user, with a password that was set anew.
    Becomes(String),
    /// A user signs in as an account, or has routines run as it.
    Uses(String, String),
    /// An account is a member of a role.
    Holds(String, String),
    /// An account may anything with an object.
    Owns(String, String),
    /// A table shows all its rows.
    Shows(String),
    /// An account may anything.
    Rules(String),
}

/// An account or a role as it is written.
#[derive(Clone, Debug, Default)]
pub struct Role {
    /// Its switches, on PostgreSQL.
    pub may: Vec<&'static str>,
    /// Whether it has what its roles have before it becomes one of them, on PostgreSQL.
    pub inherit: bool,
    /// Of which roles it is a member.
    pub member_of: Vec<String>,
    /// Of which roles it says who is a member, and is one.
    pub administers: Vec<String>,
    /// Which role is active at first, on MariaDB.
    pub default_role: Option<String>,
    /// Who signs in as it beside whoever is called so.
    pub used_by: Vec<String>,
}

impl Role {
    /// Whoever says who is in a role is in it.
    #[must_use]
    pub fn is_in(&self, role: &str) -> bool {
        self.member_of.iter().chain(&self.administers).any(|of| of == role)
    }
}

/// A database server as it is written, and a desk that sets passwords anew.
#[derive(Clone, Debug)]
pub struct Server {
    /// PostgreSQL, or else MariaDB.
    pub is_postgresql: bool,
    /// Who signs in.
    pub accounts: BTreeMap<String, Role>,
    /// Roles nobody signs in as.
    pub roles: BTreeMap<String, Role>,
    /// Tables with their owners, and whether policies hide their rows.
    pub tables: BTreeMap<String, (String, bool)>,
    grants: Vec<String>,
    resets: Vec<(usize, usize)>,
    /// Who owns the view on the first table, if there is one, and whether it runs as its caller.
    pub view: Option<(String, bool)>,
}

/// How many people there are, `u0` and so on.
pub const PEOPLE: usize = 4;
const TABLES: [&str; 2] = ["fares", "tides"];

impl Server {
    /// Makes one.
    #[must_use]
    pub fn random(random: &mut Rng) -> Self {
        let is_postgresql = random.bool();
        let host = if is_postgresql { "" } else { "@%" };
        let one_of = |random: &mut Rng, list: &[String]| list[random.usize(..list.len())].clone();
        let names: Vec<String> = (0..PEOPLE).map(|number| format!("u{number}{host}")).chain([format!("crew{host}")]).collect();
        let role_names: Vec<String> = ["harbour", "night", "steward"].map(str::to_owned).into();
        let mut server = Self {
            is_postgresql,
            accounts: BTreeMap::new(),
            roles: BTreeMap::new(),
            tables: BTreeMap::new(),
            grants: Vec::new(),
            resets: (0..random.usize(..3)).map(|_| (random.usize(..PEOPLE), random.usize(..PEOPLE))).collect(),
            view: None,
        };
        let member_of = |random: &mut Rng, of: &[String], often: usize| -> Vec<String> {
            of.iter().filter(|_| random.usize(..often) == 0).cloned().collect()
        };
        for (position, name) in role_names.iter().enumerate() {
            let may = if is_postgresql && random.usize(..8) == 0 { vec!["create-role"] } else { Vec::new() };
            // No role comes back to itself.
            let member_of = member_of(random, &role_names[..position], 4);
            server.roles.insert(name.clone(), Role { may, inherit: random.usize(..4) > 0, member_of, ..Role::default() });
        }
        for name in &names {
            let mut role = Role { inherit: random.usize(..4) > 0, member_of: member_of(random, &role_names, 4), ..Role::default() };
            role.administers = if random.usize(..4) == 0 { vec![one_of(random, &role_names)] } else { Vec::new() };
            role.member_of.retain(|of| !role.administers.contains(of));
            if is_postgresql {
                role.may = match random.usize(..12) {
                    0 => vec!["superuser"],
                    1 => vec!["create-role"],
                    _ => Vec::new(),
                };
                if random.usize(..12) == 0 {
                    role.member_of.push("pg_write_server_files".to_owned());
                }
            } else if random.usize(..4) == 0 {
                role.default_role = role.member_of.first().cloned();
            }
            if name.starts_with("crew") && random.bool() {
                role.used_by.push(format!("user:u{}", random.usize(..PEOPLE)));
            }
            server.accounts.insert(name.clone(), role);
        }
        if is_postgresql {
            server.accounts.insert("top".to_owned(), Role { may: vec!["superuser"], inherit: true, ..Role::default() });
        }
        let everybody: Vec<String> = names.iter().chain(&role_names).cloned().collect();
        for table in TABLES {
            server.tables.insert(table.to_owned(), (one_of(random, &everybody), is_postgresql && random.usize(..3) == 0));
        }
        if random.usize(..3) == 0 {
            server.view = Some((one_of(random, if is_postgresql { &everybody } else { &names }), random.bool()));
        }
        for number in 0..random.usize(2..6) {
            let (to, table) = (one_of(random, &everybody), TABLES[random.usize(..2)]);
            let grant = if is_postgresql {
                match random.usize(..8) {
                    0 => format!("revoke = [\"all\"], on = \"table public.{table}\", from = [\"{to}\"]"),
                    1 => format!("allow = [\"select\"], on = \"view public.shown\", to = [\"{to}\"]"),
                    _ => {
                        format!("allow = [\"{}\"], on = \"table public.{table}\", to = [\"{to}\"]", ["select", "delete"][random.usize(..2)])
                    }
                }
            } else {
                // Whoever says as whom something runs must also be let make it.
                let makes = ["create routine", "event", "all"][random.usize(..3)];
                let (allow, on) = match random.usize(..10) {
                    0 => ("create user", "everything".to_owned()),
                    1 | 2 if number == 0 => {
                        server.grants.push(format!("allow = [\"{makes}\"], on = \"database club\", to = [\"{to}\"]"));
                        ("set user", "everything".to_owned())
                    }
                    1 | 2 => ("set user", "everything".to_owned()),
                    3 => (makes, "database club".to_owned()),
                    4 => (["execute", "event"][random.usize(..2)], "database club".to_owned()),
                    5 => ("insert", "database mysql".to_owned()),
                    6 => ("select", "view club.shown".to_owned()),
                    _ => (["select", "delete"][random.usize(..2)], format!("table club.{table}")),
                };
                format!("allow = [\"{allow}\"], on = \"{on}\", to = [\"{to}\"]")
            };
            server.grants.push(grant);
        }
        if !is_postgresql && random.usize(..10) == 0 {
            let role = one_of(random, &role_names);
            server.grants.push(format!("allow = [\"membership\"], on = \"role {role}\", to = [\"public\"]"));
        }
        if server.view.is_none() {
            server.grants.retain(|grant| !grant.contains("view "));
        }
        if is_postgresql {
            // Nobody comes to anything in a schema that is closed to them.
            server.grants.push("allow = [\"usage\"], on = \"schema public\", to = [\"public\"]".to_owned());
        }
        server
    }

    /// Changes it so that something is so.
    pub fn apply(&mut self, gained: &Gained) {
        match gained {
            Gained::Becomes(_) => {}
            Gained::Uses(user, account) => self.account(account).used_by.push(format!("user:{user}")),
            Gained::Holds(account, role) => self.account(account).member_of.push(role.clone()),
            Gained::Owns(account, object) => {
                self.grants.push(format!("allow = [\"all\"], on = \"{object}\", to = [\"{account}\"]"));
            }
            Gained::Shows(object) => {
                let table = object.rsplit_once('.').map_or("", |(_, table)| table);
                self.tables.get_mut(table).expect("the table is there").1 = false;
            }
            Gained::Rules(account) if self.is_postgresql => self.account(account).may = vec!["superuser"],
            Gained::Rules(account) => {
                self.grants.push(format!("allow = [\"all\"], on = \"everything\", to = [\"{account}\"], regrant = true"));
            }
        }
    }

    fn account(&mut self, name: &str) -> &mut Role {
        self.accounts.get_mut(name).unwrap_or_else(|| panic!("{name} is an account"))
    }

    /// Writes it as a ledger.
    #[must_use]
    pub fn text(&self) -> String {
        let mut text: String = (0..PEOPLE).map(|number| format!("users.u{number}.proofs = [\"password\"]\n")).collect();
        text += "[systems.desk]\nkind = \"application\"\n[applications.desk]\ngrants = [\n";
        for (by, of) in &self.resets {
            text += &format!("{{ allow = [\"reset-credential\"], on = \"user/u{of}\", to = [\"user:u{by}\"] }},\n");
        }
        let (kind, schema) = if self.is_postgresql { ("postgresql", "public") } else { ("mariadb", "club") };
        let database = if kind == "postgresql" { "database = \"club\"\n" } else { "" };
        text += &format!("]\n[systems.db]\nkind = \"{kind}\"\n{database}[databases.db]\n");
        if self.is_postgresql {
            text += "owner = \"top\"\n";
        } else {
            text += "objects.\"database club\" = {}\n";
        }
        let list = |names: &[String]| names.iter().map(|name| format!("\"{name}\"")).collect::<Vec<_>>().join(", ");
        for (table, all) in [("accounts", &self.accounts), ("roles", &self.roles)] {
            for (name, Role { may, inherit, member_of, administers, default_role, used_by }) in all {
                let mut keys = Vec::new();
                let may: Vec<String> = may.iter().map(|switch| (*switch).to_owned()).collect();
                for (key, names) in [("may", &may), ("member-of", member_of), ("administers", administers), ("used-by", used_by)] {
                    keys.extend((!names.is_empty()).then(|| format!("{key} = [{}]", list(names))));
                }
                keys.extend((self.is_postgresql && !inherit).then(|| "inherit = false".to_owned()));
                keys.extend(default_role.as_ref().map(|role| format!("default-role = \"{role}\"")));
                text += &format!("{table}.\"{name}\" = {{ {} }}\n", keys.join(", "));
            }
        }
        for (table, (owner, is_hidden)) in &self.tables {
            let owner = if self.is_postgresql { format!("owner = \"{owner}\", ") } else { String::new() };
            let hidden = if *is_hidden { "row-security = true, row-security-for-owner = true, policies = {}, " } else { "" };
            text += &format!("objects.\"table {schema}.{table}\" = {{ {owner}{hidden}columns = {{ id = \"int\" }} }}\n");
        }
        if let Some((owner, is_callers)) = &self.view {
            let runs_as = if *is_callers { "caller" } else { "owner" };
            let query =
                if self.is_postgresql { "SELECT fares.id FROM fares" } else { "select `club`.`fares`.`id` AS `id` from `club`.`fares`" };
            text += &format!(
                "objects.\"view {schema}.shown\" = {{ owner = \"{owner}\", columns = {{ id = \"int\" }}, query = \"{query}\", runs-as = \"{runs_as}\" }}\n"
            );
        }
        text += "grants = [\n";
        self.grants.iter().for_each(|grant| text += &format!("{{ {grant} }},\n"));
        text + "]\n"
    }

    /// The accounts that a user signs in as.
    pub fn accounts_of<'s>(&'s self, user: &'s str) -> impl Iterator<Item = &'s str> {
        let is_theirs = move |(name, role): &(&'s String, &'s Role)| {
            name.split('@').next() == Some(user) || role.used_by.iter().any(|by| *by == format!("user:{user}"))
        };
        self.accounts.iter().filter(is_theirs).map(|(name, _)| name.as_str())
    }
}

/// Reads what a step says that it gives.
#[must_use]
pub fn given(words: &str) -> Option<Gained> {
    let parts: Vec<&str> = words.split('`').collect();
    let own = |text: &str| text.to_owned();
    Some(match parts.as_slice() {
        ["signs in as ", user, ..] => Gained::Becomes(own(user)),
        ["", user, " signs in as account " | " runs statements as account ", account, ..] => Gained::Uses(own(user), own(account)),
        ["account ", account, " on db is a member of ", role, ""] => Gained::Holds(own(account), own(role)),
        ["account ", account, " may anything on db"] => Gained::Rules(own(account)),
        ["account ", account, rest] => Gained::Owns(own(account), own(rest.strip_prefix(" on db may do anything with ")?)),
        [shows] => Gained::Shows(own(shows.strip_suffix(" on db shows all its rows")?)),
        _ => return None,
    })
}
