//! `uspan sheet`.

use std::path::Path;

use serde_json::json;
use uspan_core::{Build, BuiltTunnel, Description, FilledIn, Form, Place, Refilled, Source, any_stops, fill, form, sheet};

use super::check::{plan_few, plan_of};
use crate::args::{Format, SheetArgs, SheetFormat};
use crate::failure::{CommandOutcome, Failure};
use crate::files::input::{self, Input};
use crate::files::{reading, single};
use crate::page;
use crate::show::{GOOD, findings, path_shown, path_word, sheet as show, styled};

pub fn run(args: &SheetArgs) -> Result<CommandOutcome, Failure> {
    if let Some(path) = &args.output {
        single::vacant(path, args.replace)?;
    }
    let (mut read, planned) = plan_few(&args.file, &args.supply, args.tunnel.as_deref())?;
    let format = if args.format == SheetFormat::Json { Format::Json } else { Format::Text };
    let Some(description) = read.description.take().filter(|_| !any_stops(&planned.findings)) else {
        return super::stopped(&planned.findings, &read.source, format, json!({ "sheets": [] }), "There is no sheet of it");
    };
    let meant = |tunnel: &&BuiltTunnel| {
        let named = args.tunnel.as_ref().is_none_or(|name| *name == tunnel.name);
        named && args.partner.as_ref().is_none_or(|site| tunnel.ends.contains(site))
    };
    let tunnels: Vec<_> = planned.tunnels.iter().filter(meant).collect();
    if tunnels.is_empty() {
        let which = args.tunnel.as_ref().map_or_else(String::new, |name| format!(" of the name `{name}`"));
        let whose = args.partner.as_ref().map_or_else(String::new, |site| format!(" with the site `{site}`"));
        return Err(Failure::Usage(format!("the description has no tunnel{which}{whose}")));
    }
    if let (Some(sheet), Some(site)) = (&args.fill, &args.partner) {
        let [tunnel] = tunnels.as_slice() else {
            return Err(Failure::Usage(format!("{site} has {} tunnels; say which one the sheet is of with --tunnel", tunnels.len())));
        };
        return filled(args, &read, &description, tunnel, site, sheet);
    }
    let each: Vec<SheetShape> = tunnels.iter().filter_map(|tunnel| shape(args, &description, tunnel, &planned, &read)).collect();
    let text = match args.format {
        SheetFormat::Json => format!(
            "{:#}",
            super::ended(
                json!({ "sheets": each.iter().map(|shape| shape.json.clone()).collect::<Vec<_>>() }),
                true,
                findings::json(&planned.findings, &read.source)
            )
        ),
        SheetFormat::Html => page::shell("Parameter sheet", &maud::html! { @for shape in &each { (maud::PreEscaped(&shape.html)) } }),
        SheetFormat::Text | SheetFormat::Markdown => each.iter().map(|shape| shape.text.trim_end()).collect::<Vec<_>>().join("\n\n"),
    };
    match &args.output {
        // In a file there is no colour.
        Some(path) => single::text(path, &anstream::adapter::strip_str(&text).to_string(), args.replace)?,
        None => super::print_line(&text)?,
    }
    Ok(CommandOutcome::Fine)
}

/// A sheet as it is written.
struct SheetShape {
    text: String,
    html: String,
    json: serde_json::Value,
}

fn shape(args: &SheetArgs, description: &Description, tunnel: &BuiltTunnel, planned: &Build, read: &Input) -> Option<SheetShape> {
    if let Some(site) = &args.partner {
        let theirs = tunnel.ends.iter().position(|end| end == site)?;
        let form = form(description, tunnel, theirs, &read.supplied)?;
        let text = if args.format == SheetFormat::Markdown { show::form(&form) } else { show::form_text(&form) };
        let html = page::sheet::form(&form).into_string();
        return Some(SheetShape { text, html, json: show::form_json(&form) });
    }
    let sheet = sheet(description, tunnel, planned, &read.supplied)?;
    let at = |end: usize, place: &Place| {
        let text = planned.trees[&tunnel.ends[end]].files.get(&*place.file).map(|file| file.text.as_str()).unwrap_or_default();
        let line = Source::new(place.file.to_string(), text).position(place.span.start).line;
        format!("{}:{line}", place.file)
    };
    let text = if args.format == SheetFormat::Markdown { show::markdown(&sheet, &at) } else { show::text(&sheet, &at) };
    let html = page::sheet::alone(&sheet, &|end, place| (None, at(end, place))).into_string();
    Some(SheetShape { text, html, json: show::json(&sheet, &at) })
}

/// What the fields that were filled in say in the description that came of it.
fn after_filling(refilled: &Refilled, form: &Form, after: &Input, replanned: &Build) -> Vec<(FilledIn, String)> {
    let tunnel = replanned.tunnels.iter().find(|tunnel| tunnel.name == form.tunnel);
    let ends = tunnel.and_then(|tunnel| Some((tunnel, tunnel.ends.iter().position(|end| *end == form.theirs)?)));
    let now = ends.zip(after.description.as_ref());
    let now = now.and_then(|((tunnel, theirs), description)| uspan_core::form(description, tunnel, theirs, &after.supplied));
    match now {
        Some(now) => refilled.now(form, &now),
        None => refilled.changed.iter().map(|one| (one.clone(), one.written.clone())).collect(),
    }
}

/// Reads a filled-in sheet back.
fn filled(
    args: &SheetArgs,
    read: &Input,
    description: &Description,
    tunnel: &BuiltTunnel,
    site: &str,
    path: &Path,
) -> Result<CommandOutcome, Failure> {
    let text = reading::text(path, reading::FILE).map_err(Failure::file("cannot read", path))?;
    let sheet = Source::new(path_shown(path), text);
    let theirs = tunnel.ends.iter().position(|end| end == site).unwrap_or(0);
    let Some(form) = form(description, tunnel, theirs, &read.supplied) else {
        return Err(Failure::Usage(format!("`{}` has no sheet for {site}", path_shown(&args.file))));
    };
    let format = if args.format == SheetFormat::Json { Format::Json } else { Format::Text };
    let refilled = fill(description, &form, &sheet);
    let found = &refilled.findings;
    let Some(text) = refilled.text.clone() else {
        return super::stopped(found, &sheet, format, json!({ "changed": [], "written": null }), "The description stays as it is");
    };
    // What it would be is read as if it stood in the place of the old one, so that its secrets are found.
    let (after, replanned) = plan_of(input::read_text(&args.file, text.clone()), None);
    if any_stops(&replanned.findings) {
        return super::stopped(
            &replanned.findings,
            &after.source,
            format,
            json!({ "changed": [], "written": null }),
            "With what was filled in the description is not sound",
        );
    }
    if let Some(path) = &args.output {
        single::text(path, &text, args.replace)?;
    }
    let changed = after_filling(&refilled, &form, &after, &replanned);
    if format == Format::Json {
        let list: Vec<_> = changed
            .iter()
            .map(|(one, now)| json!({ "field": one.field, "before": one.before, "after": now, "written": one.written }))
            .collect();
        let each = [findings::json(found, &sheet), findings::json(&replanned.findings, &after.source)];
        let found: serde_json::Value = each.iter().filter_map(serde_json::Value::as_array).flatten().cloned().collect();
        super::print_json(&super::ended(json!({ "changed": list, "written": args.output }), true, found))?;
        return Ok(CommandOutcome::Fine);
    }
    findings::print(found, &sheet);
    findings::print(&replanned.findings, &after.source);
    if !changed.is_empty() {
        super::print_line(&show::filled(&changed))?;
    }
    let count = match changed.len() {
        0 => "Nothing was filled in".to_owned(),
        1 => "One value was filled in".to_owned(),
        count => format!("{count} values were filled in"),
    };
    let next = match &args.output {
        Some(path) => format!("Next: uspan build {} -o out", path_word(path)),
        None => "Nothing was written. Next: the same with -o FILE".to_owned(),
    };
    super::print_line(&format!("{}. {next}", styled(GOOD, &count)))?;
    Ok(CommandOutcome::Fine)
}
