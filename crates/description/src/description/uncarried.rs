//! Pairs of networks of a tunnel's two sites that it does not carry: in clear they would leave for the internet.

use std::collections::BTreeSet;

use ipnet::IpNet;

use super::{Description, Network, Pair, Tunnel};

/// What each site's tunnels carry: the site, the network at the other end as it is seen here, the own one.
pub(crate) type CarriedNetworks = BTreeSet<(usize, IpNet, IpNet)>;

impl Description {
    /// Pairs of networks that stand behind a tunnel's two gateways and that it does not carry.
    pub fn uncarried(&self, tunnel: &Tunnel) -> Vec<Pair> {
        let ends = self.ends(tunnel);
        let all = |ipv4: bool| {
            let of = |end: usize| ends[end].own_networks().filter(|own| own.prefix.value.addr().is_ipv4() == ipv4).count();
            of(0).saturating_mul(of(1))
        };
        // What another tunnel between the two carries is carried.
        let theirs = self.siblings(tunnel).flat_map(|other| {
            let turned = other.between[0].value != tunnel.between[0].value;
            other.pairs.iter().map(move |pair| if turned { Pair { first: pair.second, second: pair.first, ..*pair } } else { *pair })
        });
        let all_pairs = tunnel.pairs.iter().copied().chain(theirs);
        let own_pairs = all_pairs.clone().filter(|pair| !pair.leads_beyond(ends));
        if tunnel.hosts.is_some() || own_pairs.clone().count() >= all(true).saturating_add(all(false)) {
            return Vec::new();
        }
        let carried: BTreeSet<_> = own_pairs.map(|pair| (pair.first, pair.second)).collect();
        let of_everything = all_pairs.filter(|pair| pair.hub_of_everything(ends).is_some());
        let whole: Vec<_> = of_everything.map(|pair| pair.networks(ends)).collect();
        let to_everything = |first: &Network, second: &Network| {
            let holds = |one: &Network, own: &Network| one.prefix.value.contains(&own.prefix.value);
            whole.iter().any(|[one, other]| holds(one, first) && holds(other, second))
        };
        let mut pairs = Vec::new();
        for (first, one) in ends[0].own_networks().enumerate() {
            for (second, other) in ends[1].own_networks().enumerate() {
                let of_one_family = one.prefix.value.addr().is_ipv4() == other.prefix.value.addr().is_ipv4();
                if of_one_family && !carried.contains(&(first, second)) && !to_everything(one, other) {
                    pairs.push(Pair { first, second, span: tunnel.carries });
                }
            }
        }
        pairs
    }
}
