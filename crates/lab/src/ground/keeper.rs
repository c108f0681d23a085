//! The processes below `prove`: the keeper, which ends everything when it ends, and what performs the jobs in the sandbox.

use std::fs;
use std::io::{self, Read as _};
use std::path::{Path, PathBuf};
use std::process::{Command, ExitCode, Stdio};

use super::perform::perform;
use super::sandbox;
use super::{Ground, guest};
use crate::stage::gateway::tmpfs;
use crate::stage::room::PATH;

/// The hidden half of the program; `args` say which part to play.
pub fn inside_main(args: &[String]) -> ExitCode {
    let words: Vec<&str> = args.iter().map(String::as_str).collect();
    let done = match words.as_slice() {
        ["keeper", folder, rest @ ..] => {
            watch_input(PathBuf::from(folder));
            keep(Path::new(folder), rest)
        }
        ["sandbox", folder, program, cache, rest @ ..] => Err(enter(folder, program, cache, rest)),
        ["perform", folder, cache] => on_this_kernel(Path::new(folder), Path::new(cache)),
        ["perform", folder, cache, megabytes, kernel] => {
            let megabytes = megabytes.parse().unwrap_or(512);
            guest::boot(Path::new(kernel), Path::new(folder), Path::new(cache), megabytes).map(drop)
        }
        // The kernel appends arguments of its own.
        ["guest", folder, cache, ..] => guest::init(Path::new(folder), Path::new(cache)),
        _ => Err(io::Error::other("this command is for `uspan prove` alone")),
    };
    match done {
        Ok(()) => ExitCode::SUCCESS,
        Err(error) => {
            eprintln!("uspan: {error}");
            ExitCode::from(3)
        }
    }
}

/// Enters the sandbox: on the machine's kernel, or with the memory and the file of a guest kernel.
fn enter(folder: &str, program: &str, cache: &str, rest: &[&str]) -> io::Error {
    let (ground, more) = match rest {
        [megabytes, kernel] => (Ground::Guest(PathBuf::from(kernel)), vec![(*megabytes).to_owned()]),
        _ => (Ground::Machine, Vec::new()),
    };
    sandbox::enter(Path::new(folder), Path::new(program), Path::new(cache), &ground, &more)
}

/// Ends this process, and with it everything in its process namespace, when standard input ends. Whoever started
/// it may be gone by then, so the folder of the run is taken away here too.
fn watch_input(folder: PathBuf) {
    std::thread::spawn(move || {
        let mut byte = [0];
        while matches!(io::stdin().read(&mut byte), Ok(1..)) {}
        // Files are still being written until this process has ended; the one that started it, if it is still
        // there, takes away what appears meanwhile.
        let _ = fs::remove_dir_all(&folder);
        std::process::exit(3);
    });
}

/// Starts the sandbox and waits for its end. This process stays outside of it, as the first of its process namespace.
fn keep(folder: &Path, rest: &[&str]) -> io::Result<()> {
    let console = fs::OpenOptions::new().append(true).open(folder.join("console"))?;
    let mut sandbox = Command::new(std::env::current_exe()?);
    sandbox.args(["prove-inside", "sandbox"]).arg(folder).args(rest).env_clear().env("PATH", PATH);
    let status = sandbox.stdin(Stdio::null()).stdout(console.try_clone()?).stderr(console).status()?;
    if status.success() { Ok(()) } else { Err(io::Error::other(format!("the sandbox ended with {status}"))) }
}

fn on_this_kernel(folder: &Path, cache: &Path) -> io::Result<()> {
    let state = folder.join("state");
    tmpfs(&state.to_string_lossy())?;
    perform(folder, cache, &state, false)
}
