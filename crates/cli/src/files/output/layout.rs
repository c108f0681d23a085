//! A new output, laid out beside the earlier one until it takes its place.

use std::collections::BTreeMap;
use std::fs::{self, DirBuilder, File, OpenOptions};
use std::io::{self, Write as _};
use std::os::unix::fs::{DirBuilderExt as _, OpenOptionsExt as _, PermissionsExt as _};
use std::path::{Path, PathBuf};
use std::sync::atomic::{AtomicUsize, Ordering};
use std::sync::mpsc::{SyncSender, sync_channel};
use std::thread::{self, JoinHandle};

use rustix::fs::{CWD, RenameFlags, renameat_with};
use serde::Serialize;
use uspan_core::{BuiltTunnel, Finding, Tree, TreeFile, rules};

use super::carry::carry_over;
use super::manifest::{Entry, MANIFEST, checksum};
use super::standing::Standing;
use super::{FileChange, OutputOutcome, Planned, WriteOptions};
use crate::failure::Failure;
use crate::files::reading;
use crate::files::staging::{self, Staging};
use crate::show::path_shown;

/// A new output, laid out beside the earlier one until it takes its place.
pub struct Layout {
    output: PathBuf,
    exists: bool,
    options: WriteOptions,
    standing: Standing,
    /// Where it is laid out; nothing where nothing is to be written.
    staging: Option<Staging>,
    /// Keeps other runs from writing into the same output.
    alone: Option<File>,
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
    fn make(&mut self, root: &Path, file: &str, modes_hold: bool) -> io::Result<()> {
        for (end, _) in file.match_indices('/') {
            let folder = &file[..end];
            if self.0.contains_key(folder) {
                continue;
            }
            let made = match DirBuilder::new().mode(0o755).create(root.join(folder)) {
                Ok(()) if modes_hold => true,
                Ok(()) => {
                    fs::set_permissions(root.join(folder), fs::Permissions::from_mode(0o755))?;
                    true
                }
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
    ///
    /// # Errors
    /// What the system says; that another run writes there.
    pub fn begin(output: &Path, options: WriteOptions) -> Result<Result<Layout, Vec<Finding>>, Failure> {
        let exists = match fs::symlink_metadata(output) {
            Ok(meta) if meta.is_dir() => true,
            Ok(meta) if meta.is_symlink() && output.is_dir() => true,
            Ok(_) => {
                let message = format!("`{}` is not a folder", path_shown(output));
                return Ok(Err(vec![Finding::new(&rules::NOT_A_FOLDER, message)]));
            }
            Err(error) if error.kind() == io::ErrorKind::NotFound => false,
            Err(error) => return Err(Failure::file("cannot look at", output)(error)),
        };
        let output = if exists { fs::canonicalize(output).map_err(Failure::file("cannot find", output))? } else { output.to_owned() };
        let alone = (exists && !options.preview).then(|| staging::alone(&output)).transpose()?;
        let standing = if exists { Standing::read(&output)? } else { Standing::empty() };
        let mut layout =
            Layout { output, exists, options, standing, staging: None, alone, fresh: PathBuf::new(), modes_hold: false, flusher: None };
        if !options.preview {
            layout.stage()?;
        }
        Ok(Ok(layout))
    }

    fn stage(&mut self) -> Result<(), Failure> {
        let parent = self.parent();
        fs::create_dir_all(&parent).map_err(Failure::file("cannot make the folder", &parent))?;
        let cannot = |path: &Path| Failure::file("the output stands as it was; cannot write", path);
        let staging = Staging::begin(&parent).map_err(cannot(&parent))?;
        self.fresh = staging.path().join("new");
        // Its mode, when it stands already, it gets at the end.
        DirBuilder::new().mode(0o755).create(&self.fresh).map_err(cannot(&self.fresh))?;
        let held = |path: &Path, mode: u32| fs::metadata(path).map(|meta| meta.permissions().mode() & mode == mode);
        let sample = staging.path().join("sample");
        OpenOptions::new().write(true).create_new(true).mode(0o666).open(&sample).map_err(cannot(&sample))?;
        self.modes_hold = held(&sample, 0o644).map_err(cannot(&sample))? && held(&self.fresh, 0o755).map_err(cannot(&self.fresh))?;
        fs::set_permissions(&self.fresh, fs::Permissions::from_mode(0o755)).map_err(cannot(&self.fresh))?;
        self.staging = Some(staging);
        Ok(())
    }

    fn parent(&self) -> PathBuf {
        match self.output.parent() {
            Some(parent) if !parent.as_os_str().is_empty() => parent.to_owned(),
            _ => PathBuf::from("."),
        }
    }

    /// Whether an earlier output stands there, in which a tunnel has other files.
    pub fn replaces(&self, built: &BuiltTunnel, trees: &[Tree; 2]) -> bool {
        self.standing.lacks(built, trees)
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
        let (whole, target) = (self.fresh.join(path), self.output.join(path));
        // What is told is where it was to stand.
        let cannot = || Failure::file("the output stands as it was; cannot write", &target);
        let mut how = OpenOptions::new();
        how.write(true).create_new(true).mode(mode);
        if folders.lack(path) {
            folders.make(&self.fresh, path, self.modes_hold).map_err(cannot())?;
        }
        let mut file = match how.open(&whole) {
            Err(error) if error.kind() == io::ErrorKind::NotFound => {
                folders.make(&self.fresh, path, self.modes_hold).map_err(cannot())?;
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
            self.flusher = Some(Flusher::start(reading::folder(&self.fresh).map_err(cannot)?));
        }
        Ok(())
    }

    /// Lets it take its place, unless something is in the way or nothing is new.
    ///
    /// # Errors
    /// What the system says.
    pub fn finish(mut self, mut planned: Vec<Planned>) -> Result<OutputOutcome, Failure> {
        planned.sort_unstable_by(|one, other| one.path.cmp(&other.path));
        self.standing.meet(&self.output, &planned)?;
        let findings = self.standing.in_the_way(&planned, self.options.replace);
        if !findings.is_empty() {
            return Ok(OutputOutcome::Refused(findings));
        }
        let known = self.exists && self.standing.is_built();
        let same = known
            && planned.iter().all(|file| self.standing.change(file) == FileChange::Same)
            && self.standing.gone(&planned).next().is_none();
        let Some(staging) = self.staging.take().filter(|_| !same) else { return Ok(OutputOutcome::Done(self.standing.changes(planned))) };
        let (output, fresh) = (&self.output, &self.fresh);
        let cannot = |path: &Path| Failure::file("the output stands as it was; cannot write", path);
        // The manifest is written meanwhile.
        self.flusher.iter().for_each(Flusher::now);
        self.write_manifest(&planned)?;
        if self.exists {
            carry_over(output, fresh, &self.standing, &planned)?;
        }
        if let Some(flusher) = self.flusher.take() {
            flusher.finish().map_err(cannot(output))?;
        }
        sync(fresh, planned.len()).map_err(cannot(output))?;
        let flags = if self.exists { RenameFlags::EXCHANGE } else { RenameFlags::NOREPLACE };
        staging.commit(|| Ok(renameat_with(CWD, fresh, CWD, output, flags)?)).map_err(cannot(output))?;
        // The old output, now in the staging folder, goes with it.
        let beside = staging.path().to_owned();
        staging.close().map_err(Failure::file("the new output stands; cannot remove what was there before, in", &beside))?;
        drop(self.alone.take());
        Ok(OutputOutcome::Done(self.standing.changes(planned)))
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
        let (path, target) = (self.fresh.join(MANIFEST), self.output.join(MANIFEST));
        let cannot = || Failure::file("the output stands as it was; cannot write", &target);
        let file = OpenOptions::new().write(true).create_new(true).mode(0o600).open(&path).map_err(cannot())?;
        if !self.modes_hold {
            file.set_permissions(fs::Permissions::from_mode(0o600)).map_err(cannot())?;
        }
        let mut file = io::BufWriter::new(file);
        let whole = Whole { uspan_manifest: 1, files: Files(planned) };
        serde_json::to_writer_pretty(&mut file, &whole).map_err(|error| cannot()(error.into()))?;
        file.write_all(b"\n").and_then(|()| file.flush()).map_err(cannot())
    }
}

/// Makes sure that the files are on the disk before the folder takes its place.
fn sync(root: &Path, files: usize) -> io::Result<()> {
    if files > 64 {
        return Ok(rustix::fs::syncfs(&reading::folder(root)?)?);
    }
    let mut open = vec![root.to_owned()];
    while let Some(path) = open.pop() {
        for entry in fs::read_dir(&path)? {
            let entry = entry?;
            let kind = entry.file_type()?;
            if kind.is_dir() {
                open.push(entry.path());
            } else if kind.is_file() {
                reading::open(&entry.path())?.sync_all()?;
            }
        }
        reading::folder(&path)?.sync_all()?;
    }
    Ok(())
}
