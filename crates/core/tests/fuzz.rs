//! Readers survive whatever stands in the files: real files with anything changed in them.
//!
//! `USPAN_FUZZ_RUNS` says how often each reader is tried; without it a few hundred times.

#[path = "common/known.rs"]
mod known;

#[path = "common/seeds.rs"]
mod seeds;

use proptest::prelude::*;
use proptest::test_runner::{Config, RngAlgorithm, TestRng, TestRunner};
use seeds::{FOREIGN, SEEDS, WORDS, within_budget};
use uspan_core::*;

/// A change: where, in thousandths of the text, what, and how much.
type Edit = (u16, u8, u8);

fn at(text: &str, thousandths: u16) -> usize {
    let mut at = text.len() * usize::from(thousandths) / 1000;
    while !text.is_char_boundary(at) {
        at -= 1;
    }
    at
}

fn changed(text: &str, edits: &[Edit]) -> String {
    let mut text = text.to_owned();
    for (place, kind, amount) in edits {
        let from = at(&text, *place);
        let mut to = (from + usize::from(*amount)).min(text.len());
        while !text.is_char_boundary(to) {
            to += 1;
        }
        match kind % 5 {
            0 => text.replace_range(from..to, ""),
            1 => text.insert_str(from, WORDS[usize::from(*amount) % WORDS.len()]),
            2 => {
                let again = text[from..to].to_owned();
                text.insert_str(to, &again);
            }
            3 => text.truncate(from),
            _ => text.replace_range(from..to, WORDS[usize::from(*amount) % WORDS.len()]),
        }
    }
    text
}

#[allow(clippy::disallowed_methods, reason = "how long it tries is up to whoever runs it")]
fn runs() -> u32 {
    std::env::var("USPAN_FUZZ_RUNS").ok().and_then(|runs| runs.parse().ok()).unwrap_or(300)
}

/// Changes one of the files below one of these paths, reads the gateway, and looks at what is said of it.
fn survives(word: &'static str, below: &'static [&'static str]) {
    let seeds: Vec<(Tree, Vec<String>)> = SEEDS
        .iter()
        .filter(|tree| known::context().profiles_of(tree).iter().any(|profile| profile.word == word))
        .cloned()
        .chain(FOREIGN.iter().map(|(path, text)| {
            let mut tree = Tree::default();
            tree.add(*path, TreeFile::public((*text).to_owned()));
            tree
        }))
        .map(|mut tree| {
            // The other readers' files are theirs.
            tree.files.retain(|path, _| below.iter().any(|start| path.starts_with(start)));
            let paths = tree.files.keys().cloned().collect::<Vec<_>>();
            (tree, paths)
        })
        .filter(|(_, paths)| !paths.is_empty())
        .collect();
    assert!(!seeds.is_empty(), "{word}: {below:?}");
    let platform = known::platform(word);
    let config = Config { cases: runs(), failure_persistence: None, ..Config::default() };
    let rng = TestRng::deterministic_rng(RngAlgorithm::ChaCha);
    let strategy = (any::<u16>(), any::<u16>(), prop::collection::vec((0..1000u16, any::<u8>(), any::<u8>()), 1..6));
    let ran = TestRunner::new_with_rng(config, rng).run(&strategy, |(seed, path, edits)| {
        let (tree, paths) = &seeds[usize::from(seed) % seeds.len()];
        let path = &paths[usize::from(path) % paths.len()];
        let mut tree = tree.clone();
        let file = tree.files.get_mut(path).expect("there");
        file.text = changed(&file.text, &edits);
        let (gateway, findings) = within_budget(&tree, |tree| known::read_as(platform, tree));
        for hook in [Hook::Input, Hook::Forward, Hook::Departure] {
            // Whatever jumps where, asking comes to an end.
            let met = PacketAt {
                hook,
                from: "10.41.0.7/32".parse().expect("a network"),
                to: "10.73.16.9/32".parse().expect("a network"),
                traffic: &Traffic::Ping,
                into: PassedInterface::Unknown,
                out_of: PassedInterface::Named("lan0"),
                leaving: true,
                arrived: false,
            };
            let _ = gateway.ruleset.ruling(&met, gateway.filter.as_ref());
            let _ = gateway.ruleset.translation(&met, |_| true);
        }
        for place in findings.iter().filter_map(|finding| finding.place.as_ref()) {
            // A place is in the file that it names, and can be shown.
            let text = tree.files.get(&*place.file).map(|file| file.text.as_str());
            prop_assert!(text.is_some_and(|text| text.get(place.span.range()).is_some()), "{place:?}");
        }
        Ok(())
    });
    ran.unwrap_or_else(|error| panic!("{word}: {error}"));
}

#[test]
fn strongswan() {
    survives("strongswan", &["etc/swanctl"]);
}

#[test]
fn libreswan() {
    survives("libreswan", &["etc/ipsec"]);
}

#[test]
fn starter() {
    survives("strongswan-starter", &["etc/ipsec."]);
}

#[test]
fn openiked() {
    survives("openiked", &["etc/iked"]);
}

#[test]
fn nftables() {
    survives("strongswan", &["etc/nftables"]);
}

#[test]
fn iptables() {
    survives("strongswan", &["etc/iptables"]);
}

#[test]
fn interfaces() {
    survives("strongswan", &["etc/network", "listing/ip"]);
}

#[test]
fn routing() {
    survives("strongswan", &["etc/frr"]);
}
