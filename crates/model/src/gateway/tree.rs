//! A gateway's files, rooted at its `/`.

use std::collections::{BTreeMap, HashSet};
use std::fmt;

use zeroize::Zeroize;

use crate::origins::FollowedKeys;
use crate::secret::Secret;

/// One file of a gateway.
#[derive(Clone)]
pub struct TreeFile {
    /// Whether only root may read it (mode 0600); otherwise 0644.
    pub private: bool,
    /// Whether several tunnels of a gateway each give it lines; a line that all of them give stands in it once.
    pub shared: bool,
    /// Its text.
    pub text: String,
    /// From which byte on its lines follow from which keys of the description, as far as its writer noted it.
    pub provenance: Vec<(usize, FollowedKeys)>,
}

/// What stands in it counts, not where that comes from.
impl PartialEq for TreeFile {
    fn eq(&self, other: &Self) -> bool {
        (self.private, self.shared, &self.text) == (other.private, other.shared, &other.text)
    }
}

impl Eq for TreeFile {}

impl TreeFile {
    /// A file that anybody may read.
    pub fn public(text: String) -> Self {
        TreeFile { private: false, shared: false, text, provenance: Vec::new() }
    }

    /// A file with a secret in it.
    pub fn private(text: String) -> Self {
        TreeFile { private: true, shared: false, text, provenance: Vec::new() }
    }

    /// A file of the whole gateway that anybody may read, to which each tunnel gives its lines.
    pub fn common(text: String) -> Self {
        TreeFile { private: false, shared: true, text, provenance: Vec::new() }
    }

    /// A file of the whole gateway, for its daemon alone, to which each tunnel gives its lines.
    pub fn shared(text: String) -> Self {
        TreeFile { private: true, shared: true, text, provenance: Vec::new() }
    }

    /// Permission bits.
    pub fn mode(&self) -> u32 {
        if self.private { 0o600 } else { 0o644 }
    }
}

impl fmt::Debug for TreeFile {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let text = if self.private { "[private]" } else { &self.text };
        f.debug_struct("TreeFile").field("mode", &format_args!("{:o}", self.mode())).field("text", &text).finish()
    }
}

impl Drop for TreeFile {
    fn drop(&mut self) {
        if self.private {
            self.text.zeroize();
        }
    }
}

/// A file to which several tunnels give their lines; those of the first one stand as they are, and a line that another one
/// gives too stands once.
#[derive(Debug)]
pub struct JoinedFile {
    file: TreeFile,
    known: HashSet<Box<str>>,
}

impl JoinedFile {
    /// Begins with the lines of one tunnel.
    pub fn new(file: TreeFile) -> Self {
        JoinedFile { known: file.text.lines().map(Box::from).collect(), file }
    }

    /// Adds the lines of another tunnel that are not there yet.
    pub fn add(&mut self, other: &TreeFile) {
        for line in other.text.lines() {
            if self.known.insert(line.into()) {
                self.file.text.push_str(line);
                self.file.text.push('\n');
            }
        }
    }

    /// The whole file.
    pub fn finish(self) -> TreeFile {
        self.file
    }
}

/// Files by path relative to the gateway's `/`, sorted.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Tree {
    /// The files.
    pub files: BTreeMap<String, TreeFile>,
}

impl Tree {
    /// A tree of one file that everybody may read.
    pub fn of(path: &str, text: &str) -> Tree {
        Tree { files: BTreeMap::from([(path.to_owned(), TreeFile::public(text.to_owned()))]) }
    }

    /// Adds a file.
    pub fn add(&mut self, path: impl Into<String>, file: TreeFile) {
        self.files.insert(path.into(), file);
    }

    /// What a file holds, as a secret.
    pub fn secret(&self, path: &str) -> Option<Secret> {
        self.files.get(path).map(|file| Secret::new(file.text.clone().into_bytes()))
    }

    /// Adds all files of another tree; shared files are joined.
    ///
    /// # Panics
    /// When both have another file at the same path: writers name files so that this cannot be.
    pub fn extend(&mut self, other: Tree) {
        for (path, file) in other.files {
            let joined = match self.files.remove(&path) {
                Some(known) if known.shared && file.shared => {
                    let mut joined = JoinedFile::new(known);
                    joined.add(&file);
                    joined.finish()
                }
                known => {
                    assert!(known.is_none(), "two files at {path}");
                    file
                }
            };
            self.files.insert(path, joined);
        }
    }

    /// The files directly inside a folder whose name ends in a suffix, in order of name.
    pub fn in_folder<'a>(&'a self, folder: &'a str, suffix: &'a str) -> impl Iterator<Item = (&'a str, &'a TreeFile)> {
        self.files.iter().filter_map(move |(path, file)| {
            let name = path.strip_prefix(folder)?.strip_prefix('/')?;
            (!name.contains('/') && name.ends_with(suffix)).then_some((path.as_str(), file))
        })
    }
}
