//! The floor: the same bytes to the same number of files, with nothing computed, by as many threads as there are processors.
//!
//! floor LIST OUT: LIST is a file with all folders, files, modes and contents (see measure.py), read before the clock starts.
//! Prints the seconds that the writing took, and those until all of it was on the disk.

use std::fs;
use std::io::Write as _;
use std::os::unix::fs::OpenOptionsExt as _;
use std::path::Path;
use std::time::Instant;

fn main() {
    let mut args = std::env::args().skip(1);
    let (Some(list), Some(out)) = (args.next(), args.next()) else { panic!("floor LIST OUT") };
    let bytes = fs::read(list).expect("a list");
    // Each entry: `d PATH` or `f MODE LENGTH PATH`, a line end, and the content.
    let (mut trees, mut at): (Vec<Vec<(&str, Option<(u32, &[u8])>)>>, usize) = (Vec::new(), 0);
    let mut last = "";
    while at < bytes.len() {
        let end = at + bytes[at..].iter().position(|byte| *byte == b'\n').expect("a line");
        let line = std::str::from_utf8(&bytes[at..end]).expect("text");
        at = end + 1;
        let (path, file) = match line.strip_prefix("d ") {
            Some(path) => (path, None),
            None => {
                let mut words = line.splitn(4, ' ').skip(1);
                let mode = u32::from_str_radix(words.next().expect("a mode"), 8).expect("a mode");
                let length: usize = words.next().expect("a length").parse().expect("a length");
                let content = &bytes[at..at + length];
                at += length;
                (words.next().expect("a path"), Some((mode, content)))
            }
        };
        // Each gateway's tree is written by one thread.
        let tree = path.split('/').next().expect("a name");
        if tree != last {
            trees.push(Vec::new());
            last = tree;
        }
        trees.last_mut().expect("one").push((path, file));
    }
    let out = Path::new(&out);
    let workers = std::thread::available_parallelism().map_or(1, usize::from);
    let start = Instant::now();
    fs::create_dir(out).expect("a new folder");
    std::thread::scope(|scope| {
        for some in trees.chunks(trees.len().div_ceil(workers).max(1)) {
            scope.spawn(move || {
                for (path, file) in some.iter().flatten() {
                    let path = out.join(path);
                    match file {
                        None => fs::create_dir(path).expect("made"),
                        Some((mode, content)) => {
                            let mut file = fs::OpenOptions::new().write(true).create_new(true).mode(*mode).open(path).expect("opened");
                            file.write_all(content).expect("written");
                        }
                    }
                }
            });
        }
    });
    let written = start.elapsed().as_secs_f64();
    let synced = std::process::Command::new("sync").arg("-f").arg(out).status().expect("sync");
    assert!(synced.success());
    println!("{written:.6} {:.6}", start.elapsed().as_secs_f64());
}
