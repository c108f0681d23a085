//! Many tunnels: several at a time, each let go of as soon as it is done with.

use std::collections::{BTreeMap, HashSet};
use std::sync::atomic::{AtomicUsize, Ordering};
use std::sync::mpsc::sync_channel;
use std::thread;

use uspan_core::{Description, Tree, TreeFile, Tunnel};

use crate::show::progress::Progress;

/// More tunnels than that are not shown one by one, and not kept.
pub const MANY: usize = 100;

/// As many as are taken at once.
const PORTION: usize = 32;

/// Whether a description has so many tunnels that they are not shown one by one.
pub fn is_fleet(description: &Description) -> bool {
    description.tunnels.len() > MANY
}

/// Does something with each tunnel, as many at a time as there are processors; what came of it is taken in the order of the
/// description.
pub fn each<T: Send>(description: &Description, label: &'static str, work: impl Fn(usize, &Tunnel) -> T + Sync, mut take: impl FnMut(T)) {
    let tunnels = &description.tunnels;
    let workers = thread::available_parallelism().map_or(1, usize::from).min(tunnels.len().div_ceil(PORTION)).max(1);
    let progress = Progress::new(label, tunnels.len());
    if workers == 1 {
        for (number, tunnel) in tunnels.iter().enumerate() {
            take(work(number, tunnel));
            progress.step();
        }
        return;
    }
    let next = AtomicUsize::new(0);
    thread::scope(|scope| {
        // What is done and not taken yet is bounded, and so is the memory for it.
        let (send, receive) = sync_channel(2 * workers);
        for _ in 0..workers {
            let (send, next, work) = (send.clone(), &next, &work);
            scope.spawn(move || {
                loop {
                    let portion = next.fetch_add(1, Ordering::Relaxed);
                    let first = portion * PORTION;
                    if first >= tunnels.len() {
                        break;
                    }
                    let some = &tunnels[first..tunnels.len().min(first + PORTION)];
                    let done: Vec<T> = some.iter().enumerate().map(|(number, tunnel)| work(first + number, tunnel)).collect();
                    if send.send((portion, done)).is_err() {
                        break;
                    }
                }
            });
        }
        drop(send);
        let (mut waiting, mut turn) = (BTreeMap::new(), 0);
        for (portion, done) in receive {
            waiting.insert(portion, done);
            while let Some(done) = waiting.remove(&turn) {
                for one in done {
                    take(one);
                    progress.step();
                }
                turn += 1;
            }
        }
    });
}

/// The files of gateways to which each tunnel gives its lines; a line that several give stands in them once.
#[derive(Default)]
pub struct Shared {
    /// By site and path.
    files: BTreeMap<(String, String), Joined>,
}

/// A file, and the lines that stand in it.
struct Joined {
    file: TreeFile,
    known: HashSet<Box<str>>,
}

impl Shared {
    /// Takes the shared files out of what a tunnel gives a site; the rest is its own.
    pub fn split(tree: &mut Tree) -> Vec<(String, TreeFile)> {
        if !tree.files.values().any(|file| file.shared) {
            return Vec::new();
        }
        let (shared, own) = std::mem::take(&mut tree.files).into_iter().partition(|(_, file)| file.shared);
        tree.files = own;
        shared.into_iter().collect()
    }

    /// Adds a tunnel's lines to a file of a site.
    pub fn add(&mut self, site: &str, path: String, file: &TreeFile) {
        // The first one's lines stand as they are.
        let whole = || Joined { file: file.clone(), known: file.text.lines().map(Box::from).collect() };
        let joined = self.files.entry((site.to_owned(), path)).or_insert_with(whole);
        for line in file.text.lines() {
            if joined.known.insert(line.into()) {
                joined.file.text.push_str(line);
                joined.file.text.push('\n');
            }
        }
    }

    /// The files as they came together, by site and path.
    pub fn finish(self) -> impl Iterator<Item = (String, String, TreeFile)> {
        self.files.into_iter().map(|((site, path), joined)| (site, path, joined.file))
    }
}
