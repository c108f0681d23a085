//! The daemons' own loaders, each alone with one gateway's files.

use std::io;
use std::path::Path;
use std::process::Command;

use uspan_core::Tree;

use crate::daemon::{complains, daemon};
use crate::stage::room::PATH;
use crate::{Lab, LabError};

const LOAD: &str = include_str!("../scripts/load.sh");

/// What a loader said.
#[derive(Debug, Default)]
pub struct Loaded {
    /// Every line, with its origin before it.
    pub lines: Vec<String>,
}

impl Loaded {
    /// Lines that speak of anything but success.
    pub fn complaints(&self) -> Vec<&str> {
        let failed = |line: &str| line.split_once(" exit ").is_some_and(|(_, code)| code != "0");
        self.lines.iter().map(String::as_str).filter(|line| failed(line) || complains(line)).collect()
    }

    /// Whether some line contains this text.
    pub fn says(&self, text: &str) -> bool {
        self.lines.iter().any(|line| line.contains(text))
    }
}

impl Lab {
    /// Lets the daemon of a platform load a tree, as the gateway with this outside address.
    ///
    /// # Errors
    /// When a file or a process fails; what the daemon thinks of the tree is in the result.
    pub fn load(&self, platform: &str, tree: &Tree, address: &str) -> Result<Loaded, LabError> {
        let driver = daemon(platform).ok_or_else(|| io::Error::other(format!("no daemon `{platform}` is known here")))?.loader();
        let folder = tempfile::Builder::new().prefix("uspan-tree-").tempdir_in("/var/tmp")?;
        lay_out(tree, folder.path())?;
        let output = Command::new("/usr/bin/unshare")
            .env("PATH", PATH)
            .args(["--net", "--mount", "--pid", "--fork", "--kill-child", "--mount-proc", "sh", "-c", LOAD, "load.sh", driver])
            .arg(folder.path())
            .arg(address)
            .arg(self.cache())
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
