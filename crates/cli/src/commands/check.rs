//! `uspan check`.

use std::collections::HashMap;
use std::path::Path;

use serde_json::json;
use uspan_core::{Build, Builder, BuiltTunnel, Description, Finding, Tunnel, any_stops, build_some};

use crate::args::{Format, Supply};
use crate::failure::{CommandOutcome, Failure};
use crate::files::input::{self, Input};
use crate::files::output::Earlier;
use crate::fleet;
use crate::show::{CARE, GOOD, HEADING, STOP, agreement, findings, path_shown, path_word, styled, terminal};

/// Reads a description and goes the whole way in memory.
pub fn plan(file: &Path, supply: &Supply) -> Result<(Input, Build), Failure> {
    Ok(plan_of(input::read(file, supply)?, None))
}

/// The same for commands that show everything about each tunnel: not of very many at once.
pub fn plan_few(file: &Path, supply: &Supply, tunnel: Option<&str>) -> Result<(Input, Build), Failure> {
    let read = input::read(file, supply)?;
    match &read.description {
        Some(description) if fleet::is_fleet(description) && tunnel.is_none() => {
            let count = description.tunnels.len();
            Err(Failure::Usage(format!("`{}` has {count} tunnels, too many to be shown one by one", path_shown(file))))
        }
        _ => Ok(plan_of(read, tunnel)),
    }
}

/// The same for what was read already. Of very many tunnels only the one of this name is built, if one is named; else each
/// gateway has all of its own.
pub fn plan_of(mut read: Input, only: Option<&str>) -> (Input, Build) {
    let named = |description: &Description| only.filter(|_| fleet::is_fleet(description));
    let mut planned = match &read.description {
        Some(description) if !any_stops(&read.findings) => {
            let only = named(description);
            build_some(description, &read.supplied, |tunnel| only.is_none_or(|name| tunnel.name.value == name))
        }
        // What could be understood is still checked, so that one run finds as much as possible.
        Some(description) => Build { findings: uspan_core::check(description, &read.supplied), ..Build::default() },
        None => Build::default(),
    };
    if let Some(description) = &read.description {
        input::relocate(&mut planned.findings, &description.source, &read.source);
    }
    planned.findings.append(&mut read.findings);
    uspan_core::in_reading_order(&mut planned.findings);
    if any_stops(&planned.findings) {
        planned.trees.clear();
        planned.tunnels.clear();
    }
    (read, planned)
}

pub fn run(file: &Path, supply: &Supply, reasons: bool, since: Option<&Path>, format: Format) -> Result<CommandOutcome, Failure> {
    let mut read = input::read(file, supply)?;
    let earlier = since.map(Earlier::of).transpose()?;
    let found = std::mem::take(&mut read.findings);
    let checked = match format {
        Format::Json => told(&read, found, earlier.as_ref())?,
        Format::Text => shown(file, &read, found, earlier.as_ref(), reasons)?,
    };
    Ok(if checked.stops() { CommandOutcome::Stopped } else { CommandOutcome::Fine })
}

/// What a check of all tunnels comes to.
#[derive(Default)]
struct Checked {
    found: Vec<Finding>,
    count: usize,
    /// How many have the files of an earlier output.
    unchanged: usize,
}

impl Checked {
    fn stops(&self) -> bool {
        any_stops(&self.found)
    }
}

/// Takes every tunnel the whole way, and lets go of it; `take` gets what `of` makes of those that both ends agree on, in their order.
fn each<T: Send>(
    read: &Input,
    found: Vec<Finding>,
    earlier: Option<&Earlier>,
    of: impl Fn(BuiltTunnel) -> T + Sync,
    mut take: impl FnMut(T),
) -> Checked {
    let mut checked = Checked { found, ..Checked::default() };
    if let Some(description) = &read.description {
        let builder = Builder::new(description, &read.supplied);
        checked.found.extend(builder.check());
        let sound = !checked.stops();
        checked.count = description.tunnels.len();
        let work = |_: usize, tunnel: &Tunnel| {
            let made = builder.tunnel(tunnel, sound)?;
            let built = made.built.map(|(built, trees)| {
                let same = earlier.is_some_and(|earlier| !earlier.lacks(&built, &trees));
                (!same).then(|| of(built))
            });
            Ok((built, made.findings))
        };
        fleet::each(description, "checking tunnels", work, |came: Result<_, Vec<Finding>>| match came {
            Ok((built, findings)) => {
                checked.found.extend(findings);
                match built {
                    Some(None) => checked.unchanged += 1,
                    Some(Some(built)) => take(built),
                    None => {}
                }
            }
            Err(findings) => checked.found.extend(findings),
        });
        input::relocate(&mut checked.found, &description.source, &read.source);
    }
    uspan_core::in_reading_order(&mut checked.found);
    checked
}

/// Tunnel after tunnel as JSON.
fn told(read: &Input, found: Vec<Finding>, earlier: Option<&Earlier>) -> Result<Checked, Failure> {
    let mut checked = Checked::default();
    terminal::json_streamed("tunnels", |put| {
        checked = each(read, found, earlier, |built| agreement::json(&built), |told| put(&told));
        json!({
            "count": checked.count,
            "unchanged": checked.unchanged,
            "findings": findings::json(&checked.found, &read.source),
            "fine": !checked.stops(),
        })
    })?;
    Ok(checked)
}

/// Tunnels that are alike, and how many.
struct Alike {
    like: BuiltTunnel,
    /// Which of the kinds was met first.
    place: usize,
    count: usize,
}

/// For people: each of a few tunnels, of more those that are alike once.
fn shown(file: &Path, read: &Input, found: Vec<Finding>, earlier: Option<&Earlier>, reasons: bool) -> Result<Checked, Failure> {
    let (mut kinds, mut few): (HashMap<_, Alike>, Vec<BuiltTunnel>) = Default::default();
    let is_few = read.description.as_ref().is_none_or(|description| description.tunnels.len() <= fleet::FEW);
    let kind = |built| ((!is_few).then(|| agreement::kind(&built)), built);
    let checked = each(read, found, earlier, kind, |(kind, built)| {
        let place = kinds.len();
        match kind {
            None => few.push(built),
            Some(kind) => kinds.entry(kind).or_insert(Alike { like: built, place, count: 0 }).count += 1,
        }
    });
    findings::print(&checked.found, &read.source);
    if !checked.stops() {
        for tunnel in &few {
            super::print_line(&format!("{}\n", agreement::text(tunnel, reasons)))?;
        }
        let mut sorted: Vec<_> = kinds.into_values().collect();
        sorted.sort_by_key(|kind| (std::cmp::Reverse(kind.count), kind.place));
        for kind in sorted {
            let how_many = format!("{} tunnel{} like this one", kind.count, if kind.count == 1 { "" } else { "s" });
            super::print_line(&format!("{}\n{}\n", styled(HEADING, &how_many), agreement::text(&kind.like, reasons)))?;
        }
    }
    if earlier.is_some() && !is_few {
        super::print_line(&format!("{} of {} tunnels are as they were.", checked.unchanged, checked.count))?;
    }
    super::print_line(&closing(file, &checked.found, checked.stops()))?;
    Ok(checked)
}

/// Whether a tunnel has other files than those of an earlier output.
pub fn is_changed(read: &Input, name: &str, earlier: &Earlier) -> bool {
    let Some(description) = &read.description else { return true };
    let tunnel = description.tunnels.iter().find(|tunnel| tunnel.name.value == name);
    let made = tunnel.and_then(|tunnel| Builder::new(description, &read.supplied).tunnel(tunnel, true).ok());
    made.and_then(|made| made.built).is_none_or(|(built, trees)| earlier.lacks(&built, &trees))
}

/// One line that says how it stands and what to do next.
fn closing(file: &Path, found: &[Finding], stopped: bool) -> String {
    let count = findings::count(found);
    let file = path_word(file);
    if stopped {
        let code = found.iter().find(|finding| finding.stops()).map_or("", |finding| finding.rule.code);
        return format!("{}. Nothing would be written. Next: uspan explain {code}", styled(STOP, &count));
    }
    let count = if count.is_empty() { styled(GOOD, "Fine") } else { styled(CARE, &count) };
    format!("{count}. Both ends agree. Next: uspan build {file} -o out")
}
