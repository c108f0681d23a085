//! One gateway as configured, seen from itself: the hub between descriptions and platforms.
//!
//! Every platform writes and reads this; nothing else knows a platform. Values compare without the
//! places they were read from.

mod carrier;
mod connection;
mod difference;
mod endpoint;
mod filter;
mod interface;
mod keys;
mod passing;
mod proposal;
mod ruleset;
mod service;
mod session;
mod setting;
mod tree;
mod unmodelled;

pub use crate::identity::Identity;
pub use carrier::Carrier;
pub use connection::{
    Certification, Child, Connection, Dscp, Encapsulation, Exchange, GRE, IKE_PORT, Ike, IkeVersion, Keying, Lifetime, Method, Mode,
    OnDeadPeer, Opening, usual_ports,
};
pub use difference::{ike_differences, rule_differences};
pub use endpoint::is_private;
pub use endpoint::{Endpoint, KnownAddresses, is_dns_name};

/// More pairs of selectors than any connection has: each is an SA, or a few rules, of its own.
pub const MOST_PAIRS: usize = 1024;

pub use filter::{
    DESTINATION_ORDER, EXEMPTION_ORDER, Filter, FilterForm, FilterRule, Hook, NEIGHBOUR, NatRule, NatTarget, Packet, Protection, Traffic,
    Verdict,
};
pub use interface::{InterfaceKind, OwnAddress, Route, RoutingTable, SegmentLimit, Through, TunnelInterface};
pub use keys::{KeyPair, PinnedKey, SharedSecret};
pub use proposal::alternatives;
pub use proposal::{Proposal, Protocol};
pub use ruleset::own_chain;
pub use ruleset::{Action, Base, Chain, ChainRule, Decider, PacketAt, PassedInterface, Ruleset, Ruling, State, Task, Test, What};
pub use service::{Passing, Ports, SERVICES, Transport, ip_protocol, service, service_names};
pub use session::BgpSession;
pub use setting::{Origin, ReadAt, Setting};
pub use tree::{JoinedFile, Tree, TreeFile};
pub use unmodelled::{Bearing, Remainder, Unmodelled};

use std::collections::BTreeSet;

use ipnet::IpNet;

use crate::key::{Certificate, PublicKey};
use crate::secret::Secret;
use crate::source::Place;

/// One gateway.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Gateway {
    /// Peers and what is exchanged with them.
    pub connections: Vec<Connection>,
    /// Shared secrets (the authentication part of the PAD, RFC 4301 section 4.4.3).
    pub secrets: Vec<SharedSecret>,
    /// Keys with which it proves its identities.
    pub key_pairs: Vec<KeyPair>,
    /// Keys by which it recognises peers.
    pub pinned: Vec<PinnedKey>,
    /// Authorities whose certificates it believes.
    pub authorities: Vec<Certificate>,
    /// Address translation, in the order in which it acts.
    pub nat: Vec<NatRule>,
    /// Packet filter.
    pub filter: Option<Filter>,
    /// The administrator's own packet filter, as far as its files were read.
    pub ruleset: Ruleset,
    /// Its own addresses, as far as its files tell them.
    pub addresses: Vec<OwnAddress>,
    /// Tunnel interfaces.
    pub interfaces: Vec<TunnelInterface>,
    /// Routes that the IKE daemon does not install itself.
    pub routes: Vec<Route>,
    /// All routes, where they were listed.
    pub table: RoutingTable,
    /// Sessions of a routing protocol.
    pub sessions: Vec<BgpSession>,
    /// Limits for TCP segments.
    pub segment_limits: Vec<SegmentLimit>,
}

/// What decides about a source.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Translation<'a> {
    /// A rule of a tunnel's.
    Own(&'a NatRule),
    /// One of the administrator's: it translates, or exempts.
    Other(&'a ChainRule),
}

/// What the packet filters do with packets.
#[derive(Clone, Debug)]
pub struct FilterJudgement<'a> {
    /// The rules of tunnels, and that which decides; nothing where they are not asked, or by the administrator's chains.
    pub own: Option<(&'a Filter, Option<&'a FilterRule>)>,
    /// The administrator's chains, where there are any.
    pub others: Option<Ruling<'a>>,
}

impl FilterJudgement<'_> {
    /// Whether they drop it for sure, and the place that says so where there is one. A filter that the tunnel's rules join drops
    /// what they do not let in.
    pub fn stopped(&self) -> Option<Option<&Place>> {
        let by_own = self.own.filter(|(filter, rule)| rule.map_or(filter.is_joined(), |rule| rule.verdict == Verdict::Drop));
        if let Some((_, rule)) = by_own {
            return Some(rule.and_then(|rule| rule.place.0.as_ref()));
        }
        let ruling = self.others.as_ref().filter(|ruling| !ruling.may_pass())?;
        Some(ruling.decider.and_then(Decider::place))
    }
}

/// Networks, or whatever else, in one line.
pub fn listed<T: ToString>(items: &[T]) -> String {
    items.iter().map(ToString::to_string).collect::<Vec<_>>().join(", ")
}

impl Gateway {
    /// Adds a connection; where there is one with the same peer, whose IKE SA it shares whatever it is called, only its Child SAs.
    pub fn take_up(&mut self, mut new: Connection) {
        let mut children = std::mem::take(&mut new.children);
        for known in &mut self.connections {
            let theirs = std::mem::take(&mut known.children);
            let name = std::mem::replace(&mut known.name, new.name.clone());
            // A margin that both SAs have is that of the shorter life; whoever opens the IKE SA decides.
            let (margin, new_margin) = (known.ike().lifetime.value.margin, new.ike().lifetime.value.margin);
            known.ike_mut().lifetime.value.margin = new_margin;
            let same = *known == new;
            known.ike_mut().lifetime.value.margin = margin;
            (known.children, known.name) = (theirs, name);
            if same {
                known.remainder.take(new.remainder);
                known.children.append(&mut children);
                return;
            }
        }
        self.connections.push(Connection { children, ..new });
    }

    /// The secret this gateway would use with a peer: the entry that names both identities; else one for the peer alone,
    /// for itself alone, or for anybody.
    pub fn secret_for(&self, connection: &Connection) -> Option<&Secret> {
        let (local, remote) = (&connection.ike().local_identity.value, &connection.ike().remote_identity.value);
        let fit = |entry: &SharedSecret| match entry.identities.as_slice() {
            [] => Some(0),
            [one] if one == local => Some(1),
            [one] if one == remote => Some(2),
            several => (several.contains(local) && several.contains(remote)).then_some(3),
        };
        self.secrets.iter().filter_map(|entry| Some((fit(entry)?, entry))).rev().max_by_key(|(fit, _)| *fit).map(|(_, entry)| &entry.secret)
    }

    /// A secret that is for one of the two ends, where none is for both.
    pub fn secret_for_either(&self, connection: &Connection) -> Option<&Secret> {
        let ends = [&connection.ike().local_identity.value, &connection.ike().remote_identity.value];
        let names = |identity: &Identity| self.secrets.iter().find(|entry| entry.identities.contains(identity));
        ends.into_iter().rev().find_map(names).map(|entry| &entry.secret)
    }

    /// The public part of the key with which this gateway proves itself to a peer.
    pub fn own_key(&self, connection: &Connection) -> Option<&PublicKey> {
        self.key_pairs.iter().find(|pair| pair.identity == connection.ike().local_identity.value).map(|pair| &pair.public)
    }

    /// The certificate with which this gateway proves itself to a peer.
    pub fn own_certificate(&self, connection: &Connection) -> Option<&Certificate> {
        let mut pairs = self.key_pairs.iter().filter(|pair| pair.identity == connection.ike().local_identity.value);
        pairs.find_map(|pair| pair.certificate.as_ref())
    }

    /// The key that a peer must prove to have.
    pub fn pinned_key(&self, connection: &Connection) -> Option<&PublicKey> {
        self.pinned.iter().find(|pinned| pinned.identity == connection.ike().remote_identity.value).map(|pinned| &pinned.public)
    }

    /// What may cross, local and remote, as it appears in the tunnel: the selectors, or where those are any to any, what
    /// the routes and the filter leave of them.
    pub fn crossing(&self) -> BTreeSet<(IpNet, IpNet)> {
        // What two tunnel interfaces send each other comes from no network.
        let links = || self.interfaces.iter().flat_map(|interface| &interface.addresses);
        let linked = |(local, remote): &(IpNet, IpNet)| links().any(|link| IpNet::from(link.addr()) == *local && link.contains(remote));
        let pairs: BTreeSet<_> = self.selector_pairs().filter(|pair| !linked(pair)).collect();
        if !self.wraps() && pairs.iter().any(|(local, remote)| local.prefix_len() > 0 || remote.prefix_len() > 0) {
            return pairs;
        }
        let fixed = |from: &IpNet, to: &IpNet| {
            let mut into = self.routes.iter().filter(|route| matches!(route.through, Through::Interface(_)) && route.to == *to);
            into.any(|route| route.from.is_none_or(|net| net == *from))
        };
        let routed = |from: &IpNet, to: &IpNet| fixed(from, to) || self.sessions.iter().any(|session| session.accepts.contains(to));
        let rules = self.filter.iter().flat_map(|filter| &filter.rules);
        let into = rules.filter(|rule| {
            matches!(rule.protection, Protection::Into(_)) && rule.verdict == Verdict::Accept && routed(&rule.from, &rule.to)
        });
        into.map(|rule| (self.apparent(rule.from, rule.to), rule.to)).collect()
    }

    /// Whether what crosses is put into GRE first, so that the selectors do not name it.
    pub fn wraps(&self) -> bool {
        self.connections.iter().flat_map(|connection| &connection.children).any(|child| child.protocol.value == Some(GRE))
    }

    /// Whether what crosses is what the two gateways themselves send each other.
    pub fn speaks_for_itself(&self) -> bool {
        self.connections.iter().any(|connection| {
            let mut children = connection.children.iter().peekable();
            children.peek().is_some() && children.all(|child| connection.is_between_gateways(child))
        })
    }

    /// Where the filter meets what leaves through the tunnel, and what came out of it.
    pub fn hooks(&self) -> [Hook; 2] {
        if self.speaks_for_itself() { [Hook::Output, Hook::Input] } else { [Hook::Forward, Hook::Forward] }
    }

    /// What of it belongs to one of its connections: that, its interface, and what is routed into that. Rules and secrets
    /// stay, because each names what it is for.
    pub fn part_of(&self, connection: &Connection) -> Gateway {
        let own = |interface: &&TunnelInterface| connection.uses(&interface.kind);
        let interfaces: Vec<_> = self.interfaces.iter().filter(own).cloned().collect();
        let into = |route: &&Route| match &route.through {
            Through::Interface(name) => interfaces.iter().any(|interface| interface.name == *name),
            Through::BlackHole => true,
        };
        let over =
            |session: &&BgpSession| interfaces.iter().flat_map(|interface| &interface.addresses).any(|net| net.contains(&session.own));
        Gateway {
            connections: vec![connection.clone()],
            routes: self.routes.iter().filter(into).cloned().collect(),
            sessions: self.sessions.iter().filter(over).cloned().collect(),
            interfaces,
            ..self.clone()
        }
    }

    /// The interface towards the internet, where its name is known: that of the address from which the tunnels start.
    pub fn outside(&self) -> PassedInterface<'_> {
        self.face(|own| self.connections.iter().any(|connection| connection.local.value.address() == Some(own.addr())))
    }

    /// The interface towards a host behind it, where its name is known.
    pub fn towards(&self, host: std::net::IpAddr) -> PassedInterface<'_> {
        self.face(|own| own.contains(&host))
    }

    fn face(&self, which: impl Fn(&IpNet) -> bool) -> PassedInterface<'_> {
        let own = self.addresses.iter().find(|own| which(&own.address));
        own.map_or(PassedInterface::Unknown, |own| PassedInterface::Named(&own.interface))
    }

    /// The rule that decides about the source of a packet that leaves, whoever's it is: the first one in the order of the chains.
    pub fn translation(&self, met: &PacketAt<'_>) -> Option<Translation<'_>> {
        let own = self.nat.iter().find(|rule| !rule.before_routing() && rule.concerns(&met.from, &met.to));
        let before = |order: i32| own.is_none_or(|own| order < own.order);
        let others = self.ruleset.translation(met, before);
        match (own, others) {
            (_, Some(rule)) if own.is_none() || rule.translates() => Some(Translation::Other(rule)),
            (Some(own), _) => Some(Translation::Own(own)),
            (None, _) => None,
        }
    }

    /// What they do with packets from the internet to the gateway itself.
    pub fn admits(&self, from: IpNet, to: IpNet, traffic: &Traffic) -> FilterJudgement<'_> {
        let (into, out_of) = (PassedInterface::None, self.outside());
        self.judged(&PacketAt { hook: Hook::Input, from, to, traffic, into, out_of, leaving: false, arrived: false })
    }

    /// What the packet filters do with packets.
    pub fn judged(&self, met: &PacketAt<'_>) -> FilterJudgement<'_> {
        let ipv4 = met.from.addr().is_ipv4();
        let others = self.ruleset.filters(met.hook, ipv4).then(|| self.ruleset.ruling(met, self.filter.as_ref()));
        // Chains that are jumped to are asked there, or not at all.
        let jumped = others.is_some() && (self.filter.as_ref().is_some_and(Filter::is_joined) || self.ruleset.leads_to_own(met.hook, ipv4));
        let own = self.filter.as_ref().filter(|_| !jumped).map(|filter| (filter, filter.met_by(met)));
        FilterJudgement { own, others }
    }

    /// As what a network behind it appears in the tunnel to another: itself, unless it is translated.
    pub fn apparent(&self, local: IpNet, remote: IpNet) -> IpNet {
        let mut translations = self.nat.iter().filter(|rule| (rule.from, rule.to) == (local, remote));
        translations.find_map(|rule| rule.target.appearance()).unwrap_or(local)
    }

    /// The network behind it that appears as this one in the tunnel to another.
    pub fn inner(&self, apparent: IpNet, remote: IpNet) -> IpNet {
        let translated = self.nat.iter().find(|rule| rule.to == remote && rule.target.appearance() == Some(apparent));
        translated.map_or(apparent, |rule| rule.from)
    }

    /// Every pair of selectors, local and remote, over all connections.
    pub fn selector_pairs(&self) -> impl Iterator<Item = (IpNet, IpNet)> + '_ {
        self.connections.iter().flat_map(|connection| &connection.children).flat_map(|child| {
            child.local.value.iter().flat_map(move |local| child.remote.value.iter().map(move |remote| (*local, *remote)))
        })
    }
}
