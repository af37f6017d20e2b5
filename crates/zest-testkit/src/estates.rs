//! Random ledgers of text with systems of every kind, and questions about them. The same seed makes the same ones.

use std::fmt::Write as _;
use std::net::IpAddr;

use fastrand::Rng;
use jiff::{SignedDuration, Timestamp};
use zest_ledger::Question;
use zest_ledger::ask::{Act, Change};
use zest_ledger::entry::{Channel, Proof};

const USERS: usize = 6;
const GROUPS: usize = 4;
const ROLES: usize = 4;
const SETS: usize = 4;
/// Every system, by its id.
pub const SYSTEMS: [&str; 7] = ["sw-0", "sw-1", "sky", "rota", "box", "fares", "points"];
const LINES: [&str; 8] =
    ["show log", "show port p-1 tally", "zero tally", "edit settings", "elevate 7", "elevate 15", "leave", "show port p-9 tally"];
const PATTERNS: [&str; 8] =
    ["show ...", "show port {word} tally", "zero tally", "elevate {level: 1-7}", "elevate ...", "leave", "edit ...", "/opt/run {word}"];
const PROGRAMS: [&str; 3] = ["/opt/run one", "/opt/run two", "/opt/stop now"];
const OPERATIONS: [&str; 3] = ["hull.read", "hull.stop", "hull.sink"];
const PLACES: [&str; 4] = ["line", "line/north", "line/north/hull", "yard"];
/// The moment around which everything happens.
const NOW: i64 = 1_795_766_400;

/// A source of ledgers, changes and questions.
#[derive(Debug)]
pub struct Source(Rng);

impl Source {
    /// Makes a source from a seed.
    #[must_use]
    pub fn new(seed: u64) -> Self {
        Self(Rng::with_seed(seed))
    }

    fn one_in(&mut self, n: u32) -> bool {
        self.0.u32(..n) == 0
    }

    fn pick<'a>(&mut self, list: &[&'a str]) -> &'a str {
        list[self.0.usize(..list.len())]
    }

    fn nth(&mut self, noun: &str, count: usize) -> String {
        format!("{noun}-{}", self.0.usize(..count))
    }

    fn party(&mut self) -> String {
        if self.0.bool() { format!("group:{}", self.nth("group", GROUPS)) } else { format!("user:{}", self.nth("user", USERS)) }
    }

    fn moment(&mut self) -> Timestamp {
        Timestamp::from_second(NOW + self.0.i64(-3..4) * 1800).expect("within range")
    }

    /// A list of texts as TOML: some of what is made, at least one.
    fn list(&mut self, most: usize, mut make: impl FnMut(&mut Self) -> String) -> String {
        let mut texts: Vec<String> = (0..self.0.usize(1..=most)).map(|_| make(self)).collect();
        texts.sort();
        texts.dedup();
        format!("[{}]", texts.iter().map(|t| format!("{t:?}")).collect::<Vec<_>>().join(", "))
    }

    /// A condition as the rest of an inline table, or nothing.
    fn when(&mut self, key: &str) -> String {
        let when = match self.0.u32(..12) {
            0 => "proof = [\"one-time-code\"], proof-age = \"30m\"",
            1 => "channel = [\"web\"]",
            2 => "compare = [\"user.colour = 'red'\"]",
            3 => "origin = [\"192.0.2.0/25\"]",
            4 => "hours = \"00:00-23:30\"",
            _ => return String::new(),
        };
        format!(", {key} = {{ {when} }}")
    }

    fn after(&mut self) -> String {
        match self.0.u32(..10) {
            0 => ", after = { confirm = true }".to_owned(),
            1 => format!(", after = {{ second-person = [{:?}] }}", self.party()),
            2 => ", after = { prove-again = \"10m\" }".to_owned(),
            _ => String::new(),
        }
    }

    /// Makes a valid ledger, as one document.
    pub fn ledger(&mut self) -> String {
        let mut text = String::from(
            "[vocabularies.make]\nmodes = { deck = {}, settings = { configuration = true } }\ncommands = [\n\
             { line = \"leave\", level = 0, does = \"leave-session\" },\n\
             { line = \"elevate {level: 0-15}\", level = 0, does = \"elevate\" },\n\
             { line = \"show log\", level = 1 }, { line = \"show port {port: word} tally\", level = 7 },\n\
             { line = \"zero tally\", level = 7 }, { line = \"edit settings\", level = 7, enters = \"settings\" },\n\
             { line = \"back\", in = [\"settings\"], level = 0, does = \"leave-mode\" },\n]\n",
        );
        self.people(&mut text);
        self.sets_and_roles(&mut text);
        self.devices(&mut text);
        self.services(&mut text);
        self.host(&mut text);
        self.databases(&mut text);
        for _ in 0..self.0.usize(3..8) {
            let to = self.list(2, Self::party);
            let roles = self.list(2, |s| s.nth("role", ROLES));
            let _ = write!(text, "[[assignments]]\nto = {to}\nroles = {roles}\n");
            let on = match self.0.u32(..3) {
                0 => "all = true".to_owned(),
                1 => "labels = { class = \"switch\" }".to_owned(),
                _ => format!("systems = [{:?}]", self.pick(&SYSTEMS)),
            };
            let _ = writeln!(text, "on = {{ {on} }}");
            if self.one_in(5) {
                let _ = writeln!(text, "until = {}", self.moment());
            }
            let when = self.when("when");
            if let Some(when) = when.strip_prefix(", ") {
                let _ = writeln!(text, "{when}");
            }
        }
        if self.one_in(4) {
            let never = self.pick(&["held", "active"]);
            let _ = write!(text, "[separations.apart]\nroles = [\"role-0\", \"role-1\"]\nnever = {never:?}\n");
        }
        text
    }

    fn people(&mut self, text: &mut String) {
        for i in 0..USERS {
            let _ = writeln!(text, "[users.user-{i}]");
            if !self.one_in(8) {
                text.push_str("proofs = [\"password\", \"one-time-code\"]\n");
            }
            for (key, odds) in [("disabled", 10), ("must-change-credential", 12)] {
                if self.one_in(odds) {
                    let _ = writeln!(text, "{key} = true");
                }
            }
            for key in ["from", "until"] {
                if self.one_in(10) {
                    let half = if key == "from" { -9000 } else { 9000 };
                    let moment = self.moment().checked_add(SignedDuration::from_secs(half)).expect("within range");
                    let _ = writeln!(text, "{key} = {moment}");
                }
            }
            let _ = writeln!(text, "attributes = {{ colour = {:?} }}", self.pick(&["red", "blue"]));
        }
        for i in 0..GROUPS {
            let mut members = self.list(3, |s| format!("user:{}", s.nth("user", USERS)));
            if i > 0 && self.0.bool() {
                members = members.replace(']', &format!(", \"group:group-{}\"]", i - 1));
            }
            let owner = self.nth("user", USERS);
            let _ = write!(text, "[groups.group-{i}]\nmembers = {members}\nowners = [\"user:{owner}\"]\n");
        }
    }

    fn sets_and_roles(&mut self, text: &mut String) {
        for i in 0..SETS {
            let _ = writeln!(text, "[command-sets.set-{i}]\nrules = [");
            for _ in 0..self.0.usize(1..5) {
                let verb = if self.one_in(4) { "deny" } else { "allow" };
                let pattern = self.pick(&PATTERNS[..7]);
                if verb == "allow" && self.one_in(6) {
                    let after = self.after();
                    let _ = writeln!(text, "  {{ allow = {pattern:?}{after} }},");
                } else {
                    let _ = writeln!(text, "  \"{verb} {pattern}\",");
                }
            }
            if i > 0 && self.one_in(3) {
                let _ = writeln!(text, "  \"include set-{}\",", i - 1);
            }
            text.push_str("]\n");
            if self.one_in(6) {
                text.push_str("otherwise = \"allow\"\n");
            }
        }
        text.push_str("[command-sets.jobs]\nrules = [\"allow /opt/run one\"]\n");
        for i in 0..ROLES {
            let _ = writeln!(text, "[roles.role-{i}]");
            if !self.one_in(5) {
                let _ = writeln!(text, "band = {{ start = 1, ceiling = {} }}", self.pick(&["1", "7", "15"]));
            }
            if !self.one_in(4) {
                let _ = writeln!(text, "commands = {}", self.list(2, |s| s.nth("set", SETS)));
            }
            if i > 0 && self.one_in(3) {
                let _ = writeln!(text, "includes = [\"role-{}\"]", i - 1);
            }
            if self.0.bool() {
                let grant = self.grant(true);
                let _ = writeln!(text, "grants = [{grant}]");
            }
            if self.one_in(3) {
                let _ = writeln!(text, "assumable = {{ by = [{:?}] }}", self.party());
            }
        }
    }

    fn devices(&mut self, text: &mut String) {
        for id in ["sw-0", "sw-1"] {
            let without = self.pick(&["nothing", "everything"]);
            let _ = write!(
                text,
                "[systems.{id}]\nkind = \"network-device\"\nvocabulary = \"make\"\nno-command-set = {without:?}\nlabels = {{ class = \"switch\" }}\n"
            );
            if !self.one_in(4) {
                text.push_str("authorisation = { levels = \"all\", configuration = true }\n");
            }
            if self.one_in(4) {
                text.push_str("own-levels = [{ command = \"show log\", level = 7 }]\n");
            }
            let _ = write!(text, "[systems.{id}.accounts.yard]\nused-by = [{:?}]\n", self.party());
            if !self.one_in(3) {
                text.push_str("band = { start = 1, ceiling = 7 }\n");
            }
            if self.one_in(3) {
                text.push_str("locked = true\n");
            }
            if self.one_in(4) {
                text.push_str("credential = \"missing\"\n");
            }
            if self.one_in(3) {
                text.push_str("commands = [\"set-0\"]\n");
            }
            // Drawn from what stands there, so that all else stays as it was before there was a second account.
            if let (0, user) = (text.len() % 3, text.len() % USERS) {
                let _ =
                    write!(text, "[systems.{id}.accounts.quay]\nused-by = [\"user:user-{user}\"]\nband = {{ start = 1, ceiling = 15 }}\n");
            }
        }
    }

    fn grant(&mut self, of_role: bool) -> String {
        let verb = if self.one_in(5) { "deny" } else { "allow" };
        // A role may be held in applications, which know no deny.
        let names: &[&str] = if of_role { &["hull.read", "hull.stop"] } else { &["all", "read", "hull.read", "hull.stop"] };
        let operations = self.list(2, |s| s.pick(names).to_owned());
        let mut grant = format!("{{ {verb} = {operations}, on = {:?}", self.pick(&["**", "line/**", "line/north", "line/*"]));
        if !of_role {
            let holder = if self.one_in(4) { format!("role:{}", self.nth("role", ROLES)) } else { self.party() };
            let _ = write!(grant, ", to = [{holder:?}]");
        }
        grant += &self.when("when");
        if verb == "deny" {
            grant += &self.when("lifted-by");
        } else {
            grant += &self.after();
        }
        if self.one_in(6) {
            let _ = write!(grant, ", until = {}", self.moment());
        }
        grant + " }"
    }

    fn services(&mut self, text: &mut String) {
        text.push_str("[systems.sky]\nkind = \"cloud\"\n[systems.rota]\nkind = \"application\"\n");
        text.push_str("[clouds.sky]\noperations = { \"hull.read\" = { reads = true }, \"hull.stop\" = {}, \"hull.sink\" = {} }\n");
        text.push_str("resources = { line = {}, \"line/north\" = {}, \"line/north/hull\" = {}, yard = {} }\ngrants = [\n");
        for _ in 0..self.0.usize(2..7) {
            let grant = self.grant(false);
            let _ = writeln!(text, "  {grant},");
        }
        text.push_str("]\n");
        if self.one_in(3) {
            let of = if self.0.bool() { format!(", of = [{:?}]", self.party()) } else { String::new() };
            let _ = writeln!(text, "ceilings = [{{ allow = [\"read\", \"hull.stop\"], except = [\"hull.stop\"]{of} }}]");
        }
        text.push_str(
            "[applications.rota]\ntypes.ramp = { rights = [\"lower\", \"look\"], looks = [\"look\"] }\nobjects.\"ramp/north\" = {}\n",
        );
        let _ = writeln!(text, "grants = [{{ allow = [\"lower\"], on = \"ramp/*\", to = [{:?}]{} }}]", self.party(), self.after());
        let (target, by) = (self.0.usize(..USERS), self.0.usize(..USERS));
        if target != by {
            let _ = writeln!(text, "acting = [{{ as = \"user:user-{target}\", by = [\"user:user-{by}\"]{} }}]", self.when("when"));
        }
    }

    fn host(&mut self, text: &mut String) {
        let without = self.pick(&["nothing", "everything"]);
        let _ = write!(text, "[systems.box]\nkind = \"host\"\nno-command-set = {without:?}\n[hosts.box]\n");
        let _ = writeln!(text, "run-as = [{{ by = [{:?}], as = [\"batch\"], commands = [\"jobs\"], proof = false }}]", self.party());
        text.push_str("[hosts.box.accounts]\nuser-0 = {}\nuser-1 = {}\n");
        let _ = writeln!(text, "batch = {{ used-by = [{:?}]{} }}", self.party(), if self.one_in(3) { ", locked = true" } else { "" });
        let until = if self.one_in(3) { format!(", until = {}", self.moment()) } else { String::new() };
        let _ = writeln!(text, "desk = {{ used-by = [{:?}]{until} }}", self.party());
    }

    fn databases(&mut self, text: &mut String) {
        text.push_str("[systems.fares]\nkind = \"postgresql\"\ndatabase = \"fares\"\n[systems.points]\nkind = \"mariadb\"\n");
        text.push_str("[databases.fares]\nowner = \"owner\"\n[databases.fares.objects]\n\"schema fares\" = { owner = \"owner\" }\n");
        text.push_str(
            "\"table fares.price\" = { owner = \"owner\", columns = { zone = \"int\", amount = \"int\" } }\n[databases.fares.accounts]\n",
        );
        for i in 0..3 {
            let joins = if self.0.bool() { ", member-of = [\"reader\"]" } else { "" };
            let _ = writeln!(text, "user-{i} = {{ used-by = [{:?}]{joins} }}", self.party());
        }
        text.push_str("owner = {}\n[databases.fares.roles]\nreader = {}\nwriter = {}\n");
        text.push_str("[[databases.fares.grants]]\nallow = [\"usage\"]\non = \"schema fares\"\nto = [\"public\"]\n");
        for role in ["reader", "writer"] {
            if self.0.bool() {
                let privilege = if role == "reader" { "select" } else { "update" };
                let until = if self.one_in(4) { format!("until = {}\n", self.moment()) } else { String::new() };
                let _ = write!(
                    text,
                    "[[databases.fares.grants]]\nallow = [{privilege:?}]\non = \"table fares.price\"\nto = [{role:?}]\n{until}"
                );
            }
        }
        text.push_str("[databases.points.objects]\n\"database points\" = {}\n\"table points.member\" = { columns = { id = \"int\", score = \"int\" } }\n");
        text.push_str("[databases.points.accounts]\n");
        for i in 0..3 {
            let joins = if self.0.bool() { ", member-of = [\"desk\"], default-role = \"desk\"" } else { "" };
            let _ = writeln!(text, "\"user-{i}@192.0.2.%\" = {{ used-by = [{:?}]{joins} }}", self.party());
        }
        text.push_str("[databases.points.roles]\ndesk = {}\n");
        if self.0.bool() {
            text.push_str("[[databases.points.grants]]\nallow = [\"select\"]\non = \"table points.member\"\nto = [\"desk\"]\n");
        }
    }

    /// Makes a change of the ledger that may fit.
    pub fn change(&mut self) -> Change {
        let user = self.nth("user", USERS);
        let role = self.nth("role", ROLES);
        let device = self.pick(&["sw-0", "sw-1"]).to_owned();
        match self.0.u32(..20) {
            0 => Change::AllowFirst { set: self.nth("set", SETS), pattern: self.pick(&PATTERNS[..7]).to_owned() },
            1 => Change::AllowFirst { set: "jobs".to_owned(), pattern: self.pick(&PROGRAMS).to_owned() },
            2 => Change::Ceiling { role, to: self.0.u8(1..16) },
            3 => Change::AccountCeiling { system: device, login: "yard".to_owned(), to: self.0.u8(1..16) },
            4 => Change::OwnLevel { system: device, command: self.pick(&["show log", "zero tally"]).to_owned(), to: self.0.u8(..16) },
            5 => Change::Attach { role, set: self.nth("set", SETS) },
            6 => {
                let (system, member, role) =
                    if self.0.bool() { ("fares", "user-1", "writer") } else { ("points", "user-1@192.0.2.%", "desk") };
                Change::JoinRole { system: system.to_owned(), member: member.to_owned(), role: role.to_owned() }
            }
            7 => {
                let (system, on, to) =
                    if self.0.bool() { ("fares", "table fares.price", "writer") } else { ("points", "table points.member", "desk") };
                let columns = if self.0.bool() { Vec::new() } else { vec![if system == "fares" { "amount" } else { "score" }.to_owned()] };
                Change::Grant {
                    system: system.to_owned(),
                    privileges: vec!["update".to_owned()],
                    columns,
                    on: on.to_owned(),
                    to: to.to_owned(),
                    regrant: self.0.bool() && system == "fares",
                }
            }
            8 | 9 => Change::Allow {
                system: "sky".to_owned(),
                operation: self.pick(&OPERATIONS).to_owned(),
                on: self.pick(&PLACES).to_owned(),
                to: format!("user:{user}"),
            },
            10 => Change::LetActAs { system: "rota".to_owned(), target: self.nth("user", USERS), user },
            11 => Change::Admit { role, user },
            12 | 13 => Change::JoinGroup { group: self.nth("group", GROUPS), user },
            14 => {
                let (system, account) =
                    [("sw-0", "yard"), ("box", "desk"), ("fares", "user-0"), ("points", "user-0@192.0.2.%")][self.0.usize(..4)];
                Change::UseAccount { system: system.to_owned(), account: account.to_owned(), user }
            }
            15 => {
                let (system, login) = if self.0.bool() { (device.as_str(), "yard") } else { ("box", "batch") };
                Change::UnlockAccount { system: system.to_owned(), login: login.to_owned() }
            }
            16 => Change::SetCredential { system: device, login: "yard".to_owned() },
            17 => [Change::Enable { user: user.clone() }, Change::Unbind { user: user.clone() }][self.0.usize(..2)].clone(),
            18 => Change::GiveProof { user, proof: Proof::Key },
            _ => Change::CredentialChanged { user },
        }
    }

    /// Makes a question.
    pub fn question(&mut self) -> Question {
        let user = self.nth("user", USERS);
        let system = self.pick(&SYSTEMS);
        let line = match system {
            "sky" => format!("{} on {}", self.pick(&OPERATIONS), self.pick(&PLACES)),
            "rota" => format!("{} on ramp/north", self.pick(&["lower", "look"])),
            "box" => self.pick(&PROGRAMS).to_owned(),
            "fares" => format!("{} on table fares.price", self.pick(&["select", "update", "update (amount)", "pass on update"])),
            "points" => format!("{} on table points.member", self.pick(&["select", "update", "update (score)"])),
            _ => self.pick(&LINES).to_owned(),
        };
        let mut question = Question::new(&user, system, &line);
        if !self.one_in(6) {
            question = question.at(Timestamp::from_second(NOW + self.0.i64(-4..5) * 1800).expect("within range"));
        }
        if !self.one_in(5) {
            question = question.from(IpAddr::from([192, 0, 2, if self.0.bool() { 9 } else { 200 }]));
        }
        if self.0.bool() {
            question = question.channel(if self.0.bool() { Channel::Web } else { Channel::Terminal });
        }
        if self.0.bool() {
            question = question.proof(Proof::OneTimeCode, SignedDuration::from_mins(i64::from(self.0.u8(..50))));
        }
        match system {
            "sw-0" | "sw-1" if self.one_in(3) => question = question.level([0, 1, 7, 15][self.0.usize(..4)]),
            "sw-0" | "sw-1" if self.one_in(4) => question = question.central_down(),
            "box" if self.0.bool() => {
                let act: Act = self.pick(&["account:batch", "shell:batch", "account:desk"]).parse().expect("a link");
                question = question.acting(act);
            }
            "sky" if self.one_in(4) => {
                let act: Act = format!("role:{}", self.nth("role", ROLES)).parse().expect("a link");
                question = question.acting(act);
            }
            "rota" if self.one_in(4) => {
                let act: Act = format!("user:{}", self.nth("user", USERS)).parse().expect("a link");
                question = question.acting(act);
            }
            _ => {}
        }
        question
    }
}

/// Gives everybody two twins, who are written alike and in the same groups; the second is there for a while only, every other one is in
/// one group more, of which nothing else speaks, and everybody has a place in the organisation of their own, which no rule looks at.
///
/// # Panics
/// Where the text is no document.
#[must_use]
pub fn with_twins(text: &str) -> String {
    use toml_edit::{Array, DocumentMut, Item, Table, value};
    let mut document: DocumentMut = text.parse().expect("a document");
    let users = document["users"].as_table_mut().expect("users");
    let names: Vec<String> = users.iter().map(|(name, _)| name.to_owned()).collect();
    for (number, name) in names.iter().enumerate() {
        let twin = users[name.as_str()].clone();
        let mut brief = twin.clone();
        let end = Timestamp::from_second(NOW + 1800 * number as i64).expect("within range");
        if brief.get("until").is_none() {
            brief["until"] = value(end.to_string().parse::<toml_edit::Datetime>().expect("a moment"));
        }
        users.insert(&format!("twin-of-{name}"), twin);
        users.insert(&format!("brief-{name}"), brief);
        users[name.as_str()]["path"] = value(format!("shore/{name}"));
    }
    let groups = document["groups"].as_table_mut().expect("groups");
    for (_, group) in groups.iter_mut() {
        let Some(members) = group["members"].as_array_mut() else { continue };
        let of_group: Vec<String> = members.iter().filter_map(|m| Some(m.as_str()?.strip_prefix("user:")?.to_owned())).collect();
        members.extend(of_group.iter().flat_map(|name| [format!("user:twin-of-{name}"), format!("user:brief-{name}")]));
    }
    let mut unheard = Table::new();
    unheard["members"] = value(names.iter().step_by(2).map(|name| format!("user:twin-of-{name}")).collect::<Array>());
    groups.insert("unheard", Item::Table(unheard));
    // Whoever has an account of their own on a database server has twins with such accounts; every other one is nobody else's.
    let databases = document.get_mut("databases").and_then(Item::as_table_mut);
    for (_, database) in databases.into_iter().flat_map(|all| all.iter_mut()) {
        let Some(accounts) = database.get_mut("accounts").and_then(Item::as_table_mut) else { continue };
        let own: Vec<(String, Item)> = accounts.iter().map(|(name, item)| (name.to_owned(), item.clone())).collect();
        for (number, (account, mut item)) in own.into_iter().enumerate() {
            let login = account.rsplit_once('@').map_or(account.as_str(), |(login, _)| login);
            if names.iter().any(|name| name == login) {
                if number % 2 == 0
                    && let Some(entry) = item.as_table_like_mut()
                {
                    entry.remove("used-by");
                    accounts.insert(&account, item.clone());
                }
                accounts.insert(&format!("twin-of-{account}"), item.clone());
                accounts.insert(&format!("brief-{account}"), item);
            }
        }
    }
    document.to_string()
}
