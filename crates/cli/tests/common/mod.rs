//! Runs the built program on files in a temporary folder.
#![allow(dead_code, reason = "each test program uses a part of it")]

use std::fs;
use std::os::unix::fs::PermissionsExt as _;
use std::path::{Path, PathBuf};
use std::process::Command;

use serde_json::Value;

/// What a run said.
pub struct Run {
    pub code: i32,
    pub stdout: String,
    pub stderr: String,
}

impl Run {
    pub fn json(&self) -> Value {
        serde_json::from_str(&self.stdout).unwrap_or_else(|e| panic!("{e}: {}\n{}", self.stdout, self.stderr))
    }

    pub fn all(&self) -> String {
        format!("{}{}", self.stdout, self.stderr)
    }
}

/// Runs the program in a folder.
pub fn uspan(folder: &Path, args: &[&str]) -> Run {
    let output = Command::new(env!("CARGO_BIN_EXE_uspan")).args(args).current_dir(folder).output().expect("the program runs");
    Run {
        code: output.status.code().expect("an exit code"),
        stdout: String::from_utf8(output.stdout).expect("text"),
        stderr: String::from_utf8(output.stderr).expect("text"),
    }
}

pub fn write(path: &Path, content: impl AsRef<[u8]>, mode: u32) {
    fs::create_dir_all(path.parent().expect("a folder")).expect("made");
    fs::write(path, content).expect("written");
    fs::set_permissions(path, fs::Permissions::from_mode(mode)).expect("set");
}

pub const SECRET: &str = "Kq8vT2mXr0ZpL4nWc7YbD1sHfJ6gUeA9tRoEiNvB3xM";

/// A folder with the orchard's description and its secret.
pub fn orchard() -> tempfile::TempDir {
    let folder = tempfile::tempdir().expect("a folder");
    write(&folder.path().join("orchard.span.toml"), include_str!("../../../core/demo/orchard.span.toml"), 0o644);
    write(&folder.path().join("secrets/harvest.key"), format!("{SECRET}\n"), 0o600);
    folder
}

/// All files below a folder, sorted.
pub fn files(folder: &Path) -> Vec<PathBuf> {
    let mut found = Vec::new();
    let mut open = vec![folder.to_owned()];
    while let Some(path) = open.pop() {
        for entry in fs::read_dir(&path).expect("a folder") {
            let entry = entry.expect("an entry");
            match entry.file_type().expect("a kind").is_dir() {
                true => open.push(entry.path()),
                false => found.push(entry.path()),
            }
        }
    }
    found.sort();
    found
}

/// Key files of the orchard's sites, made by the program.
pub fn write_keys(folder: &Path) {
    for site in ["packhouse", "coldstore", "press"] {
        let run = uspan(folder, &["secret", &format!("keys/{site}.key"), "--pair"]);
        assert_eq!(run.code, 0, "{}", run.stderr);
    }
}
