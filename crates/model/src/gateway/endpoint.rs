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
    /// At an address of a network.
    Within(IpNet),
    /// At one of several, in this order.
    OneOf(Vec<Endpoint>),
    /// Anywhere: the own end takes what its interface has, a peer is recognised by its identity.
    Anywhere,
}

impl Endpoint {
    /// The address, where it is fixed.
    pub fn address(&self) -> Option<IpAddr> {
        match self {
            Endpoint::At(address) => Some(*address),
            Endpoint::Named(_) | Endpoint::Within(_) | Endpoint::OneOf(_) | Endpoint::Anywhere => None,
        }
    }

    /// The one of several to which an initiator sends: the first that is an address or a name.
    pub fn first(&self) -> &Endpoint {
        match self {
            Endpoint::OneOf(several) => {
                let fixed = several.iter().find(|one| matches!(one, Endpoint::At(_) | Endpoint::Named(_)));
                fixed.or(several.first()).map_or(self, Endpoint::first)
            }
            one => one,
        }
    }

    /// Whether it is this address; `None` if a name server would have to say.
    pub fn takes(&self, address: IpAddr) -> Option<bool> {
        match self {
            Endpoint::At(own) => Some(*own == address),
            Endpoint::Named(_) => None,
            Endpoint::Within(net) => Some(net.contains(&address)),
            Endpoint::OneOf(several) => {
                let each: Vec<_> = several.iter().map(|one| one.takes(address)).collect();
                if each.contains(&Some(true)) { Some(true) } else { (!each.contains(&None)).then_some(false) }
            }
            Endpoint::Anywhere => Some(true),
        }
    }

    /// Whether two ends can be the same place; `None` if a name server would have to say.
    pub fn meets(&self, other: &Endpoint) -> Option<bool> {
        match (self, other) {
            (one, other) if one == other => Some(true),
            (Endpoint::Anywhere, _) | (_, Endpoint::Anywhere) => Some(true),
            (Endpoint::Named(_), _) | (_, Endpoint::Named(_)) => None,
            (Endpoint::At(address), place) | (place, Endpoint::At(address)) => place.takes(*address),
            (Endpoint::Within(one), Endpoint::Within(two)) => Some(one.contains(two) || two.contains(one)),
            (Endpoint::OneOf(several), place) | (place, Endpoint::OneOf(several)) => {
                let each: Vec<_> = several.iter().map(|one| one.meets(place)).collect();
                if each.contains(&Some(true)) { Some(true) } else { (!each.contains(&None)).then_some(false) }
            }
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
    pub fn read(text: &str) -> Option<Endpoint> {
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
pub fn is_private(address: IpAddr) -> bool {
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
            Endpoint::Within(net) => net.fmt(f),
            Endpoint::OneOf(several) => {
                for (i, one) in several.iter().enumerate() {
                    write!(f, "{}{one}", if i == 0 { "" } else { " or " })?;
                }
                Ok(())
            }
            Endpoint::Anywhere => f.write_str("any address"),
        }
    }
}

/// Addresses of a gateway.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub struct KnownAddresses {
    /// That of its outside interface.
    pub own: Option<IpAddr>,
    /// That from which its packets arrive elsewhere: another one behind a NAT device.
    pub reached: Option<IpAddr>,
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn several_addresses_stay_several() {
        let at = |text: &str| Endpoint::At(text.parse().expect("an address"));
        let several =
            Endpoint::OneOf(vec![Endpoint::Within("198.51.100.0/24".parse().expect("a network")), at("192.0.2.5"), at("192.0.2.6")]);
        assert_eq!(several.to_string(), "198.51.100.0/24 or 192.0.2.5 or 192.0.2.6");
        assert_eq!(several.first(), &at("192.0.2.5"), "a network is nowhere to send to");
        let meets = |text: &str| several.meets(&at(text));
        assert_eq!([meets("192.0.2.6"), meets("198.51.100.7"), meets("203.0.113.1")], [Some(true), Some(true), Some(false)]);
        assert_eq!(several.meets(&Endpoint::Named("gw.example.net".to_owned())), None);
        assert_eq!(several.meets(&Endpoint::Anywhere), Some(true));
        assert_eq!(several.address(), None);
    }
}
