//! The manifest: which files a build wrote, so that they are told from everybody else's.

use std::collections::BTreeMap;
use std::io;
use std::ops::Bound;
use std::os::unix::fs::PermissionsExt as _;
use std::path::Path;

use serde::{Deserialize, Serialize};
use uspan_core::{BuiltTunnel, Tree, TreeFile};

use crate::failure::Failure;
use crate::files::reading;
use crate::show::path_shown;

/// The manifest's name, in the output folder.
pub const MANIFEST: &str = "uspan-manifest.json";

/// What a build wrote. The manifest is readable by its owner only: a checksum of a weak secret is
/// something to guess at.
#[derive(Debug, Default, Deserialize)]
pub(super) struct Manifest {
    /// Version of this file's form.
    uspan_manifest: u32,
    /// Files by path relative to the output folder.
    pub(super) files: BTreeMap<Box<str>, Entry>,
}

#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub(super) struct Entry {
    /// Permission bits, octal.
    #[serde(with = "octal")]
    pub(super) mode: u32,
    /// SHA-256 of the content.
    #[serde(with = "hexadecimal")]
    pub(super) sha256: [u8; 32],
}

pub(super) mod octal {
    use serde::de::{Deserialize as _, Deserializer, Error as _};
    use serde::ser::Serializer;

    pub(in super::super) fn serialize<S: Serializer>(mode: &u32, serializer: S) -> Result<S::Ok, S::Error> {
        serializer.collect_str(&format_args!("{mode:04o}"))
    }

    pub(in super::super) fn words<S: Serializer>(mode: &Option<u32>, serializer: S) -> Result<S::Ok, S::Error> {
        match mode {
            Some(mode) => self::serialize(mode, serializer),
            None => serializer.serialize_str(""),
        }
    }

    pub(super) fn deserialize<'d, D: Deserializer<'d>>(deserializer: D) -> Result<u32, D::Error> {
        let text = std::borrow::Cow::<str>::deserialize(deserializer)?;
        u32::from_str_radix(&text, 8).map_err(D::Error::custom)
    }
}

mod hexadecimal {
    use serde::de::{Deserialize as _, Deserializer, Error as _};
    use serde::ser::Serializer;

    pub(super) fn serialize<S: Serializer>(sum: &[u8; 32], serializer: S) -> Result<S::Ok, S::Error> {
        const DIGITS: &[u8; 16] = b"0123456789abcdef";
        let mut text = [0; 64];
        for (at, byte) in sum.iter().enumerate() {
            text[2 * at] = DIGITS[usize::from(byte >> 4)];
            text[2 * at + 1] = DIGITS[usize::from(byte & 15)];
        }
        serializer.serialize_str(std::str::from_utf8(&text).unwrap_or_default())
    }

    pub(super) fn deserialize<'d, D: Deserializer<'d>>(deserializer: D) -> Result<[u8; 32], D::Error> {
        let text = std::borrow::Cow::<str>::deserialize(deserializer)?;
        let mut sum = [0; 32];
        let fits = text.len() == 64 && text.is_ascii();
        for (at, byte) in sum.iter_mut().enumerate().filter(|_| fits) {
            *byte = u8::from_str_radix(&text[2 * at..2 * at + 2], 16).map_err(D::Error::custom)?;
        }
        if fits { Ok(sum) } else { Err(D::Error::custom("not a checksum")) }
    }
}

impl Manifest {
    /// Reads one; nothing if it cannot be understood, or is no file.
    pub(super) fn read(path: &Path) -> io::Result<Option<Manifest>> {
        // Piece by piece: of very many files the text alone is as large as what it says.
        let file = match reading::open(path) {
            Err(error) if error.kind() == io::ErrorKind::Other => return Ok(None),
            opened => opened?,
        };
        let text = io::Read::take(file, reading::TABLE);
        match serde_json::from_reader(io::BufReader::new(text)) {
            Err(error) if error.is_io() => Err(error.into()),
            found => Ok(found.ok().filter(|manifest: &Manifest| manifest.uspan_manifest == 1)),
        }
    }

    /// Whether a file was the same.
    fn has(&self, path: &str, file: &TreeFile) -> bool {
        self.files.get(path) == Some(&Entry { mode: file.mode(), sha256: checksum(file.text.as_bytes()) })
    }

    /// Whether a tunnel has other files now; those that it shares with others are theirs, too.
    pub(super) fn lacks(&self, built: &BuiltTunnel, trees: &[Tree; 2]) -> bool {
        let mut own = built.ends.iter().zip(trees).flat_map(|(site, tree)| tree.files.iter().map(move |(path, file)| (site, path, file)));
        own.any(|(site, path, file)| !file.shared && !self.has(&format!("{site}/{path}"), file))
    }

    /// Whether files of it stand below a folder.
    pub(super) fn has_below(&self, folder: &str) -> bool {
        let begin = format!("{folder}/");
        self.files
            .range::<str, _>((Bound::Included(begin.as_str()), Bound::Unbounded))
            .next()
            .is_some_and(|(path, _)| path.starts_with(&begin))
    }
}

/// The files that the manifest of a folder lists; none where there is no manifest.
pub fn listed(output: &Path) -> Vec<String> {
    let manifest = Manifest::read(&output.join(MANIFEST)).ok().flatten();
    manifest.map(|manifest| manifest.files.into_keys().map(String::from).collect()).unwrap_or_default()
}

/// What an earlier build wrote, to find out what is otherwise now.
pub struct Earlier(Manifest);

impl Earlier {
    /// By the manifest of its folder.
    pub fn of(output: &Path) -> Result<Earlier, Failure> {
        let path = output.join(MANIFEST);
        let found = Manifest::read(&path).map_err(Failure::file("cannot read", &path))?;
        found.map(Earlier).ok_or_else(|| Failure::Usage(format!("`{}` is not a manifest of this program", path_shown(&path))))
    }

    /// Whether a file was the same.
    pub fn has(&self, path: &str, file: &TreeFile) -> bool {
        self.0.has(path, file)
    }

    /// How many files it wrote.
    pub fn count(&self) -> usize {
        self.0.files.len()
    }

    /// Whether it wrote a file at this path.
    pub fn lists(&self, path: &str) -> bool {
        self.0.files.contains_key(path)
    }

    /// Whether a tunnel has other files now; those that it shares with others are theirs, too.
    pub fn lacks(&self, built: &BuiltTunnel, trees: &[Tree; 2]) -> bool {
        self.0.lacks(built, trees)
    }
}

/// The checksum of what a file holds.
pub(super) fn checksum(content: &[u8]) -> [u8; 32] {
    let mut sum = [0; 32];
    sum.copy_from_slice(ring::digest::digest(&ring::digest::SHA256, content).as_ref());
    sum
}

/// Mode and checksum of a file that is there; nothing of one that is larger than any that is written.
pub(super) fn entry(path: &Path) -> io::Result<Option<Entry>> {
    let file = reading::open(path)?;
    let meta = file.metadata()?;
    if meta.len() > reading::TABLE {
        return Ok(None);
    }
    let mut context = ring::digest::Context::new(&ring::digest::SHA256);
    let (mut file, mut piece) = (io::Read::take(file, reading::TABLE), [0; 1 << 16]);
    loop {
        match io::Read::read(&mut file, &mut piece)? {
            0 => break,
            count => context.update(&piece[..count]),
        }
    }
    let mut sha256 = [0; 32];
    sha256.copy_from_slice(context.finish().as_ref());
    Ok(Some(Entry { mode: meta.permissions().mode() & 0o777, sha256 }))
}
