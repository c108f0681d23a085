//! `uspan build`.

use std::path::Path;

use serde_json::{Value, json};
use uspan_core::{Source, any_stops, platform};

use super::check::plan;
use crate::args::Format;
use crate::failure::{Failure, Verdict};
use crate::files::output::{self, Change, Outcome, Written};
use crate::show::{CARE, GOOD, findings, styled};

pub fn run(file: &Path, folder: &Path, replace: bool, format: Format) -> Result<Verdict, Failure> {
    let (read, planned) = plan(file)?;
    if any_stops(&planned.findings) {
        return stopped(&planned.findings, &read.source, format);
    }
    let written = match output::write(folder, &planned.trees, replace)? {
        Outcome::Done(written) => written,
        Outcome::Refused(mut refused) => {
            refused.splice(0..0, planned.findings);
            return stopped(&refused, &read.source, format);
        }
    };
    if format == Format::Json {
        let value = json!({
            "fine": true,
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
    let site = planned.trees.keys().next().map_or("SITE", String::as_str);
    super::print_line(&format!(
        "{count}. Next: copy {0}/{site}/etc onto the gateway's /etc, then the same for the other end.",
        folder.display()
    ))?;
    for (site, command) in take_up(&read.description, &planned) {
        super::print_line(&format!("      on {site}: {command}"))?;
    }
    Ok(Verdict::Fine)
}

fn stopped(found: &[uspan_core::Finding], source: &Source, format: Format) -> Result<Verdict, Failure> {
    if format == Format::Json {
        let none: Vec<Value> = Vec::new();
        super::print_json(&json!({ "fine": false, "findings": findings::json(found, source), "files": none }))?;
    } else {
        findings::print(found, source);
        let code = found.iter().find(|finding| finding.stops()).map_or("", |finding| finding.rule.code);
        let count = styled(CARE, &findings::count(found));
        super::print_line(&format!("{count}. Nothing was written. Next: uspan explain {code}"))?;
    }
    Ok(Verdict::Stopped)
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

/// What to type on each gateway after copying, in the order of the description; at most a few lines.
fn take_up(description: &Option<uspan_core::Description>, planned: &uspan_core::Build) -> Vec<(String, String)> {
    let Some(description) = description else { return Vec::new() };
    let mut commands = Vec::new();
    for site in description.sites.iter().filter(|site| planned.trees.contains_key(&site.name.value)).take(2) {
        let facts = platform(site.platform.value.facts().word).expect("a platform of the table").facts();
        let tunnels = planned.tunnels.iter().filter(|tunnel| tunnel.ends.contains(&site.name.value));
        let names: Vec<_> = tunnels.clone().map(|tunnel| tunnel.name.as_str()).collect();
        let rules = names.iter().map(|name| format!("nft -f /{}/uspan-{name}.nft", uspan_core::NFTABLES_FOLDER));
        let children = tunnels.flat_map(|tunnel| tunnel.gateways[0].connections.iter().flat_map(|c| &c.children));
        let children: Vec<_> = children.map(|child| child.name.as_str()).collect();
        let daemon = facts.take_up.iter().flat_map(|command| match command.contains("{}") {
            true => children.iter().map(|child| command.replace("{}", child)).collect(),
            false => vec![(*command).to_owned()],
        });
        let all: Vec<_> = rules.chain(daemon).collect();
        commands.push((site.name.value.clone(), all.join(" && ")));
    }
    commands
}
