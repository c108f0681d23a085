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
use std::sync::atomic::{AtomicUsize, Ordering};
use std::sync::mpsc::{SyncSender, sync_channel};
use std::thread::{self, JoinHandle};

use rustix::fs::{CWD, FlockOperation, RenameFlags, flock, renameat_with};
use serde::{Deserialize, Serialize};
use uspan_core::{BuiltTunnel, Finding, Tree, TreeFile, rules};

use crate::failure::Failure;

/// The manifest's name, in the output folder.
pub const MANIFEST: &str = "uspan-manifest.json";

/// What a build wrote. The manifest is readable by its owner only: a checksum of a weak secret is
/// something to guess at.
#[derive(Debug, Default, Deserialize)]
struct Manifest {
    /// Version of this file's form.
    uspan_manifest: u32,
    /// Files by path relative to the output folder.
    files: BTreeMap<Box<str>, Entry>,
}

#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
struct Entry {
    /// Permission bits, octal.
    #[serde(with = "octal")]
    mode: u32,
    /// SHA-256 of the content.
    #[serde(with = "hexadecimal")]
    sha256: [u8; 32],
}

mod octal {
    use serde::de::{Deserialize as _, Deserializer, Error as _};
    use serde::ser::Serializer;

    pub(super) fn serialize<S: Serializer>(mode: &u32, serializer: S) -> Result<S::Ok, S::Error> {
        serializer.collect_str(&format_args!("{mode:04o}"))
    }

    pub(super) fn words<S: Serializer>(mode: &Option<u32>, serializer: S) -> Result<S::Ok, S::Error> {
        match mode {
            Some(mode) => self::serialize(mode, serializer),
            None => serializer.serialize_str(""),
        }
    }

    pub(super) fn deserialize<'d, D: Deserializer<'d>>(deserializer: D) -> Result<u32, D::Error> {
        let text = std::borrow::Cow::<str>::deserialize(deserializer)?;
        u32::from_str_radix(&text, 8).map_err(D::Error::custom)
    }
}

mod hexadecimal {
    use serde::de::{Deserialize as _, Deserializer, Error as _};
    use serde::ser::Serializer;

    pub(super) fn serialize<S: Serializer>(sum: &[u8; 32], serializer: S) -> Result<S::Ok, S::Error> {
        const DIGITS: &[u8; 16] = b"0123456789abcdef";
        let mut text = [0; 64];
        for (at, byte) in sum.iter().enumerate() {
            text[2 * at] = DIGITS[usize::from(byte >> 4)];
            text[2 * at + 1] = DIGITS[usize::from(byte & 15)];
        }
        serializer.serialize_str(std::str::from_utf8(&text).unwrap_or_default())
    }

    pub(super) fn deserialize<'d, D: Deserializer<'d>>(deserializer: D) -> Result<[u8; 32], D::Error> {
        let text = std::borrow::Cow::<str>::deserialize(deserializer)?;
        let mut sum = [0; 32];
        let fits = text.len() == 64 && text.is_ascii();
        for (at, byte) in sum.iter_mut().enumerate().filter(|_| fits) {
            *byte = u8::from_str_radix(&text[2 * at..2 * at + 2], 16).map_err(D::Error::custom)?;
        }
        if fits { Ok(sum) } else { Err(D::Error::custom("not a checksum")) }
    }
}

impl Manifest {
    /// Reads one; nothing if it cannot be understood.
    fn read(path: &Path) -> io::Result<Option<Manifest>> {
        // Piece by piece: of very many files the text alone is as large as what it says.
        match serde_json::from_reader(io::BufReader::new(File::open(path)?)) {
            Err(error) if error.is_io() => Err(error.into()),
            found => Ok(found.ok().filter(|manifest: &Manifest| manifest.uspan_manifest == 1)),
        }
    }
}

/// The files that the manifest of a folder lists; none where there is no manifest.
pub fn listed(output: &Path) -> Vec<String> {
    let manifest = Manifest::read(&output.join(MANIFEST)).ok().flatten();
    manifest.map(|manifest| manifest.files.into_keys().map(String::from).collect()).unwrap_or_default()
}

/// What an earlier build wrote, to find out what is otherwise now.
pub struct Earlier(Manifest);

impl Earlier {
    /// By the manifest of its folder.
    pub fn of(output: &Path) -> Result<Earlier, Failure> {
        let path = output.join(MANIFEST);
        let found = Manifest::read(&path).map_err(Failure::file("cannot read", &path))?;
        found.map(Earlier).ok_or_else(|| Failure::Usage(format!("`{}` is not a manifest of this program", path.display())))
    }

    /// Whether a file was the same.
    pub fn has(&self, path: &str, file: &TreeFile) -> bool {
        self.0.files.get(path) == Some(&Entry { mode: file.mode(), sha256: checksum(file.text.as_bytes()) })
    }

    /// How many files it wrote.
    pub fn count(&self) -> usize {
        self.0.files.len()
    }

    /// Whether it wrote a file at this path.
    pub fn lists(&self, path: &str) -> bool {
        self.0.files.contains_key(path)
    }

    /// Whether a tunnel has other files now; those that it shares with others are theirs, too.
    pub fn lacks(&self, built: &BuiltTunnel, trees: &[Tree; 2]) -> bool {
        let mut own = built.ends.iter().zip(trees).flat_map(|(site, tree)| tree.files.iter().map(move |(path, file)| (site, path, file)));
        own.any(|(site, path, file)| !file.shared && !self.has(&format!("{site}/{path}"), file))
    }
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

impl Change {
    /// In a word.
    pub fn word(self) -> &'static str {
        match self {
            Change::New => "new",
            Change::Changed => "changed",
            Change::Same => "same",
            Change::Removed => "removed",
        }
    }
}

/// A file of the output.
#[derive(Debug, Serialize)]
pub struct Written {
    /// Path relative to the output folder.
    pub path: Box<str>,
    /// Permission bits; nothing where it is removed.
    #[serde(serialize_with = "octal::words")]
    pub mode: Option<u32>,
    /// Size in bytes.
    pub bytes: usize,
    /// What became of it.
    pub change: Change,
}

impl Written {
    /// Its mode in octal digits.
    pub fn mode_words(&self) -> String {
        self.mode.map_or_else(String::new, |mode| format!("{mode:04o}"))
    }
}

/// What came of writing.
pub enum Outcome {
    /// Everything stands.
    Done(Vec<Written>),
    /// Something is in the way; nothing was touched.
    Refused(Vec<Finding>),
}

/// A file that is to stand in the output.
#[derive(Debug)]
pub struct Planned {
    path: Box<str>,
    bytes: usize,
    entry: Entry,
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
    let layout = match Layout::begin(output, manner)? {
        Ok(layout) => layout,
        Err(findings) => return Ok(Outcome::Refused(findings)),
    };
    let (mut planned, mut folders) = (Vec::new(), Folders::default());
    for (site, tree) in trees {
        for (path, file) in &tree.files {
            planned.push(layout.add(format!("{site}/{path}"), file, &mut folders)?);
        }
    }
    layout.finish(planned)
}

/// How the names of folders begin in which outputs are laid out.
const PREFIX: &str = ".uspan-";

/// Removes what builds left behind that were killed: nobody holds it any more.
fn clear_left_behind(parent: &Path) {
    for entry in fs::read_dir(parent).into_iter().flatten().flatten() {
        let ours = entry.file_name().to_string_lossy().starts_with(PREFIX) && entry.file_type().is_ok_and(|kind| kind.is_dir());
        let Some(folder) = ours.then(|| File::open(entry.path()).ok()).flatten() else { continue };
        if flock(&folder, FlockOperation::NonBlockingLockExclusive).is_ok() {
            // What cannot be removed stays; it is in nobody's way.
            let _ = fs::remove_dir_all(entry.path());
        }
    }
}

/// A new output, laid out beside the earlier one until it takes its place.
pub struct Layout {
    output: PathBuf,
    exists: bool,
    manner: Manner,
    standing: Standing,
    /// Where it is laid out; nothing where nothing is to be written.
    staging: Option<tempfile::TempDir>,
    /// Keeps others from taking it for left behind.
    held: Option<File>,
    /// Inside, so that the folder that is swapped in has the mode it should have while the outer one keeps others out.
    fresh: PathBuf,
    /// Whether new files have the modes that they should have, whatever the umask.
    modes_hold: bool,
    flusher: Option<Flusher>,
}

/// Folders of a new output that are there, and whether they were made for whoever asks.
#[derive(Default)]
pub struct Folders(BTreeMap<Box<str>, bool>);

impl Folders {
    /// Whether the folder of a file is not there yet, because one above it was made for whoever asks and it was not.
    fn lack(&self, file: &str) -> bool {
        let mut above = file.rmatch_indices('/').map(|(end, _)| self.0.get(&file[..end]));
        above.next().is_some_and(|folder| folder.is_none()) && above.flatten().next() == Some(&true)
    }

    /// Makes those above a file that are not there yet.
    fn make(&mut self, root: &Path, file: &str) -> io::Result<()> {
        for (end, _) in file.match_indices('/') {
            let folder = &file[..end];
            if self.0.contains_key(folder) {
                continue;
            }
            let made = match DirBuilder::new().mode(0o755).create(root.join(folder)) {
                Ok(()) => true,
                Err(error) if error.kind() == io::ErrorKind::AlreadyExists => false,
                Err(error) => return Err(error),
            };
            self.0.insert(folder.into(), made);
        }
        Ok(())
    }
}

/// Brings what is written to the disk from time to time, beside those who write.
struct Flusher {
    written: AtomicUsize,
    turn: SyncSender<()>,
    thread: JoinHandle<io::Result<()>>,
}

impl Flusher {
    /// After so many files.
    const EACH: usize = 4096;

    fn start(folder: File) -> Flusher {
        let (turn, turns) = sync_channel(1);
        let thread = thread::spawn(move || turns.into_iter().try_for_each(|()| rustix::fs::syncfs(&folder).map_err(io::Error::from)));
        Flusher { written: AtomicUsize::new(0), turn, thread }
    }

    /// One more file.
    fn another(&self) {
        if self.written.fetch_add(1, Ordering::Relaxed) % Flusher::EACH == Flusher::EACH - 1 {
            self.now();
        }
    }

    /// Takes a turn; if it is still at the one before, the next one will do.
    fn now(&self) {
        let _ = self.turn.try_send(());
    }

    /// Whether all went well so far.
    fn finish(self) -> io::Result<()> {
        drop(self.turn);
        self.thread.join().unwrap_or_else(|_| Err(io::Error::other("writing was given up")))
    }
}

impl Layout {
    /// Begins one; or says what is in the way.
    pub fn begin(output: &Path, manner: Manner) -> Result<Result<Layout, Vec<Finding>>, Failure> {
        let exists = match fs::symlink_metadata(output) {
            Ok(meta) if meta.is_dir() => true,
            Ok(meta) if meta.is_symlink() && output.is_dir() => true,
            Ok(_) => {
                let message = format!("`{}` is not a folder", output.display());
                return Ok(Err(vec![Finding::new(&rules::NOT_A_FOLDER, message)]));
            }
            Err(error) if error.kind() == io::ErrorKind::NotFound => false,
            Err(error) => return Err(Failure::file("cannot look at", output)(error)),
        };
        let output = if exists { fs::canonicalize(output).map_err(Failure::file("cannot find", output))? } else { output.to_owned() };
        let standing = if exists { Standing::read(&output)? } else { Standing::default() };
        let mut layout =
            Layout { output, exists, manner, standing, staging: None, held: None, fresh: PathBuf::new(), modes_hold: false, flusher: None };
        if !manner.preview {
            layout.stage()?;
        }
        Ok(Ok(layout))
    }

    fn stage(&mut self) -> Result<(), Failure> {
        let parent = self.parent();
        fs::create_dir_all(&parent).map_err(Failure::file("cannot make the folder", &parent))?;
        let cannot = |path: &Path| Failure::file("the output stands as it was; cannot write", path);
        // Whoever looks for what others left behind does not see one that is not held yet.
        let turn = File::open(&parent).map_err(cannot(&parent))?;
        flock(&turn, FlockOperation::LockExclusive).map_err(|e| cannot(&parent)(e.into()))?;
        clear_left_behind(&parent);
        let staging = tempfile::Builder::new().prefix(PREFIX).tempdir_in(&parent).map_err(cannot(&parent))?;
        let held = File::open(staging.path()).map_err(cannot(staging.path()))?;
        flock(&held, FlockOperation::LockExclusive).map_err(|e| cannot(staging.path())(e.into()))?;
        drop(turn);
        self.held = Some(held);
        let mode = match self.exists {
            true => fs::metadata(&self.output).map_err(cannot(&self.output))?.permissions().mode() & 0o7777,
            false => 0o755,
        };
        self.fresh = staging.path().join("new");
        DirBuilder::new().mode(mode).create(&self.fresh).map_err(cannot(&self.fresh))?;
        fs::set_permissions(&self.fresh, fs::Permissions::from_mode(mode)).map_err(cannot(&self.fresh))?;
        let sample = staging.path().join("sample");
        let file = OpenOptions::new().write(true).create_new(true).mode(0o666).open(&sample).map_err(cannot(&sample))?;
        self.modes_hold = file.metadata().map_err(cannot(&sample))?.permissions().mode() & 0o644 == 0o644;
        self.staging = Some(staging);
        Ok(())
    }

    fn parent(&self) -> PathBuf {
        match self.output.parent() {
            Some(parent) if !parent.as_os_str().is_empty() => parent.to_owned(),
            _ => PathBuf::from("."),
        }
    }

    /// Lays out a file; several at a time may do so. What is known of the folders made so far spares asking for them.
    pub fn add(&self, path: String, file: &TreeFile, folders: &mut Folders) -> Result<Planned, Failure> {
        let entry = Entry { mode: file.mode(), sha256: checksum(file.text.as_bytes()) };
        if self.staging.is_some() {
            self.write_file(&path, file.text.as_bytes(), entry.mode, folders)?;
            if let Some(flusher) = &self.flusher {
                flusher.another();
            }
        }
        Ok(Planned { path: path.into(), bytes: file.text.len(), entry })
    }

    fn write_file(&self, path: &str, content: &[u8], mode: u32, folders: &mut Folders) -> Result<(), Failure> {
        let whole = self.fresh.join(path);
        let cannot = || Failure::file("the output stands as it was; cannot write", &whole);
        let mut how = OpenOptions::new();
        how.write(true).create_new(true).mode(mode);
        if folders.lack(path) {
            folders.make(&self.fresh, path).map_err(cannot())?;
        }
        let mut file = match how.open(&whole) {
            Err(error) if error.kind() == io::ErrorKind::NotFound => {
                folders.make(&self.fresh, path).map_err(cannot())?;
                how.open(&whole).map_err(cannot())?
            }
            opened => opened.map_err(cannot())?,
        };
        file.write_all(content).map_err(cannot())?;
        if self.modes_hold {
            return Ok(());
        }
        // The umask may have taken bits away.
        file.set_permissions(fs::Permissions::from_mode(mode)).map_err(cannot())
    }

    /// Begins to bring to the disk what is laid out while more is: worth it where there is very much.
    pub fn flush_meanwhile(&mut self) -> Result<(), Failure> {
        if self.staging.is_some() {
            let cannot = Failure::file("the output stands as it was; cannot write", &self.fresh);
            self.flusher = Some(Flusher::start(File::open(&self.fresh).map_err(cannot)?));
        }
        Ok(())
    }

    /// Lets it take its place, unless something is in the way or nothing is new.
    pub fn finish(mut self, mut planned: Vec<Planned>) -> Result<Outcome, Failure> {
        planned.sort_unstable_by(|one, other| one.path.cmp(&other.path));
        if !self.manner.replace {
            let findings = self.standing.in_the_way(&planned);
            if !findings.is_empty() {
                return Ok(Outcome::Refused(findings));
            }
        }
        let known = self.exists && self.standing.manifest.is_some();
        let same =
            known && planned.iter().all(|file| self.standing.change(file) == Change::Same) && self.standing.gone(&planned).next().is_none();
        let Some(staging) = self.staging.take().filter(|_| !same) else { return Ok(Outcome::Done(self.standing.changes(planned))) };
        let (output, fresh) = (&self.output, &self.fresh);
        let cannot = |path: &Path| Failure::file("the output stands as it was; cannot write", path);
        // The manifest is written meanwhile.
        self.flusher.iter().for_each(Flusher::now);
        self.write_manifest(&planned)?;
        carry_over(output, fresh, &self.standing, &planned)?;
        if let Some(flusher) = self.flusher.take() {
            flusher.finish().map_err(cannot(fresh))?;
        }
        sync(fresh, planned.len())?;
        let flags = if self.exists { RenameFlags::EXCHANGE } else { RenameFlags::NOREPLACE };
        renameat_with(CWD, fresh, CWD, output, flags).map_err(|e| cannot(output)(e.into()))?;
        // The old output, now in the staging folder, goes with it.
        let beside = staging.path().to_owned();
        staging.close().map_err(Failure::file("the new output stands; cannot remove what was there before, in", &beside))?;
        Ok(Outcome::Done(self.standing.changes(planned)))
    }

    fn write_manifest(&self, planned: &[Planned]) -> Result<(), Failure> {
        struct Files<'a>(&'a [Planned]);
        impl Serialize for Files<'_> {
            fn serialize<S: serde::Serializer>(&self, serializer: S) -> Result<S::Ok, S::Error> {
                serializer.collect_map(self.0.iter().map(|file| (&*file.path, &file.entry)))
            }
        }
        #[derive(Serialize)]
        struct Whole<'a> {
            uspan_manifest: u32,
            files: Files<'a>,
        }
        let path = self.fresh.join(MANIFEST);
        let cannot = || Failure::file("the output stands as it was; cannot write", &path);
        let file = OpenOptions::new().write(true).create_new(true).mode(0o600).open(&path).map_err(cannot())?;
        let mut file = io::BufWriter::new(file);
        let whole = Whole { uspan_manifest: 1, files: Files(planned) };
        serde_json::to_writer_pretty(&mut file, &whole).map_err(|error| cannot()(error.into()))?;
        file.write_all(b"\n").and_then(|()| file.flush()).map_err(cannot())
    }
}

/// What stands in the output folder before a build.
#[derive(Default)]
struct Standing {
    /// Checksums and modes of regular files; nothing for links and other things.
    files: BTreeMap<Box<str>, Option<Entry>>,
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
                self.manifest = Some(Manifest::read(&entry.path()).map_err(cannot(&entry.path()))?);
            } else if meta.is_file() {
                let content = fs::read(entry.path()).map_err(cannot(&entry.path()))?;
                let entry = Entry { mode: meta.permissions().mode() & 0o777, sha256: checksum(&content) };
                self.files.insert(path.into(), Some(entry));
            } else {
                self.files.insert(path.into(), None);
            }
        }
        Ok(())
    }

    fn ours(&self, path: &str) -> Option<&Entry> {
        self.manifest.as_ref()?.as_ref()?.files.get(path)
    }

    fn in_the_way(&self, planned: &[Planned]) -> Vec<Finding> {
        if matches!(self.manifest, Some(None)) {
            return vec![Finding::new(&rules::UNREADABLE_MANIFEST, format!("`{MANIFEST}` is not a manifest of this program"))];
        }
        let mut findings = Vec::new();
        for (path, found) in &self.files {
            let sum = found.as_ref().map(|entry| entry.sha256);
            let wanted = planned_at(planned, path);
            let same = wanted.is_some_and(|wanted| sum == Some(wanted.entry.sha256));
            match self.ours(path) {
                _ if same => {}
                Some(entry) if sum == Some(entry.sha256) => {}
                Some(_) => findings.push(Finding::new(&rules::CHANGED_BY_HAND, format!("`{path}` was changed since the last build"))),
                None if wanted.is_some() => {
                    findings.push(Finding::new(&rules::FOREIGN_FILE, format!("`{path}` is there and was not written by this program")));
                }
                None => {}
            }
        }
        // A folder where a file belongs, or the other way round.
        if self.files.is_empty() && self.folders.is_empty() {
            return findings;
        }
        for Planned { path, .. } in planned {
            let above = path.match_indices('/').map(|(i, _)| &path[..i]).find(|above| self.files.contains_key(*above));
            if self.folders.contains(&**path) || above.is_some() {
                findings.push(Finding::new(&rules::FOREIGN_FILE, format!("`{}` is in the way of `{path}`", above.unwrap_or(path))));
            }
        }
        findings
    }

    /// What becomes of a file.
    fn change(&self, file: &Planned) -> Change {
        match self.files.get(&file.path) {
            None => Change::New,
            Some(Some(entry)) if *entry == file.entry => Change::Same,
            Some(_) => Change::Changed,
        }
    }

    /// What was written before and is not wanted any more.
    fn gone<'a>(&'a self, planned: &'a [Planned]) -> impl Iterator<Item = &'a str> {
        self.files.keys().map(|path| &**path).filter(|path| planned_at(planned, path).is_none() && self.ours(path).is_some())
    }

    fn changes(&self, planned: Vec<Planned>) -> Vec<Written> {
        let gone: Vec<_> =
            self.gone(&planned).map(|path| Written { path: path.into(), mode: None, bytes: 0, change: Change::Removed }).collect();
        let written = planned.into_iter().map(|file| {
            let change = self.change(&file);
            Written { path: file.path, mode: Some(file.entry.mode), bytes: file.bytes, change }
        });
        written.chain(gone).collect()
    }
}

/// What is to stand at a path; the list is sorted.
fn planned_at<'a>(planned: &'a [Planned], path: &str) -> Option<&'a Planned> {
    planned.binary_search_by(|file| (*file.path).cmp(path)).ok().map(|at| &planned[at])
}

/// Takes along what is not ours: by a second link, or by a copy where links are not to be had.
fn carry_over(output: &Path, fresh: &Path, standing: &Standing, planned: &[Planned]) -> Result<(), Failure> {
    let cannot = |path: &Path| Failure::file("the output stands as it was; cannot carry over", path);
    let listed = standing.manifest.iter().flatten().flat_map(|manifest| manifest.files.keys());
    let ours: BTreeSet<&str> = listed.flat_map(|file| file.match_indices('/').map(|(i, _)| &file[..i])).collect();
    for folder in &standing.folders {
        if !ours.contains(folder.as_str()) {
            fs::create_dir_all(fresh.join(folder)).map_err(cannot(&output.join(folder)))?;
        }
    }
    for (path, found) in &standing.files {
        if planned_at(planned, path).is_some() || standing.ours(path).is_some() {
            continue;
        }
        let (from, to) = (output.join(&**path), fresh.join(&**path));
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

fn checksum(content: &[u8]) -> [u8; 32] {
    let mut sum = [0; 32];
    sum.copy_from_slice(ring::digest::digest(&ring::digest::SHA256, content).as_ref());
    sum
}
