//! Tunnel interfaces and their routes, as the gateway's network configuration sets them up at boot.
//!
//! In the format of interfaces(5), which Debian's `ifup` reads.

mod addresses;
mod listing;
mod read;
mod steps;
mod write;

pub use addresses::{addresses, own_address};
pub use listing::routing_table;
pub use read::read;
pub(crate) use steps::STEPS;
pub use write::write;

use ipnet::IpNet;
use uspan_model::digest::digest;
use uspan_model::gateway::Tree;

/// How paths of its files begin, below `/`.
pub(crate) const READS_BELOW: &[&str] = &["etc/network/", "etc/systemd/network", "listing/"];

/// The folder of its files, below the gateway's `/`.
const FOLDER: &str = "etc/network/interfaces.d";

/// The number of the routing table for the packets of a network. The small ones have names, or are given out by hand.
fn table_of(from: IpNet) -> u32 {
    1_000_000_000 + digest(&from.to_string()) % 1_000_000_000
}

/// The rules that lead the packets of a network into that table, behind all routes but the default one. They stand in the order in
/// which their routes to nowhere do.
fn rules_for(from: IpNet, metric: u32) -> [String; 2] {
    [
        format!("from {from} lookup main suppress_prefixlength 0 priority {metric}"),
        format!("from {from} lookup {} priority {metric}", table_of(from)),
    ]
}

/// The commands that take a tunnel's interface down again.
pub fn take_down(stem: &str, tree: &Tree) -> Vec<String> {
    set_up(stem, tree).into_iter().map(|command| command.replacen("ifup", "ifdown --force", 1)).collect()
}

/// The commands that set up a tunnel's interface from its gateway's tree.
pub fn set_up(stem: &str, tree: &Tree) -> Vec<String> {
    let text = tree.files.get(&format!("{FOLDER}/uspan-{stem}")).map(|file| file.text.as_str()).unwrap_or_default();
    text.lines().filter_map(|line| line.strip_prefix("auto ")).map(|name| format!("ifup {name}")).collect()
}
