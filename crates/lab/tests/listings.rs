//! What the kernel lists after the real programs have loaded rules is read as the same as the files that they loaded: the
//! examples of the nftables package, and the rules of the demo's tunnel, in both packet filters.
//!
//! Needs root, and Debian's nftables and iptables; where that is not there it says so, and with CI=true that is a failure.

use std::path::Path;
use std::process::{Command, Stdio};

use uspan_core::{
    Action, Context, Description, FoundRules, Ruleset, Secret, SecretFile, Source, Supplied, Test, Tree, TreeFile, What, build,
};

const EXAMPLES: &str = "/usr/share/doc/nftables/examples";

/// What is done in a network of its own: what it prints.
fn in_private(script: &str, input: &str) -> Result<String, String> {
    let mut child = Command::new("unshare")
        .args(["--net", "sh", "-ec", script])
        .stdin(Stdio::piped())
        .stdout(Stdio::piped())
        .stderr(Stdio::piped())
        .spawn()
        .map_err(|error| error.to_string())?;
    std::io::Write::write_all(&mut child.stdin.take().expect("piped"), input.as_bytes()).map_err(|error| error.to_string())?;
    let output = child.wait_with_output().map_err(|error| error.to_string())?;
    match output.status.success() {
        true => Ok(String::from_utf8_lossy(&output.stdout).into_owned()),
        false => Err(String::from_utf8_lossy(&output.stderr).into_owned()),
    }
}

/// Rules can be loaded here.
fn is_able() {
    in_private("nft list ruleset; iptables-save", "").expect("rules are loaded here");
}

fn read(filter: usize, files: &[(&str, &str)]) -> FoundRules {
    let mut tree = Tree::default();
    for (path, text) in files {
        tree.add(*path, TreeFile::public((*text).to_owned()));
    }
    Context::built_in().filters[filter].read(&tree)
}

/// A ruleset in words: for each chain that is not empty what its rules ask and do, without what a listing spells otherwise.
fn words(ruleset: &Ruleset) -> Vec<String> {
    let mut chains: Vec<String> = Vec::new();
    for chain in &ruleset.chains {
        let base = chain.base.as_ref().map(|base| format!("{:?} {:?} {} {}", base.hook, base.task, base.order, base.drops));
        let mut lines = vec![format!("{} {}: {base:?}", chain.table, chain.name)];
        for rule in &chain.rules {
            // The family goes without saying where the kind of ICMP is said.
            let icmp = rule.tests.iter().any(|test| matches!(test.what, What::Icmp(_)));
            let worth = rule.tests.iter().filter(|test| !(icmp && matches!(test.what, What::Ipv4(_))));
            let mut tests: Vec<String> = worth.map(test).collect();
            tests.sort();
            tests.dedup();
            // What asks nothing and does nothing is not worth comparing.
            if rule.action == Action::Next && !rule.logs {
                continue;
            }
            lines.push(format!("  {} -> {:?}{}", tests.join(", "), rule.action, if rule.logs { ", logs" } else { "" }));
        }
        chains.push(lines.join("\n"));
    }
    chains.sort();
    chains
}

fn test(test: &Test) -> String {
    let mut what = test.what.clone();
    // Sets are sorted, and neighbours joined, where they are listed.
    if let What::Source(nets) | What::Destination(nets) = &mut what {
        *nets = ipnet::IpNet::aggregate(&nets.to_vec()).into();
    }
    let mut told = format!("{what:?}");
    match &mut what {
        What::Port(list) | What::SourcePort(list) => list.sort(),
        What::Protocol(list) | What::Icmp(list) => list.sort_unstable(),
        What::Into(list) | What::OutOf(list) => list.sort(),
        What::State(list) => list.sort_by_key(|state| format!("{state:?}")),
        _ => {}
    }
    if what != test.what {
        told = format!("{what:?}");
    }
    format!("{}{told}", if test.not { "not " } else { "" })
}

/// The examples that are complete rulesets, read as they stand and as the kernel lists them.
#[test]
#[ignore = "needs root on Debian 12, and installs the daemons: ./test turns it on"]
fn the_packages_examples_are_read_as_the_kernel_lists_them() {
    is_able();
    let mut files: Vec<_> = std::fs::read_dir(EXAMPLES).into_iter().flatten().flatten().map(|entry| entry.path()).collect();
    files.sort();
    let (mut compared, mut wrong) = (0, Vec::new());
    for path in files.iter().filter(|path| path.extension().is_some_and(|end| end == "nft")) {
        let text = std::fs::read_to_string(path).expect("a file");
        let name = path.file_name().unwrap_or_default().to_string_lossy().into_owned();
        let found = read(0, &[("etc/nftables.conf", &text)]);
        wrong.extend(
            found.findings.iter().filter(|finding| finding.rule.code != "US802").map(|finding| format!("{name}: {}", finding.message)),
        );
        // Some are pieces, or want modules that are not here.
        let Ok(listing) = in_private("cd /usr/share/doc/nftables/examples; nft -f -; nft list ruleset", &text) else { continue };
        let listed = read(0, &[("listing/nft", &listing)]);
        let (one, other) = (words(&found.ruleset), words(&listed.ruleset));
        if one != other {
            wrong.push(format!("{name}:\n{}\nlisted:\n{}\n{listing}", one.join("\n"), other.join("\n")));
        }
        compared += 1;
    }
    assert!(wrong.is_empty(), "{}", wrong.join("\n\n"));
    assert!(compared >= 10 || !Path::new(EXAMPLES).exists(), "{compared} compared");
}

fn demo(packet_filter: &str) -> Tree {
    let text = include_str!("../../core/demo/orchard.span.toml")
        .replace("secrets/harvest.key", "k")
        .replace("\"strongswan\"", &format!("\"strongswan\"\npacket-filter = \"{packet_filter}\""));
    let (description, findings) = Description::parse(&Source::new("orchard.span.toml", text), &uspan_core::Context::built_in());
    assert!(findings.is_empty(), "{findings:#?}");
    let secret = Secret::new(b"not a real secret, only for this test".to_vec());
    let file = SecretFile::Read { secret, guesses_log10: 40.0, drawn: true, exposed: false };
    let mut built = build(&description, &Supplied { secrets: [("k".to_owned(), file)].into(), ..Supplied::default() });
    built.trees.remove("packhouse").expect("a tree")
}

#[test]
#[ignore = "needs root on Debian 12, and installs the daemons: ./test turns it on"]
fn a_tunnels_rules_are_read_from_a_listing_as_from_their_files() {
    is_able();
    for (number, filter) in Context::built_in().filters.iter().enumerate() {
        let tree = demo(filter.word());
        let found = filter.read(&tree);
        assert!(!found.nat.is_empty() && found.filter.is_some() && found.findings.is_empty(), "{found:#?}");
        let files: Vec<(&str, &str)> = tree.files.iter().map(|(path, file)| (path.as_str(), file.text.as_str())).collect();
        let (load, list, listing) = match filter.word() {
            "nftables" => ("nft -f -; nft list ruleset", ".nft", "listing/nft"),
            _ => ("iptables-restore --noflush; iptables-save", ".v4", "listing/iptables"),
        };
        let jumps: String = files.iter().filter(|(path, _)| path.ends_with(".v4-jumps")).map(|(_, text)| *text).collect();
        let rules: String = files.iter().filter(|(path, _)| path.ends_with(list)).map(|(_, text)| *text).collect();
        let listed = in_private(load, &format!("{rules}{jumps}")).expect("it is loaded");
        let again = read(number, &[(listing, &listed)]);
        assert!(again.findings.is_empty(), "{:#?}\n{listed}", again.findings);
        assert!(again.ruleset.chains.is_empty(), "{:#?}\n{listed}", again.ruleset);
        assert_eq!((again.nat, again.filter, again.segment_limits), (found.nat, found.filter, found.segment_limits), "{listed}");
    }
}
