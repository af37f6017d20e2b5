//! Ledgers of a given size, to measure.

use std::fmt::Write as _;

/// Writes a ledger of `users` people in groups of about fifty, and one command set of `rules` rules.
///
/// Every user has a role on every system; each group has an assignment of its own.
#[must_use]
pub fn ledger(users: usize, rules: usize) -> String {
    let mut text = String::from(
        r#"
[vocabularies.make]
commands = [
  { line = "leave", level = 0, does = "leave-session" },
  { line = "elevate {level: 0-15}", level = 0, does = "elevate" },
  { line = "show port {port: word} tally" },
  { line = "show path to {address}" },
  { line = "zero port {port: word} tally", level = 7 },
]

[command-sets.ports]
rules = [
"#,
    );
    for rule in 0..rules {
        let verb = if rule % 3 == 0 { "deny " } else { "allow" };
        let _ = writeln!(text, "  \"{verb} show port pier-{rule} ...\",");
    }
    text.push_str("]\n\n[roles.ports]\nband = { start = 1, ceiling = 7 }\ncommands = [\"ports\"]\n");
    for system in 0..20 {
        let _ = write!(
            text,
            "\n[systems.sw-{system}]\nkind = \"network-device\"\nvocabulary = \"make\"\nno-command-set = \"nothing\"\nlabels = {{ class = \"switch\" }}\nauthorisation = {{ levels = \"all\", configuration = true }}\n"
        );
    }
    for user in 0..users {
        let _ = write!(text, "\n[users.user-{user}]\nname = \"User {user}\"\npath = \"shore/watch\"\nproofs = [\"password\", \"key\"]\n");
    }
    for group in 0..users.div_ceil(50) {
        let members = (group * 50..users.min(group * 50 + 50)).map(|u| format!("\"user:user-{u}\"")).collect::<Vec<_>>().join(", ");
        let _ = write!(
            text,
            "\n[groups.group-{group}]\nmembers = [{members}]\nowners = [\"user:user-0\"]\n\n[[assignments]]\nto = [\"group:group-{group}\"]\nroles = [\"ports\"]\non = {{ labels = {{ class = \"switch\" }} }}\n"
        );
    }
    text
}

/// The container of the grant number `turn` of a group, in [`cloud`].
#[must_use]
pub const fn container(group: usize, turn: usize) -> usize {
    (group * 50 + turn) % 1_000
}

/// Writes a ledger of one cloud `sky`: `users` people in groups of about fifty, `grants` grants that take turns among the
/// groups, each on another of a thousand containers, and a deny for everybody who gave no recent code.
#[must_use]
pub fn cloud(users: usize, grants: usize) -> String {
    let mut text = String::from(
        "[systems.sky]\nkind = \"cloud\"\n[clouds.sky]\noperations = { \"hull.read\" = { reads = true }, \"hull.stop\" = {} }\n",
    );
    let groups = users.div_ceil(50);
    text.push_str("resources = { line = {}");
    (0..1_000).for_each(|c| {
        let _ = write!(text, ", \"line/c{c}\" = {{}}");
    });
    text.push_str(" }\n[[clouds.sky.grants]]\ndeny = [\"hull.stop\"]\non = \"line/**\"\nto = [\"group:everybody\"]\n");
    text.push_str("lifted-by = { proof = [\"one-time-code\"], proof-age = \"1h\" }\n");
    for grant in 0..grants {
        let (group, container) = (grant % groups, container(grant % groups, grant / groups));
        let _ = write!(text, "[[clouds.sky.grants]]\nallow = [\"all\"]\non = \"line/c{container}/**\"\nto = [\"group:group-{group}\"]\n");
    }
    let names: Vec<String> = (0..groups).map(|g| format!("\"group:group-{g}\"")).collect();
    let _ = write!(text, "[groups.everybody]\nmembers = [{}]\n", names.join(", "));
    for group in 0..groups {
        let members = (group * 50..users.min(group * 50 + 50)).map(|u| format!("\"user:user-{u}\"")).collect::<Vec<_>>().join(", ");
        let _ = writeln!(text, "[groups.group-{group}]\nmembers = [{members}]");
    }
    for user in 0..users {
        let _ = writeln!(text, "[users.user-{user}]\nproofs = [\"password\", \"one-time-code\"]");
    }
    text
}

/// Writes a ledger of one host `box`: `users` people with accounts, who may run `rules` lines as the account `batch`.
#[must_use]
pub fn host(users: usize, rules: usize) -> String {
    let mut text = String::from("[systems.box]\nkind = \"host\"\nno-command-set = \"nothing\"\n[command-sets.jobs]\nrules = [\n");
    for rule in 0..rules {
        let verb = if rule % 3 == 0 { "deny " } else { "allow" };
        let _ = writeln!(text, "  \"{verb} /opt/jobs/run pier-{rule} ...\",");
    }
    text.push_str("]\n[hosts.box]\nrun-as = [{ by = [\"group:everybody\"], as = [\"batch\"], commands = [\"jobs\"], proof = false }]\n");
    let members: Vec<String> = (0..users).map(|u| format!("\"user:user-{u}\"")).collect();
    let _ = write!(text, "[groups.everybody]\nmembers = [{}]\n[hosts.box.accounts]\nbatch = {{}}\n", members.join(", "));
    for user in 0..users {
        let _ = writeln!(text, "user-{user} = {{}}");
    }
    for user in 0..users {
        let _ = writeln!(text, "[users.user-{user}]\nproofs = [\"key\"]");
    }
    text
}

/// Writes a ledger of a PostgreSQL and a MariaDB server: `users` people in groups of about fifty, each group with an account that it
/// shares on either, and a table that the roles of half of the accounts may read.
#[must_use]
pub fn databases(users: usize) -> String {
    let groups = users.div_ceil(50);
    let mut text = String::from("[systems.fares]\nkind = \"postgresql\"\n[systems.points]\nkind = \"mariadb\"\n");
    text.push_str("[databases.fares.objects]\n\"schema fares\" = {}\n\"table fares.price\" = { columns = { zone = \"int\" } }\n");
    text.push_str("[databases.fares.roles]\nreader = {}\nwriter = {}\n");
    text.push_str("[[databases.fares.grants]]\nallow = [\"usage\"]\non = \"schema fares\"\nto = [\"public\"]\n");
    text.push_str("[[databases.fares.grants]]\nallow = [\"select\"]\non = \"table fares.price\"\nto = [\"reader\"]\n");
    text.push_str("[[databases.fares.grants]]\nallow = [\"update\"]\non = \"table fares.price\"\nto = [\"writer\"]\n");
    text.push_str("[databases.points.objects]\n\"database points\" = {}\n\"table points.member\" = { columns = { score = \"int\" } }\n");
    text.push_str("[databases.points.roles]\nreader = {}\n");
    text.push_str("[[databases.points.grants]]\nallow = [\"select\"]\non = \"table points.member\"\nto = [\"reader\"]\n");
    for (server, host) in [("fares", ""), ("points", "@192.0.2.%")] {
        let _ = writeln!(text, "[databases.{server}.accounts]");
        for group in 0..groups {
            let joins = if group % 2 == 0 { ", member-of = [\"reader\"]" } else { "" };
            let _ = writeln!(text, "\"desk-{group}{host}\" = {{ used-by = [\"group:group-{group}\"]{joins} }}");
        }
    }
    for group in 0..groups {
        let members = (group * 50..users.min(group * 50 + 50)).map(|u| format!("\"user:user-{u}\"")).collect::<Vec<_>>().join(", ");
        let _ = writeln!(text, "[groups.group-{group}]\nmembers = [{members}]");
    }
    for user in 0..users {
        let _ = writeln!(text, "[users.user-{user}]\nproofs = [\"password\"]");
    }
    text
}

/// Writes a ledger of one application `rota` and one device `sw`: `users` people in groups of a hundred, each group with a grant of its
/// own and one that looks at an attribute. One in a hundred people has a grant by name, one in ten an end of their own; proofs and
/// attributes are mixed.
#[must_use]
pub fn crowd(users: usize) -> String {
    let groups = users.div_ceil(100);
    let mut text =
        String::from("[systems.rota]\nkind = \"application\"\n[applications.rota]\ntypes.shift.rights = [\"plan\", \"look\", \"drop\"]\n");
    (0..100).for_each(|shift| {
        let _ = writeln!(text, "objects.\"shift/s{shift}\" = {{ attributes = {{ colour = \"red\" }} }}");
    });
    for group in 0..groups {
        let _ = write!(
            text,
            "[[applications.rota.grants]]\nallow = [\"plan\"]\non = \"shift/s{}\"\nto = [\"group:group-{group}\"]\n",
            group % 100
        );
    }
    for user in (0..users).step_by(100) {
        let _ = write!(
            text,
            "[[applications.rota.grants]]\nallow = [\"drop\"]\non = \"shift/s{}\"\nto = [\"user:user-{user}\"]\n",
            user / 100 % 100
        );
    }
    let names: Vec<String> = (0..groups).map(|group| format!("\"group:group-{group}\"")).collect();
    let _ = write!(
        text,
        "[groups.everybody]\nmembers = [{}]\n[[applications.rota.grants]]\nallow = [\"look\"]\non = \"shift/**\"\nto = [\"group:everybody\"]\nwhen = {{ compare = [\"user.colour = resource.colour\"] }}\n",
        names.join(", ")
    );
    for group in 0..groups {
        let members: Vec<String> = (group * 100..users.min(group * 100 + 100)).map(|user| format!("\"user:user-{user}\"")).collect();
        let _ = writeln!(text, "[groups.group-{group}]\nmembers = [{}]", members.join(", "));
    }
    for user in 0..users {
        let proofs = ["\"password\"", "\"password\", \"one-time-code\"", "\"key\""][user % 3];
        let colour = ["red", "blue"][user / 3 % 2];
        let _ = writeln!(text, "[users.user-{user}]\nproofs = [{proofs}]\nattributes = {{ colour = \"{colour}\" }}");
        if user % 10 == 7 {
            let _ = writeln!(
                text,
                "until = 2027-{:02}-{:02}T{:02}:{:02}:{:02}Z",
                user % 12 + 1,
                user % 28 + 1,
                user % 24,
                user / 7 % 60,
                user / 11 % 60
            );
        }
    }
    text
}

/// The same people, some of whom administer others: a help desk may set anew whatever password, the members of some groups may be changed,
/// others have owners, and the members of one edit a job of a host, on which its account may run a shell as root.
///
/// Of the members of the group that may edit the job nobody but the help desk, owners and those who may change its members come to root.
#[must_use]
pub fn administered(users: usize) -> String {
    let groups = users.div_ceil(100);
    let mut text = crowd(users);
    let desk: Vec<String> = (0..users.min(2_000)).step_by(100).map(|user| format!("\"user:user-{user}\"")).collect();
    let _ = writeln!(text, "[groups.desk]\nmembers = [{}]", desk.join(", "));
    let _ = writeln!(text, "[groups.editors]\nmembers = [\"user:user-41\", \"user:user-42\"]\nowners = [\"user:user-43\"]");
    for group in (0..groups).step_by(50) {
        let _ = writeln!(text, "[groups.team-{group}]\nmembers = [\"group:group-{group}\"]\nowners = [\"user:user-{}\"]", group * 100 + 7);
    }
    text.push_str(
        r#"
[[applications.rota.grants]]
allow = ["reset-credential"]
on = "user/*"
to = ["group:desk"]
[[applications.rota.grants]]
allow = ["change-members"]
on = "group/editors"
to = ["user:user-44", "group:team-0"]
[command-sets.shells]
rules = ["allow /bin/bash ..."]
[systems.runner]
kind = "host"
no-command-set = "nothing"
[hosts.runner]
jobs.tides = { runs-as = "tides", line = "/opt/tides/collect", edited-by = ["group:editors"] }
run-as = [{ by = ["account:tides"], as = ["root"], commands = ["shells"], proof = false }]
accounts.tides = { shell = "/usr/sbin/nologin" }
accounts.root = { locked = true }
"#,
    );
    for user in [0, 7, 41, 42, 43, 44, 100, 200].iter().filter(|user| **user < users) {
        let _ = writeln!(text, "accounts.user-{user} = {{}}");
    }
    text
}

/// Writes a ledger of a PostgreSQL and a MariaDB server on each of which everybody has an account, in roles of a thousand. Tables are owned
/// by a role of five; twenty may make roles, two run programs on PostgreSQL, five make accounts on MariaDB, and one in a hundred holds
/// something by name.
#[must_use]
pub fn served(users: usize) -> String {
    let teams = users.div_ceil(1_000);
    let mut text = String::from("[systems.fares]\nkind = \"postgresql\"\n[systems.points]\nkind = \"mariadb\"\n");
    for (server, roles) in [("fares", "harbour = {}\n"), ("points", "")] {
        let _ = writeln!(text, "[databases.{server}.roles]\n{roles}");
        for team in 0..teams {
            let _ = writeln!(text, "team-{team} = {{}}");
        }
    }
    text.push_str("[databases.fares.objects]\n\"table public.price\" = { columns = { zone = \"int\" }, owner = \"harbour\" }\n");
    text.push_str("\"table public.log\" = { columns = { zone = \"int\" } }\n");
    text.push_str("[databases.points.objects]\n\"database points\" = {}\n\"table points.member\" = { columns = { score = \"int\" } }\n");
    for user in 0..users {
        let _ = writeln!(text, "[users.user-{user}]\nproofs = [\"password\"]");
    }
    text.push_str("[databases.fares.accounts]\n");
    for user in 0..users {
        let (may, also) = match user % (users / 20) {
            0 => (", may = [\"create-role\"]", ""),
            1 if user < users / 4 => ("", ", \"harbour\""),
            2 if user < users / 10 => ("", ", \"pg_execute_server_program\""),
            _ => ("", ""),
        };
        let _ = writeln!(text, "user-{user} = {{ member-of = [\"team-{}\"{also}]{may} }}", user / 1_000);
    }
    text.push_str("[databases.points.accounts]\n");
    for user in 0..users {
        let _ = writeln!(text, "\"user-{user}@%\" = {{ member-of = [\"team-{}\"] }}", user / 1_000);
    }
    for user in (0..users).step_by(100) {
        for (server, account, on) in [("fares", "", "table public.log"), ("points", "@%", "table points.member")] {
            let _ = writeln!(text, "[[databases.{server}.grants]]\nallow = [\"select\"]\non = \"{on}\"\nto = [\"user-{user}{account}\"]");
        }
    }
    for user in (3..users).step_by(users / 5) {
        let _ = writeln!(text, "[[databases.points.grants]]\nallow = [\"create user\"]\non = \"everything\"\nto = [\"user-{user}@%\"]");
    }
    let _ =
        writeln!(text, "[[databases.points.grants]]\nallow = [\"delete\"]\non = \"table points.member\"\nto = [\"user-{}@%\"]", users - 1);
    text
}
