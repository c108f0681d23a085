//! Where the program writes.

use std::collections::BTreeSet;
use std::fs::{self, File, Permissions};
use std::io::Read as _;
use std::os::fd::AsFd as _;
use std::os::unix::fs::{MetadataExt as _, PermissionsExt as _, chown, symlink};
use std::path::{Path, PathBuf};
use std::process::{Command, Stdio};
use std::time::{Duration, SystemTime};

use rustix::fs::{CWD, FileType, FlockOperation, Mode, flock, mknodat};
use rustix::process::{Pid, Signal, kill_process};

use crate::common::{SECRET, files, orchard, uspan, write};
use crate::{PROGRAM, is_root, start};

fn build(folder: &Path, more: &[&str]) -> crate::common::Run {
    uspan(folder, &[&["build", "orchard.span.toml", "-o", "out"][..], more].concat())
}

fn fifo(path: &Path) {
    mknodat(CWD, path, FileType::Fifo, Mode::from_raw_mode(0o644), 0).expect("a pipe");
}

/// Everything below a folder, with kind, mode, owner, size and time.
pub fn listing(root: &Path) -> BTreeSet<String> {
    let (mut all, mut open) = (BTreeSet::new(), vec![root.to_owned()]);
    while let Some(folder) = open.pop() {
        for entry in fs::read_dir(&folder).into_iter().flatten().flatten() {
            let (path, Ok(meta)) = (entry.path(), entry.metadata()) else { continue };
            let time = meta.modified().map(|time| format!("{time:?}")).unwrap_or_default();
            all.insert(format!("{} {:o} {}:{} {} {time}", path.display(), meta.mode(), meta.uid(), meta.gid(), meta.len()));
            if meta.is_dir() {
                open.push(path);
            }
        }
    }
    all
}

/// The staging folders below a folder, wherever they are.
fn staging(folder: &Path) -> Vec<PathBuf> {
    let (mut found, mut open) = (Vec::new(), vec![folder.to_owned()]);
    while let Some(folder) = open.pop() {
        for entry in fs::read_dir(&folder).into_iter().flatten().flatten() {
            match entry.file_name().to_string_lossy().starts_with(".uspan-") {
                true => found.push(entry.path()),
                false if entry.file_type().is_ok_and(|kind| kind.is_dir()) => open.push(entry.path()),
                false => {}
            }
        }
    }
    found.sort();
    found
}

#[test]
fn folders_of_others_that_look_like_ours_stay() {
    let folder = orchard();
    let name = |name: &str| folder.path().join(name);
    for (path, private) in
        [(".uspan-notes", true), (".uspan-abcdef", false), (".uspan-staging-abcdefgh", true), (".uspan-staging-23456789", false)]
    {
        write(&name(path).join("keep.txt"), "precious", 0o600);
        fs::set_permissions(name(path), Permissions::from_mode(if private { 0o700 } else { 0o755 })).expect("set");
    }
    // One with a mark of its own making, which says something else; and one whose mark is a link.
    write(&name(".uspan-staging-abcdefg2/uspan-mark"), "mine\n", 0o600);
    fs::create_dir(name(".uspan-staging-abcdefg3")).expect("made");
    symlink("/etc/hostname", name(".uspan-staging-abcdefg3/uspan-mark")).expect("a link");
    for path in [".uspan-staging-abcdefg2", ".uspan-staging-abcdefg3"] {
        fs::set_permissions(name(path), Permissions::from_mode(0o700)).expect("set");
    }
    let before = files(folder.path());
    assert_eq!(build(folder.path(), &[]).code, 0);
    assert_eq!(uspan(folder.path(), &["secret", "a.key"]).code, 0);
    let after: BTreeSet<_> = files(folder.path()).into_iter().collect();
    assert!(before.iter().all(|path| after.contains(path)), "{before:?}\n{after:?}");
}

#[test]
fn what_is_not_ours_keeps_its_mode_its_owner_and_its_time() {
    let folder = orchard();
    let out = folder.path().join("out");
    assert_eq!(build(folder.path(), &[]).code, 0);
    write(&out.join("private/notes.txt"), "mine", 0o644);
    fs::create_dir_all(out.join("private/empty")).expect("made");
    fs::create_dir_all(out.join("packhouse/mine")).expect("made");
    write(&out.join("packhouse/etc/swanctl/own.txt"), "mine", 0o600);
    let old = SystemTime::UNIX_EPOCH + Duration::from_secs(1_000_000_000);
    for path in ["private/empty", "private/notes.txt", "private", "packhouse/mine"] {
        let handle = File::open(out.join(path)).expect("open");
        handle.set_times(fs::FileTimes::new().set_modified(old).set_accessed(old)).expect("set");
    }
    for (path, mode) in [("private", 0o700), ("private/empty", 0o1770), ("packhouse/mine", 0o500), ("packhouse/etc", 0o711)] {
        fs::set_permissions(out.join(path), Permissions::from_mode(mode)).expect("set");
    }
    fs::set_permissions(&out, Permissions::from_mode(0o2750)).expect("set");
    if is_root() {
        for path in ["private", "private/empty", "private/notes.txt", "packhouse/etc", "."] {
            chown(out.join(path), Some(1000), Some(1001)).expect("given away");
        }
        fs::set_permissions(&out, Permissions::from_mode(0o2750)).expect("set");
        fs::set_permissions(out.join("private/empty"), Permissions::from_mode(0o1770)).expect("set");
        rustix::fs::setxattr(out.join("private"), "user.note", b"kept", rustix::fs::XattrFlags::empty()).ok();
    }
    let whole = || -> Vec<_> {
        let paths =
            [".", "private", "private/empty", "private/notes.txt", "packhouse/mine", "packhouse/etc", "packhouse/etc/swanctl/own.txt"];
        let each = paths.iter().map(|path| {
            let meta = fs::metadata(out.join(path)).expect("there");
            let foreign = !matches!(*path, "." | "packhouse/etc");
            let time = if foreign { meta.mtime() } else { 0 };
            format!("{path} {:o} {}:{} {time}", meta.mode(), meta.uid(), meta.gid())
        });
        each.collect()
    };
    let mut note = [0; 16];
    let before = (whole(), rustix::fs::getxattr(out.join("private"), "user.note", &mut note[..]).ok());
    // Something is new, so that everything is laid out again.
    let path = folder.path().join("orchard.span.toml");
    let text = fs::read_to_string(&path).expect("read");
    fs::write(&path, text.replace("10.73.16.0/20", "10.73.32.0/20")).expect("written");
    let run = build(folder.path(), &[]);
    assert_eq!(run.code, 0, "{}", run.all());
    assert!(run.stdout.contains("changed"), "{}", run.stdout);
    assert_eq!((whole(), rustix::fs::getxattr(out.join("private"), "user.note", &mut note[..]).ok()), before);
}

/// Signals and kills at many moments: one whole output stands, and no secret is left that the next run does not remove and tell of.
#[test]
fn runs_that_are_ended_leave_nothing_that_the_next_does_not_remove_and_tell_of() {
    let folder = orchard();
    let path = folder.path();
    assert_eq!(build(path, &[]).code, 0);
    let built = || files(&path.join("out")).into_iter().map(|file| (file.clone(), fs::read(file).expect("read"))).collect::<Vec<_>>();
    let text = fs::read_to_string(path.join("orchard.span.toml")).expect("read");
    let mut wholes = vec![built()];
    fs::write(path.join("other.span.toml"), text.replace("10.73.16.0/20", "10.73.32.0/20")).expect("written");
    assert_eq!(uspan(path, &["build", "other.span.toml", "-o", "out"]).code, 0);
    wholes.push(built());
    let commands: [&[&str]; 5] = [
        &["build", "orchard.span.toml", "-o", "out"],
        &["build", "other.span.toml", "-o", "out"],
        &["secret", "new/new.key", "--replace"],
        &["report", "orchard.span.toml", "-o", "report/report.html", "--replace"],
        &["adopt", "built/packhouse", "built/coldstore", "-o", "taken/over.span.toml", "--replace"],
    ];
    assert_eq!(uspan(path, &["build", "orchard.span.toml", "-o", "built"]).code, 0);
    let mut lengths = [Duration::from_millis(30); 5];
    let (mut told, mut killed, mut interrupted) = (0, 0, 0);
    let (kills, interrupts) = if std::env::var_os("USPAN_ATTACKS").is_some() { (1000, 100) } else { (40, 4) };
    let mut rounds: u32 = 0;
    while killed < kills || interrupted < interrupts {
        let round = rounds;
        rounds += 1;
        assert!(rounds < 20 * kills, "{killed} were killed, {interrupted} interrupted");
        let which = round as usize % commands.len();
        let before = staging(path);
        let mut child = start(path, commands[which]);
        std::thread::sleep(lengths[which] * (round * 77 % 100) / 90);
        // One or another may be ignored where the tests run in the background.
        let asks = [Signal::TERM, Signal::INT, Signal::HUP][round as usize / 11 % 3];
        let signal = if round.is_multiple_of(11) { asks } else { Signal::KILL };
        let _ = kill_process(Pid::from_child(&child), signal);
        let early = !child.wait().expect("it ends").success();
        lengths[which] = lengths[which].mul_f64(if early { 1.05 } else { 0.95 });
        killed += u32::from(early && signal == Signal::KILL);
        interrupted += u32::from(early && signal != Signal::KILL);
        let left = staging(path);
        if signal != Signal::KILL {
            assert!(left.iter().all(|folder| before.contains(folder)), "a signal leaves nothing: {left:?}");
        }
        let full: Vec<_> = left.iter().filter(|folder| !files(folder).is_empty()).cloned().collect();
        let now = built();
        assert!(wholes.contains(&now), "a mixture in round {round}");
        for file in left.iter().flat_map(|folder| files(folder)) {
            // Others cannot come as far; what holds a secret is 0600 all the same.
            let (mode, content) = (fs::metadata(&file).expect("there").mode() & 0o777, fs::read(&file).expect("read"));
            assert!(mode == 0o600 || !String::from_utf8_lossy(&content).contains(SECRET), "{}: {mode:o}", file.display());
        }
        if round % 15 == 14 {
            let said: String = commands.iter().map(|args| uspan(path, args)).map(|run| run.stderr).collect();
            assert_eq!(staging(path), Vec::<PathBuf>::new());
            // One without anything in it, not even a mark, goes without a word.
            for folder in full {
                told += 1;
                let name = folder.file_name().expect("a name").to_string_lossy().into_owned();
                assert!(said.contains(&name), "{name} is told of: {said}");
            }
        }
    }
    eprintln!(
        "{killed} runs were killed and {interrupted} interrupted before their time, of {rounds}; {told} folders were left, removed and told of"
    );
    commands.iter().for_each(|args| drop(uspan(path, args)));
    assert_eq!(staging(path), Vec::<PathBuf>::new());
}

/// A build that is held up shows what others could see meanwhile.
#[test]
fn what_is_laid_out_is_private_whatever_the_umask() {
    let folder = orchard();
    let path = folder.path();
    for umask in ["000", "022", "002", "777"] {
        let script = format!("umask {umask}; exec {PROGRAM} build orchard.span.toml -o out-{umask}");
        let run = Command::new("sh").args(["-c", &script]).current_dir(path).output().expect("it runs");
        assert!(run.status.success(), "{umask}: {}", String::from_utf8_lossy(&run.stderr));
        let out = path.join(format!("out-{umask}"));
        for file in files(&out) {
            let (mode, name) = (fs::metadata(&file).expect("there").mode() & 0o777, file.display().to_string());
            assert_eq!(mode, if name.contains("secrets") || name.ends_with("manifest.json") { 0o600 } else { 0o644 }, "{umask}: {name}");
        }
        let folders = ["", "packhouse", "packhouse/etc", "packhouse/etc/swanctl/conf.d"];
        assert!(folders.iter().all(|name| fs::metadata(out.join(name)).expect("there").mode() & 0o777 == 0o755), "{umask}");
    }
    // With the output locked by somebody else, the folder that was laid out before stands there to be looked at.
    let mut seen = BTreeSet::new();
    for round in 0..200 {
        let mut child = start(path, &["build", "orchard.span.toml", "-o", &format!("fresh-{round}")]);
        for _ in 0..200 {
            seen.extend(staging(path).iter().filter_map(|folder| fs::metadata(folder).ok()).map(|meta| meta.mode() & 0o777));
            if child.try_wait().expect("waited").is_some() {
                break;
            }
        }
        child.wait().expect("it ends");
        if seen.len() > 1 || round > 40 && !seen.is_empty() {
            break;
        }
    }
    assert_eq!(seen, BTreeSet::from([0o700]));
}

#[test]
fn whoever_holds_the_output_is_waited_for_with_a_word_and_the_folder_above_does_not_matter() {
    let folder = orchard();
    let path = folder.path();
    let parent = File::open(path).expect("open");
    flock(&parent, FlockOperation::LockExclusive).expect("locked");
    assert_eq!(build(path, &[]).code, 0, "nobody else's lock on the folder above is in the way");
    let out = File::open(path.join("out")).expect("open");
    flock(out.as_fd(), FlockOperation::LockExclusive).expect("locked");
    let mut child = start(path, &["build", "orchard.span.toml", "-o", "out"]);
    let mut said = child.stderr.take().expect("its errors");
    let mut text = vec![0; 64];
    let count = said.read(&mut text).expect("it says something");
    assert!(String::from_utf8_lossy(&text[..count]).starts_with("uspan: waiting for"), "{}", String::from_utf8_lossy(&text));
    // Meanwhile its limits can be seen: no core of it is ever written.
    let limits = fs::read_to_string(format!("/proc/{}/limits", child.id())).expect("limits");
    let core = limits.lines().find(|line| line.starts_with("Max core file size")).expect("a limit");
    assert_eq!(core.split_whitespace().skip(4).take(2).collect::<Vec<_>>(), ["0", "0"], "{core}");
    drop(out);
    assert!(child.wait().expect("it ends").success());
}

#[test]
fn only_files_are_replaced() {
    let folder = orchard();
    let path = folder.path();
    fifo(&path.join("pipe"));
    fs::create_dir(path.join("folder")).expect("made");
    write(&path.join("file"), "mine\n", 0o644);
    symlink("file", path.join("link")).expect("a link");
    if is_root() {
        mknodat(CWD, path.join("device"), FileType::CharacterDevice, Mode::from_raw_mode(0o666), rustix::fs::makedev(1, 3))
            .expect("a device");
    }
    let before = listing(path);
    for target in ["pipe", "folder", "link", "device"] {
        if !path.join(target).exists() {
            continue;
        }
        for args in [
            &["secret", target, "--replace"][..],
            &["secret", target],
            &["draw", "orchard.span.toml", "-o", target, "--replace"],
            &["report", "orchard.span.toml", "-o", target, "--replace"],
            &["sheet", "orchard.span.toml", "--format", "html", "-o", target, "--replace"],
            &["new", target],
        ] {
            let run = uspan(path, args);
            assert_eq!(run.code, 2, "{args:?}: {}", run.all());
            assert!(run.stderr.contains(&format!("`{target}` is ")), "{args:?}: {}", run.stderr);
        }
    }
    assert_eq!(listing(path), before);
}

#[test]
fn what_is_planted_in_an_output_gives_way_only_where_it_may() {
    // (what, plants it, whether `--replace` lets it give way)
    type Plant = fn(&Path);
    let cases: [(&str, Plant, bool); 7] = [
        ("a link for a folder", |out| symlink("evil", out.join("packhouse/etc/swanctl/conf.d")).expect("a link"), true),
        ("a link for a file", |out| symlink("/dev/null", out.join("packhouse/etc/swanctl/conf.d/harvest.conf")).expect("a link"), true),
        ("a pipe for a file", |out| fifo(&out.join("packhouse/etc/swanctl/conf.d/harvest.conf")), true),
        ("a manifest that is a pipe", |out| fifo(&out.join("uspan-manifest.json")), true),
        ("a manifest that is a link", |out| symlink("/etc/hostname", out.join("uspan-manifest.json")).expect("a link"), true),
        ("a manifest that is a folder", |out| fs::create_dir(out.join("uspan-manifest.json")).expect("made"), false),
        ("a folder for a file", |out| write(&out.join("packhouse/etc/swanctl/conf.d/harvest.conf/x"), "mine", 0o644), false),
    ];
    for (what, plant, gives_way) in cases {
        let folder = orchard();
        let out = folder.path().join("out");
        fs::create_dir_all(out.join("packhouse/etc/swanctl")).expect("made");
        if what.contains("for a file") {
            fs::create_dir_all(out.join("packhouse/etc/swanctl/conf.d")).expect("made");
        }
        fs::create_dir_all(folder.path().join("out/packhouse/etc/swanctl/evil")).expect("made");
        write(&out.join("packhouse/etc/swanctl/evil/keep"), "mine", 0o644);
        plant(&out);
        let before = listing(&out);
        let run = build(folder.path(), &[]);
        assert_eq!(run.code, 1, "{what}: {}", run.all());
        assert!(run.stderr.contains("US90"), "{what}: {}", run.stderr);
        assert_eq!(listing(&out), before, "{what}");
        let run = build(folder.path(), &["--replace"]);
        assert_eq!(run.code == 0, gives_way, "{what}: {}", run.all());
        if gives_way {
            let conf = out.join("packhouse/etc/swanctl/conf.d/harvest.conf");
            assert!(fs::symlink_metadata(&conf).expect("there").is_file(), "{what}");
            assert_eq!(files(&out.join("packhouse/etc/swanctl/evil")).len(), 1, "{what}: nothing is written through a link");
        } else {
            assert!(run.code == 1 && run.stderr.contains("--replace` does not"), "{what}: {}", run.all());
            assert_eq!(listing(&out), before, "{what}");
        }
    }
}

/// What is in nobody's way is not read, whatever it is.
#[test]
fn odd_things_in_an_output_are_left_alone() {
    use std::os::unix::ffi::OsStrExt as _;
    let folder = orchard();
    let out = folder.path().join("out");
    assert_eq!(build(folder.path(), &[]).code, 0);
    let odd = out.join(std::ffi::OsStr::from_bytes(b"caf\xe9"));
    write(&odd.join("x"), "mine", 0o640);
    fifo(&out.join("pipe"));
    symlink("nowhere", out.join("link")).expect("a link");
    let sparse = File::create(out.join("sparse")).expect("made");
    sparse.set_len(30 << 30).expect("set");
    let path = folder.path().join("orchard.span.toml");
    let text = fs::read_to_string(&path).expect("read");
    fs::write(&path, text.replace("10.73.16.0/20", "10.73.32.0/20")).expect("written");
    let run = build(folder.path(), &[]);
    assert_eq!(run.code, 0, "{}", run.all());
    assert_eq!(fs::read_to_string(odd.join("x")).expect("still there"), "mine");
    assert_eq!(fs::metadata(out.join("sparse")).expect("still there").len(), 30 << 30);
    assert!(fs::symlink_metadata(out.join("link")).expect("still there").is_symlink());
}

#[test]
fn a_closed_or_full_output_is_no_reason_to_panic() {
    let folder = orchard();
    let run = |script: &str| {
        let output = Command::new("bash").args(["-c", script]).current_dir(folder.path()).stdin(Stdio::null()).output().expect("bash");
        (output.status.code(), String::from_utf8_lossy(&output.stderr).into_owned())
    };
    for args in
        ["completions bash", "explain", "schema", "platforms", "algorithms", "check orchard.span.toml --format json", "--help", "--version"]
    {
        let (code, said) = run(&format!("{PROGRAM} {args} | head -c1 >/dev/null; exit ${{PIPESTATUS[0]}}"));
        assert!(matches!(code, Some(0 | 141)) && !said.contains("panic"), "{args}: {code:?} {said}");
        let (code, said) = run(&format!("{PROGRAM} {args} > /dev/full"));
        assert!(code == Some(3) && said.contains("No space left"), "{args}: {code:?} {said}");
        let (code, said) = run(&format!("{PROGRAM} {args} >&- 2>&-"));
        assert!(code != Some(101) && !said.contains("panic"), "{args}: {code:?} {said}");
        let (code, _) = run(&format!("{PROGRAM} {args}-wrong 2> /dev/full >/dev/null"));
        assert!(matches!(code, Some(1..=3)), "{args}: {code:?}");
    }
}

#[test]
fn errors_name_the_place_and_nothing_of_ours() {
    if !is_root() {
        return;
    }
    let folder = orchard();
    fs::create_dir(folder.path().join("disk")).expect("made");
    let script = format!(
        "set -e; mount -t tmpfs -o size=64k none disk; dd if=/dev/zero of=disk/filler bs=1k 2>/dev/null || true\n\
         for command in 'secret disk/a.key' 'build orchard.span.toml -o disk/out' 'demo disk/demo' 'new disk/n.span.toml'; do {PROGRAM} $command || echo \"exit $?\"; done\n\
         find disk -type f"
    );
    let came = Command::new("unshare").args(["-m", "sh", "-c", &script]).current_dir(folder.path()).output().expect("it runs");
    let (out, err) = (String::from_utf8_lossy(&came.stdout), String::from_utf8_lossy(&came.stderr));
    assert_eq!(out.matches("exit 3").count(), 4, "{out}{err}");
    assert_eq!(err.matches("No space left").count(), 4, "{err}");
    assert!(!err.contains(".uspan-") && !err.contains("at path"), "{err}");
    assert_eq!(out.lines().filter(|line| line.starts_with("disk/")).collect::<Vec<_>>(), ["disk/filler"], "no half-written file: {out}");
}
