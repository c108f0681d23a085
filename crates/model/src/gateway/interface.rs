//! Tunnel interfaces of route-based tunnels, and what is routed into them.

use std::fmt;
use std::net::IpAddr;

use ipnet::IpNet;

use super::ReadAt;

/// An interface that stands for a tunnel.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct TunnelInterface {
    /// Its name.
    pub name: String,
    /// What becomes of a packet that is routed into it.
    pub kind: InterfaceKind,
    /// Largest packet in bytes that fits into one ESP packet.
    pub mtu: u16,
    /// Own addresses on it, each with the length of the link's prefix; none if it is unnumbered.
    pub addresses: Vec<IpNet>,
}

/// What becomes of a packet that is routed into a tunnel interface.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum InterfaceKind {
    /// It goes through the SAs with this number.
    Numbered(u32),
    /// It is put into GRE (RFC 2784), which the selectors of the SAs name.
    Gre {
        /// The own address.
        local: IpAddr,
        /// The peer's.
        remote: IpAddr,
    },
}

/// An address of the gateway's own on one of its interfaces; those of tunnel interfaces stand with those.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct OwnAddress {
    /// The interface.
    pub interface: String,
    /// The address, with the length of the link's prefix.
    pub address: IpNet,
    /// Where it stands.
    pub place: ReadAt,
}

/// A route.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Route {
    /// Where it leads.
    pub to: IpNet,
    /// The network whose packets alone take it, before a default route and behind all others; `None` is everybody's. It stands in a
    /// table of its own, to which a rule leads (ip-rule(8)).
    pub from: Option<IpNet>,
    /// How.
    pub through: Through,
    /// Lower is preferred.
    pub metric: u32,
    /// Where it stands.
    pub place: ReadAt,
}

/// Every route that a gateway had when its table was listed; of a family that was not listed nothing is known.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct RoutingTable {
    /// Of IPv4.
    pub ipv4: Option<Vec<Route>>,
    /// Of IPv6.
    pub ipv6: Option<Vec<Route>>,
}

impl RoutingTable {
    /// The routes of a family.
    pub fn of(&self, ipv4: bool) -> Option<&[Route]> {
        if ipv4 { self.ipv4.as_deref() } else { self.ipv6.as_deref() }
    }
}

/// How a route leads there.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Through {
    /// Into this interface.
    Interface(String),
    /// To nowhere: what no better route takes is dropped.
    BlackHole,
}

impl fmt::Display for Through {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Through::Interface(name) => write!(f, "into {name}"),
            Through::BlackHole => f.write_str("to nowhere"),
        }
    }
}

/// The largest TCP segment that the gateway lets pass through an interface, so that full packets fit.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct SegmentLimit {
    /// The interface.
    pub interface: String,
    /// Of which family.
    pub ipv4: bool,
    /// Maximum segment size in bytes (RFC 9293 section 3.7.1).
    pub bytes: u16,
}
