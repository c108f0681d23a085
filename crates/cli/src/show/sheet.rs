//! The parameter sheet, in the terminal, as Markdown and as JSON.

use serde_json::{Value, json};
use uspan_core::{FilledIn, Form, Place, Sheet, shown};

use super::table::table;
use super::{HEADING, QUIET, columns, styled, wrapped};

/// A place as the user would open it, by the end whose file it is in.
pub type At<'a> = dyn Fn(usize, &Place) -> String + 'a;

/// For the terminal.
pub fn text(sheet: &Sheet, at: &At<'_>) -> String {
    let mut lines = vec![styled(HEADING, &format!("{}: {} ⇄ {}", sheet.tunnel, sheet.titles[0], sheet.titles[1])), String::new()];
    let facts = sheet.facts.iter().map(|fact| vec![fact.what.to_owned(), fact.values[0].join("\n"), fact.values[1].join("\n")]);
    lines.push(table(&["each end", &sheet.titles[0], &sheet.titles[1]], facts.collect(), &[0]));
    lines.extend([String::new(), styled(HEADING, "Both ends")]);
    for agreed in &sheet.agreed {
        lines.push(String::new());
        let of = if agreed.children.is_empty() { String::new() } else { format!("  ({})", agreed.children.join(", ")) };
        lines.push(format!("{}{}", styled(HEADING, &agreed.what), styled(QUIET, &of)));
        let mut told = |mark: &str, text: &str, quiet: bool| {
            let width = columns().min(100).saturating_sub(4 + mark.chars().count());
            for (i, line) in wrapped(text, width).into_iter().enumerate() {
                let head = if i == 0 { mark.to_owned() } else { " ".repeat(mark.chars().count()) };
                lines.push(format!("    {head}{}", if quiet { styled(QUIET, line.trim_end()) } else { line }));
            }
        };
        for value in &agreed.value {
            told("", &value.words, false);
            if let Some(registry) = &value.registry {
                told("  ", registry, true);
            }
            if let Some(why) = &value.why {
                told("  ", &format!("because: {why}"), false);
            }
        }
        for why in &agreed.why {
            told("because: ", why, false);
        }
        for (end, written) in agreed.written.iter().enumerate() {
            if let Some((spelling, place)) = written {
                told(&format!("{}: ", sheet.titles[end]), &format!("{spelling}  {}", at(end, place)), true);
            }
        }
    }
    if !sheet.dropped.is_empty() {
        lines.extend([String::new(), styled(HEADING, "Considered and dropped")]);
        let rows = sheet.dropped.iter().map(|(value, why)| vec![value.clone(), why.clone()]);
        lines.push(table(&["value", "because"], rows.collect(), &[]));
    }
    for handover in &sheet.handovers {
        lines.extend([String::new(), styled(HEADING, &format!("From hand to hand: {}", handover.what))]);
        let mut told = |text: &str| lines.extend(wrapped(text, columns().min(100) - 4).into_iter().map(|line| format!("    {line}")));
        told(&handover.how);
        told(&format!("fingerprint: {}", handover.check.as_deref().unwrap_or("none")));
        lines.push(format!("    $ {}", handover.command));
        lines.extend(wrapped(&handover.why, columns().min(100) - 4).into_iter().map(|line| format!("    {line}")));
    }
    lines.push(String::new());
    lines.join("\n")
}

/// A cell of a Markdown table.
fn cell(lines: &[String]) -> String {
    lines.iter().map(|line| plain(line)).collect::<Vec<_>>().join("<br>")
}

/// A text with nothing in it that Markdown would take for something else.
fn plain(text: &str) -> String {
    let mut out = String::with_capacity(text.len());
    for c in shown(text).chars() {
        match c {
            '|' | '\\' | '`' | '*' | '<' | '>' | '[' | ']' => out.extend(['\\', c]),
            c => out.push(c),
        }
    }
    out
}

/// In a fence of its own, whatever stands in it.
fn code(text: &str) -> String {
    let longest = text.split(|c| c != '`').map(str::len).max().unwrap_or(0);
    let fence = "`".repeat(longest + 1);
    format!("{fence} {text} {fence}")
}

/// As Markdown.
pub fn markdown(sheet: &Sheet, at: &At<'_>) -> String {
    let mut out = format!("# {}: {} ⇄ {}\n\n## The two ends\n\n", plain(&sheet.tunnel), plain(&sheet.titles[0]), plain(&sheet.titles[1]));
    out += &format!("| | {} | {} |\n|---|---|---|\n", plain(&sheet.titles[0]), plain(&sheet.titles[1]));
    for fact in &sheet.facts {
        out += &row(&[fact.what, &cell(&fact.values[0]), &cell(&fact.values[1])]);
    }
    out += &format!(
        "\n## Both ends\n\n| | agreed | {} | {} | because |\n|---|---|---|---|---|\n",
        plain(&sheet.titles[0]),
        plain(&sheet.titles[1])
    );
    for agreed in &sheet.agreed {
        let written = [0, 1].map(|end| match &agreed.written[end] {
            Some((spelling, place)) => format!("{}<br>{}", code(spelling).replace('|', "\\|"), plain(&at(end, place))),
            None if agreed.by_default[end] => "default".to_owned(),
            None => String::new(),
        });
        let of = agreed.children.iter().map(|child| format!("<br>{}", plain(child))).collect::<String>();
        let values = agreed.value.iter().map(|value| {
            let words = [Some(&value.words), value.registry.as_ref()].into_iter().flatten().map(|text| plain(text));
            let why = value.why.iter().map(|why| format!("*{}*", plain(why)));
            words.chain(why).collect::<Vec<_>>().join("<br>")
        });
        let values: Vec<_> = values.collect();
        out += &row(&[&format!("{}{of}", plain(&agreed.what)), &values.join("<br>"), &written[0], &written[1], &cell(&agreed.why)]);
    }
    if !sheet.dropped.is_empty() {
        out += "\n## Considered and dropped\n\n| value | because |\n|---|---|\n";
        for (value, why) in &sheet.dropped {
            out += &row(&[&plain(value), &plain(why)]);
        }
    }
    for handover in &sheet.handovers {
        out += &format!("\n## From hand to hand: {}\n\n{}.\n\n", plain(&handover.what), plain(&handover.how));
        out += &format!(
            "Fingerprint: {}\n\n```sh\n{}\n```\n\n{}\n",
            handover.check.as_deref().unwrap_or("none"),
            handover.command,
            plain(&handover.why)
        );
    }
    out
}

/// As JSON.
pub fn json(sheet: &Sheet, at: &At<'_>) -> Value {
    let facts = sheet.facts.iter().map(|fact| json!({ "what": fact.what, "values": fact.values }));
    let agreed = sheet.agreed.iter().map(|agreed| {
        let written =
            [0, 1].map(|end| agreed.written[end].as_ref().map(|(spelling, place)| json!({ "spelling": spelling, "at": at(end, place) })));
        json!({
            "what": agreed.what,
            "of": agreed.children,
            "values": agreed.value.iter().map(|value| json!({ "words": value.words, "iana": value.registry, "because": value.why })).collect::<Vec<_>>(),
            "written": written,
            "because": agreed.why,
        })
    });
    let handovers = sheet.handovers.iter().map(|handover| {
        json!({ "what": handover.what, "how": handover.how, "fingerprint": handover.check, "command": handover.command, "why": handover.why })
    });
    json!({
        "tunnel": sheet.tunnel,
        "ends": sheet.ends,
        "titles": sheet.titles,
        "facts": facts.collect::<Vec<_>>(),
        "agreed": agreed.collect::<Vec<_>>(),
        "dropped": sheet.dropped.iter().map(|(value, why)| json!({ "value": value, "because": why })).collect::<Vec<_>>(),
        "handovers": handovers.collect::<Vec<_>>(),
    })
}

/// A row of a Markdown table.
fn row(cells: &[&str]) -> String {
    format!("| {} |\n", cells.join(" | "))
}

/// The form for the owner of the other end, as Markdown: to be filled in with any editor, and read back.
pub fn form(form: &Form) -> String {
    let [tunnel, theirs, ours] = [&form.tunnel, &form.titles[0], &form.titles[1]].map(|text| plain(text));
    let mut out = format!("# Parameter sheet of the tunnel {tunnel}, for {theirs}\n\n");
    out += &format!(
        "From {ours}. Please check each value of your end, and write yours into the last column where it is another one, as you are used \
         to write it (`AES-256 / SHA-256 / DH 14`, `8 hours`); a blank means that ours is right, and `-` that there is none. Leave the \
         first column as it is; a further network gets a row of its own, `network` and a name. Algorithms stand here by their names in \
         the IANA registries.\n\n"
    );
    out += "## Our end\n\n| | |\n|---|---|\n";
    for (what, values) in &form.about_us {
        out += &row(&[what, &cell(values)]);
    }
    out += "\n## Your end, and what both ends use\n\n| field | what | as we have it | yours, where it differs |\n|---|---|---|---|\n";
    for field in &form.fields {
        out += &row(&[&field.code, &plain(&field.what), &plain(&field.proposed), ""]);
    }
    out += "\n## What your gateway must do beside that\n\n";
    for need in &form.needs {
        out += &format!("- {}\n", plain(need));
    }
    for handover in &form.handovers {
        out += &format!("\n## From hand to hand: {}\n\n", plain(&handover.what));
        out += &format!(
            "Compare with us: fingerprint {}\n\n```sh\n{}\n```\n\n{}\n",
            handover.check.as_deref().unwrap_or("____"),
            handover.command,
            plain(&handover.why)
        );
    }
    out
}

/// The same for the terminal.
pub fn form_text(form: &Form) -> String {
    let mut lines = vec![styled(HEADING, &format!("{}, for {}", form.tunnel, form.titles[0])), String::new()];
    let about = form.about_us.iter().map(|(what, values)| vec![(*what).to_owned(), values.join("\n")]);
    lines.push(table(&[&form.titles[1], ""], about.collect(), &[0]));
    lines.push(String::new());
    let fields = form.fields.iter().map(|field| vec![field.code.clone(), field.what.clone(), field.proposed.clone()]);
    lines.push(table(&["field", "what", "as we have it"], fields.collect(), &[0]));
    lines.push(String::new());
    for need in &form.needs {
        lines.extend(wrapped(&format!("- {need}"), columns().min(100)));
    }
    for handover in &form.handovers {
        lines.extend([String::new(), styled(HEADING, &format!("From hand to hand: {}", handover.what))]);
        lines.push(format!("    fingerprint: {}", handover.check.as_deref().unwrap_or("none yet")));
        lines.push(format!("    $ {}", handover.command));
    }
    lines.push(String::new());
    lines.join("\n")
}

/// The same as JSON.
pub fn form_json(form: &Form) -> Value {
    json!({
        "tunnel": form.tunnel,
        "for": form.theirs,
        "from": form.ours,
        "titles": form.titles,
        "about_us": form.about_us.iter().map(|(what, values)| json!({ "what": what, "values": values })).collect::<Vec<_>>(),
        "fields": form.fields.iter().map(|field| json!({ "field": field.code, "what": field.what, "proposed": field.proposed })).collect::<Vec<_>>(),
        "needs": form.needs,
        "handovers": form.handovers.iter().map(|handover| json!({ "what": handover.what, "fingerprint": handover.check, "command": handover.command })).collect::<Vec<_>>(),
    })
}

/// What a partner filled in: each field as it says now, as it was, and in their own words.
pub fn filled(changed: &[(FilledIn, String)]) -> String {
    let margin = changed.iter().map(|(one, _)| one.field.chars().count()).max().unwrap_or(0) + 2;
    let room = columns().min(100).saturating_sub(margin).max(20);
    let mut lines = Vec::new();
    for (FilledIn { field, before, written }, now) in changed {
        let (mut value, mut beside) = (now.clone(), Vec::new());
        if before == now {
            value.push_str(", as it was");
        } else if !before.is_empty() {
            beside.extend(wrapped(&format!("was {before}"), room));
        }
        if written != now && !written.is_empty() {
            beside.extend(wrapped(&format!("written as `{written}`"), room));
        }
        let value = wrapped(&value, room).into_iter().map(|line| shown(&line).into_owned());
        let beside = beside.iter().map(|line| styled(QUIET, &shown(line)));
        for (at, line) in value.chain(beside).enumerate() {
            let head = if at == 0 { shown(field) } else { "".into() };
            lines.push(format!("{}{line}", styled(HEADING, &format!("{head:margin$}"))));
        }
    }
    lines.join("\n")
}
