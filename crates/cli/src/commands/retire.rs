//! `uspan retire`.

use std::collections::BTreeMap;
use std::path::Path;

use serde_json::json;
use uspan_core::dialect::gate;
use uspan_core::{Retirement, Tree, TreeFile, any_stops, retire};

use super::check::plan;
use crate::args::{Format, Supply};
use crate::failure::{CommandOutcome, Failure};
use crate::files::output::{self, OutputOutcome, WriteOptions};
use crate::show::{GOOD, findings, path_word, styled};

pub fn run(file: &Path, supply: &Supply, tunnel: &str, folder: &Path, replace: bool, format: Format) -> Result<CommandOutcome, Failure> {
    let (read, planned) = plan(file, supply)?;
    let stopped = |found: &[_]| super::stopped(found, &read.source, format, json!({ "files": [], "scripts": [] }), "Nothing was written");
    let Some(description) = read.description.as_ref().filter(|_| !any_stops(&planned.findings)) else {
        return stopped(&planned.findings);
    };
    let names: Vec<_> = planned.tunnels.iter().map(|tunnel| tunnel.name.as_str()).collect();
    if !names.contains(&tunnel) {
        return Err(Failure::Usage(format!("no tunnel is called `{tunnel}`; there are: {}", names.join(", "))));
    }
    if holds_a_build(folder) {
        let message = format!("`{}` holds what `uspan build` wrote; choose another folder for the scripts", path_word(folder));
        return Err(Failure::Usage(message));
    }
    let retirements = retire(description, &read.supplied, &planned, |name| name == tunnel);
    let trees: BTreeMap<String, Tree> = retirements.iter().map(|one| (one.site.clone(), tree(one))).collect();
    // These files pass the same gate as those of a build.
    let refused = trees.iter().filter_map(|(site, tree)| Some((site, gate(tree).err()?)));
    let refused: Vec<_> = refused.flat_map(|(site, list)| list.into_iter().map(|one| one.finding(site))).collect();
    if !refused.is_empty() {
        return stopped(&refused);
    }
    let written = match output::write(folder, &trees, WriteOptions { replace, ..WriteOptions::default() })? {
        OutputOutcome::Done(written) => written,
        OutputOutcome::Refused(found) => return stopped(&found),
    };
    if format == Format::Json {
        let scripts: Vec<_> =
            retirements.iter().map(|one| json!({ "site": one.site, "script": one.script, "by_hand": one.by_hand })).collect();
        let found = findings::json(&planned.findings, &read.source);
        super::print_json(&json!({ "fine": true, "findings": found, "files": written, "scripts": scripts }))?;
        return Ok(CommandOutcome::Fine);
    }
    super::build::print_files(folder, &written)?;
    super::print_line("")?;
    for one in &retirements {
        super::print_line(&format!("on {}: copy {}/{0}/{} there, then", one.site, path_word(folder), file_name(tunnel)))?;
        super::print_line(&format!("  sh {}", file_name(tunnel)))?;
        for line in &one.by_hand {
            super::print_line(&format!("  # {line}"))?;
        }
    }
    let done = styled(GOOD, "Fine");
    super::print_line(&format!("{done}. Next: run them in this order, then take `{tunnel}` out of the description and build."))?;
    Ok(CommandOutcome::Fine)
}

fn file_name(tunnel: &str) -> String {
    format!("retire-{tunnel}.sh")
}

fn tree(retirement: &Retirement) -> Tree {
    let script = TreeFile::public(retirement.script.clone());
    Tree { files: BTreeMap::from([(file_name(&retirement.tunnel), script)]) }
}

/// Whether a build wrote here: its files would give way to the scripts.
fn holds_a_build(folder: &Path) -> bool {
    output::listed(folder).iter().any(|path| !path.ends_with(".sh"))
}
