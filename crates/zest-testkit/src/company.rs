//! A whole company of a given size, over all kinds of system, from a seed: for measurements at a scale that nobody writes by hand.
//!
//! A *grant* is counted as a system counts it: one right of one role on one thing (an operation on a container, a right on an object,
//! a privilege on a table), whatever number of them one table of a document writes down. Half of them are on the clouds, a fifth each
//! on the applications and the servers of PostgreSQL, a tenth on those of MariaDB. A twentieth of the roles is for devices.
//!
//! ```
//! use zest_testkit::company::Company;
//! let company = Company { users: 200, roles: 100, grants: 5_000, seed: 7 };
//! let documents: Vec<(String, String)> = company.documents().collect();
//! assert!(documents.iter().any(|(name, text)| name == "people-0.toml" && text.contains("u199 = ")));
//! assert!(company.questions().iter().any(|(kind, question, allowed)| *kind == "cloud" && question.user == "u0" && *allowed));
//! ```

use std::fmt::Write as _;

use fastrand::Rng;
use zest_ledger::Question;
use zest_ledger::ask::Act;

/// People in one group.
const GROUP: usize = 50;
/// Operations, rights and privileges of one entry of a role: a cloud's, an application's, a PostgreSQL table's, a MariaDB table's.
const OPERATIONS: usize = 10;
const RIGHTS: [&str; 5] = ["view", "plan", "move", "approve", "close"];
const PRIVILEGES: [&str; 4] = ["select", "insert", "update", "delete"];
/// Systems of each kind, and what each of them holds.
const CLOUDS: usize = 10;
const CONTAINERS: usize = 2_000;
const APPLICATIONS: usize = 20;
const OBJECTS: usize = 2_000;
const SERVERS: usize = 20;
const TABLES: usize = 1_000;
const DEVICES: usize = 5_000;
const HOSTS: usize = 200;
/// Command sets of the devices, and rules of each set, of a device and of a host.
const SETS: usize = 50;
const RULES: usize = 100;
/// People in one document.
const PAGE: usize = 20_000;

/// How large the company is, and the seed that its grants come from.
#[derive(Clone, Copy, Debug)]
pub struct Company {
    /// People.
    pub users: usize,
    /// Roles of all kinds together; at least twenty.
    pub roles: usize,
    /// Grants of all kinds together.
    pub grants: usize,
    /// The seed.
    pub seed: u64,
}

/// A million people, a hundred thousand roles, ten million grants.
pub const MILLION: Company = Company { users: 1_000_000, roles: 100_000, grants: 10_000_000, seed: 1 };

/// The roles of one kind of system: how they are named, how many there are, and how many entries of grants each has.
#[derive(Clone, Copy, Debug)]
struct Roles {
    letter: char,
    count: usize,
    entries: usize,
}

fn quoted<T: std::fmt::Display>(items: impl Iterator<Item = T>) -> String {
    let mut text = String::new();
    for item in items {
        let comma = if text.is_empty() { "" } else { ", " };
        let _ = write!(text, "{comma}\"{item}\"");
    }
    text
}

impl Company {
    fn groups(&self) -> usize {
        self.users.div_ceil(GROUP)
    }

    /// The roles that have a share of the roles and a share of the grants, both in twentieths.
    fn roles_of(&self, letter: char, roles: usize, grants: usize, in_one: usize) -> Roles {
        let count = (self.roles * roles / 20).max(1);
        Roles { letter, count, entries: (self.grants * grants / 20).div_ceil(count * in_one).max(1) }
    }

    fn device_roles(&self) -> usize {
        (self.roles / 20).max(1)
    }

    fn cloud(&self) -> Roles {
        self.roles_of('c', 11, 10, OPERATIONS)
    }

    fn application(&self) -> Roles {
        self.roles_of('a', 4, 4, RIGHTS.len())
    }

    fn postgresql(&self) -> Roles {
        self.roles_of('p', 2, 4, PRIVILEGES.len())
    }

    fn mariadb(&self) -> Roles {
        self.roles_of('m', 2, 2, PRIVILEGES.len())
    }

    /// Takes what an entry of a role is about out of `of`: always the same for a seed, a role and an entry.
    fn pick(&self, roles: Roles, role: usize, entry: usize, of: usize) -> usize {
        let place = u64::from(roles.letter) << 56 ^ (role as u64) << 24 ^ entry as u64;
        Rng::with_seed(self.seed.wrapping_mul(0x9E37_79B9_7F4A_7C15) ^ place).usize(0..of)
    }

    /// Writes the documents, one after the other: a million people take no more memory at a time than one of them.
    pub fn documents(self) -> impl Iterator<Item = (String, String)> {
        let people = (0..self.users.div_ceil(PAGE)).map(move |page| (format!("people-{page}.toml"), self.people(page)));
        let groups = std::iter::once_with(move || ("groups.toml".to_owned(), self.membership()));
        let devices = std::iter::once_with(move || ("devices.toml".to_owned(), self.devices()));
        let hosts = std::iter::once_with(move || ("hosts.toml".to_owned(), self.hosts()));
        let clouds = (0..CLOUDS).map(move |c| (format!("cloud-{c}.toml"), self.cloud_document(c)));
        let applications = (0..APPLICATIONS).map(move |a| (format!("application-{a}.toml"), self.application_document(a)));
        let postgresql = (0..SERVERS).map(move |s| (format!("fares-{s}.toml"), self.server(self.postgresql(), s)));
        let mariadb = (0..SERVERS).map(move |s| (format!("points-{s}.toml"), self.server(self.mariadb(), s)));
        people.chain(groups).chain(devices).chain(hosts).chain(clouds).chain(applications).chain(postgresql).chain(mariadb)
    }

    fn people(&self, page: usize) -> String {
        let mut text = String::from("[users]\n");
        for user in page * PAGE..self.users.min((page + 1) * PAGE) {
            let _ = writeln!(text, "u{user} = {{ name = \"User {user}\", proofs = [\"password\", \"key\"] }}");
        }
        text
    }

    /// Groups of people, each in one of a hundred wider ones, and what each group is assigned.
    fn membership(&self) -> String {
        let mut text = String::from("[groups]\n");
        let (groups, wide) = (self.groups(), self.groups().min(100));
        for group in 0..groups {
            let members = (group * GROUP..self.users.min((group + 1) * GROUP)).map(|user| format!("user:u{user}"));
            let _ = writeln!(text, "g{group} = {{ members = [{}] }}", quoted(members));
        }
        for w in 0..wide {
            let members = (w..groups).step_by(wide).map(|group| format!("group:g{group}"));
            let _ = writeln!(text, "w{w} = {{ members = [{}] }}", quoted(members));
        }
        for group in 0..groups {
            let _ = writeln!(
                text,
                "[[assignments]]\nto = [\"group:g{group}\"]\nroles = [\"d{}\"]\non = {{ labels = {{ site = \"s{}\" }} }}",
                group % self.device_roles(),
                group % 100,
            );
        }
        for (roles, system, systems) in [(self.cloud(), "sky", CLOUDS), (self.application(), "rota", APPLICATIONS)] {
            // Every role is somebody's, and every group has one.
            for turn in 0..roles.count.max(groups) {
                let (role, group) = (turn % roles.count, turn % groups);
                let _ = writeln!(
                    text,
                    "[[assignments]]\nto = [\"group:g{group}\"]\nroles = [\"{}{role}\"]\non = {{ systems = [\"{system}-{}\"] }}",
                    roles.letter,
                    role % systems
                );
            }
        }
        text
    }

    fn devices(&self) -> String {
        let mut text = String::from(
            "[vocabularies.make]\ncommands = [\n  { line = \"leave\", level = 0, does = \"leave-session\" },\n  \
             { line = \"elevate {level: 0-15}\", level = 0, does = \"elevate\" },\n  { line = \"show port {port: word} tally\" },\n]\n",
        );
        for set in 0..SETS {
            let rules = (0..RULES).map(|rule| format!("{} show port pier-{set}-{rule} ...", if rule % 3 == 0 { "deny" } else { "allow" }));
            let _ = writeln!(text, "[command-sets.set-{set}]\nrules = [{}]", quoted(rules));
        }
        for role in 0..self.device_roles() {
            let _ = writeln!(text, "[roles.d{role}]\nband = {{ start = 1, ceiling = 7 }}\ncommands = [\"set-{}\"]", role % SETS);
        }
        for device in 0..DEVICES {
            let _ = writeln!(
                text,
                "[systems.sw-{device}]\nkind = \"network-device\"\nvocabulary = \"make\"\nno-command-set = \"nothing\"\n\
                 labels = {{ site = \"s{}\" }}\nauthorisation = {{ levels = \"all\", configuration = true }}",
                device % 100
            );
        }
        text
    }

    /// Hosts, each with the accounts of two groups, which may run what a set allows as `batch`.
    fn hosts(&self) -> String {
        let rules = (0..RULES).map(|rule| format!("{} /opt/jobs/run pier-{rule} ...", if rule % 3 == 0 { "deny" } else { "allow" }));
        let mut text = format!("[command-sets.jobs]\nrules = [{}]\n", quoted(rules));
        for host in 0..HOSTS {
            let _ = writeln!(text, "[systems.box-{host}]\nkind = \"host\"\nno-command-set = \"nothing\"");
            let groups = [2 * host % self.groups(), (2 * host + 1) % self.groups()];
            let by = quoted(groups.iter().map(|group| format!("group:g{group}")));
            let _ = writeln!(
                text,
                "[hosts.box-{host}]\nrun-as = [{{ by = [{by}], as = [\"batch\"], commands = [\"jobs\"], proof = false }}]\n\
                 [hosts.box-{host}.accounts]\nbatch = {{}}"
            );
            let mut users: Vec<usize> = groups.iter().flat_map(|g| g * GROUP..self.users.min((g + 1) * GROUP)).collect();
            users.dedup();
            users.into_iter().for_each(|user| _ = writeln!(text, "u{user} = {{}}"));
        }
        text
    }

    fn cloud_document(&self, cloud: usize) -> String {
        let mut text = format!("[systems.sky-{cloud}]\nkind = \"cloud\"\n[clouds.sky-{cloud}.operations]\n");
        (0..100).for_each(|o| _ = writeln!(text, "\"hull-{o}.use\" = {{ reads = {} }}", o % 2 == 0));
        let _ = writeln!(text, "[clouds.sky-{cloud}.resources]\nline = {{}}");
        (0..CONTAINERS).for_each(|container| _ = writeln!(text, "\"line/c{container}\" = {{}}"));
        let roles = self.cloud();
        for role in (cloud..roles.count).step_by(CLOUDS) {
            let _ = writeln!(text, "[roles.c{role}]\ngrants = [");
            for entry in 0..roles.entries {
                let at = self.pick(roles, role, entry, CONTAINERS * 10);
                let allow = quoted((0..OPERATIONS).map(|o| format!("hull-{}.use", at % 10 * OPERATIONS + o)));
                let _ = writeln!(text, "  {{ allow = [{allow}], on = \"line/c{}/**\" }},", at / 10);
            }
            text.push_str("]\n");
        }
        text
    }

    fn application_document(&self, application: usize) -> String {
        let rights = quoted(RIGHTS.iter());
        let mut text = format!(
            "[systems.rota-{application}]\nkind = \"application\"\n[applications.rota-{application}]\n\
             types.plan = {{ rights = [{rights}], looks = [\"view\"] }}\n[applications.rota-{application}.objects]\n"
        );
        (0..OBJECTS).for_each(|object| _ = writeln!(text, "\"plan/{object}\" = {{}}"));
        let roles = self.application();
        for role in (application..roles.count).step_by(APPLICATIONS) {
            let on = quoted((0..roles.entries).map(|entry| format!("plan/{}", self.pick(roles, role, entry, OBJECTS))));
            let _ = writeln!(text, "[roles.a{role}]\ngrants = [{{ allow = [{rights}], on = [{on}] }}]");
        }
        text
    }

    /// The number of the server on which a group has its account.
    const fn server_of(group: usize) -> usize {
        group % SERVERS
    }

    fn server(&self, roles: Roles, server: usize) -> String {
        let (kind, name, class, schema, host, whole) = match roles.letter {
            'p' => ("postgresql", "fares", "schema", "fares", "", true),
            _ => ("mariadb", "points", "database", "points", "@192.0.2.%", false),
        };
        let system = format!("{name}-{server}");
        let mut text = format!("[systems.{system}]\nkind = \"{kind}\"\n[databases.{system}.objects]\n\"{class} {schema}\" = {{}}\n");
        (0..TABLES).for_each(|table| _ = writeln!(text, "\"table {schema}.t{table}\" = {{ columns = {{ id = \"int\", sum = \"int\" }} }}"));
        let _ = writeln!(text, "[databases.{system}.roles]");
        let own: Vec<usize> = (server..roles.count).step_by(SERVERS).collect();
        own.iter().for_each(|role| _ = writeln!(text, "{}{role} = {{}}", roles.letter));
        let _ = writeln!(text, "[databases.{system}.accounts]");
        for (turn, group) in (server..self.groups()).step_by(SERVERS).enumerate() {
            let role = if own.is_empty() { None } else { Some(own[turn % own.len()]) };
            let joins = role.map_or(String::new(), |role| {
                let role = format!("{}{role}", roles.letter);
                if whole { format!(", member-of = [\"{role}\"]") } else { format!(", member-of = [\"{role}\"], default-role = \"{role}\"") }
            });
            let _ = writeln!(text, "\"desk-{group}{host}\" = {{ used-by = [\"group:g{group}\"]{joins} }}");
        }
        if whole {
            let _ = writeln!(text, "[[databases.{system}.grants]]\nallow = [\"usage\"]\non = \"schema {schema}\"\nto = [\"public\"]");
        }
        let allow = quoted(PRIVILEGES.iter());
        for role in own {
            let mut tables: Vec<usize> = (0..roles.entries).map(|entry| self.pick(roles, role, entry, TABLES)).collect();
            tables.sort_unstable();
            tables.dedup();
            let on = quoted(tables.iter().map(|table| format!("table {schema}.t{table}")));
            let _ = writeln!(text, "[[databases.{system}.grants]]\nallow = [{allow}]\non = [{on}]\nto = [\"{}{role}\"]", roles.letter);
        }
        text
    }

    /// Returns questions of people from the first to the last group, on every kind, with the answer each must have: for every person
    /// one that a grant of theirs allows, and one about a thing that nobody has anything on.
    #[must_use]
    pub fn questions(&self) -> Vec<(&'static str, Question, bool)> {
        let mut questions = Vec::new();
        let groups = self.groups();
        for turn in 0..1_000 {
            let group = turn * groups / 1_000;
            let user = format!("u{}", group * GROUP + (turn % GROUP).min(self.users - group * GROUP - 1));
            let mut both = |kind: &'static str, system: &str, allowed: &str, refused: &str, ask: &dyn Fn(Question) -> Question| {
                questions.push((kind, ask(Question::new(&user, system, allowed)), true));
                questions.push((kind, ask(Question::new(&user, system, refused)), false));
            };
            let set = group % self.device_roles() % SETS;
            let device = format!("sw-{}", group % 100);
            let (good, bad) = (format!("show port pier-{set}-7 tally"), format!("show port pier-{set}-6 tally"));
            both("network-device", &device, &good, &bad, &|q| q);
            let roles = self.cloud();
            let role = group % roles.count;
            let at = self.pick(roles, role, turn % roles.entries, CONTAINERS * 10);
            let operation = format!("hull-{}.use on line/", at % 10 * OPERATIONS + turn % OPERATIONS);
            let good = format!("{operation}c{}/x", at / 10);
            both("cloud", &format!("sky-{}", role % CLOUDS), &good, &format!("{operation}nowhere"), &|q| q);
            let roles = self.application();
            let role = group % roles.count;
            let good = format!("{} on plan/{}", RIGHTS[turn % RIGHTS.len()], self.pick(roles, role, turn % roles.entries, OBJECTS));
            both("application", &format!("rota-{}", role % APPLICATIONS), &good, "view on plan/nowhere", &|q| q);
            for (kind, roles, name, from) in [
                ("postgresql", self.postgresql(), "fares", None),
                ("mariadb", self.mariadb(), "points", Some(std::net::IpAddr::from([192, 0, 2, 7]))),
            ] {
                let server = Self::server_of(group);
                let own = (server..roles.count).step_by(SERVERS).count();
                if own == 0 {
                    continue;
                }
                let role = server + group / SERVERS % own * SERVERS;
                let table = self.pick(roles, role, turn % roles.entries, TABLES);
                let good = format!("{} on table {name}.t{table}", PRIVILEGES[turn % PRIVILEGES.len()]);
                let bad = format!("drop on table {name}.t{table}");
                let bad = if from.is_some() { bad } else { format!("truncate on table {name}.t{table}") };
                both(kind, &format!("{name}-{server}"), &good, &bad, &|q| match from {
                    Some(from) => q.from(from),
                    None => q,
                });
            }
            if group < (2 * HOSTS).min(groups) {
                let batch: Act = "account:batch".parse().expect("a link");
                let (good, bad) = ("/opt/jobs/run pier-7 now", "/opt/jobs/run pier-6 now");
                both("host", &format!("box-{}", group / 2), good, bad, &|q| q.acting(batch.clone()));
            }
        }
        questions
    }
}
