//! Reads a TOML document into entries.

use std::ops::Range;
use std::sync::Arc;

use jiff::{SignedDuration, Timestamp, ToSpan, civil::Date, tz::TimeZone};
use toml::Spanned;
use toml::de::{DeTable, DeValue};

use super::format::DOCUMENT;
use super::shape::{Checker, OutsideTable};
use crate::entries::{Entries, OutsideEntry};
use crate::entry::{Obligations, When};
use crate::finding::{Code, Finding};
use crate::source::{At, Place, SourceId, visible};
use crate::table::Table;
use crate::written::{Anchor, Entry, Item, Source, Written};

/// How many syntax errors of one document are reported one by one.
const SYNTAX_ERRORS_SHOWN: usize = 50;

/// Reads one document; what cannot be read is reported and the rest is kept.
pub fn read_document(
    text: &str,
    source: SourceId,
    (kinds, outside): (&[&'static str], &[OutsideTable]),
    entries: &mut Entries,
    findings: &mut Vec<Finding>,
) {
    let (document, errors) = DeTable::parse_recoverable(text);
    let mut checker = Checker { outside, kinds, source, findings };
    for (count, error) in errors.iter().enumerate() {
        let span = error.span().unwrap_or(0..0);
        let place = checker.place(widened(text, span));
        if count == SYNTAX_ERRORS_SHOWN {
            let rest = errors.len() - count;
            checker.findings.push(Finding::new(Code::Syntax, format!("{rest} more syntax errors follow in this document")).at(place, ""));
            break;
        }
        let (message, help) = syntax_message(error.message());
        checker.findings.push(Finding::new(Code::Syntax, message).at(place, "").help(help));
    }
    checker.table(document.get_ref(), &(0..0), &DOCUMENT);
    let mut root = Row { checker: &mut checker, table: document.get_ref() };
    if let Some(version) = root.whole("format")
        && version.value != 1
    {
        root.report(
            Finding::new(Code::UnknownVersion, format!("this program reads format 1, not {}", version.value))
                .at(version.place, "unknown version")
                .help("use a newer program, or write the document in format 1"),
        );
    }
    let Entries {
        users,
        groups,
        origins,
        systems,
        vocabularies,
        command_sets,
        roles,
        assignments,
        databases,
        services,
        hosts,
        separations,
        credential_rules,
        sessions,
        expectations,
        promises,
        meant_ways,
        interfaces: _,
        outside: rows,
    } = entries;
    add(&mut root, "users", users);
    add(&mut root, "groups", groups);
    add(&mut root, "origins", origins);
    add(&mut root, "systems", systems);
    add(&mut root, "vocabularies", vocabularies);
    add(&mut root, "command-sets", command_sets);
    add(&mut root, "roles", roles);
    add(&mut root, "databases", databases);
    add(&mut root, "clouds", services);
    add(&mut root, "applications", services);
    add(&mut root, "hosts", hosts);
    add(&mut root, "credential-rules", credential_rules);
    add(&mut root, "separations", separations);
    add(&mut root, "assignments", assignments);
    add(&mut root, "sessions", sessions);
    add(&mut root, "expectations", expectations);
    add(&mut root, "promises", promises);
    add(&mut root, "meant-ways", meant_ways);
    for table in outside {
        for (id, kept) in root.rows(table.name, |id, row| (id, (table.read)(row))) {
            rows.push(OutsideEntry { table: table.name, id, kept }.into());
        }
    }
}

/// Adds the entries of a table of the document.
fn add<E: Entry + Clone>(root: &mut Row<'_, '_, '_>, key: &str, entries: &mut Table<Arc<E>>)
where
    E::Anchor: Anchor,
{
    for entry in <Vec<E> as Written>::read(root, key) {
        entries.push(entry.into());
    }
}

/// Gives an empty span the character it stands before, so that there is something to underline.
fn widened(text: &str, span: Range<usize>) -> Range<usize> {
    let end = span.end.min(text.len());
    let start = span.start.min(end);
    if start < end {
        return start..end;
    }
    match text[start..].chars().next() {
        Some(c) if c != '\n' => start..start + c.len_utf8(),
        _ => start..start,
    }
}

fn syntax_message(message: &str) -> (String, String) {
    let (what, expected) = message.split_once(", expected ").unwrap_or((message, ""));
    let help = match (what, expected) {
        ("duplicate key", _) => {
            "each key may stand once in a table, and each id once in the ledger: merge the two, or rename one".to_owned()
        }
        (_, "") => "compare the line with the TOML 1.1 rules".to_owned(),
        (_, wanted) => format!("expected {}", visible(wanted)),
    };
    (visible(what), help)
}

/// A row of a table of a kind from outside, checked against its shape: values that do not fit are left out, and reported.
///
/// # Example
/// ```
/// use zest_ledger::kind::Row;
/// fn opens_by(row: &mut Row<'_, '_, '_>) -> Option<String> {
///     row.text("key").or_else(|| row.text("code")).map(|found| found.value)
/// }
/// ```
#[derive(Debug)]
pub struct Row<'r, 'f, 'd> {
    checker: &'r mut Checker<'f>,
    table: &'r DeTable<'d>,
}

impl<'r, 'd> Row<'r, '_, 'd> {
    fn get(&self, key: &str) -> Option<&'r Spanned<DeValue<'d>>> {
        // What was recovered from an error has no span.
        self.table.get(key).filter(|value| value.span() != (0..0))
    }

    fn at<T>(&self, value: T, span: Range<usize>) -> At<T> {
        At::new(value, self.checker.place(span))
    }

    fn as_text(&self, value: &Spanned<DeValue<'_>>) -> Option<At<String>> {
        value.get_ref().as_str().map(|text| self.at(text.to_owned(), value.span()))
    }

    fn below(&self, key: &str) -> Option<(Place, &'r DeTable<'d>)> {
        let value = self.get(key)?;
        value.get_ref().as_table().map(|table| (self.checker.place(value.span()), table))
    }

    fn bad_value(&mut self, text: &At<String>, what: &str, help: &str) {
        self.report(
            Finding::new(Code::BadValue, format!("`{}` is not {what}", visible(&text.value))).at(text.place, "cannot be read").help(help),
        );
    }

    /// Reads a moment, and gives its text back where it is none.
    fn moment_of(&self, key: &str) -> Option<Result<At<Timestamp>, At<String>>> {
        let value = self.get(key)?;
        let DeValue::Datetime(written) = value.get_ref() else { return None };
        let text = written.to_string();
        let moment = if written.time.is_none() {
            let date = text.parse::<Date>().ok();
            let date = if key == "until" { date.and_then(|d| d.checked_add(1.day()).ok()) } else { date };
            date.and_then(|d| d.to_zoned_datetime(TimeZone::UTC).ok()).map(|z| z.timestamp())
        } else {
            text.parse::<Timestamp>().ok()
        };
        Some(moment.map(|m| self.at(m, value.span())).ok_or_else(|| self.at(text, value.span())))
    }
}

/// What a kind from outside reads
impl Row<'_, '_, '_> {
    /// Returns a text.
    #[must_use]
    pub fn text(&self, key: &str) -> Option<At<String>> {
        self.as_text(self.get(key)?)
    }

    /// Returns a list of texts.
    #[must_use]
    pub fn texts(&self, key: &str) -> Vec<At<String>> {
        match self.get(key) {
            Some(value) => match value.get_ref() {
                DeValue::Array(items) => items.iter().filter_map(|v| self.as_text(v)).collect(),
                _ => self.as_text(value).into_iter().collect(),
            },
            None => Vec::new(),
        }
    }

    /// Returns `true` or `false`.
    ///
    /// # Example
    /// ```
    /// use zest_ledger::kind::Row;
    /// fn is_sealed(row: &Row<'_, '_, '_>) -> bool {
    ///     row.flag("sealed").is_some_and(|sealed| sealed.value)
    /// }
    /// ```
    #[must_use]
    pub fn flag(&self, key: &str) -> Option<At<bool>> {
        let value = self.get(key)?;
        value.get_ref().as_bool().map(|flag| self.at(flag, value.span()))
    }

    /// Returns a whole number.
    #[must_use]
    pub fn whole(&self, key: &str) -> Option<At<i64>> {
        let value = self.get(key)?;
        as_whole(value.get_ref()).map(|number| self.at(number, value.span()))
    }

    /// Returns a moment; a plain date under `until` is the end of that day, in UTC, and `until` comes after `from`.
    ///
    /// # Example
    /// ```
    /// use jiff::Timestamp;
    /// use zest_ledger::kind::Row;
    /// fn ends(row: &mut Row<'_, '_, '_>) -> Option<Timestamp> {
    ///     row.moment("until").map(|end| end.value)
    /// }
    /// ```
    #[must_use]
    pub fn moment(&mut self, key: &str) -> Option<At<Timestamp>> {
        match self.moment_of(key)? {
            Ok(moment) => {
                if let ("until", Some(Ok(from))) = (key, self.moment_of("from"))
                    && from.value >= moment.value
                {
                    self.report(
                        Finding::new(Code::EmptyWindow, "`until` is not after `from`, so the entry never holds")
                            .at(moment.place, "ends here")
                            .also(from.place, "starts here")
                            .help("swap the two, or mend the year"),
                    );
                }
                Some(moment)
            }
            Err(text) => {
                let help = "write a date, or a date and time with its offset: 2027-03-31T18:00:00+02:00";
                self.bad_value(&text, "a moment", help);
                None
            }
        }
    }

    /// Returns conditions, of the shape `WHEN`.
    #[must_use]
    pub fn when(&mut self, key: &str) -> When {
        Written::read(self, key)
    }

    /// Returns obligations under `after`, of the shape `AFTER`.
    #[must_use]
    pub fn after(&mut self) -> Obligations {
        Written::read(self, "after")
    }

    /// Reads the rows of a table below this one, each by its name.
    pub fn rows<T>(&mut self, key: &str, mut read: impl FnMut(At<String>, &mut Row<'_, '_, '_>) -> T) -> Vec<T> {
        let Some((_, table)) = self.below(key) else { return Vec::new() };
        let mut rows: Vec<_> = table
            .iter()
            .filter_map(|(id, value)| value.get_ref().as_table().map(|below| (self.at(id.get_ref().to_string(), id.span()), below)))
            .collect();
        rows.sort_by_key(|(id, _)| id.place);
        rows.into_iter().map(|(id, table)| read(id, &mut Row { checker: self.checker, table })).collect()
    }
}

impl Source for Row<'_, '_, '_> {
    fn has(&self, key: &str) -> bool {
        self.get(key).is_some()
    }

    fn place(&self, key: &str) -> Option<Place> {
        self.get(key).map(|value| self.checker.place(value.span()))
    }

    fn text(&self, key: &str) -> Option<At<String>> {
        self.text(key)
    }

    fn texts(&self, key: &str) -> Vec<At<String>> {
        self.texts(key)
    }

    fn flag(&self, key: &str) -> Option<At<bool>> {
        self.flag(key)
    }

    fn whole(&self, key: &str) -> Option<At<i64>> {
        self.whole(key)
    }

    fn wholes(&self, key: &str) -> Vec<i64> {
        let items = self.get(key).and_then(|value| value.get_ref().as_array());
        items.into_iter().flatten().filter_map(|value| as_whole(value.get_ref())).collect()
    }

    fn length(&mut self, key: &str) -> Option<At<SignedDuration>> {
        let text = self.text(key)?;
        match text.value.parse::<SignedDuration>() {
            Ok(length) if !length.is_negative() => Some(At::new(length, text.place)),
            _ => {
                self.bad_value(&text, "a length of time", "write it like \"45s\", \"10m\", \"1h 30m\" or \"8h\"");
                None
            }
        }
    }

    fn moment(&mut self, key: &str) -> Option<At<Timestamp>> {
        self.moment(key)
    }

    fn kind(&self, key: &str) -> Option<At<&'static str>> {
        let text = self.text(key)?;
        let word = self.checker.kinds.iter().find(|known| **known == text.value)?;
        Some(At::new(word, text.place))
    }

    fn names(&self, key: &str) -> Vec<At<String>> {
        let Some((_, table)) = self.below(key) else { return Vec::new() };
        let mut names: Vec<_> = table.iter().map(|(name, _)| self.at(name.get_ref().to_string(), name.span())).collect();
        names.sort_by_key(|name| name.place);
        names
    }

    fn table(&mut self, key: &str, each: &mut dyn FnMut(Place, &mut dyn Source)) {
        if let Some((place, table)) = self.below(key) {
            each(place, &mut Row { checker: self.checker, table });
        }
    }

    fn named(&mut self, key: &str, each: &mut dyn FnMut(At<String>, &mut dyn Source)) {
        self.rows(key, |name, row| each(name, row));
    }

    fn items(&mut self, key: &str, each: &mut dyn FnMut(Item, &mut dyn Source)) {
        let Some(items) = self.get(key).and_then(|value| value.get_ref().as_array()) else { return };
        for item in items {
            match item.get_ref() {
                DeValue::Table(table) => {
                    let place = self.checker.place(item.span());
                    each(Item::Table(place), &mut Row { checker: self.checker, table });
                }
                _ => {
                    if let Some(text) = self.as_text(item) {
                        each(Item::Text(text), self);
                    }
                }
            }
        }
    }

    fn report(&mut self, finding: Finding) {
        self.checker.findings.push(finding);
    }
}

fn as_whole(value: &DeValue<'_>) -> Option<i64> {
    match value {
        DeValue::Integer(number) => i64::from_str_radix(&number.as_str().replace('_', ""), number.radix()).ok(),
        _ => None,
    }
}
