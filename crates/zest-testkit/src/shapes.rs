//! Ledgers and statements of the worst shapes that a person may write, each of a few hundred kilobytes at most.

use std::fmt::Write as _;

fn list(items: impl Iterator<Item = String>) -> String {
    items.map(|item| format!("\"{item}\"")).collect::<Vec<_>>().join(", ")
}

/// A switch whose one command set has these rules.
#[must_use]
pub fn rules(rules: impl Iterator<Item = String>) -> String {
    format!(
        "[users.watch-1]\nproofs = [\"password\"]\n[vocabularies.v]\n\
         commands = [{{ line = \"show {{word}}\" }}, {{ line = \"show {{word}} {{word}}\" }}]\n\
         [systems.sw]\nkind = \"network-device\"\nvocabulary = \"v\"\nno-command-set = \"nothing\"\n\
         authorisation = {{ levels = \"all\", configuration = true }}\n\
         [command-sets.s]\nrules = [{}]\n[roles.r]\nband = {{ start = 1, ceiling = 1 }}\ncommands = [\"s\"]\n\
         [[assignments]]\nto = [\"user:watch-1\"]\nroles = [\"r\"]\non = {{ all = true }}\n",
        list(rules)
    )
}

/// `count` rules with two ranges of numbers each, all of which overlap in different ways.
#[must_use]
pub fn ranges(count: usize) -> String {
    let mut rng = fastrand::Rng::with_seed(1);
    let mut range = move || {
        let start = rng.usize(0..60_000);
        format!("{{{start}-{}}}", start + rng.usize(1..5000))
    };
    rules((0..count).map(move |_| format!("allow show {} {}", range(), range())))
}

/// `count` rules for words that begin alike, so that most are hidden by another.
#[must_use]
pub fn beginnings(count: usize) -> String {
    rules((0..count).map(|i| format!("allow show x{i}* ...")))
}

/// `count` denies of words that begin alike, each with a line that passes beside it.
#[must_use]
pub fn narrow_denies(count: usize) -> String {
    rules((0..count).map(|i| format!("deny show x{i}*")).chain(["allow ...".to_owned()]))
}

/// `count` rules of which each has a beginning of its own behind any word, and `behind` behind that.
#[must_use]
pub fn beginnings_behind_any_word(count: usize, behind: &str) -> String {
    rules((0..count).map(|i| format!("allow show {{word}} x{i}* {behind}")))
}

/// `count` rules for words that end alike.
#[must_use]
pub fn ends(count: usize) -> String {
    rules((0..count).map(|i| format!("allow show *x{i} ...")))
}

/// Roles of a database server in layers, each a member of all of the layer below; of the lowest each may read a table.
#[must_use]
pub fn lattice(kind: &str, account: &str, width: usize, depth: usize) -> String {
    let mut text = format!("[users.watch-1]\nproofs = [\"password\"]\n[systems.d]\nkind = \"{kind}\"\n[databases.d.roles]\n");
    for layer in 0..depth {
        let below = layer.checked_sub(1).map_or(String::new(), |below| list((0..width).map(|i| format!("r{below}-{i}"))));
        (0..width).for_each(|i| _ = writeln!(text, "r{layer}-{i} = {{ member-of = [{below}] }}"));
    }
    let top = list((0..width).map(|i| format!("r{}-{i}", depth - 1)));
    let _ = writeln!(text, "[databases.d.accounts]\n\"{account}\" = {{ used-by = [\"user:watch-1\"], member-of = [{top}] }}");
    let class = if kind == "mariadb" { "database" } else { "schema" };
    let _ = writeln!(text, "[databases.d.objects]\n\"{class} a\" = {{}}\n\"table a.t\" = {{ columns = {{ id = \"int\" }} }}");
    let lowest = list((0..width).map(|i| format!("r0-{i}")));
    let _ = writeln!(text, "[[databases.d.grants]]\nallow = [\"select\"]\non = \"table a.t\"\nto = [{lowest}]");
    text
}

/// Many assignments of everybody on every device.
#[must_use]
pub fn assignments(users: usize, devices: usize, assignments: usize) -> String {
    let mut text =
        String::from("[vocabularies.v]\ncommands = [{ line = \"show {word}\" }]\n[command-sets.s]\nrules = [\"allow show a\"]\n");
    (0..users).for_each(|u| _ = writeln!(text, "[users.u{u}]\nproofs = [\"password\"]"));
    let device = "kind = \"network-device\"\nvocabulary = \"v\"\nno-command-set = \"nothing\"";
    (0..devices).for_each(|d| _ = writeln!(text, "[systems.sw{d}]\n{device}"));
    text.push_str("[roles.r]\nband = { start = 1, ceiling = 1 }\ncommands = [\"s\"]\n");
    let _ = writeln!(text, "[groups.all]\nmembers = [{}]", list((0..users).map(|u| format!("user:u{u}"))));
    (0..assignments).for_each(|_| text.push_str("[[assignments]]\nto = [\"group:all\"]\nroles = [\"r\"]\non = { all = true }\n"));
    text
}

/// A host on which every account may run something as every other.
#[must_use]
pub fn all_to_all(accounts: usize) -> String {
    let mut text = String::new();
    (0..accounts).for_each(|u| _ = writeln!(text, "[users.u{u}]\nproofs = [\"password\"]"));
    let (by, target) = (list((0..accounts).map(|u| format!("account:u{u}"))), list((0..accounts).map(|u| format!("u{u}"))));
    text.push_str("[systems.h]\nkind = \"host\"\nno-command-set = \"everything\"\n[command-sets.c]\nrules = [\"allow /opt/x\"]\n");
    let _ =
        writeln!(text, "[hosts.h]\nrun-as = [{{ by = [{by}], as = [{target}], commands = [\"c\"], proof = false }}]\n[hosts.h.accounts]");
    (0..accounts).for_each(|u| _ = writeln!(text, "u{u} = {{}}"));
    text
}

/// A statement whose common table expressions each have twice the columns of the one before.
#[must_use]
pub fn doubling_expressions(table: &str, count: usize) -> String {
    let more: String = (1..=count).map(|i| format!(", c{i} AS (SELECT * FROM c{0}, c{0} x)", i - 1)).collect();
    format!("WITH c0 AS (SELECT * FROM {table}){more} SELECT * FROM c{count}")
}

/// A database in which each view reads the one before twice.
#[must_use]
pub fn doubling_views(count: usize) -> String {
    let mut text = String::from(
        "[users.watch-1]\nproofs = [\"password\"]\n[systems.d]\nkind = \"postgresql\"\n[databases.d.accounts]\nwatch-1 = {}\npostgres = { may = [\"superuser\"] }\n\
         [databases.d.objects]\n\"table public.t\" = { columns = { id = \"integer\" } }\n",
    );
    for i in 0..count {
        let from = if i == 0 { "public.t".to_owned() } else { format!("public.v{}", i - 1) };
        let _ = writeln!(text, "\"view public.v{i}\" = {{ columns = [\"id\"], query = \"SELECT a.id FROM {from} a, {from} b\" }}");
    }
    text
}
