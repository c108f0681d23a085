//! The two grounds to run on: the machine's own kernel where it has ESP, else a guest kernel in user mode.
//!
//! Either way everything happens below a keeper: the first process of a process namespace of its own. When it
//! ends, for whatever reason, the kernel ends all that it started, and namespaces and mounts go with them. The
//! keeper ends when its standard input does, so even a killed `prove` leaves nothing behind. What performs the proof is in a
//! sandbox (`sandbox.rs`), on both grounds: it can write nothing of the machine but the folder of its run.

mod guest;
mod keeper;
mod kernel;
mod perform;
mod run;
mod sandbox;

use std::path::PathBuf;
use std::process::{Command, Stdio};

use crate::stage::room::PATH;
pub use keeper::inside_main;

pub use kernel::{KERNEL_BUILD, KERNEL_CONFIG, kernel_file};
pub use run::{Options, run};

/// Where the proof takes place.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Ground {
    /// In namespaces on the machine's own kernel.
    Machine,
    /// In namespaces inside this guest kernel.
    Guest(PathBuf),
}

/// Whether the machine's own kernel can do ESP: it takes an SA.
pub fn machine_has_esp() -> bool {
    const SA: &str = "ip xfrm state add src 192.0.2.1 dst 192.0.2.2 proto esp spi 0x100 mode tunnel \
                      aead 'rfc4106(gcm(aes))' 0x0000000000000000000000000000000000000000 128";
    let tried = Command::new("/usr/bin/unshare").args(["--net", "sh", "-c", SA]).env("PATH", PATH).stdin(Stdio::null()).output();
    tried.is_ok_and(|output| output.status.success())
}
