//! One gateway as configured, seen from itself: the hub between descriptions and platforms.
//!
//! Every platform writes and reads this; nothing else knows a platform. Values compare without the
//! places they were read from.

mod endpoint;
mod filter;
mod interface;
mod proposal;
mod ruleset;
mod service;
mod session;
mod tree;

pub use crate::identity::Identity;
pub(crate) use endpoint::is_private;
pub use endpoint::{Endpoint, is_dns_name};

/// More pairs of selectors than any connection has: each is an SA, or a few rules, of its own.
pub const MOST_PAIRS: usize = 1024;

pub use filter::{Filter, FilterForm, FilterRule, Hook, NatRule, NatTarget, Packet, Protection, Traffic, Verdict};
pub use interface::{InterfaceKind, OwnAddress, Route, RoutingTable, SegmentLimit, Through, TunnelInterface};
pub(crate) use proposal::alternatives;
pub use proposal::{Proposal, Protocol};
pub(crate) use ruleset::own_chain;
pub use ruleset::{Action, Base, Chain, Decider, Face, Met, Rule, Ruleset, Ruling, State, Task, Test, What};
pub use service::{Passing, Ports, SERVICES, Transport, service, service_names};
pub use session::BgpSession;
pub use tree::{JoinedFile, Tree, TreeFile};

use std::collections::BTreeSet;
use std::time::Duration;

use ipnet::IpNet;

use crate::algorithm::{Kind, Transform};
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
pub(crate) enum Translation<'a> {
    /// A rule of a tunnel's.
    Own(&'a NatRule),
    /// One of the administrator's: it translates, or exempts.
    Other(&'a Rule),
}

/// What the packet filters do with packets.
#[derive(Clone, Debug)]
pub(crate) struct Judged<'a> {
    /// The rules of tunnels, and that which decides; nothing where they are not asked, or by the administrator's chains.
    pub own: Option<(&'a Filter, Option<&'a FilterRule>)>,
    /// The administrator's chains, where there are any.
    pub others: Option<Ruling<'a>>,
}

impl Judged<'_> {
    /// Whether they drop it for sure, and the place that says so where there is one. A filter that the tunnel's rules join drops
    /// what they do not let in.
    pub(crate) fn stopped(&self) -> Option<Option<&Place>> {
        let by_own = self.own.filter(|(filter, rule)| rule.map_or(filter.is_joined(), |rule| rule.verdict == Verdict::Drop));
        if let Some((_, rule)) = by_own {
            return Some(rule.and_then(|rule| rule.place.0.as_ref()));
        }
        let ruling = self.others.as_ref().filter(|ruling| !ruling.may_pass())?;
        Some(ruling.decider.and_then(Decider::place))
    }
}

/// Version of the key exchange.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum IkeVersion {
    /// RFC 2409.
    V1,
    /// RFC 7296.
    V2,
}

impl IkeVersion {
    /// Its name.
    pub fn words(self) -> &'static str {
        match self {
            IkeVersion::V1 => "IKEv1",
            IkeVersion::V2 => "IKEv2",
        }
    }
}

/// How an end proves its identity.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Method {
    /// Shared key message integrity code (RFC 7296 section 2.15).
    SharedSecret,
    /// Digital signature (RFC 7427) with a key that the peer has by name, without a certificate.
    PublicKey,
    /// Digital signature (RFC 7427) with a key that an authority certifies (RFC 7296 section 3.6).
    Certificate,
}

impl Method {
    /// In words, for tables.
    pub fn words(self) -> &'static str {
        match self {
            Method::SharedSecret => "shared secret",
            Method::PublicKey => "public keys",
            Method::Certificate => "certificates",
        }
    }
}

/// When ESP travels in UDP (RFC 7296 section 2.23, RFC 3948).
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Encapsulation {
    /// Where a NAT device is found between the ends.
    Automatic,
    /// Always.
    Forced,
    /// Never.
    Off,
}

/// Tunnel or transport mode (RFC 4301 section 3.2).
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Mode {
    /// The whole inner packet is carried.
    Tunnel,
    /// Only the payload is carried.
    Transport,
}

impl Mode {
    /// In words.
    pub(crate) fn words(self) -> &'static str {
        match self {
            Mode::Tunnel => "tunnel mode",
            Mode::Transport => "transport mode",
        }
    }
}

/// Between which headers the DSCP is copied (RFC 4301 section 5.1.2).
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Dscp {
    /// From the inner header to the outer one.
    Outwards,
    /// And back again on arrival, so that what the path marked stays.
    Both,
    /// Between none: the path sees nothing of it.
    Never,
}

/// When a Child SA is opened by this end.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Opening {
    /// As soon as the daemon starts.
    AtOnce,
    /// When the first packet wants to cross.
    OnTraffic,
    /// Never by itself; it answers.
    Wait,
}

/// What happens when the peer turns out to be dead.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum OnDeadPeer {
    /// Negotiate anew at once.
    Reopen,
    /// Wait for traffic.
    AwaitTraffic,
    /// Drop the SAs and wait for the peer.
    Forget,
}

/// Life of an SA: replaced at the latest `margin` before it would end.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Lifetime {
    /// The end.
    pub hard: Duration,
    /// How long before the end the replacement begins at the latest; platforms here spread it
    /// at random up to twice as early.
    pub margin: Duration,
}

impl Lifetime {
    /// A life with a tenth of it, at least 10 s, as margin.
    pub fn with_tenth(hard: Duration) -> Self {
        Lifetime { hard, margin: Duration::from_secs((hard.as_secs() / 10).max(10)) }
    }

    /// When the replacement begins at the latest.
    pub fn soft(self) -> Duration {
        self.hard.saturating_sub(self.margin)
    }
}

/// Where a setting came from.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Origin {
    /// It was planned, not read.
    Planned,
    /// It is written at this place.
    Stated(Place),
    /// The configuration leaves it out; this is the platform's default.
    Default,
}

impl Origin {
    /// The place, where there is one.
    pub fn place(&self) -> Option<&Place> {
        match self {
            Origin::Stated(place) => Some(place),
            Origin::Planned | Origin::Default => None,
        }
    }
}

/// A value that a configuration can leave out, and where it came from. Compares by value alone.
#[derive(Clone, Debug)]
pub struct Setting<T> {
    /// The value in force.
    pub value: T,
    /// Where it came from.
    pub origin: Origin,
}

impl<T> Setting<T> {
    /// A value from a plan.
    pub fn planned(value: T) -> Self {
        Setting { value, origin: Origin::Planned }
    }

    /// A value read at a place.
    pub fn stated(value: T, place: Place) -> Self {
        Setting { value, origin: Origin::Stated(place) }
    }

    /// A platform's default.
    pub fn default_of(value: T) -> Self {
        Setting { value, origin: Origin::Default }
    }
}

impl<T> Setting<T> {
    /// Another value from the same place.
    pub fn map<U>(self, of: impl FnOnce(T) -> U) -> Setting<U> {
        Setting { value: of(self.value), origin: self.origin }
    }
}

impl<T: PartialEq> PartialEq for Setting<T> {
    fn eq(&self, other: &Self) -> bool {
        self.value == other.value
    }
}

impl<T: Eq> Eq for Setting<T> {}

/// Where something was read that is a part of another value. Any two are the same: a place is no value.
#[derive(Clone, Debug, Default)]
pub struct Whence(pub Option<Place>);

impl PartialEq for Whence {
    fn eq(&self, _: &Self) -> bool {
        true
    }
}

impl Eq for Whence {}

/// A peer: how it is reached, who it is, what is offered to it.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Connection {
    /// The name in the configuration.
    pub name: String,
    /// Version of the key exchange.
    pub version: Setting<IkeVersion>,
    /// Aggressive mode, which shows the identities to anybody (RFC 2409 section 5.4); of IKEv1 alone.
    pub aggressive: Setting<bool>,
    /// The own end.
    pub local: Setting<Endpoint>,
    /// The peer's end.
    pub remote: Setting<Endpoint>,
    /// ESP in UDP (RFC 3948).
    pub encapsulation: Setting<Encapsulation>,
    /// Own identity.
    pub local_identity: Setting<Identity>,
    /// The identity the peer must prove.
    pub remote_identity: Setting<Identity>,
    /// How this end proves itself.
    pub local_method: Setting<Method>,
    /// How the peer proves itself.
    pub remote_method: Setting<Method>,
    /// Proposals for the IKE SA, in order of preference.
    pub ike: Setting<Vec<Proposal>>,
    /// Life of the IKE SA.
    pub ike_lifetime: Setting<Lifetime>,
    /// Peer-liveness interval; `None` is off.
    pub liveness: Setting<Option<Duration>>,
    /// Whether it tries for ever to reach the peer.
    pub persistent: Setting<bool>,
    /// The number of the interface that steers its traffic; where there is none, the selectors steer.
    pub interface: Setting<Option<u32>>,
    /// What may cross.
    pub children: Vec<Child>,
}

impl Connection {
    /// Version and mode of the key exchange, in words.
    pub fn exchange(&self) -> &'static str {
        match (self.version.value, self.aggressive.value) {
            (IkeVersion::V2, _) => "IKEv2",
            (IkeVersion::V1, false) => "IKEv1, main mode",
            (IkeVersion::V1, true) => "IKEv1, aggressive mode",
        }
    }

    /// Whether a tunnel interface of this kind is its own.
    pub(crate) fn uses(&self, kind: &InterfaceKind) -> bool {
        match *kind {
            InterfaceKind::Numbered(id) => self.interface.value == Some(id),
            InterfaceKind::Gre { local, remote } => self.local.value.address().zip(self.remote.value.address()) == Some((local, remote)),
        }
    }

    /// The same with its ends exchanged.
    pub fn turned(self) -> Connection {
        let turn = |child: Child| Child { local: child.remote, remote: child.local, ..child };
        Connection {
            local: self.remote,
            remote: self.local,
            local_identity: self.remote_identity,
            remote_identity: self.local_identity,
            local_method: self.remote_method,
            remote_method: self.local_method,
            children: self.children.into_iter().map(turn).collect(),
            ..self
        }
    }

    /// Whether the gateways talk IPv4; so they do where neither address is known.
    pub fn outer_ipv4(&self) -> bool {
        self.local.value.address().or(self.remote.value.address()).is_none_or(|address| address.is_ipv4())
    }
}

/// A Child SA pair to be negotiated.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Child {
    /// The name in the configuration.
    pub name: String,
    /// Local traffic selectors.
    pub local: Setting<Vec<IpNet>>,
    /// Remote traffic selectors.
    pub remote: Setting<Vec<IpNet>>,
    /// The IP protocol that they are limited to (RFC 7296 section 3.13.1), for example [`GRE`].
    pub protocol: Setting<Option<u8>>,
    /// Proposals for ESP, in order of preference.
    pub esp: Setting<Vec<Proposal>>,
    /// Where it is said whether PFS is used, if that stands elsewhere than the proposals.
    pub pfs: Whence,
    /// The same of sequence numbers.
    pub sequence_numbers: Whence,
    /// Tunnel or transport.
    pub mode: Setting<Mode>,
    /// Life of the ESP SAs.
    pub lifetime: Setting<Lifetime>,
    /// When this end opens it.
    pub opening: Setting<Opening>,
    /// What happens when the liveness check finds the peer dead; `None` where nothing is said about it.
    pub on_dead_peer: Setting<Option<OnDeadPeer>>,
    /// Anti-replay window in packets (RFC 4303 section 3.4.3).
    pub replay_window: Setting<u32>,
    /// What becomes of the DSCP.
    pub dscp: Setting<Dscp>,
}

impl Child {
    /// The lengths of sequence numbers that its proposals have.
    pub fn sequence_numbers(&self) -> Proposal {
        Proposal::new(Protocol::Esp, self.esp.value.iter().flat_map(|proposal| proposal.of(Kind::SequenceNumbers)).copied())
    }

    /// The same in words.
    pub fn sequence_numbers_words(&self) -> String {
        let numbers = self.sequence_numbers();
        let bits = numbers.transforms().iter().map(|one| if *one == Transform::sequence_numbers(true) { "64" } else { "32" });
        format!("{} bits", bits.collect::<Vec<_>>().join(" or "))
    }

    /// The groups of its proposals, each once.
    pub fn groups(&self) -> Proposal {
        Proposal::new(Protocol::Esp, self.esp.value.iter().flat_map(|proposal| proposal.of(Kind::KeyExchange)).copied())
    }
}

/// Networks, or whatever else, in one line.
pub(crate) fn listed<T: ToString>(items: &[T]) -> String {
    items.iter().map(ToString::to_string).collect::<Vec<_>>().join(", ")
}

/// The IP protocol of GRE (IANA protocol numbers, RFC 2784).
pub const GRE: u8 = 47;

/// A shared secret and the identities it belongs to, sorted.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct SharedSecret {
    /// The identities of the two ends, in no particular order.
    pub identities: Vec<Identity>,
    /// The secret.
    pub secret: Secret,
}

/// A key of the gateway's own.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct KeyPair {
    /// The identity that it proves.
    pub identity: Identity,
    /// Its public part.
    pub public: PublicKey,
    /// The certificate of that part, where it has one.
    pub certificate: Option<Certificate>,
    /// Its private part as a PEM text; nothing where it stands on the gateway already.
    pub private: Option<Secret>,
}

impl KeyPair {
    /// The private part as the text of a file.
    pub(crate) fn private_text(&self) -> Option<String> {
        self.private.as_ref().map(|private| String::from_utf8_lossy(private.expose()).into_owned())
    }
}

/// A peer's key.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct PinnedKey {
    /// The identity that it proves.
    pub identity: Identity,
    /// The key.
    pub public: PublicKey,
}

impl SharedSecret {
    /// A secret between identities.
    pub fn between(identities: impl IntoIterator<Item = Identity>, secret: Secret) -> Self {
        let mut identities: Vec<_> = identities.into_iter().collect();
        identities.sort();
        SharedSecret { identities, secret }
    }
}

impl Gateway {
    /// The secret this gateway would use with a peer: the entry that names both identities; else one for the peer alone,
    /// for itself alone, or for anybody.
    pub fn secret_for(&self, connection: &Connection) -> Option<&Secret> {
        let (local, remote) = (&connection.local_identity.value, &connection.remote_identity.value);
        let fit = |entry: &SharedSecret| match entry.identities.as_slice() {
            [] => Some(0),
            [one] if one == local => Some(1),
            [one] if one == remote => Some(2),
            several => (several.contains(local) && several.contains(remote)).then_some(3),
        };
        self.secrets.iter().filter_map(|entry| Some((fit(entry)?, entry))).rev().max_by_key(|(fit, _)| *fit).map(|(_, entry)| &entry.secret)
    }

    /// A secret that is for one of the two ends, where none is for both.
    pub(crate) fn secret_for_either(&self, connection: &Connection) -> Option<&Secret> {
        let ends = [&connection.local_identity.value, &connection.remote_identity.value];
        let names = |identity: &Identity| self.secrets.iter().find(|entry| entry.identities.contains(identity));
        ends.into_iter().rev().find_map(names).map(|entry| &entry.secret)
    }

    /// The public part of the key with which this gateway proves itself to a peer.
    pub fn own_key(&self, connection: &Connection) -> Option<&PublicKey> {
        self.key_pairs.iter().find(|pair| pair.identity == connection.local_identity.value).map(|pair| &pair.public)
    }

    /// The certificate with which this gateway proves itself to a peer.
    pub fn own_certificate(&self, connection: &Connection) -> Option<&Certificate> {
        let mut pairs = self.key_pairs.iter().filter(|pair| pair.identity == connection.local_identity.value);
        pairs.find_map(|pair| pair.certificate.as_ref())
    }

    /// The key that a peer must prove to have.
    pub fn pinned_key(&self, connection: &Connection) -> Option<&PublicKey> {
        self.pinned.iter().find(|pinned| pinned.identity == connection.remote_identity.value).map(|pinned| &pinned.public)
    }

    /// What may cross, local and remote, as it appears in the tunnel: the selectors, or where those are any to any, what
    /// the routes and the filter leave of them.
    pub fn crossing(&self) -> BTreeSet<(IpNet, IpNet)> {
        let pairs: BTreeSet<_> = self.selector_pairs().collect();
        if !self.wraps() && pairs.iter().any(|(local, remote)| local.prefix_len() > 0 || remote.prefix_len() > 0) {
            return pairs;
        }
        let fixed = |net: &IpNet| self.routes.iter().any(|route| matches!(route.through, Through::Interface(_)) && route.to == *net);
        let routed = |net: &IpNet| fixed(net) || self.sessions.iter().any(|session| session.accepts.contains(net));
        let rules = self.filter.iter().flat_map(|filter| &filter.rules);
        let into =
            rules.filter(|rule| matches!(rule.protection, Protection::Into(_)) && rule.verdict == Verdict::Accept && routed(&rule.to));
        into.map(|rule| (self.apparent(rule.from, rule.to), rule.to)).collect()
    }

    /// Whether what crosses is put into GRE first, so that the selectors do not name it.
    pub fn wraps(&self) -> bool {
        self.connections.iter().flat_map(|connection| &connection.children).any(|child| child.protocol.value == Some(GRE))
    }

    /// Whether what crosses is what the two gateways themselves send each other.
    pub fn speaks_for_itself(&self) -> bool {
        let own = |end: &Endpoint, nets: &[IpNet]| end.address().is_some_and(|address| nets == [IpNet::from(address)]);
        self.connections.iter().any(|connection| {
            let between =
                |child: &Child| own(&connection.local.value, &child.local.value) && own(&connection.remote.value, &child.remote.value);
            connection.children.iter().any(|child| child.mode.value == Mode::Transport && child.protocol.value.is_none() && between(child))
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
    pub(crate) fn outside(&self) -> Face<'_> {
        self.face(|own| self.connections.iter().any(|connection| connection.local.value.address() == Some(own.addr())))
    }

    /// The interface towards a host behind it, where its name is known.
    pub(crate) fn towards(&self, host: std::net::IpAddr) -> Face<'_> {
        self.face(|own| own.contains(&host))
    }

    fn face(&self, which: impl Fn(&IpNet) -> bool) -> Face<'_> {
        let own = self.addresses.iter().find(|own| which(&own.address));
        own.map_or(Face::Unknown, |own| Face::Named(&own.interface))
    }

    /// The rule that decides about the source of a packet that leaves, whoever's it is: the first one in the order of the chains.
    pub(crate) fn translation(&self, met: &Met<'_>) -> Option<Translation<'_>> {
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
    pub(crate) fn admits(&self, from: IpNet, to: IpNet, traffic: &Traffic) -> Judged<'_> {
        let (into, out_of) = (Face::None, self.outside());
        self.judged(&Met { hook: Hook::Input, from, to, traffic, into, out_of, leaving: false, arrived: false })
    }

    /// What the packet filters do with packets.
    pub(crate) fn judged(&self, met: &Met<'_>) -> Judged<'_> {
        let ipv4 = met.from.addr().is_ipv4();
        let others = self.ruleset.filters(met.hook, ipv4).then(|| self.ruleset.ruling(met, self.filter.as_ref()));
        // Chains that are jumped to are asked there, or not at all.
        let jumped = others.is_some() && (self.filter.as_ref().is_some_and(Filter::is_joined) || self.ruleset.leads_to_own(met.hook, ipv4));
        let own = self.filter.as_ref().filter(|_| !jumped).map(|filter| (filter, filter.met_by(met)));
        Judged { own, others }
    }

    /// As what a network behind it appears in the tunnel to another: itself, unless it is translated.
    pub fn apparent(&self, local: IpNet, remote: IpNet) -> IpNet {
        let mut translations = self.nat.iter().filter(|rule| (rule.from, rule.to) == (local, remote));
        translations.find_map(|rule| if let NatTarget::SourceNet(net) = rule.target { Some(net) } else { None }).unwrap_or(local)
    }

    /// The network behind it that appears as this one in the tunnel to another.
    pub fn inner(&self, apparent: IpNet, remote: IpNet) -> IpNet {
        let translated = self.nat.iter().find(|rule| rule.to == remote && rule.target == NatTarget::SourceNet(apparent));
        translated.map_or(apparent, |rule| rule.from)
    }

    /// Every pair of selectors, local and remote, over all connections.
    pub fn selector_pairs(&self) -> impl Iterator<Item = (IpNet, IpNet)> + '_ {
        self.connections.iter().flat_map(|connection| &connection.children).flat_map(|child| {
            child.local.value.iter().flat_map(move |local| child.remote.value.iter().map(move |remote| (*local, *remote)))
        })
    }
}
