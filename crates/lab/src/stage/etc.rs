//! What a gateway finds at its `/etc`: the machine's own, with its tree of files laid over it.
//!
//! The machine's `/etc` is not copied: everything that the tree does not touch is a link into it, but for what only the machine's
//! root may read. Of that a folder is there, and empty.

use std::fs::{self, DirBuilder, File, OpenOptions};
use std::io::{self, Write as _};
use std::os::unix::fs::{DirBuilderExt as _, OpenOptionsExt as _, symlink};
use std::path::{Component, Path};

use crate::job::SiteFile;

/// Makes `target` look like `base`, by links.
///
/// # Errors
/// When a folder cannot be read or a link cannot be made.
pub fn mirror(base: &Path, target: &Path) -> io::Result<()> {
    fs::create_dir_all(target)?;
    let entries = match fs::read_dir(base) {
        // What only the machine's root may see is not there.
        Err(error) if error.kind() == io::ErrorKind::PermissionDenied => return Ok(()),
        entries => entries?,
    };
    for entry in entries {
        let name = entry?.file_name();
        let denied = |error: &io::Error| error.kind() == io::ErrorKind::PermissionDenied;
        let (there, here) = (base.join(&name), target.join(&name));
        match fs::metadata(&there) {
            Ok(meta) if meta.is_dir() && fs::read_dir(&there).is_err_and(|error| denied(&error)) => {
                DirBuilder::new().mode(0o700).create(&here)?;
            }
            Ok(meta) if meta.is_file() && File::open(&there).is_err_and(|error| denied(&error)) => {}
            _ => symlink(&there, &here)?,
        }
    }
    Ok(())
}

/// Adds the entries of a folder that a mirrored one does not have, by links; folders that both have are merged.
///
/// # Errors
/// On a failure of the file system.
pub fn add(base: &Path, target: &Path) -> io::Result<()> {
    for entry in fs::read_dir(base)? {
        let entry = entry?;
        let path = target.join(entry.file_name());
        match fs::symlink_metadata(&path) {
            Ok(meta) if meta.is_dir() && entry.file_type()?.is_dir() => add(&entry.path(), &path)?,
            Ok(_) => {}
            Err(_) => symlink(entry.path(), &path)?,
        }
    }
    Ok(())
}

/// Makes the folder of a file a real one, in which others can put it.
///
/// # Errors
/// As [`lay`].
pub fn make_room(target: &Path, file: &str) -> io::Result<()> {
    real_folder(target, below_etc(file)?).map(drop)
}

fn below_etc(file: &str) -> io::Result<&Path> {
    Path::new(file).strip_prefix("etc").map_err(|_| io::Error::other(format!("`{file}` is not below etc")))
}

/// Lays a file over a mirrored folder: folders on the way to it become real ones.
///
/// # Errors
/// When the path leads out of the folder, or on a failure of the file system.
pub fn lay(target: &Path, file: &SiteFile) -> io::Result<()> {
    let path = real_folder(target, below_etc(&file.path)?)?;
    match fs::remove_file(&path) {
        Err(error) if error.kind() != io::ErrorKind::NotFound => return Err(error),
        _ => {}
    }
    let mode = if file.private { 0o600 } else { 0o644 };
    OpenOptions::new().write(true).create_new(true).mode(mode).open(&path)?.write_all(file.text.as_bytes())
}

/// The path of a file below a mirrored folder, with real folders on the way.
fn real_folder(target: &Path, below: &Path) -> io::Result<std::path::PathBuf> {
    let mut path = target.to_owned();
    let parts: Vec<_> = below.components().collect();
    for (i, part) in parts.iter().enumerate() {
        let Component::Normal(name) = part else { return Err(io::Error::other(format!("`{}` leads out of etc", below.display()))) };
        path.push(name);
        if i + 1 == parts.len() {
            break;
        }
        if fs::symlink_metadata(&path).is_ok_and(|meta| meta.is_symlink()) {
            let base = fs::canonicalize(&path)?;
            fs::remove_file(&path)?;
            mirror(&base, &path)?;
        }
        fs::create_dir_all(&path)?;
    }
    Ok(path)
}

#[cfg(test)]
mod tests {
    use super::*;

    fn file(path: &str) -> SiteFile {
        SiteFile { path: path.to_owned(), private: true, text: "new".to_owned() }
    }

    #[test]
    fn a_tree_is_laid_over_a_folder_without_touching_it() {
        let folder = tempfile::tempdir().expect("a folder");
        let (base, target) = (folder.path().join("base"), folder.path().join("target"));
        fs::create_dir_all(base.join("swan/conf.d")).expect("made");
        fs::write(base.join("swan/main.conf"), "old").expect("written");
        fs::write(base.join("swan/conf.d/a.conf"), "old").expect("written");
        mirror(&base, &target).expect("mirrored");
        lay(&target, &file("etc/swan/conf.d/a.conf")).expect("laid");
        lay(&target, &file("etc/fresh/b")).expect("laid");
        let read = |path: &Path| fs::read_to_string(path).expect("read");
        assert_eq!(read(&target.join("swan/conf.d/a.conf")), "new");
        assert_eq!(read(&target.join("swan/main.conf")), "old");
        assert_eq!(read(&target.join("fresh/b")), "new");
        assert_eq!(read(&base.join("swan/conf.d/a.conf")), "old");
        assert!(!base.join("fresh").exists());
    }

    #[test]
    fn no_path_leads_out_of_etc() {
        let folder = tempfile::tempdir().expect("a folder");
        for path in ["usr/x", "etc/../x", "/etc/x"] {
            assert!(lay(folder.path(), &file(path)).is_err(), "{path}");
        }
    }
}
