//! Drivers of the real daemons: how each is started on a gateway and told what to do, through its public
//! interface. To add one: a file here and a line in [`DAEMONS`].

mod libreswan;
mod openiked;
pub mod router;
mod strongswan;

use std::io;
use std::net::IpAddr;
use std::path::{Path, PathBuf};
use std::process::Child;

use rustix::process::{Pid, Signal, kill_process_group};

use crate::stage::StagedGateway;
use crate::stage::room::Said;

/// All drivers.
pub static DAEMONS: &[&dyn Daemon] = &[&strongswan::StrongswanDriver, &libreswan::LibreswanDriver, &openiked::OpenikedDriver];

/// The driver for a platform's word.
pub fn daemon(platform: &str) -> Option<&'static dyn Daemon> {
    DAEMONS.iter().copied().find(|daemon| daemon.platform() == platform)
}

/// A daemon that runs on a gateway.
pub struct Running {
    child: Child,
    /// Its log.
    pub log: PathBuf,
    /// What its loaders said, each with the command before it.
    pub loaders: Vec<(String, Said)>,
}

impl Running {
    /// Ends it as a loss of power does: at once, without a word to the peer.
    pub fn kill(&mut self) {
        // It has a process group of its own, for those that split up into several processes.
        if let Some(group) = i32::try_from(self.child.id()).ok().and_then(Pid::from_raw) {
            let _ = kill_process_group(group, Signal::KILL);
        }
        let _ = self.child.wait();
    }

    /// Ends it as the manager of services does: it may say goodbye.
    pub fn stop(&mut self) {
        let group = i32::try_from(self.child.id()).ok().and_then(Pid::from_raw);
        if group.is_some_and(|group| kill_process_group(group, Signal::TERM).is_ok()) {
            let since = std::time::Instant::now();
            while since.elapsed() < std::time::Duration::from_secs(10) && matches!(self.child.try_wait(), Ok(None)) {
                std::thread::sleep(std::time::Duration::from_millis(50));
            }
        }
        self.kill();
    }

    /// Whether it still runs.
    pub fn alive(&self) -> bool {
        let state = std::fs::read_to_string(format!("/proc/{}/stat", self.child.id())).unwrap_or_default();
        // The state stands behind the name, which stands in brackets (proc(5)).
        !state.is_empty() && !state.rsplit(')').next().unwrap_or_default().trim_start().starts_with('Z')
    }

    /// The lines of its log so far.
    pub fn lines(&self) -> Vec<String> {
        let bytes = std::fs::read(&self.log).unwrap_or_default();
        String::from_utf8_lossy(&bytes).lines().map(str::to_owned).collect()
    }
}

impl Drop for Running {
    fn drop(&mut self) {
        self.kill();
    }
}

/// What a daemon tells of a rekey: nothing, or the group, which may be none.
pub type Negotiated = Option<Option<u16>>;

/// A real daemon.
pub trait Daemon: Sync {
    /// The word of the platform it belongs to.
    fn platform(&self) -> &'static str;

    /// The part of `load.sh` that is its own.
    fn loader(&self) -> &'static str;

    /// Programs that must be there, below `/` or below the cache, with the package that brings each.
    fn programs(&self, cache: &Path) -> Vec<(PathBuf, &'static str)>;

    /// What a gateway needs before the daemon can run on it, once.
    ///
    /// # Errors
    /// On a failure of the file system.
    fn furnish(&self, gateway: &StagedGateway, cache: &Path) -> io::Result<()>;

    /// Starts the daemon and lets it take up its configuration, as the machine's boot does. The log goes to a file.
    ///
    /// # Errors
    /// When it cannot be started; what it thinks of the configuration is in the result.
    fn start(&self, gateway: &StagedGateway, log: &Path) -> io::Result<Running>;

    /// Opens a Child SA; only asked of a platform that can open by hand.
    ///
    /// # Errors
    /// When the program cannot be run.
    fn open(&self, gateway: &StagedGateway, connection: &str, child: &str) -> io::Result<Said>;

    /// Closes the IKE SA with all its children.
    ///
    /// # Errors
    /// When the program cannot be run.
    fn close(&self, gateway: &StagedGateway, connection: &str, children: &[&str]) -> io::Result<Said>;

    /// Asks for new keys of a Child SA; nothing where it has no command for that and only its timer does it.
    ///
    /// # Errors
    /// When the program cannot be run.
    fn rekey_esp(&self, gateway: &StagedGateway, connection: &str, child: &str) -> io::Result<Option<Said>>;

    /// Asks for a new IKE SA in place of the old one; nothing where only its timer does that.
    ///
    /// # Errors
    /// When the program cannot be run.
    fn rekey_ike(&self, gateway: &StagedGateway, connection: &str, children: &[&str]) -> io::Result<Option<Said>>;

    /// The group with which the Child SA of this inbound SPI was rekeyed, if there was one; nothing at all where
    /// it does not tell.
    ///
    /// # Errors
    /// When the program cannot be run.
    fn group_in_use(&self, gateway: &StagedGateway, running: &Running, connection: &str, child: &str, spi: u32) -> io::Result<Negotiated>;

    /// The IKE SAs it lists as established with a connection, by a mark that changes with a rekey.
    ///
    /// # Errors
    /// When the program cannot be run.
    fn ike_sas(&self, gateway: &StagedGateway, running: &Running, connection: &str, peer: IpAddr) -> io::Result<Vec<String>>;

    /// Whether a line of its log tells of a failure in a negotiation.
    fn tells_of_failure(&self, line: &str) -> bool;
}

/// Lines that speak of anything but success.
pub fn complains(line: &str) -> bool {
    const WORDS: [&str; 9] = ["warn", "error", "fail", "ignor", "unknown", "invalid", "bad ", "not appear", "unable"];
    let lower = line.to_lowercase();
    WORDS.iter().any(|word| lower.contains(word))
}

/// Waits until a socket is there.
fn wait_for(gateway: &StagedGateway, socket: &'static str) -> bool {
    gateway.room.run(move || {
        (0..600).any(|_| {
            let there = Path::new(socket).exists();
            if !there {
                std::thread::sleep(std::time::Duration::from_millis(50));
            }
            there
        })
    })
}

#[cfg(test)]
mod tests {
    use uspan_core::algorithm::{Kind, Transform};
    use uspan_core::{Context, Sa};

    use super::{libreswan, strongswan};

    /// A group without a name would be told as none at all.
    #[test]
    fn each_group_that_a_platform_has_is_known_by_what_its_daemon_calls_it() {
        for (platform, groups) in [("strongswan", strongswan::GROUPS), ("libreswan", libreswan::GROUPS)] {
            let context = Context::built_in();
            let profile = context.profile(platform).expect("a platform");
            for row in Kind::KeyExchange.rows() {
                let has = profile.can(Transform::of(row), Sa::Esp);
                assert_eq!(groups.iter().any(|(number, _)| *number == row.number), has, "{platform}: {}", row.iana);
            }
        }
    }
}
