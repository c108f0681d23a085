//! A room: a network namespace, with mounts of its own where wanted, and a thread that lives in it.
//!
//! Nothing outside holds on to a room, so it vanishes with its thread, at the latest with the process.

use std::io;
use std::os::unix::process::CommandExt as _;
use std::path::PathBuf;
use std::process::{Child, Command, Stdio};
use std::sync::mpsc::{Receiver, Sender, channel};
use std::thread::JoinHandle;

use rustix::mount::{MountPropagationFlags, mount_change};
use rustix::thread::UnshareFlags;

/// Where programs are found, wherever this program was started from: `ip` and the daemons, and what their scripts call.
pub const PATH: &str = "/usr/local/sbin:/usr/sbin:/usr/bin:/sbin:/bin";

type Task = Box<dyn FnOnce() + Send>;

/// A network namespace and the thread in it.
pub struct Room {
    /// Its name, for messages.
    pub name: String,
    /// The file that stands for the namespace, for `ip`.
    pub path: PathBuf,
    tasks: Option<Sender<Task>>,
    thread: Option<JoinHandle<()>>,
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
    /// Opens a room. With `mounts` it sees changes of mounts that are made in it, and nobody else does.
    ///
    /// # Errors
    /// Where the kernel gives no namespaces.
    pub fn new(name: &str, mounts: bool) -> io::Result<Room> {
        let (tasks, inbox) = channel::<Task>();
        let (ready, path) = channel();
        let thread = std::thread::Builder::new().name(name.to_owned()).spawn(move || live(&inbox, &ready, mounts))?;
        let path = path.recv().map_err(|_| io::Error::other("the room's thread ended"))??;
        let room = Room { name: name.to_owned(), path, tasks: Some(tasks), thread: Some(thread) };
        room.ip("link set lo up\n")?;
        Ok(room)
    }

    /// Does something in the room and waits for it.
    pub fn run<T: Send + 'static>(&self, task: impl FnOnce() -> T + Send + 'static) -> T {
        let (give, take) = channel();
        let boxed: Task = Box::new(move || {
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
        let (program, args) = (program.to_owned(), args.iter().map(|&arg| arg.to_owned()).collect::<Vec<_>>());
        self.run(move || {
            let mut command = Command::new(&program);
            command.args(args).env("PATH", PATH).stdout(Stdio::piped()).stderr(Stdio::piped());
            command.stdin(if input.is_some() { Stdio::piped() } else { Stdio::null() });
            let mut child = command.spawn().map_err(|e| io::Error::new(e.kind(), format!("{program}: {e}")))?;
            if let (Some(text), Some(mut pipe)) = (input, child.stdin.take()) {
                io::Write::write_all(&mut pipe, text.as_bytes())?;
            }
            let output = child.wait_with_output()?;
            let text = String::from_utf8_lossy(&[output.stdout, output.stderr].concat()).into_owned();
            Ok(Said { fine: output.status.success(), text })
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

impl Drop for Room {
    fn drop(&mut self) {
        drop(self.tasks.take());
        if let Some(thread) = self.thread.take() {
            let _ = thread.join();
        }
    }
}

fn live(inbox: &Receiver<Task>, ready: &Sender<io::Result<PathBuf>>, mounts: bool) {
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
