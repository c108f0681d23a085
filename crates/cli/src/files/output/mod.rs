//! Writes trees of files, all or none.
//!
//! The new output is laid out beside the old one and takes its place in one step (`renameat2` with
//! `RENAME_EXCHANGE`), so that at any moment either the earlier output stands whole or the new one.
//! A manifest tells the program's own files from everybody else's: what it did not write, or what
//! was changed since, is not overwritten unless the user says so.

mod carry;
mod layout;
mod manifest;
mod standing;

use std::collections::BTreeMap;
use std::path::Path;

use serde::Serialize;
use uspan_core::{Finding, Tree};

use crate::failure::Failure;
pub use layout::{Folders, Layout};
pub use manifest::{Earlier, listed};
use manifest::{Entry, octal};

/// What became of a file.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize)]
#[serde(rename_all = "lowercase")]
pub enum FileChange {
    /// It was not there.
    New,
    /// Its content is another one.
    Changed,
    /// It stays as it was.
    Same,
    /// The description no longer asks for it.
    Removed,
}

impl FileChange {
    /// In a word.
    pub fn word(self) -> &'static str {
        match self {
            FileChange::New => "new",
            FileChange::Changed => "changed",
            FileChange::Same => "same",
            FileChange::Removed => "removed",
        }
    }
}

/// A file of the output.
#[derive(Debug, Serialize)]
pub struct Written {
    /// Path relative to the output folder.
    pub path: Box<str>,
    /// Permission bits; nothing where it is removed.
    #[serde(serialize_with = "octal::words")]
    pub mode: Option<u32>,
    /// Size in bytes.
    pub bytes: usize,
    /// What became of it.
    pub change: FileChange,
}

impl Written {
    /// Its mode in octal digits.
    pub fn mode_words(&self) -> String {
        self.mode.map_or_else(String::new, |mode| format!("{mode:04o}"))
    }
}

/// What came of writing.
pub enum OutputOutcome {
    /// Everything stands.
    Done(Vec<Written>),
    /// Something is in the way; nothing was touched.
    Refused(Vec<Finding>),
}

/// A file that is to stand in the output.
#[derive(Debug)]
pub struct Planned {
    path: Box<str>,
    bytes: usize,
    entry: Entry,
}

impl Planned {
    /// The site that it is for.
    pub fn site(&self) -> &str {
        self.path.split('/').next().unwrap_or_default()
    }
}

/// How to write.
#[derive(Clone, Copy, Debug, Default)]
pub struct WriteOptions {
    /// Overwrite what is not ours, or was changed since.
    pub replace: bool,
    /// Only say what would be written.
    pub preview: bool,
}

/// Writes the trees, a folder for each site.
pub fn write(output: &Path, trees: &BTreeMap<String, Tree>, options: WriteOptions) -> Result<OutputOutcome, Failure> {
    let layout = match Layout::begin(output, options)? {
        Ok(layout) => layout,
        Err(findings) => return Ok(OutputOutcome::Refused(findings)),
    };
    let (mut planned, mut folders) = (Vec::new(), Folders::default());
    for (site, tree) in trees {
        for (path, file) in &tree.files {
            planned.push(layout.add(format!("{site}/{path}"), file, &mut folders)?);
        }
    }
    layout.finish(planned)
}

/// What is to stand at a path; the list is sorted.
fn planned_at<'a>(planned: &'a [Planned], path: &str) -> Option<&'a Planned> {
    planned.binary_search_by(|file| (*file.path).cmp(path)).ok().map(|at| &planned[at])
}
