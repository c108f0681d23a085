//! Two gateways, parameter by parameter.

use std::collections::BTreeMap;

use serde_json::{Value, json};
use uspan_core::{Compared, Gravity, Parameter, Place, Shown, Source};

use super::table::table;
use super::{CARE, HEADING, STOP, columns, styled, wrapped};

/// The files of each end by path, where it has any.
type Files<'a> = [Option<&'a BTreeMap<String, Source>>; 2];

/// A pair of connections: what is fatal, what differs, what is equal.
pub fn text(pair: &Compared, names: [&str; 2], files: &Files<'_>) -> String {
    let title = match &pair.names {
        [one, other] if one == other => one.clone(),
        [one, other] => format!("{one}, {other}"),
    };
    let mut parts = vec![styled(HEADING, &format!("{title}: {} ⇄ {}", names[0], names[1]))];
    for parameter in pair.parameters.iter().filter(|parameter| parameter.gravity != Gravity::Equal) {
        parts.push(difference(parameter, names, files));
    }
    let equal = equal(pair, names);
    if !equal.is_empty() {
        parts.push(table(&["equal", "at both ends"], equal, &[0]));
    }
    parts.join("\n\n")
}

fn difference(parameter: &Parameter, names: [&str; 2], files: &Files<'_>) -> String {
    let (word, style) = if parameter.gravity == Gravity::Fatal { ("fatal", STOP) } else { ("differs", CARE) };
    let mut lines = vec![format!("{} {}", styled(style, &format!("{word:<7}")), styled(HEADING, &named(parameter)))];
    let width = names.iter().map(|name| name.chars().count()).max().unwrap_or(0).max("in practice".len());
    let room = columns().min(100).saturating_sub(10 + width);
    let mut add = |label: &str, text: &str| {
        for (i, line) in text.lines().flat_map(|line| wrapped(line, room)).enumerate() {
            lines.push(format!("        {:<width$}  {line}", if i == 0 { label } else { "" }).trim_end().to_owned());
        }
    };
    for (end, name) in names.iter().enumerate() {
        let shown = &parameter.values[end];
        add(name, &shown.value);
        if shown.is_default {
            add("", "not said: the platform's default");
        }
        if let Some(place) = &shown.place {
            // What a description would write stands in no file yet.
            if let Some(files) = files[end] {
                add("", &at(place, files));
            }
            if let Some(spelled) = &shown.spelling {
                add("", spelled);
            }
        }
    }
    add("in practice", &parameter.practice);
    if !parameter.remedy.is_empty() {
        add("do", &parameter.remedy);
    }
    lines.join("\n")
}

/// The parameter, and the Child SA that it is of.
fn named(parameter: &Parameter) -> String {
    parameter.child.as_ref().map_or(parameter.name.clone(), |child| format!("{} ({child})", parameter.name))
}

/// File and line, as the user would open it.
fn at(place: &Place, files: &BTreeMap<String, Source>) -> String {
    match source(place, Some(files)) {
        Some(source) => format!("{}:{}", source.name(), source.position(place.span.start).line),
        None => place.file.to_string(),
    }
}

/// The file of a place, which is named from the gateway's root.
fn source<'a>(place: &Place, files: Option<&'a BTreeMap<String, Source>>) -> Option<&'a Source> {
    files?.iter().find(|(path, _)| path.ends_with(&format!("/{}", place.file)) || **path == *place.file).map(|(_, source)| source)
}

/// Equal parameters: what is so in every Child SA stands once.
fn equal(pair: &Compared, names: [&str; 2]) -> Vec<Vec<String>> {
    let of = |parameter: &Parameter| {
        let cell = |shown: &Shown| format!("{}{}", shown.value, if shown.is_default { " (default)" } else { "" });
        let [one, other] = [0, 1].map(|end| cell(&parameter.values[end]));
        match parameter.values[0].value == parameter.values[1].value {
            true => {
                if one.len() >= other.len() {
                    one
                } else {
                    other
                }
            }
            // Equal in effect, such as who opens.
            false => format!("{}: {one}\n{}: {other}", names[0], names[1]),
        }
    };
    let all: Vec<_> = pair.parameters.iter().filter(|parameter| parameter.gravity == Gravity::Equal).collect();
    let mut rows: Vec<(String, String, Option<&String>)> = Vec::new();
    for parameter in all {
        let value = of(parameter);
        if rows.iter().any(|(name, known, child)| *name == parameter.name && *known == value && child.is_some()) {
            continue;
        }
        rows.push((parameter.name.clone(), value, parameter.child.as_ref()));
    }
    let several = |name: &str| rows.iter().filter(|(other, ..)| other == name).count() > 1;
    rows.iter()
        .map(|(name, value, child)| {
            let about = child.filter(|_| several(name)).map_or(String::new(), |child| format!("\n  {child}"));
            vec![format!("{name}{about}"), value.clone()]
        })
        .collect()
}

/// The same as JSON.
pub fn json(pair: &Compared, files: &Files<'_>) -> Value {
    let each = |parameter: &Parameter| {
        let value = |end: usize| {
            let shown = &parameter.values[end];
            let place = shown.place.as_ref().map(|place| match source(place, files[end]) {
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
