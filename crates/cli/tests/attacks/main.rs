//! The program attacked: each of these came through once, or was tried.
//!
//! `output`: what stands where is written, and what a run leaves behind. `input`: files that are no files, links, names that steer.
//! `secrets`: what is shown. `payloads`: everything into every field, judged by readers of others. What real daemons and loaders make
//! of it is in the lab's tests (`crates/lab/tests/readers.rs`), what it may cost in `crates/core/tests/cases/budget.rs`.

#![allow(clippy::disallowed_methods, clippy::disallowed_macros, reason = "tests have files of their own")]

#[path = "../common/mod.rs"]
mod common;
mod input;
mod output;
mod payloads;
mod secrets;
mod texts;

use std::path::Path;
use std::process::{Child, Command, Stdio};

/// The built program.
pub const PROGRAM: &str = env!("CARGO_BIN_EXE_uspan");

/// Starts the program and goes on.
pub fn start(folder: &Path, args: &[&str]) -> Child {
    let mut command = Command::new(PROGRAM);
    command.args(args).current_dir(folder).stdin(Stdio::null()).stdout(Stdio::piped()).stderr(Stdio::piped());
    command.spawn().expect("it runs")
}

/// Whether this is root, who alone can do some of it; says so where it is not.
pub fn is_root() -> bool {
    let root = std::os::unix::fs::MetadataExt::uid(&std::fs::metadata("/proc/self").expect("proc")) == 0;
    if !root {
        eprintln!("NOT TRIED: only root can do this");
    }
    root
}
