//! `zest privileges`: the catalogue of what can be granted on a kind of server.

use anyhow::Result;
use serde_json::{Value, json};
use zest_ledger::{mariadb, postgresql};

use crate::args::{PrivilegesArgs, Server};
use crate::exit::Exit;
use crate::out::say;
use crate::render::style::{FAINT, HEAD, hanging};
use crate::render::table::{Table, words};

struct Row {
    name: &'static str,
    applies_to: Vec<&'static str>,
    about: &'static str,
    implies: &'static str,
}

fn rows(kind: Server) -> Vec<Row> {
    match kind {
        Server::Postgresql => postgresql::Privilege::ALL
            .iter()
            .map(|p| {
                let mut applies_to: Vec<&str> = p.applies_to().map(postgresql::Class::word).collect();
                if !p.implies().is_empty() {
                    applies_to.push("column");
                }
                Row { name: p.word(), applies_to, about: p.about(), implies: p.implies() }
            })
            .collect(),
        Server::Mariadb => mariadb::Privilege::ALL
            .iter()
            .map(|p| Row {
                name: p.word(),
                applies_to: p.granted_at().map(mariadb::Level::word).collect(),
                about: p.about(),
                implies: p.implies(),
            })
            .collect(),
    }
}

/// What holds for all privileges of a kind.
const fn general(kind: Server) -> &'static str {
    match kind {
        Server::Postgresql => {
            "An owner holds all of them on what is owned, and may grant them. A superuser passes every check. \
             `pg_read_all_data` brings select on all tables, views and sequences and usage on all schemas; \
             `pg_write_all_data` insert, update and delete, and usage on all schemas."
        }
        Server::Mariadb => {
            "Each can be granted on everything. The option to pass on is a privilege of its own, `grant option`, for all \
             privileges at its level. Nothing takes away at a narrow level what is held at a wider one."
        }
    }
}

pub(crate) fn run(args: &PrivilegesArgs) -> Result<Exit> {
    let rows = rows(args.kind);
    let data = || {
        let list: Vec<Value> = rows
            .iter()
            .map(|r| json!({ "name": r.name, "applies-to": r.applies_to, "about": r.about, "implies": (!r.implies.is_empty()).then_some(r.implies) }))
            .collect();
        Value::Array(list)
    };
    let text = || {
        say!("{}\n", hanging("", general(args.kind)));
        for row in &rows {
            say!("{HEAD}{}{HEAD:#}  {}", row.name, row.about);
            let implied = if row.implies.is_empty() { String::new() } else { format!("; implies {}", row.implies) };
            say!("    {FAINT}{}{FAINT:#}", hanging("    ", &format!("on {}{implied}", row.applies_to.join(", "))));
        }
    };
    let table = || {
        let mut table = Table::new("Privileges", [words("name"), words("on"), words("about"), words("implies")]);
        for Row { name, applies_to, about, implies } in &rows {
            table.row([(*name).into(), applies_to.join(", ").into(), (*about).into(), (*implies).into()]);
        }
        table.remark(general(args.kind));
        table
    };
    args.format.format.print(data, table, text);
    Ok(Exit::Allowed)
}
