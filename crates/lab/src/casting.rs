//! From a built description to a job: who stands where, and what is expected.

use std::collections::{BTreeMap, BTreeSet};
use std::net::{IpAddr, Ipv4Addr, Ipv6Addr};

use uspan_core::algorithm::{Kind, Transform};
use uspan_core::{
    Address, Beyond, Build, BuiltTunnel, DeliveredFile, Description, Dscp, Encapsulation, FilterForm, Mode, Opening, Pair, Passing, Ports,
    Programs, Retirement, Traffic, Transport, Tree, Tunnel, routing, set_up,
};

use crate::job::{Depth, Job, JobOpening, JobPair, JobSite, JobTunnel, OpensTo, SentThrough, SiteFile};

/// Casts the tunnels of a description that `wanted` picks, with the files of these trees.
///
/// `scripts` are the user's own set-up of gateways, by site.
pub fn cast(
    description: &Description,
    built: &Build,
    trees: &BTreeMap<String, Tree>,
    scripts: &BTreeMap<String, String>,
    retirements: &[Retirement],
    wanted: impl Fn(&str) -> bool,
) -> Job {
    let tunnels: Vec<_> = built.tunnels.iter().filter(|tunnel| wanted(&tunnel.name)).collect();
    let on_stage = |name: &str| tunnels.iter().any(|tunnel| tunnel.ends.iter().any(|end| end == name));
    let mut sites = Vec::new();
    for (number, site) in description.sites.iter().enumerate().filter(|(_, site)| on_stage(&site.name.value)) {
        let here: Vec<_> =
            tunnels.iter().filter(|tunnel| tunnel.ends.contains(&site.name.value)).map(|tunnel| tunnel.name.as_str()).collect();
        let mut cast = cast_site(site, trees, scripts, &here);
        // Who has no fixed address gets one on this stage; what its peers have decides the family.
        let peers = description.tunnels.iter().filter(|tunnel| here.contains(&tunnel.name.value.as_str()));
        let ipv4 = peers.flat_map(|tunnel| description.ends(tunnel)).find_map(uspan_core::Site::outer_ipv4).unwrap_or(true);
        cast.address = site.reached().address().unwrap_or_else(|| spare(number, ipv4));
        let own = retirements.iter().filter(|retirement| retirement.site == cast.name);
        cast.retire = own.map(|retirement| (retirement.tunnel.clone(), retirement.script.clone())).collect();
        cast.own = site.own_address.as_ref().map_or(cast.address, |own| own.value);
        sites.push(cast);
    }
    let names: Vec<_> = description
        .sites
        .iter()
        .filter_map(|site| match &site.address.value {
            Address::Named(name) => sites.iter().find(|cast| cast.name == site.name.value).map(|cast| (name.clone(), cast.address)),
            _ => None,
        })
        .collect();
    let mut tunnels: Vec<_> = tunnels.into_iter().map(|tunnel| cast_tunnel(description, tunnel, &sites)).collect();
    onward(description, &mut tunnels);
    for (i, site) in sites.iter_mut().enumerate() {
        site.names.clone_from(&names);
        let ends = tunnels.iter().flat_map(|tunnel| [0, 1].map(|end| (tunnel, end))).filter(|(tunnel, end)| tunnel.ends[*end] == i);
        site.seen = ends.flat_map(|(tunnel, end)| tunnel.pairs.iter().map(move |pair| pair.seen[end])).collect();
        // Its NAT device lets in what it has to answer.
        site.forwarded = tunnels.iter().any(|tunnel| (0..2).any(|end| tunnel.ends[end] == i && tunnel.opens[1 - end] != JobOpening::Never));
    }
    Job { number: 0, sites, tunnels, depth: Depth::Proof }
}

/// An address for a gateway that has none of its own, below those of the internet's hosts.
fn spare(number: usize, ipv4: bool) -> IpAddr {
    let n = u8::try_from(2 + 2 * number).unwrap_or(2);
    match ipv4 {
        true => Ipv4Addr::new(192, 0, 2, n).into(),
        false => Ipv6Addr::new(0x2001, 0xdb8, 0xfffe, 0, 0, 0, 0, n.into()).into(),
    }
}

const UNKNOWN: IpAddr = IpAddr::V4(Ipv4Addr::UNSPECIFIED);

fn cast_site(site: &uspan_core::Site, trees: &BTreeMap<String, Tree>, scripts: &BTreeMap<String, String>, stems: &[&str]) -> JobSite {
    let name = site.name.value.clone();
    let files = trees.get(&name).into_iter().flat_map(|tree| &tree.files);
    JobSite {
        platform: site.platform.value.word.to_string(),
        address: UNKNOWN,
        own: UNKNOWN,
        forwarded: false,
        names: Vec::new(),
        outside: site.outside.value.clone(),
        inside: site.inside.iter().map(|interface| interface.value.clone()).collect(),
        seen: Vec::new(),
        networks: site.own_networks().map(|network| (network.name.value.clone(), network.prefix.value)).collect(),
        shares_internet: site.shares_internet,
        packet_filter: site.packet_filter.word().to_owned(),
        rules: trees
            .get(&name)
            .map(|tree| stems.iter().flat_map(|stem| site.packet_filter.take_up(stem, tree)).collect())
            .unwrap_or_default(),
        interfaces: trees.get(&name).map(|tree| stems.iter().flat_map(|stem| set_up(stem, tree)).collect()).unwrap_or_default(),
        looks: site.platform.value.looks.iter().map(|(_, command, _)| command.to_string()).collect(),
        imports: trees.get(&name).map(|tree| site.platform.value.family.bring_in(tree)).unwrap_or_default(),
        routing: trees.get(&name).map(|tree| stems.iter().flat_map(|stem| routing::load(stem, tree)).collect()).unwrap_or_default(),
        retire: BTreeMap::new(),
        joined: site.filter == FilterForm::Joined,
        files: files.map(|(path, file)| SiteFile { path: path.clone(), private: file.private, text: file.text.clone() }).collect(),
        program: trees.get(&name).and_then(|tree| {
            let files = tree.files.iter().map(|(path, file)| DeliveredFile::of(path, file)).collect();
            Programs::default().of(site, files).map(|program| program.text.clone())
        }),
        takeover: None,
        update: None,
        script: scripts.get(&name).cloned(),
        name,
    }
}

/// What can be tried of what hosts may open, and what of the rest that the other end's may not open either.
fn opens_to(passing: &Passing, back: &Passing) -> OpensTo {
    let Passing::Only(list) = passing else {
        return OpensTo { everything: true, echo: true, tcp: None, udp: None, closed: None };
    };
    let port = |wanted| {
        list.iter().find_map(|traffic| match traffic {
            Traffic::To(transport, ports) if *transport == wanted => Some(ports.first),
            _ => None,
        })
    };
    let udp = |port| Traffic::To(Transport::Udp, Ports { first: port, last: port });
    let closed = (1024..u16::MAX).find(|port| !passing.takes(&udp(*port)) && (*back == Passing::All || !back.takes(&udp(*port))));
    OpensTo { everything: false, echo: passing.takes(&Traffic::Ping), tcp: port(Transport::Tcp), udp: port(Transport::Udp), closed }
}

/// Whom the members of a group are to reach through their hub: each the next one, and the last one the first.
fn onward(description: &Description, tunnels: &mut [JobTunnel]) {
    let mut groups: BTreeMap<(usize, &str, bool), Vec<usize>> = BTreeMap::new();
    for (number, cast) in tunnels.iter().enumerate() {
        let told = description.tunnels.iter().find(|tunnel| tunnel.name.value == cast.name);
        let beyond = told.into_iter().flat_map(|tunnel| {
            let ends = description.ends(tunnel);
            tunnel.pairs.iter().map(move |pair| pair.networks(ends))
        });
        // The group that the member's first network is of.
        let first = beyond.filter_map(|[transit, own]| {
            let inside = transit.prefix.value.contains(&own.prefix.value);
            match &transit.beyond {
                Some(Beyond::Group(group)) if inside => Some((&**group, own.prefix.value.addr().is_ipv4())),
                _ => None,
            }
        });
        if let Some((group, ipv4)) = first.min() {
            groups.entry((cast.ends[0], group, ipv4)).or_default().push(number);
        }
    }
    for members in groups.values().filter(|members| members.len() > 1) {
        for (place, member) in members.iter().enumerate() {
            tunnels[*member].onward = Some(members[(place + 1) % members.len()]);
        }
    }
}

/// The pairs of networks with hosts at both ends. What members of a group send each other through their hub belongs to two tunnels;
/// of everything there are hosts in the other site's own networks.
fn single_pairs(description: &Description, tunnel: &Tunnel) -> Vec<Pair> {
    let ends = description.ends(tunnel);
    let own = |end: usize, ipv4: bool| {
        let networks = ends[end].own_networks().enumerate();
        networks.filter(move |(_, network)| network.prefix.value.addr().is_ipv4() == ipv4).map(|(at, _)| at)
    };
    let mut pairs = Vec::new();
    for pair in &tunnel.pairs {
        let ipv4 = pair.networks(ends)[0].prefix.value.addr().is_ipv4();
        match pair.hub_of_everything(ends) {
            Some(0) => pairs.extend(own(0, ipv4).map(|first| Pair { first, ..*pair })),
            Some(_) => pairs.extend(own(1, ipv4).map(|second| Pair { second, ..*pair })),
            None if pair.leads_beyond(ends) => {}
            None => pairs.push(*pair),
        }
    }
    let mut known = BTreeSet::new();
    pairs.retain(|pair| known.insert((pair.first, pair.second)));
    pairs
}

/// What goes through the other end, wherever it is sent.
fn sent_through(description: &Description, tunnel: &Tunnel) -> Option<SentThrough> {
    let ends = description.ends(tunnel);
    let hub = tunnel.pairs.iter().find_map(|pair| pair.hub_of_everything(ends))?;
    let pairs = tunnel.pairs.iter().filter(|pair| pair.hub_of_everything(ends) == Some(hub));
    Some(SentThrough { hub, stands_in: tunnel.preference > 0, networks: pairs.map(|pair| [pair.first, pair.second][1 - hub]).collect() })
}

fn cast_tunnel(description: &Description, built: &BuiltTunnel, sites: &[JobSite]) -> JobTunnel {
    let place = |end: usize| sites.iter().position(|site| site.name == built.ends[end]).unwrap_or(0);
    let told = description.tunnels.iter().find(|tunnel| tunnel.name.value == built.name);
    let by_hand = |end: usize| {
        let said = |t: &Tunnel| t.opens.value == uspan_core::Opens::ByHand && t.initiator.is_none_or(|starter| starter == end);
        told.is_some_and(|t| said(t) && description.ends(t)[end].platform.value.opens(uspan_core::OpeningWay::ByHand))
    };
    let opens = [0, 1].map(|end| match built.agreement.opening[end] {
        Opening { start: true, .. } => JobOpening::AtOnce,
        Opening { trap: true, .. } => JobOpening::OnTraffic,
        _ if by_hand(end) => JobOpening::ByHand,
        _ => JobOpening::Never,
    });
    let children: Vec<_> = built.gateways[0].connections.iter().flat_map(|connection| &connection.children).collect();
    let seen = |pair: &Pair| {
        let real = |end: usize, network: usize| sites[place(end)].networks[network].1;
        [(0, pair.first), (1, pair.second)].map(|(end, net)| told.map_or_else(|| real(end, net), |t| description.apparent(t, end, net)))
    };
    // One Child SA for each pair, in their order, or one for all of them.
    let holds = |child: &uspan_core::Child, pair: &Pair| {
        let nets = seen(pair);
        child.local.value.iter().any(|net| net.contains(&nets[0])) && child.remote.value.iter().any(|net| net.contains(&nets[1]))
    };
    let child = |pair: &Pair| {
        let holding = children.iter().find(|child| holds(child, pair)).or(children.first());
        holding.map(|child| child.name.clone()).unwrap_or_default()
    };
    let pairs = told.map(|tunnel| single_pairs(description, tunnel)).unwrap_or_default();
    let pairs = pairs.iter().map(|pair| JobPair { networks: Some([pair.first, pair.second]), seen: seen(pair), child: child(pair) });
    let hosts = told.filter(|tunnel| tunnel.hosts.is_some()).map(|_| JobPair {
        networks: None,
        seen: [0, 1].map(|end| sites[place(end)].address.into()),
        child: children.first().map(|child| child.name.clone()).unwrap_or_default(),
    });
    let transform = |kind: Kind| built.agreement.esp.first().and_then(|proposal| proposal.first(kind));
    JobTunnel {
        name: built.name.clone(),
        ends: [place(0), place(1)],
        pairs: hosts.into_iter().chain(pairs).collect(),
        transport: children.iter().any(|child| child.mode.value == Mode::Transport),
        opens,
        liveness: built.agreement.liveness.map(|interval| interval.as_secs()),
        lifetimes: [built.agreement.ike_lifetime.hard.as_secs(), built.agreement.esp_lifetime.hard.as_secs()],
        extended: transform(Kind::SequenceNumbers) == Some(Transform::sequence_numbers(true)),
        windows: built.agreement.replay_window,
        dscp: [built.agreement.dscp != Dscp::Never, built.agreement.dscp == Dscp::Both],
        in_udp: [0, 1].iter().any(|end| {
            let site = description.sites.iter().find(|site| site.name.value == built.ends[*end]);
            built.agreement.encapsulation[*end] == Encapsulation::Forced || site.is_some_and(|site| site.own_address.is_some())
        }),
        opens_to: [0, 1].map(|end| opens_to(&built.gateways[end].hosts_may_open(), &built.gateways[1 - end].hosts_may_open())),
        link: told.and_then(|tunnel| tunnel.link.as_ref()).map(|link| link.value),
        routing: built.gateways.iter().any(|gateway| !gateway.sessions.is_empty()),
        drops_others: [0, 1].map(|end| !built.uncarried.is_empty() && built.uncarried.iter().all(|pair| pair.dropped[end])),
        onward: None,
        children: children.iter().map(|child| child.name.clone()).collect(),
        connections: built.gateways.each_ref().map(|gateway| gateway.connections[0].name.clone()),
        selectors: built.gateways.each_ref().map(|gateway| gateway.selector_pairs().collect()),
        shared: told.is_some_and(|tunnel| description.siblings(tunnel).next().is_some()),
        everything: told.and_then(|tunnel| sent_through(description, tunnel)),
        pfs: transform(Kind::KeyExchange).map(|group| group.number),
    }
}
