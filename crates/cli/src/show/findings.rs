//! Findings: drawn under the line they are about, or as JSON.

use annotate_snippets::renderer::DecorStyle;
use annotate_snippets::{AnnotationKind, Group, Level, Renderer, Snippet};
use serde_json::{Value, json};
use uspan_core::{Finding, Place, Severity, Source};

use super::{CARE, columns, wrapped};

/// Prints findings to standard error, each under its line, and a line that counts them.
pub fn print(findings: &[Finding], source: &Source) {
    let renderer = Renderer::styled().warning(CARE).decor_style(DecorStyle::Unicode).term_width(columns());
    for finding in findings {
        anstream::eprintln!("{}\n", draw(finding, source, &renderer));
    }
}

fn draw(finding: &Finding, source: &Source, renderer: &Renderer) -> String {
    let level = match finding.rule.severity {
        Severity::Error => Level::ERROR,
        Severity::Warning => Level::WARNING,
        Severity::Note => Level::NOTE,
    };
    let title = level.primary_title(finding.message.as_str()).id(finding.rule.code);
    let why = Level::NOTE.no_name().message(folded("why: ", finding.rule.why));
    let remedy = Level::HELP.no_name().message(folded("do:  ", &finding.remedy));
    let here = finding.place.as_ref().filter(|place| place.file == *source.name());
    let mut group = Group::with_title(title);
    if let Some(place) = here {
        let mut snippet = Snippet::source(source.text()).path(&**source.name()).fold(true);
        snippet = snippet.annotation(AnnotationKind::Primary.span(span(place, source)));
        for (place, label) in finding.related.iter().filter(|(place, _)| place.file == *source.name()) {
            snippet = snippet.annotation(AnnotationKind::Context.span(span(place, source)).label(label.as_str()));
        }
        group = group.element(snippet);
    } else if let Some(place) = &finding.place {
        group = group.element(annotate_snippets::Origin::path(place.file.to_string()));
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
    let place = |place: &Place| {
        if place.file == *source.name() {
            let (start, end) = (source.position(place.span.start), source.position(place.span.end));
            json!({ "file": &*place.file, "line": start.line, "column": start.column, "end_line": end.line, "end_column": end.column })
        } else {
            json!({ "file": &*place.file })
        }
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
