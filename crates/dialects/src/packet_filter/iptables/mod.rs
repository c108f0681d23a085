//! iptables 1.8.9 as Debian 12 packages it, in the format of iptables-restore(8).
//!
//! # Why the exemption holds
//!
//! All translation of a source happens in the one chain POSTROUTING of the table `nat`, where the first rule that
//! fits decides. So an `ACCEPT` that stands before the administrator's masquerading exempts: the jump to our chain is
//! put in at the head.
//!
//! # Two files for each family
//!
//! iptables-restore empties a chain that a file declares, also with `--noflush`: loading the rules twice is the same as
//! loading them once. A jump from a built-in chain has no such guard, so the jumps stand in a file of their own, which
//! is loaded only where they are missing.

pub(super) mod names;
mod read;
mod steps;
mod write;

use super::{FilterLook, FoundRules, PacketFilter};
use crate::delivery::PartSteps;
use crate::dialect::{Remarks, Unwritable};
use uspan_model::gateway::{Gateway, Tree};

/// The folder of its files, below the gateway's `/`.
const FOLDER: &str = "etc/iptables";

/// What the two families are called.
struct IpFamily {
    ipv4: bool,
    /// Ending of the file with rules.
    rules: &'static str,
    /// Ending of the file with jumps.
    jumps: &'static str,
    /// What iptables-save prints of it.
    listing: &'static str,
    /// The program; `-restore` behind it loads files.
    program: &'static str,
}

static FAMILIES: [IpFamily; 2] = [
    IpFamily { ipv4: true, rules: "v4", jumps: "v4-jumps", listing: "listing/iptables", program: "iptables" },
    IpFamily { ipv4: false, rules: "v6", jumps: "v6-jumps", listing: "listing/ip6tables", program: "ip6tables" },
];

struct Iptables;

/// The packet filter.
pub static IPTABLES: &dyn PacketFilter = &Iptables;

impl PacketFilter for Iptables {
    fn word(&self) -> &'static str {
        "iptables"
    }

    fn title(&self) -> &'static str {
        "iptables 1.8.9 (Debian 12)"
    }

    fn sees_translated(&self) -> bool {
        false
    }

    fn write(&self, gateway: &Gateway, remarks: &Remarks) -> Result<Tree, Vec<Unwritable>> {
        write::write(gateway, remarks)
    }

    fn reads_below(&self) -> &'static [&'static str] {
        &["etc/iptables"]
    }

    fn is_of(&self, tree: &Tree) -> bool {
        tree.files.keys().any(|path| path.starts_with(FOLDER)) || FAMILIES.iter().any(|family| tree.files.contains_key(family.listing))
    }

    fn read(&self, tree: &Tree) -> FoundRules {
        read::read(tree)
    }

    fn steps(&self) -> &'static PartSteps {
        &steps::STEPS
    }

    fn take_up(&self, stem: &str, tree: &Tree) -> Vec<String> {
        let mut commands = Vec::new();
        for family in &FAMILIES {
            let file = |ending: &str| format!("{FOLDER}/uspan-{stem}.{ending}");
            let (rules, jumps, program) = (file(family.rules), file(family.jumps), family.program);
            if tree.files.contains_key(&rules) {
                commands.push(format!("{program}-restore --noflush /{rules}"));
            }
            if let Some(text) = tree.files.get(&jumps).map(|file| &file.text) {
                let jump = text.lines().find_map(|line| line.strip_prefix("-I ")).unwrap_or_default();
                let table = text.lines().find_map(|line| line.strip_prefix('*')).unwrap_or_default();
                commands.push(format!("{program} -t {table} -C {jump} 2>/dev/null || {program}-restore --noflush /{jumps}"));
            }
        }
        commands
    }

    fn take_out(&self, stem: &str, tree: &Tree) -> Vec<String> {
        let mut commands = Vec::new();
        for family in FAMILIES.iter().filter(|family| tree.files.contains_key(&format!("{FOLDER}/uspan-{stem}.{}", family.rules))) {
            let chains = [
                ("nat", "POSTROUTING", names::NAT),
                ("nat", "PREROUTING", names::DESTINATION),
                ("mangle", "FORWARD", names::SEGMENTS),
                ("filter", "INPUT", names::INPUT),
                ("filter", "FORWARD", names::FORWARD),
                ("filter", "OUTPUT", names::OUTPUT),
            ];
            for (table, from, role) in chains {
                let (program, chain) = (family.program, names::chain(stem, role));
                // Every jump to it, then the chain; one that is not there is no failure.
                commands.push(format!("while {program} -t {table} -D {from} -j {chain} 2>/dev/null; do :; done"));
                commands.push(format!("{program} -t {table} -F {chain} 2>/dev/null && {program} -t {table} -X {chain}"));
            }
        }
        commands
    }

    fn look(&self, stem: &str, gateway: &Gateway) -> Vec<FilterLook> {
        let program = |ipv4: bool| FAMILIES.iter().find(|family| family.ipv4 == ipv4).map_or("iptables", |family| family.program);
        let mut looks = Vec::new();
        if let Some(rule) = gateway.nat.first() {
            let command = format!("{} -t nat -vnL {}", program(rule.from.addr().is_ipv4()), names::chain(stem, names::NAT));
            looks.push((
                "the counters of translation",
                command,
                "the exemption counts the first packet of each connection; the administrator's rule does not count it",
            ));
        }
        if let Some(rule) = gateway.filter.iter().flat_map(|filter| &filter.rules).next() {
            let command = format!("{} -vnL {}", program(rule.from.addr().is_ipv4()), names::chain(stem, names::FORWARD));
            looks.push(("the counters of the filter", command, "`accept` counts in both directions, `drop` in none"));
        }
        looks
    }

    fn by_hand(&self, _stem: &str) -> Vec<String> {
        vec!["save your rules, so that the tunnel's do not come back at boot.".to_owned()]
    }
}
