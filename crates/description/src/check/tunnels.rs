//! Tunnels: what may cross, times, and how tunnels of one gateway get on with each other.

use std::collections::{BTreeMap, BTreeSet, HashMap};
use std::net::IpAddr;
use std::time::Duration;

use ipnet::IpNet;

use crate::description::{Address, Description, Network, NotCarried, Opens, Pair, Site, Tunnel};
use crate::sides::interface_id;
use uspan_dialects::profile::{LongNumbersV1, MainModeSecret};
use uspan_model::duration::duration_words;
use uspan_model::finding::{self as rules, Finding};
use uspan_model::gateway::{Encapsulation, IkeVersion, MOST_PAIRS, Method, Mode, Passing};
use uspan_model::source::Span;

const SHORTEST: Duration = Duration::from_secs(300);
/// A year stands for ever.
pub(super) const LONGEST: Duration = Duration::from_secs(365 * 86_400);
const USUAL: Duration = Duration::from_secs(86_400);
const LIVENESS: [Duration; 2] = [Duration::from_secs(5), Duration::from_secs(3_600)];

pub(super) fn check(description: &Description) -> Vec<Finding> {
    let mut findings = Vec::new();
    for tunnel in &description.tunnels {
        let check = TunnelCheck { description, tunnel };
        findings.extend(check.families());
        findings.extend(check.reach());
        findings.extend(check.hosts());
        findings.extend(check.on_one_link());
        findings.extend(check.mode());
        findings.extend(check.carrier());
        findings.extend(check.routing());
        findings.extend(check.link());
        findings.extend(check.appearances());
        findings.extend(check.silent_opener());
        findings.extend(check.times());
        findings.extend(check.pairs());
        findings.extend(check.uncarried());
        findings.extend(check.other_family());
        findings.extend(check.limit());
        findings.extend(check.gateways_in_selectors());
    }
    findings.extend(second_hubs(description));
    findings.extend(coincidences(description));
    findings.extend(contested(description));
    findings
}

struct TunnelCheck<'a> {
    description: &'a Description,
    tunnel: &'a Tunnel,
}

impl TunnelCheck<'_> {
    fn at(&self, rule: &'static rules::Rule, span: Span, message: String) -> Finding {
        Finding::new(rule, message).at(self.description.source.place(span))
    }

    fn prefixes(&self, pair: &Pair) -> [IpNet; 2] {
        pair.networks(self.description.ends(self.tunnel)).map(|network| network.prefix.value)
    }

    /// The same, each as the other end sees it.
    fn apparent(&self, pair: &Pair) -> [IpNet; 2] {
        [(0, pair.first), (1, pair.second)].map(|(end, network)| self.description.apparent(self.tunnel, end, network))
    }

    /// What it does not carry is dropped pair by pair.
    fn uncarried(&self) -> Option<Finding> {
        let count = self.description.uncarried(self.tunnel).len();
        let wanted = self.tunnel.not_carried == NotCarried::Dropped && count > MOST_PAIRS;
        let message = || format!("{count} pairs of networks are not carried, and not dropped: {MOST_PAIRS} are the most");
        wanted.then(|| self.at(&rules::TOO_MANY_TO_DROP, self.tunnel.carries, message()))
    }

    /// What selectors take is routed first.
    fn other_family(&self) -> Option<Finding> {
        let ends = self.description.ends(self.tunnel);
        let ipv4 = ends.iter().find_map(|site| site.outer_ipv4())?;
        let pair = self.tunnel.pairs.iter().find(|pair| self.prefixes(pair)[0].addr().is_ipv4() != ipv4)?;
        let site = ends.into_iter().find(|site| !self.tunnel.routes_at(site) && !site.platform.value.is_run_by_others())?;
        let [own, other] = if ipv4 { ["IPv4", "IPv6"] } else { ["IPv6", "IPv4"] };
        let message = format!("`{}` has an {own} address outside, and its selectors are to take {other}", site.name.value);
        Some(self.at(&rules::OTHER_FAMILY, pair.span, message))
    }

    /// Whether what the selectors are limited to is there in the family of each pair.
    fn limit(&self) -> Option<Finding> {
        let ipv4 = self.tunnel.limit?.of_ipv4()?;
        let pair = self.tunnel.pairs.iter().find(|pair| self.prefixes(pair)[0].addr().is_ipv4() != ipv4)?;
        let [first, second] = pair.networks(self.description.ends(self.tunnel)).map(|network| &network.name.value);
        let [protocol, family, other] = if ipv4 { ["icmp", "IPv6", "icmpv6"] } else { ["icmpv6", "IPv4", "icmp"] };
        let message = format!("nothing of `{protocol}` crosses between `{first}` and `{second}`, which are {family}");
        let mut finding = self.at(&rules::LIMIT_UNFIT, self.tunnel.passes_at, message);
        finding.remedy =
            format!("Limit the selectors to `{other}`, or leave that pair out with `carries`, or give it a tunnel of its own.");
        Some(finding)
    }

    /// Networks that appear as others.
    fn appearances(&self) -> Vec<Finding> {
        let ends = self.description.ends(self.tunnel);
        let mut findings = Vec::new();
        for appearance in &self.tunnel.appearances {
            let (site, new) = (ends[appearance.end], appearance.prefix.value);
            let network = &site.networks[appearance.network];
            let old = network.prefix.value;
            let alike = |net: &IpNet| (net.addr().is_ipv4(), net.prefix_len());
            let overlaps = |other: IpNet| other.contains(&new) || new.contains(&other);
            let others = self.tunnel.appearances.iter().filter(|other| other.end == appearance.end && other.network != appearance.network);
            let taken = site.networks.iter().find(|other| overlaps(other.prefix.value));
            let behind_one = new.prefix_len() == new.max_prefix_len() && new.addr().is_ipv4() == old.addr().is_ipv4();
            let message = match (alike(&old) == alike(&new) || behind_one, taken) {
                (false, _) => {
                    format!("`{}` is {old} and cannot appear as {new}, neither one to one nor as one address", network.name.value)
                }
                (true, Some(other)) => format!("{new} overlaps `{}` ({}) of the same site", other.name.value, other.prefix.value),
                (true, None) => match others.map(|other| other.prefix.value).find(|other| overlaps(*other)) {
                    Some(other) => format!("{new} overlaps {other}, as which another network appears"),
                    None => continue,
                },
            };
            findings.push(self.at(&rules::APPEARANCE_UNFIT, appearance.prefix.span, message));
        }
        findings
    }

    fn families(&self) -> Option<Finding> {
        let ends = self.description.ends(self.tunnel);
        let known = ends.map(Site::outer_ipv4);
        if known[0].is_some() && known[1].is_some() && known[0] != known[1] {
            let message =
                format!("`{}` has {}, `{}` has {}", ends[0].name.value, ends[0].address.value, ends[1].name.value, ends[1].address.value);
            return Some(self.at(&rules::MIXED_FAMILIES, self.tunnel.between[1].span, message));
        }
        if !self.tunnel.pairs.is_empty() || self.tunnel.hosts.is_some() {
            return None;
        }
        // Networks that are said and could not be understood have their finding.
        let message = match ends.iter().find(|site| site.networks.is_empty()) {
            Some(site) if site.inside.is_empty() => format!("`{}` has no networks", site.name.value),
            Some(_) => return None,
            None => "the sites have no networks of the same family".to_owned(),
        };
        Some(self.at(&rules::NO_PAIR, self.tunnel.name.span, message))
    }

    /// Between hosts there is nothing behind them.
    fn hosts(&self) -> Option<Finding> {
        let (tunnel, place) = (self.tunnel, self.tunnel.hosts?);
        let (span, what) = if let Some(span) = tunnel.gre {
            (span, "`carrier`")
        } else if let Some(span) = tunnel.bgp {
            (span, "`routing`")
        } else if let Some(link) = &tunnel.link {
            (link.span, "`link`")
        } else {
            (tunnel.appearances.first()?.prefix.span, "`appears-as`")
        };
        let message = format!("{what} beside `carries = \"gateways\"`");
        Some(self.at(&rules::NOTHING_BEHIND_HOSTS, span, message).with(self.description.source.place(place), "said here"))
    }

    /// What finds a neighbour on a link goes between the same addresses.
    fn on_one_link(&self) -> Option<Finding> {
        let place = self.tunnel.hosts?;
        let link = |site: &Site| match site.local().address()? {
            IpAddr::V6(address) => IpNet::new(address.into(), 64).ok().map(|net| net.trunc()),
            IpAddr::V4(_) => None,
        };
        let [one, other] = self.description.ends(self.tunnel).map(link);
        let link = one.filter(|_| one == other)?;
        Some(self.at(&rules::HOSTS_ON_ONE_LINK, place, format!("both hosts have addresses of {link}")))
    }

    /// Networks need tunnel mode.
    fn mode(&self) -> Option<Finding> {
        let said = self.tunnel.mode.as_ref().filter(|mode| mode.value == Mode::Transport && !self.tunnel.is_between_gateways())?;
        let message = "transport mode between networks, whose addresses it has no room for".to_owned();
        Some(self.at(&rules::MODE_UNFIT, said.span, message))
    }

    /// In transport mode packets go from one fixed address to another, and nothing may change those on the way.
    fn carrier(&self) -> Option<Finding> {
        let (span, what) = match (self.tunnel.gre, self.tunnel.hosts) {
            (Some(span), _) => (span, "GRE"),
            (None, Some(span)) => (span, "what two gateways send each other"),
            (None, None) => return None,
        };
        let loose = |site: &&Site| site.own_address.is_some() || !matches!(site.address.value, Address::Fixed(_) | Address::Assigned);
        let site = self.description.ends(self.tunnel).into_iter().find(|site| loose(site))?;
        let message = format!("`{}` has no fixed address of its own, between which {what} could go", site.name.value);
        Some(self.at(&rules::CARRIER_NEEDS_ADDRESSES, span, message))
    }

    /// What a routing protocol needs of the tunnel that carries it.
    fn routing(&self) -> Option<Finding> {
        let (span, ends) = (self.tunnel.bgp.filter(|_| self.tunnel.hosts.is_none())?, self.description.ends(self.tunnel));
        let ipv4 = |net: &IpNet| net.addr().is_ipv4();
        let family = self.tunnel.link.as_ref().map(|link| ipv4(&link.value));
        let other = self.tunnel.pairs.iter().flat_map(|pair| self.prefixes(pair)).find(|net| family.is_some_and(|link| link != ipv4(net)));
        let message = if let Some(site) = ends.iter().find(|site| !self.tunnel.routes_at(site)) {
            format!("`{}` is policy-based: it has no interface towards the tunnel; say `style` or `carrier`", site.name.value)
        } else if let Some(site) = ends.iter().find(|site| site.as_number.is_none()) {
            format!("`{}` has no `as-number`", site.name.value)
        } else if family.is_none() {
            "the tunnel has no `link`, between whose addresses a session could be".to_owned()
        } else if let Some(net) = other {
            format!("{net} is of another family than `link`, and a session carries its own")
        } else if let Some(appearance) = self.tunnel.appearances.first() {
            format!("a network appears as {}, which no router knows as its own", appearance.prefix.value)
        } else {
            return None;
        };
        Some(self.at(&rules::ROUTING_UNFIT, span, message))
    }

    /// Addresses of the tunnel interfaces.
    fn link(&self) -> Vec<Finding> {
        let Some(link) = self.tunnel.link.as_ref().filter(|_| self.tunnel.hosts.is_none()) else { return Vec::new() };
        let ends = self.description.ends(self.tunnel);
        if let Some(site) = ends.iter().find(|site| !self.tunnel.routes_at(site)) {
            let message = format!("`{}` is policy-based and has no tunnel interface", site.name.value);
            return vec![self.at(&rules::LINK_NEEDS_ROUTES, link.span, message)];
        }
        let net = link.value;
        let mut named = ends.iter().flat_map(|site| &site.networks).filter(|network| !network.is_everything());
        let taken = named.find(|other| {
            let other = other.prefix.value;
            other.contains(&net) || net.contains(&other)
        });
        let message = match taken {
            Some(other) => format!("{net} overlaps `{}` ({})", other.name.value, other.prefix.value),
            None if net.prefix_len() == net.max_prefix_len() => format!("{net} is one address"),
            None => return Vec::new(),
        };
        vec![self.at(&rules::LINK_UNFIT, link.span, message)]
    }

    /// Whether traffic can open the tunnel, where it is to.
    fn silent_opener(&self) -> Option<Finding> {
        let waits = |end: &usize| self.tunnel.opens_at(*end) == Opens::OnTraffic;
        let end = [0, 1].into_iter().find(|end| waits(end) && self.tunnel.passes[*end] == Passing::Only(Vec::new()))?;
        let name = &self.description.ends(self.tunnel)[end].name.value;
        let message = format!("traffic from `{name}` is to open the tunnel, but its hosts may open no connection");
        Some(self.at(&rules::OPENER_IS_SILENT, self.tunnel.passes_at, message))
    }

    /// Whether the responder in main mode of IKEv1 can tell which secret is that of a peer without a fixed address.
    fn secret_unfound(&self, end: usize, site: &Site) -> Option<Finding> {
        let unknown = |tunnel: &Tunnel, site: &Site| {
            let by_secret = tunnel.method.value == Method::SharedSecret && tunnel.aggressive.is_none();
            by_secret && tunnel.version.value == IkeVersion::V1 && site.address.value == Address::Dynamic
        };
        if !unknown(self.tunnel, site) {
            return None;
        }
        let (responder, name) = (self.tunnel.between[1 - end].value, &site.name.value);
        let message = match self.description.ends(self.tunnel)[1 - end].platform.value.behaviour.main_mode_secret.value {
            MainModeSecret::OfAddress => format!("main mode finds the secret by the address, and `{name}` has no fixed one"),
            MainModeSecret::OfFirstConnection => {
                // The first one of the responder's is the one that it takes for each of them.
                let of_unknown = |other: &&Tunnel| {
                    let sites = self.description.ends(other);
                    (0..2).any(|end| other.between[1 - end].value == responder && unknown(other, sites[end]))
                };
                let first = self.description.tunnels.iter().find(of_unknown).filter(|first| !std::ptr::eq(*first, self.tunnel))?;
                let first = &first.name.value;
                format!("main mode finds the secret by the address: neither `{name}` nor the peer in `{first}` has a fixed one")
            }
        };
        Some(self.at(&rules::MAIN_MODE_NEEDS_ADDRESS, self.tunnel.version.span, message))
    }

    /// Who can reach whom.
    fn reach(&self) -> Vec<Finding> {
        let (tunnel, ends) = (self.tunnel, self.description.ends(self.tunnel));
        let mut findings = Vec::new();
        let dynamic = ends.map(|site| site.address.value == Address::Dynamic);
        if dynamic == [true, true] {
            let message = "both ends are somewhere else each time: neither can find the other".to_owned();
            findings.push(self.at(&rules::BOTH_DYNAMIC, tunnel.between[1].span, message));
            return findings;
        }
        for (end, site) in ends.into_iter().enumerate() {
            let name = &site.name.value;
            if dynamic[end] && tunnel.initiator != Some(end) {
                let message = format!("`{name}` has no fixed address, so nobody else can open the tunnel to it");
                findings.push(self.at(&rules::DYNAMIC_MUST_OPEN, tunnel.initiator_at, message));
            }
            findings.extend(self.secret_unfound(end, site));
            if site.own_address.is_some() && tunnel.encapsulation.value == Encapsulation::Off {
                let message = format!("`{name}` stands behind a NAT device, which lets no bare ESP through");
                findings.push(self.at(&rules::NO_TRAVERSAL_BEHIND_NAT, tunnel.encapsulation.span, message));
            }
            if site.own_address.is_some() && tunnel.initiator != Some(end) {
                let message = format!("`{}` is to open the tunnel to `{name}`, which stands behind a NAT device", ends[1 - end].name.value);
                findings.push(self.at(&rules::ANSWERS_BEHIND_NAT, tunnel.initiator_at, message));
            }
            findings.extend(self.forgotten(end, site));
        }
        findings
    }

    /// An end behind a NAT device that lets the device forget it.
    fn forgotten(&self, end: usize, site: &Site) -> Option<Finding> {
        let tunnel = self.tunnel;
        let profile = &site.platform.value;
        let kept = profile.behaviour.is_remembered_by_nat(tunnel.version.value, tunnel.liveness);
        // Who is opened to, too, has a device that forwards.
        if kept || tunnel.initiator != Some(end) || tunnel.encapsulation.value == Encapsulation::Off {
            return None;
        }
        let name = &site.name.value;
        let behind = |how: &str| format!("{name} ({}) sends a NAT device nothing that keeps its mapping, and {how}", profile.title);
        let peer = self.description.ends(tunnel)[1 - end];
        if site.own_address.is_some() {
            let heard =
                peer.own_address.is_some() && peer.platform.value.behaviour.is_remembered_by_nat(tunnel.version.value, tunnel.liveness);
            let (rule, how) = if heard {
                let how = format!("what keeps that of `{}` keeps this one only if the device counts what arrives", peer.name.value);
                (&rules::MAY_BE_FORGOTTEN, how)
            } else {
                (&rules::FORGOTTEN_BY_NAT, "`own-address` says that one stands before it".to_owned())
            };
            return Some(self.at(rule, tunnel.liveness_at, behind(&how)));
        }
        let wanders = matches!(site.address.value, Address::Dynamic);
        wanders.then(|| self.at(&rules::MAY_BE_FORGOTTEN, tunnel.liveness_at, behind("one may stand before it: its address is `dynamic`")))
    }

    fn times(&self) -> Vec<Finding> {
        let (tunnel, mut findings) = (self.tunnel, Vec::new());
        let lacks = |site: &&Site| site.platform.value.behaviour.long_numbers_v1 == LongNumbersV1::Never;
        if let (Some(span), IkeVersion::V1) = (tunnel.extended_sequence, tunnel.version.value)
            && let Some(site) = self.description.ends(tunnel).into_iter().find(|site| lacks(site))
        {
            let (name, title) = (&site.name.value, &site.platform.value.title);
            let message = format!("{name} ({title}) has no `extended-sequence-numbers` in IKEv1");
            findings.push(self.at(&rules::EXTENDED_SEQUENCE_NEEDS_IKEV2, span, message));
        }
        for (what, life) in [("ike-lifetime", &tunnel.ike_lifetime), ("esp-lifetime", &tunnel.esp_lifetime)] {
            if !(SHORTEST..=LONGEST).contains(&life.value) {
                let message = format!("`{what}` is {}, outside of 5m to 365d", duration_words(life.value));
                findings.push(self.at(&rules::LIFETIME_OUT_OF_RANGE, life.span, message));
            } else if life.value > USUAL {
                let message = format!("`{what}` is {}", duration_words(life.value));
                findings.push(self.at(&rules::LONG_LIFETIME, life.span, message));
            }
        }
        if tunnel.esp_lifetime.value > tunnel.ike_lifetime.value {
            let message =
                format!("ESP lives {}, IKE only {}", duration_words(tunnel.esp_lifetime.value), duration_words(tunnel.ike_lifetime.value));
            findings.push(self.at(&rules::LIFETIMES_INVERTED, tunnel.esp_lifetime.span, message));
        }
        match tunnel.liveness {
            Some(interval) if !(LIVENESS[0]..=LIVENESS[1]).contains(&interval) => {
                let message = format!("`liveness` is {}, outside of 5s to 1h", duration_words(interval));
                findings.push(self.at(&rules::LIVENESS_OUT_OF_RANGE, tunnel.liveness_at, message));
            }
            None if tunnel.opens.value == Opens::AtOnce => {
                let message = "the tunnel is to stay up, but nobody watches the peer".to_owned();
                findings.push(self.at(&rules::NO_LIVENESS_BUT_AT_ONCE, tunnel.liveness_at, message));
            }
            _ => {}
        }
        findings
    }

    fn pairs(&self) -> Vec<Finding> {
        let mut findings = Vec::new();
        for pair in &self.tunnel.pairs {
            let (real, apparent) = (self.prefixes(pair), self.apparent(pair));
            // What each end has, and what it sees of the other; and what stands in the selectors.
            let views = [(real[0], apparent[1]), (apparent[0], real[1]), (apparent[0], apparent[1])];
            // What lies beyond a hub holds the networks of its members, and is not to be held by any of them.
            let ends = self.description.ends(self.tunnel);
            let [first, second] = pair.networks(ends).map(|network| network.beyond.is_some());
            let collides = |(one, other): &(IpNet, IpNet)| !first && one.contains(other) || !second && other.contains(one);
            let collision = views.into_iter().find(collides);
            if real[0].addr().is_ipv4() != real[1].addr().is_ipv4() {
                findings.push(self.at(&rules::MIXED_PAIR, pair.span, format!("{} and {} are of different families", real[0], real[1])));
            } else if let Some((first, second)) = collision {
                let [one, other] = pair.networks(ends);
                let message = format!(
                    "`{}` of {} ({first}) overlaps `{}` of {} ({second})",
                    one.name.value, ends[0].name.value, other.name.value, ends[1].name.value
                );
                let place = self.description.source.place(one.prefix.span);
                findings.push(self.at(&rules::OVERLAPPING_SITES, other.prefix.span, message).with(place, "overlaps this one"));
            }
        }
        findings
    }

    fn gateways_in_selectors(&self) -> Vec<Finding> {
        let ends = self.description.ends(self.tunnel);
        let mut findings = Vec::new();
        for (side, site) in ends.iter().enumerate() {
            let carried = |i: usize| self.tunnel.pairs.iter().any(|pair| [pair.first, pair.second][side] == i);
            // Routes lead what is for everything into the tunnel, and only what comes from the networks.
            let named = |(i, network): &(usize, &Network)| carried(*i) && !network.is_everything();
            for (i, network) in site.networks.iter().enumerate().filter(named) {
                let seen = self.description.apparent(self.tunnel, side, i);
                let held = |at: IpAddr| network.prefix.value.contains(&at) || seen.contains(&at);
                let inside = ends.iter().find(|end| end.reached().address().is_some_and(held));
                if let Some(gateway) = inside {
                    let message = format!(
                        "`{}` ({}) holds the outside address of {}, {}",
                        network.name.value, network.prefix.value, gateway.name.value, gateway.address.value
                    );
                    findings.push(self.at(&rules::GATEWAY_IN_SELECTOR, network.prefix.span, message));
                }
            }
        }
        findings
    }
}

/// The policy-based sites at the ends of some tunnels, each once, with the first of them.
fn policy_based(description: &Description, some: impl Fn(&Tunnel) -> bool) -> Vec<(&Tunnel, &Site)> {
    let mut said = BTreeSet::new();
    let ends = description.tunnels.iter().filter(|tunnel| some(tunnel)).flat_map(|tunnel| {
        let sites = tunnel.between.iter().zip(description.ends(tunnel));
        sites.map(move |(end, site)| (end.value, tunnel, site))
    });
    ends.filter(|(end, tunnel, site)| !tunnel.routes_at(site) && said.insert(*end)).map(|(_, tunnel, site)| (tunnel, site)).collect()
}

/// Which of two hubs is to be taken is said by the preference of routes.
fn second_hubs(description: &Description) -> Vec<Finding> {
    let sites = policy_based(description, |tunnel| tunnel.preference > 0 && tunnel.hosts.is_none()).into_iter();
    let finding = |(_, site): (&Tunnel, &Site)| {
        let message = format!("`{}` is policy-based, and has two hubs", site.name.value);
        Finding::new(&rules::HUBS_UNFIT, message).at(description.source.place(site.route_based.span))
    };
    sites.map(finding).collect()
}

/// Names, numbers and links that follow from names, and are the same by chance.
fn coincidences(description: &Description) -> Vec<Finding> {
    let mut findings = Vec::new();
    let mut names: HashMap<&str, &Tunnel> = HashMap::with_capacity(description.tunnels.len());
    // Numbers and links meet where two tunnels end at the same gateway.
    let mut numbers: BTreeMap<(usize, u32), &Tunnel> = BTreeMap::new();
    let mut links: BTreeMap<(usize, IpNet), &Tunnel> = BTreeMap::new();
    let mut say = |what: String, tunnel: &Tunnel, other: &Tunnel| {
        let message = format!("`{}` and `{}` have the same {what}", other.name.value, tunnel.name.value);
        let place = |span| description.source.place(span);
        findings.push(
            Finding::new(&rules::DERIVED_COLLISION, message).at(place(tunnel.name.span)).with(place(other.name.span), "the other one"),
        );
    };
    for tunnel in &description.tunnels {
        if let Some(other) = names.insert(&tunnel.name.value, tunnel) {
            say("name".to_owned(), tunnel, other);
            continue;
        }
        for (end, site) in tunnel.between.iter().zip(description.ends(tunnel)).filter(|(_, site)| tunnel.routes_at(site)) {
            let number = interface_id(&tunnel.name.value);
            if let Some(other) = numbers.insert((end.value, number), tunnel) {
                say(format!("number of an interface at `{}`", site.name.value), tunnel, other);
            }
            if let Some(link) = &tunnel.link
                && let Some(other) = links.insert((end.value, link.value), tunnel)
            {
                say(format!("link {} at `{}`", link.value, site.name.value), tunnel, other);
            }
        }
    }
    findings
}

/// A claim of a tunnel on traffic of a site.
struct Claim<'a> {
    site: usize,
    local: IpNet,
    remote: IpNet,
    tunnel: &'a Tunnel,
    span: Span,
}

/// Two tunnels of one site that claim the same traffic.
fn contested(description: &Description) -> Vec<Finding> {
    let mut claims: Vec<Claim<'_>> = Vec::new();
    for tunnel in &description.tunnels {
        let check = TunnelCheck { description, tunnel };
        for pair in &tunnel.pairs {
            let ([first, second], seen) = (check.prefixes(pair), check.apparent(pair));
            let mut claim = |end: usize, local, remote| {
                claims.push(Claim { site: tunnel.between[end].value, local, remote, tunnel, span: pair.span });
            };
            claim(0, first, seen[1]);
            claim(1, second, seen[0]);
        }
    }
    let mut findings = Vec::new();
    let mut said = BTreeSet::new();
    claims.sort_by_key(|claim| (claim.site, claim.remote.addr(), claim.remote.prefix_len()));
    for list in claims.chunk_by(|one, other| one.site == other.site) {
        let mut open: Vec<&Claim<'_>> = Vec::new();
        // The same two tunnels are reported once, at whichever end it shows first.
        for claim in list {
            open.retain(|outer| outer.remote.contains(&claim.remote));
            let rival = open.iter().find(|outer| {
                !std::ptr::eq(outer.tunnel, claim.tunnel)
                    && outer.tunnel.preference == claim.tunnel.preference
                    // Everything is what nothing else claims.
                    && (outer.remote.prefix_len() > 0 || claim.remote.prefix_len() == 0)
                    && (outer.local.contains(&claim.local) || claim.local.contains(&outer.local))
            });
            if let Some(rival) = rival.filter(|rival| said.insert([&rival.tunnel.name.value, &claim.tunnel.name.value])) {
                let message = format!(
                    "`{}` and `{}` both claim traffic of {} from {} to {}",
                    rival.tunnel.name.value, claim.tunnel.name.value, description.sites[claim.site].name.value, claim.local, claim.remote
                );
                let place = |span| description.source.place(span);
                findings.push(
                    Finding::new(&rules::PAIR_IN_TWO_TUNNELS, message).at(place(claim.span)).with(place(rival.span), "the other one"),
                );
            }
            open.push(claim);
        }
    }
    findings
}
