//! Reads trees of files as they stand in a folder.

use std::collections::BTreeMap;
use std::fs;
use std::os::unix::fs::PermissionsExt as _;
use std::path::Path;

use uspan_core::{Build, Tree, TreeFile};

use crate::failure::Failure;

/// The trees as they stand in an output folder, for the sites of a build.
#[cfg(feature = "prove")]
pub fn standing(folder: &Path, planned: &Build) -> Result<BTreeMap<String, Tree>, Failure> {
    let mut trees = BTreeMap::new();
    for site in planned.trees.keys() {
        let mut tree = Tree::default();
        let root = folder.join(site);
        read_tree(&root, "", &mut tree)?;
        trees.insert(site.clone(), tree);
    }
    Ok(trees)
}

fn read_tree(root: &Path, below: &str, tree: &mut Tree) -> Result<(), Failure> {
    let folder = root.join(below);
    for entry in fs::read_dir(&folder).map_err(Failure::file("cannot read", &folder))? {
        let entry = entry.map_err(Failure::file("cannot read", &folder))?;
        let name = entry.file_name().to_string_lossy().into_owned();
        let path = if below.is_empty() { name } else { format!("{below}/{name}") };
        let cannot = || Failure::file("cannot read", &root.join(&path));
        let meta = fs::metadata(entry.path()).map_err(cannot())?;
        if meta.is_dir() {
            read_tree(root, &path, tree)?;
        } else {
            let text = fs::read_to_string(entry.path()).map_err(cannot())?;
            let private = meta.permissions().mode() & 0o077 == 0;
            tree.add(path, if private { TreeFile::private(text) } else { TreeFile::public(text) });
        }
    }
    Ok(())
}

/// A gateway's files, from a folder that stands for its `/`: what concerns tunnels, and of that what is text.
pub fn gateway(root: &Path) -> Result<Tree, Failure> {
    let mut tree = Tree::default();
    let etc = root.join("etc");
    if !etc.is_dir() {
        return Err(Failure::Usage(format!("there is no folder `{}`; name the folder that stands for the gateway's /", etc.display())));
    }
    gather(root, "etc", &mut tree, 0)?;
    if root.join("listing").is_dir() {
        gather(root, "listing", &mut tree, 0)?;
    }
    Ok(tree)
}

/// Deeper than any of these folders; links in a circle end here.
const DEEPEST: usize = 8;
/// Larger than any configuration.
const LARGEST: u64 = 4 << 20;

fn gather(root: &Path, below: &str, tree: &mut Tree, depth: usize) -> Result<(), Failure> {
    let folder = root.join(below);
    for entry in fs::read_dir(&folder).map_err(Failure::file("cannot read", &folder))? {
        let entry = entry.map_err(Failure::file("cannot read", &folder))?;
        let path = format!("{below}/{}", entry.file_name().to_string_lossy());
        let leads =
            |start: &&&str| format!("{path}/").starts_with(**start) || start.starts_with(&format!("{path}/")) || path.starts_with(**start);
        // A link that leads nowhere is no file.
        let Some(meta) = uspan_core::READ_BELOW.iter().find(leads).and_then(|_| fs::metadata(entry.path()).ok()) else { continue };
        if meta.is_dir() && depth < DEEPEST {
            gather(root, &path, tree, depth + 1)?;
        } else if meta.is_file() && meta.len() <= LARGEST {
            let bytes = fs::read(entry.path()).map_err(Failure::file("cannot read", &entry.path()))?;
            // A database of keys is not read.
            if let Ok(text) = String::from_utf8(bytes) {
                let private = meta.permissions().mode() & 0o077 == 0;
                tree.add(path, if private { TreeFile::private(text) } else { TreeFile::public(text) });
            }
        }
    }
    Ok(())
}

/// What an earlier build left for the sites of this one. Whatever cannot be read is not compared.
pub fn earlier(folder: &Path, planned: &Build) -> BTreeMap<String, Tree> {
    let mut trees = BTreeMap::new();
    for site in planned.trees.keys() {
        let mut tree = Tree::default();
        if folder.join(site).is_dir() && read_tree(&folder.join(site), "", &mut tree).is_ok() {
            trees.insert(site.clone(), tree);
        }
    }
    trees
}
