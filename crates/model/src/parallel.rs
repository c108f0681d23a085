//! Work on parts that have nothing to do with each other, all at the same time.

use std::panic::resume_unwind;
use std::thread;

/// As many parts as are worth their own threads at a time.
pub fn at_once() -> usize {
    thread::available_parallelism().map_or(1, usize::from)
}

/// Does something with each of a few things; what came of it is in their order. Where each is `little` work, one after the other.
pub fn each<T: Send, R: Send>(things: Vec<T>, little: bool, work: impl Fn(T) -> R + Sync) -> Vec<R> {
    if things.len() < 2 || little {
        return things.into_iter().map(work).collect();
    }
    let work = &work;
    thread::scope(|scope| {
        let threads: Vec<_> = things.into_iter().map(|thing| scope.spawn(move || work(thing))).collect();
        threads.into_iter().map(|thread| thread.join().unwrap_or_else(|panic| resume_unwind(panic))).collect()
    })
}
