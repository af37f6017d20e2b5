//! Edits carried out on the text of a document, with comments and layout kept, and what somebody would paste to do the same by hand.

use std::ops::Range;

use toml_edit::{Array, ArrayOfTables, Document, DocumentMut, Item, Table, TableLike, Value};

use super::{Edit, EditError, EditStep, How, Paste};

/// Longer values are not repeated as a whole to show one line of them.
const LONGEST: usize = 12;

impl Edit {
    /// Carries the edit out on the text of its document.
    ///
    /// # Errors
    /// What does not fit; a document in another format than TOML does not.
    ///
    /// # Example
    /// ```
    /// use zest_ledger::ask::{Edit, EditStep, How};
    /// let path = ["groups", "shore-watch"].map(|key| EditStep::Key(key.to_owned()));
    /// let edit = Edit::new(None, path.into(), "members", How::AddLast("\"user:watch-2\"".to_owned()));
    /// let text = "[groups.shore-watch] # by day\nmembers = [\"user:watch-1\"]\n";
    /// assert_eq!(edit.carried_out(text)?, "[groups.shore-watch] # by day\nmembers = [\"user:watch-1\", \"user:watch-2\"]\n");
    /// # Ok::<(), zest_ledger::ask::EditError>(())
    /// ```
    pub fn carried_out(&self, text: &str) -> Result<String, EditError> {
        self.edited(text).map_err(EditError::new)
    }

    fn edited(&self, text: &str) -> Result<String, String> {
        let mut document: DocumentMut = text.parse().map_err(|e| format!("{e}"))?;
        let table = walk(document.as_table_mut(), &self.path)?;
        let value = |text: &str| text.parse::<Value>().map_err(|e| format!("{e}"));
        match &self.how {
            How::Set(text) => {
                table.insert(&self.key, Item::Value(value(text)?));
            }
            How::Unset => {
                table.remove(&self.key);
            }
            How::AddFirst(text) | How::AddLast(text) => {
                let is_first = matches!(self.how, How::AddFirst(_));
                match table.entry(&self.key).or_insert(Item::Value(Value::Array(Array::new()))) {
                    Item::Value(Value::Array(list)) => add(list, value(text)?, is_first),
                    Item::ArrayOfTables(list) => {
                        let Value::InlineTable(row) = value(text)? else { return Err(format!("{text} is no table")) };
                        push(list, row.into_table());
                    }
                    other => return Err(format!("`{}` is no list but {}", self.key, other.type_name())),
                }
            }
            How::TakeOut(text) => {
                let list = table.get_mut(&self.key).and_then(Item::as_array_mut).ok_or("nothing to take out of")?;
                list.retain(|value| value.as_str() != Some(text));
            }
        }
        Ok(document.to_string())
    }

    /// Returns what somebody would paste into the text of the document to carry the edit out by hand.
    ///
    /// # Errors
    /// As [`carried_out`](Self::carried_out).
    ///
    /// # Example
    /// ```
    /// use zest_ledger::ask::{Edit, EditStep, How};
    /// let path = ["roles", "reader"].map(|key| EditStep::Key(key.to_owned()));
    /// let edit = Edit::new(None, path.into(), "commands", How::AddLast("\"show\"".to_owned()));
    /// let paste = edit.paste("[roles.reader]\ncommands = [\n  \"trace\",\n]\n")?;
    /// assert_eq!((paste.line, paste.replaces), (2, 3));
    /// assert_eq!(paste.text, "commands = [\n  \"trace\",\n  \"show\",\n]\n");
    /// # Ok::<(), zest_ledger::ask::EditError>(())
    /// ```
    pub fn paste(&self, text: &str) -> Result<Paste, EditError> {
        let edited = self.carried_out(text)?;
        let (old, new): (Vec<&str>, Vec<&str>) = (text.split_inclusive('\n').collect(), edited.split_inclusive('\n').collect());
        let shortest = old.len().min(new.len());
        let mut first = (0..shortest).take_while(|&n| old[n] == new[n]).count();
        let mut after = (1..=shortest - first).take_while(|&n| old[old.len() - n] == new[new.len() - n]).count();
        // The key belongs to it, where its value goes over several lines.
        if let (Some(before), Some(now)) = (self.lines(text), self.lines(&edited))
            && now.len() <= LONGEST
            && before.start == now.start
        {
            first = first.min(now.start);
            after = after.min(old.len() - before.end).min(new.len() - now.end);
        }
        let line = first as u32 + 1;
        Ok(Paste { line, replaces: (old.len() - after - first) as u32, text: new[first..new.len() - after].concat(), more: crate::More })
    }

    /// Returns the lines of the key and its value, from 0, if they are there.
    fn lines(&self, text: &str) -> Option<Range<usize>> {
        let document = Document::parse(text).ok()?;
        let mut table: &dyn TableLike = document.as_table();
        let mut steps = self.path.iter().peekable();
        while let Some(step) = steps.next() {
            let EditStep::Key(key) = step else { return None };
            let item = table.get(key)?;
            table = match steps.next_if(|step| matches!(step, EditStep::Nth(_))) {
                Some(EditStep::Nth(index)) => match item {
                    Item::ArrayOfTables(list) => list.get(*index)?,
                    item => item.as_array()?.get(*index)?.as_inline_table()?,
                },
                _ => item.as_table_like()?,
            };
        }
        let (key, item) = table.get_key_value(&self.key)?;
        let (start, end) = (key.span()?.start, item.span().map_or(key.span()?.end, |span| span.end.max(1)));
        let line_of = |offset: usize| text.get(..offset).map(|before| before.matches('\n').count());
        Some(line_of(start)?..line_of(end - 1)? + 1)
    }
}

/// Adds a value to a list in the layout of its neighbour.
fn add(list: &mut Array, mut value: Value, is_first: bool) {
    let at = if is_first { 0 } else { list.len() };
    let neighbour = if is_first { list.get(0) } else { list.iter().last() };
    let before = neighbour.and_then(|n| n.decor().prefix()).and_then(|p| p.as_str()).unwrap_or_default();
    // What stands before it on its own line; comments above stay with the neighbour.
    let indent = before.rfind('\n').map(|line| before[line..].to_owned());
    let spaced = if list.is_empty() || is_first { "" } else { " " };
    value.decor_mut().set_prefix(indent.clone().unwrap_or_else(|| spaced.to_owned()));
    if let (true, None, Some(old)) = (is_first, indent, list.get_mut(0)) {
        old.decor_mut().set_prefix(" ");
    }
    list.insert_formatted(at, value);
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
