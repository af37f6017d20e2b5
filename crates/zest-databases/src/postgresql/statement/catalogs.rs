//! The server's own tables and views: who may read each.

/// Each table and view of `pg_catalog` and `information_schema` in version 15: its name, who reads it (`public`, a dash for superusers
/// alone, or the roles that may), and its columns; behind an exclamation mark one that superusers alone may read. Made from a fresh server.
const CATALOGS: &str = include_str!("../catalogs.txt");

/// One of them.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(super) struct Own {
    pub(super) name: &'static str,
    /// The roles of the server that may read it; nothing where everybody may.
    pub(super) readers: Option<Vec<&'static str>>,
    pub(super) columns: Vec<&'static str>,
    /// Columns that superusers alone may read.
    pub(super) hidden: Vec<&'static str>,
}

/// Finds one by the parts of its name.
pub(super) fn own(name: &[String]) -> Option<Own> {
    let wanted = match name {
        [one] => one.clone(),
        [schema, one] | [_, schema, one] if schema == "pg_catalog" => one.clone(),
        [schema, one] | [_, schema, one] if schema == "information_schema" => format!("{schema}.{one}"),
        _ => return None,
    };
    let line = CATALOGS.lines().find(|line| line.split(' ').next() == Some(&wanted))?;
    let mut words = line.split(' ');
    let (name, who) = (words.next()?, words.next()?);
    let readers = (who != "public").then(|| who.split(',').filter(|role| *role != "-").collect());
    let (hidden, open): (Vec<_>, Vec<_>) = words.partition(|column| column.starts_with('!'));
    let hidden: Vec<&str> = hidden.into_iter().map(|column| &column[1..]).collect();
    Some(Own { name, readers, columns: open.into_iter().chain(hidden.iter().copied()).collect(), hidden })
}
