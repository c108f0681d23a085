//! Values of rules, in the spellings of both packet filters.

use crate::text::prefix;
use std::net::IpAddr;

use ipnet::{IpNet, Ipv4Subnets, Ipv6Subnets};

use uspan_model::gateway::{Ports, SERVICES, State};

/// A network, or a single address.
pub(super) fn net(text: &str) -> Option<IpNet> {
    prefix(text).map(|net| net.trunc())
}

/// Networks: one, or those between two addresses.
pub(super) fn nets(text: &str, into: &mut Vec<IpNet>) -> Option<()> {
    let Some((first, last)) = text.split_once('-') else {
        into.push(net(text)?);
        return Some(());
    };
    match (first.parse().ok()?, last.parse().ok()?) {
        (IpAddr::V4(first), IpAddr::V4(last)) if first <= last => into.extend(Ipv4Subnets::new(first, last, 0).map(IpNet::V4)),
        (IpAddr::V6(first), IpAddr::V6(last)) if first <= last => into.extend(Ipv6Subnets::new(first, last, 0).map(IpNet::V6)),
        _ => return None,
    }
    Some(())
}

/// An IP protocol by its name or number (IANA protocol numbers).
pub(super) fn protocol(text: &str) -> Option<u8> {
    Some(match text {
        "icmp" => 1,
        "tcp" => 6,
        "udp" => 17,
        "gre" => 47,
        "esp" => 50,
        "ah" => 51,
        "icmpv6" | "ipv6-icmp" => 58,
        "sctp" => 132,
        number => number.parse().ok()?,
    })
}

/// Ports by number or by a name of services(5), with a separator between the first and the last.
pub(super) fn ports(text: &str, between: char) -> Option<Ports> {
    // What services(5) calls otherwise than descriptions do.
    const NAMES: [(&str, u16); 3] = [("domain", 53), ("isakmp", 500), ("ipsec-nat-t", 4500)];
    let listed = SERVICES.iter().find(|(name, _)| *name == text).and_then(|(_, ports)| ports.first()).map(|(_, number)| *number);
    if let Some(number) = listed.or_else(|| NAMES.iter().find(|(name, _)| *name == text).map(|(_, number)| *number)) {
        return Some(Ports { first: number, last: number });
    }
    let (first, last) = text.split_once(between).unwrap_or((text, text));
    // A range without its last port goes to the end, one without its first from the beginning.
    let port = |text: &str, empty: u16| if text.is_empty() { Some(empty) } else { text.parse().ok() };
    let ports = Ports { first: port(first, 0)?, last: port(last, u16::MAX)? };
    (ports.first <= ports.last && !text.is_empty()).then_some(ports)
}

/// What a packet is to connections that are known.
pub(super) fn state(text: &str) -> Option<State> {
    Some(match text.to_ascii_lowercase().as_str() {
        "new" => State::New,
        "established" => State::Established,
        "related" => State::Related,
        "invalid" | "untracked" | "snat" | "dnat" => State::Other,
        _ => return None,
    })
}

/// A type of ICMP, by number or by the names that both filters have.
pub(super) fn icmp(text: &str, ipv4: bool) -> Option<u8> {
    let number = text.split('/').next()?.parse().ok();
    number.or(match (text, ipv4) {
        ("echo-request", true) => Some(8),
        ("echo-reply", true) => Some(0),
        ("source-quench", true) => Some(4),
        ("redirect", true) => Some(5),
        ("router-advertisement", true) => Some(9),
        ("router-solicitation", true) => Some(10),
        ("timestamp-request", true) => Some(13),
        ("timestamp-reply", true) => Some(14),
        ("destination-unreachable", true) => Some(3),
        ("time-exceeded", true) => Some(11),
        ("parameter-problem", true) => Some(12),
        ("destination-unreachable", false) => Some(1),
        ("packet-too-big", false) => Some(2),
        ("time-exceeded", false) => Some(3),
        ("parameter-problem", false) => Some(4),
        ("echo-request", false) => Some(128),
        ("echo-reply", false) => Some(129),
        ("mld-listener-query", false) => Some(130),
        ("mld-listener-report", false) => Some(131),
        ("mld-listener-done" | "mld-listener-reduction", false) => Some(132),
        ("nd-router-solicit", false) => Some(133),
        ("nd-router-advert", false) => Some(134),
        ("nd-neighbor-solicit", false) => Some(135),
        ("nd-neighbor-advert", false) => Some(136),
        ("nd-redirect", false) => Some(137),
        ("router-renumbering", false) => Some(138),
        ("ind-neighbor-solicit", false) => Some(141),
        ("ind-neighbor-advert", false) => Some(142),
        ("mld2-listener-report", false) => Some(143),
        _ => None,
    })
}
