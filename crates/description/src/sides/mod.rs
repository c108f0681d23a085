//! Both sides of an agreement. Local and remote, initiator and responder, in and out are mirrored
//! here and nowhere else.

mod cross_check;
mod uncarried;

pub use cross_check::{End, cross_check};
use uncarried::towards;
pub use uncarried::{UncarriedPair, uncarried};

use std::collections::BTreeSet;
use std::net::IpAddr;

use ipnet::IpNet;

use crate::agreement::{Agreement, Bundle};
use crate::description::{Beyond, Description, Network, Site, Tunnel};
use uspan_dialects::dialect::Remarks;
use uspan_dialects::profile::{InterfaceName, SecondTunnel};
use uspan_model::digest::digest;
use uspan_model::gateway::{
    BgpSession, Carrier, Certification, Child, Connection, DESTINATION_ORDER, EXEMPTION_ORDER, Endpoint, Filter, FilterRule, GRE, Gateway,
    Hook, Ike, InterfaceKind, KeyPair, Keying, Method, Mode, NEIGHBOUR, NatRule, NatTarget, Passing, PinnedKey, Protection, ReadAt,
    Remainder, Route, RoutingTable, Ruleset, SegmentLimit, Setting, SharedSecret, Through, Traffic, TunnelInterface, Verdict, usual_ports,
};
use uspan_model::key::Certificate;
use uspan_model::mtu::segment_limit;
use uspan_model::origins::FollowedKeys;
use uspan_model::secret::Secret;

/// One gateway's share of a tunnel: what to write, and the remarks that go with it.
#[derive(Clone, Debug)]
pub struct Side {
    /// The gateway.
    pub gateway: Gateway,
    /// Comments for its files.
    pub remarks: Remarks,
}

/// By what the ends of a tunnel prove who they are.
#[derive(Clone, Debug)]
pub enum Proofs {
    /// The secret that both have.
    Secret(Secret),
    /// The key of each.
    Keys(Box<[KeyPair; 2]>),
    /// The key of each with its certificate, and the authority that issued that.
    Certificates(Box<[(KeyPair, Certificate); 2]>),
}

/// Takes both sides of a tunnel.
pub fn take_sides(description: &Description, tunnel: &Tunnel, agreement: &Agreement, proofs: &Proofs) -> [Side; 2] {
    let uncarried = uncarried(description, tunnel);
    [0, 1].map(|end| SideBuilder { description, tunnel, agreement, uncarried: &uncarried, end }.side(proofs))
}

/// The pairs of a tunnel as the hosts of an end see them: their own network, and what they see of the remote one.
pub(crate) fn seen_pairs(description: &Description, tunnel: &Tunnel, end: usize) -> Vec<(IpNet, IpNet)> {
    let own = &description.ends(tunnel)[end].networks;
    networks(tunnel, end).map(|(local, remote)| (own[local].prefix.value, description.apparent(tunnel, 1 - end, remote))).collect()
}

/// Pairs as indices into the networks of an end and of the other.
fn networks(tunnel: &Tunnel, end: usize) -> impl Iterator<Item = (usize, usize)> + '_ {
    tunnel.pairs.iter().map(move |pair| if end == 1 { (pair.second, pair.first) } else { (pair.first, pair.second) })
}

/// Metrics of the routes into a tunnel, and of the black holes behind them; the kernel takes the lower one.
const PREFERRED: u32 = 10;
const LAST_RESORT: u32 = 4096;
/// How much further behind the routes into a tunnel are that stands in for another.
const STEP: u32 = 10;
/// The same behind what a routing protocol learns: FRRouting takes the highest byte of a kernel route's metric for its
/// distance, and one of 255 is never better than what it learned.
const BEHIND_ROUTING: u32 = 0xff00_1000;

/// The number of a tunnel's interface: it follows from the name alone, so that other tunnels do not change it, and
/// has at most nine digits, so that it fits into a name of 15 characters.
pub(crate) fn interface_id(tunnel: &str) -> u32 {
    1 + digest(tunnel) % 999_999_999
}

/// The address of an end of a link: the first two, without the network's own where there is room.
fn link_address(link: IpNet, end: usize) -> Option<IpNet> {
    let own = usize::from(link.max_prefix_len() - link.prefix_len() > 1 && link.addr().is_ipv6());
    // The hosts of an IPv4 prefix are counted without network and broadcast address, but for those of two.
    let address = link.hosts().nth(own + end)?;
    IpNet::new(address, link.prefix_len()).ok()
}

/// Keys of the description, each with what it is a key of.
fn keys(list: &[(&str, &str)]) -> FollowedKeys {
    let mut text = String::with_capacity(list.iter().map(|(of, key)| of.len() + key.len() + ".".len() + ", ".len()).sum());
    for (of, key) in list {
        let comma = if text.is_empty() { "" } else { ", " };
        text.extend([comma, of, ".", key]);
    }
    text.into()
}

/// A view of a tunnel from one of its ends.
struct SideBuilder<'a> {
    description: &'a Description,
    tunnel: &'a Tunnel,
    agreement: &'a Agreement,
    uncarried: &'a [UncarriedPair],
    end: usize,
}

impl SideBuilder<'_> {
    fn me(&self) -> &Site {
        self.description.ends(self.tunnel)[self.end]
    }

    fn peer(&self) -> &Site {
        self.description.ends(self.tunnel)[1 - self.end]
    }

    /// Pairs as this end's hosts see them: their own network, and what they see of the remote one.
    fn pairs(&self) -> Vec<(IpNet, IpNet)> {
        seen_pairs(self.description, self.tunnel, self.end)
    }

    /// Pairs as they cross the tunnel: what the remote end sees of the own network, and the other way round.
    fn selectors(&self) -> Vec<(IpNet, IpNet)> {
        let seen = |end, network| self.description.apparent(self.tunnel, end, network);
        networks(self.tunnel, self.end).map(|(local, remote)| (seen(self.end, local), seen(1 - self.end, remote))).collect()
    }

    /// What this end drops, because no tunnel carries it: its own network, and the remote one.
    fn dropped(&self) -> impl Iterator<Item = (IpNet, IpNet)> + '_ {
        let own = self.uncarried.iter().filter(|pair| pair.dropped[self.end]);
        own.map(|pair| (pair.prefixes[self.end], pair.prefixes[1 - self.end]))
    }

    /// Remote networks that others than its own would reach through the selectors: where the outside interface has no address of their
    /// family, what leaves for the internet is translated to an inside one, which the selectors name.
    fn open_to_neighbours(&self) -> BTreeSet<IpNet> {
        let me = self.me();
        if self.routed() || self.tunnel.hosts.is_some() || !me.shares_internet {
            return BTreeSet::new();
        }
        let remote = self.pairs().into_iter().map(|(_, remote)| remote);
        let outside = me.outer_ipv4().or(self.peer().outer_ipv4());
        let other_family: BTreeSet<IpNet> = remote.filter(|net| outside.is_some_and(|ipv4| ipv4 != net.addr().is_ipv4())).collect();
        let site = self.tunnel.between[self.end].value;
        // What another tunnel carries there is not to be stopped.
        let own: BTreeSet<(IpNet, IpNet)> = self.pairs().into_iter().collect();
        let beside = |net: &IpNet| towards(self.description, site, *net).any(|pair| !own.contains(&pair));
        other_family.into_iter().filter(|net| !beside(net)).collect()
    }

    /// What is dropped whatever protects it, source and destination.
    fn dropped_pairs(&self) -> impl Iterator<Item = (IpNet, IpNet)> + '_ {
        let anybody = |remote: IpNet| (Endpoint::Anywhere.range(remote.addr().is_ipv4()), remote);
        let both = self.dropped().flat_map(|(own, remote)| [(own, remote), (remote, own)]);
        self.open_to_neighbours().into_iter().map(anybody).chain(both)
    }

    /// Names of the pairs, alike on both ends: networks in the order of `between`.
    fn pair_names(&self) -> impl Iterator<Item = String> + '_ {
        let ends = self.description.ends(self.tunnel);
        self.tunnel.pairs.iter().map(move |pair| {
            let [first, second] = pair.networks(ends).map(|network| network.name.value.as_str());
            [first, "_", second].concat()
        })
    }

    fn side(&self, proofs: &Proofs) -> Side {
        let (me, peer) = (self.me(), self.peer());
        let gateway = Gateway {
            addresses: Vec::new(),
            ruleset: Ruleset::default(),
            connections: vec![self.connection()],
            secrets: match proofs {
                Proofs::Secret(secret) => vec![SharedSecret::between([me.identity(), peer.identity()], secret.clone())],
                _ => Vec::new(),
            },
            key_pairs: match proofs {
                Proofs::Keys(pairs) => vec![pairs[self.end].clone()],
                Proofs::Certificates(pairs) => vec![pairs[self.end].0.clone()],
                Proofs::Secret(_) => Vec::new(),
            },
            pinned: match proofs {
                Proofs::Keys(pairs) => {
                    let KeyPair { identity, public, .. } = pairs[1 - self.end].clone();
                    vec![PinnedKey { identity, public }]
                }
                _ => Vec::new(),
            },
            authorities: match proofs {
                Proofs::Certificates(pairs) => vec![pairs[1 - self.end].1.clone()],
                _ => Vec::new(),
            },
            nat: self.translations(),
            filter: Some(Filter { form: me.filter, rules: self.filter() }),
            interfaces: self.interface().into_iter().collect(),
            routes: self.routes(),
            table: RoutingTable::default(),
            sessions: self.session().into_iter().collect(),
            segment_limits: self.segment_limits(),
        };
        // What stands around the daemon is nobody's affair but the owner's.
        let gateway = match me.platform.value.is_run_by_others() {
            false => gateway,
            true => Gateway {
                nat: Vec::new(),
                filter: None,
                interfaces: Vec::new(),
                routes: Vec::new(),
                sessions: Vec::new(),
                segment_limits: Vec::new(),
                ..gateway
            },
        };
        Side { gateway, remarks: self.remarks() }
    }

    fn connection(&self) -> Connection {
        let (me, peer, agreement) = (self.me(), self.peer(), self.agreement);
        Connection {
            name: self.connection_name().to_owned(),
            local: Setting::planned(me.local()),
            remote: Setting::planned(peer.reached()),
            encapsulation: Setting::planned(agreement.encapsulation[self.end]),
            keying: Keying::Ike(Box::new(Ike {
                exchange: Setting::planned(agreement.exchange),
                mode: ReadAt::default(),
                local_identity: Setting::planned(me.identity()),
                remote_identity: Setting::planned(peer.identity()),
                local_method: Setting::planned(self.tunnel.method.value),
                remote_method: Setting::planned(self.tunnel.method.value),
                proposals: Setting::planned(agreement.ike.clone()),
                lifetime: Setting::planned(agreement.ike_lifetime),
                liveness: Setting::planned(agreement.liveness),
                ports: usual_ports(),
                certification: Certification::default(),
                persistent: Setting::planned(agreement.opening[self.end].opens()),
            })),
            interface: Setting::planned(
                (self.tunnel.gre.is_none() && self.routed() && !me.platform.value.is_run_by_others())
                    .then(|| interface_id(&self.tunnel.name.value)),
            ),
            children: self.children(),
            remainder: Remainder::default(),
        }
    }

    /// What the connection is called: where its peer has several tunnels, and the daemon knows them by one name, as that of the first.
    fn connection_name(&self) -> &str {
        let first = match self.me().platform.value.second_tunnel.value {
            SecondTunnel::UnderOneName => self.description.first_sibling(self.tunnel),
            SecondTunnel::BySelectors { .. } | SecondTunnel::Never => self.tunnel,
        };
        &first.name.value
    }

    fn routed(&self) -> bool {
        self.tunnel.routes_at(self.me())
    }

    /// The outer addresses of the own end and of the other, as this end sees them; both are fixed where they are needed.
    fn outer(&self) -> Option<[IpAddr; 2]> {
        Some([self.me().local().address()?, self.peer().reached().address()?])
    }

    /// The tunnel interface of an end where routes steer.
    fn interface(&self) -> Option<TunnelInterface> {
        let kind = match (self.tunnel.gre, self.outer()) {
            (Some(_), Some([local, remote])) => InterfaceKind::Gre { local, remote },
            _ => InterfaceKind::Numbered(interface_id(&self.tunnel.name.value)),
        };
        self.routed().then(|| TunnelInterface {
            name: self.interface_name(),
            kind,
            mtu: self.agreement.inner_mtu,
            addresses: self.tunnel.link.iter().filter_map(|link| link_address(link.value, self.end)).collect(),
        })
    }

    fn interface_name(&self) -> String {
        let (stem, id) = (&self.tunnel.name.value, interface_id(&self.tunnel.name.value));
        match self.me().platform.value.interface_name {
            InterfaceName::Numbered(word) if self.tunnel.gre.is_none() => format!("{word}{id}"),
            _ if stem.len() <= 12 => format!("us-{stem}"),
            _ => format!("us-{:.3}-{:08x}", stem, digest(stem)),
        }
    }

    /// Every remote network into the interface, and nowhere else when that is not there.
    fn routes(&self) -> Vec<Route> {
        if !self.routed() {
            return Vec::new();
        }
        // What is for everything is for the networks alone that the tunnel carries: the gateway's own packets, IKE and ESP among them,
        // keep their way.
        let ends = self.pairs().into_iter().map(|(local, remote)| ((remote.prefix_len() == 0).then_some(local), remote));
        let mut remote: Vec<(Option<IpNet>, IpNet)> = ends.collect();
        remote.sort();
        remote.dedup();
        let name = self.interface_name();
        let behind = u32::from(self.tunnel.preference);
        let route = |(from, to): &(Option<IpNet>, IpNet), through, metric| Route {
            to: *to,
            from: *from,
            through,
            metric,
            place: ReadAt::default(),
        };
        let into = |ends: &(Option<IpNet>, IpNet)| route(ends, Through::Interface(name.clone()), PREFERRED + behind * STEP);
        let last = behind + if self.tunnel.bgp.is_some() { BEHIND_ROUTING } else { LAST_RESORT };
        let nowhere = |ends: &(Option<IpNet>, IpNet)| route(ends, Through::BlackHole, last);
        match self.tunnel.bgp {
            Some(_) => remote.iter().map(nowhere).collect(),
            None => remote.iter().map(into).chain(remote.iter().map(nowhere)).collect(),
        }
    }

    /// The session in which the two tell each other of their networks.
    fn session(&self) -> Option<BgpSession> {
        let (link, (me, peer)) = (self.tunnel.link.as_ref()?.value, (self.me(), self.peer()));
        self.tunnel.bgp?;
        let each = |own: bool| {
            let mut nets: Vec<IpNet> = self.pairs().into_iter().map(|(local, remote)| if own { local } else { remote }).collect();
            nets.sort();
            nets.dedup();
            nets
        };
        Some(BgpSession {
            own_as: me.as_number?,
            peer_as: peer.as_number?,
            router_id: (me.outer_ipv4() == Some(false)).then(|| digest(&me.name.value).max(1).into()),
            own: link_address(link, self.end)?.addr(),
            neighbour: link_address(link, 1 - self.end)?.addr(),
            announces: each(true),
            accepts: each(false),
        })
    }

    fn segment_limits(&self) -> Vec<SegmentLimit> {
        if !self.routed() {
            return Vec::new();
        }
        let carried = |ipv4: bool| self.pairs().iter().any(|(local, _)| local.addr().is_ipv4() == ipv4);
        let limit = |ipv4| SegmentLimit { interface: self.interface_name(), ipv4, bytes: segment_limit(self.agreement.inner_mtu, ipv4) };
        [true, false].into_iter().filter(|ipv4| carried(*ipv4)).map(limit).collect()
    }

    fn children(&self) -> Vec<Child> {
        if let (true, Some([local, remote])) = (self.tunnel.is_between_gateways(), self.outer()) {
            let child = self.child("all", vec![local.into()], vec![remote.into()]);
            return vec![Child {
                protocol: Setting::planned(self.tunnel.gre.map(|_| GRE)),
                mode: Setting::planned(self.tunnel.esp_mode()),
                ..child
            }];
        }
        if self.agreement.any_to_any {
            let families = [(true, "all-ipv4"), (false, "all-ipv6")];
            let carried = |ipv4: bool| self.pairs().iter().any(|(local, _)| local.addr().is_ipv4() == ipv4);
            let any = |ipv4| vec![Endpoint::Anywhere.range(ipv4)];
            return families
                .into_iter()
                .filter(|(ipv4, _)| carried(*ipv4))
                .map(|(ipv4, name)| self.child(name, any(ipv4), any(ipv4)))
                .collect();
        }
        if self.agreement.bundle != Bundle::One {
            let pairs = self.selectors().into_iter().zip(self.pair_names());
            let pairs = pairs.map(|((local, remote), name)| self.child(&name, vec![local], vec![remote]));
            // Where those are exact, what the two interfaces send each other has a pair of its own.
            let linked = self
                .tunnel
                .link
                .as_ref()
                .and_then(|link| Some([link_address(link.value, self.end)?, link_address(link.value, 1 - self.end)?]));
            let link = linked.map(|ends| ends.map(|end| vec![IpNet::from(end.addr())])).map(|[own, far]| self.child("link", own, far));
            return pairs.chain(link).collect();
        }
        let (mut local, mut remote) = (Vec::new(), Vec::new());
        for (near, far) in self.selectors() {
            for (list, net) in [(&mut local, near), (&mut remote, far)] {
                if !list.contains(&net) {
                    list.push(net);
                }
            }
        }
        vec![self.child("all", local, remote)]
    }

    fn child(&self, name: &str, local: Vec<IpNet>, remote: Vec<IpNet>) -> Child {
        let agreement = self.agreement;
        let ports = self.tunnel.limit.map_or([None, None], |limit| [limit.ports[self.end], limit.ports[1 - self.end]]);
        Child {
            name: [&*self.tunnel.name.value, "_", name].concat(),
            local: Setting::planned(local),
            remote: Setting::planned(remote),
            protocol: Setting::planned(self.tunnel.limit.map(|limit| limit.protocol)),
            ports: Setting::planned(ports),
            of_peer: false,
            narrowing: Setting::planned(None),
            pfs: ReadAt::default(),
            esp: Setting::planned(agreement.esp.clone()),
            mode: Setting::planned(Mode::Tunnel),
            lifetime: Setting::planned(agreement.esp_lifetime),
            opening: Setting::planned(agreement.opening[self.end]),
            on_dead_peer: Setting::planned(agreement.on_dead_peer[self.end]),
            replay_window: Setting::planned(agreement.replay_window[self.end]),
            sequence_numbers: ReadAt::default(),
            dscp: Setting::planned(agreement.dscp),
        }
    }

    /// What crosses keeps its source, whichever side opened the connection, or gets the one as which it is to appear.
    fn translations(&self) -> Vec<NatRule> {
        let source = |from, to, target| NatRule { from, to, target, order: EXEMPTION_ORDER, place: ReadAt::default() };
        let mut rules = Vec::new();
        for ((local, remote), (apparent, _)) in self.pairs().into_iter().zip(self.selectors()) {
            if apparent != local {
                let target = NatTarget::appearing(local, apparent);
                // Behind one address nobody can be reached first; answers find their way back by themselves.
                let back = matches!(target, NatTarget::SourceNet(_)).then(|| NatRule {
                    from: remote,
                    to: apparent,
                    target: NatTarget::DestinationNet(local),
                    order: DESTINATION_ORDER,
                    place: ReadAt::default(),
                });
                rules.extend(back.into_iter().chain([source(local, remote, target)]));
            } else if self.me().shares_internet {
                rules.push(source(local, remote, NatTarget::KeepSource));
            }
            // What goes on to the internet is translated there, as everything that leaves for it.
            if self.me().shares_internet && local.prefix_len() > 0 {
                rules.push(source(remote, local, NatTarget::KeepSource));
            }
        }
        // The dialect keeps families in tables of their own.
        rules.sort_by_key(|rule| (rule.order, !rule.from.addr().is_ipv4()));
        rules
    }

    /// IKE and ESP from the peer to the gateway; each pair both ways, but only through the tunnel.
    fn filter(&self) -> Vec<FilterRule> {
        let ipv4 = self.me().outer_ipv4().or(self.peer().outer_ipv4()).unwrap_or(true);
        let (me, peer) = (self.me().local().range(ipv4), self.peer().reached().range(ipv4));
        let bare = Carrier::all_traffic();
        let reach = |traffic| rule(Hook::Input, (peer, me), Protection::Any, traffic, Verdict::Accept);
        let mut rules: Vec<_> = bare.iter().cloned().map(reach).collect();
        if self.tunnel.gre.is_some() {
            // In clear it comes and goes when there is no SA.
            for (hook, ends, protection) in
                [(Hook::Input, (peer, me), Protection::Arrived), (Hook::Output, (me, peer), Protection::Leaving)]
            {
                rules.push(rule(hook, ends, protection, Traffic::Gre, Verdict::Accept));
                rules.push(rule(hook, ends, Protection::Any, Traffic::Gre, Verdict::Drop));
            }
        }
        let [leaving, arrived] = Protection::of(self.interface().as_ref().map(|interface| interface.name.as_str()));
        let stop: &[Verdict] = if self.tunnel.logs_drops { &[Verdict::Log, Verdict::Drop] } else { &[Verdict::Drop] };
        let drop = |from, to, protection: &Protection| -> Vec<FilterRule> {
            stop.iter().map(|verdict| rule(Hook::Forward, (from, to), protection.clone(), Traffic::Any, *verdict)).collect()
        };
        if self.tunnel.hosts.is_some() {
            // What makes and carries the SAs is not in them; all else between the two is.
            rules.extend(bare.into_iter().map(|traffic| rule(Hook::Output, (me, peer), Protection::Any, traffic, Verdict::Accept)));
            // On one link they find each other before there is an SA.
            for kind in NEIGHBOUR.into_iter().filter(|_| !me.addr().is_ipv4()) {
                for (hook, ends) in [(Hook::Output, (me, peer)), (Hook::Input, (peer, me))] {
                    rules.push(rule(hook, ends, Protection::Any, Traffic::Neighbour(kind), Verdict::Accept));
                }
            }
            for (hook, ends, protection, opener) in
                [(Hook::Output, (me, peer), &leaving, self.end), (Hook::Input, (peer, me), &arrived, 1 - self.end)]
            {
                let traffics = self.passing(opener).into_iter();
                rules.extend(traffics.map(|traffic| rule(hook, ends, protection.clone(), traffic, Verdict::Accept)));
                rules.extend(stop.iter().map(|verdict| rule(hook, ends, Protection::Any, Traffic::Any, *verdict)));
            }
        }
        let outside = &self.me().outside.value;
        for (((local, remote), (apparent, _)), pair) in self.pairs().into_iter().zip(self.selectors()).zip(&self.tunnel.pairs) {
            // Of what lies beyond the hub some may stand here: in clear it passes, but not through the internet.
            let beyond = pair.leads_beyond(self.description.ends(self.tunnel));
            let [clear_out, clear_in] = match beyond {
                true => [Protection::Into(outside.clone()), Protection::OutOf(outside.clone())],
                false => [Protection::Any, Protection::Any],
            };
            // No selector names what is yet to be translated: only afterwards it shows whether an SA carries it.
            let late = apparent != local && !self.routed();
            let out = if late { &Protection::Any } else { &leaving };
            for (from, to, protection, clear, opener) in
                [(local, remote, out, &clear_out, self.end), (remote, local, &arrived, &clear_in, 1 - self.end)]
            {
                let traffics = self.passing(opener).into_iter();
                rules.extend(traffics.map(|traffic| rule(Hook::Forward, (from, to), protection.clone(), traffic, Verdict::Accept)));
                rules.extend(drop(from, to, clear));
            }
            if late {
                let departing = |rule: FilterRule| FilterRule { hook: Hook::Departure, ..rule };
                rules.push(rule(Hook::Departure, (apparent, remote), leaving.clone(), Traffic::Any, Verdict::Accept));
                rules.extend(drop(apparent, remote, &Protection::Any).into_iter().map(departing));
            }
        }
        rules.extend(self.dropped_pairs().flat_map(|(from, to)| drop(from, to, &Protection::Any)));
        if let (Some(session), Some(interface)) = (self.session(), self.interface()) {
            let [_, arrived] = Protection::of(Some(&interface.name));
            let ends = (session.neighbour.into(), session.own.into());
            rules.push(rule(Hook::Input, ends, arrived, BgpSession::traffic(), Verdict::Accept));
        }
        // Routes look at the destination alone: what else takes the interface does not cross.
        if self.routed() {
            for any in [true, false].map(|ipv4| Endpoint::Anywhere.range(ipv4)) {
                [&leaving, &arrived].into_iter().for_each(|protection| rules.extend(drop(any, any, protection)));
            }
        }
        // Hooks have chains, and families may have files, of their own.
        rules.sort_by_key(|rule| (rule.hook, !rule.from.addr().is_ipv4()));
        rules
    }

    /// What the filter lets through towards the other end of the one whose hosts open connections.
    fn passing(&self, opener: usize) -> Vec<Traffic> {
        match &self.tunnel.passes[opener] {
            Passing::All => vec![Traffic::Any],
            Passing::Only(list) => [Traffic::Replies].into_iter().chain(list.iter().cloned()).collect(),
        }
    }

    fn remarks(&self) -> Remarks {
        let (me, peer, tunnel) = (self.me(), self.peer(), self.tunnel);
        let site_key = |site: &Site| ["site.", &site.name.value].concat();
        let (t, s, p) = (&*tunnel.key, &*site_key(me), &*site_key(peer));
        let group = t.strip_suffix(".policy");
        let mut head = vec![
            [&*me.name.value, ": tunnel ", &tunnel.name.value, " to ", &peer.name.value].concat(),
            "Written by Unified Span; change the description, not this file.".to_owned(),
            "Remarks name the key of the description that a setting follows from.".to_owned(),
        ];
        head.extend(me.note.iter().map(|note| format!("{s}.note: {note}")));
        head.extend(tunnel.note.iter().map(|note| format!("{t}.note: {note}")));
        let ends = self.description.ends(tunnel);
        let selectors = tunnel.pairs.iter().map(|pair| {
            let key = |site: &Site, network: usize| {
                let Network { name, beyond, .. } = &site.networks[network];
                match beyond {
                    Some(Beyond::Group(group)) => ["group.", group, ".transit"].concat(),
                    Some(Beyond::Everything) => name.value.clone(),
                    None => ["site.", &site.name.value, ".networks.", &name.value].concat(),
                }
            };
            FollowedKeys::from([t, ".carries: ", &key(ends[0], pair.first), ", ", &key(ends[1], pair.second)].concat())
        });
        // Nobody else has an interface.
        let routed = |list| if self.routed() { keys(list) } else { FollowedKeys::default() };
        let identity_key = |site: &Site| if site.identity.is_some() { "identity" } else { "gateway.address" };
        Remarks {
            stem: tunnel.name.value.clone(),
            head,
            addresses: keys(&[(s, "gateway.address"), (p, "gateway.address")]),
            identities: keys(&[(s, identity_key(me)), (p, identity_key(peer))]),
            ike: keys(&[(t, tunnel.offer.ike_key)]),
            esp: keys(&[(t, tunnel.offer.esp_key), (t, "pfs")]),
            ike_lifetime: keys(&[(t, "ike-lifetime")]),
            esp_lifetime: keys(&[(t, "esp-lifetime")]),
            liveness: keys(&[(t, "liveness")]),
            opening: keys(&[(group.unwrap_or(t), "initiator"), (t, "opens")]),
            secret: match (tunnel.method.value, group) {
                (Method::SharedSecret, Some(group)) => keys(&[(group, "master")]),
                (Method::SharedSecret, None) => keys(&[(t, "secret")]),
                (Method::PublicKey | Method::Certificate, _) => keys(&[(t, "authentication"), (s, "keys"), (p, "keys")]),
            },
            selectors: tunnel.hosts.map(|_| keys(&[(t, "carries")])).into_iter().chain(selectors).collect(),
            exemption: match tunnel.appearances.is_empty() {
                true => keys(&[(s, "shares-internet"), (t, "carries")]),
                false => keys(&[(s, "shares-internet"), (t, "carries"), (t, "appears-as")]),
            },
            filter: match self.dropped().next() {
                None => keys(&[(s, "filter"), (t, "carries"), (t, "services")]),
                Some(_) => keys(&[(s, "filter"), (t, "carries"), (t, "not-carried"), (t, "services")]),
            },
            mtu: routed(&[(t, "path-mtu"), (t, tunnel.offer.esp_key)]),
            link: routed(&[group.map_or((t, "link"), |group| (group, "links"))]),
            routing: routed(&[(t, "routing"), (s, "as-number"), (p, "as-number"), (t, "link"), (t, "carries")]),
            routes: routed(&[if tunnel.gre.is_some() { (t, "carrier") } else { (s, "style") }, (t, "carries")]),
        }
    }
}

/// A rule that is planned.
fn rule(hook: Hook, (from, to): (IpNet, IpNet), protection: Protection, traffic: Traffic, verdict: Verdict) -> FilterRule {
    FilterRule { hook, from, to, protection, traffic, verdict, place: ReadAt::default() }
}
