//! Effective permissions: systems with the same rights together, each command with what permits it.

use std::fmt::Write as _;

use comfy_table::{ContentArrangement, Table, presets};
use zest_ledger::review::{CommandRight, DataRight, Effective, Entitlement, Extent, OnAccount, OnDatabase, OnHost, OnService, OtherRight};
use zest_ledger::source::visible;

use super::style::{BAD, FAINT, GOOD, HEAD, hanging, width};

/// What a local account gives; where it is written differs from system to system.
fn gives(account: &OnAccount) -> (&str, u8, u8, &Option<Vec<CommandRight>>) {
    (&account.login, account.start, account.ceiling, &account.commands)
}

pub(crate) fn render(user: &str, rights: &[Effective]) -> String {
    let mut out = String::new();
    // Systems that differ in nothing but their name stand together, in the order of the first of them.
    let mut groups: Vec<(Vec<&str>, &Effective)> = Vec::new();
    for right in rights {
        let same = |other: &Effective| {
            other.entitlements == right.entitlements
                && other.accounts.iter().map(gives).eq(right.accounts.iter().map(gives))
                && other.refused == right.refused
                && other.database == right.database
                && other.service == right.service
                && other.host == right.host
                && other.rights == right.rights
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
        if !right.database.is_empty() {
            right.database.iter().for_each(|d| out.push_str(&on_database(d)));
            continue;
        }
        if let Some(service) = &right.service {
            out.push_str(&on_service(service));
            continue;
        }
        if !right.host.is_empty() {
            right.host.iter().for_each(|h| out.push_str(&on_host(h)));
            continue;
        }
        if !right.rights.is_empty() {
            for OtherRight { action, through, conditions, location } in &right.rights {
                let at = location.as_ref().map_or(String::new(), |l| format!(" ({l})"));
                let open = if conditions.is_empty() { String::new() } else { format!(", {}", conditions.join(", ")) };
                let _ = writeln!(out, "  {}", hanging("    ", &format!("{} through {}{open}{at}", visible(action), visible(through))));
            }
            out.push('\n');
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
        for OnAccount { login, start, ceiling, location, commands, .. } in &right.accounts {
            let by = if commands.is_some() { "by command sets of its own" } else { "by the commands' own levels" };
            let text = format!("local account `{}`, levels {start} to {ceiling}, {by} ({location})", visible(login));
            let _ = writeln!(out, "  {}", hanging("    ", &text));
            if let Some(commands) = commands {
                out.push_str(&table(commands));
            }
        }
        out.push('\n');
    }
    out
}

/// What a session holds on a cloud or in an application.
fn on_service(service: &OnService) -> String {
    let mut out = String::new();
    if let Some(acting) = &service.acting {
        let _ = writeln!(out, "  {FAINT}{acting}{FAINT:#}");
    }
    if service.rights.is_empty() {
        let _ = writeln!(out, "  {BAD}nothing{BAD:#} is granted");
    }
    for right in &service.rights {
        let (word, style) = if right.is_deny { ("deny ", BAD) } else { ("allow", GOOD) };
        let _ = writeln!(out, "  {style}{word}{style:#} {}", hanging("        ", &format!("{} on {}", right.operations, right.on)));
        let mut how = vec![format!("{} ({})", right.through, right.location)];
        how.extend((!right.conditions.is_empty()).then(|| format!("when {}", right.conditions.join(" and "))));
        how.extend((!right.lifted_by.is_empty()).then(|| format!("unless {}", right.lifted_by.join(" and "))));
        how.extend((!right.after.is_empty()).then(|| format!("after: {}", right.after.join(", "))));
        let _ = writeln!(out, "        {FAINT}{}{FAINT:#}", hanging("        ", &how.join("; ")));
    }
    for (text, at) in &service.may_become {
        let _ = writeln!(out, "  may go on {}", hanging("            ", &format!("{text} ({at})")));
    }
    out.push('\n');
    out
}

/// What may be run on a host from one account.
fn on_host(host: &OnHost) -> String {
    let mut out = String::new();
    let closed = host.refused.as_ref().map_or(String::new(), |why| format!(": nobody signs in with it, {why}"));
    let _ = writeln!(out, "  {}", hanging("    ", &format!("account `{}`{closed}", visible(&host.account))));
    if host.rules.is_empty() && host.refused.is_none() {
        let _ = writeln!(out, "    {FAINT}runs with the account's own rights, and as nobody else{FAINT:#}");
    }
    let mut target = "";
    for rule in &host.rules {
        if rule.target != target {
            target = &rule.target;
            let _ = writeln!(out, "    as `{}`, the first that matches decides:", visible(target));
        }
        let (word, style) = if rule.allows { ("allow", GOOD) } else { ("deny ", BAD) };
        let proof = if rule.proof && rule.allows { ", after the password" } else { "" };
        let text = format!("{}{proof} ({})", visible(&rule.line), rule.location);
        let _ = writeln!(out, "      {style}{word}{style:#} {}", hanging("            ", &text));
    }
    out.push('\n');
    out
}

/// What a session holds on a database server, and what other roles would bring.
fn on_database(database: &OnDatabase) -> String {
    let mut out = String::new();
    if let Some((why, at)) = &database.refused {
        let at = at.as_ref().map_or(String::new(), |l| format!(" ({l})"));
        let text = hanging("              ", &format!("{why}{at}"));
        let _ = writeln!(out, "  account `{}`\n  {BAD}no session{BAD:#}  {text}\n", visible(&database.account));
        return out;
    }
    let role = database.role.as_ref().map_or("no role active".to_owned(), |r| format!("role `{}` active", visible(r)));
    let _ = writeln!(out, "  account `{}`, {role}\n", visible(&database.account));
    out.push_str(&rights(&database.held));
    for (role, more) in &database.once_active {
        let _ =
            writeln!(out, "\n  {FAINT}once{FAINT:#} {HEAD}{}{HEAD:#} {FAINT}is the active role, it has besides:{FAINT:#}", visible(role));
        out.push_str(&rights(more));
    }
    out.push('\n');
    out
}

fn rights(list: &[DataRight]) -> String {
    if list.is_empty() {
        return format!("    {BAD}nothing{BAD:#} but what the server gives to everybody\n");
    }
    // What is held in the same way on several objects of one schema or database stands in one row.
    let mut rows: Vec<(&DataRight, Vec<&str>)> = Vec::new();
    for right in list {
        let within = |r: &DataRight| r.within.as_ref().map(|w| w.0.clone());
        let same = |other: &DataRight| {
            within(right).is_some()
                && within(other) == within(right)
                && (&other.privileges, other.may_pass_on) == (&right.privileges, right.may_pass_on)
                && (&other.through, &other.location) == (&right.through, &right.location)
        };
        let name = right.within.as_ref().map_or(right.on.as_str(), |w| &w.1);
        match rows.iter_mut().find(|(first, _)| same(first)) {
            Some((_, names)) => names.push(name),
            None => rows.push((right, vec![name])),
        }
    }
    let mut out = String::new();
    for (right, names) in rows {
        let on = match (&right.within, names.as_slice()) {
            (None, _) | (_, [_]) => right.on.clone(),
            (Some((within, _)), several) => format!("{within}: {}", by_class(several)),
        };
        let passing = if right.may_pass_on { "; may be passed on" } else { "" };
        let at = right.location.as_ref().map_or(String::new(), |l| format!(" ({l})"));
        let _ = writeln!(out, "    {}", hanging("      ", &format!("{} on {on}", right.privileges.join(", "))));
        let _ = writeln!(out, "      {FAINT}{}{FAINT:#}", hanging("      ", &format!("through {}{at}{passing}", right.through)));
    }
    out
}

/// `table price`, `table zone`, `view sums` as `tables price, zone; view sums`.
fn by_class(names: &[&str]) -> String {
    let mut groups: Vec<(&str, Vec<&str>)> = Vec::new();
    for name in names {
        let split = ["materialised view ", "foreign table "].iter().find(|p| name.starts_with(**p)).map(|p| p.len());
        let at = split.or_else(|| name.find(' ').map(|i| i + 1)).unwrap_or(0);
        let (class, rest) = name.split_at(at);
        match groups.iter_mut().find(|(c, _)| *c == class) {
            Some((_, list)) => list.push(rest),
            None => groups.push((class, vec![rest])),
        }
    }
    let part = |(class, list): &(&str, Vec<&str>)| {
        let plural = if list.len() > 1 { "s" } else { "" };
        format!("{}{plural} {}", class.trim_end(), list.join(", "))
    };
    groups.iter().map(part).collect::<Vec<_>>().join("; ")
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
    table.load_style(presets::NOTHING).set_content_arrangement(ContentArrangement::Dynamic).set_width((width() - 4) as u16);
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
