//! Findings: drawn under the line they are about, or as JSON.

use std::collections::BTreeMap;

use annotate_snippets::renderer::DecorStyle;
use annotate_snippets::{AnnotationKind, Group, Level, Origin, Renderer, Snippet};
use serde_json::{Value, json};
use uspan_core::{COVERED, Finding, Place, Severity, Source, lines_shown, shown};

use super::{CARE, columns, terminal, wrapped};

/// As many findings are shown one by one; of more than that, a few of each kind.
const MANY: usize = 50;
/// As many of each kind, where there are many.
const FEW: usize = 3;

/// Prints findings to standard error, each under its line. Where there are very many, those of a kind after the first few
/// are counted.
pub fn print(findings: &[Finding], source: &Source) {
    print_each(findings, |_| Some(source));
}

/// Prints findings about files of gateways to standard error, each under its line, but for lines that may show a secret.
pub fn print_among(findings: &[Finding], sources: &BTreeMap<String, Source>) {
    print_each(findings, |finding| finding.place.as_ref().and_then(|place| sources.get(&*place.file)));
}

fn print_each<'a>(findings: &[Finding], source: impl Fn(&Finding) -> Option<&'a Source>) {
    let renderer = Renderer::styled().warning(CARE).decor_style(DecorStyle::Unicode).term_width(columns());
    let nothing = Source::new("", "");
    let mut of_kind: BTreeMap<&str, usize> = BTreeMap::new();
    for finding in findings {
        let count = of_kind.entry(finding.rule.code).or_default();
        *count += 1;
        if findings.len() <= MANY || *count <= FEW {
            terminal::error_line(&format!("{}\n", draw(finding, source(finding).unwrap_or(&nothing), &renderer)));
        }
    }
    for (code, count) in of_kind.into_iter().filter(|(_, count)| findings.len() > MANY && *count > FEW) {
        terminal::error_line(&format!("and {} more of {code}; --format json lists all\n", count - FEW));
    }
}

/// Whether something is covered in the lines of a place, because it may belong to a secret.
fn is_covered(source: &Source, place: &Place) -> bool {
    let text = source.text();
    let start = text[..place.span.start.min(text.len())].rfind('\n').map_or(0, |at| at + 1);
    let end = text[place.span.end.min(text.len())..].find('\n').map_or(text.len(), |at| place.span.end + at);
    text.get(start..end).unwrap_or_default().contains(COVERED)
}

fn draw(finding: &Finding, source: &Source, renderer: &Renderer) -> String {
    let level = match finding.rule.severity {
        Severity::Error => Level::ERROR,
        Severity::Warning => Level::WARNING,
        Severity::Note => Level::NOTE,
    };
    let message = shown(&finding.message);
    let title = level.primary_title(&*message).id(finding.rule.code);
    let why = Level::NOTE.no_name().message(folded("why: ", finding.rule.why));
    let remedy = Level::HELP.no_name().message(folded("do:  ", &shown(&finding.remedy)));
    let mut group = Group::with_title(title);
    match finding.place.as_ref().map(|place| (place, source.file(&place.file))) {
        Some((place, Some(source))) if !is_covered(source, place) => {
            let mut snippet = Snippet::source(lines_shown(source.text())).path(&**source.name()).fold(true);
            snippet = snippet.annotation(AnnotationKind::Primary.span(span(place, source)));
            let here = |(place, _): &&(Place, String)| place.file == *source.name() && !is_covered(source, place);
            for (place, label) in finding.related.iter().filter(here) {
                snippet = snippet.annotation(AnnotationKind::Context.span(span(place, source)).label(label.as_str()));
            }
            group = group.element(snippet);
        }
        // Where it is, without the line.
        Some((place, Some(source))) => {
            let at = source.position(place.span.start);
            group = group.element(Origin::path(source.name().to_string()).line(at.line).char_column(at.column));
        }
        Some((place, None)) => group = group.element(Origin::path(shown(&place.file).into_owned())),
        None => {}
    }
    renderer.render(&[group.element(why).element(remedy)])
}

/// A labelled text, folded to the terminal under its label.
fn folded(label: &str, text: &str) -> String {
    let width = columns().min(100).saturating_sub(6 + label.len());
    format!("{label}{}", wrapped(text, width).join(&format!("\n{}", " ".repeat(label.len()))))
}

/// A span that covers something and ends on its own line.
fn span(place: &Place, source: &Source) -> std::ops::Range<usize> {
    let text = source.text();
    let start = place.span.start.min(text.len());
    let line_end = text[start..].find('\n').map_or(text.len(), |i| start + i);
    let end = place.span.end.clamp(start, line_end);
    start..end
}

/// Findings as JSON, with line and column counted from 1.
pub fn json(findings: &[Finding], source: &Source) -> Value {
    as_json(findings, |place| source.file(&place.file))
}

/// The same of findings about files of gateways.
pub fn json_among(findings: &[Finding], sources: &BTreeMap<String, Source>) -> Value {
    as_json(findings, |place| sources.get(&*place.file))
}

/// The same, one by one.
#[cfg(feature = "prove")]
pub fn json_list(findings: &[Finding], sources: &BTreeMap<String, Source>) -> Vec<Value> {
    match json_among(findings, sources) {
        Value::Array(list) => list,
        other => vec![other],
    }
}

fn as_json<'a>(findings: &[Finding], source: impl Fn(&Place) -> Option<&'a Source>) -> Value {
    let place = |place: &Place| match source(place) {
        Some(source) => {
            let (start, end) = (source.position(place.span.start), source.position(place.span.end));
            json!({ "file": &*place.file, "line": start.line, "column": start.column, "end_line": end.line, "end_column": end.column })
        }
        None => json!({ "file": &*place.file }),
    };
    let each = findings.iter().map(|finding| {
        let related: Vec<_> = finding.related.iter().map(|(at, label)| json!({ "place": place(at), "label": label })).collect();
        json!({
            "code": finding.rule.code,
            "name": finding.rule.name,
            "severity": finding.rule.severity.word(),
            "place": finding.place.as_ref().map(place),
            "message": finding.message,
            "why": finding.rule.why,
            "remedy": finding.remedy,
            "related": related,
        })
    });
    each.collect()
}

/// `2 errors, 1 warning`, or nothing.
pub fn count(findings: &[Finding]) -> String {
    let words = [(Severity::Error, "error"), (Severity::Warning, "warning"), (Severity::Note, "note")].map(|(severity, word)| {
        let n = findings.iter().filter(|finding| finding.rule.severity == severity).count();
        (n > 0).then(|| format!("{n} {word}{}", if n == 1 { "" } else { "s" }))
    });
    words.into_iter().flatten().collect::<Vec<_>>().join(", ")
}
