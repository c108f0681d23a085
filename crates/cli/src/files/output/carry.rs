//! Carries over what is not ours into a new output: files by a second link, folders with mode, owner, times and what else they have.

use std::fs::{self, DirBuilder, File, FileTimes, Metadata, Permissions};
use std::io;
use std::os::unix::fs::{DirBuilderExt as _, MetadataExt as _, PermissionsExt as _, chown};
use std::path::{Path, PathBuf};

use rustix::fs::{XattrFlags, lgetxattr, llistxattr, lsetxattr};

use super::manifest::MANIFEST;
use super::standing::Standing;
use super::{Planned, planned_at};
use crate::failure::Failure;
use crate::files::reading;

/// The names of further attributes of a folder (access lists are some) have less room than this, and each value too.
const ROOM: usize = 64 << 10;

/// Carries everything over that is neither of the earlier build nor of the new one, and gives folders of both what they had.
pub(super) fn carry_over(output: &Path, fresh: &Path, standing: &Standing, planned: &[Planned]) -> Result<(), Failure> {
    let whole = Carrying { output, fresh, standing, planned };
    if standing.foreign {
        whole.folder(Path::new(""))?;
    }
    // The output itself is the user's.
    whole.like(Path::new(""), false)
}

struct Carrying<'a> {
    output: &'a Path,
    fresh: &'a Path,
    standing: &'a Standing,
    planned: &'a [Planned],
}

impl Carrying<'_> {
    fn cannot(&self, below: &Path) -> impl FnOnce(io::Error) -> Failure + use<> {
        Failure::file("the output stands as it was; cannot carry over", &self.output.join(below))
    }

    fn folder(&self, below: &Path) -> Result<(), Failure> {
        for entry in fs::read_dir(self.output.join(below)).map_err(self.cannot(below))? {
            let entry = entry.map_err(self.cannot(below))?;
            let path = below.join(entry.file_name());
            let name = path.to_str();
            if entry.file_type().map_err(self.cannot(&path))?.is_dir() {
                let ours = name.is_some_and(|name| self.standing.is_ours_above(name));
                // A folder of ours is there again if it is needed.
                if !ours && !self.fresh.join(&path).exists() {
                    DirBuilder::new().mode(0o700).create(self.fresh.join(&path)).map_err(self.cannot(&path))?;
                }
                self.folder(&path)?;
                if self.fresh.join(&path).is_dir() {
                    self.like(&path, !ours)?;
                }
                continue;
            }
            let known = |name: &str| name == MANIFEST || planned_at(self.planned, name).is_some() || self.standing.ours(name).is_some();
            // Where a folder of the new output stands, it was to give way.
            let gives_way = || fs::symlink_metadata(self.fresh.join(&path)).is_ok();
            if !name.is_some_and(known) && !gives_way() {
                self.file(&path)?;
            }
        }
        Ok(())
    }

    fn file(&self, path: &Path) -> Result<(), Failure> {
        // Folders of ours on the way to it.
        let mut missing: Vec<PathBuf> = Vec::new();
        let mut above = path.parent();
        while let Some(folder) = above.filter(|folder| !self.fresh.join(folder).exists()) {
            missing.push(folder.to_owned());
            above = folder.parent();
        }
        for folder in missing.iter().rev() {
            DirBuilder::new().mode(0o700).create(self.fresh.join(folder)).map_err(self.cannot(folder))?;
            self.like(folder, false)?;
        }
        let (from, to) = (self.output.join(path), self.fresh.join(path));
        let Err(refused) = fs::hard_link(&from, &to) else { return Ok(()) };
        let meta = fs::symlink_metadata(&from).map_err(self.cannot(path))?;
        if !meta.is_file() {
            return Err(self.cannot(path)(refused));
        }
        // Where links are not to be had, or to files of others.
        fs::copy(&from, &to).map_err(self.cannot(path))?;
        self.owned_like(&meta, path)?;
        reading::open(&to).and_then(|file| timed_like(&meta, &file)).map_err(self.cannot(path))
    }

    /// Gives a folder mode, owner and further attributes of the one that stands; and its times, if it is not ours.
    fn like(&self, path: &Path, times: bool) -> Result<(), Failure> {
        let (from, to) = (self.output.join(path), self.fresh.join(path));
        let cannot = || self.cannot(path);
        let meta = fs::metadata(&from).map_err(cannot())?;
        self.owned_like(&meta, path)?;
        attributes(&from, &to).map_err(cannot())?;
        fs::set_permissions(&to, Permissions::from_mode(meta.mode() & 0o7777)).map_err(cannot())?;
        match times {
            true => reading::folder(&to).and_then(|folder| timed_like(&meta, &folder)).map_err(cannot()),
            false => Ok(()),
        }
    }

    fn owned_like(&self, meta: &Metadata, path: &Path) -> Result<(), Failure> {
        let to = self.fresh.join(path);
        let now = fs::symlink_metadata(&to).map_err(self.cannot(path))?;
        if (now.uid(), now.gid()) == (meta.uid(), meta.gid()) {
            return Ok(());
        }
        chown(&to, Some(meta.uid()), Some(meta.gid())).map_err(self.cannot(path))
    }
}

/// Gives a file or a folder the times of another.
fn timed_like(meta: &Metadata, handle: &File) -> io::Result<()> {
    match (meta.accessed(), meta.modified()) {
        (Ok(accessed), Ok(modified)) => handle.set_times(FileTimes::new().set_accessed(accessed).set_modified(modified)),
        _ => Ok(()),
    }
}

/// Copies what else a folder has, such as access lists (acl(5)).
fn attributes(from: &Path, to: &Path) -> io::Result<()> {
    let mut names = vec![0; ROOM];
    let length = match llistxattr(from, &mut names[..]) {
        Err(rustix::io::Errno::NOTSUP) => return Ok(()),
        listed => listed?,
    };
    let mut value = vec![0; ROOM];
    for name in names[..length].split(|byte| *byte == 0).filter(|name| !name.is_empty()) {
        let size = lgetxattr(from, name, &mut value[..])?;
        match lsetxattr(to, name, &value[..size], XattrFlags::empty()) {
            // Those of the system are its own affair.
            Err(rustix::io::Errno::NOTSUP | rustix::io::Errno::PERM) if !name.starts_with(b"system.posix_acl") => {}
            set => set?,
        }
    }
    Ok(())
}
