//! Very many tunnels: rehearsed, or held against what stands in an output folder, each let go of as soon as it is done with.

use std::collections::{BTreeMap, HashMap, HashSet};
use std::path::Path;
use std::sync::{Arc, Mutex, PoisonError};

use serde_json::{Value, json};
use uspan_core::{
    Builder, Description, Finding, PROGRAM, ReadGateway, Site, Source, Supplied, Tree, TreeFile, Tunnel, any_stops, check, compare_same,
    covered, flaw, read_tree, rehearse,
};

use super::parts::{self, Participant};
use crate::args::Format;
use crate::failure::{CommandOutcome, Failure};
use crate::files::input::{self, Input};
use crate::files::output::Earlier;
use crate::files::reading;
use crate::fleet;
use crate::show::{GOOD, STOP, comparison, findings, ladder, path_shown, styled, terminal};

/// As many that fail, or differ, are shown.
pub const SHOWN: usize = 3;

/// The lines of a file, each once; nothing where it cannot be read.
type Lines = Option<Arc<HashSet<Box<str>>>>;

/// The trees of an output folder, of which tunnels find their own files.
pub(super) struct BuiltFolder<'a> {
    folder: &'a Path,
    /// Files to which several tunnels give their lines, by site and path; each is read once.
    shared: Mutex<HashMap<(String, String), Lines>>,
}

impl<'a> BuiltFolder<'a> {
    pub(super) fn in_folder(folder: &'a Path) -> Self {
        BuiltFolder { folder, shared: Mutex::default() }
    }

    /// A file of a tunnel, as it stands there; nothing where it cannot be read. Of one that is shared, those of its lines that
    /// are there.
    fn file(&self, site: &str, path: &str, planned: &TreeFile) -> Option<TreeFile> {
        let at = self.folder.join(site).join(path);
        let with = |text: String| TreeFile { private: planned.private, shared: planned.shared, text, provenance: Vec::new() };
        if !planned.shared {
            return Some(with(reading::text(&at, reading::FILE).ok()?));
        }
        let lines = {
            let mut known = self.shared.lock().unwrap_or_else(PoisonError::into_inner);
            let read = || Some(Arc::new(reading::text(&at, reading::FILE).ok()?.lines().map(Box::from).collect()));
            known.entry((site.to_owned(), path.to_owned())).or_insert_with(read).clone()?
        };
        let text = planned.text.split_inclusive('\n').filter(|line| lines.contains(line.trim_end_matches('\n'))).collect();
        Some(with(text))
    }

    /// The files that a tunnel has at a site, as they stand there.
    pub(super) fn tree(&self, site: &str, planned: &Tree) -> Tree {
        let mut tree = Tree::default();
        for (path, file) in &planned.files {
            if let Some(found) = self.file(site, path, file) {
                tree.add(path.as_str(), found);
            }
        }
        tree
    }
}

/// A description that is sound as a whole, what was supplied, and what was found that does not stop the work.
type Sound = (Description, Supplied, Vec<Finding>);

/// Takes a description that is sound as a whole; else says what stops the work.
fn sound(read: &mut Input, format: Format, empty: Value, nothing: &str) -> Result<Result<Sound, CommandOutcome>, Failure> {
    let Some(description) = read.description.take() else { return Err(Failure::Usage("there is no description".to_owned())) };
    let supplied = std::mem::take(&mut read.supplied);
    let mut found = std::mem::take(&mut read.findings);
    found.extend(check(&description, &supplied));
    if !any_stops(&found) {
        return Ok(Ok((description, supplied, found)));
    }
    relocated(&mut found, &description, read);
    super::stopped(&found, &read.source, format, empty, nothing).map(Err)
}

/// Puts findings in the order of the files that they are about.
fn relocated(found: &mut [Finding], description: &Description, read: &Input) {
    input::relocate(found, &description.source, &read.source);
    uspan_core::in_reading_order(found);
}

/// What JSON says where nothing was rehearsed.
pub fn no_rehearsals() -> Value {
    json!({ "rehearsals": [], "alone": [], "count": 0, "unchanged": 0 })
}

/// What came of a tunnel: how it fails, if it does, and its rehearsal message by message where that is asked for.
#[derive(Default)]
struct Rehearsed {
    fails: Option<String>,
    told: Vec<Value>,
}

/// What tunnels are rehearsed with.
struct Rehearsing<'a> {
    description: &'a Description,
    builder: Builder<'a>,
    standing: Option<BuiltFolder<'a>>,
    earlier: Option<Earlier>,
    format: Format,
}

impl Rehearsing<'_> {
    /// Rehearses a tunnel; nothing where it is as it was.
    fn tunnel(&self, tunnel: &Tunnel) -> Result<Option<Rehearsed>, Vec<Finding>> {
        let Some((made, trees)) = self.builder.tunnel(tunnel, true)?.built else { return Ok(None) };
        if self.earlier.as_ref().is_some_and(|earlier| !earlier.lacks(&made, &trees)) {
            return Ok(None);
        }
        let ends = self.description.ends(tunnel);
        let standing = self.standing.as_ref();
        let stands = standing.map(|standing| [0, 1].map(|end| standing.tree(&ends[end].name.value, &trees[end])));
        // What is built was rehearsed on the way.
        let mut came = Rehearsed::default();
        if stands.is_none() && self.format == Format::Text {
            return Ok(Some(came));
        }
        let parts = parts::of_ends(ends, stands.unwrap_or(trees), standing.map(|standing| standing.folder), &made);
        if standing.is_some() {
            let fails = flaw(ends, parts.each_ref().map(|part| &part.gateway)).map(|flaw| {
                let stage = flaw.stage.map(|stage| format!("fails at {}: ", stage.word())).unwrap_or_default();
                format!("{stage}{}", flaw.reason)
            });
            came.fails = fails.or_else(|| parts::unsure(&parts)).map(|why| format!("{}: {why}", tunnel.name.value));
        }
        if self.format == Format::Json {
            let rehearsals = rehearse(parts.each_ref().map(Participant::actor), None);
            came.told = rehearsals.all.iter().map(|one| ladder::json(one, &parts::shown(&parts))).collect();
        }
        Ok(Some(came))
    }
}

/// Rehearses every tunnel: as a build would write it, or as it stands in a folder.
pub fn rehearsed(mut read: Input, built: Option<&Path>, since: Option<&Path>, format: Format) -> Result<CommandOutcome, Failure> {
    let (description, supplied, mut found) = match sound(&mut read, format, no_rehearsals(), "Nothing was rehearsed")? {
        Ok(sound) => sound,
        Err(verdict) => return Ok(verdict),
    };
    let rehearsing = Rehearsing {
        description: &description,
        builder: Builder::new(&description, &supplied),
        standing: built.map(BuiltFolder::in_folder),
        earlier: since.map(Earlier::of).transpose()?,
        format,
    };
    let work = |_: usize, tunnel: &Tunnel| rehearsing.tunnel(tunnel);
    let (mut failing, mut all) = (Vec::new(), 0);
    let mut each = |put: &mut dyn FnMut(&Value)| {
        fleet::each(&description, "rehearsing tunnels", work, |came| match came {
            Ok(came) => {
                all += usize::from(came.is_some());
                let came = came.unwrap_or_default();
                failing.extend(came.fails);
                came.told.iter().for_each(&mut *put);
            }
            Err(findings) => found.extend(findings),
        });
        relocated(&mut found, &description, &read);
        let unchanged = description.tunnels.len() - all;
        let fine = failing.is_empty() && !any_stops(&found);
        json!({ "alone": [], "count": all, "unchanged": unchanged, "findings": findings::json(&found, &read.source), "fine": fine })
    };
    match format {
        Format::Json => terminal::json_streamed("rehearsals", each)?,
        Format::Text => drop(each(&mut |_| ())),
    }
    if any_stops(&found) {
        return match format {
            Format::Json => Ok(CommandOutcome::Stopped),
            Format::Text => super::stopped(&found, &read.source, format, no_rehearsals(), "Not all could be rehearsed"),
        };
    }
    if format == Format::Text {
        print_some(&failing)?;
        let unchanged = description.tunnels.len() - all;
        if all > 0 && unchanged > 0 {
            super::print_line(&format!("{unchanged} tunnels are as they were."))?;
        }
        super::print_line(&match failing.len() {
            _ if all == 0 => self::unchanged(unchanged),
            0 => format!("{}. All {all} tunnels come up and get new keys.", styled(GOOD, "Fine")),
            count => format!(
                "{}. Next: uspan rehearse with --tunnel and one of them, message by message.",
                styled(STOP, &format!("{count} of {all} fail"))
            ),
        })?;
    }
    Ok(if failing.is_empty() { CommandOutcome::Fine } else { CommandOutcome::Stopped })
}

/// That nothing is to be rehearsed.
pub fn unchanged(count: usize) -> String {
    format!("{}. All {count} tunnels are as they were.", styled(GOOD, "Fine"))
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
pub fn compared(folder: &Path, mut read: Input, format: Format) -> Result<CommandOutcome, Failure> {
    let (description, supplied, mut found) =
        match sound(&mut read, format, json!({ "gateways": 0, "differences": [], "not_described": 0 }), "Nothing was compared")? {
            Ok(sound) => sound,
            Err(verdict) => return Ok(verdict),
        };
    let builder = Builder::new(&description, &supplied);
    let (earlier, standing) = (Earlier::of(folder)?, BuiltFolder::in_folder(folder));
    let work = |_: usize, tunnel: &Tunnel| -> Result<(Vec<Drift>, Vec<String>, usize), Vec<Finding>> {
        let ends = description.ends(tunnel);
        let Some((_, trees)) = builder.tunnel(tunnel, true)?.built else { return Ok(Default::default()) };
        let (mut shared, mut own) = (Vec::new(), 0);
        for (site, tree) in ends.iter().zip(&trees) {
            for (path, file) in &tree.files {
                let path = format!("{}/{path}", site.name.value);
                match file.shared {
                    true => shared.push(path),
                    false => own += usize::from(earlier.lists(&path)),
                }
            }
        }
        let each = ends.into_iter().zip(&trees).filter_map(|(site, tree)| drift(&standing, site, tunnel, tree));
        Ok((each.collect(), shared, own))
    };
    let (mut drifts, mut shared, mut listed): (Vec<Drift>, HashSet<String>, usize) = Default::default();
    fleet::each(&description, "comparing tunnels", work, |came| match came {
        Ok((some, common, own)) => {
            drifts.extend(some);
            listed += own;
            shared.extend(common);
        }
        Err(findings) => found.extend(findings),
    });
    relocated(&mut found, &description, &read);
    if any_stops(&found) {
        return super::stopped(
            &found,
            &read.source,
            format,
            json!({ "gateways": 0, "differences": [], "not_described": 0 }),
            "Not all could be compared",
        );
    }
    let sites = fleet::gateways(&description);
    let mut odd: Vec<&str> = drifts.iter().map(|drift| drift.site.as_str()).collect();
    odd.sort_unstable();
    odd.dedup();
    // What several tunnels share is listed once.
    let listed = listed + shared.iter().filter(|path| earlier.lists(path)).count();
    let programs = description.sites.iter().filter(|site| earlier.lists(&format!("{}/{PROGRAM}", site.name.value))).count();
    let listed = listed + programs;
    let more = earlier.count().saturating_sub(listed);
    let fine = drifts.is_empty();
    if format == Format::Json {
        let each: Vec<_> = drifts.iter().map(|drift| json!({ "site": drift.site, "tunnel": drift.tunnel, "files": drift.files })).collect();
        let found = findings::json(&found, &read.source);
        super::print_json(&json!({ "fine": fine, "findings": found, "gateways": sites, "differences": each, "not_described": more }))?;
        return Ok(if fine { CommandOutcome::Fine } else { CommandOutcome::Stopped });
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
    Ok(if fine { CommandOutcome::Fine } else { CommandOutcome::Stopped })
}

/// What is otherwise at one end of a tunnel.
fn drift(standing: &BuiltFolder<'_>, site: &Site, tunnel: &Tunnel, planned: &Tree) -> Option<Drift> {
    let name = &site.name.value;
    let tree = standing.tree(name, planned);
    let differs = |(path, file): (&String, &TreeFile)| match tree.files.get(path) {
        None => Some(format!("{path} (missing)")),
        Some(found) => (found.text != file.text).then(|| path.clone()),
    };
    let files: Vec<_> = planned.files.iter().filter_map(differs).collect();
    if files.is_empty() {
        return None;
    }
    let [(now, _), (should, _)] = [&tree, planned].map(|tree| read_tree(&input::context(), &site.platform.value, tree));
    let tree = covered(&tree);
    let reading = |called, gateway, tree| ReadGateway { name: called, gateway, ends_open: false, tree: Some(tree) };
    let compared = compare_same(reading(name, &now, &tree), reading("description", &should, planned));
    let source = |path: &String, file: &TreeFile| {
        (path.clone(), Source::new(path_shown(&standing.folder.join(name).join(path)), file.text.as_str()))
    };
    let sources: BTreeMap<String, Source> = tree.files.iter().map(|(path, file)| source(path, file)).collect();
    let text = compared.pairs.iter().map(|pair| comparison::text(pair, [name, "description"], &[Some(&sources), None], false));
    Some(Drift { site: name.clone(), tunnel: tunnel.name.value.clone(), files, text: text.collect::<Vec<_>>().join("\n") })
}
