//! The examples of the guide build.

#![allow(clippy::disallowed_methods, clippy::disallowed_macros, reason = "tests have files of their own")]

mod common;

use std::fs;
use std::path::Path;

use common::{SECRET, files, uspan, write, write_keys};

/// The whole descriptions of a page, each with the line it begins on.
fn examples(page: &str) -> Vec<(usize, String)> {
    let mut found = blocks(page, "```toml");
    found.retain(|(_, text)| text.contains("unified-span"));
    found
}

/// Blocks that begin like this, each with the line after that.
fn blocks(page: &str, opening: &str) -> Vec<(usize, String)> {
    let mut found = Vec::new();
    let mut block: Option<(usize, String)> = None;
    let mut wanted = false;
    for (i, line) in page.lines().enumerate() {
        match (&mut block, line) {
            (None, line) if line.starts_with("```") => {
                wanted = line == opening;
                block = Some((i + 2, String::new()));
            }
            (Some(_), "```") => found.extend(block.take().filter(|_| wanted)),
            (Some((_, text)), line) => {
                text.push_str(line);
                text.push('\n');
            }
            (None, _) => {}
        }
    }
    found
}

#[test]
fn every_example_of_the_guide_builds() {
    let guide = Path::new(env!("CARGO_MANIFEST_DIR")).join("../../docs/guide");
    let mut pages: Vec<_> = fs::read_dir(guide).expect("the guide").map(|entry| entry.expect("an entry").path()).collect();
    pages.push(Path::new(env!("CARGO_MANIFEST_DIR")).join("../../README.md"));
    pages.sort();
    let mut built = 0;
    for page in &pages {
        let text = fs::read_to_string(page).expect("read");
        for (line, example) in examples(&text) {
            let folder = tempfile::tempdir().expect("a folder");
            write(&folder.path().join("secrets/harvest.key"), format!("{SECRET}\n"), 0o600);
            // A page has one inventory at most.
            for (_, rows) in blocks(&text, "```csv") {
                write(&folder.path().join("orchards.csv"), rows, 0o644);
                write(&folder.path().join("secrets/harvest.master"), format!("{SECRET}\n"), 0o600);
            }
            if example.contains("keys") {
                write_keys(folder.path());
            }
            write(&folder.path().join("x.span.toml"), &example, 0o644);
            let run = uspan(folder.path(), &["build", "x.span.toml", "-o", "out"]);
            assert_eq!(run.code, 0, "{}:{line}\n{}", page.display(), run.all());
            assert!(folder.path().join("out/packhouse/etc").is_dir());
            built += 1;
        }
    }
    // Each page by task has its example.
    assert!(built >= 8, "{built}");
}

/// The blocks of a page that begin with a command: what it prints stands in them, with `…` for what is left out.
#[test]
fn what_the_guide_shows_of_a_strangers_files_is_printed() {
    let docs = Path::new(env!("CARGO_MANIFEST_DIR")).join("../../docs");
    let folder = tempfile::tempdir().expect("a folder");
    for from in files(&docs.join("examples")) {
        let name = from.strip_prefix(docs.join("examples")).expect("below");
        let mode = if name.ends_with("ipsec.secrets") { 0o600 } else { 0o644 };
        write(&folder.path().join(name), fs::read(&from).expect("read"), mode);
    }
    let mut shown = 0;
    write(&folder.path().join("partner/secrets/seedlings.key"), format!("{SECRET}\n"), 0o600);
    for page in ["compare.md", "sheet.md", "takeover.md"] {
        let text = fs::read_to_string(docs.join("guide").join(page)).expect("read");
        for (line, block) in blocks(&text, "```") {
            let Some((command, printed)) = block.split_once('\n').and_then(|(first, rest)| Some((first.strip_prefix("$ uspan ")?, rest)))
            else {
                continue;
            };
            let run = uspan(folder.path(), &command.split(' ').collect::<Vec<_>>());
            for part in printed.split("…\n").filter(|part| !part.is_empty()) {
                assert!(run.all().contains(part), "docs/guide/{page}:{line}\n{}", run.all());
                shown += 1;
            }
        }
    }
    assert!(shown >= 6, "{shown}");
}
