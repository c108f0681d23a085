//! nftables 1.0.6 as Debian 12 packages it.
//!
//! # Why the exemption holds
//!
//! A gateway that shares its internet access has a masquerade rule in some table that belongs to
//! the administrator. An `accept` in a chain of ours ends only our chain: the packet goes on to the
//! next chain at the same hook, and there it is translated. What does end the matter is a
//! translation: the kernel decides once per connection and direction, and as soon as a chain
//! has set the source (`nf_nat_initialized` for the source manipulation), later chains are not asked
//! any more. So the exemption is a translation of each source to itself, in a chain that stands
//! just before the usual place of masquerading (priority 90 against 100, `srcnat`). The
//! administrator's table stays as it is. Both directions are translated to themselves, because a
//! connection may be opened from either side.

mod read;
mod rule;
mod steps;
mod syntax;
mod write;

use super::{FilterLook, FoundRules, PacketFilter};
use crate::delivery::PartSteps;
use crate::dialect::{Remarks, Unwritable};
use uspan_model::gateway::{Gateway, Tree};

/// The folder of its files, below the gateway's `/`.
const FOLDER: &str = "etc/nftables.d";

/// What `nft list ruleset` prints.
const LISTING: &str = "listing/nft";

/// The folders of an administrator's own files.
const FILES: [&str; 2] = ["etc/nftables", FOLDER];

/// Where the filter looks at packets whose source was translated: after all translation, which the kernel makes at 100.
const DEPARTURE_ORDER: i32 = 110;

struct Nftables;

/// The packet filter.
pub static NFTABLES: &dyn PacketFilter = &Nftables;

impl PacketFilter for Nftables {
    fn word(&self) -> &'static str {
        "nftables"
    }

    fn title(&self) -> &'static str {
        "nftables 1.0.6 (Debian 12)"
    }

    fn sees_translated(&self) -> bool {
        true
    }

    fn write(&self, gateway: &Gateway, remarks: &Remarks) -> Result<Tree, Vec<Unwritable>> {
        write::write(gateway, remarks)
    }

    fn reads_below(&self) -> &'static [&'static str] {
        &["etc/nftables"]
    }

    fn is_of(&self, tree: &Tree) -> bool {
        tree.files.keys().any(|path| path.starts_with("etc/nftables")) || tree.files.contains_key(LISTING)
    }

    fn read(&self, tree: &Tree) -> FoundRules {
        read::read(tree)
    }

    fn steps(&self) -> &'static PartSteps {
        &steps::STEPS
    }

    fn take_up(&self, stem: &str, tree: &Tree) -> Vec<String> {
        let file = format!("{FOLDER}/uspan-{stem}.nft");
        if tree.files.contains_key(&file) { vec![format!("nft -f /{file}")] } else { Vec::new() }
    }

    fn take_out(&self, stem: &str, tree: &Tree) -> Vec<String> {
        let Some(file) = tree.files.get(&format!("{FOLDER}/uspan-{stem}.nft")) else { return Vec::new() };
        let own = format!("uspan-{stem}");
        let tables = file.text.lines().filter_map(|line| line.strip_prefix("delete table "));
        // Declared first, so that it does not matter whether it is there.
        tables.filter(|table| table.ends_with(&own)).map(|table| format!("nft 'table {table}; delete table {table}'")).collect()
    }

    fn look(&self, stem: &str, gateway: &Gateway) -> Vec<FilterLook> {
        let mut looks = Vec::new();
        if !gateway.nat.is_empty() {
            let family = if gateway.nat.iter().all(|rule| !rule.from.addr().is_ipv4()) { "ip6" } else { "ip" };
            looks.push((
                "the counters of translation",
                format!("nft list table {family} uspan-{stem}"),
                "the exemption counts the first packet of each connection; the administrator's rule does not count it",
            ));
        }
        match &gateway.filter {
            Some(filter) if filter.is_joined() => looks.push((
                "the counters of the filter",
                format!("nft list ruleset | grep -A 12 'chain uspan-{stem}-'"),
                "`accept` counts in both directions, `drop` in none",
            )),
            Some(_) => looks.push((
                "the counters of the filter",
                format!("nft list table inet uspan-{stem}"),
                "`accept` counts in both directions, `drop` in none",
            )),
            None => {}
        }
        looks
    }

    fn by_hand(&self, stem: &str) -> Vec<String> {
        vec![
            format!("take every jump to a chain whose name begins with `uspan-{stem}-`, and the include of"),
            format!("/{FOLDER}/uspan-{stem}.chains out of your own table, load it, and remove that file."),
        ]
    }
}
