//! `uspan`: the command line of Unified Span. Arguments, files, terminal and exit codes; everything
//! else is in the core.

mod args;
mod commands;
mod failure;
mod files;
mod fleet;
mod page;
mod show;

use std::process::ExitCode;

use clap::Parser;
use clap::error::ErrorKind;
use rustix::process::{DumpableBehavior, Resource, Rlimit, set_dumpable_behavior, setrlimit};

use crate::failure::Failure;
use crate::show::terminal;

/// Reading and writing configurations is mostly small texts; what it gives stands in docs/performance.md.
#[global_allocator]
static ALLOCATOR: mimalloc::MiMalloc = mimalloc::MiMalloc;

fn main() -> ExitCode {
    // Who asks for the version, perhaps in a loop over machines, does not wait for all the commands to be set up.
    if std::env::args_os().skip(1).eq(["--version"]) {
        return told(terminal::line(&format!("uspan {}", env!("CARGO_PKG_VERSION"))));
    }
    // Secrets are in memory: none of it goes to a disk, and no other process of the user looks at it.
    let _ = setrlimit(Resource::Core, Rlimit { current: Some(0), maximum: Some(0) });
    let args = match args::Args::try_parse() {
        Ok(args) => args,
        Err(asked) if matches!(asked.kind(), ErrorKind::DisplayHelp | ErrorKind::DisplayVersion) => return told(terminal::help(&asked)),
        Err(wrong) => wrong.exit(),
    };
    #[cfg(feature = "prove")]
    if let args::Command::ProveInside { args } = &args.command {
        return uspan_lab::inside_main(args);
    }
    let _ = set_dumpable_behavior(DumpableBehavior::NotDumpable);
    match commands::run(args) {
        Ok(verdict) => verdict.into(),
        Err(failure) => ended(&failure),
    }
}

fn told(written: std::io::Result<()>) -> ExitCode {
    written.map_err(Failure::from).map_or_else(|failure| ended(&failure), |()| ExitCode::SUCCESS)
}

fn ended(failure: &Failure) -> ExitCode {
    // A closed pipe is the reader's decision, not an error worth a message.
    if !failure.is_closed_pipe() {
        terminal::error_line(&format!("uspan: {failure}"));
    }
    failure.code()
}
