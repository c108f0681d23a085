//! The sandbox: what performs a proof sees the machine read-only, owns nothing but the folder of its run, and has no right on the
//! machine, whatever the files say that are proven.
//!
//! A tree may have been changed by somebody, and its files hold commands that run as the gateway's root. So that root is not the
//! machine's: the guest kernel is a process of a user that owns no file; on the machine's own kernel it is the root of a user
//! namespace (user_namespaces(7)), in which mounts from outside cannot be made writable again, nor taken away.

use std::fs::{self, DirBuilder, File};
use std::io::{self, Write as _};
use std::os::fd::AsRawFd as _;
use std::os::unix::fs::DirBuilderExt as _;
use std::os::unix::process::CommandExt as _;
use std::path::{Path, PathBuf};
use std::process::{Command, Stdio};

use rustix::mount::{MountFlags, MountPropagationFlags, mount, mount_bind, mount_bind_recursive, mount_change, mount_remount};
use rustix::process::{Resource, Rlimit, setrlimit};
use rustix::thread::{UnshareFlags, set_no_new_privs, set_thread_groups};

use super::Ground;
use crate::stage::room::PATH;

/// The user of a proof. It owns no file: it is above what systems give to people and services, and below what some programs take
/// for a negative number.
pub const USER: u32 = 1_900_000_000;
/// As many users a user namespace has: those of a machine.
const USERS: u32 = 65_536;
/// What a proof writes at most into one file, in bytes: the memory of a guest is one.
const LARGEST: u64 = 8 << 30;

/// Folders of the machine that a proof does not see.
const COVERED: [&str; 8] = ["/home", "/root", "/run", "/tmp", "/var/tmp", "/srv", "/mnt", "/media"];
/// Devices that it has.
const DEVICES: [&str; 7] = ["null", "zero", "full", "random", "urandom", "tty", "net/tun"];

/// What is seen inside, below the folder of the run.
pub struct Inside {
    /// The folder itself.
    pub folder: PathBuf,
    /// This program.
    pub program: PathBuf,
    /// What was unpacked and built.
    pub cache: PathBuf,
}

impl Inside {
    /// For the folder of a run.
    pub fn of(folder: &Path) -> Inside {
        Inside { folder: folder.to_owned(), program: folder.join("program"), cache: folder.join("cache") }
    }

    /// Where the guest kernel is seen.
    pub fn kernel(&self, kernel: &Path) -> PathBuf {
        self.cache.join(kernel.file_name().unwrap_or_default())
    }
}

/// The folder of a run is this one below the folder that nobody else can enter.
pub const RUN: &str = "run";

/// Makes what the proof may write to, in a folder of its own: everything else in there is the machine's root's.
///
/// # Errors
/// What the system says.
pub fn furnish(outer: &Path) -> io::Result<PathBuf> {
    let run = outer.join(RUN);
    DirBuilder::new().mode(0o755).create(&run)?;
    for name in ["logs", "state", "guest", "jobs.d"] {
        let folder = run.join(name);
        DirBuilder::new().mode(0o700).create(&folder)?;
        give(&folder)?;
    }
    DirBuilder::new().mode(0o755).create(run.join("cache"))?;
    File::create(run.join("program"))?;
    Ok(run)
}

/// Gives a file to the user of the proof.
///
/// # Errors
/// What the system says.
pub fn give(path: &Path) -> io::Result<()> {
    std::os::unix::fs::chown(path, Some(USER), Some(USER))
}

/// Enters the sandbox and goes on there as another process of this program; comes back only if that fails.
pub fn enter(outer: &Path, program: &Path, cache: &Path, ground: &Ground, rest: &[String]) -> io::Error {
    match seal(outer, program, cache, ground).and_then(|inside| leave_rights(ground).map(|()| inside)) {
        Ok(inside) => {
            let mut command = Command::new(&inside.program);
            command.args(["prove-inside", "perform"]).arg(&inside.folder).arg(&inside.cache).args(rest);
            command.env_clear().env("PATH", PATH).env("LANG", "C.UTF-8").env("HOME", &inside.folder).env("TMPDIR", "/dev/shm");
            if let Ground::Guest(kernel) = ground {
                command.arg(inside.kernel(kernel)).uid(USER).gid(USER);
            } else {
                // Root of its namespace, which is that user outside.
                command.uid(0).gid(0);
            }
            command.current_dir("/").exec()
        }
        Err(error) => io::Error::new(error.kind(), format!("the sandbox cannot be made: {error}")),
    }
}

/// Makes everything that is mounted read-only, and covers what the proof has no business with.
fn seal(outer: &Path, program: &Path, cache: &Path, ground: &Ground) -> io::Result<Inside> {
    #[expect(deprecated, reason = "the flags leave the table of open files alone, which is what makes the call unsafe")]
    rustix::thread::unshare(UnshareFlags::NEWNS | UnshareFlags::NEWIPC | UnshareFlags::NEWUTS | UnshareFlags::NEWNET)?;
    mount_change("/", MountPropagationFlags::PRIVATE | MountPropagationFlags::REC)?;
    // What is bound below was covered before: held open, it can still be named.
    let held = |path: &Path| -> io::Result<(File, PathBuf)> {
        let file = File::open(path)?;
        let name = PathBuf::from(format!("/proc/self/fd/{}", file.as_raw_fd()));
        Ok((file, name))
    };
    let (_run, run) = held(&outer.join(RUN))?;
    let (_program, program) = held(program)?;
    let (_cache, cache) = held(cache)?;
    devices()?;
    for folder in COVERED.iter().filter(|folder| Path::new(folder).is_dir()) {
        let mode = if folder.ends_with("/tmp") { "mode=1777" } else { "mode=755" };
        memory(folder, mode)?;
    }
    let inside = Inside::of(outer);
    // The folder has the same name inside; where it is below one that is covered it is made anew.
    fs::create_dir_all(outer)?;
    mount_bind(&run, outer)?;
    mount_bind(&program, &inside.program)?;
    mount_bind_recursive(&cache, &inside.cache)?;
    let mounts = mounts()?;
    for (i, mounted) in mounts.iter().enumerate() {
        let ours = mounted.path == outer;
        let memory = mounted.kind == "tmpfs"
            && (COVERED.iter().any(|folder| mounted.path == Path::new(folder)) || mounted.path == Path::new("/dev/shm"));
        // Switches of the network are below it, and others are not for whoever is not the machine's root.
        let switches = mounted.path == Path::new("/proc") && *ground == Ground::Machine;
        let mut flags = mounted.flags | MountFlags::NOSUID;
        if !mounted.path.starts_with("/dev") || mounted.kind == "tmpfs" {
            flags |= MountFlags::NODEV;
        }
        if !(ours || memory || switches) {
            flags |= MountFlags::RDONLY;
        }
        match mount_remount(&mounted.path, MountFlags::BIND | flags, "") {
            // Something is mounted over it, and it is not to be reached.
            Err(rustix::io::Errno::NOENT | rustix::io::Errno::INVAL) if mounted.is_covered(&mounts[i + 1..]) => {}
            done => done.map_err(|error| io::Error::other(format!("{}: {error}", mounted.path.display())))?,
        }
    }
    Ok(inside)
}

/// A small `/dev`, with no disk in it.
fn devices() -> io::Result<()> {
    let mut held = Vec::new();
    for name in DEVICES {
        if let Ok(file) =
            rustix::fs::open(format!("/dev/{name}"), rustix::fs::OFlags::PATH | rustix::fs::OFlags::CLOEXEC, rustix::fs::Mode::empty())
        {
            held.push((name, file));
        }
    }
    memory("/dev", "mode=755")?;
    for (name, file) in &held {
        let path = Path::new("/dev").join(name);
        fs::create_dir_all(path.parent().unwrap_or(Path::new("/dev")))?;
        File::create(&path)?;
        mount_bind(format!("/proc/self/fd/{}", file.as_raw_fd()), &path)?;
    }
    for (link, target) in
        [("fd", "/proc/self/fd"), ("stdin", "/proc/self/fd/0"), ("stdout", "/proc/self/fd/1"), ("stderr", "/proc/self/fd/2")]
    {
        std::os::unix::fs::symlink(target, Path::new("/dev").join(link))?;
    }
    DirBuilder::new().mode(0o755).create("/dev/shm")?;
    memory("/dev/shm", "mode=1777")
}

fn memory(target: &str, mode: &str) -> io::Result<()> {
    let data = std::ffi::CString::new(mode)?;
    mount("tmpfs", target, "tmpfs", MountFlags::NOSUID | MountFlags::NODEV, Some(data.as_c_str()))?;
    Ok(())
}

/// A mount, as proc(5) lists it.
struct Mounted {
    path: PathBuf,
    kind: String,
    /// What it forbids already.
    flags: MountFlags,
}

impl Mounted {
    /// Whether one of those that were mounted later is over it, or over a folder above it.
    fn is_covered(&self, later: &[Mounted]) -> bool {
        later.iter().any(|other| self.path.starts_with(&other.path))
    }
}

/// All mounts, in the order in which they were made.
fn mounts() -> io::Result<Vec<Mounted>> {
    let text = fs::read_to_string("/proc/self/mountinfo")?;
    let mut all: Vec<Mounted> = Vec::new();
    for line in text.lines() {
        let words: Vec<&str> = line.split(' ').collect();
        let (Some(path), Some(options)) = (words.get(4), words.get(5)) else { continue };
        let kind = words.iter().position(|word| *word == "-").and_then(|at| words.get(at + 1)).copied().unwrap_or_default();
        let mut flags = MountFlags::empty();
        for option in options.split(',') {
            flags |= match option {
                "noexec" => MountFlags::NOEXEC,
                "nodev" => MountFlags::NODEV,
                "nosuid" => MountFlags::NOSUID,
                "ro" => MountFlags::RDONLY,
                "noatime" => MountFlags::NOATIME,
                _ => MountFlags::empty(),
            };
        }
        all.push(Mounted { path: unescaped(path), kind: kind.to_owned(), flags });
    }
    Ok(all)
}

/// A path as it is: blanks and the like are written in octal digits.
fn unescaped(text: &str) -> PathBuf {
    use std::os::unix::ffi::OsStringExt as _;
    let (bytes, mut out, mut at) = (text.as_bytes(), Vec::new(), 0);
    while at < bytes.len() {
        let octal = (bytes[at] == b'\\').then(|| text.get(at + 1..at + 4).and_then(|digits| u8::from_str_radix(digits, 8).ok())).flatten();
        out.push(octal.unwrap_or(bytes[at]));
        at += if octal.is_some() { 4 } else { 1 };
    }
    PathBuf::from(std::ffi::OsString::from_vec(out))
}

/// Gives up every right on the machine.
fn leave_rights(ground: &Ground) -> io::Result<()> {
    let limit = |most| Rlimit { current: Some(most), maximum: Some(most) };
    setrlimit(Resource::Fsize, limit(LARGEST))?;
    setrlimit(Resource::Core, limit(0))?;
    if *ground == Ground::Machine {
        enter_user_namespace()?;
    }
    set_thread_groups(&[])?;
    set_no_new_privs(true)?;
    Ok(())
}

/// A user namespace whose root is [`USER`] outside. Only the machine's root may say so, so a helper that stays outside does it.
fn enter_user_namespace() -> io::Result<()> {
    const HELPER: &str = "read go && printf '0 %s %s' \"$2\" \"$3\" >/proc/\"$1\"/uid_map && printf '0 %s %s' \"$2\" \"$3\" >/proc/\"$1\"/gid_map && echo done";
    let mut helper = Command::new("/bin/sh");
    helper.args(["-c", HELPER, "map"]).args([std::process::id(), USER, USERS].map(|number| number.to_string()));
    let mut child = helper.stdin(Stdio::piped()).stdout(Stdio::piped()).stderr(Stdio::inherit()).spawn()?;
    #[expect(deprecated, reason = "the flags leave the table of open files alone, which is what makes the call unsafe")]
    rustix::thread::unshare(UnshareFlags::NEWUSER | UnshareFlags::NEWNS | UnshareFlags::NEWNET | UnshareFlags::NEWIPC)?;
    if let Some(mut go) = child.stdin.take() {
        go.write_all(b"go\n")?;
    }
    let said = child.wait_with_output()?;
    match said.stdout.starts_with(b"done") {
        true => Ok(()),
        false => Err(io::Error::other("users of the sandbox could not be mapped")),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn paths_of_mounts_are_read_as_they_are() {
        assert_eq!(unescaped(r"/a\040b\134c"), PathBuf::from(r"/a b\c"));
        assert_eq!(unescaped(r"/a\x"), PathBuf::from(r"/a\x"));
    }
}
