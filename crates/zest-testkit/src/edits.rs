//! The way to what is written at a place of a document, and edits of one at random.

use fastrand::Rng;
use toml_edit::{Document, DocumentMut, Item, Table, TableLike, Value};

/// The entries of a document, each with the bytes it covers: ways such as `roles.role-1.commands`.
#[derive(Debug)]
pub struct Ways(Vec<(std::ops::Range<usize>, String)>);

impl Ways {
    /// Reads a document.
    ///
    /// # Panics
    /// If it is no TOML.
    #[must_use]
    pub fn of(text: &str) -> Self {
        let document = Document::parse(text).expect("the document is TOML");
        let mut ways = Self(Vec::new());
        ways.table(document.as_table(), "");
        ways
    }

    fn table(&mut self, table: &dyn TableLike, way: &str) {
        for (name, item) in table.iter() {
            let way = if way.is_empty() { name.to_owned() } else { format!("{way}.{name}") };
            self.note(table.key(name).and_then(|k| k.span()), &way);
            self.item(item, &way);
        }
    }

    fn item(&mut self, item: &Item, way: &str) {
        self.note(item.span(), way);
        match item {
            Item::ArrayOfTables(list) => list.iter().enumerate().for_each(|(i, table)| {
                self.note(table.span(), &format!("{way}.{i}"));
                self.table(table, &format!("{way}.{i}"));
            }),
            Item::Table(table) => self.table(table, way),
            Item::Value(Value::InlineTable(table)) => self.table(table, way),
            Item::Value(Value::Array(list)) => list.iter().enumerate().for_each(|(i, value)| {
                if let Value::InlineTable(table) = value {
                    self.note(value.span(), &format!("{way}.{i}"));
                    self.table(table, &format!("{way}.{i}"));
                }
            }),
            Item::None | Item::Value(_) => {}
        }
    }

    fn note(&mut self, span: Option<std::ops::Range<usize>>, way: &str) {
        self.0.extend(span.map(|span| (span, way.to_owned())));
    }

    /// Returns the way to the innermost entry that covers a line and column, both from 1.
    #[must_use]
    pub fn at(&self, text: &str, line: u32, column: u32) -> &str {
        let start: usize = text.split_inclusive('\n').take(line as usize - 1).map(str::len).sum();
        let offset = start + text[start..].chars().take(column as usize - 1).map(char::len_utf8).sum::<usize>();
        let covering = self.0.iter().filter(|(span, _)| span.contains(&offset));
        covering.min_by_key(|(span, way)| (span.len(), std::cmp::Reverse(way.len()))).map_or("", |(_, way)| way)
    }
}

/// Edits one table of a document at random, one of some where it has any of them: something that is written in it is taken out, or stands
/// as another of its sort does.
///
/// # Panics
/// If it is no TOML.
#[must_use]
pub fn edited(rng: &mut Rng, text: &str, tables: &[&str]) -> String {
    let mut document: DocumentMut = text.parse().expect("the document is TOML");
    let mut all: Vec<String> = document.iter().filter(|(_, item)| !item.is_value()).map(|(name, _)| name.to_owned()).collect();
    if all.iter().any(|name| tables.contains(&name.as_str())) {
        all.retain(|name| tables.contains(&name.as_str()));
    }
    let name = rng.choice(&all).expect("there is a table");
    let mut of_it = Table::new();
    of_it.insert(name, document.remove(name).expect("it is there"));
    let mut nodes = Vec::new();
    walk(&mut of_it, "", &mut |node| {
        nodes.push(node.told());
        None
    });
    let number = rng.usize(..nodes.len());
    let (parent, key, written) = &nodes[number];
    let is_of_its_sort = |(other, of, node): &&(String, String, Node)| {
        let is_like = key == of
            || parent == other && matches!((written, node), (Node::Item(a), Node::Item(b)) if a.is_table_like() && b.is_table_like());
        is_like && written.text() != node.text()
    };
    let others: Vec<&(String, String, Node)> = nodes.iter().filter(is_of_its_sort).collect();
    let other = rng.choice(&others).filter(|_| rng.u8(0..3) > 0).map(|(_, _, node)| node);
    let mut left = number;
    walk(&mut of_it, "", &mut |_| {
        let act = (left == 0).then(|| other.cloned());
        left = left.wrapping_sub(1);
        act
    });
    if let Some(item) = of_it.remove(name) {
        document.insert(name, item);
    }
    document.to_string()
}

/// Something that is written: the value of a key, an item of a list, or a table of a list.
#[derive(Clone)]
enum Node {
    Item(Item),
    Value(Value),
    Table(Table),
}

impl Node {
    fn text(&self) -> String {
        match self {
            Self::Item(item) => item.as_table().map_or_else(|| item.to_string(), whole),
            Self::Value(value) => value.to_string(),
            Self::Table(table) => whole(table),
        }
    }
}

/// Returns all that is written in a table: as a text of its own it has not got those within.
fn whole(table: &Table) -> String {
    DocumentMut::from(table.clone()).to_string()
}

/// A node, with its key and the key of what it stands in.
struct At<'n> {
    parent: &'n str,
    key: &'n str,
    node: &'n dyn Fn() -> Node,
}

impl At<'_> {
    fn told(&self) -> (String, String, Node) {
        (self.parent.to_owned(), self.key.to_owned(), (self.node)())
    }
}

/// What is to be in the place of a node, if it is the one: nothing, where it is taken out.
type Act<'a> = dyn FnMut(At<'_>) -> Option<Option<Node>> + 'a;

/// Goes through all that is written, and does to one node what is wanted; then it ends. What cannot stand in a place is taken out.
fn walk(table: &mut dyn TableLike, parent: &str, act: &mut Act<'_>) -> bool {
    let keys: Vec<String> = table.iter().map(|(key, _)| key.to_owned()).collect();
    for key in &keys {
        let Some(item) = table.get_mut(key) else { continue };
        match act(At { parent, key, node: &|| Node::Item(item.clone()) }) {
            None => {}
            Some(Some(Node::Item(other))) => {
                *item = other;
                return true;
            }
            Some(_) => return table.remove(key).is_some(),
        }
        if let Some(below) = item.as_table_like_mut() {
            if walk(below, key, act) {
                return true;
            }
        } else if let Some(rows) = item.as_array_of_tables_mut() {
            for number in 0..rows.len() {
                let row = rows.get_mut(number).expect("it is there");
                match act(At { parent: key, key, node: &|| Node::Table(row.clone()) }) {
                    None if walk(row, key, act) => return true,
                    None => {}
                    Some(Some(Node::Table(other))) => {
                        *row = other;
                        return true;
                    }
                    Some(_) => {
                        rows.remove(number);
                        return true;
                    }
                }
            }
        } else if let Some(values) = item.as_array_mut() {
            for number in 0..values.len() {
                let value = values.get_mut(number).expect("it is there");
                match act(At { parent: key, key, node: &|| Node::Value(value.clone()) }) {
                    None if value.as_inline_table_mut().is_some_and(|below| walk(below, key, act)) => return true,
                    None => {}
                    Some(Some(Node::Value(other))) => {
                        *value = other;
                        return true;
                    }
                    Some(_) => {
                        values.remove(number);
                        return true;
                    }
                }
            }
        }
    }
    false
}
