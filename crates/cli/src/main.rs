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

/// Reading and writing configurations is mostly small texts.
#[global_allocator]
static ALLOCATOR: mimalloc::MiMalloc = mimalloc::MiMalloc;

fn main() -> ExitCode {
    // Who asks for the version, perhaps in a loop over machines, does not wait for all the commands to be set up.
    if std::env::args_os().skip(1).eq(["--version"]) {
        println!("uspan {}", env!("CARGO_PKG_VERSION"));
        return ExitCode::SUCCESS;
    }
    let args = args::Args::parse();
    #[cfg(feature = "prove")]
    if let args::Command::ProveInside { args } = &args.command {
        return uspan_lab::inside_main(args);
    }
    match commands::run(args) {
        Ok(verdict) => verdict.into(),
        Err(failure) => {
            // A closed pipe is the reader's decision, not an error worth a message.
            if !failure.is_closed_pipe() {
                anstream::eprintln!("uspan: {failure}");
            }
            failure.code()
        }
    }
}
