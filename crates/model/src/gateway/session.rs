//! A session of a routing protocol through a tunnel.

use std::net::{IpAddr, Ipv4Addr};

use ipnet::IpNet;

use super::{Ports, Traffic, Transport};

/// A BGP session (RFC 4271) with the peer, over the tunnel interface.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct BgpSession {
    /// The own autonomous system.
    pub own_as: u32,
    /// The peer's.
    pub peer_as: u32,
    /// What the router calls itself, where it may have no IPv4 address to take that from (RFC 6286 section 2.1).
    pub router_id: Option<Ipv4Addr>,
    /// The own address on the tunnel interface.
    pub own: IpAddr,
    /// The peer's.
    pub neighbour: IpAddr,
    /// What it tells the peer that it reaches, and nothing else.
    pub announces: Vec<IpNet>,
    /// What it believes of what the peer says, and nothing else.
    pub accepts: Vec<IpNet>,
}

impl BgpSession {
    /// What it asks of a filter: TCP to the port of BGP (RFC 4271 section 8.2).
    pub fn traffic() -> Traffic {
        Traffic::To(Transport::Tcp, Ports { first: 179, last: 179 })
    }
}
