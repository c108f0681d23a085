//! Examples that come with the daemons, in their packages and in their manual pages, are read without a finding that blames a
//! correct line. What this program does not know is named (US802), and no more.
//!
//! Needs the packages, which `uspan prove --prepare` and the loaders' test install; where they are not there, it says so, and
//! with CI=true that is a failure.

#[path = "../../core/tests/common/known.rs"]
mod known;

use std::fs;
use std::io::Read as _;
use std::path::{Path, PathBuf};

use uspan_core::{Tree, TreeFile};

/// An example: where it is from, the platform, the file that it would be, its text.
type Example = (String, &'static str, &'static str, String);

fn package() -> PathBuf {
    uspan_lab::default_cache().join("libreswan")
}

/// Blocks of a manual page between two requests, with the escapes of roff(7) resolved.
fn blocks(page: &Path, begin: &str, end: &str) -> Vec<String> {
    let bytes = fs::read(page).unwrap_or_default();
    let text = std::process::Command::new("zcat").arg(page).output().map(|output| output.stdout).unwrap_or(bytes);
    let text = String::from_utf8_lossy(&text).into_owned();
    let mut blocks = Vec::new();
    let mut open: Option<String> = None;
    for line in text.lines() {
        match &mut open {
            None if line.starts_with(begin) => open = Some(String::new()),
            Some(block) if line.starts_with(end) => {
                blocks.push(std::mem::take(block));
                open = None;
            }
            Some(block) if !line.starts_with('.') => {
                let plain = ["\\&", "\\fB", "\\fI", "\\fR", "\\fP"].iter().fold(line.to_owned(), |line, escape| line.replace(escape, ""));
                block.push_str(&plain.replace("\\e", "\\").replace("\\-", "-").replace("\\*(Aq", "'"));
                block.push('\n');
            }
            _ => {}
        }
    }
    blocks
}

/// Files of the package that are no configurations: prose with pieces in it, and settings of the kernel.
const NO_EXAMPLES: [&str; 2] = ["hub-spoke.conf", "sysctl.conf"];

/// The one line that is wrong where it stands: its `=` is missing.
const WRONG: &str = "modecfgdns1.2.3.4,5.6.7.8";

fn examples() -> Vec<Example> {
    let mut examples: Vec<Example> = Vec::new();
    let mut add = |path: &Path, word: &'static str, below: &'static str| {
        let mut text = String::new();
        if fs::File::open(path).and_then(|mut file| file.read_to_string(&mut text)).is_ok() {
            examples.push((path.display().to_string(), word, below, text));
        }
    };
    add(Path::new("/etc/swanctl/swanctl.conf"), "strongswan", "etc/swanctl/swanctl.conf");
    add(Path::new("/etc/iked.conf"), "openiked", "etc/iked.conf");
    add(&package().join("etc/ipsec.conf"), "libreswan", "etc/ipsec.conf");
    let folder = package().join("usr/share/doc/libreswan/examples");
    let mut packaged: Vec<PathBuf> = fs::read_dir(folder).into_iter().flatten().flatten().map(|entry| entry.path()).collect();
    packaged.sort();
    for path in packaged
        .iter()
        .filter(|path| path.extension().is_some_and(|end| end == "conf") && !NO_EXAMPLES.iter().any(|name| path.ends_with(name)))
    {
        add(path, "libreswan", "etc/ipsec.conf");
    }
    let page = package().join("usr/share/man/man5/ipsec.conf.5.gz");
    let conns = blocks(&page, ".nf", ".fi").into_iter().filter(|block| block.trim_start().starts_with("conn "));
    examples.extend(conns.enumerate().map(|(i, text)| (format!("ipsec.conf(5), example {}", i + 1), "libreswan", "etc/ipsec.conf", text)));
    let page = Path::new("/usr/share/man/man5/iked.conf.5.gz");
    let policies = blocks(page, ".Bd -literal", ".Ed").into_iter().filter(|block| block.lines().any(|line| line.starts_with("ikev2")));
    examples.extend(policies.enumerate().map(|(i, text)| (format!("iked.conf(5), example {}", i + 1), "openiked", "etc/iked.conf", text)));
    examples
}

#[test]
#[ignore = "needs the packages of the daemons, which ./test installs"]
fn what_comes_with_the_daemons_is_not_blamed() {
    let examples = examples();
    assert!(examples.len() >= 15, "only {} examples are on this machine", examples.len());
    let mut wrong = Vec::new();
    for (name, word, below, text) in &examples {
        let mut tree = Tree::default();
        tree.add(*below, TreeFile::public(text.clone()));
        let (_, findings) = known::read_as(known::platform(word), &tree);
        for finding in findings.iter().filter(|finding| !["US802", "US804"].contains(&finding.rule.code)) {
            let line = finding.place.as_ref().map(|place| text[..place.span.start].matches('\n').count() + 1);
            let shown = line.and_then(|line| text.lines().nth(line - 1)).unwrap_or_default();
            if shown.trim() == WRONG {
                continue;
            }
            wrong.push(format!("{name}, line {line:?}: {} {}\n      {shown}", finding.rule.code, finding.message));
        }
    }
    assert!(wrong.is_empty(), "{} of {} examples:\n{}", wrong.len(), examples.len(), wrong.join("\n"));
}
