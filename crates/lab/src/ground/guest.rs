//! The guest: a kernel in user mode whose root is the machine's own, as the sandbox shows it: read-only but for the folder of the
//! run, and without what only the machine's root may read. It has no network to the outside.

use std::ffi::CString;
use std::io;
use std::path::Path;
use std::process::{Command, ExitStatus, Stdio};

use rustix::mount::{MountFlags, mount};
use rustix::system::{RebootCommand, reboot};

use super::perform::perform;
use crate::stage::room::PATH;

/// Where the guest sees the folder of the run.
const RUN: &str = "/tmp/uspan-run";

/// Boots the guest and waits until it is through.
pub fn boot(kernel: &Path, folder: &Path, cache: &Path, megabytes: usize) -> io::Result<ExitStatus> {
    let program = std::env::current_exe()?;
    Command::new(kernel)
        .arg(format!("mem={megabytes}M"))
        // Time passes at once while nothing is to be done: waiting for a timer costs nothing.
        .args(["time-travel", "root=none", "rootfstype=hostfs", "rootflags=/", "ro", "quiet", "panic=-1"])
        .args(["con=null", "con0=null,fd:1", "con1=null", "ssl=null"])
        // What the kernel does not know becomes the environment of its first process.
        .arg(format!("PATH={PATH}"))
        .arg(format!("uml_dir={}", folder.join("guest").display()))
        .arg(format!("init={}", program.display()))
        .args(["--", "prove-inside", "guest"])
        .arg(folder)
        .arg(cache)
        .stdin(Stdio::null())
        .status()
}

/// The guest's first process: mounts what a system needs, performs, and switches off.
pub fn init(folder: &Path, cache: &Path) -> io::Result<()> {
    let none = MountFlags::empty();
    for (kind, target) in [("proc", "/proc"), ("sysfs", "/sys"), ("tmpfs", "/run"), ("tmpfs", "/tmp")] {
        mount(kind, target, kind, none, None::<&std::ffi::CStr>)?;
    }
    // Some hosts have no device files at their /dev; the guest's own always has them.
    let _ = mount("devtmpfs", "/dev", "devtmpfs", none, None::<&std::ffi::CStr>);
    std::fs::create_dir_all(RUN)?;
    let host_path = CString::new(folder.as_os_str().as_encoded_bytes())?;
    mount("none", RUN, "hostfs", none, Some(host_path.as_c_str()))?;
    let done = perform(Path::new(RUN), cache, Path::new("/tmp/uspan-state"), true);
    rustix::fs::sync();
    if let Err(error) = &done {
        println!("{error}");
    }
    reboot(RebootCommand::PowerOff)?;
    done
}
