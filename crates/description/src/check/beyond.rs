//! What is reached through a gateway without standing behind it: other members of a group, and everything.

use std::cell::OnceCell;
use std::collections::BTreeSet;

use ipnet::IpNet;

use crate::description::{Beyond, Description, Pair, Site, Tunnel};
use uspan_model::finding::{self as rules, Finding};

pub(super) fn check(description: &Description) -> Vec<Finding> {
    let mut findings = Vec::new();
    let steered = OnceCell::new();
    let (mut unfit, mut private) = (BTreeSet::new(), BTreeSet::new());
    for tunnel in &description.tunnels {
        let check = BeyondCheck { description, ends: description.ends(tunnel), steered: &steered };
        let mut beyond = tunnel.pairs.iter().filter(|pair| pair.leads_beyond(check.ends));
        let Some(pair) = beyond.clone().next() else { continue };
        let mut first_time = |end: usize| unfit.insert(tunnel.between[end].value);
        findings.extend(check.policy_based(tunnel, pair).into_iter().filter(|(end, _)| first_time(*end)).map(|(_, finding)| finding));
        let untranslated = beyond.find_map(|pair| check.untranslated(pair));
        let mut first_time = |hub: usize| private.insert(tunnel.between[hub].value);
        findings.extend(untranslated.filter(|(hub, _)| first_time(*hub)).map(|(_, finding)| finding));
    }
    findings
}

struct BeyondCheck<'a> {
    description: &'a Description,
    ends: [&'a Site; 2],
    /// Sites of which a tunnel's selectors steer, once somebody asked.
    steered: &'a OnceCell<BTreeSet<usize>>,
}

impl BeyondCheck<'_> {
    /// Whether a tunnel of a site leaves it to the selectors what it takes.
    fn is_steered_by_selectors(&self, site: usize) -> bool {
        let steered = || {
            let tunnels = self.description.tunnels.iter().filter(|tunnel| tunnel.hosts.is_none());
            let ends = tunnels.flat_map(|tunnel| tunnel.between.iter().zip(self.description.ends(tunnel)).map(move |end| (tunnel, end)));
            ends.filter(|(tunnel, (_, site))| !tunnel.routes_at(site)).map(|(_, (end, _))| end.value).collect()
        };
        self.steered.get_or_init(steered).contains(&site)
    }

    /// Selectors that name what lies beyond a hub would take what a member's own networks send each other.
    fn policy_based(&self, tunnel: &Tunnel, pair: &Pair) -> Vec<(usize, Finding)> {
        let networks = pair.networks(self.ends);
        let routed = |end: usize| match pair.hub_of_everything(self.ends) {
            // What the selectors of another tunnel take would be dropped with all that leaves in clear.
            Some(hub) if hub != end => !self.is_steered_by_selectors(tunnel.between[end].value),
            // The hub's selectors name what goes to the member, and nothing that stays.
            _ => networks[1 - end].beyond.is_none() || tunnel.routes_at(self.ends[end]),
        };
        let ours = [0, 1].into_iter().filter(|end| !self.ends[*end].platform.value.is_run_by_others());
        let unfit = ours.filter(|end| !routed(*end)).map(|end| {
            let network = networks[usize::from(networks[0].beyond.is_none())];
            let what = if network.beyond == Some(Beyond::Everything) { "everything is" } else { "others are" };
            let message = format!("`{}` is policy-based, and {what} to be reached through a hub", self.ends[end].name.value);
            let place = |span| self.description.source.place(span);
            let finding = Finding::new(&rules::TRANSIT_UNFIT, message).at(place(self.ends[end].route_based.span));
            (end, finding.with(place(network.prefix.span), "what lies beyond it"))
        });
        unfit.collect()
    }

    /// Who goes to the internet through a hub needs an address there; and the hub that does not give it one.
    fn untranslated(&self, pair: &Pair) -> Option<(usize, Finding)> {
        let hub = pair.hub_of_everything(self.ends)?;
        let (site, own) = (self.ends[hub], pair.networks(self.ends)[1 - hub]);
        let private = matches!(own.prefix.value, IpNet::V4(net) if net.addr().is_private());
        if !private || site.shares_internet || site.platform.value.is_run_by_others() {
            return None;
        }
        let (network, prefix, hub_name) = (&own.name.value, own.prefix.value, &site.name.value);
        let message = format!("`{network}` ({prefix}) goes to the internet through `{hub_name}`, which does not share it");
        let place = |span| self.description.source.place(span);
        Some((hub, Finding::new(&rules::UNTRANSLATED, message).at(place(pair.span)).with(place(site.name.span), "the site")))
    }
}
