//! Broken descriptions, one or more for every finding a description can have, and careless ones,
//! which are built with a warning. The line a finding belongs to is marked in the file.

#![allow(clippy::disallowed_methods, clippy::disallowed_macros, reason = "tests have files of their own")]

mod common;

use std::collections::BTreeSet;
use std::fs;
use std::path::{Path, PathBuf};
use std::sync::LazyLock;

use common::{SECRET, files, uspan, write, write_keys};
use uspan_core::{CATALOGUE, Severity};

fn corpus(name: &str) -> Vec<PathBuf> {
    let folder = Path::new(env!("CARGO_MANIFEST_DIR")).join("tests").join(name);
    let mut files: Vec<_> = fs::read_dir(folder).expect("the corpus").map(|entry| entry.expect("an entry").path()).collect();
    files.sort();
    files
}

/// Keys for all of them, made once.
static KEYS: LazyLock<tempfile::TempDir> = LazyLock::new(|| {
    let folder = tempfile::tempdir().expect("a folder");
    write_keys(folder.path());
    folder
});

/// The secret files that the corpus names, good and bad.
fn lay_out(folder: &Path) {
    write(&folder.join("harvest.key"), format!("{SECRET}\n"), 0o600);
    write(&folder.join("copy.key"), SECRET, 0o600);
    write(&folder.join("juice.key"), "Zr4uY8wQe1TnM5pVb9XcF2kDhG7jLsO0aPiEyNtC6vB\n", 0o600);
    write(&folder.join("empty.key"), "\n", 0o600);
    write(&folder.join("weak.key"), "orchard2026\n", 0o600);
    write(&folder.join("modest.key"), "grader basket cellar thirty owls\n", 0o600);
    write(&folder.join("lines.key"), format!("{SECRET}\nmore\n"), 0o600);
    write(&folder.join("nul.key"), format!("{SECRET}\0{SECRET}\n"), 0o600);
    write(&folder.join("long.key"), SECRET.repeat(12), 0o600);
    write(&folder.join("hex.key"), format!("0x{SECRET}\n"), 0o600);
    write(&folder.join("exposed.key"), "Wd3oI7rTy0UbN4mXa8ZcE1kFgH6jLqP9sVuOeRtB5nM\n", 0o644);
    write(&folder.join("orchards.csv"), "name,gateway.address,networks\npress,203.0.113.90,10.90.0.0/24\n", 0o644);
    write(&folder.join("nameless.csv"), "gateway.address,networks\n203.0.113.90,10.90.0.0/24\n", 0o644);
    fs::create_dir(folder.join("folder.key")).expect("made");
    fs::create_dir(folder.join("keys")).expect("made");
    for file in files(&KEYS.path().join("keys")) {
        fs::copy(&file, folder.join("keys").join(file.file_name().expect("a name"))).expect("copied");
    }
}

/// Code and line that a file expects.
fn expected(path: &Path) -> (String, usize) {
    let content = fs::read(path).expect("read");
    let text = String::from_utf8_lossy(&content);
    let line = text.lines().position(|line| line.contains("<-- US")).unwrap_or_else(|| panic!("{} marks no line", path.display()));
    let name = path.file_name().expect("a name").to_string_lossy().into_owned();
    (name[..5].to_owned(), line + 1)
}

/// Codes with lines, the exit code, and whether anything was written.
type Found = (Vec<(String, u64)>, i32, bool);

/// What came of the broken descriptions, run once for all tests.
static BROKEN: LazyLock<Vec<(PathBuf, Found)>> =
    LazyLock::new(|| corpus("broken").into_iter().map(|path| (path.clone(), found(&path))).collect());

fn found(path: &Path) -> Found {
    let folder = tempfile::tempdir().expect("a folder");
    lay_out(folder.path());
    fs::copy(path, folder.path().join("x.span.toml")).expect("copied");
    // What is supplied beside the description stands in its first line.
    let text = String::from_utf8_lossy(&fs::read(path).expect("read")).into_owned();
    let supply: Vec<&str> =
        text.strip_prefix("# --given ").and_then(|text| text.lines().next()).map(|fact| vec!["--given", fact]).unwrap_or_default();
    let run = uspan(folder.path(), &[&["build", "x.span.toml", "-o", "out", "--format", "json"], supply.as_slice()].concat());
    let json = run.json();
    let list = json["findings"].as_array().expect("a list");
    let codes = list.iter().map(|f| (f["code"].as_str().expect("a code").to_owned(), f["place"]["line"].as_u64().unwrap_or(0))).collect();
    // The drawn form must not crash on any of them either, and says the code.
    let drawn = uspan(folder.path(), &[&["check", "x.span.toml"], supply.as_slice()].concat());
    assert_eq!(drawn.code, run.code, "{}", path.display());
    assert!(list.iter().all(|f| drawn.stderr.contains(f["code"].as_str().expect("a code"))), "{}", path.display());
    (codes, run.code, folder.path().join("out").exists())
}

#[test]
fn a_broken_description_gives_its_finding_at_its_line_and_no_file() {
    assert!(BROKEN.len() >= 100, "{}", BROKEN.len());
    let mut wrong = Vec::new();
    for (path, (codes, exit, written)) in BROKEN.iter() {
        let (code, line) = expected(path);
        let there = codes.iter().any(|(c, l)| *c == code && *l == line as u64);
        if !there || *exit != 1 || *written {
            wrong.push(format!("{}: expected {code} at {line}, found {codes:?}, exit {exit}, written {written}", path.display()));
        }
    }
    assert!(wrong.is_empty(), "{}", wrong.join("\n"));
}

#[test]
fn a_careless_description_is_built_with_a_warning() {
    let mut wrong = Vec::new();
    for path in corpus("careless") {
        let (code, line) = expected(&path);
        let (codes, exit, written) = found(&path);
        let there = codes.iter().any(|(c, l)| *c == code && *l == line as u64);
        if !there || exit != 0 || !written {
            wrong.push(format!("{}: expected {code} at {line}, found {codes:?}, exit {exit}, written {written}", path.display()));
        }
    }
    assert!(wrong.is_empty(), "{}", wrong.join("\n"));
}

/// What a finding breaks is said once: a broken file has no finding that is only its consequence.
#[test]
fn most_broken_descriptions_have_exactly_one_error() {
    let crowded: Vec<_> =
        BROKEN.iter().filter(|(_, (codes, ..))| codes.len() != 1).map(|(path, (codes, ..))| (path.file_name(), codes)).collect();
    assert!(crowded.len() * 10 <= BROKEN.len(), "{crowded:#?}");
}

#[test]
fn every_finding_about_a_description_is_in_the_corpus() {
    let codes = |name| -> BTreeSet<String> { corpus(name).iter().map(|path| expected(path).0).collect() };
    let (broken, careless) = (codes("broken"), codes("careless"));
    for rule in CATALOGUE.iter().filter(|rule| rule.code < "US700" || rule.code == "US710") {
        let corpus = if rule.severity == Severity::Error { &broken } else { &careless };
        assert!(corpus.contains(rule.code), "no description for {} {}", rule.code, rule.name);
    }
}
