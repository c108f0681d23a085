//! `uspan build`.

use std::collections::BTreeMap;
use std::path::Path;

use serde_json::json;
use uspan_core::{Build, Description, Finding, Opening, Source, Tree, any_stops, routing, set_up};

use super::check::plan;
use crate::args::{Format, Supply};
use crate::failure::{Failure, Verdict};
use crate::files::output::{self, Change, Manner, Outcome, Written};
use crate::files::trees;
use crate::show::changes::{self, Changes};
use crate::show::{CARE, GOOD, findings, styled};

pub fn run(file: &Path, supply: &Supply, folder: &Path, manner: Manner, format: Format) -> Result<Verdict, Failure> {
    let (read, planned) = plan(file, supply)?;
    if any_stops(&planned.findings) {
        return stopped(&planned.findings, &read.source, format);
    }
    let earlier = trees::earlier(folder, &planned);
    let written = match output::write(folder, &planned.trees, manner)? {
        Outcome::Done(written) => written,
        Outcome::Refused(mut refused) => {
            refused.splice(0..0, planned.findings);
            return stopped(&refused, &read.source, format);
        }
    };
    let changes = changes(read.description.as_ref(), &earlier, &planned);
    if format == Format::Json {
        let value = json!({
            "fine": true,
            "preview": manner.preview,
            "changes": changes::json(&changes),
            "findings": findings::json(&planned.findings, &read.source),
            "folder": folder.display().to_string(),
            "files": written,
        });
        super::print_json(&value)?;
        return Ok(Verdict::Fine);
    }
    findings::print(&planned.findings, &read.source);
    print_files(folder, &written)?;
    let count = match findings::count(&planned.findings) {
        count if count.is_empty() => styled(GOOD, "Fine"),
        count => styled(CARE, &count),
    };
    super::print_line("")?;
    if !changes.is_empty() {
        super::print_line(&format!("{}\n", changes::text(&changes)))?;
    }
    if manner.preview {
        let next = "Next: the same without --preview, and take the files up";
        return super::print_line(&format!("{count}. Nothing was written. {next}.")).map(|()| Verdict::Fine);
    }
    print_next(folder, read.description.as_ref(), &planned)?;
    super::print_line(&format!("{count}. Read back and held against each other. Next: take the files up in this order."))?;
    Ok(Verdict::Fine)
}

/// What changes at each site, by the files that an earlier build left.
fn changes(description: Option<&Description>, earlier: &BTreeMap<String, Tree>, planned: &Build) -> Changes {
    let mut all = Vec::new();
    for site in description.iter().flat_map(|description| &description.sites) {
        let name = &site.name.value;
        if let (Some(before), Some(now)) = (earlier.get(name), planned.trees.get(name)) {
            all.extend(uspan_core::changes(site, before, now).into_iter().map(|change| (name.clone(), change)));
        }
    }
    all
}

fn stopped(found: &[Finding], source: &Source, format: Format) -> Result<Verdict, Failure> {
    super::stopped(found, source, format, "files", "Nothing was written")
}

/// The files with mode and size, and what became of each.
pub fn print_files(folder: &Path, written: &[Written]) -> Result<(), Failure> {
    for file in written {
        let change = match file.change {
            Change::New => "new",
            Change::Changed => "changed",
            Change::Same => "same",
            Change::Removed => "removed",
        };
        super::print_line(&format!("{change:<8} {:>4} {:>7}  {}/{}", file.mode, file.bytes, folder.display(), file.path))?;
    }
    Ok(())
}

/// What to type on the gateways after copying: both ends of the first tunnel.
fn take_up(description: Option<&Description>, planned: &Build) -> Vec<(String, Vec<String>)> {
    let (Some(description), Some(tunnel)) = (description, planned.tunnels.first()) else { return Vec::new() };
    let mut all = Vec::new();
    for (name, gateway) in tunnel.ends.iter().zip(&tunnel.gateways) {
        let Some(site) = description.sites.iter().find(|site| site.name.value == *name) else { continue };
        let facts = site.platform.value.facts();
        let children: Vec<_> = gateway.connections.iter().flat_map(|connection| &connection.children).collect();
        let spell = |command: &&str| -> Vec<String> {
            match command.contains("{}") {
                true => children.iter().map(|child| command.replace("{}", &child.name)).collect(),
                false => vec![(*command).to_owned()],
            }
        };
        let at_once = children.iter().any(|child| child.opening.value == Opening::AtOnce);
        let mut commands = planned.trees.get(name).map(|tree| site.platform.value.bring_in(tree)).unwrap_or_default();
        commands.extend(planned.trees.get(name).map(|tree| set_up(&tunnel.name, tree)).unwrap_or_default());
        commands.extend(planned.trees.get(name).map(|tree| site.packet_filter.take_up(&tunnel.name, tree)).unwrap_or_default());
        let session = planned.trees.get(name).map(|tree| {
            let each = [routing::enable(&tunnel.name, tree), routing::load(&tunnel.name, tree), routing::keep(&tunnel.name, tree)];
            each.concat()
        });
        commands.extend(session.unwrap_or_default());
        commands.extend(facts.take_up.iter().flat_map(spell));
        commands.extend(facts.open.iter().filter(|_| at_once).flat_map(spell));
        all.push((at_once, name.clone(), commands));
    }
    // The end that answers comes first, so that the other one finds it ready.
    all.sort_by_key(|(at_once, ..)| *at_once);
    all.into_iter().map(|(_, name, commands)| (name, commands)).collect()
}

/// Says what to do with the files.
pub fn print_next(folder: &Path, description: Option<&Description>, planned: &Build) -> Result<(), Failure> {
    for (site, commands) in take_up(description, planned) {
        super::print_line(&format!("on {site}: copy {0}/{site}/etc over /etc, then", folder.display()))?;
        commands.iter().try_for_each(|command| super::print_line(&format!("  {command}")))?;
    }
    let more = planned.tunnels.len().saturating_sub(1);
    if more > 0 {
        super::print_line(&format!("and likewise for {more} more tunnel{}", if more == 1 { "" } else { "s" }))?;
    }
    Ok(())
}
