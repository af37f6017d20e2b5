//! What a command found as a table: comma-separated values (RFC 4180) for a spreadsheet, Markdown for a ticket or a pull request.
//!
//! Both are made of the same rows. In the values a row stands for each single thing, with every column; in Markdown what is alike stands
//! together, and what only programs look at is left out.

use std::collections::HashMap;
use std::fmt::Write as _;

use zest_ledger::source::{Location, visible};

/// A table: what it comes to, its rows, and what is to be said beside them.
pub(crate) struct Table {
    caption: String,
    columns: Vec<Column>,
    rows: Vec<Row>,
    remarks: Vec<String>,
}

/// A column, by what stands in it.
#[derive(Clone, Copy)]
pub(crate) struct Column {
    name: &'static str,
    holds: Holds,
    is_joined: bool,
    is_detail: bool,
}

/// What the cells of a column hold.
#[derive(Clone, Copy, PartialEq, Eq)]
enum Holds {
    Words,
    /// Names and lines, which stand in Markdown as they are written.
    Code,
    /// Places, each of which is a file, a line and a column among the values.
    Places,
}

const fn column(name: &'static str, holds: Holds) -> Column {
    Column { name, holds, is_joined: false, is_detail: false }
}

/// A column of words.
pub(crate) const fn words(name: &'static str) -> Column {
    column(name, Holds::Words)
}

/// A column of names and lines.
pub(crate) const fn code(name: &'static str) -> Column {
    column(name, Holds::Code)
}

/// A column of places; `of` stands before the names of its parts.
pub(crate) const fn places(of: &'static str) -> Column {
    column(of, Holds::Places)
}

impl Column {
    /// In Markdown, rows that differ in this alone are one.
    pub(crate) const fn joined(self) -> Self {
        Self { is_joined: true, ..self }
    }

    /// It is not in Markdown.
    pub(crate) const fn detail(self) -> Self {
        Self { is_detail: true, ..self }
    }
}

/// What stands in a row in a column.
pub(crate) enum Cell {
    One(String),
    /// A row for each of them; in Markdown all of them, or this in their stead.
    Each(Vec<String>, Option<String>),
    /// A file, a line and a column.
    Place(Option<Location>),
}

impl From<&str> for Cell {
    fn from(text: &str) -> Self {
        Self::One(text.to_owned())
    }
}

impl From<String> for Cell {
    fn from(text: String) -> Self {
        Self::One(text)
    }
}

impl From<&String> for Cell {
    fn from(text: &String) -> Self {
        Self::One(text.clone())
    }
}

impl From<Option<&Location>> for Cell {
    fn from(place: Option<&Location>) -> Self {
        Self::Place(place.cloned())
    }
}

impl From<&Location> for Cell {
    fn from(place: &Location) -> Self {
        Self::Place(Some(place.clone()))
    }
}

impl From<usize> for Cell {
    fn from(number: usize) -> Self {
        Self::One(number.to_string())
    }
}

/// A row; one beside is in the values and not in Markdown.
struct Row {
    cells: Vec<Cell>,
    is_beside: bool,
}

impl Table {
    /// Makes a table without rows.
    pub(crate) fn new(caption: impl Into<String>, columns: impl Into<Vec<Column>>) -> Self {
        Self { caption: caption.into(), columns: columns.into(), rows: Vec::new(), remarks: Vec::new() }
    }

    pub(crate) fn row(&mut self, cells: impl Into<Vec<Cell>>) {
        self.add(cells.into(), false);
    }

    /// Adds a row that Markdown leaves out.
    pub(crate) fn row_beside(&mut self, cells: impl Into<Vec<Cell>>) {
        self.add(cells.into(), true);
    }

    fn add(&mut self, cells: Vec<Cell>, is_beside: bool) {
        assert_eq!(cells.len(), self.columns.len(), "a row has a cell for each column");
        self.rows.push(Row { cells, is_beside });
    }

    /// Says something beside the rows.
    pub(crate) fn remark(&mut self, text: impl Into<String>) {
        self.remarks.push(text.into());
    }

    pub(crate) fn remarks(&self) -> &[String] {
        &self.remarks
    }

    /// Writes it as comma-separated values; what is said beside the rows is not in them.
    pub(crate) fn values(&self) -> String {
        let head = self.columns.iter().flat_map(|column| match column.holds {
            Holds::Words | Holds::Code => vec![column.name.to_owned()],
            Holds::Places => ["file", "line", "column"].map(|part| format!("{}{part}", column.name)).into(),
        });
        let mut writer = csv::Writer::from_writer(Vec::new());
        let mut put = |row: &[String]| {
            // OK because all rows have as many cells, and memory can be written to.
            writer.write_record(row.iter().map(|cell| plain(cell))).expect("a table in memory can be written");
        };
        put(&head.collect::<Vec<_>>());
        for row in &self.rows {
            let mut rows: Vec<Vec<String>> = vec![Vec::new()];
            for cell in &row.cells {
                match cell {
                    Cell::One(text) => rows.iter_mut().for_each(|row| row.push(text.clone())),
                    Cell::Each(all, _) if all.is_empty() => rows.iter_mut().for_each(|row| row.push(String::new())),
                    Cell::Each(all, _) => {
                        let with = |row: &Vec<String>, one: &String| row.iter().chain([one]).cloned().collect();
                        rows = rows.iter().flat_map(|row| all.iter().map(move |one| with(row, one))).collect();
                    }
                    Cell::Place(place) => {
                        let parts = place
                            .as_ref()
                            .map_or_else(Default::default, |at| [at.file.clone(), at.line.to_string(), at.column.to_string()]);
                        rows.iter_mut().for_each(|row| row.extend(parts.clone()));
                    }
                }
            }
            rows.iter().for_each(|row| put(row));
        }
        let bytes = writer.into_inner().expect("a table in memory can be written");
        String::from_utf8(bytes).expect("texts stay texts")
    }

    /// Writes it as Markdown, with the tables that GitHub and others have added to it.
    pub(crate) fn markdown(&self) -> String {
        let mut out = format!("**{}**\n", prose(&self.caption));
        let rows = self.together();
        let is_shown = |number: &usize| !self.columns[*number].is_detail && rows.iter().any(|row| !row[*number].is_empty());
        let shown: Vec<usize> = (0..self.columns.len()).filter(is_shown).collect();
        if !rows.is_empty() {
            out.push('\n');
        }
        let mut line = |cells: Vec<String>| {
            let _ = writeln!(out, "| {} |", cells.join(" | "));
        };
        if !rows.is_empty() {
            let head = |column: &Column| match column.holds {
                Holds::Words | Holds::Code => column.name.to_owned(),
                Holds::Places => format!("{}place", column.name),
            };
            line(shown.iter().map(|number| head(&self.columns[*number])).collect());
            line(shown.iter().map(|_| "---".to_owned()).collect());
        }
        for row in &rows {
            line(shown.iter().map(|number| row[*number].join(", ")).collect());
        }
        for remark in &self.remarks {
            let _ = writeln!(out, "\n{}", prose(remark));
        }
        out
    }

    /// The rows for Markdown: what each cell holds, with rows as one that differ in a joined column alone.
    fn together(&self) -> Vec<Vec<Vec<String>>> {
        let held = |(cell, column): (&Cell, &Column)| -> Vec<String> {
            let written = |text: &String| if column.holds == Holds::Words { prose(text) } else { verbatim(text) };
            let list: Vec<String> = match cell {
                _ if column.is_detail => Vec::new(),
                Cell::One(text) => vec![text.clone()],
                Cell::Each(_, Some(brief)) => vec![brief.clone()],
                Cell::Each(all, None) => all.clone(),
                Cell::Place(place) => place.iter().map(ToString::to_string).collect(),
            };
            list.iter().filter(|text| !text.is_empty()).map(written).collect()
        };
        let of_row = |row: &Row| row.cells.iter().zip(&self.columns).map(held).collect();
        let mut rows: Vec<Vec<Vec<String>>> = self.rows.iter().filter(|row| !row.is_beside).map(of_row).collect();
        for number in (0..self.columns.len()).rev().filter(|number| self.columns[*number].is_joined) {
            let mut known: HashMap<Vec<Vec<String>>, usize> = HashMap::new();
            let mut joined: Vec<Vec<Vec<String>>> = Vec::new();
            for mut row in rows {
                let own = std::mem::take(&mut row[number]);
                match known.get(&row) {
                    Some(first) => joined[*first][number].extend(own),
                    None => {
                        known.insert(row.clone(), joined.len());
                        row[number] = own;
                        joined.push(row);
                    }
                }
            }
            rows = joined;
        }
        rows
    }
}

/// Returns a cell that no spreadsheet takes for a formula.
fn plain(cell: &str) -> String {
    if cell.starts_with(['=', '+', '-', '@', '\t', '\r']) { format!("'{cell}") } else { cell.to_owned() }
}

/// Writes a text as code, whatever stands in it: between more backticks than stand together in it.
fn verbatim(text: &str) -> String {
    let text = visible(text);
    let longest = text.split(|c| c != '`').map(str::len).max().unwrap_or(0);
    let fence = "`".repeat(longest + 1);
    let room = if longest > 0 { " " } else { "" };
    // A bar would end a column, within code as well.
    format!("{fence}{room}{}{room}{fence}", text.replace('|', "\\|"))
}

/// Writes a text of ours, in which names stand between backticks, so that nothing in it but those is Markdown.
fn prose(text: &str) -> String {
    let text = visible(text);
    let parts: Vec<&str> = text.split('`').collect();
    // Where one backtick is left over, it is not known which of them it is.
    let is_paired = parts.len() % 2 == 1;
    let escaped = |part: &str| -> String {
        let escape = |c: char| if "\\`*_[]<>|~&".contains(c) { format!("\\{c}") } else { c.to_string() };
        part.chars().map(escape).collect()
    };
    if !is_paired {
        return escaped(&text);
    }
    let one = |(number, part): (usize, &&str)| if number % 2 == 1 && !part.is_empty() { verbatim(part) } else { escaped(part) };
    parts.iter().enumerate().map(one).collect()
}
