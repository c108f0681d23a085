//! Very many tunnels: rehearsed, or held against what stands in an output folder, each let go of as soon as it is done with.

use std::collections::BTreeMap;
use std::fs;
use std::path::Path;

use serde_json::json;
use uspan_core::{
    Builder, Description, Finding, Looked, Site, Source, Supplied, Tree, TreeFile, Tunnel, any_stops, check, compare_same, flaw, read_tree,
};

use crate::args::Format;
use crate::failure::{Failure, Verdict};
use crate::files::input::{self, Input};
use crate::files::output::{self, Earlier};
use crate::fleet;
use crate::show::{GOOD, STOP, comparison, styled};

/// As many that fail, or differ, are shown.
const SHOWN: usize = 3;

/// A file of a tree as it stands in a folder; nothing where it cannot be read.
fn standing(folder: &Path, site: &str, path: &str, planned: &TreeFile) -> Option<TreeFile> {
    let text = fs::read_to_string(folder.join(site).join(path)).ok()?;
    Some(TreeFile { private: planned.private, shared: planned.shared, text })
}

/// The files that a tunnel has at a site, as they stand in a folder.
fn standing_tree(folder: &Path, site: &str, planned: &Tree) -> Tree {
    let mut tree = Tree::default();
    for (path, file) in &planned.files {
        if let Some(found) = standing(folder, site, path, file) {
            tree.add(path.as_str(), found);
        }
    }
    tree
}

/// Takes a description that is sound as a whole, with what was supplied; else says what stops the work.
fn sound(read: &mut Input, format: Format, list: &str, nothing: &str) -> Result<Result<(Description, Supplied), Verdict>, Failure> {
    let Some(description) = read.description.take() else { return Err(Failure::Usage("there is no description".to_owned())) };
    let supplied = std::mem::take(&mut read.supplied);
    let mut found = std::mem::take(&mut read.findings);
    found.extend(check(&description, &supplied));
    if !any_stops(&found) {
        return Ok(Ok((description, supplied)));
    }
    stopped(found, &description, read, format, list, nothing).map(Err)
}

/// Ends a command that findings about some of the tunnels stop.
fn stopped(
    mut found: Vec<Finding>,
    description: &Description,
    read: &Input,
    format: Format,
    list: &str,
    nothing: &str,
) -> Result<Verdict, Failure> {
    input::relocate(&mut found, &description.source, &read.source);
    uspan_core::in_reading_order(&mut found);
    super::stopped(&found, &read.source, format, list, nothing)
}

/// Rehearses every tunnel: as a build would write it, or as it stands in a folder.
pub fn rehearsed(mut read: Input, built: Option<&Path>, format: Format) -> Result<Verdict, Failure> {
    let (description, supplied) = match sound(&mut read, format, "rehearsals", "Nothing was rehearsed")? {
        Ok(sound) => sound,
        Err(verdict) => return Ok(verdict),
    };
    let builder = Builder::new(&description, &supplied);
    let work = |_: usize, tunnel: &Tunnel| -> Result<Option<String>, Vec<Finding>> {
        // What is built was rehearsed on the way.
        let (Some((_, trees)), Some(folder)) = (builder.tunnel(tunnel, true)?.built, built) else { return Ok(None) };
        let ends = description.ends(tunnel);
        let gateways = [0, 1].map(|end| {
            let tree = standing_tree(folder, &ends[end].name.value, &trees[end]);
            read_tree(ends[end].platform.value, &tree).0
        });
        Ok(flaw(ends, &gateways).map(|flaw| {
            let stage = flaw.stage.map(|stage| format!("fails at {}: ", stage.word())).unwrap_or_default();
            format!("{}: {stage}{}", tunnel.name.value, flaw.reason)
        }))
    };
    let (mut failing, mut found) = (Vec::new(), Vec::new());
    fleet::each(&description, "rehearsing tunnels", work, |came| match came {
        Ok(failed) => failing.extend(failed),
        Err(findings) => found.extend(findings),
    });
    if !found.is_empty() {
        return stopped(found, &description, &read, format, "rehearsals", "Not all could be rehearsed");
    }
    let all = description.tunnels.len();
    if format == Format::Json {
        super::print_json(&json!({ "fine": failing.is_empty(), "count": all, "failing": failing }))?;
    } else {
        print_some(&failing)?;
        super::print_line(&match failing.len() {
            0 => format!("{}. All {all} tunnels come up and get new keys.", styled(GOOD, "Fine")),
            count => format!(
                "{}. Next: uspan rehearse with --tunnel and one of them, message by message.",
                styled(STOP, &format!("{count} of {all} fail"))
            ),
        })?;
    }
    Ok(if failing.is_empty() { Verdict::Fine } else { Verdict::Stopped })
}

fn print_some(lines: &[String]) -> Result<(), Failure> {
    lines.iter().take(SHOWN).try_for_each(|line| super::print_line(&format!("{line}\n")))?;
    match lines.len().saturating_sub(SHOWN) {
        0 => Ok(()),
        more => super::print_line(&format!("and {more} more; --format json lists all\n")),
    }
}

/// A gateway of a tunnel that is otherwise than it is described.
struct Drift {
    site: String,
    tunnel: String,
    /// Files that differ or are missing.
    files: Vec<String>,
    /// Parameter by parameter.
    text: String,
}

/// Holds all trees of an output folder against what the description would write now.
pub fn compared(folder: &Path, mut read: Input, format: Format) -> Result<Verdict, Failure> {
    let (description, supplied) = match sound(&mut read, format, "differences", "Nothing was compared")? {
        Ok(sound) => sound,
        Err(verdict) => return Ok(verdict),
    };
    let builder = Builder::new(&description, &supplied);
    let earlier = Earlier::of(folder)?;
    let work = |_: usize, tunnel: &Tunnel| -> Result<(Vec<Drift>, Vec<String>), Vec<Finding>> {
        let ends = description.ends(tunnel);
        let Some((_, trees)) = builder.tunnel(tunnel, true)?.built else { return Ok(Default::default()) };
        let own: Vec<String> = ends
            .iter()
            .zip(&trees)
            .flat_map(|(site, tree)| tree.files.keys().map(move |path| format!("{}/{path}", site.name.value)))
            .collect();
        let each = ends.into_iter().zip(&trees).filter_map(|(site, tree)| drift(folder, site, tunnel, tree));
        Ok((each.collect(), own.into_iter().filter(|path| earlier.lists(path)).collect()))
    };
    let (mut drifts, mut found, mut listed): (Vec<Drift>, Vec<Finding>, usize) = (Vec::new(), Vec::new(), 0);
    fleet::each(&description, "comparing tunnels", work, |came| match came {
        Ok((some, own)) => {
            drifts.extend(some);
            listed += own.len();
        }
        Err(findings) => found.extend(findings),
    });
    if !found.is_empty() {
        return stopped(found, &description, &read, format, "differences", "Not all could be compared");
    }
    let sites = fleet::gateways(&description);
    let mut odd: Vec<&str> = drifts.iter().map(|drift| drift.site.as_str()).collect();
    odd.sort_unstable();
    odd.dedup();
    // Shared files are listed once and belong to several.
    let more = output::listed(folder).len().saturating_sub(listed);
    let fine = drifts.is_empty();
    if format == Format::Json {
        let each: Vec<_> = drifts.iter().map(|drift| json!({ "site": drift.site, "tunnel": drift.tunnel, "files": drift.files })).collect();
        super::print_json(&json!({ "fine": fine, "gateways": sites, "differences": each, "not_described": more }))?;
        return Ok(if fine { Verdict::Fine } else { Verdict::Stopped });
    }
    let shown = |drift: &Drift| format!("{}, {}: {}\n{}", drift.site, drift.tunnel, drift.files.join(", "), drift.text);
    print_some(&drifts.iter().map(shown).collect::<Vec<_>>())?;
    if more > 0 {
        super::print_line(&format!("{more} files of the earlier build are of no tunnel of this description."))?;
    }
    super::print_line(&match odd.len() {
        0 => format!("{}. All {sites} gateways are as described.", styled(GOOD, "Fine")),
        count => format!("{}.", styled(STOP, &format!("{count} of {sites} gateways are otherwise than described"))),
    })?;
    Ok(if fine { Verdict::Fine } else { Verdict::Stopped })
}

/// What is otherwise at one end of a tunnel.
fn drift(folder: &Path, site: &Site, tunnel: &Tunnel, planned: &Tree) -> Option<Drift> {
    let name = &site.name.value;
    let mut tree = Tree::default();
    let mut files = Vec::new();
    for (path, file) in &planned.files {
        let found = standing(folder, name, path, file);
        // Others give their lines to a shared file, too.
        let same = found.as_ref().is_some_and(|found| match file.shared {
            true => file.text.lines().all(|line| found.text.lines().any(|known| known == line)),
            false => found.text == file.text,
        });
        if !same {
            files.push(if found.is_some() { path.clone() } else { format!("{path} (missing)") });
        }
        if let Some(found) = found {
            tree.add(path.as_str(), if file.shared { TreeFile { text: file.text.clone(), ..found } } else { found });
        }
    }
    if files.is_empty() {
        return None;
    }
    let [(now, _), (should, _)] = [&tree, planned].map(|tree| read_tree(site.platform.value, tree));
    let looked = |called, gateway, tree| Looked { name: called, gateway, ends_open: false, tree: Some(tree) };
    let compared = compare_same(looked(name, &now, &tree), looked("description", &should, planned));
    let source = |path: &String, file: &TreeFile| {
        (path.clone(), Source::new(folder.join(name).join(path).display().to_string(), file.text.as_str()))
    };
    let sources: BTreeMap<String, Source> = tree.files.iter().map(|(path, file)| source(path, file)).collect();
    let text = compared.pairs.iter().map(|pair| comparison::text(pair, [name, "description"], &[Some(&sources), None], false));
    Some(Drift { site: name.clone(), tunnel: tunnel.name.value.clone(), files, text: text.collect::<Vec<_>>().join("\n") })
}
