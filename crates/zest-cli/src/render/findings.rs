//! Findings with the text they are about, underlined.

use std::fmt::Write as _;

use annotate_snippets::{AnnotationKind, Group, Level, Origin, Renderer, Snippet};
use zest_ledger::finding::{Finding, Findings, Label, Severity};
use zest_ledger::source::{Place, SourceMap, visible};

use super::table::{Cell, Table, code, places, words};

/// How long a line may be to be handed on whole; the renderer shows the part that matters.
const LONG: usize = 2_000;
/// How many bytes of a longer line are shown on either side of what is underlined.
const WINDOW: usize = 90;

/// Renders all findings, worst first as they stand, and a count.
pub(crate) fn render(findings: &Findings) -> String {
    let renderer = Renderer::styled();
    let mut out = String::new();
    for finding in findings.list() {
        out.push_str(&one(finding, findings, &renderer));
        out.push_str("\n\n");
    }
    out.push_str(&count(findings));
    out
}

/// "2 errors, 1 warning, 0 notes".
pub(crate) fn count(findings: &Findings) -> String {
    let part = |severity: Severity| {
        let n = findings.count(severity);
        format!("{n} {}{}", severity.word(), if n == 1 { "" } else { "s" })
    };
    let mut line = String::new();
    let _ = writeln!(line, "{}, {}, {}", part(Severity::Error), part(Severity::Warning), part(Severity::Note));
    line
}

fn one(finding: &Finding, findings: &Findings, renderer: &Renderer) -> String {
    let level = match finding.severity() {
        Severity::Error => Level::ERROR,
        Severity::Warning => Level::WARNING,
        Severity::Note => Level::NOTE,
    };
    let id = format!("{} {}", finding.code.number(), finding.code.slug());
    let cuts: Vec<Cut> = finding
        .primary
        .iter()
        .map(|l| (l, AnnotationKind::Primary))
        .chain(finding.secondary.iter().map(|l| (l, AnnotationKind::Context)))
        .filter_map(|(label, kind)| cut(label, kind, findings))
        .collect();
    let mut group: Group<'_> = level
        .primary_title(finding.message.as_str())
        .id(id.as_str())
        .elements(Vec::<Snippet<'_, annotate_snippets::Annotation<'_>>>::new());
    for cut in &cuts {
        let annotation = cut.kind.span(cut.span.clone()).label(cut.label.as_str());
        let snippet = Snippet::source(cut.text.as_str()).line_start(cut.line).annotation(annotation);
        // Of a line that is cut the renderer cannot know the column.
        group = match cut.column {
            Some(column) => group.element(Origin::path(cut.path.as_str()).line(cut.line).char_column(column)).element(snippet),
            None => group.element(snippet.path(cut.path.as_str())),
        };
    }
    if let Some(help) = &finding.help {
        group = group.element(Level::HELP.message(help.as_str()));
    }
    renderer.render(&[group])
}

/// A line, or the part of a long one that matters, with what to underline in it.
struct Cut {
    path: String,
    line: usize,
    /// Where the underlined part begins in the line, if that is cut.
    column: Option<usize>,
    text: String,
    span: std::ops::Range<usize>,
    label: String,
    kind: AnnotationKind,
}

fn cut(label: &Label, kind: AnnotationKind, findings: &Findings) -> Option<Cut> {
    let sources: &SourceMap = findings.sources();
    let at = sources.locate(label.place);
    let Place::Text(span) = label.place else {
        return Some(Cut {
            path: at.file,
            line: at.line as usize,
            column: None,
            text: String::new(),
            span: 0..0,
            label: label.text.clone(),
            kind,
        });
    };
    let range = sources.line_range(span);
    let text = sources.text(span.source);
    let start = (span.start as usize).clamp(range.start, range.end);
    let end = (span.end as usize).clamp(start, range.end);
    let is_long = range.len() > LONG;
    let (from, to) = if is_long {
        let from = floor(text, start.saturating_sub(WINDOW).max(range.start));
        (from, floor(text, (start + 2 * WINDOW).min(range.end)).max(from))
    } else {
        (range.start, range.end)
    };
    let piece = |from: usize, to: usize| findings.shown(span.source, from.min(to)..to);
    let before = piece(from, start);
    let marked = piece(start, end.min(to));
    let after = piece(end.min(to), to);
    let lead = if from > range.start { "… " } else { "" };
    let tail = if to < range.end { " …" } else { "" };
    let begin = lead.len() + before.len();
    Some(Cut {
        path: at.file,
        line: at.line as usize,
        column: is_long.then_some(at.column as usize),
        span: begin..begin + marked.len(),
        text: format!("{lead}{before}{marked}{after}{tail}"),
        label: visible(&label.text),
        kind,
    })
}

fn floor(text: &str, mut at: usize) -> usize {
    at = at.min(text.len());
    while !text.is_char_boundary(at) {
        at -= 1;
    }
    at
}

/// The same as a table.
pub(crate) fn in_rows(findings: &Findings) -> Table {
    let columns = [words("severity"), code("code"), words("name"), words("message"), places(""), words("help"), words("also")];
    let mut table = Table::new(count(findings).trim(), columns);
    for finding in findings.list() {
        table.row(in_row(finding, findings.sources()));
    }
    table
}

fn in_row(finding: &Finding, sources: &SourceMap) -> [Cell; 7] {
    let Finding { code, message, primary, secondary, help } = finding;
    let also = |label: &Label| format!("{} ({})", label.text, sources.locate(label.place)).trim_start().to_owned();
    [
        finding.severity().word().into(),
        code.number().into(),
        code.slug().into(),
        message.into(),
        Cell::Place(primary.as_ref().map(|label| sources.locate(label.place))),
        help.clone().unwrap_or_default().into(),
        secondary.iter().map(also).collect::<Vec<_>>().join("; ").into(),
    ]
}
