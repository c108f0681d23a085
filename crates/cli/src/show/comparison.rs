//! Two gateways, parameter by parameter.

use std::collections::{BTreeMap, BTreeSet};

use serde_json::{Value, json};
use uspan_core::{ComparedPair, ComparedParameter, Doubt, Gravity, Shown, Source};

use super::table::table;
use super::{CARE, GOOD, HEADING, STOP, columns, file_and_line, styled, wrapped};

/// The files of each end by path, where it has any.
type SourceFiles<'a> = [Option<&'a BTreeMap<String, Source>>; 2];

/// From that many columns on the two ends stand side by side, below that one after the other.
const SIDE_BY_SIDE: usize = 120;

/// A pair of connections: what is fatal, what differs, what is equal.
pub fn text(pair: &ComparedPair, names: [&str; 2], files: &SourceFiles<'_>, all: bool) -> String {
    let title = match &pair.names {
        [one, other] if one == other => one.clone(),
        [one, other] => format!("{one}, {other}"),
    };
    let told = pair.told();
    let (equal, different): (Vec<_>, Vec<_>) = told.iter().partition(|(parameter, _)| parameter.gravity == Gravity::Equal);
    let mut parts = vec![styled(HEADING, &format!("{title}: {} ⇄ {}", names[0], names[1]))];
    parts.extend(different.iter().map(|(parameter, children)| difference(parameter, children, names, files)));
    parts.extend(doubts(&pair.doubts, names, files));
    if all || different.is_empty() {
        parts.push(table(&["equal", "at both ends"], values(&equal, names), &[0]));
    } else if !equal.is_empty() {
        let mut words: Vec<&str> = equal.iter().map(|(parameter, _)| parameter.name.as_str()).collect();
        let mut known = BTreeSet::new();
        words.retain(|word| known.insert(*word));
        let lines = wrapped(&words.join(", "), columns().min(160).saturating_sub(8));
        parts.push(format!("{}   {}", styled(GOOD, "equal"), lines.join("\n        ")));
    }
    parts.join("\n\n")
}

/// What is not understood, and in the way of a verdict.
fn doubts(doubts: &[Doubt], names: [&str; 2], files: &SourceFiles<'_>) -> Option<String> {
    let told = doubts.iter().map(|doubt| {
        let place = files[doubt.end].map_or_else(String::new, |files| file_and_line(&doubt.place, files));
        format!("        {}  {}  {}", names[doubt.end], place, doubt.spelling.clone().unwrap_or_default()).trim_end().to_owned()
    });
    let told: Vec<_> = told.collect();
    (!told.is_empty()).then(|| format!("{} what stands in the way of a verdict\n{}", styled(CARE, "unsure "), told.join("\n")))
}

fn difference(parameter: &ComparedParameter, children: &[&str], names: [&str; 2], files: &SourceFiles<'_>) -> String {
    let (word, style) = match parameter.gravity {
        Gravity::Fatal => ("fatal", STOP),
        Gravity::Unknown => ("unsure", CARE),
        Gravity::Compatible | Gravity::Equal => ("differs", CARE),
    };
    let of = if children.is_empty() { String::new() } else { format!("  of {}", children.join(", ")) };
    let mut lines = vec![format!("{} {}{of}", styled(style, &format!("{word:<7}")), styled(HEADING, &parameter.name))];
    let ends = [0, 1].map(|end| told_of(&parameter.values[end], files[end]));
    let width = names.iter().map(|name| name.chars().count()).max().unwrap_or(0).max("in practice".len());
    let room = columns().min(120).saturating_sub(10 + width);
    let told = |label: &str, text: &str| -> Vec<String> {
        let broken = text.lines().flat_map(|line| wrapped(line, room));
        broken.enumerate().map(|(i, line)| format!("{:<width$}  {line}", if i == 0 { label } else { "" })).collect()
    };
    let mut below = if columns() < SIDE_BY_SIDE {
        names.iter().zip(&ends).flat_map(|(name, end)| told(name, &end.join("\n"))).collect()
    } else {
        let both = side_by_side(names, &ends, (columns() - 12 - width) / 2);
        both.iter().map(|line| format!("{:<width$}  {line}", "")).collect::<Vec<_>>()
    };
    below.extend(told("in practice", &parameter.practice));
    if !parameter.remedy.is_empty() {
        below.extend(told("do", &parameter.remedy));
    }
    lines.extend(below.iter().map(|line| format!("        {line}").trim_end().to_owned()));
    lines.join("\n")
}

/// Two columns of this width, each below its name.
fn side_by_side(names: [&str; 2], ends: &[Vec<String>; 2], width: usize) -> Vec<String> {
    let columns = [0, 1].map(|end| {
        let told = ends[end].iter().flat_map(|line| fitted(line, width));
        std::iter::once(names[end].to_owned()).chain(told).collect::<Vec<_>>()
    });
    let cell = |end: usize, i: usize| columns[end].get(i).map_or("", String::as_str);
    (0..columns[0].len().max(columns[1].len())).map(|i| format!("{:<width$}  {}", cell(0, i), cell(1, i))).collect()
}

/// Breaks a line between words, and long lists without blanks behind a comma.
fn fitted(line: &str, width: usize) -> Vec<String> {
    let mut lines = Vec::new();
    for line in wrapped(line, width) {
        let mut rest = line.as_str();
        while rest.chars().count() > width {
            let Some((comma, _)) = rest.char_indices().take(width).filter(|(_, c)| *c == ',').last() else { break };
            lines.push(rest[..=comma].to_owned());
            rest = &rest[comma + 1..];
        }
        if !rest.is_empty() {
            lines.push(rest.to_owned());
        }
    }
    lines
}

/// A value, where it stands, and how it is spelled there.
fn told_of(shown: &Shown, files: Option<&BTreeMap<String, Source>>) -> Vec<String> {
    let mut lines: Vec<String> = shown.value.lines().map(str::to_owned).collect();
    if shown.is_default {
        lines.push("not said: the platform's default".to_owned());
    }
    if let Some(place) = &shown.place {
        // What a description would write stands in no file yet.
        lines.extend(files.map(|files| file_and_line(place, files)));
        lines.extend(shown.spelling.clone());
    }
    lines
}

/// Equal parameters with their values.
fn values(equal: &[&(&ComparedParameter, Vec<&str>)], names: [&str; 2]) -> Vec<Vec<String>> {
    let cell = |shown: &Shown| format!("{}{}", shown.value, if shown.is_default { " (default)" } else { "" });
    let several = |name: &str| equal.iter().filter(|(parameter, _)| parameter.name == name).count() > 1;
    let row = |(parameter, children): &&(&ComparedParameter, Vec<&str>)| {
        let [one, other] = [0, 1].map(|end| cell(&parameter.values[end]));
        let value = match parameter.values[0].value == parameter.values[1].value {
            true => {
                if one.len() >= other.len() {
                    one
                } else {
                    other
                }
            }
            // Equal in effect, such as who opens.
            false => format!("{}: {one}\n{}: {other}", names[0], names[1]),
        };
        let of = if several(&parameter.name) { children.iter().map(|child| format!("\n  {child}")).collect() } else { String::new() };
        vec![format!("{}{of}", parameter.name), value]
    };
    equal.iter().map(row).collect()
}

/// The same as JSON.
pub fn json(pair: &ComparedPair, files: &SourceFiles<'_>) -> Value {
    let each = |parameter: &ComparedParameter| {
        let value = |end: usize| {
            let shown = &parameter.values[end];
            let place = shown.place.as_ref().map(|place| match files[end].and_then(|files| files.get(&*place.file)) {
                Some(source) => json!({ "file": &**source.name(), "line": source.position(place.span.start).line }),
                None => json!({ "file": &*place.file }),
            });
            json!({ "value": shown.value, "spelling": shown.spelling, "place": place, "default": shown.is_default })
        };
        let gravity = match parameter.gravity {
            Gravity::Fatal => "fatal",
            Gravity::Unknown => "unknown",
            Gravity::Compatible => "compatible",
            Gravity::Equal => "equal",
        };
        json!({
            "parameter": parameter.name,
            "about": parameter.parameter.word(),
            "child": parameter.child,
            "gravity": gravity,
            "values": [value(0), value(1)],
            "practice": parameter.practice,
            "remedy": parameter.remedy,
        })
    };
    let unsure = |doubt: &Doubt| {
        let source = files[doubt.end].and_then(|files| files.get(&*doubt.place.file));
        doubt_json(doubt, source)
    };
    json!({
        "connections": pair.names,
        "parameters": pair.parameters.iter().map(each).collect::<Vec<_>>(),
        "doubts": pair.doubts.iter().map(unsure).collect::<Vec<_>>(),
    })
}

/// What is in the way of a verdict.
pub fn doubt_json(doubt: &Doubt, source: Option<&Source>) -> Value {
    let line = source.map(|source| source.position(doubt.place.span.start).line);
    let file = source.map_or_else(|| doubt.place.file.to_string(), |source| source.name().to_string());
    json!({ "end": doubt.end, "stage": doubt.stage.word(), "about": doubt.about, "file": file, "line": line, "spelling": doubt.spelling })
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn columns_stay_where_they_are() {
        let told = |lines: &[&str]| lines.iter().map(|line| (*line).to_owned()).collect::<Vec<_>>();
        let ends = [told(&["one"]), told(&["one", "ike=aes256;dh20,aes128;dh19", "without-a-comma-at-all"])];
        let lines = side_by_side(["packhouse", "coldstore"], &ends, 16);
        let blank = " ".repeat(18);
        let expected = [
            "packhouse         coldstore".to_owned(),
            "one               one".to_owned(),
            format!("{blank}ike=aes256;dh20,"),
            format!("{blank}aes128;dh19"),
            format!("{blank}without-a-comma-at-all"),
        ];
        assert_eq!(lines, expected);
    }
}
