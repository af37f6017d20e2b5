//! Edits of ledger documents, carried out by an editor that keeps comments and layout, and the way to what is written at an offset.

use toml_edit::{Array, ArrayOfTables, Document, DocumentMut, Item, Table, TableLike, Value};
use zest_ledger::ask::{Edit, EditStep, How};

/// Carries out an edit on the text of its document.
///
/// # Errors
/// What does not fit.
pub fn carry_out(text: &str, edit: &Edit) -> Result<String, String> {
    let mut document: DocumentMut = text.parse().map_err(|e| format!("{e}"))?;
    let table = walk(document.as_table_mut(), &edit.path)?;
    let value = |text: &str| text.parse::<Value>().map_err(|e| format!("{e}"));
    match &edit.how {
        How::Set(text) => {
            table.insert(&edit.key, Item::Value(value(text)?));
        }
        How::Unset => {
            table.remove(&edit.key);
        }
        How::AddFirst(text) | How::AddLast(text) => {
            let is_first = matches!(edit.how, How::AddFirst(_));
            match table.entry(&edit.key).or_insert(Item::Value(Value::Array(Array::new()))) {
                Item::Value(Value::Array(list)) => list.insert(if is_first { 0 } else { list.len() }, value(text)?),
                Item::ArrayOfTables(list) => {
                    let Value::InlineTable(row) = value(text)? else { return Err(format!("{text} is no table")) };
                    push(list, row.into_table());
                }
                other => return Err(format!("`{}` is no list but {}", edit.key, other.type_name())),
            }
        }
        How::TakeOut(text) => {
            let list = table.get_mut(&edit.key).and_then(Item::as_array_mut).ok_or("nothing to take out of")?;
            list.retain(|value| value.as_str() != Some(text));
        }
    }
    Ok(document.to_string())
}

fn push(list: &mut ArrayOfTables, mut row: Table) {
    row.set_position(None);
    list.push(row);
}

fn walk<'t>(root: &'t mut Table, path: &[EditStep]) -> Result<&'t mut dyn TableLike, String> {
    let mut table: &mut dyn TableLike = root;
    let mut steps = path.iter().peekable();
    while let Some(step) = steps.next() {
        let EditStep::Key(key) = step else { return Err("a position stands behind no list".to_owned()) };
        let item = table.entry(key).or_insert_with(|| Item::Value(Value::InlineTable(toml_edit::InlineTable::new())));
        table = match steps.peek() {
            Some(EditStep::Nth(index)) => {
                steps.next();
                match item {
                    Item::ArrayOfTables(list) => list.get_mut(*index).ok_or("there is no such row")?,
                    Item::Value(Value::Array(list)) => {
                        list.get_mut(*index).and_then(Value::as_inline_table_mut).ok_or("there is no such row")?
                    }
                    other => return Err(format!("`{key}` is no list but {}", other.type_name())),
                }
            }
            _ => item.as_table_like_mut().ok_or_else(|| format!("`{key}` is no table"))?,
        };
    }
    Ok(table)
}

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
