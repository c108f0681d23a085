//! Where a gateway is found.

use std::fmt;
use std::net::IpAddr;

use ipnet::{IpNet, Ipv4Net, Ipv6Net};

/// One end of the path between two gateways, as a configuration knows it.
#[derive(Clone, Debug, PartialEq, Eq, PartialOrd, Ord)]
pub enum Endpoint {
    /// At this address.
    At(IpAddr),
    /// At whatever address this DNS name stands for.
    Named(String),
    /// Anywhere: the own end takes what its interface has, a peer is recognised by its identity.
    Anywhere,
}

impl Endpoint {
    /// The address, where it is fixed.
    pub fn address(&self) -> Option<IpAddr> {
        match self {
            Endpoint::At(address) => Some(*address),
            Endpoint::Named(_) | Endpoint::Anywhere => None,
        }
    }

    /// All addresses of a family that it may have.
    pub fn range(&self, ipv4: bool) -> IpNet {
        match self.address() {
            Some(address) => address.into(),
            None if ipv4 => Ipv4Net::default().into(),
            None => Ipv6Net::default().into(),
        }
    }

    /// Reads an address, or a name where there is none.
    pub(crate) fn read(text: &str) -> Option<Endpoint> {
        if let Ok(address) = text.parse() {
            return Some(Endpoint::At(address));
        }
        is_dns_name(text).then(|| Endpoint::Named(text.to_owned()))
    }
}

/// Whether a text is a host name (RFC 1123 section 2.1) and not a dotted address.
pub fn is_dns_name(text: &str) -> bool {
    let labels: Vec<_> = text.split('.').collect();
    text.len() <= 253
        && labels.iter().all(|label| {
            (1..=63).contains(&label.len())
                && label.bytes().all(|b| b.is_ascii_alphanumeric() || b == b'-')
                && !label.starts_with('-')
                && !label.ends_with('-')
        })
        && labels.last().is_some_and(|last| last.bytes().any(|b| b.is_ascii_alphabetic()))
}

/// Whether an address is for private use (RFC 1918, RFC 4193).
pub(crate) fn is_private(address: IpAddr) -> bool {
    match address {
        IpAddr::V4(v4) => v4.is_private(),
        IpAddr::V6(v6) => v6.segments()[0] & 0xfe00 == 0xfc00,
    }
}

impl fmt::Display for Endpoint {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Endpoint::At(address) => address.fmt(f),
            Endpoint::Named(name) => name.fmt(f),
            Endpoint::Anywhere => f.write_str("any address"),
        }
    }
}
