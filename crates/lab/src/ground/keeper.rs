//! The processes below `prove`: the keeper, which ends everything when it ends, and what performs the jobs.

use std::fs;
use std::io::{self, Read as _};
use std::path::{Path, PathBuf};
use std::process::ExitCode;

use super::guest;
use super::perform::perform;
use crate::stage::gateway::tmpfs;

/// The hidden half of the program; `args` say which part to play.
pub fn inside_main(args: &[String]) -> ExitCode {
    let words: Vec<&str> = args.iter().map(String::as_str).collect();
    let done = match words.as_slice() {
        ["keeper", folder, cache] => {
            watch_input(PathBuf::from(folder));
            on_this_kernel(Path::new(folder), Path::new(cache))
        }
        ["keeper", folder, cache, kernel, megabytes] => {
            watch_input(PathBuf::from(folder));
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

fn on_this_kernel(folder: &Path, cache: &Path) -> io::Result<()> {
    let state = folder.join("state");
    fs::create_dir_all(&state)?;
    tmpfs(&state.to_string_lossy())?;
    perform(folder, cache, &state, false)
}
