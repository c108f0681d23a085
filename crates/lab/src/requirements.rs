//! What must be there, and how it comes there.

use std::io::Write as _;
use std::os::unix::fs::PermissionsExt as _;
use std::path::{Path, PathBuf};
use std::process::Command;

use crate::LabError;
use crate::daemon::daemon;
use crate::ground::{Ground, KERNEL_BUILD, KERNEL_CONFIG, kernel_file, machine_has_esp};
use crate::stage::ADMINISTRATORS;
use crate::stage::room::PATH;

const INSTALL: &str = include_str!("../scripts/install.sh");

/// Where the lab keeps what it unpacked and built, unless the user says otherwise.
pub fn default_cache() -> PathBuf {
    PathBuf::from("/var/cache/uspan-lab")
}

/// Something that is not there.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Missing {
    /// What it is.
    pub what: String,
    /// The Debian package that brings it, where that is all it takes.
    pub package: Option<&'static str>,
}

/// Whether this is root.
pub fn is_root() -> bool {
    rustix::process::geteuid().is_root()
}

/// The ground that this machine offers: its own kernel, or a guest kernel if one was built.
///
/// # Errors
/// What is missing.
pub fn ground(cache: &Path) -> Result<Ground, Missing> {
    if machine_has_esp() {
        return Ok(Ground::Machine);
    }
    let kernel = kernel_file(cache);
    match kernel.exists() {
        true => Ok(Ground::Guest(kernel)),
        false => {
            Err(Missing { what: "a kernel with ESP: this machine's has none, and no guest kernel was built yet".to_owned(), package: None })
        }
    }
}

/// What is missing to prove tunnels between these platforms, with a routing protocol or without.
pub fn requirements(platforms: &[&str], routing: bool, cache: &Path) -> Vec<Missing> {
    let mut needed = vec![(PathBuf::from("/usr/sbin/ip"), "iproute2"), (PathBuf::from("/sbin/ifup"), "ifupdown")];
    needed.extend(ADMINISTRATORS.iter().map(|one| one.program()).map(|(path, package)| (PathBuf::from(path), package)));
    if routing {
        needed.extend(crate::daemon::router::programs());
    }
    let mut missing = Vec::new();
    for platform in platforms {
        match daemon(platform) {
            Some(daemon) => needed.extend(daemon.programs(cache)),
            None => missing.push(Missing { what: format!("a daemon for the platform `{platform}`"), package: None }),
        }
    }
    let absent = needed.into_iter().filter(|(path, _)| !path.exists());
    missing.extend(absent.map(|(path, package)| Missing { what: format!("`{}`", path.display()), package: Some(package) }));
    missing
}

/// A lab that is ready to run.
#[derive(Debug)]
pub struct Lab {
    cache: PathBuf,
}

impl Lab {
    /// Makes the lab ready for loaders: installs what is missing into the system and into `cache`.
    ///
    /// # Errors
    /// Without root, or when a package cannot be had.
    pub fn ready(cache: &Path) -> Result<Lab, LabError> {
        if !is_root() {
            return Err(LabError::NotRoot);
        }
        std::fs::create_dir_all(cache)?;
        // What performs a proof is nobody's user, and reads what stands there.
        std::fs::set_permissions(cache, std::fs::Permissions::from_mode(0o755))?;
        let output = Command::new("/bin/sh").args(["-c", INSTALL, "install.sh"]).arg(cache).env("PATH", PATH).output()?;
        if !output.status.success() {
            return Err(LabError::Install(String::from_utf8_lossy(&output.stderr).into_owned()));
        }
        Ok(Lab { cache: cache.to_owned() })
    }

    /// Makes the lab ready for tunnels too: builds the guest kernel where the machine's has no ESP and none was
    /// built. That takes about seven minutes, once.
    ///
    /// # Errors
    /// When it cannot be built.
    pub fn ready_for_tunnels(cache: &Path) -> Result<(Lab, Ground), LabError> {
        let lab = Lab::ready(cache)?;
        if let Ok(ground) = ground(cache) {
            return Ok((lab, ground));
        }
        let mut config = tempfile::NamedTempFile::new()?;
        config.write_all(KERNEL_CONFIG.as_bytes())?;
        let kernel = kernel_file(cache);
        let output = Command::new("/bin/bash")
            .env("PATH", PATH)
            .args(["-c", KERNEL_BUILD, "build-kernel.sh"])
            .arg(config.path())
            .arg(&kernel)
            .output()?;
        if !output.status.success() {
            let text = String::from_utf8_lossy(&output.stderr).into_owned();
            let lines: Vec<_> = text.lines().collect();
            return Err(LabError::Kernel(lines[lines.len().saturating_sub(8)..].join("\n")));
        }
        std::fs::set_permissions(&kernel, std::fs::Permissions::from_mode(0o755))?;
        Ok((lab, Ground::Guest(kernel)))
    }

    /// Where what was unpacked stands.
    pub fn cache(&self) -> &Path {
        &self.cache
    }
}
