//! Laws of the house that no compiler holds (docs/architecture.md).

use std::collections::BTreeSet;
use std::fs;
use std::path::{Path, PathBuf};

use uspan_core::Context;

/// All sources below a folder of the workspace.
fn sources(below: &[&str]) -> Vec<(PathBuf, String)> {
    let workspace = Path::new(env!("CARGO_MANIFEST_DIR")).join("../..");
    let mut open: Vec<_> = below.iter().map(|folder| workspace.join(folder)).collect();
    let mut all = Vec::new();
    while let Some(path) = open.pop() {
        if path.is_dir() {
            open.extend(fs::read_dir(&path).expect("a folder").map(|entry| entry.expect("an entry").path()));
        } else if path.extension().is_some_and(|ending| ending == "rs") {
            let text = fs::read_to_string(&path).expect("a text");
            all.push((path.strip_prefix(&workspace).expect("below").to_owned(), text));
        }
    }
    assert!(all.len() > 10, "{below:?}");
    all
}

/// A file without what is compiled for its tests alone, which stands at its end.
fn shipped(text: &str) -> &str {
    text.split("\n#[cfg(test)]\nmod ").next().unwrap_or(text)
}

/// The words of platforms and packet filters.
fn words() -> Vec<String> {
    let context = Context::built_in();
    let platforms = context.profiles.iter().map(|profile| profile.word.to_string());
    platforms.chain(context.filters.iter().map(|filter| filter.word().to_owned())).collect()
}

/// Text, no comparison: where a word may stand outside its own folder, and why.
const TEXTS: &[(&str, &str)] = &[
    // The default of the key `packet-filter`, and an example beside it, for the reference.
    ("crates/description/src/description/language.rs", "key(\"packet-filter\","),
];

#[test]
fn nothing_asks_for_the_name_of_a_platform_or_a_packet_filter_outside_its_folder() {
    let crates = ["model", "dialects", "judge", "description", "core", "lab"].map(|name| format!("crates/{name}/src"));
    let mut seen = BTreeSet::new();
    for (path, text) in sources(&crates.each_ref().map(String::as_str)) {
        let name = path.display().to_string();
        for (number, line) in shipped(&text).lines().enumerate() {
            for word in words().iter().filter(|word| line.contains(&format!("\"{word}\""))) {
                // `platform/NAME/`, `packet_filter/NAME/`, `daemon/NAME.rs`, `administrator/NAME.rs`.
                let own = [format!("/{word}/"), format!("/{word}.rs")].iter().any(|own| name.contains(own));
                let told = TEXTS.iter().any(|(file, begin)| name == *file && line.trim_start().starts_with(begin));
                assert!(own || told, "{name}:{}: {line}", number + 1);
                seen.insert(word.clone());
            }
        }
    }
    // It looks at the right places.
    assert_eq!(seen.into_iter().collect::<Vec<_>>(), {
        let mut all = words();
        all.sort();
        all
    });
}

#[test]
fn the_lab_has_a_driver_for_everything_that_there_is() {
    let context = Context::built_in();
    for profile in context.of_ours() {
        assert!(uspan_lab::has_daemon(&profile.word), "{}", profile.word);
    }
    for filter in &context.filters {
        assert!(uspan_lab::has_administrator(filter.word()), "{}", filter.word());
    }
}

/// Lines of a file.
const LONGEST_FILE: usize = 600;
/// Lines of a function.
const LONGEST_FUNCTION: usize = 80;

/// Functions by the line where each begins, with their lengths; rustfmt puts the end of each under its beginning.
fn functions(lines: &[&str]) -> Vec<(usize, usize)> {
    let head = |line: &str| {
        let words: Vec<_> = line.split(|c: char| !c.is_alphanumeric() && c != '_').filter(|word| !word.is_empty()).collect();
        let before = words.iter().position(|word| *word == "fn");
        before.is_some_and(|at| words[..at].iter().all(|word| ["pub", "crate", "super", "const", "async"].contains(word)))
    };
    let mut all = Vec::new();
    for (first, line) in lines.iter().enumerate().filter(|(_, line)| head(line)) {
        let indent = &line[..line.len() - line.trim_start().len()];
        let end = format!("{indent}}}");
        let whole = line.ends_with(['}', ';']);
        let last = if whole { first } else { lines[first..].iter().position(|line| *line == end).map_or(first, |at| first + at) };
        all.push((first, last - first + 1));
    }
    all
}

#[test]
fn no_file_and_no_function_is_long_without_a_reason_beside_it() {
    let mut long = Vec::new();
    for (path, text) in sources(&["crates", "fuzz/src", "fuzz/targets"]) {
        let lines: Vec<_> = text.lines().collect();
        if lines.len() > LONGEST_FILE {
            long.push(format!("{}: {} lines", path.display(), lines.len()));
        }
        for (first, length) in functions(&lines) {
            let beside = lines[first.saturating_sub(6)..=first].iter().any(|line| line.trim_start().starts_with("// Long: "));
            if length > LONGEST_FUNCTION && !beside {
                long.push(format!("{}:{}: {length} lines", path.display(), first + 1));
            }
        }
    }
    assert!(long.is_empty(), "{long:#?}");
}

#[test]
fn no_two_types_have_one_name() {
    let mut known: BTreeSet<String> = BTreeSet::new();
    let mut twice = Vec::new();
    let crates = ["model", "dialects", "judge", "description", "core", "cli", "lab"].map(|name| format!("crates/{name}/src"));
    for (path, text) in sources(&crates.each_ref().map(String::as_str)) {
        for line in shipped(&text).lines() {
            let words: Vec<_> = line.split([' ', '<', '(', '{', ';', '=', ':']).collect();
            let declared = words.windows(2).find(|pair| ["struct", "enum", "trait", "type"].contains(&pair[0])).map(|pair| pair[1]);
            let top = line.starts_with("pub") || ["struct ", "enum ", "trait ", "type "].iter().any(|word| line.starts_with(word));
            if let Some(name) = declared.filter(|_| top)
                && !known.insert(name.to_owned())
            {
                twice.push(format!("{name} in {}", path.display()));
            }
        }
    }
    assert!(known.len() > 200, "it looks at the right places");
    assert!(twice.is_empty(), "{twice:#?}");
}
