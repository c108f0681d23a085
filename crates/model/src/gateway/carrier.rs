//! What travels on the outside of a tunnel, between its two gateways.

use std::fmt;

use super::{Keying, Traffic};

/// What two gateways send each other.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord)]
pub enum Carrier {
    /// IKE, UDP port 500 (RFC 7296 section 2).
    Ike,
    /// IKE and ESP in UDP, port 4500 (RFC 3948; RFC 7296 section 2.23).
    InUdp,
    /// ESP, IP protocol 50 (RFC 4303).
    Esp,
}

impl Carrier {
    /// All of them.
    pub const ALL: [Carrier; 3] = [Carrier::Ike, Carrier::InUdp, Carrier::Esp];

    /// What carries the packets of a tunnel, in UDP or without.
    pub fn of_packets(in_udp: bool) -> Carrier {
        if in_udp { Carrier::InUdp } else { Carrier::Esp }
    }

    /// Its UDP port.
    pub fn port(self) -> Option<u16> {
        match self {
            Carrier::Ike => Some(500),
            Carrier::InUdp => Some(4500),
            Carrier::Esp => None,
        }
    }

    /// Bytes between the outer IP header and ESP: those of UDP (RFC 768).
    pub fn overhead(self) -> u16 {
        if self.port().is_some() { 8 } else { 0 }
    }

    /// As a filter sees it.
    pub fn traffic(self) -> Traffic {
        self.port().map_or(Traffic::Esp, |port| Traffic::Udp(vec![port]))
    }

    /// All of them as a filter sees them, UDP in one.
    pub fn all_traffic() -> [Traffic; 2] {
        [Traffic::Udp(Carrier::ALL.into_iter().filter_map(Carrier::port).collect()), Traffic::Esp]
    }
}

impl fmt::Display for Carrier {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self.port() {
            Some(port) => write!(f, "UDP {port}"),
            None => f.write_str("ESP"),
        }
    }
}

impl Keying {
    /// What is sent for the SAs that are keyed like that, and what may carry their packets.
    pub fn carriers(&self) -> &'static [Carrier] {
        match self {
            Keying::Ike(_) => &Carrier::ALL,
        }
    }
}
