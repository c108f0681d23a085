//! Running jobs: folders, keepers, and what they tell.

use std::collections::BTreeSet;
use std::fs::{self, File, OpenOptions};
use std::io::{self, Read as _, Write as _};
use std::os::unix::fs::{OpenOptionsExt as _, PermissionsExt as _};
use std::os::unix::process::CommandExt as _;
use std::path::{Path, PathBuf};
use std::process::{Child, Command, Stdio};
use std::sync::atomic::{AtomicBool, Ordering};
use std::time::{Duration, Instant};

use rustix::fs::OFlags;
use tempfile::TempDir;

use super::perform::{EVENTS, JOBS};
use super::{Ground, sandbox};
use crate::LabError;
use crate::job::{Event, Job};
use crate::stage::room::PATH;

/// How long a keeper may tell nothing before it counts as stuck. No step takes a quarter of it; a program that does
/// not end is stopped inside. What was seen to get stuck, once in some thousand jobs, is the guest's kernel, while the
/// networks are laid out.
const SILENCE: Duration = Duration::from_secs(6 * 60);

/// How jobs are run.
#[derive(Clone, Debug)]
pub struct Options {
    /// The program that works inside: it hands its arguments after `prove-inside` to [`crate::inside_main`].
    pub program: PathBuf,
    /// On which kernel.
    pub ground: Ground,
    /// Where the unpacked daemons are.
    pub cache: PathBuf,
    /// How many keepers work side by side.
    pub workers: usize,
    /// Where logs and captures are kept; nothing is kept without it.
    pub keep: Option<PathBuf>,
}

/// Runs jobs and hands on what they tell, until all are through or `stop` is set.
///
/// # Errors
/// When a keeper cannot be started or ends too early, and when it was stopped.
pub fn run(jobs: Vec<Job>, options: &Options, stop: &AtomicBool, tell: &mut dyn FnMut(Event)) -> Result<(), LabError> {
    let workers = options.workers.clamp(1, jobs.len().max(1));
    let mut shares: Vec<Vec<Job>> = (0..workers).map(|_| Vec::new()).collect();
    for (i, job) in jobs.into_iter().enumerate() {
        shares[i % workers].push(job);
    }
    let mut keepers = shares.into_iter().map(|share| Keeper::start(share, options)).collect::<Result<Vec<_>, _>>()?;
    let mut again = BTreeSet::new();
    loop {
        if stop.load(Ordering::Relaxed) {
            return Err(LabError::Stopped);
        }
        let mut busy = false;
        for keeper in &mut keepers {
            // Asked before the events are read, so that none of a keeper that has ended is missed.
            let ended = keeper.ended()?;
            for event in keeper.events()? {
                keeper.begun = !matches!(event, Event::Through(_)) && (keeper.begun || !matches!(event, Event::Now { .. }));
                if let Event::Through(job) = event {
                    keeper.jobs.retain(|open| open.number != job);
                    keeper.keep_logs(job, options)?;
                }
                tell(event);
            }
            if ended && !keeper.jobs.is_empty() {
                return Err(LabError::Broken(keeper.last_words()));
            }
            if keeper.heard.elapsed() > SILENCE && !keeper.jobs.is_empty() {
                // One job that is stuck does not take the others along; one that had not begun is tried once more.
                let mut jobs = std::mem::take(&mut keeper.jobs);
                if keeper.begun || !again.insert(jobs[0].number) {
                    let stuck = jobs.remove(0).number;
                    keeper.keep_logs(stuck, options)?;
                    let how = format!("nothing happened for {} minutes; {}", SILENCE.as_secs() / 60, keeper.last_words());
                    tell(Event::Broken { job: stuck, how });
                    tell(Event::Through(stuck));
                }
                if !jobs.is_empty() {
                    *keeper = Keeper::start(jobs, options)?;
                }
            }
            busy |= !keeper.jobs.is_empty();
        }
        if !busy {
            return Ok(());
        }
        std::thread::sleep(Duration::from_millis(30));
    }
}

/// A keeper and the folder of its run.
struct Keeper {
    child: Child,
    folder: TempDir,
    /// What is told, opened before anybody inside could put something else in its place.
    told: File,
    rest: String,
    /// The jobs that are not through, in their order.
    jobs: Vec<Job>,
    /// When it last told something.
    heard: Instant,
    /// Whether it has told more of the first of its jobs than what it is doing.
    begun: bool,
}

impl Keeper {
    fn start(jobs: Vec<Job>, options: &Options) -> Result<Keeper, LabError> {
        // Private: what is proven has secrets.
        let private = fs::Permissions::from_mode(0o700);
        let folder = tempfile::Builder::new().prefix("uspan-prove-").permissions(private).tempdir_in("/var/tmp")?;
        let run = sandbox::furnish(folder.path())?;
        let file = |path: &Path| OpenOptions::new().read(true).write(true).create_new(true).mode(0o600).open(path);
        let (jobs_file, events) = (run.join(JOBS), run.join(EVENTS));
        let mut list = file(&jobs_file)?;
        serde_json::to_writer(&mut list, &jobs).map_err(io::Error::from)?;
        list.flush()?;
        let told = file(&events)?;
        sandbox::give(&jobs_file)?;
        sandbox::give(&events)?;
        file(&folder.path().join("console"))?;
        // Whoever performs is nobody's user: a program that only its owner may run is copied for it.
        let mut program = options.program.clone();
        if fs::metadata(&program)?.permissions().mode() & 0o005 != 0o005 {
            program = folder.path().join("program");
            fs::copy(&options.program, &program)?;
            fs::set_permissions(&program, fs::Permissions::from_mode(0o755))?;
        }
        let mut command = Command::new("/usr/bin/unshare");
        command.args(["--pid", "--fork", "--kill-child", "--mount", "--mount-proc"]).arg(&program);
        command.args(["prove-inside", "keeper"]).arg(folder.path()).arg(&program).arg(&options.cache);
        if let Ground::Guest(kernel) = &options.ground {
            let sites = jobs.iter().map(|job| job.sites.len()).max().unwrap_or(2);
            command.arg((256 + 64 * sites).to_string()).arg(kernel);
        }
        let errors = file(&folder.path().join("errors"))?;
        // A group of its own: Ctrl-C is for `prove`, which then ends the keeper in order.
        command.process_group(0).env_clear().env("PATH", PATH).current_dir("/");
        let child = command.stdin(Stdio::piped()).stdout(Stdio::null()).stderr(errors).spawn()?;
        Ok(Keeper { child, folder, told, rest: String::new(), jobs, heard: Instant::now(), begun: false })
    }

    fn ended(&mut self) -> io::Result<bool> {
        Ok(self.child.try_wait()?.is_some())
    }

    /// What was told since the last call: whole lines only.
    fn events(&mut self) -> io::Result<Vec<Event>> {
        let mut new = Vec::new();
        // As much at once as there can be to tell.
        (&mut self.told).take(LONGEST_TALK).read_to_end(&mut new)?;
        self.rest.push_str(&String::from_utf8_lossy(&new));
        let mut events = Vec::new();
        while let Some(end) = self.rest.find('\n') {
            let line: String = self.rest.drain(..=end).collect();
            events.push(serde_json::from_str(&line).map_err(io::Error::from)?);
            self.heard = Instant::now();
        }
        Ok(events)
    }

    fn keep_logs(&self, job: usize, options: &Options) -> io::Result<()> {
        let logs = self.folder.path().join(sandbox::RUN).join("logs").join(job.to_string());
        match &options.keep {
            Some(keep) if fs::symlink_metadata(&logs).is_ok_and(|meta| meta.is_dir()) => copy(&logs, &keep.join(job.to_string())),
            _ => Ok(()),
        }
    }

    /// Why it ended too early, from whatever it printed.
    fn last_words(&self) -> String {
        let read = |name: &str| fs::read(self.folder.path().join(name)).unwrap_or_default();
        let text = [read("errors"), read("console")].concat();
        let lines: Vec<_> = String::from_utf8_lossy(&text).lines().map(str::to_owned).collect();
        lines[lines.len().saturating_sub(8)..].join("\n")
    }
}

impl Drop for Keeper {
    /// Ends the keeper, and with it everything below it, before its folder goes.
    fn drop(&mut self) {
        drop(self.child.stdin.take());
        let _ = self.child.wait();
    }
}

/// More than any run tells between two looks, in bytes.
const LONGEST_TALK: u64 = 64 << 20;
/// More than any log or capture of a proof, in bytes.
const LONGEST_LOG: u64 = 256 << 20;

/// Copies files, and only files: whoever was inside may have put links or pipes among them.
fn copy(from: &Path, to: &Path) -> io::Result<()> {
    fs::create_dir_all(to)?;
    let flags = OFlags::NOFOLLOW | OFlags::NONBLOCK;
    for entry in fs::read_dir(from)? {
        let entry = entry?;
        let mut open = OpenOptions::new();
        open.read(true).custom_flags(i32::try_from(flags.bits()).unwrap_or(0));
        let Ok(file) = open.open(entry.path()) else { continue };
        if file.metadata()?.is_file() {
            // What they say of the tunnel is nobody else's.
            let mut target = OpenOptions::new().write(true).create(true).truncate(true).mode(0o600).open(to.join(entry.file_name()))?;
            io::copy(&mut file.take(LONGEST_LOG), &mut target)?;
        }
    }
    Ok(())
}
