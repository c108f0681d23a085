//! The one way to a file that somebody named: it neither waits for a writer, nor reads what has no end, nor more than there can be.

use std::fs::{File, OpenOptions};
use std::io::{self, Read as _};
use std::os::unix::fs::{OpenOptionsExt as _, PermissionsExt as _};
use std::path::Path;

use rustix::fs::{Mode, OFlags};
use zeroize::Zeroizing;

/// Larger than any description, inventory or manifest of 100,000 tunnels.
pub const TABLE: u64 = 256 << 20;
/// Larger than any file of a gateway.
pub const FILE: u64 = 64 << 20;

/// Opens a regular file: anything else is refused, and nothing is waited for.
///
/// # Errors
/// What the system says; that it is no file.
pub fn open(path: &Path) -> io::Result<File> {
    let flags = OFlags::NONBLOCK | OFlags::NOCTTY;
    let file = OpenOptions::new().read(true).custom_flags(i32::try_from(flags.bits()).unwrap_or(0)).open(path)?;
    let kind = file.metadata()?.file_type();
    match kind.is_file() {
        true => Ok(file),
        false if kind.is_dir() => Err(io::Error::other("it is a folder")),
        false => Err(io::Error::other("it is a device, a pipe or a socket, and not a file")),
    }
}

/// Opens a folder, and not what a link leads to.
///
/// # Errors
/// What the system says.
pub fn folder(path: &Path) -> io::Result<File> {
    let flags = OFlags::RDONLY | OFlags::DIRECTORY | OFlags::NOFOLLOW | OFlags::CLOEXEC;
    Ok(File::from(rustix::fs::open(path, flags, Mode::empty())?))
}

/// The content of a regular file of at most `most` bytes, and its permission bits. It is wiped when dropped.
///
/// # Errors
/// What the system says; that it is no file, or a larger one.
pub fn bytes(path: &Path, most: u64) -> io::Result<(Zeroizing<Vec<u8>>, u32)> {
    let file = open(path)?;
    content(file, most)
}

/// The same of an open file.
///
/// # Errors
/// The same.
pub fn content(file: File, most: u64) -> io::Result<(Zeroizing<Vec<u8>>, u32)> {
    let meta = file.metadata()?;
    let larger = || io::Error::other(format!("it has more than {most} bytes"));
    if meta.len() > most {
        return Err(larger());
    }
    let mut content = Zeroizing::new(Vec::with_capacity(usize::try_from(meta.len()).unwrap_or(0)));
    // Some files tell no length, and some grow meanwhile.
    file.take(most + 1).read_to_end(&mut content)?;
    if content.len() as u64 > most { Err(larger()) } else { Ok((content, meta.permissions().mode())) }
}

/// The content of a regular file as a text.
///
/// # Errors
/// The same; that it is no text.
pub fn text(path: &Path, most: u64) -> io::Result<String> {
    let (mut content, _) = bytes(path, most)?;
    // Taken, not copied: an inventory may be large.
    String::from_utf8(std::mem::take(&mut *content))
        .map_err(|error| io::Error::other(format!("byte {} is not part of a character", error.utf8_error().valid_up_to() + 1)))
}
