//! Sites by themselves: addresses, interfaces, networks.

use std::collections::HashMap;
use std::net::IpAddr;

use ipnet::{IpNet, Ipv4Net};

use crate::description::{Address, Description, Network, Site};
use uspan_model::finding::{self as rules, Finding};

pub(super) fn check(description: &Description) -> Vec<Finding> {
    let mut findings = Vec::new();
    let mut addresses: HashMap<IpAddr, &Site> = HashMap::with_capacity(description.sites.len());
    let mut used = vec![false; description.sites.len()];
    description.tunnels.iter().flat_map(|tunnel| &tunnel.between).for_each(|end| used[end.value] = true);
    for (i, site) in description.sites.iter().enumerate() {
        let place = |span| description.source.place(span);
        findings.extend(address(description, site));
        let shared = site.reached().address().and_then(|address| addresses.insert(address, site));
        // Behind one NAT device there may be several.
        if let Some(other) = shared.filter(|other| other.own_address.is_none() || site.own_address.is_none()) {
            let message = format!("`{}` has the same gateway address as `{}`", site.name.value, other.name.value);
            findings.push(
                Finding::new(&rules::SAME_GATEWAY, message).at(place(site.address.span)).with(place(other.address.span), "also here"),
            );
        }
        if let Some(inside) = site.inside.iter().find(|inside| inside.value == site.outside.value) {
            let message = format!("`{}` is the outside interface and an inside interface", inside.value);
            findings.push(Finding::new(&rules::SAME_INTERFACE, message).at(place(inside.span)));
        }
        if !used[i] && !description.tunnels.is_empty() {
            let message = format!("no tunnel joins `{}`", site.name.value);
            findings.push(Finding::new(&rules::UNUSED_SITE, message).at(place(site.name.span)));
        }
        site.networks
            .iter()
            .filter(|network| network.beyond.is_none() || !network.is_everything())
            .for_each(|network| findings.extend(usable(description, network)));
        findings.extend(nested(description, site.own_networks().collect()));
    }
    findings
}

fn address(description: &Description, site: &Site) -> Option<Finding> {
    if site.address.value == Address::Assigned {
        let name = &site.name.value;
        let finding = Finding::new(&rules::ADDRESS_NOT_YET_KNOWN, format!("the address of `{name}` is still to be assigned"));
        let remedy = format!("Give it as soon as it is known: `--given {name}.address=ADDRESS`, or a file with `--given-from`.");
        return Some(finding.at(description.source.place(site.address.span)).remedy(remedy));
    }
    let Address::Fixed(address) = site.address.value else { return None };
    let place = description.source.place(site.address.span);
    let unusable = match address {
        IpAddr::V4(v4) => {
            v4.is_unspecified() || v4.is_loopback() || v4.is_multicast() || v4.is_link_local() || v4.is_broadcast() || v4.octets()[0] == 0
        }
        IpAddr::V6(v6) => v6.is_unspecified() || v6.is_loopback() || v6.is_multicast() || v6.is_unicast_link_local(),
    };
    if unusable {
        return Some(Finding::new(&rules::UNUSABLE_ADDRESS, format!("no gateway can be reached at `{address}`")).at(place));
    }
    let shared = Ipv4Net::new([100, 64, 0, 0].into(), 10).expect("a constant");
    let private = match address {
        IpAddr::V4(v4) => v4.is_private() || shared.contains(&v4),
        IpAddr::V6(v6) => v6.is_unique_local(),
    };
    private.then(|| Finding::new(&rules::PRIVATE_GATEWAY, format!("`{address}` is not routed on the internet")).at(place))
}

fn usable(description: &Description, network: &Network) -> Option<Finding> {
    let (net, place) = (network.prefix.value, description.source.place(network.prefix.span));
    if net.prefix_len() == 0 {
        return Some(
            Finding::new(&rules::DEFAULT_NETWORK, format!("network `{}` is the whole address space", network.name.value)).at(place),
        );
    }
    let unusable = match net.addr() {
        IpAddr::V4(v4) => v4.is_loopback() || v4.is_multicast() || v4.is_link_local() || v4.octets()[0] == 0,
        IpAddr::V6(v6) => v6.is_loopback() || v6.is_multicast() || v6.is_unicast_link_local(),
    };
    unusable.then(|| Finding::new(&rules::UNUSABLE_NETWORK, format!("`{net}` cannot stand behind a gateway")).at(place))
}

/// Networks of one site that are equal or lie inside each other.
fn nested(description: &Description, mut sorted: Vec<&Network>) -> Vec<Finding> {
    let mut findings = Vec::new();
    // A prefix sorts right before everything inside it; equal ones keep the order of the file.
    sorted.sort_by_key(|network| (network.prefix.value.addr(), network.prefix.value.prefix_len()));
    let mut open: Vec<&Network> = Vec::new();
    for network in sorted {
        let net: IpNet = network.prefix.value;
        while open.last().is_some_and(|outer| !outer.prefix.value.contains(&net)) {
            open.pop();
        }
        if let Some(outer) = open.last() {
            let (rule, message) = if outer.prefix.value == net {
                (&rules::SAME_NETWORK, format!("`{}` is the same network as `{}`", network.name.value, outer.name.value))
            } else {
                (
                    &rules::NESTED_NETWORKS,
                    format!("`{}` ({net}) lies inside `{}` ({})", network.name.value, outer.name.value, outer.prefix.value),
                )
            };
            let place = |span| description.source.place(span);
            findings.push(Finding::new(rule, message).at(place(network.prefix.span)).with(place(outer.prefix.span), "the other one"));
        }
        open.push(network);
    }
    findings
}
