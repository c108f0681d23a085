//! Writes trees of files, all or none.
//!
//! The new output is laid out beside the old one and takes its place in one step (`renameat2` with
//! `RENAME_EXCHANGE`), so that at any moment either the earlier output stands whole or the new one.
//! A manifest tells the program's own files from everybody else's: what it did not write, or what
//! was changed since, is not overwritten unless the user says so.

use std::collections::{BTreeMap, BTreeSet};
use std::fs::{self, DirBuilder, File, OpenOptions};
use std::io::{self, Write as _};
use std::os::unix::fs::{DirBuilderExt as _, OpenOptionsExt as _, PermissionsExt as _};
use std::path::{Path, PathBuf};

use rustix::fs::{CWD, RenameFlags, renameat_with};
use serde::{Deserialize, Serialize};
use sha2::{Digest, Sha256};
use uspan_core::{Finding, Tree, rules};

use crate::failure::Failure;
use crate::show::progress::Progress;

/// The manifest's name, in the output folder.
pub const MANIFEST: &str = "uspan-manifest.json";

/// What a build wrote. The manifest is readable by its owner only: a checksum of a weak secret is
/// something to guess at.
#[derive(Debug, Default, Serialize, Deserialize)]
struct Manifest {
    /// Version of this file's form.
    uspan_manifest: u32,
    /// Files by path relative to the output folder.
    files: BTreeMap<String, Entry>,
}

#[derive(Clone, Debug, Serialize, Deserialize)]
struct Entry {
    /// Permission bits, octal.
    mode: String,
    /// SHA-256 of the content.
    sha256: String,
}

impl Manifest {
    /// Reads one; nothing if it cannot be understood.
    fn read(text: &[u8]) -> Option<Manifest> {
        serde_json::from_slice(text).ok().filter(|manifest: &Manifest| manifest.uspan_manifest == 1)
    }
}

/// The files that the manifest of a folder lists; none where there is no manifest.
pub fn listed(output: &Path) -> Vec<String> {
    let manifest = fs::read(output.join(MANIFEST)).ok().and_then(|text| Manifest::read(&text));
    manifest.map(|manifest| manifest.files.into_keys().collect()).unwrap_or_default()
}

/// What became of a file.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize)]
#[serde(rename_all = "lowercase")]
pub enum Change {
    /// It was not there.
    New,
    /// Its content is another one.
    Changed,
    /// It stays as it was.
    Same,
    /// The description no longer asks for it.
    Removed,
}

/// A file of the output.
#[derive(Debug, Serialize)]
pub struct Written {
    /// Path relative to the output folder.
    pub path: String,
    /// Permission bits, octal.
    pub mode: String,
    /// Size in bytes.
    pub bytes: usize,
    /// What became of it.
    pub change: Change,
}

/// What came of writing.
pub enum Outcome {
    /// Everything stands.
    Done(Vec<Written>),
    /// Something is in the way; nothing was touched.
    Refused(Vec<Finding>),
}

struct Planned<'a> {
    text: &'a str,
    mode: u32,
    sha256: String,
}

/// How to write.
#[derive(Clone, Copy, Debug, Default)]
pub struct Manner {
    /// Overwrite what is not ours, or was changed since.
    pub replace: bool,
    /// Only say what would be written.
    pub preview: bool,
}

/// Writes the trees, a folder for each site.
pub fn write(output: &Path, trees: &BTreeMap<String, Tree>, manner: Manner) -> Result<Outcome, Failure> {
    let mut planned = BTreeMap::new();
    for (site, tree) in trees {
        for (path, file) in &tree.files {
            let entry = Planned { text: &file.text, mode: file.mode(), sha256: checksum(file.text.as_bytes()) };
            planned.insert(format!("{site}/{path}"), entry);
        }
    }
    let exists = match fs::symlink_metadata(output) {
        Ok(meta) if meta.is_dir() => true,
        Ok(meta) if meta.is_symlink() && output.is_dir() => true,
        Ok(_) => {
            let message = format!("`{}` is not a folder", output.display());
            return Ok(Outcome::Refused(vec![Finding::new(&rules::NOT_A_FOLDER, message)]));
        }
        Err(error) if error.kind() == io::ErrorKind::NotFound => false,
        Err(error) => return Err(Failure::file("cannot look at", output)(error)),
    };
    let standing = match exists {
        true => Standing::read(output)?,
        false => Standing::default(),
    };
    if !manner.replace {
        let findings = standing.in_the_way(&planned);
        if !findings.is_empty() {
            return Ok(Outcome::Refused(findings));
        }
    }
    let written = standing.changes(&planned);
    let same = exists && standing.manifest.is_some() && written.iter().all(|file| file.change == Change::Same);
    if manner.preview || same {
        return Ok(Outcome::Done(written));
    }
    replace_folder(output, exists, &standing, &planned)?;
    Ok(Outcome::Done(written))
}

/// What stands in the output folder before a build.
#[derive(Default)]
struct Standing {
    /// Checksums and modes of regular files; nothing for links and other things.
    files: BTreeMap<String, Option<(String, u32)>>,
    /// The manifest, if there is one; nothing in it if it cannot be understood.
    manifest: Option<Option<Manifest>>,
    folders: BTreeSet<String>,
}

impl Standing {
    fn read(output: &Path) -> Result<Standing, Failure> {
        let mut standing = Standing::default();
        standing.walk(output, "")?;
        Ok(standing)
    }

    fn walk(&mut self, root: &Path, below: &str) -> Result<(), Failure> {
        let folder = root.join(below);
        let cannot = |path: &Path| Failure::file("cannot read", path);
        for entry in fs::read_dir(&folder).map_err(cannot(&folder))? {
            let entry = entry.map_err(cannot(&folder))?;
            let name = entry.file_name().to_string_lossy().into_owned();
            let path = if below.is_empty() { name } else { format!("{below}/{name}") };
            let meta = entry.metadata().map_err(cannot(&entry.path()))?;
            if meta.is_dir() {
                self.walk(root, &path)?;
                self.folders.insert(path);
            } else if path == MANIFEST && meta.is_file() {
                let text = fs::read(entry.path()).map_err(cannot(&entry.path()))?;
                self.manifest = Some(Manifest::read(&text));
            } else if meta.is_file() {
                let content = fs::read(entry.path()).map_err(cannot(&entry.path()))?;
                self.files.insert(path, Some((checksum(&content), meta.permissions().mode() & 0o777)));
            } else {
                self.files.insert(path, None);
            }
        }
        Ok(())
    }

    fn ours(&self, path: &str) -> Option<&Entry> {
        self.manifest.as_ref()?.as_ref()?.files.get(path)
    }

    fn in_the_way(&self, planned: &BTreeMap<String, Planned<'_>>) -> Vec<Finding> {
        if matches!(self.manifest, Some(None)) {
            return vec![Finding::new(&rules::UNREADABLE_MANIFEST, format!("`{MANIFEST}` is not a manifest of this program"))];
        }
        let mut findings = Vec::new();
        for (path, found) in &self.files {
            let sum = found.as_ref().map(|(sum, _)| sum.as_str());
            let wanted = planned.get(path);
            let same = wanted.is_some_and(|wanted| sum == Some(wanted.sha256.as_str()));
            match self.ours(path) {
                _ if same => {}
                Some(entry) if sum == Some(entry.sha256.as_str()) => {}
                Some(_) => findings.push(Finding::new(&rules::CHANGED_BY_HAND, format!("`{path}` was changed since the last build"))),
                None if wanted.is_some() => {
                    findings.push(Finding::new(&rules::FOREIGN_FILE, format!("`{path}` is there and was not written by this program")));
                }
                None => {}
            }
        }
        // A folder where a file belongs, or the other way round.
        for path in planned.keys() {
            let above = path.match_indices('/').map(|(i, _)| &path[..i]).find(|above| self.files.contains_key(*above));
            if self.folders.contains(path) || above.is_some() {
                findings.push(Finding::new(&rules::FOREIGN_FILE, format!("`{}` is in the way of `{path}`", above.unwrap_or(path))));
            }
        }
        findings
    }

    fn changes(&self, planned: &BTreeMap<String, Planned<'_>>) -> Vec<Written> {
        let mut written: Vec<_> = planned
            .iter()
            .map(|(path, wanted)| {
                let change = match self.files.get(path) {
                    None => Change::New,
                    Some(Some((sum, mode))) if *sum == wanted.sha256 && *mode == wanted.mode => Change::Same,
                    Some(_) => Change::Changed,
                };
                Written { path: path.clone(), mode: format!("{:04o}", wanted.mode), bytes: wanted.text.len(), change }
            })
            .collect();
        let gone = self.files.keys().filter(|path| !planned.contains_key(*path) && self.ours(path).is_some());
        written.extend(gone.map(|path| Written { path: path.clone(), mode: String::new(), bytes: 0, change: Change::Removed }));
        written
    }
}

/// Lays out the new folder beside the old one and swaps them.
fn replace_folder(output: &Path, exists: bool, standing: &Standing, planned: &BTreeMap<String, Planned<'_>>) -> Result<(), Failure> {
    let output = if exists { fs::canonicalize(output).map_err(Failure::file("cannot find", output))? } else { output.to_owned() };
    let parent = match output.parent() {
        Some(parent) if !parent.as_os_str().is_empty() => parent.to_owned(),
        _ => PathBuf::from("."),
    };
    fs::create_dir_all(&parent).map_err(Failure::file("cannot make the folder", &parent))?;
    let cannot = |path: &Path| Failure::file("the output stands as it was; cannot write", path);
    let staging = tempfile::Builder::new().prefix(".uspan-").tempdir_in(&parent).map_err(cannot(&parent))?;
    let mode = if exists { fs::metadata(&output).map_err(cannot(&output))?.permissions().mode() & 0o7777 } else { 0o755 };
    // Inside, so that the folder that is swapped in has the mode it should have while the outer one keeps others out.
    let fresh = staging.path().join("new");
    DirBuilder::new().mode(mode).create(&fresh).map_err(cannot(&fresh))?;
    fs::set_permissions(&fresh, fs::Permissions::from_mode(mode)).map_err(cannot(&fresh))?;
    let progress = Progress::new("writing files", planned.len());
    for (path, file) in planned {
        progress.step();
        write_file(&fresh.join(path), file.text.as_bytes(), file.mode)?;
    }
    let files =
        planned.iter().map(|(path, file)| (path.clone(), Entry { mode: format!("{:04o}", file.mode), sha256: file.sha256.clone() }));
    let manifest = Manifest { uspan_manifest: 1, files: files.collect() };
    let mut text = serde_json::to_string_pretty(&manifest).map_err(|e| cannot(&output)(e.into()))?;
    text.push('\n');
    write_file(&fresh.join(MANIFEST), text.as_bytes(), 0o600)?;
    carry_over(&output, &fresh, standing, planned)?;
    sync(&fresh, planned.len())?;
    let flags = if exists { RenameFlags::EXCHANGE } else { RenameFlags::NOREPLACE };
    renameat_with(CWD, &fresh, CWD, &output, flags).map_err(|e| cannot(&output)(e.into()))?;
    // The old output, now in the staging folder, goes with it.
    staging.close().map_err(cannot(&parent))
}

/// Takes along what is not ours: by a second link, or by a copy where links are not to be had.
fn carry_over(output: &Path, fresh: &Path, standing: &Standing, planned: &BTreeMap<String, Planned<'_>>) -> Result<(), Failure> {
    let cannot = |path: &Path| Failure::file("the output stands as it was; cannot carry over", path);
    let listed = standing.manifest.iter().flatten().flat_map(|manifest| manifest.files.keys());
    let ours: BTreeSet<&str> = listed.flat_map(|file| file.match_indices('/').map(|(i, _)| &file[..i])).collect();
    for folder in &standing.folders {
        if !ours.contains(folder.as_str()) {
            fs::create_dir_all(fresh.join(folder)).map_err(cannot(&output.join(folder)))?;
        }
    }
    for (path, found) in &standing.files {
        if planned.contains_key(path) || standing.ours(path).is_some() {
            continue;
        }
        let (from, to) = (output.join(path), fresh.join(path));
        if let Some(folder) = to.parent() {
            fs::create_dir_all(folder).map_err(cannot(&from))?;
        }
        let linked = fs::hard_link(&from, &to);
        if let (Err(error), Some(_)) = (&linked, found) {
            fs::copy(&from, &to).map_err(|_| cannot(&from)(io::Error::new(error.kind(), error.to_string())))?;
        } else {
            linked.map_err(cannot(&from))?;
        }
    }
    Ok(())
}

fn write_file(path: &Path, content: &[u8], mode: u32) -> Result<(), Failure> {
    let cannot = || Failure::file("the output stands as it was; cannot write", path);
    let folder = path.parent().unwrap_or(Path::new("."));
    if !folder.exists() {
        DirBuilder::new().recursive(true).mode(0o755).create(folder).map_err(cannot())?;
    }
    let mut file = OpenOptions::new().write(true).create_new(true).mode(mode).open(path).map_err(cannot())?;
    file.write_all(content).map_err(cannot())?;
    // The umask may have taken bits away.
    file.set_permissions(fs::Permissions::from_mode(mode)).map_err(cannot())
}

/// Makes sure that the files are on the disk before the folder takes its place.
fn sync(folder: &Path, files: usize) -> Result<(), Failure> {
    let cannot = || Failure::file("the output stands as it was; cannot write", folder);
    if files > 64 {
        let handle = File::open(folder).map_err(cannot())?;
        return rustix::fs::syncfs(&handle).map_err(|e| cannot()(e.into()));
    }
    let mut open = vec![folder.to_owned()];
    while let Some(path) = open.pop() {
        for entry in fs::read_dir(&path).map_err(cannot())? {
            let entry = entry.map_err(cannot())?;
            let kind = entry.file_type().map_err(cannot())?;
            if kind.is_dir() {
                open.push(entry.path());
            } else if kind.is_file() {
                File::open(entry.path()).and_then(|file| file.sync_all()).map_err(cannot())?;
            }
        }
        File::open(&path).and_then(|folder| folder.sync_all()).map_err(cannot())?;
    }
    Ok(())
}

fn checksum(content: &[u8]) -> String {
    use std::fmt::Write as _;
    Sha256::digest(content).iter().fold(String::with_capacity(64), |mut hex, byte| {
        let _ = write!(hex, "{byte:02x}");
        hex
    })
}
