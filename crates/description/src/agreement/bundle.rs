//! How several pairs of networks travel: a Child SA for each pair, or all in one.

use std::collections::BTreeSet;

use crate::description::{Description, Tunnel};
use uspan_dialects::profile::SeveralPairs;
use uspan_model::gateway::IkeVersion;

/// How the pairs of a tunnel travel.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Bundle {
    /// A Child SA for each pair.
    PerPair,
    /// All pairs in one Child SA, as lists of selectors (RFC 7296 section 2.9) or inside GRE; or there are none.
    One,
    /// The two ends cannot do it in the same way, and why.
    Impossible(String),
}

/// Decides how the pairs of a tunnel travel.
pub fn bundle(description: &Description, tunnel: &Tunnel) -> Bundle {
    // Routes decide what goes into GRE, and one Child SA carries that, as it does what the gateways themselves send.
    if tunnel.is_between_gateways() {
        return Bundle::One;
    }
    // Quick mode has one pair of selectors (RFC 2409 section 5.5).
    if tunnel.version.value == IkeVersion::V1 {
        return Bundle::PerPair;
    }
    let ends = description.ends(tunnel);
    let can = ends.map(|site| &site.platform.value.selectors);
    let single = |end: usize| {
        let facts = &ends[end].platform.value;
        format!("{} ({}) has one Child SA for each peer", ends[end].name.value, facts.title)
    };
    let Some(limited) = [0, 1].into_iter().find(|end| !can[*end].contains(&SeveralPairs::AnSaEach)) else { return Bundle::PerPair };
    if tunnel.pairs.len() < 2 {
        return Bundle::One;
    }
    if let Some(other) = [0, 1].into_iter().find(|end| !can[*end].contains(&SeveralPairs::InOneSa)) {
        let site = ends[other];
        return Bundle::Impossible(format!(
            "{}, and {} ({}) one pair of networks in each Child SA: together they carry one pair, not {}",
            single(limited),
            site.name.value,
            site.platform.value.title,
            tunnel.pairs.len()
        ));
    }
    let firsts: BTreeSet<_> = tunnel.pairs.iter().map(|pair| pair.first).collect();
    let seconds: BTreeSet<_> = tunnel.pairs.iter().map(|pair| pair.second).collect();
    if firsts.len() * seconds.len() != tunnel.pairs.len() {
        return Bundle::Impossible(format!(
            "{}, whose selectors are every network of one side with every network of the other; some of these pairs are left out",
            single(limited)
        ));
    }
    Bundle::One
}
