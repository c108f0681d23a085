//! Gateways as their files say, for every command that looks at them.

use std::collections::BTreeMap;
use std::path::Path;

use uspan_core::{Finding, Gateway, Looked, Platform, Source, Tree, platform, platforms_of, read_tree};

use crate::failure::Failure;
use crate::files::trees;

/// A gateway as its files say.
pub struct Read {
    /// What its folder is called.
    pub name: String,
    /// Whose files these are.
    pub platform: &'static dyn Platform,
    /// The files.
    pub tree: Tree,
    /// What they say.
    pub gateway: Gateway,
    /// What was found while they were read.
    pub findings: Vec<Finding>,
    /// Its files by the path that places name, each called as the user would open it.
    pub sources: BTreeMap<String, Source>,
}

impl Read {
    /// As it takes part in a comparison or a rehearsal.
    pub fn looked(&self) -> Looked<'_> {
        Looked { name: &self.name, gateway: &self.gateway, ends_open: self.platform.facts().ends_by_address, tree: Some(&self.tree) }
    }
}

/// Reads a gateway from a folder that stands for its `/`; `word` is its platform, said with an option of this name.
pub fn read(folder: &Path, word: Option<&str>, option: &str) -> Result<Read, Failure> {
    let tree = trees::gateway(folder)?;
    let platform = platform_of(folder, &tree, word, option)?;
    let (gateway, mut found) = read_tree(platform, &tree);
    // People open files by the path that they gave.
    let path = |below: &str| folder.join(below).display().to_string();
    let sources = tree.files.iter().map(|(below, file)| (below.clone(), Source::new(path(below), file.text.as_str()))).collect();
    for place in found.iter_mut().flat_map(|finding| finding.place.iter_mut().chain(finding.related.iter_mut().map(|(place, _)| place))) {
        place.file = path(&place.file).into();
    }
    let name = folder.canonicalize().ok().and_then(|full| Some(full.file_name()?.to_string_lossy().into_owned()));
    Ok(Read { name: name.unwrap_or_else(|| "left".to_owned()), platform, tree, gateway, findings: found, sources })
}

fn platform_of(folder: &Path, tree: &Tree, word: Option<&str>, option: &str) -> Result<&'static dyn Platform, Failure> {
    let there = platforms_of(tree);
    let words = |list: &[&'static dyn Platform]| list.iter().map(|platform| platform.facts().word).collect::<Vec<_>>().join(", ");
    match (word, there.as_slice()) {
        (Some(word), _) => {
            platform(word).ok_or_else(|| Failure::Usage(format!("`{word}` is no platform; there are {}", words(uspan_core::PLATFORMS))))
        }
        (None, [one]) => Ok(*one),
        (None, []) => Err(Failure::Usage(format!("there are no files of a known platform below `{}/etc`", folder.display()))),
        (None, several) => {
            Err(Failure::Usage(format!("there are files of {} below `{}/etc`; say which with {option}", words(several), folder.display())))
        }
    }
}
