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
  { line = "show port {port: word} counters" },
  { line = "show ip route {address}" },
  { line = "clear port {port: word} counters", level = 7 },
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
