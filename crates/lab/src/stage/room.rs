//! A room: a network namespace, with mounts of its own where wanted, and a thread that lives in it.
//!
//! Nothing outside holds on to a room, so it vanishes with its thread, at the latest with the process.

use std::fs::File;
use std::io::{self, Read as _, Seek as _, SeekFrom};
use std::os::unix::process::CommandExt as _;
use std::path::PathBuf;
use std::process::{Child, Command, Stdio};
use std::sync::mpsc::{Receiver, RecvTimeoutError, Sender, channel};
use std::sync::{Mutex, PoisonError};
use std::thread::JoinHandle;
use std::time::Duration;

use rustix::fs::{MemfdFlags, memfd_create};
use rustix::mount::{MountPropagationFlags, mount_change};
use rustix::process::{Pid, PidfdFlags, Signal, pidfd_open, pidfd_send_signal};
use rustix::thread::UnshareFlags;

/// Where programs are found, wherever this program was started from: `ip` and the daemons, and what their scripts call.
pub const PATH: &str = "/usr/local/sbin:/usr/sbin:/usr/bin:/sbin:/bin";

/// How long a program may take that is run to its end.
const LONGEST: Duration = Duration::from_secs(600);

type RoomTask = Box<dyn FnOnce() + Send>;

/// A network namespace and the thread in it.
pub struct Room {
    /// Its name, for messages.
    pub name: String,
    /// The file that stands for the namespace, for `ip`.
    pub path: PathBuf,
    tasks: Option<Sender<RoomTask>>,
    thread: Option<JoinHandle<()>>,
    /// Lines for `ip` that are to be worked off together.
    planned: Mutex<String>,
}

/// What a program said.
#[derive(Clone, Debug, Default)]
pub struct Said {
    /// Whether it ended with 0.
    pub fine: bool,
    /// Everything it printed.
    pub text: String,
}

impl Room {
    /// Opens a room, whose loopback interface is planned. With `mounts` it sees changes of mounts that are made in it, and nobody else does.
    ///
    /// # Errors
    /// Where the kernel gives no namespaces.
    pub fn new(name: &str, mounts: bool) -> io::Result<Room> {
        let (tasks, inbox) = channel::<RoomTask>();
        let (ready, path) = channel();
        let thread = std::thread::Builder::new().name(name.to_owned()).spawn(move || live(&inbox, &ready, mounts))?;
        let path = path.recv().map_err(|_| io::Error::other("the room's thread ended"))??;
        let planned = Mutex::new("link set lo up\n".to_owned());
        Ok(Room { name: name.to_owned(), path, tasks: Some(tasks), thread: Some(thread), planned })
    }

    /// Lines for `ip`, which stand until the room is furnished: one program for all of them.
    pub fn plan(&self, lines: &str) {
        self.planned.lock().unwrap_or_else(PoisonError::into_inner).push_str(lines);
    }

    /// Works off what was planned.
    ///
    /// # Errors
    /// When a line fails.
    pub fn furnish(&self) -> io::Result<()> {
        let lines = std::mem::take(&mut *self.planned.lock().unwrap_or_else(PoisonError::into_inner));
        if lines.is_empty() { Ok(()) } else { self.ip(&lines) }
    }

    /// Does something in the room and waits for it.
    pub fn run<T: Send + 'static>(&self, task: impl FnOnce() -> T + Send + 'static) -> T {
        let (give, take) = channel();
        let boxed: RoomTask = Box::new(move || {
            let _ = give.send(task());
        });
        let sent = self.tasks.as_ref().is_some_and(|tasks| tasks.send(boxed).is_ok());
        assert!(sent, "the room {} is closed", self.name);
        take.recv().expect("a task in a room does not panic")
    }

    /// Runs a program in the room to its end.
    pub fn tell(&self, program: &str, args: &[&str]) -> io::Result<Said> {
        self.tell_with(program, args, None)
    }

    /// Runs a program in the room to its end, with this on its standard input.
    pub fn tell_with(&self, program: &str, args: &[&str], input: Option<String>) -> io::Result<Said> {
        self.tell_in(program, args, input, None)
    }

    /// The same with a variable of its environment.
    pub fn tell_in(
        &self,
        program: &str,
        args: &[&str],
        input: Option<String>,
        variable: Option<(&'static str, &'static str)>,
    ) -> io::Result<Said> {
        let (program, args) = (program.to_owned(), args.iter().map(|&arg| arg.to_owned()).collect::<Vec<_>>());
        self.run(move || {
            // A file, not a pipe: whatever a program leaves running cannot hold it open.
            let mut output = File::from(memfd_create("output", MemfdFlags::CLOEXEC)?);
            let mut command = Command::new(&program);
            command.args(args).env("PATH", PATH).stdout(output.try_clone()?).stderr(output.try_clone()?).process_group(0);
            command.envs(variable);
            command.stdin(if input.is_some() { Stdio::piped() } else { Stdio::null() });
            let mut child = command.spawn().map_err(|e| io::Error::new(e.kind(), format!("{program}: {e}")))?;
            let patience = Patience::with(&child, LONGEST);
            if let (Some(text), Some(mut pipe)) = (input, child.stdin.take()) {
                io::Write::write_all(&mut pipe, text.as_bytes())?;
            }
            let status = child.wait()?;
            let ended = patience.is_none_or(Patience::enough);
            let mut bytes = Vec::new();
            output.seek(SeekFrom::Start(0))?;
            output.read_to_end(&mut bytes)?;
            let mut text = String::from_utf8_lossy(&bytes).into_owned();
            if !ended {
                text.push_str(&format!("\n{program} did not end within {} s and was stopped", LONGEST.as_secs()));
            }
            Ok(Said { fine: status.success() && ended, text })
        })
    }

    /// Starts a program in the room, in a process group of its own, and leaves it running.
    pub fn start(&self, mut command: Command) -> io::Result<Child> {
        self.run(move || command.env("PATH", PATH).process_group(0).spawn())
    }

    /// Lets `ip` work off lines.
    ///
    /// # Errors
    /// When one of them fails.
    pub fn ip(&self, lines: &str) -> io::Result<()> {
        let said = self.tell_with("ip", &["-batch", "-"], Some(lines.to_owned()))?;
        if said.fine { Ok(()) } else { Err(io::Error::other(format!("ip in {}: {} in\n{lines}", self.name, said.text.trim()))) }
    }
}

/// Stops a program that does not end.
struct Patience {
    ended: Sender<()>,
    thread: JoinHandle<bool>,
}

impl Patience {
    fn with(child: &Child, limit: Duration) -> Option<Patience> {
        let pid = i32::try_from(child.id()).ok().and_then(Pid::from_raw)?;
        // A handle on the process itself: its number may be another's by then.
        let process = pidfd_open(pid, PidfdFlags::empty()).ok()?;
        let (ended, told) = channel();
        let thread = std::thread::spawn(move || {
            let in_time = told.recv_timeout(limit) != Err(RecvTimeoutError::Timeout);
            if !in_time {
                let _ = pidfd_send_signal(&process, Signal::KILL);
            }
            in_time
        });
        Some(Patience { ended, thread })
    }

    /// Whether it ended by itself.
    fn enough(self) -> bool {
        let _ = self.ended.send(());
        self.thread.join().unwrap_or(true)
    }
}

impl Drop for Room {
    fn drop(&mut self) {
        drop(self.tasks.take());
        if let Some(thread) = self.thread.take() {
            let _ = thread.join();
        }
    }
}

fn live(inbox: &Receiver<RoomTask>, ready: &Sender<io::Result<PathBuf>>, mounts: bool) {
    let entered = enter(mounts);
    let usable = entered.is_ok();
    if ready.send(entered).is_err() || !usable {
        return;
    }
    while let Ok(task) = inbox.recv() {
        task();
    }
}

fn enter(mounts: bool) -> io::Result<PathBuf> {
    let mut flags = UnshareFlags::NEWNET;
    if mounts {
        flags |= UnshareFlags::NEWNS;
    }
    #[expect(deprecated, reason = "the flags leave the table of open files alone, which is what makes the call unsafe")]
    rustix::thread::unshare(flags)?;
    if mounts {
        mount_change("/", MountPropagationFlags::PRIVATE | MountPropagationFlags::REC)?;
    }
    let thread = rustix::thread::gettid().as_raw_nonzero();
    Ok(PathBuf::from(format!("/proc/{}/task/{thread}/ns/net", std::process::id())))
}
