//! Makes secret files.

use std::fs::{self, DirBuilder};
use std::io::Write as _;
use std::os::unix::fs::{DirBuilderExt as _, PermissionsExt as _};
use std::path::Path;

use base64::Engine as _;
use base64::engine::general_purpose::STANDARD_NO_PAD;
use zeroize::Zeroizing;

use crate::failure::Failure;

/// A new secret as text: 256 random bits in base64.
pub fn generate() -> Result<Zeroizing<String>, Failure> {
    loop {
        let mut bytes = Zeroizing::new([0u8; 32]);
        getrandom::fill(bytes.as_mut()).map_err(Failure::Random)?;
        let text = Zeroizing::new(STANDARD_NO_PAD.encode(*bytes));
        // Such a beginning means "encoded" to some daemons.
        if !text.starts_with('0') {
            return Ok(text);
        }
    }
}

/// Stops before any work where a file is there and is not to be replaced.
pub fn vacant(path: &Path, replace: bool) -> Result<(), Failure> {
    match path.exists() && !replace {
        true => Err(Failure::Usage(format!("`{}` is there already; choose another name, or say --replace", path.display()))),
        false => Ok(()),
    }
}

/// Writes a secret, mode 0600, all or nothing. Folders that are missing are made for the owner only.
pub fn write(path: &Path, secret: &str, replace: bool) -> Result<(), Failure> {
    place(path, secret, replace, 0o600)
}

/// Writes what others may read, such as a public key.
pub fn publish(path: &Path, text: &str, replace: bool) -> Result<(), Failure> {
    place(path, text, replace, 0o644)
}

/// The same for what is no text.
pub fn publish_bytes(path: &Path, bytes: &[u8], replace: bool) -> Result<(), Failure> {
    place_bytes(path, bytes, replace, 0o644)
}

fn place(path: &Path, text: &str, replace: bool, mode: u32) -> Result<(), Failure> {
    let line = zeroize::Zeroizing::new(format!("{text}\n"));
    place_bytes(path, line.as_bytes(), replace, mode)
}

fn place_bytes(path: &Path, bytes: &[u8], replace: bool, mode: u32) -> Result<(), Failure> {
    let folder = match path.parent() {
        Some(folder) if !folder.as_os_str().is_empty() => folder,
        _ => Path::new("."),
    };
    if !folder.exists() {
        DirBuilder::new().recursive(true).mode(0o700).create(folder).map_err(Failure::file("cannot make the folder", folder))?;
    }
    let cannot = || Failure::file("cannot write", path);
    let mut file = tempfile::Builder::new().prefix(".uspan-").tempfile_in(folder).map_err(cannot())?;
    file.as_file().set_permissions(fs::Permissions::from_mode(mode)).map_err(cannot())?;
    file.write_all(bytes).map_err(cannot())?;
    file.as_file().sync_all().map_err(cannot())?;
    let placed = if replace { file.persist(path) } else { file.persist_noclobber(path) };
    placed.map(drop).map_err(|error| cannot()(error.error))
}
