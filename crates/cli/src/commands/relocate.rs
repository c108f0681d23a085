//! `uspan move`.

use std::path::Path;

use serde_json::{Value, json};
use uspan_core::{
    Build, BuiltTunnel, ComparedParameter, Description, Gravity, Method, Parameter, Profile, ReadGateway, Site, Tree, any_stops,
    compare_same, stop,
};

use super::check::{plan, plan_of};
use crate::args::{Format, Supply};
use crate::failure::{CommandOutcome, Failure};
use crate::files::input;
use crate::files::single;
use crate::show::{CARE, GOOD, HEADING, columns, findings, path_word, styled, wrapped};

/// What becomes of a tunnel.
struct Moved {
    tunnel: String,
    peer: String,
    /// Parameters that stay.
    carried: Vec<String>,
    /// Parameters that do not: what it is about, before, after, why.
    changed: Vec<[String; 4]>,
    /// What is to be done by hand, or should go.
    left: Vec<String>,
}

/// What JSON says of a site that was not moved.
fn empty(site: &str, from: Option<&str>, to: &str) -> Value {
    json!({ "site": site, "from": from, "to": to, "tunnels": [], "peers_changed": [], "goes": [], "written": null })
}

pub fn run(file: &Path, name: &str, to: &str, output: Option<&Path>, replace: bool, format: Format) -> Result<CommandOutcome, Failure> {
    let context = input::context();
    let Some(wanted) = context.profile(to).filter(|profile| !profile.is_run_by_others()) else {
        let known: Vec<_> = context.of_ours().map(|profile| &*profile.word).collect();
        return Err(Failure::Usage(format!("`{to}` is no platform; there are {}", known.join(", "))));
    };
    if let Some(path) = output {
        single::vacant(path, replace)?;
    }
    let (mut before, planned) = plan(file, &Supply::default())?;
    let Some(description) = before.description.take().filter(|_| !any_stops(&planned.findings)) else {
        return super::stopped(&planned.findings, &before.source, format, empty(name, None, to), "Nothing was moved");
    };
    let Some(site) = description.sites.iter().find(|site| site.name.value == name) else {
        return Err(Failure::Usage(format!("the description has no site `{name}`")));
    };
    if site.platform.value.word == to {
        return Err(Failure::Usage(format!("{name} has {to} already")));
    }
    let mut text = before.source.text().to_owned();
    text.replace_range(site.platform.span.range(), &format!("\"{to}\""));
    // What it would be is read as if it stood in the place of the old one, so that its secrets are found.
    let (after, replanned) = plan_of(input::read_text(file, text.clone()), None);
    if any_stops(&replanned.findings) {
        if format == Format::Text {
            super::print_line(&title(site, wanted))?;
        }
        let empty = empty(name, Some(&site.platform.value.word), to);
        return super::stopped(&replanned.findings, &after.source, format, empty, "This cannot be carried. Nothing was written");
    }
    let mut moved = Vec::new();
    for (old, new) in planned.tunnels.iter().zip(&replanned.tunnels).filter(|(old, _)| old.ends.iter().any(|end| end == name)) {
        moved.push(compared(&description, name, old, new));
    }
    let peers: Vec<String> = planned
        .trees
        .iter()
        .filter(|(peer, tree)| *peer != name && replanned.trees.get(*peer) != Some(tree))
        .map(|(peer, _)| peer.clone())
        .collect();
    let goes = must_go(site, &planned, &replanned);
    if let Some(path) = output {
        single::text(path, &text, replace)?;
    }
    if format == Format::Json {
        super::print_json(&json!({
            "fine": true,
            "site": name,
            "from": site.platform.value.word,
            "to": to,
            "tunnels": moved.iter().map(as_json).collect::<Vec<_>>(),
            "peers_changed": peers,
            "goes": goes,
            "findings": findings::json(&replanned.findings, &after.source),
            "written": output,
        }))?;
    } else {
        super::print_line(&title(site, wanted))?;
        findings::print(&replanned.findings, &after.source);
        for one in &moved {
            super::print_line(&told(one))?;
        }
        super::print_line(&going(name, &goes))?;
        super::print_line(&closing(file, name, output, &peers))?;
    }
    Ok(CommandOutcome::Fine)
}

fn title(site: &Site, to: &Profile) -> String {
    let from = &site.platform.value.title;
    format!("{}\n", styled(HEADING, &format!("{}: from {from} to {}", site.name.value, to.title)))
}

/// A tunnel before and after, as the site's files say it.
fn compared(description: &Description, site: &str, old: &BuiltTunnel, new: &BuiltTunnel) -> Moved {
    let end = usize::from(old.ends[1] == site);
    let reading = |gateway| ReadGateway { name: site, gateway, ends_open: false, tree: None };
    let comparison = compare_same(reading(&old.gateways[end]), reading(&new.gateways[end]));
    let parameters: Vec<&ComparedParameter> =
        comparison.pairs.iter().flat_map(|pair| pair.told()).map(|(parameter, _)| parameter).collect();
    let (equal, differs): (Vec<_>, Vec<_>) = parameters.into_iter().partition(|parameter| parameter.gravity == Gravity::Equal);
    let mut carried: Vec<String> = equal.into_iter().map(|parameter| parameter.name.clone()).collect();
    carried.dedup();
    // Why: what was not said of the old platform.
    let news = new.agreement.reasons.iter().filter(|reason| !old.agreement.reasons.contains(reason));
    let news: Vec<_> = news.collect();
    let why = |parameter: Parameter| {
        let about = parameter.explained_by();
        let told: Vec<_> =
            news.iter().filter(|reason| reason.about == about).map(|reason| format!("{}: {}", reason.value, reason.why)).collect();
        told.join("; ")
    };
    let line = |text: &str| text.replace('\n', "; ");
    let changed = differs.into_iter().map(|parameter| {
        let [before, after] = parameter.values.each_ref().map(|shown| line(&shown.value));
        [parameter.name.clone(), before, after, why(parameter.parameter)]
    });
    let mut left = Vec::new();
    let told = description.tunnels.iter().find(|tunnel| tunnel.name.value == old.name);
    for weak in told.into_iter().flat_map(|tunnel| tunnel.allows_weak.iter()) {
        left.push(format!("{} is weak or withdrawn: now is the time to agree on something newer", weak.row.name));
    }
    let private = description.sites.iter().find(|known| known.name.value == site).and_then(|known| known.keys.as_ref()?.private.as_ref());
    match told.map(|tunnel| tunnel.method.value) {
        Some(Method::SharedSecret) | None => {}
        Some(_) if private.is_some() => {}
        Some(_) => left.push("the private key stands on the old gateway alone: bring it over, or make a new pair".to_owned()),
    }
    Moved { tunnel: old.name.clone(), peer: old.ends[1 - end].clone(), carried, changed: changed.collect(), left }
}

fn told(moved: &Moved) -> String {
    let room = columns().min(120).saturating_sub(16);
    let mut lines = vec![styled(HEADING, &format!("{} with {}", moved.tunnel, moved.peer))];
    let mut add = |label: &str, text: &str| {
        for (i, line) in wrapped(text, room).into_iter().enumerate() {
            lines.push(format!("  {:<12}  {line}", if i == 0 { label } else { "" }).trim_end().to_owned());
        }
    };
    add("carried over", &moved.carried.join(", "));
    for (i, [about, before, after, why]) in moved.changed.iter().enumerate() {
        let why = if why.is_empty() { String::new() } else { format!(" ({why})") };
        add(if i == 0 { "changed" } else { "" }, &format!("{about}: {before} becomes {after}{why}"));
    }
    for (i, text) in moved.left.iter().enumerate() {
        add(if i == 0 { "by hand" } else { "" }, text);
    }
    lines.join("\n") + "\n"
}

/// The commands that take the old platform off a gateway: its daemon stops for good, and its files go, the secrets with them.
fn must_go(site: &Site, before: &Build, after: &Build) -> Vec<String> {
    let none = Tree::default();
    let [old, new] = [before, after].map(|build| build.trees.get(&site.name.value).unwrap_or(&none));
    let gone = old.files.keys().filter(|path| !new.files.contains_key(*path)).map(|path| path_word(Path::new(&format!("/{path}"))));
    let gone: Vec<_> = gone.collect();
    let mut commands = stop(&site.platform.value);
    if !gone.is_empty() {
        commands.push(format!("rm -f {}", gone.join(" ")));
    }
    commands
}

fn going(site: &str, commands: &[String]) -> String {
    let mut lines = vec![styled(HEADING, &format!("Must go from {site} before the new files are taken up, as root"))];
    lines.extend(commands.iter().map(|command| format!("  {command}")));
    lines.join("\n") + "\n"
}

fn closing(file: &Path, site: &str, output: Option<&Path>, peers: &[String]) -> String {
    let others = match peers {
        [] => format!("The files of {site} alone change."),
        some => styled(CARE, &format!("The files of {} change, too: all ends together.", some.join(", "))),
    };
    let next = match output {
        Some(path) => format!("{}: {}. Next: uspan build {} -o out", styled(GOOD, "Written"), path_word(path), path_word(path)),
        None => format!(
            "{}. Nothing was written. Next: uspan move {} --site {site} --to … -o NEW",
            styled(GOOD, "It can be moved"),
            path_word(file)
        ),
    };
    format!("{others}\n{next}")
}

fn as_json(moved: &Moved) -> Value {
    let changed = |[about, before, after, why]: &[String; 4]| json!({ "what": about, "before": before, "after": after, "why": why });
    json!({
        "tunnel": moved.tunnel,
        "peer": moved.peer,
        "carried_over": moved.carried,
        "changed": moved.changed.iter().map(changed).collect::<Vec<_>>(),
        "by_hand": moved.left,
    })
}
