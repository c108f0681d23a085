//! Folders in which files are laid out before they take their place: private from the start, marked as ours, taken away when a
//! signal ends the program, and found again by the next run when it was killed.

use std::collections::BTreeSet;
use std::fs::{self, DirBuilder, File, OpenOptions, Permissions};
use std::io::{self, Read as _, Write as _};
use std::os::unix::fs::{DirBuilderExt as _, MetadataExt as _, OpenOptionsExt as _, PermissionsExt as _};
use std::path::{Path, PathBuf};
use std::sync::{Mutex, MutexGuard, Once, PoisonError};
use std::time::{Duration, Instant};

use rustix::fs::{FlockOperation, Mode, OFlags, flock, openat};
use signal_hook::consts::{SIGHUP, SIGINT, SIGTERM};
use signal_hook::iterator::Signals;

use super::reading;
use crate::failure::Failure;
use crate::show::{path_shown, terminal};

/// How the names begin.
const PREFIX: &str = ".uspan-staging-";
/// As many letters and digits follow.
const LETTERS: usize = 8;
/// The file by which a folder is known as ours, and what it says.
const MARK: &str = "uspan-mark";
const MARK_TEXT: &[u8] = b"uspan lays out files here. When no uspan is at work, nobody needs this folder any more.\n";

/// The folders of this run; whoever holds it may be sure that no signal takes one of them away.
static OPEN: Mutex<BTreeSet<PathBuf>> = Mutex::new(BTreeSet::new());
static WATCH: Once = Once::new();

fn open_folders() -> MutexGuard<'static, BTreeSet<PathBuf>> {
    OPEN.lock().unwrap_or_else(PoisonError::into_inner)
}

/// A folder of ours, 0700, until it is dropped.
#[derive(Debug)]
pub struct Staging {
    path: PathBuf,
    /// Keeps other runs from taking it for left behind.
    _held: File,
}

impl Staging {
    /// Makes one in a folder, and says what earlier runs had left there.
    ///
    /// # Errors
    /// What the system says.
    pub fn begin(parent: &Path) -> io::Result<Staging> {
        for left in clear(parent) {
            terminal::error_line(&format!("uspan: removed what an interrupted run had left: `{}`", path_shown(&left)));
        }
        WATCH.call_once(watch);
        let mut open = open_folders();
        loop {
            let path = parent.join(format!("{PREFIX}{}", letters()?));
            match DirBuilder::new().mode(0o700).create(&path) {
                Err(error) if error.kind() == io::ErrorKind::AlreadyExists => continue,
                made => made?,
            }
            open.insert(path.clone());
            match hold(&path) {
                Ok(held) => return Ok(Staging { path, _held: held }),
                Err(error) => {
                    open.remove(&path);
                    // Another run may have taken it for left behind before it was held.
                    if error.kind() != io::ErrorKind::NotFound {
                        let _ = fs::remove_dir_all(&path);
                        return Err(error);
                    }
                }
            }
        }
    }

    /// Where it is.
    pub fn path(&self) -> &Path {
        &self.path
    }

    /// Does what lets its content take its place, all of it or, when a signal came before, nothing.
    ///
    /// # Errors
    /// Those of `step`.
    pub fn commit<T>(&self, step: impl FnOnce() -> io::Result<T>) -> io::Result<T> {
        let _open = open_folders();
        step()
    }

    /// Takes it away with all that is in it.
    ///
    /// # Errors
    /// What the system says.
    pub fn close(self) -> io::Result<()> {
        let gone = fs::remove_dir_all(&self.path);
        open_folders().remove(&self.path);
        gone
    }
}

impl Drop for Staging {
    fn drop(&mut self) {
        let _ = fs::remove_dir_all(&self.path);
        open_folders().remove(&self.path);
    }
}

/// Makes it private whatever the umask, holds it, and marks it.
fn hold(path: &Path) -> io::Result<File> {
    fs::set_permissions(path, Permissions::from_mode(0o700))?;
    let held = reading::folder(path)?;
    flock(&held, FlockOperation::LockExclusive)?;
    let mut mark = OpenOptions::new().write(true).create_new(true).mode(0o600).open(path.join(MARK))?;
    mark.write_all(MARK_TEXT)?;
    Ok(held)
}

fn letters() -> io::Result<String> {
    const ALPHABET: &[u8; 32] = b"abcdefghijkmnpqrstuvwxyz23456789";
    let mut bytes = [0; LETTERS];
    getrandom::fill(&mut bytes).map_err(|error| io::Error::other(error.to_string()))?;
    Ok(bytes.iter().map(|byte| char::from(ALPHABET[usize::from(byte % 32)])).collect())
}

/// Removes what runs left behind that were killed, and returns what that was. Only what is surely ours: by its name, its mode, its
/// owner and its mark; and nobody holds it.
fn clear(parent: &Path) -> Vec<PathBuf> {
    let mut cleared = Vec::new();
    for entry in fs::read_dir(parent).into_iter().flatten().flatten() {
        let name = entry.file_name();
        let named = name
            .to_str()
            .and_then(|name| name.strip_prefix(PREFIX))
            .is_some_and(|rest| rest.len() == LETTERS && rest.bytes().all(|byte| byte.is_ascii_lowercase() || byte.is_ascii_digit()));
        let Some(left) = named.then(|| left_behind(&entry.path())).flatten() else { continue };
        if fs::remove_dir_all(entry.path()).is_ok() && left == Left::Files {
            cleared.push(entry.path());
        }
    }
    cleared.sort();
    cleared
}

/// What a folder that nobody holds has in it.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
enum Left {
    /// Nothing, not even a mark: a run was killed, or another run is about to mark it and then makes another one.
    Nothing,
    /// A mark, and what was laid out.
    Files,
}

/// What is left in a folder; `None` if it is not surely ours, or held.
fn left_behind(path: &Path) -> Option<Left> {
    let handle = reading::folder(path).ok()?;
    let private = handle.metadata().is_ok_and(|meta| meta.uid() == rustix::process::geteuid().as_raw() && meta.mode() & 0o777 == 0o700);
    if !private || flock(&handle, FlockOperation::NonBlockingLockExclusive).is_err() {
        return None;
    }
    let flags = OFlags::RDONLY | OFlags::NOFOLLOW | OFlags::NONBLOCK | OFlags::CLOEXEC;
    let Ok(mark) = openat(&handle, MARK, flags, Mode::empty()) else {
        return fs::read_dir(path).is_ok_and(|mut entries| entries.next().is_none()).then_some(Left::Nothing);
    };
    let (mark, mut text) = (File::from(mark), Vec::new());
    let is_file = mark.metadata().is_ok_and(|meta| meta.is_file());
    // Of one that was killed while it wrote the mark, the beginning is there.
    (is_file && mark.take(1024).read_to_end(&mut text).is_ok() && MARK_TEXT.starts_with(&text)).then_some(Left::Files)
}

/// The signals that end a run: what was laid out goes, then the signal does what it always does.
fn watch() {
    let caught = [SIGINT, SIGTERM, SIGHUP].into_iter().filter(|signal| !is_ignored(*signal));
    let Ok(mut signals) = Signals::new(caught) else { return };
    std::thread::spawn(move || {
        let Some(signal) = signals.forever().next() else { return };
        // Nothing takes its place from here on.
        let open = open_folders();
        for path in open.iter() {
            // Others may still be writing into it.
            for _ in 0..1000 {
                match fs::remove_dir_all(path) {
                    Err(error) if error.kind() != io::ErrorKind::NotFound => std::thread::sleep(Duration::from_millis(1)),
                    _ => break,
                }
            }
        }
        let _ = signal_hook::low_level::emulate_default_handler(signal);
    });
}

/// Whether whoever started this run wants it to go on in spite of a signal, as `nohup` does (proc(5), `SigIgn`).
fn is_ignored(signal: i32) -> bool {
    let text = reading::text(Path::new("/proc/self/status"), reading::FILE).unwrap_or_default();
    let mask = text.lines().find_map(|line| line.strip_prefix("SigIgn:")).and_then(|mask| u64::from_str_radix(mask.trim(), 16).ok());
    mask.is_some_and(|mask| mask >> (signal - 1) & 1 == 1)
}

/// Whether a folder still stands at its path.
fn is_at(handle: &File, path: &Path) -> bool {
    let same = |one: &fs::Metadata, other: &fs::Metadata| (one.dev(), one.ino()) == (other.dev(), other.ino());
    matches!((handle.metadata(), fs::metadata(path)), (Ok(ref one), Ok(ref other)) if same(one, other))
}

/// How long another run is waited for, and after how long that is said.
const PATIENCE: Duration = Duration::from_secs(60);
const QUIET: Duration = Duration::from_secs(1);

/// Waits until nobody else writes into a folder. It is free again when the handle is dropped.
///
/// # Errors
/// When it is not free after a minute.
pub fn alone(path: &Path) -> Result<File, Failure> {
    let (since, mut told) = (Instant::now(), false);
    loop {
        let handle = reading::folder(path).map_err(Failure::file("cannot open the folder", path))?;
        match flock(&handle, FlockOperation::NonBlockingLockExclusive) {
            // Another run may just have put another folder in its place.
            Ok(()) if is_at(&handle, path) => return Ok(handle),
            Ok(()) => continue,
            Err(rustix::io::Errno::WOULDBLOCK) => {}
            Err(error) => return Err(Failure::file("cannot lock the folder", path)(error.into())),
        }
        if since.elapsed() > PATIENCE {
            let seconds = PATIENCE.as_secs();
            let shown = path_shown(path);
            return Err(Failure::Outside(format!(
                "another program has held `{shown}` for {seconds} s; nothing was written. Try again when it is done: fuser -v {shown}"
            )));
        }
        if !told && since.elapsed() > QUIET {
            told = true;
            terminal::error_line(&format!("uspan: waiting for another run that writes into `{}`", path_shown(path)));
        }
        std::thread::sleep(Duration::from_millis(50));
    }
}
