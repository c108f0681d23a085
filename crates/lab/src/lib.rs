//! The lab: real IKE daemons on a stage of network namespaces.
//!
//! - [`Lab::ready`] installs what is needed (root, Debian 12, apt); [`requirements`] says what is missing.
//! - [`Lab::load`] lets a daemon's own loader take up a gateway's tree of files and reports what it says.
//! - [`run`] proves tunnels: [`Job`]s go in, [`Event`]s come out, a [`CheckRow`] for every check. It works on the
//!   machine's own kernel where that has ESP, else in a guest kernel ([`Ground`]).
//!
//! Inside, in the order of the work: `ground/` (kernels, and the keeper that takes everything down again),
//! `stage/` (namespaces, gateways, hosts), `daemon/` (a driver for each daemon), `flow` (traffic), `witness`
//! (what is seen on the internet), `sas` (the kernel's counters), `proof` (the checks).

mod casting;
mod daemon;
mod flow;
mod ground;
mod job;
mod loader;
mod proof;
mod requirements;
mod sas;
mod stage;
mod update;
mod witness;

use std::io;

pub use casting::cast;
pub use daemon::complains;
pub use ground::{Ground, Options, inside_main, machine_has_esp, run};
pub use job::{
    Check, CheckRow, Depth, Event, Flowed, IkeSeen, Job, JobOpening, JobPair, JobSite, JobTunnel, Negotiation, Outcome, SiteFile, Takeover,
};
pub use loader::Loaded;
pub use requirements::{Lab, Missing, default_cache, ground, is_root, requirements};
pub use update::{SiteUpdate, StandingFiles, UpdateSeen, UpdateStep};

/// Whether there is a driver for the daemon of a platform.
pub fn has_daemon(platform: &str) -> bool {
    daemon::daemon(platform).is_some()
}

/// Whether somebody keeps a packet filter of this word.
pub fn has_administrator(filter: &str) -> bool {
    stage::ADMINISTRATORS.iter().any(|one| one.word() == filter)
}

/// Why the lab cannot run.
#[derive(Debug, thiserror::Error)]
pub enum LabError {
    /// The user is not root.
    #[error("the lab needs root: it makes network namespaces and installs the daemons' packages")]
    NotRoot,
    /// Packages could not be installed.
    #[error("the lab's packages could not be installed: {0}")]
    Install(String),
    /// The guest kernel could not be built.
    #[error("the lab's guest kernel could not be built: {0}")]
    Kernel(String),
    /// The lab ended before it was through.
    #[error("the lab ended too early: {0}")]
    Broken(String),
    /// It was told to stop.
    #[error("stopped; everything was taken down")]
    Stopped,
    /// A file or a process failed.
    #[error("{0}")]
    Io(#[from] io::Error),
}
