//! Failures of the outside world, and how a run ends.

use std::io;
use std::path::{Path, PathBuf};
use std::process::ExitCode;

use crate::show::path_shown;

/// How a run ended.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum CommandOutcome {
    /// Nothing stops the work.
    Fine,
    /// Findings stop the work.
    Stopped,
    /// The machine lacks what the work needs; the findings say what.
    Unable,
}

impl From<CommandOutcome> for ExitCode {
    fn from(verdict: CommandOutcome) -> Self {
        match verdict {
            CommandOutcome::Fine => ExitCode::SUCCESS,
            CommandOutcome::Stopped => ExitCode::from(1),
            CommandOutcome::Unable => ExitCode::from(3),
        }
    }
}

/// Something outside of the program failed.
#[derive(Debug, thiserror::Error)]
pub enum Failure {
    /// A file or folder.
    #[error("{what} `{}`: {source}", path_shown(path))]
    File {
        /// What was tried, for example "cannot read".
        what: &'static str,
        /// On which path.
        path: PathBuf,
        /// What the system said.
        source: io::Error,
    },
    /// The terminal or the pipe behind standard output.
    #[error("cannot write to standard output: {0}")]
    Output(#[from] io::Error),
    /// The system's source of randomness.
    #[error("the system gives no random numbers: {0}")]
    Random(getrandom::Error),
    /// Making a key or a certificate.
    #[cfg(feature = "certificates")]
    #[error("the key or certificate cannot be made: {0}")]
    Key(rcgen::Error),
    /// Something that the work needs is not on this machine.
    #[error("{0}")]
    Outside(String),
    /// Arguments that do not fit each other or the description.
    #[error("{0}")]
    Usage(String),
    /// The lab.
    #[cfg(feature = "prove")]
    #[error("{0}")]
    Lab(#[from] uspan_lab::LabError),
}

impl Failure {
    /// Wraps a system error with what was tried.
    pub fn file(what: &'static str, path: &Path) -> impl FnOnce(io::Error) -> Failure + use<> {
        let path = path.to_owned();
        move |source| Failure::File { what, path, source }
    }

    /// The exit code: 2 for wrong usage, 3 for the outside world; for a closed pipe that of a program that SIGPIPE ends, because what
    /// was not told may have been no success.
    pub fn code(&self) -> ExitCode {
        ExitCode::from(match self {
            Failure::Usage(_) => 2,
            _ if self.is_closed_pipe() => 141,
            _ => 3,
        })
    }

    /// Whether the reader of a pipe went away.
    pub fn is_closed_pipe(&self) -> bool {
        matches!(self, Failure::Output(error) if error.kind() == io::ErrorKind::BrokenPipe)
    }
}
