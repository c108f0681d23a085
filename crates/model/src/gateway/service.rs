//! Services: what a connection through a tunnel may be for.

use std::fmt;

use super::{GRE, Traffic};

/// A transport protocol with ports.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord)]
pub enum Transport {
    /// RFC 9293.
    Tcp,
    /// RFC 768.
    Udp,
}

impl Transport {
    /// Both.
    pub const ALL: [Transport; 2] = [Transport::Tcp, Transport::Udp];

    /// Its IP protocol (IANA protocol numbers).
    pub fn number(self) -> u8 {
        match self {
            Transport::Tcp => 6,
            Transport::Udp => 17,
        }
    }

    /// Its name, as every packet filter and the IANA registry spell it.
    pub fn word(self) -> &'static str {
        match self {
            Transport::Tcp => "tcp",
            Transport::Udp => "udp",
        }
    }

    fn of(word: &str) -> Option<Transport> {
        Transport::ALL.into_iter().find(|transport| transport.word() == word)
    }
}

/// Ports from the first to the last.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord)]
pub struct Ports {
    /// The first.
    pub first: u16,
    /// The last; the same for a single port.
    pub last: u16,
}

impl Ports {
    /// Reads one port, or two with a separator between them.
    pub fn read(text: &str, between: char) -> Option<Ports> {
        let (first, last) = text.split_once(between).unwrap_or((text, text));
        let plain = |text: &str| text.parse().ok().filter(|port| *port > 0 && !text.starts_with('+'));
        let ports = Ports { first: plain(first)?, last: plain(last)? };
        (ports.first <= ports.last).then_some(ports)
    }

    /// The ports with a separator between them; a single one alone.
    pub fn written(self, between: char) -> String {
        if self.first == self.last { self.first.to_string() } else { format!("{}{between}{}", self.first, self.last) }
    }
}

use Transport::{Tcp, Udp};

/// Services by name: those of the IANA Service Name and Transport Protocol Port Number Registry that cross tunnels
/// every day, in words that a practitioner would guess.
#[rustfmt::skip]
pub const SERVICES: &[(&str, &[(Transport, u16)])] = &[
    ("bgp", &[(Tcp, 179)]),
    ("dns", &[(Tcp, 53), (Udp, 53)]),
    ("http", &[(Tcp, 80)]),
    ("https", &[(Tcp, 443)]),
    ("imaps", &[(Tcp, 993)]),
    ("ldap", &[(Tcp, 389)]),
    ("ldaps", &[(Tcp, 636)]),
    ("modbus", &[(Tcp, 502)]),
    ("mqtt", &[(Tcp, 1883)]),
    ("mqtts", &[(Tcp, 8883)]),
    ("mysql", &[(Tcp, 3306)]),
    ("nfs", &[(Tcp, 2049)]),
    ("ntp", &[(Udp, 123)]),
    ("opc-ua", &[(Tcp, 4840)]),
    ("postgresql", &[(Tcp, 5432)]),
    ("rdp", &[(Tcp, 3389), (Udp, 3389)]),
    ("sip", &[(Tcp, 5060), (Udp, 5060)]),
    ("smb", &[(Tcp, 445)]),
    ("smtp", &[(Tcp, 25)]),
    ("snmp", &[(Udp, 161)]),
    ("ssh", &[(Tcp, 22)]),
    ("submission", &[(Tcp, 587)]),
    ("syslog", &[(Udp, 514)]),
    ("vnc", &[(Tcp, 5900)]),
];

/// The word for echo requests (RFC 792, RFC 4443).
const PING: &str = "ping";

/// An IP protocol by number or name (IANA protocol numbers).
pub fn ip_protocol(name: &str) -> Option<u8> {
    Some(match name {
        "icmp" => 1,
        "igmp" => 2,
        "ipencap" | "ipip" => 4,
        "tcp" => 6,
        "udp" => 17,
        "ipv6" => 41,
        "gre" => GRE,
        "esp" => 50,
        "ah" => 51,
        "ipv6-icmp" | "icmpv6" | "icmp6" => 58,
        "ospf" => 89,
        "pim" => 103,
        "vrrp" => 112,
        "l2tp" => 115,
        "sctp" => 132,
        number => number.parse().ok()?,
    })
}

/// Every name of a service.
pub fn service_names() -> impl Iterator<Item = &'static str> + Clone {
    SERVICES.iter().map(|(name, _)| *name).chain([PING])
}

/// What a service stands for: a name, or a protocol with a port or two, such as `tcp/443` and `udp/5060-5070`.
pub fn service(text: &str) -> Option<Vec<Traffic>> {
    let port = |port: u16| Ports { first: port, last: port };
    if let Some((_, ports)) = SERVICES.iter().find(|(name, _)| *name == text) {
        return Some(ports.iter().map(|(transport, number)| Traffic::To(*transport, port(*number))).collect());
    }
    if text == PING {
        return Some(vec![Traffic::Ping]);
    }
    let (transport, ports) = text.split_once('/')?;
    Some(vec![Traffic::To(Transport::of(transport)?, Ports::read(ports, '-')?)])
}

/// What connections may be for.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Passing {
    /// Anything.
    All,
    /// These alone; nothing where there are none.
    Only(Vec<Traffic>),
}

impl Passing {
    /// Whether it may be for this.
    pub fn takes(&self, wanted: &Traffic) -> bool {
        match self {
            Passing::All => true,
            Passing::Only(list) => list.iter().any(|traffic| traffic.covers(wanted)),
        }
    }
}

impl fmt::Display for Passing {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Passing::All => f.write_str("everything"),
            Passing::Only(list) if list.is_empty() => f.write_str("nothing"),
            Passing::Only(list) => {
                let words: Vec<_> = list.iter().map(ToString::to_string).collect();
                f.write_str(&words.join(", "))
            }
        }
    }
}

impl Traffic {
    /// Whether everything of the other is in this.
    pub fn covers(&self, other: &Traffic) -> bool {
        match (self, other) {
            (Traffic::Any, _) => true,
            (Traffic::Udp(allowed), Traffic::Udp(ports)) => ports.iter().all(|port| allowed.contains(port)),
            (Traffic::To(one, wide), Traffic::To(two, narrow)) => one == two && wide.first <= narrow.first && narrow.last <= wide.last,
            (one, other) => one == other,
        }
    }
}

impl fmt::Display for Traffic {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Traffic::Any => f.write_str("everything"),
            Traffic::Udp(ports) => write!(f, "UDP {ports:?}"),
            Traffic::Gre => f.write_str("GRE"),
            Traffic::Esp => f.write_str("ESP"),
            Traffic::Replies => f.write_str("replies"),
            Traffic::Ping => f.write_str(PING),
            Traffic::Neighbour(kind) => write!(f, "neighbour discovery, ICMPv6 type {kind}"),
            Traffic::To(transport, ports) => {
                let known =
                    SERVICES.iter().find(|(_, list)| matches!(list, [(t, p)] if t == transport && (*p, *p) == (ports.first, ports.last)));
                match known {
                    Some((name, _)) => f.write_str(name),
                    None => write!(f, "{}/{}", transport.word(), ports.written('-')),
                }
            }
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn services_by_name_and_by_port() {
        let to = |transport, first, last| Traffic::To(transport, Ports { first, last });
        assert_eq!(service("https"), Some(vec![to(Tcp, 443, 443)]));
        assert_eq!(service("dns"), Some(vec![to(Tcp, 53, 53), to(Udp, 53, 53)]));
        assert_eq!(service("udp/5060-5070"), Some(vec![to(Udp, 5060, 5070)]));
        for wrong in ["", "https/443", "tcp", "tcp/", "tcp/0", "tcp/70000", "tcp/9-8", "tcp/+9", "esp/1", "tcp/1-2-3"] {
            assert_eq!(service(wrong), None, "{wrong}");
        }
    }

    #[test]
    fn names_are_sorted_and_come_back() {
        assert!(SERVICES.is_sorted_by_key(|(name, _)| *name));
        for (name, ports) in SERVICES.iter().filter(|(_, ports)| ports.len() == 1) {
            let said = service(name).expect("known");
            assert_eq!((said[0].to_string().as_str(), ports.len()), (*name, said.len()));
        }
    }
}
