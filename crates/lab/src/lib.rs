//! The lab: real IKE daemons, in namespaces of their own.
//!
//! [`Lab::ready`] installs what is needed (root, Debian 12, apt) and [`Lab::load`] lets a daemon's own
//! loader take up a gateway's tree of files and reports every line it prints. Real tunnels between
//! two daemons will stand beside it.

use std::io;
use std::path::{Path, PathBuf};
use std::process::Command;

use uspan_core::Tree;

const INSTALL: &str = include_str!("../scripts/install.sh");
const LOAD: &str = include_str!("../scripts/load.sh");

/// Why the lab cannot run.
#[derive(Debug, thiserror::Error)]
pub enum LabError {
    /// The user is not root.
    #[error("the lab needs root: it makes network namespaces and installs the daemons' packages")]
    NotRoot,
    /// Packages could not be installed.
    #[error("the lab's packages could not be installed: {0}")]
    Install(String),
    /// A file or a process failed.
    #[error("{0}")]
    Io(#[from] io::Error),
}

/// A lab that is ready to run.
#[derive(Debug)]
pub struct Lab {
    cache: PathBuf,
}

/// What a loader said.
#[derive(Debug, Default)]
pub struct Loaded {
    /// Every line, with its origin before it.
    pub lines: Vec<String>,
}

impl Loaded {
    /// Lines that speak of anything but success.
    pub fn complaints(&self) -> Vec<&str> {
        const WORDS: [&str; 9] = ["warn", "error", "fail", "ignor", "unknown", "invalid", "bad ", "not appear", "unable"];
        let bad = |line: &str| {
            let lower = line.to_lowercase();
            let exit = line.split_once(" exit ").is_some_and(|(_, code)| code != "0");
            exit || WORDS.iter().any(|word| lower.contains(word))
        };
        self.lines.iter().map(String::as_str).filter(|line| bad(line)).collect()
    }

    /// Whether some line contains this text.
    pub fn says(&self, text: &str) -> bool {
        self.lines.iter().any(|line| line.contains(text))
    }
}

impl Lab {
    /// Makes the lab ready: installs what is missing into the system and into `cache`.
    ///
    /// # Errors
    /// Without root, or when a package cannot be had.
    pub fn ready(cache: &Path) -> Result<Lab, LabError> {
        let id = Command::new("id").arg("-u").output()?;
        if id.stdout != b"0\n" {
            return Err(LabError::NotRoot);
        }
        std::fs::create_dir_all(cache)?;
        let output = Command::new("sh").args(["-c", INSTALL, "install.sh"]).arg(cache).output()?;
        if !output.status.success() {
            return Err(LabError::Install(String::from_utf8_lossy(&output.stderr).into_owned()));
        }
        Ok(Lab { cache: cache.to_owned() })
    }

    /// Where the lab keeps what it unpacked, unless the user says otherwise.
    pub fn default_cache() -> PathBuf {
        PathBuf::from("/var/cache/uspan-lab")
    }

    /// Lets the daemon of a platform load a tree, as the gateway with this outside address.
    ///
    /// # Errors
    /// When a file or a process fails; what the daemon thinks of the tree is in the result.
    pub fn load(&self, platform: &str, tree: &Tree, address: &str) -> Result<Loaded, LabError> {
        let folder = tempfile::Builder::new().prefix("uspan-tree-").tempdir_in("/var/tmp")?;
        lay_out(tree, folder.path())?;
        let output = Command::new("unshare")
            .args(["--net", "--mount", "--pid", "--fork", "--kill-child", "--mount-proc", "sh", "-c", LOAD, "load.sh", platform])
            .arg(folder.path())
            .arg(address)
            .arg(&self.cache)
            .output()?;
        let text = [output.stdout, output.stderr].concat();
        Ok(Loaded { lines: String::from_utf8_lossy(&text).lines().map(str::to_owned).collect() })
    }
}

/// Writes a tree into a folder, with its modes.
fn lay_out(tree: &Tree, folder: &Path) -> io::Result<()> {
    use std::os::unix::fs::PermissionsExt as _;
    for (path, file) in &tree.files {
        let path = folder.join(path);
        std::fs::create_dir_all(path.parent().unwrap_or(folder))?;
        std::fs::write(&path, &file.text)?;
        std::fs::set_permissions(&path, std::fs::Permissions::from_mode(file.mode()))?;
    }
    Ok(())
}
