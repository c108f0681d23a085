//! Many tunnels: several at a time, each let go of as soon as it is done with.

use std::collections::BTreeSet;
use std::collections::btree_map::{BTreeMap, Entry};
use std::sync::atomic::{AtomicUsize, Ordering};
use std::sync::mpsc::sync_channel;
use std::thread;

use uspan_core::{Description, JoinedFile, Tree, TreeFile, Tunnel};

use crate::show::progress::Progress;

/// Of more tunnels than that no gateway is kept whole: each tunnel is let go of when it is done with.
pub const MANY: usize = 100;

/// As many are shown one by one; of more, what they have in common.
pub const FEW: usize = 5;

/// As many as are taken at once.
const PORTION: usize = 32;

/// Whether a description has so many tunnels that they are not kept.
pub fn is_fleet(description: &Description) -> bool {
    description.tunnels.len() > MANY
}

/// How many gateways have tunnels.
pub fn gateways(description: &Description) -> usize {
    description.tunnels.iter().flat_map(|tunnel| tunnel.between.iter().map(|end| end.value)).collect::<BTreeSet<_>>().len()
}

/// Does something with each tunnel, as many at a time as there are processors; what came of it is taken in the order of the
/// description.
pub fn each<T: Send>(description: &Description, label: &'static str, work: impl Fn(usize, &Tunnel) -> T + Sync, mut take: impl FnMut(T)) {
    let tunnels = &description.tunnels;
    let workers = thread::available_parallelism().map_or(1, usize::from).min(tunnels.len().div_ceil(PORTION)).max(1);
    let progress = Progress::new(label, tunnels.len());
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

/// The files of gateways to which each tunnel gives its lines, by site and path.
#[derive(Default)]
pub struct Shared(BTreeMap<(String, String), JoinedFile>);

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
    pub fn add(&mut self, site: String, path: String, file: TreeFile) {
        match self.0.entry((site, path)) {
            Entry::Vacant(first) => drop(first.insert(JoinedFile::new(file))),
            Entry::Occupied(mut known) => known.get_mut().add(&file),
        }
    }

    /// The files as they came together, by site and path.
    pub fn finish(self) -> impl Iterator<Item = (String, String, TreeFile)> {
        self.0.into_iter().map(|((site, path), joined)| (site, path, joined.finish()))
    }
}
