//! Sizes and forms of values, as engineers have them.

use std::net::{IpAddr, Ipv4Addr, Ipv6Addr};

use ipnet::{IpNet, Ipv4Net, Ipv6Net};

use super::draft::Draft;
use super::factors::Value;
use crate::fidelity::Rng;

/// How a value is made: for the site at an end, or for the tunnel; nothing where the rest has no room for it.
type Drawn = fn(&Draft, usize, &mut Rng) -> Option<String>;

/// A kind of values.
type Row = (&'static str, Drawn);

/// How a value is spelled.
#[derive(Clone)]
pub enum Form {
    Literal(String),
    /// It follows from the rest, and from chance.
    Drawn(Drawn),
}

fn quoted(text: impl std::fmt::Display) -> String {
    format!("\"{text}\"")
}

// Long: one row a key.
/// The forms that are known of a key.
pub fn of(name: &str) -> Vec<Value> {
    let rows: &[Row] = match name {
        "name" => NAMES,
        "title" => TITLES,
        "note" => NOTES,
        "networks" => NETWORKS,
        "gateway.address" => ADDRESSES,
        "gateway.own-address" => &[("a NAT device before it", |draft, end, _| {
            let six = draft.six;
            Some(quoted(if six { format!("fd99:{end}::2") } else { format!("10.99.{end}.2") }))
        })],
        "gateway.outside" => &[
            ("usual", |_, _, rng| Some(quoted(rng.of(&["wan0", "eth0", "enp1s0"])))),
            ("long", |_, _, rng| Some(quoted(rng.of(&["ens18f0np0.4094", "enp0s31f6.100"])))),
        ],
        "gateway.inside" => &[
            ("one", |_, _, rng| Some(quoted(rng.of(&["lan0", "br0", "eth1"])))),
            ("several", |_, _, _| Some("[\"lan0\", \"lan1.20\", \"br-inside\"]".to_owned())),
        ],
        "allows.encryption" => &[
            ("one", |_, _, rng| Some(format!("[\"{}\"]", rng.of(&["aes-256-cbc", "aes-256-gcm", "aes-128-cbc"])))),
            ("several", |_, _, _| Some("[\"aes-256-gcm\", \"aes-256-cbc\", \"aes-128-cbc\", \"chacha20-poly1305\"]".to_owned())),
        ],
        "allows.integrity" | "allows.prf" => &[
            ("one", |_, _, rng| Some(format!("[\"{}\"]", rng.of(&["sha2-256", "sha2-384", "sha2-512"])))),
            ("several", |_, _, _| Some("[\"sha2-512\", \"sha2-256\"]".to_owned())),
        ],
        "allows.group" => &[
            ("one", |_, _, rng| Some(format!("[\"{}\"]", rng.of(&["modp-2048", "ecp-256", "ecp-384", "modp-4096"])))),
            ("several", |_, _, _| Some("[\"ecp-384\", \"ecp-256\", \"modp-3072\", \"curve25519\"]".to_owned())),
        ],
        "as-number" => &[
            ("of 16 bits", |_, end, _| Some(["65001", "64512"][end].to_owned())),
            ("of 32 bits", |_, end, _| Some(["4200000001", "4200000002"][end].to_owned())),
            ("the same", |_, _, _| Some("65010".to_owned())),
        ],
        "aggressive" => &[("with a reason", |_, _, _| Some(quoted("their gateway knows no other mode")))],
        "ike-lifetime" => &[
            ("minutes", |_, _, rng| Some(quoted(rng.of(&["15m", "20m", "1800s"])))),
            ("hours", |_, _, rng| Some(quoted(rng.of(&["1h", "4h", "1h30m", "8h"])))),
            ("a day", |_, _, rng| Some(quoted(rng.of(&["24h", "1d", "86400s"])))),
        ],
        "esp-lifetime" => &[
            ("minutes", |_, _, rng| Some(quoted(rng.of(&["5m", "10m", "900s"])))),
            ("an hour", |_, _, rng| Some(quoted(rng.of(&["1h", "3600s", "1h5m"])))),
            ("hours", |_, _, rng| Some(quoted(rng.of(&["4h", "8h"])))),
        ],
        "carries" => CARRIED,
        "appears-as" => APPEARANCES,
        "services" => SERVICES,
        "limited-to" => LIMITS,
        "one-way" => &[
            ("the first site", |draft, _, _| Some(quoted(&draft.names[0]))),
            ("the second site", |draft, _, _| Some(quoted(&draft.names[1]))),
        ],
        "initiator" => &[
            ("the first site", |draft, _, _| Some(quoted(&draft.names[0]))),
            ("the second site", |draft, _, _| Some(quoted(&draft.names[1]))),
            ("either", |_, _, _| Some(quoted("either"))),
        ],
        "link" => &[
            ("IPv4, two addresses", |_, _, _| Some(quoted("10.255.7.0/31"))),
            ("IPv4, four", |_, _, _| Some(quoted("10.255.7.8/30"))),
            ("IPv6", |_, _, rng| Some(quoted(rng.of(&["fd00:ff::/127", "fd00:ff::4/126", "fd00:ff:1::/64"])))),
        ],
        "path-mtu" => &[
            ("the least", |_, _, _| Some("1280".to_owned())),
            ("less", |_, _, rng| Some((*rng.of(&["1400", "1454", "1492"])).to_owned())),
            ("usual", |_, _, _| Some("1500".to_owned())),
        ],
        "replay-window" => &[
            ("small", |_, _, rng| Some((*rng.of(&["32", "64"])).to_owned())),
            ("usual", |_, _, _| Some("128".to_owned())),
            ("large", |_, _, rng| Some((*rng.of(&["256", "1024", "2048"])).to_owned())),
        ],
        "liveness" => {
            &[("short", |_, _, rng| Some(quoted(rng.of(&["5s", "10s"])))), ("long", |_, _, rng| Some(quoted(rng.of(&["60s", "2m"]))))]
        }
        "proposal.form" => &[("two proposals", |_, _, _| Some("two".to_owned())), ("lists", |_, _, _| Some("lists".to_owned()))],
        "beside.shape" => &[
            ("a third site", |_, _, _| Some("third".to_owned())),
            ("a second tunnel", |_, _, _| Some("second".to_owned())),
            ("a star", |_, _, _| Some("star".to_owned())),
            ("a mesh", |_, _, _| Some("mesh".to_owned())),
        ],
        "group.links" => &[("IPv4", |_, _, _| Some(quoted("10.254.0.0/16"))), ("IPv6", |_, _, _| Some(quoted("fd00:fe::/64")))],
        "group.transit" => &[
            ("all networks", |draft, _, _| {
                Some(if draft.six_inside() { "[\"fd00::/8\", \"2001:db8::/32\"]" } else { "[\"10.0.0.0/8\"]" }.to_owned())
            }),
            ("everything", |draft, _, _| Some(if draft.six_inside() { "[\"::/0\"]" } else { "[\"0.0.0.0/0\"]" }.to_owned())),
        ],
        "group.except" => {
            &[("a pair left out", |draft, _, _| Some(format!("[{{ pair = [\"{}\", \"third\"], left-out = true }}]", draft.names[0])))]
        }
        _ => &[],
    };
    rows.iter().map(|(word, form)| Value { word: (*word).to_owned(), form: Form::Drawn(*form) }).collect()
}

/// The identity of a site, of a kind.
pub fn identity(kind: &str) -> Form {
    Form::Drawn(match kind {
        "address" => |_, end, _| Some(format!("{{ address = \"{}\" }}", ["198.51.100.20", "203.0.113.77"][end])),
        "name" => |draft, end, _| Some(format!("{{ name = \"{}.example.net\" }}", draft.names[end])),
        "mail" => |draft, end, _| Some(format!("{{ mail = \"gate+7@{}.example.net\" }}", draft.names[end])),
        "free" => |draft, end, rng| {
            Some(format!(
                "{{ free = \"{}\" }}",
                rng.of(&["gate/7:1", "orchard-gate", "A.b_c+d"]).to_string() + &format!("-{}{end}", draft.names[end].len())
            ))
        },
        "subject" => |draft, end, _| Some(format!("{{ subject = \"O=Alder Creek Orchards, CN={}.example.net\" }}", draft.names[end])),
        other => unreachable!("an identity of the kind {other} has no form here"),
    })
}

const NAMES: &[Row] = &[
    ("one letter", |_, end, _| Some(["a", "b", "t"][end].to_owned())),
    ("32 characters", |_, end, _| {
        Some(["packhouse-of-the-northern-valley", "coldstore-of-the-southern-valley", "harvest-of-the-valleys-2026-2027"][end].to_owned())
    }),
    ("digits and hyphens", |_, end, _| Some(["p-4-41", "c--7-", "h-1-2-3"][end].to_owned())),
];

const TITLES: &[Row] = &[
    ("of another script", |_, _, rng| Some(quoted(rng.of(&["Packhaus Süd", "Склад", "包装"])))),
    ("with signs", |_, _, _| Some("'$(id) \"x\" # %s {y}'".to_owned())),
];

const NOTES: &[Row] = &[
    ("plain", |_, _, _| Some(quoted("keys with Ines, extension 41"))),
    ("with signs", |_, _, _| Some("'\"; } # $(id) `id` %n \\ <b>'".to_owned())),
];

const ADDRESSES: &[Row] = &[
    ("IPv4", |_, end, _| Some(quoted(["198.51.100.20", "203.0.113.77"][end]))),
    ("IPv6", |_, end, _| Some(quoted(["2001:db8:1::20", "2001:db8:2::77"][end]))),
    ("DNS name", |_, end, _| Some(quoted(format!("gate.{}.example.net", ["packhouse", "coldstore"][end])))),
    ("dynamic", |_, _, _| Some(quoted("dynamic"))),
];

/// Networks of a site: their place in the address space follows from the site, their names and sizes are drawn.
const NETWORKS: &[Row] = &[
    ("one", |_, end, rng| table(end, rng.below(60), &[four(end, 0, *rng.of(&[16, 20, 22, 24]))])),
    ("a small one", |_, end, rng| table(end, rng.below(60), &[four(end, 0, *rng.of(&[28, 29, 30]))])),
    ("a host", |_, end, rng| table(end, rng.below(60), &[four(end, 5, 32)])),
    ("two addresses", |_, end, rng| table(end, rng.below(60), &[four(end, 3, 31)])),
    ("several sizes", |_, end, rng| table(end, rng.below(60), &[four(end, 0, 20), four(end, 40, 32), four(end, 41, 30)])),
    ("neighbours", |_, end, rng| table(end, rng.below(60), &[four(end, 8, 24), four(end, 9, 24), four(end, 10, 25)])),
    ("IPv6", |_, end, rng| table(end, rng.below(60), &[six(end, 0, *rng.of(&[48, 56, 64]))])),
    ("an IPv6 host", |_, end, rng| table(end, rng.below(60), &[six(end, 5, 128)])),
    ("several of IPv6", |_, end, rng| table(end, rng.below(60), &[six(end, 0, 64), six(end, 1, 56), six(end, 9, 127)])),
    ("both families", |_, end, rng| table(end, rng.below(60), &[four(end, 0, 22), six(end, 0, 64)])),
    ("none", |_, _, _| Some(String::new())),
    ("the same at both", |_, end, rng| table(end, rng.below(60), &["10.1.0.0/22".parse().expect("a network")])),
];

/// A network of IPv4 at a site; `at` is its third number.
fn four(end: usize, at: u8, length: u8) -> IpNet {
    let last = if length > 24 { 64 } else { 0 };
    IpNet::V4(Ipv4Net::new(Ipv4Addr::new(10, [41, 173, 77][end], at, last), length).expect("a length").trunc())
}

fn six(end: usize, at: u16, length: u8) -> IpNet {
    let last = u16::from(length > 64) * 0x40;
    let first = [[0xfd41, 0x16], [0x2001, 0xdb8]][end % 2];
    let site = [0x41, 0x73, 0x99][end];
    IpNet::V6(Ipv6Net::new(Ipv6Addr::new(first[0], first[1], site, at * 0x100, 0, 0, 0, last), length).expect("a length").trunc())
}

/// A table of networks with names.
fn table(end: usize, start: usize, networks: &[IpNet]) -> Option<String> {
    const WORDS: [&[&str]; 3] = [
        &["office", "a", "graders-of-the-third-hall-north-2", "vlan-20", "up"],
        &["racks", "z", "cameras-along-the-southern-fence", "vlan-20", "default"],
        &["hall", "x", "y"],
    ];
    let named = networks.iter().enumerate().map(|(i, net)| {
        let word: String = WORDS[end][(start + i) % WORDS[end].len()].chars().take(32).collect();
        format!("{} = \"{net}\"", word.trim_end_matches('-'))
    });
    Some(named.collect::<Vec<_>>().join(", "))
}

const CARRIED: &[Row] = &[
    ("gateways", |_, _, _| Some(quoted("gateways"))),
    ("one pair", |draft, _, rng| draft.pair(rng).map(|[one, other]| format!("[[\"{one}\", \"{other}\"]]"))),
    ("all but one pair", |draft, _, _| {
        let mut all = draft.pairs();
        all.pop();
        let pairs: Vec<_> = all.iter().map(|[one, other]| format!("[\"{one}\", \"{other}\"]")).collect();
        (!pairs.is_empty()).then(|| format!("[{}]", pairs.join(", ")))
    }),
    ("everything at the first site", |draft, _, _| {
        let pairs: Vec<_> = draft.networks[1].iter().map(|(name, _)| format!("[\"everything\", \"{name}\"]")).collect();
        (!pairs.is_empty()).then(|| format!("[{}]", pairs.join(", ")))
    }),
    ("everything at the second site", |draft, _, rng| {
        let one = &draft.networks[0];
        (!one.is_empty()).then(|| format!("[[\"{}\", \"everything\"]]", rng.of(one).0))
    }),
];

/// As what a network is seen: of its length, or one address.
fn seen(draft: &Draft, end: usize, alone: bool) -> Option<String> {
    let (name, net) = draft.networks[end].first()?;
    let length = if alone { net.max_prefix_len() } else { net.prefix_len() };
    let address = match net.addr() {
        IpAddr::V4(_) => IpAddr::V4(Ipv4Addr::new(10, 200 + u8::from(end == 1), 0, if alone { 9 } else { 0 })),
        IpAddr::V6(_) => IpAddr::V6(Ipv6Addr::new(0xfd20, u16::from(end == 1), 0, 0, 0, 0, 0, u16::from(alone) * 9)),
    };
    let net = IpNet::new(address, length).ok()?.trunc();
    Some(format!("{} = {{ {name} = \"{net}\" }}", draft.names[end]))
}

const APPEARANCES: &[Row] = &[
    ("the first site's", |draft, _, _| Some(format!("{{ {} }}", seen(draft, 0, false)?))),
    ("the second site's", |draft, _, _| Some(format!("{{ {} }}", seen(draft, 1, false)?))),
    ("both sites'", |draft, _, _| Some(format!("{{ {}, {} }}", seen(draft, 0, false)?, seen(draft, 1, false)?))),
    ("behind one address", |draft, _, rng| Some(format!("{{ {} }}", seen(draft, rng.below(2), true)?))),
];

const SERVICES: &[Row] = &[
    ("all", |_, _, _| Some("[\"all\"]".to_owned())),
    ("one", |_, _, rng| Some(format!("[\"{}\"]", rng.of(&["https", "ping", "tcp/8443", "udp/5060-5070", "dns"])))),
    ("several", |_, _, _| Some("[\"https\", \"ping\", \"tcp/8000-8100\", \"udp/514\"]".to_owned())),
    ("of each site", |draft, _, _| {
        Some(format!("{{ {} = [\"ssh\", \"dns\"], {} = [\"ping\", \"tcp/1\"] }}", draft.names[0], draft.names[1]))
    }),
    ("of one site", |draft, _, rng| Some(format!("{{ {} = [\"ssh\", \"ping\"] }}", draft.names[rng.below(2)]))),
];

const LIMITS: &[Row] = &[
    ("a protocol", |draft, _, rng| {
        let echo = if draft.six_inside() { "icmpv6" } else { "icmp" };
        Some(format!("{{ protocol = \"{}\" }}", rng.of(&["tcp", "udp", echo])))
    }),
    ("a port of the first site", |draft, _, rng| {
        Some(format!("{{ protocol = \"{}\", ports = {{ {} = {} }} }}", rng.of(&["tcp", "udp"]), draft.names[0], rng.of(&[443, 514, 65535])))
    }),
    ("a port of the second site", |draft, _, rng| {
        Some(format!("{{ protocol = \"{}\", ports = {{ {} = {} }} }}", rng.of(&["tcp", "udp"]), draft.names[1], rng.of(&[443, 514, 1])))
    }),
];
