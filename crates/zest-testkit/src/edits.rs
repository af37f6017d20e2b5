//! The way to what is written at a place of a document.

use toml_edit::{Document, Item, TableLike, Value};

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
