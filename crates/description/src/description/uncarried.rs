//! Pairs of networks of a tunnel's two sites that it does not carry: in clear they would leave for the internet.

use std::collections::BTreeSet;
use std::sync::OnceLock;

use ipnet::IpNet;

use super::{Description, NotCarried, Pair, Tunnel};
use uspan_model::gateway::MOST_PAIRS;

/// What each site's tunnels carry: the site, the network at the other end as it is seen here, the own one. Worked out once; a copy may
/// be changed, and works it out anew.
#[derive(Debug, Default)]
pub(super) struct CarriedNetworks(OnceLock<BTreeSet<(usize, IpNet, IpNet)>>);

impl Clone for CarriedNetworks {
    fn clone(&self) -> CarriedNetworks {
        CarriedNetworks::default()
    }
}

fn overlap(one: &IpNet, other: &IpNet) -> bool {
    one.contains(other) || other.contains(one)
}

impl Description {
    /// Pairs of networks that stand behind a tunnel's two gateways and that it does not carry.
    pub fn uncarried(&self, tunnel: &Tunnel) -> Vec<Pair> {
        let ends = self.ends(tunnel);
        let all = |ipv4: bool| {
            let of = |end: usize| ends[end].own_networks().filter(|own| own.prefix.value.addr().is_ipv4() == ipv4).count();
            of(0).saturating_mul(of(1))
        };
        let own_pairs = tunnel.pairs.iter().filter(|pair| !pair.leads_beyond(ends));
        if tunnel.hosts.is_some() || own_pairs.clone().count() >= all(true).saturating_add(all(false)) {
            return Vec::new();
        }
        let carried: BTreeSet<_> = own_pairs.map(|pair| (pair.first, pair.second)).collect();
        let mut pairs = Vec::new();
        for (first, one) in ends[0].own_networks().enumerate() {
            for (second, other) in ends[1].own_networks().enumerate() {
                let of_one_family = one.prefix.value.addr().is_ipv4() == other.prefix.value.addr().is_ipv4();
                if of_one_family && !carried.contains(&(first, second)) {
                    pairs.push(Pair { first, second, span: tunnel.carries });
                }
            }
        }
        pairs
    }

    /// Those of them that an end drops, its own network first: not where another tunnel of its site carries them, nor where the other
    /// network is one of its own, too.
    pub fn dropped(&self, tunnel: &Tunnel, end: usize) -> Vec<(IpNet, IpNet)> {
        let ends = self.ends(tunnel);
        if tunnel.not_carried != NotCarried::Dropped || ends[end].platform.value.is_run_by_others() {
            return Vec::new();
        }
        let uncarried = self.uncarried(tunnel);
        if uncarried.len() > MOST_PAIRS {
            return Vec::new();
        }
        let nets = |pair: &Pair| {
            let nets = [ends[0].networks[pair.first].prefix.value, ends[1].networks[pair.second].prefix.value];
            (nets[end], nets[1 - end])
        };
        let is_own = |remote: &IpNet| ends[end].own_networks().any(|own| overlap(&own.prefix.value, remote));
        let site = tunnel.between[end].value;
        uncarried.iter().map(nets).filter(|(own, remote)| !is_own(remote) && !self.carries(site, own, remote)).collect()
    }

    /// Whether a tunnel of a site carries a part of what two networks send each other.
    fn carries(&self, site: usize, own: &IpNet, remote: &IpNet) -> bool {
        let all = self.carried.0.get_or_init(|| self.all_carried());
        let any_own = [IpNet::default(), IpNet::V6(ipnet::Ipv6Net::new_assert(std::net::Ipv6Addr::from(u128::MAX), 128))];
        let wider = (0..remote.prefix_len()).filter_map(|length| IpNet::new(remote.addr(), length).ok()).map(|net| net.trunc());
        let of_wider = wider.flat_map(|net| all.range((site, net, any_own[0])..=(site, net, any_own[1])));
        let last = IpNet::new(remote.broadcast(), remote.max_prefix_len()).unwrap_or(*remote);
        let mut found = all.range((site, remote.trunc(), any_own[0])..=(site, last, any_own[1])).chain(of_wider);
        found.any(|(_, _, carried)| overlap(carried, own))
    }

    fn all_carried(&self) -> BTreeSet<(usize, IpNet, IpNet)> {
        let mut all = BTreeSet::new();
        for tunnel in &self.tunnels {
            let ends = self.ends(tunnel);
            for pair in &tunnel.pairs {
                let networks = [pair.first, pair.second];
                for end in [0, 1] {
                    let own = ends[end].networks[networks[end]].prefix.value;
                    all.insert((tunnel.between[end].value, self.apparent(tunnel, 1 - end, networks[1 - end]), own));
                }
            }
        }
        all
    }
}
