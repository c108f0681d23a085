//! Address translation and packet filter of a gateway, in neutral words.

use super::{PacketAt, Ports, ReadAt, Transport};
use ipnet::IpNet;
use std::net::IpAddr;

/// Where a packet meets a filter rule.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord)]
pub enum Hook {
    /// Packets for the gateway itself.
    Input,
    /// Packets that pass through.
    Forward,
    /// Packets of the gateway itself that leave.
    Output,
    /// Packets that leave, after their source was translated.
    Departure,
    /// Packets that arrive, before they are routed.
    Arrival,
}

/// What a rule asks about IPsec.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Protection {
    /// Nothing.
    Any,
    /// The packet is about to be sent through an SA.
    Leaving,
    /// The packet came out of an SA.
    Arrived,
    /// The packet is about to be sent into this tunnel interface.
    Into(String),
    /// The packet came out of this tunnel interface.
    OutOf(String),
}

impl Protection {
    /// What a rule asks of packets that leave through a tunnel, and of those that came out of it: whether an SA has to
    /// do with them, or the tunnel's interface where there is one.
    pub fn of(interface: Option<&str>) -> [Protection; 2] {
        match interface {
            Some(name) => [Protection::Into(name.to_owned()), Protection::OutOf(name.to_owned())],
            None => [Protection::Leaving, Protection::Arrived],
        }
    }
}

/// Kinds of traffic a rule can single out.
#[derive(Clone, Debug, PartialEq, Eq, PartialOrd, Ord)]
pub enum Traffic {
    /// Everything.
    Any,
    /// UDP to these destination ports.
    Udp(Vec<u16>),
    /// IP protocol 50 (RFC 4303).
    Esp,
    /// GRE (RFC 2784).
    Gre,
    /// Packets of connections that were let through when they were opened, and errors about them.
    Replies,
    /// Echo requests (RFC 792, RFC 4443).
    Ping,
    /// Neighbour solicitations, or advertisements, by their number (RFC 4861): without them IPv6 finds nobody on a link.
    Neighbour(u8),
    /// A transport protocol to these destination ports.
    To(Transport, Ports),
}

/// The types of ICMPv6 for neighbour solicitations and advertisements (RFC 4861 sections 4.3 and 4.4).
pub const NEIGHBOUR: [u8; 2] = [135, 136];

/// What happens to a packet that a filter rule matches.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Verdict {
    /// It passes this chain.
    Accept,
    /// It is dropped.
    Drop,
    /// It is written to the log, no more than a few a second, and goes on to the next rule.
    Log,
}

/// How the filter comes to the gateway.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum FilterForm {
    /// In a table of its own that hooks in by itself; for gateways without a filter of their own.
    Standalone,
    /// As chains that the administrator's own table includes and jumps to.
    Joined,
}

/// The filter of a tunnel on one gateway.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Filter {
    /// How it comes.
    pub form: FilterForm,
    /// Rules in order.
    pub rules: Vec<FilterRule>,
}

/// One filter rule.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct FilterRule {
    /// Where it acts.
    pub hook: Hook,
    /// Source prefix.
    pub from: IpNet,
    /// Destination prefix.
    pub to: IpNet,
    /// What it asks about IPsec.
    pub protection: Protection,
    /// Which traffic.
    pub traffic: Traffic,
    /// What happens.
    pub verdict: Verdict,
    /// Where it stands.
    pub place: ReadAt,
}

/// What a translation rule does.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord)]
pub enum NatTarget {
    /// The source keeps its address, and no later rule may change it.
    KeepSource,
    /// The source becomes this address.
    SourceTo(IpAddr),
    /// Each source becomes the address at its place in this network.
    SourceNet(IpNet),
    /// Each destination becomes the address at its place in this network, before routing.
    DestinationNet(IpNet),
}

impl NatTarget {
    /// As what a source appears, where it appears as something else.
    pub fn appearance(self) -> Option<IpNet> {
        match self {
            NatTarget::SourceTo(address) => Some(address.into()),
            NatTarget::SourceNet(net) => Some(net),
            NatTarget::KeepSource | NatTarget::DestinationNet(_) => None,
        }
    }

    /// What makes a network appear as another: one to one, or all of it behind one address.
    pub fn appearing(local: IpNet, apparent: IpNet) -> NatTarget {
        match apparent.prefix_len() == apparent.max_prefix_len() && apparent.prefix_len() != local.prefix_len() {
            true => NatTarget::SourceTo(apparent.addr()),
            false => NatTarget::SourceNet(apparent),
        }
    }
}

/// A class of packets to hold against a filter.
#[derive(Clone, Debug)]
pub struct Packet {
    /// Where they meet it.
    pub hook: Hook,
    /// Where they come from.
    pub from: IpNet,
    /// Where they go.
    pub to: IpNet,
    /// How they are protected.
    pub protection: Protection,
    /// What they carry.
    pub traffic: Traffic,
}

impl Filter {
    /// Whether it joins a filter of the administrator's, which has its own idea of what no rule here decides.
    pub fn is_joined(&self) -> bool {
        self.form == FilterForm::Joined
    }

    /// The first rule that decides and applies.
    fn first(&self, applies: impl Fn(&FilterRule) -> bool) -> Option<&FilterRule> {
        self.rules.iter().find(|rule| rule.verdict != Verdict::Log && applies(rule))
    }

    /// The first rule that decides about a packet where it is met.
    pub(crate) fn met_by(&self, met: &PacketAt<'_>) -> Option<&FilterRule> {
        self.first(|rule| {
            let there = rule.hook == met.hook && rule.from.contains(&met.from) && rule.to.contains(&met.to);
            there && met.fits(&rule.protection) && rule.traffic.covers(met.traffic)
        })
    }

    /// What the first rule that decides does with these packets.
    pub fn verdict(&self, packet: &Packet) -> Option<Verdict> {
        self.first(|rule| rule.applies(packet)).map(|rule| rule.verdict)
    }
}

impl FilterRule {
    fn applies(&self, packet: &Packet) -> bool {
        self.concerns(packet) && self.traffic.covers(&packet.traffic)
    }

    /// Whether it can match packets of these, whatever they carry.
    pub fn concerns(&self, packet: &Packet) -> bool {
        self.hook == packet.hook
            && self.from.contains(&packet.from)
            && self.to.contains(&packet.to)
            && (self.protection == Protection::Any || self.protection == packet.protection)
    }
}

/// Where our translation of sources stands among those of the kernel: before the administrator's, which usually has 100.
pub const EXEMPTION_ORDER: i32 = 90;

/// The same of destinations, where an administrator's usually has -100.
pub const DESTINATION_ORDER: i32 = -110;

/// One translation rule; after routing, but for destinations.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct NatRule {
    /// Source prefix.
    pub from: IpNet,
    /// Destination prefix.
    pub to: IpNet,
    /// What happens.
    pub target: NatTarget,
    /// Order among all translation chains of the gateway: lower acts first. An administrator's
    /// chain usually stands at 100.
    pub order: i32,
    /// Where it stands.
    pub place: ReadAt,
}

impl NatRule {
    /// Whether it is for all packets between these.
    pub fn concerns(&self, from: &IpNet, to: &IpNet) -> bool {
        self.from.contains(from) && self.to.contains(to)
    }

    /// Whether it acts before routing.
    pub fn before_routing(&self) -> bool {
        matches!(self.target, NatTarget::DestinationNet(_))
    }
}
