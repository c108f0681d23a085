//! Tunnels through interfaces, whose selectors may be the same at one gateway.

use std::collections::{BTreeMap, BTreeSet};

use super::{Description, Tunnel};
use uspan_dialects::profile::EqualSelectors;

impl Description {
    /// Whether the selectors of a tunnel are any to any: routes steer at both ends, and neither daemon has another tunnel of that kind
    /// without an SA for it.
    pub fn is_any_to_any(&self, tunnel: &Tunnel) -> bool {
        self.is_between_interfaces(tunnel) && self.crowded_end(tunnel).is_none()
    }

    /// The end (0 or 1) of a tunnel between interfaces whose daemon has one connection alone with the same selectors, and several
    /// tunnels of that kind.
    pub(crate) fn crowded_end(&self, tunnel: &Tunnel) -> Option<usize> {
        let crowded = |end: &usize| self.crowded().contains(&tunnel.between[*end].value);
        (0..2).find(crowded).filter(|_| self.is_between_interfaces(tunnel))
    }

    fn is_between_interfaces(&self, tunnel: &Tunnel) -> bool {
        tunnel.hosts.is_none() && tunnel.gre.is_none() && self.ends(tunnel).iter().all(|site| site.route_based.value)
    }

    fn crowded(&self) -> &BTreeSet<usize> {
        self.crowded.get(|| {
            let mut counts: BTreeMap<usize, usize> = BTreeMap::new();
            for tunnel in self.tunnels.iter().filter(|tunnel| self.is_between_interfaces(tunnel)) {
                for (end, site) in tunnel.between.iter().zip(self.ends(tunnel)) {
                    if site.platform.value.equal_selectors.value == EqualSelectors::OfOneAlone {
                        *counts.entry(end.value).or_default() += 1;
                    }
                }
            }
            counts.into_iter().filter(|(_, count)| *count > 1).map(|(site, _)| site).collect()
        })
    }
}
