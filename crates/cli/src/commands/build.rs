//! `uspan build`.

use std::borrow::Cow;
use std::collections::{BTreeMap, BTreeSet};
use std::path::Path;
use std::sync::atomic::{AtomicBool, Ordering};

use serde::Serialize;
use serde_json::{Value, json};
use uspan_core::{
    Build, Builder, BuiltTunnel, Context, DeliveredFile, Delivery, Description, Finding, PROGRAM, Programs, Site, Source, Tree, TreeFile,
    Tunnel, any_stops, deliveries, with_programs,
};

use super::check::plan_of;
use super::many::BuiltFolder;
use crate::args::{Format, Supply};
use crate::failure::{CommandOutcome, Failure};
use crate::files::input::{self, Input};
use crate::files::output::{self, Earlier, FileChange, Folders, Layout, OutputOutcome, Planned, WriteOptions, Written};
use crate::files::trees;
use crate::fleet::{self, Shared};
use crate::show::changes::{self, Changes};
use crate::show::delivery;
use crate::show::{CARE, GOOD, findings, path_shown, styled};

pub fn run(
    file: &Path,
    supply: &Supply,
    folder: &Path,
    options: WriteOptions,
    since: Option<&Path>,
    format: Format,
) -> Result<CommandOutcome, Failure> {
    let read = input::read(file, supply)?;
    let before = since.map(Earlier::of).transpose()?;
    if read.description.as_ref().is_some_and(fleet::is_fleet) {
        return many(read, folder, options, before.as_ref(), format);
    }
    let (read, mut planned) = plan_of(read, None);
    if any_stops(&planned.findings) {
        return stopped(&planned.findings, &read.source, format);
    }
    let earlier = trees::earlier(folder, &planned);
    // A gateway has what was built for it before, wherever that stands.
    let of_since = since.map(|since| trees::earlier(since, &planned));
    let standing = of_since.as_ref().unwrap_or(&earlier);
    let (mut delivered, mut deliveries) = read.description.as_ref().map_or_else(Default::default, |description| {
        (with_programs(description, &planned.trees), deliveries(description, &planned.tunnels, standing, &planned.trees, &input::context()))
    });
    if let Some(before) = &before {
        // A program knows all files of its gateway, and goes with whatever of them changes.
        let changed = |site: &str, tree: &mut Tree| {
            tree.files.retain(|path, file| path == PROGRAM || !before.has(&format!("{site}/{path}"), file));
            tree.files.iter().any(|(path, file)| path != PROGRAM || !before.has(&format!("{site}/{path}"), file))
        };
        delivered.retain(|site, tree| changed(site, tree));
        deliveries.retain(|delivery| delivered.contains_key(&delivery.site.name.value));
        for (site, tree) in &mut planned.trees {
            tree.files.retain(|path, file| !before.has(&format!("{site}/{path}"), file));
        }
    }
    let written = match output::write(folder, &delivered, options)? {
        OutputOutcome::Done(written) => written,
        OutputOutcome::Refused(mut refused) => {
            refused.splice(0..0, planned.findings);
            return stopped(&refused, &read.source, format);
        }
    };
    let changes = changes(read.description.as_ref(), &earlier, &planned);
    let count = read.description.as_ref().map_or(0, |description| description.tunnels.len());
    if format == Format::Json {
        return told(folder, options, (&changes, &deliveries), findings::json(&planned.findings, &read.source), count, &written);
    }
    findings::print(&planned.findings, &read.source);
    match read.description.as_ref().filter(|_| count > fleet::FEW) {
        Some(description) => print_sum(description, folder, &written)?,
        None => {
            print_files(folder, &written)?;
            super::print_line("")?;
        }
    }
    print_changes(&changes)?;
    let count = counted(&planned.findings);
    if options.preview {
        return previewed(&count);
    }
    print_next(folder, &deliveries)?;
    super::print_line(&format!("{count}. Read back and held against each other."))?;
    Ok(CommandOutcome::Fine)
}

/// Says what became of an output.
fn told(
    folder: &Path,
    options: WriteOptions,
    (changes, deliveries): (&Changes, &[Delivery<'_>]),
    findings: Value,
    count: usize,
    files: &[Written],
) -> Result<CommandOutcome, Failure> {
    /// Written as it is: as a tree it would be as large as everything else together.
    #[derive(Serialize)]
    struct Told<'a> {
        fine: bool,
        preview: bool,
        changes: Value,
        plan: Value,
        findings: Value,
        folder: Cow<'a, str>,
        count: usize,
        files: &'a [Written],
    }
    let (preview, folder) = (options.preview, folder.to_string_lossy());
    super::print_json(&Told {
        fine: true,
        preview,
        changes: changes::json(changes),
        plan: delivery::json(deliveries),
        findings,
        folder,
        count,
        files,
    })?;
    Ok(CommandOutcome::Fine)
}

fn print_changes(changes: &Changes) -> Result<(), Failure> {
    if changes.is_empty() { Ok(()) } else { super::print_line(&format!("{}\n", changes::text(changes))) }
}

/// That it is fine, or how many findings do not stop it.
fn counted(found: &[Finding]) -> String {
    match findings::count(found) {
        count if count.is_empty() => styled(GOOD, "Fine"),
        count => styled(CARE, &count),
    }
}

fn previewed(count: &str) -> Result<CommandOutcome, Failure> {
    let next = "Next: the same without --preview, and take the files up";
    super::print_line(&format!("{count}. Nothing was written. {next}.")).map(|()| CommandOutcome::Fine)
}

/// What a tunnel of many gives to an output.
struct Contribution {
    findings: Vec<Finding>,
    planned: Vec<Planned>,
    shared: Vec<(String, String, TreeFile)>,
    /// All its files, by site, also those that need not be written.
    delivered: Vec<(String, DeliveredFile)>,
    changes: Changes,
}

/// What is needed to make one of many tunnels.
struct TunnelMaking<'a> {
    description: &'a Description,
    builder: &'a Builder<'a>,
    layout: Option<&'a Layout>,
    before: Option<&'a Earlier>,
    sound: bool,
    /// What stands in the folder from earlier.
    standing: BuiltFolder<'a>,
    context: Context,
    /// Whether something stops the whole output.
    broken: &'a AtomicBool,
}

impl TunnelMaking<'_> {
    /// What changes of a tunnel at each end.
    fn changes(&self, tunnel: &Tunnel, built: &BuiltTunnel, trees: &[Tree; 2]) -> Changes {
        if !self.layout.is_some_and(|layout| layout.replaces(built, trees)) {
            return Vec::new();
        }
        let ends = self.description.ends(tunnel).into_iter().zip(trees);
        ends.flat_map(|(site, now)| changes_at(site, &self.standing.tree(&site.name.value, now), now, &self.context)).collect()
    }

    /// Builds a tunnel and puts its files among the output.
    fn tunnel(&self, tunnel: &Tunnel) -> Result<Contribution, Failure> {
        let mut given =
            Contribution { findings: Vec::new(), planned: Vec::new(), shared: Vec::new(), delivered: Vec::new(), changes: Vec::new() };
        let made = match self.builder.tunnel(tunnel, self.sound) {
            Ok(made) => made,
            Err(findings) => {
                self.broken.store(true, Ordering::Relaxed);
                given.findings = findings;
                return Ok(given);
            }
        };
        given.findings = made.findings;
        let Some((built, mut trees)) = made.built else { return Ok(given) };
        given.changes = self.changes(tunnel, &built, &trees);
        for (site, tree) in built.ends.iter().zip(&mut trees) {
            let mut folders = Folders::default();
            given.shared.extend(Shared::split(tree).into_iter().map(|(path, file)| (site.clone(), path, file)));
            for (path, file) in &tree.files {
                given.delivered.push((site.clone(), DeliveredFile::of(path, file)));
                let path = format!("{site}/{path}");
                let same = self.before.is_some_and(|before| before.has(&path, file));
                if let Some(layout) = self.layout.filter(|_| !same && !self.broken.load(Ordering::Relaxed)) {
                    given.planned.push(layout.add(path, file, &mut folders)?);
                }
            }
        }
        Ok(given)
    }
}

/// The same for very many tunnels: each is written as soon as it is built, read back and rehearsed, and let go.
fn many(
    mut read: Input,
    folder: &Path,
    options: WriteOptions,
    before: Option<&Earlier>,
    format: Format,
) -> Result<CommandOutcome, Failure> {
    let Some(description) = &read.description else { return Err(Failure::Usage("there is no description".to_owned())) };
    let builder = Builder::new(description, &read.supplied);
    let mut found = std::mem::take(&mut read.findings);
    found.extend(builder.check());
    let sound = !any_stops(&found);
    // Without files there is nothing to lay out.
    let mut layout = match sound.then(|| Layout::begin(folder, options)).transpose()?.transpose() {
        Ok(layout) => layout,
        Err(refused) => return stopped(&refused, &read.source, format),
    };
    layout.as_mut().map_or(Ok(()), Layout::flush_meanwhile)?;
    let broken = AtomicBool::new(!sound);
    let (standing, context) = (BuiltFolder::in_folder(folder), input::context());
    let making =
        TunnelMaking { description, builder: &builder, layout: layout.as_ref(), before, sound, standing, context, broken: &broken };
    let work = |_, tunnel: &Tunnel| making.tunnel(tunnel);
    let (mut planned, mut shared, mut failed, mut changes) = (Vec::new(), Shared::default(), None, Vec::new());
    let mut delivered: BTreeMap<String, Vec<DeliveredFile>> = BTreeMap::new();
    fleet::each(description, "building tunnels", work, |came| match came {
        Ok(given) => {
            found.extend(given.findings);
            planned.extend(given.planned);
            changes.extend(given.changes);
            given.delivered.into_iter().for_each(|(site, file)| delivered.entry(site).or_default().push(file));
            given.shared.into_iter().for_each(|(site, path, file)| shared.add(site, path, file));
        }
        Err(failure) => {
            broken.store(true, Ordering::Relaxed);
            failed = failed.take().or(Some(failure));
        }
    });
    if let Some(failure) = failed {
        return Err(failure);
    }
    input::relocate(&mut found, &description.source, &read.source);
    uspan_core::in_reading_order(&mut found);
    let Some(layout) = layout.filter(|_| !any_stops(&found)) else { return stopped(&found, &read.source, format) };
    let mut folders = Folders::default();
    for (site, path, file) in shared.finish() {
        delivered.entry(site.clone()).or_default().push(DeliveredFile::of(&path, &file));
        let path = format!("{site}/{path}");
        if before.is_none_or(|before| !before.has(&path, &file)) {
            planned.push(layout.add(path, &file, &mut folders)?);
        }
    }
    add_programs(description, delivered, &layout, before, &mut planned)?;
    let written = match layout.finish(planned)? {
        OutputOutcome::Done(written) => written,
        OutputOutcome::Refused(mut refused) => {
            refused.splice(0..0, found);
            return stopped(&refused, &read.source, format);
        }
    };
    if format == Format::Json {
        return told(folder, options, (&changes, &[]), findings::json(&found, &read.source), description.tunnels.len(), &written);
    }
    findings::print(&found, &read.source);
    print_sum(description, folder, &written)?;
    print_changes(&changes)?;
    let count = counted(&found);
    if options.preview {
        return previewed(&count);
    }
    let next = format!("Next: copy each folder that has changed to its gateway, and run the {PROGRAM} in it as root.");
    super::print_line(&next)?;
    super::print_line(&format!("{count}. Each tunnel read back, held against its other end and rehearsed."))?;
    Ok(CommandOutcome::Fine)
}

/// Puts the programs of gateways among the output.
fn add_programs(
    description: &Description,
    mut delivered: BTreeMap<String, Vec<DeliveredFile>>,
    layout: &Layout,
    before: Option<&Earlier>,
    planned: &mut Vec<Planned>,
) -> Result<(), Failure> {
    let mut folders = Folders::default();
    let changing: BTreeSet<String> = planned.iter().map(|file| file.site().to_owned()).collect();
    let mut programs = Programs::default();
    for site in &description.sites {
        let Some(program) = delivered.remove(&site.name.value).and_then(|files| programs.of(site, files)) else { continue };
        let path = format!("{}/{PROGRAM}", site.name.value);
        // Whatever changes at a gateway comes with its program.
        if before.is_none_or(|before| changing.contains(site.name.value.as_str()) || !before.has(&path, &program)) {
            planned.push(layout.add(path, &program, &mut folders)?);
        }
    }
    Ok(())
}

/// How many files there are, and what became of them.
fn print_sum(description: &Description, folder: &Path, written: &[Written]) -> Result<(), Failure> {
    let count = |change: FileChange| written.iter().filter(|file| file.change == change).count();
    let sites = fleet::gateways(description);
    let bytes: usize = written.iter().map(|file| file.bytes).sum();
    super::print_line(&format!("{} tunnels between {} gateways, in {}", description.tunnels.len(), sites, path_shown(folder)))?;
    let each = [FileChange::New, FileChange::Changed, FileChange::Same, FileChange::Removed].map(|change| (change.word(), count(change)));
    let each: Vec<_> = each.iter().filter(|(_, count)| *count > 0).map(|(word, count)| format!("{count} {word}")).collect();
    super::print_line(&format!("{} files, {} kB: {}\n", written.len(), bytes / 1000, each.join(", ")))
}

/// What changes at each site, by the files that an earlier build left.
fn changes(description: Option<&Description>, earlier: &BTreeMap<String, Tree>, planned: &Build) -> Changes {
    let (mut all, context) = (Vec::new(), input::context());
    for site in description.iter().flat_map(|description| &description.sites) {
        let name = &site.name.value;
        if let (Some(before), Some(now)) = (earlier.get(name), planned.trees.get(name)) {
            all.extend(changes_at(site, before, now, &context));
        }
    }
    all
}

/// What changes at a site.
fn changes_at(site: &Site, before: &Tree, now: &Tree, context: &Context) -> Changes {
    uspan_core::changes(site, before, now, context).into_iter().map(|change| (site.name.value.clone(), change)).collect()
}

fn stopped(found: &[Finding], source: &Source, format: Format) -> Result<CommandOutcome, Failure> {
    let empty = json!({ "preview": false, "changes": [], "plan": [], "folder": null, "count": 0, "files": [] });
    super::stopped(found, source, format, empty, "Nothing was written")
}

/// The files with mode and size, and what became of each.
pub fn print_files(folder: &Path, written: &[Written]) -> Result<(), Failure> {
    for file in written {
        super::print_line(&format!(
            "{:<8} {:>4} {:>7}  {}/{}",
            file.change.word(),
            file.mode_words(),
            file.bytes,
            path_shown(folder),
            file.path
        ))?;
    }
    Ok(())
}

/// Says what to do with the files.
pub fn print_next(folder: &Path, deliveries: &[Delivery<'_>]) -> Result<(), Failure> {
    super::print_line(&format!("{}\n", delivery::text(deliveries, folder)))
}
