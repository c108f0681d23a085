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
