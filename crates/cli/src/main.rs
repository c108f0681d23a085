//! `uspan`: the command line of Unified Span. Arguments, files, terminal and exit codes; everything
//! else is in the core.

mod args;
mod commands;
mod failure;
mod files;
mod show;

use std::process::ExitCode;

use clap::Parser;

fn main() -> ExitCode {
    match commands::run(args::Args::parse()) {
        Ok(verdict) => verdict.into(),
        Err(failure) => {
            // A closed pipe is the reader's decision, not an error worth a message.
            if !failure.is_closed_pipe() {
                anstream::eprintln!("uspan: {failure}");
            }
            ExitCode::from(3)
        }
    }
}
