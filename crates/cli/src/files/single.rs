//! Writes single files, whole or not at all.

use std::fs::{self, DirBuilder, FileType, OpenOptions, Permissions};
use std::io::{self, Write as _};
use std::os::unix::fs::{DirBuilderExt as _, FileTypeExt as _, OpenOptionsExt as _, PermissionsExt as _};
use std::path::Path;

use rustix::fs::{CWD, RenameFlags, renameat_with};
use zeroize::Zeroizing;

use super::staging::Staging;
use crate::failure::Failure;
use crate::show::path_shown;

/// What stands at a path, in a word; nothing where it is a file.
pub fn odd_kind(kind: FileType) -> Option<&'static str> {
    match () {
        () if kind.is_file() => None,
        () if kind.is_dir() => Some("a folder"),
        () if kind.is_symlink() => Some("a link"),
        () if kind.is_fifo() => Some("a pipe"),
        () if kind.is_socket() => Some("a socket"),
        () => Some("a device"),
    }
}

/// Stops before any work where a file is there and is not to be replaced, or where something else is, which never is.
///
/// # Errors
/// That it is there.
pub fn vacant(path: &Path, replace: bool) -> Result<(), Failure> {
    let shown = path_shown(path);
    let kind = match fs::symlink_metadata(path) {
        Ok(meta) => meta.file_type(),
        Err(error) if error.kind() == io::ErrorKind::NotFound => return Ok(()),
        Err(error) => return Err(Failure::file("cannot look at", path)(error)),
    };
    match (odd_kind(kind), replace) {
        (None, true) => Ok(()),
        (None, false) => Err(Failure::Usage(format!("`{shown}` is there already; choose another name, or say --replace"))),
        (Some("a link"), _) => {
            Err(Failure::Usage(format!("`{shown}` is a link, which would be replaced, and not the file that it leads to; name that file")))
        }
        (Some(kind), _) => Err(Failure::Usage(format!("`{shown}` is {kind}, and not a file; choose another name"))),
    }
}

/// Writes a secret as a line of its own, mode 0600. Folders that are missing are made for the owner only.
///
/// # Errors
/// That something is there; what the system says.
pub fn secret(path: &Path, secret: &[u8], replace: bool) -> Result<(), Failure> {
    let line = Zeroizing::new([secret, b"\n"].concat());
    place(path, &line, replace, 0o600)
}

/// Writes a text that others may read, such as a public key; its last line gets an end.
///
/// # Errors
/// The same.
pub fn text(path: &Path, text: &str, replace: bool) -> Result<(), Failure> {
    bytes(path, format!("{}\n", text.trim_end()).as_bytes(), replace)
}

/// The same of what is no text.
///
/// # Errors
/// The same.
pub fn bytes(path: &Path, bytes: &[u8], replace: bool) -> Result<(), Failure> {
    place(path, bytes, replace, 0o644)
}

fn place(path: &Path, bytes: &[u8], replace: bool, mode: u32) -> Result<(), Failure> {
    vacant(path, replace)?;
    let folder = match path.parent() {
        Some(folder) if !folder.as_os_str().is_empty() => folder,
        _ => Path::new("."),
    };
    if !folder.is_dir() {
        DirBuilder::new().recursive(true).mode(0o700).create(folder).map_err(Failure::file("cannot make the folder", folder))?;
    }
    let cannot = || Failure::file("cannot write", path);
    let staging = Staging::begin(folder).map_err(cannot())?;
    let fresh = staging.path().join("new");
    let mut file = OpenOptions::new().write(true).create_new(true).mode(mode).open(&fresh).map_err(cannot())?;
    // The umask may have taken bits away.
    file.set_permissions(Permissions::from_mode(mode)).map_err(cannot())?;
    file.write_all(bytes).and_then(|()| file.sync_all()).map_err(cannot())?;
    let flags = if replace { RenameFlags::empty() } else { RenameFlags::NOREPLACE };
    staging.commit(|| Ok(renameat_with(CWD, &fresh, CWD, path, flags)?)).map_err(cannot())?;
    staging.close().map_err(cannot())
}
