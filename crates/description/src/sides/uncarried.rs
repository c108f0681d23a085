//! What becomes, at each end, of what two sites send each other outside of their tunnel.

use std::collections::BTreeSet;
use std::net::Ipv6Addr;

use ipnet::{IpNet, Ipv6Net};

use super::seen_pairs;
use crate::description::{Description, NotCarried, Tunnel};
use uspan_model::gateway::MOST_PAIRS;

/// A pair of networks that a tunnel does not carry.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct UncarriedPair {
    /// The names of the two.
    pub names: [String; 2],
    /// Their prefixes.
    pub prefixes: [IpNet; 2],
    /// Which of the two gateways drop what they send each other: not where another tunnel of the site carries it, nor where the other
    /// network is one of its own, too.
    pub dropped: [bool; 2],
}

/// The pairs of networks that a tunnel does not carry.
pub fn uncarried(description: &Description, tunnel: &Tunnel) -> Vec<UncarriedPair> {
    let (pairs, ends) = (description.uncarried(tunnel), description.ends(tunnel));
    let wanted = tunnel.not_carried == NotCarried::Dropped && pairs.len() <= MOST_PAIRS;
    let drops = |end: usize, prefixes: [IpNet; 2]| {
        let (own, remote) = (prefixes[end], prefixes[1 - end]);
        let is_own = || ends[end].own_networks().any(|network| overlap(&network.prefix.value, &remote));
        let is_ours = !ends[end].platform.value.is_run_by_others();
        wanted && is_ours && !is_own() && !carries(description, tunnel.between[end].value, own, remote)
    };
    let told = pairs.iter().map(|pair| {
        let networks = pair.networks(ends);
        let prefixes = networks.map(|network| network.prefix.value);
        UncarriedPair {
            names: networks.map(|network| network.name.value.clone()),
            prefixes,
            dropped: [0, 1].map(|end| drops(end, prefixes)),
        }
    });
    told.collect()
}

fn overlap(one: &IpNet, other: &IpNet) -> bool {
    one.contains(other) || other.contains(one)
}

/// Whether a tunnel of a site carries a part of what two networks send each other.
fn carries(description: &Description, site: usize, own: IpNet, remote: IpNet) -> bool {
    towards(description, site, remote).any(|(carried, _)| overlap(&carried, &own))
}

/// What the tunnels of a site carry to a network, or to a part of it, or to more: the own network, and the other as it is seen there.
pub(super) fn towards(description: &Description, site: usize, remote: IpNet) -> impl Iterator<Item = (IpNet, IpNet)> + '_ {
    let all = description.carried.get(|| all_carried(description));
    let last_of_all = IpNet::V6(Ipv6Net::new_assert(Ipv6Addr::from(u128::MAX), 128));
    let with = move |first: IpNet, last: IpNet| all.range((site, first, IpNet::default())..=(site, last, last_of_all));
    let wider = (0..remote.prefix_len()).filter_map(move |length| IpNet::new(remote.addr(), length).ok()).map(|net| net.trunc());
    let inside = with(remote, IpNet::new(remote.broadcast(), remote.max_prefix_len()).unwrap_or(remote));
    wider.flat_map(move |net| with(net, net)).chain(inside).map(|(_, far, own)| (*own, *far))
}

fn all_carried(description: &Description) -> BTreeSet<(usize, IpNet, IpNet)> {
    let ends = description.tunnels.iter().flat_map(|tunnel| [(tunnel, 0), (tunnel, 1)]);
    let each = ends.flat_map(|(tunnel, end)| {
        let site = tunnel.between[end].value;
        seen_pairs(description, tunnel, end).into_iter().map(move |(own, remote)| (site, remote, own))
    });
    each.collect()
}
