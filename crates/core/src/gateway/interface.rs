//! Tunnel interfaces of route-based tunnels, and what is routed into them.

use ipnet::IpNet;

/// An interface that stands for a tunnel: what is routed into it goes through the SAs with its number.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct TunnelInterface {
    /// Its name.
    pub name: String,
    /// The number that ties it to its SAs.
    pub id: u32,
    /// Largest packet in bytes that fits into one ESP packet.
    pub mtu: u16,
    /// Own addresses on it, each with the length of the link's prefix; none if it is unnumbered.
    pub addresses: Vec<IpNet>,
}

/// A route.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Route {
    /// Where it leads.
    pub to: IpNet,
    /// How.
    pub through: Through,
    /// Lower is preferred.
    pub metric: u32,
}

/// How a route leads there.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Through {
    /// Into this interface.
    Interface(String),
    /// To nowhere: what no better route takes is dropped.
    BlackHole,
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
