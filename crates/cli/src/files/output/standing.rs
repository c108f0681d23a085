//! What stands in an output folder before a build.

use std::collections::{BTreeMap, BTreeSet};
use std::fs;
use std::io;
use std::os::unix::fs::MetadataExt as _;
use std::path::Path;

use uspan_core::{BuiltTunnel, Finding, Tree, rules, shown};

use super::manifest::{self, Entry, MANIFEST, Manifest};
use super::{FileChange, Planned, Written, planned_at};
use crate::failure::Failure;
use crate::files::single::odd_kind;

/// Something that is no folder.
#[derive(Clone, Copy, Debug)]
enum Thing {
    /// A file of the earlier build, or one where a new one is to stand; nothing where it is too large to be ours.
    Known(Option<Entry>),
    /// A file that nobody asks about.
    Foreign,
    /// A link, a pipe, a socket, a device.
    Odd(&'static str),
}

/// The manifest, as far as it can be used.
enum FoundFile {
    None,
    Read(Manifest),
    /// It cannot be understood.
    Unclear,
    /// Something else stands there.
    Odd(&'static str),
}

/// What stands in the output folder before a build.
pub(super) struct Standing {
    things: BTreeMap<Box<str>, Thing>,
    manifest: FoundFile,
    folders: BTreeSet<Box<str>>,
    /// Whether something is to be carried over that is not ours, or a folder with a mode or an owner of its own.
    pub(super) foreign: bool,
}

impl Standing {
    /// Whether a tunnel had other files in an earlier output.
    pub(super) fn lacks(&self, built: &BuiltTunnel, trees: &[Tree; 2]) -> bool {
        matches!(&self.manifest, FoundFile::Read(manifest) if manifest.lacks(built, trees))
    }

    /// Nothing.
    pub(super) fn empty() -> Standing {
        Standing { things: BTreeMap::new(), manifest: FoundFile::None, folders: BTreeSet::new(), foreign: false }
    }

    /// Looks through a folder. Files that are neither ours nor asked for are not read.
    pub(super) fn read(output: &Path) -> Result<Standing, Failure> {
        let mut standing = Standing::empty();
        let path = output.join(MANIFEST);
        let cannot = |error| Failure::file("cannot read", &path)(error);
        standing.manifest = match fs::symlink_metadata(&path) {
            Err(error) if error.kind() == io::ErrorKind::NotFound => FoundFile::None,
            Err(error) => return Err(cannot(error)),
            Ok(meta) => match odd_kind(meta.file_type()) {
                Some(kind) => FoundFile::Odd(kind),
                None => Manifest::read(&path).map_err(cannot)?.map_or(FoundFile::Unclear, FoundFile::Read),
            },
        };
        standing.walk(output, "")?;
        Ok(standing)
    }

    fn walk(&mut self, root: &Path, below: &str) -> Result<(), Failure> {
        let folder = root.join(below);
        let cannot = |path: &Path| Failure::file("cannot read", path);
        let me = (rustix::process::geteuid().as_raw(), rustix::process::getegid().as_raw());
        for entry in fs::read_dir(&folder).map_err(cannot(&folder))? {
            let entry = entry.map_err(cannot(&folder))?;
            let name = entry.file_name();
            // Nothing of ours has a name that is no text: it is carried over as it is.
            let Some(name) = name.to_str() else {
                self.foreign = true;
                continue;
            };
            let path = if below.is_empty() { name.to_owned() } else { format!("{below}/{name}") };
            let meta = entry.metadata().map_err(cannot(&entry.path()))?;
            if meta.is_dir() {
                self.walk(root, &path)?;
                let ours = self.is_ours_above(&path);
                self.foreign |= !ours || meta.mode() & 0o7777 != 0o755 || (meta.uid(), meta.gid()) != me;
                self.folders.insert(path.into());
                continue;
            }
            if path == MANIFEST && meta.is_file() {
                continue;
            }
            let thing = match odd_kind(meta.file_type()) {
                Some(kind) => Thing::Odd(kind),
                None if self.ours(&path).is_some() => Thing::Known(manifest::entry(&entry.path()).map_err(cannot(&entry.path()))?),
                None => Thing::Foreign,
            };
            self.foreign |= self.ours(&path).is_none();
            self.things.insert(path.into(), thing);
        }
        Ok(())
    }

    /// Reads the files that stand where new ones are to stand, too.
    pub(super) fn meet(&mut self, root: &Path, planned: &[Planned]) -> Result<(), Failure> {
        for (path, thing) in self.things.iter_mut().filter(|(_, thing)| matches!(thing, Thing::Foreign)) {
            if planned_at(planned, path).is_some() {
                let whole = root.join(&**path);
                *thing = Thing::Known(manifest::entry(&whole).map_err(Failure::file("cannot read", &whole))?);
            }
        }
        Ok(())
    }

    /// Whether a build wrote here that can be told from the rest.
    pub(super) fn is_built(&self) -> bool {
        matches!(self.manifest, FoundFile::Read(_))
    }

    /// What the earlier build wrote at a path.
    pub(super) fn ours(&self, path: &str) -> Option<&Entry> {
        match &self.manifest {
            FoundFile::Read(manifest) => manifest.files.get(path),
            _ => None,
        }
    }

    /// Whether the earlier build wrote below a folder.
    pub(super) fn is_ours_above(&self, folder: &str) -> bool {
        matches!(&self.manifest, FoundFile::Read(manifest) if manifest.has_below(folder))
    }

    /// What keeps a new output from taking its place; `replace` lets everything give way but folders.
    pub(super) fn in_the_way(&self, planned: &[Planned], replace: bool) -> Vec<Finding> {
        let mut findings = Vec::new();
        let unclear = |what: String, remedy: &str| vec![Finding::new(&rules::UNREADABLE_MANIFEST, what).remedy(remedy)];
        match &self.manifest {
            FoundFile::Odd("a folder") => {
                return unclear(format!("`{MANIFEST}` is a folder"), "Move it away; `--replace` does not remove folders.");
            }
            FoundFile::Odd(kind) if !replace => {
                return unclear(format!("`{MANIFEST}` is {kind}"), "Move it away, or say `--replace`, which replaces it by a file.");
            }
            FoundFile::Unclear if !replace => {
                return unclear(format!("`{MANIFEST}` is not a manifest of this program"), rules::UNREADABLE_MANIFEST.remedy);
            }
            _ => {}
        }
        for (path, thing) in self.things.iter().filter(|_| !replace) {
            let sum = match thing {
                Thing::Known(entry) => entry.as_ref().map(|entry| entry.sha256),
                Thing::Foreign | Thing::Odd(_) => None,
            };
            let wanted = planned_at(planned, path);
            let same = wanted.is_some_and(|wanted| sum == Some(wanted.entry.sha256));
            let shown = shown(path);
            match self.ours(path) {
                _ if same => {}
                Some(entry) if sum == Some(entry.sha256) => {}
                Some(_) => findings.push(Finding::new(&rules::CHANGED_BY_HAND, format!("`{shown}` was changed since the last build"))),
                None if wanted.is_some() => {
                    let what = match thing {
                        Thing::Odd(kind) => format!("`{shown}` is {kind}, and was not made by this program"),
                        Thing::Known(_) | Thing::Foreign => format!("`{shown}` is there and was not written by this program"),
                    };
                    findings.push(Finding::new(&rules::FOREIGN_FILE, what));
                }
                None => {}
            }
        }
        // A folder where a file belongs, or the other way round.
        if self.things.is_empty() && self.folders.is_empty() {
            return findings;
        }
        for Planned { path, .. } in planned {
            let above = path.match_indices('/').map(|(i, _)| &path[..i]).find(|above| self.things.contains_key(*above));
            match above {
                Some(above) if !replace => {
                    let message = format!("`{}` is in the way of `{path}`", shown(above));
                    findings.push(Finding::new(&rules::FOREIGN_FILE, message));
                }
                // With all that is in it, which nobody was asked about.
                None if self.folders.contains(path) => findings.push(
                    Finding::new(&rules::FOREIGN_FILE, format!("`{path}` is a folder, where a file is to stand"))
                        .remedy("Move it away, or choose another folder; `--replace` does not remove folders."),
                ),
                _ => {}
            }
        }
        findings
    }

    /// What becomes of a file.
    pub(super) fn change(&self, file: &Planned) -> FileChange {
        match self.things.get(&file.path) {
            None => FileChange::New,
            Some(Thing::Known(Some(entry))) if *entry == file.entry => FileChange::Same,
            Some(_) => FileChange::Changed,
        }
    }

    /// What was written before and is not wanted any more.
    pub(super) fn gone<'a>(&'a self, planned: &'a [Planned]) -> impl Iterator<Item = &'a str> {
        self.things.keys().map(|path| &**path).filter(|path| planned_at(planned, path).is_none() && self.ours(path).is_some())
    }

    /// What becomes of everything that is ours.
    pub(super) fn changes(&self, planned: Vec<Planned>) -> Vec<Written> {
        let gone: Vec<_> =
            self.gone(&planned).map(|path| Written { path: path.into(), mode: None, bytes: 0, change: FileChange::Removed }).collect();
        let written = planned.into_iter().map(|file| {
            let change = self.change(&file);
            Written { path: file.path, mode: Some(file.entry.mode), bytes: file.bytes, change }
        });
        written.chain(gone).collect()
    }
}
