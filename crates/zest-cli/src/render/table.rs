//! Rights as a table of comma-separated values (RFC 4180): one line for each person, system and action.

use zest_ledger::review::{Cause, Effective, Right};

/// The columns.
const COLUMNS: [&str; 12] =
    ["user", "system", "action", "allowed", "starts", "when", "after", "standing", "through", "file", "line", "column"];

pub(crate) fn of(listed: &[Effective]) -> String {
    let mut rows: Vec<[String; 12]> = vec![COLUMNS.map(str::to_owned)];
    for one in listed {
        for system in &one.systems {
            rows.extend(one.rights.iter().flat_map(|right| right.lines.iter().map(|action| row(one, system, right, action))));
        }
    }
    let mut writer = csv::Writer::from_writer(Vec::new());
    let written = rows.iter().try_for_each(|row| writer.write_record(row.iter().map(|cell| plain(cell))));
    // OK because all rows have as many cells, and memory can be written to.
    written.expect("a table in memory can be written");
    let bytes = writer.into_inner().expect("a table in memory can be written");
    String::from_utf8(bytes).expect("texts stay texts")
}

fn row(one: &Effective, system: &str, right: &Right, action: &str) -> [String; 12] {
    let standing: Vec<&str> = right.standing.iter().map(|Cause { text, place: _ }| text.as_str()).collect();
    let (file, line, column) =
        right.place.as_ref().map_or_else(Default::default, |at| (at.file.clone(), at.line.to_string(), at.column.to_string()));
    [
        one.user.clone(),
        system.to_owned(),
        action.to_owned(),
        right.allowed.words().to_owned(),
        right.starts.join("; "),
        right.when.clone(),
        right.after.join("; "),
        standing.join("; "),
        right.through.clone(),
        file,
        line,
        column,
    ]
}

/// Returns a cell that no spreadsheet takes for a formula.
fn plain(cell: &str) -> String {
    if cell.starts_with(['=', '+', '-', '@', '\t', '\r']) { format!("'{cell}") } else { cell.to_owned() }
}
