//! The server's own tables and views: who may read each.

use super::super::privilege::Privileges;
use super::settings::privileges;

/// Each view of `information_schema` in version 10.11, and each table of `performance_schema` that everybody reads: who reads it (`everybody`, or the privileges of which one is needed), and its columns.
/// Made from a fresh server.
const CATALOGS: &str = include_str!("../catalogs.txt");

/// The databases that the server keeps for itself.
pub(super) const OWN: &[&str] = &["information_schema", "mysql", "performance_schema", "sys"];

/// A table or view of the server itself.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(super) enum Own {
    /// Of `information_schema`: with one of some privileges, or open to everybody.
    View(Privileges),
    /// Of another of its databases, where rights are granted as on any other.
    Table { database: String, name: String },
}

/// Finds one, with its columns where they are known.
pub(super) fn own(database: &str, name: &str) -> Result<Option<(Own, Vec<String>)>, String> {
    let database = database.to_lowercase();
    if !OWN.contains(&database.as_str()) {
        return Ok(None);
    }
    let folded = match database.as_str() {
        "information_schema" => name.to_lowercase(),
        _ => format!("{database}.{}", name.to_lowercase()),
    };
    let line = CATALOGS.lines().find(|line| line.split(';').next() == Some(&folded));
    if database != "information_schema" && line.is_none() {
        return Ok(Some((Own::Table { database, name: name.to_owned() }, Vec::new())));
    }
    let mut parts = line.ok_or_else(|| format!("`{database}.{name}` is no view of this server"))?.split(';').skip(1);
    let who = match parts.next() {
        Some("everybody") | None => Privileges::NONE,
        Some(list) => privileges(list)?,
    };
    let columns = parts.next().unwrap_or("").split(' ').map(str::to_owned).collect();
    Ok(Some((Own::View(who), columns)))
}
