//! Effective permissions: systems with the same rights together, each command with what permits it.

use std::fmt::Write as _;

use comfy_table::{ContentArrangement, Table, presets};
use zest_ledger::review::{CommandRight, DataRight, Effective, Entitlement, Extent, OnDatabase};
use zest_ledger::source::visible;

use super::style::{BAD, FAINT, HEAD, WIDTH, hanging};

pub(crate) fn render(user: &str, rights: &[Effective]) -> String {
    let mut out = String::new();
    // Systems that differ in nothing but their name stand together, in the order of the first of them.
    let mut groups: Vec<(Vec<&str>, &Effective)> = Vec::new();
    for right in rights {
        let same = |other: &Effective| {
            let logins = |r: &Effective| r.accounts.iter().map(|a| (a.0.clone(), a.1, a.2)).collect::<Vec<_>>();
            other.entitlements == right.entitlements && logins(other) == logins(right) && other.refused == right.refused
        };
        match groups.iter_mut().find(|(_, first)| same(first)) {
            Some((names, _)) => names.push(&right.system),
            None => groups.push((vec![&right.system], right)),
        }
    }
    for (names, right) in groups {
        let names: Vec<String> = names.iter().map(|n| visible(n)).collect();
        let _ = writeln!(out, "{HEAD}{}{HEAD:#}", hanging("", &format!("{user} on {}", names.join(", "))));
        if let Some((why, at)) = &right.refused {
            let at = at.as_ref().map_or(String::new(), |l| format!(" ({l})"));
            let _ = writeln!(out, "  {BAD}no session{BAD:#}  {}\n", hanging("              ", &format!("{why}{at}")));
            continue;
        }
        if let Some(database) = &right.database {
            out.push_str(&on_database(database));
            continue;
        }
        if right.entitlements.is_empty() && right.accounts.is_empty() {
            let _ = writeln!(out, "  {BAD}nothing{BAD:#}: no assignment and no local account\n");
            continue;
        }
        let count = right.entitlements.len();
        for (i, entitlement) in right.entitlements.iter().enumerate() {
            let nth = if count > 1 { format!("{}. ", i + 1) } else { String::new() };
            out.push_str(&one(&nth, entitlement));
        }
        for (login, start, ceiling, at) in &right.accounts {
            let text = format!("local account `{}`, levels {start} to {ceiling}, by the commands' own levels ({at})", visible(login));
            let _ = writeln!(out, "  {}", hanging("    ", &text));
        }
        out.push('\n');
    }
    out
}

/// What a session holds on a database server, and what other roles would bring.
fn on_database(database: &OnDatabase) -> String {
    let mut out = String::new();
    let role = database.role.as_ref().map_or("no role active".to_owned(), |r| format!("role `{}` active", visible(r)));
    let _ = writeln!(out, "  account `{}`, {role}\n", visible(&database.account));
    out.push_str(&rights(&database.held));
    for (role, more) in &database.once_active {
        let _ = writeln!(out, "\n  {FAINT}once{FAINT:#} {HEAD}{}{HEAD:#} {FAINT}is the active role, it has besides:{FAINT:#}", visible(role));
        out.push_str(&rights(more));
    }
    out.push('\n');
    out
}

fn rights(list: &[DataRight]) -> String {
    if list.is_empty() {
        return format!("  {BAD}nothing{BAD:#} but what the server gives to everybody\n");
    }
    let mut table = Table::new();
    table.load_preset(presets::NOTHING).set_content_arrangement(ContentArrangement::Dynamic).set_width(WIDTH as u16);
    for right in list {
        let at = right.location.as_ref().map_or(String::new(), ToString::to_string);
        table.add_row([format!(" {}", right.on), right.privileges.clone(), right.through.clone(), at]);
    }
    let mut out = String::new();
    for line in table.lines() {
        let _ = writeln!(out, " {}", line.trim_end());
    }
    out
}

fn one(nth: &str, entitlement: &Entitlement) -> String {
    let mut out = String::new();
    let _ = writeln!(out, "  {}", hanging("    ", &format!("{nth}{} ({})", entitlement.through, entitlement.location)));
    if !entitlement.conditions.is_empty() {
        let _ = writeln!(out, "    when    {}", hanging("            ", &entitlement.conditions.join(", ")));
    }
    match entitlement.band {
        None => {
            let _ = writeln!(out, "    {BAD}no band, so no session can be opened{BAD:#}");
        }
        Some((start, ceiling)) => {
            let levels = ranges(&entitlement.levels);
            let _ = writeln!(out, "    levels  starts at {start}, ceiling {ceiling}; can be at {levels}");
        }
    }
    out.push_str(&table(&entitlement.commands));
    out
}

fn table(commands: &[CommandRight]) -> String {
    if commands.is_empty() {
        return "    no command\n".to_owned();
    }
    let mut table = Table::new();
    table.load_style(presets::NOTHING).set_content_arrangement(ContentArrangement::Dynamic).set_width((WIDTH - 4) as u16);
    table.set_header(["level", "command", "permitted by", "written in"]);
    for right in commands {
        let mut line = visible(&right.line);
        if let Extent::Except(example) = &right.extent {
            let _ = write!(line, "\n  not: {}", visible(example));
        }
        let at = right.location.as_ref().map_or(String::new(), ToString::to_string);
        table.add_row([right.level.to_string(), line, visible(&right.ground), at]);
    }
    let mut out = String::new();
    for (i, line) in table.lines().enumerate() {
        let line = line.trim_end();
        let _ = if i == 0 { writeln!(out, "   {FAINT}{line}{FAINT:#}") } else { writeln!(out, "   {line}") };
    }
    out
}

/// "1-7, 15".
fn ranges(levels: &[u8]) -> String {
    let mut parts: Vec<(u8, u8)> = Vec::new();
    for &level in levels {
        match parts.last_mut() {
            Some((_, end)) if *end + 1 == level => *end = level,
            _ => parts.push((level, level)),
        }
    }
    let text = |&(from, to): &(u8, u8)| if from == to { from.to_string() } else { format!("{from}-{to}") };
    parts.iter().map(text).collect::<Vec<_>>().join(", ")
}
