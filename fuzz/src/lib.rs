//! What each target does with the bytes that the fuzzer gives it.
//!
//! Several files stand in one input: a line `%% PATH` begins one.

pub mod begin;
#[path = "../../crates/core/tests/common/known.rs"]
mod known;

#[path = "../../crates/core/tests/common/seeds.rs"]
pub mod seeds;

use std::collections::BTreeMap;

use seeds::within_budget;
use uspan_core::{
    Actor, Adoptee, Certificate, Description, Gateway, Given, KnownAddresses, OwnEnd, PublicKey, ReadGateway, Secret, Source, Subject,
    Tree, TreeFile, adopt, compare_ends, covered, discreet, is_plain, shown,
};

/// The targets: each with the platform that reads its trees, and the path of a file that stands alone.
pub const TREES: [(&str, &str, &str); 8] = [
    ("strongswan", "strongswan", "etc/swanctl/swanctl.conf"),
    ("libreswan", "libreswan", "etc/ipsec.conf"),
    ("starter", "strongswan-starter", "etc/ipsec.conf"),
    ("openiked", "openiked", "etc/iked.conf"),
    ("nftables", "strongswan", "etc/nftables.conf"),
    ("iptables", "strongswan", "etc/iptables/rules.v4"),
    ("network", "strongswan", "etc/network/interfaces.d/uspan-x"),
    ("routing", "strongswan", "etc/frr/uspan-x.conf"),
];

/// Where each target's files stand; others are left out of seeds.
pub fn is_of(target: &str, path: &str) -> bool {
    let begins: &[&str] = match target {
        "strongswan" => &["etc/swanctl", "etc/strongswan"],
        "libreswan" | "starter" => &["etc/ipsec"],
        "openiked" => &["etc/iked"],
        "nftables" => &["etc/nftables"],
        "iptables" => &["etc/iptables", "listing/ip"],
        "network" => &["etc/network", "etc/systemd/network", "listing/ip-"],
        "routing" => &["etc/frr"],
        _ => &[],
    };
    begins.iter().any(|begin| path.starts_with(begin))
}

/// The files of an input.
pub fn tree(text: &str, alone: &str) -> Tree {
    let mut files: BTreeMap<String, String> = BTreeMap::new();
    let mut path = alone.to_owned();
    for line in text.split_inclusive('\n') {
        match line.strip_prefix("%% ") {
            Some(named) => path = named.trim().to_owned(),
            None => files.entry(path.clone()).or_default().push_str(line),
        }
    }
    let mut tree = Tree::default();
    files.into_iter().for_each(|(path, text)| tree.add(path, TreeFile::public(text)));
    tree
}

/// A tree as an input.
pub fn input(tree: &Tree) -> String {
    tree.files.iter().map(|(path, file)| format!("%% {path}\n{}", file.text)).collect()
}

/// Reads a tree, compares it with itself and takes it over.
pub fn read(target: &str, bytes: &[u8]) {
    let Ok(text) = std::str::from_utf8(bytes) else { return };
    let Some((_, word, alone)) = TREES.iter().find(|(name, ..)| *name == target) else { return };
    let platform = known::platform(word);
    let tree = tree(text, alone);
    let (gateway, findings) = within_budget(&tree, |tree| known::read_as(platform, tree));
    for place in findings.iter().filter_map(|finding| finding.place.as_ref()) {
        let text = tree.files.get(&*place.file).map(|file| file.text.as_str());
        assert!(text.is_some_and(|text| text.get(place.span.range()).is_some()), "{place:?}");
    }
    let seen = covered(&tree);
    let reading = |name, gateway| ReadGateway { name, gateway, ends_open: platform.own_end == OwnEnd::ByAddress, tree: Some(&seen) };
    let actor = |reading| Actor { reading, behaviour: &platform.behaviour, stands: KnownAddresses::default() };
    let empty = Gateway::default();
    for other in [&gateway, &empty] {
        let _ = compare_ends(actor(reading("one", &gateway)), actor(reading("other", other)));
        let adopted = adopt(
            [("one", &gateway), ("other", other)].map(|(name, gateway)| Adoptee { reading: reading(name, gateway), facts: platform }),
        );
        let (_, broken) = Description::parse(&Source::new("adopted", adopted.text.as_str()), known::context());
        assert!(!broken.iter().any(|finding| matches!(finding.rule.code, "US101" | "US102")), "{}\n{broken:?}", adopted.text);
    }
    drop(discreet(findings, &seen));
}

/// Reads a description, with what follows the first `%% ` as the file of its inventory.
pub fn description(bytes: &[u8]) {
    let Ok(text) = std::str::from_utf8(bytes) else { return };
    let (text, inventory) = text.split_once("\n%% ").unwrap_or((text, ""));
    let mut give = |_: &str| Ok(inventory.split_once('\n').map_or(inventory, |(_, rest)| rest).to_owned());
    let source = Source::new("d", text);
    let (mut description, findings) = Description::parse_with(&source, known::context(), &mut give);
    for finding in &findings {
        assert!(is_plain(&shown(&finding.message)));
    }
    let mut given = Given::default();
    let _ = given.add_file(&source);
    let _ = description.give(&given);
    let built = uspan_core::build(&description, &uspan_core::Supplied::default());
    drop(built);
}

/// Reads keys, certificates, subjects and secrets.
pub fn keys(bytes: &[u8]) {
    let _ = Secret::from_file(bytes);
    let Ok(text) = std::str::from_utf8(bytes) else { return };
    let _ = PublicKey::from_pem(text).map(|key| key.kind());
    if let Some(certificate) = Certificate::from_pem(text) {
        let _ = certificate.public().kind();
    }
    let _ = Subject::read(text);
    let _ = Secret::from_hex(text.trim());
    let _ = Secret::from_base64(text.trim());
}

/// Fills a sheet into a description.
pub fn sheet(bytes: &[u8]) {
    let Ok(text) = std::str::from_utf8(bytes) else { return };
    let description = Source::new("d", seeds::DESCRIPTION);
    let (parsed, _) = Description::parse(&description, known::context());
    let built = uspan_core::build(&parsed, &seeds::supplied());
    if let Some(form) = built.tunnels.first().and_then(|tunnel| uspan_core::form(&parsed, tunnel, 1, &seeds::supplied())) {
        let _ = uspan_core::fill(&parsed, &form, &Source::new("s", text));
    }
}
