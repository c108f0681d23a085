//! Two gateways, parameter by parameter.

use std::collections::BTreeMap;

use serde_json::{Value, json};
use uspan_core::{Compared, Gravity, Parameter, Shown, Source};

use super::table::table;
use super::{CARE, GOOD, HEADING, STOP, columns, file_and_line, styled, wrapped};

/// The files of each end by path, where it has any.
type Files<'a> = [Option<&'a BTreeMap<String, Source>>; 2];

/// From that many columns on the two ends stand side by side, below that one after the other.
const SIDE_BY_SIDE: usize = 120;

/// A pair of connections: what is fatal, what differs, what is equal.
pub fn text(pair: &Compared, names: [&str; 2], files: &Files<'_>, all: bool) -> String {
    let title = match &pair.names {
        [one, other] if one == other => one.clone(),
        [one, other] => format!("{one}, {other}"),
    };
    let told = pair.told();
    let (equal, different): (Vec<_>, Vec<_>) = told.iter().partition(|(parameter, _)| parameter.gravity == Gravity::Equal);
    let mut parts = vec![styled(HEADING, &format!("{title}: {} ⇄ {}", names[0], names[1]))];
    parts.extend(different.iter().map(|(parameter, children)| difference(parameter, children, names, files)));
    if all || different.is_empty() {
        parts.push(table(&["equal", "at both ends"], values(&equal, names), &[0]));
    } else if !equal.is_empty() {
        let mut words: Vec<&str> = equal.iter().map(|(parameter, _)| parameter.name.as_str()).collect();
        words.dedup();
        let lines = wrapped(&words.join(", "), columns().min(160).saturating_sub(8));
        parts.push(format!("{}   {}", styled(GOOD, "equal"), lines.join("\n        ")));
    }
    parts.join("\n\n")
}

fn difference(parameter: &Parameter, children: &[&str], names: [&str; 2], files: &Files<'_>) -> String {
    let (word, style) = if parameter.gravity == Gravity::Fatal { ("fatal", STOP) } else { ("differs", CARE) };
    let of = if children.is_empty() { String::new() } else { format!("  of {}", children.join(", ")) };
    let mut lines = vec![format!("{} {}{of}", styled(style, &format!("{word:<7}")), styled(HEADING, &parameter.name))];
    let ends = [0, 1].map(|end| told_of(&parameter.values[end], files[end]));
    let width = names.iter().map(|name| name.chars().count()).max().unwrap_or(0).max("in practice".len());
    let mut add = |label: &str, text: &str, room: usize| {
        for (i, line) in text.lines().flat_map(|line| wrapped(line, room)).enumerate() {
            lines.push(format!("        {:<width$}  {line}", if i == 0 { label } else { "" }).trim_end().to_owned());
        }
    };
    let room = columns().min(120).saturating_sub(10 + width);
    if columns() < SIDE_BY_SIDE {
        names.iter().zip(&ends).for_each(|(name, told)| add(name, &told.join("\n"), room));
    } else {
        let half = (columns() - 12 - width) / 2;
        let cells = ends.each_ref().map(|lines| lines.iter().flat_map(|line| wrapped(line, half)).collect::<Vec<_>>());
        let cell = |end: usize, i: usize| cells[end].get(i).map_or("", String::as_str);
        add("", &format!("{:<half$}  {}", names[0], names[1]), usize::MAX);
        for i in 0..cells[0].len().max(cells[1].len()) {
            add("", &format!("{:<half$}  {}", cell(0, i), cell(1, i)), usize::MAX);
        }
    }
    add("in practice", &parameter.practice, room);
    if !parameter.remedy.is_empty() {
        add("do", &parameter.remedy, room);
    }
    lines.join("\n")
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
fn values(equal: &[&(&Parameter, Vec<&str>)], names: [&str; 2]) -> Vec<Vec<String>> {
    let cell = |shown: &Shown| format!("{}{}", shown.value, if shown.is_default { " (default)" } else { "" });
    let several = |name: &str| equal.iter().filter(|(parameter, _)| parameter.name == name).count() > 1;
    let row = |(parameter, children): &&(&Parameter, Vec<&str>)| {
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
pub fn json(pair: &Compared, files: &Files<'_>) -> Value {
    let each = |parameter: &Parameter| {
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
            Gravity::Compatible => "compatible",
            Gravity::Equal => "equal",
        };
        json!({
            "parameter": parameter.name,
            "child": parameter.child,
            "gravity": gravity,
            "values": [value(0), value(1)],
            "practice": parameter.practice,
            "remedy": parameter.remedy,
        })
    };
    json!({ "connections": pair.names, "parameters": pair.parameters.iter().map(each).collect::<Vec<_>>() })
}
