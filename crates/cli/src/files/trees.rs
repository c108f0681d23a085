//! Reads trees of files as they stand in a folder.
//!
//! A tree may be of somebody else. Links in it are followed within it, as the gateway would that it comes from, and never out of it
//! (`openat2` with `RESOLVE_IN_ROOT`); what is no file is passed over; folders that lead to each other come to an end.

use std::collections::BTreeMap;
use std::ffi::OsStr;
use std::fs::File;
use std::io;
use std::os::fd::OwnedFd;
use std::os::unix::ffi::OsStrExt as _;
use std::path::{Path, PathBuf};

use rustix::fs::{CWD, Dir, FileType, Mode, OFlags, ResolveFlags, fstat, openat, openat2, readlinkat};
use uspan_core::{Build, Finding, PROGRAM, Tree, TreeFile, rules, shown};

use crate::failure::Failure;
use crate::files::reading;
use crate::show::path_shown;

/// The trees as they stand in an output folder, for the sites of a build.
///
/// # Errors
/// What cannot be read.
pub fn standing(folder: &Path, planned: &Build) -> Result<BTreeMap<String, Tree>, Failure> {
    let mut trees = BTreeMap::new();
    for site in planned.trees.keys() {
        let walk = TreeWalk::of_site(&folder.join(site))?;
        if let Some(path) = walk.unread.first() {
            return Err(Failure::file("cannot read", &folder.join(site).join(path))(io::Error::other("it is not a text")));
        }
        trees.insert(site.clone(), walk.tree);
    }
    Ok(trees)
}

/// What an earlier build left for the sites of this one. Whatever cannot be read is not compared.
pub fn earlier(folder: &Path, planned: &Build) -> BTreeMap<String, Tree> {
    let mut trees = BTreeMap::new();
    for site in planned.trees.keys() {
        let walk = TreeWalk::of_site(&folder.join(site)).ok().filter(|walk| walk.unread.is_empty());
        trees.extend(walk.map(|walk| (site.clone(), walk.tree)));
    }
    trees
}

/// A gateway's files, from a folder that stands for its `/`: what concerns tunnels, and of that what is text; with what was found
/// that leads nowhere.
///
/// # Errors
/// What cannot be read.
pub fn gateway(root: &Path) -> Result<(Tree, Vec<Finding>), Failure> {
    let etc = root.join("etc");
    // Of a gateway of another make there is a list of parameters alone.
    let list = root.join("parameters").is_dir();
    if !etc.is_dir() && !list {
        return Err(Failure::Usage(format!("there is no folder `{}`; name the folder that stands for the gateway's /", path_shown(&etc))));
    }
    let context = super::input::context();
    let below = context.reads_below();
    let wanted = |path: &str| {
        let inside = format!("{path}/");
        below.iter().any(|start| inside.starts_with(start) || start.starts_with(&inside) || path.starts_with(start))
    };
    let mut walk = TreeWalk::begin(root)?;
    if list {
        walk.folder(Path::new("parameters"), &wanted, 0)?;
    }
    if etc.is_dir() {
        walk.folder(Path::new("etc"), &wanted, 0)?;
    }
    if root.join("listing").is_dir() {
        walk.folder(Path::new("listing"), &wanted, 0)?;
    }
    Ok((walk.tree, walk.findings))
}

/// Deeper than any of these folders.
const DEEPEST: usize = 32;
/// As often a folder is read, over whatever links it is reached.
const OFTEN: usize = 3;
/// More than any gateway's files have together, in bytes.
const ALL: u64 = 512 << 20;
/// More files than any gateway has.
const MOST: usize = 1_000_000;

struct TreeWalk {
    root: OwnedFd,
    shown: PathBuf,
    tree: Tree,
    /// Files that are no text, or larger than any of these.
    unread: Vec<String>,
    findings: Vec<Finding>,
    /// How often each folder was read, by device and number.
    folders: BTreeMap<(u64, u64), usize>,
    /// Those that are being read.
    open: Vec<(u64, u64)>,
    bytes: u64,
    files: usize,
}

/// How everything in a tree is opened: without waiting for anybody, and never outside of it.
const CAREFULLY: OFlags = OFlags::RDONLY.union(OFlags::NONBLOCK).union(OFlags::NOCTTY).union(OFlags::CLOEXEC);
const WITHIN: ResolveFlags = ResolveFlags::IN_ROOT.union(ResolveFlags::NO_MAGICLINKS);

impl TreeWalk {
    /// All of a site's folder in an output, but for what takes it up.
    fn of_site(folder: &Path) -> Result<TreeWalk, Failure> {
        let mut walk = TreeWalk::begin(folder)?;
        walk.folder(Path::new(""), &|_| true, 0)?;
        walk.tree.files.remove(PROGRAM);
        Ok(walk)
    }

    fn begin(root: &Path) -> Result<TreeWalk, Failure> {
        let flags = OFlags::RDONLY | OFlags::DIRECTORY | OFlags::CLOEXEC;
        let opened = openat(CWD, root, flags, Mode::empty()).map_err(|error| Failure::file("cannot read", root)(error.into()))?;
        Ok(TreeWalk {
            root: opened,
            shown: root.to_owned(),
            tree: Tree::default(),
            unread: Vec::new(),
            findings: Vec::new(),
            folders: BTreeMap::new(),
            open: Vec::new(),
            bytes: 0,
            files: 0,
        })
    }

    fn cannot(&self, path: &Path) -> impl FnOnce(rustix::io::Errno) -> Failure + use<> {
        let whole = self.shown.join(path);
        move |error| Failure::file("cannot read", &whole)(error.into())
    }

    fn folder(&mut self, below: &Path, wanted: &dyn Fn(&str) -> bool, depth: usize) -> Result<(), Failure> {
        let here = if below.as_os_str().is_empty() { Path::new(".") } else { below };
        let folder = openat2(&self.root, here, CAREFULLY | OFlags::DIRECTORY, Mode::empty(), WITHIN).map_err(self.cannot(below))?;
        let stat = fstat(&folder).map_err(self.cannot(below))?;
        let folder_is = (stat.st_dev, stat.st_ino);
        let times = self.folders.entry(folder_is).or_default();
        *times += 1;
        if *times > OFTEN || depth > DEEPEST || self.open.contains(&folder_is) {
            self.say(below, "a folder that is reached over itself, or over many links");
            return Ok(());
        }
        self.open.push(folder_is);
        let mut names = Vec::new();
        for entry in Dir::read_from(&folder).map_err(self.cannot(below))? {
            let entry = entry.map_err(self.cannot(below))?;
            let name = entry.file_name().to_bytes();
            if !matches!(name, b"." | b"..") {
                names.push(name.to_vec());
            }
        }
        // The same tree is the same findings, in whatever order the system lists it.
        names.sort();
        for name in names {
            let path = below.join(OsStr::from_bytes(&name));
            if wanted(&path.to_string_lossy()) {
                self.thing(&path, wanted, depth)?;
            }
        }
        self.open.pop();
        Ok(())
    }

    fn thing(&mut self, path: &Path, wanted: &dyn Fn(&str) -> bool, depth: usize) -> Result<(), Failure> {
        // ReadGateway at before it is opened: to open a device may do something.
        let look = OFlags::PATH | OFlags::CLOEXEC;
        let Ok(handle) = openat2(&self.root, path, look, Mode::empty(), WITHIN) else {
            if let Ok(target) = readlinkat(&self.root, path, Vec::new()) {
                let target = shown(&target.to_string_lossy()).into_owned();
                self.say(path, &format!("a link to `{target}`, which is not in this tree"));
            }
            return Ok(());
        };
        let stat = fstat(&handle).map_err(self.cannot(path))?;
        match FileType::from_raw_mode(stat.st_mode) {
            FileType::Directory => self.folder(path, wanted, depth + 1),
            FileType::RegularFile => self.file(path),
            _ => {
                self.say(path, "a device, a pipe or a socket, and not a file");
                Ok(())
            }
        }
    }

    fn file(&mut self, path: &Path) -> Result<(), Failure> {
        let name = path.to_string_lossy().into_owned();
        let file = File::from(openat2(&self.root, path, CAREFULLY, Mode::empty(), WITHIN).map_err(self.cannot(path))?);
        let cannot = Failure::file("cannot read", &self.shown.join(path));
        let (meta, too_much) = (file.metadata(), self.bytes >= ALL || self.files >= MOST);
        let meta = meta.map_err(cannot)?;
        if too_much {
            return Err(Failure::Outside(format!("`{}` holds more than any gateway's configuration", path_shown(&self.shown))));
        }
        self.files += 1;
        if !meta.is_file() || meta.len() > reading::FILE {
            self.say(path, &format!("larger than {} MiB", reading::FILE >> 20));
            self.unread.push(name);
            return Ok(());
        }
        let (mut content, mode) = reading::content(file, reading::FILE).map_err(Failure::file("cannot read", &self.shown.join(path)))?;
        self.bytes += content.len() as u64;
        // A database of keys is not read.
        match String::from_utf8(std::mem::take(&mut *content)) {
            Ok(text) => {
                let private = mode & 0o077 == 0;
                self.tree.add(name, if private { TreeFile::private(text) } else { TreeFile::public(text) });
            }
            Err(_) => self.unread.push(name),
        }
        Ok(())
    }

    fn say(&mut self, path: &Path, what: &str) {
        let message = format!("`{}` is {what}: it is not read", path_shown(path));
        self.findings.push(Finding::new(&rules::DEVICE_FILE_MISSING, message));
    }
}
