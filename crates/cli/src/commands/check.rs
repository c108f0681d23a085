//! `uspan check`.

use std::collections::BTreeMap;
use std::path::Path;

use serde_json::json;
use uspan_core::{Build, Builder, BuiltTunnel, Description, Finding, Tunnel, any_stops, build_some};

use crate::args::{Format, Supply};
use crate::failure::{Failure, Verdict};
use crate::files::input::{self, Input};
use crate::files::output::Earlier;
use crate::fleet;
use crate::show::{CARE, GOOD, HEADING, STOP, agreement, findings, path_shown, path_word, styled};

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

pub fn run(file: &Path, supply: &Supply, reasons: bool, since: Option<&Path>, format: Format) -> Result<Verdict, Failure> {
    let read = input::read(file, supply)?;
    if read.description.as_ref().is_some_and(fleet::is_fleet) {
        return many(file, read, since, format);
    }
    let earlier = since.map(Earlier::of).transpose()?;
    let (read, mut planned) = plan_of(read, None);
    if let Some(earlier) = &earlier {
        planned.tunnels.retain(|built| is_changed(&read, &built.name, earlier));
    }
    let stopped = any_stops(&planned.findings);
    if format == Format::Json {
        let tunnels: Vec<_> = planned.tunnels.iter().map(agreement::json).collect();
        let value = json!({ "fine": !stopped, "findings": findings::json(&planned.findings, &read.source), "tunnels": tunnels });
        super::print_json(&value)?;
    } else {
        findings::print(&planned.findings, &read.source);
        for tunnel in &planned.tunnels {
            super::print_line(&format!("{}\n", agreement::text(tunnel, reasons)))?;
        }
        super::print_line(&closing(file, &planned.findings, stopped))?;
    }
    Ok(if stopped { Verdict::Stopped } else { Verdict::Fine })
}

/// Whether a tunnel has other files than those of an earlier output.
pub fn is_changed(read: &Input, name: &str, earlier: &Earlier) -> bool {
    let Some(description) = &read.description else { return true };
    let tunnel = description.tunnels.iter().find(|tunnel| tunnel.name.value == name);
    let made = tunnel.and_then(|tunnel| Builder::new(description, &read.supplied).tunnel(tunnel, true).ok());
    made.and_then(|made| made.built).is_none_or(|(built, trees)| earlier.lacks(&built, &trees))
}

/// Tunnels that are alike, and how many.
struct FindingKind {
    like: BuiltTunnel,
    count: usize,
}

/// The same for very many tunnels: each goes the whole way and is let go; what they have in common is shown once.
fn many(file: &Path, mut read: Input, since: Option<&Path>, format: Format) -> Result<Verdict, Failure> {
    let earlier = since.map(Earlier::of).transpose()?;
    let Some(description) = &read.description else { return Err(Failure::Usage("there is no description".to_owned())) };
    let builder = Builder::new(description, &read.supplied);
    let mut found = std::mem::take(&mut read.findings);
    let sound = !any_stops(&found);
    found.extend(builder.check());
    let sound = sound && !any_stops(&found);
    let mut kinds: BTreeMap<String, FindingKind> = BTreeMap::new();
    let (mut unchanged, json) = (0, format == Format::Json);
    let work = |_: usize, tunnel: &Tunnel| {
        let made = builder.tunnel(tunnel, sound)?;
        let built = made.built.map(|(built, trees)| {
            let same = earlier.as_ref().is_some_and(|earlier| !earlier.lacks(&built, &trees));
            (agreement::kind(&built), built, same)
        });
        Ok((built, made.findings))
    };
    fleet::each(description, "checking tunnels", work, |came: Result<_, Vec<Finding>>| match came {
        Ok((built, findings)) => {
            found.extend(findings);
            match built {
                Some((_, _, true)) => unchanged += 1,
                Some((kind, built, false)) => {
                    kinds.entry(kind).or_insert(FindingKind { like: built, count: 0 }).count += 1;
                }
                None => {}
            }
        }
        Err(findings) => found.extend(findings),
    });
    input::relocate(&mut found, &description.source, &read.source);
    uspan_core::in_reading_order(&mut found);
    let stopped = any_stops(&found);
    let mut sorted: Vec<_> = kinds.into_values().collect();
    sorted.sort_by_key(|kind| std::cmp::Reverse(kind.count));
    let all = description.tunnels.len();
    if json {
        let each: Vec<_> = sorted.iter().map(|kind| json!({ "count": kind.count, "like": agreement::json(&kind.like) })).collect();
        let value = json!({
            "fine": !stopped,
            "findings": findings::json(&found, &read.source),
            "count": all,
            "unchanged": unchanged,
            "kinds": each,
        });
        super::print_json(&value)?;
    } else {
        findings::print(&found, &read.source);
        for kind in sorted.iter().filter(|_| !stopped) {
            let how_many = format!("{} tunnel{} like this one", kind.count, if kind.count == 1 { "" } else { "s" });
            super::print_line(&format!("{}\n{}\n", styled(HEADING, &how_many), agreement::text(&kind.like, false)))?;
        }
        if earlier.is_some() {
            super::print_line(&format!("{unchanged} of {all} tunnels are as they were."))?;
        }
        super::print_line(&closing(file, &found, stopped))?;
    }
    Ok(if stopped { Verdict::Stopped } else { Verdict::Fine })
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
