//! Addresses of the stage: gateways, LAN hosts, strangers and a host on the internet, each free of the others.

use std::net::{IpAddr, Ipv4Addr, Ipv6Addr};

use ipnet::{IpNet, Ipv4Net, Ipv6Net};

use crate::job::{Job, JobSite};

/// A host behind a gateway.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Host {
    /// Its address.
    pub address: IpAddr,
    /// Its network.
    pub net: IpNet,
    /// The gateway's address in that network; nothing where the network has room for one host only.
    pub gateway: Option<IpAddr>,
    /// Which of the gateway's inside interfaces leads to it.
    pub inside: usize,
}

/// The address at a distance from a network's own, or its own where it has no room.
fn nth(net: IpNet, n: u8) -> IpAddr {
    match net {
        IpNet::V4(net) => IpAddr::V4(Ipv4Addr::from(u32::from(net.network()) + u32::from(n))),
        IpNet::V6(net) => IpAddr::V6(Ipv6Addr::from(u128::from(net.network()) + u128::from(n))),
    }
}

/// The host of a network.
pub fn host(net: IpNet, inside: usize) -> Host {
    let (gateway, host) = match net.max_prefix_len() - net.prefix_len() {
        0 => (None, 0),
        1 => (Some(0), 1),
        2 | 3 => (Some(1), 2),
        _ => (Some(1), 10),
    };
    Host { address: nth(net, host), net, gateway: gateway.map(|n| nth(net, n)), inside }
}

/// The hosts of a site, one for each network, spread over its inside interfaces.
pub fn hosts(site: &JobSite) -> Vec<Host> {
    site.networks.iter().enumerate().map(|(i, (_, net))| host(*net, i % site.inside.len())).collect()
}

/// Addresses that a family brings along: `None` where no gateway or network is of it.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct FamilyPlan {
    /// A host on the internet.
    pub internet: IpAddr,
    /// A network behind each site that no selector covers.
    pub strangers: Vec<IpNet>,
}

/// The near end of a link that has no addresses of its own network.
pub fn next_hop(ipv4: bool) -> IpAddr {
    if ipv4 { IpAddr::V4(Ipv4Addr::new(169, 254, 0, 1)) } else { IpAddr::V6(Ipv6Addr::new(0xfe80, 0, 0, 0, 0, 0, 0, 1)) }
}

/// The link between a gateway and the internet: the length of its network and the internet's end of it. A network
/// of two (RFC 3021, RFC 6164); a link without one where the other of the two is a gateway too.
pub fn uplink(job: &Job, address: IpAddr) -> (u8, IpAddr) {
    let full = IpNet::from(address).max_prefix_len();
    let others = || job.sites.iter().flat_map(|site| [site.address, site.own]).filter(|other| *other != address);
    let net = IpNet::new(address, full - 1).unwrap_or_else(|_| IpNet::from(address)).trunc();
    let hop = [net.network(), net.broadcast()].into_iter().find(|hop| *hop != address);
    match hop.filter(|_| others().all(|other| !net.contains(&other))) {
        Some(hop) => (full - 1, hop),
        None => (full, next_hop(address.is_ipv4())),
    }
}

/// Picks the addresses of a family that collide with nothing in the job.
pub fn family(job: &Job, ipv4: bool) -> FamilyPlan {
    let taken: Vec<IpNet> = job
        .sites
        .iter()
        .flat_map(|site| site.networks.iter().map(|(_, net)| *net).chain([uplink_net(site.address), uplink_net(site.own)]))
        .chain(job.tunnels.iter().filter_map(|tunnel| tunnel.link))
        .collect();
    let free = |net: &IpNet| taken.iter().all(|other| !net.contains(other) && !other.contains(net));
    let mut strangers = (0..=u8::MAX).flat_map(|i| (0..=u8::MAX).map(move |j| stranger(i, j, ipv4))).filter(free);
    let mut internet = (1..=u8::MAX).map(|n| internet_host(n, ipv4)).filter(|address| free(&IpNet::from(*address)));
    FamilyPlan {
        internet: internet.next().unwrap_or_else(|| internet_host(1, ipv4)),
        strangers: strangers.by_ref().take(job.sites.len()).collect(),
    }
}

/// The network that an uplink can have.
fn uplink_net(address: IpAddr) -> IpNet {
    IpNet::new(address, IpNet::from(address).max_prefix_len() - 1).unwrap_or_else(|_| IpNet::from(address)).trunc()
}

fn stranger(i: u8, j: u8, ipv4: bool) -> IpNet {
    match ipv4 {
        true => IpNet::V4(Ipv4Net::new_assert(Ipv4Addr::new(10, 255 - i, j, 0), 24)),
        false => IpNet::V6(Ipv6Net::new_assert(Ipv6Addr::new(0xfd5a, u16::from(i), u16::from(j), 0, 0, 0, 0, 0), 64)),
    }
}

fn internet_host(n: u8, ipv4: bool) -> IpAddr {
    match ipv4 {
        true => IpAddr::V4(Ipv4Addr::new(192, 0, 2, 255 - n)),
        false => IpAddr::V6(Ipv6Addr::new(0x2001, 0xdb8, 0xffff, 0, 0, 0, 0, u16::from(n))),
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::job::Depth;

    fn site(address: &str, networks: &[&str]) -> JobSite {
        JobSite {
            takeover: None,
            update: None,
            name: "s".to_owned(),
            platform: "p".to_owned(),
            address: address.parse().expect("an address"),
            outside: "wan0".to_owned(),
            inside: vec!["lan0".to_owned(), "lan1".to_owned()],
            networks: networks.iter().map(|net| ("n".to_owned(), net.parse().expect("a network"))).collect(),
            shares_internet: true,
            own: address.parse().expect("an address"),
            forwarded: false,
            names: Vec::new(),
            packet_filter: "nftables".to_owned(),
            rules: Vec::new(),
            looks: Vec::new(),
            imports: Vec::new(),
            routing: Vec::new(),
            interfaces: Vec::new(),
            retire: Default::default(),
            seen: Vec::new(),
            joined: false,
            files: Vec::new(),
            program: None,
            script: None,
        }
    }

    #[test]
    fn every_size_of_network_has_room_for_its_host() {
        for (net, address, gateway) in [
            ("10.41.0.0/22", "10.41.0.10", Some("10.41.0.1")),
            ("10.41.0.8/30", "10.41.0.10", Some("10.41.0.9")),
            ("10.41.0.8/31", "10.41.0.9", Some("10.41.0.8")),
            ("10.41.0.8/32", "10.41.0.8", None),
            ("2001:db8:7::/64", "2001:db8:7::a", Some("2001:db8:7::1")),
            ("2001:db8:7::5/128", "2001:db8:7::5", None),
        ] {
            let found = host(net.parse().expect("a network"), 0);
            assert_eq!(found.address.to_string(), address);
            assert_eq!(found.gateway.map(|g| g.to_string()).as_deref(), gateway);
        }
    }

    #[test]
    fn networks_are_spread_over_the_inside_interfaces() {
        let hosts = hosts(&site("192.0.2.1", &["10.1.0.0/16", "10.2.0.0/16", "10.3.0.0/16"]));
        assert_eq!(hosts.iter().map(|host| host.inside).collect::<Vec<_>>(), [0, 1, 0]);
    }

    #[test]
    fn an_uplink_has_room_for_the_gateway_and_the_internet_alone() {
        let job = |addresses: &[&str]| Job {
            number: 0,
            sites: addresses.iter().map(|a| site(a, &[])).collect(),
            tunnels: Vec::new(),
            depth: Depth::Proof,
        };
        let found = |addresses: &[&str]| {
            let (length, hop) = uplink(&job(addresses), addresses[0].parse().expect("an address"));
            format!("{hop}/{length}")
        };
        assert_eq!(found(&["198.51.100.20", "203.0.113.77"]), "198.51.100.21/31");
        assert_eq!(found(&["198.51.100.21", "198.51.100.22"]), "198.51.100.20/31");
        assert_eq!(found(&["198.51.100.20", "198.51.100.21"]), "169.254.0.1/32");
        assert_eq!(found(&["2001:db8:1::20", "2001:db8:2::77"]), "2001:db8:1::21/127");
    }

    #[test]
    fn strangers_and_the_internet_collide_with_nothing() {
        let job = Job {
            number: 0,
            sites: vec![site("192.0.2.254", &["10.255.0.0/16"]), site("192.0.2.253", &["10.254.0.0/23", "10.254.3.0/24"])],
            tunnels: Vec::new(),
            depth: Depth::Proof,
        };
        let family = family(&job, true);
        assert_eq!(family.internet.to_string(), "192.0.2.251");
        assert_eq!(family.strangers.iter().map(ToString::to_string).collect::<Vec<_>>(), ["10.254.2.0/24", "10.254.4.0/24"]);
    }
}
