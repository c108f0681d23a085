//! The description: what the engineer writes, vendor-neutral, with nothing said twice.

mod decode;
mod equal_selectors;
mod given;
pub mod language;
mod reference;
mod siblings;
mod uncarried;
mod values;
mod worked_out;

pub use given::Given;
pub use reference::language_reference;
pub use values::is_name;

use std::collections::{BTreeMap, BTreeSet};
use std::fmt;
use std::net::IpAddr;
use std::sync::Arc;
use std::time::Duration;

use ipnet::IpNet;
use worked_out::WorkedOut;

use uspan_dialects::context::Context;
use uspan_dialects::packet_filter::PacketFilter;
use uspan_dialects::profile::{Profile, SeveralPairs};
use uspan_model::algorithm::{Kind, Row, Transform};
use uspan_model::finding::Finding;
use uspan_model::gateway::KnownAddresses;
use uspan_model::gateway::{
    Dscp, Encapsulation, Endpoint, FilterForm, Identity, IkeVersion, Method, Mode, Passing, Ports, Proposal, Traffic, Transport,
};
use uspan_model::source::{Located, Source, Span};

/// A description that could be understood. Parts that could not are left out; findings say which.
#[derive(Clone, Debug)]
pub struct Description {
    /// The text it came from.
    pub source: Source,
    /// Sites in the order of the file.
    pub sites: Vec<Site>,
    /// Tunnels in the order of the file.
    pub tunnels: Vec<Tunnel>,
    /// What each site's tunnels carry.
    pub(crate) carried: WorkedOut<uncarried::CarriedNetworks>,
    /// Sites whose daemon has one connection alone with the same selectors, and several tunnels between interfaces.
    pub(crate) crowded: WorkedOut<BTreeSet<usize>>,
    /// Tunnels between the same two sites.
    pub(crate) siblings: WorkedOut<siblings::SiblingPlaces>,
}

/// A place: facts about one gateway and what stands behind it.
#[derive(Clone, Debug)]
pub struct Site {
    /// Its name.
    pub name: Located<String>,
    /// The platform of its gateway.
    pub platform: Located<Arc<Profile>>,
    /// Where the peer finds the gateway.
    pub address: Located<Address>,
    /// The gateway's own address, where a NAT device stands before it.
    pub own_address: Option<Located<IpAddr>>,
    /// The interface towards the internet.
    pub outside: Located<String>,
    /// The interfaces towards the networks; none at a host.
    pub inside: Vec<Located<String>>,
    /// The networks, in the order of the file; none at a host.
    pub networks: Vec<Network>,
    /// How the gateway names itself; its address if nothing is said.
    pub identity: Option<Located<Identity>>,
    /// Files with the keys by which it proves who it is.
    pub keys: Option<Box<Keys>>,
    /// Its autonomous system.
    pub as_number: Option<u32>,
    /// Whether it translates what leaves for the internet.
    pub shares_internet: bool,
    /// What translates and filters on its gateway.
    pub packet_filter: &'static dyn PacketFilter,
    /// Whether an interface and routes steer into its tunnels, instead of the selectors.
    pub route_based: Located<bool>,
    /// How the filter rules come.
    pub filter: FilterForm,
    /// What it may use of what its platform can do, by kind of algorithm; kinds that are not named are not narrowed.
    pub allows: Vec<AllowedAlgorithms>,
    /// What people call it.
    pub title: Option<String>,
    /// A remark.
    pub note: Option<String>,
}

impl Site {
    /// What people call it: its title, or else its name.
    pub fn title(&self) -> &str {
        self.title.as_deref().unwrap_or(&self.name.value)
    }

    /// The identity it uses. Where no address is known, the site's name stands in.
    pub fn identity(&self) -> Identity {
        match (&self.identity, &self.address.value) {
            (Some(identity), _) => identity.value.clone(),
            (None, Address::Fixed(address)) => Identity::Address(*address),
            (None, Address::Named(name)) => Identity::Name(name.clone()),
            (None, Address::Dynamic | Address::Assigned) => Identity::Name(self.name.value.clone()),
        }
    }

    /// How the gateway itself sees its outer end.
    pub fn local(&self) -> Endpoint {
        match (&self.own_address, &self.address.value) {
            (Some(own), _) => Endpoint::At(own.value),
            (None, Address::Fixed(address)) => Endpoint::At(*address),
            (None, Address::Named(_) | Address::Dynamic | Address::Assigned) => Endpoint::Anywhere,
        }
    }

    /// How its peers reach it.
    pub fn reached(&self) -> Endpoint {
        match &self.address.value {
            Address::Fixed(address) => Endpoint::At(*address),
            Address::Named(name) => Endpoint::Named(name.clone()),
            Address::Dynamic | Address::Assigned => Endpoint::Anywhere,
        }
    }

    /// Its addresses, as far as they are fixed.
    pub fn stands(&self) -> KnownAddresses {
        let reached = self.reached().address();
        KnownAddresses { own: self.local().address().or(reached), reached }
    }

    /// Its family on the outside, where that is known.
    pub fn outer_ipv4(&self) -> Option<bool> {
        self.local().address().or(self.reached().address()).map(|address| address.is_ipv4())
    }

    /// Whether the site itself lets an algorithm of a kind be used.
    pub fn allows(&self, kind: Kind, row: &'static Row) -> bool {
        let mut named = self.allows.iter().filter(|narrowing| narrowing.kind == kind);
        named.all(|narrowing| narrowing.rows.iter().any(|allowed| std::ptr::eq(allowed.value, row)))
    }

    /// The network of this name.
    pub fn network(&self, name: &str) -> Option<&Network> {
        self.own_networks().find(|network| network.name.value == name)
    }

    /// The networks that stand behind the gateway itself; they come first.
    pub fn own_networks(&self) -> impl Iterator<Item = &Network> {
        self.networks.iter().take_while(|network| network.beyond.is_none())
    }
}

/// Files with a site's keys, as written.
#[derive(Clone, Debug)]
pub struct Keys {
    /// The public key.
    pub public: Option<Located<String>>,
    /// The certificate of a public key.
    pub certificate: Option<Located<String>>,
    /// The certificate of the authority that issued that.
    pub issuer: Option<Located<String>>,
    /// The private key; without it the gateway has it already.
    pub private: Option<Located<String>>,
}

/// Where a gateway is found.
#[derive(Clone, Debug, PartialEq, Eq, PartialOrd, Ord)]
pub enum Address {
    /// Always here.
    Fixed(IpAddr),
    /// Where this DNS name points.
    Named(String),
    /// Somewhere else each time.
    Dynamic,
    /// It is not known yet; somebody will assign it.
    Assigned,
}

impl Address {
    /// Reads an address or a DNS name.
    fn read(text: &str) -> Option<Address> {
        match Endpoint::read(text)? {
            Endpoint::At(address) => Some(Address::Fixed(address)),
            Endpoint::Named(name) => Some(Address::Named(name)),
            Endpoint::Within(_) | Endpoint::OneOf(_) | Endpoint::Anywhere => None,
        }
    }
}

impl fmt::Display for Address {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Address::Fixed(address) => address.fmt(f),
            Address::Named(name) => name.fmt(f),
            Address::Dynamic => f.write_str("dynamic"),
            Address::Assigned => f.write_str("assigned"),
        }
    }
}

/// The algorithms of one kind that a site may use.
#[derive(Clone, Debug)]
pub struct AllowedAlgorithms {
    /// Which kind.
    pub kind: Kind,
    /// The algorithms.
    pub rows: Vec<Located<&'static Row>>,
}

/// A network behind a gateway.
#[derive(Clone, Debug)]
pub struct Network {
    /// Its name.
    pub name: Located<String>,
    /// Its prefix, without host bits.
    pub prefix: Located<IpNet>,
    /// What stands in it, where it is not behind the gateway itself but reached through that.
    pub beyond: Option<Beyond>,
}

/// What is reached through a gateway without standing behind it.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Beyond {
    /// The members of this group, through other tunnels of it.
    Group(Arc<str>),
    /// Everything that no other route leads to, the internet with it.
    Everything,
}

/// The word for that in the pairs of a tunnel.
pub const EVERYTHING: &str = "everything";

impl Network {
    /// Whether it is all there is of its family.
    pub fn is_everything(&self) -> bool {
        self.prefix.value.prefix_len() == 0
    }
}

/// An intention between two places.
#[derive(Clone, Debug)]
pub struct Tunnel {
    /// Its name.
    pub name: Located<String>,
    /// Indices of its two sites in [`Description::sites`], with the places that name them.
    pub between: [Located<usize>; 2],
    /// The key under which its values stand in the description: `tunnel.NAME`, or that of its group's policy.
    pub key: Arc<str>,
    /// Which of several tunnels to the same networks is to be taken: the lowest one that is there.
    pub preference: u8,
    /// The file with the shared secret, as written.
    pub secret_file: Option<Located<String>>,
    /// Why a secret stays that could be guessed, if somebody said so.
    pub secret_in_use: Option<Located<String>>,
    /// If the secret is derived from that file's for this pair of sites: which one of those that can be.
    pub generation: Option<u32>,
    /// How its gateways prove who they are.
    pub method: Located<Method>,
    /// Version of the key exchange, and where it was said.
    pub version: Located<IkeVersion>,
    /// Why aggressive mode is used, if it is.
    pub aggressive: Option<Located<String>>,
    /// What it offers.
    pub offer: Arc<Offer>,
    /// Perfect forward secrecy.
    pub pfs: Located<Pfs>,
    /// The longest life of an IKE SA.
    pub ike_lifetime: Located<Duration>,
    /// The longest life of an ESP SA.
    pub esp_lifetime: Located<Duration>,
    /// The pairs of networks, as indices into the two sites' networks; all of them if nothing was said.
    pub pairs: Vec<Pair>,
    /// Networks that appear as others in the tunnel.
    pub appearances: Vec<Appearance>,
    /// Where the pairs were said, or the tunnel's name.
    pub carries: Span,
    /// How its pairs of networks are to travel, and where that was said.
    pub esp_sas: Option<Located<SeveralPairs>>,
    /// To what its selectors are limited.
    pub limit: Option<SelectorLimit>,
    /// What becomes of what it does not carry.
    pub not_carried: NotCarried,
    /// What the hosts of each end may open connections for.
    pub passes: [Passing; 2],
    /// Where that was said, or the tunnel's name.
    pub passes_at: Span,
    /// Whether what the filter drops of it is logged.
    pub logs_drops: bool,
    /// Index (0 or 1) of the end that opens it; `None` means either.
    pub initiator: Option<usize>,
    /// Where that was said.
    pub initiator_at: Span,
    /// When it is opened, and where that was said.
    pub opens: Located<Opens>,
    /// Where it was said that it carries what the gateways themselves send, and nothing else.
    pub hosts: Option<Span>,
    /// The mode of ESP, if one was asked for.
    pub mode: Option<Located<Mode>>,
    /// Where GRE inside ESP was asked for.
    pub gre: Option<Span>,
    /// Where BGP was asked for.
    pub bgp: Option<Span>,
    /// Addresses for the two tunnel interfaces; without it they are unnumbered.
    pub link: Option<Located<IpNet>>,
    /// The largest packet that the path between the gateways takes, in bytes.
    pub path_mtu: Located<u16>,
    /// ESP in UDP, and where that was said.
    pub encapsulation: Located<Encapsulation>,
    /// The anti-replay window in packets, where one was asked for.
    pub replay_window: Option<Located<u32>>,
    /// Where sequence numbers of 64 bits were asked for.
    pub extended_sequence: Option<Span>,
    /// What becomes of the DSCP.
    pub dscp: Located<Dscp>,
    /// Peer-liveness interval; `None` is off.
    pub liveness: Option<Duration>,
    /// Where liveness was said.
    pub liveness_at: Span,
    /// Weak algorithms allowed, with reasons.
    pub allows_weak: Arc<[Allowance]>,
    /// A remark.
    pub note: Option<String>,
}

impl Tunnel {
    /// Which of its allowances is for an algorithm, if one is.
    pub fn allowance(&self, row: &Row) -> Option<usize> {
        self.allows_weak.iter().position(|allowed| std::ptr::eq(allowed.row, row))
    }

    /// When an end opens it: one that answers does when somebody says so. Two that open at the same moment replace each other's SAs and
    /// can end up with halves of two: where either may, the second one waits for traffic.
    pub fn opens_at(&self, end: usize) -> Opens {
        match (self.initiator, self.opens.value) {
            (Some(initiator), _) if initiator != end => Opens::ByHand,
            (None, Opens::AtOnce) if end == 1 => Opens::OnTraffic,
            (_, opens) => opens,
        }
    }

    /// Whether packets go from gateway to gateway.
    pub fn is_between_gateways(&self) -> bool {
        self.gre.is_some() || self.hosts.is_some()
    }

    /// The mode of ESP: from gateway to gateway it is transport mode, unless something else is said.
    pub fn esp_mode(&self) -> Mode {
        let unsaid = if self.is_between_gateways() { Mode::Transport } else { Mode::Tunnel };
        self.mode.as_ref().map_or(unsaid, |mode| mode.value)
    }

    /// Whether routes into an interface steer at a site, and not the selectors.
    pub fn routes_at(&self, site: &Site) -> bool {
        self.hosts.is_none() && (self.gre.is_some() || site.route_based.value)
    }
}

/// A pair of networks that may cross, as indices into the networks of the two sites.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Pair {
    /// Network of the first site.
    pub first: usize,
    /// Network of the second site.
    pub second: usize,
    /// Where it was said.
    pub span: Span,
}

impl Appearance {
    /// Whether all of a network stands behind one address.
    pub fn is_behind_one(&self, site: &Site) -> bool {
        let prefix = self.prefix.value;
        prefix.prefix_len() == prefix.max_prefix_len() && site.networks[self.network].prefix.value.prefix_len() < prefix.prefix_len()
    }
}

impl Pair {
    /// Whether it is of what is reached through one of the two gateways, without standing behind it; with the two sites of its tunnel.
    pub fn leads_beyond(&self, ends: [&Site; 2]) -> bool {
        self.networks(ends).iter().any(|network| network.beyond.is_some())
    }

    /// Its networks, of the two sites of its tunnel.
    pub fn networks<'a>(&self, ends: [&'a Site; 2]) -> [&'a Network; 2] {
        [&ends[0].networks[self.first], &ends[1].networks[self.second]]
    }

    /// The end (0 or 1) through which everything is reached, if it is a pair of that.
    pub fn hub_of_everything(&self, ends: [&Site; 2]) -> Option<usize> {
        self.networks(ends).iter().position(|network| network.is_everything())
    }
}

/// A network that is translated on its way into a tunnel: one to one, or to one address.
#[derive(Clone, Debug)]
pub struct Appearance {
    /// Index (0 or 1) of its end.
    pub end: usize,
    /// Index of the network at that site.
    pub network: usize,
    /// As what it appears.
    pub prefix: Located<IpNet>,
}

/// The IP protocol to which selectors are limited, and the port at each end.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct SelectorLimit {
    /// Its number (IANA protocol numbers).
    pub protocol: u8,
    /// The ports, of which at most one is there; `None` is every one.
    pub ports: [Option<u16>; 2],
}

/// ICMP of either family (IANA protocol numbers).
const ICMP: [u8; 2] = [1, 58];

impl SelectorLimit {
    /// Whether selectors are limited to an IP protocol here: to others neither the filter nor a proof can hold them.
    pub fn is_for(protocol: u8) -> bool {
        SelectorLimit::transport(protocol).is_some() || ICMP.contains(&protocol)
    }

    /// Whether the protocol is one of IPv4 alone, or of IPv6 alone; nothing where both have it.
    pub fn of_ipv4(self) -> Option<bool> {
        ICMP.contains(&self.protocol).then_some(self.protocol == ICMP[0])
    }

    /// The transport protocol of a number, which has ports.
    fn transport(protocol: u8) -> Option<Transport> {
        Transport::ALL.into_iter().find(|transport| transport.number() == protocol)
    }

    /// What connections can be for that the hosts of an end open: their port is the other end's.
    fn passing(self, opener: usize) -> Passing {
        let Some(transport) = SelectorLimit::transport(self.protocol) else { return Passing::Only(vec![Traffic::Ping]) };
        match (self.ports[1 - opener], self.ports[opener]) {
            (Some(port), _) => Passing::Only(vec![Traffic::To(transport, Ports { first: port, last: port })]),
            (None, None) => Passing::Only(vec![Traffic::To(transport, Ports { first: 1, last: u16::MAX })]),
            // From the port of a service nobody opens connections.
            (None, Some(_)) => Passing::Only(Vec::new()),
        }
    }
}

/// What becomes of packets between networks of two sites that their tunnel does not carry.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum NotCarried {
    /// The gateways drop them.
    Dropped,
    /// They go where the gateways' other routes lead.
    LeftAlone,
}

/// When a tunnel is opened.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Opens {
    /// As soon as the daemons start.
    AtOnce,
    /// When the first packet wants to cross.
    OnTraffic,
    /// By a command.
    ByHand,
}

impl Opens {
    /// In words.
    pub fn words(self) -> &'static str {
        match self {
            Opens::AtOnce => "at once",
            Opens::OnTraffic => "on traffic",
            Opens::ByHand => "by hand",
        }
    }
}

/// Proposals in order of preference, each with where it was said and the key path for remarks.
#[derive(Clone, Debug)]
pub struct Offer {
    /// For the IKE SA.
    pub ike: Vec<Located<Proposal>>,
    /// For ESP, without the PFS group.
    pub esp: Vec<Located<Proposal>>,
    /// Each value that was written, where it stands.
    pub values: Vec<Located<&'static Row>>,
    /// Key that holds the IKE proposals: `ike` or `strength`.
    pub ike_key: &'static str,
    /// Key that holds the ESP proposals: `esp` or `strength`.
    pub esp_key: &'static str,
    /// Whether the IKE proposals come from a preset.
    pub ike_preset: bool,
    /// Whether the ESP proposals come from a preset.
    pub esp_preset: bool,
}

/// What was said about perfect forward secrecy.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Pfs {
    /// None.
    Off,
    /// The group of the first IKE proposal agreed on.
    AsIke,
    /// This group.
    With(Transform),
}

/// A weak algorithm that a tunnel allows.
#[derive(Clone, Debug)]
pub struct Allowance {
    /// The algorithm.
    pub row: &'static Row,
    /// Where it stands.
    pub span: Span,
    /// Why it is allowed.
    pub reason: String,
}

impl Description {
    /// Reads a description. Whatever can be understood is returned, with a finding for the rest.
    pub fn parse(source: &Source, context: &Context) -> (Description, Vec<Finding>) {
        Description::parse_with(source, context, &mut |_| Err("there are no files here".to_owned()))
    }

    /// The same with the files that it names as inventories; `read` gives their texts, or says why it cannot.
    pub fn parse_with(
        source: &Source,
        context: &Context,
        read: &mut dyn FnMut(&str) -> Result<String, String>,
    ) -> (Description, Vec<Finding>) {
        decode::decode(source, context, read)
    }

    /// The secret files that are named, each once, with the first place that names it.
    pub fn secret_files(&self) -> BTreeMap<&str, Span> {
        let mut files = BTreeMap::new();
        for tunnel in &self.tunnels {
            if let Some(file) = &tunnel.secret_file {
                files.entry(file.value.as_str()).or_insert(file.span);
            }
        }
        files
    }

    /// The prefix of a network at an end of a tunnel, as the other end sees it.
    pub fn apparent(&self, tunnel: &Tunnel, end: usize, network: usize) -> IpNet {
        let translated = tunnel.appearances.iter().find(|appearance| (appearance.end, appearance.network) == (end, network));
        translated.map_or_else(|| self.ends(tunnel)[end].networks[network].prefix.value, |appearance| appearance.prefix.value)
    }

    /// The key files that are named.
    pub fn key_files(&self) -> BTreeSet<&str> {
        let keys = self.sites.iter().filter_map(|site| site.keys.as_ref());
        keys.flat_map(|keys| [&keys.public, &keys.certificate, &keys.issuer, &keys.private])
            .flatten()
            .map(|file| file.value.as_str())
            .collect()
    }

    /// The two sites of a tunnel.
    pub fn ends(&self, tunnel: &Tunnel) -> [&Site; 2] {
        [&self.sites[tunnel.between[0].value], &self.sites[tunnel.between[1].value]]
    }
}
